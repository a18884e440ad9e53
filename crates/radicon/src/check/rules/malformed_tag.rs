//! `malformed-tag`: a delimiter torn apart or left open.

use std::ops::Range;

use crate::check::found::Found;
use crate::check::{Look, Rule, Severity};
use crate::dialect::{Dialect, Kind};
use crate::edit::Edits;
use crate::markup::{Construct, Inside};
use crate::site::{Template, silent, unread};
use crate::text::{SourceId, Span, is_blank, preview};

pub(super) const RULE: Rule = Rule {
    id: "malformed-tag",
    severity: Severity::Error,
    meaning: "A delimiter is split by a space, or a tag is not closed: the tag is printed as text, or swallows what follows.",
    example: "-- page.html\n{ % block main %}<p>Ferries</p>{% endblock %}",
    remedy: "Write the whole delimiter. `radicon check --fix` does it.",
    look: Look::File(look),
};

fn look(id: SourceId, template: &Template) -> Vec<Found> {
    let mut found = Vec::new();
    if template.dialect.forms.is_empty() {
        return found;
    }
    let silent = silent(&template.source, &template.constructs.items);
    let is_shown = |at: usize| !silent.iter().any(|span| span.range().contains(&at));
    found.extend(torn(template).into_iter().map(|(span, gap, what)| {
        let mut edits = Edits::default();
        edits.remove(template.path.clone(), gap);
        Found::new(id, span, format!("`{what}` is split by a space")).fixed(format!("write `{what}`"), false, edits)
    }));
    for item in &template.constructs.items {
        if let Some((span, bracket, tail)) = half_closed_before(template, item) {
            found.push(by_half(id, template, span, bracket, &tail));
        } else if swallows(template, item.span, item.kind) {
            let shown = preview(item.span.of(&template.source));
            let message = format!("this tag is not closed before the next one begins: {shown}");
            found.push(Found::new(id, item.span, message));
        }
    }
    for at in unread(&template.source, &template.dialect, &template.constructs) {
        let rest = &template.source[at..];
        let line = memchr::memchr(b'\n', rest).unwrap_or(rest.len());
        let span = Span::from_range(at..at + line.min(60));
        if let Some((half, tail)) = half_closed(&template.dialect, &rest[..line]).filter(|_| is_shown(at)) {
            let (span, half) = (Span::from_range(at..at + half.end), Span::from_range(at + half.start..at + half.end));
            found.push(by_half(id, template, span, half, tail));
        } else if begins_known(&template.dialect, rest) && !found.iter().any(|known| known.span.start == at as u32) {
            found.push(Found::new(id, span, format!("this tag cannot be read: {}", preview(&rest[..line]))));
        }
    }
    found
}

fn first_word(bytes: &[u8]) -> &[u8] {
    let start = bytes.iter().take_while(|b| is_blank(**b)).count();
    let length = bytes[start..].iter().take_while(|b| b.is_ascii_alphanumeric() || **b == b'_').count();
    &bytes[start..start + length]
}

/// Whether a delimiter with one of the dialect's words is here.
fn begins_known(dialect: &Dialect, rest: &[u8]) -> bool {
    let words = dialect.words();
    let leads = dialect.tags().iter().map(|tag| tag.pattern.lead()).filter(|lead| rest.starts_with(lead));
    leads.max_by_key(|lead| lead.len()).is_some_and(|lead| {
        let first = first_word(&rest[lead.len()..]);
        words.iter().any(|word| word.as_bytes() == first)
    })
}

/// A tag of which only a half of the closing delimiter is there, at the end of the first span, which is all of the tag.
fn by_half(id: SourceId, template: &Template, span: Span, half: Span, tail: &[u8]) -> Found {
    let mut edits = Edits::default();
    edits.replace(template.path.clone(), half, tail);
    let written = span.text(&template.source);
    let right =
        format!("{}{}", Span::new(span.start, half.start).text(&template.source), String::from_utf8_lossy(tail));
    let message = format!("`{written}` is only half closed: it is printed as text, or swallows what follows");
    Found::new(id, span, message).fixed(format!("write `{right}`"), false, edits)
}

