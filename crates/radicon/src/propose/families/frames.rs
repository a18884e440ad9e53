//! Which pages share a skeleton.
//!
//! A page is described by its features: start tags, comments and texts, each
//! with the element that holds it. What many pages carry, near the root, is
//! skeleton; what few carry, deep inside, is content. Pages are gathered around
//! leaders by what they share of the skeleton, weighted so; the family that
//! promises the greatest saving gets the layout, and with it every page that
//! holds most of what the family has in common.

use rayon::prelude::*;
use rustc_hash::{FxHashMap, FxHashSet};
use xxhash_rust::xxh3::xxh3_64_with_seed;

use crate::hash::mix;
use crate::markup::NodeKind;
use crate::propose::pages::page::Page;

/// A family has as many pages at least.
pub const LEAST_PAGES: usize = 3;

/// How much of its family's skeleton a page must hold to be considered.
pub const KINSHIP: f64 = 0.5;

/// A page that holds as much surely belongs to it.
pub const SURE: f64 = 0.85;

/// The most families that are told apart; pages beyond join none.
const MAX_FAMILIES: usize = 64;

/// Deeper nodes, and nodes beyond the first so many, are no skeleton.
const MAX_DEPTH: u16 = 10;
const MAX_NODES: usize = 3_000;

/// Pages are described by so many at a time, to spare memory.
const BATCH: usize = 1_024;

/// A feature of a page by its hash, and its weight but for how many pages carry it.
type Hashed = (u64, f32);

/// The features that several pages carry, by their numbers.
pub struct Frames {
    pages: Vec<Vec<(u32, f32)>>,
    kinds: usize,
}

impl Frames {
    pub fn of(pages: &[Page]) -> Self {
        // What one page alone carries is most of all, and says nothing.
        let nodes: usize = pages.iter().map(|page| page.document.nodes.len().min(MAX_NODES)).sum();
        let mut seen = Seen::new(nodes);
        for batch in pages.chunks(BATCH) {
            let lists: Vec<Vec<Hashed>> = batch.par_iter().map(features).collect();
            lists.iter().flatten().for_each(|(feature, _)| seen.add(*feature));
        }
        let mut numbers: FxHashMap<u64, u32> = FxHashMap::default();
        let mut found = Vec::with_capacity(pages.len());
        for batch in pages.chunks(BATCH) {
            let shared = |page: &Page| {
                let mut list = features(page);
                list.retain(|(feature, _)| seen.twice(*feature));
                list
            };
            let lists: Vec<Vec<Hashed>> = batch.par_iter().map(shared).collect();
            for list in lists {
                let mut number = |(feature, weight): (u64, f32)| {
                    let next = numbers.len() as u32;
                    (*numbers.entry(feature).or_insert(next), weight)
                };
                found.push(list.into_iter().map(&mut number).collect());
            }
        }
        Self { pages: found, kinds: numbers.len() }
    }

    /// For each of these pages how much it holds of the skeleton of the family with
    /// the most to gain (0 to 1). `None` if no two of them share a skeleton.
    pub fn main_family(&self, pages: &[usize]) -> Option<Vec<f64>> {
        let mut carriers = vec![0_u32; self.kinds];
        for (feature, _) in pages.iter().flat_map(|&page| &self.pages[page]) {
            carriers[*feature as usize] += 1;
        }
        let factor = |count: u32| {
            let share = f64::from(count) / pages.len() as f64;
            if count > 1 { share * share } else { 0.0 }
        };
        let weighed = Weighed { frames: self, pages, factors: carriers.into_iter().map(factor).collect() };
        weighed.main_family()
    }
}

/// Which hashes were seen once, and which more often; now and then a hash that was
/// seen once is taken for one of the others.
struct Seen {
    once: Vec<u64>,
    more: Vec<u64>,
}

impl Seen {
    fn new(hashes: usize) -> Self {
        let words = (hashes / 8).next_power_of_two().clamp(1 << 10, 1 << 22);
        Self { once: vec![0; words], more: vec![0; words] }
    }

    fn place(&self, hash: u64) -> (usize, u64) {
        ((hash >> 6) as usize & (self.once.len() - 1), 1 << (hash & 63))
    }

    fn add(&mut self, hash: u64) {
        let (word, bit) = self.place(hash);
        self.more[word] |= self.once[word] & bit;
        self.once[word] |= bit;
    }

    fn twice(&self, hash: u64) -> bool {
        let (word, bit) = self.place(hash);
        self.more[word] & bit != 0
    }
}

/// Pages with what their features weigh among them.
struct Weighed<'f> {
    frames: &'f Frames,
    pages: &'f [usize],
    /// For each feature, by how many of the pages carry it.
    factors: Vec<f64>,
}

