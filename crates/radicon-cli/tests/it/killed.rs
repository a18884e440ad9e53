//! A writing run that is killed, or that the disk fails, leaves the old tree or the new one.
//!
//! The runs are watched and stopped by `strace`; where it is not installed they are reported as
//! skipped, and fail in CI.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::Duration;

use crate::common::has;
use tempfile::TempDir;

type Tree = Vec<(PathBuf, Vec<u8>)>;

const STEP: [&str; 7] = ["step", "rename", "base.html", "text", "content", "--write", "--uncommitted"];

/// A site of a layout and three pages; one of them lies in a folder, one may not be written by others.
fn site() -> TempDir {
    let dir = tempfile::tempdir().expect("a folder");
    let write = |path: &str, text: &str| fs::write(dir.path().join(path), text).expect("a file");
    fs::create_dir(dir.path().join("harbours")).expect("a folder");
    write("base.html", "<main>{% block text %}{% endblock text %}</main>\r\n");
    for path in ["fares.html", "harbours/old-pier.html", "harbours/heronsea.html"] {
        write(path, "{% extends 'base.html' %}\r\n{% block text %}<p>Ferries</p>{% endblock %}\r\n");
    }
    dir
}

/// Every file with its content.
fn tree(folder: &Path) -> Tree {
    let walk = ignore::WalkBuilder::new(folder).standard_filters(false).sort_by_file_name(Ord::cmp).build();
    let files = walk.map(|entry| entry.expect("an entry").into_path()).filter(|path| path.is_file());
    let relative = |path: PathBuf| {
        let bytes = fs::read(&path).expect("a file");
        (path.strip_prefix(folder).expect("beneath it").to_owned(), bytes)
    };
    files.map(relative).collect()
}

fn radicon() -> PathBuf {
    assert_cmd::cargo::cargo_bin("radicon")
}

/// What the tree is before the step, and after it.
fn both() -> (Tree, Tree) {
    let dir = site();
    let old = tree(dir.path());
    let ran = Command::new(radicon()).current_dir(dir.path()).args(STEP).output().expect("it runs");
    assert!(ran.status.success(), "{}", String::from_utf8_lossy(&ran.stderr));
    let new = tree(dir.path());
    assert_ne!(old, new);
    (old, new)
}

/// After the next start the tree is the old one or the new one; says which.
#[track_caller]
fn recovered(dir: &Path, (old, new): &(Tree, Tree), what: &str) -> bool {
    let ran = Command::new(radicon()).current_dir(dir).arg("survey").output().expect("it runs");
    assert!(ran.status.success(), "{what}: {}", String::from_utf8_lossy(&ran.stderr));
    let found = tree(dir);
    assert!(found == *old || found == *new, "{what}: {:?}", found.iter().map(|(path, _)| path).collect::<Vec<_>>());
    // And the site can be written again.
    let again = Command::new(radicon()).current_dir(dir).args(["undo"]).output().expect("it runs");
    let is_new = found == *new;
    assert!(
        !is_new || again.status.success() && tree(dir) == *old,
        "{what}: {}",
        String::from_utf8_lossy(&again.stderr)
    );
    is_new
}

fn is_long() -> bool {
    std::env::var("RADICON_LONG").is_ok_and(|share| share == "1")
}

/// Runs the step and lets its system calls of some kinds fail or kill it, from the `at`th on;
/// whether it came to its end.
fn injected(dir: &Path, calls: &str, what: &str, at: usize) -> bool {
    let inject = format!("inject={calls}:{what}:when={at}");
    let status = Command::new("strace")
        .args(["-f", "-qq", "-o", "/dev/null", "-e", &format!("trace={calls}"), "-e", &inject])
        .arg(radicon())
        .args(STEP)
        .current_dir(dir)
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .status()
        .expect("it runs");
    status.success()
}

/// The system calls that the step makes, each with how often at the most.
fn calls() -> std::collections::BTreeMap<String, usize> {
    let dir = site();
    let logs = tempfile::tempdir().expect("a folder");
    let log = logs.path().join("calls.log");
    let status = Command::new("strace")
        .args(["-f", "-qq", "-o"])
        .arg(&log)
        .arg(radicon())
        .args(STEP)
        .current_dir(dir.path())
        .stdout(Stdio::null())
        .status();
    assert!(status.is_ok_and(|status| status.success()));
    let text = fs::read_to_string(&log).expect("the log");
    let mut calls = std::collections::BTreeMap::new();
    // `1234  openat(AT_FDCWD, …`
    for call in
        text.lines().filter_map(|line| line.split_once(' ')?.1.trim_start().split_once('(')).map(|(call, _)| call)
    {
        if !call.is_empty() && call.bytes().all(|b| b.is_ascii_lowercase() || b.is_ascii_digit() || b == b'_') {
            *calls.entry(call.to_owned()).or_insert(0) += 1;
        }
    }
    calls
}

