//! Byte spans and the way from a byte offset to a line and column.
//!
//! Sources are bytes. Nothing here assumes UTF-8, and nothing decodes more than
//! it must to count the characters of one line.

use std::borrow::Cow;
use std::ops::Range;
use std::sync::OnceLock;

use serde::{Deserialize, Serialize};

use crate::id;

/// The longest source that is read, in bytes (spans are 32-bit).
pub const MAX_SOURCE: usize = u32::MAX as usize - 1;

/// A half-open range of bytes in one source.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Span {
    /// Offset of the first byte, 0-based.
    pub start: u32,
    /// Offset after the last byte.
    pub end: u32,
}

impl Span {
    /// The span from `start` up to but not including `end`.
    pub const fn new(start: u32, end: u32) -> Self {
        Self { start, end }
    }

    /// The same from `usize` offsets; offsets beyond [`MAX_SOURCE`] saturate.
    pub fn from_range(range: Range<usize>) -> Self {
        let narrow = |at: usize| u32::try_from(at).unwrap_or(u32::MAX);
        Self::new(narrow(range.start), narrow(range.end))
    }

    /// Length in bytes.
    pub const fn len(self) -> usize {
        self.end.saturating_sub(self.start) as usize
    }

    /// Whether it covers no byte.
    pub const fn is_empty(self) -> bool {
        self.start >= self.end
    }

    /// The span as a range to index with.
    pub const fn range(self) -> Range<usize> {
        self.start as usize..self.end as usize
    }

    /// The bytes it covers; empty where it does not lie inside `source`.
    pub fn of(self, source: &[u8]) -> &[u8] {
        source.get(self.range()).unwrap_or(&[])
    }

    /// The span without the whitespace at its ends.
    #[must_use]
    pub fn trimmed(self, source: &[u8]) -> Self {
        let text = self.of(source);
        let lead = text.iter().take_while(|b| is_blank(**b)).count() as u32;
        Self::new(self.start + lead, self.start + lead + trim_blanks(text).len() as u32)
    }

    /// The text it covers, with replacement characters for what is not UTF-8.
    pub fn text(self, source: &[u8]) -> std::borrow::Cow<'_, str> {
        String::from_utf8_lossy(self.of(source))
    }
}

id!(
    /// The number of a source within a site.
    pub SourceId:
);

/// A place a person can go to.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Position {
    /// Line, 1-based; lines end at `\n`.
    pub line: u32,
    /// Column, 1-based, in characters; a byte that is not UTF-8 counts as one.
    pub column: u32,
}

/// A place in a file.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Place {
    /// The file's path.
    pub file: String,
    /// The line, 1-based.
    pub line: u32,
}

/// Offsets of the line starts of one source.
#[derive(Clone, Debug)]
pub struct LineIndex {
    starts: Vec<u32>,
    /// How many characters are before each [`STEP`]th byte; counted once a long line asks for it.
    characters: OnceLock<Vec<u32>>,
}

/// The characters of lines of more bytes are counted from the nearest multiple of so many: a file may be one line.
const STEP: usize = 4096;

impl LineIndex {
    /// Finds the lines of `source` in one pass.
    pub fn new(source: &[u8]) -> Self {
        let mut starts = vec![0];
        starts.extend(memchr::memchr_iter(b'\n', source).map(|at| at as u32 + 1));
        Self { starts, characters: OnceLock::new() }
    }

    /// The 1-based line of a byte offset.
    pub fn line(&self, offset: u32) -> u32 {
        self.starts.partition_point(|&start| start <= offset) as u32
    }

    /// The offset at which a line, 1-based, starts.
    pub fn start(&self, line: u32) -> u32 {
        self.starts[line as usize - 1]
    }

    /// Line and column of a byte offset; offsets past the end count as the end.
    pub fn position(&self, source: &[u8], offset: u32) -> Position {
        let offset = offset.min(source.len() as u32);
        let line = self.line(offset);
        let start = self.starts[line as usize - 1];
        let before = Span::new(start, offset).of(source);
        let count = match before.len() {
            0..=STEP => String::from_utf8_lossy(before).chars().count() as u32,
            _ => self.characters_before(source, offset) - self.characters_before(source, start),
        };
        Position { line, column: count + 1 }
    }

