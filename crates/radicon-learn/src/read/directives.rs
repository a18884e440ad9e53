//! Tags that begin with the same words, and the places of their arguments.

use radicon_markup::{id, numbers};
use std::collections::BTreeSet;

use rustc_hash::FxHashMap;

use crate::read::corpus::Corpus;
use crate::read::tags::{Notation, Style, Tag, TokenKind, token_text};
use crate::read::tags::{NotationId, TagId};
use crate::thresholds::{NEARLY_ALL, SECOND_WORDS};

id!(
    /// Tags that begin alike.
    pub(crate) DirectiveId: Directive
);
numbers!(TagId: DirectiveId);

/// The place of an argument: after the first words, or after a word and a sign of its own.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(crate) struct Slot {
    /// The text right before it: nothing, `=`, `name=`, `from `.
    pub lead: String,
    pub quoted: bool,
}

/// All tags of one notation that begin with the same marks and words.
#[derive(Clone, Debug)]
pub(crate) struct Directive {
    pub notation: NotationId,
    pub mark: String,
    /// Its words, one or two.
    pub words: Vec<String>,
    /// Its tags, in order of files and places.
    pub tags: Vec<TagId>,
    /// How many arguments its second word took: tokens that belong to the words.
    pub taken: usize,
    /// What its tags in quotes all have after the argument: a second one, separated by a comma.
    pub with_value: bool,
    /// The name of a file is right after its mark.
    pub names_file: bool,
    /// The word or sign that ends all its tags and opens a pair, whatever they begin with; or nothing.
    pub tail: String,
    /// What its tags have after its words, where that makes words different.
    pub arguments: Arguments,
}

/// Words and signs that open pairs where they end a tag, with the notation.
pub(crate) type Tails = BTreeSet<(NotationId, String)>;

/// What makes tags with one word different ones.
#[derive(Clone, Debug, Default)]
pub(crate) struct Apart {
    pub tails: Tails,
    /// A word may open pairs or stand alone, as its arguments say.
    pub by_arguments: bool,
}

/// What a tag's arguments are.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(crate) enum Arguments {
    Any,
    None,
    /// A name that something is assigned to.
    Assigned,
    /// Two names with a value each.
    Valued,
}

impl Arguments {
    fn of(tag: &Tag) -> Self {
        let kinds = tag.tokens.iter().map(|token| token.kind).collect::<Vec<_>>();
        // `name="x"` is an argument, `name = "x"` binds one.
        let is_tight = tag.tokens.get(1).is_some_and(|sign| sign.range.start == tag.tokens[0].range.end);
        match kinds[..] {
            [] => Self::None,
            [TokenKind::Word, TokenKind::Sign(b'='), TokenKind::Quoted] if is_tight => Self::Any,
            [TokenKind::Word, TokenKind::Sign(b'='), TokenKind::Quoted, TokenKind::Word, TokenKind::Sign(b'='), _] => {
                Self::Valued
            }
            [TokenKind::Word, TokenKind::Sign(b'=' | b':'), ..] => Self::Assigned,
            _ => Self::Any,
        }
    }
}

impl Directive {
    pub fn label(&self) -> String {
        format!("{}{}", self.mark, self.words.join(" "))
    }

    /// Its first word, in its notation, with its mark and with what opens a pair at its end.
    pub fn word(&self) -> (NotationId, &str, &str, &str) {
        (self.notation, &self.mark, &self.words[0], &self.tail)
    }
}

/// A token of a tag that may be a target or a name.
#[derive(Clone, Debug)]
pub(crate) struct Argument {
    pub slot: Slot,
    /// Index of the token.
    pub token: usize,
    /// No operator follows: it is a complete literal.
    pub complete: bool,
}

