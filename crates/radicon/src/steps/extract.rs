//! `extract`: a stretch of markup becomes a partial.

use std::collections::BTreeMap;
use std::sync::Arc;

use memchr::memmem;

use super::{Step, StepError, finish_in, moving, refuse};
use crate::dialect::{Dialect, Kind, Value, Values, builtin_named};
use crate::edit::Edits;
use crate::markup::{Constructs, Document, Node, NodeKind};
use crate::propose::{Passing, Pattern, Segment, bound_to_file};
use crate::prove::Strength;
use crate::repeats::{RepeatCopy, RepeatKind, RepeatOptions, repeats};
use crate::rooted::place_in;
use crate::site::own_file::Needs;
use crate::site::{Home, Role, Site, SourceFile, Template};
use crate::text::{SourceId, Span};

/// The markup that becomes a partial, and the places where it is included.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Extraction {
    /// The name of the partial.
    pub name: String,
    /// Replace every other copy too, those in another dialect by a partial in that dialect.
    pub all: bool,
    /// Its parameters: their names, and the texts of the stretch in whose places they are printed. Other copies may
    /// have other texts there.
    pub values: Vec<(String, String)>,
}

/// A copy, with its values.
#[derive(Clone)]
struct Place {
    id: SourceId,
    span: Span,
    values: Vec<String>,
}

/// Makes a stretch of a template a partial and includes it there, perhaps in the place of every other copy of it too.
/// Every page stays as it is; copies for which that cannot be shown are left, each with a note.
///
/// # Errors
/// If the stretch cuts a tag or a pair in two, holds blocks, does not hold a value, or the dialect has no includes or
/// does not say how values are passed.
pub fn extract(site: &Site, id: SourceId, span: Span, extraction: &Extraction) -> Result<Step, StepError> {
    let margin = site.get(id).dialect.forms.is_empty();
    moving(site, margin, |at| {
        let place = |offset| if std::ptr::eq(at, site) { offset } else { place_in(at.get(id), offset) };
        extracted(at, id, Span::new(place(span.start), place(span.end)), extraction)
    })
}

fn extracted(site: &Site, id: SourceId, span: Span, extraction: &Extraction) -> Result<Step, StepError> {
    let is_name = |name: &str| !name.is_empty() && name.chars().all(|c| c.is_alphanumeric() || "-_".contains(c));
    let Extraction { name, all, values } = extraction;
    if let Some(name) = [name].into_iter().chain(values.iter().map(|(name, _)| name)).find(|name| !is_name(name)) {
        return refuse(format!("`{name}` is not a valid name; use letters, digits, `-` and `_`"));
    }
    let template = site.get(id);
    if let Some(problem) = bound_to_file(template, span) {
        return refuse(problem.to_string());
    }
    may_be_passed(site, template, span, values)?;
    let mut notes = halves(template, span);
    let own = values.iter().map(|(_, text)| text.clone()).collect();
    let mut copies = vec![Place { id, span, values: own }];
    let mut others = others(site, id, span, values, *all);
    others.retain(|copy| {
        let problem = bound_to_file(site.get(copy.id), copy.span);
        notes.extend(problem.as_ref().map(|problem| stays(site, copy, &problem.to_string())));
        problem.is_none()
    });
    if *all {
        copies.extend(others);
    } else if let Some(first) = others.first() {
        let many = if others.len() == 1 { "another copy".to_owned() } else { format!("{} other copies", others.len()) };
        notes
            .push(site.get(first.id).problem(first.span.start, format!("{many}; --all replaces them too")).to_string());
    }
    loop {
        match attempt(site, &copies, extraction) {
            Ok(mut step) => {
                step.notes = notes;
                return Ok(step);
            }
            // A copy that would change its page stays as it is.
            Err(StepError::Changes(page)) if copies.len() > 1 => {
                let users = site.find(&page.page);
                let guilty = copies[1..].iter().rposition(|copy| Some(copy.id) == users).map(|at| at + 1);
                let copy = copies.remove(guilty.unwrap_or(copies.len() - 1));
                notes.push(stays(site, &copy, "its page would change"));
            }
            Err(error) => return Err(error),
        }
    }
}

