//! Near copies: subtrees that are alike but for a few differences.
//!
//! A subtree's content (its texts, its tags with their attributes) is sketched
//! by the least of sixteen hashes each (MinHash: Broder 1997), weighed by their
//! bytes; sketches that agree in one of eight pairs of lanes are compared
//! (banding: Leskovec, Rajaraman and Ullman 2014). The one that most copies have
//! leads those that look alike, the others are aligned with it.

use rayon::prelude::*;
use rustc_hash::{FxHashMap, FxHashSet};

use crate::hash::mix;
use crate::repeats::exact::runs::Copy;
use crate::repeats::near::align::{Alignment, align};
use crate::repeats::reading::forest::Forest;
use crate::repeats::reading::labels::tag_of;
use crate::repeats::reading::reader::Class;
use crate::site::Site;

const LANES: usize = 16;
const BANDS: usize = LANES / 2;

/// The most leaders that one pair of lanes leads to.
const MOST_LEADERS: usize = 4;

/// Subtrees with fewer bytes or nodes are not compared.
pub(in crate::repeats) const LEAST_BYTES: u32 = 160;
pub(in crate::repeats) const LEAST_NODES: u32 = 5;

type Sketch = [u32; LANES];

/// Subtrees whose sketches are alike.
#[derive(Debug)]
pub(in crate::repeats) struct Lookalikes {
    /// Indices among the subtrees that may be compared.
    members: Vec<u32>,
    /// How much of a copy may be common to all, as far as sketches tell.
    pub share: f64,
    /// Others were compared with another leader before.
    is_rest: bool,
}

/// Finds subtrees that are alike.
pub(in crate::repeats) struct Likeness<'a> {
    site: &'a Site,
    forest: &'a Forest,
    /// How alike they must be.
    least: f64,
    /// The classes of the subtrees that may be compared, greatest first.
    subtrees: Vec<(u32, Sketch)>,
}

impl<'a> Likeness<'a> {
    /// Sketches the subtrees of a forest, unless nothing can be alike enough.
    pub fn of(site: &'a Site, forest: &'a Forest, least: f64) -> Self {
        let mut subtrees = if least <= 1.0 { sketch(forest) } else { Vec::new() };
        // Of equals the one that is most often.
        subtrees.par_sort_by_cached_key(|&(class, _)| {
            let (bytes, count) = (forest.bytes(forest.first(class)), forest.count(class));
            (std::cmp::Reverse((bytes, count)), forest.classes[class as usize].hash)
        });
        Self { site, forest, least, subtrees }
    }

    /// Groups of subtrees that look alike.
    pub fn lookalikes(&self) -> Vec<Lookalikes> {
        let all: Vec<u32> = (0..self.subtrees.len() as u32).collect();
        self.group(&all, LEAST_LANES)
    }

    /// Groups subtrees by their sketches; the greatest lead.
    fn group(&self, subtrees: &[u32], least_lanes: usize) -> Vec<Lookalikes> {
        let mut buckets = Buckets::default();
        let mut led: Vec<Led> = Vec::with_capacity(subtrees.len());
        for batch in subtrees.chunks(BATCH) {
            // First against the leaders there are, side by side; then against those of this batch.
            let joined = batch.par_iter().map(|&subtree| self.leader(subtree, &buckets, least_lanes));
            let joined: Vec<Option<(u32, usize)>> = joined.collect();
            let mut new = Buckets::default();
            for (&subtree, joined) in batch.iter().zip(joined) {
                let found = joined.or_else(|| self.leader(subtree, &new, least_lanes));
                let (leader, lanes) = found.unwrap_or((subtree, LANES));
                led.push(Led { leader, subtree, lanes });
                if leader == subtree {
                    bands(&self.subtrees[subtree as usize].1).for_each(|key| new.add(key, subtree));
                }
            }
            buckets.extend(new);
        }
        led.par_sort_unstable();
        let groups: Vec<_> = led.chunk_by(|a, b| a.leader == b.leader).filter(|group| group.len() > 1).collect();
        let lookalikes = |group: &[Led]| {
            let weigh = |&Led { subtree, lanes, .. }: &Led| {
                let count = f64::from(self.forest.count(self.class(subtree)));
                // The share of both that they have in common, from the share of all that is in one of them.
                (count, count * 2.0 * lanes as f64 / (LANES + lanes) as f64)
            };
            let (all, common) = group.iter().map(weigh).fold((0.0, 0.0), |a, b| (a.0 + b.0, a.1 + b.1));
            let members = group.iter().map(|led| led.subtree).collect();
            // Those that are alike in full are mostly more so than sketches tell.
            Lookalikes { members, share: (1.0 + common / all) / 2.0, is_rest: least_lanes > LEAST_LANES }
        };
        groups.into_par_iter().map(lookalikes).collect()
    }

