//! Which pages of a family share more than its layout: the sections of a site.
//!
//! What several pages have in the same hole of the layout is a feature. Candidates are the sets of
//! pages that one can say in a word. Of these a laminar family is sought, any two sets nested or
//! disjoint, that saves most: a set saves what all its pages share beyond the
//! set around it, in all of them but one, less its price. A greedy start is
//! improved by forcing rejected sets in.

use std::collections::BTreeMap;

use rayon::prelude::*;
use rustc_hash::FxHashMap;
use xxhash_rust::xxh3::{xxh3_64, xxh3_64_with_seed};

use crate::hash::mix;
use crate::markup::NodeKind;
use crate::propose::hierarchy::reasons::{LEAST_PAGES, LEAST_PAGES_SMALL, LEAST_SHARE_SMALL, Reason};
use crate::propose::naming;
use crate::propose::pages::page::Page;
use crate::propose::skeleton::hole::{Hole, TAGS, Variant, majority};
use crate::site::beneath;

/// A whole hole counts as shared if this share of a set's pages fill it alike; the
/// others are exceptions, which say so themselves. Parts of it must be in all pages.
const MOST: f64 = 0.9;

/// The most sets of pages, by what they share, that are weighed against each other, and the most that are candidates
/// where size is all.
const MAX_SETS: usize = 3_000;
const MAX_CANDIDATES: usize = 300;

/// How many rejected sets are forced in, one after the other.
const MAX_SWAPS: usize = 200;

/// Pages that belong together for a reason, with those among them that do for another.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Section {
    pub reason: Reason,
    pub inner: Vec<Section>,
}

/// Sections that are known, numbered, the outer before those in them.
#[derive(Clone, Debug, Default)]
pub struct Sections {
    /// For each page the innermost section that it belongs to.
    of_page: Vec<Option<usize>>,
    /// For each section the one around it.
    around: Vec<Option<usize>>,
}

impl Sections {
    /// The folders of these pages, each of which may be a section.
    pub fn of_folders(pages: &[Page], members: &[usize]) -> Self {
        let mut folders: BTreeMap<&str, Vec<usize>> = BTreeMap::new();
        for &member in members {
            let path = pages[member].path.as_str();
            for (slash, _) in path.match_indices('/') {
                folders.entry(&path[..slash]).or_default().push(member);
            }
        }
        let mut sections = Self::default();
        let mut known: Vec<(&str, usize)> = Vec::new();
        for (folder, inside) in folders {
            if inside.len() >= LEAST_PAGES && inside.len() < members.len() {
                let around =
                    known.iter().rev().find(|(outer, _)| beneath(folder, outer).is_some()).map(|(_, number)| *number);
                known.push((folder, sections.add(&inside, pages.len(), around)));
            }
        }
        sections
    }

    /// Adds one with these of so many pages; gives its number.
    pub fn add(&mut self, members: &[usize], pages: usize, around: Option<usize>) -> usize {
        self.of_page.resize(pages, None);
        members.iter().for_each(|&page| self.of_page[page] = Some(self.around.len()));
        self.around.push(around);
        self.around.len() - 1
    }

    /// For each of a hole's pages whether most pages of its section have the same there: the section may say it.
    pub fn said(&self, hole: &Hole) -> Vec<bool> {
        let section = |page: usize| self.of_page.get(page).copied().flatten();
        let mut hashes: FxHashMap<usize, Vec<u64>> = FxHashMap::default();
        for variant in &hole.variants {
            if let Some(section) = section(variant.page) {
                hashes.entry(section).or_default().push(variant.hash);
            }
        }
        let usual: FxHashMap<usize, u64> =
            hashes.into_iter().filter_map(|(section, hashes)| Some((section, hashes[majority(&hashes)?]))).collect();
        let is_said =
            |variant: &Variant| section(variant.page).is_some_and(|section| usual.get(&section) == Some(&variant.hash));
        hole.variants.iter().map(is_said).collect()
    }

