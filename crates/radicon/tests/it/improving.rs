//! Layouts that exist get better: what their children say alike moves up, or into a layout in between.

use crate::common::{Random, cases, seed};
use crate::made::better::{Again, compare, generate};
use radicon::{Proposal, ProposeOptions, Settings, Site, SourceFile, Strength, dialect, propose};

fn site(files: &[(String, String)]) -> Site {
    let files = files.iter().map(|(path, text)| SourceFile::new(path.as_str(), text.clone())).collect();
    Site::read(files, dialect::builtin(), &Settings::default())
}

#[track_caller]
fn proposed(site: &Site) -> Proposal {
    let proposal = propose(site, &ProposeOptions::default()).expect("a proposal");
    assert!(proposal.proof.pages.iter().all(|page| page.is_equal_at(Strength::Blanks)), "{proposal:#?}");
    proposal
}

fn text<'p>(proposal: &'p Proposal, path: &str) -> Option<&'p str> {
    let file = proposal.files.iter().find(|file| file.path == path)?;
    std::str::from_utf8(&file.bytes).ok()
}

fn base(crumbs: &str, scripts: &str) -> (String, String) {
    let text = format!(
        "<!DOCTYPE html>\n<html>\n<head>\n  <title>{{% block title %}}{{% endblock %}}</title>\n</head>\n<body>\n  \
         {{% block crumbs %}}{crumbs}{{% endblock %}}\n  <main>\n    {{% block content %}}{{% endblock %}}\n  </main>\n  \
         {{% block scripts %}}{scripts}{{% endblock %}}\n</body>\n</html>\n"
    );
    ("layouts/base.html".to_owned(), text)
}

fn crumbs(items: &str) -> String {
    format!(
        "\n<nav aria-label=\"Where you are\">\n  <ol class=\"crumbs\">\n    <li><a href=\"/desk.html\">Harbour desk</a></li>\n{items}  </ol>\n</nav>\n"
    )
}

/// A child of the base layout, with more overrides.
fn child(name: &str, more: &[(&str, &str)]) -> (String, String) {
    let mut text = format!("{{% extends \"layouts/base.html\" %}}\n{{% block title %}}{name}{{% endblock %}}\n");
    for (block, content) in more {
        text += &format!("\n{{% block {block} %}}{content}{{% endblock %}}\n");
    }
    text += &format!("\n{{% block content %}}\n  <h1>{name}</h1>\n{{% endblock %}}\n");
    (format!("desk/{name}.html"), text)
}

const NAMES: [&str; 6] = ["boats", "berths", "tides", "crew", "fares", "lamps"];

fn with_crumbs() -> Vec<(String, String)> {
    let more = |name: &str| "    <li>Today</li>\n".repeat(name.len() % 3);
    let items = |name: &str| crumbs(&format!("    <li>All {name}</li>\n{}", more(name)));
    NAMES.map(|name| child(name, &[("crumbs", &items(name))])).into()
}

#[test]
fn a_shared_wrapper_moves_into_the_layout() {
    let files = [vec![base("", "")], with_crumbs()].concat();
    let proposal = proposed(&site(&files));
    let new = text(&proposal, "layouts/base.html").expect("the layout");
    let around = "  {% block crumbs %}\n    <nav aria-label=\"Where you are\">\n      <ol class=\"crumbs\">\n        <li><a href=\"/desk.html\">Harbour desk</a></li>\n        {% block crumbs_items %}{% endblock %}\n";
    assert!(new.contains(around), "{new}");
    let page = text(&proposal, "desk/boats.html").expect("a page");
    let own = "\n{% block crumbs_items %}\n  <li>All boats</li>\n  <li>Today</li>\n  <li>Today</li>\n{% endblock %}\n";
    assert_eq!(page, child("boats", &[]).1.replace("boats{% endblock %}\n", &format!("boats{{% endblock %}}\n{own}")));
    let [layout] = &proposal.layouts[..] else { panic!("{:#?}", proposal.layouts) };
    assert!(layout.existing && layout.pages == NAMES.len(), "{layout:#?}");
    // What does not fit stays as it is, and is no reason against it.
    let other = child("notices", &[("crumbs", "<p>Notices of the day</p>")]);
    let proposal = proposed(&site(&[files.clone(), vec![other]].concat()));
    assert!(text(&proposal, "layouts/base.html").is_some() && text(&proposal, "desk/notices.html").is_none());
}

