//! Which binding each name of a page reaches.
//!
//! While a page is put together, what binds names stands on a stack, with the ends of blocks and included
//! files between. From a use the stack is searched inwards out. Where the dialect does not say whether names
//! are seen beyond such an end, the binding is noted with what it lies behind: it is reached by some engines.

use rustc_hash::{FxHashMap, FxHashSet};

use super::arguments::Arguments;
use crate::dialect::{Kind, Part, Scope, SetScope};
use crate::markup::{ALONE, Construct};
use crate::site::{Site, Template};
use crate::text::{SourceId, Span, is_blank};

/// The names that something in a site binds.
#[derive(Clone, Debug, Default)]
pub(crate) struct BoundNames {
    names: FxHashSet<Box<[u8]>>,
    /// Names that nothing binds and that are only used in loops: the loop may bind them itself.
    of_loops: FxHashSet<Box<[u8]>>,
}

impl BoundNames {
    /// Those that one of some sites binds.
    pub fn of(sites: [&Site; 2]) -> Self {
        let mut found = Self::default();
        for site in sites {
            let own = Self::of_site(site);
            found.names.extend(own.names);
            found.of_loops.extend(own.of_loops);
        }
        let Self { names, of_loops } = &mut found;
        of_loops.retain(|name| !names.contains(name));
        found
    }

    fn of_site(site: &Site) -> Self {
        let mut names: FxHashSet<Box<[u8]>> = FxHashSet::default();
        // For each name whether it is used outside of loops.
        let mut used: FxHashMap<Box<[u8]>, bool> = FxHashMap::default();
        for template in &site.templates {
            let mut loops: Vec<u32> = Vec::new();
            for (at, item) in (0..).zip(&template.constructs.items) {
                loops.retain(|&end| at < end);
                let bound = bound_by(template, item);
                if item.part != Part::Close && !loops.is_empty() || may_use(item) {
                    for name in names_in(item.span.of(&template.source)) {
                        *used.entry(name.into()).or_default() |= loops.is_empty();
                    }
                }
                if is_loop(item, &bound) {
                    loops.push(item.partner);
                }
                names.extend(bound.into_iter().map(Into::into));
            }
        }
        let of_loops = used.into_iter().filter(|(name, outside)| !outside && !names.contains(name));
        let of_loops = if names.is_empty() { FxHashSet::default() } else { of_loops.map(|(name, _)| name).collect() };
        Self { names, of_loops }
    }

    /// Whether nothing is bound anywhere.
    pub fn is_empty(&self) -> bool {
        self.names.is_empty()
    }
}

/// A binding that a name reaches.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) struct Reached {
    /// Which one: the same in two pages whose tags are the same.
    binding: u64,
    /// What it lies behind.
    pub behind: Behind,
}

/// The ends beyond which names are seen in some engines only.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) struct Behind(u8);

impl Behind {
    /// An override uses what is bound around its block.
    pub const BLOCK: Self = Self(1);
    /// An included file uses what is bound where it is included.
    pub const INCLUDE: Self = Self(2);
    /// A layout uses what a child sets outside of its blocks.
    pub const CHILD: Self = Self(4);
    /// What was set inside of a block is used behind it.
    pub const END_OF_BLOCK: Self = Self(8);
    /// What was set inside of an included file is used behind it.
    pub const END_OF_INCLUDE: Self = Self(16);

    const fn with(self, other: Self) -> Self {
        Self(self.0 | other.0)
    }

    const fn without(self, other: Self) -> Self {
        Self(self.0 & !other.0)
    }

    pub const fn has(self, other: Self) -> bool {
        self.0 & other.0 != 0
    }
}

/// A construct that stays in a page.
#[derive(Clone, Debug)]
pub(crate) struct Kept {
    /// Where it stands in the page.
    pub at: u32,
    pub source: SourceId,
    pub construct: u32,
    /// For each of its names that something binds: where it stands, and what it reaches, the nearest first.
    pub names: Vec<(Span, Vec<Reached>)>,
}

/// Where something is bound.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Place {
    /// In a child, outside of its blocks.
    Child,
    /// Outside of everything in a file that is put out whole.
    Top,
    /// In a block, or in what a pair holds.
    Inside,
    /// Imported: for its own file alone.
    Import,
}

