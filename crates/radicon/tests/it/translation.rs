//! Templates written in another dialect come out as the same pages.

use std::path::Path;
use std::sync::Arc;

use crate::common::{Random, cases, seed};
use radicon::dialect::{self, Dialect};
use radicon::translate::{Translation, Unsayable, translate};
use radicon::{Settings, Site, SourceFile, disk};

#[track_caller]
fn translated(site: &Site, to: &Arc<Dialect>) -> Translation {
    let all: Vec<_> = site.templates.iter().map(|template| site.find(&template.path).expect("its own path")).collect();
    translate(site, &all, to, Unsayable::LeftOut).expect("a translation")
}

#[test]
fn a_fixture_is_written_in_the_tags_that_many_share() {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/fixtures/lantern/site");
    let loaded = disk::load(&folder).expect("a site");
    let to = dialect::builtin_named("brace-percent").expect("a dialect");
    let done = translated(&loaded.site, &to);
    // `quay` holds a tag that no form describes, and an include of a file that is not there.
    assert_eq!((done.same, done.different.len(), done.left_out.len()), (2, 0, 0), "{done:?}");
    let quay = done.sources.iter().find(|file| file.path == "lamps/quay.html").expect("the page");
    let text = String::from_utf8_lossy(&quay.bytes);
    assert!(text.contains("{% include \"parts.gone\" ignore missing %}{% ferry 3 %}"), "{text}");
    let pier = done.sources.iter().find(|file| file.path == "lamps/pier.html").expect("the page");
    let text = String::from_utf8_lossy(&pier.bytes);
    assert!(
        text.contains("{% extends \"section.html\" %}{% block title %}Old Pier | {{ super() }}{% endblock %}"),
        "{text}"
    );
    let places: Vec<String> = done.places.iter().map(ToString::to_string).collect();
    for wanted in [
        "lamps/quay.html:5:50: does this tag exist there?",
        "lamps/section.html:2:1: sets `area`",
        "lamps/quay.html:5:17: `parts.gone` is not a file",
    ] {
        assert!(places.iter().any(|place| place.starts_with(wanted)), "{wanted}: {places:#?}");
    }
}

/// A page whose layout somebody else has cannot be put together, and so not be compared.
#[test]
fn pages_without_their_layout_are_not_compared() {
    let files = vec![
        SourceFile::new("base.html", "<title>{% block t %}{% endblock %}</title>"),
        SourceFile::new("page.html", "{% extends 'base.html' %}{% block t %}1{% endblock %}"),
        SourceFile::new("gone.html", "{% extends 'vendor/frame.html' %}{% block t %}2{% endblock %}"),
        SourceFile::new("either.html", "{% extends which | 'base.html' %}{% block t %}3{% endblock %}"),
    ];
    let site = Site::read(files, dialect::builtin(), &Settings::default());
    let done = translated(&site, &dialect::builtin_named("margin").expect("a dialect"));
    assert_eq!((done.same, done.different.len()), (1, 0), "{done:?}");
    assert_eq!(done.open, ["either.html", "gone.html"]);
}

#[test]
fn what_cannot_be_written_is_refused_or_said() {
    let files = vec![
        SourceFile::new("base.html", "{% block a %}x{% endblock %}{{ y }}"),
        SourceFile::new(
            "page.html",
            "{% extends 'base.html' %}{% block a %}{{ super() }}{% if z %}1{% endif %}{% endblock %}",
        ),
    ];
    let site = Site::read(files, dialect::builtin(), &Settings::default());
    let attributes = Arc::new(
        Dialect::parse("name = 'x'\nfiles = ['**/*.htm']\n[forms]\nblock = '<* data-b=\"<name>\">'")
            .expect("a dialect"),
    );
    let all: Vec<_> = site.templates.iter().filter_map(|template| site.find(&template.path)).collect();
    assert!(
        translate(&site, &all, &attributes, Unsayable::LeftOut)
            .is_err_and(|error| error.to_string().contains("attributes"))
    );
    assert!(translate(&site, &all, &dialect::plain(), Unsayable::LeftOut).is_err());
    // Radicon's own notation prints nothing: values and conditions stay as they are, and are listed.
    let margin = dialect::builtin_named("margin").expect("a dialect");
    let done = translated(&site, &margin);
    assert!(done.sources.is_empty(), "{:?}", done.files);
    let reasons: Vec<String> = done.left_out.iter().flat_map(|left| &left.reasons).map(ToString::to_string).collect();
    assert_eq!(
        reasons,
        ["base.html:1:29: margin has no output", "page.html:1:52: margin has no such condition or loop"]
    );
    let done = translate(&site, &all, &margin, Unsayable::Kept).expect("a translation");
    assert!(done.left_out.is_empty(), "{:?}", done.left_out);
    assert!(done.places.iter().any(|place| place.message.contains("margin has no")), "{:?}", done.places);
    let page = String::from_utf8_lossy(&done.sources[1].bytes).into_owned();
    assert!(
        page.contains("<!--: layout base.html -->")
            && page.contains("<!--: inherited -->")
            && page.contains("{% if z %}"),
        "{page}"
    );
}

