//! Tag-like text that no dialect explains.
//!
//! Brackets with a sign, brackets whose word is closed again, calls after a sigil: where they recur
//! in the markup of several files the site is written in something that nobody described. Listings,
//! scripts, style sheets and comments are not looked at.

use std::collections::{BTreeMap, BTreeSet};

use rayon::prelude::*;
use serde::Serialize;

use super::evidence::{self, Places, Where};
use super::{Site, Template};
use crate::markup::{Construct, Token, TokenKind};
use crate::text::{BYTE_ORDER_MARK, Place, SourceId, Span, preview};

/// A kind of tag-like text, told by its delimiters and first word.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct UnexplainedTag {
    /// The first one, as it is written.
    pub text: String,
    /// How often it occurs in the site.
    pub uses: usize,
    /// In how many files.
    pub files: usize,
    /// The first place.
    pub first: Place,
}

/// The longest text that is taken for a tag, in bytes.
const LONGEST: usize = 200;

/// A notation must occur so often, and in so many files; of a small site in all but one.
const FEWEST_USES: usize = 3;
const FEWEST_FILES: usize = 2;

/// The line before and after a header, and the most lines of one.
const FENCE: &str = "---";
const MOST_HEADER_LINES: usize = 200;

/// One piece of tag-like text.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct TagLike {
    pub span: Span,
    /// The opening delimiter, such as `{%` or `~`.
    open: String,
    /// The first word, such as `when`; of a closing tag with the sign before it.
    word: String,
    /// It is inside a tag of the markup.
    in_tag: bool,
}

/// Finds the tag-like text of a template that is no construct of its dialect.
pub(crate) fn find(source: &[u8], constructs: &[Construct]) -> Vec<TagLike> {
    let mut found: Vec<TagLike> = header(source, constructs).into_iter().collect();
    if memchr::memchr3(b'{', b'[', b'(', source).is_none() && memchr::memmem::find(source, b"<%").is_none() {
        return found;
    }
    evidence::walk(source, constructs, |places: &Places<'_>, token: &Token, place: Where| {
        let is_text = matches!(token.kind, TokenKind::Text | TokenKind::Escapable | TokenKind::Attribute);
        if is_text && matches!(place, Where::Text | Where::Head | Where::Tag) {
            in_text(places.source, token.span(), place == Where::Tag, &mut found);
        }
    });
    // What is swallowed by a token is no text.
    found.retain(|tag| {
        let next = constructs.partition_point(|item| item.span.end <= tag.span.start);
        constructs.get(next).is_none_or(|item| item.span.start >= tag.span.end)
    });
    found
}

/// Lines at the beginning of a file between two fences, if its dialect does not read them: programs that build sites
/// do, and render the file by what they say.
fn header(source: &[u8], constructs: &[Construct]) -> Option<TagLike> {
    let start = if source.starts_with(BYTE_ORDER_MARK) { BYTE_ORDER_MARK.len() } else { 0 };
    let is_fence = |line: &&[u8]| line.trim_ascii_end() == FENCE.as_bytes();
    let mut lines = source[start..].split_inclusive(|&b| b == b'\n');
    let mut end = start + lines.next().filter(is_fence)?.len();
    for line in lines.take(MOST_HEADER_LINES) {
        end += line.len();
        if is_fence(&line) {
            let is_read = constructs.first().is_some_and(|item| (item.span.start as usize) < end);
            let span = Span::from_range(start..start + FENCE.len());
            return (!is_read).then_some(TagLike { span, open: FENCE.to_owned(), word: String::new(), in_tag: false });
        }
        if line.starts_with(b"<") {
            break;
        }
    }
    None
}

