//! Names for blocks, from what is in them and around them.

mod own;
mod parameters;
mod sections;

use crate::dialect;
use crate::markup::{Document, NodeId, NodeKind, TokenId, TokenKind};
use crate::propose::pages::page::Page;
use crate::propose::skeleton::hole::{Context, Hole, Variant};
use crate::text::Span;

use own::of_own_content;
pub use own::own;
pub use parameters::of_parameters;
pub use sections::{SECTION, heading_in, is_heading, of_element, of_folders, of_frame, of_section, shared_folder};

/// A name for a hole: lower case letters, digits and `_`. Not unique yet.
pub fn name(pages: &[Page], hole: &Hole) -> String {
    let page = hole.first_page(pages);
    let found = match hole.context {
        Context::Text { node } => of_text(page, node),
        Context::Value { node, token } => of_value(pages, hole, node, token),
        Context::Attributes { node } => of_attributes(pages, hole, page, node),
        Context::Content { parent } => of_content(pages, hole, page, parent),
    };
    slug(&found)
}

/// What a hole may be called, the best first: as it is, as what is in it, by its label, by what is around it. The
/// main content is called so, and nothing else is.
pub fn candidates(pages: &[Page], hole: &Hole, is_main: bool) -> Vec<String> {
    let page = hole.first_page(pages);
    let best = name(pages, hole);
    let node = match hole.context {
        Context::Text { node } | Context::Value { node, .. } | Context::Attributes { node } => node,
        Context::Content { parent } => parent,
    };
    let mut names: Vec<String> = Vec::new();
    names.extend(is_main.then(|| MAIN.to_owned()));
    names.extend(own(pages, hole));
    names.push(best.clone());
    if let Context::Content { .. } = hole.context {
        names.extend(inside(pages, hole));
        names.extend(label(pages, hole));
    }
    // What is called the same elsewhere differs in what is around it.
    let outer =
        ancestors(page, node).filter_map(|around| called(page, around)).filter(|outer| !best.starts_with(&slug(outer)));
    names.extend(outer.map(|outer| slug(&format!("{outer} {best}"))));
    names.push(of_kind(pages, hole).to_owned());
    names.retain(|name| is_telling(name) && (is_main || name != MAIN));
    names.push(if best == MAIN && !is_main { of_kind(pages, hole).to_owned() } else { best });
    names
}

/// A word for what is in a hole of which nothing else is known.
fn of_kind(pages: &[Page], hole: &Hole) -> &'static str {
    let shown = hole.filled();
    let (page, span) = (&pages[shown.page], shown.content);
    let parent = match hole.context {
        Context::Content { parent } => parent,
        Context::Text { node } => page.document.nodes[node].parent,
        Context::Value { .. } | Context::Attributes { .. } => return "value",
    };
    let nodes = &page.document.nodes;
    let root = nodes.iter().find(|node| node.kind == NodeKind::Element);
    let root = root.map_or(0, |node| page.document.offset(node.first));
    let tags: Vec<String> = page.document.nodes_in(span).take(MOST_LOOKED_AT).map(|node| tag(page, node)).collect();
    let count = |name: &str| tags.iter().filter(|tag| *tag == name).count();
    match tag(hole.first_page(pages), parent).as_str() {
        "" | "html" if span.start < root => "prolog",
        "" | "html" => "epilog",
        "head" => "head_extra",
        "script" => "script_lines",
        "style" => "style_rules",
        "h1" => "heading",
        "h2" | "h3" | "h4" | "h5" | "h6" => "subheading",
        _ if count("a") >= LEAST_LINKS => "links",
        _ if count("img") > 0 => "picture",
        _ if count("script") > 0 => "scripts",
        _ => "text",
    }
}

/// A word for the part of a thing that is in a hole.
pub fn of_part(pages: &[Page], hole: &Hole) -> &'static str {
    match hole.context {
        Context::Content { parent } if matches!(tag(hole.first_page(pages), parent).as_str(), "ul" | "ol") => "items",
        _ => of_kind(pages, hole),
    }
}