/// Sites of made-up engines, written in the tags that many share.
#[test]
fn sites_of_made_up_engines_flatten_to_the_same() {
    let first = seed("translation");
    let to = dialect::builtin_named("brace-percent").expect("a dialect");
    let (mut same, mut pages, mut sites) = (0, 0, 0);
    for case in 0..cases(60, 600) {
        let mut random = Random((first + case) * 104_729);
        let engine = crate::made::engines::engine(&mut random);
        // Where loose content is the body of a layout there is no form for it.
        if engine.dialect.form(dialect::Kind::Body).is_some() {
            continue;
        }
        let made = crate::made::written::site(&mut random, &engine, 12);
        let site = Site::read(made.files, &[Arc::clone(&engine.dialect)], &Settings::default());
        let done = translated(&site, &to);
        (same, pages, sites) = (same + done.same, pages + done.same + done.different.len(), sites + 1);
    }
    println!("{same} of {pages} pages of {sites} sites");
    assert!(sites > 20 && same * 1000 >= pages * 995, "{same} of {pages}");
}

/// Region and override in one word here, in two there; names by other rules.
#[test]
fn regions_and_names_follow_the_other_dialect() {
    let to = "name = 'two'\nfiles = ['**/*.dock']\n[forms]\nparent = '(| hull \"<target>\" |)'\nslot = { open = '(| berth <name> |)', close = '(| end |)' }\nfill = { open = '(| moor <name> |)', close = '(| cast <name> |)' }\ninclude = '(| tow \"<target>\" |)'\ninherited = '(| above |)'\noutput = '(| <expr> |)'\n[targets]\nsuffixes = ['.dock']\nseparator = '.'\nprefix = '_'\n";
    let to = Arc::new(Dialect::parse(to).expect("a dialect"));
    let files = vec![
        SourceFile::new(
            "views/frames/_base.html",
            "<title>{% block t %}Ferries{% endblock %}</title>{% include 'parts/nav.html' %}",
        ),
        SourceFile::new(
            "views/page.html",
            "{% extends 'frames/_base.html' %}{% block t %}{{ super() }}: {{ name }}{% endblock t %}",
        ),
        SourceFile::new("views/parts/nav.html", "<nav>{{ here }}</nav>"),
    ];
    let site = Site::read(files, dialect::builtin(), &Settings::default());
    let done = translated(&site, &to);
    let text = |path: &str| {
        let file =
            done.sources.iter().find(|file| file.path == path).unwrap_or_else(|| panic!("{path}: {:?}", done.files));
        String::from_utf8_lossy(&file.bytes).into_owned()
    };
    assert_eq!(text("views/frames/_base.dock"), "<title>(| berth t |)Ferries(| end |)</title>(| tow \"parts.nav\" |)");
    assert_eq!(text("views/page.dock"), "(| hull \"frames.base\" |)(| moor t |)(| above |): (| name |)(| cast t |)");
    assert_eq!((done.same, done.different.len()), (1, 0));
}

/// What one tag becomes, in a page of its own beneath a layout.
#[track_caller]
fn check(source: &str, expected: &str) {
    let to = "name = 'two'\nfiles = ['**/*.html']\n[forms]\nparent = '[~ hangs \"<target>\" ~]'\nblock = { open = '[~ lamp <name> ~]', close = '[~ out ~]' }\ninclude = '[~ fetch \"<target>\" [<args>] ~]'\ninherited = '[~ before ~]'\noutput = '[= <expr> =]'\ncomment = '[# <text> #]'\nverbatim = { open = '[~ asis ~]', close = '[~ out asis ~]' }\ncontrol = [{ open = '[~ when <expr> ~]', branch = ['[~ or when <expr> ~]', '[~ or ~]'], close = '[~ out when ~]' }, { open = '[~ each <expr> ~]', close = '[~ out each ~]' }]\nset = '[~ let <name> = <expr> ~]'\n";
    let to = to.replace("'[", "'\\[").replace("~]", "~\\]").replace("#]", "#\\]").replace("=]", "=\\]");
    let to = Arc::new(Dialect::parse(&to).unwrap_or_else(|error| panic!("{error}\n{to}")));
    let files = vec![
        SourceFile::new("base.html", "{% block a %}{% endblock %}{% block b %}x{% endblock %}"),
        SourceFile::new("nav.html", "<nav></nav>"),
        SourceFile::new("page.html", format!("{{% extends 'base.html' %}}{source}")),
    ];
    let site = Site::read(files, dialect::builtin(), &Settings::default());
    let page = site.find("page.html").expect("the page");
    let done = translate(&site, &[page], &to, Unsayable::Kept).expect("a translation");
    let found = String::from_utf8_lossy(&done.sources[0].bytes).into_owned();
    assert_eq!(found, format!("[~ hangs \"base.html\" ~]{expected}"), "{source}");
}

