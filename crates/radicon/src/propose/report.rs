//! What each proposed layout is, read from the files that were proven.

use rayon::prelude::*;
use rustc_hash::{FxHashMap, FxHashSet};

use super::pages::heal;
use super::proposal::{ProposedBlock, ProposedFile, ProposedLayout};
use super::skeleton::hole::TAGS;
use crate::markup::{ConstructId, Document, NodeId, NodeKind};
use crate::resolve::Resolver;
use crate::rooted::unmarked;
use crate::site::{Site, Template};
use crate::text::{SourceId, Span, trim_blanks};

/// How many pages that override a block are named.
const SUCH_AS: usize = 3;

/// The layouts of these paths; those that no file of the proposal takes are left out.
pub fn of_layouts(paths: &[String], files: &[ProposedFile], before: &Site, after: &Site) -> Vec<ProposedLayout> {
    let layouts: Vec<SourceId> = paths.iter().filter_map(|path| after.find(path)).collect();
    let listed: FxHashSet<SourceId> = layouts.iter().copied().collect();
    let taker = |file: &ProposedFile| {
        let id = after.find(&file.path).filter(|id| file.extends.is_some() && !listed.contains(id))?;
        Some(Resolver::new(after).chain(id).levels).filter(|levels| levels.iter().any(|level| listed.contains(level)))
    };
    let takers: Vec<Vec<SourceId>> = files.par_iter().filter_map(taker).collect();
    let above: FxHashMap<SourceId, Vec<SourceId>> =
        layouts.iter().map(|&layout| (layout, Resolver::new(after).chain(layout).levels)).collect();
    let mut uses: FxHashMap<(SourceId, &[u8]), Uses<'_>> = FxHashMap::default();
    for levels in &takers {
        for (name, content) in definitions(after.get(levels[0])) {
            let block = (owner(after, levels, name), name);
            uses.entry(block).or_default().pages.push((levels[0], content));
        }
    }
    for &layout in &layouts {
        let fills =
            definitions(after.get(layout)).into_iter().map(|(name, _)| (owner(after, &above[&layout], name), name));
        fills.filter(|(owner, _)| *owner != layout).for_each(|block| uses.entry(block).or_default().layouts += 1);
    }
    let facts = Facts { before, after, takers, above, uses };
    layouts.iter().map(|&layout| facts.layout(layout)).filter(|layout| layout.beneath > 0).collect()
}

/// Who overrides a block.
#[derive(Default)]
struct Uses<'s> {
    /// Pages, and what they say in it.
    pages: Vec<(SourceId, &'s [u8])>,
    layouts: usize,
}

impl Uses<'_> {
    fn bytes(&self) -> usize {
        self.pages.iter().map(|(_, content)| content.len()).sum()
    }
}

/// The blocks that a template defines, in the order of their places, with what is in them.
fn definitions(template: &Template) -> Vec<(&[u8], &[u8])> {
    let definition = |name| Some((name, inner(template, template.definition(name)?)));
    let mut names: Vec<&[u8]> = Vec::new();
    for (_, item) in template.blocks() {
        let name = item.name.of(&template.source);
        if !names.contains(&name) {
            names.push(name);
        }
    }
    names.into_iter().filter_map(definition).collect()
}

fn inner(template: &Template, at: ConstructId) -> &[u8] {
    trim_blanks(template.inner(at).of(&template.source))
}

/// The outermost of these levels that has a block of this name.
fn owner(site: &Site, levels: &[SourceId], name: &[u8]) -> SourceId {
    let defines = |&&level: &&SourceId| site.get(level).definition(name).is_some();
    // Within an override of another block it is a block of its own.
    let is_own = |&&level: &&SourceId| {
        let template = site.get(level);
        template.definition(name).is_some_and(|at| template.outermost().all(|(outer, _)| outer != at))
    };
    let found = levels.iter().find(is_own).or_else(|| levels.iter().rev().find(defines));
    found.copied().unwrap_or(levels[0])
}