/// So many nodes of a hole are looked at for what it is.
const MOST_LOOKED_AT: usize = 400;

/// So many links are a list of them.
const LEAST_LINKS: usize = 3;

/// Whether a hole may be the main content: markup in the body that is no region of another name.
pub fn may_be_main(pages: &[Page], hole: &Hole) -> bool {
    let page = hole.first_page(pages);
    match hole.context {
        Context::Content { parent } => {
            !ancestors(page, parent)
                .any(|node| is_landmark(&page.document, &page.source, node) || tag(page, node) == "head")
                && !has_region(&name(pages, hole))
        }
        _ => false,
    }
}

/// Words for regions of a page, where they are not told by their elements.
const REGIONS: [&str; 21] = [
    "banner",
    "breadcrumb",
    "breadcrumbs",
    "comments",
    "contents",
    "crumbs",
    "foot",
    "footer",
    "head",
    "header",
    "icons",
    "logo",
    "masthead",
    "menu",
    "nav",
    "navigation",
    "scripts",
    "search",
    "sidebar",
    "toc",
    "toolbar",
];

/// Whether a name holds the word for a region of a page.
pub fn has_region(name: &str) -> bool {
    slug(name).split('_').any(|word| REGIONS.contains(&word))
}

/// The name of the main content.
pub const MAIN: &str = "content";

/// Names of elements that say no more of a thing than its tag does.
const ELEMENTS: [&str; 56] = [
    "a", "abbr", "b", "body", "br", "button", "code", "dd", "div", "dl", "dt", "em", "form", "frame", "h1", "h2", "h3",
    "h4", "h5", "h6", "html", "i", "iframe", "img", "input", "label", "li", "link", "ol", "option", "page", "p", "pre",
    "q", "s", "script", "section", "select", "small", "span", "strong", "style", "sub", "sup", "svg", "table", "tbody",
    "td", "textarea", "tfoot", "th", "thead", "tr", "tt", "u", "ul",
];

/// Shorter names say too little.
pub const SHORTEST: usize = 3;

/// Whether a name tells what something is: it is no tag's name, and no number tells it from others.
pub fn is_telling(name: &str) -> bool {
    let ends_in_number = name.rsplit(['_', '-']).next().is_some_and(|last| last.bytes().all(|b| b.is_ascii_digit()));
    let words = name.strip_prefix("part").is_some_and(|rest| rest.starts_with(['_', '-']));
    name.len() >= SHORTEST && !ends_in_number && !words && !ELEMENTS.contains(&name)
}

fn ancestors(page: &Page, node: NodeId) -> impl Iterator<Item = NodeId> + '_ {
    std::iter::successors(Some(node), |&at| (at != NodeId::ROOT).then(|| page.document.nodes[at].parent))
}

/// The names of the first elements within a hole.
fn inside(pages: &[Page], hole: &Hole) -> Vec<String> {
    let shown = hole.filled();
    let (page, span) = (&pages[shown.page], shown.content);
    let nodes = &page.document.nodes;
    let elements = page.document.nodes_in(span).filter(|&node| nodes[node].kind == NodeKind::Element).take(DEEPEST);
    let called = elements.filter_map(|node| called(page, node)).map(|name| slug(&name));
    called.chain(same_words(pages, hole).map(|words| slug(&words))).collect()
}

/// The short text of the first element in a hole, if every page that has one there says the same.
fn same_words(pages: &[Page], hole: &Hole) -> Option<String> {
    let words =
        |page: &Page, roots: &[NodeId]| elements_in(page, *roots.first()?).find_map(|node| words_of(page, node));
    same_told(pages, hole, words)
}

