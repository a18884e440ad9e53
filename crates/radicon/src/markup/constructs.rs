//! Finding a dialect's constructs in a source, and pairing openers with closers.

use memchr::memmem;

use crate::dialect::{Dialect, Kind, Newline, Part};
use crate::text::{Span, is_blank};

/// No partner: a single tag, or a pair's tag that lacks the other half.
pub const ALONE: u32 = u32::MAX;

/// One piece of template syntax.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Construct {
    /// All of the tag, delimiters included; of a comment pair everything.
    pub span: Span,
    /// What it does.
    pub kind: Kind,
    /// Which tag of its form it is.
    pub part: Part,
    /// The target's name, without quotes; empty if there is none.
    pub target: Span,
    /// The block's or value's name; empty if there is none.
    pub name: Span,
    /// The expression, the arguments or the text; empty if there are none.
    pub expr: Span,
    /// The target is an expression.
    pub dynamic: bool,
    /// For an opener the closer, for a closer or branch the opener, else [`ALONE`].
    pub partner: u32,
    /// White space around the tag that goes with it: trim marks and line ends.
    pub reach: Span,
    /// Index of the form, or the first of several that share this closer.
    form: u16,
}

/// Something about the syntax that cannot be right.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SyntaxError {
    /// Where.
    pub span: Span,
    /// What is wrong.
    pub message: String,
}

/// The constructs of one source, in order, never overlapping.
#[derive(Clone, Debug, Default)]
pub struct Constructs {
    /// Sorted by place.
    pub items: Vec<Construct>,
    /// What could not be paired.
    pub errors: Vec<SyntaxError>,
}

impl Constructs {
    /// Reads the constructs of `source` in `dialect`. Any input is fine.
    pub fn read(source: &[u8], dialect: &Dialect) -> Self {
        let mut found = Self::default();
        scan(source, dialect, &mut found);
        pair(source, dialect, &mut found);
        reach(source, dialect, &mut found.items);
        found
    }

    /// The first construct that does not end before `offset`.
    pub fn from(&self, offset: u32) -> usize {
        self.items.partition_point(|item| item.span.end <= offset)
    }
}

fn scan(source: &[u8], dialect: &Dialect, found: &mut Constructs) {
    let Some(delimiters) = &dialect.delimiters else {
        return;
    };
    let mut at = 0;
    // A delimiter that opens again and again but never closes must not cost a search each time.
    let mut last_tail: Vec<(Vec<u8>, Option<usize>)> = Vec::new();
    while let Some(hit) = delimiters.find(aho_corasick::Input::new(source).range(at..)) {
        at = hit.start() + 1;
        for candidate in &dialect.candidates[hit.pattern().as_usize()] {
            let tail = candidate.pattern.tail();
            let last = match last_tail.iter().find(|(known, _)| known == tail) {
                Some((_, last)) => *last,
                None => {
                    let last = memmem::rfind(source, tail);
                    last_tail.push((tail.to_vec(), last));
                    last
                }
            };
            if !tail.is_empty() && last.is_none_or(|last| last < hit.start()) {
                continue;
            }
            let Some((end, captures)) = candidate.pattern.read(source, hit.start(), &dialect.marks) else {
                continue;
            };
            let mut construct = Construct {
                span: Span::from_range(hit.start()..end),
                kind: candidate.kind,
                part: candidate.part,
                target: captures.target,
                name: captures.name,
                expr: captures.expr,
                dynamic: candidate.dynamic,
                partner: ALONE,
                reach: Span::new(hit.start() as u32, end as u32),
                form: candidate.forms[0],
            };
            trim(source, &mut construct, captures.trim_left, captures.trim_right);
            if captures.exact {
                construct.form |= EXACT;
            }
            at = end;
            found.items.push(construct);
            if construct.part == Part::Open && matches!(construct.kind, Kind::Verbatim | Kind::Comment) {
                at = inert(source, dialect, found, end);
            }
            break;
        }
    }
}

/// Set in `form` while the line rule is still to be applied.
const EXACT: u16 = 1 << 15;

