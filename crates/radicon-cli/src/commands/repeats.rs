//! `repeats`: duplicated markup, and outdated copies.

use std::io::Write;

use anyhow::{Result, bail};
use radicon::repeats;
use radicon::repeats::{
    AdviceKind, Fragment, Normalise, RepeatFilter, RepeatGroup, RepeatKind, RepeatOptions, Repeats,
};

use super::loading::load;
use super::lookup::{find_directories, suggestion};
use super::{is_json, json, out};
use crate::arguments::{Arguments, CountArgument, KindArgument, RepeatArguments};
use crate::output::{
    Align, BAD, FAINT, PLAIN, STRONG, Table, WIDTH, busy, count, headline, next, number, quoted, shorten,
};
use crate::terminal::tell;
use crate::{DIFFERENT, FINE};

/// The most groups that are listed.
const LISTED: usize = 25;

/// The most copies of a group that are listed.
const COPIES: usize = 12;

pub fn run(arguments: &Arguments, how: &RepeatArguments) -> Result<u8> {
    let loaded = load(arguments)?;
    let working = busy("looking for copies");
    let mut found = repeats(&loaded.site, &options(how));
    drop(working);
    let too_much = how.max_share.filter(|most| found.share * 100.0 > *most);
    let kind = how.kind.map(|kind| match kind {
        KindArgument::Same => RepeatKind::Same,
        KindArgument::Alike => RepeatKind::Alike,
    });
    let filter = RepeatFilter { folders: find_directories(&loaded, &how.only)?, dialect: how.dialect.clone(), kind };
    if let Some(id) = &how.group {
        let ids: Vec<&str> = found.groups.iter().map(|group| group.id.as_str()).collect();
        if !ids.contains(&id.as_str()) {
            bail!("no group `{id}`; {}", suggestion(id, &ids));
        }
        found.groups.retain(|group| group.id == *id);
    } else {
        found.groups.retain(|group| filter.fits(group));
    }
    let mut out = out();
    match how.group {
        _ if is_json(arguments) => json(&mut out, &found)?,
        Some(_) => found.groups.iter().try_for_each(|group| one(group, &mut out))?,
        None => list(&found, &mut out)?,
    }
    if let Some(most) = too_much {
        tell(format_args!("{BAD}{:.1}% of all bytes are duplicated; the limit is {most}%{PLAIN}", found.share * 100.0));
        return Ok(DIFFERENT);
    }
    Ok(FINE)
}

fn options(how: &RepeatArguments) -> RepeatOptions {
    let ignored = |what: CountArgument| !how.count.contains(&what);
    RepeatOptions {
        normalise: Normalise {
            blanks: ignored(CountArgument::Blanks),
            attributes: ignored(CountArgument::Attributes),
            case: ignored(CountArgument::Case),
            references: ignored(CountArgument::References),
            urls: ignored(CountArgument::Urls),
            constructs: ignored(CountArgument::Constructs),
        },
        min_bytes: how.min_bytes,
        min_saving: how.min_saving,
        similarity: (!how.exact).then(|| f64::from(how.similarity) / 100.0),
        ..RepeatOptions::default()
    }
}

