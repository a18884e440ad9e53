//! One command, one file: each calls the library and shows the value it gives.

mod adopt;
mod assumptions;
mod chain;
mod check;
mod demo;
mod dialect;
mod explain;
mod flatten;
mod learn;
mod manual;
mod propose;
mod prove;
pub mod repeats;
mod report;
mod sarif;
mod step;
mod survey;
mod translate;
mod watch;

use std::io::Write;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use anyhow::{Context, Result, bail};
use radicon::dialect::Dialect;
use radicon::disk::{self, Adopted, Loaded, Recovery};
use radicon::{Assumption, Change, Goal, Options, Problem, SourceFile, text};
use serde::Serialize;

use crate::arguments::{Allow, Arguments, Chosen, Command, Format, How};
use crate::output::{BAD, FAINT, PLAIN, busy, count, name_site};

/// Runs a command; gives the exit code.
pub fn run(arguments: &Arguments) -> Result<u8> {
    if let Some(site) = &arguments.site {
        name_site(site);
    }
    match &arguments.command {
        Command::Survey => survey::run(arguments),
        Command::Chain { block: Some(block), .. } => chain::block(arguments, block),
        Command::Chain { page, .. } => chain::run(arguments, page.as_deref().unwrap_or_default()),
        Command::Flatten { into: Some(into), .. } => flatten::all(arguments, into),
        Command::Flatten { page, origins, source_map, .. } => {
            flatten::run(arguments, page.as_deref().unwrap_or_default(), *origins, source_map.as_deref())
        }
        Command::Dialect(command) => dialect::run(arguments, command),
        Command::Repeats(repeat) => repeats::run(arguments, repeat),
        Command::Propose(wanted) => propose::run(arguments, wanted),
        Command::Prove { old, new, strength, watch } => {
            let wanted = prove::Wanted { old, new: new.as_deref(), weakest: (*strength).into() };
            if *watch { prove::watch(arguments, &wanted) } else { prove::run(arguments, &wanted) }
        }
        Command::Check(wanted) => match &wanted.explain {
            Some(rule) => check::explain(arguments, rule),
            None if wanted.watch => check::watch(arguments, wanted),
            None => check::run(arguments, wanted),
        },
        Command::Step { step, write, allow } => step::run(arguments, step, write.then_some(*allow)),
        Command::Adopt { undo: true, .. } => adopt::undo(arguments),
        Command::Adopt { how, chosen, allow, .. } => adopt::run(arguments, how, chosen, *allow),
        Command::Translate { files, to, into, partly } => {
            translate::run(arguments, files, to, into.as_deref(), *partly)
        }
        Command::Report { out } => report::run(arguments, out.as_deref()),
        Command::Demo { dir } => demo::run(arguments, dir),
        Command::Completions { shell } => manual::completions(*shell),
        Command::Manual { dir } => manual::pages(dir),
    }
}

/// Standard output, with colours only on a terminal.
fn out() -> impl Write {
    anstream::stdout().lock()
}

fn site_folder(arguments: &Arguments) -> Result<PathBuf> {
    match &arguments.site {
        Some(folder) => Ok(folder.clone()),
        None => {
            let here = std::env::current_dir().context("the current folder cannot be read")?;
            let found = disk::find_site(&here);
            // As its user would write it.
            Ok(if found == here { PathBuf::from(".") } else { found })
        }
    }
}

/// Reads the site, finishing first what an interrupted run left behind.
fn load(arguments: &Arguments) -> Result<Loaded> {
    let folder = site_folder(arguments)?;
    match disk::recover(&folder)? {
        Recovery::Clean => {}
        Recovery::RolledBack => {
            anstream::eprintln!("An interrupted run had not begun to change files; its traces are removed.")
        }
        Recovery::RolledForward => anstream::eprintln!("An interrupted run was finished."),
    }
    load_folder(&folder)
}

/// Reads a site that must hold at least one template.
fn load_folder(folder: &Path) -> Result<Loaded> {
    let busy = busy("reading the site");
    let loaded = disk::load(folder)?;
    drop(busy);
    learn::notice(&loaded);
    if loaded.site.templates.is_empty() {
        let problems: Vec<String> = loaded.problems.iter().map(ToString::to_string).collect();
        let why = if problems.is_empty() { String::new() } else { format!("\n  {}", problems.join("\n  ")) };
        let kinds = radicon::dialect::plain().files.patterns().join(", ");
        bail!(
            "no templates beneath {}; looked for {kinds} in files that no ignore file excludes{why}",
            folder.display()
        );
    }
    Ok(loaded)
}

fn options(loaded: &Loaded, how: &How, chosen: &Chosen) -> Result<Options> {
    let dialect = how.dialect.as_ref().map(|name| find_dialect(loaded, name)).transpose()?;
    let said = Options::of(&loaded.settings.propose);
    let goal = match (how.small, how.tidy) {
        (true, _) => Goal::Smallest,
        (_, true) => Goal::Fewest,
        _ => said.goal,
    };
    Ok(Options {
        strength: how.strength.into(),
        dialect,
        goal,
        block_price: how.block_price.or(said.block_price.filter(|_| goal == said.goal)),
        levels: how.levels.unwrap_or(said.levels),
        min_saving: how.min_saving.or(said.min_saving),
        partials: how.partials.map_or(said.partials, Into::into),
        heal: how.heal,
        choice: chosen.choice(),
        ..said
    })
}

