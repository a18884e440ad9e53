//! Eight made-up engines, one for each shape of template language, and the tags
//! that many engines share: their sites
//! come out as the pages that were written by hand beside them.

use std::fs;
use std::path::{Path, PathBuf};

use crate::common::{Random, cases, seed};
use radicon::dialect::{Dialect, Form, Kind, Values};
use radicon::markup::Document;
use radicon::{Resolver, Settings, Site, SourceFile, disk};

const ENGINES: [&str; 11] =
    ["lantern", "signal", "helm", "crate", "canvas", "buoy", "pier", "mooring", "skerry", "gangway", "capstan"];

fn folder(engine: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/fixtures").join(engine)
}

/// Every file beneath a folder, by its path from there.
fn files(folder: &Path) -> Vec<(String, Vec<u8>)> {
    if !folder.exists() {
        return Vec::new();
    }
    let walk = ignore::WalkBuilder::new(folder).standard_filters(false).sort_by_file_name(Ord::cmp).build();
    let entries = walk.map(|entry| entry.expect("an entry")).filter(|entry| entry.path().is_file());
    entries
        .map(|entry| {
            let path = entry.path().strip_prefix(folder).expect("beneath it").to_string_lossy().replace('\\', "/");
            (path, fs::read(entry.path()).expect("a file"))
        })
        .collect()
}

#[track_caller]
fn check(engine: &str) {
    let loaded = disk::load(&folder(engine).join("site")).expect("a site");
    let expected = files(&folder(engine).join("expected"));
    assert!(!expected.is_empty(), "{engine} expects nothing");
    let resolver = Resolver::new(&loaded.site);
    let pages = resolver.flatten_all().expect("pages of a sane size");
    let found: Vec<_> = pages.iter().map(|(id, _)| loaded.site.get(*id).path.as_str()).collect();
    assert_eq!(found, expected.iter().map(|(path, _)| path.as_str()).collect::<Vec<_>>(), "{engine}: pages");
    for ((id, flat), (path, bytes)) in pages.iter().zip(&expected) {
        assert_eq!(String::from_utf8_lossy(&flat.bytes), String::from_utf8_lossy(bytes), "{engine}: {path}");
        let ends = flat.stretches.windows(2).all(|pair| pair[0].at < pair[1].at);
        assert!(ends && flat.stretches.first().is_none_or(|first| first.at == 0), "{engine}: {path}: origins");
        assert!(resolver.chain_report(*id).page == *path);
    }
}

#[test]
fn bracketed_tags_with_paired_ends() {
    check("lantern");
}

#[test]
fn directives_led_by_a_sigil() {
    check("signal");
}

#[test]
fn code_led_by_a_sigil() {
    check("helm");
}

#[test]
fn actions_with_one_general_closer() {
    check("crate");
}

#[test]
fn wraps_and_files_around_every_page() {
    check("canvas");
}

#[test]
fn single_brackets_and_values_for_the_layout() {
    check("buoy");
}

#[test]
fn attributes_of_elements() {
    check("pier");
}

/// What stands in real trees of `brace-percent`: arguments, dynamic names, parents
/// that are not the first thing, blocks in conditions and tags, trim marks, custom tags.
#[test]
fn brace_percent_as_it_stands_in_real_trees() {
    check("skerry");
}

/// The parent in a header, names without quotes, a block that is printed again.
#[test]
fn headers_between_fences() {
    check("gangway");
}

/// Calls within code, a parent without a name, names that begin with an application.
#[test]
fn several_statements_in_a_tag() {
    check("capstan");
}

#[test]
fn comment_directives_and_server_side_includes() {
    check("mooring");
}

const WORDS: [&str; 12] =
    ["tide", "quay", "ferry", "deck", "a_1", "mast", "buoy", "rope", "sail", "crew", "gull", "Anchor"];

/// One tag of a form as it is written, with random content in its places.
fn tag(random: &mut Random, pattern: &radicon::dialect::Pattern, name: &str) -> String {
    let word = |random: &mut Random| random.pick(&WORDS).to_owned();
    let target = if random.once_in(2) { word(random) } else { format!("{}/{}", word(random), word(random)) };
    let value = if random.once_in(2) { word(random) } else { format!("<b>{}</b> {{", word(random)) };
    let expr = match random.below(5) {
        0 => word(random),
        1 => format!("{}.{}", word(random), word(random)),
        2 => format!("f({}, \"x y\")", word(random)),
        3 => format!("{}=\"{}\"", word(random), word(random)),
        _ if pattern.example().contains("<expr>") => word(random),
        _ => String::new(),
    };
    let after = if random.once_in(2) { word(random) + " = 1;" } else { String::new() };
    pattern.write(&Values { target: &target, name, value: &value, expr: &expr, after: &after })
}

