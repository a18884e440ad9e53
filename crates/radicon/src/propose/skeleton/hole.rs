//! Holes: the places of a layout where pages differ, with what is there.

use crate::markup::{NodeId, TokenId};
use crate::propose::pages::page::{Page, Run};
use crate::text::{Span, is_blank};

/// A piece of the layout.
#[derive(Clone, Debug)]
pub enum Piece {
    /// Bytes that all pages share, shown by one of them.
    Fixed { page: usize, span: Span },
    /// A place where they differ.
    Hole(Box<Hole>),
    /// The same in all pages, but where a reader is.
    Mark(Box<Mark>),
}

impl Piece {
    /// How many bytes it has in the layout, but for tags.
    pub fn bytes(&self) -> usize {
        match self {
            Piece::Fixed { span, .. } => span.len(),
            Piece::Mark(mark) => mark.bytes(),
            Piece::Hole(hole) => match &hole.default {
                DefaultContent::Empty | DefaultContent::Again(_) => 0,
                DefaultContent::Content(at) => hole.variants[*at].content.len(),
                DefaultContent::Pieces(pieces) => pieces.iter().map(Piece::bytes).sum(),
            },
        }
    }
}

/// A place that looks otherwise in the page, or the pages of a folder, where a link in it or around it leads.
#[derive(Clone, Debug)]
pub struct Mark {
    /// The path of the page, or of the folder with a `/` at its end; `None` where the tag around says it.
    pub target: Option<String>,
    /// The pages where it is so, in ascending order.
    pub pages: Vec<usize>,
    /// What is shown there: the page that has it, and the place.
    pub here: (usize, Span),
    /// What is shown elsewhere.
    pub elsewhere: (usize, Span),
}

impl Mark {
    /// About how many bytes its tags have.
    const TAGS: usize = 60;

    /// What a page shows.
    pub fn shown_in(&self, page: usize) -> (usize, Span) {
        if self.pages.binary_search(&page).is_ok() { self.here } else { self.elsewhere }
    }

    /// About how many bytes it has in a layout.
    pub fn bytes(&self) -> usize {
        self.here.1.len() + self.elsewhere.1.len() + self.target.as_ref().map_or(0, String::len) + Self::TAGS
    }
}

/// The place of a hole.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Context {
    /// Between nodes: the node that holds it, in the first member.
    Content { parent: NodeId },
    /// Within the text of a node.
    Text { node: NodeId },
    /// The value of an attribute: the element, and the attribute's token.
    Value { node: NodeId, token: TokenId },
    /// Whole attributes of an element.
    Attributes { node: NodeId },
}

/// The content of a hole unless a page overrides it.
#[derive(Clone, Debug)]
pub enum DefaultContent {
    /// Nothing.
    Empty,
    /// The content of one page, by its place in the list of variants.
    Content(usize),
    /// A template of its own for the pages that follow it.
    Pieces(Vec<Piece>),
    /// The content of these pages in the hole of this name.
    Again(String),
}

/// The cost of an override beyond its content, in bytes, about.
pub const TAGS: usize = 45;

/// The content of a page in a hole.
#[derive(Clone, Copy, Debug)]
pub struct Variant {
    /// The page, by its index.
    pub page: usize,
    pub content: Span,
    /// The content's hash; 0 for nothing.
    pub hash: u64,
    /// Between nodes: the node around it and the run of tokens.
    pub place: Option<(NodeId, Run)>,
    /// It is the default.
    pub follows: bool,
}

impl Variant {
    pub fn bytes<'p>(&self, pages: &'p [Page]) -> &'p [u8] {
        self.content.of(&pages[self.page].source)
    }

    pub fn text(&self, pages: &[Page]) -> String {
        self.content.text(&pages[self.page].source).into_owned()
    }
}

/// A place where pages differ.
#[derive(Clone, Debug)]
pub struct Hole {
    pub context: Context,
    /// The content of each page that it concerns, in ascending order of the pages; one at least.
    pub variants: Vec<Variant>,
    pub default: DefaultContent,
    /// Whitespace on both sides shows in no page, so its tags may have their own lines.
    pub lines: bool,
    /// In most pages it is within a line, and so it does in the layout.
    pub within_line: bool,
    /// The name of its block; empty until its layout is planned.
    pub name: String,
    /// The settings name it; so it stays as it is.
    pub is_named: bool,
    /// Every page has here what it has in the hole of the same name before it.
    pub again: bool,
}

impl Hole {
    /// A hole within a line that nobody named.
    pub fn new(context: Context, mut variants: Vec<Variant>, default: DefaultContent) -> Self {
        let shown = match default {
            DefaultContent::Content(at) => Some(variants[at].hash),
            DefaultContent::Empty => Some(0),
            DefaultContent::Pieces(_) | DefaultContent::Again(_) => None,
        };
        if let Some(shown) = shown {
            variants.iter_mut().for_each(|variant| variant.follows = variant.hash == shown);
        }
        let (lines, within_line, is_named, again) = (false, false, false, false);
        Self { context, variants, default, lines, within_line, name: String::new(), is_named, again }
    }

