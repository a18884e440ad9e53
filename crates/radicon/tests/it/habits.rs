//! What real sites do, in invented words: each site has a habit that made-up engines do not have.

use radicon::dialect::{self, Kind};
use radicon::learn::learn;
use radicon::report::Survey;
use radicon::site::Settings;
use radicon::{Site, SourceFile};

/// The forms that make structure.
fn structure(files: &[(String, String)]) -> Vec<String> {
    forms_of(files, |kind| kind.makes_structure() && kind != Kind::Set)
}

/// The forms of some kinds.
fn forms_of(files: &[(String, String)], is_wanted: impl Fn(Kind) -> bool) -> Vec<String> {
    let learned = learn(&sources(files), dialect::builtin(), &[]);
    let forms = learned.iter().flat_map(|learned| &learned.forms).filter(|form| is_wanted(form.kind));
    forms.map(|form| format!("{}: {}", form.kind.word(), form.form)).collect()
}

fn sources(files: &[(String, String)]) -> Vec<SourceFile> {
    files.iter().map(|(path, text)| SourceFile::new(path, text.as_str())).collect()
}

/// Files from their paths and texts.
fn site(count: usize, page: impl Fn(usize) -> (String, String), others: &[(&str, &str)]) -> Vec<(String, String)> {
    let others = others.iter().map(|(path, text)| ((*path).to_owned(), (*text).to_owned()));
    (0..count).map(page).chain(others).collect()
}

#[test]
fn calls_name_files_by_one_rule_and_helpers_by_chance() {
    // Partials have a leading sign and lie beside the page; the names that links are given are files, too.
    let page = |n: usize| {
        let text = format!(
            "<: if shore :>\n<p><:= jump(name, :deed => 'tide') :></p>\n<: end :>\n\
             <:= moor :piece => 'form', :with => {n} :>\n<: tides.each over |tide| :>\n<li><:= tide.hour :></li>\n<: end :>\n\
             <:= moor piece: 'list' if open :>\n<: stow :side over :>\n<p>Pier {n}</p>\n<: end :>\n\
             <: desk pier over |form| :>\n<:= form.name :>\n<: end :>\n"
        );
        (format!("views/pier{n}/tide.tide"), text)
    };
    let mut files = site(
        12,
        page,
        &[(
            "views/frames/main.tide",
            "<html><head><title><:= name :></title></head><body><:= berth :side :><: if a :><b></b><: end :></body></html>",
        )],
    );
    for n in 0..12 {
        for piece in ["form", "list"] {
            files.push((
                format!("views/pier{n}/_{piece}.tide"),
                format!("<p><:= jump(x, :deed => 'tide') :>{piece}</p>"),
            ));
        }
    }
    assert_eq!(
        structure(&files),
        [
            "slot: \"<:= berth :<name> :>\"",
            "fill: { open = \"<: stow :<name> over :>\", close = \"<: end :>\" }",
            "include: \"<:= moor [<args>] piece => '<target>', <args> :>\"",
            "include: \"<:= moor [<args>] piece: '<target>' [<args>] :>\"",
        ]
    );
}

#[test]
fn names_stand_right_behind_marks() {
    let page = |n: usize| {
        let (a, b) = (["parts/nav", "parts/foot", "/ads"][n % 3], ["Box", "parts/row"][n % 2]);
        let text = format!(
            "<~start>\nlet x = {n};\ncall(x);\n</~start>\n<@ {a}, tide => {n} @>\n<div><~ x ~></div>\n<@ {b} @>\n"
        );
        (format!("pier{n}.wet"), text)
    };
    let parts = [
        ("parts/nav.wet", "<nav></nav>"),
        ("parts/foot.wet", "<p></p>"),
        ("ads.wet", "<i></i>"),
        ("Box.wet", "<b></b>"),
        ("parts/row.wet", "<u></u>"),
    ];
    let found = structure(&site(12, page, &parts));
    assert_eq!(
        found,
        [
            "include: \"<@ <target> @>\"",
            "include: \"<@ <target>, <args> @>\"",
            "verbatim: { open = \"<~start>\", close = \"</~start>\" }",
        ]
    );
}