#[test]
fn where_a_page_shows_the_default_a_layout_in_between_says_it() {
    let notices = ("notices.html".to_owned(), child("notices", &[]).1);
    let files = [vec![base("", ""), notices], with_crumbs()].concat();
    let proposal = proposed(&site(&files));
    assert!(text(&proposal, "layouts/base.html").is_none() && text(&proposal, "notices.html").is_none());
    let [layout] = &proposal.layouts[..] else { panic!("{:#?}", proposal.layouts) };
    assert_eq!((layout.path.as_str(), layout.pages, layout.existing), ("layouts/desk.html", NAMES.len(), false));
    assert_eq!(layout.fills, ["crumbs"]);
    assert_eq!(layout.blocks.iter().map(|block| block.name.as_str()).collect::<Vec<_>>(), ["crumbs_items"]);
}

#[test]
fn a_default_that_fits_the_wrapper_shows_as_before() {
    let own = crumbs("    <li>All of them</li>\n");
    let files = [vec![base(&own, ""), child("notices", &[])], with_crumbs()].concat();
    let proposal = proposed(&site(&files));
    let new = text(&proposal, "layouts/base.html").expect("the layout");
    assert!(new.contains("{% block crumbs_items %}") && new.contains("<li>All of them</li>"), "{new}");
    assert!(text(&proposal, "desk/notices.html").is_none());
}

#[test]
fn what_all_children_add_the_layout_says() {
    let script = "<script src=\"/js/desk-clock.js\" type=\"module\" crossorigin=\"anonymous\"></script>";
    let add = |own: &str| format!("\n  {{{{ super() }}}}\n  {script}\n{own}");
    let mut files = vec![base("\n    <p>Up</p>\n  ", "\n    <script src=\"/js/base.js\"></script>\n  ")];
    files.extend(NAMES.map(|name| {
        let own = if name == "tides" { "  <script src=\"/js/tides.js\"></script>\n" } else { "" };
        child(name, &[("scripts", &add(own))])
    }));
    let proposal = proposed(&site(&files));
    let new = text(&proposal, "layouts/base.html").expect("the layout");
    let scripts =
        format!("{{% block scripts %}}\n    <script src=\"/js/base.js\"></script>\n    {script}\n  {{% endblock %}}");
    assert!(new.contains(&scripts), "{new}");
    assert_eq!(text(&proposal, "desk/crew.html"), Some(child("crew", &[]).1.as_str()));
    let tides = text(&proposal, "desk/tides.html").expect("a page");
    assert!(tides.contains("super()") && tides.contains("tides.js") && !tides.contains("desk-clock"), "{tides}");
    // A page that shows what the layout has would get the script too.
    files.push(child("notices", &[]));
    assert!(text(&proposed(&site(&files)), "layouts/base.html").is_none());
}

#[test]
fn what_most_children_say_becomes_the_default() {
    let telephone =
        "\n  <p class=\"telephone\">The harbour office answers from six to six: <b>01700 553 100</b>, ext. 4</p>\n";
    let mut files = vec![base("", "")];
    files.extend(NAMES.map(|name| child(name, &[("crumbs", telephone)])));
    files.push(child("notices", &[("crumbs", "<p>Nobody answers</p>")]));
    let proposal = proposed(&site(&files));
    assert!(text(&proposal, "layouts/base.html").expect("the layout").contains("telephone"));
    assert_eq!(text(&proposal, "desk/crew.html"), Some(child("crew", &[]).1.as_str()));
    assert!(text(&proposal, "desk/notices.html").is_none());
}

#[test]
fn hidden_improvements_are_found_again() {
    let first = seed("hidden improvements");
    let mut all = Again::default();
    for case in 0..cases(40, 2_000) {
        let better = generate(&mut Random(first + case));
        let proposal = proposed(&better.poor);
        let files = proposal.files.iter().map(|file| (file.path.clone(), file.bytes.clone()));
        let mut texts: std::collections::BTreeMap<String, Vec<u8>> =
            better.poor.templates.iter().map(|template| (template.path.clone(), template.source.to_vec())).collect();
        texts.extend(files);
        let files = texts.into_iter().map(|(path, bytes)| SourceFile::new(path, bytes)).collect();
        let again = compare(&better, &Site::read(files, dialect::builtin(), &Settings::default()));
        if again.found < again.hidden || again.proposed > again.hidden {
            println!("seed {}: {again:?}", first + case);
            if std::env::var("RADICON_SHOW").is_ok_and(|seed| seed == (first + case).to_string()) {
                let print = |file: &radicon::site::Template| {
                    println!("== {}\n{}", file.path, String::from_utf8_lossy(&file.source))
                };
                better.good.templates.iter().for_each(print);
                println!("------- found\n{:#?}", proposal.layouts);
                proposal
                    .files
                    .iter()
                    .for_each(|file| println!("== {}\n{}", file.path, String::from_utf8_lossy(&file.bytes)));
            }
        }
        all.add(again);
    }
    println!("{all:?}");
    assert!(all.found * 10 >= all.hidden * 9, "{all:?}");
    assert!((all.proposed - all.found) * 20 <= all.proposed, "{all:?}");
}
