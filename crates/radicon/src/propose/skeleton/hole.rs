//! Holes: the places of a layout where pages differ, with what stands there.

use crate::propose::pages::page::{Page, Run};
use crate::text::{Span, is_blank};

/// A piece of the layout.
#[derive(Clone, Debug)]
pub enum Piece {
    /// Bytes that all pages share, shown by one of them.
    Fixed { page: usize, span: Span },
    /// A place where they differ.
    Hole(Box<Hole>),
}

impl Piece {
    /// How many bytes it has in the layout, but for tags.
    pub fn bytes(&self) -> usize {
        match self {
            Piece::Fixed { span, .. } => span.len(),
            Piece::Hole(hole) => match &hole.default {
                DefaultContent::Empty | DefaultContent::Again(_) => 0,
                DefaultContent::Content(member) => hole.contents[*member].len(),
                DefaultContent::Pieces(pieces) => pieces.iter().map(Piece::bytes).sum(),
            },
        }
    }
}

/// Where a hole is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Context {
    /// Between nodes: the node that holds it, in the first member.
    Content { parent: u32 },
    /// Within the text of a node.
    Text { node: u32 },
    /// The value of an attribute: the element, and the attribute's token.
    Value { node: u32, token: u32 },
    /// Whole attributes of an element.
    Attributes { node: u32 },
}

/// What stands in a hole unless a page says otherwise.
#[derive(Clone, Debug)]
pub enum DefaultContent {
    /// Nothing.
    Empty,
    /// What this member has, by its place in the list of members.
    Content(usize),
    /// A template of its own for the members that follow it.
    Pieces(Vec<Piece>),
    /// What they have in the hole of this number.
    Again(usize),
}

/// What an override costs beyond its content, in bytes, about.
pub const TAGS: usize = 45;

/// A place where pages differ.
#[derive(Clone, Debug)]
pub struct Hole {
    pub context: Context,
    /// The pages it concerns, in ascending order.
    pub members: Vec<usize>,
    /// What each of them has there.
    pub contents: Vec<Span>,
    /// Hashes of the contents; 0 for nothing.
    pub hashes: Vec<u64>,
    /// Between nodes: the node around it and the run of tokens, for each of them.
    pub siblings: Vec<(u32, Run)>,
    /// Whether each of them takes the default.
    pub follows: Vec<bool>,
    pub default: DefaultContent,
    /// White space on both sides shows in no page, so its tags may have their own lines.
    pub lines: bool,
    /// In most pages it stands within a line, and so it does in the layout.
    pub within_line: bool,
    /// The settings name it; so it stays as it is.
    pub named: Option<String>,
    /// Every page has here what it has in the hole of this number.
    pub again: Option<usize>,
}

impl Hole {
    /// The same for those of its pages that are among these.
    pub fn of(&self, members: &[usize]) -> Hole {
        let places: Vec<usize> = members.iter().filter_map(|member| self.members.binary_search(member).ok()).collect();
        let siblings: Vec<(u32, Run)> = places.iter().filter_map(|&at| self.siblings.get(at).copied()).collect();
        // The place is told for the first member.
        let context = match (self.context, siblings.first()) {
            (Context::Content { .. }, Some(&(parent, _))) => Context::Content { parent },
            (context, _) => context,
        };
        Hole {
            context,
            members: places.iter().map(|&at| self.members[at]).collect(),
            contents: places.iter().map(|&at| self.contents[at]).collect(),
            hashes: places.iter().map(|&at| self.hashes[at]).collect(),
            siblings,
            follows: places.iter().map(|&at| self.follows[at]).collect(),
            default: DefaultContent::Empty,
            lines: self.lines,
            within_line: self.within_line,
            named: self.named.clone(),
            again: self.again,
        }
    }

    /// The lengths of its contents.
    pub fn lengths(&self) -> Vec<u64> {
        self.contents.iter().map(|content| content.len() as u64).collect()
    }

    /// Attributes that are not just there or not there.
    pub fn is_reshaped_tag(&self) -> bool {
        matches!(self.context, Context::Attributes { .. }) && self.contents.iter().all(|content| !content.is_empty())
    }

