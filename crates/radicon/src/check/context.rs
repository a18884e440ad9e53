//! What the rules know of a site.

use std::sync::OnceLock;

use rustc_hash::FxHashMap;

use crate::dialect::{Kind, Part};
use crate::markup::{Construct, ConstructId, Document};
use crate::repeats::Repeats;
use crate::resolve::{Chain, Definition, Flat, FlattenError, Resolver};
use crate::site::{Parent, Site, Template};
use crate::text::{SourceId, Span};

pub(super) struct Context<'s> {
    pub site: &'s Site,
    pub resolver: Resolver<'s>,
    /// Its repeats with the usual options, if they are known.
    pub repeats: Option<&'s Repeats>,
    users: OnceLock<Vec<Vec<SourceId>>>,
}

impl<'s> Context<'s> {
    pub fn new(site: &'s Site, repeats: Option<&'s Repeats>) -> Self {
        Self { site, resolver: Resolver::new(site), repeats, users: OnceLock::new() }
    }

    pub fn ids(&self) -> impl Iterator<Item = SourceId> + use<> {
        self.site.ids()
    }

    /// Every template with its id.
    pub fn templates(&self) -> impl Iterator<Item = (SourceId, &'s Template)> {
        let site = self.site;
        self.ids().map(move |id| (id, site.get(id)))
    }

    /// Every template that extends another one, with its chain, where all of it is known.
    pub fn children(&self) -> impl Iterator<Item = (SourceId, &'s Template, Chain)> {
        let (site, resolver) = (self.site, self.resolver);
        let child = move |(id, template): (SourceId, &'s Template)| {
            matches!(site.parent(id), Parent::Found { .. }).then(|| (id, template, resolver.chain(id)))
        };
        self.templates().filter_map(child).filter(|(_, _, chain)| chain.broken.is_none())
    }

    /// The templates above the first one of a chain that have a region of this name, the nearest
    /// first, with the tag.
    pub fn regions_above(&self, chain: &Chain, name: &[u8]) -> Vec<(SourceId, ConstructId)> {
        let region = |&id: &SourceId| self.site.get(id).regions_named(name).next().map(|(at, _)| (id, at));
        chain.levels[1..].iter().filter_map(region).collect()
    }

    /// The definition of a block that the first template of a chain would replace.
    pub fn replaced(&self, chain: &Chain, name: &[u8]) -> Option<Definition> {
        let above =
            |&source: &SourceId| Some(Definition { source, construct: self.site.get(source).definition(name)? });
        chain.levels[1..].iter().find_map(above)
    }

    /// The pages that a template is part of, sorted: as itself, as a layout, or included.
    pub fn users(&self, id: SourceId) -> &[SourceId] {
        &self.users.get_or_init(|| users(self.site))[id.index()]
    }
}

/// For each template the pages whose chain or includes reach it.
fn users(site: &Site) -> Vec<Vec<SourceId>> {
    let mut users = vec![Vec::new(); site.templates.len()];
    for page in site.pages() {
        Resolver::new(site).reached(page).into_iter().for_each(|id| users[id.index()].push(page));
    }
    users
}

/// A finished page and read.
pub(super) struct PageView<'s> {
    pub id: SourceId,
    pub site: &'s Site,
    pub flat: Flat,
    pub document: Document,
}

impl<'s> PageView<'s> {
    pub fn new(site: &'s Site, id: SourceId) -> Result<Self, FlattenError> {
        let flat = Resolver::new(site).flatten(id)?;
        let document = Document::read(&flat.bytes, &site.get(id).dialect);
        Ok(Self { id, site, flat, document })
    }

    /// The place that a stretch of the page comes from.
    pub fn origin(&self, span: Span) -> (SourceId, Span) {
        let at = self.flat.stretches.partition_point(|stretch| stretch.at <= span.start).saturating_sub(1);
        let Some(stretch) = self.flat.stretches.get(at) else { return (self.id, Span::default()) };
        let start = stretch.span.start + (span.start - stretch.at).min(stretch.span.len() as u32);
        let end = (start + span.len() as u32).min(stretch.span.end.max(start));
        (stretch.source, Span::new(start, end))
    }

    /// For each condition around a place its opening tag and the branch that the place is in.
    pub fn branches(&self, offset: u32) -> FxHashMap<ConstructId, usize> {
        let items = &self.document.constructs.items;
        let mut found = FxHashMap::default();
        for (at, item) in ConstructId::each(items).take_while(|(_, item)| item.span.start < offset) {
            let is_around = item.partner.is_some_and(|closer| items[closer].span.start > offset);
            if item.kind == Kind::Control && item.part == Part::Open && is_around {
                let before = |branch: &&Construct| {
                    branch.part == Part::Branch && branch.partner == Some(at) && branch.span.start < offset
                };
                found.insert(at, items.iter().filter(before).count());
            }
        }
        found
    }
}
