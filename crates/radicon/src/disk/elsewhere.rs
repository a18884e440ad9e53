//! Writing a site, or finished pages, into another folder.

use std::fs;
use std::path::Path;

use ignore::WalkBuilder;
use serde::Serialize;

use super::{DiskError, Loaded, STATE_FOLDER, is_configuration, slashed};
use crate::resolve::Resolver;
use crate::site::{Problem, SourceFile};

/// Writes files into a new folder.
///
/// # Errors
/// If the folder is there and not empty, or cannot be written.
pub fn write_files(files: &[SourceFile], into: &Path) -> Result<(), DiskError> {
    if fs::read_dir(into).is_ok_and(|mut entries| entries.next().is_some()) {
        return Err(DiskError::Refused(format!("{}: is not empty; name a new folder", into.display())));
    }
    for file in files {
        let path = into.join(&file.path);
        let parent = path.parent().unwrap_or(into);
        fs::create_dir_all(parent).map_err(DiskError::io(parent))?;
        fs::write(&path, &file.bytes).map_err(DiskError::io(&path))?;
    }
    Ok(())
}

/// What was put together.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Composed {
    /// The paths of the pages.
    pub pages: Vec<String>,
    /// What could not be resolved and was kept as it stands.
    pub problems: Vec<Problem>,
}

/// Writes every page, put together, into an empty or new folder, with everything
/// else that stands in the site but its layouts, partials, settings and dialects.
///
/// # Errors
/// If a page grows without end, `into` is not empty or lies around the site, or
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
    write_folder(&loaded.folder, &pages, into, |path, is_folder| !is_folder && !is_source(path))?;
    Ok(Composed { pages: pages.into_iter().map(|page| page.path).collect(), problems })
}

/// Writes a whole site into an empty or new folder: everything that stands in
/// the old one, and `changes` in the place of what they change.
///
/// # Errors
/// If `into` is not empty, lies around the site, or something cannot be written.
pub fn write_site(folder: &Path, changes: &[SourceFile], into: &Path) -> Result<(), DiskError> {
    write_folder(folder, changes, into, |_, _| true)
}

fn write_folder(
    folder: &Path,
    changes: &[SourceFile],
    into: &Path,
    keep: impl Fn(&str, bool) -> bool,
) -> Result<(), DiskError> {
    if fs::read_dir(into).is_ok_and(|mut entries| entries.next().is_some()) {
        return Err(DiskError::Refused(format!("{}: the folder is not empty; name a new one", into.display())));
    }
    fs::create_dir_all(into).map_err(DiskError::io(into))?;
    let target = into.canonicalize().map_err(DiskError::io(into))?;
    let outside = |path: &Path| path.canonicalize().map_or(true, |path| !path.starts_with(&target));
    let visible = |name: &std::ffi::OsStr| name != STATE_FOLDER && name != ".git";
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
    for file in changes {
        let to = into.join(&file.path);
        if let Some(parent) = to.parent() {
            fs::create_dir_all(parent).map_err(DiskError::io(parent))?;
        }
        fs::write(&to, &file.bytes).map_err(DiskError::io(&to))?;
    }
    Ok(())
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