    /// Those that tell some pages apart: none, where all belong to one.
    pub fn among(&self, members: &[usize]) -> Self {
        let section = |page: &usize| self.of_page.get(*page).copied().flatten();
        let is_one = members.iter().all(|page| section(page) == section(&members[0]));
        if is_one { Self::default() } else { self.clone() }
    }

    pub fn is_empty(&self) -> bool {
        self.around.is_empty()
    }

    /// The least that must be said under a layout that shows something to these pages: by
    /// a page, given by its place, under what is shown to it, and by a section that shows
    /// something else to its pages, which is given with what it costs to say so.
    pub fn least(
        &self,
        members: &[usize],
        shown: u64,
        says: &impl Fn(usize, u64) -> u64,
        fill: &impl Fn(&[usize]) -> Option<(u64, u64)>,
    ) -> u64 {
        let mut here = 0;
        let mut own: Vec<Vec<usize>> = vec![Vec::new(); self.around.len()];
        for (at, &page) in members.iter().enumerate() {
            match self.of_page.get(page) {
                Some(&Some(section)) => own[section].push(at),
                _ => here += says(at, shown),
            }
        }
        let mut all = own.clone();
        let mut inner: Vec<Vec<usize>> = vec![Vec::new(); self.around.len()];
        for section in (0..self.around.len()).rev() {
            if let Some(around) = self.around[section] {
                let pages = all[section].clone();
                all[around].extend(pages);
                inner[around].push(section);
            }
        }
        let mut tree = Tree { own, inner, says, filled: vec![u64::MAX; self.around.len()] };
        for section in (0..self.around.len()).rev() {
            // What most of its own pages have, or most of all.
            let fills = [fill(&tree.own[section]), fill(&all[section])].into_iter().flatten();
            let costs = fills.map(|(shown, cost)| cost + tree.open(section, shown));
            tree.filled[section] = costs.min().unwrap_or(u64::MAX);
        }
        let outermost = (0..self.around.len()).filter(|&section| self.around[section].is_none());
        here + outermost.map(|section| tree.least(section, shown)).sum::<u64>()
    }
}

/// The contents in sections.
struct Tree<'s, S> {
    /// The places of the pages that no section in one has.
    own: Vec<Vec<usize>>,
    inner: Vec<Vec<usize>>,
    says: &'s S,
    /// The cost if a section shows its pages the content it likes best.
    filled: Vec<u64>,
}

impl<S: Fn(usize, u64) -> u64> Tree<'_, S> {
    fn least(&self, section: usize, shown: u64) -> u64 {
        self.filled[section].min(self.open(section, shown))
    }

    /// If it shows what the layout around does.
    fn open(&self, section: usize, shown: u64) -> u64 {
        let own: u64 = self.own[section].iter().map(|&at| (self.says)(at, shown)).sum();
        own + self.inner[section].iter().map(|&inner| self.least(inner, shown)).sum::<u64>()
    }
}

/// Those reasons for sections of pages that save most together, where the pages leave these holes to fill; a section
/// costs `price` bytes. With `marks` a menu is shared though each page is marked in it.
pub fn choose(
    pages: &[Page],
    members: &[usize],
    holes: &[&Hole],
    mut reasons: Vec<Reason>,
    price: f64,
    marks: bool,
    small: bool,
) -> Vec<Section> {
    if reasons.is_empty() && !small {
        return Vec::new();
    }
    let shared = shared(pages, members, holes);
    let place = |page: &usize| members.binary_search(page).ok();
    if small {
        reasons.extend(shared.iter().map(|shared| &shared.set).filter_map(|set| {
            let found: Vec<usize> =
                (0..members.len()).filter(|at| set.0[at / 64] >> (at % 64) & 1 == 1).map(|at| members[at]).collect();
            let is_fit = found.len() >= LEAST_PAGES_SMALL.max(members.len().div_ceil(LEAST_SHARE_SMALL))
                && found.len() < members.len();
            let word = is_fit.then(|| naming::of_section(pages, members, &found))?;
            Some(Reason { members: found, word, is_kind: true, ..Reason::default() })
        }));
        reasons.truncate(MAX_CANDIDATES);
    }
    let sets: Vec<Set> =
        reasons.iter().map(|reason| Set::of(members.len(), reason.members.iter().filter_map(place))).collect();
    let weighed = Weighed::new(&shared, &sets, members.len(), price, marks);
    let sure: Vec<usize> = (0..reasons.len()).filter(|&at| reasons[at].is_sure).collect();
    weighed.nested(&reasons, &weighed.best(&sure), None)
}