#[test]
fn a_parent_may_be_the_only_name_behind_its_mark() {
    let page = |n: usize| {
        (
            format!("page{n}.wet"),
            format!(
                "((!< frame))\n<main>\n<p>The tides of pier {n}</p>\n((#when tide))<p>{n}</p>((/when))\n</main>\n((> \"bits/nav\"))\n"
            ),
        )
    };
    let frame = "<html><head><title>((name))</title></head><body>(((body)))((> \"bits/nav\"))</body></html>";
    let files = site(8, page, &[("frame.wet", frame), ("bits/nav.wet", "<nav>((#when a))<b></b>((/when))</nav>")]);
    let found = structure(&files);
    assert_eq!(found, ["parent: \"((!< <target>))\"", "body: \"(((body)))\"", "include: '((> \"<target>\"))'"]);
}

#[test]
fn statements_and_remarks_stand_in_tags() {
    let page = |n: usize| {
        let text = format!(
            "<| TEST deed == 'nav' ~|>\n<p>{n}</p>\n<| DONE # test |>\n<| PULL row.wet x = {n} |>\n\
             <| TRIAL; PULL nav.wet; DONE |>\n<| EACH x OF list |><li><| x |></li><| DONE |>\n"
        );
        (format!("page{n}.wet"), text)
    };
    let files = site(12, page, &[("nav.wet", "<nav></nav>"), ("row.wet", "<p><| TEST a |>b<| DONE |></p>")]);
    let found = structure(&files);
    assert_eq!(
        found,
        ["include: \"<| PULL <target> [<args>] |>\"", "include: { form = \"PULL <target> [<args>]\", within = true }"]
    );
}

#[test]
fn one_word_closes_regions_overrides_and_conditions() {
    // The layout is found by its place: pages name none.
    let page = |n: usize| {
        let text = format!(
            "<: stow \"name\" :>Pier {n}<: done :>\n<: stow \"deed\" :>\n<: each tide in tides :><li><: tide.hour :></li><: done :>\n\
             <: if shore == \"frame\" :><p>{n}</p><: else :><i>open</i><: done :>\n<: pull \"bits/nav\" . :>\n<: done :>\n"
        );
        (format!("desk/pier{n}.wet"), text)
    };
    let frame = "<html><head><title><: berth \"name\" :>Piers<: done :></title></head>\n\
                 <body><: berth \"deed\" :><: done :><: if open :><b></b><: done :></body></html>";
    let nav = "<nav><: each link in links :><a><: link :></a><: done :></nav>";
    let found = structure(&site(38, page, &[("desk/frame.wet", frame), ("bits/nav.wet", nav)]));
    assert_eq!(
        found,
        [
            "slot: { open = '<: berth \"<name>\" :>', close = \"<: done :>\" }",
            "fill: { open = '<: stow \"<name>\" :>', close = \"<: done :>\" }",
            "include: '<: pull \"<target>\" [<args>] :>'",
        ]
    );
}

#[test]
fn delimiters_of_three_signs_hold_names_without_quotes_or_suffix() {
    let page = |n: usize| {
        let bit = ["nav", "foot", "tides"][n % 3];
        let text = format!(
            "{{{{~ wear frame ~}}}}\n{{{{~ part name ~}}}}Pier {n}{{{{~ over ~}}}}\n{{{{~ part deed ~}}}}\n<p>{{{{= tide.hour =}}}}</p>\n\
             {{{{~ pull bits.{bit} ~}}}}\n{{{{~ when open ~}}}}<b>{n}</b>{{{{~ over ~}}}}\n{{{{~ over ~}}}}\n"
        );
        (format!("desk/pier{n}.wet"), text)
    };
    let frame = "<html><head><title>{{~ part name ~}}Piers{{~ over ~}}</title></head>\n\
                 <body>{{~ pull bits.nav ~}}{{~ part deed ~}}{{~ over ~}}</body></html>";
    let others = [
        ("frame.wet", frame),
        ("bits/nav.wet", "<nav>{{= name =}}</nav>"),
        ("bits/foot.wet", "<p>{{= name =}}</p>"),
        ("bits/tides.wet", "<ul>{{~ when a ~}}<li></li>{{~ over ~}}</ul>"),
    ];
    let found = structure(&site(36, page, &others));
    assert_eq!(
        found,
        [
            "parent: \"{{~ wear <target> ~}}\"",
            "block: { open = \"{{~ part <name> ~}}\", close = \"{{~ over ~}}\" }",
            "include: \"{{~ pull <target> ~}}\"",
        ]
    );
}

