//! Single refactorings for those who go by hand: each gives its changes with their proof.

mod collapse;
mod default_layout;
mod extract;
mod fuse;
mod inline;
mod levels;
mod open;
mod place;
mod relocate;
mod rename;
mod reorder;
#[cfg(test)]
mod testing;

use std::sync::Arc;

use serde::Serialize;

use crate::dialect::{Dialect, Urls, builtin_named};
use crate::edit::{EditError, Edits};
use crate::propose::naming;
use crate::prove::{Comparison, PageProof, Proof, Prover, Strength};
use crate::rooted;
use crate::site::own_file::Needs;
use crate::site::{Change, Role, Settings, Site, Template, stem};
use crate::text::{SourceId, Span};

pub use collapse::collapse;
pub use default_layout::default_layout;
pub(crate) use default_layout::without_parent;
pub use extract::{Extraction, extract};
pub use fuse::fuse;
pub use inline::inline;
pub use levels::{pull_up, push_down};
pub use open::open;
pub use place::{PlaceError, find_place};
pub use relocate::relocate;
pub use rename::rename;
pub use reorder::reorder;
pub(crate) use reorder::reordered;

/// A refactoring, ready to be written.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Step {
    /// The effect, in plain words.
    pub title: String,
    /// The files that change, each with the word for how: `new`, `changed` or `removed`.
    pub files: Vec<(String, &'static str)>,
    /// That no page changes.
    pub proof: Proof,
    /// Places to look at, and things that were left as they are.
    pub notes: Vec<String>,
    /// Lines for `radicon.toml`; empty if there are none.
    pub settings: String,
    /// Names of templates in the folder rules of `radicon.toml` that change: each with the new one.
    pub renamed: Vec<(String, String)>,
    /// The changes.
    #[serde(skip)]
    #[cfg_attr(feature = "schema", schemars(skip))]
    pub changes: Vec<Change>,
}

impl Step {
    /// The changes in the unified format, as `git apply` reads it.
    pub fn patch(&self) -> Vec<u8> {
        self.changes.iter().flat_map(crate::propose::patch_of).collect()
    }
}

/// Why a step is not made.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum StepError {
    /// It cannot be made here, for a reason in plain words.
    #[error("{0}")]
    Refused(String),
    /// There is nothing to do: all is as the step would make it.
    #[error("nothing to do: {0}")]
    Nothing(String),
    /// It would change a page.
    #[error("the page {} would change: {}", .0.page, .0.difference().map_or("it cannot be put together", |difference| difference.message.as_str()))]
    Changes(Box<PageProof>),
    /// Its edits do not fit together.
    #[error(transparent)]
    Edit(#[from] EditError),
}

/// What a piece of a template may be called: as the partial that it includes, or by its landmarks, classes, ids and
/// headings. A word with hyphens.
pub fn name_for(site: &Site, id: SourceId, span: Span) -> String {
    let template = site.get(id);
    let span = span.trimmed(&template.source);
    let mut includes = template.includes().filter(|(_, item)| item.span == span);
    let included = includes.find_map(|(at, _)| site.links(id).target(at)?.as_ref().ok().copied());
    match included {
        Some(partial) => naming::word(stem(&site.get(partial).path)),
        None => naming::of_markup(span.of(&template.source)),
    }
}

fn refuse<T>(why: impl Into<String>) -> Result<T, StepError> {
    Err(StepError::Refused(why.into()))
}

