//! Chains in dialects of many shapes: what a page shows of each block, what is
//! lost, and where regions come from.

use std::sync::Arc;

use radicon::dialect::Dialect;
use radicon::resolve::{BlockState, ChainBlock, ChainReport};
use radicon::{Resolver, Settings, Site, SourceFile};

const FORMS: &str = "name = 't'
files = ['**/*.t']
[forms]
parent    = '((under <target>))'
block     = { open = '((lamp <name>))', close = '((dark))' }
slot      = ['((hook <name>))', '((hook <name> \"<value>\"))', { open = '((must <name>))', required = true },
             { open = '((ring <name>))', close = '((dark))' }]
fill      = ['((hang <name> \"<value>\"))', { open = '((hang <name>))', close = '((dark))' }]
body      = '((here))'
inherited = '((above))'
include   = ['((take <target> [<args>]))', '((part <name>))']
wrap      = { open = '((wrap <target> [<args>]))', close = '((dark))' }
part      = { open = '((define <name>))', close = '((dark))' }
control   = { open = '((if <expr>))', branch = '((else))', close = '((dark))' }
set       = '((let <name> = <expr>))'
output    = '((= <expr>))'
comment   = '((# <text>))'
";

fn site(rules: &str, files: &[(&str, &str)]) -> Site {
    let dialect = Arc::new(Dialect::parse(&format!("{FORMS}[rules]\n{rules}\n")).expect("a dialect"));
    let files = files.iter().map(|(path, text)| SourceFile::new(*path, *text)).collect();
    Site::read(files, &[dialect], &Settings::default())
}

fn report(rules: &str, files: &[(&str, &str)], page: &str) -> ChainReport {
    let site = site(rules, files);
    Resolver::new(&site).chain_report(site.find(page).expect("the page"))
}

#[track_caller]
fn flat(rules: &str, files: &[(&str, &str)], expected: &str) {
    let site = site(rules, files);
    let page = Resolver::new(&site).flatten(site.find("page.t").expect("the page")).expect("a page of a sane size");
    assert_eq!(String::from_utf8_lossy(&page.bytes), expected, "{:?}", page.problems);
}

fn block<'r>(report: &'r ChainReport, name: &str) -> &'r ChainBlock {
    report.blocks.iter().find(|block| block.name == name).unwrap_or_else(|| panic!("no {name} in {report:?}"))
}

#[test]
fn each_state_of_a_block_is_told() {
    let base = "((hook a))((hook b \"B\"))((ring c))C((dark))((must d))((lamp e))E((lamp f))F((dark))((dark))((lamp g))((dark))";
    let page = "((under base.t))((hang b \"b\"))((lamp e))own((dark))((hang z))lost((dark))";
    let report = report("", &[("base.t", base), ("page.t", page)], "page.t");
    for (name, state, effective, required) in [
        ("a", BlockState::Empty, "", false),
        ("b", BlockState::Overridden, "page.t", false),
        ("c", BlockState::Default, "base.t", false),
        ("d", BlockState::Unfilled, "", true),
        ("e", BlockState::Overridden, "page.t", false),
        ("f", BlockState::Replaced, "base.t", false),
        ("g", BlockState::Empty, "base.t", false),
        ("z", BlockState::Lost, "page.t", false),
    ] {
        let block = block(&report, name);
        assert_eq!((block.state, block.effective.as_str(), block.required), (state, effective, required), "{name}");
    }
    assert_eq!(block(&report, "f").within.as_deref(), Some("e"));
    assert_eq!(block(&report, "b").preview, "b");
    assert!(
        report.problems.iter().any(|problem| problem.message.contains("`d` is not filled")),
        "{:?}",
        report.problems
    );
    let order: Vec<_> = report.blocks.iter().map(|block| block.name.as_str()).collect();
    assert_eq!(order, ["a", "b", "c", "d", "e", "f", "g", "z"]);
}

