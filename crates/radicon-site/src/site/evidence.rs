//! What a file shows of being written in a dialect.
//!
//! Tags in running text may be examples: a page about templates is full of them. What counts
//! is what makes the skeleton of a page: tags at its head, inside markup, or around elements. Nothing counts
//! in listings, comments, scripts and style sheets, where every notation occurs.

use rustc_hash::FxHashSet;

use super::lookup::file_name;
use crate::dialect::{Kind, Part};
use crate::markup::{Construct, ConstructId, Constructs, Opaque, Sink, Token, TokenKind, lex};
use crate::text::{BYTE_ORDER_MARK, Span, is_blank};

/// How much of a file speaks for a dialect.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord)]
pub struct Evidence {
    /// The weight of tags that make structure: parents, blocks, includes, conditions and loops.
    pub structure: usize,
    /// Tags that print a value, or that nobody described.
    pub tags: usize,
    /// Outputs that are no values but commands, as in another notation with the same delimiters.
    pub commands: usize,
    /// All tags but those in listings, and of a whole page those in scripts and style sheets.
    pub read: usize,
}

/// A parent at the head of a file weighs as much as many tags of another notation.
const PARENT: usize = 1_000;

impl Evidence {
    /// Weighs what was read of a source; `names` are the names of the site's files.
    pub(crate) fn of(source: &[u8], constructs: &Constructs, names: &FileNames<'_>) -> Self {
        let items = &constructs.items;
        if items.is_empty() {
            return Self::default();
        }
        if items[0].kind == Kind::Parent && (Around { source, items, at: 0 }).is_at_head() {
            return Self { structure: PARENT, read: items.len(), ..Self::default() };
        }
        let places = Places::find(source, items);
        let is_page = places.is_page;
        let mut found = Self::default();
        for (at, (item, &place)) in items.iter().zip(&places.of).enumerate() {
            found.read += usize::from(place != Where::Listing && !(is_page && place == Where::Silent));
            if matches!(place, Where::Listing | Where::Silent) {
                continue;
            }
            let around = Around { source, items, at };
            // A notation that nobody sees is no example.
            let hidden = item.span.of(source).starts_with(b"<!--");
            let frames =
                hidden || place != Where::Text || if is_page { around.stands_apart() } else { !around.is_in_prose() };
            if !frames {
                continue;
            }
            let is_whole = item.partner.is_some();
            let spans = || hidden || place != Where::Text || !is_page || around.spans_markup();
            found.structure += match item.kind {
                Kind::Parent if around.is_at_head() => PARENT,
                Kind::Parent => usize::from(!is_page),
                Kind::Include | Kind::Import if is_page && !hidden => {
                    usize::from(item.dynamic || names.holds(&item.target.text(source)))
                }
                Kind::Include | Kind::Import | Kind::Inherited | Kind::Again | Kind::Body => 1,
                Kind::Set | Kind::Slot | Kind::Fill if item.part == Part::Single => usize::from(!is_page || hidden),
                Kind::Block
                | Kind::Here
                | Kind::Control
                | Kind::Verbatim
                | Kind::Wrap
                | Kind::Part
                | Kind::Slot
                | Kind::Fill
                | Kind::Set => usize::from(is_whole && spans()),
                Kind::Output => {
                    if is_command(item.expr.of(source)) {
                        found.commands += 1;
                    } else if is_value(item.expr.of(source)) && !around.is_in_formula() {
                        found.tags += 1;
                    }
                    0
                }
                Kind::Other if starts_with_word(item.expr.of(source)) => {
                    found.tags += 1;
                    0
                }
                Kind::Comment | Kind::Code | Kind::Other => 0,
            };
        }
        found
    }
}

/// Whether an expression could name a value: formulas begin otherwise, or hold macros and groups.
fn is_value(expr: &[u8]) -> bool {
    let begins = expr.first().is_some_and(|b| b.is_ascii_alphabetic() || b"_$'\"@(".contains(b));
    begins && !expr.iter().any(|b| b"\\^".contains(b))
}