/// An element, and the first ones in it.
fn elements_in(page: &Page, node: NodeId) -> impl Iterator<Item = NodeId> + '_ {
    let end = page.document.nodes[node].next;
    node.to(end).filter(|&node| page.document.nodes[node].kind == NodeKind::Element).take(DEEPEST)
}

/// So many pages are looked at for a name.
const SAMPLE: usize = 40;

/// Content of a hole is looked at in so many pages at most.
const MOST_PAGES: usize = 1000;

/// So many elements of a hole are looked at for a name.
const DEEPEST: usize = 12;

/// The label before a hole, if it is the same in all pages, as far as some of them show.
fn label(pages: &[Page], hole: &Hole) -> Option<String> {
    let last = hole.variants.len() - 1;
    let mut labels = [0, last / 2, last].into_iter().map(|at| {
        let variant = &hole.variants[at];
        label_before(&pages[variant.page], variant.place?.0, variant.content)
    });
    let first = labels.next()??;
    labels.all(|label| label.as_ref() == Some(&first)).then_some(first)
}

/// The short text of the element before a place in a page.
fn label_before(page: &Page, parent: NodeId, span: Span) -> Option<String> {
    let document = &page.document;
    let elements = document.children(parent).filter(|&node| document.nodes[node].kind == NodeKind::Element);
    let before = elements.take_while(|&node| document.span(node).end <= span.start).last()?;
    words_of(page, before).map(|words| slug(&words))
}

/// The first words of a name.
pub fn first_words(name: &str, most: usize) -> &str {
    name.match_indices('_').nth(most - 1).map_or(name, |(end, _)| &name[..end])
}

/// Makes a name out of any text; at most five words.
pub fn slug(text: &str) -> String {
    let lower = text.to_lowercase();
    let mut words: Vec<&str> =
        lower.split(|c: char| !c.is_ascii_alphanumeric()).filter(|word| !word.is_empty()).collect();
    // A number before words counts them or dates them.
    let numbers = words.iter().take_while(|word| word.starts_with(|c: char| c.is_ascii_digit())).count();
    words.drain(..if numbers < words.len() { numbers } else { 0 });
    words.truncate(5);
    let name = words.join("_");
    match name.chars().next() {
        None => "content".into(),
        Some(first) if first.is_ascii_digit() => format!("part_{name}"),
        Some(_) => name,
    }
}

pub fn tag(page: &Page, node: NodeId) -> String {
    String::from_utf8_lossy(page.document.name(&page.source, node)).to_ascii_lowercase()
}

fn attribute(page: &Page, node: NodeId, name: &str) -> Option<String> {
    let value = page.document.attribute(&page.source, node, name)?;
    let text = String::from_utf8_lossy(value).trim().to_owned();
    (!text.is_empty()).then_some(text)
}

/// Whether an element is a region of the page that people know by a name.
pub fn is_landmark(document: &Document, source: &[u8], node: NodeId) -> bool {
    let is = |text: &[u8], words: &[&str]| words.iter().any(|word| text.eq_ignore_ascii_case(word.as_bytes()));
    let role = document.attribute(source, node, "role").unwrap_or_default();
    is(document.name(source, node), &["header", "nav", "aside", "footer"])
        || is(role, &["banner", "navigation", "complementary", "contentinfo"])
}

