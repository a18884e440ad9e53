//! What makes the command line feel finished: help, completions, manual, colours, watching.

use std::fs;
use std::io::{BufRead, BufReader};
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::sync::mpsc::{Receiver, channel};
use std::time::{Duration, Instant};

use crate::common::{demo, radicon};

const COMMANDS: [&str; 16] = [
    "survey",
    "chain",
    "flatten",
    "dialect",
    "repeats",
    "propose",
    "prove",
    "check",
    "step",
    "adopt",
    "translate",
    "report",
    "demo",
    "completions",
    "manual",
    "help",
];

#[test]
fn help_fits_a_screen_and_gives_an_example() {
    let help = radicon(Path::new("."), &["--help"]).out;
    assert!(help.lines().count() <= 40, "{help}");
    for command in COMMANDS.iter().filter(|command| **command != "help") {
        assert!(help.contains(&format!("\n  {command}")), "{command} is missing:\n{help}");
        let own = radicon(Path::new("."), &[command, "--help"]);
        assert!(own.code == 0 && own.out.contains("Example"), "{command}: {}", own.out);
        assert!(own.out.lines().count() <= 45, "{command}: {}", own.out);
        assert!(own.out.lines().all(|line| line.chars().count() <= 100), "{command}: {}", own.out);
    }
}

#[test]
fn examples_in_the_help_are_commands_that_exist() {
    let mut seen = 0;
    for command in COMMANDS.iter().filter(|command| **command != "help") {
        let help = radicon(Path::new("."), &[command, "--help"]).out;
        for line in help.lines().skip_while(|line| !line.starts_with("Example")) {
            let words: Vec<&str> = line.split_whitespace().skip_while(|word| *word != "radicon").skip(1).collect();
            let words: Vec<&str> = words.into_iter().take_while(|word| !matches!(*word, ">" | "(as")).collect();
            // With --help behind it an example is parsed, but not run.
            let ran = radicon(Path::new("."), &[&words[..], &["--help"]].concat());
            assert_eq!(ran.code, 0, "{line}: {}", ran.err);
            seen += usize::from(!words.is_empty());
        }
    }
    assert!(seen >= 20, "{seen}");
}

