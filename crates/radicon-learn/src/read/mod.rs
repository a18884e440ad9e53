//! What is in the files: their notations, the tags in these, and tags that begin alike.

pub(crate) mod corpus;
pub(crate) mod delimiters;
pub(crate) mod directives;
pub(crate) mod notations;
pub(crate) mod pieces;
pub(crate) mod tags;
