//! Folder rules: layouts that pages do not name, and files around them.

use std::sync::Arc;

use radicon::dialect::Dialect;
use radicon::site::{Parent, Role};
use radicon::{Resolver, Settings, Site, SourceFile};

const DIALECT: &str = "name = 't'\nfiles = ['**/*.t']\n[forms]\n\
    parent = ['((under <target>))', '((alone))']\nblock = { open = '((lamp <name>))', close = '((dark))' }\n\
    inherited = '((above))'\noutput = '((= <expr>))'\n[targets]\nsuffixes = ['.t', '']\n";

#[track_caller]
fn site(settings: &str, files: &[(&str, &str)]) -> Site {
    let dialect = Arc::new(Dialect::parse(DIALECT).expect("a dialect"));
    let files = files.iter().map(|(path, text)| SourceFile::new(*path, *text)).collect();
    Site::read(files, &[dialect], &Settings::parse(settings).expect("settings"))
}

#[track_caller]
fn check(site: &Site, pages: &[(&str, &str)]) {
    for (page, expected) in pages {
        let id = site.find(page).unwrap_or_else(|| panic!("no {page}"));
        let flat = Resolver::new(site).flatten(id).expect("a page of a sane size");
        assert_eq!(String::from_utf8_lossy(&flat.bytes), *expected, "{page}: {:?}", flat.problems);
    }
}

/// A frame that shows its own name around block `a`.
fn frame(name: &str) -> String {
    format!("{name}<((lamp a))((dark))>")
}

const PAGE: &str = "((lamp a))x((dark))";

#[test]
fn the_deepest_rule_holds_key_by_key() {
    let settings = "[[folder]]\nlayout = 'one.t'\nbefore = ['head.t']\n[[folder]]\npath = 'a'\nlayout = 'two.t'\n\
        [[folder]]\npath = 'a/b'\nafter = ['foot.t']\nexcept = ['a/b/raw*']\n";
    let (one, two) = (frame("1"), frame("2"));
    let site = site(
        settings,
        &[
            ("one.t", &one),
            ("two.t", &two),
            ("head.t", "H"),
            ("foot.t", "F"),
            ("x.t", PAGE),
            ("a/x.t", PAGE),
            ("a/b/x.t", PAGE),
            ("a/b/raw.t", PAGE),
            ("ab/x.t", PAGE),
            ("a/alone.t", "((alone))x"),
        ],
    );
    let pages = [
        ("x.t", "H1<x>"),
        ("a/x.t", "H2<x>"),
        ("a/b/x.t", "H2<x>F"),
        ("a/b/raw.t", "H2<x>"),
        ("ab/x.t", "H1<x>"),
        ("a/alone.t", "x"),
    ];
    check(&site, &pages);
    assert_eq!(*site.parent(site.find("a/alone.t").expect("a page")), Parent::OptedOut);
    let roles = ["one.t", "head.t", "foot.t", "x.t"].map(|path| site.get(site.find(path).expect("a file")).role);
    assert_eq!(roles, [Role::Layout, Role::Partial, Role::Partial, Role::Page]);
}

#[test]
fn the_nearest_marker_speaks_for_its_folder() {
    let (one, two) = (frame("1"), frame("2"));
    let site = site(
        "[[folder]]\nmarker = 'start.t'\n",
        &[
            ("start.t", "((under one))"),
            ("one.t", &one),
            ("two.t", &two),
            ("x.t", PAGE),
            ("a/x.t", PAGE),
            ("a/b/start.t", "((under two))"),
            ("a/b/x.t", PAGE),
            ("a/b/c/x.t", PAGE),
            ("a/b/own.t", "((under one))((lamp a))y((dark))"),
        ],
    );
    check(
        &site,
        &[("x.t", "1<x>"), ("a/x.t", "1<x>"), ("a/b/x.t", "2<x>"), ("a/b/c/x.t", "2<x>"), ("a/b/own.t", "1<y>")],
    );
    assert_eq!(site.get(site.find("a/b/start.t").expect("the marker")).role, Role::Marker);
    assert!(site.pages().all(|id| !site.get(id).path.ends_with("start.t")));
}

