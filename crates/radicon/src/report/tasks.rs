//! What to do first.

use serde::Serialize;

use crate::check::{Checked, Severity};
use crate::propose::Proposal;
use crate::repeats::{AdviceKind, Repeats};
use crate::site::Role;
use crate::text::count;

/// How many tasks are told.
const MOST: usize = 3;

/// A proposal is worth telling of if it saves so much of a site.
const WORTHWHILE: f64 = 0.02;

/// Something that is worth doing.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Task {
    /// Of what kind it is.
    pub kind: TaskKind,
    /// The task and its gain, in a sentence.
    pub message: String,
    /// The command that does it or shows more.
    pub command: String,
}

/// The kinds of tasks, the most urgent first.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum TaskKind {
    /// Pages are broken.
    Errors,
    /// Layouts and partials wait to be adopted.
    Adopt,
    /// Something is most likely not as it was meant.
    Warnings,
    /// Copies are outdated.
    Drift,
    /// A partial is pasted where it could be included.
    Include,
    /// Markup that was copied side by side.
    Loop,
}

pub(super) fn find(checked: &Checked, repeats: &Repeats, proposal: Option<&Proposal>) -> Vec<Task> {
    let mut tasks: Vec<Task> = [Severity::Error, Severity::Warning]
        .into_iter()
        .filter_map(|severity| findings(checked, severity))
        .chain(proposal.and_then(adopt))
        .chain(drift(repeats))
        .chain([AdviceKind::Include, AdviceKind::Loop].into_iter().filter_map(|kind| repeat(repeats, kind)))
        .collect();
    tasks.sort_by_key(|task| task.kind);
    tasks.truncate(MOST);
    tasks
}

fn findings(checked: &Checked, severity: Severity) -> Option<Task> {
    let first = checked.findings.iter().find(|finding| finding.severity == severity)?;
    let place = format!("{}:{}: {}", first.file, first.line, first.message);
    let (kind, what) = match severity {
        Severity::Error => (TaskKind::Errors, "error"),
        _ => (TaskKind::Warnings, "warning"),
    };
    let message = match checked.count(severity) {
        1 => format!("Review the {what} in {place}"),
        many => format!("Review the {}, e.g. {place}", count(many, what)),
    };
    Some(Task { kind, message, command: format!("radicon check {}", first.file) })
}

fn adopt(proposal: &Proposal) -> Option<Task> {
    let (before, after) = (proposal.before.bytes, proposal.after.bytes);
    if proposal.changes.is_empty() || (before.saturating_sub(after) as f64) < WORTHWHILE * before as f64 {
        return None;
    }
    let (new, better): (Vec<_>, Vec<_>) = proposal.layouts.iter().partition(|layout| !layout.existing);
    let parts = [(new.len(), "new layout"), (better.len(), "improved layout"), (proposal.partials.len(), "partial")];
    let parts: Vec<String> =
        parts.iter().filter(|(some, _)| *some > 0).map(|(some, what)| count(*some, what)).collect();
    let pages = proposal.files.iter().filter(|file| file.role == Role::Page).count();
    let percent = (1.0 - after as f64 / before as f64) * 100.0;
    let assumed = match proposal.proof.assumptions.len() {
        0 => String::new(),
        some => format!(", if {} hold{}", count(some, "assumption"), if some == 1 { "s" } else { "" }),
    };
    let message = format!(
        "Adopt {} for {}: {percent:.0}% less to maintain, and no page changes{assumed}",
        parts.join(", "),
        count(pages, "page"),
    );
    Some(Task { kind: TaskKind::Adopt, message, command: "radicon propose".into() })
}

fn drift(repeats: &Repeats) -> Option<Task> {
    let group = repeats.groups.iter().find(|group| !group.drift.is_empty())?;
    // The plainest difference is the best example.
    let first = group.drift.iter().min_by_key(|drift| drift.difference.len())?;
    let all: usize = repeats.groups.iter().map(|group| group.drift.len()).sum();
    let place = format!("{}:{} {}", first.file, first.line, first.difference);
    let message = match all {
        1 => format!("Review the outdated copy: {place}"),
        many => format!("Review {} that are outdated, e.g. {place}", count(many, "copy")),
    };
    Some(Task { kind: TaskKind::Drift, message, command: format!("radicon repeats {}", group.id) })
}

fn repeat(repeats: &Repeats, wanted: AdviceKind) -> Option<Task> {
    let group = repeats.groups.iter().find(|group| group.advice.kind == wanted)?;
    let (kind, message) = match wanted {
        AdviceKind::Include => {
            let file = group.advice.file.as_deref().unwrap_or("the partial");
            (TaskKind::Include, format!("Include {file} instead of its {} pasted copies", group.copies.len()))
        }
        _ => {
            let copies = group.copies.len();
            (TaskKind::Loop, format!("Write a loop for {copies} copies in a row, in {}", group.copies[0].file))
        }
    };
    Some(Task { kind, message, command: format!("radicon repeats {}", group.id) })
}
