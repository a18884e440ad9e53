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
    run(folder, &["rev-parse", "--verify", "--quiet", "--end-of-options", &commit]).is_ok()
}

/// The files of the site in `folder` as they were at a revision. Symbolic links are left out.
///
/// # Errors
/// If `git` is not to be had, does not know the revision, or the files cannot be written.
pub fn revision(folder: &Path, name: &str) -> Result<Revision, DiskError> {
    let tree = format!("{name}^{{tree}}:{}", prefix(folder)?);
    let tree = tree.strip_suffix(':').unwrap_or(&tree);
    let listing = run(folder, &["ls-tree", "-r", "-z", "--full-tree", "--end-of-options", tree])?;
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
    let ids: Vec<&str> = entries.iter().map(|(id, _)| id.as_str()).collect();
    objects(folder, &ids, |at, bytes| {
        let target = dir.path().join(&entries[at].1);
        if let Some(parent) = target.parent() {
            fs::create_dir_all(parent).map_err(DiskError::io(parent))?;
        }
        fs::write(&target, bytes.unwrap_or_default()).map_err(DiskError::io(&target))
    })?;
    Ok(Revision { folder: dir.path().to_owned(), _dir: dir })
}

/// Those of `paths` that version control could not give back as they are: files that the last commit has otherwise, or
/// not at all, and all that it cannot tell of. Empty where the folder is under no version control.
pub fn uncommitted(folder: &Path, paths: &[&str]) -> Vec<String> {
    let Ok(folder) = folder.canonicalize() else { return owned(paths) };
    if !folder.ancestors().any(|above| above.join(".git").symlink_metadata().is_ok()) {
        return Vec::new();
    }
    let Ok(prefix) = prefix(&folder) else { return owned(paths) };
    let prefix = if prefix.is_empty() { prefix } else { prefix + "/" };
    let is_asked = |path: &&str| !path.contains('\n') && !is_nested(&folder, path);
    let (asked, mut found): (Vec<&str>, Vec<&str>) = paths.iter().copied().partition(is_asked);
    let names: Vec<String> = asked.iter().map(|path| format!("HEAD:{prefix}{path}")).collect();
    let names: Vec<&str> = names.iter().map(String::as_str).collect();
    let mut changed = Vec::new();
    let compared = objects(&folder, &names, |at, committed| {
        let there = fs::read(folder.join(asked[at])).ok();
        // A checkout may end lines with CR and LF.
        let is_same = match (&there, &committed) {
            (Some(there), Some(committed)) => without_cr(there) == without_cr(committed),
            // A new file takes nobody's place.
            (there, committed) => there.is_none() && committed.is_none(),
        };
        if !is_same {
            changed.push(asked[at]);
        }
        Ok(())
    });
    found.extend(if compared.is_ok() { changed } else { asked });
    found.sort_unstable();
    owned(&found)
}

fn owned(paths: &[&str]) -> Vec<String> {
    paths.iter().map(|path| (*path).to_owned()).collect()
}

fn without_cr(text: &[u8]) -> Vec<u8> {
    text.iter().copied().filter(|&b| b != b'\r').collect()
}

/// Whether a file is in a repository within the folder.
fn is_nested(folder: &Path, path: &str) -> bool {
    let parents = Path::new(path).ancestors().skip(1).filter(|parent| !parent.as_os_str().is_empty());
    parents.into_iter().any(|parent| folder.join(parent).join(".git").symlink_metadata().is_ok())
}

/// The site's place in its repository, without a slash at its end.
fn prefix(folder: &Path) -> Result<String, DiskError> {
    let prefix = run(folder, &["rev-parse", "--show-prefix"])?;
    Ok(String::from_utf8_lossy(&prefix).trim_end_matches(['\n', '/']).to_owned())
}

/// Gives the contents of objects to a function, with their numbers; `None` for one that is not there. They are asked
/// for by id or name.
fn objects(
    folder: &Path,
    names: &[&str],
    mut take: impl FnMut(usize, Option<Vec<u8>>) -> Result<(), DiskError>,
) -> Result<(), DiskError> {
    let io = || DiskError::io(PathBuf::from("git cat-file"));
    let mut child = git(folder)
        .args(["cat-file", "--batch"])
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()
        .map_err(io())?;
    let (Some(mut input), Some(output)) = (child.stdin.take(), child.stdout.take()) else {
        return Err(DiskError::Refused("git does not respond".into()));
    };
    let asked: String = names.iter().map(|name| format!("{name}\n")).collect();
    // Asked beside reading: neither side waits for the other.
    let asking = std::thread::spawn(move || input.write_all(asked.as_bytes()));
    let mut output = BufReader::new(output);
    for at in 0..names.len() {
        let mut head = String::new();
        output.read_line(&mut head).map_err(io())?;
        // `id blob length`, or `name missing`.
        let length: Option<usize> = match head.trim_end().rsplit(' ').collect::<Vec<_>>()[..] {
            [length, "blob", _] => length.parse().ok(),
            _ if head.trim_end().ends_with(" missing") => None,
            _ => return Err(DiskError::Refused("git does not tell what it has".into())),
        };
        let Some(length) = length else {
            take(at, None)?;
            continue;
        };
        let mut bytes = vec![0; length + 1];
        output.read_exact(&mut bytes).map_err(io())?;
        bytes.pop();
        take(at, Some(bytes))?;
    }
    let _ = asking.join();
    let _ = child.wait();
    Ok(())
}

/// `git` for a folder, so that nothing that a repository brings is run, and nothing is fetched.
fn git(folder: &Path) -> Command {
    const QUIET: [&str; 5] = [
        "safe.bareRepository=explicit",
        "core.fsmonitor=false",
        "core.hooksPath=/dev/null",
        "core.pager=cat",
        "core.sshCommand=false",
    ];
    let mut command = Command::new("git");
    command.arg("--no-pager").arg("-C").arg(folder);
    for setting in QUIET {
        command.args(["-c", setting]);
    }
    for outer in ["GIT_DIR", "GIT_WORK_TREE", "GIT_INDEX_FILE", "GIT_EXTERNAL_DIFF", "GIT_PAGER"] {
        command.env_remove(outer);
    }
    command.env("GIT_ALLOW_PROTOCOL", "none").env("GIT_NO_LAZY_FETCH", "1").env("GIT_TERMINAL_PROMPT", "0");
    command.env("GIT_OPTIONAL_LOCKS", "0").env("GIT_NO_REPLACE_OBJECTS", "1");
    command
}

/// The output of `git` in a folder.
fn run(folder: &Path, arguments: &[&str]) -> Result<Vec<u8>, DiskError> {
    let output = git(folder).args(arguments).output();
    let output = output.map_err(|error| DiskError::Refused(format!("git is not available: {error}")))?;
    if !output.status.success() {
        let why = String::from_utf8_lossy(&output.stderr).trim().to_owned();
        return Err(DiskError::Refused(if why.is_empty() { "git refuses".into() } else { why }));
    }
    Ok(output.stdout)
}
