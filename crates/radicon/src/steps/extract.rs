//! `extract`: a stretch of markup becomes a partial.

use std::collections::BTreeMap;
use std::sync::Arc;

use super::open::whole_tags;
use super::{Step, StepError, finish_in, indentation, moving, refuse};
use crate::dialect::{Dialect, Kind, Values, builtin_named};
use crate::edit::Edits;
use crate::prove::Strength;
use crate::repeats::{RepeatKind, RepeatOptions, repeats};
use crate::site::own_file::Needs;
use crate::site::{Home, Role, Site, SourceFile, Template};
use crate::text::{SourceId, Span};
use crate::urls::place_in;

/// Makes a stretch of a template a partial of this name and includes it there; with `all`, every
/// other copy of it too, those in another dialect by a partial in that dialect. Every page stays as
/// it is; copies for which that cannot be shown are left, each with a note.
///
/// # Errors
/// If the stretch cuts a tag or a pair in two, holds blocks, or the dialect has no includes.
pub fn extract(site: &Site, id: SourceId, span: Span, name: &str, all: bool) -> Result<Step, StepError> {
    let margin = site.get(id).dialect.forms.is_empty();
    moving(site, margin, |at| {
        let place = |offset| if std::ptr::eq(at, site) { offset } else { place_in(at.get(id), offset) };
        extracted(at, id, Span::new(place(span.start), place(span.end)), name, all)
    })
}

fn extracted(site: &Site, id: SourceId, span: Span, name: &str, all: bool) -> Result<Step, StepError> {
    if name.is_empty() || !name.chars().all(|c| c.is_alphanumeric() || "-_".contains(c)) {
        return refuse(format!("`{name}` is no name for a partial: letters, digits, `-` and `_` make one"));
    }
    may_stand_alone(site.get(id), span)?;
    let mut copies = vec![(id, span)];
    if all {
        copies.extend(others(site, id, span));
    }
    let mut notes = Vec::new();
    loop {
        match attempt(site, &copies, name) {
            Ok(mut step) => {
                step.notes = notes;
                return Ok(step);
            }
            // A copy that would change its page stays as it is.
            Err(StepError::Changes(page)) if copies.len() > 1 => {
                let before = copies.len();
                let users = site.find(&page.page);
                let guilty = copies[1..].iter().rposition(|(copy, _)| Some(*copy) == users).map(|at| at + 1);
                let (copy, span) = copies.remove(guilty.unwrap_or(before - 1));
                notes.push(site.get(copy).problem(span.start, "this copy stays: its page would change").to_string());
            }
            Err(error) => return Err(error),
        }
    }
}

/// The step for these copies: byte for byte if that can be, else but for white space.
fn attempt(site: &Site, copies: &[(SourceId, Span)], name: &str) -> Result<Step, StepError> {
    let title = |dialects: usize| {
        let kinds = if dialects > 1 { format!(", in {dialects} dialects") } else { String::new() };
        let many = if copies.len() > 1 { format!(" of {} copies", copies.len()) } else { String::new() };
        format!("make a partial `{name}`{many}{kinds}")
    };
    let mut last = None;
    for (ending, strength) in
        [(false, Strength::Bytes), (true, Strength::Bytes), (true, Strength::Blanks), (false, Strength::Blanks)]
    {
        let (edits, more, dialects) = written(site, copies, name, ending)?;
        is_read(site, &edits, &more, copies.len())?;
        match finish_in(site, title(dialects), edits, strength, &more) {
            Ok(step) => return Ok(step),
            Err(error @ StepError::Changes(_)) => last = Some(error),
            Err(error) => return Err(error),
        }
    }
    Err(last.unwrap_or(StepError::Refused("nothing to extract".into())))
}

/// Refuses tags that would not be read where they stand, as behind a word or in a comment.
fn is_read(site: &Site, edits: &Edits, more: &[Arc<Dialect>], copies: usize) -> Result<(), StepError> {
    let after = site.after(&edits.changes(site)?, more);
    let is_new = |id: &SourceId| edits.created.iter().any(|file| file.path == after.get(*id).path);
    let read = |id: u32| {
        let targets = after.links(SourceId(id)).targets();
        targets.filter(|(_, target)| target.as_ref().is_ok_and(is_new)).count()
    };
    let all: usize = (0..after.templates.len() as u32).map(read).sum();
    if all < copies { refuse("an include would not be read there") } else { Ok(()) }
}

