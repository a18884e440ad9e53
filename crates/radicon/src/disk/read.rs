//! Reading a site: its settings, its dialects, and its files.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::hash::{Hash, Hasher};
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use ignore::WalkBuilder;
use rayon::prelude::*;
use rustc_hash::FxHasher;
use xxhash_rust::xxh3::xxh3_128;

use super::{DIALECTS_FOLDER, DiskError, Loaded, REPORT_MARK, SETTINGS_FILE, is_configuration, slashed};
use crate::check::{RULES, refuse_unknown_rules};
use crate::dialect::{self, Dialect};
use crate::learn::{AsKnown, Learned, learn_from, may_learn_like};
use crate::site::{self, FileNames, Memory, Problem, ProblemKind, Settings, Site, SourceFile};

/// Files of application code above this size, in bytes, are not searched for
/// the names of templates.
const MAX_CODE: u64 = 1 << 20;

/// The site's folder: the nearest one upwards from `start` with a
/// `radicon.toml`, else `start` itself.
pub fn find_site(start: &Path) -> PathBuf {
    start.ancestors().find(|folder| folder.join(SETTINGS_FILE).is_file()).unwrap_or(start).to_owned()
}

/// Reads a site. Hidden files, files that ignore files exclude, symbolic links, and
/// reports about sites ([`REPORT_MARK`]) are left out.
///
/// # Errors
/// If the folder or `radicon.toml` or a dialect file it names cannot be read.
/// Single templates that cannot be read are among the [`Loaded::problems`].
pub fn load(folder: &Path) -> Result<Loaded, DiskError> {
    Reader { memory: None, ..Reader::new(folder) }.read()
}

/// Reads a site again and again: what has not changed since the last time is not parsed again.
#[derive(Debug)]
pub struct Reader {
    folder: PathBuf,
    ways: Option<Ways>,
    memory: Option<Memory>,
    unsaved: BTreeMap<String, Vec<u8>>,
    /// The templates whose unsaved text has changed since the site was read.
    retyped: BTreeSet<String>,
    /// The files on the disk, and those that could not be read there.
    saved: Option<(Vec<SourceFile>, Vec<Problem>)>,
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
        Self {
            folder: folder.to_owned(),
            ways: None,
            memory: Some(Memory::default()),
            unsaved: BTreeMap::new(),
            retyped: BTreeSet::new(),
            saved: None,
        }
    }

    /// The same for an editor: the files are kept, for [`Reader::update`].
    pub fn for_editor(folder: &Path) -> Self {
        Self { saved: Some(Default::default()), ..Self::new(folder) }
    }

    /// Sets the text of a template as an editor shows it, by its path in the site: it is read instead of the file.
    /// `None` goes back to the file.
    pub fn unsaved(&mut self, path: &str, text: Option<Vec<u8>>) {
        self.retyped.insert(path.to_owned());
        match text {
            Some(text) => drop(self.unsaved.insert(path.to_owned(), text)),
            None => drop(self.unsaved.remove(path)),
        }
    }

    /// Reads the site as it is now. Dialects are learned again if files come or go, or if the
    /// settings change.
    ///
    /// # Errors
    /// As for [`load`].
    pub fn read(&mut self) -> Result<Loaded, DiskError> {
        let (settings, dialects) = self.configuration()?;
        let saved = read_files(&self.folder, &settings, &dialects);
        if self.saved.is_some() {
            self.saved = Some(saved.clone());
        }
        self.read_from(saved, settings, dialects)
    }

    /// Brings what this reader read last up to date with what is unsaved now, while the files are as they were then:
    /// for an editor, which tells when they change. Where a text says nothing new about other templates, nothing else
    /// is read.
    ///
    /// # Errors
    /// As for [`load`].
    pub fn update(&mut self, loaded: &mut Loaded) -> Result<(), DiskError> {
        let retyped = std::mem::take(&mut self.retyped);
        if retyped.iter().all(|path| self.take_text(loaded, path) == Some(true)) {
            return Ok(());
        }
        // Until they are read.
        self.retyped = retyped;
        let (settings, dialects) = self.configuration()?;
        let saved = self.saved.get_or_insert_with(|| read_files(&self.folder, &settings, &dialects)).clone();
        *loaded = self.read_from(saved, settings, dialects)?;
        Ok(())
    }

    /// Exchanges the text of one template, if that changes no other; `None` if it is not one that was read.
    fn take_text(&mut self, loaded: &mut Loaded, path: &str) -> Option<bool> {
        let (files, _) = self.saved.as_ref()?;
        let saved = files.iter().find(|file| file.path == *path)?;
        let text = self.unsaved.get(path).unwrap_or(&saved.bytes);
        let known = self.memory.as_mut()?.template(path)?;
        let names = FileNames::of(files.iter().map(|file| file.path.as_str()));
        let dialects = site::Dialects { all: &self.ways.as_ref()?.dialects, names };
        let id = loaded.site.find(path)?;
        Some(loaded.site.take_text(id, text, known, &dialects))
    }

    fn configuration(&self) -> Result<(Settings, Vec<Arc<Dialect>>), DiskError> {
        if !self.folder.is_dir() {
            return Err(DiskError::Refused(format!("{}: no such directory", self.folder.display())));
        }
        configuration(&self.folder)
    }

    fn read_from(
        &mut self,
        (mut files, mut problems): (Vec<SourceFile>, Vec<Problem>),
        settings: Settings,
        dialects: Vec<Arc<Dialect>>,
    ) -> Result<Loaded, DiskError> {
        let folder = &self.folder;
        for (path, text) in &self.unsaved {
            match files.iter_mut().find(|file| file.path == *path) {
                Some(file) => file.bytes.clone_from(text),
                // A file that was never saved.
                None if dialects.iter().any(|dialect| dialect.fits(path)) => {
                    files.push(SourceFile::new(path.clone(), text.clone()));
                }
                None => {}
            }
        }
        let sources = sources(folder, &files, &settings);
        let from = {
            let mut hasher = FxHasher::default();
            fs::read(folder.join(SETTINGS_FILE)).unwrap_or_default().hash(&mut hasher);
            dialects.iter().for_each(|dialect| dialect.text.hash(&mut hasher));
            files.iter().for_each(|file| file.path.hash(&mut hasher));
            hasher.finish()
        };
        let (ways, read) = match self.ways.take().filter(|ways| ways.from == from) {
            Some(ways) => (ways, None),
            None => Ways::find(from, &files, settings, dialects, &mut self.memory),
        };
        let site =
            read.unwrap_or_else(|| Site::read_again(files, &ways.dialects, &ways.settings, self.memory.as_mut()));
        self.retyped.clear();
        let Ways { settings, dialects, learned, .. } = self.ways.insert(ways);
        let gone = settings.roots.iter().flatten().filter(|root| !self.folder.join(root).is_dir());
        problems.extend(gone.map(|root| Problem {
            file: SETTINGS_FILE.to_owned(),
            at: None,
            kind: ProblemKind::Reference,
            message: format!("roots: there is no directory `{root}`"),
        }));
        let unknown = settings.rules.iter().filter(|name| !dialects.iter().any(|dialect| dialect.name == **name));
        problems.extend(unknown.map(|name| Problem {
            file: SETTINGS_FILE.to_owned(),
            at: None,
            kind: ProblemKind::Reference,
            message: format!("[rules.{name}]: there is no dialect `{name}`"),
        }));
        Ok(Loaded {
            folder: self.folder.clone(),
            site,
            settings: settings.clone(),
            dialects: dialects.clone(),
            learned: learned.clone(),
            problems,
            sources,
        })
    }
}

