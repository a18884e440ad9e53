//! Closers that are rare beside another of the same openers: regions of layouts that end in a word of
//! their own, where hundreds of pages end theirs in another. What else is never closed shows them.

use std::collections::BTreeMap;

use rustc_hash::FxHashSet;

use crate::evidence::pairs::{Closer, Finder, Pairs, prints};
use crate::read::corpus::TextId;
use crate::read::directives::DirectiveId;
use crate::read::pieces::{between, is_balanced};
use crate::read::tags::TagId;
use crate::thresholds::FEWEST_LEFT_OPEN;

impl Finder<'_> {
    /// Words without arguments that close, wherever they are, what no other closer does; tells whether
    /// there are any.
    pub(crate) fn add_rare_closers(&self, pairs: &mut Pairs) -> bool {
        let mut left: BTreeMap<DirectiveId, FxHashSet<TagId>> = BTreeMap::new();
        for &opener in pairs.closers.keys() {
            let tags = &self.directives[opener].tags;
            let open: FxHashSet<TagId> = tags.iter().copied().filter(|at| !pairs.partner.contains_key(at)).collect();
            if open.len() >= FEWEST_LEFT_OPEN && open.len() < tags.len() {
                left.insert(opener, open);
            }
        }
        let mut found: Vec<(DirectiveId, DirectiveId)> = Vec::new();
        for (id, directive) in DirectiveId::each(self.directives) {
            let is_other = pairs.is_opener(id) || pairs.is_closer(id) || self.single.contains(&id);
            let is_word = !directive.label().is_empty() && !prints(&directive.mark) && self.argless(id);
            if is_other || !is_word || directive.tags.len() < FEWEST_LEFT_OPEN {
                continue;
            }
            let ended = |opener: &&DirectiveId| {
                self.directives[**opener].notation == directive.notation && self.ends_all(id, &left[*opener])
            };
            found.extend(left.keys().find(ended).map(|&opener| (opener, id)));
        }
        for &(opener, directive) in &found {
            pairs.closers.entry(opener).or_default().push(Closer { directive, word: None });
        }
        !found.is_empty()
    }

    /// Whether each tag of a word ends something that is left open, and nothing else is in the files where it is.
    fn ends_all(&self, closer: DirectiveId, left: &FxHashSet<TagId>) -> bool {
        let files: FxHashSet<TextId> = self.directives[closer].tags.iter().map(|&at| self.tags[at].file).collect();
        let mut all: Vec<TagId> = left.iter().copied().filter(|&at| files.contains(&self.tags[at].file)).collect();
        all.extend(&self.directives[closer].tags);
        all.sort_unstable();
        all.chunk_by(|&a, &b| self.tags[a].file == self.tags[b].file).all(|own| {
            let mut open: Vec<TagId> = Vec::new();
            own.iter().all(|&at| {
                if left.contains(&at) {
                    open.push(at);
                    return true;
                }
                let ends = |opener: TagId| {
                    is_balanced(between(self.text(at), self.tags[opener].range.end, self.tags[at].range.start))
                };
                open.pop().is_some_and(ends)
            }) && open.is_empty()
        })
    }
}

#[cfg(test)]
mod tests {
    use crate::dialect::Kind;
    use crate::testing::{LAYOUT, check, learned, page};

    #[test]
    fn layouts_may_end_their_regions_in_a_word_of_their_own() {
        let layout = LAYOUT.replace("cast", "slip");
        let learned = learned(&layout, &page("<h1>@</h1>"), &[("two.html", &layout)]);
        let both = "{ open = \"(= berth <name> =)\", close = [\"(= cast =)\", \"(= slip =)\"] }";
        check(&learned, Kind::Block, &[both]);
    }
}
