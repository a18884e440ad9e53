//! `idle-block`: a block that nobody overrides.

use rustc_hash::{FxHashMap, FxHashSet};

use crate::check::context::Context;
use crate::check::found::Found;
use crate::check::{Look, Rule, Severity};
use crate::markup::Construct;
use crate::site::Role;
use crate::text::SourceId;

pub(super) const RULE: Rule = Rule {
    id: "idle-block",
    severity: Severity::Hint,
    meaning: "A layout has a block that none of its children (three or more) overrides.",
    example: "-- base.html\n<main>{% block main %}{% endblock %}</main>{% block foot %}Tidewater{% endblock %}\n-- a.html\n{% extends \"base.html\" %}{% block main %}a{% endblock %}\n-- b.html\n{% extends \"base.html\" %}{% block main %}b{% endblock %}\n-- c.html\n{% extends \"base.html\" %}{% block main %}c{% endblock %}",
    remedy: "If future pages do not need it, remove the block's tags and keep its content.",
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
        // An override of what is above is no region of its own.
        let is_idle = |name: &[u8]| context.regions_above(&chain, name).is_empty() && !names.contains(name);
        let idle: Vec<_> = template.regions().filter(|(_, item)| is_idle(item.name.of(&template.source))).collect();
        let Some((_, first)) = idle.first() else { continue };
        let name = |item: &Construct| item.name.text(&template.source).into_owned();
        let message = match &idle[1..] {
            [] => format!("none of {children} children overrides `{}`", name(first)),
            more => {
                let more: Vec<String> = more.iter().map(|(_, item)| format!("`{}`", name(item))).collect();
                format!("none of {children} children overrides `{}`, nor {}", name(first), more.join(", "))
            }
        };
        let others = idle[1..].iter();
        let one = Found::new(id, first.span, message);
        found.push(others.fold(one, |one, (_, item)| one.with(id, item.span, format!("`{}`", name(item)))));
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
        let more = ("base.html", "{% block a %}{% endblock %}\n{% block b %}{% endblock %}{% block c %}{% endblock %}");
        finds(
            &RULE,
            &[more, ("1.html", page), ("2.html", page), ("3.html", page)],
            &["base.html:2: none of 3 children overrides `b`, nor `c`"],
        );
        finds(&RULE, &[base, ("1.html", page), ("2.html", page)], &[]);
    }
}
