//! A site in a folder: read, proposed for, written.

use std::path::Path;

use super::{Adopted, DiskError, Loaded, Recovery, State, Undone, adopt, load, recover, undo};
use crate::propose::{Proposal, ProposeError, ProposeOptions, propose};
use crate::site::{Settings, Site};

/// A site in a folder, with its settings.
#[derive(Debug)]
pub struct Workspace {
    state: State,
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
        let folder = folder.as_ref();
        if !folder.is_dir() {
            return Err(DiskError::Refused(format!("{}: no such directory", folder.display())));
        }
        Self::open_with(folder, State::of(folder)?)
    }

    /// The same, with the site's state elsewhere.
    ///
    /// # Errors
    /// As for [`Workspace::open`].
    pub fn open_with(folder: impl AsRef<Path>, state: State) -> Result<Self, DiskError> {
        let recovery = recover(&state)?;
        Ok(Self { loaded: load(folder.as_ref())?, state, recovery })
    }

    /// The site's state: journal, kept proposal, undo steps.
    pub fn state(&self) -> &State {
        &self.state
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

    /// The same for good, with the site's state.
    pub fn into_parts(self) -> (Loaded, State) {
        (self.loaded, self.state)
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
        let changes = proposal.changes(self.site());
        self.loaded.refuse_unread(&changes)?;
        adopt(&self.state, "adopt", &changes)
    }

    /// Undoes the last step that was written into the folder. `None` if there is none.
    ///
    /// # Errors
    /// As for [`undo`](fn@super::undo).
    pub fn undo(&self) -> Result<Option<Undone>, DiskError> {
        undo(&self.state)
    }
}
