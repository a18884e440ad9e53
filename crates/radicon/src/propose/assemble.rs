//! From drafts to files, and their proof.

use rayon::prelude::*;
use rustc_hash::{FxHashMap, FxHashSet};

use super::levels::{Body, Layout, Open, Planner};
use super::page::Page;
use super::partials::Extracted;
use super::settle::Draft;
use super::tidy::Style;
use super::write::Writer;
use super::{
    Job, Left, Proposal, ProposedBlock, ProposedFile, ProposedLayout, ProposedPartial, apply, holes, name, size,
};
use crate::dialect::Kind;
use crate::markup::Constructs;
use crate::prove::{PageProof, prove_page};
use crate::site::{Role, Site, Template, usual_folder};
use crate::text::LineIndex;

/// A file of the proposal, and the layout that it takes.
#[derive(Clone)]
pub(super) struct Written {
    pub file: ProposedFile,
    pub extends: Option<String>,
}

/// How often partials are tried, each time without the files of those pages, and their
/// layouts, for which they failed.
const MOST_ATTEMPTS: usize = 3;

/// At the usual price of a block a section saves a 200th of the bytes that a family's
/// pages have of their own.
const SHARE_OF_OWN: u64 = 20_000;

/// A layout with its place.
struct Placed<'a> {
    layout: &'a Layout,
    path: String,
    /// The index of the one around it.
    around: Option<usize>,
    /// Pages that take it directly.
    direct: Vec<usize>,
}