/// Whether an expression is a command with arguments, or begins with the sign of one: no value is written so.
fn is_command(expr: &[u8]) -> bool {
    const OPERATORS: [&[u8]; 8] = [b"if", b"else", b"and", b"or", b"not", b"in", b"is", b"unless"];
    if expr.first().is_some_and(|b| b"#/>^!&*=".contains(b)) {
        return true;
    }
    let letters = expr.iter().take_while(|b| b.is_ascii_alphanumeric() || b"_-".contains(b)).count();
    let rest = expr[letters..].trim_ascii_start();
    let has_blank = letters > 0 && rest.len() < expr.len() - letters;
    let begins = rest.first().is_some_and(|b| b.is_ascii_alphabetic() || b"_.$'\"@".contains(b));
    let next = &rest[..rest.iter().take_while(|b| b.is_ascii_alphabetic()).count()];
    has_blank && begins && (OPERATORS[0] == &expr[..letters] || !OPERATORS.contains(&next))
}

fn starts_with_word(text: &[u8]) -> bool {
    text.first().is_some_and(|b| b.is_ascii_alphabetic() || *b == b'_')
}

/// The names of a site's files, with and without their suffixes.
#[derive(Debug, Default)]
pub struct FileNames<'a>(FxHashSet<&'a str>);

impl<'a> FileNames<'a> {
    /// The names of files with these paths.
    pub fn of(paths: impl Iterator<Item = &'a str>) -> Self {
        Self(paths.map(file_name).flat_map(|name| [name, name.split('.').next().unwrap_or(name)]).collect())
    }

    fn holds(&self, written: &str) -> bool {
        self.0.contains(file_name(written))
    }
}

/// The place of something in the HTML.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Where {
    /// In an element that shows text as it is written.
    Listing,
    /// In a comment, a script or a style sheet.
    Silent,
    /// Inside a tag.
    Tag,
    /// In the head of the page.
    Head,
    /// In running text.
    Text,
}

/// Elements whose content is an example of something.
const LISTINGS: [&[u8]; 8] = [b"pre", b"code", b"samp", b"kbd", b"tt", b"xmp", b"listing", b"textarea"];

/// Reads a source and shows each token, with where it is.
pub(super) fn walk(source: &[u8], constructs: &[Construct], see: impl FnMut(&Places<'_>, &Token, Where)) {
    struct Walk<'a, F> {
        places: Places<'a>,
        see: F,
    }
    impl<F: FnMut(&Places<'_>, &Token, Where)> Sink for Walk<'_, F> {
        fn token(&mut self, token: Token) {
            let place = self.places.pass(&token);
            (self.see)(&self.places, &token, place);
        }
    }
    let mut walk = Walk { places: Places::new(source, constructs), see };
    lex(source, &opaque(constructs), &mut walk);
}

/// Stretches of a source that show text as it is written, or that nobody sees: listings, scripts, style
/// sheets, comments.
pub fn silent(source: &[u8], constructs: &[Construct]) -> Vec<Span> {
    let mut found: Vec<Span> = Vec::new();
    walk(source, constructs, |_, token, place| {
        if matches!(place, Where::Listing | Where::Silent) {
            match found.last_mut().filter(|last| last.end == token.start) {
                Some(last) => last.end = token.end,
                None => found.push(token.span()),
            }
        }
    });
    found
}

fn opaque(constructs: &[Construct]) -> Vec<Opaque> {
    let opaque = constructs.iter().filter(|item| item.is_opaque());
    opaque.map(|item| Opaque { span: item.span, prints: item.kind.prints() }).collect()
}

/// Finds where each construct is.
pub(super) struct Places<'a> {
    pub source: &'a [u8],
    items: &'a [Construct],
    of: Vec<Where>,
    listings: usize,
    /// The place of the content of a script, style sheet or title, while it lasts.
    raw: Option<Where>,
    in_tag: bool,
    in_head: bool,
    /// It has the skeleton of a whole page.
    is_page: bool,
}

impl<'a> Places<'a> {
    fn new(source: &'a [u8], items: &'a [Construct]) -> Self {
        Self { source, items, of: Vec::new(), listings: 0, raw: None, in_tag: false, in_head: false, is_page: false }
    }

    fn find(source: &'a [u8], items: &'a [Construct]) -> Self {
        let mut places = Self::new(source, items);
        lex(source, &opaque(items), &mut places);
        places.of.resize(items.len(), Where::Text);
        places
    }

