//! Radicon turns copied page skeletons into base layouts with named blocks, and
//! proves that no page changed.
//!
//! # What it guarantees
//!
//! - Reading is lossless: the tokens of any source, valid or not, tile its
//!   bytes. Nothing panics, nothing recurses without a bound.
//! - A proposal never changes a page: each page, put together with the proposed
//!   files, is compared with the page as it is, and what cannot be shown to be
//!   equal is left as it was.
//! - The same input gives the same output, byte for byte, on any number of threads.
//! - Only the module [`disk`] touches the disk; everything else works on bytes
//!   in memory.
//!
//! # What it does not
//!
//! - It does not render: expressions, conditions and loops are kept as they
//!   stand, so a flattened page stands for all renderings of it.
//! - It does not read style sheets: white space counts by HTML's own defaults.
//! - Sources must be in an encoding that contains ASCII (UTF-8, Latin-1, …);
//!   UTF-16 is recognised and left alone.
//!
//! # A first proposal
//!
//! ```
//! use radicon::{Options, Settings, Site, SourceFile, dialect, propose};
//!
//! let page = |name: &str, text: &str| {
//!     let frame = "<!DOCTYPE html>\n<html>\n<body>\n<nav><a href=\"/\">Tidewater</a> <a href=\"/fares\">Fares</a></nav>\n<main>\n";
//!     let foot = "</main>\n<footer>Seven harbours, every day, all year, since 1871</footer>\n</body>\n</html>\n";
//!     SourceFile::new(name, format!("{frame}<h1>{text}</h1>\n<p>All about {text}.</p>\n{foot}"))
//! };
//! let files = vec![page("a.html", "Old Pier"), page("b.html", "Gull Point"), page("c.html", "Sandhaven")];
//! let site = Site::read(files, dialect::builtin(), &Settings::default());
//!
//! let proposal = propose(&site, &Options::default())?;
//! assert_eq!(proposal.layouts[0].path, "layouts/base.html");
//! assert_eq!(proposal.layouts[0].blocks[0].name, "content");
//! assert!(proposal.proof.equal);
//! # Ok::<(), radicon::ProposeError>(())
//! ```
//!
//! # Features
//!
//! None is on by default.
//!
//! - `dom`: the strength `dom`, for pages that are equal only as a standard HTML parser
//!   reads them.
//! - `schema`: JSON Schemas of all values that can be serialised.
//!
//! # The modules, in reading order
//!
//! [`text`] has spans and positions; [`dialect`] describes how an engine writes
//! its constructs; [`markup`] reads sources into tokens and trees. On them stand
//! [`Site`] (files, roots, roles), [`Resolver`] (chains and flattened pages),
//! [`prove`], [`repeats`], [`propose`], single steps such as [`extract`], [`check`], [`report`], and at
//! last [`disk`]. [`learn`] works a dialect out from a site, [`translate`] writes templates in another.

#![warn(missing_debug_implementations)]

mod check;
mod config;
pub mod dialect;
pub mod disk;
mod edit;
mod learn;
pub mod markup;
mod propose;
mod prove;
mod repeats;
mod report;
mod resolve;
mod site;
mod steps;
pub mod text;
mod translate;
mod urls;

pub use check::{
    Baseline, BaselineError, Checked, Checks, Finding, Hit, LookAtSite, Mend, Mended, RULES, Related, Rule, Severity,
    check, check_rules, mend,
};
pub use config::{ConfigError, Globs};
pub use edit::{Edit, EditError, Edits};
pub use learn::{Confidence, Learned, LearnedForm, learn};
pub use propose::{
    Choice, Explanation, Goal, Healed, Left, Options, Proposal, ProposeError, ProposedBlock, ProposedChange,
    ProposedFile, ProposedLayout, ProposedPartial, Size, propose,
};
pub use prove::{
    Assumption, AssumptionAbout, Comparison, Difference, Normal, PageProof, Proof, Side, Strength, prove, prove_page,
};
pub use repeats::{
    Advice, AdviceKind, Drift, Fragment, Gap, LinePair, Normalise, RepeatCopy, RepeatFilter, RepeatGroup, RepeatHead,
    RepeatKind, RepeatOptions, RepeatSummary, RepeatVariant, Repeats, Saving, Skipped, Weight, repeats,
};
pub use report::{
    BlockCell, BlockRow, BlockTable, Definer, Given, Inside, InsideFile, InsidePage, InsideSite, InsideStyle,
    LayoutMap, LayoutNode, PageFolder, PartialNode, Passage, Piece, Report, ReportOptions, Structure, Task, TaskKind,
    report,
};
pub use resolve::{
    BlockReport, BlockState, BlockUse, Break, Chain, ChainBlock, ChainLevel, ChainReport, Definition, DefinitionReport,
    Flat, FlatReport, FlattenError, Lost, MAX_LEVELS, MAX_NESTING, MAX_PAGE, MAX_SPLICES, Origin, OriginLine, Resolver,
    SourceMap, Stretch, Via,
};
pub use site::{
    Change, CheckSettings, DialectUse, FolderRule, Links, Missing, Mount, Parent, Partials, Pin, Problem, ProblemKind,
    ProposeSettings, Reference, Role, Root, Selector, Settings, Site, SourceFile, Survey, SurveyFile, Template, Totals,
    Trial, TrialConstruct, TrialPlace, TrialTag, UnexplainedTag, UnknownTag,
};
pub use steps::{
    Extraction, PlaceError, Step, StepError, collapse, default_layout, extract, find_place, fuse, inline, open,
    pull_up, push_down, rename, reorder,
};
pub use translate::{LeftOut, TranslateError, Translation, Unsayable, translate};
