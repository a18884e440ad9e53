//! From plans to files.

use std::collections::BTreeMap;

use rayon::prelude::*;
use rustc_hash::FxHashSet;

use super::families::select::Draft;
use super::hierarchy::layout::{Body, Layout};
use super::job::Job;
use super::naming;
use super::pages::page::Page;
use super::proposal::{Left, ProposedFile};
use super::writing::indent::Style;
use super::writing::writer::Writer;
use crate::dialect::Kind;
use crate::site::{Home, Role, stem};

/// So many pages of a family show how it indents.
const MOST_FOR_STYLE: usize = 50;

/// The proposal so far.
#[derive(Default)]
pub struct Plan {
    pub written: Vec<ProposedFile>,
    /// Paths of the layouts that pages take, the outer before those that extend them.
    pub layouts: Vec<String>,
    pub left: Vec<Left>,
    /// Why layouts between others are there, by their paths.
    pub reasons: BTreeMap<String, String>,
    /// Paths of new files.
    pub taken: Vec<String>,
}

impl Plan {
    /// Puts a file in the place of what was proposed for it before.
    pub fn replace(&mut self, file: ProposedFile) {
        self.written.retain(|written| written.path != file.path);
        self.written.push(file);
    }
}

/// A layout with its place.
pub struct Placed<'a> {
    pub layout: &'a Layout,
    pub path: String,
    /// The index of the one around it.
    pub around: Option<usize>,
    /// Pages that take it directly.
    pub direct: Vec<usize>,
}

