//! The lossless HTML lexer.
//!
//! Tokens tile the source: each begins where the one before ends. Tag by tag it
//! follows the WHATWG tokenizer (2025), with one addition: *opaque* ranges, the
//! constructs of a dialect, are jumped over wherever they are, so no byte of
//! theirs is ever taken for HTML.

use memchr::{memchr, memchr2, memmem};

use super::elements::{Content, element};
use crate::id;
use crate::text::{Span, is_blank};

/// The kind of a stretch of HTML.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[repr(u8)]
pub enum TokenKind {
    /// Text with character references.
    Text,
    /// The content of a raw-text element (`script`, `style`), kept as it is.
    Raw,
    /// The content of `title` and `textarea`.
    Escapable,
    /// `<!-- … -->`.
    Comment,
    /// A comment by the standard's rules for mistakes: `<?…>`, `<!…>`, `</3…>`.
    Bogus,
    /// `<![CDATA[ … ]]>` inside `svg` and `math`.
    CData,
    /// `<!doctype …>`.
    Doctype,
    /// `<name`, the opening of a start tag.
    StartTag,
    /// `</name`, the opening of an end tag.
    EndTag,
    /// An attribute, from its name to the end of its value.
    Attribute,
    /// The text between attributes: whitespace and stray slashes.
    Gap,
    /// `>` or `/>`.
    TagEnd,
    /// A construct of the dialect.
    Construct,
    /// `</>`, which the standard drops.
    Nothing,
}

id!(
    /// The number of a token within its source.
    pub TokenId: Token
);

/// A stretch of the source.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Token {
    /// Its kind.
    pub kind: TokenKind,
    /// First byte.
    pub start: u32,
    /// After the last byte.
    pub end: u32,
    /// Bytes from the start to the end of the name of a tag or attribute, else 0; least byte first.
    named: [u8; 3],
}

/// Sites are held as tokens, so they are small.
const _: () = assert!(size_of::<Token>() == 12);

/// Names that are longer, in bytes, end there.
const LONGEST_NAME: usize = (1 << 24) - 1;

impl Token {
    /// All of it.
    pub const fn span(&self) -> Span {
        Span::new(self.start, self.end)
    }

    /// The name of a tag or attribute, as written.
    pub const fn name(&self) -> Span {
        let skip = match self.kind {
            TokenKind::StartTag => 1,
            TokenKind::EndTag => 2,
            _ => 0,
        };
        Span::new(self.start + skip, self.name_end())
    }

    const fn name_end(&self) -> u32 {
        let [a, b, c] = self.named;
        self.start + u32::from_le_bytes([a, b, c, 0])
    }

    /// The value of an attribute with its quotes; `None` if it has none.
    pub fn written_value(&self, source: &[u8]) -> Option<Span> {
        if self.kind != TokenKind::Attribute || self.name_end() == self.end {
            return None;
        }
        let bytes = &source[..self.end as usize];
        let sign = self.name_end() as usize + run_of(&bytes[self.name_end() as usize..], BLANK);
        let value = sign + 1 + run_of(&bytes[sign + 1..], BLANK);
        Some(Span::new(value as u32, self.end))
    }

    /// The value of an attribute, without quotes; `None` if it has none.
    pub fn value(&self, source: &[u8]) -> Option<Span> {
        let written = self.written_value(source)?;
        match written.of(source) {
            [quote @ (b'"' | b'\''), .., last] if last == quote => Some(Span::new(written.start + 1, written.end - 1)),
            [b'"' | b'\'', ..] => Some(Span::new(written.start + 1, written.end)),
            _ => Some(written),
        }
    }
}

/// A range that is not HTML.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Opaque {
    /// Its place.
    pub span: Span,
    /// It prints something, so it may be part of a name.
    pub prints: bool,
}

/// Receives the tokens as they are found.
pub trait Sink {
    /// One token, beginning where the last one ended.
    fn token(&mut self, token: Token);
}

impl Sink for Vec<Token> {
    fn token(&mut self, token: Token) {
        self.push(token);
    }
}

/// Splits `source` into tokens. `opaque` must be sorted and disjoint. Takes
/// time linear in the length of the source, whatever it holds.
pub fn lex(source: &[u8], opaque: &[Opaque], sink: &mut impl Sink) {
    Lexer::new(source, opaque, sink).data();
}

/// Where HTML's special raw-text elements are not special, and where they are again.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
enum Context {
    Svg,
    Math,
    /// An HTML island inside them.
    Html,
}

