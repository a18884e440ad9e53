//! From what directives mean to the examples of a dialect file.

use std::collections::{BTreeMap, BTreeSet};
use std::ops::Range;

use crate::Confidence;
use crate::dialect::Kind;
use crate::meaning::{Facts, Meaning, Meanings};
use crate::read::corpus::TextId;
use crate::read::directives::DirectiveId;
use crate::read::directives::{Directive, SECOND, Slot, arguments_of};
use crate::read::tags::TagId;
use crate::read::tags::{Notation, Style, Tag, Token, TokenKind, token_text};
use crate::thresholds::PER_REMARK;

/// A form as it will be written into a dialect file.
#[derive(Clone, Debug)]
pub(crate) struct Shape {
    pub kind: Kind,
    pub open: String,
    pub branch: Vec<String>,
    pub close: Vec<String>,
    pub balanced: bool,
    pub line: bool,
    /// It may be within other tags.
    pub within: bool,
    /// The line around the header in which it is.
    pub header: Option<String>,
    pub confidence: Confidence,
    pub why: String,
    /// The tags that are written so.
    pub tags: Vec<TagId>,
    /// The places that it is in without being a tag of a notation.
    pub elsewhere: Vec<(TextId, Range<usize>)>,
}

impl Shape {
    pub fn new(kind: Kind, open: String, confidence: Confidence, why: &str, tags: &[TagId]) -> Self {
        Self {
            kind,
            open,
            branch: Vec::new(),
            close: Vec::new(),
            balanced: false,
            line: false,
            within: false,
            header: None,
            confidence,
            why: why.to_owned(),
            tags: tags.to_vec(),
            elsewhere: Vec::new(),
        }
    }
}

impl Shape {
    /// Takes in what else is known of the same opener.
    fn take_in(&mut self, other: Self) {
        self.tags.extend(other.tags);
        for (own, others) in [(&mut self.close, other.close), (&mut self.branch, other.branch)] {
            others.into_iter().for_each(|text| {
                if !own.contains(&text) {
                    own.push(text);
                }
            });
        }
    }
}

/// How a tag is written that names something.
#[derive(PartialEq, Eq, PartialOrd, Ord)]
struct Spelling {
    /// Its arguments are in parentheses.
    is_call: bool,
    is_quoted: bool,
    /// The text right before the name.
    lead: String,
    /// Other arguments come first.
    follows: bool,
    rest: String,
}

/// A text as a pattern shows it.
pub(crate) fn escape(text: &str) -> String {
    let mut out = String::new();
    for c in text.chars() {
        if matches!(c, '[' | ']' | '\\') || c == '<' && text.starts_with("<*") {
            out.push('\\');
        }
        out.push(c);
    }
    out
}

pub(crate) struct Writer<'a> {
    pub facts: &'a Facts<'a>,
    pub found: &'a Meanings,
}

