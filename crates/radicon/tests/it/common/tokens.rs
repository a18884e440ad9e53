//! Radicon's tokens in the standard's terms: names in lower case, references
//! decoded, duplicate attributes dropped, text joined.

use std::collections::BTreeMap;

use radicon::dialect;
use radicon::markup::{Document, Token, TokenKind};

/// A token as the standard gives it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Standard {
    Start { name: String, attributes: BTreeMap<String, String>, self_closing: bool },
    End(String),
    Text(String),
    Comment(String),
    Doctype,
}

/// Reads `source` as the standard's tokenizer would give it.
pub fn standard_tokens(source: &str) -> Vec<Standard> {
    let document = Document::read(source.as_bytes(), &dialect::plain());
    let tokens = &document.tokens;
    let mut out: Vec<Standard> = Vec::new();
    let mut at = 0;
    while at < tokens.len() {
        let token = tokens[at];
        let raw = &source[token.span().range()];
        match token.kind {
            TokenKind::Text => text(&mut out, &htmlize::unescape(newlines(raw))),
            TokenKind::Escapable => text(&mut out, &nul(&htmlize::unescape(newlines(raw)))),
            TokenKind::Raw => text(&mut out, &nul(&newlines(raw))),
            TokenKind::CData => {
                let inner = &raw["<![CDATA[".len()..];
                text(&mut out, &newlines(inner.strip_suffix("]]>").unwrap_or(inner)));
            }
            TokenKind::Comment => out.push(Standard::Comment(nul(&newlines(comment(raw))))),
            TokenKind::Bogus => out.push(Standard::Comment(nul(&newlines(bogus(raw))))),
            TokenKind::Doctype => out.push(Standard::Doctype),
            TokenKind::Nothing => {}
            TokenKind::StartTag | TokenKind::EndTag => {
                let end = (at..tokens.len()).skip(1).take_while(|&i| inside(&tokens[i])).last().unwrap_or(at);
                if tokens[end].kind == TokenKind::TagEnd {
                    out.push(tag(source, &tokens[at..=end]));
                }
                at = end;
            }
            other => panic!("{other:?} outside a tag"),
        }
        at += 1;
    }
    out
}

fn inside(token: &Token) -> bool {
    matches!(token.kind, TokenKind::Attribute | TokenKind::Gap | TokenKind::TagEnd)
}

fn tag(source: &str, tokens: &[Token]) -> Standard {
    let name = nul(&source[tokens[0].name().range()]).to_ascii_lowercase();
    if tokens[0].kind == TokenKind::EndTag {
        return Standard::End(name);
    }
    let mut attributes = BTreeMap::new();
    for token in tokens.iter().filter(|token| token.kind == TokenKind::Attribute) {
        let key = nul(&source[token.name().range()]).to_ascii_lowercase();
        let value = token.value(source.as_bytes()).map_or("", |value| &source[value.range()]);
        let value = nul(&htmlize::unescape_attribute(newlines(value)));
        attributes.entry(key).or_insert(value);
    }
    let self_closing = tokens.last().is_some_and(|token| token.span().len() == 2);
    Standard::Start { name, attributes, self_closing }
}

fn text(out: &mut Vec<Standard>, more: &str) {
    match out.last_mut() {
        _ if more.is_empty() => {}
        Some(Standard::Text(known)) => known.push_str(more),
        _ => out.push(Standard::Text(more.to_owned())),
    }
}

fn newlines(text: &str) -> String {
    text.replace("\r\n", "\n").replace('\r', "\n")
}

fn nul(text: &str) -> String {
    text.replace('\0', "\u{fffd}")
}

fn comment(raw: &str) -> &str {
    let inner = &raw[4..];
    match inner {
        ">" | "->" => "",
        _ => ["-->", "--!>", "--!", "--", "-"].iter().find_map(|end| inner.strip_suffix(end)).unwrap_or(inner),
    }
}

fn bogus(raw: &str) -> &str {
    let start = if raw.starts_with("<?") { 1 } else { 2 };
    let inner = &raw[start..];
    inner.strip_suffix('>').unwrap_or(inner)
}
