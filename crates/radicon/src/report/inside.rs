//! Sources, each line once, and how every page is put together from them.

use std::sync::OnceLock;

use rayon::prelude::*;
use rustc_hash::FxHashMap;
use serde::Serialize;

use super::ReportOptions;
use crate::prove::{PageProof, Strength};
use crate::resolve::{Resolver, Stretch, Via, block_name};
use crate::site::{Role, Site, SourceFile, Template};
use crate::text::SourceId;

/// The sources of a site, and how its pages are put together from them.
#[derive(Clone, Debug, Default, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Inside {
    /// Every distinct line of the templates, with its end; bytes that are not UTF-8 are U+FFFD.
    pub lines: Vec<String>,
    /// The names of blocks.
    pub blocks: Vec<String>,
    /// The site as it is.
    pub before: InsideSite,
    /// The site with the proposal, if there is one.
    pub after: Option<InsideSite>,
    /// The style sheets.
    pub styles: Vec<InsideStyle>,
    /// The sources are too large for a report, and left out.
    pub left_out: bool,
}

/// A style sheet.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct InsideStyle {
    /// Its path.
    pub path: String,
    /// Its text.
    pub text: String,
}

/// The files and pages of a site.
#[derive(Clone, Debug, Default, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct InsideSite {
    /// Its templates, by path.
    pub files: Vec<InsideFile>,
    /// Its pages, by path.
    pub pages: Vec<InsidePage>,
}

/// A template's source.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct InsideFile {
    /// Its path.
    pub path: String,
    /// Its role.
    pub role: Role,
    /// Its lines: indices among the distinct ones.
    pub lines: Vec<u32>,
}

/// How a page is put together.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct InsidePage {
    /// The page: an index among the files.
    pub file: u32,
    /// The levels of its chain, itself first: indices among the files.
    pub levels: Vec<u32>,
    /// Its pieces; together they are the page.
    pub pieces: Vec<Piece>,
    /// How equal the page is before and after the proposal, where that was proven.
    pub proven: Option<Strength>,
}

/// A piece of a flattened page.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Piece {
    /// The file it comes from: an index among the files.
    pub file: u32,
    /// Its start in that file, in UTF-16 code units.
    pub start: u32,
    /// Its length in UTF-16 code units.
    pub length: u32,
    /// The way it came.
    pub passage: Passage,
    /// The block whose content it is: an index among the names of blocks.
    pub block: Option<u32>,
    /// What is in the page, if it is not what is in the file: an index among the lines.
    /// Arguments that are not put in are noted around what is included.
    pub note: Option<u32>,
}

/// The way by which a piece came into a page.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Passage {
    /// It is in the base itself.
    Base,
    /// It is the content of a block.
    Block,
    /// Somebody includes it.
    Include,
    /// It is where a layout calls for the body.
    Body,
    /// A folder rule puts it before or after the page.
    Rule,
}

impl Inside {
    pub(super) fn of(site: &Site, after: Option<&Site>, proof: &[PageProof], options: &ReportOptions) -> Self {
        let mut lines = Distinct::default();
        let mut sites = Vec::new();
        for site in [Some(site), after].into_iter().flatten() {
            let Some(files) = files(site, &mut lines, options.most_bytes) else {
                return Self { left_out: true, ..Self::default() };
            };
            sites.push((site, files));
        }
        let mut names = Distinct::default();
        let proven: FxHashMap<&str, Option<Strength>> =
            proof.iter().map(|page| (page.page.as_str(), page.strength())).collect();
        let mut insides = sites.into_iter().map(|(site, files)| {
            let pages = pages(site, &proven, &mut names, &mut lines);
            InsideSite { files, pages }
        });
        let (before, after) = (insides.next().unwrap_or_default(), insides.next());
        drop(insides);
        let style = |file: &SourceFile| InsideStyle {
            path: file.path.clone(),
            text: String::from_utf8_lossy(&file.bytes).into_owned(),
        };
        Self {
            lines: lines.texts,
            blocks: names.texts,
            before,
            after,
            styles: options.styles.iter().map(style).collect(),
            left_out: false,
        }
    }
}

/// Texts, each of them once.
#[derive(Default)]
struct Distinct {
    texts: Vec<String>,
    known: FxHashMap<String, u32>,
    bytes: usize,
}

impl Distinct {
    /// The number of a text.
    fn number(&mut self, text: &str) -> u32 {
        if let Some(&known) = self.known.get(text) {
            return known;
        }
        let next = self.texts.len() as u32;
        self.bytes += text.len();
        self.texts.push(text.to_owned());
        self.known.insert(text.to_owned(), next);
        next
    }
}

