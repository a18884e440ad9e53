//! `lost-content`: content of a child outside every block.

use crate::check::context::Context;
use crate::check::found::Found;
use crate::check::{Look, Rule, Severity};
use crate::dialect::{Kind, Loose};
use crate::markup::ConstructId;
use crate::resolve::{loose, outside};
use crate::text::{Span, count, preview};

pub(super) const RULE: Rule = Rule {
    id: "lost-content",
    severity: Severity::Warning,
    meaning: "A template with a layout has markup or text outside every block. Its engine ignores it, so no page shows it.",
    example: "-- base.html\n<main>{% block main %}{% endblock %}</main>\n-- page.html\n{% extends \"base.html\" %}\n<p>Ferries</p>",
    remedy: "Move it into a block, or remove it.",
    look: Look::Site(look),
};

fn look(context: &Context<'_>) -> Vec<Found> {
    let mut found = Vec::new();
    for (id, template, _) in context.children() {
        // What becomes of it must be known, and a tag that nobody described may show it.
        let own_file = context.site.own_file_tags(id);
        let is_unknown =
            |(at, _): (ConstructId, Span)| template.constructs.items[at].kind == Kind::Other && !own_file.contains(&at);
        if template.dialect.rules.loose == Loose::Unknown || outside(template).any(is_unknown) {
            continue;
        }
        let pieces: Vec<Span> =
            loose(template).into_iter().filter(|span| !is_comment(span.of(&template.source))).collect();
        let Some(first) = pieces.first() else { continue };
        let text = first.of(&template.source);
        let blanks = text.iter().rev().take_while(|b| b.is_ascii_whitespace()).count() as u32;
        let span = Span::new(first.start, first.end - blanks);
        let mut message = format!("is outside every block, so no page shows it: {}", preview(text));
        if pieces.len() > 1 {
            message += &format!(", and {} more", count(pieces.len() - 1, "piece"));
        }
        found.push(Found::new(id, span, message));
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
    use crate::check::rules::testing::{finds, finds_in};
    use crate::dialect::builtin_named;

    #[test]
    fn content_that_no_page_shows() {
        let base = ("base.html", "{% block a %}{% endblock %}");
        let page = "{% extends 'base.html' %}\n<!-- note -->\n{% block a %}x{% endblock %}\n <p>lost</p>\n";
        finds(&RULE, &[base, ("page.html", page)], &["page.html:4: <p>lost</p>"]);
        let fine = "{% extends 'base.html' %}\n{% set a = 1 %}{# why #}\n{% block a %}<p>x</p>{% endblock %}\n";
        finds(&RULE, &[base, ("page.html", fine), ("alone.html", "<p>x</p>")], &[]);
    }

    #[test]
    fn a_tag_that_nobody_described_may_show_it() {
        let base = ("base.html", "{% block a %}{% endblock %}");
        let page = "{% extends 'base.html' %}\n{% ferry %}<p>x</p>{% endferry %}{% block a %}x{% endblock %}";
        finds(&RULE, &[base, ("page.html", page)], &[]);
        let inner = "{% extends 'base.html' %}{% set b %}{% ferry %}{% endset %}{% block a %}{% ferry %}{% endblock %}\n<p>x</p>";
        finds_in(
            &builtin_named("brace-percent").expect("a dialect"),
            &RULE,
            &[base, ("page.html", inner)],
            "",
            &["page.html:2: <p>x</p>"],
        );
    }
}
