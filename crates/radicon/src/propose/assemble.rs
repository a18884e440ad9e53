//! From plans to files, and what they are, for people and programs.

use rayon::prelude::*;
use rustc_hash::{FxHashMap, FxHashSet};

use super::hole::{Context, Hole, TAGS};
use super::levels::{Body, Layout, Open, Planner};
use super::page::Page;
use super::sections::Sections;
use super::settle::Draft;
use super::tidy::Style;
use super::unify::Unifier;
use super::write::Writer;
use super::{Job, Left, ProposedBlock, ProposedFile, ProposedLayout, holes, name};
use crate::dialect::Kind;
use crate::markup::{Constructs, NodeKind};
use crate::prove::Strength;
use crate::site::{Home, Partials, Role};
use crate::text::LineIndex;
use crate::urls::unmarked;

/// What is proposed so far.
#[derive(Default)]
pub(super) struct Plan {
    pub written: Vec<ProposedFile>,
    pub layouts: Vec<ProposedLayout>,
    pub left: Vec<Left>,
    /// Paths of new files.
    taken: Vec<String>,
}

impl Plan {
    /// Puts a file in the place of what was proposed for it before.
    pub fn replace(&mut self, file: ProposedFile) {
        self.written.retain(|written| written.path != file.path);
        self.written.push(file);
    }
}

/// At the usual price of a block a section saves a 200th of the bytes that a family's
/// pages have of their own beside their main content.
const SHARE_OF_OWN: u64 = 20_000;

/// A layout with more blocks is hard to know.
const MOST_BLOCKS: usize = 16;

/// How much dearer blocks are where there would be too many.
const DEARER: [u64; 3] = [2, 4, 8];

/// What fewer blocks may make of the size, in percent.
const MOST_FOR_FEWER: usize = 105;

/// A layout with its place.
pub(super) struct Placed<'a> {
    layout: &'a Layout,
    path: String,
    /// The index of the one around it.
    around: Option<usize>,
    /// Pages that take it directly.
    direct: Vec<usize>,
}

