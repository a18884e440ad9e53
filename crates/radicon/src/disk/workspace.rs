//! A site in a folder: read, proposed for, written.

use std::path::Path;

use super::{Adopted, DiskError, Loaded, Recovery, Undone, adopt, load, recover, undo};
use crate::propose::{Proposal, ProposeError, ProposeOptions, propose};
use crate::site::{Settings, Site};

/// A site in a folder, with its settings.
#[derive(Debug)]
pub struct Workspace {
    loaded: Loaded,
    recovery: Recovery,
}

impl Workspace {
    /// Reads the site in a folder, with its `radicon.toml` if there is one. What an interrupted run left behind is
    /// finished or removed first.
    ///
    /// # Errors
    /// If the folder, its settings or a dialect file cannot be read, or another run is writing to the site. Single
    /// templates that cannot be read are among the problems of [`Workspace::loaded`].
    pub fn open(folder: impl AsRef<Path>) -> Result<Self, DiskError> {
        let recovery = recover(folder.as_ref())?;
        Ok(Self { loaded: load(folder.as_ref())?, recovery })
    }

    /// The recovery of an interrupted run.
    pub fn recovery(&self) -> Recovery {
        self.recovery
    }

    /// The site.
    pub fn site(&self) -> &Site {
        &self.loaded.site
    }

    /// Its settings.
    pub fn settings(&self) -> &Settings {
        &self.loaded.settings
    }

    /// The site with all that was met when it was read.
    pub fn loaded(&self) -> &Loaded {
        &self.loaded
    }

    /// The same, for good.
    pub fn into_loaded(self) -> Loaded {
        self.loaded
    }

    /// A proposal as the settings ask for it. For other options there is [`propose`].
    ///
    /// # Errors
    /// As for [`propose`].
    pub fn propose(&self) -> Result<Proposal, ProposeError> {
        propose(self.site(), &ProposeOptions::from(&self.settings().propose))
    }

    /// Writes a proposal for this site, all files or none. [`Workspace::site`] is the site as it was read.
    ///
    /// # Errors
    /// If the proposal is not proven without assumptions, a file changed since it was read, or one cannot be written;
    /// then nothing was written.
    pub fn adopt(&self, proposal: &Proposal) -> Result<Adopted, DiskError> {
        if !proposal.is_proven() {
            return Err(DiskError::Refused("the proposal is not proven; nothing was written".into()));
        }
        adopt(&self.loaded.folder, "adopt", &proposal.changes(self.site()))
    }

    /// Undoes the last step that was written into the folder. `None` if there is none.
    ///
    /// # Errors
    /// As for [`undo`](fn@super::undo).
    pub fn undo(&self) -> Result<Option<Undone>, DiskError> {
        undo(&self.loaded.folder)
    }
}