/// A note about a copy that is left.
fn stays(site: &Site, copy: &Place, why: &str) -> String {
    site.get(copy.id).problem(copy.span.start, format!("this copy is not replaced: {why}")).to_string()
}

/// Refuses values that the stretch does not hold, or that no engine would be sure to print as they are.
fn may_be_passed(site: &Site, template: &Template, span: Span, values: &[(String, String)]) -> Result<(), StepError> {
    if values.is_empty() {
        return Ok(());
    }
    let dialect = speaks(template)?;
    if dialect.rules.arguments.is_none() || dialect.form(Kind::Output).is_none() {
        return refuse(format!(
            "{} does not describe how an include passes values: set `arguments` in its rules",
            dialect.name
        ));
    }
    let passing = Passing::of(site, &dialect);
    let places = places(span.of(&template.source), &dialect, values);
    for (number, (name, text)) in values.iter().enumerate() {
        if passing.value(text).is_none() || text.is_empty() {
            return refuse(format!(
                "`{text}` for `{name}` cannot be passed: it has quotes, is empty, or has tags that print more than a \
                 name; names can be passed where an include of the site passes one already"
            ));
        }
        if places.iter().all(|(_, other)| *other != number) {
            return refuse(format!("the markup does not contain `{text}` for `{name}`"));
        }
    }
    Ok(())
}

/// Notes about elements of which a stretch holds only one of both tags.
fn halves(template: &Template, span: Span) -> Vec<String> {
    let document = Document::with_constructs(&template.source, template.constructs.clone());
    let inside = |offset: u32| span.start <= offset && offset < span.end;
    let nodes = document.nodes.iter().filter(|node| node.kind == NodeKind::Element && node.close < node.last);
    let torn = nodes.filter(|node| inside(document.offset(node.first)) != inside(document.offset(node.close)));
    let note = |node: &Node| {
        let is_first = inside(document.offset(node.first));
        let (from, to) = if is_first { (node.first, node.inner) } else { (node.close, node.last) };
        let tag = Span::new(document.offset(from), document.offset(to));
        let shown = tag.text(&template.source);
        template.problem(tag.start, format!("the markup has only half of the element of `{shown}`")).to_string()
    };
    torn.map(note).collect()
}

/// The step for these copies: byte for byte if that can be, else but for whitespace.
fn attempt(site: &Site, copies: &[Place], extraction: &Extraction) -> Result<Step, StepError> {
    let title = |dialects: usize| {
        let kinds = if dialects > 1 { format!(", in {dialects} dialects") } else { String::new() };
        let many = if copies.len() > 1 { format!(" of {} copies", copies.len()) } else { String::new() };
        format!("make a partial `{}`{many}{kinds}", extraction.name)
    };
    let mut last = None;
    for (ending, strength) in
        [(false, Strength::Bytes), (true, Strength::Bytes), (true, Strength::Blanks), (false, Strength::Blanks)]
    {
        let (edits, more, dialects) = written(site, copies, extraction, ending)?;
        is_read(site, &edits, &more, copies.len())?;
        match finish_in(site, title(dialects), edits, strength, &more) {
            Ok(step) => return Ok(step),
            Err(error @ StepError::Changes(_)) => last = Some(error),
            Err(error) => return Err(error),
        }
    }
    Err(last.unwrap_or(StepError::Refused("nothing to extract".into())))
}

/// Refuses tags that would not be read where they are, as after a word or in a comment.
fn is_read(site: &Site, edits: &Edits, more: &[Arc<Dialect>], copies: usize) -> Result<(), StepError> {
    let after = site.after(&edits.changes(site)?, more);
    let is_new = |id: &SourceId| edits.created.iter().any(|file| file.path == after.get(*id).path);
    let read = |id: u32| {
        let targets = after.links(SourceId(id)).targets();
        targets.filter(|(_, target)| target.as_ref().is_ok_and(is_new)).count()
    };
    let all: usize = (0..after.templates.len() as u32).map(read).sum();
    if all < copies { refuse("no include is read there") } else { Ok(()) }
}

