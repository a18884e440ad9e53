//! Near copies: subtrees that are alike but for a few differences.
//!
//! A subtree's content (its texts, its tags with their attributes) is sketched
//! by the least of sixteen hashes each (MinHash: Broder 1997); sketches that
//! agree in one of eight pairs of lanes are compared (banding: Leskovec,
//! Rajaraman and Ullman 2014). The greatest subtree of a cluster leads it, the
//! others are aligned with it.

use rayon::prelude::*;
use rustc_hash::FxHashMap;

use super::align::{Aligned, Alignment, Nested, align};
use super::forest::{Forest, mix, tag_of};
use super::runs::Copy;
use crate::site::Site;

const LANES: usize = 16;
const BANDS: usize = LANES / 2;

/// The most leaders that one pair of lanes leads to.
const MOST_LEADERS: usize = 4;

/// Subtrees with fewer bytes or nodes are not compared.
pub(super) const LEAST_BYTES: u32 = 160;
pub(super) const LEAST_NODES: u32 = 5;

type Sketch = [u32; LANES];

/// A subtree and others that are like it.
pub(super) struct Cluster {
    pub leader: u32,
    /// Classes that are alike, with how they differ from the leader.
    pub members: Vec<(u32, Alignment)>,
    /// How much of a copy is common to all, on the average.
    pub share: f64,
}

impl Cluster {
    fn classes(&self) -> impl Iterator<Item = u32> {
        std::iter::once(self.leader).chain(self.members.iter().map(|(class, _)| *class))
    }

    /// About how many bytes all copies have.
    pub fn bytes(&self, forest: &Forest) -> u64 {
        let of_class = |class| u64::from(forest.count(class)) * u64::from(forest.bytes(forest.places(class)[0]));
        self.classes().map(of_class).sum()
    }

    /// Every place where one of them stands.
    pub fn copies(&self, forest: &Forest) -> Vec<Copy> {
        let nodes = self.classes().flat_map(|class| forest.places(class));
        let mut copies: Vec<Copy> = nodes.map(|&node| (node, node + forest.size[node as usize])).collect();
        copies.sort_unstable();
        copies
    }
}

/// Groups the subtrees of a forest that are alike.
pub(super) fn find(site: &Site, forest: &Forest, least_similarity: f64) -> Vec<Cluster> {
    let mut sketches = sketch(forest);
    // The greatest leads; of equals the one that stands most often.
    sketches.sort_by_cached_key(|&(class, _)| {
        let (bytes, count) = (forest.bytes(forest.places(class)[0]), forest.count(class));
        (std::cmp::Reverse((bytes, count)), forest.hash[class as usize])
    });
    let mut leaders = Leaders {
        site,
        forest,
        least_similarity,
        buckets: FxHashMap::default(),
        all: Vec::new(),
        candidates: &sketches,
        index: sketches.iter().zip(0..).map(|((class, _), index)| (*class, index)).collect(),
        of_class: FxHashMap::default(),
        nested: FxHashMap::default(),
    };
    let mut clusters: FxHashMap<u32, Vec<(u32, Alignment)>> = FxHashMap::default();
    for batch in sketches.chunks(BATCH) {
        // First against the leaders there are, side by side; then against those of this batch.
        let known = leaders.all.len() as u32;
        let joined: Vec<_> = batch
            .par_iter()
            .map(|candidate| match leaders.knows(candidate.0) {
                true => None,
                false => leaders.join(candidate, 0),
            })
            .collect();
        for (candidate, joined) in batch.iter().zip(joined) {
            let class = candidate.0;
            if leaders.of_class.contains_key(&class) {
                continue;
            }
            let found = leaders.join_nested(class).or_else(|| {
                let (leader, aligned) = joined.or_else(|| leaders.join(candidate, known))?;
                leaders.keep_nested(&aligned);
                Some((leader, aligned.alignment))
            });
            match found {
                Some((leader, alignment)) => {
                    leaders.of_class.insert(class, leader);
                    clusters.entry(leader).or_default().push((class, alignment));
                }
                None => leaders.add(candidate),
            }
        }
    }
    let mut found: Vec<Cluster> =
        clusters.into_iter().map(|(leader, members)| cluster(forest, leader, members)).collect();
    found.sort_unstable_by_key(|cluster| cluster.leader);
    found
}

