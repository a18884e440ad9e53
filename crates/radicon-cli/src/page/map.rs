//! The map: layouts from left to right, their pages by folder, and the partials.

use std::collections::HashMap;

use maud::{Markup, html};
use radicon::report::{LayoutMap, PageFolder, Report};

use super::file_link;
use crate::output::count;

const BOX: (usize, usize) = (250, 26);
const STEP: (usize, usize) = (282, 34);
const MARGIN: usize = 12;

/// Something drawn.
struct Node {
    x: usize,
    y: usize,
    class: &'static str,
    text: String,
    title: String,
    file: String,
    /// The partials that it includes.
    includes: Vec<String>,
    /// The node to the left that it hangs on.
    parent: Option<usize>,
}

fn drawing(id: &str, map: &LayoutMap, names: &Names<'_>) -> Markup {
    let nodes = nodes(map, names);
    let right = nodes.iter().map(|node| node.x).max().unwrap_or(0) + BOX.0 + MARGIN;
    let bottom = nodes.iter().map(|node| node.y).max().unwrap_or(0) + BOX.1 + MARGIN;
    let places: HashMap<&str, &Node> =
        nodes.iter().filter(|node| node.class == "partial").map(|node| (node.file.as_str(), node)).collect();
    let uses: Vec<(&Node, &Node)> = nodes
        .iter()
        .flat_map(|node| {
            node.includes.iter().filter_map(|used| Some((node, *places.get(used.as_str())?))).collect::<Vec<_>>()
        })
        .filter(|(from, to)| from.x < to.x)
        .collect();
    html! {
        div.tools role="group" aria-label="Zoom" data-map=(id) {
            button type="button" data-zoom="1.25" { "Larger" }
            button type="button" data-zoom="0.8" { "Smaller" }
            button type="button" data-zoom="0" { "All of it" }
        }
        div.map tabindex="0" role="region" aria-label="Map" {
            svg id=(id) viewBox={ "0 0 " (right) " " (bottom) } width=(right) height=(bottom) role="group"
                aria-label="Layouts with their pages and partials" {
                @for node in &nodes {
                    @if let Some(parent) = node.parent.map(|at| &nodes[at]) { path.edge d=(curve(parent, node)) {} }
                }
                @for (from, to) in &uses { path.use d=(curve(from, to)) data-from=(from.file) data-to=(to.file) {} }
                @for node in &nodes {
                    a class=(node.class) href={ "#page=" (node.file) } data-file=(node.file) {
                        title { (node.title) }
                        rect x=(node.x) y=(node.y) width=(BOX.0) height=(BOX.1) rx="3" {}
                        text x=(node.x + 9) y=(node.y + 17) { (node.text) }
                    }
                }
            }
        }
        @if !map.partials.is_empty() { (users(map)) }
    }
}

pub fn section(report: &Report) -> Markup {
    let what = "Layouts, the pages that extend them, and the partials. Point at a box to see its includes; click it to see its file.";
    let names = Names::new(report);
    let content = html! {
        @if let Some(proposed) = &report.proposed {
            h3 { "Now" }
            (drawing("map-now", &report.now.map, &names))
            h3 { "Proposed" }
            (drawing("map-proposed", &proposed.map, &names))
        } @else { (drawing("map-now", &report.now.map, &names)) }
    };
    super::section("map", what, content)
}

/// From the right side of one box to the left side of another.
fn curve(from: &Node, to: &Node) -> String {
    let (x1, y1, x2, y2) = (from.x + BOX.0, from.y + BOX.1 / 2, to.x, to.y + BOX.1 / 2);
    let middle = (x1 + x2) / 2;
    format!("M{x1} {y1}C{middle} {y1} {middle} {y2} {x2} {y2}")
}

fn nodes(map: &LayoutMap, names: &Names<'_>) -> Vec<Node> {
    let mut nodes: Vec<Node> = Vec::new();
    // The layouts that are open, one a depth.
    let mut open: Vec<usize> = Vec::new();
    let mut row = 0;
    let place = |depth: usize, row: usize| (MARGIN + depth * STEP.0, MARGIN + row * STEP.1);
    for layout in &map.layouts {
        open.truncate(layout.depth);
        // A layout is in the row of its first child.
        let parent = open.last().copied();
        let (x, y) = place(layout.depth, row);
        nodes.push(Node {
            x,
            y,
            class: "layout",
            text: names.short(&layout.path),
            title: format!("{}: layout of {}, in {}", layout.path, count(layout.beneath, "page"), layout.dialect),
            file: layout.path.clone(),
            includes: layout.includes.clone(),
            parent,
        });
        open.push(nodes.len() - 1);
        let own = nodes.len() - 1;
        for folder in &layout.folders {
            nodes.push(pages(folder, names, place(layout.depth + 1, row), Some(own)));
            row += 1;
        }
        row += usize::from(layout.folders.is_empty());
    }
    for folder in &map.bare {
        nodes.push(pages(folder, names, place(0, row), None));
        row += 1;
    }
    let column = nodes.iter().map(|node| node.x).max().unwrap_or(0) + STEP.0 + 40;
    for (row, partial) in map.partials.iter().enumerate() {
        nodes.push(Node {
            x: column,
            y: place(0, row).1,
            class: "partial",
            text: names.short(&partial.path),
            title: format!("{}: partial, included by {}", partial.path, count(partial.users.len(), "file")),
            file: partial.path.clone(),
            includes: Vec::new(),
            parent: None,
        });
    }
    nodes
}