impl Writer<'_> {
    pub(super) fn text(&self, at: TagId) -> &str {
        &self.facts.corpus.texts[self.facts.tags[at].file].text
    }

    pub(super) fn tag(&self, at: TagId) -> &Tag {
        &self.facts.tags[at]
    }

    pub(super) fn directive(&self, id: DirectiveId) -> &Directive {
        &self.facts.directives[id]
    }

    pub(super) fn notation(&self, id: DirectiveId) -> &Notation {
        &self.facts.notations[self.directive(id).notation]
    }

    /// All forms, in the order of kinds.
    pub fn forms(&self) -> Vec<Shape> {
        let mut shapes = Vec::new();
        for (&id, meaning) in &self.found.of {
            self.directive_forms(id, meaning, &mut shapes);
        }
        self.code_elements(&mut shapes);
        self.includes_within(&mut shapes);
        self.closed_within(&mut shapes);
        self.leftovers(&mut shapes);
        shapes.sort_by_key(|shape| {
            (Kind::ALL.iter().position(|kind| *kind == shape.kind), std::cmp::Reverse(shape.tags.len()))
        });
        // One opener with the same kind is one form, whatever closes it.
        let mut merged: Vec<Shape> = Vec::new();
        for shape in shapes {
            match merged.iter_mut().find(|known| known.kind == shape.kind && known.open == shape.open) {
                Some(known) => known.take_in(shape),
                None => merged.push(shape),
            }
        }
        merged
    }

    fn directive_forms(&self, id: DirectiveId, meaning: &Meaning, shapes: &mut Vec<Shape>) {
        let place = match meaning.kind {
            Kind::Parent | Kind::Include | Kind::Wrap | Kind::Import => Some("<target>"),
            Kind::Block | Kind::Slot | Kind::Fill | Kind::Part => Some("<name>"),
            _ => None,
        };
        let notation = self.notation(id);
        let line = notation.style == Style::Line;
        let mut add = |open: String, tags: Vec<TagId>, line: bool| {
            for kind in self.kinds(id, meaning.kind) {
                let mut shape = Shape::new(kind, open.clone(), meaning.confidence, &meaning.why, &tags);
                shape.line = line;
                shape.header = (notation.style == Style::Header).then(|| notation.open.clone());
                let may_pair = matches!(
                    kind,
                    Kind::Block
                        | Kind::Slot
                        | Kind::Fill
                        | Kind::Part
                        | Kind::Wrap
                        | Kind::Control
                        | Kind::Verbatim
                        | Kind::Comment
                );
                if may_pair
                    && self.notation(id).style != Style::Attribute
                    && !self.close(id, kind, &mut shape)
                    && !matches!(kind, Kind::Slot | Kind::Fill)
                {
                    continue;
                }
                shapes.push(shape);
            }
        };
        match (place, &meaning.slot) {
            (Some(place), Some(slot)) => {
                for (open, tags) in self.with_place(id, slot, place, meaning.kind) {
                    add(open, tags, line);
                }
            }
            (Some(_), None) => {}
            (None, _) if !self.directive(id).tail.is_empty() => {
                for (open, tags) in self.tailed(id) {
                    add(open, tags, line);
                }
            }
            (None, _) => {
                for (open, tags) in self.plain(id, meaning.kind) {
                    add(open, tags, line);
                }
            }
        }
        if let (Some(word), Some(slot)) = (self.found.opted_out.get(&id), &meaning.slot) {
            for (open, tags) in self.with_place(id, slot, "<target>", meaning.kind).into_iter().take(1) {
                let bare = open.replace("\"<target>\"", word);
                shapes.push(Shape::new(
                    Kind::Parent,
                    bare,
                    Confidence::Likely,
                    "a word where the layout is named",
                    &tags,
                ));
            }
        }
    }

    /// The kinds of a directive's forms: one, or for each closer another.
    fn kinds(&self, id: DirectiveId, kind: Kind) -> Vec<Kind> {
        let mut kinds: Vec<Kind> =
            self.found.closed_as.iter().filter(|((open, _), _)| *open == id).map(|(_, kind)| *kind).collect();
        kinds.sort_unstable();
        kinds.dedup();
        if kinds.is_empty() { vec![kind] } else { kinds }
    }

    /// Adds what closes and divides a pair; false if it is none.
    fn close(&self, id: DirectiveId, kind: Kind, shape: &mut Shape) -> bool {
        let pairs = self.facts.pairs;
        let Some(closers) = pairs.closers.get(&id) else {
            shape.close.extend(self.facts.closing_text(id).filter(|_| kind == Kind::Wrap).as_deref().map(escape));
            return !shape.close.is_empty();
        };
        if self.directive(id).tags.iter().any(|at| pairs.brace_ends.contains_key(at)) {
            shape.balanced = true;
            if kind == Kind::Control {
                shape.branch = self.brace_branches(id);
            }
            return true;
        }
        for closer in closers {
            if self.found.closed_as.get(&(id, closer.directive)).is_some_and(|known| *known != kind) {
                continue;
            }
            let own: Vec<TagId> = self
                .directive(id)
                .tags
                .iter()
                .filter_map(|at| pairs.partner.get(at).copied())
                .filter(|end| self.facts.of[*end] == closer.directive)
                .collect();
            match &closer.word {
                Some(word) => shape.close.push(self.around(closer.directive, &format!(" {word}"), &[])),
                None => {
                    let taken = self.directive(closer.directive).taken;
                    let is_named = |at: &TagId| self.tag(*at).tokens.len() > taken;
                    let named: Vec<TagId> = own.iter().copied().filter(is_named).collect();
                    let argument = named
                        .first()
                        .and_then(|&at| arguments_of(self.text(at), self.tag(at), taken).into_iter().next());
                    if let Some(argument) = argument.filter(|_| shape.open.contains("<name>")) {
                        let name = if argument.slot.quoted { "\"<name>\"" } else { "<name>" };
                        let lead = self.lead_as_written(
                            self.tag(named[0]),
                            self.text(named[0]),
                            &argument.slot.lead,
                            argument.token,
                        );
                        let place =
                            if self.tag(named[0]).call { format!("({lead}{name})") } else { format!(" {lead}{name}") };
                        shape.close.push(self.around(closer.directive, &place, &named));
                    }
                    let bare: Vec<TagId> = own.iter().copied().filter(|at| !is_named(at)).collect();
                    if !shape.open.contains("<name>") && bare.len() < named.len() {
                        // It repeats what its opener says.
                        shape.close.push(self.around(closer.directive, " <args>", &named));
                        continue;
                    }
                    if !bare.is_empty() || named.is_empty() || !shape.open.contains("<name>") {
                        let call = bare.first().is_some_and(|&at| self.tag(at).call);
                        // The same closer is written the same, whatever it closes.
                        shape.close.push(self.around(closer.directive, if call { "()" } else { "" }, &[]));
                        // A remark may come after it, now and then.
                        let all = &self.directive(closer.directive).tags;
                        let remarks = all.iter().filter(|at| is_named(at)).count();
                        if remarks > 0 && remarks * PER_REMARK <= all.len() && !call {
                            shape.close.push(self.around(closer.directive, " <args>", &[]));
                        }
                    }
                }
            }
        }
        if matches!(kind, Kind::Control) {
            for &branch in pairs.branches.get(&id).into_iter().flatten() {
                shape.branch.extend(self.plain(branch, Kind::Control).into_iter().map(|(open, _)| open));
            }
        }
        !shape.close.is_empty()
    }

    /// `} else {` and its like: what is between the brace that ends a body and the next.
    fn brace_branches(&self, id: DirectiveId) -> Vec<String> {
        let mut found: BTreeSet<String> = BTreeSet::new();
        for at in &self.directive(id).tags {
            let Some(&end) = self.facts.pairs.brace_ends.get(at) else { continue };
            let mut rest = &self.text(*at)[end + 1..];
            loop {
                let word = rest.trim_start();
                let length = word.bytes().take_while(|b| b.is_ascii_alphabetic() || *b == b' ').count();
                let words = word[..length].trim();
                if words.is_empty() || length > 20 {
                    break;
                }
                let after = word[length..].trim_start();
                let (condition, after) = match after.strip_prefix('(').and_then(|inner| inner.split_once(')')) {
                    Some((_, after)) => (" (<expr>)", after.trim_start()),
                    None => ("", after),
                };
                if !after.starts_with('{') {
                    break;
                }
                found.insert(format!("}} {words}{condition} {{"));
                // The next one comes after this one's body.
                let Some(close) = after.find('}') else { break };
                rest = &after[close + 1..];
            }
        }
        found.into_iter().collect()
    }

    /// A tag of a directive with something after its words.
    pub(super) fn around(&self, id: DirectiveId, body: &str, tags: &[TagId]) -> String {
        let directive = self.directive(id);
        let notation = self.notation(id);
        let sample: &[TagId] = if tags.is_empty() { &directive.tags } else { tags };
        let words = escape(&directive.words.join(" "));
        let mark = escape(&directive.mark);
        let open = escape(&notation.open);
        let any = |test: &dyn Fn(&Tag, &str) -> bool| sample.iter().any(|&at| test(self.tag(at), self.text(at)));
        let blank_open = any(&|tag, text| text[tag.inner.clone()].starts_with(|c: char| c.is_whitespace()));
        let blank_mark = !mark.is_empty()
            && any(&|tag, text| text[tag.mark.end..tag.inner.end].starts_with(|c: char| c.is_whitespace()));
        let blank_close = any(&|tag, text| text[tag.inner.clone()].ends_with(|c: char| c.is_whitespace()));
        let gap = if blank_open { " " } else { "" };
        let body = if words.is_empty() { body.trim_start() } else { body };
        let tail = self.tail(id, sample);
        match notation.style {
            Style::Bracket => {
                let end = if blank_close { " " } else { "" };
                let is_empty = words.is_empty() && body.is_empty() && tail.is_empty();
                let middle = if blank_mark && !is_empty { " " } else { "" };
                format!("{open}{gap}{mark}{middle}{words}{body}{tail}{end}{}", escape(&notation.close))
            }
            Style::Line => {
                let gap = if any(&|tag, text| text[..tag.mark.start].ends_with(' ')) { " " } else { "" };
                format!("{open}{gap}{mark}{words}{body}")
            }
            Style::Header => {
                let body = body.trim_start();
                let is_apart = any(&|tag, text| text[tag.word.end..tag.inner.end].starts_with(' '));
                format!("{mark}{words}{}{body}", if is_apart { " " } else { "" })
            }
            Style::Sigil => {
                let brace = any(&|tag, _| tag.brace);
                let space = brace && any(&|tag, text| text[..tag.range.end - 1].ends_with(' '));
                format!(
                    "{open}{words}{body}{}",
                    if space {
                        " {"
                    } else if brace {
                        "{"
                    } else {
                        ""
                    }
                )
            }
            Style::Element => {
                let single = any(&|tag, text| text[..tag.range.end - 1].ends_with('/'));
                let end = if single { if blank_close { " />" } else { "/>" } } else { ">" };
                format!("<{mark}{words}{body}{end}")
            }
            Style::Attribute => format!("<* {words}{body}>"),
        }
    }

    /// The pattern for the end of a directive's tags that opens a pair, with the names after it.
    fn tail(&self, id: DirectiveId, tags: &[TagId]) -> String {
        let tail = &self.directive(id).tail;
        let has_names = |at: &TagId| self.text(*at)[self.tag(*at).tail.end..self.tag(*at).inner.end].contains('|');
        match (tail.as_str(), tags.first().is_some_and(has_names)) {
            ("", _) => String::new(),
            (tail, false) => format!(" {tail}"),
            (tail, true) => format!(" {tail} |<args>|"),
        }
    }

    /// The forms of a pair that a word opens at the end of tags, whatever they begin with.
    fn tailed(&self, id: DirectiveId) -> Vec<(String, Vec<TagId>)> {
        let (directive, notation) = (self.directive(id), self.notation(id));
        let mut groups: BTreeMap<String, Vec<TagId>> = BTreeMap::new();
        for &at in &directive.tags {
            let (open, close) = (escape(&notation.open), escape(&notation.close));
            groups.entry(format!("{open} <expr>{} {close}", self.tail(id, &[at]))).or_default().push(at);
        }
        groups.into_iter().collect()
    }

    /// The forms of a directive with a name or target in a slot: by quotes, by what follows.
    fn with_place(&self, id: DirectiveId, slot: &Slot, place: &str, kind: Kind) -> Vec<(String, Vec<TagId>)> {
        let directive = self.directive(id);
        let mut groups: BTreeMap<Spelling, Vec<TagId>> = BTreeMap::new();
        for &at in &directive.tags {
            let (tag, text) = (self.tag(at), self.text(at));
            let arguments = arguments_of(text, tag, directive.taken);
            let Some(argument) = arguments.into_iter().find(|a| a.slot.lead == slot.lead && a.complete) else {
                continue;
            };
            if argument.slot.quoted != slot.quoted && place == "<target>" && slot.lead.contains('=') {
                continue;
            }
            if slot.lead == SECOND {
                let behind: Vec<&Token> = tag.tokens[argument.token + 1..].iter().collect();
                let rest = rest_after(tag, text, &behind, kind);
                let lead = format!("<expr>{SECOND}");
                let spelling = Spelling { is_call: tag.call, is_quoted: true, lead, follows: false, rest };
                groups.entry(spelling).or_default().push(at);
                continue;
            }
            let lead = self.lead_as_written(tag, text, &slot.lead, argument.token);
            let before = lead_start(tag, &slot.lead, argument.token) > directive.taken;
            let end = if directive.tail.is_empty() { tag.inner.end } else { tag.tail.start };
            let behind: Vec<&Token> =
                tag.tokens[argument.token + 1..].iter().filter(|token| token.range.start < end).collect();
            let rest = rest_after(tag, text, &behind, kind);
            let spelling = Spelling { is_call: tag.call, is_quoted: argument.slot.quoted, lead, follows: before, rest };
            groups.entry(spelling).or_default().push(at);
        }
        self.compose(id, place, groups)
    }

    /// The text before a slot, with blanks where some are written.
    fn lead_as_written(&self, tag: &Tag, text: &str, lead: &str, token: usize) -> String {
        if lead.is_empty() {
            return String::new();
        }
        let start = tag.tokens[lead_start(tag, lead, token)].range.start;
        let written = &text[start..tag.tokens[token].range.start];
        let gap = if written.ends_with(char::is_whitespace) { " " } else { "" };
        written.split_whitespace().collect::<Vec<_>>().join(" ") + gap
    }

    fn compose(
        &self,
        id: DirectiveId,
        place: &str,
        groups: BTreeMap<Spelling, Vec<TagId>>,
    ) -> Vec<(String, Vec<TagId>)> {
        let code = self.notation(id).code;
        let mut merged: BTreeMap<Spelling, Vec<TagId>> = BTreeMap::new();
        let any_before = groups.keys().any(|key| key.follows);
        for (spelling, tags) in &groups {
            let Spelling { is_call, is_quoted, lead, rest, .. } = spelling;
            // With and without arguments after it is one form, where they may be left out.
            let optional = groups.keys().any(|key| key.is_quoted == *is_quoted && key.rest == " [<args>]");
            let rest = if optional && rest.is_empty() { " [<args>]" } else { rest.as_str() };
            let spaced = groups.keys().any(|key| key.is_quoted == *is_quoted && key.lead.contains(' '));
            let lead = if spaced && !lead.contains(' ') {
                groups.keys().find(|key| key.lead.contains(' ')).map_or(lead.clone(), |key| key.lead.clone())
            } else {
                lead.clone()
            };
            let (is_call, is_quoted, rest) = (*is_call, *is_quoted, rest.to_owned());
            merged.entry(Spelling { is_call, is_quoted, lead, follows: any_before, rest }).or_default().extend(tags);
        }
        let mut found: Vec<(String, Vec<TagId>)> = merged
            .into_iter()
            .map(|(Spelling { is_call: call, is_quoted, lead, rest, .. }, tags)| {
                let quoted_place = if is_quoted { self.quotes(&tags, place) } else { place.to_owned() };
                let first = if any_before && !code {
                    "[<args>] "
                } else if code {
                    "<args> "
                } else {
                    ""
                };
                let inner = format!("{first}{lead}{quoted_place}{rest}");
                let body = if call {
                    let gap = if tags.iter().any(|&at| self.text(at)[self.tag(at).word.end..].starts_with(' ')) {
                        " "
                    } else {
                        ""
                    };
                    format!("{gap}({inner})")
                } else if lead.starts_with('=')
                    && !tags.iter().any(|&at| self.text(at)[self.tag(at).word.end..].starts_with(' '))
                {
                    inner
                } else {
                    format!(" {inner}")
                };
                (self.around(id, &body, &tags), tags)
            })
            .collect();
        found.sort_by_key(|(_, tags)| std::cmp::Reverse(tags.len()));
        found
    }

    /// The quotes that most of these tags are written with.
    fn quotes(&self, tags: &[TagId], place: &str) -> String {
        let single = tags.iter().filter(|&&at| self.text(at)[self.tag(at).inner.clone()].contains('\'')).count();
        if single * 2 > tags.len() { format!("'{place}'") } else { format!("\"{place}\"") }
    }

    /// The forms of a directive that names nothing.
    fn plain(&self, id: DirectiveId, kind: Kind) -> Vec<(String, Vec<TagId>)> {
        let directive = self.directive(id);
        let mut groups: BTreeMap<String, Vec<TagId>> = BTreeMap::new();
        for &at in &directive.tags {
            let tag = self.tag(at);
            // A body that begins at its end is no argument.
            let opens = match &self.text(at)[tag.tail.clone()] {
                sign @ ("{" | ":") if directive.tail.is_empty() => {
                    let is_apart = self.text(at)[..tag.tail.start].ends_with(' ');
                    format!("{}{sign}", if is_apart { " " } else { "" })
                }
                _ => String::new(),
            };
            let rest = tag.tokens.len() > directive.taken;
            let written = match (kind, tag.call, rest) {
                (Kind::Set, _, _) => assignment(tag, self.text(at), directive.taken),
                (_, true, true) => {
                    if self.text(at)[tag.word.end..].starts_with(' ') {
                        " (<expr>)"
                    } else {
                        "(<expr>)"
                    }
                }
                (_, true, false) => "()",
                (Kind::Comment, ..) => " <text>",
                (_, _, true) => " <expr>",
                (_, _, false) => "",
            };
            groups.entry(format!("{written}{opens}")).or_default().push(at);
        }
        if kind == Kind::Set && groups.len() > 1 {
            groups.remove("");
        }
        groups.into_iter().map(|(body, tags)| (self.around(id, &body, &tags), tags)).collect()
    }
}

