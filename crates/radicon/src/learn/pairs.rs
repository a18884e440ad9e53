//! Which tags open and which close: the words say so, or the counts do.

use std::collections::{BTreeMap, BTreeSet};

use rustc_hash::{FxHashMap, FxHashSet};

use super::corpus::Corpus;
use super::heads::{Directive, arguments_of};
use super::pieces::{between, element_end, is_balanced, is_prose};
use super::tags::{Style, Tag, Token, TokenKind, is_word, token_text};

/// How a closer is written.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct Closer {
    /// The directive that closes; of a balanced pair the opener itself.
    pub directive: usize,
    /// Its first argument repeats the opener's word.
    pub word: Option<String>,
}

/// What is known about pairs.
#[derive(Debug, Default)]
pub(super) struct Pairs {
    /// For each opening directive its closers, the most frequent first.
    pub closers: BTreeMap<usize, Vec<Closer>>,
    /// For each opening directive what divides its pairs.
    pub branches: BTreeMap<usize, Vec<usize>>,
    /// For each tag that opens a pair the tag that closes it, or itself if a brace does.
    pub partner: FxHashMap<usize, usize>,
    /// Where the brace that closes a tag's body stands.
    pub brace_ends: FxHashMap<usize, usize>,
    /// For each tag the tags of the pairs around it, outermost first.
    pub around: FxHashMap<usize, Vec<usize>>,
    /// Another reading of who opens does nearly as well.
    pub doubtful: bool,
}

impl Pairs {
    pub fn is_opener(&self, directive: usize) -> bool {
        self.closers.contains_key(&directive)
    }

    pub fn is_closer(&self, directive: usize) -> bool {
        let closes = |closer: &Closer| closer.directive == directive && closer.word.is_none();
        self.closers.iter().any(|(opener, closers)| *opener != directive && closers.iter().any(closes))
    }

    pub fn is_branch(&self, directive: usize) -> bool {
        self.branches.values().flatten().any(|branch| *branch == directive)
    }
}

/// An opener, what may close it, and the opener's word if the closer repeats it as its argument.
type Member = (usize, usize, Option<String>);

/// The share of files in which pairs must nest rightly.
const NESTED: f64 = 0.85;

pub(super) struct Finder<'a> {
    pub corpus: &'a Corpus,
    pub tags: &'a [Tag],
    pub directives: &'a [Directive],
    /// The directive of each tag.
    pub of: &'a [usize],
    pub styles: &'a [Style],
    /// Directives that open nothing: those that name the parent, and comments.
    pub single: &'a FxHashSet<usize>,
}

