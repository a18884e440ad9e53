//! Random steps on random sites.

use radicon::markup::{Document, NodeId, NodeKind};
use radicon::site::Role;
use radicon::steps::{Extraction, StepError};
use radicon::text::{SourceId, Span};
use radicon::{Site, Step};

use super::Random;

/// A random template.
pub fn any(site: &Site, random: &mut Random) -> SourceId {
    SourceId(random.below(site.templates.len()) as u32)
}

/// The stretch of a random element of a template.
pub fn element(site: &Site, id: SourceId, random: &mut Random) -> Option<Span> {
    let template = site.get(id);
    let document = Document::with_constructs(&template.source, template.constructs.clone());
    let elements: Vec<NodeId> =
        NodeId::all(document.nodes.len()).filter(|&node| document.nodes[node].kind == NodeKind::Element).collect();
    (!elements.is_empty()).then(|| document.span(elements[random.below(elements.len())]))
}

/// The name of a random block of a template.
pub fn block(site: &Site, id: SourceId, random: &mut Random) -> Option<String> {
    let template = site.get(id);
    let names: Vec<String> = template
        .blocks()
        .chain(template.regions())
        .map(|(_, item)| item.name.text(&template.source).into_owned())
        .collect();
    (!names.is_empty()).then(|| names[random.below(names.len())].clone())
}

/// An extraction without values.
pub fn whole(name: String, all: bool) -> Extraction {
    Extraction { name, all, ..Extraction::default() }
}

/// A random step, and the word for it.
pub fn random_step(site: &Site, random: &mut Random) -> Option<(&'static str, Result<Step, StepError>)> {
    let id = any(site, random);
    let layouts: Vec<SourceId> = site.ids().filter(|&id| site.get(id).role == Role::Layout).collect();
    let layout = if layouts.is_empty() { id } else { layouts[random.below(layouts.len())] };
    let name = format!("new-{}", random.below(1_000_000));
    Some(match random.below(9) {
        0 => {
            ("extract", radicon::steps::extract(site, id, element(site, id, random)?, &whole(name, random.once_in(2))))
        }
        1 => ("inline", radicon::steps::inline(site, id)),
        2 => ("open", radicon::steps::open(site, id, element(site, id, random)?, &name)),
        3 => ("rename", radicon::steps::rename(site, id, &block(site, id, random)?, &name)),
        4 => ("pull-up", radicon::steps::pull_up(site, layout, &block(site, layout, random)?)),
        5 => ("push-down", radicon::steps::push_down(site, layout, &block(site, layout, random)?)),
        6 => ("reorder", radicon::steps::reorder(site, &[id])),
        7 => ("default-layout", radicon::steps::default_layout(site, "")),
        _ => ("collapse", radicon::steps::collapse(site, layout)),
    })
}