#[test]
fn a_layout_file_is_looked_for_upwards_then_in_its_folder() {
    let settings = "[[folder]]\npath = 'docs'\nlayout-file = 'frame.t'\nlayout-folder = 'usual'\n";
    let (one, two) = (frame("1"), frame("2"));
    let files: &[(&str, &str)] = &[
        ("usual/frame.t", &one),
        ("docs/a/frame.t", &two),
        ("docs/x.t", PAGE),
        ("docs/a/x.t", PAGE),
        ("docs/a/b/x.t", PAGE),
        ("frame.t", "never"),
        ("other/x.t", PAGE),
    ];
    let pages = [("docs/x.t", "1<x>"), ("docs/a/x.t", "2<x>"), ("docs/a/b/x.t", "2<x>"), ("other/x.t", "x")];
    check(&site(settings, files), &pages);
}

#[test]
fn layout_files_may_be_nested() {
    let inner = "((lamp a))[((lamp b))((dark))]((dark))";
    let page = "((lamp b))x((dark))";
    let one = frame("1");
    let files: &[(&str, &str)] = &[
        ("frame.t", &one),
        ("a/frame.t", inner),
        ("a/b/c/frame.t", "((lamp b))(((above))((lamp d))((dark)))((dark))"),
        ("a/x.t", page),
        ("a/b/x.t", page),
        ("a/b/c/x.t", "((lamp d))x((dark))"),
    ];
    let settings = "[[folder]]\nlayout-file = 'frame.t'\nnested = true\n";
    check(&site(settings, files), &[("a/x.t", "1<[x]>"), ("a/b/x.t", "1<[x]>"), ("a/b/c/x.t", "1<[(x)]>")]);
    let flat = site("[[folder]]\nlayout-file = 'frame.t'\n", files);
    check(&flat, &[("a/x.t", "[x]"), ("a/b/x.t", "[x]")]);
}

#[test]
fn a_page_without_constructs_gets_the_dialect_of_its_layout() {
    let body = DIALECT.replace("inherited", "body = '((here))'\ninherited") + "[rules]\nloose = 'body'\n";
    let dialect = Arc::new(Dialect::parse(&body).expect("a dialect"));
    let files = vec![SourceFile::new("frame.t", "<((here))>"), SourceFile::new("x.t", "just text\n")];
    let settings = Settings::parse("[[folder]]\nlayout = 'frame.t'\n").expect("settings");
    let site = Site::read(files, &[dialect], &settings);
    check(&site, &[("x.t", "<just text\n>")]);
}

#[test]
fn a_rule_may_say_the_dialect() {
    let dialect = Arc::new(Dialect::parse(&DIALECT.replace("*.t'", "*.html'")).expect("a dialect"));
    let mut dialects = radicon::dialect::builtin().to_vec();
    dialects.push(dialect);
    let files =
        || vec![SourceFile::new("a/x.html", "((= y))"), SourceFile::new("b/x.html", "{% if x %}((= y)){% endif %}")];
    let name = |site: &Site, path: &str| site.get(site.find(path).expect("a file")).dialect.name.clone();
    let plain = Site::read(files(), &dialects, &Settings::default());
    assert_eq!((name(&plain, "a/x.html"), name(&plain, "b/x.html")), ("plain".into(), "brace-percent".into()));
    let settings = Settings::parse("[[folder]]\npath = 'a'\ndialect = 't'\n").expect("settings");
    let ruled = Site::read(files(), &dialects, &settings);
    assert_eq!((name(&ruled, "a/x.html"), name(&ruled, "b/x.html")), ("t".into(), "brace-percent".into()));
}

#[test]
fn rules_hold_for_proposals_too() {
    let one = frame("1");
    let old = site("[[folder]]\nlayout = 'one.t'\n", &[("one.t", &one), ("x.t", PAGE)]);
    let dialects = [old.templates[0].dialect.clone()];
    let new = old.with_files(vec![SourceFile::new("one.t", frame("2")), SourceFile::new("x.t", PAGE)], &dialects);
    check(&new, &[("x.t", "2<x>")]);
}
