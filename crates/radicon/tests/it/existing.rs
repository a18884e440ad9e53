//! Proposals for sites that have layouts already.

use crate::common::{Random, cases, seed};
use crate::made::hidden::{Shape, generate};
use radicon::{Proposal, ProposeOptions, Settings, Site, SourceFile, Strength, dialect, propose};

fn site(files: &[(&str, String)], settings: &str) -> Site {
    let files = files.iter().map(|(path, text)| SourceFile::new(*path, text.clone())).collect();
    Site::read(files, dialect::builtin(), &Settings::parse(settings).expect("settings"))
}

#[track_caller]
fn proposed(site: &Site, strength: Strength) -> Proposal {
    let proposal = propose(site, &ProposeOptions { strength, ..ProposeOptions::default() }).expect("a proposal");
    assert!(proposal.proof.pages.iter().all(|page| page.is_equal_at(strength)), "{proposal:#?}");
    proposal
}

fn text<'p>(proposal: &'p Proposal, path: &str) -> Option<&'p str> {
    let file = proposal.files.iter().find(|file| file.path == path)?;
    std::str::from_utf8(&file.bytes).ok()
}

const BASE: &str = r#"<!DOCTYPE html>
<html lang="en">
<head>
  <title>{% block title %}Ferries{% endblock %} — Tidewater</title>
  <link rel="stylesheet" href="/css/tidewater.css">
  {% block styles %}{% endblock %}
</head>
<body class="page {% block body_class %}{% endblock %}">
  <nav><a href="/">Home</a> <a href="/fares.html">Fares</a></nav>
  <main>
    {% block content %}{% endblock %}
  </main>
  <footer>
    {% block footer %}
    <p>Telephone <b>{% block phone %}01700 553 100{% endblock %}</b>, every day.</p>
    {% endblock %}
  </footer>
</body>
</html>
"#;

/// A page as the layout gives it.
fn page(title: &str, class: &str, styles: &str, content: &str, phone: &str) -> String {
    BASE.replace("{% block title %}Ferries{% endblock %}", title)
        .replace("{% block styles %}{% endblock %}", styles)
        .replace("{% block body_class %}{% endblock %}", class)
        .replace("{% block content %}{% endblock %}", content)
        .replace("    {% block footer %}\n", "    \n")
        .replace("    {% endblock %}\n", "    \n")
        .replace("{% block phone %}01700 553 100{% endblock %}", phone)
}

fn child(title: &str, content: &str) -> String {
    format!(
        "{{% extends \"layouts/base.html\" %}}\n{{% block title %}}{title}{{% endblock %}}\n{{% block content %}}\n    <h1>{title}</h1>\n    {content}\n{{% endblock %}}\n"
    )
}

#[test]
fn copied_pages_take_the_layout_that_is_there() {
    let files = [
        ("layouts/base.html", BASE.to_owned()),
        ("old.html", child("Boats", "<p>We have four.</p>")),
        ("a.html", page("Fares", "", "", "<h1>Fares</h1>\n    <p>Sheep half price.</p>", "01700 553 100")),
        (
            "b.html",
            page(
                "Crew",
                "wide",
                "<link rel=\"stylesheet\" href=\"/css/crew.css\">",
                "<h1>Crew</h1>\n    <p>Nine hands.</p>",
                "01700 553 200",
            ),
        ),
        ("other.html", "<!DOCTYPE html>\n<title>x</title>\n<p>Something else.</p>\n".to_owned()),
    ];
    for strength in [Strength::Bytes, Strength::Blanks] {
        let proposal = proposed(&site(&files, ""), strength);
        let layout = &proposal.layouts[0];
        assert_eq!((layout.path.as_str(), layout.existing, layout.pages), ("layouts/base.html", true, 2));
        assert!(text(&proposal, "layouts/base.html").is_none(), "the layout keeps its form");
        let (a, b) = (text(&proposal, "a.html").expect("a page"), text(&proposal, "b.html").expect("a page"));
        assert!(a.starts_with("{% extends \"layouts/base.html\" %}\n"), "{a}");
        assert!(a.contains("{% block title %}Fares{% endblock %}"), "{a}");
        assert!(!a.contains("phone") && !a.contains("footer") && !a.contains("styles"), "{a}");
        assert!(b.contains("{% block phone %}01700 553 200{% endblock %}") && !b.contains("footer"), "{b}");
        assert!(b.contains("{% block body_class %}wide{% endblock %}"), "{b}");
        assert!(proposal.left.iter().any(|left| left.page == "other.html"));
    }
}

