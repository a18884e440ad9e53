//! The one module that touches the disk: reading a site, writing a new one
//! elsewhere, and changing one in place as a transaction.

mod adopt;
mod journal;
mod versions;

use std::fs;
use std::hash::{Hash, Hasher};
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use ignore::WalkBuilder;
use rustc_hash::{FxHashMap, FxHasher};
use schemars::JsonSchema;
use serde::Serialize;

use crate::config::ConfigError;
use crate::dialect::{self, Dialect};
use crate::learn::{Learned, learn};
use crate::resolve::Resolver;
use crate::site::{Change, Problem, Settings, Site, SourceFile, Template};

pub use adopt::{Adopted, adopt, undo};
pub use journal::{Recovery, recover};
pub use versions::{Revision, is_revision, revision, uncommitted};

/// The folder in a site where Radicon keeps its journal and what is needed to undo.
pub const STATE_FOLDER: &str = ".radicon";

/// The file in a site's root with its settings.
pub const SETTINGS_FILE: &str = "radicon.toml";

/// The folder beside it in which dialect files are found without being named.
pub const DIALECTS_FOLDER: &str = "dialects";

/// Files of application code above this size, in bytes, are not searched for
/// the names of templates.
const MAX_CODE: u64 = 1 << 20;

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
    /// The settings or a dialect file cannot be read.
    #[error("{path}:{source}")]
    Config {
        /// The file.
        path: PathBuf,
        /// The cause.
        source: ConfigError,
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
    /// The dialects among them that were learned from the site itself.
    pub learned: Vec<Learned>,
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
    Reader { folder: folder.to_owned(), ways: None, known: None }.read()
}

/// Reads a site again and again: what has not changed since the last time is not parsed again.
#[derive(Debug)]
pub struct Reader {
    folder: PathBuf,
    ways: Option<Ways>,
    known: Option<FxHashMap<String, Template>>,
}

/// How the files of a site are read.
#[derive(Debug)]
struct Ways {
    /// The settings, dialects and paths of files from which this was found out.
    from: u64,
    settings: Settings,
    dialects: Vec<Arc<Dialect>>,
    learned: Vec<Learned>,
}

impl Reader {
    /// Nothing is read yet.
    pub fn new(folder: &Path) -> Self {
        Self { folder: folder.to_owned(), ways: None, known: Some(FxHashMap::default()) }
    }

    /// Reads the site as it is now. Dialects are learned again if files come or go, or if the
    /// settings change.
    ///
    /// # Errors
    /// As for [`load`].
    pub fn read(&mut self) -> Result<Loaded, DiskError> {
        let folder = &self.folder;
        if !folder.is_dir() {
            return Err(DiskError::Refused(format!("{}: no such folder", folder.display())));
        }
        let (settings, dialects) = configuration(folder)?;
        let (files, problems) = read_files(folder, &settings, &dialects);
        let from = {
            let mut hasher = FxHasher::default();
            fs::read(folder.join(SETTINGS_FILE)).unwrap_or_default().hash(&mut hasher);
            dialects.iter().for_each(|dialect| dialect.text.hash(&mut hasher));
            files.iter().for_each(|file| file.path.hash(&mut hasher));
            hasher.finish()
        };
        let ways = match self.ways.take().filter(|ways| ways.from == from) {
            Some(ways) => ways,
            None => {
                self.known.iter_mut().for_each(FxHashMap::clear);
                Ways::find(from, &files, settings, dialects)
            }
        };
        let site = Site::read_again(files, &ways.dialects, &ways.settings, self.known.as_mut());
        let Ways { settings, dialects, learned, .. } = self.ways.insert(ways);
        Ok(Loaded {
            folder: self.folder.clone(),
            site,
            settings: settings.clone(),
            dialects: dialects.clone(),
            learned: learned.clone(),
            problems,
        })
    }
}

