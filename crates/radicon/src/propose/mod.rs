//! Proposals: layouts with named blocks, of several levels, and partials for pages that were copied from
//! each other, and the proof that no page changes.

mod align;
mod assemble;
mod cuts;
mod defaults;
mod edges;
mod existing;
mod explain;
mod family;
mod fit;
mod heal;
mod hole;
mod levels;
mod missed;
mod name;
mod neighbours;
mod page;
mod partials;
mod patch;
pub(crate) use patch::of as patch_of;
mod proof;
mod sections;
mod settle;
mod skeleton;
mod spelling;
mod tidy;
mod unify;
mod worth;
mod write;

use std::collections::BTreeMap;
use std::sync::Arc;

use rayon::prelude::*;
use rustc_hash::{FxHashMap, FxHashSet};
use serde::{Serialize, Serializer};

use crate::config::Globs;
use crate::dialect::{self, ByteOrderMark, Dialect, Kind, Urls};
use crate::markup::Document;
use crate::prove::{Proof, Strength};
use crate::site::taglike::{self, UnexplainedTag};
use crate::site::{Change, Partials, ProposeSettings, Selector};
use crate::site::{Parent, Role, Site, SourceFile, Template, folder};
use crate::text::{BYTE_ORDER_MARK, SourceId, count_lines};
use crate::urls;

use assemble::Plan;
pub use explain::Explanation;
pub use heal::Healed;
use hole::{DefaultContent, Hole, Piece};
use missed::Pattern;
use page::Page;
use spelling::Spelling;

/// How to propose.
#[derive(Clone, Debug)]
pub struct Options {
    /// `Bytes` keeps every byte of every page; `Blanks` (the default) may change
    /// insignificant white space and writes tidy, indented templates; `Dom` may
    /// also write tags otherwise: the order of attributes, quotes, letter case.
    pub strength: Strength,
    /// The dialect to write; by default that of the site's layouts, else `margin`.
    pub dialect: Option<Arc<Dialect>>,
    /// What one block costs, in bytes, in the layout and in each page that
    /// overrides it (default 100). Higher: fewer, bigger blocks. Lower: as small as
    /// possible; several ways to cut pages into blocks are tried, which takes three to five
    /// times as long, two copies make a partial, blocks are closed by the shortest tag that
    /// the dialect has, and names have few words.
    pub block_price: u64,
    /// The most levels of layouts (default 8).
    pub levels: usize,
    /// What becomes a partial.
    pub partials: Partials,
    /// Whether copies that were left behind are first made like the others (default no).
    /// These pages change; all else is proven against the pages so healed.
    pub heal: bool,
    /// What a section's layout or a partial must save, in bytes; `None` for three times the price of a block, and
    /// for a partial a thousandth of the site unless it is a region of the page.
    pub min_saving: Option<u64>,
    /// Pages that keep their form.
    pub except: Globs,
    /// Elements whose content is one block each, with the block's name; nothing in
    /// them becomes a block of its own.
    pub regions: Vec<(String, Selector)>,
    /// Names of blocks, layouts and partials as they are proposed, and what to call them instead.
    pub names: BTreeMap<String, String>,
}

impl Options {
    /// As a site's settings say.
    pub fn of(settings: &ProposeSettings) -> Self {
        let usual = Self::default();
        Self {
            block_price: settings.block_price.unwrap_or(usual.block_price),
            levels: settings.levels.map_or(usual.levels, |levels| levels as usize),
            partials: settings.partials.unwrap_or(usual.partials),
            min_saving: settings.min_saving,
            except: settings.except.clone(),
            regions: settings.regions.clone(),
            names: settings.names.clone(),
            ..usual
        }
    }

    /// Size is all: blocks are closed by the shortest tag for it, names have few words.
    fn is_small(&self) -> bool {
        self.block_price < USUAL_PRICE
    }

    /// What to call something that would have this name.
    fn called(&self, name: String) -> String {
        self.names.get(&name).cloned().unwrap_or(name)
    }
}

/// The usual price of a block.
const USUAL_PRICE: u64 = 100;