/// Of a line that no tag was read in: where the half of a closing delimiter is, and all of it.
fn half_closed<'d>(dialect: &'d Dialect, line: &[u8]) -> Option<(Range<usize>, &'d [u8])> {
    let tags = dialect.tags().iter().map(|tag| &tag.pattern);
    let tag =
        tags.filter(|tag| tag.lead().len() > 1 && line.starts_with(tag.lead())).max_by_key(|tag| tag.lead().len())?;
    let (lead, tail) = (tag.lead().len(), tag.tail());
    let inner = &line[lead..];
    if let Some(half) = half_end(inner, tail) {
        return Some((lead + half.start..lead + half.end, tail));
    }
    // Only the delimiter's first sign.
    let end = memchr::memchr(*tail.first().filter(|_| tail.len() > 1)?, inner)?;
    let plain = !inner[..end].iter().any(|b| b"<>{}()[]".contains(b)) && !first_word(&inner[..end]).is_empty();
    (plain && !inner[end..].starts_with(tail)).then_some((lead + end..lead + end + 1, tail))
}

/// Of a tag that was read: up to where it was meant to go, the half of the closing delimiter there, and all of it.
fn half_closed_before(template: &Template, item: &Construct) -> Option<(Span, Span, Vec<u8>)> {
    let pattern = &item.tag_form(&template.dialect)?.pattern;
    let (lead, text) = (pattern.lead(), item.span.of(&template.source));
    let skipped = matches!(item.kind, Kind::Comment | Kind::Verbatim | Kind::Code) || item.inside != Inside::Nothing;
    if skipped || lead.len() < 2 || !text.starts_with(lead) {
        return None;
    }
    let half = half_end(&text[lead.len()..], pattern.tail())?;
    let at = |offset: usize| item.span.start + (lead.len() + offset) as u32;
    let half = Span::new(at(half.start), at(half.end));
    Some((Span::new(item.span.start, half.end), half, pattern.tail().to_vec()))
}

/// Where in the text after a tag's opening delimiter a bracket of the closing one is by itself, or apart from the
/// other half: it closes no other one, and is not in quotes.
fn half_end(inner: &[u8], tail: &[u8]) -> Option<Range<usize>> {
    let (mut depth, mut quote, mut escaped) = (0, None, false);
    for (at, &b) in inner.iter().enumerate() {
        match (quote, b) {
            _ if escaped => escaped = false,
            (Some(_), b'\\') => escaped = true,
            (Some(open), _) if b == open || b == b'\n' => quote = None,
            (Some(_), _) => {}
            // An apostrophe is none.
            (None, b'"' | b'\'') if !at.checked_sub(1).is_some_and(|at| inner[at].is_ascii_alphanumeric()) => {
                quote = Some(b);
            }
            (None, b'(' | b'[' | b'{') => depth += 1,
            (None, b')' | b']' | b'}') if depth > 0 => depth -= 1,
            (None, b')' | b']' | b'}') => {
                let is_whole = inner[..=at].ends_with(tail) || inner[at..].starts_with(tail);
                let other = tail.strip_suffix(&[b]).filter(|other| inner[..at].trim_ascii_end().ends_with(other));
                let start = other.map_or(at, |other| inner[..at].trim_ascii_end().len() - other.len());
                return (tail.len() > 1 && tail.contains(&b) && !is_whole).then_some(start..at + 1);
            }
            (None, _) => {}
        }
    }
    None
}

/// Opening delimiters of two characters and more with a blank between them, before a word of the
/// dialect: the whole, the blank, and the delimiter.
fn torn(template: &Template) -> Vec<(Span, Span, String)> {
    let (source, dialect) = (&template.source, &template.dialect);
    let words = dialect.words();
    let mut leads: Vec<&[u8]> =
        dialect.tags().iter().map(|tag| tag.pattern.lead()).filter(|lead| lead.len() == 2).collect();
    leads.sort_unstable();
    leads.dedup();
    let mut found = Vec::new();
    for lead in leads {
        for at in memchr::memchr_iter(lead[0], source) {
            let gap = source[at + 1..].iter().take_while(|b| matches!(b, b' ' | b'\t')).count();
            let after = &source[at + 1 + gap..];
            let items = &template.constructs.items;
            let next = items.partition_point(|item| item.span.start as usize <= at);
            let inside = next.checked_sub(1).is_some_and(|before| items[before].span.end as usize > at);
            if gap == 0 || gap > 2 || after.first() != Some(&lead[1]) || inside {
                continue;
            }
            let first = first_word(&after[1..]);
            if words.iter().any(|word| word.as_bytes() == first) {
                let span = Span::from_range(at..at + gap + 2);
                let blank = Span::from_range(at + 1..at + 1 + gap);
                found.push((span, blank, String::from_utf8_lossy(lead).into_owned()));
            }
        }
    }
    found
}

