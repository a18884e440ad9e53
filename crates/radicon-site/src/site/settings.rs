//! `radicon.toml`: what a site says about itself.

use std::collections::BTreeMap;

use serde::Serialize;
use toml::de::DeTable;

use super::{Mount, Selector, mounts};
use crate::config::{
    self, ConfigError, Globs, Item, Result, boolean, choice, globs, items, number, string, strings, subtable,
    subtables, unknown,
};
use crate::dialect::{self, Dialect, Rules};

/// The settings of a site. Everything has a default; an empty file is fine.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Settings {
    /// Folders where target names start, in the order in which they are tried;
    /// inferred from the names if not given.
    pub roots: Option<Vec<String>>,
    /// Paths that are not looked at.
    pub ignore: Globs,
    /// Paths of templates that belong to a third party: they are never changed.
    pub vendored: Globs,
    /// Paths of the templates that are rendered for themselves; if not given,
    /// those that no other template names.
    pub pages: Option<Globs>,
    /// Dialect files, from the site's folder.
    pub dialects: Vec<String>,
    /// The rules for all templates of a folder.
    pub folders: Vec<FolderRule>,
    /// The templates that dynamic names stand for.
    pub pins: Vec<Pin>,
    /// How names that begin with an application's name become files; inferred if roots are.
    pub mounts: Vec<Mount>,
    /// How to propose.
    pub propose: ProposeSettings,
    /// The settings of the check.
    pub check: CheckSettings,
    /// Names of dialects for which it says how their engine behaves; see [`Settings::with_rules`].
    pub rules: Vec<String>,
    /// The file that it was read from.
    pub text: String,
}

/// The settings of the check.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct CheckSettings {
    /// Rules that weigh otherwise than usual; none for those that are off.
    pub levels: BTreeMap<String, Option<Severity>>,
    /// Rules that are not looked for in some files.
    pub ignore: Vec<(String, Globs)>,
    /// Attributes, besides the standard ones, whose value names an id.
    pub id_attributes: Vec<String>,
}

impl CheckSettings {
    /// How much a rule weighs that usually weighs so much; none if it is off.
    pub fn severity(&self, rule: &str, usual: Severity) -> Option<Severity> {
        self.levels.get(rule).copied().unwrap_or(Some(usual))
    }

    /// Whether a rule is not looked for in a file.
    pub fn ignores(&self, rule: &str, file: &str) -> bool {
        self.ignore.iter().any(|(known, files)| known == rule && files.fit(file))
    }
}

/// How bad a finding is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Severity {
    /// A page does not come out, or not as it is written.
    Error,
    /// Something is most likely not as it was meant.
    Warning,
    /// Something may be better; it does not count for the exit code.
    Hint,
}

impl Severity {
    /// The word for it.
    pub const fn word(self) -> &'static str {
        match self {
            Severity::Error => "error",
            Severity::Warning => "warning",
            Severity::Hint => "hint",
        }
    }
}

/// The settings of proposals; the crate `radicon` has `ProposeOptions`.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ProposeSettings {
    /// Pages that keep their form.
    pub except: Globs,
    /// The most levels of layouts.
    pub levels: Option<u64>,
    /// The bytes that a block must save.
    pub block_price: Option<u64>,
    /// The bytes that a section's layout or a partial must save.
    pub min_saving: Option<u64>,
    /// The kinds of markup that become partials.
    pub partials: Option<Partials>,
    /// Elements whose content is one block each, with the block's name.
    pub regions: Vec<(String, Selector)>,
    /// Names of blocks, layouts and partials as they are proposed, and what to call them instead.
    pub names: BTreeMap<String, String>,
}

/// The kinds of markup that become partials.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Partials {
    /// Things with a name that are in several files.
    #[default]
    Repeats,
    /// That, and all headers, navigations, side bars and footers of layouts that hold no block.
    Landmarks,
    /// Nothing.
    None,
}

/// Rules for files of a folder, and of the folders in it, that do not name these things themselves.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct FolderRule {
    /// The folder, from the site's folder; empty for all of it.
    pub path: String,
    /// The dialect that its templates are read in.
    pub dialect: Option<String>,
    /// The layout of pages that name none: a path from the site's folder, or a name.
    pub layout: Option<String>,
    /// The name of files whose parent line holds for their whole folder.
    pub marker: Option<String>,
    /// The name of files that are the layout of the pages in their folder and under.
    pub layout_file: Option<String>,
    /// The folder in which such a file is looked for at last.
    pub layout_folder: Option<String>,
    /// Whether such a file has the next one above it as its own layout.
    pub nested: bool,
    /// Files put before every page: paths from the site's folder, or names.
    pub before: Vec<String>,
    /// Files put after every page.
    pub after: Vec<String>,
    /// Pages for which the rule does not hold.
    pub except: Globs,
}

