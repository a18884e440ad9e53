//! Which tags name the parent, where the body goes, and layouts that no file names.

use std::collections::{BTreeMap, BTreeSet};

use rustc_hash::FxHashSet;

use super::heads::{Slot, arguments_of};
use super::meaning::{Meaning, Meanings, RECUR, Reasoner, Trust, on_top, plural};
use super::pieces::between;
use super::tags::{Style, token_text};
use super::targets::Reference;
use crate::dialect::Kind;
use crate::site::{beneath, folder};

/// A layout that no file names holds for at least one in so many files without a skeleton.
const COVERED_PAGES: usize = 2;

/// Words of the trade for the place where a page's content goes.
const BODY_WORDS: [&str; 4] = ["body", "content", "yield", "outlet"];

impl Reasoner<'_> {
    /// For each file the names that its tags give, of directives that are asked for; those of targets left out.
    pub(super) fn names(&self, gives: impl Fn(usize) -> bool) -> Vec<BTreeSet<(usize, &str)>> {
        let targets: FxHashSet<usize> =
            self.references.iter().filter(|r| r.strong || r.share() == 1.0).map(|r| r.directive).collect();
        let mut names = vec![BTreeSet::new(); self.corpus.texts.len()];
        for at in 0..self.tags.len() {
            let of = self.of[at];
            if targets.contains(&of)
                || !gives(of)
                || self.pairs.is_closer(of)
                || self.tags[at].quiet && !self.notations[self.tags[at].notation].strong
            {
                continue;
            }
            if let Some((_, name)) = self.names_of(at).into_iter().next() {
                names[self.tags[at].file].insert((self.tags[at].notation, name));
            }
        }
        names
    }

    /// The ancestors of a file by some edges; a round ends it.
    pub(super) fn ancestors(parents: &BTreeMap<usize, usize>, file: usize) -> Vec<usize> {
        let mut chain = vec![file];
        while let Some(&next) = parents.get(&chain[chain.len() - 1]).filter(|next| !chain.contains(next)) {
            chain.push(next);
        }
        chain.remove(0);
        chain
    }

    /// The mean share of a file's names that recur up the chain, and in how many files.
    pub(super) fn recurrence(
        &self,
        parents: &BTreeMap<usize, usize>,
        names: &[BTreeSet<(usize, &str)>],
        above: &[BTreeSet<(usize, &str)>],
        notation: usize,
    ) -> (f64, usize) {
        let (mut sum, mut files) = (0.0, 0);
        for &file in parents.keys() {
            let near = |n: usize| n == notation || self.notations[n].strong == self.notations[notation].strong;
            let own: Vec<_> = names[file].iter().filter(|(n, _)| near(*n)).collect();
            if own.is_empty() {
                continue;
            }
            let layouts: Vec<usize> = Self::ancestors(parents, file);
            let recur = own
                .iter()
                .filter(|(_, name)| layouts.iter().any(|&layout| above[layout].iter().any(|(_, other)| other == name)))
                .count();
            (sum, files) = (sum + recur as f64 / own.len() as f64, files + 1);
        }
        (sum / f64::max(files as f64, 1.0), files)
    }

    pub(super) fn parents(&self, found: &mut Meanings) {
        let names = self.names(|_| true);
        let tops = on_top(self.corpus, self.notations, self.tags, self.directives, self.references);
        for reference in self.references {
            let id = reference.directive;
            let directive = &self.directives[id];
            if !tops.contains(&id) {
                continue;
            }
            let mut edges: BTreeMap<usize, usize> = BTreeMap::new();
            for (tag, file) in &reference.edges {
                if let Some(target) = self.file_of(*file).filter(|&target| target != self.tags[*tag].file) {
                    edges.entry(self.tags[*tag].file).or_insert(target);
                }
            }
            if edges.is_empty() {
                continue;
            }
            let (share, files) = self.recurrence(&edges, &names, &names, directive.notation);
            // What has a body of its own is a wrap, found later.
            let wraps = self.pairs.is_opener(id) && self.style(id) != Style::Attribute;
            let frames = self.body_of(&edges, found);
            let recurs = share >= RECUR && files > 0;
            if wraps || !recurs && frames.is_none() {
                continue;
            }
            let trust = if recurs && (files >= 2 || share >= 0.5) && edges.len() >= 2 || recurs && frames.is_some() {
                Trust::Sure
            } else {
                Trust::Likely
            };
            let why = format!(
                "{} of {} names are files; {:.0} % of the names in {} recur up the chain",
                reference.edges.len(),
                reference.literals,
                share * 100.0,
                plural(files, "file")
            );
            found.of.insert(id, Meaning { kind: Kind::Parent, slot: Some(reference.slot.clone()), trust, why });
            found.parents.extend(edges);
            self.opted_out(id, &reference.slot, found);
        }
        self.markers(found);
    }

    /// A constant word in the place of the target.
    pub(super) fn opted_out(&self, id: usize, slot: &Slot, found: &mut Meanings) {
        let mut words: BTreeMap<&str, usize> = BTreeMap::new();
        for &at in &self.directives[id].tags {
            for argument in arguments_of(self.text(at), &self.tags[at], self.directives[id].taken) {
                if argument.slot.lead == slot.lead && !argument.slot.quoted && slot.quoted {
                    *words.entry(token_text(self.text(at), &self.tags[at].tokens[argument.token])).or_default() += 1;
                }
            }
        }
        if let [(word, _)] = words.into_iter().collect::<Vec<_>>()[..]
            && ["none", "null", "nil", "false", "no", "nothing", "off", "0"]
                .contains(&word.to_ascii_lowercase().as_str())
        {
            found.opted_out.insert(id, word.to_owned());
        }
    }

    /// Files that hold nothing but the parent line, for all files beside and beneath them.
    pub(super) fn markers(&self, found: &mut Meanings) {
        let alone: Vec<usize> = found
            .parents
            .keys()
            .copied()
            .filter(|&file| {
                let tags: Vec<usize> = self.tags_of(file).collect();
                let strong: Vec<&usize> = tags.iter().filter(|&&at| found.of.contains_key(&self.of[at])).collect();
                let [&at] = strong[..] else { return false };
                let text = self.text(at);
                let range = &self.tags[at].range;
                text[..range.start].trim().is_empty() && text[range.end..].trim().is_empty()
            })
            .filter(|file| !found.parents.values().any(|parent| parent == file))
            .collect();
        let mut names: BTreeMap<&str, usize> = BTreeMap::new();
        for &file in &alone {
            let path = &self.corpus.texts[file].path;
            let folder = folder(path);
            // What lies beneath it names no parent itself, and has no skeleton.
            let beneath: Vec<usize> = (0..self.corpus.texts.len())
                .filter(|&other| other != file && beneath(&self.corpus.texts[other].path, folder).is_some())
                .filter(|&other| !found.parents.values().any(|parent| *parent == other))
                .collect();
            let without = beneath
                .iter()
                .filter(|&&other| !found.parents.contains_key(&other) && !self.corpus.texts[other].has_skeleton());
            if without.count() >= 1 {
                *names.entry(path.rsplit('/').next().unwrap_or(path)).or_default() += 1;
            }
        }
        if let Some((name, _)) = names.into_iter().max_by_key(|(_, n)| *n) {
            found.marker = Some(name.to_owned());
            let marked: Vec<usize> =
                alone.into_iter().filter(|&f| self.corpus.texts[f].path.rsplit('/').next() == Some(name)).collect();
            let layouts: BTreeSet<usize> = found.parents.values().copied().collect();
            for file in marked {
                let layout = found.parents[&file];
                let folder = folder(&self.corpus.texts[file].path).to_owned();
                for other in 0..self.corpus.texts.len() {
                    if other != file
                        && !layouts.contains(&other)
                        && beneath(&self.corpus.texts[other].path, &folder).is_some()
                    {
                        found.parents.entry(other).or_insert(layout);
                    }
                }
            }
        }
    }

    /// The mark without arguments that stands in nearly all of these layouts and nowhere else,
    /// where the layouts have the skeleton and the children none.
    pub(super) fn body_of(&self, parents: &BTreeMap<usize, usize>, found: &Meanings) -> Option<usize> {
        let layouts: BTreeSet<usize> = parents.values().copied().collect();
        let tops: Vec<usize> = layouts.iter().copied().filter(|layout| !parents.contains_key(layout)).collect();
        let framed = tops.iter().filter(|&&top| self.corpus.texts[top].has_skeleton()).count();
        let bare = parents.keys().filter(|&&child| !self.corpus.texts[child].has_skeleton()).count();
        if framed * 2 < tops.len() || bare * 10 < parents.len() * 9 {
            return None;
        }
        self.body_among(&layouts, found)
    }

    /// A mark without arguments that stands in nearly all of some files and nowhere else.
    pub(super) fn body_among(&self, layouts: &BTreeSet<usize>, found: &Meanings) -> Option<usize> {
        let mut best = None;
        let mut candidates = Vec::new();
        for (id, directive) in self.directives.iter().enumerate() {
            let bare = directive.tags.iter().all(|&at| self.tags[at].tokens.len() <= directive.taken);
            if !bare
                || directive.label().is_empty()
                || self.pairs.is_opener(id) && self.style(id) != Style::Attribute
                || self.pairs.is_closer(id)
                || self.divides(id, found)
            {
                continue;
            }
            let mut files: BTreeMap<usize, usize> = BTreeMap::new();
            directive.tags.iter().for_each(|&at| *files.entry(self.tags[at].file).or_default() += 1);
            let outside = files.keys().filter(|file| !layouts.contains(file)).count();
            let once = files.values().filter(|&&n| n == 1).count();
            if outside == 0 && once * 10 >= files.len() * 9 && files.len() * 10 >= layouts.len() * 9 {
                let rank = (files.len(), std::cmp::Reverse(id));
                candidates.push(id);
                if best.is_none_or(|(known, _)| rank > known) {
                    best = Some((rank, id));
                }
            }
        }
        // In a single layout a value that is printed once looks the same.
        // One that says so is none.
        let says_so = |id: usize| {
            let words = self.directives[id].words.join(" ").to_ascii_lowercase();
            BODY_WORDS.contains(&words.as_str())
        };
        let told: Vec<usize> = candidates.iter().copied().filter(|&id| says_so(id)).collect();
        if let ([only], 1) = (&told[..], layouts.len()) {
            return Some(*only);
        }
        let framing =
            |id: usize| found.of.keys().any(|known| self.directives[*known].notation == self.directives[id].notation);
        best.filter(|(_, id)| layouts.len() >= 2 || candidates.len() == 1 && (found.of.is_empty() || framing(*id)))
            .map(|(_, id)| id)
    }

    /// No file names a parent, but the files beneath a folder override what one of a fixed name defines.
    pub(super) fn fixed_layouts(&self, found: &mut Meanings) {
        // What gives content to a layout opens pairs.
        let names = self.names(|id| self.pairs.is_opener(id) || self.directives[id].with_value);
        let all = self.names(|_| true);
        let pages = self.corpus.texts.iter().filter(|text| !text.has_skeleton()).count();
        let mut files: BTreeMap<&str, Vec<usize>> = BTreeMap::new();
        for (id, text) in self.corpus.texts.iter().enumerate() {
            files.entry(text.path.rsplit('/').next().unwrap_or(&text.path)).or_default().push(id);
        }
        let mut best: Option<(f64, &str, BTreeMap<usize, usize>)> = None;
        for (name, layouts) in files {
            let near = |file: usize| {
                let path = &self.corpus.texts[file].path;
                let above = layouts
                    .iter()
                    .copied()
                    .filter(|&l| l != file && beneath(path, folder(&self.corpus.texts[l].path)).is_some());
                let own = folder(path);
                let is_layout = layouts.contains(&file);
                above
                    .filter(|&l| !is_layout || folder(&self.corpus.texts[l].path) != own)
                    .max_by_key(|&l| self.corpus.texts[l].path.len())
            };
            let edges: BTreeMap<usize, usize> =
                (0..self.corpus.texts.len()).filter_map(|file| Some((file, near(file)?))).collect();
            let framed = layouts.iter().any(|&l| self.corpus.texts[l].has_skeleton());
            let bare: BTreeMap<usize, usize> =
                edges.into_iter().filter(|(child, _)| !self.corpus.texts[*child].has_skeleton()).collect();
            if !framed || bare.len() < 2 || bare.len() * COVERED_PAGES < pages {
                continue;
            }
            for notation in 0..self.notations.len() {
                let (share, files) = self.recurrence(&bare, &names, &all, notation);
                if share >= RECUR && files >= 2 && best.as_ref().is_none_or(|(known, _, _)| share > *known) {
                    best = Some((share, name, bare.clone()));
                }
            }
        }
        if let Some((_, name, edges)) = best {
            let folder =
                edges.values().map(|&l| folder(&self.corpus.texts[l].path)).min_by_key(|f| f.len()).unwrap_or("");
            found.layout_file = Some((name.to_owned(), folder.to_owned()));
            found.parents = edges;
        }
    }

    /// The folders beneath one that hold parts alone: some of their files are included, and none gives content.
    pub(super) fn folders_of_parts(&self, found: &Meanings, path: &str) -> BTreeSet<&str> {
        let is = |at: usize, kinds: &[Kind]| found.of.get(&self.of[at]).is_some_and(|m| kinds.contains(&m.kind));
        let included =
            self.references.iter().filter(|r| found.of.get(&r.directive).is_some_and(|m| m.kind == Kind::Include));
        let included: BTreeSet<&str> =
            included.flat_map(|r| &r.edges).map(|(_, file)| folder(self.index.paths[*file])).collect();
        let gives = |file: &usize| self.tags_of(*file).any(|at| is(at, &[Kind::Fill, Kind::Block]));
        let giving: BTreeSet<&str> = (0..self.corpus.texts.len())
            .filter(|file| gives(file) || self.corpus.texts[*file].has_skeleton())
            .map(|file| folder(&self.corpus.texts[file].path))
            .collect();
        let is_part = |own: &&str| !giving.contains(own) && *own != path && beneath(own, path).is_some();
        included.into_iter().filter(is_part).collect()
    }

    pub(super) fn bodies(&self, found: &mut Meanings) {
        let mut layouts: BTreeSet<usize> = found.parents.values().copied().collect();
        let wraps: Vec<&Reference> = self
            .references
            .iter()
            .filter(|r| found.of.get(&r.directive).is_some_and(|m| m.kind == Kind::Wrap))
            .collect();
        layouts.extend(wraps.iter().flat_map(|r| r.edges.iter().filter_map(|(_, file)| self.file_of(*file))));
        // A layout whose child's loose content has a place is only known if children have loose content.
        let loose = found.parents.keys().filter(|&&child| self.has_loose(child, found)).count();
        let expected = wraps.is_empty() && loose * 3 < found.parents.len().max(1);
        if layouts.is_empty() || expected {
            return;
        }
        if let Some(id) = self.body_among(&layouts, found).filter(|id| !found.of.contains_key(id)) {
            let trust = if layouts.len() >= 2 { Trust::Sure } else { Trust::Likely };
            let why = format!("stands in {} and nowhere else", plural(layouts.len(), "layout"));
            found.of.insert(id, Meaning { kind: Kind::Body, slot: None, trust, why });
            found.bodies = true;
        }
    }

    /// Whether a child has markup outside of all its regions.
    pub(super) fn has_loose(&self, file: usize, found: &Meanings) -> bool {
        let text = &self.corpus.texts[file].text;
        let mut at = 0;
        let mut loose = String::new();
        for tag in self.tags_of(file) {
            let range = &self.tags[tag].range;
            let weak = !found.of.contains_key(&self.of[tag]) && !self.notations[self.tags[tag].notation].strong;
            if range.start < at || weak {
                continue;
            }
            loose += between(text, at, range.start);
            let region = found.of.get(&self.of[tag]).is_some_and(|m| m.kind.defines());
            at = match (self.pairs.partner.get(&tag), self.pairs.brace_ends.get(&tag)) {
                (_, Some(&end)) if region => end + 1,
                (Some(&end), _) if region => self.tags[end].range.end,
                _ => range.end,
            };
        }
        loose += text.get(at..).unwrap_or("");
        loose.contains('<') && loose.trim().len() > 20
    }
}
