//! Relative URLs in attributes, and how they read from another folder.
//!
//! In a dialect with `urls = "rebased"` a relative URL in a layout or partial starts at the folder of that
//! file. When a page is put together it is rewritten for the page's folder, always to its shortest form. What
//! is not in its shortest form is left as it is; `./` before an address that goes up keeps that from being
//! rewritten, and goes itself.

use std::borrow::Cow;
use std::ops::Range;

use crate::markup::{Constructs, Opaque, Sink, Token, TokenKind, lex};
use crate::site::folder;
use crate::text::Span;

/// Attributes whose value is one URL (HTML Living Standard, attributes index, 2025).
const ATTRIBUTES: [&[u8]; 7] = [b"href", b"src", b"action", b"formaction", b"poster", b"cite", b"background"];

/// Attributes whose value lists images, each with its URL first.
const LISTS: [&[u8]; 2] = [b"srcset", b"imagesrcset"];

/// The URLs of a source, in order of their places; none in a page that says itself what its URLs start from. A
/// value with a construct in it is no URL that is known.
pub fn find(source: &[u8], constructs: &Constructs) -> Vec<Span> {
    let opaque = constructs.opaque();
    let mut finder = Finder { source, opaque: &opaque, found: Vec::new(), element: Span::default(), has_base: false };
    lex(source, &opaque, &mut finder);
    if finder.has_base { Vec::new() } else { finder.found }
}

struct Finder<'s> {
    source: &'s [u8],
    opaque: &'s [Opaque],
    found: Vec<Span>,
    /// The name of the element at hand.
    element: Span,
    has_base: bool,
}

impl Finder<'_> {
    fn is_element(&self, name: &[u8]) -> bool {
        self.element.of(self.source).eq_ignore_ascii_case(name)
    }

    /// The URLs of a list of images.
    fn list(&mut self, value: Span) {
        let mut at = value.start;
        for candidate in value.of(self.source).split(|&b| b == b',') {
            let lead = candidate.iter().take_while(|b| b.is_ascii_whitespace()).count();
            let length = candidate[lead..].iter().take_while(|b| !b.is_ascii_whitespace()).count();
            let start = at + lead as u32;
            if length > 0 {
                self.found.push(Span::new(start, start + length as u32));
            }
            at += candidate.len() as u32 + 1;
        }
    }
}

impl Sink for Finder<'_> {
    fn token(&mut self, token: Token) {
        if token.kind == TokenKind::StartTag {
            self.element = token.name();
        }
        if token.kind != TokenKind::Attribute {
            return;
        }
        let Some(value) = token.value(self.source).filter(|value| !value.is_empty()) else { return };
        let first = self.opaque.partition_point(|range| range.span.end <= value.start);
        if self.opaque.get(first).is_some_and(|range| range.span.start < value.end) {
            return;
        }
        let name = token.name().of(self.source).to_ascii_lowercase();
        if ATTRIBUTES.contains(&&name[..]) || name == b"data" && self.is_element(b"object") {
            self.has_base |= name == b"href" && self.is_element(b"base");
            self.found.push(value);
        } else if LISTS.contains(&&name[..]) {
            self.list(value);
        }
    }
}

/// A folder of the site, as URLs write it.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Folder(Vec<Vec<u8>>);

impl Folder {
    /// The folder of a file.
    pub fn of(path: &str) -> Self {
        Self(folder(path).split('/').filter(|part| !part.is_empty()).map(encoded).collect())
    }

    /// The shortest way from here to a place.
    fn shortest(&self, place: &Place<'_>) -> Vec<u8> {
        let depth = self.0.len();
        if place.outside > 0 {
            return [b"../".repeat(depth + place.outside), place.parts.join(&b'/')].concat();
        }
        let (&last, folders) = place.parts.split_last().unwrap_or((&&b""[..], &[]));
        let common = self.0.iter().zip(folders).take_while(|(a, b)| a == b).count();
        let ups = b"../".repeat(depth - common);
        let downs = [&folders[common..], &[last][..]].concat().join(&b'/');
        if ups.is_empty() && downs.is_empty() { b"./".to_vec() } else { [ups, downs].concat() }
    }

