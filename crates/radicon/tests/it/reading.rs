//! Files are read for what they are: finished pages stay plain, templates are found whatever their
//! suffix, and `brace-percent` is read as people write it.

use proptest::prelude::*;
use proptest::sample::select;

use radicon::dialect::{self, Dialect, Kind, Part};
use radicon::learn::learn;
use radicon::markup::{Constructs, Inside};
use radicon::report::Survey;
use radicon::site::{Parent, ProblemKind};
use radicon::{Resolver, Settings, Site, SourceFile};

/// What finished pages hold that looks like the tags of some engine.
///
/// `#N` is some number.
const PROSE: [&str; 19] = [
    "It is said elsewhere (see page-#N.html) that the ferry (page-#N.html) is old.",
    "/* page-#N.html */ and /* menu #N */ are notes; (page-#N), (menu), (tide #N) are asides.",
    "See [page-#N] and [page-#N.html], or \"page-#N\", 'page-#N'; {page-#N} is a set.",
    "@page-#N and ~page-#N; $page-#N(x), #page-#N(y), %page-#N%, (: page-#N :)",
    "(a: page-#N.html) (b: page-#N.html) (begin #N) (end #N) [if #N] [end]",
    "The ferry (see the timetable) leaves at 7 [1], [sic] or later {or not}.",
    "Write {% if user %} before and {% endif %} behind it; {{ user }} prints the name.",
    "Begin with {% extends \"page-1.html\" %} in the first line.",
    "The set {x | x > 0} and the pair (a, b), 50% of {a, b}, $5 or #7.",
    "Mail crew@sea.example or @crew, and use ~all, $HOME or %PATH%.",
    "A formula: $\\frac{{a}}{{b}}$, $x^{{n}}_{{m}}$, \\({{n}\\choose{k}}\\) and {\\rm d}x.",
    "/* a comment */ // another one -- and ## a third; <!-- and <b>a</b> fourth -->",
    "<dl><dt>{% block name %}…{% endblock %}</dt><dd>a region (see [blocks])</dd></dl>",
    "<table><tr><td>(1)</td><td>[a]</td><td>{b}</td></tr></table>",
    "<p title=\"(a) [b] {c}\">See [page-2.html] (page-3.html) or 'page-4.html'.</p>",
    "<code>{{ x }}</code> and <kbd>{% load x %}</kbd>, <tt>[% y %]</tt>",
    "Use include('page-5.html') or include(\"page-6.html\"), as in render(page).",
    "(a) first, (b) second, (c) third: f(x) = g(f(x)); [x] done, [ ] open",
    "if (a) { b } else { c } end; for each x do y done",
];

const LISTINGS: [&str; 9] = [
    "<pre>{% extends \"page-1.html\" %}\n{% block main %}\n  {{ super() }}\n{% endblock %}</pre>",
    "<pre>#include &lt;stdio.h&gt;\nint main(void) { /* x */ return a[0]; }</pre>",
    "<pre>def f(x):\n    return {\"a\": [x], **{y: z}}  # {% not %}</pre>",
    "<pre>@page { margin: 0 } @media (x) { a { b: c } }</pre>",
    "<pre>&lt;% render 'page-2.html' %&gt; [% include page-3.html %] {{> page-4 }}</pre>",
    "<script>const a = {b: {c: [1, 2]}}; let d = `${a.b}`; if (a) { e(\"{{ x }}\") } /* {% y %} */</script>",
    "<script type=\"application/json\">{\"a\": [{\"b\": {}}], \"include\": \"page-1.html\"}</script>",
    "<style>@import url(\"x.css\"); a{b:c} @media print{a{b:{c}}} /* {{ x }} */</style>",
    "<textarea>{{ x }} {% if a %} [% b %]</textarea><!-- {% include \"page-1.html\" %} (c) [d] -->",
];

