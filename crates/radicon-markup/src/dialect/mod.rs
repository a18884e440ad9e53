//! Dialects: how one template engine writes the constructs, described by example.
//!
//! A dialect is data. Its forms are compiled to [`Pattern`]s, and one pattern
//! serves both to read a construct and to write it.

mod file;
mod pattern;
mod piece;
mod reader;
mod rules;

use std::ops::Range;
use std::sync::{Arc, LazyLock};

use aho_corasick::{AhoCorasick, MatchKind};
use serde::Serialize;

use crate::config::{ConfigError, Globs};
pub use file::read_rules;
pub use pattern::{Pattern, Values};
pub use piece::Captures;
pub use piece::Marks;
pub use rules::Value;
use rules::split_arguments;
pub use rules::{ByteOrderMark, Loose, Newline, Rules, Scope, SetScope, Twice, Urls};

/// The effect of a piece of template syntax.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Kind {
    /// Names the layout.
    Parent,
    /// A named region; in a child it overrides.
    Block,
    /// A named region whose overrides are written otherwise.
    Slot,
    /// The content for a slot, or for a block of the same name.
    Fill,
    /// The unnamed region: where a child's loose content, or the body of a wrap, goes.
    Body,
    /// Splices a partial or a part.
    Include,
    /// An include that is given a body.
    Wrap,
    /// A named fragment, included by its name.
    Part,
    /// Makes the parts of a file known here: kept as it is.
    Import,
    /// Splices the content that an override replaces.
    Inherited,
    /// Prints what a block shows once more, elsewhere in the page.
    Again,
    /// Shows its first part in the page that it names, and its second part in all others.
    Here,
    /// Prints a value.
    Output,
    /// Text for the authors only; gone from the page.
    Comment,
    /// A region in which no construct is one.
    Verbatim,
    /// A condition or a loop.
    Control,
    /// A stretch of program code.
    Code,
    /// Binds a name.
    Set,
    /// A tag that no other form describes: kept, opaque.
    Other,
}

impl Kind {
    /// Every kind, in the order of the documentation.
    pub const ALL: [Kind; 19] = [
        Kind::Parent,
        Kind::Block,
        Kind::Slot,
        Kind::Fill,
        Kind::Body,
        Kind::Inherited,
        Kind::Again,
        Kind::Here,
        Kind::Include,
        Kind::Wrap,
        Kind::Part,
        Kind::Import,
        Kind::Set,
        Kind::Output,
        Kind::Control,
        Kind::Code,
        Kind::Comment,
        Kind::Verbatim,
        Kind::Other,
    ];

    /// The word used in dialect files.
    pub const fn word(self) -> &'static str {
        match self {
            Kind::Parent => "parent",
            Kind::Block => "block",
            Kind::Slot => "slot",
            Kind::Fill => "fill",
            Kind::Body => "body",
            Kind::Inherited => "inherited",
            Kind::Again => "again",
            Kind::Here => "here",
            Kind::Include => "include",
            Kind::Wrap => "wrap",
            Kind::Part => "part",
            Kind::Import => "import",
            Kind::Set => "set",
            Kind::Output => "output",
            Kind::Control => "control",
            Kind::Code => "code",
            Kind::Comment => "comment",
            Kind::Verbatim => "verbatim",
            Kind::Other => "other",
        }
    }

    /// Whether it leaves text in the page where it is.
    pub const fn prints(self) -> bool {
        matches!(self, Kind::Output | Kind::Include | Kind::Inherited | Kind::Again | Kind::Slot | Kind::Body)
    }

    /// Whether flattening resolves it, so that the tag itself never reaches the page.
    pub const fn resolved(self) -> bool {
        !matches!(
            self,
            Kind::Output | Kind::Control | Kind::Set | Kind::Import | Kind::Code | Kind::Verbatim | Kind::Other
        )
    }

    /// Whether it names another file.
    pub const fn names_a_file(self) -> bool {
        matches!(self, Kind::Parent | Kind::Include | Kind::Wrap | Kind::Import)
    }

    /// Whether it may say how templates hang together, or what of them is shown.
    pub const fn makes_structure(self) -> bool {
        !matches!(self, Kind::Output | Kind::Control | Kind::Code | Kind::Comment | Kind::Other)
    }

    /// Whether it defines what is in a block: a block, or the content for one.
    pub const fn defines(self) -> bool {
        matches!(self, Kind::Block | Kind::Fill)
    }
}

