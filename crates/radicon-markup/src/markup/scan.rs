//! Finding a dialect's tags in a source, and pairing openers with closers.

use memchr::memmem;

use super::construct::{Construct, ConstructId, Inside, bare};
use super::constructs::{Constructs, Fault, SyntaxError};
use super::{header, within};
use crate::dialect::{Captures, Dialect, Kind, Marks, Newline, Part, Pattern};
use crate::text::{Span, is_blank, line_start};

/// The facts about a construct while reading.
#[derive(Clone, Copy)]
struct Tag<'d> {
    /// The forms it may belong to.
    forms: &'d [u16],
    /// The line rule does not hold for it.
    exact: bool,
}

/// A pair that is closed by the balance of its brackets.
struct Bracket<'d> {
    form: &'d [u16],
    brackets: (u8, u8),
    depth: usize,
}

pub(super) struct Scan<'s> {
    source: &'s [u8],
    dialect: &'s Dialect,
    found: Constructs,
    /// One for each construct.
    tags: Vec<Tag<'s>>,
    /// Open pairs that are closed by balance, outermost first.
    brackets: Vec<Bracket<'s>>,
    /// How far brackets were counted.
    counted: usize,
    /// Forms of the dialect may be inside its other tags.
    holds_others: bool,
}

impl<'s> Scan<'s> {
    /// The tags of a source, in order, not paired yet.
    pub fn of(source: &'s [u8], dialect: &'s Dialect) -> Self {
        let mut scan = Self {
            source,
            dialect,
            found: Constructs::default(),
            tags: Vec::new(),
            brackets: Vec::new(),
            counted: 0,
            holds_others: dialect.within().next().is_some(),
        };
        let start = header::read(source, dialect).map_or(0, |(items, end)| {
            scan.add_all(items);
            end
        });
        scan.find(start);
        scan
    }

    /// The tags so far.
    pub fn found(&self) -> &Constructs {
        &self.found
    }

    /// Keeps these of the tags alone.
    pub fn keep(&mut self, which: &[bool]) {
        let mut keep = which.iter();
        self.found.items.retain(|_| keep.next() == Some(&true));
        let mut keep = which.iter();
        self.tags.retain(|_| keep.next() == Some(&true));
    }

    /// The tags in pairs, with the whitespace that goes with them.
    pub fn paired(mut self) -> Constructs {
        self.pair();
        self.reach();
        self.found
    }

    /// Finds every construct from a place on.
    fn find(&mut self, start: usize) {
        let (source, dialect) = (self.source, self.dialect);
        let Some(delimiters) = &dialect.delimiters else { return };
        // A delimiter that opens again and again but never closes must not cost a search each time.
        let mut last_tails: Vec<(&[u8], usize)> = Vec::new();
        let mut at = start;
        while let Some(hit) = delimiters.find(aho_corasick::Input::new(source).range(at..)) {
            self.count_brackets(hit.start());
            if self.counted > hit.start() {
                at = self.counted;
                continue;
            }
            at = hit.start() + 1;
            let word = after_marks(&source[hit.end()..], &dialect.marks);
            for &index in &dialect.candidates[hit.pattern().as_usize()] {
                let tag = &dialect.tags[index as usize];
                // A shorter delimiter of the same beginning leaves more to compare.
                if tag.pattern.lead().len() == hit.len() && !word.starts_with(&tag.word) {
                    continue;
                }
                let tail = tag.pattern.tail();
                let known = last_tails.iter().find(|(known, _)| *known == tail).map(|(_, last)| *last);
                let last = known.unwrap_or_else(|| {
                    let last = memmem::rfind(source, tail).map_or(0, |last| last + 1);
                    last_tails.push((tail, last));
                    last
                });
                if last <= hit.start() {
                    continue;
                }
                let behind_tag = self.found.items.last().is_some_and(|item| item.span.end as usize == hit.start());
                let read = tag.pattern.read_behind(behind_tag, source, hit.start(), &dialect.marks);
                let Some((end, captures)) = read else {
                    continue;
                };
                self.push(index, hit.start()..end, &captures);
                at = end;
                let form = &dialect.forms[tag.forms[0] as usize];
                if tag.part == Part::Open && matches!(form.kind, Kind::Verbatim | Kind::Comment) {
                    at = self.inert(end);
                } else if let Some(brackets) = form.balanced.filter(|_| tag.part == Part::Open) {
                    self.brackets.push(Bracket { form: &tag.forms[..1], brackets, depth: 0 });
                }
                self.counted = at;
                break;
            }
        }
        self.count_brackets(source.len());
    }

