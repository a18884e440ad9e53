//! What pieces of markup and text show by themselves.

use crate::markup::elements::{self, Content};

/// Whether a byte may be part of a word.
pub(crate) fn is_word(byte: u8) -> bool {
    byte.is_ascii_alphanumeric() || byte == b'_' || byte >= 0x80
}

/// The text between two places; nothing if they are out of order.
pub(crate) fn between(text: &str, from: usize, to: usize) -> &str {
    text.get(from..to).unwrap_or("")
}

/// The end of the content of the element that carries an attribute.
pub(crate) fn element_end(text: &str, attribute: std::ops::Range<usize>) -> Option<usize> {
    let start = text[..attribute.start].rfind('<')?;
    let length = text[start + 1..].bytes().take_while(u8::is_ascii_alphanumeric).count();
    let (open, close) = (&text[start..start + 1 + length], format!("</{}", &text[start + 1..start + 1 + length]));
    let (mut at, mut depth) = (attribute.end, 0_usize);
    loop {
        let closes = at + text[at..].find(&close)?;
        depth += text[at..closes].matches(open).count();
        if depth == 0 {
            return Some(closes);
        }
        (depth, at) = (depth - 1, closes + close.len());
    }
}

/// Whether every element that a piece of markup opens is closed in it, and the other way round.
pub(crate) fn is_balanced(markup: &str) -> bool {
    let bytes = markup.as_bytes();
    let mut open: Vec<&str> = Vec::new();
    let mut at = 0;
    while let Some(found) = memchr::memchr(b'<', &bytes[at..]).map(|found| found + at) {
        let closes = bytes.get(found + 1) == Some(&b'/');
        let start = found + 1 + usize::from(closes);
        let length = bytes[start..].iter().take_while(|b| b.is_ascii_alphanumeric()).count();
        at = start + length;
        let name = &markup[start..at];
        if length == 0 || !name.as_bytes()[0].is_ascii_alphabetic() {
            continue;
        }
        let end = memchr::memchr(b'>', &bytes[at..]).map_or(bytes.len(), |end| at + end);
        let kind = elements::element(name.to_ascii_lowercase().as_bytes());
        if kind.content == Content::Void || markup[..end].ends_with('/') {
            continue;
        }
        if !closes {
            open.push(name);
        } else if open.last().is_some_and(|last| last.eq_ignore_ascii_case(name)) {
            open.pop();
        } else {
            return false;
        }
        at = end;
    }
    open.is_empty()
}

/// Whether a tag holds words for people, or markup.
pub(crate) fn is_prose(inner: &str) -> bool {
    let text = inner.trim();
    let words: Vec<&str> = text.split_whitespace().collect();
    let plain = |word: &&&str| word.bytes().all(|b| b.is_ascii_alphabetic() || b >= 0x80 || b",.':;!?-".contains(&b));
    let run = words.windows(2).filter(|pair| pair.iter().all(|w| plain(&w))).count();
    text.contains("</") || text.contains("/>") || run >= 1 && !text.contains(['=', '|', '(']) && words.len() >= 2
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn balanced_markup_closes_what_it_opens() {
        for (markup, balanced) in [
            ("", true),
            ("<p>a <b>b</b><br></p>", true),
            ("<img src=x/>", true),
            ("<li>a", false),
            ("</li>", false),
            ("<a><b></a></b>", false),
            ("a < b", true),
            ("<P>x</p>", true),
        ] {
            assert_eq!(is_balanced(markup), balanced, "{markup}");
        }
    }

    #[test]
    fn prose_is_words_for_people() {
        for (text, prose) in [
            (" the frame of all pages ", true),
            ("page.title", false),
            ("f(a, b)", false),
            ("<p>gone</p>", true),
            ("soon", false),
            ("a = the b", false),
        ] {
            assert_eq!(is_prose(text), prose, "{text}");
        }
    }

    #[test]
    fn an_element_ends_where_its_own_end_tag_stands() {
        let text = "<div a=\"x\"><div>1</div>2</div>3";
        assert_eq!(element_end(text, 5..10), Some(text.len() - 7));
        assert_eq!(element_end("<p a>x", 3..4), None);
        assert_eq!((between("abc", 1, 2), between("abc", 2, 1)), ("b", ""));
    }
}
