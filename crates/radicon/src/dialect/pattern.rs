//! Patterns: a form written as an example, compiled to read and to write it.

use memchr::memmem;

use crate::text::{Span, did_you_mean, is_blank, trim_blanks};

/// How far quotes and brackets are minded inside an expression, in bytes.
/// Beyond it the first closing delimiter ends the expression.
const MINDED: usize = 4096;

/// The places of a pattern that stand for something else.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Place {
    Target,
    Name,
    Expr,
    Args,
    Text,
}

const PLACES: [(&str, Place); 5] = [
    ("target", Place::Target),
    ("name", Place::Name),
    ("expr", Place::Expr),
    ("args", Place::Args),
    ("text", Place::Text),
];

#[derive(Clone, Debug, PartialEq, Eq)]
enum Piece {
    Literal(Vec<u8>),
    /// White space; `true` where at least one is needed (between two words).
    Blank(bool),
    Quote(u8),
    Place(Place),
    Optional(Vec<Piece>),
    /// A trim or exact mark may stand here.
    Mark(Side),
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Side {
    Left,
    Right,
}

/// One example of a form, compiled.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Pattern {
    pieces: Vec<Piece>,
    lead: Vec<u8>,
    tail: Vec<u8>,
    specificity: usize,
    text: String,
}

/// Marks that may stand inside the delimiters of a dialect's tags.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Marks {
    /// They remove the white space on their side.
    pub trim: Vec<Vec<u8>>,
    /// They switch the line rule off for one tag.
    pub exact: Vec<Vec<u8>>,
}

/// What a pattern found: spans into the source, empty where nothing was captured.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Captures {
    /// The target's name, without its quotes.
    pub target: Span,
    /// The name of a block or value.
    pub name: Span,
    /// The expression or the arguments.
    pub expr: Span,
    /// A trim mark stood at the opening delimiter.
    pub trim_left: bool,
    /// A trim mark stood at the closing delimiter.
    pub trim_right: bool,
    /// An exact mark stood at the opening delimiter.
    pub exact: bool,
}

/// What to put into the places of a pattern when writing it.
#[derive(Clone, Copy, Debug, Default)]
pub struct Values<'a> {
    /// For `<target>`.
    pub target: &'a str,
    /// For `<name>`.
    pub name: &'a str,
    /// For `<expr>`, `<args>` and `<text>`.
    pub expr: &'a str,
}

impl Pattern {
    /// Compiles an example.
    ///
    /// # Errors
    /// With the byte offset within `text` and what is wrong there.
    pub fn parse(text: &str) -> Result<Self, (usize, String)> {
        let mut parser = Parser { text: text.as_bytes(), at: 0 };
        let mut pieces = parser.pieces(false)?;
        let lead = match pieces.first() {
            Some(Piece::Literal(bytes)) => {
                let length = bytes.iter().position(|&b| is_word(b)).unwrap_or(bytes.len());
                if length == 0 {
                    return Err((0, "a form must begin with a bracket or sigil".into()));
                }
                bytes[..length].to_vec()
            }
            _ => return Err((0, "a form must begin with a bracket or sigil".into())),
        };
        let tail = match pieces.last() {
            Some(Piece::Literal(bytes)) => {
                let start = bytes.iter().rposition(|&b| is_word(b)).map_or(0, |at| at + 1);
                bytes[start..].to_vec()
            }
            _ => Vec::new(),
        };
        insert_marks(&mut pieces, lead.len(), tail.len());
        demand_blanks(&mut pieces);
        let specificity = specificity(&pieces);
        Ok(Self { pieces, lead, tail, specificity, text: text.to_owned() })
    }

    /// The example it was compiled from.
    pub fn example(&self) -> &str {
        &self.text
    }

    /// The opening delimiter: where a match can begin.
    pub(crate) fn lead(&self) -> &[u8] {
        &self.lead
    }

    /// The closing delimiter; empty for a form that has none.
    pub(crate) fn tail(&self) -> &[u8] {
        &self.tail
    }

