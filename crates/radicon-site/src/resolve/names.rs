//! Which binding each name of a page reaches.
//!
//! While a page is put together, what binds names is on a stack, with the ends of blocks and included
//! files between. From a use the stack is searched inwards out. Where the dialect does not say whether names
//! are seen beyond such an end, the binding is noted with what it lies after: it is reached by some engines.

use rustc_hash::{FxHashMap, FxHashSet};

use super::arguments::Arguments;
use super::scope::{Given, printed};
use crate::dialect::{Kind, Part, Scope, SetScope};
use crate::markup::{Construct, ConstructId};
use crate::site::{Parent, Site, Template};
use crate::text::{SourceId, Span, is_blank};

/// The facts about two sites that are needed before their pages are put together for a proof.
#[derive(Clone, Debug, Default)]
pub struct ProofContext {
    /// The names that something in either binds.
    names: FxHashSet<Box<[u8]>>,
    /// Names that nothing binds and that are only used in loops: the loop may bind them itself.
    of_loops: FxHashSet<Box<[u8]>>,
    /// The own-file tags of either, as they are written.
    own_file: FxHashSet<Box<[u8]>>,
    /// A layout or an included file is not here: it may use any name.
    is_open: bool,
}

impl ProofContext {
    /// The context of a site and what is made of it.
    pub fn of(sites: [&Site; 2]) -> Self {
        let mut context = Self::default();
        for site in sites {
            context.add(site);
        }
        let Self { names, of_loops, .. } = &mut context;
        of_loops.retain(|name| !names.is_empty() && !names.contains(name));
        context
    }

    fn add(&mut self, site: &Site) {
        // For each name whether it is used outside loops.
        let mut used: FxHashMap<Box<[u8]>, bool> = FxHashMap::default();
        for (id, template) in site.with_ids() {
            let items = &template.constructs.items;
            let links = site.links(id);
            let leads_out = |(at, item): (ConstructId, &Construct)| {
                matches!(item.kind, Kind::Include | Kind::Wrap)
                    && (item.dynamic || matches!(links.target(at), Some(Err(_))))
            };
            self.is_open |= matches!(links.parent, Parent::Dynamic | Parent::Missing(_));
            self.is_open |= ConstructId::each(items).any(leads_out);
            let own_file = site.sure_own_file_tags(id).iter();
            self.own_file.extend(own_file.map(|&at| items[at].span.of(&template.source).into()));
            let mut loops: Vec<ConstructId> = Vec::new();
            for (at, item) in ConstructId::each(items) {
                loops.retain(|&end| at < end);
                let bound = bound_by(template, item);
                if may_use(item) {
                    for name in names_in(item.span.of(&template.source)) {
                        *used.entry(name.into()).or_default() |= loops.is_empty();
                    }
                }
                loops.extend(item.partner.filter(|_| is_loop(item, &bound)));
                self.names.extend(bound.into_iter().map(Into::into));
            }
        }
        self.of_loops.extend(used.into_iter().filter(|(_, outside)| !outside).map(|(name, _)| name));
    }

    /// Whether nothing is bound and nothing speaks for its own file: pages show all that they mean.
    pub fn is_empty(&self) -> bool {
        self.names.is_empty() && self.own_file.is_empty()
    }
}

/// A binding that a name reaches.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Reached {
    /// Which one: the same in two pages whose tags are the same.
    binding: u64,
    /// The ends that it lies after.
    pub behind: Behind,
}

/// The ends beyond which names are seen in some engines only.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord)]
pub struct Behind(u8);

impl Behind {
    /// An override uses what is bound around its block.
    pub const BLOCK: Self = Self(1);
    /// An included file uses what is bound where it is included.
    pub const INCLUDE: Self = Self(2);
    /// A layout uses what a child sets outside its blocks.
    pub const CHILD: Self = Self(4);
    /// What was set inside a block is used after it.
    pub const END_OF_BLOCK: Self = Self(8);
    /// What was set inside an included file is used after it.
    pub const END_OF_INCLUDE: Self = Self(16);

    const fn with(self, other: Self) -> Self {
        Self(self.0 | other.0)
    }

    const fn without(self, other: Self) -> Self {
        Self(self.0 & !other.0)
    }

    /// Whether any of another's are among these.
    pub const fn has(self, other: Self) -> bool {
        self.0 & other.0 != 0
    }
}

