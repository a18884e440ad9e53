//! Writing a site, or finished pages, into another folder.

use std::fs;
use std::path::{Path, PathBuf};

use ignore::WalkBuilder;
use serde::Serialize;

use super::hidden::is_ignored;
use super::{DiskError, Loaded, OLD_STATE_FOLDER, is_configuration, slashed};
use crate::resolve::Resolver;
use crate::site::{Problem, SourceFile};

/// Writes files of a site into a new folder.
///
/// # Errors
/// If the folder is there and not empty, would be read as part of the site, or cannot be written.
pub fn write_files(loaded: &Loaded, files: &[SourceFile], into: &Path) -> Result<(), DiskError> {
    refuse_target(loaded, into)?;
    write_into(files, into)
}

fn write_into(files: &[SourceFile], into: &Path) -> Result<(), DiskError> {
    for file in files {
        let path = into.join(&file.path);
        let parent = path.parent().unwrap_or(into);
        fs::create_dir_all(parent).map_err(DiskError::io(parent))?;
        fs::write(&path, &file.bytes).map_err(DiskError::io(&path))?;
    }
    Ok(())
}

/// The pages that were put together.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Composed {
    /// The paths of the pages.
    pub pages: Vec<String>,
    /// The references that could not be resolved and were kept as they are.
    pub problems: Vec<Problem>,
}

/// Writes every finished page, into an empty or new folder, with everything
/// else that is in the site but its layouts, partials, settings and dialects.
///
/// # Errors
/// If a page grows without end, `into` is not empty, lies around the site or would be read as part of it, or
/// something cannot be written.
pub fn compose(loaded: &Loaded, into: &Path) -> Result<Composed, DiskError> {
    let site = &loaded.site;
    let flattened = Resolver::new(site).flatten_all().map_err(|error| DiskError::Refused(error.to_string()))?;
    let mut problems: Vec<Problem> = flattened.iter().flat_map(|(_, flat)| flat.problems.clone()).collect();
    problems.sort();
    problems.dedup();
    let pages: Vec<_> =
        flattened.into_iter().map(|(id, flat)| SourceFile::new(site.get(id).path.clone(), flat.bytes)).collect();
    let is_source = |path: &str| site.find(path).is_some() || is_configuration(&loaded.settings, path);
    write_folder(loaded, &pages, into, |path, is_folder| !is_folder && !is_source(path))?;
    Ok(Composed { pages: pages.into_iter().map(|page| page.path).collect(), problems })
}

/// Writes a whole site into an empty or new folder: everything that is in
/// the old one, and `changes` in the place of what they change.
///
/// # Errors
/// If `into` is not empty, lies around the site or would be read as part of it, or something cannot be written.
pub fn write_site(loaded: &Loaded, changes: &[SourceFile], into: &Path) -> Result<(), DiskError> {
    write_folder(loaded, changes, into, |_, _| true)
}

/// Refuses a folder that holds something, and one that the next run would read as a part of the site.
fn refuse_target(loaded: &Loaded, into: &Path) -> Result<(), DiskError> {
    if fs::read_dir(into).is_ok_and(|mut entries| entries.next().is_some()) {
        return Err(DiskError::Refused(format!("{}: the directory is not empty; name a new one", into.display())));
    }
    if is_read(loaded, into) {
        let message = format!(
            "{}: lies in the site, and would be read as a part of it; name a directory outside, or one that \
             .gitignore or `ignore` in radicon.toml excludes",
            into.display()
        );
        return Err(DiskError::Refused(message));
    }
    Ok(())
}

/// Whether what is written into a folder belongs to the site.
fn is_read(loaded: &Loaded, into: &Path) -> bool {
    let Some((into, folder)) = absolute(into).zip(absolute(&loaded.folder)) else { return false };
    let Ok(inside) = into.strip_prefix(&folder) else { return false };
    let file = inside.join("page.html");
    let is_hidden = inside.components().any(|part| part.as_os_str().to_string_lossy().starts_with('.'));
    !is_hidden && !loaded.settings.ignore.fit(&slashed(&file)) && !is_ignored(&folder, &file)
}

/// The path from the root of the file system, also of a folder that is yet to be made.
fn absolute(path: &Path) -> Option<PathBuf> {
    let path = std::path::absolute(path).ok()?;
    let there = path.ancestors().find(|above| above.exists())?;
    Some(there.canonicalize().ok()?.join(path.strip_prefix(there).ok()?))
}

fn write_folder(
    loaded: &Loaded,
    changes: &[SourceFile],
    into: &Path,
    keep: impl Fn(&str, bool) -> bool,
) -> Result<(), DiskError> {
    refuse_target(loaded, into)?;
    let folder = &loaded.folder;
    fs::create_dir_all(into).map_err(DiskError::io(into))?;
    let target = into.canonicalize().map_err(DiskError::io(into))?;
    let outside = |path: &Path| path.canonicalize().map_or(true, |path| !path.starts_with(&target));
    let visible = |name: &std::ffi::OsStr| name != OLD_STATE_FOLDER && name != ".git";
    let walk = WalkBuilder::new(folder)
        .standard_filters(false)
        .follow_links(false)
        .filter_entry(move |entry| entry.depth() == 0 || visible(entry.file_name()))
        .build();
    for entry in walk.filter_map(Result::ok).filter(|entry| entry.depth() > 0) {
        let Ok(relative) = entry.path().strip_prefix(folder) else {
            continue;
        };
        let to = into.join(relative);
        let Some(kind) = entry.file_type() else { continue };
        if !keep(&slashed(relative), kind.is_dir()) {
            continue;
        }
        if let Some(parent) = to.parent().filter(|_| !kind.is_dir() && outside(entry.path())) {
            fs::create_dir_all(parent).map_err(DiskError::io(parent))?;
        }
        match kind {
            kind if kind.is_dir() && outside(entry.path()) => fs::create_dir_all(&to).map_err(DiskError::io(&to))?,
            kind if kind.is_file() && outside(entry.path()) => {
                fs::copy(entry.path(), &to).map_err(DiskError::io(entry.path()))?;
            }
            kind if kind.is_symlink() => copy_link(entry.path(), &to)?,
            _ => {}
        }
    }
    write_into(changes, into)
}

/// Copies a link as a link, not what it points to.
fn copy_link(from: &Path, to: &Path) -> Result<(), DiskError> {
    #[cfg(unix)]
    {
        let points_to = fs::read_link(from).map_err(DiskError::io(from))?;
        std::os::unix::fs::symlink(points_to, to).map_err(DiskError::io(to))
    }
    #[cfg(not(unix))]
    {
        let _ = to;
        Err(DiskError::Refused(format!("{}: links cannot be copied on this system", from.display())))
    }
}
