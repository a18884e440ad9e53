//! Turns copied page skeletons into base layouts with named blocks, and proves that no page changed.
//!
//! # What it guarantees
//!
//! - Reading is lossless: the tokens of any source, valid or not, tile its
//!   bytes. Nothing panics, nothing recurses without a bound.
//! - A proposal never changes a page: each page, put together with the proposed
//!   files, is compared with the page as it is, and what cannot be shown to be
//!   equal is left as it was.
//! - The same input gives the same output, byte for byte, on any number of threads.
//! - Only the module `disk` touches the disk; everything else works on bytes in memory.
//!
//! # What it does not
//!
//! - It does not render: expressions, conditions and loops are kept as they are, so a finished page stands for all
//!   its renderings.
//! - It does not read style sheets: whitespace counts by HTML's own defaults.
//! - Sources must be in an encoding that contains ASCII (UTF-8, Latin-1, …);
//!   UTF-16 is recognised and left alone.
//!
//! # A first proposal
//!
//! Of a folder, with its settings:
//!
//! ```no_run
//! let shop = radicon::Workspace::open("shop")?;          // recovers an interrupted run, reads radicon.toml
//! let proposal = shop.propose()?;
//! assert!(proposal.is_proven());
//! shop.adopt(&proposal)?;
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```
//!
//! And of files in memory:
//!
//! ```
//! use radicon::{ProposeOptions, Settings, Site, SourceFile, dialect, propose};
//!
//! let page = |name: &str, text: &str| {
//!     let skeleton = "<!DOCTYPE html>\n<html>\n<body>\n<nav><a href=\"/\">Tidewater</a> <a href=\"/fares\">Fares</a></nav>\n<main>\n";
//!     let foot = "</main>\n<footer>Seven harbours, every day, all year, since 1871</footer>\n</body>\n</html>\n";
//!     SourceFile::new(name, format!("{skeleton}<h1>{text}</h1>\n<p>All about {text}.</p>\n{foot}"))
//! };
//! let files = vec![page("a.html", "Old Pier"), page("b.html", "Gull Point"), page("c.html", "Sandhaven")];
//! let site = Site::read(files, dialect::builtin(), &Settings::default());
//!
//! let proposal = propose(&site, &ProposeOptions::default())?;
//! assert_eq!(proposal.layouts[0].path, "layouts/base.html");
//! assert_eq!(proposal.layouts[0].blocks[0].name, "content");
//! assert!(proposal.is_proven());
//! # Ok::<(), radicon::ProposeError>(())
//! ```
//!
//! # Features
//!
//! - `disk` (on by default): sites in folders, the module `disk`.
//! - `schema`: JSON Schemas of all values that can be serialised.
//!
//! # The modules, in reading order
//!
//! [`text`] has spans and positions; [`config`] reads what people write in TOML; [`dialect`] describes how an engine
//! writes its tags; [`markup`] reads sources into tokens and trees: these are the crate `radicon-markup`. On them rest
//! [`site`] (files, roots, roles), [`resolve`] (chains and finished pages), [`mod@prove`] and [`edit`], the crate
//! `radicon-site`. This crate shows both, and has what is made of them: [`mod@repeats`], [`mod@propose`], single
//! refactorings ([`steps`]), [`mod@check`], [`report`], and `disk`. [`learn`], the crate `radicon-learn`,
//! infers a dialect from a site; [`translate`] writes templates in another one.

#![warn(missing_debug_implementations)]

pub mod check;
#[cfg(feature = "disk")]
pub mod disk;
mod hash;
pub mod navigate;
pub mod propose;
pub mod repeats;
pub mod report;
mod rooted;
mod sequence;
pub mod steps;
pub mod translate;

pub use check::{Checked, Finding, check};
#[cfg(feature = "disk")]
pub use disk::{DiskError, Workspace};
pub use propose::{Proposal, ProposeError, ProposeOptions, propose};
pub use prove::{Proof, Strength};
#[doc(inline)]
pub use radicon_learn as learn;
#[doc(inline)]
pub use radicon_markup::{config, dialect, markup, text};
use radicon_site::urls;
#[doc(inline)]
pub use radicon_site::{edit, prove, resolve, site};
pub use repeats::{RepeatOptions, Repeats, repeats};
pub use resolve::Resolver;
pub use site::{Change, Settings, Site, SourceFile};
pub use steps::Step;

/// The examples of the README.
#[cfg(doctest)]
#[doc = include_str!("../../../README.md")]
struct Readme;
