//! Writing into the site, and reporting what was written.

use std::path::Path;

use anyhow::{Context, Result, bail};
use radicon::disk::{self, Adopted, Loaded};
use radicon::prove::Assumption;
use radicon::{Change, SourceFile};

use super::assumptions;
use super::loading::state;
use crate::arguments::{Allow, Arguments};
use crate::output::{count, note};

/// Writes changes into the site as a step that can be undone. Refused are, unless allowed, changes whose proof
/// rests on assumptions, and changes to files that version control would not give back.
pub fn write(
    arguments: &Arguments,
    loaded: &Loaded,
    title: &str,
    changes: &[Change],
    assumed: &[Assumption],
    allow: Allow,
) -> Result<Adopted> {
    assumptions::refuse(assumed, allow.assume)?;
    let paths: Vec<&str> = changes.iter().map(|change| change.path.as_str()).collect();
    let dirty = disk::uncommitted(&loaded.folder, &paths);
    if let Some(first) = dirty.first().filter(|_| !allow.uncommitted) {
        let others = if dirty.len() > 1 { format!(" and {}", count(dirty.len() - 1, "other")) } else { String::new() };
        bail!("uncommitted changes in {first}{others}; commit them, or pass --uncommitted; nothing was written");
    }
    loaded.refuse_unread(changes)?;
    Ok(disk::adopt(&state(arguments)?, title, changes)?)
}

/// The files of a step in a few words: `2 files created, 1 file changed`.
pub fn summary(adopted: &Adopted) -> String {
    let parts = [("created", &adopted.created), ("changed", &adopted.changed), ("removed", &adopted.removed)];
    let parts: Vec<String> = parts
        .iter()
        .filter(|(_, files)| !files.is_empty())
        .map(|(word, files)| format!("{} {word}", count(files.len(), "file")))
        .collect();
    parts.join(", ")
}

/// Writes a file that is no part of the site.
pub fn write_file(path: &Path, bytes: impl AsRef<[u8]>) -> Result<()> {
    std::fs::write(path, bytes).with_context(|| format!("{} cannot be written", path.display()))?;
    wrote(path);
    Ok(())
}

/// Reports what was written, beside the output.
pub fn wrote(path: &Path) {
    note(&format!("Wrote {}", path.display()));
}

/// The files of a proposal as they are written.
pub fn sources(proposal: &radicon::Proposal) -> Vec<SourceFile> {
    proposal.files.iter().map(|file| SourceFile::new(file.path.clone(), file.bytes.clone())).collect()
}
