//! The tree: elements and construct pairs, nested; nothing repaired, nothing lost.

use super::construct::ConstructId;
use super::constructs::Constructs;
use super::elements::Attributed;
use super::lexer::{Token, TokenId, TokenKind, lex};
use super::nest::{Closes, Nest, TagName};
use crate::dialect::Part;
use crate::id;
use crate::text::Span;

/// The kind of a node.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum NodeKind {
    /// The whole source.
    Root,
    /// An element, from its start tag to its end.
    Element,
    /// Text, raw text or CDATA.
    Text,
    /// A comment of HTML, also a bogus one.
    Comment,
    /// The document type.
    Doctype,
    /// A single construct.
    Construct,
    /// A pair of constructs and what is between them.
    Pair,
    /// An end tag that closes nothing here, or a tag that is cut off.
    Stray,
}

id!(
    /// The number of a node within its document; the root is the first.
    pub NodeId: Node
);

impl NodeId {
    /// The whole source.
    pub const ROOT: Self = Self(0);
}

/// A stretch of tokens with its place in the tree. Nodes are kept in the order
/// of the source; the children of a node follow it.
#[derive(Clone, Copy, Debug)]
pub struct Node {
    /// Its kind.
    pub kind: NodeKind,
    /// The node that holds it; the root holds itself.
    pub parent: NodeId,
    /// The first node after all that it holds.
    pub next: NodeId,
    /// Its first token.
    pub first: TokenId,
    /// The token after its opening tag.
    pub inner: TokenId,
    /// The first token of its closing tag; `last` if it has none.
    pub close: TokenId,
    /// The token after it.
    pub last: TokenId,
    /// Depth, 0 for the root; 65,535 stands for all that is deeper.
    pub depth: u16,
}

/// An element and a construct pair of which each holds half the other.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Crossing {
    /// The tag without its other half on this side.
    pub tag: Span,
}

/// A source read: its constructs, tokens and tree.
#[derive(Clone, Debug, Default)]
pub struct Document {
    /// The dialect's constructs.
    pub constructs: Constructs,
    /// The tokens; they tile the source.
    pub tokens: Vec<Token>,
    /// The tree; the root comes first.
    pub nodes: Vec<Node>,
    /// The places where elements and construct pairs cross.
    pub crossings: Vec<Crossing>,
}

impl Document {
    /// Reads a source whose constructs are known. Any input is fine, and the time is linear in its length.
    pub fn with_constructs(source: &[u8], constructs: Constructs) -> Self {
        let mut document = Self::default();
        document.read_again(source, constructs);
        document
    }

    /// Reads another source in the memory of this one.
    pub fn read_again(&mut self, source: &[u8], constructs: Constructs) {
        let opaque = constructs.opaque();
        self.constructs = constructs;
        self.tokens.clear();
        self.tokens.reserve(source.len() / 12);
        lex(source, &opaque, &mut self.tokens);
        let nodes = std::mem::take(&mut self.nodes);
        (self.nodes, self.crossings) = Builder::build(source, &self.tokens, &self.constructs, nodes);
    }

    /// The bytes a node covers.
    pub fn span(&self, node: NodeId) -> Span {
        let node = &self.nodes[node];
        Span::new(self.offset(node.first), self.offset(node.last))
    }

    /// The byte offset at which a token starts; for the index past the last one, the end.
    pub fn offset(&self, token: TokenId) -> u32 {
        match self.tokens.get(token.index()) {
            Some(token) => token.start,
            None => self.tokens.last().map_or(0, |token| token.end),
        }
    }

    /// The tokens from one on and before another.
    pub fn tokens_between(&self, from: TokenId, end: TokenId) -> &[Token] {
        self.tokens.get(from.index()..end.index()).unwrap_or(&[])
    }

    /// All nodes but the root, in the order of the source.
    pub fn all_below_root(&self) -> impl DoubleEndedIterator<Item = NodeId> + Clone + use<> {
        NodeId::all(self.nodes.len()).skip(1)
    }

