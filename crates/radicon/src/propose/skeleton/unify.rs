//! Anti-unification: one template for many pages. What all share stays; what
//! differs becomes a hole, later a block.
//!
//! The trees are walked together from the root. Siblings are aligned, what is
//! aligned is unified in turn, what is not becomes a hole; then neighbouring
//! holes are joined wherever one block costs less than two. A hole is always a
//! run of whole siblings, attributes, or text within one node, so what is
//! in it is balanced if the page is.

use rayon::prelude::*;
use rustc_hash::FxHashMap;

use crate::hash::mix;
use crate::markup::{NodeId, NodeKind, TokenId};
use crate::propose::hierarchy::sections::Sections;
use crate::propose::naming;
use crate::propose::pages::page::{Key, Page, Run};
use crate::propose::skeleton::align::columns;
use crate::propose::skeleton::costs::{Prices, said};
use crate::propose::skeleton::hole::{Context, Hole, Piece, Variant, choose_default, clip, majority};
use crate::propose::skeleton::marks::with_mark;
use crate::prove::Strength;
use crate::site::Selector;
use crate::text::{Span, is_blank};

/// The deepest nesting that is looked into; below it regions are compared as a whole.
const MAX_DEPTH: usize = 150;

/// Of so many pages at least each processor compares some.
const SIDE_BY_SIDE: usize = 512;

/// What so many percent of the pages have is their default, with blocks in it; less is that of a kind of pages.
const MOST: usize = 90;
const MOST_WHERE_SIZE_IS_ALL: usize = 75;

/// How many blocks a block inside a tag counts for, where it looks like a tag itself.
const TAG_IN_TAG: u64 = 10;

/// A template and what it costs.
#[derive(Clone, Debug, Default)]
pub struct Unified {
    pub pieces: Vec<Piece>,
    pub cost: u64,
}

pub struct Unifier<'a> {
    pub pages: &'a [Page],
    pub prices: Prices,
    pub strength: Strength,
    /// Tags alone on a line take the line with them.
    pub line_rule: bool,
    /// Tags of the dialect look like tags of HTML: one inside another would keep
    /// a browser from showing the file as it is.
    pub like_html: bool,
    /// Elements whose content is one block, with its name.
    pub regions: &'a [(String, Selector)],
    /// Whether a place may look otherwise in the page where a link leads.
    pub marks: bool,
    /// Whether what most pages have alike may be a default with holes of its own.
    pub nested_defaults: bool,
    /// The sections, if these are known: what one fills for its pages is said once.
    pub sections: Sections,
}

/// A stretch between or at columns, with its run in every member.
pub(super) struct Item {
    runs: Vec<Run>,
    pub hashes: Vec<u64>,
    /// The text alone, where pages may be marked in it.
    pub texts: Vec<u32>,
    pub lengths: Vec<u64>,
    /// The template, if it can be kept.
    kept: Option<Unified>,
    /// A better default than one member's content.
    default: Option<(Vec<Piece>, Vec<bool>, u64)>,
}

impl Item {
    /// Whether it holds a region that the settings name.
    fn is_pinned(&self) -> bool {
        let named = |hole: &Hole| hole.is_named;
        self.kept
            .as_ref()
            .is_some_and(|kept| crate::propose::skeleton::hole::holes(&kept.pieces).into_iter().any(named))
    }

    fn is_settled(&self) -> bool {
        self.kept.as_ref().is_some_and(|kept| kept.pieces.iter().all(|piece| !matches!(piece, Piece::Hole(_))))
    }
}

/// The run of items `from..=to` as a hole, or one item kept.
enum Segment {
    Kept(usize),
    Hole { from: usize, to: usize, cost: u64 },
}

/// The kind of siblings in a list.
#[derive(Clone, Copy)]
pub enum Level {
    Content,
    Tag,
}

/// A sibling: a node, or an attribute with the whitespace before it.
#[derive(Clone, Copy)]
pub(super) struct Unit {
    pub run: Run,
    /// The node, or the one whose attribute it is.
    pub node: NodeId,
    pub key: Key,
    /// Several nodes that would be one partial, by its number.
    pub mark: Option<usize>,
}

impl Unit {
    /// The token of an attribute.
    pub const fn token(&self) -> TokenId {
        self.run.1.previous()
    }
}

/// Headings are one kind of siblings, whatever their level.
const HEADING: u64 = 0x6865_6164;

