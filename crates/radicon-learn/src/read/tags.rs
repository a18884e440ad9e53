//! Notations, and the tags that are in files if a notation is one.

use radicon_markup::id;
use std::ops::Range;

use aho_corasick::{AhoCorasick, MatchKind};
use rayon::prelude::*;
use rustc_hash::{FxHashMap, FxHashSet};

use crate::read::corpus::Text;
use crate::read::corpus::TextId;
use crate::read::pieces::is_word;
use crate::thresholds::{MAX_TAG, MAX_TOKENS, NEARLY_ALL};

id!(
    /// A notation.
    pub(crate) NotationId: Notation
);
id!(
    /// A tag.
    pub(crate) TagId: Tag
);

/// How a notation sets its tags off from text.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(crate) enum Style {
    /// Between an opening and a closing delimiter.
    Bracket,
    /// A sigil and a word, with arguments in parentheses or a body in braces.
    Sigil,
    /// A sigil at the start of a line, which the tag fills.
    Line,
    /// A line of the header that begins a file: a word, a sign, a value.
    Header,
    /// An element that HTML does not know.
    Element,
    /// An attribute that HTML does not know.
    Attribute,
}

/// One way to set tags off from text.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Notation {
    pub style: Style,
    pub open: String,
    pub close: String,
    /// Its brackets alone show that it is one; else a meaning must be found.
    pub strong: bool,
    /// Marks beside its delimiters that belong to no tag.
    pub trims: Vec<char>,
    /// Marks after which the name of a file is, and no word: `>` of `(~> parts/nav ~)`; nothing, if it
    /// comes after the delimiter.
    pub names: Vec<String>,
    /// Its tags hold statements rather than a word and its arguments.
    pub code: bool,
}

/// The name that is right after a tag's marks, without quotes, and these marks.
pub(crate) fn name_behind_marks<'t>(source: &'t str, tag: &Tag) -> Option<(&'t str, &'t str)> {
    let bytes = source.as_bytes();
    let slash = usize::from(source[tag.mark.clone()].ends_with('/'));
    let marks = tag.mark.start..tag.mark.end - slash;
    let at = marks.end + blanks(&bytes[marks.end..tag.inner.end]);
    let length = path_length(&bytes[at..tag.inner.end]);
    let is_name = length > 0 && (is_word(bytes[at]) || bytes[at] == b'/');
    is_name.then(|| (&source[marks], &source[at..at + length]))
}

/// A piece of a tag's arguments.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Token {
    pub kind: TokenKind,
    /// Its place in the file, quotes included.
    pub range: Range<usize>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum TokenKind {
    /// A text in quotes.
    Quoted,
    /// A name, a number or a path.
    Word,
    /// Anything else.
    Sign(u8),
}

/// A tag as a notation reads it.
#[derive(Clone, Debug)]
pub(crate) struct Tag {
    pub file: TextId,
    pub notation: NotationId,
    /// All of it.
    pub range: Range<usize>,
    /// The text between the delimiters, trim marks left out.
    pub inner: Range<usize>,
    /// The marks that directly follow the opening delimiter.
    pub mark: Range<usize>,
    /// Its first word, which may be empty.
    pub word: Range<usize>,
    /// The tokens that follow.
    pub tokens: Vec<Token>,
    /// It ends with a brace that its body's end closes.
    pub brace: bool,
    /// Its arguments are in parentheses.
    pub call: bool,
    /// It is in a script or style.
    pub quiet: bool,
    /// The trim marks at its ends.
    pub trimmed: [Option<char>; 2],
    /// The word or sign that ends it, if more than that is in it: `over` of `items.all over |x|`.
    pub tail: Range<usize>,
}

/// A token's text without its quotes.
pub(crate) fn token_text<'t>(text: &'t str, token: &Token) -> &'t str {
    let raw = &text[token.range.clone()];
    match token.kind {
        TokenKind::Quoted => &raw[1..raw.len() - 1],
        _ => raw,
    }
}

