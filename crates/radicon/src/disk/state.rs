//! What belongs to a site and is no part of it: journal, kept proposal, and undo steps.

use std::fs::{self, File};
use std::path::{Path, PathBuf};

use etcetera::BaseStrategy;
use xxhash_rust::xxh3::xxh3_64;

use super::DiskError;

/// The folder in a site where earlier versions kept its state. It is never read.
pub const OLD_STATE_FOLDER: &str = ".radicon";

/// The variable that names the folder for the state of all sites.
pub const STATE_VARIABLE: &str = "RADICON_STATE";

/// A site in a folder, and the folder for its state. The state lies outside of the site, with the user's own files,
/// one folder a site: nothing that comes with a site is taken for what Radicon wrote.
#[derive(Clone, Debug)]
pub struct State {
    /// The site's folder, without links.
    pub(super) site: PathBuf,
    /// The folder for its state; it may not be there yet.
    folder: PathBuf,
}

impl State {
    /// The state of the site in a folder, beneath the folder that the variable [`STATE_VARIABLE`] names, else in the
    /// user's folder for state.
    ///
    /// # Errors
    /// If the site's folder is not there, or there is no folder for state.
    pub fn of(site: &Path) -> Result<Self, DiskError> {
        if let Some(base) = std::env::var_os(STATE_VARIABLE).filter(|base| !base.is_empty()) {
            return Self::beneath(site, Path::new(&base));
        }
        let user = etcetera::choose_base_strategy().map_err(|error| {
            DiskError::Refused(format!("there is no directory for state ({error}); name one with {STATE_VARIABLE}"))
        })?;
        Self::beneath(site, &user.state_dir().unwrap_or_else(|| user.data_dir()).join("radicon"))
    }

    /// The same beneath a folder for the state of all sites.
    ///
    /// # Errors
    /// If the site's folder is not there.
    pub fn beneath(site: &Path, base: &Path) -> Result<Self, DiskError> {
        let site = site.canonicalize().map_err(DiskError::io(site))?;
        let base = std::path::absolute(base).map_err(DiskError::io(base))?;
        let hash = xxh3_64(site.as_os_str().as_encoded_bytes());
        let name = site.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
        let name: String = name.chars().filter(|c| c.is_alphanumeric() || matches!(c, '-' | '_')).take(40).collect();
        let folder = base.join(format!("{name}-{hash:016x}"));
        Ok(Self { site, folder })
    }

    /// The folder for the site's state.
    pub fn folder(&self) -> &Path {
        &self.folder
    }

    /// A path in the site's state.
    pub(super) fn path(&self, name: &str) -> PathBuf {
        self.folder.join(name)
    }

    /// Makes the folder for the site's state; only its user may read it.
    pub(super) fn make(&self) -> Result<(), DiskError> {
        let mut builder = fs::DirBuilder::new();
        builder.recursive(true);
        #[cfg(unix)]
        std::os::unix::fs::DirBuilderExt::mode(&mut builder, 0o700);
        builder.create(&self.folder).map_err(DiskError::io(&self.folder))
    }

    /// Whether the site has a folder of an earlier version, and this is the first time that somebody asks.
    pub fn is_first_sight_of_old_state(&self) -> bool {
        let mark = self.path("old-state-mentioned");
        let is_first = self.site.join(OLD_STATE_FOLDER).is_dir() && !mark.exists();
        if is_first && self.make().is_ok() {
            let _ = File::create_new(&mark);
        }
        is_first
    }

    /// Holds the site against other runs while the value lives.
    pub(super) fn lock(&self) -> Result<Lock, DiskError> {
        self.make()?;
        let path = self.path("lock");
        let file = File::options().create(true).truncate(false).write(true).open(&path);
        let file = file.map_err(DiskError::io(&path))?;
        match file.try_lock() {
            Ok(()) => Ok(Lock { _file: file }),
            Err(fs::TryLockError::WouldBlock) => {
                Err(DiskError::Refused("another run is writing to this site; wait for it to end".into()))
            }
            Err(fs::TryLockError::Error(error)) => Err(DiskError::io(&path)(error)),
        }
    }
}

/// Holds a site against other runs while it lives.
#[derive(Debug)]
pub(super) struct Lock {
    _file: File,
}