    /// The fixed bytes that must follow the opening delimiter, marks and white space.
    pub(crate) fn first_word(&self) -> &[u8] {
        let after = self.pieces.iter().skip(2).find(|piece| !matches!(piece, Piece::Blank(_)));
        match after {
            Some(Piece::Literal(bytes)) => bytes,
            _ => &[],
        }
    }

    /// How much of it is fixed; of several that match, the most specific counts.
    pub(crate) fn specificity(&self) -> usize {
        self.specificity
    }

    /// The same with an expression where the target's name stands, or `None`
    /// if it has no target.
    pub(crate) fn with_dynamic_target(&self) -> Option<Self> {
        let at = self.pieces.iter().position(|piece| *piece == Piece::Place(Place::Target))?;
        let quoted = |at: usize| matches!(self.pieces.get(at), Some(Piece::Quote(_)));
        if at == 0 || !quoted(at - 1) || !quoted(at + 1) {
            return None;
        }
        let mut pieces = self.pieces.clone();
        pieces.splice(at - 1..=at + 1, [Piece::Place(Place::Expr)]);
        Some(Self { specificity: specificity(&pieces), pieces, ..self.clone() })
    }

    /// Reads the pattern at `at`; gives the end of the match and what it captured.
    pub(crate) fn read(&self, source: &[u8], at: usize, marks: &Marks) -> Option<(usize, Captures)> {
        let mut reader = Reader { source, marks, tail: &self.tail, captures: Captures::default() };
        let end = reader.read(&self.pieces, &[], at, None)?;
        Some((end, reader.captures))
    }

    /// Writes the pattern; optional parts appear if there is an expression for them.
    pub fn write(&self, values: &Values<'_>) -> String {
        let mut out = String::new();
        write(&self.pieces, values, &mut out);
        out
    }

    /// Writes it with a mark of the dialect right after the opening delimiter.
    pub(crate) fn write_marked(&self, values: &Values<'_>, mark: &[u8]) -> String {
        let mut out = self.write(values);
        out.insert_str(self.lead.len(), &String::from_utf8_lossy(mark));
        out
    }
}

fn write(pieces: &[Piece], values: &Values<'_>, out: &mut String) {
    for piece in pieces {
        match piece {
            Piece::Literal(bytes) => out.push_str(&String::from_utf8_lossy(bytes)),
            // Where an optional part is left out two blanks meet.
            Piece::Blank(_) if out.ends_with(' ') => {}
            Piece::Blank(_) => out.push(' '),
            Piece::Quote(quote) => out.push(char::from(*quote)),
            Piece::Place(Place::Target) => out.push_str(values.target),
            Piece::Place(Place::Name) => out.push_str(values.name),
            Piece::Place(_) => out.push_str(values.expr),
            Piece::Optional(inner) => {
                if !values.expr.is_empty() {
                    write(inner, values, out);
                }
            }
            Piece::Mark(_) => {}
        }
    }
}

fn specificity(pieces: &[Piece]) -> usize {
    let weight = |piece: &Piece| match piece {
        Piece::Literal(bytes) => 4 * bytes.len(),
        Piece::Quote(_) => 2,
        Piece::Place(Place::Name | Place::Target) => 1,
        _ => 0,
    };
    pieces.iter().map(weight).sum()
}

fn is_word(byte: u8) -> bool {
    byte.is_ascii_alphanumeric() || byte == b'_' || byte >= 0x80
}

fn is_name(byte: u8) -> bool {
    is_word(byte) || matches!(byte, b'-' | b'.' | b':' | b'$')
}

/// Puts the places for marks behind the opening and before the closing delimiter.
fn insert_marks(pieces: &mut Vec<Piece>, lead: usize, tail: usize) {
    if tail > 0
        && pieces.len() > 1
        && let Some(Piece::Literal(bytes)) = pieces.pop()
    {
        let (word, close) = bytes.split_at(bytes.len() - tail);
        if !word.is_empty() {
            pieces.push(Piece::Literal(word.to_vec()));
        }
        pieces.extend([Piece::Mark(Side::Right), Piece::Literal(close.to_vec())]);
    }
    if let Some(Piece::Literal(bytes)) = pieces.first().cloned() {
        let (open, word) = bytes.split_at(lead);
        let mut head = vec![Piece::Literal(open.to_vec()), Piece::Mark(Side::Left)];
        if !word.is_empty() {
            head.push(Piece::Literal(word.to_vec()));
        }
        pieces.splice(0..1, head);
    }
}

