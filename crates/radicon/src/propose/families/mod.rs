//! Which pages take a layout together.

pub mod frames;
pub mod select;
