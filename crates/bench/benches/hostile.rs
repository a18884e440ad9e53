//! Inputs that are made to take long: each must stay near-linear. One core.
//!
//! ```sh
//! cargo bench -p radicon-bench --bench hostile             # all
//! cargo bench -p radicon-bench --bench hostile -- again    # those with this word in their name
//! ```
//!
//! Prints for each input its seconds beside the limit, and for half the input, which shows how it grows. Exit code 1
//! above a limit.
#![allow(missing_docs)]

use std::fmt::Write as _;
use std::hint::black_box;
use std::time::Instant;

use radicon::check::{Checks, RULES};
use radicon::dialect::builtin;
use radicon::disk::{Reader, load};
use radicon::propose::Goal;
use radicon::{ProposeOptions, Resolver, Settings, Site, SourceFile, Strength, check, propose, prove};

/// A kind of input: its name, its size, the most seconds, and what is done with an input of a size.
type Case = (&'static str, usize, f64, fn(usize) -> f64);

const CASES: [Case; 16] = [
    ("blocks with overrides", 20_000, 2.0, |size| whole(&blocks(size))),
    ("includes", 20_000, 2.0, |size| whole(&includes(size))),
    ("again", 20_000, 2.0, |size| whole(&again(size))),
    ("openers without end", 40_000, 1.0, |size| openers(size, "{% if x %}")),
    ("openers that are cut off", 40_000, 1.0, |size| openers(size, "{% if ")),
    ("outputs that are cut off", 40_000, 1.0, |size| openers(size, "{{ ")),
    ("comments that are cut off", 40_000, 1.0, |size| openers(size, "<!--: block x ")),
    ("quotes that are cut off", 40_000, 1.0, |size| openers(size, "{{ 'x ")),
    ("random brackets, bytes", 8_000_000, 10.0, brackets),
    ("random words in brackets, bytes", 8_000_000, 10.0, bracketed_words),
    ("unlike rows of four lists", 16_000, 10.0, |size| rows(size, 1, Goal::default())),
    ("unlike rows of four lists, smallest", 16_000, 10.0, |size| rows(size, 1, Goal::Smallest)),
    ("rows of four lists, a quarter unlike", 16_000, 10.0, |size| rows(size, 4, Goal::default())),
    ("the same, smallest", 16_000, 10.0, |size| rows(size, 4, Goal::Smallest)),
    ("unsaved text, bytes", 20_000_000, 2.0, unsaved),
    ("elements inside each other", 20_000, 2.0, nested),
];

fn main() -> std::process::ExitCode {
    let words: Vec<String> = std::env::args().skip(1).filter(|word| !word.starts_with("--")).collect();
    let pool = rayon::ThreadPoolBuilder::new().num_threads(1).build().expect("a thread");
    println!("{:<38} {:>10} {:>8} {:>8} {:>7}", "input", "size", "half s", "s", "limit s");
    let mut is_slow = false;
    for (name, size, limit, run) in CASES {
        if words.iter().any(|word| !name.contains(word.as_str())) {
            continue;
        }
        let [half, all] = [size / 2, size].map(|size| pool.install(|| run(size)));
        is_slow |= all > limit;
        println!(
            "{name:<38} {size:>10} {half:>8.2} {all:>8.2} {limit:>7}{}",
            if all > limit { "  too slow" } else { "" }
        );
    }
    std::process::ExitCode::from(u8::from(is_slow))
}

fn site(files: &[(String, String)]) -> Site {
    site_in(files, "")
}

/// A site in the dialects whose name has a word in it.
fn site_in(files: &[(String, String)], word: &str) -> Site {
    let files = files.iter().map(|(path, text)| SourceFile::new(path.clone(), text.clone())).collect();
    let dialects: Vec<_> = builtin().iter().filter(|dialect| dialect.name.contains(word)).cloned().collect();
    Site::read(files, &dialects, &Settings::default())
}

/// The seconds to read, put together, check and prove a site, and to find that nothing is to be learned from it.
fn whole(files: &[(String, String)]) -> f64 {
    let dir = tempfile::tempdir().expect("a folder");
    for (path, text) in files {
        std::fs::write(dir.path().join(path), text).expect("a file");
    }
    let start = Instant::now();
    let site = load(dir.path()).expect("a site").site;
    black_box(Resolver::new(&site).flatten_all().expect("pages of a sane size"));
    black_box(check(&site));
    black_box(prove(&site, &site, Strength::Dom));
    start.elapsed().as_secs_f64()
}

fn blocks(size: usize) -> Vec<(String, String)> {
    let mut base = String::new();
    let mut page = "{% extends 'base.html' %}\n".to_owned();
    for at in 0..size {
        let _ = writeln!(base, "<p>{{% block b{at} %}}{at}{{% endblock %}}</p>");
        let _ = writeln!(page, "{{% block b{at} %}}own {at} {{{{ super() }}}}{{% endblock %}}");
    }
    vec![("base.html".into(), base), ("page.html".into(), page)]
}

fn includes(size: usize) -> Vec<(String, String)> {
    let text = |at: usize| format!("<p>{{% include 'part{}.html' %}}</p>\n", at % 100);
    let mut files = vec![("page.html".to_owned(), (0..size).map(text).collect())];
    files.extend((0..100).map(|at| (format!("part{at}.html"), format!("<b>{at}</b>"))));
    files
}

fn again(size: usize) -> Vec<(String, String)> {
    let mut base = String::new();
    let mut page = "<!--: layout base.html -->\n".to_owned();
    for at in 0..size {
        let _ = writeln!(base, "<p><!--: block b{at} -->{at}<!--: end b{at} --></p><!--: again b{at} -->");
        let _ = writeln!(page, "<!--: block b{at} -->own {at}<!--: end b{at} -->");
    }
    vec![("base.html".into(), base), ("page.html".into(), page)]
}

fn openers(size: usize, opener: &str) -> f64 {
    let files = [("page.html".to_owned(), format!("{opener}\n").repeat(size))];
    let start = Instant::now();
    let site = site_in(&files, if opener.starts_with('<') { "margin" } else { "brace" });
    black_box(check(&site));
    black_box(Resolver::new(&site).flatten_all().expect("pages of a sane size"));
    start.elapsed().as_secs_f64()
}

/// Numbers without a pattern (SplitMix64).
fn random(state: &mut u64) -> u64 {
    *state = state.wrapping_add(0x9e37_79b9_7f4a_7c15);
    let mut z = *state;
    z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
    z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
    z ^ (z >> 31)
}

/// The seconds to read a site of one file, and to learn from it.
fn learned(text: String) -> f64 {
    let dir = tempfile::tempdir().expect("a folder");
    std::fs::write(dir.path().join("page.html"), text).expect("a file");
    let start = Instant::now();
    black_box(load(dir.path()).expect("a site"));
    start.elapsed().as_secs_f64()
}

fn brackets(size: usize) -> f64 {
    let signs = b"[]{}()<>%#@$-=!?/ \nab";
    let mut state = 7;
    learned((0..size).map(|_| signs[random(&mut state) as usize % signs.len()] as char).collect())
}

fn bracketed_words(size: usize) -> f64 {
    let (mut state, mut text) = (11, String::with_capacity(size));
    let open = ["[%", "{%", "<%", "{{", "[[", "@", "(~"];
    let close = ["%]", "%}", "%>", "}}", "]]", "\n", "~)"];
    while text.len() < size {
        let [a, b] = [0; 2].map(|_| random(&mut state) as usize % open.len());
        let word = random(&mut state) % 5_000;
        let _ = writeln!(text, "{} w{word:x} {}", open[a], close[b]);
    }
    learned(text)
}

/// Four lists, of whose rows one in so many is their own.
fn rows(size: usize, unlike: u64, goal: Goal) -> f64 {
    let (mut state, mut common) = (3, 5);
    let shared: Vec<u64> = (0..size).map(|_| random(&mut common)).collect();
    let files: Vec<(String, String)> = (0..4)
        .map(|page| {
            let mut row = |at: usize| {
                let own = random(&mut state).is_multiple_of(unlike);
                let mut from = if own { random(&mut state) } else { shared[at] };
                let [a, b, c] = [0; 3].map(|_| random(&mut from) as usize);
                let page = if own { page } else { 9 };
                let tag = ["li", "div", "p", "tr", "dd", "section", "h3", "td"][a % 8];
                let inner = ["b", "i", "em", "a", "span", "code", "u", "s"][b % 8];
                let words = "a few words of a row ".repeat(1 + c % 5);
                format!("<{tag} class=\"c{a:x}\"><{inner} id=\"i{b:x}\">{page}{words}</{inner}> {c:x} {at}</{tag}>\n")
            };
            let list: String = (0..size).map(&mut row).collect();
            (
                format!("{page}.html"),
                format!(
                    "<html><head><title>{page}</title></head><body><h1>Rows</h1>\n<ul>\n{list}</ul></body></html>\n"
                ),
            )
        })
        .collect();
    let start = Instant::now();
    let site = site(&files);
    black_box(propose(&site, &ProposeOptions { goal, ..ProposeOptions::default() }).expect("a proposal"));
    start.elapsed().as_secs_f64()
}

fn unsaved(size: usize) -> f64 {
    let dir = tempfile::tempdir().expect("a folder");
    for at in 0..5_000 {
        let text = format!("{{% extends 'base.html' %}}{{% block a %}}<p>{at}</p>{{% endblock %}}");
        std::fs::write(dir.path().join(format!("p{at}.html")), text).expect("a file");
    }
    std::fs::write(dir.path().join("base.html"), "<main>{% block a %}{% endblock %}</main>").expect("a file");
    let mut reader = Reader::for_editor(dir.path());
    let mut loaded = reader.read().expect("a site");
    let text = "{% extends 'base.html' %}{% block a %}".to_owned()
        + &"<p>a <b>row</b></p>\n".repeat(size / 20)
        + "{% endblock %}";
    let rules: Vec<_> = RULES.iter().filter(|rule| rule.id != "drift").copied().collect();
    let mut checks = Checks::new(&rules);
    black_box(checks.check(&loaded.site));
    let start = Instant::now();
    reader.unsaved("p7.html", Some(text.into_bytes()));
    reader.update(&mut loaded).expect("a site");
    black_box(checks.check(&loaded.site));
    start.elapsed().as_secs_f64()
}

fn nested(size: usize) -> f64 {
    whole(&[("page.html".into(), "<div>".repeat(size) + "x" + &"</div> ".repeat(size) + "{% if x %}{% endif %}")])
}
