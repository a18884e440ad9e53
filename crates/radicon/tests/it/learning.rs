//! Dialects are learned from sites: from those of the fixture engines without their dialect
//! files, and from sites of made-up engines.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use crate::common::{Random, cases, seed};
use crate::made::dirty::{self, Columns, columns};
use crate::made::learning::{Outcome, outcome};
use radicon::dialect::{self, Dialect, Kind};
use radicon::learn::{Confidence, Learned, learn};
use radicon::{Resolver, Settings, Site, SourceFile, disk};

const ENGINES: [&str; 8] = ["lantern", "signal", "helm", "crate", "canvas", "buoy", "pier", "mooring"];

fn fixture(engine: &str, part: &str) -> Vec<SourceFile> {
    let folder: PathBuf = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/fixtures").join(engine).join(part);
    let files = disk::rendered_pages(&folder).expect("a folder");
    files.into_iter().filter(|file| !file.path.ends_with(".toml")).collect()
}

/// What is learned from the site of a fixture engine without any dialect that is known, and its
/// pages put together so.
fn learned_fixture(engine: &str) -> (Vec<Learned>, Vec<(String, String, String)>) {
    let own = fixture(engine, "site");
    let expected = fixture(engine, "expected");
    let mut files = own.clone();
    files.extend(fixture(engine, "more"));
    files.sort_by(|a, b| a.path.cmp(&b.path));
    let found = learn(&files, &[], &expected);
    let dialects: Vec<Arc<Dialect>> =
        found.iter().map(|learned| Arc::new(learned.dialect().expect("a dialect"))).collect();
    let settings: String = found.iter().map(|learned| learned.settings.as_str()).collect();
    let site = Site::read(files, &dialects, &Settings::parse(&settings).expect("settings"));
    let resolver = Resolver::new(&site);
    let pages = expected.iter().map(|page| {
        let flat = site.find(&page.path).map(|id| resolver.flatten(id).expect("a page of a sane size").bytes);
        let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
        (page.path.clone(), text(&page.bytes), text(&flat.unwrap_or_default()))
    });
    let pages = pages.collect();
    (found, pages)
}

