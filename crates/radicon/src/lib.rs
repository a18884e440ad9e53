//! Radicon (scaffold)
pub mod text;
pub mod dialect;
pub mod markup;
pub mod disk;
mod site; mod resolve; mod prove; mod propose;
pub use site::*; pub use resolve::*; pub use prove::*; pub use propose::*;
