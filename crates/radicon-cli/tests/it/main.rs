//! The tests that drive the program and the editor's server.
#![allow(missing_docs)]

mod browser;
mod choosing;
mod cli;
mod commands;
mod common;
mod editor;
mod finish;
mod foreign;
mod guide;
mod killed;
mod packaging;
mod server;
