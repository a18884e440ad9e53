//! `unsupplied-value`: a value that a layout or partial prints and a page does not supply.

use std::collections::BTreeMap;

use crate::check::context::Context;
use crate::check::found::Found;
use crate::check::{Look, Rule, Severity};
use crate::dialect::Kind;
use crate::markup::ConstructId;
use crate::resolve::Arguments;
use crate::site::Template;
use crate::text::{SourceId, Span};

pub(super) const RULE: Rule = Rule {
    id: "unsupplied-value",
    severity: Severity::Hint,
    meaning: "A layout prints a name that most of its children set, or a partial one that most includes pass, but one does not: there it prints nothing, or what the application supplies.",
    example: "-- card.html\n<b>{{ place }}</b>\n-- a.html\n{% include \"card.html\" with place=\"Old Pier\" %}{% include \"card.html\" with place=\"Heronsea\" %}{% include \"card.html\" %}",
    remedy: "Set or pass the value, or print it with a default.",
    look: Look::Site(look),
};

fn look(context: &Context<'_>) -> Vec<Found> {
    let mut found = layouts(context);
    found.extend(partials(context));
    found
}

/// Names that a template prints alone and without a condition, with the first place.
fn printed(template: &Template) -> BTreeMap<&[u8], Span> {
    let mut names = BTreeMap::new();
    let within = template.within_controls();
    for (at, item) in ConstructId::each(&template.constructs.items).filter(|(_, item)| item.kind == Kind::Output) {
        let span = if item.expr.is_empty() { item.name } else { item.expr };
        let name = span.of(&template.source).trim_ascii();
        let plain = !name.is_empty() && name.iter().all(|&b| b.is_ascii_alphanumeric() || b == b'_');
        if plain && !within[at.index()] {
            names.entry(name).or_insert(item.span);
        }
    }
    let own = template.constructs.items.iter().filter(|item| item.kind == Kind::Set);
    for item in own {
        names.remove(item.name.of(&template.source));
    }
    names
}

/// Whether a value that so many of all supply is missed where it is not.
fn is_missed(supplied: usize, all: usize) -> bool {
    supplied >= 2 && supplied < all && supplied * 3 >= all * 2
}

fn layouts(context: &Context<'_>) -> Vec<Found> {
    let mut children: BTreeMap<SourceId, Vec<(SourceId, Vec<SourceId>)>> = BTreeMap::new();
    for (id, _, chain) in context.children().filter(|(_, template, _)| template.rendered) {
        for (level, &layout) in chain.levels.iter().enumerate().skip(1) {
            children.entry(layout).or_default().push((id, chain.levels[..level].to_vec()));
        }
    }
    let binds = |levels: &[SourceId], name: &[u8]| {
        levels.iter().any(|&id| {
            let template = context.site.get(id);
            let sets = template.constructs.items.iter().filter(|item| item.kind == Kind::Set);
            sets.into_iter().any(|item| item.name.of(&template.source) == name)
        })
    };
    let mut found = Vec::new();
    for (layout, pages) in &children {
        let template = context.site.get(*layout);
        for (name, place) in printed(template) {
            let without: Vec<SourceId> =
                pages.iter().filter(|(_, levels)| !binds(levels, name)).map(|(id, _)| *id).collect();
            if is_missed(pages.len() - without.len(), pages.len()) {
                let name = String::from_utf8_lossy(name);
                for id in &without {
                    let span = context.site.get(*id).parent().map(|item| item.span).unwrap_or_default();
                    let message = format!("`{name}` is not set here; {} prints it", template.path);
                    found.push(Found::new(*id, span, message).with(*layout, place, "printed here"));
                }
            }
        }
    }
    found
}

/// The template and tag of an include, with the names that it binds; none where that is not known.
type Use = (SourceId, Span, Option<Vec<Vec<u8>>>);

fn partials(context: &Context<'_>) -> Vec<Found> {
    // For each partial the includes of it, with the names that they bind; none where that is not known.
    let mut includes: BTreeMap<SourceId, Vec<Use>> = BTreeMap::new();
    for (id, template) in context.templates() {
        for (at, item) in template.includes() {
            let Some(Ok(target)) = context.site.links(id).target(at) else { continue };
            let arguments = Arguments::read(&template.source, item.expr, &template.dialect.rules);
            let names = arguments.bindings.iter().map(|binding| binding.name.of(&template.source).to_vec()).collect();
            includes.entry(*target).or_default().push((id, item.span, (!arguments.opaque).then_some(names)));
        }
    }
    let mut found = Vec::new();
    for (partial, uses) in &includes {
        let template = context.site.get(*partial);
        for (name, place) in printed(template) {
            let lacks = |names: &Option<Vec<Vec<u8>>>| {
                names.as_ref().is_some_and(|names| !names.iter().any(|known| known == name))
            };
            let without: Vec<&Use> = uses.iter().filter(|(_, _, names)| lacks(names)).collect();
            if is_missed(uses.len() - without.len(), uses.len()) {
                let name = String::from_utf8_lossy(name);
                for (id, span, _) in without {
                    let message = format!("does not pass `{name}`; {} prints it", template.path);
                    found.push(Found::new(*id, *span, message).with(*partial, place, "printed here"));
                }
            }
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::check::rules::testing::finds;

    #[test]
    fn values_that_one_page_does_not_supply() {
        let base = ("base.html", "<title>{{ name }}{{ page.x }}</title>{% if sub %}{{ sub }}{% endif %}");
        let page = |path: &'static str| (path, "{% extends 'base.html' %}{% set name = 'a' %}{% set sub = 'b' %}");
        let last = ("c.html", "\n{% extends 'base.html' %}");
        finds(
            &RULE,
            &[base, page("a.html"), page("b.html"), last],
            &["c.html:2: `name` is not set here; base.html prints it"],
        );
        finds(&RULE, &[base, page("a.html"), last], &[]);
    }

    #[test]
    fn arguments_that_one_include_does_not_give() {
        let card = ("card.html", "<b>{{ place }}</b>{{ note }}");
        let page = "{% include 'card.html' with place='a' %}{% include 'card.html' with place='b', note='c' %}\n{% include 'card.html' %}";
        finds(&RULE, &[card, ("a.html", page)], &["a.html:2: does not pass `place`"]);
    }
}
