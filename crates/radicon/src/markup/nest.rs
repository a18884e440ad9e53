//! Which elements and construct pairs are open, and what a tag ends besides
//! what it says.

use rustc_hash::FxHashMap;

use super::elements::{Content, bounds_implied_end, element, implied_ends, may_stay_open};

/// What the name of a tag means for how elements nest.
#[derive(Clone, Copy, Debug)]
pub(crate) struct TagName {
    /// A hash of the name in lower case.
    pub hash: u64,
    pub content: Content,
    /// HTML gives it no meaning of its own.
    pub is_plain: bool,
    /// White space directly inside counts as it stands.
    pub preserves: bool,
    ends_paragraph: bool,
    implied_ends: &'static [&'static [u8]],
    bounds: bool,
    /// It bounds the parts of a table, too.
    bounds_tables: bool,
    may_stay_open: bool,
}

impl TagName {
    /// What is known of a name in any letter case. Long names are known by
    /// their hash only: no element of HTML has one.
    pub fn of(written: &[u8]) -> Self {
        let mut short = [0_u8; 16];
        let (name, hash) = match short.get_mut(..written.len()) {
            Some(short) => {
                short.copy_from_slice(written);
                short.make_ascii_lowercase();
                (&*short, hash(short))
            }
            None => (&[][..], hash(&written.to_ascii_lowercase())),
        };
        let known = element(name);
        Self {
            hash,
            content: known.content,
            is_plain: known == element(b""),
            preserves: known.preserves,
            ends_paragraph: known.ends_paragraph,
            implied_ends: implied_ends(name),
            bounds: bounds_implied_end(name),
            bounds_tables: matches!(name, b"table" | b"template"),
            may_stay_open: may_stay_open(name),
        }
    }

    /// Whether a start tag of this name, perhaps with a slash at its end, opens nothing.
    pub fn is_void(&self, slash: bool) -> bool {
        // Outside svg and math a slash means nothing, but nobody closes `<path …/>` again.
        self.content == Content::Void || (slash && self.is_plain)
    }
}

fn hash(name: &[u8]) -> u64 {
    xxhash_rust::xxh3::xxh3_64(name)
}

/// What is open, outermost first. A place counts from the outermost one.
#[derive(Clone, Debug, Default)]
pub(crate) struct Nest {
    open: Vec<Open>,
    /// For the hash of each name the innermost place where it is open.
    innermost: FxHashMap<u64, u32>,
    /// Places of open construct pairs, and of bounds of implied ends.
    pairs: Vec<u32>,
    bounds: Vec<u32>,
    tables: Vec<u32>,
}

/// Something that is open.
#[derive(Clone, Copy, Debug)]
struct Open {
    /// The name of an element.
    name: Option<TagName>,
    /// The next place outwards of the same name.
    outer: Option<u32>,
}

/// What an end tag closes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Closes {
    /// The element at this place.
    Place(u32),
    /// An element that a construct pair within it keeps open.
    Crossing,
    Nothing,
}

impl Nest {
    /// How many are open.
    pub fn depth(&self) -> usize {
        self.open.len()
    }

    /// The innermost element, if it is no construct pair.
    pub fn innermost(&self) -> Option<&TagName> {
        self.open.last()?.name.as_ref()
    }

    /// Whether what is open at a place is an element that ought to have an end tag.
    pub fn needs_end(&self, place: usize) -> bool {
        self.open[place].name.is_some_and(|name| !name.may_stay_open)
    }

    fn barrier(&self) -> u32 {
        self.pairs.last().map_or(0, |&place| place + 1)
    }

    /// The outermost element that this start tag ends without saying so.
    pub fn implied_end(&self, tag: &TagName) -> Option<u32> {
        if tag.implied_ends.is_empty() && !tag.ends_paragraph {
            return None;
        }
        let bound = |open: &[u8]| {
            // A cell bounds lists and paragraphs, but the parts of a table only a table does.
            let parts: [&[u8]; 7] = [b"td", b"th", b"tr", b"thead", b"tbody", b"tfoot", b"colgroup"];
            let marks = if parts.contains(&open) { &self.tables } else { &self.bounds };
            marks.last().map_or(0, |&place| place + 1).max(self.barrier())
        };
        let paragraph: &[&[u8]] = if tag.ends_paragraph { &[b"p"] } else { &[] };
        let found = tag
            .implied_ends
            .iter()
            .chain(paragraph)
            .filter_map(|open| self.innermost.get(&hash(open)).copied().filter(|&place| place >= bound(open)))
            .min()?;
        // What is open above may itself be left open; else nothing is implied.
        let may_close = |open: &Open| open.name.is_some_and(|name| name.may_stay_open);
        self.open[found as usize + 1..].iter().all(may_close).then_some(found)
    }

    pub fn enter(&mut self, tag: &TagName) {
        let place = self.open.len() as u32;
        if tag.bounds {
            self.bounds.push(place);
        }
        if tag.bounds_tables {
            self.tables.push(place);
        }
        let outer = self.innermost.insert(tag.hash, place);
        self.open.push(Open { name: Some(*tag), outer });
    }

    pub fn enter_pair(&mut self) {
        self.pairs.push(self.open.len() as u32);
        self.open.push(Open { name: None, outer: None });
    }

    /// The place of the innermost construct pair.
    pub fn pair(&self) -> Option<u32> {
        self.pairs.last().copied()
    }

    /// What an end tag of this name closes.
    pub fn closes(&self, tag: &TagName) -> Closes {
        match self.innermost.get(&tag.hash) {
            Some(&place) if place >= self.barrier() => Closes::Place(place),
            Some(_) => Closes::Crossing,
            None => Closes::Nothing,
        }
    }

    /// Closes what is open at a place, and all inside it.
    pub fn leave(&mut self, place: u32) {
        while self.open.len() > place as usize
            && let Some(open) = self.open.pop()
        {
            let place = self.open.len() as u32;
            if let Some(name) = open.name {
                match open.outer {
                    Some(outer) => self.innermost.insert(name.hash, outer),
                    None => self.innermost.remove(&name.hash),
                };
            }
            for marks in [&mut self.pairs, &mut self.bounds, &mut self.tables] {
                if marks.last() == Some(&place) {
                    marks.pop();
                }
            }
        }
    }
}
