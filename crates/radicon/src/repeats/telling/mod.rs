//! What is reported about a group: advice, outdated copies, copies side by side.

pub mod advice;
pub mod drift;
pub mod side_by_side;
