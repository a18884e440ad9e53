//! `unfollowed`: content that could not be followed to its end.

use crate::check::context::{Context, PageView};
use crate::check::found::Found;
use crate::check::{Look, Rule, Severity};
use crate::site::ProblemKind;
use crate::text::Span;

pub(super) const RULE: Rule = Rule {
    id: "unfollowed",
    severity: Severity::Error,
    meaning: "A part of a page is missing when it is put together: a block is inside itself, or blocks and includes are nested deeper than they are followed. Nothing about such a page is proven.",
    example: "-- base.html\n{% block c %}{% block b %}{% endblock %}{% endblock %}\n-- page.html\n{% extends \"base.html\" %}\n{% block b %}{% block c %}{{ super() }}{% endblock %}{% endblock %}",
    remedy: "Give the inner block a name of its own, or nest less deeply.",
    look: Look::Page(look),
};

fn look(_: &Context<'_>, page: &PageView<'_>) -> Vec<Found> {
    let problems = page.flat.problems.iter().filter(|problem| problem.kind == ProblemKind::Unfollowed);
    let found = problems.filter_map(|problem| {
        let id = page.site.find(&problem.file)?;
        let template = page.site.get(id);
        let is_there = |span: &Span| Some(template.position(span.start)) == problem.at;
        let spans = template.constructs.items.iter().map(|item| item.span);
        Some(Found::new(id, spans.clone().find(is_there).unwrap_or_default(), problem.message.clone()))
    });
    found.collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::check::rules::testing::finds;

    #[test]
    fn what_is_left_out_of_a_page_is_found() {
        let base = ("base.html", "{% block c %}{% block b %}{% endblock %}{% endblock %}");
        let page = |inner: &str| {
            format!(
                "{{% extends 'base.html' %}}\n{{% block b %}}{{% block c %}}{inner}{{% endblock %}}{{% endblock %}}"
            )
        };
        finds(&RULE, &[base, ("page.html", &page("{{ super() }}"))], &["page.html:2: inside itself"]);
        finds(&RULE, &[base, ("page.html", &page("x"))], &[]);
    }

    #[test]
    fn a_partial_in_the_layout_of_its_page_is_followed() {
        let files = [
            ("base.html", "<main>{% block content %}{% block inner %}{% endblock %}{% endblock %}</main>"),
            ("card.html", "{% extends 'base.html' %}{% block inner %}card{% endblock %}"),
            ("page.html", "{% extends 'base.html' %}{% block inner %}{% include 'card.html' %}{% endblock %}"),
        ];
        finds(&RULE, &files, &[]);
    }
}
