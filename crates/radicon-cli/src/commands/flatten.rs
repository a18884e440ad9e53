//! `flatten`: a page put together.

use std::io::Write;
use std::path::Path;

use anyhow::{Context, Result};
use radicon::{FlatReport, Resolver};

use super::{find_page, is_json, json, load, out, problems};
use crate::FINE;
use crate::arguments::Arguments;
use crate::output::{FAINT, PLAIN, busy, count, headline, next};

pub fn run(arguments: &Arguments, page: &str, origins: bool, source_map: Option<&Path>) -> Result<u8> {
    let loaded = load(arguments)?;
    let id = find_page(&loaded, page)?;
    let flat = Resolver::new(&loaded.site).flatten(id)?;
    if let Some(path) = source_map {
        let map = serde_json::to_vec(&flat.source_map(&loaded.site, &loaded.site.get(id).path))?;
        std::fs::write(path, map).with_context(|| format!("{} cannot be written", path.display()))?;
    }
    let mut out = out();
    if is_json(arguments) {
        json(&mut out, &flat.report(&loaded.site, id))?;
    } else if origins {
        annotated(&flat.report(&loaded.site, id), &mut out)?;
    } else {
        // The page itself, byte for byte: also into a file.
        std::io::stdout().write_all(&flat.bytes)?;
    }
    for problem in &flat.problems {
        anstream::eprintln!("{problem}");
    }
    Ok(FINE)
}

/// Writes every page, put together, into a new folder.
pub fn all(arguments: &Arguments, into: &Path) -> Result<u8> {
    let loaded = load(arguments)?;
    let working = busy("putting pages together");
    let composed = radicon::disk::compose(&loaded, into)?;
    drop(working);
    let mut out = out();
    if is_json(arguments) {
        json(&mut out, &composed)?;
        return Ok(FINE);
    }
    headline(&mut out, &format!("{} put together in {}", count(composed.pages.len(), "page"), into.display()))?;
    problems(&mut out, &composed.problems)?;
    next(&mut out, "open the pages in a browser; what an engine would fill in stands as it is written")?;
    Ok(FINE)
}

/// Each line behind the place it comes from.
fn annotated(report: &FlatReport, out: &mut impl Write) -> Result<()> {
    let place = |line: &radicon::OriginLine| format!("{}:{}", line.origin.file, line.origin.line);
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
