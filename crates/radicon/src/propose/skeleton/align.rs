//! Alignment of many lists of siblings: which nodes of all pages are the same
//! node of the layout.
//!
//! Every list is aligned to one reference by the heaviest common subsequence
//! (Needleman and Wunsch 1970); the places of the reference that have a partner
//! in every list are the columns. The reference is the list whose members are
//! the most common, so the order of the pages does not matter.

use rustc_hash::FxHashMap;

use crate::hash::mix;
use crate::propose::pages::page::Key;
use crate::sequence::{anchors, heaviest};

/// The largest table of the exact alignment, in cells; longer lists are first
/// cut at nodes that occur once on both sides.
const MAX_CELLS: usize = 250_000;

/// For each column the index within every list.
pub fn columns(lists: &[Vec<Key>]) -> Vec<Vec<usize>> {
    let Some(reference) = reference(lists) else {
        return Vec::new();
    };
    let base = &lists[reference];
    let mut matched: Vec<Vec<usize>> = vec![Vec::with_capacity(lists.len()); base.len()];
    let mut cache: FxHashMap<u64, Vec<(usize, usize)>> = FxHashMap::default();
    for list in lists {
        let fingerprint = list.iter().fold(list.len() as u64, |sum, key| mix(sum, key.whole));
        let pairs = cache.entry(fingerprint).or_insert_with(|| pairs(base, list));
        for &(at, with) in pairs.iter() {
            matched[at].push(with);
        }
    }
    matched.retain(|partners| partners.len() == lists.len());
    matched
}

/// The list whose labels are the most common; of equals the first.
fn reference(lists: &[Vec<Key>]) -> Option<usize> {
    if lists.iter().any(Vec::is_empty) {
        return None;
    }
    let mut common: FxHashMap<u32, i64> = FxHashMap::default();
    for list in lists {
        let mut labels: Vec<u32> = list.iter().map(|key| key.label).collect();
        labels.sort_unstable();
        labels.dedup();
        for label in labels {
            *common.entry(label).or_default() += 1;
        }
    }
    let half = lists.len() as i64 / 2;
    let score = |list: &Vec<Key>| {
        let mut labels: Vec<u32> = list.iter().map(|key| key.label).collect();
        labels.sort_unstable();
        labels.dedup();
        labels.iter().map(|label| common[label] - half).sum::<i64>()
    };
    (0..lists.len()).max_by_key(|&index| (score(&lists[index]), std::cmp::Reverse(index)))
}

/// How much two nodes speak for being the same; 0 if they cannot be.
fn likeness(a: &Key, b: &Key) -> u32 {
    if a.tag != b.tag {
        // The current entry of a menu is text where others are links.
        if a.text != 0 && a.text == b.text { 15 } else { 0 }
    } else if a.whole == b.whole {
        100 + u32::from(a.size).min(1000) / 10
    } else if a.id != 0 && a.id == b.id {
        90
    } else if a.id != 0 && b.id != 0 {
        2
    } else if a.text != 0 && a.text == b.text {
        70
    } else if a.label == b.label {
        20
    } else {
        4
    }
}

/// The heaviest alignment of two lists, as pairs of indices.
fn pairs(a: &[Key], b: &[Key]) -> Vec<(usize, usize)> {
    let mut found = Vec::new();
    align(a, b, (0, 0), &mut found);
    found
}

fn align(a: &[Key], b: &[Key], at: (usize, usize), found: &mut Vec<(usize, usize)>) {
    let same = |(a, b): &(&Key, &Key)| a.whole == b.whole && a.tag == b.tag;
    let head = a.iter().zip(b).take_while(same).count();
    found.extend((0..head).map(|i| (at.0 + i, at.1 + i)));
    let (a, b, at) = (&a[head..], &b[head..], (at.0 + head, at.1 + head));
    let tail = a.iter().rev().zip(b.iter().rev()).take_while(same).count();
    let (inner_a, inner_b) = (&a[..a.len() - tail], &b[..b.len() - tail]);
    if !inner_a.is_empty() && !inner_b.is_empty() {
        if inner_a.len() * inner_b.len() <= MAX_CELLS {
            let pairs = heaviest(inner_a.len(), inner_b.len(), |i, j| likeness(&inner_a[i], &inner_b[j]));
            found.extend(pairs.into_iter().map(|(i, j)| (at.0 + i, at.1 + j)));
        } else {
            // Nodes that occur once in both lists.
            let pairs = anchors(inner_a.iter().map(|key| key.whole), inner_b.iter().map(|key| key.whole));
            let mut from = (0, 0);
            let ends = (!pairs.is_empty()).then_some((inner_a.len(), inner_b.len()));
            for (i, j) in pairs.into_iter().chain(ends) {
                align(&inner_a[from.0..i], &inner_b[from.1..j], (at.0 + from.0, at.1 + from.1), found);
                if i < inner_a.len() {
                    found.push((at.0 + i, at.1 + j));
                }
                from = (i + 1, j + 1);
            }
        }
    }
    let (i, j) = (at.0 + inner_a.len(), at.1 + inner_b.len());
    found.extend((0..tail).map(|k| (i + k, j + k)));
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Keys from letters: the letter is the whole, its lower case the tag.
    fn keys(text: &str) -> Vec<Key> {
        let key = |c: char| Key {
            whole: c as u64,
            tag: c.to_ascii_lowercase() as u16,
            label: c.to_ascii_lowercase() as u32,
            ..Key::default()
        };
        text.chars().map(key).collect()
    }

    #[track_caller]
    fn check(lists: &[&str], expected: &[&[usize]]) {
        let lists: Vec<_> = lists.iter().map(|list| keys(list)).collect();
        assert_eq!(columns(&lists), expected);
    }

    #[test]
    fn what_all_lists_share_becomes_columns() {
        check(&["abc", "abxc", "abc"], &[&[0, 0, 0], &[1, 1, 1], &[2, 3, 2]]);
        check(&["aaBaa", "aabAa"], &[&[0, 0], &[1, 1], &[2, 2], &[3, 3], &[4, 4]]);
        check(&["ab", "ba", "ab"], &[&[1, 0, 1]]);
        check(&["ab", ""], &[]);
    }

    #[test]
    fn long_lists_are_cut_at_anchors() {
        let long = |skip: u64| {
            (0..2_000)
                .filter(|n| n % 7 != skip)
                .map(|n| Key { whole: n + 1, tag: 1, ..Key::default() })
                .collect::<Vec<_>>()
        };
        let found = columns(&[long(3), long(5)]);
        assert!(found.len() >= 2_000 * 5 / 7, "{}", found.len());
    }
}