/// Passes over the content of a verbatim region or comment pair; gives where to go on.
fn inert(source: &[u8], dialect: &Dialect, found: &mut Constructs, from: usize) -> usize {
    let Some(&opener) = found.items.last() else {
        return from;
    };
    let form = &dialect.forms[(opener.form & !EXACT) as usize];
    let mut at = from;
    while at < source.len() {
        let closers =
            form.close.iter().filter_map(|close| Some((at + memmem::find(&source[at..], close.lead())?, close)));
        let Some((start, _)) = closers.min_by_key(|(start, _)| *start) else {
            break;
        };
        let read = |close: &crate::dialect::Pattern| close.read(source, start, &dialect.marks);
        if let Some((end, captures)) = form.close.iter().find_map(read) {
            if opener.kind == Kind::Comment {
                if let Some(whole) = found.items.last_mut() {
                    whole.part = Part::Single;
                    whole.span.end = end as u32;
                    whole.reach.end = whole.reach.end.max(end as u32);
                }
                return end;
            }
            let span = Span::from_range(start..end);
            let mut closer = Construct { span, reach: span, part: Part::Close, ..opener };
            closer.form &= !EXACT;
            trim(source, &mut closer, captures.trim_left, captures.trim_right);
            found.items.push(closer);
            return end;
        }
        at = start + 1;
    }
    from
}

fn trim(source: &[u8], construct: &mut Construct, left: bool, right: bool) {
    let Span { start, end } = construct.span;
    if left {
        let blanks = source[..start as usize].iter().rev().take_while(|&&b| is_blank(b)).count();
        construct.reach.start = start - blanks as u32;
    }
    if right {
        let blanks = source[end as usize..].iter().take_while(|&&b| is_blank(b)).count();
        construct.reach.end = end + blanks as u32;
    }
}

/// Gives every opener its closer; what is left over is an error.
fn pair(source: &[u8], dialect: &Dialect, found: &mut Constructs) {
    let mut open: Vec<u32> = Vec::new();
    for index in 0..found.items.len() {
        let item = found.items[index];
        match item.part {
            Part::Single => {}
            Part::Open => open.push(index as u32),
            Part::Branch => match open.last() {
                Some(&opener) if fits(source, dialect, &found.items[opener as usize], &item) => {
                    found.items[index].partner = opener;
                }
                _ => found.errors.push(error(source, item.span, "stands outside the pair that it divides")),
            },
            Part::Close => {
                let fitting = |&opener: &u32| fits(source, dialect, &found.items[opener as usize], &item);
                // A closer reaches over at most this many unclosed openers.
                let Some(depth) = open.iter().rev().take(64).position(fitting) else {
                    found.errors.push(error(source, item.span, "closes nothing"));
                    continue;
                };
                for unclosed in open.split_off(open.len() - depth) {
                    found.errors.push(error(source, found.items[unclosed as usize].span, "is never closed"));
                }
                if let Some(opener) = open.pop() {
                    found.items[index].partner = opener;
                    found.items[opener as usize].partner = index as u32;
                    found.items[index].kind = found.items[opener as usize].kind;
                }
            }
        }
    }
    for unclosed in open {
        found.errors.push(error(source, found.items[unclosed as usize].span, "is never closed"));
    }
    found.errors.sort_by_key(|error| error.span);
}

fn error(source: &[u8], span: Span, what: &str) -> SyntaxError {
    SyntaxError { span, message: format!("`{}` {what}", span.text(source)) }
}

/// Whether `part` may divide or close the pair that `opener` opens.
fn fits(source: &[u8], dialect: &Dialect, opener: &Construct, part: &Construct) -> bool {
    let form = &dialect.forms[(opener.form & !EXACT) as usize];
    let patterns = if part.part == Part::Close { &form.close } else { &form.branch };
    let shown = part.span.of(source);
    let named = part.part != Part::Close || part.name.is_empty() || part.name.of(source) == opener.name.of(source);
    named
        && patterns
            .iter()
            .any(|pattern| pattern.read(shown, 0, &dialect.marks).is_some_and(|(end, _)| end == shown.len()))
}

/// Lets line ends go with the tags by the dialect's rule. Only tags that never
/// reach the page take white space with them; the others stay as they are.
fn reach(source: &[u8], dialect: &Dialect, items: &mut [Construct]) {
    match dialect.rules.newline {
        Newline::Kept | Newline::Unknown => {}
        Newline::Eaten => {
            for item in items.iter_mut().filter(|item| !item.kind.prints() && item.form & EXACT == 0) {
                let end = item.span.end as usize;
                item.reach.end = item.reach.end.max((end + line_end(&source[end..])) as u32);
            }
        }
        Newline::Line => whole_lines(source, items),
    }
    for item in items {
        item.form &= !EXACT;
    }
}