    /// The place that a URL written here leads to; `None` if it is not in its shortest form, or none of a file.
    fn place<'u>(&'u self, url: &'u [u8]) -> Option<Place<'u>> {
        let mut rest = url;
        let mut ups = 0;
        while let Some(shorter) = rest.strip_prefix(b"../") {
            (rest, ups) = (shorter, ups + 1);
        }
        let here = self.0.len().saturating_sub(ups);
        let mut parts: Vec<&[u8]> = self.0[..here].iter().map(Vec::as_slice).collect();
        parts.extend(if rest == b"./" { &b""[..] } else { rest }.split(|&b| b == b'/'));
        let written = &parts[here..];
        let (last, folders) = written.split_last()?;
        let is_step = |part: &[u8]| part == b"." || part == b"..";
        if folders.iter().any(|part| part.is_empty() || is_step(part)) || is_step(last) || !is_path(rest) {
            return None;
        }
        let place = Place { outside: ups.saturating_sub(self.0.len()), parts };
        (self.shortest(&place) == url).then_some(place)
    }

    /// The URL of a file or folder, by its path, written here.
    pub fn path(&self, path: &str) -> String {
        let parts: Vec<Vec<u8>> = path.split('/').map(encoded).collect();
        let parts: Vec<&[u8]> = parts.iter().map(Vec::as_slice).collect();
        String::from_utf8_lossy(&self.shortest(&Place { outside: 0, parts })).into_owned()
    }

    /// The form of a URL in a shared file here in a page of that folder.
    pub fn printed<'u>(&self, url: &'u [u8], page: &Folder) -> Cow<'u, [u8]> {
        let (path, tail) = split(url);
        if is_literal(path) {
            return Cow::Borrowed(&url[2..]);
        }
        match self.place(path) {
            Some(place) if self != page => Cow::Owned([&page.shortest(&place), tail].concat()),
            _ => Cow::Borrowed(url),
        }
    }

    /// How a shared file of that folder says what a page here has.
    pub fn written<'u>(&self, url: &'u [u8], file: &Folder) -> Cow<'u, [u8]> {
        let (path, tail) = split(url);
        match self.place(path) {
            Some(place) => Cow::Owned([&file.shortest(&place), tail].concat()),
            None if path.starts_with(b"../") && is_path(path) || is_literal(path) => Cow::Owned([b"./", url].concat()),
            None => Cow::Borrowed(url),
        }
    }

    /// A URL of a shared file here, as a shared file of that folder says the same.
    pub fn moved<'u>(&self, url: &'u [u8], file: &Folder) -> Cow<'u, [u8]> {
        if is_literal(split(url).0) { Cow::Borrowed(url) } else { self.written(url, file) }
    }
}

/// A place that a URL leads to: so many folders outside the site, and the parts from there.
struct Place<'u> {
    outside: usize,
    parts: Vec<&'u [u8]>,
}

/// The path of a URL, and its query and fragment.
fn split(url: &[u8]) -> (&[u8], &[u8]) {
    url.split_at(url.iter().position(|b| matches!(b, b'?' | b'#')).unwrap_or(url.len()))
}

/// It stays as it is, but for its `./`.
fn is_literal(path: &[u8]) -> bool {
    let steps = path.chunks(2).take_while(|step| *step == b"./").count();
    steps > 0 && path[steps * 2..].starts_with(b"../")
}

/// Whether a path could be one of a file in another folder.
fn is_path(path: &[u8]) -> bool {
    path.iter().all(is_plain)
}

/// No scheme, no code of a script or an engine, no whitespace.
fn is_plain(byte: &u8) -> bool {
    !matches!(
        byte,
        0..=b' ' | b':' | b'\\' | b'{' | b'}' | b'[' | b']' | b'<' | b'>' | b'$' | b'(' | b')' | b'"' | b'\''
    )
}

/// A folder's name in a URL.
fn encoded(name: &str) -> Vec<u8> {
    let mut out = Vec::with_capacity(name.len());
    for byte in name.bytes() {
        match byte {
            b'%' | b'?' | b'#' | b'&' => out.extend(format!("%{byte:02X}").into_bytes()),
            _ if is_plain(&byte) => out.push(byte),
            _ => out.extend(format!("%{byte:02X}").into_bytes()),
        }
    }
    out
}