/// The edits, the dialects that new files need, and in how many dialects partials are written.
/// With an `ending` the partials end with their line.
fn written(
    site: &Site,
    copies: &[Place],
    extraction: &Extraction,
    ending: bool,
) -> Result<(Edits, Vec<Arc<Dialect>>, usize), StepError> {
    let mut edits = Edits::default();
    let Extraction { name, values, .. } = extraction;
    // For each dialect what the partial is called in it.
    let mut partials: BTreeMap<String, String> = BTreeMap::new();
    let mut more: Vec<Arc<Dialect>> = Vec::new();
    let needs = Needs::of(site);
    // Copies with values are all in one dialect.
    let passing = Passing::of(site, &speaks(site.get(copies[0].id))?);
    for Place { id, span, values: own } in copies {
        let template = site.get(*id);
        let dialect = speaks(template)?;
        let form = include_form(&dialect, !values.is_empty())
            .ok_or_else(|| StepError::Refused(format!("{} has no includes", dialect.name)))?;
        if !partials.contains_key(&dialect.name) {
            let home = Home::of(site, &dialect, Role::Partial, "partials", Some(&template.path));
            let is_new = |path: &str| edits.created.iter().all(|file| *file.path != *path);
            let path = home.path(name, |path| site.find(path).is_none() && is_new(path));
            let mut content = with_outputs(&dedented(template, *span), values, &dialect);
            if ending {
                content.push(b'\n');
            }
            let content = needs.carried(content, &dialect, &site.sure_own_file_texts(*id), ending);
            partials.insert(dialect.name.clone(), site.name_for(&path, &dialect, Kind::Include));
            edits.created.push(SourceFile::new(path, content));
            more.push(Arc::clone(&dialect));
        }
        let bindings: Vec<(&str, Value<'_>)> = values
            .iter()
            .zip(own)
            .filter_map(|((name, _), text)| Some((name.as_str(), passing.value(text)?)))
            .collect();
        let arguments = if bindings.is_empty() { None } else { dialect.rules.write_arguments(&bindings) };
        let (target, expr) = (&partials[&dialect.name], arguments.unwrap_or_default());
        let tag = form.open.write(&Values { target, expr: &expr, ..Values::default() });
        edits.replace(template.path.clone(), *span, tag.as_bytes());
    }
    let dialects = partials.len();
    Ok((edits, more, dialects))
}

/// How a file is included by name, perhaps with values.
fn include_form(dialect: &Dialect, with_values: bool) -> Option<&crate::dialect::Form> {
    dialect.forms.iter().find(|form| {
        let example = form.open.example();
        let (takes, must) = (example.contains("<args>"), !example.contains("[<args>]"));
        form.kind == Kind::Include
            && !form.is_attribute()
            && example.contains("<target>")
            && if with_values { takes } else { !takes || !must }
    })
}

/// A text with tags that print the parameters in the places of the values.
fn with_outputs(text: &[u8], values: &[(String, String)], dialect: &Dialect) -> Vec<u8> {
    let output = |number: usize| {
        let printed = Values { expr: &values[number].0, ..Values::default() };
        dialect.form(Kind::Output).map(|form| form.open.write(&printed)).unwrap_or_default()
    };
    let write = |segment| match segment {
        Segment::Fixed(bytes) => bytes,
        Segment::Value(number) => output(number).into_bytes(),
    };
    segments(text, dialect, values).into_iter().flat_map(write).collect()
}

/// A text with its values cut out.
fn segments(text: &[u8], dialect: &Dialect, values: &[(String, String)]) -> Vec<Segment> {
    let mut segments = Vec::new();
    let mut at = 0;
    for (span, number) in places(text, dialect, values) {
        segments.extend([Segment::Fixed(text[at..span.start as usize].to_vec()), Segment::Value(number)]);
        at = span.end as usize;
    }
    segments.push(Segment::Fixed(text[at..].to_vec()));
    segments
}

/// The places of values in a text outside its tags: in order, each with its number; whole words alone.
fn places(text: &[u8], dialect: &Dialect, values: &[(String, String)]) -> Vec<(Span, usize)> {
    let tags = if values.is_empty() { Vec::new() } else { Constructs::read(text, dialect).items };
    let cuts = |span: Span, tag: Span| tag.start < span.end && span.start < tag.end && tag != span;
    let is_in_tag = |span: Span| tags.iter().any(|tag| cuts(span, tag.span));
    let is_word = |byte: Option<&u8>| byte.is_some_and(|b| b.is_ascii_alphanumeric() || *b >= 0x80);
    let mut found: Vec<(Span, usize)> = Vec::new();
    let mut order: Vec<usize> = (0..values.len()).collect();
    order.sort_by_key(|&at| std::cmp::Reverse(values[at].1.len()));
    for number in order {
        let value = values[number].1.as_bytes();
        for at in memmem::find_iter(text, value) {
            let span = Span::from_range(at..at + value.len());
            let is_inside = is_word(at.checked_sub(1).and_then(|at| text.get(at))) && is_word(value.first())
                || is_word(text.get(at + value.len())) && is_word(value.last());
            if !is_inside
                && !is_in_tag(span)
                && found.iter().all(|(other, _)| other.end <= span.start || span.end <= other.start)
            {
                found.push((span, number));
            }
        }
    }
    found.sort_by_key(|(span, _)| span.start);
    found
}

/// The dialect in which a template includes: its own, or Radicon's where it has none.
fn speaks(template: &Template) -> Result<Arc<Dialect>, StepError> {
    if !template.dialect.forms.is_empty() {
        return Ok(Arc::clone(&template.dialect));
    }
    builtin_named("margin").ok_or_else(|| StepError::Refused("no dialect to write".into()))
}

/// The other copies of a stretch that are the same but for their values, whitespace and their dialect; those that
/// are written otherwise are sought `thoroughly`.
fn others(site: &Site, id: SourceId, span: Span, values: &[(String, String)], thoroughly: bool) -> Vec<Place> {
    let template = site.get(id);
    let mut copies: Vec<Place> = Vec::new();
    if thoroughly && values.is_empty() {
        copies.extend(repeated(site, id, span).into_iter().map(|(id, span)| Place { id, span, values: Vec::new() }));
    }
    // What is part of greater repeats is not told as one, nor are near copies: the same lines are found by themselves.
    let segments = segments(span.of(&template.source), &template.dialect, values);
    let passing = Passing::of(site, &template.dialect);
    let pattern = Pattern::of(&segments, values.len(), passing, Strength::Blanks);
    for (other, file) in
        site.with_ids().filter(|(_, file)| values.is_empty() || file.dialect.name == template.dialect.name)
    {
        for (there, values) in pattern.find(&file.source) {
            let overlaps =
                |known: &Place| known.id == other && known.span.start < there.end && there.start < known.span.end;
            let itself = other == id && there.start < span.end && span.start < there.end;
            if !itself && !copies.iter().any(overlaps) {
                copies.push(Place { id: other, span: there, values });
            }
        }
    }
    copies.sort_by_key(|copy| (copy.id, copy.span.start));
    copies.dedup_by_key(|copy| (copy.id, copy.span));
    copies
}

/// The copies that the search for repeats tells.
fn repeated(site: &Site, id: SourceId, span: Span) -> Vec<(SourceId, Span)> {
    let options = RepeatOptions {
        min_bytes: 20,
        min_nodes: 1,
        min_saving: Some(0),
        similarity: None,
        ..RepeatOptions::default()
    };
    let path = &site.get(id).path;
    let is_it = |copy: &&RepeatCopy| *copy.file == **path && copy.byte_start == span.start && copy.byte_end == span.end;
    let found = repeats(site, &options);
    let groups = found.groups.iter().filter(|group| group.kind == RepeatKind::Same);
    let own = groups.filter(|group| group.copies.iter().any(|copy| is_it(&copy)));
    let copies = own.flat_map(|group| group.copies.iter().filter(|copy| !is_it(copy)));
    copies.filter_map(|copy| Some((site.find(&copy.file)?, Span::new(copy.byte_start, copy.byte_end)))).collect()
}

/// A stretch without the indentation of its first line.
fn dedented(template: &Template, span: Span) -> Vec<u8> {
    let text = span.of(&template.source);
    let indent = template.indentation(span.start);
    // Inside of elements that keep whitespace nothing is moved.
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
        extract(site, id, span, &Extraction { name: "menu".into(), all, ..Extraction::default() })
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
    fn values_become_parameters_and_copies_may_have_others() {
        let boat = |name: &str, indent: &str| {
            format!("{indent}<li class=\"boat\">\n{indent}  <b>{name}</b> {{{{ x }}}}\n{indent}</li>\n")
        };
        let (p, q) = (format!("<ul>\n{}</ul>\n", boat("Heron", "  ")), boat("Gull", "\t\t"));
        let files =
            [("p.html", p.as_str()), ("q.html", q.as_str()), ("r.html", "{% include \"p.html\" with a=\"b\" %}")];
        let wanted =
            |text: &str, all| Extraction { name: "boat".into(), all, values: vec![("name".into(), text.into())] };
        let made = |site: &Site, text: &str, all| {
            let (id, span) = find_place(site, "p.html:li", |file| site.find(file)).expect("a place");
            extract(site, id, span, &wanted(text, all))
        };
        let files = files.map(|(path, text)| SourceFile::new(path, text)).into();
        let site = Site::read(files, crate::dialect::builtin(), &crate::site::Settings::default());
        let after = site.after(&made(&site, "Heron", true).expect("a step").changes, &[]);
        let text = |path: &str| String::from_utf8_lossy(&after.get(after.find(path).expect(path)).source).into_owned();
        assert_eq!(text("boat.html"), "<li class=\"boat\">\n  <b>{{ name }}</b> {{ x }}\n</li>\n");
        assert_eq!(text("p.html"), "<ul>\n  {% include \"boat.html\" with name=\"Heron\" %}\n</ul>\n");
        assert_eq!(text("q.html"), "\t\t{% include \"boat.html\" with name=\"Gull\" %}\n");
        for (value, why) in [("Osprey", "does not contain `Osprey`"), ("{{ x }}", "cannot be passed")] {
            let refused = made(&site, value, true).expect_err(why).to_string();
            assert!(refused.contains(why), "{refused}");
        }
    }

    #[test]
    fn a_name_that_is_printed_becomes_a_parameter() {
        let boat = |name: &str| format!("<p class=\"boat\">{{{{ {name} }}}} sails</p>\n");
        let files = [
            ("p.html", boat("boat.name")),
            ("q.html", boat("ferry")),
            ("r.html", "{% include \"p.html\" with a=b.c %}".to_owned()),
        ];
        let files = files.map(|(path, text)| SourceFile::new(path, text)).into();
        let site = Site::read(files, crate::dialect::builtin(), &crate::site::Settings::default());
        let values = vec![("name".to_owned(), "{{ boat.name }}".to_owned())];
        let (id, span) = find_place(&site, "p.html:p", |file| site.find(file)).expect("a place");
        let step = extract(&site, id, span, &Extraction { name: "boat".into(), all: true, values }).expect("a step");
        let after = site.after(&step.changes, &[]);
        let text = |path: &str| String::from_utf8_lossy(&after.get(after.find(path).expect(path)).source).into_owned();
        assert_eq!(text("boat.html"), "<p class=\"boat\">{{ name }} sails</p>");
        assert_eq!(text("p.html"), "{% include \"boat.html\" with name=boat.name %}\n");
        assert_eq!(text("q.html"), "{% include \"boat.html\" with name=ferry %}\n");
    }

    #[test]
    fn values_are_whole_words_outside_of_tags() {
        let dialect = builtin_named("brace-percent").expect("a dialect");
        let values = [("name".to_owned(), "Heron".to_owned())];
        let found = places(b"{{ Heron }} Heron, Heronry", &dialect, &values);
        assert_eq!(found, [(Span::new(12, 17), 0)]);
    }

    #[test]
    fn copies_that_stay_and_halves_are_told() {
        let item = "<li class=\"boat\"><b>Heron</b></li>";
        let files = [("p.html", format!("<ul>\n{item}\n{item}\n</ul>{{% if x %}}{{% endif %}}"))];
        let files: Vec<SourceFile> = files.map(|(path, text)| SourceFile::new(path, text)).into();
        let site = Site::read(files, crate::dialect::builtin(), &crate::site::Settings::default());
        let notes = |place: &str| step(&site, place, false).expect("a step").notes;
        assert_eq!(notes("p.html:2"), ["p.html:3:1: another copy; --all replaces them too"]);
        let halves = notes("p.html:1-2");
        assert!(halves.iter().any(|note| note.contains("only half of the element of `<ul>`")), "{halves:?}");
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
