//! The proof of a proposal, and what is taken back because it could not be proven.

use std::sync::Arc;

use rayon::prelude::*;
use rustc_hash::{FxHashMap, FxHashSet};

use crate::dialect::{Dialect, Newline};
use crate::propose::assemble::Plan;
use crate::propose::partials::find::Extracted;
use crate::propose::{Job, Left, Proposal, ProposedFile, ProposedPartial, changes, report, size};
use crate::prove::{Proof, Prover, Strength};
use crate::rooted;
use crate::site::own_file::Needs;
use crate::site::{Role, Site, SourceFile};

/// How often partials are tried, each time without the files of those pages, and their
/// layouts, for which they failed.
const MOST_ATTEMPTS: usize = 3;

/// The most levels of a proposal.
const MOST_LEVELS: usize = 16;

impl Job<'_> {
    /// The proposal, proven.
    pub fn finish(&self, plan: Plan) -> Proposal {
        let Plan { mut written, layouts, mut left, mut reasons, .. } = plan;
        let before = self.size();
        let needs = Needs::of(self.site);
        self.carry(&needs, &mut written);
        self.end_lines(&mut written);
        let (proof, new_site, partials, smaller_repeats) = self.prove_with_partials(&needs, &mut written, &mut left);
        let actual = |mut file: ProposedFile| {
            file.bytes = self.actual_bytes(&file);
            let is_new = |id| *self.actual().get(id).source != file.bytes;
            self.actual().find(&file.path).is_none_or(is_new).then_some(file)
        };
        let mut files: Vec<ProposedFile> = written.into_par_iter().filter_map(actual).collect();
        files.sort_by(|a, b| a.path.cmp(&b.path));
        let after = if files.is_empty() {
            before
        } else {
            size(new_site.templates.iter().map(|template| &template.source[..]))
        };
        let mut layouts = report::of_layouts(&layouts, &files, self.actual(), &new_site);
        layouts.iter_mut().for_each(|layout| layout.reason = reasons.remove(&layout.path));
        let changes = changes::of(&layouts, &partials, &files, &proof, (self.actual(), &new_site));
        let changed: FxHashSet<&str> = files.iter().map(|file| file.path.as_str()).collect();
        left.retain(|left| !changed.contains(left.page.as_str()));
        left.sort();
        let mut dialects: Vec<&str> = files.iter().map(|file| file.dialect.as_str()).collect();
        dialects.sort_unstable();
        dialects.dedup();
        let dialect = if dialects.is_empty() { self.dialect.name.clone() } else { dialects.join(", ") };
        let healed = Vec::new();
        Proposal {
            files,
            layouts,
            changes,
            partials,
            smaller_repeats,
            dialect,
            before,
            after,
            healed,
            proof,
            left,
            unexplained: Vec::new(),
        }
    }

    /// Proves every page, with partials where that is possible.
    fn prove_with_partials(
        &self,
        needs: &Needs,
        written: &mut Vec<ProposedFile>,
        left: &mut Vec<Left>,
    ) -> (Proof, Site, Vec<ProposedPartial>, usize) {
        let mut excluded: FxHashSet<String> = FxHashSet::default();
        let (mut proven, mut repeats) = (None, 0);
        for _ in 0..MOST_ATTEMPTS {
            let Some(Extracted { written: mut with, partials, smaller }) = self.extract(written, &excluded) else {
                break;
            };
            repeats = smaller;
            if partials.is_empty() {
                break;
            }
            self.carry(needs, &mut with);
            self.end_lines(&mut with);
            let (proof, site) = self.proof(&with);
            if proof.equal {
                *written = with;
                return (proof, site, partials, smaller);
            }
            // Perhaps it is not the partials that failed.
            if proven.is_none() {
                proven = Some(self.prove(written, left));
            }
            let extends = with.iter().filter_map(|written| Some((written.path.as_str(), written.extends.as_deref()?)));
            let extends: FxHashMap<&str, &str> = extends.collect();
            for page in proof.different() {
                let chain = std::iter::successors(Some(page.page.as_str()), |path| extends.get(path).copied());
                excluded.extend(chain.map(str::to_owned));
            }
        }
        let (proof, site) = proven.unwrap_or_else(|| self.prove(written, left));
        (proof, site, Vec::new(), repeats)
    }

    /// Gives written files the own-file tags that their tags need.
    fn carry(&self, needs: &Needs, written: &mut [ProposedFile]) {
        if needs.is_empty() {
            return;
        }
        let dialects = self.dialects();
        let own = self.own_file_texts(written);
        for (file, own) in written.iter_mut().zip(own) {
            if let Some(dialect) = dialects.iter().find(|dialect| dialect.name == file.dialect) {
                let lines = self.options.strength != Strength::Bytes;
                let mut bytes = std::mem::take(&mut file.bytes);
                if file.role == Role::Page && file.extends.is_some() {
                    bytes = needs.without_idle(bytes, dialect, &own);
                }
                file.bytes = needs.carried(bytes, dialect, &own, lines);
            }
        }
    }

    /// Lines end as they do in the pages: where all of them end with CR and LF, so do those that are new.
    fn end_lines(&self, written: &mut [ProposedFile]) {
        // In exact output a tag must take the line end with it.
        let takes_lines = self.options.strength != Strength::Bytes || self.dialect.rules.newline == Newline::Line;
        let ends_with_both = |source: &[u8]| {
            let mut ends = memchr::memchr_iter(b'\n', source).peekable();
            ends.peek().is_some() && ends.all(|at| at > 0 && source[at - 1] == b'\r')
        };
        let old = |file: &ProposedFile| self.site.find(&file.path).map(|id| &self.site.get(id).source[..]);
        let is_so =
            |file: &ProposedFile| old(file).is_none_or(|source| ends_with_both(source) || !source.contains(&b'\n'));
        let all = takes_lines && written.iter().all(is_so) && written.iter().filter_map(old).any(ends_with_both);
        for file in written.iter_mut() {
            if all || takes_lines && old(file).is_some_and(ends_with_both) {
                file.bytes = with_both(&file.bytes);
            }
        }
    }

    /// For each file the own-file tags that was where its content comes from: its own, or those that all pages
    /// of a new layout have.
    fn own_file_texts(&self, written: &[ProposedFile]) -> Vec<Vec<String>> {
        let extends = written.iter().filter_map(|file| Some((file.path.as_str(), file.extends.as_deref()?)));
        let extends: FxHashMap<&str, &str> = extends.collect();
        let own = |path: &str| self.site.find(path).map(|id| self.site.sure_own_file_texts(id));
        let mut common: FxHashMap<&str, Vec<String>> = FxHashMap::default();
        for page in written.iter().filter(|file| file.role == Role::Page) {
            let Some(own) = own(&page.path) else { continue };
            let chain = std::iter::successors(page.extends.as_deref(), |path| extends.get(path).copied());
            for layout in chain.take(MOST_LEVELS) {
                let known = common.entry(layout).or_insert_with(|| own.clone());
                known.retain(|text| own.contains(text));
            }
        }
        let of = |file: &ProposedFile| own(&file.path).or_else(|| common.get(file.path.as_str()).cloned());
        written.iter().map(|file| of(file).unwrap_or_default()).collect()
    }

    /// A written file as it goes into the site as it is.
    fn actual_bytes(&self, file: &ProposedFile) -> Vec<u8> {
        match self.actual {
            Some(_) => rooted::unrooted(&file.path, file.role, &file.bytes),
            None => file.bytes.clone(),
        }
    }

    fn proof(&self, written: &[ProposedFile]) -> (Proof, Site) {
        let site = self.actual();
        let files = written.par_iter().map(|file| SourceFile::new(file.path.clone(), self.actual_bytes(file)));
        let new = with_files(site, files.collect(), &self.dialects());
        let paths: Vec<&str> = site.pages().map(|id| site.get(id).path.as_str()).collect();
        let proof = Prover::new(site, &new, self.options.strength).proof(&paths);
        (proof, new)
    }

    /// Proves every page; converted pages that fail are taken back and left, and
    /// layouts that nothing takes any more go with them.
    fn prove(&self, written: &mut Vec<ProposedFile>, left: &mut Vec<Left>) -> (Proof, Site) {
        loop {
            let (proof, new) = self.proof(written);
            let failed: FxHashMap<&str, String> = proof
                .different()
                .map(|page| (page.page.as_str(), page.difference().map(|d| d.message.clone()).unwrap_or_default()))
                .collect();
            if failed.is_empty() {
                return (proof, new);
            }
            let count = written.len();
            let paths: FxHashSet<&str> = written.iter().map(|written| written.path.as_str()).collect();
            let (converted, others): (Vec<_>, Vec<_>) = failed.into_iter().partition(|(page, _)| paths.contains(page));
            // Pages that were not converted fail by a layout of theirs that was changed.
            if !others.is_empty() {
                let changed: FxHashSet<String> = written
                    .iter()
                    .filter(|written| written.role != Role::Page && self.site.find(&written.path).is_some())
                    .map(|written| written.path.clone())
                    .collect();
                let takes =
                    |written: &ProposedFile| written.extends.as_ref().is_some_and(|path| changed.contains(path));
                written.retain(|written| !changed.contains(&written.path) && !takes(written));
            }
            let gone: FxHashSet<&str> = converted.iter().map(|(page, _)| *page).collect();
            written.retain(|written| !gone.contains(written.path.as_str()));
            if written.len() == count {
                return (proof, new);
            }
            left.extend(converted.into_iter().map(|(page, why)| Left {
                page: page.to_owned(),
                reason: format!("could not be proven unchanged: {why}"),
            }));
            drop_unused(self.site, written);
        }
    }
}

