//! `close-mismatch`: a closing tag that does not fit.

use crate::check::found::Found;
use crate::check::{Look, Rule, Severity};
use crate::dialect::Part;
use crate::edit::Edits;
use crate::markup::{Fault, SyntaxError};
use crate::site::Template;
use crate::text::{SourceId, Span};

pub(super) const RULE: Rule = Rule {
    id: "close-mismatch",
    severity: Severity::Error,
    meaning: "A closing tag closes nothing, names another block than the open one, or closes another kind of pair; or a dividing tag is outside its pair.",
    example: "-- page.html\n{% block main %}<p>Ferries</p>{% endblock mian %}",
    remedy: "Write the name of the open block, or none. `radicon check --fix` corrects slightly misspelt names.",
    look: Look::File(look),
};

/// Closing tags that close nothing, each with the unclosed opening tag before it that it was most
/// likely meant for.
pub(super) fn mismatches(template: &Template) -> Vec<(&SyntaxError, Option<Span>)> {
    let errors = &template.constructs.errors;
    let mut open: Vec<Span> = Vec::new();
    let mut found = Vec::new();
    for error in errors {
        match error.fault {
            Fault::Unclosed => open.push(error.span),
            Fault::ClosesNothing => found.push((error, open.pop())),
            Fault::Outside => found.push((error, None)),
        }
    }
    found
}

fn look(id: SourceId, template: &Template) -> Vec<Found> {
    let mut found = Vec::new();
    let item = |span: Span| template.constructs.items.iter().find(|item| item.span == span);
    for (error, opener) in mismatches(template) {
        let one = Found::new(id, error.span, error.message.clone());
        let Some(opener) = opener.and_then(item) else {
            found.push(one);
            continue;
        };
        let opened = opener.span.text(&template.source);
        let mut one = one.with(id, opener.span, format!("`{opened}` is open here"));
        if let Some(closer) = item(error.span).filter(|closer| !closer.name.is_empty() && closer.part == Part::Close) {
            let (written, meant) = (closer.name.text(&template.source), opener.name.text(&template.source));
            one.message = format!("closes `{written}`, but `{meant}` is open");
            if closer.kind == opener.kind {
                let mut edits = Edits::default();
                edits.replace(template.path.clone(), closer.name, meant.as_bytes());
                one = one.fixed(format!("write `{meant}`"), false, edits);
            }
        }
        found.push(one);
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::check::rules::testing::{finds, fixes};

    #[test]
    fn closers_that_do_not_fit() {
        finds(
            &RULE,
            &[("a.html", "{% set a = 1 %}{% block main %}x\n{% endblock mian %}")],
            &["a.html:2: closes `mian`, but `main` is open"],
        );
        finds(
            &RULE,
            &[("a.html", "<p>{% set a = 1 %}{% endfor %}\n{% else %}")],
            &["a.html:1: `{% endfor %}` closes nothing", "a.html:2: is outside the pair"],
        );
        finds(&RULE, &[("a.html", "{% block a %}{% block b %}{% endblock b %}{% endblock %}")], &[]);
    }

    #[test]
    fn a_wrong_name_is_mended() {
        fixes(
            &RULE,
            &[("a.html", "{% set a = 1 %}{% block main %}x{% endblock mian %}")],
            "a.html",
            "{% set a = 1 %}{% block main %}x{% endblock main %}",
        );
    }
}
