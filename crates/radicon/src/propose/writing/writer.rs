//! Writing layouts and pages in a dialect.

use crate::dialect::{Dialect, Form, Kind, Newline, Pattern, Values};
use crate::markup::{Constructs, TokenKind};
use crate::propose::hierarchy::layout::{Open, Override};
use crate::propose::pages::page::Page;
use crate::propose::skeleton::hole::{DefaultContent, Hole, Mark, Piece};
use crate::propose::writing::indent::{Style, dedent, tidy};
use crate::prove::Strength;
use crate::rooted;
use crate::text::{BYTE_ORDER_MARK, Span, count_lines, is_blank, trim_blanks};

/// A tag, and how it is in the file.
struct Tag {
    plain: String,
    /// The same with a mark that keeps whitespace from going with it.
    marked: Option<String>,
    /// It has a line of its own.
    own_line: bool,
    /// Whitespace before it belongs to a page.
    before: bool,
    /// Whitespace after it belongs to a page.
    after: bool,
}

enum Segment {
    Bytes(Vec<u8>),
    Tag(Tag),
}

/// Inherited content is so many bytes longer at least than the tag that stands for it.
const LEAST_INHERITED: usize = 10;

/// The writer of layouts and pages in a dialect.
pub struct Writer<'a> {
    pub dialect: &'a Dialect,
    pub pages: &'a [Page],
    pub strength: Strength,
    pub style: Style,
    /// Blocks are closed by the shortest tag for it.
    pub short: bool,
}

#[derive(PartialEq, Eq, Clone, Copy)]
enum Place {
    Layout,
    Page,
}