/// The tags of all files, in order of files and places.
pub(crate) fn read_all(texts: &[Text], notations: &[Notation]) -> Vec<Tag> {
    let reader = Reader::new(notations);
    let mut tags: Vec<Tag> =
        texts.par_iter().enumerate().flat_map_iter(|(file, text)| reader.read(TextId::at(file), text)).collect();
    // Scripts and styles are full of what looks like a sigil or a single bracket.
    tags.retain(|tag| notations[tag.notation].strong || !tag.quiet);
    // A word opens bodies in braces nearly always, or what follows it is something else.
    let word = |tag: &Tag| (tag.notation, texts[tag.file].text[tag.word.clone()].to_owned());
    let mut braces: FxHashMap<(NotationId, String), (usize, usize)> = FxHashMap::default();
    for tag in tags.iter().filter(|tag| notations[tag.notation].style == Style::Sigil) {
        let entry = braces.entry(word(tag)).or_default();
        (entry.0, entry.1) = (entry.0 + usize::from(tag.brace), entry.1 + 1);
    }
    for tag in tags.iter_mut().filter(|tag| tag.brace && !tag.call) {
        if braces.get(&word(tag)).is_some_and(|(braced, all)| !NEARLY_ALL.reached(*braced, *all)) {
            (tag.brace, tag.range.end, tag.inner.end) = (false, tag.word.end, tag.word.end);
            tag.tokens.clear();
        }
    }
    tags
}

/// Reads the tags of all notations of a file, in order; where two begin at one
/// place the longer delimiter counts.
pub(crate) struct Reader<'n> {
    notations: &'n [Notation],
    brackets: Option<AhoCorasick>,
    ids: Vec<NotationId>,
}

impl<'n> Reader<'n> {
    pub fn new(notations: &'n [Notation]) -> Self {
        let ids: Vec<NotationId> =
            NotationId::all(notations.len()).filter(|&id| notations[id].style == Style::Bracket).collect();
        let opens = ids.iter().map(|&id| &notations[id].open);
        let brackets = AhoCorasick::builder().match_kind(MatchKind::LeftmostLongest).build(opens).ok();
        Self { notations, brackets, ids }
    }

    /// The tags of a file, sorted by place.
    pub fn read(&self, file: TextId, text: &Text) -> Vec<Tag> {
        let mut tags = Vec::new();
        self.bracket_tags(file, text, &mut tags);
        let strong = tags.iter().filter(|tag| self.notations[tag.notation].strong);
        let brackets: FxHashSet<usize> = strong.map(|tag| tag.range.start).collect();
        for (id, notation) in NotationId::each(self.notations) {
            match notation.style {
                Style::Bracket => {}
                Style::Sigil => sigil_tags(file, text, (id, notation), &brackets, &mut tags),
                Style::Line => line_tags(file, text, id, notation, &mut tags),
                Style::Header if text.fence() == Some(&notation.open) => header_tags(file, text, id, &mut tags),
                Style::Header => {}
                Style::Element => element_tags(file, text, id, &mut tags),
                Style::Attribute => attribute_tags(file, text, id, &mut tags),
            }
        }
        tags.sort_by_key(|tag| (tag.range.start, std::cmp::Reverse(tag.range.end)));
        tags
    }

    fn bracket_tags(&self, file: TextId, text: &Text, tags: &mut Vec<Tag>) {
        let Some(automaton) = self.brackets.as_ref().filter(|_| !self.ids.is_empty()) else { return };
        let source = text.text.as_str();
        let mut at = 0;
        while let Some(hit) = automaton.find(aho_corasick::Input::new(source).range(at..)) {
            at = hit.end();
            let id = self.ids[hit.pattern().as_usize()];
            let notation = &self.notations[id];
            if text.is_code(hit.start()) {
                continue;
            }
            let Some(end) = find_close(source, hit.end(), &notation.close) else { continue };
            let mut tag = bracket_tag(source, notation, hit.start()..end + notation.close.len());
            (tag.file, tag.notation, tag.quiet) = (file, id, text.is_quiet(hit.start()));
            at = tag.range.end;
            tags.push(tag);
        }
    }
}

/// The place of the closing delimiter, quotes and brackets minded as far as they go.
fn find_close(source: &str, from: usize, close: &str) -> Option<usize> {
    let bytes = source.as_bytes();
    let limit = bytes.len().min(from + MAX_TAG);
    let nests = close.len() == 1;
    let (mut at, mut depth) = (from, 0_usize);
    while at < limit {
        if depth == 0 && bytes[at..].starts_with(close.as_bytes()) {
            return Some(at);
        }
        match bytes[at] {
            b'(' | b'[' | b'{' if nests => depth += 1,
            b')' | b']' | b'}' if nests => depth = depth.saturating_sub(1),
            quote @ (b'"' | b'\'') => {
                let rest = &bytes[at + 1..limit];
                if let Some(length) = memchr::memchr2(quote, b'\n', rest).filter(|&length| rest[length] == quote) {
                    at += length + 1;
                }
            }
            _ => {}
        }
        at += 1;
    }
    memchr::memmem::find(&bytes[from..limit], close.as_bytes()).map(|found| from + found)
}

