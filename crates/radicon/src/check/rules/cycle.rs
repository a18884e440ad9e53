//! `cycle`: templates that form a cycle.

use std::collections::BTreeSet;

use crate::check::context::Context;
use crate::check::found::Found;
use crate::check::{Look, Rule, Severity};
use crate::dialect::Kind;
use crate::markup::ConstructId;
use crate::resolve::Break;
use crate::site::Site;
use crate::text::{SourceId, Span};

pub(super) const RULE: Rule = Rule {
    id: "cycle",
    severity: Severity::Error,
    meaning: "Layouts or includes form a cycle, so the page never ends. A cycle with an include inside a condition may end, and is not reported.",
    example: "-- a.html\n{% extends \"b.html\" %}\n-- b.html\n{% extends \"a.html\" %}",
    remedy: "Remove one of the references. Usually a layout names its own child, or a partial names itself.",
    look: Look::Site(look),
};

fn look(context: &Context<'_>) -> Vec<Found> {
    let site = context.site;
    let mut found = Vec::new();
    let mut rounds: BTreeSet<Vec<SourceId>> = BTreeSet::new();
    for id in context.ids() {
        if let Some(Break::Cycle(round)) = context.resolver.chain(id).broken {
            rounds.insert(turned(round));
        }
    }
    for round in rounds {
        let template = site.get(round[0]);
        let span = template.parent().map(|item| item.span).unwrap_or_default();
        found.push(Found::new(round[0], span, format!("the parents form a cycle: {}", told(site, &round))));
    }
    found.extend(includes(site, context.ids()));
    found
}

/// A round, begun with its first file.
fn turned(mut round: Vec<SourceId>) -> Vec<SourceId> {
    let first = (0..round.len()).min_by_key(|&at| round[at]).unwrap_or(0);
    round.rotate_left(first);
    round
}

fn told(site: &Site, round: &[SourceId]) -> String {
    let names: Vec<&str> = round.iter().chain(round.first()).map(|&id| site.get(id).path.as_str()).collect();
    names.join(" -> ")
}

/// Rounds of includes none of which is in a condition.
fn includes(site: &Site, ids: impl Iterator<Item = SourceId>) -> Vec<Found> {
    let edges = |id: SourceId| -> Vec<(ConstructId, SourceId)> {
        let template = site.get(id);
        let within = template.within_controls();
        let included = template.includes().filter(|(at, _)| !within[at.index()]);
        included.filter_map(|(at, _)| Some((at, *site.links(id).target(at)?.as_ref().ok()?))).collect()
    };
    let mut done = vec![false; site.templates.len()];
    let mut rounds: BTreeSet<Vec<SourceId>> = BTreeSet::new();
    for start in ids {
        if done[start.index()] {
            continue;
        }
        // The way from the start to here, each file with what it includes and was not followed yet.
        let mut path: Vec<(SourceId, Vec<(ConstructId, SourceId)>)> = vec![(start, edges(start))];
        while let Some((id, open)) = path.last_mut() {
            let id = *id;
            let Some((_, next)) = open.pop() else {
                done[id.index()] = true;
                path.pop();
                continue;
            };
            if let Some(at) = path.iter().position(|(known, _)| *known == next) {
                rounds.insert(turned(path[at..].iter().map(|(id, _)| *id).collect()));
            } else if !done[next.index()] {
                path.push((next, edges(next)));
            }
        }
    }
    let found = |round: Vec<SourceId>| {
        let next = round.get(1).copied().unwrap_or(round[0]);
        let include = edges(round[0]).into_iter().find(|(_, target)| *target == next);
        let span = include.map_or(Span::default(), |(at, _)| site.get(round[0]).constructs.items[at].span);
        let one = Found::new(round[0], span, format!("the includes form a cycle: {}", told(site, &round)));
        // Program code between the tags may end the round.
        let holds_code = |id: &SourceId| {
            let items = &site.get(*id).constructs.items;
            items.iter().any(|item| matches!(item.kind, Kind::Code | Kind::Other))
        };
        if round.iter().any(holds_code) { one.hint() } else { one }
    };
    rounds.into_iter().map(found).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::check::rules::testing::finds;

    #[test]
    fn rounds_are_told_once_with_their_path() {
        finds(
            &RULE,
            &[("a.html", "{% extends 'b.html' %}"), ("b.html", "\n{% extends 'a.html' %}")],
            &["a.html:1: a.html -> b.html -> a.html"],
        );
        let files = [
            ("a.html", "<p>\n{% include 'b.html' %}"),
            ("b.html", "{% include 'c.html' %}"),
            ("c.html", "{% include 'b.html' %}"),
            ("d.html", "{% include 'c.html' %}"),
        ];
        finds(&RULE, &files, &["b.html:1: b.html -> c.html -> b.html"]);
    }

    #[test]
    fn a_condition_may_end_the_round() {
        let tree = ("tree.html", "<li>{% if more %}{% include 'tree.html' %}{% endif %}</li>");
        finds(&RULE, &[tree, ("a.html", "{% include 'tree.html' %}{% include 'tree.html' %}")], &[]);
    }
}
