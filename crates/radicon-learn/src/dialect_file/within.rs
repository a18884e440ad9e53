//! What is within longer tags: includes among other statements or in expressions, and
//! statements that close what they open.

use std::collections::BTreeMap;
use std::ops::Range;

use rustc_hash::FxHashSet;

use crate::Confidence;
use crate::dialect::Kind;
use crate::dialect_file::forms::{Shape, Writer, escape};
use crate::read::corpus::TextId;
use crate::read::directives::DirectiveId;
use crate::read::directives::Slot;
use crate::read::tags::TagId;
use crate::read::tags::{Style, Tag, Token, TokenKind, token_text};
use crate::thresholds::{FEWEST_ELEMENTS, HALF, NAME_REACH};

impl Writer<'_> {
    /// Includes that are in tags of other words.
    pub(super) fn includes_within(&self, shapes: &mut Vec<Shape>) {
        let r = self.facts;
        let includes: Vec<(DirectiveId, &Slot, Confidence)> = self
            .found
            .of
            .iter()
            .filter(|(id, meaning)| {
                let directive = self.directive(**id);
                meaning.kind == Kind::Include && !directive.words[0].is_empty() && r.style(**id) == Style::Bracket
            })
            .filter_map(|(id, meaning)| Some((*id, meaning.slot.as_ref()?, meaning.confidence)))
            .collect();
        let mut found: BTreeMap<String, (Confidence, Vec<TagId>, usize)> = BTreeMap::new();
        for (at, tag) in TagId::each(r.tags) {
            if r.notations[tag.notation].style != Style::Bracket {
                continue;
            }
            for &(id, slot, confidence) in includes.iter().filter(|(id, ..)| r.of[at] != *id) {
                let word = self.directive(id).words[0].as_str();
                let Some((form, name)) = self.call(tag, self.text(at), word, slot) else { continue };
                let (_, tags, files) = found.entry(form).or_insert((confidence, Vec::new(), 0));
                tags.push(at);
                *files += usize::from(!r.index.readings(name, &["/"]).is_empty());
            }
        }
        for (form, (confidence, tags, files)) in found {
            if HALF.reached(files, tags.len()) {
                let mut shape =
                    Shape::new(Kind::Include, form, confidence.min(Confidence::Likely), "is inside tags", &tags);
                shape.within = true;
                shapes.push(shape);
            }
        }
    }

    /// A word with a name after it, somewhere in a tag: as a form, and the name.
    fn call<'t>(&self, tag: &Tag, text: &'t str, word: &str, slot: &Slot) -> Option<(String, &'t str)> {
        let is_word = |token: &Token| token.kind == TokenKind::Word && text[token.range.clone()] == *word;
        let at = tag.tokens.iter().position(is_word)?;
        let rest = &tag.tokens[at + 1..];
        let paren = rest.first().is_some_and(|token| token.kind == TokenKind::Sign(b'('));
        let rest = &rest[usize::from(paren)..];
        let key = slot.lead.trim_end_matches(['=', '>', ':']);
        let place = if slot.lead.is_empty() {
            0
        } else if key.is_empty() {
            return None;
        } else {
            let named = rest.iter().take(NAME_REACH).position(|token| text[token.range.clone()] == *key)?;
            let signs = rest[named + 1..].iter().take_while(|token| matches!(token.kind, TokenKind::Sign(_))).count();
            named + 1 + signs
        };
        let token = rest.get(place)?;
        let is_quoted = token.kind == TokenKind::Quoted;
        if !is_quoted && (token.kind != TokenKind::Word || !slot.lead.is_empty()) {
            return None;
        }
        // As it is written, up to the name.
        let start = tag.tokens[at].range.end;
        let lead = text[start..token.range.start].split_whitespace().collect::<Vec<_>>().join(" ");
        let gap = if lead.is_empty() || text[start..].starts_with(char::is_whitespace) { " " } else { "" };
        let space = if lead.is_empty() || text[..token.range.start].ends_with(char::is_whitespace) { " " } else { "" };
        let space = if lead.is_empty() { "" } else { space };
        let name = match is_quoted {
            true => format!("{0}<target>{0}", &text[token.range.start..=token.range.start]),
            false => "<target>".to_owned(),
        };
        Some((format!("{word}{gap}{}{space}{name} [<args>]", escape(&lead)), token_text(text, token)))
    }

    /// Elements that begin with a sign and hold statements: nothing in them is a tag.
    pub(super) fn code_elements(&self, shapes: &mut Vec<Shape>) {
        let mut names: BTreeMap<&str, Vec<(TextId, Range<usize>)>> = BTreeMap::new();
        for (file, text) in TextId::each(&self.facts.corpus.texts) {
            for range in &text.code {
                let element = &text.text[range.clone()];
                let name = element.rfind("</").map_or("", |at| &element[at + 2..element.len() - 1]);
                let uses = names.entry(name).or_default();
                let opener = range.start..range.start + name.len() + 2;
                uses.extend(element[1 + name.len()..].starts_with('>').then_some((file, opener)));
            }
        }
        for (name, uses) in names.iter().filter(|(_, uses)| uses.len() >= FEWEST_ELEMENTS) {
            let mut shape =
                Shape::new(Kind::Verbatim, format!("<{name}>"), Confidence::Likely, "holds statements", &[]);
            shape.elsewhere.clone_from(uses);
            // The letters' case may differ.
            let same = names.keys().filter(|other| other.eq_ignore_ascii_case(name));
            shape.close.extend(same.map(|name| format!("</{name}>")));
            shapes.push(shape);
        }
    }

    /// Tags with several statements, one of which closes what the first opens.
    pub(super) fn closed_within(&self, shapes: &mut Vec<Shape>) {
        let r = self.facts;
        let mut found: BTreeMap<String, Vec<TagId>> = BTreeMap::new();
        for (&opener, closers) in &r.pairs.closers {
            let directive = self.directive(opener);
            let general: FxHashSet<&str> = closers
                .iter()
                .filter(|c| c.directive != opener)
                .map(|c| self.directive(c.directive).words[0].as_str())
                .collect();
            if r.style(opener) != Style::Bracket || directive.words[0].is_empty() || !directive.tail.is_empty() {
                continue;
            }
            for &at in &directive.tags {
                let tag = self.tag(at);
                let closer = tag.tokens.iter().rev().find(|token| {
                    token.kind == TokenKind::Word && general.contains(&self.text(at)[token.range.clone()])
                });
                if let Some(closer) = closer.filter(|_| !r.pairs.partner.contains_key(&at)) {
                    let word = &self.text(at)[closer.range.clone()];
                    found.entry(self.around(opener, &format!(" <args> {word}"), &[at])).or_default().push(at);
                }
            }
        }
        for (form, tags) in found {
            shapes.push(Shape::new(Kind::Other, form, Confidence::Likely, "closes what it opens", &tags));
        }
    }
}

#[cfg(test)]
mod tests {
    use crate::dialect::Kind;
    use crate::testing::{LAYOUT, check, learned, page};

    #[test]
    fn an_include_may_be_part_of_what_is_printed() {
        let learned = learned(LAYOUT, &page("<h1>@</h1>(: bring(\"parts/nav.html\") :)"), &[]);
        let two = ["'(: bring(\"<target>\") :)'", "'(= bring \"<target>\" =)'"];
        check(&learned, Kind::Include, &two);
    }
}