/// The name that people would give an element: its role on the page, its id, its class.
pub fn called(page: &Page, node: NodeId) -> Option<String> {
    let tag = tag(page, node);
    match tag.as_str() {
        "main" | "article" => return Some("content".into()),
        "nav" => {
            return Some(
                attribute(page, node, "aria-label")
                    .filter(|label| label.len() < 24)
                    .unwrap_or_else(|| "navigation".into()),
            );
        }
        "header" | "footer" | "title" | "form" => return Some(tag),
        "aside" => return Some("sidebar".into()),
        "head" => return Some(tag),
        "body" | "html" => return None,
        _ => {}
    }
    if let Some(id) = attribute(page, node, "id") {
        return Some(id);
    }
    // Words for how something is laid out say nothing of what it is.
    const LAYOUT_WORDS: [&str; 12] = [
        "block",
        "container",
        "row",
        "col",
        "column",
        "columns",
        "wrapper",
        "inner",
        "outer",
        "section",
        "content",
        "box",
    ];
    let class = attribute(page, node, "class").and_then(|class| {
        let is_telling = |word: &&str| !LAYOUT_WORDS.contains(word) && page.is_telling_class(word);
        class.split_whitespace().find(is_telling).map(str::to_owned)
    });
    class.or_else(|| attribute(page, node, "role")).or_else(|| match tag.as_str() {
        "h1" | "h2" | "h3" => Some("heading".into()),
        _ => None,
    })
}

/// The name of the nearest element around that has one.
fn around(page: &Page, node: NodeId) -> String {
    let mut at = node;
    while at != NodeId::ROOT {
        if page.document.nodes[at].kind == NodeKind::Element
            && let Some(name) = called(page, at)
        {
            return name;
        }
        at = page.document.nodes[at].parent;
    }
    "page".into()
}

fn of_text(page: &Page, node: NodeId) -> String {
    let parent = page.document.nodes[node].parent;
    match tag(page, parent).as_str() {
        "title" => "title".into(),
        "script" => "script".into(),
        "style" => "style".into(),
        _ => around(page, parent),
    }
}

fn of_value(pages: &[Page], hole: &Hole, node: NodeId, token: TokenId) -> String {
    let page = hole.first_page(pages);
    let attribute_name = page.document.tokens[token].name().text(&page.source).to_ascii_lowercase();
    let tag = tag(page, node);
    let told = |name: &str| attribute(page, node, name);
    match (tag.as_str(), attribute_name.as_str()) {
        ("meta", "content") => {
            told("name").or_else(|| told("property")).or_else(|| told("http-equiv")).unwrap_or_else(|| "meta".into())
        }
        ("link", "href") => match told("rel") {
            Some(rel) if rel == "stylesheet" => {
                format!("{} stylesheet", told("id").or_else(|| file_stem(&told("href")?)).unwrap_or_default())
            }
            Some(rel) => first_word(&rel),
            None => "link".into(),
        },
        ("script", "src") => format!("{} script", told("src").and_then(|src| file_stem(&src)).unwrap_or_default()),
        ("img", "src" | "alt") => {
            format!("{} {attribute_name}", told("class").or_else(|| told("id")).unwrap_or_else(|| "image".into()))
        }
        ("a", "href") => {
            let text = of_link(pages, hole, node);
            format!("{} link", text.or_else(|| told("class")).unwrap_or_else(|| around(page, node)))
        }
        ("html", "lang") => "lang".into(),
        (_, name) => format!("{} {name}", of_owner(page, node)),
    }
}

/// The name of a link in all pages: its relation, its id, its text, or what its picture stands for.
fn of_link(pages: &[Page], hole: &Hole, node: NodeId) -> Option<String> {
    let page = hole.first_page(pages);
    let rel = attribute(page, node, "rel").filter(|rel| !rel.starts_with("no")).map(|rel| first_word(&rel));
    let last = &pages[hole.variants.last()?.page].source;
    let is_everywhere = |text: &String| memchr::memmem::find(last, text.as_bytes()).is_some();
    let said = || words_of(page, node).or_else(|| alt_in(page, node)).filter(is_everywhere);
    rel.or_else(|| attribute(page, node, "id")).or_else(said)
}

/// The words that stand for the only picture in an element.
fn alt_in(page: &Page, node: NodeId) -> Option<String> {
    let mut pictures = elements_in(page, node).filter(|&node| tag(page, node) == "img");
    let alt = attribute(page, pictures.next()?, "alt")?;
    let is_short = alt.split_whitespace().count() <= MOST_WORDS && alt.len() <= LONGEST_WORDS;
    (is_short && pictures.next().is_none()).then_some(alt)
}

