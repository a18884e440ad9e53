//! `inline`: a partial's content takes the place of its includes.

use super::{Step, StepError, finish, moving, refuse};
use crate::dialect::{Kind, Part};
use crate::edit::Edits;
use crate::prove::Strength;
use crate::resolve::Arguments;
use crate::site::{Parent, Site};
use crate::text::{SourceId, Span};

/// Puts a partial's content in the place of each of its includes, and removes the partial if
/// nothing else names it. Includes with arguments stay as they are, and so does the partial then.
/// Every page stays as it is.
///
/// # Errors
/// If it has a layout of its own, is read in another dialect than those that include it, or no
/// include can be replaced.
pub fn inline(site: &Site, partial: SourceId) -> Result<Step, StepError> {
    moving(site, false, |site| inlined(site, partial))
}

fn inlined(site: &Site, partial: SourceId) -> Result<Step, StepError> {
    let template = site.get(partial);
    if *site.parent(partial) != Parent::None {
        return refuse(format!("{} has a layout of its own", template.path));
    }
    if template.constructs.items.iter().any(|item| matches!(item.kind, Kind::Body | Kind::Part)) {
        return refuse(format!("{} has a body or parts, which the including file fills", template.path));
    }
    let mut notes = Vec::new();
    let mut places: Vec<(SourceId, Span, Span)> = Vec::new();
    let mut kept = site.references.iter().any(|reference| reference.template == template.path);
    for id in site.ids() {
        let user = site.get(id);
        for (at, target) in site.links(id).targets() {
            if target.as_ref().ok() != Some(&partial) {
                continue;
            }
            let item = &user.constructs.items[at];
            let arguments = Arguments::read(&user.source, item.expr, &user.dialect.rules);
            let plain = item.kind == Kind::Include
                && item.part == Part::Single
                && item.partner.is_none()
                && item.name.is_empty();
            let bare = arguments.bindings.is_empty() && !arguments.opaque && !arguments.only;
            if !plain || !bare || (user.dialect.name != template.dialect.name && !template.constructs.items.is_empty())
            {
                kept = true;
                notes.push(
                    user.problem(item.span.start, "not replaced: it has arguments, or another dialect").to_string(),
                );
            } else {
                places.push((id, item.span, item.reach));
            }
        }
    }
    if places.is_empty() {
        let why = notes.first().map_or("nothing includes it", String::as_str);
        return refuse(format!("no include of {} can be replaced: {why}", template.path));
    }
    let written = |exact: bool| {
        let mut edits = Edits::default();
        for (id, span, reach) in &places {
            edits.replace(site.get(*id).path.clone(), if exact { *reach } else { *span }, template.source.to_vec());
        }
        if !kept {
            edits.removed.push(template.path.clone());
        }
        edits
    };
    let title = format!("replace {} includes of {}", places.len(), template.path);
    // With the whitespace that goes with the tag, and without it: whichever keeps every byte.
    let exact = finish(site, title.clone(), written(true), Strength::Bytes);
    let mut step = exact
        .or_else(|_| finish(site, title.clone(), written(false), Strength::Bytes))
        .or_else(|_| finish(site, title, written(true), Strength::Blanks))?;
    step.notes = notes;
    Ok(step)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::steps::testing::{at, becomes, refused};

    #[test]
    fn a_partial_takes_the_place_of_its_includes() {
        let files = [
            ("nav.html", "<nav>{{ x }}</nav>"),
            ("a.html", "1{% include 'nav.html' %}2"),
            ("b.html", "{% include 'nav.html' %}"),
        ];
        let expected =
            [("a.html", Some("1<nav>{{ x }}</nav>2")), ("b.html", Some("<nav>{{ x }}</nav>")), ("nav.html", None)];
        becomes(&files, |site| inline(site, at(site, "nav.html")), &expected);
    }

    #[test]
    fn includes_with_arguments_stay() {
        let files = [
            ("nav.html", "<nav></nav>"),
            ("a.html", "{% include 'nav.html' %}"),
            ("b.html", "{% include 'nav.html' with x=1 %}"),
        ];
        becomes(&files, |site| inline(site, at(site, "nav.html")), &[("a.html", Some("<nav></nav>"))]);
        refused(&files[..1], |site| inline(site, at(site, "nav.html")), "nothing includes it");
        refused(&[files[0], files[2]], |site| inline(site, at(site, "nav.html")), "b.html:1:1: not replaced");
    }
}
