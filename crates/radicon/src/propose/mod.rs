//! Proposals: a base layout with named blocks for pages that were copied from
//! each other, and the proof that no page changes.

mod align;
mod edges;
mod family;
mod hole;
mod name;
mod page;
mod tidy;
mod unify;
mod write;

use std::sync::Arc;

use rayon::prelude::*;
use rustc_hash::{FxHashMap, FxHashSet};
use schemars::JsonSchema;
use serde::{Serialize, Serializer};

use crate::dialect::{self, Dialect, Kind};
use crate::markup::Constructs;
use crate::prove::{PageProof, Strength, prove_page};
use crate::site::Change;
use crate::site::{Parent, Role, Site, SourceFile, Template, folder, usual_folder};
use crate::text::{SourceId, count_lines, position};

use hole::{DefaultContent, Hole, Piece};
use page::Page;
use tidy::Style;
use unify::{Prices, Unified, Unifier};
use write::Writer;

/// How to propose.
#[derive(Clone, Debug)]
pub struct Options {
    /// `Bytes` keeps every byte of every page; `Blanks` (the default) may change
    /// insignificant white space and writes tidy, indented templates.
    pub strength: Strength,
    /// The dialect to write; by default that of the site's layouts, else `margin`.
    pub dialect: Option<Arc<Dialect>>,
    /// What one block costs, in bytes, in the layout and in each page that
    /// overrides it (default 100). Higher: fewer, bigger blocks.
    pub block_price: u64,
}

impl Default for Options {
    fn default() -> Self {
        Self { strength: Strength::Blanks, dialect: None, block_price: 100 }
    }
}

/// Why nothing can be proposed at all.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum ProposeError {
    /// The dialect cannot express layouts.
    #[error("the dialect `{0}` has no parents and blocks, so pages written in it cannot have a layout")]
    NoLayouts(String),
}

/// A file of the proposal.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct ProposedFile {
    /// Its path from the site's folder.
    pub path: String,
    /// What it is for.
    pub role: Role,
    /// Its new content. In JSON text; bytes that are not UTF-8 are shown as U+FFFD there.
    #[serde(rename = "text", serialize_with = "as_text")]
    #[schemars(with = "String")]
    pub bytes: Vec<u8>,
}

fn as_text<S: Serializer>(bytes: &[u8], serializer: S) -> Result<S::Ok, S::Error> {
    serializer.serialize_str(&String::from_utf8_lossy(bytes))
}

/// A block of the proposed layout.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct ProposedBlock {
    /// Its name.
    pub name: String,
    /// Line of its opening tag in the layout, 1-based.
    pub line: u32,
    /// Whether it has default content.
    pub default: bool,
    /// How many pages override it.
    pub overridden_by: usize,
    /// Some of them: the first three by path.
    pub such_as: Vec<String>,
    /// Bytes of all overrides together.
    pub bytes: usize,
    /// It is there for one page only, which differs from all others: perhaps a
    /// copy that was left behind.
    pub drift: bool,
}

/// How much there is.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Size {
    /// Templates.
    pub files: usize,
    /// Bytes in them.
    pub bytes: usize,
    /// Lines in them.
    pub lines: usize,
}

/// A page that the proposal leaves as it is.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, JsonSchema)]
pub struct Left {
    /// Its path.
    pub page: String,
    /// Why.
    pub reason: String,
}

/// A restructuring of a site, with its proof.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct Proposal {
    /// New and changed files, sorted by path.
    pub files: Vec<ProposedFile>,
    /// The layout's path; `null` if there is nothing to propose.
    pub layout: Option<String>,
    /// The layout's blocks in the order of their places.
    pub blocks: Vec<ProposedBlock>,
    /// The dialect the files are written in.
    pub dialect: String,
    /// All templates of the site as they are.
    pub before: Size,
    /// All templates of the site with the proposal.
    pub after: Size,
    /// For every page of the site how equal it is before and after.
    pub proof: Vec<PageProof>,
    /// Pages that keep their form, with the reason.
    pub left: Vec<Left>,
}

