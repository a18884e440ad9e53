//! A tree in a form that can be compared, without the whitespace that does not show.

use std::borrow::Cow;

use html5ever::interface::QuirksMode;
use html5ever::{Attribute, QualName, local_name, ns};

use super::holder::MARK;
use super::sink::{Data, Link, Node, parent_of};
use crate::markup::elements::{Attributed, Flow, Inside, flow, inside};
use crate::prove::normal::writes;

/// Writes a tree. Whitespace waits where it may turn out not to show.
pub(super) struct Writer<'t> {
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
pub(super) fn how(name: &QualName, attributes: &[Attribute], around: Inside) -> (Flow, Inside) {
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

impl<'t> Writer<'t> {
    /// A writer of nodes; `sure` if the elements are these, whichever conditions hold.
    pub fn new(nodes: &'t [Node], sure: bool) -> Self {
        Self { nodes, out: Vec::new(), sure, edge: sure, body_may_have_begun: false, pending: Vec::new() }
    }

    /// The tree; about so many bytes.
    pub fn write(mut self, quirks: QuirksMode, bytes: usize) -> Vec<u8> {
        self.out.reserve(bytes);
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
        self.out
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
                if self.nodes[node].gives {
                    flow = Flow::Inline;
                    inside = if name.ns == ns!(html) { inside } else { Inside::Exact };
                }
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
pub(super) const fn is_collapsible(byte: u8) -> bool {
    matches!(byte, b' ' | b'\t' | b'\n' | b'\r')
}

/// A text that cannot be taken for tags.
fn escaped(text: &str) -> Cow<'_, str> {
    if text.contains(['&', '<', '>']) {
        return text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").into();
    }
    text.into()
}
