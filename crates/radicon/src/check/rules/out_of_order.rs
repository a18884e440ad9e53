//! `out-of-order`: overrides in another order than the layout has its blocks.

use crate::check::context::Context;
use crate::check::found::Found;
use crate::check::{Look, Rule, Severity};
use crate::steps;

pub(super) const RULE: Rule = Rule {
    id: "out-of-order",
    severity: Severity::Hint,
    meaning: "A template overrides blocks in another order than its layout. The page is the same, but files are easier to compare in one order.",
    example: "-- base.html\n{% block title %}{% endblock %}{% block main %}{% endblock %}\n-- page.html\n{% extends \"base.html\" %}{% block main %}{% endblock %}{% block title %}{% endblock %}",
    remedy: "`radicon step reorder FILE` puts them into the layout's order; so does `radicon check --fix`.",
    look: Look::Site(look),
};

fn look(context: &Context<'_>) -> Vec<Found> {
    let mut found = Vec::new();
    for (id, template, _) in context.children() {
        let Some(reordered) = steps::reordered(context.site, id) else { continue };
        let items = &template.constructs.items;
        let item = &items[reordered.late];
        let (name, later) = (item.name.text(&template.source), items[reordered.before].name.text(&template.source));
        let message = format!("`{name}` should come before `{later}`");
        found.push(Found::new(id, item.span, message).fixed(
            "put the blocks into the layout's order",
            true,
            reordered.edits,
        ));
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::check::rules::testing::{finds, fixes};

    const BASE: (&str, &str) =
        ("base.html", "{% block a %}{% endblock %}{% block b %}{% endblock %}{% block c %}{% endblock %}");

    #[test]
    fn overrides_in_another_order() {
        let page = "{% extends 'base.html' %}\n{% block c %}3{% endblock %}\n{% block a %}1{% endblock %}\n";
        finds(&RULE, &[BASE, ("page.html", page)], &["page.html:3: `a` should come before"]);
        let fixed = "{% extends 'base.html' %}\n{% block a %}1{% endblock %}\n{% block c %}3{% endblock %}\n";
        fixes(&RULE, &[BASE, ("page.html", page)], "page.html", fixed);
        finds(&RULE, &[BASE, ("page.html", fixed)], &[]);
    }
}