impl Proposal {
    /// The changes to the disk that adopt it.
    pub fn changes(&self, site: &Site) -> Vec<Change> {
        let old = |path: &str| site.find(path).map(|id| site.get(id).source.to_vec());
        self.files
            .iter()
            .map(|file| Change { path: file.path.clone(), old: old(&file.path), new: Some(file.bytes.clone()) })
            .collect()
    }
}

/// Proposes one base layout for the pages of a site that share a frame.
///
/// The result is proven: every page of the site, put together with the
/// proposal, equals the page as it is at the strength asked for or a stronger
/// one. A page for which that fails is left as it is, with the reason.
///
/// # Errors
/// If the dialect asked for cannot express layouts.
pub fn propose(site: &Site, options: &Options) -> Result<Proposal, ProposeError> {
    let dialect = options.dialect.clone().unwrap_or_else(|| usual_dialect(site));
    if !dialect.has_layouts() {
        return Err(ProposeError::NoLayouts(dialect.name.clone()));
    }
    let job = Job { site, options, dialect };
    let mut left = Vec::new();
    let candidates = job.candidates(&mut left);
    let pages: Vec<Page> =
        candidates.par_iter().map(|&id| Page::read(site.get(id), &site.get(id).dialect, options.strength)).collect();
    let draft = job.draft(&pages, &mut left);
    Ok(job.proposal(&pages, draft, left))
}

/// The dialect of the templates that have a layout and lie in a folder with
/// pages that have none; else that of those pages; else `margin`.
fn usual_dialect(site: &Site) -> Arc<Dialect> {
    let lone: Vec<&Template> =
        site.pages().filter(|&id| *site.parent(id) == Parent::None).map(|id| site.get(id)).collect();
    let folders: FxHashSet<&str> = lone.iter().map(|page| folder(&page.path)).collect();
    let with_parent = site.templates.iter().filter(|template| template.parent().is_some());
    let beside = most_used(with_parent.filter(|template| folders.contains(folder(&template.path))));
    beside
        .or_else(|| most_used(lone.into_iter()))
        .or_else(|| dialect::builtin_named("margin"))
        .unwrap_or_else(dialect::plain)
}

/// The dialect in which most of the templates are written, if it has layouts.
fn most_used<'s>(templates: impl Iterator<Item = &'s Template>) -> Option<Arc<Dialect>> {
    let mut counts: Vec<(usize, &Arc<Dialect>)> = Vec::new();
    for template in templates {
        match counts.iter_mut().find(|(_, dialect)| dialect.name == template.dialect.name) {
            Some((count, _)) => *count += 1,
            None => counts.push((1, &template.dialect)),
        }
    }
    let most = counts.into_iter().max_by_key(|(count, dialect)| (*count, std::cmp::Reverse(dialect.name.clone())));
    most.filter(|(_, dialect)| dialect.has_layouts()).map(|(_, dialect)| Arc::clone(dialect))
}

/// How often pages are put out and the rest unified again.
const MOST_ROUNDS: usize = 8;

struct Job<'s> {
    site: &'s Site,
    options: &'s Options,
    dialect: Arc<Dialect>,
}

/// A layout and the pages, by index, that take it.
struct Draft {
    members: Vec<usize>,
    unified: Unified,
}