impl Ways {
    fn find(from: u64, files: &[SourceFile], mut settings: Settings, mut dialects: Vec<Arc<Dialect>>) -> Self {
        let learned = learn_unknown(files, &dialects);
        for learned in &learned {
            if let Ok(dialect) = Dialect::parse(&learned.text) {
                // One that extends another takes its place.
                dialects.retain(|known| known.name != dialect.name);
                dialects.insert(0, Arc::new(dialect));
            }
            settings.folders.extend(Settings::parse(&learned.settings).unwrap_or_default().folders);
        }
        Self { from, settings, dialects, learned }
    }
}

/// The style sheets of a site that are small enough to be carried along, by path.
pub fn style_sheets(folder: &Path) -> Vec<SourceFile> {
    const MOST_BYTES: u64 = 400_000;
    const MOST_FILES: usize = 100;
    let walk = WalkBuilder::new(folder).follow_links(false).require_git(false).sort_by_file_name(Ord::cmp).build();
    let is_small =
        |entry: &ignore::DirEntry| entry.metadata().is_ok_and(|data| data.is_file() && data.len() <= MOST_BYTES);
    walk.filter_map(Result::ok)
        .filter(|entry| entry.path().extension().is_some_and(|kind| kind == "css") && is_small(entry))
        .filter_map(|entry| {
            let path = slashed(entry.path().strip_prefix(folder).ok()?);
            Some(SourceFile::new(path, fs::read(entry.path()).ok()?))
        })
        .take(MOST_FILES)
        .collect()
}

/// The files of a site that may be templates or application code, and what could not be read.
fn read_files(folder: &Path, settings: &Settings, dialects: &[Arc<Dialect>]) -> (Vec<SourceFile>, Vec<Problem>) {
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
        let shown = slashed(relative);
        let is_template = dialects.iter().any(|dialect| dialect.fits(&shown));
        let is_read = is_template || (is_code(&entry, &shown) && !is_configuration(settings, &shown));
        if settings.ignore.fit(&shown) || !is_read {
            continue;
        }
        let problem = |message: &str| Problem { file: shown.clone(), at: None, message: message.into() };
        match entry.file_type() {
            Some(kind) if kind.is_symlink() => problems.push(problem("a symbolic link; not followed")),
            Some(kind) if !kind.is_file() => {}
            _ if relative.to_str().is_none() => problems.push(problem("its name is not UTF-8; left alone")),
            _ => match fs::read(entry.path()) {
                Ok(bytes) if !is_template && bytes.iter().take(1024).any(|&b| b == 0) => {}
                Ok(bytes) => files.push(SourceFile { path: shown, bytes }),
                Err(error) => problems.push(problem(&format!("cannot be read: {error}"))),
            },
        }
    }
    (files, problems)
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

fn read_if_there(folder: &Path, path: &str) -> Result<Option<Vec<u8>>, DiskError> {
    match fs::read(folder.join(path)) {
        Ok(bytes) => Ok(Some(bytes)),
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
        Err(error) => Err(DiskError::io(folder.join(path))(error)),
    }
}

/// The most files, and bytes of them, that are looked at to see whether there is anything to learn.
const GLANCE: usize = 300;
const GLANCE_BYTES: usize = 4 << 20;

/// Learns the dialects of files that no known dialect explains. Of a large site some files are
/// looked at first, spread evenly: most sites hold nothing unknown.
fn learn_unknown(files: &[SourceFile], dialects: &[Arc<Dialect>]) -> Vec<Learned> {
    let bytes: usize = files.iter().map(|file| file.bytes.len()).sum();
    let step = files.len().div_ceil(GLANCE).max(bytes.div_ceil(GLANCE_BYTES)).max(1);
    if step > 1 && learn(&files.iter().step_by(step).cloned().collect::<Vec<_>>(), dialects, &[]).is_empty() {
        return Vec::new();
    }
    learn(files, dialects, &[])
}

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

/// The files of a folder as they would be rendered: for [`learn`].
///
/// # Errors
/// If the folder cannot be read.
pub fn rendered_pages(folder: &Path) -> Result<Vec<SourceFile>, DiskError> {
    if !folder.is_dir() {
        return Err(DiskError::Refused(format!("{}: no such folder", folder.display())));
    }
    let mut files = Vec::new();
    let walk = WalkBuilder::new(folder).standard_filters(false).sort_by_file_name(Ord::cmp).build();
    for entry in walk.filter_map(Result::ok).filter(|entry| entry.path().is_file()) {
        let bytes = fs::read(entry.path()).map_err(DiskError::io(entry.path()))?;
        let relative = entry.path().strip_prefix(folder).unwrap_or(entry.path());
        files.push(SourceFile { path: slashed(relative), bytes });
    }
    Ok(files)
}

