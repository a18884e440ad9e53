//! Copies of a partial, with other values and perhaps another indentation: those that the search for near copies
//! missed, since what it compares is a sample, those in whole pages, and those of a stretch that somebody names.

use memchr::memmem;
use xxhash_rust::xxh3::xxh3_64;

use crate::dialect::Kind;
use crate::markup::Constructs;
use crate::propose::pages::page::Page;
use crate::propose::partials::passing::Passing;
use crate::prove::Strength;
use crate::text::Span;

/// A stretch of a file.
#[derive(Clone, Copy)]
pub struct Stretch {
    pub file: usize,
    pub start: usize,
    pub end: usize,
    /// Whole lines; else it is within lines.
    pub lines: bool,
}

/// The line by which copies are found has so many bytes at least.
const LEAST_LINE: usize = 20;

/// A piece of a partial.
#[derive(Clone)]
pub enum Segment {
    Fixed(Vec<u8>),
    /// A value, by the number of its parameter.
    Value(usize),
}

/// The lines of some files: a hash of the content, the file, and the first byte.
pub struct LineTable(Vec<(u64, u32, u32)>);

impl LineTable {
    pub fn of<'f>(files: impl Iterator<Item = (usize, &'f [u8])>) -> Self {
        let mut lines = Vec::new();
        for (file, bytes) in files {
            let mut start = 0;
            for line in bytes.split_inclusive(|b| *b == b'\n') {
                if line.trim_ascii().len() >= LEAST_LINE {
                    lines.push((xxh3_64(line.trim_ascii()), file as u32, start as u32));
                }
                start += line.len();
            }
        }
        lines.sort_unstable();
        Self(lines)
    }

    /// The files with such a line, and its first byte.
    fn places(&self, line: &[u8]) -> impl Iterator<Item = (usize, usize)> {
        let hash = xxh3_64(line.trim_ascii());
        let first = self.0.partition_point(|(other, ..)| *other < hash);
        let same = self.0[first..].iter().take_while(move |(other, ..)| *other == hash);
        same.map(|&(_, file, start)| (file as usize, start as usize))
    }
}

/// A part of a partial, as its copies are told by.
#[derive(Debug, PartialEq, Eq)]
enum Part {
    Text(Vec<u8>),
    /// A line ends.
    Break,
    /// A value, by the number of its parameter.
    Value(usize),
}

/// A partial whose copies are sought: their values differ, and where whitespace does not count their indentation.
pub struct Pattern {
    parts: Vec<Part>,
    values: usize,
    passing: Passing,
    /// Whitespace at the ends of lines counts.
    exact: bool,
}

impl Pattern {
    /// A partial with so many values.
    pub fn of(segments: &[Segment], values: usize, passing: Passing, strength: Strength) -> Self {
        let mut parts: Vec<Part> = Vec::new();
        for segment in segments {
            let bytes = match segment {
                Segment::Value(number) => {
                    parts.push(Part::Value(*number));
                    continue;
                }
                Segment::Fixed(bytes) => bytes,
            };
            for (index, piece) in bytes.split(|b| *b == b'\n').enumerate() {
                if index > 0 {
                    parts.push(Part::Break);
                }
                match parts.last_mut() {
                    Some(Part::Text(known)) => known.extend_from_slice(piece),
                    _ if !piece.is_empty() => parts.push(Part::Text(piece.to_vec())),
                    _ => {}
                }
            }
        }
        // Its last line ends in each copy.
        if parts.last() == Some(&Part::Break) {
            parts.pop();
        }
        let exact = strength == Strength::Bytes;
        if !exact {
            trim(&mut parts);
        }
        Self { parts, values, passing, exact }
    }

    /// A partial as it is written.
    pub fn read(content: &[u8], passing: Passing, strength: Strength) -> Self {
        let constructs = Constructs::read(content, &passing.dialect);
        let mut names: Vec<&[u8]> = Vec::new();
        let mut segments = Vec::new();
        let mut at = 0;
        for item in constructs.items.iter().filter(|item| item.kind == Kind::Output) {
            let name = item.expr.of(content);
            let number = names.iter().position(|known| *known == name).unwrap_or_else(|| {
                names.push(name);
                names.len() - 1
            });
            segments.push(Segment::Fixed(content[at..item.span.start as usize].to_vec()));
            segments.push(Segment::Value(number));
            at = item.span.end as usize;
        }
        segments.push(Segment::Fixed(content[at..].to_vec()));
        Self::of(&segments, names.len(), passing.clone(), strength)
    }

    /// Its copies in a file, one after the other, with the values of each; none if it begins with a value.
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

