//! What a browser makes of a page: the tree of a standard HTML parser (html5ever), written so that two pages give the
//! same bytes only if they are rendered alike.
//!
//! Constructs are replaced by place holders before parsing, so that the parser sees neither their brackets nor their
//! quotes. Whitespace in the tree is decided by the tree: what its elements are, not what the tags say. The rules of
//! [`normal`](super::normal) hold for it, and where the tree cannot tell what a construct does, every whitespace
//! beside a construct counts.

mod holder;
mod sink;
mod writer;

use html5ever::tendril::{StrTendril, TendrilSink};
use html5ever::{ParseOpts, parse_document};
use rustc_hash::FxHashMap;

use super::normal::{Shows, outermost_exact};
use crate::dialect::{Kind, Part};
use crate::markup::elements::{Content, Inside, element};
use crate::markup::{ConstructId, Document, NodeId, NodeKind, TokenKind};
use holder::{Holder, RESERVED};
use sink::Sink;
use writer::Writer;

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
/// deeply, text is moved out of a table, away from constructs beside it, a condition may hold half of an element in
/// which every byte counts, or it has characters that nobody uses.
///
/// A construct before the head or behind the body may print nothing, or text, which is in the body and begins it. So
/// such a page is read in both ways, and its tree has both.
pub fn rendered(source: &[u8], document: &Document, shows: &[Shows]) -> Option<Rendered> {
    let is_deep = || document.nodes.iter().any(|node| node.depth > MAX_DEPTH);
    if memchr::memmem::find(source, RESERVED).is_some()
        || is_deep()
        || leaves_exact_open(source, document)
        || pairs_cross_text(source, document)
    {
        return None;
    }
    let parse = |as_text: &[usize], beside_all| {
        let held = Holder { source, document, shows, as_text, beside_all }.write();
        parse_document(Sink::default(), ParseOpts::default()).one(StrTendril::from(held))
    };
    let read = |as_text: &[usize], first: Sink| {
        if first.moved_from_table() {
            return None;
        }
        let sure = first.pairs_hold_whole_elements(document);
        let sink = if sure { first } else { parse(as_text, true) };
        let (nodes, quirks) = sink.into_parts();
        Some(Rendered { tree: Writer::new(&nodes, sure).write(quirks, source.len()), sure })
    };
    let silent = parse(&[], false);
    let outside = silent.outside();
    let mut rendered = read(&[], silent)?;
    if !outside.is_empty() {
        let printed = read(&outside, parse(&outside, false))?;
        rendered.tree.extend(printed.tree);
        rendered.sure &= printed.sure;
    }
    Some(rendered)
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect;
    use crate::prove::normal::significance;

    fn tree(source: &str) -> Option<Vec<u8>> {
        let dialect = dialect::builtin_named("brace-percent").expect("a built-in dialect");
        let document = Document::read(source.as_bytes(), &dialect);
        let shows = significance(source.as_bytes(), &document, |_| false);
        rendered(source.as_bytes(), &document, &shows).map(|rendered| rendered.tree)
    }

    #[track_caller]
    fn check(a: &str, b: &str, same: bool) {
        assert_eq!(tree(a) == tree(b), same, "{a}\n{b}");
    }

    #[test]
    fn spelling_does_not_matter_and_meaning_does() {
        check("<svg>{{ x }}<g></g></svg>", "<svg>{{ x }}<g> </g></svg>", false);
        check("<svg><title>{{ x }}</title><g></g></svg>", "<svg><title>{{ x }}</title><g> </g></svg>", true);
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
        for page in ["<table>{{ a }}x<tr>", "{% if a %}<pre>{% endif %} x"] {
            assert!(tree(page).is_none(), "{page}");
        }
    }

    #[test]
    fn what_prints_outside_the_body_may_be_text_that_begins_it() {
        for (a, b) in [
            ("x</body> {{ a }}", "x</body>{{ a }}"),
            ("x</body>{{ a }}</html> y", "x</body>{{ a }}</html>y"),
            ("x</body></html>{% if a %} y{% endif %}", "x</body></html> y{% if a %}{% endif %}"),
            ("{{ a }}<!doctype html> x", "{{ a }}<!doctype html>x"),
            ("{{ a }}<html> x", "{{ a }}<html>x"),
            ("<html>{{ a }}<head><title>t</title></head> <body>x", "<html>{{ a }}<head><title>t</title></head><body>x"),
            ("<html>{{ a }}<body> x", "<html>{{ a }}<body>x"),
        ] {
            check(a, b, false);
        }
        for (a, b) in [
            (
                "{% load a %}\n<!doctype html>\n<html>\n<head>\n  <title>t</title>\n</head>\n<body>\n  <p>x</p>",
                "{% load a %}\n<!doctype html>\n<html>\n<head>\n<title>t</title>\n</head>\n<body>\n<p>x</p>",
            ),
            ("<p>x</p>\n</body>\n{{ a }}\n</html>\n", "<p>x</p>\n</body>\n  {{ a }}\n</html>"),
        ] {
            check(a, b, true);
        }
    }

    #[test]
    fn what_may_be_moved_before_a_table_is_beside_the_words_there() {
        check("x <table>{{ a }}<tr></table>", "x<table>{{ a }}<tr></table>", false);
        check("x <table><tr><td>{{ a }}</table>", "x<table><tr><td>{{ a }}</table>", true);
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
