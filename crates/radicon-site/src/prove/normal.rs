//! The normal form after the strength `blanks`: a page without the whitespace that does not show, as far as its tags
//! tell. What a parser makes of them is for [`rendered`](super::rendered) to say.
//!
//! Whitespace counts by HTML's own defaults, since style sheets are not read:
//!
//! - beside and just inside the tags of block elements, and at both ends of the page, it does not show and is left out;
//! - elsewhere between words and inline elements a run of it counts as one space;
//! - inside `pre`, `textarea`, `script`, `style` and the like every byte counts;
//! - between the attributes of a tag it separates, however long;
//! - `title` strips at its ends.
//!
//! Constructs count like words; beside one that may print something, whitespace counts everywhere: what it prints is
//! unknown text.

use std::ops::Range;

use rustc_hash::FxHashMap;

use crate::dialect::Kind;
use crate::markup::elements::{Flow, Inside, flow, inside};
use crate::markup::{Construct, Document, NodeId, NodeKind, Token, TokenId, TokenKind};
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
    /// The normal form of a source that was read.
    pub fn of(source: &[u8], document: &Document) -> Self {
        Self::shown(source, &document.tokens, &significance(source, document, |_| false))
    }

    /// The same, where it is known which whitespace shows.
    pub(super) fn shown(source: &[u8], tokens: &[Token], shows: &[Shows]) -> Self {
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
    pub(crate) fn without_spelling(source: &[u8], document: &Document) -> Self {
        let normal = Self::of(source, document);
        let tokens = &document.tokens;
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
pub fn normal_run(source: &[u8], tokens: &[Token], shows: &[Shows], run: Range<usize>) -> Vec<u8> {
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
        TokenKind::Escapable => out.extend_from_slice(stripped(bytes, shows)),
        TokenKind::Gap => {
            write_gap(source, token, tokens.get(index + 1), last_unquoted(source, tokens, index), out);
        }
        TokenKind::Attribute => write_attribute(source, token, out),
        _ => out.extend_from_slice(bytes),
    }
}

/// Which whitespace of a text shows.
#[derive(Clone, Copy, Debug, Default)]
pub struct Shows(u8);

/// The whitespace at the start of a text counts.
const LEAD: u8 = 1;
/// The whitespace at its end counts.
const TRAIL: u8 = 2;
/// Every byte of it counts.
const EXACT: u8 = 4;
/// It begins a title: the whitespace before it does not count.
const BEGINS: u8 = 8;
/// It ends a title.
const ENDS: u8 = 16;
/// Every byte of it counts, wherever it is: it may be looked up as it is.
const LITERAL: u8 = 32;

impl Shows {
    /// Whether every byte counts.
    pub const fn is_exact(self) -> bool {
        self.0 & (EXACT | LITERAL) != 0
    }

    /// Whether every byte counts because of the tags of the dialect around it.
    pub(super) const fn is_literal(self) -> bool {
        self.0 & LITERAL != 0
    }
}

/// Whether a construct may print something unknown where it is. What a tag does that nobody described is unknown; what
/// blocks and included files print is in the site.
pub const fn may_print(item: &Construct) -> bool {
    match item.kind {
        Kind::Output | Kind::Code | Kind::Other | Kind::Verbatim => true,
        Kind::Include | Kind::Wrap => item.dynamic,
        _ => false,
    }
}

/// Whether a script may print something where it is.
pub(super) fn writes(script: &[u8]) -> bool {
    memchr::memmem::find(script, b".write").is_some()
}

/// For each token of text, which of its whitespace shows. `is_edge` tells of a construct that whitespace beside it
/// does not show.
pub fn significance(source: &[u8], document: &Document, is_edge: impl Fn(&Token) -> bool) -> Vec<Shows> {
    let tokens = &document.tokens;
    let mut flags = vec![Shows::default(); tokens.len()];
    let tags = Tags::of(source, document);
    for (first, last) in literal_runs(source, document, &tags) {
        let words = |at: &usize| tokens[*at].kind == TokenKind::Text && !is_all_blank(tokens[*at].span().of(source));
        (first..last).filter(words).for_each(|at| flags[at].0 |= LITERAL);
    }
    let prints = |at: usize| {
        let token = tokens.get(at).filter(|token| token.kind == TokenKind::Construct && !is_edge(token));
        token.is_some_and(|token| construct_at(document, token).is_none_or(may_print))
    };
    let is_construct =
        |at: Option<usize>| at.and_then(|at| tokens.get(at)).is_some_and(|token| token.kind == TokenKind::Construct);
    // Text tokens whose last whitespace shows only if something inline follows.
    let mut pending: Vec<(usize, u8)> = Vec::new();
    let mut edge = true;
    let mut in_title = false;
    for (index, token) in tokens.iter().enumerate() {
        match token.kind {
            TokenKind::Text if tags.inside[index] == Inside::Exact => {
                settle(&mut pending, &mut flags, true);
                flags[index].0 |= EXACT;
                edge = false;
            }
            TokenKind::Text => {
                let bytes = token.span().of(source);
                let (Some(first), Some(last)) = (bytes.first(), bytes.last()) else { continue };
                let beside = (index.checked_sub(1).is_some_and(prints), prints(index + 1));
                let goes = match tags.inside[index] {
                    Inside::Structure => true,
                    // A construct may be text, and become one with this.
                    Inside::Drawing => !is_construct(index.checked_sub(1)) && !is_construct(Some(index + 1)),
                    Inside::Words | Inside::Exact => false,
                };
                if is_all_blank(bytes) {
                    if beside.0 || beside.1 {
                        settle(&mut pending, &mut flags, true);
                        flags[index].0 |= LEAD;
                        edge = false;
                    } else if !edge && !goes {
                        pending.push((index, LEAD));
                    }
                    continue;
                }
                settle(&mut pending, &mut flags, true);
                if is_blank(*first) && (!edge || beside.0) {
                    flags[index].0 |= LEAD;
                }
                if is_blank(*last) && beside.1 {
                    flags[index].0 |= TRAIL;
                } else if is_blank(*last) {
                    pending.push((index, TRAIL));
                }
                edge = false;
            }
            TokenKind::StartTag | TokenKind::EndTag => {
                let start = token.kind == TokenKind::StartTag;
                in_title = start && token.name().of(source).eq_ignore_ascii_case(b"title");
                match tags.flow[index] {
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
            }
            TokenKind::Construct if is_edge(token) => {
                settle(&mut pending, &mut flags, false);
                edge = true;
            }
            TokenKind::Construct | TokenKind::CData => {
                settle(&mut pending, &mut flags, true);
                edge = false;
            }
            TokenKind::Raw if writes(token.span().of(source)) => {
                settle(&mut pending, &mut flags, true);
                edge = false;
            }
            TokenKind::Escapable if in_title => {
                let begins = if is_construct(index.checked_sub(1)) { 0 } else { BEGINS };
                let ends = if is_construct(Some(index + 1)) { 0 } else { ENDS };
                flags[index].0 |= begins | ends;
            }
            TokenKind::Doctype => edge = true,
            _ => {}
        }
    }
    flags
}

/// The construct that a token is.
pub fn construct_at<'d>(document: &'d Document, token: &Token) -> Option<&'d Construct> {
    let items = &document.constructs.items;
    let from = items.partition_point(|item| item.span.start < token.start);
    items[from..].iter().take_while(|item| item.span.start == token.start).find(|item| item.is_opaque())
}

