//! A page with place holders for its constructs, as a parser gets it.

use xxhash_rust::xxh3::xxh3_64;

use super::writer::is_collapsible;
use crate::dialect::Kind;
use crate::markup::elements::{Content, element};
use crate::markup::{Construct, Document, Token, TokenKind};
use crate::prove::normal::{Shows, construct_at, normal_run};
use crate::text::Span;

/// The first bytes of the characters for private use that place holders are made of: U+10FE00 to U+10FFFF.
pub(super) const RESERVED: &[u8] = b"\xf4\x8f\xb8";

/// Begins and ends a place holder.
pub(super) const MARK: char = '\u{10fe00}';

/// The character for a byte that is no UTF-8, or that must reach the tree as it is.
fn held_byte(byte: u8) -> char {
    char::from_u32(MARK as u32 + 0x80 + u32::from(byte)).unwrap_or(MARK)
}

/// Writes a page with a place holder for each construct.
pub(super) struct Holder<'s> {
    pub source: &'s [u8],
    pub document: &'s Document,
    pub shows: &'s [Shows],
    /// The constructs that print text, by their number among those between tags, in order. The others print nothing.
    pub as_text: &'s [usize],
    /// Whitespace counts beside all constructs, not only beside those that may print something.
    pub beside_all: bool,
}

impl Holder<'_> {
    /// The page as text.
    pub fn write(&self) -> String {
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
        let mut between_tags = 0;
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
                TokenKind::Construct => {
                    if !raw && self.as_text.binary_search(&between_tags).is_ok() {
                        out.push(MARK);
                    }
                    between_tags += usize::from(!raw);
                    self.construct(index, raw, &mut out);
                }
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