/// One way to write a construct: a single tag, or a pair with its closers.
#[derive(Clone, Debug)]
pub struct Form {
    /// Its meaning.
    pub kind: Kind,
    /// The tag, or the opening tag of a pair.
    pub open: Pattern,
    /// The tags that divide a pair (`else` and its like).
    pub branch: Vec<Pattern>,
    /// The closing tags; empty for a single tag.
    pub close: Vec<Pattern>,
    /// The brackets whose balance closes the pair.
    pub balanced: Option<(u8, u8)>,
    /// It is alone on its line, and ends with it.
    pub line: bool,
    /// A slot that must be filled.
    pub required: bool,
    /// It binds its name only where nothing has bound it.
    pub default: bool,
    /// Of an attribute: the element goes too, not only what is in it.
    pub replaces_element: bool,
    /// The line that opens and closes the header in which alone it is read, line by line.
    pub header: Option<String>,
    /// It may be inside a longer tag: one of several statements, or a call in an expression.
    pub within: bool,
    /// Of a parent: the file of the same name in the next root.
    pub names_itself: bool,
    /// It speaks for the rest of its own file, and for no other.
    pub own_file: bool,
    /// It was learned from a site, and what speaks for it does not make it sure.
    pub unsure: bool,
}

impl Form {
    /// A single tag of a kind.
    fn of(kind: Kind, open: Pattern) -> Self {
        Self {
            kind,
            open,
            branch: Vec::new(),
            close: Vec::new(),
            balanced: None,
            line: false,
            required: false,
            default: false,
            replaces_element: false,
            header: None,
            within: false,
            names_itself: false,
            own_file: kind == Kind::Import,
            unsure: false,
        }
    }

    /// Whether it is found by its delimiters, as most are.
    fn is_tag(&self) -> bool {
        !self.is_attribute() && self.header.is_none() && !self.within
    }

    /// Whether it is a pair.
    pub fn is_pair(&self) -> bool {
        !self.close.is_empty() || self.balanced.is_some()
    }

    /// Whether it is written as an attribute of an element.
    pub fn is_attribute(&self) -> bool {
        self.open.is_attribute()
    }
}

/// Which tag of a form a pattern is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Part {
    /// A tag without a closer.
    Single,
    /// The opening tag of a pair.
    Open,
    /// A tag that divides a pair.
    Branch,
    /// The closing tag of a pair.
    Close,
    /// The attribute that makes an element carry a construct.
    Attribute,
}

/// How written target names become files.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Targets {
    /// Tried in turn after the written name.
    pub suffixes: Vec<String>,
    /// The character that stands for `/`.
    pub separator: String,
    /// Whether a name without a leading slash starts at the naming file's folder.
    pub relative: Relative,
    /// Folders tried too, under the naming file's folder and under each root.
    pub beside: Vec<String>,
    /// The characters that may come before the last part of a name, such as `_`.
    pub prefix: String,
    /// The characters that begin a name that starts at a root, such as a slash.
    pub root: String,
    /// Whether a name without a folder is looked for in all folders.
    pub bare: bool,
}

impl Default for Targets {
    fn default() -> Self {
        Self {
            suffixes: vec![String::new()],
            separator: "/".into(),
            relative: Relative::No,
            beside: Vec::new(),
            prefix: String::new(),
            root: String::new(),
            bare: false,
        }
    }
}

/// Whether names start at the naming file's folder.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Relative {
    /// No, at the roots.
    No,
    /// There, and then at the roots.
    First,
    /// There only.
    Only,
}

