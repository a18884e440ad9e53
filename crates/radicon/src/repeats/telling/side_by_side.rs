//! Copies of a group beside what is usual, with the differences marked.

use std::collections::BTreeMap;

use crate::repeats::RepeatGroup;
use crate::repeats::telling::drift::{Gap, unshared};

/// Copies that differ from the usual ones in the same way.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RepeatVariant {
    /// Indices among the copies of the group.
    pub copies: Vec<usize>,
    /// The lines in which they differ.
    pub lines: Vec<LinePair>,
}

/// A line as it usually is, and as some copies have it.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct LinePair {
    /// As most copies have it.
    pub usual: Vec<Fragment>,
    /// As these copies have it.
    pub here: Vec<Fragment>,
}

/// A part of a line.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Fragment {
    /// Its text.
    pub text: String,
    /// Whether the other side has something else.
    pub differs: bool,
}

impl RepeatGroup {
    /// The copies that are not as usual, by how they differ; most frequent first.
    pub fn variants(&self) -> Vec<RepeatVariant> {
        let mut by_values: BTreeMap<&[String], Vec<usize>> = BTreeMap::new();
        for (index, copy) in self.copies.iter().enumerate().filter(|(_, copy)| !self.is_usual(&copy.gaps)) {
            by_values.entry(&copy.gaps).or_default().push(index);
        }
        let variant = |(values, copies)| RepeatVariant { copies, lines: self.lines(values) };
        let mut variants: Vec<RepeatVariant> = by_values.into_iter().map(variant).collect();
        variants.sort_by_key(|variant| (std::cmp::Reverse(variant.copies.len()), variant.copies[0]));
        variants
    }

    fn is_usual(&self, values: &[String]) -> bool {
        self.gaps.iter().zip(values).all(|(gap, value)| gap.usual == *value)
    }

    /// The lines of the pattern in which these values are not the usual ones.
    fn lines(&self, values: &[String]) -> Vec<LinePair> {
        let pair = |line: &str| {
            let mut pair = LinePair::default();
            let mut rest = line.trim();
            let mut differs = false;
            while let Some((before, gap, after)) = next_gap(rest, &self.gaps) {
                pair.both(before);
                differs |= gap.usual != values[gap.number - 1];
                pair.gap(&gap.usual, &values[gap.number - 1]);
                rest = after;
            }
            pair.both(rest);
            differs.then_some(pair)
        };
        self.pattern.lines().filter_map(pair).collect()
    }
}

impl LinePair {
    fn both(&mut self, text: &str) {
        push(&mut self.usual, text, false);
        push(&mut self.here, text, false);
    }

    fn gap(&mut self, usual: &str, here: &str) {
        if usual == here {
            return self.both(usual);
        }
        let (lost, new) = unshared(usual, here);
        for (side, text, own) in [(&mut self.usual, usual, lost), (&mut self.here, here, new)] {
            push(side, &text[..own.start], false);
            push(side, &text[own.clone()], true);
            push(side, &text[own.end..], false);
        }
    }
}

fn push(side: &mut Vec<Fragment>, text: &str, differs: bool) {
    if !text.is_empty() {
        side.push(Fragment { text: text.to_owned(), differs });
    }
}

/// The next gap of a pattern's line, with what comes before and after its number.
fn next_gap<'a>(line: &'a str, gaps: &'a [Gap]) -> Option<(&'a str, &'a Gap, &'a str)> {
    line.match_indices('⟨').find_map(|(at, open)| {
        let (number, after) = line[at + open.len()..].split_once('⟩')?;
        let gap = gaps.get(number.parse::<usize>().ok()?.checked_sub(1)?)?;
        Some((&line[..at], gap, after))
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::repeats::{RepeatOptions, repeats};
    use crate::site::{Settings, Site, SourceFile};

    /// The pieces of a side, those that differ in brackets.
    fn show(side: &[Fragment]) -> String {
        side.iter().map(|part| if part.differs { format!("[{}]", part.text) } else { part.text.clone() }).collect()
    }

    #[test]
    fn differences_are_marked_by_words_on_both_sides() {
        let mut pair = LinePair::default();
        pair.both("<li>");
        pair.gap("<a href=\"/fares.html\">Fares</a>", "<a href=\"/fares.html\" class=here>Fares</a>");
        pair.gap("same", "same");
        pair.gap("lost", "");
        assert_eq!(show(&pair.usual), "<li><a href=\"/fares.html\">Fares</a>same[lost]");
        assert_eq!(show(&pair.here), "<li><a href=\"/fares.html\" [class=here]>Fares</a>same");
    }

    #[test]
    fn copies_that_differ_alike_are_one_variant() {
        let page = |number: usize| {
            let (boat, time) = match number {
                0 | 1 => ("Gull", "noon"),
                2 => ("Heron", "midnight"),
                _ => ("Heron", "noon"),
            };
            let text = format!(
                "<body><h1>{number}</h1><table class=\"sailings\"><tr><td>{boat}</td><td>leaves the old pier every day</td></tr><tr><td>at {time} sharp</td><td>and carries people, bicycles and sheep</td></tr></table></body>"
            );
            SourceFile::new(format!("{number}.html"), text)
        };
        let site = Site::read((0..9).map(page).collect(), crate::dialect::builtin(), &Settings::default());
        let found = repeats(&site, &RepeatOptions::default());
        let group = &found.groups[0];
        let variants = group.variants();
        let copies: Vec<_> = variants.iter().map(|variant| variant.copies.clone()).collect();
        assert_eq!(copies, [vec![0, 1], vec![2]], "{group:?}");
        let lines: Vec<_> =
            variants.iter().map(|variant| (show(&variant.lines[0].usual), show(&variant.lines[0].here))).collect();
        assert!(lines[0].0.contains("[Heron]") && lines[0].1.contains("[Gull]"), "{lines:?}");
        assert!(lines[1].0.contains("[noon]") && lines[1].1.contains("[midnight]"), "{lines:?}");
        assert!(lines[1].0.contains("Heron") && !lines[1].0.contains("[Heron]"), "{lines:?}");
    }
}
