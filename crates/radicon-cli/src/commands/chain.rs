//! `chain`: the override chain of a page.

use std::io::Write;

use anyhow::Result;
use radicon::Resolver;

use super::{find_page, is_json, json, load, out, problems};
use crate::FINE;
use crate::arguments::Arguments;
use crate::output::{Align, FAINT, PLAIN, Table, headline, next, number};

pub fn run(arguments: &Arguments, page: &str) -> Result<u8> {
    let loaded = load(arguments)?;
    let id = find_page(&loaded, page)?;
    let report = Resolver::new(&loaded.site).chain(id).report(&loaded.site);
    let mut out = out();
    if is_json(arguments) {
        json(&mut out, &report)?;
        return Ok(FINE);
    }
    headline(&mut out, &report.page)?;
    for (level, file) in report.chain.iter().enumerate().skip(1) {
        writeln!(out, "{}takes its frame from {}", "  ".repeat(level), file.file)?;
    }
    writeln!(out)?;
    if report.blocks.is_empty() {
        writeln!(out, "  {FAINT}no blocks{PLAIN}")?;
    } else {
        let columns =
            [("block", Align::Left), ("comes from", Align::Left), ("bytes", Align::Right), ("instead of", Align::Left)];
        let mut table = Table::new(&columns);
        for block in &report.blocks {
            let mut definitions = block.definitions.iter();
            let Some(winner) = definitions.next() else { continue };
            let place = |definition: &radicon::DefinitionReport| format!("{}:{}", definition.file, definition.line);
            let mut replaced: Vec<String> = definitions.map(place).collect();
            if winner.inherits {
                replaced.insert(0, "(together with)".into());
            }
            table.row([block.name.clone(), place(winner), number(winner.bytes), replaced.join(", ")]);
        }
        table.print(&mut out)?;
    }
    problems(&mut out, &report.problems)?;
    next(&mut out, &format!("radicon flatten {} --origins, to see the page put together", report.page))?;
    Ok(FINE)
}