/// A line that holds nothing but tags and blanks goes as a whole.
fn whole_lines(source: &[u8], items: &mut [Construct]) {
    let mut first = 0;
    while first < items.len() {
        let start = source[..items[first].span.start as usize].iter().rposition(|&b| b == b'\n').map_or(0, |at| at + 1);
        let mut alone = source[start..items[first].span.start as usize].iter().all(|&b| is_blank(b));
        let mut next = first;
        let mut end = items[first].span.end as usize;
        loop {
            alone &= items[next].kind.resolved() && items[next].form & EXACT == 0;
            alone &= !source[items[next].span.range()].contains(&b'\n');
            next += 1;
            let gap = items.get(next).map_or(&source[end..], |item| &source[end..item.span.start as usize]);
            let line = memchr::memchr(b'\n', gap);
            let inside = &gap[..line.unwrap_or(gap.len())];
            alone &= inside.iter().all(|&b| is_blank(b));
            if line.is_some() || next == items.len() {
                end += line.map_or(inside.len(), |at| at + 1);
                break;
            }
            end = items[next].span.end as usize;
        }
        if alone {
            let mut before = start as u32;
            for index in first..next {
                items[index].reach.start = items[index].reach.start.min(before);
                before = items[index].span.end;
            }
            let last = &mut items[next - 1];
            last.reach.end = last.reach.end.max(end as u32);
        }
        first = next;
    }
}

/// Length of the line end at the start of `rest`: 0, 1 or 2 bytes.
fn line_end(rest: &[u8]) -> usize {
    match rest {
        [b'\r', b'\n', ..] => 2,
        [b'\n', ..] => 1,
        _ => 0,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect::builtin_named;

    #[track_caller]
    fn read(dialect: &str, source: &str) -> Constructs {
        Constructs::read(source.as_bytes(), &builtin_named(dialect).expect("a built-in dialect"))
    }

    /// The source without the reach of its tags: what flattening would leave.
    #[track_caller]
    fn check_reach(dialect: &str, source: &str, left: &str) {
        let mut out = String::new();
        let mut at = 0;
        for item in &read(dialect, source).items {
            out.push_str(&source[at..(item.reach.start as usize).max(at)]);
            at = item.reach.end as usize;
        }
        out.push_str(&source[at..]);
        assert_eq!(out, left, "{source:?}");
    }

    #[test]
    fn pairs_are_found_and_leftovers_named() {
        let found = read(
            "brace-percent",
            "{% block a %}{% if x %}1{% else %}2{% endif %}{% endblock a %}{% endfor %}{% block b %}",
        );
        let partners: Vec<_> = found.items.iter().map(|item| item.partner).collect();
        assert_eq!(partners, [4, 3, 1, 1, 0, ALONE, ALONE]);
        let messages: Vec<_> = found.errors.iter().map(|error| error.message.as_str()).collect();
        assert_eq!(messages, ["`{% endfor %}` closes nothing", "`{% block b %}` is never closed"]);
    }

    #[test]
    fn verbatim_and_comments_hide_constructs() {
        let found = read("brace-percent", "{% raw %}{{ x }}{% block a %}{% endraw %}{# {% block b %} #}{{ y }}");
        let kinds: Vec<_> = found.items.iter().map(|item| item.kind).collect();
        assert_eq!(kinds, [Kind::Verbatim, Kind::Verbatim, Kind::Comment, Kind::Output]);
        assert!(found.errors.is_empty());
    }

    #[test]
    fn a_tag_alone_on_its_line_takes_the_line() {
        check_reach("margin", "a\n  <!--: partial x -->  \r\nb", "a\nb");
        check_reach("margin", "a\n  <!--: block x --> <!--: end x -->\nb\n", "a\nb\n");
        check_reach("margin", "a <!--: partial x -->\nb", "a \nb");
        check_reach("margin", "  <!--: block x -->y\n", "  y\n");
        check_reach("margin", "a\n  <!--:= partial x -->\nb", "a\n  \nb");
        check_reach("margin", "<!--: partial x -->", "");
        check_reach("brace-percent", "a \n{%- block x -%} \n y{% endblock %}\n", "ay\n");
    }

    #[test]
    fn dynamic_targets_are_seen_as_such() {
        let found = read("brace-percent", "{% extends base ~ '.html' %}{% include 'a' ~ b %}{% include 'a' with b %}");
        let dynamic: Vec<_> = found.items.iter().map(|item| (item.kind, item.dynamic)).collect();
        assert_eq!(dynamic[0], (Kind::Parent, true));
        assert_eq!(dynamic[2], (Kind::Include, false));
    }
}
