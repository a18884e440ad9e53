//! Running again whenever a file of a site changes.

use std::path::{Path, PathBuf};
use std::sync::mpsc::channel;
use std::time::Duration;

use anyhow::{Context, Result};
use notify::{Event, EventKind, RecursiveMode, Watcher};

use crate::output::note;
use crate::{is_broken_pipe, tell_error};

/// Changes that come within so long belong together: editors write a file in several steps.
const TOGETHER: Duration = Duration::from_millis(10);

/// Calls `again` at once, and whenever files under the folder have changed since it began, until
/// the process is stopped.
/// What cannot be read while somebody writes it is told, and tried again with the next change.
pub fn run(folder: &Path, mut again: impl FnMut() -> Result<()>) -> Result<u8> {
    let (tell, told) = channel();
    let mut watcher = notify::recommended_watcher(tell).context("files cannot be watched here")?;
    watcher
        .watch(folder, RecursiveMode::Recursive)
        .with_context(|| format!("{} cannot be watched", folder.display()))?;
    again()?;
    note(&format!("Watching {}; press Ctrl-C to stop.", folder.display()));
    loop {
        let mut changed = changes(folder, told.recv().context("nothing is watched any more")?);
        while let Ok(more) = told.recv_timeout(TOGETHER) {
            changed |= changes(folder, more);
        }
        match changed.then(&mut again) {
            Some(Err(error)) if !is_broken_pipe(&error) => tell_error(&error),
            Some(result) => result?,
            None => {}
        }
    }
}

/// Whether something happened to a file that may belong to the site.
fn changes(folder: &Path, event: notify::Result<Event>) -> bool {
    let is_own = |path: &PathBuf| {
        let inside = path.strip_prefix(folder).unwrap_or(path);
        inside.components().all(|part| !matches!(part.as_os_str().to_str(), Some(".git")))
    };
    match event {
        Ok(event) => !matches!(event.kind, EventKind::Access(_)) && event.paths.iter().any(is_own),
        // Events were lost: something may have changed.
        Err(_) => true,
    }
}
