//! Texts that differ in the middle: where they may be cut.

use xxhash_rust::xxh3::xxh3_64;

use crate::markup::{NodeId, TokenKind};
use crate::propose::skeleton::hole::Context;
use crate::propose::skeleton::unify::{Unified, Unifier};
use crate::text::{Span, is_blank};

impl Unifier<'_> {
    /// Texts that differ in the middle: by words, in scripts and styles by lines.
    pub fn text(&self, members: &[usize], nodes: &[NodeId]) -> Option<Unified> {
        let span = |index: usize| self.pages[members[index]].document.span(nodes[index]);
        let texts: Vec<&[u8]> =
            (0..members.len()).map(|index| span(index).of(&self.pages[members[index]].source)).collect();
        let texts = &texts[..];
        let first = &self.pages[members[0]];
        let token = &first.document.tokens[first.document.nodes[nodes[0]].first];
        let parent = first.document.nodes[nodes[0]].parent;
        let title = first.document.name(&first.source, parent).eq_ignore_ascii_case(b"title");
        let cuts = if token.kind == TokenKind::Raw { line_cut } else { word_cut };
        let shortest = texts.iter().map(|text| text.len()).min()?;
        let common = |ends: bool| {
            (0..shortest).take_while(move |&at| {
                let byte = |text: &[u8]| {
                    if ends { text[text.len() - 1 - at] } else { text[at] }
                };
                texts.iter().all(|text| byte(text) == byte(texts[0]))
            })
        };
        let prefix = common(false).count();
        let prefix = (0..=prefix).rev().find(|&at| texts.iter().all(|text| cuts(text, at)))?;
        let suffix = common(true).count().min(shortest - prefix);
        let suffix = (0..=suffix).rev().find(|&at| texts.iter().all(|text| cuts(text, text.len() - at)))?;
        let solid = |bytes: &[u8]| bytes.iter().filter(|b| !is_blank(**b)).count();
        let shared = solid(&texts[0][..prefix]) + solid(&texts[0][texts[0].len() - suffix..]);
        let average = texts.iter().map(|text| text.len()).sum::<usize>() / texts.len();
        if shared < if title { 3 } else { 12 } || (!title && shared * 4 < average) {
            return None;
        }
        let contents: Vec<Span> = (0..members.len())
            .map(|index| Span::new(span(index).start + prefix as u32, span(index).end - suffix as u32))
            .collect();
        // What would begin or end with a blank is half a phrase.
        let ragged = |text: &&[u8]| {
            text[prefix..text.len() - suffix].first().is_some_and(|b| is_blank(*b))
                || text[prefix..text.len() - suffix].last().is_some_and(|b| is_blank(*b))
        };
        if token.kind != TokenKind::Raw && texts.iter().any(ragged) {
            return None;
        }
        let hash = |text: &&[u8]| {
            if text.len() == prefix + suffix { 0 } else { xxh3_64(&text[prefix..text.len() - suffix]) | 1 }
        };
        let hashes: Vec<u64> = texts.iter().map(hash).collect();
        let lengths: Vec<u64> = contents.iter().map(|span| span.len() as u64).collect();
        Some(self.framed(members, Context::Text { node: nodes[0] }, span(0), contents, (&hashes, &lengths)))
    }
}

/// Whether a text may be cut here without cutting a word, a reference or a number.
fn word_cut(text: &[u8], at: usize) -> bool {
    let (before, after) = (at.checked_sub(1).map(|at| text[at]), text.get(at).copied());
    match (before, after) {
        (None, _) | (_, None) => true,
        (Some(before), Some(after)) => is_blank(before) != is_blank(after),
    }
}

fn line_cut(text: &[u8], at: usize) -> bool {
    at == 0 || at == text.len() || text[at - 1] == b'\n'
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn texts_are_cut_between_words() {
        let text = "Fares — Tidewater".as_bytes();
        let cuts: Vec<usize> = (0..=text.len()).filter(|&at| word_cut(text, at)).collect();
        assert_eq!(cuts, [0, 5, 6, 9, 10, 19]);
        assert!(line_cut(b"a\nb", 2) && !line_cut(b"a\nb", 1));
    }
}
