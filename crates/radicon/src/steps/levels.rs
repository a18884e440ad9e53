//! `pull-up` and `push-down`: content of a block moves between a layout and its children.

use super::{Step, StepError, finish, moving, refuse};
use crate::dialect::Kind;
use crate::edit::Edits;
use crate::markup::ConstructId;
use crate::propose::{Style, indented_in};
use crate::prove::Strength;
use crate::site::{Parent, Site, Template};
use crate::text::{SourceId, Span, is_blank, trim_blanks};

/// The templates that name a layout as their parent.
fn children(site: &Site, layout: SourceId) -> Vec<SourceId> {
    let is_child = |id: &SourceId| matches!(site.parent(*id), Parent::Found { id, .. } if *id == layout);
    site.ids().filter(is_child).collect()
}

/// The content of a block that all children of a layout give alike becomes the layout's; the
/// children's goes. Every page stays as it is.
///
/// # Errors
/// If a child gives other content or none, or the layout itself is shown as a page.
pub fn pull_up(site: &Site, layout: SourceId, block: &str) -> Result<Step, StepError> {
    moving(site, false, |site| pulled_up(site, layout, block))
}

fn pulled_up(site: &Site, layout: SourceId, block: &str) -> Result<Step, StepError> {
    let template = site.get(layout);
    let children = children(site, layout);
    if children.is_empty() {
        return refuse(format!("{} has no children", template.path));
    }
    let mut content: Option<(&[u8], &str)> = None;
    let mut edits = Edits::default();
    for &id in &children {
        let child = site.get(id);
        let Some(at) = child.definition(block.as_bytes()) else {
            return refuse(format!("{} does not override `{block}`", child.path));
        };
        if !child.outermost().any(|(outer, _)| outer == at) {
            return refuse(format!("in {} `{block}` is inside another block", child.path));
        }
        let own = child.between(at).of(&child.source);
        match content {
            Some((known, first)) if trim_blanks(known) != trim_blanks(own) => {
                return refuse(format!("{} and {first} have different content in `{block}`", child.path));
            }
            Some(_) => {}
            None => content = Some((own, &child.path)),
        }
        if inherits(child, at) {
            return refuse(format!("in {} `{block}` inherits what it replaces", child.path));
        }
        edits.remove(child.path.clone(), child.whole_lines(child.whole(at)));
    }
    let content = content.map_or(&[][..], |(content, _)| content);
    match template.definition(block.as_bytes()).or_else(|| region(template, block)) {
        Some(at) if template.constructs.items[at].partner.is_some() => {
            edits.replace(template.path.clone(), template.between(at), content);
        }
        Some(_) => return refuse(format!("in {} `{block}` has no content of its own", template.path)),
        None => edits.extend(added(site, layout, Added { block, content, tidy: true, gone: &[] })?),
    }
    finish(
        site,
        format!("move `{block}` into {} from its {} children", template.path, children.len()),
        edits,
        Strength::Blanks,
    )
}

/// The content that a layout gives for a block goes into each child that gives none itself, and
/// the layout's becomes empty. Every page stays as it is.
///
/// # Errors
/// If the layout gives no content for it, or something else than a child shows it.
pub fn push_down(site: &Site, layout: SourceId, block: &str) -> Result<Step, StepError> {
    moving(site, false, |site| pushed_down(site, layout, block))
}

