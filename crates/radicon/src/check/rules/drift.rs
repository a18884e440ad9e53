//! `drift`: a copy that was left behind.

use std::borrow::Cow;

use crate::check::context::Context;
use crate::check::found::Found;
use crate::check::{Look, Rule, Severity};
use crate::repeats::{RepeatOptions, repeats};
use crate::text::Span;

pub(super) const RULE: Rule = Rule {
    id: "drift",
    severity: Severity::Hint,
    meaning: "Markup has six copies or more, and a few of them differ from all others: most likely they are outdated.",
    example: "-- a.html\n<nav class=\"bar\"><a href=\"/\">Home and news</a><a href=\"/fares\">Fares and tickets</a><a href=\"/harbours\">Harbours and piers</a><a href=\"/fleet\">The fleet</a><a href=\"/winter\">Winter sailings</a></nav>\n-- b.html\n<nav class=\"bar\"><a href=\"/\">Home and news</a><a href=\"/fares\">Fares and tickets</a><a href=\"/harbours\">Harbours and piers</a><a href=\"/fleet\">The fleet</a></nav>",
    remedy: "`radicon repeats` shows the copies side by side; `radicon propose --heal` brings the outdated ones up to date.",
    look: Look::Site(look),
};

/// How many copies must be alike for one that is not to be outdated; fewer are often
/// sentences that begin alike.
const LEAST_ALIKE: usize = 5;

fn look(context: &Context<'_>) -> Vec<Found> {
    let mut found = Vec::new();
    let known =
        context.repeats.map_or_else(|| Cow::Owned(repeats(context.site, &RepeatOptions::default())), Cow::Borrowed);
    for group in &known.groups {
        if group.copies.len() < group.drift.len() + LEAST_ALIKE {
            continue;
        }
        for drift in &group.drift {
            let Some(id) = context.site.find(&drift.file) else { continue };
            let copy = group.copies.iter().find(|copy| *copy.file == *drift.file && copy.line_start == drift.line);
            let span = copy.map_or(Span::default(), |copy| {
                let source = &context.site.get(id).source;
                let line = memchr::memchr(b'\n', &source[copy.byte_start as usize..]).unwrap_or(source.len());
                Span::new(copy.byte_start, copy.byte_end.min(copy.byte_start + line as u32))
            });
            let message = format!(
                "differs from {} other copies: {} (radicon repeats {})",
                group.copies.len() - 1,
                in_short(&drift.difference),
                group.id
            );
            found.push(Found::new(id, span, message));
        }
    }
    found
}

/// The first two differences of several.
fn in_short(difference: &str) -> String {
    let all: Vec<&str> = difference.split("; ").collect();
    match all.len() {
        0..=2 => difference.to_owned(),
        many => format!("{}; and {} more", all[..2].join("; "), many - 2),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::check::rules::testing::finds;

    #[test]
    fn copies_that_were_left_behind() {
        let nav = "<nav class='bar'><a href='/'>Home and news</a><a href='/fares'>Fares and tickets</a><a href='/harbours'>Harbours and piers</a><a href='/fleet'>The fleet</a><a href='/winter'>Winter sailings</a></nav>";
        let old = "<nav class='bar'><a href='/'>Home and news</a><a href='/fares'>Fares and tickets</a><a href='/harbours'>Harbours and piers</a><a href='/fleet'>The fleet</a></nav>";
        let paths = ["a.html", "b.html", "c.html", "d.html", "e.html", "f.html"];
        let mut pages: Vec<(&str, String)> =
            paths.iter().map(|path| (*path, format!("{nav}\n<p>{path}</p>"))).collect();
        let same: Vec<(&str, &str)> = pages.iter().map(|(path, text)| (*path, text.as_str())).collect();
        finds(&RULE, &same, &[]);
        pages[2].1 = format!("<h1>c</h1>\n{old}\n");
        let drifted: Vec<(&str, &str)> = pages.iter().map(|(path, text)| (*path, text.as_str())).collect();
        finds(&RULE, &drifted, &["c.html:2: Winter sailings"]);
    }
}
