//! Runs of siblings that are in several places.
//!
//! The children of every distinct node make a sequence; a suffix array over all
//! sequences (induced sorting: Nong, Zhang and Chan 2009) with its longest
//! common prefixes (Kasai and others 2001) gives the runs that can be extended
//! neither to the left nor to the right without losing a copy. A child that
//! is nowhere but in one kind of parent separates: what it repeats, its
//! parent repeats. Equal siblings in a row count as one unit, a loop.

use std::ops::Range;

use libsais::SuffixArrayConstruction;
use rayon::prelude::*;
use rustc_hash::FxHashMap;

use crate::hash::mix;
use crate::repeats::reading::forest::Forest;

/// The longest period of a loop, in siblings.
const MOST_PERIOD: usize = 16;

/// The place of a symbol.
#[derive(Clone, Copy, Debug)]
struct Place {
    /// A class, or, from `FILE` on, a file.
    parent: u32,
    /// How many nodes after its parent it starts.
    delta: u32,
    /// How many nodes it covers.
    nodes: u32,
}

const FILE: u32 = 1 << 31;

/// A run of siblings that is in several places, or a loop.
#[derive(Clone, Copy, Debug)]
pub(in crate::repeats) struct Run {
    kind: RunKind,
    /// Its length in bytes, in one of its places.
    pub bytes: u32,
    /// How many nodes it covers.
    pub nodes: u32,
    /// How often it is in the site at most.
    pub copies: u32,
}

#[derive(Clone, Copy, Debug)]
enum RunKind {
    /// From the first to the last suffix that starts with it.
    Interval { first: u32, last: u32 },
    /// So many units in a row, each of so many nodes, after a parent.
    Loop { place: Place, unit: u32, times: u32 },
}

/// A run of siblings where it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(in crate::repeats) struct Copy {
    /// The first sibling.
    pub start: u32,
    /// The node after all of them.
    pub end: u32,
    /// The last sibling.
    pub last: u32,
}

impl Copy {
    /// The siblings from one node to another.
    pub fn between(forest: &Forest, start: u32, end: u32) -> Self {
        let mut last = start;
        while last + forest.size(last) < end {
            last += forest.size(last);
        }
        Self { start, end, last }
    }

    /// The same siblings elsewhere.
    fn at(self, start: u32) -> Self {
        Self { start, end: start + (self.end - self.start), last: start + (self.last - self.start) }
    }

    /// Length in bytes.
    pub fn bytes(self, forest: &Forest) -> u32 {
        forest.span(self.last).end - forest.span(self.start).start
    }
}

/// All runs of a forest.
pub(in crate::repeats) struct Runs<'f> {
    forest: &'f Forest,
    places: Vec<Place>,
    suffixes: Vec<i32>,
    pub all: Vec<Run>,
    /// Memory sufficed to look for all.
    pub is_complete: bool,
}

/// The least that a run must have to be looked at.
#[derive(Clone, Copy, Debug)]
pub(in crate::repeats) struct Least {
    pub bytes: u32,
    pub nodes: u32,
    pub saving: u64,
}

impl<'f> Runs<'f> {
    pub fn find(forest: &'f Forest, least: Least) -> Self {
        let Built { mut text, places, loops } = build(forest, least.nodes);
        let found = suffix_array(&mut text);
        let is_complete = found.is_some();
        let (suffixes, common) = found.unwrap_or_default();
        let mut runs = Self { forest, places, suffixes, all: Vec::new(), is_complete };
        runs.all.extend(loops.into_iter().filter(|run| run.is_worth(least)));
        runs.intervals(&text, &common, least);
        runs
    }

    /// The intervals of suffixes that share a prefix and differ before it.
    fn intervals(&mut self, text: &[i32], common: &[i32], least: Least) {
        const DIVERSE: i32 = -1;
        let join = |a: i32, b: i32| if a == b { a } else { DIVERSE };
        // What comes before each suffix, and how often it is in the site.
        let left = |suffix: i32| if suffix == 0 { DIVERSE } else { text[suffix as usize - 1] };
        let each: Vec<(i32, u32)> = self.suffixes.par_iter().map(|&at| (left(at), self.weight(at))).collect();
        // Length, first suffix, left symbol and weight of the open intervals.
        let mut open: Vec<(i32, usize, i32, u64)> = Vec::new();
        for (at, &length) in common.iter().chain([&-1]).enumerate() {
            let mut carried = match at.checked_sub(1) {
                Some(before) => (before, each[before].0, u64::from(each[before].1)),
                None => (0, DIVERSE, 0),
            };
            while let Some(&(known, first, symbol, copies)) = open.last().filter(|top| top.0 > length) {
                open.pop();
                let symbol = join(symbol, carried.1);
                let copies = copies + carried.2;
                if symbol == DIVERSE {
                    self.interval(first, at - 1, known as u32, copies, least);
                }
                carried = (first, symbol, copies);
            }
            match open.last_mut() {
                Some(top) if top.0 == length => {
                    top.2 = join(top.2, carried.1);
                    top.3 += carried.2;
                }
                _ if length > 0 => open.push((length, carried.0, carried.1, carried.2)),
                _ => {}
            }
        }
    }

