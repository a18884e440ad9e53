//! What an include can pass so that every engine prints what was there before.

use std::sync::Arc;

use crate::dialect::{Dialect, Kind, Value, Values};
use crate::resolve::{Arguments, is_path};
use crate::site::Site;

/// The longest value of a parameter, in bytes.
const LONGEST_VALUE: usize = 80;

/// The values that the includes of a dialect pass.
#[derive(Clone)]
pub struct Passing {
    pub dialect: Arc<Dialect>,
    /// Some include of the site passes a path already, so that its engine takes it for one.
    paths: bool,
}

impl Passing {
    /// The values that the includes of a dialect pass in a site.
    pub fn of(site: &Site, dialect: &Arc<Dialect>) -> Self {
        let own = site.templates.iter().filter(|template| template.dialect.name == dialect.name);
        let mut includes = own.flat_map(|template| {
            let items = template.constructs.items.iter();
            items.filter(|item| item.kind == Kind::Include).map(move |item| (template, item))
        });
        let paths = includes.any(|(template, item)| {
            let read = Arguments::read(&template.source, item.expr, &dialect.rules);
            let is_passed = |value: &[u8]| is_path(value) && !matches!(value, b"true" | b"false" | b"none" | b"null");
            read.bindings.iter().any(|binding| !binding.literal && is_passed(binding.value.of(&template.source)))
        });
        Self { dialect: Arc::clone(dialect), paths }
    }

    /// The same, but for texts alone.
    pub fn texts(dialect: &Arc<Dialect>) -> Self {
        Self { dialect: Arc::clone(dialect), paths: false }
    }

    /// What is passed for a text: the text, if every engine prints it as it is written, or the path that a tag
    /// prints.
    pub fn value<'t>(&self, text: &'t str) -> Option<Value<'t>> {
        if text.len() > LONGEST_VALUE || text.contains(char::is_control) {
            None
        } else if !text.contains(|c: char| "<>&\"'\\$#{}".contains(c)) {
            Some(Value::Text(text))
        } else {
            self.path(text).map(Value::Expression)
        }
    }

    /// The path that a tag prints, if it is written as this dialect's outputs are.
    fn path<'t>(&self, text: &'t str) -> Option<&'t str> {
        let open = &self.dialect.form(Kind::Output).filter(|_| self.paths)?.open;
        let (end, captures) = open.read(text.as_bytes(), 0, &self.dialect.marks)?;
        let expr = &text[captures.expr.range()];
        let is_alone = end == text.len() && open.write(&Values { expr, ..Values::default() }) == text;
        (is_alone && is_path(expr.as_bytes())).then_some(expr)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect::{builtin, builtin_named};
    use crate::site::{Settings, SourceFile};

    #[test]
    fn texts_and_paths_are_passed() {
        let dialect = builtin_named("brace-percent").expect("a built-in dialect");
        let site = |page: &str| {
            let files = vec![SourceFile::new("a.html", page), SourceFile::new("p.html", "{{ a }}")];
            Site::read(files, builtin(), &Settings::default())
        };
        let plain = site("{% include \"p.html\" with a=\"b\" %}");
        let paths = site("{% include \"p.html\" with a=boat.name %}");
        for (text, expected, of_paths) in [
            ("Heron & Gull", None, None),
            ("Heron", Some(Value::Text("Heron")), Some(Value::Text("Heron"))),
            ("{{ boat.name }}", None, Some(Value::Expression("boat.name"))),
            ("{{ boat.name|upper }}", None, None),
            ("{{ boat.name }}s", None, None),
            ("{{boat.name}}", None, None),
        ] {
            assert_eq!(Passing::of(&plain, &dialect).value(text), expected, "{text}");
            assert_eq!(Passing::of(&paths, &dialect).value(text), of_paths, "{text}, where paths are passed");
        }
    }
}