impl Writer<'_> {
    /// The layout.
    pub fn layout(&self, pieces: &[Piece]) -> Vec<u8> {
        let mut segments = Vec::new();
        self.pieces(pieces, &mut segments);
        let (bytes, own_lines) = self.finish(segments);
        match self.strength {
            Strength::Bytes => bytes,
            _ => tidy(&bytes, self.dialect, &own_lines, &self.style),
        }
    }

    fn pieces(&self, pieces: &[Piece], out: &mut Vec<Segment>) {
        for piece in pieces {
            match piece {
                Piece::Fixed { page, span } => push(out, span.of(&self.pages[*page].source)),
                Piece::Mark(mark) => self.mark(mark, out),
                Piece::Hole(hole) => {
                    let (name, lines) = (hole.name.as_str(), hole.lines && !hole.within_line);
                    if let Some(tag) = hole.again.then(|| self.again(name, lines)).flatten() {
                        let indent = self.line_indent(hole);
                        self.open(tag, lines, &indent, out);
                        continue;
                    }
                    let Some((open, close)) = self.tags(name, lines, Place::Layout) else {
                        continue;
                    };
                    let indent = self.line_indent(hole);
                    self.open(open, lines, &indent, out);
                    match &hole.default {
                        DefaultContent::Empty => {}
                        DefaultContent::Again(first) => {
                            let tag = self.again(first, lines);
                            tag.into_iter().for_each(|tag| self.open(tag, lines, &indent, out));
                        }
                        DefaultContent::Content(_) => push(out, hole.default_content(self.pages)),
                        DefaultContent::Pieces(pieces) => self.pieces(pieces, out),
                    }
                    self.close(close, lines, &indent, out);
                }
            }
        }
    }

    /// A page: its parent line, and the blocks that it overrides. No page gets more lines than it had if blocks that
    /// are within their lines can help it.
    pub fn page(&self, page: usize, layout: &str, open: &[Open]) -> Vec<u8> {
        let apart = self.overriding(page, layout, open, true);
        let most = count_lines(&self.pages[page].source);
        if self.strength == Strength::Bytes || count_lines(&apart) <= most {
            return apart;
        }
        let close = self.overriding(page, layout, open, false);
        if count_lines(&close) < count_lines(&apart) { close } else { apart }
    }

    /// The page with its blocks apart, or each in its lines.
    fn overriding(&self, page: usize, layout: &str, open: &[Open], own_lines: bool) -> Vec<u8> {
        let mut out = self.parent_line(layout);
        if self.pages[page].mark {
            out.insert(0, Segment::Bytes(BYTE_ORDER_MARK.to_vec()));
        }
        push(&mut out, &self.pages[page].head);
        self.overrides(page, open, own_lines, &mut out);
        self.finish(out).0
    }

    /// The blocks that a page overrides, without a parent line.
    pub fn blocks(&self, page: usize, open: &[Open]) -> Vec<u8> {
        let mut out = Vec::new();
        self.overrides(page, open, true, &mut out);
        self.finish(out).0
    }

    fn overrides(&self, page: usize, open: &[Open], own_lines: bool, out: &mut Vec<Segment>) {
        let (mut apart, mut first) = (false, true);
        for Open { hole, shown, .. } in open {
            let Some(own) = hole.variant(page).filter(|variant| !variant.follows) else { continue };
            let lines = own_lines && hole.lines && !trim_blanks(own.bytes(self.pages)).is_empty();
            let Some((open, close)) = self.tags(&hole.name, lines, Place::Page) else {
                continue;
            };
            // One-line blocks are together, others apart.
            let after_lines = std::mem::replace(&mut apart, lines);
            if after_lines || lines {
                // Beside a tag on its own line two line ends count as one in tidy output.
                let beside_tag = (after_lines || first) && self.strength != Strength::Bytes;
                push(out, if beside_tag { b"\n\n" } else { b"\n" });
            }
            first = false;
            self.open(open, lines, b"", out);
            match self.inherits(page, own.content, shown, lines) {
                Some((tag, before, after)) => {
                    self.stretch(page, before, lines, out);
                    self.inherited(tag, lines, out);
                    self.stretch(page, after, lines, out);
                }
                None => self.stretch(page, own.content, lines, out),
            }
            self.close(close, lines, b"", out);
            if !lines {
                push(out, b"\n");
            }
        }
    }

    /// Some bytes of a page in an override.
    fn stretch(&self, page: usize, span: Span, lines: bool, out: &mut Vec<Segment>) {
        let bytes = span.of(&self.pages[page].source);
        if !lines || self.strength == Strength::Bytes {
            push(out, bytes);
        } else if !trim_blanks(bytes).is_empty() {
            out.push(Segment::Bytes(dedent(&self.pages[page], span, &self.style.unit)));
        }
    }

    /// The tag for inherited content, and what a page has before and after it, if its
    /// content holds what the block shows otherwise, and more.
    fn inherits(&self, page: usize, content: Span, shown: &[u8], lines: bool) -> Option<(String, Span, Span)> {
        let tag = self.dialect.form(Kind::Inherited)?.open.write(&Values::default());
        let page = &self.pages[page];
        let bytes = content.of(&page.source);
        if shown.len() < tag.len() + LEAST_INHERITED || bytes.len() == shown.len() {
            return None;
        }
        let start = content.start + memchr::memmem::find(bytes, shown)? as u32;
        let end = start + shown.len() as u32;
        // Whole tokens, or words of a text.
        let tokens = &page.document.tokens;
        let begins = |at: u32| {
            let token = tokens.get(tokens.partition_point(|token| token.end <= at));
            token.is_none_or(|token| token.start == at || token.kind == TokenKind::Text)
        };
        // Between lines whitespace does not show.
        let cut = |span: Span| {
            let bytes = span.of(&page.source);
            let lead = bytes.iter().take_while(|b| is_blank(**b)).count() as u32;
            let trimmed = Span::new(span.start + lead, span.start + lead + trim_blanks(bytes).len() as u32);
            if lines && self.strength != Strength::Bytes { trimmed } else { span }
        };
        let (before, after) = (Span::new(content.start, start), Span::new(end, content.end));
        // In exact output lines stay whole.
        let is_line = |at: u32| at == content.start || page.source[..at as usize].ends_with(b"\n");
        let whole = !lines || self.strength != Strength::Bytes || is_line(start) && is_line(end);
        (begins(start) && begins(end) && whole).then(|| (tag, cut(before), cut(after)))
    }

    /// The tag for inherited content, on a line of its own where that is so of all.
    fn inherited(&self, plain: String, lines: bool, out: &mut Vec<Segment>) {
        if lines && self.strength != Strength::Bytes {
            self.own_line_start(lines, b"", out);
            push(out, &self.style.unit);
        }
        out.push(Segment::Tag(Tag { plain, marked: None, own_line: lines, before: true, after: true }));
        if lines {
            push(out, b"\n");
        }
    }

    /// A section's layout: its parent line, and the blocks that it fills.
    pub fn section(&self, layout: &str, overrides: &[Override]) -> Vec<u8> {
        let mut bytes = self.finish(self.parent_line(layout)).0;
        let mut after_lines = false;
        for filled in overrides {
            if std::mem::replace(&mut after_lines, filled.lines) || filled.lines {
                bytes.push(b'\n');
            }
            bytes.extend(self.filled(filled));
            if bytes.last() != Some(&b'\n') {
                bytes.push(b'\n');
            }
        }
        bytes
    }

    /// A block that a section fills.
    pub fn filled(&self, filled: &Override) -> Vec<u8> {
        let Some((open, close)) = self.tags(&filled.name, filled.lines, Place::Page) else { return Vec::new() };
        let mut out = Vec::new();
        self.open(open, filled.lines, b"", &mut out);
        let inherits = match filled.pieces[..] {
            [Piece::Fixed { page, span }] => self
                .inherits(page, span, &filled.replaces, filled.lines)
                .map(|(tag, before, after)| (page, tag, before, after)),
            _ => None,
        };
        match inherits {
            Some((page, tag, before, after)) => {
                self.stretch(page, before, filled.lines, &mut out);
                self.inherited(tag, filled.lines, &mut out);
                self.stretch(page, after, filled.lines, &mut out);
            }
            None => self.pieces(&filled.pieces, &mut out),
        }
        self.close(close, filled.lines, b"", &mut out);
        let (written, own_lines) = self.finish(out);
        // What has no lines of its own may be in a script, where every blank counts.
        match filled.lines && self.strength != Strength::Bytes {
            true => tidy(&written, self.dialect, &own_lines, &self.style),
            false => written,
        }
    }

    fn parent_line(&self, layout: &str) -> Vec<Segment> {
        let mut out = Vec::new();
        if let Some(parent) = self.dialect.form(Kind::Parent) {
            let plain = parent.open.write(&Values { target: layout, ..Values::default() });
            out.push(Segment::Tag(Tag { plain, marked: None, own_line: true, before: false, after: false }));
            push(&mut out, b"\n");
        }
        out
    }

    /// What is shown where a reader is, and what elsewhere.
    fn mark(&self, mark: &Mark, out: &mut Vec<Segment>) {
        let Some(form) = self.dialect.form(Kind::Here) else { return };
        let target = mark.target.as_ref().map(|path| rooted::marked(path)).unwrap_or_default();
        let values = Values { target: &target, ..Values::default() };
        let tag = |pattern: &Pattern| {
            let plain = pattern.write(&values);
            let marked = self.dialect.marks.exact.first().map(|mark| pattern.write_marked(&values, mark));
            Segment::Tag(Tag { plain, marked, own_line: false, before: true, after: true })
        };
        let bytes = |(page, span): (usize, Span)| span.of(&self.pages[page].source);
        out.push(tag(&form.open));
        push(out, bytes(mark.here));
        if !mark.elsewhere.1.is_empty() {
            out.extend(form.branch.first().map(tag));
            push(out, bytes(mark.elsewhere));
        }
        out.extend(form.close.first().map(tag));
    }

    /// The tag that shows a block once more.
    fn again(&self, name: &str, own_line: bool) -> Option<Tag> {
        let (form, values) = (self.dialect.form(Kind::Again)?, Values { name, ..Values::default() });
        let marked = self.dialect.marks.exact.first().map(|mark| form.open.write_marked(&values, mark));
        Some(Tag { plain: form.open.write(&values), marked, own_line, before: true, after: true })
    }

    fn tags(&self, name: &str, own_line: bool, place: Place) -> Option<(Tag, Tag)> {
        let form: &Form = self.dialect.block_form(place == Place::Layout)?;
        let values = Values { name, ..Values::default() };
        let mark = self.dialect.marks.exact.first();
        let outside = place == Place::Layout;
        let tag = |pattern: &Pattern, before, after| Tag {
            plain: pattern.write(&values),
            marked: mark.map(|mark| pattern.write_marked(&values, mark)),
            own_line,
            before,
            after,
        };
        let close = match self.short {
            true => form.close.iter().min_by_key(|close| close.write(&values).len()),
            false => form.close.first(),
        };
        Some((tag(&form.open, outside, true), tag(close?, true, outside)))
    }

    /// The indentation for tags on their own lines in exact output.
    fn line_indent(&self, hole: &Hole) -> Vec<u8> {
        hole.filled().bytes(self.pages).iter().copied().take_while(|b| matches!(b, b' ' | b'\t')).collect()
    }

    fn open(&self, tag: Tag, lines: bool, indent: &[u8], out: &mut Vec<Segment>) {
        self.own_line_start(lines, indent, out);
        out.push(Segment::Tag(tag));
        if lines {
            push(out, b"\n");
        }
    }

    fn close(&self, tag: Tag, lines: bool, indent: &[u8], out: &mut Vec<Segment>) {
        let empty = matches!(out.last(), Some(Segment::Bytes(bytes)) if bytes == b"\n")
            && matches!(out.iter().rev().nth(1), Some(Segment::Tag(_)));
        if lines && empty {
            // Nothing inside: both tags on one line.
            out.pop();
        } else {
            self.own_line_start(lines, indent, out);
        }
        out.push(Segment::Tag(tag));
        if lines {
            push(out, b"\n");
        }
    }

    /// Makes what follows begin a line; in exact output it does already.
    fn own_line_start(&self, lines: bool, indent: &[u8], out: &mut Vec<Segment>) {
        if !lines {
            return;
        }
        if self.strength == Strength::Bytes {
            return push(out, indent);
        }
        let Some(Segment::Bytes(bytes)) = out.last_mut() else {
            return;
        };
        let blanks = bytes.iter().rev().take_while(|b| is_blank(**b)).count();
        let text = bytes.len() - blanks;
        let lines = memchr::memchr_iter(b'\n', &bytes[text..]).count();
        bytes.truncate(text);
        if text > 0 || out.len() > 1 {
            push(out, if lines > 1 { b"\n\n" } else { b"\n" });
        }
    }

    /// The bytes, and the offsets of the tags that have lines of their own.
    fn finish(&self, segments: Vec<Segment>) -> (Vec<u8>, Vec<u32>) {
        let segments = if self.strength == Strength::Bytes { segments } else { without_blanks_after_tags(segments) };
        self.assemble(&segments)
    }

    /// Puts the segments together; tags that would take whitespace with them
    /// that belongs to a page are written with a mark against it.
    fn assemble(&self, segments: &[Segment]) -> (Vec<u8>, Vec<u32>) {
        let mut marked = vec![false; segments.len()];
        let (mut bytes, mut places) = join(segments, &marked);
        if !matches!(self.dialect.rules.newline, Newline::Kept | Newline::Unknown) {
            let constructs = Constructs::read(&bytes, self.dialect);
            for &(index, at) in &places {
                let Segment::Tag(tag) = &segments[index] else {
                    continue;
                };
                let found = constructs.items.binary_search_by_key(&at, |item| item.span.start);
                let Some(item) = found.ok().map(|found| constructs.items[found]) else {
                    continue;
                };
                let takes =
                    (tag.before && item.reach.start < item.span.start) || (tag.after && item.reach.end > item.span.end);
                marked[index] = takes && !tag.own_line;
            }
            (bytes, places) = join(segments, &marked);
        }
        let own = |&&(index, _): &&(usize, u32)| matches!(&segments[index], Segment::Tag(tag) if tag.own_line);
        let own_lines = places.iter().filter(own).map(|&(_, at)| at).collect();
        (bytes, own_lines)
    }
}