/// A construct that stays in a page.
#[derive(Clone, Debug)]
pub struct Kept {
    /// Its place in the page.
    pub at: u32,
    /// The template that has it.
    pub source: SourceId,
    /// Its number there.
    pub construct: ConstructId,
    /// For each of its names that something binds: where it is, and what it reaches, the nearest first.
    pub names: Vec<(Span, Vec<Reached>)>,
    /// The places of the names that it binds for its content, or sets.
    pub own_names: Vec<Span>,
    /// It prints what an include gives: the name that is written, and what is read for it.
    pub given: Option<(Span, Given)>,
    /// The name that it sets, if it does nothing else.
    sets: Option<Box<[u8]>>,
}

/// The place of a binding.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Place {
    /// In a child, outside its blocks.
    Child,
    /// Outside of everything in a file that is put out whole.
    Top,
    /// In a block, or in what a pair holds.
    Inside,
    /// Imported: for its own file alone.
    Import,
}

/// A name that is bound.
#[derive(Debug)]
struct Bound {
    name: Box<[u8]>,
    /// Which binding it is.
    binding: u64,
    source: SourceId,
    place: Place,
    until: Until,
    /// The ends of what it was set in.
    behind: Behind,
    /// It holds wherever it is seen, not only if a condition was met.
    sure: bool,
}

/// How long a binding holds.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Until {
    /// To the end of what it is in, and perhaps after it.
    On,
    /// To the end of its pair.
    Pair(SourceId, ConstructId),
    /// To the end of the included file.
    Include,
}

#[derive(Debug)]
enum Entry {
    Bound(Bound),
    /// A pair that is open, by its opener; one that repeats binds names that are used in loops alone.
    Pair {
        opener: (SourceId, ConstructId),
        binding: u64,
        repeats: bool,
    },
    Block(Scope),
    /// An included file, with the file that includes it; `closed` if it sees no other names.
    Include {
        scope: Scope,
        closed: bool,
        from: SourceId,
    },
    /// The body of a wrap sees what was below.
    Wrapped(usize),
}

/// The stack of bindings while a page is put together.
pub(super) struct Names<'b> {
    context: &'b ProofContext,
    stack: Vec<Entry>,
    kept: Vec<Kept>,
    /// How many tags stay that give no name a value: what numbers those that bind.
    ordinal: u64,
    /// The names that tags of the page use.
    used: FxHashSet<Box<[u8]>>,
}

impl<'b> Names<'b> {
    pub fn new(context: &'b ProofContext) -> Self {
        Self { context, stack: Vec::new(), kept: Vec::new(), ordinal: 0, used: FxHashSet::default() }
    }

    /// How much is on the stack.
    pub fn depth(&self) -> usize {
        self.stack.len()
    }

    /// Whether a tag, as it is written, speaks for its own file alone.
    pub fn is_own_file_tag(&self, text: &[u8]) -> bool {
        self.context.own_file.contains(text)
    }

    /// A construct that stays: its names are looked up, or those of what is `given` for it, then what it binds is
    /// bound.
    pub fn keep(
        &mut self,
        site: &Site,
        (at, source, construct): (u32, SourceId, ConstructId),
        in_child: bool,
        given: Option<Given>,
    ) {
        let item = &site.get(source).constructs.items[construct];
        let mut names = match given {
            Some(given) => self.look_up(site, given.source, given.value, given.depth),
            None if may_use(item) => self.look_up(site, source, item.span, self.depth()),
            None => Vec::new(),
        };
        // What a tag binds it does not use.
        let template = site.get(source);
        let bound = bound_by(template, item);
        let is_bound =
            |span: Span| bound.iter().any(|name| std::ptr::eq(name.as_ptr(), span.of(&template.source).as_ptr()));
        names.retain(|(span, _)| !is_bound(*span));
        self.note_used(given.map_or(template, |given| site.get(given.source)), &names);
        let binding = if item.kind == Kind::Set && item.part == Part::Single {
            let pair = self.stack.iter().rev().find_map(|entry| match entry {
                Entry::Pair { binding, .. } => Some(*binding),
                _ => None,
            });
            let value = hash(item.expr.of(&template.source)) ^ hash(item.value.of(&template.source)).rotate_left(1);
            said(value ^ pair.unwrap_or_default(), &names)
        } else {
            self.ordinal += 1;
            self.ordinal
        };
        if !self.is_value(template, item) {
            let own_names = self.own_names(template, item);
            let sets = is_plain_set(template, item).then(|| item.name.of(&template.source).into());
            let given = given.map(|given| (printed(item), given));
            self.kept.push(Kept { at, source, construct, names, own_names, given, sets });
        }
        self.bind(site, source, construct, binding, in_child);
    }

