//! Dialects: how one template engine writes the constructs, described by example.
//!
//! A dialect is data. Its forms are compiled to [`Pattern`]s, and one pattern
//! serves both to read a construct and to write it.

mod file;
mod pattern;

use std::sync::{Arc, LazyLock};

use aho_corasick::{AhoCorasick, MatchKind};
use globset::GlobSet;
use schemars::JsonSchema;
use serde::Serialize;

pub use file::DialectError;
pub(crate) use pattern::Marks;
pub use pattern::{Captures, Pattern, Values};

/// What a piece of template syntax does.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Kind {
    /// Names the layout.
    Parent,
    /// A named region; in a child it overrides.
    Block,
    /// Splices a partial.
    Include,
    /// Splices the content that an override replaces.
    Inherited,
    /// Prints a value.
    Output,
    /// Text for the authors only; gone from the page.
    Comment,
    /// A region in which no construct is one.
    Verbatim,
    /// A condition or a loop.
    Control,
    /// Binds a name.
    Set,
    /// A tag that no other form describes: kept, opaque.
    Other,
}

impl Kind {
    /// Every kind, in the order of the documentation.
    pub const ALL: [Kind; 10] = [
        Kind::Parent,
        Kind::Block,
        Kind::Include,
        Kind::Inherited,
        Kind::Output,
        Kind::Comment,
        Kind::Verbatim,
        Kind::Control,
        Kind::Set,
        Kind::Other,
    ];

    /// The word used in dialect files.
    pub const fn word(self) -> &'static str {
        match self {
            Kind::Parent => "parent",
            Kind::Block => "block",
            Kind::Include => "include",
            Kind::Inherited => "inherited",
            Kind::Output => "output",
            Kind::Comment => "comment",
            Kind::Verbatim => "verbatim",
            Kind::Control => "control",
            Kind::Set => "set",
            Kind::Other => "other",
        }
    }

    /// Whether it leaves text in the page where it stands.
    pub const fn prints(self) -> bool {
        matches!(self, Kind::Output | Kind::Include | Kind::Inherited)
    }

    /// Whether flattening resolves it, so that the tag itself never reaches the page.
    pub const fn resolved(self) -> bool {
        matches!(self, Kind::Parent | Kind::Block | Kind::Include | Kind::Inherited | Kind::Comment)
    }
}

/// One way to write a construct: a single tag, or a pair with its closers.
#[derive(Clone, Debug)]
pub struct Form {
    /// What it means.
    pub kind: Kind,
    /// The tag, or the opening tag of a pair.
    pub open: Pattern,
    /// The tags that divide a pair (`else` and its like).
    pub branch: Vec<Pattern>,
    /// The closing tags; empty for a single tag.
    pub close: Vec<Pattern>,
}

impl Form {
    /// Whether it is a pair.
    pub fn is_pair(&self) -> bool {
        !self.close.is_empty()
    }
}

/// Which tag of a form a pattern is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
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
}

/// How written target names become files.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Targets {
    /// Tried in turn after the written name.
    pub suffixes: Vec<String>,
    /// The character that stands for `/`.
    pub separator: String,
    /// Whether a name without a leading slash starts at the naming file's folder.
    pub relative: bool,
}

impl Default for Targets {
    fn default() -> Self {
        Self { suffixes: vec![String::new()], separator: "/".into(), relative: false }
    }
}

/// What becomes of content in a child that stands outside every block.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Loose {
    /// It vanishes.
    Ignored,
    /// It fills the layout's body.
    Body,
    /// It is printed before the layout.
    Before,
    /// Not known; read as ignored, and said.
    Unknown,
}

/// What the same block twice in one file means.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Twice {
    /// The engine refuses it.
    Error,
    /// The first counts.
    First,
    /// The last counts.
    Last,
    /// Not known; read as the last, and said.
    Unknown,
}

/// What happens to the line end after a tag.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Newline {
    /// It stays.
    Kept,
    /// A line end right after a tag is removed.
    Eaten,
    /// A tag alone on its line takes the whole line with it, indentation and line end.
    Line,
    /// Not known; read as kept, and said.
    Unknown,
}

/// Whether names bound around a place can be seen from it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Scope {
    /// They can.
    Shared,
    /// They cannot.
    Own,
    /// Not known.
    Unknown,
}