/// How many subtrees are compared side by side.
const BATCH: usize = 256;

/// How many lanes must agree before two subtrees are aligned.
const LEAST_LANES: usize = 3;

/// The subtrees that lead clusters, greatest first.
struct Leaders<'a> {
    site: &'a Site,
    forest: &'a Forest,
    least_similarity: f64,
    buckets: FxHashMap<u64, Vec<u32>>,
    all: Vec<(u32, Sketch)>,
    /// What can be clustered, and where each class stands among it.
    candidates: &'a [(u32, Sketch)],
    index: FxHashMap<u32, u32>,
    /// The leader of each class that is clustered already; a leader leads itself.
    of_class: FxHashMap<u32, u32>,
    /// Classes that stand in a greater one which is clustered: what they were aligned with there.
    nested: FxHashMap<u32, (u32, Alignment)>,
}

impl Leaders<'_> {
    /// The leader, from one on, that a subtree is alike, and how it differs.
    fn join(&self, (class, sketch): &(u32, Sketch), from: u32) -> Option<(u32, Aligned)> {
        let forest = self.forest;
        let mut near: Vec<u32> = bands(sketch).filter_map(|key| self.buckets.get(&key)).flatten().copied().collect();
        near.retain(|&leader| leader >= from);
        near.sort_unstable();
        near.dedup();
        let agreement = |leader: u32| self.all[leader as usize].1.iter().zip(sketch).filter(|(a, b)| a == b).count();
        let mut near: Vec<(usize, u32)> = near.into_iter().map(|leader| (agreement(leader), leader)).collect();
        near.retain(|(lanes, _)| *lanes >= LEAST_LANES);
        near.sort_by_key(|&(lanes, leader)| (std::cmp::Reverse(lanes), leader));
        near.iter().take(2).find_map(|&(_, leader)| {
            let (known, _) = self.all[leader as usize];
            let (a, b) = (forest.places(known)[0], forest.places(*class)[0]);
            // Too different in size to be alike.
            let most = f64::from(2 * forest.bytes(b)) / f64::from(forest.bytes(a) + forest.bytes(b));
            if most < self.least_similarity {
                return None;
            }
            let found = align(self.site, forest, a, b);
            (found.alignment.similarity(forest, a, b) >= self.least_similarity).then_some((known, found))
        })
    }

    /// Keeps how nodes within two that were aligned differ, so that they need no alignment of their own.
    fn keep_nested(&mut self, aligned: &Aligned) {
        let forest = self.forest;
        let class = |node: u32| forest.class[node as usize];
        let first = |node: u32| forest.places(class(node))[0];
        let wanted = |a: u32, b: u32, common: u32| {
            let alike = 2.0 * f64::from(common) >= self.least_similarity * f64::from(forest.bytes(a) + forest.bytes(b));
            let is_new = !self.of_class.contains_key(&class(b)) && !self.nested.contains_key(&class(b));
            alike && is_new && self.index.contains_key(&class(a)) && self.index.contains_key(&class(b))
        };
        for Nested { nodes: (a, b), alignment } in aligned.nested(wanted) {
            let by = (first(a).wrapping_sub(a), first(b).wrapping_sub(b));
            self.nested.entry(class(b)).or_insert_with(|| (class(a), alignment.moved(by)));
        }
    }

    /// Whether a class was aligned within a greater one, with one that leads or is free.
    fn knows(&self, class: u32) -> bool {
        let leads = |leader: &u32| self.of_class.get(leader).is_none_or(|known| known == leader);
        self.nested.get(&class).is_some_and(|(leader, _)| leads(leader))
    }

    /// The leader with which a class was aligned within a greater one, which becomes one if it is free.
    fn join_nested(&mut self, class: u32) -> Option<(u32, Alignment)> {
        let is_known = self.knows(class);
        let (leader, alignment) = self.nested.remove(&class).filter(|_| is_known)?;
        if !self.of_class.contains_key(&leader) {
            self.add(&self.candidates[self.index[&leader] as usize]);
        }
        Some((leader, alignment))
    }

    fn add(&mut self, (class, sketch): &(u32, Sketch)) {
        let index = self.all.len() as u32;
        self.of_class.insert(*class, *class);
        self.all.push((*class, *sketch));
        for key in bands(sketch) {
            let bucket = self.buckets.entry(key).or_default();
            if bucket.len() < MOST_LEADERS {
                bucket.push(index);
            }
        }
    }
}

