//! Layouts that the site has: the frames they give, and the pages that fit.

pub mod adopt;
pub mod between;
pub mod fit;
pub mod frame;
