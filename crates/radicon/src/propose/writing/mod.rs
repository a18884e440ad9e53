//! Layouts, pages and patches as text.

pub mod indent;
pub mod patch;
pub mod writer;