    fn interval(&mut self, first: usize, last: usize, length: u32, copies: u64, least: Least) {
        let at = self.suffixes[first] as usize;
        let (head, tail) = (self.places[at], self.places[at + length as usize - 1]);
        let base = self.base(head.parent);
        let (start, end) = (base + head.delta, base + tail.delta + tail.nodes);
        let run = Run {
            kind: RunKind::Interval { first: first as u32, last: last as u32 },
            bytes: Copy::between(self.forest, start, end).bytes(self.forest),
            nodes: end - start,
            copies: copies.min(u64::from(u32::MAX)) as u32,
        };
        if run.is_worth(least) {
            self.all.push(run);
        }
    }

    fn weight(&self, at: i32) -> u32 {
        match self.places[at as usize].parent {
            file if file >= FILE => 1,
            class => self.forest.count(class),
        }
    }

    /// The first node of a parent of this kind, or of a file; children start after it.
    fn base(&self, parent: u32) -> u32 {
        match parent {
            file if file >= FILE => self.forest.files[(file - FILE) as usize],
            class => self.forest.first(class),
        }
    }

    /// Every place of a run, in order.
    pub fn copies(&self, run: &Run) -> Vec<Copy> {
        let mut starts = Vec::new();
        match run.kind {
            RunKind::Interval { first, last } => {
                for &at in &self.suffixes[first as usize..=last as usize] {
                    let head = self.places[at as usize];
                    self.each_parent(head.parent, |base| starts.push(base + head.delta));
                }
            }
            RunKind::Loop { place, unit, times } => self.each_parent(place.parent, |base| {
                let start = base + place.delta;
                starts.extend((0..times).map(|time| start + time * unit));
            }),
        }
        starts.sort_unstable();
        // All are the same, so one tells how far they reach.
        let one = starts.first().map(|&start| Copy::between(self.forest, start, start + run.nodes));
        starts.into_iter().filter_map(|start| Some(one?.at(start))).collect()
    }

    fn each_parent(&self, parent: u32, mut each: impl FnMut(u32)) {
        match parent {
            file if file >= FILE => each(self.base(file)),
            class => self.forest.places(class).iter().for_each(|&base| each(base)),
        }
    }
}

impl Run {
    /// Whether it is one thing several times in a row.
    pub fn is_loop(&self) -> bool {
        matches!(self.kind, RunKind::Loop { .. })
    }

    fn is_worth(&self, least: Least) -> bool {
        let saving = u64::from(self.copies.saturating_sub(1)) * u64::from(self.bytes);
        self.copies > 1 && self.bytes >= least.bytes && self.nodes >= least.nodes && saving >= least.saving
    }
}

/// The sequences of children of all distinct nodes, one after the other.
#[derive(Default)]
struct Built {
    /// Symbols; no two separators are the same.
    text: Vec<i32>,
    places: Vec<Place>,
    loops: Vec<Run>,
}

/// How many nodes one builder takes.
const STRETCH: usize = 100_000;

fn build(forest: &Forest, least_nodes: u32) -> Built {
    let starts: Vec<usize> = (0..forest.class.len()).step_by(STRETCH).collect();
    let stretch =
        |&start: &usize| Builder::new(forest, least_nodes).build(start..(start + STRETCH).min(forest.class.len()));
    let pieces: Vec<Builder<'_>> = starts.par_iter().map(stretch).collect();
    let tops = Builder::new(forest, least_nodes).of_files();
    // Small numbers for symbols, those of separators first.
    let length = pieces.iter().map(|piece| piece.text.len()).sum::<usize>() + tops.text.len();
    let separators = pieces.iter().chain([&tops]).flat_map(|piece| &piece.text).filter(|&&symbol| symbol == SEPARATOR);
    let (mut separator, mut next) = (0, separators.count() as i32);
    let mut built = Built { text: Vec::with_capacity(length), places: Vec::with_capacity(length), loops: Vec::new() };
    let mut classes = vec![SEPARATOR; forest.classes.len()];
    let mut units: FxHashMap<u64, i32> = FxHashMap::default();
    for piece in pieces.into_iter().chain([tops]) {
        let symbol = |&symbol: &i32| {
            if symbol == SEPARATOR {
                separator += 1;
                return separator - 1;
            }
            let name = match symbol {
                class if class >= 0 => &mut classes[class as usize],
                unit => units.entry(piece.units[(UNIT - unit) as usize]).or_insert(SEPARATOR),
            };
            if *name == SEPARATOR {
                *name = next;
                next += 1;
            }
            *name
        };
        built.text.extend(piece.text.iter().map(symbol));
        built.places.extend(piece.places);
        built.loops.extend(piece.loops);
    }
    built
}