impl Ways {
    /// Finds out how files are read; with the site, if it was read on the way.
    fn find(
        from: u64,
        files: &[SourceFile],
        settings: Settings,
        dialects: Vec<Arc<Dialect>>,
        memory: &mut Option<Memory>,
    ) -> (Self, Option<Site>) {
        memory.iter_mut().for_each(Memory::forget_templates);
        let mut ways = Self { from, settings, dialects, learned: Vec::new() };
        if !ways.may_learn(files) {
            return (ways, None);
        }
        let site = Site::read_again(files.to_vec(), &ways.dialects, &ways.settings, memory.as_mut());
        ways.learned = learn_from(&AsKnown { files, dialects: &ways.dialects, site: &site }, &[]);
        if ways.learned.is_empty() {
            return (ways, Some(site));
        }
        for learned in &ways.learned {
            if let Ok(dialect) = learned.dialect().and_then(|dialect| ways.settings.with_rules(&dialect)) {
                // One that extends another takes its place.
                ways.dialects.retain(|known| known.name != dialect.name);
                ways.dialects.insert(0, Arc::new(dialect));
            }
            ways.settings.folders.extend(Settings::parse(&learned.settings).unwrap_or_default().folders);
        }
        memory.iter_mut().for_each(Memory::forget_templates);
        (ways, None)
    }