fn first_word(text: &str) -> String {
    text.split_whitespace().next().unwrap_or_default().to_owned()
}

/// A short text that may name something has so many words, and bytes, at most.
const MOST_WORDS: usize = 4;
const LONGEST_WORDS: usize = 40;

/// The short text of an element.
fn words_of(page: &Page, node: NodeId) -> Option<String> {
    let node = &page.document.nodes[node];
    let words = words_in(page, page.span((node.inner, node.close)));
    let text = words.join(" ");
    (!words.is_empty() && words.len() <= MOST_WORDS && text.len() <= LONGEST_WORDS).then_some(text)
}

/// The words in a place that holds a few words and nothing else.
pub fn only_words(page: &Page, span: Span) -> Option<String> {
    let text = span.text(&page.source);
    let is_short = text.len() <= LONGEST_WORDS && !text.contains(['<', '/', '.', '=']);
    let words: Vec<&str> = text.split_whitespace().filter(|_| is_short).collect();
    let is_said = (1..=MOST_WORDS).contains(&words.len()) && text.chars().any(char::is_alphabetic);
    is_said.then(|| words.join(" "))
}

/// The words of the text in a place.
pub fn words_in(page: &Page, span: Span) -> Vec<String> {
    let tokens = &page.document.tokens;
    let first = tokens.partition_point(|token| token.end <= span.start);
    let inside = tokens[first..].iter().take_while(|token| token.start < span.end);
    let text = inside.filter(|token| token.kind == TokenKind::Text).flat_map(|token| {
        let text = Span::new(token.start.max(span.start), token.end.min(span.end)).text(&page.source);
        text.split_whitespace().map(str::to_owned).collect::<Vec<_>>()
    });
    text.collect()
}

fn file_stem(url: &str) -> Option<String> {
    let file = url.split(['?', '#']).next()?.rsplit('/').next()?;
    let stem = file.split('.').next()?;
    // A fingerprint in a file name says nothing.
    let stem = stem
        .rsplit_once('-')
        .filter(|(_, hash)| hash.len() >= 6 && hash.chars().all(|c| c.is_ascii_hexdigit()))
        .map_or(stem, |(stem, _)| stem);
    (!stem.is_empty()).then(|| stem.to_owned())
}

fn of_attributes(pages: &[Page], hole: &Hole, page: &Page, node: NodeId) -> String {
    if marks_current(pages, hole) {
        let what = words_of(page, node).or_else(|| attribute(page, node, "href").and_then(|href| file_stem(&href)));
        return format!("current {}", what.unwrap_or_else(|| around(page, node)));
    }
    if tag(page, node) == "a"
        && let Some(name) = of_link(pages, hole, node)
    {
        return format!("{name} link");
    }
    format!("{} {}", of_owner(page, node), first_attribute(pages, hole).unwrap_or_else(|| "attributes".into()))
}

/// The name of an element whose attributes differ.
fn of_owner(page: &Page, node: NodeId) -> String {
    let is_page = || Some(tag(page, node)).filter(|tag| matches!(tag.as_str(), "body" | "html"));
    called(page, node).or_else(is_page).unwrap_or_else(|| around(page, node))
}

/// The name of the first attribute in a hole.
fn first_attribute(pages: &[Page], hole: &Hole) -> Option<String> {
    let text = hole.filled().text(pages);
    let name: String = text.trim_start().chars().take_while(|c| c.is_alphanumeric() || *c == '-').collect();
    (!name.is_empty()).then_some(name)
}

/// Whether a text holds a mark that says: this is where you are.
pub fn is_current(text: &str) -> bool {
    let text = text.to_ascii_lowercase();
    ["aria-current", "\"current", "\"active", "\"selected", "\"here"].iter().any(|word| text.contains(word))
}

