//! `flatten`: finished pages.

use std::io::{IsTerminal, Write};
use std::path::Path;

use anyhow::Result;
use radicon::resolve::FlatReport;
use radicon::site::Problem;
use radicon::{Resolver, SourceFile, disk};

use super::loading::load;
use super::lookup::find_page;
use super::writing::{write_file, wrote};
use super::{is_json, json, out, problems};
use crate::arguments::Arguments;
use crate::output::{FAINT, PLAIN, busy, count, headline, next};
use crate::terminal::tell;
use crate::{DIFFERENT, FINE};

pub fn run(arguments: &Arguments, page: &str, origins: bool, source_map: Option<&Path>) -> Result<u8> {
    let loaded = load(arguments)?;
    let id = find_page(&loaded, page)?;
    let flat = Resolver::new(&loaded.site).flatten(id)?;
    if let Some(path) = source_map {
        let map = serde_json::to_vec(&flat.source_map(&loaded.site, &loaded.site.get(id).path))?;
        write_file(path, map)?;
    }
    let mut out = out();
    if is_json(arguments) {
        json(&mut out, &flat.report(&loaded.site, id))?;
    } else if origins {
        annotated(&flat.report(&loaded.site, id), &mut out)?;
    } else {
        // The page itself, byte for byte, but for a terminal.
        match std::io::stdout().is_terminal() {
            true => out.write_all(&flat.bytes)?,
            false => std::io::stdout().write_all(&flat.bytes)?,
        }
    }
    Ok(tell_problems(&flat.problems))
}

/// Reports what is wrong with a page; gives the exit code: a page that is not whole is a failure.
fn tell_problems(problems: &[Problem]) -> u8 {
    problems.iter().for_each(tell);
    code(problems)
}

fn code(problems: &[Problem]) -> u8 {
    if problems.iter().any(|problem| problem.kind.breaks_page()) { DIFFERENT } else { FINE }
}

/// Writes finished pages into a new directory: one, or all of them with the site's other files.
pub fn into(arguments: &Arguments, page: Option<&str>, into: &Path) -> Result<u8> {
    let loaded = load(arguments)?;
    if let Some(page) = page {
        let id = find_page(&loaded, page)?;
        let flat = Resolver::new(&loaded.site).flatten(id)?;
        let path = &loaded.site.get(id).path;
        disk::write_files(&loaded, &[SourceFile::new(path.clone(), flat.bytes)], into)?;
        wrote(&into.join(path));
        return Ok(tell_problems(&flat.problems));
    }
    let working = busy("writing pages");
    let composed = disk::compose(&loaded, into)?;
    drop(working);
    let mut out = out();
    if is_json(arguments) {
        json(&mut out, &composed)?;
        return Ok(code(&composed.problems));
    }
    headline(&mut out, &format!("Wrote {} to {}", count(composed.pages.len(), "finished page"), into.display()))?;
    problems(&mut out, &composed.problems)?;
    match code(&composed.problems) {
        FINE => next(&mut out, "open the pages in a browser; outputs and conditions of an engine stay as written")?,
        _ => next(&mut out, "radicon check, to see why pages are not whole")?,
    }
    Ok(code(&composed.problems))
}

/// Each line after the place that it comes from.
fn annotated(report: &FlatReport, out: &mut impl Write) -> Result<()> {
    let place = |line: &radicon::resolve::OriginLine| format!("{}:{}", line.origin.file, line.origin.line);
    let places: Vec<String> = report.origins.iter().map(place).collect();
    let width = places.iter().map(String::len).max().unwrap_or(0);
    let names = report.origins.iter().filter_map(|line| line.origin.block.as_ref());
    let name_width = names.map(String::len).max().unwrap_or(0).max(5);
    writeln!(out, "{FAINT}{:width$}  {:name_width$}{PLAIN}", "from", "block")?;
    for ((text, line), place) in report.text.split('\n').zip(&report.origins).zip(&places) {
        let block = line.origin.block.as_deref().unwrap_or("");
        writeln!(out, "{FAINT}{place:width$}  {block:name_width$} |{PLAIN} {}", text.trim_end_matches('\r'))?;
    }
    Ok(())
}
