//! From written names to files.

use super::{Site, SourceId};
use crate::dialect::{Dialect, Kind, Relative, Targets};

/// Why a target was not found.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Missing {
    /// It would lie outside the site.
    Outside,
    /// None of these files exists.
    NotFound(Vec<String>),
}

/// A written name, and where it starts.
pub(super) struct Written {
    /// With `/` between its parts, without a mark or slash at the start.
    pub name: String,
    /// It starts at a root, whatever the rules say.
    pub rooted: bool,
    /// It starts at the naming file's folder, whatever the rules say.
    pub explicit: bool,
}

impl Written {
    pub(super) fn new(written: &str, targets: &Targets) -> Self {
        let marked = (!targets.root.is_empty()).then(|| written.strip_prefix(&targets.root)).flatten();
        let explicit = marked.is_none() && (written.starts_with("./") || written.starts_with("../"));
        let rest = marked.unwrap_or(written);
        let separator = targets.separator.as_str();
        let name = match separator {
            "/" | "" => rest.to_owned(),
            // A name that is written with slashes keeps its dots.
            _ if rest.contains('/') => rest.to_owned(),
            _ => rest.replace(separator, "/"),
        };
        let rooted = marked.is_some() || name.starts_with('/');
        Self { name: name.trim_start_matches('/').to_owned(), rooted, explicit }
    }
}

/// The file names that a name may stand for: with and without the prefix, with each suffix.
pub(super) fn variants<'a>(name: &'a str, targets: &'a Targets) -> impl Iterator<Item = String> + 'a {
    let (folder, last) = name.rsplit_once('/').map_or(("", name), |(folder, last)| (folder, last));
    let slash = if folder.is_empty() { "" } else { "/" };
    let prefixed = (!targets.prefix.is_empty() && !last.starts_with(&targets.prefix))
        .then(|| format!("{folder}{slash}{}{last}", targets.prefix));
    prefixed
        .into_iter()
        .chain([name.to_owned()])
        .flat_map(|name| targets.suffixes.iter().map(move |suffix| format!("{name}{suffix}")))
}

impl Site {
    /// How a file is named in a dialect, from wherever it is named.
    pub fn name_for(&self, path: &str, dialect: &Dialect, kind: Kind) -> String {
        let rules = dialect.targets_of(kind);
        let in_root =
            |path: &str| self.roots.iter().any(|root| !root.path.is_empty() && beneath(path, &root.path).is_some());
        let shorten = |name: &str| {
            let suffix = rules.suffixes.iter().find(|suffix| !suffix.is_empty() && name.ends_with(suffix.as_str()));
            let name = match suffix {
                Some(suffix) if !rules.suffixes.iter().any(String::is_empty) => &name[..name.len() - suffix.len()],
                _ => name,
            };
            let (folder, last) = name.rsplit_once('/').map_or((None, name), |(folder, last)| (Some(folder), last));
            let bare = last.strip_prefix(rules.prefix.as_str()).unwrap_or(last);
            let name = folder.map_or(bare.to_owned(), |folder| format!("{folder}/{bare}"));
            match rules.separator.as_str() {
                "" | "/" => name,
                separator => name.replace('/', separator),
            }
        };
        let mounted = self.mounts.iter().find_map(|mount| mount.name_of(path, shorten));
        if let Some(name) = mounted.filter(|_| !in_root(path)) {
            return name;
        }
        // The innermost root makes the shortest name.
        let names = self.roots.iter().filter_map(|root| beneath(path, &root.path));
        let name = names.min_by_key(|name| name.len()).unwrap_or(path);
        let slash = if rules.relative == Relative::Only { "/" } else { "" };
        format!("{slash}{}", shorten(name))
    }

    /// The file that `written` names in the template `from`, for a construct of a kind.
    ///
    /// # Errors
    /// If there is no such file, or the name outside the site.
    pub fn lookup(&self, from: SourceId, written: &str, kind: Kind) -> Result<SourceId, Missing> {
        self.lookup_in(from, written, kind, self.get(from).dialect.targets_of(kind))
    }

    /// The same by these rules.
    pub(super) fn lookup_in(
        &self,
        from: SourceId,
        written: &str,
        kind: Kind,
        targets: &Targets,
    ) -> Result<SourceId, Missing> {
        let name = Written::new(written, targets);
        let own = folder(&self.get(from).path);
        let mut tried = Vec::new();
        let mut outside = false;
        let mut first = None;
        // A template that names itself as its parent means the same name in the next root.
        let may_name_itself =
            kind == Kind::Parent && variants(&name.name, targets).any(|file| self.get(from).path.ends_with(&file));
        for start in self.starts(own, &name, targets) {
            for file in variants(&name.name, targets) {
                let Some(path) = join(&start, &file) else {
                    outside = true;
                    continue;
                };
                match self.find(&path) {
                    Some(found) if found == from && may_name_itself => first = None,
                    Some(found) if !may_name_itself => return Ok(found),
                    Some(found) => first = first.or(Some(found)),
                    None => {}
                }
                tried.push(path);
            }
        }
        if let Some(found) = first {
            return Ok(found);
        }
        for path in self.mounts.iter().filter_map(|mount| mount.file_of(written, targets)) {
            if let Some(found) = variants(&path, targets).find_map(|file| self.find(&join("", &file)?)) {
                return Ok(found);
            }
            tried.push(path);
        }
        if targets.bare && !name.name.contains('/') {
            let found = variants(&name.name, targets).find_map(|file| self.nearest(own, &file, from));
            if let Some(found) = found {
                return Ok(found);
            }
        }
        Err(if outside && tried.is_empty() { Missing::Outside } else { Missing::NotFound(tried) })
    }

