//! The repeats: what copies share, and side by side where they differ.

use maud::{Markup, html};
use radicon::repeats::{Fragment, RepeatGroup};
use radicon::report::Report;

use super::{file_link, marked_up, section as whole};
use crate::commands::repeats::{advice, shared};
use crate::output::{count, number};

/// How many groups are shown.
const GROUPS: usize = 60;
/// How many variants of a group, and how many of its places.
const VARIANTS: usize = 8;
const PLACES: usize = 40;
/// How many lines of what they share.
const LINES: usize = 40;

pub fn section(report: &Report) -> Markup {
    let groups = &report.repeats.groups;
    let content = html! {
        p {
            (count(groups.len(), "repeat")) "; " (format!("{:.0}", report.repeats.share * 100.0)) "% of "
            (number(report.repeats.bytes)) " bytes are duplicated."
            @if groups.len() > GROUPS { " The largest " (GROUPS) " are shown; radicon repeats --format json lists all." }
        }
        @for group in groups.iter().take(GROUPS) { (one(group)) }
    };
    whole("repeats", "Duplicated markup, and outdated copies.", content)
}

fn one(group: &RepeatGroup) -> Markup {
    let first_line = group.pattern.split_whitespace().collect::<Vec<_>>().join(" ");
    let first_line: String = first_line.chars().take(90).collect();
    html! {
        details.repeat id={ "repeat-" (group.id) } {
            summary {
                code { (group.id) } " "
                b { (count(group.copies.len(), "copy")) } " "
                span.kind { (group.kind.word()) } " "
                span.preview { (first_line) }
                @if !group.drift.is_empty() { " " span.drift { (count(group.drift.len(), "copy")) " outdated" } }
            }
            p { (advice(group)) "." }
            @if !group.drift.is_empty() {
                h3 { "Outdated" }
                ul { @for drift in group.drift.iter().take(PLACES) {
                    li { (file_link(&drift.file, &format!("{}:{}", drift.file, drift.line))) " " (marked_up(&drift.difference)) }
                } }
            }
            h3 { "In common" }
            pre tabindex="0" {
                @for line in shared(group).take(LINES) { (line) "\n" }
                @if shared(group).count() > LINES { "…" }
            }
            @for variant in group.variants().iter().take(VARIANTS) {
                @let first = &group.copies[variant.copies[0]];
                table.beside {
                    thead { tr {
                        th scope="col" { "usually" }
                        th scope="col" {
                            (file_link(&first.file, &format!("{}:{}", first.file, first.line_start)))
                            @if variant.copies.len() > 1 { " and " (variant.copies.len() - 1) " more" }
                        }
                    } }
                    tbody { @for pair in &variant.lines { tr { td { (side(&pair.usual)) } td { (side(&pair.here)) } } } }
                }
            }
            h3 { "Copies" }
            ul.places { @for copy in group.copies.iter().take(PLACES) {
                li { (file_link(&copy.file, &format!("{}:{}-{}", copy.file, copy.line_start, copy.line_end))) }
            } }
            @if group.copies.len() > PLACES { p { "and " (group.copies.len() - PLACES) " more" } }
        }
    }
}

fn side(line: &[Fragment]) -> Markup {
    html! {
        @if line.is_empty() { span.faint { "nothing" } }
        code { @for part in line { @if part.differs { mark { (part.text) } } @else { (part.text) } } }
    }
}
