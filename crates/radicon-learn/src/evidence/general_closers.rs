//! General closers: words without arguments that end pairs of many words, told by their numbers.

use std::collections::{BTreeMap, BTreeSet};

use rustc_hash::FxHashSet;

use crate::evidence::pairs::{Closer, Finder, Pairs, prints};
use crate::read::directives::{Arguments, DirectiveId, closes_first};
use crate::read::pieces::{between, is_balanced};
use crate::read::tags::{NotationId, TagId};
use crate::read::tags::{Tag, TokenKind};
use crate::thresholds::{
    ANSWERED, BARE_OPENER, EACH_CLOSER, EACH_OPENER, FEWEST_FIRSTS, MANY_FILES, MOST_CHANGES, MOST_CLOSERS,
    MOST_ROUNDS, MOST_TOGETHER, NESTED, PAIRS_PER_CLOSER, WELL_NESTED,
};

/// The opener of a pair: a tag's first word, or its last.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Opens<'t> {
    Word(&'t str),
    Tail(&'t str),
}

/// A tag that may open a pair.
#[derive(Clone, Copy)]
struct Opening {
    tag: TagId,
    /// Which of the closers it is itself, or ends with one of its own statements.
    closes: u32,
}

/// A word that may open pairs, with its tags.
struct Candidate<'t> {
    opens: Opens<'t>,
    tags: Vec<Opening>,
}

/// A word that is tried as what some closers end.
struct Tried<'t> {
    opens: Opens<'t>,
    tags: Vec<TagId>,
    is_bare: bool,
}

/// How many closers that are left in each file some tags answer to; those taken off that they have no closer for.
fn gain(own: &[TagId], left: &[i64], tags: &[Tag]) -> i64 {
    let change = |own: &[TagId]| {
        let wanted = left[tags[own[0]].file.index()];
        wanted.abs() - (wanted - own.len() as i64).abs()
    };
    own.chunk_by(|&a, &b| tags[a].file == tags[b].file).map(change).sum()
}

/// Some of the closers, as bits.
fn closes(closers: &[DirectiveId], which: impl Fn(DirectiveId) -> bool) -> u32 {
    closers.iter().enumerate().filter(|(_, id)| which(**id)).map(|(at, _)| 1 << at).sum()
}

/// The tags that open what some general closers end.
struct Openers {
    score: f64,
    /// The share of files that nest rightly.
    nested: f64,
    /// The words, as indices of the candidates.
    chosen: Vec<usize>,
    tags: FxHashSet<TagId>,
    /// The words that open at the end of tags.
    tails: BTreeSet<String>,
}

