//! Which tags open and which close: the words say so, or the counts do.

use std::collections::{BTreeMap, BTreeSet};

use rustc_hash::{FxHashMap, FxHashSet};

use crate::read::corpus::Corpus;
use crate::read::corpus::TextId;
use crate::read::directives::DirectiveId;
use crate::read::directives::{Arguments, Directive, Tails, arguments_of, closes_first};
use crate::read::pieces::{between, element_end, is_balanced, is_prose, is_word};
use crate::read::tags::{Notation, Style, Tag, Token, TokenKind, token_text};
use crate::read::tags::{NotationId, TagId};
use crate::thresholds::{
    ARGLESS, BALANCED, FEWEST_LEFT_OPEN, FEWEST_OF_ONE, HALF, LONGEST_AFFIX, MOST, NEARLY_ALL, NESTED,
    PAIRS_PER_BRANCH, SOME,
};

/// How a closer is written.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) struct Closer {
    /// The directive that closes; of a balanced pair the opener itself.
    pub directive: DirectiveId,
    /// Its first argument repeats the opener's word.
    pub word: Option<String>,
}

/// The known pairs.
#[derive(Debug, Default)]
pub(crate) struct Pairs {
    /// For each opening directive its closers, the most frequent first.
    pub closers: BTreeMap<DirectiveId, Vec<Closer>>,
    /// For each opening directive what divides its pairs.
    pub branches: BTreeMap<DirectiveId, Vec<DirectiveId>>,
    /// For each tag that opens a pair the tag that closes it, or itself if a brace does.
    pub partner: FxHashMap<TagId, TagId>,
    /// The place of the brace that closes a tag's body.
    pub brace_ends: FxHashMap<TagId, usize>,
    /// For each tag the tags of the pairs around it, outermost first.
    pub around: FxHashMap<TagId, Vec<TagId>>,
    /// Words that open pairs at the end of tags.
    pub tails: Tails,
    /// How much the pairs explain that general closers end.
    pub score: f64,
}

impl Pairs {
    pub fn is_opener(&self, directive: DirectiveId) -> bool {
        self.closers.contains_key(&directive)
    }

    pub fn is_closer(&self, directive: DirectiveId) -> bool {
        let closes = |closer: &Closer| closer.directive == directive && closer.word.is_none();
        self.closers.iter().any(|(opener, closers)| *opener != directive && closers.iter().any(closes))
    }

    pub fn is_branch(&self, directive: DirectiveId) -> bool {
        self.branches.values().flatten().any(|branch| *branch == directive)
    }
}

/// An opener, what may close it, and the opener's word if the closer repeats it as its argument.
type Member = (DirectiveId, DirectiveId, Option<String>);

/// A notation, and what comes before and after the opener's word; or the closer's word before the
/// opener's as an argument.
type Affix = (NotationId, String, String);

/// Whether what comes after a mark is printed.
pub(crate) fn prints(mark: &str) -> bool {
    mark.contains('=')
}

pub(crate) struct Finder<'a> {
    pub corpus: &'a Corpus,
    pub tags: &'a [Tag],
    pub directives: &'a [Directive],
    /// The directive of each tag.
    pub of: &'a [DirectiveId],
    pub notations: &'a [Notation],
    /// Directives that open nothing: those that name the parent, and comments.
    pub single: &'a FxHashSet<DirectiveId>,
}