fn list(found: &Repeats, out: &mut impl Write) -> Result<()> {
    let share = format!("{:.0}% of {} bytes are duplicated", found.share * 100.0, number(found.bytes));
    headline(out, &format!("{}; {share}", count(found.groups.len(), "repeat")))?;
    if found.skipped.runs {
        writeln!(out, "  {BAD}too little memory to find exact runs; the list is incomplete{PLAIN}")?;
    }
    if found.groups.is_empty() {
        return Ok(());
    }
    writeln!(out)?;
    let columns = [
        ("repeat", Align::Left),
        ("", Align::Left),
        ("copies", Align::Right),
        ("bytes", Align::Right),
        ("saves", Align::Right),
        ("do", Align::Left),
        ("content", Align::Left),
    ];
    let mut table = Table::new(&columns);
    for group in found.groups.iter().take(LISTED) {
        table.row([
            group.id.clone(),
            group.kind.word().into(),
            number(group.copies.len()),
            number(group.weight.bytes as usize),
            number(group.saving.bytes as usize),
            group.advice.kind.word().into(),
            one_line(&group.pattern),
        ]);
    }
    table.print(out)?;
    if found.groups.len() > LISTED {
        writeln!(out, "  {FAINT}and {} more; --format json lists all{PLAIN}", found.groups.len() - LISTED)?;
    }
    let drifted: Vec<(&RepeatGroup, &radicon::repeats::Drift)> =
        found.groups.iter().flat_map(|group| group.drift.iter().map(move |drift| (group, drift))).collect();
    if !drifted.is_empty() {
        writeln!(out, "\n{BAD}Outdated{PLAIN}: {} from the others", copies_differ(drifted.len()))?;
        for (group, drift) in drifted.iter().take(10) {
            let line = format!("{}:{} {}", drift.file, drift.line, drift.difference);
            writeln!(out, "  {FAINT}{}{PLAIN} {}", group.id, shorten(&line, WIDTH - 12))?;
        }
        if drifted.len() > 10 {
            writeln!(out, "  {FAINT}and {} more{PLAIN}", drifted.len() - 10)?;
        }
    }
    next(
        out,
        &format!(
            "radicon repeats {}, to see its copies; radicon propose, for layouts and partials",
            found.groups[0].id
        ),
    )?;
    Ok(())
}

fn one(group: &RepeatGroup, out: &mut impl Write) -> Result<()> {
    let copies = count(group.copies.len(), "copy");
    let alike = match group.kind {
        RepeatKind::Same => "identical".to_owned(),
        RepeatKind::Alike => format!("{:.0}% similar", (group.similarity * 100.0).floor()),
    };
    headline(out, &format!("{}: {copies}, {alike}", group.id))?;
    writeln!(out, "  {}", advice(group))?;
    writeln!(out, "\n{FAINT}In common{PLAIN}")?;
    for line in shared(group).take(30) {
        writeln!(out, "  {}", shorten(line, WIDTH - 2))?;
    }
    let more = group.pattern.lines().count().saturating_sub(30);
    if more > 0 {
        writeln!(out, "  {FAINT}and {more} more lines{PLAIN}")?;
    }
    if !group.gaps.is_empty() {
        writeln!(out)?;
        let columns = [("gap", Align::Right), ("", Align::Left), ("variants", Align::Right), ("usually", Align::Left)];
        let mut table = Table::new(&columns);
        for gap in &group.gaps {
            let role = if gap.parameter { "parameter" } else { "exception" };
            let usual = if gap.usual.is_empty() { "nothing" } else { &gap.usual };
            table.row([format!("⟨{}⟩", gap.number), role.into(), number(gap.variants), one_line(usual)]);
        }
        table.print(out)?;
    }
    side_by_side(group, out)?;
    writeln!(out, "\n{FAINT}Copies{PLAIN}")?;
    for copy in group.copies.iter().take(COPIES) {
        writeln!(out, "  {}:{}-{} {FAINT}{}{PLAIN}", copy.file, copy.line_start, copy.line_end, copy.dialect)?;
    }
    if group.copies.len() > COPIES {
        writeln!(out, "  {FAINT}and {} more; --format json lists all{PLAIN}", group.copies.len() - COPIES)?;
    }
    if !group.drift.is_empty() {
        writeln!(out, "\n{BAD}Outdated{PLAIN}")?;
        for drift in &group.drift {
            writeln!(out, "  {}:{} {}", drift.file, drift.line, drift.difference)?;
        }
    }
    let first = &group.copies[0];
    match group.advice.kind {
        AdviceKind::Partial => {
            let place = quoted(&format!("{}:{}-{}", first.file, first.line_start, first.line_end));
            next(out, &format!("radicon step extract {place} NAME --all, to make it a partial"))?
        }
        _ => next(out, "radicon propose, for layouts and partials")?,
    }
    Ok(())
}

