//! Which elements and construct pairs are open, and what a tag ends besides
//! what it says.

use std::ops::Range;
use std::sync::LazyLock;

use rustc_hash::FxHashMap;

use super::elements::{Content, bounds_implied_end, element, implied_ends, may_stay_open};

/// The facts about the name of a tag that decide how elements nest.
#[derive(Clone, Copy, Debug)]
pub struct TagName {
    /// A hash of the name in lower case.
    pub hash: u64,
    /// The kind of content that its element holds.
    pub content: Content,
    /// HTML gives it no meaning of its own.
    pub is_plain: bool,
    /// Whitespace directly inside counts as it is.
    pub preserves: bool,
    /// Its place among the frequent names.
    number: Option<u8>,
    /// The frequent names of the open elements that it ends without saying so, a bit each.
    implied_ends: u32,
    bounds: bool,
    /// It bounds the parts of a table, too.
    bounds_tables: bool,
    may_stay_open: bool,
}

/// Frequent names, first those whose end may be implied: what is open of them
/// is found by their number.
const FREQUENT: [&[u8]; 64] = [
    b"p",
    b"li",
    b"dt",
    b"dd",
    b"option",
    b"optgroup",
    b"rt",
    b"rp",
    b"head",
    b"td",
    b"th",
    b"tr",
    b"thead",
    b"tbody",
    b"tfoot",
    b"colgroup",
    b"a",
    b"abbr",
    b"article",
    b"aside",
    b"b",
    b"blockquote",
    b"body",
    b"button",
    b"code",
    b"del",
    b"details",
    b"div",
    b"dl",
    b"em",
    b"fieldset",
    b"figcaption",
    b"figure",
    b"footer",
    b"form",
    b"h1",
    b"h2",
    b"h3",
    b"h4",
    b"h5",
    b"h6",
    b"header",
    b"html",
    b"i",
    b"kbd",
    b"label",
    b"main",
    b"nav",
    b"ol",
    b"picture",
    b"pre",
    b"section",
    b"select",
    b"small",
    b"span",
    b"strong",
    b"sub",
    b"summary",
    b"sup",
    b"svg",
    b"table",
    b"time",
    b"ul",
    b"var",
];

/// Those of them that are parts of tables, by number.
const PARTS_OF_TABLES: Range<usize> = 9..16;

/// A bit for each of some frequent names.
fn bits(names: &[&[u8]]) -> u32 {
    let bit = |name: &&[u8]| FREQUENT.iter().position(|frequent| frequent == name).map_or(0, |number| 1 << number);
    names.iter().map(bit).sum()
}

static KNOWN: LazyLock<FxHashMap<&[u8], TagName>> = LazyLock::new(|| {
    let numbered = |(number, name): (u8, &&'static [u8])| {
        let known = TagName { number: Some(number), ..TagName::seldom(name, hash(name)) };
        (*name, known)
    };
    (0..).zip(&FREQUENT).map(numbered).collect()
});

impl TagName {
    /// What is known of a name in any letter case. Long names are known by
    /// their hash only: no element of HTML has one.
    pub fn of(written: &[u8]) -> Self {
        let mut short = [0_u8; 16];
        match short.get_mut(..written.len()) {
            Some(short) => {
                short.copy_from_slice(written);
                short.make_ascii_lowercase();
                KNOWN.get(&*short).copied().unwrap_or_else(|| Self::seldom(short, hash(short)))
            }
            None => Self::seldom(b"", hash(&written.to_ascii_lowercase())),
        }
    }