/// Whether a tag goes on over the beginning of another one.
fn swallows(template: &Template, span: Span, kind: Kind) -> bool {
    let text = span.of(&template.source);
    let lead = template
        .dialect
        .tags()
        .iter()
        .map(|tag| tag.pattern.lead())
        .filter(|lead| lead.len() > 1 && text.starts_with(lead));
    let Some(lead) = lead.max_by_key(|lead| lead.len()) else { return false };
    !matches!(kind, Kind::Comment | Kind::Verbatim | Kind::Code)
        && memchr::memmem::find_iter(&text[lead.len()..], lead)
            .any(|at| begins_known(&template.dialect, &text[lead.len() + at..]))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::check::rules::testing::{finds, finds_in, fixes, lamp, site};
    use crate::check::{check_rules, fix};
    use crate::dialect::builtin_named;

    #[test]
    fn delimiters_that_are_torn_or_left_open() {
        let rest = "{% block b %}{% endblock %}";
        finds(&RULE, &[("a.html", &format!("{rest}\n{{ % block a %}}"))], &["a.html:2: is split by a space"]);
        finds(
            &RULE,
            &[("a.html", &format!("{rest}\n{{% block a % }}x{{% endblock %}}"))],
            &["a.html:2: only half closed"],
        );
        finds(&RULE, &[("a.html", &format!("{rest}\n{{% include 'a"))], &["a.html:2: this tag cannot be read"]);
        let fine = "{% block b %}{ % }{% endblock %}{% raw %}{% block x{% endraw %}{ % whatever %}<style>a { }</style>";
        finds(&RULE, &[("a.html", fine)], &[]);
    }

    #[test]
    fn a_torn_delimiter_is_mended() {
        let torn = "{% block b %}{% endblock %}{ % if a %}";
        fixes(&RULE, &[("a.html", torn)], "a.html", "{% block b %}{% endblock %}{% if a %}");
    }

    #[test]
    fn half_a_delimiter_is_found_where_it_is_printed() {
        let brace = builtin_named("brace-percent").expect("a dialect");
        let rest = "{% block b %}{% endblock %}";
        for (text, expected) in [
            ("<h1>{{ title }</h1>", &["a.html:2: only half closed"][..]),
            ("<h1>{{ t('a b', {c: 1}) }</h1>", &["a.html:2: only half closed"]),
            ("<script>a = {{ b }</script><pre>{{ c } { % d %}</pre>", &[]),
            // What was read may go on to the end of the next tag.
            (
                "<h1>{% ferry a.b }</h1>{{ c }}{% if d %}{% endif %}",
                &["a.html:2: `{% ferry a.b }` is only half closed"],
            ),
            ("<h1 title='{{ a }'>{{ b }}</h1>", &["a.html:2: `{{ a }` is only half closed"]),
            ("{{ {'a': {'b': 1}} }}{{ '}' }}{% trans 'it\\'s }' %}{{ don't }}{{- a['}'] -}}", &[]),
        ] {
            finds_in(&brace, &RULE, &[("a.html", &format!("{rest}\n{text}"))], "", expected);
        }
        finds_in(
            &lamp(),
            &RULE,
            &[("a.html", "(~ lamp a ~)(~ out )\n<p>(~ fetch 'b' ~)")],
            "",
            &["a.html:1: only half closed"],
        );
    }

    #[test]
    fn half_a_delimiter_is_mended() {
        let brace = builtin_named("brace-percent").expect("a dialect");
        for (text, expected) in [
            ("{% block b %}{% endblock %}<h1>{{ a }</h1>", "{% block b %}{% endblock %}<h1>{{ a }}</h1>"),
            (
                "{% block c %}{% endblock %}{% block b %}x{% endblock }",
                "{% block c %}{% endblock %}{% block b %}x{% endblock %}",
            ),
            ("{% block b %}{% if a % }x{% endif %}{% endblock %}", "{% block b %}{% if a %}x{% endif %}{% endblock %}"),
            ("<h1>{{ a }</h1>{{ b }}{% block c %}{% endblock %}", "<h1>{{ a }}</h1>{{ b }}{% block c %}{% endblock %}"),
        ] {
            let half = site(&brace, &[("a.html", text)], "");
            let fixed = fix(&half, &check_rules(&half, &[RULE]).findings).expect("edits that fit");
            assert_eq!(fixed.changes[0].new.as_deref(), Some(expected.as_bytes()), "{text}");
        }
    }
}
