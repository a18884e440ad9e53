//! Nothing that comes with a site is obeyed, and nothing of somebody else's is lost.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;

use crate::common::{git, has, radicon, tree};
use tempfile::TempDir;

const STEP: [&str; 7] = ["step", "rename", "base.html", "text", "content", "--write", "--uncommitted"];

/// A layout and two pages.
fn site() -> TempDir {
    let dir = tempfile::tempdir().expect("a folder");
    let write = |path: &str, text: &str| fs::write(dir.path().join(path), text).expect("a file");
    write("base.html", "<main>{% block text %}{% endblock text %}</main>\n");
    for path in ["fares.html", "tides.html"] {
        write(path, "{% extends 'base.html' %}\n{% block text %}<p>Ferries</p>{% endblock %}\n");
    }
    dir
}

fn write(path: impl AsRef<Path>, text: &str) {
    let path = path.as_ref();
    fs::create_dir_all(path.parent().expect("a folder")).expect("a folder");
    fs::write(path, text).expect("a file");
}

/// The folder for the state of a site.
fn state(site: &Path) -> PathBuf {
    radicon_state(site).folder().to_owned()
}

fn radicon_state(site: &Path) -> radicon::disk::State {
    radicon::disk::State::of(site).expect("a site")
}

#[test]
fn state_that_comes_with_a_site_is_not_read() {
    let dir = site();
    // As an earlier version left it: a journal that is staged, a proposal, and a step to undo.
    let old = dir.path().join(".radicon");
    let outside = dir.path().join("../outside.html");
    write(
        old.join("journal.json"),
        r#"{"staged":true,"phase":"Staged","undoes":null,"entries":[{"path":"../outside.html","stage":"evil","old":null,"new":null},{"path":"fares.html","stage":null,"old":null,"new":null}],"made":[],"unmade":[]}"#,
    );
    write(dir.path().join("evil"), "evil");
    write(
        old.join("proposal/index.json"),
        r#"{"files":[["fares.html",4]],"proposed":[],"assumptions":[],"sources":{}}"#,
    );
    write(old.join("proposal/contents"), "evil");
    write(
        old.join("undo/1/index.json"),
        r#"{"title":"evil","entries":[{"path":"fares.html","old":false,"new":true,"mode":null}],"made":[]}"#,
    );
    let before = tree(dir.path());
    for command in [&["survey"][..], &["undo"], &["undo", "--list"], &["check"], &["adopt"]] {
        let ran = radicon(dir.path(), command);
        assert!(!ran.out.contains("evil"), "{command:?}: {}", ran.out);
        assert_eq!(ran.err.contains("earlier version"), command == ["survey"], "it is mentioned once: {}", ran.err);
        assert_eq!(tree(dir.path()), before, "{command:?}");
    }
    assert!(!outside.exists());
}

#[test]
fn nothing_of_ours_lies_in_a_site() {
    let dir = site();
    let names = || {
        let mut names: Vec<_> =
            fs::read_dir(dir.path()).expect("a folder").map(|entry| entry.expect("one").file_name()).collect();
        names.sort();
        names
    };
    let before = names();
    for command in [&["survey"][..], &["propose"], &STEP, &["undo"]] {
        assert_eq!(radicon(dir.path(), command).code, 0, "{command:?}");
        assert_eq!(names(), before, "{command:?}");
    }
    assert!(state(dir.path()).join("lock").exists());
    let elsewhere = dir.path().with_extension("state");
    let ran = radicon(dir.path(), &[&["--state", elsewhere.to_str().expect("text")], &STEP[..]].concat());
    assert_eq!(ran.code, 0, "{}", ran.err);
    assert_eq!(radicon(dir.path(), &["undo", "--list"]).out, "Nothing to undo\n");
    assert!(fs::read_dir(&elsewhere).expect("a folder").count() == 1);
    fs::remove_dir_all(elsewhere).expect("removed");
}

