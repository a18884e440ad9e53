//! `adopt`: the proposal written into the site, and taken back.

use std::io::Write;

use anyhow::Result;
use radicon::disk::{self, Adopted};
use radicon::{Choice, propose};

use super::{is_json, json, load, options, out, propose as proposing, site_folder, write};
use crate::arguments::{Allow, Arguments, Chosen, How};
use crate::output::{busy, count, headline, next};
use crate::{DIFFERENT, FINE};

pub fn run(arguments: &Arguments, how: &How, chosen: &Chosen, allow: Allow) -> Result<u8> {
    let loaded = load(arguments)?;
    let mut out = out();
    let kept =
        if how.is_usual() && chosen.choice() == Choice::All { disk::kept(&loaded.folder, &loaded.site)? } else { None };
    if let Some(kept) = kept {
        let adopted = write(&loaded, &kept.changes, &kept.assumptions, allow)?;
        disk::forget(&loaded.folder)?;
        if is_json(arguments) {
            json(&mut out, &adopted)?;
            return Ok(FINE);
        }
        headline(&mut out, &format!("Written as radicon propose showed it: {}", summary(&adopted)))?;
        proposing::changes(&kept.proposed, &mut out)?;
        next(&mut out, "look at the site; radicon adopt --undo takes it back")?;
        return Ok(FINE);
    }
    let working = busy("looking for layouts");
    let proposal = propose(&loaded.site, &options(&loaded, how, chosen)?)?;
    drop(working);
    if proposal.files.is_empty() {
        if is_json(arguments) {
            json(&mut out, &Adopted::default())?;
        } else {
            proposing::print(&proposal, false, &mut out)?;
        }
        return Ok(DIFFERENT);
    }
    let changes = proposal.changes(&loaded.site);
    let adopted = write(&loaded, &changes, &proposal.proof.assumptions, allow)?;
    disk::forget(&loaded.folder)?;
    if is_json(arguments) {
        json(&mut out, &adopted)?;
        return Ok(FINE);
    }
    proposing::print(&proposal, false, &mut out)?;
    writeln!(out)?;
    headline(&mut out, &summary(&adopted))?;
    next(&mut out, "look at the site; radicon adopt --undo takes it back")?;
    Ok(FINE)
}

pub fn undo(arguments: &Arguments) -> Result<u8> {
    let folder = site_folder(arguments)?;
    disk::recover(&folder)?;
    let adopted = disk::undo(&folder)?;
    let mut out = out();
    if is_json(arguments) {
        json(&mut out, &adopted)?;
        return Ok(FINE);
    }
    headline(&mut out, &format!("Taken back: {}", summary(&adopted)))?;
    next(&mut out, "radicon survey")?;
    Ok(FINE)
}

pub fn summary(adopted: &Adopted) -> String {
    let parts = [("created", &adopted.created), ("changed", &adopted.changed), ("removed", &adopted.removed)];
    let parts: Vec<String> = parts
        .iter()
        .filter(|(_, files)| !files.is_empty())
        .map(|(word, files)| format!("{} {word}", count(files.len(), "file")))
        .collect();
    parts.join(", ")
}
