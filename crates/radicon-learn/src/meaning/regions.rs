//! Blocks, slots and what fills them: names that recur between a file and what is above it.

use std::collections::{BTreeMap, BTreeSet};

use rustc_hash::{FxHashMap, FxHashSet};

use crate::Confidence;
use crate::dialect::Kind;
use crate::meaning::{Facts, Meaning, Meanings, plural};
use crate::read::corpus::TextId;
use crate::read::directives::DirectiveId;
use crate::read::directives::Slot;
use crate::read::tags::Style;
use crate::read::tags::{NotationId, TagId};
use crate::thresholds::{
    FEWEST_BY_CODE, HALF, MOST, NEARLY_ALL, RECUR, RECUR_BY_CODE, SOME, WEAK_DIVIDED, WEAK_REGION,
};

/// The place of a name in a directive's tags.
type NamePlace = (DirectiveId, Slot);

/// For each place the names that each file gives there.
type Given<'t> = BTreeMap<NamePlace, BTreeMap<TextId, BTreeSet<&'t str>>>;

/// How well the names of one place recur in another one above.
struct Recurrence {
    /// How many names recur, by the share of all that do.
    score: f64,
    /// In how many files.
    files: usize,
    child: NamePlace,
    layout: NamePlace,
}

/// The meanings with those of regions and what fills them, and what closers make of one opener.
pub(super) struct Regions {
    pub of: BTreeMap<DirectiveId, Meaning>,
    pub closed_as: BTreeMap<(DirectiveId, DirectiveId), Kind>,
}

