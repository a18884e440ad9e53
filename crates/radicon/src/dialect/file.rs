//! Reading dialect files, with line and column for everything that is wrong.

use globset::{Glob, GlobSet, GlobSetBuilder};
use toml::Spanned;
use toml::de::{DeTable, DeValue};

use super::{Dialect, Form, Kind, Loose, Marks, Newline, Pattern, Rules, Scope, Targets, Twice};
use crate::text::{Position, did_you_mean, position};

/// What is wrong with a dialect file, and where.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{}:{}: {message}", at.line, at.column)]
pub struct DialectError {
    /// Line and column, 1-based.
    pub at: Position,
    /// What is wrong.
    pub message: String,
}

type Item<'a, 'i> = (&'a str, &'a Spanned<DeValue<'i>>);
type Result<T> = std::result::Result<T, (usize, String)>;

/// A dialect without any form.
pub(super) fn empty(name: &str) -> Dialect {
    Dialect {
        name: name.into(),
        files: Vec::new(),
        forms: Vec::new(),
        targets: Targets::default(),
        rules: Rules::default(),
        marks: Marks::default(),
        globs: GlobSet::empty(),
        delimiters: None,
        candidates: Vec::new(),
    }
}

pub(super) fn read(text: &str) -> std::result::Result<Dialect, DialectError> {
    let place = |offset: usize, message: String| DialectError { at: position(text.as_bytes(), offset as u32), message };
    let table = DeTable::parse(text)
        .map_err(|error| place(error.span().map_or(0, |span| span.start), error.message().to_owned()))?;
    let mut dialect = dialect(text, table.get_ref()).map_err(|(offset, message)| place(offset, message))?;
    dialect.compile();
    Ok(dialect)
}

fn dialect(text: &str, table: &DeTable<'_>) -> Result<Dialect> {
    let mut dialect = empty("");
    for item in items(table) {
        match item.0 {
            "name" => dialect.name = string(item)?.into(),
            "files" => {
                dialect.files = strings(item)?;
                dialect.globs = globs(&dialect.files).map_err(|message| (start(item), message))?;
            }
            "forms" => forms(text, &mut dialect, item)?,
            "targets" => targets(&mut dialect.targets, item)?,
            "rules" => rules(&mut dialect.rules, item)?,
            _ => {
                return Err(unknown(item, &["name", "files", "forms", "targets", "rules"]));
            }
        }
    }
    if dialect.name.is_empty() {
        return Err((0, "a dialect needs a `name`".into()));
    }
    Ok(dialect)
}

fn globs(patterns: &[String]) -> std::result::Result<GlobSet, String> {
    let mut set = GlobSetBuilder::new();
    for pattern in patterns {
        set.add(Glob::new(pattern).map_err(|error| error.to_string())?);
    }
    set.build().map_err(|error| error.to_string())
}

fn forms(text: &str, dialect: &mut Dialect, item: Item<'_, '_>) -> Result<()> {
    let words: Vec<&str> = Kind::ALL.iter().map(|kind| kind.word()).chain(["trim", "exact"]).collect();
    for item in items(subtable(item)?) {
        let marks = |list: Vec<String>| list.into_iter().map(String::into_bytes).collect();
        match item.0 {
            "trim" => dialect.marks.trim = marks(strings(item)?),
            "exact" => dialect.marks.exact = marks(strings(item)?),
            word => {
                let kind =
                    Kind::ALL.into_iter().find(|kind| kind.word() == word).ok_or_else(|| unknown(item, &words))?;
                match item.1.get_ref() {
                    DeValue::Array(list) => {
                        for value in list.iter() {
                            dialect.forms.push(form(text, kind, (item.0, value))?);
                        }
                    }
                    _ => dialect.forms.push(form(text, kind, item)?),
                }
            }
        }
    }
    Ok(())
}

fn form(text: &str, kind: Kind, item: Item<'_, '_>) -> Result<Form> {
    let form = match item.1.get_ref() {
        DeValue::String(_) => Form { kind, open: pattern(text, item)?, branch: Vec::new(), close: Vec::new() },
        DeValue::Table(table) => {
            let (mut open, mut branch, mut close) = (None, Vec::new(), Vec::new());
            for part in items(table) {
                match part.0 {
                    "open" => open = Some(pattern(text, part)?),
                    "branch" => branch = patterns(text, part)?,
                    "close" => close = patterns(text, part)?,
                    _ => return Err(unknown(part, &["open", "branch", "close"])),
                }
            }
            let open = open.ok_or_else(|| (start(item), format!("the pair `{}` needs `open`", item.0)))?;
            if close.is_empty() {
                return Err((start(item), format!("the pair `{}` needs `close`", item.0)));
            }
            Form { kind, open, branch, close }
        }
        _ => {
            return Err((
                start(item),
                format!("`{}` must be an example in quotes, or a pair {{ open, close }}", item.0),
            ));
        }
    };
    let paired = matches!(kind, Kind::Block | Kind::Verbatim | Kind::Control);
    if paired && !form.is_pair() {
        return Err((start(item), format!("`{}` must be a pair: {{ open = \"…\", close = \"…\" }}", item.0)));
    }
    let needed = match kind {
        Kind::Parent | Kind::Include => "<target>",
        Kind::Block | Kind::Set => "<name>",
        _ => return Ok(form),
    };
    if form.open.example().contains(needed) {
        Ok(form)
    } else {
        Err((start(item), format!("the form of `{}` must show where {needed} stands", item.0)))
    }
}

fn patterns(text: &str, item: Item<'_, '_>) -> Result<Vec<Pattern>> {
    match item.1.get_ref() {
        DeValue::Array(list) => list.iter().map(|value| pattern(text, (item.0, value))).collect(),
        _ => Ok(vec![pattern(text, item)?]),
    }
}

fn pattern(text: &str, item: Item<'_, '_>) -> Result<Pattern> {
    let example = string(item)?;
    let span = item.1.span();
    // Inside a literal string the offset can be told exactly.
    let quotes = usize::from(text.as_bytes().get(span.start).is_some_and(|b| matches!(b, b'"' | b'\'')));
    Pattern::parse(example).map_err(|(offset, message)| (span.start + quotes + offset, message))
}

fn targets(targets: &mut Targets, item: Item<'_, '_>) -> Result<()> {
    for item in items(subtable(item)?) {
        match item.0 {
            "suffixes" => targets.suffixes = strings(item)?,
            "separator" => targets.separator = string(item)?.into(),
            "relative" => targets.relative = boolean(item)?,
            _ => return Err(unknown(item, &["suffixes", "separator", "relative"])),
        }
    }
    Ok(())
}

fn rules(rules: &mut Rules, item: Item<'_, '_>) -> Result<()> {
    const SCOPES: &[(&str, Scope)] = &[("shared", Scope::Shared), ("own", Scope::Own), ("unknown", Scope::Unknown)];
    for item in items(subtable(item)?) {
        match item.0 {
            "loose" => {
                let words = &[
                    ("ignored", Loose::Ignored),
                    ("body", Loose::Body),
                    ("before", Loose::Before),
                    ("unknown", Loose::Unknown),
                ];
                rules.loose = choice(item, words)?;
            }
            "twice" => {
                let words = &[
                    ("error", Twice::Error),
                    ("first", Twice::First),
                    ("last", Twice::Last),
                    ("unknown", Twice::Unknown),
                ];
                rules.twice = choice(item, words)?;
            }
            "newline" => {
                let words = &[
                    ("kept", Newline::Kept),
                    ("eaten", Newline::Eaten),
                    ("line", Newline::Line),
                    ("unknown", Newline::Unknown),
                ];
                rules.newline = choice(item, words)?;
            }
            "anywhere" => rules.anywhere = boolean(item)?,
            "include-scope" => rules.include_scope = choice(item, SCOPES)?,
            "block-scope" => rules.block_scope = choice(item, SCOPES)?,
            _ => {
                return Err(unknown(item, &["loose", "twice", "anywhere", "newline", "include-scope", "block-scope"]));
            }
        }
    }
    Ok(())
}

/// The entries of a table in the order of the file.
fn items<'a, 'i>(table: &'a DeTable<'i>) -> Vec<Item<'a, 'i>> {
    let mut items: Vec<_> = table.iter().map(|(key, value)| (key.get_ref().as_ref(), value)).collect();
    items.sort_by_key(|(_, value)| value.span().start);
    items
}

fn start(item: Item<'_, '_>) -> usize {
    item.1.span().start
}

fn unknown(item: Item<'_, '_>, known: &[&str]) -> (usize, String) {
    let hint = match did_you_mean(item.0, known.iter().copied()) {
        Some(meant) => format!("did you mean `{meant}`?"),
        None => format!("known here: {}", known.join(", ")),
    };
    (start(item), format!("unknown key `{}`; {hint}", item.0))
}

fn subtable<'a, 'i>(item: Item<'a, 'i>) -> Result<&'a DeTable<'i>> {
    item.1.get_ref().as_table().ok_or_else(|| (start(item), format!("`{}` must be a table", item.0)))
}

fn string<'a>(item: Item<'a, '_>) -> Result<&'a str> {
    item.1.get_ref().as_str().ok_or_else(|| (start(item), format!("`{}` must be text in quotes", item.0)))
}

fn boolean(item: Item<'_, '_>) -> Result<bool> {
    item.1.get_ref().as_bool().ok_or_else(|| (start(item), format!("`{}` must be true or false", item.0)))
}

fn strings(item: Item<'_, '_>) -> Result<Vec<String>> {
    match item.1.get_ref() {
        DeValue::Array(list) => list.iter().map(|value| string((item.0, value)).map(str::to_owned)).collect(),
        _ => Ok(vec![string(item)?.to_owned()]),
    }
}

fn choice<T: Copy>(item: Item<'_, '_>, words: &[(&str, T)]) -> Result<T> {
    let written = string(item)?;
    words.iter().find(|(word, _)| *word == written).map(|&(_, value)| value).ok_or_else(|| {
        let known: Vec<_> = words.iter().map(|(word, _)| *word).collect();
        (start(item), format!("`{}` cannot be \"{written}\"; it is one of: {}", item.0, known.join(", ")))
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[track_caller]
    fn refuses(text: &str, line: u32, column: u32, words: &str) {
        let error = read(text).expect_err("a mistake");
        assert_eq!((error.at.line, error.at.column), (line, column), "{error}");
        assert!(error.message.contains(words), "{error}");
    }

    #[test]
    fn mistakes_name_line_and_column() {
        refuses("name = \"x\"\nfiels = []", 2, 9, "did you mean `files`?");
        refuses("name = \"x\"\n[forms]\nblokc = 'a'", 3, 9, "did you mean `block`?");
        refuses("name = \"x\"\n[forms]\nparent = '{% use \"<taget>\" %}'", 3, 19, "<target>");
        refuses("name = \"x\"\n[forms]\nblock = '{% b <name> %}'", 3, 9, "must be a pair");
        refuses("name = \"x\"\n[forms]\nparent = '{% use %}'", 3, 10, "<target>");
        refuses("name = \"x\"\n[rules]\ntwice = \"often\"", 3, 9, "error, first, last");
        refuses("name = \"x\"\n[rules\n", 2, 7, "");
        refuses("files = []", 1, 1, "needs a `name`");
    }
}
