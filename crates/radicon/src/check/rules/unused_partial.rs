//! `unused-partial`: a partial nobody includes.

use std::collections::BTreeMap;

use crate::check::context::Context;
use crate::check::found::Found;
use crate::check::{Look, Rule, Severity};
use crate::site::{Parent, Role, Template, folder};
use crate::text::Span;

pub(super) const RULE: Rule = Rule {
    id: "unused-partial",
    severity: Severity::Hint,
    meaning: "A template is among the partials, is not a whole page, and neither a template nor the application's code includes it.",
    example: "-- page.html\n{% include \"parts/nav.html\" %}{% include \"parts/foot.html\" %}\n-- parts/nav.html\n<nav></nav>\n-- parts/foot.html\n<footer></footer>\n-- parts/old.html\n<p>Old prices</p>{% if a %}{% endif %}",
    remedy: "Delete it, or include it. If a program outside the site includes it, set `pages` in radicon.toml.",
    look: Look::Site(look),
};

fn look(context: &Context<'_>) -> Vec<Found> {
    let site = context.site;
    let mut folders: BTreeMap<&str, (usize, usize)> = BTreeMap::new();
    for (_, template) in context.templates() {
        let (partials, all) = folders.entry(folder(&template.path)).or_default();
        *partials += usize::from(template.role == Role::Partial);
        *all += 1;
    }
    let named_by_code =
        |template: &Template| site.references.iter().any(|reference| reference.template == template.path);
    let dynamic = dynamic_folders(context);
    // Where nothing but templates names templates, their pages name all there is; else programs must be here.
    let is_rendered = |template: &Template| !template.dialect.is_static();
    let sees_code = !site.references.is_empty() || !site.templates.iter().any(is_rendered);
    let mut found = Vec::new();
    for (id, template) in context.templates() {
        let own = folder(&template.path);
        let (partials, all) = folders.get(own).copied().unwrap_or_default();
        let among = partials >= 2 && partials * 2 >= all || has_prefix(template);
        let is_page = site.settings.pages.as_ref().is_some_and(|pages| pages.fit(&template.path));
        let alone =
            *site.parent(id) == Parent::None && template.role == Role::Page && template.blocks().next().is_none();
        let maybe = dynamic.iter().any(|written| own.ends_with(written.trim_end_matches('/')));
        if among && alone && !is_page && !named_by_code(template) && !is_document(&template.source) {
            let (message, is_sure) = match (maybe, sees_code) {
                (true, _) => ("nothing includes it, unless by a name that is put together", false),
                (_, false) => ("nothing includes it, unless a program does whose files are not here", false),
                _ => ("nothing includes it", true),
            };
            let one = Found::new(id, Span::default(), message);
            found.push(if is_sure { one } else { one.hint() });
        }
    }
    found
}

/// Whether its name begins as those of partials do in its dialect.
fn has_prefix(template: &Template) -> bool {
    let name = template.path.rsplit('/').next().unwrap_or_default();
    let prefix = template.dialect.targets_of(crate::dialect::Kind::Include).prefix.as_str();
    !prefix.is_empty() && name.starts_with(prefix)
}

fn is_document(source: &[u8]) -> bool {
    let head = source[..source.len().min(2048)].to_ascii_lowercase();
    [&b"<html"[..], b"<!doctype", b"<body"].iter().any(|tag| memchr::memmem::find(&head, tag).is_some())
}

/// Folders from which something is included whose name is put together when the page is rendered.
fn dynamic_folders(context: &Context<'_>) -> Vec<String> {
    let mut found = Vec::new();
    for (_, template) in context.templates() {
        for (_, item) in template.includes().filter(|(_, item)| item.dynamic) {
            let written = item.target.text(&template.source).into_owned();
            let folders = written.split(['"', '\'']).filter(|piece| piece.ends_with('/')).map(str::to_owned);
            found.extend(folders);
        }
    }
    found.sort();
    found.dedup();
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::check::rules::testing::finds;

    #[test]
    fn partials_nobody_includes() {
        let page = ("page.html", "{% include 'parts/a.html' %}{% include 'parts/b.html' %}");
        let parts = [page, ("parts/a.html", "<p>"), ("parts/b.html", "<p>")];
        let old = |text: &'static str| -> Vec<(&str, &str)> {
            parts.iter().copied().chain([("parts/old.html", text)]).collect()
        };
        finds(&RULE, &old("<p>{% if a %}{% endif %}"), &["parts/old.html:1: nothing includes it"]);
        finds(&RULE, &old("<html>{% if a %}{% endif %}"), &[]);
        finds(&RULE, &[page, ("other.html", "{% if a %}{% endif %}")], &[]);
    }
}
