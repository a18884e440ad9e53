//! `dead-override`: an override that says what it overrides.

use crate::check::context::Context;
use crate::check::found::Found;
use crate::check::{Look, Rule, Severity};
use crate::dialect::Kind;
use crate::edit::Edits;
use crate::text::{Span, trim_blanks};

pub(super) const RULE: Rule = Rule {
    id: "dead-override",
    severity: Severity::Hint,
    meaning: "An override has the same content as what it overrides, or only inherits it: without it the page is the same.",
    example: "-- base.html\n<title>{% block title %}Ferries{% endblock %}</title>\n-- page.html\n{% extends \"base.html\" %}{% block title %}Ferries{% endblock %}",
    remedy: "Remove it, so that changes in the layout reach the page. `radicon check --fix` does it.",
    look: Look::Site(look),
};

fn look(context: &Context<'_>) -> Vec<Found> {
    let mut found = Vec::new();
    for (id, template, chain) in context.children() {
        for (at, item) in template.outermost() {
            let Some(close) = template.constructs.partner(item) else { continue };
            let name = item.name.of(&template.source);
            let Some(next) = context.replaced(&chain, name) else { continue };
            let inside = template.constructs.inside(at);
            let content = trim_blanks(template.inner(at).of(&template.source));
            let only_inherits =
                matches!(inside, [one] if one.kind == Kind::Inherited && one.span.of(&template.source) == content);
            let above = context.site.get(next.source);
            let plain = !inside.iter().any(|inner| inner.kind == Kind::Inherited || inner.kind.defines())
                && above.dialect.name == template.dialect.name;
            let same =
                plain && content == trim_blanks(above.inner(next.construct).of(&above.source)) && !content.is_empty();
            if !only_inherits && !same {
                continue;
            }
            let what = if same { "repeats" } else { "only inherits" };
            let mut edits = Edits::default();
            edits.remove(template.path.clone(), template.whole_lines(Span::new(item.span.start, close.span.end)));
            let message = format!("`{}` {what} the content it replaces", String::from_utf8_lossy(name));
            let place = above.constructs.items[next.construct].span;
            found.push(Found::new(id, item.span, message).with(next.source, place, "the same content").fixed(
                "remove it",
                true,
                edits,
            ));
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::check::rules::testing::{finds, fixes};

    const BASE: (&str, &str) = ("base.html", "<b>{% block a %}<i>1</i>{% endblock %}</b>{% block e %}{% endblock %}");

    #[test]
    fn overrides_that_change_nothing() {
        let page = "{% extends 'base.html' %}\n{% block a %} <i>1</i>\n{% endblock %}\n{% block e %}{% endblock %}";
        finds(&RULE, &[BASE, ("page.html", page)], &["page.html:2: `a` repeats"]);
        let page = "{% extends 'base.html' %}\n{% block a %}{{ super() }}{% endblock %}\n";
        finds(&RULE, &[BASE, ("page.html", page)], &["page.html:2: `a` only inherits"]);
        fixes(&RULE, &[BASE, ("page.html", page)], "page.html", "{% extends 'base.html' %}\n");
        let page = "{% extends 'base.html' %}{% block a %}2{{ super() }}{% endblock %}";
        finds(&RULE, &[BASE, ("page.html", page)], &[]);
    }
}
