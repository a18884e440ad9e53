//! A flattened page as a value, with the origin of every stretch.

use std::collections::BTreeSet;

use rustc_hash::FxHashMap;
use serde::Serialize;

use super::{Definition, MAX_PAGE, MAX_SPLICES};
use crate::markup::ConstructId;
use crate::site::{Problem, Site};
use crate::text::{LineIndex, SourceId, Span, is_blank};

/// Why a page cannot be put together.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum FlattenError {
    /// It grows without end.
    #[error("{page}: the page grows beyond {} MiB or {MAX_SPLICES} spliced blocks and includes", MAX_PAGE >> 20)]
    TooLarge {
        /// The page's path.
        page: String,
    },
}

/// Through what a stretch came into the page.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Via {
    /// It is in the base itself.
    Base,
    /// It is the content of a block.
    Block(Definition),
    /// A construct, in a template, includes it.
    Include(SourceId, ConstructId),
    /// It is where a construct, in a template, calls for the body.
    Body(SourceId, ConstructId),
    /// A folder rule puts it before or after the page.
    Rule,
}

/// A stretch of a flattened page that comes from one place; it ends where the
/// next one starts. It is a copy of that place, but for what was written for it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Stretch {
    /// Its start in the page, a byte offset.
    pub at: u32,
    /// The template it comes from.
    pub source: SourceId,
    /// Its place in that template.
    pub span: Span,
    /// Through what it came, the innermost.
    pub via: Via,
}

/// The origin of a place of a flattened page, for people.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Origin {
    /// The file's path.
    pub file: String,
    /// The line, 1-based.
    pub line: u32,
    /// The column, 1-based, in characters.
    pub column: u32,
    /// The block whose content it is, if any.
    pub block: Option<String>,
}

/// A flattened page for people and programs.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct FlatReport {
    /// The page's path.
    pub page: String,
    /// The page put together; bytes that are not UTF-8 are shown as U+FFFD.
    pub text: String,
    /// For each line of the text where it comes from.
    pub origins: Vec<OriginLine>,
    /// The references that could not be resolved and were kept as they are.
    pub problems: Vec<Problem>,
}

/// The origin of a line of a flattened page.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct OriginLine {
    /// The line in the page, 1-based.
    pub line: u32,
    /// The place from which the first thing on it that is not whitespace comes.
    pub origin: Origin,
}

/// A finished page.
#[derive(Clone, Debug, Default)]
pub struct Flat {
    /// Its bytes: a template of the same dialect without parents and includes.
    pub bytes: Vec<u8>,
    /// The stretches that it consists of; sorted, together they cover all of it.
    pub stretches: Vec<Stretch>,
    /// The references that could not be resolved and were kept as they are.
    pub problems: Vec<Problem>,
    /// The definitions of blocks that it shows.
    pub shown: Vec<Definition>,
    /// The blocks of its chain that expressions in it name, in a proof.
    pub(crate) named: BTreeSet<Box<[u8]>>,
}

impl Flat {
    /// The origin of the byte at `offset`; for the end of the page, that of its last byte.
    pub fn origin(&self, site: &Site, offset: u32) -> Option<Origin> {
        self.origin_with(site, offset, &mut FxHashMap::default())
    }

    fn origin_with(&self, site: &Site, offset: u32, lines: &mut FxHashMap<SourceId, LineIndex>) -> Option<Origin> {
        let index = self.stretches.partition_point(|stretch| stretch.at <= offset).checked_sub(1)?;
        let stretch = self.stretches[index];
        let within = (offset - stretch.at).min(stretch.span.len() as u32);
        let template = site.get(stretch.source);
        let known = lines.entry(stretch.source).or_insert_with(|| LineIndex::new(&template.source));
        let at = known.position(&template.source, stretch.span.start + within);
        let block = match stretch.via {
            Via::Block(definition) => Some(block_name(site, definition)),
            Via::Base | Via::Include(..) | Via::Body(..) | Via::Rule => None,
        };
        Some(Origin { file: template.path.clone(), line: at.line, column: at.column, block })
    }

    /// The page with the origin of each line.
    pub fn report(&self, site: &Site, page: SourceId) -> FlatReport {
        let mut origins = Vec::new();
        let mut lines = FxHashMap::default();
        let mut start = 0_usize;
        for (number, line) in (1..).zip(self.bytes.split_inclusive(|&b| b == b'\n')) {
            let blanks = line.iter().position(|&b| !is_blank(b)).unwrap_or(0);
            if let Some(origin) = self.origin_with(site, (start + blanks) as u32, &mut lines) {
                origins.push(OriginLine { line: number, origin });
            }
            start += line.len();
        }
        let text = String::from_utf8_lossy(&self.bytes).into_owned();
        FlatReport { page: site.get(page).path.clone(), text, origins, problems: self.problems.clone() }
    }
}

/// The name of the block that a definition is of.
pub fn block_name(site: &Site, definition: Definition) -> String {
    let template = site.get(definition.source);
    template.constructs.items[definition.construct].name.text(&template.source).into_owned()
}