impl Job<'_> {
    /// Plans layouts for families of pages. Pages are let go as soon as no family needs them any more.
    pub fn found(&self, mut pages: Vec<Page>, drafts: Vec<Draft>, plan: &mut Plan, left: &mut Vec<Left>) {
        let everything: Vec<usize> = (0..pages.len()).collect();
        let word = |draft: &Draft| naming::of_section(&pages, &everything, &draft.members);
        let words: Vec<String> = drafts.iter().map(word).collect();
        let mut needed: Vec<bool> = vec![false; pages.len()];
        drafts.iter().flat_map(|draft| &draft.members).for_each(|&member| needed[member] = true);
        (0..pages.len()).filter(|&page| !needed[page]).for_each(|page| pages[page].let_go());
        for (draft, word) in drafts.into_iter().zip(&words) {
            let members = draft.members.clone();
            let price = draft.price;
            let mut base = self.layouts(&pages, draft);
            let mut is_added = self.add(&pages, &base, word, &FxHashSet::default(), plan);
            // Small pages may need a finer cut.
            if !is_added && !self.fine {
                let job = Job { fine: true, ..self.clone() };
                let unified = job.unifier(&pages, price).pages(&members);
                base = job.layouts(&pages, Draft { members: members.clone(), unified, price });
                is_added = job.add(&pages, &base, word, &FxHashSet::default(), plan);
            }
            if !is_added {
                let reason = "no layout that would make the pages smaller together".to_owned();
                let of = |&member: &usize| Left { page: pages[member].path.clone(), reason: reason.clone() };
                left.extend(base.members.iter().map(of));
            }
            members.into_iter().for_each(|member| pages[member].let_go());
        }
    }

    /// Writes a layout, those that extend it, and their pages but for those that are
    /// kept; whether that makes them smaller. `word` is what its family is called.
    pub fn add(&self, pages: &[Page], base: &Layout, word: &str, kept: &FxHashSet<usize>, plan: &mut Plan) -> bool {
        let known = plan.taken.len();
        let placed = self.places(pages, base, word, &mut plan.taken);
        let files = self.write(pages, &placed, kept);
        let old = |file: &ProposedFile| self.site.find(&file.path).map_or(0, |id| self.site.get(id).source.len());
        let now: usize = files.iter().map(old).sum();
        let after: usize = files.iter().map(|file| file.bytes.len()).sum();
        let pays = after < now;
        if pays {
            let told = placed.iter().filter(|place| !place.layout.told.is_empty());
            plan.reasons.extend(told.map(|place| (place.path.clone(), place.layout.told.clone())));
            let new = placed.into_iter().map(|place| place.path).filter(|path| !plan.layouts.contains(path));
            let new: Vec<String> = new.collect();
            plan.layouts.extend(new);
            plan.written.extend(files);
        } else {
            plan.taken.truncate(known);
        }
        pays
    }

    /// The layouts of a family, the outer before the inner, with their paths.
    pub fn places<'l>(&self, pages: &[Page], base: &'l Layout, word: &str, taken: &mut Vec<String>) -> Vec<Placed<'l>> {
        let home = self.home(Role::Layout);
        let mut found: Vec<Placed<'l>> = Vec::new();
        let mut open = vec![(base, None)];
        while let Some((layout, around)) = open.pop() {
            // Beside layouts that are there, what fragments share is no base.
            let has_layouts = || self.site.templates.iter().any(|template| template.parent().is_some());
            let is_base = || taken.is_empty() && (pages[layout.members[0]].is_document() || !has_layouts());
            let of_family = || match word {
                _ if is_base() => "base".to_owned(),
                naming::SECTION => naming::of_frame(pages, &layout.members).unwrap_or("base".to_owned()),
                word => word.to_owned(),
            };
            let path = match &layout.body {
                Body::Existing { path, .. } => path.clone(),
                Body::Base(_) => self.free_path(&home, &of_family(), taken),
                Body::Section(_) => {
                    self.free_path(&home, &self.section_word(layout, around.map(|at| &found[at]), taken), taken)
                }
            };
            open.extend(layout.inner.iter().rev().map(|inner| (inner, Some(found.len()))));
            found.push(Placed { layout, path, around, direct: layout.direct() });
        }
        found
    }

    /// What a section's layout is called: where its word is taken, by the folders of its pages, with the word of the one
    /// around it, or by what its skeleton begins with.
    fn section_word(&self, layout: &Layout, around: Option<&Placed<'_>>, taken: &[String]) -> String {
        let outer = around.map(|around| around.layout.word.as_str()).filter(|word| !word.is_empty());
        let inside = outer.map(|outer| format!("{outer}-{}", layout.word));
        let words = std::iter::once(&layout.word).chain(&layout.other_words).chain(&inside);
        let is_free = |word: &&String| taken.iter().all(|path| naming::word(stem(path)) != **word);
        words.filter(|word| naming::is_telling(word)).find(is_free).unwrap_or(&layout.word).clone()
    }

    /// Who writes these pages' files.
    pub fn writer<'a>(&'a self, pages: &'a [Page], style: Style) -> Writer<'a> {
        Writer { dialect: &self.dialect, pages, strength: self.options.strength, style, short: self.options.is_small() }
    }

    /// All layouts, then the pages.
    fn write(&self, pages: &[Page], placed: &[Placed<'_>], kept: &FxHashSet<usize>) -> Vec<ProposedFile> {
        let members = placed[0].layout.members.iter().take(MOST_FOR_STYLE);
        let writer = self.writer(pages, Style::of(members.map(|&member| &pages[member].source[..])));
        let dialect = || self.dialect.name.clone();
        let layout = |place: &Placed<'_>| {
            let extends = place.around.map(|around| placed[around].path.clone());
            let target = extends.as_ref().map(|path| self.written_name(path, Kind::Parent)).unwrap_or_default();
            let bytes = match &place.layout.body {
                Body::Base(pieces) => writer.layout(pieces),
                Body::Section(overrides) => writer.section(&target, overrides),
                Body::Existing { edits, .. } if edits.is_empty() => return None,
                Body::Existing { path, edits } => {
                    let mut bytes = self.site.get(self.site.find(path)?).source.to_vec();
                    for (span, text) in edits.iter().rev() {
                        bytes.splice(span.range(), text.iter().copied());
                    }
                    bytes
                }
            };
            Some(ProposedFile { path: place.path.clone(), role: Role::Layout, dialect: dialect(), extends, bytes })
        };
        let page = |(place, member): (&Placed<'_>, usize)| {
            let bytes = writer.page(member, &self.written_name(&place.path, Kind::Parent), &place.layout.open);
            let (path, extends) = (pages[member].path.clone(), Some(place.path.clone()));
            ProposedFile { path, role: Role::Page, dialect: dialect(), extends, bytes }
        };
        let direct = placed.iter().flat_map(|place| place.direct.iter().map(move |&member| (place, member)));
        let direct: Vec<_> = direct.filter(|(_, member)| !kept.contains(member)).collect();
        let pages: Vec<ProposedFile> = direct.into_par_iter().map(page).collect();
        placed.iter().filter_map(layout).chain(pages).collect()
    }

    /// The folder for files of a role, and how they are named.
    pub fn home(&self, role: Role) -> Home {
        let folder = if role == Role::Layout { "layouts" } else { "partials" };
        Home::of(self.site, &self.dialect, role, folder, None)
    }

    /// A path for a new file.
    pub fn free_path(&self, home: &Home, word: &str, taken: &mut Vec<String>) -> String {
        let word = self.options.called(word.to_owned());
        let path = home.path(&word, |path| taken.iter().all(|known| known != path) && self.site.find(path).is_none());
        taken.push(path.clone());
        path
    }

    /// How a template names the file.
    pub fn written_name(&self, path: &str, kind: Kind) -> String {
        self.site.name_for(path, &self.dialect, kind)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::propose::testing::{job, site};

    #[test]
    fn new_files_go_where_those_of_their_role_are() {
        let site = site([
            ("views/frames/base.html", "{% block a %}{% endblock %}"),
            ("views/p.html", "{% extends 'frames/base.html' %}{% block a %}x{% endblock %}"),
        ]);
        let job = job(&site, "brace-percent");
        let home = job.home(Role::Layout);
        let mut taken = Vec::new();
        assert_eq!(job.free_path(&home, "crew", &mut taken), "views/frames/crew.html");
        assert_eq!(job.free_path(&home, "crew", &mut taken), "views/frames/crew-2.html");
        assert_eq!(job.free_path(&home, "base", &mut taken), "views/frames/base-2.html");
        assert_eq!(job.written_name("views/frames/crew.html", Kind::Parent), "frames/crew.html");
    }

    #[test]
    fn a_plan_holds_a_file_once() {
        let file = |bytes: &[u8]| ProposedFile {
            path: "p.html".to_owned(),
            role: Role::Page,
            dialect: "margin".to_owned(),
            extends: None,
            bytes: bytes.to_vec(),
        };
        let mut plan = Plan::default();
        plan.replace(file(b"old"));
        plan.replace(file(b"new"));
        assert_eq!(plan.written.iter().map(|file| &file.bytes[..]).collect::<Vec<_>>(), [b"new"]);
    }
}