    /// Its copies that have their lines for themselves, in files that have such lines, with the values of each.
    pub fn find_lines<'f>(&self, table: &LineTable, text: impl Fn(usize) -> &'f [u8]) -> Vec<(Stretch, Vec<String>)> {
        let lines = self.parts.split(|part| *part == Part::Break).enumerate();
        let fixed = lines.filter_map(|(at, line)| match line {
            [Part::Text(bytes)] if bytes.trim_ascii().len() >= LEAST_LINE => Some((at, bytes)),
            _ => None,
        });
        let Some((number, line)) = fixed.max_by_key(|(at, bytes)| (bytes.len(), usize::MAX - at)) else {
            return Vec::new();
        };
        table.places(line).filter_map(|(file, start)| self.lines_at(file, text(file), start, number)).collect()
    }

    /// The copy whose line of this number starts there.
    fn lines_at(&self, file: usize, bytes: &[u8], start: usize, number: usize) -> Option<(Stretch, Vec<String>)> {
        let mut first = start;
        for _ in 0..number {
            let above = bytes[..first].strip_suffix(b"\n")?;
            first = memchr::memrchr(b'\n', above).map_or(0, |at| at + 1);
        }
        let (end, values) = self.at(bytes, first + self.blanks(&bytes[first..]))?;
        let end = end + self.blanks(&bytes[end..]);
        (bytes.get(end) == Some(&b'\n')).then_some((Stretch { file, start: first, end: end + 1, lines: true }, values))
    }

    /// How much whitespace of a line does not count there.
    fn blanks(&self, bytes: &[u8]) -> usize {
        let is_free = |b: &&u8| b.is_ascii_whitespace() && **b != b'\n';
        if self.exact { 0 } else { bytes.iter().take_while(is_free).count() }
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
                    let end = self.blanks(rest);
                    let behind = rest[end..].strip_prefix(b"\n")?;
                    end + 1 + self.blanks(behind)
                }
                Part::Value(number) => {
                    let line = memchr::memchr(b'\n', rest).unwrap_or(rest.len());
                    let length = match self.parts.get(index + 1) {
                        Some(Part::Text(next)) => memmem::find(&rest[..line], next)?,
                        Some(Part::Value(_)) => return None,
                        Some(Part::Break) | None if self.exact => line,
                        Some(Part::Break) | None => rest[..line].trim_ascii_end().len(),
                    };
                    let value = std::str::from_utf8(&rest[..length])
                        .ok()
                        .filter(|value| self.passing.value(value).is_some())?;
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

/// Takes the whitespace off both ends of each line.
fn trim(parts: &mut Vec<Part>) {
    for at in 0..parts.len() {
        let is_end = |part: Option<&Part>| part.is_none_or(|part| *part == Part::Break);
        let (begins, ends) = (is_end(at.checked_sub(1).and_then(|at| parts.get(at))), is_end(parts.get(at + 1)));
        if let Part::Text(bytes) = &mut parts[at] {
            let text = if begins { bytes.trim_ascii_start() } else { &bytes[..] };
            *bytes = if ends { text.trim_ascii_end() } else { text }.to_vec();
        }
    }
    parts.retain(|part| !matches!(part, Part::Text(bytes) if bytes.is_empty()));
}

/// Marks in pages where partials would be, which belong together.
pub fn mark(pages: &mut [Page], partials: &[Pattern]) {
    let mut found: Vec<(usize, Span, usize)> = Vec::new();
    let table = LineTable::of(pages.iter().map(|page| &page.source[..]).enumerate());
    for (number, partial) in partials.iter().enumerate() {
        let copies = partial.find_lines(&table, |page| &pages[page].source);
        let place = |stretch: Stretch| (stretch.file, Span::new(stretch.start as u32, stretch.end as u32), number);
        found.extend(copies.into_iter().map(|(stretch, _)| place(stretch)));
    }
    found.sort_unstable_by_key(|&(page, span, number)| (page, span.start, std::cmp::Reverse(span.end), number));
    for (page, span, number) in found {
        let marks = &mut pages[page].marks;
        if marks.last().is_none_or(|(last, _)| last.end <= span.start) {
            marks.push((span, number));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect::Dialect;
    use crate::markup::NodeId;
    use crate::propose::ProposedFile;
    use crate::site::{Role, Settings, Site};
    use std::sync::Arc;

    fn brace() -> Arc<Dialect> {
        crate::dialect::builtin_named("brace-percent").expect("a dialect")
    }

    fn passing(dialect: &Arc<Dialect>) -> Passing {
        Passing::of(&Site::read(Vec::new(), &[], &Settings::default()), dialect)
    }

    #[test]
    fn the_nodes_of_a_partial_are_one_sibling() {
        let partials = ["<h3>Boats</h3>\n<p>All about the boats</p>\n", "<p>All about the boats</p>\n"];
        let dialect = crate::dialect::builtin_named("margin").expect("a dialect");
        let partials = partials.map(|text| Pattern::read(text.as_bytes(), passing(&dialect), Strength::Blanks));
        let page = |text: &str| {
            let document = crate::markup::Document::read(text.as_bytes(), &dialect);
            Page::of("a.html".into(), std::sync::Arc::new(text.into()), document, Strength::Blanks)
        };
        let both = "<b>x</b>\n<h3>Boats</h3>\n<p>All about the boats</p>\n<i>y</i>\n";
        let mut pages = [page(both), page("<p>All about the boats</p>\n"), page("<p>Nothing</p>\n")];
        mark(&mut pages, &partials);
        let marks = |page: &Page| page.marks.iter().map(|(span, number)| (span.start, *number)).collect::<Vec<_>>();
        assert_eq!(pages.each_ref().map(marks), [vec![(9, 0)], vec![(0, 1)], Vec::new()]);
        let of_nodes = |page: &Page| {
            let run = |at: NodeId| (page.document.nodes[at].first, page.document.nodes[at].last);
            page.document.children(NodeId::ROOT).map(|at| page.mark(run(at))).collect::<Vec<_>>()
        };
        let elements: Vec<Option<usize>> = of_nodes(&pages[0]).into_iter().step_by(2).collect();
        assert_eq!(elements, [None, Some(0), Some(0), None]);
    }

    #[test]
    fn copies_are_found_however_they_are_indented() {
        let fixed = |text: &str| Segment::Fixed(text.as_bytes().to_vec());
        let segments = [
            fixed("<a href=\"/"),
            Segment::Value(1),
            fixed(".html\">\n  <b>"),
            Segment::Value(0),
            fixed("</b>, Heronry\n</a>"),
        ];
        let pattern = Pattern::of(&segments, 2, passing(&brace()), Strength::Blanks);
        let source = b"\t<a href=\"/gull.html\">\n\t\t<b>Gull</b>, Heronry\r\n\t</a> <a href=\"/gull.html\">x</a>";
        assert_eq!(pattern.find(source), [(Span::new(1, 52), vec!["Gull".to_owned(), "gull".to_owned()])]);
        for other in [
            "<a href=\"/gull.html\"> <b>Gull</b>, Heronry\n</a>",
            "<a href=\"/g.html\">\n<b><i>G</i></b>, Heronry\n</a>",
            "<a href=\"/g.html\">\n\n<b>G</b>, Heronry\n</a>",
        ] {
            assert_eq!(pattern.find(other.as_bytes()), [], "{other}");
        }
        // Where every byte counts, so does the indentation.
        let exact = Pattern::of(&segments, 2, passing(&brace()), Strength::Bytes);
        assert_eq!(exact.find(source), []);
        let same = "<a href=\"/gull.html\">\n  <b>Gull</b>, Heronry\n</a>";
        assert_eq!(exact.find(same.as_bytes()).len(), 1);
    }

    #[test]
    fn a_copy_is_found_by_a_line_without_values() {
        let fixed = |text: &str| Segment::Fixed(text.as_bytes().to_vec());
        let segments = [fixed("<h3>"), Segment::Value(0), fixed("</h3>\n<p>All about the boats</p>\n")];
        let pattern = Pattern::of(&segments, 1, passing(&brace()), Strength::Blanks);
        let file = |text: &str| ProposedFile {
            path: "a.html".into(),
            role: Role::Page,
            dialect: "margin".into(),
            extends: None,
            bytes: text.as_bytes().to_vec(),
        };
        let found = |text: &str| {
            let files = [file(text)];
            let table = LineTable::of(files.iter().map(|file| &file.bytes[..]).enumerate());
            let copies = pattern.find_lines(&table, |file| &files[file].bytes).into_iter();
            copies.map(|(stretch, values)| (stretch.start, stretch.end, values)).collect::<Vec<_>>()
        };
        let copy = "  <h3>Heron</h3>\n  <p>All about the boats</p>\n";
        assert_eq!(found(&format!("<i></i>\n{copy}<b></b>\n")), [(8, 8 + copy.len(), vec!["Heron".to_owned()])]);
        // The same is read out of the partial as it is written.
        let written = b"<h3>{{ name }}</h3>\n<p>All about the boats</p>\n";
        let read = Pattern::read(written, passing(&brace()), Strength::Blanks);
        let files = [file(copy)];
        let table = LineTable::of(files.iter().map(|file| &file.bytes[..]).enumerate());
        assert_eq!(read.find_lines(&table, |file| &files[file].bytes)[0].1, ["Heron"]);
        for other in [
            "<h3>Heron</h3>\n",
            "<p>All about the boats</p>\n<h3>Heron</h3>\n",
            "<h3>He<b>r</b>on</h3>\n<p>All about the boats</p>\n",
            "<h3>Heron</h3>\n<p>All about the boats</p> more\n",
        ] {
            assert_eq!(found(other), [], "{other}");
        }
    }
}