/// A site as it would be with a proposal's files in place.
pub fn apply(site: &Site, files: &[ProposedFile], dialects: &[Arc<Dialect>]) -> Site {
    let files = files.iter().map(|file| SourceFile::new(file.path.clone(), file.bytes.clone()));
    with_files(site, files.collect(), dialects)
}

/// A site with these files beside those of its own that they do not replace.
fn with_files(site: &Site, mut files: Vec<SourceFile>, dialects: &[Arc<Dialect>]) -> Site {
    let changed: FxHashSet<String> = files.iter().map(|file| file.path.clone()).collect();
    let kept = site.templates.iter().filter(|template| !changed.contains(&template.path));
    files.extend(kept.map(|template| SourceFile::new(template.path.clone(), template.source.to_vec())));
    site.with_files(files, dialects)
}

/// A text with CR before each LF.
fn with_both(text: &[u8]) -> Vec<u8> {
    let mut out = Vec::with_capacity(text.len() + 64);
    for &byte in text {
        if byte == b'\n' && out.last() != Some(&b'\r') {
            out.push(b'\r');
        }
        out.push(byte);
    }
    out
}

/// Drops new layouts that nothing takes.
fn drop_unused(site: &Site, written: &mut Vec<ProposedFile>) {
    loop {
        let used: FxHashSet<String> = written.iter().filter_map(|written| written.extends.clone()).collect();
        let count = written.len();
        let is_new = |path: &str| site.find(path).is_none();
        written.retain(|written| {
            let path = &written.path;
            written.role != Role::Layout || used.contains(path) || !is_new(path)
        });
        if written.len() == count {
            return;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::propose::testing::site;

    #[test]
    fn lines_end_with_both_once() {
        assert_eq!(with_both(b"a\nb\r\nc"), b"a\r\nb\r\nc");
    }

    #[test]
    fn new_layouts_that_nothing_takes_go() {
        let file = |path: &str, role, extends: Option<&str>| ProposedFile {
            path: path.to_owned(),
            role,
            dialect: "margin".to_owned(),
            extends: extends.map(str::to_owned),
            bytes: Vec::new(),
        };
        let mut written = vec![
            file("base.html", Role::Layout, None),
            file("mid.html", Role::Layout, Some("base.html")),
            file("deep.html", Role::Layout, Some("mid.html")),
            file("old.html", Role::Layout, None),
            file("p.html", Role::Page, Some("base.html")),
        ];
        drop_unused(&site([("old.html", "")]), &mut written);
        let paths: Vec<&str> = written.iter().map(|file| file.path.as_str()).collect();
        assert_eq!(paths, ["base.html", "old.html", "p.html"]);
    }
}