/// The arguments of a tag that may be a target or a name, in order.
pub(crate) fn arguments_of(text: &str, tag: &Tag, taken: usize) -> Vec<Argument> {
    let mut found = Vec::new();
    let tokens = &tag.tokens;
    for (at, token) in tokens.iter().enumerate().skip(taken) {
        if matches!(token.kind, TokenKind::Sign(_)) {
            continue;
        }
        let quoted = token.kind == TokenKind::Quoted;
        let signs = tokens[taken..at]
            .iter()
            .rev()
            .take_while(|t| matches!(t.kind, TokenKind::Sign(b'=' | b':' | b'>')))
            .count();
        let before = at.checked_sub(signs + 1).filter(|&word| word >= taken).map(|word| &tokens[word]);
        let lead = match before {
            // Behind the words themselves.
            None if signs == 0 && at == taken => String::new(),
            None if text[..tokens[at].range.start].trim_end().ends_with("==") => continue,
            None if at == taken + signs => text[tokens[taken].range.start..tokens[at - 1].range.end].to_owned(),
            Some(word) if signs > 0 && word.kind == TokenKind::Word => {
                let sign = &text[tokens[at - signs].range.start..tokens[at - 1].range.end];
                // What is compared names nothing.
                if sign.ends_with("==") {
                    continue;
                }
                // `key=`, `key:` and `key =>` say the same.
                format!("{}=", token_text(text, word))
            }
            // The second argument of a call.
            Some(comma) if signs == 0 && quoted && is_second(tag, taken, at) && comma.kind == TokenKind::Sign(b',') => {
                SECOND.to_owned()
            }
            Some(word) if signs == 0 && quoted && word.kind == TokenKind::Word => {
                format!("{} ", token_text(text, word))
            }
            _ => continue,
        };
        let next = tokens.get(at + 1).map(|next| next.kind);
        let assigned = matches!(next, Some(TokenKind::Sign(b'=' | b':'))) && !quoted;
        let operator = matches!(next, Some(TokenKind::Sign(b'~' | b'+' | b'.' | b'|' | b'&' | b'?' | b'%' | b'*')));
        // A dot that ends the tag, or begins a name, is an argument of its own.
        let dot = next == Some(TokenKind::Sign(b'.'))
            && (at + 2 >= tokens.len()
                || tokens[at + 1].range.end == tokens[at + 2].range.start
                    && tokens[at].range.end < tokens[at + 1].range.start);
        let complete = !operator || dot;
        if !assigned {
            found.push(Argument { slot: Slot { lead, quoted }, token: at, complete });
        }
    }
    found
}

/// The lead of the second argument of a call: what comes first may be anything.
pub(crate) const SECOND: &str = ", ";

/// Whether a token is the second argument of a call.
fn is_second(tag: &Tag, taken: usize, at: usize) -> bool {
    let mut depth = 0_i32;
    let mut commas = 0;
    for token in &tag.tokens[taken..at] {
        match token.kind {
            TokenKind::Sign(b'(' | b'[' | b'{') => depth += 1,
            TokenKind::Sign(b')' | b']' | b'}') => depth -= 1,
            TokenKind::Sign(b',') if depth == 0 => commas += 1,
            _ => {}
        }
    }
    tag.call && commas == 1 && depth == 0
}

/// Whether a tag's arguments begin with a second one after a comma.
fn has_value(tag: &Tag, taken: usize) -> bool {
    let kinds: Vec<TokenKind> = tag.tokens.iter().skip(taken).take(3).map(|token| token.kind).collect();
    matches!(kinds[..], [TokenKind::Quoted, TokenKind::Sign(b','), _])
}

/// Whether tags with a mark begin by closing a body: `} else {` divides one, and opens none of its own.
pub(crate) fn closes_first(mark: &str) -> bool {
    mark.starts_with('}')
}

