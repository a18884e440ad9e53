//! Why pages have a layout of their own: what one can say of all of them, and of no others, in a word.

use std::collections::BTreeMap;

use crate::markup::NodeId;
use crate::propose::naming::{self, SHORTEST};
use crate::propose::pages::page::Page;
use crate::propose::skeleton::hole::{Context, Hole, Variant};
use crate::site::{folder, stem};

/// A section has as many pages at least, and one page in so many of those around it: a smaller one is no place that
/// people know. Where size is all, it may be smaller.
pub const LEAST_PAGES: usize = 5;
const LEAST_SHARE: usize = 50;
pub const LEAST_PAGES_SMALL: usize = 3;
pub const LEAST_SHARE_SMALL: usize = 100;

/// A reason for a section.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Reason {
    /// Its pages, in ascending order.
    pub members: Vec<usize>,
    /// The word that its layout is named by.
    pub word: String,
    /// The reason, such as "pages in `seeds/`".
    pub told: String,
    /// They are a kind of pages: they have the same regions where others have other ones, and their layout may fill the
    /// block of the main content.
    pub is_kind: bool,
    /// They have several of these regions, so that their layout is there whatever it saves.
    pub is_sure: bool,
}

/// All reasons for sections of some pages that leave these holes to fill. Of those that are for the same pages the first
/// one that people would think of.
pub fn all(pages: &[Page], members: &[usize], holes: &[&Hole], main: Option<&Hole>, small: bool) -> Vec<Reason> {
    let (least, share) = if small { (LEAST_PAGES_SMALL, LEAST_SHARE_SMALL) } else { (LEAST_PAGES, LEAST_SHARE) };
    let least = least.max(members.len().div_ceil(share));
    let mut found: Vec<Reason> = Vec::new();
    let mut groups: BTreeMap<(usize, String), Vec<usize>> = BTreeMap::new();
    let shared = naming::shared_folder(members.iter().map(|&member| pages[member].path.as_str()));
    for &member in members {
        let of_main = main.and_then(|main| main.variant(member)).map(|variant| kinds_of(&pages[member], variant));
        let top = (folder(&pages[member].path) == shared).then(|| (TOP, shared.to_owned()));
        let said = said_of(&pages[member]).chain(top).chain(said_in(pages, member, holes));
        let said = said.chain(of_main.into_iter().flatten());
        for (rank, said) in said {
            let group = groups.entry((rank, said)).or_default();
            if group.last() != Some(&member) {
                group.push(member);
            }
        }
    }
    for ((rank, said), members_of) in groups {
        let is_new = || found.iter().all(|reason| reason.members != members_of);
        if members_of.len() >= least && members_of.len() < members.len() && (is_new() || rank >= KIND) {
            let (word, told) = words(rank, &said, pages, &members_of);
            // Where they are says more than what they are called.
            let place = naming::of_section(pages, members, &members_of);
            let word = if place == naming::SECTION { word } else { place };
            // Pages of a folder that have a shape of their own are called by the folder.
            let known = found.iter().position(|reason| reason.members == members_of);
            let known = known.map(|at| found.remove(at));
            let known_is_sure = known.as_ref().is_some_and(|reason| reason.is_sure);
            let (word, told) = known.map_or((word, told), |reason| (reason.word, reason.told));
            let is_sure = rank == KIND && members_of.len() * 100 < members.len() * MOST || known_is_sure;
            found.push(Reason { members: members_of, word, told, is_kind: rank >= KIND, is_sure });
        }
    }
    found
}

/// In which order people think of reasons.
const FOLDER: usize = 0;
const LANGUAGE: usize = 1;
const BODY: usize = 2;
const HEADING: usize = 3;
const NAMES: usize = 4;
const TOP: usize = 5;
const KIND: usize = 6;
const WRAPPER: usize = 7;

/// A kind has so many regions at least.
const LEAST_REGIONS: usize = 2;

/// Nearly all, in percent: a kind with so much of a family is its base, and a layout is for so much of the place that it
/// says it is for.
pub const MOST: usize = 90;

/// So many elements beside each other are looked at.
const MOST_ROOTS: usize = 8;

/// So deep is looked for wrappers around the content of a page.
const DEEPEST: usize = 3;

