//! `rename`: a block, along all chains in both directions.

use rustc_hash::FxHashSet;

use super::{Step, StepError, finish, refuse};
use crate::dialect::Kind;
use crate::edit::Edits;
use crate::markup::Construct;
use crate::prove::Strength;
use crate::resolve::{Resolver, mentions, quoted};
use crate::site::{Parent, Site, Template};
use crate::text::SourceId;

/// Calls a block otherwise: in the layout that has it, and in every template below that gives
/// content for it. `template` is any template that knows the block. Every page stays as it is,
/// byte for byte.
///
/// # Errors
/// If the template's chain has no such block, the new name is none, one of the chains has a
/// block of the new name already, or an expression has the old name in quotes.
pub fn rename(site: &Site, template: SourceId, old: &str, new: &str) -> Result<Step, StepError> {
    if new.is_empty() || !new.chars().all(|c| c.is_alphanumeric() || "-_.".contains(c)) {
        return refuse(format!("`{new}` is not a valid block name"));
    }
    if old == new {
        return Err(StepError::Nothing(format!("`{new}` is its name already")));
    }
    let resolver = Resolver::new(site);
    let knows = |id: SourceId| named(site.get(id), old).next().is_some();
    let Some(top) = resolver.chain(template).levels.into_iter().rev().find(|&id| knows(id)) else {
        return refuse(format!("neither {} nor a layout above it has a block `{old}`", site.get(template).path));
    };
    let below = |id: &SourceId| {
        *id == top || matches!(site.parent(*id), Parent::Found { .. }) && resolver.chain(*id).levels.contains(&top)
    };
    let family: Vec<SourceId> = site.ids().filter(below).collect();
    let above = resolver.chain(top).levels;
    let all: FxHashSet<SourceId> = family.iter().chain(&above).copied().collect();
    let mut sorted: Vec<SourceId> = all.into_iter().collect();
    sorted.sort();
    if let Some(taken) = sorted.iter().find(|id| named(site.get(**id), new).next().is_some()) {
        return refuse(format!("{} has a block `{new}` already; the two would merge", site.get(*taken).path));
    }
    let mut edits = Edits::default();
    let mut notes = Vec::new();
    let mut files = 0;
    for &id in &family {
        let template = site.get(id);
        let spans: Vec<_> = named(template, old).map(|item| item.name).collect();
        files += usize::from(!spans.is_empty());
        spans.into_iter().for_each(|span| edits.replace(template.path.clone(), span, new));
        for item in template.constructs.items.iter().filter(|item| !item.expr.is_empty() && !item.kind.defines()) {
            if quoted(item.expr.of(&template.source)).any(|text| text == old.as_bytes()) {
                let place = template.problem(item.span.start, format!("an expression may mean the block `{old}`"));
                return refuse(format!("{place}; change it by hand"));
            }
            if mentions(item.expr.of(&template.source), old.as_bytes()) {
                let what = format!("mentions `{old}`; change it too if it means the block");
                notes.push(template.problem(item.span.start, what).to_string());
            }
        }
    }
    let mut step =
        finish(site, format!("rename the block `{old}` to `{new}` in {files} files"), edits, Strength::Bytes)?;
    step.notes = notes;
    Ok(step)
}

/// The tags of regions and of content for them that bear a name, opening and closing.
fn named<'t>(template: &'t Template, name: &'t str) -> impl Iterator<Item = &'t Construct> {
    let is_region = |item: &&Construct| item.kind.defines() || matches!(item.kind, Kind::Slot | Kind::Again);
    let bears = move |item: &&Construct| item.name.of(&template.source) == name.as_bytes();
    template.constructs.items.iter().filter(is_region).filter(bears)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::steps::testing::{at, becomes, refused};

    const BASE: (&str, &str) = ("base.html", "{% block a %}{% endblock a %}{% block z %}{% endblock %}");

    #[test]
    fn a_block_is_renamed_up_and_down_the_chain() {
        let files = [
            BASE,
            ("mid.html", "{% extends 'base.html' %}{% block z %}{{ a }}{% endblock %}"),
            ("p.html", "{% extends 'mid.html' %}{% block a %}1{% endblock a %}"),
            ("other.html", "{% block a %}{% endblock %}"),
        ];
        let expected = [
            ("base.html", Some("{% block lead %}{% endblock lead %}{% block z %}{% endblock %}")),
            ("p.html", Some("{% extends 'mid.html' %}{% block lead %}1{% endblock lead %}")),
        ];
        becomes(&files, |site| rename(site, at(site, "p.html"), "a", "lead"), &expected);
        becomes(&files, |site| rename(site, at(site, "base.html"), "a", "lead"), &expected);
    }

    #[test]
    fn two_blocks_never_become_one() {
        let files =
            [BASE, ("p.html", "{% extends 'base.html' %}{% block a %}{% block y %}{% endblock %}{% endblock %}")];
        refused(&files, |site| rename(site, at(site, "base.html"), "a", "z"), "base.html has a block `z` already");
        refused(&files, |site| rename(site, at(site, "base.html"), "a", "y"), "p.html has a block `y` already");
        refused(&files, |site| rename(site, at(site, "base.html"), "q", "x"), "nor a layout above it has a block `q`");
        refused(&files, |site| rename(site, at(site, "base.html"), "a", "x y"), "not a valid block name");
        let files = [BASE, ("p.html", "{% extends 'base.html' %}{% block z %}{{ block('a')|trim }}{% endblock %}")];
        refused(&files, |site| rename(site, at(site, "base.html"), "a", "b"), "p.html:1:39: an expression may mean");
    }
}
