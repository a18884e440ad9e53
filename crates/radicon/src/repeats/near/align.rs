//! What two alike pieces of markup share, and where they differ.

use std::ops::Range;

use rustc_hash::FxHashMap;

use crate::repeats::exact::runs::Copy;
use crate::repeats::reading::forest::Forest;
use crate::sequence::{anchors, heaviest};
use crate::site::Site;
use crate::text::SourceId;

/// A part of one piece that differs from the other one.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(in crate::repeats) enum Part {
    /// The attributes of an element.
    Attributes(u32),
    /// A run of nodes, from the first to after the last.
    Nodes(u32, u32),
    /// Nothing: the place in this node before that one, or at its end.
    Place { parent: u32, before: u32 },
}

impl Part {
    /// The nodes it covers.
    pub fn range(self) -> Range<u32> {
        match self {
            Part::Attributes(node) => node..node + 1,
            Part::Nodes(start, end) => start..end,
            Part::Place { before, .. } => before..before,
        }
    }

    /// The node that it belongs to.
    pub fn home(self) -> u32 {
        match self {
            Part::Attributes(node) | Part::Nodes(node, _) => node,
            Part::Place { parent, .. } => parent,
        }
    }
}

/// How one piece differs from another one.
#[derive(Clone, Debug, Default)]
pub(in crate::repeats) struct Alignment {
    /// Twice the bytes in common, as a share of the bytes of both.
    pub similarity: f64,
    /// Parts of the first one, and what is in their place in the second.
    pub gaps: Vec<(Part, Part)>,
    /// Nodes of the first one with the nodes of the second that correspond.
    pub pairs: Vec<(u32, u32)>,
}

/// The parts of the second piece in the places of those of the first.
pub(in crate::repeats) struct Counterparts<'a> {
    forest: &'a Forest,
    gaps: FxHashMap<Part, Part>,
    /// Corresponding nodes, in order of the first piece.
    pairs: Vec<(u32, u32)>,
}

impl<'a> Counterparts<'a> {
    pub fn of(forest: &'a Forest, alignment: &Alignment) -> Self {
        let mut pairs = alignment.pairs.clone();
        pairs.sort_unstable();
        Self { forest, gaps: alignment.gaps.iter().copied().collect(), pairs }
    }

    /// The part in that place; `None` if it is the same.
    pub fn of_part(&self, part: Part) -> Option<Part> {
        if let Some(found) = self.gaps.get(&part) {
            return Some(*found);
        }
        let range = part.range();
        let first = self.pairs.partition_point(|(own, _)| *own < range.start);
        let within = self.pairs[first..].iter().take_while(|(own, _)| *own < range.end);
        let spans = within.map(|&(_, other)| (other, other + self.forest.size(other)));
        spans.reduce(|a, b| (a.0.min(b.0), a.1.max(b.1))).map(|(start, end)| match part {
            Part::Attributes(_) => Part::Attributes(start),
            Part::Nodes(..) | Part::Place { .. } => Part::Nodes(start, end),
        })
    }
}

/// The most pairs of children that are compared with each other; of more only
/// children that are once on each side hold the others together.
const MOST_CELLS: usize = 2_500;

/// The deepest nesting that is compared.
const MOST_DEPTH: usize = 200;

/// Aligns two nodes; `None` if they are less alike than this.
pub(in crate::repeats) fn align(site: &Site, forest: &Forest, a: u32, b: u32, least: f64) -> Option<Alignment> {
    let source = |node: u32| &site.get(SourceId(forest.file(node))).source[..];
    let (own, other) = (f64::from(forest.bytes(a)), f64::from(forest.bytes(b)));
    let may_lose = own - least * (own + other) / 2.0;
    let sources = (source(a), source(b));
    let (nodes, found) = (Vec::new(), Alignment::default());
    let mut aligner = Aligner { forest, sources, may_lose, common: 0, lost: 0, nodes, found };
    aligner.pair(a, b, 0);
    let similarity = 2.0 * f64::from(aligner.common) / (own + other).max(1.0);
    (similarity >= least).then_some(Alignment { similarity, ..aligner.found })
}

struct Aligner<'f> {
    forest: &'f Forest,
    /// The sources of the two pieces.
    sources: (&'f [u8], &'f [u8]),
    /// How many bytes of the first may differ at most.
    may_lose: f64,
    /// How many are in the second one too, and how many do not, as far as is known.
    common: u32,
    lost: u32,
    /// Children of the nodes that are being compared.
    nodes: Vec<u32>,
    found: Alignment,
}