#[test]
fn a_page_that_differs_elsewhere_does_not_fit() {
    let odd = page("Fares", "", "", "<p>x</p>", "1").replace("<nav>", "<nav class=\"old\">");
    let files = [("layouts/base.html", BASE.to_owned()), ("old.html", child("Boats", "")), ("a.html", odd)];
    let proposal = proposed(&site(&files, ""), Strength::Blanks);
    assert!(proposal.files.is_empty(), "{:?}", proposal.files);
}

#[test]
fn what_all_pages_of_a_layout_say_the_layout_says() {
    let notice = "<p>From the first of May boats leave Gull Point at a quarter past each hour.</p>";
    let with = |title: &str| {
        child(title, "<p>x</p>").replace(
            "{% block title %}",
            &format!("{{% block footer %}}\n    {notice}\n{{% endblock %}}\n{{% block title %}}"),
        )
    };
    let base = BASE.replace("<b>{% block phone %}01700 553 100{% endblock %}</b>", "");
    let files =
        [("layouts/base.html", base), ("a.html", with("Boats")), ("b.html", with("Fares")), ("c.html", with("Crew"))];
    let proposal = proposed(&site(&files, ""), Strength::Blanks);
    let base = text(&proposal, "layouts/base.html").expect("the layout changes");
    let lines = format!("    {{% block footer %}}\n      {notice}\n    {{% endblock %}}\n");
    assert!(base.contains(&lines) && !base.contains("Telephone"), "{base}");
    for page in ["a.html", "b.html", "c.html"] {
        assert!(text(&proposal, page).is_some_and(|text| !text.contains("footer")), "{page}");
    }
    // Spelling does not keep it from going up, where it does not count.
    let mut spelt = files.clone();
    spelt[1].1 = spelt[1].1.replace("<p>From", "<P >From");
    assert!(text(&proposed(&site(&spelt, ""), Strength::Blanks), "layouts/base.html").is_none());
    let proposal = proposed(&site(&spelt, ""), Strength::Dom);
    assert!(text(&proposal, "layouts/base.html").is_some_and(|base| base.contains("quarter past each hour")));
    // Somebody else's layout is not touched.
    let settings = "vendored = ['layouts/**']";
    let proposal = proposed(&site(&files, settings), Strength::Blanks);
    assert!(text(&proposal, "layouts/base.html").is_none());
}

#[test]
fn a_copy_of_a_vendored_file_becomes_its_child() {
    let theirs = BASE.to_owned();
    let ours = BASE.replace("Ferries{% endblock %}", "Our boats{% endblock %}").replace(
        "{% block styles %}{% endblock %}",
        "{% block styles %}<link rel=\"stylesheet\" href=\"/css/ours.css\">{% endblock %}",
    );
    let child = "{% extends \"base.html\" %}\n{% block content %}<p>Hello</p>{% endblock %}\n".to_owned();
    let files = [("own/base.html", ours), ("theme/base.html", theirs), ("own/index.html", child)];
    let proposal = proposed(&site(&files, "roots = ['own', 'theme']"), Strength::Blanks);
    let base = text(&proposal, "own/base.html").expect("it changes");
    assert_eq!(
        base,
        "{% extends \"base.html\" %}\n{% block title %}Our boats{% endblock %}\n{% block styles %}<link rel=\"stylesheet\" href=\"/css/ours.css\">{% endblock %}\n"
    );
    assert!(text(&proposal, "theme/base.html").is_none());
    let uncovered: Vec<_> = proposal.uncovered().map(|file| file.path.as_str()).collect();
    assert!(uncovered == ["own/base.html"] && proposal.left.iter().all(|left| left.page != "own/base.html"));

    // Written in another spelling it is a copy where that does not count.
    let spelt = files.clone().map(|(path, text)| match path {
        "own/base.html" => (
            path,
            text.replace("<nav>", "<NAV >").replace("<link rel=\"stylesheet\" href", "<link  REL='stylesheet' href"),
        ),
        _ => (path, text),
    });
    let proposal = proposed(&site(&spelt, "roots = ['own', 'theme']"), Strength::Dom);
    let base = text(&proposal, "own/base.html").expect("it changes");
    assert!(base.contains("Our boats") && base.contains("ours.css") && !base.contains("footer"), "{base}");
}

