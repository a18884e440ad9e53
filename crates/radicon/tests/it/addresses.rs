//! Relative URLs that follow the page, in everything that moves markup between files.

use std::collections::BTreeMap;
use std::sync::Arc;

use crate::common::steps::whole;
use crate::common::{Random, cases, seed};
use radicon::dialect::{self, Dialect};
use radicon::site::Role;
use radicon::text::Span;
use radicon::translate::{Unsayable, translate};
use radicon::{Proposal, ProposeOptions, Resolver, Settings, Site, SourceFile, Step, Strength, propose, prove};

fn margin() -> Arc<Dialect> {
    dialect::builtin_named("margin").expect("a dialect")
}

fn read(files: &[(&str, &str)]) -> Site {
    let files = files.iter().map(|(path, text)| SourceFile::new(*path, *text)).collect();
    Site::read(files, dialect::builtin(), &Settings::default())
}

#[track_caller]
fn flat(site: &Site, page: &str) -> String {
    let flat = Resolver::new(site).flatten(site.find(page).expect("a page")).expect("a page of a sane size");
    String::from_utf8_lossy(&flat.bytes).into_owned()
}

const BASE: &str = "<link href=\"../style/a.css\"><nav><!--: partial ../parts/nav.html --></nav>\
    <a href=\"<!--: block up -->../index.html<!--: end up -->\">Up</a><!--: block content --><!--: end content -->";

const SITE: [(&str, &str); 6] = [
    ("layouts/base.html", BASE),
    ("layouts/de.html", "<!--: layout base.html -->\n<!--: block up -->../de/hinauf.html<!--: end up -->\n"),
    (
        "parts/nav.html",
        "<a href=\"../de/x.html?q=1#f\">x</a><img src=\"lamp.png\" srcset=\"lamp.png 1x, ../b.png 2x\">",
    ),
    (
        "de/lamps/wick.html",
        "<!--: layout ../../layouts/de.html -->\n<!--: block content --><a href=\"../x.html\">own</a><!--: end content -->\n",
    ),
    (
        "index.html",
        "<!--: layout layouts/base.html -->\n<!--: block content --><a href=\"x.html\">own</a><!--: end content -->\n",
    ),
    (
        "layouts/odd.html",
        "<a href=\"./../kept.html\"></a><a href=\"../layouts/kept.css\"></a><!--: block content --><!--: end content -->",
    ),
];

#[test]
fn a_page_gets_the_urls_of_its_own_folder() {
    let files = SITE.map(|(path, text)| {
        // Names of files start at the site's folder.
        (
            path,
            text.replace("../../layouts/", "layouts/")
                .replace("layout base", "layout layouts/base")
                .replace("../parts/", "parts/"),
        )
    });
    let files: Vec<(&str, &str)> = files.iter().map(|(path, text)| (*path, text.as_str())).collect();
    let site = read(&files);
    assert_eq!(
        flat(&site, "de/lamps/wick.html"),
        "<link href=\"../../style/a.css\"><nav><a href=\"../x.html?q=1#f\">x</a><img src=\"../../parts/lamp.png\" \
         srcset=\"../../parts/lamp.png 1x, ../../b.png 2x\"></nav><a href=\"../hinauf.html\">Up</a><a href=\"../x.html\">own</a>"
    );
    assert_eq!(
        flat(&site, "index.html"),
        "<link href=\"style/a.css\"><nav><a href=\"de/x.html?q=1#f\">x</a><img src=\"parts/lamp.png\" \
         srcset=\"parts/lamp.png 1x, b.png 2x\"></nav><a href=\"index.html\">Up</a><a href=\"x.html\">own</a>"
    );
    // Each byte has its place, also behind a URL that got shorter or longer.
    let page = site.find("de/lamps/wick.html").expect("a page");
    let flat = Resolver::new(&site).flatten(page).expect("a page of a sane size");
    for (text, file, column) in [
        ("../../style", "layouts/base.html", 13),
        ("\"><nav>", "layouts/base.html", 27),
        ("../hinauf", "layouts/de.html", 19),
        ("own", "de/lamps/wick.html", 44),
    ] {
        let at = String::from_utf8_lossy(&flat.bytes).find(text).expect("it stands there") as u32;
        let origin = flat.origin(&site, at).expect("an origin");
        assert_eq!((origin.file.as_str(), origin.column), (file, column), "{text}");
    }
    let odd = read(&[files[5], ("a/b.html", "<!--: layout layouts/odd.html -->")]);
    assert_eq!(
        self::flat(&odd, "a/b.html").trim(),
        "<a href=\"../kept.html\"></a><a href=\"../layouts/kept.css\"></a>"
    );
}