/// A set of places in a list of pages.
#[derive(Clone, Debug, PartialEq, Eq)]
struct Set(Vec<u64>);

impl Set {
    fn of(size: usize, places: impl Iterator<Item = usize>) -> Self {
        let mut bits = vec![0; size.div_ceil(64)];
        places.for_each(|at| bits[at / 64] |= 1 << (at % 64));
        Self(bits)
    }

    fn count(&self) -> usize {
        self.0.iter().map(|word| word.count_ones() as usize).sum()
    }

    fn shared(&self, other: &Self) -> usize {
        self.0.iter().zip(&other.0).map(|(a, b)| (a & b).count_ones() as usize).sum()
    }
}

/// Pages that carry the same features.
struct Shared {
    set: Set,
    /// The bytes of parts of holes that they share.
    parts: f64,
    /// The bytes of whole holes that they fill alike, and how many these are.
    wholes: f64,
    count: f64,
}

impl Shared {
    /// The bytes that all pages of a set share by this.
    fn within(&self, set: &Set, count: usize, marks: bool) -> f64 {
        match self.set.shared(set) {
            all if all == count => self.parts + self.count * TAGS as f64,
            most if most as f64 >= MOST * count as f64 => {
                // Each exception costs about what a page saves.
                let saving = (2 * most).saturating_sub(count + 1) as f64 / (count - 1) as f64;
                (if marks { self.parts } else { self.wholes } + self.count * TAGS as f64) * saving
            }
            _ => 0.0,
        }
    }
}

/// The content of a page in a hole: its hash, its bytes, and whether it is all of it.
type Feature = (u64, u32, bool);

/// The sets of pages that carry the same features, the weightiest first.
fn shared(pages: &[Page], members: &[usize], holes: &[&Hole]) -> Vec<Shared> {
    let features: Vec<Vec<Feature>> = members.par_iter().map(|&page| features(pages, page, holes)).collect();
    // A set is known by the sum of the keys of its pages.
    let mut carriers: FxHashMap<u64, (u64, u32)> = FxHashMap::default();
    for (at, list) in features.iter().enumerate() {
        for (feature, ..) in list {
            let entry = carriers.entry(*feature).or_default();
            entry.0 = entry.0.wrapping_add(xxh3_64(&(at as u64).to_le_bytes()));
            entry.1 += 1;
        }
    }
    carriers.retain(|_, (_, count)| *count > 1);
    let nothing = |count: u32| (f64::from(count), [0.0; 3]);
    let mut weights: FxHashMap<u64, (f64, [f64; 3])> = FxHashMap::default();
    for (feature, bytes, whole) in features.iter().flatten() {
        let Some(&(set, count)) = carriers.get(feature) else { continue };
        let (_, sums) = weights.entry(set).or_insert_with(|| nothing(count));
        let share = 1.0 / f64::from(count);
        if *whole {
            sums[1] += f64::from(*bytes) * share;
            sums[2] += share;
        } else {
            sums[0] += f64::from(*bytes) * share;
        }
    }
    let mut heaviest: Vec<(u64, f64, [f64; 3])> = weights
        .into_iter()
        .map(|(set, (count, sums))| (set, (count - 1.0) * (sums[0] + sums[2] * TAGS as f64), sums))
        .collect();
    heaviest.sort_by(|a, b| b.1.total_cmp(&a.1).then(a.0.cmp(&b.0)));
    heaviest.truncate(MAX_SETS);
    let index: FxHashMap<u64, usize> = heaviest.iter().enumerate().map(|(index, (set, ..))| (*set, index)).collect();
    let mut sets = vec![Set::of(members.len(), std::iter::empty()); heaviest.len()];
    for (at, list) in features.iter().enumerate() {
        for (feature, ..) in list {
            if let Some(&index) = carriers.get(feature).and_then(|(set, _)| index.get(set)) {
                sets[index].0[at / 64] |= 1 << (at % 64);
            }
        }
    }
    let shared =
        |(set, (_, _, [parts, wholes, count])): (Set, (u64, f64, [f64; 3]))| Shared { set, parts, wholes, count };
    sets.into_iter().zip(heaviest).map(shared).collect()
}

