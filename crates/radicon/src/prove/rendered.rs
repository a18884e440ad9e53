//! What a browser makes of a page: the tree of a standard HTML parser (html5ever), written so that two pages give the
//! same bytes only if they are rendered alike.
//!
//! Constructs are replaced by place holders before parsing, so that the parser sees neither their brackets nor their
//! quotes. Whitespace in the tree is decided by the tree: what its elements are, not what the tags say. The rules of
//! [`normal`](super::normal) hold for it, and where the tree cannot tell what a construct does, every whitespace
//! beside a construct counts.

use std::borrow::Cow;
use std::cell::{Cell, RefCell};
use std::num::NonZeroUsize;

use html5ever::interface::{ElemName, ElementFlags, NodeOrText, QuirksMode, TreeSink};
use html5ever::tendril::{StrTendril, TendrilSink};
use html5ever::{Attribute, LocalName, Namespace, ParseOpts, QualName, local_name, ns, parse_document};
use rustc_hash::FxHashMap;
use xxhash_rust::xxh3::xxh3_64;

use super::normal::{Shows, construct_at, normal_run, outermost_exact, writes};
use crate::dialect::{Kind, Part};
use crate::markup::elements::{Attributed, Content, Flow, Inside, element, flow, inside};
use crate::markup::{Construct, ConstructId, Document, NodeId, NodeKind, Token, TokenKind};
use crate::text::Span;

/// Elements nested deeper than this are not parsed again: a standard parser takes time that grows with the square of
/// the depth.
const MAX_DEPTH: u16 = 2_000;

/// A page as it is rendered.
#[derive(PartialEq, Eq)]
pub struct Rendered {
    /// Its tree in a form that can be compared.
    pub tree: Vec<u8>,
    /// The tree is the same whichever conditions hold, but for what they hold.
    pub sure: bool,
}

/// How a page is rendered, given the whitespace that shows by its tags. `None` if that cannot be told: it nests too
/// deeply, text is moved away from constructs beside it (out of a table, into the body), a condition may hold half of an
/// element in which every byte counts, or it has characters that nobody uses.
pub fn rendered(source: &[u8], document: &Document, shows: &[Shows]) -> Option<Rendered> {
    let is_deep = || document.nodes.iter().any(|node| node.depth > MAX_DEPTH);
    if memchr::memmem::find(source, RESERVED).is_some()
        || is_deep()
        || leaves_exact_open(source, document)
        || pairs_cross_text(source, document)
    {
        return None;
    }
    let parse = |beside_all| {
        let held = Holder { source, document, shows, beside_all }.write();
        parse_document(Sink::default(), ParseOpts::default()).one(StrTendril::from(held))
    };
    let mut sink = parse(false);
    if sink.moved() {
        return None;
    }
    let sure = sink.pairs_hold_whole_elements(document);
    if !sure {
        sink = parse(true);
    }
    let nodes = sink.nodes.into_inner();
    let out = Vec::with_capacity(source.len());
    let mut writer = Writer { nodes: &nodes, out, sure, edge: sure, body_may_have_begun: false, pending: Vec::new() };
    writer.write(sink.quirks.get());
    Some(Rendered { tree: writer.out, sure })
}

/// Whether an element in which every byte counts has no end tag of its own, beside conditions: then what is in it may
/// depend on them.
fn leaves_exact_open(source: &[u8], document: &Document) -> bool {
    let has_controls = document.constructs.items.iter().any(|item| item.kind == Kind::Control);
    let is_open = |(id, inside): (NodeId, Inside)| {
        let node = &document.nodes[id];
        let is_exact = |inside| matches!(inside, Inside::Exact | Inside::Drawing);
        let ends_itself = || document.span(id).of(source).ends_with(b"/>");
        node.kind == NodeKind::Element && is_exact(inside) && node.close == node.last && !ends_itself()
    };
    has_controls && outermost_exact(source, document).any(is_open)
}