#[test]
fn copies_beside_a_layout_do_not_choose_the_dialect_of_other_pages() {
    let other = |name: &str| {
        let text = page(name, "", "", &format!("<h1>{name}</h1>"), "01700 553 100");
        text.replace("<nav>", "<nav class=\"old\">").replace("/css/tidewater.css", "/css/old.css")
    };
    let files = [
        ("booking/base.html", BASE.to_owned()),
        ("booking/old.html", child("Boats", "").replace("layouts/base.html", "booking/base.html")),
        ("booking/copy.html", page("Pay", "", "", "<h1>Pay</h1>", "01700 553 100")),
        ("a.html", other("Crew")),
        ("b.html", other("Fares")),
        ("c.html", other("Sheep")),
    ];
    let proposal = proposed(&site(&files, ""), Strength::Blanks);
    assert!(text(&proposal, "booking/copy.html").is_some_and(|text| text.starts_with("{% extends")));
    assert!(text(&proposal, "a.html").is_some_and(|text| text.starts_with("<!--: layout layouts/base.html")));
    assert_eq!(proposal.dialect, "brace-percent, margin");
}

#[test]
fn a_copy_of_a_vendored_child_becomes_its_child() {
    let theirs = child("Boats", "<p>We have four boats and a crane, and a cook.</p>").replace(
        "{% block title %}",
        "{% block styles %}<link rel=\"stylesheet\" href=\"/css/boats-and-cranes.css\">{% endblock %}\n{% block title %}",
    );
    let ours = theirs.replace("{% block title %}Boats", "{% block title %}Our boats");
    let files = [
        ("own/boats.html", ours),
        ("theme/boats.html", theirs),
        ("theme/layouts/base.html", BASE.to_owned()),
        ("own/index.html", "{% extends \"boats.html\" %}\n".to_owned()),
    ];
    let proposal = proposed(&site(&files, "roots = ['own', 'theme']"), Strength::Blanks);
    let boats = text(&proposal, "own/boats.html").expect("it changes");
    assert_eq!(boats, "{% extends \"boats.html\" %}\n{% block title %}Our boats{% endblock %}\n");
}

#[test]
fn pages_stay_in_the_dialect_of_their_layout() {
    let margin = BASE
        .replace("{% block ", "<!--: block ")
        .replace(" %}", " -->")
        .replace("{% endblock -->", "<!--: end -->")
        .replace("/css/tidewater.css", "/css/harbours.css");
    let child_of = |layout: &str| format!("<!--: layout {layout} -->\n<!--: block title -->x<!--: end title -->\n");
    let copy = page("Fares", "", "", "<h1>Fares</h1>", "01700 553 100");
    let files = [
        ("layouts/base.html", BASE.to_owned()),
        ("harbours/frame.html", margin),
        ("old.html", child("Boats", "")),
        ("harbours/old.html", child_of("harbours/frame.html")),
        ("harbours/a.html", copy.replace("/css/tidewater.css", "/css/harbours.css")),
        ("a.html", copy),
    ];
    let proposal = proposed(&site(&files, ""), Strength::Blanks);
    assert!(text(&proposal, "a.html").is_some_and(|text| text.starts_with("{% extends")));
    assert!(
        text(&proposal, "harbours/a.html").is_some_and(|text| text.starts_with("<!--: layout harbours/frame.html"))
    );
}

#[test]
fn a_page_that_only_adds_inherits_the_rest() {
    let base = BASE.replace(
        "{% block styles %}{% endblock %}",
        "{% block styles %}\n  <link rel=\"stylesheet\" href=\"/css/calm.css\">\n  {% endblock %}",
    );
    let styles =
        "\n  <link rel=\"stylesheet\" href=\"/css/calm.css\">\n  <link rel=\"stylesheet\" href=\"/css/crew.css\">\n  ";
    let files = [
        ("layouts/base.html", base),
        ("old.html", child("Boats", "<p>We have four.</p>")),
        ("b.html", page("Crew", "", styles, "<h1>Crew</h1>", "01700 553 100")),
    ];
    for strength in [Strength::Blanks, Strength::Bytes] {
        let proposal = proposed(&site(&files, ""), strength);
        let b = text(&proposal, "b.html").expect("a page");
        let inherits = b.contains("{{ super() }}") && b.contains("crew.css") && !b.contains("calm.css");
        assert!(inherits, "{strength:?}: {b}");
    }
}

