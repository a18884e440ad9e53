//! The pieces of a pattern, and what is found in their places.

use crate::text::Span;

/// The places of a pattern that stand for something else.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Place {
    Target,
    Name,
    Value,
    Expr,
    Args,
    Text,
    /// An expression where a target in quotes is expected.
    TargetExpr,
    /// An expression where a value in quotes is expected.
    ValueExpr,
}

/// A piece of a pattern.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Piece {
    Literal(Vec<u8>),
    /// Whitespace; `true` where at least one is needed (between two words).
    Blank(bool),
    /// Whitespace may be here, but none is written.
    Gap,
    Quote(u8),
    Place(Place),
    Optional(Vec<Piece>),
    /// A trim or exact mark may be here.
    Mark(Side),
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Side {
    Left,
    Right,
}

/// Marks that may be inside the delimiters of a dialect's tags.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Marks {
    /// They remove the whitespace on their side.
    pub trim: Vec<Vec<u8>>,
    /// They switch the line rule off for one tag.
    pub exact: Vec<Vec<u8>>,
}

/// The parts that a pattern found: spans into the source, empty where nothing was captured.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Captures {
    /// The target's name, without its quotes; of a dynamic target the expression.
    pub target: Span,
    /// The name of a block or value.
    pub name: Span,
    /// A short content, without its quotes; of a dynamic one the expression.
    pub value: Span,
    /// The expression or the arguments; the first, if there are several.
    pub expr: Span,
    /// The second expression.
    pub after: Span,
    /// The trim marks at the opening and the closing delimiter.
    pub marks: [Span; 2],
    /// An exact mark was at the opening delimiter.
    pub exact: bool,
    /// How many expressions were found.
    pub(super) expressions: u8,
}

pub(super) fn is_word(byte: u8) -> bool {
    byte.is_ascii_alphanumeric() || byte == b'_' || byte >= 0x80
}
