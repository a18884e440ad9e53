//! How a file is read, construct by construct: for whoever writes a dialect.

use std::sync::Arc;

use serde::Serialize;

use super::Site;
use super::lookup::is_bare_name;
use crate::dialect::{Dialect, Kind, Part};
use crate::markup::{Construct, Constructs, Inside};
use crate::text::{LineIndex, Position, SourceId};

/// How a file is read in a dialect.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Trial {
    /// The file's path.
    pub file: String,
    /// The dialect in which it was read here.
    pub dialect: String,
    /// The dialect that the site reads it in; none if it is no template of the site.
    pub usual: Option<String>,
    /// Every construct, in order.
    pub constructs: Vec<TrialConstruct>,
    /// Tags that no form describes, the most frequent first.
    pub unknown: Vec<TrialTag>,
    /// Places that begin like a construct and were read as none.
    pub unread: Vec<TrialPlace>,
    /// The tags that could not be paired.
    pub errors: Vec<TrialPlace>,
}

/// One construct.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct TrialConstruct {
    /// Its start.
    pub at: Position,
    /// Its effect.
    pub kind: Kind,
    /// Which tag of its form it is.
    pub part: Part,
    /// The tag as it is written.
    pub text: String,
    /// The block's or value's name.
    pub name: Option<String>,
    /// The target's name, or the expression that stands for it.
    pub target: Option<String>,
    /// The file that the target names; none if it names none.
    pub file: Option<String>,
    /// A content in one line.
    pub value: Option<String>,
    /// The expression, the arguments or the text.
    pub expression: Option<String>,
    /// An expression is where a name or content in quotes is expected.
    pub dynamic: bool,
    /// It is a statement of a longer tag, or a call within an expression.
    pub within: bool,
    /// It speaks for the rest of its own file, and for no other.
    pub own_file: bool,
    /// The line of the other half of a pair.
    pub partner_line: Option<u32>,
}

/// A tag that no form of the dialect describes.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct TrialTag {
    /// Its delimiter and first word.
    pub tag: String,
    /// How often it is in the file.
    pub uses: usize,
    /// The line where it is first.
    pub line: u32,
}

/// A place, with what is there or is wrong there.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct TrialPlace {
    /// Its place.
    pub at: Position,
    /// The text or the message.
    pub text: String,
}

/// A dialect, and what a site has of it.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct DialectUse {
    /// Its name.
    pub name: String,
    /// Patterns of the files that it may be used for.
    pub files: Vec<String>,
    /// Whether pages written in it can have a layout.
    pub layouts: bool,
    /// How many templates of the site are read in it.
    pub templates: usize,
    /// Its file.
    pub text: String,
}

/// How much of an unread place is shown, in bytes.
const SHOWN: usize = 48;

impl Site {
    /// The uses of each dialect in the site.
    pub fn dialect_uses(&self, dialects: &[Arc<Dialect>]) -> Vec<DialectUse> {
        let count = |name: &str| self.templates.iter().filter(|template| template.dialect.name == name).count();
        let of = |dialect: &Arc<Dialect>| DialectUse {
            name: dialect.name.clone(),
            files: dialect.files.patterns().to_vec(),
            layouts: dialect.has_layouts(),
            templates: count(&dialect.name),
            text: dialect.text.clone(),
        };
        dialects.iter().map(of).collect()
    }

