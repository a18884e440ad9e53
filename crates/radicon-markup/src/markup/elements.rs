//! What HTML says about element names: which are void, which hold raw text,
//! which lay their content out as blocks.
//!
//! Source: the WHATWG HTML standard, §13 (parsing) and §15 (rendering), 2025.

/// How an element takes part in the flow of a page by HTML's own defaults.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Flow {
    /// Whitespace beside and just inside its tags does not show.
    Block,
    /// Like a word from outside, like a block from inside.
    Box,
    /// Whitespace beside and inside its tags shows, or may show.
    Inline,
    /// Not displayed, and holds no markup; whitespace on its two sides counts as if it were not there.
    Hidden,
}

/// What becomes of whitespace in the text of an element.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Inside {
    /// A run of it counts as one space, and shows only between words.
    #[default]
    Words,
    /// It holds other elements and shows no text of its own.
    Structure,
    /// The same in a drawing (`svg`).
    Drawing,
    /// Every byte counts.
    Exact,
}

/// What the attributes of an element say of its place in the flow.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Attributed {
    /// Not displayed until something shows it.
    hidden: bool,
    /// Laid out in a way of its own, or in a way that is not known.
    unusual: bool,
    /// Its side of the page is set; tables float then.
    aligned: bool,
    /// Whitespace in its text counts.
    exact: bool,
}

impl Attributed {
    /// Takes an attribute by its name. Its value is unknown where a construct is part of it.
    pub fn take(&mut self, name: &[u8], value: &[u8], is_known: impl FnOnce() -> bool) {
        let is = |known: &&str| name.eq_ignore_ascii_case(known.as_bytes());
        let Some(known) = ["hidden", "popover", "align", "xml:space", "style"].into_iter().find(is) else { return };
        match known {
            "hidden" | "popover" => self.hidden = true,
            "align" => self.aligned = true,
            "xml:space" => self.exact = true,
            _ => {
                let sets =
                    |word: &&str| value.windows(word.len()).any(|text| text.eq_ignore_ascii_case(word.as_bytes()));
                self.exact |= sets(&"white-space");
                self.unusual |= ["display", "float", "position", "all:"].iter().any(sets) || !is_known();
            }
        }
    }

    /// Takes a construct that is among the attributes: it may be any of them.
    pub fn take_construct(&mut self) {
        self.unusual = true;
    }
}

/// How an element takes part in the flow, by its name in lower case and its attributes.
pub fn flow(name: &[u8], attributes: Attributed) -> Flow {
    let unusual = attributes.unusual || attributes.aligned && name == b"table";
    match element(name).flow {
        Flow::Block if matches!(name, b"html" | b"head" | b"body") => Flow::Block,
        Flow::Block | Flow::Box if unusual => Flow::Inline,
        Flow::Block if attributes.hidden => Flow::Box,
        flow => flow,
    }
}

/// What becomes of whitespace in the text of an element, by its name in lower case, its attributes, and what becomes
/// of it around the element.
pub fn inside(name: &[u8], attributes: Attributed, around: Inside) -> Inside {
    match (around, name) {
        (Inside::Exact, _) => Inside::Exact,
        _ if attributes.exact => Inside::Exact,
        (
            Inside::Drawing,
            b"svg" | b"g" | b"defs" | b"symbol" | b"clippath" | b"mask" | b"marker" | b"lineargradient"
            | b"radialgradient" | b"filter" | b"pattern" | b"switch",
        ) => Inside::Drawing,
        (Inside::Drawing, b"foreignobject") => Inside::Words,
        (Inside::Drawing, _) => Inside::Exact,
        (_, b"svg") => Inside::Drawing,
        // Scripts are assumed to run: `noscript` holds text for the parser.
        (_, b"math" | b"noscript") => Inside::Exact,
        (_, b"html" | b"head" | b"frameset" | b"table" | b"thead" | b"tbody" | b"tfoot" | b"tr" | b"colgroup") => {
            Inside::Structure
        }
        _ if element(name).preserves => Inside::Exact,
        _ => Inside::Words,
    }
}

/// The kind of content that an element holds.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Content {
    /// Markup.
    Markup,
    /// Nothing; it has no end tag.
    Void,
    /// Text with character references (`title`, `textarea`).
    Escapable,
    /// Text as it is (`style` and its like).
    Raw,
    /// Text as it is, with the rules of scripts.
    Script,
    /// Text up to the end of the file.
    Plaintext,
}

/// The facts about an element name.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Element {
    /// How it flows.
    pub flow: Flow,
    /// Its kind of content.
    pub content: Content,
    /// Whether whitespace inside counts as it is.
    pub preserves: bool,
    /// Whether its start tag ends an open paragraph.
    pub ends_paragraph: bool,
}

