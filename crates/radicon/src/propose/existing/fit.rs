//! Whether a page fits the skeleton of a layout: all that the layout fixes is in
//! the page, in order, and what is between is what the page has in its blocks.
//!
//! The two trees are walked together. A list of siblings in the skeleton is a
//! pattern, with its blocks as wildcards; text is compared by words, so that
//! whitespace does not keep pages out: the proof decides about that.

use std::ops::Range;

use rustc_hash::FxHashMap;

use crate::dialect::Kind;
use crate::markup::{NodeId, NodeKind};
use crate::propose::existing::frame::Skeleton;
use crate::propose::pages::page::{Page, Run};
use crate::text::Span;

/// The deepest nesting that is looked into.
const MAX_DEPTH: usize = 150;

/// The content of a page in a region of the skeleton.
#[derive(Clone, Copy, Debug)]
pub struct Filling {
    /// The region, by index.
    pub region: usize,
    pub content: Span,
    /// Between nodes: the node around it, and the run of tokens.
    pub place: Option<(NodeId, Run)>,
    /// It is what the layout has there, or differs only within regions inside.
    pub default: bool,
}

/// The unit by which siblings are compared.
#[derive(Clone, Copy, Debug)]
enum Atom {
    /// A word or a mark of punctuation, in a text.
    Word {
        node: NodeId,
        span: Span,
    },
    Node(NodeId),
    /// A region.
    Wild {
        node: NodeId,
        region: usize,
    },
}

/// A run of siblings within a node, with the bytes that it may fill.
struct Siblings<'a> {
    page: &'a Page,
    node: NodeId,
    atoms: &'a [Atom],
    span: Span,
    /// Its tokens, if it consists of whole nodes.
    run: Option<Run>,
}

impl Siblings<'_> {
    /// The bytes between those before some of them and those after.
    fn around(&self, range: &Range<usize>) -> Span {
        let start = range.start.checked_sub(1).map_or(self.span.start, |at| end_of(self.page, self.atoms[at]));
        let end = self.atoms.get(range.end).map_or(self.span.end, |atom| start_of(self.page, *atom));
        Span::new(start, end.max(start))
    }
}

impl<'a> Siblings<'a> {
    /// Some of them.
    fn part(&self, range: Range<usize>) -> Siblings<'a> {
        let span = self.around(&range);
        Siblings { atoms: &self.atoms[range], span, run: None, ..*self }
    }
}

impl Skeleton {
    /// The content of the page in each region; `None` if it does not fit.
    pub fn fit(&self, page: &Page) -> Option<Vec<Filling>> {
        let fit = Fit { frame: self, page };
        let mut found = fit.children(NodeId::ROOT, NodeId::ROOT, 0)?;
        found.sort_by_key(|filling| filling.region);
        // What is in several places of the skeleton must be the same in all.
        let text = |filling: &Filling| filling.content.of(&page.source);
        let names = |filling: &Filling| &self.regions[filling.region].name;
        let agree = |a: &Filling| found.iter().all(|b| names(a) != names(b) || text(a) == text(b));
        found.iter().all(agree).then_some(found)
    }

    /// The region that a mark at this place opens.
    fn region_at(&self, start: u32) -> Option<usize> {
        self.regions.binary_search_by_key(&start, |region| region.open.start).ok()
    }

    /// The regions that open in a span.
    fn regions_in(&self, span: Span) -> Range<usize> {
        let place = |at: u32| self.regions.partition_point(|region| region.open.start < at);
        place(span.start)..place(span.end)
    }
}

struct Fit<'a> {
    frame: &'a Skeleton,
    page: &'a Page,
}