fn pushed_down(site: &Site, layout: SourceId, block: &str) -> Result<Step, StepError> {
    let template = site.get(layout);
    let Some(at) = template.definition(block.as_bytes()).or_else(|| region(template, block)) else {
        return refuse(format!("{} has no block `{block}`", template.path));
    };
    let span = template.between(at);
    let content = span.of(&template.source);
    if trim_blanks(content).is_empty() {
        return refuse(format!("in {} `{block}` is empty", template.path));
    }
    if template.constructs.items.iter().any(|item| {
        span.start <= item.span.start && item.span.end <= span.end && (item.kind.defines() || item.kind == Kind::Slot)
    }) {
        return refuse(format!("in {} `{block}` has blocks inside", template.path));
    }
    let is_region = region(template, block) == Some(at) && !matches!(site.parent(layout), Parent::Found { .. });
    either(|tidy| {
        let mut edits = Edits::default();
        let mut given = 0;
        for id in children(site, layout) {
            let child = site.get(id);
            match child.definition(block.as_bytes()) {
                None => {
                    given += 1;
                    edits.extend(added(site, id, Added { block, content, tidy, gone: &[] })?);
                }
                Some(own) if inherits(child, own) => {
                    for item in inherited(child, own) {
                        edits.replace(child.path.clone(), item, trim_blanks(content));
                    }
                }
                Some(_) => {}
            }
        }
        // An override that only held this goes whole.
        match is_region {
            true => edits.replace(template.path.clone(), span, ""),
            false => edits.remove(template.path.clone(), template.whole_lines(template.whole(at))),
        }
        finish(site, format!("move `{block}` into {given} children of {}", template.path), edits, Strength::Blanks)
    })
}

/// A step with tidy lines; where these would change a page, with the lines as they were.
pub(super) fn either(step: impl Fn(bool) -> Result<Step, StepError>) -> Result<Step, StepError> {
    match step(true) {
        Err(StepError::Changes(_)) => step(false),
        done => done,
    }
}

/// The region of a name that a template has.
fn region(template: &Template, name: &str) -> Option<ConstructId> {
    template.regions_named(name.as_bytes()).map(|(at, _)| at).next()
}

/// The places where a definition splices the content that it replaces.
pub(super) fn inherited(template: &Template, opener: ConstructId) -> Vec<Span> {
    let inside = template.constructs.inside(opener).iter();
    inside.filter(|item| item.kind == Kind::Inherited).map(|item| item.span).collect()
}

pub(super) fn inherits(template: &Template, opener: ConstructId) -> bool {
    !inherited(template, opener).is_empty()
}

/// Content for one more override, as it is in the file that it comes from.
#[derive(Clone, Copy)]
pub(super) struct Added<'t> {
    pub block: &'t str,
    pub content: &'t [u8],
    /// Its lines are indented as the child's are; else it is taken byte for byte.
    pub tidy: bool,
    /// Overrides of the child that go.
    pub gone: &'t [ConstructId],
}

