//! `demo`: the demo site, and the whole job done on it.

use std::io::Write;
use std::path::Path;

use anyhow::{Context, Result, bail};
use include_dir::{Dir, include_dir};
use radicon::report::Survey;
use radicon::{ProposeOptions, Strength, disk, propose, prove};

use super::writing::sources;
use super::{out, propose as proposing};
use crate::arguments::Arguments;
use crate::output::{FAINT, GOOD, PLAIN, count, headline, next, quoted, quoted_path};
use crate::{DIFFERENT, FINE};

/// The pages of a made-up ferry line.
static SITE: Dir<'_> = include_dir!("$CARGO_MANIFEST_DIR/demo");

pub fn run(_: &Arguments, folder: &Path) -> Result<u8> {
    if std::fs::read_dir(folder).is_ok_and(|mut entries| entries.next().is_some()) {
        bail!("{}: the directory is not empty; name a new one", folder.display());
    }
    let (old, new) = (folder.join("tidewater"), folder.join("tidewater-new"));
    std::fs::create_dir_all(&old).with_context(|| format!("{} cannot be created", old.display()))?;
    SITE.extract(&old).with_context(|| format!("the demo cannot be written into {}", old.display()))?;

    let mut out = out();
    let loaded = disk::load(&old)?;
    headline(&mut out, "1. The site before")?;
    let totals = Survey::of(&loaded.site, &loaded.problems).totals;
    writeln!(out, "   {}: {}, copied from each other over the years\n", old.display(), count(totals.pages, "page"))?;

    headline(&mut out, "2. radicon propose --show")?;
    writeln!(out)?;
    let proposal = propose(&loaded.site, &ProposeOptions::default())?;
    proposing::print(&proposal, true, &mut out)?;

    writeln!(out)?;
    headline(&mut out, "3. A page after: only its own content is left")?;
    let page = proposal.files.iter().find(|file| file.path == "harbours/heronsea.html");
    if let Some(page) = page {
        writeln!(out, "   {FAINT}{}{PLAIN}\n{}", page.path, String::from_utf8_lossy(&page.bytes).trim_end())?;
    }

    disk::write_site(&loaded, &sources(&proposal), &new)?;
    let proof = prove(&loaded.site, &disk::load(&new)?.site, Strength::Blanks);
    let result = if proof.equal { "verified" } else { "compared: some differ" };
    writeln!(out)?;
    headline(&mut out, &format!("4. radicon prove {} {}", old.display(), new.display()))?;
    writeln!(out, "   {GOOD}{} {result}{PLAIN}", count(proof.pages.len(), "page"))?;
    // It may have been built and not yet installed.
    let called = std::env::args().next().filter(|name| name.contains('/')).unwrap_or_else(|| "radicon".into());
    let called = format!("{} --site {}", quoted(&called), quoted_path(&old));
    next(&mut out, &format!("{called} adopt, and {called} undo"))?;
    Ok(if proof.equal { FINE } else { DIFFERENT })
}