impl Facts<'_> {
    /// Names that recur between a file and what is above it.
    pub(super) fn regions(&self, found: &Meanings) -> Regions {
        let mut links = self.links(found);
        // A few files may wrap their content where code names the layout of all.
        let linked = links.values().filter(|above| !above.is_empty()).count();
        let by_code = found.parents.is_empty() && !SOME.reached(linked, links.len());
        if by_code {
            self.link_by_code(&mut links);
        }
        let given = self.given_names(found);
        self.choose_regions(&self.recurrences(&given, &links, by_code), found, &links)
    }

    /// The names that tags give, where they name no files.
    fn given_names(&self, found: &Meanings) -> Given<'_> {
        let targets: FxHashSet<DirectiveId> = self
            .references
            .iter()
            .filter(|r| r.share() >= 0.5 && (r.strong || found.of.contains_key(&r.directive)))
            .map(|r| r.directive)
            .collect();
        let mut given = Given::new();
        let mut uses: BTreeMap<NamePlace, usize> = BTreeMap::new();
        for at in TagId::all(self.tags.len()) {
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
        given.retain(|place, _| NEARLY_ALL.reached(uses[place], self.with_arguments(place.0)));
        given
    }

    /// Places whose names recur above, the best first.
    fn recurrences(&self, given: &Given<'_>, links: &BTreeMap<TextId, Vec<TextId>>, by_code: bool) -> Vec<Recurrence> {
        let places: Vec<&NamePlace> = given.keys().collect();
        let mut named_in: FxHashMap<(TextId, &str), Vec<usize>> = FxHashMap::default();
        for (place, by_file) in given.values().enumerate() {
            for (&file, name) in by_file.iter().flat_map(|(file, names)| names.iter().map(move |name| (file, name))) {
                named_in.entry((file, name)).or_default().push(place);
            }
        }
        let mut scored: Vec<Recurrence> = Vec::new();
        for (child, by_file) in given {
            let below: Vec<_> = by_file.iter().filter(|(file, _)| !links[file].is_empty()).collect();
            let total: usize = below.iter().map(|(_, names)| names.len()).sum();
            // For each place how many names recur there, and in how many files.
            let mut hits = vec![(0, 0); places.len()];
            for (file, names) in below {
                let mut here = vec![0; places.len()];
                for name in names {
                    let above = links[file].iter().filter_map(|&up| named_in.get(&(up, *name)));
                    let there: BTreeSet<usize> = above.flatten().copied().collect();
                    there.into_iter().for_each(|place| here[place] += 1);
                }
                for ((matches, files), here) in hits.iter_mut().zip(here) {
                    (*matches, *files) = (*matches + here, *files + usize::from(here > 0));
                }
            }
            for (layout, (matches, files)) in places.iter().copied().zip(hits) {
                if self.style(child.0) != self.style(layout.0)
                    && self.directives[child.0].notation != self.directives[layout.0].notation
                {
                    continue;
                }
                let cover = matches as f64 / total.max(1) as f64;
                let chance = by_code && (files < FEWEST_BY_CODE || cover < RECUR_BY_CODE || child == layout);
                if matches > 0 && cover >= RECUR && !chance {
                    let score = matches as f64 * cover;
                    scored.push(Recurrence { score, files, child: child.clone(), layout: layout.clone() });
                }
            }
        }
        scored.sort_by(|a, b| {
            b.score.total_cmp(&a.score).then_with(|| (&a.child, &a.layout).cmp(&(&b.child, &b.layout)))
        });
        scored
    }

    /// For each file what is above it: its layouts, and the files that it wraps its content in.
    fn links(&self, found: &Meanings) -> BTreeMap<TextId, Vec<TextId>> {
        // What wraps gives its content to the file that it names.
        let mut links: BTreeMap<TextId, Vec<TextId>> = BTreeMap::new();
        for file in TextId::all(self.corpus.texts.len()) {
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
                let more: Vec<TextId> = list.iter().flat_map(|file| snapshot[file].clone()).collect();
                list.extend(more);
                list.sort_unstable();
                list.dedup();
            }
        }
        links
    }

    /// How many tags of a directive have arguments.
    fn with_arguments(&self, id: DirectiveId) -> usize {
        let directive = &self.directives[id];
        directive.tags.iter().filter(|&&at| self.tags[at].tokens.len() > directive.taken).count()
    }

    /// Where no file names its layout, code or a folder may: whole pages are above all that are none, and so is what
    /// gives names, in quotes, as whole pages do: layouts between.
    fn link_by_code(&self, links: &mut BTreeMap<TextId, Vec<TextId>>) {
        let is_whole = |file: &TextId| self.corpus.texts[*file].has_skeleton();
        let mut layouts: Vec<TextId> = TextId::all(self.corpus.texts.len()).filter(is_whole).collect();
        let gives =
            |at: &TagId| self.names_of(*at).first().is_some_and(|(slot, _)| slot.quoted && slot.lead.is_empty());
        let words: FxHashSet<DirectiveId> = layouts
            .iter()
            .flat_map(|&file| self.tags_of(file).filter(gives))
            .map(|at| self.of[at])
            .filter(|&id| self.pairs.is_opener(id))
            .collect();
        let says = |file: &TextId| self.tags_of(*file).any(|at| words.contains(&self.of[at]) && gives(&at));
        let (between, pages): (Vec<TextId>, Vec<TextId>) =
            TextId::all(self.corpus.texts.len()).filter(|file| !is_whole(file)).partition(says);
        // Where most files say so it is what pages say.
        if !HALF.reached(between.len(), between.len() + pages.len()) {
            layouts.extend(between);
        }
        for (file, above) in links.iter_mut().filter(|(file, _)| !is_whole(file)) {
            above.extend(layouts.iter().filter(|layout| *layout != file));
        }
    }

    /// Which of the places that recur are regions, and how else these are written.
    fn choose_regions(
        &self,
        scored: &[Recurrence],
        known: &Meanings,
        links: &BTreeMap<TextId, Vec<TextId>>,
    ) -> Regions {
        let mut found = Meanings { of: known.of.clone(), ..Meanings::default() };
        // The strongest pair decides which words are regions; weaker ones may add spellings.
        let is_region = |id: DirectiveId| self.pairs.is_opener(id) || self.directives[id].with_value;
        let best = scored.iter().find(|one| is_region(one.child.0)).map_or(0.0, |one| one.score);
        let base = |id: DirectiveId| self.directives[id].tags.iter().any(|&at| links[&self.tags[at].file].is_empty());
        for Recurrence { score, files, child, layout: parent } in scored {
            // Conditions on plain words that several files test look alike.
            let divided = self.pairs.branches.contains_key(&child.0) && *score < WEAK_DIVIDED * best && !child.1.quoted;
            let weak = *score < WEAK_REGION * best || *score < 1.0 && *files < 2 && best > *score || divided;
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
            let confidence = if *files >= 2 && *score >= 2.0 { Confidence::Sure } else { Confidence::Likely };
            let matches = format!("its names recur between {} and what is above", plural(*files, "file"));
            let meaning =
                |kind: Kind, slot: &Slot| Meaning { kind, slot: Some(slot.clone()), confidence, why: matches.clone() };
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
        let closed_as = self.split_by_closer(&found, links);
        found.of.extend(self.empty_regions(&found, links));
        found.of.extend(self.kin(&found, best));
        Regions { of: found.of, closed_as }
    }

    /// One opener with several closers may mean different things with each: what is in a
    /// base defines a block, what never does gives content to one.
    fn split_by_closer(
        &self,
        found: &Meanings,
        links: &BTreeMap<TextId, Vec<TextId>>,
    ) -> BTreeMap<(DirectiveId, DirectiveId), Kind> {
        let mut closed_as = BTreeMap::new();
        let split: Vec<DirectiveId> = found
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
                    |at: &&TagId| self.pairs.partner.get(at).is_some_and(|end| self.of[*end] == closer.directive);
                let in_base =
                    self.directives[id].tags.iter().filter(ends).any(|at| links[&self.tags[*at].file].is_empty());
                closed_as.insert((id, closer.directive), if in_base { Kind::Block } else { Kind::Fill });
            }
        }
        closed_as
    }

    /// Single tags of layouts whose names are given from below, where other regions are blocks.
    fn empty_regions(&self, found: &Meanings, links: &BTreeMap<TextId, Vec<TextId>>) -> Vec<(DirectiveId, Meaning)> {
        let mut empty: Vec<(DirectiveId, Meaning)> = Vec::new();
        let mut given: BTreeMap<&str, BTreeSet<TextId>> = BTreeMap::new();
        let notations: BTreeSet<NotationId> =
            found.of.iter().filter(|(_, m)| m.kind.defines()).map(|(id, _)| self.directives[*id].notation).collect();
        for at in TagId::all(self.tags.len()) {
            if found.of.get(&self.of[at]).is_some_and(|m| m.kind.defines())
                && let Some(name) = self.region_name(at, found)
            {
                given.entry(name).or_default().insert(self.tags[at].file);
            }
        }
        for (id, directive) in DirectiveId::each(self.directives) {
            let pair = self.pairs.is_opener(id) && self.style(id) != Style::Attribute;
            let known = found.of.contains_key(&id) || pair || self.pairs.is_closer(id);
            if known || !notations.contains(&directive.notation) || self.is_assignment(id) || self.loops(id) {
                continue;
            }
            let mut files: BTreeSet<TextId> = BTreeSet::new();
            let filled = directive.tags.iter().filter(|&&at| {
                let Some((_, name)) = self.names_of(at).into_iter().next() else { return false };
                let own = self.tags[at].file;
                let below = given.get(name).into_iter().flatten().filter(|file| links[file].contains(&own));
                let above = links[&own].iter().any(|up| given.get(name).is_some_and(|there| there.contains(up)));
                let before = files.len();
                files.extend(below.copied());
                files.len() > before && !above && !given[name].contains(&own)
            });
            if MOST.reached(filled.count(), directive.tags.len()) && files.len() >= 2 {
                let slot = self.names_of(directive.tags[0]).into_iter().next().map(|(slot, _)| slot);
                let why = format!("{} give content for its names", plural(files.len(), "file"));
                empty.push((id, Meaning { kind: Kind::Slot, slot, confidence: Confidence::Likely, why }));
            }
        }
        empty
    }

    /// Other spellings: of a region's word with a value, or with a word before it.
    fn kin(&self, found: &Meanings, best: f64) -> Vec<(DirectiveId, Meaning)> {
        let mut kin: Vec<(DirectiveId, Meaning)> = Vec::new();
        for (id, directive) in DirectiveId::each(self.directives) {
            if found.of.contains_key(&id) || best == 0.0 {
                continue;
            }
            let same = found.of.iter().find(|(other, m)| {
                let known = &self.directives[**other];
                known.notation == directive.notation
                    && known.words == directive.words
                    && known.mark == directive.mark
                    && matches!(m.kind, Kind::Slot | Kind::Fill | Kind::Block)
            });
            let longer = found.of.iter().find(|(other, m)| {
                let known = &self.directives[**other];
                m.kind == Kind::Slot
                    && known.notation == directive.notation
                    && known.words.last() == directive.words.last()
                    && known.words.len() != directive.words.len()
            });
            if let Some((_, m)) = same.filter(|_| directive.with_value).or(longer) {
                let kind = if m.kind == Kind::Block { Kind::Fill } else { m.kind };
                let why = "another spelling of a region".to_owned();
                kin.push((id, Meaning { kind, confidence: Confidence::Likely, why, ..m.clone() }));
            }
        }
        kin
    }

    pub(super) fn is_conditional(&self, id: DirectiveId) -> bool {
        self.pairs.branches.contains_key(&id)
    }

    pub fn region_name(&self, opener: TagId, found: &Meanings) -> Option<&str> {
        let slot = found.of.get(&self.of[opener])?.slot.as_ref()?;
        self.names_of(opener).into_iter().find(|(known, _)| known.lead == slot.lead).map(|(_, name)| name)
    }
}