impl Finder<'_> {
    /// General closers: words without arguments of which there are as many as of some openers.
    pub(crate) fn by_count(&self, notation: NotationId, pairs: &mut Pairs) {
        // What does not come out even may hide what does.
        let mut failed: Vec<DirectiveId> = Vec::new();
        for _ in 0..MOST_ROUNDS {
            match self.count_once(notation, &failed, pairs) {
                Err(set) if !set.is_empty() => failed.extend(set),
                _ => break,
            }
        }
    }

    /// The words that may close openers, those with most tags; and those that close openers already, and no others.
    fn may_close(
        &self,
        notation: NotationId,
        failed: &[DirectiveId],
        known: &FxHashSet<DirectiveId>,
        pairs: &Pairs,
    ) -> (Vec<DirectiveId>, FxHashSet<DirectiveId>) {
        let is_general = |id: DirectiveId| {
            let directive = &self.directives[id];
            directive.notation == notation && !directive.label().is_empty() && !prints(&directive.mark)
        };
        // A closer that goes with names may close other things as well.
        let bare = |id: DirectiveId| self.directives[id].tags.iter().any(|&at| self.tags[at].tokens.is_empty());
        let closers = pairs.closers.values().flatten().filter(|c| c.word.is_none()).map(|c| c.directive);
        let (shared, taken): (FxHashSet<DirectiveId>, FxHashSet<DirectiveId>) =
            closers.partition(|&id| is_general(id) && bare(id));
        // A closer comes after what it ends, so it never comes first in a file.
        let comes_first = |id: DirectiveId| {
            self.directives[id].tags.iter().any(|&at| {
                let file = self.tags[at].file;
                !TagId(0)
                    .to(at)
                    .rev()
                    .take_while(|&o| self.tags[o].file == file)
                    .any(|o| self.tags[o].notation == notation)
            })
        };
        let may_close = |&id: &DirectiveId| {
            is_general(id)
                && !failed.contains(&id)
                && match shared.contains(&id) {
                    true => self.is_short(id, pairs),
                    false => {
                        let is_other = known.contains(&id) || taken.contains(&id) || self.single.contains(&id);
                        self.argless(id) && !is_other
                    }
                }
                && !comes_first(id)
        };
        let mut closers: Vec<DirectiveId> = DirectiveId::all(self.directives.len()).filter(may_close).collect();
        closers.sort_by_key(|&id| (std::cmp::Reverse(self.directives[id].tags.len()), id));
        closers.truncate(MOST_CLOSERS);
        (closers, taken)
    }

    /// The same once, without some closers; gives those that do not come out even.
    fn count_once(
        &self,
        notation: NotationId,
        failed: &[DirectiveId],
        pairs: &mut Pairs,
    ) -> Result<(), Vec<DirectiveId>> {
        let known: FxHashSet<DirectiveId> = pairs.closers.keys().copied().collect();
        let (closers, taken) = self.may_close(notation, failed, &known, pairs);
        let candidates = self.may_open(notation, &closers, |id| known.contains(&id) || taken.contains(&id));
        let ends_braces = |id: DirectiveId| closes_first(&self.directives[id].mark);
        // One closer, then another beside it as long as that explains more.
        let mut best: Option<(Openers, Vec<DirectiveId>)> = None;
        for _ in 0..MOST_TOGETHER {
            let known_set = best.as_ref().map_or(&[][..], |(_, set)| set);
            let with = |more: &[DirectiveId]| {
                let mut set = [known_set, more].concat();
                // What closes one body in braces closes all.
                if let Some(&closer) = more.iter().find(|&&closer| ends_braces(closer)) {
                    set.extend(closers.iter().filter(|&&other| other != closer && ends_braces(other)));
                }
                set.sort_unstable();
                set.dedup();
                Some((self.openers_for(&set, &closers, &candidates, pairs)?, set))
            };
            let best_of = |found: &mut dyn Iterator<Item = (Openers, Vec<DirectiveId>)>| {
                found.max_by(|(a, _), (b, _)| a.score.total_cmp(&b.score))
            };
            let others = || closers.iter().copied().filter(|closer| !known_set.contains(closer));
            let mut found = best_of(&mut others().filter_map(|closer| with(&[closer])));
            // One opener may have two closers from the start.
            if known_set.is_empty() && found.as_ref().is_none_or(|(found, _)| found.nested < NESTED) {
                let pairs =
                    others().flat_map(|one| others().filter(move |other| one < *other).map(move |other| [one, other]));
                let two =
                    best_of(&mut pairs.filter_map(|both| with(&both)).filter(|(found, _)| found.nested >= NESTED));
                found = two.or(found);
            }
            // Where the pairs come out even another closer rather divides them.
            let explains_more = |found: &Openers| match &best {
                Some((known, _)) if known.nested >= NESTED => found.score * EACH_CLOSER > known.score,
                Some((known, _)) => found.score > known.score,
                None => true,
            };
            let Some(better) = found.filter(|(found, _)| explains_more(found)) else { break };
            best = Some(better);
        }
        let Some((openers, set)) = best else { return Ok(()) };
        if openers.nested < NESTED {
            return Err(set);
        }
        self.assign(&openers.tags, &set, &known, pairs);
        pairs.score += openers.score;
        pairs.tails.extend(openers.tails.into_iter().map(|tail| (notation, tail)));
        Ok(())
    }

    /// Gives each opener those of some general closers that end it when they are nested.
    fn assign(
        &self,
        openers: &FxHashSet<TagId>,
        set: &[DirectiveId],
        known: &FxHashSet<DirectiveId>,
        pairs: &mut Pairs,
    ) {
        let mut found: BTreeMap<DirectiveId, BTreeMap<DirectiveId, usize>> = BTreeMap::new();
        let mut open: Vec<TagId> = Vec::new();
        let mut file = None;
        for at in TagId::all(self.tags.len()) {
            if file != Some(self.tags[at].file) {
                (file, open) = (Some(self.tags[at].file), Vec::new());
            }
            let id = self.of[at];
            if openers.contains(&at)
                || known.contains(&id) && pairs.closers[&id].iter().any(|c| set.contains(&c.directive))
            {
                open.push(at);
            } else if set.contains(&id)
                && let Some(opener) = open.pop().filter(|opener| openers.contains(opener))
            {
                *found.entry(self.of[opener]).or_default().entry(id).or_default() += 1;
            }
        }
        // What is never closed opens nothing.
        for (opener, ends) in found {
            let all: usize = ends.values().sum();
            let is_usual = |&(id, uses): &(DirectiveId, usize)| {
                uses * PAIRS_PER_CLOSER >= all || closes_first(&self.directives[id].mark)
            };
            let mut ends: Vec<(DirectiveId, usize)> = ends.into_iter().filter(is_usual).collect();
            ends.sort_by_key(|&(closer, uses)| (std::cmp::Reverse(uses), closer));
            let closers = ends.into_iter().map(|(directive, _)| Closer { directive, word: None });
            pairs.closers.insert(opener, closers.collect());
        }
    }

    /// Whether there are more closers than the openers that are known to use them.
    fn is_short(&self, closer: DirectiveId, pairs: &Pairs) -> bool {
        let users = pairs.closers.iter().filter(|(_, closers)| closers.iter().any(|c| c.directive == closer));
        let opened: usize = users.map(|(opener, _)| self.directives[*opener].tags.len()).sum();
        self.directives[closer].tags.len() > opened
    }

    /// The openers that make these closers come out even, and how much that explains: words are taken
    /// for openers one by one, those first that leave fewest closers over, as long as nearly each of
    /// their uses answers to a closer of its file.
    fn openers_for(
        &self,
        set: &[DirectiveId],
        closers: &[DirectiveId],
        candidates: &[Candidate<'_>],
        pairs: &Pairs,
    ) -> Option<Openers> {
        // Per file the number of closers that no known opener needs.
        let mut left = vec![0; self.corpus.texts.len()];
        let shares = |own: &[Closer]| own.iter().any(|closer| set.contains(&closer.directive));
        let sharing: Vec<DirectiveId> =
            pairs.closers.iter().filter(|(_, own)| shares(own)).map(|(id, _)| *id).collect();
        for (&id, by) in set.iter().map(|id| (id, 1)).chain(sharing.iter().map(|id| (id, -1))) {
            self.directives[id].tags.iter().for_each(|&at| left[self.tags[at].file.index()] += by);
        }
        let candidates = self.tried(candidates, closes(closers, |id| set.contains(&id)));
        let sharing: Vec<TagId> = sharing.iter().flat_map(|&id| self.directives[id].tags.iter().copied()).collect();
        let try_without = |without: &[usize]| self.fill(&candidates, without, left.clone(), &sharing, set);
        let mut without: Vec<usize> = Vec::new();
        let mut best = try_without(&without)?;
        // In a few files a word that opens nothing may answer to as many closers: another choice is tried
        // without each word that was taken.
        for _ in 0..MOST_CHANGES {
            if best.nested >= WELL_NESTED || self.corpus.texts.len() > MANY_FILES {
                break;
            }
            let others = best.chosen.iter().filter_map(|&word| {
                let other = [&without[..], &[word]].concat();
                Some((try_without(&other)?, other))
            });
            let other = others.max_by(|(a, _), (b, _)| a.score.total_cmp(&b.score));
            let Some(better) = other.filter(|(other, _)| other.score > best.score) else { break };
            (best, without) = better;
        }
        Some(best)
    }

    /// Takes words for openers as long as closers are left.
    fn fill(
        &self,
        candidates: &[Tried<'_>],
        without: &[usize],
        mut left: Vec<i64>,
        sharing: &[TagId],
        set: &[DirectiveId],
    ) -> Option<Openers> {
        let mut rest: Vec<(usize, Vec<TagId>)> =
            candidates.iter().enumerate().map(|(at, candidate)| (at, candidate.tags.clone())).collect();
        rest.retain(|(at, _)| !without.contains(at));
        let mut tags: FxHashSet<TagId> = FxHashSet::default();
        let (mut chosen, mut bare) = (Vec::new(), 0_i32);
        loop {
            let mut best = None;
            let mut ranks = Vec::with_capacity(rest.len());
            // What does not fit now never will: the closers get fewer.
            rest.retain(|(at, own)| {
                let gain = gain(own, &left, self.tags) as f64;
                let fits = gain > 0.0 && gain >= ANSWERED * own.len() as f64;
                if fits {
                    ranks.push(if candidates[*at].is_bare { gain * BARE_OPENER } else { gain });
                }
                fits
            });
            for (place, rank) in ranks.into_iter().enumerate() {
                if best.is_none_or(|(_, known)| rank > known) {
                    best = Some((place, rank));
                }
            }
            let Some((place, _)) = best else { break };
            let (at, own) = rest.remove(place);
            own.iter().for_each(|&tag| left[self.tags[tag].file.index()] -= 1);
            bare += i32::from(candidates[at].is_bare);
            chosen.push(at);
            tags.extend(own);
            rest.iter_mut().for_each(|(_, others)| others.retain(|tag| !tags.contains(tag)));
            rest.retain(|(_, others)| !others.is_empty());
        }
        // Words without arguments alone are values that are printed.
        let words = chosen.len() as i32;
        if words == bare {
            return None;
        }
        let all: FxHashSet<TagId> = tags.iter().chain(sharing).copied().collect();
        let (nested, balanced) = self.quality(&all, set);
        let explained = tags.len() + set.iter().map(|id| self.directives[*id].tags.len()).sum::<usize>();
        let score = explained as f64 * (0.1 + balanced) * nested * BARE_OPENER.powi(bare) * EACH_OPENER.powi(words);
        let tail = |&at: &usize| match candidates[at].opens {
            Opens::Tail(tail) => Some(tail.to_owned()),
            Opens::Word(_) => None,
        };
        let tails = chosen.iter().filter_map(tail).collect();
        Some(Openers { score, nested, chosen, tags, tails })
    }

    /// Words that may open pairs that general closers end: at the beginning of tags, and at their end.
    fn may_open(
        &self,
        notation: NotationId,
        closers: &[DirectiveId],
        is_other: impl Fn(DirectiveId) -> bool,
    ) -> Vec<Candidate<'_>> {
        let mut groups: BTreeMap<(Opens<'_>, &str, bool, Arguments), Vec<Opening>> = BTreeMap::new();
        for (id, directive) in DirectiveId::each(self.directives) {
            let skipped = directive.notation != notation || is_other(id) || self.single.contains(&id);
            if skipped || closes_first(&directive.mark) || self.is_prose(id) {
                continue;
            }
            let is_word = !directive.label().is_empty() && !prints(&directive.mark);
            let may_lead = is_word && directive.tail.is_empty() && !self.is_value(id);
            for &tag in &directive.tags {
                let opening = Opening { tag, closes: closes(closers, |closer| closer == id || self.says(tag, closer)) };
                if may_lead {
                    let word = Opens::Word(directive.words[0].as_str());
                    let key = (word, directive.mark.as_str(), directive.with_value, directive.arguments);
                    groups.entry(key).or_default().push(opening);
                }
                let tail = &self.text(tag)[self.tags[tag].tail.clone()];
                if !tail.is_empty() {
                    groups.entry((Opens::Tail(tail), "", false, Arguments::Any)).or_default().push(opening);
                }
            }
        }
        groups.values_mut().for_each(|tags| tags.sort_unstable_by_key(|opening| opening.tag));
        groups.into_iter().map(|((opens, ..), tags)| Candidate { opens, tags }).collect()
    }

    /// Whether a tag holds a statement that begins with the word of a closer.
    fn says(&self, tag: TagId, closer: DirectiveId) -> bool {
        let (text, word) = (self.text(tag), self.directives[closer].words[0].as_str());
        self.tags[tag].tokens.iter().any(|token| token.kind == TokenKind::Word && &text[token.range.clone()] == word)
    }

    /// The words that may open what some closers end, without the tags that end it themselves.
    fn tried<'t>(&self, candidates: &[Candidate<'t>], closers: u32) -> Vec<Tried<'t>> {
        // Another word begins each tag that a word opens at the end.
        let is_tail = |tags: &[TagId]| {
            let firsts: FxHashSet<&str> = tags.iter().map(|&at| &self.text(at)[self.tags[at].word.clone()]).collect();
            firsts.len() >= FEWEST_FIRSTS && self.tags[tags[0]].file != self.tags[tags[tags.len() - 1]].file
        };
        let tried = |candidate: &Candidate<'t>| {
            let open = candidate.tags.iter().filter(|opening| opening.closes & closers == 0);
            let tags: Vec<TagId> = open.map(|opening| opening.tag).collect();
            let is_bare = tags.iter().all(|&at| self.tags[at].tokens.is_empty() && !self.tags[at].brace);
            let opens = candidate.opens;
            let may_open = !tags.is_empty() && (matches!(opens, Opens::Word(_)) || is_tail(&tags));
            may_open.then_some(Tried { opens, tags, is_bare })
        };
        candidates.iter().filter_map(tried).collect()
    }

    /// The share of files that nest rightly, and of pairs with balanced markup inside.
    fn quality(&self, openers: &FxHashSet<TagId>, closers: &[DirectiveId]) -> (f64, f64) {
        let (mut files, mut good_files, mut pairs, mut balanced) = (0, 0, 0_usize, 0_usize);
        let closing = closers.iter().flat_map(|&id| &self.directives[id].tags);
        let mut members: Vec<TagId> = openers.iter().chain(closing).copied().collect();
        members.sort_unstable();
        for own in members.chunk_by(|&a, &b| self.tags[a].file == self.tags[b].file) {
            let (mut open, mut good) = (Vec::new(), true);
            for &tag in own {
                if openers.contains(&tag) {
                    open.push(tag);
                } else if let Some(opener) = open.pop() {
                    let inside = between(self.text(tag), self.tags[opener].range.end, self.tags[tag].range.start);
                    pairs += 1;
                    balanced += usize::from(is_balanced(inside));
                } else {
                    good = false;
                }
            }
            files += 1;
            good_files += usize::from(good && open.is_empty());
        }
        (good_files as f64 / files.max(1) as f64, balanced as f64 / pairs.max(1) as f64)
    }
}

#[cfg(test)]
mod tests {
    use crate::dialect::Kind;
    use crate::testing::{LAYOUT, check, learned, page};

    #[test]
    fn one_word_closes_several() {
        let learned = learned(LAYOUT, &page("<h1>@</h1>\n~(= when @ =)<p>@</p>(= cast =)"), &[]);
        check(&learned, Kind::Block, &["{ open = \"(= berth <name> =)\", close = \"(= cast =)\" }"]);
        check(&learned, Kind::Control, &["{ open = \"(= when <expr> =)\", close = \"(= cast =)\" }"]);
    }
}