fn page(parts: Vec<(&'static str, usize)>, number: usize) -> SourceFile {
    let parts: Vec<String> = parts.iter().map(|(part, n)| part.replace("#N", &n.to_string())).collect();
    let text = format!(
        "<!DOCTYPE html>\n<html>\n<head><title>Page {number}</title></head>\n<body>\n<div id=\"menu\"><a href=\"page-{number}.html\">({number})</a></div>\n<p>{}</p>\n</body>\n</html>\n",
        parts.join("</p>\n<p>")
    );
    SourceFile::new(format!("page-{number}.html"), text)
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, cases: 64, ..ProptestConfig::default() })]

    /// Whatever finished pages hold, they have no dialect.
    #[test]
    fn finished_pages_stay_plain(
        pages in prop::collection::vec(
            prop::collection::vec((select([&PROSE[..], &LISTINGS[..]].concat()), 0_usize..20), 1..12), 2..40),
    ) {
        let files: Vec<SourceFile> = pages.into_iter().enumerate().map(|(number, parts)| page(parts, number)).collect();
        let learned = learn(&files, dialect::builtin(), &[]);
        prop_assert!(learned.is_empty(), "{}", learned[0].text);
        let site = Site::read(files, dialect::builtin(), &Settings::default());
        for template in &site.templates {
            prop_assert_eq!(&template.dialect.name, "plain", "{}", String::from_utf8_lossy(&template.source));
        }
    }
}

fn read(files: &[(&str, &str)]) -> Site {
    let files = files.iter().map(|(path, text)| SourceFile::new(*path, *text)).collect();
    Site::read(files, dialect::builtin(), &Settings::default())
}

fn flat(site: &Site, page: &str) -> String {
    let id = site.find(page).unwrap_or_else(|| panic!("{page} is no template"));
    String::from_utf8(Resolver::new(site).flatten(id).expect("a page of a sane size").bytes).expect("text")
}

#[test]
fn marks_stand_on_either_side_of_any_tag() {
    let base = "<{%- block a -%} A {%- endblock -%}|{% block b %}B{% endblock b -%}  >";
    let page = "{%- extends 'base.html' -%}\n{% block a %}x{% endblock -%}\n{%- block b %}y{%- endblock -%}";
    let site = read(&[("base.html", base), ("page.html", page)]);
    assert!(site.templates.iter().all(|template| template.constructs.errors.is_empty()));
    assert_eq!(flat(&site, "page.html"), "<x|y>");
}

#[test]
fn names_are_found_without_quotes_and_by_calls() {
    let page = "<html>{% include parts/nav.html %}{{ include('foot.html', {'a': 1}) }}{% include view.name %}</html>";
    let site = read(&[("page.html", page), ("parts/nav.html", "<nav></nav>"), ("foot.html", "<footer></footer>")]);
    assert_eq!(flat(&site, "page.html"), "<html><nav></nav><footer></footer>{% include view.name %}</html>");
}

#[test]
fn what_includes_itself_is_a_recursion_and_not_its_namesake() {
    let tree = "<ul>{% for a in b %}<li>{% include 'tree.html' %}</li>{% endfor %}</ul>";
    let site = read(&[
        ("own/tree.html", tree),
        ("theirs/tree.html", "<b></b>"),
        ("own/page.html", "{% include 'tree.html' %}"),
        ("own/other.html", "{% include 'page.html' %}"),
    ]);
    let id = site.find("own/tree.html").expect("a template");
    let named: Vec<_> = site.links(id).targets().map(|(_, target)| target.clone()).collect();
    assert_eq!(named, [Ok(id)]);
    // The condition ends the round: nothing is wrong.
    let page = Resolver::new(&site).flatten(site.find("own/page.html").expect("a page")).expect("a page");
    assert_eq!((String::from_utf8_lossy(&page.bytes).as_ref(), page.problems.len()), (tree, 0));
}

