//! `propose --explain`: why a file becomes what it is.

use std::io::Write;

use anyhow::{Result, bail};
use radicon::propose::{Explanation, ProposedLayout};
use radicon::{Proposal, Site};

use super::lookup::suggestion;
use crate::output::{Align, FAINT, PLAIN, STRONG, Table, count, headline, number, shorten};

/// Shows why one file of a proposal is what it is.
pub fn print(proposal: &Proposal, site: &Site, path: &str, out: &mut impl Write) -> Result<()> {
    match explanation(proposal, site, path)? {
        Explanation::Layout(layout) => print_layout(layout, out),
        Explanation::Partial(partial) => {
            headline(out, path)?;
            let (uses, files) = (count(partial.uses, "place"), count(partial.files, "file"));
            let bytes = number(partial.bytes);
            match partial.saves {
                0 => writeln!(out, "A region of a layout, large enough for its own file ({bytes} bytes).")?,
                saves => writeln!(
                    out,
                    "Used in {uses} in {files}. The partial has {bytes} bytes and saves {} bytes, tags included.",
                    number(saves)
                )?,
            }
            Ok(())
        }
        Explanation::Page { chain, before, after, .. } => {
            headline(out, path)?;
            writeln!(out, "{} bytes now, {} with the proposal.", number(before), number(after))?;
            if !chain.is_empty() {
                writeln!(out, "Extends {STRONG}{}{PLAIN}", chain.join(&format!("{PLAIN}, which extends {STRONG}")))?;
            }
            Ok(())
        }
        Explanation::Left(left) => {
            headline(out, path)?;
            Ok(writeln!(out, "Unchanged: {}.", left.reason)?)
        }
    }
}

/// The explanation; an error names files that there are.
pub fn explanation<'p>(proposal: &'p Proposal, site: &Site, path: &str) -> Result<Explanation<'p>> {
    if let Some(found) = proposal.explain(site, path) {
        return Ok(found);
    }
    if site.find(path).is_some() {
        bail!("the proposal does not change {path}");
    }
    let files = proposal.files.iter().map(|file| file.path.as_str());
    let mut known: Vec<&str> = files.chain(site.templates.iter().map(|template| template.path.as_str())).collect();
    known.sort_unstable();
    known.dedup();
    bail!("no file `{path}` in the site or the proposal; {}", suggestion(path, &known))
}

fn print_layout(layout: &ProposedLayout, out: &mut impl Write) -> Result<()> {
    headline(out, &layout.path)?;
    let (pages, saves) = (count(layout.beneath, "page"), number(layout.saves));
    match &layout.extends {
        _ if layout.existing => {
            writeln!(out, "In the site already; {pages} with the same skeleton extend it in the proposal.")?
        }
        Some(around) => {
            writeln!(out, "{pages} share more than what {around} contains; this layout saves {saves} bytes.")?;
            if let Some(reason) = &layout.reason {
                writeln!(out, "It is for {reason}.")?;
            }
        }
        None => writeln!(out, "{pages} share this skeleton; with the layouts of its sections it saves {saves} bytes.")?,
    }
    if layout.blocks.is_empty() {
        return Ok(());
    }
    writeln!(out, "\nSize in bytes with each block, and with one block for the whole element around it instead:")?;
    let columns = [
        ("block", Align::Left),
        ("overridden by", Align::Right),
        ("with it", Align::Right),
        ("without", Align::Right),
        ("inside", Align::Left),
    ];
    let mut table = Table::new(&columns);
    for block in &layout.blocks {
        let within = if block.within.is_empty() { "the page".into() } else { shorten(&block.within, 44) };
        let pages = number(block.overridden_by);
        table.row([block.name.clone(), pages, number(block.cost), number(block.without), within]);
    }
    table.print(out)?;
    Ok(writeln!(out, "\n{FAINT}A block that costs more than it saves is merged with its neighbours.{PLAIN}")?)
}