    /// The nodes that begin in a span, in the order of the source.
    pub fn nodes_in(&self, span: Span) -> impl DoubleEndedIterator<Item = NodeId> + use<> {
        let place = |offset| NodeId::at(self.nodes.partition_point(|node| self.offset(node.first) < offset));
        place(span.start).to(place(span.end))
    }

    /// The children of a node, in order.
    pub fn children(&self, node: NodeId) -> impl Iterator<Item = NodeId> + '_ {
        let end = self.nodes[node].next;
        let mut at = node.next();
        std::iter::from_fn(move || {
            let child = (at < end).then_some(at)?;
            at = self.nodes[child].next;
            Some(child)
        })
    }

    /// The children of a node that end before a token, the nearest first; found without the others.
    pub fn children_before(&self, node: NodeId, token: TokenId) -> impl Iterator<Item = NodeId> + '_ {
        let end = self.nodes.partition_point(|node| node.first < token);
        let first = self.child_at_or_above(node, end.min(self.nodes[node].next.index()));
        let before = move |child: &NodeId| self.child_at_or_above(node, child.index());
        std::iter::successors(first, before).filter(move |&child| self.nodes[child].last <= token)
    }

    /// The child that holds the last node before a number.
    fn child_at_or_above(&self, node: NodeId, end: usize) -> Option<NodeId> {
        let mut at = NodeId::at(end.checked_sub(1)?);
        while at > node && self.nodes[at].parent != node {
            at = self.nodes[at].parent;
        }
        (at > node).then_some(at)
    }

    /// The children of a node that begin at a token or after it, in order; found without the others.
    pub fn children_from(&self, node: NodeId, token: TokenId) -> impl Iterator<Item = NodeId> + '_ {
        let end = self.nodes[node].next;
        let start = self.nodes.partition_point(|node| node.first < token).max(node.index() + 1);
        let mut at = NodeId::at(start).min(end);
        // Within a child that begins before it.
        while at < end && self.nodes[at].parent != node {
            at = self.nodes[at].next;
        }
        std::iter::successors((at < end).then_some(at), move |child| {
            let next = self.nodes[*child].next;
            (next < end).then_some(next)
        })
    }

    /// The name of an element as written; empty for other nodes.
    pub fn name<'s>(&self, source: &'s [u8], node: NodeId) -> &'s [u8] {
        let node = &self.nodes[node];
        match (node.kind, self.tokens.get(node.first.index())) {
            (NodeKind::Element, Some(token)) => token.name().of(source),
            _ => &[],
        }
    }

    /// The tokens of an element's start tag that are attributes.
    pub fn attributes(&self, node: NodeId) -> impl Iterator<Item = &Token> {
        let node = &self.nodes[node];
        let end = if node.kind == NodeKind::Element { node.inner } else { node.first };
        self.tokens_between(node.first, end).iter().filter(|token| token.kind == TokenKind::Attribute)
    }

    /// What the attributes of an element say of its place in the flow.
    pub fn attributed(&self, source: &[u8], node: NodeId) -> Attributed {
        let mut found = Attributed::default();
        let Node { first, inner, .. } = self.nodes[node];
        for token in self.tokens_between(first, inner) {
            match token.kind {
                TokenKind::Construct => found.take_construct(),
                // One that prints may be a name.
                TokenKind::Attribute if self.constructs.any_in(token.name()) => found.take_construct(),
                TokenKind::Attribute => {
                    let value = token.value(source).unwrap_or_default();
                    found.take(token.name().of(source), value.of(source), || !self.constructs.any_in(value));
                }
                _ => {}
            }
        }
        found
    }

    /// The value of an attribute as written; empty if it has none.
    pub fn attribute<'s>(&self, source: &'s [u8], node: NodeId, name: &str) -> Option<&'s [u8]> {
        let found =
            self.attributes(node).find(|token| token.name().of(source).eq_ignore_ascii_case(name.as_bytes()))?;
        Some(found.value(source).map_or(&[], |value| value.of(source)))
    }
}

