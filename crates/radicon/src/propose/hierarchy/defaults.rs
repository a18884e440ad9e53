//! The defaults of blocks once the sections are known: what a section fills for all its
//! pages says nothing about what the others want.
//!
//! A block gets the default, and sections fill it, such that the layouts and pages below
//! say least (small parsimony, Sankoff 1975).

use rustc_hash::FxHashMap;

use crate::propose::hierarchy::layout::{Body, Layout, Override};
use crate::propose::pages::page::Page;
use crate::propose::skeleton::hole::{DefaultContent, Hole, Piece, TAGS, Variant, each_hole};

/// So many contents are tried as what a layout shows, the commonest.
const MOST_TRIED: usize = 16;

/// Chooses the defaults of a layout's own blocks, and of those below it, anew. A section
/// that fills nothing goes, which saves so many bytes.
pub fn choose_defaults(layout: &mut Layout, pages: &[Page], section: usize) {
    // What the site has stays as it is.
    let may_change = !matches!(layout.body, Body::Existing { .. }) && !layout.inner.is_empty();
    for index in 0..if may_change { layout.open.len() } else { 0 } {
        let open = &layout.open[index];
        if !open.own || matches!(open.hole.default, DefaultContent::Pieces(_) | DefaultContent::Again(_)) {
            continue;
        }
        let (name, now) = (open.hole.name.clone(), open.hole.shown().map_or(0, |variant| variant.hash));
        let votes = Votes::of(layout, &name, section);
        let before = votes.now(now) + votes.length(now);
        let tried = votes
            .commonest()
            .into_iter()
            .chain([0])
            .filter(|&hash| hash == now || hash == 0 || votes.with(hash).agree());
        // What one section has is no default for the others.
        let is_neutral = |hash: u64| section > 0 || hash == 0 || votes.units_with(hash) != 1;
        let tried = tried.filter(|&hash| is_neutral(hash));
        let best = tried.map(|hash| (votes.with(hash).bytes + votes.length(hash), hash != now, hash)).min();
        if let Some((.., hash)) = best.filter(|(bytes, ..)| *bytes < before || !is_neutral(now)) {
            set_default(layout, pages, &name, hash);
            pass_on(layout, &votes, pages, &name, hash);
        }
    }
    layout.inner.iter_mut().for_each(|inner| choose_defaults(inner, pages, section));
}

/// What the pages that take a layout directly have in a block, and those of its sections
/// that do not leave other blocks in it.
#[derive(Default)]
struct Votes {
    /// By the hash of what they have.
    said: FxHashMap<u64, Said>,
    /// How many bytes the direct pages say if they all say what they have.
    all: usize,
    /// How many direct pages there are.
    pages: usize,
    /// The sections, by their places.
    inner: Vec<(usize, Votes)>,
    /// The hash that it fills in as it is, if it is a section.
    current: Option<u64>,
    /// The bytes that filling takes: its tags, and all of a section that fills nothing else.
    tags: usize,
    /// The cheapest way for a section to fill the block: the bytes of all that it and those
    /// below say then, and what it fills in.
    filling: Option<(usize, u64)>,
}

#[derive(Clone, Copy, Default)]
struct Said {
    pages: usize,
    /// How long the content is, about: whitespace may differ.
    length: usize,
    /// The bytes of these pages' overrides, tags included.
    bytes: usize,
}

/// The content below a layout that shows something in a block.
struct Below {
    /// How many bytes that takes.
    bytes: usize,
    /// How many pages no section below fills the block for.
    pages: usize,
    /// How many of them have what is shown.
    like: usize,
    /// How many have nothing there.
    empty: usize,
}

impl Below {
    /// Whether that is good to show: more than half of them have it, and no more than a
    /// quarter have nothing there.
    fn agree(&self) -> bool {
        self.like * 2 > self.pages && (self.like == self.empty || self.empty * 4 <= self.pages)
    }
}