impl Job<'_> {
    pub(super) fn proposal(&self, pages: &[Page], drafts: Vec<Draft>, mut left: Vec<Left>) -> Proposal {
        let before = self.size();
        let mut written: Vec<Written> = Vec::new();
        let mut layouts: Vec<ProposedLayout> = Vec::new();
        let folder = self.folder_for(Role::Layout, "layouts");
        let mut taken: Vec<String> = Vec::new();
        for draft in drafts {
            let planner = Planner {
                unifier: &self.unifier(pages, self.options.block_price),
                pages,
                price: self.section_price(&draft),
                options: self.options,
                levels: self.options.levels,
                partials: self.options.partials && self.dialect.form(Kind::Include).is_some(),
            };
            let base = planner.plan(draft.unified, draft.members);
            let known = taken.len();
            let placed = self.places(pages, &base, &folder, &mut taken);
            let files = self.write(pages, &placed);
            let after: usize = files.iter().map(|written| written.file.bytes.len()).sum();
            let now: usize = base.members.iter().map(|&member| pages[member].source.len()).sum();
            if after < now {
                layouts.extend(self.reports(pages, &placed, &files));
                written.extend(files);
            } else {
                taken.truncate(known);
                let reason = "no layout that would make the pages smaller together".to_owned();
                left.extend(
                    base.members
                        .iter()
                        .map(|&member| Left { page: pages[member].path.clone(), reason: reason.clone() }),
                );
            }
        }
        let (proof, new_site, partials) = self.prove_with_partials(&mut written, &mut left);
        recount(&mut layouts, &written);
        let mut files: Vec<ProposedFile> = written.into_iter().map(|written| written.file).collect();
        files.sort_by(|a, b| a.path.cmp(&b.path));
        let after = if files.is_empty() {
            before
        } else {
            size(new_site.templates.iter().map(|template| &template.source[..]))
        };
        left.sort();
        Proposal { files, layouts, partials, dialect: self.dialect.name.clone(), before, after, proof, left }
    }

    /// What a section of this family must save, in bytes: it is one file more to know,
    /// so in a family with much of its own it must save the more.
    fn section_price(&self, draft: &Draft) -> u64 {
        let own: usize = holes(&draft.unified.pieces).iter().map(|hole| hole.own_bytes()).sum();
        let price = self.options.block_price;
        self.options.min_saving.unwrap_or((price * 3).max(own as u64 * price / SHARE_OF_OWN))
    }

    /// The layouts of a family, the outer before the inner, with their paths.
    fn places<'l>(&self, pages: &[Page], base: &'l Layout, folder: &str, taken: &mut Vec<String>) -> Vec<Placed<'l>> {
        let mut found: Vec<Placed<'l>> = Vec::new();
        let everything: Vec<usize> = (0..pages.len()).collect();
        let mut open = vec![(base, None)];
        while let Some((layout, around)) = open.pop() {
            let word = match (&layout.body, taken.is_empty()) {
                (Body::Base { .. }, true) => "base".to_owned(),
                (Body::Base { .. }, false) => {
                    let word = name::of_section(pages, &everything, &layout.members);
                    if word == name::SECTION { "base".to_owned() } else { word }
                }
                (Body::Section(_), _) => layout.word.clone(),
            };
            let path = self.free_path(folder, &word, taken);
            open.extend(layout.inner.iter().rev().map(|inner| (inner, Some(found.len()))));
            found.push(Placed { layout, path, around, direct: layout.direct() });
        }
        found
    }

    /// All layouts, then the pages.
    fn write(&self, pages: &[Page], placed: &[Placed<'_>]) -> Vec<Written> {
        let members = &placed[0].layout.members;
        let style = Style::of(members.iter().take(50).map(|&member| &pages[member].source[..]));
        let writer = Writer { dialect: &self.dialect, pages, strength: self.options.strength, style: &style };
        let layout = |place: &Placed<'_>| {
            let extends = place.around.map(|around| placed[around].path.clone());
            let target = extends.as_ref().map(|path| self.written_name(path)).unwrap_or_default();
            let bytes = match &place.layout.body {
                Body::Base { pieces, names } => writer.layout(pieces, names),
                Body::Section(overrides) => writer.section(&target, overrides),
            };
            Written { file: ProposedFile { path: place.path.clone(), role: Role::Layout, bytes }, extends }
        };
        let page = |(place, member): (&Placed<'_>, usize)| {
            let bytes = writer.page(member, &self.written_name(&place.path), &place.layout.open);
            let path = pages[member].path.clone();
            Written { file: ProposedFile { path, role: Role::Page, bytes }, extends: Some(place.path.clone()) }
        };
        let direct = placed.iter().flat_map(|place| place.direct.iter().map(move |&member| (place, member)));
        let pages: Vec<Written> = direct.collect::<Vec<_>>().into_par_iter().map(page).collect();
        placed.iter().map(layout).chain(pages).collect()
    }

    /// What each layout is, for people and programs.
    fn reports(&self, pages: &[Page], placed: &[Placed<'_>], files: &[Written]) -> Vec<ProposedLayout> {
        let uses = uses(placed);
        let report = |(index, place): (usize, &Placed<'_>)| {
            let source = &files[index].file.bytes;
            let constructs = Constructs::read(source, &self.dialect);
            let lines = LineIndex::new(source);
            let line = |name: &str| {
                let mut blocks = constructs.items.iter().filter(|item| item.kind == Kind::Block);
                let found = blocks.find(|item| item.name.of(source) == name.as_bytes());
                found.map_or(1, |item| lines.line(item.span.start))
            };
            let block = |open: &Open| {
                let uses = uses.get(&(index, open.name.as_str())).cloned().unwrap_or_default();
                ProposedBlock {
                    name: open.name.clone(),
                    line: line(&open.name),
                    default: open.default,
                    overridden_by: uses.pages.len(),
                    layouts: uses.layouts,
                    such_as: uses.pages.iter().take(3).map(|&page| pages[page].path.clone()).collect(),
                    bytes: uses.bytes,
                    drift: open.hole.members.len() > 3
                        && open.hole.overriding() == 1
                        && open.default
                        && !name::marks_current(pages, &open.hole),
                }
            };
            ProposedLayout {
                path: place.path.clone(),
                extends: place.around.map(|around| placed[around].path.clone()),
                pages: place.direct.len(),
                beneath: place.layout.members.len(),
                blocks: place.layout.open.iter().filter(|open| open.own).map(block).collect(),
                fills: match &place.layout.body {
                    Body::Section(overrides) => overrides.iter().map(|filled| filled.name.clone()).collect(),
                    Body::Base { .. } => Vec::new(),
                },
            }
        };
        placed.iter().enumerate().map(report).collect()
    }

    /// Where files of a role go: beside the site's own, else into a folder of this name.
    pub(super) fn folder_for(&self, role: Role, name: &str) -> String {
        let own = |template: &&Template| template.role == role && template.dialect.name == self.dialect.name;
        let known = self.site.templates.iter().filter(own).map(|template| template.path.as_str());
        let root = self.site.roots.first().map_or("", |root| root.path.as_str());
        usual_folder(known).unwrap_or_else(|| {
            [root, name].iter().filter(|part| !part.is_empty()).copied().collect::<Vec<_>>().join("/")
        })
    }

    /// A path for a new file, with a number where the word is taken.
    pub(super) fn free_path(&self, folder: &str, word: &str, taken: &mut Vec<String>) -> String {
        let word = self.options.called(word.to_owned());
        let slash = if folder.is_empty() { "" } else { "/" };
        let numbered = (2..).map(|number| format!("{folder}{slash}{word}-{number}.html"));
        let mut paths = std::iter::once(format!("{folder}{slash}{word}.html")).chain(numbered);
        let is_free = |path: &String| !taken.contains(path) && self.site.find(path).is_none();
        let path = paths.find(is_free).unwrap_or_default();
        taken.push(path.clone());
        path
    }

    /// How a template names the file.
    pub(super) fn written_name(&self, path: &str) -> String {
        let rules = &self.dialect.targets;
        let under = |root: &str| match root {
            "" => Some(path),
            root => path.strip_prefix(root)?.strip_prefix('/'),
        };
        let name = self.site.roots.iter().find_map(|root| under(&root.path)).unwrap_or(path);
        let name = match rules.suffixes.iter().find(|suffix| !suffix.is_empty() && name.ends_with(suffix.as_str())) {
            Some(suffix) if !rules.suffixes.iter().any(String::is_empty) => &name[..name.len() - suffix.len()],
            _ => name,
        };
        let slash = if rules.relative { "/" } else { "" };
        format!("{slash}{}", name.replace('/', &rules.separator))
    }

    /// Proves every page, with partials where that is possible.
    fn prove_with_partials(
        &self,
        written: &mut Vec<Written>,
        left: &mut Vec<Left>,
    ) -> (Vec<PageProof>, Site, Vec<ProposedPartial>) {
        let mut excluded: FxHashSet<String> = FxHashSet::default();
        let mut proven = None;
        for _ in 0..MOST_ATTEMPTS {
            let Some(Extracted { written: with, partials }) = self.extract(written, &excluded) else { break };
            let (proof, site) = self.proof(&with);
            let failed: Vec<&PageProof> = proof.iter().filter(|page| page.strength.is_none()).collect();
            if failed.is_empty() {
                *written = with;
                return (proof, site, partials);
            }
            // Perhaps it is not the partials that failed.
            if proven.is_none() {
                proven = Some(self.prove(written, left));
            }
            let extends =
                with.iter().filter_map(|written| Some((written.file.path.as_str(), written.extends.as_deref()?)));
            let extends: FxHashMap<&str, &str> = extends.collect();
            for page in failed {
                let chain = std::iter::successors(Some(page.page.as_str()), |path| extends.get(path).copied());
                excluded.extend(chain.map(str::to_owned));
            }
        }
        let (proof, site) = proven.unwrap_or_else(|| self.prove(written, left));
        (proof, site, Vec::new())
    }

    fn proof(&self, written: &[Written]) -> (Vec<PageProof>, Site) {
        let new = apply(self.site, written.iter().map(|written| &written.file), &self.dialect);
        let paths: Vec<&str> = self.site.pages().map(|id| self.site.get(id).path.as_str()).collect();
        let prove_one = |path: &&str| prove_page(self.site, &new, path, self.options.strength);
        (paths.par_iter().map(prove_one).collect(), new)
    }

    /// Proves every page; converted pages that fail are taken back and left, and
    /// layouts that nothing takes any more go with them.
    fn prove(&self, written: &mut Vec<Written>, left: &mut Vec<Left>) -> (Vec<PageProof>, Site) {
        loop {
            let (proof, new) = self.proof(written);
            let failed: FxHashMap<&str, String> = proof
                .iter()
                .filter(|page| page.strength.is_none())
                .map(|page| {
                    (page.page.as_str(), page.difference.as_ref().map(|d| d.message.clone()).unwrap_or_default())
                })
                .collect();
            let count = written.len();
            written.retain(|written| !failed.contains_key(written.file.path.as_str()));
            if written.len() == count {
                return (proof, new);
            }
            left.extend(failed.into_iter().map(|(page, why)| Left {
                page: page.to_owned(),
                reason: format!("its conversion could not be proven: {why}"),
            }));
            drop_unused(written);
        }
    }
}

