//! How a section fills a block for its pages: as it is, with blocks of its own in it, or not at all.

use super::layouts::Planner;
use super::reasons::Reason;
use crate::propose::naming;
use crate::propose::skeleton::hole::{Hole, Piece, Variant, holes, majority};

/// The most blocks that a section leaves in a block that it fills.
const MOST_PARTS: usize = 4;

/// Pages that say less than one in so many bytes of their main contents themselves are of a kind: their layout says the
/// others.
const MOSTLY: f64 = 2.0;

/// Of so many pages at least one may be odd.
pub const LEAST_FOR_ODD: usize = 20;

/// In a block that a section fills one page in so many may be odd: it overrides all of it.
const MOST_ODD: usize = 10;

/// How a section fills a hole.
pub struct Filled {
    pub pieces: Vec<Piece>,
    /// What it shows, if it has no holes of its own.
    pub shows: Option<Shows>,
    /// Pages that it says nothing for, in ascending order.
    pub odd: Vec<usize>,
    /// Bytes.
    pub saves: u64,
}

impl Filled {
    /// A hole that it fills, in which its pages follow it and odd ones do not.
    pub fn followed(&self, mut hole: Hole) -> Hole {
        match self.shows {
            Some(Shows::Content(hash)) => hole.follow(hash),
            Some(Shows::Marks) | None => {
                let is_odd = |variant: &Variant| self.odd.binary_search(&variant.page).is_ok();
                hole.variants.iter_mut().for_each(|variant| variant.follows = !is_odd(variant));
            }
        }
        hole
    }

    /// The share of a hole's bytes that its pages go on saying.
    fn left_of(&self, hole: &Hole) -> f64 {
        let concerned = hole.own().filter(|variant| self.odd.binary_search(&variant.page).is_err());
        let all: usize = concerned.map(|variant| variant.content.len()).sum();
        let left: usize = holes(&self.pieces).iter().map(|hole| hole.own_bytes()).sum();
        left as f64 / all.max(1) as f64
    }
}

/// What a section shows that leaves no holes.
#[derive(Clone, Copy)]
pub enum Shows {
    /// The content of this hash.
    Content(u64),
    /// What all its pages have, but where a reader is.
    Marks,
}

impl Planner<'_> {
    /// How pages that have a layout for a reason have a hole filled by it; `None` if that is not worthwhile. The main
    /// content is the page's own: their layout may say what is around it, or what they share if that is most of it.
    pub(super) fn fill_for(&self, reason: &Reason, is_main: bool, hole: &Hole) -> Option<Filled> {
        if hole.variants.len() != reason.members.len() {
            return None;
        }
        if !is_main {
            return self.fill(hole).filter(|filled| filled.saves > 0);
        }
        let filled = self.fill_main(hole).filter(|filled| filled.saves > 0 || reason.is_sure)?;
        let may_fill = reason.is_kind || filled.left_of(hole) * MOSTLY < 1.0;
        (may_fill && (filled.shows.is_none() || self.options.is_small())).then_some(filled)
    }

    /// The main content, which odd pages override as a whole.
    fn fill_main(&self, hole: &Hole) -> Option<Filled> {
        let Some(usual) = self.unifier.usual(hole).filter(|_| !self.options.is_small()) else { return self.fill(hole) };
        let mut filled = self.fill(&hole.of(&usual)).filter(|filled| filled.shows.is_none())?;
        let others = hole.variants.iter().map(|variant| variant.page);
        filled.odd.extend(others.filter(|page| usual.binary_search(page).is_err()));
        filled.odd.sort_unstable();
        Some(filled)
    }

    /// The best way in which a section may fill a hole for its pages.
    fn fill(&self, hole: &Hole) -> Option<Filled> {
        let prices = self.unifier.prices;
        let without: u64 = hole.own().map(|variant| variant.content.len() as u64 + prices.page).sum();
        if without == 0 {
            return None;
        }
        // The same for most, who say nothing then.
        let hashes = hole.hashes();
        let default = if hole.only().is_some() { Some(0) } else { majority(&hashes) };
        let plain = default.map(|at| {
            let Variant { page, content, hash, .. } = hole.variants[at];
            let cost = match hole.only() {
                Some(_) => prices.page + content.len() as u64,
                None => {
                    let pages: Vec<usize> = hole.variants.iter().map(|variant| variant.page).collect();
                    let lengths: Vec<u64> = hole.variants.iter().map(|variant| variant.content.len() as u64).collect();
                    self.unifier.hole_cost(&pages, &hashes, &lengths)
                }
            };
            let pieces = vec![Piece::Fixed { page, span: content }];
            let (shows, odd) = (Some(Shows::Content(hash)), Vec::new());
            Filled { pieces, shows, odd, saves: without.saturating_sub(cost) }
        });
        let parted = self.unifier.inside(hole).map(|unified| {
            let blocks = holes(&unified.pieces).len();
            // Many blocks in one are rather content that looks alike than a skeleton.
            let is_frame = unified.pieces.iter().any(|piece| !self.is_blank(piece) && !matches!(piece, Piece::Hole(_)));
            let saves =
                if blocks > MOST_PARTS || !is_frame { 0 } else { without.saturating_sub(unified.cost + prices.page) };
            let shows = match (blocks, hole.only()) {
                (0, Some(hash)) => Some(Shows::Content(hash)),
                (0, None) => Some(Shows::Marks),
                _ => None,
            };
            Filled { shows, pieces: unified.pieces, odd: Vec::new(), saves }
        });
        // A title that repeats three words costs nobody anything; a block for them does.
        let parted =
            parted.filter(|_| self.options.is_small() || naming::own(self.pages, hole).as_deref() != Some("title"));
        let parted = parted.filter(|parted| plain.as_ref().is_none_or(|plain| parted.saves > plain.saves));
        let filled = parted.or(plain)?;
        Some(self.without_odd(hole, &filled).unwrap_or(filled))
    }

    /// The same where no block is there for one page: an odd page overrides all of it.
    fn without_odd(&self, hole: &Hole, filled: &Filled) -> Option<Filled> {
        let parts = holes(&filled.pieces);
        let all = hole.variants.len();
        // Where nothing has a name the cut belongs further out.
        let is_nameless = |part: &Hole| part.overriding() * MOST_ODD <= all && naming::own(self.pages, part).is_none();
        let setters = parts.iter().filter(|part| part.overriding() == 1 || is_nameless(part));
        let mut odd: Vec<usize> = setters.flat_map(|part| part.own()).map(|variant| variant.page).collect();
        odd.sort_unstable();
        odd.dedup();
        let is_rare = all >= LEAST_FOR_ODD && odd.len() * MOST_ODD <= all;
        if odd.is_empty() || !is_rare || self.options.is_small() {
            return None;
        }
        let usual = hole.variants.iter().map(|variant| variant.page).filter(|page| odd.binary_search(page).is_err());
        let filled = self.fill(&hole.of(&usual.collect::<Vec<_>>()))?;
        let is_new = filled.odd.is_empty() && holes(&filled.pieces).len() < parts.len();
        is_new.then_some(Filled { odd, ..filled })
    }
}
