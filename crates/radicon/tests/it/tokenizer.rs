//! The lexer against a conforming tokenizer, and against the laws it promises.

use std::collections::BTreeMap;
use std::time::Instant;

use crate::common::tokens::{Standard, standard_tokens};
use crate::common::{Random, book, cases, pages, present, seed, soup};
use html5gum::{State, Token as Gum, Tokenizer};
use proptest::prelude::*;
use radicon::dialect;
use radicon::markup::{Document, NodeId, TokenId};

/// The same source as the conforming tokenizer reads it, with scripting switched off.
fn oracle(source: &str) -> Vec<Standard> {
    let string = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
    let mut tokenizer = Tokenizer::new(source);
    let mut out: Vec<Standard> = Vec::new();
    while let Some(Ok(token)) = tokenizer.next() {
        match token {
            Gum::StartTag(tag) => {
                let name = string(&tag.name);
                let state = match name.as_str() {
                    "title" | "textarea" => Some(State::RcData),
                    "style" | "iframe" | "xmp" | "noembed" | "noframes" => Some(State::RawText),
                    "script" => Some(State::ScriptData),
                    "plaintext" => Some(State::PlainText),
                    _ => None,
                };
                if let Some(state) = state {
                    tokenizer.set_state(state);
                }
                let attributes = tag.attributes.iter().map(|(key, value)| (string(key), string(value))).collect();
                out.push(Standard::Start { name, attributes, self_closing: tag.self_closing });
            }
            Gum::EndTag(tag) => out.push(Standard::End(string(&tag.name))),
            Gum::String(text) => match out.last_mut() {
                Some(Standard::Text(known)) => known.push_str(&string(&text)),
                _ => out.push(Standard::Text(string(&text))),
            },
            Gum::Comment(text) => out.push(Standard::Comment(string(&text))),
            Gum::Doctype(_) => out.push(Standard::Doctype),
            Gum::Error(_) => {}
        }
    }
    out
}

#[track_caller]
fn agree(source: &str, what: &str) {
    let (ours, theirs) = (standard_tokens(source), oracle(source));
    if let Some(at) = (0..ours.len().max(theirs.len())).find(|&at| ours.get(at) != theirs.get(at)) {
        panic!(
            "{what}: token {at}: {:?} instead of {:?}\nin {:?}",
            ours.get(at),
            theirs.get(at),
            source.chars().take(400).collect::<String>()
        );
    }
}

#[test]
fn random_soup_is_read_as_the_standard_says() {
    let mut random = Random(seed("tokenizer"));
    for case in 0..cases(40_000, 2_000_000) {
        let text = soup(&mut random, 24);
        agree(&text, &format!("case {case}"));
    }
}

#[test]
fn real_pages_are_read_as_the_standard_says() {
    let more: &[&str] = if crate::common::is_long() { &["book", "rust-by-example"] } else { &[] };
    for name in ["nomicon", "reference", "std/collections"].iter().chain(more) {
        let Some(folder) = book(name) else { continue };
        for path in pages(&folder) {
            let text = std::fs::read_to_string(&path).expect("a page in UTF-8");
            // Inside svg the oracle does not know where raw text begins.
            agree(&text, &path.display().to_string());
        }
    }
}

/// The html5lib tokenizer suite, fetched by `.ci/run`; `RADICON_HTML5LIB` names its folder.
#[test]
fn the_html5lib_suite_passes() {
    let named = std::env::var_os("RADICON_HTML5LIB").map(Into::into);
    let usual = concat!(env!("CARGO_MANIFEST_DIR"), "/../../target/html5lib-1.1/html5lib/tests/testdata/tokenizer");
    let Some(folder) = present(named.unwrap_or_else(|| usual.into()), "the html5lib tokenizer suite") else { return };
    let (mut passed, mut skipped) = (0, 0);
    let mut failures = Vec::new();
    for entry in std::fs::read_dir(folder).expect("the suite's folder") {
        let path = entry.expect("a file").path();
        if path.extension().is_none_or(|ending| ending != "test") {
            continue;
        }
        let suite: serde_json::Value = serde_json::from_slice(&without_surrogates(&path)).expect("JSON");
        for test in suite["tests"].as_array().into_iter().flatten() {
            let states = test["initialStates"].as_array().cloned().unwrap_or_else(|| vec!["Data state".into()]);
            for state in states {
                match suite_case(test, state.as_str().unwrap_or_default()) {
                    None => skipped += 1,
                    Some(Ok(())) => passed += 1,
                    Some(Err(why)) => failures.push(format!("{}: {}: {why}", path.display(), test["description"])),
                }
            }
        }
    }
    println!("html5lib tokenizer suite: {passed} passed, {} failed, {skipped} do not apply", failures.len());
    assert!(failures.is_empty(), "{}", failures.join("\n"));
    assert!(passed > 6_500, "only {passed} cases ran");
}

