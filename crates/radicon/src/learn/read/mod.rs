//! What is in the files: their notations, the tags in these, and tags that begin alike.

pub(in crate::learn) mod corpus;
pub(in crate::learn) mod delimiters;
pub(in crate::learn) mod directives;
pub(in crate::learn) mod notations;
pub(in crate::learn) mod pieces;
pub(in crate::learn) mod tags;
