//! The constructs of a source: what is between them, and putting more among them.

use super::construct::{Construct, ConstructId, bare};
use super::lexer::Opaque;
use crate::dialect::{Kind, Part};
use crate::text::Span;

/// How a tag of a pair can be wrong.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Fault {
    /// An opening tag that is never closed.
    Unclosed,
    /// A closing tag that closes nothing.
    ClosesNothing,
    /// A dividing tag outside the pair that it divides.
    Outside,
}

impl Fault {
    pub(super) const fn words(self) -> &'static str {
        match self {
            Fault::Unclosed => "is never closed",
            Fault::ClosesNothing => "closes nothing",
            Fault::Outside => "is outside the pair that it divides",
        }
    }
}

/// Something about the syntax that cannot be right.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SyntaxError {
    /// Its place.
    pub span: Span,
    /// The kind of mistake.
    pub fault: Fault,
    /// The mistake, in words.
    pub message: String,
}

/// The constructs of one source, in order, never overlapping.
#[derive(Clone, Debug, Default)]
pub struct Constructs {
    /// Sorted by place.
    pub items: Vec<Construct>,
    /// The tags that could not be paired.
    pub errors: Vec<SyntaxError>,
}

impl Constructs {
    /// The ranges that are no HTML.
    pub fn opaque(&self) -> Vec<Opaque> {
        let opaque = self.items.iter().filter(|item| item.is_opaque());
        opaque.map(|item| Opaque { span: item.span, prints: item.kind.prints() }).collect()
    }

    /// Those whose bytes are hidden from HTML and that begin in a span.
    pub fn opaque_in(&self, span: Span) -> impl Iterator<Item = &Construct> {
        let first = self.items.partition_point(|item| item.span.start < span.start);
        self.items[first..].iter().take_while(move |item| item.span.start < span.end).filter(|item| item.is_opaque())
    }

    /// The number of one of them.
    pub fn place_of(&self, item: &Construct) -> usize {
        let first = self.items.partition_point(|other| other.span.start < item.span.start);
        first + self.items[first..].iter().position(|other| other == item).unwrap_or(0)
    }

    /// Whether some begin in a span.
    pub fn any_in(&self, span: Span) -> bool {
        self.opaque_in(span).next().is_some()
    }

    /// Adds pairs of blocks that something else than the dialect's tags marks; `false`
    /// if they do not lie between the tags.
    pub fn add_blocks(&mut self, pairs: &[(Span, Span)]) -> bool {
        let added = pairs.iter().enumerate().flat_map(|(pair, (open, close))| {
            [(Part::Open, *open), (Part::Close, *close)].map(|(part, span)| Added {
                construct: Construct { kind: Kind::Block, part, ..bare(span) },
                pair: Some(pair),
                rank: AMONG_THEM + 1,
            })
        });
        self.insert(added.collect());
        self.items.windows(2).all(|pair| pair[0].span.end <= pair[1].span.start)
    }

    /// Puts more constructs among the others. Partners keep finding each other, and the halves of a pair do.
    pub(super) fn insert(&mut self, added: Vec<Added>) {
        /// The place among the old ones, or the pair.
        #[derive(Clone, Copy)]
        enum Was {
            Old(ConstructId),
            In(Option<usize>),
        }
        let pairs = added.iter().filter_map(|added| added.pair).max().map_or(0, |last| last + 1);
        let old = std::mem::take(&mut self.items);
        let added = added.into_iter().map(|added| (added.rank, added.construct, Was::In(added.pair)));
        let mut all: Vec<(u8, Construct, Was)> =
            ConstructId::each(&old).map(|(at, item)| (AMONG_THEM, *item, Was::Old(at))).chain(added).collect();
        all.sort_by_key(|(rank, item, _)| (item.span.start, *rank));
        let mut places = vec![ConstructId(0); old.len()];
        let mut halves = vec![[None; 2]; pairs];
        for (at, (_, item, was)) in ConstructId::each(&all) {
            match *was {
                Was::Old(old) => places[old.index()] = at,
                Was::In(Some(pair)) => halves[pair][usize::from(item.part == Part::Close)] = Some(at),
                Was::In(None) => {}
            }
        }
        let placed = |(_, item, was): (u8, Construct, Was)| {
            let partner = match was {
                Was::Old(_) => item.partner.map(|partner| places[partner.index()]),
                Was::In(pair) => pair.and_then(|pair| halves[pair][usize::from(item.part == Part::Open)]),
            };
            Construct { partner, ..item }
        };
        self.items = all.into_iter().map(placed).collect();
    }

    /// The other half of a construct, if it has one.
    pub fn partner(&self, construct: &Construct) -> Option<&Construct> {
        construct.partner.and_then(|at| self.items.get(at.index()))
    }

    /// The constructs between an opener and its closer; none for a tag that lacks one.
    pub fn inside(&self, opener: ConstructId) -> &[Construct] {
        let closer = self.items.get(opener.index()).and_then(|item| item.partner);
        closer.and_then(|closer| self.items.get(opener.index() + 1..closer.index())).unwrap_or(&[])
    }
}

/// The rank of the constructs that were read.
pub(super) const AMONG_THEM: u8 = 3;

/// A construct that is put among others.
pub(super) struct Added {
    pub construct: Construct,
    /// The number of its pair, if it is half of one.
    pub pair: Option<usize>,
    /// At one place those of lower rank come first.
    pub rank: u8,
}
