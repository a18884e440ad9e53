//! `survey`: the templates of a site.

use std::collections::BTreeMap;
use std::io::Write;

use anyhow::Result;
use radicon::repeats;
use radicon::repeats::RepeatOptions;
use radicon::report::Survey;
use radicon::site::Role;
use radicon::text::Place;

use super::loading::{load, unread};
use super::{is_json, json, out, problems};
use crate::FINE;
use crate::arguments::Arguments;
use crate::output::{Align, FAINT, PLAIN, Table, busy, count, headline, next, number, shorten};

/// In sites with more bytes repeats are left to `radicon repeats`, which takes its time.
const MOST_BYTES: usize = 50_000_000;

/// Sites with more templates are shown by folder.
const LISTED: usize = 40;

pub fn run(arguments: &Arguments) -> Result<u8> {
    let loaded = load(arguments)?;
    let mut survey = Survey::of(&loaded.site, &loaded.problems);
    if survey.totals.bytes <= MOST_BYTES {
        let _working = busy("looking for copies");
        survey.repeats = Some(repeats(&loaded.site, &RepeatOptions::default()).summary());
    }
    let mut out = out();
    if is_json(arguments) {
        json(&mut out, &survey)?;
        return Ok(FINE);
    }
    let totals = survey.totals;
    let sums =
        format!("{}, {} lines, {} bytes", count(totals.files, "template"), number(totals.lines), number(totals.bytes));
    headline(&mut out, &sums)?;
    writeln!(out)?;
    if survey.files.len() <= LISTED {
        files(&survey, &mut out)?
    } else {
        folders(&survey, &mut out)?
    }
    writeln!(out)?;
    roles(&survey, &mut out)?;
    let named = survey.files.iter().any(|file| file.parent.is_some() || !file.includes.is_empty());
    if named {
        writeln!(out)?;
        let mut table = Table::new(&[("root", Align::Left), ("why", Align::Left)]);
        for root in &survey.roots {
            table.row([if root.path.is_empty() { ".".into() } else { root.path.clone() }, root.why.clone()]);
        }
        for mount in &survey.mounts {
            table.row([format!("{} = {}", mount.name, mount.file), mount.why.clone()]);
        }
        table.print(&mut out)?;
    }
    code(&survey, &mut out)?;
    copied(&survey, &mut out)?;
    unknown(&survey, &mut out)?;
    unexplained(&survey, &mut out)?;
    let unread = unread(&loaded.site);
    if !unread.is_empty() {
        writeln!(out, "\n  {}", unread.join("\n  "))?;
    }
    problems(&mut out, &survey.problems)?;
    let without = survey.files.iter().filter(|file| file.role == Role::Page && file.parent.is_none()).count();
    match without {
        _ if !survey.unexplained.is_empty() => {
            next(&mut out, "radicon dialect learn, to infer the meaning of the tag-like texts")?;
        }
        _ if let Some(tag) = survey.may_name_layouts(&loaded.site) => {
            let what = format!("radicon dialect learn --write, and describe `{}` in the file", tag.tag.trim());
            next(&mut out, &format!("{what}: it may name the layouts of these pages"))?;
        }
        0 | 1 => next(&mut out, "radicon chain PAGE, to see where the blocks of a page come from")?,
        _ => next(&mut out, &format!("radicon propose, for the {without} pages without a layout"))?,
    }
    Ok(FINE)
}

/// The templates that application code names.
fn code(survey: &Survey, out: &mut impl Write) -> Result<()> {
    let mut files: Vec<&str> = survey.references.iter().map(|reference| reference.file.as_str()).collect();
    files.dedup();
    files.sort_unstable();
    files.dedup();
    if files.is_empty() {
        return Ok(());
    }
    let mut named: Vec<&str> = survey.references.iter().map(|reference| reference.template.as_str()).collect();
    named.sort_unstable();
    named.dedup();
    let list = shorten(&files.join(", "), 70);
    Ok(writeln!(out, "\n  Application code names {}: {list}", count(named.len(), "template"))?)
}

/// How much was copied, and the greatest groups.
fn copied(survey: &Survey, out: &mut impl Write) -> Result<()> {
    let Some(found) = survey.repeats.as_ref().filter(|found| found.groups > 0) else { return Ok(()) };
    writeln!(out, "\n  {:.0}% of the bytes are duplicated; the largest repeats:", found.share * 100.0)?;
    let columns =
        [("repeat", Align::Left), ("copies", Align::Right), ("saves", Align::Right), ("content", Align::Left)];
    let mut table = Table::new(&columns);
    for group in &found.greatest {
        table.row([group.id.clone(), number(group.copies), number(group.saving.bytes as usize), group.preview.clone()]);
    }
    Ok(table.print(out)?)
}

