//! Which pages take a layout together: families, and who is put out of them.

use rustc_hash::{FxHashMap, FxHashSet};

use crate::dialect::{self, Kind};
use crate::markup::Constructs;
use crate::propose::families::frames::LEAST_PAGES;
use crate::propose::families::frames::{self, Frames};
use crate::propose::hierarchy::fill::LEAST_FOR_ODD;
use crate::propose::hierarchy::sections::Sections;
use crate::propose::naming;
use crate::propose::pages::page::Page;
use crate::propose::price;
use crate::propose::skeleton::hole::{DefaultContent, Hole, Piece, TAGS, Variant, holes};
use crate::propose::skeleton::marks::links_in;
use crate::propose::skeleton::unify::{Unified, Unifier};
use crate::propose::{Job, Left};
use crate::prove::Strength;
use crate::site::{Parent, Role, Template};
use crate::text::{SourceId, count_lines};

/// How often pages are put out and the rest unified again.
const MOST_ROUNDS: usize = 8;

/// Fragments that resemble each other are snippets rather than pages, so beside layouts that a site has a family of them
/// has as many at least.
const LEAST_FRAGMENTS: usize = 5;

/// The most families that get a layout each.
const MOST_FAMILIES: usize = 256;

/// Of as many pages that differ in a place one in a hundred is odd, and four at most.
const RARE: usize = 100;
const MOST_RARE: usize = 4;

/// One page in so many may be odd, and one in any case: else it is the layout that is.
const MOST_ODD: usize = 20;

/// A page that alone has something in so many places is a kind of its own, such as one with all others in it.
const MANY_PLACES: usize = 2;

/// A layout may have so many blocks, and one more for each of its pages.
const MOST_BLOCKS: usize = 20;

/// So many families and pages, at most, are tried as one family.
const MOST_JOINED: usize = 8;
const MOST_JOINED_PAGES: usize = 3_000;

/// A layout and the pages, by index, that take it.
#[derive(Clone)]
pub struct Draft {
    pub members: Vec<usize>,
    pub unified: Unified,
    /// The cost of a block in it, in bytes.
    pub price: u64,
}

