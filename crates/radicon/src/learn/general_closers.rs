//! General closers: words without arguments that end pairs of many words, told by their numbers.

use std::collections::{BTreeMap, BTreeSet};

use rustc_hash::FxHashSet;

use super::pairs::{Closer, Finder, NESTED, Pairs, prints};
use super::pieces::{between, is_balanced};
use super::tags::{Tag, TokenKind};

/// A choice of words is tried without each of them until so many files nest, at most so often.
const WELL_NESTED: f64 = 0.97;
const MOST_CHANGES: usize = 6;

/// In more files than this the counts speak for themselves.
const MANY_FILES: usize = 40;

/// How many closers may end the same pairs.
const MOST_TOGETHER: usize = 3;

/// The share of a word's uses that a general closer must answer to.
const ANSWERED: f64 = 0.9;

/// What a word without arguments counts as an opener, and what each further opener costs: values that
/// are printed look the same, and few words are likelier than many.
const BARE_OPENER: f64 = 0.9;
const EACH_OPENER: f64 = 0.98;

/// What each further closer costs where the pairs come out even: what divides pairs looks like one.
const EACH_CLOSER: f64 = 0.6;

/// How many words are looked at as general closers: those that are used most.
const MOST_CLOSERS: usize = 6;

/// How many different words must begin the tags that one word or sign opens at their end.
const FEWEST_FIRSTS: usize = 3;