/// Finds the tokens of a source, one stretch of markup after the other.
#[derive(Debug)]
pub struct Lexer<'a, S> {
    source: &'a [u8],
    opaque: &'a [Opaque],
    /// Index of the next opaque range.
    next: usize,
    /// The place where it starts, or the end of the source.
    stop: usize,
    /// The offset of the next byte to read.
    pub at: usize,
    /// What takes the tokens.
    pub sink: &'a mut S,
    foreign: Vec<(Context, &'a [u8])>,
}

/// The most nested foreign contexts that are told apart.
const MAX_FOREIGN: usize = 256;

const BLANK: u8 = 1;
const NAME_END: u8 = 2;
const ATTRIBUTE_END: u8 = 4;
const VALUE_END: u8 = 8;

/// The kinds of names that each byte ends.
static CLASS: [u8; 256] = {
    let mut table = [0; 256];
    let blanks = [b' ', b'\t', b'\n', 0x0c, b'\r'];
    let mut i = 0;
    while i < blanks.len() {
        table[blanks[i] as usize] = BLANK | NAME_END | ATTRIBUTE_END | VALUE_END;
        i += 1;
    }
    table[b'/' as usize] = NAME_END | ATTRIBUTE_END;
    table[b'>' as usize] = NAME_END | ATTRIBUTE_END | VALUE_END;
    table[b'=' as usize] = ATTRIBUTE_END;
    table
};

impl<'a, S: Sink> Lexer<'a, S> {
    /// A lexer at the start of a source, which passes over the ranges that are opaque to it.
    pub fn new(source: &'a [u8], opaque: &'a [Opaque], sink: &'a mut S) -> Self {
        let stop = opaque.first().map_or(source.len(), |range| range.span.start as usize);
        Lexer { source, opaque, next: 0, stop, at: 0, sink, foreign: Vec::new() }
    }

    fn emit(&mut self, kind: TokenKind, start: usize, end: usize) {
        self.emit_named(kind, start, end, start);
    }

    fn emit_named(&mut self, kind: TokenKind, start: usize, end: usize, name_end: usize) {
        if end > start {
            let [a, b, c, ..] = (name_end - start).min(LONGEST_NAME).to_le_bytes();
            self.sink.token(Token { kind, start: start as u32, end: end as u32, named: [a, b, c] });
        }
    }

    /// Moves past the opaque range that starts at `stop`.
    fn pass_opaque(&mut self) -> usize {
        let end = self.opaque.get(self.next).map_or(self.source.len(), |range| range.span.end as usize);
        self.next += 1;
        self.stop = self.opaque.get(self.next).map_or(self.source.len(), |range| range.span.start as usize);
        end
    }

    /// Whether a construct starts at `at`.
    fn opaque_at(&self, at: usize) -> bool {
        at == self.stop && self.next < self.opaque.len()
    }

    fn prints_at(&self, at: usize) -> bool {
        self.opaque_at(at) && self.opaque[self.next].prints
    }

    /// Finds `needle` from `from`, never inside or across an opaque range, and
    /// passes the ranges before it.
    fn find(&mut self, needle: &memmem::Finder<'_>, from: usize) -> Option<usize> {
        let mut from = from;
        loop {
            if let Some(found) = needle.find(&self.source[from..self.stop]) {
                return Some(from + found);
            }
            if self.next >= self.opaque.len() {
                return None;
            }
            from = self.pass_opaque();
        }
    }

    fn data(&mut self) {
        let mut text = self.at;
        while self.at < self.source.len() {
            match self.next_markup(self.at) {
                Some(start) => {
                    self.emit(TokenKind::Text, text, start);
                    self.at = start;
                    self.markup();
                    text = self.at;
                }
                None => {
                    self.emit(TokenKind::Text, text, self.stop);
                    self.at = self.stop;
                    text = self.construct();
                }
            }
        }
        self.emit(TokenKind::Text, text, self.source.len());
    }

    /// Where from here on the next tag, comment or declaration begins, before
    /// the next opaque range.
    pub fn next_markup(&self, mut from: usize) -> Option<usize> {
        let source = &self.source[..self.stop];
        loop {
            let start = from + memchr(b'<', &source[from..])?;
            let opens = match source.get(start + 1) {
                Some(b) if b.is_ascii_alphabetic() => true,
                Some(b'!' | b'?') => true,
                Some(b'/') => start + 2 < source.len() || self.prints_at(start + 2),
                None => self.prints_at(start + 1),
                _ => false,
            };
            if opens {
                return Some(start);
            }
            from = start + 1;
        }
    }

