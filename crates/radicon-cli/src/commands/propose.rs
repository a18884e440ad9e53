//! `propose`: a restructuring, with its proof.

use std::collections::BTreeMap;
use std::io::Write;

use anyhow::Result;
use radicon::propose::{ProposedBlock, ProposedChange, ProposedLayout};
use radicon::{Proposal, Strength, disk, propose, text};

use super::loading::{load, options, state};
use super::survey::most_frequent;
use super::writing::{sources, write_file, wrote};
use super::{assumptions, explain, is_json, json, out, problems};
use crate::arguments::{Arguments, ProposeArguments};
use crate::output::{
    Align, BAD, FAINT, GOOD, PLAIN, STRONG, Table, WIDTH, again, busy, change, count, headline, how_equal, left_as_is,
    next, note, number, quoted_path, shorten,
};
use crate::{DIFFERENT, FINE};

pub fn run(arguments: &Arguments, wanted: &ProposeArguments) -> Result<u8> {
    let loaded = load(arguments)?;
    let working = busy("looking for layouts");
    let options = options(&loaded, &wanted.how, &wanted.chosen)?;
    let proposal = propose(&loaded.site, &options)?;
    drop(working);
    // Only what is shown as a whole is a choice. Where nothing can be kept, the site can be looked at all the same.
    let is_choice = wanted.explain.is_none() && !is_json(arguments);
    let kept =
        if is_choice { state(arguments).and_then(|state| Ok(disk::keep(&state, &loaded, &proposal)?)) } else { Ok(()) };
    if let Err(error) = kept {
        note(&format!("note: radicon adopt will not find this proposal: {error}"));
    }
    let (into, patch) = (wanted.into.as_deref(), wanted.patch.as_deref());
    if let Some(into) = into {
        disk::write_site(&loaded, &sources(&proposal), into)?;
        wrote(into);
    }
    if let Some(patch) = patch {
        write_file(patch, proposal.patch(&loaded.site))?;
    }
    let mut out = out();
    if let Some(path) = &wanted.explain {
        match is_json(arguments) {
            true => json(&mut out, &explain::explanation(&proposal, &loaded.site, path)?)?,
            false => explain::print(&proposal, &loaded.site, path, &mut out)?,
        }
        return Ok(code(&proposal));
    }
    if is_json(arguments) {
        json(&mut out, &proposal)?;
        return Ok(code(&proposal));
    }
    print(&proposal, wanted.show, &mut out)?;
    problems(&mut out, &loaded.problems)?;
    for setting in proposal.without_effect(&options) {
        writeln!(out, "{BAD}warning:{PLAIN} radicon.toml: {setting}")?;
    }
    match (proposal.files.first(), into) {
        (None, _) if !proposal.unexplained.is_empty() => {
            next(&mut out, "radicon dialect learn, to infer the meaning of the tag-like texts")?;
        }
        (None, _) => next(&mut out, "radicon survey, to see the role of each file")?,
        (Some(_), Some(into)) => {
            let (folder, into) = (quoted_path(&loaded.folder), quoted_path(into));
            next(&mut out, &format!("review {into}, then radicon prove {folder} {into}"))?
        }
        (Some(_), None) => {
            if proposal.changes.len() > 1 {
                writeln!(out, "\n{FAINT}For some of the changes: --only NUMBER… or --except NUMBER…{PLAIN}")?;
            }
            next(&mut out, &format!("{}, to review all files; radicon adopt, to write them", again("--into NEW-DIR")))?
        }
    }
    Ok(code(&proposal))
}

/// The changes, a line each.
pub fn changes(changes: &[ProposedChange], out: &mut impl Write) -> Result<()> {
    let columns = [
        ("", Align::Right),
        ("change", Align::Left),
        ("files", Align::Right),
        ("saves", Align::Right),
        ("pages", Align::Left),
    ];
    let mut table = Table::new(&columns);
    for change in changes {
        let strength = change.strength.map_or("", Strength::word);
        let pages = if change.pages == 0 { "-".to_owned() } else { format!("{}, {strength}", number(change.pages)) };
        let (at, files) = (number(change.number), number(change.files.len()));
        table.row([at, change.path.clone(), files, number(change.saves), pages]);
    }
    Ok(table.print(out)?)
}

fn code(proposal: &Proposal) -> u8 {
    if proposal.proof.equal { FINE } else { DIFFERENT }
}

/// A proposal of more changes begins with so many, those that save most.
const MOST_CHANGES: usize = 10;

