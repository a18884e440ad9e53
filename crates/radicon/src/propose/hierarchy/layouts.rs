//! Layouts of several levels: a section's layout fills some holes of the one
//! around it for all its pages, and may leave holes of its own in them.

use std::cmp::Reverse;

use rayon::prelude::*;

use crate::propose::ProposeOptions;
use crate::propose::hierarchy::content;
use crate::propose::hierarchy::defaults::choose_defaults;
use crate::propose::hierarchy::fill::Filled;
use crate::propose::hierarchy::layout::{Body, Layout, Open, Override};
use crate::propose::hierarchy::reasons::{self, Reason};
use crate::propose::hierarchy::sections::{Section, choose};
use crate::propose::naming;
use crate::propose::pages::page::Page;
use crate::propose::partials::find::values;
use crate::propose::partials::passing::Passing;
use crate::propose::price;
use crate::propose::skeleton::hole::{Context, DefaultContent, Hole, Piece, TAGS, Variant, each_hole, holes};
use crate::propose::skeleton::unify::{Unified, Unifier};
use crate::text::{is_blank, trim_blanks};

/// How often sections are chosen anew, without those that turned out not to pay.
const MOST_ROUNDS: usize = 8;

/// A block's name has so many words at most where size is all.
const SHORT_NAME: usize = 2;

/// Builds the layouts of a family.
pub struct Planner<'a> {
    pub unifier: &'a Unifier<'a>,
    pub pages: &'a [Page],
    pub options: &'a ProposeOptions,
    /// The cost of one layout more, in bytes.
    pub price: u64,
    /// The most levels of layouts.
    pub levels: usize,
    /// Whether what is repeated may become a partial.
    pub partials: bool,
    /// The values that a partial may take, if any.
    pub passing: Option<Passing>,
    /// Whether a block can be shown once more elsewhere.
    pub again: bool,
}