/// The template that a dynamic name stands for.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Pin {
    /// The expression as it is written.
    pub expression: String,
    /// The template: a path from the site's folder, or a name.
    pub target: String,
    /// The files in which this holds; all if not given.
    pub files: Option<Globs>,
}

impl Settings {
    /// Reads the text of a `radicon.toml`.
    ///
    /// # Errors
    /// With line and column: TOML syntax, an unknown key, a wrong value.
    pub fn parse(text: &str) -> std::result::Result<Self, ConfigError> {
        let read = config::read(text, settings)?;
        Ok(Self { text: text.to_owned(), ..read })
    }

    /// A dialect with the rules that these settings give for its name.
    ///
    /// # Errors
    /// If their text cannot be read.
    pub fn with_rules(&self, dialect: &Dialect) -> std::result::Result<Dialect, ConfigError> {
        let mut dialect = dialect.clone();
        if self.rules.contains(&dialect.name) {
            config::read(&self.text, |table| {
                for item in items(table).into_iter().filter(|item| item.0 == "rules") {
                    let own = items(subtable(item)?).into_iter().filter(|item| item.0 == dialect.name);
                    own.into_iter().try_for_each(|item| dialect::read_rules(&mut dialect.rules, item))?;
                }
                Ok(())
            })?;
        }
        Ok(dialect)
    }
}

fn settings(table: &DeTable<'_>) -> Result<Settings> {
    const KEYS: [&str; 11] =
        ["roots", "ignore", "vendored", "pages", "dialects", "folder", "pin", "mount", "propose", "check", "rules"];
    let mut settings = Settings::default();
    for item in items(table) {
        match item.0 {
            "roots" => settings.roots = Some(strings(item)?),
            "ignore" => settings.ignore = globs(item)?,
            "vendored" => settings.vendored = globs(item)?,
            "pages" => settings.pages = Some(globs(item)?),
            "dialects" => settings.dialects = strings(item)?,
            "folder" => settings.folders = subtables(item)?.into_iter().map(folder_rule).collect::<Result<_>>()?,
            "propose" => settings.propose = propose(item)?,
            "check" => settings.check = check(item)?,
            "rules" => {
                for item in items(subtable(item)?) {
                    dialect::read_rules(&mut Rules::default(), item)?;
                    settings.rules.push(item.0.to_owned());
                }
            }
            "mount" => settings.mounts = subtables(item)?.into_iter().map(mount).collect::<Result<_>>()?,
            "pin" => settings.pins = subtables(item)?.into_iter().map(pin).collect::<Result<_>>()?,
            _ => return Err(unknown(item, &KEYS)),
        }
    }
    Ok(settings)
}

fn check(table: Item<'_, '_>) -> Result<CheckSettings> {
    let mut found = CheckSettings::default();
    for item in items(subtable(table)?) {
        match item.0 {
            "levels" => {
                for item in items(subtable(item)?) {
                    let words = &[
                        ("off", None),
                        ("hint", Some(Severity::Hint)),
                        ("warning", Some(Severity::Warning)),
                        ("error", Some(Severity::Error)),
                    ];
                    found.levels.insert(item.0.to_owned(), choice(item, words)?);
                }
            }
            "ignore" => {
                for item in items(subtable(item)?) {
                    found.ignore.push((item.0.to_owned(), globs(item)?));
                }
            }
            "id-attributes" => found.id_attributes = strings(item)?,
            _ => return Err(unknown(item, &["levels", "ignore", "id-attributes"])),
        }
    }
    Ok(found)
}

fn propose(table: Item<'_, '_>) -> Result<ProposeSettings> {
    const KEYS: [&str; 7] = ["except", "levels", "block-price", "min-saving", "partials", "regions", "names"];
    let mut found = ProposeSettings::default();
    for item in items(subtable(table)?) {
        match item.0 {
            "except" => found.except = globs(item)?,
            "levels" => found.levels = Some(number(item)?),
            "block-price" => found.block_price = Some(number(item)?),
            "min-saving" => found.min_saving = Some(number(item)?),
            "partials" => {
                let words =
                    &[("repeats", Partials::Repeats), ("landmarks", Partials::Landmarks), ("none", Partials::None)];
                found.partials = Some(choice(item, words)?);
            }
            "regions" => {
                for item in items(subtable(item)?) {
                    let text = string(item)?;
                    let selector = Selector::parse(text).ok_or_else(|| {
                        let forms = "a region is written like `main`, `#content`, `.side-bar` or `div.side-bar`";
                        (config::start(item), format!("`{text}` is no region: {forms}"))
                    })?;
                    found.regions.push((item.0.to_owned(), selector));
                }
            }
            "names" => {
                for item in items(subtable(item)?) {
                    found.names.insert(item.0.to_owned(), name(item)?);
                }
            }
            _ => return Err(unknown(item, &KEYS)),
        }
    }
    Ok(found)
}