    /// The leader in some buckets that a subtree looks most alike, and how many lanes agree.
    fn leader(&self, subtree: u32, buckets: &Buckets, least_lanes: usize) -> Option<(u32, usize)> {
        let sketch = &self.subtrees[subtree as usize].1;
        let mut near: Vec<u32> = bands(sketch).flat_map(|key| buckets.of(key)).collect();
        near.sort_unstable();
        near.dedup();
        let bytes = |subtree: u32| f64::from(self.forest.bytes(self.forest.first(self.class(subtree))));
        let own = bytes(subtree);
        let looks_alike = |leader: u32| {
            let lanes = self.subtrees[leader as usize].1.iter().zip(sketch).filter(|(a, b)| a == b).count();
            // A leader that is so much greater cannot be alike.
            let is_alike = lanes >= least_lanes && 2.0 * own >= self.least * (bytes(leader) + own);
            is_alike.then_some((lanes, std::cmp::Reverse(leader)))
        };
        near.into_iter().filter_map(looks_alike).max().map(|(lanes, std::cmp::Reverse(leader))| (leader, lanes))
    }

    fn class(&self, subtree: u32) -> u32 {
        self.subtrees[subtree as usize].0
    }

    fn classes(&self, lookalikes: &Lookalikes) -> impl Iterator<Item = u32> {
        lookalikes.members.iter().map(|&subtree| self.class(subtree))
    }

    /// About how many bytes all copies have.
    pub fn bytes(&self, lookalikes: &Lookalikes) -> u64 {
        self.classes(lookalikes).map(|class| weight(self.forest, class)).sum()
    }

    /// Every place where one of them is.
    pub fn copies(&self, lookalikes: &Lookalikes) -> Vec<Copy> {
        places(self.forest, self.classes(lookalikes))
    }

    /// Which of some subtrees, greatest first, the others are best aligned with:
    /// the one that most copies have, unless they are much more like one of middle size.
    fn leader_of(&self, members: &[u32]) -> u32 {
        let forest = self.forest;
        let node = |subtree: u32| forest.first(self.class(subtree));
        let weight = |subtree: u32| weight(forest, self.class(subtree));
        let by_weight = |&subtree: &u32| (weight(subtree), std::cmp::Reverse(subtree));
        let heaviest = members.iter().copied().max_by_key(by_weight).unwrap_or_default();
        let all: u64 = members.iter().map(|&subtree| weight(subtree)).sum();
        if members.len() < SAMPLE || 2 * weight(heaviest) >= all {
            return heaviest;
        }
        let sample: Vec<u32> = members.iter().copied().step_by(members.len() / SAMPLE).take(SAMPLE).collect();
        let likeness = |leader: u32| {
            let similarity =
                |&other: &u32| Some(align(self.site, forest, node(leader), node(other), self.least)?.similarity);
            sample.iter().filter_map(similarity).sum::<f64>()
        };
        let candidates = [heaviest, members[members.len() / 4], members[members.len() / 2]];
        let mut likenesses = candidates.map(likeness);
        likenesses[0] *= FAVOUR;
        let best = (1..candidates.len()).fold(0, |best, at| if likenesses[at] > likenesses[best] { at } else { best });
        candidates[best]
    }

    /// Those that are in some places, aligned with their leader, and the
    /// others, grouped by what looks more alike than they did.
    pub fn align(&self, lookalikes: &Lookalikes, places: &[Copy]) -> (Cluster, Vec<Lookalikes>) {
        let forest = self.forest;
        let wanted: FxHashSet<u32> = places.iter().map(|copy| forest.class[copy.start as usize]).collect();
        let leader = self.class(self.leader_of(&lookalikes.members));
        let node = forest.first(leader);
        let others = lookalikes.members.par_iter().copied().filter(|&other| self.class(other) != leader);
        let aligned = others.filter(|&other| wanted.contains(&self.class(other))).map(|other| {
            let there = forest.first(self.class(other));
            (other, align(self.site, forest, node, there, self.least))
        });
        let mut cluster = Cluster { leader, members: Vec::new(), share: 1.0 };
        let mut rest = Vec::new();
        for (other, alignment) in aligned.collect::<Vec<_>>() {
            match alignment {
                Some(alignment) => cluster.members.push((self.class(other), alignment)),
                None => rest.push(other),
            }
        }
        cluster.weigh(forest);
        let rest = if lookalikes.is_rest { Vec::new() } else { self.group(&rest, MORE_LANES) };
        (cluster, rest)
    }
}

/// About how many bytes all nodes of a class have.
fn weight(forest: &Forest, class: u32) -> u64 {
    u64::from(forest.count(class)) * u64::from(forest.bytes(forest.first(class)))
}

