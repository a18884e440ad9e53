//! Words for layouts: by folder, language, and what their pages share.

use super::{MOST_LOOKED_AT, SHORTEST, attribute, called, first_telling, is_telling, tag, word, words_of};
use crate::markup::NodeId;
use crate::propose::pages::page::Page;
use crate::site::{folder, stem};
use crate::text::Span;

/// The word for a section of which nothing is known.
pub const SECTION: &str = "section";

/// A word for a section of the pages around it: their folder, what their bodies
/// are called, their language, how their files' names begin.
pub fn of_section(pages: &[Page], around: &[usize], members: &[usize]) -> String {
    let path = |member: usize| pages[member].path.as_str();
    let (own, outer) =
        (shared_folder(members.iter().map(|&m| path(m))), shared_folder(around.iter().map(|&m| path(m))));
    let lang = |member: usize| of_element(&pages[member], "html", &["lang"]);
    // Two letters say too little by themselves.
    let word = |text: &str| {
        let word = word(text);
        let is_lang = |&member: &usize| lang(member).is_some_and(|lang| lang.to_ascii_lowercase().starts_with(&word));
        if word.len() < SHORTEST && members.iter().all(is_lang) { format!("lang-{word}") } else { word }
    };
    if own.len() > outer.len() {
        return word(own.rsplit('/').next().unwrap_or(own));
    }
    // What all its pages say and not all others do.
    let told = |of: &dyn Fn(usize) -> Option<String>| {
        let same = of(members[0]).filter(|said| members.iter().all(|&member| of(member).as_ref() == Some(said)));
        same.filter(|said| around.iter().any(|&member| of(member).as_ref() != Some(said)))
    };
    let body = |member: usize| of_element(&pages[member], "body", &["class", "id"]);
    if let Some(said) = told(&body).or_else(|| told(&lang)) {
        return word(&said);
    }
    let stem = |member: usize| stem(path(member));
    let first = stem(members[0]);
    let shared = members.iter().fold(first.len(), |shared, &member| {
        shared.min(first.bytes().zip(stem(member).bytes()).take_while(|(a, b)| a == b).count())
    });
    let begin = first.get(..shared).and_then(|shared| shared.rfind(['-', '_', '.']).map(|end| &shared[..end]));
    if let Some(begin) = begin.filter(|begin| begin.len() > 2) {
        return word(begin);
    }
    SECTION.into()
}

/// A word of all folders that hold these pages, if there are several, or if all of them lie in others under it.
pub fn of_folders(pages: &[Page], members: &[usize]) -> Option<String> {
    let shared = shared_folder(members.iter().map(|&member| pages[member].path.as_str()));
    if shared.contains('/') {
        return Some(word(shared));
    }
    let is_deeper = |&member: &usize| folder(&pages[member].path) != shared;
    (!shared.is_empty() && members.iter().all(is_deeper)).then(|| format!("{}-subfolders", word(shared)))
}

/// The name of pages of a skeleton: the title of all of them, else the first thing on them.
pub fn of_frame(pages: &[Page], members: &[usize]) -> Option<String> {
    let page = &pages[members[0]];
    let title = |member: usize| {
        let page = &pages[member];
        let title = page.document.all_below_root().find(|&node| tag(page, node) == "title")?;
        let node = &page.document.nodes[title];
        Some(page.span((node.inner, node.close)).of(&page.source).to_vec())
    };
    let is_same = members.iter().all(|&member| title(member) == title(members[0]));
    if let Some(words) = title(members[0]).filter(|_| is_same).and_then(|title| first_telling(&title)) {
        return Some(words);
    }
    let body = page.document.all_below_root().find(|&node| tag(page, node) == "body")?;
    let first = page.document.children(body).find_map(|node| called(page, node))?;
    Some(word(&first)).filter(|word| is_telling(word))
}

/// The first heading in a place, if it is short.
pub fn heading_in(page: &Page, span: Span) -> Option<String> {
    let nodes = page.document.nodes_in(span).take(MOST_LOOKED_AT);
    let mut headings = nodes.filter(|&node| matches!(tag(page, node).as_str(), "h2" | "h3" | "h4"));
    headings.next().and_then(|node| words_of(page, node))
}

/// Whether a node is a heading of any level.
pub fn is_heading(page: &Page, node: NodeId) -> bool {
    matches!(tag(page, node).as_str(), "h1" | "h2" | "h3" | "h4" | "h5" | "h6")
}

/// The innermost folder that holds all of the paths.
pub fn shared_folder<'p>(mut paths: impl Iterator<Item = &'p str>) -> &'p str {
    let first = folder(paths.next().unwrap_or_default());
    paths.fold(first, |mut shared, path| {
        while !shared.is_empty() && crate::site::beneath(path, shared).is_none() {
            shared = folder(shared);
        }
        shared
    })
}

/// The first of these attributes that the page's first element of a name has.
pub fn of_element(page: &Page, name: &str, attributes: &[&str]) -> Option<String> {
    let node = page.document.all_below_root().find(|&node| tag(page, node) == name)?;
    attributes.iter().find_map(|name| attribute(page, node, name))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::propose::testing::page;

    #[test]
    fn a_section_is_called_by_its_folder_its_body_its_language_or_its_names() {
        let plain = |path: &str| page(path, "<html><body></body></html>");
        let pages = [
            page("a.html", "<html lang=\"en\"><body></body></html>"),
            page("b.html", "<html lang=\"en\"><body class=\"harbour\"></body></html>"),
            page("c.html", "<html lang=\"en\"><body class=\"harbour\"></body></html>"),
            page("d.html", "<html lang=\"fr\"><body></body></html>"),
            plain("crew/x.html"),
            plain("crew/y.html"),
            plain("boat-one.html"),
            plain("boat-two.html"),
        ];
        let all: Vec<usize> = (0..pages.len()).collect();
        for (members, word) in
            [(&[4, 5][..], "crew"), (&[1, 2], "harbour"), (&[3], "lang-fr"), (&[6, 7], "boat"), (&[0, 4], SECTION)]
        {
            assert_eq!(of_section(&pages, &all, members), word);
        }
    }

    #[test]
    fn the_innermost_folder_of_paths() {
        for (paths, folder) in [
            (&["a/b/x.html", "a/b/y.html"][..], "a/b"),
            (&["a/b/x.html", "a/c/y.html"], "a"),
            (&["a/x.html", "ab/y.html"], ""),
            (&[], ""),
        ] {
            assert_eq!(shared_folder(paths.iter().copied()), folder);
        }
    }
}
