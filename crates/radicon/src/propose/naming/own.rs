//! Names that things have by themselves: people cut where a thing has one.

use super::{
    MOST_PAGES, SAMPLE, attribute, called, file_stem, first_word, is_telling, marks_current, of_attributes, of_link,
    of_value, roots_of, same_root, slug, tag,
};
use crate::markup::NodeId;
use crate::propose::pages::page::Page;
use crate::propose::skeleton::hole::{Context, Hole, Variant};

/// What a hole is called by itself: as what is in it, or as the very element or attribute that it is; or as the edge of
/// the page. `None` if only what is around it has a name.
pub fn own(pages: &[Page], hole: &Hole) -> Option<String> {
    itself(pages, hole).or_else(|| of_edge(pages, hole).map(str::to_owned))
}

/// The same, wherever it is.
fn itself(pages: &[Page], hole: &Hole) -> Option<String> {
    let page = hole.first_page(pages);
    let found = match hole.context {
        Context::Text { node } => match tag(page, page.document.nodes[node].parent).as_str() {
            "h1" | "h2" | "h3" => Some("heading".to_owned()),
            tag @ ("title" | "script" | "style") => Some(tag.to_owned()),
            _ => None,
        },
        Context::Value { node, token } => {
            let attribute = page.document.tokens[token].name().text(&page.source).to_ascii_lowercase();
            match (tag(page, node).as_str(), attribute.as_str()) {
                ("meta", "content")
                | ("link", "href")
                | ("script", "src")
                | ("html", "lang")
                | ("body", "class" | "id") => Some(of_value(pages, hole, node, token)),
                ("a", "href") => of_link(pages, hole, node).map(|text| format!("{text} link")),
                _ => None,
            }
        }
        Context::Attributes { node } => match tag(page, node).as_str() {
            "html" | "body" => Some(of_attributes(pages, hole, page, node)),
            _ if marks_current(pages, hole) => Some(of_attributes(pages, hole, page, node)),
            "a" => of_link(pages, hole, node).map(|text| format!("{text} link")),
            _ => None,
        },
        Context::Content { parent } => {
            of_own_content(pages, hole, page, parent).or_else(|| of_filled(pages, hole, parent))
        }
    };
    found.map(|found| slug(&found)).filter(|found| is_telling(found))
}

/// The kinds of element in a hole, over all pages.
pub(super) fn of_own_content(pages: &[Page], hole: &Hole, page: &Page, parent: NodeId) -> Option<String> {
    let parent_tag = tag(page, parent);
    let mut tags: Vec<String> = Vec::new();
    let mut names: Vec<Option<String>> = Vec::new();
    let mut stylesheets = true;
    // Of thousands of pages some, from everywhere.
    let step = hole.variants.len().div_ceil(MOST_PAGES);
    for variant in hole.variants.iter().step_by(step.max(1)) {
        let page = &pages[variant.page];
        for node in roots_of(page, variant.content) {
            let tag = tag(page, node);
            if tag == "link" {
                stylesheets &= attribute(page, node, "rel").is_some_and(|rel| rel.contains("stylesheet"));
            }
            if !tags.contains(&tag) {
                tags.push(tag);
            }
            let name = called(page, node);
            if !names.contains(&name) {
                names.push(name);
            }
            if names.len() > 64 {
                break;
            }
        }
    }
    let only = |allowed: &[&str]| !tags.is_empty() && tags.iter().all(|tag| allowed.contains(&tag.as_str()));
    let in_head = parent_tag == "head";
    if only(&["title"]) {
        return Some("title".into());
    }
    if only(&["style", "link"]) && stylesheets {
        // One style sheet of all pages is not the pages' own styles.
        let sheet = same_root(pages, hole, |page, node| file_stem(&attribute(page, node, "href")?));
        let is_everywhere = hole.variants.iter().all(|variant| !variant.content.is_empty());
        return Some(sheet.filter(|_| is_everywhere).map_or("styles".into(), |stem| format!("{stem} stylesheet")));
    }
    if only(&["script"]) {
        let script = same_root(pages, hole, |page, node| file_stem(&attribute(page, node, "src")?));
        let is_everywhere = hole.variants.iter().all(|variant| !variant.content.is_empty());
        let usual = || if in_head { "head scripts" } else { "scripts" }.to_owned();
        return Some(script.filter(|_| is_everywhere).map_or_else(usual, |stem| format!("{stem} script")));
    }
    if only(&["meta"]) {
        let told = |page: &Page, node| attribute(page, node, "name").or_else(|| attribute(page, node, "property"));
        return Some(same_root(pages, hole, told).unwrap_or_else(|| "meta".into()));
    }
    if in_head && only(&["link"]) {
        let rel = same_root(pages, hole, |page, node| attribute(page, node, "rel"));
        return Some(rel.map_or_else(|| "head links".into(), |rel| format!("{} link", first_word(&rel))));
    }
    if in_head {
        return None;
    }
    match &names[..] {
        [Some(name)] if !marks_current(pages, hole) => Some(name.clone()),
        _ if matches!(parent_tag.as_str(), "main" | "article") => Some("content".into()),
        _ => None,
    }
}

/// What comes first in the body, or last, in all pages that have something there.
pub(super) fn of_edge(pages: &[Page], hole: &Hole) -> Option<&'static str> {
    let Context::Content { parent } = hole.context else { return None };
    if tag(hole.first_page(pages), parent) != "body" {
        return None;
    }
    let filled = hole.variants.iter().filter(|variant| !variant.content.is_empty());
    let mut edges = filled.take(SAMPLE).map(|variant| {
        let (page, (parent, _)) = (&pages[variant.page], variant.place?);
        let body = &page.document.nodes[parent];
        let whole = page.span(page.trimmed((body.inner, body.close)));
        match (whole.start == variant.content.start, whole.end == variant.content.end) {
            (true, false) => Some("header"),
            (false, true) => Some("footer"),
            _ => None,
        }
    });
    let first = edges.next()??;
    edges.all(|edge| edge == Some(first)).then_some(first)
}

/// The name of the element around a hole that is all of its content.
fn of_filled(pages: &[Page], hole: &Hole, parent: NodeId) -> Option<String> {
    let fills = |variant: &Variant| {
        let (page, (node, _)) = (&pages[variant.page], variant.place?);
        let inside = &page.document.nodes[node];
        Some(page.span(page.trimmed((inside.inner, inside.close))) == variant.content)
    };
    let page = hole.first_page(pages);
    let is_all = hole.variants.iter().take(SAMPLE).all(|variant| fills(variant) == Some(true));
    called(page, parent).filter(|_| is_all && !matches!(tag(page, parent).as_str(), "head" | "body" | "html"))
}
