//! A stand-in for a browser: what a reader sees of a page. It shares nothing with the library but the parser, so that
//! it can judge what the proof takes for equal.
//!
//! White space as CSS Text 3 has it (2024, §4), elements by the default styles of HTML (§15), scripts run.

use std::rc::Rc;

use html5ever::tendril::TendrilSink;
use html5ever::{ParseOpts, parse_document};
use markup5ever_rcdom::{Node, NodeData, RcDom};

/// What is shown of a page, as a text: boxes in brackets, lines, marks for the ends of inline elements.
pub fn shown(page: &str) -> String {
    let dom = parse_document(RcDom::default(), ParseOpts::default()).one(page);
    let mut screen = Screen { out: String::new(), line_start: true, space: None };
    let style = Style { pre: false, svg: false };
    for child in dom.document.children.borrow().iter() {
        screen.node(child, style, "");
    }
    screen.end_line();
    screen.out
}

#[derive(Clone, Copy)]
struct Style {
    /// White space is kept.
    pre: bool,
    /// Within a drawing.
    svg: bool,
}

struct Screen {
    out: String,
    /// Nothing is on the line yet.
    line_start: bool,
    /// Where the last thing on the line is, if it is a space: it goes at the line's end.
    space: Option<usize>,
}

#[derive(PartialEq)]
enum Display {
    None,
    Block,
    /// A box among words.
    InlineBlock,
    /// A box out of the flow of words.
    Aside,
    Inline,
    Break,
}

fn attribute(node: &Node, name: &str) -> Option<String> {
    let NodeData::Element { attrs, .. } = &node.data else { return None };
    let attrs = attrs.borrow();
    let is_it = |attr: &&html5ever::Attribute| {
        let prefix = attr.name.prefix.as_ref().map(|prefix| format!("{prefix}:")).unwrap_or_default();
        format!("{prefix}{}", attr.name.local) == name
    };
    attrs.iter().find(is_it).map(|attr| attr.value.to_string())
}

fn display(node: &Node, name: &str) -> Display {
    let has = |attr: &str| attribute(node, attr).is_some();
    let style = attribute(node, "style").unwrap_or_default();
    if style.contains("display: inline") {
        return Display::Inline;
    }
    match name {
        "area" | "base" | "basefont" | "datalist" | "head" | "link" | "meta" | "noembed" | "noframes" | "noscript"
        | "param" | "rp" | "script" | "source" | "style" | "template" | "title" | "track" => Display::None,
        "input" if attribute(node, "type").is_some_and(|kind| kind.eq_ignore_ascii_case("hidden")) => Display::None,
        _ if has("hidden") || has("popover") => Display::None,
        "dialog" if !has("open") => Display::None,
        "dialog" => Display::Aside,
        "table" if attribute(node, "align").is_some_and(|side| side == "left" || side == "right") => Display::Aside,
        "br" => Display::Break,
        "button" | "select" | "textarea" | "marquee" => Display::InlineBlock,
        "html" | "body" | "address" | "article" | "aside" | "blockquote" | "caption" | "center" | "colgroup"
        | "col" | "dd" | "details" | "dir" | "div" | "dl" | "dt" | "fieldset" | "figcaption" | "figure" | "footer"
        | "form" | "frameset" | "h1" | "h2" | "h3" | "h4" | "h5" | "h6" | "header" | "hgroup" | "hr" | "legend"
        | "li" | "listing" | "main" | "menu" | "nav" | "ol" | "optgroup" | "option" | "p" | "plaintext" | "pre"
        | "search" | "section" | "summary" | "table" | "tbody" | "td" | "tfoot" | "th" | "thead" | "tr" | "ul"
        | "xmp" => Display::Block,
        _ => Display::Inline,
    }
}

impl Screen {
    fn node(&mut self, node: &Rc<Node>, style: Style, parent: &str) {
        match &node.data {
            NodeData::Text { contents } => self.text(&contents.borrow(), style, parent),
            NodeData::Element { name, .. } => self.element(node, &name.local, style),
            _ => {}
        }
    }

