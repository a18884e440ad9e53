//! Where near copies differ, and which of them are outdated.

use std::ops::Range;
use std::sync::Arc;

use rustc_hash::{FxHashMap, FxHashSet};
use serde::Serialize;

use crate::repeats::exact::runs::Copy;
use crate::repeats::near::align::{Counterparts, Part, text};
use crate::repeats::near::alike::Cluster;
use crate::repeats::reading::forest::Forest;
use crate::site::Site;
use crate::text::{SourceId, is_blank, single_spaced, trim_blanks};

/// A place where copies differ.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Gap {
    /// Its number in the group, from 1.
    pub number: usize,
    /// So many copies differ here that it is rather a parameter than a slip.
    pub parameter: bool,
    /// The most frequent content; empty for nothing.
    pub usual: String,
    /// How many different contents there are.
    pub variants: usize,
    /// How many copies have something else than the usual.
    pub others: usize,
}

/// A copy that was left behind.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Drift {
    /// The file's path.
    pub file: String,
    /// The line at which the copy starts, 1-based.
    pub line: u32,
    /// How it differs from most copies.
    pub difference: String,
}

/// The differences within a group.
#[derive(Debug, Default)]
pub(in crate::repeats) struct Differences {
    pub gaps: Vec<Gap>,
    /// For each copy what is in each gap.
    pub values: Vec<Arc<[String]>>,
    /// Copies, by index, that are outdated, and how.
    pub drift: Vec<(usize, String)>,
    /// The leader with its gaps numbered.
    pub pattern: String,
}

/// From this share of the copies on a difference is a parameter.
const PARAMETER: f64 = 0.25;

impl Differences {
    pub fn of(site: &Site, forest: &Forest, cluster: &Cluster, copies: &[Copy]) -> Self {
        let known: FxHashMap<u32, usize> =
            cluster.members.iter().enumerate().map(|(at, (class, _))| (*class, at)).collect();
        let class_of = |copy: &Copy| forest.class[copy.start as usize];
        let mut present: Vec<usize> = copies.iter().filter_map(|copy| known.get(&class_of(copy)).copied()).collect();
        present.sort_unstable();
        present.dedup();
        let parts =
            merged(present.iter().flat_map(|&member| cluster.members[member].1.gaps.iter().map(|(own, _)| *own)));
        let leader = forest.first(cluster.leader);
        let source = |node: u32| &site.get(SourceId(forest.file(node))).source;
        let shown = |node: u32, part: Part| {
            let text = single_spaced(trim_blanks(text(forest, source(node), part)));
            String::from_utf8_lossy(&text).into_owned()
        };
        let own: Arc<[String]> = parts.iter().map(|&part| shown(leader, part)).collect();
        let of_member = |&member: &usize| -> Arc<[String]> {
            let (class, alignment) = &cluster.members[member];
            let node = forest.first(*class);
            let there = Counterparts::of(forest, alignment);
            let value = |(part, own): (&Part, &String)| match there.of_part(*part) {
                Some(there) => shown(node, there),
                None => own.clone(),
            };
            parts.iter().zip(&*own).map(value).collect()
        };
        // The leader first, then the members.
        let mut variants: Vec<Variant> = vec![Variant { values: own.clone(), copies: 0 }];
        variants.extend(present.iter().map(|member| Variant { values: of_member(member), copies: 0 }));
        let variant = |copy: &Copy| {
            let member = known.get(&class_of(copy));
            member.and_then(|member| present.binary_search(member).ok()).map_or(0, |index| index + 1)
        };
        let of_copy: Vec<usize> = copies.iter().map(variant).collect();
        of_copy.iter().for_each(|&index| variants[index].copies += 1);
        let gaps: Vec<Gap> = (0..parts.len()).map(|index| gap(index, &variants, copies.len())).collect();
        let said = drifted(&gaps, &variants, copies.len());
        let drift =
            of_copy.iter().enumerate().filter_map(|(at, variant)| Some((at, said[*variant].clone()?))).collect();
        let values = of_copy.iter().map(|&variant| variants[variant].values.clone()).collect();
        let pattern = pattern(forest, source(leader), leader, &parts);
        Self { gaps, values, drift, pattern }
    }
}

/// Copies that are the same.
struct Variant {
    /// The content of each gap.
    values: Arc<[String]>,
    /// How many there are.
    copies: usize,
}

