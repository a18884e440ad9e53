//! Dialects are learned from sites: from those of the fixture engines without their dialect
//! files, and from sites of made-up engines.

mod common;

use std::path::{Path, PathBuf};
use std::sync::Arc;

use common::learning::{Outcome, outcome};
use common::{Random, cases, seed};
use radicon::dialect::{self, Dialect, Kind};
use radicon::{Confidence, Learned, Resolver, Settings, Site, SourceFile, disk, learn};

const ENGINES: [&str; 7] = ["lantern", "signal", "helm", "crate", "canvas", "buoy", "pier"];

fn fixture(engine: &str, part: &str) -> Vec<SourceFile> {
    let folder: PathBuf = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/fixtures").join(engine).join(part);
    let files = disk::rendered_pages(&folder).expect("a folder");
    files.into_iter().filter(|file| !file.path.ends_with(".toml")).collect()
}

/// What is learned from the site of a fixture engine, and its pages put together so.
fn learned_fixture(engine: &str) -> (Learned, Vec<(String, String, String)>) {
    let own = fixture(engine, "site");
    let expected = fixture(engine, "expected");
    let mut files = own.clone();
    files.extend(fixture(engine, "more"));
    files.sort_by(|a, b| a.path.cmp(&b.path));
    let found = learn(&files, dialect::builtin(), &expected);
    let [learned] = &found[..] else { panic!("{engine}: {} dialects", found.len()) };
    let dialect = Arc::new(Dialect::parse(&learned.text).expect("a dialect"));
    let settings = Settings::parse(&learned.settings).expect("settings");
    let site = Site::read(files, &[dialect], &settings);
    let resolver = Resolver::new(&site);
    let pages = expected.iter().map(|page| {
        let flat = site.find(&page.path).map(|id| resolver.flatten(id).expect("a page of a sane size").bytes);
        let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
        (page.path.clone(), text(&page.bytes), text(&flat.unwrap_or_default()))
    });
    (learned.clone(), pages.collect())
}

#[test]
fn the_fixture_engines_are_learned_from_their_sites() {
    let mut wrong = Vec::new();
    for engine in ENGINES {
        let (learned, pages) = learned_fixture(engine);
        for (path, expected, found) in pages {
            if expected != found {
                wrong.push(format!("{engine}: {path}\n{expected}\n---- but found\n{found}\n"));
                println!("{}", learned.text);
            }
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}
