//! A small site in a made-up syntax and what is learned from it, for the tests beside the parts of learning.

use super::{Learned, learn};
use crate::dialect::Kind;
use crate::site::SourceFile;

/// A layout with three blocks and a partial.
pub(super) const LAYOUT: &str = "<html><head><title>(= berth title =)Tides(= cast =)</title></head><body>\n(= bring \"parts/nav.html\" =)\n<main>(= berth main =)<p>Nothing</p>(= cast =)</main>\n<aside>(= berth side =)(= cast =)</aside>\n</body></html>\n";

const WORDS: [&str; 10] = ["amber", "birch", "cedar", "dunes", "eider", "fjord", "gulls", "heron", "inlet", "jetty"];

/// A page that takes the layout, with a title and this in its main block.
pub(super) fn page(main: &str) -> String {
    format!("(= moor \"base.html\" =)\n(= berth title =)@(= cast =)\n(= berth main =)\n{main}\n(= cast =)\n")
}

/// The dialects that are learned from a layout, its partial, ten pages that are written like this one, and other files.
/// In a page `@` is a word of its own; lines that begin with `~` are in every other page.
pub(super) fn all_learned(layout: &str, page: &str, others: &[(&str, &str)]) -> Vec<Learned> {
    let mut files = vec![
        SourceFile::new("base.html", layout),
        SourceFile::new("parts/nav.html", "<nav><a href=\"/\">Home</a></nav>\n"),
    ];
    files.extend(others.iter().map(|(path, text)| SourceFile::new(*path, *text)));
    for (at, word) in WORDS.iter().enumerate() {
        let lines = page.split_inclusive('\n').filter(|line| at % 2 == 0 || !line.starts_with('~'));
        let text: String = lines.map(|line| line.trim_start_matches('~')).collect();
        files.push(SourceFile::new(format!("p{at}.html"), text.replace('@', word)));
    }
    learn(&files, &[], &[])
}

/// The same where a single dialect is learned.
#[track_caller]
pub(super) fn learned(layout: &str, page: &str, others: &[(&str, &str)]) -> Learned {
    let mut all = all_learned(layout, page, others);
    assert_eq!(all.len(), 1, "{:?}", all.iter().map(|learned| &learned.text).collect::<Vec<_>>());
    all.remove(0)
}

/// Checks the forms of a kind that were learned.
#[track_caller]
pub(super) fn check(learned: &Learned, kind: Kind, expected: &[&str]) {
    let forms: Vec<&str> =
        learned.forms.iter().filter(|form| form.kind == kind).map(|form| form.form.as_str()).collect();
    assert_eq!(forms, expected, "{}", learned.text);
}