/// A stretch of a text, and the URL that takes its place.
pub type Rewrite<'u> = (Range<usize>, Cow<'u, [u8]>);

/// A text with URLs rewritten, in order of their places.
pub fn replaced(source: &[u8], urls: &[Rewrite<'_>]) -> Vec<u8> {
    let gone: usize = urls.iter().map(|(range, _)| range.len()).sum();
    let new: usize = urls.iter().map(|(_, url)| url.len()).sum();
    let mut out = Vec::with_capacity(source.len() - gone + new);
    let mut at = 0;
    for (range, url) in urls {
        out.extend_from_slice(&source[at..range.start]);
        out.extend_from_slice(url);
        at = range.end;
    }
    out.extend_from_slice(&source[at..]);
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn text(bytes: &[u8]) -> String {
        String::from_utf8_lossy(bytes).into_owned()
    }

    #[test]
    fn urls_follow_the_page() {
        let layouts = Folder::of("layouts/base.html");
        let printed = |url: &str, page: &str| text(&layouts.printed(url.as_bytes(), &Folder::of(page)));
        for (url, root, deep) in [
            ("../style/a.css", "style/a.css", "../../style/a.css"),
            ("../de/x.html?q#f", "de/x.html?q#f", "../x.html?q#f"),
            ("../", "./", "../../"),
            ("../../out/y", "../out/y", "../../../out/y"),
            ("x.css", "layouts/x.css", "../../layouts/x.css"),
            // Not in the shortest form, or none of a file.
            ("../layouts/x.css", "../layouts/x.css", "../layouts/x.css"),
            ("./x.css", "./x.css", "./x.css"),
            ("./../style/a.css", "../style/a.css", "../style/a.css"),
            ("/a.css", "/a.css", "/a.css"),
            ("#top", "#top", "#top"),
            ("?page=2", "?page=2", "?page=2"),
            ("mailto:a@b.example", "mailto:a@b.example", "mailto:a@b.example"),
            ("//c.example/d", "//c.example/d", "//c.example/d"),
            ("../{{ url }}", "../{{ url }}", "../{{ url }}"),
        ] {
            assert_eq!([printed(url, "index.html"), printed(url, "de/lamps/wick.html")], [root, deep], "{url}");
        }
        let folder = Folder::of("my folder/a.html");
        assert_eq!(text(&folder.written(b"b.html", &Folder::default())), "my%20folder/b.html");
    }

    #[test]
    fn urls_are_found_in_attributes() {
        let source =
            b"<a title=x href='a.html'>href=b</a><img srcset='c.png 1x, d.png 2x' data=e src=f><object data=g>";
        let found = |source: &[u8]| {
            find(source, &Constructs::default()).iter().map(|url| text(url.of(source))).collect::<Vec<_>>()
        };
        assert_eq!(found(source), ["a.html", "c.png", "d.png", "f", "g"]);
        assert!(found(b"<base href='/x/'><a href='a.html'>").is_empty());
        assert!(found(b"<!-- <a href='a.html'> --><script>x = \"<a href='b.html'>\"</script>").is_empty());
    }

    proptest! {
        /// Whatever a page has, a shared file can say it for the page.
        #[test]
        fn a_shared_file_says_what_the_page_has(
            url in "(\\./){0,2}(\\.\\./){0,3}([abc]/|\\./|/){0,3}[abc#?]{0,2}",
            page in "([abc]/){0,3}p",
            file in "([abc]/){0,2}f",
            other in "([abc]/){0,2}f",
        ) {
            let [page, file, other] = [page, file, other].map(|path| Folder::of(&path));
            let written = page.written(url.as_bytes(), &file);
            prop_assert_eq!(text(&file.printed(&written, &page)), &url[..], "{}", text(&written));
            let moved = file.moved(&written, &other);
            prop_assert_eq!(text(&other.printed(&moved, &page)), &url[..], "{}", text(&moved));
        }
    }
}