#[test]
fn inherited_content_is_told_level_by_level() {
    let files = [
        ("base.t", "<((lamp a))0((dark))>"),
        ("mid.t", "((under base.t))\n((hang a))1((above))((dark))"),
        ("top.t", "((under mid.t))\n((hang a))\n2((above))\n((above))((dark))"),
        ("page.t", "((under top.t))\n\n((hang a))3((above))((dark))"),
    ];
    flat("", &files, "<3\n210\n10>");
    let report = report("", &files, "page.t");
    let definitions = &block(&report, "a").definitions;
    let told: Vec<_> = definitions.iter().map(|d| (d.file.as_str(), d.line, d.inherited_at.clone(), d.shown)).collect();
    let expected = [
        ("page.t", 3, vec![3], true),
        ("top.t", 2, vec![3, 4], true),
        ("mid.t", 2, vec![2], true),
        ("base.t", 1, vec![], true),
    ];
    assert_eq!(told, expected);
}

#[test]
fn loose_content_is_lost_only_where_it_is_ignored() {
    let files = [("base.t", "<((here))>"), ("page.t", "((under base.t))\n <p>loose</p>\n((# note))((let x = 1))")];
    for (rules, lost) in [("loose = 'ignored'", 1), ("loose = 'body'", 0), ("loose = 'before'", 0)] {
        let report = report(rules, &files, "page.t");
        assert_eq!(report.lost.len(), lost, "{rules}: {:?}", report.lost);
    }
    let report = report("loose = 'ignored'", &files, "page.t");
    assert_eq!((report.lost[0].place.line, report.lost[0].preview.as_str()), (2, "<p>loose</p>"));
}

#[test]
fn loose_content_fills_bodies_through_all_levels() {
    let files = [
        ("base.t", "<((here))|((hook a))>"),
        ("mid.t", "((under base.t))[((here))]((hang a))A((here))((dark))"),
        ("page.t", "((under mid.t))((let t = 1))text((if x))((let u = 2))((dark))"),
    ];
    // A body in a fill is the body of the template that the fill stands in.
    flat(
        "loose = 'body'",
        &files,
        "((let t = 1))<[text((if x))((let u = 2))((dark))]|Atext((if x))((let u = 2))((dark))>",
    );
}

#[test]
fn wraps_take_a_body_and_fills() {
    let files = [
        ("box.t", "<div ((hook kind \"plain\"))>((here))</div>((hook foot))"),
        ("outer.t", "{((wrap box.t))((here))((hang foot))O((dark))((dark))}"),
        (
            "page.t",
            "((wrap outer.t))text((hang foot \"lost\"))((wrap box.t))((hang kind \"red\"))inner((dark))((dark))",
        ),
    ];
    flat("", &files, "{<div plain>text<div red>inner</div></div>O}");
}

#[test]
fn parts_are_found_in_the_chain_then_anywhere() {
    let files = [
        ("base.t", "((part menu)),((part foot)),((part own))"),
        ("parts.t", "((define foot))F((dark))((define menu))M((dark))"),
        ("page.t", "((under base.t))((define menu))P((part own))((dark))((define own))o((dark))"),
    ];
    flat("", &files, "Po,F,o");
    let site = site("", &[("page.t", "((part none))((define a))((part a))((dark))((part a))")]);
    let page = Resolver::new(&site).flatten(site.find("page.t").expect("a page")).expect("a page of a sane size");
    let problems: Vec<_> = page.problems.iter().map(|problem| problem.message.as_str()).collect();
    assert_eq!(problems, ["no file defines the part `none`", "the part `a` includes itself"]);
}

#[test]
fn conditions_around_bindings_are_kept_with_them() {
    let files = [
        ("base.t", "<((= x))>"),
        (
            "page.t",
            "((under base.t))((if a))lost((let x = 1))((else))((if b))((let x = 2))((dark))((dark))((if c))nothing((dark))",
        ),
    ];
    flat("", &files, "((if a))((let x = 1))((else))((if b))((let x = 2))((dark))((dark))<((= x))>");
}

