//! A copy of a site in which relative URLs start at the site's root.
//!
//! Where a dialect rewrites relative URLs for each page, what moves from one file to another is worked out in such
//! a copy: pages of different folders say the same alike there, and a page's own content may become a layout's.
//! Each URL is between two marks, so what is written can be brought back to the folders of its files.

use rayon::prelude::*;

use crate::dialect::Urls;
use crate::resolve::{Resolver, attributed};
use crate::site::{Parent, Role, Site, SourceFile, Template};
use crate::text::{SourceId, Span};
use crate::urls::{self, Folder, Rewrite};

/// Before a URL, and after it: control characters that markup may not hold.
const OPENS: u8 = 0x02;
const CLOSES: u8 = 0x03;

/// The copy of a site. Its ids are those of the site.
pub(crate) fn rooted(site: &Site) -> Site {
    let in_pages = in_pages(site);
    let file = |(at, template): (usize, &Template)| {
        let own = &in_pages[in_pages.partition_point(|(file, _)| file.index() < at)..];
        let own = own.iter().take_while(|(file, _)| file.index() == at).map(|(_, url)| *url);
        SourceFile::new(template.path.clone(), from_root(template, own))
    };
    let files: Vec<SourceFile> = site.templates.par_iter().enumerate().map(file).collect();
    site.rooted_with(files, &site.dialects_with(&[]))
}

/// Whether a file's URLs are, or would be, rewritten for each page.
fn is_rebased(template: &Template) -> bool {
    template.unreadable.is_none() && (template.dialect.forms.is_empty() || template.dialect.rules.urls == Urls::Rebased)
}

/// URLs that are in an attribute only when a page is put together: the file that has them, and where. Sorted.
fn in_pages(site: &Site) -> Vec<(SourceId, Span)> {
    let children: Vec<SourceId> = site.pages().filter(|&id| matches!(site.parent(id), Parent::Found { .. })).collect();
    let of_page = |&id: &SourceId| {
        let flat = Resolver::new(site).flatten(id).unwrap_or_default();
        let urls = attributed(site, id, &flat).into_iter();
        urls.map(|(_, stretch)| (stretch.source, stretch.span)).collect::<Vec<_>>()
    };
    let mut found: Vec<(SourceId, Span)> = children.par_iter().flat_map_iter(of_page).collect();
    found.sort_unstable_by_key(|(file, url)| (*file, url.start, url.end));
    found.dedup();
    found
}

/// A file's text with its URLs from the root, between marks.
fn from_root(template: &Template, in_pages: impl Iterator<Item = Span>) -> Vec<u8> {
    let source = &template.source;
    if !is_rebased(template) {
        return source.to_vec();
    }
    let mut found = urls::find(source, &template.constructs);
    found.extend(in_pages);
    found.sort_unstable_by_key(|url| (url.start, url.end));
    found.dedup_by(|next, url| next.start < url.end);
    let (here, root) = (Folder::of(&template.path), Folder::default());
    let change = |url: Span| {
        let text = url.of(source);
        let said = if template.role == Role::Page { here.written(text, &root) } else { here.moved(text, &root) };
        // What is the same in every folder needs no marks.
        let is_moved = *said != *text || root.written(text, &Folder::of("a/b")) != text;
        is_moved.then(|| (url.range(), [&[OPENS], &*said, &[CLOSES]].concat().into()))
    };
    let changes: Vec<_> = found.into_iter().filter_map(change).collect();
    urls::replaced(source, &changes)
}

/// A path as a URL of such a copy.
pub(crate) fn marked(path: &str) -> String {
    let url = Folder::default().path(path);
    let (opens, closes) = (char::from(OPENS), char::from(CLOSES));
    format!("{opens}{url}{closes}")
}

/// The text of a file of such a copy, in a role, with its URLs from its own folder and without marks.
pub(crate) fn unrooted(path: &str, role: Role, text: &[u8]) -> Vec<u8> {
    urls::replaced(text, &from_folder(path, role, text))
}

/// The place in a copy of a file of a place in that file.
pub(crate) fn place_in(copy: &Template, offset: u32) -> u32 {
    let mut shift = 0_i64;
    for (range, url) in from_folder(&copy.path, copy.role, &copy.source) {
        if i64::from(offset) + shift <= range.start as i64 {
            break;
        }
        shift += range.len() as i64 - url.len() as i64;
    }
    (i64::from(offset) + shift) as u32
}

fn from_folder<'t>(path: &str, role: Role, text: &'t [u8]) -> Vec<Rewrite<'t>> {
    let (here, root) = (Folder::of(path), Folder::default());
    let mut changes = Vec::new();
    let mut at = 0;
    while let Some(open) = memchr::memchr(OPENS, &text[at..]).map(|found| at + found) {
        let Some(close) = memchr::memchr(CLOSES, &text[open..]).map(|found| open + found) else { break };
        let url = &text[open + 1..close];
        changes.push((
            open..close + 1,
            if role == Role::Page { root.printed(url, &here) } else { root.moved(url, &here) },
        ));
        at = close + 1;
    }
    changes
}

/// A text for people, without marks.
pub(crate) fn unmarked(text: &str) -> String {
    text.replace([char::from(OPENS), char::from(CLOSES)], "")
}
