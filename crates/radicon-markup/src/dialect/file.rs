//! Reading dialect files.

use toml::de::{DeTable, DeValue};

use super::pattern::Reach;
use super::{
    ByteOrderMark, Dialect, Form, Kind, Loose, Marks, Newline, Pattern, Relative, Rules, Scope, SetScope, Targets,
    Twice, Urls, split_arguments,
};
use crate::config::{
    self, ConfigError, Globs, Item, Result, boolean, choice, items, start, string, strings, subtable, unknown,
};

/// A dialect without any form.
pub(super) fn empty(name: &str) -> Dialect {
    Dialect {
        name: name.into(),
        files: Globs::default(),
        by_content: false,
        forms: Vec::new(),
        targets: Targets::default(),
        rules: Rules::default(),
        text: String::new(),
        learned: false,
        special_targets: Vec::new(),
        marks: Marks::default(),
        delimiters: None,
        tags: Vec::new(),
        candidates: Vec::new(),
        form_ids: Vec::new(),
    }
}

pub(super) fn read(text: &str) -> std::result::Result<Dialect, ConfigError> {
    let mut dialect = config::read(text, |table| dialect(text, table))?;
    dialect.text = text.to_owned();
    dialect.compile();
    Ok(dialect)
}

fn dialect(text: &str, table: &DeTable<'_>) -> Result<Dialect> {
    let mut dialect = empty("");
    for item in items(table) {
        match item.0 {
            "name" => dialect.name = string(item)?.into(),
            "files" => dialect.files = config::globs_in_case(item, false)?,
            "by-content" => dialect.by_content = boolean(item)?,
            "forms" => forms(text, &mut dialect, item)?,
            "targets" => all_targets(&mut dialect, item)?,
            "rules" => read_rules(&mut dialect.rules, item)?,
            // What a learned dialect says about its evidence.
            "learned" => {}
            _ => return Err(unknown(item, &["name", "files", "by-content", "forms", "targets", "rules", "learned"])),
        }
    }
    if dialect.name.is_empty() {
        return Err((0, "a dialect needs a `name`".into()));
    }
    Ok(dialect)
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
                            dialect.forms.push(form(text, kind, (item.0, value, item.2))?);
                        }
                    }
                    _ => dialect.forms.push(form(text, kind, item)?),
                }
                // A parent without a target says that a page has no layout.
                let shows = |form: &Form| {
                    form.kind != Kind::Parent || form.names_itself || form.open.example().contains("<target>")
                };
                if !dialect.forms.iter().any(shows) {
                    return Err((start(item), "a form of `parent` must show where <target> stands".into()));
                }
            }
        }
    }
    Ok(())
}

const FORM_KEYS: [&str; 13] = [
    "open", "form", "branch", "close", "balanced", "line", "required", "default", "element", "header", "within",
    "target", "own-file",
];

fn form(text: &str, kind: Kind, item: Item<'_, '_>) -> Result<Form> {
    let form = match item.1.get_ref() {
        DeValue::String(_) => Form::of(kind, pattern(text, item, Reach::Tag)?),
        DeValue::Table(table) => form_table(text, kind, item, table)?,
        _ => {
            return Err((
                start(item),
                format!("`{}` must be an example in quotes, or a pair {{ open, close }}", item.0),
            ));
        }
    };
    check(&form, item)?;
    Ok(form)
}

