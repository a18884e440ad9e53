//! `no-parent`: a page without a layout, where its siblings have one.

use std::collections::BTreeMap;

use rustc_hash::FxHashMap;

use crate::check::context::{Context, Found};
use crate::check::{Look, Rule, Severity};
use crate::resolve::loose;
use crate::site::{Parent, Role, Template};
use crate::text::{SourceId, Span};

pub(super) const RULE: Rule = Rule {
    id: "no-parent",
    severity: Severity::Warning,
    meaning: "A page gives content for blocks of a layout that others take, but names none and brings no frame of its own: it shows unstyled.",
    example: "-- base.html\n<html>{% block main %}{% endblock %}</html>\n-- a.html\n{% extends \"base.html\" %}\n-- b.html\n{% extends \"base.html\" %}\n-- c.html\n{% extends \"base.html\" %}\n-- d.html\n{% block main %}<p>Ferries</p>{% endblock %}",
    remedy: "Name the layout in it. If it is no page of its own, say so with `pages` in radicon.toml.",
    look: Look::Site(look),
};

/// A layout that so many templates take is one that others may have forgotten.
const FEWEST_CHILDREN: usize = 2;

fn look(context: &Context<'_>) -> Vec<Found> {
    let site = context.site;
    // For each name of a region the layouts that have it, with how many templates take them.
    let mut children: BTreeMap<SourceId, usize> = BTreeMap::new();
    for (_, _, chain) in context.children() {
        *children.entry(chain.levels[1]).or_default() += 1;
    }
    children.retain(|_, count| *count >= FEWEST_CHILDREN);
    let mut layouts: FxHashMap<&[u8], Vec<SourceId>> = FxHashMap::default();
    for &layout in children.keys() {
        for level in context.resolver.chain(layout).levels {
            let template = site.get(level);
            template
                .regions()
                .for_each(|(_, item)| layouts.entry(item.name.of(&template.source)).or_default().push(layout));
        }
    }
    let is_page = |(id, template): &(SourceId, &Template)| {
        template.role == Role::Page && *site.parent(*id) == Parent::None && !is_whole(template)
    };
    let mut found = Vec::new();
    for (id, template) in context.templates().filter(is_page) {
        // All that it brings must be for one layout: a fragment has blocks of its own, or other content.
        let names: Vec<&[u8]> = template.outermost().map(|(_, item)| item.name.of(&template.source)).collect();
        let has_all = |layout: &&SourceId| {
            names.iter().all(|name| layouts.get(name).is_some_and(|layouts| layouts.contains(layout)))
        };
        let fitting =
            children.keys().filter(has_all).max_by_key(|layout| (children[layout], std::cmp::Reverse(**layout)));
        let Some(layout) = fitting.filter(|_| !names.is_empty() && loose(template).is_empty()) else { continue };
        let name = |name: &[u8]| String::from_utf8_lossy(name).into_owned();
        let message = format!(
            "names no layout, but gives content for `{}`; {} templates with such blocks have {}",
            name(names[0]),
            children[layout],
            site.get(*layout).path
        );
        let one = Found::new(id, Span::default(), message);
        // One block around everything may be a fragment that another site overrides.
        found.push(if names.len() < 2 { one.hint() } else { one });
    }
    found
}

/// Whether a page is a whole document by itself, or no document at all.
fn is_whole(template: &Template) -> bool {
    let head = &template.source[..template.source.len().min(4096)];
    let lower = head.to_ascii_lowercase();
    let frame = ["<html", "<!doctype", "<body", "<head"]
        .iter()
        .any(|tag| memchr::memmem::find(&lower, tag.as_bytes()).is_some());
    frame || !lower.contains(&b'<')
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::check::rules::testing::finds;

    #[test]
    fn the_page_that_forgot_its_layout() {
        let base = ("layouts/base.html", "<html>{% block t %}{% endblock %}{% block a %}{% endblock %}</html>");
        let page = "{% extends 'layouts/base.html' %}";
        let siblings = [base, ("1.html", page), ("2.html", page), ("3.html", page)];
        let with = |last: (&'static str, &'static str)| -> Vec<(&str, &str)> {
            siblings.iter().copied().chain([last]).collect()
        };
        finds(
            &RULE,
            &with(("4.html", "{% block a %}<p>x</p>{% endblock %}{% block t %}y{% endblock %}")),
            &["4.html:1: gives content for `a`; 3 templates with such blocks have layouts/base.html"],
        );
        finds(&RULE, &with(("4.html", "<html><p>{% block a %}x{% endblock %}</html>")), &[]);
        finds(&RULE, &with(("4.html", "<td>{% if a %}x{% endif %}</td>")), &[]);
        finds(&RULE, &with(("4.html", "<form>{% block a %}x{% endblock %}</form>")), &[]);
        finds(&RULE, &with(("4.html", "{% block other %}<p>x</p>{% endblock %}")), &[]);
        finds(&RULE, &with(("4.html", "User-agent: *")), &[]);
        finds(
            &RULE,
            &[base, ("1.html", page), ("4.html", "{% block a %}<p>x</p>{% endblock %}{% block t %}y{% endblock %}")],
            &[],
        );
    }
}