/// Whether a condition or loop begins in a tag, or in text without markup, and does not end there.
fn pairs_cross_text(source: &[u8], document: &Document) -> bool {
    let items = &document.constructs.items;
    // For each pair, by its opener, where its tags are: in the tag or text that begins with a token, or between tags.
    let mut places: FxHashMap<ConstructId, Option<usize>> = FxHashMap::default();
    let mut at = 0;
    let (mut tag, mut text) = (None, None);
    for (index, token) in document.tokens.iter().enumerate() {
        match token.kind {
            TokenKind::StartTag => {
                let content = element(token.name().of(source)).content;
                (tag, text) = (Some(index), (!matches!(content, Content::Markup | Content::Void)).then_some(index));
            }
            TokenKind::EndTag => (tag, text) = (Some(index), None),
            TokenKind::TagEnd => tag = None,
            _ => {}
        }
        let own = !matches!(token.kind, TokenKind::Construct | TokenKind::Raw | TokenKind::Escapable | TokenKind::Text);
        let place = if own { Some(index) } else { tag.or(text) };
        while let Some(item) = items.get(at).filter(|item| item.span.start < token.end) {
            let opener = if item.part == Part::Open { Some(ConstructId::at(at)) } else { item.partner };
            if let Some(opener) = opener.filter(|_| item.kind == Kind::Control)
                && *places.entry(opener).or_insert(place) != place
            {
                return true;
            }
            at += 1;
        }
    }
    false
}

/// The first bytes of the characters for private use that place holders are made of: U+10FE00 to U+10FFFF.
const RESERVED: &[u8] = b"\xf4\x8f\xb8";

/// Begins and ends a place holder.
const MARK: char = '\u{10fe00}';

/// The character for a byte that is no UTF-8, or that must reach the tree as it is.
fn held_byte(byte: u8) -> char {
    char::from_u32(MARK as u32 + 0x80 + u32::from(byte)).unwrap_or(MARK)
}

/// Writes a page with a place holder for each construct.
struct Holder<'s> {
    source: &'s [u8],
    document: &'s Document,
    shows: &'s [Shows],
    /// Whitespace counts beside all constructs, not only beside those that may print something.
    beside_all: bool,
}

impl Holder<'_> {
    fn write(&self) -> String {
        let tokens = &self.document.tokens;
        let mut out = String::with_capacity(self.source.len() + self.source.len() / 8);
        let begins_document = |token: &Token| match token.kind {
            TokenKind::Doctype => true,
            TokenKind::StartTag => {
                let name = token.name().of(self.source);
                [&b"html"[..], b"head", b"body"].iter().any(|known| name.eq_ignore_ascii_case(known))
            }
            _ => false,
        };
        if !tokens.iter().any(begins_document) {
            out.push_str("<body>");
        }
        let (mut in_tag, mut raw) = (false, false);
        for (index, token) in tokens.iter().enumerate() {
            match token.kind {
                TokenKind::StartTag => {
                    (in_tag, raw) = (true, !matches!(self.content(token), Content::Markup | Content::Void));
                    self.text(token, &mut out);
                    if let Some(attributes) = self.attributes_with_constructs(index) {
                        out.push_str(&format!(" {MARK}={:016x} ", xxh3_64(&attributes)));
                    }
                }
                TokenKind::EndTag => {
                    (in_tag, raw) = (true, false);
                    self.text(token, &mut out);
                }
                TokenKind::TagEnd => {
                    in_tag = false;
                    self.text(token, &mut out);
                }
                TokenKind::Construct if in_tag => {}
                TokenKind::Construct => self.construct(index, raw, &mut out),
                TokenKind::Text if self.shows[index].is_literal() => {
                    let bytes = token.span().of(self.source);
                    bytes.utf8_chunks().for_each(|chunk| {
                        let held = |c: char| if c.is_ascii_whitespace() { held_byte(c as u8) } else { c };
                        out.extend(
                            chunk.valid().chars().map(held).chain(chunk.invalid().iter().copied().map(held_byte)),
                        );
                    });
                }
                _ => self.text(token, &mut out),
            }
        }
        out
    }

    fn content(&self, tag: &Token) -> Content {
        element(tag.name().of(self.source)).content
    }

    /// The attributes of a tag as they are written, if constructs are among them: then their order counts, and which of
    /// them a condition holds.
    fn attributes_with_constructs(&self, tag: usize) -> Option<Vec<u8>> {
        let tokens = &self.document.tokens;
        let is_part =
            |token: &&Token| matches!(token.kind, TokenKind::Attribute | TokenKind::Gap | TokenKind::Construct);
        let count = tokens[tag + 1..].iter().take_while(is_part).count();
        let parts = tag + 1..tag + 1 + count;
        // One that prints may be a name.
        let is_held =
            |token: &Token| token.kind == TokenKind::Construct || self.document.constructs.any_in(token.name());
        tokens[parts.clone()].iter().any(is_held).then(|| normal_run(self.source, tokens, self.shows, parts))
    }

    /// A token as it is, but for the constructs within it and bytes that are no UTF-8.
    fn text(&self, token: &Token, out: &mut String) {
        let span = token.span();
        let mut from = span.start;
        for item in self.document.constructs.opaque_in(span) {
            self.bytes(Span::new(from, item.span.start.max(from)), out);
            out.push_str(&format!("{MARK}{:016x}{MARK}", xxh3_64(item.span.of(self.source))));
            from = item.span.end.min(span.end).max(from);
        }
        self.bytes(Span::new(from, span.end), out);
    }

    fn bytes(&self, span: Span, out: &mut String) {
        for chunk in span.of(self.source).utf8_chunks() {
            out.push_str(chunk.valid());
            out.extend(chunk.invalid().iter().copied().map(held_byte));
        }
    }

    /// A construct between tags, with the whitespace beside it where that counts.
    fn construct(&self, index: usize, raw: bool, out: &mut String) {
        let tokens = &self.document.tokens;
        let token = &tokens[index];
        let hash = xxh3_64(token.span().of(self.source));
        // What is left in a page that was put together was not found.
        let is_silent =
            |item: &Construct| matches!(item.kind, Kind::Control | Kind::Set | Kind::Import | Kind::Comment);
        let prints = !construct_at(self.document, token).is_some_and(is_silent);
        let blank_at = |at: Option<usize>, end: fn(&[u8]) -> Option<&u8>| {
            let text = at.and_then(|at| tokens.get(at)).filter(|token| token.kind == TokenKind::Text);
            text.and_then(|token| end(token.span().of(self.source))).is_some_and(|b| is_collapsible(*b))
        };
        let counts = prints || self.beside_all;
        let before = if counts && blank_at(index.checked_sub(1), <[u8]>::last) { "_" } else { "" };
        let after = if counts && blank_at(Some(index + 1), <[u8]>::first) { "_" } else { "" };
        let number = match construct_at(self.document, token) {
            Some(item) if item.kind == Kind::Control => self.document.constructs.place_of(item).to_string(),
            _ => String::new(),
        };
        match raw {
            true => out.push_str(&format!("{MARK}{hash:016x}{MARK}")),
            false => out.push_str(&format!("<!--{MARK}{before}{hash:016x}{after}{MARK}{number}-->")),
        }
    }
}

