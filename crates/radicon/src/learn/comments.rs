//! Comments: what holds words for people, and no expressions.

use std::collections::{BTreeMap, BTreeSet};

use rustc_hash::FxHashSet;

use super::corpus::Corpus;
use super::forms::{Shape, Writer, escape};
use super::heads::Directive;
use super::meaning::{Meaning, Trust};
use super::pieces::is_prose;
use super::tags::{Notation, Tag};
use crate::dialect::Kind;

impl Writer<'_> {
    /// Takes words that another sentence follows each time for comments; gives what is left.
    pub(super) fn notes(&self, rest: &[usize], shapes: &mut Vec<Shape>) -> Vec<usize> {
        let says_something = |id: &usize| {
            let directive = self.directive(*id);
            let inner = |at: &usize| self.text(*at)[self.tag(*at).word.end..self.tag(*at).inner.end].trim();
            let texts: BTreeSet<&str> = directive.tags.iter().map(inner).collect();
            let words: usize = texts.iter().map(|text| text.split_whitespace().count()).sum();
            !directive.label().is_empty()
                && directive.mark.is_empty()
                && directive.tags.len() >= 3
                && texts.len() == directive.tags.len()
                && words >= 3 * texts.len()
                && texts.iter().all(|text| is_prose(text))
        };
        let (notes, left): (Vec<usize>, Vec<usize>) = rest.iter().copied().partition(says_something);
        for id in notes {
            let tags = &self.directive(id).tags;
            let open = self.around(id, " <text>", tags);
            shapes.push(Shape::new(Kind::Comment, open, Trust::Likely, "another sentence each time", tags));
        }
        left
    }

    /// Takes marks and notations that hold prose or markup for comments, where they are `rare` only
    /// if that is all they hold; gives what is left.
    pub(super) fn comments(&self, notation: usize, rest: &[usize], rare: bool, shapes: &mut Vec<Shape>) -> Vec<usize> {
        let r = self.reasoner;
        let mut marks: BTreeMap<&str, Vec<usize>> = BTreeMap::new();
        rest.iter().for_each(|&id| marks.entry(r.directives[id].mark.as_str()).or_default().push(id));
        let mut left = Vec::new();
        for (mark, ids) in marks {
            let tags: Vec<usize> = ids.iter().flat_map(|&id| r.directives[id].tags.iter().copied()).collect();
            let prose = tags.iter().filter(|&&at| is_prose(&self.text(at)[self.tag(at).inner.clone()])).count();
            let known = &r.notations[notation];
            let means =
                |(id, m): (&usize, &Meaning)| self.directive(*id).notation == notation && m.trust > Trust::Asked;
            let meant = mark.is_empty() && self.found.of.iter().any(means);
            let hinted = hints_comment(&known.open, mark);
            let all = prose == tags.len() || !rare;
            if !meant && all && (prose * 10 >= tags.len() * 6 || hinted && prose * 10 >= tags.len() * 3) {
                let open = format!("{}{} <text> {}", escape(&known.open), escape(mark), escape(&known.close));
                let trust = if prose >= 2 && hinted && !rare { Trust::Sure } else { Trust::Likely };
                shapes.push(Shape::new(Kind::Comment, open, trust, "words and markup, no expressions", &tags));
            } else {
                left.extend(ids);
            }
        }
        left
    }
}

/// Fewer remarks show nothing.
const FEWEST_REMARKS: usize = 3;

/// The share of tags, in hundredths, with words for people that makes a notation a comment; and a mark.
const PROSE: usize = 90;
const PROSE_MARKED: usize = 60;

/// A mark's remarks begin with another word at least once in so many.
const USES_PER_WORD: usize = 4;

/// The directives of notations and marks that hold nothing but words for people.
pub(super) fn comment_directives(
    corpus: &Corpus,
    notations: &[Notation],
    tags: &[Tag],
    directives: &[Directive],
) -> FxHashSet<usize> {
    let mut groups: BTreeMap<(usize, &str), Vec<usize>> = BTreeMap::new();
    for (id, directive) in directives.iter().enumerate() {
        groups.entry((directive.notation, directive.mark.as_str())).or_default().push(id);
    }
    let is_comment = |((notation, mark), ids): &((usize, &str), Vec<usize>)| {
        let uses: usize = ids.iter().map(|&id| directives[id].tags.len()).sum();
        let own = ids.iter().flat_map(|&id| &directives[id].tags);
        let is_words = |at: &&usize| is_prose(&corpus.texts[tags[**at].file].text[tags[**at].inner.clone()]);
        let prose = own.filter(is_words).count();
        let delimits = prose * 100 >= uses * PROSE && hints_comment(&notations[*notation].open, "");
        // Sentences begin with many words, tags with few.
        let marks = !mark.is_empty() && prose * 100 >= uses * PROSE_MARKED && ids.len() * USES_PER_WORD >= uses;
        uses >= FEWEST_REMARKS && (delimits || marks && hints_comment("", mark))
    };
    groups.into_iter().filter(is_comment).flat_map(|(_, ids)| ids).collect()
}

/// Whether a delimiter or mark looks as those of comments do.
pub(super) fn hints_comment(open: &str, mark: &str) -> bool {
    open.ends_with(['#', '*', '-', '!', ';', '/']) || mark.starts_with(['#', '*', '!', '/']) || mark.starts_with("--")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn delimiters_and_marks_that_comments_have() {
        for (open, mark, expected) in
            [("{#", "", true), ("(*", "", true), ("<!--:", "", false), ("[~", "--", true), ("[~", "=", false)]
        {
            assert_eq!(hints_comment(open, mark), expected, "{open} {mark}");
        }
    }
}
