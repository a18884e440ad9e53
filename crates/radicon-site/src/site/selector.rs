//! Elements named in settings: `main`, `#content`, `.side-bar`, `div.side-bar`.

use crate::markup::{Document, NodeId};

/// Says which elements are meant: by name, id and class, all of which must fit.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Selector {
    name: String,
    id: String,
    classes: Vec<String>,
}

impl Selector {
    /// Reads a selector; `None` if it is none.
    pub fn parse(text: &str) -> Option<Self> {
        let mut selector = Self::default();
        let starts: Vec<usize> = text.match_indices(['#', '.']).map(|(at, _)| at).collect();
        let ends = starts.iter().copied().skip(1).chain([text.len()]);
        selector.name = text[..starts.first().copied().unwrap_or(text.len())].to_ascii_lowercase();
        for (start, end) in starts.iter().zip(ends) {
            let word = text[start + 1..end].to_owned();
            match text.as_bytes()[*start] {
                b'#' if selector.id.is_empty() => selector.id = word,
                b'.' => selector.classes.push(word),
                _ => return None,
            }
        }
        let is_word = |word: &str| word.chars().all(|c| c.is_alphanumeric() || c == '-' || c == '_');
        let words = || [&selector.name, &selector.id].into_iter().chain(&selector.classes);
        let empty = starts.len() > selector.classes.len() + usize::from(!selector.id.is_empty())
            || selector.classes.iter().any(String::is_empty);
        (!text.is_empty() && !empty && words().all(|word| is_word(word))).then_some(selector)
    }

    /// Whether an element is meant.
    pub fn fits(&self, document: &Document, source: &[u8], node: NodeId) -> bool {
        let value = |name: &str| document.attribute(source, node, name).unwrap_or_default();
        let has = |class: &String| value("class").split(u8::is_ascii_whitespace).any(|word| word == class.as_bytes());
        let name = document.name(source, node);
        !name.is_empty()
            && (self.name.is_empty() || name.eq_ignore_ascii_case(self.name.as_bytes()))
            && (self.id.is_empty() || value("id") == self.id.as_bytes())
            && self.classes.iter().all(has)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect::plain;

    #[test]
    fn elements_are_told_by_name_id_and_class() {
        let source = b"<div id=\"a\" class=\"b c\">";
        let document = Document::read(source, &plain());
        let fits = |text: &str| Selector::parse(text).map(|selector| selector.fits(&document, source, NodeId(1)));
        for text in ["div", "DIV", "#a", ".b", "div.c", "div#a.b.c", "div.b#a"] {
            assert_eq!(fits(text), Some(true), "{text}");
        }
        for text in ["p", "#b", ".a", "div.x", "main.b"] {
            assert_eq!(fits(text), Some(false), "{text}");
        }
        for text in ["", "#", "div.", "a b", "a>b", "#a#b", "[x]"] {
            assert_eq!(fits(text), None, "{text}");
        }
    }
}