impl Job<'_> {
    /// The layouts of all families, the most gaining first, perhaps beside `others`;
    /// pages that take none are left, with what kept them out of the greatest family
    /// they were weighed for.
    pub fn drafts(&self, pages: &[Page], others: bool, left: &mut Vec<Left>) -> Vec<Draft> {
        let frames = Frames::of(pages);
        let mut reasons: FxHashMap<usize, String> = FxHashMap::default();
        let mut rest: Vec<usize> = (0..pages.len()).collect();
        let mut drafts: Vec<Draft> = Vec::new();
        let others = others || self.site.templates.iter().any(|template| template.parent().is_some());
        for _ in 0..MOST_FAMILIES {
            let Some(shares) = frames.main_family(&rest) else { break };
            let mut why = FxHashMap::default();
            let draft = self.draft(pages, &rest, &shares, &mut why);
            // Those who were weighed and found without a layout are not weighed again.
            let sure = rest.iter().zip(&shares).filter(|(_, share)| **share >= frames::SURE);
            let mut done: FxHashSet<usize> = sure.map(|(page, _)| *page).collect();
            done.extend(draft.iter().flat_map(|draft| &draft.members));
            rest.retain(|page| !done.contains(page));
            for (page, reason) in why {
                reasons.entry(page).or_insert(reason);
            }
            // Beside others a few pages are no family, and a few fragments even less, nor are pages that differ everywhere.
            let few = |draft: &Draft| {
                let blocks = holes(&draft.unified.pieces).len();
                let least =
                    if others && !pages[draft.members[0]].is_document() { LEAST_FRAGMENTS } else { LEAST_PAGES };
                (others || !drafts.is_empty()) && draft.members.len() < least
                    || blocks > MOST_BLOCKS + draft.members.len()
            };
            let draft = draft.filter(|draft| !few(draft));
            drafts.extend(draft);
        }
        self.join_families(pages, &mut drafts);
        let taken: FxHashSet<usize> = drafts.iter().flat_map(|draft| draft.members.iter().copied()).collect();
        let alone = || "no other page has the same skeleton".to_owned();
        left.extend((0..pages.len()).filter(|page| !taken.contains(page)).map(|page| Left {
            page: pages[page].path.clone(),
            reason: reasons.get(&page).cloned().unwrap_or_else(alone),
        }));
        drafts
    }

    /// Makes one family of two where their layouts and pages, sections counted, get
    /// cheaper by that: what most of a family shares may be a section of a greater one.
    fn join_families(&self, pages: &[Page], drafts: &mut Vec<Draft>) {
        let all: usize = drafts.iter().map(|draft| draft.members.len()).sum();
        if !(2..=MOST_JOINED).contains(&drafts.len()) || all > MOST_JOINED_PAGES {
            return;
        }
        let cost_of = |draft: &Draft| self.layouts(pages, draft.clone()).cost(self.price);
        let mut costs: Vec<usize> = drafts.iter().map(cost_of).collect();
        let mut first = 0;
        while first < drafts.len() {
            let better = (first + 1..drafts.len()).find_map(|second| {
                let mut members = [&drafts[first].members[..], &drafts[second].members].concat();
                members.sort_unstable();
                let price = drafts[first].price.max(drafts[second].price);
                let unified = self.unifier(pages, price).pages(&members);
                let joined = Draft { members, unified, price };
                // They must have a skeleton in common, not just a first line.
                let least = fixed_size(&drafts[first]).min(fixed_size(&drafts[second])) / 2;
                if fixed_size(&joined) < least {
                    return None;
                }
                let cost = cost_of(&joined);
                (cost < costs[first] + costs[second]).then_some((second, joined, cost))
            });
            match better {
                Some((second, joined, cost)) => {
                    drafts.remove(second);
                    costs.remove(second);
                    (drafts[first], costs[first]) = (joined, cost);
                }
                None => first += 1,
            }
        }
    }

    /// The pages that could get a layout; the others are left with a reason.
    pub fn candidates(&self, left: &mut Vec<Left>) -> Vec<SourceId> {
        let mut candidates = Vec::new();
        for id in self.site.pages() {
            let template = self.site.get(id);
            let unknown = || self.unknown.get(&id).cloned();
            match self.refuse(template, self.site.parent(id)).or_else(|| self.uncertain_head(id)).or_else(unknown) {
                Some(reason) => left.push(Left { page: template.path.clone(), reason }),
                None => candidates.push(id),
            }
        }
        candidates
    }

    /// A tag at the top of a page that nobody described: it prints something, or loads something for the page.
    fn uncertain_head(&self, id: SourceId) -> Option<String> {
        let template = self.site.get(id);
        let item = &template.constructs.items[self.site.uncertain_head(id)?];
        let (at, text) = (template.position(item.span.start), item.span.text(&template.source));
        Some(format!(
            "line {}: `{text}` may print something, or hold for the rest of its file: `own-file = true` in the \
             dialect says that it does, and `output` that it prints",
            at.line
        ))
    }

    fn refuse(&self, template: &Template, parent: &Parent) -> Option<String> {
        if let Some(why) = template.unreadable {
            return Some(why.to_owned());
        }
        if template.source.iter().all(|&b| crate::text::is_blank(b)) {
            return Some("empty".into());
        }
        if self.options.keep_out(&template.path) {
            return Some("excluded by a setting or an option".into());
        }
        if self.site.is_vendored(&template.path) {
            return Some("third-party file, in a vendored root".into());
        }
        match parent {
            Parent::None => {}
            Parent::OptedOut => return Some("opts out of layouts".into()),
            _ => return Some("has a layout already".into()),
        }
        if template.role != Role::Page {
            return Some("other templates include or extend it".into());
        }
        if let Some(error) = template.constructs.errors.first() {
            let at = template.position(error.span.start);
            return Some(format!("line {}: {}", at.line, error.message));
        }
        let stays =
            |kind: Kind| kind.resolved() && !matches!(kind, Kind::Include | Kind::Comment) || kind == Kind::Verbatim;
        if let Some(item) = template.constructs.items.iter().find(|item| stays(item.kind)) {
            let at = template.position(item.span.start);
            return Some(format!(
                "line {}: `{}` would change its meaning inside a block",
                at.line,
                item.span.text(&template.source)
            ));
        }
        None
    }

    /// Takes those of the candidates that are for this job: pages of its dialect, and
    /// finished pages if it is the first one.
    pub fn choose(&self, candidates: &mut Vec<SourceId>, first: bool, left: &mut Vec<Left>) -> Vec<SourceId> {
        let is_own = |id: &SourceId| {
            let dialect = &self.site.get(*id).dialect;
            (first && dialect.forms.is_empty()) || (dialect.name == self.dialect.name && dialect.has_layouts())
        };
        let (mut own, others): (Vec<_>, Vec<_>) = candidates.iter().copied().partition(is_own);
        *candidates = others;
        own.retain(|&id| match self.misread(self.site.get(id)) {
            Some(reason) => {
                left.push(Left { page: self.site.get(id).path.clone(), reason });
                false
            }
            None => true,
        });
        own
    }

    /// Text of a finished page that the job's dialect would take for a tag.
    pub fn misread(&self, template: &Template) -> Option<String> {
        if !template.dialect.forms.is_empty() {
            return None;
        }
        let constructs = Constructs::read(&template.source, &self.dialect);
        let item = constructs.items.first()?;
        let at = template.position(item.span.start);
        let text: String = item.span.text(&template.source).chars().take(40).collect();
        Some(format!("line {}: the dialect `{}` would read `{text}` as a tag", at.line, self.dialect.name))
    }

    /// The layout for a family, of whose skeleton each of these pages holds a share;
    /// `why` says what speaks against the others.
    fn draft(
        &self,
        pages: &[Page],
        candidates: &[usize],
        shares: &[f64],
        why: &mut FxHashMap<usize, String>,
    ) -> Option<Draft> {
        let foreign = |share: f64| {
            let percent = (share * 100.0).round() as u32;
            format!("different skeleton ({percent}% in common)")
        };
        let within = |least: f64, most: f64| {
            let held = candidates.iter().zip(shares).filter(move |(_, share)| (least..most).contains(*share));
            held.map(|(&page, &share)| (page, share))
        };
        why.extend(within(f64::MIN, frames::KINSHIP).map(|(page, share)| (page, foreign(share))));

        // Pages in between take part if the layout for all is not much the dearer for it.
        let sure: Vec<usize> = within(frames::SURE, f64::MAX).map(|(page, _)| page).collect();
        let all: Vec<usize> = within(frames::KINSHIP, f64::MAX).map(|(page, _)| page).collect();
        let (mut reasons, mut draft) = self.settle(pages, &sure);
        if sure.len() < all.len() {
            let (other_reasons, other) = self.settle(pages, &all);
            let cost = |draft: &Option<Draft>| {
                let member =
                    |page: &usize| draft.as_ref().is_some_and(|draft| draft.members.binary_search(page).is_ok());
                let outside: u64 =
                    all.iter().filter(|page| !member(page)).map(|&page| pages[page].source.len() as u64).sum();
                outside + draft.as_ref().map_or(0, |draft| written_size(&draft.unified.pieces))
            };
            // A page that stays a copy is a burden beyond its bytes.
            if cost(&other) * 20 <= cost(&draft) * 21 {
                (reasons, draft) = (other_reasons, other);
            } else {
                reasons.extend(within(frames::KINSHIP, frames::SURE).map(|(page, share)| (page, foreign(share))));
            }
        }
        why.extend(reasons);
        draft
    }

    pub fn unifier<'p>(&'p self, pages: &'p [Page], price: u64) -> Unifier<'p> {
        let prices = price::of_blocks(self.fine, price);
        let line_rule = self.dialect.rules.newline == dialect::Newline::Line;
        let like_html = self.dialect.form(Kind::Block).is_some_and(|form| form.open.example().starts_with('<'));
        let (strength, regions) = (self.options.strength, &self.options.regions[..]);
        let (nested_defaults, sections) = (self.nested_defaults, Default::default());
        let has_marks = self.dialect.form(Kind::Here).is_some() && self.actual.is_some();
        // What is compared for slips is shown as it is.
        let marks = has_marks && strength != Strength::Bytes && !(self.fine && self.options.heal);
        Unifier { pages, prices, strength, line_rule, like_html, regions, marks, nested_defaults, sections }
    }

    /// What may become sections of pages: their folders, but where blocks are cut fine.
    pub fn likely_sections(&self, pages: &[Page], members: &[usize]) -> Sections {
        if self.fine { Sections::default() } else { Sections::of_folders(pages, members) }
    }

    /// The layout for pages that seem to belong together, and why some do not.
    /// Where no layout pays at the price of a block, small pages mostly, cheaper
    /// blocks are tried: a layout with many blocks is better than none.
    fn settle(&self, pages: &[Page], members: &[usize]) -> (FxHashMap<usize, String>, Option<Draft>) {
        let fine = Job { fine: true, ..self.clone() };
        let price = self.price;
        let tried = [(self, price), (self, price / 2), (&fine, price), (&fine, price / 2), (&fine, price / 4)];
        let mut last = Default::default();
        for (job, price) in tried {
            last = job.settle_at(price, pages, members.to_vec());
            if last.1.is_some() {
                break;
            }
        }
        last
    }

    /// Unifies pages; those that cost the others more than they gain are put
    /// out, with the reason, and the rest is unified again.
    fn settle_at(
        &self,
        price: u64,
        pages: &[Page],
        mut members: Vec<usize>,
    ) -> (FxHashMap<usize, String>, Option<Draft>) {
        let mut out: FxHashMap<usize, String> = FxHashMap::default();
        if self.options.strength == Strength::Bytes {
            let strangers = other_white_space(pages, &members);
            members.retain(|member| !strangers.contains_key(member));
            out.extend(strangers.into_iter().map(|(member, places)| (member, white_space_reason(places))));
        }
        let mut unifier = self.unifier(pages, price);
        let broken = unifier.broken_off(&members);
        members.retain(|member| !broken.contains(member));
        let reason = "elements are closed that the others leave open, or the reverse: it may be cut off";
        out.extend(broken.into_iter().map(|member| (member, reason.to_owned())));
        let (all, mut count_of_odd) = (members.len(), 0);
        for _ in 0..MOST_ROUNDS {
            if members.len() < 2 {
                break;
            }
            unifier.sections = self.likely_sections(pages, &members);
            let unified = unifier.pages(&members);
            let mut misfits = self.misfits(pages, &members, &unified, &unifier.sections);
            let odd = odd(pages, &members, &holes(&unified.pieces));
            if !self.fine && (count_of_odd + odd.len()) * MOST_ODD <= all.max(MOST_ODD) {
                count_of_odd += odd.len();
                misfits.extend(odd);
            }
            if misfits.is_empty() {
                return (out, Some(Draft { members, unified, price }));
            }
            members.retain(|member| !misfits.contains_key(member));
            out.extend(misfits);
        }
        let reason = "no layout would make it smaller";
        out.extend(members.into_iter().map(|member| (member, reason.to_owned())));
        (out, None)
    }

    /// Members that would not gain, or that cost the others more than they gain.
    fn misfits(
        &self,
        pages: &[Page],
        members: &[usize],
        unified: &Unified,
        sections: &Sections,
    ) -> FxHashMap<usize, String> {
        let holes = holes(&unified.pieces);
        let price = self.price as usize;
        let mut found = FxHashMap::default();
        let mut own = vec![0_usize; pages.len()];
        let mut blame = vec![0_usize; pages.len()];
        let mut alone = vec![0_usize; pages.len()];
        let mut blanks = vec![0_usize; pages.len()];
        let exact = self.options.strength == Strength::Bytes;
        for hole in &holes {
            let blanks_only = exact && hole.overriding() * 3 <= members.len() && hole.differs_in_blanks_only(pages);
            let overriding = hole.overriding().max(1);
            let few = overriding * 10 <= members.len();
            let said = sections.said(hole);
            let own_of_pages = hole.variants.iter().zip(&said).filter(|(variant, said)| !variant.follows && !**said);
            for (&Variant { page: member, content, .. }, _) in own_of_pages {
                own[member] += content.len() + 40;
                blanks[member] += usize::from(blanks_only);
                if few {
                    blame[member] += price / overriding;
                    alone[member] += 1;
                }
            }
        }
        for &member in members {
            let before = pages[member].source.len();
            let after = own[member] + 40;
            if after >= before {
                found.insert(member, "the layout would not make it smaller".to_owned());
            } else if blanks[member] > 0 {
                found.insert(member, white_space_reason(blanks[member]));
            } else if blame[member] > before - after && alone[member] > 4 {
                let count = alone[member];
                found.insert(
                    member,
                    format!(
                        "differs from nearly all other pages in {count} places; the layout would need a block for each"
                    ),
                );
            }
        }
        found
    }
}

