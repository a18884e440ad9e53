//! `check`: errors and likely mistakes, and their fixes.

use std::io::{ErrorKind, Write};
use std::path::Path;

use annotate_snippets::renderer::DecorStyle;
use annotate_snippets::{AnnotationKind, Group, Level, Renderer, Snippet};
use anstyle::{AnsiColor, Style};
use anyhow::{Context, Result, bail};
use radicon::check::{Baseline, Checked, Checks, Finding, Fixed, RULES, Rule, Severity, fix};
use radicon::disk::{Loaded, Reader};
use radicon::site::{ProblemKind, beneath};
use radicon::text::{SourceId, Span};

use super::loading::load;
use super::lookup::{find_directories, find_page, suggestion};
use super::writing::{summary as files_summary, write, write_file, wrote};
use super::{assumptions, is_json, json, out, sarif, watch};
use crate::arguments::{Arguments, CheckArguments};
use crate::output::{Align, BAD, FAINT, GOOD, PLAIN, STRONG, Table, busy, count, headline, next, note};
use crate::terminal::{Paint, defused, painted};
use crate::{DIFFERENT, FINE};

/// The colour of warnings.
const MAGENTA: Style = AnsiColor::Magenta.on_default().bold();

/// The same in a line.
const WARNING: Paint = Paint::of(MAGENTA);

/// How many findings are shown with their source.
const SHOWN: usize = 60;

pub fn run(arguments: &Arguments, wanted: &CheckArguments) -> Result<u8> {
    if !wanted.fix && (wanted.allow.uncommitted || wanted.allow.assume) {
        bail!("--uncommitted and --assume need --fix");
    }
    let loaded = load(arguments)?;
    let working = busy("checking");
    let mut checked = look(&loaded, &mut Checks::new(&rules(&wanted.rule)?), wanted)?;
    drop(working);
    if let Some(path) = &wanted.baseline {
        begin_with(path, &mut checked)?;
    }
    if let Some(path) = &wanted.sarif {
        write_file(path, serde_json::to_vec_pretty(&sarif::log(&checked))?)?;
    }
    if wanted.fix {
        return fixing(arguments, &loaded, &checked, wanted);
    }
    show_all(arguments, wanted, &loaded, &checked)?;
    Ok(if checked.is_clean(wanted.fail_on.into()) { FINE } else { DIFFERENT })
}

/// Leaves out what a baseline lists; writes it if it is not there.
fn begin_with(path: &Path, checked: &mut Checked) -> Result<()> {
    let (baseline, said) = match std::fs::read_to_string(path) {
        Ok(text) => (Baseline::parse(&text).with_context(|| format!("{}", path.display()))?, "left out"),
        Err(error) if error.kind() == ErrorKind::NotFound => {
            let baseline = Baseline::of(checked);
            std::fs::write(path, baseline.text()).with_context(|| format!("{} cannot be written", path.display()))?;
            wrote(path);
            (baseline, "listed; remove the file to start again")
        }
        Err(error) => return Err(error).with_context(|| format!("{} cannot be read", path.display())),
    };
    let known = baseline.subtract(checked);
    note(&format!("note: {}: {} {said}", path.display(), count(known, "finding")));
    Ok(())
}

/// Checks again whenever a file changes. `drift` compares all files, and is looked for only if
/// it is named.
pub fn watch(arguments: &Arguments, wanted: &CheckArguments) -> Result<u8> {
    let mut rules = rules(&wanted.rule)?;
    if wanted.rule.is_empty() {
        rules.retain(|rule| rule.id != "drift");
    }
    // What is wrong with the folder is said before it is watched.
    let folder = load(arguments)?.folder;
    let (mut reader, mut checks) = (Reader::new(&folder), Checks::new(&rules));
    watch::run(&folder, || {
        let loaded = reader.read()?;
        show_all(arguments, wanted, &loaded, &look(&loaded, &mut checks, wanted)?)
    })
}

/// The findings in the files and directories asked for.
fn look(loaded: &Loaded, checks: &mut Checks, wanted: &CheckArguments) -> Result<Checked> {
    let files: Vec<SourceId> = wanted.files.iter().map(|file| find_page(loaded, file)).collect::<Result<_>>()?;
    let folders = find_directories(loaded, &wanted.only)?;
    let mut checked = checks.check(&loaded.site);
    let unread = loaded.problems.iter().filter(|problem| problem.kind == ProblemKind::File);
    checked.skipped.extend(unread.map(ToString::to_string));
    if !folders.is_empty() {
        checked.findings.retain(|finding| folders.iter().any(|folder| beneath(&finding.file, folder).is_some()));
    }
    if !files.is_empty() {
        let paths: Vec<&str> = files.iter().map(|id| loaded.site.get(*id).path.as_str()).collect();
        checked.findings.retain(|finding| paths.contains(&finding.file.as_str()));
    }
    Ok(checked)
}

fn show_all(arguments: &Arguments, wanted: &CheckArguments, loaded: &Loaded, checked: &Checked) -> Result<()> {
    let mut out = out();
    if is_json(arguments) {
        return json(&mut out, checked);
    }
    print(loaded, checked, wanted.brief, &mut out)
}

