//! `propose --explain`: why a file becomes what it is.

use std::io::Write;

use anyhow::{Result, bail};
use radicon::{Explanation, Proposal, ProposedLayout, Site};

use super::suggestion;
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
                0 => writeln!(out, "A region of a layout that is big enough for a file of its own ({bytes} bytes).")?,
                saves => writeln!(
                    out,
                    "It stands in {uses} of {files}. Once as a partial it takes {bytes} bytes; that saves {}, tags counted.",
                    number(saves)
                )?,
            }
            Ok(())
        }
        Explanation::Page { chain, before, after, .. } => {
            headline(out, path)?;
            writeln!(out, "{} bytes as it is, {} with the proposal.", number(before), number(after))?;
            if !chain.is_empty() {
                writeln!(out, "It takes {STRONG}{}{PLAIN}", chain.join(&format!("{PLAIN}, which takes {STRONG}")))?;
            }
            Ok(())
        }
        Explanation::Left(left) => {
            headline(out, path)?;
            Ok(writeln!(out, "It is left as it is: {}.", left.reason)?)
        }
    }
}

/// The explanation; an error names files that there are.
pub fn explanation<'p>(proposal: &'p Proposal, site: &Site, path: &str) -> Result<Explanation<'p>> {
    if let Some(found) = proposal.explain(site, path) {
        return Ok(found);
    }
    if site.find(path).is_some() {
        bail!("the proposal leaves {path} as it is");
    }
    let files = proposal.files.iter().map(|file| file.path.as_str());
    let known: Vec<&str> = files.chain(site.templates.iter().map(|template| template.path.as_str())).collect();
    bail!("no file `{path}` in the site or the proposal; {}", suggestion(path, &known))
}

fn print_layout(layout: &ProposedLayout, out: &mut impl Write) -> Result<()> {
    headline(out, &layout.path)?;
    let (pages, saves) = (count(layout.beneath, "page"), number(layout.saves));
    match &layout.extends {
        _ if layout.existing => writeln!(out, "The site has it; {pages} of the same frame take it now.")?,
        Some(around) => writeln!(out, "{pages} share more than {around} holds; saying that once saves {saves} bytes.")?,
        None => writeln!(out, "{pages} share this frame; with its sections it saves {saves} bytes.")?,
    }
    if layout.blocks.is_empty() {
        return Ok(());
    }
    writeln!(
        out,
        "\nWhat each block costs in bytes, and what it would cost to make all of the element around it\na block instead."
    )?;
    let columns = [
        ("block", Align::Left),
        ("overridden by", Align::Right),
        ("with it", Align::Right),
        ("without", Align::Right),
        ("within", Align::Left),
    ];
    let mut table = Table::new(&columns);
    for block in &layout.blocks {
        let within = if block.within.is_empty() { "the page".into() } else { shorten(&block.within, 44) };
        let pages = number(block.overridden_by);
        table.row([block.name.clone(), pages, number(block.cost), number(block.without), within]);
    }
    table.print(out)?;
    Ok(writeln!(out, "\n{FAINT}A block that costs more than it saves is joined with its neighbours.{PLAIN}")?)
}
