//! The binary, as its users run it.

use std::fs;
use std::path::{Path, PathBuf};

use serde_json::Value;

use crate::common::{copy, demo, git, has, json, radicon, tree};

#[test]
fn the_demo_runs_the_whole_job() {
    let dir = tempfile::tempdir().expect("a folder");
    let ran = radicon(dir.path(), &["demo", "tour"]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    for words in
        ["4 layouts for 25 of 32 pages", "No page changes.", "<!--: block content -->", "32 pages verified", "Next: "]
    {
        assert!(ran.out.contains(words), "no {words:?} in {}", ran.out);
    }
    assert!(!ran.out.contains('\u{1b}'), "no colours where there is no terminal");
    assert_eq!(radicon(dir.path(), &["demo", "tour"]).code, 2, "an existing folder is not overwritten");
}

#[test]
fn a_proposal_is_written_elsewhere_and_proven() {
    let (dir, site) = demo();
    let before = tree(&site);
    for (how, strength) in [
        (&["propose", "--into", "../tidy"][..], "blanks"),
        (&["propose", "--strength", "bytes", "--into", "../strict"], "bytes"),
    ] {
        let ran = radicon(&site, how);
        assert_eq!(ran.code, 0, "{}", ran.err);
        assert!(ran.out.contains("Next: review"), "{}", ran.out);
        let new = how.last().expect("a folder");
        let proof = radicon(&site, &["prove", ".", new, "--strength", strength]);
        assert_eq!(proof.code, 0, "{}", proof.out);
        assert!(dir.path().join("site").join(new).join("css/tidewater.css").exists(), "untouched files come along");
    }
    assert_eq!(tree(&site), before, "proposing changes nothing");
    let ran = radicon(&site, &["propose", "--into", "../tidy"]);
    assert!(ran.code == 2 && ran.err.contains("not empty"), "{}", ran.err);
}

#[test]
fn a_proposal_explains_itself() {
    let (_dir, site) = demo();
    for (path, words) in [
        (
            "layouts/base.html",
            &["15 pages share this skeleton", "current_winter_sailings", "<main id=\"content\">"][..],
        ),
        ("layouts/harbours.html", &["6 pages share more than what layouts/base.html contains"]),
        ("fares.html", &["Extends layouts/base.html"]),
        ("booking/pay.html", &["has a layout already"]),
    ] {
        let ran = radicon(&site, &["propose", "--explain", path]);
        assert_eq!(ran.code, 0, "{}", ran.err);
        assert!(words.iter().all(|words| ran.out.contains(words)), "{path}: {}", ran.out);
        json(&site, "explain", &["propose", "--explain", path]);
    }
    let ran = radicon(&site, &["propose", "--explain", "layuots/base.html"]);
    assert!(ran.code == 2 && ran.err.contains("did you mean `layouts/base.html`"), "{}", ran.err);
}

#[test]
fn a_file_that_hides_another_is_told_and_adopted() {
    let dir = tempfile::tempdir().expect("a folder");
    let frame = "<!DOCTYPE html>\n<html>\n<head>\n  <title>{% block title %}Boats{% endblock %}</title>\n</head>\n<body>\n  <main>{% block content %}{% endblock %}</main>\n  <footer><p>Owned by the people of the seven harbours</p></footer>\n</body>\n</html>\n";
    let write = |path: &str, text: &str| {
        let path = dir.path().join(path);
        fs::create_dir_all(path.parent().expect("a folder")).expect("a folder");
        fs::write(path, text).expect("written");
    };
    write("radicon.toml", "roots = ['own', 'theme']\n");
    write("theme/base.html", frame);
    write("own/base.html", &frame.replace("Boats", "Our boats"));
    write("own/index.html", "{% extends \"base.html\" %}\n{% block content %}<p>Hello</p>{% endblock %}\n");
    let ran = radicon(dir.path(), &["propose"]);
    let told = "own/base.html extends theme/base.html, which it replaces";
    assert!(ran.code == 0 && ran.out.contains(told), "{}{}", ran.out, ran.err);
    let ran = radicon(dir.path(), &["adopt"]);
    assert_eq!(ran.code, 0, "{}{}", ran.out, ran.err);
    let base = fs::read_to_string(dir.path().join("own/base.html")).expect("a file");
    assert_eq!(base, "{% extends \"base.html\" %}\n{% block title %}Our boats{% endblock %}\n");
}

#[test]
fn left_behind_copies_are_healed_and_listed() {
    let (_dir, site) = demo();
    let ran = radicon(&site, &["propose", "--heal", "--into", "../healed"]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    for words in ["No page changes except those brought up to date", "fares.html:23\n    `", "01700 553 001"] {
        assert!(ran.out.contains(words), "no {words:?} in {}", ran.out);
    }
    let proof = json(&site, "prove", &["prove", ".", "../healed", "--strength", "blanks"]);
    let pages = proof["pages"].as_array().expect("pages").iter().filter(|page| !page["differs"].is_null());
    let changed: Vec<&str> = pages.map(|page| page["page"].as_str().expect("a path")).collect();
    assert_eq!(changed, ["fares.html", "harbours/gull-point.html"]);
}

#[test]
fn prove_names_the_page_and_both_origins() {
    let (_dir, site) = demo();
    radicon(&site, &["propose", "--into", "../new"]);
    let page = site.join("../new/fares.html");
    let text = fs::read_to_string(&page).expect("a page").replace("11.00", "11.50");
    fs::write(&page, text).expect("written");
    let ran = radicon(&site, &["prove", ".", "../new"]);
    assert_eq!(ran.code, 1);
    for words in ["1 page differs", "fares.html", "11.00", "11.50", "block content"] {
        assert!(ran.out.contains(words), "no {words:?} in {}", ran.out);
    }
    let proof = json(&site, "prove", &["prove", ".", "../new"]);
    assert_eq!(proof["equal"], false);
    let page =
        proof["pages"].as_array().expect("pages").iter().find(|page| page["page"] == "fares.html").expect("the page");
    assert!(page["equal"].is_null() && page["differs"]["after"]["origin"]["block"] == "content", "{page}");
}

#[test]
fn adopting_writes_and_undo_takes_it_back() {
    let (_dir, site) = demo();
    let before = tree(&site);
    let ran = radicon(&site, &["adopt"]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    assert!(site.join("layouts/base.html").exists() && tree(&site) != before);
    let chain = json(&site, "chain", &["chain", "fares.html"]);
    assert_eq!(chain["page"], "fares.html");
    assert_eq!(chain["chain"].as_array().map(Vec::len), Some(2));
    let content =
        chain["blocks"].as_array().expect("blocks").iter().find(|block| block["name"] == "content").expect("content");
    assert!(
        content["effective"] == "fares.html" && content["definitions"][1]["file"] == "layouts/base.html",
        "{content}"
    );
    let again = radicon(&site, &["propose"]);
    assert!(again.out.contains("Nothing to propose"), "{}", again.out);
    assert_eq!(radicon(&site, &["undo"]).code, 0);
    assert_eq!(tree(&site), before);
    assert!(radicon(&site, &["undo"]).out.contains("Nothing to undo"));
}

#[test]
fn the_json_has_what_scripts_rely_on() {
    let (_dir, site) = demo();
    let survey = json(&site, "survey", &["survey"]);
    let file = &survey["files"][0];
    assert!(
        file["path"] == "accessibility.html"
            && file["role"] == "page"
            && file["dialect"] == "plain"
            && file["parent"].is_null()
    );
    assert!(file["includes"].is_array() && file["blocks"].is_array() && survey["roots"].is_array());
    assert_eq!(survey["totals"]["pages"], 32);
    assert_eq!(survey["references"][0]["file"], "booking/desk.tern");
    let proposal = json(&site, "propose", &["propose"]);
    assert!(proposal["files"].as_array().is_some_and(|files| files.len() == 29));
    assert!(proposal["files"][0]["text"].is_string() && proposal["files"][0]["role"].is_string());
    assert!(proposal["after"]["bytes"].as_u64() < proposal["before"]["bytes"].as_u64() && proposal["left"].is_array());
    assert_eq!(proposal["proof"]["pages"][0]["equal"], "blanks");
    let flat = json(&site, "flatten", &["flatten", "index.html"]);
    assert!(flat["text"].as_str().is_some_and(|text| text.contains("Welcome aboard")));
    json(&site, "adopt", &["adopt"]);
}

#[test]
fn flatten_gives_the_page_byte_for_byte_and_its_origins() {
    let (_dir, site) = demo();
    let original = fs::read_to_string(site.join("contact.html")).expect("a page");
    assert_eq!(radicon(&site, &["flatten", "contact.html"]).out, original);
    radicon(&site, &["adopt"]);
    let origins = radicon(&site, &["flatten", "contact.html", "--origins"]).out;
    assert!(origins.lines().any(|line| line.starts_with("contact.html:")
        && line.contains("content")
        && line.contains("quay office is on")));
    assert!(origins.lines().any(|line| line.starts_with("layouts/base.html:") && line.contains("masthead")));
}

#[test]
fn mistakes_get_a_hint_and_code_2() {
    let (_dir, site) = demo();
    for (arguments, words) in [
        (&["chain", "fare.html"][..], "did you mean `fares.html`?"),
        (&["propose", "--dialect", "margn"], "did you mean `margin`?"),
        (&["propose", "--dialect", "plain"], "can share nothing"),
        (&["--site", "nowhere", "survey"], "no such directory"),
        (&["sruvey"], "survey"),
    ] {
        let ran = radicon(&site, arguments);
        assert!(ran.code == 2 && ran.err.contains(words), "{arguments:?}: {} {}", ran.code, ran.err);
    }
    fs::write(site.join("radicon.toml"), "roots = []\nignroe = []\n").expect("settings");
    let ran = radicon(&site, &["survey"]);
    assert!(ran.code == 2 && ran.err.contains("radicon.toml:2:1") && ran.err.contains("ignroe"), "{}", ran.err);
    fs::write(site.join("radicon.toml"), "dialects = [\"mine.toml\"]\n").expect("settings");
    fs::write(site.join("mine.toml"), "name = \"mine\"\n[forms]\nblokc = 'x'\n").expect("a dialect");
    let ran = radicon(&site, &["survey"]);
    assert!(ran.code == 2 && ran.err.contains("mine.toml:3:1") && ran.err.contains("block"), "{}", ran.err);
}

#[test]
fn bad_input_is_named_and_the_rest_is_done() {
    let dir = tempfile::tempdir().expect("a folder");
    for folder in ["empty", "no-pages"] {
        fs::create_dir(dir.path().join(folder)).expect("a folder");
    }
    fs::write(dir.path().join("no-pages/notes.md"), "# Tides").expect("a file");
    for folder in ["empty", "no-pages"] {
        for command in ["survey", "propose", "adopt"] {
            let ran = radicon(dir.path(), &["--site", folder, command]);
            assert!(ran.code == 2 && ran.err.contains("no templates in"), "{folder} {command}: {}", ran.err);
        }
    }
    let unread = dir.path().join("unread");
    fs::create_dir(&unread).expect("a folder");
    for file in ["deck.view", "hold.view"] {
        fs::write(unread.join(file), "<div>{tide}</div>\n<p>Ferries</p>\n").expect("a file");
    }
    let told = "2 .view files look like templates, but are in no known dialect, so they are not read: deck.view, …";
    let ran = radicon(&unread, &["survey"]);
    assert!(ran.code == 2 && ran.err.contains("no templates in") && ran.err.contains(told), "{}", ran.err);
    let ran = radicon(&unread, &["dialect", "learn"]);
    assert!(ran.code == 0 && ran.out.starts_with("Nothing learned") && ran.out.contains(told), "{}", ran.out);
    fs::write(unread.join("pier.html"), "<html><body><p>Pier</p></body></html>").expect("a page");
    let ran = radicon(&unread, &["survey"]);
    assert!(ran.code == 0 && ran.out.contains(told), "{}", ran.out);
    assert_eq!(json(&unread, "survey", &["survey"])["unread"][0]["files"], 2);
    let (_keep, site) = demo();
    let text = fs::read(site.join("fleet.html")).expect("a page");
    fs::write(site.join("photo.html"), b"\x89PNG\r\n\x1a\n\0\0\0\rIHDR").expect("a file");
    fs::write(site.join("cut.html"), &text[..text.len() - 700]).expect("a file");
    let wide: Vec<u8> = [0xff, 0xfe]
        .into_iter()
        .chain(String::from_utf8_lossy(&text).encode_utf16().flat_map(u16::to_le_bytes))
        .collect();
    fs::write(site.join("wide.html"), wide).expect("a file");
    let mut crlf = Vec::new();
    text.iter().for_each(|&b| if b == b'\n' { crlf.extend(b"\r\n") } else { crlf.push(b) });
    fs::write(site.join("crlf.html"), crlf).expect("a file");
    fs::write(site.join("bom.html"), [b"\xef\xbb\xbf", &text[..]].concat()).expect("a file");
    #[cfg(unix)]
    {
        std::os::unix::fs::symlink("..", site.join("harbours/loop")).expect("a link");
        std::os::unix::fs::symlink("nowhere.html", site.join("dangling.html")).expect("a link");
        let name = <std::ffi::OsString as std::os::unix::ffi::OsStringExt>::from_vec(b"odd\xff.html".to_vec());
        fs::write(site.join(name), &text).expect("a file");
    }
    let before = tree_of_pages(&site);
    let survey = radicon(&site, &["survey"]);
    assert_eq!(survey.code, 0, "{}", survey.err);
    for words in ["photo.html: binary content", "wide.html: UTF-16"] {
        assert!(survey.out.contains(words), "no {words:?} in {}", survey.out);
    }
    #[cfg(unix)]
    for words in ["dangling.html: a symbolic link", "its name is not UTF-8"] {
        assert!(survey.out.contains(words), "no {words:?} in {}", survey.out);
    }
    for strict in [&[][..], &["--strength=bytes"]] {
        let ran = radicon(&site, &[&["propose"], strict].concat());
        assert_eq!(ran.code, 0, "{}", ran.err);
        assert!(ran.out.contains("No page changes.") && ran.out.contains("photo.html"), "{}", ran.out);
        assert_eq!(radicon(&site, &[&["adopt"], strict].concat()).code, 0);
        assert_eq!(radicon(&site, &["undo"]).code, 0);
        assert_eq!(tree_of_pages(&site), before, "nothing is lost");
    }
    let new = site.parent().expect("a folder").join("copy");
    let ran = radicon(&site, &["propose", "--into", &new.display().to_string()]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    assert_eq!(fs::read(new.join("photo.html")).ok(), fs::read(site.join("photo.html")).ok());
    assert_eq!(radicon(&site, &["prove", ".", &new.display().to_string()]).code, 0);
}

/// The files right beneath the site and in `harbours`, links left out.
fn tree_of_pages(site: &Path) -> Vec<(PathBuf, Vec<u8>)> {
    let list =
        |folder: PathBuf| fs::read_dir(folder).into_iter().flatten().filter_map(Result::ok).map(|entry| entry.path());
    let all = list(site.to_owned()).chain(list(site.join("harbours")));
    let mut found: Vec<_> = all
        .filter(|path| path.is_file() && !path.is_symlink())
        .filter_map(|path| Some((path.clone(), fs::read(path).ok()?)))
        .collect();
    found.sort();
    found
}

#[test]
fn work_that_is_not_committed_is_left_alone() {
    let (_dir, site) = demo();
    if !has("git") {
        return;
    }
    let git = |arguments: &[&str]| git(&site, arguments);
    for arguments in [&["init", "-q"][..], &["add", "-A"], &["commit", "-qm", "as it was"]] {
        git(arguments).expect("git");
    }
    let page = site.join("fares.html");
    let text = fs::read_to_string(&page).expect("a page").replace("11.00", "12.00");
    fs::write(&page, text).expect("written");
    let before = tree_of_pages(&site);
    let ran = radicon(&site, &["adopt"]);
    assert!(ran.code == 2 && ran.err.contains("uncommitted changes in fares.html"), "{}", ran.err);
    assert_eq!(tree_of_pages(&site), before);
    assert_eq!(radicon(&site, &["adopt", "--uncommitted"]).code, 0);
    let status = git(&["status", "--porcelain"]).expect("git status").stdout;
    assert!(
        !String::from_utf8_lossy(&status).contains(".radicon"),
        "what Radicon keeps for undoing is no part of the site"
    );
}

/// Killed at any instant, a run leaves the old tree or the new one.
#[cfg(unix)]
#[test]
fn a_killed_run_leaves_the_old_tree_or_the_new_one() {
    let (_dir, site) = demo();
    let old = tree(&site);
    radicon(&site, &["adopt"]);
    let new = tree(&site);
    radicon(&site, &["undo"]);
    let binary = assert_cmd::cargo::cargo_bin("radicon");
    let whole = std::time::Instant::now();
    assert!(std::process::Command::new(&binary).current_dir(&site).arg("adopt").output().is_ok());
    let whole = whole.elapsed();
    radicon(&site, &["undo"]);
    let mut outcomes = [0, 0];
    for step in 0..36 {
        let mut child = std::process::Command::new(&binary)
            .current_dir(&site)
            .arg("adopt")
            .stdout(std::process::Stdio::null())
            .spawn()
            .expect("it starts");
        std::thread::sleep(whole * step / 28);
        child.kill().expect("killed");
        child.wait().expect("gone");
        // The next run finishes or rolls back.
        assert_eq!(radicon(&site, &["survey"]).code, 0);
        let now = tree(&site);
        assert!(now == old || now == new, "step {step}: {:?}", now.iter().map(|(path, _)| path).collect::<Vec<_>>());
        outcomes[usize::from(now == new)] += 1;
        if now == new {
            assert_eq!(radicon(&site, &["undo"]).code, 0, "step {step}: what was finished can be undone");
            assert_eq!(tree(&site), old);
        }
    }
    println!("old tree {} times, new tree {} times", outcomes[0], outcomes[1]);
}

#[test]
fn chains_tell_the_story_of_a_page_a_layout_and_a_block() {
    let (_dir, site) = demo();
    let page = radicon(&site, &["chain", "booking/vehicle.html"]).out;
    for words in ["extends booking/base.html", "feilds", "lost", "did you mean `fields`?", "booking/step.html:11"] {
        assert!(page.contains(words), "no {words:?} in {page}");
    }
    let layout = radicon(&site, &["chain", "booking/step.html"]).out;
    for words in ["Children of this layout may override", "    fields", "2 files", "Go on"] {
        assert!(layout.contains(words), "no {words:?} in {layout}");
    }
    let ruled = radicon(&site, &["chain", "notices/fog.pennant"]).out;
    assert!(ruled.contains("(by the file name frame.pennant)"), "{ruled}");
    let report = json(&site, "chain", &["chain", "booking/passengers.html"]);
    let scripts =
        report["blocks"].as_array().expect("blocks").iter().find(|block| block["name"] == "scripts").expect("it");
    assert_eq!(scripts["definitions"][0]["inherited_at"][0], 11);
    let block = json(&site, "block", &["chain", "--block", "button"]);
    let states: Vec<_> = block["pages"].as_array().expect("pages").iter().map(|page| &page["state"]).collect();
    assert_eq!(states, ["default", "overridden", "default"]);
    let ran = radicon(&site, &["chain", "--block", "buton"]);
    assert!(ran.code == 2 && ran.err.contains("did you mean `button`?"), "{}", ran.err);
}

#[test]
fn dialects_are_listed_shown_and_tried() {
    let (_dir, site) = demo();
    let list = json(&site, "dialect-list", &["dialect", "list"]);
    assert_eq!((&list[0]["name"], &list[0]["templates"]), (&"pennant".into(), &4.into()));
    let text = radicon(&site, &["dialect", "show", "pennant"]).out;
    assert_eq!(text, fs::read_to_string(site.join("dialects/pennant.toml")).expect("the dialect"));
    assert!(json(&site, "dialect-show", &["dialect", "show", "pennant"])["text"] == *text);
    let file = site.join("notices/fog.pennant");
    let broken = fs::read_to_string(&file).expect("a page") + "^fli(title, \"x\") ^lower\n a^b.example\n";
    fs::write(&file, broken).expect("written");
    let ran = radicon(&site, &["dialect", "try", "notices/fog.pennant"]);
    for words in ["7:1: ^fli(title", "`^lower` closes nothing", "title = Fog"] {
        assert!(ran.out.contains(words), "no {words:?} in {}", ran.out);
    }
    assert!(!ran.out.contains("a^b"), "{}", ran.out);
    let trial = json(&site, "dialect-try", &["dialect", "try", "fares.html", "--dialect", "brace-percent"]);
    assert_eq!((&trial["usual"], trial["constructs"].as_array().map(Vec::len)), (&"plain".into(), Some(0)));
    let ran = radicon(&site, &["dialect", "show", "penant"]);
    assert!(ran.code == 2 && ran.err.contains("did you mean `pennant`?"), "{}", ran.err);
}

#[test]
fn a_whole_site_is_put_together_and_mapped() {
    let (dir, site) = demo();
    let before = tree(&site);
    assert_eq!(radicon(&site, &["adopt"]).code, 0);
    let ran = radicon(&site, &["flatten", "--all", "--into", "../pages"]);
    assert!(ran.code == 0 && ran.out.contains("Wrote"), "{} {}", ran.out, ran.err);
    let pages = dir.path().join("pages");
    assert!(
        pages.join("css/tidewater.css").exists()
            && !pages.join("layouts").exists()
            && !pages.join("radicon.toml").exists()
    );
    let name = |path: &PathBuf| path.strip_prefix(&site).expect("beneath it").to_owned();
    for (path, _) in before.iter().filter(|(path, _)| path.ends_with("fares.html") || path.ends_with("index.html")) {
        let page = fs::read_to_string(pages.join(name(path))).expect("a page");
        assert!(!page.contains("<!--:") && page.contains("</html>"), "{page}");
    }
    let ran = radicon(&site, &["flatten", "notices/fog.pennant", "--source-map", "../fog.map"]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    let map: Value = serde_json::from_slice(&fs::read(dir.path().join("fog.map")).expect("the map")).expect("JSON");
    assert_eq!((&map["version"], &map["file"]), (&3.into(), &"notices/fog.pennant".into()));
    assert_eq!(radicon(&site, &["flatten", "--all"]).code, 2);
    json(&site, "compose", &["flatten", "--all", "--into", "../again"]);
}

#[test]
fn repeats_are_listed_shown_and_limited() {
    let (_dir, site) = demo();
    let all = json(&site, "repeats", &["repeats"]);
    let groups = all["groups"].as_array().expect("groups");
    let masthead = groups.iter().find(|group| group["kind"] == "alike").expect("near copies");
    let dialects: std::collections::BTreeSet<&str> =
        masthead["copies"].as_array().expect("copies").iter().filter_map(|copy| copy["dialect"].as_str()).collect();
    assert_eq!(dialects.into_iter().collect::<Vec<_>>(), ["brace-percent", "pennant", "plain"]);
    assert!(masthead["saving"]["bytes"].as_u64() > Some(5_000) && masthead["advice"]["kind"] == "layout", "{masthead}");
    let id = masthead["id"].as_str().expect("an id");
    let list = radicon(&site, &["repeats"]);
    for words in [id, "Outdated", "fares.html", "Winter sailings", "% of 48,"] {
        assert!(list.out.contains(words), "no {words:?} in {}", list.out);
    }
    let one = radicon(&site, &["repeats", id]);
    for words in
        ["In common", "⟨1⟩", "parameter", "Copies", "booking/parts/masthead.html:1-11", "Move it into the layout"]
    {
        assert!(one.out.contains(words), "no {words:?} in {}", one.out);
    }
    assert_eq!(radicon(&site, &["repeats", "--max-share", "20"]).code, 1);
    assert_eq!(radicon(&site, &["repeats", "--max-share", "90"]).code, 0);
    let count = |arguments: &[&str]| json(&site, "repeats", arguments)["groups"].as_array().map_or(0, Vec::len);
    let whole = groups.len();
    assert_eq!(count(&["repeats", "--kind", "same"]) + count(&["repeats", "--kind", "alike"]), whole);
    assert!(count(&["repeats", "--only", "notices/"]) < whole && count(&["repeats", "--dialect", "pennant"]) > 0);
    assert_eq!(count(&["repeats", "--min-saving", "1000000"]), 0);
    assert!(count(&["repeats", "--exact", "--kind", "alike"]) == 0);
    let ran = radicon(&site, &["repeats", "00000000"]);
    assert!(ran.code == 2 && ran.err.contains("no group"), "{}", ran.err);
    let survey = json(&site, "survey", &["survey"]);
    assert_eq!(survey["repeats"]["greatest"][0]["id"], id);
}

#[test]
fn a_patch_does_what_adopt_does() {
    if !has("git") {
        return;
    }
    let (dir, site) = demo();
    let patch = dir.path().join("proposal.patch");
    let ran = radicon(&site, &["propose", "--patch", &patch.to_string_lossy()]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    let patched = dir.path().join("patched");
    radicon(dir.path(), &["demo", "patched"]);
    let patched = patched.join("tidewater");
    let applied = git(&patched, &["apply", "--whitespace=nowarn", &patch.to_string_lossy()]).expect("git");
    assert!(applied.status.success(), "{}", String::from_utf8_lossy(&applied.stderr));
    assert_eq!(radicon(&site, &["adopt"]).code, 0);
    for name in ["layouts/base.html", "layouts/harbours.html", "harbours/heronsea.html", "fares.html"] {
        let read = |folder: &Path| std::fs::read(folder.join(name)).expect(name);
        assert_eq!(read(&site), read(&patched), "{name}");
    }
}

#[test]
fn levels_partials_and_sizes_can_be_chosen() {
    let (_dir, site) = demo();
    let ran = radicon(&site, &["propose", "--show"]);
    for words in
        ["layouts/harbours.html extends layouts/base.html", "6 pages", "overrides styles, body_class", "harbour.css"]
    {
        assert!(ran.out.contains(words), "no {words:?} in {}", ran.out);
    }
    let one = radicon(&site, &["propose", "--levels", "1"]);
    assert!(one.out.starts_with("3 layouts for 25 of 32 pages"), "{}", one.out);
    let bytes = |arguments: &[&str]| json(&site, "propose", arguments)["after"]["bytes"].as_u64().expect("bytes");
    let usual = bytes(&["propose"]);
    assert!(bytes(&["propose", "--levels", "1"]) > usual);
    assert!(bytes(&["propose", "--small"]) < usual && usual < bytes(&["propose", "--tidy"]));
    for other in ["--tidy", "--block-price=5"] {
        assert_eq!(radicon(&site, &["propose", "--small", other]).code, 2, "one or the other");
    }
    fs::write(site.join("radicon.toml"), "[propose]\nlevels = 1\n").expect("settings");
    assert!(radicon(&site, &["propose"]).out.starts_with("2 layouts"));
    assert!(radicon(&site, &["propose", "--levels", "3"]).out.starts_with("3 layouts"), "options go before settings");
}

#[test]
fn a_repeat_shows_its_copies_side_by_side() {
    let (_dir, site) = demo();
    let found = json(&site, "repeats", &["repeats"]);
    let groups = found["groups"].as_array().expect("groups");
    let footer = groups.iter().find(|group| group["pattern"].as_str().is_some_and(|text| text.starts_with("<footer")));
    let id = footer.and_then(|group| group["id"].as_str()).expect("the footer");
    let ran = radicon(&site, &["repeats", id]);
    let line = ran.out.lines().find(|line| line.contains('│') && line.contains("tel:")).expect("a pair of lines");
    let (usual, here) = line.split_once('│').expect("two columns");
    assert!(usual.contains("tel:01700553100") && here.contains("tel:01700553001"), "{line}");
    assert!(ran.out.contains("harbours/gull-point.html:40"), "{}", ran.out);
}

/// A site in an engine that nobody described: learned on load, kept on demand, translated.
#[test]
fn an_unknown_engine_is_learned_kept_and_translated() {
    let dir = tempfile::tempdir().expect("a folder");
    let site = dir.path().join("site");
    let fixture = Path::new(env!("CARGO_MANIFEST_DIR")).join("../radicon/tests/fixtures/lantern");
    copy(&fixture.join("site"), &site);
    copy(&fixture.join("more"), &site);
    fs::remove_dir_all(site.join("dialects")).expect("its dialect goes");
    fs::remove_file(site.join("radicon.toml")).expect("its settings go");
    let survey = radicon(&site, &["survey"]);
    assert!(survey.err.contains("**/*.html: in no known dialect; inferred"), "{}", survey.err);
    assert!(
        survey.err.contains("radicon dialect learn --write") && survey.out.contains("learned-html"),
        "{}",
        survey.out
    );
    let rendered = fixture.join("expected").to_string_lossy().into_owned();
    let ran = radicon(&site, &["dialect", "learn", "--rendered", &rendered]);
    assert!(ran.code == 0 && ran.out.contains("hangs") && ran.out.contains("newline = \"eaten\""), "{}", ran.out);
    assert!(!site.join("dialects").exists(), "nothing is written unasked");
    let learned = json(&site, "dialect-learn", &["dialect", "learn", "--rendered", &rendered, "--write"]);
    assert_eq!(learned[0]["forms"][0]["confidence"], "sure");
    let kept = fs::read_to_string(site.join("dialects/learned-html.toml")).expect("the dialect");
    assert!(kept.contains("# sure:") && kept.contains("lamp <name>"), "{kept}");
    let again = radicon(&site, &["survey"]);
    assert!(again.err.is_empty() && again.out.contains("learned-html"), "{}", again.err);
    assert!(radicon(&site, &["dialect", "learn"]).out.starts_with("Nothing to learn"));
    let flat = radicon(&site, &["flatten", "lamps/pier.html"]);
    assert_eq!(flat.out, fs::read_to_string(fixture.join("expected/lamps/pier.html")).expect("the page"));

    let value = json(&site, "translate", &["translate", "--to", "brace-percent", "--into", "../new"]);
    assert!(
        value["same"].as_u64() >= Some(7) && value["places"].as_array().is_some_and(|places| !places.is_empty()),
        "{value}"
    );
    let page = fs::read_to_string(dir.path().join("new/lamps/pier.html")).expect("the page");
    assert!(page.contains("{% extends \"section.html\" %}"), "{page}");
    let one = radicon(&site, &["translate", "lamps/cove.html", "--to", "brace-percent"]);
    assert!(one.out.contains("{{ super() }}"), "{}", one.out);
    assert_eq!(radicon(&site, &["translate", "--to", "brace-percent", "--into", "../new"]).code, 2, "not empty");
}

/// A site that begins with findings hears of new ones only, wherever the old ones move to.
#[test]
fn a_baseline_leaves_out_what_is_known() {
    let (dir, site) = demo();
    let check = |more: &[&str]| radicon(&site, &[&["check", "--brief"], more].concat());
    assert_eq!((check(&[]).code, check(&["--fail-on", "error"]).code, check(&["--fail-on", "hint"]).code), (1, 0, 1));
    assert_eq!(check(&["--assume"]).code, 2, "what has no effect is refused");
    let known = ["--baseline", "../known.json"];
    let first = check(&known);
    assert!(first.code == 0 && first.err.contains("8 findings listed"), "{}{}", first.out, first.err);
    let page = site.join("booking/vehicle.html");
    let text = fs::read_to_string(&page).expect("a page");
    // Lines move, and something new comes in.
    let moved = text.replacen("\n", "\n\n\n", 1) + "{% block bottun %}x{% endblock %}\n";
    fs::write(&page, moved).expect("a page");
    let again = check(&known);
    assert!(again.code == 1 && again.err.contains("8 findings left out"), "{}{}", again.out, again.err);
    assert!(again.out.contains("bottun") && !again.out.contains("feilds"), "{}", again.out);
    fs::write(dir.path().join("known.json"), "{").expect("a file");
    let broken = check(&known);
    assert!(broken.code == 2 && broken.err.contains("known.json: this is no baseline"), "{}", broken.err);
}

/// What is written rests on how files are read: where that was learned and is not sure, it is said, and asked for.
#[test]
fn what_a_proof_assumes_is_said_and_asked_for() {
    let dir = tempfile::tempdir().expect("a folder");
    let site = dir.path().join("site");
    fs::create_dir_all(site.join("parts")).expect("a folder");
    fs::write(site.join("parts/mast.page"), "<nav>Menu</nav>\n").expect("a file");
    for n in 1..=6 {
        let own = "[[ hoist parts.mast ]]\n[[ each stop in stops ]]<p>[[ = stop.name ]]</p>[[ /each ]]";
        let list = "<ul class=\"side\"><li>Fares of the summer</li><li>Harbours and piers</li></ul>";
        let page =
            format!("<html><head><title>{n}</title></head><body>\n{own}\n<p>w{n} v{n}</p>\n{list}\n</body></html>\n");
        fs::write(site.join(format!("p{n}.page")), page).expect("a file");
    }
    let step = ["step", "extract", "p1.page:6", "side", "--all"];
    let with = |more: &[&str]| radicon(&site, &[&step[..], more].concat());
    let shown = with(&[]);
    assert!(shown.code == 0 && shown.out.contains("`[[ each stop in stops ]]` opens a pair"), "{}", shown.out);
    let value = json(&site, "step", &step);
    assert_eq!(value["proof"]["assumptions"][0]["about"], "learned-form");
    let before = tree(&site);
    let refused = with(&["--write"]);
    assert!(
        refused.code == 2 && refused.err.contains("--assume") && refused.err.contains("p1.page:3"),
        "{}",
        refused.err
    );
    assert_eq!(tree(&site), before, "nothing was written");
    assert_eq!(with(&["--write", "--assume"]).code, 0);
    assert_eq!(radicon(&site, &["undo"]).code, 0);
    // A dialect that was kept is what somebody wrote.
    assert_eq!(radicon(&site, &["dialect", "learn", "--write"]).code, 0);
    assert!(!with(&[]).out.contains("Assumptions"));
    assert_eq!(with(&["--write"]).code, 0);
}

#[test]
fn check_finds_what_is_wrong_and_mends_it() {
    let (_dir, site) = demo();
    let before = tree(&site);
    let ran = radicon(&site, &["check"]);
    assert_eq!(ran.code, 1, "{}", ran.err);
    for words in [
        "orphan-override",
        "did you mean `fields`?",
        "booking/vehicle.html:5:1",
        "old-prices.html",
        "1 warning, 7 hints",
    ] {
        assert!(ran.out.contains(words), "{words}: {}", ran.out);
    }
    let value = json(&site, "check", &["check", "--rule", "orphan-override,unused-partial"]);
    let rules: Vec<&str> =
        value["findings"].as_array().expect("findings").iter().filter_map(|finding| finding["rule"].as_str()).collect();
    assert_eq!(rules, ["unused-partial", "orphan-override"]);
    assert_eq!(radicon(&site, &["check", "index.html", "--brief"]).code, 0);
    assert!(radicon(&site, &["check", "--rule", "orphan"]).err.contains("no rule `orphan`"));
    json(&site, "rule", &["check", "--explain", "cycle"]);
    json(&site, "report", &["report"]);
    let ran = radicon(&site, &["check", "--explain", "cycle"]);
    assert!(ran.code == 0 && ran.out.contains("form a cycle"), "{}", ran.out);
    // The fix shows content that was lost, so one page changes.
    let value = json(&site, "fix", &["check", "--fix"]);
    assert_eq!(value["files"], serde_json::json!(["booking/vehicle.html"]));
    assert_eq!(value["changed"][0]["page"], "booking/vehicle.html");
    assert!(!radicon(&site, &["check"]).out.contains("orphan-override"));
    assert_eq!(radicon(&site, &["undo"]).code, 0);
    assert!(tree(&site) == before);
}

#[test]
fn findings_are_written_in_sarif() {
    let (_dir, site) = demo();
    let ran = radicon(&site, &["check", "--sarif", "found.sarif"]);
    assert_eq!(ran.code, 1, "{}", ran.err);
    let bytes = fs::read(site.join("found.sarif")).expect("the log");
    // Read by types that were made from the public schema.
    let log: serde_sarif::sarif::Sarif = serde_json::from_slice(&bytes).expect("SARIF 2.1.0");
    let results = log.runs[0].results.as_ref().expect("results");
    assert_eq!(results.len(), 8);
    let value: Value = serde_json::from_slice(&bytes).expect("JSON");
    let orphan =
        value["runs"][0]["results"].as_array().expect("results").iter().find(|one| one["ruleId"] == "orphan-override");
    let orphan = orphan.expect("the misspelt block");
    assert_eq!(orphan["level"], "warning");
    let place = &orphan["locations"][0]["physicalLocation"];
    assert_eq!(place["artifactLocation"]["uri"], "booking/vehicle.html");
    assert_eq!((&place["region"]["startLine"], &place["region"]["startColumn"]), (&5.into(), &1.into()));
    let fix = &orphan["fixes"][0]["artifactChanges"][0]["replacements"][0];
    assert_eq!(fix["insertedContent"]["text"], "fields");
    let index = orphan["ruleIndex"].as_u64().expect("an index") as usize;
    assert_eq!(value["runs"][0]["tool"]["driver"]["rules"][index]["id"], "orphan-override");
}

#[test]
fn steps_are_shown_and_written_and_taken_back() {
    let (_dir, site) = demo();
    assert_eq!(radicon(&site, &["adopt"]).code, 0);
    let value = json(&site, "step", &["step", "collapse", "layouts/harbours.html"]);
    assert_eq!(value["files"][0][1], "changed");
    let before = tree(&site);
    let ran = radicon(&site, &["step", "rename", "layouts/base.html", "content", "main"]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    assert!(ran.out.contains("+<!--: block main -->") && ran.out.contains("32 pages unchanged"), "{}", ran.out);
    assert!(tree(&site) == before, "nothing is written without --write");
    for arguments in [
        &["step", "rename", "layouts/base.html", "content", "main"][..],
        &["step", "open", "layouts/base.html:header", "top"],
        &["step", "push-down", "layouts/harbours.html", "scripts"],
        &["step", "pull-up", "layouts/harbours.html", "scripts"],
        &["step", "extract", "harbours/old-pier.html:ul", "facts"],
        &["step", "inline", "partials/facts.html"],
        &["step", "default-layout", "harbours"],
    ] {
        let ran = radicon(&site, &[arguments, &["--write"]].concat());
        assert_eq!(ran.code, 0, "{arguments:?}: {}", ran.err);
    }
    assert!(
        fs::read_to_string(site.join("radicon.toml")).expect("settings").contains("layout = \"layouts/harbours.html\"")
    );
    for (arguments, words) in [
        (&["step", "extract", "layouts/base.html:header", "masthead"][..], "belongs to this file's chain"),
        (&["step", "open", "layouts/base.html", "x"], "is not a place"),
        (&["step", "open", "layouts/base.html:900", "x"], "has no lines 900"),
        (&["step", "rename", "layouts/base.html", "main", "title"], "already"),
        (&["step", "inline", "layouts/bsae.html"], "did you mean `layouts/base.html`?"),
    ] {
        let ran = radicon(&site, arguments);
        assert!(ran.code == 2 && ran.err.contains(words), "{arguments:?}: {}{}", ran.out, ran.err);
    }
    let (_dir, old) = demo();
    let ran = radicon(&site, &["prove", &old.to_string_lossy()]);
    assert_eq!(ran.code, 0, "no page changed on the way: {}{}", ran.out, ran.err);
}

#[test]
fn prove_compares_revisions_and_steps_leave_uncommitted_files_alone() {
    let (_dir, site) = demo();
    if !has("git") {
        return;
    }
    let git = |arguments: &[&str]| git(&site, arguments);
    for arguments in [&["init", "-q"][..], &["add", "-A"], &["commit", "-qm", "as it was"]] {
        git(arguments).expect("git");
    }
    assert_eq!(radicon(&site, &["prove", "HEAD"]).code, 0);
    let fares = site.join("fares.html");
    let text = fs::read_to_string(&fares).expect("a page");
    fs::write(&fares, text.replace("Fares", "Prices")).expect("a page");
    let ran = radicon(&site, &["prove", "HEAD"]);
    assert!(ran.code == 1 && ran.out.contains("fares.html"), "{}{}", ran.out, ran.err);
    // From a folder of the site, too, and between two revisions.
    git(&["commit", "-qam", "prices"]).expect("git commit");
    assert_eq!(radicon(&site.join("harbours"), &["prove", "HEAD~1", "HEAD"]).code, 1);
    assert_eq!(radicon(&site, &["prove", "HEAD", "HEAD"]).code, 0);
    let ran = radicon(&site, &["prove", "no-such"]);
    assert!(ran.code == 2 && ran.err.contains("no-such: neither a directory nor a revision"), "{}", ran.err);
    let start = site.join("booking/vehicle.html");
    let text = fs::read_to_string(&start).expect("a page");
    fs::write(&start, text + "\n").expect("a page");
    let ran = radicon(&site, &["check", "--fix"]);
    assert!(ran.code == 2 && ran.err.contains("--uncommitted"), "{}", ran.err);
    let ran = radicon(&site, &["check", "--fix", "--uncommitted"]);
    assert!(ran.out.contains("Fixed 1 finding"), "{}{}", ran.out, ran.err);
}

#[test]
fn partials_without_tags_are_translated_too() {
    let dir = tempfile::tempdir().expect("a folder");
    let write = |path: &str, text: &str| fs::write(dir.path().join(path), text).expect("a file");
    write("base.html", "<nav><!--: partial nav.html --></nav><!--: block content --><!--: end content -->\n");
    write("nav.html", "<a href=\"/\">Home</a>\n");
    write("index.html", "<!--: layout base.html -->\n<!--: block content --><p>Hello</p><!--: end content -->\n");
    let new = tempfile::tempdir().expect("a folder");
    let into = new.path().join("new");
    let ran = radicon(dir.path(), &["translate", "--to", "brace-percent", "--into", into.to_str().expect("UTF-8")]);
    assert_eq!(ran.code, 0, "{}{}", ran.out, ran.err);
    assert_eq!(fs::read_to_string(into.join("nav.html")).expect("the partial"), "<a href=\"/\">Home</a>\n");
}
