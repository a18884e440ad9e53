//! Templates: source files with the constructs in them.

use std::sync::{Arc, OnceLock};

use rustc_hash::FxHashMap;

use super::{Problem, ProblemKind, Role, SourceFile};
use crate::dialect::{Dialect, Kind, Part, Twice};
use crate::markup::{Construct, ConstructId, Constructs};
use crate::text::{LineIndex, MAX_SOURCE, Position, Span, is_blank, line_start};

/// One source file, parsed under one dialect.
#[derive(Clone, Debug)]
pub struct Template {
    /// Path from the site's folder, with `/` between its parts.
    pub path: String,
    /// Its bytes.
    pub source: Arc<Vec<u8>>,
    /// The dialect it is read in.
    pub dialect: Arc<Dialect>,
    /// Its constructs.
    pub constructs: Constructs,
    /// Its role.
    pub role: Role,
    /// It is rendered for itself: a page, or named by application code.
    pub rendered: bool,
    /// Why it cannot be read as markup, if it cannot.
    pub unreadable: Option<&'static str>,
    /// For each block that it defines the tag that counts.
    definitions: FxHashMap<Box<[u8]>, ConstructId>,
    /// The regions of each name.
    regions: FxHashMap<Box<[u8]>, Vec<ConstructId>>,
    /// Tags of blocks that it had defined before.
    twice: Vec<ConstructId>,
    /// Its lines, once somebody asks for a place.
    lines: OnceLock<LineIndex>,
}

impl Template {
    /// A template whose constructs were read in its dialect.
    pub(super) fn new(file: SourceFile, dialect: Arc<Dialect>, constructs: Constructs) -> Self {
        let mut template = Self {
            unreadable: unreadable(&file.bytes),
            path: file.path,
            source: file.bytes.into(),
            dialect,
            constructs,
            role: Role::Page,
            rendered: false,
            definitions: FxHashMap::default(),
            regions: FxHashMap::default(),
            twice: Vec::new(),
            lines: OnceLock::new(),
        };
        template.index();
        template
    }

    /// Finds the definition of each block that counts, and the regions of each name.
    pub(super) fn index(&mut self) {
        let mut definitions: FxHashMap<Box<[u8]>, ConstructId> = FxHashMap::default();
        let mut regions: FxHashMap<Box<[u8]>, Vec<ConstructId>> = FxHashMap::default();
        let mut twice = Vec::new();
        // What is in the body of a wrap is given to the template that it includes.
        let mut wrapped = ConstructId(0);
        for (at, item) in ConstructId::each(&self.constructs.items) {
            if let Some(closer) = item.partner.filter(|_| item.kind == Kind::Wrap && item.part == Part::Open) {
                wrapped = wrapped.max(closer);
            }
            if matches!(item.kind, Kind::Block | Kind::Slot) && is_whole(item) && !item.name.is_empty() {
                regions.entry(item.name.of(&self.source).into()).or_default().push(at);
            }
            let given = item.kind == Kind::Fill && at < wrapped;
            if given || !item.kind.defines() || !is_whole(item) || item.name.is_empty() {
                continue;
            }
            let name = item.name.of(&self.source);
            match definitions.get_mut(name) {
                None => drop(definitions.insert(name.into(), at)),
                Some(known) => {
                    twice.push(at);
                    if self.dialect.rules.twice != Twice::First {
                        *known = at;
                    }
                }
            }
        }
        (self.definitions, self.regions, self.twice) = (definitions, regions, twice);
    }

    /// Tags of blocks that were defined here before, where the dialect does not allow it.
    pub fn defined_twice(&self) -> impl Iterator<Item = ConstructId> {
        self.twice.iter().copied().filter(|_| self.dialect.rules.twice == Twice::Error)
    }

    /// Blocks that are here twice, where the dialect does not allow it.
    pub fn twice(&self) -> impl Iterator<Item = Problem> {
        self.defined_twice().map(|at| {
            let item = &self.constructs.items[at];
            let name = item.name.text(&self.source);
            self.problem_of(
                ProblemKind::Reading,
                item.span.start,
                format!("the block `{name}` is defined twice in this file; the last one counts"),
            )
        })
    }