/// What a node of the tree is.
enum Data {
    Document,
    Doctype(String),
    Text(StrTendril),
    Comment(StrTendril),
    Element { name: QualName, attributes: Vec<Attribute> },
}

/// A node of the tree, with its place among others. Nothing is before the first node, so its number is never a link.
struct Node {
    data: Data,
    parent: Link,
    first: Link,
    last: Link,
    previous: Link,
    next: Link,
    /// Of a `template`: the fragment that it holds.
    content: Link,
}

type Link = Option<NonZeroUsize>;

/// Collects the parser's tree.
struct Sink {
    nodes: RefCell<Vec<Node>>,
    quirks: Cell<QuirksMode>,
    /// Text or elements were moved out of a table.
    fostered: Cell<bool>,
    /// A construct is right inside a table.
    in_table: Cell<bool>,
    /// A construct is before the head or behind the body: text there is moved into the body.
    outside: Cell<bool>,
    has_doctype: Cell<bool>,
    has_head: Cell<bool>,
    has_body: Cell<bool>,
}

impl Default for Sink {
    fn default() -> Self {
        let sink = Self {
            nodes: RefCell::default(),
            quirks: Cell::new(QuirksMode::NoQuirks),
            fostered: Cell::default(),
            in_table: Cell::default(),
            outside: Cell::default(),
            has_doctype: Cell::default(),
            has_head: Cell::default(),
            has_body: Cell::default(),
        };
        sink.add(Data::Document);
        sink
    }
}

impl Sink {
    /// Whether text was moved away from constructs beside it.
    fn moved(&self) -> bool {
        self.fostered.get() && self.in_table.get() || self.outside.get()
    }

    /// Whether the tags of each condition and loop have the same parents, but for inline elements.
    fn pairs_hold_whole_elements(&self, document: &Document) -> bool {
        let items = &document.constructs.items;
        let nodes = self.nodes.borrow();
        let number = |node: &Node| match &node.data {
            Data::Comment(text) => text.strip_prefix(MARK)?.rsplit_once(MARK)?.1.parse().ok(),
            _ => None,
        };
        // For each pair, by its opener, the parent of the last tag of it.
        let mut parents: FxHashMap<ConstructId, usize> = FxHashMap::default();
        let mut tags: Vec<(ConstructId, usize)> = Vec::new();
        for (at, node) in nodes.iter().enumerate() {
            if let (Some(number), Some(parent)) = (number(node), parent_of(&nodes, at)) {
                tags.push((ConstructId::at(number), parent));
            }
        }
        tags.sort_unstable();
        tags.into_iter().all(|(construct, parent)| {
            let item = &items[construct];
            let opener = if item.part == Part::Open { Some(construct) } else { item.partner };
            let before = opener.and_then(|opener| parents.insert(opener, parent));
            before.is_none_or(|before| before == parent || only_inline_between(&nodes, before, parent))
        })
    }

