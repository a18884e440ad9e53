//! `move`: a layout or partial, with every reference to it.

use super::{Step, StepError, finish_under, refuse};
use crate::edit::Edits;
use crate::prove::Strength;
use crate::site::{Role, Site, SourceFile};
use crate::text::{SourceId, count};

/// Puts a layout or partial into another file, and names that wherever it is referenced. `to` is the new path, from
/// the site's directory. Every page stays as it is, byte for byte.
///
/// # Errors
/// If the template is a page, application code names it, the new path is taken, or a page would change.
pub fn relocate(site: &Site, id: SourceId, to: &str) -> Result<Step, StepError> {
    let template = site.get(id);
    if template.path == to {
        return Err(StepError::Nothing(format!("`{to}` is its path already")));
    }
    if !matches!(template.role, Role::Layout | Role::Partial) {
        return refuse(format!("{} is a {}; only layouts and partials are moved", template.path, template.role.word()));
    }
    if let Some(code) = site.references.iter().find(|reference| reference.template == template.path) {
        return refuse(format!("{}:{} names {}; change that first", code.file, code.line, template.path));
    }
    if site.find(to).is_some() {
        return refuse(format!("{to} exists already"));
    }
    let mut edits = Edits::default();
    let mut references = 0;
    for (user, other) in site.with_ids() {
        for (at, _) in site.links(user).targets().filter(|(_, target)| **target == Ok(id)) {
            let item = &other.constructs.items[at];
            if user == id {
                return refuse(other.problem(item.span.start, "this file references itself").to_string());
            }
            edits.replace(other.path.clone(), item.target, site.name_for(to, &other.dialect, item.kind));
            references += 1;
        }
    }
    edits.removed.push(template.path.clone());
    edits.created.push(SourceFile::new(to, template.source.to_vec()));
    let mut settings = site.settings.clone();
    let mut renamed: Vec<(String, String)> = Vec::new();
    for rule in &mut settings.folders {
        let names = rule.layout.iter_mut().chain(&mut rule.before).chain(&mut rule.after);
        for name in names.filter(|name| site.find_named(name) == Some(id)) {
            renamed.push((std::mem::replace(name, to.to_owned()), to.to_owned()));
        }
    }
    renamed.sort();
    renamed.dedup();
    let title = format!("move {} to {to}, with {}", template.path, count(references + renamed.len(), "reference"));
    let step = finish_under(site, title, edits, Strength::Bytes, (&[], &settings))?;
    Ok(Step { renamed, ..step })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::steps::testing::{becomes, refused};

    const FILES: [(&str, &str); 4] = [
        ("base.html", "<b>{% block a %}{% endblock %}</b>{% include 'parts/nav.html' %}"),
        ("boats/fleet.html", "{% extends \"base.html\" %}{% block a %}{% include 'parts/nav.html' %}{% endblock %}"),
        ("crew.py", "show('parts/tides.html')"),
        ("parts/nav.html", "<nav></nav>"),
    ];

    #[test]
    fn references_follow_a_template() {
        let to = |path: &'static str, from: &'static str| {
            move |site: &Site| relocate(site, site.find(from).expect("a file"), path)
        };
        becomes(
            &FILES,
            to("parts/menu.html", "parts/nav.html"),
            &[
                ("base.html", Some("<b>{% block a %}{% endblock %}</b>{% include 'parts/menu.html' %}")),
                (
                    "boats/fleet.html",
                    Some("{% extends \"base.html\" %}{% block a %}{% include 'parts/menu.html' %}{% endblock %}"),
                ),
                ("parts/menu.html", Some("<nav></nav>")),
                ("parts/nav.html", None),
            ],
        );
        becomes(
            &FILES,
            to("layouts/base.html", "base.html"),
            &[
                ("base.html", None),
                (
                    "boats/fleet.html",
                    Some(
                        "{% extends \"layouts/base.html\" %}{% block a %}{% include 'parts/nav.html' %}{% endblock %}",
                    ),
                ),
                ("layouts/base.html", Some(FILES[0].1)),
            ],
        );
        refused(&FILES, to("fleet.html", "boats/fleet.html"), "is a page");
        refused(&FILES, to("base.html", "parts/nav.html"), "exists already");
        let named = [FILES[0], FILES[1], ("crew.py", "show('parts/nav.html')"), FILES[3]];
        refused(&named, to("parts/menu.html", "parts/nav.html"), "crew.py:1 names parts/nav.html");
    }
}