    fn push(&mut self, index: u16, range: std::ops::Range<usize>, captures: &Captures) {
        let tag = &self.dialect.tags[index as usize];
        let span = Span::from_range(range);
        let mut construct = Construct {
            span,
            kind: self.dialect.forms[tag.forms[0] as usize].kind,
            part: tag.part,
            target: captures.target,
            name: captures.name,
            value: captures.value,
            expr: captures.expr,
            dynamic: tag.dynamic,
            partner: None,
            reach: span,
            marks: captures.marks,
            inside: Inside::Nothing,
            form: tag.forms[0],
            tag: index,
        };
        trim(self.source, &mut construct);
        self.found.items.push(construct);
        self.tags.push(Tag { forms: &tag.forms, exact: captures.exact });
        let may_hold = tag.part == Part::Single
            && matches!(construct.kind, Kind::Output | Kind::Other | Kind::Code | Kind::Set)
            && self.holds_others;
        if may_hold {
            self.split(&tag.pattern);
        }
    }

    /// Splits the last tag where forms are in it that may be within others.
    fn split(&mut self, pattern: &Pattern) {
        let Some(tag) = self.found.items.last().copied() else { return };
        let (lead, tail) = (pattern.lead().len() as u32, pattern.tail().len() as u32);
        let [left, right] = tag.marks.map(|mark| mark.len() as u32);
        let code = Span::new(tag.span.start + lead + left, tag.span.end.saturating_sub(tail + right));
        let pieces = within::split(self.source, self.dialect, &tag, code);
        if !pieces.is_empty() {
            self.found.items.pop();
            self.tags.pop();
            self.add_all(pieces);
        }
    }

    /// Adds constructs that are read by other means than their delimiters.
    fn add_all(&mut self, items: Vec<Construct>) {
        for item in items {
            self.found.items.push(item);
            self.tags.push(Tag { forms: &self.dialect.form_ids[item.form as usize..=item.form as usize], exact: true });
        }
    }

