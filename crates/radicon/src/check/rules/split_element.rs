//! `split-element`: partials that hold half an element.

use crate::check::context::Context;
use crate::check::found::Found;
use crate::check::{Look, Rule, Severity};
use crate::markup::elements::{Content, element, may_stay_open};
use crate::markup::{Document, NodeId, NodeKind, TokenKind};
use crate::site::{Role, Template};
use crate::text::Span;

pub(super) const RULE: Rule = Rule {
    id: "split-element",
    severity: Severity::Hint,
    meaning: "A partial opens an element that it does not close, or closes one that it did not open. The other half is in another file, and neither can be changed alone.",
    example: "-- head.html\n<body>\n<main class=\"wide\">\n-- foot.html\n</main>\n</body>\n-- page.html\n{% include \"head.html\" %}<p>Ferries</p>{% include \"foot.html\" %}",
    remedy: "Turn the two into a layout with a block between them: `radicon step fuse HEAD FOOT`.",
    look: Look::Site(look),
};

fn look(context: &Context<'_>) -> Vec<Found> {
    let mut found = Vec::new();
    for (id, template) in context.templates().filter(|(_, template)| template.role == Role::Partial) {
        let (opened, closed) = halves(template);
        let Some(&(span, ref name)) = opened.first().or(closed.first()) else { continue };
        let does = if opened.is_empty() { "closes" } else { "opens" };
        let more = opened.len().max(closed.len()) - 1;
        let others = if more > 0 { format!(" and {more} more") } else { String::new() };
        let lacks = if opened.is_empty() { "it did not open" } else { "it does not close" };
        let message = format!("{does} <{name}>{others}, which {lacks}");
        found.push(Found::new(id, span, message));
    }
    found
}

/// A tag, and the name of its element.
type Half = (Span, String);

/// Elements that a template opens and does not close, and end tags of elements that it did not
/// open, outside conditions.
fn halves(template: &Template) -> (Vec<Half>, Vec<Half>) {
    let source = &template.source;
    let document = Document::with_constructs(source, template.constructs.clone());
    let (mut opened, mut closed) = (Vec::new(), Vec::new());
    // What holds a node comes before it.
    let mut in_pair = vec![false; document.nodes.len()];
    for (at, node) in NodeId::each(&document.nodes) {
        let outer = node.parent;
        in_pair[at.index()] = in_pair[outer.index()] || document.nodes[outer].kind == NodeKind::Pair;
        if in_pair[at.index()] {
            continue;
        }
        let Some(token) = document.tokens.get(node.first.index()) else { continue };
        match node.kind {
            NodeKind::Element if node.close == node.last => {
                let name = document.name(source, at).to_ascii_lowercase();
                let kind = element(&name);
                let single = kind.content == Content::Void
                    || source[..token.end as usize].ends_with(b"/>")
                    || may_stay_open(&name);
                let tag = Span::new(document.offset(node.first), document.offset(node.inner));
                if !single {
                    opened.push((tag, String::from_utf8_lossy(&name).into_owned()));
                }
            }
            NodeKind::Stray if token.kind == TokenKind::EndTag => {
                let name = token.name().of(source).to_ascii_lowercase();
                if !may_stay_open(&name) {
                    closed.push((token.span(), String::from_utf8_lossy(&name).into_owned()));
                }
            }
            _ => {}
        }
    }
    (opened, closed)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::check::rules::testing::finds;

    #[test]
    fn partials_that_hold_half_an_element() {
        let page = (
            "page.html",
            "{% include 'head.html' %}<p>x</p>{% include 'foot.html' %}{% include 'nav.html' %}{% include 'empty.html' %}",
        );
        let files = [
            page,
            ("head.html", "<html>\n<body>\n<main class='a'>\n"),
            ("empty.html", ""),
            ("foot.html", "<hr>\n</main></body></html>"),
            ("nav.html", "<nav><ul><li>a<li>b</ul><img src='x'><br/></nav>{% if a %}<p>{% endif %}"),
        ];
        finds(&RULE, &files, &["foot.html:2: closes <main>", "head.html:3: opens <main>"]);
    }
}