/// Parts without those that are in greater ones, in order.
fn merged(parts: impl Iterator<Item = Part>) -> Vec<Part> {
    let mut sorted: Vec<Part> = parts.collect();
    // A place at the end of an inner node comes before one of an outer node.
    let order = |part: &Part| match part {
        Part::Place { parent, .. } => (0, u32::MAX - parent),
        _ => (1, u32::MAX - part.range().end),
    };
    sorted.sort_unstable_by_key(|part| (part.range().start, order(part), *part));
    sorted.dedup();
    let mut kept: Vec<Part> = Vec::new();
    let mut covered = 0..0;
    for part in sorted {
        let range = part.range();
        let is_run = matches!(part, Part::Nodes(..));
        let inside = if is_run { range.start < covered.end } else { covered.contains(&part.home()) };
        if inside {
            // A run that reaches further makes the one before it longer.
            if is_run
                && range.end > covered.end
                && let Some(Part::Nodes(_, end)) = kept.last_mut()
            {
                *end = range.end;
                covered.end = range.end;
            }
            continue;
        }
        if is_run {
            covered = range;
        }
        kept.push(part);
    }
    kept
}

fn gap(index: usize, variants: &[Variant], copies: usize) -> Gap {
    let mut counts: FxHashMap<&str, usize> = FxHashMap::default();
    for variant in variants.iter().filter(|variant| variant.copies > 0) {
        *counts.entry(&variant.values[index]).or_default() += variant.copies;
    }
    let usual =
        counts.iter().max_by_key(|(text, count)| (**count, std::cmp::Reverse(text.len()), std::cmp::Reverse(**text)));
    let (usual, count) = usual.map_or(("", 0), |(text, count)| (*text, *count));
    let others = copies - count;
    let parameter = others as f64 >= PARAMETER * copies as f64 && (others > 1 || copies < 3);
    Gap { number: index + 1, parameter, usual: usual.to_owned(), variants: counts.len(), others }
}

/// For each variant how it differs where most copies agree. What several
/// copies add, each in a place of its own, is rather a mark that wanders, such
/// as the current item.
fn drifted(gaps: &[Gap], variants: &[Variant], copies: usize) -> Vec<Option<String>> {
    if copies <= 2 || gaps.iter().all(|gap| gap.parameter || gap.others == 0) {
        return vec![None; variants.len()];
    }
    // For what is added the gap that it is added in, if there is only one.
    let mut added: FxHashMap<Vec<&str>, Option<usize>> = FxHashMap::default();
    for (index, gap) in gaps.iter().enumerate() {
        let known: FxHashSet<&str> = words(&gap.usual).into_iter().collect();
        let values = variants.iter().filter(|variant| variant.copies > 0).map(|variant| variant.values[index].as_str());
        for value in values.filter(|value| *value != gap.usual).collect::<FxHashSet<&str>>() {
            let new = words(value).into_iter().filter(|word| !known.contains(word)).collect();
            let alone = |place: &mut Option<usize>| *place = place.filter(|known| *known == index);
            added.entry(new).and_modify(alone).or_insert(Some(index));
        }
    }
    // A copy that only lacks something adds nothing.
    let wanders = |index: usize, value: &str| {
        let new = new_words(&gaps[index].usual, value);
        !new.is_empty() && added.get(&new).is_some_and(Option::is_none)
    };
    let of_variant = |variant: &Variant| {
        let slips = gaps
            .iter()
            .zip(&*variant.values)
            .enumerate()
            .filter(|(index, (gap, value))| !gap.parameter && gap.usual != **value && !wanders(*index, value));
        let said: Vec<String> = slips.map(|(_, (gap, value))| difference(&gap.usual, value)).collect();
        (!said.is_empty()).then(|| said.join("; "))
    };
    variants.iter().map(of_variant).collect()
}

/// The words of a text that are not in another one.
pub(crate) fn new_words<'t>(usual: &str, text: &'t str) -> Vec<&'t str> {
    let known: FxHashSet<&str> = words(usual).into_iter().collect();
    words(text).into_iter().filter(|word| !known.contains(word)).collect()
}

/// The words of a text; angle brackets begin and end one.
fn words(text: &str) -> Vec<&str> {
    let mut found = Vec::new();
    let bytes = text.as_bytes();
    let mut at = 0;
    while let Some(blanks) = bytes[at..].iter().position(|&b| !is_blank(b)) {
        let start = at + blanks;
        let ends = |&b: &u8| matches!(b, b'<' | b'>') || is_blank(b);
        let rest = bytes[start + 1..].iter().position(ends);
        at = match bytes[start] {
            b'>' => start + 1,
            _ => rest.map_or(bytes.len(), |length| start + 1 + length),
        };
        found.push(&text[start..at]);
    }
    found
}

