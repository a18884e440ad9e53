//! Layouts that no file names: of a fixed file name, or in two halves around all pages.

use std::collections::{BTreeMap, BTreeSet};

use rustc_hash::FxHashMap;

use crate::dialect::Kind;
use crate::meaning::{Facts, Meanings};
use crate::read::corpus::Corpus;
use crate::read::corpus::TextId;
use crate::read::tags::{NotationId, TagId};
use crate::site::{beneath, folder};
use crate::thresholds::{COVERED_PAGES, RECUR};

impl Facts<'_> {
    /// No file names a parent, but the files under a folder override what one of a fixed name defines.
    /// Gives their file name with the folder that it holds for, and the layout of each file.
    pub(super) fn fixed_layouts(&self) -> Option<((String, String), BTreeMap<TextId, TextId>)> {
        // What gives content to a layout opens pairs.
        let names = self.names(|id| self.pairs.is_opener(id) || self.directives[id].with_value);
        let all = self.names(|_| true);
        let pages = self.corpus.texts.iter().filter(|text| !text.has_skeleton()).count();
        let mut files: BTreeMap<&str, Vec<TextId>> = BTreeMap::new();
        for (id, text) in TextId::each(&self.corpus.texts) {
            files.entry(text.path.rsplit('/').next().unwrap_or(&text.path)).or_default().push(id);
        }
        let mut best: Option<(f64, &str, BTreeMap<TextId, TextId>)> = None;
        for (name, layouts) in files {
            let near = |file: TextId| {
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
            let edges: BTreeMap<TextId, TextId> =
                TextId::all(self.corpus.texts.len()).filter_map(|file| Some((file, near(file)?))).collect();
            let framed = layouts.iter().any(|&l| self.corpus.texts[l].has_skeleton());
            let bare: BTreeMap<TextId, TextId> =
                edges.into_iter().filter(|(child, _)| !self.corpus.texts[*child].has_skeleton()).collect();
            if !framed || bare.len() < 2 || bare.len() * COVERED_PAGES < pages {
                continue;
            }
            for notation in NotationId::all(self.notations.len()) {
                let (share, files) = self.recurrence(&bare, &names, &all, notation);
                if share >= RECUR && files >= 2 && best.as_ref().is_none_or(|(known, _, _)| share > *known) {
                    best = Some((share, name, bare.clone()));
                }
            }
        }
        let (_, name, edges) = best?;
        let folder = edges.values().map(|&l| folder(&self.corpus.texts[l].path)).min_by_key(|f| f.len()).unwrap_or("");
        Some(((name.to_owned(), folder.to_owned()), edges))
    }

    /// The folders under one that hold parts alone: some of their files are included, and none gives content.
    pub(crate) fn folders_of_parts(&self, found: &Meanings, path: &str) -> BTreeSet<&str> {
        let is = |at: TagId, kinds: &[Kind]| found.of.get(&self.of[at]).is_some_and(|m| kinds.contains(&m.kind));
        let included =
            self.references.iter().filter(|r| found.of.get(&r.directive).is_some_and(|m| m.kind == Kind::Include));
        let included: BTreeSet<&str> =
            included.flat_map(|r| &r.edges).map(|(_, file)| folder(self.index.path(*file))).collect();
        let gives = |file: &TextId| self.tags_of(*file).any(|at| is(at, &[Kind::Fill, Kind::Block]));
        let giving: BTreeSet<&str> = TextId::all(self.corpus.texts.len())
            .filter(|file| gives(file) || self.corpus.texts[*file].has_skeleton())
            .map(|file| folder(&self.corpus.texts[file].path))
            .collect();
        let is_part = |own: &&str| !giving.contains(own) && *own != path && beneath(own, path).is_some();
        included.into_iter().filter(is_part).collect()
    }
}

/// Files in the tree that nothing names and that hold half of a page each.
pub(crate) fn halves(corpus: &Corpus, named: &FxHashMap<TextId, TagId>) -> Option<(String, String)> {
    let is_half = |id: &TextId, has: &str, lacks: &str| {
        let text = corpus.texts[*id].text.to_ascii_lowercase();
        text.contains(has) && !text.contains(lacks)
    };
    let all = |has: &str, lacks: &str| -> Vec<TextId> {
        TextId::all(corpus.texts.len()).filter(|id| is_half(id, has, lacks)).collect()
    };
    let (heads, feet) = (all("<html", "</html"), all("</html", "<html"));
    let ([head], [foot]) = (&heads[..], &feet[..]) else { return None };
    let free: Vec<TextId> = TextId::all(corpus.texts.len()).filter(|id| !named.contains_key(id)).collect();
    if !free.contains(head) || !free.contains(foot) {
        return None;
    }
    let rest = free.iter().filter(|id| *id != head && *id != foot);
    let bare = rest.clone().filter(|id| !corpus.texts[**id].has_skeleton()).count();
    (bare > 0 && bare * 2 > rest.count()).then(|| (corpus.texts[*head].path.clone(), corpus.texts[*foot].path.clone()))
}

#[cfg(test)]
mod tests {

    use super::halves;
    use crate::read::corpus::{Corpus, Text};
    use crate::site::SourceFile;

    #[test]
    fn halves_of_a_page_that_nobody_names_are_around_all_others() {
        let text = |path: &str, text: &str| Text::new(&SourceFile::new(path, text));
        let (head, foot) = (text("head.html", "<html><body>"), text("foot.html", "</body></html>"));
        let corpus = Corpus::of(vec![foot.clone(), head.clone(), text("p.html", "<h1>Tides</h1>")]);
        let none = Default::default();
        assert_eq!(halves(&corpus, &none), Some(("head.html".to_owned(), "foot.html".to_owned())));
        // Pages that have a skeleton of their own need none.
        let whole = text("p.html", "<html><h1>Tides</h1></html>");
        assert_eq!(halves(&Corpus::of(vec![foot, head, whole]), &none), None);
    }
}
