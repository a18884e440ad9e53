//! What overrides of a block share around what is theirs: it can be said once, around blocks of its own.

use std::sync::Arc;

use crate::markup::{Document, NodeId};
use crate::propose::Job;
use crate::propose::existing::children::{Change, Child};
use crate::propose::families::select::Draft;
use crate::propose::hierarchy::layout::{Body, Layout, Open, Override};
use crate::propose::hierarchy::layouts::Planner;
use crate::propose::naming;
use crate::propose::pages::page::Page;
use crate::propose::skeleton::hole::{Context, DefaultContent, Hole, Piece, TAGS, each_hole, holes};
use crate::propose::writing::indent::Style;
use crate::propose::writing::writer::Writer;
use crate::prove::Strength;
use crate::text::{is_blank, line_start, trim_blanks};

/// Many blocks in one are rather content that looks alike than a skeleton.
const MOST_PARTS: usize = 4;

/// The content that some overrides of a block share.
pub struct Wrapper {
    /// The content of each override.
    pages: Arc<[Page]>,
    /// The children whose overrides fit: their places among the pages, and the numbers that they are known by.
    members: Vec<(usize, usize)>,
    pieces: Vec<Piece>,
    open: Vec<Open>,
    style: Style,
    /// Bytes, about.
    pub saves: usize,
}

impl Job<'_> {
    /// The wrappers that pay of what these children hold in a block, and perhaps of what the layout shows without them.
    /// New blocks are called neither like those that are taken nor like the main content.
    pub fn wrappers(
        &self,
        block: &[u8],
        children: &[(usize, &Child<'_>)],
        default: Option<&[u8]>,
        taken: &[String],
    ) -> Vec<Wrapper> {
        if self.options.strength == Strength::Bytes {
            return Vec::new();
        }
        let contents = || children.iter().map(|(_, child)| child.inner(block));
        let page = |content: &[u8]| {
            // With the indentation of its first line.
            let lead = content.iter().take_while(|b| is_blank(**b)).count();
            let source = Arc::new(content[line_start(content, lead)..].trim_ascii_end().to_vec());
            let document = Document::read(&source, &self.dialect);
            Page::of(String::new(), source, document, self.options.strength)
        };
        let pages: Arc<[Page]> = contents().chain(default).map(page).collect();
        let job = Job { nested_defaults: false, fine: true, ..self.clone() };
        let style = Style::of(contents());
        let drafts = job.drafts(&pages, true, &mut Vec::new()).into_iter();
        let default = default.map(|_| children.len());
        let wrapped = drafts.filter_map(|draft| job.wrapped(block, &pages, draft, default, taken));
        let known =
            |members: Vec<usize>| members.into_iter().filter_map(|page| Some((page, children.get(page)?.0))).collect();
        let wrapper = |(members, layout, saves): (Vec<usize>, Layout, usize)| {
            let Body::Base(pieces) = layout.body else { return None };
            let (pages, style, open) = (Arc::clone(&pages), style.clone(), layout.open);
            Some(Wrapper { pages, members: known(members), pieces, open, style, saves })
        };
        wrapped.filter_map(wrapper).collect()
    }

    /// A draft as a wrapper: the pages that fit, its markup with blocks, and what it saves.
    fn wrapped(
        &self,
        block: &[u8],
        pages: &[Page],
        draft: Draft,
        default: Option<usize>,
        taken: &[String],
    ) -> Option<(Vec<usize>, Layout, usize)> {
        let Draft { members, unified, .. } = draft;
        let blocks = holes(&unified.pieces);
        // What is beside the rest of what they say is no wrapper, but perhaps a partial.
        let is_inside = |hole: &Hole| !matches!(hole.context, Context::Content { parent: NodeId::ROOT });
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
        Some((members, layout, before.saturating_sub(after)))
    }
}

impl Wrapper {
    /// The children whose overrides fit.
    pub fn members(&self) -> impl ExactSizeIterator<Item = usize> {
        self.members.iter().map(|(_, known)| *known)
    }

    /// The bytes that it saves, about, if only so many of its overrides have it from elsewhere.
    pub fn saves_for(&self, count: usize) -> usize {
        self.saves * count.saturating_sub(1) / self.members.len().saturating_sub(1).max(1)
    }

    fn writer<'w>(&'w self, job: &'w Job<'_>) -> Writer<'w> {
        job.writer(&self.pages, self.style.clone())
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

    /// The override once the wrapper is elsewhere: its own content, in the wrapper's blocks.
    pub fn change(&self, job: &Job<'_>, known: usize) -> Change {
        let page = self.members.iter().find(|(_, other)| *other == known).map_or(0, |(page, _)| *page);
        let own = trim_blanks(&self.writer(job).blocks(page, &self.open)).to_vec();
        if own.is_empty() { Change::Drop } else { Change::Become(own) }
    }
}

#[cfg(test)]
mod tests {
    use crate::propose::testing::{BASE, improved};

    const HOME: &str = "<nav class=\"crumbs\" aria-label=\"You are here\"><ol><li><a href=\"/\">Tidewater</a></li>";

    #[test]
    fn what_overrides_share_around_their_own_moves_up() {
        let crumbs = format!("{{% block crumbs %}}\n  {HOME}<li>@</li></ol></nav>\n{{% endblock %}}\n");
        let (_, text) = improved(BASE, &[crumbs.as_str(); 6]);
        assert!(text("base.html").contains(HOME), "{}", text("base.html"));
        let child = text("boats.html");
        assert!(child.contains("%}Boats{%") && !child.contains("<nav"), "{child}");
    }
}