#[derive(Debug)]
enum Entry {
    Bound {
        /// Its name; without one a loop binds whatever names are used in loops alone.
        name: Option<Box<[u8]>>,
        binding: u64,
        source: SourceId,
        place: Place,
        /// The opener of the pair in which it holds.
        opener: Option<(SourceId, u32)>,
        /// The ends of what it was set in.
        behind: Behind,
        /// It holds wherever it is seen, not only if a condition was met.
        sure: bool,
    },
    Block(Scope),
    /// An included file, with the file that includes it; `closed` if it sees no other names.
    Include {
        scope: Scope,
        closed: bool,
        from: SourceId,
    },
    /// The body of a wrap sees what stood below.
    Wrapped(usize),
}

/// The stack of bindings while a page is put together.
pub(super) struct Names<'b> {
    bound: &'b BoundNames,
    stack: Vec<Entry>,
    pub kept: Vec<Kept>,
}

impl<'b> Names<'b> {
    pub fn new(bound: &'b BoundNames) -> Self {
        Self { bound, stack: Vec::new(), kept: Vec::new() }
    }

    /// How much is on the stack.
    pub fn depth(&self) -> usize {
        self.stack.len()
    }

    /// A construct that stays: its names are looked up, then what it binds is bound.
    pub fn keep(&mut self, site: &Site, at: u32, source: SourceId, construct: u32, in_child: bool) {
        let template = site.get(source);
        let item = &template.constructs.items[construct as usize];
        let names = if may_use(item) { self.look_up(site, source, item.span) } else { Vec::new() };
        let ordinal = self.kept.len() as u64;
        self.kept.push(Kept { at, source, construct, names });
        self.bind(site, source, construct, ordinal, in_child);
    }

    /// Binds what a construct binds.
    pub fn bind(&mut self, site: &Site, source: SourceId, construct: u32, ordinal: u64, in_child: bool) {
        let template = site.get(source);
        let item = &template.constructs.items[construct as usize];
        if item.part == Part::Close {
            self.close((source, item.partner));
            return;
        }
        let names = bound_by(template, item);
        let is_pair = item.part == Part::Open && item.partner != ALONE;
        let holds_in_pair = is_pair && item.kind != Kind::Set;
        if is_loop(item, &names) {
            let (name, binding, opener) = (None, ordinal, Some((source, construct)));
            let (place, behind) = (Place::Inside, Behind::default());
            self.stack.push(Entry::Bound { name, binding, source, place, opener, behind, sure: true });
        }
        // An import is the same wherever its text stands.
        let is_import = item.kind == Kind::Import;
        let binding = if is_import { hash(item.span.of(&template.source)) } else { ordinal };
        let in_pair = self
            .stack
            .iter()
            .rev()
            .any(|entry| matches!(entry, Entry::Bound { opener: Some((file, _)), .. } if *file == source));
        let place = match in_child {
            _ if is_import => Place::Import,
            true => Place::Child,
            false if holds_in_pair || in_pair || self.in_block() => Place::Inside,
            false => Place::Top,
        };
        for (number, name) in names.into_iter().enumerate() {
            // The parameters of a macro hold within it, its name behind it.
            let is_parameter = item.kind == Kind::Set && number > 0;
            let opener = (holds_in_pair || is_parameter).then_some((source, construct));
            let place = if is_parameter { Place::Inside } else { place };
            let behind = Behind::default();
            self.stack.push(Entry::Bound {
                name: Some(name.into()),
                binding,
                source,
                place,
                opener,
                behind,
                sure: true,
            });
        }
    }

    /// Whether the innermost end is that of a block.
    fn in_block(&self) -> bool {
        let ends = self.stack.iter().rev().find(|entry| !matches!(entry, Entry::Bound { .. }));
        matches!(ends, Some(Entry::Block(_) | Entry::Wrapped(_)))
    }

    /// A pair ends: what it bound goes, what was set in it may hold.
    fn close(&mut self, opener: (SourceId, u32)) {
        let is_own = |entry: &Entry| matches!(entry, Entry::Bound { opener: Some(own), .. } if *own == opener);
        let Some(start) = self.stack.iter().position(is_own) else { return };
        for entry in &mut self.stack[start..] {
            if let Entry::Bound { sure, opener: None, .. } = entry {
                *sure = false;
            }
        }
        self.stack.retain(|entry| !is_own(entry));
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
        let mut bound = Vec::new();
        for binding in &arguments.bindings {
            let value = binding.value.of(&template.source);
            let mut said = hash(value);
            for (_, reached) in self.look_up(site, from, binding.value) {
                for one in reached {
                    said = said.rotate_left(7) ^ one.binding.wrapping_mul(31) ^ u64::from(one.behind.0);
                }
            }
            bound.push((binding.name.of(&template.source).into(), said));
        }
        self.stack.push(Entry::Include { scope, closed: arguments.only, from });
        let start = self.stack.len() - 1;
        for (name, binding) in bound {
            let (place, behind) = (Place::Inside, Behind::default());
            self.stack.push(Entry::Bound {
                name: Some(name),
                binding,
                source: from,
                place,
                opener: Some((from, ALONE)),
                behind,
                sure: true,
            });
        }
        start
    }

