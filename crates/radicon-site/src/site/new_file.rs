//! Where new files go and what they are called: as the site's own are.

use std::collections::BTreeMap;

use super::lookup::{file_name, stem};
use super::{Role, Site, Template, beneath, usual_folder};
use crate::dialect::{Dialect, Kind, Targets};

/// The habits of a site's files of one role and dialect.
#[derive(Clone, Debug)]
pub struct Home {
    folder: String,
    prefix: String,
    suffix: String,
    /// Words are joined by `_`, not `-`.
    underscores: bool,
}

impl Home {
    /// Where layouts or partials in a dialect go: beside the site's own, else into a folder of this name under the
    /// root of a file.
    pub fn of(site: &Site, dialect: &Dialect, role: Role, folder: &str, from: Option<&str>) -> Self {
        let own: Vec<&str> = paths(site, |template| template.role == role && template.dialect.name == dialect.name);
        let is_around = |path: &str| from.is_none_or(|from| beneath(from, path).is_some());
        let roots = site.roots.iter().map(|root| root.path.as_str()).filter(|root| is_around(root));
        let root = if from.is_some() { roots.max_by_key(|root| root.len()) } else { roots.into_iter().next() };
        let beneath_root = || [root.unwrap_or_default(), folder].into_iter().filter(|part| !part.is_empty());
        let folder = usual_folder(own.iter().copied()).unwrap_or_else(|| beneath_root().collect::<Vec<_>>().join("/"));
        let kin = |template: &Template| template.dialect.name == dialect.name || template.dialect.forms.is_empty();
        let others = paths(site, kin);
        let kind = if role == Role::Layout { Kind::Parent } else { Kind::Include };
        let marked = |path: &&&str| file_name(path).starts_with('_');
        let targets = dialect.targets_of(kind);
        let prefix = match targets.prefix.as_str() {
            "" if !own.is_empty() && own.iter().filter(marked).count() == own.len() => "_",
            prefix => prefix,
        };
        let count = |sign: char| others.iter().filter(|path| stem(path).contains(sign)).count();
        Self {
            prefix: prefix.to_owned(),
            suffix: [&own[..], from.as_slice(), &others]
                .into_iter()
                .find(|paths| !paths.is_empty())
                .and_then(|paths| usual_suffix(dialect, targets, &folder, paths))
                .or_else(|| targets.suffixes.iter().find(|suffix| suffix.starts_with('.')).cloned())
                .unwrap_or_else(|| suffix_of(dialect)),
            underscores: count('_') > count('-'),
            folder,
        }
    }

    /// The same in another folder.
    pub fn in_folder(self, folder: &str) -> Self {
        Self { folder: folder.to_owned(), ..self }
    }

    /// The folder.
    pub fn folder(&self) -> &str {
        &self.folder
    }

    /// The path of the first free file for a word, with a number where others are taken.
    pub fn path(&self, word: &str, is_free: impl Fn(&str) -> bool) -> String {
        let Self { folder, prefix, suffix, underscores } = self;
        let (slash, sign) = (if folder.is_empty() { "" } else { "/" }, if *underscores { "_" } else { "-" });
        let word = word.replace('-', sign);
        let numbered = (2..).map(|number| format!("{folder}{slash}{prefix}{word}{sign}{number}{suffix}"));
        let mut paths = std::iter::once(format!("{folder}{slash}{prefix}{word}{suffix}")).chain(numbered);
        paths.find(|path| is_free(path)).unwrap_or_default()
    }
}

fn paths(site: &Site, fits: impl Fn(&Template) -> bool) -> Vec<&str> {
    site.templates.iter().filter(|template| fits(template)).map(|template| template.path.as_str()).collect()
}

/// The commonest suffix of files with which a new one in this folder is read in a dialect. What comes before the last
/// dot of a name, as in `a.b.html`, belongs to it if that is so of most files; else it is part of the names.
fn usual_suffix(dialect: &Dialect, targets: &Targets, folder: &str, paths: &[&str]) -> Option<String> {
    let is_found = |suffix: &str| targets.suffixes.iter().any(|end| suffix.ends_with(end.as_str()));
    let is_read =
        |suffix: &str| is_found(suffix) && (dialect.by_content || dialect.fits(&format!("{folder}/new{suffix}")));
    let count = |cut: fn(&str) -> Option<(&str, &str)>| {
        let mut counts: BTreeMap<String, usize> = BTreeMap::new();
        for (_, suffix) in paths.iter().filter_map(|path| cut(file_name(path))) {
            *counts.entry(format!(".{suffix}")).or_default() += 1;
        }
        counts.retain(|suffix, _| is_read(suffix));
        counts.into_iter().max_by_key(|(suffix, count)| (*count, std::cmp::Reverse(suffix.clone())))
    };
    let whole = count(|name| name.split_once('.'));
    let usual = whole.clone().filter(|(_, count)| count * 2 > paths.len());
    usual.or_else(|| count(|name| name.rsplit_once('.'))).or(whole).map(|(suffix, _)| suffix)
}

/// The suffix of files that a dialect is for.
pub fn suffix_of(dialect: &Dialect) -> String {
    let suffixes = dialect.files.patterns().iter().filter_map(|pattern| pattern.strip_prefix("**/*"));
    let mut plain = suffixes.filter(|suffix| !suffix.contains(['*', '{']));
    plain.next().unwrap_or(".html").to_owned()
}
