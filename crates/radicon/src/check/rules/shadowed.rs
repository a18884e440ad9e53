//! `shadowed`: a file that another root hides.

use crate::check::context::Context;
use crate::check::found::Found;
use crate::check::{Look, Rule, Severity};
use crate::text::Span;

pub(super) const RULE: Rule = Rule {
    id: "shadowed",
    severity: Severity::Hint,
    meaning: "A file replaces one of the same name in a later root, and does not use it. Reported only where `roots` is set.",
    example: "-- radicon.toml\nroots = [\"own\", \"theme\"]\n-- own/nav.html\n<nav>Ferries</nav>\n-- theme/nav.html\n<nav>Home</nav>",
    remedy: "If that is intended, nothing. Else rename one of them.",
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
            Found::new(id, Span::default(), format!("replaces {path}")).with(hidden, Span::default(), "replaced")
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
        finds_with(&RULE, &files, "roots = ['own', 'theme']", &["own/nav.html:1: replaces theme/nav.html"]);
        finds_with(&RULE, &files, "", &[]);
    }
}
