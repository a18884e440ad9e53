//! Adopting a proposal, and taking it back.

use std::fs;
use std::path::Path;

use serde::{Deserialize, Serialize};

use super::journal::{Lock, PENDING, UNDO, clear, commit, is_pending, recover_locked, write_synced};
use super::{DiskError, STATE_FOLDER};
use crate::site::Change;

/// What was written.
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

/// What it takes to go back: beside this index the contents, by number.
#[derive(Serialize, Deserialize)]
struct UndoFile {
    entries: Vec<UndoEntry>,
}

#[derive(Serialize, Deserialize)]
struct UndoEntry {
    path: String,
    /// Whether `old-N` holds the content from before; else the file was new.
    old: bool,
    /// Whether `new-N` holds the content that was written; else the file was removed.
    new: bool,
}

const INDEX: &str = "index.json";

/// Changes a site in place, all files or none. What is needed to go back is
/// kept until the next call.
///
/// # Errors
/// If a file changed since it was read, cannot be written, or lies outside the
/// site; then nothing was written. If the disk fails when all is staged, the
/// next run that reads the site finishes it.
pub fn adopt(folder: &Path, changes: &[Change]) -> Result<Adopted, DiskError> {
    let _lock = Lock::take(folder)?;
    recover_locked(folder)?;
    let pending = folder.join(STATE_FOLDER).join(PENDING);
    clear(&pending)?;
    fs::create_dir_all(&pending).map_err(DiskError::io(&pending))?;
    let mut entries = Vec::new();
    for (index, change) in changes.iter().enumerate() {
        for (word, bytes) in [("old", &change.old), ("new", &change.new)] {
            if let Some(bytes) = bytes {
                write_synced(&pending.join(format!("{word}-{index}")), bytes)?;
            }
        }
        entries.push(UndoEntry { path: change.path.clone(), old: change.old.is_some(), new: change.new.is_some() });
    }
    let bytes = serde_json::to_vec(&UndoFile { entries }).map_err(|error| DiskError::Refused(error.to_string()))?;
    write_synced(&pending.join(INDEX), &bytes)?;
    let done = commit(folder, changes);
    // What is staged already is finished by the next run, and can be undone then.
    if done.is_err() && !is_pending(folder) {
        clear(&pending)?;
    }
    done.map(|()| summary(changes))
}

/// Takes the last [`adopt`] back.
///
/// # Errors
/// If there is nothing to undo, or a file was changed after it was adopted;
/// then nothing was written.
pub fn undo(folder: &Path) -> Result<Adopted, DiskError> {
    let keep = folder.join(STATE_FOLDER).join(UNDO);
    let path = keep.join(INDEX);
    if !path.exists() {
        return Err(DiskError::Refused("nothing to undo: no proposal was adopted here".into()));
    }
    let _lock = Lock::take(folder)?;
    recover_locked(folder)?;
    let bytes = fs::read(&path).map_err(DiskError::io(&path))?;
    let undo: UndoFile = serde_json::from_slice(&bytes)
        .map_err(|error| DiskError::Refused(format!("{}: cannot be read: {error}", path.display())))?;
    let mut changes = Vec::new();
    for (index, entry) in undo.entries.iter().enumerate() {
        let read = |word: &str, there: bool| {
            let path = keep.join(format!("{word}-{index}"));
            there.then(|| fs::read(&path).map_err(DiskError::io(&path))).transpose()
        };
        changes.push(Change { path: entry.path.clone(), old: read("new", entry.new)?, new: read("old", entry.old)? });
    }
    commit(folder, &changes)?;
    remove_empty_folders(folder, &changes);
    clear(&keep)?;
    Ok(summary(&changes))
}

/// Folders that a removal left empty go too.
fn remove_empty_folders(folder: &Path, changes: &[Change]) {
    for change in changes.iter().filter(|change| change.new.is_none()) {
        let parents = Path::new(&change.path).ancestors().skip(1).filter(|parent| !parent.as_os_str().is_empty());
        for parent in parents {
            // Fails, as it should, on the first folder that still holds something.
            if fs::remove_dir(folder.join(parent)).is_err() {
                break;
            }
        }
    }
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
    use super::*;

    fn read(folder: &Path, path: &str) -> Option<String> {
        fs::read_to_string(folder.join(path)).ok()
    }

    #[test]
    fn adopting_and_undoing_gives_the_old_tree_back() {
        let dir = tempfile::tempdir().expect("a folder");
        fs::write(dir.path().join("a.html"), "old").expect("a file");
        let changes = [
            Change { path: "a.html".into(), old: Some(b"old".to_vec()), new: Some(b"new".to_vec()) },
            Change { path: "layouts/base.html".into(), old: None, new: Some(b"base".to_vec()) },
        ];
        let adopted = adopt(dir.path(), &changes).expect("adopted");
        assert_eq!(
            (adopted.created, adopted.changed),
            (vec!["layouts/base.html".to_owned()], vec!["a.html".to_owned()])
        );
        assert_eq!(read(dir.path(), "layouts/base.html").as_deref(), Some("base"));
        undo(dir.path()).expect("undone");
        assert_eq!((read(dir.path(), "a.html").as_deref(), dir.path().join("layouts").exists()), (Some("old"), false));
        assert!(undo(dir.path()).expect_err("nothing left").to_string().contains("nothing to undo"));
    }

    #[test]
    fn what_was_changed_after_adopting_is_not_undone() {
        let dir = tempfile::tempdir().expect("a folder");
        adopt(dir.path(), &[Change { path: "a.html".into(), old: None, new: Some(b"new".to_vec()) }]).expect("adopted");
        fs::write(dir.path().join("a.html"), "mine").expect("a file");
        assert!(undo(dir.path()).expect_err("a refusal").to_string().contains("changed since"));
        assert_eq!(read(dir.path(), "a.html").as_deref(), Some("mine"));
    }
}