/// The content of a page in the holes that it fills itself.
fn features(pages: &[Page], index: usize, holes: &[&Hole]) -> Vec<Feature> {
    let page = &pages[index];
    let mut found: Vec<Feature> = Vec::new();
    for (number, hole) in holes.iter().enumerate() {
        let Some(variant) = hole.variant(index).filter(|variant| !variant.follows) else { continue };
        let bytes = variant.content.len() as u32;
        let whole = mix(number as u64, variant.hash);
        found.push((whole, bytes, true));
        let Some((_, run)) = variant.place else {
            found.push((mix(whole, 1), bytes, false));
            continue;
        };
        let nodes = &page.document.nodes;
        let first = nodes.partition_point(|node| node.first < run.0).max(1);
        for node in nodes[first..].iter().take_while(|node| node.first < run.1) {
            let (own, rest) = match node.kind {
                NodeKind::Element => (page.normal((node.first, node.inner)), node.close.to(node.last).len() as u32),
                _ => (page.normal((node.first, node.last)), 0),
            };
            if own.len() > 2 {
                let parent = page.keys[node.parent.index()].label;
                let feature = mix(mix(number as u64, u64::from(parent)), xxh3_64_with_seed(&own, node.kind as u64));
                found.push((feature, own.len() as u32 + 4 * rest, false));
            }
        }
    }
    found.sort_unstable();
    found.dedup_by_key(|(feature, ..)| *feature);
    found
}

/// How a candidate lies to another one.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Relation {
    Apart,
    Inside,
    Around,
    Crossing,
}

/// The candidates, weighed.
struct Weighed {
    counts: Vec<usize>,
    /// The bytes that the pages of each share.
    common: Vec<f64>,
    /// The bytes that all pages share.
    base: f64,
    relations: Vec<Vec<Relation>>,
    price: f64,
}

impl Weighed {
    fn new(shared: &[Shared], candidates: &[Set], all: usize, price: f64, marks: bool) -> Self {
        let common =
            |set: &Set, count: usize| -> f64 { shared.iter().map(|shared| shared.within(set, count, marks)).sum() };
        let counts: Vec<usize> = candidates.iter().map(Set::count).collect();
        let relation = |a: usize, b: usize| match candidates[a].shared(&candidates[b]) {
            0 => Relation::Apart,
            both if both == counts[a] => Relation::Inside,
            both if both == counts[b] => Relation::Around,
            _ => Relation::Crossing,
        };
        let range = 0..candidates.len();
        Self {
            common: range.clone().into_par_iter().map(|at| common(&candidates[at], counts[at])).collect(),
            base: common(&Set::of(all, 0..all), all),
            relations: range.clone().into_par_iter().map(|a| range.clone().map(|b| relation(a, b)).collect()).collect(),
            counts,
            price,
        }
    }

    /// The smallest of the chosen sets around a candidate.
    fn around(&self, chosen: &[usize], at: usize) -> Option<usize> {
        let is_around = |other: &usize| *other != at && self.relations[at][*other] == Relation::Inside;
        let around = chosen.iter().copied().filter(is_around);
        around.min_by_key(|&other| (self.counts[other], other))
    }