/// Pages for which alone, or nearly, a block would be there, with the reason: they do not shape the layout. A page of
/// which the others have a link in that place is none.
fn odd(pages: &[Page], members: &[usize], holes: &[&Hole]) -> FxHashMap<usize, String> {
    if members.len() < LEAST_FOR_ODD {
        return FxHashMap::default();
    }
    // For each page the first place, and the number of places, and of those that are for more of what it has there.
    let mut found: FxHashMap<usize, (u32, usize, usize)> = FxHashMap::default();
    let rare = (members.len() / RARE).clamp(1, MOST_RARE);
    for hole in holes.iter().filter(|hole| hole.variants.len() == members.len() && !hole.is_named) {
        let Some(shown) = hole.variants.iter().find(|variant| variant.follows) else { continue };
        let links = links_in(&pages[shown.page], shown.content);
        let own = hole.own().filter(|variant| !links.iter().any(|link| link.means(&pages[variant.page].path)));
        let own: Vec<&Variant> = own.collect();
        // Where the others have nothing, and one knows what it is, it is a place for more of it.
        let is_place_for_more = shown.content.is_empty() && naming::own(pages, hole).is_some();
        for variant in own.iter().filter(|_| own.len() <= rare) {
            let (_, places, for_more) = found.entry(variant.page).or_insert((variant.content.start, 0, 0));
            *places += 1;
            *for_more += usize::from(is_place_for_more);
        }
    }
    found.retain(|_, (_, places, for_more)| places > for_more || *places >= MANY_PLACES);
    let reason = |(member, (at, ..)): (usize, (u32, usize, usize))| {
        let line = count_lines(&pages[member].source[..at as usize]).max(1);
        let reason =
            format!("line {line}: differs there from all other pages, and a block would be there for it alone");
        (member, reason)
    };
    found.into_iter().map(reason).collect()
}

