//! A dialect of one's own: a file that shows how an engine writes its tags.
//!
//! ```sh
//! cargo run --example own_dialect
//! ```

use std::sync::Arc;

use radicon::dialect::Dialect;
use radicon::{Resolver, Settings, Site, SourceFile};

const DIALECT: &str = r#"
name  = "anchor"
files = ["**/*.anchor"]

[forms]
parent  = "~~moored at <target>~~"
block   = { open = "~~berth <name>~~", close = "~~cast off~~" }
include = "~~tow <target>~~"
output  = "~~= <expr>~~"

[targets]
suffixes = [".anchor"]
"#;

fn main() -> Result<(), Box<dyn std::error::Error>> {
    print!("{}", put_together()?);
    Ok(())
}

/// A page in that dialect, put together.
pub fn put_together() -> Result<String, Box<dyn std::error::Error>> {
    let dialect = Arc::new(Dialect::parse(DIALECT)?);
    let files = vec![
        SourceFile::new("quay.anchor", "<title>~~berth title~~Ferries~~cast off~~</title>\n~~tow foot~~\n"),
        SourceFile::new("foot.anchor", "<footer>~~= crew.name~~</footer>"),
        SourceFile::new("fares.anchor", "~~moored at quay~~\n~~berth title~~Fares~~cast off~~\n"),
    ];
    let site = Site::read(files, &[dialect], &Settings::default());
    let page = site.find("fares.anchor").ok_or("the page is there")?;
    Ok(String::from_utf8(Resolver::new(&site).flatten(page)?.bytes)?)
}
