//! Finding a dialect's constructs in a source, and pairing openers with closers.

use memchr::memmem;

use crate::dialect::{Candidate, Captures, Dialect, Kind, Marks, Newline, Part};
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
        let mut scan = Scan { source, dialect, found: Self::default(), tags: Vec::new() };
        scan.find();
        scan.pair();
        scan.reach();
        scan.found
    }
}

/// What is known of a construct while reading.
#[derive(Clone, Copy)]
struct Tag<'d> {
    /// The forms it may belong to.
    forms: &'d [u16],
    /// The line rule does not hold for it.
    exact: bool,
}

struct Scan<'s> {
    source: &'s [u8],
    dialect: &'s Dialect,
    found: Constructs,
    /// One for each construct.
    tags: Vec<Tag<'s>>,
}

impl<'s> Scan<'s> {
    /// Finds every construct.
    fn find(&mut self) {
        let (source, dialect) = (self.source, self.dialect);
        let Some(delimiters) = &dialect.delimiters else { return };
        // A delimiter that opens again and again but never closes must not cost a search each time.
        let mut last_tails: Vec<(&[u8], usize)> = Vec::new();
        let mut at = 0;
        while let Some(hit) = delimiters.find(aho_corasick::Input::new(source).range(at..)) {
            at = hit.start() + 1;
            let word = after_marks(&source[hit.end()..], &dialect.marks);
            let fitting = dialect.candidates[hit.pattern().as_usize()].iter().filter(|candidate| {
                // A shorter delimiter of the same beginning leaves more to compare.
                candidate.pattern.lead().len() != hit.len() || word.starts_with(&candidate.word)
            });
            for candidate in fitting {
                let tail = candidate.pattern.tail();
                let known = last_tails.iter().find(|(known, _)| *known == tail).map(|(_, last)| *last);
                let last = known.unwrap_or_else(|| {
                    let last = memmem::rfind(source, tail).map_or(0, |last| last + 1);
                    last_tails.push((tail, last));
                    last
                });
                if last <= hit.start() {
                    continue;
                }
                let Some((end, captures)) = candidate.pattern.read(source, hit.start(), &dialect.marks) else {
                    continue;
                };
                self.push(candidate, hit.start()..end, &captures);
                at = end;
                if candidate.part == Part::Open && matches!(candidate.kind, Kind::Verbatim | Kind::Comment) {
                    at = self.inert(end);
                }
                break;
            }
        }
    }

    fn push(&mut self, candidate: &'s Candidate, range: std::ops::Range<usize>, captures: &Captures) {
        let span = Span::from_range(range);
        let mut construct = Construct {
            span,
            kind: candidate.kind,
            part: candidate.part,
            target: captures.target,
            name: captures.name,
            expr: captures.expr,
            dynamic: candidate.dynamic,
            partner: ALONE,
            reach: span,
        };
        trim(self.source, &mut construct, captures.trim_left, captures.trim_right);
        self.found.items.push(construct);
        self.tags.push(Tag { forms: &candidate.forms, exact: captures.exact });
    }

    /// Passes over the content of a verbatim region or comment pair; gives where to go on.
    fn inert(&mut self, from: usize) -> usize {
        let (source, dialect) = (self.source, self.dialect);
        let (Some(&opener), Some(&tag)) = (self.found.items.last(), self.tags.last()) else { return from };
        let form = &dialect.forms[tag.forms[0] as usize];
        let mut at = from;
        while at < source.len() {
            let leads = form.close.iter().filter_map(|close| Some(at + memmem::find(&source[at..], close.lead())?));
            let Some(start) = leads.min() else { break };
            let Some((end, captures)) = form.close.iter().find_map(|close| close.read(source, start, &dialect.marks))
            else {
                at = start + 1;
                continue;
            };
            if let Some(whole) = self.found.items.last_mut().filter(|_| opener.kind == Kind::Comment) {
                whole.part = Part::Single;
                whole.span.end = end as u32;
                whole.reach.end = whole.reach.end.max(end as u32);
                return end;
            }
            let span = Span::from_range(start..end);
            let mut closer = Construct { span, reach: span, part: Part::Close, ..opener };
            trim(source, &mut closer, captures.trim_left, captures.trim_right);
            self.found.items.push(closer);
            self.tags.push(Tag { exact: captures.exact, ..tag });
            return end;
        }
        from
    }