/// A pattern together with the forms and the part it belongs to.
#[derive(Clone, Debug)]
pub struct TagForm {
    /// The part of the form.
    pub part: Part,
    /// How it is written.
    pub pattern: Pattern,
    /// Forms this tag may belong to: one, or several that share an opener or a closer.
    pub forms: Vec<u16>,
    /// An expression is where a target or a content in quotes is expected.
    pub dynamic: bool,
    /// The bytes that must come after the opening delimiter, to pass others over quickly.
    pub word: Vec<u8>,
}

/// How one template engine writes its constructs.
#[derive(Clone, Debug)]
pub struct Dialect {
    /// Its name.
    pub name: String,
    /// Globs of the files it may be used for.
    pub files: Globs,
    /// It is tried on files of other names, too, where their content speaks for it.
    pub by_content: bool,
    /// The forms, in the order of the file.
    pub forms: Vec<Form>,
    /// How target names become files.
    pub targets: Targets,
    /// The behaviours in which engines differ.
    pub rules: Rules,
    /// The file it was read from.
    pub text: String,
    /// It was learned from a site, nothing of it was known before, and nobody has kept it: pairs and rules may be
    /// other than they are read.
    pub learned: bool,
    special_targets: Vec<(Kind, Targets)>,
    /// The marks that may be inside the delimiters of its tags.
    pub marks: Marks,
    pub(crate) delimiters: Option<AhoCorasick>,
    /// Every tag of every form.
    pub(crate) tags: Vec<TagForm>,
    /// For each delimiter the tags that may begin with it, the most specific first.
    pub(crate) candidates: Vec<Vec<u16>>,
    /// The indices of all forms.
    pub(crate) form_ids: Vec<u16>,
}

impl Dialect {
    /// Reads a dialect file.
    ///
    /// # Errors
    /// With line and column of what is wrong: TOML syntax, an unknown key, a
    /// wrong value, or a form that cannot be read.
    pub fn parse(text: &str) -> Result<Self, ConfigError> {
        file::read(text)
    }

    /// The tags of its forms.
    pub fn tags(&self) -> &[TagForm] {
        &self.tags
    }

    /// Where its delimiters are in a source, from left to right.
    pub fn delimiters_in<'a>(&'a self, source: &'a [u8]) -> impl Iterator<Item = Range<usize>> + 'a {
        self.delimiters.iter().flat_map(move |delimiters| delimiters.find_iter(source)).map(|hit| hit.range())
    }

    /// The words that its tags begin with, sorted.
    pub fn words(&self) -> Vec<String> {
        let word = |bytes: &[u8]| {
            let length = bytes.iter().take_while(|b| b.is_ascii_alphanumeric() || **b == b'_').count();
            String::from_utf8_lossy(&bytes[..length]).into_owned()
        };
        let mut words: Vec<String> =
            self.tags.iter().map(|tag| word(&tag.word)).filter(|word| word.len() > 1).collect();
        words.sort();
        words.dedup();
        words
    }

    /// Whether its templates are finished pages, whose addresses are their paths: all that it writes are comments
    /// of HTML.
    pub fn is_static(&self) -> bool {
        self.forms.iter().all(|form| form.open.example().starts_with("<!--"))
    }

    /// The form in which this dialect writes a construct: the first one given.
    pub fn form(&self, kind: Kind) -> Option<&Form> {
        self.forms.iter().find(|form| form.kind == kind)
    }

    /// The pair in which a layout writes a block (`outside`), or a child its override.
    pub fn block_form(&self, outside: bool) -> Option<&Form> {
        let other = if outside { Kind::Slot } else { Kind::Fill };
        let is_meant = |form: &&Form| (form.kind == Kind::Block || form.kind == other) && !form.close.is_empty();
        self.forms.iter().find(is_meant)
    }