    fn add(&self, data: Data) -> usize {
        let mut nodes = self.nodes.borrow_mut();
        nodes.push(Node { data, parent: None, first: None, last: None, previous: None, next: None, content: None });
        nodes.len() - 1
    }

    /// Puts a node, or text, into a parent: before one of its children, or at the end.
    fn attach(&self, parent: usize, before: Link, child: NodeOrText<usize>) {
        let node = match child {
            NodeOrText::AppendNode(node) => node,
            NodeOrText::AppendText(text) => {
                let nodes = &mut *self.nodes.borrow_mut();
                let previous = before.map_or(nodes[parent].last, |before| nodes[before.get()].previous);
                if let Some(previous) = previous
                    && let Data::Text(known) = &mut nodes[previous.get()].data
                {
                    return known.push_tendril(&text);
                }
                nodes.push(Node {
                    data: Data::Text(text),
                    parent: None,
                    first: None,
                    last: None,
                    previous: None,
                    next: None,
                    content: None,
                });
                nodes.len() - 1
            }
        };
        self.detach(node);
        self.note_construct(parent, node);
        let nodes = &mut *self.nodes.borrow_mut();
        let link = NonZeroUsize::new(node);
        let previous = before.map_or(nodes[parent].last, |before| nodes[before.get()].previous);
        match previous {
            Some(previous) => nodes[previous.get()].next = link,
            None => nodes[parent].first = link,
        }
        match before {
            Some(before) => nodes[before.get()].previous = link,
            None => nodes[parent].last = link,
        }
        let own = &mut nodes[node];
        (own.parent, own.previous, own.next) = (Some(NonZeroUsize::MIN.saturating_add(parent)), previous, before);
    }

    fn parent(&self, node: usize) -> Option<usize> {
        parent_of(&self.nodes.borrow(), node)
    }

    fn detach(&self, node: usize) {
        let Some(parent) = self.parent(node) else { return };
        let nodes = &mut *self.nodes.borrow_mut();
        let (previous, next) = (nodes[node].previous.take(), nodes[node].next.take());
        match previous {
            Some(previous) => nodes[previous.get()].next = next,
            None => nodes[parent].first = next,
        }
        match next {
            Some(next) => nodes[next.get()].previous = previous,
            None => nodes[parent].last = previous,
        }
        nodes[node].parent = None;
    }

    /// Notes a construct that is put where text beside it is not.
    fn note_construct(&self, parent: usize, node: usize) {
        let nodes = self.nodes.borrow();
        let Data::Comment(text) = &nodes[node].data else { return };
        let Some(held) = text.strip_prefix(MARK) else { return };
        let prints = held.ends_with(MARK);
        match &nodes[parent].data {
            Data::Document if self.has_body.get() || prints && self.has_doctype.get() => self.outside.set(true),
            Data::Element { name, .. } => match name.local {
                local_name!("html") if self.has_body.get() || prints && !self.has_head.get() => self.outside.set(true),
                local_name!("table")
                | local_name!("thead")
                | local_name!("tbody")
                | local_name!("tfoot")
                | local_name!("tr")
                | local_name!("colgroup") => self.in_table.set(true),
                _ => {}
            },
            _ => {}
        }
    }
}

fn parent_of(nodes: &[Node], node: usize) -> Option<usize> {
    nodes[node].parent.map(|parent| parent.get() - 1)
}

/// Whether two nodes have the same elements above them, but for inline ones.
fn only_inline_between(nodes: &[Node], one: usize, other: usize) -> bool {
    let above = |node: usize| {
        std::iter::successors(Some(node), |node| parent_of(nodes, *node)).filter(|&node| match &nodes[node].data {
            Data::Element { name, attributes } => {
                let (flow, inside) = how(name, attributes, Inside::Words);
                flow != Flow::Inline || inside != Inside::Words
            }
            _ => true,
        })
    };
    above(one).next() == above(other).next()
}

/// The name of an element, as the parser asks for it.
#[derive(Debug)]
struct Name(QualName);