    /// The bytes that adding a candidate saves; `None` if it crosses a chosen one.
    fn gain(&self, chosen: &[usize], at: usize) -> Option<f64> {
        let relations = &self.relations[at];
        if chosen.iter().any(|&other| other == at || relations[other] == Relation::Crossing) {
            return None;
        }
        let around = self.around(chosen, at);
        let inner = chosen
            .iter()
            .filter(|&&other| relations[other] == Relation::Around && self.around(chosen, other) == around);
        let saved: usize = self.counts[at] - 1 - inner.map(|&other| self.counts[other] - 1).sum::<usize>();
        let beyond = self.common[at] - around.map_or(self.base, |around| self.common[around]);
        Some(saved as f64 * beyond - self.price)
    }

    fn value(&self, chosen: &[usize]) -> f64 {
        let value = |&at: &usize| {
            let beyond = self.common[at] - self.around(chosen, at).map_or(self.base, |around| self.common[around]);
            (self.counts[at] - 1) as f64 * beyond - self.price
        };
        chosen.iter().map(value).sum()
    }

    /// Adds what saves most, as long as something saves.
    fn fill(&self, mut chosen: Vec<usize>) -> Vec<usize> {
        loop {
            let gains = (0..self.counts.len()).filter_map(|at| Some((self.gain(&chosen, at)?, at)));
            let best = gains.max_by(|a, b| a.0.total_cmp(&b.0).then(b.1.cmp(&a.1)));
            match best {
                Some((gain, at)) if gain > 0.0 => chosen.push(at),
                _ => return chosen,
            }
        }
    }

    /// Those that save most together, with those that are there in any case.
    fn best(&self, sure: &[usize]) -> Vec<usize> {
        let mut best = self.fill(sure.to_vec());
        let mut value = self.value(&best);
        let mut swaps = 0;
        let mut improved = true;
        while improved && swaps < MAX_SWAPS {
            improved = false;
            for at in 0..self.counts.len() {
                if best.contains(&at) || swaps == MAX_SWAPS {
                    continue;
                }
                let fits = |other: &usize| self.relations[at][*other] != Relation::Crossing;
                if best.iter().all(fits) || !sure.iter().all(fits) {
                    continue;
                }
                swaps += 1;
                let forced = best.iter().copied().filter(fits).chain([at]).collect();
                let filled = self.fill(forced);
                let other = self.value(&filled);
                if other > value + 1.0 {
                    (best, value, improved) = (filled, other, true);
                }
            }
        }
        // What a swap left without gain goes.
        let gains = |at: usize| {
            let others: Vec<usize> = best.iter().copied().filter(|&other| other != at).collect();
            self.gain(&others, at).is_some_and(|gain| gain > 0.0)
        };
        best.iter().copied().filter(|&at| sure.contains(&at) || gains(at)).collect()
    }

