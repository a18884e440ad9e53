//! The arguments of an include: which names they bind to what.
//!
//! Engines write them in many ways: `a="x" b=c`, `with { a: "x" }`, `a => 1`.
//! What all share is read: a name, one of `=`, `:` and `=>`, and a value. The
//! words that a dialect lists under `only` and `optional` are known; words that
//! lead to a binding say nothing; anything else may bind any name.

use crate::dialect::Rules;
use crate::text::{Span, is_blank, trim_blanks};

/// A name bound by an argument.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Binding {
    /// The name.
    pub name: Span,
    /// The value, without quotes if it is a literal.
    pub value: Span,
    /// It is text or a number that prints as it is written.
    pub literal: bool,
}

impl Binding {
    /// Whether the value is a text in quotes.
    pub fn is_quoted(&self, source: &[u8]) -> bool {
        self.literal && matches!(source[..self.value.start as usize].last(), Some(b'"' | b'\''))
    }
}

/// The arguments of an include.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Arguments {
    /// The names that it binds, in their order.
    pub bindings: Vec<Binding>,
    /// No other names are seen.
    pub only: bool,
    /// It is no mistake if the file is missing.
    pub optional: bool,
    /// Something was not understood; it may bind any name.
    pub opaque: bool,
}

impl Arguments {
    /// Reads them as a dialect's rules say.
    pub fn read(source: &[u8], args: Span, rules: &Rules) -> Self {
        let mut reader =
            Reader { source, rules, at: args.start as usize, end: args.end as usize, found: Self::default() };
        reader.all();
        reader.found
    }
}

struct Reader<'a> {
    source: &'a [u8],
    rules: &'a Rules,
    at: usize,
    end: usize,
    found: Arguments,
}

impl Reader<'_> {
    fn all(&mut self) {
        // A word that no binding follows was no lead to one.
        let mut lead = false;
        loop {
            let rest = &self.source[self.at..self.end];
            let Some(&byte) = rest.first() else { break };
            if is_blank(byte) || b",{}[]()".contains(&byte) {
                self.at += 1;
            } else if let Some(length) = phrase(rest, &self.rules.only) {
                self.found.only = true;
                self.at += length;
            } else if let Some(length) = phrase(rest, &self.rules.optional) {
                self.found.optional = true;
                self.at += length;
            } else if self.binding() {
                lead = false;
            } else {
                self.found.opaque |= lead;
                lead = true;
                self.at += self.word().max(1);
            }
        }
        self.found.opaque |= lead;
    }

    /// A name, an operator and a value.
    fn binding(&mut self) -> bool {
        let rest = &self.source[self.at..self.end];
        let quote = rest.first().copied().filter(|b| matches!(b, b'"' | b'\''));
        let from = self.at + usize::from(quote.is_some());
        let length = self.source[from..self.end].iter().take_while(|&&b| is_of_name(b)).count();
        let mut at = from + length;
        if length == 0 || quote.is_some_and(|quote| self.source.get(at) != Some(&quote)) {
            return false;
        }
        let name = Span::from_range(from..at);
        at += usize::from(quote.is_some());
        at += blanks(&self.source[at..self.end]);
        let operator = &self.source[at..self.end];
        at += match operator {
            [b'=', b'>', ..] => 2,
            [b'=', b'=', ..] | [b':', b':', ..] => return false,
            [b'=' | b':', ..] => 1,
            _ => return false,
        };
        at += blanks(&self.source[at..self.end]);
        if at >= self.end {
            return false;
        }
        let value = Span::from_range(at..at + value_length(&self.source[at..self.end]));
        let (value, literal) = literal(self.source, value);
        self.found.bindings.push(Binding { name, value, literal });
        self.at = (value.end as usize).max(at + 1);
        // The closing quote of a literal.
        self.at += usize::from(matches!(self.source.get(self.at), Some(b'"' | b'\'')) && value.start as usize > at);
        true
    }

    /// Length of whatever is here up to the next blank.
    fn word(&self) -> usize {
        self.source[self.at..self.end].iter().position(|&b| is_blank(b)).unwrap_or(self.end - self.at)
    }
}

/// A value in quotes without them, if what it prints is what is written.
fn literal(source: &[u8], value: Span) -> (Span, bool) {
    let text = value.of(source);
    match text {
        [quote @ (b'"' | b'\''), inner @ .., last] if last == quote && !inner.contains(quote) => {
            // What engines escape, and what they may unescape, prints otherwise.
            let plain = !inner.iter().any(|b| b"<>&\"'\\$#{}".contains(b));
            (Span::new(value.start + 1, value.end - 1), plain)
        }
        _ => (value, !text.is_empty() && text.iter().all(u8::is_ascii_digit)),
    }
}