/// Shows a proposal.
pub fn print(proposal: &Proposal, show: bool, out: &mut impl Write) -> Result<()> {
    unexplained(proposal, out)?;
    if proposal.files.is_empty() && !proposal.unexplained.is_empty() {
        return left(proposal, out);
    }
    if proposal.files.is_empty() {
        headline(out, "Nothing to propose: no layout would make these pages smaller.")?;
        return left(proposal, out);
    }
    let pages = proposal.layouts.iter().map(|layout| layout.pages).sum::<usize>();
    let all = pages + proposal.left.len();
    let (layouts, changed) = (count(proposal.layouts.len(), "layout"), count(proposal.files.len(), "file"));
    let headed = match proposal.layouts.is_empty() {
        false => {
            format!("{layouts} for {} of {}, in {}", number(pages), count(all, "page"), proposal.dialect)
        }
        true => format!("No new layouts; {changed} to change"),
    };
    headline(out, &headed)?;
    if proposal.changes.len() > MOST_CHANGES {
        writeln!(out, "\nThe {MOST_CHANGES} largest changes:")?;
        let mut most: Vec<ProposedChange> = proposal.changes.clone();
        most.sort_by_key(|change| (std::cmp::Reverse(change.saves), change.number));
        most.truncate(MOST_CHANGES);
        changes(&most, out)?;
    }
    for layout in &proposal.layouts {
        writeln!(out)?;
        blocks(proposal, layout, out)?;
    }
    uncovered(proposal, out)?;
    partials(proposal, out)?;
    writeln!(out)?;
    sizes(proposal, out)?;
    proof(proposal, out)?;
    healed(proposal, out)?;
    left(proposal, out)?;
    out_of_step(proposal, out)?;
    let layouts = proposal.layouts.iter().map(|layout| &layout.path);
    for path in layouts.chain(proposal.partials.iter().map(|partial| &partial.path)).filter(|_| show) {
        let Some(file) = proposal.files.iter().find(|file| file.path == *path) else { continue };
        writeln!(out)?;
        headline(out, path)?;
        writeln!(out, "{}", String::from_utf8_lossy(&file.bytes).trim_end())?;
    }
    Ok(())
}

/// Tag-like text that no dialect explains, and the two ways on.
fn unexplained(proposal: &Proposal, out: &mut impl Write) -> Result<()> {
    const MOST: usize = 6;
    let Some(first) = proposal.unexplained.first() else { return Ok(()) };
    let uses = proposal.unexplained.iter().map(|tag| tag.uses).sum();
    headline(
        out,
        &format!("{} unknown to every dialect; pages with them are not changed", count(uses, "tag-like text")),
    )?;
    let tags = proposal.unexplained.iter().map(|tag| (tag.text.as_str(), tag.uses, tag.files, &tag.first));
    most_frequent("text", tags.collect(), MOST, out)?;
    let example = example(&first.text);
    writeln!(
        out,
        "  If they are tags: describe them in dialects/mine.toml, with one example of each kind:\n\n    \
         name  = \"mine\"\n    files = [\"**/*\"]\n    [forms]\n    {example}\n\n  \
         If they are text: radicon propose --dialect margin"
    )?;
    Ok(())
}

/// A piece of tag-like text as the line of a form: what is between its brackets may vary. Signs alone fence headers.
fn example(text: &str) -> String {
    let is_inside = |c: char| c.is_alphanumeric();
    match text.find(is_inside).zip(text.rfind(is_inside)) {
        Some((start, end)) => {
            let close = end + text[end..].chars().next().map_or(1, char::len_utf8);
            format!("output = '{}<expr>{}'", &text[..start], &text[close..])
        }
        None => format!("parent = {{ header = '{text}', form = 'layout: <target>' }}"),
    }
}

/// The number of a change before its path.
fn numbered(proposal: &Proposal, path: &str) -> String {
    let change = proposal.changes.iter().find(|change| change.path == path);
    change.map_or("  ".to_owned(), |change| format!("{FAINT}{}{PLAIN} ", change.number))
}

