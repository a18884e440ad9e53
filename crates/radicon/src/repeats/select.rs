//! Which repeats are told: those that save most, each counted on what greater
//! ones leave.

use std::cmp::Reverse;
use std::collections::BinaryHeap;

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

    pub fn holds(&self, node: u32) -> bool {
        self.bits[node as usize / 64] >> (node % 64) & 1 == 1
    }

    pub fn add(&mut self, (start, end): Copy) {
        for node in start..end {
            self.bits[node as usize / 64] |= 1 << (node % 64);
        }
    }

    /// Whether one of the siblings of a run is covered.
    pub fn touches(&self, forest: &Forest, (start, end): Copy) -> bool {
        let mut at = start;
        while at < end {
            if self.holds(at) {
                return true;
            }
            at += forest.size[at as usize];
        }
        false
    }

    /// The bytes of a run that nothing covers.
    pub fn bare_bytes(&self, forest: &Forest, copy: Copy) -> u64 {
        let mut bare = u64::from(super::runs::run_bytes(forest, copy));
        let mut at = copy.0;
        while at < copy.1 {
            if self.holds(at) {
                bare = bare.saturating_sub(u64::from(forest.bytes(at)));
                at += forest.size[at as usize];
            } else {
                at += 1;
            }
        }
        bare
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
        if kept.last().is_some_and(|last| copy.0 < last.1) || cover.touches(forest, copy) {
            continue;
        }
        let bytes = cover.bare_bytes(forest, copy);
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

/// Chooses candidates, the most saving first, until none saves `least` bytes;
/// `copies` tells where one stands.
pub(super) fn choose(
    forest: &Forest,
    all: &[Worth],
    least: u64,
    copies: impl Fn(usize) -> Vec<Copy>,
) -> Vec<(usize, Gain)> {
    let mut cover = Cover::new(forest.class.len());
    let mut heap: BinaryHeap<(u64, Reverse<usize>)> =
        all.iter().enumerate().map(|(index, worth)| (worth.rank(worth.bound), Reverse(index))).collect();
    let mut chosen = Vec::new();
    while let Some((rank, Reverse(index))) = heap.pop() {
        let worth = &all[index];
        if rank < least {
            break;
        }
        let mut gain = gain(forest, &cover, copies(index));
        gain.saving = (gain.saving as f64 * worth.share) as u64;
        let next = heap.peek().map_or(0, |(rank, _)| *rank);
        let now = worth.rank(gain.saving);
        if gain.saving < least {
            continue;
        }
        if now >= next {
            gain.copies.iter().for_each(|&copy| cover.add(copy));
            chosen.push((index, gain));
        } else if now < rank {
            heap.push((now, Reverse(index)));
        }
    }
    chosen
}
