//! What the tests of the command line share.

use std::fs;
use std::path::{Path, PathBuf};

use assert_cmd::Command;
use serde_json::Value;
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

/// JSON output, checked against its schema.
#[track_caller]
pub fn json(folder: &Path, schema: &str, arguments: &[&str]) -> Value {
    let ran = radicon(folder, &[&["--format", "json"], arguments].concat());
    let value: Value = serde_json::from_str(&ran.out).unwrap_or_else(|error| panic!("{error}: {}{}", ran.out, ran.err));
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join(format!("../../docs/schema/{schema}.json"));
    let schema: Value = serde_json::from_slice(&fs::read(path).expect("the schema")).expect("JSON");
    if let Err(error) = jsonschema::validate(&schema, &value) {
        panic!("{arguments:?}: {error} at {}", error.instance_path());
    }
    value
}

/// What `git` does in a folder, under a name of its own.
pub fn git(folder: &Path, arguments: &[&str]) -> std::io::Result<std::process::Output> {
    let identity = ["-c", "user.name=t", "-c", "user.email=t@t.example", "-c", "commit.gpgsign=false"];
    std::process::Command::new("git").current_dir(folder).args(identity).args(arguments).output()
}

/// Every file with its content.
pub fn tree(folder: &Path) -> Vec<(PathBuf, Vec<u8>)> {
    let mut found = Vec::new();
    let mut open = vec![folder.to_owned()];
    while let Some(folder) = open.pop() {
        for entry in fs::read_dir(&folder).expect("a folder").map(|entry| entry.expect("an entry")) {
            match entry.path() {
                path if path.is_dir() => open.push(path),
                path => found.push((path.clone(), fs::read(path).expect("a file"))),
            }
        }
    }
    found.sort();
    found
}
