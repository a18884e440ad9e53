//! What to do about a group of copies.

use serde::Serialize;

use crate::repeats::exact::runs::Copy;
use crate::repeats::reading::forest::Forest;
use crate::repeats::telling::drift::Gap;
use crate::site::{Parent, Role, Site, Template};
use crate::text::SourceId;

/// The kind of advice.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum AdviceKind {
    /// It is at one place of the skeleton in most pages: move it into their layout.
    Layout,
    /// Make it a partial.
    Partial,
    /// It follow each other in one file: write a loop.
    Loop,
    /// It is a partial already: include that.
    Include,
}

impl AdviceKind {
    /// The word for it.
    pub const fn word(self) -> &'static str {
        match self {
            AdviceKind::Layout => "layout",
            AdviceKind::Partial => "partial",
            AdviceKind::Loop => "loop",
            AdviceKind::Include => "include",
        }
    }
}

/// The advice about a group of copies.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Advice {
    /// The kind of advice.
    pub kind: AdviceKind,
    /// The partial that there is already.
    pub file: Option<String>,
    /// How many parameters it would need.
    pub parameters: usize,
}

/// From this share of the pages that have no layout on, a repeat in the skeleton belongs into one.
const MOST_PAGES: f64 = 0.6;

/// How many copies are looked at, about, to tell where they are.
const MOST_LOOKED_AT: usize = 64;

/// Says what to do about copies.
pub(in crate::repeats) struct Adviser<'a> {
    site: &'a Site,
    forest: &'a Forest,
    /// The paths of the pages that have no layout, sorted.
    alone: Vec<&'a str>,
}

impl<'a> Adviser<'a> {
    pub fn new(site: &'a Site, forest: &'a Forest) -> Self {
        let alone = site.pages().filter(|&id| *site.parent(id) == Parent::None).map(|id| site.get(id).path.as_str());
        Self { site, forest, alone: alone.collect() }
    }

    pub fn advise(&self, copies: &[Copy], files: &[u32], gaps: &[Gap], is_loop: bool) -> Advice {
        let (site, forest) = (self.site, self.forest);
        let parameters = gaps.iter().filter(|gap| gap.parameter).count();
        let advice = |kind, file| Advice { kind, file, parameters };
        let is_whole = |(copy, file): &(&Copy, &u32)| {
            copy.start == forest.files[**file as usize] && copy.end == forest.files[**file as usize + 1]
        };
        let partial = copies.iter().zip(files).filter(is_whole).map(|(_, &file)| site.get(SourceId(file)));
        // A partial helps those who are written in its dialect.
        let helps = |template: &&Template| {
            let same = |file: &&u32| site.get(SourceId(**file)).dialect.name == template.dialect.name;
            template.role == Role::Partial && files.iter().filter(same).count() > 1
        };
        let mut partials = partial.filter(helps);
        if let Some(known) = partials.next() {
            return advice(AdviceKind::Include, Some(known.path.clone()));
        }
        if is_loop || files.iter().all(|file| *file == files[0]) && side_by_side(forest, copies) {
            return advice(AdviceKind::Loop, None);
        }
        let kind = if self.in_frame(copies, files) { AdviceKind::Layout } else { AdviceKind::Partial };
        advice(kind, None)
    }

    /// Whether the copies are at one place of the skeleton, one a file, in most
    /// pages of their folder that have no layout.
    fn in_frame(&self, copies: &[Copy], files: &[u32]) -> bool {
        if files.len() < 3 || files.windows(2).any(|pair| pair[0] == pair[1]) {
            return false;
        }
        let path = |file: u32| self.site.get(SourceId(file)).path.as_str();
        let shared = files.iter().fold(path(files[0]), |shared, &file| common_folder(shared, path(file)));
        let beneath = |least: &str| self.alone.partition_point(|path| *path < least);
        // The character after the slash ends the folder.
        let end = shared.strip_suffix('/').map_or(self.alone.len(), |folder| beneath(&format!("{folder}0")));
        let family = end - beneath(shared);
        let pages = files.iter().filter(|&&file| self.alone.binary_search(&path(file)).is_ok()).count();
        if pages < 3 || (pages as f64) < MOST_PAGES * family as f64 {
            return false;
        }
        // The same place: the same elements around it, as far as some copies tell.
        let copies: Vec<&Copy> = copies.iter().step_by(copies.len().div_ceil(MOST_LOOKED_AT)).collect();
        let place = |copy: &Copy| -> Vec<u16> {
            self.forest.ancestors(copy.start).iter().map(|&node| self.forest.tag(node)).collect()
        };
        let usual = place(copies[copies.len() / 2]);
        copies.iter().filter(|copy| place(copy) == usual).count() as f64 >= MOST_PAGES * copies.len() as f64
    }
}

/// Whether copies, in order, are children of one node.
fn side_by_side(forest: &Forest, copies: &[Copy]) -> bool {
    let Some(parent) = forest.ancestors(copies[0].start).first().copied().filter(|_| copies.len() > 2) else {
        return false;
    };
    let mut children = forest.children(parent);
    copies.iter().all(|copy| children.any(|child| child == copy.start))
}

/// The folder that two paths share, with its slash.
fn common_folder<'a>(a: &'a str, b: &str) -> &'a str {
    let same = a.bytes().zip(b.bytes()).take_while(|(a, b)| a == b).count();
    memchr::memrchr(b'/', &a.as_bytes()[..same]).map_or("", |at| &a[..=at])
}