    fn element(&mut self, node: &Rc<Node>, name: &str, style: Style) {
        let in_svg = name == "svg" || style.svg && name != "foreignObject";
        let css = attribute(node, "style").unwrap_or_default();
        let pre = style.pre
            || matches!(name, "pre" | "listing" | "xmp" | "plaintext" | "textarea")
            || css.contains("white-space: pre")
            || in_svg && attribute(node, "xml:space").is_some_and(|space| space == "preserve");
        let inner = Style { pre, svg: in_svg };
        let shown = if in_svg { Display::Inline } else { display(node, name) };
        match shown {
            Display::None if name == "title" => {
                let text: String = node.children.borrow().iter().map(text_of).collect();
                self.out.push_str(&format!("title<{}>", text.split_ascii_whitespace().collect::<Vec<_>>().join(" ")));
            }
            Display::None if name == "head" => self.children(node, name, inner),
            Display::None => {}
            Display::Break => {
                self.end_line();
                self.out.push_str("<br>\n");
            }
            Display::Block => {
                self.end_line();
                self.tag(node, name);
                self.children(node, name, inner);
                self.end_line();
                self.out.push_str("]\n");
            }
            Display::InlineBlock | Display::Aside => {
                let line = (self.line_start, self.space);
                (self.line_start, self.space) = (true, None);
                self.tag(node, name);
                self.children(node, name, inner);
                self.end_line();
                self.out.push(']');
                (self.line_start, self.space) = if shown == Display::Aside { line } else { (false, None) };
            }
            Display::Inline => {
                let is_replaced = matches!(name, "img" | "input" | "video" | "audio" | "canvas" | "iframe" | "wbr");
                self.mark(&format!("<{name}{}", attributes(node)), is_replaced);
                self.children(node, name, inner);
                self.mark(">", false);
            }
        }
    }

    /// The mark of an inline element: no word, so that a space before it is one before what it holds.
    fn mark(&mut self, mark: &str, is_word: bool) {
        self.out.push_str(mark);
        if is_word {
            (self.line_start, self.space) = (false, None);
        }
    }

    fn tag(&mut self, node: &Node, name: &str) {
        self.out.push_str(&format!("[{name}{}\n", attributes(node)));
    }

    fn children(&mut self, node: &Rc<Node>, name: &str, style: Style) {
        node.children.borrow().iter().for_each(|child| self.node(child, style, name));
    }

    fn text(&mut self, text: &str, style: Style, parent: &str) {
        let is_blank = |c: char| matches!(c, ' ' | '\t' | '\n' | '\r');
        let shows_no_text =
            matches!(parent, "table" | "thead" | "tbody" | "tfoot" | "tr" | "colgroup" | "html" | "head")
                || matches!(parent, "select" | "optgroup" | "frameset")
                || style.svg && matches!(parent, "svg" | "g" | "defs" | "symbol");
        if shows_no_text && text.chars().all(is_blank) {
            return;
        }
        if style.pre {
            self.out.push_str(text);
            (self.line_start, self.space) = (text.is_empty() && self.line_start, None);
            return;
        }
        for c in text.chars() {
            if !is_blank(c) {
                self.out.push(c);
                (self.line_start, self.space) = (false, None);
            } else if !self.line_start && self.space.is_none() {
                self.space = Some(self.out.len());
                self.out.push(' ');
            }
        }
    }

    fn end_line(&mut self) {
        if let Some(at) = self.space {
            self.out.remove(at);
        }
        (self.line_start, self.space) = (true, None);
    }
}

fn attributes(node: &Node) -> String {
    let NodeData::Element { attrs, .. } = &node.data else { return String::new() };
    let mut all: Vec<String> = attrs
        .borrow()
        .iter()
        .map(|attr| format!(" {:?}{}={:?}", attr.name.prefix, attr.name.local, attr.value))
        .collect();
    all.sort();
    all.concat()
}

fn text_of(node: &Rc<Node>) -> String {
    match &node.data {
        NodeData::Text { contents } => contents.borrow().to_string(),
        _ => String::new(),
    }
}