impl ElemName for Name {
    fn ns(&self) -> &Namespace {
        &self.0.ns
    }
    fn local_name(&self) -> &LocalName {
        &self.0.local
    }
}

impl TreeSink for Sink {
    type Handle = usize;
    type Output = Self;
    type ElemName<'a> = Name;

    fn finish(self) -> Self {
        self
    }
    fn parse_error(&self, _: Cow<'static, str>) {}
    fn get_document(&self) -> usize {
        0
    }
    fn elem_name<'a>(&'a self, target: &'a usize) -> Name {
        match &self.nodes.borrow()[*target].data {
            Data::Element { name, .. } => Name(name.clone()),
            _ => Name(QualName::new(None, Namespace::default(), LocalName::default())),
        }
    }
    fn create_element(&self, name: QualName, attributes: Vec<Attribute>, flags: ElementFlags) -> usize {
        match name.local {
            local_name!("head") => self.has_head.set(true),
            local_name!("body") => self.has_body.set(true),
            _ => {}
        }
        let element = self.add(Data::Element { name, attributes });
        if flags.template {
            let content = NonZeroUsize::new(self.add(Data::Document));
            self.nodes.borrow_mut()[element].content = content;
        }
        element
    }
    fn create_comment(&self, text: StrTendril) -> usize {
        self.add(Data::Comment(text))
    }
    fn create_pi(&self, target: StrTendril, data: StrTendril) -> usize {
        self.add(Data::Comment(StrTendril::from(format!("?{target} {data}"))))
    }
    fn append(&self, parent: &usize, child: NodeOrText<usize>) {
        self.attach(*parent, None, child);
    }
    fn append_before_sibling(&self, sibling: &usize, child: NodeOrText<usize>) {
        if let Some(parent) = self.parent(*sibling) {
            self.attach(parent, NonZeroUsize::new(*sibling), child);
        }
    }
    fn append_based_on_parent_node(&self, element: &usize, previous: &usize, child: NodeOrText<usize>) {
        self.fostered.set(true);
        match self.parent(*element) {
            Some(parent) => self.attach(parent, NonZeroUsize::new(*element), child),
            None => self.append(previous, child),
        }
    }
    fn append_doctype_to_document(&self, name: StrTendril, public: StrTendril, system: StrTendril) {
        self.has_doctype.set(true);
        let doctype = self.add(Data::Doctype(format!("{name} {public} {system}")));
        self.attach(0, None, NodeOrText::AppendNode(doctype));
    }
    fn get_template_contents(&self, target: &usize) -> usize {
        self.nodes.borrow()[*target].content.map_or(*target, NonZeroUsize::get)
    }
    fn same_node(&self, a: &usize, b: &usize) -> bool {
        a == b
    }
    fn set_quirks_mode(&self, mode: QuirksMode) {
        self.quirks.set(mode);
    }
    fn add_attrs_if_missing(&self, target: &usize, new: Vec<Attribute>) {
        if let Data::Element { attributes, .. } = &mut self.nodes.borrow_mut()[*target].data {
            for attribute in new {
                if !attributes.iter().any(|known| known.name == attribute.name) {
                    attributes.push(attribute);
                }
            }
        }
    }
    fn remove_from_parent(&self, target: &usize) {
        self.detach(*target);
    }
    fn reparent_children(&self, node: &usize, new_parent: &usize) {
        loop {
            let first = self.nodes.borrow()[*node].first;
            let Some(first) = first else { return };
            self.attach(*new_parent, None, NodeOrText::AppendNode(first.get()));
        }
    }
}

/// Writes a tree. Whitespace waits where it may turn out not to show.
struct Writer<'t> {
    nodes: &'t [Node],
    out: Vec<u8>,
    /// The elements are these, whichever conditions hold.
    sure: bool,
    /// Whitespace here does not show.
    edge: bool,
    /// A construct in the head may print text, with which the body begins.
    body_may_have_begun: bool,
    /// The places of spaces in `out` that show only if something inline follows.
    pending: Vec<usize>,
}

/// How an element takes part in the flow, and what becomes of whitespace in its text.
fn how(name: &QualName, attributes: &[Attribute], around: Inside) -> (Flow, Inside) {
    let mut attributed = Attributed::default();
    for attribute in attributes {
        if attribute.name.local.contains(MARK) {
            attributed.take_construct();
        } else {
            let name = match attribute.name.prefix.as_deref() {
                Some(prefix) => Cow::Owned(format!("{prefix}:{}", attribute.name.local)),
                None => Cow::Borrowed(&*attribute.name.local),
            };
            attributed.take(name.as_bytes(), attribute.value.as_bytes(), || !attribute.value.contains(MARK));
        }
    }
    let lower = name.local.to_ascii_lowercase();
    let is_html = name.ns == ns!(html);
    let flow = if is_html { flow(lower.as_bytes(), attributed) } else { Flow::Inline };
    (flow, inside(lower.as_bytes(), attributed, around))
}

