//! Patterns: a form written as an example, compiled to read and to write it.

use super::piece::{Captures, Marks, Piece, Place, Side, is_word};
use super::reader::Reader;
use crate::text::{BYTE_ORDER_MARK, did_you_mean, is_blank};

const PLACES: [(&str, Place); 8] = [
    ("target", Place::Target),
    ("name", Place::Name),
    ("alias", Place::Name),
    ("value", Place::Value),
    ("expr", Place::Expr),
    ("parts", Place::Expr),
    ("args", Place::Args),
    ("text", Place::Text),
];

/// One example of a form, compiled.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Pattern {
    pub(super) pieces: Vec<Piece>,
    lead: Vec<u8>,
    tail: Vec<u8>,
    specificity: usize,
    text: String,
    /// It is alone on its line, and ends with it.
    line: bool,
    /// It is an attribute of an element.
    attribute: bool,
    /// Arguments may follow, up to the end of the statement.
    goes_on: bool,
}

/// The part of a text that a pattern stands for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Reach {
    /// A tag with its delimiters.
    Tag,
    /// A tag that takes a line of its own.
    Line,
    /// A line of a header.
    Header,
    /// A stretch of a longer tag.
    Within,
}

/// The values for the places of a pattern when it is written.
#[derive(Clone, Copy, Debug, Default)]
pub struct Values<'a> {
    /// For `<target>`.
    pub target: &'a str,
    /// For `<name>` and `<alias>`.
    pub name: &'a str,
    /// For `<value>`.
    pub value: &'a str,
    /// For the first of `<expr>`, `<args>`, `<parts>` and `<text>`.
    pub expr: &'a str,
    /// For the second of them.
    pub after: &'a str,
}

impl Pattern {
    /// Compiles an example.
    ///
    /// # Errors
    /// With the byte offset within `text` and what is wrong there.
    pub fn parse(text: &str) -> Result<Self, (usize, String)> {
        Self::compile(text, Reach::Tag)
    }

    /// Compiles an example of which is known what it stands for.
    pub(super) fn compile(text: &str, reach: Reach) -> Result<Self, (usize, String)> {
        if let Some(inner) = text.strip_prefix("<*") {
            return Self::compile_attribute(text, inner);
        }
        if matches!(reach, Reach::Header | Reach::Within) {
            return Self::compile_bare(text, reach);
        }
        let line = reach == Reach::Line;
        let mut pieces = Parser { text: text.as_bytes(), at: 0 }.pieces(false)?;
        let lead = match pieces.first() {
            Some(Piece::Literal(bytes)) => {
                bytes[..bytes.iter().position(|&b| is_word(b)).unwrap_or(bytes.len())].to_vec()
            }
            _ => Vec::new(),
        };
        if matches!(pieces.first(), Some(Piece::Optional(_))) {
            let message =
                format!("`[ … ]` is an optional part; write literal brackets with a backslash: '{}'", escaped(text));
            return Err((0, message));
        }
        if lead.is_empty() {
            return Err((0, "a form must begin with a bracket or sigil".into()));
        }
        let tail = match pieces.last() {
            Some(Piece::Literal(bytes)) => {
                let start = bytes.iter().rposition(|&b| is_word(b)).map_or(0, |at| at + 1);
                bytes[start..].to_vec()
            }
            Some(Piece::Place(Place::Name | Place::Target)) => Vec::new(),
            Some(Piece::Place(_)) if !line => {
                return Err((text.len(), "nothing says where this ends; close it, or say `line = true`".into()));
            }
            _ => Vec::new(),
        };
        insert_marks(&mut pieces, lead.len(), tail.len());
        let mut pieces = with_gaps(pieces);
        demand_blanks(&mut pieces);
        let specificity = specificity(&pieces);
        Ok(Self { pieces, lead, tail, specificity, text: text.to_owned(), line, ..Self::default() })
    }

    /// A pattern without delimiters of its own.
    fn compile_bare(text: &str, reach: Reach) -> Result<Self, (usize, String)> {
        let mut pieces = Parser { text: text.as_bytes(), at: 0 }.pieces(false)?;
        if reach == Reach::Within && !matches!(pieces.first(), Some(Piece::Literal(_))) {
            return Err((0, "a form inside of a longer text must begin with a word or sign".into()));
        }
        // What follows a call is told by the end of its statement.
        let is_rest = |piece: &Piece| matches!(piece, Piece::Optional(inner) if matches!(inner.last(), Some(Piece::Place(Place::Args))));
        let goes_on = reach == Reach::Within && pieces.pop_if(|piece| is_rest(piece)).is_some();
        if goes_on && matches!(pieces.last(), Some(Piece::Blank(_))) {
            pieces.pop();
        }
        let mut pieces = with_gaps(pieces);
        demand_blanks(&mut pieces);
        let (specificity, line) = (specificity(&pieces), reach == Reach::Header);
        Ok(Self { pieces, specificity, text: text.to_owned(), line, goes_on, ..Self::default() })
    }

