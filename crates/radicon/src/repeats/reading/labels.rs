//! What a text, a tag or a construct is in normal form, as a hash.
//!
//! Whitespace between elements is left out, attributes are hashed as a sum of
//! pairs, so that their order does not matter, and constructs by what they mean.

use std::borrow::Cow;

use rustc_hash::FxHashMap;
use xxhash_rust::xxh3::{xxh3_64, xxh3_64_with_seed};

use crate::dialect::{Kind, Part};
use crate::hash::mix;
use crate::markup::{Construct, ConstructId, Token, TokenKind};
use crate::repeats::Normalise;
use crate::repeats::reading::urls::{Here, Urls};
use crate::site::{Site, Template, folder};
use crate::text::{SourceId, Span, is_blank, single_spaced, trim_blanks};

const SEED_TEXT: u64 = 1;
const SEED_ELEMENT: u64 = 2;
const SEED_CONSTRUCT: u64 = 3;
const SEED_OTHER: u64 = 4;

/// The label of a node: all of it but the nodes that it holds.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(in crate::repeats) struct Label {
    pub hash: u64,
    /// A hash of its name; 0 for a text, 1 for a node that is no element.
    pub tag: u16,
}

/// A hash of the name of an element, in lower case.
pub(in crate::repeats) fn tag_of(name: &[u8]) -> u16 {
    (xxh3_64_with_seed(name, SEED_ELEMENT) as u16).max(2)
}

/// Labels the nodes of one template after the other.
pub(in crate::repeats) struct Labels<'a> {
    site: &'a Site,
    normalise: &'a Normalise,
    urls: &'a Urls,
    pub id: SourceId,
    pub template: &'a Template,
    /// A hash of the folder; URLs are told by it.
    pub folder: u64,
    here: Here,
    /// Known hashes of attributes as they are written, by folder.
    attributes: FxHashMap<u64, u64>,
}

impl<'a> Labels<'a> {
    /// Begins with a template.
    pub fn new(site: &'a Site, normalise: &'a Normalise, urls: &'a Urls, id: SourceId) -> Self {
        let template = site.get(id);
        let mut labels = Self {
            site,
            normalise,
            urls,
            id,
            template,
            folder: 0,
            here: Here::of(""),
            attributes: FxHashMap::default(),
        };
        labels.turn_to(id);
        labels
    }

    /// Goes on with another template.
    pub fn turn_to(&mut self, id: SourceId) {
        self.id = id;
        self.template = self.site.get(id);
        self.folder = xxh3_64(folder(&self.template.path).as_bytes());
        self.here = Here::of(&self.template.path);
    }

    /// The source of another template.
    pub fn source_of(&self, id: SourceId) -> &'a [u8] {
        &self.site.get(id).source
    }

    /// A text without the whitespace that does not count; `None` if nothing is left.
    pub fn text(&self, span: Span, preserved: bool) -> Option<Label> {
        let bytes = span.of(&self.template.source);
        let hash = if preserved || !self.normalise.blanks {
            let counts = preserved || !bytes.iter().all(|&b| is_blank(b));
            counts.then(|| xxh3_64_with_seed(bytes, SEED_TEXT))?
        } else {
            let inner = trim_blanks(bytes);
            (!inner.is_empty()).then(|| xxh3_64_with_seed(&self.plain(inner), SEED_TEXT))?
        };
        Some(Label { hash, tag: 0 })
    }

    /// A comment, a declaration or a tag that belongs nowhere.
    pub fn other(&self, span: Span) -> Label {
        Label { hash: xxh3_64_with_seed(trim_blanks(span.of(&self.template.source)), SEED_OTHER), tag: 1 }
    }

    /// A text with single spaces and without character references.
    fn plain<'t>(&self, text: &'t [u8]) -> Cow<'t, [u8]> {
        let spaced = single_spaced(text);
        if self.normalise.references && memchr::memchr(b'&', text).is_some() {
            return htmlize::unescape(String::from_utf8_lossy(&spaced)).into_owned().into_bytes().into();
        }
        spaced
    }

    /// An element, by the tokens of its opening tag.
    pub fn element(&mut self, tokens: &[Token]) -> Label {
        let source = &self.template.source;
        let (name, tokens) = match tokens.split_first() {
            Some((first, rest)) => (first.name().of(source), rest),
            None => (&[][..], tokens),
        };
        let name = xxh3_64_with_seed(&self.name(name), SEED_ELEMENT);
        let mut sum = name;
        let mut order = 1_u64;
        for token in tokens {
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
        Label { hash: sum, tag: (name as u16).max(2) }
    }

    /// Whether the label of an element depends on the folder it is in.
    pub fn is_placed(&self, tokens: &[Token]) -> bool {
        let source = &self.template.source;
        tokens.iter().any(|token| {
            token.kind == TokenKind::Attribute
                && token
                    .value(source)
                    .is_some_and(|value| self.urls.is_placed(&self.name(token.name().of(source)), value.of(source)))
        })
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
                .canonical(&self.here, name, value.of(source))
                .unwrap_or_else(|| xxh3_64_with_seed(&self.plain(trim_blanks(value.of(source))), SEED_TEXT)),
        };
        let hash = mix(xxh3_64_with_seed(name, SEED_OTHER), value_hash);
        self.attributes.insert(key, hash);
        hash
    }

    /// A name, in lower case if letter case does not count.
    fn name<'t>(&self, name: &'t [u8]) -> Cow<'t, [u8]> {
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

    /// The construct that starts at a place, by what it means; `None` if it leaves nothing in the page.
    pub fn construct_at(&self, start: u32) -> Option<Label> {
        Some(Label { hash: self.meaning(&self.construct(start)?), tag: 1 })
    }

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
        let file = match self.site.links(self.id).target(ConstructId::at(index)) {
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