/// What the elements say of each token.
struct Tags {
    /// Of a tag: how its element flows.
    flow: Vec<Flow>,
    /// Of a text: what becomes of whitespace there.
    inside: Vec<Inside>,
}

impl Tags {
    fn of(source: &[u8], document: &Document) -> Self {
        let count = document.tokens.len();
        let mut tags = Self { flow: vec![Flow::Inline; count], inside: vec![Inside::Words; count] };
        for (id, flow, around, _) in places(source, document) {
            let node = &document.nodes[id];
            match node.kind {
                NodeKind::Element => {
                    tags.flow[node.first.index()] = flow;
                    if node.close < node.last {
                        tags.flow[node.close.index()] = flow;
                    }
                }
                NodeKind::Text => tags.inside[node.first.index()] = around,
                _ => {}
            }
        }
        tags
    }
}

/// For each node how it takes part in the flow, and what becomes of whitespace in the text around it and in it.
fn places(source: &[u8], document: &Document) -> impl Iterator<Item = (NodeId, Flow, Inside, Inside)> {
    let mut of_nodes: Vec<Inside> = Vec::with_capacity(document.nodes.len());
    NodeId::each(&document.nodes).map(move |(id, node)| {
        let around = of_nodes.get(node.parent.index()).copied().unwrap_or_default();
        of_nodes.push(around);
        if node.kind != NodeKind::Element {
            return (id, Flow::Inline, around, around);
        }
        let mut lower = [0; 16];
        let written = document.name(source, id);
        let name = lower.get_mut(..written.len()).unwrap_or_default();
        name.copy_from_slice(&written[..name.len()]);
        name.make_ascii_lowercase();
        let attributed = document.attributed(source, id);
        let within = inside(name, attributed, around);
        of_nodes[id.index()] = within;
        (id, flow(name, attributed), around, within)
    })
}

