//! What of a template may be in a file of its own: its tags must say there what they say here.

use crate::dialect::{Kind, Part};
use crate::markup::Construct;
use crate::resolve::mentions;
use crate::site::{Problem, Template};
use crate::text::Span;

/// Whether a stretch can move into a partial: it holds whole tags, none that binds a name for what follows or belongs
/// to the file's chain, and is not in a text that is read otherwise.
pub fn may_move(template: &Template, span: Span) -> bool {
    let items = &template.constructs.items;
    if items.is_empty() {
        return true;
    }
    let is_read_otherwise =
        |item: &&Construct| matches!(item.kind, Kind::Other | Kind::Verbatim | Kind::Comment | Kind::Code | Kind::Set);
    let is_around = |item: &Construct| {
        let end = template.constructs.partner(item);
        item.span.end <= span.start && end.is_some_and(|end| end.span.start >= span.end)
    };
    if items.iter().filter(is_read_otherwise).any(is_around) {
        return false;
    }
    let mut inside = items.iter().filter(|item| span.start <= item.span.start && item.span.end <= span.end);
    let stays = inside.any(|item| match item.kind {
        Kind::Set | Kind::Import | Kind::Code => true,
        Kind::Other => binds(template, item, span.end),
        _ => false,
    });
    !stays && bound_to_file(template, span.trimmed(&template.source)).is_none()
}

/// Why a stretch cannot be in a file of its own, if that is so: it has half of a tag, or one of its file's chain.
pub fn bound_to_file(template: &Template, span: Span) -> Option<Problem> {
    let is_bound = |item: &&Construct| {
        item.kind.defines()
            || matches!(item.kind, Kind::Slot | Kind::Body | Kind::Inherited | Kind::Again | Kind::Parent | Kind::Part)
    };
    let items = template.constructs.items.iter();
    let mut inside = items.filter(|item| span.start <= item.span.start && item.span.end <= span.end);
    template.torn_by(span).or_else(|| {
        let item = inside.find(is_bound)?;
        let shown = item.span.text(&template.source);
        let why = format!("`{shown}` belongs to this file's chain, and cannot move into a partial");
        Some(template.problem(item.span.start, why))
    })
}

/// Whether a tag that nobody described may bind a name that is used from an offset on: its last word, if that is a name.
fn binds(template: &Template, item: &Construct, from: u32) -> bool {
    if item.part == Part::Close {
        return false;
    }
    let text = item.span.text(&template.source);
    let mut words = text.split(|c: char| !(c.is_alphanumeric() || "_.'\"".contains(c)));
    let Some(name) = words.rfind(|word| !word.is_empty()) else { return false };
    let is_name = |word: &str| word.chars().all(|c| c.is_alphanumeric() || c == '_');
    let after = template.constructs.items.iter().filter(|item| item.span.start >= from);
    is_name(name) && after.map(|item| item.span.of(&template.source)).any(|tag| mentions(tag, name.as_bytes()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect::builtin;
    use crate::site::{Settings, Site, SourceFile};

    /// Whether what is between two bars may move.
    #[track_caller]
    fn moves(marked: &str, expected: bool) {
        let (start, rest) = marked.split_once('|').expect("a bar");
        let length = rest.find('|').expect("two bars");
        let file = SourceFile::new("a.html", format!("{{% if x %}}{{% endif %}}{}", marked.replace('|', "")));
        let site = Site::read(vec![file], builtin(), &Settings::default());
        let from = "{% if x %}{% endif %}".len() + start.len();
        assert_eq!(may_move(&site.templates[0], Span::from_range(from..from + length)), expected, "{marked}");
    }

    #[test]
    fn whole_tags_move_but_for_those_of_the_chain() {
        moves("<p>|<b>{{ fare }}</b>{% if late %}<i>late</i>{% endif %}|</p>", true);
        moves("{% for stop in stops %}|<li>{{ stop }}</li>|{% endfor %}", true);
        moves("|{% if late %}<i>late</i>|{% endif %}", false);
        moves("|<p>{% block fare %}{% endblock %}</p>|", false);
    }

    #[test]
    fn what_binds_a_name_stays_before_its_uses() {
        moves("|{% set fare = 3 %}<p>{{ fare }}</p>|", false);
        moves("|{% tide as depth %}<p>x</p>|{{ depth }}", false);
        moves("|{% tide as depth %}<p>{{ depth }}</p>|{{ fare }}", true);
    }

    #[test]
    fn texts_that_are_read_otherwise_are_left_alone() {
        moves("{% raw %}|<p>x</p>|{% endraw %}", false);
    }
}