    /// The same, also where a bracket closes it.
    pub fn block_form_or_balanced(&self, outside: bool) -> Option<&Form> {
        let other = if outside { Kind::Slot } else { Kind::Fill };
        let is_meant =
            |form: &&Form| (form.kind == Kind::Block || form.kind == other) && form.is_pair() && !form.is_attribute();
        self.forms.iter().find(is_meant)
    }

    /// The tags of that pair for a block of this name.
    pub fn block_tags(&self, name: &str, outside: bool) -> Option<(String, String)> {
        let form = self.block_form(outside)?;
        let values = Values { name, ..Values::default() };
        Some((form.open.write(&values), form.close.first()?.write(&values)))
    }

    /// The form in which a tag names a layout.
    pub(crate) fn parent_tag(&self) -> Option<&Form> {
        self.forms.iter().find(|form| {
            form.kind == Kind::Parent
                && form.header.is_none()
                && !form.within
                && form.open.example().contains("<target>")
        })
    }

    /// Whether pages written in it can take a layout that is there: it has parents and overrides.
    pub fn has_children(&self) -> bool {
        self.parent_tag().is_some() && self.block_form(false).is_some()
    }

    /// Whether pages written in it can have a layout: it has parents and blocks.
    pub fn has_layouts(&self) -> bool {
        self.parent_tag().is_some() && self.form(Kind::Block).is_some_and(Form::is_pair)
    }

    /// How the targets of a kind of construct become files.
    pub fn targets_of(&self, kind: Kind) -> &Targets {
        self.special_targets.iter().find(|(special, _)| *special == kind).map_or(&self.targets, |(_, targets)| targets)
    }

    /// How each kind of construct that names a file finds it, without repetition.
    pub fn all_targets(&self) -> impl Iterator<Item = &Targets> {
        std::iter::once(&self.targets).chain(self.special_targets.iter().map(|(_, targets)| targets))
    }

    /// The forms that are written as attributes, with their indices.
    pub(crate) fn attributes(&self) -> impl Iterator<Item = (u16, &Form)> {
        (0..).zip(&self.forms).filter(|(_, form)| form.is_attribute())
    }

    /// The forms that are read in a header, with their indices.
    pub(crate) fn headers(&self) -> impl Iterator<Item = (u16, &Form, &str)> {
        (0..).zip(&self.forms).filter_map(|(index, form)| Some((index, form, form.header.as_deref()?)))
    }

    /// The forms that may be inside a longer tag, with their indices.
    pub(crate) fn within(&self) -> impl Iterator<Item = (u16, &Form)> {
        (0..).zip(&self.forms).filter(|(_, form)| form.within)
    }

    /// Whether one of its globs fits the path, whose separator is `/`.
    pub fn fits(&self, path: &str) -> bool {
        self.files.fit(path)
    }

    /// Compiles the automaton that finds where a construct may begin.
    fn compile(&mut self) {
        let mut tags: Vec<TagForm> = Vec::new();
        self.form_ids = (0..self.forms.len() as u16).collect();
        for (index, form) in self.forms.iter().enumerate().filter(|(_, form)| form.is_tag()) {
            let open = if form.is_pair() { Part::Open } else { Part::Single };
            // What divides a pair that is closed by balance is looked for where its bracket closes.
            let branches = form.branch.iter().filter(|_| form.balanced.is_none());
            let parts = std::iter::once((open, &form.open))
                .chain(branches.map(|pattern| (Part::Branch, pattern)))
                .chain(form.close.iter().map(|pattern| (Part::Close, pattern)));
            for (part, pattern) in parts {
                add(&mut tags, part, pattern.clone(), index as u16, false);
                if let Some(dynamic) = pattern.with_dynamic() {
                    add(&mut tags, part, dynamic, index as u16, true);
                }
            }
        }
        tags.sort_by_key(|tag| std::cmp::Reverse(tag.pattern.specificity()));
        let mut leads: Vec<Vec<u8>> = tags.iter().map(|tag| tag.pattern.lead().to_vec()).collect();
        leads.sort();
        leads.dedup();
        let fitting = |lead: &[u8]| {
            (0..).zip(&tags).filter(|(_, tag)| lead.starts_with(tag.pattern.lead())).map(|(index, _)| index).collect()
        };
        self.candidates = leads.iter().map(|lead| fitting(lead)).collect();
        self.tags = tags;
        self.delimiters = (!leads.is_empty())
            .then(|| AhoCorasick::builder().match_kind(MatchKind::LeftmostLongest).build(&leads).ok())
            .flatten();
    }
}