impl Planner<'_> {
    /// The base layout, and the sections that are worthwhile.
    pub fn plan(&self, unified: Unified, members: Vec<usize>) -> Layout {
        let mut base = self.plan_in("", unified, members, Vec::new());
        if !self.options.is_small() {
            content::name_apart(self.pages, &mut base);
        }
        base
    }

    /// The same for what is in a block, of which these names are taken.
    pub fn plan_in(&self, block: &str, mut unified: Unified, members: Vec<usize>, mut taken: Vec<String>) -> Layout {
        let known = self.again.then(Vec::new);
        self.name(&mut unified.pieces, block, known, &mut taken);
        let mut open = Vec::new();
        self.open(&unified.pieces, None, &mut open);
        let (word, other_words, body) = (String::new(), Vec::new(), Body::Base(unified.pieces));
        let told = String::new();
        let mut base = Layout { word, other_words, told, members, body, open, inner: Vec::new() };
        self.add_sections(&mut base, taken);
        base
    }

    /// Of holes in which every page has the same, the first is the block that the others show once more; where only most
    /// pages do, that is the default.
    fn say_once(hole: &mut Hole, known: &[Hole]) {
        if hole.is_named || hole.only().is_some() || matches!(hole.default, DefaultContent::Pieces(_)) {
            return;
        }
        let is_markup = |hole: &Hole| matches!(hole.context, Context::Content { .. });
        let is_kin =
            |other: &Hole| other.lines == hole.lines && is_markup(other) == is_markup(hole) && other.has_pages_of(hole);
        let same = |other: &Hole| other.variants.iter().zip(&hole.variants).filter(|(a, b)| a.hash == b.hash).count();
        let kin = known.iter().enumerate().filter(|(_, other)| is_kin(other));
        let Some((count, Reverse(first))) = kin.map(|(at, other)| (same(other), Reverse(at))).max() else { return };
        let (all, first) = (hole.variants.len(), &known[first]);
        if count == all {
            (hole.again, hole.name) = (true, first.name.clone());
        } else if count * 2 > all && count > all - hole.overriding() {
            hole.default = DefaultContent::Again(first.name.clone());
            for (variant, shown) in hole.variants.iter_mut().zip(&first.variants) {
                variant.follows = variant.hash == shown.hash;
            }
        }
    }

    /// Adds the sections that are worthwhile to a layout; these names are taken.
    pub fn add_sections(&self, layout: &mut Layout, taken: Vec<String>) {
        if self.levels > 1 {
            layout.inner = self.sections(layout, &taken);
            // Else layouts that are beside each other are easier to know.
            let section = if self.options.is_small() { TAGS } else { 0 };
            choose_defaults(layout, self.pages, section);
            layout.drop_empty();
        }
    }

    /// The sections of a layout, each with those in it.
    fn sections(&self, around: &Layout, taken: &[String]) -> Vec<Layout> {
        let holes: Vec<&Hole> = around.open.iter().map(|open| &open.hole).collect();
        let (main, small) = (main_of(self.pages, &holes), self.options.is_small());
        let beside: Vec<&Hole> = (0..holes.len()).filter(|at| Some(*at) != main).map(|at| holes[at]).collect();
        let mut reasons = reasons::all(self.pages, &around.members, &beside, main.map(|at| holes[at]), small);
        let seen = if reasons.iter().any(|reason| reason.is_kind) || small { &holes } else { &beside };
        let mut round = 1;
        loop {
            let (price, marks) = (self.price as f64, self.unifier.marks);
            let chosen = choose(self.pages, &around.members, seen, reasons.clone(), price, marks, small);
            let grown = self.grow(around, main, chosen, taken, 2);
            if grown.idle.is_empty() || small || round == MOST_ROUNDS {
                return grown.layouts;
            }
            // What was kept out by those that do not pay may pay.
            reasons.retain(|reason| !grown.idle.contains(&reason.members));
            round += 1;
        }
    }

    /// The sections of a layout; one that does not pay gives way to those in it.
    fn grow(
        &self,
        around: &Layout,
        main: Option<usize>,
        sections: Vec<Section>,
        taken: &[String],
        level: usize,
    ) -> Grown {
        let grown = |Section { reason, inner }: Section| {
            let mut own = taken.to_vec();
            match self.section(around, main, &reason, &mut own) {
                Some(mut layout) => {
                    if level < self.levels {
                        let holes: Vec<&Hole> = layout.open.iter().map(|open| &open.hole).collect();
                        let main = main_of(self.pages, &holes);
                        layout.inner = self.grow(&layout, main, inner, &own, level + 1).layouts;
                    }
                    Grown { layouts: vec![layout], idle: Vec::new() }
                }
                None => {
                    let mut grown = self.grow(around, main, inner, taken, level);
                    grown.idle.push(reason.members);
                    grown
                }
            }
        };
        let all: Vec<Grown> = sections.into_par_iter().map(grown).collect();
        all.into_iter().fold(Grown::default(), |mut all, grown| {
            all.layouts.extend(grown.layouts);
            all.idle.extend(grown.idle);
            all
        })
    }

    /// A section's layout; `None` if it does not pay.
    fn section(
        &self,
        around: &Layout,
        main: Option<usize>,
        reason: &Reason,
        taken: &mut Vec<String>,
    ) -> Option<Layout> {
        let members = reason.members.clone();
        let holes: Vec<Hole> = around.open.par_iter().map(|known| known.hole.of(&members)).collect();
        let fill = |(at, hole): (usize, &Hole)| self.fill_for(reason, Some(at) == main, hole);
        let mut filled: Vec<Option<Filled>> = holes.par_iter().enumerate().map(fill).collect();
        // What the pages say in the layout around can be shown once more.
        let is_said_there = |at: &usize| filled[*at].is_none() && around.open[*at].outer.is_none();
        let said: Vec<Hole> = (0..holes.len()).filter(is_said_there).map(|at| holes[at].clone()).collect();
        let word = reason.word.clone();
        let mut overrides = Vec::new();
        let mut open: Vec<Open> = Vec::new();
        let mut saved = 0;
        // Where the holes of the layout around are among those left open here; none if filled.
        let mut places: Vec<Option<usize>> = Vec::new();
        for ((known, hole), filled) in around.open.iter().zip(holes).zip(&mut filled) {
            if known.outer.is_some_and(|outer| places[outer].is_none()) {
                places.push(None);
                continue;
            }
            let outer = known.outer.and_then(|outer| places[outer]);
            match filled.take() {
                Some(mut filled) => {
                    saved += filled.saves;
                    match filled.shows {
                        // What has no holes of its own may be replaced as a whole.
                        Some(_) => {
                            places.push(Some(open.len()));
                            let shown = self.only_bytes(&filled.pieces);
                            let hole = filled.followed(hole);
                            open.push(Open { hole, outer, own: false, default: known.default, shown });
                        }
                        None => {
                            let around = (!filled.odd.is_empty()).then_some(open.len());
                            places.push(around);
                            if around.is_some() {
                                let hole = filled.followed(hole);
                                open.push(Open { hole, outer, own: false, default: true, shown: Vec::new() });
                            }
                            let known = self.again.then(|| said.clone());
                            self.name(&mut filled.pieces, &word, known, taken);
                            self.open(&filled.pieces, around, &mut open);
                        }
                    }
                    overrides.push(Override {
                        name: known.hole.name.clone(),
                        lines: known.hole.lines,
                        pieces: filled.pieces,
                        replaces: known.shown.clone(),
                    });
                }
                None => {
                    places.push(Some(open.len()));
                    open.push(Open { hole, outer, own: false, default: known.default, shown: known.shown.clone() });
                }
            }
        }
        self.pays(reason, &overrides, saved).then(|| {
            let body = Body::Section(overrides);
            let other_words = naming::of_folders(self.pages, &members).into_iter().collect();
            Layout { word, other_words, told: reason.told.clone(), members, body, open, inner: Vec::new() }
        })
    }

    /// Whether a section that says this, and saves so many bytes, is worth a layout.
    fn pays(&self, reason: &Reason, overrides: &[Override], saved: u64) -> bool {
        let least = if reason.is_kind { price::of_kind(self.options, self.price) } else { self.price };
        let has_lines = |filled: &Override| filled.pieces.iter().any(|piece| self.has_lines(piece));
        let single_lines = !overrides.iter().any(has_lines);
        let with = price::of_section_with(self.options, least, overrides.len(), single_lines);
        let is_frame = !(self.partials && self.is_rather_partial(overrides));
        reason.is_sure && !overrides.is_empty() && with == least || is_frame && saved > with
    }

    /// The bytes of a single piece without holes.
    fn only_bytes(&self, pieces: &[Piece]) -> Vec<u8> {
        match pieces {
            [Piece::Fixed { page, span }] => span.of(&self.pages[*page].source).to_vec(),
            _ => Vec::new(),
        }
    }

    /// Whether a piece is more than a value or a line.
    fn has_lines(&self, piece: &Piece) -> bool {
        match piece {
            Piece::Fixed { page, span } => trim_blanks(span.of(&self.pages[*page].source)).contains(&b'\n'),
            Piece::Mark(_) => true,
            Piece::Hole(hole) => match &hole.default {
                DefaultContent::Pieces(pieces) => pieces.iter().any(|piece| self.has_lines(piece)),
                _ => false,
            },
        }
    }

    pub(super) fn is_blank(&self, piece: &Piece) -> bool {
        match piece {
            Piece::Fixed { page, span } => span.of(&self.pages[*page].source).iter().all(|b| is_blank(*b)),
            Piece::Hole(_) | Piece::Mark(_) => false,
        }
    }

    /// Whether a section has nothing of its own but one run of markup beside what
    /// its pages have, perhaps with values in it: that is no skeleton.
    fn is_rather_partial(&self, overrides: &[Override]) -> bool {
        let [only] = overrides else { return false };
        let is_value = |piece: &Piece| match piece {
            Piece::Hole(hole) => {
                self.passing.as_ref().is_some_and(|passing| values(self.pages, hole, passing).is_some())
            }
            Piece::Fixed { .. } | Piece::Mark(_) => false,
        };
        let pieces = only.pieces.iter().filter(|piece| !self.is_blank(piece) && !is_value(piece));
        let pieces: Vec<&Piece> = pieces.collect();
        let runs = pieces.chunk_by(|a, b| matches!((a, b), (Piece::Fixed { .. }, Piece::Fixed { .. })));
        let fixed = runs.filter(|run| matches!(run[0], Piece::Fixed { .. })).count();
        let beside = pieces.iter().any(|piece| matches!(piece, Piece::Hole(_)));
        only.lines && beside && fixed == 1
    }

    /// Names all holes in order of their places. `known` are those that may be shown again, if that can be said.
    fn name(&self, pieces: &mut [Piece], section: &str, mut known: Option<Vec<Hole>>, taken: &mut Vec<String>) {
        let all = holes(pieces);
        let main = main_of(self.pages, &all);
        let section = Some(section).filter(|section| !section.is_empty()).map(naming::slug);
        // What is called as all of it is the part of it that is there.
        let in_section = |name: &String, hole: &Hole| {
            let section = section.as_ref()?;
            let name = if name == section { naming::of_part(self.pages, hole) } else { name };
            Some(format!("{section}_{name}"))
        };
        let mut at = 0;
        each_hole(pieces, &mut |hole| {
            at += 1;
            if let Some(known) = &known {
                Self::say_once(hole, known);
            }
            if hole.again {
                return;
            }
            let candidates = match hole.is_named {
                true => vec![hole.name.clone()],
                false if self.options.is_small() => {
                    vec![naming::first_words(&naming::name(self.pages, hole), SHORT_NAME).to_owned()]
                }
                false => naming::candidates(self.pages, hole, main == Some(at - 1)),
            };
            let best = &candidates[0];
            let is_free = |name: &&String| !taken.contains(name);
            // The best one with the section's name tells more than another one.
            let chosen = Some(best).filter(is_free).cloned();
            let chosen = chosen.or_else(|| in_section(best, hole).filter(|name| !taken.contains(name)));
            let chosen = chosen.or_else(|| candidates.iter().find(is_free).cloned());
            let chosen = chosen.unwrap_or_else(|| in_section(best, hole).unwrap_or_else(|| best.clone()));
            hole.name = naming::unique(self.options.called(chosen), taken);
            let may_be_shown_again = !hole.is_named
                && hole.only().is_none()
                && !matches!(hole.default, DefaultContent::Pieces(_) | DefaultContent::Again(_));
            if let Some(known) = known.as_mut().filter(|_| may_be_shown_again) {
                known.push(hole.clone());
            }
        });
    }

    /// The holes of pieces, the outer before the inner.
    fn open(&self, pieces: &[Piece], outer: Option<usize>, out: &mut Vec<Open>) {
        for piece in pieces {
            let Piece::Hole(hole) = piece else { continue };
            if hole.again {
                continue;
            }
            let index = out.len();
            let default = !matches!(hole.default, DefaultContent::Empty);
            let shown = hole.default_content(self.pages).to_vec();
            out.push(Open { hole: (**hole).clone(), outer, own: true, default, shown });
            if let DefaultContent::Pieces(inner) = &hole.default {
                self.open(inner, Some(index), out);
            }
        }
    }
}