impl Job<'_> {
    /// Plans layouts for families of pages.
    pub(super) fn found(&self, pages: &[Page], drafts: Vec<Draft>, plan: &mut Plan, left: &mut Vec<Left>) {
        for draft in drafts {
            let base = self.layouts(pages, draft);
            if !self.add(pages, &base, &FxHashSet::default(), plan) {
                let reason = "no layout that would make the pages smaller together".to_owned();
                let of = |&member: &usize| Left { page: pages[member].path.clone(), reason: reason.clone() };
                left.extend(base.members.iter().map(of));
            }
        }
    }

    /// The layouts of a family: where one has too many blocks with fewer and bigger ones, if that costs little.
    pub(super) fn layouts(&self, pages: &[Page], draft: Draft) -> Layout {
        let price = draft.price;
        let base = self.layouts_at(price, pages, draft);
        let is_free = self.options.is_small() || self.options.strength == Strength::Bytes;
        if is_free || base.widest() <= MOST_BLOCKS {
            return base;
        }
        let size = |layout: &Layout| self.cost(pages, layout, TAGS as u64);
        let with_dearer = |times: u64| {
            let (members, price) = (base.members.clone(), price * times);
            let unified = self.unifier(pages, price).pages(&members);
            self.layouts_at(price, pages, Draft { members, unified, price })
        };
        let most = size(&base) * MOST_FOR_FEWER / 100;
        let others = DEARER.into_iter().map(with_dearer).take_while(|other| size(other) <= most);
        let mut narrowest = base.widest();
        let mut best = None;
        for other in others {
            if other.widest() < narrowest {
                narrowest = other.widest();
                best = Some(other);
            }
            if narrowest <= MOST_BLOCKS {
                break;
            }
        }
        best.unwrap_or(base)
    }

    /// The layouts of a family with blocks at a price.
    fn layouts_at(&self, price: u64, pages: &[Page], draft: Draft) -> Layout {
        let unifier = self.unifier(pages, self.price.max(price));
        // Beside the main content, whose words are no skeleton.
        let own: Vec<usize> = holes(&draft.unified.pieces).iter().map(|hole| hole.own_bytes()).collect();
        let own = own.iter().sum::<usize>() - own.iter().max().unwrap_or(&0);
        let planner = self.planner(&unifier, pages, own);
        let base = planner.plan(draft.unified, draft.members);
        // Exact output keeps its cut: anew, it gave sections of one small block.
        if base.inner.is_empty() || self.options.strength == Strength::Bytes {
            return base;
        }
        // What only sections fill seemed dearer, and was joined with what stands beside it.
        let mut sections = Sections::default();
        let mut open: Vec<(&Layout, Option<usize>)> = base.inner.iter().map(|layout| (layout, None)).collect();
        while let Some((layout, around)) = open.pop() {
            let number = sections.add(&layout.members, pages.len(), around);
            open.extend(layout.inner.iter().map(|inner| (inner, Some(number))));
        }
        let unified = Unifier { sections, ..self.unifier(pages, price) }.pages(&base.members);
        let other = planner.plan(unified, base.members.clone());
        let cost = |layout: &Layout| self.cost(pages, layout, price);
        if cost(&other) < cost(&base) { other } else { base }
    }

    /// What a family's layouts and pages cost, about: their bytes, and blocks at their price.
    pub(super) fn cost(&self, pages: &[Page], base: &Layout, price: u64) -> usize {
        let placed = self.places(pages, base, &self.home(Role::Layout), &mut Vec::new());
        let layouts: usize = placed.iter().map(|place| place.layout.body.bytes()).sum();
        let uses = uses(&placed, &FxHashSet::default());
        let said: usize = uses.values().map(|uses| uses.bytes).sum();
        let tags: usize = uses.values().map(|uses| 1 + uses.pages.len() + uses.layouts).sum();
        layouts + said + price as usize * tags
    }

    /// Who plans sections for pages that have so many bytes of their own. A section
    /// is one file more to know, so where there is much it must save the more.
    pub(super) fn planner<'a>(&'a self, unifier: &'a Unifier<'a>, pages: &'a [Page], own: usize) -> Planner<'a> {
        let price = self.price;
        Planner {
            unifier,
            pages,
            price: self.options.min_saving.unwrap_or((price * 3).max(own as u64 * price / SHARE_OF_OWN)),
            options: self.options,
            levels: self.options.levels,
            partials: self.options.partials != Partials::None && self.dialect.form(Kind::Include).is_some(),
            values: self.passes_values(),
            again: self.dialect.form(Kind::Again).is_some(),
        }
    }

    /// Writes a layout, those that extend it, and their pages but for those that are
    /// kept; whether that makes them smaller.
    pub(super) fn add(&self, pages: &[Page], base: &Layout, kept: &FxHashSet<usize>, plan: &mut Plan) -> bool {
        let home = self.home(Role::Layout);
        let known = plan.taken.len();
        let placed = self.places(pages, base, &home, &mut plan.taken);
        let files = self.write(pages, &placed, kept);
        let old = |file: &ProposedFile| self.site.find(&file.path).map_or(0, |id| self.site.get(id).source.len());
        let now: usize = files.iter().map(old).sum();
        let after: usize = files.iter().map(|file| file.bytes.len()).sum();
        let pays = after < now;
        if pays {
            for mut report in self.reports(pages, &placed, &files, kept) {
                if report.extends.is_none() {
                    report.saves = now - after;
                }
                match plan.layouts.iter_mut().find(|known| known.path == report.path) {
                    Some(known) => known.add(&report),
                    None => plan.layouts.push(report),
                }
            }
            plan.written.extend(files);
        } else {
            plan.taken.truncate(known);
        }
        pays
    }

    /// The layouts of a family, the outer before the inner, with their paths.
    fn places<'l>(&self, pages: &[Page], base: &'l Layout, home: &Home, taken: &mut Vec<String>) -> Vec<Placed<'l>> {
        let mut found: Vec<Placed<'l>> = Vec::new();
        let everything: Vec<usize> = (0..pages.len()).collect();
        let mut open = vec![(base, None)];
        while let Some((layout, around)) = open.pop() {
            let of_family = || match name::of_section(pages, &everything, &layout.members) {
                _ if taken.is_empty() => "base".to_owned(),
                word if word == name::SECTION => name::of_frame(pages, &layout.members).unwrap_or("base".to_owned()),
                word => word,
            };
            let path = match &layout.body {
                Body::Existing { path, .. } => path.clone(),
                Body::Base { .. } => self.free_path(home, &of_family(), taken),
                Body::Section(_) => {
                    self.free_path(home, &self.section_word(layout, around.map(|at| &found[at]), taken), taken)
                }
            };
            open.extend(layout.inner.iter().rev().map(|inner| (inner, Some(found.len()))));
            found.push(Placed { layout, path, around, direct: layout.direct() });
        }
        found
    }

    /// What a section's layout is called: where its word is taken, by the folders of its pages, with the word of the one
    /// around it, or by what its frame begins with.
    fn section_word(&self, layout: &Layout, around: Option<&Placed<'_>>, taken: &[String]) -> String {
        let outer = around.map(|around| around.layout.word.as_str()).filter(|word| !word.is_empty());
        let inside = outer.map(|outer| format!("{outer}-{}", layout.word));
        let words = std::iter::once(&layout.word).chain(&layout.other_words).chain(&inside);
        let is_free = |word: &&String| taken.iter().all(|path| name::word(name::stem(path)) != **word);
        words.filter(|word| name::is_telling(word)).find(is_free).unwrap_or(&layout.word).clone()
    }

    /// Who writes these pages' files, in the style of these members.
    pub(super) fn writer<'a>(&'a self, pages: &'a [Page], members: &[usize]) -> Writer<'a> {
        let style = Style::of(members.iter().take(50).map(|&member| &pages[member].source[..]));
        Writer { dialect: &self.dialect, pages, strength: self.options.strength, style, short: self.options.is_small() }
    }

    /// All layouts, then the pages.
    fn write(&self, pages: &[Page], placed: &[Placed<'_>], kept: &FxHashSet<usize>) -> Vec<ProposedFile> {
        let writer = self.writer(pages, &placed[0].layout.members);
        let dialect = || self.dialect.name.clone();
        let layout = |place: &Placed<'_>| {
            let extends = place.around.map(|around| placed[around].path.clone());
            let target = extends.as_ref().map(|path| self.written_name(path, Kind::Parent)).unwrap_or_default();
            let bytes = match &place.layout.body {
                Body::Base { pieces, names } => writer.layout(pieces, names),
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

    /// What each layout is, for people and programs.
    fn reports(
        &self,
        pages: &[Page],
        placed: &[Placed<'_>],
        files: &[ProposedFile],
        kept: &FxHashSet<usize>,
    ) -> Vec<ProposedLayout> {
        let uses = uses(placed, kept);
        let report = |(index, place): (usize, &Placed<'_>)| {
            let written = files.iter().find(|file| file.path == place.path);
            let kept = || Some(&self.site.get(self.site.find(&place.path)?).source[..]);
            let source = written.map(|file| &file.bytes[..]).or_else(kept).unwrap_or_default();
            let constructs = Constructs::read(source, &self.dialect);
            let lines = LineIndex::new(source);
            let line = |name: &str| {
                let is_block = |kind: Kind| matches!(kind, Kind::Block | Kind::Slot);
                let mut blocks = constructs.items.iter().filter(|item| is_block(item.kind));
                let found = blocks.find(|item| item.name.of(source) == name.as_bytes());
                found.map(|item| lines.line(item.span.start))
            };
            let block = |open: &Open| {
                let uses = uses.get(&(index, open.name.as_str())).cloned().unwrap_or_default();
                let (size, within) = around(pages, &open.hole, &uses.pages);
                let tags = TAGS * (1 + uses.pages.len());
                Some(ProposedBlock {
                    cost: uses.bytes + tags,
                    without: size + tags,
                    within,
                    name: open.name.clone(),
                    line: line(&open.name)?,
                    default: open.default,
                    overridden_by: uses.pages.len(),
                    layouts: uses.layouts,
                    such_as: uses.pages.iter().take(3).map(|&page| pages[page].path.clone()).collect(),
                    bytes: uses.bytes,
                    drift: open.hole.members.len() > 3
                        && open.hole.overriding() == 1
                        && open.default
                        && !name::marks_current(pages, &open.hole),
                })
            };
            ProposedLayout {
                path: place.path.clone(),
                extends: place.around.map(|around| placed[around].path.clone()),
                existing: matches!(place.layout.body, Body::Existing { .. }),
                pages: place.direct.len(),
                beneath: place.layout.members.len(),
                saves: place.layout.saves,
                blocks: place.layout.open.iter().filter(|open| open.own).filter_map(block).collect(),
                fills: match &place.layout.body {
                    Body::Section(overrides) => overrides.iter().map(|filled| filled.name.clone()).collect(),
                    Body::Base { .. } | Body::Existing { .. } => Vec::new(),
                },
            }
        };
        placed.iter().enumerate().map(report).collect()
    }

    /// Where files of a role go, and what they are called.
    pub(super) fn home(&self, role: Role) -> Home {
        let folder = if role == Role::Layout { "layouts" } else { "partials" };
        Home::of(self.site, &self.dialect, role, folder, None)
    }

    /// A path for a new file.
    pub(super) fn free_path(&self, home: &Home, word: &str, taken: &mut Vec<String>) -> String {
        let word = self.options.called(word.to_owned());
        let path = home.path(&word, |path| taken.iter().all(|known| known != path) && self.site.find(path).is_none());
        taken.push(path.clone());
        path
    }

    /// How a template names the file.
    pub(super) fn written_name(&self, path: &str, kind: Kind) -> String {
        self.site.name_for(path, &self.dialect, kind)
    }
}

impl ProposedLayout {
    /// Counts the pages of another report of the same layout too.
    fn add(&mut self, other: &Self) {
        self.pages += other.pages;
        self.beneath += other.beneath;
        for block in &other.blocks {
            if let Some(known) = self.blocks.iter_mut().find(|known| known.name == block.name) {
                known.overridden_by += block.overridden_by;
                known.bytes += block.bytes;
                known.cost += block.cost;
                known.without += block.without;
                known.drift &= block.overridden_by == 0;
            }
        }
    }
}

/// The bytes that these pages have in the element around a hole, and its tag in the first page.
fn around(pages: &[Page], hole: &Hole, overriding: &[usize]) -> (usize, String) {
    let Some(&first) = hole.members.first() else { return (0, String::new()) };
    let element = |page: &Page, mut node: u32| {
        while node > 0 && page.document.nodes[node as usize].kind != NodeKind::Element {
            node = page.document.nodes[node as usize].parent;
        }
        node
    };
    let shown = element(
        &pages[first],
        match hole.context {
            Context::Content { parent } => parent,
            Context::Text { node } | Context::Value { node, .. } | Context::Attributes { node } => node,
        },
    );
    // Only between nodes is it known where other pages have it.
    let size = |member: &usize| match hole.members.binary_search(member).ok().and_then(|at| hole.siblings.get(at)) {
        Some((node, _)) => pages[*member].document.span(element(&pages[*member], *node)).len(),
        None => pages[first].document.span(shown).len(),
    };
    let page = &pages[first];
    let node = &page.document.nodes[shown as usize];
    let tag = page.span((node.first, if shown > 0 { node.inner } else { node.first })).text(&page.source);
    (overriding.iter().map(size).sum(), unmarked(&tag.split_whitespace().collect::<Vec<_>>().join(" ")))
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

/// Who fills each block but those that are kept, by the index of the layout that defines it, and its name.
fn uses<'p>(placed: &'p [Placed<'_>], kept: &FxHashSet<usize>) -> FxHashMap<(usize, &'p str), Uses> {
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
                if place.direct.binary_search(page).is_ok() && !kept.contains(page) {
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
