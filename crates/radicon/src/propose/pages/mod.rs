//! Pages as they are compared: read, in one spelling, healed.

pub mod heal;
pub mod page;
pub mod spelling;