    /// Gives every opener its closer; what is left over is an error.
    fn pair(&mut self) {
        let mut open: Vec<u32> = Vec::new();
        let mut errors = Vec::new();
        for index in 0..self.found.items.len() {
            let item = self.found.items[index];
            match item.part {
                Part::Single => {}
                Part::Open => open.push(index as u32),
                Part::Branch => match open.last() {
                    Some(&opener) if self.fits(opener as usize, index) => self.found.items[index].partner = opener,
                    _ => errors.push((index, "stands outside the pair that it divides")),
                },
                Part::Close => {
                    // A closer reaches over at most this many unclosed openers.
                    let reached = open.iter().rev().take(64);
                    let Some(depth) = reached.clone().position(|&opener| self.fits(opener as usize, index)) else {
                        errors.push((index, "closes nothing"));
                        continue;
                    };
                    errors.extend(
                        open.split_off(open.len() - depth).into_iter().map(|open| (open as usize, "is never closed")),
                    );
                    if let Some(opener) = open.pop() {
                        self.found.items[opener as usize].partner = index as u32;
                        self.found.items[index].partner = opener;
                        self.found.items[index].kind = self.found.items[opener as usize].kind;
                    }
                }
            }
        }
        errors.extend(open.into_iter().map(|open| (open as usize, "is never closed")));
        errors.sort_unstable();
        let error = |(index, what): (usize, &str)| {
            let span = self.found.items[index].span;
            SyntaxError { span, message: format!("`{}` {what}", span.text(self.source)) }
        };
        self.found.errors = errors.into_iter().map(error).collect();
    }

    /// Whether the tag at `part` may divide or close the pair that the one at `opener` opens.
    fn fits(&self, opener: usize, part: usize) -> bool {
        let (from, to) = (&self.found.items[opener], &self.found.items[part]);
        let named =
            to.part != Part::Close || to.name.is_empty() || to.name.of(self.source) == from.name.of(self.source);
        named && self.tags[opener].forms.iter().any(|form| self.tags[part].forms.contains(form))
    }

    /// Lets line ends go with the tags by the dialect's rule. Only tags that
    /// never reach the page take white space with them; the others stay as they are.
    fn reach(&mut self) {
        match self.dialect.rules.newline {
            Newline::Kept | Newline::Unknown => {}
            Newline::Eaten => {
                for (item, tag) in self.found.items.iter_mut().zip(&self.tags) {
                    if !item.kind.prints() && !tag.exact {
                        let end = item.span.end as usize;
                        item.reach.end = item.reach.end.max((end + line_end(&self.source[end..])) as u32);
                    }
                }
            }
            Newline::Line => whole_lines(self.source, &mut self.found.items, &self.tags),
        }
    }
}

/// What follows an opening delimiter, its marks and white space.
fn after_marks<'s>(rest: &'s [u8], marks: &Marks) -> &'s [u8] {
    let mark = marks.trim.iter().chain(&marks.exact).find(|mark| rest.starts_with(mark));
    let rest = &rest[mark.map_or(0, Vec::len)..];
    let blanks = rest.iter().take_while(|&&b| is_blank(b)).count();
    &rest[blanks..]
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

/// A line that holds nothing but tags and blanks goes as a whole.
fn whole_lines(source: &[u8], items: &mut [Construct], tags: &[Tag<'_>]) {
    let mut first = 0;
    while first < items.len() {
        let start = source[..items[first].span.start as usize].iter().rposition(|&b| b == b'\n').map_or(0, |at| at + 1);
        let mut alone = source[start..items[first].span.start as usize].iter().all(|&b| is_blank(b));
        let mut next = first;
        let mut end = items[first].span.end as usize;
        loop {
            alone &= items[next].kind.resolved() && !tags[next].exact;
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
            for item in &mut items[first..next] {
                item.reach.start = item.reach.start.min(before);
                before = item.span.end;
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
