//! Which URLs are equal: those that are written alike, and those that point to
//! the same place from where they are.
//!
//! Pages of different depth write one place differently, and copied editions
//! write different places alike. So each place is known by the way in which it
//! is written most often; two ways to write one place become one, and places
//! that are always written alike stay alike.

use rayon::prelude::*;
use rustc_hash::FxHashMap;
use xxhash_rust::xxh3::{xxh3_64, xxh3_64_with_seed};

use crate::site::{Site, folder};

/// For each place that is written in several ways the most frequent one.
#[derive(Debug, Default)]
pub(in crate::repeats) struct Urls {
    usual: FxHashMap<u64, u64>,
    known: bool,
}

const ATTRIBUTES: [&[u8]; 2] = [b"href", b"src"];

impl Urls {
    /// Reads the URLs of a site.
    pub fn collect(site: &Site) -> Self {
        let mut all: Vec<(u64, u64)> = site
            .templates
            .par_iter()
            .flat_map_iter(|template| {
                let here = Here::of(&template.path);
                let found = written(&template.source).filter_map(|url| Some((here.place(url)?, spelling(url))));
                let mut found: Vec<(u64, u64)> = found.collect();
                found.sort_unstable();
                found.dedup();
                found
            })
            .collect();
        all.par_sort_unstable();
        let mut usual = FxHashMap::default();
        for place in all.chunk_by(|a, b| a.0 == b.0) {
            let spellings = place.chunk_by(|a, b| a.1 == b.1).map(|same| (same.len(), same[0].1));
            if place.first().map(|first| first.1) != place.last().map(|last| last.1)
                && let Some((_, spelling)) = spellings.max()
            {
                usual.insert(place[0].0, spelling);
            }
        }
        Self { usual, known: true }
    }

    /// Whether what a URL in an attribute is known by may depend on where it is.
    pub fn is_placed(&self, name: &[u8], url: &[u8]) -> bool {
        self.known && ATTRIBUTES.contains(&name) && is_of_site(url)
    }

    /// The canonical hash of a URL in an attribute; `None` for other attributes.
    pub fn canonical(&self, here: &Here, name: &[u8], url: &[u8]) -> Option<u64> {
        if !self.known || !ATTRIBUTES.contains(&name) {
            return None;
        }
        let place = here.place(url)?;
        Some(self.usual.get(&place).copied().unwrap_or_else(|| spelling(url)))
    }
}

/// Whether a URL may lead to a place within the site.
fn is_of_site(url: &[u8]) -> bool {
    let scheme = url.iter().position(|b| !b.is_ascii_alphanumeric()).is_some_and(|at| url[at] == b':');
    !scheme && !url.starts_with(b"//") && url.first().is_some_and(|first| !b"#?{[(<".contains(first))
}

fn spelling(url: &[u8]) -> u64 {
    xxh3_64_with_seed(url, 5)
}

/// The URLs in the attributes of a source.
fn written(source: &[u8]) -> impl Iterator<Item = &[u8]> {
    ATTRIBUTES.into_iter().flat_map(move |name| {
        memchr::memmem::find_iter(source, name).filter_map(move |at| {
            let rest = source.get(at + name.len()..)?;
            let [b'=', quote @ (b'"' | b'\''), url @ ..] = rest else { return None };
            Some(&url[..memchr::memchr(*quote, &url[..url.len().min(500)])?])
        })
    })
}

/// URLs of more parts are known by their spelling alone.
const MOST_PARTS: usize = 32;

/// The folder that URLs are told from.
pub(in crate::repeats) struct Here {
    /// Hashes of its parts; `None` if it has too many.
    parts: Option<Parts>,
}

type Parts = ([u64; MOST_PARTS], usize);

impl Here {
    /// The folder of a file.
    pub fn of(path: &str) -> Self {
        Self { parts: along(([0; MOST_PARTS], 0), folder(path).as_bytes()) }
    }

    /// The place within the site that a URL points to; `None` if it leads out or is none of a file.
    fn place(&self, url: &[u8]) -> Option<u64> {
        if !is_of_site(url) {
            return None;
        }
        let from = if url.starts_with(b"/") { ([0; MOST_PARTS], 0) } else { self.parts? };
        let (parts, count) = along(from, url)?;
        Some(parts[..count].iter().fold(6, |hash, part| crate::hash::mix(hash, *part)))
    }
}

/// The place that a path leads to from a place.
fn along((mut parts, mut count): Parts, path: &[u8]) -> Option<Parts> {
    for part in path.split(|&b| b == b'/') {
        match part {
            b"" | b"." => {}
            b".." => count = count.checked_sub(1)?,
            _ => {
                *parts.get_mut(count)? = xxh3_64(part);
                count += 1;
            }
        }
    }
    Some((parts, count))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect::builtin;
    use crate::site::{Settings, SourceFile};

    #[test]
    fn urls_are_equal_by_spelling_or_by_place() {
        let page = |path: &str, url: &str| SourceFile::new(path, format!("<a href=\"{url}\">x</a>"));
        let files = vec![
            page("a.html", "css/x.css"),
            page("b.html", "css/x.css"),
            page("d/c.html", "../css/x.css"),
            page("e/f.html", "g.html"),
            page("h/f.html", "g.html"),
        ];
        let urls = Urls::collect(&Site::read(files, builtin(), &Settings::default()));
        let known = |path: &str, url: &str| urls.canonical(&Here::of(path), b"href", url.as_bytes());
        assert_eq!(known("a.html", "css/x.css"), known("d/c.html", "../css/x.css"));
        assert_eq!(known("e/f.html", "g.html"), known("h/f.html", "g.html"));
        assert_ne!(known("a.html", "css/x.css"), known("a.html", "css/y.css"));
        assert_eq!(known("a.html", "mailto:x"), None);
    }
}
