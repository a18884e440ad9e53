//! `step`: one refactoring, shown or written.

use std::io::Write;

use anyhow::{Result, bail};
use radicon::disk::{self, Loaded};
use radicon::steps::{Extraction, StepError};
use radicon::text::{SourceId, Span};
use radicon::{Step, Strength};

use super::loading::load;
use super::lookup::{directory, find_page};
use super::writing::{summary, write};
use super::{assumptions, is_json, json, out};
use crate::FINE;
use crate::arguments::{Allow, Arguments, StepCommand};
use crate::output::{BAD, FAINT, GOOD, PLAIN, count, headline, next};
use crate::terminal::tell;

pub fn run(arguments: &Arguments, command: &StepCommand, written: Option<Allow>) -> Result<u8> {
    let loaded = load(arguments)?;
    let mut step = match step(&loaded, command) {
        Ok(step) => step,
        Err(error) => match error.downcast_ref() {
            Some(nothing @ StepError::Nothing(_)) => {
                tell(nothing);
                return Ok(FINE);
            }
            _ => return Err(error),
        },
    };
    if !step.settings.is_empty() {
        step.changes.push(disk::more_settings(&loaded.folder, &step.settings)?);
    }
    step.changes.extend(disk::renamed_in_settings(&loaded.folder, &step.renamed)?);
    let mut out = out();
    let adopted = written
        .map(|allow| write(arguments, &loaded, &step.title, &step.changes, &step.proof.assumptions, allow))
        .transpose()?;
    if is_json(arguments) {
        json(&mut out, &step)?;
        return Ok(FINE);
    }
    if adopted.is_none() {
        show(&step, &mut out)?;
    }
    headline(&mut out, &capital(&step.title))?;
    proof(&step, &mut out)?;
    assumptions::print(&step.proof.assumptions, &mut out)?;
    for note in &step.notes {
        writeln!(out, "{BAD}note:{PLAIN} {note}")?;
    }
    match adopted {
        Some(adopted) => {
            writeln!(out, "{}", summary(&adopted))?;
            next(&mut out, "radicon undo, to undo it")?;
        }
        None => next(&mut out, "add --write, to write it")?,
    }
    Ok(FINE)
}

fn step(loaded: &Loaded, command: &StepCommand) -> Result<Step> {
    let site = &loaded.site;
    let page = |file: &str| find_page(loaded, file);
    let place = |written: &str| -> Result<(SourceId, Span)> {
        Ok(radicon::steps::find_place(site, written, |file| find_page(loaded, file).ok())?)
    };
    Ok(match command {
        StepCommand::Extract { place: written, name, all, with } => {
            let (id, span) = place(written)?;
            let value = |with: &String| match with.split_once('=') {
                Some((name, text)) => Ok((name.to_owned(), text.to_owned())),
                None => bail!("`{with}` has no name; write NAME=TEXT"),
            };
            let values = with.iter().map(value).collect::<Result<_>>()?;
            radicon::steps::extract(site, id, span, &Extraction { name: name.clone(), all: *all, values })?
        }
        StepCommand::Inline { partial } => radicon::steps::inline(site, page(partial)?)?,
        StepCommand::Open { place: written, block } => {
            let (id, span) = place(written)?;
            radicon::steps::open(site, id, span, block)?
        }
        StepCommand::Rename { file, old, new } => radicon::steps::rename(site, page(file)?, old, new)?,
        StepCommand::Move { file, to } => radicon::steps::relocate(site, page(file)?, to)?,
        StepCommand::PullUp { layout, block } => radicon::steps::pull_up(site, page(layout)?, block)?,
        StepCommand::PushDown { layout, block } => radicon::steps::push_down(site, page(layout)?, block)?,
        StepCommand::Reorder { files } => {
            let all = || site.templates.iter().filter_map(|template| site.find(&template.path)).collect();
            let files: Vec<SourceId> =
                if files.is_empty() { all() } else { files.iter().map(|file| page(file)).collect::<Result<_>>()? };
            radicon::steps::reorder(site, &files)?
        }
        StepCommand::DefaultLayout { folder } => radicon::steps::default_layout(site, &directory(folder))?,
        StepCommand::Fuse { head, foot, layout, block } => {
            radicon::steps::fuse(site, page(head)?, page(foot)?, layout, block)?
        }
        StepCommand::Collapse { layout } => radicon::steps::collapse(site, page(layout)?)?,
    })
}

fn capital(title: &str) -> String {
    let mut letters = title.chars();
    letters.next().map_or(String::new(), |first| first.to_uppercase().chain(letters).collect())
}

/// The difference that a step makes, in colours.
fn show(step: &Step, out: &mut impl Write) -> Result<()> {
    for line in String::from_utf8_lossy(&step.patch()).lines() {
        let style = match line.as_bytes().first() {
            _ if line.starts_with("+++") || line.starts_with("---") || line.starts_with("diff ") => Some(FAINT),
            Some(b'+') => Some(GOOD),
            Some(b'-') => Some(BAD),
            Some(b'@') => Some(FAINT),
            _ => None,
        };
        match style {
            Some(style) => writeln!(out, "{style}{line}{PLAIN}")?,
            None => writeln!(out, "{line}")?,
        }
    }
    Ok(writeln!(out)?)
}

fn proof(step: &Step, out: &mut impl Write) -> Result<()> {
    let pages = step.proof.pages.len();
    let exact = step.proof.equal_at(Strength::Bytes);
    let how = match pages - exact {
        0 => "byte for byte".to_owned(),
        some => format!("{} of them except for insignificant whitespace", count(some, "page")),
    };
    Ok(writeln!(out, "{GOOD}{} unchanged{PLAIN}, {how}", count(pages, "page"))?)
}
