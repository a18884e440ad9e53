//! One pattern both reads and writes: what a form writes, its dialect reads.

use proptest::prelude::*;
use std::sync::Arc;

use radicon::dialect::{self, Dialect, Kind, Part, Values};
use radicon::markup::Constructs;
use radicon::{Resolver, Settings, Site, SourceFile};

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
fn a_target_without_quotes_ends_where_arguments_begin() {
    let text = "name = 't'\nfiles = ['*']\n[forms]\ninclude = '(( take <target> [<args>] ))'\n\
                control = { open = '(( <expr> over |<args>| ))', close = '(( done ))' }\nother = '(( <expr> ))'\n";
    let dialect = Dialect::parse(text).unwrap_or_else(|error| panic!("{error}"));
    for (tag, target) in [
        ("(( take a/b.t, x => 1 ))", "a/b.t"),
        ("(( take a/b.t; more ))", "a/b.t"),
        ("(( take 'a/b.t' ))", "a/b.t"),
        ("(( take a/b.t ))", "a/b.t"),
    ] {
        let (found, whole) = read(&dialect, tag);
        assert!(whole && found[0].0 == Kind::Include && found[0].2[0] == target, "{tag}: {found:?}");
    }
    for tag in ["(( take | a ))", "(( take , a ))"] {
        assert_eq!(read(&dialect, tag).0[0].0, Kind::Other, "{tag}");
    }
    let loops = Constructs::read(b"(( all.each over |a , b | ))x(( done ))", &dialect);
    assert!(loops.errors.is_empty() && loops.items.len() == 2, "{:?}", loops.items);
}

#[test]
fn tags_nobody_described_are_carried_along() {
    let brace = dialect::builtin_named("brace-percent").expect("a built-in dialect");
    let text = "{% moor 'quay' %}{% block a %}{% cache 500 x %}<p {% tide %}>{{ y|up }}</p>{% endcache %}{% endblock %}{% unmoor";
    let found = Constructs::read(text.as_bytes(), &brace);
    let others = found.items.iter().filter(|item| item.kind == Kind::Other).count();
    assert_eq!((others, found.errors.len()), (4, 0), "{:?}", found.items);
}

/// A page of a small dialect, put together, with what is wrong with it.
#[track_caller]
fn flat(forms: &str, rules: &str, files: &[(&str, &str)]) -> (String, Vec<String>) {
    let text = format!("name = 't'\nfiles = ['**/*.t']\n[forms]\n{forms}\n[rules]\n{rules}\n");
    let dialect = Arc::new(Dialect::parse(&text).unwrap_or_else(|error| panic!("{error}: {text}")));
    let files = files.iter().map(|(path, text)| SourceFile::new(*path, *text)).collect();
    let site = Site::read(files, &[dialect], &Settings::default());
    let page = Resolver::new(&site).flatten(site.find("page.t").expect("the page")).expect("a page of a sane size");
    (String::from_utf8_lossy(&page.bytes).into_owned(), page.problems.iter().map(ToString::to_string).collect())
}

const FORMS: &str = "parent = '(( under <target> ))'\nblock = { open = '(( lamp <name> ))', close = '(( dark ))' }\n\
    include = '(( take <target> [<args>] ))'\noutput = '(( <expr> ))'\ncomment = '((# <text> #))'\nbody = '(( here ))'\n\
    set = ['(( let <name> = <expr> ))', { open = '(( usual <name> = <expr> ))', default = true }]\n";

#[test]
fn the_rules_of_a_dialect_are_followed() {
    let base = ("base.t", "<(( lamp a ))A(( dark ))|(( here ))>");
    let page = |text: &'static str| [base, ("page.t", text)];
    for (rules, text, expected, problem) in [
        ("loose = 'ignored'", "(( under base.t ))loose(( lamp a ))x(( dark ))", "<x|>", ""),
        ("loose = 'body'", "(( under base.t ))loose(( lamp a ))x(( dark ))", "<x|loose>", ""),
        ("loose = 'before'", "(( under base.t ))loose(( lamp a ))x(( dark ))", "loose<x|>", ""),
        ("twice = 'first'", "(( under base.t ))(( lamp a ))1(( dark ))(( lamp a ))2(( dark ))", "<1|>", ""),
        ("twice = 'last'", "(( under base.t ))(( lamp a ))1(( dark ))(( lamp a ))2(( dark ))", "<2|>", ""),
        (
            "twice = 'error'",
            "(( under base.t ))(( lamp a ))1(( dark ))(( lamp a ))2(( dark ))",
            "<2|>",
            "page.t:1:42: the block `a` is defined twice",
        ),
        ("anywhere = true", "<p class=\"((# c #))x\">((# c #))", "<p class=\"x\">", ""),
        ("anywhere = false", "<p class=\"((# c #))x\">((# c #))", "<p class=\"((# c #))x\">", ""),
        ("newline = 'kept'", "((# c #))\nx", "\nx", ""),
        ("newline = 'eaten'", "a ((# c #))\nx", "a x", ""),
        ("newline = 'line'", "a\n ((# c #)) \nx", "a\nx", ""),
    ] {
        let (found, problems) = flat(FORMS, rules, &page(text));
        assert_eq!(found, expected, "{rules}: {text}");
        match problem {
            "" => assert!(problems.is_empty(), "{rules}: {problems:?}"),
            problem => assert!(problems.iter().any(|found| found.starts_with(problem)), "{rules}: {problems:?}"),
        }
    }
}

