//! Proposals: layouts with named blocks, of several levels, and partials for pages that were copied from
//! each other, and the proof that no page changes.

mod assemble;
mod changes;
mod existing;
mod explain;
mod families;
mod hierarchy;
mod job;
pub(crate) mod naming;
mod options;
mod pages;
mod partials;
mod price;
mod proposal;
mod report;
mod skeleton;
#[cfg(test)]
pub(crate) mod testing;
mod verify;
mod writing;

use std::collections::BTreeSet;
use std::sync::Arc;

use rustc_hash::{FxHashMap, FxHashSet};

use crate::dialect::{self, Dialect, Kind, Urls};
use crate::prove::Strength;
use crate::rooted;
use crate::site::{Parent, Role, Site, SourceFile, Template, folder, taglike};
use crate::text::SourceId;

use assemble::Plan;
pub use explain::Explanation;
use job::Job;
pub use options::{Choice, Goal, ProposeOptions};
use pages::heal;
pub use pages::heal::Healed;
use pages::spelling::Spelling;
pub(crate) use partials::copies::{Pattern, Segment};
pub(crate) use partials::movable::bound_to_file;
pub(crate) use partials::passing::Passing;
use proposal::size;
pub use proposal::{
    Left, Proposal, ProposeError, ProposedBlock, ProposedChange, ProposedFile, ProposedLayout, ProposedPartial, Size,
};
use verify::apply;
pub(crate) use writing::indent::{Style, indented_in};
pub(crate) use writing::patch::of as patch_of;

/// Proposes layouts for the pages of a site that share a skeleton: for each family
/// of pages a base layout, and layouts for the sections in it that pay.
///
/// The result is proven: every page of the site, put together with the
/// proposal, equals the page as it is at the strength asked for or a stronger
/// one. A page for which that fails is left as it is, with the reason.
///
/// In a dialect without layouts only partials are proposed.
///
/// # Errors
/// If the dialect asked for has neither layouts nor includes, or a change that was chosen is not there.
pub fn propose(site: &Site, options: &ProposeOptions) -> Result<Proposal, ProposeError> {
    let all = propose_only(site, options, None)?;
    let Some(chosen) = changes::chosen(&all.changes, &options.choice)? else { return Ok(all) };
    let chosen = Arc::new(chosen);
    let mut some = propose_only(site, options, Some(Arc::clone(&chosen)))?;
    changes::renumber(&mut some.changes, &all.changes, &chosen)?;
    Ok(some)
}

/// The proposal, perhaps with the changes of these paths only.
fn propose_only(
    site: &Site,
    options: &ProposeOptions,
    only: Option<Arc<BTreeSet<String>>>,
) -> Result<Proposal, ProposeError> {
    let dialect = options.dialect.clone().unwrap_or_else(|| usual_dialect(site));
    // Pages of different folders say the same alike when all URLs start at the root.
    let copy = (dialect.rules.urls == Urls::Rebased).then(|| rooted::rooted(site));
    let (at, actual) = (copy.as_ref().unwrap_or(site), copy.as_ref().map(|_| site));
    // Exact output is cut where the bytes are the same.
    let fine = options.is_small() || options.strength == Strength::Bytes;
    let (price, nested_defaults, partials) = (options.price(), true, Arc::default());
    // Two notations are never mixed, unless that was asked for by name.
    let (tags, unknown) = match options.dialect {
        Some(_) => Default::default(),
        None => taglike::in_unknown_files(site),
    };
    let unknown = Arc::new(unknown);
    let spelling = None;
    let job =
        Job { site: at, actual, options, dialect, price, fine, nested_defaults, partials, spelling, only, unknown };
    let mut proposal = propose_in(at, options, job)?;
    proposal.unexplained = tags;
    Ok(proposal)
}

/// The proposal for a job, and those of the other dialects of its site.
fn propose_in(site: &Site, options: &ProposeOptions, job: Job<'_>) -> Result<Proposal, ProposeError> {
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
            SourceFile::new(template.path.clone(), rooted::unrooted(&template.path, template.role, &template.source))
        });
        actual.with_files(files.collect(), &jobs[0].dialects())
    });
    let as_healthy =
        |job: &Job<'_>| Job { site: &healthy, actual: actual.as_ref(), ..jobs[0].clone() }.in_dialect(&job.dialect);
    let jobs: Vec<Job> = jobs.iter().map(as_healthy).collect();
    let mut proposal = smallest(&healthy, &jobs);
    let known: FxHashSet<String> = proposal.files.iter().map(|file| file.path.clone()).collect();
    let mut alone: Vec<&str> = healed.iter().map(|healed| healed.page.as_str()).collect();
    // What belongs to no change is healed if all are proposed.
    alone.retain(|page| !known.contains(*page) && jobs[0].only.is_none());
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
    let known: FxHashSet<&str> = proposal.files.iter().map(|file| file.path.as_str()).collect();
    proposal.healed.retain(|healed| known.contains(healed.page.as_str()));
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
    for (price, nested_defaults) in [(options.price(), false), (Goal::Balanced.price(), true)] {
        let others: Vec<Job<'_>> = jobs.iter().map(|job| Job { price, nested_defaults, ..job.clone() }).collect();
        let other = restructure(site, &others);
        if other.after.bytes < best.after.bytes {
            (best, jobs) = (other, others);
        }
    }
    for job in &mut jobs {
        let is_own = |file: &&ProposedFile| file.role == Role::Partial && file.dialect == job.dialect.name;
        let own = best.files.iter().filter(is_own);
        job.partials =
            own.map(|file| Pattern::read(&file.bytes, Passing::of(site, &job.dialect), options.strength)).collect();
    }
    if jobs.iter().all(|job| job.partials.is_empty()) {
        return best;
    }
    let other = restructure(site, &jobs);
    if other.after.bytes < best.after.bytes { other } else { best }
}

