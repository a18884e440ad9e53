//! Copies of a partial, found by a line that has no value in it: those that the search for
//! near copies missed, since what it compares is a sample, and those in whole pages.

use memchr::memmem;
use xxhash_rust::xxh3::xxh3_64;

use crate::dialect::{Dialect, Kind};
use crate::markup::Constructs;
use crate::propose::pages::page::Page;
use crate::propose::partials::find::{Stretch, is_value};
use crate::prove::Strength;
use crate::text::Span;

/// The line by which copies are found has so many bytes at least.
const LEAST_LINE: usize = 20;

/// A piece of a partial.
#[derive(Clone)]
pub enum Segment {
    Fixed(Vec<u8>),
    /// A value, by the number of its parameter.
    Value(usize),
}

/// Where each line of some files stands: a hash of what is in it, the file, and its first byte.
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

/// A partial line by line.
pub struct Pattern {
    lines: Vec<Vec<Segment>>,
    values: usize,
    /// White space at the ends of lines counts.
    exact: bool,
}

impl Pattern {
    /// The lines of a partial with so many values.
    pub fn of(segments: &[Segment], values: usize, strength: Strength) -> Self {
        let exact = strength == Strength::Bytes;
        let mut lines: Vec<Vec<Segment>> = vec![Vec::new()];
        for segment in segments {
            let Segment::Fixed(bytes) = segment else {
                lines.last_mut().expect("one line").push(segment.clone());
                continue;
            };
            for (index, part) in bytes.split(|b| *b == b'\n').enumerate() {
                if index > 0 {
                    lines.push(Vec::new());
                }
                let line = lines.last_mut().expect("one line");
                match line.last_mut() {
                    Some(Segment::Fixed(known)) => known.extend_from_slice(part),
                    _ if !part.is_empty() => line.push(Segment::Fixed(part.to_vec())),
                    _ => {}
                }
            }
        }
        if lines.last().is_some_and(Vec::is_empty) {
            lines.pop();
        }
        if !exact {
            lines.iter_mut().for_each(trim);
        }
        Self { lines, values, exact }
    }

    /// The lines of a partial as it is written.
    pub fn read(content: &[u8], dialect: &Dialect, strength: Strength) -> Self {
        let constructs = Constructs::read(content, dialect);
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
        Self::of(&segments, names.len(), strength)
    }

    /// Its copies in files that have such lines, with the values of each.
    pub fn find<'f>(&self, table: &LineTable, text: impl Fn(usize) -> &'f [u8]) -> Vec<(Stretch, Vec<String>)> {
        let fixed = self.lines.iter().enumerate().filter_map(|(at, line)| match &line[..] {
            [Segment::Fixed(bytes)] if bytes.trim_ascii().len() >= LEAST_LINE => Some((at, bytes)),
            _ => None,
        });
        let Some((at, line)) = fixed.max_by_key(|(at, bytes)| (bytes.len(), usize::MAX - at)) else {
            return Vec::new();
        };
        table.places(line).filter_map(|(file, start)| self.at(file, text(file), start, at)).collect()
    }

    /// The copy whose line of this number starts there.
    fn at(&self, file: usize, bytes: &[u8], start: usize, number: usize) -> Option<(Stretch, Vec<String>)> {
        let mut first = start;
        for _ in 0..number {
            let above = bytes[..first].strip_suffix(b"\n")?;
            first = memchr::memrchr(b'\n', above).map_or(0, |at| at + 1);
        }
        let mut end = first;
        let mut values = vec![None; self.values];
        for line in &self.lines {
            let length = memchr::memchr(b'\n', &bytes[end..])?;
            let text = &bytes[end..end + length];
            read(line, if self.exact { text } else { text.trim_ascii() }, &mut values)?;
            end += length + 1;
        }
        let stretch = Stretch { file, start: first, end, lines: true };
        Some((stretch, values.into_iter().collect::<Option<_>>()?))
    }
}