fn pages(folder: &PageFolder, names: &Names<'_>, (x, y): (usize, usize), parent: Option<usize>) -> Node {
    let path = format!("{}/", folder.folder);
    let shown = |name| if matches!(name, "" | "/") { "./" } else { name };
    let (text, title) = match folder.pages {
        1 => (names.short(&folder.first), folder.first.clone()),
        many => {
            let count = format!(" ({many} pages)");
            let room = ROOM.saturating_sub(count.chars().count());
            let title = format!("{}{count}, e.g. {}", shown(path.as_str()), folder.first);
            (shortened(shown(names.written(&path)), room) + &count, title)
        }
    };
    let class = if parent.is_some() { "page" } else { "page bare" };
    Node { x, y, class, text, title, file: folder.first.clone(), includes: folder.includes.clone(), parent }
}

/// So many characters have room in a box.
const ROOM: usize = 33;

/// How boxes call their files.
struct Names<'a> {
    /// The places where references start, the deepest first.
    roots: Vec<&'a str>,
}

impl<'a> Names<'a> {
    fn new(report: &'a Report) -> Self {
        let mut roots: Vec<&str> = report.survey.roots.iter().map(|root| root.path.as_str()).collect();
        roots.sort_by_key(|root| std::cmp::Reverse(root.len()));
        Self { roots }
    }

    /// A path as templates write it: without the root in which it is.
    fn written<'p>(&self, path: &'p str) -> &'p str {
        let inside = |root: &&str| path.strip_prefix(*root)?.strip_prefix('/').filter(|_| !root.is_empty());
        self.roots.iter().find_map(inside).unwrap_or(path)
    }

    /// The same, as short as a box.
    fn short(&self, path: &str) -> String {
        shortened(self.written(path), ROOM)
    }
}

/// A path cut in the middle: its end says most, and its beginning where it is.
fn shortened(path: &str, room: usize) -> String {
    let all = path.chars().count();
    if all <= room {
        return path.to_owned();
    }
    // The last part as a whole, if it has room.
    let last = path.trim_end_matches('/').rfind('/').map_or(0, |at| path[at..].chars().count());
    let tail = if last > 0 && last + 2 < room { last } else { room * 2 / 3 };
    let head = room.saturating_sub(1 + tail);
    let left: String = path.chars().take(head).collect();
    let right: String = path.chars().skip(all - tail.min(room.saturating_sub(1))).collect();
    format!("{left}…{right}")
}

/// Who includes which partial, as a table.
fn users(map: &LayoutMap) -> Markup {
    const SHOWN: usize = 6;
    html! {
        details {
            summary { "Who includes which partial" }
            table {
                thead { tr { th scope="col" { "partial" } th scope="col" { "files" } th scope="col" { "included by" } } }
                tbody {
                    @for partial in &map.partials {
                        tr {
                            th scope="row" { (file_link(&partial.path, &partial.path)) }
                            td { (partial.users.len()) }
                            td {
                                @for (at, user) in partial.users.iter().take(SHOWN).enumerate() {
                                    @if at > 0 { ", " }
                                    (file_link(user, user))
                                }
                                @if partial.users.len() > SHOWN { " and " (partial.users.len() - SHOWN) " more" }
                                @if partial.users.is_empty() { "nobody" }
                            }
                        }
                    }
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::shortened;

    #[test]
    fn long_names_are_cut_in_the_middle() {
        for (path, room, expected) in [
            ("harbours/old-pier.html", 40, "harbours/old-pier.html"),
            ("harbours/north/old-pier.html", 20, "harbo…/old-pier.html"),
            ("harbours/north/old/", 10, "harb…/old/"),
            ("harbours/old-pier.html", 12, "har…ier.html"),
            ("ab", 1, "…"),
        ] {
            assert_eq!(shortened(path, room), expected, "{path} in {room}");
        }
    }
}
