//! Which repeats are told: those that save most, each counted on what greater
//! ones leave.

use std::cmp::Reverse;
use std::collections::BinaryHeap;

use rayon::prelude::*;
use rustc_hash::FxHashMap;

use super::forest::Forest;
use super::runs::Copy;

/// What naming a repeat costs in each place, in bytes: an include and its line.
pub(super) const REFERENCE: u64 = 32;

/// Nodes that a chosen repeat covers.
pub(super) struct Cover {
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

/// What choosing a candidate gives: its copies, and the bytes they save.
pub(super) struct Gain {
    pub copies: Vec<Copy>,
    /// Bytes in the copies that nothing chosen before covers.
    pub bytes: u64,
    pub saving: u64,
}

/// Counts what copies save on what is not covered yet. Copies that overlap a
/// chosen one, or each other, do not count.
pub(super) fn gain(forest: &Forest, cover: &Cover, copies: Vec<Copy>) -> Gain {
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

/// How much a candidate counts for.
#[derive(Clone, Copy, Debug)]
pub(super) struct Worth {
    /// What it could save at most, in bytes.
    pub bound: u64,
    /// How much of a copy is common to all of them.
    pub share: f64,
    /// How much it is favoured over others that save as much.
    pub favour: f64,
}

impl Worth {
    fn rank(&self, saving: u64) -> u64 {
        (saving as f64 * self.favour) as u64
    }
}

/// How many candidates are counted side by side.
const BATCH: usize = 512;

/// A candidate that was counted.
struct Counted {
    gain: Gain,
    /// How many had been chosen when it was.
    chosen: usize,
}

/// Chooses candidates, the most saving first, until none saves `least` bytes;
/// `copies` tells where one stands. What a candidate saves only shrinks as
/// others are chosen, so that only the foremost must be counted again.
pub(super) fn choose(
    forest: &Forest,
    all: &[Worth],
    least: u64,
    copies: impl Fn(usize) -> Vec<Copy> + Sync,
) -> Vec<(usize, Gain)> {
    let mut cover = Cover::new(forest.class.len());
    let count = |cover: &Cover, index: usize, copies: Vec<Copy>| {
        let mut gain = gain(forest, cover, copies);
        gain.saving = (gain.saving as f64 * all[index].share) as u64;
        gain
    };
    let rank = |index: usize, saving: u64| (all[index].rank(saving), Reverse(index));
    let mut bounds: BinaryHeap<(u64, Reverse<usize>)> =
        all.iter().enumerate().map(|(index, worth)| rank(index, worth.bound)).collect();
    let mut ranks = BinaryHeap::new();
    let mut counted: FxHashMap<usize, Counted> = FxHashMap::default();
    let mut chosen = Vec::new();
    loop {
        if bounds.peek().is_some_and(|bound| bound.0 >= least && ranks.peek() < Some(bound)) {
            let batch: Vec<_> = std::iter::from_fn(|| bounds.pop()).take(BATCH).collect();
            let gains = batch.into_par_iter().map(|(_, Reverse(index))| (index, count(&cover, index, copies(index))));
            for (index, gain) in gains.filter(|(_, gain)| gain.saving >= least).collect::<Vec<_>>() {
                ranks.push(rank(index, gain.saving));
                counted.insert(index, Counted { gain, chosen: chosen.len() });
            }
            continue;
        }
        let Some((_, Reverse(index))) = ranks.pop() else { return chosen };
        let Some(known) = counted.remove(&index) else { continue };
        if known.chosen == chosen.len() {
            known.gain.copies.iter().for_each(|&copy| cover.add(copy));
            chosen.push((index, known.gain));
            continue;
        }
        let gain = count(&cover, index, known.gain.copies);
        if gain.saving >= least {
            ranks.push(rank(index, gain.saving));
            counted.insert(index, Counted { gain, chosen: chosen.len() });
        }
    }
}