#[test]
fn steps_take_urls_along() {
    let page = |text: &str| {
        format!("<!--: layout layouts/base.html -->\n<!--: block content -->{text}<!--: end content -->\n")
    };
    let (near, far) = (page("<p><a href=\"de/x.html\">x</a></p>"), page("<p><a href=\"../de/x.html\">x</a></p>"));
    let base = "<main><!--: block content --><!--: end content --></main>";
    let files = [("layouts/base.html", base), ("a.html", near.as_str()), ("en/b.html", far.as_str())];
    let site = read(&files);
    let written = |step: &Step, path: &str| {
        let change = step.changes.iter().find(|change| change.path == path).expect("a change");
        String::from_utf8_lossy(change.new.as_ref().expect("a text")).into_owned()
    };
    let id = |path: &str| site.find(path).expect("a file");
    let up = radicon::steps::pull_up(&site, id("layouts/base.html"), "content").expect("a step");
    assert!(up.proof.equal && up.proof.pages.len() == 2);
    assert_eq!(
        written(&up, "layouts/base.html"),
        "<main><!--: block content --><p><a href=\"../de/x.html\">x</a></p><!--: end content --></main>"
    );
    let text = &site.get(id("en/b.html")).source;
    let at = text.windows(3).position(|bytes| bytes == b"<p>").expect("the paragraph");
    let span = Span::from_range(at..at + "<p><a href=\"../de/x.html\">x</a></p>".len());
    let out = radicon::steps::extract(&site, id("en/b.html"), span, &whole("link".to_owned(), true)).expect("a step");
    assert_eq!(written(&out, "partials/link.html").trim(), "<p><a href=\"../de/x.html\">x</a></p>");
    assert_eq!(out.changes.len(), 3, "the copy in the other folder too");
}

#[test]
fn translations_keep_what_pages_get() {
    let page = |layout: &str| format!("<!--: layout {layout} -->\n<!--: block content -->1<!--: end content -->\n");
    let page = page("layouts/base.html");
    let base = "<link href=\"../style/a.css\"><!--: block content --><!--: end content -->";
    let one_folder = read(&[("layouts/base.html", base), ("de/a.html", &page), ("de/b.html", &page)]);
    let all = |site: &Site| site.templates.iter().filter_map(|t| site.find(&t.path)).collect::<Vec<_>>();
    let brace = dialect::builtin_named("brace-percent").expect("a dialect");
    let done = translate(&one_folder, &all(&one_folder), &brace, Unsayable::LeftOut).expect("a translation");
    assert_eq!((done.same, done.different.len()), (2, 0));
    let text = |sources: &[SourceFile]| {
        String::from_utf8_lossy(&sources.iter().find(|f| f.path.contains("base")).expect("it").bytes).into_owned()
    };
    assert!(text(&done.sources).contains("href=\"../style/a.css\""));
    let back = Site::read(done.sources, std::slice::from_ref(&brace), &Settings::default());
    let done = translate(&back, &all(&back), &margin(), Unsayable::LeftOut).expect("a translation");
    assert_eq!((done.same, done.different.len(), text(&done.sources).as_str()), (2, 0, base));
    // One text cannot serve pages of two depths in a dialect that keeps URLs: that is said.
    let two = read(&[("layouts/base.html", base), ("de/a.html", &page), ("b.html", &page)]);
    let done = translate(&two, &all(&two), &brace, Unsayable::LeftOut).expect("a translation");
    assert_eq!(done.different, ["b.html"]);
}

