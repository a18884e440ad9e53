//! Pairs that decide or repeat, and those whose content is no tags.

use crate::Confidence;
use crate::dialect::Kind;
use crate::meaning::{Facts, Meaning, Meanings};
use crate::read::directives::DirectiveId;
use crate::read::pieces::is_balanced;
use crate::read::tags::Style;
use crate::read::tags::TagId;
use crate::thresholds::HALF;

impl Facts<'_> {
    /// Pairs that are nothing else decide or repeat; those whose content holds tags that fit nowhere are verbatim.
    pub(super) fn controls(&self, found: &Meanings) -> Vec<(DirectiveId, Meaning)> {
        let mut controls: Vec<(DirectiveId, Meaning)> = Vec::new();
        for &id in self.pairs.closers.keys() {
            if found.of.contains_key(&id) || matches!(self.style(id), Style::Attribute) {
                continue;
            }
            let used = self.notations[self.directives[id].notation].strong
                || found.of.keys().any(|other| self.directives[*other].notation == self.directives[id].notation);
            if !used {
                continue;
            }
            let bare =
                self.directives[id].tags.iter().all(|&at| self.tags[at].tokens.len() <= self.directives[id].taken);
            let torn = self.directives[id].tags.iter().filter(|at| self.holds_torn_tags(**at)).count();
            let prose = self.directives[id].tags.iter().filter(|at| self.holds_prose(**at)).count();
            let (kind, confidence, why) = if bare && HALF.reached(torn, self.directives[id].tags.len()) && torn > 0 {
                (Kind::Verbatim, Confidence::Likely, "the tags in it are not paired")
            } else if bare && prose == self.directives[id].tags.len() && prose >= 2 {
                (Kind::Comment, Confidence::Asked, "nothing but words in it")
            } else {
                (Kind::Control, Confidence::Likely, "a pair that names nothing")
            };
            controls.push((id, Meaning { kind, slot: None, confidence, why: why.into() }));
        }
        controls
    }

    pub(super) fn content(&self, opener: TagId) -> Option<&str> {
        let start = self.tags[opener].range.end;
        let end = match (self.pairs.brace_ends.get(&opener), self.pairs.partner.get(&opener)) {
            (Some(&end), _) => end,
            (None, Some(&end)) => self.tags[end].range.start,
            (None, None) => return None,
        };
        self.text(opener).get(start..end)
    }

    /// Whether an opener without its closer is in a pair.
    pub(super) fn holds_torn_tags(&self, opener: TagId) -> bool {
        let Some(content) = self.content(opener) else { return false };
        let range = self.tags[opener].range.end..self.tags[opener].range.end + content.len();
        let file = self.tags[opener].file;
        let inside = self.tags_of(file).filter(|&at| range.contains(&self.tags[at].range.start));
        inside.into_iter().any(|at| self.pairs.is_opener(self.of[at]) && !self.pairs.partner.contains_key(&at))
    }

    pub(super) fn holds_prose(&self, opener: TagId) -> bool {
        self.content(opener).is_some_and(|content| {
            !content.contains(['<', '{', '[']) && content.split_whitespace().count() >= 2 && is_balanced(content)
        })
    }
}

#[cfg(test)]
mod tests {
    use crate::dialect::Kind;
    use crate::testing::{LAYOUT, check, learned, page};

    #[test]
    fn a_pair_without_a_name_decides_or_repeats() {
        let learned = learned(LAYOUT, &page("<h1>@</h1>\n~(= when @ =)<p>@</p>(= unwhen =)"), &[]);
        check(&learned, Kind::Control, &["{ open = \"(= when <expr> =)\", close = \"(= unwhen =)\" }"]);
    }
}