/// Lone surrogates cannot stand in UTF-8; such cases are marked and do not apply.
fn without_surrogates(path: &std::path::Path) -> Vec<u8> {
    let text = std::fs::read_to_string(path).expect("UTF-8");
    let mut out = text.clone();
    for (at, _) in text.match_indices("\\uD").chain(text.match_indices("\\ud")).collect::<Vec<_>>().into_iter().rev() {
        let code = |at: usize| text.get(at + 2..at + 6).and_then(|hex| u32::from_str_radix(hex, 16).ok()).unwrap_or(0);
        let high = |at: usize| (0xd800..0xdc00).contains(&code(at));
        let low = |at: usize| text.get(at..at + 2) == Some("\\u") && (0xdc00..0xe000).contains(&code(at));
        let paired = (high(at) && low(at + 6)) || (low(at) && at >= 6 && high(at - 6));
        if (high(at) || low(at)) && !paired && !text[..at].ends_with('\\') {
            out.replace_range(at..at + 6, "LONE-SURROGATE");
        }
    }
    out.into_bytes()
}

fn suite_case(test: &serde_json::Value, state: &str) -> Option<Result<(), String>> {
    let last = test["lastStartTag"].as_str();
    // The state is entered by an element that leads into it.
    let (element, prefix) = match state {
        "Data state" => ("", String::new()),
        "PLAINTEXT state" => ("plaintext", "<plaintext>".to_owned()),
        "RCDATA state" => ("textarea", "<textarea>".to_owned()),
        "RAWTEXT state" => ("style", "<style>".to_owned()),
        "Script data state" => ("script", "<script>".to_owned()),
        "CDATA section state" => ("svg", "<svg><![CDATA[".to_owned()),
        _ => return None,
    };
    let unescape = |text: &str| -> Option<String> {
        let text = if test["doubleEscaped"].as_bool() == Some(true) { double_unescape(text)? } else { text.to_owned() };
        // The last start tag of the case becomes the element that leads into its state.
        Some(match last {
            Some(last) if last != element => {
                [last, &last.to_uppercase(), "xMp"].iter().fold(text, |text, name| text.replace(name, element))
            }
            _ => text,
        })
    };
    let raw = test["input"].as_str()?;
    if raw.contains("LONE-SURROGATE") || test["output"].to_string().contains("LONE-SURROGATE") {
        return None;
    }
    let input = unescape(raw)?;
    // Without a last start tag no end tag is one.
    if last.is_none() && !element.is_empty() && input.to_lowercase().contains(&format!("</{element}")) {
        return None;
    }
    let mut expected: Vec<Standard> = Vec::new();
    for token in test["output"].as_array()?.iter().filter_map(|token| token.as_array()) {
        let word = |at: usize| token.get(at).and_then(|value| value.as_str()).and_then(unescape).unwrap_or_default();
        match word(0).as_str() {
            "Character" => match expected.last_mut() {
                Some(Standard::Text(known)) => known.push_str(&word(1)),
                _ => expected.push(Standard::Text(word(1))),
            },
            "StartTag" => {
                let attributes: BTreeMap<String, String> = token[2]
                    .as_object()?
                    .iter()
                    .map(|(key, value)| Some((unescape(key)?, unescape(value.as_str()?)?)))
                    .collect::<Option<_>>()?;
                expected.push(Standard::Start { name: word(1), attributes, self_closing: token.len() > 3 });
            }
            "EndTag" => expected.push(Standard::End(word(1))),
            "Comment" => expected.push(Standard::Comment(word(1))),
            "DOCTYPE" => expected.push(Standard::Doctype),
            _ => return None,
        }
    }
    let mut found = standard_tokens(&format!("{prefix}{input}"));
    if !prefix.is_empty() {
        found.remove(0);
    }
    (found == expected).then_some(Ok(())).or_else(|| Some(Err(format!("{input:?} gave {found:?}, not {expected:?}"))))
}

