//! What a folder of templates holds: every template with its role, its parent
//! and its blocks, and how deep the chains go.
//!
//! ```sh
//! cargo run -p radicon-bench --bin inventory -- demo
//! ```

use std::collections::BTreeMap;
use std::path::PathBuf;

use radicon::report::Survey;
use radicon::{Resolver, disk};

fn main() -> Result<(), disk::DiskError> {
    let folder = std::env::args_os().nth(1).map_or_else(|| PathBuf::from("."), PathBuf::from);
    let loaded = disk::load(&folder)?;
    let survey = Survey::of(&loaded.site, &loaded.problems);
    for file in &survey.files {
        let parent = file.parent.as_deref().map(|parent| format!(" <- {parent}")).unwrap_or_default();
        println!("{:?} {}{parent} {}", file.role, file.path, file.blocks.join(" "));
    }
    let resolver = Resolver::new(&loaded.site);
    let mut depths: BTreeMap<usize, usize> = BTreeMap::new();
    for page in loaded.site.pages() {
        *depths.entry(resolver.chain(page).levels.len()).or_default() += 1;
    }
    for (levels, pages) in depths {
        println!("{pages} pages with {levels} levels");
    }
    for problem in &survey.problems {
        println!("{problem}");
    }
    Ok(())
}
