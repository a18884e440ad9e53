//! Any few files make a site whose pages are put together, and that is checked.
#![no_main]

use libfuzzer_sys::fuzz_target;
use radicon::check::{fix};
use radicon::{Resolver, Settings, Site, SourceFile, check, dialect};

const PATHS: [&str; 6] = ["a.html", "b.html", "c.html", "d/e.html", "d/f.html", "parts/g.html"];

fuzz_target!(|data: &[u8]| {
    let parts = data.split(|&b| b == 0).zip(PATHS);
    let files: Vec<SourceFile> = parts.map(|(text, path)| SourceFile::new(path, text)).collect();
    let site = Site::read(files, dialect::builtin(), &Settings::default());
    let resolver = Resolver::new(&site);
    if let Ok(pages) = resolver.flatten_all() {
        for (id, flat) in pages {
            let copied: usize = flat.stretches.iter().map(|stretch| stretch.span.len()).sum();
            assert!(copied <= flat.bytes.len() + 64 * flat.stretches.len());
            let _ = resolver.chain_report(id);
        }
    }
    let checked = check(&site);
    let _ = fix(&site, &checked.findings);
});
