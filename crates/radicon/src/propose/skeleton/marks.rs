//! Marks: what is the same in all pages, but where a reader is.

use super::hole::{Mark, Piece};
use super::unify::{Level, Unified, Unifier};
use crate::markup::{NodeId, NodeKind};
use crate::propose::naming;
use crate::propose::pages::page::{Page, Run};
use crate::prove::Strength;
use crate::site::Here;
use crate::text::Span;

/// So many elements around a place are looked at for a link: an entry of a menu, and what is around it.
const MOST_AROUND: usize = 2;

/// A mark is so many words more in a tag: a class, or an attribute with its value.
const MOST_WORDS: usize = 4;

/// So many nodes are looked at for a link.
const MOST_LOOKED_AT: usize = 40;

impl Unifier<'_> {
    /// Runs of siblings, or of attributes, as a mark.
    pub(super) fn marked(
        &self,
        members: &[usize],
        nodes: &[NodeId],
        runs: &[Run],
        hashes: &[u64],
        level: Level,
    ) -> Option<Unified> {
        halves(hashes)?;
        let is_trimmed = matches!(level, Level::Content) && self.strength != Strength::Bytes;
        let place = |(&page, &run): (&usize, &Run)| {
            let page = &self.pages[page];
            page.span(if is_trimmed { page.trimmed(run) } else { run })
        };
        let contents: Vec<Span> = members.iter().zip(runs).map(place).collect();
        let mark = self.mark(members, (nodes[0], matches!(level, Level::Tag)), &contents, hashes)?;
        Some(with_mark(mark, members[0], self.pages[members[0]].span(runs[0]), contents[0]))
    }

    /// Whether the first of two contents of a place may be the second with a mark: the same words, perhaps in other
    /// elements, or an attribute more, or a word more in one.
    fn is_marked(&self, here: (usize, Span), elsewhere: (usize, Span), in_tag: bool) -> bool {
        let [more, less] = [here, elsewhere].map(|(page, span)| match in_tag {
            true => words_in_tag(&span.text(&self.pages[page].source)),
            false => naming::words_in(&self.pages[page], span),
        });
        match in_tag {
            true => {
                // An address is no mark.
                let is_address = more.iter().any(|word| word == "href");
                !is_address && less.iter().all(|word| more.contains(word)) && more.len() <= less.len() + MOST_WORDS
            }
            false => !more.is_empty() && more == less,
        }
    }

    /// The mark that a place is, with the content of each page and its hash: the first of the pages has it in this node,
    /// or among the attributes of its tag. Two contents are there; one is that of a page, or of the pages of a folder, to
    /// which a link leads that is in the other content or in what is around the place.
    pub(super) fn mark(
        &self,
        members: &[usize],
        (node, in_tag): (NodeId, bool),
        contents: &[Span],
        hashes: &[u64],
    ) -> Option<Mark> {
        if !self.marks {
            return None;
        }
        let [first, second] = halves(hashes)?;
        let around = &self.pages[members[0]];
        let own = in_tag.then(|| link_of(around, node)).flatten();
        let mut links: Vec<Here> = own.clone().into_iter().collect();
        let is_element = |at: &NodeId| around.document.nodes[*at].kind == NodeKind::Element;
        let parent = |&at: &NodeId| (at != NodeId::ROOT).then(|| around.document.nodes[at].parent);
        let outer = std::iter::successors(Some(node), parent).filter(is_element);
        for (at, element) in outer.take(MOST_AROUND).enumerate() {
            links.extend(link_of(around, element));
            if at == 0 && in_tag {
                links.extend(links_in(around, around.document.span(element)));
            }
        }
        [(&first, &second), (&second, &first)].into_iter().find_map(|(here, elsewhere)| {
            let page_with = |half: &[usize]| (members[half[0]], contents[half[0]]);
            // A page has no link to itself.
            let is_left_out = !in_tag && page_with(here).1.is_empty() && here.len() == 1;
            if !is_left_out && !self.is_marked(page_with(here), page_with(elsewhere), in_tag) {
                return None;
            }
            let paths: Vec<&str> = here.iter().map(|&at| self.pages[members[at]].path.as_str()).collect();
            let all = || members.iter().map(|&page| self.pages[page].path.as_str());
            let (page, span) = page_with(elsewhere);
            let around = if is_left_out { &[][..] } else { &links[..] };
            let links: Vec<Here> = around.iter().cloned().chain(links_in(&self.pages[page], span)).collect();
            let target = match &paths[..] {
                [path] if links.iter().any(|link| link.means(path)) => {
                    let is_said = own.as_ref().is_some_and(|link| link.means(path));
                    (!is_said).then(|| (*path).to_owned())
                }
                [path] if !path.contains('/') => return None,
                _ => {
                    let shared = match naming::shared_folder(paths.iter().copied()) {
                        "" => return None,
                        folder => format!("{folder}/"),
                    };
                    let leads = |link: &Here| match link {
                        Here::Page(path) => path.starts_with(&shared),
                        Here::Index(folder) | Here::Beneath(folder) => folder.starts_with(&shared),
                    };
                    let is_all = all().filter(|path| path.starts_with(&shared)).count() == paths.len();
                    if !is_all || !links.iter().any(leads) {
                        return None;
                    }
                    Some(shared)
                }
            };
            let pages = here.iter().map(|&at| members[at]).collect();
            Some(Mark { target, pages, here: page_with(here), elsewhere: page_with(elsewhere) })
        })
    }
}

