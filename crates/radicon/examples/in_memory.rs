//! A proposal without touching the disk: pages in, files out.
//!
//! ```sh
//! cargo run --example in_memory
//! ```

use radicon::{ProposeOptions, Settings, Site, SourceFile, dialect, propose};

/// Proposes layouts for three pages, and prints them with their proof.
pub fn main() -> Result<(), radicon::ProposeError> {
    let page = |path: &str, title: &str, text: &str| {
        let frame = include_str!("frame.html");
        SourceFile::new(path, frame.replace("{title}", title).replace("{text}", text))
    };
    let files = vec![
        page("index.html", "Welcome", "<h1>Welcome aboard</h1>\n    <p>Seven harbours, every day.</p>"),
        page("fares.html", "Fares", "<h1>Fares</h1>\n    <p>You pay on board.</p>"),
        page("fleet.html", "Our boats", "<h1>Our boats</h1>\n    <p>Curlew, Dunlin and Whimbrel.</p>"),
    ];
    let site = Site::read(files, dialect::builtin(), &Settings::default());
    let proposal = propose(&site, &ProposeOptions::default())?;
    for file in &proposal.files {
        println!("--- {} ({:?})\n{}", file.path, file.role, String::from_utf8_lossy(&file.bytes));
    }
    for page in &proposal.proof.pages {
        println!("{}: equal at {:?}", page.page, page.strength());
    }
    Ok(())
}
