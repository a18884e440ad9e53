//! The normal form after the strength `blanks`: a page without its
//! insignificant whitespace.
//!
//! Whitespace counts by HTML's own defaults, since style sheets are not read:
//!
//! - beside and just inside the tags of block elements, and at both ends of the
//!   page, it does not show and is left out;
//! - elsewhere between words and inline elements a run of it counts as one space;
//! - inside `pre`, `textarea`, `script` and `style` every byte counts;
//! - between the attributes of a tag it separates, however long;
//! - `title` strips at its ends.
//!
//! Constructs count like words.

use std::ops::Range;

use crate::markup::elements::{Flow, element};
use crate::markup::{Token, TokenId, TokenKind};
use crate::text::{Span, is_blank, trim_blanks};

/// A source in normal form, with the way back.
#[derive(Clone, Debug, Default)]
pub struct Normal {
    /// The normal form.
    pub bytes: Vec<u8>,
    /// For every token, and the end, where it starts in `bytes`.
    pub at: Vec<u32>,
}

impl Normal {
    /// The normal form of a source that was split into `tokens`.
    pub fn of(source: &[u8], tokens: &[Token]) -> Self {
        let shows = significance(source, tokens, |_| false);
        let mut normal = Self { bytes: Vec::with_capacity(source.len()), at: Vec::with_capacity(tokens.len() + 1) };
        for (index, shows) in shows.iter().enumerate() {
            normal.at.push(normal.bytes.len() as u32);
            write_token(source, tokens, index, *shows, &mut normal.bytes);
        }
        normal.at.push(normal.bytes.len() as u32);
        normal
    }

    /// Every byte as it is, for the strength `bytes`.
    pub fn exact(source: &[u8], tokens: &[Token]) -> Self {
        let at = tokens.iter().map(|token| token.start).chain([source.len() as u32]).collect();
        Self { bytes: source.to_vec(), at }
    }

    /// The normal form without the spelling of tags either: names in lower case,
    /// attributes in order of their names, all values in the same quotes. It
    /// finds where two pages differ that a parser reads as different trees.
    #[cfg(feature = "dom")]
    pub(crate) fn without_spelling(source: &[u8], tokens: &[Token]) -> Self {
        let normal = Self::of(source, tokens);
        let mut loose = Self::default();
        for (index, token) in tokens.iter().enumerate() {
            loose.at.push(loose.bytes.len() as u32);
            match token.kind {
                TokenKind::StartTag | TokenKind::EndTag => {
                    loose.bytes.extend(token.span().of(source).to_ascii_lowercase());
                    let inside = |token: &&Token| {
                        matches!(token.kind, TokenKind::Attribute | TokenKind::Gap | TokenKind::Construct)
                    };
                    let inside = tokens[index + 1..].iter().take_while(inside);
                    let mut attributes: Vec<(Vec<u8>, &[u8])> = inside
                        .filter(|token| token.kind == TokenKind::Attribute)
                        .map(|token| {
                            let value = token.value(source).map_or(&[][..], |value| value.of(source));
                            (token.name().of(source).to_ascii_lowercase(), value)
                        })
                        .collect();
                    attributes.sort();
                    for (name, value) in attributes {
                        loose.bytes.extend([b" ", &name[..], b"=\"", value, b"\""].concat());
                    }
                }
                TokenKind::Attribute | TokenKind::Gap => {}
                TokenKind::TagEnd => loose.bytes.push(b'>'),
                _ => loose.bytes.extend_from_slice(normal.run(TokenId::at(index), TokenId::at(index + 1))),
            }
        }
        loose.at.push(loose.bytes.len() as u32);
        loose
    }

    /// The normal form of a run of tokens.
    pub fn run(&self, first: TokenId, last: TokenId) -> &[u8] {
        Span::new(self.at[first.index()], self.at[last.index()]).of(&self.bytes)
    }

    /// The offset in the source of an offset in the normal form.
    pub fn source_offset(&self, source: &[u8], tokens: &[Token], offset: u32) -> u32 {
        let index = self.at.partition_point(|&at| at <= offset).saturating_sub(1);
        let Some(token) = tokens.get(index) else {
            return source.len() as u32;
        };
        let mut wanted = offset - self.at[index];
        let bytes = token.span().of(source);
        if wanted as usize >= bytes.len() || token.kind != TokenKind::Text {
            return token.start + wanted.min(bytes.len() as u32);
        }
        // A run of whitespace counts once.
        let normal = self.run(TokenId::at(index), TokenId::at(index + 1));
        let skipped = if normal.first().is_some_and(|b| !is_blank(*b)) {
            bytes.iter().take_while(|b| is_blank(**b)).count()
        } else {
            0
        };
        let mut at = skipped;
        while wanted > 0 && at < bytes.len() {
            let run = bytes[at..].iter().take_while(|b| is_blank(**b)).count();
            at += if normal.len() == bytes.len() { 1 } else { run.max(1) };
            wanted -= 1;
        }
        token.start + at as u32
    }
}

