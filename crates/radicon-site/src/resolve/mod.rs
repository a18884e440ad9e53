//! Chains of parents, the blocks they define, and finished pages from them.

mod arguments;
mod chain;
mod flat;
mod flatten;
mod names;
mod rebase;
mod report;
mod scope;
mod source_map;

pub use arguments::{Arguments, Binding, mentions, quoted};
pub use chain::describe_missing;
pub use chain::{Break, Chain, Definition};
pub use flat::block_name;
pub use flat::{Flat, FlatReport, FlattenError, Origin, OriginLine, Stretch, Via};
pub use flatten::Proving;
pub use names::{Behind, Kept, ProofContext, Reached, bound_by};
pub use rebase::attributed;
pub use report::{BlockReport, BlockState, BlockUse, ChainBlock, ChainLevel, ChainReport, DefinitionReport, Lost};
pub use report::{loose, outside};
pub use scope::{Given, is_name, is_path, printed};
pub use source_map::SourceMap;

use rayon::prelude::*;
use rustc_hash::FxHashSet;

use crate::site::{Parent, Site, Template};
use crate::text::SourceId;

/// The most levels of a chain.
pub const MAX_LEVELS: usize = 1_000;

/// The most blocks, includes and inherited contents inside each other.
pub const MAX_NESTING: usize = 200;

/// The most bytes of one flattened page.
pub const MAX_PAGE: usize = 128 << 20;

/// The most blocks and includes that are spliced into one page.
pub const MAX_SPLICES: usize = 200_000;

/// Resolves the templates of a site.
#[derive(Clone, Copy, Debug)]
pub struct Resolver<'s> {
    site: &'s Site,
}

impl<'s> Resolver<'s> {
    /// A resolver for a site.
    pub const fn new(site: &'s Site) -> Self {
        Self { site }
    }

    /// The chain of a template: itself, its parent, and so on up to the base.
    pub fn chain(&self, id: SourceId) -> Chain {
        Chain::build(self.site, id)
    }

    /// The templates that one takes its frame or content from by name.
    pub fn named(&self, id: SourceId) -> Vec<SourceId> {
        let parent = match self.site.parent(id) {
            Parent::Found { id, .. } => Some(*id),
            _ => None,
        };
        let targets = self.site.links(id).targets().filter_map(|(_, target)| target.as_ref().ok().copied());
        parent.into_iter().chain(targets).collect()
    }

    /// The templates that a page is made of, itself first.
    pub fn reached(&self, page: SourceId) -> Vec<SourceId> {
        let mut seen: FxHashSet<SourceId> = FxHashSet::default();
        let mut found = Vec::new();
        let mut open = vec![page];
        while let Some(id) = open.pop() {
            if seen.insert(id) {
                found.push(id);
                let links = self.site.links(id);
                open.extend(self.named(id));
                open.extend(links.before.iter().chain(&links.after));
            }
        }
        found
    }

    /// A template, and all above it and below it.
    pub fn family(&self, id: SourceId) -> impl Iterator<Item = &'s Template> {
        let (resolver, levels) = (*self, self.chain(id).levels);
        let is_near = move |other: SourceId| levels.contains(&other) || resolver.chain(other).levels.contains(&id);
        self.site.with_ids().filter(move |(other, _)| is_near(*other)).map(|(_, template)| template)
    }

    /// Every page put together, in order of their paths.
    ///
    /// # Errors
    /// If one of them grows beyond [`MAX_PAGE`] or [`MAX_SPLICES`].
    pub fn flatten_all(&self) -> Result<Vec<(SourceId, Flat)>, FlattenError> {
        let pages: Vec<SourceId> = self.site.pages().collect();
        pages.into_par_iter().map(|id| Ok((id, self.flatten(id)?))).collect()
    }

    /// A finished page for a proof: without tags that print nothing, but with what the names in all tags
    /// that stay reach, and with the blocks that expressions name.
    pub(crate) fn flatten_to_prove(
        &self,
        id: SourceId,
        proving: Proving<'s>,
    ) -> Result<(Flat, Vec<Kept>), FlattenError> {
        flatten::flatten(self.site, id, Some(proving))
    }

    /// The page put together from its chain and partials, dynamic constructs kept.
    ///
    /// # Errors
    /// If it grows beyond [`MAX_PAGE`] or [`MAX_SPLICES`].
    pub fn flatten(&self, id: SourceId) -> Result<Flat, FlattenError> {
        flatten::flatten(self.site, id, None).map(|(flat, _)| flat)
    }
}
