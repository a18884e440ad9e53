//! A page made ready for comparison: its tree, its normal form, and keys for
//! every node that say how alike two nodes are without looking into them.

use std::borrow::Cow;
use std::sync::{Arc, OnceLock};

use rustc_hash::FxHashMap;
use xxhash_rust::xxh3::{xxh3_64, xxh3_64_with_seed};

use crate::hash::mix;
use crate::markup::elements::{Flow, element, flow};
use crate::markup::{Document, NodeId, NodeKind, Token, TokenId, TokenKind};
use crate::prove::{Normal, Shows, Strength, construct_at, may_print, normal_run, significance};
use crate::text::{Span, is_blank};

/// What two nodes are compared by, from the strictest to the loosest. Hashes but for
/// the size; the short ones only lead an alignment. A site has millions of them.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Key {
    /// All of it, in normal form; 0 if it vanishes there.
    pub whole: u64,
    /// Its text alone, whatever elements it is in; 0 if it has none.
    pub text: u32,
    /// Name and id; 0 without an id.
    pub id: u32,
    /// Name and telling attributes.
    pub label: u32,
    /// Kind and name.
    pub tag: u16,
    /// Length in bytes, at most 65,535.
    pub size: u16,
}

impl Key {
    fn size(bytes: usize) -> u16 {
        u16::try_from(bytes).unwrap_or(u16::MAX)
    }

    /// One of so many bytes that is known by its label.
    pub fn labelled(label: u64, whole: u64, size: usize) -> Self {
        Self { whole, label: label as u32, tag: label as u16, size: Self::size(size), ..Self::default() }
    }
}

/// A page ready for comparison.
pub struct Page {
    pub path: String,
    pub source: Arc<Vec<u8>>,
    pub document: Document,
    pub keys: Vec<Key>,
    /// The places where known partials would be, each by its number.
    pub marks: Vec<(Span, usize)>,
    /// The whitespace that shows of each token.
    shows: Vec<Shows>,
    /// Every byte counts.
    exact: bool,
    /// The lines that the page sets for itself before its markup: they stay with it, under the parent line.
    pub head: Vec<u8>,
    /// Its file begins with a byte-order mark.
    pub mark: bool,
    /// How many elements have each class, counted when it is asked for.
    classes: OnceLock<FxHashMap<Box<[u8]>, usize>>,
}

/// A class that more elements of a page have says how they look, and names none of them.
const MOST_OF_A_CLASS: usize = 2;

/// So many nodes of a page are looked at for its root.
const MOST_LOOKED_AT: usize = 100;

/// The attributes that tell elements of one name apart.
const TELLING: [&str; 9] = ["class", "rel", "name", "property", "role", "type", "http-equiv", "for", "itemprop"];

impl Page {
    /// A page that was read.
    pub fn of(path: String, source: Arc<Vec<u8>>, mut document: Document, strength: Strength) -> Self {
        // All pages of a site are held at once, without room to grow.
        document.tokens = document.tokens.as_slice().into();
        document.nodes = document.nodes.as_slice().into();
        let shows = significance(&source, &document, |_| false);
        let mut page = Self {
            path,
            source,
            document,
            keys: Vec::new(),
            marks: Vec::new(),
            shows,
            exact: strength == Strength::Bytes,
            head: Vec::new(),
            mark: false,
            classes: OnceLock::new(),
        };
        page.keys = page.compute_keys();
        page
    }

    /// Some markup, for its elements alone; it has no keys.
    pub fn plain(markup: &[u8], document: Document) -> Self {
        let source = Arc::new(markup.to_vec());
        let shows = significance(&source, &document, |_| false);
        Self {
            path: String::new(),
            source,
            document,
            keys: Vec::new(),
            marks: Vec::new(),
            shows,
            exact: false,
            head: Vec::new(),
            mark: false,
            classes: OnceLock::new(),
        }
    }

