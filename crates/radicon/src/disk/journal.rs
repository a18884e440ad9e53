//! Transactions on files: a crash at any point leaves the old tree or the new one.
//!
//! 1. The journal is written: what will change. From here on a crash rolls back.
//! 2. New contents are staged beside their targets and synced.
//! 3. The journal is replaced by one that says so. From here on a crash rolls forward.
//! 4. Staged files are renamed onto their targets, files to be removed are removed.
//! 5. The journal is removed.

use std::fs::{self, File};
use std::io::Write;
use std::path::{Component, Path, PathBuf};

use serde::{Deserialize, Serialize};
use xxhash_rust::xxh3::xxh3_128;

use super::{DiskError, STATE_FOLDER};
use crate::site::Change;

/// An interrupted run that was found and finished when a run began.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Recovery {
    /// Nothing was left over.
    Clean,
    /// An interrupted run had not begun to change files; its traces were removed.
    RolledBack,
    /// An interrupted run was finished.
    RolledForward,
}

#[derive(Serialize, Deserialize)]
struct Journal {
    staged: bool,
    /// The number of the step that is being undone.
    undoes: Option<usize>,
    entries: Vec<Entry>,
}

#[derive(Serialize, Deserialize)]
struct Entry {
    path: String,
    /// The staged file; none for a removal.
    stage: Option<String>,
}

const JOURNAL: &str = "journal.json";
const LOCK: &str = "lock";
/// The record needed to undo the last steps, a numbered folder each, and the step at work.
pub(super) const UNDO: &str = "undo";
pub(super) const PENDING: &str = "undo-pending";

/// So many steps can be undone: each keeps the old and the new content of its files.
pub(super) const MOST_STEPS: usize = 20;

/// The steps that can be undone, the oldest first, with their folders.
pub(super) fn steps(folder: &Path) -> Vec<(usize, PathBuf)> {
    let entries = fs::read_dir(folder.join(STATE_FOLDER).join(UNDO)).into_iter().flatten().flatten();
    let mut steps: Vec<(usize, PathBuf)> =
        entries.filter_map(|entry| Some((entry.file_name().to_str()?.parse().ok()?, entry.path()))).collect();
    steps.sort_unstable();
    steps
}

/// Holds the site against other runs while it lives.
#[derive(Debug)]
pub(super) struct Lock {
    _file: File,
}

impl Lock {
    /// Takes the site, creating its state folder.
    pub fn take(folder: &Path) -> Result<Self, DiskError> {
        let state = folder.join(STATE_FOLDER);
        fs::create_dir_all(&state).map_err(DiskError::io(&state))?;
        let ignore = state.join(".gitignore");
        if !ignore.exists() {
            fs::write(&ignore, "*\n").map_err(DiskError::io(&ignore))?;
        }
        let path = state.join(LOCK);
        let file = File::create(&path).map_err(DiskError::io(&path))?;
        match file.try_lock() {
            Ok(()) => Ok(Self { _file: file }),
            Err(fs::TryLockError::WouldBlock) => {
                Err(DiskError::Refused("another run is writing to this site; wait for it to end".into()))
            }
            Err(fs::TryLockError::Error(error)) => Err(DiskError::io(&path)(error)),
        }
    }
}

/// Finishes or rolls back what an interrupted run left behind.
///
/// # Errors
/// If files cannot be written, or another run is at work.
pub fn recover(folder: &Path) -> Result<Recovery, DiskError> {
    if !is_pending(folder) {
        return Ok(Recovery::Clean);
    }
    let _lock = Lock::take(folder)?;
    recover_locked(folder)
}

/// Whether a run waits to be finished or rolled back.
pub(super) fn is_pending(folder: &Path) -> bool {
    folder.join(STATE_FOLDER).join(JOURNAL).exists()
}

pub(super) fn recover_locked(folder: &Path) -> Result<Recovery, DiskError> {
    let path = folder.join(STATE_FOLDER).join(JOURNAL);
    let Ok(bytes) = fs::read(&path) else {
        return Ok(Recovery::Clean);
    };
    let journal: Journal = serde_json::from_slice(&bytes)
        .map_err(|error| DiskError::Refused(format!("{}: the journal cannot be read: {error}", path.display())))?;
    if journal.staged {
        finish(folder, &journal)?;
        return Ok(Recovery::RolledForward);
    }
    for stage in journal.entries.iter().filter_map(|entry| entry.stage.as_ref()) {
        remove_if_there(&folder.join(stage))?;
    }
    remove_if_there(&path)?;
    Ok(Recovery::RolledBack)
}

