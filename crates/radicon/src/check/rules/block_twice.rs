//! `block-twice`: one block, defined twice in one file.

use crate::check::found::Found;
use crate::check::{Look, Rule, Severity};
use crate::site::Template;
use crate::text::SourceId;

pub(super) const RULE: Rule = Rule {
    id: "block-twice",
    severity: Severity::Error,
    meaning: "A file defines the same block twice. Engines refuse that, or use only one of them.",
    example: "-- page.html\n{% block main %}a{% endblock %}{% block main %}b{% endblock %}",
    remedy: "Merge the two blocks, or rename one. If the engine allows it, set the rule `twice` in the dialect.",
    look: Look::File(look),
};

fn look(id: SourceId, template: &Template) -> Vec<Found> {
    let mut found = Vec::new();
    for at in template.defined_twice() {
        let item = &template.constructs.items[at];
        let name = item.name.text(&template.source);
        let first = template.blocks().find(|(_, known)| known.name.of(&template.source) == name.as_bytes());
        let one = Found::new(id, item.span, format!("the block `{name}` is defined twice in this file"));
        found.push(match first {
            Some((_, first)) => one.with(id, first.span, "first here"),
            None => one,
        });
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::check::rules::testing::finds;

    #[test]
    fn the_same_block_twice_in_one_file() {
        finds(
            &RULE,
            &[("a.html", "{% block a %}1{% endblock %}\n{% block a %}2{% endblock %}")],
            &["a.html:2: the block `a` is defined twice in this file"],
        );
        finds(&RULE, &[("a.html", "{% block a %}1{% endblock %}{% block b %}2{% endblock %}")], &[]);
    }
}
