//! Version control, through the command line of `git`.

use std::fs;
use std::io::{BufRead, BufReader, Read, Write};
use std::path::{Component, Path, PathBuf};
use std::process::{Command, Stdio};

use super::DiskError;

/// A site as it was at a revision, written into a temporary folder that goes with this value.
#[derive(Debug)]
pub struct Revision {
    folder: PathBuf,
    _dir: tempfile::TempDir,
}

impl Revision {
    /// The folder with the site's files.
    pub fn folder(&self) -> &Path {
        &self.folder
    }
}

/// Whether version control knows a name as a revision of the site in `folder`.
pub fn is_revision(folder: &Path, name: &str) -> bool {
    let commit = format!("{name}^{{commit}}");
    !name.starts_with('-') && run(folder, &["rev-parse", "--verify", "--quiet", &commit]).is_ok()
}

/// The files of the site in `folder` as they were at a revision. Symbolic links are left out.
///
/// # Errors
/// If `git` is not to be had, does not know the revision, or the files cannot be written.
pub fn revision(folder: &Path, name: &str) -> Result<Revision, DiskError> {
    let prefix = String::from_utf8_lossy(&run(folder, &["rev-parse", "--show-prefix"])?).trim_end().to_owned();
    let tree = if prefix.is_empty() { format!("{name}^{{tree}}") } else { format!("{name}:{prefix}") };
    let listing = run(folder, &["ls-tree", "-r", "-z", &tree])?;
    let dir = tempfile::tempdir().map_err(DiskError::io(std::env::temp_dir()))?;
    // `mode type id<tab>path`; only files count.
    let is_file = |line: &&[u8]| line.starts_with(b"100");
    let entries: Vec<(String, String)> = listing
        .split(|&b| b == 0)
        .filter(is_file)
        .filter_map(|line| {
            let (head, path) = std::str::from_utf8(line).ok()?.split_once('\t')?;
            let safe = Path::new(path).components().all(|part| matches!(part, Component::Normal(_)));
            safe.then(|| Some((head.split(' ').nth(2)?.to_owned(), path.to_owned()))).flatten()
        })
        .collect();
    write_all(folder, dir.path(), &entries)?;
    Ok(Revision { folder: dir.path().to_owned(), _dir: dir })
}

/// Writes files by their ids into a folder.
fn write_all(folder: &Path, into: &Path, entries: &[(String, String)]) -> Result<(), DiskError> {
    let io = || DiskError::io(PathBuf::from("git cat-file"));
    let mut child = Command::new("git")
        .arg("-C")
        .arg(folder)
        .args(["cat-file", "--batch"])
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()
        .map_err(io())?;
    let (Some(mut input), Some(output)) = (child.stdin.take(), child.stdout.take()) else {
        return Err(DiskError::Refused("git does not respond".into()));
    };
    let asked: String = entries.iter().map(|(id, _)| format!("{id}\n")).collect();
    // Asked beside reading: neither side waits for the other.
    let asking = std::thread::spawn(move || input.write_all(asked.as_bytes()));
    let mut output = BufReader::new(output);
    for (_, path) in entries {
        let mut head = String::new();
        output.read_line(&mut head).map_err(io())?;
        let length: usize = head.trim_end().rsplit(' ').next().and_then(|length| length.parse().ok()).unwrap_or(0);
        let mut bytes = vec![0; length + 1];
        output.read_exact(&mut bytes).map_err(io())?;
        bytes.pop();
        let target = into.join(path);
        if let Some(parent) = target.parent() {
            fs::create_dir_all(parent).map_err(DiskError::io(parent))?;
        }
        fs::write(&target, bytes).map_err(DiskError::io(&target))?;
    }
    let _ = asking.join();
    let _ = child.wait();
    Ok(())
}

/// The output of `git` in a folder.
fn run(folder: &Path, arguments: &[&str]) -> Result<Vec<u8>, DiskError> {
    let output = Command::new("git").arg("-C").arg(folder).args(arguments).output();
    let output = output.map_err(|error| DiskError::Refused(format!("git is not available: {error}")))?;
    if !output.status.success() {
        let why = String::from_utf8_lossy(&output.stderr).trim().to_owned();
        return Err(DiskError::Refused(if why.is_empty() { "git refuses".into() } else { why }));
    }
    Ok(output.stdout)
}

/// Those of `paths` that version control could not give back: files with changes that are not committed, and files
/// that it does not know. Empty where the folder is under no version control, or `git` is not available.
pub fn uncommitted(folder: &Path, paths: &[&str]) -> Vec<String> {
    let Ok(listing) = run(folder, &["status", "--porcelain", "-z", "--untracked-files=all", "--", "."]) else {
        return Vec::new();
    };
    let prefix = run(folder, &["rev-parse", "--show-prefix"]).unwrap_or_default();
    let prefix = String::from_utf8_lossy(&prefix).trim_end().to_owned();
    let listing = String::from_utf8_lossy(&listing).into_owned();
    // Two letters of state, a space, the path from the top of the work tree.
    let mut changed: Vec<String> = listing
        .split('\0')
        .filter_map(|line| line.get(3..)?.strip_prefix(prefix.as_str()).map(str::to_owned))
        .filter(|path| paths.contains(&path.as_str()))
        .collect();
    changed.sort();
    changed
}