/// The hole with the main content, by its place: that with most text that is said only once.
fn main_of(pages: &[Page], holes: &[&Hole]) -> Option<usize> {
    let own = |hole: &Hole| -> usize {
        let said = |variant: &Variant| {
            let text = variant.place.map_or(0, |(node, run)| pages[variant.page].text_from(node.next(), run));
            (if text == 0 { variant.hash } else { u64::from(text) }, variant.content.len())
        };
        let mut all: Vec<(u64, usize)> = hole.variants.iter().map(said).collect();
        all.sort_unstable();
        all.dedup_by_key(|(said, _)| *said);
        all.iter().map(|(_, length)| length).sum()
    };
    let may_be = |at: &usize| {
        let hole = holes[*at];
        let is_whole = !hole.variants.is_empty() && !matches!(hole.default, DefaultContent::Pieces(_));
        is_whole && naming::may_be_main(pages, hole)
    };
    let greatest = (0..holes.len()).filter(may_be).map(|at| (own(holes[at]), Reverse(at))).max();
    greatest.filter(|(own, _)| *own > 0).map(|(_, Reverse(at))| at)
}

/// Sections that pay, and the pages of those that do not.
#[derive(Default)]
struct Grown {
    layouts: Vec<Layout>,
    idle: Vec<Vec<usize>>,
}