/// What a page says of itself.
fn said_of(page: &Page) -> impl Iterator<Item = (usize, String)> {
    let path = page.path.as_str();
    let folders = path.match_indices('/').map(|(slash, _)| (FOLDER, path[..slash].to_owned()));
    let language = naming::of_element(page, "html", &["lang"]).map(|lang| (LANGUAGE, lang));
    let body = naming::of_element(page, "body", &["class", "id"]).unwrap_or_default();
    let body: Vec<_> = body.split_whitespace().map(|word| (BODY, word.to_owned())).collect();
    let name = stem(path);
    let begin = name.find(['-', '_', '.']).filter(|end| *end >= SHORTEST).map(|end| (NAMES, name[..end].to_owned()));
    let found: Vec<(usize, String)> = folders.chain(language).chain(body).chain(begin).collect();
    found.into_iter()
}

/// What the regions of a page are headed by.
fn said_in(pages: &[Page], member: usize, holes: &[&Hole]) -> Vec<(usize, String)> {
    let said = |hole: &&Hole| {
        let variant = hole.variant(member)?;
        let is_markup = matches!(hole.context, Context::Content { .. });
        let heading = || naming::heading_in(&pages[member], variant.content);
        // A few words alone head what is beside them.
        let words = || naming::only_words(&pages[member], variant.content);
        let is_title = matches!(naming::own(pages, hole).as_deref(), Some("title"));
        let said = if is_markup { heading().or_else(words) } else { words() };
        said.filter(|_| !is_title).map(|said| (HEADING, said))
    };
    holes.iter().filter_map(said).collect()
}

/// What the main content of a page says of its kind: its regions, and the wrappers around all of it.
fn kinds_of(page: &Page, variant: &Variant) -> Vec<(usize, String)> {
    let mut found = Vec::new();
    let mut span = variant.content;
    for depth in 0..DEEPEST {
        let roots = naming::roots_of(page, span);
        if depth == 0 {
            let names: Vec<String> = roots.iter().filter_map(|&node| region(page, node)).collect();
            if names.len() >= LEAST_REGIONS {
                found.push((KIND, names.join(" ")));
            }
        }
        let named = roots.iter().filter_map(|&node| naming::called(page, node)).filter(|name| name != "heading");
        found.extend(named.take(MOST_ROOTS).map(|name| (WRAPPER, name)));
        let Some(&wrapper) = roots.iter().max_by_key(|&&node| page.document.span(node).len()) else { break };
        if page.document.span(wrapper).len() * 2 < span.len() {
            break;
        }
        let node = &page.document.nodes[wrapper];
        span = page.span((node.inner, node.close));
    }
    found
}

/// The name of an element that is a region of a page.
fn region(page: &Page, node: NodeId) -> Option<String> {
    let tag = naming::tag(page, node);
    match tag.as_str() {
        "article" | "main" => Some(tag),
        "h1" | "h2" | "h3" | "h4" | "p" | "a" | "table" | "ul" | "ol" | "pre" | "img" => None,
        _ => naming::called(page, node),
    }
}

/// That pages are in a folder, as a reason.
pub fn in_folder(folder: &str) -> String {
    format!("pages in `{folder}/`")
}

/// That the names of their files begin with some words.
pub fn with_names(words: &str) -> String {
    format!("pages whose names begin with `{words}`")
}

/// The word for a reason, and the reason itself.
fn words(rank: usize, said: &str, pages: &[Page], members: &[usize]) -> (String, String) {
    match rank {
        FOLDER => {
            let last = said.rsplit('/').next().unwrap_or(said);
            let word = naming::word(last);
            // Two letters say too little by themselves.
            let is_language = || {
                members.iter().all(|&member| {
                    let lang = naming::of_element(&pages[member], "html", &["lang"]);
                    lang.is_some_and(|lang| lang.to_ascii_lowercase().starts_with(&word))
                })
            };
            let word = if word.len() < SHORTEST && is_language() { format!("lang-{word}") } else { word };
            (word, in_folder(said))
        }
        LANGUAGE => {
            let word = naming::word(said);
            (
                if word.len() < SHORTEST { format!("lang-{word}") } else { word },
                format!("pages in the language `{said}`"),
            )
        }
        TOP if said.is_empty() => ("outermost".to_owned(), "pages in no folder".to_owned()),
        TOP => ("outermost".to_owned(), format!("pages in `{said}/` itself")),
        BODY => (naming::word(said), format!("pages whose body is called `{said}`")),
        HEADING => (naming::word(said), format!("pages with the heading \u{201c}{said}\u{201d} beside their content")),
        KIND => {
            let regions: Vec<&str> = said.split(' ').collect();
            let telling = regions.iter().rev().find(|region| naming::is_telling(region));
            let word = telling.map_or("page".to_owned(), |region| naming::word(region));
            (word, format!("pages with {}", regions.join(", ")))
        }
        WRAPPER => (naming::word(said), format!("pages whose content is in `{said}`")),
        _ => (naming::word(said), with_names(said)),
    }
}
