//! Which pages share a frame.
//!
//! A page is described by its features: start tags, scripts and comments,
//! each with the element that holds it. Pages are gathered around leaders by
//! what they share of the features that recur, weighted by length; the family
//! that promises the greatest saving gets the layout.

use rustc_hash::{FxHashMap, FxHashSet};
use xxhash_rust::xxh3::xxh3_64_with_seed;

use super::page::{Page, mix};
use crate::markup::NodeKind;

/// How much of a page's frame must be that of its family.
const KINSHIP: f64 = 0.5;

/// The most families that are told apart; pages beyond join none.
const MAX_FAMILIES: usize = 64;

/// Only the nodes nearest to the root make a frame.
const MAX_FEATURES: usize = 600;

/// The pages of the family with the most to gain, and for the others how much
/// of the family's frame they share (0 to 1). Empty if no two pages share a frame.
pub(super) fn main_family(pages: &[Page]) -> (Vec<usize>, FxHashMap<usize, f64>) {
    let features: Vec<Vec<(u64, u32)>> = pages.iter().map(features).collect();
    let mut carriers: FxHashMap<u64, usize> = FxHashMap::default();
    for (feature, _) in features.iter().flatten() {
        *carriers.entry(*feature).or_default() += 1;
    }
    let recurs = (pages.len() / 50).clamp(2, 20);
    let frame = |index: usize| features[index].iter().filter(|(feature, _)| carriers[feature] >= recurs);
    let weight = |index: usize| frame(index).map(|(_, weight)| f64::from(*weight)).sum::<f64>();
    let weights: Vec<f64> = (0..pages.len()).map(weight).collect();

    let mut families: Vec<(FxHashSet<u64>, f64, Vec<usize>)> = Vec::new();
    // The heaviest frame that most pages carry leads; what comes later joins or leads its own.
    let mut order: Vec<usize> = (0..pages.len()).filter(|&index| weights[index] > 0.0).collect();
    let popularity = |index: usize| frame(index).map(|(feature, weight)| carriers[feature] as u64 * u64::from(*weight)).sum::<u64>();
    order.sort_by_cached_key(|&index| (std::cmp::Reverse(popularity(index)), index));
    for index in order {
        let shared = |leader: &FxHashSet<u64>| -> f64 {
            frame(index).filter(|(feature, _)| leader.contains(feature)).map(|(_, weight)| f64::from(*weight)).sum()
        };
        let kinship = |(leader, heavy, _): &(FxHashSet<u64>, f64, Vec<usize>)| shared(leader) / heavy.max(weights[index]);
        let best = (0..families.len()).map(|at| (at, kinship(&families[at]))).max_by(|a, b| a.1.total_cmp(&b.1));
        match best {
            Some((at, kin)) if kin >= KINSHIP => families[at].2.push(index),
            _ if families.len() < MAX_FAMILIES => {
                families.push((frame(index).map(|(feature, _)| *feature).collect(), weights[index], vec![index]));
            }
            _ => {}
        }
    }
    let gain = |family: &(FxHashSet<u64>, f64, Vec<usize>)| (family.2.len() as f64 - 1.0) * family.1;
    let best = families.iter().filter(|family| family.2.len() > 1).max_by(|a, b| gain(a).total_cmp(&gain(b)));
    let Some((leader, heavy, members)) = best else { return (Vec::new(), FxHashMap::default()) };
    let mut members = members.clone();
    members.sort_unstable();
    let others = (0..pages.len())
        .filter(|index| members.binary_search(index).is_err())
        .map(|index| {
            let shared: f64 =
                features[index].iter().filter(|(feature, _)| leader.contains(feature)).map(|(_, weight)| f64::from(*weight)).sum();
            (index, shared / heavy)
        })
        .collect();
    (members, others)
}

/// The features of a page with their lengths, each once.
fn features(page: &Page) -> Vec<(u64, u32)> {
    let mut found: Vec<(u64, u32)> = Vec::new();
    for (index, node) in page.document.nodes.iter().enumerate().skip(1) {
        let parent = page.keys[node.parent as usize].label;
        let own = match node.kind {
            NodeKind::Element => page.normal.run(node.first, node.inner),
            NodeKind::Comment | NodeKind::Doctype => page.normal.run(node.first, node.last),
            // Text of a frame stands in links and headings; of prose nothing recurs.
            NodeKind::Text => page.normal.run(node.first, node.last),
            _ => continue,
        };
        if own.len() > 2 {
            found.push((mix(parent, xxh3_64_with_seed(own, node.kind as u64)), own.len() as u32));
        }
        if index > MAX_FEATURES * 4 {
            break;
        }
    }
    found.sort_unstable();
    found.dedup();
    found.truncate(MAX_FEATURES * 2);
    found
}
