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
use super::forest::Forest;
use super::labels::{mix, tag_of};
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
        let of_class = |class| u64::from(forest.count(class)) * u64::from(forest.bytes(forest.first(class)));
        self.classes().map(of_class).sum()
    }

    /// Every place where one of them stands.
    pub fn copies(&self, forest: &Forest) -> Vec<Copy> {
        let nodes = self.classes().flat_map(|class| forest.places(class));
        let mut copies: Vec<Copy> = nodes.map(|&node| Copy::of(forest, node)).collect();
        copies.sort_unstable();
        copies
    }
}

/// Groups the subtrees of a forest that are alike.
pub(super) fn find(site: &Site, forest: &Forest, least_similarity: f64) -> Vec<Cluster> {
    let mut candidates = sketch(forest);
    // The greatest leads; of equals the one that stands most often.
    candidates.par_sort_by_cached_key(|&(class, _)| {
        let (bytes, count) = (forest.bytes(forest.first(class)), forest.count(class));
        (std::cmp::Reverse((bytes, count)), forest.classes[class as usize].hash)
    });
    let mut index = vec![NONE; forest.classes.len()];
    candidates.iter().zip(0..).for_each(|((class, _), at)| index[*class as usize] = at);
    let mut leaders = Leaders {
        site,
        forest,
        least_similarity,
        candidates: &candidates,
        index,
        buckets: Buckets::default(),
        of_class: vec![NONE; forest.classes.len()],
        nested: FxHashMap::default(),
    };
    let mut clusters: FxHashMap<u32, Vec<(u32, Alignment)>> = FxHashMap::default();
    for batch in candidates.chunks(BATCH) {
        // First against the leaders there are, side by side; then against those of this batch.
        let join = |candidate: &(u32, Sketch)| match leaders.knows(candidate.0) {
            true => None,
            false => leaders.join(candidate, &leaders.buckets),
        };
        let joined: Vec<Option<Joined>> = batch.par_iter().map(join).collect();
        let mut new = Buckets::default();
        for (candidate, joined) in batch.iter().zip(joined) {
            let class = candidate.0;
            if leaders.of_class[class as usize] != NONE {
                continue;
            }
            let found = leaders.join_nested(class, &mut new).or_else(|| {
                let joined = joined.or_else(|| leaders.join(candidate, &new))?;
                leaders.keep_nested(joined.nested);
                Some((joined.leader, joined.alignment))
            });
            match found {
                Some((leader, alignment)) => {
                    leaders.of_class[class as usize] = leader;
                    clusters.entry(leader).or_default().push((class, alignment));
                }
                None => leaders.add(class, &mut new),
            }
        }
        leaders.buckets.extend(new);
    }
    drop(leaders);
    let mut found: Vec<(u32, Vec<(u32, Alignment)>)> = clusters.into_iter().collect();
    found.sort_unstable_by_key(|(leader, _)| *leader);
    found.into_par_iter().map(|(leader, members)| cluster(forest, leader, members)).collect()
}

/// How many subtrees are compared side by side.
const BATCH: usize = 128;

/// How many lanes must agree before two subtrees are aligned.
const LEAST_LANES: usize = 3;

const NONE: u32 = u32::MAX;

/// Leaders by the pairs of lanes that lead to them: indices among the candidates.
#[derive(Default)]
struct Buckets(FxHashMap<u64, [u32; MOST_LEADERS]>);

impl Buckets {
    fn add(&mut self, key: u64, leader: u32) {
        let bucket = self.0.entry(key).or_insert([NONE; MOST_LEADERS]);
        if let Some(free) = bucket.iter_mut().find(|leader| **leader == NONE) {
            *free = leader;
        }
    }

    fn of(&self, key: u64) -> impl Iterator<Item = u32> {
        self.0.get(&key).copied().into_iter().flatten().filter(|&leader| leader != NONE)
    }

    fn extend(&mut self, others: Self) {
        for (key, leaders) in others.0 {
            leaders.into_iter().filter(|&leader| leader != NONE).for_each(|leader| self.add(key, leader));
        }
    }
}

/// A subtree that a leader is alike.
struct Joined {
    leader: u32,
    alignment: Alignment,
    /// Classes within it that are alike others within the leader, and how they differ.
    nested: Vec<(u32, (u32, Alignment))>,
}

/// The subtrees that lead clusters, greatest first.
struct Leaders<'a> {
    site: &'a Site,
    forest: &'a Forest,
    least_similarity: f64,
    /// What can be clustered, and where each class stands among it.
    candidates: &'a [(u32, Sketch)],
    index: Vec<u32>,
    buckets: Buckets,
    /// The leader of each class that is clustered already; a leader leads itself.
    of_class: Vec<u32>,
    /// Classes that stand in a greater one which is clustered: what they were aligned with there.
    nested: FxHashMap<u32, (u32, Alignment)>,
}

