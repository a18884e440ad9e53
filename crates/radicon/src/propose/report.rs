//! What each proposed layout is, for people and programs.

use rustc_hash::{FxHashMap, FxHashSet};

use super::assemble::Placed;
use super::hierarchy::layouts::{Body, Open};
use super::job::Job;
use super::naming;
use super::pages::page::Page;
use super::proposal::{ProposedBlock, ProposedFile, ProposedLayout};
use super::skeleton::hole::{Context, Hole, TAGS, Variant};
use crate::dialect::Kind;
use crate::markup::{Constructs, NodeKind};
use crate::text::LineIndex;
use crate::urls::unmarked;

impl Job<'_> {
    /// What each layout is, for people and programs.
    pub fn reports(
        &self,
        pages: &[Page],
        placed: &[Placed<'_>],
        files: &[ProposedFile],
        kept: &FxHashSet<usize>,
    ) -> Vec<ProposedLayout> {
        let uses = uses(placed, kept);
        let report = |(index, place): (usize, &Placed<'_>)| {
            let written = files.iter().find(|file| file.path == place.path);
            let kept = || Some(&self.site.get(self.site.find(&place.path)?).source[..]);
            let source = written.map(|file| &file.bytes[..]).or_else(kept).unwrap_or_default();
            let constructs = Constructs::read(source, &self.dialect);
            let lines = LineIndex::new(source);
            let line = |name: &str| {
                let is_block = |kind: Kind| matches!(kind, Kind::Block | Kind::Slot);
                let mut blocks = constructs.items.iter().filter(|item| is_block(item.kind));
                let found = blocks.find(|item| item.name.of(source) == name.as_bytes());
                found.map(|item| lines.line(item.span.start))
            };
            let block = |open: &Open| {
                let uses = uses.get(&(index, open.hole.name.as_str())).cloned().unwrap_or_default();
                let (size, within) = around(pages, &open.hole, &uses.pages);
                let tags = TAGS * (1 + uses.pages.len());
                Some(ProposedBlock {
                    cost: uses.bytes + tags,
                    without: size + tags,
                    within,
                    name: open.hole.name.clone(),
                    line: line(&open.hole.name)?,
                    default: open.default,
                    overridden_by: uses.pages.len(),
                    layouts: uses.layouts,
                    such_as: uses.pages.iter().take(3).map(|&page| pages[page].path.clone()).collect(),
                    bytes: uses.bytes,
                    drift: open.hole.variants.len() > 3
                        && open.hole.overriding() == 1
                        && open.default
                        && !naming::marks_current(pages, &open.hole),
                })
            };
            ProposedLayout {
                path: place.path.clone(),
                extends: place.around.map(|around| placed[around].path.clone()),
                existing: matches!(place.layout.body, Body::Existing { .. }),
                pages: place.direct.len(),
                beneath: place.layout.members.len(),
                saves: place.layout.saves,
                blocks: place.layout.open.iter().filter(|open| open.own).filter_map(block).collect(),
                fills: match &place.layout.body {
                    Body::Section(overrides) => overrides.iter().map(|filled| filled.name.clone()).collect(),
                    Body::Base(_) | Body::Existing { .. } => Vec::new(),
                },
            }
        };
        placed.iter().enumerate().map(report).collect()
    }
}

impl ProposedLayout {
    /// Counts the pages of another report of the same layout too.
    pub fn add(&mut self, other: &Self) {
        self.pages += other.pages;
        self.beneath += other.beneath;
        for block in &other.blocks {
            if let Some(known) = self.blocks.iter_mut().find(|known| known.name == block.name) {
                known.overridden_by += block.overridden_by;
                known.bytes += block.bytes;
                known.cost += block.cost;
                known.without += block.without;
                known.drift &= block.overridden_by == 0;
            }
        }
    }
}

/// The bytes that these pages have in the element around a hole, and its tag in the first page.
fn around(pages: &[Page], hole: &Hole, overriding: &[usize]) -> (usize, String) {
    let Some(first) = hole.variants.first().map(|variant| variant.page) else { return (0, String::new()) };
    let element = |page: &Page, mut node: u32| {
        while node > 0 && page.document.nodes[node as usize].kind != NodeKind::Element {
            node = page.document.nodes[node as usize].parent;
        }
        node
    };
    let shown = element(
        &pages[first],
        match hole.context {
            Context::Content { parent } => parent,
            Context::Text { node } | Context::Value { node, .. } | Context::Attributes { node } => node,
        },
    );
    // Only between nodes is it known where other pages have it.
    let size = |member: &usize| match hole.variant(*member).and_then(|variant| variant.place) {
        Some((node, _)) => pages[*member].document.span(element(&pages[*member], node)).len(),
        None => pages[first].document.span(shown).len(),
    };
    let page = &pages[first];
    let node = &page.document.nodes[shown as usize];
    let tag = page.span((node.first, if shown > 0 { node.inner } else { node.first })).text(&page.source);
    (overriding.iter().map(size).sum(), unmarked(&tag.split_whitespace().collect::<Vec<_>>().join(" ")))
}

/// Who fills a block.
#[derive(Clone, Default)]
pub struct Uses {
    /// Pages, in ascending order.
    pub pages: Vec<usize>,
    /// Bytes that these have in it.
    pub bytes: usize,
    /// How many layouts do.
    pub layouts: usize,
}

/// Who fills each block but those that are kept, by the index of the layout that defines it, and its name.
pub fn uses<'p>(placed: &'p [Placed<'_>], kept: &FxHashSet<usize>) -> FxHashMap<(usize, &'p str), Uses> {
    let owner = |index: usize, name: &str| {
        let mut at = index;
        loop {
            let owns = placed[at].layout.open.iter().any(|open| open.own && open.hole.name == name);
            match placed[at].around {
                Some(around) if !owns => at = around,
                _ => return at,
            }
        }
    };
    let mut found: FxHashMap<(usize, &str), Uses> = FxHashMap::default();
    for (index, place) in placed.iter().enumerate() {
        for Open { hole, .. } in &place.layout.open {
            let name = &hole.name;
            let uses = found.entry((owner(index, name), name)).or_default();
            for Variant { page, content, .. } in hole.own() {
                if place.direct.binary_search(page).is_ok() && !kept.contains(page) {
                    uses.pages.push(*page);
                    uses.bytes += content.len();
                }
            }
        }
        if let (Body::Section(overrides), Some(around)) = (&place.layout.body, place.around) {
            for filled in overrides {
                found.entry((owner(around, &filled.name), &filled.name)).or_default().layouts += 1;
            }
        }
    }
    found.values_mut().for_each(|uses| uses.pages.sort_unstable());
    found
}
