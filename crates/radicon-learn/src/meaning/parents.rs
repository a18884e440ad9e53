//! Which tags name the parent, where the body goes, and layouts that no file names.

use std::collections::{BTreeMap, BTreeSet};

use rustc_hash::FxHashSet;

use crate::Confidence;
use crate::dialect::Kind;
use crate::meaning::{Facts, Meaning, Meanings, on_top, plural};
use crate::read::corpus::TextId;
use crate::read::directives::DirectiveId;
use crate::read::directives::{Slot, arguments_of};
use crate::read::tags::{NotationId, TagId};
use crate::read::tags::{Style, token_text};
use crate::site::{beneath, folder};
use crate::thresholds::{FEWEST_BY_CODE, HALF, RECUR};

/// Words that say that a file has no layout.
const NO_LAYOUT: [&str; 8] = ["none", "null", "nil", "false", "no", "nothing", "off", "0"];

impl Facts<'_> {
    /// For each file the names that its tags give, of directives that are asked for; those of targets left out.
    pub(super) fn names(&self, gives: impl Fn(DirectiveId) -> bool) -> Vec<BTreeSet<(NotationId, &str)>> {
        let targets: FxHashSet<DirectiveId> =
            self.references.iter().filter(|r| r.strong || r.share() == 1.0).map(|r| r.directive).collect();
        let mut names = vec![BTreeSet::new(); self.corpus.texts.len()];
        for at in TagId::all(self.tags.len()) {
            let of = self.of[at];
            if targets.contains(&of)
                || !gives(of)
                || self.pairs.is_closer(of)
                || self.tags[at].quiet && !self.notations[self.tags[at].notation].strong
            {
                continue;
            }
            if let Some((_, name)) = self.names_of(at).into_iter().next() {
                names[self.tags[at].file.index()].insert((self.tags[at].notation, name));
            }
        }
        names
    }

    /// The ancestors of a file by some edges; a round ends it.
    pub(super) fn ancestors(parents: &BTreeMap<TextId, TextId>, file: TextId) -> Vec<TextId> {
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
        parents: &BTreeMap<TextId, TextId>,
        names: &[BTreeSet<(NotationId, &str)>],
        above: &[BTreeSet<(NotationId, &str)>],
        notation: NotationId,
    ) -> (f64, usize) {
        let (mut sum, mut files) = (0.0, 0);
        for &file in parents.keys() {
            let near = |n: NotationId| n == notation || self.notations[n].strong == self.notations[notation].strong;
            let own: Vec<_> = names[file.index()].iter().filter(|(n, _)| near(*n)).collect();
            if own.is_empty() {
                continue;
            }
            let layouts: Vec<TextId> = Self::ancestors(parents, file);
            let recur = own
                .iter()
                .filter(|(_, name)| {
                    layouts.iter().any(|&layout| above[layout.index()].iter().any(|(_, other)| other == name))
                })
                .count();
            (sum, files) = (sum + recur as f64 / own.len() as f64, files + 1);
        }
        (sum / f64::max(files as f64, 1.0), files)
    }

    /// The share of the names of one word's tags that recur up the chain, of the word for which it is the greatest, and
    /// in how many files: other words of a file may give names of other things.
    fn recurrence_of_one(
        &self,
        parents: &BTreeMap<TextId, TextId>,
        above: &[BTreeSet<(NotationId, &str)>],
    ) -> (f64, usize) {
        /// What the names of a word's tags are.
        #[derive(Default)]
        struct Given<'a> {
            all: usize,
            hits: usize,
            names: BTreeSet<&'a str>,
            files: BTreeSet<TextId>,
        }
        let mut given: BTreeMap<DirectiveId, Given<'_>> = BTreeMap::new();
        for &file in parents.keys() {
            let layouts = Self::ancestors(parents, file);
            for at in self.tags_of(file).filter(|&at| !self.pairs.is_closer(self.of[at])) {
                let Some((_, name)) = self.names_of(at).into_iter().next() else { continue };
                let is_above = |layout: &TextId| above[layout.index()].iter().any(|(_, other)| *other == name);
                let own = given.entry(self.of[at]).or_default();
                own.all += 1;
                if layouts.iter().any(is_above) {
                    own.hits += 1;
                    own.names.insert(name);
                    own.files.insert(file);
                }
            }
        }
        let enough = given
            .into_values()
            .filter(|own| own.names.len() >= 2 && own.files.len() >= FEWEST_BY_CODE && HALF.reached(own.hits, own.all));
        let best = enough.max_by_key(|own| own.hits);
        best.map_or((0.0, 0), |own| (own.hits as f64 / own.all as f64, own.files.len()))
    }

    /// Words that name the layout, and the layout of each file.
    pub(super) fn parents(&self) -> Meanings {
        let mut found = Meanings::default();
        let names = self.names(|_| true);
        let tops = on_top(self.corpus, self.notations, self.tags, self.directives, self.references);
        let twice = self.references.iter().map(|one| (one, false)).chain(self.references.iter().map(|one| (one, true)));
        for (reference, by_word) in twice {
            let id = reference.directive;
            let directive = &self.directives[id];
            // Where some word names layouts, others do not because one word's names recur.
            if !tops.contains(&id) || by_word && !found.parents.is_empty() {
                continue;
            }
            let mut edges: BTreeMap<TextId, TextId> = BTreeMap::new();
            for (tag, file) in &reference.edges {
                if let Some(target) = self.file_of(*file).filter(|&target| target != self.tags[*tag].file) {
                    edges.entry(self.tags[*tag].file).or_insert(target);
                }
            }
            if edges.is_empty() {
                continue;
            }
            let (share, files) = match by_word {
                false => self.recurrence(&edges, &names, &names, directive.notation),
                true => self.recurrence_of_one(&edges, &names),
            };
            // What has a body of its own is a wrap, found later.
            let wraps = self.pairs.is_opener(id) && self.style(id) != Style::Attribute;
            let frames = self.body_of(&edges, &found);
            let recurs = share >= RECUR && files > 0;
            if wraps || !recurs && frames.is_none() {
                continue;
            }
            let confidence = if recurs && (files >= 2 || share >= 0.5) && edges.len() >= 2 || recurs && frames.is_some()
            {
                Confidence::Sure
            } else {
                Confidence::Likely
            };
            let why = format!(
                "{} of {} names are files; {:.0} % of the names in {} recur up the chain",
                reference.edges.len(),
                reference.literals,
                share * 100.0,
                plural(files, "file")
            );
            found.of.insert(id, Meaning { kind: Kind::Parent, slot: Some(reference.slot.clone()), confidence, why });
            found.parents.extend(edges);
            found.opted_out.extend(self.opted_out(id, &reference.slot).map(|word| (id, word)));
        }
        if let Some((marker, marked)) = self.markers(&found) {
            found.marker = Some(marker);
            marked.into_iter().for_each(|(file, layout)| _ = found.parents.entry(file).or_insert(layout));
        }
        found
    }

    /// A constant word in the place of the target: it says that there is no layout.
    fn opted_out(&self, id: DirectiveId, slot: &Slot) -> Option<String> {
        let mut words: BTreeMap<&str, usize> = BTreeMap::new();
        for &at in &self.directives[id].tags {
            for argument in arguments_of(self.text(at), &self.tags[at], self.directives[id].taken) {
                if argument.slot.lead == slot.lead && !argument.slot.quoted && slot.quoted {
                    *words.entry(token_text(self.text(at), &self.tags[at].tokens[argument.token])).or_default() += 1;
                }
            }
        }
        let [(word, _)] = words.into_iter().collect::<Vec<_>>()[..] else { return None };
        NO_LAYOUT.contains(&word.to_ascii_lowercase().as_str()).then(|| word.to_owned())
    }

    /// The file name of files that hold nothing but the parent line, for all files beside and under them; and
    /// the layout that each of these gets.
    fn markers(&self, found: &Meanings) -> Option<(String, BTreeMap<TextId, TextId>)> {
        let others = self.references.iter().filter(|reference| !found.of.contains_key(&reference.directive));
        let parts: BTreeSet<TextId> =
            others.flat_map(|reference| &reference.edges).filter_map(|(_, file)| self.file_of(*file)).collect();
        let alone: Vec<TextId> = found
            .parents
            .keys()
            .copied()
            .filter(|&file| {
                let tags: Vec<TagId> = self.tags_of(file).collect();
                let strong: Vec<&TagId> = tags.iter().filter(|&&at| found.of.contains_key(&self.of[at])).collect();
                let [&at] = strong[..] else { return false };
                let text = self.text(at);
                let range = &self.tags[at].range;
                text[..range.start].trim().is_empty() && text[range.end..].trim().is_empty()
            })
            .filter(|file| !found.parents.values().any(|parent| parent == file) && !parts.contains(file))
            .collect();
        let named = |path: &str, name: &str| path.rsplit('/').next() == Some(name);
        // What lies under a file that has no skeleton and is no part of other files: those that name their layout, and
        // those that do not.
        let below = |file: TextId| {
            let folder = folder(&self.corpus.texts[file].path);
            TextId::all(self.corpus.texts.len())
                .filter(move |&other| other != file && beneath(&self.corpus.texts[other].path, folder).is_some())
                .filter(|other| !parts.contains(other) && !self.corpus.texts[*other].has_skeleton())
                .filter(|&other| !found.parents.values().any(|parent| *parent == other))
                .partition::<Vec<TextId>, _>(|other| found.parents.contains_key(other) && !alone.contains(other))
        };
        let mut names: BTreeMap<&str, usize> = BTreeMap::new();
        for &file in &alone {
            if below(file).1.iter().any(|other| !alone.contains(other)) {
                let path = &self.corpus.texts[file].path;
                *names.entry(path.rsplit('/').next().unwrap_or(path)).or_default() += 1;
            }
        }
        // A marker's name is no page's.
        names.retain(|name, _| {
            let all = self.corpus.texts.iter().filter(|text| named(&text.path, name)).count();
            alone.iter().filter(|&&file| named(&self.corpus.texts[file].path, name)).count() == all
        });
        let (name, _) = names.into_iter().max_by_key(|(_, files)| *files)?;
        let marked: Vec<TextId> = alone.iter().copied().filter(|&f| named(&self.corpus.texts[f].path, name)).collect();
        let layouts: BTreeSet<TextId> = found.parents.values().copied().collect();
        let mut given: BTreeMap<TextId, TextId> = BTreeMap::new();
        for &file in &marked {
            let layout = found.parents[&file];
            let folder = folder(&self.corpus.texts[file].path).to_owned();
            let others =
                TextId::all(self.corpus.texts.len()).filter(|other| *other != file && !layouts.contains(other));
            let own = others.filter(|&other| beneath(&self.corpus.texts[other].path, &folder).is_some());
            given.extend(own.map(|other| (other, layout)));
        }
        // One file alone may be an odd page, and where most name their layout the others may have none: then what the
        // others say must recur in the layout.
        let all = self.names(|_| true);
        let unnamed: BTreeMap<TextId, TextId> = given
            .iter()
            .filter(|(file, _)| !found.parents.contains_key(*file))
            .map(|(&file, &above)| (file, above))
            .collect();
        let says = |some: &BTreeMap<TextId, TextId>| {
            let recurs = |notation| self.recurrence(some, &all, &all, notation).0 >= RECUR;
            NotationId::all(self.notations.len()).any(recurs) || self.recurrence_of_one(some, &all).0 >= RECUR
        };
        // What a file says of its own folder it may not say of those in it.
        let folder_of = |file: TextId| folder(&self.corpus.texts[file].path);
        let folders: BTreeSet<&str> = marked.iter().map(|&file| folder_of(file)).collect();
        let mut deeper = unnamed.clone();
        deeper.retain(|&file, _| !folders.contains(folder_of(file)));
        let (naming, without) = marked
            .iter()
            .map(|&file| below(file))
            .fold((0, 0), |sums, (naming, without)| (sums.0 + naming.len(), sums.1 + without.len()));
        let is_odd = (marked.len() < 2 || without <= naming) && !says(&unnamed);
        if is_odd || !deeper.is_empty() && !says(&deeper) {
            return None;
        }
        Some((name.to_owned(), given))
    }
}

