//! A proposal by its changes: they are numbered, chosen, kept, and written as they were shown.

use std::fs;
use std::path::Path;

use crate::common::{demo, radicon};
use serde_json::Value;

fn changes(site: &Path, arguments: &[&str]) -> Vec<Value> {
    let ran = radicon(site, &[&["propose", "--format", "json"], arguments].concat());
    let value: Value = serde_json::from_str(&ran.out).expect("JSON");
    value["changes"].as_array().expect("changes").clone()
}

#[test]
fn each_change_has_a_number_files_a_saving_and_a_proof() {
    let (_dir, site) = demo();
    let all = changes(&site, &[]);
    let paths: Vec<&str> = all.iter().filter_map(|change| change["path"].as_str()).collect();
    assert_eq!(paths, ["layouts/base.html", "booking/crew.html", "booking/questions.html"]);
    let [base, crew, _] = &all[..] else { panic!("{all:?}") };
    assert_eq!((&base["number"], &base["pages"], &base["strength"]), (&1.into(), &15.into(), &"blanks".into()));
    assert!(base["files"].as_array().expect("files").contains(&"layouts/harbours.html".into()), "{base}");
    assert_eq!(crew["files"].as_array().map(Vec::len), Some(6));
    assert!(
        crew["saves"].as_u64().expect("bytes") > 2_000 && crew["assumptions"] == Value::Array(Vec::new()),
        "{crew}"
    );
}

#[test]
fn some_changes_are_chosen_by_number_or_path() {
    let (_dir, site) = demo();
    let crew = changes(&site, &["--only", "2"]);
    assert_eq!(crew.len(), 1);
    assert_eq!((&crew[0]["path"], &crew[0]["number"]), (&"booking/crew.html".into(), &2.into()));
    assert_eq!(changes(&site, &["--except", "layouts/base.html", "3"]), crew);
    assert_eq!(changes(&site, &["--only", "1", "2"]).len(), 2);
    let ran = radicon(&site, &["propose", "--only", "9"]);
    assert!(ran.code == 2 && ran.err.contains("no change `9` in this proposal"), "{}", ran.err);
}

#[test]
fn adopt_writes_what_was_shown() {
    let (_dir, site) = demo();
    let shown = radicon(&site, &["propose", "--only", "2"]);
    assert!(shown.out.contains("2 booking/crew.html"), "{}", shown.out);
    let ran = radicon(&site, &["adopt"]);
    assert!(
        ran.code == 0
            && ran.out.contains("Wrote the proposal that radicon propose showed: 1 file created, 5 files changed")
    );
    assert!(site.join("booking/crew.html").exists() && !site.join("layouts").exists());
    // Then nothing is kept any more.
    let ran = radicon(&site, &["adopt"]);
    assert!(ran.code == 0 && site.join("layouts/base.html").exists(), "{}", ran.err);
    // What was shown with other options is written with them.
    let (_dir, site) = demo();
    radicon(&site, &["propose", "--levels", "1"]);
    assert_eq!(radicon(&site, &["adopt"]).code, 0);
    assert!(site.join("layouts/base.html").exists() && !site.join("layouts/harbours.html").exists());
}

#[test]
fn what_was_shown_is_not_written_over_files_that_changed() {
    let (_dir, site) = demo();
    radicon(&site, &["propose"]);
    let page = site.join("contact.html");
    let text = fs::read_to_string(&page).expect("a page");
    fs::write(&page, text.replace("</title>", " today</title>")).expect("written");
    let ran = radicon(&site, &["adopt"]);
    assert!(ran.code == 2 && ran.err.contains("contact.html has changed since radicon propose"), "{}", ran.err);
    assert!(!site.join("layouts").exists());
    // With options it is made anew.
    assert_eq!(radicon(&site, &["adopt", "--except", "2"]).code, 0);
    assert!(site.join("layouts/base.html").exists() && !site.join("booking/crew.html").exists());
    // How files are read counts too.
    let (_dir, site) = demo();
    radicon(&site, &["propose"]);
    let settings = site.join("radicon.toml");
    let text = fs::read_to_string(&settings).unwrap_or_default();
    fs::write(&settings, text + "\n# read otherwise\n").expect("written");
    let ran = radicon(&site, &["adopt"]);
    assert!(ran.code == 2 && ran.err.contains("radicon.toml has changed"), "{}", ran.err);
}