/// The files of a site with their lines; none if these are more than so many bytes.
fn files(site: &Site, lines: &mut Distinct, most_bytes: usize) -> Option<Vec<InsideFile>> {
    let file = |template: &Template| {
        let own = template.source.split_inclusive(|&b| b == b'\n');
        let numbers = own.map(|line| lines.number(&String::from_utf8_lossy(line))).collect();
        let fits = lines.bytes <= most_bytes;
        fits.then(|| InsideFile { path: template.path.clone(), role: template.role, lines: numbers })
    };
    site.templates.iter().map(file).collect()
}

/// A piece whose texts have no numbers yet.
struct Named {
    piece: Piece,
    block: Option<String>,
    note: Option<String>,
}

fn pages(
    site: &Site,
    proven: &FxHashMap<&str, Option<Strength>>,
    names: &mut Distinct,
    lines: &mut Distinct,
) -> Vec<InsidePage> {
    let resolver = Resolver::new(site);
    let units: Vec<OnceLock<Units>> = site.templates.iter().map(|_| OnceLock::new()).collect();
    let ids: Vec<SourceId> = site.pages().collect();
    let told: Vec<(SourceId, Vec<Named>)> = ids.into_par_iter().map(|id| (id, pieces(site, id, &units))).collect();
    let mut pages = Vec::with_capacity(told.len());
    for (id, pieces) in told {
        let numbered = |named: Named| Piece {
            block: named.block.map(|block| names.number(&block)),
            note: named.note.map(|note| lines.number(&note)),
            ..named.piece
        };
        pages.push(InsidePage {
            file: id.0,
            levels: resolver.chain(id).levels.iter().map(|level| level.0).collect(),
            pieces: pieces.into_iter().map(numbered).collect(),
            proven: proven.get(site.get(id).path.as_str()).copied().flatten(),
        });
    }
    pages
}

fn pieces(site: &Site, id: SourceId, units: &[OnceLock<Units>]) -> Vec<Named> {
    // Of a page that grows without end there is nothing to show.
    let flat = Resolver::new(site).flatten(id).unwrap_or_default();
    let ends = flat.stretches.iter().skip(1).map(|next| next.at as usize).chain([flat.bytes.len()]);
    let piece = |(stretch, end): (&Stretch, usize)| {
        let source = &site.get(stretch.source).source;
        let units = units[stretch.source.index()].get_or_init(|| Units::of(source));
        let (start, until) = (units.at(stretch.span.start), units.at(stretch.span.end));
        let (passage, block) = match stretch.via {
            Via::Base => (Passage::Base, None),
            Via::Block(definition) => (Passage::Block, Some(block_name(site, definition))),
            Via::Include(..) => (Passage::Include, None),
            Via::Body(..) => (Passage::Body, None),
            Via::Rule => (Passage::Rule, None),
        };
        let shown = &flat.bytes[stretch.at as usize..end];
        let note = (shown != stretch.span.of(source)).then(|| String::from_utf8_lossy(shown).into_owned());
        let length = until - start;
        Named { piece: Piece { file: stretch.source.0, start, length, passage, block: None, note: None }, block, note }
    };
    flat.stretches.iter().zip(ends).filter(|(stretch, end)| *end > stretch.at as usize).map(piece).collect()
}

/// The places of the bytes of a source among the UTF-16 code units of its text.
enum Units {
    /// One unit a byte.
    Ascii,
    /// For each byte, and for the end.
    Listed(Vec<u32>),
}

impl Units {
    fn of(source: &[u8]) -> Self {
        if source.is_ascii() {
            return Units::Ascii;
        }
        let mut listed = Vec::with_capacity(source.len() + 1);
        let mut units = 0;
        for chunk in source.utf8_chunks() {
            for char in chunk.valid().chars() {
                listed.extend(std::iter::repeat_n(units, char.len_utf8()));
                units += char.len_utf16() as u32;
            }
            listed.extend(std::iter::repeat_n(units, chunk.invalid().len()));
            units += u32::from(!chunk.invalid().is_empty());
        }
        listed.push(units);
        Units::Listed(listed)
    }

    fn at(&self, byte: u32) -> u32 {
        match self {
            Units::Ascii => byte,
            Units::Listed(listed) => listed[byte as usize],
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn units_are_those_of_the_text_whatever_the_bytes() {
        for source in [&b"plain"[..], "é⟨😀x".as_bytes(), b"a\xff\xfeb\xc3\n\xe2\x82z", b""] {
            let units = Units::of(source);
            let text = String::from_utf8_lossy(source);
            assert_eq!(units.at(source.len() as u32) as usize, text.encode_utf16().count(), "{source:?}");
            let mut last = 0;
            for byte in 0..=source.len() as u32 {
                assert!(units.at(byte) >= last);
                last = units.at(byte);
            }
        }
    }
}