    /// Counts the brackets of open pairs up to a place; what closes or divides
    /// such a pair becomes a construct.
    fn count_brackets(&mut self, to: usize) {
        let (source, dialect) = (self.source, self.dialect);
        while let Some(bracket) = self.brackets.last_mut().filter(|_| self.counted < to) {
            let (open, close) = bracket.brackets;
            let Some(at) = memchr::memchr2(open, close, &source[self.counted..to]).map(|at| at + self.counted) else {
                break;
            };
            self.counted = at + 1;
            if source[at] == open {
                bracket.depth += 1;
                continue;
            }
            if bracket.depth > 0 {
                bracket.depth -= 1;
                continue;
            }
            let forms = bracket.form;
            let branches = dialect.forms[forms[0] as usize].branch.iter();
            let branch =
                branches.filter_map(|branch| branch.read(source, at, &dialect.marks)).max_by_key(|(end, _)| *end);
            let end = branch.map_or(at + 1, |(end, _)| end);
            let span = Span::from_range(at..end);
            let kind = dialect.forms[forms[0] as usize].kind;
            let part = if branch.is_some() { Part::Branch } else { Part::Close };
            let expr = branch.map_or(Span::default(), |(_, captures)| captures.expr);
            self.found.items.push(Construct { kind, part, expr, form: forms[0], ..bare(span) });
            self.tags.push(Tag { forms, exact: false });
            self.counted = end;
            if branch.is_none() {
                self.brackets.pop();
            }
        }
        self.counted = self.counted.max(to);
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
            let mut closer = Construct { kind: opener.kind, part: Part::Close, form: opener.form, ..bare(span) };
            closer.marks = captures.marks;
            trim(source, &mut closer);
            self.found.items.push(closer);
            self.tags.push(Tag { exact: captures.exact, ..tag });
            return end;
        }
        from
    }

    /// Gives every opener its closer; what is left over is an error.
    fn pair(&mut self) {
        let mut open: Vec<ConstructId> = Vec::new();
        let mut errors = Vec::new();
        for index in ConstructId::all(self.found.items.len()) {
            let item = self.found.items[index];
            match item.part {
                Part::Single | Part::Attribute => {}
                Part::Open => open.push(index),
                Part::Branch => match open.last() {
                    Some(&opener) if self.fits(opener, index) => self.found.items[index].partner = Some(opener),
                    _ => errors.push((index, Fault::Outside)),
                },
                Part::Close => {
                    // A closer reaches over at most this many unclosed openers.
                    let reached = open.iter().rev().take(64);
                    let Some(depth) = reached.clone().position(|&opener| self.fits(opener, index)) else {
                        errors.push((index, Fault::ClosesNothing));
                        continue;
                    };
                    errors.extend(open.split_off(open.len() - depth).into_iter().map(|open| (open, Fault::Unclosed)));
                    if let Some(opener) = open.pop() {
                        self.join(opener, index);
                    }
                }
            }
        }
        errors.extend(open.into_iter().map(|open| (open, Fault::Unclosed)));
        errors.sort_unstable();
        let error = |(index, fault): (ConstructId, Fault)| {
            let span = self.found.items[index].span;
            SyntaxError { span, fault, message: format!("`{}` {}", span.text(self.source), fault.words()) }
        };
        self.found.errors = errors.into_iter().map(error).collect();
    }

    /// Makes an opener and a closer a pair. The closer decides what an opener of several forms is.
    fn join(&mut self, opener: ConstructId, closer: ConstructId) {
        let shared = |form: &&u16| self.tags[closer.index()].forms.contains(form);
        let form = self.tags[opener.index()].forms.iter().find(shared).copied().unwrap_or_default();
        let kind = self.dialect.forms[form as usize].kind;
        for (index, partner) in [(opener, closer), (closer, opener)] {
            let item = &mut self.found.items[index];
            (item.partner, item.form, item.kind) = (Some(partner), form, kind);
        }
    }

    /// Whether the tag at `part` may divide or close the pair that the one at `opener` opens.
    fn fits(&self, opener: ConstructId, part: ConstructId) -> bool {
        let (from, to) = (&self.found.items[opener], &self.found.items[part]);
        let named =
            to.part != Part::Close || to.name.is_empty() || to.name.of(self.source) == from.name.of(self.source);
        named && self.tags[opener.index()].forms.iter().any(|form| self.tags[part.index()].forms.contains(form))
    }

    /// Lets line ends go with the tags by the dialect's rule. Only tags that
    /// never reach the page take whitespace with them; the others stay as they are.
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
        for item in self.found.items.iter_mut().filter(|item| item.kind.resolved()) {
            let form = &self.dialect.forms[item.form as usize];
            if form.line || form.header.is_some() {
                item.reach = whole_line(self.source, item.span);
            }
        }
    }
}

/// A place with all of its line, the line end included.
fn whole_line(source: &[u8], span: Span) -> Span {
    let start = line_start(source, span.start as usize);
    let end = memchr::memchr(b'\n', &source[span.end as usize..]);
    Span::from_range(start..end.map_or(source.len(), |at| span.end as usize + at + 1))
}

/// The text after an opening delimiter, its marks and whitespace.
fn after_marks<'s>(rest: &'s [u8], marks: &Marks) -> &'s [u8] {
    let mark = marks.trim.iter().chain(&marks.exact).find(|mark| rest.starts_with(mark));
    let rest = &rest[mark.map_or(0, Vec::len)..];
    let blanks = rest.iter().take_while(|&&b| is_blank(b)).count();
    &rest[blanks..]
}

fn trim(source: &[u8], construct: &mut Construct) {
    let Span { start, end } = construct.span;
    let [left, right] = construct.marks.map(|mark| !mark.is_empty());
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
        let start = line_start(source, items[first].span.start as usize);
        let mut alone = source[start..items[first].span.start as usize].iter().all(|&b| is_blank(b));
        let mut next = first;
        let mut end = items[first].span.end as usize;
        loop {
            let kind = items[next].kind;
            alone &= (kind.resolved() || matches!(kind, Kind::Set | Kind::Import)) && !tags[next].exact;
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