fn places(forest: &Forest, classes: impl Iterator<Item = u32>) -> Vec<Copy> {
    // All nodes of a class cover as many.
    let of_class = |class: u32| {
        let size = forest.size(forest.first(class));
        forest.places(class).iter().map(move |&start| Copy { start, end: start + size, last: start })
    };
    let mut copies: Vec<Copy> = classes.flat_map(of_class).collect();
    copies.sort_unstable();
    copies
}

/// A subtree and others that are like it.
pub(in crate::repeats) struct Cluster {
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

    /// About how many bytes all copies have; none if nothing is like the leader.
    pub fn bytes(&self, forest: &Forest) -> u64 {
        if self.members.is_empty() { 0 } else { self.classes().map(|class| weight(forest, class)).sum() }
    }

    /// Every place where one of them is.
    pub fn copies(&self, forest: &Forest) -> Vec<Copy> {
        places(forest, self.classes())
    }

    fn weigh(&mut self, forest: &Forest) {
        let weigh = |(class, alignment): &(u32, Alignment)| {
            let count = f64::from(forest.count(*class));
            (count, count * alignment.similarity)
        };
        let own = f64::from(forest.count(self.leader));
        let (all, common) = self.members.iter().map(weigh).fold((own, own), |a, b| (a.0 + b.0, a.1 + b.1));
        self.share = common / all;
    }
}

/// A subtree with the one that it looks most alike, and how many lanes agree.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
struct Led {
    leader: u32,
    subtree: u32,
    lanes: usize,
}

/// How many subtrees are compared side by side.
const BATCH: usize = 1_024;

/// How many subtrees tell who leads them.
const SAMPLE: usize = 8;

/// How much the one that most copies have is favoured.
const FAVOUR: f64 = 1.15;

/// How many lanes must agree for two subtrees to look alike.
const LEAST_LANES: usize = 6;

/// How many must agree among those that only looked alike.
const MORE_LANES: usize = 9;

const NONE: u32 = u32::MAX;

/// Leaders by the pairs of lanes that lead to them: indices among the subtrees.
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

fn bands(sketch: &Sketch) -> impl Iterator<Item = u64> + '_ {
    (0..BANDS).map(|band| mix(mix(band as u64, u64::from(sketch[2 * band])), u64::from(sketch[2 * band + 1])))
}

/// Sketches of the subtrees that may be compared.
fn sketch(forest: &Forest) -> Vec<(u32, Sketch)> {
    let frames = [b"html".as_slice(), b"body", b"head"].map(tag_of);
    // Sketches of the classes that have children, and where each is.
    let has_children = |what: &&Class| forest.size(what.node) > 1;
    let mut known: Vec<Sketch> = Vec::with_capacity(forest.classes.iter().filter(has_children).count());
    let mut index = vec![NONE; forest.classes.len()];
    let mut found = Vec::new();
    let (mut file, mut most) = (None, u32::MAX);
    // Children come before their parents.
    for (class, what) in (0..).zip(&forest.classes) {
        if !has_children(&what) {
            continue;
        }
        let node = what.node;
        let mut sketch = lanes(forest, class);
        for child in forest.children(node) {
            let child = forest.class[child as usize];
            let inner = match known.get(index[child as usize] as usize) {
                Some(known) => *known,
                None => lanes(forest, child),
            };
            sketch.iter_mut().zip(inner).for_each(|(lane, inner)| *lane = (*lane).min(inner));
        }
        index[class as usize] = known.len() as u32;
        known.push(sketch);
        if file.is_none_or(|file: usize| forest.files[file + 1] <= node) {
            // What holds most of a document is its skeleton, which belongs to a layout.
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
    found.shrink_to_fit();
    found
}

/// What the opening tag of an element counts for beside texts, in bytes. It is
/// the same for all, since one tag may be written in several ways.
const TAG: u32 = 32;

/// Sixteen hashes of a class without what it holds (SplitMix64; Steele, Lea and
/// Flood 2014), divided by its bytes: the more it weighs, the likelier is one
/// of them the least, so that lanes agree as often as bytes do (weighted
/// sampling: Efraimidis and Spirakis 2006).
fn lanes(forest: &Forest, class: u32) -> Sketch {
    let what = forest.classes[class as usize];
    let is_leaf = what.tag <= 1 && forest.size(what.node) == 1;
    let weight = if is_leaf { forest.bytes(what.node).max(1) } else { TAG };
    let mut state = mix(9, u64::from(what.label));
    std::array::from_fn(|_| {
        state = state.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mixed = (state ^ (state >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        let mixed = (mixed ^ (mixed >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        let share = (((mixed ^ (mixed >> 31)) >> 32) as f32 + 1.0) / (u32::MAX as f32 + 1.0);
        // Nearly exponential; the bits of positive numbers are ordered as the numbers are.
        (share / (2.0 - share) / weight as f32).to_bits()
    })
}