struct Facts<'s> {
    before: &'s Site,
    after: &'s Site,
    /// The files that take one of the layouts, each with the levels above it.
    takers: Vec<Vec<SourceId>>,
    /// Each layout with the levels above it.
    above: FxHashMap<SourceId, Vec<SourceId>>,
    uses: FxHashMap<(SourceId, &'s [u8]), Uses<'s>>,
}

impl<'s> Facts<'s> {
    fn layout(&self, layout: SourceId) -> ProposedLayout {
        let template = self.after.get(layout);
        let around = self.above[&layout].get(1).filter(|around| self.above.contains_key(around));
        let is_new = self.before.find(&template.path).is_none();
        let beneath: Vec<&Vec<SourceId>> = self.takers.iter().filter(|levels| levels.contains(&layout)).collect();
        let direct = beneath.iter().filter(|levels| levels.get(1) == Some(&layout)).count();
        let defined = definitions(template);
        let fills = defined.iter().filter(|(name, _)| owner(self.after, &self.above[&layout], name) != layout);
        let fills: Vec<(&[u8], &[u8])> = fills.copied().collect();
        let document = Document::read(&template.source, &template.dialect);
        let mut names: FxHashSet<&[u8]> = fills.iter().map(|(name, _)| *name).collect();
        let own = template.regions().filter(|(_, item)| names.insert(item.name.of(&template.source)));
        let blocks: Vec<ProposedBlock> = own.map(|(at, _)| self.block(layout, at, &document, beneath.len())).collect();
        let saves = match around {
            Some(_) => self.saves_in_section(layout, &fills, &beneath),
            None => self.saves(layout, &beneath),
        };
        let extends = self.above[&layout].get(1).filter(|_| is_new || around.is_some());
        ProposedLayout {
            path: template.path.clone(),
            extends: extends.map(|&id| self.after.get(id).path.clone()),
            existing: !is_new,
            reason: None,
            pages: direct,
            beneath: beneath.len(),
            saves,
            blocks,
            fills: fills.iter().map(|(name, _)| String::from_utf8_lossy(name).into_owned()).collect(),
        }
    }

    /// A block that a layout defines.
    fn block(&self, layout: SourceId, at: ConstructId, document: &Document, beneath: usize) -> ProposedBlock {
        let template = self.after.get(layout);
        let item = &template.constructs.items[at];
        let name = item.name.of(&template.source);
        let none = Uses::default();
        let uses = self.uses.get(&(layout, name)).unwrap_or(&none);
        let shown = inner(template, at);
        let (frame, within) = around(template, document, template.whole(at));
        let (count, bytes) = (uses.pages.len(), uses.bytes());
        let tags = TAGS * (1 + count);
        let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
        let slips = |(_, content): &(SourceId, &[u8])| heal::is_slip(&text(shown), &text(content));
        let path = |(id, _): &(SourceId, &[u8])| self.after.get(*id).path.clone();
        ProposedBlock {
            name: text(name),
            line: template.position(item.span.start).line,
            default: !shown.is_empty(),
            overridden_by: count,
            layouts: uses.layouts,
            such_as: uses.pages.iter().take(SUCH_AS).map(path).collect(),
            bytes,
            cost: bytes + tags,
            without: bytes + tags + count * frame,
            within,
            drift: count == 1 && uses.layouts == 0 && heal::is_usual(beneath, 1) && uses.pages.iter().all(slips),
        }
    }

    /// The bytes that a base layout saves, with all that extend it.
    fn saves(&self, layout: SourceId, beneath: &[&Vec<SourceId>]) -> usize {
        let taken: FxHashSet<SourceId> = beneath.iter().flat_map(|levels| levels.iter().copied()).collect();
        let is_family = |id: &SourceId| self.above.get(id).is_none_or(|levels| levels.contains(&layout));
        let files = taken.into_iter().filter(is_family).map(|id| self.after.get(id));
        let size = |template: &Template| template.source.len();
        let change =
            |file: &Template| (self.before.find(&file.path).map_or(0, |id| size(self.before.get(id))), size(file));
        let (before, after) = files.map(change).fold((0, 0), |sum, file| (sum.0 + file.0, sum.1 + file.1));
        before.saturating_sub(after)
    }

