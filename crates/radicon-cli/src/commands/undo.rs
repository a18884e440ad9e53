//! `undo`: the last step that wrote into the site is undone.

use std::io::Write;

use anyhow::Result;
use radicon::disk;

use super::loading::state;
use super::writing::summary;
use super::{is_json, json, out};
use crate::FINE;
use crate::arguments::Arguments;
use crate::output::{count, headline, next};

pub fn run(arguments: &Arguments) -> Result<u8> {
    let undone = disk::undo(&state(arguments)?)?;
    let mut out = out();
    if is_json(arguments) {
        json(&mut out, &undone)?;
        return Ok(FINE);
    }
    let Some(undone) = undone else {
        headline(&mut out, "Nothing to undo")?;
        return Ok(FINE);
    };
    headline(&mut out, &format!("Undone: {} ({})", undone.title, summary(&undone.files)))?;
    match undone.left {
        0 => next(&mut out, "radicon survey")?,
        left => next(&mut out, &format!("radicon undo, {} can be undone", count(left, "more step")))?,
    }
    Ok(FINE)
}

/// The steps that can be undone.
pub fn list(arguments: &Arguments) -> Result<u8> {
    let titles = disk::undoable(&state(arguments)?)?;
    let mut out = out();
    if is_json(arguments) {
        json(&mut out, &titles)?;
        return Ok(FINE);
    }
    if titles.is_empty() {
        headline(&mut out, "Nothing to undo")?;
    }
    titles.iter().try_for_each(|title| writeln!(out, "  {title}"))?;
    Ok(FINE)
}

/// Gives up a run that was interrupted and cannot be finished.
pub fn abandon(arguments: &Arguments) -> Result<u8> {
    let kept = disk::abandon(&state(arguments)?)?;
    let mut out = out();
    if is_json(arguments) {
        json(&mut out, &kept)?;
        return Ok(FINE);
    }
    match kept {
        Some(kept) => {
            headline(&mut out, "Gave up the interrupted run; every file stays as it is")?;
            writeln!(out, "  Contents before it (old-N) and after it (new-N): {}", kept.display())?;
            next(&mut out, "radicon survey")?;
        }
        None => headline(&mut out, "No run was interrupted")?,
    }
    Ok(FINE)
}
