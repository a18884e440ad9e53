//! A rule of one's own: pictures must say what they show.
//!
//! ```sh
//! cargo run --example own_rule -- demo
//! ```

use std::path::Path;

use radicon::check::{Checked, Found, RULES, Rule, Severity, check_rules};
use radicon::markup::{Document, NodeId, NodeKind};
use radicon::text::SourceId;
use radicon::{Site, disk};

const SILENT_PICTURE: Rule = Rule::own(
    "silent-picture",
    Severity::Warning,
    "An `img` has no `alt`: whoever cannot see the picture is told its file name.",
    silent_pictures,
);

fn main() -> Result<(), disk::DiskError> {
    let folder = std::env::args().nth(1).unwrap_or_else(|| "demo".into());
    let loaded = disk::load(Path::new(&folder))?;
    for finding in with_own_rule(&loaded.site).findings {
        println!("{}:{}:{}: {} [{}]", finding.file, finding.line, finding.column, finding.message, finding.rule);
    }
    Ok(())
}

/// All findings of a site, with those of the rule above among them.
pub fn with_own_rule(site: &Site) -> Checked {
    check_rules(site, &[RULES, &[SILENT_PICTURE]].concat())
}

fn silent_pictures(site: &Site) -> Vec<Found> {
    let mut found = Vec::new();
    for (template, own) in (0..).map(SourceId).zip(&site.templates) {
        let document = Document::with_constructs(&own.source, own.constructs.clone());
        for (at, node) in NodeId::each(&document.nodes) {
            let span = document.span(at);
            let text = span.text(&own.source);
            if node.kind == NodeKind::Element && text.starts_with("<img") && !text.contains(" alt") {
                found.push(Found::new(template, span, "the picture does not say what it shows"));
            }
        }
    }
    found
}
