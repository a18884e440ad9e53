//! Repeats as a gate: fails if more than a share of a site's bytes was copied.
//!
//! ```sh
//! cargo run --example gate -- demo 60
//! ```

use std::path::Path;
use std::process::ExitCode;

use radicon::{RepeatOptions, disk, repeats};

fn main() -> Result<ExitCode, Box<dyn std::error::Error>> {
    let mut arguments = std::env::args().skip(1);
    let folder = arguments.next().unwrap_or_else(|| "demo".into());
    let most: f64 = arguments.next().map_or(Ok(20.0), |text| text.parse())?;
    let (passed, message) = gate(Path::new(&folder), most)?;
    println!("{message}");
    Ok(if passed { ExitCode::SUCCESS } else { ExitCode::FAILURE })
}

/// Whether at most so many percent of a site stand in a repeat, and what to say about it.
pub fn gate(folder: &Path, most: f64) -> Result<(bool, String), disk::DiskError> {
    let loaded = disk::load(folder)?;
    let found = repeats(&loaded.site, &RepeatOptions::default());
    let share = found.share * 100.0;
    if share <= most {
        return Ok((true, format!("{share:.0} % was copied")));
    }
    let greatest = found.groups.first().map(|group| {
        let first = &group.copies[0];
        format!("; the greatest stands in {} places, such as {}:{}", group.copies.len(), first.file, first.line_start)
    });
    Ok((false, format!("{share:.0} % was copied, {most:.0} % may be{}", greatest.unwrap_or_default())))
}
