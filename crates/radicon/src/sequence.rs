//! Alignments of two sequences.

use std::hash::Hash;

use rustc_hash::FxHashMap;
use similar::DiffOp;
use similar::algorithms::{Capture, Compact, Replace, myers};

/// The pairs of places of an alignment of greatest weight, in order. Places with weight 0 are not paired; of equal
/// alignments the one that pairs earlier places of the second sequence counts. Takes time and memory for each pair of
/// places (Needleman and Wunsch 1970).
pub fn heaviest(left: usize, right: usize, weight: impl Fn(usize, usize) -> u32) -> Vec<(usize, usize)> {
    let width = right + 1;
    // best[i][j]: the weight of aligning what comes after i and j.
    let mut best = vec![0_u32; (left + 1) * width];
    for i in (0..left).rev() {
        for j in (0..right).rev() {
            let pair = weight(i, j);
            let with = if pair > 0 { pair + best[(i + 1) * width + j + 1] } else { 0 };
            best[i * width + j] = with.max(best[(i + 1) * width + j]).max(best[i * width + j + 1]);
        }
    }
    let (mut i, mut j) = (0, 0);
    let mut found = Vec::new();
    while i < left && j < right {
        let here = best[i * width + j];
        let pair = weight(i, j);
        if pair > 0 && here == pair + best[(i + 1) * width + j + 1] {
            found.push((i, j));
            (i, j) = (i + 1, j + 1);
        } else if here == best[(i + 1) * width + j] {
            i += 1;
        } else {
            j += 1;
        }
    }
    found
}

/// The pairs of places whose keys occur once in both sequences, as many as keep their order: the longest such chain
/// (patience; Fredman 1975).
pub fn anchors<K: Hash + Eq>(left: impl Iterator<Item = K>, right: impl Iterator<Item = K>) -> Vec<(usize, usize)> {
    let (here, there) = (once(left), once(right));
    let mut pairs: Vec<(usize, usize)> =
        here.iter().filter_map(|(key, at)| Some(((*at)?, (*there.get(key)?)?))).collect();
    pairs.sort_unstable();
    // For each length of a chain the pair that ends it lowest.
    let mut tails: Vec<usize> = Vec::new();
    let mut before: Vec<Option<usize>> = Vec::with_capacity(pairs.len());
    for (index, &(_, at)) in pairs.iter().enumerate() {
        let length = tails.partition_point(|&tail| pairs[tail].1 < at);
        before.push(length.checked_sub(1).map(|shorter| tails[shorter]));
        if length == tails.len() { tails.push(index) } else { tails[length] = index }
    }
    let mut chain: Vec<(usize, usize)> =
        std::iter::successors(tails.last().copied(), |&at| before[at]).map(|at| pairs[at]).collect();
    chain.reverse();
    chain
}

/// The fewest deletions and insertions that make the right sequence of the left one (Myers 1986). Parts are compared by
/// number, so that one alignment is compiled for all kinds of them.
pub fn edits<'a, K: Hash + Eq + ?Sized + 'a>(
    left: impl Iterator<Item = &'a K>,
    right: impl Iterator<Item = &'a K>,
) -> Vec<DiffOp> {
    let mut numbers = FxHashMap::default();
    let mut number = |key| {
        let next = numbers.len();
        *numbers.entry(key).or_insert(next)
    };
    let left: Vec<usize> = left.map(&mut number).collect();
    let right: Vec<usize> = right.map(&mut number).collect();
    let mut found = Compact::new(Replace::new(Capture::new()), &left[..], &right[..]);
    // Collecting cannot fail.
    let _ = myers::diff(&mut found, &left[..], 0..left.len(), &right[..], 0..right.len());
    found.into_inner().into_inner().into_ops()
}

/// The place of each key; `None` if it is in two places.
fn once<K: Hash + Eq>(keys: impl Iterator<Item = K>) -> FxHashMap<K, Option<usize>> {
    let mut places = FxHashMap::default();
    for (at, key) in keys.enumerate() {
        places.entry(key).and_modify(|place| *place = None).or_insert(Some(at));
    }
    places
}

#[cfg(test)]
mod tests {
    use super::*;

    #[track_caller]
    fn check(left: &str, right: &str, expected: &[(usize, usize)]) {
        let (left, right) = (left.as_bytes(), right.as_bytes());
        assert_eq!(heaviest(left.len(), right.len(), |i, j| u32::from(left[i] == right[j])), expected);
    }

    #[test]
    fn common_subsequences_are_longest() {
        check("", "a", &[]);
        check("abc", "abc", &[(0, 0), (1, 1), (2, 2)]);
        check("abc", "xaxc", &[(0, 1), (2, 3)]);
        check("ab", "ba", &[(1, 0)]);
    }

    #[test]
    fn heavier_pairs_go_before_more_pairs() {
        let weight = |i: usize, j: usize| [[1, 5], [0, 1]][i][j];
        assert_eq!(heaviest(2, 2, weight), [(0, 1)]);
    }

    #[test]
    fn anchors_occur_once_and_keep_their_order() {
        let find = |left: &str, right: &str| anchors(left.bytes(), right.bytes());
        assert_eq!(find("abcabd", "xcbd"), [(2, 1), (5, 3)]);
        assert_eq!(find("abcd", "dabc"), [(0, 1), (1, 2), (2, 3)]);
        assert_eq!(find("aa", "a"), []);
    }
}