    /// Whether the contents differ in white space only.
    pub fn differs_in_blanks_only(&self, pages: &[Page]) -> bool {
        let solid = |index: usize| {
            let text = self.contents[index].of(&pages[self.members[index]].source);
            text.iter().copied().filter(|b| !is_blank(*b)).collect::<Vec<u8>>()
        };
        let first = solid(0);
        (1..self.members.len()).all(|index| solid(index) == first)
    }

    /// The bytes that pages have in it themselves.
    pub fn own_bytes(&self) -> usize {
        let own = self.contents.iter().zip(&self.follows).filter(|(_, follows)| !**follows);
        own.map(|(content, _)| content.len()).sum()
    }

    /// The default, if it is what a page has: by its place in the list of members, and its hash.
    pub fn shown(&self) -> Option<(usize, u64)> {
        match self.default {
            DefaultContent::Content(at) => Some((at, self.hashes[at])),
            DefaultContent::Empty | DefaultContent::Pieces(_) | DefaultContent::Again(_) => None,
        }
    }

    /// What the default shows, if it is what a page has.
    pub fn default_content<'p>(&self, pages: &'p [Page]) -> &'p [u8] {
        self.shown().map_or(&[], |(at, _)| self.contents[at].of(&pages[self.members[at]].source))
    }

    /// The hash of what its pages have that take what is shown; 0 if there are none.
    pub fn taken(&self) -> u64 {
        self.follows.iter().position(|follows| *follows).map_or(0, |at| self.hashes[at])
    }

    /// Those that have this take the default.
    pub fn follow(&mut self, hash: u64) {
        self.follows = self.hashes.iter().map(|other| *other == hash).collect();
    }

    /// How many pages override it.
    pub fn overriding(&self) -> usize {
        self.follows.iter().filter(|follows| !**follows).count()
    }
}

/// All holes, the outer before the inner, in order of their places.
pub fn holes(pieces: &[Piece]) -> Vec<&Hole> {
    let mut found = Vec::new();
    let mut stack: Vec<&Piece> = pieces.iter().rev().collect();
    while let Some(piece) = stack.pop() {
        if let Piece::Hole(hole) = piece {
            found.push(&**hole);
            if let DefaultContent::Pieces(inner) = &hole.default {
                stack.extend(inner.iter().rev());
            }
        }
    }
    found
}

/// The member whose content makes a good default: more than half of all share
/// it, and no more than a quarter would have to say that they have nothing there.
pub fn majority(hashes: &[u64]) -> Option<usize> {
    // Boyer and Moore 1981: the only candidate, then counted.
    let (mut candidate, mut lead) = (0, 0_usize);
    for (index, hash) in hashes.iter().enumerate() {
        if lead == 0 {
            (candidate, lead) = (index, 1);
        } else if *hash == hashes[candidate] {
            lead += 1;
        } else {
            lead -= 1;
        }
    }
    let hash = *hashes.get(candidate)?;
    let count = |wanted: u64| hashes.iter().filter(|other| **other == wanted).count();
    let good = hash != 0 && count(hash) * 2 > hashes.len() && count(0) * 4 <= hashes.len();
    good.then(|| hashes.iter().position(|other| *other == hash).unwrap_or(candidate))
}

pub fn choose_default(hashes: &[u64]) -> (DefaultContent, Vec<bool>) {
    let default = majority(hashes);
    let shown = default.map_or(0, |index| hashes[index]);
    (default.map_or(DefaultContent::Empty, DefaultContent::Content), hashes.iter().map(|&hash| hash == shown).collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_default_needs_most_of_the_pages() {
        assert_eq!(majority(&[1, 2, 1, 1]), Some(0));
        assert_eq!(majority(&[1, 2, 1, 2]), None);
        assert_eq!(majority(&[0, 0, 0, 5]), None);
        assert_eq!(majority(&[5, 5, 5, 0]), Some(0));
        assert_eq!(majority(&[5, 5, 5, 0, 0]), None);
    }
}
