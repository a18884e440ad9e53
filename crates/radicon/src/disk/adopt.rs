//! Writing changes into a site, and undoing them.

use std::fs;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use super::journal::{
    PENDING, Transaction, clear, commit, is_pending, missing_folders, mode_of, recover_locked, steps, write_synced,
};
use super::{DiskError, State};
use crate::site::Change;

/// The files that were written.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Adopted {
    /// Files that were not there before.
    pub created: Vec<String>,
    /// Files with new content.
    pub changed: Vec<String>,
    /// Files that are gone.
    pub removed: Vec<String>,
}

/// The files that were restored.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Undone {
    /// The title of the step, as given to [`adopt`].
    pub title: String,
    /// The files that were put back.
    #[serde(flatten)]
    pub files: Adopted,
    /// The number of steps that can still be undone.
    pub left: usize,
}

/// The record that undoing a step needs: this index, and beside it the contents, by number.
#[derive(Serialize, Deserialize)]
struct UndoFile {
    title: String,
    entries: Vec<UndoEntry>,
    /// The folders that the step made, the outermost first.
    made: Vec<String>,
}

#[derive(Serialize, Deserialize)]
struct UndoEntry {
    path: String,
    /// Whether `old-N` holds the content from before; else the file was new.
    old: bool,
    /// Whether `new-N` holds the content that was written; else the file was removed.
    new: bool,
    /// The permissions of the old file, where the system has such.
    mode: Option<u32>,
}

const INDEX: &str = "index.json";

/// Changes a site in place, all files or none, as a step with a title. The last 20 steps can be undone.
///
/// # Errors
/// If a file changed since it was read, cannot be written, is a link, or lies outside the site; then nothing was
/// written.
pub fn adopt(state: &State, title: &str, changes: &[Change]) -> Result<Adopted, DiskError> {
    let _lock = state.lock()?;
    recover_locked(state)?;
    let pending = state.path(PENDING);
    clear(&pending)?;
    let done = record(state, title, changes)
        .and_then(|()| commit(state, &Transaction { changes, modes: Vec::new(), undoes: None }));
    // What could not be taken back is kept.
    if done.is_err() && !is_pending(state) {
        clear(&pending)?;
    }
    done.map(|()| summary(changes))
}

/// Writes what is needed to undo a step.
fn record(state: &State, title: &str, changes: &[Change]) -> Result<(), DiskError> {
    let pending = state.path(PENDING);
    fs::create_dir_all(&pending).map_err(DiskError::io(&pending))?;
    let mut entries = Vec::new();
    for (index, change) in changes.iter().enumerate() {
        for (word, bytes) in [("old", &change.old), ("new", &change.new)] {
            if let Some(bytes) = bytes {
                write_synced(&pending.join(format!("{word}-{index}")), bytes)?;
            }
        }
        let mode = mode_of(&state.site.join(&change.path));
        let (old, new) = (change.old.is_some(), change.new.is_some());
        entries.push(UndoEntry { path: change.path.clone(), old, new, mode });
    }
    let undo = UndoFile { title: title.to_owned(), entries, made: missing_folders(&state.site, changes) };
    let bytes = serde_json::to_vec(&undo).map_err(|error| DiskError::Refused(error.to_string()))?;
    write_synced(&pending.join(INDEX), &bytes)
}

/// The titles of the steps that can be undone, the last one first.
///
/// # Errors
/// If what is needed to undo them cannot be read.
pub fn undoable(state: &State) -> Result<Vec<String>, DiskError> {
    let steps = steps(state).into_iter().rev();
    steps.map(|(_, step)| Ok(read_step(&step)?.title)).collect()
}

fn read_step(step: &Path) -> Result<UndoFile, DiskError> {
    let path = step.join(INDEX);
    let bytes = fs::read(&path).map_err(DiskError::io(&path))?;
    serde_json::from_slice(&bytes)
        .map_err(|error| DiskError::Refused(format!("{}: cannot be read: {error}", path.display())))
}

/// Undoes the last step that [`adopt`] made and that is not undone yet, once an interrupted run is finished. `None` if
/// there is none.
///
/// # Errors
/// If a file was changed after the step; then nothing was written.
pub fn undo(state: &State) -> Result<Option<Undone>, DiskError> {
    if steps(state).is_empty() && !is_pending(state) {
        return Ok(None);
    }
    let _lock = state.lock()?;
    recover_locked(state)?;
    let mut steps: Vec<(usize, PathBuf)> = steps(state);
    let Some((number, step)) = steps.pop() else { return Ok(None) };
    let undo = read_step(&step)?;
    let mut changes = Vec::new();
    for (index, entry) in undo.entries.iter().enumerate() {
        let read = |word: &str, there: bool| {
            let path = step.join(format!("{word}-{index}"));
            there.then(|| fs::read(&path).map_err(DiskError::io(&path))).transpose()
        };
        changes.push(Change { path: entry.path.clone(), old: read("new", entry.new)?, new: read("old", entry.old)? });
    }
    let modes = undo.entries.iter().map(|entry| entry.mode).collect();
    commit(state, &Transaction { changes: &changes, modes, undoes: Some((number, undo.made)) })?;
    Ok(Some(Undone { title: undo.title, files: summary(&changes), left: steps.len() }))
}

