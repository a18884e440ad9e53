//! Statements and calls inside longer tags.
//!
//! A tag that holds a form as one of its statements is split there: the code before it, the
//! construct, the code after it, each with its own place. What is called inside an expression
//! is found, but stays in it.

use memchr::memmem;

use super::construct::{Construct, Inside, bare};
use crate::dialect::{Captures, Dialect, Form, Kind, Marks};
use crate::text::{Span, is_blank, trim_blanks};

/// One form in a tag.
struct Hit<'d> {
    span: Span,
    form: (u16, &'d Form),
    captures: Captures,
    /// Its arguments, up to the end of the statement.
    rest: Span,
}

/// The forms that a tag is made of, if there are some in it; `code` is the text between its delimiters.
pub(super) fn split(source: &[u8], dialect: &Dialect, tag: &Construct, code: Span) -> Vec<Construct> {
    let hits = hits(source, dialect, code);
    if let [only] = &hits[..] {
        let around = [Span::new(code.start, only.span.start), Span::new(only.span.end, code.end)];
        if around.iter().all(|gap| trim_blanks(gap.of(source)).is_empty()) {
            return vec![Construct {
                reach: tag.reach,
                marks: tag.marks,
                ..construct(only, tag.span, Inside::Nothing)
            }];
        }
    }
    if hits.is_empty() { Vec::new() } else { pieces(source, tag, code, &hits) }
}

/// The tag as code and constructs in turn. A construct that is a statement takes the gap to the end of the
/// tag along where nothing else is in it, so that no empty tag is left.
fn pieces(source: &[u8], tag: &Construct, code: Span, hits: &[Hit<'_>]) -> Vec<Construct> {
    let mut pieces = Vec::new();
    let mut at = tag.span.start;
    for (index, hit) in hits.iter().enumerate() {
        let from = index.checked_sub(1).map_or(code.start, |before| hits[before].span.end);
        let to = hits.get(index + 1).map_or(code.end, |next| next.span.start);
        let [before, after] = [Span::new(from, hit.span.start), Span::new(hit.span.end, to)].map(|gap| gap.of(source));
        let (is_first, is_last) = (at == tag.span.start, index + 1 == hits.len());
        let is_statement = (ends_statement(before) || is_first && is_nothing(before))
            && (begins_statement(after) || is_last && is_nothing(after));
        let (mut span, mut inside) = (hit.span, Inside::Expression);
        if is_statement {
            let (mut open, mut close) = (Span::new(tag.span.start, code.start), Span::new(code.end, tag.span.end));
            if is_nothing(before) {
                (span.start, close) = (at.max(if is_first { tag.span.start } else { from }), Span::default());
            }
            let separator = after.iter().position(|&b| !is_blank(b)).filter(|&sign| after[sign] == b';');
            span.end += separator.map_or(0, |sign| sign as u32 + 1);
            if is_nothing(after) {
                (span.end, open) = (if is_last { tag.span.end } else { to }, Span::default());
            }
            inside = Inside::Statement { open, close };
        }
        if span.start > at {
            pieces.push(Construct { kind: Kind::Code, ..bare(Span::new(at, span.start)) });
        }
        pieces.push(construct(hit, span, inside));
        at = span.end;
    }
    if at < tag.span.end {
        pieces.push(Construct { kind: Kind::Code, ..bare(Span::new(at, tag.span.end)) });
    }
    pieces
}

/// Whether a gap holds no code but the signs between statements.
fn is_nothing(gap: &[u8]) -> bool {
    gap.iter().all(|&b| is_blank(b) || b == b';')
}

fn construct(hit: &Hit<'_>, span: Span, inside: Inside) -> Construct {
    let captures = &hit.captures;
    let expr = if captures.expr.is_empty() { hit.rest } else { captures.expr };
    Construct {
        kind: hit.form.1.kind,
        target: captures.target,
        name: captures.name,
        value: captures.value,
        expr,
        form: hit.form.0,
        inside,
        ..bare(span)
    }
}

/// Every form in a stretch of code, in order, none inside another one or in quotes.
fn hits<'d>(source: &[u8], dialect: &'d Dialect, code: Span) -> Vec<Hit<'d>> {
    let text = &source[..code.end as usize];
    let mut hits: Vec<Hit<'d>> = Vec::new();
    for (index, form) in dialect.within() {
        let first = form.open.first_bytes();
        for at in memmem::find_iter(code.of(source), first).map(|at| at + code.start as usize) {
            let glued = |b: u8| b.is_ascii_alphanumeric() || b"_.$@".contains(&b);
            if glued(first[0]) && at > code.start as usize && glued(source[at - 1]) {
                continue;
            }
            let Some((end, captures)) = form.open.read(text, at, &Marks::default()) else { continue };
            let after = if form.open.goes_on() { statement(&text[end..]) } else { 0 };
            let rest = &text[end..end + after];
            let blanks = rest.iter().take_while(|&&b| is_blank(b) || b == b',').count().min(rest.len());
            let inner = trim_blanks(&rest[blanks..]).len();
            hits.push(Hit {
                span: Span::from_range(at..end + if inner > 0 { blanks + inner } else { 0 }),
                form: (index, form),
                captures,
                rest: Span::from_range(end + blanks..end + blanks + inner),
            });
        }
    }
    hits.sort_by_key(|hit| (hit.span.start, std::cmp::Reverse(hit.form.1.open.specificity())));
    let mut end = code.start;
    hits.retain(|hit| {
        let free = hit.span.start >= end && !in_quotes(&source[code.start as usize..hit.span.start as usize]);
        end = if free { hit.span.end } else { end };
        free
    });
    hits
}

/// How far the arguments that follow a call reach: to the end of its statement, or of the brackets around it.
fn statement(rest: &[u8]) -> usize {
    // Only a comma or a blank leads to arguments.
    if !rest.first().is_some_and(|&b| b == b',' || is_blank(b)) {
        return 0;
    }
    let (mut depth, mut quote) = (0_usize, None);
    let mut last = b' ';
    for (at, &b) in rest.iter().enumerate() {
        match (quote, b) {
            (Some(open), _) => quote = (b != open).then_some(open),
            (None, b'"' | b'\'') => quote = Some(b),
            (None, b'(' | b'[' | b'{') => depth += 1,
            (None, b')' | b']' | b'}') if depth == 0 => return at,
            (None, b')' | b']' | b'}') => depth -= 1,
            (None, b';') if depth == 0 => return at,
            (None, b'\n') if depth == 0 && last != b',' => return at,
            _ => {}
        }
        if !is_blank(b) {
            last = b;
        }
    }
    rest.len()
}

/// Whether the code before a place ends a statement.
fn ends_statement(before: &[u8]) -> bool {
    let text = trim_blanks(before);
    let gap = before.len() - before.iter().rev().take_while(|&&b| is_blank(b)).count();
    text.last().is_some_and(|b| b";{}".contains(b)) || !text.is_empty() && before[gap..].contains(&b'\n')
}

/// Whether the code after a place begins another statement.
fn begins_statement(after: &[u8]) -> bool {
    let gap = after.iter().take_while(|&&b| is_blank(b)).count();
    after.get(gap).is_some_and(|b| b";}".contains(b)) || after[..gap].contains(&b'\n')
}

/// Whether a text is left inside quotes.
fn in_quotes(text: &[u8]) -> bool {
    let mut quote = None;
    for &b in text {
        match quote {
            Some(open) if b == open || b == b'\n' => quote = None,
            None if matches!(b, b'"' | b'\'') => quote = Some(b),
            _ => {}
        }
    }
    quote.is_some()
}