/// The edits, the dialects that new files need, and in how many dialects partials are written.
/// With an `ending` the partials end with their line.
fn written(
    site: &Site,
    copies: &[(SourceId, Span)],
    name: &str,
    ending: bool,
) -> Result<(Edits, Vec<Arc<Dialect>>, usize), StepError> {
    let mut edits = Edits::default();
    let mut partials: BTreeMap<String, (String, String)> = BTreeMap::new();
    let mut more: Vec<Arc<Dialect>> = Vec::new();
    let needs = Needs::of(site);
    for &(id, span) in copies {
        let template = site.get(id);
        let dialect = speaks(template)?;
        let (_, tag) = match partials.get(&dialect.name) {
            Some(known) => known,
            None => {
                let home = Home::of(site, &dialect, Role::Partial, "partials", Some(&template.path));
                let is_new = |path: &str| edits.created.iter().all(|file| *file.path != *path);
                let path = home.path(name, |path| site.find(path).is_none() && is_new(path));
                let mut content = dedented(template, span);
                if ending {
                    content.push(b'\n');
                }
                let content = needs.carried(content, &dialect, &site.sure_own_file_texts(id), ending);
                let target = site.name_for(&path, &dialect, Kind::Include);
                let form = include_form(&dialect)
                    .ok_or_else(|| StepError::Refused(format!("{} has no includes", dialect.name)))?;
                let tag = form.open.write(&Values { target: &target, ..Values::default() });
                edits.created.push(SourceFile::new(path.clone(), content));
                more.push(Arc::clone(&dialect));
                partials.entry(dialect.name.clone()).or_insert((path, tag))
            }
        };
        edits.replace(template.path.clone(), span, tag.as_bytes());
    }
    let dialects = partials.len();
    Ok((edits, more, dialects))
}

fn include_form(dialect: &Dialect) -> Option<&crate::dialect::Form> {
    dialect.forms.iter().find(|form| {
        let example = form.open.example();
        form.kind == Kind::Include
            && !form.is_attribute()
            && example.contains("<target>")
            && (!example.contains("<args>") || example.contains("[<args>]"))
    })
}

/// The dialect in which a template includes: its own, or Radicon's where it has none.
fn speaks(template: &Template) -> Result<Arc<Dialect>, StepError> {
    if !template.dialect.forms.is_empty() {
        return Ok(Arc::clone(&template.dialect));
    }
    builtin_named("margin").ok_or_else(|| StepError::Refused("no dialect to write".into()))
}

/// Refuses what cannot stand in a file of its own.
pub(crate) fn may_stand_alone(template: &Template, span: Span) -> Result<(), StepError> {
    whole_tags(template, span)?;
    let inside =
        template.constructs.items.iter().filter(|item| span.start <= item.span.start && item.span.end <= span.end);
    for item in inside {
        let bound = item.kind.defines()
            || matches!(item.kind, Kind::Slot | Kind::Body | Kind::Inherited | Kind::Again | Kind::Parent | Kind::Part);
        if bound {
            let shown = item.span.text(&template.source);
            return refuse(
                template
                    .problem(
                        item.span.start,
                        format!("`{shown}` belongs to this file's chain and cannot move into a partial"),
                    )
                    .to_string(),
            );
        }
    }
    Ok(())
}

/// The other copies of a stretch that are the same but for white space and their dialect.
fn others(site: &Site, id: SourceId, span: Span) -> Vec<(SourceId, Span)> {
    let options =
        RepeatOptions { min_bytes: 20, min_nodes: 1, min_saving: Some(0), similarity: 2.0, ..RepeatOptions::default() };
    let path = &site.get(id).path;
    let found = repeats(site, &options);
    let mut copies: Vec<(SourceId, Span)> = Vec::new();
    for group in found.groups.iter().filter(|group| group.kind == RepeatKind::Same) {
        let is_it = |copy: &&crate::repeats::RepeatCopy| {
            *copy.file == **path && copy.byte_start == span.start && copy.byte_end == span.end
        };
        if group.copies.iter().any(|copy| is_it(&copy)) {
            for copy in group.copies.iter().filter(|copy| !is_it(copy)) {
                copies.extend(site.find(&copy.file).map(|id| (id, Span::new(copy.byte_start, copy.byte_end))));
            }
        }
    }
    // What is part of greater repeats is not told as one: the same bytes are found by themselves.
    let text = span.of(&site.get(id).source);
    for other in (0..site.templates.len() as u32).map(SourceId) {
        for at in memchr::memmem::find_iter(&site.get(other).source, text) {
            let there = Span::from_range(at..at + text.len());
            let overlaps =
                |known: &(SourceId, Span)| known.0 == other && known.1.start < there.end && there.start < known.1.end;
            let itself = other == id && there.start < span.end && span.start < there.end;
            if !itself && !copies.iter().any(overlaps) {
                copies.push((other, there));
            }
        }
    }
    copies.retain(|(id, span)| may_stand_alone(site.get(*id), *span).is_ok());
    copies.sort_by_key(|(id, span)| (*id, span.start));
    copies.dedup();
    copies
}