/// Tags that no form of their dialect describes.
fn unknown(survey: &Survey, out: &mut impl Write) -> Result<()> {
    const MOST: usize = 12;
    if survey.unknown.is_empty() {
        return Ok(());
    }
    let uses = survey.unknown.iter().map(|tag| tag.uses).sum();
    let heading = format!(
        "{} of {} unknown to the dialect, kept as they are",
        count(uses, "tag"),
        count(survey.unknown.len(), "kind")
    );
    writeln!(out, "\n  {heading}")?;
    let tags = survey.unknown.iter().map(|tag| (tag.tag.as_str(), tag.uses, tag.files, &tag.first));
    most_frequent("tag", tags.collect(), MOST, out)
}

/// Text like tags that no dialect explains, and the two ways on.
fn unexplained(survey: &Survey, out: &mut impl Write) -> Result<()> {
    const MOST: usize = 6;
    if survey.unexplained.is_empty() {
        return Ok(());
    }
    let uses = survey.unexplained.iter().map(|tag| tag.uses).sum();
    writeln!(out, "\n  {} unknown to every dialect, read as text", count(uses, "tag-like text"))?;
    let tags = survey.unexplained.iter().map(|tag| (tag.text.as_str(), tag.uses, tag.files, &tag.first));
    most_frequent("text", tags.collect(), MOST, out)?;
    let ways = "If they are tags: `radicon dialect learn` infers their meaning; a file in dialects/ describes them";
    Ok(writeln!(out, "  {ways}")?)
}

/// Tags with their uses, their files and the first place.
pub fn most_frequent(
    what: &'static str,
    tags: Vec<(&str, usize, usize, &Place)>,
    most: usize,
    out: &mut impl Write,
) -> Result<()> {
    let columns = [(what, Align::Left), ("uses", Align::Right), ("files", Align::Right), ("first", Align::Left)];
    let mut table = Table::new(&columns);
    for (tag, uses, files, first) in tags.iter().take(most) {
        table.row([(*tag).to_owned(), number(*uses), number(*files), format!("{}:{}", first.file, first.line)]);
    }
    table.print(out)?;
    if tags.len() > most {
        writeln!(out, "  {FAINT}and {} more; --format json lists all{PLAIN}", tags.len() - most)?;
    }
    Ok(())
}

fn files(survey: &Survey, out: &mut impl Write) -> Result<()> {
    let chained = survey.files.iter().any(|file| file.parent.is_some() || !file.blocks.is_empty());
    let mut columns = vec![
        ("file", Align::Left),
        ("role", Align::Left),
        ("dialect", Align::Left),
        ("lines", Align::Right),
        ("bytes", Align::Right),
    ];
    if chained {
        columns.extend([("blocks", Align::Right), ("parent", Align::Left)]);
    }
    let mut table = Table::new(&columns);
    for file in &survey.files {
        let mut row = vec![
            file.path.clone(),
            file.role.word().into(),
            file.dialect.clone(),
            number(file.lines),
            number(file.bytes),
        ];
        if chained {
            let blocks = if file.blocks.is_empty() { String::new() } else { number(file.blocks.len()) };
            row.extend([blocks, file.parent.clone().unwrap_or_else(|| "-".into())]);
        }
        table.row(row);
    }
    Ok(table.print(out)?)
}

fn folders(survey: &Survey, out: &mut impl Write) -> Result<()> {
    let mut sums: BTreeMap<(String, &str, &str), (usize, usize, usize)> = BTreeMap::new();
    for file in &survey.files {
        let top = file.path.split('/').next().filter(|_| file.path.contains('/')).unwrap_or(".");
        let sum = sums.entry((top.to_owned(), file.role.word(), &file.dialect)).or_default();
        *sum = (sum.0 + 1, sum.1 + file.lines, sum.2 + file.bytes);
    }
    let columns = [
        ("directory", Align::Left),
        ("role", Align::Left),
        ("dialect", Align::Left),
        ("files", Align::Right),
        ("lines", Align::Right),
        ("bytes", Align::Right),
    ];
    let mut table = Table::new(&columns);
    let mut rows: Vec<_> = sums.into_iter().collect();
    rows.sort_by(|a, b| b.1.2.cmp(&a.1.2).then(a.0.cmp(&b.0)));
    let more = rows.len().saturating_sub(LISTED);
    for ((folder, role, dialect), (files, lines, bytes)) in rows.into_iter().take(LISTED) {
        table.row([folder, role.into(), dialect.into(), number(files), number(lines), number(bytes)]);
    }
    table.print(out)?;
    if more > 0 {
        writeln!(out, "  {FAINT}and {more} more directories; --format json lists every file{PLAIN}")?;
    }
    Ok(())
}

/// How many files of each role there are in each dialect.
fn roles(survey: &Survey, out: &mut impl Write) -> Result<()> {
    let mut roles: BTreeMap<Role, BTreeMap<&str, usize>> = BTreeMap::new();
    for file in &survey.files {
        *roles.entry(file.role).or_default().entry(&file.dialect).or_default() += 1;
    }
    for (role, dialects) in roles {
        let all = dialects.values().sum();
        let list: Vec<String> =
            dialects.iter().map(|(dialect, files)| format!("{} in {dialect}", number(*files))).collect();
        writeln!(out, "  {}: {}", count(all, role.word()), list.join(", "))?;
    }
    Ok(())
}
