//! `dialect`: how template engines are described, and how a file is read.

use std::io::Write;

use anyhow::{Context, Result};
use radicon::dialect::{Kind, Part};
use radicon::disk::Loaded;
use radicon::site::{Trial, TrialConstruct};

use super::loading::{load, site_folder};
use super::lookup::{find_dialect, find_page};
use super::{is_json, json, learn, out};
use crate::FINE;
use crate::arguments::{Arguments, DialectCommand};
use crate::output::{Align, BAD, FAINT, GOOD, PLAIN, Table, count, headline, next, quoted, shorten};

pub fn run(arguments: &Arguments, command: &DialectCommand) -> Result<u8> {
    match command {
        DialectCommand::List => list(arguments),
        DialectCommand::Show { name } => show(arguments, name),
        DialectCommand::Learn { dir, rendered, write } => {
            learn::run(arguments, dir.as_deref(), rendered.as_deref(), *write)
        }
        DialectCommand::Try { file, dialect } => try_file(arguments, file, dialect.as_deref()),
    }
}

/// The site with its dialects; dialects are of interest where there are no templates, too.
fn loaded(arguments: &Arguments) -> Result<Loaded> {
    Ok(radicon::disk::load(&site_folder(arguments)?)?)
}

fn list(arguments: &Arguments) -> Result<u8> {
    let loaded = loaded(arguments)?;
    let known = loaded.site.dialect_uses(&loaded.dialects);
    let mut out = out();
    if is_json(arguments) {
        json(&mut out, &known)?;
        return Ok(FINE);
    }
    let columns =
        [("dialect", Align::Left), ("templates", Align::Right), ("layouts", Align::Left), ("files", Align::Left)];
    let mut table = Table::new(&columns);
    for dialect in &known {
        let layouts = if dialect.layouts { "yes" } else { "-" };
        table.row([dialect.name.clone(), dialect.templates.to_string(), layouts.into(), dialect.files.join(" ")]);
    }
    table.print(&mut out)?;
    next(&mut out, "radicon dialect try FILE, to see how a file is read")?;
    Ok(FINE)
}

fn show(arguments: &Arguments, name: &str) -> Result<u8> {
    let loaded = loaded(arguments)?;
    let dialect = find_dialect(&loaded, name)?;
    let mut out = out();
    if is_json(arguments) {
        json(&mut out, &loaded.site.dialect_uses(std::slice::from_ref(&dialect))[0])?;
    } else {
        write!(out, "{}", dialect.text)?;
    }
    Ok(FINE)
}

fn try_file(arguments: &Arguments, file: &str, dialect: Option<&str>) -> Result<u8> {
    let loaded = load(arguments)?;
    let (path, source, usual) = match find_page(&loaded, file) {
        Ok(id) => {
            let template = loaded.site.get(id);
            (template.path.clone(), template.source.to_vec(), template.dialect.clone())
        }
        // Any file will do to try a dialect on.
        Err(unknown) => match std::fs::read(file) {
            Ok(source) => (file.to_owned(), source, radicon::dialect::plain()),
            Err(_) => return Err(unknown).context("there is no such file either"),
        },
    };
    let dialect = match dialect {
        Some(name) => find_dialect(&loaded, name)?,
        None => usual,
    };
    let trial = loaded.site.try_file(&path, &source, &dialect);
    let mut out = out();
    if is_json(arguments) {
        json(&mut out, &trial)?;
    } else {
        print(&trial, &mut out)?;
        if trial.constructs.is_empty() {
            let names: Vec<&str> = loaded.dialects.iter().map(|dialect| dialect.name.as_str()).collect();
            writeln!(out, "  No tags of {} in this file. To read it in another dialect:", trial.dialect)?;
            writeln!(
                out,
                "  radicon dialect try {} --dialect NAME, with one of {}",
                quoted(&trial.file),
                names.join(", ")
            )?;
        }
        next(&mut out, &format!("radicon dialect show {}, to see how its tags are described", trial.dialect))?;
    }
    Ok(FINE)
}