    /// Reads a file in a dialect and tells what was found. The file need not be
    /// one of the site; if it is, targets are looked up.
    pub fn try_file(&self, path: &str, source: &[u8], dialect: &Dialect) -> Trial {
        let constructs = Constructs::read(source, dialect);
        let lines = LineIndex::new(source);
        let known = self.find(path);
        let text = |span: crate::text::Span| (!span.is_empty()).then(|| span.text(source).into_owned());
        let form_of = |item: &Construct| dialect.forms.get(item.form as usize);
        let is_own_file = |id: SourceId, item: &Construct| {
            let items = &self.get(id).constructs.items;
            self.own_file_tags(id).iter().any(|&at| items[at].span == item.span)
        };
        let show = |item: &Construct| {
            let written = item.target.text(source);
            let named = !written.is_empty() && (!item.dynamic || is_bare_name(&written));
            let found = known.filter(|_| item.kind.names_a_file()).and_then(|id| match named {
                true => self.lookup_in(id, &written, item.kind, dialect.targets_of(item.kind)).ok(),
                false => self.namesake(id).filter(|_| form_of(item).is_some_and(|form| form.names_itself)),
            });
            let partner = constructs.partner(item);
            TrialConstruct {
                at: lines.position(source, item.span.start),
                kind: item.kind,
                part: item.part,
                text: item.span.text(source).into_owned(),
                name: text(item.name),
                target: text(item.target),
                file: found.map(|id| self.get(id).path.clone()),
                value: text(item.value),
                expression: text(item.expr),
                dynamic: item.dynamic,
                within: item.inside != Inside::Nothing,
                own_file: form_of(item).is_some_and(|form| form.own_file && form.kind == item.kind)
                    || known.is_some_and(|id| is_own_file(id, item)),
                partner_line: partner.map(|partner| lines.line(partner.span.start)),
            }
        };
        let mut unknown: Vec<TrialTag> = Vec::new();
        for item in constructs.items.iter().filter(|item| item.kind == Kind::Other) {
            let tag = item.first_word(source, dialect);
            match unknown.iter_mut().find(|known| known.tag == tag) {
                Some(known) => known.uses += 1,
                None => unknown.push(TrialTag { tag, uses: 1, line: lines.line(item.span.start) }),
            }
        }
        unknown.sort_by_key(|tag| std::cmp::Reverse(tag.uses));
        let place = |at: u32, text: String| TrialPlace { at: lines.position(source, at), text };
        Trial {
            file: path.to_owned(),
            dialect: dialect.name.clone(),
            usual: known.map(|id| self.get(id).dialect.name.clone()),
            constructs: constructs.items.iter().map(show).collect(),
            unknown,
            unread: unread(source, dialect, &constructs).map(|at| place(at as u32, beginning(&source[at..]))).collect(),
            errors: constructs.errors.iter().map(|error| place(error.span.start, error.message.clone())).collect(),
        }
    }
}

/// The places where a delimiter of the dialect is in front of a word, outside of constructs.
pub fn unread<'a>(
    source: &'a [u8],
    dialect: &'a Dialect,
    constructs: &'a Constructs,
) -> impl Iterator<Item = usize> + 'a {
    let hits = dialect.delimiters_in(source);
    let begins = move |at: usize, end: usize| {
        let inside = constructs.items.partition_point(|item| item.span.start as usize <= at);
        let after = source[end..].iter().copied().find(|b| !b.is_ascii_whitespace());
        let word = |b: u8| b.is_ascii_alphanumeric() || b == b'_';
        let glued = at > 0 && word(source[at - 1]) && !b"([{<".contains(&source[at]);
        let read = inside.checked_sub(1).is_some_and(|item| constructs.items[item].span.end as usize > at)
            || inert(constructs, at as u32);
        !read && !glued && after.is_some_and(word) && (end - at > 1 || source.get(end).copied().is_some_and(word))
    };
    hits.map(|hit| (hit.start, hit.end)).filter(move |&(at, end)| begins(at, end)).map(|(at, _)| at)
}

/// Whether a place is in a verbatim region.
fn inert(constructs: &Constructs, at: u32) -> bool {
    let mut regions = constructs.items.iter().filter(|item| item.kind == Kind::Verbatim && item.part == Part::Open);
    regions.any(|item| item.span.start < at && constructs.partner(item).is_some_and(|close| close.span.start > at))
}

fn beginning(rest: &[u8]) -> String {
    let line = rest.iter().position(|&b| b == b'\n').unwrap_or(rest.len());
    let text = String::from_utf8_lossy(&rest[..line.min(SHOWN)]).into_owned();
    if line > SHOWN { text + "…" } else { text }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect::{builtin, builtin_named};
    use crate::site::{Settings, SourceFile};

    #[test]
    fn what_is_read_and_what_is_not() {
        let text = "{% extends 'b.html' %}\n{% block a %}{% endblok %}{{ }} {% raw %}{% x{% endraw %}{% never";
        let files = vec![SourceFile::new("a.html", text), SourceFile::new("b.html", "")];
        let site = Site::read(files, builtin(), &Settings::default());
        let brace = builtin_named("brace-percent").expect("a built-in dialect");
        let trial = site.try_file("a.html", text.as_bytes(), &brace);
        let kinds: Vec<_> = trial.constructs.iter().map(|item| item.kind).collect();
        assert_eq!(kinds, [Kind::Parent, Kind::Block, Kind::Other, Kind::Verbatim, Kind::Verbatim]);
        assert_eq!(trial.constructs[0].file.as_deref(), Some("b.html"));
        let unknown: Vec<_> = trial.unknown.iter().map(|tag| (tag.tag.as_str(), tag.uses, tag.line)).collect();
        assert_eq!((unknown, trial.errors.len()), (vec![("{% endblok", 1, 2)], 1));
        let unread: Vec<_> = trial.unread.iter().map(|place| (place.at.line, place.text.as_str())).collect();
        assert_eq!(unread, [(2, "{% never")]);
    }
}
