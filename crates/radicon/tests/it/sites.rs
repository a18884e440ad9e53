//! How names become files, who is whose layout, and what each template is for.

use std::sync::Arc;

use radicon::dialect::{self, Dialect};
use radicon::report::Survey;
use radicon::site::{Parent, Role};
use radicon::{Resolver, Settings, Site, SourceFile};

fn files(list: &[(&str, &str)]) -> Vec<SourceFile> {
    list.iter().map(|(path, text)| SourceFile::new(*path, *text)).collect()
}

#[track_caller]
fn site(settings: &str, list: &[(&str, &str)]) -> Site {
    Site::read(files(list), dialect::builtin(), &Settings::parse(settings).expect("settings"))
}

#[track_caller]
fn flat(site: &Site, page: &str) -> String {
    let flat = Resolver::new(site).flatten(site.find(page).expect("the page")).expect("a page of a sane size");
    assert!(flat.problems.is_empty(), "{:?}", flat.problems);
    String::from_utf8_lossy(&flat.bytes).into_owned()
}

#[test]
fn names_find_files_by_the_rules_of_the_dialect() {
    // The rules, what is written in a/b/from.t, the files there are, and the one that is meant.
    let cases: &[(&str, &str, &[&str], Option<&str>)] = &[
        ("", "x.t", &["x.t", "a/b/x.t"], Some("x.t")),
        ("relative = true", "x.t", &["x.t", "a/b/x.t"], Some("a/b/x.t")),
        ("relative = true", "/x.t", &["x.t", "a/b/x.t"], Some("x.t")),
        ("relative = true", "../x.t", &["x.t", "a/x.t"], Some("a/x.t")),
        ("relative = 'first'", "x.t", &["x.t", "a/b/x.t"], Some("a/b/x.t")),
        ("relative = 'first'", "x.t", &["x.t"], Some("x.t")),
        ("relative = 'first'", "/x.t", &["x.t", "a/b/x.t"], Some("x.t")),
        ("", "./x.t", &["x.t", "a/b/x.t"], Some("a/b/x.t")),
        ("", "../x.t", &["x.t", "a/x.t"], Some("a/x.t")),
        ("root = '@/'\nrelative = true", "@/x.t", &["x.t", "a/b/x.t"], Some("x.t")),
        ("suffixes = ['.t', '.tt']", "x", &["x.tt"], Some("x.tt")),
        ("suffixes = ['.t', '']", "x.t", &["x.t"], Some("x.t")),
        ("separator = '.'\nsuffixes = ['.t']", "p.q.x", &["p/q/x.t"], Some("p/q/x.t")),
        ("separator = '::'\nsuffixes = ['.t']", "p::x", &["p/x.t"], Some("p/x.t")),
        ("prefix = '_'\nsuffixes = ['.t']", "p/x", &["p/_x.t", "p/x.t"], Some("p/_x.t")),
        ("prefix = '_'\nsuffixes = ['.t']", "p/x", &["p/x.t"], Some("p/x.t")),
        ("beside = ['shared']", "x.t", &["shared/x.t"], Some("shared/x.t")),
        ("beside = ['shared']", "x.t", &["shared/x.t", "a/b/shared/x.t"], Some("a/b/shared/x.t")),
        ("beside = ['shared']", "x.t", &["shared/x.t", "x.t"], Some("x.t")),
        ("bare = true", "x.t", &["q/x.t", "a/r/x.t"], Some("a/r/x.t")),
        ("bare = true", "s/x.t", &["q/s/x.t"], None),
        ("", "x.t", &["y.t"], None),
        ("[targets.include]\nprefix = '_'", "x.t", &["_x.t", "x.t"], Some("_x.t")),
        ("[targets.parent]\nprefix = '_'", "x.t", &["_x.t", "x.t"], Some("x.t")),
    ];
    for (rules, written, there, expected) in cases {
        let text = format!(
            "name = 't'\nfiles = ['**/*.t', '**/*.tt']\n[forms]\ninclude = '<<take <target>>>'\n[targets]\n{rules}\n"
        );
        let dialect = Arc::new(Dialect::parse(&text).expect("a dialect"));
        let mut list = vec![SourceFile::new("a/b/from.t", format!("<<take {written}>>"))];
        list.extend(there.iter().map(|path| SourceFile::new(*path, *path)));
        let settings = Settings { roots: Some(vec![String::new()]), ..Settings::default() };
        let site = Site::read(list, &[dialect], &settings);
        let page = site.find("a/b/from.t").expect("the page");
        let flat = Resolver::new(&site).flatten(page).expect("a page of a sane size");
        let found = String::from_utf8_lossy(&flat.bytes).into_owned();
        let wanted = expected.map_or(format!("<<take {written}>>"), str::to_owned);
        assert_eq!(found, wanted, "{rules}: {written} among {there:?}");
    }
}