fn summary(changes: &[Change]) -> Adopted {
    let paths = |fits: &dyn Fn(&Change) -> bool| {
        changes.iter().filter(|change| fits(change)).map(|change| change.path.clone()).collect()
    };
    Adopted {
        created: paths(&|change| change.old.is_none() && change.new.is_some()),
        changed: paths(&|change| change.old.is_some() && change.new.is_some()),
        removed: paths(&|change| change.new.is_none()),
    }
}

#[cfg(test)]
mod tests {
    use tempfile::TempDir;

    use super::*;
    use crate::disk::journal::MOST_STEPS;

    /// A site without files, and a folder for its state.
    fn site() -> (TempDir, State) {
        let dir = tempfile::tempdir().expect("a folder");
        fs::create_dir(dir.path().join("site")).expect("a folder");
        let state = State::beneath(&dir.path().join("site"), &dir.path().join("state")).expect("a site");
        (dir, state)
    }

    fn read(state: &State, path: &str) -> Option<String> {
        fs::read_to_string(state.site.join(path)).ok()
    }

    #[test]
    fn adopting_and_undoing_gives_the_old_tree_back() {
        let (_dir, state) = site();
        fs::write(state.site.join("a.html"), "old").expect("a file");
        fs::create_dir(state.site.join("empty")).expect("a folder");
        let changes = [
            Change { path: "a.html".into(), old: Some(b"old".to_vec()), new: Some(b"new".to_vec()) },
            Change { path: "layouts/deep/base.html".into(), old: None, new: Some(b"base".to_vec()) },
            Change { path: "empty/b.html".into(), old: None, new: Some(b"b".to_vec()) },
        ];
        let adopted = adopt(&state, "adopt", &changes).expect("adopted");
        assert_eq!((adopted.created.len(), adopted.changed), (2, vec!["a.html".to_owned()]));
        assert_eq!(read(&state, "layouts/deep/base.html").as_deref(), Some("base"));
        let undone = undo(&state).expect("undone").expect("a step");
        assert_eq!((undone.title.as_str(), undone.left), ("adopt", 0));
        assert_eq!(read(&state, "a.html").as_deref(), Some("old"));
        let is_there = |path: &str| state.site.join(path).exists();
        assert!(!is_there("layouts") && is_there("empty") && !is_there("empty/b.html"));
        assert_eq!(undo(&state).expect("nothing left"), None);
    }

    #[cfg(unix)]
    #[test]
    fn permissions_of_removed_files_come_back() {
        use std::os::unix::fs::PermissionsExt;
        let (_dir, state) = site();
        let path = state.site.join("a.html");
        fs::write(&path, "old").expect("a file");
        fs::set_permissions(&path, fs::Permissions::from_mode(0o640)).expect("permissions");
        adopt(&state, "move", &[Change { path: "a.html".into(), old: Some(b"old".to_vec()), new: None }])
            .expect("adopted");
        assert!(!path.exists());
        undo(&state).expect("undone").expect("a step");
        assert_eq!(fs::metadata(&path).expect("a file").permissions().mode() & 0o777, 0o640);
    }

    #[test]
    fn what_was_changed_after_adopting_is_not_undone() {
        let (_dir, state) = site();
        let change = Change { path: "a.html".into(), old: None, new: Some(b"new".to_vec()) };
        adopt(&state, "adopt", &[change]).expect("adopted");
        fs::write(state.site.join("a.html"), "mine").expect("a file");
        assert!(undo(&state).expect_err("a refusal").to_string().contains("changed since"));
        assert_eq!(read(&state, "a.html").as_deref(), Some("mine"));
    }

    #[test]
    fn the_last_steps_are_undone_one_after_the_other() {
        let (_dir, state) = site();
        let text = |at: usize| (at > 0).then(|| at.to_string().into_bytes());
        let all = MOST_STEPS + 3;
        for at in 0..all {
            let change = Change { path: "a.html".into(), old: text(at), new: text(at + 1) };
            adopt(&state, &format!("step {at}"), &[change]).expect("adopted");
        }
        assert_eq!(undoable(&state).expect("titles")[..2], [format!("step {}", all - 1), format!("step {}", all - 2)]);
        for at in (3..all).rev() {
            let undone = undo(&state).expect("undone").expect("a step");
            assert_eq!((undone.title, undone.left), (format!("step {at}"), at - 3));
            assert_eq!(read(&state, "a.html"), Some(at.to_string()));
        }
        assert_eq!(undo(&state).expect("the older ones are forgotten"), None);
    }
}