const SEPARATOR: i32 = -1;

/// The first unit of a loop; others are below it.
const UNIT: i32 = -2;

struct Builder<'f> {
    forest: &'f Forest,
    /// The number of nodes below which a run is not looked at.
    least_nodes: u32,
    /// The index of the last separator; then the number of nodes after it.
    separator: usize,
    nodes: u32,
    /// Classes, separators and units.
    text: Vec<i32>,
    places: Vec<Place>,
    /// The hashes of the units.
    units: Vec<u64>,
    loops: Vec<Run>,
}

impl<'f> Builder<'f> {
    fn new(forest: &'f Forest, least_nodes: u32) -> Self {
        let (text, places, units, loops) = Default::default();
        Self { forest, least_nodes, separator: 0, nodes: 0, text, places, units, loops }
    }

    /// The sequences of the nodes of a stretch that are the first of their class.
    fn build(mut self, nodes: Range<usize>) -> Self {
        let forest = self.forest;
        let mut children = Vec::new();
        for node in nodes {
            let class = forest.class[node];
            if forest.size(node as u32) > 1 && forest.first(class) as usize == node {
                children.clear();
                children.extend(forest.children(node as u32));
                self.sequence(class, node as u32, forest.count(class), &children);
            }
        }
        self
    }

    /// The sequences of what is topmost in each file.
    fn of_files(mut self) -> Self {
        let forest = self.forest;
        for file in 0..forest.files.len() as u32 - 1 {
            let top: Vec<u32> = forest.top(file).collect();
            self.sequence(FILE + file, forest.files[file as usize], 1, &top);
        }
        self
    }

    fn sequence(&mut self, parent: u32, base: u32, count: u32, children: &[u32]) {
        let forest = self.forest;
        let class = |at: usize| forest.class[children[at] as usize];
        let mut at = 0;
        while at < children.len() {
            let delta = children[at] - base;
            if let Some((period, times)) = period(children.len() - at, |i| class(at + i)) {
                let nodes = |range: std::ops::Range<usize>| range.map(|i| forest.size(children[i])).sum::<u32>();
                let (unit, all) = (nodes(at..at + period), nodes(at..at + period * times));
                let place = Place { parent, delta, nodes: all };
                let start = children[at];
                self.loops.push(Run {
                    kind: RunKind::Loop { place, unit, times: times as u32 },
                    bytes: Copy::between(forest, start, start + unit).bytes(forest),
                    nodes: unit,
                    copies: count.saturating_mul(times as u32),
                });
                let hash =
                    (at..at + period).fold(times as u64, |hash, i| mix(hash, forest.classes[class(i) as usize].hash));
                self.push(UNIT - self.units.len() as i32, place);
                self.units.push(hash);
                at += period * times;
            } else {
                match forest.count(class(at)) == count {
                    true => self.separate(),
                    false => self.push(class(at) as i32, Place { parent, delta, nodes: forest.size(children[at]) }),
                }
                at += 1;
            }
        }
        self.separate();
    }

    fn push(&mut self, symbol: i32, place: Place) {
        self.text.push(symbol);
        self.places.push(place);
        self.nodes += place.nodes;
    }

    fn separate(&mut self) {
        if self.nodes < self.least_nodes.max(1) {
            self.text.truncate(self.separator);
            self.places.truncate(self.separator);
        } else {
            self.push(SEPARATOR, Place { parent: FILE, delta: 0, nodes: 0 });
            self.separator = self.text.len();
        }
        self.nodes = 0;
    }
}

/// The shortest period of at least three repetitions at the start of a sequence, and how often it comes.
fn period(length: usize, symbol: impl Fn(usize) -> u32) -> Option<(usize, usize)> {
    (1..=MOST_PERIOD.min(length / 3)).find_map(|period| {
        let same = (period..length).take_while(|&at| symbol(at) == symbol(at - period)).count();
        (same >= 2 * period).then_some((period, same / period + 1))
    })
}

/// The suffixes in order, and how many symbols each shares with the one before;
/// `None` if memory does not suffice.
fn suffix_array(text: &mut [i32]) -> Option<(Vec<i32>, Vec<i32>)> {
    if text.is_empty() {
        return Some((Vec::new(), Vec::new()));
    }
    let sorted = SuffixArrayConstruction::for_text_mut(&mut *text).in_owned_buffer32().single_threaded().run().ok()?;
    let with_common = sorted.plcp_construction().single_threaded().run().ok()?;
    let (suffixes, common, ..) = with_common.lcp_construction().single_threaded().run().ok()?.into_parts();
    Some((suffixes, common))
}