#[test]
fn a_file_may_extend_the_one_that_it_hides() {
    let site = site(
        "roots = ['own', 'theme', 'vendor']",
        &[
            ("vendor/base.html", "<{% block a %}vendor{% endblock %}>"),
            ("theme/base.html", "{% extends 'base.html' %}{% block a %}theme {{ super() }}{% endblock %}"),
            ("own/base.html", "{% extends 'base.html' %}{% block a %}own {{ super() }}{% endblock %}"),
            ("theme/page.html", "{% extends 'base.html' %}"),
        ],
    );
    assert_eq!(flat(&site, "theme/page.html"), "<own theme vendor>");
}

#[test]
fn roots_of_many_applications_are_found_from_the_names() {
    let apps = ["shop", "blog", "help"];
    let mut list = vec![("core/templates/base.html".to_owned(), "<{% block a %}{% endblock %}>".to_owned())];
    for app in apps {
        list.push((
            format!("{app}/templates/{app}/list.html"),
            format!("{{% extends 'base.html' %}}{{% block a %}}{{% include '{app}/item.html' %}}{{% endblock %}}"),
        ));
        list.push((format!("{app}/templates/{app}/item.html"), app.to_owned()));
    }
    let list = list.into_iter().map(|(path, text)| SourceFile::new(path, text)).collect();
    let site = Site::read(list, dialect::builtin(), &Settings::default());
    let mut roots: Vec<_> = site.roots.iter().map(|root| root.path.as_str()).collect();
    roots.sort_unstable();
    assert_eq!(roots, ["blog/templates", "core/templates", "help/templates", "shop/templates"]);
    assert_eq!(flat(&site, "help/templates/help/list.html"), "<help>");
}

#[test]
fn a_rule_gives_a_folder_its_layout() {
    let settings = "[[folder]]\npath = 'notices'\nlayout = 'layouts/notice.html'\nexcept = ['notices/raw/**']\n";
    let site = site(
        settings,
        &[
            ("layouts/notice.html", "<i>{% block a %}none{% endblock %}</i>"),
            ("notices/fog.html", "{% block a %}fog{% endblock %}"),
            ("notices/named.html", "{% extends 'layouts/other.html' %}{% block a %}x{% endblock %}"),
            ("notices/raw/a.html", "{% block a %}raw{% endblock %}"),
            ("layouts/other.html", "<b>{% block a %}{% endblock %}</b>"),
            ("fares.html", "{% block a %}fares{% endblock %}"),
        ],
    );
    for (page, expected) in [
        ("notices/fog.html", "<i>fog</i>"),
        ("notices/named.html", "<b>x</b>"),
        ("notices/raw/a.html", "raw"),
        ("fares.html", "fares"),
    ] {
        assert_eq!(flat(&site, page), expected, "{page}");
    }
    let Parent::Found { rule: Some(rule), .. } = site.parent(site.find("notices/fog.html").expect("a page")) else {
        panic!("no rule");
    };
    assert!(rule.contains("notices"), "{rule}");
}

#[test]
fn rules_that_lead_nowhere_are_named() {
    let site = site("[[folder]]\npath = 'a'\nlayout = 'none.html'\n", &[("a/x.html", "{% if x %}{% endif %}")]);
    assert!(Survey::of(&site, &[]).problems[0].to_string().contains("`none.html`, which is not a template"));
}

#[test]
fn dynamic_names_are_kept_unless_they_are_pinned() {
    let list = [
        ("base.html", "<{% block a %}{% endblock %}>"),
        ("dark.html", "dark <{% block a %}{% endblock %}>"),
        ("a.html", "{% extends theme %}{% block a %}{% include part ~ '.html' %}{% endblock %}"),
        ("b.html", "{% extends theme %}{% block a %}{% endblock %}"),
        ("c.html", "{% if x %}{% extends 'base.html' %}{% else %}{% extends 'dark.html' %}{% endif %}"),
        ("x.html", "X"),
    ];
    let loose = site("", &list);
    for page in ["a.html", "b.html", "c.html"] {
        let id = loose.find(page).expect("a page");
        assert_eq!(*loose.parent(id), Parent::Dynamic, "{page}");
        let flat = Resolver::new(&loose).flatten(id).expect("a page of a sane size");
        assert!(String::from_utf8_lossy(&flat.bytes).contains("{% extends "), "{page}");
        assert!(!flat.problems.is_empty());
    }
    let pins = "[[pin]]\nexpression = 'theme'\ntarget = 'dark.html'\nfiles = ['b.html']\n[[pin]]\nexpression = 'theme'\ntarget = 'base.html'\n[[pin]]\nexpression = \"part ~ '.html'\"\ntarget = 'x.html'\n";
    let pinned = site(pins, &list);
    assert_eq!((flat(&pinned, "a.html").as_str(), flat(&pinned, "b.html").as_str()), ("<X>", "dark <>"));
}