fn find_dialect(loaded: &Loaded, name: &str) -> Result<Arc<Dialect>> {
    let names: Vec<&str> = loaded.dialects.iter().map(|dialect| dialect.name.as_str()).collect();
    match loaded.dialects.iter().find(|dialect| dialect.name == name) {
        Some(dialect) => Ok(Arc::clone(dialect)),
        None => bail!("no dialect `{name}`; {}", suggestion(name, &names)),
    }
}

/// The template that somebody means by a path or a name.
fn find_page(loaded: &Loaded, page: &str) -> Result<text::SourceId> {
    let site = &loaded.site;
    if let Some(id) = site.find_named(page) {
        return Ok(id);
    }
    // A path from the current folder that leads into the site.
    let there = Path::new(page).canonicalize().ok().zip(loaded.folder.canonicalize().ok());
    let relative =
        there.and_then(|(path, folder)| Some(path.strip_prefix(folder).ok()?.to_string_lossy().into_owned()));
    if let Some(id) = relative.and_then(|path| site.find(&path)) {
        return Ok(id);
    }
    let roots: Vec<&str> = site.roots.iter().map(|root| root.path.as_str()).collect();
    let searched: Vec<&str> = roots.iter().map(|root| if root.is_empty() { "." } else { root }).collect();
    let searched = if roots.len() > 1 { format!("; searched: {}", searched.join(", ")) } else { String::new() };
    // A name may be written from a root, and without its suffix.
    let names: Vec<&str> = site.templates.iter().map(|template| template.path.as_str()).collect();
    let mut written = names.clone();
    for root in &roots {
        let inside = site.templates.iter().filter_map(|template| template.path.strip_prefix(root));
        written.extend(inside.map(|path| path.trim_start_matches('/')));
    }
    let bare: Vec<&str> = written.iter().filter_map(|name| Some(name.rsplit_once('.')?.0)).collect();
    written.extend(bare.into_iter().filter(|name| site.find_named(name).is_some()));
    let meant = match text::did_you_mean(page, written) {
        Some(meant) => format!("did you mean `{meant}`?"),
        None => suggestion(page, &names),
    };
    bail!("no template `{page}` beneath {}; {meant}{searched}", loaded.folder.display())
}

fn suggestion(written: &str, known: &[&str]) -> String {
    match text::did_you_mean(written, known.iter().copied()) {
        Some(meant) => format!("did you mean `{meant}`?"),
        None if known.len() <= 8 => format!("there are: {}", known.join(", ")),
        None => format!("`radicon survey` lists all {}", known.len()),
    }
}

fn json(out: &mut impl Write, value: &impl Serialize) -> Result<()> {
    let mut bytes = serde_json::to_vec_pretty(value)?;
    bytes.push(b'\n');
    Ok(out.write_all(&bytes)?)
}

/// Writes changes into the site, if their proof assumes nothing and no file among them has changes that are not
/// committed, unless that is allowed.
fn write(loaded: &Loaded, changes: &[Change], assumed: &[Assumption], allow: Allow) -> Result<Adopted> {
    assumptions::refuse(assumed, allow.assume)?;
    let paths: Vec<&str> = changes.iter().map(|change| change.path.as_str()).collect();
    let dirty = disk::uncommitted(&loaded.folder, &paths);
    if let Some(first) = dirty.first().filter(|_| !allow.uncommitted) {
        let others = if dirty.len() > 1 { format!(" and {}", count(dirty.len() - 1, "other")) } else { String::new() };
        bail!(
            "{first}{others} has changes that are not committed; commit them, or say --uncommitted; nothing was written"
        );
    }
    Ok(disk::adopt(&loaded.folder, changes)?)
}

/// Shows what could not be read or resolved.
fn problems(out: &mut impl Write, problems: &[Problem]) -> Result<()> {
    const MOST: usize = 20;
    if problems.is_empty() {
        return Ok(());
    }
    writeln!(out, "\n{BAD}{}{PLAIN}", count(problems.len(), "problem"))?;
    for problem in problems.iter().take(MOST) {
        writeln!(out, "  {problem}")?;
    }
    if problems.len() > MOST {
        writeln!(out, "  {FAINT}and {} more; --format json lists all{PLAIN}", problems.len() - MOST)?;
    }
    Ok(())
}

/// The files of a proposal as they are written.
fn sources(proposal: &radicon::Proposal) -> Vec<SourceFile> {
    proposal.files.iter().map(|file| SourceFile::new(file.path.clone(), file.bytes.clone())).collect()
}

fn is_json(arguments: &Arguments) -> bool {
    arguments.format == Format::Json
}
