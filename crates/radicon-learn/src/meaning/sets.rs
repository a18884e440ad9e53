//! Names that are bound to values.

use std::collections::BTreeSet;

use crate::Confidence;
use crate::dialect::Kind;
use crate::evidence::pairs::prints;
use crate::meaning::{Facts, Meaning, Meanings};
use crate::read::directives::DirectiveId;
use crate::read::pieces::is_word;
use crate::read::tags::TagId;
use crate::read::tags::{Style, TokenKind, token_text};
use crate::thresholds::{NEARLY_ALL, PLAINLY_NAMED};

impl Facts<'_> {
    /// Words that bind a name to a value.
    pub(super) fn sets(&self, found: &Meanings) -> Vec<(DirectiveId, Meaning)> {
        let mut sets: Vec<(DirectiveId, Meaning)> = Vec::new();
        for id in DirectiveId::all(self.directives.len()) {
            if found.of.contains_key(&id) || self.pairs.is_opener(id) || !self.is_assignment(id) {
                continue;
            }
            let notation = &self.notations[self.directives[id].notation];
            // In a notation that shows nothing else a single line may be anything.
            if !notation.strong
                && !found.of.keys().any(|other| self.directives[*other].notation == self.directives[id].notation)
            {
                continue;
            }
            let why = "a name, a sign, a value".to_owned();
            sets.push((id, Meaning { kind: Kind::Set, slot: None, confidence: Confidence::Likely, why }));
        }
        sets
    }

    /// `word name = value`: a name is bound.
    pub(super) fn is_assignment(&self, id: DirectiveId) -> bool {
        let directive = &self.directives[id];
        if !matches!(self.style(id), Style::Bracket | Style::Line | Style::Sigil)
            || directive.words[0].is_empty()
            || prints(&directive.mark)
        {
            return false;
        }
        let is_name = |text: &str| text.trim_start_matches('$').bytes().all(is_word);
        let binds = |at: &&TagId| match &self.tags[**at].tokens[directive.taken..] {
            [name, sign, next @ ..] if is_name(&self.text(**at)[name.range.clone()]) => match sign.kind {
                // What is compared or passed on is not bound.
                TokenKind::Sign(b'=') => !next.first().is_some_and(|t| matches!(t.kind, TokenKind::Sign(b'=' | b'>'))),
                TokenKind::Sign(b':') => {
                    sign.range.start == name.range.end
                        || next.first().is_some_and(|next| next.kind == TokenKind::Sign(b'='))
                }
                _ => false,
            },
            _ => false,
        };
        let names: BTreeSet<&str> = directive
            .tags
            .iter()
            .filter_map(|&at| Some(token_text(self.text(at), self.tags[at].tokens.get(directive.taken)?)))
            .collect();
        // A key that other tags begin with is no name either.
        let key =
            |word: &&str| self.directives.iter().any(|d| d.notation == directive.notation && d.words[0] == **word);
        if names.len() == 1 && names.iter().any(key) {
            return false;
        }
        let all = directive.tags.iter().filter(binds).count();
        // A word that always is there is no name.
        let spaced = |at: &&TagId| {
            self.tags[**at].tokens.get(directive.taken).is_some_and(|t| self.text(**at)[t.range.end..].starts_with(' '))
        };
        let loosely = directive.tags.iter().filter(spaced).count() == directive.tags.len();
        NEARLY_ALL.reached(all, directive.tags.len()) && (names.len() > 1 || directive.tags.len() == 1 || loosely)
    }

    /// Whether its arguments are more than a name: those of a loop or condition.
    pub(super) fn loops(&self, id: DirectiveId) -> bool {
        let directive = &self.directives[id];
        let plain = |at: &&TagId| {
            let tag = &self.tags[**at];
            let end = if directive.tail.is_empty() { tag.inner.end } else { tag.tail.start };
            let own = tag.tokens.iter().skip(directive.taken).take_while(|token| token.range.start < end);
            let kinds: Vec<TokenKind> = own.take(5).map(|token| token.kind).collect();
            let is_value = |kind: TokenKind| matches!(kind, TokenKind::Quoted | TokenKind::Word);
            let rest = match kinds[..] {
                [TokenKind::Sign(b'=' | b':'), value, ref rest @ ..] if is_value(value) => rest,
                [TokenKind::Word, TokenKind::Sign(b'=' | b':'), value, ref rest @ ..] if is_value(value) => rest,
                [value, ref rest @ ..] if is_value(value) => rest,
                [] => return true,
                _ => return false,
            };
            matches!(
                rest,
                [] | [TokenKind::Sign(b','), ..]
                    | [TokenKind::Word, TokenKind::Sign(b'=' | b':'), ..]
                    | [TokenKind::Quoted, ..]
            )
        };
        !PLAINLY_NAMED.reached(directive.tags.iter().filter(plain).count(), directive.tags.len())
    }
}

#[cfg(test)]
mod tests {
    use crate::dialect::Kind;
    use crate::testing::{LAYOUT, check, learned, page};

    #[test]
    fn a_name_and_a_value_are_bound() {
        let learned = learned(LAYOUT, &page("(= note height = @.height =)<p>(: height :)</p>"), &[]);
        check(&learned, Kind::Set, &["\"(= note <name> = <expr> =)\""]);
        check(&learned, Kind::Output, &["\"(: <expr> :)\""]);
    }

    #[test]
    fn names_with_a_sign_are_bound() {
        let learned = learned(LAYOUT, &page("(= note $height := @.height =)<p>(: $height :)</p>"), &[]);
        check(&learned, Kind::Set, &["\"(= note $<name> := <expr> =)\""]);
    }
}