#[test]
fn application_code_names_what_it_renders() {
    // Three languages that nobody has: each with string literals of its own.
    let list = [
        ("views/base.html", "<{% block a %}{% endblock %}>{% include 'nav.html' %}"),
        ("views/home.html", "{% extends 'base.html' %}"),
        ("views/nav.html", "nav"),
        ("views/row.html", "row"),
        ("views/lonely.html", "{% extends 'base.html' %}{% include 'row.html' %}"),
        ("app/main.tern", "rem it's a route\nserve \"/home\" -> paint('home.html')\n"),
        ("app/list.gannet", ":: row := «x»; send `row.html` to `list`;\n"),
        ("app/mail.auk", "let letter be \"\"\"base.html\"\"\" and \"no/such.html\"\n"),
        ("app/style.css", "a { content: 'nav.html' }"),
    ];
    let site = site("", &list);
    let places: Vec<_> =
        site.references.iter().map(|found| (found.template.as_str(), found.file.as_str(), found.line)).collect();
    let expected = [
        ("views/base.html", "app/mail.auk", 1),
        ("views/home.html", "app/main.tern", 2),
        ("views/row.html", "app/list.gannet", 1),
    ];
    // Style sheets are left out when a site is loaded from the disk; here every file counts.
    let places: Vec<_> = places.into_iter().filter(|(_, file, _)| !file.ends_with(".css")).collect();
    assert_eq!(places, expected);
    let shown = |path: &str| {
        let template = site.get(site.find(path).expect("a file"));
        (template.role, template.rendered)
    };
    assert_eq!(shown("views/row.html"), (Role::Partial, true));
    assert_eq!(shown("views/base.html"), (Role::Layout, true));
    assert_eq!(shown("views/lonely.html"), (Role::Page, true));
}

#[test]
fn the_settings_may_say_which_templates_are_pages() {
    let list = [("a/x.html", "x{% if y %}{% endif %}"), ("b/y.html", "y"), ("a/z.html", "{% include 'a/x.html' %}")];
    let site = site("pages = ['a/*']", &list);
    let pages: Vec<_> = site.pages().map(|id| site.get(id).path.as_str()).collect();
    assert_eq!(pages, ["a/x.html", "a/z.html"]);
}

/// Forty tags that nobody described, single and paired, in blocks, attributes and scripts.
fn untaught() -> (Vec<SourceFile>, usize) {
    let words: Vec<String> =
        (0..40).map(|n| format!("{}{}", ["tide", "moor", "gull", "reef", "sound"][n % 5], n / 5)).collect();
    let mut uses = 0;
    let mut files = vec![SourceFile::new(
        "base.html",
        "{% skerry 'once' %}\n<body {% mast %}>{% block a %}{% endblock %}<script>{% block s %}{% endblock %}</script></body>\n",
    )];
    uses += 2;
    for page in 0..8 {
        let mut text = String::from("{% extends 'base.html' %}{% block a %}");
        for word in words.iter().skip(page * 5).take(5) {
            text +=
                &format!("{{% {word} 'x' y=1 %}}<p class=\"{{% {word} %}}\">{{{{ z|{word} }}}}</p>{{% end{word} %}}");
            uses += 3;
        }
        text += "{% endblock %}{% block s %}let a = {% reef0 a.b %};{% endblock %}";
        uses += 1;
        files.push(SourceFile::new(format!("p{page}.html"), text));
    }
    (files, uses)
}

