//! Transactions on files: a crash at any point leaves the old tree or the new one, and no edit of somebody else is
//! ever lost.
//!
//! 1. The journal is written: what will change, by hashes. From here on a crash rolls back.
//! 2. New contents are staged beside their targets, in files that were not there, and synced.
//! 3. The journal says that all is staged. From here on a crash rolls forward.
//! 4. Each staged file changes places with its target, in one step. What was there is looked at afterwards: if it is
//!    not what was read, it goes back, and so do the others.
//! 5. What was there goes, and so does the journal.
//!
//! At each start a journal that was left is followed only where every file is what it says.

use std::fs::{self, File};
use std::hash::{BuildHasher, RandomState};
use std::io::{ErrorKind, Write};
use std::path::{Component, Path, PathBuf};

use serde::{Deserialize, Serialize};
use xxhash_rust::xxh3::xxh3_128;

use super::{DiskError, State};
use crate::site::Change;

/// An interrupted run that was found and finished when a run began.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Recovery {
    /// Nothing was left over.
    Clean,
    /// An interrupted run was taken back: every file is as it was before.
    RolledBack,
    /// An interrupted run was finished.
    RolledForward,
}

#[derive(Serialize, Deserialize)]
struct Journal {
    phase: Phase,
    /// The number of the step that is being undone.
    undoes: Option<usize>,
    entries: Vec<Entry>,
    /// The folders that are made, the outermost first.
    made: Vec<String>,
    /// The folders that go at the end if they are empty, the innermost first.
    unmade: Vec<String>,
}

#[derive(Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
enum Phase {
    Staging,
    Staged,
    RollingBack,
}

/// A file that changes.
#[derive(Serialize, Deserialize)]
struct Entry {
    path: String,
    /// The file beside it where its new content waits, and its old content afterwards.
    stage: String,
    /// The hash of the content before; none if the file is new.
    old: Option<String>,
    /// The hash of the content after; none if the file goes.
    new: Option<String>,
}

/// How far a file is.
#[derive(Clone, Copy, PartialEq, Eq)]
enum At {
    Before,
    After,
    /// Somebody else changed it.
    Elsewhere,
}

/// What is to be written at once.
pub(super) struct Transaction<'c> {
    pub changes: &'c [Change],
    /// The permissions of files that are new, by the number of the change.
    pub modes: Vec<Option<u32>>,
    /// The number of the step that this undoes, and the folders that it made.
    pub undoes: Option<(usize, Vec<String>)>,
}

const JOURNAL: &str = "journal.json";
/// The record needed to undo the last steps, a numbered folder each, and the step at work.
pub(super) const UNDO: &str = "undo";
pub(super) const PENDING: &str = "undo-pending";
const ABANDONED: &str = "abandoned";

/// So many steps can be undone: each keeps the old and the new content of its files.
pub(super) const MOST_STEPS: usize = 20;

/// The steps that can be undone, the oldest first, with their folders.
pub(super) fn steps(state: &State) -> Vec<(usize, PathBuf)> {
    let entries = fs::read_dir(state.path(UNDO)).into_iter().flatten().flatten();
    let mut steps: Vec<(usize, PathBuf)> =
        entries.filter_map(|entry| Some((entry.file_name().to_str()?.parse().ok()?, entry.path()))).collect();
    steps.sort_unstable();
    steps
}

/// Finishes or rolls back what an interrupted run left behind.
///
/// # Errors
/// If files cannot be written, another run is at work, or somebody has edited a file since; then both versions of it
/// are kept.
pub fn recover(state: &State) -> Result<Recovery, DiskError> {
    if !is_pending(state) {
        return Ok(Recovery::Clean);
    }
    let _lock = state.lock()?;
    recover_locked(state)
}

/// Whether a run waits to be finished or rolled back.
pub(super) fn is_pending(state: &State) -> bool {
    state.path(JOURNAL).exists()
}