/// How a tag that binds a name is written, after its word.
fn assignment(tag: &Tag, text: &str, taken: usize) -> &'static str {
    let [name, sign, ..] = &tag.tokens[taken..] else { return "" };
    let colon = sign.kind == TokenKind::Sign(b':');
    let tight = !text[..sign.range.start].ends_with(' ');
    let quoted =
        tag.tokens.get(taken + 2).is_some_and(|t| t.kind == TokenKind::Quoted) && tag.tokens.len() == taken + 3;
    let is_signed = text[name.range.clone()].starts_with('$');
    match (colon, tight, quoted) {
        (true, ..) if is_signed => " $<name> := <expr>",
        (true, ..) => " <name> := <expr>",
        (false, _, _) if is_signed => " $<name> = <expr>",
        (false, true, true) => " <name>=\"<value>\"",
        (false, true, false) => " <name>=<expr>",
        (false, false, _) => " <name> = <expr>",
    }
}

/// The start of the text that leads to a token: the word before it, if there is one, or the signs.
fn lead_start(tag: &Tag, lead: &str, token: usize) -> usize {
    let before = &tag.tokens[..token];
    let signs = before.iter().rev().take_while(|token| matches!(token.kind, TokenKind::Sign(_))).count();
    match lead.len() {
        0 => token,
        1 => token - signs,
        _ => before.len().saturating_sub(signs + 1),
    }
}

