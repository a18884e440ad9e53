//! A planned layout, with the layouts that extend it.

use rustc_hash::FxHashSet;

use crate::propose::skeleton::hole::{Hole, Piece};
use crate::text::Span;

/// A layout, and those that extend it.
pub struct Layout {
    /// The word that it is named by; empty for the base.
    pub word: String,
    /// Other words, where that is taken.
    pub other_words: Vec<String>,
    /// Why its pages have one of their own; empty for the base.
    pub told: String,
    /// Pages that take it or one that extends it, in ascending order.
    pub members: Vec<usize>,
    pub body: Body,
    /// The holes that its pages and its sections may fill.
    pub open: Vec<Open>,
    pub inner: Vec<Layout>,
}

/// The content of a layout.
pub enum Body {
    /// A whole page.
    Base(Vec<Piece>),
    /// Blocks of the layout around it.
    Section(Vec<Override>),
    /// A layout that the site has, with what changes in it, in order.
    Existing { path: String, edits: Vec<(Span, Vec<u8>)> },
}

impl Body {
    /// How many bytes it has, but for its tags.
    pub fn bytes(&self) -> usize {
        match self {
            Body::Base(pieces) => pieces.iter().map(Piece::bytes).sum(),
            Body::Section(overrides) => overrides.iter().flat_map(|filled| &filled.pieces).map(Piece::bytes).sum(),
            Body::Existing { edits, .. } => edits.iter().map(|(_, text)| text.len()).sum(),
        }
    }
}

/// A block that a section fills.
pub struct Override {
    pub name: String,
    pub lines: bool,
    pub pieces: Vec<Piece>,
    /// The content of the block in the layout around; see [`Open::shown`].
    pub replaces: Vec<u8>,
}

/// A hole that may be filled.
pub struct Open {
    pub hole: Hole,
    /// The hole in whose default it is, by index.
    pub outer: Option<usize>,
    /// This layout defines it.
    pub own: bool,
    /// Something is there unless a page or a section says otherwise.
    pub default: bool,
    /// That content as pages have it, where it is the same in all that take it.
    pub shown: Vec<u8>,
}

impl Layout {
    /// One of its blocks, or of those around it that are left open.
    pub fn block(&self, name: &str) -> Option<&Open> {
        self.open.iter().find(|open| open.hole.name == name)
    }

    /// How many blocks it or one that extends it has of its own at most.
    pub fn widest(&self) -> usize {
        let own = self.open.iter().filter(|open| open.own).count();
        self.inner.iter().map(Layout::widest).max().unwrap_or(0).max(own)
    }

    /// Drops the sections that fill nothing any more; those in them move up.
    pub fn drop_empty(&mut self) {
        for mut section in std::mem::take(&mut self.inner) {
            section.drop_empty();
            match &section.body {
                Body::Section(overrides) if overrides.is_empty() => self.inner.extend(section.inner),
                _ => self.inner.push(section),
            }
        }
    }

    /// Pages that take it directly.
    pub fn direct(&self) -> Vec<usize> {
        let elsewhere: FxHashSet<usize> = self.inner.iter().flat_map(|inner| inner.members.iter().copied()).collect();
        self.members.iter().copied().filter(|page| !elsewhere.contains(page)).collect()
    }
}

#[cfg(test)]
mod tests {
    use crate::propose::hierarchy::layout::{Body, Layout, Override};

    fn section(members: &[usize], overrides: usize, inner: Vec<Layout>) -> Layout {
        let filled =
            |at: usize| Override { name: at.to_string(), lines: false, pieces: Vec::new(), replaces: Vec::new() };
        Layout {
            word: String::new(),
            other_words: Vec::new(),
            told: String::new(),
            members: members.to_vec(),
            body: Body::Section((0..overrides).map(filled).collect()),
            open: Vec::new(),
            inner,
        }
    }

    #[test]
    fn a_section_that_fills_nothing_goes_and_those_in_it_move_up() {
        let deep = section(&[2, 3], 1, Vec::new());
        let mut base = section(&[0, 1, 2, 3], 1, vec![section(&[1, 2, 3], 0, vec![deep])]);
        assert_eq!(base.direct(), [0]);
        base.drop_empty();
        assert_eq!((base.inner.len(), &base.inner[0].members[..]), (1, &[2, 3][..]));
        assert_eq!(base.direct(), [0, 1]);
        assert_eq!(base.body.bytes(), 0);
    }
}
