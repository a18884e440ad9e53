//! `lost-content`: content of a child outside of every block.

use crate::check::context::{Context, Found};
use crate::check::{Look, Rule, Severity};
use crate::resolve::loose;
use crate::text::preview;

pub(super) const RULE: Rule = Rule {
    id: "lost-content",
    severity: Severity::Warning,
    meaning: "A template that has a layout holds markup or text outside of every block, where its engine ignores it: no page shows it.",
    example: "-- base.html\n<main>{% block main %}{% endblock %}</main>\n-- page.html\n{% extends \"base.html\" %}\n<p>Ferries</p>",
    remedy: "Put it into a block, or take it away.",
    look: Look::Site(look),
};

fn look(context: &Context<'_>) -> Vec<Found> {
    let mut found = Vec::new();
    for (id, template, _) in context.children() {
        for span in loose(template) {
            let text = span.of(&template.source);
            if is_comment(text) {
                continue;
            }
            let blanks = text.iter().rev().take_while(|b| b.is_ascii_whitespace()).count() as u32;
            let span = crate::text::Span::new(span.start, span.end - blanks);
            found.push(Found::new(
                id,
                span,
                format!("stands outside of every block, and no page shows it: {}", preview(text)),
            ));
        }
    }
    found
}

/// Whether a text is nothing but comments of HTML.
fn is_comment(mut text: &[u8]) -> bool {
    loop {
        text = text.trim_ascii();
        if text.is_empty() {
            return true;
        }
        let Some(rest) = text.strip_prefix(b"<!--") else { return false };
        let Some(end) = memchr::memmem::find(rest, b"-->") else { return false };
        text = &rest[end + 3..];
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::check::rules::testing::finds;

    #[test]
    fn content_that_no_page_shows() {
        let base = ("base.html", "{% block a %}{% endblock %}");
        let page = "{% extends 'base.html' %}\n<!-- note -->\n{% block a %}x{% endblock %}\n <p>lost</p>\n";
        finds(&RULE, &[base, ("page.html", page)], &["page.html:4: <p>lost</p>"]);
        let fine = "{% extends 'base.html' %}\n{% set a = 1 %}{# why #}\n{% block a %}<p>x</p>{% endblock %}\n";
        finds(&RULE, &[base, ("page.html", fine), ("alone.html", "<p>x</p>")], &[]);
    }
}
