//! Reading the TOML files that people write, with line and column for
//! everything that is wrong.

use globset::{GlobBuilder, GlobSet, GlobSetBuilder};
use toml::Spanned;
use toml::de::{DeTable, DeValue};

use crate::text::{Position, did_you_mean, position};

/// A mistake in a file of settings or a dialect file, and its place.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{}:{}: {message}", at.line, at.column)]
pub struct ConfigError {
    /// Line and column, 1-based.
    pub at: Position,
    /// The mistake.
    pub message: String,
}

/// A key with its value, and the offset of the key.
pub type Item<'a, 'i> = (&'a str, &'a Spanned<DeValue<'i>>, usize);
/// A mistake at a byte offset.
pub type Result<T> = std::result::Result<T, (usize, String)>;

/// Parses a file and reads it with `reader`, which places its mistakes by offset.
pub fn read<T>(text: &str, reader: impl FnOnce(&DeTable<'_>) -> Result<T>) -> std::result::Result<T, ConfigError> {
    let place = |offset: usize, message: String| ConfigError { at: position(text.as_bytes(), offset as u32), message };
    let table = DeTable::parse(text)
        .map_err(|error| place(error.span().map_or(0, |span| span.start), error.message().to_owned()))?;
    reader(table.get_ref()).map_err(|(offset, message)| place(offset, message))
}

/// The entries of a table in the order of the file.
pub fn items<'a, 'i>(table: &'a DeTable<'i>) -> Vec<Item<'a, 'i>> {
    let mut items: Vec<_> =
        table.iter().map(|(key, value)| (key.get_ref().as_ref(), value, key.span().start)).collect();
    items.sort_by_key(|(_, value, _)| value.span().start);
    items
}

/// Where the value of a key is.
pub fn start(item: Item<'_, '_>) -> usize {
    item.1.span().start
}

/// The mistake that a key is none of those known.
pub fn unknown(item: Item<'_, '_>, known: &[&str]) -> (usize, String) {
    let hint = match did_you_mean(item.0, known.iter().copied()) {
        Some(meant) => format!("did you mean `{meant}`?"),
        None => format!("known here: {}", known.join(", ")),
    };
    (item.2, format!("unknown key `{}`; {hint}", item.0))
}

/// The table that a key holds.
///
/// # Errors
/// If it is none.
pub fn subtable<'a, 'i>(item: Item<'a, 'i>) -> Result<&'a DeTable<'i>> {
    item.1.get_ref().as_table().ok_or_else(|| (start(item), format!("`{}` must be a table", item.0)))
}

/// The tables of a list of tables, such as `[[folder]]`.
pub fn subtables<'a, 'i>(item: Item<'a, 'i>) -> Result<Vec<Item<'a, 'i>>> {
    match item.1.get_ref() {
        DeValue::Array(list) => Ok(list.iter().map(|value| (item.0, value, item.2)).collect()),
        _ => Err((start(item), format!("`{0}` must be a list of tables, written [[{0}]]", item.0))),
    }
}

/// A text.
///
/// # Errors
/// If it is none.
pub fn string<'a>(item: Item<'a, '_>) -> Result<&'a str> {
    item.1.get_ref().as_str().ok_or_else(|| (start(item), format!("`{}` must be text in quotes", item.0)))
}

/// `true` or `false`.
///
/// # Errors
/// If it is neither.
pub fn boolean(item: Item<'_, '_>) -> Result<bool> {
    item.1.get_ref().as_bool().ok_or_else(|| (start(item), format!("`{}` must be true or false", item.0)))
}

/// A whole number, not below 0.
///
/// # Errors
/// If it is none.
pub fn number(item: Item<'_, '_>) -> Result<u64> {
    let value =
        item.1.get_ref().as_integer().and_then(|number| u64::from_str_radix(number.as_str(), number.radix()).ok());
    value.ok_or_else(|| (start(item), format!("`{}` must be a whole number, not below 0", item.0)))
}

/// A text, or a list of texts.
///
/// # Errors
/// If it is neither.
pub fn strings(item: Item<'_, '_>) -> Result<Vec<String>> {
    match item.1.get_ref() {
        DeValue::Array(list) => list.iter().map(|value| string((item.0, value, item.2)).map(str::to_owned)).collect(),
        DeValue::String(_) => Ok(vec![string(item)?.to_owned()]),
        _ => Err((start(item), format!("`{}` must be a list of texts in quotes", item.0))),
    }
}

/// Patterns of paths, such as `notices/**`.
#[derive(Clone, Debug, Default)]
pub struct Globs {
    patterns: Vec<String>,
    set: GlobSet,
}

impl Globs {
    /// The patterns as written.
    pub fn patterns(&self) -> &[String] {
        &self.patterns
    }

    /// Whether one of them fits a path, whose separator is `/`.
    pub fn fit(&self, path: &str) -> bool {
        self.set.is_match(path)
    }
}

impl PartialEq for Globs {
    fn eq(&self, other: &Self) -> bool {
        self.patterns == other.patterns
    }
}

impl Eq for Globs {}

/// A list of patterns of paths.
///
/// # Errors
/// If one is not written as such.
pub fn globs(item: Item<'_, '_>) -> Result<Globs> {
    globs_in_case(item, true)
}

/// A list of patterns of paths, in which letter case counts or not.
pub(crate) fn globs_in_case(item: Item<'_, '_>, counts: bool) -> Result<Globs> {
    let patterns = strings(item)?;
    let mistake = |error: globset::Error| (start(item), error.to_string());
    let mut set = GlobSetBuilder::new();
    for pattern in &patterns {
        set.add(GlobBuilder::new(pattern).case_insensitive(!counts).build().map_err(mistake)?);
    }
    let set = set.build().map_err(mistake)?;
    Ok(Globs { patterns, set })
}

/// One of some words, by what each stands for.
///
/// # Errors
/// If it is none of them.
pub fn choice<T: Copy>(item: Item<'_, '_>, words: &[(&str, T)]) -> Result<T> {
    let written = string(item)?;
    words.iter().find(|(word, _)| *word == written).map(|&(_, value)| value).ok_or_else(|| {
        let known: Vec<_> = words.iter().map(|(word, _)| *word).collect();
        let hint = match did_you_mean(written, known.iter().copied()) {
            Some(meant) => format!("did you mean \"{meant}\"?"),
            None => format!("it is one of: {}", known.join(", ")),
        };
        (start(item), format!("`{}` cannot be \"{written}\"; {hint}", item.0))
    })
}