#[cfg(test)]
mod tests {
    use crate::dialect::Kind;
    use crate::testing::{check, learned};

    #[test]
    fn regions_and_what_fills_them_may_have_words_of_their_own() {
        let layout =
            "<html>(= bring \"parts/nav.html\" =)<main>(= hole main =)</main><aside>(= hole side =)</aside></html>";
        let learned = learned(layout, "(= moor \"base.html\" =)\n(= fill main =)<h1>@</h1>(= cast =)\n", &[]);
        check(&learned, Kind::Slot, &["\"(= hole <name> =)\""]);
        check(&learned, Kind::Fill, &["{ open = \"(= fill <name> =)\", close = \"(= cast =)\" }"]);
        check(&learned, Kind::Block, &[]);
    }

    #[test]
    fn layouts_between_are_above_where_a_folder_gives_them() {
        let layout = "<html>(= bring \"parts/nav.html\" =)<main>(= berth \"main\" =)none(= cast =)</main></html>";
        let between = "(= stow \"main\" =)<div>(= berth \"inner\" =)none(= cast =)</div><aside>(= berth \"side\" =)none(= cast =)</aside>(= cast =)\n";
        let page = "(= stow \"inner\" =)<p>@</p>(= cast =)\n(= stow \"side\" =)<i>@</i>(= cast =)\n";
        let learned = learned(layout, page, &[("between.html", between)]);
        check(&learned, Kind::Fill, &["{ open = '(= stow \"<name>\" =)', close = \"(= cast =)\" }"]);
    }
}
