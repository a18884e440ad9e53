//! Reports: the insides of pages, the table of blocks, what to do first; and checking again.

use std::path::Path;
use std::sync::Arc;

use crate::common::{Random, cases, seed};
use radicon::check::{Checks, RULES};
use radicon::disk;
use radicon::report::{Given, InsideSite, Piece, Report, ReportOptions, TaskKind, report};
use radicon::{Change, Resolver, Settings, Site, SourceFile, check};

fn demo() -> (disk::Loaded, Report) {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo");
    let loaded = disk::load(&folder).expect("the demo");
    let options = ReportOptions {
        dialects: loaded.dialects.clone(),
        styles: disk::style_sheets(&folder),
        ..ReportOptions::default()
    };
    let report = report(&loaded.site, &options).expect("a report");
    (loaded, report)
}

/// A page as a reader of the report puts it together: in UTF-16, as scripts do.
fn put_together(report: &Report, side: &InsideSite, page: usize) -> String {
    let text = |file: u32| -> Vec<u16> {
        let lines = side.files[file as usize].lines.iter().map(|&line| report.inside.lines[line as usize].as_str());
        lines.collect::<String>().encode_utf16().collect()
    };
    let piece = |piece: &Piece| match piece.note {
        Some(note) => report.inside.lines[note as usize].encode_utf16().collect(),
        None => text(piece.file)[piece.start as usize..(piece.start + piece.length) as usize].to_vec(),
    };
    let units: Vec<u16> = side.pages[page].pieces.iter().flat_map(piece).collect();
    String::from_utf16(&units).expect("whole characters")
}

#[track_caller]
fn check_insides(report: &Report, side: &InsideSite, site: &Site) {
    let resolver = Resolver::new(site);
    assert_eq!(side.pages.len(), site.pages().count());
    for (at, id) in site.pages().enumerate() {
        let flat = resolver.flatten(id).expect("a page of a sane size");
        let path = &site.get(id).path;
        assert_eq!(put_together(report, side, at), String::from_utf8_lossy(&flat.bytes), "{path}");
        assert_eq!(&side.files[side.pages[at].levels[0] as usize].path, path);
    }
}

#[test]
fn pages_can_be_put_together_from_the_report_alone() {
    let (loaded, report) = demo();
    check_insides(&report, &report.inside.before, &loaded.site);
    let proposal = report.proposal.as_ref().expect("a proposal");
    let after = loaded.site.after(&proposal.changes(&loaded.site), &loaded.dialects);
    check_insides(&report, report.inside.after.as_ref().expect("the proposed site"), &after);
    // Each line stands there once.
    let mut lines = report.inside.lines.clone();
    lines.sort();
    lines.dedup();
    assert_eq!(lines.len(), report.inside.lines.len());
    assert!(report.inside.styles.iter().any(|style| style.path == "css/tidewater.css"));
}

#[test]
fn pages_of_any_engine_can_be_put_together_from_the_report() {
    let first = seed("insides");
    for case in 0..cases(25, 1_000) {
        let mut random = Random((first + case) * 7_919);
        let engine = crate::made::engines::engine(&mut random);
        let mut files = crate::made::written::site(&mut random, &engine, 10).files;
        // Characters of two units, and bytes that are no character.
        for file in &mut files {
            if random.once_in(3) {
                file.bytes.extend_from_slice(if random.once_in(2) {
                    "<p>⛴ 😀</p>".as_bytes()
                } else {
                    b"\xff\xf0\x9f"
                });
            }
        }
        let site = Site::read(files, &[Arc::clone(&engine.dialect)], &Settings::default());
        let options = ReportOptions { dialects: vec![Arc::clone(&engine.dialect)], ..ReportOptions::default() };
        let report = report(&site, &options).expect("a report");
        check_insides(&report, &report.inside.before, &site);
    }
}

#[test]
fn the_table_says_who_gives_each_block() {
    let (_, report) = demo();
    let table = report.now.tables.iter().find(|table| table.base == "booking/base.html").expect("a table");
    let given = |page: &str, block: &str| {
        let row = table.rows.iter().find(|row| row.page == page).expect(page);
        let column = table.blocks.iter().position(|name| name == block).expect(block);
        row.cells[column].as_ref().map(|cell| cell.given)
    };
    for (page, block, expected) in [
        ("booking/pay.html", "title", Some(Given::Own)),
        ("booking/pay.html", "content", Some(Given::Section)),
        ("booking/pay.html", "scripts", Some(Given::Base)),
        ("booking/pay.html", "styles", Some(Given::Empty)),
        ("booking/vehicle.html", "feilds", Some(Given::Lost)),
        ("booking/start.html", "heading", None),
    ] {
        assert_eq!(given(page, block), expected, "{page}: {block}");
    }
    assert_eq!(table.blocks.last().map(String::as_str), Some("feilds"), "lost blocks stand last");
    let row = table.rows.iter().find(|row| row.page == "booking/pay.html").expect("a row");
    assert_eq!(row.levels, ["booking/pay.html", "booking/step.html", "booking/base.html"]);
    let title = row.cells[0].as_ref().expect("a cell");
    assert_eq!(title.definers.iter().map(|definer| definer.level).collect::<Vec<_>>(), [0, 2]);
}

