//! Comments: what holds words for people, and no expressions.

use std::collections::{BTreeMap, BTreeSet};

use crate::Confidence;
use crate::dialect::Kind;
use crate::dialect_file::forms::{Shape, Writer, escape};
use crate::evidence::comments::hints_comment;
use crate::meaning::Meaning;
use crate::read::directives::DirectiveId;
use crate::read::pieces::is_prose;
use crate::read::tags::{NotationId, TagId};
use crate::thresholds::{MOST, SOME};

impl Writer<'_> {
    /// Takes words that another sentence follows each time for comments; gives what is left.
    pub(super) fn notes(&self, rest: &[DirectiveId], shapes: &mut Vec<Shape>) -> Vec<DirectiveId> {
        let says_something = |id: &DirectiveId| {
            let directive = self.directive(*id);
            let inner = |at: &TagId| self.text(*at)[self.tag(*at).word.end..self.tag(*at).inner.end].trim();
            let texts: BTreeSet<&str> = directive.tags.iter().map(inner).collect();
            let words: usize = texts.iter().map(|text| text.split_whitespace().count()).sum();
            !directive.label().is_empty()
                && directive.mark.is_empty()
                && directive.tags.len() >= 3
                && texts.len() == directive.tags.len()
                && words >= 3 * texts.len()
                && texts.iter().all(|text| is_prose(text))
        };
        let (notes, left): (Vec<DirectiveId>, Vec<DirectiveId>) = rest.iter().copied().partition(says_something);
        for id in notes {
            let tags = &self.directive(id).tags;
            let open = self.around(id, " <text>", tags);
            shapes.push(Shape::new(Kind::Comment, open, Confidence::Likely, "another sentence each time", tags));
        }
        left
    }

    /// Takes marks and notations that hold prose or markup for comments, where they are `rare` only
    /// if that is all they hold; gives what is left.
    pub(super) fn comments(
        &self,
        notation: NotationId,
        rest: &[DirectiveId],
        rare: bool,
        shapes: &mut Vec<Shape>,
    ) -> Vec<DirectiveId> {
        let r = self.facts;
        let mut marks: BTreeMap<&str, Vec<DirectiveId>> = BTreeMap::new();
        rest.iter().for_each(|&id| marks.entry(r.directives[id].mark.as_str()).or_default().push(id));
        let mut left = Vec::new();
        for (mark, ids) in marks {
            let tags: Vec<TagId> = ids.iter().flat_map(|&id| r.directives[id].tags.iter().copied()).collect();
            let prose = tags.iter().filter(|&&at| is_prose(&self.text(at)[self.tag(at).inner.clone()])).count();
            let known = &r.notations[notation];
            let means = |(id, m): (&DirectiveId, &Meaning)| {
                self.directive(*id).notation == notation && m.confidence > Confidence::Asked
            };
            let meant = mark.is_empty() && self.found.of.iter().any(means);
            let hinted = hints_comment(&known.open, mark);
            let all = prose == tags.len() || !rare;
            if !meant && all && (MOST.reached(prose, tags.len()) || hinted && SOME.reached(prose, tags.len())) {
                let open = format!("{}{} <text> {}", escape(&known.open), escape(mark), escape(&known.close));
                let confidence = if prose >= 2 && hinted && !rare { Confidence::Sure } else { Confidence::Likely };
                shapes.push(Shape::new(Kind::Comment, open, confidence, "words and markup, no expressions", &tags));
            } else {
                left.extend(ids);
            }
        }
        left
    }
}

#[cfg(test)]
mod tests {
    use crate::dialect::Kind;
    use crate::testing::{LAYOUT, check, learned, page};

    #[test]
    fn words_for_people_are_comments() {
        let note = "(# where the @ lie at low tide and who looks after them #)";
        let learned = learned(LAYOUT, &page(&format!("{note}<h1>@</h1>")), &[]);
        check(&learned, Kind::Comment, &["\"(# <text> #)\""]);
    }
}
