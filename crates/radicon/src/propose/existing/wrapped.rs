//! What overrides of a block share around what is theirs: it can be said once, around blocks of its own.

use std::sync::Arc;

use crate::markup::Document;
use crate::propose::Job;
use crate::propose::existing::children::Change;
use crate::propose::families::select::Draft;
use crate::propose::hierarchy::layouts::{Body, Open, Override, Planner};
use crate::propose::naming;
use crate::propose::pages::page::Page;
use crate::propose::skeleton::hole::{Context, DefaultContent, Hole, Piece, TAGS, each_hole, holes};
use crate::propose::writing::indent::Style;
use crate::propose::writing::writer::Writer;
use crate::prove::Strength;
use crate::text::{is_blank, trim_blanks};

/// Many blocks in one are rather content that looks alike than a frame.
const MOST_PARTS: usize = 4;

/// What some overrides of a block share.
pub struct Wrapper {
    /// What each override holds.
    pages: Arc<[Page]>,
    /// The overrides that fit, by their places among the pages, each with the number that callers know it by.
    members: Vec<(usize, usize)>,
    pieces: Vec<Piece>,
    open: Vec<Open>,
    style: Style,
    /// Bytes, about.
    pub saves: usize,
}

impl Job<'_> {
    /// The wrappers that pay of what these overrides of a block hold, and perhaps of what the layout shows without one.
    /// New blocks are called neither like those that are taken nor like the main content.
    pub fn wrappers(&self, block: &[u8], contents: &[&[u8]], default: Option<&[u8]>, taken: &[String]) -> Vec<Wrapper> {
        if self.options.strength == Strength::Bytes {
            return Vec::new();
        }
        let page = |content: &&[u8]| {
            // With the indentation of its first line.
            let lines = content.len() - trim_blanks(content).len();
            let lead = content.iter().take(lines).take_while(|b| is_blank(**b)).count();
            let start = content[..lead].iter().rposition(|b| *b == b'\n').map_or(0, |at| at + 1);
            let source = Arc::new(content[start..].trim_ascii_end().to_vec());
            let document = Document::read(&source, &self.dialect);
            Page::of(String::new(), source, document, self.options.strength)
        };
        let pages: Arc<[Page]> = contents.iter().chain(&default).map(page).collect();
        let job = Job { nested_defaults: false, ..self.clone() };
        let style = Style::of(contents.iter().copied());
        let drafts = job.drafts(&pages, true, &mut Vec::new());
        let wrapper = |draft: Draft| job.wrapper(block, &pages, draft, default.map(|_| contents.len()), taken, &style);
        drafts.into_iter().filter_map(wrapper).collect()
    }

    fn wrapper(
        &self,
        block: &[u8],
        pages: &Arc<[Page]>,
        draft: Draft,
        default: Option<usize>,
        taken: &[String],
        style: &Style,
    ) -> Option<Wrapper> {
        let Draft { mut members, unified, .. } = draft;
        let blocks = holes(&unified.pieces);
        // What stands beside the rest of what they say is no wrapper, but perhaps a partial.
        let is_inside = |hole: &Hole| !matches!(hole.context, Context::Content { parent: 0 });
        let fits = |hole: &&Hole| hole.variants.len() == members.len() && !hole.is_reshaped_tag() && is_inside(hole);
        if !(1..=MOST_PARTS).contains(&blocks.len()) || !blocks.iter().all(fits) {
            return None;
        }
        let before: usize = members.iter().map(|&member| pages[member].source.len() + TAGS).sum();
        let unifier = self.unifier(pages, self.price);
        let planner = Planner { levels: 1, ..self.planner(&unifier, pages, 0) };
        let taken = [taken, &[naming::MAIN.to_owned()]].concat();
        // A part of the main content is called by what is around it.
        let of_content = || naming::first_telling(&pages[members[0]].source);
        let block = naming::word(&String::from_utf8_lossy(block));
        let section = if block == naming::MAIN { of_content().unwrap_or(block) } else { block };
        let mut layout = planner.plan_in(&section, unified, members.clone(), taken);
        // What the layout shows it shows as before.
        if let Some(default) = default {
            let at = members.binary_search(&default).ok()?;
            let mut show = |hole: &mut Hole| {
                let hash = hole.variants[at].hash;
                hole.default = if hash == 0 { DefaultContent::Empty } else { DefaultContent::Content(at) };
                hole.follow(hash);
            };
            if let Body::Base(pieces) = &mut layout.body {
                each_hole(pieces, &mut show);
            }
            layout.open.iter_mut().for_each(|open| show(&mut open.hole));
        }
        let own = layout.open.iter().map(|open| open.hole.own_bytes() + TAGS * (1 + open.hole.overriding()));
        let after = layout.body.bytes() + own.sum::<usize>();
        let Body::Base(pieces) = layout.body else { return None };
        members.retain(|member| Some(*member) != default);
        Some(Wrapper {
            pages: Arc::clone(pages),
            members: members.into_iter().map(|member| (member, member)).collect(),
            pieces,
            open: layout.open,
            style: style.clone(),
            saves: before.saturating_sub(after),
        })
    }
}

impl Wrapper {
    /// The overrides that fit.
    pub fn members(&self) -> impl ExactSizeIterator<Item = usize> {
        self.members.iter().map(|(_, known)| *known)
    }

    /// From now on the overrides are known by these numbers.
    pub fn stand_for(&mut self, numbers: &[usize]) {
        self.members.iter_mut().for_each(|(page, known)| *known = numbers[*page]);
    }

    /// What it saves if only so many of its overrides have it from elsewhere, in bytes, about.
    pub fn saves_for(&self, count: usize) -> usize {
        self.saves * count.saturating_sub(1) / self.members.len().saturating_sub(1).max(1)
    }

    fn writer<'w>(&'w self, job: &'w Job<'_>) -> Writer<'w> {
        let (strength, short) = (job.options.strength, job.options.is_small());
        Writer { dialect: &job.dialect, pages: &self.pages, strength, style: self.style.clone(), short }
    }

    /// The wrapper with its blocks.
    pub fn markup(&self, job: &Job<'_>) -> Vec<u8> {
        trim_blanks(&self.writer(job).layout(&self.pieces)).to_vec()
    }

    /// An override of the block with the wrapper in it.
    pub fn filling(&self, job: &Job<'_>, name: &str, lines: bool) -> Vec<u8> {
        let filled = Override { name: name.to_owned(), lines, pieces: self.pieces.clone(), replaces: Vec::new() };
        self.writer(job).filled(&filled)
    }

    /// What an override becomes once the wrapper stands elsewhere: what is its own, in the wrapper's blocks.
    pub fn change(&self, job: &Job<'_>, known: usize) -> Change {
        let page = self.members.iter().find(|(_, other)| *other == known).map_or(0, |(page, _)| *page);
        let own = trim_blanks(&self.writer(job).blocks(page, &self.open)).to_vec();
        if own.is_empty() { Change::Drop } else { Change::Become(own) }
    }
}