pub(super) fn recover_locked(state: &State) -> Result<Recovery, DiskError> {
    let Some(mut journal) = read_journal(state)? else { return Ok(Recovery::Clean) };
    journal.entries.iter().for_each(|entry| entry.end_exchange(&state.site));
    match journal.phase {
        Phase::Staging => discard(state, &journal).map(|()| Recovery::RolledBack),
        Phase::RollingBack => roll_back(state, &mut journal).map(|()| Recovery::RolledBack),
        Phase::Staged => {
            let edited = |entry: &&Entry| entry.at(&state.site) == At::Elsewhere;
            let edited: Vec<&Entry> = journal.entries.iter().filter(edited).collect();
            if !edited.is_empty() {
                return Err(both_kept("an interrupted run cannot be finished", &edited));
            }
            finish(state, &mut journal).map(|()| Recovery::RolledForward)
        }
    }
}

/// Gives up an interrupted run: every file of the site stays as it is. Gives the folder in which the contents before
/// the run (`old-N`) and those that it wrote (`new-N`) are kept; `None` if no run was interrupted.
///
/// # Errors
/// If its traces cannot be removed, or another run is at work.
pub fn abandon(state: &State) -> Result<Option<PathBuf>, DiskError> {
    let _lock = state.lock()?;
    let Some(journal) = read_journal(state)? else { return Ok(None) };
    let (pending, kept) = (state.path(PENDING), state.path(ABANDONED));
    clear(&kept)?;
    let step = journal.undoes.map(|number| state.path(UNDO).join(number.to_string()));
    let contents = step.unwrap_or(pending);
    if contents.exists() {
        fs::rename(&contents, &kept).map_err(DiskError::io(&kept))?;
    }
    for entry in &journal.entries {
        remove_if_there(&state.site.join(&entry.stage))?;
    }
    remove_if_there(&state.path(JOURNAL))?;
    Ok(Some(kept))
}

/// Makes the changes, all or none. The caller holds the lock.
pub(super) fn commit(state: &State, transaction: &Transaction<'_>) -> Result<(), DiskError> {
    let Transaction { changes, modes, undoes } = transaction;
    for change in *changes {
        verify(&state.site, change)?;
    }
    let mut created: Vec<String> =
        changes.iter().filter(|change| change.old.is_none()).map(|change| change.path.to_lowercase()).collect();
    created.sort();
    if let Some(twice) = created.windows(2).find(|pair| pair[0] == pair[1]) {
        let message = format!("{}: two new files differ only in letter case", twice[0]);
        return Err(DiskError::Refused(message));
    }
    let mut journal = Journal {
        phase: Phase::Staging,
        undoes: undoes.as_ref().map(|(number, _)| *number),
        entries: changes.iter().enumerate().map(|(number, change)| Entry::of(number, change)).collect(),
        made: missing_folders(&state.site, changes),
        unmade: undoes.iter().flat_map(|(_, made)| made.iter().rev().cloned()).collect(),
    };
    let mut staged = 0;
    let done = write_journal(state, &journal)
        .and_then(|()| stage_all(&state.site, changes, modes, &journal, &mut staged))
        .and_then(|()| {
            journal.phase = Phase::Staged;
            write_journal(state, &journal)
        });
    if let Err(error) = done {
        // What was in the way of the next one is not ours.
        journal.entries.truncate(staged);
        discard(state, &journal)?;
        return Err(error);
    }
    finish(state, &mut journal)
}

/// Removes what was staged, and the journal.
fn discard(state: &State, journal: &Journal) -> Result<(), DiskError> {
    for entry in &journal.entries {
        remove_if_there(&state.site.join(&entry.stage))?;
    }
    remove_empty(&state.site, journal.made.iter().rev());
    remove_if_there(&state.path(JOURNAL).with_extension("new"))?;
    remove_if_there(&state.path(JOURNAL))
}