#[cfg(test)]
mod tests {
    use crate::propose::testing::{NAMES, proposed, site, text};

    fn page(folder: &str, bar: &str, name: &str) -> (String, String) {
        let header = "<header><p>Tidewater Ferries, seven harbours every day</p><a href=\"/\">Home</a></header>";
        let body = format!("{header}<main>{bar}<h1>{name}</h1></main><footer><p>Ask at the quay office</p></footer>");
        let page = format!("<html><head><title>{name}</title></head><body>{body}</body></html>\n");
        (format!("{folder}{}.html", name.to_lowercase()), page)
    }

    #[test]
    fn pages_of_a_folder_that_share_more_get_a_layout_of_their_own() {
        let bar = "<aside class=\"crew-bar\">\n<p>For the crew alone: tide at the quay, watches and who is on duty today</p><ul><li>Watches</li><li>Stores</li><li>Engines</li></ul></aside>";
        let crew = NAMES.iter().map(|name| page("crew/", bar, name));
        let site = site(NAMES.iter().map(|name| page("", "", name)).chain(crew));
        let proposal = proposed(&site);
        let paths: Vec<&str> = proposal.layouts.iter().map(|layout| layout.path.as_str()).collect();
        assert_eq!(paths, ["layouts/base.html", "layouts/crew.html"]);
        assert_eq!(proposal.layouts[1].extends.as_deref(), Some("layouts/base.html"));
        assert!(text(&proposal, "layouts/crew.html").contains("crew-bar"));
        assert!(!text(&proposal, "crew/boats.html").contains("crew-bar"));
    }
}