#[test]
fn the_map_counts_pages_and_users() {
    let (loaded, report) = demo();
    let map = &report.now.map;
    let layouts: Vec<_> = map.layouts.iter().map(|node| (node.path.as_str(), node.depth, node.beneath)).collect();
    assert_eq!(layouts, [("booking/base.html", 0, 9), ("booking/step.html", 1, 3), ("notices/frame.pennant", 0, 2)]);
    let folders = map.layouts.iter().flat_map(|layout| &layout.folders).chain(&map.bare);
    assert_eq!(folders.map(|folder| folder.pages).sum::<usize>(), loaded.site.pages().count());
    let proposed = report.proposed.as_ref().expect("a proposal");
    let layouts: Vec<_> = proposed.map.layouts.iter().map(|node| (node.path.as_str(), node.beneath)).collect();
    assert!(
        layouts.contains(&("layouts/base.html", 15)) && layouts.contains(&("layouts/harbours.html", 6)),
        "{layouts:?}"
    );
    let table = proposed.tables.iter().find(|table| table.base == "layouts/base.html").expect("a table");
    assert_eq!(table.rows.len(), 15);
    let masthead = map.partials.iter().find(|partial| partial.path == "booking/parts/masthead.html").expect("it");
    assert_eq!(masthead.users, ["booking/base.html"]);
}

#[test]
fn what_is_worth_doing_comes_by_urgency() {
    let (_, report) = demo();
    let kinds: Vec<TaskKind> = report.tasks.iter().map(|task| task.kind).collect();
    assert_eq!(kinds, [TaskKind::Adopt, TaskKind::Warnings, TaskKind::Drift]);
    let broken = Site::read(
        vec![SourceFile::new("a.html", "{% extends 'none.html' %}{% block a %}<p>x</p>{% endblock %}")],
        radicon::dialect::builtin(),
        &Settings::default(),
    );
    let report = radicon::report::report(&broken, &ReportOptions::default()).expect("a report");
    assert_eq!(report.tasks[0].kind, TaskKind::Errors);
    assert!(report.proposal.is_none() && report.inside.after.is_none());
    let nothing = Site::read(
        vec![SourceFile::new("a.html", "<!DOCTYPE html><title>x</title><p>one</p>")],
        radicon::dialect::builtin(),
        &Settings::default(),
    );
    assert_eq!(radicon::report::report(&nothing, &ReportOptions::default()).expect("a report").tasks, []);
}

#[test]
fn sources_that_are_too_large_are_left_out() {
    let (loaded, full) = demo();
    let options = ReportOptions { most_bytes: 5_000, ..ReportOptions::default() };
    let small = report(&loaded.site, &options).expect("a report");
    assert!(small.inside.left_out && small.inside.lines.is_empty() && small.inside.before.pages.is_empty());
    assert!(!full.inside.left_out);
    assert_eq!(small.checked.findings, full.checked.findings);
}

/// What is kept from the last time never changes what is found.
#[test]
fn checking_again_finds_what_checking_anew_does() {
    let first = seed("checking again");
    let mut kept = 0;
    for case in 0..cases(12, 400) {
        let mut random = Random((first + case) * 7_919);
        let engine = crate::made::engines::engine(&mut random);
        let made = crate::made::written::site(&mut random, &engine, 12);
        let mut site = Site::read(made.files, &[Arc::clone(&engine.dialect)], &Settings::default());
        let mut checks = Checks::new(RULES);
        checks.check(&site);
        for _ in 0..5 {
            let template = &site.templates[random.below(site.templates.len())];
            let old = template.source.to_vec();
            let mut new = old.clone();
            let at = random.below(new.len().max(1)).min(new.len());
            match random.below(4) {
                0 => new.truncate(at),
                1 => new.extend_from_slice(b"<p id=\"twice\"></p><a href=\"#none\" id=\"twice\"></a>"),
                2 => drop(new.drain(..at)),
                _ => new.extend_from_slice(&old),
            }
            let path = if random.once_in(6) {
                format!("new-{}{}", random.below(9), engine.suffix)
            } else {
                template.path.clone()
            };
            let change = Change { path, old: Some(old), new: Some(new) };
            site = site.after(&[change], &[Arc::clone(&engine.dialect)]);
            let again = checks.check(&site);
            assert_eq!(again.findings, check(&site).findings, "case {case}");
            kept += again.findings.len();
        }
    }
    assert!(kept > 500, "there must be something to find: {kept}");
}

#[test]
fn checking_again_minds_new_settings() {
    let page = "<p id=\"a\">x</p><p id=\"a\">y</p><a data-to=\"nowhere\">z</a>";
    let site = |settings: &str| {
        let settings = Settings::parse(settings).expect("settings");
        Site::read(vec![SourceFile::new("a.html", page)], radicon::dialect::builtin(), &settings)
    };
    let mut checks = Checks::new(RULES);
    let found = |checks: &mut Checks, settings: &str| -> Vec<&'static str> {
        let site = site(settings);
        let again = checks.check(&site).findings;
        assert_eq!(again, check(&site).findings, "{settings}");
        again.iter().map(|finding| finding.rule).collect()
    };
    assert_eq!(found(&mut checks, ""), ["duplicate-id"]);
    assert_eq!(found(&mut checks, "[check.levels]\nduplicate-id = 'off'\n"), [""; 0]);
    assert_eq!(found(&mut checks, "[check]\nid-attributes = ['data-to']\n"), ["duplicate-id", "dangling-id"]);
}
