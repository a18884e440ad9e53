//! `malformed-tag`: a delimiter torn apart or left open.

use crate::check::context::{Context, Found};
use crate::check::{Look, Rule, Severity};
use crate::dialect::{Dialect, Kind};
use crate::edit::Edits;
use crate::site::{Template, silent, unread};
use crate::text::{Span, is_blank, preview};

pub(super) const RULE: Rule = Rule {
    id: "malformed-tag",
    severity: Severity::Error,
    meaning: "A delimiter is torn apart by a space, or a tag is not ended: the tag is printed as text, or swallows what follows.",
    example: "-- page.html\n{ % block main %}<p>Ferries</p>{% endblock %}",
    remedy: "Write the delimiter in one piece. `radicon check --mend` does it.",
    look: Look::Site(look),
};

fn look(context: &Context<'_>) -> Vec<Found> {
    let mut found = Vec::new();
    for (id, template) in context.templates().filter(|(_, template)| !template.dialect.forms.is_empty()) {
        let silent = silent(&template.source, &template.constructs.items);
        let is_shown = |at: usize| !silent.iter().any(|span| span.range().contains(&at));
        found.extend(torn(template).into_iter().map(|(span, gap, what)| {
            let mut edits = Edits::default();
            edits.remove(template.path.clone(), gap);
            Found::new(id, span, format!("`{what}` is torn apart")).mended(format!("write `{what}`"), false, edits)
        }));
        let swallowing = template.constructs.items.iter().filter(|item| swallows(template, item.span, item.kind));
        found.extend(swallowing.map(|item| {
            let shown = preview(item.span.of(&template.source));
            Found::new(id, item.span, format!("this tag is not ended before the next one begins: {shown}"))
        }));
        for at in unread(&template.source, &template.dialect, &template.constructs) {
            let rest = &template.source[at..];
            let line = memchr::memchr(b'\n', rest).unwrap_or(rest.len());
            let span = Span::from_range(at..at + line.min(60));
            if let Some((length, missing)) = half_closed(&template.dialect, &rest[..line]).filter(|_| is_shown(at)) {
                let span = Span::from_range(at..at + length);
                let mut edits = Edits::default();
                edits.replace(template.path.clone(), Span::new(span.end, span.end), missing);
                let written = String::from_utf8_lossy(&rest[..length]);
                let one = Found::new(id, span, format!("`{written}` is closed by half, and printed as text"));
                found.push(one.mended(format!("write `{written}{}`", String::from_utf8_lossy(missing)), false, edits));
            } else if begins_known(&template.dialect, rest)
                && !found.iter().any(|known| known.id == id && known.span.start == at as u32)
            {
                found.push(Found::new(id, span, format!("this tag cannot be read: {}", preview(&rest[..line]))));
            }
        }
    }
    found
}

/// The words that the tags of a dialect begin with.
pub(super) fn words(dialect: &Dialect) -> Vec<String> {
    let word = |bytes: &[u8]| {
        let length = bytes.iter().take_while(|b| b.is_ascii_alphanumeric() || **b == b'_').count();
        String::from_utf8_lossy(&bytes[..length]).into_owned()
    };
    let mut words: Vec<String> = dialect.tags.iter().map(|tag| word(&tag.word)).filter(|word| word.len() > 1).collect();
    words.sort();
    words.dedup();
    words
}

fn first_word(bytes: &[u8]) -> &[u8] {
    let start = bytes.iter().take_while(|b| is_blank(**b)).count();
    let length = bytes[start..].iter().take_while(|b| b.is_ascii_alphanumeric() || **b == b'_').count();
    &bytes[start..start + length]
}

/// Whether a delimiter with one of the dialect's words stands here.
fn begins_known(dialect: &Dialect, rest: &[u8]) -> bool {
    let words = words(dialect);
    let leads = dialect.tags.iter().map(|tag| tag.pattern.lead()).filter(|lead| rest.starts_with(lead));
    leads.max_by_key(|lead| lead.len()).is_some_and(|lead| {
        let first = first_word(&rest[lead.len()..]);
        words.iter().any(|word| word.as_bytes() == first)
    })
}

/// A tag of which only the beginning of the closing delimiter is there: its length, and what is missing.
fn half_closed<'d>(dialect: &'d Dialect, line: &[u8]) -> Option<(usize, &'d [u8])> {
    let tags = dialect.tags.iter().map(|tag| &tag.pattern);
    let tag =
        tags.filter(|tag| tag.lead().len() > 1 && line.starts_with(tag.lead())).max_by_key(|tag| tag.lead().len())?;
    let (lead, tail) = (tag.lead().len(), tag.tail());
    let (first, rest) = tail.split_first().filter(|(_, rest)| !rest.is_empty())?;
    let end = lead + memchr::memchr(*first, &line[lead..])?;
    let inner = &line[lead..end];
    let plain = !inner.iter().any(|b| b"<>{}()[]".contains(b)) && !first_word(inner).is_empty();
    (plain && !line[end..].starts_with(tail)).then_some((end + 1, rest))
}

/// Opening delimiters of two characters and more with a blank between them, before a word of the
/// dialect: the whole, the blank, and the delimiter.
fn torn(template: &Template) -> Vec<(Span, Span, String)> {
    let (source, dialect) = (&template.source, &template.dialect);
    let words = words(dialect);
    let mut leads: Vec<&[u8]> =
        dialect.tags.iter().map(|tag| tag.pattern.lead()).filter(|lead| lead.len() == 2).collect();
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
        .tags
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
    use crate::check::rules::testing::{finds, finds_in, mends, site};
    use crate::check::{check_rules, mend};
    use crate::dialect::builtin_named;

    #[test]
    fn delimiters_that_are_torn_or_left_open() {
        let rest = "{% block b %}{% endblock %}";
        finds(&RULE, &[("a.html", &format!("{rest}\n{{ % block a %}}"))], &["a.html:2: is torn apart"]);
        finds(
            &RULE,
            &[("a.html", &format!("{rest}\n{{% block a % }}x{{% endblock %}}"))],
            &["a.html:2: not ended before the next one"],
        );
        finds(&RULE, &[("a.html", &format!("{rest}\n{{% include 'a"))], &["a.html:2: this tag cannot be read"]);
        let fine = "{% block b %}{ % }{% endblock %}{% raw %}{% block x{% endraw %}{ % whatever %}<style>a { }</style>";
        finds(&RULE, &[("a.html", fine)], &[]);
    }

    #[test]
    fn a_torn_delimiter_is_mended() {
        let torn = "{% block b %}{% endblock %}{ % if a %}";
        mends(&RULE, &[("a.html", torn)], "a.html", "{% block b %}{% endblock %}{% if a %}");
    }

    #[test]
    fn half_a_delimiter_is_found_where_it_is_printed() {
        let brace = builtin_named("brace-percent").expect("a dialect");
        let rest = "{% block b %}{% endblock %}";
        for (text, expected) in [
            ("<h1>{{ title }</h1>", &["a.html:2: closed by half"][..]),
            ("<script>a = {{ b }</script><pre>{{ c } { % d %}</pre>", &[]),
        ] {
            finds_in(&brace, &RULE, &[("a.html", &format!("{rest}\n{text}"))], "", expected);
        }
        let half = site(&brace, &[("a.html", &format!("{rest}<h1>{{{{ a }}</h1>"))], "");
        let mended = mend(&half, &check_rules(&half, &[RULE]).findings).expect("edits that fit");
        let expected = format!("{rest}<h1>{{{{ a }}}}</h1>");
        assert_eq!(mended.changes[0].new.as_deref(), Some(expected.as_bytes()));
    }
}