    /// `<* name="…">`: an attribute of any element.
    fn compile_attribute(text: &str, inner: &str) -> Result<Self, (usize, String)> {
        let inner = inner.strip_suffix('>').ok_or((text.len(), "an attribute form ends with `>`".to_owned()))?.trim();
        let from = text.find(inner).unwrap_or(0);
        let pieces = Parser { text: inner.as_bytes(), at: 0 }.pieces(false);
        let mut pieces = with_gaps(pieces.map_err(|(at, message)| (from + at, message))?);
        demand_blanks(&mut pieces);
        let specificity = specificity(&pieces);
        Ok(Self { pieces, specificity, text: text.to_owned(), attribute: true, ..Self::default() })
    }

    /// Whether arguments may follow, up to the end of the statement.
    pub(crate) fn goes_on(&self) -> bool {
        self.goes_on
    }

    /// The fixed bytes that it begins with.
    pub(crate) fn first_bytes(&self) -> &[u8] {
        match self.pieces.first() {
            Some(Piece::Literal(bytes)) => bytes,
            _ => &[],
        }
    }

    /// Whether it is written as an attribute of an element.
    pub fn is_attribute(&self) -> bool {
        self.attribute
    }

    /// The example it was compiled from.
    pub fn example(&self) -> &str {
        &self.text
    }

    /// The opening delimiter: where a match can begin.
    pub fn lead(&self) -> &[u8] {
        &self.lead
    }

    /// The closing delimiter; empty for a form that has none.
    pub fn tail(&self) -> &[u8] {
        &self.tail
    }

    /// The fixed bytes that must follow the opening delimiter, marks and whitespace.
    pub(crate) fn first_word(&self) -> &[u8] {
        let after = self.pieces.iter().skip(2).find(|piece| !matches!(piece, Piece::Blank(_) | Piece::Gap));
        match after {
            Some(Piece::Literal(bytes)) => bytes,
            _ => &[],
        }
    }

    /// How much of it is fixed; of several that match, the most specific counts.
    pub(crate) fn specificity(&self) -> usize {
        self.specificity
    }

    /// The same with an expression where the target or the short content is
    /// in quotes, or `None` if it has neither.
    pub(crate) fn with_dynamic(&self) -> Option<Self> {
        let quoted = |at: usize| matches!(self.pieces.get(at), Some(Piece::Quote(_)));
        let dynamic = |piece: &Piece| match piece {
            Piece::Place(Place::Target) => Some(Place::TargetExpr),
            Piece::Place(Place::Value) => Some(Place::ValueExpr),
            _ => None,
        };
        let found = self.pieces.iter().enumerate().find_map(|(at, piece)| Some((at, dynamic(piece)?)));
        let (at, place) = found.filter(|&(at, _)| at > 0 && quoted(at - 1) && quoted(at + 1))?;
        let mut pieces = self.pieces.clone();
        pieces.splice(at - 1..=at + 1, [Piece::Place(place)]);
        demand_blanks(&mut pieces);
        Some(Self { specificity: specificity(&pieces), pieces, ..self.clone() })
    }

    /// Reads the pattern at `at`; gives the end of the match and what it captured.
    pub fn read(&self, source: &[u8], at: usize, marks: &Marks) -> Option<(usize, Captures)> {
        self.read_behind(false, source, at, marks)
    }