#[test]
fn pages_of_a_new_layout_inherit_too() {
    // Two pages have something else than the script, so it is a block with a default.
    let page = |number: usize| {
        let own = format!("<script src=\"/js/page-{number}.js\"></script>");
        let scripts = match number {
            0..8 => "<script src=\"/js/menu-of-all-pages.js\"></script>".to_owned(),
            8..10 => format!("<script src=\"/js/menu-of-all-pages.js\"></script>\n  {own}"),
            _ => format!("<p>Page {number} needs no menu.</p>"),
        };
        SourceFile::new(
            format!("{number}.html"),
            format!(
                "<!DOCTYPE html>\n<html>\n<head>\n  <title>Page {number}</title>\n  <meta charset=\"utf-8\">\n</head>\n<body>\n  <header><p>Tidewater Ferries, owned by the people of the seven harbours, since 1871</p></header>\n  <main>\n    <p>This is all that page {number} has to say about boats and harbours.</p>\n  </main>\n  {scripts}\n</body>\n</html>\n"
            ),
        )
    };
    let files: Vec<SourceFile> = (0..12).map(page).collect();
    for dialect in ["margin", "brace-percent"] {
        let site = Site::read(files.clone(), dialect::builtin(), &Settings::default());
        let dialect = dialect::builtin_named(dialect);
        let proposal = propose(&site, &ProposeOptions { dialect: dialect.clone(), ..ProposeOptions::default() })
            .expect("a proposal");
        assert!(proposal.proof.equal);
        let tag = dialect.and_then(|dialect| Some(dialect.form(dialect::Kind::Inherited)?.open.example().to_owned()));
        let nine = text(&proposal, "9.html").expect("a page");
        assert!(nine.contains(&tag.expect("a tag")) && !nine.contains("menu-of-all-pages"), "{nine}");
    }
}

#[test]
fn half_converted_sites_are_converted_to_the_end() {
    let first = seed("half converted sites");
    let (mut copies, mut taken) = (0, 0);
    for case in 0..cases(20, 200) {
        let mut random = Random(first + case);
        let shape = Shape { reindented: false, mixed_ends: false, ..Shape::random(&mut random, 60) };
        let hidden = generate(&mut random, shape);
        // Every other page is a copy still.
        let is_copy = |path: &str| hidden.pages.iter().position(|page| page.path == path).filter(|at| at % 2 == 0);
        let source = |template: &radicon::site::Template| match is_copy(&template.path) {
            Some(at) => hidden.pages[at].clone(),
            None => SourceFile::new(template.path.clone(), template.source.to_vec()),
        };
        let half = hidden.site.templates.iter().map(source).collect();
        let half = Site::read(half, dialect::builtin(), &Settings::default());
        for strength in [Strength::Bytes, Strength::Blanks] {
            let proposal = proposed(&half, strength);
            copies += hidden.pages.len().div_ceil(2);
            taken +=
                proposal.layouts.iter().filter(|layout| layout.existing).map(|layout| layout.beneath).sum::<usize>();
        }
    }
    println!("{taken} of {copies} copies took a layout that was there");
    assert!(taken * 100 >= copies * 95, "{taken} of {copies}");
}

#[test]
fn words_around_inherited_words_keep_their_spaces() {
    let words = "Boats leave every hour of the day";
    let base = BASE.replace("Telephone <b>", &format!("{{% block hours %}}{words}{{% endblock %}} <b>"));
    let own = format!("In May {words} and night");
    let copy = page("Crew", "", "", "<h1>Crew</h1>", "01700 553 100").replace("Telephone <b>", &format!("{own} <b>"));
    let files = [("layouts/base.html", base), ("old.html", child("Boats", "<p>Four.</p>")), ("b.html", copy)];
    for strength in [Strength::Blanks, Strength::Bytes] {
        let proposal = proposed(&site(&files, ""), strength);
        let b = text(&proposal, "b.html").expect("a page");
        assert!(b.contains("In May {{ super() }} and night"), "{strength:?}: {b}");
    }
}

#[test]
fn a_blank_before_two_blocks_is_there_once() {
    // Nothing fixed stands between the blocks, and the text before them ends with a blank.
    let frame = "<!DOCTYPE html>\n<html>\n<head>\n  <title>Tidewater Ferries, the line of the seven harbours</title>\n</head>\n<body>\n  <h1>Boats FILL</h1>\n  <p>Owned by the people of the seven harbours, all of them</p>\n</body>\n</html>\n";
    let base = frame.replace("FILL", "{% block first %}<b>today</b>{% endblock %}{% block second %}{% endblock %}");
    let own = frame.replace("FILL", "<i>tomorrow</i> and <i>later</i>");
    let usual = frame.replace("FILL", "<b>today</b>");
    let child = "{% extends \"layouts/base.html\" %}\n{% block second %}, and no others{% endblock %}\n";
    for strength in [Strength::Bytes, Strength::Blanks] {
        let files = [
            ("layouts/base.html", base.clone()),
            ("a.html", child.into()),
            ("b.html", own.clone()),
            ("c.html", usual.clone()),
        ];
        let proposal = proposed(&site(&files, ""), strength);
        let left: Vec<&str> = proposal.left.iter().map(|left| left.page.as_str()).collect();
        assert_eq!(left, ["a.html"], "{:?}", proposal.left);
        let text = text(&proposal, "b.html").expect("a child");
        assert!(text.starts_with("{% extends") && text.contains("tomorrow"), "{text}");
    }
}

