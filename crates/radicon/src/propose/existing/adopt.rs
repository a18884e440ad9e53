//! Sites that have layouts already: copies of their pages take them too, what all
//! pages of a layout say is said by the layout, and a file that hides one of
//! third-party and is mostly a copy of it becomes its child.

use rayon::prelude::*;
use rustc_hash::{FxHashMap, FxHashSet};
use xxhash_rust::xxh3::xxh3_64;

use crate::dialect::Kind;
use crate::markup::{Construct, ConstructId, NodeId, NodeKind};
use crate::propose::assemble::Plan;
use crate::propose::existing::fit::Filling;
use crate::propose::existing::frame::Skeleton;
use crate::propose::existing::lift::shown_in;
use crate::propose::families::frames::LEAST_PAGES;
use crate::propose::hierarchy::layout::{Body, Layout, Open};
use crate::propose::pages::page::{Page, Run};
use crate::propose::skeleton::hole::{Context, DefaultContent, Hole, TAGS, Variant};
use crate::propose::skeleton::unify::Unifier;
use crate::propose::writing::indent::{Style, indented};
use crate::propose::{Job, Left, ProposedFile, naming};
use crate::prove::Strength;
use crate::site::{Parent, Role, Template};
use crate::text::{SourceId, Span, is_blank, trim_blanks};

/// A page, and what it has in the regions of its layout.
struct Member {
    id: SourceId,
    page: Page,
    fillings: Vec<Filling>,
    /// It is a copy that has no layout yet.
    copy: bool,
}

