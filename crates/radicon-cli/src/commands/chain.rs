//! `chain`: the override chain of a page or layout, or one block over all pages.

use std::io::Write;

use anyhow::{Result, bail};
use radicon::Resolver;
use radicon::resolve::{BlockReport, BlockState, ChainBlock, ChainReport};
use radicon::site::Role;

use super::loading::load;
use super::lookup::{find_page, suggestion};
use super::{is_json, json, out, problems};
use crate::FINE;
use crate::arguments::Arguments;
use crate::output::{Align, BAD, FAINT, PLAIN, Table, count, headline, next, quoted};

pub fn run(arguments: &Arguments, page: &str) -> Result<u8> {
    let loaded = load(arguments)?;
    let id = find_page(&loaded, page)?;
    let report = Resolver::new(&loaded.site).chain_report(id);
    let mut out = out();
    if is_json(arguments) {
        json(&mut out, &report)?;
        return Ok(FINE);
    }
    headline(&mut out, &report.page)?;
    for (level, file) in report.chain.iter().enumerate().skip(1) {
        let rule = file.rule.as_ref().map(|rule| format!(" {FAINT}({rule}){PLAIN}")).unwrap_or_default();
        writeln!(out, "{}extends {}{rule}", "  ".repeat(level), file.file)?;
    }
    writeln!(out)?;
    if report.blocks.is_empty() {
        writeln!(out, "  {FAINT}no blocks{PLAIN}")?;
    } else if report.role == Role::Layout {
        open_blocks(&report, &mut out)?;
    } else {
        definitions(&report, &mut out)?;
    }
    lost(&report, &mut out)?;
    problems(&mut out, &report.problems)?;
    match report.role {
        Role::Layout => next(&mut out, "radicon chain --block NAME, to see one block in all pages")?,
        _ => next(&mut out, &format!("radicon flatten {} --origins, to see the finished page", quoted(&report.page)))?,
    }
    Ok(FINE)
}

/// For each block of a page who wins, and what it replaces.
fn definitions(report: &ChainReport, out: &mut impl Write) -> Result<()> {
    let columns = [
        ("block", Align::Left),
        ("", Align::Left),
        ("defined at", Align::Left),
        ("replaces", Align::Left),
        ("content", Align::Left),
    ];
    let mut table = Table::new(&columns);
    for block in &report.blocks {
        let mut definitions = block.definitions.iter();
        let winner = definitions.next();
        let place =
            |definition: &radicon::resolve::DefinitionReport| format!("{}:{}", definition.file, definition.line);
        let mut replaced: Vec<String> = definitions.map(place).collect();
        if let Some(at) = winner.and_then(|winner| winner.inherited_at.first()) {
            replaced.insert(0, format!("(inserted at line {at})"));
        }
        let from = winner.map(place).or(block.region.as_ref().map(|place| format!("{}:{}", place.file, place.line)));
        table.row([
            indented(report, block),
            block.state.word().into(),
            from.unwrap_or_default(),
            replaced.join(" "),
            block.preview.clone(),
        ]);
    }
    Ok(table.print(out)?)
}

/// The blocks of a layout that a child may override, and what is in them now.
fn open_blocks(report: &ChainReport, out: &mut impl Write) -> Result<()> {
    writeln!(out, "  Children of this layout may override:")?;
    let columns = [
        ("block", Align::Left),
        ("defined at", Align::Left),
        ("set in", Align::Left),
        ("overridden in", Align::Right),
        ("content", Align::Left),
    ];
    let mut table = Table::new(&columns);
    let open = |block: &&ChainBlock| !matches!(block.state, BlockState::Lost | BlockState::Replaced);
    for block in report.blocks.iter().filter(open) {
        let opened = block.region.as_ref().map(|place| format!("{}:{}", place.file, place.line));
        let now = match block.state {
            BlockState::Empty => "-".to_owned(),
            BlockState::Unfilled => "must be filled".to_owned(),
            _ => block.preview.clone(),
        };
        let here = block.region.as_ref().is_some_and(|place| place.file == block.effective);
        let set_by = if here { String::new() } else { block.effective.clone() };
        let below = match block.overridden_below {
            0 => "-".to_owned(),
            files => count(files, "file"),
        };
        table.row([indented(report, block), opened.unwrap_or_default(), set_by, below, now]);
    }
    Ok(table.print(out)?)
}

/// A block's name, further in if it is in another block.
fn indented(report: &ChainReport, block: &ChainBlock) -> String {
    let mut depth = 0;
    let mut within = block.within.as_ref();
    while let Some(outer) = within.filter(|_| depth < 8) {
        depth += 1;
        within = report.blocks.iter().find(|block| block.name == *outer).and_then(|block| block.within.as_ref());
    }
    "  ".repeat(depth) + &block.name
}

fn lost(report: &ChainReport, out: &mut impl Write) -> Result<()> {
    let orphans = report.blocks.iter().filter(|block| block.state == BlockState::Lost);
    let orphans: Vec<String> = orphans
        .flat_map(|block| block.definitions.iter().map(move |definition| (block, definition)))
        .map(|(block, definition)| {
            let hint = block.meant.as_ref().map(|meant| format!("; did you mean `{meant}`?")).unwrap_or_default();
            format!("{}:{}: no layout defines the block `{}`{hint}", definition.file, definition.line, block.name)
        })
        .collect();
    let loose = report
        .lost
        .iter()
        .map(|lost| format!("{}:{}: outside every block: {}", lost.place.file, lost.place.line, lost.preview));
    let all: Vec<String> = orphans.into_iter().chain(loose).collect();
    if all.is_empty() {
        return Ok(());
    }
    writeln!(out, "\n{BAD}Not shown{PLAIN}")?;
    for line in all {
        writeln!(out, "  {}", crate::output::shorten(&line, crate::output::WIDTH))?;
    }
    Ok(())
}

pub fn block(arguments: &Arguments, name: &str) -> Result<u8> {
    let loaded = load(arguments)?;
    let resolver = Resolver::new(&loaded.site);
    let report = resolver.block_report(name);
    if report.pages.is_empty() {
        let names = resolver.block_names();
        let names: Vec<&str> = names.iter().map(String::as_str).collect();
        bail!("no page has a block `{name}`; {}", suggestion(name, &names));
    }
    let mut out = out();
    if is_json(arguments) {
        json(&mut out, &report)?;
    } else {
        show_block(&report, &mut out)?;
    }
    Ok(FINE)
}

fn show_block(report: &BlockReport, out: &mut impl Write) -> Result<()> {
    headline(out, &format!("{} in {}", report.block, count(report.pages.len(), "page")))?;
    writeln!(out)?;
    let columns = [
        ("page", Align::Left),
        ("", Align::Left),
        ("defined at", Align::Left),
        ("bytes", Align::Right),
        ("content", Align::Left),
    ];
    let mut table = Table::new(&columns);
    for page in &report.pages {
        let from = page.from.as_ref().map(|place| match place.file == page.page {
            true => format!("line {}", place.line),
            false => format!("{}:{}", place.file, place.line),
        });
        let state = if page.inherits { "added to".to_owned() } else { page.state.word().to_owned() };
        let bytes = page.bytes.to_string();
        table.row([page.page.clone(), state, from.unwrap_or_else(|| "-".into()), bytes, page.preview.clone()]);
    }
    table.print(out)?;
    next(out, "radicon chain PAGE, to see all blocks of a page")?;
    Ok(())
}