fn white_space_reason(places: usize) -> String {
    let noun = if places == 1 { "place" } else { "places" };
    format!("its whitespace differs from the other pages in {places} {noun}, and --strength bytes keeps it")
}

/// So many places make a page a stranger before anything is compared; fewer may
/// all lie in what is its own.
const MANY: usize = 3;

/// Members with other whitespace than three quarters of the others before
/// what they share with them, with the number of such places.
fn other_white_space(pages: &[Page], members: &[usize]) -> FxHashMap<usize, usize> {
    let mut counts: FxHashMap<(u32, u64), FxHashMap<u64, usize>> = FxHashMap::default();
    let places = |member: usize| pages[member].blanks_before_nodes();
    for &member in members {
        for (node, blanks) in places(member) {
            *counts.entry(node).or_default().entry(blanks).or_default() += 1;
        }
    }
    let usual: FxHashMap<(u32, u64), u64> = counts
        .into_iter()
        .filter_map(|(node, kinds)| {
            let all: usize = kinds.values().sum();
            let (&blanks, &most) = kinds.iter().max_by_key(|(blanks, count)| (**count, **blanks))?;
            (most * 4 >= all * 3 && all * 2 > members.len()).then_some((node, blanks))
        })
        .collect();
    let odd = |&member: &usize| {
        let differs = |(node, blanks): &((u32, u64), u64)| usual.get(node).is_some_and(|usual| usual != blanks);
        (member, places(member).iter().filter(|place| differs(place)).count())
    };
    members.iter().map(odd).filter(|(_, count)| *count > MANY).collect()
}