    /// The same, where it is known whether a tag ends at `at`: a sigil right behind one is no plain text.
    pub(crate) fn read_behind(&self, tag: bool, source: &[u8], at: usize, marks: &Marks) -> Option<(usize, Captures)> {
        let before = &source[..at];
        // A partial may have brought a byte-order mark along.
        let before = before.strip_suffix(BYTE_ORDER_MARK).map_or(before, |_| &[][..]);
        // Only what is looked at is sought: a line may be as long as the file.
        if self.line {
            let blanks = before.iter().rev().take_while(|b| is_blank(**b) && **b != b'\n').count();
            let rest = &before[..before.len() - blanks];
            if !(rest.is_empty() || rest.ends_with(b"\n") || rest == BYTE_ORDER_MARK) {
                return None;
            }
        }
        // What closes as it opens is a pair of brackets, and may follow anything.
        if self.is_sigil()
            && !tag
            && self.lead != self.tail
            && before.last().is_some_and(|b| is_word(*b) || self.lead.contains(b))
        {
            return None;
        }
        let (lead, tail) = (&self.lead, &self.tail);
        let mut reader = Reader { source, marks, lead, tail, line: self.line, captures: Captures::default() };
        let end = reader.read(&self.pieces, &[], at, None)?;
        let rest = &source[end..];
        let bounded = match self.pieces.last() {
            Some(Piece::Literal(bytes)) => !bytes.last().is_some_and(|&b| is_word(b)) || !starts_with_word(rest),
            _ => true,
        };
        let alone = !self.line || rest.iter().take_while(|&&b| b != b'\n').all(|&b| is_blank(b));
        (bounded && alone).then_some((end, reader.captures))
    }

    /// Whether it is led by a sigil, which inside or after a word is plain text.
    fn is_sigil(&self) -> bool {
        !self.lead.is_empty() && !self.lead.iter().any(|b| b"([{<>}])".contains(b))
    }

    /// Writes the pattern; optional parts appear if there is something to put into them.
    pub fn write(&self, values: &Values<'_>) -> String {
        let mut out = String::new();
        write(&self.pieces, values, &mut 0, &mut out);
        out
    }

    /// Writes it with a mark of the dialect right after the opening delimiter.
    pub fn write_marked(&self, values: &Values<'_>, mark: &[u8]) -> String {
        let mut out = self.write(values);
        out.insert_str(self.lead.len(), &String::from_utf8_lossy(mark));
        out
    }
}

/// A form whose outer brackets are literal ones.
fn escaped(text: &str) -> String {
    let open = text.bytes().take_while(|&b| b == b'[').count();
    let close = text.bytes().rev().take_while(|&b| b == b']').count();
    let inner = &text[open..text.len() - close.min(text.len() - open)];
    format!("{}{inner}{}", "\\[".repeat(open), "\\]".repeat(close))
}

fn write(pieces: &[Piece], values: &Values<'_>, expressions: &mut usize, out: &mut String) {
    for piece in pieces {
        match piece {
            Piece::Literal(bytes) => out.push_str(&String::from_utf8_lossy(bytes)),
            // Where an optional part is left out two blanks meet.
            Piece::Blank(_) if out.ends_with(' ') => {}
            Piece::Blank(_) => out.push(' '),
            Piece::Quote(quote) => out.push(char::from(*quote)),
            Piece::Place(place) => out.push_str(value(*place, values, expressions)),
            Piece::Optional(inner) => {
                if is_given(inner, values, *expressions) {
                    write(inner, values, expressions, out);
                }
            }
            Piece::Mark(_) | Piece::Gap => {}
        }
    }
}

/// The value of a place; the first expression, then the second.
fn value<'a>(place: Place, values: &Values<'a>, expressions: &mut usize) -> &'a str {
    match place {
        Place::Target | Place::TargetExpr => values.target,
        Place::Name => values.name,
        Place::Value | Place::ValueExpr => values.value,
        Place::Expr | Place::Args | Place::Text => {
            *expressions += 1;
            if *expressions == 1 { values.expr } else { values.after }
        }
    }
}

fn is_given(pieces: &[Piece], values: &Values<'_>, mut expressions: usize) -> bool {
    pieces.iter().any(|piece| match piece {
        Piece::Place(place) => !value(*place, values, &mut expressions).is_empty(),
        _ => false,
    })
}

fn specificity(pieces: &[Piece]) -> usize {
    let weight = |piece: &Piece| match piece {
        Piece::Literal(bytes) => 4 * bytes.len(),
        Piece::Quote(_) => 2,
        Piece::Place(Place::Name | Place::Target | Place::Value) => 1,
        _ => 0,
    };
    pieces.iter().map(weight).sum()
}

fn starts_with_word(bytes: &[u8]) -> bool {
    bytes.first().is_some_and(|&b| is_word(b))
}

