//! `open`: a stretch of a layout becomes a named block with this content as its default.

use super::{Step, StepError, finish, refuse};
use crate::dialect::Part;
use crate::edit::Edits;
use crate::markup::ALONE;
use crate::prove::Strength;
use crate::resolve::Resolver;
use crate::site::{Parent, Site, Template};
use crate::text::{SourceId, Span};

/// Makes a stretch of a template a block, so that children may override it. Every page stays as
/// it is.
///
/// # Errors
/// If the stretch cuts a tag or a pair in two, the dialect has no blocks, or the name is taken in
/// the template, above it or below it.
pub fn open(site: &Site, id: SourceId, span: Span, name: &str) -> Result<Step, StepError> {
    let template = site.get(id);
    whole_tags(template, span)?;
    let resolver = Resolver::new(site);
    let relatives = (0..site.templates.len() as u32).map(SourceId).filter(|&other| {
        let below = matches!(site.parent(other), Parent::Found { .. }) && resolver.chain(other).levels.contains(&id);
        other == id || below || resolver.chain(id).levels.contains(&other)
    });
    for other in relatives {
        let other = site.get(other);
        let known =
            other.blocks().chain(other.regions()).any(|(_, item)| item.name.of(&other.source) == name.as_bytes());
        if known {
            return refuse(format!("{} has a block `{name}` already", other.path));
        }
    }
    let Some((before, after)) = template.dialect.block_tags(name, true) else {
        return refuse(format!(
            "{} is written in {}, which has no blocks with content",
            template.path, template.dialect.name
        ));
    };
    let mut edits = Edits::default();
    edits.replace(template.path.clone(), Span::new(span.start, span.start), before);
    edits.replace(template.path.clone(), Span::new(span.end, span.end), after);
    finish(site, format!("make {} bytes of {} the block `{name}`", span.len(), template.path), edits, Strength::Blanks)
}

/// Refuses a stretch that cuts a tag, or a pair of tags, in two.
pub(super) fn whole_tags(template: &Template, span: Span) -> Result<(), StepError> {
    let inside = |offset: u32| (span.start..span.end).contains(&offset);
    let items = &template.constructs.items;
    for item in items.iter().filter(|item| item.part != Part::Attribute && !item.span.is_empty()) {
        let cut = inside(item.span.start) != inside(item.span.end - 1);
        let partner = items.get(item.partner as usize).filter(|_| item.partner != ALONE);
        let torn = partner.is_some_and(|partner| inside(partner.span.start) != inside(item.span.start));
        if cut || torn {
            let shown = item.span.text(&template.source);
            return Err(StepError::Refused(
                template.problem(item.span.start, format!("the stretch holds only half of `{shown}`")).to_string(),
            ));
        }
    }
    Ok(())
}