    /// Passes a token; gives where it is.
    fn pass(&mut self, token: &Token) -> Where {
        match token.kind {
            TokenKind::StartTag => self.opens(token.name().of(self.source)),
            TokenKind::EndTag => self.closes(token.name().of(self.source)),
            TokenKind::Doctype => self.is_page = true,
            _ => {}
        }
        let goes_on = matches!(
            token.kind,
            TokenKind::StartTag
                | TokenKind::EndTag
                | TokenKind::Attribute
                | TokenKind::Gap
                | TokenKind::TagEnd
                | TokenKind::Construct
        );
        self.in_tag &= goes_on;
        let place = match token.kind {
            TokenKind::Raw | TokenKind::Comment | TokenKind::Bogus | TokenKind::CData => Where::Silent,
            _ if self.in_tag => Where::Tag,
            _ if self.listings > 0 => Where::Listing,
            _ if self.in_head => self.raw.unwrap_or(Where::Head),
            TokenKind::Doctype => Where::Head,
            _ => self.raw.unwrap_or(Where::Text),
        };
        while self.items.get(self.of.len()).is_some_and(|item| item.span.start < token.end) {
            self.of.push(place);
        }
        self.in_tag &= token.kind != TokenKind::TagEnd;
        place
    }

    fn opens(&mut self, name: &[u8]) {
        self.in_tag = true;
        let name = name.to_ascii_lowercase();
        self.listings += usize::from(LISTINGS.contains(&&name[..]));
        self.in_head = name == b"head" || self.in_head && name != b"body";
        self.raw = match &name[..] {
            b"script" | b"style" => Some(Where::Silent),
            b"title" => Some(Where::Head),
            _ => None,
        };
        self.is_page |= matches!(&name[..], b"html" | b"body" | b"head");
    }

    fn closes(&mut self, name: &[u8]) {
        (self.in_tag, self.raw) = (true, None);
        let name = name.to_ascii_lowercase();
        if LISTINGS.contains(&&name[..]) {
            self.listings = self.listings.saturating_sub(1);
        }
        self.in_head &= name != b"head";
    }
}

impl Sink for Places<'_> {
    fn token(&mut self, token: Token) {
        self.pass(&token);
    }
}

/// The surroundings of a construct.
struct Around<'a> {
    source: &'a [u8],
    items: &'a [Construct],
    at: usize,
}

/// The neighbour of a tag on its line.
#[derive(PartialEq, Eq)]
enum Side {
    /// The end of the line, markup, or another tag.
    Edge,
    /// A word.
    Word,
    /// Some other sign.
    Sign,
}

impl Side {
    /// The kind of neighbour that a byte belongs to; markup and other tags are none.
    fn of(byte: Option<u8>) -> Self {
        match byte {
            None | Some(b'\n' | b'\r') => Side::Edge,
            Some(b) if b.is_ascii_alphanumeric() || b >= 0x80 || b",.:".contains(&b) => Side::Word,
            Some(_) => Side::Sign,
        }
    }
}

impl Around<'_> {
    fn before(&self, at: usize) -> Side {
        let start = self.items[at].span.start as usize;
        let blanks = self.source[..start].iter().rev().take_while(|b| matches!(b, b' ' | b'\t')).count();
        let end = start - blanks;
        let is_tag = at > 0 && self.items[at - 1].span.end as usize == end;
        Side::of(self.source[..end].last().copied().filter(|&b| !is_tag && b != b'>'))
    }

    fn after(&self, at: usize) -> Side {
        let end = self.items[at].span.end as usize;
        let start = end + self.source[end..].iter().take_while(|b| matches!(b, b' ' | b'\t')).count();
        let is_tag = self.items.get(at + 1).is_some_and(|next| next.span.start as usize == start);
        Side::of(self.source.get(start).copied().filter(|&b| !is_tag && b != b'<'))
    }

    /// The last tag of the pair that begins here, or the tag itself.
    fn last(&self) -> usize {
        let item = &self.items[self.at];
        item.partner.filter(|_| item.part == Part::Open).map_or(self.at, ConstructId::index)
    }

    /// Whether words are on both sides: it is part of a sentence.
    fn is_in_prose(&self) -> bool {
        self.before(self.at) == Side::Word && self.after(self.at) == Side::Word
    }

    /// Whether no text touches it, or the pair that it opens.
    fn stands_apart(&self) -> bool {
        self.before(self.at) == Side::Edge && self.after(self.last()) == Side::Edge
    }

    /// Whether a pair holds elements or nothing at all, so that it is no example in a sentence.
    fn spans_markup(&self) -> bool {
        let (item, last) = (&self.items[self.at], &self.items[self.last()]);
        let inner = Span::new(item.span.end, last.span.start.max(item.span.end)).of(self.source);
        inner.contains(&b'<') || inner.iter().all(|&b| is_blank(b))
    }

    /// Whether nothing but blanks, comments and other tags comes before it.
    fn is_at_head(&self) -> bool {
        let mut from = if self.source.starts_with(BYTE_ORDER_MARK) { BYTE_ORDER_MARK.len() } else { 0 };
        for item in &self.items[..=self.at] {
            let gap = &self.source[from.min(item.span.start as usize)..item.span.start as usize];
            if !is_silent(gap) {
                return false;
            }
            from = item.span.end as usize;
        }
        true
    }

    /// Whether the signs of a formula lead up to it.
    fn is_in_formula(&self) -> bool {
        // Of several that touch, what comes before the first.
        let touches = |at: &usize| self.items[at - 1].span.end == self.items[*at].span.start;
        let first = (1..=self.at).rev().take_while(touches).last().map_or(self.at, |at| at - 1);
        let start = self.items[first].span.start as usize;
        let word = self.source[..start].iter().rev().take_while(|b| b.is_ascii_alphabetic()).count();
        let before = self.source[..start - word].last();
        let macro_ = word > 0 && before == Some(&b'\\');
        macro_ || word == 0 && before.is_some_and(|b| b"}^_\\".contains(b))
    }
}

