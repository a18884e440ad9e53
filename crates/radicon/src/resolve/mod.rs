//! Chains of parents, the blocks they define, and pages put together from them.

mod arguments;
mod chain;
mod flat;
mod flatten;
mod map;
mod names;
mod rebase;
mod report;
mod scope;

pub(crate) use arguments::{Arguments, Binding, mentions};
pub(crate) use chain::describe_missing;
pub use chain::{Break, Chain, Definition};
pub(crate) use flat::block_name;
pub use flat::{Flat, FlatReport, FlattenError, Origin, OriginLine, Stretch, Via};
pub use map::SourceMap;
pub(crate) use names::{Behind, Kept, ProofContext, Reached, bound_by};
pub(crate) use rebase::attributed;
pub use report::{BlockReport, BlockState, BlockUse, ChainBlock, ChainLevel, ChainReport, DefinitionReport, Lost};
pub(crate) use report::{loose, outside};

use rayon::prelude::*;

use crate::site::Site;
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

    /// Every page put together, in order of their paths.
    ///
    /// # Errors
    /// If one of them grows beyond [`MAX_PAGE`] or [`MAX_SPLICES`].
    pub fn flatten_all(&self) -> Result<Vec<(SourceId, Flat)>, FlattenError> {
        let pages: Vec<SourceId> = self.site.pages().collect();
        pages.into_par_iter().map(|id| Ok((id, self.flatten(id)?))).collect()
    }

    /// A page put together for a proof: without tags that print nothing, but with what the names in all tags
    /// that stay reach.
    pub(crate) fn flatten_to_prove(
        &self,
        id: SourceId,
        context: &ProofContext,
    ) -> Result<(Flat, Vec<Kept>), FlattenError> {
        flatten::flatten(self.site, id, Some(context).filter(|context| !context.is_empty()))
    }

    /// The page put together from its chain and partials, dynamic constructs kept.
    ///
    /// # Errors
    /// If it grows beyond [`MAX_PAGE`] or [`MAX_SPLICES`].
    pub fn flatten(&self, id: SourceId) -> Result<Flat, FlattenError> {
        flatten::flatten(self.site, id, None).map(|(flat, _)| flat)
    }
}