impl Job<'_> {
    /// Gives pages that fit a layout of the site this layout; they are no candidates any
    /// more. With its `children` the layout's pages may change too.
    pub fn take_in(&self, candidates: &mut Vec<SourceId>, plan: &mut Plan, children: bool) {
        if !self.dialect.has_children() {
            return;
        }
        let skeletons = self.skeletons();
        if skeletons.is_empty() {
            return;
        }
        let best = |&id: &SourceId| {
            let template = self.site.get(id);
            if !self.speaks(template) || self.misread(template).is_some() {
                return None;
            }
            let page = self.page(template, &self.dialect);
            let (at, fillings) = best_fit(&skeletons, &page)?;
            Some((at, Member { id, page, fillings, copy: true }))
        };
        let fitting: Vec<(usize, Member)> = candidates.par_iter().filter_map(best).collect();
        let taken: FxHashSet<SourceId> = fitting.iter().map(|(_, member)| member.id).collect();
        candidates.retain(|id| !taken.contains(id));
        let mut members: Vec<Vec<Member>> = skeletons.iter().map(|_| Vec::new()).collect();
        for (at, member) in fitting {
            members[at].push(member);
        }
        for (skeleton, mut members) in skeletons.iter().zip(members) {
            let known = children && self.children(skeleton, &mut members);
            self.join(skeleton, members, known, plan);
        }
    }

    /// Says of pages that are left, in other dialects, which of them copy the skeleton of a layout in this one: once they
    /// are translated they can take it.
    pub fn tell_copies_in_others(&self, left: &mut [Left]) {
        let other = |page: &str| {
            let template = self.site.get(self.site.find(page)?);
            let is_free = template.parent().is_none() && !self.keeps_as_it_is(&template.path);
            (is_free && !self.speaks(template)).then_some(template)
        };
        if !self.dialect.has_children() || left.iter().all(|left| other(&left.page).is_none()) {
            return;
        }
        let skeletons = self.skeletons();
        for one in left {
            let Some(template) = other(&one.page) else { continue };
            let page = self.page(template, &template.dialect);
            if let Some((at, _)) = best_fit(&skeletons, &page) {
                let layout = &self.site.get(skeletons[at].layout).path;
                one.reason = format!("a copy of {layout}, which is in {}: translate it first", self.dialect.name);
            }
        }
    }

    /// Whether a template can be read in the job's dialect.
    pub fn speaks(&self, template: &Template) -> bool {
        template.dialect.forms.is_empty() || template.dialect.name == self.dialect.name
    }

    /// Adds the pages that take the layout already and consist of overrides alone;
    /// whether these are all that depend on it.
    fn children(&self, skeleton: &Skeleton, members: &mut Vec<Member>) -> bool {
        let is_child =
            |id: &SourceId| matches!(self.site.parent(*id), Parent::Found { id, .. } if *id == skeleton.layout);
        let children = self.site.ids().filter(is_child);
        let mut all = true;
        for id in children {
            let template = self.site.get(id);
            let kept = self.keeps_as_it_is(&template.path);
            match self.child(skeleton, id).filter(|_| !kept && template.role == Role::Page) {
                Some(member) => members.push(member),
                None => all = false,
            }
        }
        all
    }

    fn child(&self, skeleton: &Skeleton, id: SourceId) -> Option<Member> {
        let template = self.site.get(id);
        let mut fillings: Vec<Filling> = Vec::new();
        let page = self.page(template, &self.dialect);
        let items = &page.document.constructs.items;
        let mut outside = 0;
        let blank = |from: u32, to: u32| Span::new(from, to.max(from)).of(&page.source).iter().all(|b| is_blank(*b));
        // The first one of a name.
        let numbered = skeleton.regions.iter().enumerate().rev();
        let regions: FxHashMap<&str, usize> = numbered.map(|(at, region)| (region.name.as_str(), at)).collect();
        let mut until = ConstructId(0);
        for (at, item) in ConstructId::each(items) {
            if at < until {
                continue;
            }
            if !blank(outside, item.span.start) {
                return None;
            }
            outside = item.span.end;
            match (item.kind, item.partner) {
                (Kind::Parent, _) => {}
                (Kind::Block | Kind::Fill, Some(closer)) => {
                    let name = item.name.text(&page.source);
                    let region = *regions.get(&*name)?;
                    let inside = page.document.constructs.inside(at);
                    if inside.iter().any(|inner| inner.kind == Kind::Inherited || inner.kind.defines()) {
                        return None;
                    }
                    (outside, until) = (items[closer].span.end, closer.next());
                    fillings.push(self.overriding(template, &page, item, at, region));
                }
                _ => return None,
            }
        }
        let filled: FxHashSet<usize> = fillings.iter().map(|filling| filling.region).collect();
        let within = |outer: usize| filled.contains(&outer);
        let nested = filled.iter().any(|region| skeleton.regions[*region].outer.is_some_and(within));
        let end = page.source.len() as u32;
        fillings.sort_by_key(|filling| filling.region);
        (blank(outside, end) && !nested).then_some(Member { id, page, fillings, copy: false })
    }

    /// The override of a region by a child.
    fn overriding(
        &self,
        template: &Template,
        page: &Page,
        item: &Construct,
        at: ConstructId,
        region: usize,
    ) -> Filling {
        let document = &page.document;
        let mut nodes = document.nodes_in(Span::new(item.span.start, item.span.start + 1));
        let pair = nodes.find(|&node| document.nodes[node].kind == NodeKind::Pair);
        let run = pair.map(|node| (node, (document.nodes[node].inner, document.nodes[node].close)));
        let content = match run {
            Some((_, run)) if self.options.strength != Strength::Bytes => page.span(page.trimmed(run)),
            _ => template.inner(at),
        };
        Filling { region, content, place: run, default: false }
    }

    /// Plans the pages of a layout that is there. `known` says that nothing else depends on it.
    fn join(&self, skeleton: &Skeleton, mut members: Vec<Member>, known: bool, plan: &mut Plan) {
        let copies = members.iter().filter(|member| member.copy).count();
        if copies == 0 && members.len() < LEAST_PAGES {
            return;
        }
        members.sort_by(|a, b| a.page.path.cmp(&b.page.path));
        let fillings: Vec<(Vec<Filling>, bool)> =
            members.iter_mut().map(|member| (std::mem::take(&mut member.fillings), member.copy)).collect();
        let pages: Vec<Page> = members.into_iter().map(|member| member.page).collect();
        let job = Job { fine: true, ..self.clone() };
        let unifier = job.unifier(&pages, self.price);
        let all: Vec<usize> = (0..pages.len()).collect();
        let mut open = opens(skeleton, &fillings, &unifier);
        let edits = if known { self.pull_up(skeleton, &pages, &mut open) } else { Vec::new() };
        let path = self.site.get(skeleton.layout).path.clone();
        let (word, body) = (String::new(), Body::Existing { path, edits });
        let (other_words, told) = (Vec::new(), String::new());
        let mut layout = Layout { word, other_words, told, members: all, body, open, inner: Vec::new() };
        let own = layout.open.iter().map(|open| open.hole.own_bytes()).sum();
        // What has its layouts keeps them: only copies make new sections.
        if copies > 0 {
            let taken = skeleton.regions.iter().map(|region| region.name.clone()).collect();
            self.planner(&unifier, &pages, own).add_sections(&mut layout, taken);
        }
        // Pages that have the layout and keep what they have in it stay as they are.
        let pulled = |open: &Open, member: usize| {
            open.hole.variant(member).is_some_and(|variant| variant.follows && !fillings[member].1)
        };
        let direct = layout.direct();
        let kept = |member: &usize| {
            direct.binary_search(member).is_ok()
                && !fillings[*member].1
                && !layout.open.iter().any(|open| pulled(open, *member))
        };
        let kept: FxHashSet<usize> = layout.members.iter().copied().filter(kept).collect();
        if kept.len() < pages.len() && !self.add(&pages, &layout, naming::SECTION, &kept, plan) {
            let reason = "the existing layout would not make it smaller".to_owned();
            let left = |page: &Page| Left { page: page.path.clone(), reason: reason.clone() };
            plan.left.extend(pages.iter().zip(&fillings).filter(|(_, (_, copy))| *copy).map(|(page, _)| left(page)));
        }
    }

    /// Pulls up content that all pages of a layout have: the layout gets it.
    fn pull_up(&self, skeleton: &Skeleton, pages: &[Page], open: &mut [Open]) -> Vec<(Span, Vec<u8>)> {
        let layout = self.site.get(skeleton.layout);
        let mut edits = Vec::new();
        if self.keeps_as_it_is(&layout.path) {
            return edits;
        }
        for open in open.iter_mut() {
            let hole = &mut open.hole;
            let shared = pages.len() >= LEAST_PAGES && hole.overriding() == pages.len() && hole.only().is_some();
            let definition = layout.definition(hole.name.as_bytes());
            let pair = definition.filter(|&at| layout.constructs.items[at].partner.is_some());
            let Some(definition) = pair.filter(|_| shared) else { continue };
            if layout.constructs.items[definition].partner != Some(definition.next()) {
                continue;
            }
            let (page, content) = (hole.first_page(pages), hole.variants[0].content);
            let shown = if hole.lines { indented(page, content, b"") } else { content.of(&page.source).to_vec() };
            edits.push(shown_in(layout, definition, &shown, hole.lines));
            hole.variants.iter_mut().for_each(|variant| variant.follows = true);
            open.default = true;
        }
        edits
    }

    /// Copies of files that they hide become children of these.
    pub fn uncover(&self, plan: &mut Plan) {
        if !self.dialect.has_children() {
            return;
        }
        for (id, hidden) in self.site.hiding() {
            let template = self.site.get(id);
            let vendored = self.site.get(hidden);
            let kept = self.keeps_as_it_is(&template.path);
            let other = |template: &Template| template.dialect.name != self.dialect.name;
            if kept || !self.site.is_vendored(&vendored.path) || other(template) || other(vendored) {
                continue;
            }
            let Some(skeleton) = self.written_skeleton(hidden) else { continue };
            let page = self.page(template, &self.dialect);
            let Some(fillings) = skeleton.fit(&page) else { continue };
            let pages = [page];
            let unifier = self.unifier(&pages, self.price);
            let open = opens(&skeleton, &[(fillings, true)], &unifier);
            let target = self.written_name(&template.path, Kind::Parent);
            let bytes = self.writer(&pages, Style::of([&pages[0].source[..]].into_iter())).page(0, &target, &open);
            if bytes.len() * 5 < template.source.len() * 4 {
                plan.replace(ProposedFile {
                    path: template.path.clone(),
                    role: template.role,
                    dialect: self.dialect.name.clone(),
                    extends: Some(self.site.get(hidden).path.clone()),
                    bytes,
                });
            }
        }
    }
}