fn bracket_tag(source: &str, notation: &Notation, range: Range<usize>) -> Tag {
    let bytes = source.as_bytes();
    let (mut start, mut end) = (range.start + notation.open.len(), range.end - notation.close.len());
    let mut trimmed = [None; 2];
    let mark = |byte: u8| notation.trims.iter().copied().find(|trim| *trim as u32 == u32::from(byte));
    if let Some(trim) = bytes[start..end].first().and_then(|&byte| mark(byte)) {
        (trimmed[0], start) = (Some(trim), start + 1);
    }
    if let Some(trim) = bytes[start..end].last().and_then(|&byte| mark(byte)) {
        (trimmed[1], end) = (Some(trim), end - 1);
    }
    let value = |at: usize| {
        bytes[at] == b'$' && !notation.open.starts_with("<!--") && bytes.get(at + 1).is_some_and(|b| is_word(*b))
    };
    let mark_at = start + blanks(&bytes[start..end]);
    // What closes again is markup.
    let in_markup = bytes[mark_at..end].contains(&b'>');
    let is_mark = |at: &usize| match bytes[*at] {
        b'"' | b'\'' | b'(' | b'[' | b'{' | b'_' | b'.' => false,
        b'<' => !in_markup,
        byte => byte.is_ascii_punctuation() && !value(*at),
    };
    let marks = (mark_at..end).take_while(is_mark).count();
    // A name may begin with a slash.
    let slash = marks - usize::from(marks > 0 && bytes[mark_at + marks - 1] == b'/');
    let is_name = |marks: usize| notation.names.iter().any(|mark| source[mark_at..mark_at + marks] == *mark);
    let marks = if is_name(slash) { slash } else { marks };
    let mark = mark_at..mark_at + marks;
    let word_at = mark.end + blanks(&bytes[mark.end..end]);
    let length = if notation.code || is_name(marks) { 0 } else { call_word(&bytes[word_at..end]) };
    let word = word_at..word_at + length;
    let tail = tail(source, word.end..end);
    // A sign that opens a body is no argument.
    let opens = matches!(&source[tail.clone()], "{" | ":");
    let (tokens, call) = arguments(source, word.end..if opens { tail.start } else { end });
    Tag {
        file: TextId(0),
        notation: NotationId(0),
        range,
        inner: start..end,
        mark,
        word,
        tokens,
        brace: false,
        call,
        quiet: false,
        trimmed,
        tail,
    }
}

/// The word or opening sign at the end of what follows a tag's first word, with the names between bars
/// that may come after it.
fn tail(source: &str, range: Range<usize>) -> Range<usize> {
    let rest = source[range.clone()].trim_end();
    let bars = rest.strip_suffix('|').and_then(|inner| inner.rfind('|'));
    let text = rest[..bars.unwrap_or(rest.len())].trim_end();
    let word = text.bytes().rev().take_while(u8::is_ascii_alphabetic).count();
    let length = if word == 0 && text.ends_with(['{', ':']) { 1 } else { word };
    let start = text.len() - length;
    let is_apart = length > 0 && (word == 0 || text[..start].is_empty() || text[..start].ends_with([' ', '\n', '\t']));
    if is_apart { range.start + start..range.start + text.len() } else { range.end..range.end }
}

fn blanks(bytes: &[u8]) -> usize {
    bytes.iter().take_while(|b| b.is_ascii_whitespace()).count()
}

/// Length of a tag's first word, with the object that it is called on: `page.part "x"`, `page->part("x")`.
fn call_word(bytes: &[u8]) -> usize {
    let length = object_word(bytes);
    let is_called = match bytes[length..] {
        [b'(', ..] | [b' ', b'"' | b'\'' | b':', ..] => true,
        [b' ', b'=', next, ..] => next != b'=' && next != b'>',
        _ => false,
    };
    if is_called { length } else { head_word(bytes) }
}