/// Pages of several depths; each says what its folder needs.
fn handbook(random: &mut Random) -> Vec<SourceFile> {
    let folders = ["", "de/", "en/", "de/lamps/", "en/fog/old/"];
    let page = |(number, random): (usize, &mut Random)| {
        let folder = folders[number % folders.len()];
        let up = "../".repeat(folder.matches('/').count());
        let odd = if random.once_in(12) { "./" } else { "" };
        let out = "../".repeat(folder.matches('/').count() + 1);
        let words: Vec<String> = (0..30 + random.below(20)).map(|_| format!("w{}", random.below(5000))).collect();
        SourceFile::new(
            format!("{folder}page-{number}.html"),
            format!(
                "<!DOCTYPE html>\n<html>\n<head>\n  <title>Page {number}</title>\n  <link rel=\"stylesheet\" href=\"{up}style/book.css\">\n\
                 </head>\n<body>\n  <nav class=\"menu\"><ul><li><a href=\"{odd}{up}about.html\">About</a></li>\n    <li><a href=\"{out}other/\">Other</a></li></ul></nav>\n\
                 <main>\n    <h1>Page {number}</h1>\n    <p>{}</p>\n  </main>\n  <footer><img src=\"{up}style/mark.png\" alt=\"\"> The lamp keepers, all year.</footer>\n</body>\n</html>\n",
                words.join(" ")
            ),
        )
    };
    let count = 20 + random.below(20);
    (0..count).map(|number| page((number, random))).collect()
}

fn adopted(old: &Site, proposal: &Proposal) -> Site {
    let mut files: BTreeMap<String, Vec<u8>> =
        old.templates.iter().map(|template| (template.path.clone(), template.source.to_vec())).collect();
    files.extend(proposal.files.iter().map(|file| (file.path.clone(), file.bytes.clone())));
    let files = files.into_iter().map(|(path, bytes)| SourceFile { path, bytes }).collect();
    Site::read(files, dialect::builtin(), &Settings::default())
}

#[test]
fn proposals_have_no_blocks_for_depth() {
    let mut random = Random(seed("addresses"));
    for _ in 0..cases(12, 300) {
        let old = Site::read(handbook(&mut random), dialect::builtin(), &Settings::default());
        let proposal = propose(&old, &ProposeOptions::default()).expect("a proposal");
        // An address that is not in its shortest form may make a page odd.
        assert!(proposal.proof.equal && proposal.left.len() <= 1, "{:?}", proposal.left);
        let new = adopted(&old, &proposal);
        let proof = prove(&old, &new, Strength::Blanks);
        assert!(proof.equal, "{:?}", proof.different().next());
        for page in old.pages() {
            let path = &old.get(page).path;
            let url =
                |text: &str| text.split("href=\"").nth(1).and_then(|rest| rest.split('"').next()).map(str::to_owned);
            assert_eq!(url(&flat(&new, path)), url(&String::from_utf8_lossy(&old.get(page).source)), "{path}");
        }
        let [base] = &proposal.layouts[..] else { panic!("one layout: {:?}", proposal.layouts) };
        let names: Vec<&str> = base.blocks.iter().map(|block| block.name.as_str()).collect();
        // An address that is not in its shortest form is the page's own.
        assert!(names.len() <= 4 && names.contains(&"title") && names.contains(&"content"), "{names:?}");
        let layout = proposal.files.iter().find(|file| file.role == Role::Layout).expect("the layout");
        let text = String::from_utf8_lossy(&layout.bytes);
        assert!(text.contains("href=\"../style/book.css\"") && text.contains("href=\"../../other/\""), "{text}");
        assert!(!text.contains('\u{2}') && !text.contains('\u{3}'));
        let again = propose(&new, &ProposeOptions::default()).expect("a proposal");
        assert!(again.files.is_empty(), "{:?}", again.files.iter().map(|file| &file.path).collect::<Vec<_>>());
    }
}