impl Votes {
    fn of(layout: &Layout, name: &str, section: usize) -> Self {
        let mut votes = Self::default();
        let Some(open) = layout.block(name) else { return votes };
        for page in layout.direct() {
            if let Some(variant) = open.hole.variant(page) {
                let said = votes.said.entry(variant.hash).or_default();
                said.pages += 1;
                said.length = variant.content.len();
                said.bytes += TAGS + said.length;
                votes.pages += 1;
                votes.all += TAGS + said.length;
            }
        }
        for (index, inner) in layout.inner.iter().enumerate() {
            if inner.block(name).is_some_and(|open| !open.own) {
                votes.inner.push((index, Self::of(inner, name, section)));
            }
        }
        votes.current = filling(layout, name).map(|_| open.hole.taken());
        votes.tags = if fills_another(layout, name) { TAGS } else { TAGS + section };
        let filled = votes.commonest().into_iter();
        let filled = filled.filter(|&hash| votes.current == Some(hash) || votes.with(hash).agree());
        votes.filling = filled.map(|hash| (votes.tags + votes.length(hash) + votes.with(hash).bytes, hash)).min();
        votes
    }

    /// The contents that most pages have, the commonest first.
    fn commonest(&self) -> Vec<u64> {
        let mut counts: FxHashMap<u64, usize> = FxHashMap::default();
        self.count(&mut counts);
        let mut found: Vec<(u64, usize)> = counts.into_iter().filter(|(_, count)| *count > 1).collect();
        found.sort_unstable_by_key(|&(hash, count)| (usize::MAX - count, hash));
        found.into_iter().take(MOST_TRIED).map(|(hash, _)| hash).collect()
    }

    /// How many there are of the direct pages and the sections in which some have this.
    fn units_with(&self, hash: u64) -> usize {
        self.said.get(&hash).map_or(0, |said| said.pages)
            + self.inner.iter().filter(|(_, inner)| inner.has(hash)).count()
    }

    /// Whether some pages have this.
    fn has(&self, hash: u64) -> bool {
        self.said.contains_key(&hash) || self.inner.iter().any(|(_, inner)| inner.has(hash))
    }

    fn count(&self, counts: &mut FxHashMap<u64, usize>) {
        self.said.iter().for_each(|(&hash, said)| *counts.entry(hash).or_default() += said.pages);
        self.inner.iter().for_each(|(_, inner)| inner.count(counts));
    }

    fn length(&self, hash: u64) -> usize {
        let own = self.said.get(&hash).map(|said| said.length);
        own.or_else(|| self.inner.iter().map(|(_, inner)| inner.length(hash)).max()).unwrap_or(0)
    }

    /// How many bytes are said below as it is.
    fn now(&self, shown: u64) -> usize {
        let inner = self.inner.iter().map(|(_, inner)| match inner.current {
            Some(hash) => inner.tags + inner.length(hash) + inner.now(hash),
            None => inner.now(shown),
        });
        self.own(shown) + inner.sum::<usize>()
    }

    /// How many bytes the direct pages say.
    fn own(&self, shown: u64) -> usize {
        self.all - self.said.get(&shown).map_or(0, |said| said.bytes)
    }

    /// The content below, with sections filling the block where that is shorter.
    fn with(&self, shown: u64) -> Below {
        let count = |hash| self.said.get(&hash).map_or(0, |said| said.pages);
        let mut below = Below { bytes: self.own(shown), pages: self.pages, like: count(shown), empty: count(0) };
        for (_, inner) in &self.inner {
            match inner.filled(shown) {
                Some((bytes, _)) => below.bytes += bytes,
                None => {
                    let passed = inner.with(shown);
                    below.bytes += passed.bytes;
                    below.pages += passed.pages;
                    below.like += passed.like;
                    below.empty += passed.empty;
                }
            }
        }
        below
    }

    /// How a section fills the block, if that is shorter than to show what the layout around does.
    fn filled(&self, shown: u64) -> Option<(usize, u64)> {
        self.filling.filter(|(bytes, hash)| *hash != shown && *bytes < self.with(shown).bytes)
    }
}

/// Makes what pages have in a block of a layout's own its default.
fn set_default(layout: &mut Layout, pages: &[Page], name: &str, hash: u64) {
    let change = |hole: &mut Hole| {
        let at = hole.position(hash).filter(|_| hash != 0);
        hole.default = at.map_or(DefaultContent::Empty, DefaultContent::Content);
        hole.follow(hash);
    };
    let mut of_name = |hole: &mut Hole| {
        if hole.name == name && !hole.again {
            change(hole);
        }
    };
    match &mut layout.body {
        Body::Base(pieces) => each_hole(pieces, &mut of_name),
        Body::Section(overrides) => overrides.iter_mut().for_each(|filled| each_hole(&mut filled.pieces, &mut of_name)),
        Body::Existing { .. } => {}
    }
    if let Some(open) = layout.open.iter_mut().find(|open| open.hole.name == name) {
        change(&mut open.hole);
        open.default = hash != 0;
        open.shown = open.hole.default_content(pages).to_vec();
    }
}