/// Looks an element up by its name, in any letter case.
pub fn element(name: &[u8]) -> Element {
    let mut lower = [0_u8; 12];
    let Some(lower) = lower.get_mut(..name.len()) else {
        return UNKNOWN;
    };
    lower.copy_from_slice(name);
    lower.make_ascii_lowercase();
    let flow = match &*lower {
        b"html" | b"head" | b"body" | b"address" | b"article" | b"aside" | b"blockquote" | b"caption" | b"center"
        | b"col" | b"colgroup" | b"dd" | b"details" | b"dir" | b"div" | b"dl" | b"dt" | b"fieldset" | b"figcaption"
        | b"figure" | b"footer" | b"form" | b"frame" | b"frameset" | b"h1" | b"h2" | b"h3" | b"h4" | b"h5" | b"h6"
        | b"header" | b"hgroup" | b"hr" | b"legend" | b"li" | b"listing" | b"main" | b"menu" | b"nav" | b"ol"
        | b"optgroup" | b"option" | b"p" | b"plaintext" | b"pre" | b"search" | b"section" | b"summary" | b"table"
        | b"tbody" | b"td" | b"tfoot" | b"th" | b"thead" | b"tr" | b"ul" | b"xmp" | b"br" => Flow::Block,
        b"button" | b"select" | b"textarea" | b"marquee" | b"dialog" => Flow::Box,
        b"title" | b"meta" | b"link" | b"base" | b"style" | b"script" | b"param" | b"source" | b"track"
        | b"noembed" | b"noframes" | b"area" => Flow::Hidden,
        _ => Flow::Inline,
    };
    let content = match &*lower {
        b"area" | b"base" | b"br" | b"col" | b"embed" | b"hr" | b"img" | b"input" | b"link" | b"meta" | b"param"
        | b"source" | b"track" | b"wbr" | b"basefont" | b"bgsound" | b"frame" | b"keygen" => Content::Void,
        b"title" | b"textarea" => Content::Escapable,
        b"style" | b"xmp" | b"iframe" | b"noembed" | b"noframes" => Content::Raw,
        b"script" => Content::Script,
        b"plaintext" => Content::Plaintext,
        _ => Content::Markup,
    };
    let ends_paragraph = matches!(
        &*lower,
        b"address"
            | b"article"
            | b"aside"
            | b"blockquote"
            | b"center"
            | b"dd"
            | b"details"
            | b"dialog"
            | b"dir"
            | b"div"
            | b"dl"
            | b"dt"
            | b"fieldset"
            | b"figcaption"
            | b"figure"
            | b"footer"
            | b"form"
            | b"h1"
            | b"h2"
            | b"h3"
            | b"h4"
            | b"h5"
            | b"h6"
            | b"header"
            | b"hgroup"
            | b"hr"
            | b"li"
            | b"listing"
            | b"main"
            | b"menu"
            | b"nav"
            | b"ol"
            | b"p"
            | b"pre"
            | b"plaintext"
            | b"search"
            | b"section"
            | b"summary"
            | b"table"
            | b"ul"
            | b"xmp"
    );
    let preserves = matches!(&*lower, b"pre" | b"listing" | b"plaintext")
        || !matches!(content, Content::Markup | Content::Void) && &*lower != b"title";
    Element { flow, content, preserves, ends_paragraph }
}

const UNKNOWN: Element =
    Element { flow: Flow::Inline, content: Content::Markup, preserves: false, ends_paragraph: false };

/// The open elements that a start tag of this name ends without saying so,
/// paragraphs left out (for those see [`Element::ends_paragraph`]).
pub fn implied_ends(name: &[u8]) -> &'static [&'static [u8]] {
    match name {
        b"li" => &[b"li"],
        b"dt" | b"dd" => &[b"dt", b"dd"],
        b"option" => &[b"option"],
        b"optgroup" => &[b"option", b"optgroup"],
        b"td" | b"th" => &[b"td", b"th"],
        b"tr" => &[b"td", b"th", b"tr", b"colgroup"],
        b"thead" | b"tbody" | b"tfoot" => &[b"td", b"th", b"tr", b"thead", b"tbody", b"tfoot", b"colgroup"],
        b"rt" | b"rp" => &[b"rt", b"rp"],
        b"body" => &[b"head"],
        _ => &[],
    }
}

/// Elements beyond which an implied end does not reach outwards.
pub fn bounds_implied_end(name: &[u8]) -> bool {
    matches!(
        name,
        b"ul"
            | b"ol"
            | b"dl"
            | b"menu"
            | b"table"
            | b"td"
            | b"th"
            | b"template"
            | b"button"
            | b"object"
            | b"select"
            | b"html"
    )
}

/// Whether the end tag may be missing by the standard.
pub fn may_stay_open(name: &[u8]) -> bool {
    matches!(
        name,
        b"html"
            | b"head"
            | b"body"
            | b"li"
            | b"dt"
            | b"dd"
            | b"p"
            | b"rt"
            | b"rp"
            | b"optgroup"
            | b"option"
            | b"colgroup"
            | b"caption"
            | b"thead"
            | b"tbody"
            | b"tfoot"
            | b"tr"
            | b"td"
            | b"th"
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_known_in_any_case() {
        assert_eq!(element(b"DIV").flow, Flow::Block);
        assert_eq!(element(b"Script").content, Content::Script);
        assert!(element(b"pre").preserves && element(b"textarea").preserves && !element(b"title").preserves);
        assert_eq!(element(b"a-very-long-custom-element"), UNKNOWN);
    }
}