#[test]
fn a_block_is_printed_again() {
    let base = "<title>{% block t %}Tidewater{% endblock %}</title><h1>{{ block('t') }}</h1><b>{{ self.t() }}</b>";
    let page = "{% extends 'base.html' %}{% block t %}Fares {{ super() }}{% endblock %}";
    let site = read(&[("base.html", base), ("page.html", page)]);
    assert_eq!(
        flat(&site, "page.html"),
        "<title>Fares Tidewater</title><h1>Fares Tidewater</h1><b>Fares Tidewater</b>"
    );
    assert_eq!(flat(&read(&[("base.html", base)]), "base.html").matches("Tidewater").count(), 3);
    let margin = "<html><title><!--: block t -->a<!--: end t --></title><h1><!--: again t --></h1></html>";
    assert_eq!(flat(&read(&[("m.html", margin)]), "m.html"), "<html><title>a</title><h1>a</h1></html>");
    let lost = read(&[("lost.html", "<html>{% block a %}{% endblock %}<p>{{ block('gone') }}</p></html>")]);
    let problems = Resolver::new(&lost).flatten(lost.find("lost.html").expect("a page")).expect("a page").problems;
    assert!(problems[0].to_string().contains("lost.html:1:37: no block `gone`"), "{problems:?}");
}

#[test]
fn parents_that_are_chosen_when_the_page_is_rendered_are_dynamic() {
    let layouts = [
        ("a.html", "<html>{% block x %}{% endblock %}</html>"),
        ("b.html", "<html>{% block x %}{% endblock %}</html>"),
    ];
    for (text, is_dynamic) in [
        ("{% extends 'a.html' %}{% block x %}1{% endblock %}", false),
        (
            "{% if c %}{% extends 'a.html' %}{% else %}{% extends 'b.html' %}{% endif %}{% block x %}1{% endblock %}",
            true,
        ),
        ("{% if c %}<p>no</p>{% else %}{% extends 'a.html' %}{% block x %}1{% endblock %}{% endif %}", true),
        ("{% extends c ? 'a.html' : 'b.html' %}{% block x %}1{% endblock %}", true),
        ("{% extends 'a.html' if c else 'b.html' %}{% block x %}1{% endblock %}", true),
        ("{% extends layout %}{% block x %}1{% endblock %}", true),
    ] {
        let site = read(&[layouts[0], layouts[1], ("page.html", text)]);
        let id = site.find("page.html").expect("a page");
        assert_eq!(*site.parent(id) == Parent::Dynamic, is_dynamic, "{text}");
        let problems = Resolver::new(&site).flatten(id).expect("a page").problems;
        assert_eq!(problems.is_empty(), !is_dynamic, "{text}: {problems:?}");
        assert!(flat(&site, "page.html").contains('1'), "{text}");
    }
}

#[test]
fn problems_say_whether_a_tag_or_a_name_is_meant() {
    let site = read(&[("a.html", "<html>{% block a %}{% include 'gone.html' %}</html>{% if b %}{% endif %}")]);
    let survey = Survey::of(&site, &[]);
    assert_eq!(survey.problems.iter().map(|problem| problem.kind).collect::<Vec<_>>(), [ProblemKind::Reading]);
    let flat = Resolver::new(&site).flatten(site.find("a.html").expect("a page")).expect("a page");
    assert!(flat.problems.iter().all(|problem| problem.kind == ProblemKind::Reference), "{:?}", flat.problems);
}

/// The constructs of a source in a small dialect: kind, what is written, target or name, and whether
/// each is a statement (`s`) or part of an expression (`e`) of a longer tag.
#[track_caller]
fn constructs(forms: &str, source: &str) -> Vec<String> {
    let dialect = Dialect::parse(&format!("name = 't'\nfiles = ['*']\n[forms]\n{forms}\n")).expect("a dialect");
    let found = Constructs::read(source.as_bytes(), &dialect);
    let show = |item: &radicon::markup::Construct| {
        let text = |span: radicon::text::Span| span.text(source.as_bytes()).into_owned();
        let inside = match item.inside {
            Inside::Nothing => "",
            Inside::Statement { .. } => " s",
            Inside::Expression => " e",
        };
        assert!(item.part == Part::Single, "{item:?}");
        let named = if item.target.is_empty() { text(item.name) } else { text(item.target) };
        format!("{}|{}|{named}|{}{inside}", item.kind.word(), text(item.span), text(item.expr))
    };
    found.items.iter().map(show).collect()
}