impl Leaders<'_> {
    /// The leader in some buckets that a subtree is alike, and how it differs.
    fn join(&self, (class, sketch): &(u32, Sketch), buckets: &Buckets) -> Option<Joined> {
        let forest = self.forest;
        let mut near: Vec<u32> = bands(sketch).flat_map(|key| buckets.of(key)).collect();
        near.sort_unstable();
        near.dedup();
        let agreement =
            |leader: u32| self.candidates[leader as usize].1.iter().zip(sketch).filter(|(a, b)| a == b).count();
        let mut near: Vec<(usize, u32)> = near.into_iter().map(|leader| (agreement(leader), leader)).collect();
        near.retain(|(lanes, _)| *lanes >= LEAST_LANES);
        near.sort_unstable_by_key(|&(lanes, leader)| (std::cmp::Reverse(lanes), leader));
        near.iter().take(2).find_map(|&(_, leader)| {
            let leader = self.candidates[leader as usize].0;
            let (a, b) = (forest.first(leader), forest.first(*class));
            // Too different in size to be alike.
            let most = f64::from(2 * forest.bytes(b)) / f64::from(forest.bytes(a) + forest.bytes(b));
            if most < self.least_similarity {
                return None;
            }
            let found = align(self.site, forest, a, b);
            (found.alignment.similarity(forest, a, b) >= self.least_similarity).then(|| Joined {
                leader,
                nested: self.nested(&found),
                alignment: found.alignment,
            })
        })
    }

    /// How nodes within two that were aligned differ, so that they need no alignment of their own.
    fn nested(&self, aligned: &Aligned) -> Vec<(u32, (u32, Alignment))> {
        let forest = self.forest;
        let class = |node: u32| forest.class[node as usize];
        let first = |node: u32| forest.first(class(node));
        let is_candidate = |node: u32| self.index[class(node) as usize] != NONE;
        let wanted = |a: u32, b: u32, common: u32| {
            let alike = 2.0 * f64::from(common) >= self.least_similarity * f64::from(forest.bytes(a) + forest.bytes(b));
            alike && self.is_free(class(b)) && is_candidate(a) && is_candidate(b)
        };
        let moved = |Nested { nodes: (a, b), alignment }: Nested| {
            let by = (first(a).wrapping_sub(a), first(b).wrapping_sub(b));
            (class(b), (class(a), alignment.moved(by)))
        };
        aligned.nested(wanted).into_iter().map(moved).collect()
    }

    /// Whether nothing is known of a class yet.
    fn is_free(&self, class: u32) -> bool {
        self.of_class[class as usize] == NONE && !self.nested.contains_key(&class)
    }

    fn keep_nested(&mut self, nested: Vec<(u32, (u32, Alignment))>) {
        for (class, known) in nested {
            if self.of_class[class as usize] == NONE {
                self.nested.entry(class).or_insert(known);
            }
        }
    }

    /// Whether a class was aligned within a greater one, with one that leads or is free.
    fn knows(&self, class: u32) -> bool {
        let leads = |leader: u32| [NONE, leader].contains(&self.of_class[leader as usize]);
        self.nested.get(&class).is_some_and(|(leader, _)| leads(*leader))
    }

    /// The leader with which a class was aligned within a greater one, which becomes one if it is free.
    fn join_nested(&mut self, class: u32, new: &mut Buckets) -> Option<(u32, Alignment)> {
        let is_known = self.knows(class);
        let (leader, alignment) = self.nested.remove(&class).filter(|_| is_known)?;
        if self.of_class[leader as usize] == NONE {
            self.add(leader, new);
        }
        Some((leader, alignment))
    }

    fn add(&mut self, class: u32, new: &mut Buckets) {
        let index = self.index[class as usize];
        self.of_class[class as usize] = class;
        bands(&self.candidates[index as usize].1).for_each(|key| new.add(key, index));
    }
}

fn cluster(forest: &Forest, leader: u32, members: Vec<(u32, Alignment)>) -> Cluster {
    let node = forest.first(leader);
    let weigh = |(class, alignment): &(u32, Alignment)| {
        let count = f64::from(forest.count(*class));
        (count, count * alignment.similarity(forest, node, forest.first(*class)))
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
    // Sketches of the classes that have children, and where each stands.
    let mut known: Vec<Sketch> = Vec::new();
    let mut index = vec![NONE; forest.classes.len()];
    let mut found = Vec::new();
    let (mut file, mut most) = (None, u32::MAX);
    // Children stand before their parents.
    for (class, what) in (0..).zip(&forest.classes) {
        let node = what.node;
        if forest.size(node) == 1 {
            continue;
        }
        let mut sketch = lanes(what.label);
        for child in forest.children(node) {
            let child = forest.class[child as usize];
            let inner = match known.get(index[child as usize] as usize) {
                Some(known) => *known,
                None => lanes(forest.classes[child as usize].label),
            };
            sketch.iter_mut().zip(inner).for_each(|(lane, inner)| *lane = (*lane).min(inner));
        }
        index[class as usize] = known.len() as u32;
        known.push(sketch);
        if file.is_none_or(|file: usize| forest.files[file + 1] <= node) {
            // What holds most of a document is its frame, which belongs to a layout.
            let here = forest.file(node);
            let document = forest.top(here).find(|&node| forest.tag(node) == frames[0]);
            most = document.map_or(u32::MAX, |document| forest.bytes(document) / 4 * 3);
            file = Some(here as usize);
        }
        let tag = what.tag;
        if forest.size(node) >= LEAST_NODES
            && (LEAST_BYTES..=most).contains(&forest.bytes(node))
            && tag > 1
            && !frames.contains(&tag)
        {
            found.push((class, sketch));
        }
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