fn print(trial: &Trial, out: &mut impl Write) -> Result<()> {
    headline(out, &format!("{} read as {}: {}", trial.file, trial.dialect, count(trial.constructs.len(), "tag")))?;
    if let Some(usual) = trial.usual.as_ref().filter(|usual| **usual != trial.dialect) {
        writeln!(out, "  {FAINT}the site reads it as {usual}{PLAIN}")?;
    }
    writeln!(out)?;
    let columns = [("line", Align::Right), ("kind", Align::Left), ("tag", Align::Left), ("read as", Align::Left)];
    let mut table = Table::new(&columns);
    for item in &trial.constructs {
        let line = format!("{}:{}", item.at.line, item.at.column);
        let text = item.text.split_whitespace().collect::<Vec<_>>().join(" ");
        table.row([line, kind(item), shorten(&text, 44), meaning(item)]);
    }
    if !trial.constructs.is_empty() {
        table.print(out)?;
    }
    let unknown: usize = trial.unknown.iter().map(|tag| tag.uses).sum();
    if unknown > 0 {
        let tags = count(unknown, "tag");
        writeln!(out, "\n{BAD}Unknown{PLAIN} to {}, kept as they are: {tags}", trial.dialect)?;
        let mut table = Table::new(&[("tag", Align::Left), ("uses", Align::Right), ("first line", Align::Right)]);
        for tag in trial.unknown.iter().take(20) {
            table.row([tag.tag.clone(), tag.uses.to_string(), tag.line.to_string()]);
        }
        table.print(out)?;
        if trial.unknown.len() > 20 {
            writeln!(out, "  {FAINT}and {} more; --format json lists all{PLAIN}", trial.unknown.len() - 20)?;
        }
    }
    for (what, places) in [("Begins like a tag, but is not one", &trial.unread), ("Unpaired", &trial.errors)] {
        if places.is_empty() {
            continue;
        }
        writeln!(out, "\n{BAD}{what}{PLAIN}")?;
        for place in places.iter().take(20) {
            writeln!(out, "  {}:{}: {}", place.at.line, place.at.column, place.text)?;
        }
        if places.len() > 20 {
            writeln!(out, "  {FAINT}and {} more; --format json lists all{PLAIN}", places.len() - 20)?;
        }
    }
    if unknown == 0 && trial.unread.is_empty() && trial.errors.is_empty() && !trial.constructs.is_empty() {
        writeln!(out, "\n{GOOD}All tags are understood.{PLAIN}")?;
    }
    Ok(())
}

fn kind(item: &TrialConstruct) -> String {
    let part = match item.part {
        Part::Close => "end of ",
        Part::Branch => "branch of ",
        Part::Open | Part::Single | Part::Attribute => "",
    };
    format!("{part}{}", item.kind.word())
}

fn meaning(item: &TrialConstruct) -> String {
    let mut parts: Vec<String> = Vec::new();
    parts.extend(item.name.clone());
    if let Some(target) = &item.target {
        parts.push(match &item.file {
            Some(file) => format!("-> {file}"),
            None if item.dynamic => format!("-> chosen when rendered: {target}"),
            None => format!("-> {target}, not found"),
        });
    }
    if let (None, Some(file)) = (&item.target, &item.file) {
        parts.push(format!("-> {file}"));
    }
    parts.extend(item.value.as_ref().map(|value| format!("= {value}")));
    let plain = !matches!(item.kind, Kind::Comment | Kind::Other);
    parts.extend(item.expression.clone().filter(|_| plain));
    match (item.part, item.partner_line) {
        (Part::Open, Some(line)) => parts.push(format!("to line {line}")),
        (Part::Close | Part::Branch, Some(line)) => parts.push(format!("of line {line}")),
        _ => {}
    }
    parts.extend(item.within.then(|| "(inside a longer tag)".to_owned()));
    parts.extend(item.own_file.then(|| "(for this file only)".to_owned()));
    parts.join(" ")
}
