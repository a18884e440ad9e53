//! The text of a dialect file: forms and rules are put in, everything else stays as it is written.

use toml_edit::{Array, DocumentMut, InlineTable, Item, Table, Value};

use crate::dialect::Kind;
use crate::{Confidence, LearnedForm};

/// A text as a value of TOML.
pub(crate) fn quote(text: &str) -> String {
    Value::from(text).to_string()
}

/// Several texts as a value of TOML.
pub(crate) fn list(texts: &[String]) -> String {
    texts.iter().collect::<Array>().to_string()
}

/// A file with more forms in it, each under what speaks for it; those that were not decided are there
/// as comments. The text as it is, if it is not TOML.
pub(crate) fn with_forms(text: &str, forms: &[LearnedForm]) -> String {
    let Ok(mut file) = text.parse::<DocumentMut>() else { return text.to_owned() };
    let Some(table) = table(&mut file, "forms") else { return text.to_owned() };
    let mut undecided = String::new();
    for kind in Kind::ALL {
        let own = forms.iter().filter(|form| form.kind == kind);
        let (asked, kept): (Vec<&LearnedForm>, Vec<_>) = own.partition(|form| form.confidence == Confidence::Asked);
        for form in asked {
            undecided += &format!("{}\n# {} = {}\n", evidence(form), kind.word(), form.form);
        }
        if kept.is_empty() {
            continue;
        }
        add(table, kind.word(), &kept);
        prepend(table, kind.word(), &std::mem::take(&mut undecided));
    }
    let first = table.iter().next().map(|(key, _)| key.to_owned());
    prepend(table, &first.unwrap_or_default(), &undecided);
    file.to_string()
}

/// A file with a rule set.
pub(crate) fn with_rule(text: &str, rule: &str, value: impl Into<Value>) -> String {
    let Ok(mut file) = text.parse::<DocumentMut>() else { return text.to_owned() };
    let Some(rules) = table(&mut file, "rules") else { return text.to_owned() };
    rules.insert(rule, Item::Value(value.into()));
    file.to_string()
}

/// A form with one more key: `'x'` becomes `{ open = 'x', key = … }`.
pub(crate) fn with_key(form: &str, key: &str, value: impl Into<Value>) -> String {
    let table = match form.parse::<Value>() {
        Ok(Value::InlineTable(table)) => Some(table),
        Ok(text) => Some(InlineTable::from_iter([("open", text)])),
        Err(_) => None,
    };
    table.map_or_else(
        || form.to_owned(),
        |mut table| {
            table.insert(key, value.into());
            table.fmt();
            table.to_string()
        },
    )
}

/// The settings of a site with more files that a folder's rule does not hold for, if there is a folder with it.
pub(crate) fn with_exception(text: &str, rule: &str, pattern: &str) -> Option<String> {
    let mut file = text.parse::<DocumentMut>().ok()?;
    let folders = file.get_mut("folder")?.as_array_of_tables_mut()?;
    let folder = folders.iter_mut().find(|folder| folder.contains_key(rule))?;
    let except = folder.entry("except").or_insert_with(|| Item::Value(Array::new().into())).as_array_mut()?;
    except.insert(0, pattern);
    except.fmt();
    Some(file.to_string())
}

/// The evidence for a form, as a comment.
fn evidence(form: &LearnedForm) -> String {
    let at = form.example.as_ref().map_or(String::new(), |at| format!(", {}:{}", at.file, at.line));
    let sure = match form.confidence {
        Confidence::Sure => "sure",
        Confidence::Likely => "likely",
        Confidence::Asked => "not decided",
    };
    let uses = if form.uses == 1 { "1 use".to_owned() } else { format!("{} uses", form.uses) };
    format!("# {sure}: {}; {uses}{at}", form.evidence)
}

/// A table of a file, which is made at its end if it is missing.
fn table<'d>(file: &'d mut DocumentMut, name: &str) -> Option<&'d mut Table> {
    if !file.contains_key(name) {
        let mut table = Table::new();
        table.decor_mut().set_prefix("\n");
        file.insert(name, Item::Table(table));
    }
    file[name].as_table_mut()
}

/// Puts comments above a key.
fn prepend(table: &mut Table, key: &str, comments: &str) {
    if let Some(mut key) = table.key_mut(key).filter(|_| !comments.is_empty()) {
        let decor = key.leaf_decor_mut();
        let known = decor.prefix().and_then(|prefix| prefix.as_str()).unwrap_or("").to_owned();
        decor.set_prefix(format!("{comments}{known}"));
    }
}