    /// The tag that defines a block of this name here, if there is one.
    pub fn definition(&self, name: &[u8]) -> Option<ConstructId> {
        self.definitions.get(name).copied()
    }

    /// The constructs that name its parent, with their indices.
    pub fn parents(&self) -> impl Iterator<Item = (ConstructId, &Construct)> {
        ConstructId::each(&self.constructs.items).filter(|(_, item)| item.kind == Kind::Parent)
    }

    /// The construct that names its parent; the first, if there are several.
    pub fn parent(&self) -> Option<&Construct> {
        self.parents().map(|(_, item)| item).next()
    }

    /// The includes it holds, with and without a body.
    pub fn includes(&self) -> impl Iterator<Item = (ConstructId, &Construct)> {
        let includes = |item: &Construct| {
            matches!(item.kind, Kind::Include | Kind::Wrap) && matches!(item.part, Part::Single | Part::Open)
        };
        ConstructId::each(&self.constructs.items).filter(move |(_, item)| includes(item))
    }

    /// The blocks and contents for blocks that it defines, with the indices of their tags.
    pub fn blocks(&self) -> impl Iterator<Item = (ConstructId, &Construct)> {
        self.named(|kind| kind.defines())
    }

    /// The definitions that are in no other one, with the indices of their tags.
    pub fn outermost(&self) -> impl Iterator<Item = (ConstructId, &Construct)> {
        let mut end = ConstructId(0);
        self.blocks().filter(move |(at, item)| {
            let outside = *at >= end;
            if outside {
                end = item.partner.unwrap_or(end);
            }
            outside
        })
    }

    /// The regions that another template may fill: blocks and slots.
    pub fn regions(&self) -> impl Iterator<Item = (ConstructId, &Construct)> {
        self.named(|kind| matches!(kind, Kind::Block | Kind::Slot))
    }

    /// Those of a name.
    pub fn regions_named(&self, name: &[u8]) -> impl Iterator<Item = (ConstructId, &Construct)> {
        let places = self.regions.get(name).map_or(&[][..], Vec::as_slice);
        places.iter().map(|&at| (at, &self.constructs.items[at]))
    }

    /// The named fragments it defines.
    pub fn parts(&self) -> impl Iterator<Item = (ConstructId, &Construct)> {
        self.named(|kind| kind == Kind::Part)
    }

    /// Whole pairs and single tags of some kinds that have a name.
    fn named(&self, is_meant: impl Fn(Kind) -> bool) -> impl Iterator<Item = (ConstructId, &Construct)> {
        ConstructId::each(&self.constructs.items)
            .filter(move |(_, item)| !item.name.is_empty() && is_meant(item.kind) && is_whole(item))
    }

    /// What is between a pair's tags, whitespace that goes with the tags
    /// left out; of a single tag its short content.
    pub fn inner(&self, opener: ConstructId) -> Span {
        let open = &self.constructs.items[opener];
        let close = self.constructs.partner(open);
        close.map_or(open.value, |close| Span::new(open.reach.end, close.reach.start.max(open.reach.end)))
    }

    /// The two parts of a pair that one tag divides, each with its first construct; the second is empty without that tag.
    pub fn parts_of(&self, opener: ConstructId) -> [(Span, ConstructId); 2] {
        let items = &self.constructs.items;
        let (inner, closer) = (self.inner(opener), items[opener].partner.unwrap_or(opener));
        let divides = |at: &ConstructId| items[*at].part == Part::Branch && items[*at].partner == Some(opener);
        match opener.next().to(closer).find(divides) {
            Some(branch) => {
                let reach = items[branch].reach;
                let first = Span::new(inner.start, reach.start.max(inner.start));
                let second = Span::new(reach.end.min(inner.end), inner.end);
                [(first, opener.next()), (second, branch.next())]
            }
            None => [(inner, opener.next()), (Span::new(inner.end, inner.end), closer)],
        }
    }

    /// The span from the opening to the closing tag of a pair, both included.
    pub fn whole(&self, opener: ConstructId) -> Span {
        let open = &self.constructs.items[opener];
        let end = self.constructs.partner(open).map_or(open.span.end, |close| close.span.end);
        Span::new(open.span.start, end)
    }

