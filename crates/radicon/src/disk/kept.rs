//! The proposal that was shown last: what it writes is kept until it is adopted.

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io::{BufWriter, Write};

use serde::{Deserialize, Serialize};

use super::journal::{clear, write_synced};
use super::{DiskError, Loaded, State};
use crate::propose::{Proposal, ProposedChange};
use crate::prove::Assumption;
use crate::site::Change;

/// A proposal that was kept, ready to be written.
#[derive(Clone, Debug)]
pub struct Kept {
    /// The changes that it writes.
    pub changes: Vec<Change>,
    /// The changes that it consists of.
    pub proposed: Vec<ProposedChange>,
    /// The assumptions that its proof rests on.
    pub assumptions: Vec<Assumption>,
}

/// Beside it are the new contents, one after the other.
#[derive(Serialize, Deserialize)]
struct Index {
    /// The path of each file, and its bytes.
    files: Vec<(String, usize)>,
    proposed: Vec<ProposedChange>,
    assumptions: Vec<Assumption>,
    /// The hash of each file that was read.
    sources: BTreeMap<String, String>,
}

const FOLDER: &str = "proposal";
const INDEX: &str = "index.json";
const CONTENTS: &str = "contents";

/// Keeps what a proposal writes in the site's state folder, in the place of what was kept there before; nothing if
/// there is nothing to write.
///
/// # Errors
/// If that cannot be written, or another run is at work.
pub fn keep(state: &State, loaded: &Loaded, proposal: &Proposal) -> Result<(), DiskError> {
    let kept = state.path(FOLDER);
    if proposal.files.is_empty() && !kept.exists() {
        return Ok(());
    }
    let _lock = state.lock()?;
    clear(&kept)?;
    if proposal.files.is_empty() {
        return Ok(());
    }
    fs::create_dir_all(&kept).map_err(DiskError::io(&kept))?;
    let path = kept.join(CONTENTS);
    let mut contents = BufWriter::new(File::create(&path).map_err(DiskError::io(&path))?);
    let written = proposal.files.iter().try_for_each(|file| contents.write_all(&file.bytes));
    written.and_then(|()| contents.flush()).map_err(DiskError::io(&path))?;
    let index = Index {
        files: proposal.files.iter().map(|file| (file.path.clone(), file.bytes.len())).collect(),
        proposed: proposal.changes.clone(),
        assumptions: proposal.proof.assumptions.clone(),
        sources: loaded.sources.clone(),
    };
    let bytes = serde_json::to_vec(&index).map_err(|error| DiskError::Refused(error.to_string()))?;
    write_synced(&kept.join(INDEX), &bytes)
}

/// The proposal that was kept; `None` if none is.
///
/// # Errors
/// If a file of the site has changed since, or what was kept cannot be read.
pub fn kept(state: &State, loaded: &Loaded) -> Result<Option<Kept>, DiskError> {
    let (kept, site) = (state.path(FOLDER), &loaded.site);
    let path = kept.join(INDEX);
    if !path.exists() {
        return Ok(None);
    }
    let again = "; run radicon propose again";
    let bytes = fs::read(&path).map_err(DiskError::io(&path))?;
    let index: Index = serde_json::from_slice(&bytes)
        .map_err(|error| DiskError::Refused(format!("the saved proposal cannot be read: {error}{again}")))?;
    let now = &loaded.sources;
    let differs = |path: &&String| index.sources.get(*path) != now.get(*path);
    if let Some(path) = index.sources.keys().chain(now.keys()).find(differs) {
        return Err(DiskError::Refused(format!("{path} has changed since radicon propose{again}")));
    }
    let path = kept.join(CONTENTS);
    let contents = fs::read(&path).map_err(DiskError::io(&path))?;
    let mut rest = &contents[..];
    let mut changes = Vec::with_capacity(index.files.len());
    for (path, length) in index.files {
        let Some((new, behind)) = rest.split_at_checked(length) else {
            return Err(DiskError::Refused(format!("the saved proposal is cut off{again}")));
        };
        rest = behind;
        let old = site.find(&path).map(|id| site.get(id).source.to_vec());
        changes.push(Change { path, old, new: Some(new.to_vec()) });
    }
    Ok(Some(Kept { changes, proposed: index.proposed, assumptions: index.assumptions }))
}

/// Lets go of what was kept.
///
/// # Errors
/// If it cannot be removed, or another run is at work.
pub fn forget(state: &State) -> Result<(), DiskError> {
    let kept = state.path(FOLDER);
    if !kept.exists() {
        return Ok(());
    }
    let _lock = state.lock()?;
    clear(&kept)
}
