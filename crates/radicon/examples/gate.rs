//! Repeats as a gate: fails if more than a share of a site's bytes is duplicated.
//!
//! ```sh
//! cargo run --example gate -- demo 60
//! ```

use std::path::Path;
use std::process::ExitCode;

use radicon::repeats::RepeatOptions;
use radicon::{disk, repeats};

fn main() -> Result<ExitCode, Box<dyn std::error::Error>> {
    let mut arguments = std::env::args().skip(1);
    let folder = arguments.next().unwrap_or_else(|| "demo".into());
    let most: f64 = arguments.next().map_or(Ok(20.0), |text| text.parse())?;
    let (passed, message) = gate(Path::new(&folder), most)?;
    println!("{message}");
    Ok(if passed { ExitCode::SUCCESS } else { ExitCode::FAILURE })
}

/// Whether at most so many percent of a site are duplicated, and a message.
pub fn gate(folder: &Path, most: f64) -> Result<(bool, String), disk::DiskError> {
    let loaded = disk::load(folder)?;
    let found = repeats(&loaded.site, &RepeatOptions::default());
    let share = found.share * 100.0;
    if share <= most {
        return Ok((true, format!("{share:.0}% is duplicated")));
    }
    let greatest = found.groups.first().map(|group| {
        let first = &group.copies[0];
        format!("; the largest repeat is in {} places, e.g. {}:{}", group.copies.len(), first.file, first.line_start)
    });
    Ok((false, format!("{share:.0}% is duplicated, the limit is {most:.0}%{}", greatest.unwrap_or_default())))
}