/// Whether some pages have a mark there that says: this is where you are.
pub fn marks_current(pages: &[Page], hole: &Hole) -> bool {
    let count = hole.variants.iter().filter(|variant| is_current(&variant.text(pages))).count();
    count > 0 && count < hole.variants.len()
}

/// The kinds of element in a hole, or what is around it.
fn of_content(pages: &[Page], hole: &Hole, page: &Page, parent: NodeId) -> String {
    if let Some(name) = of_own_content(pages, hole, page, parent) {
        return name;
    }
    let parent_tag = tag(page, parent);
    if parent_tag == "head" {
        return "head".into();
    }
    if let Some(words) = words_of_default(pages, hole).filter(|_| marks_current(pages, hole)) {
        return format!("current {words}");
    }
    if let Some(words) = words_of_default(pages, hole).or_else(|| word_before(page, hole.variants[0].content.start)) {
        return words;
    }
    match parent_tag.as_str() {
        "body" | "" | "html" => "content".into(),
        "tr" | "td" | "li" | "p" | "span" | "a" | "b" | "i" | "em" | "strong" => match words_of(page, parent) {
            Some(words) if hole.variants.iter().any(|variant| variant.content.is_empty()) => words,
            _ => around(page, parent),
        },
        _ => around(page, parent),
    }
}

/// The name of the one element that pages have in a hole, if it is the same for all that have one.
fn same_root(pages: &[Page], hole: &Hole, told: impl Fn(&Page, NodeId) -> Option<String>) -> Option<String> {
    let of_one = |page: &Page, roots: &[NodeId]| match *roots {
        [node] => told(page, node),
        _ => None,
    };
    same_told(pages, hole, of_one)
}

/// The name of the elements in a hole, if it is the same for all pages that have some, as far as a sample shows.
fn same_told(pages: &[Page], hole: &Hole, told: impl Fn(&Page, &[NodeId]) -> Option<String>) -> Option<String> {
    let filled = hole.variants.iter().filter(|variant| !variant.content.is_empty());
    let told = |variant: &Variant| told(&pages[variant.page], &roots_of(&pages[variant.page], variant.content));
    let mut said = filled.take(SAMPLE).map(told);
    let first = said.next()??;
    said.all(|other| other.as_ref() == Some(&first)).then_some(first)
}

/// The short text that most pages have in a hole which others leave empty or change.
fn words_of_default(pages: &[Page], hole: &Hole) -> Option<String> {
    let shown = hole.variants.iter().find(|variant| variant.follows)?;
    let page = &pages[shown.page];
    match roots_of(page, shown.content)[..] {
        [node] => words_of(page, node).filter(|words| words.chars().any(char::is_alphabetic)),
        _ => None,
    }
}

/// The word in front of a hole that is in running text.
fn word_before(page: &Page, start: u32) -> Option<String> {
    let before = &page.source[start.saturating_sub(40) as usize..start as usize];
    let text = String::from_utf8_lossy(before).trim_end().to_owned();
    let word: String =
        text.chars().rev().take_while(|c| c.is_alphabetic()).collect::<Vec<_>>().into_iter().rev().collect();
    (word.len() > 3 && word.len() < text.len()).then_some(word)
}

/// So many elements of a span are looked at for a name.
const MOST_ROOTS: usize = 32;

/// The outermost elements that lie wholly in a span.
pub fn roots_of(page: &Page, span: Span) -> Vec<NodeId> {
    let nodes = &page.document.nodes;
    let mut found = Vec::new();
    let mut next = NodeId::ROOT;
    for node in page.document.nodes_in(span) {
        if node < next {
            continue;
        }
        if page.document.span(node).end > span.end || found.len() == MOST_ROOTS {
            break;
        }
        if nodes[node].kind == NodeKind::Element {
            found.push(node);
        }
        next = nodes[node].next;
    }
    found
}