/// A name for a block, a layout or a partial.
fn name(item: Item<'_, '_>) -> Result<String> {
    let name = string(item)?;
    let fits = |c: char| c.is_ascii_alphanumeric() || c == '_' || c == '-';
    match !name.is_empty() && name.chars().all(fits) {
        true => Ok(name.to_owned()),
        false => Err((config::start(item), format!("`{name}` is no name: letters, digits, `_` and `-` make one"))),
    }
}

fn folder_rule(table: Item<'_, '_>) -> Result<FolderRule> {
    const KEYS: [&str; 10] =
        ["path", "dialect", "layout", "marker", "layout-file", "layout-folder", "nested", "before", "after", "except"];
    let mut rule = FolderRule::default();
    for item in items(subtable(table)?) {
        let text = |item| string(item).map(str::to_owned);
        match item.0 {
            "path" => rule.path = string(item)?.trim_matches('/').to_owned(),
            "dialect" => rule.dialect = Some(text(item)?),
            "layout" => rule.layout = Some(text(item)?),
            "marker" => rule.marker = Some(text(item)?),
            "layout-file" => rule.layout_file = Some(text(item)?),
            "layout-folder" => rule.layout_folder = Some(string(item)?.trim_matches('/').to_owned()),
            "nested" => rule.nested = boolean(item)?,
            "before" => rule.before = strings(item)?,
            "after" => rule.after = strings(item)?,
            "except" => rule.except = globs(item)?,
            _ => return Err(unknown(item, &KEYS)),
        }
    }
    Ok(rule)
}

fn mount(table: Item<'_, '_>) -> Result<Mount> {
    let mut mount = Mount { name: String::new(), file: String::new(), why: "named in radicon.toml".into() };
    for item in items(subtable(table)?) {
        let text = string(item)?;
        if matches!(item.0, "name" | "file") && !mounts::is_pattern(text) {
            let message = format!("`{text}` must show where `<a>`, then `<rest>` stand, with something between them");
            return Err((config::start(item), message));
        }
        match item.0 {
            "name" => mount.name = text.to_owned(),
            "file" => mount.file = text.trim_start_matches('/').to_owned(),
            _ => return Err(unknown(item, &["name", "file"])),
        }
    }
    if mount.name.is_empty() || mount.file.is_empty() {
        return Err((config::start(table), "a mount needs `name` and `file`".into()));
    }
    Ok(mount)
}

fn pin(table: Item<'_, '_>) -> Result<Pin> {
    let mut pin = Pin::default();
    for item in items(subtable(table)?) {
        match item.0 {
            "expression" => pin.expression = string(item)?.trim().to_owned(),
            "target" => pin.target = string(item)?.to_owned(),
            "files" => pin.files = Some(globs(item)?),
            _ => return Err(unknown(item, &["expression", "target", "files"])),
        }
    }
    if pin.expression.is_empty() || pin.target.is_empty() {
        return Err((config::start(table), "a pin needs `expression` and `target`".into()));
    }
    Ok(pin)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_said_is_read() {
        let text = "roots = ['a']\npages = ['*.html']\n[[folder]]\npath = '/x/'\nlayout = 'l.html'\nnested = true\n[[pin]]\nexpression = ' base '\ntarget = 'b.html'\n";
        let settings = Settings::parse(text).expect("settings");
        assert_eq!(settings.roots, Some(vec!["a".to_owned()]));
        assert!(settings.pages.is_some_and(|pages| pages.fit("a.html") && !pages.fit("a.txt")));
        let rule = &settings.folders[0];
        assert_eq!((rule.path.as_str(), rule.layout.as_deref(), rule.nested), ("x", Some("l.html"), true));
        assert_eq!(settings.pins[0].expression, "base");
    }

    #[test]
    fn mistakes_are_placed() {
        for (text, line, column, words) in [
            ("ignore = []\nrots = []", 2, 1, "did you mean `roots`?"),
            ("roots = 3", 1, 9, "list of texts"),
            ("[[folder]]\npath = 'x'\nlayuot = 'y'", 3, 1, "did you mean `layout`?"),
            ("[folder]\npath = 'x'", 1, 1, "written [[folder]]"),
            ("[[folder]]\nnested = 'yes'", 2, 10, "true or false"),
            ("[[pin]]\nexpression = 'x'", 1, 1, "needs `expression` and `target`"),
            ("[[mount]]\nname = '<a>/<rest>'", 1, 1, "needs `name` and `file`"),
            ("[[mount]]\nname = '<rest>/<a>'", 2, 8, "must show where `<a>`, then `<rest>`"),
            ("ignore = ['[']", 1, 10, "unclosed"),
            ("[propose.regions]\nx = 'a > b'", 2, 5, "no region"),
            ("roots = [", 1, 10, ""),
        ] {
            let error = Settings::parse(text).expect_err(text);
            assert_eq!((error.at.line, error.at.column), (line, column), "{text}: {error}");
            assert!(error.message.contains(words), "{text}: {error}");
        }
    }
}
