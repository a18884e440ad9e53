//! Copies that are outdated, made like the others before layouts are proposed.
//!
//! A place of a family's skeleton where most pages have the same and a few something
//! like it, or nothing, is taken for a slip. A mark that wanders from place to
//! place, such as that of the current item, is none.

use std::collections::{BTreeMap, BTreeSet};

use serde::Serialize;

use crate::propose::Job;
use crate::propose::naming;
use crate::propose::pages::page::Page;
use crate::propose::skeleton::hole::{Hole, Variant, holes};
use crate::repeats::{difference, new_words};
use crate::rooted::unmarked;
use crate::sequence;
use crate::site::{Site, SourceFile};
use crate::text::position;

/// One page in so many may differ.
const MINORITY: usize = 5;

/// Families from so many pages on know what is usual.
const LEAST_FAMILY: usize = 4;

/// How alike the slip and the usual are at least, 0 to 1, if the slip is not that
/// something is missing.
const ALIKE: f32 = 0.5;

/// A place of a page that is made as the other pages have it.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Healed {
    /// The page's path.
    pub page: String,
    /// The line of the place, 1-based.
    pub line: u32,
    /// How the page differs from most others as it is.
    pub difference: String,
}

/// A page, by index, and what replaces which of its bytes.
type Cure = (usize, std::ops::Range<usize>, Vec<u8>);

/// The site with outdated copies made like the others, and what that changes.
pub fn heal(site: &Site, jobs: &[Job<'_>]) -> (Site, Vec<Healed>) {
    let mut left = Vec::new();
    let mut candidates = jobs[0].candidates(&mut left);
    let mut sources: BTreeMap<String, Vec<u8>> = BTreeMap::new();
    let mut found = Vec::new();
    let jobs: Vec<Job> = jobs.iter().map(|job| Job { fine: true, ..job.clone() }).collect();
    for (index, job) in jobs.iter().enumerate() {
        let pages = job.read(&job.choose(&mut candidates, index == 0, &mut left));
        let mut cures: Vec<Cure> = Vec::new();
        for draft in job.drafts(&pages, false, &mut left) {
            cures.extend(slips(&pages, &holes(&draft.unified.pieces), &mut found));
        }
        cures.sort_by_key(|(page, range, _)| (*page, std::cmp::Reverse(range.start)));
        for (page, range, bytes) in cures {
            let page = &pages[page];
            let source = sources.entry(page.path.clone()).or_insert_with(|| page.source.to_vec());
            source.splice(range, bytes);
        }
    }
    found.sort();
    let source = |path: &String, old: &[u8]| sources.get(path).cloned().unwrap_or_else(|| old.to_vec());
    let files = site.templates.iter().map(|t| SourceFile::new(t.path.clone(), source(&t.path, &t.source)));
    (site.with_files(files.collect(), &jobs[0].dialects()), found)
}

/// Whether so few of all pages differ that it may be a slip.
pub fn is_usual(all: usize, few: usize) -> bool {
    all >= LEAST_FAMILY && few * MINORITY <= all
}

/// Whether a page that has this in the place of what is usual was left behind: nothing, or something much alike that
/// does not say where a reader is.
pub fn is_slip(usual: &str, text: &str) -> bool {
    !naming::is_current(text) && (text.trim().is_empty() || alike(usual, text) >= ALIKE)
}

/// The share of the characters of two texts that are the same in the same order, from 0 to 1.
fn alike(left: &str, right: &str) -> f32 {
    let (left, right): (Vec<char>, Vec<char>) = (left.chars().collect(), right.chars().collect());
    similar::diff_ratio(&sequence::edits(left.iter(), right.iter()), left.len(), right.len())
}

/// The slips in the holes of a layout.
fn slips(pages: &[Page], holes: &[&Hole], found: &mut Vec<Healed>) -> Vec<Cure> {
    let usual = |hole: &Hole| hole.shown().map(|variant| variant.text(pages));
    // Words that pages add, with the holes where they do.
    let mut added: BTreeMap<Vec<String>, BTreeSet<usize>> = BTreeMap::new();
    let words = |usual: &str, text: &str| new_words(usual, text).into_iter().map(str::to_owned).collect::<Vec<_>>();
    for (index, hole) in holes.iter().enumerate() {
        let Some(usual) = usual(hole) else { continue };
        for variant in hole.own() {
            added.entry(words(&usual, &variant.text(pages))).or_default().insert(index);
        }
    }
    let mut cures = Vec::new();
    for hole in holes {
        let (Some(usual), Some(shown)) = (usual(hole), hole.shown()) else { continue };
        if !is_usual(hole.variants.len(), hole.overriding()) {
            continue;
        }
        // With the whitespace around, where there is any.
        let whole = |variant: &Variant| variant.place.map_or(variant.content, |(_, run)| pages[variant.page].span(run));
        for variant in hole.own() {
            let (page, text) = (&pages[variant.page], variant.text(pages));
            let new = words(&usual, &text);
            let wanders = !new.is_empty() && added.get(&new).is_some_and(|places| places.len() > 1);
            if wanders || !is_slip(&usual, &text) {
                continue;
            }
            found.push(Healed {
                page: page.path.clone(),
                line: position(&page.source, variant.content.start).line,
                difference: difference(&unmarked(&usual), &unmarked(&text)),
            });
            let bytes = whole(shown).of(&pages[shown.page].source).to_vec();
            cures.push((variant.page, whole(variant).range(), bytes));
        }
    }
    cures
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::propose::testing::{copies, job, site};

    #[test]
    fn a_page_that_lacks_what_all_others_have_is_healed() {
        let item = "<li><a href=\"/winter.html\">Winter sailings</a></li>\n";
        let menu = format!(
            "<ul>\n<li><a href=\"/fares.html\">Fares</a></li>\n{item}<li><a href=\"/fleet.html\">Our boats</a></li>\n</ul>\n"
        );
        let header = format!("<header>\n<p>Tidewater Ferries, seven harbours every day</p>\n{menu}</header>\n");
        let main = "<main>\n<h1>@</h1>\n<p>All about the @ of the quay, and what they cost</p>\n</main>\n";
        let footer = "<footer><p>Ask at the quay office from seven to nineteen, every day of the year</p></footer>\n";
        let page = format!("<html>\n<head><title>@</title></head>\n<body>\n{header}{main}{footer}</body>\n</html>\n");
        let mut files = copies("@.html", &page);
        files[2].1 = files[2].1.replace(item, "");
        let site = site(files);
        let (healthy, healed) = heal(&site, &[job(&site, "margin")]);
        let [one] = &healed[..] else { panic!("{healed:?}") };
        assert_eq!((one.page.as_str(), one.line), ("boats.html", 8));
        let id = healthy.find("boats.html").expect("the page");
        assert!(String::from_utf8_lossy(&healthy.get(id).source).contains("Winter sailings"));
    }

    #[test]
    fn a_slip_is_something_missing_or_much_alike() {
        assert!(is_slip("01700 553 100", "") && is_slip("01700 553 100", "01700 553 001"));
        assert!(!is_slip("01700 553 100", "Ask the crew at the quay"));
        assert!(!is_slip("", " aria-current=\"page\""), "it says where the reader is");
        assert!(is_usual(10, 2) && !is_usual(10, 3) && !is_usual(3, 0));
    }
}