fn in_text(source: &[u8], span: Span, in_tag: bool, found: &mut Vec<TagLike>) {
    let text = span.of(source);
    let mut at = 0;
    while let Some(here) = text[at..].iter().position(|b| b"{[<~@$#".contains(b)).map(|here| at + here) {
        at = here + 1;
        let glued = here > 0 && (text[here - 1].is_ascii_alphanumeric() || b"\\^_}$".contains(&text[here - 1]));
        let rest = &text[here..text.len().min(here + LONGEST)];
        let read = if b"{[<".contains(&rest[0]) { bracketed(rest) } else { call(rest).filter(|_| !glued) };
        let Some((open, word, length)) = read.filter(|_| !(glued && rest[0] == b'{' && !rest[1..].starts_with(b"{")))
        else {
            continue;
        };
        let start = span.start + here as u32;
        let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
        found.push(TagLike {
            span: Span::new(start, start + length as u32),
            open: text(open),
            word: text(word),
            in_tag,
        });
        at = here + length;
    }
}

fn is_sign(b: u8) -> bool {
    b"%#{[&?!$@~:=^+*-/".contains(&b)
}

/// `{% word … %}`, `[[ word ]]`, `{word …}`: the delimiter, the first word with a closing sign, the length.
fn bracketed(text: &[u8]) -> Option<(&[u8], &[u8], usize)> {
    let signs = text[1..].iter().take(2).take_while(|&&b| is_sign(b) && b != b'/').count();
    let open = &text[..1 + signs];
    // A sign that is alone, as in `{-`, `{#` or `<!`, opens comments and sets of all kinds.
    if text[0] == b'<' && (signs == 0 || !b"%&".contains(&text[1])) {
        return None;
    }
    let blanks = text[open.len()..].iter().take_while(|b| matches!(b, b' ' | b'\t')).count();
    // Between a single bracket and its word there is no blank.
    if signs == 0 && blanks > 0 {
        return None;
    }
    let from = open.len() + blanks;
    let closing = usize::from(text.get(from) == Some(&b'/'));
    let letters = text[from + closing..].iter().take_while(|b| b.is_ascii_alphanumeric() || b"_.".contains(b)).count();
    let word = &text[from..from + closing + letters];
    let begins = text.get(from + closing).is_some_and(u8::is_ascii_alphabetic);
    let after = from + closing + letters;
    if !begins
        || letters < 2
        || !text.get(after).is_some_and(|&b| b" \t|(=:".contains(&b) || is_sign(b) || b"}]>".contains(&b))
    {
        return None;
    }
    let mirrored: Vec<u8> = open.iter().rev().map(|&b| mirror(b)).collect();
    let line = text.iter().position(|b| b"\n<".contains(b) && text[0] != b'<').unwrap_or(text.len());
    let end = after + memchr::memmem::find(&text[after..line.max(after)], &mirrored)?;
    Some((open, word, end + mirrored.len()))
}

fn mirror(b: u8) -> u8 {
    match b {
        b'{' => b'}',
        b'[' => b']',
        b'<' => b'>',
        other => other,
    }
}

/// `~word(…)`: the sigil, the word, the length.
fn call(text: &[u8]) -> Option<(&[u8], &[u8], usize)> {
    let letters = text[1..].iter().take_while(|b| b.is_ascii_alphanumeric() || **b == b'_').count();
    let open = 1 + letters;
    if letters < 2 || !text[1].is_ascii_alphabetic() || text.get(open) != Some(&b'(') {
        return None;
    }
    let end = text[open..].iter().position(|b| b")\n<".contains(b)).filter(|end| text[open + end] == b')')?;
    Some((&text[..1], &text[1..open], open + end + 1))
}

impl Site {
    /// The tags that recur in the tag-like text of a site, the most frequent first.
    pub fn unexplained(&self) -> Vec<UnexplainedTag> {
        recurring(self, all_in).into_iter().map(|uses| uses.shown(self)).collect()
    }
}

