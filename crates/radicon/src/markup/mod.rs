//! Reading a source: constructs first, then HTML around them, then the tree.

mod attributes;
mod constructs;
pub mod elements;
mod lexer;
mod tree;

pub(crate) use constructs::NO_TAG;
pub use constructs::{ALONE, Construct, Constructs, Fault, SyntaxError};
pub use lexer::{Opaque, Sink, Token, TokenKind, lex};
pub use tree::{Crossing, Document, Node, NodeKind};