impl Default for Options {
    fn default() -> Self {
        Self {
            strength: Strength::Blanks,
            dialect: None,
            block_price: USUAL_PRICE,
            levels: 8,
            partials: Partials::Repeats,
            heal: false,
            min_saving: None,
            except: Globs::default(),
            regions: Vec::new(),
            names: BTreeMap::new(),
        }
    }
}

/// Why nothing can be proposed at all.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum ProposeError {
    /// The dialect cannot express layouts.
    #[error("the dialect `{0}` has neither parents and blocks nor includes, so pages written in it can share nothing")]
    SharesNothing(String),
}

/// A file of the proposal.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct ProposedFile {
    /// Its path from the site's folder.
    pub path: String,
    /// What it is for.
    pub role: Role,
    /// The dialect that it is written in.
    pub dialect: String,
    /// The path of the layout that it takes.
    pub extends: Option<String>,
    /// Its new content. In JSON text; bytes that are not UTF-8 are shown as U+FFFD there.
    #[serde(rename = "text", serialize_with = "as_text")]
    #[cfg_attr(feature = "schema", schemars(with = "String"))]
    pub bytes: Vec<u8>,
}

fn as_text<S: Serializer>(bytes: &[u8], serializer: S) -> Result<S::Ok, S::Error> {
    serializer.serialize_str(&String::from_utf8_lossy(bytes))
}

/// A block of the proposed layout.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct ProposedBlock {
    /// Its name.
    pub name: String,
    /// Line of its opening tag in the layout, 1-based.
    pub line: u32,
    /// Whether it has default content.
    pub default: bool,
    /// How many pages override it.
    pub overridden_by: usize,
    /// How many layouts override it.
    pub layouts: usize,
    /// Some of them: the first three by path.
    pub such_as: Vec<String>,
    /// Bytes of all overrides together.
    pub bytes: usize,
    /// What the block costs: its tags and its overrides, in bytes.
    pub cost: usize,
    /// What a block around all of the element that holds it would cost, in bytes.
    pub without: usize,
    /// The element around it.
    pub within: String,
    /// It is there for one page only, which differs from all others: perhaps a
    /// copy that was left behind.
    pub drift: bool,
}

/// A layout of the proposal.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct ProposedLayout {
    /// Its path.
    pub path: String,
    /// The layout that it extends.
    pub extends: Option<String>,
    /// The site has it already; counted are the pages that the proposal gives to it.
    pub existing: bool,
    /// How many pages take it directly.
    pub pages: usize,
    /// How many pages take it or a layout that extends it.
    pub beneath: usize,
    /// The blocks that it defines, in the order of their places.
    pub blocks: Vec<ProposedBlock>,
    /// What having it saves, in bytes: for a base layout all of its family, for one
    /// that extends another beyond that one, as it was estimated.
    pub saves: usize,
    /// The blocks of the layouts around it that it fills.
    pub fills: Vec<String>,
}

/// A partial of the proposal.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct ProposedPartial {
    /// Its path.
    pub path: String,
    /// How often it is included.
    pub uses: usize,
    /// In how many files.
    pub files: usize,
    /// How many values each use passes to it.
    pub parameters: usize,
    /// What having it saves, in bytes.
    pub saves: usize,
    /// Its bytes.
    pub bytes: usize,
}

/// How much there is.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Size {
    /// Templates.
    pub files: usize,
    /// Bytes in them.
    pub bytes: usize,
    /// Lines in them.
    pub lines: usize,
}

/// A page that the proposal leaves as it is.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Left {
    /// Its path.
    pub page: String,
    /// Why.
    pub reason: String,
}

