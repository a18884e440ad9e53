//! What people mean by a name: templates, directories, dialects.

use std::path::Path;
use std::sync::Arc;

use anyhow::{Result, bail};
use radicon::dialect::Dialect;
use radicon::disk::Loaded;
use radicon::site::beneath;
use radicon::text;

pub fn find_dialect(loaded: &Loaded, name: &str) -> Result<Arc<Dialect>> {
    let names: Vec<&str> = loaded.dialects.iter().map(|dialect| dialect.name.as_str()).collect();
    match loaded.dialects.iter().find(|dialect| dialect.name == name) {
        Some(dialect) => Ok(Arc::clone(dialect)),
        None => bail!("no dialect `{name}`; {}", suggestion(name, &names)),
    }
}

/// A directory as the site's paths name it.
pub fn directory(written: &str) -> String {
    let bare = written.trim_start_matches("./").trim_matches('/');
    if bare == "." { String::new() } else { bare.to_owned() }
}

/// Whether there are templates in a directory of the site.
pub fn has_directory(loaded: &Loaded, written: &str) -> bool {
    let folder = directory(written);
    loaded.site.templates.iter().any(|template| beneath(&template.path, &folder).is_some())
}

/// Directories in which there are templates.
pub fn find_directories(loaded: &Loaded, written: &[String]) -> Result<Vec<String>> {
    let find = |written: &String| match has_directory(loaded, written) {
        true => Ok(directory(written)),
        false => bail!("no templates in the directory `{written}` of {}", loaded.folder.display()),
    };
    written.iter().map(find).collect()
}

/// The template that somebody means by a path or a name.
pub fn find_page(loaded: &Loaded, page: &str) -> Result<text::SourceId> {
    let site = &loaded.site;
    if let Some(id) = site.find_named(page) {
        return Ok(id);
    }
    // A path from the current directory that leads into the site.
    let there = Path::new(page).canonicalize().ok().zip(loaded.folder.canonicalize().ok());
    let relative =
        there.and_then(|(path, folder)| Some(path.strip_prefix(folder).ok()?.to_string_lossy().into_owned()));
    if let Some(id) = relative.and_then(|path| site.find(&path)) {
        return Ok(id);
    }
    let roots: Vec<&str> = site.roots.iter().map(|root| root.path.as_str()).collect();
    let searched: Vec<&str> = roots.iter().map(|root| if root.is_empty() { "." } else { root }).collect();
    let searched = if roots.len() > 1 { format!("; searched: {}", searched.join(", ")) } else { String::new() };
    // A name may be written from a root, and without its suffix.
    let names: Vec<&str> = site.templates.iter().map(|template| template.path.as_str()).collect();
    let mut written = names.clone();
    for root in &roots {
        let inside = site.templates.iter().filter_map(|template| template.path.strip_prefix(root));
        written.extend(inside.map(|path| path.trim_start_matches('/')));
    }
    let bare: Vec<&str> = written.iter().filter_map(|name| Some(name.rsplit_once('.')?.0)).collect();
    written.extend(bare.into_iter().filter(|name| site.find_named(name).is_some()));
    let meant = match text::did_you_mean(page, written) {
        Some(meant) => format!("did you mean `{meant}`?"),
        None => suggestion(page, &names),
    };
    bail!("no template `{page}` in {}; {meant}{searched}", loaded.folder.display())
}

/// The known name that somebody meant, or where the known ones are listed.
pub fn suggestion(written: &str, known: &[&str]) -> String {
    match text::did_you_mean(written, known.iter().copied()) {
        Some(meant) => format!("did you mean `{meant}`?"),
        None if known.is_empty() => "there are none".into(),
        None if known.len() <= 8 => format!("there are: {}", known.join(", ")),
        None => format!("`radicon survey` lists all {}", known.len()),
    }
}