/// Passes the content of a layout's block on to the sections below it, which fill it or not.
fn pass_on(layout: &mut Layout, votes: &Votes, pages: &[Page], name: &str, hash: u64) {
    let Some(shown) = layout.block(name).map(|open| open.shown.clone()) else { return };
    let order: Vec<String> = layout.open.iter().map(|open| open.hole.name.clone()).collect();
    for (index, votes) in &votes.inner {
        let inner = &mut layout.inner[*index];
        let Some(open) = inner.open.iter_mut().find(|open| open.hole.name == name) else { continue };
        let Body::Section(overrides) = &mut inner.body else { continue };
        overrides.retain(|filled| filled.name != name);
        let filled = votes.filled(hash).map(|(_, hash)| hash);
        let hole = &mut open.hole;
        hole.follow(filled.unwrap_or(hash));
        (open.default, open.shown) = (hash != 0, shown.clone());
        if let Some(at) = filled.and_then(|hash| hole.position(hash)) {
            let Variant { page, content: span, .. } = hole.variants[at];
            open.shown = span.of(&pages[page].source).to_vec();
            let place = |name: &str| order.iter().position(|other| other == name);
            let behind = overrides.iter().position(|filled| place(&filled.name) > place(name));
            let (name, pieces) = (name.to_owned(), vec![Piece::Fixed { page, span }]);
            let filled = Override { name, lines: hole.lines, pieces, replaces: shown.clone() };
            overrides.insert(behind.unwrap_or(overrides.len()), filled);
        }
        pass_on(inner, votes, pages, name, filled.unwrap_or(hash));
    }
    // Those that leave blocks of their own in it.
    for inner in layout.inner.iter_mut().filter(|inner| inner.block(name).is_none()) {
        let Body::Section(overrides) = &mut inner.body else { continue };
        overrides.iter_mut().filter(|filled| filled.name == name).for_each(|filled| filled.replaces.clone_from(&shown));
    }
}

/// How a section fills a block that it leaves open.
fn filling<'l>(layout: &'l Layout, name: &str) -> Option<&'l Override> {
    match &layout.body {
        Body::Section(overrides) => overrides.iter().find(|filled| filled.name == name),
        Body::Base(_) | Body::Existing { .. } => None,
    }
}

/// Whether a section would be there without a block of this name.
fn fills_another(layout: &Layout, name: &str) -> bool {
    match &layout.body {
        Body::Section(overrides) => overrides.iter().any(|filled| filled.name != name),
        Body::Base(_) | Body::Existing { .. } => true,
    }
}

#[cfg(test)]
mod tests {
    use crate::propose::testing::{NAMES, proposed, site, text};

    #[test]
    fn what_a_section_fills_says_nothing_about_the_others() {
        let page = |folder: &str, bar: &str, hours: &str, name: &str| {
            let header = "<header><p>Tidewater Ferries, seven harbours every day</p><a href=\"/\">Home</a></header>";
            let main = format!("<main>{bar}<h1>{name}</h1></main><p class=\"hours\">{hours}</p>");
            let body = format!("{header}{main}<footer><p>Ask at the quay office</p></footer>");
            let page = format!("<html><head><title>{name}</title></head><body>{body}</body></html>\n");
            (format!("{folder}{}.html", name.to_lowercase()), page)
        };
        let bar = "<aside class=\"crew-bar\">\n<p>For the crew alone: tide at the quay, watches and who is on duty</p><ul><li>Watches</li><li>Stores</li><li>Engines</li></ul></aside>";
        let few = NAMES.iter().take(6).map(|name| page("", "", "Until six", name));
        let crew = NAMES.iter().map(|name| page("crew/", bar, "Until noon, and at the gate after that", name));
        let proposal = proposed(&site(few.chain(crew)));
        // The pages of the crew are more, but a layout of their own says it for them.
        let (base, crew) = (text(&proposal, "layouts/base.html"), text(&proposal, "layouts/crew.html"));
        assert!(base.contains("-->Until six<!--") && crew.contains("-->Until noon"), "{base}\n{crew}");
    }
}