/// White space must be there only between two words.
fn demand_blanks(pieces: &mut [Piece]) {
    let wordy = |piece: Option<&Piece>, last: bool| match piece {
        Some(Piece::Literal(bytes)) => (if last { bytes.last() } else { bytes.first() }).is_some_and(|&b| is_word(b)),
        Some(Piece::Place(place)) => !matches!(place, Place::Text | Place::Args),
        _ => false,
    };
    for at in 0..pieces.len() {
        if matches!(pieces[at], Piece::Blank(_)) {
            let before = wordy(at.checked_sub(1).and_then(|i| pieces.get(i)), true);
            let after = wordy(pieces.get(at + 1), false);
            pieces[at] = Piece::Blank(before && after);
        }
        if let Piece::Optional(inner) = &mut pieces[at] {
            demand_blanks(inner);
        }
    }
}

struct Parser<'a> {
    text: &'a [u8],
    at: usize,
}

impl Parser<'_> {
    fn pieces(&mut self, nested: bool) -> Result<Vec<Piece>, (usize, String)> {
        let mut pieces = Vec::new();
        while let Some(&byte) = self.text.get(self.at) {
            match byte {
                b']' if nested => return Ok(pieces),
                b']' => {
                    return Err((self.at, "`]` without `[`; a literal bracket is written `\\]`".into()));
                }
                b'[' => {
                    let start = self.at;
                    self.at += 1;
                    let inner = self.pieces(true)?;
                    if self.text.get(self.at) != Some(&b']') {
                        return Err((start, "`[` without `]`; a literal bracket is written `\\[`".into()));
                    }
                    self.at += 1;
                    pieces.push(Piece::Optional(inner));
                }
                b'"' | b'\'' => {
                    self.at += 1;
                    pieces.push(Piece::Quote(byte));
                }
                b'<' => match self.place()? {
                    Some(place) => pieces.push(Piece::Place(place)),
                    None => self.literal(&mut pieces, byte),
                },
                b'\\' if self.at + 1 < self.text.len() => {
                    self.at += 1;
                    let escaped = self.text[self.at];
                    self.literal(&mut pieces, escaped);
                }
                _ if is_blank(byte) => {
                    self.at += 1;
                    if !matches!(pieces.last(), Some(Piece::Blank(_))) {
                        pieces.push(Piece::Blank(false));
                    }
                }
                _ => self.literal(&mut pieces, byte),
            }
        }
        Ok(pieces)
    }

    fn literal(&mut self, pieces: &mut Vec<Piece>, byte: u8) {
        self.at += 1;
        match pieces.last_mut() {
            Some(Piece::Literal(bytes)) => bytes.push(byte),
            _ => pieces.push(Piece::Literal(vec![byte])),
        }
    }

    /// A placeholder such as `<name>`, or `None` for an ordinary `<`.
    fn place(&mut self) -> Result<Option<Place>, (usize, String)> {
        let rest = &self.text[self.at + 1..];
        let length = rest.iter().position(|b| !b.is_ascii_lowercase()).unwrap_or(rest.len());
        if length == 0 || rest.get(length) != Some(&b'>') {
            return Ok(None);
        }
        let word = String::from_utf8_lossy(&rest[..length]).into_owned();
        if let Some((_, place)) = PLACES.iter().find(|(name, _)| *name == word) {
            self.at += length + 2;
            return Ok(Some(*place));
        }
        match did_you_mean(&word, PLACES.iter().map(|(name, _)| *name)) {
            Some(meant) => Err((self.at, format!("unknown placeholder `<{word}>`; did you mean `<{meant}>`?"))),
            None => Ok(None),
        }
    }
}

