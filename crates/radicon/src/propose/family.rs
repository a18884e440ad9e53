//! Which pages share a frame.
//!
//! A page is described by its features: start tags, comments and texts, each
//! with the element that holds it. What many pages carry, near the root, is
//! frame; what few carry, deep inside, is content. Pages are gathered around
//! leaders by what they share of the frame, weighted so; the family that
//! promises the greatest saving gets the layout, and with it every page that
//! holds most of what the family has in common.

use rayon::prelude::*;
use rustc_hash::{FxHashMap, FxHashSet};
use xxhash_rust::xxh3::xxh3_64_with_seed;

use super::page::{Page, mix};
use crate::markup::NodeKind;

/// How much of its family's frame a page must hold to be considered.
pub(super) const KINSHIP: f64 = 0.5;

/// A page that holds as much surely belongs to it.
pub(super) const SURE: f64 = 0.85;

/// The most families that are told apart; pages beyond join none.
const MAX_FAMILIES: usize = 64;

/// Deeper nodes, and nodes beyond the first so many, are no frame.
const MAX_DEPTH: u32 = 10;
const MAX_NODES: usize = 3_000;

/// A feature of a page: its hash, and its weight but for how many pages carry it.
type Feature = (u64, f64);

/// The features of pages.
pub(super) struct Frames(Vec<Vec<Feature>>);

impl Frames {
    pub fn of(pages: &[Page]) -> Self {
        Self(pages.par_iter().map(features).collect())
    }

    /// For each of these pages how much it holds of the frame of the family with
    /// the most to gain (0 to 1). `None` if no two of them share a frame.
    pub fn main_family(&self, pages: &[usize]) -> Option<Vec<f64>> {
        main_family(pages.iter().map(|&page| self.0[page].clone()).collect())
    }
}

fn main_family(mut features: Vec<Vec<Feature>>) -> Option<Vec<f64>> {
    let count = features.len();
    let mut carriers: FxHashMap<u64, usize> = FxHashMap::default();
    for (feature, _) in features.iter().flatten() {
        *carriers.entry(*feature).or_default() += 1;
    }
    for list in &mut features {
        list.retain_mut(|(feature, weight)| {
            let share = carriers[feature] as f64 / count as f64;
            *weight *= share * share;
            carriers[feature] > 1
        });
    }
    let leaders = gather(&features);
    let gain = |family: &Family| (family.members.len() as f64 - 1.0) * family.weight;
    let best = leaders.iter().filter(|family| family.members.len() > 1).max_by(|a, b| gain(a).total_cmp(&gain(b)));
    let best = best?;

    // What most of its members carry is the family's frame.
    let mut common: FxHashMap<u64, (usize, f64)> = FxHashMap::default();
    for &(feature, weight) in best.members.iter().flat_map(|&member| &features[member]) {
        let entry = common.entry(feature).or_insert((0, weight));
        entry.0 += 1;
    }
    common.retain(|_, (count, _)| *count * 3 >= best.members.len() * 2);
    let whole: f64 = sum(common.values().map(|(_, weight)| *weight));
    let holds = |index: usize| {
        let held =
            features[index].iter().filter(|(feature, _)| common.contains_key(feature)).map(|(_, weight)| *weight);
        if whole > 0.0 { held.sum::<f64>() / whole } else { 0.0 }
    };
    Some((0..count).map(holds).collect())
}

struct Family {
    frame: FxHashSet<u64>,
    weight: f64,
    members: Vec<usize>,
}

/// Gathers pages around leaders, the most typical pages first.
fn gather(features: &[Vec<Feature>]) -> Vec<Family> {
    let weights: Vec<f64> = features.iter().map(|list| list.iter().map(|(_, weight)| weight).sum()).collect();
    let mut order: Vec<usize> = (0..features.len()).filter(|&index| weights[index] > 0.0).collect();
    order.sort_by(|&a, &b| weights[b].total_cmp(&weights[a]).then(a.cmp(&b)));
    let mut families: Vec<Family> = Vec::new();
    for index in order {
        let kinship = |family: &Family| {
            let shared: f64 = features[index]
                .iter()
                .filter(|(feature, _)| family.frame.contains(feature))
                .map(|(_, weight)| weight)
                .sum();
            shared / family.weight.max(weights[index])
        };
        let best = (0..families.len()).map(|at| (at, kinship(&families[at]))).max_by(|a, b| a.1.total_cmp(&b.1));
        match best {
            Some((at, kin)) if kin >= KINSHIP => families[at].members.push(index),
            _ if families.len() < MAX_FAMILIES => {
                let frame = features[index].iter().map(|(feature, _)| *feature).collect();
                families.push(Family { frame, weight: weights[index], members: vec![index] });
            }
            _ => {}
        }
    }
    families
}

/// A sum that does not depend on the order in which a hash map gives its values.
fn sum(values: impl Iterator<Item = f64>) -> f64 {
    let mut values: Vec<f64> = values.collect();
    values.sort_by(f64::total_cmp);
    values.into_iter().sum()
}

/// The features of a page, each once, in order of their hashes.
fn features(page: &Page) -> Vec<Feature> {
    let mut found: Vec<Feature> = Vec::new();
    for (index, node) in page.document.nodes.iter().enumerate().skip(1).take(MAX_NODES) {
        let own = match node.kind {
            NodeKind::Element => page.normal.run(node.first, node.inner),
            NodeKind::Comment | NodeKind::Doctype | NodeKind::Text => page.normal.run(node.first, node.last),
            _ => continue,
        };
        if own.len() > 2 && node.depth <= MAX_DEPTH {
            let parent = page.keys[page.document.nodes[index].parent as usize].label;
            let weight = own.len() as f64 / f64::from(1 + node.depth);
            found.push((mix(parent, xxh3_64_with_seed(own, node.kind as u64)), weight));
        }
    }
    found.sort_by_key(|(feature, _)| *feature);
    found.dedup_by_key(|(feature, _)| *feature);
    found
}