/// How a copy differs from what is usual, in words.
pub(crate) fn difference(usual: &str, text: &str) -> String {
    let (lost, new) = unshared(usual, text);
    match (short(&usual[lost]), short(&text[new])) {
        (lost, new) if lost.is_empty() => format!("`{new}` added"),
        (lost, new) if new.is_empty() => format!("`{lost}` missing"),
        (lost, new) => format!("`{new}` instead of `{lost}`"),
    }
}

/// The words that two texts have of their own, between those with which both begin and end.
pub(in crate::repeats) fn unshared(one: &str, other: &str) -> (Range<usize>, Range<usize>) {
    let (left, right) = (words(one), words(other));
    let head = left.iter().zip(&right).take_while(|(a, b)| a == b).count();
    let tail = left[head..].iter().rev().zip(right[head..].iter().rev()).take_while(|(a, b)| a == b).count();
    let own = |text: &str, words: &[&str]| {
        let offset = |word: &str| word.as_ptr() as usize - text.as_ptr() as usize;
        let own = &words[head..words.len() - tail];
        match (own.first(), own.last()) {
            (Some(first), Some(last)) => offset(first)..offset(last) + last.len(),
            _ => text.len()..text.len(),
        }
    };
    (own(one, &left), own(other, &right))
}

fn short(text: &str) -> String {
    let mut out: String = text.chars().take(80).collect();
    if out.len() < text.len() {
        out.push('…');
    }
    out
}

/// The leader's text with numbers in the place of its gaps.
fn pattern(forest: &Forest, source: &[u8], leader: u32, parts: &[Part]) -> String {
    let (start, end) = (forest.span(leader).start, forest.span(leader).end);
    let mut out = Vec::new();
    let mut at = start;
    for (number, part) in (1..).zip(parts) {
        let text = text(forest, source, *part);
        let from = match part {
            Part::Attributes(node) => {
                let tag = &source[forest.span(*node).start as usize..forest.inner[*node as usize] as usize];
                let name = tag.iter().position(|b| b.is_ascii_whitespace()).unwrap_or(tag.len().saturating_sub(1));
                forest.span(*node).start + name as u32
            }
            Part::Nodes(first, _) => forest.span(*first).start,
            Part::Place { parent, before } if *before < parent + forest.size(*parent) => forest.span(*before).start,
            // At the end, after the last child.
            Part::Place { parent, .. } => {
                forest.children(*parent).last().map_or(forest.inner[*parent as usize], |last| forest.span(last).end)
            }
        };
        let to = match part {
            Part::Attributes(_) => from + text.len() as u32 + u32::from(!text.is_empty()),
            Part::Nodes(first, last) => from + Copy::between(forest, *first, *last).bytes(forest),
            Part::Place { .. } => from,
        };
        if from < at {
            continue;
        }
        out.extend_from_slice(&source[at as usize..from as usize]);
        let space = if matches!(part, Part::Attributes(_)) { " " } else { "" };
        out.extend_from_slice(format!("{space}⟨{number}⟩").as_bytes());
        at = to.max(from);
    }
    out.extend_from_slice(&source[at.min(end) as usize..end as usize]);
    String::from_utf8_lossy(&out).into_owned()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn differences_are_told_by_words() {
        for (usual, text, expected) in [
            ("<li>a</li> <li>b</li>", "<li>a</li>", "`<li>b</li>` missing"),
            ("one two", "one three two", "`three` added"),
            ("daily 7 to 19", "daily 8 to 19", "`8` instead of `7`"),
        ] {
            assert_eq!(difference(usual, text), expected);
        }
    }

    #[test]
    fn parts_in_greater_parts_are_left_out() {
        let place = |parent, before| Part::Place { parent, before };
        let parts = [
            Part::Nodes(5, 9),
            Part::Attributes(6),
            place(1, 3),
            Part::Nodes(8, 11),
            place(6, 11),
            Part::Attributes(12),
        ];
        assert_eq!(merged(parts.into_iter()), [place(1, 3), Part::Nodes(5, 11), Part::Attributes(12)]);
    }
}