fn rules(wanted: &[String]) -> Result<Vec<Rule>> {
    if wanted.is_empty() {
        return Ok(RULES.to_vec());
    }
    wanted.iter().map(|id| find_rule(id)).collect()
}

fn find_rule(id: &str) -> Result<Rule> {
    let known: Vec<&str> = RULES.iter().map(|rule| rule.id).collect();
    match RULES.iter().find(|rule| rule.id == id) {
        Some(rule) => Ok(*rule),
        None => {
            bail!(
                "no rule `{id}`; {}",
                suggestion(id, &known).replace("`radicon survey` lists", "`radicon check --list` lists")
            )
        }
    }
}

/// All rules, a line each.
pub fn list(arguments: &Arguments) -> Result<u8> {
    let mut out = out();
    if is_json(arguments) {
        json(&mut out, &RULES)?;
        return Ok(FINE);
    }
    let columns = [("rule", Align::Left), ("severity", Align::Left), ("finds", Align::Left)];
    let mut table = Table::new(&columns);
    for rule in RULES {
        table.row([rule.id.to_owned(), rule.severity.word().to_owned(), rule.summary().to_owned()]);
    }
    table.print(&mut out)?;
    next(&mut out, "radicon check --explain RULE, for an example and how to fix it")?;
    Ok(FINE)
}

pub fn explain(arguments: &Arguments, id: &str) -> Result<u8> {
    let rule = find_rule(id)?;
    let mut out = out();
    if is_json(arguments) {
        json(&mut out, &rule)?;
        return Ok(FINE);
    }
    writeln!(out, "{STRONG}{}{PLAIN} {FAINT}({}){PLAIN}\n\n{}\n", rule.id, rule.severity.word(), rule.meaning)?;
    for line in rule.example.lines() {
        match line.strip_prefix("-- ") {
            Some(path) => writeln!(out, "  {FAINT}{path}{PLAIN}")?,
            None => writeln!(out, "    {line}")?,
        }
    }
    writeln!(out, "\n{}", rule.remedy)?;
    next(&mut out, &format!("radicon check --rule {}", rule.id))?;
    Ok(FINE)
}

fn print(loaded: &Loaded, checked: &Checked, brief: bool, out: &mut impl Write) -> Result<()> {
    let renderer = Renderer::styled().decor_style(DecorStyle::Unicode).warning(MAGENTA);
    let told = checked.told_once(&loaded.site);
    for (finding, others) in told.iter().take(SHOWN) {
        line(finding, *others, out)?;
        // What is about a file as a whole has no place to show.
        if !brief && finding.severity != Severity::Hint && !finding.span.is_empty() {
            let shown = defused_finding(finding);
            writeln!(out, "{}\n", painted(&renderer.render(&[report(loaded, &shown)])))?;
        }
    }
    if told.len() > SHOWN {
        let more = told.len() - SHOWN;
        writeln!(out, "{FAINT}and {more} more; --format json lists all, --rule RULE only one kind{PLAIN}")?;
    }
    if !told.is_empty() {
        writeln!(out)?;
    }
    for page in &checked.skipped {
        writeln!(out, "{BAD}not checked{PLAIN} {page}")?;
    }
    headline(out, &summary(checked))?;
    let fixes = checked.findings.iter().filter(|finding| finding.fix.is_some()).count();
    match (checked.findings.first(), fixes) {
        (None, _) => next(out, "radicon repeats, to find duplicated markup")?,
        (Some(_), 1..) => next(out, &format!("radicon check --fix, to fix {} automatically", count(fixes, "finding")))?,
        (Some(first), 0) => {
            next(out, &format!("radicon check --explain {}, for what to do about the first one", first.rule))?
        }
    }
    Ok(())
}

fn summary(checked: &Checked) -> String {
    let counts: Vec<String> = [Severity::Error, Severity::Warning, Severity::Hint]
        .into_iter()
        .filter(|severity| checked.count(*severity) > 0)
        .map(|severity| count(checked.count(severity), severity.word()))
        .collect();
    let found = if counts.is_empty() { "Nothing found".to_owned() } else { counts.join(", ") };
    let suppressed = match checked.suppressed {
        0 => String::new(),
        some => format!("; {} suppressed", some),
    };
    format!("{found} in {}{suppressed}", count(checked.files, "template"))
}

fn line(finding: &Finding, others: usize, out: &mut impl Write) -> Result<()> {
    let more = if others > 0 { format!(", and in {}", count(others, "other place")) } else { String::new() };
    let style = match finding.severity {
        Severity::Error => BAD,
        Severity::Warning => WARNING,
        Severity::Hint => FAINT,
    };
    let Finding { file, line, column, severity, rule, message, .. } = finding;
    Ok(writeln!(
        out,
        "{file}:{line}:{column}: {style}{}:{PLAIN} {message}{more} {FAINT}[{rule}]{PLAIN}",
        severity.word()
    )?)
}

