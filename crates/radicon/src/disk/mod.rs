//! The one module that touches the disk: reading a site, writing a new one
//! elsewhere, and changing one in place as a transaction.

mod adopt;
mod elsewhere;
mod hidden;
mod journal;
mod kept;
mod read;
mod state;
mod versions;
mod workspace;

use std::collections::BTreeMap;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use crate::config::ConfigError;
use crate::dialect::Dialect;
use crate::learn::Learned;
use crate::site::{Change, Problem, Settings, Site};

pub use adopt::{Adopted, Undone, adopt, undo, undoable};
pub use elsewhere::{Composed, compose, write_files, write_site};
pub use journal::{Recovery, abandon, recover};
pub use kept::{Kept, forget, keep, kept};
pub use read::{Reader, find_site, learn_site, load, rendered_pages, style_sheets};
pub use state::{OLD_STATE_FOLDER, STATE_VARIABLE, State};
pub use versions::{Revision, is_revision, revision, uncommitted};
pub use workspace::Workspace;

/// A tag near the start of the pages that reports are: such a file is no template of the site
/// that it lies in.
pub const REPORT_MARK: &str = "<meta name=\"generator\" content=\"radicon report\">";

/// The file in a site's root with its settings.
pub const SETTINGS_FILE: &str = "radicon.toml";

/// The folder beside it in which dialect files are found without being named.
pub const DIALECTS_FOLDER: &str = "dialects";

/// An error of the disk.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum DiskError {
    /// An operation failed.
    #[error("{path}: {source}")]
    Io {
        /// The file or folder.
        path: PathBuf,
        /// The cause.
        source: io::Error,
    },
    /// The settings or a dialect file cannot be read.
    #[error("{path}:{source}")]
    Config {
        /// The file.
        path: PathBuf,
        /// The cause.
        source: ConfigError,
    },
    /// Something is in the way, said in plain words.
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
    /// The dialects among them that were learned from the site itself.
    pub learned: Vec<Learned>,
    /// The files that could not be read; the rest was.
    pub problems: Vec<Problem>,
    /// The hash of each file that was read: templates, code that may name them, settings, dialects.
    pub sources: BTreeMap<String, String>,
}

/// A path with `/` between its parts; a name may hold a backslash where that separates nothing.
fn slashed(path: &Path) -> String {
    let text = path.to_string_lossy();
    if std::path::MAIN_SEPARATOR == '\\' { text.replace('\\', "/") } else { text.into_owned() }
}

/// The changes that keep what was learned: a dialect file for each, and the rules of folders
/// at the end of `radicon.toml`.
///
/// # Errors
/// If a file that is there already cannot be read.
pub fn keep_learned(folder: &Path, learned: &[Learned]) -> Result<Vec<Change>, DiskError> {
    let mut changes = Vec::new();
    let mut rules = String::new();
    for learned in learned {
        let path = format!("{DIALECTS_FOLDER}/{}.toml", learned.name);
        changes.push(Change { old: read_if_there(folder, &path)?, path, new: Some(learned.text.clone().into_bytes()) });
        rules += &learned.settings;
    }
    if !rules.is_empty() {
        changes.push(more_settings(folder, &rules)?);
    }
    Ok(changes)
}

/// The change that puts more settings at the end of a site's `radicon.toml`.
///
/// # Errors
/// If the file is there and cannot be read.
pub fn more_settings(folder: &Path, text: &str) -> Result<Change, DiskError> {
    let old = read_if_there(folder, SETTINGS_FILE)?;
    let mut new = old.clone().unwrap_or_default();
    if !new.is_empty() {
        new.extend(b"\n");
    }
    new.extend(text.bytes());
    Ok(Change { path: SETTINGS_FILE.into(), old, new: Some(new) })
}

/// The change that puts new names of templates into the folder rules of a site's `radicon.toml`; `None` if there are
/// none to put.
///
/// # Errors
/// If the file cannot be read.
pub fn renamed_in_settings(folder: &Path, renamed: &[(String, String)]) -> Result<Option<Change>, DiskError> {
    let Some(old) = read_if_there(folder, SETTINGS_FILE)?.filter(|_| !renamed.is_empty()) else { return Ok(None) };
    let path = folder.join(SETTINGS_FILE);
    let refuse = |why: String| DiskError::Refused(format!("{}: {why}", path.display()));
    let text = std::str::from_utf8(&old).map_err(|error| refuse(error.to_string()))?;
    let mut document: toml_edit::DocumentMut = text.parse().map_err(|error| refuse(format!("{error}")))?;
    let rules = document.get_mut("folder").and_then(toml_edit::Item::as_array_of_tables_mut);
    for rule in rules.into_iter().flat_map(toml_edit::ArrayOfTables::iter_mut) {
        for key in ["layout", "before", "after"] {
            let Some(value) = rule.get_mut(key).and_then(toml_edit::Item::as_value_mut) else { continue };
            match value {
                toml_edit::Value::Array(list) => list.iter_mut().for_each(|name| rename(name, renamed)),
                name => rename(name, renamed),
            }
        }
    }
    Ok(Some(Change {
        path: SETTINGS_FILE.into(),
        old: Some(old.clone()),
        new: Some(document.to_string().into_bytes()),
    }))
}

/// Gives a value its new name, if it has one; what is around it stays.
fn rename(value: &mut toml_edit::Value, renamed: &[(String, String)]) {
    let new = renamed.iter().find(|(old, _)| value.as_str() == Some(old.as_str()));
    if let Some((_, new)) = new {
        let decor = value.decor().clone();
        *value = new.as_str().into();
        *value.decor_mut() = decor;
    }
}

fn read_if_there(folder: &Path, path: &str) -> Result<Option<Vec<u8>>, DiskError> {
    match fs::read(folder.join(path)) {
        Ok(bytes) => Ok(Some(bytes)),
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
        Err(error) => Err(DiskError::io(folder.join(path))(error)),
    }
}

/// Whether a file tells how the site is read and is no part of it.
fn is_configuration(settings: &Settings, path: &str) -> bool {
    let in_folder = path.strip_prefix(DIALECTS_FOLDER).is_some_and(|rest| rest.starts_with('/'));
    path == SETTINGS_FILE || in_folder || settings.dialects.iter().any(|dialect| dialect == path)
}