/// Learns what the dialects of a site do not explain, with the help of rendered pages if there are some.
///
/// # Errors
/// As for [`load`].
pub fn learn_site(folder: &Path, rendered: Option<&Path>) -> Result<Vec<Learned>, DiskError> {
    let rendered = rendered.map(rendered_pages).transpose()?.unwrap_or_default();
    let (settings, dialects) = configuration(folder)?;
    let (files, _) = read_files(folder, &settings, &dialects);
    Ok(learn(&files, &dialects, &rendered))
}

/// Whether a file tells how the site is read and is no part of it.
fn is_configuration(settings: &Settings, path: &str) -> bool {
    let in_folder = path.strip_prefix(DIALECTS_FOLDER).is_some_and(|rest| rest.starts_with('/'));
    path == SETTINGS_FILE || in_folder || settings.dialects.iter().any(|dialect| dialect == path)
}

/// Whether a file that is no template may be application code that names some.
fn is_code(entry: &ignore::DirEntry, path: &str) -> bool {
    const NEVER: [&str; 5] = ["css", "svg", "map", "md", "lock"];
    let ending = path.rsplit('/').next().and_then(|name| name.rsplit_once('.')).map_or("", |(_, ending)| ending);
    let is_small = entry.metadata().is_ok_and(|data| data.is_file() && data.len() <= MAX_CODE);
    !ending.is_empty() && !NEVER.contains(&ending) && is_small
}

/// The settings of a site and the dialects they name, before the built-in ones.
fn configuration(folder: &Path) -> Result<(Settings, Vec<Arc<Dialect>>), DiskError> {
    let path = folder.join(SETTINGS_FILE);
    let settings = match fs::read_to_string(&path) {
        Ok(text) => Settings::parse(&text).map_err(|source| DiskError::Config { path: path.clone(), source })?,
        Err(error) if error.kind() == io::ErrorKind::NotFound => Settings::default(),
        Err(error) => return Err(DiskError::io(path)(error)),
    };
    let mut files: Vec<PathBuf> = settings.dialects.iter().map(|name| folder.join(name)).collect();
    for path in dialect_files(&folder.join(DIALECTS_FOLDER))? {
        if !files.contains(&path) {
            files.push(path);
        }
    }
    let mut dialects: Vec<Arc<Dialect>> = Vec::new();
    for path in files {
        let text = fs::read_to_string(&path).map_err(DiskError::io(&path))?;
        let dialect = Dialect::parse(&text).map_err(|source| DiskError::Config { path: path.clone(), source })?;
        if dialects.iter().any(|known| known.name == dialect.name) {
            let message = format!("{}: there is another dialect `{}` already", path.display(), dialect.name);
            return Err(DiskError::Refused(message));
        }
        dialects.push(Arc::new(dialect));
    }
    // A site may say for itself what a built-in name means.
    let built_in = dialect::builtin().iter().filter(|known| !dialects.iter().any(|own| own.name == known.name));
    let built_in: Vec<_> = built_in.cloned().collect();
    dialects.extend(built_in);
    Ok((settings, dialects))
}

/// The dialect files of a folder, sorted; none if there is no such folder.
fn dialect_files(folder: &Path) -> Result<Vec<PathBuf>, DiskError> {
    let entries = match fs::read_dir(folder) {
        Ok(entries) => entries,
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Vec::new()),
        Err(error) => return Err(DiskError::io(folder)(error)),
    };
    let mut files = Vec::new();
    for entry in entries {
        let path = entry.map_err(DiskError::io(folder))?.path();
        if path.extension().is_some_and(|extension| extension == "toml") {
            files.push(path);
        }
    }
    files.sort();
    Ok(files)
}

/// What was put together.
#[derive(Clone, Debug, Serialize, JsonSchema)]
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
