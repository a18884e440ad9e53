//! `duplicate-id`: one id on two elements of a page.

use rustc_hash::FxHashMap;

use crate::check::context::{Context, PageView};
use crate::check::found::Found;
use crate::check::{Look, Rule, Severity};
use crate::dialect::Kind;
use crate::markup::{ConstructId, NodeKind, Token, TokenKind};
use crate::text::{SourceId, Span};

pub(super) const RULE: Rule = Rule {
    id: "duplicate-id",
    severity: Severity::Warning,
    meaning: "A finished page has the same id on two elements: links, labels and scripts find only the first. Two branches of one condition may have the same id.",
    example: "-- base.html\n<main id=\"content\">{% block main %}{% endblock %}</main>\n-- page.html\n{% extends \"base.html\" %}{% block main %}<div id=\"content\">Ferries</div>{% endblock %}",
    remedy: "Rename one of the ids.",
    look: Look::Page(look),
};

/// Ids of elements in a page that are written out, with the attribute's value.
pub(super) fn ids<'p>(page: &'p PageView<'_>) -> impl Iterator<Item = (&'p [u8], Span)> {
    let source = &page.flat.bytes;
    let written = page.document.nodes.iter().filter(|node| node.kind == NodeKind::Element).flat_map(move |node| {
        page.document.tokens_between(node.first, node.inner).iter().filter(move |token| is_id(source, token))
    });
    written.filter_map(|token| {
        let value = token.value(source)?;
        (!value.is_empty() && !holds_construct(page, value)).then(|| (value.of(source), value))
    })
}

fn is_id(source: &[u8], token: &Token) -> bool {
    token.kind == TokenKind::Attribute && token.name().of(source).eq_ignore_ascii_case(b"id")
}

/// Whether part of a stretch is put in when the page is rendered.
pub(super) fn holds_construct(page: &PageView<'_>, span: Span) -> bool {
    let items = &page.document.constructs.items;
    let first = items.partition_point(|item| item.span.end <= span.start);
    items.get(first).is_some_and(|item| item.span.start < span.end && !item.span.is_empty())
}

fn look(_: &Context<'_>, page: &PageView<'_>) -> Vec<Found> {
    let mut seen: FxHashMap<&[u8], Vec<(Span, Branches)>> = FxHashMap::default();
    let mut found = Vec::new();
    for (id, span) in ids(page) {
        let branches = page.branches(span.start);
        let before = seen.entry(id).or_default();
        if let Some((first, other)) = before.iter().find(|(_, other)| !exclude(other, &branches)) {
            let one = told(page, id, page.origin(span), page.origin(*first));
            // Two conditions may exclude each other, and so may what program code decides.
            let is_sure = branches.keys().all(|at| other.contains_key(at))
                && other.keys().all(|at| branches.contains_key(at))
                && !page.document.constructs.items.iter().any(|item| item.kind == Kind::Code);
            found.push(if is_sure { one } else { one.hint() });
        }
        // Two in one branch are alike to all others.
        if !before.iter().any(|(_, other)| *other == branches) {
            before.push((span, branches));
        }
    }
    found
}

/// The branches around a place, by their conditions.
type Branches = FxHashMap<ConstructId, usize>;

fn told(page: &PageView<'_>, id: &[u8], (source, span): (SourceId, Span), (other, there): (SourceId, Span)) -> Found {
    let id = String::from_utf8_lossy(id);
    let name = |id: SourceId| page.site.get(id).path.as_str();
    let message = if (source, span) == (other, there) {
        format!("the id `{id}` gets into {} twice from here", name(page.id))
    } else if source == other {
        format!("the id `{id}` is in this file twice")
    } else {
        format!("the id `{id}` is also in {}, and both get into the same page", name(other))
    };
    Found::new(source, span, message).with(other, there, "the first one")
}

/// Whether two places are in different branches of one condition.
fn exclude(a: &Branches, b: &Branches) -> bool {
    a.iter().any(|(condition, branch)| b.get(condition).is_some_and(|other| other != branch))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::check::rules::testing::finds;

    #[test]
    fn one_id_twice_in_a_page() {
        let base = ("base.html", "<main id='a'>{% block m %}{% endblock %}</main>");
        let page = "{% extends 'base.html' %}\n{% block m %}<p id=a>{% endblock %}";
        finds(
            &RULE,
            &[base, ("p.html", page), ("q.html", "{% extends 'base.html' %}")],
            &["p.html:2: `a` is also in base.html"],
        );
        finds(
            &RULE,
            &[("n.html", "<i id='x'></i>"), ("p.html", "{% include 'n.html' %}{% include 'n.html' %}")],
            &["n.html:1: gets into p.html twice"],
        );
    }

    #[test]
    fn branches_and_put_in_values_do_not_count() {
        let page = "{% if a %}<p id='x'>{% else %}<p id='x'>{% endif %}<p id='y{{ n }}'><p id='y{{ m }}'><!-- <p id='z'> --><p id='z'>";
        finds(&RULE, &[("p.html", page)], &[]);
    }
}