#[test]
fn a_wrapper_ends_as_an_element_does() {
    // What a mark before the name of a file begins ends in the delimiter's sign alone, written as a closing tag.
    let page = |n: usize| {
        let deck = ["calm", "swell", "squall"][n % 3];
        let text = format!(
            "<+| frame, title => 'Pier {n}' +>\n<p>Mind the gap</p>\n<+| {deck} +>\n<b>{n}</b>\n</+>\n<+ parts/rope, length => {n} +>\n</+>\n"
        );
        (format!("shore/pier{n}"), text)
    };
    let others = ["frame", "calm", "swell", "squall", "parts/rope"];
    let others: Vec<(String, String)> =
        others.iter().map(|name| (format!("shore/{name}"), "<div><+ $x +></div>\n".to_owned())).collect();
    let others: Vec<(&str, &str)> = others.iter().map(|(path, text)| (path.as_str(), text.as_str())).collect();
    let found = structure(&site(14, page, &others));
    let wraps: Vec<&String> = found.iter().filter(|form| form.starts_with("wrap")).collect();
    assert!(!wraps.is_empty() && wraps.iter().all(|form| form.contains("close = \"</+>\"")), "{found:?}");
    assert!(found.iter().any(|form| form.starts_with("include")), "{found:?}");
}

#[test]
fn bodies_in_braces_end_in_later_tags() {
    let page = |n: usize| {
        let text = format!(
            "<: if (shore{n} && open) {{ :>\n<p>{n}</p>\n<: }} else if (tide) {{ :>\n<b>{n}</b>\n<: }} else {{ :>\n<i>none</i>\n<: }} :>\n\
             <: boats.each(function (boat) {{ :>\n<li><:= boat.name{n} :></li>\n<: }}) :>\n\
             <:- moor('bits/nav') :>\n<: for (pier of piers) {{ :><u><:= pier :></u><: }} :>\n"
        );
        (format!("pier{n}.wet"), text)
    };
    let nav = "<nav><: while (next()) { :><a><:= link({ to: [1] }) :></a><: } :></nav>";
    let files = site(14, page, &[("bits/nav.wet", nav)]);
    assert_eq!(structure(&files), ["include: \"<:- moor('<target>') :>\""]);
    let pairs = forms_of(&files, |kind| kind == Kind::Control);
    assert_eq!(pairs.len(), 1, "{pairs:?}");
    assert!(pairs[0].contains("open = \"<: <expr> { :>\"") && pairs[0].contains("\"<: }) :>\""), "{pairs:?}");
    // What was learned reads the site: every pair is closed, and every name leads to its file.
    let dialects: Vec<_> = learn(&sources(&files), dialect::builtin(), &[])
        .iter()
        .map(|learned| std::sync::Arc::new(learned.dialect().expect("a dialect")))
        .collect();
    let survey = Survey::of(&Site::read(sources(&files), &dialects, &Settings::default()), &[]);
    assert_eq!(survey.problems, []);
    assert!(survey.files.iter().filter(|file| file.includes == ["bits/nav.wet"]).count() == 14, "{:?}", survey.files);
}

#[test]
fn what_prints_a_partial_includes_it_though_it_is_one_condition() {
    let page = |n: usize| {
        let text = format!(
            "<h1>Pier {n}</h1>\n<:= pull \"bits/faults\", pier: pier{n} :>\n<: if open :>\n<p>{n}</p>\n<: done :>\n"
        );
        (format!("pier{n}.wet"), text)
    };
    let faults = "<: if pier.faults :>\n<ul><:= pier.faults :></ul>\n<: done :>\n";
    let found = structure(&site(12, page, &[("bits/faults.wet", faults)]));
    assert_eq!(found, ["include: '<:= pull \"<target>\", <args> :>'"]);
}
