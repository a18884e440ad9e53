//! `reorder`: overrides in the order in which the layout has its blocks.

use super::{Step, StepError, finish};
use crate::dialect::Loose;
use crate::edit::Edits;
use crate::markup::{Construct, ConstructId};
use crate::prove::Strength;
use crate::resolve::Resolver;
use crate::site::{Parent, Site};
use crate::text::{SourceId, Span};

/// Overrides put into order.
pub(crate) struct Reordered {
    /// The tag of the first one that came too late.
    pub late: ConstructId,
    /// The tag of the first one before which it belongs.
    pub before: ConstructId,
    /// The edits that put them into order.
    pub edits: Edits,
}

/// Puts the overrides of templates into the order of their layouts. Every page stays as it is,
/// byte for byte.
///
/// # Errors
/// If all are in order ([`StepError::Nothing`]), or what else they hold makes the order count.
pub fn reorder(site: &Site, templates: &[SourceId]) -> Result<Step, StepError> {
    let mut edits = Edits::default();
    let mut files = 0;
    for reordered in templates.iter().filter_map(|&id| reordered(site, id)) {
        files += 1;
        edits.extend(reordered.edits);
    }
    if files == 0 {
        return Err(StepError::Nothing("all blocks are in the order of their layouts".into()));
    }
    finish(site, format!("put the blocks of {files} files into the order of their layouts"), edits, Strength::Bytes)
}

/// The edits that put the overrides of one template into order; none if they are, or if their
/// order counts.
pub(crate) fn reordered(site: &Site, id: SourceId) -> Option<Reordered> {
    let template = site.get(id);
    let ignored = matches!(template.dialect.rules.loose, Loose::Ignored | Loose::Unknown);
    let chain = Resolver::new(site).chain(id);
    if !ignored || !matches!(site.parent(id), Parent::Found { .. }) || chain.broken.is_some() {
        return None;
    }
    // Where each region is: the level from the base, and the place there.
    let rank = |item: &Construct| {
        let name = item.name.of(&template.source);
        chain.levels[1..].iter().enumerate().rev().find_map(|(level, &above)| {
            let above = site.get(above);
            let region = above.regions_named(name).next()?;
            Some((std::cmp::Reverse(level), region.0))
        })
    };
    let blocks: Vec<(ConstructId, &Construct)> =
        template.outermost().filter(|(_, item)| item.partner.is_some()).collect();
    // Blocks of different layouts have no order among each other.
    let base = blocks.iter().find_map(|(_, item)| rank(item))?.0;
    let ranked: Vec<(ConstructId, Span, ConstructId)> = blocks
        .iter()
        .filter_map(|(at, item)| {
            rank(item).filter(|rank| rank.0 == base).map(|rank| (*at, template.whole(*at), rank.1))
        })
        .collect();
    let late = ranked.windows(2).find(|pair| pair[1].2 < pair[0].2)?;
    let mut sorted = ranked.clone();
    sorted.sort_by_key(|(_, _, rank)| *rank);
    let mut edits = Edits::default();
    for ((_, place, _), (_, text, _)) in ranked.iter().zip(&sorted).filter(|(here, there)| here.1 != there.1) {
        edits.replace(template.path.clone(), *place, text.of(&template.source));
    }
    let before = ranked.iter().find(|one| one.2 > late[1].2)?;
    Some(Reordered { late: late[1].0, before: before.0, edits })
}

/// Of a template's overrides, but for those that go, the last one that comes before a block in its layouts; of those
/// of other layouts all do.
pub(super) fn last_before(site: &Site, id: SourceId, block: &[u8], gone: &[ConstructId]) -> Option<ConstructId> {
    let template = site.get(id);
    let chain = Resolver::new(site).chain(id);
    let rank = |name: &[u8]| {
        chain.levels[1..].iter().enumerate().rev().find_map(|(level, &above)| {
            let above = site.get(above);
            let region = above.regions_named(name).next()?;
            Some((level, region.0))
        })
    };
    let (level, place) = rank(block)?;
    let is_before = |(_, item): &(ConstructId, &Construct)| {
        rank(item.name.of(&template.source)).is_none_or(|(other, at)| other != level || at < place)
    };
    let blocks: Vec<(ConstructId, &Construct)> =
        template.outermost().filter(|(_, item)| item.partner.is_some()).collect();
    let behind = blocks.iter().position(|block| !is_before(block)).unwrap_or(blocks.len());
    blocks[..behind].iter().map(|(at, _)| *at).rfind(|at| !gone.contains(at))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::steps::testing::{at, becomes, refused};

    #[test]
    fn overrides_take_the_order_of_the_layout() {
        let base = ("base.html", "{% block a %}{% endblock %}{% block b %}{% endblock %}{% block c %}{% endblock %}");
        let page = (
            "p.html",
            "{% extends 'base.html' %}\n{% block c %}3{% endblock %}\n\n{% block a %}1{% endblock %}\n{% block b %}2{% endblock %}\n",
        );
        let sorted = "{% extends 'base.html' %}\n{% block a %}1{% endblock %}\n\n{% block b %}2{% endblock %}\n{% block c %}3{% endblock %}\n";
        becomes(&[base, page], |site| reorder(site, &[at(site, "p.html")]), &[("p.html", Some(sorted))]);
        refused(&[base, ("p.html", sorted)], |site| reorder(site, &[at(site, "p.html")]), "nothing to do");
    }
}