    /// The chosen ones directly inside one of them, or topmost, with what lies in them.
    fn nested(&self, reasons: &[Reason], chosen: &[usize], around: Option<usize>) -> Vec<Section> {
        let here = chosen.iter().copied().filter(|&at| self.around(chosen, at) == around);
        let section =
            |at: usize| Section { reason: reasons[at].clone(), inner: self.nested(reasons, chosen, Some(at)) };
        let mut sections: Vec<Section> = here.map(section).collect();
        sections.sort_by(|a, b| a.reason.members.cmp(&b.reason.members));
        sections
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Features by the pages that carry them, and their bytes.
    fn shared(all: usize, features: &[(&[usize], f64)]) -> Vec<Shared> {
        let shared = |(places, parts): &(&[usize], f64)| Shared {
            set: Set::of(all, places.iter().copied()),
            parts: *parts,
            wholes: 0.0,
            count: 0.0,
        };
        features.iter().map(shared).collect()
    }

    /// The pages of the sections that are chosen, those in another one after it.
    fn chosen(all: usize, features: &[(&[usize], f64)], price: f64) -> Vec<Vec<usize>> {
        let shared = shared(all, features);
        let candidates: Vec<Set> = shared.iter().map(|shared| shared.set.clone()).collect();
        let reasons: Vec<Reason> =
            features.iter().map(|(pages, _)| Reason { members: pages.to_vec(), ..Reason::default() }).collect();
        let weighed = Weighed::new(&shared, &candidates, all, price, false);
        let mut found = Vec::new();
        let mut open = weighed.nested(&reasons, &weighed.best(&[]), None);
        open.reverse();
        while let Some(section) = open.pop() {
            found.push(section.reason.members);
            open.extend(section.inner.into_iter().rev());
        }
        found
    }

    #[test]
    fn what_a_section_fills_is_said_once() {
        // Pages 0 to 3 in one section, 2 and 3 in one within, 4 in none.
        let mut sections = Sections::default();
        let outer = sections.add(&[0, 1, 2, 3], 5, None);
        sections.add(&[2, 3], 5, Some(outer));
        let least = |hashes: [u64; 5], shown: u64, price: u64| {
            let says = |at: usize, shown: u64| if hashes[at] == shown { 0 } else { 10 };
            let fill = |pages: &[usize]| {
                let first = hashes[*pages.first()?];
                (pages.iter().all(|&at| hashes[at] == first)).then_some((first, price))
            };
            sections.least(&[0, 1, 2, 3, 4], shown, &says, &fill)
        };
        assert_eq!(least([7, 7, 7, 7, 7], 7, 12), 0);
        assert_eq!(least([7, 7, 7, 7, 7], 0, 12), 12 + 10);
        assert_eq!(least([7, 7, 8, 8, 9], 0, 12), 12 + 12 + 10);
        assert_eq!(least([7, 7, 8, 8, 9], 8, 8), 8 + 8 + 10);
        assert_eq!(least([7, 7, 8, 8, 9], 8, 12), 10 + 10 + 10);
        assert_eq!(least([1, 2, 8, 8, 9], 0, 12), 10 + 10 + 12 + 10);
    }

    #[test]
    fn sections_nest_and_stand_beside_each_other() {
        let features: [(&[usize], f64); 3] =
            [(&[0, 1, 2, 3, 4, 5], 400.0), (&[0, 1, 2], 500.0), (&[6, 7, 8, 9], 300.0)];
        assert_eq!(chosen(10, &features, 300.0), [vec![0, 1, 2, 3, 4, 5], vec![0, 1, 2], vec![6, 7, 8, 9]]);
    }

    #[test]
    fn a_section_must_save_its_price() {
        let features: [(&[usize], f64); 2] = [(&[0, 1, 2], 140.0), (&[3, 4, 5], 160.0)];
        assert_eq!(chosen(6, &features, 300.0), [vec![3, 4, 5]]);
        assert!(chosen(6, &features, 1_000.0).is_empty());
    }

    #[test]
    fn of_sets_that_cross_the_better_ones_are_chosen_together() {
        // The set in the middle saves most alone; the two that it crosses save more together.
        let features: [(&[usize], f64); 3] =
            [(&[0, 1, 2, 3], 500.0), (&[2, 3, 4, 5, 6], 480.0), (&[4, 5, 6, 7], 500.0)];
        assert_eq!(chosen(8, &features, 100.0), [vec![0, 1, 2, 3], vec![4, 5, 6, 7]]);
    }

    #[test]
    fn what_all_pages_share_is_no_reason_for_a_section() {
        let features: [(&[usize], f64); 2] = [(&[0, 1, 2, 3, 4, 5], 9_000.0), (&[0, 1, 2], 50.0)];
        assert!(chosen(6, &features, 300.0).is_empty());
    }

    #[test]
    fn an_exception_costs_about_what_a_page_saves() {
        let whole = Shared { set: Set::of(10, 0..9), parts: 0.0, wholes: 100.0, count: 1.0 };
        let all = Set::of(10, 0..10);
        let nine = Set::of(10, 0..9);
        assert_eq!(whole.within(&nine, 9, false), TAGS as f64);
        let expected = (100.0 + TAGS as f64) * 7.0 / 9.0;
        assert!((whole.within(&all, 10, false) - expected).abs() < 1e-9);
        assert_eq!(whole.within(&Set::of(10, 5..10), 5, false), 0.0);
        assert_eq!(whole.within(&Set::of(10, [0, 9].into_iter()), 2, false), 0.0);
    }
}