/// The elements in which every byte counts, or which are drawings, though around them it is not so.
pub(super) fn outermost_exact(source: &[u8], document: &Document) -> impl Iterator<Item = (NodeId, Inside)> {
    let is_exact = |inside| matches!(inside, Inside::Exact | Inside::Drawing);
    let outermost = move |(id, _, around, within)| (is_exact(within) && !is_exact(around)).then_some((id, within));
    places(source, document).filter_map(outermost)
}

/// The runs of tokens between two tags that nobody described, of which the second one ends the first: `w` and `endw`.
/// Where no element begins a line of its own in between, the text may be looked up as it is, in another language, say.
fn literal_runs(source: &[u8], document: &Document, tags: &Tags) -> Vec<(usize, usize)> {
    /// What the second word has before the first one, in bytes.
    const LONGEST_PREFIX: usize = 4;
    let mut found = Vec::new();
    let mut open: FxHashMap<&[u8], usize> = FxHashMap::default();
    for (index, token) in document.tokens.iter().enumerate().filter(|(_, token)| token.kind == TokenKind::Construct) {
        let Some(item) = construct_at(document, token).filter(|item| item.kind == Kind::Other) else { continue };
        let text = item.expr.of(source);
        let word = &text[..text.iter().position(|&b| is_blank(b)).unwrap_or(text.len())];
        let opener = (1..=LONGEST_PREFIX).filter_map(|cut| open.remove(word.get(cut..)?)).max();
        match opener {
            Some(opener) => found.push((opener, index)),
            None if !word.is_empty() => drop(open.insert(word, index)),
            None => {}
        }
    }
    if found.is_empty() {
        return found;
    }
    let mut count = 0;
    let blocks_before: Vec<u32> = (document.tokens.iter().zip(&tags.flow))
        .map(|(token, flow)| {
            let is_tag = matches!(token.kind, TokenKind::StartTag | TokenKind::EndTag);
            count += u32::from(is_tag && *flow == Flow::Block);
            count
        })
        .collect();
    found.retain(|&(first, last)| blocks_before[first] == blocks_before[last]);
    found.sort_unstable_by_key(|&(first, last)| (first, std::cmp::Reverse(last)));
    let mut end = 0;
    found.retain(|&(_, last)| {
        let is_outermost = last > end;
        end = end.max(last);
        is_outermost
    });
    found
}

fn is_all_blank(bytes: &[u8]) -> bool {
    bytes.iter().all(|&b| is_blank(b))
}

/// A part of a title without the whitespace at the ends of the title.
fn stripped(bytes: &[u8], Shows(flags): Shows) -> &[u8] {
    let bytes = if flags & BEGINS != 0 { bytes.trim_ascii_start() } else { bytes };
    if flags & ENDS != 0 { bytes.trim_ascii_end() } else { bytes }
}

fn settle(pending: &mut Vec<(usize, u8)>, flags: &mut [Shows], shows: bool) {
    for (index, side) in pending.drain(..) {
        if shows {
            flags[index].0 |= side;
        }
    }
}

fn write_text(bytes: &[u8], Shows(flags): Shows, out: &mut Vec<u8>) {
    if flags & (EXACT | LITERAL) != 0 {
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
        String::from_utf8_lossy(&Normal::of(source.as_bytes(), &document).bytes).into_owned()
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
            ("a {{ x }} <div> {{ y }} </div>", "a {{ x }} <div> {{ y }} </div>"),
            ("{% if x %} <div> {% if y %} a </div>", "{% if x %}<div>{% if y %} a</div>"),
            ("<title> {{ x }} {{ y }} </title>", "<title>{{ x }} {{ y }}</title>"),
            ("<p> {% say %}a  b{% endsay %} </p>", "<p> {% say %}a  b{% endsay %} </p>"),
            ("<svg> <g> </g></svg>", "<svg><g></g></svg>"),
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
        let normal = Normal::of(source.as_bytes(), &document);
        let back = |text: &str| {
            let at = String::from_utf8_lossy(&normal.bytes).find(text).expect("in the normal form");
            &source[normal.source_offset(source.as_bytes(), &document.tokens, at as u32) as usize..]
        };
        assert!(back("one").starts_with("one") && back("two").starts_with("two") && back("</p").starts_with("</p"));
    }
}
