//! The skeleton that pages share, and the holes where they differ.

pub mod align;
mod attributes;
pub mod costs;
pub mod gaps;
pub mod hole;
pub mod marks;
pub mod text;
pub mod unify;