/// Groups tags by their words.
pub(crate) fn all(corpus: &Corpus, tags: &[Tag], notations: &[Notation], apart: &Apart) -> Vec<Directive> {
    let text = |tag: &Tag| corpus.texts[tag.file].text.as_str();
    let tails = &apart.tails;
    let mut groups: FxHashMap<(NotationId, &str, &str, &str, Arguments), Vec<TagId>> = FxHashMap::default();
    for (at, tag) in TagId::each(tags) {
        let [mark, word, tail] = [&tag.mark, &tag.word, &tag.tail].map(|range| &text(tag)[range.clone()]);
        let opens = !tails.is_empty() && !closes_first(mark) && tails.contains(&(tag.notation, tail.to_owned()));
        let arguments = if apart.by_arguments { Arguments::of(tag) } else { Arguments::Any };
        let key = (tag.notation, mark, word, if opens { tail } else { "" }, arguments);
        groups.entry(key).or_default().push(at);
    }
    let mut words: FxHashMap<(NotationId, &str), usize> = FxHashMap::default();
    for (&(notation, _, word, ..), tags) in &groups {
        *words.entry((notation, word)).or_default() += tags.len();
    }
    let mut found = Vec::new();
    let mut keys: Vec<_> = groups.keys().copied().collect();
    keys.sort_unstable();
    for key @ (notation, mark, word, tail, arguments) in keys {
        let group = &groups[&key];
        let mut seconds: Vec<_> = second_words(corpus, tags, group).into_iter().collect();
        seconds.sort_unstable();
        let mut rest: Vec<TagId> = group.clone();
        // The second word is the word of other tags, or always the same.
        if tail.is_empty() && matches!(notations[notation].style, Style::Bracket | Style::Line) {
            // `end word` ends many things; a condition on a value that is printed elsewhere is none of them.
            let heads = seconds
                .iter()
                .filter(|(second, _)| words.contains_key(&(notation, *second)) && *second != word)
                .count();
            let mostly = SECOND_WORDS.reached(heads, seconds.len());
            for (second, members) in seconds {
                let length = |wanted: usize| members.iter().all(|&at| tags[at].tokens.len() == wanted);
                let is_head = words.contains_key(&(notation, second)) && second != word;
                let only = NEARLY_ALL.reached(members.len(), group.len());
                let is_word = is_head && (length(1) && mostly || length(2) && only);
                let constant = only && members.len() >= 3 && length(2);
                if is_word || constant {
                    rest.retain(|at| !members.contains(at));
                    found.push(Directive {
                        notation,
                        mark: mark.to_owned(),
                        words: vec![word.to_owned(), second.to_owned()],
                        tags: members,
                        taken: 1,
                        with_value: false,
                        names_file: false,
                        tail: String::new(),
                        arguments,
                    });
                }
            }
        }
        let (valued, single): (Vec<TagId>, Vec<TagId>) = rest
            .into_iter()
            .partition(|&at| (has_value(&tags[at], 0) || arguments == Arguments::Valued) && !tags[at].brace);
        for (members, with_value) in [(single, false), (valued, true)] {
            if !members.is_empty() {
                found.push(Directive {
                    notation,
                    mark: mark.to_owned(),
                    words: vec![word.to_owned()],
                    tags: members,
                    taken: 0,
                    with_value,
                    names_file: notations[notation].names.iter().any(|known| known == mark),
                    tail: tail.to_owned(),
                    arguments,
                });
            }
        }
    }
    found
}

/// The tags of a word by their second word, where that may say more: it binds nothing.
fn second_words<'t>(corpus: &'t Corpus, tags: &[Tag], group: &[TagId]) -> FxHashMap<&'t str, Vec<TagId>> {
    let mut found: FxHashMap<&str, Vec<TagId>> = FxHashMap::default();
    for &at in group.iter().filter(|&&at| !tags[at].word.is_empty() && !tags[at].call) {
        let tokens = &tags[at].tokens;
        let binds = matches!(tokens.get(1).map(|token| token.kind), Some(TokenKind::Sign(_)));
        if let Some(first) = tokens.first().filter(|first| first.kind == TokenKind::Word && !binds) {
            found.entry(token_text(&corpus.texts[tags[at].file].text, first)).or_default().push(at);
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use crate::dialect::Kind;
    use crate::testing::{LAYOUT, check, learned, page};

    #[test]
    fn a_second_word_that_says_more_belongs_to_the_first() {
        let learned = learned(
            LAYOUT,
            &page("<h1>@</h1>\n~(= when @ =)<p>@</p>(= end when =)\n(= each b in @ =)<i>x</i>(= end each =)"),
            &[],
        );
        let each = "{ open = \"(= each <expr> =)\", close = \"(= end each =)\" }";
        let when = "{ open = \"(= when <expr> =)\", close = \"(= end when =)\" }";
        check(&learned, Kind::Control, &[each, when]);
    }
}