struct Builder<'a> {
    source: &'a [u8],
    tokens: &'a [Token],
    constructs: &'a Constructs,
    nodes: Vec<Node>,
    crossings: Vec<Crossing>,
    /// Open nodes, outermost first: the root, then those of the nest.
    stack: Vec<NodeId>,
    nest: Nest,
}

impl<'a> Builder<'a> {
    /// The nodes, in the memory of others, and the crossings.
    fn build(
        source: &'a [u8],
        tokens: &'a [Token],
        constructs: &'a Constructs,
        mut nodes: Vec<Node>,
    ) -> (Vec<Node>, Vec<Crossing>) {
        nodes.clear();
        nodes.reserve(tokens.len() / 2 + 1);
        let mut builder = Builder {
            source,
            tokens,
            constructs,
            nodes,
            crossings: Vec::new(),
            stack: Vec::new(),
            nest: Nest::default(),
        };
        builder.push(NodeKind::Root, 0, 0);
        builder.stack.push(NodeId::ROOT);
        builder.run();
        (builder.nodes, builder.crossings)
    }

    fn run(&mut self) {
        let mut at = 0;
        let mut construct = 0;
        while let Some(token) = self.tokens.get(at) {
            at = match token.kind {
                TokenKind::Text | TokenKind::Raw | TokenKind::Escapable | TokenKind::CData => {
                    self.leaf(NodeKind::Text, at, at + 1)
                }
                TokenKind::Comment | TokenKind::Bogus => self.leaf(NodeKind::Comment, at, at + 1),
                TokenKind::Doctype => self.leaf(NodeKind::Doctype, at, at + 1),
                TokenKind::Construct => {
                    while self
                        .constructs
                        .items
                        .get(construct)
                        .is_some_and(|item| item.span.start < token.start || !item.is_opaque())
                    {
                        construct += 1;
                    }
                    self.construct(construct, at)
                }
                TokenKind::StartTag => self.start_tag(at),
                TokenKind::EndTag => self.end_tag(at),
                TokenKind::Nothing | TokenKind::Attribute | TokenKind::Gap | TokenKind::TagEnd => {
                    self.leaf(NodeKind::Stray, at, at + 1)
                }
            };
        }
        let end = self.tokens.len();
        self.close_from(0, end, false);
        self.finish(end, end);
    }

    fn push(&mut self, kind: NodeKind, first: usize, inner: usize) -> NodeId {
        let index = NodeId::at(self.nodes.len());
        let parent = self.stack.last().copied().unwrap_or_default();
        let depth = u16::try_from(self.stack.len()).unwrap_or(u16::MAX);
        let (first, inner) = (TokenId::at(first), TokenId::at(inner));
        self.nodes.push(Node { kind, parent, next: index.next(), first, inner, close: inner, last: inner, depth });
        index
    }

    fn leaf(&mut self, kind: NodeKind, first: usize, last: usize) -> usize {
        self.push(kind, first, last);
        last
    }

    /// Ends the innermost open node, whose closing tag is `close..last`.
    fn finish(&mut self, close: usize, last: usize) {
        let next = NodeId::at(self.nodes.len());
        let Some(index) = self.stack.pop() else { return };
        let node = &mut self.nodes[index];
        (node.close, node.last, node.next) = (TokenId::at(close), TokenId::at(last), next);
    }

    /// Ends all that is open from a place on, at token `at`; elements that something
    /// else closes, though they ought to have an end tag, cross it.
    fn close_from(&mut self, place: u32, at: usize, crosses: bool) {
        for open in (place as usize..self.nest.depth()).rev() {
            if crosses && self.nest.needs_end(open) {
                let node = self.nodes[self.stack[open + 1]];
                self.crossings.push(Crossing { tag: self.tokens[node.first].span() });
            }
            self.finish(at, at);
        }
        self.nest.leave(place);
    }

