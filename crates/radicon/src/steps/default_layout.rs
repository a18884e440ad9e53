//! `default-layout`: the parent lines of a folder become a folder rule.

use std::collections::BTreeMap;

use super::{Step, StepError, proven, refuse};
use crate::edit::Edits;
use crate::prove::Strength;
use crate::site::{FolderRule, Parent, Role, Settings, Site, Template, beneath};
use crate::text::SourceId;

/// Makes the layout that most pages under a folder name the folder's own: their parent lines go,
/// and a rule in `radicon.toml` takes their place. Pages with another layout keep their line.
///
/// # Errors
/// If fewer than two pages name one layout, or a page without a layout would get it.
pub fn default_layout(site: &Site, folder: &str) -> Result<Step, StepError> {
    let folder = folder.trim_matches('/');
    let inside = |id: &SourceId| beneath(&site.get(*id).path, folder).is_some();
    let pages: Vec<SourceId> = site.ids().filter(inside).collect();
    let mut layouts: BTreeMap<SourceId, Vec<SourceId>> = BTreeMap::new();
    for &id in pages.iter().filter(|&&id| site.get(id).role == Role::Page) {
        if let (Parent::Found { id: layout, rule: None }, Some(item)) = (site.parent(id), site.get(id).parent())
            && !item.dynamic
        {
            layouts.entry(*layout).or_default().push(id);
        }
    }
    let Some((layout, children)) = layouts.into_iter().max_by_key(|(id, pages)| (pages.len(), std::cmp::Reverse(*id)))
    else {
        return refuse(format!("no page in `{folder}` names a layout"));
    };
    if children.len() < 2 {
        return refuse(format!("only one page in `{folder}` names {}", site.get(layout).path));
    }
    let mut edits = Edits::default();
    children.iter().for_each(|&id| edits.extend(without_parent(site.get(id))));
    let unframed = |id: &&SourceId| site.get(**id).role == Role::Page && *site.parent(**id) == Parent::None;
    let except: Vec<String> = pages.iter().filter(unframed).map(|&id| site.get(id).path.clone()).collect();
    let path = site.get(layout).path.clone();
    let written = written_rule(folder, &path, &except);
    let rule = Settings::parse(&written).ok().and_then(|settings| settings.folders.into_iter().next());
    let mut settings = site.settings.clone();
    settings.folders.insert(0, rule.unwrap_or_else(|| FolderRule { path: folder.into(), ..FolderRule::default() }));
    let changes = edits.changes(site)?;
    let after = site.after_with(&changes, &[], &settings);
    let title = format!("{} pages in `{folder}` get {path} from a directory rule", children.len());
    let mut step = proven(site, &after, title, changes, Strength::Blanks)?;
    step.settings = written;
    Ok(step)
}

fn written_rule(folder: &str, layout: &str, except: &[String]) -> String {
    let quote = |text: &str| serde_json::to_string(text).unwrap_or_default();
    let mut text = format!("[[folder]]\npath = {}\nlayout = {}\n", quote(folder), quote(layout));
    if !except.is_empty() {
        let list: Vec<String> = except.iter().map(|path| quote(path)).collect();
        text += &format!("except = [{}]\n", list.join(", "));
    }
    text
}

/// The edits that take the parent line of a template away.
pub(crate) fn without_parent(template: &Template) -> Edits {
    let mut edits = Edits::default();
    for item in template.constructs.items.iter().filter(|item| item.kind == crate::dialect::Kind::Parent) {
        edits.remove(template.path.clone(), template.whole_lines(item.span));
    }
    edits
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::steps::testing::{becomes, refused};

    #[test]
    fn parent_lines_become_a_rule() {
        let files = [
            ("base.html", "{% block a %}{% endblock %}"),
            ("other.html", "<p>{% block a %}{% endblock %}"),
            ("x/p.html", "{% extends 'base.html' %}\n{% block a %}1{% endblock %}\n"),
            ("x/q.html", "{# why #}\n{% extends 'base.html' %}\n{% block a %}2{% endblock %}\n"),
            ("x/r.html", "{% extends 'other.html' %}\n"),
            ("x/s.html", "<html>{% if x %}{% endif %}</html>"),
        ];
        let expected = [
            ("x/p.html", Some("{% block a %}1{% endblock %}\n")),
            ("x/q.html", Some("{# why #}\n{% block a %}2{% endblock %}\n")),
        ];
        let step = |site: &Site| {
            let step = default_layout(site, "x")?;
            assert_eq!(step.settings, "[[folder]]\npath = \"x\"\nlayout = \"base.html\"\nexcept = [\"x/s.html\"]\n");
            Ok(step)
        };
        becomes(&files, step, &expected);
        refused(&files[..3], |site| default_layout(site, "x"), "only one page");
        refused(&files[..2], |site| default_layout(site, "x"), "no page in");
    }
}
