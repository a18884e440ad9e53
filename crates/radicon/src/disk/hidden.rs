//! Whether a file that is not there yet would be read as part of its site.

use std::path::Path;

use ignore::Match;
use ignore::gitignore::{Gitignore, GitignoreBuilder};

use super::{DiskError, Loaded, is_configuration};
use crate::site::{Change, beneath};

impl Loaded {
    /// Refuses new templates that would not be read as such: the proof read them.
    ///
    /// # Errors
    /// The first one, and why it would not be read.
    pub fn refuse_unread(&self, changes: &[Change]) -> Result<(), DiskError> {
        for change in changes.iter().filter(|change| change.old.is_none() && change.new.is_some()) {
            let path = &change.path;
            if let Some(why) = self.why_unread(path).filter(|_| !is_configuration(&self.settings, path)) {
                return Err(DiskError::Refused(format!(
                    "{path}: would not be read as a part of the site: {why}; nothing was written"
                )));
            }
        }
        Ok(())
    }

    /// Why a file of this path would not be read as a template; `None` if it would.
    fn why_unread(&self, path: &str) -> Option<String> {
        let is_outside = |roots: &Vec<String>| !roots.iter().any(|root| beneath(root, path).is_some());
        if path.split('/').any(|part| part.starts_with('.')) {
            return Some("hidden files are left out".into());
        }
        if self.settings.ignore.fit(path) {
            return Some("`ignore` in radicon.toml excludes it".into());
        }
        if self.settings.roots.as_ref().is_some_and(is_outside) {
            return Some("it is in none of the `roots` in radicon.toml".into());
        }
        if !self.dialects.iter().any(|dialect| dialect.fits(path)) {
            return Some("no dialect describes files of such a name".into());
        }
        let folder = self.folder.canonicalize().ok()?;
        is_ignored(&folder, Path::new(path)).then(|| "an ignore file excludes it".into())
    }
}

/// Whether ignore files exclude a path in a folder, as they do when the folder is walked.
pub(super) fn is_ignored(folder: &Path, path: &Path) -> bool {
    let mut prefixes: Vec<&Path> = path.ancestors().filter(|prefix| !prefix.as_os_str().is_empty()).collect();
    prefixes.reverse();
    prefixes.iter().any(|prefix| decides(&folder.join(prefix), *prefix != path))
}

/// Whether ignore files exclude a file or folder, whatever they say of the folders around it.
fn decides(path: &Path, is_folder: bool) -> bool {
    for name in [".ignore", ".gitignore", ".git/info/exclude"] {
        for above in path.ancestors().skip(1) {
            let list = above.join(name);
            let mut builder = GitignoreBuilder::new(above);
            let read = if list.is_file() {
                builder.add(&list).is_none().then(|| builder.build().ok()).flatten()
            } else {
                None
            };
            match read.map(|list| list.matched(path, is_folder).map(|_| ())) {
                Some(Match::Ignore(())) => return true,
                Some(Match::Whitelist(())) => return false,
                _ => {}
            }
            // Beyond its repository git looks for nothing.
            if name != ".ignore" && above.join(".git").exists() {
                break;
            }
        }
    }
    Gitignore::global().0.matched(path, is_folder).is_ignore()
}

#[cfg(test)]
mod tests {
    use std::fs;

    use super::*;

    #[test]
    fn the_nearest_list_decides() {
        let dir = tempfile::tempdir().expect("a folder");
        let folder = dir.path().canonicalize().expect("a folder");
        fs::create_dir(folder.join("deep")).expect("a folder");
        fs::write(folder.join(".gitignore"), "out/\n*.tmp.html\n/top.html\n").expect("a file");
        fs::write(folder.join("deep/.gitignore"), "!a.tmp.html\n").expect("a file");
        for (path, ignored) in [
            ("out/a.html", true),
            ("deep/out/a.html", true),
            ("a.tmp.html", true),
            ("deep/a.tmp.html", false),
            ("top.html", true),
            ("deep/top.html", false),
            ("a.html", false),
        ] {
            assert_eq!(is_ignored(&folder, Path::new(path)), ignored, "{path}");
        }
    }
}