/// Tells marked siblings from others.
const MARKED: u64 = 0x6d61_726b;

impl Unifier<'_> {
    /// The template of whole pages.
    pub fn pages(&self, members: &[usize]) -> Unified {
        let nodes = vec![NodeId::ROOT; members.len()];
        let runs = self.whole(members);
        let units = members.iter().map(|&page| self.children(page, NodeId::ROOT)).collect();
        self.list(members, &nodes, units, &runs, Level::Content, 0)
    }

    /// The pages that have siblings of the commonest kinds in a hole between nodes, if the others are odd.
    pub fn usual(&self, hole: &Hole) -> Option<Vec<usize>> {
        let kinds = |variant: &Variant| -> Option<u64> {
            let (node, run) = variant.place?;
            let units = self.children(variant.page, node).into_iter();
            let within = units.filter(|unit| unit.run.0 >= run.0 && unit.run.1 <= run.1);
            let label = |unit: &Unit| match naming::is_heading(&self.pages[variant.page], unit.node) {
                true => HEADING,
                false => u64::from(unit.key.label),
            };
            Some(within.fold(1, |sum, unit| mix(sum, label(&unit))))
        };
        let kinds: Vec<u64> = hole.variants.iter().map(kinds).collect::<Option<_>>()?;
        let most = kinds[majority(&kinds)?];
        let usual = hole.variants.iter().zip(&kinds).filter(|(_, kinds)| **kinds == most);
        let usual: Vec<usize> = usual.map(|(variant, _)| variant.page).collect();
        (usual.len() < kinds.len() && usual.len() * 100 >= kinds.len() * MOST).then_some(usual)
    }

    /// The template of what is in a hole between nodes; `None` for another hole.
    pub fn inside(&self, hole: &Hole) -> Option<Unified> {
        let nodes: Vec<NodeId> = hole.variants.iter().map(|variant| Some(variant.place?.0)).collect::<Option<_>>()?;
        let members: Vec<usize> = hole.variants.iter().map(|variant| variant.page).collect();
        // Whitespace that belongs to the layout around may be whole tokens.
        let touched = |variant: &Variant| -> Run {
            let (tokens, content) = (&self.pages[variant.page].document.tokens, variant.content);
            let first = tokens.partition_point(|token| token.end <= content.start);
            let last = tokens.partition_point(|token| token.start < content.end);
            (TokenId::at(first), TokenId::at(last.max(first)))
        };
        let runs: Vec<Run> = hole.variants.iter().map(touched).collect();
        let within = |((&page, &node), run): ((&usize, &NodeId), &Run)| {
            let mut units = self.children(page, node);
            units.retain(|unit| unit.run.0 >= run.0 && unit.run.1 <= run.1);
            units
        };
        let units = members.iter().zip(&nodes).zip(&runs).map(within).collect();
        let within = Unifier { sections: self.sections.among(&members), ..*self };
        let mut unified = within.list(&members, &nodes, units, &runs, Level::Content, 0);
        clip(&mut unified.pieces, hole);
        // Whitespace at the ends may belong to the layout in one member and not in another.
        let is_whole = self.strength != Strength::Bytes || self.gives_back(&unified.pieces, hole);
        is_whole.then_some(unified)
    }

    /// Members whose `html` and `body` end otherwise than those of three quarters:
    /// with them in it a layout could hold nothing of what the others share inside.
    pub fn broken_off(&self, members: &[usize]) -> Vec<usize> {
        let outline = |&page: &usize| {
            let page = &self.pages[page];
            let frame = NodeId::each(&page.document.nodes).skip(1).filter(|(index, node)| {
                let name = page.document.name(&page.source, *index);
                node.depth <= 2 && (name.eq_ignore_ascii_case(b"html") || name.eq_ignore_ascii_case(b"body"))
            });
            frame.fold(0, |sum, (_, node)| mix(sum, u64::from(node.close < node.last) + 1))
        };
        let outlines: Vec<u64> = members.iter().map(outline).collect();
        let usual = majority(&outlines.iter().map(|outline| outline | 1 << 63).collect::<Vec<_>>());
        let Some(usual) = usual.map(|index| outlines[index]) else { return Vec::new() };
        let odd: Vec<usize> =
            members.iter().zip(&outlines).filter(|(_, outline)| **outline != usual).map(|(page, _)| *page).collect();
        if odd.len() * 4 <= members.len() { odd } else { Vec::new() }
    }

    fn whole(&self, members: &[usize]) -> Vec<Run> {
        members.iter().map(|&page| (TokenId(0), TokenId::at(self.pages[page].document.tokens.len()))).collect()
    }

    fn children(&self, page: usize, node: NodeId) -> Vec<Unit> {
        let page = &self.pages[page];
        let unit = |id: NodeId| {
            let node = &page.document.nodes[id];
            Unit { run: (node.first, node.last), node: id, key: page.keys[id.index()], mark: None }
        };
        // Whitespace is no landmark; it belongs to what is between.
        let counts = |unit: &Unit| {
            let node = &page.document.nodes[unit.node];
            unit.key.whole != 0 && !(node.kind == NodeKind::Text && page.bytes(unit.run).iter().all(|&b| is_blank(b)))
        };
        let mut units: Vec<Unit> = page.document.children(node).map(unit).filter(counts).collect();
        if !page.marks.is_empty() {
            units.iter_mut().for_each(|unit| unit.mark = page.mark(unit.run));
            // What would be one partial is one sibling.
            units.dedup_by(|next, unit| {
                let is_same =
                    unit.mark.is_some() && next.mark == unit.mark && page.mark((unit.run.0, next.run.1)).is_some();
                if is_same {
                    unit.run.1 = next.run.1;
                }
                is_same
            });
            for unit in &mut units {
                if let Some(number) = unit.mark {
                    let label = mix(MARKED, number as u64);
                    unit.key = Key::labelled(label, page.hash(unit.run), page.span(unit.run).len());
                }
            }
        }
        units
    }

    pub fn hash(&self, page: usize, run: Run) -> u64 {
        self.pages[page].hash(run)
    }

    fn fixed(&self, page: usize, run: Run) -> Unified {
        let span = self.pages[page].span(run);
        Unified { cost: span.len() as u64, pieces: vec![Piece::Fixed { page, span }] }
    }

    /// One template for lists of siblings that fill `runs`.
    pub(super) fn list(
        &self,
        members: &[usize],
        nodes: &[NodeId],
        units: Vec<Vec<Unit>>,
        runs: &[Run],
        level: Level,
        depth: usize,
    ) -> Unified {
        let keys: Vec<Vec<Key>> = units.iter().map(|list| list.iter().map(|unit| unit.key).collect()).collect();
        let columns = columns(&keys);
        let mut items = Vec::with_capacity(columns.len() * 2 + 1);
        let mut from: Vec<TokenId> = runs.iter().map(|run| run.0).collect();
        // A node before the next gap, from which its nodes are sought.
        let mut near: Vec<NodeId> = nodes.iter().map(|node| node.next()).collect();
        for column in columns.iter().map(Some).chain([None]) {
            let column: Option<Vec<Unit>> =
                column.map(|places| places.iter().zip(&units).map(|(&at, list)| list[at]).collect());
            let to: Vec<TokenId> = match &column {
                Some(units) => units.iter().map(|unit| unit.run.0).collect(),
                None => runs.iter().map(|run| run.1).collect(),
            };
            let gap: Vec<Run> = from.iter().copied().zip(to).collect();
            let hash = |index: usize| match level {
                Level::Content => self.pages[members[index]].hash_from(near[index], gap[index]),
                Level::Tag => self.hash(members[index], gap[index]),
            };
            let hashes = (0..members.len()).into_par_iter().with_min_len(SIDE_BY_SIDE).map(hash).collect();
            let mut item = self.gap(members, nodes, &units, (gap, hashes), level, depth);
            if self.looks_at_texts() && matches!(level, Level::Content) {
                let text = |index: usize| self.pages[members[index]].text_from(near[index], item.runs[index]);
                item.texts = (0..members.len()).map(text).collect();
            }
            items.push(item);
            if let Some(units) = column {
                from = units.iter().map(|unit| unit.run.1).collect();
                if let Level::Content = level {
                    near = units.iter().map(|unit| unit.node).collect();
                }
                let mut item = self.column(members, nodes, &units, level, depth);
                if self.looks_at_texts() && matches!(level, Level::Content) {
                    item.texts = units.iter().map(|unit| unit.key.text).collect();
                }
                items.push(item);
            }
        }
        let segments = self.join(members, nodes, &items, level);
        self.assemble(members, nodes, items, segments, level)
    }

    fn item(&self, members: &[usize], runs: Vec<Run>, hashes: Vec<u64>) -> Item {
        let lengths = members.iter().zip(&runs).map(|(&page, &run)| self.pages[page].span(run).len() as u64).collect();
        let equal = hashes.iter().all(|&hash| hash == hashes[0]);
        let kept = equal.then(|| self.fixed(members[0], runs[0]));
        Item { runs, hashes, texts: Vec::new(), lengths, kept, default: None }
    }

    /// The item between two columns.
    fn gap(
        &self,
        members: &[usize],
        nodes: &[NodeId],
        units: &[Vec<Unit>],
        (runs, hashes): (Vec<Run>, Vec<u64>),
        level: Level,
        depth: usize,
    ) -> Item {
        let mut item = self.item(members, runs, hashes);
        if item.kept.is_none() {
            item.kept = self.marked(members, nodes, &item.runs, &item.hashes, level);
        }
        if self.nested_defaults && item.kept.is_none() && depth < MAX_DEPTH && matches!(level, Level::Content) {
            item.default = self.shared_default(members, nodes, units, &item, depth);
        }
        item
    }

    /// If most members have the same kind of nodes in a gap, the template of those.
    fn shared_default(
        &self,
        members: &[usize],
        nodes: &[NodeId],
        units: &[Vec<Unit>],
        item: &Item,
        depth: usize,
    ) -> Option<(Vec<Piece>, Vec<bool>, u64)> {
        let inside: Vec<Vec<Unit>> = units
            .iter()
            .zip(&item.runs)
            .map(|(list, run)| list.iter().filter(|unit| unit.run.0 >= run.0 && unit.run.1 <= run.1).copied().collect())
            .collect();
        let labels =
            |list: &Vec<Unit>| list.iter().fold(list.len() as u64, |sum, unit| mix(sum, u64::from(unit.key.label)));
        let signatures: Vec<u64> = inside.iter().map(labels).collect();
        let mut counts: FxHashMap<u64, usize> = FxHashMap::default();
        for &signature in &signatures {
            *counts.entry(signature).or_default() += 1;
        }
        let (&most, &count) = counts.iter().max_by_key(|(signature, count)| (**count, **signature))?;
        // A few odd pages must not cost the others a region; half the pages are not odd.
        let share = if self.prices.nameless == 0 { MOST_WHERE_SIZE_IS_ALL } else { MOST };
        if count < 3 || count * 100 < members.len() * share || count == members.len() {
            return None;
        }
        let group: Vec<usize> = (0..members.len()).filter(|&index| signatures[index] == most).collect();
        if inside[group[0]].is_empty() || group.iter().all(|&index| item.hashes[index] == item.hashes[group[0]]) {
            return None;
        }
        let sub_members: Vec<usize> = group.iter().map(|&index| members[index]).collect();
        let sub_nodes: Vec<NodeId> = group.iter().map(|&index| nodes[index]).collect();
        let sub_units = group.iter().map(|&index| inside[index].clone()).collect();
        let sub_runs: Vec<Run> = group.iter().map(|&index| item.runs[index]).collect();
        let unified = self.list(&sub_members, &sub_nodes, sub_units, &sub_runs, Level::Content, depth + 1);
        let follows: Vec<bool> = signatures.iter().map(|&signature| signature == most).collect();
        let others: u64 = (0..members.len())
            .filter(|&index| !follows[index])
            .map(|index| item.lengths[index] + self.prices.page)
            .sum();
        Some((unified.pieces, follows, unified.cost + others + self.prices.layout))
    }

    /// A node or attribute that all members have.
    fn column(&self, members: &[usize], nodes: &[NodeId], units: &[Unit], level: Level, depth: usize) -> Item {
        let (runs, hashes) = units.iter().map(|unit| (unit.run, unit.key.whole)).unzip();
        let mut item = self.item(members, runs, hashes);
        if item.kept.is_none() && depth < MAX_DEPTH && units[0].mark.is_none() {
            let own: Vec<NodeId> = units.iter().map(|unit| unit.node).collect();
            item.kept = match level {
                Level::Content => self.node(members, &own, depth + 1),
                Level::Tag => self.attribute(members, nodes, units),
            };
            let marked = self.marked(members, nodes, &item.runs, &item.hashes, level);
            if marked.as_ref().is_some_and(|marked| item.kept.as_ref().is_none_or(|kept| marked.cost < kept.cost)) {
                item.kept = marked;
            }
            let alike = match self.looks_at_texts() && matches!(level, Level::Content) {
                true => units.iter().map(|unit| said(unit.key.text, unit.key.whole)).collect(),
                false => item.hashes.clone(),
            };
            let hole = self.hole_cost_of(members, (&item.hashes, &alike), &item.lengths)
                + self.nameless(members, nodes, (&item.runs, &item.runs), level);
            let in_tag = |piece: &Piece| matches!(piece, Piece::Hole(hole) if matches!(hole.context, Context::Attributes { .. }));
            let shy = matches!(level, Level::Content) && self.like_html;
            let price = |kept: &Unified| match shy && kept.pieces.iter().any(in_tag) {
                true => kept.cost + TAG_IN_TAG * self.prices.layout,
                false => kept.cost,
            };
            if item.kept.as_ref().is_some_and(|kept| price(kept) > hole) && !item.is_pinned() {
                item.kept = None;
            }
        }
        item
    }

    /// Joins neighbouring holes, and what is between them, while that is cheaper.
    fn join(&self, members: &[usize], nodes: &[NodeId], items: &[Item], level: Level) -> Vec<Segment> {
        let alone = |index: usize| match (&items[index].kept, &items[index].default) {
            (Some(_), _) => Segment::Kept(index),
            (None, default) => {
                let plain = self.range_cost(members, items, index, index)
                    + self.nameless(members, nodes, (&items[index].runs, &items[index].runs), level);
                let cost = default.as_ref().map_or(plain, |(_, _, cost)| plain.min(*cost));
                Segment::Hole { from: index, to: index, cost }
            }
        };
        let mut segments: Vec<Segment> = (0..items.len()).map(alone).collect();
        let unsettled = |segment: &Segment| match segment {
            Segment::Kept(index) => !items[*index].is_settled(),
            Segment::Hole { .. } => true,
        };
        let cost = |segment: &Segment| match segment {
            Segment::Kept(index) => items[*index].kept.as_ref().map_or(0, |kept| kept.cost),
            Segment::Hole { cost, .. } => *cost,
        };
        let bounds = |segment: &Segment| match segment {
            Segment::Kept(index) => (*index, *index),
            Segment::Hole { from, to, .. } => (*from, *to),
        };
        let try_join = |segments: &mut Vec<Segment>, first: usize, last: usize, margin: u64| {
            let (from, to) = (bounds(&segments[first]).0, bounds(&segments[last]).1);
            if !self.regions.is_empty() && items[from..=to].iter().any(Item::is_pinned) {
                return false;
            }
            let together = self.range_cost(members, items, from, to)
                + self.nameless(members, nodes, (&items[from].runs, &items[to].runs), level);
            let apart: u64 = segments[first..=last].iter().map(cost).sum();
            let joins = together * (100 + margin) < apart * 100;
            if joins {
                segments.splice(first..=last, [Segment::Hole { from, to, cost: together }]);
            }
            joins
        };
        let mut first = 0;
        while first < segments.len() {
            let next = (first + 1..segments.len()).find(|&at| unsettled(&segments[at]));
            match next {
                Some(next) if unsettled(&segments[first]) => {
                    if try_join(&mut segments, first, next, 0) {
                        // It may now pay to join with what comes before.
                        first = (0..first).rev().find(|&at| unsettled(&segments[at])).unwrap_or(first);
                    } else {
                        first = next;
                    }
                }
                _ => first += 1,
            }
        }
        // Several joins may pay together though no single one does; but then one
        // block stands for many things, so it must pay well.
        let open: Vec<usize> = (0..segments.len()).filter(|&at| unsettled(&segments[at])).collect();
        if let (Some(&first), Some(&last)) = (open.first(), open.last())
            && open.len() > 2
        {
            try_join(&mut segments, first, last, 25);
        }
        segments
    }

    fn assemble(
        &self,
        members: &[usize],
        nodes: &[NodeId],
        mut items: Vec<Item>,
        segments: Vec<Segment>,
        level: Level,
    ) -> Unified {
        let mut out = Unified::default();
        for segment in segments {
            match segment {
                Segment::Kept(index) => {
                    let Some(kept) = items[index].kept.take() else {
                        continue;
                    };
                    out.cost += kept.cost;
                    out.pieces.extend(kept.pieces);
                }
                Segment::Hole { from, to, cost } => {
                    out.cost += cost;
                    let shared = if from == to { items[from].default.take() } else { None };
                    let runs = (0..members.len())
                        .map(|member| (items[from].runs[member].0, items[to].runs[member].1))
                        .collect();
                    self.push_hole(members, nodes, runs, shared, level, &mut out.pieces);
                }
            }
        }
        out
    }

    /// One template for nodes that were aligned; `None` if they have too little in common.
    fn node(&self, members: &[usize], nodes: &[NodeId], depth: usize) -> Option<Unified> {
        let kind = |index: usize| self.pages[members[index]].document.nodes[nodes[index]].kind;
        if (0..members.len()).any(|index| kind(index) != kind(0)) {
            return None;
        }
        match kind(0) {
            NodeKind::Element => self.element(members, nodes, depth),
            NodeKind::Text => self.text(members, nodes),
            _ => None,
        }
    }

    fn element(&self, members: &[usize], nodes: &[NodeId], depth: usize) -> Option<Unified> {
        let node = |index: usize| &self.pages[members[index]].document.nodes[nodes[index]];
        let part = |run: &dyn Fn(usize) -> Run| -> Vec<Run> { (0..members.len()).map(run).collect() };
        let equal = |runs: &[Run]| {
            let (first, normal) = (self.pages[members[0]].bytes(runs[0]), self.pages[members[0]].normal(runs[0]));
            let is_equal = |(&page, &run): (&usize, &Run)| {
                let page = &self.pages[page];
                page.bytes(run) == first || page.normal(run) == normal
            };
            members.iter().zip(runs).all(is_equal)
        };
        let end = part(&|index| (node(index).close, node(index).last));
        let name = |index: usize| self.pages[members[index]].keys[nodes[index].index()].tag;
        if !equal(&end) || (0..members.len()).any(|index| name(index) != name(0)) {
            return None;
        }
        let start = part(&|index| (node(index).first, node(index).inner));
        let mut out =
            if equal(&start) { self.fixed(members[0], start[0]) } else { self.start_tag(members, nodes, &start)? };
        let is_whole = out.pieces.iter().all(|piece| matches!(piece, Piece::Fixed { .. }));
        if !is_whole && self.strength != Strength::Bytes && self.loads(members[0], nodes[0]) {
            return None;
        }
        // Different attributes of an element without content: better the whole element.
        let reshaped = |piece: &Piece| matches!(piece, Piece::Hole(hole) if hole.is_reshaped_tag());
        if node(0).inner == node(0).last && out.pieces.iter().any(reshaped) {
            return None;
        }
        let inner = part(&|index| (node(index).inner, node(index).close));
        let hash = |index: usize| self.pages[members[index]].hash_from(nodes[index].next(), inner[index]);
        let first = hash(0);
        let content = if (1..members.len()).all(|index| hash(index) == first) {
            self.fixed(members[0], inner[0])
        } else if let Some(name) = self.region(members[0], nodes[0]) {
            self.whole_block(members, nodes, inner, name)
        } else {
            let children = |(&page, &node): (&usize, &NodeId)| self.children(page, node);
            let units = members.par_iter().zip(nodes).with_min_len(SIDE_BY_SIDE).map(children).collect();
            self.list(members, nodes, units, &inner, Level::Content, depth)
        };
        let end = self.fixed(members[0], end[0]);
        out.cost += content.cost + end.cost;
        out.pieces.extend(content.pieces);
        out.pieces.extend(end.pieces);
        Some(out)
    }

    /// Whether an element loads a style sheet or a script: that is said whole.
    fn loads(&self, page: usize, node: NodeId) -> bool {
        let page = &self.pages[page];
        let attribute = |name| page.document.attribute(&page.source, node, name).unwrap_or_default();
        let name = page.document.name(&page.source, node);
        name.eq_ignore_ascii_case(b"script") && !attribute("src").is_empty()
            || name.eq_ignore_ascii_case(b"link") && attribute("rel").eq_ignore_ascii_case(b"stylesheet")
    }

    /// The name that the settings give to the content of an element.
    fn region(&self, page: usize, node: NodeId) -> Option<&str> {
        let page = &self.pages[page];
        let fits = |(_, selector): &&(String, Selector)| selector.fits(&page.document, &page.source, node);
        self.regions.iter().find(fits).map(|(name, _)| name.as_str())
    }

    /// The content of nodes as one block of this name.
    fn whole_block(&self, members: &[usize], nodes: &[NodeId], runs: Vec<Run>, name: &str) -> Unified {
        let hashes = members.iter().zip(&runs).map(|(&page, &run)| self.hash(page, run)).collect();
        let item = self.item(members, runs, hashes);
        let mut out = Unified { cost: self.hole_cost(members, &item.hashes, &item.lengths), pieces: Vec::new() };
        self.push_hole(members, nodes, item.runs, None, Level::Content, &mut out.pieces);
        for piece in &mut out.pieces {
            if let Piece::Hole(hole) = piece {
                (hole.name, hole.is_named) = (name.to_owned(), true);
            }
        }
        out
    }

    /// A hole with fixed bytes on both sides, all within `whole` of the first member.
    pub fn framed(
        &self,
        members: &[usize],
        context: Context,
        whole: Span,
        contents: Vec<Span>,
        (hashes, lengths): (&[u64], &[u64]),
    ) -> Unified {
        let (before, after) = (Span::new(whole.start, contents[0].start), Span::new(contents[0].end, whole.end));
        if let Context::Value { node, .. } | Context::Attributes { node } = context
            && let Some(mark) = self.mark(members, (node, true), &contents, hashes)
        {
            return with_mark(mark, members[0], whole, contents[0]);
        }
        let page = members[0];
        let variant = |((&page, content), &hash): ((&usize, Span), &u64)| Variant {
            page,
            content,
            hash,
            place: None,
            follows: false,
        };
        let variants = members.iter().zip(contents).zip(hashes).map(variant).collect();
        let hole = Hole::new(context, variants, choose_default(hashes));
        let fixed = (before.len() + after.len()) as u64;
        let cost = fixed + self.hole_cost(members, hashes, lengths) + self.price_of_name(&hole);
        let pieces =
            vec![Piece::Fixed { page, span: before }, Piece::Hole(Box::new(hole)), Piece::Fixed { page, span: after }];
        Unified { pieces, cost }
    }
}