#[test]
fn tags_that_nobody_described_are_kept_counted_and_named() {
    let (files, uses) = untaught();
    let written: usize = files.iter().map(|file| String::from_utf8_lossy(&file.bytes).matches("{% ").count()).sum();
    let site = Site::read(files.clone(), dialect::builtin(), &Settings::default());
    let survey = Survey::of(&site, &[]);
    assert_eq!(survey.unknown.iter().map(|tag| tag.uses).sum::<usize>(), uses);
    assert_eq!(survey.unknown.len(), 40 * 2 + 2);
    assert!(
        survey.unknown.iter().any(|tag| tag.tag == "{% reef0" && tag.uses == 10 && tag.files == 8),
        "{:?}",
        survey.unknown
    );
    assert_eq!((written, survey.problems.len()), (uses + 8 + 2 * 2 + 8 * 4, 0));
    for (page, file) in files.iter().enumerate().skip(1) {
        let flat = flat(&site, &file.path);
        let source = String::from_utf8_lossy(&file.bytes);
        let content =
            source.split("{% block a %}").nth(1).and_then(|rest| rest.split("{% endblock %}").next()).expect("a block");
        assert!(
            flat.starts_with("{% skerry 'once' %}\n<body {% mast %}>") && flat.contains(content),
            "page {page}: {flat}"
        );
        assert!(flat.contains("<script>let a = {% reef0 a.b %};</script>"), "page {page}: {flat}");
    }
    // A notation that no dialect knows is not guessed at.
    let strange = Site::read(
        vec![SourceFile::new("a.html", "<p>%% take 'a.html' %% [| x |]</p>")],
        dialect::builtin(),
        &Settings::default(),
    );
    assert_eq!(strange.templates[0].dialect.name, "plain");
}

/// A public reader of source maps finds for every line what the origins say.
#[test]
fn source_maps_say_what_the_origins_say() {
    let site = site(
        "",
        &[
            ("base.html", "<p>é😀 {% block a %}base\n two{% endblock %} and</p>\n<i>{% include 'part.html' %}</i>\n"),
            ("part.html", "one\ntwo {{ x }}"),
            ("page.html", "{# note #}\n{% extends 'base.html' %}{% block a %}ü {{ super() }}!{% endblock %}"),
        ],
    );
    let flat = Resolver::new(&site).flatten(site.find("page.html").expect("a page")).expect("a page of a sane size");
    let json = serde_json::to_vec(&flat.source_map(&site, "page.html")).expect("JSON");
    let map = sourcemap::SourceMap::from_slice(&json).expect("a source map");
    let text = String::from_utf8_lossy(&flat.bytes).into_owned();
    let mut checked = 0;
    let ends = flat.stretches.iter().skip(1).map(|stretch| stretch.at).chain([flat.bytes.len() as u32]);
    for (stretch, end) in flat.stretches.iter().zip(ends) {
        let before = &text[..stretch.at as usize];
        let line = before.matches('\n').count() as u32;
        let column = before.rsplit('\n').next().unwrap_or("").encode_utf16().count() as u32;
        let token = map.lookup_token(line, column).expect("a token");
        let origin = flat.origin(&site, stretch.at).expect("an origin");
        assert_eq!((token.get_dst_line(), token.get_dst_col()), (line, column));
        assert_eq!((token.get_source(), token.get_src_line() + 1), (Some(origin.file.as_str()), origin.line));
        assert_eq!(token.get_name(), origin.block.as_deref());
        let source = map.get_source_contents(token.get_src_id()).expect("the source");
        let there = source.lines().nth(token.get_src_line() as usize).expect("the line").encode_utf16();
        let there = String::from_utf16_lossy(&there.skip(token.get_src_col() as usize).collect::<Vec<_>>());
        let here = text[stretch.at as usize..end as usize].lines().next().unwrap_or("");
        assert!(there.starts_with(here), "{here:?} is not {there:?}");
        checked += 1;
    }
    assert!(checked > 6 && map.get_token_count() as usize > checked, "{checked} of {}", map.get_token_count());
}

#[test]
fn a_frequent_tag_that_an_inferred_dialect_leaves_out_may_name_the_layouts() {
    let tag = "<p>{? moor base ?}{? when a ?}x{? end ?}</p>";
    let text = "name = 'tide'\nfiles = ['*.html']\n[forms]\nparent = '{? under <target> ?}'\ncontrol = { open = '{? when <expr> ?}', close = '{? end ?}' }\nother = '{? <expr> ?}'\n";
    let kept = Dialect::parse(text).expect("a dialect");
    let mut inferred = kept.clone();
    inferred.learned = true;
    let named = |dialect: &Dialect, other: &str| {
        let site = Site::read(
            files(&[("a.html", tag), ("b.html", tag), ("c.html", "<p>{? when a ?}x{? end ?}</p>"), ("d.html", other)]),
            &[Arc::new(dialect.clone())],
            &Settings::default(),
        );
        Survey::of(&site, &[]).may_name_layouts(&site).map(|tag| tag.uses)
    };
    let under = "{? under a.html ?}";
    for (dialect, other, expected) in
        [(&inferred, "<p>x</p>", Some(2)), (&kept, "<p>x</p>", None), (&inferred, under, None)]
    {
        assert_eq!(named(dialect, other), expected, "{} {other}", dialect.learned);
    }
}
