//! Runs of nodes with equal copies.

pub mod runs;