/// Length of a word behind a sigil, with the object that it is called on.
fn sigil_word(bytes: &[u8]) -> usize {
    let length = object_word(bytes);
    if bytes[length..].starts_with(b"(") { length } else { head_word(bytes) }
}

/// Length of a word with the objects that it belongs to.
fn object_word(bytes: &[u8]) -> usize {
    let mut length = head_word(bytes);
    while length > 0 {
        let rest = &bytes[length..];
        let sign = if rest.starts_with(b".") { 1 } else { 2 * usize::from(rest.starts_with(b"->")) };
        let more = if sign > 0 { head_word(&rest[sign..]) } else { 0 };
        if more == 0 {
            break;
        }
        length += sign + more;
    }
    length
}

/// Length of a tag's first word: letters and digits, with `-` and `:` between them.
fn head_word(bytes: &[u8]) -> usize {
    if !bytes.first().is_some_and(|b| b.is_ascii_alphabetic() || *b == b'_' || *b >= 0x80) {
        return 0;
    }
    let inner = |at: usize| {
        is_word(bytes[at])
            || matches!(bytes[at], b'-' | b':') && bytes.get(at + 1).is_some_and(|b| b.is_ascii_alphanumeric())
    };
    (0..bytes.len()).find(|&at| !inner(at)).unwrap_or(bytes.len())
}

/// The pieces of a tag's arguments, and whether they are in parentheses.
fn arguments(source: &str, range: Range<usize>) -> (Vec<Token>, bool) {
    let mut tokens = tokens(source, range);
    let call = tokens.first().is_some_and(|token| token.kind == TokenKind::Sign(b'('))
        && tokens.last().is_some_and(|token| token.kind == TokenKind::Sign(b')'));
    if call {
        tokens.remove(0);
        tokens.pop();
    }
    (tokens, call)
}

fn tokens(source: &str, range: Range<usize>) -> Vec<Token> {
    let bytes = source.as_bytes();
    let mut found = Vec::new();
    let mut at = range.start;
    while at < range.end && found.len() < MAX_TOKENS {
        let rest = &bytes[at..range.end];
        let (kind, length) = match rest[0] {
            b if b.is_ascii_whitespace() => {
                at += 1;
                continue;
            }
            quote @ (b'"' | b'\'') => match memchr::memchr(quote, &rest[1..]) {
                Some(length) => (TokenKind::Quoted, length + 2),
                None => (TokenKind::Sign(quote), 1),
            },
            b if is_word(b) || b == b'$' => (TokenKind::Word, path_length(rest)),
            b'.' | b'/' | b'~' | b'@' if path_length(rest) > 2 || path_length(rest) == 2 && rest[0] == b'/' => {
                (TokenKind::Word, path_length(rest))
            }
            sign => (TokenKind::Sign(sign), 1),
        };
        found.push(Token { kind, range: at..at + length });
        at += length;
    }
    // A call's closing parenthesis counts, however long it is.
    if at < range.end && source[..range.end].trim_end().ends_with(')') {
        let end = source[..range.end].trim_end().len();
        found.push(Token { kind: TokenKind::Sign(b')'), range: end - 1..end });
    }
    found
}

/// Length of a name or path: words joined by single signs.
fn path_length(bytes: &[u8]) -> usize {
    let joins = |at: usize| {
        matches!(bytes[at], b'-' | b'.' | b'/' | b':' | b'~' | b'@' | b'$')
            && bytes.get(at + 1).is_some_and(|b| is_word(*b) || matches!(b, b'.' | b'/' | b':'))
    };
    (0..bytes.len()).find(|&at| !is_word(bytes[at]) && !joins(at)).unwrap_or(bytes.len())
}

/// Whether a sigil begins a tag at a place: not in or after a word, nor after itself.
fn begins(bytes: &[u8], at: usize, sigil: &[u8]) -> bool {
    let before = at.checked_sub(1).map(|at| bytes[at]);
    !before.is_some_and(|b| is_word(b) || sigil.contains(&b) || matches!(b, b'<' | b'&'))
}

