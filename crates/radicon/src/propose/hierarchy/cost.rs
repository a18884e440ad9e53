//! The layouts of a family at what they cost: cut into blocks, with the sections that are worthwhile, and anew once these are known.

use super::layout::{Body, Layout};
use super::layouts::Planner;
use super::sections::Sections;
use crate::dialect::Kind;
use crate::propose::families::select::Draft;
use crate::propose::job::Job;
use crate::propose::pages::page::Page;
use crate::propose::partials::passing::Passing;
use crate::propose::price;
use crate::propose::skeleton::hole::TAGS;
use crate::propose::skeleton::unify::Unifier;
use crate::prove::Strength;
use crate::site::Partials;

/// A layout with more blocks is hard to know.
const MOST_BLOCKS: usize = 16;

/// How much dearer blocks are where there would be too many.
const DEARER: [u64; 3] = [2, 4, 8];

/// The size, in percent, that fewer blocks may lead to.
const MOST_FOR_FEWER: usize = 105;

impl Job<'_> {
    /// The layouts of a family: where one has too many blocks with fewer and bigger ones, if that costs little.
    pub fn layouts(&self, pages: &[Page], draft: Draft) -> Layout {
        let price = draft.price;
        let base = self.sectioned(pages, draft);
        let is_free = self.fine || self.options.strength == Strength::Bytes;
        if is_free || base.widest() <= MOST_BLOCKS {
            return base;
        }
        let size = |layout: &Layout| layout.cost(TAGS as u64);
        let with_dearer = |times: u64| {
            let (members, price) = (base.members.clone(), price * times);
            let unified = self.unifier(pages, price).pages(&members);
            self.sectioned(pages, Draft { members, unified, price })
        };
        let most = size(&base) * MOST_FOR_FEWER / 100;
        let others = DEARER.into_iter().map(with_dearer).take_while(|other| size(other) <= most);
        let mut narrowest = base.widest();
        let mut best = None;
        for other in others {
            if other.widest() < narrowest {
                narrowest = other.widest();
                best = Some(other);
            }
            if narrowest <= MOST_BLOCKS {
                break;
            }
        }
        best.unwrap_or(base)
    }

    /// A draft with the sections that are worthwhile.
    fn sectioned(&self, pages: &[Page], draft: Draft) -> Layout {
        let price = draft.price;
        let sections = self.likely_sections(pages, &draft.members);
        let unifier = Unifier { sections, ..self.unifier(pages, self.price.max(price)) };
        let bytes = draft.members.iter().map(|&member| pages[member].source.len()).sum();
        let planner = self.planner(&unifier, pages, bytes);
        let base = planner.plan(draft.unified, draft.members);
        // Exact output keeps its cut: anew, it gave sections of one small block.
        if base.inner.is_empty() || self.options.strength == Strength::Bytes {
            return base;
        }
        // What only sections fill seemed dearer, and was joined with what is beside it.
        let mut sections = Sections::default();
        let mut open: Vec<(&Layout, Option<usize>)> = base.inner.iter().map(|layout| (layout, None)).collect();
        while let Some((layout, around)) = open.pop() {
            let number = sections.add(&layout.members, pages.len(), around);
            open.extend(layout.inner.iter().map(|inner| (inner, Some(number))));
        }
        let unified = Unifier { sections, ..self.unifier(pages, price) }.pages(&base.members);
        let other = planner.plan(unified, base.members.clone());
        if other.cost(price) < base.cost(price) { other } else { base }
    }

    /// Who plans sections for pages that have so many bytes.
    pub fn planner<'a>(&'a self, unifier: &'a Unifier<'a>, pages: &'a [Page], bytes: usize) -> Planner<'a> {
        Planner {
            unifier,
            pages,
            price: price::of_section(self.options, self.price, bytes),
            options: self.options,
            levels: self.options.levels,
            partials: self.options.partials != Partials::None && self.dialect.form(Kind::Include).is_some(),
            passing: self.passes_values().then(|| Passing::texts(&self.dialect)),
            again: self.dialect.form(Kind::Again).is_some(),
        }
    }
}

impl Layout {
    /// The cost of a family's layouts and pages, about: their bytes, and blocks at their price.
    pub fn cost(&self, price: u64) -> usize {
        let mut open = vec![self];
        let (mut bytes, mut tags) = (0, 0);
        while let Some(layout) = open.pop() {
            let direct = layout.direct();
            let blocks = layout.open.iter();
            let own = blocks.clone().flat_map(|block| block.hole.own());
            let said = own.filter(|variant| direct.binary_search(&variant.page).is_ok());
            let (count, said) = said.fold((0, 0), |sum, variant| (sum.0 + 1, sum.1 + variant.content.len()));
            bytes += layout.body.bytes() + said;
            tags += count + blocks.filter(|block| block.own).count();
            if let Body::Section(overrides) = &layout.body {
                tags += overrides.len();
            }
            open.extend(&layout.inner);
        }
        bytes + price as usize * tags
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::propose::testing::{copies, job, pages, site, unifier};

    #[test]
    fn a_layout_costs_its_bytes_and_its_blocks() {
        let texts: Vec<String> = copies("@", "<html><body><header><p>Tidewater</p></header><h1>@</h1></body></html>")
            .into_iter()
            .map(|(_, text)| text)
            .collect();
        let pages = pages(&texts);
        let site = site([("a.html", "")]);
        let job = job(&site, "margin");
        let members: Vec<usize> = (0..pages.len()).collect();
        let unified = unifier(&pages, 10).pages(&members);
        let layout = job.layouts(&pages, Draft { members, unified, price: 10 });
        // One block in the layout, and an override of five letters in each page.
        let fixed = texts[0].len() - "Fares".len();
        assert_eq!(layout.cost(10), fixed + pages.len() * "Fares".len() + 10 * (1 + pages.len()));
        assert_eq!(layout.widest(), 1);
    }
}