    /// Whether a tag does nothing but give a value to a name, so that it counts where the name is used, and only
    /// there. What is set in a condition or a loop counts where it is, and so does what calls something.
    fn is_value(&self, template: &Template, item: &Construct) -> bool {
        is_plain_set(template, item)
            && self.sees_all_uses()
            && !self.stack.iter().any(|entry| matches!(entry, Entry::Pair { .. }))
    }

    /// Notes names that a tag uses.
    fn note_used(&mut self, template: &Template, names: &[(Span, Vec<Reached>)]) {
        for (span, _) in names {
            let name = span.of(&template.source);
            if !self.used.contains(name) {
                self.used.insert(name.into());
            }
        }
    }

    /// Whether every file that may use a name is here.
    pub fn sees_all_uses(&self) -> bool {
        !self.context.is_open
    }

    /// The tags that stay in the page, without those that set a name that nothing in it uses.
    pub fn into_kept(self) -> Vec<Kept> {
        let Self { context, used, mut kept, .. } = self;
        kept.retain(|kept| context.is_open || kept.sets.as_ref().is_none_or(|name| used.contains(name)));
        kept
    }

    /// The names that a pair binds for what it holds, or that a tag sets: what they are called does not count, only
    /// who uses them.
    pub fn own_names(&self, template: &Template, item: &Construct) -> Vec<Span> {
        let is_pair = item.kind == Kind::Control && item.part == Part::Open && item.partner.is_some();
        if self.context.is_open || !(is_pair || is_plain_set(template, item)) {
            return Vec::new();
        }
        let start = |name: &[u8]| (name.as_ptr() as usize - template.source.as_ptr() as usize) as u32;
        let names = bound_by(template, item).into_iter();
        names.map(|name| Span::new(start(name), start(name) + name.len() as u32)).collect()
    }

    /// Binds what an import binds: for its own file, and the same wherever its text is.
    pub fn import(&mut self, site: &Site, source: SourceId, construct: ConstructId) {
        let template = site.get(source);
        let item = &template.constructs.items[construct];
        let binding = hash(item.span.of(&template.source));
        for name in bound_by(template, item) {
            self.push(name, binding, source, Place::Import, Until::On);
        }
    }

    fn bind(&mut self, site: &Site, source: SourceId, construct: ConstructId, binding: u64, in_child: bool) {
        let template = site.get(source);
        let item = &template.constructs.items[construct];
        match (item.part, item.partner) {
            (Part::Close, Some(opener)) => return self.close((source, opener)),
            (Part::Close, None) => return,
            (Part::Branch, Some(opener)) => self.branch((source, opener)),
            _ => {}
        }
        if item.kind == Kind::Import {
            return self.import(site, source, construct);
        }
        let names = bound_by(template, item);
        let is_set = item.kind == Kind::Set;
        let place = match in_child {
            true => Place::Child,
            false if self.is_inside() => Place::Inside,
            false => Place::Top,
        };
        if item.part == Part::Open && item.partner.is_some() {
            let (opener, repeats) = ((source, construct), is_loop(item, &names));
            self.stack.push(Entry::Pair { opener, binding, repeats });
        }
        for (number, name) in names.into_iter().enumerate() {
            // A macro's name holds after it, its parameters within it.
            match is_set && number == 0 {
                true if item.part == Part::Open => self.push_below_pair(name, binding, source, place),
                true => self.push(name, binding, source, place, Until::On),
                false => self.push(name, binding, source, Place::Inside, Until::Pair(source, construct)),
            }
        }
    }

    fn push(&mut self, name: &[u8], binding: u64, source: SourceId, place: Place, until: Until) {
        let (name, behind) = (name.into(), Behind::default());
        self.stack.push(Entry::Bound(Bound { name, binding, source, place, until, behind, sure: true }));
    }