/// Who fills a block.
#[derive(Clone, Default)]
struct Uses {
    /// Pages, in ascending order.
    pages: Vec<usize>,
    /// Bytes that these have in it.
    bytes: usize,
    /// How many layouts do.
    layouts: usize,
}

/// Who fills each block, by the index of the layout that defines it, and its name.
fn uses<'p>(placed: &'p [Placed<'_>]) -> FxHashMap<(usize, &'p str), Uses> {
    let owner = |index: usize, name: &str| {
        let mut at = index;
        loop {
            let owns = placed[at].layout.open.iter().any(|open| open.own && open.name == name);
            match placed[at].around {
                Some(around) if !owns => at = around,
                _ => return at,
            }
        }
    };
    let mut found: FxHashMap<(usize, &str), Uses> = FxHashMap::default();
    for (index, place) in placed.iter().enumerate() {
        for Open { name, hole, .. } in &place.layout.open {
            let uses = found.entry((owner(index, name), name)).or_default();
            for (at, page) in hole.members.iter().enumerate().filter(|(at, _)| !hole.follows[*at]) {
                if place.direct.binary_search(page).is_ok() {
                    uses.pages.push(*page);
                    uses.bytes += hole.contents[at].len();
                }
            }
        }
        if let (Body::Section(overrides), Some(around)) = (&place.layout.body, place.around) {
            for filled in overrides {
                found.entry((owner(around, &filled.name), &filled.name)).or_default().layouts += 1;
            }
        }
    }
    found.values_mut().for_each(|uses| uses.pages.sort_unstable());
    found
}

