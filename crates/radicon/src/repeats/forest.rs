//! All nodes of all templates in normal form: two nodes of one class are the same.
//!
//! Nodes stand in preorder, file after file. White space between elements is
//! left out, attributes are hashed as a sum of pairs, so that their order does
//! not matter, and constructs by what they mean.

use std::ops::Range;
use std::sync::atomic::{AtomicU32, Ordering};

use rayon::prelude::*;
use rustc_hash::FxHashMap;
use xxhash_rust::xxh3::{xxh3_64, xxh3_64_with_seed};

use super::Normalise;
use super::urls::Urls;
use crate::dialect::{Kind, Part};
use crate::markup::elements::element;
use crate::markup::{Construct, Document, NodeKind, TokenKind};
use crate::site::{Site, Template, folder};
use crate::text::{SourceId, Span, is_blank, trim_blanks};

/// The nodes of all templates.
#[derive(Debug, Default)]
pub(super) struct Forest {
    /// For each template the index of its first node; one more for the end.
    pub files: Vec<u32>,
    /// Nodes of one class are the same in normal form.
    pub class: Vec<u32>,
    /// First byte.
    pub start: Vec<u32>,
    /// After the opening tag.
    pub inner: Vec<u32>,
    /// After the last byte.
    pub end: Vec<u32>,
    /// How many nodes it is, itself included.
    pub size: Vec<u32>,
    /// Its tag and attributes, or its text.
    pub label: Vec<u32>,
    /// Its tag; 0 for a text, 1 for what is no element.
    pub tag: Vec<u16>,
    /// For each class the index of its first place among `places`; one more for the end.
    pub first: Vec<u32>,
    /// The nodes of each class, in order.
    pub places: Vec<u32>,
    /// For each class the hash of its content.
    pub hash: Vec<u64>,
}

impl Forest {
    pub fn read(site: &Site, normalise: &Normalise) -> Self {
        let urls = if normalise.urls { Urls::collect(site) } else { Urls::default() };
        let pieces = stretches(site).into_par_iter().map(|files| Reader::read(site, files, normalise, &urls));
        let mut pieces: Vec<Piece> = pieces.collect();
        let mut forest = Self { files: vec![0], ..Self::default() };
        for piece in &pieces {
            let before = forest.files.last().copied().unwrap_or(0);
            forest.files.extend(piece.ends.iter().map(|end| before + end));
        }
        let hashes = joined(&mut pieces, |piece| &mut piece.hash);
        forest.start = joined(&mut pieces, |piece| &mut piece.start);
        forest.inner = joined(&mut pieces, |piece| &mut piece.inner);
        forest.end = joined(&mut pieces, |piece| &mut piece.end);
        forest.size = joined(&mut pieces, |piece| &mut piece.size);
        forest.label = joined(&mut pieces, |piece| &mut piece.label);
        forest.tag = joined(&mut pieces, |piece| &mut piece.tag);
        drop(pieces);
        forest.classify(&hashes);
        forest
    }

    /// Gives nodes of one hash one class; classes stand by their hashes.
    fn classify(&mut self, hashes: &[u64]) {
        // Nodes whose hashes begin alike first, so that the rest sorts in the cache.
        const BEGINNINGS: usize = 4_096;
        let beginning = |hash: u64| (hash >> 52) as usize;
        let mut ends = vec![0_u32; BEGINNINGS + 1];
        hashes.iter().for_each(|&hash| ends[beginning(hash) + 1] += 1);
        (1..=BEGINNINGS).for_each(|at| ends[at] += ends[at - 1]);
        self.places = vec![0; hashes.len()];
        for (node, &hash) in hashes.iter().enumerate() {
            let end = &mut ends[beginning(hash)];
            self.places[*end as usize] = node as u32;
            *end += 1;
        }
        let of_node = |&node: &u32| hashes[node as usize];
        let sorted = self.places.par_chunk_by_mut(|a, b| beginning(of_node(a)) == beginning(of_node(b))).map(|nodes| {
            let mut pairs: Vec<(u64, u32)> = nodes.iter().map(|node| (of_node(node), *node)).collect();
            pairs.sort_unstable();
            let mut found: Vec<(u64, u32)> = Vec::new();
            for (place, (hash, node)) in nodes.iter_mut().zip(pairs) {
                *place = node;
                match found.last_mut().filter(|last| last.0 == hash) {
                    Some(last) => last.1 += 1,
                    None => found.push((hash, 1)),
                }
            }
            found
        });
        let found: Vec<Vec<(u64, u32)>> = sorted.collect();
        let mut at = 0;
        for (hash, count) in found.into_iter().flatten() {
            self.hash.push(hash);
            self.first.push(at);
            at += count;
        }
        self.first.push(at);
        let class: Vec<AtomicU32> = hashes.iter().map(|_| AtomicU32::new(0)).collect();
        (0..self.hash.len() as u32).into_par_iter().with_min_len(1_024).for_each(|number| {
            self.places(number).iter().for_each(|&node| class[node as usize].store(number, Ordering::Relaxed));
        });
        self.class = class.into_iter().map(AtomicU32::into_inner).collect();
    }