    /// Passes the tag, with its raw text and the end of that, the comment or the
    /// declaration that begins here.
    pub fn markup(&mut self) {
        let start = self.at;
        match self.source[..self.stop].get(start + 1) {
            Some(b'!') => self.declaration(start),
            Some(b'?') => self.until_angle(TokenKind::Bogus, start, start + 1),
            Some(b'/') => self.end_tag(start),
            _ => self.start_tag(start),
        }
    }

    /// Emits the construct that starts here, if one does; gives where to go on.
    fn construct(&mut self) -> usize {
        if self.opaque_at(self.at) {
            let start = self.at;
            self.at = self.pass_opaque();
            self.emit(TokenKind::Construct, start, self.at);
        }
        self.at
    }

    fn declaration(&mut self, start: usize) {
        let rest = &self.source[start + 2..self.stop];
        if rest.starts_with(b"--") {
            return self.comment(start);
        }
        if rest.len() >= 7 && rest[..7].eq_ignore_ascii_case(b"doctype") {
            return self.until_angle(TokenKind::Doctype, start, start + 9);
        }
        if rest.starts_with(b"[CDATA[") && self.is_foreign() {
            let end = self.find(&memmem::Finder::new(b"]]>"), start + 9);
            self.at = end.map_or(self.source.len(), |at| at + 3);
            return self.emit(TokenKind::CData, start, self.at);
        }
        self.until_angle(TokenKind::Bogus, start, start + 2);
    }

    fn until_angle(&mut self, kind: TokenKind, start: usize, from: usize) {
        let end = self.find(&memmem::Finder::new(b">"), from);
        self.at = end.map_or(self.source.len(), |at| at + 1);
        self.emit(kind, start, self.at);
    }

    fn comment(&mut self, start: usize) {
        let body = start + 4;
        let rest = &self.source[body..self.stop];
        let abrupt = if rest.starts_with(b">") {
            1
        } else if rest.starts_with(b"->") {
            2
        } else {
            0
        };
        if abrupt > 0 {
            self.at = body + abrupt;
            return self.emit(TokenKind::Comment, start, self.at);
        }
        let dashes = memmem::Finder::new(b"--");
        let mut from = body;
        self.at = loop {
            let Some(found) = self.find(&dashes, from) else {
                break self.source.len();
            };
            let rest = &self.source[found + 2..self.stop];
            match rest {
                [b'>', ..] => break found + 3,
                [b'!', b'>', ..] => break found + 4,
                _ => from = found + 1,
            }
        };
        self.emit(TokenKind::Comment, start, self.at);
    }

    fn end_tag(&mut self, start: usize) {
        let first = self.source[start + 2..self.stop].first().copied();
        match first {
            Some(b'>') => {
                self.at = start + 3;
                return self.emit(TokenKind::Nothing, start, self.at);
            }
            Some(b) if !b.is_ascii_alphabetic() => {
                return self.until_angle(TokenKind::Bogus, start, start + 2);
            }
            _ => {}
        }
        let name_end = self.tag_name(start + 2);
        self.emit_named(TokenKind::EndTag, start, name_end, name_end);
        self.at = name_end;
        self.attributes();
        self.leave(&self.source[start + 2..name_end]);
    }

    /// The end of a tag name that starts at `from`; names absorb printing constructs.
    fn tag_name(&mut self, from: usize) -> usize {
        let mut at = from;
        loop {
            at += run(&self.source[at..self.stop], NAME_END);
            if !self.prints_at(at) {
                return at;
            }
            at = self.pass_opaque();
        }
    }

    fn start_tag(&mut self, start: usize) {
        let name_end = self.tag_name(start + 1);
        self.emit_named(TokenKind::StartTag, start, name_end, name_end);
        self.at = name_end;
        let closed = self.attributes();
        let name = &self.source[start + 1..name_end];
        let self_closing = closed && self.source[..self.at].ends_with(b"/>");
        self.enter(name, self_closing);
        if !closed || self.is_foreign() {
            return;
        }
        match element(name).content {
            Content::Escapable => self.raw_text(name, TokenKind::Escapable),
            Content::Raw => self.raw_text(name, TokenKind::Raw),
            Content::Script => self.script(name),
            Content::Plaintext => self.plaintext(),
            Content::Markup | Content::Void => {}
        }
    }

