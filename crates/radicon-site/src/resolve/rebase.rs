//! Relative URLs of a flattened page that other files gave it, rewritten for the page's folder.

use rustc_hash::FxHashMap;

use super::Flat;
use super::flat::Stretch;
use super::names::Kept;
use crate::dialect::Urls;
use crate::markup::Constructs;
use crate::site::Site;
use crate::text::{SourceId, Span};
use crate::urls::{self, Folder, Rewrite};

/// The URLs of a flattened page: where each is in it, and the one place that it comes from. What several
/// places say together is no URL of one of them.
pub fn attributed(site: &Site, page: SourceId, flat: &Flat) -> Vec<(Span, Stretch)> {
    let constructs = Constructs::read(&flat.bytes, &site.get(page).dialect);
    let origin = |url: Span| {
        let next = flat.stretches.partition_point(|stretch| stretch.at <= url.start);
        let stretch = flat.stretches[next.checked_sub(1)?];
        let end = flat.stretches.get(next).map_or(flat.bytes.len() as u32, |after| after.at);
        // A URL that was rewritten is a stretch of its own, of another length than there.
        let is_all = (stretch.at, end) == (url.start, url.end);
        let whole = if is_all { Some(stretch) } else { part(&stretch, url.start, url.end) };
        whole.filter(|_| url.end <= end).map(|stretch| (url, stretch))
    };
    urls::find(&flat.bytes, &constructs).into_iter().filter_map(origin).collect()
}

/// Rewrites the URLs that other files gave a page, where the page's dialect says so.
pub(super) fn rebase(site: &Site, page: SourceId, flat: &mut Flat, kept: &mut [Kept]) {
    let template = site.get(page);
    let is_own = |stretch: &Stretch| stretch.source == page;
    if template.dialect.rules.urls != Urls::Rebased || flat.stretches.iter().all(is_own) {
        return;
    }
    let here = Folder::of(&template.path);
    let mut folders: FxHashMap<SourceId, Folder> = FxHashMap::default();
    let mut changes: Vec<Rewrite<'_>> = Vec::new();
    for (url, Stretch { source, .. }) in attributed(site, page, flat) {
        if source == page {
            continue;
        }
        let folder = folders.entry(source).or_insert_with(|| Folder::of(&site.get(source).path));
        let written = url.of(&flat.bytes);
        let printed = folder.printed(written, &here);
        if *printed != *written {
            changes.push((url.range(), printed.into_owned().into()));
        }
    }
    if changes.is_empty() {
        return;
    }
    let bytes = urls::replaced(&flat.bytes, &changes);
    // Where a place of the page is now; what is within a URL begins with it.
    let mut ends: Vec<(u32, i64)> = vec![(0, 0)];
    for (range, url) in &changes {
        let shift = ends[ends.len() - 1].1 + url.len() as i64 - range.len() as i64;
        ends.push((range.end as u32, shift));
    }
    let moved = |at: u32| {
        let (_, shift) = ends[ends.partition_point(|(end, _)| *end <= at).saturating_sub(1)];
        (i64::from(at) + shift) as u32
    };
    let mut stretches: Vec<Stretch> = Vec::with_capacity(flat.stretches.len() + 2 * changes.len());
    let mut next = changes.iter().peekable();
    for (index, stretch) in flat.stretches.iter().enumerate() {
        let end = flat.stretches.get(index + 1).map_or(flat.bytes.len() as u32, |next| next.at);
        let mut from = stretch.at;
        // A URL begins a stretch of its own, and so does what follows.
        while let Some((range, _)) = next.next_if(|(range, _)| (range.start as u32) < end) {
            for cut in [range.start as u32, range.end as u32] {
                stretches.extend(part(stretch, from, cut).map(|part| Stretch { at: moved(from), ..part }));
                from = cut;
            }
        }
        stretches.extend(part(stretch, from, end).map(|part| Stretch { at: moved(from), ..part }));
    }
    kept.iter_mut().for_each(|kept| kept.at = moved(kept.at));
    flat.bytes = bytes;
    flat.stretches = stretches;
}

/// A part of a stretch, from one place of the page to another.
fn part(stretch: &Stretch, from: u32, to: u32) -> Option<Stretch> {
    let at = |place: u32| (stretch.span.start + (place - stretch.at)).min(stretch.span.end);
    (from < to).then(|| Stretch { span: Span::new(at(from), at(to)), ..*stretch })
}