impl<'f> Aligner<'f> {
    /// So much differs already that they cannot be alike enough.
    fn is_hopeless(&self) -> bool {
        f64::from(self.lost) > self.may_lose
    }

    fn pair(&mut self, a: u32, b: u32, depth: usize) {
        let forest = self.forest;
        self.found.pairs.push((a, b));
        let bytes = forest.bytes(a);
        if forest.class[a as usize] == forest.class[b as usize] {
            self.common += bytes;
            return;
        }
        let (before, gaps, pairs) = (self.common, self.found.gaps.len(), self.found.pairs.len() - 1);
        let lost = self.lost;
        let start = self.nodes.len();
        self.nodes.extend(forest.children(a));
        let middle = self.nodes.len();
        self.nodes.extend(forest.children(b));
        let children = &self.nodes[start..middle];
        let own = children.iter().fold(bytes, |own, &child| own.saturating_sub(forest.bytes(child)));
        let mut common = own;
        if forest.of(a).label != forest.of(b).label {
            self.found.gaps.push((Part::Attributes(a), Part::Attributes(b)));
            common = self.common_tag(a, b).min(own);
            self.lost += own - common;
        }
        self.common += common;
        if depth < MOST_DEPTH {
            self.children(start..middle, middle..self.nodes.len(), (a, b), depth);
        }
        self.nodes.truncate(start);
        // What shares less than half is rather something else.
        let common = self.common - before;
        if depth > 0 && common * 2 < bytes.max(forest.bytes(b)) {
            self.common = before;
            self.found.gaps.truncate(gaps);
            self.found.pairs.truncate(pairs + 1);
            self.found.gaps.push((self.whole(a), self.whole(b)));
            self.lost = lost + bytes;
        }
    }

    /// How many bytes two opening tags share at their ends.
    fn common_tag(&self, a: u32, b: u32) -> u32 {
        let tag = |source: &'f [u8], node: u32| {
            &source[self.forest.span(node).start as usize..self.forest.inner[node as usize] as usize]
        };
        let (left, right) = (tag(self.sources.0, a), tag(self.sources.1, b));
        let head = left.iter().zip(right).take_while(|(a, b)| a == b).count();
        let tail = left[head..].iter().rev().zip(right[head..].iter().rev()).take_while(|(a, b)| a == b).count();
        (head + tail) as u32
    }

    fn whole(&self, node: u32) -> Part {
        Part::Nodes(node, node + self.forest.size(node))
    }

    /// Compares children, by their places among the nodes.
    fn children(&mut self, mut left: Range<usize>, mut right: Range<usize>, parents: (u32, u32), depth: usize) {
        let forest = self.forest;
        let class = |node: &u32| forest.class[*node as usize];
        let same = |a: &u32, b: &u32| class(a) == class(b);
        let (a, b) = (&self.nodes[left.clone()], &self.nodes[right.clone()]);
        let head = a.iter().zip(b).take_while(|(a, b)| same(a, b)).count();
        let tail = a[head..].iter().rev().zip(b[head..].iter().rev()).take_while(|(a, b)| same(a, b)).count();
        let equal = a[..head].iter().zip(b).chain(a[a.len() - tail..].iter().zip(&b[b.len() - tail..]));
        for (&a, &b) in equal {
            self.common += forest.bytes(a);
            self.found.pairs.push((a, b));
        }
        let end = |node: u32, list: &[u32]| list.get(list.len() - tail).copied().unwrap_or(node + forest.size(node));
        let ends = (end(parents.0, a), end(parents.1, b));
        let (a, b) = (&a[head..a.len() - tail], &b[head..b.len() - tail]);
        left = left.start + head..left.end - tail;
        right = right.start + head..right.end - tail;
        // One child beside one is not the same, else it would be at their end.
        let matches = match a.len() * b.len() {
            0 | 1 => Vec::new(),
            2..=MOST_CELLS => heaviest(a.len(), b.len(), |i, j| u32::from(same(&a[i], &b[j]))),
            _ => anchors(a.iter().map(&class), b.iter().map(&class)),
        };
        let (mut i, mut j) = (left.start, right.start);
        for (a, b) in matches.into_iter().chain([(left.len(), right.len())]) {
            let (a, b) = (left.start + a, right.start + b);
            let stop = |at: usize, list: &Range<usize>, end: u32| if at < list.end { self.nodes[at] } else { end };
            let stops = (stop(a, &left, ends.0), stop(b, &right, ends.1));
            self.segment(i..a, j..b, stops, parents, depth);
            if self.is_hopeless() {
                return;
            }
            if a < left.end {
                self.common += forest.bytes(stops.0);
                self.found.pairs.push(stops);
            }
            (i, j) = (a + 1, b + 1);
        }
    }

    /// Siblings of which none is the same: elements of one name are compared, the rest is a gap.
    fn segment(
        &mut self,
        left: Range<usize>,
        right: Range<usize>,
        stops: (u32, u32),
        parents: (u32, u32),
        depth: usize,
    ) {
        let forest = self.forest;
        let (mut i, mut j) = (left.start, right.start);
        while (i < left.end || j < right.end) && !self.is_hopeless() {
            let tag = |at: usize| forest.tag(self.nodes[at]);
            let next = (i..left.end).find_map(|a| {
                let name = tag(a);
                let b = (j..right.end).find(|&b| tag(b) == name && name > 1)?;
                Some((a, b))
            });
            let (a, b) = next.unwrap_or((left.end, right.end));
            if a > i || b > j {
                let part = |range: Range<usize>, list: &Range<usize>, stop: u32, parent: u32| {
                    let end = if range.end < list.end { self.nodes[range.end] } else { stop };
                    match range.is_empty() {
                        true => Part::Place { parent, before: end },
                        false => Part::Nodes(self.nodes[range.start], end),
                    }
                };
                // One gap for each sibling, so that each tells what it is.
                let there = part(j..b, &right, stops.1, parents.1);
                self.found.gaps.push((part(i..a.min(i + 1), &left, stops.0, parents.0), there));
                let none = part(b..b, &right, stops.1, parents.1);
                let more = (i + 1..a).map(|at| (part(at..at + 1, &left, stops.0, parents.0), none));
                self.found.gaps.extend(more);
                self.lost += self.nodes[i..a].iter().map(|&node| forest.bytes(node)).sum::<u32>();
            }
            if a < left.end {
                self.pair(self.nodes[a], self.nodes[b], depth + 1);
            }
            (i, j) = (a + 1, b + 1);
        }
    }
}

