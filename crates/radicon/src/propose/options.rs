//! What a proposal aims at, and by which means.

use std::collections::BTreeMap;
use std::sync::Arc;

use crate::config::Globs;
use crate::dialect::Dialect;
use crate::prove::Strength;
use crate::site::{Partials, ProposeSettings, Selector, beneath};

/// The aim of a proposal.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Goal {
    /// As few bytes as possible: several ways to cut pages into blocks are tried, which takes three to five times as
    /// long, two copies make a partial, blocks are closed by the shortest tag that the dialect has, names have few words,
    /// and a base may show what is one section's.
    Smallest,
    /// As people would write it.
    #[default]
    Balanced,
    /// Fewer and bigger blocks, at the price of some size.
    Fewest,
}

impl Goal {
    /// The cost of one block, in bytes.
    pub(super) const fn price(self) -> u64 {
        match self {
            Goal::Smallest => 50,
            Goal::Balanced => 100,
            Goal::Fewest => 200,
        }
    }
}

/// How to propose.
#[derive(Clone, Debug)]
pub struct ProposeOptions {
    /// `Bytes` keeps every byte of every page; `Blanks` (the default) may change
    /// insignificant whitespace and writes tidy, indented templates; `Dom` may
    /// also write tags otherwise: the order of attributes, quotes, letter case.
    pub strength: Strength,
    /// The dialect to write; by default that of the site's layouts, else `margin`.
    pub dialect: Option<Arc<Dialect>>,
    /// The aim of the proposal.
    pub goal: Goal,
    /// What one block must save, in bytes; one in a new layout three times as much. `None` for the price of the goal.
    /// Higher: fewer, bigger blocks.
    pub block_price: Option<u64>,
    /// The most levels of layouts (default 8).
    pub levels: usize,
    /// The kinds of markup that become partials.
    pub partials: Partials,
    /// Whether copies that are outdated are first made like the others (default no).
    /// These pages change; all else is proven against the pages so healed.
    pub heal: bool,
    /// What a layout between others or a partial must save, in bytes; `None` for 2,000, or a twentieth of a site below
    /// 40,000, and for a partial a thousandth of the site unless it is a region of the page.
    pub min_saving: Option<u64>,
    /// Templates that stay as they are.
    pub except: Globs,
    /// The folders whose templates may change, from the site's folder; all if there are none.
    pub only_in: Vec<String>,
    /// Elements whose content is one block each, with the block's name; nothing in
    /// them becomes a block of its own.
    pub regions: Vec<(String, Selector)>,
    /// Names of blocks, layouts and partials as they are proposed, and what to call them instead.
    pub names: BTreeMap<String, String>,
    /// Which changes to propose.
    pub choice: Choice,
}

/// Which changes of a proposal are meant, each by its number or its path; see
/// [`ProposedChange`](super::ProposedChange).
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub enum Choice {
    /// All of them.
    #[default]
    All,
    /// These.
    Only(Vec<String>),
    /// All but these.
    Except(Vec<String>),
}

impl ProposeOptions {
    /// The cost of one block, in bytes.
    pub(super) fn price(&self) -> u64 {
        self.block_price.unwrap_or(self.goal.price())
    }

    /// Whether a template is to stay as it is.
    pub(super) fn keep_out(&self, path: &str) -> bool {
        let is_in = |folder: &String| beneath(path, folder).is_some();
        self.except.fit(path) || !self.only_in.is_empty() && !self.only_in.iter().any(is_in)
    }

    /// Size is all.
    pub(super) fn is_small(&self) -> bool {
        self.goal == Goal::Smallest
    }

    /// The name for something that would have this name.
    pub(super) fn called(&self, name: String) -> String {
        self.names.get(&name).cloned().unwrap_or(name)
    }
}

impl From<&ProposeSettings> for ProposeOptions {
    /// As the settings of a site ask for it.
    fn from(settings: &ProposeSettings) -> Self {
        let usual = Self::default();
        Self {
            block_price: settings.block_price,
            levels: settings.levels.map_or(usual.levels, |levels| levels as usize),
            partials: settings.partials.unwrap_or(usual.partials),
            min_saving: settings.min_saving,
            except: settings.except.clone(),
            regions: settings.regions.clone(),
            names: settings.names.clone(),
            ..usual
        }
    }
}

impl Default for ProposeOptions {
    fn default() -> Self {
        Self {
            strength: Strength::Blanks,
            dialect: None,
            goal: Goal::default(),
            block_price: None,
            levels: 8,
            partials: Partials::Repeats,
            heal: false,
            min_saving: None,
            except: Globs::default(),
            only_in: Vec::new(),
            regions: Vec::new(),
            names: BTreeMap::new(),
            choice: Choice::All,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn templates_outside_of_the_chosen_folders_stay_as_they_are() {
        let only_in = vec!["crew".to_owned(), "booking/parts".to_owned()];
        let options = ProposeOptions { only_in, ..ProposeOptions::default() };
        let paths = ["crew/rota.html", "crewel.html", "booking/pay.html", "booking/parts/old.html"];
        let kept: Vec<&str> = paths.into_iter().filter(|path| options.keep_out(path)).collect();
        assert_eq!(kept, ["crewel.html", "booking/pay.html"]);
        assert!(paths.iter().all(|path| !ProposeOptions::default().keep_out(path)));
    }

    #[test]
    fn settings_leave_the_rest_as_usual() {
        let settings = ProposeSettings { levels: Some(2), ..ProposeSettings::default() };
        let options = ProposeOptions::from(&settings);
        assert_eq!((options.levels, options.price(), options.partials), (2, 100, Partials::Repeats));
        let tidy = ProposeOptions { goal: Goal::Fewest, block_price: None, ..options };
        assert_eq!(tidy.price(), 200);
        assert_eq!(ProposeOptions { block_price: Some(7), ..tidy }.price(), 7);
    }
}
