//! What speaks for a meaning: words for people, names that are files, and what ends what.

pub(crate) mod comments;
mod general_closers;
pub(crate) mod pairs;
mod rare_closers;
pub(crate) mod references;