impl Entry {
    fn of(number: usize, change: &Change) -> Self {
        let (parent, name) = match change.path.rsplit_once('/') {
            Some((parent, name)) => (format!("{parent}/"), name),
            None => (String::new(), change.path.as_str()),
        };
        let short: String = name.chars().take(40).collect();
        // Nobody can have put something there.
        let random = RandomState::new().hash_one(number);
        let stage = format!("{parent}.{short}.radicon-{random:016x}");
        let hash = |bytes: &Option<Vec<u8>>| bytes.as_deref().map(hash);
        Self { path: change.path.clone(), stage, old: hash(&change.old), new: hash(&change.new) }
    }

    /// How far the file is, by what is there.
    fn at(&self, site: &Path) -> At {
        let there = hash_of(&site.join(&self.path));
        let staged = || hash_of(&site.join(&self.stage));
        match (&self.old, &self.new) {
            (_, Some(new)) if there.as_ref() == Some(new) => At::After,
            (Some(_), None) if there.is_none() => At::After,
            (None, Some(new)) if there.is_none() && staged().as_ref() == Some(new) => At::Before,
            (Some(old), _) if there.as_ref() == Some(old) => At::Before,
            _ => At::Elsewhere,
        }
    }

    /// Changes the file, if it is what it was; else leaves it as it is.
    fn apply(&self, site: &Path) -> Result<At, DiskError> {
        let (target, stage) = (site.join(&self.path), site.join(&self.stage));
        let done = match (&self.old, &self.new) {
            (Some(_), Some(_)) => exchange(&stage, &target),
            (None, _) => move_to_free(&stage, &target),
            (Some(_), None) => move_to_free(&target, &stage),
        };
        match done {
            Err(error) if matches!(error.kind(), ErrorKind::AlreadyExists | ErrorKind::NotFound) => Ok(At::Elsewhere),
            Err(error) => Err(DiskError::io(&target)(error)),
            // Perhaps it was edited since it was looked at.
            Ok(()) if self.old.is_some() && hash_of(&stage) != self.old => {
                self.revert(site)?;
                Ok(At::Elsewhere)
            }
            Ok(()) => Ok(At::After),
        }
    }

    /// Goes back to the start of an exchange in two steps that was cut off between them.
    fn end_exchange(&self, site: &Path) {
        let (target, aside) = (site.join(&self.path), aside(&site.join(&self.stage)));
        if hash_of(&target).is_none() && self.old.is_some() && hash_of(&aside) == self.old {
            let _ = move_to_free(&aside, &target);
        }
    }

    /// Puts back what was there.
    fn revert(&self, site: &Path) -> Result<(), DiskError> {
        let (target, stage) = (site.join(&self.path), site.join(&self.stage));
        let done = match (&self.old, &self.new) {
            (Some(_), Some(_)) => exchange(&stage, &target),
            (None, _) => move_to_free(&target, &stage),
            (Some(_), None) => move_to_free(&stage, &target),
        };
        done.map_err(DiskError::io(&target))
    }
}

/// Changes what has not been changed yet, and makes an end.
fn finish(state: &State, journal: &mut Journal) -> Result<(), DiskError> {
    for number in 0..journal.entries.len() {
        let entry = &journal.entries[number];
        let done = match entry.at(&state.site) {
            At::Before => entry.apply(&state.site),
            at => Ok(at),
        };
        let failed = match done {
            Ok(At::After) => {
                sync_folder(state.site.join(&entry.path).parent());
                continue;
            }
            Ok(_) => DiskError::Refused(format!("{}: changed since it was read; nothing was written", entry.path)),
            Err(error) => error,
        };
        roll_back(state, journal)?;
        return Err(failed);
    }
    for entry in journal.entries.iter().filter(|entry| entry.old.is_some()) {
        let stage = state.site.join(&entry.stage);
        // What somebody writes into an open file arrives late.
        if hash_of(&stage).is_some_and(|there| Some(&there) != entry.old.as_ref()) {
            return Err(both_kept("a file was edited while it was written", &[entry]));
        }
        remove_if_there(&stage)?;
    }
    remove_empty(&state.site, journal.unmade.iter());
    let undo = state.path(UNDO);
    match journal.undoes {
        Some(number) => clear(&undo.join(number.to_string()))?,
        None if state.path(PENDING).exists() => {
            let steps = steps(state);
            let next = undo.join(steps.last().map_or(1, |(number, _)| number + 1).to_string());
            fs::create_dir_all(&undo).map_err(DiskError::io(&undo))?;
            fs::rename(state.path(PENDING), &next).map_err(DiskError::io(&next))?;
            let forgotten = (steps.len() + 1).saturating_sub(MOST_STEPS);
            steps.iter().take(forgotten).try_for_each(|(_, step)| clear(step))?;
        }
        None => {}
    }
    remove_if_there(&state.path(JOURNAL))
}