#[cfg(test)]
mod tests {
    use crate::propose::testing::{count, pages, shown, unifier};

    #[track_caller]
    fn check(texts: &[&str], expected: &str) {
        let pages = pages(texts);
        let members: Vec<usize> = (0..pages.len()).collect();
        assert_eq!(shown(&unifier(&pages, 10).pages(&members).pieces, &pages), expected);
    }

    #[test]
    fn what_differs_becomes_a_hole() {
        check(&["<h1>Boats</h1><p>Quay</p>", "<h1>Piers</h1><p>Quay</p>"], "<h1>{Boats|Piers}</h1><p>Quay</p>");
        let link = |name: &str| format!("<a class=\"to-the-harbour\" href=\"/{name}.html\">Home</a>");
        check(
            &[&link("boats"), &link("piers")],
            "<a class=\"to-the-harbour\" href=\"{/boats.html|/piers.html}\">Home</a>",
        );
        check(&["<p>Quay</p>", "<p>Quay</p>"], "<p>Quay</p>");
        // What only some have is a hole between what all have.
        check(&["<p>Every day at six</p><i>x</i>", "<p>Every day at six</p>"], "<p>Every day at six</p>{<i>x</i>|}");
    }

    #[test]
    fn dear_blocks_are_fewer() {
        let page =
            |a: &str, b: &str| format!("<main><h1>{a}</h1><p>of the quay</p><h2>{b}</h2></main><p>Until six</p>");
        let pages = pages(&[page("Boats", "Crews"), page("Piers", "Tides"), page("Fares", "Winds")]);
        let blocks = |price| count(&unifier(&pages, price).pages(&[0, 1, 2]).pieces);
        assert_eq!((blocks(2), blocks(200)), (2, 1));
    }

    #[test]
    fn a_page_that_ends_early_is_broken_off() {
        let whole = "<html><body><p>Quay</p></body></html>";
        let pages = pages(&[whole, whole, "<html><body><p>Quay</p>", whole, whole]);
        assert_eq!(unifier(&pages, 10).broken_off(&[0, 1, 2, 3, 4]), [2]);
        assert!(unifier(&pages, 10).broken_off(&[0, 1, 3]).is_empty());
    }
}
