//! Relative URLs of layouts and partials, as another dialect has them.

use std::collections::BTreeMap;

use rayon::prelude::*;

use crate::dialect::{Dialect, Urls};
use crate::resolve::{Resolver, Stretch, attributed};
use crate::site::{Site, SourceFile, Template};
use crate::text::{SourceId, Span};
use crate::urls::{Folder, Rewrite, replaced};

/// A URL of a shared file: where it is there.
type Place = (SourceId, u32, u32);

/// The site with the URLs of shared files written so that pages get from them in a dialect what they have now; `None`
/// if nothing changes. What pages of different folders need differently stays as it is.
pub(super) fn readdressed(site: &Site, to: &Dialect) -> Option<Site> {
    let rebases = |dialect: &Dialect| dialect.rules.urls == Urls::Rebased;
    if site.templates.iter().all(|template| rebases(&template.dialect) == rebases(to)) {
        return None;
    }
    let of_page = |&page: &SourceId| {
        let flat = Resolver::new(site).flatten(page).unwrap_or_default();
        let foreign = attributed(site, page, &flat).into_iter().filter(|(_, stretch)| stretch.source != page);
        let said = |(url, stretch): (Span, Stretch)| {
            let place = (stretch.source, stretch.span.start, stretch.span.end);
            (place, (Folder::of(&site.get(page).path), url.of(&flat.bytes).to_vec()))
        };
        foreign.map(said).collect::<Vec<_>>()
    };
    let pages: Vec<SourceId> = site.pages().collect();
    let mut shown: BTreeMap<Place, Vec<(Folder, Vec<u8>)>> = BTreeMap::new();
    for (place, said) in pages.par_iter().map(of_page).collect::<Vec<_>>().into_iter().flatten() {
        shown.entry(place).or_default().push(said);
    }
    let mut changes: BTreeMap<SourceId, Vec<Rewrite<'_>>> = BTreeMap::new();
    for (&(file, start, end), said) in &shown {
        let here = Folder::of(&site.get(file).path);
        let written = |(page, url): &(Folder, Vec<u8>)| match rebases(to) {
            true => page.written(url, &here).into_owned(),
            false => url.clone(),
        };
        let (first, shown) = (written(&said[0]), &said[0].1);
        let said_so = if said.iter().all(|page| written(page) == first) {
            Some(first)
        } else {
            // The same in all pages, though it leads elsewhere in each.
            let is_same = shown.starts_with(b"../") && said.iter().all(|(_, url)| url == shown);
            is_same.then(|| [b"./", &shown[..]].concat())
        };
        if let Some(url) = said_so {
            changes.entry(file).or_default().push((start as usize..end as usize, url.into()));
        }
    }
    let source = |(at, template): (u32, &Template)| {
        let own = changes.get(&SourceId(at)).map_or(&[][..], Vec::as_slice);
        SourceFile::new(template.path.clone(), replaced(&template.source, own))
    };
    let files: Vec<SourceFile> = (0..).zip(&site.templates).map(source).collect();
    Some(site.with_files(files, &site.dialects_with(&[])))
}
