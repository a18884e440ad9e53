//! `redundant-parent`: a parent line that says what a rule gives anyway.

use crate::check::context::Context;
use crate::check::found::Found;
use crate::check::{Look, Rule, Severity};
use crate::site::Parent;
use crate::steps;

pub(super) const RULE: Rule = Rule {
    id: "redundant-parent",
    severity: Severity::Hint,
    meaning: "A template names the layout that a directory rule in radicon.toml already gives it.",
    example: "-- radicon.toml\n[[folder]]\npath = \"\"\nlayout = \"base.html\"\n-- base.html\n<html>{% block main %}{% endblock %}</html>\n-- page.html\n{% extends \"base.html\" %}{% block main %}Ferries{% endblock %}",
    remedy: "Remove the line, if the engine has the same rule. `radicon check --fix` does it.",
    look: Look::Site(look),
};

fn look(context: &Context<'_>) -> Vec<Found> {
    let site = context.site;
    let mut found = Vec::new();
    for (id, template) in context.templates() {
        let Parent::Found { id: parent, rule: None } = site.parent(id) else { continue };
        let Some(item) = template.parent().filter(|item| !item.dynamic) else { continue };
        if site.layout_by_rule(&template.path) == Some(*parent) {
            let layout = site.get(*parent).path.as_str();
            let message = format!("a directory rule already gives it {layout}");
            let edits = steps::without_parent(template);
            found.push(Found::new(id, item.span, message).fixed("remove the line", true, edits));
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::check::rules::testing::finds_with;

    #[test]
    fn what_the_folder_says_already() {
        let files = [
            ("base.html", "{% block a %}{% endblock %}"),
            ("other.html", "{% block a %}{% endblock %}"),
            ("x/a.html", "\n{% extends 'base.html' %}\n{% block a %}1{% endblock %}"),
            ("x/b.html", "{% extends 'other.html' %}"),
        ];
        let rule = "roots = ['']\n[[folder]]\npath = 'x'\nlayout = 'base.html'\n";
        finds_with(&RULE, &files, rule, &["x/a.html:2: a directory rule already gives it base.html"]);
        finds_with(&RULE, &files, "roots = ['']", &[]);
    }
}