    fn characters_before(&self, source: &[u8], offset: u32) -> u32 {
        let begins = |bytes: &[u8]| bytes.iter().filter(|b| **b & 0xc0 != 0x80).count() as u32;
        let counted = self.characters.get_or_init(|| {
            let mut counted = vec![0];
            for chunk in source.chunks(STEP) {
                counted.push(counted.last().copied().unwrap_or(0) + begins(chunk));
            }
            counted
        });
        let step = offset as usize / STEP;
        counted[step] + begins(&source[step * STEP..offset as usize])
    }
}

/// Line and column of an offset, for a single look-up.
pub fn position(source: &[u8], offset: u32) -> Position {
    LineIndex::new(source).position(source, offset)
}

/// Number of lines as an editor counts them: a last line without a line end is one.
pub fn count_lines(source: &[u8]) -> usize {
    let ends = memchr::memchr_iter(b'\n', source).count();
    ends + usize::from(source.last().is_some_and(|&last| last != b'\n'))
}

/// Whitespace of HTML: space, tab, line feed, form feed, carriage return.
pub const fn is_blank(byte: u8) -> bool {
    matches!(byte, b' ' | b'\t' | b'\n' | 0x0c | b'\r')
}

/// The bytes that some editors put before all else.
pub const BYTE_ORDER_MARK: &[u8] = b"\xef\xbb\xbf";

/// The start of the line of a place; a byte-order mark belongs to no line.
pub fn line_start(source: &[u8], at: usize) -> usize {
    let mark = if source[..at].starts_with(BYTE_ORDER_MARK) { BYTE_ORDER_MARK.len() } else { 0 };
    memchr::memrchr(b'\n', &source[..at]).map_or(mark, |end| end + 1)
}

/// The source without blanks at both ends.
pub fn trim_blanks(bytes: &[u8]) -> &[u8] {
    let start = bytes.iter().position(|&b| !is_blank(b)).unwrap_or(bytes.len());
    let end = bytes.iter().rposition(|&b| !is_blank(b)).map_or(start, |at| at + 1);
    &bytes[start..end]
}

/// A text, trimmed before, with one space between its words.
pub fn single_spaced(text: &[u8]) -> Cow<'_, [u8]> {
    let mut blank = false;
    let spaced = text.iter().any(|&b| {
        let before = std::mem::replace(&mut blank, b <= b' ' && is_blank(b));
        blank && (before || b != b' ')
    });
    if !spaced {
        return text.into();
    }
    let mut out = Vec::with_capacity(text.len());
    for word in text.split(|&b| is_blank(b)).filter(|word| !word.is_empty()) {
        if !out.is_empty() {
            out.push(b' ');
        }
        out.extend_from_slice(word);
    }
    out.into()
}

/// A slip is so many letters at most: a long path that differs in more is another one.
const MOST_SLIPPED: usize = 3;

/// The candidate that `written` was probably meant to be: at most a third of its letters differ.
pub fn did_you_mean<'a>(written: &str, candidates: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let allowed = (written.chars().count() / 3).clamp(1, MOST_SLIPPED);
    candidates
        .into_iter()
        .map(|candidate| (distance(written, candidate), candidate))
        .filter(|&(distance, _)| distance > 0 && distance <= allowed)
        .min()
        .map(|(_, candidate)| candidate)
}

/// From so many letters on a word may differ in two of them and still be a slip of another.
const LONG_WORD: usize = 8;

/// A word that is used more often than this is meant.
pub const MOST_SLIPS: usize = 2;

/// The candidate that a word is a slip of: one letter is wrong, missing, too many or changed with its neighbour; of a
/// long word two. Stricter than [`did_you_mean`]: what is said to be a mistake must be one.
pub fn slip_of<'a>(written: &str, candidates: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let allowed = if written.chars().count() < LONG_WORD { 1 } else { 2 };
    let near = candidates.into_iter().filter(|candidate| candidate.len().abs_diff(written.len()) <= allowed * 4);
    near.map(|candidate| (distance(written, candidate), candidate))
        .filter(|&(distance, _)| distance > 0 && distance <= allowed)
        .min()
        .map(|(_, candidate)| candidate)
}

/// Edit distance with swaps of neighbours (optimal string alignment; Damerau 1964).
fn distance(a: &str, b: &str) -> usize {
    let (a, b): (Vec<char>, Vec<char>) = (a.chars().collect(), b.chars().collect());
    let mut rows = vec![(0..=b.len()).collect::<Vec<_>>()];
    for i in 1..=a.len() {
        let mut row = vec![i];
        for j in 1..=b.len() {
            let replace = rows[i - 1][j - 1] + usize::from(a[i - 1] != b[j - 1]);
            let mut best = replace.min(rows[i - 1][j] + 1).min(row[j - 1] + 1);
            if i > 1 && j > 1 && a[i - 1] == b[j - 2] && a[i - 2] == b[j - 1] {
                best = best.min(rows[i - 2][j - 2] + 1);
            }
            row.push(best);
        }
        rows.push(row);
    }
    rows[a.len()][b.len()]
}

