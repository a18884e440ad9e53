//! The templates of a site, their chains and finished pages, and proofs that two sites have the same pages.
//!
//! Everything works on bytes in memory; nothing here touches the disk. The crate `radicon` shows these modules as
//! its own.
//!
//! [`site`] knows files, roots and roles; [`urls`] what relative URLs read like from another folder; [`resolve`] puts
//! pages together; [`mod@prove`] compares the pages of two sites; [`edit`] changes files.

#![warn(missing_debug_implementations)]

pub mod edit;
pub mod prove;
pub mod resolve;
pub mod site;
pub mod urls;

pub use prove::prove;
use radicon_markup::{config, dialect, markup, text};
