//! Which repeats are told: those that save most, each counted on what greater
//! ones leave.

use std::cmp::Reverse;
use std::collections::BinaryHeap;

use rayon::prelude::*;
use rustc_hash::FxHashMap;

use crate::repeats::exact::runs::{Copy, Run, Runs};
use crate::repeats::near::alike::{Cluster, Likeness, Lookalikes};
use crate::repeats::reading::forest::Forest;

/// The cost of naming a repeat in each place, in bytes: an include and its line.
pub(in crate::repeats) const REFERENCE: u64 = 32;

/// Nodes that a chosen repeat covers.
struct Cover {
    bits: Vec<u64>,
}

impl Cover {
    pub fn new(nodes: usize) -> Self {
        Self { bits: vec![0; nodes.div_ceil(64)] }
    }

    pub fn add(&mut self, copy: Copy) {
        for node in copy.start..copy.end {
            self.bits[node as usize / 64] |= 1 << (node % 64);
        }
    }

    /// The first covered node from one on, before another one.
    fn next(&self, from: u32, end: u32) -> Option<u32> {
        let (first, last) = (from as usize / 64, (end as usize).div_ceil(64));
        let mut word = self.bits.get(first)? & (u64::MAX << (from % 64));
        for at in first..last {
            if at > first {
                word = self.bits[at];
            }
            if word != 0 {
                let node = at as u32 * 64 + word.trailing_zeros();
                return (node < end).then_some(node);
            }
        }
        None
    }

    /// The bytes of a run that nothing covers; `None` if one of its siblings is covered.
    pub fn bare_bytes(&self, forest: &Forest, copy: Copy) -> Option<u64> {
        let mut bare = u64::from(copy.bytes(forest));
        let (mut at, mut sibling) = (copy.start, copy.start);
        while let Some(node) = self.next(at, copy.end) {
            while sibling < node {
                sibling += forest.size(sibling);
            }
            if sibling == node {
                return None;
            }
            bare = bare.saturating_sub(u64::from(forest.bytes(node)));
            at = node + forest.size(node);
        }
        Some(bare)
    }
}

/// The gain of choosing a candidate: its copies, and the bytes they save.
pub(in crate::repeats) struct Gain {
    pub copies: Vec<Copy>,
    /// Bytes in the copies that nothing chosen before covers.
    pub bytes: u64,
    pub saving: u64,
}

/// Counts what copies save on what is not covered yet. Copies that overlap a
/// chosen one, or each other, do not count.
fn gain(forest: &Forest, cover: &Cover, copies: Vec<Copy>) -> Gain {
    let mut kept: Vec<Copy> = Vec::with_capacity(copies.len());
    let (mut total, mut most) = (0, 0);
    for copy in copies {
        if kept.last().is_some_and(|last| copy.start < last.end) {
            continue;
        }
        let Some(bytes) = cover.bare_bytes(forest, copy) else { continue };
        total += bytes;
        most = most.max(bytes);
        kept.push(copy);
    }
    // One of them stays, as the partial.
    let cost = REFERENCE * kept.len() as u64;
    let saving = if kept.len() > 1 { (total - most).saturating_sub(cost) } else { 0 };
    Gain { copies: kept, bytes: total, saving }
}

/// A repeat that may be reported.
pub(in crate::repeats) enum Candidate {
    Run(Run),
    /// Subtrees that look alike, not compared in full yet.
    Lookalikes(Lookalikes),
    Cluster(Cluster),
}

/// Near copies tell more than exact ones: what differs, and who was left behind.
const NEAR: f64 = 1.25;

/// A candidate that was chosen, with its copies.
pub(in crate::repeats) struct Chosen {
    /// How copies that are not the same differ.
    pub cluster: Option<Cluster>,
    /// They are one thing several times in a row.
    pub is_loop: bool,
    pub gain: Gain,
}

/// How many candidates are counted side by side, and how many lookalikes aligned.
const BATCH: usize = 256;
const MOST_ALIGNED: usize = 64;

/// A candidate that was counted.
struct Counted {
    gain: Gain,
    /// How many had been chosen when it was.
    chosen: usize,
}

/// A candidate by how much it counts for; of equals the first is greater.
type Ranked = (u64, Reverse<usize>);

/// Chooses among candidates. What one of them saves only shrinks as others are
/// chosen, so that only the foremost must be counted again, and lookalikes are
/// only aligned where nothing greater covers them.
pub(in crate::repeats) struct Chooser<'a> {
    forest: &'a Forest,
    runs: &'a Runs<'a>,
    likeness: &'a Likeness<'a>,
    /// The bytes that a group must save.
    least: u64,
    candidates: Vec<Candidate>,
    cover: Cover,
    /// Those that are not counted, by what they count for at most.
    bounds: BinaryHeap<Ranked>,
    /// Those that are, by what they counted for when they were.
    ranks: BinaryHeap<Ranked>,
    counted: FxHashMap<usize, Counted>,
    chosen: Vec<(usize, Gain)>,
}

impl<'a> Chooser<'a> {
    pub fn new(forest: &'a Forest, runs: &'a Runs<'a>, likeness: &'a Likeness<'a>, least: u64) -> Self {
        Self {
            forest,
            runs,
            likeness,
            least,
            candidates: Vec::new(),
            cover: Cover::new(forest.class.len()),
            bounds: BinaryHeap::new(),
            ranks: BinaryHeap::new(),
            counted: FxHashMap::default(),
            chosen: Vec::new(),
        }
    }

