//! How long an editor waits after a change: one template of a folder gets another text again and again, and each time
//! the site is brought up to date, a definition is looked up, and everything but `drift` is checked.
//!
//! ```sh
//! cargo run --release -p radicon-bench --bin retyped -- FOLDER [FILE]
//! ```
//!
//! Prints medians of 21 changes, in milliseconds: of text, and of names.

use std::path::Path;
use std::time::{Duration, Instant};

use radicon::check::{Checks, RULES};
use radicon::disk::Reader;
use radicon::markup::ConstructId;
use radicon::navigate::Navigator;
use radicon::site::Parent;

const CHANGES: usize = 21;

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let mut words = std::env::args().skip(1);
    let folder = words.next().ok_or("which folder?")?;
    let mut reader = Reader::for_editor(Path::new(&folder));
    let mut loaded = reader.read()?;
    let site = &loaded.site;
    let has_parent = |path: &&String| site.find(path).is_some_and(|id| matches!(site.parent(id), Parent::Found { .. }));
    let paths = || site.templates.iter().map(|template| &template.path);
    let usual = paths().find(has_parent).or_else(|| paths().next());
    let path = words.next().or(usual.cloned()).ok_or("no template")?;
    let id = site.find(&path).ok_or("no such template")?;
    let source = site.get(id).source.to_vec();
    let rules: Vec<_> = RULES.iter().filter(|rule| rule.id != "drift").copied().collect();
    let mut checks = Checks::new(&rules);
    checks.check(&loaded.site);
    println!("{} templates, {path}", loaded.site.templates.len());
    for (what, begin, end) in [("text", "<p>Ferries ", "</p>\n"), ("names", "{% include 'ferries-", ".html' %}\n")] {
        let (mut found, mut checked) = (Vec::new(), Vec::new());
        for change in 0..CHANGES {
            let text = [&source, format!("{begin}{change}{end}").as_bytes()].concat();
            reader.unsaved(&path, Some(text));
            let start = Instant::now();
            reader.update(&mut loaded)?;
            std::hint::black_box(Navigator::new(&loaded.site).definition(id, ConstructId(0)));
            found.push(start.elapsed());
            checks.check(&loaded.site);
            checked.push(start.elapsed());
        }
        println!("{what}: definition {:.1}, findings {:.1}", median(found), median(checked));
    }
    Ok(())
}

/// The median, in milliseconds.
fn median(mut times: Vec<Duration>) -> f64 {
    times.sort_unstable();
    times[times.len() / 2].as_secs_f64() * 1000.0
}
