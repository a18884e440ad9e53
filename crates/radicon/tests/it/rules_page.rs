//! The page of the rules, `docs/rules.md`, is written from the code; each rule's example shows
//! what the rule finds. `RADICON_BLESS=1 cargo test -p radicon --test rules_page` writes it anew.

use std::path::Path;

use radicon::check::{RULES, Rule, check_rules};
use radicon::{Settings, Site, SourceFile, dialect};

/// The files of an example: a line `-- path` begins each.
fn files(example: &str) -> Vec<(String, String)> {
    let mut files: Vec<(String, String)> = Vec::new();
    for line in example.lines() {
        match line.strip_prefix("-- ") {
            Some(path) => files.push((path.to_owned(), String::new())),
            None => {
                let (_, text) = files.last_mut().expect("a file begins with its path");
                text.push_str(line);
                text.push('\n');
            }
        }
    }
    files
}

#[test]
fn each_example_shows_what_its_rule_finds() {
    for rule in RULES {
        let (settings, sources): (Vec<_>, Vec<_>) =
            files(rule.example).into_iter().partition(|(path, _)| path == "radicon.toml");
        let settings = settings.first().map_or("", |(_, text)| text.as_str());
        let settings = Settings::parse(settings).expect("settings");
        let mut sources: Vec<SourceFile> =
            sources.into_iter().map(|(path, text)| SourceFile::new(path, text)).collect();
        // Something that shows in which dialect the files are written, as a real site has.
        let margin = rule.example.contains("<!--:");
        if !margin {
            for file in sources.iter_mut().filter(|file| file.bytes.windows(2).any(|pair| pair.contains(&b'%'))) {
                file.bytes.extend_from_slice(b"{% set told = 1 %}");
            }
        }
        // Drift shows only among several copies.
        if rule.id == "drift" {
            let first = sources[0].bytes.clone();
            sources.extend((0..5).map(|n| SourceFile::new(format!("more-{n}.html"), first.clone())));
        }
        let site = Site::read(sources, dialect::builtin(), &settings);
        let found = check_rules(&site, &[*rule]).findings;
        assert!(!found.is_empty(), "{}: its example shows nothing", rule.id);
    }
}

fn page() -> String {
    let mut page = String::from(
        "# The rules of `radicon check`\n\n\
         Generated from the code; `radicon check --explain RULE` prints the same. Errors and warnings\n\
         give exit code 1; hints do not. Levels, exceptions and more attributes that name ids are\n\
         set in [radicon.toml](settings.md#check-what-to-look-for); a comment\n\
         `radicon: ignore RULE` suppresses a rule on its line and the next one,\n\
         `radicon: ignore-file RULE` in the whole file.\n\n\
         | rule | severity | fixed by `--fix` |\n|---|---|---|\n",
    );
    let fixes = |rule: &Rule| rule.remedy.contains("--fix");
    for rule in RULES {
        page += &format!(
            "| [`{0}`](#{0}) | {1} | {2} |\n",
            rule.id,
            rule.severity.word(),
            if fixes(rule) { "where it is safe" } else { "" }
        );
    }
    for rule in RULES {
        page += &format!("\n## `{}`\n\n{}\n\n", rule.id, rule.meaning);
        for (path, text) in files(rule.example) {
            page += &format!("`{path}`\n\n```\n{}\n```\n\n", text.trim_end());
        }
        page += &format!("{}\n", rule.remedy);
    }
    page
}

#[test]
fn the_page_is_that_of_the_code() {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/rules.md");
    let page = page();
    if std::env::var_os("RADICON_BLESS").is_some() {
        std::fs::write(&path, &page).expect("the page");
    }
    let kept = std::fs::read_to_string(&path).unwrap_or_default();
    assert!(kept == page, "docs/rules.md is out of date; RADICON_BLESS=1 writes it anew");
}
