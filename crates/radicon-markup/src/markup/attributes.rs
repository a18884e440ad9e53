//! Constructs that are written as attributes of elements, and constructs that
//! are inside tags.
//!
//! An attribute form stands for tags around the element that carries it: an
//! opener and a closer without bytes of their own, at the ends of the element's
//! content. The attribute itself is a construct too, which goes from the page;
//! if the whole element goes, the reach of opener and closer covers its tags.

use super::construct::{Construct, bare};
use super::constructs::{Added, Constructs};
use super::lexer::TokenKind;
use super::tree::{Document, NodeKind};
use crate::dialect::{Dialect, Form, Kind, Marks, Part};
use crate::markup::NodeId;
use crate::text::{Span, is_blank};

/// For each construct whether it is outside tags.
pub(super) fn outside_of_tags(source: &[u8], constructs: &Constructs) -> Vec<bool> {
    let document = Document::with_constructs(source, constructs.clone());
    let mut outside = vec![true; constructs.items.len()];
    let mut in_tag = false;
    let mut tokens = document.tokens.iter().peekable();
    for (index, item) in constructs.items.iter().enumerate() {
        while let Some(token) = tokens.next_if(|token| token.start <= item.span.start) {
            in_tag = match token.kind {
                TokenKind::StartTag | TokenKind::EndTag => true,
                TokenKind::Attribute | TokenKind::Gap | TokenKind::Construct => in_tag,
                _ => false,
            };
        }
        outside[index] = !in_tag;
    }
    outside
}

/// Adds what the attributes of elements stand for.
pub(super) fn add(source: &[u8], dialect: &Dialect, constructs: &mut Constructs) {
    let document = Document::with_constructs(source, std::mem::take(constructs));
    // At one place openers come before closers, and those before real tags.
    let mut all: Vec<Added> = Vec::new();
    let mut pairs = 0;
    for (at, node) in NodeId::each(&document.nodes).filter(|(_, node)| node.kind == NodeKind::Element) {
        for attribute in document.attributes(at) {
            let read = |(index, form): (u16, &'_ Form)| {
                let (end, captures) = form.open.read(source, attribute.start as usize, &Marks::default())?;
                (end == attribute.end as usize).then_some((index, captures))
            };
            let Some((index, captures)) = dialect.attributes().find_map(read) else { continue };
            let form = &dialect.forms[index as usize];
            let blanks = source[..attribute.start as usize].iter().rev().take_while(|&&b| is_blank(b)).count() as u32;
            let place = Span::new(attribute.start - blanks, attribute.end);
            let known = Construct {
                kind: form.kind,
                target: captures.target,
                name: captures.name,
                value: captures.value,
                expr: captures.expr,
                form: index,
                ..bare(place)
            };
            let is_region = !matches!(form.kind, Kind::Parent | Kind::Set | Kind::Import);
            if !(is_region && form.replaces_element) {
                let construct = Construct { part: Part::Attribute, ..known };
                all.push(Added { construct, pair: None, rank: 2 });
            }
            if !is_region {
                continue;
            }
            let content = Span::new(document.offset(node.inner), document.offset(node.close.max(node.inner)));
            let whole = document.span(at);
            let (open, close) = match form.replaces_element {
                true => (Span::new(whole.start, content.start), Span::new(content.end, whole.end)),
                false => (Span::new(content.start, content.start), Span::new(content.end, content.end)),
            };
            let empty = |at: u32| Span::new(at, at);
            let opener = Construct { part: Part::Open, span: empty(open.start), reach: open, ..known };
            let closer =
                Construct { part: Part::Close, reach: close, form: index, kind: form.kind, ..bare(empty(close.start)) };
            for (construct, rank) in [(opener, 0), (closer, 1)] {
                all.push(Added { construct, pair: Some(pairs), rank });
            }
            pairs += 1;
        }
    }
    *constructs = document.constructs;
    constructs.insert(all);
}

#[cfg(test)]
mod tests {
    use super::*;

    const DIALECT: &str = "name = 'dock'\nfiles = ['**']\n[forms]\n\
        block = '<* bay=\"<name>\">'\n\
        include = ['<* dock=\"<target>\">', { open = '<* moor=\"<target>\">', element = 'replaced' }]\n\
        output = '{{ <expr> }}'\n";

    /// Each construct as its kind, part and the text it leaves out.
    fn read(source: &str) -> Vec<(Kind, Part, String, Option<u32>)> {
        let dialect = Dialect::parse(DIALECT).expect("a dialect");
        let found = Constructs::read(source.as_bytes(), &dialect);
        let show = |item: &Construct| {
            let partner = item.partner.map(|at| at.0);
            (item.kind, item.part, item.reach.text(source.as_bytes()).into_owned(), partner)
        };
        found.items.iter().map(show).collect()
    }

    #[test]
    fn an_attribute_stands_for_tags_around_the_content() {
        let found = read("<p><b class=x bay=\"here\">{{ y }}</b>");
        let expected = [
            (Kind::Block, Part::Attribute, " bay=\"here\"".to_owned(), None),
            (Kind::Block, Part::Open, String::new(), Some(3)),
            (Kind::Output, Part::Single, "{{ y }}".to_owned(), None),
            (Kind::Block, Part::Close, String::new(), Some(1)),
        ];
        assert_eq!(found, expected);
    }

    #[test]
    fn an_element_that_is_replaced_goes_with_its_tags() {
        let found = read("<i moor=\"a.html\">old</i>");
        assert_eq!(found[0], (Kind::Include, Part::Open, "<i moor=\"a.html\">".to_owned(), Some(1)));
        assert_eq!(found[1], (Kind::Include, Part::Close, "</i>".to_owned(), Some(0)));
    }
}