    /// Binds the name of the pair that has just begun, so that its end does not make it uncertain.
    fn push_below_pair(&mut self, name: &[u8], binding: u64, source: SourceId, place: Place) {
        let pair = self.stack.pop();
        self.push(name, binding, source, place, Until::On);
        self.stack.extend(pair);
    }

    /// Whether a block or a pair is open since the innermost file began.
    fn is_inside(&self) -> bool {
        let innermost = self.stack.iter().rev().find(|entry| !matches!(entry, Entry::Bound(_)));
        matches!(innermost, Some(Entry::Block(_) | Entry::Wrapped(_) | Entry::Pair { .. }))
    }

    /// Another branch of a pair begins: what was set in those before it may not be set.
    fn branch(&mut self, own: (SourceId, ConstructId)) {
        let is_own = |entry: &Entry| matches!(entry, Entry::Pair { opener, .. } if *opener == own);
        let start = self.stack.iter().rposition(is_own).unwrap_or(self.stack.len());
        for entry in &mut self.stack[start..] {
            if let Entry::Bound(bound) = entry {
                bound.sure &= bound.until != Until::On;
            }
        }
    }

    /// A pair ends: what it bound goes, what was set in it may hold.
    fn close(&mut self, own: (SourceId, ConstructId)) {
        let is_own = |entry: &Entry| matches!(entry, Entry::Pair { opener, .. } if *opener == own);
        let Some(start) = self.stack.iter().rposition(is_own) else { return };
        let inside = self.stack.split_off(start);
        for entry in inside {
            match entry {
                Entry::Bound(bound) if bound.place == Place::Import => self.stack.push(Entry::Bound(bound)),
                Entry::Bound(bound) if bound.until == Until::On => {
                    self.stack.push(Entry::Bound(Bound { sure: false, ..bound }));
                }
                _ => {}
            }
        }
    }

    /// A block's content begins; gives what ends it.
    pub fn enter_block(&mut self, scope: Scope) -> usize {
        self.stack.push(Entry::Block(scope));
        self.stack.len() - 1
    }

    /// An included file begins, with its arguments.
    pub fn enter_include(&mut self, site: &Site, from: SourceId, arguments: &Arguments) -> usize {
        let template = site.get(from);
        let scope = template.dialect.rules.include_scope;
        let mut said = |value: Span| {
            let names = self.look_up(site, from, value, self.depth());
            self.note_used(template, &names);
            said(hash(value.of(&template.source)), &names)
        };
        let bound: Vec<(Span, u64)> =
            arguments.bindings.iter().map(|binding| (binding.name, said(binding.value))).collect();
        let start = self.stack.len();
        self.stack.push(Entry::Include { scope, closed: arguments.only, from });
        for (name, binding) in bound {
            self.push(name.of(&template.source), binding, from, Place::Inside, Until::Include);
        }
        start
    }

    /// The body of a wrap begins.
    pub fn enter_wrapped(&mut self, below: usize) -> usize {
        self.stack.push(Entry::Wrapped(below));
        self.stack.len() - 1
    }

    /// Ends all that began since a place of the stack: some engines see the names set in it after it.
    pub fn leave(&mut self, start: usize) {
        let inside = self.stack.split_off(start.min(self.stack.len()));
        let end = match inside.first() {
            Some(Entry::Include { .. }) => Behind::END_OF_INCLUDE,
            _ => Behind::END_OF_BLOCK,
        };
        for entry in inside {
            match entry {
                Entry::Bound(bound) if bound.place == Place::Import => self.stack.push(Entry::Bound(bound)),
                Entry::Bound(bound) if bound.until == Until::On => {
                    let behind = bound.behind.with(end);
                    self.stack.push(Entry::Bound(Bound { behind, sure: false, place: Place::Inside, ..bound }));
                }
                _ => {}
            }
        }
    }

    /// For each name in a stretch of a file that something binds what it reaches, with so much on the stack.
    fn look_up(&self, site: &Site, source: SourceId, span: Span, depth: usize) -> Vec<(Span, Vec<Reached>)> {
        let template = site.get(source);
        let text = span.of(&template.source);
        let known = |name: &&[u8]| self.context.names.contains(*name) || self.context.of_loops.contains(*name);
        let start = |name: &[u8]| span.start + (name.as_ptr() as usize - text.as_ptr() as usize) as u32;
        let found = names_in(text).filter(known).map(|name| {
            let at = start(name);
            (Span::new(at, at + name.len() as u32), self.reached(site, source, name, depth))
        });
        found.collect()
    }

