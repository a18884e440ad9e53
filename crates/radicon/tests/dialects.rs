//! One pattern both reads and writes: what a form writes, its dialect reads.
#![allow(missing_docs)]

use proptest::prelude::*;
use radicon::dialect::{self, Dialect, Kind, Part, Values};
use radicon::markup::Constructs;

/// The constructs of a text that holds one tag between two words.
fn read(dialect: &Dialect, tag: &str) -> (Vec<(Kind, Part, [String; 3])>, bool) {
    let text = format!("before {tag} after");
    let found = Constructs::read(text.as_bytes(), dialect);
    let show = |item: &radicon::markup::Construct| {
        let captured = [item.target, item.name, item.expr].map(|span| span.text(text.as_bytes()).into_owned());
        (item.kind, item.part, captured)
    };
    let whole = found.items.first().is_some_and(|item| item.span.text(text.as_bytes()) == tag);
    (found.items.iter().map(show).collect(), whole)
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn what_a_form_writes_is_read_back(
        target in "[a-z]{1,8}(/[a-z]{1,8}){0,2}\\.html",
        name in "[a-z][a-z0-9_]{0,11}",
        expr in "[a-z]{1,6}( [a-z]{1,6}| \"[a-z %}-]{0,6}\"|\\.[a-z]{1,4}|\\([a-z]{0,4}\\)){0,3}",
    ) {
        for dialect in dialect::builtin() {
            for form in &dialect.forms {
                let values = Values { target: &target, name: &name, expr: &expr, ..Values::default() };
                let written = form.open.write(&values);
                let (found, whole) = read(dialect, &written);
                prop_assert!(whole, "{}: {} gave {:?}", dialect.name, written, found);
                let (kind, part, [read_target, read_name, read_expr]) = &found[0];
                // A tag that any other form explains too is read as the more telling one.
                if *kind != form.kind {
                    prop_assert_eq!(form.kind, Kind::Other, "{}: {}", &dialect.name, written);
                    continue;
                }
                prop_assert_eq!(*part, if form.is_pair() { Part::Open } else { Part::Single });
                let example = form.open.example();
                if example.contains("<target>") { prop_assert_eq!(read_target, &target) }
                if example.contains("<name>") { prop_assert_eq!(read_name, &name) }
                if example.contains("<expr>") || example.contains("<text>") { prop_assert_eq!(read_expr, &expr) }
            }
        }
    }

    #[test]
    fn closers_close_what_they_should(name in "[a-z][a-z0-9_-]{0,9}[a-z0-9]", other in "[A-Z]{3}") {
        for dialect in dialect::builtin().iter().filter(|dialect| dialect.has_layouts()) {
            let form = dialect.form(Kind::Block).expect("it has blocks");
            let values = |name| Values { name, ..Values::default() };
            let open = form.open.write(&values(&name));
            for close in &form.close {
                let right = format!("{open}x{}", close.write(&values(&name)));
                prop_assert!(Constructs::read(right.as_bytes(), dialect).errors.is_empty(), "{}", right);
                if close.example().contains("<name>") {
                    let wrong = format!("{open}x{}", close.write(&values(&other)));
                    prop_assert_eq!(Constructs::read(wrong.as_bytes(), dialect).errors.len(), 2, "{}", wrong);
                }
            }
        }
    }
}

#[test]
fn any_quote_and_any_white_space_is_read() {
    let brace = dialect::builtin_named("brace-percent").expect("a built-in dialect");
    for tag in ["{% extends \"a.html\" %}", "{%extends 'a.html'%}", "{%-\n  extends\t'a.html'  -%}"] {
        let (found, whole) = read(&brace, tag);
        assert!(whole && found[0].0 == Kind::Parent && found[0].2[0] == "a.html", "{tag}: {found:?}");
    }
    for tag in ["{% extendsx 'a.html' %}", "{% extends a.html %}", "{% extends 'a.html\" %}"] {
        let found = Constructs::read(tag.as_bytes(), &brace);
        let item = &found.items[0];
        assert!(item.kind == Kind::Other || item.dynamic, "{tag}: {item:?}");
    }
}

#[test]
fn tags_nobody_described_are_carried_along() {
    let brace = dialect::builtin_named("brace-percent").expect("a built-in dialect");
    let text = "{% moor 'quay' %}{% block a %}{% cache 500 x %}<p {% tide %}>{{ y|up }}</p>{% endcache %}{% endblock %}{% unmoor";
    let found = Constructs::read(text.as_bytes(), &brace);
    let others = found.items.iter().filter(|item| item.kind == Kind::Other).count();
    assert_eq!((others, found.errors.len()), (4, 0), "{:?}", found.items);
}
