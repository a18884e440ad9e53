//! `no-parent`: a page without a layout, where its siblings have one.

use std::cmp::Reverse;
use std::collections::BTreeMap;

use rustc_hash::{FxHashMap, FxHashSet};

use crate::check::context::Context;
use crate::check::found::Found;
use crate::check::{Look, Rule, Severity};
use crate::resolve::loose;
use crate::site::{Parent, Role, Site, Template};
use crate::text::{SourceId, Span};

pub(super) const RULE: Rule = Rule {
    id: "no-parent",
    severity: Severity::Warning,
    meaning: "A template overrides blocks of a layout that others extend, but names no layout and has no skeleton of its own: it renders without one.",
    example: "-- base.html\n<html>{% block main %}{% endblock %}</html>\n-- a.html\n{% extends \"base.html\" %}\n-- b.html\n{% extends \"base.html\" %}\n-- c.html\n{% extends \"base.html\" %}\n-- d.html\n{% block main %}<p>Ferries</p>{% endblock %}",
    remedy: "Name the layout in it. If it is not a page of its own, set `pages` in radicon.toml.",
    look: Look::Site(look),
};

/// A layout that so many templates take is one that others may have forgotten.
const FEWEST_CHILDREN: usize = 2;

fn look(context: &Context<'_>) -> Vec<Found> {
    let site = context.site;
    let layouts = layouts(context);
    // Files that take the place of another one of their name, and those that take it as their layout too.
    let hiding: FxHashMap<SourceId, SourceId> = site.hiding().into_iter().collect();
    let on_hidden = hiding.iter().filter(|(id, hidden)| layout_of(site, **id) == Some(**hidden)).count();
    let mut found = Vec::new();
    // A rule whose layout is gone is one finding for all its pages.
    let lacks_rule =
        |template: &Template| site.settings.folders.iter().any(|rule| rule.lacks_layout_of(site, template));
    let has_none = |(id, template): &(SourceId, &Template)| {
        *site.parent(*id) == Parent::None && !is_whole(template) && !lacks_rule(template)
    };
    for (id, template) in context.templates().filter(has_none) {
        // All that it brings must be for one layout: a fragment has blocks of its own, or other content.
        let names: Vec<&[u8]> = filled(template).collect();
        let Some(first) = names.first().filter(|_| loose(template).is_empty()) else { continue };
        let has_all = |layout: SourceId| names.iter().all(|name| regions(context, layout).contains(name));
        let is_hidden = |hidden: &SourceId| layout_of(site, *hidden) != Some(id) && has_all(*hidden);
        let hidden = hiding.get(&id).copied().filter(|hidden| on_hidden >= FEWEST_CHILDREN && is_hidden(hidden));
        let is_shared = |layout: &&Layout| {
            // A layout in between may be the only one that takes it.
            (layout.children >= FEWEST_CHILDREN && template.role != Role::Partial || template.role == Role::Layout)
                && layout.suffixes.contains(suffix(template))
                && !layout.chain.contains(&id)
                && names.iter().all(|name| layout.regions.contains(name))
        };
        let shared = layouts.iter().filter(is_shared).max_by_key(|layout| (layout.children, Reverse(layout.chain[0])));
        let first = String::from_utf8_lossy(first);
        let message = match (hidden, shared) {
            (Some(hidden), _) => format!(
                "names no layout, but overrides `{first}` of {}, which it replaces; {on_hidden} other templates extend such a file",
                site.get(hidden).path
            ),
            (None, Some(layout)) if layout.children == 0 => {
                format!("names no layout, but overrides `{first}` of {}", site.get(layout.chain[0]).path)
            }
            (None, Some(layout)) => format!(
                "names no layout, but overrides `{first}`; {} templates with such blocks extend {}",
                layout.children,
                site.get(layout.chain[0]).path
            ),
            (None, None) => continue,
        };
        let one = Found::new(id, Span::default(), message);
        // One block around everything may be a fragment that another site overrides.
        match (names.len(), template.role) {
            (1, Role::Layout) if !shared.is_some_and(|layout| is_missed(context, id, layout)) => {}
            (1, Role::Layout) => found.push(one),
            (1, _) => found.push(one.hint()),
            _ => found.push(one),
        }
    }
    found
}

/// A layout that others may have forgotten.
struct Layout<'s> {
    /// Itself, and those above it.
    chain: Vec<SourceId>,
    /// How many templates take it.
    children: usize,
    /// The suffixes of their names, and of its own.
    suffixes: FxHashSet<&'s str>,
    /// The names of all regions that its children may fill.
    regions: FxHashSet<&'s [u8]>,
}

/// The layouts that templates take, and the pages that have a skeleton and blocks.
fn layouts<'s>(context: &Context<'s>) -> Vec<Layout<'s>> {
    let frames = context.templates().filter(|(_, template)| is_whole(template) && template.regions().next().is_some());
    let mut children: BTreeMap<SourceId, Vec<&'s Template>> = frames.map(|(id, _)| (id, Vec::new())).collect();
    for (_, template, chain) in context.children() {
        children.entry(chain.levels[1]).or_default().push(template);
    }
    let layout = |(layout, children): (SourceId, Vec<&'s Template>)| Layout {
        chain: context.resolver.chain(layout).levels,
        children: children.len(),
        suffixes: children.into_iter().chain([context.site.get(layout)]).map(suffix).collect(),
        regions: regions(context, layout),
    };
    children.into_iter().map(layout).collect()
}