/// Tags that begin with a sigil; a brace in which a tag between `brackets` begins is no body of theirs.
fn sigil_tags(
    file: TextId,
    text: &Text,
    (id, notation): (NotationId, &Notation),
    brackets: &FxHashSet<usize>,
    tags: &mut Vec<Tag>,
) {
    let (source, sigil) = (text.text.as_str(), notation.open.as_bytes());
    let bytes = source.as_bytes();
    let mut covered = 0;
    for start in memchr::memmem::find_iter(bytes, sigil) {
        let from = start + sigil.len();
        let length = sigil_word(&bytes[from..]);
        // Right after another tag it is one too.
        let follows = start > 0 && start == covered;
        if length == 0 || start < covered || !follows && !begins(bytes, start, sigil) {
            continue;
        }
        let word = from..from + length;
        let mut tag = Tag {
            file,
            notation: id,
            range: start..word.end,
            inner: from..word.end,
            mark: from..from,
            word: word.clone(),
            tokens: Vec::new(),
            brace: false,
            call: false,
            quiet: text.is_quiet(start),
            trimmed: [None; 2],
            tail: start..start,
        };
        let mut end = word.end;
        let space = end + bytes[end..].iter().take_while(|&&b| b == b' ').count();
        if bytes.get(space) == Some(&b'(')
            && let Some(close) = find_close(source, space + 1, ")")
        {
            end = close + 1;
            (tag.tokens, tag.call) = (tokens(source, space + 1..close), true);
        }
        // A body in braces, perhaps after a name or two.
        let line = bytes[end..].iter().position(|&b| b == b'\n').map_or(bytes.len(), |at| end + at);
        let names =
            bytes[end..line].iter().take_while(|&&b| is_word(b) || matches!(b, b' ' | b'-' | b'"' | b'\'')).count();
        if bytes.get(end + names) == Some(&b'{') && names < 60 && !brackets.contains(&(end + names)) {
            if !tag.call {
                tag.tokens = tokens(source, end..end + names);
            }
            (tag.brace, end) = (true, end + names + 1);
        }
        (tag.range.end, tag.inner.end) = (end, end);
        covered = if tag.brace { covered } else { end };
        tags.push(tag);
    }
}

fn line_tags(file: TextId, text: &Text, id: NotationId, notation: &Notation, tags: &mut Vec<Tag>) {
    let source = text.text.as_str();
    let mut at = 0;
    for line in source.split_inclusive('\n') {
        let start = at + line.len() - line.trim_start().len();
        let from = start + notation.open.len();
        let end = at + line.trim_end().len();
        at += line.len();
        if !source[start..].starts_with(&notation.open) || from >= end {
            continue;
        }
        let bytes = source.as_bytes();
        let mark_at = from + blanks(&bytes[from..end]);
        let marks =
            bytes[mark_at..end].iter().take_while(|b| b.is_ascii_punctuation() && !b"\"'([{<_$.".contains(b)).count();
        let word_at = mark_at + marks;
        let word = word_at..word_at + head_word(&bytes[word_at..end]);
        let (tokens, call) = arguments(source, word.end..end);
        if word.is_empty() {
            continue;
        }
        let quiet = text.is_quiet(start);
        tags.push(Tag {
            file,
            notation: id,
            range: start..end,
            inner: from..end,
            mark: mark_at..word_at,
            word,
            tokens,
            brace: false,
            call,
            quiet,
            trimmed: [None; 2],
            tail: start..start,
        });
    }
}

fn header_tags(file: TextId, text: &Text, id: NotationId, tags: &mut Vec<Tag>) {
    let source = text.text.as_str();
    let mut at = text.header.start;
    for line in source[text.header.clone()].split_inclusive('\n') {
        let (start, end) = (at, at + line.trim_end().len());
        at += line.len();
        let bytes = &source.as_bytes()[start..end];
        let marks = bytes.iter().take_while(|b| b.is_ascii_punctuation()).count();
        let word = start + marks..start + marks + bytes[marks..].iter().take_while(|b| is_word(**b)).count();
        if word.is_empty() {
            continue;
        }
        let (tokens, _) = arguments(source, word.end..end);
        tags.push(Tag {
            file,
            notation: id,
            range: start..end,
            inner: start..end,
            mark: start..word.start,
            word,
            tokens,
            brace: false,
            call: false,
            quiet: false,
            trimmed: [None; 2],
            tail: start..start,
        });
    }
}

