//! `dangling-id`: an attribute that names an id which the page does not have.

use rustc_hash::FxHashSet;

use super::duplicate_id::{holds_construct, ids};
use crate::check::context::{Context, PageView};
use crate::check::found::Found;
use crate::check::{Look, Rule, Severity};
use crate::dialect::Kind;
use crate::markup::{Token, TokenKind};
use crate::text::Span;

pub(super) const RULE: Rule = Rule {
    id: "dangling-id",
    severity: Severity::Warning,
    meaning: "A label, a link inside the page or another attribute references an id that no element of the page has. It is a hint where the page prints values or has tags that may add elements. `id-attributes` names more attributes that reference ids.",
    example: "-- page.html\n<label for=\"harbour\">From</label><input id=\"habour\">",
    remedy: "Correct the id, or add it to the element.",
    look: Look::Page(look),
};

/// Attributes of HTML and ARIA whose value is an id, or several.
const NAMING: [&[u8]; 16] = [
    b"for",
    b"aria-labelledby",
    b"aria-describedby",
    b"aria-controls",
    b"aria-owns",
    b"aria-activedescendant",
    b"aria-details",
    b"aria-errormessage",
    b"aria-flowto",
    b"headers",
    b"list",
    b"form",
    b"popovertarget",
    b"commandfor",
    b"itemref",
    b"href",
];

fn look(context: &Context<'_>, page: &PageView<'_>) -> Vec<Found> {
    let source = &page.flat.bytes;
    let more = &context.site.settings.check.id_attributes;
    let mut known: FxHashSet<&[u8]> = ids(page).map(|(id, _)| id).collect();
    // The old way to name a place for links.
    known.extend(values(page, |name| name == b"name").map(|(value, _)| value.of(source)));
    let starts = dynamic_starts(page);
    // What is put into another page may name what is there.
    let open = is_open(page) || !is_whole(page);
    let mut found = Vec::new();
    for (value, name) in values(page, |name| NAMING.contains(&name) || more.iter().any(|own| own.as_bytes() == name)) {
        let mut from = value.start;
        for word in value.of(source).split(|b| b.is_ascii_whitespace()) {
            let span = Span::new(from, from + word.len() as u32);
            from = span.end + 1;
            let id = match (&name[..], word.strip_prefix(b"#")) {
                (b"href", None) => continue,
                (_, Some(rest)) => rest,
                (_, None) => word,
            };
            let top = id.is_empty() || &name[..] == b"href" && id.eq_ignore_ascii_case(b"top");
            if top || known.contains(id) || starts.iter().any(|start| id.starts_with(start)) || is_other(id) {
                continue;
            }
            let (file, place) = page.origin(span);
            let (id, name) = (String::from_utf8_lossy(id), String::from_utf8_lossy(&name));
            let one = Found::new(
                file,
                place,
                format!("`{name}` references the id `{id}`, which {} does not have", page.site.get(page.id).path),
            );
            found.push(if open { one.hint() } else { one });
        }
    }
    found
}

/// Whether a page is a whole document.
fn is_whole(page: &PageView<'_>) -> bool {
    let is_frame = |token: &Token| {
        token.kind == TokenKind::StartTag
            && [&b"html"[..], b"body"].iter().any(|name| token.name().of(&page.flat.bytes).eq_ignore_ascii_case(name))
    };
    page.document.tokens.iter().any(is_frame)
}

/// Whether it looks like no id: a URL or selector in an attribute of another use, a fragment with a directive.
fn is_other(id: &[u8]) -> bool {
    id.iter().any(|b| b"/.:>~[".contains(b)) || id.starts_with(b"!")
}

/// The values of attributes that are written out, with the attribute's name.
fn values(page: &PageView<'_>, wanted: impl Fn(&[u8]) -> bool) -> impl Iterator<Item = (Span, Vec<u8>)> {
    let source = &page.flat.bytes;
    let attributes = page.document.tokens.iter().filter(|token: &&Token| token.kind == TokenKind::Attribute);
    attributes.filter_map(move |token| {
        let name = token.name().of(source).to_ascii_lowercase();
        let value = token.value(source).filter(|_| wanted(&name))?;
        (!holds_construct(page, value)).then_some((value, name))
    })
}

/// The written starts of ids that go on with a value.
fn dynamic_starts<'p>(page: &'p PageView<'_>) -> Vec<&'p [u8]> {
    let source = &page.flat.bytes;
    let mut found = Vec::new();
    for token in page.document.tokens.iter().filter(|token| token.kind == TokenKind::Attribute) {
        if !token.name().of(source).eq_ignore_ascii_case(b"id") {
            continue;
        }
        let Some(value) = token.value(source) else { continue };
        let items = page.document.constructs.items.iter();
        if let Some(item) = items.into_iter().find(|item| item.span.start < value.end && item.span.end > value.start) {
            found.push(Span::new(value.start, item.span.start.max(value.start)).of(source));
        }
    }
    found
}

/// Whether something in the page may bring elements that are not seen.
fn is_open(page: &PageView<'_>) -> bool {
    let brings = |kind: Kind| {
        matches!(kind, Kind::Output | Kind::Other | Kind::Code | Kind::Include | Kind::Wrap | Kind::Parent)
    };
    let items = &page.document.constructs.items;
    page.document.tokens.iter().filter(|token| token.kind == TokenKind::Construct).any(|token| {
        let at = items.partition_point(|item| item.span.start < token.start);
        items.get(at).is_some_and(|item| item.span.start == token.start && brings(item.kind))
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::check::rules::testing::{finds, finds_with};

    #[test]
    fn ids_that_are_not_there() {
        let page = "<a href='#here'></a>\n<label for='x'></label><p id='y' aria-describedby='y z'>";
        finds(&RULE, &[("p.html", page)], &["p.html:1: the id `here`", "p.html:2: the id `x`", "p.html:2: the id `z`"]);
    }

    #[test]
    fn ids_of_other_files_and_values_are_found() {
        let files = [
            ("n.html", "<a href='#m'></a><a href='#'></a><a href='#top'></a><a href='/x#y'></a>"),
            (
                "p.html",
                "{% include 'n.html' %}<main id='m'></main><a href='#row-3'></a>{% if a %}<i id='row-{{ n }}'></i>{% endif %}<a href='#old'></a><a name='old'></a>",
            ),
        ];
        finds(&RULE, &files, &[]);
    }

    #[test]
    fn more_attributes_can_be_named() {
        let page = [("p.html", "<a data-into='#x'></a>")];
        finds(&RULE, &page, &[]);
        finds_with(
            &RULE,
            &page,
            "[check]\nid-attributes = ['data-into']",
            &["p.html:1: `data-into` references the id `x`"],
        );
    }
}