#[test]
fn the_fixture_engines_are_learned_from_their_sites() {
    let mut wrong = Vec::new();
    for engine in ENGINES {
        let (learned, pages) = learned_fixture(engine);
        for (path, expected, found) in pages {
            if expected != found {
                wrong.push(format!("{engine}: {path}\n{expected}\n---- but found\n{found}\n"));
                learned.iter().for_each(|learned| println!("{}", learned.text));
            }
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

/// Made-up engines with random sites. The figures of many stand in the example `learned`.
#[test]
fn made_up_engines_are_learned() {
    let first = seed("made-up engines");
    let mut all = Outcome::default();
    for case in 0..cases(60, 600) {
        let mut random = Random((first + case) * 7_919);
        let engine = crate::made::engines::engine(&mut random);
        let templates = 10 + random.below(40);
        let made = crate::made::written::mixed_site(&mut random, &engine, templates);
        let found = outcome(&engine, &made, false);
        assert_eq!(found.wrong_sure, 0, "seed {}: {:?}", first + case, found.notes);
        all.add(&found);
    }
    println!("{all}");
    assert!(all.right * 1000 >= all.constructs * 980, "{all}");
    assert!(all.exact * 100 >= all.sites * 90, "{all}");
    assert!(all.sure > 3 * all.sites, "{all}");
}

/// Sites in the notations of the fixture engines, as dirty as real ones: everything that makes structure
/// is read, and nothing else is.
#[test]
fn dirty_sites_of_the_fixture_engines_are_read() {
    let first = seed("dirty sites");
    for engine in dirty::ENGINES {
        let mut all = Columns::default();
        for case in 0..cases(2, 40) {
            let site = dirty::site(&mut Random((first + case) * 7_919), engine, 60);
            all.add(&columns(&site, false));
        }
        println!("{engine:8} {all}");
        assert!(all.is_read(), "{engine} {all}");
    }
}

fn files(list: &[(&str, &str)]) -> Vec<SourceFile> {
    list.iter().map(|(path, text)| SourceFile::new(*path, *text)).collect()
}

/// What a dialect does not explain is learned on top of it; its own file stays as it is written.
#[test]
fn a_known_dialect_is_extended() {
    let mut pages = vec![
        ("base.html".to_owned(), "<html><title>{% block title %}Ferries{% endblock %}</title>{% hook contact %}{% block main %}{% endblock %}</html>".to_owned()),
    ];
    for name in ["pier", "quay", "cove", "mole"] {
        pages.push((
            format!("{name}.html"),
            format!("{{% extends 'base.html' %}}{{% block title %}}{name}{{% endblock %}}{{% block contact %}}Tel. 7{{% endblock %}}{{% block main %}}{{% cached 60 %}}<p>{name}</p>{{% endcached %}}{{% endblock %}}"),
        ));
    }
    let list: Vec<(&str, &str)> = pages.iter().map(|(path, text)| (path.as_str(), text.as_str())).collect();
    let found = learn(&files(&list), dialect::builtin(), &[]);
    let [learned] = &found[..] else { panic!("{} dialects", found.len()) };
    assert_eq!(learned.extends.as_deref(), Some("brace-percent"));
    let kinds: Vec<_> = learned.forms.iter().map(|form| (form.kind, form.form.as_str())).collect();
    assert!(kinds.contains(&(Kind::Slot, "\"{% hook <name> %}\"")), "{kinds:?}");
    assert!(kinds.iter().any(|(kind, form)| *kind == Kind::Control && form.contains("endcached")), "{kinds:?}");
    let known = dialect::builtin_named("brace-percent").expect("a dialect");
    for line in known
        .text
        .lines()
        .filter(|line| line.starts_with("block") || line.starts_with("parent") || line.starts_with("#"))
    {
        assert!(learned.text.contains(line), "{line}\n{}", learned.text);
    }
}

/// No engine is a possible answer: plain pages, scripts and mail addresses are none.
#[test]
fn where_there_is_no_engine_nothing_is_learned() {
    let page = |n: usize| {
        format!(
            "<!DOCTYPE html><html><head><style>@media print {{ a {{ b: c }} }}</style><script>let a = {{ b: [1], c: `${{d}}` }};</script></head><body><p>crew@sea.example (see [{n}]) {{not}} 50%! <a href=\"page-{n}.html\">{n}</a></p><!-- menu --></body></html>"
        )
    };
    let pages: Vec<SourceFile> = (0..40).map(|n| SourceFile::new(format!("page-{n}.html"), page(n))).collect();
    assert!(learn(&pages, dialect::builtin(), &[]).is_empty());
    for book in ["nomicon", "book"] {
        let Some(folder) = crate::common::book(book) else { continue };
        let files: Vec<SourceFile> = crate::common::pages(&folder)
            .iter()
            .map(|path| {
                SourceFile::new(
                    path.file_name().expect("a name").to_string_lossy(),
                    std::fs::read(path).expect("a file"),
                )
            })
            .collect();
        let found = learn(&files, dialect::builtin(), &[]);
        assert!(found.is_empty(), "{book}: {}", found[0].text);
    }
}

/// Rules that templates alone cannot show are settled from rendered pages, or said to be open.
#[test]
fn rendered_pages_settle_what_templates_cannot_show() {
    let own: Vec<SourceFile> = fixture("lantern", "site").into_iter().chain(fixture("lantern", "more")).collect();
    let alone = learn(&own, dialect::builtin(), &[]);
    assert!(!alone[0].text.contains("newline") && alone[0].settled.is_empty(), "{}", alone[0].text);
    let settled = learn(&own, dialect::builtin(), &fixture("lantern", "expected"));
    assert!(settled[0].text.contains("newline = \"eaten\""), "{}", settled[0].text);
    assert!(settled[0].settled.iter().any(|line| line.starts_with("newline")), "{:?}", settled[0].settled);
}

/// Few uses are not enough to be sure: the form is asked for, and left out.
#[test]
fn what_cannot_be_decided_is_asked() {
    let mut pages = vec![(
        "base.html",
        "<html><title>(~ lamp title ~)Ferries(~ out ~)</title>(~ lamp main ~)<p>x</p>(~ out ~)</html>".to_owned(),
    )];
    for name in ["a.html", "b.html", "c.html", "d.html"] {
        let before = if name == "a.html" { "(~ before ~)" } else { "" };
        pages.push((
            name,
            format!(
                "(~ hangs \"base.html\" ~)(~ lamp title ~){name}(~ out ~)(~ lamp main ~){before}<p>{name}</p>(~ out ~)"
            ),
        ));
    }
    let list: Vec<(&str, &str)> = pages.iter().map(|(path, text)| (*path, text.as_str())).collect();
    let found = learn(&files(&list), dialect::builtin(), &[]);
    let asked: Vec<_> = found[0].forms.iter().filter(|form| form.confidence == Confidence::Asked).collect();
    assert_eq!(asked.len(), 1, "{}", found[0].text);
    assert_eq!((asked[0].kind, asked[0].uses), (Kind::Inherited, 1));
    assert!(found[0].questions[0].contains("a.html:1"), "{:?}", found[0].questions);
    let dialect = found[0].dialect().expect("a dialect");
    assert!(dialect.form(Kind::Inherited).is_none() && dialect.has_layouts());
}

/// Two engines in one tree, told apart by their suffixes; each gets its own file.
#[test]
fn two_engines_are_told_apart() {
    let mut all: Vec<SourceFile> = Vec::new();
    for engine in ["lantern", "signal"] {
        all.extend(fixture(engine, "site"));
        all.extend(fixture(engine, "more"));
    }
    all.sort_by(|a, b| a.path.cmp(&b.path));
    let found = learn(&all, dialect::builtin(), &[]);
    let names: Vec<_> = found.iter().map(|learned| (learned.name.as_str(), learned.files[0].as_str())).collect();
    assert_eq!(names, [("learned-html", "**/*.html"), ("learned-sail-html", "**/*.sail.html")]);
    assert!(found[0].text.contains("lamp <name>") && !found[0].text.contains("moor"), "{}", found[0].text);
    assert!(found[1].text.contains("~moor(\"<name>\")") && !found[1].text.contains("lamp"), "{}", found[1].text);
}

/// An unknown engine beside files of a known one, with the same suffix.
#[test]
fn an_unknown_engine_stands_beside_a_known_one() {
    let mut all: Vec<SourceFile> = fixture("lantern", "site").into_iter().chain(fixture("lantern", "more")).collect();
    all.push(SourceFile::new("shop/base.html", "<html>{% block a %}{% endblock %}</html>"));
    for n in 0..4 {
        let text = format!("{{% extends 'shop/base.html' %}}{{% block a %}}{n}{{% endblock %}}");
        all.push(SourceFile::new(format!("shop/{n}.html"), text));
    }
    let found = learn(&all, dialect::builtin(), &[]);
    let [learned] = &found[..] else { panic!("{} dialects", found.len()) };
    assert!(learned.extends.is_none() && learned.text.contains("lamp <name>"), "{}", learned.text);
    assert_eq!((learned.name.as_str(), learned.files[0].as_str()), ("learned-lamps-html", "lamps/**/*.html"));
}

/// Two engines with one suffix in one folder: each page is read as what it is.
#[test]
fn two_notations_in_one_folder_are_both_read() {
    let mut pages: Vec<(String, String)> = vec![
        (
            "one.html".into(),
            "<html><title>(~ lamp title ~)Ferries(~ out ~)</title><main>(~ lamp main ~)(~ out ~)</main></html>".into(),
        ),
        ("two.html".into(), "<html><h1>{+ berth \"head\" +}</h1><div>{+ berth \"text\" +}</div></html>".into()),
    ];
    for n in 0..5 {
        pages.push((
            format!("a-{n}.html"),
            format!("(~ hangs \"one.html\" ~)(~ lamp title ~)Pier {n}(~ out ~)(~ lamp main ~)<p>{n}</p>(~ out ~)"),
        ));
        pages.push((
            format!("b-{n}.html"),
            format!("{{+ hull \"two.html\" +}}{{+ moor \"head\" +}}Quay {n}{{+ cast +}}{{+ moor \"text\" +}}<i>{n}</i>{{+ cast +}}"),
        ));
    }
    let list: Vec<(&str, &str)> = pages.iter().map(|(path, text)| (path.as_str(), text.as_str())).collect();
    let found = learn(&files(&list), dialect::builtin(), &[]);
    let dialects: Vec<Arc<Dialect>> =
        found.iter().map(|learned| Arc::new(learned.dialect().expect("a dialect"))).collect();
    let site = Site::read(files(&list), &dialects, &Settings::default());
    let resolver = Resolver::new(&site);
    let flat = |path: &str| {
        let id = site.find(path).expect("a page");
        String::from_utf8(resolver.flatten(id).expect("a page of a sane size").bytes).expect("text")
    };
    for n in 0..5 {
        let first = format!("<html><title>Pier {n}</title><main><p>{n}</p></main></html>");
        assert_eq!(flat(&format!("a-{n}.html")), first, "{}", found[0].text);
        assert_eq!(flat(&format!("b-{n}.html")), format!("<html><h1>Quay {n}</h1><div><i>{n}</i></div></html>"));
    }
}

/// What is learned holds whatever the order of the files and the number of threads.
#[test]
fn learning_is_deterministic() {
    let mut all: Vec<SourceFile> = fixture("signal", "site").into_iter().chain(fixture("signal", "more")).collect();
    let once = learn(&all, dialect::builtin(), &[]);
    let pool = rayon::ThreadPoolBuilder::new().num_threads(1).build().expect("a pool");
    let alone = pool.install(|| learn(&all, dialect::builtin(), &[]));
    assert_eq!(once[0].text, alone[0].text);
    all.sort_by(|a, b| b.path.cmp(&a.path));
    let turned = learn(&all, dialect::builtin(), &[]);
    let forms = |learned: &Learned| {
        let mut forms: Vec<_> = learned.forms.iter().map(|form| (form.kind, form.form.clone())).collect();
        forms.sort();
        forms
    };
    assert_eq!(forms(&once[0]), forms(&turned[0]));
}

/// Bad input: nothing panics, and what can be learned is.
#[test]
fn broken_files_do_no_harm() {
    let mut all: Vec<SourceFile> = fixture("lantern", "site").into_iter().chain(fixture("lantern", "more")).collect();
    all.push(SourceFile::new("lamps/latin.html", &b"[~ hangs \"base\" ~][~ lamp main ~]caf\xe9[~ out ~]"[..]));
    all.push(SourceFile::new("lamps/torn.html", "[~ hangs \"base\" [~ lamp main ~] [~ out"));
    all.push(SourceFile::new("lamps/empty.html", ""));
    all.push(SourceFile::new("lamps/[odd] na\"me'.html", "<p>x</p>"));
    let found = learn(&all, dialect::builtin(), &[SourceFile::new("gone.html", "<p>"), SourceFile::new("", "")]);
    assert!(found[0].text.contains("lamp <name>"), "{}", found[0].text);
    // One file with thousands of pairs that nothing closes makes doubts, but no harm.
    all.push(SourceFile::new("lamps/deep.html", "[~ lamp a ~]".repeat(3_000)));
    assert!(learn(&all, dialect::builtin(), &[])[0].text.contains("hangs"));
    for text in ["", "<", "{%", "[~ [~ [~", "\u{feff}", "^{ a = \"", "@@@@ @a( @b{", "<x-", "<a b-c='"] {
        let files: Vec<SourceFile> = (0..3).map(|n| SourceFile::new(format!("{n}.html"), text.repeat(5))).collect();
        assert!(learn(&files, &[], &[]).is_empty(), "{text}");
    }
}
