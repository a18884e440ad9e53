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

/// The directives of notations that hold nothing but words for people.
pub(super) fn comment_directives(
    corpus: &Corpus,
    notations: &[Notation],
    tags: &[Tag],
    directives: &[Directive],
) -> FxHashSet<usize> {
    let mut counts = vec![(0, 0); notations.len()];
    for tag in tags {
        let prose = is_prose(&corpus.texts[tag.file].text[tag.inner.clone()]);
        let (words, all) = &mut counts[tag.notation];
        (*words, *all) = (*words + usize::from(prose), *all + 1);
    }
    let is_comment = |notation: usize| {
        let (prose, all) = counts[notation];
        all >= 3 && prose * 10 >= all * 9 && hints_comment(&notations[notation].open, "")
    };
    (0..directives.len()).filter(|&id| is_comment(directives[id].notation)).collect()
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
