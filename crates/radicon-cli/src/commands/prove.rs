//! `prove`: all pages of two versions of a site, compared.

use std::io::Write;
use std::path::Path;

use anyhow::{Result, bail};
use radicon::disk::{self, Loaded};
use radicon::prove::Difference;
use radicon::{Strength, prove};

use super::loading::{load_folder, site_folder};
use super::{assumptions, is_json, json, out, watch};
use crate::arguments::Arguments;
use crate::output::{BAD, FAINT, GOOD, PLAIN, busy, count, headline, how_equal, next, number, quoted, quoted_path};
use crate::{DIFFERENT, FINE};

/// The most pages whose difference is shown.
const MOST: usize = 10;

/// The comparison asked for, and how equal the two sides must be.
pub struct Wanted<'a> {
    pub old: &'a Path,
    pub new: Option<&'a Path>,
    pub weakest: Strength,
}

pub fn run(arguments: &Arguments, wanted: &Wanted<'_>) -> Result<u8> {
    let site = site_folder(arguments)?;
    let before = version(&site, wanted.old)?;
    let new = wanted.new.unwrap_or(&site);
    compare(arguments, &before, &version(&site, new)?, new, wanted.weakest)
}

/// Proves again whenever the new side changes.
pub fn watch(arguments: &Arguments, wanted: &Wanted<'_>) -> Result<u8> {
    let site = site_folder(arguments)?;
    let before = version(&site, wanted.old)?;
    let new = wanted.new.unwrap_or(&site);
    if !new.is_dir() {
        bail!("{}: only a directory can be watched", new.display());
    }
    let mut reader = disk::Reader::new(new);
    watch::run(new, || compare(arguments, &before, &reader.read()?, new, wanted.weakest).map(drop))
}

fn compare(arguments: &Arguments, before: &Loaded, after: &Loaded, new: &Path, weakest: Strength) -> Result<u8> {
    let working = busy("proving");
    let proof = prove(&before.site, &after.site, weakest);
    drop(working);
    let code = if proof.equal { FINE } else { DIFFERENT };
    let mut out = out();
    if is_json(arguments) {
        json(&mut out, &proof)?;
        return Ok(code);
    }
    for strength in [Strength::Bytes, Strength::Blanks, Strength::Dom] {
        let equal = proof.equal_at(strength);
        if equal > 0 {
            writeln!(out, "{GOOD}{} {}{PLAIN}", count(equal, "page"), how_equal(strength))?;
        }
    }
    let different: Vec<_> = proof.different().collect();
    if !different.is_empty() {
        let verb = if different.len() == 1 { "differs" } else { "differ" };
        writeln!(out, "{BAD}{} {verb}{PLAIN}", count(different.len(), "page"))?;
    }
    for page in different.iter().take(MOST) {
        writeln!(out, "\n{}", page.page)?;
        if let Some(difference) = page.difference() {
            show(difference, &mut out)?;
        }
    }
    if different.len() > MOST {
        writeln!(out, "\n{FAINT}and {} more; --format json lists all{PLAIN}", number(different.len() - MOST))?;
    }
    assumptions::print(&proof.assumptions, &mut out)?;
    match different.first() {
        None => headline(&mut out, "All pages match.")?,
        Some(page) if new.is_dir() => {
            let page = quoted(&page.page);
            next(&mut out, &format!("radicon --site {} flatten {page} --origins", quoted_path(new)))?
        }
        Some(_) => next(&mut out, "git diff, to see what changed")?,
    }
    Ok(code)
}

/// A directory, or the site at a revision.
fn version(site: &Path, named: &Path) -> Result<Loaded> {
    let name = named.to_string_lossy();
    if named.is_dir() {
        return load_folder(named);
    }
    if !disk::is_revision(site, &name) {
        bail!("{name}: neither a directory nor a revision that git knows");
    }
    load_folder(disk::revision(site, &name)?.folder())
}

fn show(difference: &Difference, out: &mut impl Write) -> Result<()> {
    let mut shown = false;
    for (word, side) in [("before", &difference.before), ("after", &difference.after)] {
        let Some(side) = side else { continue };
        shown = true;
        let text = if side.text.is_empty() { "(the page ends)" } else { &side.text };
        writeln!(out, "  {word:6}  {text}")?;
        if let Some(origin) = &side.origin {
            let block = origin.block.as_ref().map(|name| format!(", block {name}")).unwrap_or_default();
            writeln!(out, "          {FAINT}{}:{}:{}{block}{PLAIN}", origin.file, origin.line, origin.column)?;
        }
    }
    if !shown {
        writeln!(out, "  {}", difference.message)?;
    }
    Ok(())
}
