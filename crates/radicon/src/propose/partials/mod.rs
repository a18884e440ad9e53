//! What is left repeated becomes partials.

pub mod copies;
pub mod find;
pub mod grow;
pub mod movable;
pub mod passing;
pub mod worth;
