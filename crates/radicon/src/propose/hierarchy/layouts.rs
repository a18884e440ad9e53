//! Layouts of several levels: a section's layout fills some holes of the one
//! around it for all its pages, and may leave holes of its own in them.

use std::cmp::Reverse;

use rayon::prelude::*;
use rustc_hash::FxHashSet;

use crate::propose::Options;
use crate::propose::hierarchy::defaults::choose_defaults;
use crate::propose::hierarchy::sections::{Section, choose};
use crate::propose::naming;
use crate::propose::pages::page::Page;
use crate::propose::partials::find::values;
use crate::propose::skeleton::hole::{Context, DefaultContent, Hole, Piece, TAGS};
use crate::propose::skeleton::unify::{Unified, Unifier};
use crate::text::{Span, is_blank};

/// A layout, and those that extend it.
pub struct Layout {
    /// The word that it is named by; empty for the base.
    pub word: String,
    /// Other words, where that is taken.
    pub other_words: Vec<String>,
    /// Pages that take it or one that extends it, in ascending order.
    pub members: Vec<usize>,
    pub body: Body,
    /// What its pages and its sections may fill.
    pub open: Vec<Open>,
    /// What a section saves beyond the layout around it, about, in bytes.
    pub saves: usize,
    pub inner: Vec<Layout>,
}

/// What a layout consists of.
pub enum Body {
    /// A whole page, with the names of its holes in order of their places.
    Base { pieces: Vec<Piece>, names: Vec<String> },
    /// Blocks of the layout around it.
    Section(Vec<Override>),
    /// A layout that the site has, with what changes in it, in order.
    Existing { path: String, edits: Vec<(Span, Vec<u8>)> },
}

