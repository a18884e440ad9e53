//! `adopt`: the proposal, written into the site.

use std::io::Write;

use anyhow::Result;
use radicon::disk::{self, Adopted};
use radicon::site::Role;
use radicon::{Site, propose};

use super::loading::{load, options, state};
use super::writing::{summary, write};
use super::{is_json, json, out, propose as proposing};
use crate::FINE;
use crate::arguments::{Allow, Arguments, Chosen, How};
use crate::output::{busy, headline, next};

pub fn run(arguments: &Arguments, how: &How, chosen: &Chosen, allow: Allow) -> Result<u8> {
    let loaded = load(arguments)?;
    let mut out = out();
    let is_plain = how.is_usual() && chosen.is_all();
    let kept = if is_plain { disk::kept(&state(arguments)?, &loaded)? } else { None };
    if let Some(kept) = kept {
        let adopted = write(arguments, &loaded, "adopt", &kept.changes, &kept.assumptions, allow)?;
        disk::forget(&state(arguments)?)?;
        if is_json(arguments) {
            json(&mut out, &adopted)?;
            return Ok(FINE);
        }
        headline(&mut out, &format!("Wrote the proposal that radicon propose showed: {}", summary(&adopted)))?;
        proposing::changes(&kept.proposed, &mut out)?;
        next(&mut out, &after(&loaded.site))?;
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
        return Ok(FINE);
    }
    let changes = proposal.changes(&loaded.site);
    let adopted = write(arguments, &loaded, "adopt", &changes, &proposal.proof.assumptions, allow)?;
    disk::forget(&state(arguments)?)?;
    if is_json(arguments) {
        json(&mut out, &adopted)?;
        return Ok(FINE);
    }
    proposing::print(&proposal, false, &mut out)?;
    writeln!(out)?;
    headline(&mut out, &format!("Wrote it: {}", summary(&adopted)))?;
    next(&mut out, &after(&loaded.site))?;
    Ok(FINE)
}

/// The next step once layouts are written. Pages that no engine renders are published as finished ones.
fn after(site: &Site) -> String {
    let is_static = |dialect: &str| dialect == "plain" || dialect == "margin";
    let mut pages = site.templates.iter().filter(|template| template.role == Role::Page);
    match pages.all(|page| is_static(&page.dialect.name)) {
        true => {
            "radicon flatten --all --into DIR, to write the finished pages for publishing; radicon undo, to undo it"
        }
        false => "review the site; radicon undo, to undo it",
    }
    .into()
}
