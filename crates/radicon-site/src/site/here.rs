//! The page that a `here` means: the one that it names, or the one that the link leads to in whose tag it is.

use crate::dialect::{Kind, Part, Urls};
use crate::markup::{ConstructId, Sink, Token, TokenKind, lex};
use crate::text::{SourceId, Span, percent_decoded};

use super::{Site, Template, folder};

/// The pages that a `here` means.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Here {
    /// The page at this path.
    Page(String),
    /// The page that a folder shows by itself: its `index`.
    Index(String),
    /// All pages beneath a folder, which ends in `/`; the site's own is empty.
    Beneath(String),
}

impl Here {
    /// Whether a page, by its path, is meant.
    pub fn means(&self, page: &str) -> bool {
        match self {
            Self::Page(path) => path == page,
            Self::Index(folder) => page.strip_prefix(folder.as_str()).is_some_and(|file| {
                file.split_once('.').is_some_and(|(stem, suffix)| stem == "index" && !suffix.contains('/'))
            }),
            Self::Beneath(folder) => page.starts_with(folder.as_str()),
        }
    }

    /// Where a link leads whose URL starts at the site's root.
    pub fn of_link(url: &str) -> Option<Self> {
        Self::of(url, "", true)
    }

    /// What a URL means that is written in a folder; `None` if it leads out of the site, or to no page.
    fn of(url: &str, folder: &str, is_link: bool) -> Option<Self> {
        // Refactorings put marks around URLs that start at the root.
        let url = url.trim_matches(|c: char| c.is_control() || c == ' ');
        let path = url.split(['?', '#']).next().filter(|path| !path.is_empty())?;
        let (path, folder) = match path.strip_prefix('/') {
            Some(rest) => (rest, ""),
            None => (path, folder),
        };
        if path.contains(':') || path.starts_with('/') {
            return None;
        }
        let mut parts: Vec<&str> = folder.split('/').filter(|part| !part.is_empty()).collect();
        let is_folder = path.is_empty() || path.ends_with('/') || path.ends_with("..") || path == ".";
        for part in path.split('/') {
            match part {
                "" | "." => {}
                ".." => drop(parts.pop()?),
                part => parts.push(part),
            }
        }
        let path = percent_decoded(&parts.join("/"));
        let folder = if path.is_empty() { path.clone() } else { format!("{path}/") };
        Some(match (is_folder, is_link) {
            (false, _) => Self::Page(path),
            (true, true) => Self::Index(folder),
            (true, false) => Self::Beneath(folder),
        })
    }
}

/// For each `here` of a template the pages that it means; `None` where it means none.
pub(super) fn of_template(site: &Site, template: &Template) -> Vec<(ConstructId, Option<Here>)> {
    let items = &template.constructs.items;
    let opens: Vec<ConstructId> = ConstructId::each(items)
        .filter(|(_, item)| item.kind == Kind::Here && item.part == Part::Open)
        .map(|(at, _)| at)
        .collect();
    if opens.is_empty() {
        return Vec::new();
    }
    let is_from_root = site.is_rooted || template.dialect.rules.urls != Urls::Rebased;
    let folder = if is_from_root { "" } else { folder(&template.path) };
    let mut tags = Tags { source: &template.source, found: Vec::new(), open: None };
    lex(&template.source, &template.constructs.opaque(), &mut tags);
    let meant = |at: ConstructId| {
        let item = &items[at];
        if !item.target.is_empty() {
            return Here::of(&item.target.text(&template.source), folder, false);
        }
        let around = tags.found.iter().find(|(tag, _)| tag.start < item.span.start && item.span.end <= tag.end);
        let link = around.and_then(|(_, link)| *link)?;
        Here::of(&link.text(&template.source), folder, true)
    };
    opens.into_iter().map(|at| (at, meant(at))).collect()
}

/// The start tags of a source, each with the address of its link.
struct Tags<'s> {
    source: &'s [u8],
    found: Vec<(Span, Option<Span>)>,
    /// The tag at hand: where it begins, and its link.
    open: Option<(u32, Option<Span>)>,
}

impl Sink for Tags<'_> {
    fn token(&mut self, token: Token) {
        match token.kind {
            TokenKind::StartTag => self.open = Some((token.start, None)),
            TokenKind::Attribute => {
                let is_link = token.name().of(self.source).eq_ignore_ascii_case(b"href");
                if let Some((_, link)) = self.open.as_mut().filter(|_| is_link) {
                    *link = link.or(token.value(self.source));
                }
            }
            TokenKind::TagEnd => {
                let tag = self.open.take();
                self.found.extend(tag.map(|(start, link)| (Span::new(start, token.end), link)));
            }
            _ => {}
        }
    }
}

impl Site {
    /// For each `here` of a template the pages that it means.
    pub fn heres(&self, id: SourceId) -> &[(ConstructId, Option<Here>)] {
        &self.links[id.index()].heres
    }

    /// Whether a `here` means a page.
    pub fn is_here(&self, (source, at): (SourceId, ConstructId), page: SourceId) -> bool {
        let heres = self.heres(source);
        let found = heres.binary_search_by_key(&at, |(at, _)| *at).ok().and_then(|found| heres[found].1.as_ref());
        found.is_some_and(|here| here.means(&self.get(page).path))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_name_means_a_page_or_a_folder() {
        let folder = |name: &str| Here::Beneath(name.to_owned());
        for (url, from, is_link, expected) in [
            ("pea.html", "seeds", false, Some(Here::Page("seeds/pea.html".to_owned()))),
            ("../index.html?x#top", "seeds", true, Some(Here::Page("index.html".to_owned()))),
            ("../seeds/", "layouts", false, Some(folder("seeds/"))),
            ("../seeds/", "layouts", true, Some(Here::Index("seeds/".to_owned()))),
            ("/", "layouts", false, Some(folder(""))),
            ("..", "layouts", true, Some(Here::Index(String::new()))),
            ("a%20b.html", "", true, Some(Here::Page("a b.html".to_owned()))),
            ("../../x.html", "layouts", true, None),
            ("mailto:a@b.example", "", true, None),
            ("//c.example/", "", true, None),
            ("#top", "", true, None),
        ] {
            assert_eq!(Here::of(url, from, is_link), expected, "{url}");
        }
        assert!(folder("seeds/").means("seeds/old/pea.html") && !folder("seeds/").means("seeds.html"));
        let index = Here::Index("seeds/".to_owned());
        assert!(
            index.means("seeds/index.html") && !index.means("seeds/pea.html") && !index.means("seeds/a/index.html")
        );
    }
}