fn form_table(text: &str, kind: Kind, item: Item<'_, '_>, table: &DeTable<'_>) -> Result<Form> {
    let (mut open, mut branch, mut close) = (None, None, None);
    let mut rest = Form::of(kind, Pattern::default());
    for part in items(table) {
        match part.0 {
            "open" | "form" => open = Some(part),
            "branch" => branch = Some(part),
            "close" => close = Some(part),
            "line" => rest.line = boolean(part)?,
            "required" => rest.required = boolean(part)?,
            "default" => rest.default = boolean(part)?,
            "header" => rest.header = Some(string(part)?.to_owned()),
            "within" => rest.within = boolean(part)?,
            "own-file" => rest.own_file = boolean(part)?,
            "target" => rest.names_itself = choice(part, &[("self", true)])?,
            "element" => rest.replaces_element = choice(part, &[("kept", false), ("replaced", true)])?,
            "balanced" => {
                rest.balanced = match string(part)?.as_bytes() {
                    &[open, close] if open != close => Some((open, close)),
                    _ => return Err((start(part), "`balanced` must be two brackets, such as \"{}\"".into())),
                }
            }
            _ => return Err(unknown(part, &FORM_KEYS)),
        }
    }
    let open = open.ok_or_else(|| (start(item), format!("the form of `{}` needs `open`", item.0)))?;
    let reach = match (&rest.header, rest.within, rest.line) {
        (Some(_), ..) => Reach::Header,
        (None, true, _) => Reach::Within,
        (None, false, true) => Reach::Line,
        (None, false, false) => Reach::Tag,
    };
    let patterns = |part: Option<Item<'_, '_>>| part.map_or(Ok(Vec::new()), |part| patterns(text, part, reach));
    let form = Form { open: pattern(text, open, reach)?, branch: patterns(branch)?, close: patterns(close)?, ..rest };
    if form.is_pair() && !matches!(reach, Reach::Tag | Reach::Line) {
        return Err((start(item), format!("the form of `{}` is read in a longer text, and cannot be a pair", item.0)));
    }
    if form.names_itself && kind != Kind::Parent {
        return Err((
            start(item),
            "`target = \"self\"` is for a parent: the file of the same name in the next root".into(),
        ));
    }
    let single = reach != Reach::Tag || form.required || form.default || form.own_file || form.names_itself;
    if !single && !form.is_attribute() && !form.is_pair() {
        return Err((start(item), format!("the pair `{}` needs `close` or `balanced`", item.0)));
    }
    if let Some((bracket, _)) = form.balanced.filter(|(open, _)| !form.open.example().as_bytes().ends_with(&[*open])) {
        return Err((
            start(open),
            format!("an opener that is closed by balance must end with `{}`", char::from(bracket)),
        ));
    }
    Ok(form)
}

/// Whether a form shows all that its kind needs.
fn check(form: &Form, item: Item<'_, '_>) -> Result<()> {
    let shows = |place: &str| form.open.example().contains(place);
    let is_region = form.is_pair() || form.is_attribute();
    let paired = match form.kind {
        Kind::Block | Kind::Here | Kind::Verbatim | Kind::Control | Kind::Wrap | Kind::Part => true,
        Kind::Fill => !shows("<value>"),
        _ => false,
    };
    if paired && !is_region {
        return Err((start(item), format!("`{}` must be a pair: {{ open = \"…\", close = \"…\" }}", item.0)));
    }
    let needed: &[&str] = match form.kind {
        Kind::Include => &["<target>", "<name>"],
        Kind::Wrap | Kind::Import => &["<target>"],
        Kind::Block | Kind::Slot | Kind::Fill | Kind::Part | Kind::Set | Kind::Again => &["<name>"],
        _ => return Ok(()),
    };
    if needed.iter().any(|place| shows(place)) {
        return Ok(());
    }
    Err((start(item), format!("the form of `{}` must show where {} stands", item.0, needed.join(" or "))))
}

fn patterns(text: &str, item: Item<'_, '_>, reach: Reach) -> Result<Vec<Pattern>> {
    match item.1.get_ref() {
        DeValue::Array(list) => list.iter().map(|value| pattern(text, (item.0, value, item.2), reach)).collect(),
        _ => Ok(vec![pattern(text, item, reach)?]),
    }
}

fn pattern(text: &str, item: Item<'_, '_>, reach: Reach) -> Result<Pattern> {
    let example = string(item)?;
    let span = item.1.span();
    // Inside a literal string the offset can be told exactly.
    let quotes = usize::from(text.as_bytes().get(span.start).is_some_and(|b| matches!(b, b'"' | b'\'')));
    Pattern::compile(example, reach).map_err(|(offset, message)| (span.start + quotes + offset, message))
}