/// Counts the pages of each layout again after some were taken back.
fn recount(layouts: &mut Vec<ProposedLayout>, written: &[Written]) {
    layouts.retain(|layout| written.iter().any(|written| written.file.path == layout.path));
    let mut pages: FxHashMap<&str, usize> = FxHashMap::default();
    for written in written.iter().filter(|written| written.file.role == Role::Page) {
        *pages.entry(written.extends.as_deref().unwrap_or_default()).or_default() += 1;
    }
    // Those that extend a layout stand behind it.
    let mut beneath: FxHashMap<String, usize> = FxHashMap::default();
    for layout in layouts.iter_mut().rev() {
        layout.pages = pages.get(layout.path.as_str()).copied().unwrap_or(0);
        layout.beneath = layout.pages + beneath.get(&layout.path).copied().unwrap_or(0);
        if let Some(around) = &layout.extends {
            *beneath.entry(around.clone()).or_default() += layout.beneath;
        }
    }
}

/// Drops layouts that nothing takes.
fn drop_unused(written: &mut Vec<Written>) {
    loop {
        let used: FxHashSet<String> = written.iter().filter_map(|written| written.extends.clone()).collect();
        let count = written.len();
        written.retain(|written| written.file.role != Role::Layout || used.contains(&written.file.path));
        if written.len() == count {
            return;
        }
    }
}
