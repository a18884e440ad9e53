//! `report`: everything about a site on one HTML page.

use std::path::Path;

use anyhow::{Context, Result, bail};
use radicon::disk::Loaded;
use radicon::{Options, Report, ReportOptions, disk, report};

use super::{is_json, json, load, out};
use crate::arguments::Arguments;
use crate::output::{busy, count, headline, next, number};
use crate::{FINE, page};

pub fn run(arguments: &Arguments, file: Option<&Path>) -> Result<u8> {
    if file.is_none() && !is_json(arguments) {
        bail!("say where the page goes, such as --out report.html");
    }
    let loaded = load(arguments)?;
    let report = of(&loaded)?;
    let mut out = out();
    if let Some(file) = file {
        let text = page::write(&name(&loaded), &loaded.site, &report);
        std::fs::write(file, &text).with_context(|| format!("{} cannot be written", file.display()))?;
        if !is_json(arguments) {
            let totals = report.survey.totals;
            headline(
                &mut out,
                &format!("{}: {}, {} bytes", file.display(), count(totals.pages, "page"), number(text.len())),
            )?;
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
        propose: Options::of(&loaded.settings.propose),
        ..ReportOptions::default()
    };
    let _working = busy("looking at everything");
    Ok(report(&loaded.site, &options)?)
}

/// What the site is called: its folder.
fn name(loaded: &Loaded) -> String {
    let folder = loaded.folder.canonicalize().unwrap_or_else(|_| loaded.folder.clone());
    folder.file_name().map_or_else(|| "site".into(), |name| name.to_string_lossy().into_owned())
}
