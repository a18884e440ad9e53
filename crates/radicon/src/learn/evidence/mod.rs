//! What speaks for a meaning: words for people, names that are files, and what ends what.

pub(in crate::learn) mod comments;
mod general_closers;
pub(in crate::learn) mod pairs;
mod rare_closers;
pub(in crate::learn) mod references;