#[test]
fn a_layout_counts_who_overrides_what() {
    let files = [
        ("base.t", "((lamp a))A((dark))((must b))"),
        ("mid.t", "((under base.t))((hang b))[((hook c))]((dark))"),
        ("one.t", "((under mid.t))((hang a))1((dark))((hang c))1((dark))"),
        ("two.t", "((under mid.t))((hang c))2((dark))"),
    ];
    let base = report("", &files, "base.t");
    let counts: Vec<_> = base.blocks.iter().map(|block| (block.name.as_str(), block.overridden_below)).collect();
    assert_eq!(counts, [("a", 1), ("b", 1)]);
    let mid = report("", &files, "mid.t");
    let counts: Vec<_> =
        mid.blocks.iter().map(|block| (block.name.as_str(), block.overridden_below, block.state)).collect();
    assert_eq!(counts, [("a", 1, BlockState::Default), ("b", 0, BlockState::Overridden), ("c", 2, BlockState::Empty)]);
}

#[test]
fn one_block_is_shown_over_all_pages() {
    let files = [
        ("base.t", "((lamp a))A((dark))"),
        ("one.t", "((under base.t))((hang a))1((above))((dark))"),
        ("two.t", "((under base.t))"),
        ("alone.t", "((if x))((dark))"),
    ];
    let site = site("", &files);
    let resolver = Resolver::new(&site);
    let report = resolver.block_report("a");
    let told: Vec<_> = report
        .pages
        .iter()
        .map(|page| {
            (page.page.as_str(), page.state, page.inherits, page.from.as_ref().map(|place| place.file.as_str()))
        })
        .collect();
    let expected =
        [("one.t", BlockState::Overridden, true, Some("one.t")), ("two.t", BlockState::Default, false, Some("base.t"))];
    assert_eq!(told, expected);
    assert_eq!(resolver.block_names(), ["a"]);
    assert!(resolver.block_report("b").pages.is_empty());
}

#[test]
fn every_page_is_put_together_in_order() {
    let site = site("", &[("b.t", "((take part.t))"), ("a.t", "((# x))a"), ("part.t", "p((if x))((dark))")]);
    let pages = Resolver::new(&site).flatten_all().expect("pages of a sane size");
    let told: Vec<_> = pages.iter().map(|(id, flat)| (site.get(*id).path.as_str(), flat.bytes.len())).collect();
    assert_eq!(told, [("a.t", 1), ("b.t", 17)]);
}

#[test]
fn mistakes_in_forms_are_explained() {
    for (forms, line, column, words) in [
        ("slot = 'x'", 3, 9, "begin with"),
        ("slot = '((x))'", 3, 8, "where <name> stands"),
        ("include = '((x))'", 3, 11, "<target> or <name>"),
        ("wrap = '((x <target>))'", 3, 8, "must be a pair"),
        ("fill = '((x <name>))'", 3, 8, "must be a pair"),
        ("part = { open = '((x <name>))' }", 3, 8, "needs `close` or `balanced`"),
        ("fill = { open = '((x <name> {', balanced = '{' }", 3, 44, "two brackets"),
        ("fill = { open = '((x <name>', balanced = '{}' }", 3, 17, "must end with `{`"),
        ("slot = { open = '((x <name>))', requried = true }", 3, 33, "did you mean `required`?"),
        ("include = { open = '<* x=\"<target>\">', element = 'gone' }", 3, 50, "kept, replaced"),
        ("include = '<* x=\"<target>\"'", 3, 27, "ends with `>`"),
        ("output = '((= <expr>'", 3, 21, "line = true"),
    ] {
        let error = Dialect::parse(&format!("name = 't'\n[forms]\n{forms}\n")).expect_err(forms);
        assert!(error.message.contains(words), "{forms}: {error}");
        assert_eq!((error.at.line, error.at.column), (line, column), "{forms}: {error}");
    }
}