impl Weighed<'_> {
    /// The features of a page, by its place in the list.
    fn features(&self, at: usize) -> impl Iterator<Item = (u32, f64)> {
        let weigh = |&(feature, weight): &(u32, f32)| (feature, f64::from(weight) * self.factors[feature as usize]);
        self.frames.pages[self.pages[at]].iter().map(weigh).filter(|(_, weight)| *weight > 0.0)
    }

    fn main_family(&self) -> Option<Vec<f64>> {
        let leaders = self.gather();
        let gain = |family: &Family| (family.members.len() as f64 - 1.0) * family.weight;
        let best = leaders.iter().filter(|family| family.members.len() > 1).max_by(|a, b| gain(a).total_cmp(&gain(b)));
        let best = best?;

        // What most of its members carry is the family's skeleton.
        let mut common: FxHashMap<u32, (usize, f64)> = FxHashMap::default();
        for (feature, weight) in best.members.iter().flat_map(|&member| self.features(member)) {
            let entry = common.entry(feature).or_insert((0, weight));
            entry.0 += 1;
        }
        common.retain(|_, (count, _)| *count * 3 >= best.members.len() * 2);
        let whole: f64 = sum(common.values().map(|(_, weight)| *weight));
        let holds = |at: usize| {
            let held = self.features(at).filter(|(feature, _)| common.contains_key(feature)).map(|(_, weight)| weight);
            if whole > 0.0 { held.sum::<f64>() / whole } else { 0.0 }
        };
        Some((0..self.pages.len()).map(holds).collect())
    }

    /// Gathers pages around leaders, the most typical pages first.
    fn gather(&self) -> Vec<Family> {
        let weight = |at: usize| self.features(at).map(|(_, weight)| weight).sum();
        let weights: Vec<f64> = (0..self.pages.len()).map(weight).collect();
        let mut order: Vec<usize> = (0..weights.len()).filter(|&at| weights[at] > 0.0).collect();
        order.sort_by(|&a, &b| weights[b].total_cmp(&weights[a]).then(a.cmp(&b)));
        let mut families: Vec<Family> = Vec::new();
        for at in order {
            let kinship = |family: &Family| {
                let shared = self.features(at).filter(|(feature, _)| family.frame.contains(feature));
                shared.map(|(_, weight)| weight).sum::<f64>() / family.weight.max(weights[at])
            };
            let kin = (0..families.len()).map(|family| (family, kinship(&families[family])));
            match kin.max_by(|a, b| a.1.total_cmp(&b.1)) {
                Some((family, kin)) if kin >= KINSHIP => families[family].members.push(at),
                _ if families.len() < MAX_FAMILIES => {
                    let frame = self.features(at).map(|(feature, _)| feature).collect();
                    families.push(Family { frame, weight: weights[at], members: vec![at] });
                }
                _ => {}
            }
        }
        families
    }
}

/// Pages around a leader, by their places in the list.
struct Family {
    frame: FxHashSet<u32>,
    weight: f64,
    members: Vec<usize>,
}

/// A sum that does not depend on the order in which a hash map gives its values.
fn sum(values: impl Iterator<Item = f64>) -> f64 {
    let mut values: Vec<f64> = values.collect();
    values.sort_by(f64::total_cmp);
    values.into_iter().sum()
}

/// The features of a page, each once, in order of their hashes.
fn features(page: &Page) -> Vec<Hashed> {
    let mut found: Vec<Hashed> = Vec::new();
    for node in page.document.nodes.iter().skip(1).take(MAX_NODES) {
        let own = match node.kind {
            NodeKind::Element => page.normal((node.first, node.inner)),
            NodeKind::Comment | NodeKind::Doctype | NodeKind::Text => page.normal((node.first, node.last)),
            _ => continue,
        };
        if own.len() > 2 && node.depth <= MAX_DEPTH {
            let parent = page.keys[node.parent.index()].label;
            let weight = own.len() as f32 / f32::from(1 + node.depth);
            found.push((mix(u64::from(parent), xxh3_64_with_seed(&own, node.kind as u64)), weight));
        }
    }
    found.sort_by_key(|(feature, _)| *feature);
    found.dedup_by_key(|(feature, _)| *feature);
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::propose::testing::pages;

    #[test]
    fn pages_of_the_main_family_hold_its_skeleton() {
        let page = |frame: &str, name: &str| {
            format!(
                "<body><header><h2>{frame}</h2></header><main>{name}</main><footer><p>{frame} quay</p></footer></body>"
            )
        };
        let texts = ["Boats", "Piers", "Fares", "Tides"].map(|name| page("Tidewater", name));
        let other = "<table><tr><td>Seven</td></tr></table>".to_owned();
        let pages = pages(&[&texts[..], &[other]].concat());
        let shares = Frames::of(&pages).main_family(&[0, 1, 2, 3, 4]).expect("a family");
        assert!(shares[..4].iter().all(|&share| share > SURE) && shares[4] < KINSHIP, "{shares:?}");
        // Alone it shares its skeleton with nobody.
        assert_eq!(Frames::of(&pages).main_family(&[4]), None);
    }

    #[test]
    fn what_was_seen_once_is_not_seen_twice() {
        let mut seen = Seen::new(100);
        seen.add(7);
        assert!(!seen.twice(7));
        seen.add(7);
        assert!(seen.twice(7) && !seen.twice(8));
    }
}
