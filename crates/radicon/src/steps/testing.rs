//! What the tests of the steps share: every fixture is read in two dialects.

use super::{Step, StepError};
use crate::check::testing::{lamp, respelt, site};
use crate::dialect::builtin_named;
use crate::site::Site;
use crate::text::SourceId;

/// A template of a site.
#[track_caller]
pub fn at(site: &Site, path: &str) -> SourceId {
    site.find(path).expect("a template")
}

/// Makes a step on files that are written in `brace-percent`, and on the same in another dialect;
/// `expected` are the files that change, with their new text, or none if they go.
#[track_caller]
pub fn becomes(
    files: &[(&str, &str)],
    step: impl Fn(&Site) -> Result<Step, StepError>,
    expected: &[(&str, Option<&str>)],
) {
    let again: Vec<(&str, String)> = files.iter().map(|(path, text)| (*path, respelt(text))).collect();
    let again: Vec<(&str, &str)> = again.iter().map(|(path, text)| (*path, text.as_str())).collect();
    let brace = builtin_named("brace-percent").expect("a dialect");
    for (dialect, files, other) in [(brace, files, false), (lamp(), &again[..], true)] {
        let made = step(&site(&dialect, files, "")).unwrap_or_else(|error| panic!("{}: {error}", dialect.name));
        let text = |bytes: &Option<Vec<u8>>| bytes.as_ref().map(|bytes| String::from_utf8_lossy(bytes).into_owned());
        let found: Vec<_> = made.changes.iter().map(|change| (change.path.clone(), text(&change.new))).collect();
        let spelt = |text: &str| if other { respelt(text) } else { text.to_owned() };
        let expected: Vec<_> = expected.iter().map(|(path, text)| ((*path).to_owned(), text.map(spelt))).collect();
        assert_eq!(found, expected, "{}", dialect.name);
        assert!(made.proof.equal);
    }
}

/// A step that is refused, and why.
#[track_caller]
pub fn refused(files: &[(&str, &str)], step: impl Fn(&Site) -> Result<Step, StepError>, words: &str) {
    let brace = builtin_named("brace-percent").expect("a dialect");
    let error = step(&site(&brace, files, "")).expect_err("a refusal").to_string();
    assert!(error.contains(words), "{error}");
}
