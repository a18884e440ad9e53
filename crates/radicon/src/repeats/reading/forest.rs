//! All nodes of all templates in normal form: two nodes of one class are the same.
//!
//! Nodes are in preorder, file after file.

use std::ops::Range;
use std::sync::Mutex;

use rayon::prelude::*;

use crate::repeats::Normalise;
use crate::repeats::reading::labels::Labels;
use crate::repeats::reading::reader::{Class, Memory, Reader, Stretch};
use crate::repeats::reading::urls::Urls;
use crate::site::Site;
use crate::text::{SourceId, Span};

/// The nodes of all templates.
#[derive(Debug, Default)]
pub(in crate::repeats) struct Forest {
    /// For each template the index of its first node; one more for the end.
    pub files: Vec<u32>,
    /// Nodes of one class are the same in normal form.
    pub class: Vec<u32>,
    /// The place of each in its file.
    spans: Vec<Span>,
    /// After the opening tag.
    pub inner: Vec<u32>,
    /// How many nodes it is, itself included.
    size: Vec<u32>,
    /// The classes of nodes, in the order in which their first nodes end.
    pub classes: Vec<Class>,
    /// For each class the index of its first place among `places`; one more for the end.
    first: Vec<u32>,
    /// The nodes of each class, in order.
    places: Vec<u32>,
}

impl Forest {
    pub fn read(site: &Site, normalise: &Normalise) -> Self {
        let urls = if normalise.urls { Urls::collect(site) } else { Urls::default() };
        // What one thread remembers serves all the stretches that it reads.
        let memories: Vec<Mutex<Memory>> = (0..=rayon::current_num_threads()).map(|_| Mutex::default()).collect();
        let read = |files: Range<u32>| {
            let mut reader = Reader::new(Labels::new(site, normalise, &urls, SourceId(files.start)));
            let thread = rayon::current_thread_index().unwrap_or(memories.len() - 1);
            let mut memory = memories[thread].lock().unwrap_or_else(std::sync::PoisonError::into_inner);
            files.map(SourceId).for_each(|id| reader.read(id, &mut memory));
            reader.finish()
        };
        let mut stretches: Vec<Stretch> = stretches(site).into_par_iter().map(read).collect();
        drop(memories);
        let mut forest = Self { files: vec![0], ..Self::default() };
        for stretch in &stretches {
            let before = forest.files.last().copied().unwrap_or(0);
            forest.files.extend(stretch.files.iter().map(|end| before + end));
        }
        forest.classify(&mut stretches);
        forest.spans = joined(&mut stretches, |stretch| &mut stretch.spans);
        forest.inner = joined(&mut stretches, |stretch| &mut stretch.inner);
        forest.size = joined(&mut stretches, |stretch| &mut stretch.size);
        forest.place();
        forest
    }

    /// Joins the classes of all stretches.
    fn classify(&mut self, stretches: &mut [Stretch]) {
        let mut all: Vec<(u64, u32, u32)> = Vec::new();
        for (number, stretch) in (0..).zip(&*stretches) {
            all.extend((0..).zip(&stretch.classes).map(|(at, class)| (class.hash, number, at)));
        }
        all.par_sort_unstable();
        // For each class of a stretch where it is met first: its stretch and its place there.
        let mut firsts: Vec<Vec<(u32, u32)>> =
            stretches.iter().map(|stretch| vec![(0, 0); stretch.classes.len()]).collect();
        for same in all.chunk_by(|a, b| a.0 == b.0) {
            same.iter().for_each(|&(_, stretch, at)| firsts[stretch as usize][at as usize] = (same[0].1, same[0].2));
        }
        drop(all);
        let mut names: Vec<Vec<u32>> = Vec::with_capacity(stretches.len());
        let mut before = 0;
        for (number, (stretch, firsts)) in (0..).zip(stretches.iter().zip(firsts)) {
            let mut own = Vec::with_capacity(firsts.len());
            for (at, (first, there)) in (0..).zip(firsts) {
                if (first, there) == (number, at) {
                    own.push(self.classes.len() as u32);
                    let class = stretch.classes[at as usize];
                    self.classes.push(Class { node: before + class.node, ..class });
                } else {
                    let known = if first == number { &own } else { &names[first as usize] };
                    own.push(known[there as usize]);
                }
            }
            names.push(own);
            before += stretch.class.len() as u32;
        }
        stretches.par_iter_mut().zip(names).for_each(|(stretch, names)| {
            stretch.classes = Vec::new();
            stretch.class.iter_mut().for_each(|class| *class = names[*class as usize]);
        });
        self.class = joined(stretches, |stretch| &mut stretch.class);
    }

