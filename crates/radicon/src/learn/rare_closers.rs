//! Closers that are rare beside another of the same openers: regions of layouts that end in a word of
//! their own, where hundreds of pages end theirs in another. What else is never closed shows them.

use std::collections::BTreeMap;

use rustc_hash::FxHashSet;

use super::pairs::{Closer, Finder, Pairs, prints};
use super::pieces::{between, is_balanced};

/// A word must close what is left open so often, in one file or in several.
const FEWEST: usize = 2;

impl Finder<'_> {
    /// Words without arguments that close, wherever they stand, what no other closer does; tells whether
    /// there are any.
    pub(super) fn add_rare_closers(&self, pairs: &mut Pairs) -> bool {
        let mut left: BTreeMap<usize, FxHashSet<usize>> = BTreeMap::new();
        for &opener in pairs.closers.keys() {
            let tags = &self.directives[opener].tags;
            let open: FxHashSet<usize> = tags.iter().copied().filter(|at| !pairs.partner.contains_key(at)).collect();
            if open.len() >= FEWEST && open.len() < tags.len() {
                left.insert(opener, open);
            }
        }
        let mut found: Vec<(usize, usize)> = Vec::new();
        for (id, directive) in self.directives.iter().enumerate() {
            let is_other = pairs.is_opener(id) || pairs.is_closer(id) || self.single.contains(&id);
            let is_word = !directive.label().is_empty() && !prints(&directive.mark) && self.argless(id);
            if is_other || !is_word || directive.tags.len() < FEWEST {
                continue;
            }
            let ended = |opener: &&usize| {
                self.directives[**opener].notation == directive.notation && self.ends_all(id, &left[*opener])
            };
            found.extend(left.keys().find(ended).map(|&opener| (opener, id)));
        }
        for &(opener, directive) in &found {
            pairs.closers.entry(opener).or_default().push(Closer { directive, word: None });
        }
        !found.is_empty()
    }

    /// Whether each tag of a word ends something that is left open, and nothing else is in the files where it stands.
    fn ends_all(&self, closer: usize, left: &FxHashSet<usize>) -> bool {
        let files: FxHashSet<usize> = self.directives[closer].tags.iter().map(|&at| self.tags[at].file).collect();
        let mut all: Vec<usize> = left.iter().copied().filter(|&at| files.contains(&self.tags[at].file)).collect();
        all.extend(&self.directives[closer].tags);
        all.sort_unstable();
        all.chunk_by(|&a, &b| self.tags[a].file == self.tags[b].file).all(|own| {
            let mut open: Vec<usize> = Vec::new();
            own.iter().all(|&at| {
                if left.contains(&at) {
                    open.push(at);
                    return true;
                }
                let ends = |opener: usize| {
                    is_balanced(between(self.text(at), self.tags[opener].range.end, self.tags[at].range.start))
                };
                open.pop().is_some_and(ends)
            }) && open.is_empty()
        })
    }
}