    /// The folders where a name may start, in the order in which they are tried.
    fn starts(&self, own: &str, name: &Written, targets: &Targets) -> Vec<String> {
        let roots = || self.roots.iter().map(|root| root.path.clone());
        if name.rooted {
            return roots().collect();
        }
        if name.explicit {
            return vec![own.to_owned()];
        }
        let mut starts: Vec<String> = match targets.relative {
            Relative::No => roots().collect(),
            Relative::First => std::iter::once(own.to_owned()).chain(roots()).collect(),
            Relative::Only => vec![own.to_owned()],
        };
        for beside in &targets.beside {
            starts.extend(std::iter::once(own.to_owned()).chain(roots()).filter_map(|start| join(&start, beside)));
        }
        starts
    }

    /// The file of the same name in the next root: the one that a template means which names itself.
    /// Of the names under which others are found the longest that its own path ends with counts. Folders that
    /// are called like a root are roots here, too: files that hide others need name none.
    pub fn namesake(&self, id: SourceId) -> Option<SourceId> {
        let own = self.get(id).path.as_str();
        let root_of = |path: &str| self.roots.iter().position(|root| beneath(path, &root.path).is_some());
        let own_root = root_of(own);
        let others = self.by_name.get(file_name(own)).into_iter().flatten().copied().filter(|&other| other != id);
        let ranked = others.filter_map(|other| {
            let path = self.get(other).path.as_str();
            let name = self
                .names_in_roots(path)
                .filter(|name| self.names_in_roots(own).any(|own| own == *name))
                .max_by_key(|name| name.len())?;
            let root = root_of(path).unwrap_or(usize::MAX);
            Some((name.len(), own_root.is_none_or(|own| root > own), std::cmp::Reverse(root), other))
        });
        ranked.max().map(|(.., other)| other)
    }

    /// The rest of a path after each root, and after each folder that is called like one.
    fn names_in_roots<'p>(&self, path: &'p str) -> impl Iterator<Item = &'p str> {
        let in_roots: Vec<&str> = self.roots.iter().filter_map(|root| beneath(path, &root.path)).collect();
        let is_called =
            |folder: &str| !folder.is_empty() && self.roots.iter().any(|root| file_name(&root.path) == folder);
        let folders = path.match_indices('/').filter(|(at, _)| is_called(file_name(&path[..*at])));
        let called: Vec<&str> = folders.map(|(at, _)| &path[at + 1..]).collect();
        in_roots.into_iter().chain(called)
    }

    /// The file of this name, in any folder, that is nearest to a folder.
    fn nearest(&self, own: &str, file: &str, from: SourceId) -> Option<SourceId> {
        let shared = |path: &str| path.split('/').zip(own.split('/')).take_while(|(a, b)| a == b).count();
        let named = self.by_name.get(file).into_iter().flatten().copied().filter(|&id| id != from);
        named.max_by_key(|&id| (shared(&self.get(id).path), std::cmp::Reverse(id)))
    }

    /// A template by its path or by a name under which some dialect of the site names it.
    pub fn find_named(&self, name: &str) -> Option<SourceId> {
        let plain = name.trim_start_matches("./");
        self.find(plain).or_else(|| {
            self.naming.iter().find_map(|targets| {
                let written = Written::new(name, targets);
                // Most names are no file's at all: that is told without trying every root.
                let files: Vec<String> = variants(&written.name, targets)
                    .filter(|file| self.by_name.contains_key(file_name(file)))
                    .collect();
                if files.is_empty() {
                    return None;
                }
                let under = |root: &str| files.iter().find_map(|file| self.find(&join(root, file)?));
                self.roots.iter().find_map(|root| {
                    let beside = targets.beside.iter().filter_map(|beside| join(&root.path, beside));
                    std::iter::once(root.path.clone()).chain(beside).find_map(|start| under(&start))
                })
            })
        })
    }
}

/// Whether an expression can be a file's name without quotes.
pub(super) fn is_bare_name(written: &str) -> bool {
    written.contains(['/', '.']) && written.bytes().all(|b| b.is_ascii_alphanumeric() || b"/._-".contains(&b))
}

/// The folder of a path; empty for a file at the top.
pub fn folder(path: &str) -> &str {
    path.rsplit_once('/').map_or("", |(folder, _)| folder)
}

/// The rest of a path that lies in a folder; all of it for the empty one, `None` if it lies elsewhere.
pub fn beneath<'p>(path: &'p str, folder: &str) -> Option<&'p str> {
    match folder {
        "" => Some(path),
        folder => path.strip_prefix(folder)?.strip_prefix('/'),
    }
}

/// The name of a file without its folder.
pub(super) fn file_name(path: &str) -> &str {
    path.rsplit('/').next().unwrap_or(path)
}

/// The name of a file without its folder and all that comes after a dot.
pub fn stem(path: &str) -> &str {
    let name = file_name(path);
    name.split_once('.').map_or(name, |(stem, _)| stem)
}

/// Joins a folder and a name, resolving `.` and `..`; `None` if it leads out.
pub(crate) fn join(folder: &str, name: &str) -> Option<String> {
    let mut parts: Vec<&str> = folder.split('/').filter(|part| !part.is_empty()).collect();
    for part in name.split('/') {
        match part {
            "" | "." => {}
            ".." => {
                parts.pop()?;
            }
            _ => parts.push(part),
        }
    }
    Some(parts.join("/"))
}
