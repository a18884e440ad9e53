//! What holds for all commands: exit codes, undoing, where they write, and settings without effect.

use std::fs;

use crate::common::{demo, git, has, json, radicon, tree};

#[test]
fn exit_codes_follow_one_rule() {
    let (_dir, site) = demo();
    let rows: [(&[&str], u8); 26] = [
        // Done, or nothing to do.
        (&["survey"], 0),
        (&["chain", "fares.html"], 0),
        (&["flatten", "fares.html"], 0),
        (&["dialect", "list"], 0),
        (&["repeats"], 0),
        (&["propose"], 0),
        (&["propose", "--only", "notices"], 0),
        (&["adopt", "--only", "notices"], 0),
        (&["undo"], 0),
        (&["step", "reorder"], 0),
        (&["translate", "--to", "margin", "fares.html"], 0),
        (&["check", "--list"], 0),
        (&["check", "--fail-on", "error"], 0),
        (&["report", "--out", "../report.html"], 0),
        // Findings, differences or a failed proof.
        (&["check"], 1),
        (&["repeats", "--max-share", "10"], 1),
        (&["prove", ".", "harbours"], 1),
        (&["step", "rename", "booking/base.html", "title", "styles"], 2),
        // A usage error or unreadable input.
        (&["chain", "no-such.html"], 2),
        (&["flatten"], 2),
        (&["propose", "--levels", "0"], 2),
        (&["repeats", "--max-share", "300"], 2),
        (&["repeats", "--only", "no-such"], 2),
        (&["prove", "no-such"], 2),
        (&["check", "--rule", "no-such"], 2),
        (&["--site", "no-such", "undo", "--list", "--no-such"], 2),
    ];
    for (arguments, code) in rows {
        let ran = radicon(&site, arguments);
        assert_eq!(ran.code, i32::from(code), "{arguments:?}: {}{}", ran.out, ran.err);
    }
    // Nothing is left to report once the only warning is fixed.
    assert_eq!(radicon(&site, &["check", "--fix"]).code, 0);
}

#[test]
fn steps_are_undone_one_by_one() {
    let (_dir, site) = demo();
    let before = tree(&site);
    let step = ["step", "open", "layouts/base.html:header", "masthead", "--write"];
    let runs: [&[&str]; 3] = [&["check", "--fix"], &["adopt"], &step];
    let mut trees = vec![before];
    for run in runs {
        let ran = radicon(&site, run);
        assert_eq!(ran.code, 0, "{run:?}: {}", ran.err);
        trees.push(tree(&site));
    }
    let listed = radicon(&site, &["undo", "--list"]).out;
    let titles: Vec<&str> = listed.lines().map(str::trim).collect();
    assert!(titles[0].contains("block `masthead`") && titles[1..] == ["adopt", "check --fix"], "{listed}");
    for left in (0..3).rev() {
        let undone = json(&site, "undo", &["undo"]);
        assert_eq!(undone["left"], left);
        assert!(tree(&site) == trees[left], "{undone}");
    }
    assert!(radicon(&site, &["undo"]).out.starts_with("Nothing to undo"));
}

#[test]
fn nothing_is_written_where_the_next_run_would_read_it() {
    let (dir, site) = demo();
    for arguments in [
        &["propose", "--into", "out"][..],
        &["flatten", "--all", "--into", "out"],
        &["flatten", "fares.html", "--into", "out"],
        &["translate", "--to", "margin", "--into", "out"],
    ] {
        let ran = radicon(&site, arguments);
        assert!(ran.code == 2 && ran.err.contains("out: lies in the site"), "{arguments:?}: {}", ran.err);
        assert!(!site.join("out").exists());
    }
    fs::write(site.join(".gitignore"), "/out\n").expect("a file");
    let ran = radicon(&site, &["flatten", "notices/fog.pennant", "--into", "out"]);
    assert!(ran.code == 0 && ran.err.contains("Wrote out/notices/fog.pennant"), "{}", ran.err);
    let page = fs::read_to_string(site.join("out/notices/fog.pennant")).expect("the page");
    assert_eq!(page, radicon(&site, &["flatten", "notices/fog.pennant"]).out);
    assert_eq!(fs::read_dir(site.join("out")).expect("a directory").count(), 1, "only the page was written");
    let patch = dir.path().join("new.patch").display().to_string();
    let ran = radicon(&site, &["propose", "--patch", &patch]);
    assert!(ran.err.contains(&format!("Wrote {patch}")), "{}", ran.err);
}