/// Marks in pages where partials would stand, which belong together.
pub fn mark(pages: &mut [Page], partials: &[Pattern]) {
    let mut found: Vec<(usize, Span, usize)> = Vec::new();
    let table = LineTable::of(pages.iter().map(|page| &page.source[..]).enumerate());
    for (number, partial) in partials.iter().enumerate() {
        let copies = partial.find(&table, |page| &pages[page].source);
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

/// Takes the values out of a line; `None` if it is another one.
fn read(line: &[Segment], mut text: &[u8], values: &mut [Option<String>]) -> Option<()> {
    for (at, segment) in line.iter().enumerate() {
        match segment {
            Segment::Fixed(bytes) => text = text.strip_prefix(&bytes[..])?,
            Segment::Value(number) => {
                let length = match line.get(at + 1) {
                    Some(Segment::Fixed(next)) => memmem::find(text, next)?,
                    Some(Segment::Value(_)) => return None,
                    None => text.len(),
                };
                let value = std::str::from_utf8(&text[..length]).ok().filter(|value| is_value(value))?;
                if values[*number].get_or_insert_with(|| value.to_owned()) != value {
                    return None;
                }
                text = &text[length..];
            }
        }
    }
    text.is_empty().then_some(())
}

/// Takes the white space off both ends of a line.
fn trim(line: &mut Vec<Segment>) {
    if let Some(Segment::Fixed(bytes)) = line.first_mut() {
        *bytes = bytes.trim_ascii_start().to_vec();
    }
    if let Some(Segment::Fixed(bytes)) = line.last_mut() {
        *bytes = bytes.trim_ascii_end().to_vec();
    }
    line.retain(|segment| !matches!(segment, Segment::Fixed(bytes) if bytes.is_empty()));
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::propose::ProposedFile;
    use crate::site::Role;

    #[test]
    fn the_nodes_of_a_partial_are_one_sibling() {
        let partials = ["<h3>Boats</h3>\n<p>All about the boats</p>\n", "<p>All about the boats</p>\n"];
        let dialect = crate::dialect::builtin_named("margin").expect("a dialect");
        let partials = partials.map(|text| Pattern::read(text.as_bytes(), &dialect, Strength::Blanks));
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
            let run = |at: u32| (page.document.nodes[at as usize].first, page.document.nodes[at as usize].last);
            page.document.children(0).map(|at| page.mark(run(at))).collect::<Vec<_>>()
        };
        let elements: Vec<Option<usize>> = of_nodes(&pages[0]).into_iter().step_by(2).collect();
        assert_eq!(elements, [None, Some(0), Some(0), None]);
    }

    #[test]
    fn a_copy_is_found_by_a_line_without_values() {
        let fixed = |text: &str| Segment::Fixed(text.as_bytes().to_vec());
        let segments = [fixed("<h3>"), Segment::Value(0), fixed("</h3>\n<p>All about the boats</p>\n")];
        let pattern = Pattern::of(&segments, 1, Strength::Blanks);
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
            let copies = pattern.find(&table, |file| &files[file].bytes).into_iter();
            copies.map(|(stretch, values)| (stretch.start, stretch.end, values)).collect::<Vec<_>>()
        };
        let copy = "  <h3>Heron</h3>\n  <p>All about the boats</p>\n";
        assert_eq!(found(&format!("<i></i>\n{copy}<b></b>\n")), [(8, 8 + copy.len(), vec!["Heron".to_owned()])]);
        // The same is read out of the partial as it is written.
        let dialect = crate::dialect::builtin_named("brace-percent").expect("a dialect");
        let written = b"<h3>{{ name }}</h3>\n<p>All about the boats</p>\n";
        let read = Pattern::read(written, &dialect, Strength::Blanks);
        let files = [file(copy)];
        let table = LineTable::of(files.iter().map(|file| &file.bytes[..]).enumerate());
        assert_eq!(read.find(&table, |file| &files[file].bytes)[0].1, ["Heron"]);
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
