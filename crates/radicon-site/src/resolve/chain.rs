//! Chains, and which definition of a block wins.

use super::MAX_LEVELS;
use crate::markup::ConstructId;
use crate::site::{Missing, Parent, Problem, ProblemKind, Site};
use crate::text::SourceId;

/// One definition of a block: the opening tag's index among a template's constructs.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Definition {
    /// The template.
    pub source: SourceId,
    /// Index of the block's opening tag.
    pub construct: ConstructId,
}

/// Why a chain ends before its base.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Break {
    /// The parent's name is an expression.
    Dynamic,
    /// The parent was not found.
    Missing(Missing),
    /// The parents form a cycle.
    Cycle(Vec<SourceId>),
    /// There are more than [`MAX_LEVELS`].
    TooLong,
}

/// A template, its parent, and so on up to the base, with the blocks they define.
#[derive(Clone, Debug)]
pub struct Chain {
    /// The levels, the template itself first.
    pub levels: Vec<SourceId>,
    /// Why it ends too early, if it does; the last level is where.
    pub broken: Option<Break>,
}

impl Chain {
    pub(super) fn build(site: &Site, id: SourceId) -> Self {
        let mut levels = vec![id];
        let mut at = id;
        let broken = loop {
            let parent = match site.parent(at) {
                Parent::None | Parent::OptedOut => break None,
                Parent::Dynamic => break Some(Break::Dynamic),
                Parent::Missing(missing) => break Some(Break::Missing(missing.clone())),
                Parent::Found { id, .. } => *id,
            };
            if let Some(start) = levels.iter().position(|&level| level == parent) {
                break Some(Break::Cycle(levels[start..].to_vec()));
            }
            if levels.len() >= MAX_LEVELS {
                break Some(Break::TooLong);
            }
            levels.push(parent);
            at = parent;
        };
        Self { levels, broken }
    }

    /// The definitions of a block, the most derived first.
    pub fn definitions(&self, site: &Site, name: &[u8]) -> Vec<Definition> {
        let at = |&source: &SourceId| Some(Definition { source, construct: site.get(source).definition(name)? });
        self.levels.iter().filter_map(at).collect()
    }

    /// The base: the last level.
    pub fn base(&self) -> SourceId {
        *self.levels.last().unwrap_or(&SourceId(0))
    }

    /// The problem with it, if there is one.
    pub fn problem(&self, site: &Site) -> Option<Problem> {
        let broken = self.broken.as_ref()?;
        let template = site.get(self.base());
        let parent = template.parent()?;
        let written = parent.target.text(&template.source);
        let message = match broken {
            Break::Dynamic if !parent.dynamic => {
                "its parent is chosen when the page is rendered; the chain ends here".into()
            }
            Break::Dynamic => format!("the parent `{written}` is an expression; the chain ends here"),
            Break::Missing(_) if written.is_empty() => {
                let tag = parent.span.text(&template.source);
                format!("`{tag}` names the file of the same name in the next root, and there is none")
            }
            Break::Missing(Missing::NotFound(tried)) if tried.contains(&template.path) => {
                format!("`{written}` names itself, and no root after its own has such a file")
            }
            Break::Missing(missing) => describe_missing(&written, missing),
            Break::Cycle(round) => {
                let names: Vec<_> = round.iter().chain(round.first()).map(|&id| site.get(id).path.as_str()).collect();
                format!("the parents form a cycle: {}", names.join(" -> "))
            }
            Break::TooLong => format!("the chain has more than {MAX_LEVELS} levels"),
        };
        let kind = match broken {
            Break::Dynamic => ProblemKind::Reference,
            Break::Missing(_) | Break::Cycle(_) => ProblemKind::Broken,
            Break::TooLong => ProblemKind::Unfollowed,
        };
        Some(template.problem_of(kind, parent.span.start, message))
    }
}

/// In plain words what was looked for and where.
pub fn describe_missing(written: &str, missing: &Missing) -> String {
    match missing {
        Missing::Outside => format!("`{written}` is outside the site"),
        Missing::NotFound(tried) if tried.is_empty() => format!("no template `{written}`"),
        Missing::NotFound(tried) => {
            format!("no template `{written}`; looked for {}", tried.join(", "))
        }
    }
}