/// What is written next: without recursion, since deep pages must not overflow the stack.
enum Step {
    Open(usize, Inside),
    Close(usize, Flow),
}

impl Writer<'_> {
    fn write(&mut self, quirks: QuirksMode) {
        self.out.extend_from_slice(format!("{quirks:?}\n").as_bytes());
        let mut steps = vec![Step::Open(0, Inside::Structure)];
        while let Some(step) = steps.pop() {
            match step {
                Step::Open(node, around) => self.open(node, around, &mut steps),
                Step::Close(node, flow) => {
                    let is_head = || matches!(&self.nodes[node].data, Data::Element { name, .. } if name.local == local_name!("head"));
                    let flow = if self.body_may_have_begun && is_head() { Flow::Hidden } else { flow };
                    self.before_tag(flow, false);
                    self.end_tag(node);
                }
            }
        }
        self.settle(!self.sure);
    }

    fn open(&mut self, node: usize, around: Inside, steps: &mut Vec<Step>) {
        match &self.nodes[node].data {
            Data::Document => self.children(node, around, steps),
            Data::Doctype(text) => self.out.extend_from_slice(format!("<!{text}>").as_bytes()),
            Data::Comment(text) => {
                let mut shown = &**text;
                if let Some(held) = text.strip_prefix(MARK) {
                    self.body_may_have_begun |= held.ends_with(MARK) && !self.in_body(node);
                    shown = &text[..MARK.len_utf8() + held.find(MARK).unwrap_or(held.len())];
                    self.settle(true);
                    self.edge = false;
                }
                self.out.extend_from_slice(format!("<!--{}-->", escaped(shown)).as_bytes());
            }
            Data::Text(text) => self.text(node, text, around),
            Data::Element { name, attributes } => {
                let (mut flow, mut inside) = how(name, attributes, around);
                let is_frame = matches!(name.local, local_name!("html") | local_name!("head") | local_name!("body"));
                if is_frame && self.body_may_have_begun {
                    (flow, inside) = (Flow::Hidden, Inside::Words);
                }
                self.before_tag(flow, true);
                self.start_tag(name, attributes);
                steps.push(Step::Close(node, flow));
                self.children(node, inside, steps);
                if let Some(content) = self.nodes[node].content {
                    self.children(content.get(), Inside::Words, steps);
                }
            }
        }
    }

    fn children(&self, node: usize, inside: Inside, steps: &mut Vec<Step>) {
        let last = self.nodes[node].last;
        let children = std::iter::successors(last, |child| self.nodes[child.get()].previous);
        steps.extend(children.map(|child| Step::Open(child.get(), inside)));
    }

    /// Whether a node is in the body, not right inside the head or the root.
    fn in_body(&self, node: usize) -> bool {
        let parent = parent_of(self.nodes, node).map(|parent| &self.nodes[parent].data);
        match parent {
            Some(Data::Element { name, .. }) => !matches!(name.local, local_name!("html") | local_name!("head")),
            _ => false,
        }
    }

    /// Whether a construct is before or after a node.
    fn is_beside_construct(&self, node: usize) -> bool {
        let is_construct = |link: Link| {
            let data = link.map(|node| &self.nodes[node.get()].data);
            matches!(data, Some(Data::Comment(text)) if text.starts_with(MARK))
        };
        is_construct(self.nodes[node].previous) || is_construct(self.nodes[node].next)
    }

    fn before_tag(&mut self, flow: Flow, start: bool) {
        // Where elements may be other ones, none is an edge.
        let flow = if self.sure || flow == Flow::Hidden { flow } else { Flow::Inline };
        match flow {
            Flow::Block => self.settle(false),
            Flow::Box => self.settle(start),
            Flow::Inline => self.settle(true),
            Flow::Hidden => return,
        }
        self.edge = flow == Flow::Block || flow == Flow::Box && start;
    }

    fn start_tag(&mut self, name: &QualName, attributes: &[Attribute]) {
        self.out.push(b'<');
        self.name(name);
        let mut attributes: Vec<&Attribute> = attributes.iter().collect();
        attributes.sort_by(|a, b| (&a.name.prefix, &a.name.local).cmp(&(&b.name.prefix, &b.name.local)));
        for Attribute { name, value } in attributes {
            self.out.push(b' ');
            self.out.extend_from_slice(name.prefix.as_deref().unwrap_or_default().as_bytes());
            self.out.push(b':');
            self.out.extend_from_slice(name.local.as_bytes());
            self.out
                .extend_from_slice(format!("=\"{}\"", value.replace('&', "&amp;").replace('"', "&quot;")).as_bytes());
        }
        self.out.push(b'>');
    }

    fn end_tag(&mut self, node: usize) {
        if let Data::Element { name, .. } = &self.nodes[node].data {
            self.out.extend_from_slice(b"</");
            self.name(name);
            self.out.push(b'>');
        }
    }

    fn name(&mut self, name: &QualName) {
        match name.ns {
            ns!(html) => {}
            ns!(svg) => self.out.extend_from_slice(b"svg:"),
            _ => self.out.extend_from_slice(b"math:"),
        }
        self.out.extend_from_slice(name.local.as_bytes());
    }

    fn text(&mut self, node: usize, text: &str, around: Inside) {
        let parent = self.nodes[node].parent.map(|parent| &self.nodes[parent.get() - 1].data);
        let is_html = |name: &&QualName| name.ns == ns!(html);
        let name = match parent {
            Some(Data::Element { name, .. }) => Some(name).filter(is_html).map(|name| &*name.local),
            _ => None,
        };
        match name {
            Some("title") => return self.out.extend_from_slice(escaped(text.trim_ascii()).as_bytes()),
            Some("script") if writes(text.as_bytes()) => {
                self.settle(true);
                self.edge = false;
            }
            _ => {}
        }
        if matches!(name, Some("script" | "style" | "noembed" | "noframes")) {
            return self.out.extend_from_slice(escaped(text).as_bytes());
        }
        if around == Inside::Exact {
            self.settle(true);
            self.edge = false;
            return self.out.extend_from_slice(escaped(text).as_bytes());
        }
        let is_structure = match around {
            Inside::Structure => true,
            // A construct may be text, and become one with the text beside it.
            Inside::Drawing => !self.is_beside_construct(node),
            Inside::Words | Inside::Exact => false,
        };
        let before_body = self.body_may_have_begun && !self.in_body(node);
        if is_structure && self.sure && !before_body && text.bytes().all(is_collapsible) {
            return;
        }
        let mut rest = text;
        while !rest.is_empty() {
            let blanks = rest.bytes().take_while(|b| is_collapsible(*b)).count();
            if blanks > 0 && !self.edge {
                self.pending.push(self.out.len());
                self.out.push(b' ');
            }
            rest = &rest[blanks..];
            let word = rest.bytes().position(is_collapsible).unwrap_or(rest.len());
            if word > 0 {
                self.settle(true);
                self.edge = false;
                self.out.extend_from_slice(escaped(&rest[..word]).as_bytes());
            }
            rest = &rest[word..];
        }
    }

    /// Spaces that wait show, or they go.
    fn settle(&mut self, shows: bool) {
        if shows || self.pending.is_empty() {
            return self.pending.clear();
        }
        let mut to = self.pending[0];
        for (at, &space) in self.pending.iter().enumerate() {
            let end = self.pending.get(at + 1).copied().unwrap_or(self.out.len());
            self.out.copy_within(space + 1..end, to);
            to += end - space - 1;
        }
        self.out.truncate(to);
        self.pending.clear();
    }
}