/// Makes a step by which markup moves from one file to another. Where relative URLs start at the folder of their
/// file, that is done on a copy of the site in which they start at the root.
fn moving(site: &Site, margin: bool, make: impl FnOnce(&Site) -> Result<Step, StepError>) -> Result<Step, StepError> {
    let follow = |template: &Template| template.dialect.rules.urls == Urls::Rebased;
    if !margin && !site.templates.iter().any(follow) {
        return make(site);
    }
    let copy = rooted::rooted(site);
    let step = make(&copy).map_err(unmarked)?;
    let more: Vec<Arc<Dialect>> = builtin_named("margin").filter(|_| margin).into_iter().collect();
    let after = copy.after(&step.changes, &more);
    let mut changes = step.changes;
    for Change { path, old, new } in &mut changes {
        *old = site.find(path).map(|id| site.get(id).source.to_vec());
        let role = after.find(path).map_or(Role::Partial, |id| after.get(id).role);
        *new = new.take().map(|text| rooted::unrooted(path, role, &text));
    }
    let made = proven(site, &site.after(&changes, &more), step.title, changes, Strength::Blanks)?;
    let notes = step.notes.iter().map(|note| rooted::unmarked(note)).collect();
    Ok(Step { notes, settings: step.settings, ..made })
}

/// An error that tells of such a copy, for people.
fn unmarked(error: StepError) -> StepError {
    match error {
        StepError::Refused(why) => StepError::Refused(rooted::unmarked(&why)),
        StepError::Changes(mut page) => {
            if let Comparison::Differs(difference) = &mut page.result {
                difference.message = rooted::unmarked(&difference.message);
            }
            StepError::Changes(page)
        }
        error @ (StepError::Nothing(_) | StepError::Edit(_)) => error,
    }
}

/// The step of these edits, if every page stays equal at a strength.
fn finish(site: &Site, title: String, edits: Edits, weakest: Strength) -> Result<Step, StepError> {
    finish_in(site, title, edits, weakest, &[])
}

/// The same, with dialects that new files may be written in.
fn finish_in(
    site: &Site,
    title: String,
    edits: Edits,
    weakest: Strength,
    more: &[Arc<Dialect>],
) -> Result<Step, StepError> {
    finish_under(site, title, edits, weakest, (more, &site.settings))
}

/// The same, under other settings.
fn finish_under(
    site: &Site,
    title: String,
    edits: Edits,
    weakest: Strength,
    (more, settings): (&[Arc<Dialect>], &Settings),
) -> Result<Step, StepError> {
    let mut changes = edits.changes(site)?;
    let after = site.after_with(&changes, more, settings);
    // What moved takes along the own-file tags that it needs.
    let after = match carry(site, &after, &mut changes) {
        true => site.after_with(&changes, more, settings),
        false => after,
    };
    proven(site, &after, title, changes, weakest)
}

/// Gives changed files the own-file tags that their tags need; whether there are any.
fn carry(site: &Site, after: &Site, changes: &mut [Change]) -> bool {
    let needs = Needs::of(site);
    let mut carries = false;
    for change in changes.iter_mut().filter(|_| !needs.is_empty()) {
        let (Some(new), Some(id)) = (&mut change.new, after.find(&change.path)) else { continue };
        let own = site.find(&change.path).map(|id| site.sure_own_file_texts(id)).unwrap_or_default();
        let with = needs.carried(new.clone(), &after.get(id).dialect, &own, true);
        carries |= *new != with;
        *new = with;
    }
    carries
}

/// The step of changes that make another site, if every page of the old one stays equal.
fn proven(
    site: &Site,
    after: &Site,
    title: String,
    changes: Vec<Change>,
    weakest: Strength,
) -> Result<Step, StepError> {
    let prover = Prover::new(site, after, weakest);
    // A file that is removed is no page that somebody looks at.
    let stays = |path: &&str| changes.iter().all(|change| change.path != **path || change.new.is_some());
    let paths: Vec<&str> = site.pages().map(|id| site.get(id).path.as_str()).filter(stays).collect();
    let proof = prover.proof(&paths);
    if let Some(page) = proof.different().next() {
        return Err(StepError::Changes(Box::new(page.clone())));
    }
    let word = |change: &Change| match (&change.old, &change.new) {
        (None, _) => "new",
        (_, None) => "removed",
        _ => "changed",
    };
    let files = changes.iter().map(|change| (change.path.clone(), word(change))).collect();
    Ok(Step { title, files, proof, notes: Vec::new(), settings: String::new(), renamed: Vec::new(), changes })
}
