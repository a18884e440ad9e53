//! Layouts of several levels: sections, and what each level says by default.

mod content;
pub mod cost;
pub mod defaults;
pub mod fill;
pub mod layout;
pub mod layouts;
pub mod reasons;
pub mod sections;