impl Fit<'_> {
    /// The children of two nodes.
    fn children(&self, ours: NodeId, theirs: NodeId, depth: usize) -> Option<Vec<Filling>> {
        let inner = |page: &Page, node: NodeId| {
            let node = &page.document.nodes[node];
            page.span((node.inner, node.close))
        };
        let (frame, page) = (&self.frame.page, self.page);
        let (our_atoms, their_atoms) = (self.frame_atoms(ours), atoms(page, theirs, |_| None));
        let ours = Siblings { page: frame, node: ours, atoms: &our_atoms, span: inner(frame, ours), run: None };
        let theirs = Siblings { page, node: theirs, atoms: &their_atoms, span: inner(page, theirs), run: None };
        self.siblings(&ours, &theirs, depth)
    }

    fn frame_atoms(&self, node: NodeId) -> Vec<Atom> {
        let frame = &self.frame.page;
        atoms(frame, node, |pair| self.frame.region_at(frame.document.span(pair).start))
    }

    fn siblings(&self, ours: &Siblings<'_>, theirs: &Siblings<'_>, depth: usize) -> Option<Vec<Filling>> {
        // Where the page, a copy of a layout, has the same blocks, these belong together.
        let mut found = Vec::new();
        let (mut our_at, mut their_at) = (0, 0);
        for (our, their) in self.same_blocks(ours, theirs) {
            let Atom::Wild { node, region } = ours.atoms[our] else { continue };
            let before = (ours.part(our_at..our), theirs.part(their_at..their));
            found.extend(self.pattern(&before.0, &before.1, depth)?);
            let marks = &self.frame.regions[region];
            let gap = Span::new(marks.open.start, marks.close.end);
            found.extend(self.region((node, region), gap, &theirs.part(their..their + 1), depth)?);
            (our_at, their_at) = (our + 1, their + 1);
        }
        let rest = (ours.part(our_at..ours.atoms.len()), theirs.part(their_at..theirs.atoms.len()));
        found.extend(self.pattern(&rest.0, &rest.1, depth)?);
        Some(found)
    }

    /// Siblings of the skeleton as a pattern for those of the page, its regions as wildcards.
    fn pattern(&self, ours: &Siblings<'_>, theirs: &Siblings<'_>, depth: usize) -> Option<Vec<Filling>> {
        let is_wild = |atom: &Atom| matches!(atom, Atom::Wild { .. });
        let segments: Vec<&[Atom]> = ours.atoms.split(is_wild).collect();
        let (mut at, end) = (0, theirs.atoms.len());
        let (mut found, mut wild) = (Vec::new(), Vec::new());
        for (index, segment) in segments.iter().enumerate() {
            let (first, last) = (index == 0, index + 1 == segments.len());
            let latest = end.checked_sub(segment.len())?;
            let starts = match (first, last) {
                (true, true) if latest > 0 => return None,
                (true, _) => 0..=0,
                (false, true) => latest.max(at)..=latest,
                (false, false) => at..=latest,
            };
            let fit = |start: usize| Some((start, self.segment(segment, &theirs.atoms[start..], depth)?));
            let (start, fillings) = starts.into_iter().find_map(fit)?;
            if !first {
                wild.push(at..start);
            }
            found.extend(fillings);
            at = start + segment.len();
        }
        let places = ours.atoms.iter().enumerate().filter(|(_, atom)| is_wild(atom));
        let mut behind = theirs.span.start;
        for ((place, atom), range) in places.zip(wild) {
            let Atom::Wild { node, region } = *atom else { continue };
            let gap = ours.around(&(place..place + 1));
            // What is between two regions belongs to the first.
            let around = theirs.around(&range);
            let span = Span::new(around.start.max(behind), around.end.max(behind));
            behind = span.end;
            let between = Siblings {
                page: theirs.page,
                node: theirs.node,
                atoms: &theirs.atoms[range.clone()],
                span,
                run: self.run(theirs, range),
            };
            found.extend(self.region((node, region), gap, &between, depth)?);
        }
        Some(found)
    }

    /// The places of regions and of the page's blocks of the same names, both in order.
    fn same_blocks(&self, ours: &Siblings<'_>, theirs: &Siblings<'_>) -> Vec<(usize, usize)> {
        let name = |atom: &Atom| match atom {
            Atom::Node(node) => self.block_at(self.page.document.span(*node)).map(|(name, _)| name),
            _ => None,
        };
        let blocks = theirs.atoms.iter().enumerate().filter_map(|(at, atom)| Some((name(atom)?, at)));
        let places: FxHashMap<&[u8], usize> = blocks.collect();
        let mut found: Vec<(usize, usize)> = Vec::new();
        for (our, atom) in ours.atoms.iter().enumerate() {
            let Atom::Wild { region, .. } = atom else { continue };
            let their = places.get(self.frame.regions[*region].name.as_bytes());
            let follows = |their: &&usize| found.last().is_none_or(|(_, last)| *last < **their);
            found.extend(their.filter(follows).map(|&their| (our, their)));
        }
        found
    }

    /// The fixed atoms of the skeleton at the start of those of the page.
    fn segment(&self, ours: &[Atom], theirs: &[Atom], depth: usize) -> Option<Vec<Filling>> {
        let mut found = Vec::new();
        for (our, their) in ours.iter().zip(theirs) {
            match (*our, *their) {
                (Atom::Word { span: a, .. }, Atom::Word { span: b, .. }) => {
                    (a.of(&self.frame.page.source) == b.of(&self.page.source)).then_some(())?;
                }
                (Atom::Node(a), Atom::Node(b)) => found.extend(self.node(a, b, depth + 1)?),
                _ => return None,
            }
        }
        Some(found)
    }

    fn node(&self, ours: NodeId, theirs: NodeId, depth: usize) -> Option<Vec<Filling>> {
        let (frame, page) = (&self.frame.page, self.page);
        let (a, b) = (&frame.document.nodes[ours], &page.document.nodes[theirs]);
        if a.kind != b.kind || depth > MAX_DEPTH {
            return None;
        }
        if self.frame.regions_in(frame.document.span(ours)).is_empty() {
            return (frame.keys[ours.index()].whole == page.keys[theirs.index()].whole).then(Vec::new);
        }
        if frame.normal((a.close, a.last)) != page.normal((b.close, b.last)) {
            return None;
        }
        let mut found = self.tag((a.first, a.inner), (b.first, b.inner))?;
        found.extend(self.children(ours, theirs, depth)?);
        Some(found)
    }

    /// The opening tags of two nodes, byte by byte around the regions in them.
    fn tag(&self, ours: Run, theirs: Run) -> Option<Vec<Filling>> {
        let (frame, page) = (&self.frame.page, self.page);
        let (a, b) = (frame.span(ours), page.span(theirs));
        let regions = self.frame.regions_in(a);
        if regions.is_empty() {
            return (frame.normal(ours) == page.normal(theirs)).then(Vec::new);
        }
        // Regions in a tag are taken as a whole.
        let mut found: Vec<Filling> = Vec::new();
        let (mut from, mut at) = (a.start, b.start);
        for index in regions {
            let region = &self.frame.regions[index];
            if region.open.start < from {
                continue;
            }
            let fixed = Span::new(from, region.open.start).of(&frame.source);
            at = self.fixed(fixed, at, b, found.last_mut())?;
            found.push(Filling { region: index, content: Span::new(at, at), place: None, default: false });
            from = region.close.end;
        }
        let rest = Span::new(from, a.end).of(&frame.source);
        let last = b.end.checked_sub(rest.len() as u32).filter(|last| *last >= at)?;
        if Span::new(last, b.end).of(&page.source) != rest {
            return None;
        }
        found.last_mut()?.content.end = last;
        for filling in &mut found {
            if let Some(inner) = self.block_inside(filling.content, filling.region) {
                filling.content = inner;
            }
            let inner = self.frame.regions[filling.region].inner();
            filling.default = self.frame.knows_defaults && inner.of(&frame.source) == filling.content.of(&page.source);
        }
        let balanced =
            |filling: &Filling| memchr::memchr_iter(b'"', filling.content.of(&page.source)).count().is_multiple_of(2);
        found.iter().all(balanced).then_some(found)
    }

    /// The end of fixed bytes that are found at `at`, or after the bytes that the region before takes.
    fn fixed(&self, fixed: &[u8], at: u32, tag: Span, before: Option<&mut Filling>) -> Option<u32> {
        let rest = Span::new(at, tag.end).of(&self.page.source);
        let skipped = match &before {
            None => rest.starts_with(fixed).then_some(0)?,
            Some(_) => memchr::memmem::find(rest, fixed)?,
        };
        let start = at + skipped as u32;
        if let Some(before) = before {
            before.content.end = start;
        }
        Some(start + fixed.len() as u32)
    }

    /// What a page has in a region between nodes: some of the siblings there, and
    /// what the region's marks and the page's siblings leave of the bytes around.
    fn region(&self, wild: (NodeId, usize), gap: Span, theirs: &Siblings<'_>, depth: usize) -> Option<Vec<Filling>> {
        let (pair, region) = wild;
        let (frame, page) = (&self.frame.page, self.page);
        let marks = &self.frame.regions[region];
        // A copy of a layout has the same block there.
        if let [Atom::Node(node)] = theirs.atoms[..]
            && self.block_inside(page.document.span(node), region).is_some()
        {
            let inner = &page.document.nodes[node];
            let (run, atoms) = ((inner.inner, inner.close), atoms(page, node, |_| None));
            let same = Siblings { page, node, atoms: &atoms, span: page.span(run), run: Some(run) };
            return self.region(wild, Span::new(marks.open.start, marks.close.end), &same, depth);
        }
        let content = if self.frame.exact {
            // The whitespace beside the tags is the layout's.
            let lead = Span::new(gap.start, marks.open.start).of(&frame.source);
            let trail = Span::new(marks.close.end, gap.end).of(&frame.source);
            let inner = theirs.span.of(&page.source).strip_prefix(lead)?.strip_suffix(trail)?;
            let start = theirs.span.start + lead.len() as u32;
            Span::new(start, start + inner.len() as u32)
        } else {
            let start = theirs.atoms.first().map_or(theirs.span.start, |atom| start_of(page, *atom));
            Span::new(start, theirs.atoms.last().map_or(start, |atom| end_of(page, *atom)))
        };
        let our_atoms = self.frame_atoms(pair);
        let ours = Siblings { page: frame, node: pair, atoms: &our_atoms, span: marks.inner(), run: None };
        let inside = Siblings { span: content, ..*theirs };
        let known = self.frame.knows_defaults && depth < MAX_DEPTH;
        let nested = if known { self.siblings(&ours, &inside, depth + 1) } else { None };
        let same = || marks.inner().of(&frame.source) == content.of(&page.source);
        let nested = nested.filter(|nested| !self.frame.exact || !nested.is_empty() || same());
        let default = nested.is_some();
        let mut found = nested.unwrap_or_default();
        found.push(Filling { region, content, place: theirs.run.map(|run| (theirs.node, run)), default });
        Some(found)
    }

    /// The name of the block that some bytes of the page are, and what is in it.
    fn block_at(&self, span: Span) -> Option<(&[u8], Span)> {
        let items = &self.page.document.constructs.items;
        let open = &items[items.binary_search_by_key(&span.start, |item| item.span.start).ok()?];
        let close = self.page.document.constructs.partner(open)?;
        let is_block = open.kind == Kind::Block && close.span.end == span.end;
        is_block.then(|| (open.name.of(&self.page.source), Span::new(open.span.end, close.span.start)))
    }

    /// The content of the block of a region's name, if some bytes of the page are that block.
    fn block_inside(&self, span: Span, region: usize) -> Option<Span> {
        let (name, inner) = self.block_at(span)?;
        (name == self.frame.regions[region].name.as_bytes()).then_some(inner)
    }

    /// The tokens of some siblings; `None` if they are part of a text.
    fn run(&self, siblings: &Siblings<'_>, range: Range<usize>) -> Option<Run> {
        let document = &self.page.document;
        let node = |at: usize| match siblings.atoms.get(at) {
            Some(Atom::Word { node, .. } | Atom::Node(node)) => Some(*node),
            _ => None,
        };
        let before = range.start.checked_sub(1).and_then(node);
        let (first, last) = (node(range.start), range.end.checked_sub(1).and_then(node));
        let holder = &document.nodes[siblings.node];
        if range.is_empty() {
            let token = before.map_or(holder.inner, |before| document.nodes[before].last);
            return (before.is_none() || before != first).then_some((token, token));
        }
        let whole = before != first && last != node(range.end);
        whole.then(|| Some((document.nodes[first?].first, document.nodes[last?].last)))?
    }
}

