//! `idle-block`: a block that nobody overrides.

use rustc_hash::{FxHashMap, FxHashSet};

use crate::check::context::{Context, Found};
use crate::check::{Look, Rule, Severity};
use crate::site::Role;
use crate::text::SourceId;

pub(super) const RULE: Rule = Rule {
    id: "idle-block",
    severity: Severity::Hint,
    meaning: "A layout has a block that none of its children, three or more, overrides.",
    example: "-- base.html\n<main>{% block main %}{% endblock %}</main>{% block foot %}Tidewater{% endblock %}\n-- a.html\n{% extends \"base.html\" %}{% block main %}a{% endblock %}\n-- b.html\n{% extends \"base.html\" %}{% block main %}b{% endblock %}\n-- c.html\n{% extends \"base.html\" %}{% block main %}c{% endblock %}",
    remedy: "If no page to come needs it, take the block's tags away and keep its content.",
    look: Look::Site(look),
};

/// Fewer children than this do not show what a block is for.
const LEAST_CHILDREN: usize = 3;

fn look(context: &Context<'_>) -> Vec<Found> {
    // For each layout its children, and the names that they define.
    let mut below: FxHashMap<SourceId, (usize, FxHashSet<&[u8]>)> = FxHashMap::default();
    for (_, template, chain) in context.children() {
        for &level in &chain.levels[1..] {
            let (children, names) = below.entry(level).or_default();
            *children += 1;
            names.extend(template.blocks().map(|(_, item)| item.name.of(&template.source)));
        }
    }
    let mut found = Vec::new();
    for (id, template) in context.templates().filter(|(_, template)| template.role == Role::Layout) {
        let Some((children, names)) = below.get(&id).filter(|(children, _)| *children >= LEAST_CHILDREN) else {
            continue;
        };
        let chain = context.resolver.chain(id);
        for (_, item) in template.regions() {
            let name = item.name.of(&template.source);
            // An override of what is above is no region of its own.
            let own = context.regions_above(&chain, name).is_empty();
            if own && !names.contains(name) {
                let name = item.name.text(&template.source);
                found.push(Found::new(id, item.span, format!("none of {children} children overrides `{name}`")));
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
    fn blocks_that_nobody_overrides() {
        let base = ("base.html", "{% block a %}{% endblock %}\n{% block b %}{% endblock %}");
        let page = "{% extends 'base.html' %}{% block a %}{% endblock %}";
        finds(
            &RULE,
            &[base, ("1.html", page), ("2.html", page), ("3.html", page)],
            &["base.html:2: none of 3 children overrides `b`"],
        );
        finds(&RULE, &[base, ("1.html", page), ("2.html", page)], &[]);
    }
}
