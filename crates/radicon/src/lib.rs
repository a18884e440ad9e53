//! Radicon (scaffold)
pub mod dialect;
pub mod markup;
mod prove;
mod resolve;
mod site;
pub mod text;
pub use prove::*;
pub use resolve::*;
pub use site::*;