/// A mark in the place of what a page has there, with the rest of the bytes that are looked at.
pub(super) fn with_mark(mark: Mark, page: usize, whole: Span, content: Span) -> Unified {
    let [before, after] = [Span::new(whole.start, content.start), Span::new(content.end, whole.end)];
    let cost = (before.len() + after.len() + mark.bytes()) as u64;
    let fixed = |span| Piece::Fixed { page, span };
    Unified { pieces: vec![fixed(before), Piece::Mark(Box::new(mark)), fixed(after)], cost }
}

/// The words of attributes or of a value.
fn words_in_tag(text: &str) -> Vec<String> {
    let words = text.split(|c: char| c.is_whitespace() || matches!(c, '"' | '\'' | '='));
    words.filter(|word| !word.is_empty()).map(str::to_owned).collect()
}

/// The places of two hashes, if there are just two.
fn halves(hashes: &[u64]) -> Option<[Vec<usize>; 2]> {
    let first = *hashes.first()?;
    let second = *hashes.iter().find(|hash| **hash != first)?;
    if hashes.iter().any(|hash| *hash != first && *hash != second) {
        return None;
    }
    Some([first, second].map(|wanted| (0..hashes.len()).filter(|&at| hashes[at] == wanted).collect()))
}

/// Where the link of an element leads.
fn link_of(page: &Page, node: NodeId) -> Option<Here> {
    let url = page.document.attribute(&page.source, node, "href")?;
    Here::of_link(&String::from_utf8_lossy(url))
}

/// Where the links in a place lead.
pub fn links_in(page: &Page, span: Span) -> Vec<Here> {
    page.document.nodes_in(span).take(MOST_LOOKED_AT).filter_map(|node| link_of(page, node)).collect()
}

#[cfg(test)]
mod tests {
    use crate::propose::testing::{pages_at, shown, unifier};

    #[track_caller]
    fn check(files: &[(&str, &str)], expected: &str) {
        let pages = pages_at(files);
        let members: Vec<usize> = (0..pages.len()).collect();
        assert_eq!(shown(&unifier(&pages, 100).pages(&members).pieces, &pages), expected);
    }

    #[test]
    fn the_current_entry_of_a_menu_is_a_mark() {
        let menu = |on: usize| {
            let mark = |at| if at == on { " class=\"on\"" } else { "" };
            format!(
                "<ul><li{}><a href=\"boats/index.html\">Boats</a></li><li><a href=\"fares.html\"{}>Fares</a></li></ul>",
                mark(1),
                mark(2)
            )
        };
        check(
            &[
                ("boats/gull.html", &menu(1)),
                ("boats/index.html", &menu(1)),
                ("fares.html", &menu(2)),
                ("home.html", &menu(0)),
            ],
            "<ul><li[boats/: class=\"on\"|]><a href=\"boats/index.html\">Boats</a></li><li><a href=\"fares.html\"[: class=\"on\"|]>Fares</a></li></ul>",
        );
        let entry = |on: bool| if on { "<p><b>Fares</b></p>" } else { "<p><a href=\"fares.html\">Fares</a></p>" };
        check(
            &[("boats.html", entry(false)), ("fares.html", entry(true)), ("tides.html", entry(false))],
            "<p>[fares.html:<b>Fares</b>|<a href=\"fares.html\">Fares</a>]</p>",
        );
        // A page may have no link to itself.
        let to = |link: &str| format!("<p><b>To the desk</b>{link}</p>");
        let link = "<a href=\"fares.html\">Fares</a>";
        check(
            &[("boats.html", &to(link)), ("fares.html", &to("")), ("tides.html", &to(link))],
            "<p><b>To the desk</b>[fares.html:|<a href=\"fares.html\">Fares</a>]</p>",
        );
        // A link that leads elsewhere says nothing.
        check(
            &[("boats.html", entry(true)), ("fares.html", entry(false)), ("tides.html", entry(false))],
            "<p>{<b>Fares</b>|<a href=\"fares.html\">Fares</a>|<a href=\"fares.html\">Fares</a>}</p>",
        );
    }
}