    pub fn add(&mut self, candidate: Candidate) {
        self.bounds.push((self.bound(&candidate), Reverse(self.candidates.len())));
        self.candidates.push(candidate);
    }

    /// Chooses, the most saving first, until none saves the least.
    pub fn choose(mut self) -> Vec<Chosen> {
        loop {
            let may_be_foremost = |bound: &Ranked| bound.0 >= self.least && self.ranks.peek() < Some(bound);
            if self.bounds.peek().is_some_and(may_be_foremost) {
                self.count();
            } else if let Some((_, Reverse(index))) = self.ranks.pop() {
                self.choose_if_known(index);
            } else {
                break;
            }
        }
        let mut candidates: Vec<Option<Candidate>> = self.candidates.into_iter().map(Some).collect();
        let told = |(index, gain): (usize, Gain)| match candidates[index].take()? {
            Candidate::Run(run) => Some(Chosen { cluster: None, is_loop: run.is_loop(), gain }),
            Candidate::Cluster(cluster) => Some(Chosen { cluster: Some(cluster), is_loop: false, gain }),
            Candidate::Lookalikes(_) => None,
        };
        self.chosen.into_iter().filter_map(told).collect()
    }

    /// Counts the candidates that may count for most.
    fn count(&mut self) {
        let batch: Vec<Ranked> = std::iter::from_fn(|| self.bounds.pop()).take(BATCH).collect();
        let gain = |(_, Reverse(index)): Ranked| {
            let gain = self.gain(&self.candidates[index], self.copies(&self.candidates[index]));
            (rank(&self.candidates[index], gain.saving), Reverse(index), gain)
        };
        let mut found: Vec<(u64, Reverse<usize>, Gain)> =
            batch.into_par_iter().map(gain).filter(|(.., gain)| gain.saving >= self.least).collect();
        found.sort_unstable_by_key(|&(rank, index, _)| Reverse((rank, index)));
        let mut looked_alike = Vec::new();
        for (rank, Reverse(index), gain) in found {
            if !matches!(self.candidates[index], Candidate::Lookalikes(_)) {
                self.keep(index, gain);
            } else if looked_alike.len() < MOST_ALIGNED {
                looked_alike.push((index, gain));
            } else {
                // Others that are chosen before may cover them.
                self.bounds.push((rank, Reverse(index)));
            }
        }
        let align = |(index, gain): (usize, Gain)| match &self.candidates[index] {
            Candidate::Lookalikes(lookalikes) => Some((index, self.likeness.align(lookalikes, &gain.copies))),
            _ => None,
        };
        let aligned: Vec<_> = looked_alike.into_par_iter().filter_map(align).collect();
        for (index, (cluster, rest)) in aligned {
            self.candidates[index] = Candidate::Cluster(cluster);
            self.bounds.push((self.bound(&self.candidates[index]), Reverse(index)));
            rest.into_iter().for_each(|rest| self.add(Candidate::Lookalikes(rest)));
        }
    }

    /// Chooses a candidate if nothing was chosen since it was counted, else counts it again.
    fn choose_if_known(&mut self, index: usize) {
        let Some(known) = self.counted.remove(&index) else { return };
        if known.chosen == self.chosen.len() {
            known.gain.copies.iter().for_each(|&copy| self.cover.add(copy));
            self.chosen.push((index, known.gain));
            return;
        }
        let gain = self.gain(&self.candidates[index], known.gain.copies);
        if gain.saving >= self.least {
            self.keep(index, gain);
        }
    }

    fn keep(&mut self, index: usize, gain: Gain) {
        self.ranks.push((rank(&self.candidates[index], gain.saving), Reverse(index)));
        self.counted.insert(index, Counted { gain, chosen: self.chosen.len() });
    }

    /// The most that a candidate counts for.
    fn bound(&self, candidate: &Candidate) -> u64 {
        let bytes = match candidate {
            Candidate::Run(run) => u64::from(run.copies) * u64::from(run.bytes),
            Candidate::Lookalikes(lookalikes) => self.likeness.bytes(lookalikes),
            Candidate::Cluster(cluster) => cluster.bytes(self.forest),
        };
        rank(candidate, (bytes as f64 * candidate.share()) as u64)
    }

    fn copies(&self, candidate: &Candidate) -> Vec<Copy> {
        match candidate {
            Candidate::Run(run) => self.runs.copies(run),
            Candidate::Lookalikes(lookalikes) => self.likeness.copies(lookalikes),
            Candidate::Cluster(cluster) => cluster.copies(self.forest),
        }
    }

    fn gain(&self, candidate: &Candidate, copies: Vec<Copy>) -> Gain {
        let mut gain = gain(self.forest, &self.cover, copies);
        gain.saving = (gain.saving as f64 * candidate.share()) as u64;
        gain
    }
}

impl Candidate {
    /// How much of a copy is common to all.
    fn share(&self) -> f64 {
        match self {
            Candidate::Run(_) => 1.0,
            Candidate::Lookalikes(lookalikes) => lookalikes.share,
            Candidate::Cluster(cluster) => cluster.share,
        }
    }
}

/// How much a candidate counts for that saves so many bytes.
fn rank(candidate: &Candidate, saving: u64) -> u64 {
    match candidate {
        Candidate::Run(_) => saving,
        _ => (saving as f64 * NEAR) as u64,
    }
}
