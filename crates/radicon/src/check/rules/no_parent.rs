//! `no-parent`: a page without a layout, where its siblings have one.

use std::collections::BTreeMap;

use crate::check::context::{Context, Found};
use crate::check::{Look, Rule, Severity};
use crate::site::{Parent, Role, Template, folder};
use crate::text::{SourceId, Span};

pub(super) const RULE: Rule = Rule {
    id: "no-parent",
    severity: Severity::Warning,
    meaning: "A page names no layout and brings no frame of its own, while nearly all other pages of its folder have a layout: it shows unstyled.",
    example: "-- base.html\n<html>{% block main %}{% endblock %}</html>\n-- a.html\n{% extends \"base.html\" %}\n-- b.html\n{% extends \"base.html\" %}\n-- c.html\n{% extends \"base.html\" %}\n-- d.html\n{% block main %}<p>Ferries</p>{% endblock %}",
    remedy: "Name the layout in it. If it is no page of its own, say so with `pages` in radicon.toml.",
    look: Look::Site(look),
};

/// How many siblings must have a layout.
const LEAST_SIBLINGS: usize = 3;

fn look(context: &Context<'_>) -> Vec<Found> {
    let mut folders: BTreeMap<&str, Vec<(SourceId, &Template)>> = BTreeMap::new();
    for (id, template) in context.templates().filter(|(_, template)| template.role == Role::Page) {
        folders.entry(folder(&template.path)).or_default().push((id, template));
    }
    let mut found = Vec::new();
    for pages in folders.values() {
        let framed: Vec<SourceId> = pages
            .iter()
            .filter_map(|(id, _)| match context.site.parent(*id) {
                Parent::Found { id, .. } => Some(*id),
                _ => None,
            })
            .collect();
        if framed.len() < LEAST_SIBLINGS || framed.len() * 4 < pages.len() * 3 {
            continue;
        }
        for (id, template) in pages {
            if *context.site.parent(*id) == Parent::None
                && !is_whole(template)
                && !template.source.trim_ascii().is_empty()
            {
                let layout = context.site.get(usual(&framed)).path.as_str();
                let message = format!("names no layout; {} of its siblings have one, such as {layout}", framed.len());
                found.push(Found::new(*id, Span::default(), message));
            }
        }
    }
    found
}

/// The layout that most siblings have.
fn usual(framed: &[SourceId]) -> SourceId {
    let mut counts: BTreeMap<SourceId, usize> = BTreeMap::new();
    framed.iter().for_each(|id| *counts.entry(*id).or_default() += 1);
    counts.into_iter().max_by_key(|(id, count)| (*count, std::cmp::Reverse(*id))).map_or(framed[0], |(id, _)| id)
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
        let base = ("layouts/base.html", "<html>{% block a %}{% endblock %}</html>");
        let page = "{% extends 'layouts/base.html' %}";
        let siblings = [base, ("1.html", page), ("2.html", page), ("3.html", page)];
        let with = |last: (&'static str, &'static str)| -> Vec<(&str, &str)> {
            siblings.iter().copied().chain([last]).collect()
        };
        finds(
            &RULE,
            &with(("4.html", "{% block a %}<p>x</p>{% endblock %}")),
            &["4.html:1: 3 of its siblings have one, such as layouts/base.html"],
        );
        finds(&RULE, &with(("4.html", "<html><p>{% block a %}x{% endblock %}</html>")), &[]);
        finds(&RULE, &with(("4.html", "User-agent: *")), &[]);
        finds(&RULE, &[base, ("1.html", page), ("4.html", "{% block a %}<p>x</p>{% endblock %}")], &[]);
    }
}
