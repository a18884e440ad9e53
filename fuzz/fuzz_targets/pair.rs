//! Two pages that differ in white space are shown alike, if they are found to be equal.
#![no_main]

use libfuzzer_sys::fuzz_target;
use radicon::dialect::builtin_named;
use radicon::{Settings, Site, SourceFile, Strength, prove};

#[path = "../../crates/radicon/tests/common/browser.rs"]
mod browser;

/// The page with white space put in and taken out: each byte of the plan is for one place beside a tag.
fn respaced(page: &str, plan: &[u8]) -> String {
    let mut plan = plan.iter().copied().chain(std::iter::repeat(0));
    let mut out = String::new();
    for piece in page.split_inclusive('>').flat_map(|piece| match piece.find('<') {
        Some(at) => vec![&piece[..at], &piece[at..]],
        None => vec![piece],
    }) {
        match plan.next().unwrap_or(0) % 8 {
            1 => out.push_str(piece.trim_start()),
            2 => out.push_str(piece.trim_end()),
            3 => out.push_str(&format!(" {piece}")),
            4 => out.push_str(&format!("{piece}\n  ")),
            5 => out.push_str(&piece.replace(' ', "  ")),
            _ => out.push_str(piece),
        }
    }
    out
}

/// What an engine makes of the page: an output prints a word, and conditions hold.
fn executed(page: &str) -> Option<String> {
    let (mut out, mut rest) = (String::new(), page);
    while let Some(at) = rest.find("{{").into_iter().chain(rest.find("{%")).chain(rest.find("{#")).min() {
        out.push_str(&rest[..at]);
        let (close, text) = match &rest[at..at + 2] {
            "{{" => ("}}", "v"),
            "{%" => ("%}", ""),
            _ => ("#}", ""),
        };
        let end = rest[at..].find(close)?;
        out.push_str(text);
        rest = &rest[at + end + 2..];
    }
    Some(out + rest)
}

fn site(page: &str) -> Option<Site> {
    let dialect = builtin_named("brace-percent")?;
    Some(Site::read(vec![SourceFile::new("page.html", page)], &[dialect], &Settings::default()))
}

fuzz_target!(|data: &[u8]| {
    let Some((page, plan)) = std::str::from_utf8(data).ok().and_then(|text| text.split_once('\0')) else { return };
    // Tags that a stand-in would have to execute.
    if ["extends", "block", "include", "import", "macro", "set", "raw", "super", "else", "elif"].iter().any(|word| page.contains(word)) {
        return;
    }
    let new = respaced(page, plan.as_bytes());
    let (Some(before), Some(after)) = (site(page), site(&new)) else { return };
    if before.templates[0].constructs.errors.len() + after.templates[0].constructs.errors.len() > 0 {
        return;
    }
    let proof = prove(&before, &after, Strength::Dom);
    if proof.equal && let (Some(old), Some(new)) = (executed(page), executed(&new)) {
        assert_eq!(browser::shown(&old), browser::shown(&new));
    }
});