impl Job<'_> {
    fn size(&self) -> Size {
        size(self.site.templates.iter().map(|template| &template.source[..]))
    }

    /// The pages that could get a layout; the others are left with a reason.
    fn candidates(&self, left: &mut Vec<Left>) -> Vec<SourceId> {
        let mut candidates = Vec::new();
        for id in self.site.pages() {
            let template = self.site.get(id);
            match self.refuse(template, self.site.parent(id)) {
                Some(reason) => left.push(Left { page: template.path.clone(), reason }),
                None => candidates.push(id),
            }
        }
        candidates
    }

    fn refuse(&self, template: &Template, parent: &Parent) -> Option<String> {
        if let Some(why) = template.unreadable {
            return Some(why.to_owned());
        }
        if template.source.iter().all(|&b| crate::text::is_blank(b)) {
            return Some("empty".into());
        }
        match parent {
            Parent::None => {}
            Parent::OptedOut => return Some("says that it has no layout".into()),
            _ => return Some("has a layout already".into()),
        }
        if template.role != Role::Page {
            return Some("other templates include it or take their frame from it".into());
        }
        if template.dialect.name != self.dialect.name && !template.dialect.forms.is_empty() {
            return Some(format!("written in the dialect `{}`, not in `{}`", template.dialect.name, self.dialect.name));
        }
        if let Some(error) = template.constructs.errors.first() {
            let at = position(&template.source, error.span.start);
            return Some(format!("line {}: {}", at.line, error.message));
        }
        let binding = |kind: Kind| {
            kind.resolved() && !matches!(kind, Kind::Include | Kind::Comment)
                || matches!(kind, Kind::Set | Kind::Import | Kind::Verbatim)
        };
        if let Some(item) = template.constructs.items.iter().find(|item| binding(item.kind)) {
            let at = position(&template.source, item.span.start);
            return Some(format!(
                "line {}: `{}` would change its meaning inside a block",
                at.line,
                item.span.text(&template.source)
            ));
        }
        if template.dialect.forms.is_empty() {
            let constructs = Constructs::read(&template.source, &self.dialect);
            if let Some(item) = constructs.items.first() {
                let at = position(&template.source, item.span.start);
                let text: String = item.span.text(&template.source).chars().take(40).collect();
                return Some(format!(
                    "line {}: the dialect `{}` would read `{text}` as a tag",
                    at.line, self.dialect.name
                ));
            }
        }
        None
    }

    /// The layout for the family with the most to gain.
    fn draft(&self, pages: &[Page], left: &mut Vec<Left>) -> Option<Draft> {
        let mut out: FxHashMap<usize, String> = FxHashMap::default();
        let Some(shares) = family::main_family(pages) else {
            let alone = |page: &Page| Left { page: page.path.clone(), reason: "no other page shares its frame".into() };
            left.extend(pages.iter().map(alone));
            return None;
        };
        let foreign = |share: f64| {
            let percent = (share * 100.0).round() as u32;
            format!("its frame is another one: it holds {percent} % of what the others share")
        };
        let within = |least: f64| (0..pages.len()).filter(|&page| shares[page] >= least).collect::<Vec<_>>();
        out.extend(
            (0..pages.len()).filter(|&page| shares[page] < family::KINSHIP).map(|page| (page, foreign(shares[page]))),
        );

        // Pages in between take part if the layout for all is not much the dearer for it.
        let (sure, all) = (within(family::SURE), within(family::KINSHIP));
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
                let strange = all.iter().filter(|&page| shares[*page] < family::SURE);
                reasons.extend(strange.map(|&page| (page, foreign(shares[page]))));
            }
        }
        out.extend(reasons);
        left.extend(out.into_iter().map(|(page, reason)| Left { page: pages[page].path.clone(), reason }));
        draft
    }

    /// The layout for pages that seem to belong together, and why some do not.
    /// Where no layout pays at the price of a block, small pages mostly, cheaper
    /// blocks are tried: a layout with many blocks is better than none.
    fn settle(&self, pages: &[Page], members: &[usize]) -> (FxHashMap<usize, String>, Option<Draft>) {
        let price = self.options.block_price;
        let mut last = Default::default();
        for price in [price, price / 2, price / 4] {
            last = self.settle_at(price, pages, members.to_vec());
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
        let prices = Prices { layout: price, page: price };
        let line_rule = self.dialect.rules.newline == dialect::Newline::Line;
        let like_html = self.dialect.form(Kind::Block).is_some_and(|form| form.open.example().starts_with('<'));
        let unifier = Unifier { pages, prices, strength: self.options.strength, line_rule, like_html };
        let broken = unifier.broken_off(&members);
        members.retain(|member| !broken.contains(member));
        let reason = "elements are closed that others leave open, or the other way round: it may be cut off";
        out.extend(broken.into_iter().map(|member| (member, reason.to_owned())));
        for _ in 0..MOST_ROUNDS {
            if members.len() < 2 {
                break;
            }
            let unified = unifier.pages(&members);
            let misfits = self.misfits(pages, &members, &unified);
            if misfits.is_empty() {
                return (out, Some(Draft { members, unified }));
            }
            members.retain(|member| !misfits.contains_key(member));
            out.extend(misfits);
        }
        let reason = "no layout that would make it smaller";
        out.extend(members.into_iter().map(|member| (member, reason.to_owned())));
        (out, None)
    }

    /// Members that would not gain, or that cost the others more than they gain.
    fn misfits(&self, pages: &[Page], members: &[usize], unified: &Unified) -> FxHashMap<usize, String> {
        let holes = holes(&unified.pieces);
        let price = self.options.block_price as usize;
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
            for (index, &member) in hole.members.iter().enumerate().filter(|(index, _)| !hole.follows[*index]) {
                own[member] += hole.contents[index].len() + 40;
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
                found.insert(
                    member,
                    format!("with the layout it would not get smaller ({before} bytes now, {after} then)"),
                );
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

    fn proposal(&self, pages: &[Page], draft: Option<Draft>, mut left: Vec<Left>) -> Proposal {
        let before = self.size();
        let mut files = Vec::new();
        let mut blocks = Vec::new();
        let mut layout = None;
        if let Some(draft) = draft {
            let path = self.layout_path();
            let written = self.write(pages, &draft, &path);
            let after: usize = written.iter().map(|file| file.bytes.len()).sum();
            let now: usize = draft.members.iter().map(|&member| pages[member].source.len()).sum();
            if after < now {
                blocks = self.blocks(pages, &draft, &written[0].bytes);
                files = written;
                layout = Some(path);
            } else {
                let reason = "no layout that would make the pages smaller together".to_owned();
                left.extend(
                    draft
                        .members
                        .iter()
                        .map(|&member| Left { page: pages[member].path.clone(), reason: reason.clone() }),
                );
            }
        }
        let (proof, new_site) = self.prove(&mut files, &mut left);
        if files.len() < 2 {
            (files, blocks, layout) = (Vec::new(), Vec::new(), None);
        }
        let after = if files.is_empty() {
            before
        } else {
            size(new_site.templates.iter().map(|template| &template.source[..]))
        };
        files.sort_by(|a, b| a.path.cmp(&b.path));
        left.sort();
        Proposal { files, layout, blocks, dialect: self.dialect.name.clone(), before, after, proof, left }
    }

    /// The layout first, then the pages.
    fn write(&self, pages: &[Page], draft: &Draft, path: &str) -> Vec<ProposedFile> {
        let style = Style::of(draft.members.iter().take(50).map(|&member| &pages[member].source[..]));
        let writer = Writer { dialect: &self.dialect, pages, strength: self.options.strength, style: &style };
        let holes = holes(&draft.unified.pieces);
        let names = names(pages, &holes);
        let target = self.written_name(path);
        let layout = ProposedFile {
            path: path.to_owned(),
            role: Role::Layout,
            bytes: writer.layout(&draft.unified.pieces, &names),
        };
        let page = |&member: &usize| ProposedFile {
            path: pages[member].path.clone(),
            role: Role::Page,
            bytes: writer.page(member, &target, &holes, &names),
        };
        let converted: Vec<_> = draft.members.par_iter().map(page).collect();
        std::iter::once(layout).chain(converted).collect()
    }

    fn blocks(&self, pages: &[Page], draft: &Draft, layout: &[u8]) -> Vec<ProposedBlock> {
        let holes = holes(&draft.unified.pieces);
        let constructs = Constructs::read(layout, &self.dialect);
        let index = crate::text::LineIndex::new(layout);
        let lines: FxHashMap<&[u8], u32> = constructs
            .items
            .iter()
            .rev()
            .filter(|item| item.kind == Kind::Block && !item.name.is_empty())
            .map(|item| (item.name.of(layout), index.line(item.span.start)))
            .collect();
        let block = |(hole, name): (&&Hole, String)| ProposedBlock {
            line: lines.get(name.as_bytes()).copied().unwrap_or(1),
            default: !matches!(hole.default, DefaultContent::Empty),
            overridden_by: hole.overriding(),
            such_as: overriding(hole).take(3).map(|member| pages[member].path.clone()).collect(),
            bytes: hole
                .contents
                .iter()
                .zip(&hole.follows)
                .filter(|(_, follows)| !**follows)
                .map(|(content, _)| content.len())
                .sum(),
            drift: hole.members.len() > 3
                && hole.overriding() == 1
                && !matches!(hole.default, DefaultContent::Empty)
                && !name::marks_current(pages, hole),
            name,
        };
        holes.iter().zip(names(pages, &holes)).map(block).collect()
    }

    /// Where the layout goes: beside the site's layouts, else into `layouts/`.
    fn layout_path(&self) -> String {
        let of_dialect = |template: &&Template| template.dialect.name == self.dialect.name;
        let layouts = self.site.templates.iter().filter(|template| template.role == Role::Layout).filter(of_dialect);
        let root = self.site.roots.first().map_or("", |root| root.path.as_str());
        let folder = usual_folder(layouts.map(|template| template.path.as_str())).unwrap_or_else(|| {
            [root, "layouts"].iter().filter(|part| !part.is_empty()).copied().collect::<Vec<_>>().join("/")
        });
        let place = |name: String| {
            if folder.is_empty() { name } else { format!("{folder}/{name}") }
        };
        let names = std::iter::once("base.html".to_owned()).chain((2..).map(|n| format!("base-{n}.html")));
        names.map(place).find(|path| self.site.find(path).is_none()).unwrap_or_else(|| "base.html".into())
    }

    /// How a template names the file.
    fn written_name(&self, path: &str) -> String {
        let rules = &self.dialect.targets;
        let under = |root: &str| match root {
            "" => Some(path),
            root => path.strip_prefix(root)?.strip_prefix('/'),
        };
        let name = self.site.roots.iter().find_map(|root| under(&root.path)).unwrap_or(path);
        let name = match rules.suffixes.iter().find(|suffix| !suffix.is_empty() && name.ends_with(suffix.as_str())) {
            Some(suffix) if !rules.suffixes.iter().any(String::is_empty) => &name[..name.len() - suffix.len()],
            _ => name,
        };
        let slash = if rules.relative { "/" } else { "" };
        format!("{slash}{}", name.replace('/', &rules.separator))
    }

    /// Proves every page; converted pages that fail are taken back and left.
    fn prove(&self, files: &mut Vec<ProposedFile>, left: &mut Vec<Left>) -> (Vec<PageProof>, Site) {
        loop {
            let new = self.with(files);
            let paths: Vec<&str> = self.site.pages().map(|id| self.site.get(id).path.as_str()).collect();
            let prove_one = |path: &&str| prove_page(self.site, &new, path, self.options.strength);
            let proof: Vec<PageProof> = paths.par_iter().map(prove_one).collect();
            let failed: FxHashMap<&str, String> = proof
                .iter()
                .filter(|page| page.strength.is_none())
                .map(|page| {
                    (page.page.as_str(), page.difference.as_ref().map(|d| d.message.clone()).unwrap_or_default())
                })
                .collect();
            let count = files.len();
            files.retain(|file| !failed.contains_key(file.path.as_str()));
            if files.len() == count {
                return (proof, new);
            }
            left.extend(failed.into_iter().map(|(page, why)| Left {
                page: page.to_owned(),
                reason: format!("its conversion could not be proven: {why}"),
            }));
            if files.len() < 2 {
                files.clear();
            }
        }
    }

    /// The site with the proposed files in place.
    fn with(&self, files: &[ProposedFile]) -> Site {
        apply(self.site, files, &self.dialect)
    }
}

fn white_space_reason(places: usize) -> String {
    let noun = if places == 1 { "place" } else { "places" };
    format!("its white space differs from the other pages' in {places} {noun}, and exact output keeps it")
}

/// So many places make a page a stranger before anything is compared; fewer may
/// all lie in what is its own.
const MANY: usize = 3;

/// Members with other white space than three quarters of the others before
/// what they share with them, with the number of such places.
fn other_white_space(pages: &[Page], members: &[usize]) -> FxHashMap<usize, usize> {
    let mut counts: FxHashMap<(u64, u64), FxHashMap<u64, usize>> = FxHashMap::default();
    let places = |member: usize| pages[member].blanks_before_nodes();
    for &member in members {
        for (node, blanks) in places(member) {
            *counts.entry(node).or_default().entry(blanks).or_default() += 1;
        }
    }
    let usual: FxHashMap<(u64, u64), u64> = counts
        .into_iter()
        .filter_map(|(node, kinds)| {
            let all: usize = kinds.values().sum();
            let (&blanks, &most) = kinds.iter().max_by_key(|(blanks, count)| (**count, **blanks))?;
            (most * 4 >= all * 3 && all * 2 > members.len()).then_some((node, blanks))
        })
        .collect();
    let odd = |&member: &usize| {
        let differs = |(node, blanks): &((u64, u64), u64)| usual.get(node).is_some_and(|usual| usual != blanks);
        (member, places(member).iter().filter(|place| differs(place)).count())
    };
    members.iter().map(odd).filter(|(_, count)| *count > MANY).collect()
}

/// A site as it would be with a proposal's files in place.
fn apply(site: &Site, files: &[ProposedFile], dialect: &Arc<Dialect>) -> Site {
    let changed: FxHashMap<&str, &ProposedFile> = files.iter().map(|file| (file.path.as_str(), file)).collect();
    let kept = site.templates.iter().filter(|template| !changed.contains_key(template.path.as_str()));
    let mut dialects = vec![Arc::clone(dialect)];
    for template in &site.templates {
        if !dialects.iter().any(|known| known.name == template.dialect.name) {
            dialects.push(Arc::clone(&template.dialect));
        }
    }
    let sources = kept
        .map(|template| SourceFile::new(template.path.clone(), template.source.to_vec()))
        .chain(files.iter().map(|file| SourceFile::new(file.path.clone(), file.bytes.clone())))
        .collect();
    site.with_files(sources, &dialects)
}

/// The pages that override a hole.
fn overriding(hole: &Hole) -> impl Iterator<Item = usize> + '_ {
    hole.members.iter().zip(&hole.follows).filter(|(_, follows)| !**follows).map(|(member, _)| *member)
}

/// About how many bytes the layout and its pages will have.
fn written_size(pieces: &[Piece]) -> u64 {
    const TAGS: usize = 45;
    let hole = |hole: &Hole| {
        let default = match &hole.default {
            DefaultContent::Empty => 0,
            DefaultContent::Content(member) => hole.contents[*member].len() as u64,
            DefaultContent::Pieces(pieces) => written_size(pieces),
        };
        let overrides = hole.contents.iter().zip(&hole.follows).filter(|(_, follows)| !**follows);
        let own: usize = overrides.map(|(content, _)| content.len() + TAGS).sum();
        default + (own + TAGS) as u64
    };
    let size = |piece: &Piece| match piece {
        Piece::Fixed { span, .. } => span.len() as u64,
        Piece::Hole(inside) => hole(inside),
    };
    pieces.iter().map(size).sum()
}

/// All holes, the outer before the inner, in order of their places.
fn holes(pieces: &[Piece]) -> Vec<&Hole> {
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

fn names(pages: &[Page], holes: &[&Hole]) -> Vec<String> {
    let mut taken = Vec::new();
    holes.iter().map(|hole| name::unique(name::name(pages, hole), &mut taken)).collect()
}

fn size<'a>(sources: impl Iterator<Item = &'a [u8]>) -> Size {
    sources.fold(Size::default(), |sum, source| Size {
        files: sum.files + 1,
        bytes: sum.bytes + source.len(),
        lines: sum.lines + count_lines(source),
    })
}
