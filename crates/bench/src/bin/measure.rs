//! Measures a proposal on a folder of pages: what it saves, how long it takes,
//! and what it needs of memory.
//!
//! ```sh
//! cargo run --release -p radicon-bench --bin measure -- "$(rustc --print sysroot)/share/doc/rust/html/book"
//! cargo run --release -p radicon-bench --bin measure -- --strict --pages 5000 FOLDER
//! ```
//!
//! `--pages N` takes the first N pages by path. Prints one line of figures, the
//! names of the blocks, and why pages were left alone.

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::time::Instant;

use radicon::{ProposeOptions, Settings, Site, SourceFile, Strength, dialect, disk, propose};

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let (mut strict, mut most, mut folder) = (false, usize::MAX, PathBuf::from("."));
    let mut arguments = std::env::args().skip(1);
    while let Some(argument) = arguments.next() {
        match argument.as_str() {
            "--strict" => strict = true,
            "--pages" => most = arguments.next().ok_or("--pages needs a number")?.parse()?,
            _ => folder = argument.into(),
        }
    }
    let start = Instant::now();
    let mut site = disk::load(&folder)?.site;
    let read = start.elapsed();
    if most < site.templates.len() {
        let files = site.templates.drain(..most).map(|page| SourceFile::new(page.path, page.source.to_vec())).collect();
        site = Site::read(files, dialect::builtin(), &Settings::default());
    }
    let start = Instant::now();
    let strength = if strict { Strength::Bytes } else { Strength::Blanks };
    let proposal = propose(&site, &ProposeOptions { strength, ..ProposeOptions::default() })?;
    let proposed = start.elapsed();

    let (before, after) = (proposal.before, proposal.after);
    let proven = proposal.proof.pages.iter().filter(|page| page.is_equal()).count();
    println!(
        "{} {}: {} files, {} -> {} bytes ({:.3}), {} converted, {} left, {} of {} proven, {} layouts, {} blocks, read {:.2} s, proposed {:.2} s, peak {} MB",
        folder.file_name().unwrap_or_default().to_string_lossy(),
        if strict { "strict" } else { "tidy" },
        before.files,
        before.bytes,
        after.bytes,
        after.bytes as f64 / before.bytes as f64,
        proposal.layouts.iter().map(|layout| layout.pages).sum::<usize>(),
        proposal.left.len(),
        proven,
        proposal.proof.pages.len(),
        proposal.layouts.len(),
        proposal.layouts.iter().map(|layout| layout.blocks.len()).sum::<usize>(),
        read.as_secs_f64(),
        proposed.as_secs_f64(),
        radicon_bench::peak_memory(),
    );
    for layout in &proposal.layouts {
        let names: Vec<_> = layout.blocks.iter().map(|block| block.name.as_str()).collect();
        let extends = layout.extends.as_deref().unwrap_or("-");
        println!("  {} (extends {extends}, {} pages, {} beneath)", layout.path, layout.pages, layout.beneath);
        println!("    fills: {}; blocks: {}", layout.fills.join(" "), names.join(" "));
    }
    let mut reasons: BTreeMap<String, usize> = BTreeMap::new();
    for left in &proposal.left {
        let general = left.reason.replace(|c: char| c.is_ascii_digit(), "#");
        *reasons.entry(general.chars().take(120).collect()).or_default() += 1;
    }
    reasons.iter().for_each(|(reason, count)| println!("  left {count}: {reason}"));
    Ok(())
}