    /// Whether there may be something to learn. Of a large site some files are looked at, spread
    /// evenly: most sites hold nothing unknown.
    fn may_learn(&self, files: &[SourceFile]) -> bool {
        let bytes: usize = files.iter().map(|file| file.bytes.len()).sum();
        let step = files.len().div_ceil(GLANCE).max(bytes.div_ceil(GLANCE_BYTES)).max(1);
        if step == 1 {
            return true;
        }
        let some: Vec<SourceFile> = files.iter().step_by(step).cloned().collect();
        let site = Site::read(some.clone(), &self.dialects, &self.settings);
        may_learn_like(&AsKnown { files: &some, dialects: &self.dialects, site: &site })
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
                problems.push(Problem {
                    file: String::new(),
                    at: None,
                    kind: ProblemKind::File,
                    message: error.to_string(),
                });
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
        let problem =
            |message: &str| Problem { file: shown.clone(), at: None, kind: ProblemKind::File, message: message.into() };
        match entry.file_type() {
            Some(kind) if kind.is_symlink() => problems.push(problem("a symbolic link; not followed")),
            Some(kind) if !kind.is_file() => {}
            _ if relative.to_str().is_none() => problems.push(problem("its name is not UTF-8; left alone")),
            _ => match fs::read(entry.path()) {
                Ok(bytes) if !is_template && bytes.iter().take(1024).any(|&b| b == 0) => {}
                Ok(bytes) if is_report(&bytes) => {}
                Ok(bytes) => files.push(SourceFile { path: shown, bytes }),
                Err(error) => problems.push(problem(&format!("cannot be read: {error}"))),
            },
        }
    }
    (files, problems)
}

/// Whether a file is a report about a site.
fn is_report(bytes: &[u8]) -> bool {
    memchr::memmem::find(&bytes[..bytes.len().min(512)], REPORT_MARK.as_bytes()).is_some()
}

/// The most files, and bytes of them, that are looked at to see whether there is anything to learn.
const GLANCE: usize = 300;

const GLANCE_BYTES: usize = 4 << 20;

/// The files of a folder as they would be rendered: for [`learn`](crate::learn::learn()).
///
/// # Errors
/// If the folder cannot be read.
pub fn rendered_pages(folder: &Path) -> Result<Vec<SourceFile>, DiskError> {
    if !folder.is_dir() {
        return Err(DiskError::Refused(format!("{}: no such directory", folder.display())));
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
    let site = Site::read(files.clone(), &dialects, &settings);
    Ok(learn_from(&AsKnown { files: &files, dialects: &dialects, site: &site }, &rendered))
}

/// Whether a file that is no template may be application code that names some.
fn is_code(entry: &ignore::DirEntry, path: &str) -> bool {
    // Among them what Radicon writes: a patch of the site is no part of it.
    const NEVER: [&str; 8] = ["css", "svg", "map", "md", "lock", "patch", "diff", "sarif"];
    let ending = path.rsplit('/').next().and_then(|name| name.rsplit_once('.')).map_or("", |(_, ending)| ending);
    let is_small = entry.metadata().is_ok_and(|data| data.is_file() && data.len() <= MAX_CODE);
    !NEVER.contains(&ending) && is_small
}

/// The hashes of all that was read: what is found in a site, and what is proven of it, rests on them.
fn sources(folder: &Path, files: &[SourceFile], settings: &Settings) -> BTreeMap<String, String> {
    let hash = |bytes: &[u8]| format!("{:032x}", xxh3_128(bytes));
    let files = files.par_iter().map(|file| (file.path.clone(), hash(&file.bytes)));
    let mut found: BTreeMap<String, String> = files.collect();
    let dialects = dialect_paths(folder, settings).unwrap_or_default();
    for path in dialects.into_iter().chain([folder.join(SETTINGS_FILE)]) {
        if let Ok(bytes) = fs::read(&path) {
            found.insert(slashed(path.strip_prefix(folder).unwrap_or(&path)), hash(&bytes));
        }
    }
    found
}

/// The dialect files that settings name, wherever they are, and those beside the settings.
fn dialect_paths(folder: &Path, settings: &Settings) -> Result<Vec<PathBuf>, DiskError> {
    let mut files: Vec<PathBuf> = settings.dialects.iter().map(|name| folder.join(name)).collect();
    for path in dialect_files(&folder.join(DIALECTS_FOLDER))? {
        if !files.contains(&path) {
            files.push(path);
        }
    }
    Ok(files)
}

/// The settings of a site and the dialects they name, before the built-in ones.
fn configuration(folder: &Path) -> Result<(Settings, Vec<Arc<Dialect>>), DiskError> {
    let path = folder.join(SETTINGS_FILE);
    let settings = match fs::read_to_string(&path) {
        Ok(text) => {
            let read = Settings::parse(&text).and_then(|read| refuse_unknown_rules(&read, RULES).map(|()| read));
            read.map_err(|source| DiskError::Config { path: path.clone(), source })?
        }
        Err(error) if error.kind() == io::ErrorKind::NotFound => Settings::default(),
        Err(error) => return Err(DiskError::io(path)(error)),
    };
    let mut dialects: Vec<Arc<Dialect>> = Vec::new();
    for path in dialect_paths(folder, &settings)? {
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
    let with_rules = |source| DiskError::Config { path: folder.join(SETTINGS_FILE), source };
    for dialect in dialects.iter_mut().filter(|dialect| settings.rules.contains(&dialect.name)) {
        *dialect = Arc::new(settings.with_rules(dialect).map_err(with_rules)?);
    }
    Ok((settings, dialects))
}

/// The dialect files of a folder, sorted; none if there is no such directory.
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