impl Finder<'_> {
    pub fn find(&self) -> Pairs {
        let mut pairs = Pairs::default();
        self.elements(&mut pairs);
        self.balanced(&mut pairs);
        self.by_affix(&mut pairs);
        self.by_name(&mut pairs);
        for notation in 0..self.styles.len() {
            if matches!(self.styles[notation], Style::Bracket | Style::Sigil | Style::Line) {
                self.by_count(notation, &mut pairs);
            }
        }
        self.join(&mut pairs);
        self.find_branches(&mut pairs);
        pairs
    }

    fn text(&self, tag: usize) -> &str {
        &self.corpus.texts[self.tags[tag].file].text
    }

    /// The first argument of a tag.
    pub fn first_argument(&self, tag: usize) -> Option<&str> {
        let taken = self.directives[self.of[tag]].taken;
        let token = self.tags[tag].tokens.iter().skip(taken).find(|t| !matches!(t.kind, TokenKind::Sign(_)))?;
        Some(token_text(self.text(tag), token))
    }

    /// The name that a tag gives to what it opens: its first argument, or the one behind `=`.
    fn name(&self, tag: usize) -> Option<&str> {
        let taken = self.directives[self.of[tag]].taken;
        let argument = arguments_of(self.text(tag), &self.tags[tag], taken).into_iter().next()?;
        let name = token_text(self.text(tag), &self.tags[tag].tokens[argument.token]);
        Some(name).filter(|name| !name.is_empty() && name.bytes().all(|b| is_word(b) || b"-.:/".contains(&b)))
    }

    fn argless(&self, directive: usize) -> bool {
        let directive = &self.directives[directive];
        directive.tags.iter().all(|&at| self.tags[at].tokens.len() <= directive.taken && !self.tags[at].brace)
    }

    /// What an attribute says holds for the content of its element.
    fn elements(&self, pairs: &mut Pairs) {
        for (id, directive) in self.directives.iter().enumerate() {
            if self.styles[directive.notation] != Style::Attribute {
                continue;
            }
            for &at in &directive.tags {
                let end = element_end(self.text(at), self.tags[at].range.clone());
                pairs.brace_ends.extend(end.map(|end| (at, end)));
            }
            pairs.closers.insert(id, vec![Closer { directive: id, word: None }]);
        }
    }

    /// Bodies in braces.
    fn balanced(&self, pairs: &mut Pairs) {
        for (id, directive) in self.directives.iter().enumerate() {
            let braced = directive.tags.iter().filter(|&&at| self.tags[at].brace).count();
            if braced * 10 < directive.tags.len() * 9 {
                continue;
            }
            let mut ends = Vec::new();
            for &at in &directive.tags {
                let bytes = self.text(at).as_bytes();
                let mut depth = 0_usize;
                let start = self.tags[at].range.end;
                let close = (start..bytes.len()).find(|&place| match bytes[place] {
                    b'{' => {
                        depth += 1;
                        false
                    }
                    b'}' if depth == 0 => true,
                    b'}' => {
                        depth -= 1;
                        false
                    }
                    _ => false,
                });
                ends.extend(close.map(|close| (at, close)));
            }
            if ends.len() * 10 >= directive.tags.len() * 9 {
                pairs.closers.insert(id, vec![Closer { directive: id, word: None }]);
                pairs.brace_ends.extend(ends);
            }
        }
    }

    /// Closers whose word is made from the opener's by something that all closers share.
    fn by_affix(&self, pairs: &mut Pairs) {
        // (before, after) around the opener's word; or the closer's word before the opener's as an argument.
        let mut groups: BTreeMap<(usize, String, String), Vec<Member>> = BTreeMap::new();
        for (open, a) in self.directives.iter().enumerate() {
            let word = a.words.join(" ");
            if word.is_empty()
                || pairs.is_opener(open)
                || self.single.contains(&open)
                || a.with_value && self.styles[a.notation] == Style::Sigil
            {
                continue;
            }
            for (close, b) in self.directives.iter().enumerate() {
                if open == close || a.notation != b.notation || b.words[0].is_empty() && b.mark.is_empty() {
                    continue;
                }
                let other = b.words.join(" ");
                let mut add = |before: &str, after: &str, word: Option<String>| {
                    groups.entry((a.notation, before.into(), after.into())).or_default().push((open, close, word));
                };
                let affixes =
                    other.split_once(word.as_str()).filter(|(before, after)| before.is_empty() != after.is_empty());
                if let Some((before, after)) = affixes {
                    let closing = format!("{}{before}", b.mark);
                    if closing.len() <= 12 && after.len() <= 8 {
                        add(&closing, after, None);
                    }
                } else if other == word && a.mark != b.mark && !b.mark.is_empty() {
                    add(&b.mark, "", None);
                } else if other == word.chars().rev().collect::<String>() && other != word {
                    add("(reversed)", "", None);
                }
                // `end word`: the closer's argument is the opener's word.
                if b.words.len() == 1 && a.words.len() == 1 {
                    let repeats = b
                        .tags
                        .iter()
                        .filter(|&&at| {
                            self.tags[at].tokens.len() == 1 && self.first_argument(at) == Some(word.as_str())
                        })
                        .count();
                    if repeats > 0 && repeats * 2 >= a.tags.len() && self.mostly_repeats(close) {
                        add(&format!("{}{} ", b.mark, b.words[0]), "", Some(word.clone()));
                    }
                }
            }
        }
        let mut ranked: Vec<_> = groups.into_iter().collect();
        let opens = |members: &[Member]| members.iter().map(|m| m.0).collect::<BTreeSet<_>>().len();
        ranked.sort_by_key(|(key, members)| (std::cmp::Reverse(opens(members)), key.clone()));
        let mut used: FxHashSet<usize> = FxHashSet::default();
        for (_, mut members) in ranked {
            members
                .retain(|(open, close, _)| !pairs.is_opener(*open) && !used.contains(close) && !pairs.is_closer(*open));
            members.retain(|member| self.nests(std::slice::from_ref(member)));
            if members.is_empty() || !self.nests(&members) {
                continue;
            }
            for (open, close, word) in members {
                used.insert(open);
                pairs.closers.entry(open).or_default().push(Closer { directive: close, word });
            }
        }
    }

    /// Whether most of a directive's tags hold nothing but the first word of other tags.
    fn mostly_repeats(&self, id: usize) -> bool {
        let directive = &self.directives[id];
        let words: FxHashSet<&str> =
            self.directives.iter().filter(|d| d.notation == directive.notation).map(|d| d.words[0].as_str()).collect();
        let repeats = |at: &&usize| {
            self.tags[**at].tokens.len() == 1 && self.first_argument(**at).is_some_and(|word| words.contains(word))
        };
        let alone = |at: &&usize| self.tags[**at].tokens.len() <= 1;
        directive.tags.iter().filter(repeats).count() * 3 >= directive.tags.len()
            && directive.tags.iter().all(|at| alone(&at))
    }

    /// Whether openers and closers of these directives nest in nearly all files.
    fn nests(&self, members: &[Member]) -> bool {
        let opens: BTreeMap<usize, ()> = members.iter().map(|m| (m.0, ())).collect();
        let mut files: BTreeMap<usize, (Vec<usize>, bool, usize)> = BTreeMap::new();
        let mut all: Vec<usize> = members
            .iter()
            .flat_map(|m| self.directives[m.0].tags.iter().chain(&self.directives[m.1].tags))
            .copied()
            .collect();
        all.sort_unstable();
        all.dedup();
        for at in all {
            let of = self.of[at];
            let state = files.entry(self.tags[at].file).or_insert((Vec::new(), true, 0));
            let closes = |open: usize| {
                members.iter().any(|(o, c, word)| {
                    *o == open && *c == of && word.as_deref().is_none_or(|word| self.first_argument(at) == Some(word))
                })
            };
            if state.0.last().is_some_and(|&open| closes(open)) {
                state.0.pop();
                state.2 += 1;
            } else if opens.contains_key(&of) {
                state.0.push(of);
            } else if members.iter().any(|m| m.1 == of && m.2.is_none()) {
                state.1 = false;
            }
        }
        let good = files.values().filter(|(open, fits, _)| *fits && open.is_empty()).count();
        let closed: usize = files.values().map(|state| state.2).sum();
        closed > 0 && good as f64 >= NESTED * files.len() as f64
    }

    /// Closers that repeat the name of what they close.
    fn by_name(&self, pairs: &mut Pairs) {
        for (close, b) in self.directives.iter().enumerate() {
            if pairs.is_opener(close) || self.single.contains(&close) || pairs.is_closer(close) {
                continue;
            }
            // By opener, and by whether its word or its name is repeated.
            let mut openers: BTreeMap<(usize, bool), usize> = BTreeMap::new();
            let mut named = 0;
            for &at in &b.tags {
                let alone = arguments_of(self.text(at), &self.tags[at], b.taken).len() == 1
                    && self.tags[at].tokens.len() <= b.taken + 3;
                let Some(name) = self.name(at).filter(|_| alone) else { continue };
                named += 1;
                let file = self.tags[at].file;
                let before = (0..at).rev().take_while(|&other| self.tags[other].file == file);
                let repeats = |other: &usize| {
                    let of = &self.directives[self.of[*other]];
                    let usual = self.of[*other] != close && of.notation == b.notation;
                    usual && (self.name(*other) == Some(name) || of.words.len() == 1 && of.words[0] == name)
                };
                if let Some(opener) = before.into_iter().find(repeats) {
                    let by_word = self.name(opener) != Some(name);
                    *openers.entry((self.of[opener], by_word)).or_default() += 1;
                }
            }
            // Names that only end things: nearly each one repeats the name or word of something open.
            let total: usize = openers.values().sum();
            if total * 10 < named * 9 || named < 2 {
                continue;
            }
            let uses = |open: usize| self.directives[open].tags.len();
            openers.retain(|(open, by_word), hits| {
                let enough = *hits * if *by_word { 2 } else { 5 } >= uses(*open);
                enough && !self.single.contains(open) && self.nests_loosely(*open, close)
            });
            for (open, by_word) in openers.into_keys() {
                let word = by_word.then(|| self.directives[open].words[0].clone());
                pairs.closers.entry(open).or_default().insert(0, Closer { directive: close, word });
            }
        }
    }

    /// Whether each opener is followed by a closer and there are not more openers than closers.
    fn nests_loosely(&self, open: usize, close: usize) -> bool {
        let mut counts: FxHashMap<usize, (usize, usize)> = FxHashMap::default();
        self.directives[open].tags.iter().for_each(|&at| counts.entry(self.tags[at].file).or_default().0 += 1);
        self.directives[close].tags.iter().for_each(|&at| counts.entry(self.tags[at].file).or_default().1 += 1);
        let good = counts.values().filter(|(opens, closes)| opens <= closes).count();
        good as f64 >= NESTED * counts.len() as f64
    }

    /// General closers: words without arguments of which there are as many as of some openers.
    fn by_count(&self, notation: usize, pairs: &mut Pairs) {
        let known: FxHashSet<usize> = pairs.closers.keys().copied().collect();
        let is_general =
            |id: usize| self.directives[id].notation == notation && !self.directives[id].label().is_empty();
        // A closer that goes with names may close other things as well.
        let shared: Vec<usize> = pairs
            .closers
            .values()
            .flatten()
            .filter(|c| {
                c.word.is_none()
                    && is_general(c.directive)
                    && self.directives[c.directive].tags.iter().any(|&at| self.tags[at].tokens.is_empty())
            })
            .map(|c| c.directive)
            .collect();
        let taken: FxHashSet<usize> = pairs
            .closers
            .values()
            .flatten()
            .filter(|c| c.word.is_none() && !shared.contains(&c.directive))
            .map(|c| c.directive)
            .collect();
        let free =
            |id: &usize| is_general(*id) && !taken.contains(id) && !known.contains(id) && !self.single.contains(id);
        let mut closers: Vec<usize> = (0..self.directives.len())
            .filter(|id| free(id) && self.argless(*id) && self.directives[*id].tags.len() >= 2)
            .collect();
        closers.extend(shared.iter().filter(|id| !closers.contains(id)).copied().collect::<BTreeSet<_>>());
        // One that comes out even with what is known needs no other openers.
        closers.retain(|id| !shared.contains(id) || self.is_short(*id, pairs));
        // What ends things stands behind what it ends, so it never comes first in a file.
        closers.retain(|&id| {
            let first = |at: &usize| {
                !(0..*at)
                    .rev()
                    .take_while(|&o| self.tags[o].file == self.tags[*at].file)
                    .any(|o| self.tags[o].notation == notation)
            };
            !self.directives[id].tags.iter().any(first)
        });
        closers.sort_by_key(|&id| std::cmp::Reverse(self.directives[id].tags.len()));
        closers.truncate(6);
        let mut best: Option<(f64, Vec<usize>, Vec<usize>)> = None;
        let mut second = 0.0;
        for mask in 1_u32..1 << closers.len() {
            if mask.count_ones() > 3 {
                continue;
            }
            let set: Vec<usize> = (0..closers.len()).filter(|at| mask >> at & 1 == 1).map(|at| closers[at]).collect();
            if let Some((score, openers)) = self.openers_for(notation, &set, &known, &taken, pairs) {
                match &best {
                    Some((known, _, _)) if score <= *known => second = f64::max(second, score),
                    _ => {
                        second = best.as_ref().map_or(0.0, |b| b.0);
                        best = Some((score, openers, set));
                    }
                }
            }
        }
        let Some((score, openers, set)) = best else { return };
        pairs.doubtful |= second > 0.95 * score;
        self.assign(&openers, &set, &known, pairs);
    }

    /// Gives each opener those of some general closers that end it when they are nested.
    fn assign(&self, openers: &[usize], set: &[usize], known: &FxHashSet<usize>, pairs: &mut Pairs) {
        let mut found: BTreeMap<(usize, usize), usize> = BTreeMap::new();
        let mut open: Vec<usize> = Vec::new();
        let mut file = usize::MAX;
        for at in 0..self.tags.len() {
            if self.tags[at].file != file {
                (file, open) = (self.tags[at].file, Vec::new());
            }
            let id = self.of[at];
            if openers.contains(&id)
                || known.contains(&id) && pairs.closers[&id].iter().any(|c| set.contains(&c.directive))
            {
                open.push(id);
            } else if set.contains(&id)
                && let Some(opener) = open.pop()
            {
                *found.entry((opener, id)).or_default() += 1;
            }
        }
        for &opener in openers {
            let mut ends: Vec<(usize, usize)> =
                found.iter().filter(|((o, _), _)| *o == opener).map(|((_, c), uses)| (*uses, *c)).collect();
            ends.sort_by_key(|(uses, closer)| (std::cmp::Reverse(*uses), *closer));
            let all: usize = ends.iter().map(|(uses, _)| uses).sum();
            let ends = ends.into_iter().filter(|(uses, _)| uses * 20 >= all);
            let closers: Vec<Closer> = ends.map(|(_, directive)| Closer { directive, word: None }).collect();
            // What is never closed opens nothing.
            if !closers.is_empty() {
                pairs.closers.insert(opener, closers);
            }
        }
    }

    /// Whether its tags mostly hold words for people.
    fn is_prose(&self, id: usize) -> bool {
        let directive = &self.directives[id];
        let prose = |at: &&usize| is_prose(&self.text(**at)[self.tags[**at].inner.clone()]);
        !directive.mark.is_empty() && directive.tags.iter().filter(prose).count() * 10 >= directive.tags.len() * 6
    }

    /// Whether its word is the start of an expression: a field or a filter follows.
    fn is_value(&self, id: usize) -> bool {
        let directive = &self.directives[id];
        let continued = |at: &&usize| {
            let tag = &self.tags[**at];
            let first = tag.tokens.get(directive.taken);
            let dot = |t: &Token| t.range.start == tag.word.end && self.text(**at)[t.range.clone()].starts_with('.');
            first.is_some_and(|t| t.kind == TokenKind::Sign(b'|') || dot(t))
        };
        directive.tags.iter().filter(continued).count() * 2 >= directive.tags.len()
    }

    /// Whether there are more closers than the openers that are known to use them.
    fn is_short(&self, closer: usize, pairs: &Pairs) -> bool {
        let users = pairs.closers.iter().filter(|(_, closers)| closers.iter().any(|c| c.directive == closer));
        let opened: usize = users.map(|(opener, _)| self.directives[*opener].tags.len()).sum();
        self.directives[closer].tags.len() > opened + opened / 20
    }

    /// The openers that make these closers come out even, and how much that explains.
    fn openers_for(
        &self,
        notation: usize,
        set: &[usize],
        known: &FxHashSet<usize>,
        taken: &FxHashSet<usize>,
        pairs: &Pairs,
    ) -> Option<(f64, Vec<usize>)> {
        // Per file the number of closers that no known opener needs.
        let mut wanted: BTreeMap<usize, i64> = BTreeMap::new();
        for &id in set {
            for &at in &self.directives[id].tags {
                *wanted.entry(self.tags[at].file).or_default() += 1;
            }
        }
        let sharing: Vec<usize> =
            known.iter().copied().filter(|id| pairs.closers[id].iter().any(|c| set.contains(&c.directive))).collect();
        for &id in &sharing {
            for &at in &self.directives[id].tags {
                *wanted.entry(self.tags[at].file).or_default() -= 1;
            }
        }
        let total: i64 = wanted.values().sum();
        if total < 0 {
            return None;
        }
        let mut candidates: Vec<(usize, BTreeMap<usize, i64>)> = Vec::new();
        for (id, directive) in self.directives.iter().enumerate() {
            if directive.notation != notation
                || set.contains(&id)
                || known.contains(&id)
                || taken.contains(&id)
                || self.single.contains(&id)
                || directive.label().is_empty()
                || self.is_prose(id)
                || self.is_value(id)
            {
                continue;
            }
            let mut counts: BTreeMap<usize, i64> = BTreeMap::new();
            directive.tags.iter().for_each(|&at| *counts.entry(self.tags[at].file).or_default() += 1);
            let fits = counts.iter().filter(|(file, uses)| wanted.get(file).is_some_and(|w| **uses <= *w)).count();
            if fits as f64 >= 0.9 * counts.len() as f64 {
                candidates.push((id, counts));
            }
        }
        candidates.sort_by_key(|(id, _)| (self.argless(*id), std::cmp::Reverse(self.directives[*id].tags.len()), *id));
        candidates.truncate(16);
        let files: Vec<usize> = wanted.keys().copied().collect();
        let rows: Vec<Vec<i64>> = candidates
            .iter()
            .map(|(_, counts)| files.iter().map(|file| counts.get(file).copied().unwrap_or(0)).collect())
            .collect();
        let goal: Vec<i64> = files.iter().map(|file| wanted[file]).collect();
        let allowed = (files.len() as f64 * (1.0 - NESTED)).floor() as usize;
        let mut found: Vec<(f64, Vec<usize>)> = Vec::new();
        let mut sums = goal.clone();
        search(&rows, &mut sums, 0, &mut Vec::new(), &mut |chosen, bad| {
            if bad > allowed || chosen.is_empty() && total > 0 {
                return;
            }
            let openers: Vec<usize> = chosen.iter().map(|&at| candidates[at].0).collect();
            let mut all = openers.clone();
            all.extend(&sharing);
            let (nested, balanced) = self.quality(&all, set);
            if nested >= NESTED {
                let explained: usize = openers.iter().chain(set).map(|id| self.directives[*id].tags.len()).sum();
                let bare = openers.iter().filter(|id| self.argless(**id)).count();
                let score = explained as f64
                    * (0.1 + balanced)
                    * nested
                    * 0.9_f64.powi(bare as i32)
                    * 0.98_f64.powi(openers.len() as i32);
                found.push((score, openers));
            }
        });
        found.into_iter().max_by(|a, b| a.0.total_cmp(&b.0).then_with(|| b.1.len().cmp(&a.1.len())))
    }

    /// The share of files that nest rightly, and of pairs with balanced markup inside.
    fn quality(&self, openers: &[usize], closers: &[usize]) -> (f64, f64) {
        let (mut files, mut good_files, mut pairs, mut balanced) = (0, 0, 0_usize, 0_usize);
        let mut members: Vec<usize> =
            openers.iter().chain(closers).flat_map(|id| self.directives[*id].tags.iter().copied()).collect();
        members.sort_unstable();
        let mut at = 0;
        while at < members.len() {
            let file = self.tags[members[at]].file;
            let (mut open, mut good) = (Vec::new(), true);
            while at < members.len() && self.tags[members[at]].file == file {
                let tag = members[at];
                at += 1;
                if openers.contains(&self.of[tag]) {
                    open.push(tag);
                } else if let Some(opener) = open.pop() {
                    pairs += 1;
                    balanced += usize::from(is_balanced(between(
                        self.text(tag),
                        self.tags[opener].range.end,
                        self.tags[tag].range.start,
                    )));
                } else {
                    good = false;
                }
            }
            files += 1;
            good_files += usize::from(good && open.is_empty());
        }
        (good_files as f64 / files.max(1) as f64, balanced as f64 / pairs.max(1) as f64)
    }

    /// Gives each opening tag the tag that closes it.
    fn join(&self, pairs: &mut Pairs) {
        let mut open: Vec<(usize, Option<usize>)> = Vec::new();
        let mut file = usize::MAX;
        for at in 0..self.tags.len() {
            let (of, tag) = (self.of[at], &self.tags[at]);
            if tag.file != file {
                (file, open) = (tag.file, Vec::new());
            }
            while open.last().is_some_and(|(_, end)| end.is_some_and(|end| end < tag.range.start)) {
                open.pop();
            }
            let closes = |opener: usize| {
                pairs.closers.get(&self.of[opener]).into_iter().flatten().any(|closer| {
                    closer.directive == of
                        && self.tags[opener].range.end <= tag.range.start
                        && closer.word.as_deref().is_none_or(|word| self.first_argument(at) == Some(word))
                        && (closer.word.is_some()
                            || tag.tokens.is_empty()
                            || self.name(at) == self.name(opener)
                            || self.directives[of].taken > 0)
                })
            };
            let reached = open.iter().rev().take(8).position(|(opener, end)| end.is_none() && closes(*opener));
            if let Some(depth) = reached {
                open.truncate(open.len() - depth);
                if let Some((opener, _)) = open.pop() {
                    pairs.partner.insert(opener, at);
                }
                continue;
            }
            pairs.around.insert(at, open.iter().map(|(opener, _)| *opener).collect());
            if let Some(&end) = pairs.brace_ends.get(&at) {
                pairs.partner.insert(at, at);
                open.push((at, Some(end)));
            } else if pairs.is_opener(of) {
                open.push((at, None));
            }
        }
        // What was never closed encloses nothing.
        let partner = &pairs.partner;
        pairs.around.values_mut().for_each(|around| around.retain(|opener| partner.contains_key(opener)));
    }

    /// Tags that only ever stand directly inside pairs of some kind, with balanced markup on both sides.
    fn find_branches(&self, pairs: &mut Pairs) {
        for (id, directive) in self.directives.iter().enumerate() {
            if pairs.is_opener(id) || pairs.is_closer(id) || self.single.contains(&id) || directive.label().is_empty() {
                continue;
            }
            if !matches!(self.styles[directive.notation], Style::Bracket | Style::Sigil | Style::Line) {
                continue;
            }
            let mut openers: BTreeMap<usize, usize> = BTreeMap::new();
            let mut balanced = 0;
            for &at in &directive.tags {
                let Some(&opener) = pairs.around.get(&at).and_then(|around| around.last()) else { continue };
                *openers.entry(self.of[opener]).or_default() += 1;
                let text = self.text(at);
                let end = match pairs.brace_ends.get(&opener) {
                    Some(&end) => end,
                    None => self.tags[pairs.partner[&opener]].range.start,
                };
                let before = between(text, self.tags[opener].range.end, self.tags[at].range.start);
                let after = between(text, self.tags[at].range.end, end);
                balanced += usize::from(is_balanced(before) && is_balanced(after));
            }
            let inside: usize = openers.values().sum();
            let wordy = self.argless(id) || self.looks_conditional(id, &openers);
            let least = if self.argless(id) { 1 } else { 2 };
            if inside == directive.tags.len()
                && inside >= least
                && balanced * 10 >= inside * 7
                && openers.len() <= 3
                && wordy
            {
                for opener in openers.keys() {
                    if self.directives[*opener].notation == directive.notation {
                        pairs.branches.entry(*opener).or_default().push(id);
                    }
                }
            }
        }
    }

    /// Whether its word is made from that of the pair it stands in: `else if` of `if`.
    fn looks_conditional(&self, id: usize, openers: &BTreeMap<usize, usize>) -> bool {
        let label = self.directives[id].words.join("");
        openers.keys().any(|open| {
            let word = &self.directives[*open].words[0];
            word.len() >= 2 && label.len() > word.len() && label.ends_with(word.as_str())
        })
    }
}

/// Every choice of candidates whose counts come near the wanted ones.
fn search(
    rows: &[Vec<i64>],
    sums: &mut Vec<i64>,
    at: usize,
    chosen: &mut Vec<usize>,
    visit: &mut dyn FnMut(&[usize], usize),
) {
    let bad = sums.iter().filter(|&&sum| sum != 0).count();
    let over = sums.iter().filter(|&&sum| sum < 0).count();
    if over as f64 > sums.len() as f64 * (1.0 - NESTED) {
        return;
    }
    if at == rows.len() {
        visit(chosen, bad);
        return;
    }
    sums.iter_mut().zip(&rows[at]).for_each(|(sum, n)| *sum -= n);
    chosen.push(at);
    search(rows, sums, at + 1, chosen, visit);
    chosen.pop();
    sums.iter_mut().zip(&rows[at]).for_each(|(sum, n)| *sum += n);
    search(rows, sums, at + 1, chosen, visit);
}
