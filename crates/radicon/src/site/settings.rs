//! `radicon.toml`: what a site says about itself.

use serde::Deserialize;

use crate::text::{Position, position};

/// The settings of a site. Everything has a default; an empty file is fine.
#[derive(Clone, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct Settings {
    /// Folders where target names start, in the order in which they are tried;
    /// inferred from the names if not given.
    pub roots: Option<Vec<String>>,
    /// Globs of paths that are not looked at.
    pub ignore: Vec<String>,
    /// Dialect files, from the site's folder.
    pub dialects: Vec<String>,
}

/// What is wrong with `radicon.toml`, and where.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{}:{}: {message}", at.line, at.column)]
pub struct SettingsError {
    /// Line and column, 1-based.
    pub at: Position,
    /// What is wrong.
    pub message: String,
}

impl Settings {
    /// Reads the text of a `radicon.toml`.
    ///
    /// # Errors
    /// With line and column: TOML syntax, an unknown key, a wrong value.
    pub fn parse(text: &str) -> Result<Self, SettingsError> {
        toml::from_str(text).map_err(|error| SettingsError {
            at: position(text.as_bytes(), error.span().map_or(0, |span| span.start as u32)),
            message: error.message().to_owned(),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn mistakes_are_placed() {
        assert_eq!(Settings::parse("roots = ['a']").map(|s| s.roots), Ok(Some(vec!["a".to_owned()])));
        let error = Settings::parse("ignore = []\nrots = []").expect_err("an unknown key");
        assert!(error.at.line == 2 && error.message.contains("rots"), "{error}");
    }
}