#[test]
fn several_statements_in_a_tag_are_told_apart() {
    let forms = "include = { form = 'stow \"<target>\" [<args>]', within = true }\nother = '<: <expr> :>'\noutput = '<:= <expr> :>'";
    for (source, expected) in [
        ("<: stow 'a' :>", &["include|<: stow 'a' :>|a|"][..]),
        ("<: stow 'a', b: 1 :>", &["include|<: stow 'a', b: 1 :>|a|b: 1"]),
        ("<: x; stow 'a' :>", &["code|<: x; ||", "include|stow 'a' :>|a| s"]),
        ("<: stow 'a'; x :>", &["include|<: stow 'a';|a| s", "code| x :>||"]),
        ("<: stow 'a'; stow 'b' :>", &["include|<: stow 'a'; |a| s", "include|stow 'b' :>|b| s"]),
        ("<: x\n  stow 'a'\n  y :>", &["code|<: x\n  ||", "include|stow 'a'|a| s", "code|\n  y :>||"]),
        ("<:= f(stow 'a', 1) :>", &["code|<:= f(||", "include|stow 'a', 1|a|1 e", "code|) :>||"]),
        ("<: 'stow \"a\"' :>", &["other|<: 'stow \"a\"' :>||'stow \"a\"'"]),
        ("<: bestow 'a' :>", &["other|<: bestow 'a' :>||bestow 'a'"]),
        ("stow 'a'", &[]),
    ] {
        assert_eq!(constructs(forms, source), expected, "{source}");
    }
}

#[test]
fn a_header_is_read_at_the_start_and_nowhere_else() {
    let forms = "parent = { header = '===', form = 'hull: <target>' }\noutput = '<:= <expr> :>'";
    for (source, expected) in [
        ("===\nhull: a\n===\nx", &["set|===\n||", "parent|hull: a\n|a|", "set|===\n||"][..]),
        ("===\nhull: 'a b'\n===\n", &["set|===\nhull: 'a b'\n===\n||"]),
        ("\u{feff}===\r\nhull: \"a\"\r\n===\r\n", &["set|===\r\n||", "parent|hull: \"a\"\r\n|a|", "set|===\r\n||"]),
        ("===\nhull: <:= x :>\n===", &["set|===\nhull: <:= x :>\n===||"]),
        ("===\nhull: a\n", &[]),
        ("x\n===\nhull: a\n===\n", &[]),
        ("", &[]),
    ] {
        assert_eq!(constructs(forms, source), expected, "{source:?}");
    }
}

#[test]
fn a_parent_without_a_name_is_the_file_that_is_hidden() {
    let text = "name = 't'\nfiles = ['**/*.t']\n[forms]\nparent = ['<: under \"<target>\" :>', { open = '<: mine :>', target = 'self' }]\nblock = { open = '<: mark <name> :>', close = '<: unmark :>' }\n";
    let dialects = [std::sync::Arc::new(Dialect::parse(text).expect("a dialect"))];
    let files = [
        ("core/sheets/base.t", "<html><: mark a :>A<: unmark :></html>"),
        ("core/sheets/shop/list.t", "<: under \"base.t\" :><: mark a :>list<: unmark :>"),
        ("extra/sheets/shop/list.t", "<: mine :><: mark a :>more<: unmark :>"),
        ("extra/sheets/lone.t", "<: mine :>"),
    ];
    let files = files.iter().map(|(path, text)| SourceFile::new(*path, *text)).collect();
    let site = Site::read(files, &dialects, &Settings::default());
    let parent = |path: &str| match site.parent(site.find(path).expect("a template")) {
        Parent::Found { id, .. } => site.get(*id).path.clone(),
        other => format!("{other:?}"),
    };
    assert_eq!(parent("extra/sheets/shop/list.t"), "core/sheets/shop/list.t");
    assert_eq!(parent("extra/sheets/lone.t"), "Missing(NotFound([]))");
    assert_eq!(flat(&site, "extra/sheets/shop/list.t"), "<html>more</html>");
    let lone = Resolver::new(&site).flatten(site.find("extra/sheets/lone.t").expect("a page")).expect("a page");
    assert!(lone.problems[0].to_string().contains("the same name in the next root"), "{:?}", lone.problems);
    assert!(site.templates.iter().all(|template| template.dialect.form(Kind::Parent).is_some()));
}