/// The text after a slot, as a pattern.
fn rest_after(tag: &Tag, text: &str, rest: &[&Token], kind: Kind) -> String {
    let region = matches!(kind, Kind::Slot | Kind::Fill | Kind::Block | Kind::Part);
    match rest {
        [] => String::new(),
        [comma, second, more @ ..] if comma.kind == TokenKind::Sign(b',') && region => {
            let word = token_text(text, second);
            match (second.kind, more) {
                (TokenKind::Word, [sign, value, ..]) if matches!(sign.kind, TokenKind::Sign(b':' | b'=')) => {
                    let sign = token_text(text, sign);
                    let gap = if text[..value.range.start].ends_with(' ') { " " } else { "" };
                    let value = if value.kind == TokenKind::Quoted { "\"<value>\"" } else { token_text(text, value) };
                    format!(", {word}{sign}{gap}{value}")
                }
                _ => ", \"<value>\"".to_owned(),
            }
        }
        [key, sign, value] if region && sign.kind == TokenKind::Sign(b'=') && value.kind == TokenKind::Quoted => {
            format!(" {}=\"<value>\"", token_text(text, key))
        }
        [first, ..] if first.kind == TokenKind::Sign(b',') => ", <args>".to_owned(),
        [first, ..] if first.kind == TokenKind::Sign(b';') => "; <args>".to_owned(),
        _ if tag.call => ", <args>".to_owned(),
        _ => " [<args>]".to_owned(),
    }
}

#[cfg(test)]
mod tests {
    use crate::dialect::Kind;
    use crate::testing::{LAYOUT, check, learned, page};

    #[test]
    fn forms_are_written_as_most_tags_are() {
        let quoted = learned(LAYOUT, &page("<h1>@</h1>\n~(= bring 'parts/nav.html' =)"), &[]);
        check(&quoted, Kind::Include, &["\"(= bring '<target>' =)\""]);
        // What some of them pass is optional.
        let passed = page("<h1>@</h1>\n~(= bring \"parts/nav.html\" with here=\"@\" =)");
        check(&learned(LAYOUT, &passed, &[]), Kind::Include, &["'(= bring \"<target>\" [<args>] =)'"]);
    }
}