fn push(out: &mut Vec<Segment>, bytes: &[u8]) {
    match out.last_mut() {
        Some(Segment::Bytes(known)) => known.extend_from_slice(bytes),
        _ => out.push(Segment::Bytes(bytes.to_vec())),
    }
}

/// After a tag on its own line the whitespace of the page is replaced by one line end.
fn without_blanks_after_tags(mut segments: Vec<Segment>) -> Vec<Segment> {
    for index in 1..segments.len() {
        let (before, after) = segments.split_at_mut(index);
        if let (Some(Segment::Tag(Tag { own_line: true, .. })), Some(Segment::Bytes(bytes))) =
            (before.last(), after.first_mut())
        {
            let blanks = bytes.iter().take_while(|b| is_blank(**b)).count();
            let lines = memchr::memchr_iter(b'\n', &bytes[..blanks]).count();
            // The writer itself put the first line end there.
            let own: &[u8] = if lines > 2 { b"\n\n" } else { b"\n" };
            // The indentation of what follows stays.
            let indent = bytes[..blanks].iter().rposition(|b| *b == b'\n').map_or(0, |at| at + 1);
            bytes.splice(..indent, own.iter().copied());
        }
    }
    segments
}

/// The bytes, and where each tag starts.
fn join(segments: &[Segment], marked: &[bool]) -> (Vec<u8>, Vec<(usize, u32)>) {
    let (mut bytes, mut places) = (Vec::new(), Vec::new());
    for (index, segment) in segments.iter().enumerate() {
        match segment {
            Segment::Bytes(text) => bytes.extend_from_slice(text),
            Segment::Tag(tag) => {
                places.push((index, bytes.len() as u32));
                let mark = tag.marked.as_ref().filter(|_| marked[index]);
                bytes.extend_from_slice(mark.unwrap_or(&tag.plain).as_bytes());
                // Without a mark against it: a line end to be eaten in the place of the page's own.
                if marked[index]
                    && mark.is_none()
                    && let Some(Segment::Bytes(next)) = segments.get(index + 1)
                {
                    let own = next.starts_with(b"\n") || next.starts_with(b"\r\n");
                    bytes.extend_from_slice(if own { b"\n" } else { b"" });
                }
            }
        }
    }
    (bytes, places)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect::builtin_named;
    use crate::propose::testing::{pages, unifier};

    #[test]
    fn a_layout_and_its_pages_in_every_built_in_dialect_with_layouts() {
        let page = |name: &str| format!("<body>\n  <h1>{name}</h1>\n  <p>Quay</p>\n</body>\n");
        let pages = pages(&[page("Boats"), page("Piers")]);
        let mut unified = unifier(&pages, 10).pages(&[0, 1]);
        crate::propose::skeleton::hole::each_hole(&mut unified.pieces, &mut |hole| "name".clone_into(&mut hole.name));
        let hole = crate::propose::skeleton::hole::holes(&unified.pieces)[0].clone();
        let open = [Open { hole, outer: None, own: true, default: false, shown: Vec::new() }];
        for (dialect, layout, child) in [
            (
                "margin",
                "<h1><!--: block name --><!--: end --></h1>",
                "<!--: layout base.html -->\n<!--: block name -->Boats<!--: end -->\n",
            ),
            (
                "brace-percent",
                "<h1>{% block name %}{% endblock %}</h1>",
                "{% extends \"base.html\" %}\n{% block name %}Boats{% endblock %}\n",
            ),
        ] {
            let dialect = builtin_named(dialect).expect("a dialect");
            let style = Style { unit: b"  ".to_vec(), inside_html: false };
            let writer = Writer { dialect: &dialect, pages: &pages, strength: Strength::Blanks, style, short: true };
            let text = |bytes: Vec<u8>| String::from_utf8(bytes).expect("text");
            assert!(text(writer.layout(&unified.pieces)).contains(layout), "{}", text(writer.layout(&unified.pieces)));
            assert_eq!(text(writer.page(0, "base.html", &open)), child);
        }
    }
}
