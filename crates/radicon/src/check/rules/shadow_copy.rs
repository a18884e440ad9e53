//! `shadow-copy`: a file that hides a vendored one and repeats most of it.

use rustc_hash::FxHashMap;

use crate::check::context::Context;
use crate::check::found::Found;
use crate::check::{Look, Rule, Severity};
use crate::text::Span;

pub(super) const RULE: Rule = Rule {
    id: "shadow-copy",
    severity: Severity::Hint,
    meaning: "A file replaces one of the same name in a later root and repeats 60% or more of its lines: changes there do not reach the site.",
    example: "-- radicon.toml\nroots = [\"own\", \"theme\"]\n-- theme/page.html\n<h1>\n{% block title %}Theme{% endblock %}\n</h1>\n<main>\n{% block main %}\n{% endblock %}\n</main>\n-- own/page.html\n<h1>\nTidewater\n</h1>\n<main>\n{% block main %}\n{% endblock %}\n</main>",
    remedy: "Extend the replaced file, and override only what differs. `radicon propose` does it.",
    look: Look::Site(look),
};

/// Lines of the hidden file that must be repeated.
const LEAST_LINES: usize = 5;

fn look(context: &Context<'_>) -> Vec<Found> {
    let site = context.site;
    let mut found = Vec::new();
    for (id, hidden) in site.hiding() {
        if context.resolver.chain(id).levels.contains(&hidden) {
            continue;
        }
        let (same, all) = repeated(&site.get(id).source, &site.get(hidden).source);
        if same >= LEAST_LINES && same * 5 >= all * 3 {
            let path = site.get(hidden).path.as_str();
            let message = format!("replaces {path} and repeats {same} of its {all} lines");
            found.push(Found::new(id, Span::default(), message).with(hidden, Span::default(), "replaced"));
        }
    }
    found
}

/// How many lines of a file are in a copy too, and how many it has; blank ones do not count.
fn repeated(copy: &[u8], file: &[u8]) -> (usize, usize) {
    let lines = |source: &'_ [u8]| -> Vec<Vec<u8>> {
        let trimmed = source.split(|&b| b == b'\n').map(|line| line.trim_ascii().to_vec());
        trimmed.filter(|line| !line.is_empty()).collect()
    };
    let mut there: FxHashMap<Vec<u8>, usize> = FxHashMap::default();
    lines(copy).into_iter().for_each(|line| *there.entry(line).or_default() += 1);
    let all = lines(file);
    let mut same = 0;
    for line in &all {
        if let Some(left) = there.get_mut(line).filter(|left| **left > 0) {
            *left -= 1;
            same += 1;
        }
    }
    (same, all.len())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::check::rules::testing::finds_with;

    #[test]
    fn copies_of_hidden_files() {
        let theme = ("theme/page.html", "<h1>\n{% block t %}\n{% endblock %}\n</h1>\n<main>\n<p>a</p>\n</main>\n");
        let copy = ("own/page.html", "<h1>\n{% block t %}\n{% endblock %}\n</h1>\n<main>\n<p>b</p>\n</main>\n");
        let roots = "roots = ['own', 'theme']";
        finds_with(&RULE, &[theme, copy], roots, &["own/page.html:1: repeats 6 of its 7 lines"]);
        let own = ("own/page.html", "<h2>\n{% block t %}\n{% endblock %}\n</h2>\n");
        finds_with(&RULE, &[theme, own], roots, &[]);
        finds_with(&RULE, &[theme, ("own/page.html", "{% extends 'page.html' %}")], roots, &[]);
    }
}
