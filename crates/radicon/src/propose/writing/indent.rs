//! Tidy indentation for templates, without touching whitespace that counts.
//!
//! Lines stay where their author broke them; only the indentation of each line
//! is set, by how deeply its element is nested. Nothing inside `pre`,
//! `textarea`, `script`, `style`, comments or attribute values changes.

use crate::dialect::Dialect;
use crate::markup::{Document, NodeId, NodeKind, TokenKind};
use crate::prove::significance;
use crate::text::{Span, is_blank};

use crate::propose::pages::page::Page;

/// How a site indents.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Style {
    /// One step.
    pub unit: Vec<u8>,
    /// Whether `head` and `body` are one step further in than `html`.
    pub inside_html: bool,
}

/// Deeper lines are not indented further.
const MAX_LEVELS: usize = 40;

impl Style {
    /// The habits of most of the pages.
    pub fn of<'a>(pages: impl Iterator<Item = &'a [u8]>) -> Self {
        let mut steps = [0_usize; 9];
        let (mut tabs, mut spaces, mut inside, mut outside) = (0, 0, 0, 0);
        for page in pages {
            let mut last = 0;
            for line in page.split(|&b| b == b'\n').take(400) {
                let blanks = line.iter().take_while(|b| matches!(b, b' ' | b'\t')).count();
                let rest = &line[blanks..];
                if rest.is_empty() || rest == b"\r" {
                    continue;
                }
                if rest.len() >= 5
                    && (rest[..5].eq_ignore_ascii_case(b"<head") || rest[..5].eq_ignore_ascii_case(b"<body"))
                {
                    *(if blanks > 0 { &mut inside } else { &mut outside }) += 1;
                }
                match line.first() {
                    Some(b'\t') => tabs += 1,
                    Some(b' ') => spaces += 1,
                    _ => {}
                }
                if blanks > last && blanks - last < steps.len() {
                    steps[blanks - last] += 1;
                }
                last = blanks;
            }
        }
        let step =
            (1..steps.len()).max_by_key(|&step| (steps[step], std::cmp::Reverse(step))).filter(|&step| steps[step] > 0);
        let unit = if tabs > spaces { b"\t".to_vec() } else { vec![b' '; step.filter(|step| *step > 1).unwrap_or(2)] };
        Self { unit, inside_html: inside > outside }
    }
}

/// The template with tidy indentation. `own_lines` are the offsets of tags
/// beside which whitespace does not show.
pub fn tidy(source: &[u8], dialect: &Dialect, own_lines: &[u32], style: &Style) -> Vec<u8> {
    let document = Document::read(source, dialect);
    let tokens = &document.tokens;
    let own = |start: u32| own_lines.binary_search(&start).is_ok();
    let flags = significance(source, &document, |token| own(token.start));
    let levels = levels(source, &document, style, &own);
    let mut out = Vec::with_capacity(source.len());
    for (index, token) in tokens.iter().enumerate() {
        let bytes = token.span().of(source);
        if token.kind != TokenKind::Text || flags[index].is_exact() {
            out.extend_from_slice(bytes);
            continue;
        }
        let closes =
            |at: usize| tokens.get(at).is_none_or(|token| token.kind == TokenKind::EndTag || levels[at].closes);
        let opens = index == 0 || levels[index].after_opening;
        let mut at = 0;
        while at < bytes.len() {
            let run = bytes[at..].iter().take_while(|b| is_blank(**b)).count();
            let lines = memchr::memchr_iter(b'\n', &bytes[at..at + run]).count();
            if lines == 0 {
                let word = bytes[at + run..].iter().take_while(|b| !is_blank(**b)).count();
                out.extend_from_slice(&bytes[at..at + run + word]);
                at += run + word;
                continue;
            }
            let last = at + run == bytes.len();
            let edge = (at == 0 && opens) || (last && closes(index + 1));
            let level = if last { levels.get(index + 1).map_or(0, |line| line.depth) } else { levels[index].depth };
            if !(out.is_empty() && index == 0) {
                out.extend_from_slice(if lines > 1 && !edge { b"\n\n" } else { b"\n" });
            }
            if !(last && index + 1 == tokens.len()) {
                (0..level.min(MAX_LEVELS)).for_each(|_| out.extend_from_slice(&style.unit));
            }
            at += run;
        }
    }
    out
}