    /// The bindings that a name in a file may reach, the nearest first, with so much on the stack.
    fn reached(&self, site: &Site, source: SourceId, name: &[u8], depth: usize) -> Vec<Reached> {
        let mut found = Vec::new();
        let (mut file, mut behind, mut closed) = (source, Behind::default(), false);
        let mut at = depth.min(self.stack.len());
        while let Some(entry) = at.checked_sub(1).and_then(|at| self.stack.get(at)) {
            at -= 1;
            match entry {
                Entry::Wrapped(below) => at = at.min(*below),
                Entry::Block(Scope::Shared) => {}
                Entry::Block(Scope::Own) => closed = true,
                Entry::Block(Scope::Unknown) => behind = behind.with(Behind::BLOCK),
                Entry::Include { scope, closed: only, from } => {
                    if *only || closed || *scope == Scope::Own {
                        break;
                    }
                    if *scope == Scope::Unknown {
                        behind = behind.with(Behind::INCLUDE);
                    }
                    file = *from;
                }
                Entry::Pair { binding, repeats, .. } => {
                    if *repeats && !closed && self.context.of_loops.contains(name) {
                        found.push(Reached { binding: *binding, behind });
                        if behind == Behind::default() {
                            break;
                        }
                    }
                }
                Entry::Bound(bound) => {
                    let Some(way) = bound.way(site, name, (source, file), (behind, closed)) else { continue };
                    found.push(Reached { binding: bound.binding, behind: way });
                    if bound.sure && way == Behind::default() {
                        break;
                    }
                }
            }
        }
        found
    }
}

impl Bound {
    /// What it lies after for a use of a name in a file; `None` if it is not reached. The use is in `file`,
    /// or in a file that it includes, after some ends; `closed` if a block does not see what is around it.
    fn way(
        &self,
        site: &Site,
        name: &[u8],
        (source, file): (SourceId, SourceId),
        (behind, closed): (Behind, bool),
    ) -> Option<Behind> {
        if *self.name != *name {
            return None;
        }
        let set_scope = site.get(self.source).dialect.rules.set_scope;
        let way = match self.place {
            Place::Import => return (self.source == source).then(Behind::default),
            Place::Child | Place::Top if self.source == file => behind.without(Behind::BLOCK),
            Place::Child if set_scope == SetScope::Own => return None,
            Place::Child if set_scope == SetScope::Layout => behind.without(Behind::BLOCK),
            Place::Child => behind.without(Behind::BLOCK).with(Behind::CHILD),
            Place::Top | Place::Inside if closed => return None,
            Place::Top | Place::Inside => behind,
        };
        Some(way.with(self.behind))
    }
}

/// A hash of an expression: its text, and the bindings that the names in it reach.
fn said(text: u64, names: &[(Span, Vec<Reached>)]) -> u64 {
    names
        .iter()
        .flat_map(|(_, reached)| reached)
        .fold(text, |said, one| said.rotate_left(7) ^ one.binding.wrapping_mul(31) ^ u64::from(one.behind.0))
        | 1 << 63
}

fn hash(text: &[u8]) -> u64 {
    xxhash_rust::xxh3::xxh3_64(text) | 1 << 63
}

/// Whether a tag gives a value to a name and does nothing else, as far as is seen: what it calls may do more.
fn is_plain_set(template: &Template, item: &Construct) -> bool {
    item.kind == Kind::Set
        && item.part == Part::Single
        && !item.form(&template.dialect).default
        && !item.expr.of(&template.source).contains(&b'(')
}

/// Whether a construct may use names.
fn may_use(item: &Construct) -> bool {
    !matches!(item.kind, Kind::Verbatim | Kind::Comment | Kind::Import) && item.part != Part::Close
}

/// Whether a pair repeats what it holds: it binds a name in it.
fn is_loop(item: &Construct, bound: &[&[u8]]) -> bool {
    matches!(item.kind, Kind::Control | Kind::Other)
        && item.part == Part::Open
        && item.partner.is_some()
        && !bound.is_empty()
}

