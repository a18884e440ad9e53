//! Reading a source: constructs first, then HTML around them, then the tree.

mod attributes;
mod construct;
mod constructs;
pub mod elements;
mod header;
mod lexer;
mod nest;
mod reading;
mod scan;
mod tree;
mod within;

pub use construct::{Construct, ConstructId, Inside};
pub use constructs::{Constructs, Fault, SyntaxError};
pub use header::header_of;
pub use lexer::Lexer;
pub use lexer::{Opaque, Sink, Token, TokenId, TokenKind, lex};
pub use nest::{Closes, Nest, TagName};
pub use tree::{Crossing, Document, Node, NodeId, NodeKind};