#[test]
fn directories_narrow_what_is_looked_at() {
    let (_dir, site) = demo();
    let proposal = json(&site, "propose", &["propose", "--only", "booking"]);
    let files = proposal["files"].as_array().expect("files");
    assert!(!files.is_empty() && files.iter().all(|file| file["path"].as_str().unwrap().starts_with("booking/")));
    let paths = |arguments: &[&str]| -> Vec<String> {
        let found = json(&site, "check", arguments);
        let found = found["findings"].as_array().expect("findings").iter();
        found.map(|finding| finding["file"].as_str().expect("a path").to_owned()).collect()
    };
    let all = paths(&["check"]);
    let some = paths(&["check", "--only", "booking/parts"]);
    assert!(!some.is_empty() && some.len() < all.len(), "{some:?}");
    assert!(some.iter().all(|path| path.starts_with("booking/parts/")), "{some:?}");
}

#[test]
fn settings_without_effect_are_warnings() {
    let (_dir, site) = demo();
    let settings = fs::read_to_string(site.join("radicon.toml")).unwrap_or_default();
    let more = "[propose.regions]\nside = \"aside.no-such\"\n\n[propose.names]\nno_such = \"other\"\n";
    fs::write(site.join("radicon.toml"), format!("roots = [\".\", \"nix\"]\n{settings}\n{more}")).expect("settings");
    let ran = radicon(&site, &["propose"]);
    for words in ["roots: there is no directory `nix`", "propose.regions.side:", "propose.names.no_such:"] {
        assert!(ran.out.contains(words), "{words}: {}{}", ran.out, ran.err);
    }
}

#[test]
fn files_that_are_not_in_the_repository_are_protected() {
    let (_dir, site) = demo();
    if !has("git") {
        return;
    }
    git(&site, &["init", "-q"]).expect("a repository");
    let before = tree(&site);
    let ran = radicon(&site, &["adopt"]);
    assert!(ran.code == 2 && ran.err.contains("--uncommitted"), "{}", ran.err);
    let is_page = |path: &std::path::Path| !path.components().any(|part| part.as_os_str() == ".git");
    let pages = |tree: Vec<(std::path::PathBuf, Vec<u8>)>| -> Vec<_> {
        tree.into_iter().filter(|(path, _)| is_page(path)).collect()
    };
    assert_eq!(pages(tree(&site)), pages(before));
}

#[test]
fn plain_pages_are_published_with_flatten() {
    let dir = tempfile::tempdir().expect("a directory");
    for name in ["a", "b", "c"] {
        let menu = "<nav><a href=\"/\">Tidewater, the ferries of Merrin Sound</a> <a href=\"/fares\">Fares</a></nav>";
        let page =
            format!("<!DOCTYPE html>\n<html>\n<body>\n{menu}\n<main><h1>{name}</h1></main>\n{menu}\n</body></html>\n");
        fs::write(dir.path().join(format!("{name}.html")), page).expect("a page");
    }
    let ran = radicon(dir.path(), &["adopt"]);
    assert!(ran.code == 0 && ran.out.contains("radicon flatten --all --into DIR"), "{}{}", ran.out, ran.err);
}

#[test]
fn quiet_output_is_results_and_errors_alone() {
    let (_dir, site) = demo();
    assert!(radicon(&site, &["propose", "--into", "../new"]).err.contains("Wrote "));
    assert_eq!(radicon(&site, &["propose", "--quiet", "--into", "../quiet"]).err, "");
    let (told, quiet) = (radicon(&site, &["propose"]), radicon(&site, &["propose", "-q"]));
    let (result, next) = told.out.split_once("\nNext: ").expect("a next step");
    assert!(next.starts_with("radicon propose --into") && quiet.code == 0, "{next}");
    assert_eq!(quiet.out.trim_end(), result.trim_end());
    assert!(radicon(&site, &["--quiet", "chain", "nowhere.html"]).err.contains("error: "));
}