/// The skeleton in which a page has least of its own, by its number, if it gets smaller with it.
fn best_fit(skeletons: &[Skeleton], page: &Page) -> Option<(usize, Vec<Filling>)> {
    let fit = |(at, skeleton): (usize, &Skeleton)| {
        let fillings = skeleton.fit(page)?;
        let own = fillings.iter().filter(|filling| !filling.default);
        Some((own.map(|filling| filling.content.len() + TAGS).sum::<usize>(), at, fillings))
    };
    let (own, at, fillings) = skeletons.iter().enumerate().filter_map(fit).min_by_key(|fit| (fit.0, fit.1))?;
    (own + TAGS < page.source.len()).then_some((at, fillings))
}

/// The regions of a skeleton as holes that the pages fill.
fn opens(skeleton: &Skeleton, fillings: &[(Vec<Filling>, bool)], unifier: &Unifier<'_>) -> Vec<Open> {
    let region = |index: usize| {
        let region = &skeleton.regions[index];
        let inner = region.inner().of(&skeleton.page.source);
        let is_empty = inner.iter().all(|b| is_blank(*b));
        let default = xxh3_64(inner) | 1;
        let found = |(member, (list, copy)): (usize, &(Vec<Filling>, bool))| {
            let at = list.binary_search_by_key(&index, |filling| filling.region).ok()?;
            Some((member, list[at], *copy))
        };
        let found: Vec<(usize, Filling, bool)> = fillings.iter().enumerate().filter_map(found).collect();
        let hash = |(member, filling, _): &(usize, Filling, bool)| {
            let bytes = filling.content.of(&unifier.pages[*member].source);
            match filling.place {
                _ if filling.default && is_empty => 0,
                _ if filling.default => default,
                _ if bytes.is_empty() => 0,
                Some((_, run)) if !skeleton.exact => unifier.hash(*member, run),
                _ => xxh3_64(bytes) | 1,
            }
        };
        let places: Option<Vec<(NodeId, Run)>> = found.iter().map(|(_, filling, _)| filling.place).collect();
        let lines = !skeleton.exact
            && places.as_ref().is_some_and(|places| {
                let copies = found.iter().zip(places).filter(|((_, _, copy), _)| *copy);
                let (pages, places): (Vec<usize>, Vec<&(NodeId, Run)>) =
                    copies.map(|((page, ..), place)| (*page, place)).unzip();
                let nodes: Vec<NodeId> = places.iter().map(|(node, _)| *node).collect();
                let runs: Vec<Run> = places.iter().map(|(_, run)| *run).collect();
                let written = found.iter().filter(|(_, _, copy)| !copy).all(|(page, filling, _)| {
                    unifier.pages[*page].source[..filling.content.start as usize]
                        .iter()
                        .rev()
                        .find(|b| !matches!(b, b' ' | b'\t'))
                        == Some(&b'\n')
                });
                written
                    && unifier.blank_safe(&pages, &nodes, &runs)
                    && (pages.is_empty() || unifier.stands_apart(&pages, &runs))
            });
        let context = match places.as_ref().and_then(|places| places.first()) {
            Some((node, _)) => Context::Content { parent: *node },
            None => Context::Text { node: NodeId::ROOT },
        };
        let variant = |filling: &(usize, Filling, bool)| Variant {
            page: filling.0,
            content: filling.1.content,
            hash: hash(filling),
            place: filling.1.place.filter(|_| places.is_some()),
            follows: filling.1.default,
        };
        let variants = found.iter().map(variant).collect();
        let (default, name) = (DefaultContent::Empty, region.name.clone());
        let hole = Hole { context, variants, default, lines, within_line: false, name, is_named: false, again: false };
        let shown = match skeleton.knows_defaults {
            true if skeleton.exact => inner.to_vec(),
            true => trim_blanks(inner).to_vec(),
            false => Vec::new(),
        };
        Open { hole, outer: region.outer, own: true, default: !is_empty, shown }
    };
    (0..skeleton.regions.len()).map(region).collect()
}

