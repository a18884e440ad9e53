//! The strength `dom`: what a standard HTML parser makes of a page.
//!
//! Constructs are replaced by place holders before parsing, so that the parser
//! sees neither their brackets nor their quotes; the tree is written out with
//! sorted attributes and compared without insignificant whitespace.

use std::borrow::Cow;
use std::cell::{Cell, RefCell};

use html5ever::interface::{ElemName, ElementFlags, NodeOrText, QuirksMode, TreeSink};
use html5ever::tendril::{StrTendril, TendrilSink};
use html5ever::{Attribute, LocalName, Namespace, ParseOpts, QualName, parse_document};
use xxhash_rust::xxh3::xxh3_64;

use super::normal::Normal;
use crate::dialect;
use crate::markup::{Document, NodeKind, TokenKind};

/// Elements nested deeper than this are not parsed again: a standard parser
/// takes time that grows with the square of the depth.
const MAX_DEPTH: u16 = 2_000;

/// The tree of a page in a form that can be compared, or `None` if it nests too deeply.
pub fn tree(source: &[u8], document: &Document) -> Option<Vec<u8>> {
    if document.nodes.iter().any(|node| node.depth > MAX_DEPTH) {
        return None;
    }
    let held = with_place_holders(source, document);
    let sink = parse_document(Sink::default(), ParseOpts::default()).from_utf8().one(&held[..]);
    let mut out = Vec::with_capacity(held.len());
    sink.write(&mut out);
    let again = Document::read(&out, &dialect::plain());
    Some(Normal::of(&out, &again.tokens).bytes)
}

/// The source with a name made of letters and digits for each construct.
fn with_place_holders<'s>(source: &'s [u8], document: &Document) -> Cow<'s, [u8]> {
    let items = &document.constructs.items;
    if items.is_empty() {
        return Cow::Borrowed(source);
    }
    let mut out = Vec::with_capacity(source.len());
    let mut at = 0;
    for item in items {
        if (item.span.start as usize) < at {
            continue;
        }
        out.extend_from_slice(&source[at..item.span.start as usize]);
        let name = format!("radicon{:016x}", xxh3_64(item.span.of(source)));
        let in_content = document.nodes.binary_search_by_key(&item.span.start, |node| document.offset(node.first));
        let is_node = |index: usize| matches!(document.nodes[index].kind, NodeKind::Construct | NodeKind::Pair);
        // Several nodes may start at one place; any of them will do.
        let token = document.tokens.partition_point(|token| token.start < item.span.start);
        let own =
            document.tokens.get(token).is_some_and(|t| t.kind == TokenKind::Construct && t.start == item.span.start);
        let raw = token.checked_sub(1).is_some_and(|before| {
            matches!(
                document.tokens[before].kind,
                TokenKind::Raw | TokenKind::Escapable | TokenKind::StartTag | TokenKind::Gap | TokenKind::Attribute
            )
        });
        if own && !raw && in_content.is_ok_and(is_node) {
            out.extend_from_slice(format!("<!--{name}-->").as_bytes());
        } else {
            out.extend_from_slice(name.as_bytes());
        }
        at = item.span.end as usize;
    }
    out.extend_from_slice(&source[at..]);
    Cow::Owned(out)
}

enum Data {
    Document,
    Doctype(String),
    Text(RefCell<String>),
    Comment(String),
    Element { name: QualName, attributes: RefCell<Vec<(String, String)>>, template: Cell<usize> },
}

struct Entry {
    data: Data,
    parent: Cell<usize>,
    children: RefCell<Vec<usize>>,
}

/// No node.
const NONE: usize = usize::MAX;

/// Collects the parser's tree in an arena.
struct Sink {
    nodes: RefCell<Vec<std::rc::Rc<Entry>>>,
}

impl Default for Sink {
    fn default() -> Self {
        let sink = Self { nodes: RefCell::new(Vec::new()) };
        sink.add(Data::Document);
        sink
    }
}

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

impl Sink {
    fn add(&self, data: Data) -> usize {
        let mut nodes = self.nodes.borrow_mut();
        nodes.push(std::rc::Rc::new(Entry { data, parent: Cell::new(NONE), children: RefCell::default() }));
        nodes.len() - 1
    }

    fn get(&self, node: usize) -> std::rc::Rc<Entry> {
        std::rc::Rc::clone(&self.nodes.borrow()[node])
    }

    fn attach(&self, parent: usize, place: usize, child: NodeOrText<usize>) {
        let entry = self.get(parent);
        let node = match child {
            NodeOrText::AppendNode(node) => node,
            NodeOrText::AppendText(text) => {
                let before = place.checked_sub(1).map(|place| entry.children.borrow()[place]);
                if let Some(Data::Text(known)) = before.map(|node| self.get(node)).as_deref().map(|entry| &entry.data) {
                    known.borrow_mut().push_str(&text);
                    return;
                }
                self.add(Data::Text(RefCell::new(text.to_string())))
            }
        };
        self.detach(node);
        let place = place.min(entry.children.borrow().len());
        entry.children.borrow_mut().insert(place, node);
        self.get(node).parent.set(parent);
    }

    fn detach(&self, node: usize) {
        let parent = self.get(node).parent.replace(NONE);
        if parent != NONE {
            self.get(parent).children.borrow_mut().retain(|&child| child != node);
        }
    }

