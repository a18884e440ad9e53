//! What the tests of the rules share: every fixture is read in two dialects.

use std::sync::Arc;

use crate::check::{Checked, Rule, check_rules, fix};
use crate::dialect::{Dialect, builtin_named};
use crate::site::{Settings, Site, SourceFile};

/// A made-up dialect with the constructs of `brace-percent`, and a region that must be filled.
pub const LAMP: &str = r#"
name = "lamp"
files = ["**/*.html"]
[forms]
parent = '(~ hangs "<target>" ~)'
block = { open = '(~ lamp <name> ~)', close = ['(~ out ~)', '(~ out <name> ~)'] }
slot = { open = '(~ must <name> ~)', required = true }
include = '(~ fetch "<target>" [<args>] ~)'
inherited = '(~ before ~)'
output = '(= <expr> =)'
comment = '(# <text> #)'
verbatim = { open = '(~ asis ~)', close = '(~ plain ~)' }
control = [{ open = '(~ when <expr> ~)', branch = '(~ or ~)', close = '(~ done ~)' },
           { open = '(~ each <expr> ~)', close = '(~ stop ~)' }]
set = '(~ let <name> = <expr> ~)'
other = '(~ <expr> ~)'
[rules]
only = ["only"]
optional = ["ignore missing"]
"#;

/// The same text in the tags of that dialect.
pub fn respelt(text: &str) -> String {
    let words = [
        ("{{ super() }}", "(~ before ~)"),
        ("{ % block", "( ~ lamp"),
        ("{ % if", "( ~ when"),
        ("{ %", "( ~"),
        ("% }", "~ )"),
        ("{% extends", "(~ hangs"),
        ("{% block", "(~ lamp"),
        ("{% endblock", "(~ out"),
        ("{% include", "(~ fetch"),
        ("{% if", "(~ when"),
        ("{% else", "(~ or"),
        ("{% endif", "(~ done"),
        ("{% for", "(~ each"),
        ("{% endfor", "(~ stop"),
        ("{% raw", "(~ asis"),
        ("{% endraw", "(~ plain"),
        ("{% set", "(~ let"),
        ("{%", "(~"),
        ("%}", "~)"),
        ("{{", "(="),
        ("}}", "=)"),
        ("{#", "(#"),
        ("#}", "#)"),
    ];
    words.iter().fold(text.to_owned(), |text, (from, to)| text.replace(from, to))
}

pub fn lamp() -> Arc<Dialect> {
    Arc::new(Dialect::parse(LAMP).expect("a dialect"))
}

pub fn site(dialect: &Arc<Dialect>, files: &[(&str, &str)], settings: &str) -> Site {
    let files = files.iter().map(|(path, text)| SourceFile::new(*path, *text)).collect();
    Site::read(files, std::slice::from_ref(dialect), &Settings::parse(settings).expect("settings"))
}

fn shown(checked: &Checked) -> Vec<String> {
    checked.findings.iter().map(|found| format!("{}:{}: {}", found.file, found.line, found.message)).collect()
}

/// What a rule finds in files that are written in `brace-percent`, and in the same in another
/// dialect: for each finding its file and line, and a part of its message.
#[track_caller]
pub fn finds(rule: &Rule, files: &[(&str, &str)], expected: &[&str]) {
    finds_with(rule, files, "", expected);
}

/// The same with settings.
#[track_caller]
pub fn finds_with(rule: &Rule, files: &[(&str, &str)], settings: &str, expected: &[&str]) {
    let again: Vec<(&str, String)> = files.iter().map(|(path, text)| (*path, respelt(text))).collect();
    let again: Vec<(&str, &str)> = again.iter().map(|(path, text)| (*path, text.as_str())).collect();
    let brace = builtin_named("brace-percent").expect("a dialect");
    for (dialect, files) in [(brace, files), (lamp(), &again[..])] {
        finds_in(&dialect, rule, files, settings, expected);
    }
}

/// The same in one dialect.
#[track_caller]
pub fn finds_in(dialect: &Arc<Dialect>, rule: &Rule, files: &[(&str, &str)], settings: &str, expected: &[&str]) {
    let found = shown(&check_rules(&site(dialect, files, settings), std::slice::from_ref(rule)));
    let fits = |(found, wanted): (&String, &&str)| {
        let place = wanted.find(": ").map_or(wanted.len(), |at| at + 2);
        found.starts_with(&wanted[..place])
            && (found.contains(&wanted[place..]) || found.contains(&respelt(&wanted[place..])))
    };
    assert!(
        found.len() == expected.len() && found.iter().zip(expected).all(fits),
        "{} in {}: {found:#?}, expected {expected:#?}",
        rule.id,
        dialect.name
    );
}

/// Checks the text of a file once a rule's findings are fixed, in both dialects.
#[track_caller]
pub fn fixes(rule: &Rule, files: &[(&str, &str)], file: &str, expected: &str) {
    let again: Vec<(&str, String)> = files.iter().map(|(path, text)| (*path, respelt(text))).collect();
    let again: Vec<(&str, &str)> = again.iter().map(|(path, text)| (*path, text.as_str())).collect();
    let brace = builtin_named("brace-percent").expect("a dialect");
    for (dialect, files, expected) in [(brace, files, expected.to_owned()), (lamp(), &again[..], respelt(expected))] {
        let site = site(&dialect, files, "");
        let found = check_rules(&site, std::slice::from_ref(rule)).findings;
        let fixed = fix(&site, &found).expect("edits that fit");
        let change = fixed.changes.iter().find(|change| change.path == file);
        let new = change.and_then(|change| change.new.clone()).unwrap_or_default();
        assert_eq!(String::from_utf8_lossy(&new), expected, "{} in {}", rule.id, dialect.name);
        assert!(
            found.iter().all(|found| found.fix.as_ref().is_none_or(|m| !m.keeps_pages)) || fixed.changed.is_empty()
        );
    }
}
