//! The tests that drive the public interface; one program, since each would hold the whole library.
#![allow(missing_docs)]

mod addresses;
mod budgets;
mod chains;
mod common;
mod copied;
mod dialects;
mod disk;
mod engine;
mod examples;
mod existing;
mod fixtures;
mod habits;
mod house_style;
mod improving;
mod laws;
mod layouts;
mod learning;
mod levels;
mod made;
mod partials;
mod proposals;
mod reading;
mod rendered;
mod repeats;
mod report;
mod rules;
mod rules_page;
mod schemas;
mod sites;
mod steps;
mod tokenizer;
mod tour;
mod translation;
