//! The markup of a site as a forest of labelled nodes.

pub mod forest;
pub mod labels;
pub mod reader;
pub mod urls;