/// Whether a text holds nothing but blanks and comments.
fn is_silent(mut text: &[u8]) -> bool {
    loop {
        let blanks = text.iter().take_while(|&&b| is_blank(b)).count();
        text = &text[blanks..];
        match text.strip_prefix(b"<!--").and_then(|rest| Some((rest, memchr::memmem::find(rest, b"-->")?))) {
            Some((rest, end)) => text = &rest[end + 3..],
            None => return text.is_empty(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect::builtin_named;

    #[track_caller]
    fn shows(source: &str, structure: bool, tags: usize) {
        let dialect = builtin_named("brace-percent").expect("a built-in dialect");
        let constructs = Constructs::read(source.as_bytes(), &dialect);
        let names = FileNames::of(["parts/nav.html"].into_iter());
        let found = Evidence::of(source.as_bytes(), &constructs, &names);
        assert_eq!((found.structure > 0, found.tags), (structure, tags), "{source}: {found:?}");
    }

    #[test]
    fn tags_in_listings_and_prose_are_examples() {
        shows("<pre>{% extends 'a.html' %}{{ x }}</pre>", false, 0);
        shows("<p>Write <code>{% block a %}{% endblock %}</code></p>", false, 0);
        shows("<html><p>Use {% if user %} and {% endif %} around it, or {{ user }} in it.</p>", false, 0);
        shows("<html><p>Begin with {% extends 'nav.html' %} in the first line.</p>", false, 0);
        shows("<script>{% if a %}{{ x }}{% endif %}</script><!-- {% include 'nav.html' %} -->", false, 0);
        shows("<html><dt>{% block name %}…{% endblock %}</dt><li>{% include 'x.html' %}</li></html>", false, 0);
        shows("Hello {{ name }}, you have {% if n %} mail {% endif %} today", false, 0);
    }

    #[test]
    fn tags_that_frame_a_page_count() {
        shows("{# note #}\n<!-- c -->{% load x %}{% extends 'gone.html' %}", true, 1);
        shows("<html><title>{% block title %}Ferries{% endblock %}</title></html>", true, 0);
        shows("<html><body class=\"{% if a %}b{% endif %}\">", true, 0);
        shows("<html><main>{% block main %}{% endblock %}</main></html>", true, 0);
        shows("<html><ul>{% for a in b %}<li>{{ a }}</li>{% endfor %}</ul>", true, 1);
        shows("<html><body>\n{% include 'nav.html' %}\n</body>", true, 0);
        shows("<p>{% if a %}1{% endif %}</p>", true, 0);
        shows("<html><title>{{ page.title }}</title><a href=\"{{ url }}\">{% asset 'x' %}</a></html>", false, 3);
    }

    #[test]
    fn commands_are_no_values() {
        for (expr, command) in [
            ("page.title", false),
            ("a if b else c", false),
            ("title | upper", false),
            ("f('x')", false),
            ("a is b", false),
            ("if .Title", true),
            ("template \"nav\" .", true),
            ("#each rows", true),
            ("> nav", true),
            ("/if", true),
        ] {
            assert_eq!(is_command(expr.as_bytes()), command, "{expr}");
        }
    }

    #[test]
    fn formulas_print_no_values() {
        shows(r"<p>$\frac{{a}}{{b}}$ and $x^{{n}}$ and ${{n}\choose{k}}$</p>", false, 0);
    }
}
