//! Headers: the fenced block that begins a file, read line by line.

use super::construct::{Construct, bare};
use crate::dialect::{Dialect, Kind, Part};
use crate::text::{BYTE_ORDER_MARK, Span};

/// The header that begins a source, with the lines around it; `None` if it has none.
pub fn header_of(source: &[u8], dialect: &Dialect) -> Option<Span> {
    read(source, dialect).map(|(_, end)| Span::new(0, end as u32))
}

/// The constructs of the header that begins a source, and where the text after it starts.
///
/// Lines that forms of the dialect describe are what they say; the rest sets values for the
/// file, and stays as it is.
pub(super) fn read(source: &[u8], dialect: &Dialect) -> Option<(Vec<Construct>, usize)> {
    let (_, _, fence) = dialect.headers().next()?;
    let start = if source.starts_with(BYTE_ORDER_MARK) { BYTE_ORDER_MARK.len() } else { 0 };
    let mut lines = lines(source, start);
    let is_fence = |line: &Span| line.of(source).trim_ascii_end() == fence.as_bytes();
    lines.next().filter(is_fence)?;
    let mut named: Vec<Construct> = Vec::new();
    let mut closed = None;
    for line in lines {
        if is_fence(&line) {
            closed = Some(line);
            break;
        }
        named.extend(read_line(source, dialect, line));
    }
    let end = closed?.end as usize;
    let mut items = Vec::new();
    let mut at = start as u32;
    let rest = |at: u32, to: u32| {
        let set = Construct { kind: Kind::Set, ..bare(Span::new(at, to)) };
        (to > at).then_some(set)
    };
    for item in named {
        items.extend(rest(at, item.span.start));
        at = item.span.end;
        items.push(item);
    }
    items.extend(rest(at, end as u32));
    Some((items, end))
}

/// The construct on one line of a header.
fn read_line(source: &[u8], dialect: &Dialect, line: Span) -> Option<Construct> {
    dialect.headers().find_map(|(index, form, _)| {
        let (_, captures) = form.open.read(source, line.start as usize, &Default::default())?;
        Some(Construct {
            kind: form.kind,
            part: Part::Single,
            target: unquoted(source, captures.target),
            name: captures.name,
            value: unquoted(source, captures.value),
            expr: captures.expr,
            form: index,
            ..bare(line)
        })
    })
}

/// A name that is in quotes, without them.
fn unquoted(source: &[u8], span: Span) -> Span {
    match span.of(source) {
        [first @ (b'"' | b'\''), .., last] if first == last => Span::new(span.start + 1, span.end - 1),
        _ => span,
    }
}

/// The lines of a source from a place, each with its end.
fn lines(source: &[u8], from: usize) -> impl Iterator<Item = Span> {
    let mut at = from;
    std::iter::from_fn(move || {
        let rest = source.get(at..).filter(|rest| !rest.is_empty())?;
        let start = at;
        at += memchr::memchr(b'\n', rest).map_or(rest.len(), |end| end + 1);
        Some(Span::from_range(start..at))
    })
}