impl Body {
    /// How many bytes it has, but for its tags.
    pub fn bytes(&self) -> usize {
        match self {
            Body::Base { pieces, .. } => pieces.iter().map(Piece::bytes).sum(),
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
    /// The names of the holes in it, in order of their places.
    pub names: Vec<String>,
    /// What the block holds in the layout around; see [`Open::shown`].
    pub replaces: Vec<u8>,
}

/// A hole that may be filled.
pub struct Open {
    pub name: String,
    pub hole: Hole,
    /// The hole in whose default it stands, by index.
    pub outer: Option<usize>,
    /// This layout defines it.
    pub own: bool,
    /// Something stands there unless a page or a section says otherwise.
    pub default: bool,
    /// That content as pages have it, where it is the same in all that take it.
    pub shown: Vec<u8>,
}

impl Layout {
    /// One of its blocks, or of those around it that are left open.
    pub fn block(&self, name: &str) -> Option<&Open> {
        self.open.iter().find(|open| open.name == name)
    }

    /// How many blocks it or one that extends it has of its own at most.
    pub fn widest(&self) -> usize {
        let own = self.open.iter().filter(|open| open.own).count();
        self.inner.iter().map(Layout::widest).max().unwrap_or(0).max(own)
    }

    /// Drops the sections that fill nothing any more; those in them move up.
    fn drop_empty(&mut self) {
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

/// The most blocks that a section leaves in a block that it fills, times the price
/// of a block: four at the usual price.
const MOST_PARTS: u64 = 400;

/// A section that has no name of its own saves so many times the price of one at least.
const WORTH_A_NUMBER: u64 = 20;

/// What layouts save with those in them, in bytes.
fn saved_by(layouts: &[Layout]) -> usize {
    layouts.iter().map(|layout| layout.saves + saved_by(&layout.inner)).sum()
}

/// A block's name has so many words at most where size is all.
const SHORT_NAME: usize = 2;

/// Builds the layouts of a family.
pub struct Planner<'a> {
    pub unifier: &'a Unifier<'a>,
    pub pages: &'a [Page],
    pub options: &'a Options,
    /// What a layout more costs, in bytes.
    pub price: u64,
    /// The most levels of layouts.
    pub levels: usize,
    /// Whether what stands several times may become a partial.
    pub partials: bool,
    /// Whether a partial may take values.
    pub values: bool,
    /// Whether a block can be shown once more elsewhere.
    pub again: bool,
}

impl Planner<'_> {
    /// The base layout, and the sections that pay.
    pub fn plan(&self, mut unified: Unified, members: Vec<usize>) -> Layout {
        let mut taken = Vec::new();
        if self.again {
            Self::say_once(&mut unified.pieces, &mut 0, &mut Vec::new());
        }
        let names = self.names(&unified.pieces, "", &mut taken);
        let mut open = Vec::new();
        self.open(&unified.pieces, &mut names.iter(), None, &mut open);
        let body = Body::Base { pieces: unified.pieces, names };
        let mut base =
            Layout { word: String::new(), other_words: Vec::new(), members, body, open, saves: 0, inner: Vec::new() };
        self.add_sections(&mut base, taken);
        base
    }

    /// Of holes in which every page has the same, the first is the block that the others show once more; where only most
    /// pages do, that is the default.
    fn say_once(pieces: &mut [Piece], number: &mut usize, known: &mut Vec<(usize, Hole)>) {
        for piece in pieces {
            let Piece::Hole(hole) = piece else { continue };
            let here = *number;
            *number += 1;
            if let DefaultContent::Pieces(inner) = &mut hole.default {
                Self::say_once(inner, number, known);
                continue;
            }
            if hole.named.is_some() || hole.hashes.iter().all(|hash| *hash == hole.hashes[0]) {
                continue;
            }
            let is_markup = |hole: &Hole| matches!(hole.context, Context::Content { .. });
            let is_kin = |other: &Hole| {
                other.members == hole.members && other.lines == hole.lines && is_markup(other) == is_markup(hole)
            };
            let same = |other: &Hole| other.hashes.iter().zip(&hole.hashes).filter(|(a, b)| a == b).count();
            let kin = known.iter().filter(|(_, other)| is_kin(other));
            if let Some((count, Reverse(first))) = kin.map(|(first, other)| (same(other), Reverse(*first))).max() {
                let following = hole.follows.iter().filter(|follows| **follows).count();
                if count == hole.members.len() {
                    hole.again = Some(first);
                    continue;
                }
                if count * 2 > hole.members.len() && count > following {
                    let other = known.iter().find(|(number, _)| *number == first);
                    let hashes = other.map_or(&[][..], |(_, other)| &other.hashes[..]);
                    hole.default = DefaultContent::Again(first);
                    hole.follows = hole.hashes.iter().zip(hashes).map(|(a, b)| a == b).collect();
                    continue;
                }
            }
            known.push((here, (**hole).clone()));
        }
    }

    /// Adds the sections that pay to a layout; these names are taken.
    pub fn add_sections(&self, layout: &mut Layout, taken: Vec<String>) {
        if self.levels > 1 {
            layout.inner = self.best_sections(layout, &taken);
            // Else layouts that stand beside each other are easier to know.
            let section = if self.options.is_small() { TAGS } else { 0 };
            choose_defaults(layout, self.pages, section);
            layout.drop_empty();
        }
    }

    /// The sections of a layout that save most. What pages share is weighed first; where a section chosen by that does not
    /// pay as a layout, others are chosen without it, and by what pages have beside their main content.
    fn best_sections(&self, layout: &Layout, taken: &[String]) -> Vec<Layout> {
        let holes: Vec<&Hole> = layout.open.iter().map(|open| &open.hole).collect();
        let main = (0..holes.len()).max_by_key(|&at| holes[at].own_bytes());
        let beside: Vec<&Hole> = (0..holes.len()).filter(|at| Some(*at) != main).map(|at| holes[at]).collect();
        let (mut best, mut refused) = (Vec::new(), Vec::new());
        for holes in [&holes, &holes, &beside] {
            let (price, small) = (self.price as f64, self.options.is_small());
            let sections = choose(self.pages, &layout.members, holes, price, small, &refused);
            let (found, new) = self.grow(layout, sections, taken, 2);
            if best.is_empty() || saved_by(&found) > saved_by(&best) {
                best = found;
            }
            if new.is_empty() {
                break;
            }
            refused.extend(new);
        }
        best
    }

    /// The sections of a layout, and the members of those refused; one that does not pay is refused, and gives way to
    /// those in it.
    fn grow(
        &self,
        around: &Layout,
        sections: Vec<Section>,
        taken: &[String],
        level: usize,
    ) -> (Vec<Layout>, Vec<Vec<usize>>) {
        let grown = |Section { members, inner }: Section| {
            let mut taken = taken.to_vec();
            match self.section(around, members.clone(), &mut taken) {
                Some(layout) if level == self.levels => (vec![layout], Vec::new()),
                Some(mut layout) => {
                    let (inner, refused) = self.grow(&layout, inner, &taken, level + 1);
                    layout.inner = inner;
                    (vec![layout], refused)
                }
                None => {
                    let (found, mut refused) = self.grow(around, inner, &taken, level);
                    refused.push(members);
                    (found, refused)
                }
            }
        };
        let grown: Vec<(Vec<Layout>, Vec<Vec<usize>>)> = sections.into_par_iter().map(grown).collect();
        let (found, refused): (Vec<Vec<Layout>>, Vec<Vec<Vec<usize>>>) = grown.into_iter().unzip();
        (found.into_iter().flatten().collect(), refused.concat())
    }

    /// A section's layout; `None` if it does not pay.
    fn section(&self, around: &Layout, members: Vec<usize>, taken: &mut Vec<String>) -> Option<Layout> {
        let holes: Vec<Hole> = around.open.par_iter().map(|known| known.hole.of(&members)).collect();
        let fill = |hole: &Hole| {
            let is_whole = hole.members.len() == members.len();
            self.fill(hole).filter(|filled| is_whole && filled.saves > 0)
        };
        let mut filled: Vec<Option<Filled>> = holes.par_iter().map(fill).collect();
        let frame_word = self.word_of_frame(around, &holes, &filled, &members);
        let place = naming::of_section(self.pages, &around.members, &members);
        let is_place = place != naming::SECTION;
        let word = if is_place { Some(place.clone()) } else { frame_word.clone() };
        let word = word.or_else(|| naming::of_top_level(self.pages, &around.members, &members)).unwrap_or(place);
        let mut overrides = Vec::new();
        let mut open: Vec<Open> = Vec::new();
        let mut saved = 0;
        // Where the holes of the layout around stand among those left open here; none if filled.
        let mut places: Vec<Option<usize>> = Vec::new();
        for ((known, hole), filled) in around.open.iter().zip(holes).zip(&mut filled) {
            if known.outer.is_some_and(|outer| places[outer].is_none()) {
                places.push(None);
                continue;
            }
            let outer = known.outer.and_then(|outer| places[outer]);
            match filled.take() {
                Some(filled) => {
                    saved += filled.saves;
                    let names = self.names(&filled.pieces, &word, taken);
                    // What has no holes of its own may be replaced as a whole.
                    if names.is_empty() {
                        let hole = Hole { follows: filled.follows, ..hole.clone() };
                        places.push(Some(open.len()));
                        let shown = self.only_bytes(&filled.pieces);
                        let name = known.name.clone();
                        open.push(Open { name, hole, outer, own: false, default: known.default, shown });
                    } else {
                        places.push(None);
                        self.open(&filled.pieces, &mut names.iter(), None, &mut open);
                    }
                    let (lines, replaces) = (known.hole.lines, known.shown.clone());
                    overrides.push(Override {
                        name: known.name.clone(),
                        lines,
                        pieces: filled.pieces,
                        names,
                        replaces,
                    });
                }
                None => {
                    places.push(Some(open.len()));
                    let (name, shown) = (known.name.clone(), known.shown.clone());
                    open.push(Open { name, hole, outer, own: false, default: known.default, shown });
                }
            }
        }
        // What is called like the layout around it has no name of its own.
        let has_name = word != naming::SECTION && word != around.word;
        let is_named = has_name || self.options.is_small() || saved > self.price * WORTH_A_NUMBER;
        let is_frame = !(self.partials && self.is_rather_partial(&overrides));
        let pays = is_named && is_frame && saved > self.price;
        pays.then(|| {
            let (body, saves) = (Body::Section(overrides), saved as usize);
            let other_words = [naming::of_folders(self.pages, &members), frame_word];
            let other_words = other_words.into_iter().flatten().collect();
            Layout { word, other_words, members, body, open, saves, inner: Vec::new() }
        })
    }

    /// A word for a section of pages: the menu's item that is the current one in all of them, else what the first thing
    /// is called that its layout would bring.
    fn word_of_frame(
        &self,
        around: &Layout,
        holes: &[Hole],
        filled: &[Option<Filled>],
        members: &[usize],
    ) -> Option<String> {
        let all = around.open.iter().zip(holes.iter().zip(filled));
        let whole: Vec<_> = all.filter(|(_, (hole, _))| hole.members.len() == members.len()).collect();
        let text = |hole: &Hole| hole.contents[0].text(&self.pages[hole.members[0]].source).into_owned();
        let is_current =
            |hole: &Hole| naming::is_current(&text(hole)) && hole.hashes.iter().all(|&h| h == hole.hashes[0]);
        let marked =
            whole.iter().filter(|(open, (hole, _))| open.name.starts_with(naming::CURRENT) && is_current(hole));
        let mut items = marked.filter_map(|(open, _)| open.name.strip_prefix(naming::CURRENT)).map(naming::word);
        if let Some(item) = items.find(|word| *word != around.word && naming::is_telling(word)) {
            return Some(item);
        }
        // What is loaded says less of a section than what is shown.
        let is_in_head = |hole: &Hole| match hole.context {
            Context::Content { parent } => naming::tag(&self.pages[hole.members[0]], parent) == "head",
            _ => false,
        };
        let (head, shown): (Vec<_>, Vec<_>) = whole.iter().partition(|(_, (hole, _))| is_in_head(hole));
        shown.into_iter().chain(head).find_map(|(_, (hole, filled))| {
            let name = |piece: &Piece| match piece {
                Piece::Fixed { page, span } => {
                    let bytes = span.of(&self.pages[*page].source);
                    let is_value = matches!(hole.context, Context::Value { .. });
                    if is_value { naming::of_value_text(bytes) } else { naming::first_telling(bytes) }
                }
                Piece::Hole(_) => None,
            };
            filled.as_ref()?.pieces.iter().filter_map(name).find(|word| *word != around.word)
        })
    }

    /// The best way in which a section may fill a hole for its pages.
    fn fill(&self, hole: &Hole) -> Option<Filled> {
        let prices = self.unifier.prices;
        let lengths = hole.lengths();
        let own = lengths.iter().zip(&hole.follows).filter(|(_, follows)| !**follows);
        let without: u64 = own.map(|(length, _)| length + prices.page).sum();
        if without == 0 {
            return None;
        }
        // The same for most, who say nothing then.
        let equal = hole.hashes.iter().all(|hash| *hash == hole.hashes[0]);
        let default = if equal { Some(0) } else { crate::propose::skeleton::hole::majority(&hole.hashes) };
        let plain = default.map(|member| {
            let follows = hole.hashes.iter().map(|&hash| hash == hole.hashes[member]).collect();
            let piece = Piece::Fixed { page: hole.members[member], span: hole.contents[member] };
            let cost = if equal {
                prices.layout + lengths[0]
            } else {
                self.unifier.hole_cost(&hole.members, &hole.hashes, &lengths)
            };
            let saves = without.saturating_sub(cost);
            Filled { pieces: vec![piece], follows, saves }
        });
        let parted = self.unifier.inside(hole).map(|unified| {
            let blocks = crate::propose::skeleton::hole::holes(&unified.pieces).len();
            // Many blocks in one are rather content that looks alike than a frame.
            let most = (MOST_PARTS / prices.layout.max(1)).max(1) as usize;
            let is_frame = unified.pieces.iter().any(|piece| !self.is_blank(piece) && !matches!(piece, Piece::Hole(_)));
            let saves =
                if blocks > most || !is_frame { 0 } else { without.saturating_sub(unified.cost + prices.layout) };
            Filled { pieces: unified.pieces, follows: Vec::new(), saves }
        });
        let parted = parted.filter(|parted| plain.as_ref().is_none_or(|plain| parted.saves > plain.saves));
        parted.or(plain)
    }

    /// The bytes of a single piece without holes.
    fn only_bytes(&self, pieces: &[Piece]) -> Vec<u8> {
        match pieces {
            [Piece::Fixed { page, span }] => span.of(&self.pages[*page].source).to_vec(),
            _ => Vec::new(),
        }
    }

    fn is_blank(&self, piece: &Piece) -> bool {
        match piece {
            Piece::Fixed { page, span } => span.of(&self.pages[*page].source).iter().all(|b| is_blank(*b)),
            Piece::Hole(_) => false,
        }
    }

    /// Whether a section has nothing of its own but one run of markup beside what
    /// its pages have, perhaps with values in it: that is no frame.
    fn is_rather_partial(&self, overrides: &[Override]) -> bool {
        let [only] = overrides else { return false };
        let is_value = |piece: &Piece| match piece {
            Piece::Hole(hole) => self.values && values(self.pages, hole).is_some(),
            Piece::Fixed { .. } => false,
        };
        let pieces = only.pieces.iter().filter(|piece| !self.is_blank(piece) && !is_value(piece));
        let pieces: Vec<&Piece> = pieces.collect();
        let runs = pieces.chunk_by(|a, b| matches!((a, b), (Piece::Fixed { .. }, Piece::Fixed { .. })));
        let fixed = runs.filter(|run| matches!(run[0], Piece::Fixed { .. })).count();
        let beside = pieces.iter().any(|piece| matches!(piece, Piece::Hole(_)));
        only.lines && beside && fixed == 1
    }

    /// The names of all holes in order of their places.
    fn names(&self, pieces: &[Piece], section: &str, taken: &mut Vec<String>) -> Vec<String> {
        let holes = crate::propose::skeleton::hole::holes(pieces);
        let bytes = |hole: &Hole| -> usize { hole.contents.iter().map(|span| span.len()).sum() };
        let main = (0..holes.len())
            .filter(|&at| naming::may_be_main(self.pages, holes[at]))
            .max_by_key(|&at| (bytes(holes[at]), Reverse(at)));
        let in_section = |name: &String| match section {
            "" => None,
            section => Some(format!("{}_{name}", naming::slug(section))),
        };
        let mut names: Vec<String> = Vec::with_capacity(holes.len());
        for (at, hole) in holes.iter().enumerate() {
            if let Some(first) = hole.again {
                names.push(names[first].clone());
                continue;
            }
            let candidates = match &hole.named {
                Some(name) => vec![name.clone()],
                None if self.options.is_small() => {
                    vec![naming::first_words(&naming::name(self.pages, hole), SHORT_NAME).to_owned()]
                }
                None => naming::candidates(self.pages, hole, main == Some(at)),
            };
            let best = &candidates[0];
            let is_free = |name: &&String| !taken.contains(name);
            // The best one with the section's name tells more than another one.
            let chosen = Some(best).filter(is_free).cloned();
            let chosen = chosen.or_else(|| in_section(best).filter(|name| !taken.contains(name)));
            let chosen = chosen.or_else(|| candidates.iter().find(is_free).cloned());
            let chosen = chosen.unwrap_or_else(|| in_section(best).unwrap_or_else(|| best.clone()));
            names.push(naming::unique(self.options.called(chosen), taken));
        }
        names
    }

    /// The holes of pieces, the outer before the inner.
    fn open<'n>(
        &self,
        pieces: &[Piece],
        names: &mut impl Iterator<Item = &'n String>,
        outer: Option<usize>,
        out: &mut Vec<Open>,
    ) {
        for piece in pieces {
            let Piece::Hole(hole) = piece else { continue };
            let name = names.next().cloned().unwrap_or_default();
            if hole.again.is_some() {
                continue;
            }
            let index = out.len();
            let default = !matches!(hole.default, DefaultContent::Empty);
            let shown = hole.default_content(self.pages).to_vec();
            out.push(Open { name, hole: (**hole).clone(), outer, own: true, default, shown });
            if let DefaultContent::Pieces(inner) = &hole.default {
                self.open(inner, names, Some(index), out);
            }
        }
    }
}

/// How a section fills a hole.
struct Filled {
    pieces: Vec<Piece>,
    /// Which pages are content with it, if it has no holes of its own.
    follows: Vec<bool>,
    /// Bytes.
    saves: u64,
}
