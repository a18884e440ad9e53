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
mod loading;
mod lookup;
mod manual;
mod propose;
mod prove;
pub mod repeats;
mod report;
mod sarif;
mod step;
mod survey;
mod translate;
mod undo;
mod watch;
mod writing;

use std::io::Write;

use anyhow::Result;
use radicon::site::Problem;
use serde::Serialize;

use crate::arguments::{Arguments, Command, Format};
use crate::output::{BAD, FAINT, PLAIN, count, name_site};
use crate::terminal::{Safe, safe_json};

/// Runs a command; gives the exit code.
pub fn run(arguments: &Arguments) -> Result<u8> {
    if let Some(site) = &arguments.site {
        name_site(site);
    }
    match &arguments.command {
        Command::Survey => survey::run(arguments),
        Command::Chain { block: Some(block), .. } => chain::block(arguments, block),
        Command::Chain { page, .. } => chain::run(arguments, page.as_deref().unwrap_or_default()),
        Command::Flatten { into: Some(into), page, .. } => flatten::into(arguments, page.as_deref(), into),
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
            _ if wanted.list => check::list(arguments),
            Some(rule) => check::explain(arguments, rule),
            None if wanted.watch => check::watch(arguments, wanted),
            None => check::run(arguments, wanted),
        },
        Command::Step { step, write, allow } => step::run(arguments, step, write.then_some(*allow)),
        Command::Undo { list: true, .. } => undo::list(arguments),
        Command::Undo { abandon: true, .. } => undo::abandon(arguments),
        Command::Undo { .. } => undo::run(arguments),
        Command::Adopt { how, chosen, allow } => adopt::run(arguments, how, chosen, *allow),
        Command::Translate { files, to, into, partly } => {
            translate::run(arguments, files, to, into.as_deref(), *partly)
        }
        Command::Report { out } => report::run(arguments, out.as_deref()),
        Command::Lsp => radicon_lsp::serve().map(|ended_well| if ended_well { crate::FINE } else { crate::DIFFERENT }),
        Command::Demo { dir } => demo::run(arguments, dir),
        Command::Completions { shell } => manual::completions(*shell),
        Command::Manual { dir } => manual::pages(dir),
    }
}

/// Standard output, with colours only on a terminal.
fn out() -> impl Write {
    Safe::new(anstream::stdout().lock())
}

fn json(out: &mut impl Write, value: &impl Serialize) -> Result<()> {
    Ok(writeln!(out, "{}", safe_json(&serde_json::to_string_pretty(value)?))?)
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

fn is_json(arguments: &Arguments) -> bool {
    arguments.format == Format::Json
}