#[cfg(test)]
mod tests {
    use crate::dialect::Kind;
    use crate::testing::{LAYOUT, check, learned, page};

    #[test]
    fn a_parent_is_named_by_files_whose_names_recur_above() {
        let learned = learned(LAYOUT, &page("<h1>@</h1>"), &[]);
        check(&learned, Kind::Parent, &["'(= moor \"<target>\" =)'"]);
    }

    #[test]
    fn a_file_whose_blocks_are_its_own_is_included() {
        let page = "<html>(= bring \"parts/nav.html\" =)<h1>@</h1></html>\n";
        let learned = learned("<p>Nothing</p>", page, &[]);
        check(&learned, Kind::Parent, &[]);
        check(&learned, Kind::Include, &["'(= bring \"<target>\" =)'"]);
    }

    #[test]
    fn headers_name_layouts() {
        let plain =
            |text: &str| text.replace("(= moor \"base.html\" =)\n", "---\nframe: base.html\nheading: \"@\"\n---\n");
        let learned = learned(LAYOUT, &plain(&page("<h1>@</h1>")), &[]);
        check(&learned, Kind::Parent, &["{ header = \"---\", form = \"frame: <target>\" }"]);
    }

    #[test]
    fn a_statement_among_others_names_the_layout() {
        let layout = "<html>^page.bring(\"parts/nav.html\")<title>^hold(\"title\")</title><main>^hold(\"main\")</main>\n^{ page.year = this; }</html>\n";
        let page = "^{\n  page.kind = \"@\";\n  page.mast = \"base.html\";\n}\n^stow title {<b>@</b>}\n^stow main {\n<h1>^heading</h1>\n~^{ page.width = wide; }\n<p>^heading</p>\n}\n";
        let learned = learned(layout, page, &[]);
        check(&learned, Kind::Parent, &["'^{ <args> page.mast = \"<target>\"; <args> }'"]);
        // A word may be called on an object.
        check(&learned, Kind::Include, &["'^page.bring(\"<target>\")'"]);
        check(&learned, Kind::Fill, &["{ open = \"^stow <name> {\", balanced = \"{}\" }"]);
    }

    #[test]
    fn one_file_with_a_parent_line_alone_is_an_odd_page_unless_names_recur() {
        let named = page("<h1>@</h1>");
        let bare = named.replace("(= moor \"base.html\" =)\n", "");
        let odd = "<p>Nothing</p>";
        for (text, expected) in [(bare.as_str(), true), (odd, false)] {
            let others = [
                ("more/all.html", "(= moor \"base.html\" =)"),
                ("more/a.html", text),
                ("more/b.html", text),
                ("more/c.html", text),
            ];
            let learned = learned(LAYOUT, &named, &others);
            assert_eq!(learned.settings.contains("all.html"), expected, "{}", learned.settings);
        }
    }
}
