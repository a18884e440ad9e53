//! Small sites, their pages as they are compared, and what is proposed for them, for the tests beside the parts of a
//! proposal.

use std::sync::{Arc, LazyLock};

use super::job::Job;
use super::pages::page::Page;
use super::skeleton::costs::Prices;
use super::skeleton::hole::{Piece, holes};
use super::skeleton::unify::Unifier;
use super::{Proposal, ProposeOptions, propose};
use crate::dialect::{self, builtin_named};
use crate::markup::Document;
use crate::prove::Strength;
use crate::site::{Settings, Site, SourceFile};

/// The names that differ from page to page.
pub const NAMES: [&str; 7] = ["Fares", "Piers", "Boats", "Tides", "Crews", "Sheep", "Winds"];

static OPTIONS: LazyLock<ProposeOptions> = LazyLock::new(ProposeOptions::default);

/// A site of these files.
pub fn site<P: Into<String>, T: Into<Vec<u8>>>(files: impl IntoIterator<Item = (P, T)>) -> Site {
    let files = files.into_iter().map(|(path, text)| SourceFile::new(path.into(), text.into())).collect();
    Site::read(files, dialect::builtin(), &Settings::default())
}

/// Files that are written like this one, each with a name of its own in the place of `@`.
pub fn copies(path: &str, text: &str) -> Vec<(String, String)> {
    NAMES.iter().map(|name| (path.replace('@', &name.to_lowercase()), text.replace('@', name))).collect()
}

/// A job that writes a built-in dialect, as it usually is.
pub fn job<'s>(site: &'s Site, dialect: &str) -> Job<'s> {
    Job {
        site,
        actual: None,
        options: &OPTIONS,
        dialect: builtin_named(dialect).expect("a built-in dialect"),
        price: 100,
        fine: false,
        nested_defaults: true,
        partials: Arc::default(),
        spelling: None,
        only: None,
        unknown: Arc::default(),
    }
}

/// A finished page, ready for comparison.
pub fn page(path: &str, text: &str) -> Page {
    let document = Document::read(text.as_bytes(), &dialect::plain());
    Page::of(path.to_owned(), Arc::new(text.as_bytes().to_vec()), document, Strength::Blanks)
}

/// Finished pages at these paths, ready for comparison.
pub fn pages_at(files: &[(&str, &str)]) -> Vec<Page> {
    files.iter().map(|(path, text)| page(path, text)).collect()
}

/// Finished pages, ready for comparison.
pub fn pages<T: AsRef<str>>(texts: &[T]) -> Vec<Page> {
    texts.iter().enumerate().map(|(at, text)| page(&format!("{at}.html"), text.as_ref())).collect()
}

/// The unifier of pages at a price of a block.
pub fn unifier(pages: &[Page], price: u64) -> Unifier<'_> {
    Unifier {
        pages,
        prices: Prices { layout: price, page: price, nameless: 0 },
        strength: Strength::Blanks,
        line_rule: false,
        like_html: false,
        regions: &[],
        marks: true,
        nested_defaults: true,
        sections: Default::default(),
    }
}

/// A template as text: each hole with what its pages have in it.
pub fn shown(pieces: &[Piece], pages: &[Page]) -> String {
    let piece = |piece: &Piece| match piece {
        Piece::Fixed { page, span } => span.text(&pages[*page].source).into_owned(),
        Piece::Hole(hole) => {
            let variants: Vec<String> = hole.variants.iter().map(|variant| variant.text(pages)).collect();
            format!("{{{}}}", variants.join("|"))
        }
        Piece::Mark(mark) => {
            let [here, elsewhere] = [mark.here, mark.elsewhere].map(|(page, span)| span.text(&pages[page].source));
            format!("[{}:{here}|{elsewhere}]", mark.target.as_deref().unwrap_or_default())
        }
    };
    pieces.iter().map(piece).collect()
}

/// How many holes a template has.
pub fn count(pieces: &[Piece]) -> usize {
    holes(pieces).len()
}

/// The proposal for a site; it is proven.
#[track_caller]
pub fn proposed(site: &Site) -> Proposal {
    let proposal = propose(site, &OPTIONS).expect("a proposal");
    assert!(proposal.is_proven(), "{:?}", proposal.proof);
    proposal
}

/// The text of a file of a proposal.
#[track_caller]
pub fn text<'p>(proposal: &'p Proposal, path: &str) -> &'p str {
    let paths = || proposal.files.iter().map(|file| file.path.as_str()).collect::<Vec<_>>();
    let file = proposal.files.iter().find(|file| file.path == path);
    std::str::from_utf8(&file.unwrap_or_else(|| panic!("no {path} in {:?}", paths())).bytes).expect("text")
}

/// A layout with four blocks.
pub const BASE: &str = "<html><head>{% block styles %}{% endblock %}</head>\n<body>\n  {% block crumbs %}{% endblock %}\n  {% block content %}{% endblock %}\n  {% block scripts %}{% endblock %}\n</body></html>\n";

/// What is proposed for children of a layout, each of which has these overrides with its name in the place of `@`; and
/// the text that a file then has.
#[track_caller]
pub fn improved(base: &str, overrides: &[&str]) -> (Proposal, impl Fn(&str) -> String + use<>) {
    let child = |(at, blocks): (usize, &&str)| {
        let (name, blocks) = (NAMES[at], blocks.replace('@', NAMES[at]));
        let text =
            format!("{{% extends 'base.html' %}}\n\n{{% block content %}}<h1>{name}</h1>{{% endblock %}}\n{blocks}");
        (format!("{}.html", name.to_lowercase()), text)
    };
    let site =
        site([("base.html".to_owned(), base.to_owned())].into_iter().chain(overrides.iter().enumerate().map(child)));
    let proposal = proposed(&site);
    let after = site.after(&proposal.changes(&site), &[]);
    let text = move |path: &str| {
        let id = after.find(path).unwrap_or_else(|| panic!("no {path}"));
        String::from_utf8_lossy(&after.get(id).source).into_owned()
    };
    (proposal, text)
}