/// Takes back what was changed. Files that somebody has edited since stay as they are.
fn roll_back(state: &State, journal: &mut Journal) -> Result<(), DiskError> {
    journal.phase = Phase::RollingBack;
    write_journal(state, journal)?;
    let mut edited = Vec::new();
    for entry in &journal.entries {
        let holds = |hash: &Option<String>| hash.is_some() && hash_of(&state.site.join(&entry.stage)) == *hash;
        match entry.at(&state.site) {
            At::After if entry.old.is_none() || holds(&entry.old) => entry.revert(&state.site)?,
            // The old content is beside it.
            At::Elsewhere if holds(&entry.old) => edited.push(entry),
            _ => {}
        }
    }
    if !edited.is_empty() {
        return Err(both_kept("a run cannot be undone", &edited));
    }
    discard(state, journal)
}

fn both_kept(what: &str, edited: &[&Entry]) -> DiskError {
    let files: Vec<String> =
        edited.iter().map(|entry| format!("{} (the other version: {})", entry.path, entry.stage)).collect();
    DiskError::Refused(format!(
        "{what}, since somebody has edited {}; both versions are kept. `radicon undo --abandon` abandons the run and \
         leaves every file as it is",
        files.join(", ")
    ))
}

/// Refuses whatever would overwrite something that was not read, or leave the site.
fn verify(site: &Path, change: &Change) -> Result<(), DiskError> {
    let refuse = |why: &str| Err(DiskError::Refused(format!("{}: {why}; nothing was written", change.path)));
    let relative = Path::new(&change.path);
    if relative.components().any(|part| !matches!(part, Component::Normal(_))) {
        return refuse("the path is outside the site");
    }
    let path = site.join(relative);
    let is_link = |path: &Path| fs::symlink_metadata(path).is_ok_and(|meta| meta.file_type().is_symlink());
    if is_link(&path) {
        return refuse("is a symbolic link");
    }
    if path.ancestors().skip(1).take_while(|parent| *parent != site).any(is_link) {
        return refuse("a symbolic link leads there");
    }
    match (&change.old, fs::symlink_metadata(&path).ok()) {
        (None, None) => match twin(&path) {
            Some(twin) => refuse(&format!("differs from {twin} only in letter case")),
            None => Ok(()),
        },
        (None, Some(_)) => refuse("exists already"),
        (Some(_), None) => refuse("is gone"),
        (Some(old), Some(meta)) => {
            if hash_of(&path) != Some(hash(old)) {
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

/// The folders of new files that are not there, the outermost first.
pub(super) fn missing_folders(site: &Path, changes: &[Change]) -> Vec<String> {
    let mut found: Vec<String> = Vec::new();
    for change in changes.iter().filter(|change| change.new.is_some()) {
        let parents = Path::new(&change.path).ancestors().skip(1).filter(|parent| !parent.as_os_str().is_empty());
        let missing = parents.take_while(|parent| !site.join(parent).exists());
        found.extend(missing.map(|parent| parent.to_string_lossy().into_owned()));
    }
    found.sort();
    found.dedup();
    found
}

/// Stages the new contents, and counts the files that are its own.
fn stage_all(
    site: &Path,
    changes: &[Change],
    modes: &[Option<u32>],
    journal: &Journal,
    staged: &mut usize,
) -> Result<(), DiskError> {
    for made in &journal.made {
        let folder = site.join(made);
        fs::create_dir(&folder).map_err(DiskError::io(&folder))?;
    }
    for (number, (change, entry)) in changes.iter().zip(&journal.entries).enumerate() {
        let stage = site.join(&entry.stage);
        let Some(new) = &change.new else {
            *staged += 1;
            continue;
        };
        // Made anew: a link or file of this name is not written through.
        let mut file = File::create_new(&stage).map_err(DiskError::io(&stage))?;
        *staged += 1;
        file.write_all(new).map_err(DiskError::io(&stage))?;
        if let Ok(meta) = fs::metadata(site.join(&change.path)) {
            file.set_permissions(meta.permissions()).map_err(DiskError::io(&stage))?;
        } else if let Some(mode) = modes.get(number).copied().flatten() {
            set_mode(&file, mode).map_err(DiskError::io(&stage))?;
        }
        file.sync_all().map_err(DiskError::io(&stage))?;
    }
    Ok(())
}

#[cfg(unix)]
fn set_mode(file: &File, mode: u32) -> std::io::Result<()> {
    file.set_permissions(std::os::unix::fs::PermissionsExt::from_mode(mode))
}

#[cfg(not(unix))]
fn set_mode(_: &File, _: u32) -> std::io::Result<()> {
    Ok(())
}

/// The permissions of a file, where the system has such.
pub(super) fn mode_of(path: &Path) -> Option<u32> {
    #[cfg(unix)]
    {
        let meta = fs::symlink_metadata(path).ok()?;
        Some(std::os::unix::fs::PermissionsExt::mode(&meta.permissions()) & 0o7777)
    }
    #[cfg(not(unix))]
    {
        let _ = path;
        None
    }
}

fn hash(bytes: &[u8]) -> String {
    format!("{:032x}-{}", xxh3_128(bytes), bytes.len())
}

/// The hash of a file; `None` if there is none. What is no plain file has one that no content has.
fn hash_of(path: &Path) -> Option<String> {
    let meta = fs::symlink_metadata(path).ok()?;
    let read = if meta.is_file() { fs::read(path).ok() } else { None };
    Some(read.map_or_else(|| "unreadable".to_owned(), |bytes| hash(&bytes)))
}

/// Lets two files change places in one step, where the system can; else in two.
fn exchange(stage: &Path, target: &Path) -> std::io::Result<()> {
    #[cfg(any(target_os = "linux", target_os = "android", target_vendor = "apple"))]
    {
        use rustix::fs::{CWD, RenameFlags, renameat_with};
        match renameat_with(CWD, stage, CWD, target, RenameFlags::EXCHANGE) {
            Err(rustix::io::Errno::INVAL | rustix::io::Errno::NOSYS | rustix::io::Errno::NOTSUP) => {}
            done => return done.map_err(Into::into),
        }
    }
    let aside = aside(stage);
    move_to_free(target, &aside)?;
    move_to_free(stage, target)?;
    move_to_free(&aside, stage)
}

/// Where the old content is for a moment.
fn aside(stage: &Path) -> PathBuf {
    stage.with_extension("old")
}

/// Moves a file to where none is.
fn move_to_free(from: &Path, to: &Path) -> std::io::Result<()> {
    #[cfg(any(target_os = "linux", target_os = "android", target_vendor = "apple"))]
    {
        use rustix::fs::{CWD, RenameFlags, renameat_with};
        match renameat_with(CWD, from, CWD, to, RenameFlags::NOREPLACE) {
            Err(rustix::io::Errno::INVAL | rustix::io::Errno::NOSYS | rustix::io::Errno::NOTSUP) => {}
            done => return done.map_err(Into::into),
        }
    }
    if fs::symlink_metadata(to).is_ok() {
        return Err(ErrorKind::AlreadyExists.into());
    }
    fs::rename(from, to)
}

/// Removes a folder, if it is there.
pub(super) fn clear(folder: &Path) -> Result<(), DiskError> {
    match fs::remove_dir_all(folder) {
        Err(error) if error.kind() != ErrorKind::NotFound => Err(DiskError::io(folder)(error)),
        _ => Ok(()),
    }
}

/// Removes those folders of a site that are empty.
fn remove_empty<'f>(site: &Path, folders: impl Iterator<Item = &'f String>) {
    // Fails, as it should, where a folder holds something.
    folders.for_each(|folder| drop(fs::remove_dir(site.join(folder))));
}

fn read_journal(state: &State) -> Result<Option<Journal>, DiskError> {
    let path = state.path(JOURNAL);
    let bytes = match fs::read(&path) {
        Ok(bytes) => bytes,
        Err(error) if error.kind() == ErrorKind::NotFound => return Ok(None),
        Err(error) => return Err(DiskError::io(path)(error)),
    };
    let read = serde_json::from_slice(&bytes);
    read.map_err(|error| DiskError::Refused(format!("{}: the journal cannot be read: {error}", path.display())))
}

/// Writes the journal so that it is there whole or not at all.
fn write_journal(state: &State, journal: &Journal) -> Result<(), DiskError> {
    let path = state.path(JOURNAL);
    let staged = path.with_extension("new");
    let bytes = serde_json::to_vec(journal).map_err(|error| DiskError::Refused(error.to_string()))?;
    write_synced(&staged, &bytes)?;
    fs::rename(&staged, &path).map_err(DiskError::io(&path))?;
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
        Err(error) if error.kind() != ErrorKind::NotFound => Err(DiskError::io(PathBuf::from(path))(error)),
        _ => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use tempfile::TempDir;

    /// A site of one file, and a folder for its state.
    fn site() -> (TempDir, State) {
        let dir = tempfile::tempdir().expect("a folder");
        let site = dir.path().join("site");
        fs::create_dir(&site).expect("a folder");
        fs::write(site.join("a.html"), "old").expect("a file");
        let state = State::beneath(&site, &dir.path().join("state")).expect("a site");
        (dir, state)
    }

    fn change(path: &str, old: Option<&str>, new: Option<&str>) -> Change {
        Change { path: path.into(), old: old.map(Into::into), new: new.map(Into::into) }
    }

    fn commit_all(state: &State, changes: &[Change]) -> Result<(), DiskError> {
        let _lock = state.lock().expect("the lock");
        commit(state, &Transaction { changes, modes: Vec::new(), undoes: None })
    }

    /// A run that was cut off: the journal is written, and the new content is staged.
    fn interrupted(state: &State, phase: Phase) -> String {
        let _lock = state.lock().expect("the lock");
        let entry = Entry::of(0, &change("a.html", Some("old"), Some("new")));
        let stage = entry.stage.clone();
        fs::write(state.site.join(&stage), "new").expect("a staged file");
        let journal = Journal { phase, undoes: None, entries: vec![entry], made: Vec::new(), unmade: Vec::new() };
        write_journal(state, &journal).expect("a journal");
        stage
    }

    fn read(state: &State, path: &str) -> Option<String> {
        fs::read_to_string(state.site.join(path)).ok()
    }

    #[test]
    fn a_run_cut_off_before_staging_is_rolled_back_and_after_it_finished() {
        for (phase, expected, found) in
            [(Phase::Staging, "old", Recovery::RolledBack), (Phase::Staged, "new", Recovery::RolledForward)]
        {
            let (_dir, state) = site();
            let stage = interrupted(&state, phase);
            assert_eq!(recover(&state).expect("a recovery"), found);
            assert_eq!(read(&state, "a.html").as_deref(), Some(expected));
            assert_eq!(read(&state, &stage), None);
            assert_eq!(recover(&state).expect("nothing to do"), Recovery::Clean);
        }
    }

    #[test]
    fn what_was_edited_since_a_crash_is_kept() {
        let (_dir, state) = site();
        let stage = interrupted(&state, Phase::Staged);
        fs::write(state.site.join("a.html"), "mine").expect("an edit");
        for _ in 0..2 {
            let error = recover(&state).expect_err("a refusal").to_string();
            assert!(error.contains("a.html") && error.contains(&stage) && error.contains("--abandon"), "{error}");
            assert_eq!(
                (read(&state, "a.html").as_deref(), read(&state, &stage).as_deref()),
                (Some("mine"), Some("new"))
            );
        }
        abandon(&state).expect("given up").expect("a run");
        assert_eq!((read(&state, "a.html").as_deref(), read(&state, &stage)), (Some("mine"), None));
        assert_eq!(recover(&state).expect("nothing to do"), Recovery::Clean);
    }

    #[test]
    fn what_was_not_read_is_not_overwritten() {
        let (_dir, state) = site();
        for (change, words) in [
            (change("a.html", Some("other"), Some("new")), "changed since"),
            (change("a.html", None, Some("new")), "exists already"),
            (change("b.html", Some("x"), Some("new")), "is gone"),
            (change("../b.html", None, Some("new")), "outside the site"),
            (change("A.html", None, Some("new")), "differs from a.html only in letter case"),
        ] {
            let error = commit_all(&state, &[change]).expect_err("a refusal").to_string();
            assert!(error.contains(words), "{error}");
        }
        assert_eq!(read(&state, "a.html").as_deref(), Some("old"));
    }

    #[test]
    fn what_is_edited_at_the_last_moment_goes_back() {
        let (_dir, state) = site();
        fs::write(state.site.join("b.html"), "old").expect("a file");
        let entries = [change("b.html", Some("old"), Some("new")), change("a.html", Some("old"), Some("new"))];
        let journal = |phase| Journal {
            phase,
            undoes: None,
            entries: entries.iter().enumerate().map(|(number, change)| Entry::of(number, change)).collect(),
            made: Vec::new(),
            unmade: Vec::new(),
        };
        let _lock = state.lock().expect("the lock");
        let mut journal = journal(Phase::Staged);
        stage_all(&state.site, &entries, &[], &journal, &mut 0).expect("staged");
        // As if it was edited between the look and the exchange.
        fs::write(state.site.join("a.html"), "mine").expect("an edit");
        assert!(journal.entries[1].apply(&state.site).expect("an answer") == At::Elsewhere);
        assert_eq!(read(&state, "a.html").as_deref(), Some("mine"));
        assert!(finish(&state, &mut journal).expect_err("a refusal").to_string().contains("changed since"));
        assert_eq!((read(&state, "a.html").as_deref(), read(&state, "b.html").as_deref()), (Some("mine"), Some("old")));
        assert_eq!(fs::read_dir(&state.site).expect("a folder").count(), 2, "nothing is left");
        assert!(!is_pending(&state));
    }

    #[cfg(unix)]
    #[test]
    fn links_are_not_followed() {
        use std::os::unix::fs::symlink;
        let (_dir, state) = site();
        fs::create_dir(state.site.join("in")).expect("a folder");
        symlink("in", state.site.join("out")).expect("a link");
        symlink("a.html", state.site.join("b.html")).expect("a link");
        let error = commit_all(&state, &[change("out/x.html", None, Some("new"))]).expect_err("a refusal");
        assert!(error.to_string().contains("a symbolic link leads there"), "{error}");
        let error = commit_all(&state, &[change("b.html", Some("old"), Some("new"))]).expect_err("a refusal");
        assert!(error.to_string().contains("is a symbolic link"), "{error}");
        // A link where a file would be staged.
        let changes = [change("a.html", Some("old"), Some("new"))];
        let entries = vec![Entry::of(0, &changes[0])];
        symlink("in/elsewhere", state.site.join(&entries[0].stage)).expect("a link");
        let journal = Journal { phase: Phase::Staging, undoes: None, entries, made: Vec::new(), unmade: Vec::new() };
        let mut staged = 0;
        stage_all(&state.site, &changes, &[], &journal, &mut staged).expect_err("a refusal");
        assert_eq!((staged, read(&state, "in/elsewhere")), (0, None));
    }

    #[test]
    fn two_runs_do_not_write_at_once() {
        let (_dir, state) = site();
        let _lock = state.lock().expect("the lock");
        assert!(state.lock().expect_err("a refusal").to_string().contains("another run"));
    }
}
