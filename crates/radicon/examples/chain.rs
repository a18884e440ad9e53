//! The override chain of a page: who gives each block, and instead of whom.
//!
//! ```sh
//! cargo run --example chain -- demo booking/pay.html
//! ```

use std::path::Path;

use radicon::{Resolver, disk};

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let mut arguments = std::env::args().skip(1);
    let folder = arguments.next().unwrap_or_else(|| "demo".into());
    let page = arguments.next().unwrap_or_else(|| "booking/pay.html".into());
    print!("{}", chain(Path::new(&folder), &page)?);
    Ok(())
}

/// The story of a page, a line a block.
pub fn chain(folder: &Path, page: &str) -> Result<String, Box<dyn std::error::Error>> {
    let loaded = disk::load(folder)?;
    let id = loaded.site.find(page).ok_or_else(|| format!("no template {page}"))?;
    let report = Resolver::new(&loaded.site).chain_report(id);
    let levels: Vec<&str> = report.chain.iter().map(|level| level.file.as_str()).collect();
    let mut out = format!("{}\n", levels.join(" <- "));
    for block in &report.blocks {
        let places: Vec<String> =
            block.definitions.iter().map(|known| format!("{}:{}", known.file, known.line)).collect();
        out += &format!("{} ({}): {}\n", block.name, block.state.word(), places.join(", instead of "));
    }
    Ok(out)
}