/// The name of the first element of some markup that has a telling one.
pub fn first_telling(markup: &[u8]) -> Option<String> {
    let (page, elements) = read(markup);
    let text = String::from_utf8_lossy(markup);
    let is_short = elements.is_empty() && text.len() <= LONGEST_WORDS && text.split_whitespace().count() <= MOST_WORDS;
    let words = (is_short && text.chars().any(char::is_alphabetic)).then(|| word(&text));
    telling(&page, &elements).into_iter().chain(words).find(|name| is_telling(name))
}

/// Some markup with its outermost elements.
pub fn read(markup: &[u8]) -> (Page, Vec<NodeId>) {
    let document = Document::read(markup, &dialect::plain());
    let page = Page::plain(markup, document);
    let elements = page.document.children(NodeId::ROOT).filter(|&node| !tag(&page, node).is_empty()).collect();
    (page, elements)
}

/// A word for a partial of this markup: what its first telling element is called, else a tag.
pub fn of_markup(markup: &[u8]) -> String {
    let (page, elements) = read(markup);
    let first = || elements.first().map(|&node| word(&tag(&page, node)));
    telling(&page, &elements).into_iter().next().or_else(first).unwrap_or_else(|| "content".into())
}

/// A name with hyphens, as files have.
pub fn word(text: &str) -> String {
    slug(text).replace('_', "-")
}

/// What elements that are beside each other may be called, the best first: as a landmark, as the first of them that
/// is called something, by a heading in them, then as the others.
pub fn telling(page: &Page, elements: &[NodeId]) -> Vec<String> {
    let called = |&node: &NodeId| match tag(page, node).as_str() {
        "h1" | "h2" | "h3" | "h4" => words_of(page, node),
        // Of articles there may be many kinds.
        "article" => attribute(page, node, "class").map(|class| first_word(&class)).or_else(|| called(page, node)),
        _ => called(page, node),
    };
    let headings = page
        .document
        .all_below_root()
        .filter(|&node| matches!(tag(page, node).as_str(), "h1" | "h2" | "h3"))
        .find_map(|node| words_of(page, node));
    let (regions, others): (Vec<NodeId>, Vec<NodeId>) =
        elements.iter().partition(|&&node| is_landmark(&page.document, &page.source, node));
    let mut names: Vec<String> = regions.iter().chain(&others).filter_map(called).collect();
    names.splice(names.len().min(1)..names.len().min(1), headings);
    let mut found: Vec<String> = Vec::new();
    for name in names.iter().map(|name| word(name)) {
        if !found.contains(&name) {
            found.push(name);
        }
    }
    found
}

/// Numbers names that occur more than once.
pub fn unique(name: String, taken: &mut Vec<String>) -> String {
    let mut unique = name.clone();
    let mut count = 2;
    while taken.contains(&unique) {
        unique = format!("{name}_{count}");
        count += 1;
    }
    taken.push(unique.clone());
    unique
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn short_names_have_few_words() {
        assert_eq!(first_words("current_boats_and_sheep", 2), "current_boats");
        assert_eq!((first_words("title", 2), first_words("body_class", 2)), ("title", "body_class"));
    }

    #[test]
    fn names_are_words_of_letters_and_digits() {
        for (text, expected) in [
            ("Main Content!", "main_content"),
            ("404", "part_404"),
            ("—", "content"),
            ("a b c d e f", "a_b_c_d_e"),
            ("3. Usage of 4", "usage_of_4"),
        ] {
            assert_eq!(slug(text), expected);
        }
        let mut taken = Vec::new();
        let names: Vec<_> = ["a", "a", "b", "a"].into_iter().map(|name| unique(name.into(), &mut taken)).collect();
        assert_eq!(names, ["a", "a_2", "b", "a_3"]);
    }

    #[test]
    fn file_names_lose_their_fingerprints() {
        assert_eq!(file_stem("../css/book-a0b12cfe.js?x"), Some("book".into()));
        assert_eq!(file_stem("/"), None);
    }
}