/// The text of a part in its source.
pub(in crate::repeats) fn text<'s>(forest: &Forest, source: &'s [u8], part: Part) -> &'s [u8] {
    match part {
        Part::Place { .. } => &[],
        Part::Nodes(start, end) => {
            let from = forest.span(start).start as usize;
            &source[from..from + Copy::between(forest, start, end).bytes(forest) as usize]
        }
        Part::Attributes(node) => {
            let tag = &source[forest.span(node).start as usize..forest.inner[node as usize] as usize];
            let name = tag.iter().position(|b| b.is_ascii_whitespace()).unwrap_or(tag.len());
            crate::text::trim_blanks(tag[name..].strip_suffix(b">").unwrap_or(&tag[name..]))
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::dialect::builtin;
    use crate::repeats::Normalise;
    use crate::site::{Settings, SourceFile};

    const PARTS: [&str; 9] = [
        "<p>one</p>",
        "<p>two</p>",
        "<p>two <b>three</b></p>",
        "<ul><li>one</li><li>four</li></ul>",
        "<ul class=x><li>one</li><li>five</li><li>six</li></ul>",
        "<a href='a.html'>seven</a>",
        "<a href='b.html'>seven</a>",
        "eight",
        "<div><p>one</p><a href='a.html'>nine</a></div>",
    ];

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

        #[test]
        fn ending_early_changes_nothing(
            one in prop::collection::vec(0..PARTS.len(), 0..8),
            other in prop::collection::vec(0..PARTS.len(), 0..8),
            least in 0.0..1.0,
        ) {
            let page = |name: &str, parts: &[usize]| {
                let text: String = parts.iter().map(|&part| PARTS[part]).collect();
                SourceFile::new(name, format!("<div>{text}</div>"))
            };
            let files = vec![page("a.html", &one), page("b.html", &other)];
            let site = Site::read(files, builtin(), &Settings::default());
            let forest = Forest::read(&site, &Normalise::default());
            let (a, b) = (forest.files[0], forest.files[1]);
            let similarity = |least: f64| Some(align(&site, &forest, a, b, least)?.similarity);
            prop_assert_eq!(similarity(least), similarity(0.0).filter(|&similarity| similarity >= least));
        }
    }
}