#[test]
fn what_a_repository_sets_is_not_run() {
    if !has("git") {
        return;
    }
    let dir = site();
    let mark = dir.path().join("ran");
    let script = dir.path().join(".git/evil.sh");
    assert!(git(dir.path(), &["init", "-q"]).is_ok_and(|done| done.status.success()));
    git(dir.path(), &["add", "."]).expect("added");
    git(dir.path(), &["commit", "-qm", "x"]).expect("committed");
    write(&script, &format!("#!/bin/sh\ntouch '{}'\ncat\n", mark.display()));
    #[cfg(unix)]
    fs::set_permissions(&script, std::os::unix::fs::PermissionsExt::from_mode(0o755)).expect("permissions");
    let evil = script.display().to_string();
    for (key, value) in [
        ("core.fsmonitor", evil.as_str()),
        ("core.hooksPath", ".git"),
        ("core.pager", &evil),
        ("core.sshCommand", &evil),
        ("diff.external", &evil),
        ("filter.evil.clean", &evil),
        ("filter.evil.smudge", &evil),
        ("filter.evil.process", &evil),
        ("remote.origin.url", &format!("ext::{evil}")),
        ("remote.origin.promisor", "true"),
        ("protocol.ext.allow", "always"),
        ("extensions.partialClone", "origin"),
    ] {
        git(dir.path(), &["config", key, value]).expect("set");
    }
    write(dir.path().join(".gitattributes"), "* filter=evil diff=evil\n");
    // A bare repository with a monitor, in a folder of the site.
    let bare = dir.path().join("pages");
    git(dir.path(), &["init", "-q", "--bare", "pages"]).expect("made");
    git(&bare, &["config", "core.fsmonitor", &evil]).expect("set");
    git(&bare, &["config", "core.worktree", "."]).expect("set");
    write(bare.join("a.html"), "<p>a</p>{% if x %}{% endif %}");
    let _ = fs::remove_file(&mark);
    for command in [&["survey"][..], &["prove", "HEAD"], &["propose"], &STEP[..6], &STEP] {
        radicon(dir.path(), command);
        radicon(&bare, command);
        assert!(!mark.exists(), "{command:?} ran it");
    }
}

#[test]
fn uncommitted_files_are_left_alone_also_where_git_cannot_tell() {
    if !has("git") {
        return;
    }
    let refused = |dir: &Path, what: &str| {
        let ran = radicon(dir, &STEP[..6]);
        assert!(ran.code == 2 && ran.err.contains("--uncommitted"), "{what}: {}{}", ran.out, ran.err);
    };
    let committed = || {
        let dir = site();
        git(dir.path(), &["init", "-q"]).expect("made");
        git(dir.path(), &["add", "."]).expect("added");
        git(dir.path(), &["commit", "-qm", "x"]).expect("committed");
        dir
    };
    let clean = committed();
    assert_eq!(radicon(clean.path(), &STEP[..6]).code, 0);
    let again = radicon(clean.path(), &["step", "rename", "base.html", "content", "text", "--write"]);
    assert!(again.code == 2 && again.err.contains("--uncommitted"), "what was written is not committed");
    let edited = committed();
    let page = fs::read_to_string(edited.path().join("fares.html")).expect("a page");
    write(edited.path().join("fares.html"), &(page.clone() + "<p>mine</p>"));
    refused(edited.path(), "edited");
    git(edited.path(), &["add", "."]).expect("added");
    refused(edited.path(), "staged");
    // Line ends are as the checkout makes them.
    let ends = committed();
    write(ends.path().join("fares.html"), &page.replace('\n', "\r\n"));
    assert_eq!(radicon(ends.path(), &STEP[..6]).code, 0);
    let broken = committed();
    fs::remove_file(broken.path().join(".git/HEAD")).expect("removed");
    refused(broken.path(), "broken");
    let empty = site();
    git(empty.path(), &["init", "-q"]).expect("made");
    refused(empty.path(), "without a commit");
    let nested = committed();
    write(nested.path().join("other/page.html"), "{% extends 'base.html' %}{% block text %}x{% endblock %}");
    git(nested.path(), &["add", "."]).expect("added");
    git(nested.path(), &["commit", "-qm", "x"]).expect("committed");
    git(&nested.path().join("other"), &["init", "-q"]).expect("made");
    refused(nested.path(), "in a repository of its own");
}

