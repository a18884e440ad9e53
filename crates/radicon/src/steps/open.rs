//! `open`: a stretch of a layout becomes a named block with this content as its default.

use super::levels::either;
use super::{Step, StepError, finish, refuse};
use crate::dialect::{Kind, Newline, Part};
use crate::edit::Edits;
use crate::markup::Construct;
use crate::propose::{Style, indented_in};
use crate::prove::Strength;
use crate::resolve::Resolver;
use crate::site::{Site, Template};
use crate::text::{SourceId, Span};

/// Makes a stretch of a template a block, so that children may override it. Every page stays as
/// it is.
///
/// # Errors
/// If the stretch cuts a tag or a pair in two, the dialect has no blocks, or the name is taken in
/// the template, above it or below it.
pub fn open(site: &Site, id: SourceId, span: Span, name: &str) -> Result<Step, StepError> {
    let template = site.get(id);
    if let Some(problem) = template.torn_by(span) {
        return refuse(problem.to_string());
    }
    outside_of_fragments(template, span)?;
    for other in Resolver::new(site).family(id) {
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
    let lines = template.whole_lines(span);
    let indent = String::from_utf8_lossy(template.indentation(span.start)).into_owned();
    let title = format!("turn {} bytes of {} into the block `{name}`", span.len(), template.path);
    either(|tidy| {
        let mut edits = Edits::default();
        // Lines of its own, where it has several.
        if tidy && lines != span && span.of(&template.source).contains(&b'\n') {
            let unit = Style::of([&template.source[..]].into_iter()).unit;
            let inside = [indent.as_bytes(), &unit].concat();
            let content = indented_in(&template.source, &template.dialect, span, &inside);
            let parts =
                [indent.as_bytes(), before.as_bytes(), b"\n", &content, b"\n", indent.as_bytes(), after.as_bytes()];
            edits.replace(template.path.clone(), Span::new(lines.start, span.end), parts.concat());
            return finish(site, title.clone(), edits, Strength::Blanks);
        }
        // Where a tag takes its line with it, it may have one.
        let own_line = template.dialect.rules.newline == Newline::Line && lines != span;
        let (place, before, after) = match own_line {
            true => (lines, format!("{indent}{before}\n"), format!("{indent}{after}\n")),
            false => (span, before.clone(), after.clone()),
        };
        edits.replace(template.path.clone(), Span::new(place.start, place.start), before);
        edits.replace(template.path.clone(), Span::new(place.end, place.end), after);
        finish(site, title.clone(), edits, Strength::Blanks)
    })
}

/// Refuses a stretch within a macro or a named fragment, where no block can be.
fn outside_of_fragments(template: &Template, span: Span) -> Result<(), StepError> {
    let items = &template.constructs.items;
    let holds = |item: &&Construct| {
        matches!(item.kind, Kind::Set | Kind::Part)
            && item.part == Part::Open
            && item.span.end <= span.start
            && template.constructs.partner(item).is_some_and(|close| close.span.start >= span.end)
    };
    match items.iter().find(holds) {
        Some(item) => {
            let shown = item.span.text(&template.source);
            refuse(template.problem(span.start, format!("it is in `{shown}`, where no block is allowed")).to_string())
        }
        None => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::steps::find_place;
    use crate::steps::testing::{at, becomes, refused};

    fn step(site: &Site, place: &str, name: &str) -> Result<Step, StepError> {
        let (id, span) = find_place(site, place, |file| site.find(file)).expect("a place");
        open(site, id, span, name)
    }

    #[test]
    fn a_stretch_becomes_a_block() {
        let base = ("base.html", "<header>\n  <nav>{{ x }}</nav>\n</header>{% block a %}{% endblock %}");
        let page = ("p.html", "{% extends 'base.html' %}");
        let opened =
            "<header>\n  {% block menu %}<nav>{{ x }}</nav>{% endblock %}\n</header>{% block a %}{% endblock %}";
        becomes(&[base, page], |site| step(site, "base.html:nav", "menu"), &[("base.html", Some(opened))]);
        becomes(&[base, page], |site| step(site, "base.html:2", "menu"), &[("base.html", Some(opened))]);
        refused(&[base, page], |site| step(site, "base.html:nav", "a"), "has a block `a` already");
    }

    #[test]
    fn no_block_is_made_in_a_macro() {
        let kit = ("kit.html", "{% macro field(label) %}<label>{{ label }}</label>{% endmacro %}");
        refused(&[kit], |site| step(site, "kit.html:label", "a"), "where no block is allowed");
    }

    #[test]
    fn tags_are_not_cut_in_two() {
        let base = ("base.html", "{% block a %}\n<p>\n{% endblock %}");
        refused(&[base], |site| open(site, at(site, "base.html"), Span::new(0, 14), "b"), "only half");
        refused(&[base], |site| step(site, "base.html:1-2", "b"), "base.html:1:1: the markup has only half");
    }
}
