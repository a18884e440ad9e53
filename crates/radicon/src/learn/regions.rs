//! Blocks, slots and what fills them: names that recur between a file and what is above it.

use std::collections::{BTreeMap, BTreeSet};

use rustc_hash::{FxHashMap, FxHashSet};

use super::heads::Slot;
use super::meaning::{Meaning, Meanings, RECUR, Reasoner, Recurrence, Trust, plural};
use super::pairs::prints;
use super::pieces::between;
use super::tags::{Style, TokenKind, is_word, token_text};
use crate::dialect::Kind;

/// Where only code names layouts, names must recur in so many files, and so large a share of them.
const FEWEST_BY_CODE: usize = 3;
const RECUR_BY_CODE: f64 = 0.6;

/// A tag that may stand for the content that an override replaces.
struct Replaced {
    id: usize,
    /// How often it stands in an override.
    inside: usize,
    /// How often it stands elsewhere.
    strays: usize,
    /// How often there is content above.
    above: usize,
    /// How often it is the first or the last thing there.
    edge: usize,
    /// In how many regions.
    names: usize,
    /// In how many files.
    files: usize,
}

impl Reasoner<'_> {
    /// Names that recur between a file and what is above it.
    pub(super) fn regions(&self, found: &mut Meanings) {
        let mut links = self.links(found);
        let by_code = links.values().all(Vec::is_empty);
        if by_code {
            self.link_by_code(&mut links);
        }
        let targets: FxHashSet<usize> = self
            .references
            .iter()
            .filter(|r| r.share() >= 0.5 && (r.strong || found.of.contains_key(&r.directive)))
            .map(|r| r.directive)
            .collect();
        let mut given: BTreeMap<(usize, Slot), BTreeMap<usize, BTreeSet<&str>>> = BTreeMap::new();
        let mut uses: BTreeMap<(usize, Slot), usize> = BTreeMap::new();
        for at in 0..self.tags.len() {
            let of = self.of[at];
            if targets.contains(&of)
                || self.pairs.is_closer(of)
                || self.tags[at].quiet && !self.notations[self.tags[at].notation].strong
            {
                continue;
            }
            let plain = |name: &str, slot: &Slot| slot.quoted || !name.contains('.');
            for (slot, name) in self.names_of(at).into_iter().take(2).filter(|(slot, name)| plain(name, slot)) {
                given.entry((of, slot.clone())).or_default().entry(self.tags[at].file).or_default().insert(name);
                *uses.entry((of, slot)).or_default() += 1;
            }
        }
        // Every tag of it that says more than its word has a name there.
        let named = |slot: &(usize, Slot)| uses[slot] * 10 >= self.with_arguments(slot.0) * 9;
        given.retain(|slot, _| named(slot));
        let slots: Vec<&(usize, Slot)> = given.keys().collect();
        let mut named_in: FxHashMap<(usize, &str), Vec<usize>> = FxHashMap::default();
        for (slot, by_file) in given.values().enumerate() {
            for (&file, name) in by_file.iter().flat_map(|(file, names)| names.iter().map(move |name| (file, name))) {
                named_in.entry((file, name)).or_default().push(slot);
            }
        }
        let mut scored: Vec<Recurrence> = Vec::new();
        for (child, by_file) in &given {
            let below: Vec<_> = by_file.iter().filter(|(file, _)| !links[file].is_empty()).collect();
            let total: usize = below.iter().map(|(_, names)| names.len()).sum();
            // For each slot how many names recur there, and in how many files.
            let mut hits = vec![(0, 0); slots.len()];
            for (file, names) in below {
                let mut here = vec![0; slots.len()];
                for name in names {
                    let above = links[file].iter().filter_map(|&up| named_in.get(&(up, *name)));
                    let there: BTreeSet<usize> = above.flatten().copied().collect();
                    there.into_iter().for_each(|slot| here[slot] += 1);
                }
                for ((matches, files), here) in hits.iter_mut().zip(here) {
                    (*matches, *files) = (*matches + here, *files + usize::from(here > 0));
                }
            }
            for (parent, (matches, files)) in slots.iter().copied().zip(hits) {
                if self.style(child.0) != self.style(parent.0)
                    && self.directives[child.0].notation != self.directives[parent.0].notation
                {
                    continue;
                }
                let cover = matches as f64 / total.max(1) as f64;
                let chance = by_code && (files < FEWEST_BY_CODE || cover < RECUR_BY_CODE || child == parent);
                if matches > 0 && cover >= RECUR && !chance {
                    scored.push((matches as f64 * cover, files, child.clone(), parent.clone()));
                }
            }
        }
        scored.sort_by(|a, b| b.0.total_cmp(&a.0).then_with(|| (&a.2, &a.3).cmp(&(&b.2, &b.3))));
        self.choose_regions(&scored, found, &links);
    }

    /// For each file what is above it: its layouts, and the files that it wraps its content in.
    fn links(&self, found: &Meanings) -> BTreeMap<usize, Vec<usize>> {
        // What wraps gives its content to the file that it names.
        let mut links: BTreeMap<usize, Vec<usize>> = BTreeMap::new();
        for file in 0..self.corpus.texts.len() {
            links.insert(file, Self::ancestors(&found.parents, file));
        }
        for reference in self.references.iter().filter(|r| self.is_wrap(r, found)) {
            for (tag, file) in &reference.edges {
                if let Some(target) = self.file_of(*file) {
                    let mut all = vec![target];
                    all.extend(links.get(&target).cloned().unwrap_or_default());
                    links.entry(self.tags[*tag].file).or_default().extend(all);
                }
            }
        }
        // A wrapped file may wrap in turn.
        for _ in 0..4 {
            let snapshot = links.clone();
            for list in links.values_mut() {
                let more: Vec<usize> = list.iter().flat_map(|file| snapshot[file].clone()).collect();
                list.extend(more);
                list.sort_unstable();
                list.dedup();
            }
        }
        links
    }

    /// How many tags of a directive have arguments.
    fn with_arguments(&self, id: usize) -> usize {
        let directive = &self.directives[id];
        directive.tags.iter().filter(|&&at| self.tags[at].tokens.len() > directive.taken).count()
    }

    /// Where no file names its layout, code may: whole pages stand above all that are none.
    fn link_by_code(&self, links: &mut BTreeMap<usize, Vec<usize>>) {
        let is_whole = |file: &usize| self.corpus.texts[*file].has_skeleton();
        let layouts: Vec<usize> = (0..self.corpus.texts.len()).filter(is_whole).collect();
        for (_, above) in links.iter_mut().filter(|(file, _)| !is_whole(file)) {
            above.clone_from(&layouts);
        }
    }

    pub(super) fn choose_regions(
        &self,
        scored: &[Recurrence],
        found: &mut Meanings,
        links: &BTreeMap<usize, Vec<usize>>,
    ) {
        // The strongest pair decides which words are regions; weaker ones may add spellings.
        let is_region = |id: usize| self.pairs.is_opener(id) || self.directives[id].with_value;
        let best = scored.iter().find(|(_, _, child, _)| is_region(child.0)).map_or(0.0, |s| s.0);
        let base = |id: usize| self.directives[id].tags.iter().any(|&at| links[&self.tags[at].file].is_empty());
        for (score, files, child, parent) in scored {
            // Conditions on plain words that several files test look alike.
            let divided = self.pairs.branches.contains_key(&child.0) && *score < 0.5 * best && !child.1.quoted;
            let weak = *score < 0.08 * best || *score < 1.0 && *files < 2 && best > *score || divided;
            if !is_region(child.0)
                || weak
                || found.of.contains_key(&child.0) && found.of[&child.0].kind != Kind::Fill && child.0 != parent.0
            {
                continue;
            }
            if self.is_assignment(child.0)
                || self.is_assignment(parent.0)
                || self.loops(child.0)
                || self.loops(parent.0)
            {
                continue;
            }
            let trust = if *files >= 2 && *score >= 2.0 { Trust::Sure } else { Trust::Likely };
            let matches = format!("its names recur between {} and what is above", plural(*files, "file"));
            let meaning =
                |kind: Kind, slot: &Slot| Meaning { kind, slot: Some(slot.clone()), trust, why: matches.clone() };
            if child.0 == parent.0 {
                if self.pairs.is_opener(child.0) {
                    found.of.entry(child.0).or_insert(meaning(Kind::Block, &child.1));
                }
            } else {
                let already = found.of.get(&child.0).is_some_and(|m| m.kind == Kind::Block);
                let other =
                    found.of.get(&parent.0).is_some_and(|m| m.kind == Kind::Fill) || self.is_conditional(parent.0);
                if already && base(child.0) && is_region(parent.0) || other {
                    continue;
                }
                found.of.entry(child.0).or_insert(meaning(Kind::Fill, &child.1));
                if found.of.get(&child.0).is_some_and(|m| matches!(m.kind, Kind::Fill | Kind::Block)) {
                    found.of.entry(parent.0).or_insert(meaning(Kind::Slot, &parent.1));
                }
            }
        }
        self.split_by_closer(found, links);
        self.empty_regions(found, links);
        self.kin(found, best);
    }

    /// One opener with several closers may mean different things with each: what stands in a
    /// base defines a block, what never does gives content to one.
    pub(super) fn split_by_closer(&self, found: &mut Meanings, links: &BTreeMap<usize, Vec<usize>>) {
        let split: Vec<usize> = found
            .of
            .iter()
            .filter(|(id, m)| {
                matches!(m.kind, Kind::Block | Kind::Fill) && self.pairs.closers.get(id).is_some_and(|c| c.len() > 1)
            })
            .map(|(id, _)| *id)
            .collect();
        let has_slots = found.of.values().any(|m| m.kind == Kind::Slot);
        for id in split.into_iter().filter(|_| has_slots) {
            for closer in &self.pairs.closers[&id] {
                let ends =
                    |at: &&usize| self.pairs.partner.get(at).is_some_and(|end| self.of[*end] == closer.directive);
                let in_base =
                    self.directives[id].tags.iter().filter(ends).any(|at| links[&self.tags[*at].file].is_empty());
                found.closed_as.insert((id, closer.directive), if in_base { Kind::Block } else { Kind::Fill });
            }
        }
    }

    /// Single tags of layouts whose names are given from below, where other regions are blocks.
    fn empty_regions(&self, found: &mut Meanings, links: &BTreeMap<usize, Vec<usize>>) {
        let mut given: BTreeMap<&str, BTreeSet<usize>> = BTreeMap::new();
        let notations: BTreeSet<usize> =
            found.of.iter().filter(|(_, m)| m.kind.defines()).map(|(id, _)| self.directives[*id].notation).collect();
        for at in 0..self.tags.len() {
            if found.of.get(&self.of[at]).is_some_and(|m| m.kind.defines())
                && let Some(name) = self.region_name(at, found)
            {
                given.entry(name).or_default().insert(self.tags[at].file);
            }
        }
        for (id, directive) in self.directives.iter().enumerate() {
            let pair = self.pairs.is_opener(id) && self.style(id) != Style::Attribute;
            let known = found.of.contains_key(&id) || pair || self.pairs.is_closer(id);
            if known || !notations.contains(&directive.notation) || self.is_assignment(id) || self.loops(id) {
                continue;
            }
            let mut files: BTreeSet<usize> = BTreeSet::new();
            let filled = directive.tags.iter().filter(|&&at| {
                let Some((_, name)) = self.names_of(at).into_iter().next() else { return false };
                let own = self.tags[at].file;
                let below = given.get(name).into_iter().flatten().filter(|file| links[file].contains(&own));
                let above = links[&own].iter().any(|up| given.get(name).is_some_and(|there| there.contains(up)));
                let before = files.len();
                files.extend(below.copied());
                files.len() > before && !above && !given[name].contains(&own)
            });
            if filled.count() * 10 >= directive.tags.len() * 6 && files.len() >= 2 {
                let slot = self.names_of(directive.tags[0]).into_iter().next().map(|(slot, _)| slot);
                let why = format!("{} give content for its names", plural(files.len(), "file"));
                found.of.insert(id, Meaning { kind: Kind::Slot, slot, trust: Trust::Likely, why });
            }
        }
    }

    /// Other spellings: of a region's word with a value, or with a word before it.
    pub(super) fn kin(&self, found: &mut Meanings, best: f64) {
        let known: Vec<(usize, Meaning)> = found.of.iter().map(|(id, m)| (*id, m.clone())).collect();
        for (id, directive) in self.directives.iter().enumerate() {
            if found.of.contains_key(&id) || best == 0.0 {
                continue;
            }
            let same = known.iter().find(|(other, m)| {
                let known = &self.directives[*other];
                known.notation == directive.notation
                    && known.words == directive.words
                    && known.mark == directive.mark
                    && matches!(m.kind, Kind::Slot | Kind::Fill | Kind::Block)
            });
            let longer = known.iter().find(|(other, m)| {
                let known = &self.directives[*other];
                m.kind == Kind::Slot
                    && known.notation == directive.notation
                    && known.words.last() == directive.words.last()
                    && known.words.len() != directive.words.len()
            });
            if let Some((_, m)) = same.filter(|_| directive.with_value).or(longer) {
                let kind = if m.kind == Kind::Block { Kind::Fill } else { m.kind };
                let why = "another spelling of a region".to_owned();
                found.of.insert(id, Meaning { kind, trust: Trust::Likely, why, ..m.clone() });
            }
        }
    }

    /// `word name = value`: a name is bound.
    pub(super) fn is_assignment(&self, id: usize) -> bool {
        let directive = &self.directives[id];
        if !matches!(self.style(id), Style::Bracket | Style::Line | Style::Sigil)
            || directive.words[0].is_empty()
            || prints(&directive.mark)
        {
            return false;
        }
        let binds = |at: &&usize| match &self.tags[**at].tokens[directive.taken..] {
            [name, sign, next @ ..] if self.text(**at)[name.range.clone()].bytes().all(is_word) => match sign.kind {
                // What is compared or passed on is not bound.
                TokenKind::Sign(b'=') => !next.first().is_some_and(|t| matches!(t.kind, TokenKind::Sign(b'=' | b'>'))),
                TokenKind::Sign(b':') => sign.range.start == name.range.end,
                _ => false,
            },
            _ => false,
        };
        let names: BTreeSet<&str> = directive
            .tags
            .iter()
            .filter_map(|&at| Some(token_text(self.text(at), self.tags[at].tokens.get(directive.taken)?)))
            .collect();
        // A key that other tags begin with is no name either.
        let key =
            |word: &&str| self.directives.iter().any(|d| d.notation == directive.notation && d.words[0] == **word);
        if names.len() == 1 && names.iter().any(key) {
            return false;
        }
        let all = directive.tags.iter().filter(binds).count();
        // A word that always stands there is no name.
        let spaced = |at: &&usize| {
            self.tags[**at].tokens.get(directive.taken).is_some_and(|t| self.text(**at)[t.range.end..].starts_with(' '))
        };
        let loosely = directive.tags.iter().filter(spaced).count() == directive.tags.len();
        all * 10 >= directive.tags.len() * 9 && (names.len() > 1 || directive.tags.len() == 1 || loosely)
    }

    /// Whether its arguments are more than a name: those of a loop or condition.
    pub(super) fn loops(&self, id: usize) -> bool {
        let directive = &self.directives[id];
        let plain = |at: &&usize| {
            let tag = &self.tags[**at];
            let end = if directive.tail.is_empty() { tag.inner.end } else { tag.tail.start };
            let own = tag.tokens.iter().skip(directive.taken).take_while(|token| token.range.start < end);
            let kinds: Vec<TokenKind> = own.take(5).map(|token| token.kind).collect();
            let is_value = |kind: TokenKind| matches!(kind, TokenKind::Quoted | TokenKind::Word);
            let rest = match kinds[..] {
                [TokenKind::Sign(b'=' | b':'), value, ref rest @ ..] if is_value(value) => rest,
                [TokenKind::Word, TokenKind::Sign(b'=' | b':'), value, ref rest @ ..] if is_value(value) => rest,
                [value, ref rest @ ..] if is_value(value) => rest,
                [] => return true,
                _ => return false,
            };
            matches!(
                rest,
                [] | [TokenKind::Sign(b','), ..]
                    | [TokenKind::Word, TokenKind::Sign(b'=' | b':'), ..]
                    | [TokenKind::Quoted, ..]
            )
        };
        directive.tags.iter().filter(plain).count() * 20 < directive.tags.len() * 19
    }

    /// Whether it divides pairs that are no regions.
    pub(super) fn divides(&self, id: usize, found: &Meanings) -> bool {
        let region =
            |open: &usize| found.of.get(open).is_some_and(|m| matches!(m.kind, Kind::Block | Kind::Fill | Kind::Slot));
        self.pairs.branches.iter().any(|(open, list)| !region(open) && list.contains(&id))
    }

    pub(super) fn is_conditional(&self, id: usize) -> bool {
        self.pairs.branches.contains_key(&id)
    }

    /// Where a directive stands, if hardly ever outside of overrides.
    fn replaced(&self, id: usize, found: &Meanings) -> Option<Replaced> {
        let directive = &self.directives[id];
        let is_other = found.of.contains_key(&id) || self.pairs.is_closer(id) || self.divides(id, found);
        let is_region =
            |tag: &usize| found.of.get(&self.of[*tag]).is_some_and(|m| matches!(m.kind, Kind::Block | Kind::Fill));
        if is_other
            || directive.label().is_empty()
            || self.pairs.is_opener(id) && self.style(id) != Style::Attribute
            || directive.tags.iter().any(|&at| self.tags[at].tokens.len() > directive.taken)
        {
            return None;
        }
        let (mut inside, mut known, mut above, mut edge) = (0, 0, 0, 0);
        let (mut names, mut files) = (BTreeSet::new(), BTreeSet::new());
        for &at in &directive.tags {
            let around = self.pairs.around.get(&at).map_or(&[][..], Vec::as_slice);
            let Some(&opener) = around.iter().rev().find(|tag| is_region(tag)) else { continue };
            let file = self.tags[at].file;
            let Some(name) = self.region_name(opener, found) else { continue };
            inside += 1;
            names.insert(name);
            files.insert(file);
            // Where the layout is missing nothing is known of what stands above.
            known += usize::from(found.parents.contains_key(&file));
            above += usize::from(self.has_content_above(file, name, found));
            let text = self.text(at);
            let end = match self.pairs.brace_ends.get(&opener) {
                Some(&end) => end,
                None => self.tags[self.pairs.partner[&opener]].range.start,
            };
            let own = self.extent(at);
            let before = between(text, self.extent(opener).0.max(self.tags[opener].range.end), own.0).trim();
            let before = before.strip_prefix('>').unwrap_or(before);
            let after = between(text, own.1, end).trim();
            edge += usize::from(before.is_empty() || after.is_empty());
        }
        let strays = directive.tags.len() - inside;
        // A few may stand in a region that is not understood.
        let clear = inside >= 3 && above == inside && edge == inside && strays * 3 <= inside;
        let (names, files) = (names.len(), files.len());
        ((strays * 10 <= directive.tags.len() || clear) && known > 0).then_some(Replaced {
            id,
            inside: known,
            strays,
            above,
            edge,
            names,
            files,
        })
    }

    /// What stands only inside overrides of something that has content above.
    pub(super) fn inherited(&self, found: &mut Meanings) {
        let mut candidates: Vec<Replaced> =
            (0..self.directives.len()).filter_map(|id| self.replaced(id, found)).collect();
        // Plain values are printed in many places by chance; a word of its own rarely is.
        candidates.sort_by_key(|c| std::cmp::Reverse((c.above, c.names, c.inside)));
        let mut first = true;
        for Replaced { id, inside, strays, above, edge, names, files } in candidates {
            let outputs = matches!(self.style(id), Style::Bracket | Style::Sigil)
                && self.prints_values(self.directives[id].notation, found, id);
            let called = self.directives[id].tags.iter().any(|&at| self.tags[at].call);
            let all_above = above * 10 >= inside * 7;
            let enough = inside >= 5 && names >= 3 && edge * 3 >= inside && all_above;
            let some = all_above && (inside >= 2 && names >= 2 || inside >= 3) && (edge * 2 >= inside)
                // Twice is enough where nothing speaks against it.
                || inside >= 2 && files >= 2 && above == inside && edge == inside;
            let trust = match (enough, some) {
                (true, _) if (!outputs || called) && strays * 10 <= inside => Trust::Sure,
                (true, _) if inside >= 8 || names >= 4 => Trust::Likely,
                (_, true) if !outputs || called => Trust::Likely,
                // A value is rarely always the first or last thing where something is replaced.
                _ if inside >= 3 && above == inside && edge >= inside => Trust::Likely,
                _ if all_above && !outputs && above == inside && self.frames(self.directives[id].notation, found) => {
                    Trust::Asked
                }
                _ => continue,
            };
            let why = format!(
                "only inside overrides ({inside} of {}), {above} of them with content above",
                self.directives[id].tags.len()
            );
            if !first && !self.frames(self.directives[id].notation, found) {
                continue;
            }
            let trust = if first { trust } else { trust.min(Trust::Asked) };
            first = first && trust < Trust::Likely;
            found.of.insert(id, Meaning { kind: Kind::Inherited, slot: None, trust, why });
        }
    }

    /// Whether a notation frames: it holds parents, regions or their like.
    fn frames(&self, notation: usize, found: &Meanings) -> bool {
        let frames = |m: &Meaning| m.kind == Kind::Parent || m.kind.defines() || m.kind == Kind::Slot;
        found.of.iter().any(|(id, m)| self.directives[*id].notation == notation && frames(m))
    }

    /// Whether a notation holds many different words that mean nothing else: it prints values.
    pub(super) fn prints_values(&self, notation: usize, found: &Meanings, except: usize) -> bool {
        let others = self.directives.iter().enumerate().filter(|(id, d)| {
            d.notation == notation
                && *id != except
                && !found.of.contains_key(id)
                && !self.pairs.is_opener(*id)
                && !self.pairs.is_closer(*id)
                && !self.pairs.is_branch(*id)
        });
        let bare = others.filter(|(_, d)| {
            d.tags.iter().any(|&at| {
                let first = self.tags[at].tokens.get(d.taken).map(|t| t.kind);
                matches!(first, None | Some(TokenKind::Sign(b'.' | b'|')))
            })
        });
        bare.count() >= 3
    }

    pub fn region_name(&self, opener: usize, found: &Meanings) -> Option<&str> {
        let slot = found.of.get(&self.of[opener])?.slot.as_ref()?;
        self.names_of(opener).into_iter().find(|(known, _)| known.lead == slot.lead).map(|(_, name)| name)
    }

    /// Whether a region of this name has content somewhere above a file.
    pub(super) fn has_content_above(&self, file: usize, name: &str, found: &Meanings) -> bool {
        let above = Self::ancestors(&found.parents, file);
        above.iter().flat_map(|&file| self.tags_of(file)).any(|at| {
            let kind = found.of.get(&self.of[at]).map(|m| m.kind);
            if !matches!(kind, Some(Kind::Block | Kind::Fill | Kind::Slot)) || self.region_name(at, found) != Some(name)
            {
                return false;
            }
            let end = match (self.pairs.brace_ends.get(&at), self.pairs.partner.get(&at)) {
                (Some(&end), _) => end,
                (None, Some(&end)) => self.tags[end].range.start,
                (None, None) => return self.directives[self.of[at]].with_value,
            };
            !between(self.text(at), self.tags[at].range.end, end).trim().is_empty()
        })
    }
}