    /// The facts about a name without a number.
    fn seldom(name: &[u8], hash: u64) -> Self {
        let known = element(name);
        let paragraph = if known.ends_paragraph { bits(&[b"p"]) } else { 0 };
        Self {
            hash,
            content: known.content,
            is_plain: known == element(b""),
            preserves: known.preserves,
            number: None,
            implied_ends: bits(implied_ends(name)) | paragraph,
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

/// The open elements, outermost first. A place counts from the outermost one.
#[derive(Clone, Debug, Default)]
pub struct Nest {
    open: Vec<Open>,
    innermost: Innermost,
    /// Places of open construct pairs, and of bounds of implied ends.
    pairs: Vec<u32>,
    bounds: Vec<u32>,
    tables: Vec<u32>,
}

/// For each frequent name, and for the hashes of others, the innermost place where it is open.
#[derive(Clone, Debug)]
struct Innermost {
    frequent: [Option<u32>; FREQUENT.len()],
    seldom: FxHashMap<u64, u32>,
}

impl Default for Innermost {
    fn default() -> Self {
        Self { frequent: [None; FREQUENT.len()], seldom: FxHashMap::default() }
    }
}

impl Innermost {
    fn of(&self, name: &TagName) -> Option<u32> {
        match name.number {
            Some(number) => self.frequent[usize::from(number)],
            None => self.seldom.get(&name.hash).copied(),
        }
    }

    /// Sets the place; gives the one before.
    fn set(&mut self, name: &TagName, place: Option<u32>) -> Option<u32> {
        match (name.number, place) {
            (Some(number), _) => std::mem::replace(&mut self.frequent[usize::from(number)], place),
            (None, Some(place)) => self.seldom.insert(name.hash, place),
            (None, None) => self.seldom.remove(&name.hash),
        }
    }
}

/// Something that is open.
#[derive(Clone, Copy, Debug)]
struct Open {
    /// The name of an element.
    name: Option<TagName>,
    /// The next place outwards of the same name.
    outer: Option<u32>,
}

/// The element that an end tag closes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Closes {
    /// The element at this place.
    Place(u32),
    /// An element that a construct pair within it keeps open.
    Crossing,
    /// None: no such element is open.
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
        let bound = |number: usize| {
            // A cell bounds lists and paragraphs, but the parts of a table only a table does.
            let marks = if PARTS_OF_TABLES.contains(&number) { &self.tables } else { &self.bounds };
            marks.last().map_or(0, |&place| place + 1).max(self.barrier())
        };
        let mut rest = tag.implied_ends;
        let next = || {
            let number = (rest != 0).then_some(rest.trailing_zeros() as usize)?;
            rest &= rest - 1;
            Some(number)
        };
        let found = std::iter::from_fn(next)
            .filter_map(|number| self.innermost.frequent[number].filter(|&place| place >= bound(number)))
            .min()?;
        // What is open above may itself be left open; else nothing is implied.
        let may_close = |open: &Open| open.name.is_some_and(|name| name.may_stay_open);
        self.open[found as usize + 1..].iter().all(may_close).then_some(found)
    }

    /// Opens an element.
    pub fn enter(&mut self, tag: &TagName) {
        let place = self.open.len() as u32;
        if tag.bounds {
            self.bounds.push(place);
        }
        if tag.bounds_tables {
            self.tables.push(place);
        }
        let outer = self.innermost.set(tag, Some(place));
        self.open.push(Open { name: Some(*tag), outer });
    }

    /// Opens a construct pair.
    pub fn enter_pair(&mut self) {
        self.pairs.push(self.open.len() as u32);
        self.open.push(Open { name: None, outer: None });
    }

    /// The place of the innermost construct pair.
    pub fn pair(&self) -> Option<u32> {
        self.pairs.last().copied()
    }

    /// The element that an end tag of this name closes.
    pub fn closes(&self, tag: &TagName) -> Closes {
        match self.innermost.of(tag) {
            Some(place) if place >= self.barrier() => Closes::Place(place),
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
                self.innermost.set(&name, open.outer);
            }
            for marks in [&mut self.pairs, &mut self.bounds, &mut self.tables] {
                if marks.last() == Some(&place) {
                    marks.pop();
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_name_whose_end_may_be_implied_has_a_bit() {
        for name in FREQUENT {
            let ends = implied_ends(name);
            assert_eq!(bits(ends).count_ones() as usize, ends.len(), "{}", String::from_utf8_lossy(name));
        }
        assert_eq!(FREQUENT[PARTS_OF_TABLES.start], b"td");
        assert_eq!(&FREQUENT[PARTS_OF_TABLES][6], b"colgroup");
    }
}