#[test]
fn completions_and_manual_come_from_the_arguments() {
    for shell in ["bash", "zsh", "fish", "powershell", "elvish"] {
        let script = radicon(Path::new("."), &["completions", shell]);
        assert!(script.code == 0 && script.out.contains("flatten") && script.out.contains("source-map"), "{shell}");
    }
    let dir = tempfile::tempdir().expect("a folder");
    let ran = radicon(dir.path(), &["manual", "man"]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    for page in ["radicon", "radicon-survey", "radicon-step-extract", "radicon-dialect-learn"] {
        let text = fs::read_to_string(dir.path().join(format!("man/{page}.1"))).expect(page);
        assert!(text.contains(".SH NAME") && text.contains(".SH SYNOPSIS"), "{page}: {text}");
    }
}

#[test]
fn colours_are_for_those_who_want_them() {
    let (_dir, site) = demo();
    let survey = |variable: &str| {
        let mut command = assert_cmd::Command::cargo_bin("radicon").expect("the binary");
        let ran = command.current_dir(&site).arg("survey").env("CLICOLOR_FORCE", "1").env(variable, "1").output();
        String::from_utf8(ran.expect("it runs").stdout).expect("text")
    };
    assert!(survey("SOMETHING").contains('\u{1b}'));
    assert!(!survey("NO_COLOR").contains('\u{1b}'));
}

#[test]
fn a_name_that_is_not_there_is_answered_with_what_was_meant_and_searched() {
    let dir = tempfile::tempdir().expect("a folder");
    let write = |path: &str, text: &str| {
        let file = dir.path().join(path);
        fs::create_dir_all(file.parent().expect("a folder")).expect("a folder");
        fs::write(file, text).expect("a file");
    };
    write("radicon.toml", "roots = ['templates', 'vendor']\n");
    write("templates/layouts/base.html", "<main>{% block a %}{% endblock %}</main>");
    write("templates/page.html", "{% extends 'layouts/base.html' %}{% block a %}x{% endblock %}");
    write("vendor/other.html", "<p>x</p>");
    let ran = radicon(dir.path(), &["chain", "lyaouts/base.html"]);
    assert_eq!(ran.code, 2);
    assert!(ran.err.contains("did you mean") && ran.err.contains("layouts/base.html"), "{}", ran.err);
    assert!(ran.err.contains("searched: templates, vendor"), "{}", ran.err);
}

#[test]
fn a_report_in_the_site_is_no_page_of_it() {
    let (_dir, site) = demo();
    let before = radicon(&site, &["survey"]).out;
    assert_eq!(radicon(&site, &["report", "--out", "report.html"]).code, 0);
    assert_eq!(radicon(&site, &["survey"]).out, before);
}

#[test]
fn what_to_do_next_is_about_the_same_site() {
    let (dir, site) = demo();
    let name = site.file_name().expect("a name").to_string_lossy().into_owned();
    let ran = radicon(dir.path(), &["--site", &name, "adopt"]);
    assert!(ran.out.contains(&format!("radicon --site {name} undo, to undo it")), "{}{}", ran.out, ran.err);
    assert_eq!(radicon(dir.path(), &["--site", &name, "undo"]).code, 0);
    fs::rename(&site, dir.path().join("my site's")).expect("a new name");
    // What names its folders itself needs no site.
    let ran = radicon(dir.path(), &["--site", "my site's", "propose", "--into", "new"]);
    assert!(ran.out.contains("Next: review new, then radicon prove 'my site'\\''s' new\n"), "{}{}", ran.out, ran.err);
    let ran = radicon(dir.path(), &["--site", "my site's", "survey"]);
    assert!(ran.out.contains("Next: radicon --site 'my site'\\''s' propose"), "{}{}", ran.out, ran.err);
}

#[test]
fn a_report_says_where_it_went_and_why_not() {
    let (dir, site) = demo();
    let ran = radicon(&site, &["report", "--out", "../report.html"]);
    assert!(ran.code == 0 && ran.out.contains("32 pages"), "{}{}", ran.out, ran.err);
    let page = fs::read_to_string(dir.path().join("report.html")).expect("a page");
    assert!(page.starts_with("<!DOCTYPE html>") && page.contains("default-src 'none'"));
    let ran = radicon(&site, &["report", "--out", "no/such/folder.html"]);
    assert!(ran.code == 2 && ran.err.contains("no/such/folder.html cannot be written"), "{}", ran.err);
    assert_eq!(radicon(&site, &["report"]).code, 2, "a page needs a file");
    // The same site gives the same page, whatever the number of threads.
    let alone = assert_cmd::Command::cargo_bin("radicon")
        .expect("the binary")
        .current_dir(&site)
        .env("RAYON_NUM_THREADS", "1")
        .args(["report", "--out", "../alone.html"])
        .output()
        .expect("it runs");
    assert!(alone.status.success());
    assert!(page == fs::read_to_string(dir.path().join("alone.html")).expect("a page"));
}

/// A run that goes on, and its lines as they come.
struct Watching {
    process: Child,
    lines: Receiver<String>,
}

impl Watching {
    fn start(site: &Path, arguments: &[&str]) -> Self {
        let mut process = Command::new(assert_cmd::cargo::cargo_bin("radicon"))
            .current_dir(site)
            .args(arguments)
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .expect("it starts");
        let (tell, lines) = channel();
        let (out, err) = (process.stdout.take().expect("its output"), process.stderr.take().expect("its errors"));
        let pass = tell.clone();
        std::thread::spawn(move || {
            BufReader::new(out).lines().map_while(Result::ok).try_for_each(|line| pass.send(line))
        });
        std::thread::spawn(move || {
            BufReader::new(err).lines().map_while(Result::ok).try_for_each(|line| tell.send(line))
        });
        Self { process, lines }
    }

    /// Waits for a line with these words.
    #[track_caller]
    fn wait_for(&self, words: &str) {
        let end = Instant::now() + Duration::from_secs(30);
        let mut seen = String::new();
        while let Ok(line) = self.lines.recv_timeout(end.saturating_duration_since(Instant::now())) {
            if line.contains(words) {
                return;
            }
            seen += &(line + "\n");
        }
        panic!("no `{words}` in\n{seen}");
    }
}

impl Drop for Watching {
    fn drop(&mut self) {
        let _ = self.process.kill();
        let _ = self.process.wait();
    }
}

#[test]
fn watching_checks_again_when_a_file_changes() {
    let (_dir, site) = demo();
    let run = Watching::start(&site, &["check", "--watch", "--brief"]);
    run.wait_for("Watching");
    let page = site.join("booking/vehicle.html");
    let text = fs::read_to_string(&page).expect("a page");
    fs::write(&page, text.replace("feilds", "buton")).expect("a page");
    run.wait_for("did you mean `button`?");
    fs::write(&page, text.replace("feilds", "fields")).expect("a page");
    run.wait_for("--explain idle-block");
    // A file that is new, one that goes, and settings that are torn for a moment.
    fs::write(site.join("new.html"), "{% extends 'none.html' %}").expect("a page");
    run.wait_for("none.html");
    fs::write(site.join("radicon.toml"), "[check\n").expect("settings");
    run.wait_for("radicon.toml");
    fs::remove_file(site.join("new.html")).expect("it goes");
    fs::write(site.join("radicon.toml"), "").expect("settings");
    run.wait_for("hints in 39 templates");
}

#[test]
fn watching_proves_again_when_a_file_changes() {
    let (dir, site) = demo();
    let old = dir.path().join("old");
    crate::common::copy(&site, &old);
    let run = Watching::start(&site, &["prove", "../old", "--watch"]);
    run.wait_for("Watching");
    let page = site.join("fares.html");
    let text = fs::read_to_string(&page).expect("a page");
    fs::write(&page, text.replace("<h1>", "<h1>All ")).expect("a page");
    run.wait_for("1 page differs");
    fs::write(&page, &text).expect("a page");
    run.wait_for("All pages match");
}