    /// The same for those of its pages that are among these.
    pub fn of(&self, pages: &[usize]) -> Hole {
        let variants: Vec<Variant> = pages.iter().filter_map(|&page| self.variant(page).copied()).collect();
        // The place is told for the first page.
        let context = match (self.context, variants.first().and_then(|variant| variant.place)) {
            (Context::Content { .. }, Some((parent, _))) => Context::Content { parent },
            (context, _) => context,
        };
        let (default, name) = (DefaultContent::Empty, self.name.clone());
        Hole { context, variants, default, name, ..*self }
    }

    /// The content of a page in it.
    pub fn variant(&self, page: usize) -> Option<&Variant> {
        let at = self.variants.binary_search_by_key(&page, |variant| variant.page);
        at.ok().map(|at| &self.variants[at])
    }

    /// The first of its pages.
    pub fn first_page<'p>(&self, pages: &'p [Page]) -> &'p Page {
        &pages[self.variants[0].page]
    }

    /// The content of the first page that has any there; else that of the first one.
    pub fn filled(&self) -> &Variant {
        self.variants.iter().find(|variant| !variant.content.is_empty()).unwrap_or(&self.variants[0])
    }

    /// Whether it concerns the same pages as another.
    pub fn has_pages_of(&self, other: &Hole) -> bool {
        self.variants.len() == other.variants.len()
            && self.variants.iter().zip(&other.variants).all(|(a, b)| a.page == b.page)
    }

    /// The hash of what all its pages have, if that is the same.
    pub fn only(&self) -> Option<u64> {
        let first = self.variants.first()?.hash;
        self.variants.iter().all(|variant| variant.hash == first).then_some(first)
    }

    pub fn hashes(&self) -> Vec<u64> {
        self.variants.iter().map(|variant| variant.hash).collect()
    }

    /// The first variant of a hash.
    pub fn position(&self, hash: u64) -> Option<usize> {
        self.variants.iter().position(|variant| variant.hash == hash)
    }

    /// Attributes that are not just there or not there.
    pub fn is_reshaped_tag(&self) -> bool {
        matches!(self.context, Context::Attributes { .. })
            && self.variants.iter().all(|variant| !variant.content.is_empty())
    }

    /// Whether the contents differ in whitespace only.
    pub fn differs_in_blanks_only(&self, pages: &[Page]) -> bool {
        let solid = |variant: &Variant| {
            let text = variant.bytes(pages);
            text.iter().copied().filter(|b| !is_blank(*b)).collect::<Vec<u8>>()
        };
        let first = solid(&self.variants[0]);
        self.variants[1..].iter().all(|variant| solid(variant) == first)
    }

    /// The contents of pages that do not take the default.
    pub fn own(&self) -> impl Iterator<Item = &Variant> {
        self.variants.iter().filter(|variant| !variant.follows)
    }

    /// The bytes that pages have in it themselves.
    pub fn own_bytes(&self) -> usize {
        self.own().map(|variant| variant.content.len()).sum()
    }

    /// How many pages override it.
    pub fn overriding(&self) -> usize {
        self.own().count()
    }

    /// The default, if it is what a page has.
    pub fn shown(&self) -> Option<&Variant> {
        match self.default {
            DefaultContent::Content(at) => Some(&self.variants[at]),
            DefaultContent::Empty | DefaultContent::Pieces(_) | DefaultContent::Again(_) => None,
        }
    }

    /// The content of the default, if it is that of a page.
    pub fn default_content<'p>(&self, pages: &'p [Page]) -> &'p [u8] {
        self.shown().map_or(&[], |variant| variant.bytes(pages))
    }

    /// The hash of what its pages have that take what is shown; 0 if there are none.
    pub fn taken(&self) -> u64 {
        self.variants.iter().find(|variant| variant.follows).map_or(0, |variant| variant.hash)
    }

    /// Those that have this take the default.
    pub fn follow(&mut self, hash: u64) {
        self.variants.iter_mut().for_each(|variant| variant.follows = variant.hash == hash);
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

/// Does something to all holes, the outer before the inner, in order of their places.
pub fn each_hole(pieces: &mut [Piece], change: &mut impl FnMut(&mut Hole)) {
    for piece in pieces {
        let Piece::Hole(hole) = piece else { continue };
        change(hole);
        if let DefaultContent::Pieces(inner) = &mut hole.default {
            each_hole(inner, change);
        }
    }
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

/// The best default where pages have contents of these hashes.
pub fn choose_default(hashes: &[u64]) -> DefaultContent {
    majority(hashes).map_or(DefaultContent::Empty, DefaultContent::Content)
}

/// Cuts off what lies outside the contents of the hole around.
pub fn clip(pieces: &mut [Piece], around: &Hole) {
    let cut = |page: usize, span: &mut Span| {
        if let Some(Variant { content: whole, .. }) = around.variant(page) {
            let start = span.start.clamp(whole.start, whole.end);
            *span = Span::new(start, span.end.clamp(start, whole.end));
        }
    };
    for piece in pieces {
        match piece {
            Piece::Fixed { page, span } => cut(*page, span),
            Piece::Mark(mark) => {
                cut(mark.here.0, &mut mark.here.1);
                cut(mark.elsewhere.0, &mut mark.elsewhere.1);
            }
            Piece::Hole(hole) => {
                for variant in &mut hole.variants {
                    let before = variant.content;
                    cut(variant.page, &mut variant.content);
                    // A line without its end is no line of its own.
                    hole.lines &= variant.content == before;
                }
                if let DefaultContent::Pieces(inner) = &mut hole.default {
                    clip(inner, around);
                }
            }
        }
    }
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