#[test]
fn arguments_reach_as_far_as_the_rules_say() {
    let part = |text: &'static str, page: &'static str| [("part.t", text), ("page.t", page)];
    for (rules, partial, page, expected) in [
        ("", "(( a ))", "(( take part.t a='x' ))", "x"),
        ("", "(( a ))", "(( take part.t a=b ))", "((# with a=b #))(( a ))((# end with #))"),
        ("", "no names", "(( take part.t a=b ))", "no names"),
        ("", "(( c ))", "(( take part.t a=b ))", "(( c ))"),
        ("", "(( c ))", "(( take part.t positional ))", "((# with positional #))(( c ))((# end with #))"),
        ("", "(( a|upper ))", "(( take part.t a='x' ))", "((# with a='x' #))(( a|upper ))((# end with #))"),
        ("", "(( a ))", "(( take part.t a='<b>' ))", "((# with a='<b>' #))(( a ))((# end with #))"),
        (
            "",
            "(( let a = 1 ))(( a ))",
            "(( take part.t a='x' ))",
            "((# with a='x' #))(( let a = 1 ))(( a ))((# end with #))",
        ),
        ("", "(( usual a = 1 ))(( a ))", "(( take part.t a='x' ))", "x"),
        ("", "(( usual a = 1 ))(( a ))", "(( take part.t ))", "(( usual a = 1 ))(( a ))"),
        ("only = ['alone']", "(( c ))", "(( take part.t alone ))", "((# with alone #))(( c ))((# end with #))"),
        ("include-scope = 'own'", "(( c ))", "(( take part.t ))", "((# with nothing #))(( c ))((# end with #))"),
        ("include-scope = 'shared'", "(( c ))", "(( take part.t ))", "(( c ))"),
        ("optional = ['if there']", "", "[(( take none.t if there ))]", "[]"),
    ] {
        let (found, problems) = flat(FORMS, rules, &part(partial, page));
        assert_eq!((found.as_str(), problems.len()), (expected, 0), "{rules}: {partial} in {page}: {problems:?}");
    }
}

#[test]
fn arguments_that_need_other_arguments_are_all_marked() {
    let marked = "((# with a='x' #))((# with c=a #))(( c|upper ))((# end with #))((# end with #))";
    for (inner, page, expected) in [
        (
            "(( c ))",
            "(( take outer.t a=x ))",
            "((# with a=x #))((# with c=a #))(( c ))((# end with #))((# end with #))",
        ),
        ("(( c ))", "(( take outer.t b=x ))", "((# with c=a #))(( c ))((# end with #))"),
        ("(( c|upper ))", "(( take outer.t a='x' ))", marked),
        // A literal is passed on.
        ("(( c ))", "(( take outer.t a='x' ))", "x"),
    ] {
        let files = [("inner.t", inner), ("outer.t", "(( take inner.t c=a ))"), ("page.t", page)];
        assert_eq!(flat(FORMS, "", &files), (expected.to_owned(), vec![]), "{inner} {page}");
    }
}

#[test]
fn a_form_may_take_a_line_of_its_own() {
    let forms = "parent = { open = '%% under <target>', line = true }\nblock = { open = '%% lamp <name>', close = '%% dark', line = true }\n\
        output = { open = '%% say <expr>', line = true }\n";
    let files = [
        ("base.t", "<a>\n  %% lamp a\nA\n  %% dark\n100 %% lamp b\n</a>\n"),
        ("page.t", "%% under base.t\n%% lamp a \n%% say f(\"x y\") + 1\n%% dark\n"),
    ];
    assert_eq!(flat(forms, "", &files), ("<a>\n%% say f(\"x y\") + 1\n100 %% lamp b\n</a>\n".to_owned(), vec![]));
    let error = Dialect::parse("name = 't'\n[forms]\noutput = '%% say <expr>'").expect_err("no end");
    assert!(error.message.contains("line = true"), "{error}");
}