    /// Everything up to the end of the tag; `false` if the source ends before.
    fn attributes(&mut self) -> bool {
        loop {
            let gap = self.at;
            let mut at = gap;
            while let Some(&byte) = self.source[..self.stop].get(at) {
                if CLASS[byte as usize] & BLANK == 0 && byte != b'/' {
                    break;
                }
                if byte == b'/' && self.source[..self.stop].get(at + 1) == Some(&b'>') {
                    break;
                }
                at += 1;
            }
            self.emit(TokenKind::Gap, gap, at);
            self.at = at;
            match self.source[..self.stop].get(at) {
                Some(b'>') => {
                    self.at = at + 1;
                    self.emit(TokenKind::TagEnd, at, at + 1);
                    return true;
                }
                Some(b'/') => {
                    self.at = at + 2;
                    self.emit(TokenKind::TagEnd, at, at + 2);
                    return true;
                }
                Some(_) => self.attribute(at),
                None if self.prints_at(at) => self.attribute(at),
                None if self.opaque_at(at) => {
                    self.construct();
                }
                None => return false,
            }
        }
    }

    fn attribute(&mut self, start: usize) {
        // A name may begin with `=`.
        let mut at = if self.prints_at(start) { start } else { start + 1 };
        loop {
            at += run(&self.source[at..self.stop], ATTRIBUTE_END);
            if !self.prints_at(at) {
                break;
            }
            at = self.pass_opaque();
        }
        let name_end = at;
        let blanks = run_of(&self.source[at..self.stop], BLANK);
        if self.source[..self.stop].get(at + blanks) != Some(&b'=') {
            self.at = name_end;
            return self.emit_named(TokenKind::Attribute, start, name_end, name_end);
        }
        at += blanks + 1;
        at += run_of(&self.source[at..self.stop], BLANK);
        match self.source[..self.stop].get(at) {
            Some(&quote @ (b'"' | b'\'')) => {
                let needle = [quote];
                let end = self.find(&memmem::Finder::new(&needle), at + 1);
                at = end.map_or(self.source.len(), |at| at + 1);
            }
            Some(b'>') => {}
            _ => loop {
                at += run(&self.source[at..self.stop], VALUE_END);
                if !self.prints_at(at) {
                    break;
                }
                at = self.pass_opaque();
            },
        }
        self.at = at;
        self.emit_named(TokenKind::Attribute, start, at, name_end);
    }

    /// Raw text up to the end tag of `name`; constructs are tokens of their own.
    fn raw_text(&mut self, name: &[u8], kind: TokenKind) {
        let mut from = self.at;
        let mut text = self.at;
        loop {
            match memmem::find(&self.source[from..self.stop], b"</") {
                Some(found) if self.is_end_of(name, from + found) => {
                    self.emit(kind, text, from + found);
                    self.at = from + found;
                    return self.end_tag(self.at);
                }
                Some(found) => from += found + 2,
                None => {
                    self.emit(kind, text, self.stop);
                    self.at = self.stop;
                    if self.construct() >= self.source.len() {
                        return;
                    }
                    from = self.at;
                    text = self.at;
                }
            }
        }
    }

    /// Whether `</name` at `at` is followed by what ends a name.
    fn is_end_of(&self, name: &[u8], at: usize) -> bool {
        let rest = &self.source[at + 2..self.stop];
        rest.len() > name.len()
            && rest[..name.len()].eq_ignore_ascii_case(name)
            && (is_blank(rest[name.len()]) || matches!(rest[name.len()], b'/' | b'>'))
    }

    /// Script content, with the two escaped states that `<!--` leads into.
    fn script(&mut self, name: &[u8]) {
        let mut from = self.at;
        let mut text = self.at;
        let (mut escaped, mut double) = (false, false);
        loop {
            let here = &self.source[from..self.stop];
            let found = if escaped { memchr2(b'<', b'-', here) } else { memchr(b'<', here) };
            let Some(found) = found else {
                self.emit(TokenKind::Raw, text, self.stop);
                self.at = self.stop;
                if self.construct() >= self.source.len() {
                    return;
                }
                from = self.at;
                text = self.at;
                continue;
            };
            let at = from + found;
            let rest = &self.source[at..self.stop];
            from = at + 1;
            if rest.starts_with(b"-->") {
                (escaped, double) = (false, false);
            } else if rest.starts_with(b"<!--") && !escaped {
                escaped = true;
                // The dashes of the opening may be those of the closing.
                from = at + 2;
            } else if rest.starts_with(b"</") && self.is_end_of(name, at) {
                if !double {
                    self.emit(TokenKind::Raw, text, at);
                    self.at = at;
                    return self.end_tag(at);
                }
                double = false;
            } else if escaped && !double && rest.len() > 7 && rest[1..7].eq_ignore_ascii_case(b"script") {
                double = is_blank(rest[7]) || matches!(rest[7], b'/' | b'>');
            }
        }
    }