/// A restructuring of a site, with its proof.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Proposal {
    /// New and changed files, sorted by path.
    pub files: Vec<ProposedFile>,
    /// The layouts, the outer before those that extend them; none if there is nothing to propose.
    pub layouts: Vec<ProposedLayout>,
    /// The partials, by path.
    pub partials: Vec<ProposedPartial>,
    /// How many repeats are left that are no partial: rows, prose, what has no telling name, stands in fewer than
    /// three files or saves less than a thousandth of the site.
    pub smaller_repeats: usize,
    /// The dialects the files are written in, separated by commas.
    pub dialect: String,
    /// All templates of the site as they are.
    pub before: Size,
    /// All templates of the site with the proposal.
    pub after: Size,
    /// Places that are made as the other pages have them, where that was asked for.
    pub healed: Vec<Healed>,
    /// For every page of the site, once healed, how equal it is before and after; and what that rests on.
    pub proof: Proof,
    /// Pages that keep their form, with the reason.
    pub left: Vec<Left>,
    /// Text of files without a dialect that looks like tags, the most frequent first: these pages are left as
    /// they are, unless the dialect to write was named.
    pub unexplained: Vec<UnexplainedTag>,
}

impl Proposal {
    /// Files that hide one of somebody else's and take their frame from it now.
    pub fn uncovered(&self) -> impl Iterator<Item = &ProposedFile> {
        let is_known = |path: &String| self.layouts.iter().any(|layout| layout.path == *path);
        self.files.iter().filter(move |file| file.extends.as_ref().is_some_and(|path| !is_known(path)))
    }

    /// The changes to the disk that adopt it.
    pub fn changes(&self, site: &Site) -> Vec<Change> {
        let old = |path: &str| site.find(path).map(|id| site.get(id).source.to_vec());
        self.files
            .iter()
            .map(|file| Change { path: file.path.clone(), old: old(&file.path), new: Some(file.bytes.clone()) })
            .collect()
    }

    /// The changes as a patch, in the unified format that `git apply` takes.
    pub fn patch(&self, site: &Site) -> Vec<u8> {
        self.changes(site).iter().flat_map(patch::of).collect()
    }
}

/// Proposes layouts for the pages of a site that share a frame: for each family
/// of pages a base layout, and layouts for the sections in it that pay.
///
/// The result is proven: every page of the site, put together with the
/// proposal, equals the page as it is at the strength asked for or a stronger
/// one. A page for which that fails is left as it is, with the reason.
///
/// In a dialect without layouts only partials are proposed.
///
/// # Errors
/// If the dialect asked for has neither layouts nor includes.
pub fn propose(site: &Site, options: &Options) -> Result<Proposal, ProposeError> {
    let dialect = options.dialect.clone().unwrap_or_else(|| usual_dialect(site));
    // Pages of different folders say the same alike when all URLs start at the root.
    let copy = (dialect.rules.urls == Urls::Rebased).then(|| urls::rooted(site));
    let (at, actual) = (copy.as_ref().unwrap_or(site), copy.as_ref().map(|_| site));
    let (price, nested_defaults, partials) = (options.block_price, true, Arc::default());
    // Two notations are never mixed, unless that was asked for by name.
    let (tags, tagged) = match options.dialect {
        Some(_) => Default::default(),
        None => taglike::in_plain_files(site),
    };
    let tagged = Arc::new(tagged);
    let spelling = None;
    let job = Job { site: at, actual, options, dialect, price, nested_defaults, partials, spelling, tagged };
    let mut proposal = propose_in(at, options, job)?;
    proposal.unexplained = tags;
    Ok(proposal)
}

