//! What a proposal is made from: the site, the dialect to write, and the dials of this attempt.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use rayon::prelude::*;

use super::options::ProposeOptions;
use super::pages::page::Page;
use super::pages::spelling::Spelling;
use super::partials::copies::{self, Pattern};
use super::proposal::{Size, size};
use crate::dialect::{ByteOrderMark, Dialect, Urls};
use crate::markup::Document;
use crate::site::{Site, Template};
use crate::text::{BYTE_ORDER_MARK, SourceId};

/// One attempt to propose in one dialect.
#[derive(Clone)]
pub struct Job<'s> {
    pub site: &'s Site,
    /// The site as it is, if `site` is a copy whose URLs start at the root.
    pub actual: Option<&'s Site>,
    pub options: &'s ProposeOptions,
    pub dialect: Arc<Dialect>,
    /// The cost of a block in this attempt, in bytes.
    pub price: u64,
    /// Blocks are cut as fine as size asks: to compare pages, or where nothing else makes them smaller.
    pub fine: bool,
    /// Whether what most pages have alike may be a default with blocks of its own.
    pub nested_defaults: bool,
    /// Partials that are known from an attempt before: what would be one stays together.
    pub partials: Arc<[Pattern]>,
    /// How tags are written, where that does not count.
    pub spelling: Option<Arc<Spelling>>,
    /// The paths of the changes that were chosen, if not all are.
    pub only: Option<Arc<BTreeSet<String>>>,
    /// Files of which nobody knows what is made of them, with the reason.
    pub unknown: Arc<BTreeMap<SourceId, String>>,
}

impl<'s> Job<'s> {
    /// The site as it is.
    pub fn actual(&self) -> &'s Site {
        self.actual.unwrap_or(self.site)
    }

    /// The same job for another dialect: where that keeps URLs, it is for the site as it is.
    pub fn in_dialect(&self, dialect: &Arc<Dialect>) -> Self {
        let dialect = Arc::clone(dialect);
        match dialect.rules.urls {
            Urls::Rebased => Job { dialect, ..self.clone() },
            Urls::Kept | Urls::Unknown => Job { dialect, site: self.actual(), actual: None, ..self.clone() },
        }
    }

    pub fn size(&self) -> Size {
        size(self.actual().templates.iter().map(|template| &template.source[..]))
    }

    /// These pages, ready for comparison.
    pub fn read(&self, pages: &[SourceId]) -> Vec<Page> {
        let read = |&id: &SourceId| {
            let template = self.site.get(id);
            self.page_from(template, &template.dialect, self.site.own_head(id))
        };
        let mut pages: Vec<Page> = pages.par_iter().map(read).collect();
        if !self.partials.is_empty() {
            copies::mark(&mut pages, &self.partials);
        }
        pages
    }

    /// A page, read in a dialect.
    pub fn page(&self, template: &Template, dialect: &Dialect) -> Page {
        self.page_from(template, dialect, 0)
    }

    /// A page, read in a dialect; what it sets for itself in so many bytes at its top is kept apart.
    pub fn page_from(&self, template: &Template, dialect: &Dialect, head: usize) -> Page {
        let own_mark = self.dialect.rules.byte_order_mark == ByteOrderMark::Page;
        let mark = if own_mark && template.source.starts_with(BYTE_ORDER_MARK) { BYTE_ORDER_MARK.len() } else { 0 };
        let (own, rest) = template.source.split_at(head.max(mark));
        let source = match &self.spelling {
            Some(spelling) => Arc::new(spelling.apply(rest, dialect)),
            None if own.is_empty() => Arc::clone(&template.source),
            None => Arc::new(rest.to_vec()),
        };
        let document = Document::read(&source, dialect);
        let mut page = Page::of(template.path.clone(), source, document, self.options.strength);
        (page.mark, page.head) = (mark > 0, own[mark..].to_vec());
        page
    }

    /// Whether a template is not to be changed.
    pub fn keeps_as_it_is(&self, path: &str) -> bool {
        self.options.keep_out(path) || self.site.is_vendored(path)
    }

    /// The job's dialect, and those of the site.
    pub fn dialects(&self) -> Vec<Arc<Dialect>> {
        self.site.dialects_with(std::slice::from_ref(&self.dialect))
    }
}
