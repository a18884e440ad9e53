//! `dialect learn`: how a site's engine writes its constructs, worked out from the site.

use std::collections::BTreeMap;
use std::io::Write;
use std::path::Path;

use anyhow::Result;
use radicon::disk;
use radicon::learn::{Confidence, Learned, LearnedForm};
use radicon::site::Site;

use super::loading::{site_folder, state, unread};
use super::{is_json, json, out};
use crate::FINE;
use crate::arguments::Arguments;
use crate::output::{Align, BAD, FAINT, GOOD, PLAIN, Table, count, headline, next, number, shorten};

pub fn run(arguments: &Arguments, dir: Option<&Path>, rendered: Option<&Path>, write: bool) -> Result<u8> {
    let folder = match dir {
        Some(dir) => dir.to_owned(),
        None => site_folder(arguments)?,
    };
    let learned = disk::learn_site(&folder, rendered)?;
    if write && !learned.is_empty() {
        disk::adopt(&state(arguments)?, "dialect learn --write", &disk::keep_learned(&folder, &learned)?)?;
    }
    let mut out = out();
    if is_json(arguments) {
        json(&mut out, &learned)?;
        return Ok(FINE);
    }
    if learned.is_empty() {
        return nothing(&disk::load(&folder)?.site, &mut out);
    }
    for learned in &learned {
        print(learned, &mut out)?;
    }
    match write {
        true => {
            for learned in &learned {
                writeln!(out, "\n{GOOD}Saved{PLAIN} in dialects/{}.toml", learned.name)?;
            }
            next(&mut out, "radicon survey; radicon dialect try FILE, to see how a file is read now")?;
        }
        false => {
            writeln!(out, "\n  {FAINT}--format json prints the dialect file, with the evidence of each form{PLAIN}")?;
            let more =
                if rendered.is_none() { "; --rendered DIR also decides line ends and loose content" } else { "" };
            next(&mut out, &format!("radicon dialect learn --write, to save them{more}"))?;
        }
    }
    Ok(FINE)
}

/// Says that nothing was learned, and what is not explained all the same.
fn nothing(site: &Site, out: &mut impl Write) -> Result<u8> {
    let unread = unread(site);
    if unread.is_empty() && site.unexplained().is_empty() {
        headline(out, "Nothing to learn: the known dialects describe every tag")?;
        next(out, "radicon dialect list, to see the dialect of each file")?;
        return Ok(FINE);
    }
    headline(out, "Nothing learned: no tags were found that name other templates")?;
    for line in &unread {
        writeln!(out, "  {line}")?;
    }
    if unread.is_empty() {
        next(out, "radicon survey, to see the tag-like texts that no dialect explains")?;
    }
    Ok(FINE)
}

fn print(learned: &Learned, out: &mut impl Write) -> Result<()> {
    let files = learned.files.join(" ");
    let what = match &learned.extends {
        Some(known) => format!("{known} and {} more", count(learned.forms.len(), "form")),
        None => format!("{}: {}", learned.name, count(learned.forms.len(), "form")),
    };
    headline(out, &format!("{what}, inferred from {files}"))?;
    writeln!(out)?;
    let columns = [
        ("kind", Align::Left),
        ("e.g.", Align::Left),
        ("uses", Align::Right),
        ("", Align::Left),
        ("evidence", Align::Left),
    ];
    let mut table = Table::new(&columns);
    let (structure, others): (Vec<&LearnedForm>, Vec<_>) =
        learned.forms.iter().partition(|form| form.kind.makes_structure() || form.confidence == Confidence::Asked);
    for form in structure {
        let sure = match form.confidence {
            Confidence::Sure => "sure",
            Confidence::Likely => "likely",
            Confidence::Asked => "?",
        };
        let row = [
            form.kind.word().to_owned(),
            shorten(&form.written, 30),
            form.uses.to_string(),
            sure.into(),
            shorten(&form.evidence, 46),
        ];
        table.row(row);
    }
    table.print(out)?;
    let mut uses: BTreeMap<&str, usize> = BTreeMap::new();
    others.iter().for_each(|form| *uses.entry(form.kind.word()).or_default() += form.uses);
    let mut rest: Vec<(&str, usize)> = uses.into_iter().collect();
    rest.sort_by_key(|&(_, uses)| std::cmp::Reverse(uses));
    if !rest.is_empty() {
        let rest: Vec<String> = rest.into_iter().map(|(kind, uses)| format!("{} {kind}", number(uses))).collect();
        writeln!(out, "\n  {FAINT}without structure:{PLAIN} {}", rest.join(", "))?;
    }
    if !learned.settled.is_empty() {
        writeln!(out)?;
    }
    for settled in &learned.settled {
        writeln!(out, "  {GOOD}decided{PLAIN} {settled}")?;
    }
    if !learned.settings.is_empty() {
        writeln!(out, "\n  for radicon.toml:")?;
        for line in learned.settings.lines() {
            writeln!(out, "    {line}")?;
        }
    }
    if !learned.questions.is_empty() {
        writeln!(out, "\n{BAD}Undecided{PLAIN}, and left out until you add them to the dialect file:")?;
        for question in &learned.questions {
            writeln!(out, "  {question}")?;
        }
    }
    Ok(())
}