/// A stretch without the indentation of its first line.
fn dedented(template: &Template, span: Span) -> Vec<u8> {
    let text = span.of(&template.source);
    let indent = indentation(template, span.start);
    // Inside of elements that keep white space nothing is moved.
    let keeps =
        [&b"<pre"[..], b"<textarea", b"<script", b"<style"].iter().any(|tag| memchr::memmem::find(text, tag).is_some());
    if indent.is_empty() || keeps {
        return text.to_vec();
    }
    let mut out = Vec::with_capacity(text.len());
    for (at, line) in text.split_inclusive(|b| *b == b'\n').enumerate() {
        out.extend_from_slice(if at > 0 { line.strip_prefix(indent).unwrap_or(line) } else { line });
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::steps::find_place;
    use crate::steps::testing::{becomes, refused};

    fn step(site: &Site, place: &str, all: bool) -> Result<Step, StepError> {
        let (id, span) = find_place(site, place, |file| site.find(file)).expect("a place");
        extract(site, id, span, "menu", all)
    }

    #[test]
    fn a_stretch_becomes_a_partial_and_other_copies_too() {
        let nav = "<nav class='a'><a href='/'>Home</a> {{ user }}</nav>";
        let (p, q) =
            (format!("<p>\n  {nav}\n</p>{{% if x %}}{{% endif %}}"), format!("{nav}\n{nav}{{% if x %}}{{% endif %}}"));
        let files = [("p.html", p.as_str()), ("q.html", q.as_str())];
        let one = "<p>\n  {% include \"partials/menu.html\" %}\n</p>{% if x %}{% endif %}";
        let two = "{% include \"partials/menu.html\" %}\n{% include \"partials/menu.html\" %}{% if x %}{% endif %}";
        let partial = ("partials/menu.html", Some(nav));
        becomes(&files, |site| step(site, "p.html:nav", false), &[("p.html", Some(one)), partial]);
        becomes(
            &files,
            |site| step(site, "p.html:nav", true),
            &[("p.html", Some(one)), partial, ("q.html", Some(two))],
        );
    }

    #[test]
    fn copies_in_another_dialect_get_a_partial_of_their_own() {
        let nav = "<a href=\"/\">Home and news</a><a href=\"/fares\">Fares and tickets</a></nav>";
        let margin = format!("<!--: block m --><p>a</p><!--: end -->\n<nav class=\"bar\">{nav}\n<p>one</p>\n");
        let brace = format!("{{% block m %}}<p>b</p>{{% endblock %}}\n  <nav class='bar'>{nav}\n<p>two</p>\n");
        let files = vec![SourceFile::new("a.html", margin), SourceFile::new("shop/b.html", brace)];
        let site = Site::read(files, crate::dialect::builtin(), &crate::site::Settings::default());
        let made = step(&site, "a.html:nav", true).expect("a step");
        let text = |path: &str| {
            let change = made.changes.iter().find(|change| change.path == path).expect("a change");
            String::from_utf8(change.new.clone().expect("content")).expect("text")
        };
        assert!(text("a.html").contains("\n<!--: partial partials/menu.html -->\n"));
        assert!(text("shop/b.html").contains("\n  {% include \"partials/menu-2.html\" %}\n"));
        assert!(text("partials/menu-2.html").starts_with("<nav class='bar'>"));
    }

    #[test]
    fn blocks_stay_where_they_are() {
        let base = ("base.html", "<header>{% block a %}{% endblock %}</header>");
        refused(&[base], |site| step(site, "base.html:header", false), "belongs to this file's chain");
    }
}
