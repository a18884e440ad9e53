//! `idle-load`: a library that a file loads and that nothing in it needs.

use std::collections::BTreeSet;

use rustc_hash::FxHashMap;

use crate::check::context::Context;
use crate::check::found::Found;
use crate::check::{Look, Rule, Severity};
use crate::dialect::Kind;
use crate::markup::Construct;
use crate::site::Template;
use crate::site::own_file::words;
use crate::text::{SourceId, Span};

pub(super) const RULE: Rule = Rule {
    id: "idle-load",
    severity: Severity::Hint,
    meaning: "A file loads a library that none of its tags needs: each of their words is also used in a file that does not load it.",
    example: "-- a.html\n{% fetchlib tides %}\n<p>{% tide 3 %}</p>\n-- b.html\n{% fetchlib tides %}\n<p>{% tide 4 %}</p>\n-- c.html\n{% fetchlib tides %}\n<p>{{ name|upper }}</p>\n-- d.html\n<p>{{ name|upper }}</p>",
    remedy: "Remove it from the tag.",
    look: Look::Site(look),
};

/// Words of tags that load a part of something, or give what they say a name.
const PARTLY: [&str; 2] = ["from", "as"];

/// A file that loads something, with what it loads and the words that its tags may have from there.
struct Loading<'s> {
    id: SourceId,
    template: &'s Template,
    loaded: Vec<(String, Span)>,
    words: BTreeSet<String>,
    /// It may load more than is seen.
    is_open: bool,
}

fn look(context: &Context<'_>) -> Vec<Found> {
    let files: Vec<Loading<'_>> = context
        .templates()
        .map(|(id, template)| {
            let mut words = words(&template.constructs, &template.source, &template.dialect);
            let loading: Vec<(String, &Construct)> = loaded(context, id, template).collect();
            let is_open = context.site.own_file_tags(id).iter().any(|&at| {
                let span = template.constructs.items[at].span;
                !loading.iter().any(|(_, tag)| tag.span == span)
            });
            // What loads needs nothing itself.
            for (_, tag) in &loading {
                words.remove(&tag.first_word(&template.source, &template.dialect));
            }
            let loaded = loading.into_iter().map(|(name, tag)| (name, tag.span)).collect();
            Loading { id, template, loaded, words, is_open }
        })
        .collect();
    if files.iter().all(|file| file.loaded.is_empty()) {
        return Vec::new();
    }
    // For each word what all files load that have it: it can need nothing else.
    let mut needs: FxHashMap<(&str, &str), BTreeSet<&str>> = FxHashMap::default();
    for file in files.iter().filter(|file| !file.is_open) {
        let own: BTreeSet<&str> = file.loaded.iter().map(|(name, _)| name.as_str()).collect();
        for word in &file.words {
            let need = needs.entry((&file.template.dialect.name, word)).or_insert_with(|| own.clone());
            need.retain(|name| own.contains(name));
        }
    }
    let mut found = Vec::new();
    for file in &files {
        let dialect = file.template.dialect.name.as_str();
        let needed = |name: &str| {
            file.words.iter().any(|word| needs.get(&(dialect, word)).is_none_or(|need| need.contains(name)))
        };
        for (name, span) in file.loaded.iter().filter(|(name, _)| !needed(name)) {
            found.push(Found::new(file.id, *span, format!("nothing in this file needs `{name}`")));
        }
    }
    found
}

/// The libraries that a file loads by name, each with the tag that does. What is loaded in part, or named, is left out.
fn loaded<'s>(
    context: &Context<'s>,
    id: SourceId,
    template: &'s Template,
) -> impl Iterator<Item = (String, &'s Construct)> {
    let tags = context.site.sure_own_file_tags(id).iter().map(|&at| &template.constructs.items[at]);
    tags.filter(|item| item.kind == Kind::Other).flat_map(|item| {
        let text = item.expr.text(&template.source);
        // Of a form that nobody described the first word is its own.
        let own = usize::from(!item.form(&template.dialect).own_file);
        let names: Vec<String> = text.split_whitespace().skip(own).map(str::to_owned).collect();
        let is_name = |name: &String| {
            name.chars().all(|c| c.is_alphanumeric() || "_-.".contains(c)) && !PARTLY.contains(&name.as_str())
        };
        let names = if names.iter().all(is_name) { names } else { Vec::new() };
        names.into_iter().map(move |name| (name, item))
    })
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
            page("d.html", "{% fetchlib lights from lamps %}{% tide 1 as now %}<p>{{ name|upper }}</p>"),
            page("g.html", "{% fetchlib tides %}{% tide 2 as now %}<p>{{ now }}</p>"),
            page("e.html", "<p>{{ name|upper }}</p>"),
        ];
        finds(&RULE, &files, &["c.html:1: nothing in this file needs `tides`"]);
    }
}
