//! Nodes that are alike, and how their parts correspond.

pub mod align;
pub mod alike;
