//! The one module that touches the disk: reading a site, writing a new one
//! elsewhere, and changing one in place as a transaction.

mod adopt;
mod journal;
mod versions;

use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use globset::{Glob, GlobSet, GlobSetBuilder};
use ignore::WalkBuilder;

use crate::dialect::{self, Dialect, DialectError};
use crate::site::{Problem, Settings, SettingsError, Site, SourceFile};

pub use adopt::{Adopted, adopt, undo};
pub use journal::{Recovery, recover};
pub use versions::uncommitted;

/// The folder in a site where Radicon keeps its journal and what is needed to undo.
pub const STATE_FOLDER: &str = ".radicon";

/// The file in a site's root with its settings.
pub const SETTINGS_FILE: &str = "radicon.toml";

/// What can go wrong with the disk.
#[derive(Debug, thiserror::Error)]
pub enum DiskError {
    /// An operation failed.
    #[error("{path}: {source}")]
    Io {
        /// The file or folder.
        path: PathBuf,
        /// The cause.
        source: io::Error,
    },
    /// The settings cannot be read.
    #[error("{path}:{source}")]
    Settings {
        /// The file.
        path: PathBuf,
        /// The cause.
        source: SettingsError,
    },
    /// A dialect file cannot be read.
    #[error("{path}:{source}")]
    Dialect {
        /// The file.
        path: PathBuf,
        /// The cause.
        source: DialectError,
    },
    /// A glob in the settings cannot be read.
    #[error("{path}: the pattern `{pattern}` cannot be read: {message}")]
    Pattern {
        /// The settings file.
        path: PathBuf,
        /// The pattern.
        pattern: String,
        /// The cause.
        message: String,
    },
    /// Something stands in the way, said in plain words.
    #[error("{0}")]
    Refused(String),
}

impl DiskError {
    pub(crate) fn io(path: impl Into<PathBuf>) -> impl FnOnce(io::Error) -> Self {
        let path = path.into();
        move |source| Self::Io { path, source }
    }
}

/// A site as it was read from the disk.
#[derive(Clone, Debug)]
pub struct Loaded {
    /// The site's folder.
    pub folder: PathBuf,
    /// The site.
    pub site: Site,
    /// Its settings.
    pub settings: Settings,
    /// The dialects it may be written in.
    pub dialects: Vec<Arc<Dialect>>,
    /// What could not be read; the rest was.
    pub problems: Vec<Problem>,
}

/// The site's folder: the nearest one upwards from `start` with a
/// `radicon.toml`, else `start` itself.
pub fn find_site(start: &Path) -> PathBuf {
    start.ancestors().find(|folder| folder.join(SETTINGS_FILE).is_file()).unwrap_or(start).to_owned()
}

/// Reads a site. Hidden files, files that ignore files exclude, and symbolic
/// links are left out.
///
/// # Errors
/// If the folder or `radicon.toml` or a dialect file it names cannot be read.
/// Single templates that cannot be read are among the [`Loaded::problems`].
pub fn load(folder: &Path) -> Result<Loaded, DiskError> {
    if !folder.is_dir() {
        return Err(DiskError::Refused(format!("{}: no such folder", folder.display())));
    }
    let (settings, dialects) = configuration(folder)?;
    let ignored = patterns(folder, &settings.ignore)?;
    let mut problems = Vec::new();
    let mut files = Vec::new();
    let walk = WalkBuilder::new(folder).follow_links(false).require_git(false).sort_by_file_name(Ord::cmp).build();
    for entry in walk {
        let entry = match entry {
            Ok(entry) => entry,
            Err(error) => {
                problems.push(Problem { file: String::new(), at: None, message: error.to_string() });
                continue;
            }
        };
        let relative = entry.path().strip_prefix(folder).unwrap_or(entry.path());
        let shown = relative.to_string_lossy().replace('\\', "/");
        if !dialects.iter().any(|dialect| dialect.fits(&shown)) || ignored.is_match(&shown) {
            continue;
        }
        let problem = |message: &str| Problem { file: shown.clone(), at: None, message: message.into() };
        match entry.file_type() {
            Some(kind) if kind.is_symlink() => problems.push(problem("a symbolic link; not followed")),
            Some(kind) if !kind.is_file() => {}
            _ if relative.to_str().is_none() => problems.push(problem("its name is not UTF-8; left alone")),
            _ => match fs::read(entry.path()) {
                Ok(bytes) => files.push(SourceFile { path: shown, bytes }),
                Err(error) => problems.push(problem(&format!("cannot be read: {error}"))),
            },
        }
    }
    let site = Site::read(files, &dialects, &settings);
    Ok(Loaded { folder: folder.to_owned(), site, settings, dialects, problems })
}

/// The settings of a site and the dialects they name, before the built-in ones.
fn configuration(folder: &Path) -> Result<(Settings, Vec<Arc<Dialect>>), DiskError> {
    let path = folder.join(SETTINGS_FILE);
    let settings = match fs::read_to_string(&path) {
        Ok(text) => Settings::parse(&text).map_err(|source| DiskError::Settings { path: path.clone(), source })?,
        Err(error) if error.kind() == io::ErrorKind::NotFound => Settings::default(),
        Err(error) => return Err(DiskError::io(path)(error)),
    };
    let mut dialects = Vec::new();
    for name in &settings.dialects {
        let path = folder.join(name);
        let text = fs::read_to_string(&path).map_err(DiskError::io(&path))?;
        dialects.push(Arc::new(Dialect::parse(&text).map_err(|source| DiskError::Dialect { path, source })?));
    }
    dialects.extend(dialect::builtin().iter().cloned());
    Ok((settings, dialects))
}

fn patterns(folder: &Path, globs: &[String]) -> Result<GlobSet, DiskError> {
    let refuse = |pattern: &str, error: &globset::Error| DiskError::Pattern {
        path: folder.join(SETTINGS_FILE),
        pattern: pattern.to_owned(),
        message: error.kind().to_string(),
    };
    let mut set = GlobSetBuilder::new();
    for pattern in globs {
        set.add(Glob::new(pattern).map_err(|error| refuse(pattern, &error))?);
    }
    set.build().map_err(|error| refuse("", &error))
}

/// Writes a whole site into an empty or new folder: everything that stands in
/// the old one, and `changes` in the place of what they change.
///
/// # Errors
/// If `into` is not empty, lies around the site, or something cannot be written.
pub fn write_site(folder: &Path, changes: &[SourceFile], into: &Path) -> Result<(), DiskError> {
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
        match entry.file_type() {
            Some(kind) if kind.is_dir() && outside(entry.path()) => {
                fs::create_dir_all(&to).map_err(DiskError::io(&to))?
            }
            Some(kind) if kind.is_file() && outside(entry.path()) => {
                fs::copy(entry.path(), &to).map_err(DiskError::io(entry.path()))?;
            }
            Some(kind) if kind.is_symlink() => copy_link(entry.path(), &to)?,
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