#[test]
fn a_site_in_a_folder_and_in_a_submodule_is_proven() {
    if !has("git") {
        return;
    }
    let repo = tempfile::tempdir().expect("a folder");
    let done = |folder: &Path, arguments: &[&str]| {
        let ran = git(folder, arguments).expect("git");
        assert!(ran.status.success(), "{arguments:?}: {}", String::from_utf8_lossy(&ran.stderr));
    };
    let site = repo.path().join("web/site");
    write(site.join("a.html"), "<p>a</p>{% if x %}{% endif %}\n");
    write(repo.path().join("web/other.html"), "<p>other</p>");
    done(repo.path(), &["init", "-q"]);
    done(repo.path(), &["add", "."]);
    done(repo.path(), &["commit", "-qm", "x"]);
    let ran = radicon(&site, &["prove", "HEAD"]);
    assert!(ran.code == 0 && ran.out.contains("1 page byte-identical"), "{}{}", ran.out, ran.err);
    let outer = tempfile::tempdir().expect("a folder");
    done(outer.path(), &["init", "-q"]);
    let from = repo.path().to_str().expect("text");
    done(outer.path(), &["-c", "protocol.file.allow=always", "submodule", "--quiet", "add", from, "sub"]);
    let inner = outer.path().join("sub/web/site");
    write(inner.join("a.html"), "<p>b</p>{% if x %}{% endif %}\n");
    let ran = radicon(&inner, &["prove", "HEAD"]);
    assert!(ran.code == 1 && ran.out.contains("1 page differs"), "{}{}", ran.out, ran.err);
}

#[test]
fn an_edit_between_the_check_and_the_exchange_survives() {
    if !has("strace") {
        return;
    }
    let dir = site();
    let inject = "inject=renameat2:delay_enter=1500000:when=1";
    let mut child = Command::new("strace")
        .args(["-f", "-qq", "-o", "/dev/null", "-e", "trace=renameat2", "-e", inject])
        .arg(assert_cmd::cargo::cargo_bin("radicon"))
        .args(STEP)
        .current_dir(dir.path())
        .stdout(std::process::Stdio::null())
        .stderr(std::process::Stdio::piped())
        .spawn()
        .expect("it runs");
    // Once all is staged the first exchange waits.
    let journal = state(dir.path()).join("journal.json");
    let is_staged = || fs::read_to_string(&journal).is_ok_and(|text| text.contains("Staged"));
    while !is_staged() && child.try_wait().expect("its state").is_none() {
        std::thread::sleep(std::time::Duration::from_millis(5));
    }
    std::thread::sleep(std::time::Duration::from_millis(300));
    for page in ["base.html", "fares.html", "tides.html"] {
        write(dir.path().join(page), "mine\n");
    }
    let status = child.wait().expect("its end");
    assert!(!status.success(), "it must refuse");
    for page in ["base.html", "fares.html", "tides.html"] {
        assert_eq!(fs::read_to_string(dir.path().join(page)).expect("a page"), "mine\n", "{page}");
    }
    assert_eq!(fs::read_dir(dir.path()).expect("a folder").count(), 3, "nothing is left");
}

#[test]
fn new_files_that_would_not_be_read_are_refused() {
    let page = |own: &str| {
        format!(
            "<html><head><title>{own}</title></head><body><header><nav><a href='/'>Home</a></nav></header><p>{own}</p><footer>All ferries of the line sail daily but on the feast of the harbour.</footer></body></html>\n"
        )
    };
    for (file, text, words) in [
        (".gitignore", "layouts/\n", "an ignore file excludes it"),
        ("radicon.toml", "ignore = ['layouts/**']\n", "`ignore` in radicon.toml excludes it"),
    ] {
        let dir = tempfile::tempdir().expect("a folder");
        for own in ["fares", "tides", "harbours", "notices", "contact"] {
            write(dir.path().join(format!("{own}.html")), &page(own));
        }
        write(dir.path().join(file), text);
        let before = tree(dir.path());
        let ran = radicon(dir.path(), &["adopt"]);
        assert!(ran.code == 2 && ran.err.contains(words), "{file}: {}{}", ran.out, ran.err);
        assert_eq!(tree(dir.path()), before);
    }
}