    /// Finds the places of all classes.
    fn place(&mut self) {
        self.first = vec![0; self.classes.len() + 1];
        self.class.iter().for_each(|&class| self.first[class as usize + 1] += 1);
        (1..self.first.len()).for_each(|class| self.first[class] += self.first[class - 1]);
        // Some classes at a time, so that their places stay in the cache.
        let mut places = vec![0; self.class.len()];
        let mut parts = Vec::new();
        let (mut rest, mut class) = (&mut places[..], 0);
        while class < self.classes.len() {
            let start = self.first[class];
            let end = self.first.partition_point(|&first| first < start + PLACES).min(self.classes.len());
            let (part, behind) = rest.split_at_mut((self.first[end] - start) as usize);
            parts.push((class as u32..end as u32, part));
            (rest, class) = (behind, end);
        }
        parts.into_par_iter().for_each(|(classes, part)| {
            let first = &self.first[classes.start as usize..classes.end as usize];
            let mut next: Vec<u32> = first.iter().map(|at| at - first[0]).collect();
            for (node, &class) in (0..).zip(&self.class) {
                if classes.contains(&class) {
                    let at = &mut next[(class - classes.start) as usize];
                    part[*at as usize] = node;
                    *at += 1;
                }
            }
        });
        self.places = places;
    }

    /// The class of a node.
    pub fn of(&self, node: u32) -> &Class {
        &self.classes[self.class[node as usize] as usize]
    }

    /// How many nodes a node is, itself included.
    pub fn size(&self, node: u32) -> u32 {
        self.size[node as usize]
    }

    /// A hash of the name of a node; see [`crate::repeats::reading::labels::Label`].
    pub fn tag(&self, node: u32) -> u16 {
        self.of(node).tag
    }

    /// The first node of a class.
    pub fn first(&self, class: u32) -> u32 {
        self.classes[class as usize].node
    }

    /// The nodes of a class.
    pub fn places(&self, class: u32) -> &[u32] {
        &self.places[self.first[class as usize] as usize..self.first[class as usize + 1] as usize]
    }

    /// How often a class is in the site.
    pub fn count(&self, class: u32) -> u32 {
        self.first[class as usize + 1] - self.first[class as usize]
    }

    /// The children of a node.
    pub fn children(&self, node: u32) -> impl Iterator<Item = u32> + '_ {
        let end = node + self.size(node);
        let mut at = node + 1;
        std::iter::from_fn(move || {
            let child = (at < end).then_some(at)?;
            at += self.size(child);
            Some(child)
        })
    }

    /// The topmost nodes of a file.
    pub fn top(&self, file: u32) -> impl Iterator<Item = u32> + '_ {
        let end = self.files[file as usize + 1];
        let mut at = self.files[file as usize];
        std::iter::from_fn(move || {
            let node = (at < end).then_some(at)?;
            at += self.size(node);
            Some(node)
        })
    }

    /// The file that a node is in.
    pub fn file(&self, node: u32) -> u32 {
        self.files.partition_point(|&first| first <= node) as u32 - 1
    }

    /// The files that nodes, in order, are in.
    pub fn files_of(&self, nodes: impl IntoIterator<Item = u32>) -> Vec<u32> {
        let mut file = 0;
        let next = |node: u32| {
            // Mostly it is the next one.
            if self.files[file + 1] <= node {
                file += 1;
            }
            if self.files[file + 1] <= node {
                file += self.files[file..].partition_point(|&first| first <= node) - 1;
            }
            file as u32
        };
        nodes.into_iter().map(next).collect()
    }

    /// The place of a node in its file.
    pub fn span(&self, node: u32) -> Span {
        self.spans[node as usize]
    }

    /// Length in bytes.
    pub fn bytes(&self, node: u32) -> u32 {
        let Span { start, end } = self.span(node);
        end - start
    }

    /// The nodes around a node, the innermost first.
    pub fn ancestors(&self, node: u32) -> Vec<u32> {
        let mut around = Vec::new();
        let mut at = self.files[self.file(node) as usize];
        while at < node {
            if at + self.size(at) > node {
                around.push(at);
                at += 1;
            } else {
                at += self.size(at);
            }
        }
        around.reverse();
        around
    }
}

/// How many places are found in one go, about.
const PLACES: u32 = 1 << 21;

/// How many bytes are read in one go, about.
const STRETCH: usize = 16 << 20;

/// All files of a site, in stretches of about the same size.
fn stretches(site: &Site) -> Vec<Range<u32>> {
    let mut found = Vec::new();
    let (mut first, mut bytes) = (0, 0);
    for (id, template) in (1..).zip(&site.templates) {
        bytes += template.source.len();
        if bytes >= STRETCH || id as usize == site.templates.len() {
            found.push(first..id);
            (first, bytes) = (id, 0);
        }
    }
    found
}

/// One of the columns of all stretches, which give theirs away.
fn joined<T>(stretches: &mut [Stretch], column: impl Fn(&mut Stretch) -> &mut Vec<T>) -> Vec<T> {
    let count = stretches.iter_mut().map(|stretch| column(stretch).len()).sum();
    let mut all = Vec::with_capacity(count);
    stretches.iter_mut().for_each(|stretch| all.append(&mut std::mem::take(column(stretch))));
    all
}
