//! Measures the search for repeats on a folder of pages, beside what a machine
//! and a developer's usual tools need for the same files.
//!
//! ```sh
//! cargo run --release -p radicon-bench --bin copied -- "$(rustc --print sysroot)/share/doc/rust/html"
//! cargo run --release -p radicon-bench --bin copied -- --pages 3000 FOLDER
//! ```
//!
//! `--pages N` takes the first N pages by path, `--groups` shows the ten groups
//! that save most. The floor is reading all files and hashing their bytes.

use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::Instant;

use radicon::repeats::RepeatOptions;
use radicon::{Settings, Site, SourceFile, dialect, repeats};
use xxhash_rust::xxh3::xxh3_64;

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let (mut most, mut show, mut beside, mut folder) = (usize::MAX, false, false, PathBuf::from("."));
    let mut arguments = std::env::args().skip(1);
    while let Some(argument) = arguments.next() {
        match argument.as_str() {
            "--pages" => most = arguments.next().ok_or("--pages needs a number")?.parse()?,
            "--groups" => show = true,
            "--beside" => beside = true,
            _ => folder = argument.into(),
        }
    }
    let mut paths: Vec<PathBuf> = ignore::WalkBuilder::new(&folder)
        .standard_filters(false)
        .build()
        .filter_map(Result::ok)
        .map(ignore::DirEntry::into_path)
        .filter(|path| path.extension().is_some_and(|ending| ending == "html"))
        .collect();
    paths.sort();
    paths.truncate(most);

    let start = Instant::now();
    let (mut bytes, mut hash) = (0, 0);
    for path in &paths {
        let text = std::fs::read(path)?;
        bytes += text.len();
        hash ^= xxh3_64(&text);
    }
    let floor = start.elapsed().as_secs_f64();
    let megabytes = bytes as f64 / 1e6;
    println!("{} pages, {megabytes:.0} MB; reading and hashing {floor:.2} s ({hash:016x})", paths.len());
    if beside {
        let list = write_all(&paths)?;
        for command in ["LC_ALL=C sort", "zstd -3 --long=31 -T1 -q -c"] {
            let rest = if command.contains("sort") { "| uniq -c" } else { "" };
            let start = Instant::now();
            let line = format!("{command} < {} {rest} > /dev/null", list.display());
            let status = Command::new("bash").args(["-c", &line]).stderr(Stdio::null()).status()?;
            println!(
                "  {command} {rest}: {:.2} s{}",
                start.elapsed().as_secs_f64(),
                if status.success() { "" } else { " (failed)" }
            );
        }
        std::fs::remove_file(list)?;
    }

    search(&folder, &paths, megabytes, show)
}

/// Reads the pages as a site and looks for repeats, exact ones, then all.
fn search(folder: &Path, paths: &[PathBuf], megabytes: f64, show: bool) -> Result<(), Box<dyn std::error::Error>> {
    let start = Instant::now();
    let name = |path: &Path| path.strip_prefix(folder).unwrap_or(path).to_string_lossy().replace('\\', "/");
    let mut files = Vec::with_capacity(paths.len());
    for path in paths {
        files.push(SourceFile::new(name(path), std::fs::read(path)?));
    }
    let site = Site::read(files, dialect::builtin(), &Settings::default());
    println!("  the site read: {:.2} s, peak {} MB", start.elapsed().as_secs_f64(), radicon_bench::peak_memory());
    for (what, similarity) in [("exact", None), ("exact and alike", RepeatOptions::default().similarity)] {
        let start = Instant::now();
        let found = repeats(&site, &RepeatOptions { similarity, ..RepeatOptions::default() });
        println!(
            "  {what}: {:.2} s, {} groups, {:.1} % repeated, {} drifted, peak {} MB ({:.2} bytes a byte)",
            start.elapsed().as_secs_f64(),
            found.groups.len(),
            found.share * 100.0,
            found.groups.iter().map(|group| group.drift.len()).sum::<usize>(),
            radicon_bench::peak_memory(),
            radicon_bench::peak_memory() as f64 / megabytes
        );
        for group in found.groups.iter().take(if show { 10 } else { 0 }) {
            let words: String =
                group.pattern.split_whitespace().collect::<Vec<_>>().join(" ").chars().take(110).collect();
            println!(
                "    {} {} {} copies, {} bytes, saves {}, {}, {} gaps, {} drifted: {words}",
                group.id,
                group.kind.word(),
                group.copies.len(),
                group.weight.bytes,
                group.saving.bytes,
                group.advice.kind.word(),
                group.gaps.len(),
                group.drift.len()
            );
        }
    }
    Ok(())
}

/// All files in one, for tools that read one.
fn write_all(paths: &[PathBuf]) -> std::io::Result<PathBuf> {
    let all = std::env::temp_dir().join("radicon-copied");
    let mut out = std::io::BufWriter::new(std::fs::File::create(&all)?);
    for path in paths {
        std::io::copy(&mut std::fs::File::open(path)?, &mut out)?;
    }
    Ok(all)
}
