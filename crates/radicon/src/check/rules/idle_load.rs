//! `idle-load`: a library that a file loads and that nothing in it needs.

use std::collections::BTreeSet;

use rustc_hash::FxHashMap;

use crate::check::context::{Context, Found};
use crate::check::{Look, Rule, Severity};
use crate::dialect::Kind;
use crate::site::Template;
use crate::site::own_file::words;
use crate::text::{SourceId, Span};

pub(super) const RULE: Rule = Rule {
    id: "idle-load",
    severity: Severity::Hint,
    meaning: "A file loads a library, in a tag that speaks for its own file alone, and none of its tags needs it: each of their words is used elsewhere in a file that does without.",
    example: "-- a.html\n{% fetchlib tides %}\n<p>{% tide 3 %}</p>\n-- b.html\n{% fetchlib tides %}\n<p>{% tide 4 %}</p>\n-- c.html\n{% fetchlib tides %}\n<p>{{ name|upper }}</p>\n-- d.html\n<p>{{ name|upper }}</p>",
    remedy: "Take it out of the tag.",
    look: Look::Site(look),
};

/// A file that loads something, with what it loads and the words that its tags may have from there.
struct Loading<'s> {
    id: SourceId,
    template: &'s Template,
    loaded: Vec<(String, Span)>,
    words: BTreeSet<String>,
}

fn look(context: &Context<'_>) -> Vec<Found> {
    let files: Vec<Loading<'_>> = context
        .templates()
        .map(|(id, template)| {
            let mut words = words(&template.constructs, &template.source, &template.dialect);
            // What loads needs nothing itself.
            for &at in context.site.own_file_tags(id) {
                words.remove(&template.constructs.items[at as usize].first_word(&template.source, &template.dialect));
            }
            Loading { id, template, loaded: loaded(context, id, template), words }
        })
        .collect();
    if files.iter().all(|file| file.loaded.is_empty()) {
        return Vec::new();
    }
    // For each word what all files load that have it: it can need nothing else.
    let mut needs: FxHashMap<(&str, &str), BTreeSet<&str>> = FxHashMap::default();
    for file in &files {
        let own: BTreeSet<&str> = file.loaded.iter().map(|(name, _)| name.as_str()).collect();
        for word in &file.words {
            let need = needs.entry((&file.template.dialect.name, word)).or_insert_with(|| own.clone());
            need.retain(|name| own.contains(name));
        }
    }
    let mut found = Vec::new();
    for file in &files {
        let needed = |name: &str| {
            let need = |word: &String| needs[&(file.template.dialect.name.as_str(), word.as_str())].contains(name);
            file.words.iter().any(need)
        };
        for (name, span) in file.loaded.iter().filter(|(name, _)| !needed(name)) {
            found.push(Found::new(file.id, *span, format!("nothing in this file needs `{name}`")));
        }
    }
    found
}

/// The libraries that a file loads by name, each with the tag that does. What is loaded in part is left out.
fn loaded(context: &Context<'_>, id: SourceId, template: &Template) -> Vec<(String, Span)> {
    let mut found = Vec::new();
    for &at in context.site.sure_own_file_tags(id) {
        let item = &template.constructs.items[at as usize];
        let text = item.expr.text(&template.source);
        let names: Vec<&str> = match item.form(&template.dialect).own_file {
            true => text.split_whitespace().collect(),
            false => text.split_whitespace().skip(1).collect(),
        };
        let is_name = |name: &&str| name.chars().all(|c| c.is_alphanumeric() || "_-.".contains(c));
        if item.kind == Kind::Other && names.iter().all(is_name) && !names.contains(&"from") {
            found.extend(names.into_iter().map(|name| (name.to_owned(), item.span)));
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::check::rules::testing::finds;

    #[test]
    fn libraries_that_nothing_needs() {
        let page = |name: &'static str, text: &'static str| (name, text);
        let files = [
            page("a.html", "{% fetchlib tides %}<p>{% tide 3 %}</p>"),
            page("b.html", "{% fetchlib tides ropes %}\n<p>{% tide 4 %}{% splice 1 %}</p>"),
            page("c.html", "{% fetchlib ropes tides %}\n<p>{% splice 2 %}</p>"),
            page("f.html", "{% fetchlib ropes %}\n<p>{% splice 3 %}</p>"),
            page("d.html", "{% fetchlib lights from lamps %}<p>{{ name|upper }}</p>"),
            page("e.html", "<p>{{ name|upper }}</p>"),
        ];
        finds(&RULE, &files, &["c.html:1: nothing in this file needs `tides`"]);
    }
}