/// The proposal in a dialect without layouts: pages keep their skeletons, and include what they share.
fn partials_alone(job: &Job<'_>) -> Proposal {
    let mut plan = Plan::default();
    for id in job.candidates(&mut plan.left) {
        let template = job.site.get(id);
        let is_own = template.dialect.forms.is_empty() || template.dialect.name == job.dialect.name;
        let other = || format!("in the dialect `{}`", template.dialect.name);
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
    let pages: Vec<String> = plan.written.iter().map(|file| file.path.clone()).collect();
    let mut proposal = job.finish(plan);
    let new: FxHashSet<&str> = proposal.files.iter().map(|file| file.path.as_str()).collect();
    let pages: Vec<String> = pages.into_iter().filter(|page| !new.contains(page.as_str())).collect();
    let lone = |page| Left { page, reason: "nothing in common that a partial would save".into() };
    proposal.left.extend(pages.into_iter().map(lone));
    proposal.left.sort();
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
    // Where whitespace counts, pages that only differ in it make families of their own.
    let rounds = if jobs[0].options.strength == Strength::Bytes { MOST_ROUNDS } else { 1 };
    let mut left = Vec::new();
    for _ in 0..rounds {
        let known = plan.written.len();
        left.clear();
        for (job, own) in jobs.iter().zip(&own) {
            let pages = job.read(own);
            let drafts = job.drafts(&pages, known > 0, &mut left);
            job.found(pages, drafts, &mut plan, &mut left);
        }
        if plan.written.len() == known || left.is_empty() {
            break;
        }
        // Pages that no family wanted may fit its layout all the same.
        let new = apply(site, &plan.written, &jobs[0].dialects());
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
        let reason = format!("in the dialect `{}`, which has no layouts", template.dialect.name);
        Left { page: template.path.clone(), reason }
    };
    plan.left.extend(candidates.into_iter().map(cannot));
    jobs.iter().for_each(|job| job.tell_copies_in_others(&mut plan.left));
    existing::improve(site, jobs, &mut plan);
    plan.keep(jobs[0].only.as_deref());
    let written: FxHashSet<&str> = plan.written.iter().map(|file| file.path.as_str()).collect();
    plan.left.retain(|left| !written.contains(left.page.as_str()));
    // What other templates hold may be in partials too.
    let is_tagged = |template: &&Template| !template.dialect.forms.is_empty() && template.unreadable.is_none();
    let as_it_is = |template: &Template| ProposedFile {
        path: template.path.clone(),
        role: template.role,
        dialect: template.dialect.name.clone(),
        extends: None,
        bytes: template.source.to_vec(),
    };
    let others: Vec<ProposedFile> = site
        .templates
        .iter()
        .filter(is_tagged)
        .filter(|template| !written.contains(template.path.as_str()) && !jobs[0].keeps_as_it_is(&template.path))
        .map(as_it_is)
        .collect();
    plan.written.extend(others);
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

#[cfg(test)]
mod tests {
    use super::{most_used, usual_dialect};
    use crate::propose::testing::site;

    #[test]
    fn the_dialect_is_that_of_the_layouts_near_most_pages() {
        let layout = ("x/child.html", "{% extends 'x/base.html' %}{% block a %}1{% endblock %}");
        let base = ("x/base.html", "{% block a %}{% endblock %}");
        let plain = |paths: &[&'static str]| paths.iter().map(|path| (*path, "<p>x</p>")).collect::<Vec<_>>();
        let near = site([vec![layout, base], plain(&["x/one.html", "x/two.html"])].concat());
        assert_eq!(usual_dialect(&near).name, "brace-percent");
        let far = site([vec![layout, base], plain(&["one.html", "two.html"])].concat());
        assert_eq!(usual_dialect(&far).name, "margin");
        assert!(most_used(near.templates.iter().filter(|file| file.path.ends_with("two.html"))).is_none());
    }
}