impl Finder<'_> {
    pub fn find(&self) -> Pairs {
        let mut pairs = Pairs::default();
        self.elements(&mut pairs);
        self.balanced(&mut pairs);
        self.by_affix(&mut pairs);
        self.by_name(&mut pairs);
        for notation in NotationId::all(self.notations.len()) {
            if matches!(self.notations[notation].style, Style::Bracket | Style::Sigil | Style::Line) {
                self.by_count(notation, &mut pairs);
            }
        }
        self.join(&mut pairs);
        if self.add_rare_closers(&mut pairs) {
            self.join(&mut pairs);
        }
        self.find_branches(&mut pairs);
        pairs
    }

    pub(crate) fn text(&self, tag: TagId) -> &str {
        &self.corpus.texts[self.tags[tag].file].text
    }

    /// The first argument of a tag.
    pub fn first_argument(&self, tag: TagId) -> Option<&str> {
        let taken = self.directives[self.of[tag]].taken;
        let token = self.tags[tag].tokens.iter().skip(taken).find(|t| !matches!(t.kind, TokenKind::Sign(_)))?;
        Some(token_text(self.text(tag), token))
    }

    /// The name that a tag gives to what it opens: its first argument, or the one after `=`.
    fn name(&self, tag: TagId) -> Option<&str> {
        let taken = self.directives[self.of[tag]].taken;
        let argument = arguments_of(self.text(tag), &self.tags[tag], taken).into_iter().next()?;
        let name = token_text(self.text(tag), &self.tags[tag].tokens[argument.token]);
        Some(name).filter(|name| !name.is_empty() && name.bytes().all(|b| is_word(b) || b"-.:/".contains(&b)))
    }

    pub(crate) fn argless(&self, directive: DirectiveId) -> bool {
        let directive = &self.directives[directive];
        // A remark may come after the word.
        let is_remark = |at: &TagId| self.tags[*at].tokens[directive.taken].kind == TokenKind::Sign(b'#');
        let is_bare = |at: &&TagId| self.tags[**at].tokens.len() <= directive.taken || is_remark(at);
        ARGLESS.reached(directive.tags.iter().filter(is_bare).count(), directive.tags.len())
            && directive.tags.iter().all(|&at| !self.tags[at].brace && !self.opens_body(at))
    }

    /// Whether a tag ends with a sign that opens a body.
    fn opens_body(&self, at: TagId) -> bool {
        matches!(&self.text(at)[self.tags[at].tail.clone()], "{" | ":")
    }

    /// Pairs of attributes: an attribute holds for the content of its element.
    fn elements(&self, pairs: &mut Pairs) {
        for (id, directive) in DirectiveId::each(self.directives) {
            if self.notations[directive.notation].style != Style::Attribute {
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
        for (id, directive) in DirectiveId::each(self.directives) {
            let braced = directive.tags.iter().filter(|&&at| self.tags[at].brace).count();
            if !NEARLY_ALL.reached(braced, directive.tags.len()) {
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
            if NEARLY_ALL.reached(ends.len(), directive.tags.len()) {
                pairs.closers.insert(id, vec![Closer { directive: id, word: None }]);
                pairs.brace_ends.extend(ends);
            }
        }
    }

    /// Closers whose word is made from the opener's by something that all closers share.
    fn by_affix(&self, pairs: &mut Pairs) {
        let mut ranked: Vec<_> = self.affixes(pairs).into_iter().collect();
        let opens = |members: &[Member]| members.iter().map(|m| m.0).collect::<BTreeSet<_>>().len();
        ranked.sort_by_key(|(key, members)| (std::cmp::Reverse(opens(members)), key.clone()));
        let mut used: FxHashSet<DirectiveId> = FxHashSet::default();
        for (_, mut members) in ranked {
            members
                .retain(|(open, close, _)| !pairs.is_opener(*open) && !used.contains(close) && !pairs.is_closer(*open));
            let others: Vec<Member> = members.iter().filter_map(|member| self.other_closer(member)).collect();
            members.retain(|member| {
                let has_other = others.iter().any(|other| other.0 == member.0);
                has_other || self.nests(std::slice::from_ref(member))
            });
            members.extend(others);
            // An affix that one word has, now and then, is chance.
            let words: BTreeSet<&str> = members.iter().map(|m| self.directives[m.0].words[0].as_str()).collect();
            let closes: usize = members.iter().map(|m| self.directives[m.1].tags.len()).sum();
            let files: BTreeSet<TextId> =
                members.iter().flat_map(|m| self.directives[m.1].tags.iter().map(|&at| self.tags[at].file)).collect();
            let is_chance = words.len() < 2 && closes < FEWEST_OF_ONE || files.len() < 2 && self.corpus.texts.len() > 2;
            if members.is_empty() || is_chance || !self.nests(&members) {
                continue;
            }
            for (open, close, word) in members {
                used.insert(open);
                pairs.closers.entry(open).or_default().push(Closer { directive: close, word });
            }
        }
    }

    /// A word without arguments that ends those of an opener's pairs which its closer does not: regions of layouts may
    /// end in a word of their own, where the content for them ends in another.
    fn other_closer(&self, member: &Member) -> Option<Member> {
        let (opener, closer) = (&self.directives[member.0], &self.directives[member.1]);
        let left = opener.tags.len().checked_sub(closer.tags.len()).filter(|left| *left >= FEWEST_LEFT_OPEN)?;
        if self.nests(std::slice::from_ref(member)) {
            return None;
        }
        let ends = |&id: &DirectiveId| {
            let directive = &self.directives[id];
            directive.notation == opener.notation
                && directive.tags.len().abs_diff(left) * 20 <= left
                && !directive.label().is_empty()
                && !prints(&directive.mark)
                && !self.single.contains(&id)
                && self.argless(id)
                && self.nests(&[member.clone(), (member.0, id, None)])
        };
        DirectiveId::all(self.directives.len()).find(ends).map(|id| (member.0, id, None))
    }

    /// The affixes that make closers of openers' words, with the directives for which they do.
    fn affixes(&self, pairs: &Pairs) -> BTreeMap<Affix, Vec<Member>> {
        let mut by_word: FxHashMap<(NotationId, String), Vec<DirectiveId>> = FxHashMap::default();
        for (open, directive) in DirectiveId::each(self.directives) {
            let single = self.single.contains(&open)
                || prints(&directive.mark)
                || directive.with_value
                    && (self.notations[directive.notation].style == Style::Sigil
                        || directive.arguments == Arguments::Valued);
            if !single && !directive.words[0].is_empty() && !pairs.is_opener(open) {
                let label = directive.words.join(" ");
                // What is called on an object is closed by its own word.
                if let Some((_, word)) = label.rsplit_once(['.', '>']) {
                    by_word.entry((directive.notation, word.to_owned())).or_default().push(open);
                }
                by_word.entry((directive.notation, label)).or_default().push(open);
            }
        }
        let mut groups: BTreeMap<Affix, Vec<Member>> = BTreeMap::new();
        for (close, b) in DirectiveId::each(self.directives) {
            let is_nothing = b.words[0].is_empty() && b.mark.is_empty();
            if is_nothing || prints(&b.mark) || !b.tail.is_empty() || self.single.contains(&close) {
                continue;
            }
            let label = b.words.join(" ");
            let mut add = |word: &str, before: &str, after: &str| {
                for &open in by_word.get(&(b.notation, word.to_owned())).into_iter().flatten() {
                    if open != close {
                        let key = (b.notation, before.to_owned(), after.to_owned());
                        groups.entry(key).or_default().push((open, close, None));
                    }
                }
            };
            for (at, _) in label.char_indices().skip(1) {
                if b.mark.len() + at <= LONGEST_AFFIX {
                    add(&label[at..], &format!("{}{}", b.mark, &label[..at]), "");
                }
                if label.len() - at <= LONGEST_AFFIX && b.mark.is_empty() {
                    add(&label[..at], "", &label[at..]);
                }
            }
            if !b.mark.is_empty() && !label.is_empty() {
                let unmarked: Vec<DirectiveId> = by_word.get(&(b.notation, label.clone())).cloned().unwrap_or_default();
                for open in unmarked.into_iter().filter(|&open| self.directives[open].mark != b.mark) {
                    groups.entry((b.notation, b.mark.clone(), String::new())).or_default().push((open, close, None));
                }
            }
            let reversed: String = label.chars().rev().collect();
            if reversed != label {
                let key = (b.notation, "(reversed)".to_owned(), String::new());
                for &open in by_word.get(&(b.notation, reversed)).into_iter().flatten() {
                    groups.entry(key.clone()).or_default().push((open, close, None));
                }
            }
            // `end word`: the closer's argument is the opener's word.
            if b.words.len() == 1 && self.mostly_repeats(close) {
                let mut repeated: BTreeMap<&str, usize> = BTreeMap::new();
                for &at in b.tags.iter().filter(|&&at| self.tags[at].tokens.len() == 1) {
                    self.first_argument(at).into_iter().for_each(|word| *repeated.entry(word).or_default() += 1);
                }
                for (word, repeats) in repeated {
                    for &open in by_word.get(&(b.notation, word.to_owned())).into_iter().flatten() {
                        let a = &self.directives[open];
                        if open != close && a.words.len() == 1 && HALF.reached(repeats, a.tags.len()) {
                            let key = (b.notation, format!("{}{} ", b.mark, b.words[0]), String::new());
                            groups.entry(key).or_default().push((open, close, Some(word.to_owned())));
                        }
                    }
                }
            }
        }
        groups
    }

    /// Whether most of a directive's tags hold nothing but the first word of other tags.
    fn mostly_repeats(&self, id: DirectiveId) -> bool {
        let directive = &self.directives[id];
        let words: FxHashSet<&str> =
            self.directives.iter().filter(|d| d.notation == directive.notation).map(|d| d.words[0].as_str()).collect();
        let repeats = |at: &&TagId| {
            self.tags[**at].tokens.len() == 1 && self.first_argument(**at).is_some_and(|word| words.contains(word))
        };
        let alone = |at: &&TagId| self.tags[**at].tokens.len() <= 1;
        SOME.reached(directive.tags.iter().filter(repeats).count(), directive.tags.len())
            && directive.tags.iter().all(|at| alone(&at))
    }

    /// Whether openers and closers of these directives nest in nearly all files.
    fn nests(&self, members: &[Member]) -> bool {
        let opens: BTreeMap<DirectiveId, ()> = members.iter().map(|m| (m.0, ())).collect();
        let mut files: BTreeMap<TextId, (Vec<DirectiveId>, bool, usize)> = BTreeMap::new();
        let mut all: Vec<TagId> = members
            .iter()
            .flat_map(|m| self.directives[m.0].tags.iter().chain(&self.directives[m.1].tags))
            .copied()
            .collect();
        all.sort_unstable();
        all.dedup();
        for at in all {
            let of = self.of[at];
            let state = files.entry(self.tags[at].file).or_insert((Vec::new(), true, 0));
            let closes = |open: DirectiveId| {
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
        for (close, b) in DirectiveId::each(self.directives) {
            let is_other = pairs.is_opener(close) || self.single.contains(&close) || pairs.is_closer(close);
            if is_other || prints(&b.mark) || self.is_value(close) {
                continue;
            }
            // By opener, and by whether its word or its name is repeated.
            let mut openers: BTreeMap<(DirectiveId, bool), usize> = BTreeMap::new();
            let mut named = 0;
            for &at in &b.tags {
                let alone = arguments_of(self.text(at), &self.tags[at], b.taken).len() == 1
                    && self.tags[at].tokens.len() <= b.taken + 3;
                let Some(name) = self.name(at).filter(|_| alone) else { continue };
                named += 1;
                let file = self.tags[at].file;
                let before = TagId(0).to(at).rev().take_while(|&other| self.tags[other].file == file);
                let repeats = |other: &TagId| {
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
            if !NEARLY_ALL.reached(total, named) || named < 2 {
                continue;
            }
            let uses = |open: DirectiveId| self.directives[open].tags.len();
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
    fn nests_loosely(&self, open: DirectiveId, close: DirectiveId) -> bool {
        let mut counts: FxHashMap<TextId, (usize, usize)> = FxHashMap::default();
        self.directives[open].tags.iter().for_each(|&at| counts.entry(self.tags[at].file).or_default().0 += 1);
        self.directives[close].tags.iter().for_each(|&at| counts.entry(self.tags[at].file).or_default().1 += 1);
        let good = counts.values().filter(|(opens, closes)| opens <= closes).count();
        good as f64 >= NESTED * counts.len() as f64
    }

    /// Whether its tags mostly hold words for people.
    pub(crate) fn is_prose(&self, id: DirectiveId) -> bool {
        let directive = &self.directives[id];
        let prose = |at: &&TagId| is_prose(&self.text(**at)[self.tags[**at].inner.clone()]);
        !directive.mark.is_empty() && MOST.reached(directive.tags.iter().filter(prose).count(), directive.tags.len())
    }

    /// Whether its word is the start of an expression: a field or a filter follows.
    pub(crate) fn is_value(&self, id: DirectiveId) -> bool {
        let directive = &self.directives[id];
        let continued = |at: &&TagId| {
            let tag = &self.tags[**at];
            let first = tag.tokens.get(directive.taken);
            let dot = |t: &Token| t.range.start == tag.word.end && self.text(**at)[t.range.clone()].starts_with('.');
            first.is_some_and(|t| t.kind == TokenKind::Sign(b'|') || dot(t))
        };
        HALF.reached(directive.tags.iter().filter(continued).count(), directive.tags.len())
    }

    /// Gives each opening tag the tag that closes it.
    fn join(&self, pairs: &mut Pairs) {
        let mut open: Vec<(TagId, Option<usize>)> = Vec::new();
        let mut file = None;
        pairs.partner.clear();
        pairs.around.clear();
        for at in TagId::all(self.tags.len()) {
            let (of, tag) = (self.of[at], &self.tags[at]);
            if file != Some(tag.file) {
                (file, open) = (Some(tag.file), Vec::new());
            }
            while open.last().is_some_and(|(_, end)| end.is_some_and(|end| end < tag.range.start)) {
                open.pop();
            }
            let closes = |opener: TagId| {
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

    /// Tags that only ever are directly inside pairs of some kind, with balanced markup on both sides.
    fn find_branches(&self, pairs: &mut Pairs) {
        for (id, directive) in DirectiveId::each(self.directives) {
            let is_other = pairs.is_opener(id) || pairs.is_closer(id) || self.single.contains(&id);
            if is_other || directive.label().is_empty() || prints(&directive.mark) {
                continue;
            }
            if !matches!(self.notations[directive.notation].style, Style::Bracket | Style::Sigil | Style::Line) {
                continue;
            }
            let mut openers: BTreeMap<DirectiveId, usize> = BTreeMap::new();
            let (mut balanced, mut at_edge) = (0, 0);
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
                at_edge += usize::from(before.trim().is_empty() || after.trim().is_empty());
            }
            let inside: usize = openers.values().sum();
            let wordy = self.argless(id) || self.reopens(id) || self.looks_conditional(id, &openers);
            let opened: usize = openers.keys().map(|open| self.directives[*open].tags.len()).sum();
            let least = (opened / PAIRS_PER_BRANCH).max(if self.argless(id) { 1 } else { 2 });
            if inside == directive.tags.len()
                && inside >= least
                && BALANCED.reached(balanced, inside)
                // What is mostly first or last in a pair stands for something there.
                && !MOST.reached(at_edge, inside)
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

    /// Whether its tags close one body and open the next: `} else {`.
    fn reopens(&self, id: DirectiveId) -> bool {
        let directive = &self.directives[id];
        let opens = |&at: &TagId| self.text(at)[self.tags[at].tail.clone()].starts_with('{');
        closes_first(&directive.mark) && directive.tags.iter().all(opens)
    }

    /// Whether its word is made from that of the pair it is in: `else if` of `if`.
    fn looks_conditional(&self, id: DirectiveId, openers: &BTreeMap<DirectiveId, usize>) -> bool {
        let label = self.directives[id].words.join("");
        openers.keys().any(|open| {
            let word = &self.directives[*open].words[0];
            word.len() >= 2 && label.len() > word.len() && label.ends_with(word.as_str())
        })
    }
}

#[cfg(test)]
mod tests {
    use crate::dialect::Kind;
    use crate::testing::{LAYOUT, check, learned, page};

    #[test]
    fn closers_are_made_of_the_words_that_they_close() {
        let unberth = |text: &str| text.replace("cast", "unberth");
        let main = "<h1>@</h1>\n~(= when @ =)<p>@</p>(= other =)<p>none</p>(= unwhen =)\n(= each b in @ =)<i>x</i>(= uneach =)";
        let learned = learned(&unberth(LAYOUT), &unberth(&page(main)), &[]);
        check(&learned, Kind::Block, &["{ open = \"(= berth <name> =)\", close = \"(= unberth =)\" }"]);
        // What is only ever directly inside one of them divides it.
        let each = "{ open = \"(= each <expr> =)\", close = \"(= uneach =)\" }";
        let when = "{ open = \"(= when <expr> =)\", branch = \"(= other =)\", close = \"(= unwhen =)\" }";
        check(&learned, Kind::Control, &[each, when]);
    }

    #[test]
    fn closers_repeat_the_name_of_what_they_close() {
        let named = |name: &str| format!("(= berth {name} =)<p>@</p>(= cast {name} =)\n");
        let layout = format!("<html><main>{}</main><aside>{}</aside></html>", named("main"), named("side"));
        let page = format!("(= moor \"base.html\" =)\n{}{}", named("main"), named("side"));
        let learned = learned(&layout, &page, &[]);
        check(&learned, Kind::Block, &["{ open = \"(= berth <name> =)\", close = \"(= cast <name> =)\" }"]);
    }

    #[test]
    fn regions_of_layouts_may_end_in_a_word_of_their_own() {
        let shown = |text: &str| text.replace("(= cast =)", "(= shown =)");
        let main = "<h1>@</h1>\n(= berth inner =)<p>@</p>(= shown =)";
        let learned = learned(&shown(LAYOUT), &page(main), &[]);
        check(&learned, Kind::Block, &["{ open = \"(= berth <name> =)\", close = [\"(= cast =)\", \"(= shown =)\"] }"]);
    }
}