    /// The span between the tags of a pair, with all whitespace; of a single tag its short content.
    pub fn between(&self, opener: ConstructId) -> Span {
        let open = &self.constructs.items[opener];
        self.constructs.partner(open).map_or(open.value, |close| Span::new(open.span.end, close.span.start))
    }

    /// The span with its indentation and line end, if nothing else is on its lines.
    pub fn whole_lines(&self, span: Span) -> Span {
        let source = &self.source;
        let start = line_start(source, span.start as usize);
        let end =
            memchr::memchr(b'\n', &source[span.end as usize..]).map_or(source.len(), |at| span.end as usize + at + 1);
        let blank = |from: usize, to: usize| source[from..to].iter().all(|b| is_blank(*b));
        match blank(start, span.start as usize) && blank(span.end as usize, end) {
            true => Span::from_range(start..end),
            false => span,
        }
    }

    /// The whitespace at the start of the line of a place.
    pub fn indentation(&self, offset: u32) -> &[u8] {
        let start = line_start(&self.source, offset as usize);
        let length = self.source[start..offset as usize].iter().take_while(|b| is_blank(**b)).count();
        &self.source[start..start + length]
    }

    /// The first tag that a span cuts in two, or whose other half it does not hold, as a problem.
    pub fn torn_by(&self, span: Span) -> Option<Problem> {
        let inside = |offset: u32| (span.start..span.end).contains(&offset);
        let tags = self.constructs.items.iter().filter(|item| item.part != Part::Attribute && !item.span.is_empty());
        let mut torn = tags.filter(|item| {
            let partner = self.constructs.partner(item);
            inside(item.span.start) != inside(item.span.end - 1)
                || partner.is_some_and(|partner| inside(partner.span.start) != inside(item.span.start))
        });
        let item = torn.next()?;
        let shown = item.span.text(&self.source);
        Some(self.problem(item.span.start, format!("the markup has only half of `{shown}`")))
    }

    /// For each construct whether it is in a condition or loop.
    pub fn within_controls(&self) -> Vec<bool> {
        let mut end = ConstructId(0);
        let inside = |(at, item): (ConstructId, &Construct)| {
            let inside = at < end;
            if let Some(closer) = item.partner.filter(|_| item.kind == Kind::Control && item.part == Part::Open) {
                end = end.max(closer);
            }
            inside
        };
        ConstructId::each(&self.constructs.items).map(inside).collect()
    }

    /// Line and column of a byte offset.
    pub fn position(&self, offset: u32) -> Position {
        self.lines.get_or_init(|| LineIndex::new(&self.source)).position(&self.source, offset)
    }

    /// A problem with a name, at a place of this template.
    pub fn problem(&self, offset: u32, message: impl Into<String>) -> Problem {
        let kind = ProblemKind::Reference;
        Problem { file: self.path.clone(), at: Some(self.position(offset)), kind, message: message.into() }
    }

    /// A problem of another kind, at a place of this template.
    pub fn problem_of(&self, kind: ProblemKind, offset: u32, message: impl Into<String>) -> Problem {
        Problem { kind, ..self.problem(offset, message) }
    }
}

/// Whether it is a single tag, or the opening tag of a pair that is closed.
fn is_whole(item: &Construct) -> bool {
    item.part == Part::Single || item.part == Part::Open && item.partner.is_some()
}

/// Why the bytes cannot be read as HTML in an encoding that contains ASCII.
pub(super) fn unreadable(bytes: &[u8]) -> Option<&'static str> {
    let head = &bytes[..bytes.len().min(64 * 1024)];
    if bytes.len() > MAX_SOURCE {
        return Some("larger than 4 GiB");
    }
    if head.starts_with(b"\xff\xfe") || head.starts_with(b"\xfe\xff") {
        return Some("UTF-16 text; save it as UTF-8 to have it read");
    }
    let zeros = memchr::memchr_iter(0, head).count();
    match zeros {
        0 => None,
        _ if zeros * 3 > head.len() && head.contains(&b'<') => {
            Some("UTF-16 or UTF-32 text; save it as UTF-8 to have it read")
        }
        _ => Some("binary content, not HTML"),
    }
}
