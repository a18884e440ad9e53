//! Assumptions of a proof: shown, and refused before anything is written.

use std::io::Write;

use anyhow::{Result, bail};
use radicon::prove::{Assumption, AssumptionAbout};

use super::survey::most_frequent;
use crate::output::{BAD, PLAIN};

/// The most assumptions that are shown.
const MOST: usize = 8;

/// Shows what a proof assumes, and how to settle it.
pub fn print(assumptions: &[Assumption], out: &mut impl Write) -> Result<()> {
    if assumptions.is_empty() {
        return Ok(());
    }
    writeln!(out, "\n{BAD}Assumptions{PLAIN} of the proof, in the changed files and those they extend:")?;
    let rows = assumptions.iter().map(|one| (one.text.as_str(), one.uses, one.files, &one.first));
    most_frequent("assumption", rows.collect(), MOST, out)?;
    for way in ways(assumptions) {
        writeln!(out, "  {way}")?;
    }
    Ok(())
}

/// Refuses to write while a proof assumes something, unless that was allowed.
pub fn refuse(assumptions: &[Assumption], allowed: bool) -> Result<()> {
    let Some(first) = assumptions.first().filter(|_| !allowed) else { return Ok(()) };
    let more = match assumptions.len() - 1 {
        0 => String::new(),
        more => format!(", and {more} more"),
    };
    bail!(
        "the proof assumes that {} ({}:{}){more}; nothing was written\n  {}\n  If that is right: add --assume",
        first.text,
        first.first.file,
        first.first.line,
        ways(assumptions).join("\n  ")
    );
}

/// How what is assumed is settled.
fn ways(assumptions: &[Assumption]) -> Vec<&'static str> {
    let is_about = |about| assumptions.iter().any(|one| one.about == about);
    let mut ways = Vec::new();
    if is_about(AssumptionAbout::LearnedForm) {
        ways.push(
            "To confirm: radicon dialect learn shows what was inferred; with --write it is saved, for you to edit",
        );
    }
    if is_about(AssumptionAbout::UnexplainedText) {
        ways.push("To confirm: describe the tags in a file in dialects/, one example of each kind");
    }
    ways
}