/// A layout with its blocks.
fn blocks(proposal: &Proposal, layout: &ProposedLayout, out: &mut impl Write) -> Result<()> {
    let file = proposal.files.iter().find(|file| file.path == layout.path);
    let lines = file.map_or_else(
        || "unchanged".to_owned(),
        |file| {
            let lines = count(text::count_lines(&file.bytes), "line");
            if layout.existing { format!("in the site already, {lines} now") } else { lines }
        },
    );
    let extends = layout.extends.as_ref().map_or_else(String::new, |path| format!(" extends {path}"));
    let below = match layout.beneath - layout.pages {
        0 => String::new(),
        some => format!(" and by {} more through other layouts", number(some)),
    };
    let pages = if layout.existing {
        format!("{} changed", count(layout.pages, "page"))
    } else {
        format!("used by {}", count(layout.pages, "page"))
    };
    let number = numbered(proposal, &layout.path);
    writeln!(out, "{number}{STRONG}{}{PLAIN}{extends}  {FAINT}{lines}, {pages}{below}{PLAIN}", layout.path)?;
    let reason = layout.reason.as_ref().map(|reason| format!("for {reason}"));
    let overrides = (!layout.fills.is_empty()).then(|| format!("overrides {}", layout.fills.join(", ")));
    let told: Vec<String> = reason.into_iter().chain(overrides).collect();
    if !told.is_empty() {
        writeln!(out, "  {FAINT}{}{PLAIN}", shorten(&told.join("; "), WIDTH))?;
    }
    // Of a layout that was there before only what its new pages say is news.
    let is_shown = |block: &&ProposedBlock| !layout.existing || block.overridden_by + block.layouts > 0;
    let blocks: Vec<&ProposedBlock> = layout.blocks.iter().filter(is_shown).collect();
    if blocks.is_empty() {
        return Ok(());
    }
    let columns = [
        ("block", Align::Left),
        ("line", Align::Right),
        ("default", Align::Left),
        ("set in layouts", Align::Right),
        ("set in pages", Align::Left),
        ("bytes", Align::Right),
        ("e.g.", Align::Left),
    ];
    let mut table = Table::new(&columns);
    // The marks of a menu's items are one thing.
    let marks = |block: &ProposedBlock| block.name.starts_with(MARKS);
    for alike in blocks.chunk_by(|a, b| marks(a) && marks(b)) {
        if alike.len() < LEAST_ALIKE {
            alike.iter().for_each(|block| table.row(cells(layout, &block.name, &[block])));
        } else {
            table.row(cells(layout, &format!("{MARKS}… ({} blocks)", alike.len()), alike));
        }
    }
    Ok(table.print(out)?)
}

/// How the names of blocks begin that mark the current item of a menu.
const MARKS: &str = "current_";

/// So many blocks that are alike are one row.
const LEAST_ALIKE: usize = 3;

/// A row of the table for blocks that are alike, mostly one.
fn cells(layout: &ProposedLayout, name: &str, alike: &[&ProposedBlock]) -> [String; 7] {
    let overridden: usize = alike.iter().map(|block| block.overridden_by).sum();
    let layouts = alike.iter().map(|block| block.layouts).sum();
    let is_all = overridden == layout.beneath && alike.len() == 1;
    let such_as: Vec<&str> = alike.iter().flat_map(|block| &block.such_as).map(String::as_str).collect();
    let shown = such_as[..such_as.len().min(if is_all { 0 } else { 2 })].join(", ");
    let dots = if !is_all && overridden > 2 { ", …" } else { "" };
    [
        name.to_owned(),
        number(alike[0].line as usize),
        if alike[0].default { "yes" } else { "-" }.to_owned(),
        if layouts == 0 { "-".into() } else { number(layouts) },
        if is_all { "all".into() } else { number(overridden) },
        number(alike.iter().map(|block| block.bytes).sum()),
        shown + dots,
    ]
}

/// Files that take what they hide as their layout.
fn uncovered(proposal: &Proposal, out: &mut impl Write) -> Result<()> {
    for file in proposal.uncovered() {
        let (hidden, lines) = (file.extends.as_deref().unwrap_or_default(), text::count_lines(&file.bytes));
        let lines = count(lines, "line");
        let number = numbered(proposal, &file.path);
        writeln!(
            out,
            "\n{number}{STRONG}{}{PLAIN} extends {hidden}, which it replaces  {FAINT}{lines}{PLAIN}",
            file.path
        )?;
    }
    Ok(())
}

fn partials(proposal: &Proposal, out: &mut impl Write) -> Result<()> {
    if proposal.partials.is_empty() {
        return smaller_repeats(proposal, out);
    }
    writeln!(out)?;
    let columns = [
        ("", Align::Left),
        ("partial", Align::Left),
        ("uses", Align::Right),
        ("files", Align::Right),
        ("parameters", Align::Right),
        ("bytes", Align::Right),
    ];
    let mut table = Table::new(&columns);
    for partial in &proposal.partials {
        let parameters = if partial.parameters == 0 { "-".into() } else { number(partial.parameters) };
        let (uses, files, bytes) = (number(partial.uses), number(partial.files), number(partial.bytes));
        let change = proposal.changes.iter().find(|change| change.path == partial.path);
        let at = change.map_or(String::new(), |change| number(change.number));
        table.row([at, partial.path.clone(), uses, files, parameters, bytes]);
    }
    table.print(out)?;
    smaller_repeats(proposal, out)
}

