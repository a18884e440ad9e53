//! All nodes of all templates in normal form: two nodes of one class are the same.
//!
//! Nodes stand in preorder, file after file. White space between elements is
//! left out, attributes are hashed as a sum of pairs, so that their order does
//! not matter, and constructs by what they mean.

use rayon::prelude::*;
use rustc_hash::FxHashMap;
use xxhash_rust::xxh3::{xxh3_64, xxh3_64_with_seed};

use super::Normalise;
use super::urls::Urls;
use crate::dialect::{Kind, Part};
use crate::markup::elements::element;
use crate::markup::{Construct, Document, NodeKind, TokenKind};
use crate::site::{Site, Template};
use crate::text::{SourceId, Span, is_blank, trim_blanks};

/// One node while a file is read.
#[derive(Clone, Copy, Debug)]
struct Read {
    hash: u64,
    start: u32,
    inner: u32,
    end: u32,
    size: u32,
    label: u32,
    tag: u16,
}

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
        let read = |id: u32| Reader::read(site, SourceId(id), normalise, &urls);
        let files: Vec<Vec<Read>> = (0..site.templates.len() as u32).into_par_iter().map(read).collect();
        let count = files.iter().map(Vec::len).sum();
        let mut forest = Self {
            start: Vec::with_capacity(count),
            inner: Vec::with_capacity(count),
            end: Vec::with_capacity(count),
            size: Vec::with_capacity(count),
            label: Vec::with_capacity(count),
            tag: Vec::with_capacity(count),
            ..Self::default()
        };
        let mut hashes: Vec<(u64, u32)> = Vec::with_capacity(count);
        for file in files {
            forest.files.push(hashes.len() as u32);
            for node in file {
                hashes.push((node.hash, hashes.len() as u32));
                forest.start.push(node.start);
                forest.inner.push(node.inner);
                forest.end.push(node.end);
                forest.size.push(node.size);
                forest.label.push(node.label);
                forest.tag.push(node.tag);
            }
        }
        forest.files.push(hashes.len() as u32);
        hashes.par_sort_unstable();
        forest.class = vec![0; hashes.len()];
        forest.places = Vec::with_capacity(hashes.len());
        for (hash, node) in hashes {
            if forest.hash.last() != Some(&hash) {
                forest.first.push(forest.places.len() as u32);
                forest.hash.push(hash);
            }
            forest.class[node as usize] = forest.hash.len() as u32 - 1;
            forest.places.push(node);
        }
        forest.first.push(forest.places.len() as u32);
        forest
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

struct Reader<'a> {
    site: &'a Site,
    id: SourceId,
    template: &'a Template,
    document: Document,
    normalise: &'a Normalise,
    urls: &'a Urls,
    nodes: Vec<Read>,
    /// Known hashes of attributes as they are written.
    attributes: FxHashMap<u64, u64>,
}

impl<'a> Reader<'a> {
    fn read(site: &'a Site, id: SourceId, normalise: &'a Normalise, urls: &'a Urls) -> Vec<Read> {
        let template = site.get(id);
        if template.unreadable.is_some() {
            return Vec::new();
        }
        let document = Document::with_constructs(&template.source, template.constructs.clone());
        let nodes = Vec::with_capacity(document.nodes.len());
        let mut reader =
            Self { site, id, template, document, normalise, urls, nodes, attributes: FxHashMap::default() };
        reader.all();
        reader.nodes
    }

    /// Takes the nodes over and hashes them from the leaves up.
    fn all(&mut self) {
        // Ends of the open nodes, with their places here.
        let mut open: Vec<(u32, usize)> = Vec::new();
        let count = self.document.nodes.len() as u32;
        for at in 1..count {
            while open.last().is_some_and(|(end, _)| *end <= at) {
                self.close(open.pop());
            }
            if let Some(node) = self.node(at) {
                self.nodes.push(node);
                open.push((self.document.nodes[at as usize].next, self.nodes.len() - 1));
            }
        }
        while !open.is_empty() {
            self.close(open.pop());
        }
    }

    /// Folds the hashes of the children into a node's own.
    fn close(&mut self, node: Option<(u32, usize)>) {
        let Some((_, index)) = node else { return };
        let mut hash = self.nodes[index].hash;
        let mut at = index + 1;
        while at < self.nodes.len() {
            hash = mix(hash, self.nodes[at].hash);
            at += self.nodes[at].size as usize;
        }
        self.nodes[index].hash = hash;
        self.nodes[index].size = (self.nodes.len() - index) as u32;
    }

    fn node(&mut self, at: u32) -> Option<Read> {
        let node = self.document.nodes[at as usize];
        let span = self.document.span(at);
        let source = &self.template.source;
        let (hash, tag) = match node.kind {
            NodeKind::Text => (self.text(at, span)?, 0),
            NodeKind::Element => self.element(at),
            NodeKind::Construct | NodeKind::Pair => {
                let item = self.construct(self.document.offset(node.first))?;
                (self.meaning(&item), 1)
            }
            _ => (xxh3_64_with_seed(trim_blanks(span.of(source)), SEED_OTHER), 1),
        };
        let inner = self.document.offset(node.inner).min(span.end);
        Some(Read { hash, start: span.start, inner, end: span.end, size: 1, label: hash as u32, tag })
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
        let key = xxh3_64(span.of(source));
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
