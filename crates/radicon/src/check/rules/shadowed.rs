//! `shadowed`: a file that another root hides.

use crate::check::context::{Context, Found};
use crate::check::{Look, Rule, Severity};
use crate::text::Span;

pub(super) const RULE: Rule = Rule {
    id: "shadowed",
    severity: Severity::Hint,
    meaning: "A file of a root that is searched first hides one of the same name in a later root, and does not use it. Where roots were not configured nothing is said.",
    example: "-- radicon.toml\nroots = [\"own\", \"theme\"]\n-- own/nav.html\n<nav>Ferries</nav>\n-- theme/nav.html\n<nav>Home</nav>",
    remedy: "Nothing, if it is meant so. Else give one of them another name.",
    look: Look::Site(look),
};

fn look(context: &Context<'_>) -> Vec<Found> {
    let site = context.site;
    if site.settings.roots.is_none() {
        return Vec::new();
    }
    let uses = |(id, hidden): &(_, _)| context.resolver.chain(*id).levels.contains(hidden);
    let pairs = site.hiding().into_iter().filter(|pair| !uses(pair));
    pairs
        .map(|(id, hidden)| {
            let path = site.get(hidden).path.as_str();
            Found::new(id, Span::default(), format!("hides {path}")).with(hidden, Span::default(), "hidden")
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::check::rules::testing::finds_with;

    #[test]
    fn files_that_hide_others() {
        let files = [
            ("own/nav.html", "<nav>1</nav>{% if a %}{% endif %}"),
            ("own/base.html", "{% extends 'base.html' %}"),
            ("theme/nav.html", "<nav>2</nav>"),
            ("theme/base.html", "{% block a %}{% endblock %}"),
        ];
        finds_with(&RULE, &files, "roots = ['own', 'theme']", &["own/nav.html:1: hides theme/nav.html"]);
        finds_with(&RULE, &files, "", &[]);
    }
}
