//! The behaviours in which engines differ.

/// The rule for content of a child that is outside every block.
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

/// The rule for the same block twice in one file.
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

/// The rule for the line end after a tag.
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

/// Whether a layout sees what a child sets outside its blocks.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum SetScope {
    /// It does, and so do the blocks of other levels.
    Layout,
    /// Only the child's own blocks do.
    Own,
    /// Not known.
    Unknown,
}

/// The rule for relative URLs in layouts and partials.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Urls {
    /// The page's folder: URLs stay as they are.
    Kept,
    /// The folder of the file that holds it: it is rewritten for the page.
    Rebased,
    /// Not known; read as kept.
    Unknown,
}

/// The rule for a byte-order mark at the start of a file.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ByteOrderMark {
    /// It is text like any other.
    Kept,
    /// The page has that of its own file; those of layouts and partials go.
    Page,
    /// Not known; read as kept.
    Unknown,
}

/// The behaviours in which engines differ.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Rules {
    /// Content of a child outside every block.
    pub loose: Loose,
    /// The same block twice in one file.
    pub twice: Twice,
    /// Whether constructs may be inside a tag or an attribute value.
    pub anywhere: bool,
    /// Line ends after tags.
    pub newline: Newline,
    /// Whether an included file sees local names.
    pub include_scope: Scope,
    /// Whether an override sees names bound around the block.
    pub block_scope: Scope,
    /// Whether a layout sees what a child sets outside its blocks.
    pub set_scope: SetScope,
    /// Relative URLs in layouts and partials.
    pub urls: Urls,
    /// Byte-order marks.
    pub byte_order_mark: ByteOrderMark,
    /// Words among the arguments that say: only these names are seen.
    pub only: Vec<String>,
    /// Words among the arguments that say: it is no mistake if the file is missing.
    pub optional: Vec<String>,
    /// How arguments are written, by an example that binds `a` to `x` and `b` to `y`.
    pub arguments: Option<String>,
}

/// The value of an argument.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Value<'t> {
    /// A text, without quotes.
    Text(&'t str),
    /// An expression, as it is written.
    Expression(&'t str),
}

impl Rules {
    /// Arguments that bind these names to these values; `None` if it is not known how.
    pub fn write_arguments(&self, bindings: &[(&str, Value<'_>)]) -> Option<String> {
        let [lead, sign, between, tail] = split_arguments(self.arguments.as_deref()?)?;
        // The quote that ends a value comes after both.
        let quote = between.bytes().zip(tail.bytes()).take_while(|(a, b)| a == b).count();
        // An expression has no quotes around it.
        let is_quote = |c: char| matches!(c, '"' | '\'');
        let (bare, end) = (sign.trim_end_matches(is_quote), tail[..quote].trim_start_matches(is_quote));
        let written: Vec<String> = bindings
            .iter()
            .map(|(name, value)| match value {
                Value::Text(text) => format!("{name}{sign}{text}{}", &tail[..quote]),
                Value::Expression(text) => format!("{name}{bare}{text}{end}"),
            })
            .collect();
        Some(format!("{lead}{}{}", written.join(&between[quote..]), &tail[quote..]))
    }
}

/// An example of arguments without `a`, `x`, `b` and `y`: what comes before, between
/// a name and its value, between the two, and after.
pub(super) fn split_arguments(example: &str) -> Option<[&str; 4]> {
    let is_word = |c: char| c.is_ascii_alphanumeric() || c == '_';
    let word = |from: usize, wanted: char| {
        let rest = &example[from..];
        let alone = |(at, _): &(usize, &str)| !rest[..*at].ends_with(is_word) && !rest[at + 1..].starts_with(is_word);
        rest.match_indices(wanted).find(alone).map(|(at, _)| from + at)
    };
    let a = word(0, 'a')?;
    let x = word(a + 1, 'x')?;
    let b = word(x + 1, 'b')?;
    let y = word(b + 1, 'y')?;
    (example[a + 1..x] == example[b + 1..y]).then_some([
        &example[..a],
        &example[a + 1..x],
        &example[x + 1..b],
        &example[y + 1..],
    ])
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
            set_scope: SetScope::Unknown,
            urls: Urls::Unknown,
            byte_order_mark: ByteOrderMark::Unknown,
            only: Vec::new(),
            optional: Vec::new(),
            arguments: None,
        }
    }
}