/// The normal form of a run of tokens, given the whitespace that shows of each.
pub(crate) fn normal_run(source: &[u8], tokens: &[Token], shows: &[Shows], run: Range<usize>) -> Vec<u8> {
    let length: usize = tokens[run.clone()].iter().map(|token| token.span().len()).sum();
    let mut bytes = Vec::with_capacity(length);
    run.for_each(|index| write_token(source, tokens, index, shows[index], &mut bytes));
    bytes
}

fn write_token(source: &[u8], tokens: &[Token], index: usize, shows: Shows, out: &mut Vec<u8>) {
    let token = &tokens[index];
    let bytes = token.span().of(source);
    match token.kind {
        TokenKind::Text => write_text(bytes, shows, out),
        TokenKind::Escapable if shows.0 & STRIPPED != 0 => out.extend_from_slice(trim_blanks(bytes)),
        TokenKind::Gap => {
            write_gap(source, token, tokens.get(index + 1), last_unquoted(source, tokens, index), out);
        }
        TokenKind::Attribute => write_attribute(source, token, out),
        _ => out.extend_from_slice(bytes),
    }
}

/// Which whitespace of a text shows.
#[derive(Clone, Copy, Default)]
pub(crate) struct Shows(u8);

/// The whitespace at the start of a text counts.
const LEAD: u8 = 1;
/// The whitespace at its end counts.
const TRAIL: u8 = 2;
/// Every byte of it counts.
const EXACT: u8 = 4;
/// The whitespace at its ends does not count, as in a title.
const STRIPPED: u8 = 8;

impl Shows {
    /// Whether every byte counts.
    pub(crate) const fn is_exact(self) -> bool {
        self.0 & EXACT != 0
    }
}

/// For each token of text, which of its whitespace shows. `is_edge` tells of a
/// construct that whitespace beside it does not show.
pub(crate) fn significance(source: &[u8], tokens: &[Token], is_edge: impl Fn(&Token) -> bool) -> Vec<Shows> {
    let mut flags = vec![Shows::default(); tokens.len()];
    // Text tokens whose last whitespace shows only if something inline follows.
    let mut pending: Vec<(usize, u8)> = Vec::new();
    let mut edge = true;
    let mut in_title = false;
    let mut preserved = 0_usize;
    for (index, token) in tokens.iter().enumerate() {
        match token.kind {
            TokenKind::Text if preserved > 0 => {
                settle(&mut pending, &mut flags, true);
                flags[index] = Shows(EXACT);
                edge = false;
            }
            TokenKind::Text => {
                let bytes = token.span().of(source);
                let (Some(first), Some(last)) = (bytes.first(), bytes.last()) else {
                    continue;
                };
                if bytes.iter().all(|&b| is_blank(b)) {
                    if !edge {
                        pending.push((index, LEAD));
                    }
                    continue;
                }
                settle(&mut pending, &mut flags, true);
                if is_blank(*first) && !edge {
                    flags[index].0 |= LEAD;
                }
                if is_blank(*last) {
                    pending.push((index, TRAIL));
                }
                edge = false;
            }
            TokenKind::StartTag | TokenKind::EndTag => {
                let start = token.kind == TokenKind::StartTag;
                let name = token.name().of(source);
                if start {
                    in_title = name.eq_ignore_ascii_case(b"title");
                }
                let known = element(name);
                match known.flow {
                    Flow::Block => {
                        settle(&mut pending, &mut flags, false);
                        edge = true;
                    }
                    Flow::Box => {
                        settle(&mut pending, &mut flags, start);
                        edge = start;
                    }
                    Flow::Inline => {
                        settle(&mut pending, &mut flags, true);
                        edge = false;
                    }
                    Flow::Hidden => {}
                }
                if known.preserves && known.flow == Flow::Block {
                    preserved = if start { preserved + 1 } else { preserved.saturating_sub(1) };
                }
            }
            TokenKind::Construct if is_edge(token) => {
                settle(&mut pending, &mut flags, false);
                edge = true;
            }
            TokenKind::Construct | TokenKind::CData => {
                settle(&mut pending, &mut flags, true);
                edge = false;
            }
            TokenKind::Escapable if in_title => flags[index].0 |= STRIPPED,
            TokenKind::Doctype => edge = true,
            _ => {}
        }
    }
    flags
}