/// Puts the places for marks after the opening and before the closing delimiter.
fn insert_marks(pieces: &mut Vec<Piece>, lead: usize, tail: usize) {
    // A single piece that is a delimiter alone opens, and closes nothing.
    let single = matches!(&pieces[..], [Piece::Literal(bytes)] if bytes.len() <= lead + tail);
    if tail > 0
        && !single
        && let Some(Piece::Literal(bytes)) = pieces.pop()
    {
        let (word, close) = bytes.split_at(bytes.len() - tail);
        if !word.is_empty() {
            pieces.push(Piece::Literal(word.to_vec()));
        }
        // A blank more or less beside a delimiter makes no other tag.
        if !matches!(pieces.last(), Some(Piece::Blank(_))) {
            pieces.push(Piece::Gap);
        }
        pieces.extend([Piece::Mark(Side::Right), Piece::Literal(close.to_vec())]);
    }
    if let Some(Piece::Literal(bytes)) = pieces.first().cloned() {
        let (open, word) = bytes.split_at(lead);
        let mut head = vec![Piece::Literal(open.to_vec()), Piece::Mark(Side::Left)];
        let is_blank = word.is_empty() && matches!(pieces.get(1), Some(Piece::Blank(_)));
        if open.iter().any(|b| b"([{<".contains(b)) && !is_blank {
            head.push(Piece::Gap);
        }
        if !word.is_empty() {
            head.push(Piece::Literal(word.to_vec()));
        }
        pieces.splice(0..1, head);
    }
}

/// Whitespace may be beside the punctuation of arguments, though an example
/// shows none. Not inside quotes.
fn with_gaps(pieces: Vec<Piece>) -> Vec<Piece> {
    let mut out: Vec<Piece> = Vec::with_capacity(pieces.len());
    let mut quoted = false;
    for piece in pieces {
        quoted ^= matches!(piece, Piece::Quote(_));
        let glued = |piece: Option<&Piece>| {
            matches!(piece, None | Some(Piece::Blank(_) | Piece::Gap | Piece::Mark(Side::Left)))
        };
        let edges = match &piece {
            Piece::Literal(bytes) if !quoted && !out.is_empty() => {
                (bytes.first().is_some_and(|b| b"),=;|".contains(b)), bytes.last().is_some_and(|b| b"(,=".contains(b)))
            }
            _ => (false, false),
        };
        if edges.0 && !glued(out.last()) {
            // A mark belongs to the delimiter that follows it.
            let at = out.len() - usize::from(matches!(out.last(), Some(Piece::Mark(_))));
            if !glued(at.checked_sub(1).and_then(|at| out.get(at))) {
                out.insert(at, Piece::Gap);
            }
        }
        if matches!(piece, Piece::Blank(_)) && matches!(out.last(), Some(Piece::Gap)) {
            out.pop();
        }
        out.push(piece);
        if edges.1 {
            out.push(Piece::Gap);
        }
    }
    out
}

/// Whitespace must be there only between two words; an expression may begin with one.
fn demand_blanks(pieces: &mut [Piece]) {
    demand_blanks_after(false, pieces);
}

/// The same for pieces that follow a word, or something else.
fn demand_blanks_after(mut behind_word: bool, pieces: &mut [Piece]) {
    for at in 0..pieces.len() {
        let begins_word = pieces.get(at + 1).is_some_and(begins_word);
        match &mut pieces[at] {
            Piece::Blank(demanded) => *demanded = behind_word && begins_word,
            Piece::Optional(inner) => demand_blanks_after(behind_word, inner),
            _ => {}
        }
        behind_word = ends_word(&pieces[at]);
    }
}

fn begins_word(piece: &Piece) -> bool {
    match piece {
        Piece::Literal(bytes) => bytes.first().is_some_and(|&b| is_word(b)),
        Piece::Place(_) => true,
        Piece::Optional(inner) => inner.first().is_some_and(begins_word),
        _ => false,
    }
}