/// The edits that give a child one more override, in the order of its layouts: after the last one that is
/// before it there, else after its parent line.
pub(super) fn added(site: &Site, id: SourceId, added: Added<'_>) -> Result<Edits, StepError> {
    let Added { block, content, tidy, gone } = added;
    let child = site.get(id);
    let Some(parent) = child.parent() else {
        return refuse(format!("{} names no layout", child.path));
    };
    let before = super::reorder::last_before(site, id, block.as_bytes(), gone);
    let after = before.map_or(parent.span, |at| child.whole(at));
    let Some((open, close)) = child.dialect.block_tags(block, false) else {
        return refuse(format!(
            "{} is written in {}, which has no overrides with content",
            child.path, child.dialect.name
        ));
    };
    let source = &child.source;
    let rest = &source[after.end as usize..];
    let to_end = rest.iter().take_while(|b| is_blank(**b) && **b != b'\n').count();
    let ends_line = rest.get(to_end).is_none_or(|b| *b == b'\n');
    let mut text = Vec::new();
    if ends_line {
        // Apart from the others where these are.
        let is_apart = memchr::memmem::find(&child.source, b"\n\n").is_some();
        text.extend_from_slice(if is_apart && content.contains(&b'\n') { b"\n\n" } else { b"\n" });
    }
    text.extend_from_slice(open.as_bytes());
    let solid = Span::new(0, content.len() as u32).trimmed(content);
    if tidy && content.contains(&b'\n') && !solid.is_empty() {
        let unit = Style::of([&child.source[..]].into_iter()).unit;
        text.push(b'\n');
        text.extend(indented_in(content, &child.dialect, solid, &unit));
        text.push(b'\n');
    } else {
        text.extend_from_slice(content);
    }
    text.extend_from_slice(close.as_bytes());
    let mut edits = Edits::default();
    edits.replace(child.path.clone(), Span::new(after.end, after.end), text);
    Ok(edits)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::steps::testing::{at, becomes, refused};

    const BASE: (&str, &str) = ("base.html", "<b>{% block a %}{% endblock %}</b>");

    #[test]
    fn content_that_goes_down_stands_in_the_layouts_order_and_in_lines() {
        let base = "<a>{% block a %}\n      <p>\n        One\n      </p>\n  {% endblock %}</a>{% block b %}{% endblock %}{% block c %}{% endblock %}\n";
        let page = "{% extends 'base.html' %}\n\n{% block b %}\n  <p>2</p>\n{% endblock %}\n";
        let empty = "<a>{% block a %}{% endblock %}</a>{% block b %}{% endblock %}{% block c %}{% endblock %}\n";
        let down = "{% extends 'base.html' %}\n\n{% block a %}\n  <p>\n    One\n  </p>\n{% endblock %}\n\n{% block b %}\n  <p>2</p>\n{% endblock %}\n";
        becomes(
            &[("base.html", base), ("p.html", page)],
            |site| push_down(site, at(site, "base.html"), "a"),
            &[("base.html", Some(empty)), ("p.html", Some(down))],
        );
    }

    #[test]
    fn content_goes_up_and_down_again() {
        let pages = [
            BASE,
            ("p.html", "{% extends 'base.html' %}\n{% block a %}<i>1</i>{% endblock %}\n"),
            ("q.html", "{% extends 'base.html' %}\n{% block a %} <i>1</i>{% endblock %}\n"),
        ];
        let up = [
            ("base.html", Some("<b>{% block a %}<i>1</i>{% endblock %}</b>")),
            ("p.html", Some("{% extends 'base.html' %}\n")),
            ("q.html", Some("{% extends 'base.html' %}\n")),
        ];
        // Whitespace between words counts, so these two differ for a reader.
        refused(&pages, |site| pull_up(site, at(site, "base.html"), "a"), "would change");
        let pages = [pages[0], pages[1], ("q.html", pages[1].1)];
        becomes(&pages, |site| pull_up(site, at(site, "base.html"), "a"), &up);
        let raised: Vec<(&str, &str)> = up.iter().filter_map(|(path, text)| Some((*path, (*text)?))).collect();
        let page = "{% extends 'base.html' %}\n{% block a %}<i>1</i>{% endblock %}\n";
        let down = [("base.html", Some(BASE.1)), ("p.html", Some(page)), ("q.html", Some(page))];
        becomes(&raised, |site| push_down(site, at(site, "base.html"), "a"), &down);
    }

    #[test]
    fn children_that_differ_keep_their_content() {
        let files = [
            BASE,
            ("p.html", "{% extends 'base.html' %}{% block a %}1{% endblock %}"),
            ("q.html", "{% extends 'base.html' %}{% block a %}2{% endblock %}"),
            ("r.html", "{% extends 'base.html' %}"),
        ];
        refused(&files[..3], |site| pull_up(site, at(site, "base.html"), "a"), "different content");
        refused(
            &[files[0], files[1], files[3]],
            |site| pull_up(site, at(site, "base.html"), "a"),
            "r.html does not override",
        );
        refused(&files, |site| push_down(site, at(site, "base.html"), "a"), "is empty");
        refused(&files, |site| push_down(site, at(site, "base.html"), "x"), "has no block `x`");
    }

    #[test]
    fn what_inherits_gets_the_content_itself() {
        let files = [
            ("base.html", "{% block a %}1{% endblock %}"),
            ("p.html", "{% extends 'base.html' %}{% block a %}[{{ super() }}]{% endblock %}"),
        ];
        let expected = [
            ("base.html", Some("{% block a %}{% endblock %}")),
            ("p.html", Some("{% extends 'base.html' %}{% block a %}[1]{% endblock %}")),
        ];
        becomes(&files, |site| push_down(site, at(site, "base.html"), "a"), &expected);
    }
}