fn add(tags: &mut Vec<TagForm>, part: Part, pattern: Pattern, form: u16, dynamic: bool) {
    match tags.iter_mut().find(|tag| tag.part == part && tag.dynamic == dynamic && tag.pattern == pattern) {
        Some(tag) => tag.forms.push(form),
        None => {
            let word = pattern.first_word().to_vec();
            tags.push(TagForm { part, pattern, forms: vec![form], dynamic, word });
        }
    }
}

/// The dialects that come with Radicon: `margin`, `brace-percent`,
/// `server-include` and `plain`, in the order in which they are tried.
pub fn builtin() -> &'static [Arc<Dialect>] {
    static ALL: LazyLock<Vec<Arc<Dialect>>> = LazyLock::new(|| {
        let files = [
            include_str!("builtin/margin.toml"),
            include_str!("builtin/brace-percent.toml"),
            include_str!("builtin/server-include.toml"),
            include_str!("builtin/plain.toml"),
        ];
        files.iter().filter_map(|text| Dialect::parse(text).ok().map(Arc::new)).collect()
    });
    &ALL
}

/// A built-in dialect by its name.
pub fn builtin_named(name: &str) -> Option<Arc<Dialect>> {
    builtin().iter().find(|dialect| dialect.name == name).cloned()
}

/// The dialect without constructs.
pub fn plain() -> Arc<Dialect> {
    builtin_named("plain").unwrap_or_else(|| Arc::new(file::empty("plain")))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_built_in_dialect_can_be_read() {
        let names: Vec<_> = builtin().iter().map(|dialect| dialect.name.as_str()).collect();
        assert_eq!(names, ["margin", "brace-percent", "server-include", "plain"]);
        assert!(builtin_named("margin").is_some_and(|dialect| dialect.has_layouts()));
        assert!(!builtin_named("server-include").is_some_and(|dialect| dialect.has_layouts()));
    }

    #[test]
    fn arguments_are_written_like_the_example() {
        let bindings = [("title", Value::Text("Old Pier")), ("n", Value::Text("2"))];
        for (example, one, two) in [
            ("with a=\"x\" b=\"y\"", "with title=\"Old Pier\"", "with title=\"Old Pier\" n=\"2\""),
            ("{ 'a': 'x', 'b': 'y' }", "{ 'title': 'Old Pier' }", "{ 'title': 'Old Pier', 'n': '2' }"),
            (
                "[\"a\" => \"x\", \"b\" => \"y\"] only",
                "[\"title\" => \"Old Pier\"] only",
                "[\"title\" => \"Old Pier\", \"n\" => \"2\"] only",
            ),
        ] {
            let rules = Rules { arguments: Some(example.into()), ..Rules::default() };
            assert_eq!(rules.write_arguments(&bindings[..1]).as_deref(), Some(one));
            assert_eq!(rules.write_arguments(&bindings).as_deref(), Some(two));
        }
        let mixed = [("n", Value::Expression("a.b")), bindings[0]];
        for (example, expected) in [
            ("{ 'a': 'x', 'b': 'y' }", "{ 'n': a.b, 'title': 'Old Pier' }"),
            ("a(x) b(y)", "n(a.b) title(Old Pier)"),
            ("a x, b y, ", "n a.b, title Old Pier, "),
        ] {
            let rules = Rules { arguments: Some(example.into()), ..Rules::default() };
            assert_eq!(rules.write_arguments(&mixed).as_deref(), Some(expected));
        }
        assert!(split_arguments("with a=\"x\" b='y'").is_none());
    }
}
