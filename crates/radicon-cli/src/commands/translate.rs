//! `translate`: templates of one dialect written in another.

use std::io::Write;
use std::path::Path;

use anyhow::Result;
use radicon::site::{Role, Template};
use radicon::translate::{Translation, Unsayable};

use super::loading::load;
use super::lookup::{find_dialect, find_page};
use super::{is_json, json, out};
use crate::arguments::Arguments;
use crate::output::{BAD, FAINT, GOOD, PLAIN, count, headline, next, quoted_path};
use crate::terminal::tell;
use crate::{DIFFERENT, FINE};

/// How many places are shown.
const SHOWN: usize = 30;

pub fn run(arguments: &Arguments, files: &[String], to: &str, into: Option<&Path>, partly: bool) -> Result<u8> {
    let loaded = load(arguments)?;
    let to = find_dialect(&loaded, to)?;
    let templates = if files.is_empty() {
        // A partial without tags is needed too.
        let is_needed = |template: &&Template| !template.dialect.forms.is_empty() || template.role == Role::Partial;
        let all = loaded.site.templates.iter().filter(is_needed);
        all.filter_map(|template| loaded.site.find(&template.path)).collect()
    } else {
        files.iter().map(|file| find_page(&loaded, file)).collect::<Result<Vec<_>>>()?
    };
    let unsayable = if partly { Unsayable::Kept } else { Unsayable::LeftOut };
    let translation = radicon::translate::translate(&loaded.site, &templates, &to, unsayable)?;
    if let Some(into) = into {
        radicon::disk::write_files(&loaded, &translation.sources, into)?;
    }
    let all = translation.different.is_empty() && translation.left_out.is_empty();
    let code = if all { FINE } else { DIFFERENT };
    let mut out = out();
    match (&translation.sources[..], into) {
        _ if is_json(arguments) => json(&mut out, &translation)?,
        // One file goes to standard output, as it is.
        ([file], None) => {
            out.write_all(&file.bytes)?;
            for place in &translation.places {
                tell(place);
            }
            for page in &translation.different {
                tell(format_args!("{page}: renders differently with these files translated only"));
            }
        }
        _ => print(&translation, into, &mut out)?,
    }
    Ok(code)
}

fn print(translation: &Translation, into: Option<&Path>, out: &mut impl Write) -> Result<()> {
    headline(out, &format!("{} in {}", count(translation.files.len(), "template"), translation.dialect))?;
    let pages = translation.same + translation.different.len();
    if pages > 0 {
        writeln!(
            out,
            "  {GOOD}{} of {} unchanged{PLAIN} except for insignificant whitespace; outputs and conditions are compared by their expressions",
            translation.same,
            count(pages, "page")
        )?;
    }
    for page in translation.different.iter().take(SHOWN) {
        writeln!(out, "  {BAD}renders differently{PLAIN} {page}")?;
    }
    if !translation.open.is_empty() {
        let pages = count(translation.open.len(), "page");
        writeln!(out, "  not compared: {pages} with a layout that is not in the site, or is chosen when rendered")?;
    }
    left_out(translation, out)?;
    if !translation.places.is_empty() {
        writeln!(out, "\nTo review: {}", count(translation.places.len(), "place"))?;
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
            &format!("review the places above in {}, then radicon --site {} survey", into.display(), quoted_path(into)),
        )?,
        None if translation.files.is_empty() => next(out, "radicon dialect show NAME, for the tags of a dialect")?,
        None => next(out, &format!("radicon translate --to {} --into DIR, to write the files", translation.dialect))?,
    }
    Ok(())
}

/// Templates that cannot be written in the dialect, with the first reason of each.
fn left_out(translation: &Translation, out: &mut impl Write) -> Result<()> {
    if translation.left_out.is_empty() {
        return Ok(());
    }
    let count = count(translation.left_out.len(), "template");
    writeln!(out, "\nLeft out: {BAD}{count}{PLAIN} with tags that {} does not have", translation.dialect)?;
    for left in translation.left_out.iter().take(SHOWN) {
        let more = match left.reasons.len() - 1 {
            0 => String::new(),
            more => format!("  {FAINT}and {more} more{PLAIN}"),
        };
        writeln!(out, "  {}{more}", left.reasons[0])?;
    }
    if translation.left_out.len() > SHOWN {
        writeln!(out, "  {FAINT}and {} more; --format json lists all{PLAIN}", translation.left_out.len() - SHOWN)?;
    }
    Ok(writeln!(out, "  --partly writes them too, and keeps these tags as they are")?)
}
