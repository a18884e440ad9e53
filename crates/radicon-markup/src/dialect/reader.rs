//! Reading a pattern at a place of a source.

use memchr::memmem;

use super::piece::{Captures, Marks, Piece, Place, Side, is_word};
use crate::text::{Span, is_blank, trim_blanks};

/// How far quotes and brackets are minded inside an expression, in bytes.
/// Beyond it the first closing delimiter ends the expression.
const MINDED: usize = 4096;

pub(super) struct Reader<'a> {
    pub source: &'a [u8],
    pub marks: &'a Marks,
    /// The opening delimiter.
    pub lead: &'a [u8],
    /// The closing delimiter, which no expression passes.
    pub tail: &'a [u8],
    /// The pattern ends with its line.
    pub line: bool,
    pub captures: Captures,
}

impl Reader<'_> {
    /// Matches `pieces`, then `rest`, from `at`.
    pub fn read(&mut self, pieces: &[Piece], rest: &[Piece], at: usize, quote: Option<u8>) -> Option<usize> {
        let Some((piece, pieces)) = pieces.split_first() else {
            return if rest.is_empty() { Some(at) } else { self.read(rest, &[], at, quote) };
        };
        match piece {
            Piece::Literal(bytes) => self.source[at..]
                .starts_with(bytes)
                .then(|| at + bytes.len())
                .and_then(|at| self.read(pieces, rest, at, quote)),
            Piece::Blank(_) | Piece::Gap => {
                let length = self.source[at..].iter().take_while(|&&b| is_blank(b)).count();
                // Two words need it between them; a bracket parts them too.
                let glued =
                    *piece == Piece::Blank(true) && length == 0 && self.source.get(at).is_some_and(|&b| is_word(b));
                if glued { None } else { self.read(pieces, rest, at + length, quote) }
            }
            Piece::Quote(_) => {
                let found = *self.source.get(at)?;
                match quote {
                    Some(open) if open == found => self.read(pieces, rest, at + 1, None),
                    None if matches!(found, b'"' | b'\'') => self.read(pieces, rest, at + 1, Some(found)),
                    _ => None,
                }
            }
            Piece::Mark(side) => self.mark(*side, pieces, rest, at, quote),
            Piece::Optional(inner) => {
                let saved = self.captures;
                let joined: Vec<Piece> = pieces.iter().chain(rest).cloned().collect();
                self.read(inner, &joined, at, quote).or_else(|| {
                    self.captures = saved;
                    self.read(pieces, rest, at, quote)
                })
            }
            Piece::Place(place) => self.place(*place, pieces, rest, at, quote),
        }
    }

    fn mark(&mut self, side: Side, pieces: &[Piece], rest: &[Piece], at: usize, quote: Option<u8>) -> Option<usize> {
        let here = &self.source[at..];
        let trim = self.marks.trim.iter().find(|mark| here.starts_with(mark)).map(Vec::len);
        let exact = self.marks.exact.iter().find(|mark| side == Side::Left && here.starts_with(mark)).map(Vec::len);
        if let Some(length) = trim.or(exact) {
            let saved = self.captures;
            match (side, trim.is_some()) {
                (_, true) => self.captures.marks[side as usize] = Span::from_range(at..at + length),
                (_, false) => self.captures.exact = true,
            }
            if let Some(end) = self.read(pieces, rest, at + length, quote) {
                return Some(end);
            }
            self.captures = saved;
        }
        self.read(pieces, rest, at, quote)
    }

    fn place(&mut self, place: Place, pieces: &[Piece], rest: &[Piece], at: usize, quote: Option<u8>) -> Option<usize> {
        match (place, quote) {
            (Place::Target | Place::Name | Place::Value, Some(quote)) => {
                let end = self.quoted(place, pieces, at, quote)?;
                self.capture(place, at..end);
                self.read(pieces, rest, end, Some(quote))
            }
            (Place::Name, None) => self.name(pieces, rest, at),
            // Quotes may be where none are shown.
            (Place::Target, None) if matches!(self.source.get(at), Some(b'"' | b'\'')) => {
                let end = self.quoted(place, &[], at + 1, self.source[at])?;
                if self.source[at..end].iter().any(|&b| is_blank(b)) {
                    return None;
                }
                self.capture(place, at + 1..end);
                self.read(pieces, rest, end + 1, quote)
            }
            (Place::Target | Place::Value, None) => {
                let end = at + self.bare(at);
                if end == at {
                    return None;
                }
                self.capture(place, at..end);
                self.read(pieces, rest, end, quote)
            }
            (Place::Args, None) if self.goes_on(at) => None,
            _ => self.expression(place, pieces, rest, at, quote),
        }
    }

    /// Whether an operator follows the target in quotes that was just read: then it is no
    /// complete literal, but the start of an expression.
    fn goes_on(&self, at: usize) -> bool {
        let end = self.captures.target.end as usize;
        let rest = &self.source[at..];
        let follows = end > 0
            && matches!(self.source.get(end), Some(b'"' | b'\''))
            && trim_blanks(&self.source[(end + 1).min(at)..at]).is_empty();
        let Some(&sign) = rest.first().filter(|_| follows) else { return false };
        match sign {
            b'~' | b'+' | b'|' | b'&' | b'?' | b'%' | b'*' => true,
            // A dot that begins a name, or ends the tag, is an argument of its own.
            b'.' => {
                let after = &rest[1..];
                let blanks = after.iter().take_while(|&&b| is_blank(b)).count();
                end + 1 == at
                    || blanks > 0 && after.get(blanks).is_some_and(|b| is_word(*b) || matches!(b, b'"' | b'\''))
            }
            _ => false,
        }
    }

    /// The end of a text in quotes: the quote, or the piece that the pattern shows before it.
    fn quoted(&self, place: Place, pieces: &[Piece], at: usize, quote: u8) -> Option<usize> {
        let length = memchr::memchr2(quote, if place == Place::Value { quote } else { b'\n' }, &self.source[at..])?;
        let text = &self.source[at..at + length];
        let length = match pieces.first() {
            Some(Piece::Literal(stop)) => memmem::find(text, stop)?,
            _ => length,
        };
        // What is escaped is no plain text.
        let plain = place != Place::Value || !text[..length].contains(&b'\\');
        (plain && (length > 0 || place == Place::Value)).then_some(at + length)
    }

    fn name(&mut self, pieces: &[Piece], rest: &[Piece], at: usize) -> Option<usize> {
        let full = at + self.source[at..].iter().take_while(|&&b| is_name(b)).count();
        let trailing = self.source[at..full].iter().rev().take_while(|&&b| !is_word(b)).count();
        // Signs alone are no name: they are marks of the closing delimiter.
        if at + trailing == full {
            return None;
        }
        // Punctuation at the end of a name rather belongs to the closing delimiter.
        for end in full - trailing..=full {
            let saved = self.captures;
            self.capture(Place::Name, at..end);
            if let Some(end) = self.read(pieces, rest, end, None) {
                return Some(end);
            }
            self.captures = saved;
        }
        None
    }

    /// Length of a target without quotes: up to whitespace, what parts arguments, or the closing delimiter.
    fn bare(&self, at: usize) -> usize {
        let here = &self.source[at..];
        let ends = |b: u8| is_blank(b) || matches!(b, b',' | b';' | b'|' | b'=');
        let end = here.iter().position(|&b| ends(b)).unwrap_or(here.len());
        memmem::find(&here[..end], self.tail).filter(|_| !self.tail.is_empty()).unwrap_or(end)
    }

    /// The shortest stretch after which the rest of the pattern matches.
    fn expression(
        &mut self,
        place: Place,
        pieces: &[Piece],
        rest: &[Piece],
        at: usize,
        quote: Option<u8>,
    ) -> Option<usize> {
        let tail = self.tail;
        let stop = stop_bytes(pieces).or_else(|| stop_bytes(rest)).unwrap_or(tail);
        if stop.is_empty() {
            let line = self.source[at..].iter().position(|&b| b == b'\n').unwrap_or(self.source.len() - at);
            return if self.line { self.ends_expression(place, pieces, rest, at, at + line, quote) } else { None };
        }
        let first = at + find(&self.source[at..], stop)?;
        // What must not be empty does not reach over the end of its own tag.
        if !matches!(place, Place::Args | Place::Text) && trim_blanks(&self.source[at..first]).is_empty() {
            return None;
        }
        if place != Place::Text
            && let Some(end) = self.minded(place, pieces, rest, at, quote, stop)
        {
            return Some(end);
        }
        if stop != tail {
            return None;
        }
        let mut found = first;
        for _ in 0..16 {
            if let Some(end) = self.ends_expression(place, pieces, rest, at, found, quote) {
                return Some(end);
            }
            found = found + 1 + find(&self.source[found + 1..], stop)?;
        }
        None
    }

    /// The same, passing over quoted strings and whole brackets; but a bracket that is still open where the
    /// tag closes and another opens is closed in a later tag: `(= if (windy) { =)`.
    fn minded(
        &mut self,
        place: Place,
        pieces: &[Piece],
        rest: &[Piece],
        at: usize,
        quote: Option<u8>,
        stop: &[u8],
    ) -> Option<usize> {
        let limit = self.source.len().min(at + MINDED);
        let (mut here, mut depth) = (at, 0_usize);
        let is_apart = self.lead.len() > 1 && self.tail.len() > 1;
        let mut is_closed = false;
        // A word among the arguments of a call is inside the brackets of the call.
        if place == Place::Args && is_word(stop[0]) && self.source[at..limit].starts_with(b"(") {
            here += 1;
        }
        // What is right before the end of the tag is there whatever is open.
        let before_end = stop != self.tail && is_fixed_behind_first(pieces, rest);
        while here < limit {
            let rest_of_source = &self.source[here..];
            if is_closed && rest_of_source.starts_with(self.lead) {
                return None;
            }
            is_closed |= depth > 0 && is_apart && rest_of_source.starts_with(self.tail);
            if (depth == 0 || before_end)
                && rest_of_source.starts_with(stop)
                && !(is_word(stop[0]) && here > at && is_word(self.source[here - 1]))
                && let Some(end) = self.ends_expression(place, pieces, rest, at, here, quote)
            {
                return Some(end);
            }
            if depth == 0 && stop != self.tail && !self.tail.is_empty() && rest_of_source.starts_with(self.tail) {
                return None;
            }
            match self.source[here] {
                b'(' | b'[' | b'{' => depth += 1,
                b')' | b']' | b'}' => depth = depth.saturating_sub(1),
                mark @ (b'"' | b'\'') => {
                    let string = &self.source[here + 1..limit];
                    if let Some(length) = memchr::memchr2(mark, b'\n', string).filter(|&length| string[length] == mark)
                    {
                        here += length + 1;
                    }
                }
                _ => {}
            }
            here += 1;
        }
        None
    }

    fn ends_expression(
        &mut self,
        place: Place,
        pieces: &[Piece],
        rest: &[Piece],
        at: usize,
        end: usize,
        quote: Option<u8>,
    ) -> Option<usize> {
        let mut last = end;
        let saved = self.captures;
        // A trim mark belongs to the delimiter, not to the expression.
        let marked =
            matches!(pieces.first().or(rest.first()), Some(Piece::Mark(Side::Right) | Piece::Blank(_) | Piece::Gap));
        if marked && let Some(mark) = self.marks.trim.iter().find(|mark| self.source[at..end].ends_with(mark)) {
            last = end - mark.len();
        }
        let inner = trim_blanks(&self.source[at..last]);
        if inner.is_empty() && !matches!(place, Place::Args | Place::Text) {
            return None;
        }
        let skipped = self.source[at..last].iter().take_while(|&&b| is_blank(b)).count();
        let start = at + skipped.min(last - at);
        self.capture(place, start..start + inner.len());
        let result = self.read(pieces, rest, start + inner.len(), quote);
        if result.is_none() {
            self.captures = saved;
        }
        result
    }

    fn capture(&mut self, place: Place, range: std::ops::Range<usize>) {
        let span = Span::from_range(range);
        let captures = &mut self.captures;
        match place {
            Place::Target | Place::TargetExpr => captures.target = span,
            Place::Name => captures.name = span,
            Place::Value | Place::ValueExpr => captures.value = span,
            Place::Expr | Place::Args | Place::Text => {
                *(if captures.expressions == 0 { &mut captures.expr } else { &mut captures.after }) = span;
                captures.expressions += 1;
            }
        }
    }
}

fn is_name(byte: u8) -> bool {
    is_word(byte) || matches!(byte, b'-' | b'.' | b':' | b'$')
}

/// The place of a short needle; most are near, so no searcher is built.
fn find(haystack: &[u8], needle: &[u8]) -> Option<usize> {
    let (&first, rest) = needle.split_first()?;
    memchr::memchr_iter(first, haystack).find(|&at| haystack[at + 1..].starts_with(rest))
}

/// Whether nothing varies behind the next fixed bytes of a pattern.
fn is_fixed_behind_first(pieces: &[Piece], rest: &[Piece]) -> bool {
    let mut behind = pieces.iter().chain(rest).skip_while(|piece| !matches!(piece, Piece::Literal(_)));
    behind.all(|piece| !matches!(piece, Piece::Place(_) | Piece::Optional(_)))
}

/// The next fixed bytes of a pattern.
fn stop_bytes(pieces: &[Piece]) -> Option<&[u8]> {
    pieces.iter().find_map(|piece| match piece {
        Piece::Literal(bytes) => Some(&bytes[..]),
        _ => None,
    })
}