/// The repeats that are no partial, in one line.
fn smaller_repeats(proposal: &Proposal, out: &mut impl Write) -> Result<()> {
    match proposal.smaller_repeats {
        0 => Ok(()),
        all => Ok(writeln!(out, "\n{FAINT}{}: radicon repeats{PLAIN}", count(all, "smaller repeat"))?),
    }
}

fn sizes(proposal: &Proposal, out: &mut impl Write) -> Result<()> {
    let mut table =
        Table::new(&[("", Align::Left), ("before", Align::Right), ("after", Align::Right), ("change", Align::Right)]);
    let (before, after) = (proposal.before, proposal.after);
    for (word, before, after) in [
        ("files", before.files, after.files),
        ("lines", before.lines, after.lines),
        ("bytes", before.bytes, after.bytes),
    ] {
        table.row([word.into(), number(before), number(after), change(before, after)]);
    }
    Ok(table.print(out)?)
}

fn proof(proposal: &Proposal, out: &mut impl Write) -> Result<()> {
    let equal = |strength: Strength| proposal.proof.equal_at(strength);
    let proven: Vec<String> = [Strength::Bytes, Strength::Blanks, Strength::Dom]
        .into_iter()
        .filter(|&strength| equal(strength) > 0)
        .map(|strength| format!("{} {}", number(equal(strength)), how_equal(strength)))
        .collect();
    let failed = proposal.proof.different().count();
    let colour = if failed == 0 { GOOD } else { BAD };
    let all = match (failed, proposal.healed.is_empty()) {
        (0, true) => "No page changes",
        (0, false) => "No page changes except those brought up to date",
        _ => "Some pages would change",
    };
    writeln!(
        out,
        "\n{colour}{all}.{PLAIN} {} verified: {}",
        count(proposal.proof.pages.len() - failed, "page"),
        proven.join(", ")
    )?;
    assumptions::print(&proposal.proof.assumptions, out)
}

/// Outdated pages that change.
fn healed(proposal: &Proposal, out: &mut impl Write) -> Result<()> {
    if proposal.healed.is_empty() {
        return Ok(());
    }
    writeln!(out, "\nBrought up to date: {}", count(proposal.healed.len(), "place"))?;
    for healed in &proposal.healed {
        writeln!(out, "  {}:{}\n    {FAINT}{}{PLAIN}", healed.page, healed.line, healed.difference)?;
    }
    Ok(())
}

/// Pages that keep their form, grouped by reason.
fn left(proposal: &Proposal, out: &mut impl Write) -> Result<()> {
    const MOST: usize = 12;
    let mut reasons: BTreeMap<&str, Vec<&str>> = BTreeMap::new();
    for left in &proposal.left {
        reasons.entry(&left.reason).or_default().push(&left.page);
    }
    if reasons.is_empty() {
        return Ok(());
    }
    writeln!(out, "\n{}", left_as_is(proposal.left.len()))?;
    let mut reasons: Vec<_> = reasons.into_iter().collect();
    reasons.sort_by_key(|(reason, pages)| (std::cmp::Reverse(pages.len()), *reason));
    for (reason, pages) in reasons.iter().take(MOST) {
        let shown = pages.iter().take(3).copied().collect::<Vec<_>>().join(", ");
        let dots = if pages.len() > 3 { format!(" and {} more", pages.len() - 3) } else { String::new() };
        writeln!(out, "  {shown}{dots}\n    {FAINT}{reason}{PLAIN}")?;
    }
    if reasons.len() > MOST {
        writeln!(out, "  {FAINT}and {} more reasons; --format json lists all{PLAIN}", reasons.len() - MOST)?;
    }
    Ok(())
}

/// Pages with blocks that no other page uses: mostly outdated copies.
fn out_of_step(proposal: &Proposal, out: &mut impl Write) -> Result<()> {
    const MOST: usize = 5;
    let mut pages: BTreeMap<&str, Vec<&str>> = BTreeMap::new();
    for block in proposal.layouts.iter().flat_map(|layout| &layout.blocks).filter(|block| block.drift) {
        block.such_as.iter().for_each(|page| pages.entry(page).or_default().push(&block.name));
    }
    if pages.is_empty() {
        return Ok(());
    }
    let named = |(page, blocks): (&&str, &Vec<&str>)| format!("{page} ({})", blocks.join(", "));
    let shown: Vec<String> = pages.iter().take(MOST).map(named).collect();
    let more = if pages.len() > MOST { format!(", and {} more", pages.len() - MOST) } else { String::new() };
    writeln!(out, "\nThese blocks exist for one page only: {}{more}", shown.join(", "))?;
    if proposal.healed.is_empty() {
        writeln!(
            out,
            "  {FAINT}To bring outdated copies up to date, and drop these blocks: {}{PLAIN}",
            again("--heal")
        )?;
    }
    Ok(())
}
