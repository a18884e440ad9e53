//! Opening tags whose attributes differ.

use xxhash_rust::xxh3::xxh3_64;

use crate::hash::mix;
use crate::markup::{NodeId, TokenId, TokenKind};
use crate::propose::pages::page::{Key, Run};
use crate::propose::skeleton::hole::Context;
use crate::propose::skeleton::unify::{Level, Unified, Unifier, Unit};
use crate::text::Span;

impl Unifier<'_> {
    /// One template for opening tags without constructs in them.
    pub(super) fn start_tag(&self, members: &[usize], nodes: &[NodeId], runs: &[Run]) -> Option<Unified> {
        let token = |index: usize, at: TokenId| &self.pages[members[index]].document.tokens[at];
        let plain = (0..members.len())
            .all(|index| runs[index].0.to(runs[index].1).all(|at| token(index, at).kind != TokenKind::Construct));
        if !plain {
            return None;
        }
        let units = (0..members.len())
            .map(|index| {
                let page = &self.pages[members[index]];
                let attribute = |at: TokenId| {
                    let token = token(index, at);
                    let first = if token.kind == TokenKind::Attribute && self.is_gap(members[index], at.previous()) {
                        at.previous()
                    } else {
                        at
                    };
                    let name = token.name().of(&page.source).to_ascii_lowercase();
                    let tag = mix(token.kind as u64 + 1, xxh3_64(&name));
                    let whole = self.hash(members[index], (first, at.next()));
                    Unit {
                        run: (first, at.next()),
                        node: nodes[index],
                        key: Key::labelled(tag, whole, token.span().len()),
                        mark: None,
                    }
                };
                let counts = |at: &TokenId| token(index, *at).kind != TokenKind::Gap;
                runs[index].0.to(runs[index].1).filter(counts).map(attribute).collect()
            })
            .collect();
        Some(self.list(members, nodes, units, runs, Level::Tag, 0))
    }

    fn is_gap(&self, page: usize, token: TokenId) -> bool {
        self.pages[page].document.tokens[token].kind == TokenKind::Gap
    }

    /// An attribute whose value differs: the whole value becomes a hole.
    pub(super) fn attribute(&self, members: &[usize], nodes: &[NodeId], units: &[Unit]) -> Option<Unified> {
        let mut contents = Vec::with_capacity(members.len());
        let mut frame: Option<(&[u8], &[u8])> = None;
        let mut hashes = Vec::with_capacity(members.len());
        let mut lengths = Vec::with_capacity(members.len());
        for (&page, unit) in members.iter().zip(units) {
            let page = &self.pages[page];
            let token = &page.document.tokens[unit.token()];
            let value = (token.kind == TokenKind::Attribute).then(|| token.value(&page.source)).flatten()?;
            let whole = page.span(unit.run);
            let before = Span::new(whole.start, value.start).of(&page.source);
            let after = Span::new(value.end, whole.end).of(&page.source);
            if !before.ends_with(b"\"") && !before.ends_with(b"'")
                || *frame.get_or_insert((before, after)) != (before, after)
            {
                return None;
            }
            let text = value.of(&page.source);
            hashes.push(if text.is_empty() { 0 } else { xxh3_64(text) | 1 });
            lengths.push(text.len() as u64);
            contents.push(value);
        }
        let context = Context::Value { node: nodes[0], token: units[0].token() };
        Some(self.framed(members, context, self.pages[members[0]].span(units[0].run), contents, (&hashes, &lengths)))
    }
}

#[cfg(test)]
mod tests {
    use crate::propose::testing::{pages, shown, unifier};

    #[track_caller]
    fn check(texts: [&str; 2], expected: &str) {
        let pages = pages(&texts.map(|tag| format!("{tag}<p>of the quay at Gull Point</p></div>")));
        let shown = shown(&unifier(&pages, 5).pages(&[0, 1]).pieces, &pages);
        assert_eq!(shown, format!("{expected}<p>of the quay at Gull Point</p></div>"));
    }

    #[test]
    fn values_become_holes_and_so_do_attributes_that_only_some_have() {
        check(
            ["<div class=\"a\" id=\"boats\">", "<div class=\"a\" id=\"piers\">"],
            "<div class=\"a\" id=\"{boats|piers}\">",
        );
        check(["<div class=\"a\" hidden>", "<div class=\"a\">"], "<div class=\"a\"{ hidden|}>");
        // Values that are written in different quotes are no values of one attribute.
        check(["<div id=\"a\">", "<div id='b'>"], "<div{ id=\"a\"| id='b'}>");
    }
}
