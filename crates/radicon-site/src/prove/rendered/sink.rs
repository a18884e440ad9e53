//! The tree of a parser, with what tells whether it shows the place of every construct.

use std::borrow::Cow;
use std::cell::{Cell, RefCell};
use std::num::NonZeroUsize;

use html5ever::interface::{ElemName, ElementFlags, NodeOrText, QuirksMode, TreeSink};
use html5ever::tendril::StrTendril;
use html5ever::{Attribute, LocalName, Namespace, QualName, local_name, ns};
use rustc_hash::FxHashMap;

use super::holder::MARK;
use crate::dialect::Part;
use crate::markup::{ConstructId, Document};

/// What a node of the tree is.
pub(super) enum Data {
    Document,
    Doctype(String),
    Text(StrTendril),
    Comment(StrTendril),
    Element { name: QualName, attributes: Vec<Attribute> },
}

/// A node of the tree, with its place among others. Nothing is before the first node, so its number is never a link.
pub(super) struct Node {
    pub data: Data,
    pub parent: Link,
    pub first: Link,
    pub last: Link,
    pub previous: Link,
    pub next: Link,
    /// Of a `template`: the fragment that it holds.
    pub content: Link,
    /// A construct in it may print what a parser moves out: of a table text, of a drawing elements of HTML, which end
    /// the drawing.
    pub gives: bool,
}

pub(super) type Link = Option<NonZeroUsize>;

/// Collects the parser's tree.
pub(super) struct Sink {
    nodes: RefCell<Vec<Node>>,
    quirks: Cell<QuirksMode>,
    /// Text or elements were moved out of a table.
    fostered: Cell<bool>,
    /// A construct is right inside a table.
    in_table: Cell<bool>,
    /// How many constructs there are, up to here.
    constructs: Cell<usize>,
    /// The constructs before the head or behind the body, by their number: text there is in the body.
    outside: RefCell<Vec<usize>>,
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
            constructs: Cell::default(),
            outside: RefCell::default(),
            has_head: Cell::default(),
            has_body: Cell::default(),
        };
        sink.add(Data::Document);
        sink
    }
}

impl Sink {
    /// Whether text was moved out of a table, away from constructs beside it.
    pub fn moved_from_table(&self) -> bool {
        self.fostered.get() && self.in_table.get()
    }

    /// The constructs before the head or behind the body: which of those between tags, in the order of the page.
    pub fn outside(&self) -> Vec<usize> {
        self.outside.borrow().clone()
    }

    /// Whether the tags of each condition and loop have the same parents, but for elements that mark words.
    pub fn pairs_hold_whole_elements(&self, document: &Document) -> bool {
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
            before.is_none_or(|before| before == parent || only_words_between(&nodes, before, parent))
        })
    }

    /// The nodes, and how the page is laid out.
    pub fn into_parts(self) -> (Vec<Node>, QuirksMode) {
        (self.nodes.into_inner(), self.quirks.get())
    }

    fn add(&self, data: Data) -> usize {
        let mut nodes = self.nodes.borrow_mut();
        nodes.push(Node {
            data,
            parent: None,
            first: None,
            last: None,
            previous: None,
            next: None,
            content: None,
            gives: false,
        });
        nodes.len() - 1
    }

    /// Puts a node, or text, into a parent: before one of its children, or at the end.
    fn attach(&self, parent: usize, before: Link, child: NodeOrText<usize>) {
        let node = match child {
            NodeOrText::AppendNode(node) => node,
            NodeOrText::AppendText(text) => {
                {
                    let nodes = &mut *self.nodes.borrow_mut();
                    let previous = before.map_or(nodes[parent].last, |before| nodes[before.get()].previous);
                    if let Some(Data::Text(known)) = previous.map(|previous| &mut nodes[previous.get()].data) {
                        return known.push_tendril(&text);
                    }
                }
                self.add(Data::Text(text))
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
        let nodes = &mut *self.nodes.borrow_mut();
        let Data::Comment(text) = &nodes[node].data else { return };
        let Some(held) = text.strip_prefix(MARK) else { return };
        let prints = held.ends_with(MARK);
        let put_outside = || self.outside.borrow_mut().push(self.constructs.get() - 1);
        match &nodes[parent].data {
            Data::Document if self.has_body.get() || prints => put_outside(),
            Data::Element { name, .. } => match name.local {
                local_name!("html") if self.has_body.get() || prints && !self.has_head.get() => put_outside(),
                _ if is_in_table(&name.local) => {
                    self.in_table.set(true);
                    let mut above = std::iter::successors(Some(parent), |node| parent_of(nodes, *node));
                    let table = above.find(|&node| match &nodes[node].data {
                        Data::Element { name, .. } => name.local == local_name!("table"),
                        _ => false,
                    });
                    if let Some(table) = table.filter(|_| prints) {
                        nodes[table].gives = true;
                    }
                }
                _ => {
                    let above = std::iter::successors(Some(parent), |node| parent_of(nodes, *node));
                    let drawing = above.take_while(|&node| is_drawn(&nodes[node])).last();
                    if let Some(drawing) = drawing.filter(|_| prints) {
                        nodes[drawing].gives = true;
                    }
                }
            },
            _ => {}
        }
    }
}

/// Whether a node is an element of a drawing or formula in which elements of HTML end that.
fn is_drawn(node: &Node) -> bool {
    let Data::Element { name, .. } = &node.data else { return false };
    let holds_html = matches!(name.local, local_name!("title") | local_name!("desc") | local_name!("foreignObject"));
    name.ns != ns!(html) && !holds_html
}

/// Whether an element is a table or a part of one that shows no text of its own.
fn is_in_table(name: &LocalName) -> bool {
    matches!(
        *name,
        local_name!("table")
            | local_name!("thead")
            | local_name!("tbody")
            | local_name!("tfoot")
            | local_name!("tr")
            | local_name!("colgroup")
    )
}

pub(super) fn parent_of(nodes: &[Node], node: usize) -> Option<usize> {
    nodes[node].parent.map(|parent| parent.get() - 1)
}

/// Whether two nodes have the same elements above them, but for those that mark words.
fn only_words_between(nodes: &[Node], one: usize, other: usize) -> bool {
    let marks_words = |node: &usize| match &nodes[*node].data {
        Data::Element { name, .. } => MARKS_OF_WORDS.contains(&&*name.local),
        _ => false,
    };
    let above = |node: usize| {
        let mut above = std::iter::successors(Some(node), |node| parent_of(nodes, *node));
        above.find(|node| !marks_words(node))
    };
    above(one) == above(other)
}

/// Elements that say something about words, and end nothing when they begin.
const MARKS_OF_WORDS: [&str; 24] = [
    "a", "abbr", "b", "big", "cite", "code", "del", "dfn", "em", "font", "i", "ins", "kbd", "label", "mark", "q", "s",
    "samp", "small", "span", "strong", "sub", "sup", "u",
];

/// The name of an element, as the parser asks for it.
#[derive(Debug)]
pub(super) struct Name(QualName);

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
        self.constructs.set(self.constructs.get() + usize::from(text.starts_with(MARK)));
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