fn ends_word(piece: &Piece) -> bool {
    match piece {
        Piece::Literal(bytes) => bytes.last().is_some_and(|&b| is_word(b)),
        Piece::Place(place) => !matches!(place, Place::Text | Place::Args),
        _ => false,
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
        // Nor is a longer word the word with arguments.
        for pattern in ["{% note [<args>] %}", "{% note[ <args>] %}", "{% note <text> %}"] {
            check(pattern, "{% notes_of pier %}", None);
            check(pattern, "{% note %}", Some(("", "", "")));
            check(pattern, "{% note of pier %}", Some(("", "", "of pier")));
        }
        check("{{ <expr> }}", "{{ f('}}') }}", Some(("", "", "f('}}')")));
        check("{{ <expr> }}", "{{ {a: {b: 1}} }}", Some(("", "", "{a: {b: 1}}")));
        // A bracket that is open where the tag ends is closed in a later tag.
        check("(= when <expr> =)", "(= when (a) { =)x(= } =)", Some(("", "", "(a) {")));
        check("(= <expr> { =)", "(= boats.each(b => { =)x(= }) =)", Some(("", "", "boats.each(b =>")));
        check("(= <expr> =)", "(= f({ a: '=)' }) =)x(= b =)", Some(("", "", "f({ a: '=)' })")));
        // Arguments may be in the brackets of a call, and something behind it.
        let named = "(= bring [<args>] part: \"<target>\" [<args>] =)";
        check(named, "(= bring(part: 'nav', x: [1]) if windy =)", Some(("nav", "", "(")));
        check(named, "(= bring(tide, part: 'nav') =)", Some(("nav", "", "(tide,")));
        check(named, "(= bring(pier(part: 'nav')) =)", None);
        check("{{ <expr> }}", "{{ don't }}", Some(("", "", "don't")));
        check("{{ <expr> }}", "{{ x -}}", Some(("", "", "x")));
        check("{{ <expr> }}", "{{ }}", None);
        check("{# <text> #}", "{# it's \" #}", Some(("", "", "it's \"")));
        check("{% set <name> = <expr> %}", "{% set a = b ~ '%}' %}", Some(("", "a", "b ~ '%}'")));
        check("{% include \"<target>\" [<args>] %}", "{% include 'x' with a=1 %}", Some(("x", "", "with a=1")));
        check("{% include \"<target>\" [<args>] %}", "{% include 'x' %}", Some(("x", "", "")));
        for dynamic in ["'x' ~ y", "'x'~y", "'x' + y", "'x' . y", "'x'.y", "'x' | f"] {
            check("{% include \"<target>\" [<args>] %}", &format!("{{% include {dynamic} %}}"), None);
        }
        check("{% include \"<target>\" [<args>] %}", "{% include 'x' .y %}", Some(("x", "", ".y")));
        check("{% include \"<target>\" [<args>] %}", "{% include 'x' . %}", Some(("x", "", ".")));
        check("{%out%}", "{%- out -%}", Some(("", "", "")));
        check("<!--: layout <target> -->", "<!--: layout a.html -->", Some(("a.html", "", "")));
        check("<!--: layout <target> -->", "<!--:layout a.html-->", Some(("a.html", "", "")));
        check("<!--: end -->", "<!--:= end -->", Some(("", "", "")));
    }

    #[test]
    fn mistakes_in_a_form_are_placed() {
        for (text, at, word) in [
            ("{% a <taget> %}", 5, "<target>"),
            ("{% a [<expr> %}", 5, "`[` without"),
            ("word", 0, "begin with"),
            (r#"[% a "<target>" %]"#, 0, r#"'\[% a "<target>" %\]'"#),
            ("[[ a ]]", 0, r"'\[\[ a \]\]'"),
        ] {
            let (offset, message) = Pattern::parse(text).expect_err(text);
            assert!(offset == at && message.contains(word), "{text}: {offset} {message}");
        }
    }

    #[test]
    fn a_sigil_stands_behind_a_byte_order_mark_but_no_word() {
        let pattern = Pattern::parse("~moor(\"<target>\")").expect("a pattern");
        for (before, read) in [
            ("\u{feff}", true),
            ("x\u{feff}", true),
            ("", true),
            (" ", true),
            ("\u{e9}", false),
            ("a", false),
            ("~", false),
        ] {
            let source = format!("{before}~moor(\"a\")");
            let found = pattern.read(source.as_bytes(), before.len(), &Marks::default());
            assert_eq!(found.is_some(), read, "{source}");
        }
    }

    #[test]
    fn delimiters_that_close_as_they_open_follow_anything() {
        let pattern = Pattern::parse("~~cast off~~").expect("a pattern");
        for before in ["", " ", "word", "~~berth a~~"] {
            let source = format!("{before}~~cast off~~ ~~");
            let found = pattern.read(source.as_bytes(), before.len(), &Marks::default());
            assert_eq!(found.map(|(end, _)| end), Some(source.len() - 3), "{source}");
        }
    }

    #[test]
    fn writing_is_the_inverse_of_reading() {
        let values = Values { target: "a.html", name: "x", expr: "with b", ..Values::default() };
        let pattern = Pattern::parse("{% include \"<target>\" [<args>] %}").expect("a pattern");
        assert_eq!(pattern.write(&values), "{% include \"a.html\" with b %}");
        assert_eq!(pattern.write(&Values { expr: "", ..values }), "{% include \"a.html\" %}");
    }
}
