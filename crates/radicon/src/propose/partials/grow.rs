//! What is beside the copies of a partial everywhere belongs to it: lines too short to
//! be copies of their own, and another partial that always follows.

use std::ops::Range;

use rustc_hash::FxHashMap;

use crate::dialect::Dialect;
use crate::markup::{Document, NodeId, NodeKind};
use crate::propose::partials::copies::Stretch;
use crate::propose::partials::find::{Extractor, Found};
use crate::prove::Strength;
use crate::text::is_blank;

/// The most lines of an element beside a partial that belongs to it.
const MOST_LINES: usize = 40;

impl Found {
    /// Its uses by file and place.
    fn in_order(&self) -> Vec<&(Stretch, String)> {
        let mut uses: Vec<_> = self.uses.iter().collect();
        uses.sort_by_key(|(stretch, _)| (stretch.file, stretch.start));
        uses
    }
}

impl Extractor<'_, '_> {
    /// Takes elements in that come before and after all copies, too short to be copies of their own.
    pub fn grow(&self, found: &mut Found) {
        while let Some((lines, wider)) = self.wider(found, before) {
            found.content.splice(..0, lines);
            found.uses.iter_mut().zip(wider).for_each(|((stretch, _), wider)| *stretch = wider);
        }
        while let Some((lines, wider)) = self.wider(found, behind) {
            found.content = joined_lines(&[&found.content, self.job.held(&lines)]);
            found.uses.iter_mut().zip(wider).for_each(|((stretch, _), wider)| *stretch = wider);
        }
    }

    /// The copies with whole elements more each, and these lines, if they are the same
    /// everywhere: as few as possible.
    fn wider(&self, found: &Found, place: impl Fn(&[u8], &Stretch) -> Range<usize>) -> Option<(Vec<u8>, Vec<Stretch>)> {
        let mut wider: Vec<Stretch> = found.uses.iter().map(|(stretch, _)| *stretch).collect();
        for _ in 0..MOST_LINES {
            let mut same: Option<Vec<u8>> = None;
            for ((stretch, _), wider) in found.uses.iter().zip(&mut wider) {
                let Range { start, end } = place(&self.written[stretch.file].bytes, wider);
                (wider.start, wider.end) = (start.min(wider.start), end.max(wider.end));
                let beside = match wider.start < stretch.start {
                    true => Stretch { end: stretch.start, ..*wider },
                    false => Stretch { start: stretch.end, ..*wider },
                };
                let lines = self.text(&beside);
                if start == end || !stretch.lines || !lines.ends_with(b"\n") || !self.is_free(&beside) {
                    return None;
                }
                let lines = match self.job.options.strength {
                    Strength::Bytes => lines.to_vec(),
                    _ => [self.job.content(lines).trim_ascii(), b"\n"].concat(),
                };
                if *same.get_or_insert_with(|| lines.clone()) != lines {
                    return None;
                }
            }
            let mut order: Vec<&Stretch> = wider.iter().collect();
            order.sort_by_key(|stretch| (stretch.file, stretch.start));
            if order.windows(2).any(|pair| pair[0].file == pair[1].file && pair[0].end > pair[1].start) {
                return None;
            }
            if let Some(lines) = same.filter(|lines| is_whole(lines, &self.job.dialect)) {
                return Some((lines, wider));
            }
        }
        None
    }

    /// Makes one partial of two that always are one after the other; whether there were any.
    pub fn join_neighbours(&mut self) -> bool {
        let mut at: FxHashMap<(usize, usize), usize> = FxHashMap::default();
        for (index, (found, _)) in self.found.iter().enumerate() {
            at.extend(found.uses.iter().map(|(stretch, _)| ((stretch.file, stretch.start), index)));
        }
        let behind = |(file, end): (usize, usize)| {
            let bytes = &self.written[file].bytes[end..];
            let blank = bytes.iter().take_while(|b| is_blank(**b)).count();
            let lines = bytes[..blank].iter().rposition(|b| *b == b'\n').map_or(0, |line| line + 1);
            at.get(&(file, end + lines)).copied()
        };
        let pair = self.found.iter().enumerate().find_map(|(index, (found, _))| {
            let (first, _) = found.uses.first()?;
            let next = behind((first.file, first.end))?;
            (next != index)
                .then(|| self.joined(found, &self.found[next].0))
                .flatten()
                .map(|joined| (index, next, joined))
        });
        let Some((index, next, joined)) = pair else { return false };
        let saves = self.saving(&joined);
        self.found[index] = (joined, saves);
        self.found.remove(next);
        true
    }

