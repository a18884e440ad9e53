//! A report as one HTML page that needs nothing else: no network, no other file.

mod data;
mod findings;
mod map;
mod repeats;

use maud::{DOCTYPE, Markup, PreEscaped, html};
use radicon::report::{BlockTable, Report};
use radicon::{Site, disk};

use crate::output::{change, count, left_as_is, number};

/// Nothing is loaded from anywhere, and no preview can do so either.
const POLICY: &str = "default-src 'none'; style-src 'unsafe-inline'; script-src 'unsafe-inline'; img-src data:";

/// The sections: anchor and name.
const SECTIONS: [(&str, &str); 6] = [
    ("overview", "Overview"),
    ("map", "Map"),
    ("blocks", "Blocks"),
    ("inside", "Pages"),
    ("repeats", "Repeats"),
    ("findings", "Findings"),
];

/// The whole page.
pub fn write(name: &str, site: &Site, report: &Report) -> String {
    html! {
        (DOCTYPE)
        html lang="en" {
            head {
                meta charset="utf-8";
                (PreEscaped(disk::REPORT_MARK))
                meta http-equiv="Content-Security-Policy" content=(POLICY);
                meta name="viewport" content="width=device-width, initial-scale=1";
                meta name="color-scheme" content="light dark";
                title { "Radicon: " (name) }
                style { (PreEscaped(include_str!("page.css"))) }
            }
            body {
                a.skip href="#overview" { "Skip to the report" }
                header {
                    h1 { (name) }
                    nav aria-label="Sections" {
                        @for (anchor, title) in SECTIONS {
                            a href={ "#" (anchor) } { (title) }
                        }
                    }
                }
                main {
                    (overview(report))
                    (map::section(report))
                    (blocks(report))
                    (inside(report))
                    (repeats::section(report))
                    (findings::section(site, report))
                }
                footer { "Written by Radicon " (env!("CARGO_PKG_VERSION")) ". This page loads nothing from anywhere." }
                script type="application/json" id="data" { (PreEscaped(data::json(report))) }
                script { (PreEscaped(include_str!("page.js"))) }
            }
        }
    }
    .into_string()
}

fn section(anchor: &str, what: &str, content: Markup) -> Markup {
    let name = SECTIONS.iter().find(|(known, _)| *known == anchor).map_or(anchor, |(_, name)| name);
    html! {
        section id=(anchor) tabindex="-1" aria-labelledby={ (anchor) "-name" } {
            h2 id={ (anchor) "-name" } { (name) }
            p.what { (what) }
            (content)
        }
    }
}

fn overview(report: &Report) -> Markup {
    let totals = report.survey.totals;
    let mut dialects: Vec<&str> = report.survey.files.iter().map(|file| file.dialect.as_str()).collect();
    dialects.sort_unstable();
    dialects.dedup();
    let found = &report.checked;
    let figures = [
        (number(totals.pages), "pages", "#inside"),
        (number(totals.layouts), "layouts", "#map"),
        (number(report.now.map.partials.len()), "partials", "#map"),
        (format!("{:.0}%", report.repeats.share * 100.0), "of the bytes are duplicated", "#repeats"),
        (number(found.findings.len()), "findings", "#findings"),
    ];
    let content = html! {
        ul.figures {
            @for (figure, what, anchor) in figures {
                li { a href=(anchor) { b { (figure) } " " (what) } }
            }
        }
        h3 { "Worth doing first" }
        @if report.tasks.is_empty() {
            p { "Nothing: no layouts to propose, no findings, no outdated copies." }
        } @else {
            ol.tasks {
                @for task in &report.tasks {
                    li { span { (marked_up(&task.message)) } code { (task.command) } }
                }
            }
        }
        (sizes(report))
        p.faint {
            (count(totals.files, "template")) ", " (count(totals.lines, "line")) ", " (count(totals.bytes, "byte"))
            "; dialects: " (dialects.join(", ")) "."
        }
        @if !report.survey.problems.is_empty() {
            details {
                summary { (count(report.survey.problems.len(), "problem")) " while reading" }
                ul { @for problem in &report.survey.problems { li { (problem) } } }
            }
        }
    };
    section("overview", "The site in numbers, and what to do first.", content)
}

