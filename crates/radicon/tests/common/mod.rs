//! What several tests share: a seeded generator, the switch for long runs, and
//! tokens in the standard's own terms.
#![allow(dead_code, missing_docs)]

pub mod better;
pub mod browser;
pub mod dirty;
pub mod engine;
pub mod engines;
pub mod hidden;
pub mod learning;
pub mod site;
pub mod steps;
pub mod tokens;
pub mod wild;
pub mod written;

use std::path::PathBuf;

/// Long runs are behind `RADICON_LONG=1`.
pub fn is_long() -> bool {
    std::env::var_os("RADICON_LONG").is_some_and(|value| value == "1")
}

/// How many cases to run.
pub fn cases(short: u64, long: u64) -> u64 {
    if is_long() { long } else { short }
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

/// A small random generator (SplitMix64; Steele, Lea and Flood 2014).
#[derive(Clone, Debug)]
pub struct Random(pub u64);

impl Random {
    pub fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        z ^ (z >> 31)
    }

    /// A number below `limit`.
    pub fn below(&mut self, limit: usize) -> usize {
        (self.next() % limit.max(1) as u64) as usize
    }

    /// True once in `times`.
    pub fn once_in(&mut self, times: usize) -> bool {
        self.below(times) == 0
    }

    pub fn pick<'a, T: ?Sized>(&mut self, list: &[&'a T]) -> &'a T {
        list[self.below(list.len())]
    }
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