    /// Writes the tree without recursion: deep pages must not overflow the stack.
    fn write(&self, out: &mut Vec<u8>) {
        enum Step {
            Open(usize),
            Close(String),
        }
        let mut steps = vec![Step::Open(0)];
        while let Some(step) = steps.pop() {
            let node = match step {
                Step::Open(node) => self.get(node),
                Step::Close(name) => {
                    out.extend_from_slice(format!("</{name}>").as_bytes());
                    continue;
                }
            };
            let push_children = |entry: &Entry, steps: &mut Vec<Step>| {
                steps.extend(entry.children.borrow().iter().rev().map(|&child| Step::Open(child)));
            };
            match &node.data {
                Data::Document => push_children(&node, &mut steps),
                Data::Doctype(text) => out.extend_from_slice(format!("<!doctype {text}>").as_bytes()),
                Data::Comment(text) => {
                    out.extend_from_slice(format!("<!--{}-->", text.replace("--", "- -")).as_bytes())
                }
                Data::Text(text) => {
                    let parent = self.get(node.parent.get());
                    let raw = matches!(&parent.data, Data::Element { name, .. }
                        if matches!(&*name.local, "script" | "style" | "xmp" | "iframe" | "noembed" | "noframes" | "plaintext"));
                    let text = text.borrow();
                    let escaped = if raw { text.clone() } else { text.replace('&', "&amp;").replace('<', "&lt;") };
                    out.extend_from_slice(escaped.as_bytes());
                }
                Data::Element { name, attributes, template } => {
                    let mut sorted = attributes.borrow().clone();
                    sorted.sort();
                    out.extend_from_slice(format!("<{}", name.local).as_bytes());
                    for (key, value) in sorted {
                        let value = value.replace('&', "&amp;").replace('"', "&quot;");
                        out.extend_from_slice(format!(" {key}=\"{value}\"").as_bytes());
                    }
                    out.push(b'>');
                    steps.push(Step::Close(name.local.to_string()));
                    push_children(&node, &mut steps);
                    if template.get() != NONE {
                        push_children(&self.get(template.get()), &mut steps);
                    }
                }
            }
        }
    }
}

fn pairs(attributes: Vec<Attribute>) -> Vec<(String, String)> {
    attributes.into_iter().map(|attribute| (attribute.name.local.to_string(), attribute.value.to_string())).collect()
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
        match &self.get(*target).data {
            Data::Element { name, .. } => Name(name.clone()),
            _ => Name(QualName::new(None, Namespace::default(), LocalName::default())),
        }
    }
    fn create_element(&self, name: QualName, attributes: Vec<Attribute>, flags: ElementFlags) -> usize {
        let template = if flags.template { self.add(Data::Document) } else { NONE };
        self.add(Data::Element { name, attributes: RefCell::new(pairs(attributes)), template: Cell::new(template) })
    }
    fn create_comment(&self, text: StrTendril) -> usize {
        self.add(Data::Comment(text.to_string()))
    }
    fn create_pi(&self, target: StrTendril, data: StrTendril) -> usize {
        self.add(Data::Comment(format!("?{target} {data}")))
    }
    fn append(&self, parent: &usize, child: NodeOrText<usize>) {
        let end = self.get(*parent).children.borrow().len();
        self.attach(*parent, end, child);
    }
    fn append_before_sibling(&self, sibling: &usize, child: NodeOrText<usize>) {
        let parent = self.get(*sibling).parent.get();
        if parent == NONE {
            return;
        }
        let place = self.get(parent).children.borrow().iter().position(|node| node == sibling).unwrap_or(0);
        self.attach(parent, place, child);
    }
    fn append_based_on_parent_node(&self, element: &usize, previous: &usize, child: NodeOrText<usize>) {
        if self.get(*element).parent.get() != NONE {
            self.append_before_sibling(element, child);
        } else {
            self.append(previous, child);
        }
    }
    fn append_doctype_to_document(&self, name: StrTendril, public: StrTendril, system: StrTendril) {
        let doctype = self.add(Data::Doctype(format!("{name} {public} {system}")));
        self.append(&0, NodeOrText::AppendNode(doctype));
    }
    fn get_template_contents(&self, target: &usize) -> usize {
        match &self.get(*target).data {
            Data::Element { template, .. } if template.get() != NONE => template.get(),
            _ => *target,
        }
    }
    fn same_node(&self, a: &usize, b: &usize) -> bool {
        a == b
    }
    fn set_quirks_mode(&self, _: QuirksMode) {}
    fn add_attrs_if_missing(&self, target: &usize, new: Vec<Attribute>) {
        if let Data::Element { attributes, .. } = &self.get(*target).data {
            let mut known = attributes.borrow_mut();
            for (key, value) in pairs(new) {
                if !known.iter().any(|(name, _)| *name == key) {
                    known.push((key, value));
                }
            }
        }
    }
    fn remove_from_parent(&self, target: &usize) {
        self.detach(*target);
    }
    fn reparent_children(&self, node: &usize, new_parent: &usize) {
        let children = std::mem::take(&mut *self.get(*node).children.borrow_mut());
        for &child in &children {
            self.get(child).parent.set(*new_parent);
        }
        self.get(*new_parent).children.borrow_mut().extend(children);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[track_caller]
    fn check(a: &str, b: &str, same: bool) {
        let dialect = dialect::builtin_named("brace-percent").expect("a built-in dialect");
        let tree = |source: &str| tree(source.as_bytes(), &Document::read(source.as_bytes(), &dialect));
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
}
