//! Reads page templates of any dialect into tokens, constructs and trees.
//!
//! Reading is lossless: the tokens of any source, valid or not, tile its bytes. Nothing panics, nothing recurses
//! without a bound. The crate `radicon` shows these modules as its own.
//!
//! [`text`] has spans and positions; [`config`] reads what people write in TOML; [`dialect`] describes how an engine
//! writes its tags; [`markup`] reads sources.

#![warn(missing_debug_implementations)]

pub mod config;
pub mod dialect;
mod ids;
pub mod markup;
pub mod text;
