//! Finding and reading the site that a command is about, and the options of a proposal.

use std::path::{Path, PathBuf};

use anyhow::{Context, Result, bail};
use radicon::ProposeOptions;
use radicon::disk::{self, Loaded, Recovery, State, Workspace};
use radicon::learn::Confidence;
use radicon::propose::{Choice, Goal};
use radicon::site::{Site, UnreadFiles};

use super::lookup::{directory, find_dialect, has_directory};
use crate::arguments::{Arguments, Chosen, How};
use crate::output::{busy, count, note};

pub fn site_folder(arguments: &Arguments) -> Result<PathBuf> {
    match &arguments.site {
        Some(folder) => Ok(folder.clone()),
        None => {
            let here = std::env::current_dir().context("the current directory cannot be read")?;
            let found = disk::find_site(&here);
            // As its user would write it.
            Ok(if found == here { PathBuf::from(".") } else { found })
        }
    }
}

/// The site's state: journal, kept proposal, undo steps.
pub fn state(arguments: &Arguments) -> Result<State> {
    let folder = site_folder(arguments)?;
    if !folder.is_dir() {
        bail!("{}: no such directory", folder.display());
    }
    Ok(match &arguments.state {
        Some(base) => State::beneath(&folder, base)?,
        None => State::of(&folder)?,
    })
}

/// Reads the site, finishing first what an interrupted run left behind.
pub fn load(arguments: &Arguments) -> Result<Loaded> {
    let folder = site_folder(arguments)?;
    let busy = busy("reading the site");
    // Without a directory for state nothing can have been interrupted.
    let Ok(state) = state(arguments) else {
        let loaded = disk::load(&folder)?;
        drop(busy);
        return with_templates(loaded);
    };
    let workspace = Workspace::open_with(&folder, state)?;
    drop(busy);
    match workspace.recovery() {
        Recovery::Clean => {}
        Recovery::RolledBack => note("note: an interrupted run was undone; every file is as it was before"),
        Recovery::RolledForward => note("note: an interrupted run was finished"),
    }
    let (loaded, state) = workspace.into_parts();
    if state.is_first_sight_of_old_state() {
        note(&format!(
            "note: {} is from an earlier version, and no longer read; it can be removed",
            folder.join(disk::OLD_STATE_FOLDER).display()
        ));
    }
    with_templates(loaded)
}

/// Reads another site, which is not to be written.
pub fn load_folder(folder: &Path) -> Result<Loaded> {
    let busy = busy("reading the site");
    let loaded = disk::load(folder)?;
    drop(busy);
    with_templates(loaded)
}

/// A site that must hold at least one template.
fn with_templates(loaded: Loaded) -> Result<Loaded> {
    notice(&loaded);
    if loaded.site.templates.is_empty() {
        let problems: Vec<String> = loaded.problems.iter().map(ToString::to_string).collect();
        let why: String = unread(&loaded.site).into_iter().chain(problems).map(|line| format!("\n  {line}")).collect();
        let (kinds, folder) = (radicon::dialect::plain().files.patterns().join(", "), loaded.folder.display());
        bail!("no templates in {folder}; looked for {kinds} in files that no ignore file excludes{why}");
    }
    Ok(loaded)
}

/// The files that look like templates but are not read, a line for each suffix, and what to do about it.
pub fn unread(site: &Site) -> Vec<String> {
    let line = |unread: &UnreadFiles| {
        let UnreadFiles { suffix, files, first } = unread;
        format!(
            "{files} {suffix} files look like templates, but are in no known dialect, so they are not read: {first}, …"
        )
    };
    let mut lines: Vec<String> = site.unread().iter().map(line).collect();
    if !lines.is_empty() {
        lines.push("A file in dialects/ describes their tags; `radicon dialect show margin` prints an example".into());
    }
    lines
}

/// Says that a site is read in dialects that nobody wrote.
fn notice(loaded: &Loaded) {
    for learned in &loaded.learned {
        let doubts = learned.forms.iter().filter(|form| form.confidence != Confidence::Sure).count();
        let files = learned.files.join(" ");
        let what = match &learned.extends {
            Some(known) => format!("{files}: tags unknown to {known}; inferred"),
            None => format!("{files}: in no known dialect; inferred"),
        };
        let doubts = if doubts == 0 { String::new() } else { format!(" ({doubts} uncertain)") };
        note(&format!(
            "note: {what} {}{doubts}. To see them: radicon dialect learn; to save them: radicon dialect learn --write",
            count(learned.forms.len(), "form")
        ));
    }
}

/// How to propose: by the command line, else by the settings.
pub fn options(loaded: &Loaded, how: &How, chosen: &Chosen) -> Result<ProposeOptions> {
    let dialect = how.dialect.as_ref().map(|name| find_dialect(loaded, name)).transpose()?;
    let set = ProposeOptions::from(&loaded.settings.propose);
    let goal = match (how.small, how.tidy) {
        (true, _) => Goal::Smallest,
        (_, true) => Goal::Fewest,
        _ => set.goal,
    };
    let (folders, only): (Vec<&String>, Vec<&String>) =
        chosen.only.iter().partition(|wanted| has_directory(loaded, wanted));
    let named = |names: &[&String]| names.iter().map(|name| (*name).clone()).collect();
    let choice = match (&only[..], &chosen.except[..]) {
        ([], []) => Choice::All,
        ([], except) => Choice::Except(except.to_vec()),
        (only, _) => Choice::Only(named(only)),
    };
    Ok(ProposeOptions {
        strength: how.strength.into(),
        dialect,
        goal,
        block_price: how.block_price.or(set.block_price.filter(|_| goal == set.goal)),
        levels: how.levels.map_or(set.levels, usize::from),
        min_saving: how.min_saving.or(set.min_saving),
        partials: how.partials.map_or(set.partials, Into::into),
        heal: how.heal,
        only_in: folders.into_iter().map(|folder| directory(folder)).collect(),
        choice,
        ..set
    })
}