    /// The body of a wrap begins.
    pub fn enter_wrapped(&mut self, below: usize) -> usize {
        self.stack.push(Entry::Wrapped(below));
        self.stack.len() - 1
    }

    /// What began at a place of the stack ends: what was set in it is seen behind it by some engines.
    pub fn leave(&mut self, start: usize) {
        let end = match self.stack.get(start) {
            Some(Entry::Include { .. }) => Behind::END_OF_INCLUDE,
            _ => Behind::END_OF_BLOCK,
        };
        if start < self.stack.len() {
            self.stack.remove(start);
        }
        let mut at = 0;
        self.stack.retain_mut(|entry| {
            at += 1;
            match entry {
                _ if at <= start => true,
                Entry::Bound { place: Place::Import, .. } => true,
                Entry::Bound { opener: None, behind, sure, place, .. } => {
                    (*behind, *sure, *place) = (behind.with(end), false, Place::Inside);
                    true
                }
                Entry::Bound { .. } => false,
                _ => true,
            }
        });
    }

    /// For each name in a stretch of a file that something binds what it reaches.
    fn look_up(&self, site: &Site, source: SourceId, span: Span) -> Vec<(Span, Vec<Reached>)> {
        let template = site.get(source);
        let text = span.of(&template.source);
        let known = |name: &&[u8]| self.bound.names.contains(*name) || self.bound.of_loops.contains(*name);
        let start = |name: &[u8]| span.start + (name.as_ptr() as usize - text.as_ptr() as usize) as u32;
        let found = names_in(text).filter(known).map(|name| {
            let at = start(name);
            (Span::new(at, at + name.len() as u32), self.reached(site, source, name))
        });
        found.collect()
    }

    /// The bindings that a name in a file may reach, the nearest first.
    fn reached(&self, site: &Site, source: SourceId, name: &[u8]) -> Vec<Reached> {
        let mut found = Vec::new();
        let (mut file, mut behind, mut closed) = (source, Behind::default(), false);
        let mut at = self.stack.len();
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
                Entry::Bound { name: known, binding, source: home, place, behind: ends, sure, .. } => {
                    let is_it = match known {
                        Some(known) => **known == *name,
                        None => self.bound.of_loops.contains(name),
                    };
                    if !is_it {
                        continue;
                    }
                    let way = match place {
                        Place::Import if *home == source => Behind::default(),
                        Place::Import => continue,
                        Place::Child | Place::Top if *home == file => behind.without(Behind::BLOCK),
                        Place::Child => match site.get(*home).dialect.rules.set_scope {
                            SetScope::Layout => behind.without(Behind::BLOCK),
                            SetScope::Own => continue,
                            SetScope::Unknown => behind.without(Behind::BLOCK).with(Behind::CHILD),
                        },
                        _ if closed => continue,
                        _ => behind,
                    };
                    let way = way.with(*ends);
                    found.push(Reached { binding: *binding, behind: way });
                    if *sure && way == Behind::default() {
                        break;
                    }
                }
            }
        }
        found
    }
}

fn hash(text: &[u8]) -> u64 {
    xxhash_rust::xxh3::xxh3_64(text) | 1 << 63
}

/// Whether a construct may use names.
fn may_use(item: &Construct) -> bool {
    !matches!(item.kind, Kind::Verbatim | Kind::Comment | Kind::Import) && item.part != Part::Close
}

/// Whether a pair repeats what it holds: it binds a name in it.
fn is_loop(item: &Construct, bound: &[&[u8]]) -> bool {
    matches!(item.kind, Kind::Control | Kind::Other)
        && item.part == Part::Open
        && item.partner != ALONE
        && !bound.is_empty()
}

/// The names that a construct binds; of a macro its own, then its parameters.
fn bound_by<'t>(template: &'t Template, item: &Construct) -> Vec<&'t [u8]> {
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

/// The names that an expression binds: before `in`, behind `as`, between bars at its end, before a single `=`.
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

/// The names in a text: words that begin with a letter, outside of quotes, and no members of something.
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