/// The proposal for a job, and those of the other dialects of its site.
fn propose_in(site: &Site, options: &Options, job: Job<'_>) -> Result<Proposal, ProposeError> {
    if !job.dialect.has_layouts() {
        return match job.dialect.form(Kind::Include) {
            Some(_) => Ok(partials_alone(&job)),
            None => Err(ProposeError::SharesNothing(job.dialect.name.clone())),
        };
    }
    let mut jobs = vec![job];
    for template in site.templates.iter().filter(|template| template.dialect.has_children()) {
        if jobs.iter().all(|job| job.dialect.name != template.dialect.name) {
            jobs.push(jobs[0].in_dialect(&template.dialect));
        }
    }
    jobs[1..].sort_by(|a, b| a.dialect.name.cmp(&b.dialect.name));
    if options.strength > Strength::Blanks {
        let spelling = Arc::new(Spelling::of(site.templates.iter().filter(|template| template.unreadable.is_none())));
        jobs.iter_mut().for_each(|job| job.spelling = Some(Arc::clone(&spelling)));
    }
    if !options.heal {
        return Ok(smallest(site, &jobs));
    }
    let before = jobs[0].size();
    let (healthy, healed) = heal::heal(site, &jobs);
    let actual = jobs[0].actual.map(|actual| {
        let files = healthy.templates.iter().map(|template| {
            SourceFile::new(template.path.clone(), urls::unrooted(&template.path, template.role, &template.source))
        });
        actual.with_files(files.collect(), &jobs[0].dialects())
    });
    let as_healthy =
        |job: &Job<'_>| Job { site: &healthy, actual: actual.as_ref(), ..jobs[0].clone() }.in_dialect(&job.dialect);
    let jobs: Vec<Job> = jobs.iter().map(as_healthy).collect();
    let mut proposal = smallest(&healthy, &jobs);
    let known: FxHashSet<String> = proposal.files.iter().map(|file| file.path.clone()).collect();
    let mut alone: Vec<&str> = healed.iter().map(|healed| healed.page.as_str()).collect();
    alone.retain(|page| !known.contains(*page));
    alone.dedup();
    for id in alone.into_iter().filter_map(|page| healthy.find(page)) {
        let template = healthy.get(id);
        let (path, dialect) = (template.path.clone(), template.dialect.name.clone());
        let bytes = actual.as_ref().unwrap_or(&healthy).get(id).source.to_vec();
        proposal.files.push(ProposedFile { path, role: Role::Page, dialect, extends: None, bytes });
    }
    proposal.files.sort_by(|a, b| a.path.cmp(&b.path));
    proposal.before = before;
    proposal.healed = healed;
    Ok(proposal)
}

