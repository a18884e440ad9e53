//! `collapse`: a level away.

use super::levels::{Added, added, either, inherited};
use super::{Step, StepError, finish, moving, refuse};
use crate::dialect::Kind;
use crate::edit::Edits;
use crate::markup::ConstructId;
use crate::prove::Strength;
use crate::resolve::loose;
use crate::site::{Parent, Site, Template};
use crate::text::{SourceId, Span, trim_blanks};

/// Takes a layout between base and pages away: its children take its parent, and say themselves
/// what it said for them. Every page stays as it is.
///
/// # Errors
/// If it has no parent or no children, is shown as a page, or holds something else than overrides.
pub fn collapse(site: &Site, layout: SourceId) -> Result<Step, StepError> {
    moving(site, false, |site| collapsed(site, layout))
}

fn collapsed(site: &Site, layout: SourceId) -> Result<Step, StepError> {
    let template = site.get(layout);
    let Parent::Found { id: parent, .. } = site.parent(layout) else {
        return refuse(format!("{} has no layout above it", template.path));
    };
    if template.rendered || !loose(template).is_empty() {
        return refuse(format!("{} is a page itself, or has content outside blocks", template.path));
    }
    let binds = |kind: Kind| matches!(kind, Kind::Set | Kind::Import | Kind::Other | Kind::Code);
    if let Some(item) = top_level(template).find(|item| binds(item.kind)) {
        let shown = item.span.text(&template.source);
        return refuse(template.problem(item.span.start, format!("`{shown}` applies to this level only")).to_string());
    }
    let is_child = |id: &SourceId| matches!(site.parent(*id), Parent::Found { id, .. } if *id == layout);
    let children: Vec<SourceId> = site.ids().filter(is_child).collect();
    if children.is_empty() {
        return refuse(format!("{} has no children", template.path));
    }
    either(|tidy| {
        let mut edits = Edits::default();
        for &id in &children {
            let child = site.get(id);
            if child.dialect.name != template.dialect.name {
                return refuse(format!("{} is in another dialect", child.path));
            }
            let Some(item) = child.parent().filter(|item| !item.target.is_empty() && !item.dynamic) else {
                return refuse(format!("{} gets its layout from a rule", child.path));
            };
            let target = site.name_for(&site.get(*parent).path, &child.dialect, Kind::Parent);
            edits.replace(child.path.clone(), item.target, target);
            edits.extend(taken_over(site, template, id, tidy)?);
        }
        edits.removed.push(template.path.clone());
        let title = format!("remove {}; its overrides move into {} children", template.path, children.len());
        finish(site, title, edits, Strength::Blanks)
    })
}

/// The constructs that are in no other definition.
fn top_level(template: &Template) -> impl Iterator<Item = &crate::markup::Construct> {
    let mut end = ConstructId(0);
    ConstructId::each(&template.constructs.items)
        .filter(move |(at, item)| {
            let outside = *at >= end;
            if outside && item.kind.defines() {
                end = item.partner.map_or(end, ConstructId::next);
            }
            outside
        })
        .map(|(_, item)| item)
}

/// The overrides that a child needs once the level above it is gone.
fn taken_over(site: &Site, layout: &Template, id: SourceId, tidy: bool) -> Result<Edits, StepError> {
    let child = site.get(id);
    let mut edits = Edits::default();
    let said: Vec<(ConstructId, Vec<u8>, Vec<ConstructId>)> = layout
        .outermost()
        .map(|(at, _)| {
            let (content, used) = with_regions(layout, child, at);
            (at, content, used)
        })
        .collect();
    // Content for regions that was in the level's own goes into the child's.
    let gone: Vec<ConstructId> = said.iter().flat_map(|(.., used)| used.iter().copied()).collect();
    for &region in &gone {
        edits.remove(child.path.clone(), child.whole_lines(child.whole(region)));
    }
    for (at, content, _) in &said {
        let name = layout.constructs.items[*at].name;
        match child.definition(name.of(&layout.source)) {
            Some(own) => {
                for span in inherited(child, own) {
                    edits.replace(child.path.clone(), span, trim_blanks(content));
                }
            }
            None => {
                let block = name.text(&layout.source);
                edits.extend(added(site, id, Added { block: &block, content, tidy, gone: &gone })?);
            }
        }
    }
    Ok(edits)
}

/// A definition's content with what the child gives for the regions in it, and the child's
/// definitions that were used.
fn with_regions(layout: &Template, child: &Template, opener: ConstructId) -> (Vec<u8>, Vec<ConstructId>) {
    let span = layout.between(opener);
    let closer = layout.constructs.items[opener].partner;
    let regions = layout.regions().filter(|(at, _)| opener < *at && Some(*at) < closer);
    let (mut out, mut used) = (Vec::new(), Vec::new());
    let mut cursor = span.start;
    for (at, item) in regions {
        let place = layout.whole(at);
        let Some(own) = child.definition(item.name.of(&layout.source)).filter(|_| place.start >= cursor) else {
            continue;
        };
        let default = layout.between(at);
        let content = child.between(own);
        let keep = Span::new(cursor, default.start.max(cursor));
        out.extend_from_slice(keep.of(&layout.source));
        let mut from = content.start;
        for inherited in inherited(child, own) {
            out.extend_from_slice(Span::new(from, inherited.start).of(&child.source));
            out.extend_from_slice(trim_blanks(default.of(&layout.source)));
            from = inherited.end;
        }
        out.extend_from_slice(Span::new(from, content.end).of(&child.source));
        cursor = default.end;
        used.push(own);
    }
    out.extend_from_slice(Span::new(cursor, span.end).of(&layout.source));
    (out, used)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::steps::testing::{at, becomes, refused};

    #[test]
    fn children_say_what_the_level_said() {
        let files = [
            ("base.html", "<t>{% block t %}T{% endblock %}</t>{% block m %}{% endblock %}{% block s %}{% endblock %}"),
            (
                "mid.html",
                "{% extends 'base.html' %}\n{% block m %}<i>{% block n %}N{% endblock %}</i>{% endblock %}\n{% block s %}S{% endblock %}\n",
            ),
            (
                "p.html",
                "{% extends 'mid.html' %}\n{% block t %}P{% endblock %}\n{% block n %}[{{ super() }}]{% endblock %}\n",
            ),
            ("q.html", "{% extends 'mid.html' %}\n{% block s %}{{ super() }}!{% endblock %}\n"),
        ];
        let m = "{% block m %}<i>{% block n %}[N]{% endblock %}</i>{% endblock %}";
        let p = format!(
            "{{% extends 'base.html' %}}\n{{% block t %}}P{{% endblock %}}\n{m}\n{{% block s %}}S{{% endblock %}}\n"
        );
        let m = m.replace("[N]", "N");
        let q = format!("{{% extends 'base.html' %}}\n{m}\n{{% block s %}}S!{{% endblock %}}\n");
        let expected = [("mid.html", None), ("p.html", Some(p.as_str())), ("q.html", Some(q.as_str()))];
        becomes(&files, |site| collapse(site, at(site, "mid.html")), &expected);
        refused(&files, |site| collapse(site, at(site, "base.html")), "no layout above it");
    }

    #[test]
    fn a_level_that_binds_names_stays() {
        let files = [
            ("base.html", "{% block t %}{% endblock %}{{ x }}"),
            ("mid.html", "{% extends 'base.html' %}{% set x = 1 %}{% block t %}{% endblock %}"),
            ("p.html", "{% extends 'mid.html' %}"),
        ];
        refused(&files, |site| collapse(site, at(site, "mid.html")), "applies to this level only");
    }
}