/// The children of a node as atoms; `region` tells of a pair that it is one.
fn atoms(page: &Page, node: NodeId, region: impl Fn(NodeId) -> Option<usize>) -> Vec<Atom> {
    let mut found = Vec::new();
    for node in page.document.children(node) {
        match page.document.nodes[node].kind {
            NodeKind::Text => words(page, node, &mut found),
            NodeKind::Pair => found.push(match region(node) {
                Some(region) => Atom::Wild { node, region },
                None => Atom::Node(node),
            }),
            _ => found.push(Atom::Node(node)),
        }
    }
    found
}

/// The words of a text; each mark of punctuation counts as one.
fn words(page: &Page, node: NodeId, out: &mut Vec<Atom>) {
    let span = page.document.span(node);
    let bytes = span.of(&page.source);
    let is_word = |b: &u8| b.is_ascii_alphanumeric() || *b == b'_' || *b >= 0x80;
    let mut at = 0;
    while let Some(byte) = bytes.get(at) {
        let length = match byte {
            b if b.is_ascii_whitespace() => {
                at += 1;
                continue;
            }
            b if is_word(b) => bytes[at..].iter().take_while(|b| is_word(b)).count(),
            _ => 1,
        };
        let start = span.start + at as u32;
        out.push(Atom::Word { node, span: Span::new(start, start + length as u32) });
        at += length;
    }
}