/// What collapses where it is rendered; a form feed shows.
const fn is_collapsible(byte: u8) -> bool {
    matches!(byte, b' ' | b'\t' | b'\n' | b'\r')
}

/// A text that cannot be taken for tags.
fn escaped(text: &str) -> Cow<'_, str> {
    if text.contains(['&', '<', '>']) {
        return text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").into();
    }
    text.into()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect;
    use crate::prove::normal::significance;

    #[track_caller]
    fn check(a: &str, b: &str, same: bool) {
        let dialect = dialect::builtin_named("brace-percent").expect("a built-in dialect");
        let tree = |source: &str| {
            let document = Document::read(source.as_bytes(), &dialect);
            let shows = significance(source.as_bytes(), &document, |_| false);
            rendered(source.as_bytes(), &document, &shows).map(|rendered| rendered.tree)
        };
        assert_eq!(tree(a) == tree(b), same, "{a}\n{b}");
    }

    #[test]
    fn spelling_does_not_matter_and_meaning_does() {
        check("<p class=a id=\"b\">x", "<P id='b'   class='a'>x</P>", true);
        check("<p>&amp;&lt;</p>", "<p>&#38;&lt;</p>", true);
        check("<ul><li>a<li>b</ul>", "<ul><li>a</li> <li>b</li></ul>", true);
        check("<p class=a>x</p>", "<p class=b>x</p>", false);
        check("<p>x</p>", "<p>y</p>", false);
        check("<p class='{{ \"a\" }}'>{{ x }}</p>", "<p class=\"{{ \"a\" }}\">{{ x }}</p>", true);
        check("<p>{{ x }}</p>", "<p>{{ y }}</p>", false);
        check("<p class='{{ x }}'>", "<p class='{{ y }}'>", false);
        check(
            "<table>{% for a in b %}<tr><td>x</td></tr>{% endfor %}</table>",
            "<table><tr><td>x</td></tr></table>",
            false,
        );
        check("<template><p>a</p></template>", "<template><p>b</p></template>", false);
    }

    #[test]
    fn what_an_output_prints_is_unknown_text() {
        for (a, b) in [
            ("<title>{{ a }} {{ b }}</title>", "<title>{{ a }}{{ b }}</title>"),
            ("<p>{{ a }} {{ b }}</p>", "<p>{{ a }}{{ b }}</p>"),
            ("<td> {{ a }}</td>", "<td>{{ a }}</td>"),
            ("<p>{{ a }} </p>", "<p>{{ a }}</p>"),
            ("{% for a in b %}{{ a }} {% endfor %}", "{% for a in b %}{{ a }}{% endfor %}"),
        ] {
            check(a, b, false);
        }
        check("<p>\n  {{ a }}\n</p>", "<p> {{ a }} </p>", true);
    }

    #[test]
    fn nothing_is_said_where_text_is_moved_away_from_constructs() {
        for page in ["x</body> {{ a }}", "<html>{{ a }}<body>x", "<table>{{ a }}x<tr>", "{% if a %}<pre>{% endif %} x"]
        {
            let dialect = dialect::builtin_named("brace-percent").expect("a built-in dialect");
            let document = Document::read(page.as_bytes(), &dialect);
            let shows = significance(page.as_bytes(), &document, |_| false);
            assert!(rendered(page.as_bytes(), &document, &shows).is_none(), "{page}");
        }
    }

    #[test]
    fn constructs_among_attributes_keep_their_place() {
        for (a, b) in [
            (
                "<input {% if a %} checked {% else %} disabled {% endif %}>",
                "<input {% if a %} disabled {% else %} checked {% endif %}>",
            ),
            ("<p {{ a }} class=x>", "<p class=x {{ a }}>"),
            ("<p {% if a %}class=x{% else %}class=y{% endif %}>", "<p {% if a %}class=x{% else %}class=z{% endif %}>"),
            ("<svg><use xlink:href=#a></svg>", "<svg><use href=#a></svg>"),
        ] {
            check(a, b, false);
        }
    }

    #[test]
    fn what_the_parser_ignores_is_no_edge() {
        for (a, b) in [
            ("<p>a</div> b</p>", "<p>a</div>b</p>"),
            ("<p>a</li> b", "<p>a</li>b"),
            ("a</section> b", "a</section>b"),
            ("<div>a<td> b</div>", "<div>a<td>b</div>"),
            ("<form>a<form> b</form>", "<form>a<form>b</form>"),
            ("a <noscript><p>x</p></noscript>b", "a<noscript><p>x</p></noscript>b"),
            ("a <template><p>x</p></template>b", "a<template><p>x</p></template>b"),
            ("a <div hidden>x</div>b", "a<div hidden>x</div>b"),
            ("a <dialog>x</dialog>b", "a<dialog>x</dialog>b"),
            ("a <datalist><option>x</datalist>b", "a<datalist><option>x</datalist>b"),
            ("a</body> b", "a</body>b"),
            ("x<table> a<tr><td>x</table>", "x<table>a<tr><td>x</table>"),
            ("<pre><object></pre> a  b", "<pre><object></pre> a b"),
            ("<svg xml:space=preserve><text> a</text></svg>", "<svg xml:space=preserve><text>a</text></svg>"),
            ("<div style='display: inline'>a</div> b", "<div style='display: inline'>a</div>b"),
            ("<div style='white-space: pre'>a  b</div>", "<div style='white-space: pre'>a b</div>"),
        ] {
            check(a, b, false);
        }
        check("<svg> <g> <path/> </g> </svg>", "<svg><g><path/></g></svg>", true);
        check("<table> <tr> <td>x</table>", "<table><tr><td>x</table>", true);
    }
}