    /// How many classes there are.
    pub fn classes(&self) -> usize {
        self.hash.len()
    }

    /// The nodes of a class.
    pub fn places(&self, class: u32) -> &[u32] {
        &self.places[self.first[class as usize] as usize..self.first[class as usize + 1] as usize]
    }

    /// How often a class stands in the site.
    pub fn count(&self, class: u32) -> u32 {
        self.first[class as usize + 1] - self.first[class as usize]
    }

    /// The children of a node.
    pub fn children(&self, node: u32) -> impl Iterator<Item = u32> + '_ {
        let end = node + self.size[node as usize];
        let mut at = node + 1;
        std::iter::from_fn(move || {
            let child = (at < end).then_some(at)?;
            at += self.size[child as usize];
            Some(child)
        })
    }

    /// The topmost nodes of a file.
    pub fn top(&self, file: u32) -> impl Iterator<Item = u32> + '_ {
        let end = self.files[file as usize + 1];
        let mut at = self.files[file as usize];
        std::iter::from_fn(move || {
            let node = (at < end).then_some(at)?;
            at += self.size[node as usize];
            Some(node)
        })
    }

    /// The file that a node stands in.
    pub fn file(&self, node: u32) -> u32 {
        self.files.partition_point(|&first| first <= node) as u32 - 1
    }

    /// Length in bytes.
    pub fn bytes(&self, node: u32) -> u32 {
        self.end[node as usize] - self.start[node as usize]
    }

    /// The nodes around a node, the innermost first.
    pub fn ancestors(&self, node: u32) -> Vec<u32> {
        let mut around = Vec::new();
        let mut at = self.files[self.file(node) as usize];
        while at < node {
            if at + self.size[at as usize] > node {
                around.push(at);
                at += 1;
            } else {
                at += self.size[at as usize];
            }
        }
        around.reverse();
        around
    }
}

/// What tells the name of an element, in lower case, among the tags of nodes.
pub(super) fn tag_of(name: &[u8]) -> u16 {
    (xxh3_64_with_seed(name, SEED_ELEMENT) as u16).max(2)
}

const SEED_TEXT: u64 = 1;
const SEED_ELEMENT: u64 = 2;
const SEED_CONSTRUCT: u64 = 3;
const SEED_OTHER: u64 = 4;

/// How many bytes are read in one go, about.
const STRETCH: usize = 4 << 20;

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

/// One of the columns of all pieces, which give theirs away.
fn joined<T: std::marker::Copy>(pieces: &mut [Piece], column: impl Fn(&mut Piece) -> &mut Vec<T>) -> Vec<T> {
    let count = pieces.iter_mut().map(|piece| column(piece).len()).sum();
    let mut all = Vec::with_capacity(count);
    pieces.iter_mut().for_each(|piece| all.append(&mut std::mem::take(column(piece))));
    all
}

/// The nodes of some files, in columns.
#[derive(Default)]
struct Piece {
    hash: Vec<u64>,
    start: Vec<u32>,
    inner: Vec<u32>,
    end: Vec<u32>,
    size: Vec<u32>,
    label: Vec<u32>,
    tag: Vec<u16>,
    /// For each file the node behind its last one.
    ends: Vec<u32>,
}

/// Reads the nodes of files, one after the other.
struct Reader<'a> {
    site: &'a Site,
    id: SourceId,
    template: &'a Template,
    /// A hash of the folder; URLs are told by it.
    folder: u64,
    document: Document,
    normalise: &'a Normalise,
    urls: &'a Urls,
    piece: Piece,
    /// Known hashes of attributes as they are written, by folder.
    attributes: FxHashMap<u64, u64>,
    /// Ends of the open nodes, with their places in the piece.
    open: Vec<(u32, usize)>,
}

impl<'a> Reader<'a> {
    fn read(site: &'a Site, files: Range<u32>, normalise: &'a Normalise, urls: &'a Urls) -> Piece {
        let mut reader = Self {
            site,
            id: SourceId(files.start),
            template: site.get(SourceId(files.start)),
            folder: 0,
            document: Document::default(),
            normalise,
            urls,
            piece: Piece::default(),
            attributes: FxHashMap::default(),
            open: Vec::new(),
        };
        for id in files.map(SourceId) {
            reader.id = id;
            reader.template = site.get(id);
            reader.folder = xxh3_64(folder(&reader.template.path).as_bytes());
            if reader.template.unreadable.is_none() {
                reader.document.read_again(&reader.template.source, reader.template.constructs.clone());
                reader.all();
            }
            reader.piece.ends.push(reader.piece.hash.len() as u32);
        }
        reader.piece
    }