    /// Ends what is open at a place, whose closing tag is `close..last`.
    fn close(&mut self, place: u32, close: usize, last: usize) {
        self.close_from(place + 1, close, true);
        self.finish(close, last);
        self.nest.leave(place);
    }

    /// The name of the tag at a token.
    fn name(&self, at: usize) -> TagName {
        TagName::of(self.tokens[at].name().of(self.source))
    }

    /// The token after a tag that starts at `at`; `None` if the tag is cut off.
    fn after_tag(&self, at: usize) -> Option<usize> {
        let inside = |token: &Token| {
            matches!(token.kind, TokenKind::Attribute | TokenKind::Gap | TokenKind::Construct | TokenKind::TagEnd)
        };
        let mut end = at + 1;
        while let Some(token) = self.tokens.get(end).filter(|token| inside(token)) {
            end += 1;
            if token.kind == TokenKind::TagEnd {
                return Some(end);
            }
        }
        None
    }

    fn start_tag(&mut self, at: usize) -> usize {
        let Some(end) = self.after_tag(at) else {
            return self.cut(at);
        };
        let name = self.name(at);
        if let Some(place) = self.nest.implied_end(&name) {
            self.close_from(place, at, false);
        }
        let index = self.push(NodeKind::Element, at, end);
        if !name.is_void(self.tokens[end - 1].span().len() == 2) {
            self.stack.push(index);
            self.nest.enter(&name);
        }
        end
    }

    fn end_tag(&mut self, at: usize) -> usize {
        let Some(end) = self.after_tag(at) else {
            return self.cut(at);
        };
        match self.nest.closes(&self.name(at)) {
            Closes::Place(place) => {
                self.close(place, at, end);
                return end;
            }
            Closes::Crossing => self.crossings.push(Crossing { tag: self.tokens[at].span() }),
            Closes::Nothing => {}
        }
        self.leaf(NodeKind::Stray, at, end)
    }

    /// A tag that the end of the file, or something else, cuts off.
    fn cut(&mut self, at: usize) -> usize {
        let mut end = at + 1;
        while self.tokens.get(end).is_some_and(|token| matches!(token.kind, TokenKind::Attribute | TokenKind::Gap)) {
            end += 1;
        }
        self.leaf(NodeKind::Stray, at, end)
    }

    fn construct(&mut self, index: usize, at: usize) -> usize {
        let Some(item) = self.constructs.items.get(index) else {
            return self.leaf(NodeKind::Construct, at, at + 1);
        };
        match item.part {
            Part::Open if item.partner.is_some_and(|closer| self.closes_in_content(closer)) => {
                let index = self.push(NodeKind::Pair, at, at + 1);
                self.stack.push(index);
                self.nest.enter_pair();
                return at + 1;
            }
            Part::Close => {
                let opener = self.constructs.partner(item).map(|opener| opener.span.start);
                if let Some(place) = self.nest.pair()
                    && Some(self.start_of(place)) == opener
                {
                    self.close(place, at, at + 1);
                    return at + 1;
                }
            }
            _ => {}
        }
        self.leaf(NodeKind::Construct, at, at + 1)
    }

    fn start_of(&self, place: u32) -> u32 {
        self.tokens[self.nodes[self.stack[place as usize + 1]].first].start
    }