fn start_of(page: &Page, atom: Atom) -> u32 {
    span_of(page, atom).start
}

fn end_of(page: &Page, atom: Atom) -> u32 {
    span_of(page, atom).end
}

fn span_of(page: &Page, atom: Atom) -> Span {
    match atom {
        Atom::Word { span, .. } => span,
        Atom::Node(node) | Atom::Wild { node, .. } => page.document.span(node),
    }
}

#[cfg(test)]
mod tests {
    use crate::propose::testing::{job, page, site};

    #[track_caller]
    fn check(text: &str, expected: Option<&[(&str, bool)]>) {
        let base = "<body><nav>Home</nav><main>{% block main %}<p>x</p>{% endblock %}</main><p>at {% block hour %}six{% endblock %} daily</p></body>";
        let site = site([("base.html", base), ("p.html", "{% extends 'base.html' %}")]);
        let skeletons = job(&site, "brace-percent").skeletons();
        let page = page("q.html", text);
        let found = skeletons[0].fit(&page);
        let told = |filling: &super::Filling| (filling.content.text(&page.source).into_owned(), filling.default);
        let found = found.map(|found| found.iter().map(told).collect::<Vec<_>>());
        let expected = expected.map(|all| all.iter().map(|(text, default)| ((*text).to_owned(), *default)).collect());
        assert_eq!(found, expected);
    }

    #[test]
    fn a_page_fits_that_has_all_that_the_layout_fixes() {
        let page =
            |main: &str, hour: &str| format!("<body><nav>Home</nav>\n<main>{main}</main><p>at {hour} daily</p></body>");
        check(&page("<h1>Boats</h1>", "noon"), Some(&[("<h1>Boats</h1>", false), ("noon", false)]));
        check(&page("<p>x</p>", "six"), Some(&[("<p>x</p>", true), ("six", true)]));
        check(&page("", "ten to six"), Some(&[("", false), ("ten to six", false)]));
        check("<body><nav>Back</nav><main></main><p>at six daily</p></body>", None);
        check("<body><nav>Home</nav><main></main><p>daily</p></body>", None);
    }
}