/// The finding, with texts that may be painted.
fn defused_finding(finding: &Finding) -> Finding {
    let mut shown = finding.clone();
    shown.related.iter_mut().for_each(|related| related.message = defused(&related.message));
    shown.fix.iter_mut().for_each(|fix| fix.message = defused(&fix.message));
    shown
}

/// A finding with its source.
fn report<'a>(loaded: &Loaded, finding: &'a Finding) -> Group<'a> {
    let level = match finding.severity {
        Severity::Error => Level::ERROR,
        Severity::Warning => Level::WARNING,
        Severity::Hint => Level::INFO,
    };
    let own = snippet(loaded, &finding.file, finding.span, AnnotationKind::Primary, "");
    let mut group = Group::with_level(level).element(own);
    for related in &finding.related {
        if !related.span.is_empty() {
            let there = snippet(loaded, &related.file, related.span, AnnotationKind::Context, &related.message);
            group = group.element(there.path(defused(&related.file)));
        }
    }
    if let Some(fix) = &finding.fix {
        group = group.element(Level::HELP.with_name("fix").message(&fix.message));
    }
    group
}

/// The lines around a stretch of a file, with the stretch marked.
fn snippet<'a>(
    loaded: &Loaded,
    file: &str,
    span: Span,
    kind: AnnotationKind,
    label: &'a str,
) -> Snippet<'a, annotate_snippets::Annotation<'a>> {
    let source = loaded.site.find(file).map(|id| loaded.site.get(id).source.as_slice()).unwrap_or_default();
    let start = line_start(source, span.start as usize);
    // Only the first line of a long stretch is marked.
    let rest = &source[(span.start as usize).min(source.len())..];
    let line_end = rest.iter().position(|&b| b == b'\n').map_or(source.len(), |at| span.start as usize + at);
    let end = (span.end as usize).clamp(span.start as usize, line_end.max(span.start as usize)).min(source.len());
    let number = source[..start].iter().filter(|&&b| b == b'\n').count() + 1;
    let text = |from: usize, to: usize| {
        defused(String::from_utf8_lossy(&source[from..to]).replace('\t', " ").trim_end_matches('\r'))
    };
    let before = text(start, (span.start as usize).min(source.len()));
    let marked = text((span.start as usize).min(source.len()), end);
    let line = before.clone() + &marked + &text(end, line_end.max(end));
    let range = before.len()..before.len() + marked.len();
    let annotation = kind.span(range);
    let annotation = if label.is_empty() { annotation } else { annotation.label(label) };
    Snippet::source(line).line_start(number).annotation(annotation)
}

/// The offset at which the line of a place begins.
fn line_start(source: &[u8], at: usize) -> usize {
    source[..at.min(source.len())].iter().rposition(|&b| b == b'\n').map_or(0, |end| end + 1)
}

fn fixing(arguments: &Arguments, loaded: &Loaded, checked: &Checked, wanted: &CheckArguments) -> Result<u8> {
    let fixed = fix(&loaded.site, &checked.findings)?;
    let mut out = out();
    // Whatever is left counts as it does without fixing.
    let fails = |finding: &&Finding| finding.severity <= wanted.fail_on.into();
    let left = checked.findings.iter().filter(fails).count() - fixed.findings.iter().filter(fails).count();
    let code = if left == 0 { FINE } else { DIFFERENT };
    if fixed.changes.is_empty() {
        if is_json(arguments) {
            json(&mut out, &fixed)?;
        } else {
            headline(&mut out, "Nothing to fix automatically")?;
            next(&mut out, "radicon check, to see the findings")?;
        }
        return Ok(code);
    }
    let adopted = write(arguments, loaded, "check --fix", &fixed.changes, &fixed.assumptions, wanted.allow)?;
    if is_json(arguments) {
        json(&mut out, &fixed)?;
        return Ok(code);
    }
    show(&fixed, &mut out)?;
    assumptions::print(&fixed.assumptions, &mut out)?;
    headline(&mut out, &format!("Fixed {}: {}", count(fixed.findings.len(), "finding"), files_summary(&adopted)))?;
    next(&mut out, "radicon undo, to undo it")?;
    Ok(code)
}

fn show(fixed: &Fixed, out: &mut impl Write) -> Result<()> {
    for finding in &fixed.findings {
        let fix = finding.fix.as_ref().map_or("", |fix| fix.message.as_str());
        writeln!(out, "{}:{}: {GOOD}{fix}{PLAIN} {FAINT}[{}]{PLAIN}", finding.file, finding.line, finding.rule)?;
    }
    if fixed.changed.is_empty() {
        writeln!(out, "\nNo page changes")?;
    } else {
        let pages = fixed.changed.len();
        let verb = if pages == 1 { "renders" } else { "render" };
        writeln!(out, "\n{} {verb} differently:", count(pages, "page"))?;
        for page in &fixed.changed {
            writeln!(out, "  {}", page.page)?;
            let after = page.difference().and_then(|difference| difference.after.as_ref());
            if let Some(after) = after {
                writeln!(out, "    {FAINT}{}{PLAIN}", after.text)?;
            }
        }
    }
    Ok(writeln!(out)?)
}