/// Adds forms of a kind to those that are there.
fn add(table: &mut Table, key: &str, forms: &[&LearnedForm]) {
    let mut known = match table.get(key).cloned().map(Item::into_value) {
        Some(Ok(Value::Array(known))) => known,
        Some(Ok(mut known)) => {
            known.decor_mut().clear();
            Array::from_iter([known])
        }
        _ => Array::new(),
    };
    let mut values = forms.iter().filter_map(|form| Some((form.form.parse::<Value>().ok()?, evidence(form))));
    if known.is_empty() && forms.len() == 1 {
        if let Some((value, evidence)) = values.next() {
            table.insert(key, Item::Value(value));
            prepend(table, key, &format!("{evidence}\n"));
        }
        return;
    }
    for (mut value, evidence) in values {
        value.decor_mut().set_prefix(format!("\n  {evidence}\n  "));
        known.push_formatted(value);
    }
    known.set_trailing("\n");
    known.set_trailing_comma(true);
    table.insert(key, Item::Value(known.into()));
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect::Dialect;

    fn form(kind: Kind, form: &str, confidence: Confidence) -> LearnedForm {
        let (evidence, written) = ("seen".into(), String::new());
        LearnedForm { kind, form: form.to_owned(), uses: 1, evidence, confidence, written, example: None }
    }

    #[test]
    fn forms_are_put_into_a_file_that_stays_as_it_is() {
        let forms = [
            form(Kind::Slot, "'{% hook <name> %}'", Confidence::Likely),
            form(Kind::Set, "'{% let <name> = <expr> %}'", Confidence::Sure),
            form(Kind::Block, "{ open = '{% b <name> %}', close = '{% e %}' }", Confidence::Likely),
            form(Kind::Include, "'{% place \"<target>\" %}'", Confidence::Asked),
        ];
        let known = "# mine\nname = 'x' # and this\n[forms]\nblock = { open = '{% block <name> %}', close = '{% end %}' }\nset = ['{% set <name> = <expr> %}']\n\n[rules]\ntwice = 'last'\n";
        let text = with_forms(known, &forms);
        let dialect = Dialect::parse(&text).unwrap_or_else(|error| panic!("{error}\n{text}"));
        let count = |kind: Kind| dialect.forms.iter().filter(|form| form.kind == kind).count();
        let counts = [Kind::Block, Kind::Slot, Kind::Set, Kind::Include].map(count);
        assert_eq!(counts, [2, 1, 2, 0], "{text}");
        assert!(
            text.starts_with("# mine\nname = 'x' # and this\n") && text.ends_with("[rules]\ntwice = 'last'\n"),
            "{text}"
        );
        assert!(text.contains("# not decided: seen; 1 use\n# include = '{% place \"<target>\" %}'\n"), "{text}");
        assert!(Dialect::parse(&with_forms("name = 'y'\n", &forms[..1])).is_ok());
    }

    #[test]
    fn rules_are_set_in_place() {
        let text = "name = \"x\"\n\n[rules]\nloose = \"body\"\n";
        assert!(with_rule(text, "loose", "before").ends_with("[rules]\nloose = \"before\"\n"));
        assert!(with_rule(text, "twice", "last").ends_with("[rules]\nloose = \"body\"\ntwice = \"last\"\n"));
        assert!(with_rule("name = \"x\"\n", "twice", "last").ends_with("\n[rules]\ntwice = \"last\"\n"));
        assert!(with_rule(text, "optional", Array::from_iter(["if there"])).contains("optional = [\"if there\"]"));
    }

    #[test]
    fn a_form_gets_another_key() {
        assert_eq!(with_key("'<* a>'", "element", "replaced"), "{ open = '<* a>', element = \"replaced\" }");
        assert_eq!(with_key("{ open = 'a' }", "line", true), "{ open = 'a', line = true }");
    }

    #[test]
    fn a_folder_gets_an_exception() {
        let text = "[[folder]]\nbefore = [\"a\"]\n";
        let once = with_exception(text, "before", "x/**").expect("a folder");
        assert!(once.contains("except = [\"x/**\"]"), "{once}");
        let twice = with_exception(&once, "before", "y/**").expect("a folder");
        assert!(twice.contains("\"y/**\", \"x/**\""), "{twice}");
        assert_eq!(with_exception(text, "after", "x"), None);
    }

    #[test]
    fn texts_are_quoted_so_that_they_come_back() {
        for text in ["a", "a\"b", "a'b", "a\\b", "it's \"so\" \\[x", "a\nb"] {
            let read: toml::Table = toml::from_str(&format!("x = {}", quote(text))).expect("TOML");
            assert_eq!(read["x"].as_str(), Some(text));
        }
    }
}