fn element_tags(file: TextId, text: &Text, id: NotationId, tags: &mut Vec<Tag>) {
    let source = text.text.as_str();
    let bytes = source.as_bytes();
    for start in memchr::memchr_iter(b'<', bytes) {
        let closes = usize::from(bytes.get(start + 1) == Some(&b'/'));
        let from = start + 1 + closes;
        let word = from..from + head_word(&bytes[from..]);
        if !bytes[word.clone()].iter().any(|b| matches!(b, b'-' | b':')) || text.is_quiet(start) {
            continue;
        }
        let Some(end) = find_close(source, word.end, ">") else { continue };
        let inner = if source[..end].ends_with('/') { end - 1 } else { end };
        let (tokens, _) = arguments(source, word.end..inner.max(word.end));
        tags.push(Tag {
            file,
            notation: id,
            range: start..end + 1,
            inner: start + 1..inner,
            mark: start + 1..from,
            word,
            tokens,
            brace: false,
            call: false,
            quiet: false,
            trimmed: [None; 2],
            tail: start..start,
        });
    }
}

fn attribute_tags(file: TextId, text: &Text, id: NotationId, tags: &mut Vec<Tag>) {
    let source = text.text.as_str();
    let bytes = source.as_bytes();
    for start in memchr::memchr_iter(b'<', bytes) {
        if !bytes.get(start + 1).is_some_and(u8::is_ascii_alphabetic) || text.is_quiet(start) {
            continue;
        }
        let Some(end) = find_close(source, start + 1, ">") else { continue };
        let mut at = start + 1 + bytes[start + 1..end].iter().take_while(|b| !b.is_ascii_whitespace()).count();
        while at < end {
            at += blanks(&bytes[at..end]);
            let sign = usize::from(b"*%$~^+".contains(&bytes[at]));
            let is_name = |b: &&u8| is_word(**b) || matches!(b, b'-' | b':' | b'@' | b'.');
            let length = bytes[at + sign..end].iter().take_while(is_name).count();
            let name = at..at + if length > 0 { sign + length } else { 0 };
            if name.is_empty() {
                at += 1;
                continue;
            }
            at = name.end;
            let sign = at + blanks(&bytes[at..end]);
            let mut tokens = Vec::new();
            if bytes.get(sign) == Some(&b'=') && sign < end {
                let value = sign + 1 + blanks(&bytes[sign + 1..end]);
                let quote = bytes.get(value).copied().filter(|b| matches!(b, b'"' | b'\''));
                let length = match quote {
                    Some(quote) => memchr::memchr(quote, &bytes[value + 1..]).map_or(1, |length| length + 2),
                    None => bytes[value..end].iter().take_while(|b| !b.is_ascii_whitespace()).count(),
                };
                at = value + length;
                if quote.is_some() && length >= 2 {
                    tokens = vec![
                        Token { kind: TokenKind::Sign(b'='), range: sign..sign + 1 },
                        Token { kind: TokenKind::Quoted, range: value..at },
                    ];
                }
            }
            let word = name.clone();
            let is_signed = bytes[word.start].is_ascii_punctuation();
            if !is_signed && !bytes[word.clone()].iter().any(|b| matches!(b, b'-' | b':'))
                || source[word.clone()].starts_with("aria-")
            {
                continue;
            }
            tags.push(Tag {
                file,
                notation: id,
                range: name.start..at.min(end),
                inner: name.start..at.min(end),
                mark: name.start..name.start,
                word,
                tokens,
                brace: false,
                call: false,
                quiet: false,
                trimmed: [None; 2],
                tail: name.start..name.start,
            });
        }
    }
}

#[cfg(test)]
mod tests {
    use crate::dialect::Kind;
    use crate::testing::{check, learned};

    #[test]
    fn a_sign_may_begin_tags_that_nothing_ends() {
        let layout = "<html><main>\n%berth(main)\n%cast\n</main>%bring(\"parts/nav.html\")</html>";
        let page = "%moor(\"base.html\")\n%berth(main)\n<h1>@</h1>\n~<p>%height</p>\n%cast\n";
        let learned = learned(layout, page, &[]);
        check(&learned, Kind::Parent, &["'%moor(\"<target>\")'"]);
        check(&learned, Kind::Block, &["{ open = \"%berth(<name>)\", close = \"%cast\" }"]);
        check(&learned, Kind::Include, &["'%bring(\"<target>\")'"]);
    }
}