/// Where there is but a condition, a loop is none; files that name what is left out are left out.
#[test]
fn a_loop_becomes_no_condition() {
    let to = "name = 'two'\nfiles = ['**/*.dock']\n[forms]\nparent = '(| hull \"<target>\" |)'\nblock = { open = '(| berth <name> |)', close = '(| end |)' }\ninclude = '(| tow \"<target>\" |)'\noutput = '(| = <expr> |)'\ncontrol = { open = '(| when <expr> |)', branch = '(| else |)', close = '(| done |)' }\n";
    let to = Arc::new(Dialect::parse(to).expect("a dialect"));
    let files = vec![
        SourceFile::new("list.html", "{% for a in b %}<li>{{ a }}</li>{% endfor %}"),
        SourceFile::new("if.html", "{% if a %}1{% else %}2{% endif %}"),
        SourceFile::new("page.html", "<p>{% include 'list.html' %}</p>"),
        SourceFile::new("other.html", "<p>{% include 'if.html' %}</p>"),
        SourceFile::new("with.html", "<p>{% include 'if.html' with x=1 %}</p>"),
        SourceFile::new("there.dock", "(| berth a |)\n  <p>(| = b |)</p>\n(| end |)\n"),
    ];
    let dialects: Vec<_> = dialect::builtin().iter().cloned().chain([Arc::clone(&to)]).collect();
    let site = Site::read(files, &dialects, &Settings::default());
    let done = translated(&site, &to);
    let mut written: Vec<&str> = done.files.iter().map(|(_, path)| path.as_str()).collect();
    written.sort_unstable();
    assert_eq!(written, ["if.dock", "other.dock", "there.dock"]);
    // What is in that dialect already stays as it is.
    let there = done.sources.iter().find(|file| file.path == "there.dock").expect("the file");
    assert_eq!(there.bytes, b"(| berth a |)\n  <p>(| = b |)</p>\n(| end |)\n");
    assert!(done.different.is_empty(), "{done:?}");
    let left: Vec<String> = done.left_out.iter().map(|left| left.reasons[0].to_string()).collect();
    assert_eq!(
        left,
        [
            "list.html:1:1: two has no such condition or loop",
            "page.html:1:4: list.html is left out",
            "with.html:1:4: two has no known way to write `with x=1`"
        ]
    );
}

#[test]
fn each_construct_is_written_by_its_form() {
    check("{% block a %}1{% endblock a %}", "[~ lamp a ~]1[~ out ~]");
    check("{% block b %}{{ super() }}{% endblock %}", "[~ lamp b ~][~ before ~][~ out ~]");
    check("{{ x | f('}}') }}", "[= x | f('}}') =]");
    check("{# why #}", "[# why #]");
    check("{% include \"nav.html\" %}", "[~ fetch \"nav.html\" ~]");
    check("{% include 'nav.html' with a=1 %}", "[~ fetch \"nav.html\" with a=1 ~]");
    check("{% include 'gone.html' %}", "[~ fetch \"gone.html\" ~]");
    check("{% if a %}1{% elif b %}2{% else %}3{% endif %}", "[~ when a ~]1[~ or when b ~]2[~ or ~]3[~ out when ~]");
    check("{% for a in b %}{{ a }}{% endfor %}", "[~ each a in b ~][= a =][~ out each ~]");
    check("{% set a = 1 %}", "[~ let a = 1 ~]");
    check("{% raw %}{{ y }}{% endraw %}", "[~ asis ~]{{ y }}[~ out asis ~]");
    check("{% ferry 3 %}", "{% ferry 3 %}");
    check("a {%- if b -%} c {%- endif %} d", "a[~ when b ~]c[~ out when ~] d");
}