fn suffix(template: &Template) -> &str {
    template.path.rsplit_once('.').map_or("", |(_, suffix)| suffix)
}

/// The names of all regions that a layout and those above it have.
fn regions<'s>(context: &Context<'s>, layout: SourceId) -> FxHashSet<&'s [u8]> {
    let site = context.site;
    let of = |level: SourceId| {
        let template = site.get(level);
        template.regions().map(|(_, item)| item.name.of(&template.source))
    };
    context.resolver.chain(layout).levels.into_iter().flat_map(of).collect()
}

/// Whether children of a template give content for blocks that it does not have, and that layout has.
fn is_missed(context: &Context<'_>, id: SourceId, layout: &Layout<'_>) -> bool {
    let site = context.site;
    let own = regions(context, id);
    let children = context.templates().filter(|(child, _)| layout_of(site, *child) == Some(id));
    children.flat_map(|(_, child)| filled(child)).any(|name| !own.contains(name) && layout.regions.contains(name))
}

fn filled(template: &Template) -> impl Iterator<Item = &[u8]> {
    template.outermost().map(|(_, item)| item.name.of(&template.source))
}

fn layout_of(site: &Site, id: SourceId) -> Option<SourceId> {
    match site.parent(id) {
        Parent::Found { id, .. } => Some(*id),
        _ => None,
    }
}

/// Whether a template is a whole document by itself.
fn is_whole(template: &Template) -> bool {
    let head = template.source[..template.source.len().min(4096)].to_ascii_lowercase();
    ["<html", "<!doctype", "<body", "<head"].iter().any(|tag| memchr::memmem::find(&head, tag.as_bytes()).is_some())
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use super::*;
    use crate::check::rules::testing::{finds, finds_in};
    use crate::dialect::Dialect;

    #[test]
    fn the_page_that_forgot_its_layout() {
        let base = ("layouts/base.html", "<html>{% block t %}{% endblock %}{% block a %}{% endblock %}</html>");
        let page = "{% extends 'layouts/base.html' %}";
        let siblings = [base, ("1.html", page), ("2.html", page), ("3.html", page)];
        let with = |last: &[(&'static str, &'static str)]| -> Vec<(&str, &str)> {
            siblings.iter().chain(last).copied().collect()
        };
        let lost = "{% block a %}<p>x</p>{% endblock %}{% block t %}y{% endblock %}";
        let told = "4.html:1: overrides `a`; 3 templates with such blocks extend layouts/base.html";
        finds(&RULE, &with(&[("4.html", lost)]), &[told]);
        // A layout in between too.
        finds(&RULE, &with(&[("4.html", lost), ("5.html", "{% extends '4.html' %}")]), &[told]);
        finds(&RULE, &with(&[("4.html", "{% block a %}x{% endblock %}")]), &[told]);
        finds(&RULE, &with(&[("4.html", "{% block a %}x{% endblock %}"), ("5.html", "{% extends '4.html' %}")]), &[]);
        let alone = [base, ("4.html", lost), ("5.html", "{% extends '4.html' %}")];
        finds(&RULE, &alone, &["4.html:1: overrides `a` of layouts/base.html"]);
        let (one, more) = ("{% block a %}x{% endblock %}", "{% extends '4.html' %}{% block t %}{% endblock %}");
        finds(&RULE, &with(&[("4.html", one), ("5.html", more)]), &[told]);
        finds(&RULE, &with(&[("4.txt", lost)]), &[]);
        finds(&RULE, &with(&[("4.html", "<html><p>{% block a %}x{% endblock %}</html>")]), &[]);
        finds(&RULE, &with(&[("4.html", "<td>{% if a %}x{% endif %}</td>")]), &[]);
        finds(&RULE, &with(&[("4.html", "<form>{% block a %}x{% endblock %}</form>")]), &[]);
        finds(&RULE, &with(&[("4.html", "{% block other %}<p>x</p>{% endblock %}")]), &[]);
        finds(&RULE, &with(&[("4.html", "User-agent: *")]), &[]);
        finds(&RULE, &[base, ("1.html", page), ("4.html", lost)], &[]);
    }

    #[test]
    fn files_in_the_place_of_others_take_them_as_their_layouts() {
        let dialect = Dialect::parse(
            r#"
            name = "gate"
            files = ["**/*.html"]
            [forms]
            parent = { open = '{% over %}', target = "self" }
            block = { open = '{% block <name> %}', close = '{% endblock %}' }
            [rules]
            loose = "ignored"
            "#,
        );
        let roots = "roots = ['own', 'bought']";
        let bought = "<p>{% block a %}{% endblock %}</p>{% block b %}{% endblock %}";
        let (over, lost) =
            ("{% over %}{% block a %}x{% endblock %}", "{% block a %}x{% endblock %}{% block b %}y{% endblock %}");
        let files = [
            ("bought/1.html", bought),
            ("bought/2.html", bought),
            ("bought/3.html", bought),
            ("own/1.html", over),
            ("own/2.html", over),
            ("own/3.html", lost),
        ];
        let told = "own/3.html:1: overrides `a` of bought/3.html, which it replaces; 2 other templates";
        finds_in(&Arc::new(dialect.expect("a dialect")), &RULE, &files, roots, &[told]);
    }
}