#[test]
fn a_run_killed_at_any_system_call_is_finished_or_rolled_back() {
    if !has("strace") {
        return;
    }
    let trees = both();
    let (mut old, mut new) = (0, 0);
    let writing = |call: &str| {
        ["fsync", "rename", "unlink", "mkdir", "rmdir", "chmod", "write"].iter().any(|word| call.contains(word))
    };
    for (call, count) in calls() {
        // In the long run at every call, else at every one that changes something.
        let step = if is_long() || writing(&call) { 1 } else { 1 + count / 4 };
        for at in (1..=count).step_by(step) {
            let dir = site();
            let done = injected(dir.path(), &call, "signal=SIGKILL", at);
            match recovered(dir.path(), &trees, &format!("killed at {call} number {at}")) {
                true => new += 1,
                false => old += 1,
            }
            // The count is that of all threads; each has its own.
            if done {
                break;
            }
        }
    }
    println!("killed at {} places: {old} times the old tree, {new} times the new one", old + new);
    assert!(old > 20 && new > 10, "{old} and {new}");
}

/// What was in a file before it was written, which stays beside it until the run is at its end.
fn beside(folder: &Path, name: &str) -> Option<PathBuf> {
    let staged = format!(".{name}.radicon-");
    let files = fs::read_dir(folder).expect("a folder").map(|entry| entry.expect("an entry"));
    files
        .map(|entry| entry.path())
        .find(|path| path.file_name().is_some_and(|name| name.to_string_lossy().starts_with(&staged)))
}

#[test]
fn what_an_editor_writes_late_is_kept() {
    if !has("strace") {
        return;
    }
    let (_, new) = both();
    let edited = (1..40).any(|at| {
        let dir = site();
        injected(dir.path(), "unlink,unlinkat", "signal=SIGKILL", at);
        let is_written = new.iter().all(|(path, text)| fs::read(dir.path().join(path)).is_ok_and(|now| now == *text));
        let Some(old) = beside(dir.path(), "fares.html").filter(|_| is_written) else { return false };
        // Somebody had the file open while it was exchanged.
        fs::write(&old, "late").expect("a file");
        let ran = Command::new(radicon()).current_dir(dir.path()).arg("survey").output().expect("it runs");
        let told = String::from_utf8_lossy(&ran.stderr);
        assert!(!ran.status.success() && told.contains("both versions are kept"), "{told}");
        assert_eq!(fs::read(&old).expect("it is kept"), b"late");
        true
    });
    assert!(edited, "no kill left the old content beside the new one");
}

#[test]
fn a_run_killed_at_any_instant_is_finished_or_rolled_back() {
    let trees = both();
    let mut seed = 20_261_127_u64;
    println!("random instants: seed {seed}");
    for case in 0..if is_long() { 2_000 } else { 40 } {
        seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        let dir = site();
        let mut child = Command::new(radicon())
            .args(STEP)
            .current_dir(dir.path())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .expect("it runs");
        std::thread::sleep(Duration::from_micros((seed >> 33) % 60_000));
        let _ = child.kill();
        let _ = child.wait();
        recovered(dir.path(), &trees, &format!("case {case}"));
    }
}

#[test]
fn a_full_disk_changes_nothing_or_all() {
    if !has("strace") {
        return;
    }
    let trees = both();
    for calls in ["write", "fsync,fdatasync", "rename,renameat,renameat2", "mkdir,mkdirat"] {
        for at in 1.. {
            let dir = site();
            let done = injected(dir.path(), calls, "error=ENOSPC", at);
            recovered(dir.path(), &trees, &format!("{calls} number {at} failed"));
            if done && at > 3 || at > 60 {
                break;
            }
        }
    }
}

#[cfg(unix)]
#[test]
fn permissions_and_line_ends_survive() {
    use std::os::unix::fs::PermissionsExt;
    let dir = site();
    let page = dir.path().join("fares.html");
    fs::set_permissions(&page, fs::Permissions::from_mode(0o640)).expect("permissions");
    let ran = Command::new(radicon()).current_dir(dir.path()).args(STEP).output().expect("it runs");
    assert!(ran.status.success());
    assert_eq!(fs::metadata(&page).expect("the page").permissions().mode() & 0o777, 0o640);
    let text = fs::read_to_string(&page).expect("the page");
    assert!(text.contains("{% block content %}") && text.matches("\r\n").count() == 2, "{text:?}");
}

#[cfg(unix)]
#[test]
fn hostile_names_are_written_or_left_alone() {
    use std::os::unix::ffi::OsStrExt;
    let dir = site();
    let text = "{% extends 'base.html' %}{% block text %}x{% endblock %}";
    for name in ["two\nlines.html", "back\\slash.html", "-dash.html", "a 'b\".html"] {
        fs::write(dir.path().join(name), text).expect("a file");
    }
    let latin = std::ffi::OsStr::from_bytes(b"caf\xe9.html");
    fs::write(dir.path().join(latin), text).expect("a file");
    let ran = Command::new(radicon()).current_dir(dir.path()).args(STEP).output().expect("it runs");
    assert!(ran.status.success(), "{}", String::from_utf8_lossy(&ran.stderr));
    for name in ["two\nlines.html", "back\\slash.html", "-dash.html", "a 'b\".html"] {
        let new = fs::read_to_string(dir.path().join(name)).expect("a file");
        assert!(new.contains("block content"), "{name:?}: {new}");
    }
    assert_eq!(fs::read_to_string(dir.path().join(latin)).expect("a file"), text);
}