#[test]
fn what_children_override_alike_is_said_by_a_layout_between() {
    let aside = "{% block footer %}\n<aside class=\"harbour\">\n  <p>The harbour office is open from six to six.</p>\n  <a href=\"/harbour.html\">All harbours of the line</a>\n</aside>\n{% endblock %}";
    let styles = "{% block styles %}<link rel=\"stylesheet\" href=\"/css/harbour.css\">{% endblock %}";
    let mut files = vec![("layouts/base.html".to_owned(), BASE.to_owned())];
    for name in ["northwick", "saltmere", "st-wend", "gull-rock", "eddy"] {
        let own = child(name, "<p>A harbour.</p>");
        files.push((format!("harbours/{name}.html"), format!("{own}\n{styles}\n\n{aside}\n")));
    }
    for number in 0..3 {
        files.push((format!("{number}.html"), child("Fares", "<p>Three.</p>")));
    }
    let files: Vec<(&str, String)> = files.iter().map(|(path, text)| (path.as_str(), text.clone())).collect();
    let proposal = proposed(&site(&files, ""), Strength::Blanks);
    let [layout] = &proposal.layouts[..] else { panic!("{:#?}", proposal.layouts) };
    assert_eq!((layout.path.as_str(), layout.pages), ("layouts/harbours.html", 5));
    assert_eq!(layout.fills, ["styles", "footer"]);
    let new = format!("{{% extends \"layouts/base.html\" %}}\n\n{styles}\n\n{aside}\n");
    assert_eq!(text(&proposal, "layouts/harbours.html"), Some(new.as_str()));
    let page = child("eddy", "<p>A harbour.</p>").replace("layouts/base", "layouts/harbours");
    assert_eq!(text(&proposal, "harbours/eddy.html").map(str::trim_end), Some(page.trim_end()));
    assert!(text(&proposal, "0.html").is_none() && text(&proposal, "layouts/base.html").is_none());
    // Where a file has the name, the layout's tells it apart, not a number.
    let mut other = files.clone();
    other.push(("layouts/harbours.html", "<p>Not yet.</p>\n".to_owned()));
    let proposal = proposed(&site(&other, ""), Strength::Blanks);
    assert_eq!(proposal.layouts[0].path, "layouts/base-harbours.html");
    // What four say alike is no place that people know.
    let few: Vec<_> = files.iter().filter(|(path, _)| !path.ends_with("eddy.html")).cloned().collect();
    assert!(proposed(&site(&few, ""), Strength::Blanks).layouts.is_empty());
}

#[test]
fn a_copy_in_another_dialect_is_told_which_layout_it_copies() {
    let crew = page("Crew", "", "", "<h1>Crew</h1>\n    <!--: partial parts/crew.html -->", "01700 553 100");
    let files = [
        ("crew.html", crew.clone()),
        ("fares.html", child("Fares", "<p>Three pounds.</p>")),
        ("layouts/base.html", BASE.to_owned()),
        ("parts/crew.html", "<ul><li>Anna</li></ul>\n".to_owned()),
    ];
    let site = site(&files, "");
    let proposal = proposed(&site, Strength::Blanks);
    let left = proposal.left.iter().find(|left| left.page == "crew.html").expect("it is left");
    assert_eq!(left.reason, "a copy of layouts/base.html, which is in brace-percent: translate it first");
    // Once it is, it takes the layout.
    let mut files = files;
    files[0].1 = crew.replace("<!--: partial parts/crew.html -->", "{% include \"parts/crew.html\" %}");
    let files = files.map(|(path, text)| SourceFile::new(path, text)).into();
    let proposal = proposed(&Site::read(files, dialect::builtin(), &Settings::default()), Strength::Blanks);
    assert!(text(&proposal, "crew.html").is_some_and(|text| text.starts_with("{% extends \"layouts/base.html\" %}")));
}
