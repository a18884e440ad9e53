//! `unclosed`: a pair that is never closed.

use crate::check::found::Found;
use crate::check::{Look, Rule, Severity};
use crate::markup::Fault;
use crate::site::Template;
use crate::text::SourceId;

use super::close_mismatch::mismatches;

pub(super) const RULE: Rule = Rule {
    id: "unclosed",
    severity: Severity::Error,
    meaning: "The opening tag of a block, a condition or another pair has no closing tag in its file.",
    example: "-- page.html\n{% block main %}<p>Ferries</p>",
    remedy: "Add the closing tag, or remove the opening one.",
    look: Look::File(look),
};

fn look(id: SourceId, template: &Template) -> Vec<Found> {
    let mut found = Vec::new();
    let mismatched: Vec<_> = mismatches(template).into_iter().filter_map(|(_, opener)| opener).collect();
    let errors = template.constructs.errors.iter();
    for error in errors.filter(|error| error.fault == Fault::Unclosed && !mismatched.contains(&error.span)) {
        found.push(Found::new(id, error.span, error.message.clone()));
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::check::rules::testing::finds;

    #[test]
    fn openers_without_a_closer() {
        finds(
            &RULE,
            &[("a.html", "<p>\n{% block a %}{% if b %}{% endif %}")],
            &["a.html:2: `{% block a %}` is never closed"],
        );
        finds(
            &RULE,
            &[("a.html", "{% block a %}{% if b %}{% endblock %}")],
            &["a.html:1: `{% if b %}` is never closed"],
        );
        finds(&RULE, &[("a.html", "{% block a %}{% if b %}{% endif %}{% endblock %}{# {% block c %} #}")], &[]);
    }
}