/// What recurs of the tag-like text in files without a dialect, and of headers in any, the most frequent first; and
/// for each file that holds some why nobody knows what is made of it, by the first piece.
pub fn in_unknown_files(site: &Site) -> (Vec<UnexplainedTag>, BTreeMap<SourceId, String>) {
    let in_one = |template: &Template| match template.dialect.forms.is_empty() {
        true => all_in(template),
        false => header(&template.source, &template.constructs.items).into_iter().collect(),
    };
    let found = recurring(site, in_one);
    let mut first: BTreeMap<SourceId, Span> = BTreeMap::new();
    for (id, span) in found.iter().flat_map(|uses| &uses.places) {
        first.entry(*id).and_modify(|known| *known = (*known).min(*span)).or_insert(*span);
    }
    let why = |(id, span): (SourceId, Span)| {
        let text = preview(span.of(&site.get(id).source));
        let why = match text == FENCE {
            true => format!("it begins with a header between lines of `{FENCE}` that no dialect describes"),
            false => format!("`{text}` looks like a tag, and no dialect describes it"),
        };
        (id, why)
    };
    (found.iter().map(|uses| uses.shown(site)).collect(), first.into_iter().map(why).collect())
}

/// The tags that recur in the tag-like text of some files of a site, counted there, the most frequent first.
pub(crate) fn in_these(site: &Site, files: &BTreeSet<SourceId>) -> Vec<UnexplainedTag> {
    // What is nowhere in them needs no look at the site.
    let holds_some = |id: &SourceId| {
        let template = site.get(*id);
        template.unreadable.is_none() && !find(&template.source, &template.constructs.items).is_empty()
    };
    if !files.iter().any(holds_some) {
        return Vec::new();
    }
    let mut found = recurring(site, all_in);
    found.iter_mut().for_each(|uses| uses.places.retain(|(id, _)| files.contains(id)));
    found.iter().filter(|uses| !uses.places.is_empty()).map(|uses| uses.shown(site)).collect()
}

fn all_in(template: &Template) -> Vec<TagLike> {
    find(&template.source, &template.constructs.items)
}

/// Words of notations that nobody described, the most frequent first.
fn recurring(site: &Site, look: impl Fn(&Template) -> Vec<TagLike> + Sync) -> Vec<Uses> {
    let files: Vec<(SourceId, Vec<TagLike>)> = site
        .with_ids()
        .collect::<Vec<_>>()
        .into_par_iter()
        .filter(|(_, template)| template.unreadable.is_none())
        .map(|(id, template)| (id, look(template)))
        .collect();
    let mut notations: BTreeMap<&str, Notation<'_>> = BTreeMap::new();
    for (id, tags) in &files {
        for tag in tags {
            let known = notations.entry(&tag.open).or_default();
            known.files.insert(*id);
            known.in_tags.extend(tag.in_tag.then_some(*id));
            known.words.insert(&tag.word);
            known.uses += 1;
        }
    }
    notations.retain(|open, notation| notation.is_one(open));
    let mut words: BTreeMap<(&str, &str), Uses> = BTreeMap::new();
    for (id, tags) in &files {
        for tag in tags.iter().filter(|tag| notations.contains_key(tag.open.as_str())) {
            words.entry((&tag.open, &tag.word)).or_default().places.push((*id, tag.span));
        }
    }
    let mut words: Vec<_> = words.into_iter().collect();
    // Of equals what opens before what closes.
    words.sort_by_key(|((_, word), uses)| (std::cmp::Reverse(uses.places.len()), closed_by(word).is_some()));
    words.into_iter().map(|(_, uses)| uses).collect()
}

/// The word that a closing word closes.
fn closed_by(word: &str) -> Option<&str> {
    word.strip_prefix('/').or_else(|| word.strip_prefix("end")).map(|word| word.trim_start_matches('_'))
}

/// The uses of a word, in order of files and places.
#[derive(Default)]
struct Uses {
    places: Vec<(SourceId, Span)>,
}

impl Uses {
    fn shown(&self, site: &Site) -> UnexplainedTag {
        let files: BTreeSet<SourceId> = self.places.iter().map(|(id, _)| *id).collect();
        let (id, span) = self.places[0];
        let template = site.get(id);
        let first = Place { file: template.path.clone(), line: template.position(span.start).line };
        let text = preview(span.of(&template.source));
        UnexplainedTag { text, uses: self.places.len(), files: files.len(), first }
    }
}