struct Reader<'a> {
    source: &'a [u8],
    marks: &'a Marks,
    tail: &'a [u8],
    captures: Captures,
}

impl Reader<'_> {
    /// Matches `pieces`, then `rest`, from `at`.
    fn read(&mut self, pieces: &[Piece], rest: &[Piece], at: usize, quote: Option<u8>) -> Option<usize> {
        let Some((piece, pieces)) = pieces.split_first() else {
            return if rest.is_empty() { Some(at) } else { self.read(rest, &[], at, quote) };
        };
        match piece {
            Piece::Literal(bytes) => self.source[at..]
                .starts_with(bytes)
                .then(|| at + bytes.len())
                .and_then(|at| self.read(pieces, rest, at, quote)),
            Piece::Blank(needed) => {
                let length = self.source[at..].iter().take_while(|&&b| is_blank(b)).count();
                if *needed && length == 0 { None } else { self.read(pieces, rest, at + length, quote) }
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
                (Side::Left, true) => self.captures.trim_left = true,
                (Side::Left, false) => self.captures.exact = true,
                (Side::Right, _) => self.captures.trim_right = true,
            }
            if let Some(end) = self.read(pieces, rest, at + length, quote) {
                return Some(end);
            }
            self.captures = saved;
        }
        self.read(pieces, rest, at, quote)
    }

    fn place(&mut self, place: Place, pieces: &[Piece], rest: &[Piece], at: usize, quote: Option<u8>) -> Option<usize> {
        match place {
            Place::Name => {
                let full = at + self.source[at..].iter().take_while(|&&b| is_name(b)).count();
                let trailing = self.source[at..full].iter().rev().take_while(|&&b| !is_word(b)).count();
                // Punctuation at the end of a name rather belongs to the closing delimiter.
                for end in (full - trailing).max(at + 1)..=full {
                    let saved = self.captures;
                    self.captures.name = Span::from_range(at..end);
                    if let Some(end) = self.read(pieces, rest, end, quote) {
                        return Some(end);
                    }
                    self.captures = saved;
                }
                None
            }
            Place::Target => {
                let end = match quote {
                    Some(quote) => at + memchr::memchr2(quote, b'\n', &self.source[at..])?,
                    None => at + self.bare_target(at),
                };
                if end == at {
                    return None;
                }
                self.captures.target = Span::from_range(at..end);
                self.read(pieces, rest, end, quote)
            }
            Place::Expr | Place::Args | Place::Text => self.expression(place, pieces, rest, at, quote),
        }
    }

    /// Length of a target without quotes: up to white space or the closing delimiter.
    fn bare_target(&self, at: usize) -> usize {
        let here = &self.source[at..];
        let end = here.iter().position(|&b| is_blank(b)).unwrap_or(here.len());
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
            return None;
        }
        let first = at + find(&self.source[at..], stop)?;
        if place != Place::Text
            && let Some(end) = self.minded(place, pieces, rest, at, quote, stop)
        {
            return Some(end);
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

    /// The same, passing over quoted strings and whole brackets.
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
        while here < limit {
            if depth == 0
                && self.source[here..].starts_with(stop)
                && let Some(end) = self.ends_expression(place, pieces, rest, at, here, quote)
            {
                return Some(end);
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
        let marked = matches!(pieces.first().or(rest.first()), Some(Piece::Mark(Side::Right) | Piece::Blank(_)));
        if marked && let Some(mark) = self.marks.trim.iter().find(|mark| self.source[at..end].ends_with(mark)) {
            last = end - mark.len();
        }
        let inner = trim_blanks(&self.source[at..last]);
        if inner.is_empty() && place == Place::Expr {
            return None;
        }
        let skipped = self.source[at..last].iter().take_while(|&&b| is_blank(b)).count();
        let start = at + skipped.min(last - at);
        self.captures.expr = Span::from_range(start..start + inner.len());
        let result = self.read(pieces, rest, start + inner.len(), quote);
        if result.is_none() {
            self.captures = saved;
        }
        result
    }
}

/// Where a short needle is; most stand near, so no searcher is built.
fn find(haystack: &[u8], needle: &[u8]) -> Option<usize> {
    let (&first, rest) = needle.split_first()?;
    memchr::memchr_iter(first, haystack).find(|&at| haystack[at + 1..].starts_with(rest))
}

/// The next fixed bytes of a pattern.
fn stop_bytes(pieces: &[Piece]) -> Option<&[u8]> {
    pieces.iter().find_map(|piece| match piece {
        Piece::Literal(bytes) => Some(&bytes[..]),
        _ => None,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[track_caller]
    fn check(pattern: &str, source: &str, expected: Option<(&str, &str, &str)>) {
        let marks = Marks { trim: vec![b"-".to_vec()], exact: vec![b"=".to_vec()] };
        let found = Pattern::parse(pattern).expect("a pattern").read(source.as_bytes(), 0, &marks);
        let captured =
            found.map(|(_, c)| [c.target, c.name, c.expr].map(|span| span.text(source.as_bytes()).into_owned()));
        let captured = captured.as_ref().map(|[target, name, expr]| (target.as_str(), name.as_str(), expr.as_str()));
        assert_eq!(captured, expected, "{pattern} on {source}");
    }

    #[test]
    fn patterns_read_what_they_show() {
        check("{% extends \"<target>\" %}", "{% extends 'a/b.html' %}", Some(("a/b.html", "", "")));
        check("{% extends \"<target>\" %}", "{%extends\n\"a\"%}", Some(("a", "", "")));
        check("{% extends \"<target>\" %}", "{% extends 'a\" %}", None);
        check("{% extends \"<target>\" %}", "{% extends base %}", None);
        check("{% block <name> %}", "{%- block main-nav -%}", Some(("", "main-nav", "")));
        check("{% block <name> %}", "{% block x-%}", Some(("", "x", "")));
        check("{% block <name> %}", "{% blockx %}", None);
        check("{{ <expr> }}", "{{ f('}}') }}", Some(("", "", "f('}}')")));
        check("{{ <expr> }}", "{{ {a: {b: 1}} }}", Some(("", "", "{a: {b: 1}}")));
        check("{{ <expr> }}", "{{ don't }}", Some(("", "", "don't")));
        check("{{ <expr> }}", "{{ x -}}", Some(("", "", "x")));
        check("{{ <expr> }}", "{{ }}", None);
        check("{# <text> #}", "{# it's \" #}", Some(("", "", "it's \"")));
        check("{% set <name> = <expr> %}", "{% set a = b ~ '%}' %}", Some(("", "a", "b ~ '%}'")));
        check("{% include \"<target>\" [<args>] %}", "{% include 'x' with a=1 %}", Some(("x", "", "with a=1")));
        check("{% include \"<target>\" [<args>] %}", "{% include 'x' %}", Some(("x", "", "")));
        check("<!--: layout <target> -->", "<!--: layout a.html -->", Some(("a.html", "", "")));
        check("<!--: layout <target> -->", "<!--:layout a.html-->", Some(("a.html", "", "")));
        check("<!--: end -->", "<!--:= end -->", Some(("", "", "")));
    }

    #[test]
    fn mistakes_in_a_form_are_placed() {
        for (text, at, word) in
            [("{% a <taget> %}", 5, "<target>"), ("{% a [<expr> %}", 5, "`[` without"), ("word", 0, "begin with")]
        {
            let (offset, message) = Pattern::parse(text).expect_err(text);
            assert!(offset == at && message.contains(word), "{text}: {offset} {message}");
        }
    }

    #[test]
    fn writing_is_the_inverse_of_reading() {
        let values = Values { target: "a.html", name: "x", expr: "with b" };
        let pattern = Pattern::parse("{% include \"<target>\" [<args>] %}").expect("a pattern");
        assert_eq!(pattern.write(&values), "{% include \"a.html\" with b %}");
        assert_eq!(pattern.write(&Values { expr: "", ..values }), "{% include \"a.html\" %}");
    }
}