/// A number with its thousands apart: `35,626`.
#[doc(hidden)]
pub fn number(value: usize) -> String {
    let digits = value.to_string();
    let mut out = String::new();
    for (index, digit) in digits.chars().enumerate() {
        if index > 0 && (digits.len() - index).is_multiple_of(3) {
            out.push(',');
        }
        out.push(digit);
    }
    out
}

/// A number of things: `1 page`, `2 pages`, `2 copies`.
#[doc(hidden)]
pub fn count(value: usize, noun: &str) -> String {
    let many = match noun.strip_suffix('y') {
        Some(stem) => format!("{stem}ies"),
        None => format!("{noun}s"),
    };
    format!("{} {}", number(value), if value == 1 { noun } else { &many })
}

/// How much of a content is shown, in characters.
const PREVIEW: usize = 72;

/// The start of a content on one line.
pub fn preview(content: &[u8]) -> String {
    let text = String::from_utf8_lossy(&content[..content.len().min(4 * PREVIEW)]).into_owned();
    let words = text.split_whitespace().collect::<Vec<_>>().join(" ");
    let mut short: String = words.chars().take(PREVIEW).collect();
    if short.len() < words.len() || content.len() > 4 * PREVIEW {
        short.push('…');
    }
    short
}

/// A URL or a part of one without the codes that stand for some of its bytes, such as `%20`; what is no code is kept.
pub fn percent_decoded(url: &str) -> String {
    let mut bytes = Vec::with_capacity(url.len());
    let mut rest = url.as_bytes();
    while let Some((&first, more)) = rest.split_first() {
        let code = more.get(..2).and_then(|hex| u8::from_str_radix(std::str::from_utf8(hex).ok()?, 16).ok());
        match code.filter(|_| first == b'%') {
            Some(code) => {
                bytes.push(code);
                rest = &more[2..];
            }
            None => {
                bytes.push(first);
                rest = more;
            }
        }
    }
    String::from_utf8_lossy(&bytes).into_owned()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_read_well() {
        assert_eq!([number(7), number(1234), number(1_234_567)], ["7", "1,234", "1,234,567"]);
        assert_eq!([count(1, "page"), count(0, "page"), count(2, "copy")], ["1 page", "0 pages", "2 copies"]);
    }

    #[test]
    fn positions_count_characters_and_lines() {
        let source = "a\r\nbü\u{20ac}x\n\nlast".as_bytes();
        let index = LineIndex::new(source);
        for (offset, line, column) in [(0, 1, 1), (3, 2, 1), (6, 2, 3), (9, 2, 4), (11, 3, 1), (12, 4, 1), (99, 4, 5)] {
            assert_eq!(index.position(source, offset), Position { line, column }, "offset {offset}");
        }
        assert_eq!(position(b"\xff\xffx", 2), Position { line: 1, column: 3 });
        // Of a long line the same.
        let source = "\n".to_owned() + &"\u{20ac}".repeat(4_000) + "x";
        let at = |offset| position(source.as_bytes(), offset).column;
        assert_eq!([at(1), at(1 + 3 * 3_000), at(1 + 3 * 4_000), at(12_002)], [1, 3_001, 4_001, 4_002]);
    }

    #[test]
    fn lines_are_counted_as_an_editor_does() {
        for (text, lines) in [("", 0), ("a", 1), ("a\n", 1), ("a\nb", 2), ("\n\n", 2)] {
            assert_eq!(count_lines(text.as_bytes()), lines, "{text:?}");
        }
    }

    #[test]
    fn a_slip_is_recognised_and_a_stranger_is_not() {
        let words = ["parent", "block", "include"];
        assert_eq!(did_you_mean("blokc", words), Some("block"));
        assert_eq!(did_you_mean("inlcude", words), Some("include"));
        assert_eq!(did_you_mean("ferry", words), None);
        assert_eq!(did_you_mean("block", words), None);
    }

    #[test]
    fn codes_of_bytes_are_read() {
        for (url, path) in [("a%20b", "a b"), ("%c3%A9", "é"), ("/a%zz%4", "/a%zz%4"), ("", "")] {
            assert_eq!(percent_decoded(url), path);
        }
    }
}
