//! What the tests of the command line share.
#![allow(dead_code)]

use std::fs;
use std::path::{Path, PathBuf};

use assert_cmd::Command;
use tempfile::TempDir;

/// What a run gave.
pub struct Ran {
    pub code: i32,
    pub out: String,
    pub err: String,
}

#[track_caller]
pub fn radicon(folder: &Path, arguments: &[&str]) -> Ran {
    let output = Command::cargo_bin("radicon")
        .expect("the binary")
        .current_dir(folder)
        .args(arguments)
        .output()
        .expect("it runs");
    let text = |bytes: Vec<u8>| String::from_utf8_lossy(&bytes).into_owned();
    Ran { code: output.status.code().unwrap_or(-1), out: text(output.stdout), err: text(output.stderr) }
}

/// Whether a program is here; else the test is reported as skipped, and fails in CI.
pub fn has(program: &str) -> bool {
    let there = std::env::var_os("PATH").is_some_and(|path| {
        std::env::split_paths(&path).chain(["/usr/sbin".into()]).any(|dir| dir.join(program).is_file())
    });
    assert!(there || std::env::var_os("CI").is_none(), "{program} is missing, and CI must have it");
    if !there {
        println!("skipped: {program} is not here");
    }
    there
}

/// A copy of the demo in a folder of its own.
pub fn demo() -> (TempDir, PathBuf) {
    let dir = tempfile::tempdir().expect("a folder");
    let site = dir.path().join("site");
    let from = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo");
    copy(&from, &site);
    (dir, site)
}

pub fn copy(from: &Path, to: &Path) {
    fs::create_dir_all(to).expect("a folder");
    for entry in fs::read_dir(from).expect("a folder").map(|entry| entry.expect("an entry")) {
        let target = to.join(entry.file_name());
        if entry.path().is_dir() {
            copy(&entry.path(), &target)
        } else {
            fs::copy(entry.path(), target).expect("a copy");
        }
    }
}