    /// What a layout saves beyond the one around it, about: what it fills would be said by each of its pages, and its
    /// own blocks would need no tags.
    fn saves_in_section(&self, layout: SourceId, fills: &[(&[u8], &[u8])], beneath: &[&Vec<SourceId>]) -> usize {
        let defines = |level: &SourceId, name: &[u8]| self.after.get(*level).definition(name).is_some();
        let says = |levels: &[SourceId], name: &[u8]| levels.iter().find(|level| defines(level, name)) == Some(&layout);
        let takers = |name: &[u8]| beneath.iter().filter(|levels| says(levels, name)).count();
        let said = fills.iter().map(|(name, content)| takers(name).saturating_sub(1) * (content.len() + TAGS));
        let own = self.uses.iter().filter(|((owner, _), _)| *owner == layout);
        let replaced = own.map(|((_, name), uses)| {
            let template = self.after.get(layout);
            let shown = template.definition(name).map_or(0, |at| inner(template, at).len());
            (uses.pages.len() + uses.layouts) * (shown + TAGS)
        });
        said.sum::<usize>().saturating_sub(replaced.sum())
    }
}

/// The bytes that are around a block in the element that holds it, and this element's tag.
fn around(template: &Template, document: &Document, block: Span) -> (usize, String) {
    let holds = |node: &NodeId| {
        let span = document.span(*node);
        document.nodes[*node].kind == NodeKind::Element && span.start < block.start && span.end > block.end
    };
    let Some(node) = document.nodes_in(Span::new(0, block.start)).rev().find(holds) else {
        return (template.source.len().saturating_sub(block.len()), String::new());
    };
    let element = &document.nodes[node];
    let tag = Span::new(document.offset(element.first), document.offset(element.inner));
    // Without the tags of blocks in it.
    let items = template.constructs.items.iter().map(|item| item.span);
    let mut inside = items.filter(|span| tag.start <= span.start && span.end <= tag.end);
    let text = match inside.next() {
        None => tag.text(&template.source).into_owned(),
        Some(first) => {
            let last = inside.next_back().unwrap_or(first);
            let (before, after) = (Span::new(tag.start, first.start), Span::new(last.end, tag.end));
            format!("{}…{}", before.text(&template.source), after.text(&template.source))
        }
    };
    let tag = unmarked(&text.split_whitespace().collect::<Vec<_>>().join(" "));
    (document.span(node).len().saturating_sub(block.len()), tag)
}

#[cfg(test)]
mod tests {
    use crate::propose::testing::{copies, proposed, site};

    #[test]
    fn a_layout_tells_of_its_blocks_and_what_it_saves() {
        let page = "<html><head><title>@</title></head><body><header><p>Tidewater Ferries, seven harbours every day</p></header><main><h1>@</h1><p>All about the @</p></main><footer><p>Ask at the quay office from seven to nineteen</p></footer></body></html>\n";
        let site = site(copies("@.html", page));
        let proposal = proposed(&site);
        let [layout] = &proposal.layouts[..] else { panic!("{:?}", proposal.layouts) };
        assert_eq!((layout.pages, layout.beneath, layout.existing), (7, 7, false));
        assert_eq!(layout.saves, proposal.before.bytes - proposal.after.bytes);
        for block in &layout.blocks {
            assert_eq!((block.overridden_by, block.layouts, block.drift), (7, 0, false), "{block:?}");
            assert_eq!(block.such_as, ["boats.html", "crews.html", "fares.html"]);
            assert!(block.bytes > 0 && block.cost > block.bytes && block.without > block.bytes, "{block:?}");
        }
    }
}