#[test]
fn no_terminal_obeys_what_is_printed() {
    let dir = tempfile::tempdir().expect("a folder");
    let evil = "\u{1b}]0;evil\u{7}\u{9b}2J\u{202e}";
    let page = |own: &str| {
        format!(
            "{{% extends 'gone{evil}.html' %}}{{% block {own}{evil} %}}<p id='{evil}'>{own}{evil}</p>{{% endblock %}}{{% include 'no{evil}.html' %}}{{% x{evil} %}}\n"
        )
    };
    for own in ["a", "b", "c"] {
        write(dir.path().join(format!("{own}{evil}.html")), &page(own));
    }
    write(dir.path().join("d.html"), &page("d").repeat(3));
    for command in [
        &["survey"][..],
        &["check"],
        &["repeats"],
        &["propose", "--show"],
        &["chain", "d.html"],
        &["flatten", "d.html", "--origins"],
        &["dialect", "try", "d.html"],
        &["dialect", "learn"],
        &["step", "rename", "d.html", "d", "e"],
        &["chain", "nothing"],
        &["--format", "json", "check"],
        &["--format", "json", "survey"],
        &["translate", "--to", "margin"],
    ] {
        let ran = radicon(dir.path(), command);
        for text in [&ran.out, &ran.err] {
            let hostile = |c: char| (c.is_control() && !matches!(c, '\n' | '\t')) || c == '\u{202e}';
            assert!(!text.contains(hostile), "{command:?}: {text:?}");
        }
    }
}

#[test]
fn what_was_chosen_last_is_written() {
    let (_dir, site) = crate::common::demo();
    let patch = site.join("layouts.patch");
    let shown = radicon(&site, &["propose", "--only", "1", "--patch", "layouts.patch"]);
    assert!(patch.exists(), "{}{}", shown.out, shown.err);
    let file =
        crate::common::json(&site, "propose", &["propose"])["files"][0]["path"].as_str().expect("a path").to_owned();
    assert_eq!(radicon(&site, &["propose", "--explain", &file]).code, 0);
    let all = radicon(&site, &["propose", "--format", "json"]).out;
    let adopted = radicon(&site, &["adopt"]);
    assert!(adopted.out.contains("the proposal that radicon propose showed"), "{}{}", adopted.out, adopted.err);
    let all: serde_json::Value = serde_json::from_str(&all).expect("JSON");
    let written = adopted.out.lines().next().unwrap_or_default();
    let count = all["files"].as_array().expect("files").len();
    assert!(!written.contains(&format!("{count} files")), "only what was chosen: {written}");
}

#[test]
fn a_kept_proposal_is_void_when_anything_that_was_read_changes() {
    let dir = tempfile::tempdir().expect("a folder");
    let site = dir.path().join("site");
    let page = |own: &str| {
        format!(
            "<html><head><title>{own}</title></head><body><header><nav><a href='/'>Home</a></nav></header><p>{own}</p><footer>All ferries of the line sail daily but on the feast of the harbour.</footer></body></html>\n"
        )
    };
    for own in ["fares", "tides", "harbours", "notices", "contact"] {
        write(site.join(format!("{own}.html")), &page(own));
    }
    let lamp = "name = 'lamp'\nfiles = ['**/*.lamp']\n[forms]\ninclude = '(~ fetch \"<target>\" ~)'\n";
    write(dir.path().join("shared/lamp.toml"), lamp);
    write(site.join("radicon.toml"), "dialects = ['../shared/lamp.toml']\n");
    write(site.join("crew.py"), "show('fares.html')\n");
    for (path, text) in [
        (dir.path().join("shared/lamp.toml"), lamp.replace("fetch", "bring")),
        (site.join("crew.py"), "show('tides.html')\n".to_owned()),
        (site.join("radicon.toml"), "dialects = ['../shared/lamp.toml']\npages = ['*.html']\n".to_owned()),
    ] {
        assert_eq!(radicon(&site, &["propose"]).code, 0);
        write(&path, &text);
        let ran = radicon(&site, &["adopt"]);
        assert!(
            ran.code == 2 && ran.err.contains("has changed since radicon propose"),
            "{}: {}",
            path.display(),
            ran.err
        );
    }
}

