//! The findings, with the lines they are about.

use std::collections::HashMap;

use maud::{Markup, html};
use radicon::Site;
use radicon::check::{Finding, Severity};
use radicon::report::{Inside, Report};

use super::{file_link, marked_up, section as whole};
use crate::output::count;

/// How many findings are shown.
const SHOWN: usize = 300;

pub fn section(site: &Site, report: &Report) -> Markup {
    let checked = &report.checked;
    let sources = Sources::new(&report.inside);
    let mut worst = checked.told_once(site);
    worst.sort_by_key(|(finding, _)| finding.severity);
    let severities = [Severity::Error, Severity::Warning, Severity::Hint];
    let content = html! {
        @if checked.findings.is_empty() { p { "Nothing found." } } @else {
            fieldset.filters id="severities" {
                legend { "Show" }
                @for severity in severities {
                    @let found = checked.count(severity);
                    label { input type="checkbox" value=(severity.word()) checked; " " (count(found, severity.word())) }
                }
            }
            @if worst.len() > SHOWN {
                p { "The worst " (SHOWN) " are shown; radicon check --format json lists all " (checked.findings.len()) "." }
            }
            ol.findings {
                @for (finding, others) in worst.iter().take(SHOWN) { (one(finding, *others, &sources)) }
            }
        }
    };
    whole("findings", "Errors and likely mistakes, with their places and fixes.", content)
}

fn one(finding: &Finding, others: usize, sources: &Sources<'_>) -> Markup {
    html! {
        li class=(finding.severity.word()) {
            p {
                span class={ "severity " (finding.severity.word()) } { (finding.severity.word()) } " "
                (file_link(&finding.file, &format!("{}:{}", finding.file, finding.line))) " "
                (marked_up(&finding.message))
                @if others > 0 { ", and in " (count(others, "other place")) }
                " " code { (finding.rule) }
            }
            (sources.snippet(finding))
            @for related in &finding.related {
                p.faint { (file_link(&related.file, &format!("{}:{}", related.file, related.line))) " " (marked_up(&related.message)) }
            }
            @if let Some(fix) = &finding.fix { p.fix { "Fix: " (marked_up(&fix.message)) } }
        }
    }
}

/// The lines of the site's files, by path.
struct Sources<'a> {
    inside: &'a Inside,
    files: HashMap<&'a str, &'a [u32]>,
}

impl<'a> Sources<'a> {
    fn new(inside: &'a Inside) -> Self {
        let files = inside.before.files.iter().map(|file| (file.path.as_str(), &file.lines[..])).collect();
        Self { inside, files }
    }

    /// The line of a finding with the place marked, and one line before and after it.
    fn snippet(&self, finding: &Finding) -> Markup {
        let Some(lines) = self.files.get(finding.file.as_str()).filter(|_| !finding.span.is_empty()) else {
            return html! {};
        };
        let line = finding.line as usize;
        let numbers = line.saturating_sub(1).max(1)..=(line + 1).min(lines.len());
        let text = |number: usize| self.inside.lines[lines[number - 1] as usize].trim_end();
        html! {
            pre.snippet { @for number in numbers {
                span.number { (number) } " "
                @if number == line {
                    @let (before, marked, after) = marked(text(number), finding.column as usize, finding.span.len());
                    (before) mark { (marked) } (after)
                } @else { span.faint { (text(number)) } }
                "\n"
            } }
        }
    }
}

/// A line before, in and after a place that begins at a column, 1-based, and is so many bytes long.
fn marked(line: &str, column: usize, bytes: usize) -> (&str, &str, &str) {
    let start = line.char_indices().nth(column.saturating_sub(1)).map_or(line.len(), |(at, _)| at);
    let end = (start + bytes..line.len()).find(|&at| line.is_char_boundary(at)).unwrap_or(line.len());
    (&line[..start], &line[start..end], &line[end..])
}

#[cfg(test)]
mod tests {
    use super::marked;

    #[test]
    fn places_are_marked_within_their_line() {
        assert_eq!(marked("a <b> c", 3, 3), ("a ", "<b>", " c"));
        assert_eq!(marked("é<b>", 2, 99), ("é", "<b>", ""));
        assert_eq!(marked("aé", 2, 1), ("a", "é", ""));
        assert_eq!(marked("", 5, 5), ("", "", ""));
    }
}
