//! `fuse`: a header and a footer partial become a layout with a block between them.

use super::{Step, StepError, finish, moving, refuse};
use crate::dialect::{Kind, Part, Values};
use crate::edit::Edits;
use crate::markup::Construct;
use crate::prove::Strength;
use crate::resolve::Arguments;
use crate::site::{Parent, Site, SourceFile};
use crate::text::{SourceId, Span, is_blank};

/// Makes a layout of two partials that are at the top and at the end of pages, with a block for
/// what is between them; the pages take it as their parent. Pages that use the two otherwise
/// are left, each with a note, and so are the partials then. Every page stays as it is.
///
/// # Errors
/// If no page has the two around it, or the dialect has no layouts.
pub fn fuse(site: &Site, head: SourceId, foot: SourceId, layout: &str, block: &str) -> Result<Step, StepError> {
    moving(site, false, |site| fused(site, head, foot, layout, block))
}

fn fused(site: &Site, head: SourceId, foot: SourceId, layout: &str, block: &str) -> Result<Step, StepError> {
    let (top, end) = (site.get(head), site.get(foot));
    let dialect = if top.dialect.forms.is_empty() { &end.dialect } else { &top.dialect };
    let mut notes = Vec::new();
    let mut pages: Vec<(SourceId, Span, Span)> = Vec::new();
    for id in site.ids() {
        let uses = |target: SourceId| -> Vec<&Construct> {
            let links = site.links(id).targets();
            let named = links.filter(|(_, found)| found.as_ref().ok() == Some(&target));
            named.map(|(at, _)| &site.get(id).constructs.items[at]).collect()
        };
        let (heads, feet) = (uses(head), uses(foot));
        if heads.is_empty() && feet.is_empty() {
            continue;
        }
        match around(site, id, &heads, &feet) {
            Ok((before, after)) => pages.push((id, before, after)),
            Err(why) => notes.push(format!("{}: {why}", site.get(id).path)),
        }
    }
    let Some(&(first, ..)) = pages.first() else {
        return refuse(format!("no page has {} at its top and {} at its end", top.path, end.path));
    };
    let dialect = if dialect.forms.is_empty() { &site.get(first).dialect } else { dialect };
    let tags = dialect.block_tags(block, true).zip(dialect.block_tags(block, false));
    let (Some(((open, close), (fill, filled))), Some(parent)) = (tags, dialect.form(Kind::Parent)) else {
        return refuse(format!("{} has no layouts", dialect.name));
    };
    let mut edits = Edits::default();
    let source = [&top.source[..], open.as_bytes(), close.as_bytes(), &end.source[..]].concat();
    edits.created.push(SourceFile::new(layout, source));
    let target = site.name_for(layout, dialect, Kind::Parent);
    let line = parent.open.write(&Values { target: &target, ..Values::default() });
    for (id, before, after) in &pages {
        let path = &site.get(*id).path;
        edits.replace(path.clone(), *before, format!("{line}\n{fill}"));
        edits.replace(path.clone(), *after, format!("{filled}\n"));
    }
    for (id, template) in [(head, top), (foot, end)] {
        let named = |other: SourceId| site.links(other).targets().any(|(_, target)| target.as_ref().ok() == Some(&id));
        let others = site.ids().filter(|&other| named(other));
        if others.into_iter().all(|other| pages.iter().any(|(page, ..)| *page == other)) {
            edits.removed.push(template.path.clone());
        }
    }
    let title = format!("turn {} and {} into the layout {layout} of {} pages", top.path, end.path, pages.len());
    let mut step = finish(site, title, edits, Strength::Blanks)?;
    step.notes = notes;
    Ok(step)
}

/// The text of a page before its content and after it, if that is nothing but the two includes.
fn around(site: &Site, id: SourceId, heads: &[&Construct], feet: &[&Construct]) -> Result<(Span, Span), &'static str> {
    let template = site.get(id);
    let ([head], [foot]) = (heads, feet) else { return Err("does not include each of the two once") };
    let bare = |item: &Construct| {
        let arguments = Arguments::read(&template.source, item.expr, &template.dialect.rules);
        item.kind == Kind::Include && item.part == Part::Single && arguments.bindings.is_empty() && !arguments.opaque
    };
    if *site.parent(id) != Parent::None {
        return Err("has a layout already");
    }
    if !bare(head) || !bare(foot) {
        return Err("passes arguments to them");
    }
    let length = template.source.len() as u32;
    let (before, after) = (Span::new(0, head.reach.start), Span::new(foot.reach.end, length));
    let blank = |span: Span| span.of(&template.source).iter().all(|b| is_blank(*b));
    if head.span.start > foot.span.start || !blank(before) || !blank(after) {
        return Err("has something before or after them");
    }
    Ok((Span::new(0, head.reach.end), Span::new(foot.reach.start, length)))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::steps::testing::{at, becomes, refused};

    fn step(site: &Site) -> Result<Step, StepError> {
        fuse(site, at(site, "head.html"), at(site, "foot.html"), "layouts/base.html", "content")
    }

    const HALVES: [(&str, &str); 2] =
        [("foot.html", "</main>{{ year }}\n"), ("head.html", "<title>{{ t }}</title><main>\n")];

    #[test]
    fn a_header_and_a_footer_become_a_layout() {
        let page = ("p.html", "{% include 'head.html' %}<p>1</p>\n{% include 'foot.html' %}\n");
        let other = ("q.html", "{% include 'head.html' %}<p>2</p>");
        let both = [HALVES[0], HALVES[1], page];
        let layout = "<title>{{ t }}</title><main>\n{% block content %}{% endblock %}</main>{{ year }}\n";
        let child = "{% extends \"layouts/base.html\" %}\n{% block content %}<p>1</p>\n{% endblock %}\n";
        let expected =
            [("foot.html", None), ("head.html", None), ("layouts/base.html", Some(layout)), ("p.html", Some(child))];
        becomes(&both, step, &expected);
        let kept = [("foot.html", None), ("layouts/base.html", Some(layout)), ("p.html", Some(child))];
        becomes(&[HALVES[0], HALVES[1], page, other], step, &kept);
        refused(&[HALVES[0], HALVES[1], other], step, "no page has head.html at its top");
    }
}
