//! What a reader pays for what a proposal adds, in bytes: one price for every choice.

use super::options::ProposeOptions;
use super::skeleton::costs::Prices;
use super::skeleton::hole::TAGS;

/// A block in a new layout costs what a reader pays for it: so many times what one must save elsewhere.
const BLOCK: u64 = 3;

/// A block that only what is around it can name is so many times as dear: people cut where a thing has a name.
const NAMELESS: u64 = 3;

/// A layout between others says as much, at least: for a class, a title or one line alone nobody opens a file.
const LEAST_OF_SECTION: u64 = 2_000;

/// So many things that go together are no class, title or line alone.
const MANY_THINGS: usize = 2;

/// Where size is all, it saves so many times the price of a block.
const LEAST_WHERE_SIZE_IS_ALL: u64 = 3;

/// What is around the content of a kind of pages is worth a layout where it saves so many times the price of a block.
const LEAST_OF_KIND: u64 = 9;

/// Of small sites it says this share of their bytes.
const SHARE_OF_SITE: u64 = 20;

/// The prices of blocks at the price of a goal; fine, they are cut where that saves bytes.
pub fn of_blocks(fine: bool, price: u64) -> Prices {
    match fine {
        true => Prices { layout: price, page: price, nameless: 0 },
        false => {
            let layout = price * BLOCK;
            Prices { layout, page: TAGS as u64, nameless: layout * NAMELESS }
        }
    }
}

/// What a layout between others saves, at least, where pages have so many bytes.
pub fn of_section(options: &ProposeOptions, price: u64, bytes: usize) -> u64 {
    let usual = match options.is_small() {
        true => price * LEAST_WHERE_SIZE_IS_ALL,
        false => LEAST_OF_SECTION.min(bytes as u64 / SHARE_OF_SITE).max(price * BLOCK),
    };
    options.min_saving.unwrap_or(usual)
}

/// The same of one that says so many things, single lines or not.
pub fn of_section_with(options: &ProposeOptions, section: u64, things: usize, single_lines: bool) -> u64 {
    let is_asked_for = options.is_small() || options.min_saving.is_some();
    match single_lines && things < MANY_THINGS && !is_asked_for {
        true => section.max(LEAST_OF_SECTION),
        false => section,
    }
}

/// What the layout of a kind of pages saves, at least, where other layouts between save so much.
pub fn of_kind(options: &ProposeOptions, section: u64) -> u64 {
    section.min(options.price() * LEAST_OF_KIND)
}
