//! `same-partial`: two partials that say the same.

use std::collections::BTreeMap;

use rustc_hash::FxHashSet;

use crate::check::context::{Context, Found};
use crate::check::{Look, Rule, Severity};
use crate::site::Role;
use crate::text::{SourceId, Span};

pub(super) const RULE: Rule = Rule {
    id: "same-partial",
    severity: Severity::Hint,
    meaning: "Two partials of one dialect have the same content, but for white space at the ends of lines: what is changed in one is forgotten in the other.",
    example: "-- page.html\n{% include \"nav.html\" %}{% include \"menu.html\" %}\n-- nav.html\n<nav>\n  <a href=\"/fares.html\">Fares</a>\n  <a href=\"/timetable.html\">Timetable</a>\n</nav>\n-- menu.html\n<nav>\n  <a href=\"/fares.html\">Fares</a>\n  <a href=\"/timetable.html\">Timetable</a>\n</nav>",
    remedy: "Include one of them in both places, and delete the other.",
    look: Look::Site(look),
};

/// What is shorter is alike by chance, in bytes.
const SHORTEST: usize = 80;

fn look(context: &Context<'_>) -> Vec<Found> {
    // One that hides another is told by another rule.
    let hiding: FxHashSet<SourceId> = context.site.hiding().into_iter().flat_map(|(id, hidden)| [id, hidden]).collect();
    let mut same: BTreeMap<(&str, Vec<u8>), Vec<SourceId>> = BTreeMap::new();
    for (id, template) in context.templates().filter(|(_, template)| template.role == Role::Partial) {
        let lines = template.source.split(|&b| b == b'\n').map(|line| line.trim_ascii_end());
        let text = lines.collect::<Vec<_>>().join(&b'\n').trim_ascii().to_vec();
        if text.len() >= SHORTEST && !hiding.contains(&id) {
            same.entry((&template.dialect.name, text)).or_default().push(id);
        }
    }
    let mut found = Vec::new();
    for ids in same.into_values().filter(|ids| ids.len() > 1) {
        let path = |id: SourceId| context.site.get(id).path.as_str();
        let more = match ids.len() {
            2 => String::new(),
            all => format!(", and {} more", all - 2),
        };
        let one = Found::new(ids[1], Span::default(), format!("says the same as {}{more}", path(ids[0])));
        let others = ids.iter().filter(|id| **id != ids[1]);
        found.push(others.fold(one, |one, id| one.with(*id, Span::default(), "the same")));
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::check::rules::testing::finds;

    #[test]
    fn partials_that_say_the_same() {
        const NAV: &str =
            "<nav>\n  <a href='/fares.html'>Fares</a>\n  <a href='/timetable.html'>Timetable</a>\n</nav>\n";
        let spaced = NAV.replace(">\n", "> \n");
        let page =
            ("page.html", "{% include 'a.html' %}{% include 'b.html' %}{% include 'c.html' %}{% include 'd.html' %}");
        let files = [page, ("a.html", NAV), ("b.html", &spaced), ("c.html", "<hr>"), ("d.html", "<hr>")];
        finds(&RULE, &files, &["b.html:1: says the same as a.html"]);
    }
}
