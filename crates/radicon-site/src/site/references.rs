//! Templates that application code names: string literals, in files of any
//! programming language, that name a template under the site's rules.

use std::hash::{Hash, Hasher};

use memchr::memchr3_iter;
use rayon::prelude::*;
use rustc_hash::{FxHashSet, FxHasher};
use serde::Serialize;
use xxhash_rust::xxh3::xxh3_64;

use super::{Mount, Root, Site, SourceFile};
use crate::dialect::Targets;
use crate::text::LineIndex;

/// The longest literal that is looked at, in bytes.
const MAX_LITERAL: usize = 200;

/// A place in application code that names a template.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Reference {
    /// The template's path.
    pub template: String,
    /// The file of application code.
    pub file: String,
    /// The line, 1-based.
    pub line: u32,
}

/// The names found in application code, and the files they were found in.
#[derive(Debug, Default)]
pub(super) struct Memory {
    code: u64,
    paths: Vec<String>,
    roots: Vec<Root>,
    mounts: Vec<Mount>,
    naming: Vec<Targets>,
    found: Vec<Reference>,
}

impl Memory {
    /// The same as [`find`]; it is not sought again where neither the code nor the names of templates have changed.
    pub fn find(&mut self, site: &Site, code: &[SourceFile]) -> Vec<Reference> {
        let mut hasher = FxHasher::default();
        code.iter().for_each(|file| (&file.path, xxh3_64(&file.bytes)).hash(&mut hasher));
        let code_now = hasher.finish();
        let paths = || site.templates.iter().map(|template| &template.path);
        let is_same = self.code == code_now
            && self.paths.iter().eq(paths())
            && self.roots == site.roots
            && self.mounts == site.mounts
            && self.naming == site.naming;
        if !is_same {
            *self = Self {
                code: code_now,
                paths: paths().cloned().collect(),
                roots: site.roots.clone(),
                mounts: site.mounts.clone(),
                naming: site.naming.clone(),
                found: find(site, code),
            };
        }
        self.found.clone()
    }
}

/// Finds what the files of application code name; sorted by template.
pub(super) fn find(site: &Site, code: &[SourceFile]) -> Vec<Reference> {
    let mut found: Vec<_> = code.par_iter().flat_map_iter(|file| in_file(site, file)).collect();
    found.sort();
    found
}

fn in_file(site: &Site, file: &SourceFile) -> Vec<Reference> {
    let mut found = Vec::new();
    let mut known: FxHashSet<&[u8]> = FxHashSet::default();
    let mut lines = None;
    for (at, literal) in literals(&file.bytes) {
        let Some(text) = std::str::from_utf8(literal).ok().filter(|_| known.insert(literal)) else { continue };
        let Some(id) = site.find_named(text) else { continue };
        let line = lines.get_or_insert_with(|| LineIndex::new(&file.bytes)).line(at as u32);
        found.push(Reference { template: site.get(id).path.clone(), file: file.path.clone(), line });
    }
    found
}

/// Every text between two quotes of a kind on a line that could be a name. A
/// closing quote may open the next one: which is which depends on the language.
fn literals(source: &[u8]) -> impl Iterator<Item = (usize, &[u8])> {
    memchr3_iter(b'"', b'\'', b'`', source).filter_map(|at| {
        let rest = &source[at + 1..source.len().min(at + 2 + MAX_LITERAL)];
        let length = rest.iter().position(|b| *b == source[at] || !is_part_of_a_name(*b))?;
        (rest[length] == source[at] && length > 0).then(|| (at + 1, &rest[..length]))
    })
}

fn is_part_of_a_name(byte: u8) -> bool {
    byte.is_ascii_alphanumeric() || byte >= 0x80 || matches!(byte, b'.'..=b':' | b'_' | b'-' | b'~' | b'@' | b'+')
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn any_quotes_make_a_literal() {
        let source = b"say don't('a/b.html') + \"\"\"c.html\"\"\" `d` 'no name' \"e";
        let found: Vec<_> = literals(source).map(|(_, text)| String::from_utf8_lossy(text).into_owned()).collect();
        assert_eq!(found, ["a/b.html", "c.html", "d"]);
    }
}
