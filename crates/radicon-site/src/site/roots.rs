//! Roots: the folders where written target names start. If nobody says which,
//! they are inferred from the names themselves.

use std::collections::BTreeMap;

use rustc_hash::FxHashSet;
use serde::Serialize;

use super::Site;
use super::lookup::{Written, file_name, folder, is_bare_name, join, variants};
use crate::dialect::{Relative, Targets};
use crate::text::{SourceId, count};

/// A folder where target names start.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Root {
    /// Path from the site's folder; empty for the folder itself.
    pub path: String,
    /// How it came to be one.
    pub why: String,
}

impl Root {
    /// A root that somebody named.
    pub(super) fn configured(path: &str) -> Self {
        Self { path: path.trim_matches('/').to_owned(), why: "named in radicon.toml".into() }
    }
}

/// The most roots that are inferred.
const MAX_ROOTS: usize = 256;

/// Finds the folders under which most written names resolve: the one that
/// explains most first, then those that explain what is left.
pub(super) fn infer(site: &Site) -> Vec<Root> {
    let written = written_names(site);
    if written.is_empty() {
        return vec![Root { path: String::new(), why: "no template references another".into() }];
    }
    let mut unexplained: FxHashSet<usize> = (0..written.len()).collect();
    let candidates = candidates(site, &written);
    let mut roots = Vec::new();
    while roots.len() < MAX_ROOTS {
        let gain = |hits: &Vec<usize>| hits.iter().filter(|hit| unexplained.contains(hit)).count();
        // Most names first; of equals the shorter path.
        let best = candidates.iter().map(|(path, hits)| (gain(hits), std::cmp::Reverse(path))).max();
        let Some((explained, std::cmp::Reverse(path))) = best.filter(|(explained, _)| *explained > 0) else {
            break;
        };
        for hit in &candidates[path] {
            unexplained.remove(hit);
        }
        let why = match (roots.len(), written.len()) {
            (0, all) => format!("{explained} of {all} references resolve here"),
            _ => format!("{} that no earlier root explains", count(explained, "reference")),
        };
        roots.push(Root { path: path.clone(), why });
    }
    if roots.is_empty() {
        roots.push(Root { path: String::new(), why: format!("none of {} references resolves", written.len()) });
    }
    roots
}

/// Every name that a template writes and that may start at a root.
fn written_names(site: &Site) -> Vec<(SourceId, String, &Targets)> {
    let mut names = Vec::new();
    for (id, template) in (0..).map(SourceId).zip(&site.templates) {
        for item in &template.constructs.items {
            if !item.kind.names_a_file() || item.target.is_empty() {
                continue;
            }
            let targets = template.dialect.targets_of(item.kind);
            let text = item.target.text(&template.source);
            if item.dynamic && !(is_bare_name(&text) && site.by_name.contains_key(file_name(&text))) {
                continue;
            }
            let written = Written::new(&text, targets);
            let own = folder(&template.path);
            let beside = std::iter::once("").chain(targets.beside.iter().map(String::as_str));
            let is_near = |start: &str| {
                variants(&written.name, targets)
                    .any(|file| join(start, &file).is_some_and(|path| site.find(&path).is_some()))
            };
            let near = !written.rooted
                && (written.explicit
                    || targets.relative != Relative::No
                        && beside.filter_map(|beside| join(own, beside)).any(|start| is_near(&start)));
            // A relative name that starts beside its own file needs no root.
            if !near && (written.rooted || targets.relative != Relative::Only || !targets.beside.is_empty()) {
                names.push((id, written.name, targets));
            }
        }
    }
    names
}

/// Folders under which at least one name is a file, with the names they explain.
fn candidates(site: &Site, written: &[(SourceId, String, &Targets)]) -> BTreeMap<String, Vec<usize>> {
    let mut found: BTreeMap<String, Vec<usize>> = BTreeMap::new();
    for (index, (from, name, targets)) in written.iter().enumerate() {
        let own = &site.get(*from).path;
        let starts = std::iter::once("").chain(targets.beside.iter().map(String::as_str));
        let files = starts.flat_map(|start| variants(name, targets).filter_map(move |file| join(start, &file)));
        for file in files {
            for &id in site.by_name.get(file_name(&file)).into_iter().flatten() {
                let path = &site.get(id).path;
                let root = path.strip_suffix(&file).filter(|root| root.is_empty() || root.ends_with('/'));
                if let Some(root) = root.filter(|_| path != own) {
                    let hits = found.entry(root.trim_end_matches('/').to_owned()).or_default();
                    if hits.last() != Some(&index) {
                        hits.push(index);
                    }
                }
            }
        }
    }
    found
}

/// The folder in which most of the paths lie directly; for placing new files.
pub(crate) fn usual_folder<'a>(paths: impl Iterator<Item = &'a str>) -> Option<String> {
    let mut counts: BTreeMap<&str, usize> = BTreeMap::new();
    for path in paths {
        *counts.entry(folder(path)).or_default() += 1;
    }
    counts
        .into_iter()
        .max_by_key(|(folder, count)| (*count, std::cmp::Reverse(*folder)))
        .map(|(folder, _)| folder.to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect::builtin;
    use crate::site::{Settings, SourceFile};

    #[test]
    fn roots_are_where_the_names_resolve() {
        let files = [
            ("shop/templates/shop/list.html", "{% extends 'base.html' %}{% include 'shop/item.html' %}"),
            ("shop/templates/shop/item.html", ""),
            ("core/templates/base.html", "{% block a %}{% endblock %}"),
            ("core/templates/page.html", "{% extends 'base.html' %}"),
        ];
        let files = files.iter().map(|(path, text)| SourceFile::new(*path, *text)).collect();
        let site = Site::read(files, builtin(), &Settings::default());
        let paths: Vec<_> = site.roots.iter().map(|root| root.path.as_str()).collect();
        assert_eq!(paths, ["core/templates", "shop/templates"]);
        assert!(site.roots[0].why.contains("2 of 3"), "{}", site.roots[0].why);
    }
}