/// The bytes that all pages of a family share.
fn fixed_size(draft: &Draft) -> usize {
    let fixed = |piece: &Piece| match piece {
        Piece::Fixed { span, .. } => span.len(),
        Piece::Mark(mark) => mark.bytes(),
        Piece::Hole(_) => 0,
    };
    draft.unified.pieces.iter().map(fixed).sum()
}

/// About how many bytes the layout and its pages will have.
fn written_size(pieces: &[Piece]) -> u64 {
    let hole = |hole: &Hole| {
        let default = match &hole.default {
            DefaultContent::Empty | DefaultContent::Again(_) => 0,
            DefaultContent::Content(at) => hole.variants[*at].content.len() as u64,
            DefaultContent::Pieces(pieces) => written_size(pieces),
        };
        default + (hole.own_bytes() + TAGS * (hole.overriding() + 1)) as u64
    };
    let size = |piece: &Piece| match piece {
        Piece::Fixed { span, .. } => span.len() as u64,
        Piece::Mark(mark) => mark.bytes() as u64,
        Piece::Hole(inside) => hole(inside),
    };
    pieces.iter().map(size).sum()
}

#[cfg(test)]
mod tests {
    use crate::propose::testing::{copies, job, proposed, site};

    const FRAME: &str = "<html><head><title>@</title></head><body><header><p>Tidewater Ferries</p><a href=\"/\">Home</a></header><main><h1>@</h1><p>All about the @ of the quay</p></main><footer><p>Seven harbours, every day</p></footer></body></html>\n";

    #[test]
    fn a_page_of_another_kind_is_left_with_a_reason() {
        let mut files = copies("@.html", FRAME);
        files.push(("map.html".to_owned(), "<svg><path d=\"M0 0\"/></svg>\n".repeat(40)));
        let site = site(files);
        let proposal = proposed(&site);
        assert_eq!(proposal.layouts.len(), 1);
        let [left] = &proposal.left[..] else { panic!("{:?}", proposal.left) };
        assert_eq!(left.page, "map.html");
        assert!(left.reason.contains("skeleton"), "{}", left.reason);
    }

    #[test]
    fn what_a_dialect_would_take_for_a_tag_keeps_a_page_out() {
        let site = site([("a.html", "<p>{{ tides }}</p>"), ("b.html", "<p>Tides</p>")]);
        let job = job(&site, "brace-percent");
        let plain = site.get(site.find("b.html").expect("a page"));
        assert_eq!(job.misread(plain), None);
        let mut left = Vec::new();
        let mut candidates = vec![site.find("b.html").expect("a page")];
        assert_eq!(job.choose(&mut candidates, true, &mut left).len(), 1);
        assert!(candidates.is_empty() && left.is_empty());
    }
}