/// The behaviours in which engines differ.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Rules {
    /// Content of a child outside every block.
    pub loose: Loose,
    /// The same block twice in one file.
    pub twice: Twice,
    /// Whether constructs may stand inside a tag or an attribute value.
    pub anywhere: bool,
    /// Line ends after tags.
    pub newline: Newline,
    /// Whether an included file sees local names.
    pub include_scope: Scope,
    /// Whether an override sees names bound around the block.
    pub block_scope: Scope,
}

impl Default for Rules {
    fn default() -> Self {
        Self {
            loose: Loose::Ignored,
            twice: Twice::Error,
            anywhere: true,
            newline: Newline::Unknown,
            include_scope: Scope::Unknown,
            block_scope: Scope::Unknown,
        }
    }
}

/// A pattern together with the forms and the part it belongs to.
#[derive(Clone, Debug)]
pub(crate) struct Candidate {
    pub kind: Kind,
    pub part: Part,
    pub pattern: Pattern,
    /// Forms this tag may belong to: one, or several that share a closer.
    pub forms: Vec<u16>,
    /// The target is an expression instead of a name.
    pub dynamic: bool,
    /// What must stand behind the opening delimiter, to pass others over quickly.
    pub word: Vec<u8>,
}

/// How one template engine writes its constructs.
#[derive(Clone, Debug)]
pub struct Dialect {
    /// Its name.
    pub name: String,
    /// Globs of the files it may be used for.
    pub files: Vec<String>,
    /// The forms, in the order of the file.
    pub forms: Vec<Form>,
    /// How target names become files.
    pub targets: Targets,
    /// The behaviours in which engines differ.
    pub rules: Rules,
    pub(crate) marks: Marks,
    pub(crate) globs: GlobSet,
    pub(crate) delimiters: Option<AhoCorasick>,
    pub(crate) candidates: Vec<Vec<Candidate>>,
}

impl Dialect {
    /// Reads a dialect file.
    ///
    /// # Errors
    /// With line and column of what is wrong: TOML syntax, an unknown key, a
    /// wrong value, or a form that cannot be read.
    pub fn parse(text: &str) -> Result<Self, DialectError> {
        file::read(text)
    }

    /// The form in which this dialect writes a construct: the first one given.
    pub fn form(&self, kind: Kind) -> Option<&Form> {
        self.forms.iter().find(|form| form.kind == kind)
    }

    /// Whether pages written in it can have a layout: it has parents and blocks.
    pub fn has_layouts(&self) -> bool {
        self.form(Kind::Parent).is_some() && self.form(Kind::Block).is_some_and(Form::is_pair)
    }

    /// Whether one of its globs fits the path, whose separator is `/`.
    pub fn fits(&self, path: &str) -> bool {
        self.globs.is_match(path)
    }

    /// Compiles the automaton that finds where a construct may begin.
    fn compile(&mut self) {
        let mut all: Vec<Candidate> = Vec::new();
        for (index, form) in self.forms.iter().enumerate() {
            let open = if form.is_pair() { Part::Open } else { Part::Single };
            let parts = std::iter::once((open, &form.open))
                .chain(form.branch.iter().map(|pattern| (Part::Branch, pattern)))
                .chain(form.close.iter().map(|pattern| (Part::Close, pattern)));
            for (part, pattern) in parts {
                add(&mut all, form.kind, part, pattern.clone(), index as u16, false);
                if let Some(dynamic) = pattern.with_dynamic_target() {
                    add(&mut all, form.kind, part, dynamic, index as u16, true);
                }
            }
        }
        all.sort_by_key(|candidate| std::cmp::Reverse(candidate.pattern.specificity()));
        let mut leads: Vec<Vec<u8>> = all.iter().map(|candidate| candidate.pattern.lead().to_vec()).collect();
        leads.sort();
        leads.dedup();
        self.candidates = leads
            .iter()
            .map(|lead| all.iter().filter(|c| lead.starts_with(c.pattern.lead())).cloned().collect())
            .collect();
        self.delimiters = (!leads.is_empty())
            .then(|| AhoCorasick::builder().match_kind(MatchKind::LeftmostLongest).build(&leads).ok())
            .flatten();
    }
}

fn add(all: &mut Vec<Candidate>, kind: Kind, part: Part, pattern: Pattern, form: u16, dynamic: bool) {
    let same =
        |c: &&mut Candidate| c.part == part && part != Part::Open && c.dynamic == dynamic && c.pattern == pattern;
    match all.iter_mut().find(same) {
        Some(candidate) => candidate.forms.push(form),
        None => {
            let word = pattern.first_word().to_vec();
            all.push(Candidate { kind, part, pattern, forms: vec![form], dynamic, word });
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
}