#[test]
fn pages_that_are_not_whole_are_a_failure() {
    let dir = tempfile::tempdir().expect("a folder");
    write(dir.path().join("a.html"), "{% extends 'gone.html' %}{% block x %}<p>a</p>{% endblock %}\n");
    write(dir.path().join("b.html"), "<p>b</p>\n");
    let deep = |at: usize| format!("{at} {{% include 'deep{}.html' %}}", at + 1);
    (0..300).for_each(|at| write(dir.path().join(format!("deep{at}.html")), &deep(at)));
    write(dir.path().join("deep300.html"), "the end");
    assert_eq!(radicon(dir.path(), &["flatten", "b.html"]).code, 0);
    assert_eq!(radicon(dir.path(), &["flatten", "a.html"]).code, 1);
    assert_eq!(radicon(dir.path(), &["flatten", "deep0.html"]).code, 1);
    let into = tempfile::tempdir().expect("a folder");
    let ran = radicon(dir.path(), &["flatten", "--all", "--into", into.path().join("new").to_str().expect("text")]);
    assert_eq!(ran.code, 1, "{}{}", ran.out, ran.err);
    let ran = radicon(dir.path(), &["check", "--rule", "unfollowed"]);
    assert!(ran.code == 1 && ran.out.contains("not followed further"), "{}{}", ran.out, ran.err);
    // Nothing is proven of what was not followed, were it the same.
    let ran = radicon(dir.path(), &["prove", "."]);
    assert!(ran.code == 1 && ran.out.contains("cannot be proven"), "{}{}", ran.out, ran.err);
}

#[test]
fn a_moved_layout_is_renamed_in_the_settings() {
    let dir = site();
    write(
        dir.path().join("radicon.toml"),
        "# Ours.\n[[folder]]\npath = \"news\" # all of them\nlayout = \"base.html\" # for now\n",
    );
    write(dir.path().join("news/a.html"), "{% block text %}<p>News</p>{% endblock %}\n");
    let ran = radicon(dir.path(), &["step", "move", "base.html", "layouts/base.html", "--write"]);
    assert_eq!(ran.code, 0, "{}{}", ran.out, ran.err);
    let settings = fs::read_to_string(dir.path().join("radicon.toml")).expect("the settings");
    assert_eq!(
        settings,
        "# Ours.\n[[folder]]\npath = \"news\" # all of them\nlayout = \"layouts/base.html\" # for now\n"
    );
    assert_eq!(radicon(dir.path(), &["flatten", "news/a.html"]).out, "<main><p>News</p></main>\n");
    assert_eq!(radicon(dir.path(), &["undo"]).code, 0);
    // A rule whose layout is gone is one finding.
    for at in 0..5 {
        write(dir.path().join(format!("news/{at}.html")), "{% block text %}<p>News</p>{% endblock %}\n");
    }
    write(dir.path().join("radicon.toml"), "[[folder]]\npath = \"news\"\nlayout = \"gone.html\"\n");
    let ran = radicon(dir.path(), &["check"]);
    assert_eq!(ran.out.matches("gone.html").count(), 1, "{}", ran.out);
    assert!(ran.out.contains("6 pages") && !ran.out.contains("no-parent"), "{}", ran.out);
}

#[test]
fn names_in_capitals_are_pages_and_binaries_are_not() {
    let dir = tempfile::tempdir().expect("a folder");
    write(dir.path().join("UPPER.HTML"), "<p>a</p>");
    fs::write(dir.path().join("binary.html"), b"\0\0\0\x01\0\0").expect("a file");
    let ran = radicon(dir.path(), &["survey"]);
    assert!(ran.out.contains("UPPER.HTML"), "{}{}", ran.out, ran.err);
    let ran = radicon(dir.path(), &["prove", "."]);
    assert!(ran.code == 0 && ran.out.contains("1 page byte-identical"), "{}{}", ran.out, ran.err);
}