    /// Whether a class is that of one thing on the page.
    pub fn is_telling_class(&self, class: &str) -> bool {
        let counted = || {
            let mut counts: FxHashMap<Box<[u8]>, usize> = FxHashMap::default();
            for node in self.document.all_below_root() {
                let classes = self.document.attribute(&self.source, node, "class").unwrap_or_default();
                for class in classes.split(|b| is_blank(*b)).filter(|class| !class.is_empty()) {
                    *counts.entry(class.into()).or_default() += 1;
                }
            }
            counts
        };
        self.classes.get_or_init(counted).get(class.as_bytes()).is_none_or(|count| *count <= MOST_OF_A_CLASS)
    }

    /// Keeps its path alone.
    pub fn let_go(&mut self) {
        let path = std::mem::take(&mut self.path);
        *self = Self { path, ..Self::plain(&[], Document::default()) };
    }

    /// Keys of all nodes, children before parents, in one pass.
    fn compute_keys(&self) -> Vec<Key> {
        let nodes = &self.document.nodes;
        let normal = match self.exact {
            true => Normal::exact(&self.source, &self.document.tokens),
            false => Normal::of(&self.source, &self.document),
        };
        let mut keys = vec![Key::default(); nodes.len()];
        for index in NodeId::all(nodes.len()).rev() {
            let node = &nodes[index];
            let mut key = keys[index.index()];
            let start = xxh3_64(normal.run(node.first, node.inner));
            let end = xxh3_64(normal.run(node.close, node.last));
            let normal_is_empty = normal.run(node.first, node.last).is_empty();
            key.whole = if normal_is_empty { 0 } else { mix(mix(key.whole, start), end) | 1 };
            key.size = Key::size(self.document.span(index).len());
            if node.kind == NodeKind::Text {
                let text = normal.run(node.first, node.last);
                key.text = if text.iter().all(|&b| is_blank(b)) { 0 } else { xxh3_64(text) as u32 | 1 };
            }
            let name = self.document.name(&self.source, index).to_ascii_lowercase();
            key.label = xxh3_64_with_seed(&name, node.kind as u64 + 1) as u32;
            key.tag = key.label as u16;
            for attribute in self.document.attributes(index) {
                let value = || attribute.value(&self.source).map_or(&[][..], |value| value.of(&self.source));
                let written = attribute.name().of(&self.source);
                if written.eq_ignore_ascii_case(b"id") {
                    key.id = mix(u64::from(key.tag), xxh3_64(value())) as u32 | 1;
                } else if TELLING.iter().any(|name| written.eq_ignore_ascii_case(name.as_bytes())) {
                    // A sum, so that order does not matter.
                    key.label =
                        key.label.wrapping_add(mix(xxh3_64(&written.to_ascii_lowercase()), xxh3_64(value())) as u32);
                }
            }
            keys[index.index()] = key;
            if index != NodeId::ROOT {
                let parent = &mut keys[node.parent.index()];
                if key.whole != 0 {
                    parent.whole = mix(parent.whole, key.whole);
                }
                // A sum, so that a link around a text does not matter.
                parent.text = parent.text.wrapping_add(key.text);
            }
        }
        keys
    }

    /// The bytes of a run of tokens.
    pub fn bytes(&self, run: Run) -> &[u8] {
        self.span(run).of(&self.source)
    }

