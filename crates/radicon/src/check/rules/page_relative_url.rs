//! `page-relative-url`: a relative URL in a file that pages of several depths share.

use std::collections::BTreeSet;

use crate::check::context::Context;
use crate::check::found::Found;
use crate::check::{Look, Rule, Severity};
use crate::dialect::{Dialect, Kind, Urls};
use crate::markup::{Document, TokenKind};
use crate::site::{Template, folder};
use crate::text::Span;

pub(super) const RULE: Rule = Rule {
    id: "page-relative-url",
    severity: Severity::Warning,
    meaning: "A partial in pages of several directories has a relative URL. The browser resolves it from the page's directory, so it leads elsewhere in each. Not reported where an engine renders pages, because their addresses are unknown, and in dialects that rewrite URLs for each page (`urls = \"rebased\"`, such as `margin`).",
    example: "-- head.html\n<link rel=\"stylesheet\" href=\"css/site.css\">\n-- index.html\n<!--#include virtual=\"/head.html\" -->\n-- harbours/heronsea.html\n<!--#include virtual=\"/head.html\" -->",
    remedy: "Write it from the site's root: `/css/site.css`.",
    look: Look::Site(look),
};

fn look(context: &Context<'_>) -> Vec<Found> {
    let mut found = Vec::new();
    for (id, template) in context.templates() {
        let users = context.users(id);
        let folders: BTreeSet<&str> = users.iter().map(|page| folder(&context.site.get(*page).path)).collect();
        // A page that serves as a layout too is shared as well.
        if folders.len() < 2 {
            continue;
        }
        // Where an engine renders pages their addresses are not their templates' paths.
        let follows = |dialect: &Dialect| !dialect.is_static() || dialect.rules.urls == Urls::Rebased;
        if users.iter().any(|page| follows(&context.site.get(*page).dialect)) {
            continue;
        }
        for (span, url) in urls(template) {
            let message = format!(
                "`{url}` leads somewhere else in each of the {} folders of the pages that share this file; `/{}` does not",
                folders.len(),
                from_root(&url)
            );
            found.push(Found::new(id, span, message));
        }
    }
    found
}

/// The same from the root: parts that lead upwards gone.
fn from_root(url: &str) -> &str {
    let mut rest = url;
    while let Some(shorter) = rest.strip_prefix("../").or_else(|| rest.strip_prefix("./")) {
        rest = shorter;
    }
    rest
}

/// The relative URLs of a template that are written out.
fn urls(template: &Template) -> Vec<(Span, String)> {
    let source = &template.source;
    let document = Document::with_constructs(source, template.constructs.clone());
    // With a base of its own nothing is relative to the page.
    let is_base = |token: &&crate::markup::Token| {
        token.kind == TokenKind::StartTag && token.name().of(source).eq_ignore_ascii_case(b"base")
    };
    if document.tokens.iter().any(|token| is_base(&token)) {
        return Vec::new();
    }
    let attributes = document.tokens.iter().filter(|token| token.kind == TokenKind::Attribute);
    let mut found = Vec::new();
    for token in attributes {
        let name = token.name().of(source).to_ascii_lowercase();
        let Some(value) = token.value(source).filter(|_| matches!(&name[..], b"href" | b"src" | b"action" | b"poster"))
        else {
            continue;
        };
        let items = &template.constructs.items;
        let first = items.partition_point(|item| item.span.end <= value.start);
        let dynamic =
            items[first..].iter().take_while(|item| item.span.start < value.end).any(|item| item.kind != Kind::Comment);
        let url = value.text(source).into_owned();
        if !dynamic && is_relative(&url) {
            found.push((value, url));
        }
    }
    found
}

fn is_relative(url: &str) -> bool {
    let first = url.trim().bytes().next();
    let scheme = url.split(['/', '?', '#']).next().is_some_and(|head| head.contains(':'));
    first.is_some_and(|b| b.is_ascii_alphanumeric() || b == b'.' || b == b'_') && !scheme
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::check::rules::testing::{finds, finds_in};
    use crate::dialect::builtin_named;

    #[test]
    fn relative_urls_of_shared_files() {
        let include = builtin_named("server-include").expect("a dialect");
        let part = (
            "part.html",
            "<link href='css/x.css'>\n<a href='/y'><a href='#z'><a href='mailto:a@b.example'><!--#echo var=\"x\" -->",
        );
        let page = "<!--#include virtual=\"/part.html\" --><a href='own.html'>";
        let files = [part, ("a.html", page), ("x/b.html", page)];
        finds_in(&include, &RULE, &files, "", &["part.html:1: `/css/x.css` does not"]);
        finds_in(&include, &RULE, &[part, ("a.html", page), ("b.html", page)], "", &[]);
        // They follow the page.
        let margin = builtin_named("margin").expect("a dialect");
        let page = "<!--: partial part.html -->";
        finds_in(
            &margin,
            &RULE,
            &[("part.html", "<link href='css/x.css'>"), ("a.html", page), ("x/b.html", page)],
            "",
            &[],
        );
        // Where an engine gives pages their addresses nothing is known.
        let page = "{% extends 'base.html' %}{% block a %}{% endblock %}";
        let base = ("base.html", "<link href='css/x.css'>{% block a %}{% endblock %}");
        finds(&RULE, &[base, ("a.html", page), ("x/b.html", page)], &[]);
        assert_eq!([from_root("../../a"), from_root("./b/../c")], ["a", "b/../c"]);
    }
}
