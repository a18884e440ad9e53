//! Tags written in one way: for proposals at the strength `dom`, where it does not
//! count in which order attributes are, in which quotes and letter case.
//!
//! Pages are read as if all of them wrote their tags as most of them do.

use rustc_hash::FxHashMap;

use crate::dialect::Dialect;
use crate::markup::elements::{Content, element};
use crate::markup::{Document, Token, TokenKind};
use crate::site::Template;

/// A tag's name and those of its attributes, all in lower case.
type Names = (Vec<u8>, Vec<Vec<u8>>);

/// How most pages of a site write their tags.
#[derive(Clone, Debug, Default)]
pub struct Spelling {
    /// For tags with these attributes, sorted, their usual order.
    orders: FxHashMap<Names, Vec<Vec<u8>>>,
    /// Void elements end in `/>`.
    slashes: bool,
}

impl Spelling {
    /// The habits of these templates.
    pub fn of<'t>(templates: impl Iterator<Item = &'t Template>) -> Self {
        let mut counts: FxHashMap<Names, FxHashMap<Vec<Vec<u8>>, usize>> = FxHashMap::default();
        let mut slashes = 0_isize;
        for template in templates {
            let source = &template.source[..];
            let document = Document::read(source, &template.dialect);
            for (_, tag) in tags(&document.tokens) {
                let Some((name, attributes)) = names(source, tag) else { continue };
                if element(&name).content == Content::Void {
                    let ends = tag.last().is_some_and(|end| end.span().of(source) == b"/>");
                    slashes += if ends { 1 } else { -1 };
                }
                if attributes.len() > 1 {
                    let mut sorted = attributes.clone();
                    sorted.sort();
                    *counts.entry((name, sorted)).or_default().entry(attributes).or_default() += 1;
                }
            }
        }
        let usual = |orders: FxHashMap<Vec<Vec<u8>>, usize>| {
            orders.into_iter().max_by(|a, b| a.1.cmp(&b.1).then(b.0.cmp(&a.0))).map(|(order, _)| order)
        };
        let orders = counts.into_iter().filter_map(|(names, orders)| Some((names, usual(orders)?))).collect();
        Self { orders, slashes: slashes > 0 }
    }

    /// A source with its tags written so. A tag with constructs in it stays as it is.
    pub fn apply(&self, source: &[u8], dialect: &Dialect) -> Vec<u8> {
        let document = Document::read(source, dialect);
        let mut out = Vec::with_capacity(source.len());
        let mut at = 0;
        for (first, tag) in tags(&document.tokens) {
            let Some(written) = self.tag(source, tag) else { continue };
            out.extend_from_slice(&source[at..first.start as usize]);
            out.extend(written);
            at = tag.last().map_or(first.end, |token| token.end) as usize;
        }
        out.extend_from_slice(&source[at..]);
        out
    }

    /// How a tag is written; `None` if it stays as it is.
    fn tag(&self, source: &[u8], tag: &[Token]) -> Option<Vec<u8>> {
        let (first, end) = (tag.first()?, tag.last().filter(|end| end.kind == TokenKind::TagEnd)?);
        let (name, attributes) = names(source, tag)?;
        let mut out = if first.kind == TokenKind::EndTag { b"</".to_vec() } else { b"<".to_vec() };
        out.extend_from_slice(&name);
        let mut sorted = attributes.clone();
        sorted.sort();
        let twice = sorted.windows(2).any(|pair| pair[0] == pair[1]);
        let is_void = element(&name).content == Content::Void;
        let key = (name, sorted);
        let order = self.orders.get(&key).filter(|_| !twice).unwrap_or(&attributes);
        for name in order {
            let token = tag[1..].iter().filter(|token| token.kind == TokenKind::Attribute);
            let token = token.clone().find(|token| token.name().of(source).eq_ignore_ascii_case(name))?;
            out.push(b' ');
            out.extend_from_slice(name);
            if let Some(value) = token.value(source) {
                let quote: &[u8] = if value.of(source).contains(&b'"') { b"'" } else { b"\"" };
                out.extend([b"=", quote, value.of(source), quote].concat());
            }
        }
        let end = match is_void {
            true if self.slashes => b" />",
            true => &b">"[..],
            false => end.span().of(source),
        };
        out.extend_from_slice(end);
        // Whitespace within a tag is no matter of spelling.
        let same = |a: &[u8], b: &[u8]| {
            let solid = |bytes: &[u8]| bytes.iter().copied().filter(|b| !b.is_ascii_whitespace()).collect::<Vec<u8>>();
            solid(a) == solid(b)
        };
        let written = &source[first.start as usize..tag.last()?.end as usize];
        (!twice && !same(written, &out)).then_some(out)
    }
}

/// The tags, each with all of its tokens.
fn tags(tokens: &[Token]) -> impl Iterator<Item = (&Token, &[Token])> {
    let opens = |token: &Token| matches!(token.kind, TokenKind::StartTag | TokenKind::EndTag);
    tokens.iter().enumerate().filter(move |(_, token)| opens(token)).map(|(at, token)| {
        let rest = &tokens[at..];
        let inside =
            |token: &&Token| matches!(token.kind, TokenKind::Attribute | TokenKind::Gap | TokenKind::Construct);
        let length = 1 + rest[1..].iter().take_while(inside).count();
        let end = rest.get(length).is_some_and(|token| token.kind == TokenKind::TagEnd);
        (token, &rest[..length + usize::from(end)])
    })
}

/// The names in a tag in lower case; `None` if it holds constructs.
fn names(source: &[u8], tag: &[Token]) -> Option<Names> {
    if tag.iter().any(|token| token.kind == TokenKind::Construct || holds_construct(source, token)) {
        return None;
    }
    let name = |token: &Token| token.name().of(source).to_ascii_lowercase();
    let attributes = tag[1..].iter().filter(|token| token.kind == TokenKind::Attribute);
    Some((name(tag.first()?), attributes.map(name).collect()))
}

/// Whether a name may be made by a construct: then its case is not known.
fn holds_construct(source: &[u8], token: &Token) -> bool {
    let is_tag = matches!(token.kind, TokenKind::StartTag | TokenKind::EndTag | TokenKind::Attribute);
    is_tag && !token.name().of(source).iter().all(|b| b.is_ascii_alphanumeric() || b"-_:.@".contains(b))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::site::{Settings, Site, SourceFile};

    #[test]
    fn tags_are_written_as_most_pages_write_them() {
        let pages = [
            "<link rel=\"a\" href=\"b\"><br><p CLASS='x'>y</p>",
            "<LINK href=b rel='a'><br/><p class=\"x\">y</P>",
            "<link rel=\"a\"   href=\"b\"><br><p class=\"x\" title='\"'>y</p>",
        ];
        let files = pages.iter().zip(0..).map(|(text, at)| SourceFile::new(format!("{at}.html"), *text)).collect();
        let site = Site::read(files, &[], &Settings::default());
        let spelling = Spelling::of(site.templates.iter());
        let apply =
            |text: &str| String::from_utf8(spelling.apply(text.as_bytes(), &crate::dialect::plain())).expect("text");
        let usual = "<link rel=\"a\" href=\"b\"><br><p class=\"x\">y</p>";
        assert_eq!(apply(pages[0]), usual);
        assert_eq!(apply(pages[1]), usual);
        assert_eq!(apply(pages[2]), pages[2], "white space in a tag stays");
        assert_eq!(apply("<p A=1 a=2>"), "<p A=1 a=2>", "twice");
        assert_eq!(apply("<svg><path D=x/></svg>"), "<svg><path d=\"x/\"></svg>");
    }
}
