//! `out-of-order`: overrides in another order than the layout has its blocks.

use crate::check::context::{Context, Found};
use crate::check::{Look, Rule, Severity};
use crate::steps;

pub(super) const RULE: Rule = Rule {
    id: "out-of-order",
    severity: Severity::Hint,
    meaning: "A template overrides blocks in another order than its layout has them. It makes no difference for the page, but files are easier to read side by side when they keep one order.",
    example: "-- base.html\n{% block title %}{% endblock %}{% block main %}{% endblock %}\n-- page.html\n{% extends \"base.html\" %}{% block main %}{% endblock %}{% block title %}{% endblock %}",
    remedy: "`radicon step reorder FILE` puts them into the layout's order, and so does `radicon check --mend`.",
    look: Look::Site(look),
};

fn look(context: &Context<'_>) -> Vec<Found> {
    let mut found = Vec::new();
    for (id, template, _) in context.children() {
        let Some(reordered) = steps::reordered(context.site, id) else { continue };
        let item = &template.constructs.items[reordered.first as usize];
        let name = item.name.text(&template.source);
        let message = format!("`{name}` stands behind blocks that the layout has after it");
        found.push(Found::new(id, item.span, message).mended(
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
    use crate::check::rules::testing::{finds, mends};

    const BASE: (&str, &str) =
        ("base.html", "{% block a %}{% endblock %}{% block b %}{% endblock %}{% block c %}{% endblock %}");

    #[test]
    fn overrides_in_another_order() {
        let page = "{% extends 'base.html' %}\n{% block c %}3{% endblock %}\n{% block a %}1{% endblock %}\n";
        finds(&RULE, &[BASE, ("page.html", page)], &["page.html:3: `a` stands behind"]);
        let mended = "{% extends 'base.html' %}\n{% block a %}1{% endblock %}\n{% block c %}3{% endblock %}\n";
        mends(&RULE, &[BASE, ("page.html", page)], "page.html", mended);
        finds(&RULE, &[BASE, ("page.html", mended)], &[]);
    }
}