/// `[targets]`, and what single constructs say otherwise.
fn all_targets(dialect: &mut Dialect, item: Item<'_, '_>) -> Result<()> {
    let table = subtable(item)?;
    let named = |word: &str| Kind::ALL.into_iter().find(|kind| kind.names_a_file() && kind.word() == word);
    let (special, common): (Vec<_>, Vec<_>) = items(table).into_iter().partition(|item| named(item.0).is_some());
    common.into_iter().try_for_each(|item| target(&mut dialect.targets, item))?;
    for item in special {
        let mut targets = dialect.targets.clone();
        items(subtable(item)?).into_iter().try_for_each(|item| target(&mut targets, item))?;
        dialect.special_targets.extend(named(item.0).map(|kind| (kind, targets)));
    }
    Ok(())
}

/// `true`, `false`, or `"first"`.
fn relative(item: Item<'_, '_>) -> Result<Relative> {
    if item.1.get_ref().is_str() {
        return choice(item, &[("first", Relative::First)]);
    }
    boolean(item).map(|only| if only { Relative::Only } else { Relative::No })
}

fn target(targets: &mut Targets, item: Item<'_, '_>) -> Result<()> {
    match item.0 {
        "suffixes" => targets.suffixes = strings(item)?,
        "separator" => targets.separator = string(item)?.into(),
        "relative" => targets.relative = relative(item)?,
        "beside" => targets.beside = strings(item)?,
        "prefix" => targets.prefix = string(item)?.into(),
        "root" => targets.root = string(item)?.into(),
        "bare" => targets.bare = boolean(item)?,
        _ => {
            let known = [
                "suffixes",
                "separator",
                "relative",
                "beside",
                "prefix",
                "root",
                "bare",
                "parent",
                "include",
                "wrap",
                "import",
            ];
            return Err(unknown(item, &known));
        }
    }
    Ok(())
}

/// The keys of `[rules]`.
const RULE_NAMES: [&str; 12] = [
    "loose",
    "twice",
    "anywhere",
    "newline",
    "include-scope",
    "block-scope",
    "set-scope",
    "urls",
    "byte-order-mark",
    "only",
    "optional",
    "arguments",
];

/// Rules of an engine, as a dialect or a site's settings give them.
pub fn read_rules(rules: &mut Rules, item: Item<'_, '_>) -> Result<()> {
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
            "set-scope" => {
                let words = &[("layout", SetScope::Layout), ("own", SetScope::Own), ("unknown", SetScope::Unknown)];
                rules.set_scope = choice(item, words)?;
            }
            "urls" => {
                let words = &[("kept", Urls::Kept), ("rebased", Urls::Rebased), ("unknown", Urls::Unknown)];
                rules.urls = choice(item, words)?;
            }
            "byte-order-mark" => {
                let words = &[
                    ("kept", ByteOrderMark::Kept),
                    ("page", ByteOrderMark::Page),
                    ("unknown", ByteOrderMark::Unknown),
                ];
                rules.byte_order_mark = choice(item, words)?;
            }
            "only" => rules.only = strings(item)?,
            "optional" => rules.optional = strings(item)?,
            "arguments" => {
                let example = string(item)?;
                if split_arguments(example).is_none() {
                    let message =
                        "`arguments` is an example that binds `a` to `x` and `b` to `y`, both in the same way";
                    return Err((config::start(item), message.into()));
                }
                rules.arguments = Some(example.to_owned());
            }
            _ => {
                return Err(unknown(item, &RULE_NAMES));
            }
        }
    }
    Ok(())
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
        refuses("name = \"x\"\nfiels = []", 2, 1, "did you mean `files`?");
        refuses("name = \"x\"\n[forms]\nblokc = 'a'", 3, 1, "did you mean `block`?");
        refuses("name = \"x\"\n[forms]\nparent = '{% use \"<taget>\" %}'", 3, 19, "<target>");
        refuses("name = \"x\"\n[forms]\nblock = '{% b <name> %}'", 3, 9, "must be a pair");
        refuses("name = \"x\"\n[forms]\nparent = '{% use %}'", 3, 10, "<target>");
        refuses("name = \"x\"\n[rules]\ntwice = \"often\"", 3, 9, "error, first, last");
        refuses("name = \"x\"\n[rules\n", 2, 7, "");
        refuses("files = []", 1, 1, "needs a `name`");
    }
}