#[cfg(test)]
mod tests {
    use crate::propose::testing::{copies, proposed, site, text};

    const BASE: &str = "<!DOCTYPE html>\n<html><head><title>{% block title %}{% endblock %}</title></head>\n<body><header><p>Tidewater Ferries, seven harbours every day</p></header>\n<main>{% block main %}{% endblock %}</main></body></html>\n";

    #[test]
    fn a_page_that_copies_a_layout_becomes_its_child() {
        let copy = BASE
            .replace("{% block title %}{% endblock %}", "@")
            .replace("{% block main %}{% endblock %}", "<h1>@</h1>\n<p>All about the @</p>");
        let child =
            "{% extends 'base.html' %}\n{% block title %}Old{% endblock %}\n{% block main %}<p>Old</p>{% endblock %}\n";
        let files = [("base.html".to_owned(), BASE.to_owned()), ("old.html".to_owned(), child.to_owned())];
        let site = site(files.into_iter().chain(copies("@.html", &copy)));
        let proposal = proposed(&site);
        let [layout] = &proposal.layouts[..] else { panic!("{:?}", proposal.layouts) };
        assert!(layout.existing && layout.path == "base.html", "{layout:?}");
        let page = text(&proposal, "boats.html");
        assert!(page.contains("extends") && page.contains("<h1>Boats</h1>") && !page.contains("<header>"), "{page}");
        assert!(!proposal.files.iter().any(|file| file.path == "old.html"));
    }
}