    /// One partial for both, if the second follows wherever the first is, and nowhere else.
    fn joined(&self, first: &Found, second: &Found) -> Option<Found> {
        if first.uses.len() != second.uses.len() || first.parameters.min(second.parameters) > 0 {
            return None;
        }
        let between = |a: &Stretch, b: &Stretch| &self.written[a.file].bytes[a.end..b.start];
        let exact = self.job.options.strength == Strength::Bytes;
        let mut gap: Option<&[u8]> = None;
        let mut uses = Vec::with_capacity(first.uses.len());
        for ((a, own), (b, others)) in first.in_order().into_iter().zip(second.in_order()) {
            let follows = a.lines && b.lines && a.file == b.file && a.end <= b.start;
            if !follows || !between(a, b).iter().all(|b| is_blank(*b)) {
                return None;
            }
            if *gap.get_or_insert(between(a, b)) != between(a, b) && exact {
                return None;
            }
            uses.push((Stretch { end: b.end, ..*a }, [&own[..], others].concat()));
        }
        let content = joined_lines(&[&first.content, gap.unwrap_or_default(), &second.content]);
        Some(Found { content, parameters: first.parameters + second.parameters, uses })
    }
}

/// The line before a stretch.
fn before(bytes: &[u8], stretch: &Stretch) -> Range<usize> {
    let above = &bytes[..stretch.start];
    let line = above.strip_suffix(b"\n").unwrap_or(above);
    memchr::memrchr(b'\n', line).map_or(0, |at| at + 1)..stretch.start
}

/// The line after a stretch.
fn behind(bytes: &[u8], stretch: &Stretch) -> Range<usize> {
    let start = stretch.end;
    start..memchr::memchr(b'\n', &bytes[start..]).map_or(bytes.len(), |at| start + at + 1)
}

/// Lines one after the other, whether or not the first ends with a line end.
fn joined_lines(parts: &[&[u8]]) -> Vec<u8> {
    let mut out = Vec::new();
    for part in parts {
        if !out.is_empty() && !out.ends_with(b"\n") {
            out.push(b'\n');
        }
        out.extend_from_slice(part);
    }
    out
}

/// Whether lines are nothing but whole elements, and no tag of the dialect.
fn is_whole(lines: &[u8], dialect: &Dialect) -> bool {
    let document = Document::read(lines, dialect);
    let mut elements =
        document.children(NodeId::ROOT).filter(|&at| !document.span(at).of(lines).iter().all(|b| is_blank(*b)));
    let is_closed = |at: NodeId| {
        let node = &document.nodes[at];
        node.kind == NodeKind::Element && node.close < node.last
    };
    let some = document.constructs.items.is_empty() && document.nodes.len() > 1;
    some && elements.all(is_closed)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect::builtin_named;

    #[test]
    fn lines_beside_a_stretch() {
        let bytes = b"one\ntwo\nthree\nfour";
        let stretch = Stretch { file: 0, start: 4, end: 8, lines: true };
        let text = |range: std::ops::Range<usize>| &bytes[range];
        assert_eq!((text(before(bytes, &stretch)), text(behind(bytes, &stretch))), (&b"one\n"[..], &b"three\n"[..]));
        let last = Stretch { start: 14, end: 18, ..stretch };
        assert!(behind(bytes, &last).is_empty());
        assert_eq!(joined_lines(&[b"a", b"b\n", b"c"]), b"a\nb\nc");
    }

    #[test]
    fn whole_elements_without_tags_belong_to_a_partial() {
        let dialect = builtin_named("margin").expect("a dialect");
        for (lines, whole) in [
            ("<hr>\n", false),
            ("<p>x</p>\n", true),
            ("<p>x</p>\n<ul></ul>\n", true),
            ("<p>x\n", false),
            ("words\n", false),
            ("<p><!--: block x --><!--: end --></p>\n", false),
        ] {
            assert_eq!(is_whole(lines.as_bytes(), &dialect), whole, "{lines}");
        }
    }
}
