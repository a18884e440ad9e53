//! What is worth a file of its own: a thing of the page that people know by a name.

use crate::dialect::{Dialect, Kind};
use crate::markup::{Construct, Constructs, NodeId, TokenKind};
use crate::propose::naming;
use crate::propose::pages::page::Page;

/// Why a fragment is worth a partial, and what to call it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Reason {
    /// A region of the page, whatever it saves.
    Landmark(Vec<String>),
    /// Named by a class, an id or a heading: it must save enough.
    Named(Vec<String>),
}

/// Rows, and what is in running text: a loop's business, and the writer's.
const ROWS_AND_PROSE: [&str; 27] = [
    "a", "abbr", "b", "br", "code", "dd", "dt", "em", "i", "img", "input", "label", "li", "option", "p", "pre", "q",
    "s", "small", "span", "strong", "sub", "sup", "td", "th", "tr", "u",
];

/// A fragment of which so much is text that is no link is prose, in hundredths.
const PROSE: usize = 80;

impl Reason {
    /// The reason of a fragment, if there is one.
    pub fn of(markup: &[u8], dialect: &Dialect) -> Option<Self> {
        let constructs = Constructs::read(markup, dialect);
        let is_guarded = is_guarded(markup, &constructs);
        let markup = &without_tags(markup, &constructs.items)[..];
        let (page, roots) = naming::read(markup);
        let names: Vec<String> =
            naming::telling(&page, &roots).into_iter().filter(|name| naming::is_telling(name)).collect();
        let is_region = |node: NodeId| {
            naming::is_landmark(&page.document, markup, node)
                || naming::called(&page, node).is_some_and(|name| naming::has_region(&name))
        };
        let of_tag = |node: &NodeId| ROWS_AND_PROSE.contains(&naming::tag(&page, *node).as_str());
        if names.is_empty() || roots.iter().all(of_tag) && !is_guarded {
            None
        } else if roots.iter().any(|&node| is_region(node)) {
            Some(Self::Landmark(names))
        } else {
            (!is_prose(&page)).then_some(Self::Named(names))
        }
    }

    /// Its possible names, the best first.
    pub fn names(&self) -> &[String] {
        match self {
            Self::Landmark(names) | Self::Named(names) => names,
        }
    }
}

/// Whether a condition or a loop is around all of it.
fn is_guarded(markup: &[u8], constructs: &Constructs) -> bool {
    let text = |range: std::ops::Range<usize>| markup[range].trim_ascii();
    let is_around = |first: &&Construct| {
        let ends = constructs.partner(first).is_some_and(|end| text(end.span.end as usize..markup.len()).is_empty());
        first.kind == Kind::Control && ends && text(0..first.span.start as usize).is_empty()
    };
    constructs.items.first().filter(is_around).is_some()
}

/// Markup with a space in the place of each tag: what a thing is called is not said by program code.
fn without_tags(markup: &[u8], items: &[Construct]) -> Vec<u8> {
    let (mut out, mut at) = (Vec::with_capacity(markup.len()), 0);
    for item in items.iter().filter(|item| !item.span.is_empty()) {
        let range = item.span.range();
        out.extend_from_slice(&markup[at.min(range.start)..range.start]);
        out.push(b' ');
        at = at.max(range.end);
    }
    out.extend_from_slice(&markup[at..]);
    out
}

/// Whether most of a fragment is running text.
fn is_prose(page: &Page) -> bool {
    let mut linked = 0u32;
    let mut text = 0;
    for token in &page.document.tokens {
        let name = || token.name().text(&page.source).to_ascii_lowercase();
        let is_link = || matches!(name().as_str(), "a" | "button" | "option" | "script" | "style" | "label");
        match token.kind {
            TokenKind::StartTag if is_link() => linked += 1,
            TokenKind::EndTag if is_link() => linked = linked.saturating_sub(1),
            TokenKind::Text if linked == 0 => text += token.span().of(&page.source).trim_ascii().len(),
            _ => {}
        }
    }
    text * 100 > page.source.len() * PROSE
}

#[cfg(test)]
mod tests {
    use super::*;

    fn brace() -> std::sync::Arc<Dialect> {
        crate::dialect::builtin_named("brace-percent").expect("a built-in dialect")
    }

    #[track_caller]
    fn names(markup: &str, expected: &[&str]) {
        let reason = Reason::of(markup.as_bytes(), &brace());
        let names: Vec<&str> = reason.iter().flat_map(Reason::names).map(String::as_str).collect();
        assert_eq!(names, expected, "{markup}");
    }

    #[test]
    fn things_with_a_name() {
        names("<div class=\"box timetable\"><a href=\"/\">Ferries</a></div>", &["timetable"]);
        names("<nav><a href=\"/\">Home</a></nav>", &["navigation"]);
        names("<div><h3>Next ferry</h3><ul><li><a href=\"/\">Gull</a></li></ul></div>", &["next-ferry"]);
        names(
            "<div id=\"toc\"><p>A long text that tells much of what is written here, and of more.</p></div>",
            &["toc"],
        );
    }

    #[test]
    fn tags_are_no_names_and_what_is_shown_on_condition_is_a_thing() {
        names("<div><h3>{{ fare.title }}</h3><a href=\"/\">x</a></div>", &[]);
        names("<div class=\"{{ kind }} timetable\"><a href=\"/\">x</a></div>", &["timetable"]);
        names("{% if late %}\n<p class=\"warning\">{{ late }}</p>\n{% endif %}", &["warning"]);
        names("{% if late %}<b>x</b>{% endif %}<p class=\"warning\">{{ late }}</p>", &[]);
    }

    #[test]
    fn rows_prose_and_what_has_no_name() {
        names("<tr class=\"fare\"><td>3</td></tr>\n<tr class=\"fare\"><td>4</td></tr>", &[]);
        names("<p class=\"note\">Ferries do not wait.</p>", &[]);
        let text = "Ferries do not wait for anyone who is late, whatever they say. ".repeat(4);
        names(&format!("<div class=\"note\"><p>{text}</p></div>"), &[]);
        names("<div><a href=\"/\">Home</a></div>", &[]);
        names("<div class=\"k\" id=\"part-3\"><a href=\"/\">Home</a></div>", &[]);
    }

    #[test]
    fn regions_are_worth_it_whatever_they_save() {
        let reason = |markup: &str| Reason::of(markup.as_bytes(), &brace()).expect("a reason");
        assert!(matches!(reason("<div class=\"page-footer\"><a href=\"/\">x</a></div>"), Reason::Landmark(_)));
        assert!(matches!(reason("<div class=\"fares\"><a href=\"/\">x</a></div>"), Reason::Named(_)));
    }
}
