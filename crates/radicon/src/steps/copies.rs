//! Copies of a stretch of markup, however they are indented, with other values in the places of its values.

use memchr::memmem;

use crate::dialect::Dialect;
use crate::markup::Constructs;
use crate::propose::is_value;
use crate::text::{Span, is_blank};

/// A piece of a stretch.
#[derive(Debug, PartialEq, Eq)]
enum Part {
    Text(Vec<u8>),
    /// A line ends, and another one begins.
    Break,
    /// A value, by its number.
    Value(usize),
}

/// A stretch as its copies are told by.
pub struct Pattern {
    parts: Vec<Part>,
    values: usize,
}

/// Where values stand in a text outside of its tags: in order, each with its number; whole words alone.
pub fn places(text: &[u8], dialect: &Dialect, values: &[(String, String)]) -> Vec<(Span, usize)> {
    let tags = if values.is_empty() { Vec::new() } else { Constructs::read(text, dialect).items };
    let is_in_tag = |span: Span| tags.iter().any(|tag| tag.span.start < span.end && span.start < tag.span.end);
    let is_word = |byte: Option<&u8>| byte.is_some_and(|b| b.is_ascii_alphanumeric() || *b >= 0x80);
    let mut found: Vec<(Span, usize)> = Vec::new();
    let mut order: Vec<usize> = (0..values.len()).collect();
    order.sort_by_key(|&at| std::cmp::Reverse(values[at].1.len()));
    for number in order {
        let value = values[number].1.as_bytes();
        for at in memmem::find_iter(text, value) {
            let span = Span::from_range(at..at + value.len());
            let is_inside = is_word(at.checked_sub(1).and_then(|at| text.get(at))) && is_word(value.first())
                || is_word(text.get(at + value.len())) && is_word(value.last());
            if !is_inside
                && !is_in_tag(span)
                && found.iter().all(|(other, _)| other.end <= span.start || span.end <= other.start)
            {
                found.push((span, number));
            }
        }
    }
    found.sort_by_key(|(span, _)| span.start);
    found
}

impl Pattern {
    pub fn of(text: &[u8], dialect: &Dialect, values: &[(String, String)]) -> Self {
        let mut parts = Vec::new();
        let mut at = 0;
        for (span, number) in places(text, dialect, values) {
            lines(&text[at..span.start as usize], &mut parts);
            parts.push(Part::Value(number));
            at = span.end as usize;
        }
        lines(&text[at..], &mut parts);
        Self { parts, values: values.len() }
    }

    /// The copies in a file, one behind the other, with their values.
    pub fn find(&self, source: &[u8]) -> Vec<(Span, Vec<String>)> {
        let Some(Part::Text(first)) = self.parts.first() else { return Vec::new() };
        let mut found: Vec<(Span, Vec<String>)> = Vec::new();
        for start in memmem::find_iter(source, first) {
            let is_free = found.last().is_none_or(|(last, _)| last.end as usize <= start);
            if let Some((end, values)) = self.at(source, start).filter(|_| is_free) {
                found.push((Span::from_range(start..end), values));
            }
        }
        found
    }

    /// The end of the copy that starts there, and its values.
    fn at(&self, source: &[u8], start: usize) -> Option<(usize, Vec<String>)> {
        let mut at = start;
        let mut values: Vec<Option<String>> = vec![None; self.values];
        for (index, part) in self.parts.iter().enumerate() {
            let rest = &source[at..];
            at += match part {
                Part::Text(text) => rest.strip_prefix(&text[..]).map(|_| text.len())?,
                Part::Break => {
                    let blanks = rest.iter().take_while(|b| is_blank(**b)).count();
                    rest[..blanks].contains(&b'\n').then_some(blanks)?
                }
                Part::Value(number) => {
                    let length = match self.parts.get(index + 1) {
                        Some(Part::Text(next)) => memmem::find(rest, next)?,
                        Some(Part::Break) => {
                            memchr::memchr(b'\n', rest).map(|end| rest[..end].trim_ascii_end().len())?
                        }
                        Some(Part::Value(_)) | None => return None,
                    };
                    let value = std::str::from_utf8(&rest[..length]).ok().filter(|value| is_value(value))?;
                    if values[*number].get_or_insert_with(|| value.to_owned()) != value {
                        return None;
                    }
                    length
                }
            };
        }
        Some((at, values.into_iter().collect::<Option<_>>()?))
    }
}

/// A text by its lines.
fn lines(text: &[u8], parts: &mut Vec<Part>) {
    let mut at = 0;
    while at < text.len() {
        let solid = text[at..].iter().take_while(|b| **b != b'\n').count();
        let ends_line = at + solid < text.len();
        let line = if ends_line { text[at..at + solid].trim_ascii_end() } else { &text[at..] };
        if !line.is_empty() {
            parts.push(Part::Text(line.to_vec()));
        }
        at += solid;
        if ends_line {
            parts.push(Part::Break);
            at += text[at..].iter().take_while(|b| is_blank(**b)).count();
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn copies_are_found_however_they_are_indented() {
        let values = [("name".to_owned(), "Heron".to_owned()), ("link".to_owned(), "heron".to_owned())];
        let dialect = crate::dialect::builtin_named("brace-percent").expect("a dialect");
        let tagged = places(b"{{ Heron }} Heron", &dialect, &values);
        assert_eq!(tagged, [(Span::new(12, 17), 0)]);
        let pattern = Pattern::of(b"<a href=\"/heron.html\">\n  <b>Heron</b>, Heronry\n</a>", &dialect, &values);
        let source = b"\t<a href=\"/gull.html\">\n\t\t<b>Gull</b>, Heronry\r\n\t</a> <a href=\"/gull.html\">x</a>";
        let found = pattern.find(source);
        assert_eq!(found, [(Span::new(1, 52), vec!["Gull".to_owned(), "gull".to_owned()])]);
        for other in [
            "<a href=\"/gull.html\"> <b>Gull</b>, Heronry\n</a>",
            "<a href=\"/g.html\">\n<b><i>G</i></b>, Heronry\n</a>",
        ] {
            assert_eq!(pattern.find(other.as_bytes()), [], "{other}");
        }
    }
}