/// Makes the changes, all or none; they undo the step of a number, if one is given. The caller holds the lock.
pub(super) fn commit(folder: &Path, changes: &[Change], undoes: Option<usize>) -> Result<(), DiskError> {
    let root = folder.canonicalize().map_err(DiskError::io(folder))?;
    for change in changes {
        verify(&root, folder, change)?;
    }
    let mut created: Vec<String> =
        changes.iter().filter(|change| change.old.is_none()).map(|change| change.path.to_lowercase()).collect();
    created.sort();
    if let Some(twice) = created.windows(2).find(|pair| pair[0] == pair[1]) {
        let message = format!("{}: two new files differ only in letter case", twice[0]);
        return Err(DiskError::Refused(message));
    }
    let stage = |(index, change): (usize, &Change)| {
        let staged = change.new.as_ref().map(|_| {
            let (parent, name) =
                change.path.rsplit_once('/').map_or(("", change.path.as_str()), |(parent, name)| (parent, name));
            let short: String = name.chars().take(40).collect();
            let file = format!(".{short}.radicon-{index}");
            if parent.is_empty() { file } else { format!("{parent}/{file}") }
        });
        Entry { path: change.path.clone(), stage: staged }
    };
    let mut journal = Journal { staged: false, undoes, entries: changes.iter().enumerate().map(stage).collect() };
    write_journal(folder, &journal)?;
    let written = changes.iter().zip(&journal.entries).try_for_each(|(change, entry)| stage_one(folder, change, entry));
    if let Err(error) = written {
        recover_locked(folder)?;
        return Err(error);
    }
    journal.staged = true;
    write_journal(folder, &journal)?;
    finish(folder, &journal)
}

/// Refuses whatever would overwrite something that was not read, or leave the site.
fn verify(root: &Path, folder: &Path, change: &Change) -> Result<(), DiskError> {
    let refuse = |why: &str| Err(DiskError::Refused(format!("{}: {why}; nothing was written", change.path)));
    let relative = Path::new(&change.path);
    if relative.components().any(|part| !matches!(part, Component::Normal(_))) {
        return refuse("the path is outside the site");
    }
    let path = folder.join(relative);
    let existing = path.ancestors().skip(1).find(|parent| parent.exists()).map(Path::to_owned).unwrap_or_default();
    if !existing.canonicalize().map_err(DiskError::io(&existing))?.starts_with(root) {
        return refuse("a link leads outside the site");
    }
    let there = fs::symlink_metadata(&path).ok();
    match (&change.old, there) {
        (_, Some(meta)) if meta.file_type().is_symlink() => refuse("is a symbolic link"),
        (None, None) => match twin(&path) {
            Some(twin) => refuse(&format!("differs from {twin} only in letter case")),
            None => Ok(()),
        },
        (None, Some(_)) => refuse("exists already"),
        (Some(_), None) => refuse("is gone"),
        (Some(old), Some(meta)) => {
            let now = fs::read(&path).map_err(DiskError::io(&path))?;
            if xxh3_128(&now) != xxh3_128(old) || now.len() != old.len() {
                return refuse("changed since it was read");
            }
            if meta.permissions().readonly() { refuse("is read-only") } else { Ok(()) }
        }
    }
}

/// The name of a file beside a path that differs from it in letter case only.
fn twin(path: &Path) -> Option<String> {
    let wanted = path.file_name()?.to_string_lossy().to_lowercase();
    let beside = fs::read_dir(path.parent()?).ok()?;
    let names = beside.filter_map(|entry| Some(entry.ok()?.file_name().to_string_lossy().into_owned()));
    names.filter(|name| name.to_lowercase() == wanted).min()
}

fn stage_one(folder: &Path, change: &Change, entry: &Entry) -> Result<(), DiskError> {
    let (Some(stage), Some(new)) = (&entry.stage, &change.new) else {
        return Ok(());
    };
    let path = folder.join(stage);
    if let Some(parent) = path.parent() {
        fs::create_dir_all(parent).map_err(DiskError::io(parent))?;
    }
    write_synced(&path, new)?;
    if let Ok(meta) = fs::metadata(folder.join(&change.path)) {
        fs::set_permissions(&path, meta.permissions()).map_err(DiskError::io(&path))?;
    }
    Ok(())
}

/// Renames what is staged; every step may have been done already.
fn finish(folder: &Path, journal: &Journal) -> Result<(), DiskError> {
    for entry in &journal.entries {
        let target = folder.join(&entry.path);
        match &entry.stage {
            Some(stage) => {
                let staged = folder.join(stage);
                if staged.exists() {
                    fs::rename(&staged, &target).map_err(DiskError::io(&target))?;
                }
            }
            None => remove_if_there(&target)?,
        }
        sync_folder(target.parent());
    }
    let state = folder.join(STATE_FOLDER);
    let undo = state.join(UNDO);
    match journal.undoes {
        Some(number) => clear(&undo.join(number.to_string()))?,
        None if state.join(PENDING).exists() => {
            let steps = steps(folder);
            let next = undo.join(steps.last().map_or(1, |(number, _)| number + 1).to_string());
            fs::create_dir_all(&undo).map_err(DiskError::io(&undo))?;
            fs::rename(state.join(PENDING), &next).map_err(DiskError::io(&next))?;
            let forgotten = (steps.len() + 1).saturating_sub(MOST_STEPS);
            steps.iter().take(forgotten).try_for_each(|(_, step)| clear(step))?;
        }
        None => {}
    }
    remove_if_there(&state.join(JOURNAL))
}

