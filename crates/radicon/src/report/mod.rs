//! Everything that a report page shows, as one value.
//!
//! The other modules answer one question each; a report asks them all of one site, adds
//! what the answers mean together (what to do first, how the layouts hang together, which
//! level gives each block of each page), and holds the sources once, so that a page's
//! inside can be put together wherever the report is read.

mod blocks;
mod inside;
mod map;
mod survey;
mod tasks;

use std::sync::Arc;

use serde::Serialize;

use crate::check::{Checked, Checks, RULES};
use crate::dialect::Dialect;
use crate::propose::{Proposal, ProposeError, ProposeOptions, propose};
use crate::repeats::{RepeatOptions, Repeats, repeats};
use crate::site::{Problem, Site, SourceFile};

pub use blocks::{BlockCell, BlockRow, BlockTable, Definer, Given};
pub use inside::{Inside, InsideFile, InsidePage, InsideSite, InsideStyle, Passage, Piece};
pub use map::{LayoutMap, LayoutNode, PageFolder, PartialNode};
pub use survey::{Survey, SurveyFile, Totals, UnknownTag};
pub use tasks::{Task, TaskKind};

/// The options of a report.
#[derive(Clone, Debug)]
pub struct ReportOptions {
    /// The problems met when the site was loaded.
    pub problems: Vec<Problem>,
    /// Dialects that a proposal may be written in, besides those of the site's templates.
    pub dialects: Vec<Arc<Dialect>>,
    /// The site's style sheets, for previews of its pages.
    pub styles: Vec<SourceFile>,
    /// How to propose.
    pub propose: ProposeOptions,
    /// How many bytes of sources the report may hold, each distinct line counted once;
    /// a site with more is reported without the insides of its pages. 24 MB by default.
    pub most_bytes: usize,
}

impl Default for ReportOptions {
    fn default() -> Self {
        Self {
            problems: Vec::new(),
            dialects: Vec::new(),
            styles: Vec::new(),
            propose: ProposeOptions::default(),
            most_bytes: 24_000_000,
        }
    }
}

/// Everything that there is to say about a site.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[non_exhaustive]
pub struct Report {
    /// The survey of the site.
    pub survey: Survey,
    /// The next things to do, the most worthwhile first; three at most.
    pub tasks: Vec<Task>,
    /// How the site is built.
    pub now: Structure,
    /// How it would be built with the proposal; `null` if there is nothing to propose.
    pub proposed: Option<Structure>,
    /// The sources, and how each page is put together from them, before and after the proposal.
    pub inside: Inside,
    /// The repeats.
    pub repeats: Repeats,
    /// The findings.
    pub checked: Checked,
    /// The proposal for the site; `null` if there is none.
    pub proposal: Option<Proposal>,
}

/// How a site is built.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Structure {
    /// How the layouts, pages and partials hang together.
    pub map: LayoutMap,
    /// For each base layout which level gives each block of each page.
    pub tables: Vec<BlockTable>,
}

impl Structure {
    fn of(site: &Site, survey: &Survey) -> Self {
        Self { map: LayoutMap::of(site, survey), tables: blocks::tables(site) }
    }
}

/// Reports on a site.
///
/// # Errors
/// If the dialect asked for in the options has neither layouts nor includes.
pub fn report(site: &Site, options: &ReportOptions) -> Result<Report, ProposeError> {
    let found = repeats(site, &RepeatOptions::default());
    let mut survey = Survey::of(site, &options.problems);
    survey.repeats = Some(found.summary());
    let checked = Checks::new(RULES).check_knowing(site, Some(&found));
    let proposal = propose(site, &options.propose)?;
    let proposal = (!proposal.files.is_empty()).then_some(proposal);
    let after = proposal.as_ref().map(|proposal| site.after(&proposal.changes(site), &options.dialects));
    let proof = proposal.as_ref().map_or(&[][..], |proposal| &proposal.proof.pages[..]);
    let inside = Inside::of(site, after.as_ref(), proof, options);
    Ok(Report {
        tasks: tasks::find(&checked, &found, proposal.as_ref()),
        now: Structure::of(site, &survey),
        proposed: after.as_ref().map(|after| Structure::of(after, &Survey::of(after, &[]))),
        survey,
        inside,
        repeats: found,
        checked,
        proposal,
    })
}
