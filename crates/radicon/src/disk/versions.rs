//! Version control, through the command line of `git`.

use std::path::Path;
use std::process::Command;

/// Those of `paths` that have changes which are not committed. Empty where the
/// folder is under no version control, or `git` is not to be had.
pub fn uncommitted(folder: &Path, paths: &[&str]) -> Vec<String> {
    let output = Command::new("git")
        .arg("-C")
        .arg(folder)
        .args(["status", "--porcelain", "-z", "--untracked-files=no", "--", "."])
        .output();
    let Ok(output) = output else {
        return Vec::new();
    };
    if !output.status.success() {
        return Vec::new();
    }
    let prefix = Command::new("git").arg("-C").arg(folder).args(["rev-parse", "--show-prefix"]).output();
    let prefix = prefix.map(|output| String::from_utf8_lossy(&output.stdout).trim_end().to_owned()).unwrap_or_default();
    let listing = String::from_utf8_lossy(&output.stdout).into_owned();
    // Two letters of state, a space, the path from the top of the work tree.
    let mut changed: Vec<String> = listing
        .split('\0')
        .filter_map(|line| line.get(3..)?.strip_prefix(prefix.as_str()).map(str::to_owned))
        .filter(|path| paths.contains(&path.as_str()))
        .collect();
    changed.sort();
    changed
}