/// Length of a value: up to a blank or comma outside quotes and brackets.
fn value_length(rest: &[u8]) -> usize {
    let (mut at, mut depth) = (0, 0_usize);
    while let Some(&byte) = rest.get(at) {
        match byte {
            b'(' | b'[' | b'{' => depth += 1,
            b')' | b']' | b'}' if depth == 0 => break,
            b')' | b']' | b'}' => depth -= 1,
            b'"' | b'\'' => at += memchr::memchr(byte, &rest[at + 1..]).map_or(0, |length| length + 1),
            b',' if depth == 0 => break,
            _ if is_blank(byte) && depth == 0 => break,
            _ => {}
        }
        at += 1;
    }
    at.min(rest.len())
}

/// Length of one of the phrases, if the text begins with it as whole words.
fn phrase(rest: &[u8], phrases: &[String]) -> Option<usize> {
    let fits = |phrase: &&String| {
        let bytes = trim_blanks(phrase.as_bytes());
        rest.starts_with(bytes) && !rest.get(bytes.len()).is_some_and(|&b| is_of_name(b))
    };
    phrases.iter().find(fits).map(|phrase| trim_blanks(phrase.as_bytes()).len())
}

fn blanks(rest: &[u8]) -> usize {
    rest.iter().take_while(|&&b| is_blank(b)).count()
}

pub(super) fn is_of_name(byte: u8) -> bool {
    byte.is_ascii_alphanumeric() || byte == b'_' || byte >= 0x80
}

/// The texts in quotes in an expression.
pub fn quoted(mut expr: &[u8]) -> impl Iterator<Item = &[u8]> {
    std::iter::from_fn(move || {
        let at = memchr::memchr2(b'"', b'\'', expr)?;
        let inner = &expr[at + 1..];
        let end = memchr::memchr(expr[at], inner)?;
        expr = &inner[end + 1..];
        Some(&inner[..end])
    })
}

/// Whether an expression mentions a name as a whole word, not as a member of something.
pub fn mentions(expression: &[u8], name: &[u8]) -> bool {
    let word = |byte: Option<&u8>| byte.is_some_and(|&b| is_of_name(b));
    memchr::memmem::find_iter(expression, name).any(|at| {
        let before = at.checked_sub(1).and_then(|at| expression.get(at));
        !word(before) && before != Some(&b'.') && !word(expression.get(at + name.len()))
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[track_caller]
    fn check(text: &str, bindings: &[(&str, &str, bool)], flags: [bool; 3]) {
        let rules = Rules { only: vec!["only".into()], optional: vec!["ignore missing".into()], ..Rules::default() };
        let source = text.as_bytes();
        let found = Arguments::read(source, Span::from_range(0..source.len()), &rules);
        let shown: Vec<_> =
            found.bindings.iter().map(|b| (b.name.text(source), b.value.text(source), b.literal)).collect();
        let shown: Vec<_> = shown.iter().map(|(name, value, literal)| (&**name, &**value, *literal)).collect();
        assert_eq!(shown, bindings, "{text}");
        assert_eq!([found.only, found.optional, found.opaque], flags, "{text}");
    }

    #[test]
    fn arguments_are_read_in_many_notations() {
        check("", &[], [false; 3]);
        check("with a=\"x y\" b=c.d only", &[("a", "x y", true), ("b", "c.d", false)], [true, false, false]);
        check(
            "ignore missing with { 'a': f(1, 2), b: 3 }",
            &[("a", "f(1, 2)", false), ("b", "3", true)],
            [false, true, false],
        );
        check("['a' => 'it', 'b' => \"<b>\"]", &[("a", "it", true), ("b", "<b>", false)], [false; 3]);
        check("title = 'x' , n=$v|f:'a b'", &[("title", "x", true), ("n", "$v|f:'a b'", false)], [false; 3]);
        check("user", &[], [false, false, true]);
        check("with context", &[], [false, false, true]);
        check("a == b", &[], [false, false, true]);
    }

    #[test]
    fn a_name_is_mentioned_as_a_whole_word() {
        for (text, expected) in
            [("title", true), ("a.title", false), ("title.x", true), ("subtitle", false), ("f(title)", true)]
        {
            assert_eq!(mentions(text.as_bytes(), b"title"), expected, "{text}");
        }
    }
}