fn settle(pending: &mut Vec<(usize, u8)>, flags: &mut [Shows], shows: bool) {
    for (index, side) in pending.drain(..) {
        if shows {
            flags[index].0 |= side;
        }
    }
}

fn write_text(bytes: &[u8], Shows(flags): Shows, out: &mut Vec<u8>) {
    if flags & EXACT != 0 {
        return out.extend_from_slice(bytes);
    }
    let inner = trim_blanks(bytes);
    if flags & LEAD != 0 {
        out.push(b' ');
    }
    let mut blank = false;
    for &byte in inner {
        if is_blank(byte) {
            blank = true;
            continue;
        }
        if std::mem::take(&mut blank) {
            out.push(b' ');
        }
        out.push(byte);
    }
    if flags & TRAIL != 0 {
        out.push(b' ');
    }
}

/// Whether the token before a gap is an attribute whose value has no quotes:
/// a slash without a space would belong to it.
fn last_unquoted(source: &[u8], tokens: &[Token], gap: usize) -> bool {
    let before = gap.checked_sub(1).and_then(|index| tokens.get(index));
    before.is_some_and(|token| {
        token.written_value(source).is_some() && !matches!(source[token.end as usize - 1], b'"' | b'\'')
    })
}

fn write_gap(source: &[u8], gap: &Token, next: Option<&Token>, after_unquoted: bool, out: &mut Vec<u8>) {
    let bytes = gap.span().of(source);
    let before_end = next.is_none_or(|token| token.kind == TokenKind::TagEnd);
    let slashed = bytes.contains(&b'/');
    if before_end && !slashed && !(after_unquoted && next.is_some_and(|token| token.span().len() == 2)) {
        return;
    }
    let mut blank = false;
    for &byte in bytes {
        if is_blank(byte) {
            if !std::mem::replace(&mut blank, true) {
                out.push(b' ');
            }
        } else {
            blank = false;
            out.push(byte);
        }
    }
}

fn write_attribute(source: &[u8], token: &Token, out: &mut Vec<u8>) {
    let Some(value) = token.written_value(source) else {
        return out.extend_from_slice(token.span().of(source));
    };
    out.extend_from_slice(token.name().of(source));
    out.push(b'=');
    out.extend_from_slice(value.of(source));
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect::builtin_named;
    use crate::markup::Document;

    fn normal(source: &str) -> String {
        let dialect = builtin_named("brace-percent").expect("a built-in dialect");
        let document = Document::read(source.as_bytes(), &dialect);
        String::from_utf8_lossy(&Normal::of(source.as_bytes(), &document.tokens).bytes).into_owned()
    }

    #[test]
    fn insignificant_white_space_goes() {
        for (source, expected) in [
            (" <div>\n  <p> a  b\nc </p>\n</div>\n", "<div><p>a b c</p></div>"),
            ("<p>a <b>b</b> c<br> d</p>", "<p>a <b>b</b> c<br>d</p>"),
            ("<p>a<b> b </b>c</p>", "<p>a<b> b </b>c</p>"),
            ("<pre>\n a  b\n</pre> x", "<pre>\n a  b\n</pre>x"),
            (
                "<head>\n <title> a  b </title>\n <script> x </script>\n</head>",
                "<head><title>a  b</title><script> x </script></head>",
            ),
            ("a <!-- c --> <div>", "a<!-- c --><div>"),
            ("a <!-- c --> b", "a <!-- c --> b"),
            ("<a  href = 'x'\n class=y >z</a >", "<a href='x' class=y>z</a>"),
            ("<br /><br/>", "<br/><br/>"),
            ("<a href=x /><a href=x/>", "<a href=x /><a href=x/>"),
            ("a {{ x }} <div> {{ y }} </div>", "a {{ x }}<div>{{ y }}</div>"),
            ("x <button> a </button> y", "x <button>a</button> y"),
            ("x <textarea> a </textarea> y", "x <textarea> a </textarea> y"),
        ] {
            assert_eq!(normal(source), expected, "{source}");
        }
    }

    #[test]
    fn offsets_lead_back_to_the_source() {
        let source = "<p>  one \n two</p>";
        let document = Document::read(source.as_bytes(), &crate::dialect::plain());
        let normal = Normal::of(source.as_bytes(), &document.tokens);
        let back = |text: &str| {
            let at = String::from_utf8_lossy(&normal.bytes).find(text).expect("in the normal form");
            &source[normal.source_offset(source.as_bytes(), &document.tokens, at as u32) as usize..]
        };
        assert!(back("one").starts_with("one") && back("two").starts_with("two") && back("</p").starts_with("</p"));
    }
}
