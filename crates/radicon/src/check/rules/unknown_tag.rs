//! `unknown-tag`: a word that is nearly one of the dialect's.

use rustc_hash::{FxHashMap, FxHashSet};

use crate::check::context::Context;
use crate::check::found::Found;
use crate::check::{Look, Rule, Severity};
use crate::dialect::Kind;
use crate::edit::Edits;
use crate::text::{MOST_SLIPS, SourceId, Span, slip_of};

pub(super) const RULE: Rule = Rule {
    id: "unknown-tag",
    severity: Severity::Error,
    meaning: "A tag begins with a word that is not in the dialect, but is one letter off a known word. Words used three times or more count as the site's own.",
    example: "-- page.html\n{% block main %}<p>Ferries</p>{% endblok %}",
    remedy: "Correct the word; `radicon check --fix` does it. If it is a tag of your own, add a form to the dialect file.",
    look: Look::Site(look),
};

/// The template, the tag, and its first word.
type Use = (SourceId, Span, Span);

/// A word of the site's own that is used so often is one that others may be slips of.
const FREQUENT: usize = 10;
/// Shorter words are near too many others.
const SHORTEST: usize = 4;

fn look(context: &Context<'_>) -> Vec<Found> {
    let mut places: FxHashMap<(&str, String), Vec<Use>> = FxHashMap::default();
    for (id, template) in context.templates() {
        let dialect = template.dialect.name.as_str();
        for item in template.constructs.items.iter().filter(|item| item.kind == Kind::Other && !item.expr.is_empty()) {
            let text = item.expr.of(&template.source);
            let length = text.iter().take_while(|b| b.is_ascii_alphanumeric() || **b == b'_').count();
            let word = Span::new(item.expr.start, item.expr.start + length as u32);
            let key = (dialect, word.text(&template.source).into_owned());
            places.entry(key).or_default().push((id, item.span, word));
        }
    }
    let frequent = |dialect: &str| {
        let own = places.iter().filter(move |((of, _), places)| *of == dialect && places.len() >= FREQUENT);
        own.map(|((_, word), _)| word.clone()).collect::<Vec<_>>()
    };
    // A word that is used is a word.
    let rare = places.iter().filter(|((_, written), places)| places.len() <= MOST_SLIPS && written.len() >= SHORTEST);
    let slips = rare.filter_map(|((dialect, written), places)| {
        let mut words = context.site.get(places[0].0).dialect.words();
        words.extend(frequent(dialect));
        Some((*dialect, written, places, slip_of(written, words.iter().map(String::as_str))?.to_owned()))
    });
    let slips: Vec<_> = slips.collect();
    if slips.is_empty() {
        return Vec::new();
    }
    let first_words = first_words(context);
    let mut found = Vec::new();
    for (dialect, written, places, meant) in slips {
        // So is one that something closes.
        if ["end", "/"].iter().any(|end| first_words.contains(&(dialect, format!("{end}{written}")))) {
            continue;
        }
        for (id, span, word) in places {
            let message = format!("unknown tag `{written}`; did you mean `{meant}`?");
            let mut edits = Edits::default();
            edits.replace(context.site.get(*id).path.clone(), *word, meant.as_bytes());
            found.push(Found::new(*id, *span, message).fixed(format!("write `{meant}`"), false, edits));
        }
    }
    found
}

/// The words that tags of each dialect begin with.
fn first_words<'s>(context: &Context<'s>) -> FxHashSet<(&'s str, String)> {
    let mut words = FxHashSet::default();
    for (_, template) in context.templates() {
        for item in &template.constructs.items {
            let word = item.first_word(&template.source, &template.dialect);
            // Without the delimiter.
            words.insert((template.dialect.name.as_str(), word.rsplit(' ').next().unwrap_or_default().to_owned()));
        }
    }
    words
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::check::rules::testing::{finds_in, lamp, site};
    use crate::check::{check_rules, fix};
    use crate::dialect::builtin_named;

    #[test]
    fn words_that_are_nearly_known() {
        let brace = builtin_named("brace-percent").expect("a dialect");
        let files = [("a.html", "{% set a = 1 %}{% block a %}\n{% endblok %}{% ferry 3 %}{% it %}")];
        finds_in(&brace, &RULE, &files, "", &["a.html:2: unknown tag `endblok`; did you mean `endblock`?"]);
        let files = [("a.html", "(~ lamp a ~)\n(~ out ~)(~ fetsh 'x' ~)(~ ferry 3 ~)")];
        finds_in(&lamp(), &RULE, &files, "", &["a.html:2: unknown tag `fetsh`; did you mean `fetch`?"]);
    }

    #[test]
    fn a_slip_of_a_word_of_the_sites_own() {
        let brace = builtin_named("brace-percent").expect("a dialect");
        let files =
            |own: usize| format!("{{% block a %}}{}{{% endblock %}}\n{{% feryr 1 %}}", "{% ferry 1 %}".repeat(own));
        finds_in(
            &brace,
            &RULE,
            &[("a.html", &files(FREQUENT))],
            "",
            &["a.html:2: unknown tag `feryr`; did you mean `ferry`?"],
        );
        finds_in(&brace, &RULE, &[("a.html", &files(FREQUENT - 1))], "", &[]);
    }

    #[test]
    fn the_word_is_mended_unless_it_is_used_often() {
        let brace = builtin_named("brace-percent").expect("a dialect");
        let slip = site(&brace, &[("a.html", "{% set a = 1 %}{% block a %}x{% endblok %}")], "");
        let found = check_rules(&slip, &[RULE]).findings;
        let fixed = fix(&slip, &found).expect("edits that fit");
        assert_eq!(fixed.changes[0].new.as_deref(), Some(&b"{% set a = 1 %}{% block a %}x{% endblock %}"[..]));
        let own = site(
            &brace,
            &[(
                "a.html",
                "{% block a %}{% endblock %}{% blocks %}{% blocks %}{% blocks %}{% blocks %}{% incluse x %}y{% endincluse %}",
            )],
            "",
        );
        let found = check_rules(&own, &[RULE]).findings;
        assert!(found.is_empty(), "{found:?}");
    }
}