    fn plaintext(&mut self) {
        while self.at < self.source.len() {
            self.emit(TokenKind::Raw, self.at, self.stop);
            self.at = self.stop;
            self.construct();
        }
    }

    /// Whether it is inside `svg` or `math`, or an HTML island in them.
    pub fn is_within_foreign(&self) -> bool {
        !self.foreign.is_empty()
    }

    fn is_foreign(&self) -> bool {
        self.foreign.last().is_some_and(|(context, _)| *context != Context::Html)
    }

    /// Follows `svg`, `math` and the HTML islands in them.
    fn enter(&mut self, name: &'a [u8], self_closing: bool) {
        let is = |word: &str| name.eq_ignore_ascii_case(word.as_bytes());
        let inside = self.foreign.last().map(|(context, _)| *context);
        let context = match inside {
            None | Some(Context::Html) if is("svg") => Context::Svg,
            None | Some(Context::Html) if is("math") => Context::Math,
            Some(Context::Svg) if is("foreignobject") || is("desc") || is("title") => Context::Html,
            Some(Context::Math) if is("mi") || is("mo") || is("mn") || is("ms") || is("mtext") => Context::Html,
            _ => return,
        };
        if !self_closing && self.foreign.len() < MAX_FOREIGN {
            self.foreign.push((context, name));
        }
    }

    fn leave(&mut self, name: &[u8]) {
        if self.foreign.is_empty() {
            return;
        }
        if let Some(at) = self.foreign.iter().rposition(|(_, open)| open.eq_ignore_ascii_case(name)) {
            self.foreign.truncate(at);
        }
    }
}

/// Bytes before the first of a class.
fn run(bytes: &[u8], class: u8) -> usize {
    bytes.iter().position(|&b| CLASS[b as usize] & class != 0).unwrap_or(bytes.len())
}

/// Bytes of a class at the start.
fn run_of(bytes: &[u8], class: u8) -> usize {
    bytes.iter().position(|&b| CLASS[b as usize] & class == 0).unwrap_or(bytes.len())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[track_caller]
    fn check(source: &str, expected: &[(TokenKind, &str)]) {
        let mut tokens = Vec::new();
        lex(source.as_bytes(), &[], &mut tokens);
        let found: Vec<_> = tokens.iter().map(|t| (t.kind, &source[t.span().range()])).collect();
        assert_eq!(found, expected);
    }

    #[test]
    fn a_tag_is_split_into_its_parts() {
        use TokenKind::*;
        check(
            "<a href='x' b = c d/>t</a >",
            &[
                (StartTag, "<a"),
                (Gap, " "),
                (Attribute, "href='x'"),
                (Gap, " "),
                (Attribute, "b = c"),
                (Gap, " "),
                (Attribute, "d"),
                (TagEnd, "/>"),
                (Text, "t"),
                (EndTag, "</a"),
                (Gap, " "),
                (TagEnd, ">"),
            ],
        );
    }

    #[test]
    fn raw_text_and_scripts_end_where_the_standard_says() {
        use TokenKind::*;
        check(
            "<style></styl></style>",
            &[(StartTag, "<style"), (TagEnd, ">"), (Raw, "</styl>"), (EndTag, "</style"), (TagEnd, ">")],
        );
        let script = "<!--<script></script>--></script>";
        check(
            &format!("<script>{script}"),
            &[
                (StartTag, "<script"),
                (TagEnd, ">"),
                (Raw, "<!--<script></script>-->"),
                (EndTag, "</script"),
                (TagEnd, ">"),
            ],
        );
        check(
            "<svg><style><a>",
            &[(StartTag, "<svg"), (TagEnd, ">"), (StartTag, "<style"), (TagEnd, ">"), (StartTag, "<a"), (TagEnd, ">")],
        );
    }

    #[test]
    fn text_that_looks_like_tags_stays_text() {
        use TokenKind::*;
        check("a < b <3 </", &[(Text, "a < b <3 </")]);
        check("a</>b", &[(Text, "a"), (Nothing, "</>"), (Text, "b")]);
        check("<!-->x<!-- a --!>", &[(Comment, "<!-->"), (Text, "x"), (Comment, "<!-- a --!>")]);
    }
}