fn text(random: &mut Random) -> String {
    const TEXTS: [&str; 8] = [
        "plain words",
        "<p class=\"x\">",
        "</p>",
        "crew~sea.example ^^ a[0] 50%",
        "<style>a { b: c }</style>",
        "<script>if (a < b) { c(\"}\") }</script>",
        "\n  ",
        "é {x} (y)",
    ];
    random.pick(&TEXTS).to_owned()
}

/// Random tags of every form, pairs with content, and text that looks like tags.
fn template(random: &mut Random, dialect: &Dialect, depth: usize) -> String {
    let mut out = String::new();
    for _ in 0..random.below(5) {
        out += &text(random);
        let form: &Form = &dialect.forms[random.below(dialect.forms.len())];
        let name = *random.pick(&[&WORDS[0], &WORDS[3], &WORDS[4]]);
        if form.is_attribute() {
            let attribute = tag(random, &form.open, name);
            out += &format!(
                "<div {attribute}>{}</div>",
                if depth < 3 { template(random, dialect, depth + 1) } else { String::new() }
            );
            continue;
        }
        out += &tag(random, &form.open, name);
        if form.is_pair() {
            let inert = matches!(form.kind, Kind::Verbatim | Kind::Comment);
            if depth < 3 && !inert {
                out += &template(random, dialect, depth + 1);
            }
            if let Some(branch) = form.branch.first().filter(|_| random.once_in(2)) {
                out += &(tag(random, branch, name) + &text(random));
            }
            let close = random.below(form.close.len());
            out += &form.close.get(close).map_or("}".to_owned(), |close| tag(random, close, name));
        }
        out += " ";
    }
    out
}

#[test]
fn what_is_read_is_written_as_it_was() {
    let first = seed("read and write");
    for engine in ENGINES {
        let loaded = disk::load(&folder(engine).join("site")).expect("a site");
        for dialect in loaded.dialects.iter().filter(|dialect| !dialect.forms.is_empty()) {
            let mut constructs = 0;
            for case in 0..cases(150, 20_000) {
                let source = template(&mut Random(first + case), dialect, 0);
                let document = Document::read(source.as_bytes(), dialect);
                let mut at = 0;
                for item in &document.constructs.items {
                    let written = item.write(source.as_bytes(), dialect);
                    let read = item.span.text(source.as_bytes());
                    assert_eq!(written, read, "{}, seed {}: {source}", dialect.name, first + case);
                    assert!(
                        item.span.start >= at,
                        "{}, seed {}: constructs overlap: {source}",
                        dialect.name,
                        first + case
                    );
                    at = item.span.end;
                }
                let tiled: Vec<u8> =
                    document.tokens.iter().flat_map(|token| token.span().of(source.as_bytes())).copied().collect();
                assert_eq!(tiled, source.as_bytes(), "{}, seed {}", dialect.name, first + case);
                constructs += document.constructs.items.len();
            }
            assert!(constructs as u64 > 2 * cases(150, 20_000), "{}: only {constructs} constructs", dialect.name);
        }
    }
}

#[test]
fn dialect_files_are_short() {
    for engine in ENGINES {
        for (path, text) in files(&folder(engine).join("site/dialects")) {
            assert!(text.iter().filter(|&&b| b == b'\n').count() < 40, "{path}");
        }
    }
}

/// A flattened page has nothing left to flatten.
#[test]
fn a_flattened_page_stays_as_it_is() {
    let mut pages = 0;
    for engine in ENGINES {
        let loaded = disk::load(&folder(engine).join("site")).expect("a site");
        for (path, bytes) in files(&folder(engine).join("expected")) {
            // Scopes are marked by comments, which go.
            if String::from_utf8_lossy(&bytes).contains("end with") {
                continue;
            }
            let dialect = loaded.site.get(loaded.site.find(&path).expect("the page")).dialect.clone();
            let alone =
                Site::read(vec![SourceFile::new(path.clone(), bytes.clone())], &[dialect], &Settings::default());
            let id = alone.find(&path).expect("the page");
            let again = Resolver::new(&alone).flatten(id).expect("a page of a sane size");
            assert_eq!(String::from_utf8_lossy(&again.bytes), String::from_utf8_lossy(&bytes), "{engine}: {path}");
            pages += 1;
        }
    }
    assert!(pages > 7, "only {pages} pages");
}
