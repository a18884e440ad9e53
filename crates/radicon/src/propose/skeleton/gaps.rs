//! Where a hole begins and ends: which of the whitespace around it is its own.

use xxhash_rust::xxh3::xxh3_64;

use crate::markup::NodeId;
use crate::markup::elements::Flow;
use crate::propose::pages::page::Run;
use crate::propose::skeleton::hole::{Context, DefaultContent, Hole, Piece, Variant, choose_default};
use crate::propose::skeleton::unify::{Level, Unifier};
use crate::prove::Strength;
use crate::text::{Span, is_blank};

impl Unifier<'_> {
    /// Adds a hole, with the whitespace around it where it belongs.
    pub fn push_hole(
        &self,
        members: &[usize],
        nodes: &[NodeId],
        runs: Vec<Run>,
        shared: Option<(Vec<Piece>, Vec<bool>, u64)>,
        level: Level,
        pieces: &mut Vec<Piece>,
    ) {
        let context = match level {
            Level::Content => Context::Content { parent: nodes[0] },
            Level::Tag => Context::Attributes { node: nodes[0] },
        };
        let exact = self.strength == Strength::Bytes;
        let content_level = matches!(level, Level::Content);
        let full: Vec<Span> = members.iter().zip(&runs).map(|(&page, &run)| self.pages[page].span(run)).collect();
        let (mut contents, mut lines) = match (content_level, exact) {
            (false, _) => (full.clone(), false),
            (true, false) => {
                let trimmed = |(&page, &run): (&usize, &Run)| self.pages[page].span(self.pages[page].trimmed(run));
                (
                    members.iter().zip(&runs).map(trimmed).collect(),
                    self.stands_apart(members, &runs) && self.blank_safe(members, nodes, &runs),
                )
            }
            (true, true) => self.without_shared_blanks(members, &full),
        };
        let hashes: Vec<u64> = (0..members.len())
            .map(|member| match exact {
                true if contents[member].is_empty() => 0,
                true => xxh3_64(contents[member].of(&self.pages[members[member]].source)) | 1,
                false => self.hash(members[member], runs[member]),
            })
            .collect();
        let lengths: Vec<u64> = contents.iter().map(|content| content.len() as u64).collect();
        let shared = shared.filter(|(_, _, cost)| *cost < self.hole_cost(members, &hashes, &lengths));
        // That template was made for the whole runs.
        if exact && shared.is_some() {
            (contents, lines) = (full.clone(), false);
        }
        let (before, after) = (Span::new(full[0].start, contents[0].start), Span::new(contents[0].end, full[0].end));
        let page = members[0];
        let within_line = content_level && !exact && self.stands_within_a_line(members, &runs, &contents);
        let variant = |at: usize| Variant {
            page: members[at],
            content: contents[at],
            hash: hashes[at],
            place: content_level.then(|| (nodes[at], runs[at])),
            follows: shared.as_ref().is_some_and(|(_, follows, _)| follows[at]),
        };
        let variants = (0..members.len()).map(variant).collect();
        let default = match shared {
            Some((pieces, ..)) => DefaultContent::Pieces(pieces),
            None => choose_default(&hashes),
        };
        let hole = Hole { lines, within_line, ..Hole::new(context, variants, default) };
        pieces.push(Piece::Fixed { page, span: before });
        pieces.push(Piece::Hole(Box::new(hole)));
        pieces.push(Piece::Fixed { page, span: after });
    }

    /// Whether something in the runs has lines of its own, or ought to have.
    pub fn stands_apart(&self, members: &[usize], runs: &[Run]) -> bool {
        const LONG: usize = 160;
        members.iter().zip(runs).any(|(&page, &run)| {
            let page = &self.pages[page];
            let bytes = page.bytes(run);
            let before = &page.source[..page.span(run).start as usize];
            let line_start = before.iter().rev().find(|b| !matches!(b, b' ' | b'\t')).is_some_and(|b| *b == b'\n');
            bytes.contains(&b'\n') || bytes.len() > LONG || (line_start && !bytes.is_empty())
        })
    }

    /// Whether what most members have neither begins nor ends with a line.
    fn stands_within_a_line(&self, members: &[usize], runs: &[Run], contents: &[Span]) -> bool {
        let stands = |((&page, &run), content): ((&usize, &Run), &Span)| {
            let page = &self.pages[page];
            let is_gap = |b: &&u8| !matches!(b, b' ' | b'\t' | b'\r');
            let is_end = |byte: Option<&u8>| byte.is_none_or(|b| *b == b'\n');
            let begins = is_end(page.source[..content.start as usize].iter().rev().find(is_gap));
            let ends = is_end(page.source[content.end as usize..].iter().find(is_gap));
            let has_line =
                if content.is_empty() { begins || ends || page.bytes(run).contains(&b'\n') } else { begins && ends };
            !has_line
        };
        let within = members.iter().zip(runs).zip(contents).filter(|member| stands(*member)).count();
        within * 2 > members.len()
    }

    /// Whether whitespace at both ends of the runs shows in no member.
    pub fn blank_safe(&self, members: &[usize], nodes: &[NodeId], runs: &[Run]) -> bool {
        members.iter().zip(nodes).zip(runs).all(|((&page, &node), &run)| {
            let page = &self.pages[page];
            let inside = page.flow(node).is_some_and(|flow| matches!(flow, Flow::Block | Flow::Box));
            let edge = |neighbours: &mut dyn Iterator<Item = NodeId>| {
                for neighbour in neighbours {
                    match page.flow(neighbour) {
                        Some(Flow::Block) => return true,
                        Some(Flow::Inline | Flow::Box) => return false,
                        Some(Flow::Hidden) | None => {}
                    }
                }
                inside
            };
            !page.is_preserved(node)
                && !page.has_printing_end(run)
                && edge(&mut page.document.children_before(node, run.0))
                && edge(&mut page.document.children_from(node, run.1))
        })
    }

    /// For exact output: the runs without the whitespace that all members share
    /// at their ends; as whole lines (`true`) if the dialect and the whitespace allow it.
    fn without_shared_blanks(&self, members: &[usize], full: &[Span]) -> (Vec<Span>, bool) {
        let texts: Vec<&[u8]> =
            members.iter().zip(full).map(|(&page, span)| span.of(&self.pages[page].source)).collect();
        let shared = |byte: &dyn Fn(&[u8], usize) -> Option<u8>| {
            let same = |at: &usize| {
                let first = byte(texts[0], *at);
                first.is_some_and(is_blank) && texts.iter().all(|text| byte(text, *at) == first)
            };
            (0..).take_while(same).count()
        };
        let lead = shared(&|text, at| text.get(at).copied());
        let trail = shared(&|text, at| text.len().checked_sub(at + 1).map(|at| text[at]));
        let shortest = texts.iter().map(|text| text.len()).min().unwrap_or(0);
        let cut = |start: usize, end: usize| {
            full.iter().map(|span| Span::new(span.start + start as u32, span.end - end as u32)).collect()
        };
        let at_line_start = members.iter().zip(full).all(|(&page, span)| {
            let before = &self.pages[page].source[..span.start as usize];
            before.last().is_none_or(|b| *b == b'\n')
        });
        let start = texts[0][..lead].iter().rposition(|b| *b == b'\n').map(|at| at + 1).or(at_line_start.then_some(0));
        let end = texts[0][texts[0].len() - trail..].iter().rev().position(|b| *b == b'\n');
        match (start, end) {
            (Some(start), Some(end)) if self.line_rule && start + end <= shortest => (cut(start, end), true),
            _ => (cut(lead.min(shortest), trail.min(shortest - lead.min(shortest))), false),
        }
    }

    /// Whether the pieces give what each member has in a hole.
    pub fn gives_back(&self, pieces: &[Piece], hole: &Hole) -> bool {
        hole.variants.iter().all(|whole| {
            let part = |piece: &Piece| match piece {
                Piece::Fixed { page, span } => span.of(&self.pages[*page].source),
                Piece::Hole(inner) => inner.variant(whole.page).map_or(&[][..], |own| own.bytes(self.pages)),
                Piece::Mark(mark) => {
                    let (page, span) = mark.shown_in(whole.page);
                    span.of(&self.pages[page].source)
                }
            };
            let mut rest = whole.bytes(self.pages);
            let fits = pieces.iter().all(|piece| rest.strip_prefix(part(piece)).map(|left| rest = left).is_some());
            fits && rest.is_empty()
        })
    }
}

#[cfg(test)]
mod tests {
    use crate::markup::NodeId;
    use crate::propose::testing::{pages, unifier};

    #[test]
    fn whitespace_beside_a_hole_shows_within_a_line_alone() {
        let safe = |text: &str, name: &str| {
            let pages = pages(&[text]);
            let document = &pages[0].document;
            let of = |node: &NodeId| document.name(&pages[0].source, *node) == name.as_bytes();
            let node = document.all_below_root().find(of).expect("the element");
            let (parent, run) = (document.nodes[node].parent, (document.nodes[node].first, document.nodes[node].last));
            unifier(&pages, 10).blank_safe(&[0], &[parent], &[run])
        };
        assert!(safe("<div><p>a</p><ul></ul><p>b</p></div>", "ul"));
        assert!(safe("<div><p>a</p> <i>x</i> <p>b</p></div>", "i"), "between blocks nothing shows");
        assert!(!safe("<p>a <i>x</i> b</p>", "i"));
        assert!(!safe("<pre><ul></ul></pre>", "ul"), "every byte counts there");
    }
}