    /// Takes the nodes over and hashes them from the leaves up.
    fn all(&mut self) {
        let count = self.document.nodes.len() as u32;
        for at in 1..count {
            while self.open.last().is_some_and(|(end, _)| *end <= at) {
                self.close();
            }
            if self.node(at) {
                self.open.push((self.document.nodes[at as usize].next, self.piece.hash.len() - 1));
            }
        }
        while !self.open.is_empty() {
            self.close();
        }
    }

    /// Folds the hashes of the children into the innermost open node's own.
    fn close(&mut self) {
        let Some((_, index)) = self.open.pop() else { return };
        let piece = &mut self.piece;
        let mut hash = piece.hash[index];
        let mut at = index + 1;
        while at < piece.hash.len() {
            hash = mix(hash, piece.hash[at]);
            at += piece.size[at] as usize;
        }
        piece.hash[index] = hash;
        piece.size[index] = (piece.hash.len() - index) as u32;
    }

    /// Takes a node over, unless it is nothing but white space or leaves nothing in the page.
    fn node(&mut self, at: u32) -> bool {
        let node = self.document.nodes[at as usize];
        let span = self.document.span(at);
        let source = &self.template.source;
        let (hash, tag) = match node.kind {
            NodeKind::Text => match self.text(at, span) {
                Some(hash) => (hash, 0),
                None => return false,
            },
            NodeKind::Element => self.element(at),
            NodeKind::Construct | NodeKind::Pair => match self.construct(self.document.offset(node.first)) {
                Some(item) => (self.meaning(&item), 1),
                None => return false,
            },
            _ => (xxh3_64_with_seed(trim_blanks(span.of(source)), SEED_OTHER), 1),
        };
        let piece = &mut self.piece;
        piece.hash.push(hash);
        piece.start.push(span.start);
        piece.inner.push(self.document.offset(node.inner).min(span.end));
        piece.end.push(span.end);
        piece.size.push(1);
        piece.label.push(hash as u32);
        piece.tag.push(tag);
        true
    }

    /// Hash of a text without the white space that does not count; `None` if nothing is left.
    fn text(&self, at: u32, span: Span) -> Option<u64> {
        let bytes = span.of(&self.template.source);
        let parent = self.document.nodes[at as usize].parent;
        let preserved = element(self.document.name(&self.template.source, parent)).preserves;
        if preserved || !self.normalise.blanks {
            return (!bytes.iter().all(|&b| is_blank(b)) || preserved).then(|| xxh3_64_with_seed(bytes, SEED_TEXT));
        }
        let inner = trim_blanks(bytes);
        (!inner.is_empty()).then(|| xxh3_64_with_seed(&self.plain(inner), SEED_TEXT))
    }

