//! Writing changes into a site, and undoing them.

use std::fs;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use super::journal::{Lock, PENDING, clear, commit, is_pending, recover_locked, steps, write_synced};
use super::{DiskError, STATE_FOLDER};
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

/// Changes a site in place, all files or none, as a step with a title. The last 20 steps can be undone.
///
/// # Errors
/// If a file changed since it was read, cannot be written, or lies outside the
/// site; then nothing was written. If the disk fails when all is staged, the
/// next run that reads the site finishes it.
pub fn adopt(folder: &Path, title: &str, changes: &[Change]) -> Result<Adopted, DiskError> {
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
    let bytes = serde_json::to_vec(&UndoFile { title: title.to_owned(), entries })
        .map_err(|error| DiskError::Refused(error.to_string()))?;
    write_synced(&pending.join(INDEX), &bytes)?;
    let done = commit(folder, changes, None);
    // What is staged already is finished by the next run, and can be undone then.
    if done.is_err() && !is_pending(folder) {
        clear(&pending)?;
    }
    done.map(|()| summary(changes))
}

/// The titles of the steps that can be undone, the last one first.
///
/// # Errors
/// If what is needed to undo them cannot be read.
pub fn undoable(folder: &Path) -> Result<Vec<String>, DiskError> {
    let steps = steps(folder).into_iter().rev();
    steps.map(|(_, step)| Ok(read_step(&step)?.title)).collect()
}

fn read_step(step: &Path) -> Result<UndoFile, DiskError> {
    let path = step.join(INDEX);
    let bytes = fs::read(&path).map_err(DiskError::io(&path))?;
    serde_json::from_slice(&bytes)
        .map_err(|error| DiskError::Refused(format!("{}: cannot be read: {error}", path.display())))
}

/// Undoes the last step that [`adopt`] made and that is not undone yet. `None` if there is none.
///
/// # Errors
/// If a file was changed after the step; then nothing was written.
pub fn undo(folder: &Path) -> Result<Option<Undone>, DiskError> {
    if steps(folder).is_empty() {
        return Ok(None);
    }
    let _lock = Lock::take(folder)?;
    recover_locked(folder)?;
    let mut steps: Vec<(usize, PathBuf)> = steps(folder);
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
    commit(folder, &changes, Some(number))?;
    remove_empty_folders(folder, &changes);
    Ok(Some(Undone { title: undo.title, files: summary(&changes), left: steps.len() }))
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
    use crate::disk::journal::MOST_STEPS;

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
        let adopted = adopt(dir.path(), "adopt", &changes).expect("adopted");
        assert_eq!(
            (adopted.created, adopted.changed),
            (vec!["layouts/base.html".to_owned()], vec!["a.html".to_owned()])
        );
        assert_eq!(read(dir.path(), "layouts/base.html").as_deref(), Some("base"));
        let undone = undo(dir.path()).expect("undone").expect("a step");
        assert_eq!((undone.title.as_str(), undone.left), ("adopt", 0));
        assert_eq!((read(dir.path(), "a.html").as_deref(), dir.path().join("layouts").exists()), (Some("old"), false));
        assert_eq!(undo(dir.path()).expect("nothing left"), None);
    }

    #[test]
    fn what_was_changed_after_adopting_is_not_undone() {
        let dir = tempfile::tempdir().expect("a folder");
        let change = Change { path: "a.html".into(), old: None, new: Some(b"new".to_vec()) };
        adopt(dir.path(), "adopt", &[change]).expect("adopted");
        fs::write(dir.path().join("a.html"), "mine").expect("a file");
        assert!(undo(dir.path()).expect_err("a refusal").to_string().contains("changed since"));
        assert_eq!(read(dir.path(), "a.html").as_deref(), Some("mine"));
    }

    #[test]
    fn the_last_steps_are_undone_one_after_the_other() {
        let dir = tempfile::tempdir().expect("a folder");
        let text = |at: usize| (at > 0).then(|| at.to_string().into_bytes());
        let all = MOST_STEPS + 3;
        for at in 0..all {
            let change = Change { path: "a.html".into(), old: text(at), new: text(at + 1) };
            adopt(dir.path(), &format!("step {at}"), &[change]).expect("adopted");
        }
        assert_eq!(
            undoable(dir.path()).expect("titles")[..2],
            [format!("step {}", all - 1), format!("step {}", all - 2)]
        );
        for at in (3..all).rev() {
            let undone = undo(dir.path()).expect("undone").expect("a step");
            assert_eq!((undone.title, undone.left), (format!("step {at}"), at - 3));
            assert_eq!(read(dir.path(), "a.html"), Some(at.to_string()));
        }
        assert_eq!(undo(dir.path()).expect("the older ones are forgotten"), None);
    }
}
