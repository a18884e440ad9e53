//! Changes to the files of a site as values: built first, checked as a whole, applied at once.

use std::collections::BTreeMap;

use serde::{Serialize, Serializer};

use crate::site::{Change, Site, SourceFile};
use crate::text::{Position, Span, position};

/// One stretch of a file and what takes its place.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Edit {
    /// The file's path.
    pub file: String,
    /// The bytes that go; empty for an insertion.
    pub span: Span,
    /// The bytes that come; where they are not UTF-8, JSON shows U+FFFD.
    #[serde(serialize_with = "lossy")]
    #[cfg_attr(feature = "schema", schemars(with = "String"))]
    pub text: Vec<u8>,
}

fn lossy<S: Serializer>(bytes: &[u8], serializer: S) -> Result<S::Ok, S::Error> {
    serializer.serialize_str(&String::from_utf8_lossy(bytes))
}

/// Edits of any number of files, with files that are new and files that go.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Edits {
    /// Changes to files that are there, in any order.
    pub edits: Vec<Edit>,
    /// New files.
    pub created: Vec<SourceFile>,
    /// Files that go.
    pub removed: Vec<String>,
}

/// Why edits cannot be made.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum EditError {
    /// Two of them change the same bytes.
    #[error("{file}: the changes at {}:{} and at {}:{} overlap", first.line, first.column, second.line, second.column)]
    Overlap {
        /// The file's path.
        file: String,
        /// The start of the first one.
        first: Position,
        /// The start of the second one.
        second: Position,
    },
    /// A file is not one of the site's templates, or a span leads out of it.
    #[error("{0}: there is no such place in the site's templates")]
    NoPlace(String),
    /// A file that should be new is there.
    #[error("{0}: exists already")]
    Exists(String),
}

impl Edits {
    /// Puts `text` in the place of a stretch.
    pub fn replace(&mut self, file: impl Into<String>, span: Span, text: impl Into<Vec<u8>>) {
        self.edits.push(Edit { file: file.into(), span, text: text.into() });
    }

    /// Takes a stretch away.
    pub fn remove(&mut self, file: impl Into<String>, span: Span) {
        self.replace(file, span, "");
    }

    /// Whether nothing changes.
    pub fn is_empty(&self) -> bool {
        self.edits.is_empty() && self.created.is_empty() && self.removed.is_empty()
    }

    /// Adds all of another set.
    pub fn extend(&mut self, other: Self) {
        self.edits.extend(other.edits);
        self.created.extend(other.created);
        self.removed.extend(other.removed);
    }

    /// The changed files, sorted by path. The same edit twice counts once.
    ///
    /// # Errors
    /// If edits overlap or lead out of their files, or a new file is there already.
    pub fn changes(&self, site: &Site) -> Result<Vec<Change>, EditError> {
        let mut by_file: BTreeMap<&str, Vec<&Edit>> = BTreeMap::new();
        for edit in &self.edits {
            by_file.entry(&edit.file).or_default().push(edit);
        }
        let mut changes = Vec::new();
        for (file, mut edits) in by_file {
            let id = site.find(file).ok_or_else(|| EditError::NoPlace(file.to_owned()))?;
            let source = &site.get(id).source;
            // Insertions at one place keep their order.
            edits.sort_by_key(|edit| edit.span);
            edits.dedup_by(|a, b| a == b && !a.span.is_empty());
            let new = apply(file, source, &edits)?;
            changes.push(Change { path: file.to_owned(), old: Some(source.to_vec()), new: Some(new) });
        }
        for path in &self.removed {
            let id = site.find(path).ok_or_else(|| EditError::NoPlace(path.clone()))?;
            changes.retain(|change| change.path != *path);
            changes.push(Change { path: path.clone(), old: Some(site.get(id).source.to_vec()), new: None });
        }
        for file in &self.created {
            if site.find(&file.path).is_some() {
                return Err(EditError::Exists(file.path.clone()));
            }
            changes.push(Change { path: file.path.clone(), old: None, new: Some(file.bytes.clone()) });
        }
        changes.sort_by(|a, b| a.path.cmp(&b.path));
        Ok(changes)
    }
}

/// A source with its edits made; they are sorted.
fn apply(file: &str, source: &[u8], edits: &[&Edit]) -> Result<Vec<u8>, EditError> {
    let mut out = Vec::with_capacity(source.len());
    let mut at = 0;
    let mut last = Span::default();
    for edit in edits {
        let (start, end) = (edit.span.start as usize, edit.span.end as usize);
        if start > end || end > source.len() {
            return Err(EditError::NoPlace(file.to_owned()));
        }
        if start < at {
            let place = |offset| position(source, offset);
            let (first, second) = (place(last.start), place(edit.span.start));
            return Err(EditError::Overlap { file: file.to_owned(), first, second });
        }
        out.extend_from_slice(&source[at..start]);
        out.extend_from_slice(&edit.text);
        (at, last) = (end, edit.span);
    }
    out.extend_from_slice(&source[at..]);
    Ok(out)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect::builtin;
    use crate::site::Settings;

    fn site() -> Site {
        Site::read(vec![SourceFile::new("a.html", "0123456789")], builtin(), &Settings::default())
    }

    #[track_caller]
    fn check(edits: &[(u32, u32, &str)], expected: Result<&str, &str>) {
        let mut all = Edits::default();
        edits.iter().for_each(|&(start, end, text)| all.replace("a.html", Span::new(start, end), text));
        let found = all
            .changes(&site())
            .map(|changes| String::from_utf8(changes[0].new.clone().expect("new content")).expect("text"));
        match (found, expected) {
            (Ok(found), Ok(expected)) => assert_eq!(found, expected),
            (Err(error), Err(words)) => assert!(error.to_string().contains(words), "{error}"),
            (found, expected) => panic!("{found:?}, {expected:?}"),
        }
    }

    #[test]
    fn edits_are_sorted_and_never_overlap() {
        check(&[(5, 6, "x"), (0, 2, "")], Ok("234x6789"));
        check(&[(3, 3, "x"), (3, 4, "y")], Ok("012xy456789"));
        check(&[(10, 10, "end")], Ok("0123456789end"));
        check(&[(0, 4, "x"), (3, 5, "y")], Err("1:1 and at 1:4 overlap"));
        check(&[(2, 4, "x"), (2, 4, "y")], Err("overlap"));
        check(&[(2, 4, "x"), (2, 4, "x")], Ok("01x456789"));
        check(&[(9, 11, "x")], Err("no such place"));
    }

    #[test]
    fn files_come_and_go() {
        let created = vec![SourceFile::new("b.html", "b")];
        let edits = Edits { created: created.clone(), removed: vec!["a.html".into()], ..Edits::default() };
        let after = site().after(&edits.changes(&site()).expect("changes"), &[]);
        let paths: Vec<_> = after.templates.iter().map(|template| template.path.as_str()).collect();
        assert_eq!(paths, ["b.html"]);
        let there = Edits { created: vec![SourceFile::new("a.html", "")], ..Edits::default() };
        assert_eq!(there.changes(&site()), Err(EditError::Exists("a.html".into())));
    }
}
