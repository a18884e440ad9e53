//! How well dialects are learned: made-up engines with random sites, the share of constructs that
//! get the right meaning and of sites that flatten as with the true dialect.
//!
//! `cargo run --release -p radicon-bench --bin learned -- [ENGINES] [--first SEED] [--shape NAME] [--show SEED]`,
//! `-- --dirty SITES [--first SEED] [--shape ENGINE] [--show SEED [--write DIR]]` for sites of the fixture
//! engines that are as dirty as real ones, `-- --folder DIR` for what is learned from a folder, or
//! `-- --speed` for how long it takes.

#[path = "../../../radicon/tests/it/made/mod.rs"]
#[allow(dead_code, missing_docs, reason = "the tests use more of it")]
mod made;

use std::collections::BTreeMap;
use std::path::Path;

use made::Random;
use made::dirty::{Columns, ENGINES, columns};
use made::learning::{Outcome, outcome};
use radicon::SourceFile;
use radicon::learn::learn;

fn main() {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let value = |name: &str| arguments.iter().position(|a| a == name).and_then(|at| arguments.get(at + 1));
    if let Some(folder) = value("--folder") {
        for learned in learn(&files(Path::new(folder)), radicon::dialect::builtin(), &[]) {
            println!("{}\n{}", learned.text, learned.settings);
        }
        return;
    }
    if arguments.iter().any(|argument| argument == "--dirty") {
        dirty(&value);
        return;
    }
    if arguments.iter().any(|argument| argument == "--speed") {
        speed();
        return;
    }
    let count: u64 = arguments.first().and_then(|text| text.parse().ok()).unwrap_or(500);
    let first: u64 = value("--first").and_then(|text| text.parse().ok()).unwrap_or(1);
    let show: Option<u64> = value("--show").and_then(|text| text.parse().ok());
    let mut all = Outcome::default();
    let mut shapes: BTreeMap<&str, Outcome> = BTreeMap::new();
    let seeds: Vec<u64> = show.map_or((first..first + count).collect(), |seed| vec![seed]);
    for seed in seeds {
        let mut random = Random(seed * 7_919);
        let engine = made::engines::engine(&mut random);
        if value("--shape").is_some_and(|shape| shape != engine.shape) {
            continue;
        }
        let templates = 10 + if random.once_in(3) { random.below(190) } else { random.below(50) };
        let made = made::written::mixed_site(&mut random, &engine, templates);
        let found = outcome(&engine, &made, show.is_some());
        if found.exact == 0 || found.wrong_sure > 0 || found.right * 100 < found.constructs * 98 {
            println!(
                "seed {seed:4} {:18} {:3} files: {:5.1} % of constructs, {}/{} pages{}{}",
                engine.shape,
                made.files.len(),
                100.0 * found.right as f64 / found.constructs as f64,
                found.pages_right,
                found.pages,
                if found.wrong_sure > 0 { ", WRONG AND SURE: " } else { "" },
                found.notes.join("; ")
            );
        }
        all.add(&found);
        shapes.entry(engine.shape).or_default().add(&found);
    }
    for (shape, found) in shapes {
        println!("{shape:18} {found}");
    }
    println!("{:18} {all}", "all");
    for (kind, (right, total)) in &all.kinds {
        println!("  {kind:10} {right} of {total}");
    }
}

/// How sites of the fixture engines are read, as dirty as real ones.
fn dirty<'a>(value: &impl Fn(&str) -> Option<&'a String>) {
    let number = |name: &str| value(name).and_then(|text| text.parse::<u64>().ok());
    let (count, first, show) = (number("--dirty").unwrap_or(10), number("--first").unwrap_or(1), number("--show"));
    for engine in ENGINES.into_iter().filter(|engine| value("--shape").is_none_or(|only| only == engine)) {
        let mut all = Columns::default();
        for seed in show.map_or(first..first + count, |seed| seed..seed + 1) {
            let site = made::dirty::site(&mut Random(seed * 7_919), engine, 60);
            if let Some(folder) = value("--write") {
                site.files.iter().for_each(|file| {
                    let path = Path::new(folder).join(&file.path);
                    std::fs::create_dir_all(path.parent().expect("a folder")).expect("a folder to write to");
                    std::fs::write(path, &file.bytes).expect("a file to write");
                });
            }
            all.add(&columns(&site, show.is_some()));
        }
        println!("{engine:8} {all}");
    }
}

/// How long it takes to learn from sites of many templates.
fn speed() {
    for templates in [100, 1_000, 4_000] {
        let mut slowest = (0.0_f64, "");
        let mut total = 0.0;
        for seed in 0..9 {
            let mut random = Random(seed * 31 + 5);
            let engine = made::engines::engine_of(&mut random, made::engines::SHAPES[seed as usize]);
            let made = made::written::site(&mut random, &engine, templates);
            let start = std::time::Instant::now();
            let learned = learn(&made.files, radicon::dialect::builtin(), &[]);
            let seconds = start.elapsed().as_secs_f64();
            assert!(!learned.is_empty() || engine.shape == "comments", "{}", engine.shape);
            total += seconds;
            if seconds > slowest.0 {
                slowest = (seconds, engine.shape);
            }
        }
        println!(
            "{templates:5} templates: {:.2} s on average, {:.2} s at most ({})",
            total / 9.0,
            slowest.0,
            slowest.1
        );
    }
}

fn files(folder: &Path) -> Vec<SourceFile> {
    let walk = ignore::WalkBuilder::new(folder).standard_filters(false).sort_by_file_name(Ord::cmp).build();
    walk.filter_map(Result::ok)
        .filter(|entry| entry.path().is_file() && entry.path().extension().is_none_or(|ending| ending != "toml"))
        .map(|entry| {
            let path = entry.path().strip_prefix(folder).expect("beneath it").to_string_lossy().into_owned();
            SourceFile::new(path, std::fs::read(entry.path()).expect("a file"))
        })
        .collect()
}
