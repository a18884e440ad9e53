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
    /// Whitespace beside and inside its tags shows.
    Inline,
    /// Not displayed; whitespace on its two sides counts as if it were not there.
    Hidden,
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
        | b"col" | b"colgroup" | b"dd" | b"details" | b"dialog" | b"dir" | b"div" | b"dl" | b"dt" | b"fieldset"
        | b"figcaption" | b"figure" | b"footer" | b"form" | b"frame" | b"frameset" | b"h1" | b"h2" | b"h3" | b"h4"
        | b"h5" | b"h6" | b"header" | b"hgroup" | b"hr" | b"legend" | b"li" | b"listing" | b"main" | b"menu"
        | b"nav" | b"ol" | b"optgroup" | b"option" | b"p" | b"plaintext" | b"pre" | b"search" | b"section"
        | b"summary" | b"table" | b"tbody" | b"td" | b"tfoot" | b"th" | b"thead" | b"tr" | b"ul" | b"xmp" | b"br" => {
            Flow::Block
        }
        b"button" | b"select" | b"textarea" | b"iframe" | b"object" | b"video" | b"audio" | b"canvas" | b"meter"
        | b"progress" | b"marquee" | b"fencedframe" => Flow::Box,
        b"title" | b"meta" | b"link" | b"base" | b"style" | b"script" | b"template" | b"noscript" | b"param"
        | b"source" | b"track" | b"datalist" | b"noembed" | b"noframes" | b"area" => Flow::Hidden,
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