    /// The normal form of a run of tokens.
    pub fn normal(&self, run: Run) -> Cow<'_, [u8]> {
        if self.exact {
            return self.bytes(run).into();
        }
        normal_run(&self.source, &self.document.tokens, &self.shows, run.0.index()..run.1.index()).into()
    }

    /// A hash of the normal form of a run of tokens; 0 if it vanishes there.
    pub fn hash(&self, run: Run) -> u64 {
        let first = self.document.nodes.partition_point(|node| node.first < run.0);
        self.hash_from(NodeId::at(first), run)
    }

    /// The same; the nodes that fill the run, if it is made of whole ones, are sought from one before them.
    pub fn hash_from(&self, node: NodeId, run: Run) -> u64 {
        if let Some(hash) = self.hash_of_siblings(node, run) {
            return hash;
        }
        let normal = self.normal(run);
        if normal.is_empty() { 0 } else { xxh3_64(&normal) | 1 }
    }

    /// The hash of a run that is made of whole siblings, from their keys alone.
    fn hash_of_siblings(&self, node: NodeId, run: Run) -> Option<u64> {
        let nodes = &self.document.nodes;
        let (mut hash, mut from, mut at) = (0, run.0, node.max(NodeId::ROOT.next()));
        while from < run.1 && nodes.get(at.index())?.first < from {
            at = nodes[at].next;
        }
        while from < run.1 {
            let node = nodes.get(at.index()).filter(|node| node.first == from && node.last <= run.1)?;
            match self.keys.get(at.index())?.whole {
                0 => {}
                whole => hash = mix(hash, whole) | 1,
            }
            (from, at) = (node.last, node.next);
        }
        Some(hash)
    }

    /// The text of the nodes in a run, of which one is at this node or behind it, as in [`Key::text`].
    pub fn text_from(&self, node: NodeId, run: Run) -> u32 {
        let nodes = &self.document.nodes;
        let (mut text, mut at) = (0_u32, node.max(NodeId::ROOT.next()));
        while let Some(node) = nodes.get(at.index()).filter(|node| node.first < run.1) {
            if node.first >= run.0 && node.last <= run.1 {
                text = text.wrapping_add(self.keys.get(at.index()).map_or(0, |key| key.text));
            }
            at = node.next;
        }
        text
    }

    /// The place of a run of tokens.
    pub fn span(&self, run: Run) -> Span {
        Span::new(self.document.offset(run.0), self.document.offset(run.1))
    }

    /// The partial that would be where some run lies, by its number.
    pub fn mark(&self, run: Run) -> Option<usize> {
        let span = self.span(run);
        let at = self.marks.partition_point(|(mark, _)| mark.end <= span.start);
        self.marks
            .get(at)
            .filter(|(mark, _)| mark.start <= span.start && span.end <= mark.end)
            .map(|(_, number)| *number)
    }

    /// The run without text at its ends that vanishes in the normal form.
    pub fn trimmed(&self, run: Run) -> Run {
        let vanishes = |token: TokenId| {
            self.document.tokens[token].kind == TokenKind::Text && self.normal((token, token.next())).is_empty()
        };
        let (mut first, mut last) = run;
        while first < last && vanishes(first) {
            first = first.next();
        }
        while first < last && vanishes(last.previous()) {
            last = last.previous();
        }
        (first, last)
    }

    /// Whether the byte at `offset` lies in text whose runs of whitespace count as one.
    pub fn is_free_blank(&self, offset: u32) -> bool {
        let tokens = &self.document.tokens;
        let index = tokens.partition_point(|token| token.end <= offset);
        let in_text = tokens.get(index).is_some_and(|token| token.kind == TokenKind::Text && token.start < offset);
        in_text && !self.shows[index].is_exact()
    }

    /// Whether it is a whole document, and no fragment of one.
    pub fn is_document(&self) -> bool {
        let names = self.document.all_below_root().map(|node| self.document.name(&self.source, node));
        names.take(MOST_LOOKED_AT).any(|name| name.eq_ignore_ascii_case(b"html") || name.eq_ignore_ascii_case(b"body"))
    }

    /// Whether the whitespace before an offset does not show.
    pub fn ends_free_blank(&self, offset: u32) -> bool {
        let index = self.document.tokens.partition_point(|token| token.end < offset);
        self.document.tokens.get(index).is_some_and(|token| token.kind == TokenKind::Text)
            && !self.shows[index].is_exact()
    }

    /// How a node takes part in the flow; `None` for what does not.
    pub fn flow(&self, node: NodeId) -> Option<Flow> {
        match self.document.nodes[node].kind {
            NodeKind::Element => {
                let name = self.document.name(&self.source, node).to_ascii_lowercase();
                Some(flow(&name, self.document.attributed(&self.source, node)))
            }
            NodeKind::Root | NodeKind::Doctype => Some(Flow::Block),
            NodeKind::Comment => Some(Flow::Hidden),
            NodeKind::Text if self.normal_is_empty(node) => None,
            _ => Some(Flow::Inline),
        }
    }

    /// Whether a run begins or ends with a construct that may print something: whitespace beside it shows.
    pub fn has_printing_end(&self, run: Run) -> bool {
        let is_blank_text = |token: &&Token| {
            token.kind == TokenKind::Text && token.span().of(&self.source).iter().all(|b| is_blank(*b))
        };
        let tokens = self.document.tokens_between(run.0, run.1);
        let first = tokens.iter().find(|token| !is_blank_text(token));
        let last = tokens.iter().rev().find(|token| !is_blank_text(token));
        let prints = |token: &Token| {
            token.kind == TokenKind::Construct && construct_at(&self.document, token).is_none_or(may_print)
        };
        first.is_some_and(prints) || last.is_some_and(prints)
    }

    /// For every element that occurs once: what it is and where, and the whitespace before it.
    pub fn blanks_before_nodes(&self) -> Vec<((u32, u64), u64)> {
        let mut found = Vec::new();
        for (index, node) in NodeId::each(&self.document.nodes).skip(1) {
            if node.kind == NodeKind::Element {
                let before = &self.source[..self.document.offset(node.first) as usize];
                let blanks = before.iter().rev().take_while(|b| is_blank(**b)).count();
                let key = (self.keys[node.parent.index()].label, self.keys[index.index()].whole);
                found.push((key, xxh3_64(&before[before.len() - blanks..])));
            }
        }
        found.sort_unstable();
        found.dedup_by_key(|(key, _)| *key);
        found
    }

    /// Whether every byte of whitespace in a node counts.
    pub fn is_preserved(&self, node: NodeId) -> bool {
        let mut at = node;
        while at != NodeId::ROOT {
            if element(self.document.name(&self.source, at)).preserves {
                return true;
            }
            at = self.document.nodes[at].parent;
        }
        false
    }

    fn normal_is_empty(&self, node: NodeId) -> bool {
        self.keys[node.index()].whole == 0
    }
}