/// A stretch of a page moved to the left as a whole, so that it is indented by
/// one step; its lines keep their places among each other. Only whitespace that
/// does not show is taken away.
pub fn dedent(page: &Page, span: Span, unit: &[u8]) -> Vec<u8> {
    let source = &page.source[..span.end as usize];
    let first = source[..span.start as usize].iter().rposition(|b| *b == b'\n').map_or(0, |at| at + 1);
    // The starts of lines, and whether their indentation may change.
    let starts: Vec<usize> = std::iter::once(first)
        .chain(memchr::memchr_iter(b'\n', &source[span.start as usize..]).map(|at| span.start as usize + at + 1))
        .filter(|&start| page.is_free_blank(start as u32) || start == first)
        .collect();
    let indent = |start: usize| {
        let blanks = source[start..].iter().take_while(|b| matches!(b, b' ' | b'\t')).count();
        (source.get(start + blanks).is_some_and(|b| !is_blank(*b))).then(|| &source[start..start + blanks])
    };
    let mut shared: Option<&[u8]> = None;
    for indent in starts.iter().filter_map(|&start| indent(start)) {
        let known = shared.unwrap_or(indent);
        let same = known.iter().zip(indent).take_while(|(a, b)| a == b).count();
        shared = Some(&known[..same]);
    }
    let surplus = shared.map_or(0, |shared| shared.len().saturating_sub(unit.len()));
    let mut out = Vec::with_capacity(span.len() + unit.len());
    if source[first..span.start as usize].iter().all(|b| is_blank(*b)) {
        out.extend_from_slice(&source[(first + surplus).min(span.start as usize)..span.start as usize]);
    }
    let mut at = span.start as usize;
    for start in starts.into_iter().filter(|&start| start > span.start as usize) {
        out.extend_from_slice(&source[at..start]);
        let blanks = source[start..].iter().take_while(|b| matches!(b, b' ' | b'\t')).count();
        at = start + surplus.min(blanks);
    }
    out.extend_from_slice(&source[at..]);
    out
}

/// A stretch of a page whose lines begin with this indentation instead of the one of
/// its first line. Only whitespace that does not show is changed.
pub fn indented(page: &Page, span: Span, indent: &[u8]) -> Vec<u8> {
    let before = &page.source[..span.start as usize];
    let blanks = before.iter().rev().take_while(|b| matches!(b, b' ' | b'\t')).count();
    let own = &before[before.len() - blanks..];
    let mut out = indent.to_vec();
    let mut at = span.start;
    for line in span.of(&page.source).split_inclusive(|b| *b == b'\n') {
        match line.strip_prefix(own).filter(|_| at > span.start && page.ends_free_blank(at)) {
            Some(rest) => out.extend([indent, rest].concat()),
            None => out.extend_from_slice(line),
        }
        at += line.len() as u32;
    }
    out
}

/// A stretch of some markup whose lines begin with this indentation instead of the one of its first line.
pub fn indented_in(source: &[u8], dialect: &Dialect, part: Span, indent: &[u8]) -> Vec<u8> {
    indented(&Page::plain(source, Document::read(source, dialect)), part, indent)
}

#[derive(Clone, Copy, Default)]
struct Line {
    /// Indentation of a line that begins with this token.
    depth: usize,
    /// It closes what was opened before.
    closes: bool,
    /// It follows the opening of what holds it.
    after_opening: bool,
}

/// For each token the indentation of a line that begins with it.
fn levels(source: &[u8], document: &Document, style: &Style, own: &dyn Fn(u32) -> bool) -> Vec<Line> {
    let mut lines = vec![Line::default(); document.tokens.len()];
    let mut depths = vec![0_usize; document.nodes.len()];
    for (id, node) in NodeId::each(&document.nodes) {
        let (index, parent) = (id.index(), node.parent.index());
        let is_inside = id != NodeId::ROOT;
        if is_inside {
            let holder = &document.nodes[parent];
            let steps = match holder.kind {
                NodeKind::Root => false,
                NodeKind::Element => {
                    style.inside_html || !document.name(source, node.parent).eq_ignore_ascii_case(b"html")
                }
                NodeKind::Pair => own(document.offset(holder.first)),
                _ => true,
            };
            depths[index] = depths[parent] + usize::from(steps);
        }
        if let Some(line) = lines.get_mut(node.first.index()).filter(|_| is_inside) {
            line.depth = depths[index];
            line.after_opening = node.first == document.nodes[parent].inner && parent > 0;
        }
        if node.close < node.last
            && let Some(line) = lines.get_mut(node.close.index())
        {
            line.depth = depths[index];
            line.closes = true;
        }
    }
    lines
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect::builtin_named;
    use crate::prove::Normal;

    #[track_caller]
    fn check(source: &str, expected: &str) {
        let dialect = builtin_named("margin").expect("a built-in dialect");
        let style = Style { unit: b"  ".to_vec(), inside_html: false };
        let out = tidy(source.as_bytes(), &dialect, &[], &style);
        assert_eq!(String::from_utf8_lossy(&out), expected);
        let normal = |bytes: &[u8]| Normal::of(bytes, &Document::read(bytes, &dialect)).bytes;
        assert_eq!(normal(source.as_bytes()), normal(&out));
    }

    #[test]
    fn lines_are_indented_by_depth() {
        check(
            "<html>\n <body>\n<div>\n\n<p>a\n   b</p>\n\n\n<p>c</p>\n    </div></body>\n</html>\n\n",
            "<html>\n<body>\n  <div>\n    <p>a\n      b</p>\n\n    <p>c</p>\n  </div></body>\n</html>\n",
        );
        check(
            "<div>\n<pre>\n x\n</pre>\n<script>\n  a\n</script>\n</div>",
            "<div>\n  <pre>\n x\n</pre>\n  <script>\n  a\n</script>\n</div>",
        );
    }

    #[test]
    fn the_habits_of_a_site_are_kept() {
        let pages: [&[u8]; 2] = [b"<html>\n    <head>\n        <title>", b"<html>\n    <body>\n        <p>"];
        assert_eq!(Style::of(pages.into_iter()), Style { unit: b"    ".to_vec(), inside_html: true });
        assert_eq!(Style::of([&b"<ul>\n\t<li>\n"[..]].into_iter()).unit, b"\t");
    }
}