/// What opens a pair: a tag's first word, or its last.
#[derive(PartialEq, Eq, PartialOrd, Ord)]
enum Opens<'t> {
    Word(&'t str),
    Tail(&'t str),
}

/// A word that may open pairs, with its tags.
struct Candidate {
    tags: Vec<usize>,
    /// The word, if it ends its tags.
    tail: Option<String>,
    is_bare: bool,
}

/// How many closers that are left some tags answer to; those taken off that they have no closer for.
fn gain(own: &[usize], left: &BTreeMap<usize, i64>, tags: &[Tag]) -> i64 {
    let change = |own: &[usize]| {
        let wanted = left.get(&tags[own[0]].file).copied().unwrap_or(0);
        wanted.abs() - (wanted - own.len() as i64).abs()
    };
    own.chunk_by(|&a, &b| tags[a].file == tags[b].file).map(change).sum()
}

/// The tags that open what some general closers end.
struct Openers {
    score: f64,
    /// The share of files that nest rightly.
    nested: f64,
    /// The words, as indices of the candidates.
    chosen: Vec<usize>,
    tags: FxHashSet<usize>,
    /// The words that open at the end of tags.
    tails: BTreeSet<String>,
}

impl Finder<'_> {
    /// General closers: words without arguments of which there are as many as of some openers.
    pub(super) fn by_count(&self, notation: usize, pairs: &mut Pairs) {
        let known: FxHashSet<usize> = pairs.closers.keys().copied().collect();
        let is_general = |id: usize| {
            let directive = &self.directives[id];
            directive.notation == notation && !directive.label().is_empty() && !prints(&directive.mark)
        };
        // A closer that goes with names may close other things as well.
        let bare = |id: usize| self.directives[id].tags.iter().any(|&at| self.tags[at].tokens.is_empty());
        let closers = pairs.closers.values().flatten().filter(|c| c.word.is_none()).map(|c| c.directive);
        let (shared, taken): (FxHashSet<usize>, FxHashSet<usize>) = closers.partition(|&id| is_general(id) && bare(id));
        // A closer stands behind what it ends, so it never comes first in a file.
        let comes_first = |id: usize| {
            self.directives[id].tags.iter().any(|&at| {
                let file = self.tags[at].file;
                !(0..at).rev().take_while(|&o| self.tags[o].file == file).any(|o| self.tags[o].notation == notation)
            })
        };
        let may_close = |&id: &usize| {
            is_general(id)
                && (shared.contains(&id) && self.is_short(id, pairs)
                    || self.argless(id) && !known.contains(&id) && !taken.contains(&id) && !self.single.contains(&id))
                && !comes_first(id)
        };
        let mut closers: Vec<usize> = (0..self.directives.len()).filter(may_close).collect();
        closers.sort_by_key(|&id| (std::cmp::Reverse(self.directives[id].tags.len()), id));
        closers.truncate(MOST_CLOSERS);
        // One closer, then another beside it as long as that explains more.
        let mut best: Option<(Openers, Vec<usize>)> = None;
        for _ in 0..MOST_TOGETHER {
            let known_set = best.as_ref().map_or(&[][..], |(_, set)| set);
            let sets = closers.iter().filter(|closer| !known_set.contains(closer)).map(|&closer| {
                let mut set = [known_set, &[closer]].concat();
                set.sort_unstable();
                set
            });
            let tried = sets.filter_map(|set| Some((self.openers_for(notation, &set, &known, &taken, pairs)?, set)));
            let found = tried.max_by(|(a, _), (b, _)| a.score.total_cmp(&b.score));
            // Where the pairs come out even another closer rather divides them.
            let explains_more = |found: &Openers| match &best {
                Some((known, _)) if known.nested >= NESTED => found.score * EACH_CLOSER > known.score,
                Some((known, _)) => found.score > known.score,
                None => true,
            };
            let Some(better) = found.filter(|(found, _)| explains_more(found)) else { break };
            best = Some(better);
        }
        let best = best.filter(|(openers, _)| openers.nested >= NESTED);
        if let Some((openers, set)) = best {
            self.assign(&openers.tags, &set, &known, pairs);
            pairs.score += openers.score;
            pairs.tails.extend(openers.tails.into_iter().map(|tail| (notation, tail)));
        }
    }

    /// Gives each opener those of some general closers that end it when they are nested.
    fn assign(&self, openers: &FxHashSet<usize>, set: &[usize], known: &FxHashSet<usize>, pairs: &mut Pairs) {
        let mut found: BTreeMap<usize, BTreeMap<usize, usize>> = BTreeMap::new();
        let mut open: Vec<usize> = Vec::new();
        let mut file = usize::MAX;
        for at in 0..self.tags.len() {
            if self.tags[at].file != file {
                (file, open) = (self.tags[at].file, Vec::new());
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
            let mut ends: Vec<(usize, usize)> = ends.into_iter().filter(|(_, uses)| uses * 20 >= all).collect();
            ends.sort_by_key(|&(closer, uses)| (std::cmp::Reverse(uses), closer));
            let closers = ends.into_iter().map(|(directive, _)| Closer { directive, word: None });
            pairs.closers.insert(opener, closers.collect());
        }
    }

    /// Whether there are more closers than the openers that are known to use them.
    fn is_short(&self, closer: usize, pairs: &Pairs) -> bool {
        let users = pairs.closers.iter().filter(|(_, closers)| closers.iter().any(|c| c.directive == closer));
        let opened: usize = users.map(|(opener, _)| self.directives[*opener].tags.len()).sum();
        self.directives[closer].tags.len() > opened + opened / 20
    }

    /// The openers that make these closers come out even, and how much that explains: words are taken
    /// for openers one by one, those first that leave fewest closers over, as long as nearly each of
    /// their uses answers to a closer of its file.
    fn openers_for(
        &self,
        notation: usize,
        set: &[usize],
        known: &FxHashSet<usize>,
        taken: &FxHashSet<usize>,
        pairs: &Pairs,
    ) -> Option<Openers> {
        // Per file the number of closers that no known opener needs.
        let mut left: BTreeMap<usize, i64> = BTreeMap::new();
        let sharing: Vec<usize> =
            known.iter().copied().filter(|id| pairs.closers[id].iter().any(|c| set.contains(&c.directive))).collect();
        for (&id, by) in set.iter().map(|id| (id, 1)).chain(sharing.iter().map(|id| (id, -1))) {
            self.directives[id].tags.iter().for_each(|&at| *left.entry(self.tags[at].file).or_default() += by);
        }
        let candidates = self.may_open(notation, set, |id| known.contains(&id) || taken.contains(&id));
        let sharing: Vec<usize> = sharing.iter().flat_map(|&id| self.directives[id].tags.iter().copied()).collect();
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
        candidates: &[Candidate],
        without: &[usize],
        mut left: BTreeMap<usize, i64>,
        sharing: &[usize],
        set: &[usize],
    ) -> Option<Openers> {
        let mut rest: Vec<(usize, Vec<usize>)> =
            candidates.iter().enumerate().map(|(at, candidate)| (at, candidate.tags.clone())).collect();
        rest.retain(|(at, _)| !without.contains(at));
        let mut tags: FxHashSet<usize> = FxHashSet::default();
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
            own.iter().for_each(|&tag| *left.entry(self.tags[tag].file).or_default() -= 1);
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
        let all: FxHashSet<usize> = tags.iter().chain(sharing).copied().collect();
        let (nested, balanced) = self.quality(&all, set);
        let explained = tags.len() + set.iter().map(|id| self.directives[*id].tags.len()).sum::<usize>();
        let score = explained as f64 * (0.1 + balanced) * nested * BARE_OPENER.powi(bare) * EACH_OPENER.powi(words);
        let tails = chosen.iter().filter_map(|&at| candidates[at].tail.clone()).collect();
        Some(Openers { score, nested, chosen, tags, tails })
    }

    /// What may open pairs that general closers end: words at the beginning of tags, and at their end.
    fn may_open(&self, notation: usize, set: &[usize], is_other: impl Fn(usize) -> bool) -> Vec<Candidate> {
        let closing: FxHashSet<&str> = set.iter().map(|&id| self.directives[id].words[0].as_str()).collect();
        let mut groups: BTreeMap<(Opens<'_>, &str, bool), Vec<usize>> = BTreeMap::new();
        for (id, directive) in self.directives.iter().enumerate() {
            let skipped =
                directive.notation != notation || set.contains(&id) || is_other(id) || self.single.contains(&id);
            if skipped || self.is_prose(id) {
                continue;
            }
            let is_word = !directive.label().is_empty() && !prints(&directive.mark);
            let may_lead = is_word && directive.tail.is_empty() && !self.is_value(id);
            for &at in directive.tags.iter().filter(|&&at| !self.closes_itself(at, &closing)) {
                if may_lead {
                    let word = Opens::Word(directive.words[0].as_str());
                    groups.entry((word, directive.mark.as_str(), directive.with_value)).or_default().push(at);
                }
                let tail = &self.text(at)[self.tags[at].tail.clone()];
                if !tail.is_empty() {
                    groups.entry((Opens::Tail(tail), "", false)).or_default().push(at);
                }
            }
        }
        // Another word begins each tag that a word opens at the end.
        let is_tail = |tags: &[usize]| {
            let firsts: FxHashSet<&str> = tags.iter().map(|&at| &self.text(at)[self.tags[at].word.clone()]).collect();
            firsts.len() >= FEWEST_FIRSTS && self.tags[tags[0]].file != self.tags[tags[tags.len() - 1]].file
        };
        groups.values_mut().for_each(|tags| tags.sort_unstable());
        groups.retain(|(opens, ..), tags| matches!(opens, Opens::Word(_)) || is_tail(tags));
        let candidate = |((opens, ..), tags): ((Opens<'_>, &str, bool), Vec<usize>)| Candidate {
            tail: if let Opens::Tail(tail) = opens { Some(tail.to_owned()) } else { None },
            is_bare: tags.iter().all(|&at| self.tags[at].tokens.is_empty() && !self.tags[at].brace),
            tags,
        };
        groups.into_iter().map(candidate).collect()
    }

    /// Whether a tag holds statements, one of which closes what it opens.
    fn closes_itself(&self, at: usize, closing: &FxHashSet<&str>) -> bool {
        let text = self.text(at);
        self.tags[at]
            .tokens
            .iter()
            .any(|token| token.kind == TokenKind::Word && closing.contains(&text[token.range.clone()]))
    }

    /// The share of files that nest rightly, and of pairs with balanced markup inside.
    fn quality(&self, openers: &FxHashSet<usize>, closers: &[usize]) -> (f64, f64) {
        let (mut files, mut good_files, mut pairs, mut balanced) = (0, 0, 0_usize, 0_usize);
        let closing = closers.iter().flat_map(|&id| &self.directives[id].tags);
        let mut members: Vec<usize> = openers.iter().chain(closing).copied().collect();
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