/// Removes a folder, if it is there.
pub(super) fn clear(folder: &Path) -> Result<(), DiskError> {
    match fs::remove_dir_all(folder) {
        Err(error) if error.kind() != std::io::ErrorKind::NotFound => Err(DiskError::io(folder)(error)),
        _ => Ok(()),
    }
}

fn write_journal(folder: &Path, journal: &Journal) -> Result<(), DiskError> {
    let path = folder.join(STATE_FOLDER).join(JOURNAL);
    let bytes = serde_json::to_vec(journal).map_err(|error| DiskError::Refused(error.to_string()))?;
    replace(&path, &bytes)
}

/// Writes a file so that it is there whole or not at all.
fn replace(path: &Path, bytes: &[u8]) -> Result<(), DiskError> {
    let staged = path.with_extension("new");
    write_synced(&staged, bytes)?;
    fs::rename(&staged, path).map_err(DiskError::io(path))?;
    sync_folder(path.parent());
    Ok(())
}

pub(super) fn write_synced(path: &Path, bytes: &[u8]) -> Result<(), DiskError> {
    let mut file = File::create(path).map_err(DiskError::io(path))?;
    file.write_all(bytes).and_then(|()| file.sync_all()).map_err(DiskError::io(path))
}

/// Syncs a folder where the system can; a failure only weakens the guarantee
/// against a power cut.
fn sync_folder(folder: Option<&Path>) {
    if let Some(file) = folder.and_then(|folder| File::open(folder).ok()) {
        let _ = file.sync_all();
    }
}

fn remove_if_there(path: &Path) -> Result<(), DiskError> {
    match fs::remove_file(path) {
        Err(error) if error.kind() != std::io::ErrorKind::NotFound => Err(DiskError::io(PathBuf::from(path))(error)),
        _ => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn site() -> tempfile::TempDir {
        let dir = tempfile::tempdir().expect("a folder");
        fs::write(dir.path().join("a.html"), "old").expect("a file");
        dir
    }

    fn change(path: &str, old: Option<&str>, new: Option<&str>) -> Change {
        Change { path: path.into(), old: old.map(Into::into), new: new.map(Into::into) }
    }

    #[test]
    fn a_run_cut_off_before_staging_is_rolled_back_and_after_it_finished() {
        for (staged, expected, found) in [(false, "old", Recovery::RolledBack), (true, "new", Recovery::RolledForward)]
        {
            let dir = site();
            let _ = Lock::take(dir.path()).expect("the lock");
            let entries = vec![Entry { path: "a.html".into(), stage: Some(".a.html.radicon-0".into()) }];
            fs::write(dir.path().join(".a.html.radicon-0"), "new").expect("a staged file");
            write_journal(dir.path(), &Journal { staged, undoes: None, entries }).expect("a journal");
            assert_eq!(recover(dir.path()).expect("a recovery"), found);
            assert_eq!(fs::read_to_string(dir.path().join("a.html")).expect("a file"), expected);
            assert!(!dir.path().join(".a.html.radicon-0").exists());
            assert_eq!(recover(dir.path()).expect("nothing to do"), Recovery::Clean);
        }
    }

    #[test]
    fn what_was_not_read_is_not_overwritten() {
        let dir = site();
        let _lock = Lock::take(dir.path()).expect("the lock");
        for (change, words) in [
            (change("a.html", Some("other"), Some("new")), "changed since"),
            (change("a.html", None, Some("new")), "exists already"),
            (change("b.html", Some("x"), Some("new")), "is gone"),
            (change("../b.html", None, Some("new")), "outside the site"),
            (change("A.html", None, Some("new")), "differs from a.html only in letter case"),
        ] {
            let error = commit(dir.path(), &[change], None).expect_err("a refusal").to_string();
            assert!(error.contains(words), "{error}");
        }
        assert_eq!(fs::read_to_string(dir.path().join("a.html")).expect("a file"), "old");
    }

    #[cfg(unix)]
    #[test]
    fn links_that_lead_out_are_not_followed() {
        let (dir, other) = (site(), tempfile::tempdir().expect("a folder"));
        std::os::unix::fs::symlink(other.path(), dir.path().join("out")).expect("a link");
        let _lock = Lock::take(dir.path()).expect("the lock");
        let error = commit(dir.path(), &[change("out/x.html", None, Some("new"))], None).expect_err("a refusal");
        assert!(error.to_string().contains("a link leads out"), "{error}");
    }

    #[test]
    fn two_runs_do_not_write_at_once() {
        let dir = site();
        let _lock = Lock::take(dir.path()).expect("the lock");
        assert!(Lock::take(dir.path()).expect_err("a refusal").to_string().contains("another run"));
    }
}