/// A run of tokens: the first one and the one after the last.
pub type Run = (TokenId, TokenId);

#[cfg(test)]
mod tests {
    use super::*;
    use crate::propose::testing::page;

    #[test]
    fn keys_tell_how_alike_nodes_are() {
        let page = page("p.html", "<p class=\"a\">x</p><p class=\"a\">y</p><p class=\"b\">x</p> <div id=\"c\"></div>");
        let nodes: Vec<NodeId> = page.document.children(NodeId::ROOT).collect();
        let key = |at: usize| page.keys[nodes[at].index()];
        assert_ne!(key(0).whole, key(1).whole);
        assert_eq!((key(0).label, key(0).tag), (key(1).label, key(1).tag));
        assert_ne!(key(0).label, key(2).label);
        assert_eq!((key(0).text, key(0).tag), (key(2).text, key(2).tag));
        assert_eq!(key(3).whole, 0, "whitespace between blocks vanishes");
        assert!(key(4).id != 0 && key(0).id == 0);
    }

    #[test]
    fn runs_lose_the_whitespace_that_vanishes() {
        let page = page("p.html", "<div>  <p>x</p> </div>");
        let div = &page.document.nodes[NodeId(1)];
        let trimmed = page.trimmed((div.inner, div.close));
        assert_eq!(page.bytes(trimmed), b"<p>x</p>");
        assert_eq!(page.hash(trimmed), page.hash((div.inner, div.close)));
        assert!(page.is_free_blank(6) && !page.is_document());
    }

    #[test]
    fn what_is_preserved_keeps_its_whitespace() {
        let page = page("p.html", "<pre><b>x</b></pre><p>y</p>");
        assert!(page.is_preserved(NodeId(2)) && !page.is_preserved(NodeId(4)));
        assert_eq!((page.flow(NodeId(1)), page.flow(NodeId(2))), (Some(Flow::Block), Some(Flow::Inline)));
    }
}