/// All text with one opening delimiter.
#[derive(Default)]
struct Notation<'a> {
    uses: usize,
    files: BTreeSet<SourceId>,
    /// Files in which it occurs inside tags.
    in_tags: BTreeSet<SourceId>,
    words: BTreeSet<&'a str>,
}

impl Notation<'_> {
    /// Whether it is a notation, and no habit of the prose: brackets with a sign are, single brackets and
    /// sigils if words in them are closed again, or if they occur inside tags.
    fn is_one(&self, open: &str) -> bool {
        let closes = |word: &&str| closed_by(word).is_some_and(|opener| self.words.contains(opener));
        let enough = self.uses >= FEWEST_USES && self.files.len() >= FEWEST_FILES;
        enough
            && (open.len() > 1
                || self.words.iter().any(closes)
                || self.in_tags.len() >= FEWEST_FILES && !matches!(open, "#" | "["))
    }
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use crate::dialect::{Dialect, builtin};
    use crate::site::{Settings, Site, SourceFile};

    #[track_caller]
    fn check(pages: &[&str], expected: &[&str]) {
        let page = |(n, text): (usize, &&str)| {
            SourceFile::new(format!("{n}.html"), format!("<html><body>{text}</body></html>"))
        };
        let site = Site::read(pages.iter().enumerate().map(page).collect(), builtin(), &Settings::default());
        let found: Vec<String> =
            site.unexplained().iter().map(|tag| format!("{} {}/{}", tag.text, tag.uses, tag.files)).collect();
        assert_eq!(found, expected);
    }

    #[test]
    fn notations_that_nobody_described_are_counted() {
        let one = "{when user}<p>{print user.name}</p>{/when}";
        check(&[one, one], &["{print user.name} 2/2", "{when user} 2/2", "{/when} 2/2"]);
        check(
            &["<p>[% moor quay %]</p>", "<p>[% moor a %] [% cast %]</p>"],
            &["[% moor quay %] 2/2", "[% cast %] 1/1"],
        );
        check(&["~when(user)<p>~endwhen()", "~when(user)<p>~endwhen()"], &["~when(user) 2/2", "~endwhen() 2/2"]);
    }

    #[test]
    fn headers_are_told_unless_the_dialect_reads_them() {
        let page =
            |n: usize| (format!("{n}.html"), format!("---\nframe: main\n---\n<p>{{% if a %}}{n}{{% endif %}}</p>\n"));
        let files: Vec<SourceFile> = (0..3).map(page).map(|(path, text)| SourceFile::new(path, text)).collect();
        let told = |dialects: &[Arc<Dialect>]| {
            let site = Site::read(files.clone(), dialects, &Settings::default());
            let (tags, pages) = super::in_unknown_files(&site);
            (tags.len(), pages.len(), site.unexplained().len())
        };
        assert_eq!(told(builtin()), (1, 3, 1));
        let own = "name = \"own\"\nfiles = [\"**/*.html\"]\n[forms]\n\
                   parent = { header = \"---\", form = \"frame: <target>\" }\n\
                   control = { open = \"{% if <expr> %}\", close = \"{% endif %}\" }\n";
        let own = Dialect::parse(own).expect("a dialect");
        assert_eq!(told(&[Arc::new(own)]), (0, 0, 0));
    }

    #[test]
    fn a_rule_in_prose_is_no_header() {
        let text = |n: usize| format!("---\n<p>Pier {n}</p>\n---\n<p>[1]</p>\n");
        let files = (0..4).map(|n| SourceFile::new(format!("{n}.html"), text(n))).collect();
        let site = Site::read(files, builtin(), &Settings::default());
        assert_eq!(site.unexplained(), []);
    }

    #[test]
    fn prose_and_listings_hold_none() {
        let text = "<p>crew@sea.example, see [note] and {sets}, f(x) costs $total(s) #tag(1) a[i] x^{ab}_{cd}</p>\
             <pre>{% if a %} [% b %]</pre><script>a = {{b: 1}}; ~c(d)</script><style>p {color: red}</style><!-- {% x %} -->";
        check(&[text, text, text], &[]);
    }
}