fn double_unescape(text: &str) -> Option<String> {
    let mut out = String::new();
    let mut rest = text;
    while let Some(at) = rest.find("\\u") {
        out.push_str(&rest[..at]);
        let code = u32::from_str_radix(rest.get(at + 2..at + 6)?, 16).ok()?;
        out.push(char::from_u32(code)?);
        rest = &rest[at + 6..];
    }
    out.push_str(rest);
    Some(out)
}

/// Tokens tile the source, nodes nest and cover it, constructs are where they say.
#[track_caller]
fn check_laws(source: &[u8], dialect: &dialect::Dialect) {
    let document = Document::read(source, dialect);
    let mut at = 0;
    for token in &document.tokens {
        assert!(
            token.start == at && token.end > token.start,
            "{token:?} does not follow {at} in {:?}",
            String::from_utf8_lossy(source)
        );
        assert!(token.name().end <= token.end && token.value(source).is_none_or(|value| value.end <= token.end));
        at = token.end;
    }
    assert_eq!(at as usize, source.len(), "tokens end early in {:?}", String::from_utf8_lossy(source));
    let mut covered = TokenId(0);
    for node in document.children(NodeId::ROOT) {
        assert_eq!(document.nodes[node].first, covered, "a gap between nodes in {:?}", String::from_utf8_lossy(source));
        covered = document.nodes[node].last;
    }
    assert_eq!(covered.index(), document.tokens.len());
    for (index, node) in NodeId::each(&document.nodes).skip(1) {
        let parent = &document.nodes[node.parent];
        assert!(
            parent.inner <= node.first && node.last <= parent.close && node.next > index,
            "node {index:?} leaves its parent"
        );
        assert!(node.first <= node.inner && node.inner <= node.close && node.close <= node.last);
    }
    let mut last = 0;
    for item in &document.constructs.items {
        assert!(item.span.start >= last && item.span.end <= source.len() as u32 && !item.span.is_empty());
        assert!(item.reach.start <= item.span.start && item.reach.end >= item.span.end);
        last = item.span.end;
    }
}

const TAGS: &[&str] = &[
    "{% block a %}",
    "{% endblock %}",
    "{% endblock b %}",
    "{{ x }}",
    "{{- x -}}",
    "{% if a > b %}",
    "{% else %}",
    "{% endif %}",
    "{# c #}",
    "{% extends 'a.html' %}",
    "{% raw %}",
    "{% endraw %}",
    "{% odd",
    "{{",
    "}}",
    "%}",
    "<!--: block a -->",
    "<!--: end a -->",
    "<!--: partial x -->",
    "<!--:",
    "<!--: note x -->",
    "<!--#include virtual=\"/a\" -->",
    "<!--:= inherited -->",
];

#[test]
fn tokens_tile_soup_with_constructs_at_random_places() {
    let mut random = Random(seed("tiling"));
    for _ in 0..cases(40_000, 1_000_000) {
        let mut text = soup(&mut random, 16).into_bytes();
        for _ in 0..random.below(5) {
            let at = random.below(text.len() + 1);
            text.splice(at..at, random.pick(TAGS).bytes());
        }
        let dialect = &dialect::builtin()[random.below(4)];
        check_laws(&text, dialect);
    }
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn tokens_tile_any_bytes(bytes in proptest::collection::vec(any::<u8>(), 0..400)) {
        dialect::builtin().iter().for_each(|dialect| check_laws(&bytes, dialect));
    }
}

/// Sources that would cost the square of their length, or the stack, if read carelessly.
#[test]
fn hostile_sources_are_read_in_linear_time() {
    let deep = "<div>".repeat(1_000_000);
    let unclosed = "<!--: block x".repeat(100_000);
    let braces = "{{ ( ".repeat(100_000);
    let ends = format!("{}{}", "<div>".repeat(200_000), "</p>".repeat(200_000));
    let blocks = "{% block a %}".repeat(100_000);
    let crossed = "<b>{% if a %}</b>".repeat(50_000);
    let mixed = "<p><li><td><option>".repeat(50_000);
    for (what, source) in [
        ("deep", deep),
        ("unclosed", unclosed),
        ("braces", braces),
        ("ends", ends),
        ("blocks", blocks),
        ("crossed", crossed),
        ("mixed", mixed),
    ] {
        let start = Instant::now();
        dialect::builtin().iter().for_each(|dialect| check_laws(source.as_bytes(), dialect));
        // Not a benchmark: the square of these lengths takes minutes.
        assert!(start.elapsed().as_secs() < 60, "{what}: {:?}", start.elapsed());
    }
}
