//! `report`: everything about a site on one HTML page.

use std::path::Path;

use anyhow::{Result, bail};
use radicon::disk::Loaded;
use radicon::report::{Report, ReportOptions, report};
use radicon::{ProposeOptions, disk};

use super::loading::load;
use super::writing::write_file;
use super::{is_json, json, out};
use crate::arguments::Arguments;
use crate::output::{busy, count, headline, next, number};
use crate::{FINE, page};

pub fn run(arguments: &Arguments, file: Option<&Path>) -> Result<u8> {
    if file.is_none() && !is_json(arguments) {
        bail!("no file to write; pass --out report.html, for example");
    }
    let loaded = load(arguments)?;
    let report = of(&loaded)?;
    let mut out = out();
    if let Some(file) = file {
        let text = page::write(&name(&loaded), &loaded.site, &report);
        write_file(file, &text)?;
        if !is_json(arguments) {
            let totals = report.survey.totals;
            headline(&mut out, &format!("{}, {} bytes", count(totals.pages, "page"), number(text.len())))?;
            next(&mut out, "open it in a browser; it needs no server and no network")?;
        }
    }
    if is_json(arguments) {
        json(&mut out, &report)?;
    }
    Ok(FINE)
}

fn of(loaded: &Loaded) -> Result<Report> {
    let options = ReportOptions {
        problems: loaded.problems.clone(),
        dialects: loaded.dialects.clone(),
        styles: disk::style_sheets(&loaded.folder),
        propose: ProposeOptions::from(&loaded.settings.propose),
        ..ReportOptions::default()
    };
    let _working = busy("preparing the report");
    Ok(report(&loaded.site, &options)?)
}

/// The name of the site: its directory.
fn name(loaded: &Loaded) -> String {
    let folder = loaded.folder.canonicalize().unwrap_or_else(|_| loaded.folder.clone());
    folder.file_name().map_or_else(|| "site".into(), |name| name.to_string_lossy().into_owned())
}