/// The names that a construct binds; of a macro its own, then its parameters.
pub fn bound_by<'t>(template: &'t Template, item: &Construct) -> Vec<&'t [u8]> {
    let source = &template.source[..];
    let expr = item.expr.of(source);
    match item.kind {
        Kind::Set if item.part == Part::Close => Vec::new(),
        Kind::Set if item.part == Part::Open => {
            std::iter::once(item.name.of(source)).chain(parameters(expr)).filter(|name| !name.is_empty()).collect()
        }
        Kind::Set => Some(item.name.of(source)).filter(|name| !name.is_empty()).into_iter().collect(),
        Kind::Import => {
            let alias = item.name.of(source);
            if alias.is_empty() { names_in(expr).collect() } else { vec![alias] }
        }
        Kind::Include | Kind::Wrap => {
            let arguments = Arguments::read(source, item.expr, &template.dialect.rules);
            arguments.bindings.iter().map(|binding| binding.name.of(source)).collect()
        }
        Kind::Control | Kind::Other if item.part != Part::Close => bound_in(expr),
        _ => Vec::new(),
    }
}

/// The names before their defaults in a list of parameters.
fn parameters(expr: &[u8]) -> impl Iterator<Item = &[u8]> {
    expr.split(|b| *b == b',').filter_map(|one| names_in(one).next())
}

/// The names that an expression binds: before `in`, after `as`, between bars at its end, before a single `=`.
fn bound_in(expr: &[u8]) -> Vec<&[u8]> {
    let word = |wanted: &[u8]| names_in(expr).find(|name| *name == wanted);
    let place = |name: &[u8]| name.as_ptr() as usize - expr.as_ptr() as usize;
    if let Some(word) = word(b"in") {
        return names_in(&expr[..place(word)]).collect();
    }
    if let Some(word) = word(b"as") {
        return names_in(&expr[place(word) + 2..]).collect();
    }
    if let Some(inner) = expr.trim_ascii_end().strip_suffix(b"|")
        && let Some(bar) = inner.iter().rposition(|b| *b == b'|')
    {
        return names_in(&inner[bar + 1..]).collect();
    }
    let mut found = Vec::new();
    for name in names_in(expr) {
        let rest = expr[place(name) + name.len()..].trim_ascii_start();
        let rest = rest.strip_prefix(b":").unwrap_or(rest);
        if rest.first() == Some(&b'=') && !matches!(rest.get(1), Some(b'=' | b'>' | b'~')) {
            found.push(name);
        }
    }
    found
}

/// The names in a text: words that begin with a letter, outside quotes, and no members of something.
fn names_in(text: &[u8]) -> impl Iterator<Item = &[u8]> {
    let is_word = |b: u8| b.is_ascii_alphanumeric() || b == b'_' || b >= 0x80;
    let mut at = 0;
    std::iter::from_fn(move || {
        while let Some(&byte) = text.get(at) {
            if matches!(byte, b'"' | b'\'') {
                at += memchr::memchr(byte, &text[at + 1..]).map_or(1, |length| length + 2);
            } else if is_word(byte) {
                let start = at;
                at += text[at..].iter().take_while(|b| is_word(**b)).count();
                let before = text[..start].iter().rev().find(|b| !is_blank(**b));
                if !byte.is_ascii_digit() && before != Some(&b'.') {
                    return Some(&text[start..at]);
                }
            } else {
                at += 1;
            }
        }
        None
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_an_expression_binds() {
        for (expr, bound) in [
            ("item in items", &["item"][..]),
            ("(key, value) in map.items", &["key", "value"]),
            ("items as item", &["item"]),
            ("items.each over |item, n|", &["item", "n"]),
            ("label=\"x\" n = m", &["label", "n"]),
            ("a == b", &[]),
            ("x|filter", &[]),
            ("user.name", &[]),
        ] {
            let found: Vec<_> = bound_in(expr.as_bytes()).into_iter().map(String::from_utf8_lossy).collect();
            assert_eq!(found, bound, "{expr}");
        }
    }

    #[test]
    fn names_stand_outside_of_quotes_and_are_no_members() {
        let found: Vec<_> = names_in(b"a.b + 'c' | d(e, 2x) .f").map(String::from_utf8_lossy).collect();
        assert_eq!(found, ["a", "d", "e"]);
    }
}
