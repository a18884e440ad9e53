//! Which level gives each block of each page.

use rayon::prelude::*;
use rustc_hash::FxHashMap;
use serde::Serialize;

use crate::resolve::{BlockState, ChainBlock, ChainReport, Resolver};
use crate::site::Site;
use crate::text::SourceId;

/// The blocks of all pages that are on one base layout.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct BlockTable {
    /// The base layout's path.
    pub base: String,
    /// The names of the blocks, those of the base first.
    pub blocks: Vec<String>,
    /// The pages, by path.
    pub rows: Vec<BlockRow>,
}

/// The blocks of one page.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct BlockRow {
    /// The page's path.
    pub page: String,
    /// The paths of its levels, the page itself first, the base last.
    pub levels: Vec<String>,
    /// For each block of the table what the page shows in it; `null` for a block it does not know.
    pub cells: Vec<Option<BlockCell>>,
}

/// The content that a page shows in one block.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct BlockCell {
    /// Who gives it.
    pub given: Given,
    /// All that define it, the most derived first: the first one wins.
    pub definers: Vec<Definer>,
}

/// One level's content for a block.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Definer {
    /// Which of the row's levels, from 0.
    pub level: usize,
    /// The line of its opening tag, 1-based.
    pub line: u32,
    /// Whether it puts in what it replaces.
    pub inherits: bool,
}

/// Who gives a block's content.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Given {
    /// The page itself.
    Own,
    /// A layout between the page and its base.
    Section,
    /// The base layout, by default.
    Base,
    /// Nobody: it is empty.
    Empty,
    /// Nobody, though it must be filled.
    Unfilled,
    /// Nobody: the region is in content that was replaced.
    Replaced,
    /// Somebody, but no region of that name takes it.
    Lost,
}

impl Given {
    fn of(block: &ChainBlock, levels: usize, winner: Option<usize>) -> Self {
        match block.state {
            BlockState::Empty => Given::Empty,
            BlockState::Unfilled => Given::Unfilled,
            BlockState::Replaced => Given::Replaced,
            BlockState::Lost => Given::Lost,
            BlockState::Default | BlockState::Overridden => match winner {
                Some(0) => Given::Own,
                Some(level) if level + 1 < levels => Given::Section,
                _ => Given::Base,
            },
        }
    }
}

/// A table for each base layout, the one of most pages first; pages without a layout are in none.
pub(super) fn tables(site: &Site) -> Vec<BlockTable> {
    let resolver = Resolver::new(site);
    let pages: Vec<SourceId> = site.pages().collect();
    let told: Vec<ChainReport> = pages
        .into_par_iter()
        .filter(|&page| resolver.chain(page).levels.len() > 1)
        .map(|page| resolver.chain_report(page))
        .collect();
    let mut by_base: FxHashMap<&str, Vec<&ChainReport>> = FxHashMap::default();
    for report in &told {
        by_base.entry(report.chain.last().map_or("", |base| &base.file)).or_default().push(report);
    }
    let mut tables: Vec<BlockTable> =
        by_base.into_iter().map(|(base, reports)| BlockTable::of(base, &reports)).collect();
    tables.sort_by(|a, b| b.rows.len().cmp(&a.rows.len()).then_with(|| a.base.cmp(&b.base)));
    tables
}

impl BlockTable {
    fn of(base: &str, reports: &[&ChainReport]) -> Self {
        let mut columns: FxHashMap<&str, usize> = FxHashMap::default();
        let mut blocks = Vec::new();
        // What has a region comes before what is lost.
        for lost in [false, true] {
            let all = reports.iter().flat_map(|report| &report.blocks);
            for block in all.filter(|block| (block.state == BlockState::Lost) == lost) {
                columns.entry(&block.name).or_insert_with(|| {
                    blocks.push(block.name.clone());
                    blocks.len() - 1
                });
            }
        }
        let row = |report: &&ChainReport| {
            let levels: Vec<String> = report.chain.iter().map(|level| level.file.clone()).collect();
            let mut cells = vec![None; blocks.len()];
            for block in &report.blocks {
                cells[columns[block.name.as_str()]] = Some(BlockCell::of(block, &levels));
            }
            BlockRow { page: report.page.clone(), levels, cells }
        };
        let rows = reports.iter().map(row).collect();
        Self { base: base.to_owned(), blocks, rows }
    }
}

impl BlockCell {
    fn of(block: &ChainBlock, levels: &[String]) -> Self {
        let level = |file: &str| levels.iter().position(|level| level == file);
        let definers: Vec<Definer> = block
            .definitions
            .iter()
            .filter_map(|known| {
                Some(Definer { level: level(&known.file)?, line: known.line, inherits: known.inherits })
            })
            .collect();
        Self { given: Given::of(block, levels.len(), definers.first().map(|first| first.level)), definers }
    }
}