/// The size of the site before and after the proposal.
fn sizes(report: &Report) -> Markup {
    let Some(proposal) = &report.proposal else { return html! {} };
    let rows = [
        ("files", proposal.before.files, proposal.after.files),
        ("lines", proposal.before.lines, proposal.after.lines),
        ("bytes", proposal.before.bytes, proposal.after.bytes),
    ];
    html! {
        h3 { "With the proposal" }
        table.numbers {
            thead { tr { td {} th scope="col" { "now" } th scope="col" { "proposed" } td {} } }
            tbody {
                @for (what, before, after) in rows {
                    tr { th scope="row" { (what) } td { (number(before)) } td { (number(after)) } td { (change(before, after)) } }
                }
            }
        }
        @if !proposal.left.is_empty() {
            details {
                summary { (left_as_is(proposal.left.len())) }
                ul { @for page in &proposal.left { li { (page.page) ": " (page.reason) } } }
            }
        }
    }
}

/// The site as it is, or with the proposal.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Side {
    Now,
    Proposed,
}

/// The tables of blocks of both sides, those of the site as it is first.
fn tables(report: &Report) -> impl Iterator<Item = (Side, &BlockTable)> {
    let now = report.now.tables.iter().map(|table| (Side::Now, table));
    let proposed = report.proposed.iter().flat_map(|proposed| &proposed.tables);
    now.chain(proposed.map(|table| (Side::Proposed, table)))
}

/// The places where a block of a page may be set: the word, its sign, and its meaning.
const STATES: [(&str, &str, &str); 7] = [
    ("own", "●", "the page itself"),
    ("section", "◐", "a layout in between"),
    ("base", "○", "the base layout"),
    ("empty", "·", "nowhere: empty"),
    ("unfilled", "!", "nowhere, but it is required"),
    ("replaced", "–", "the block around it is replaced"),
    ("lost", "✕", "lost: no layout has it"),
];

fn blocks(report: &Report) -> Markup {
    let content = html! {
        @if tables(report).count() == 0 {
            p { "No page has a layout yet." }
        } @else {
            form.filters {
                label { "Base layout " select id="table" {
                    @for (at, (side, table)) in tables(report).enumerate() {
                        option value=(at) {
                            (table.base) " (" (count(table.rows.len(), "page"))
                            @if side == Side::Proposed { ", as proposed" } ")"
                        }
                    }
                } }
                label { "Page " input id="block-page" type="search" placeholder="part of its path" autocomplete="off"; }
                label { "Block " select id="block-name" { option value="" { "any" } } }
                label { "Set in " select id="block-state" {
                    option value="" { "any level" }
                    @for (state, sign, meaning) in STATES { option value=(state) { (sign) " " (meaning) } }
                } }
            }
            p.legend {
                @for (state, sign, meaning) in STATES { span { span class={ "cell " (state) } { (sign) } " " (meaning) } " " }
            }
            p id="block-count" role="status" {}
            div.scroll tabindex="0" role="region" aria-label="Blocks by page" { table.matrix id="matrix" {} }
            button type="button" id="more-rows" hidden { "Show more pages" }
        }
    };
    section("blocks", "The level that sets each block of each page.", content)
}

fn inside(report: &Report) -> Markup {
    let content = html! {
        @if report.inside.left_out {
            p { "The sources of this site are too large for a report. For one page: radicon flatten PAGE --origins" }
        } @else {
            div.inside {
                div.chooser {
                    label { "File " input id="page-search" type="search" placeholder="part of its path" autocomplete="off"; }
                    p id="page-count" role="status" {}
                    ul id="page-list" {}
                }
                div.shown {
                    h3 id="page-name" tabindex="-1" {}
                    fieldset id="page-side" {
                        legend { "The site" }
                        label { input type="radio" name="side" value="before" checked; " as it is" }
                        label { input type="radio" name="side" value="after"; " as proposed" }
                    }
                    div id="page-chain" {}
                    div.views {
                        div {
                            h4 { "Source, by origin" }
                            div.source id="page-source" tabindex="0" role="region" aria-label="Source by origin" {}
                        }
                        div {
                            div id="page-preview" {
                                h4 { "Preview" }
                                iframe id="page-frame" sandbox="" title="Preview of the page" tabindex="-1" {}
                                p.faint id="page-proof" role="status" {}
                            }
                            div id="page-blocks" {}
                        }
                    }
                }
            }
        }
    };
    section("inside", "Where each piece of a page comes from.", content)
}

/// A link to a file among the pages.
fn file_link(path: &str, shown: &str) -> Markup {
    // The script decodes it.
    html! { a href={ "#page=" (path.replace('%', "%25")) } { (shown) } }
}

/// A message with what is between backticks as code.
fn marked_up(message: &str) -> Markup {
    html! {
        @for (at, part) in message.split('`').enumerate() {
            @if at % 2 == 1 { code { (part) } } @else { (part) }
        }
    }
}