/// The lines that the copies share, without the indentation that all of them have.
pub fn shared(group: &RepeatGroup) -> impl Iterator<Item = &str> {
    // The first line is without its indentation, the last one tells it.
    let indent = |line: &str| line.len() - line.trim_start().len();
    let deep = group.pattern.lines().skip(1).filter(|line| !line.trim().is_empty()).map(indent).min().unwrap_or(0);
    let whole = move |(number, line)| if number == 0 { line } else { str::get(line, deep..).unwrap_or("") };
    group.pattern.lines().enumerate().map(whole)
}

/// The most variants that are shown side by side with the usual one.
const VARIANTS: usize = 8;

/// The text of the copies that differ beside the text of most.
fn side_by_side(group: &RepeatGroup, out: &mut impl Write) -> Result<()> {
    let variants = group.variants();
    let column = (WIDTH - 5) / 2;
    for variant in variants.iter().take(VARIANTS) {
        let first = &group.copies[variant.copies[0]];
        let more = match variant.copies.len() - 1 {
            0 => String::new(),
            some => format!(" and {some} more"),
        };
        let place = shorten(&format!("{}:{}", first.file, first.line_start), column - more.len());
        writeln!(out, "\n  {FAINT}{:<column$} │ {place}{more}{PLAIN}", "usually")?;
        for pair in &variant.lines {
            writeln!(out, "  {} │ {}", cell(&pair.usual, column, true), cell(&pair.here, column, false))?;
        }
    }
    if variants.len() > VARIANTS {
        writeln!(
            out,
            "\n  {FAINT}and {} more; --format json lists all{PLAIN}",
            count(variants.len() - VARIANTS, "variant")
        )?;
    }
    Ok(())
}

/// A line cut to a column around its first difference, which is marked.
fn cell(line: &[Fragment], column: usize, pad: bool) -> String {
    if line.is_empty() {
        return format!("{FAINT}{}{PLAIN}", if pad { format!("{:<column$}", "nothing") } else { "nothing".into() });
    }
    let length = |fragment: &Fragment| fragment.text.chars().count();
    let all: usize = line.iter().map(length).sum();
    let before: usize = line.iter().take_while(|fragment| !fragment.differs).map(length).sum();
    // Some of what comes before tells where it is.
    let skip = if all > column { before.saturating_sub(column / 3).min(all - column + 1) } else { 0 };
    let is_cut = all - skip + usize::from(skip > 0) > column;
    let mut shown = String::from(if skip > 0 { "…" } else { "" });
    let (mut at, mut room) = (0, column - usize::from(skip > 0) - usize::from(is_cut));
    for fragment in line {
        let text: String = fragment.text.chars().skip(skip.saturating_sub(at)).take(room).collect();
        at += length(fragment);
        room -= text.chars().count();
        match fragment.differs {
            true => shown += &format!("{STRONG}{text}{PLAIN}"),
            false => shown += &text,
        }
    }
    if is_cut {
        shown.push('…');
    }
    if pad { shown + &" ".repeat(room) } else { shown }
}

/// The advice about a group, and the bytes that it saves.
pub fn advice(group: &RepeatGroup) -> String {
    let parameters = match group.advice.parameters {
        0 => String::new(),
        some => format!(" with {}", count(some, "parameter")),
    };
    let what = match group.advice.kind {
        AdviceKind::Layout => "Move it into the layout of these pages".to_owned(),
        AdviceKind::Partial => format!("Make it a partial{parameters}"),
        AdviceKind::Loop => "Write a loop: the copies follow each other".to_owned(),
        AdviceKind::Include => {
            format!("Include {}, which contains it already", group.advice.file.as_deref().unwrap_or("the partial"))
        }
    };
    format!("{what}; saves {} and {}", count(group.saving.lines, "line"), count(group.saving.bytes as usize, "byte"))
}

fn copies_differ(copies: usize) -> String {
    format!("{} {}", count(copies, "copy"), if copies == 1 { "differs" } else { "differ" })
}

fn one_line(text: &str) -> String {
    text.split_whitespace().collect::<Vec<_>>().join(" ")
}