    /// A text with single spaces and without character references.
    fn plain<'t>(&self, text: &'t [u8]) -> std::borrow::Cow<'t, [u8]> {
        let decoded = self.normalise.references && memchr::memchr(b'&', text).is_some();
        let mut blank = false;
        let spaced = text.iter().any(|&b| {
            let before = std::mem::replace(&mut blank, b <= b' ' && is_blank(b));
            blank && (before || b != b' ')
        });
        if !decoded && !spaced {
            return text.into();
        }
        let mut out = Vec::with_capacity(text.len());
        for word in text.split(|&b| is_blank(b)).filter(|word| !word.is_empty()) {
            if !out.is_empty() {
                out.push(b' ');
            }
            out.extend_from_slice(word);
        }
        if decoded {
            out = htmlize::unescape(String::from_utf8_lossy(&out)).into_owned().into_bytes();
        }
        out.into()
    }

    /// Hash of an element's tag and attributes, and what tells its name.
    fn element(&mut self, at: u32) -> (u64, u16) {
        let source = &self.template.source;
        let name = self.document.name(source, at);
        let tag = xxh3_64_with_seed(&self.name(name), SEED_ELEMENT);
        let mut sum = tag;
        let mut order = 1_u64;
        let node = self.document.nodes[at as usize];
        for index in node.first + 1..node.inner {
            let token = self.document.tokens[index as usize];
            let hash = match token.kind {
                TokenKind::Attribute => self.attribute(token.name(), token.value(source), token.span()),
                TokenKind::Construct => match self.construct(token.start) {
                    Some(item) => self.meaning(&item),
                    None => continue,
                },
                _ => continue,
            };
            // In a sum the order does not matter.
            sum = sum.wrapping_add(if self.normalise.attributes { hash } else { hash.wrapping_mul(order) });
            order += 2;
        }
        (sum, (tag as u16).max(2))
    }

    fn attribute(&mut self, name: Span, value: Option<Span>, span: Span) -> u64 {
        let source = &self.template.source;
        let key = xxh3_64_with_seed(span.of(source), self.folder);
        if let Some(known) = self.attributes.get(&key) {
            return *known;
        }
        let name = &*self.name(name.of(source));
        let value_hash = match value {
            None => 0,
            Some(value) if self.holds_constructs(value) => self.mixed(value),
            Some(value) if name == b"class" && self.normalise.attributes => {
                let words = value.of(source).split(|&b| is_blank(b)).filter(|word| !word.is_empty());
                words.map(|word| xxh3_64_with_seed(word, SEED_TEXT)).fold(0, u64::wrapping_add)
            }
            Some(value) => self
                .urls
                .canonical(&self.template.path, name, value.of(source))
                .unwrap_or_else(|| xxh3_64_with_seed(&self.plain(trim_blanks(value.of(source))), SEED_TEXT)),
        };
        let hash = mix(xxh3_64_with_seed(name, SEED_OTHER), value_hash);
        self.attributes.insert(key, hash);
        hash
    }

    /// A name, in lower case if letter case does not count.
    fn name<'t>(&self, name: &'t [u8]) -> std::borrow::Cow<'t, [u8]> {
        match self.normalise.case && name.iter().any(u8::is_ascii_uppercase) {
            true => name.to_ascii_lowercase().into(),
            false => name.into(),
        }
    }

    fn holds_constructs(&self, span: Span) -> bool {
        let items = &self.template.constructs.items;
        if items.is_empty() {
            return false;
        }
        let at = items.partition_point(|item| item.span.end <= span.start);
        items.get(at).is_some_and(|item| item.span.start < span.end)
    }

    /// Hash of a value with constructs in it.
    fn mixed(&self, span: Span) -> u64 {
        let source = &self.template.source;
        let items = &self.template.constructs.items;
        let first = items.partition_point(|item| item.span.end <= span.start);
        let (mut hash, mut at) = (SEED_TEXT, span.start);
        for item in items[first..].iter().take_while(|item| item.span.start < span.end) {
            hash = mix(hash, xxh3_64(Span::new(at, item.span.start.max(at)).of(source)));
            hash = mix(hash, self.meaning(item));
            at = item.span.end.min(span.end);
        }
        mix(hash, xxh3_64(Span::new(at, span.end).of(source)))
    }

    /// The construct that starts at a place; `None` for one that leaves nothing in the page.
    fn construct(&self, start: u32) -> Option<Construct> {
        let items = &self.template.constructs.items;
        let at = items.partition_point(|item| item.span.start < start);
        items[at..].iter().find(|item| item.is_opaque()).filter(|item| item.kind != Kind::Comment).copied()
    }

    /// Hash of what a construct means, the same in every dialect.
    fn meaning(&self, item: &Construct) -> u64 {
        let source = &self.template.source;
        if !self.normalise.constructs {
            return xxh3_64_with_seed(item.span.of(source), SEED_CONSTRUCT);
        }
        let kind = match item.kind {
            Kind::Slot | Kind::Fill => Kind::Block,
            kind => kind,
        };
        let index = self.template.constructs.items.partition_point(|other| other.span.start < item.span.start);
        let file = match self.site.links(self.id).target(index as u32) {
            Some(Ok(target)) => self.site.get(*target).path.as_bytes(),
            _ => item.target.of(source),
        };
        // A divider is told by its words; they differ from dialect to dialect.
        let part = if item.part == Part::Branch && item.expr.is_empty() { 7 } else { item.part as u64 };
        let start = mix(SEED_CONSTRUCT + part, xxh3_64(kind.word().as_bytes()));
        let parts = [file, item.name.of(source), item.expr.of(source), item.value.of(source)];
        let printed = if item.kind == Kind::Output && item.expr.is_empty() {
            [parts[0], parts[2], parts[1], parts[3]]
        } else {
            parts
        };
        printed.iter().fold(start, |hash, part| mix(hash, xxh3_64(&self.plain(trim_blanks(part)))))
    }
}

/// Folds a hash into another one; the order matters.
pub(super) fn mix(a: u64, b: u64) -> u64 {
    let x = (a ^ b.rotate_left(32)).wrapping_mul(0x9e37_79b9_7f4a_7c15);
    (x ^ (x >> 29)).wrapping_mul(0xbf58_476d_1ce4_e5b9).wrapping_add(b)
}