fn cluster(forest: &Forest, leader: u32, members: Vec<(u32, Alignment)>) -> Cluster {
    let node = forest.places(leader)[0];
    let weigh = |(class, alignment): &(u32, Alignment)| {
        let count = f64::from(forest.count(*class));
        (count, count * alignment.similarity(forest, node, forest.places(*class)[0]))
    };
    let own = f64::from(forest.count(leader));
    let (all, common) = members.iter().map(weigh).fold((own, own), |a, b| (a.0 + b.0, a.1 + b.1));
    Cluster { leader, members, share: common / all }
}

fn bands(sketch: &Sketch) -> impl Iterator<Item = u64> + '_ {
    (0..BANDS).map(|band| mix(mix(band as u64, u64::from(sketch[2 * band])), u64::from(sketch[2 * band + 1])))
}

/// Sketches of the subtrees that may be compared.
fn sketch(forest: &Forest) -> Vec<(u32, Sketch)> {
    let frames = [b"html".as_slice(), b"body", b"head"].map(tag_of);
    let wanted = |node: u32, most: u32| {
        let class = forest.class[node as usize];
        let tag = forest.tag[node as usize];
        forest.size[node as usize] >= LEAST_NODES
            && (LEAST_BYTES..=most).contains(&forest.bytes(node))
            && tag > 1
            && !frames.contains(&tag)
            && forest.places(class)[0] == node
    };
    let of_file = |file: u32| {
        // What holds most of a document is its frame, which belongs to a layout.
        let document = forest.top(file).find(|&node| forest.tag[node as usize] == frames[0]);
        let most = document.map_or(u32::MAX, |document| forest.bytes(document) / 4 * 3);
        in_file(forest, file, |node| wanted(node, most))
    };
    (0..forest.files.len() as u32 - 1).into_par_iter().flat_map_iter(of_file).collect()
}

fn in_file(forest: &Forest, file: u32, wanted: impl Fn(u32) -> bool) -> Vec<(u32, Sketch)> {
    let nodes = forest.files[file as usize]..forest.files[file as usize + 1];
    let mut found = Vec::new();
    if !nodes.clone().any(&wanted) {
        return found;
    }
    // Ends and lanes of the open nodes.
    let mut open: Vec<(u32, u32, Sketch)> = Vec::new();
    let close = |open: &mut Vec<(u32, u32, Sketch)>, found: &mut Vec<(u32, Sketch)>| {
        let Some((_, node, lanes)) = open.pop() else { return };
        if wanted(node) {
            found.push((forest.class[node as usize], lanes));
        }
        if let Some((_, _, outer)) = open.last_mut() {
            outer.iter_mut().zip(lanes).for_each(|(lane, inner)| *lane = (*lane).min(inner));
        }
    };
    for node in nodes {
        while open.last().is_some_and(|(end, ..)| *end <= node) {
            close(&mut open, &mut found);
        }
        open.push((node + forest.size[node as usize], node, lanes(forest.label[node as usize])));
    }
    while !open.is_empty() {
        close(&mut open, &mut found);
    }
    found
}

/// Sixteen hashes of a label (SplitMix64; Steele, Lea and Flood 2014).
fn lanes(label: u32) -> Sketch {
    let mut state = mix(9, u64::from(label));
    std::array::from_fn(|_| {
        state = state.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mixed = (state ^ (state >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        let mixed = (mixed ^ (mixed >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        ((mixed ^ (mixed >> 31)) >> 32) as u32
    })
}