    /// Whether a construct is a token of its own and not swallowed by another one.
    fn closes_in_content(&self, construct: ConstructId) -> bool {
        let start = self.constructs.items[construct].span.start;
        let at = self.tokens.partition_point(|token| token.start < start);
        if self.tokens.get(at).is_none_or(|token| token.start != start || token.kind != TokenKind::Construct) {
            return false;
        }
        // Inside a tag the token before is one of the tag's own.
        let before = self.tokens[..at].iter().rev().find(|token| token.kind != TokenKind::Construct);
        before.is_none_or(|token| {
            !matches!(token.kind, TokenKind::StartTag | TokenKind::EndTag | TokenKind::Attribute | TokenKind::Gap)
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect::builtin_named;

    /// The tree on one line: `name(children)`, text as `.`, comments as `!`.
    fn shape(source: &str) -> String {
        let dialect = builtin_named("brace-percent").expect("a built-in dialect");
        let document = Document::read(source.as_bytes(), &dialect);
        fn show(document: &Document, source: &[u8], node: NodeId, out: &mut String) {
            let word = match document.nodes[node].kind {
                NodeKind::Root => String::new(),
                NodeKind::Element => String::from_utf8_lossy(document.name(source, node)).to_ascii_lowercase(),
                NodeKind::Text => ".".into(),
                NodeKind::Comment => "!".into(),
                NodeKind::Doctype => "doctype".into(),
                NodeKind::Construct => "#".into(),
                NodeKind::Pair => "pair".into(),
                NodeKind::Stray => "stray".into(),
            };
            out.push_str(&word);
            let children: Vec<_> = document.children(node).collect();
            if !children.is_empty() {
                out.push('(');
                for (at, child) in children.into_iter().enumerate() {
                    if at > 0 {
                        out.push(' ')
                    }
                    show(document, source, child, out);
                }
                out.push(')');
            }
        }
        let mut out = String::new();
        show(&document, source.as_bytes(), NodeId::ROOT, &mut out);
        out
    }

    #[test]
    fn trees_nest_as_html_says() {
        for (source, expected) in [
            ("<ul><li>a<li>b</ul>c", "(ul(li(.) li(.)) .)"),
            ("<p>a<div>b</div>", "(p(.) div(.))"),
            ("<table><tr><td>a<td>b<tr><td>c</table>", "(table(tr(td(.) td(.)) tr(td(.))))"),
            ("<ul><li><ul><li>a</ul><li>b</ul>", "(ul(li(ul(li(.))) li(.)))"),
            ("<br>a<img></p>", "(br . img stray)"),
            ("<b><i>a</b>c</i>", "(b(i(.)) . stray)"),
            ("<div a", "(stray)"),
            ("{% if a %}<b>x</b>{% else %}y{% endif %}", "(pair(b(.) # .))"),
            ("{% if a %}<b>{% endif %}x</b>", "(pair(b) . stray)"),
            ("<b>{% if a %}</b>{% endif %}x</b>", "(b(pair(stray) .))"),
            ("<b {% if a %}c{% endif %}>x</b>", "(b(.))"),
            ("<b class=\"{% if a %}c{% endif %}\">{{ x }}</b>", "(b(#))"),
        ] {
            assert_eq!(shape(source), expected, "{source}");
        }
    }

    #[test]
    fn neighbours_among_children_are_those_of_a_walk() {
        let source = "<ul><li>a<b>c</b><li>d</ul>x<p>y <i>z</i><!-- c --></p><br>";
        let document = Document::read(source.as_bytes(), &crate::dialect::plain());
        for node in NodeId::all(document.nodes.len()) {
            let children: Vec<NodeId> = document.children(node).collect();
            for token in TokenId::all(document.tokens.len() + 1) {
                let before: Vec<NodeId> =
                    children.iter().rev().copied().filter(|child| document.nodes[*child].last <= token).collect();
                let from: Vec<NodeId> =
                    children.iter().copied().filter(|child| document.nodes[*child].first >= token).collect();
                assert_eq!(document.children_before(node, token).collect::<Vec<_>>(), before, "{node:?} {token:?}");
                assert_eq!(document.children_from(node, token).collect::<Vec<_>>(), from, "{node:?} {token:?}");
            }
        }
    }

    #[test]
    fn crossings_are_recorded() {
        let dialect = builtin_named("brace-percent").expect("a built-in dialect");
        let source = b"{% if a %}<main>{% endif %}x</main>";
        let document = Document::read(source, &dialect);
        let tags: Vec<_> = document.crossings.iter().map(|crossing| crossing.tag.text(source).into_owned()).collect();
        assert_eq!(tags, ["<main"]);
    }
}
