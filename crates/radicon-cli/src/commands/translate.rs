//! `translate`: templates of one dialect written in another.

use std::io::Write;
use std::path::Path;

use anyhow::Result;
use radicon::Translation;

use super::{find_dialect, find_page, is_json, json, load, out};
use crate::arguments::Arguments;
use crate::output::{BAD, FAINT, GOOD, PLAIN, count, headline, next};
use crate::{DIFFERENT, FINE};

/// How many places are shown.
const SHOWN: usize = 30;

pub fn run(arguments: &Arguments, files: &[String], to: &str, into: Option<&Path>) -> Result<u8> {
    let loaded = load(arguments)?;
    let to = find_dialect(&loaded, to)?;
    let templates = if files.is_empty() {
        let all = loaded.site.templates.iter().filter(|template| !template.dialect.forms.is_empty());
        all.filter_map(|template| loaded.site.find(&template.path)).collect()
    } else {
        files.iter().map(|file| find_page(&loaded, file)).collect::<Result<Vec<_>>>()?
    };
    let translation = radicon::translate(&loaded.site, &templates, &to)?;
    if let Some(into) = into {
        radicon::disk::write_files(&translation.sources, into)?;
    }
    let code = if translation.different.is_empty() { FINE } else { DIFFERENT };
    let mut out = out();
    match (&translation.sources[..], into) {
        _ if is_json(arguments) => json(&mut out, &translation)?,
        // One file goes to standard output, as it is.
        ([file], None) => {
            out.write_all(&file.bytes)?;
            for place in &translation.places {
                anstream::eprintln!("{place}");
            }
        }
        _ => print(&translation, into, &mut out)?,
    }
    Ok(code)
}

fn print(translation: &Translation, into: Option<&Path>, out: &mut impl Write) -> Result<()> {
    headline(out, &format!("{} in {}", count(translation.files.len(), "template"), translation.dialect))?;
    let pages = translation.same + translation.different.len();
    writeln!(
        out,
        "  {GOOD}{} of {} flatten to the same{PLAIN}, outputs and conditions compared by their expressions",
        translation.same,
        count(pages, "page")
    )?;
    for page in translation.different.iter().take(SHOWN) {
        writeln!(out, "  {BAD}different{PLAIN} {page}")?;
    }
    if !translation.open.is_empty() {
        let pages = count(translation.open.len(), "page");
        writeln!(out, "  not compared: {pages} whose layout is not in the site, or chosen when rendered")?;
    }
    if !translation.places.is_empty() {
        writeln!(out, "\nTo look at: {}", count(translation.places.len(), "place"))?;
        for place in translation.places.iter().take(SHOWN) {
            writeln!(out, "  {place}")?;
        }
        if translation.places.len() > SHOWN {
            writeln!(out, "  {FAINT}and {} more; --format json lists all{PLAIN}", translation.places.len() - SHOWN)?;
        }
    }
    match into {
        Some(into) => next(
            out,
            &format!("look at the places above in {}, then radicon --site {} survey", into.display(), into.display()),
        )?,
        None => next(out, &format!("radicon translate --to {} --into DIR, to write the files", translation.dialect))?,
    }
    Ok(())
}