/// The proposal; where size is all the smallest of several, since what seems to pay one by
/// one may not pay together: at the price asked for with and without blocks in defaults,
/// which may keep a section from being seen, and at the usual price; then once more with
/// what became partials kept together, of which sections may have taken parts.
fn smallest(site: &Site, jobs: &[Job<'_>]) -> Proposal {
    let options = jobs[0].options;
    let mut best = restructure(site, jobs);
    if !options.is_small() {
        return best;
    }
    let mut jobs = jobs.to_vec();
    for (price, nested_defaults) in [(options.block_price, false), (USUAL_PRICE, true)] {
        let others: Vec<Job<'_>> = jobs.iter().map(|job| Job { price, nested_defaults, ..job.clone() }).collect();
        let other = restructure(site, &others);
        if other.after.bytes < best.after.bytes {
            (best, jobs) = (other, others);
        }
    }
    for job in &mut jobs {
        let is_own = |file: &&ProposedFile| file.role == Role::Partial && file.dialect == job.dialect.name;
        let own = best.files.iter().filter(is_own);
        job.partials = own.map(|file| Pattern::read(&file.bytes, &job.dialect, options.strength)).collect();
    }
    if jobs.iter().all(|job| job.partials.is_empty()) {
        return best;
    }
    let other = restructure(site, &jobs);
    if other.after.bytes < best.after.bytes { other } else { best }
}

/// The proposal in a dialect without layouts: pages keep their frames, and include what they share.
fn partials_alone(job: &Job<'_>) -> Proposal {
    let mut plan = Plan::default();
    for id in job.candidates(&mut plan.left) {
        let template = job.site.get(id);
        let is_own = template.dialect.forms.is_empty() || template.dialect.name == job.dialect.name;
        let other = || format!("written in the dialect `{}`", template.dialect.name);
        let why = if is_own { job.misread(template) } else { Some(other()) };
        let page = template.path.clone();
        match why {
            Some(reason) => plan.left.push(Left { page, reason }),
            None => plan.written.push(ProposedFile {
                path: page,
                role: Role::Page,
                dialect: job.dialect.name.clone(),
                extends: None,
                bytes: template.source.to_vec(),
            }),
        }
    }
    let mut proposal = job.finish(plan);
    let is_new =
        |file: &ProposedFile| job.site.find(&file.path).is_none_or(|id| *job.site.get(id).source != file.bytes);
    let (new, same): (Vec<_>, Vec<_>) = proposal.files.into_iter().partition(is_new);
    let lone = |file: ProposedFile| Left { page: file.path, reason: "shares nothing that a partial would save".into() };
    proposal.left.extend(same.into_iter().map(lone));
    proposal.left.sort();
    proposal.files = new;
    proposal
}

/// How often families are sought among the pages that are left.
const MOST_ROUNDS: usize = 4;

/// The proposal for a site whose pages are as they should be.
fn restructure(site: &Site, jobs: &[Job<'_>]) -> Proposal {
    let mut plan = Plan::default();
    let mut candidates = jobs[0].candidates(&mut plan.left);
    for job in jobs {
        job.take_in(&mut candidates, &mut plan, true);
        job.uncover(&mut plan);
    }
    let mut own: Vec<Vec<SourceId>> = Vec::new();
    for (index, job) in jobs.iter().enumerate() {
        own.push(job.choose(&mut candidates, index == 0, &mut plan.left));
    }
    // Where white space counts, pages that only differ in it make families of their own.
    let rounds = if jobs[0].options.strength == Strength::Bytes { MOST_ROUNDS } else { 1 };
    let mut left = Vec::new();
    for _ in 0..rounds {
        let known = plan.written.len();
        left.clear();
        for (job, own) in jobs.iter().zip(&own) {
            let pages = job.read(own);
            let drafts = job.drafts(&pages, known > 0, &mut left);
            job.found(&pages, drafts, &mut plan, &mut left);
        }
        if plan.written.len() == known || left.is_empty() {
            break;
        }
        // Pages that no family wanted may fit its layout all the same.
        let new = apply(site, plan.written.iter(), &jobs[0].dialects());
        let mut late: Vec<SourceId> = left.iter().filter_map(|left| new.find(&left.page)).collect();
        for job in jobs {
            Job { site: &new, ..job.clone() }.take_in(&mut late, &mut plan, false);
        }
        let late: FxHashSet<&str> = late.iter().map(|&id| new.get(id).path.as_str()).collect();
        left.retain(|left| late.contains(left.page.as_str()));
        own.iter_mut().for_each(|own| own.retain(|&id| late.contains(site.get(id).path.as_str())));
    }
    plan.left.extend(left);
    let cannot = |id: SourceId| {
        let template = site.get(id);
        let reason = format!("written in the dialect `{}`, which has no parents and blocks", template.dialect.name);
        Left { page: template.path.clone(), reason }
    };
    plan.left.extend(candidates.into_iter().map(cannot));
    let written: FxHashSet<&str> = plan.written.iter().map(|file| file.path.as_str()).collect();
    plan.left.retain(|left| !written.contains(left.page.as_str()));
    jobs[0].finish(plan)
}

/// The dialect of the templates with a layout in or above the folders of most pages
/// that have none; else that of these pages; else `margin`.
fn usual_dialect(site: &Site) -> Arc<Dialect> {
    let lone: Vec<&Template> =
        site.pages().filter(|&id| *site.parent(id) == Parent::None).map(|id| site.get(id)).collect();
    let mut with_layouts: FxHashMap<&str, Vec<&Template>> = FxHashMap::default();
    for template in site.templates.iter().filter(|template| template.parent().is_some()) {
        with_layouts.entry(folder(&template.path)).or_default().push(template);
    }
    let above = |page: &&Template| {
        let mut at = page.path.as_str();
        while !at.is_empty() {
            at = folder(at);
            if let Some(known) = with_layouts.get(at) {
                return Some(known.clone());
            }
        }
        None
    };
    let votes: Vec<Vec<&Template>> = lone.iter().filter_map(above).collect();
    let most = if votes.len() * 2 > lone.len() { most_used(votes.into_iter().flatten()) } else { None };
    most.or_else(|| most_used(lone.into_iter()))
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

#[derive(Clone)]
struct Job<'s> {
    site: &'s Site,
    /// The site as it is, if `site` is a copy whose URLs start at the root.
    actual: Option<&'s Site>,
    options: &'s Options,
    dialect: Arc<Dialect>,
    /// What a block costs in this attempt, in bytes.
    price: u64,
    /// Whether what most pages have alike may be a default with blocks of its own.
    nested_defaults: bool,
    /// Partials that are known from an attempt before: what would be one stays together.
    partials: Arc<[Pattern]>,
    /// How tags are written, where that does not count.
    spelling: Option<Arc<Spelling>>,
    /// Files without a dialect that hold tag-like text, with the first piece of it.
    tagged: Arc<BTreeMap<SourceId, String>>,
}

impl<'s> Job<'s> {
    /// The site as it is.
    fn actual(&self) -> &'s Site {
        self.actual.unwrap_or(self.site)
    }

    /// The same job for another dialect: where that keeps URLs, it is for the site as it is.
    fn in_dialect(&self, dialect: &Arc<Dialect>) -> Self {
        let dialect = Arc::clone(dialect);
        match dialect.rules.urls {
            Urls::Rebased => Job { dialect, ..self.clone() },
            Urls::Kept | Urls::Unknown => Job { dialect, site: self.actual(), actual: None, ..self.clone() },
        }
    }

    fn size(&self) -> Size {
        size(self.actual().templates.iter().map(|template| &template.source[..]))
    }

    /// These pages, ready for comparison.
    fn read(&self, pages: &[SourceId]) -> Vec<Page> {
        let read = |&id: &SourceId| {
            let template = self.site.get(id);
            self.page_from(template, &template.dialect, self.site.own_head(id))
        };
        let mut pages: Vec<Page> = pages.par_iter().map(read).collect();
        if !self.partials.is_empty() {
            missed::mark(&mut pages, &self.partials);
        }
        pages
    }

    /// A page, read in a dialect.
    fn page(&self, template: &Template, dialect: &Dialect) -> Page {
        self.page_from(template, dialect, 0)
    }

    /// A page, read in a dialect; what it sets for itself in so many bytes at its top is kept apart.
    fn page_from(&self, template: &Template, dialect: &Dialect, head: usize) -> Page {
        let own_mark = self.dialect.rules.byte_order_mark == ByteOrderMark::Page;
        let mark = if own_mark && template.source.starts_with(BYTE_ORDER_MARK) { BYTE_ORDER_MARK.len() } else { 0 };
        let (own, rest) = template.source.split_at(head.max(mark));
        let source = match &self.spelling {
            Some(spelling) => Arc::new(spelling.apply(rest, dialect)),
            None if own.is_empty() => Arc::clone(&template.source),
            None => Arc::new(rest.to_vec()),
        };
        let document = Document::read(&source, dialect);
        let mut page = Page::of(template.path.clone(), source, document, self.options.strength);
        (page.mark, page.head) = (mark > 0, own[mark..].to_vec());
        page
    }

    /// The job's dialect, and those of the site.
    fn dialects(&self) -> Vec<Arc<Dialect>> {
        let mut dialects = urls::dialects(self.site);
        dialects.retain(|known| known.name != self.dialect.name);
        dialects.insert(0, Arc::clone(&self.dialect));
        dialects
    }
}

/// A site as it would be with a proposal's files in place.
fn apply<'f>(site: &Site, files: impl Iterator<Item = &'f ProposedFile> + Clone, dialects: &[Arc<Dialect>]) -> Site {
    let changed: FxHashSet<&str> = files.clone().map(|file| file.path.as_str()).collect();
    let kept = site.templates.iter().filter(|template| !changed.contains(template.path.as_str()));
    let sources = kept
        .map(|template| SourceFile::new(template.path.clone(), template.source.to_vec()))
        .chain(files.map(|file| SourceFile::new(file.path.clone(), file.bytes.clone())))
        .collect();
    site.with_files(sources, dialects)
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

fn size<'a>(sources: impl Iterator<Item = &'a [u8]>) -> Size {
    sources.fold(Size::default(), |sum, source| Size {
        files: sum.files + 1,
        bytes: sum.bytes + source.len(),
        lines: sum.lines + count_lines(source),
    })
}
