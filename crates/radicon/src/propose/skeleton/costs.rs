//! What a hole costs: its block, and what pages and sections say in it.

use super::hole::{Context, DefaultContent, Hole, Variant, majority};
use super::unify::{Item, Level, Unifier};
use crate::hash::mix;
use crate::markup::NodeId;
use crate::propose::naming;
use crate::propose::pages::page::Run;

/// So many pages are looked at for the name of a hole.
const SAMPLE: usize = 40;

/// What a mark in a menu costs, in bytes, about: its tags, and the entry twice.
const MARK: u64 = 100;

/// The prices of a block, in bytes.
#[derive(Clone, Copy, Debug)]
pub struct Prices {
    /// For having it in the layout.
    pub layout: u64,
    /// For each page that overrides it.
    pub page: u64,
    /// More, where only what is around it has a name: then the cut belongs there.
    pub nameless: u64,
}

impl Unifier<'_> {
    /// Whether texts tell what a section may say for its pages.
    pub(super) fn looks_at_texts(&self) -> bool {
        self.marks && !self.sections.is_empty()
    }

    /// The cost of a hole whose contents have these hashes and lengths.
    pub fn hole_cost(&self, members: &[usize], hashes: &[u64], lengths: &[u64]) -> u64 {
        self.hole_cost_of(members, (hashes, hashes), lengths)
    }

    /// The same, where sections show alike what `said` says is alike.
    pub(super) fn hole_cost_of(&self, members: &[usize], (hashes, said): (&[u64], &[u64]), lengths: &[u64]) -> u64 {
        let prices = self.prices;
        let says = |index: usize, shown: u64| if hashes[index] == shown { 0 } else { lengths[index] + prices.page };
        let default = majority(hashes);
        let (shown, length) = default.map_or((0, 0), |index| (hashes[index], lengths[index]));
        if self.sections.is_empty() {
            return prices.layout + length + (0..members.len()).map(|index| says(index, shown)).sum::<u64>();
        }
        let fill = |pages: &[usize]| {
            let of_pages: Vec<u64> = pages.iter().map(|&index| hashes[index]).collect();
            majority(&of_pages).map(|at| (of_pages[at], prices.page + lengths[pages[at]]))
        };
        let plain = prices.layout + length + self.sections.least(members, shown, &says, &fill);
        if hashes == said {
            return plain;
        }
        // What sections say in the same words has a mark for each page that looks otherwise.
        let says = |index: usize, shown: u64| if said[index] == shown { 0 } else { lengths[index] + prices.page };
        let fill = |pages: &[usize]| {
            let of_pages: Vec<u64> = pages.iter().map(|&index| said[index]).collect();
            let mut kinds: Vec<u64> = pages.iter().map(|&index| hashes[index]).collect();
            kinds.sort_unstable();
            kinds.dedup();
            let marks = kinds.len().saturating_sub(1) as u64 * MARK;
            majority(&of_pages).map(|at| (of_pages[at], prices.page + lengths[pages[at]] + marks))
        };
        plain.min(prices.layout + self.sections.least(members, 0, &says, &fill))
    }

    /// What a hole costs more, as some siblings from one item to another, if it has no name of its own.
    pub(super) fn nameless(
        &self,
        members: &[usize],
        nodes: &[NodeId],
        (from, to): (&[Run], &[Run]),
        level: Level,
    ) -> u64 {
        if self.prices.nameless == 0 {
            return 0;
        }
        let context = match level {
            Level::Content => Context::Content { parent: nodes[0] },
            Level::Tag => Context::Attributes { node: nodes[0] },
        };
        let variant = |at: usize| {
            let (page, run) = (members[at], (from[at].0, to[at].1));
            let run = if matches!(level, Level::Content) { self.pages[page].trimmed(run) } else { run };
            let place = matches!(level, Level::Content).then_some((nodes[at], run));
            Variant { page, content: self.pages[page].span(run), hash: 0, place, follows: false }
        };
        let step = members.len().div_ceil(SAMPLE).max(1);
        let variants = (0..members.len()).step_by(step).map(variant).collect();
        self.price_of_name(&Hole::new(context, variants, DefaultContent::Empty))
    }

    /// What a hole costs more if it has no name of its own.
    pub(super) fn price_of_name(&self, hole: &Hole) -> u64 {
        if self.prices.nameless == 0 || naming::own(self.pages, hole).is_some() { 0 } else { self.prices.nameless }
    }

    pub(super) fn range_cost(&self, members: &[usize], items: &[Item], from: usize, to: usize) -> u64 {
        let hash = |member: usize| {
            items[from..=to].iter().fold(0, |sum, item| match item.hashes[member] {
                0 => sum,
                hash => mix(sum, hash),
            })
        };
        let hashes: Vec<u64> = (0..members.len()).map(hash).collect();
        let lengths: Vec<u64> =
            (0..members.len()).map(|member| items[from..=to].iter().map(|item| item.lengths[member]).sum()).collect();
        if items[from].texts.is_empty() {
            return self.hole_cost(members, &hashes, &lengths);
        }
        let text =
            |member: usize| items[from..=to].iter().fold(0_u32, |sum, item| sum.wrapping_add(item.texts[member]));
        let texts: Vec<u64> = (0..members.len()).map(|member| said(text(member), hashes[member])).collect();
        self.hole_cost_of(members, (&hashes, &texts), &lengths)
    }
}

/// What tells whether a section may say something for its pages: the text, or all where there is none.
pub(super) fn said(text: u32, whole: u64) -> u64 {
    if text == 0 { whole } else { u64::from(text) }
}
