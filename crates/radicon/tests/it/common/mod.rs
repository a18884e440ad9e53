//! What several tests share: the switch for long runs, a browser and an engine of their own, and tokens in the
//! standard's own terms.

pub mod browser;
pub mod engine;
pub mod steps;
pub mod tokens;
pub mod wild;

use std::path::PathBuf;

pub use crate::made::Random;

/// The share of the long runs that is run, 0 to 1: `RADICON_LONG=1` for all of them, `0.05` for a twentieth.
fn share() -> f64 {
    std::env::var("RADICON_LONG").ok().and_then(|share| share.parse().ok()).unwrap_or(0.0)
}

/// Whether all of the long runs is run.
pub fn is_long() -> bool {
    share() >= 1.0
}

/// How many cases to run.
pub fn cases(short: u64, long: u64) -> u64 {
    short.max((long as f64 * share()) as u64)
}

/// The first seed: from `RADICON_SEED`, else a fixed one; always printed.
pub fn seed(test: &str) -> u64 {
    let seed = std::env::var("RADICON_SEED").ok().and_then(|text| text.parse().ok()).unwrap_or(20_261_123);
    println!("{test}: first seed {seed}; RADICON_SEED={seed} runs the same cases again");
    seed
}

/// The folder of a book of the toolchain's documentation; `None`, with a word
/// about it, where it is not installed. In CI it must be there.
pub fn book(name: &str) -> Option<PathBuf> {
    let output = std::process::Command::new("rustc").args(["--print", "sysroot"]).output().ok()?;
    let root = PathBuf::from(String::from_utf8_lossy(&output.stdout).trim().to_owned());
    let folder = root.join("share/doc/rust/html").join(name);
    present(folder, &format!("the book `{name}` of the toolchain's documentation"))
}

/// The path, if it is there; else the test is reported as skipped, and fails in CI.
pub fn present(path: PathBuf, what: &str) -> Option<PathBuf> {
    if path.exists() {
        return Some(path);
    }
    assert!(std::env::var_os("CI").is_none(), "{what} is missing, and CI must have it");
    println!("skipped: {what} is not here");
    None
}

/// All HTML files beneath a folder, sorted.
pub fn pages(folder: &std::path::Path) -> Vec<PathBuf> {
    let mut found: Vec<PathBuf> = ignore::WalkBuilder::new(folder)
        .standard_filters(false)
        .build()
        .filter_map(Result::ok)
        .map(|entry| entry.into_path())
        .filter(|path| path.extension().is_some_and(|ending| ending == "html"))
        .collect();
    found.sort();
    found
}

/// Pieces of HTML that are hard to tell apart.
pub const FRAGMENTS: &[&str] = &[
    "<",
    ">",
    "</",
    "/>",
    "<!",
    "<!-",
    "<!--",
    "-",
    "--",
    "-->",
    "--!>",
    "!",
    "<?",
    "</3",
    "</>",
    "<!doctype html>",
    "<!DOCTYPE x \"a>b\">",
    "<![CDATA[",
    "]]>",
    "<div",
    "<DIV>",
    "<p>",
    "</p>",
    "<br/>",
    "<br / >",
    "<a href=",
    "<a href='x'",
    " b",
    " b=c",
    " B = \"d e\"",
    " =x",
    " '",
    "\"",
    "'",
    "=",
    "/",
    "<script>",
    "</script>",
    "</script ",
    "<SCRIPT",
    "</scripty>",
    "<style>",
    "</style>",
    "<title>",
    "</title>",
    "<textarea a=1>",
    "</textarea\n>",
    "<xmp>",
    "</xmp>",
    "<iframe>",
    "</iframe/>",
    "<noembed>",
    "</noembed>",
    "<plaintext>",
    "a",
    "text ",
    " ",
    "\n",
    "\t",
    "\r\n",
    "\r",
    "\u{c}",
    "\0",
    "&amp;",
    "&lt",
    "&#65;",
    "&#x41",
    "&notit;",
    "&",
    "é",
    "—",
    "x=\"",
    "class='a b'",
    "<x-y z>",
    "</x-y>",
];

/// A page of random fragments.
pub fn soup(random: &mut Random, most: usize) -> String {
    let mut text = String::new();
    for _ in 0..1 + random.below(most) {
        text.push_str(random.pick(FRAGMENTS));
    }
    text
}
