//! A proposal by its changes: each can be taken or left by itself.

use std::collections::BTreeSet;

use rustc_hash::{FxHashMap, FxHashSet};

use super::assemble::Plan;
use super::options::Choice;
use super::proposal::{Left, ProposeError, ProposedChange, ProposedFile, ProposedLayout, ProposedPartial};
use crate::prove::{Proof, Strength, assumptions_of};
use crate::resolve::Resolver;
use crate::site::Site;
use crate::text::SourceId;

/// The outermost of the planned layouts above a layout, or itself.
fn root<'p>(path: &'p str, extends: &FxHashMap<&'p str, &'p str>, layouts: &FxHashSet<&str>) -> &'p str {
    let above = |path: &&'p str| extends.get(path).copied().filter(|path| layouts.contains(path));
    std::iter::successors(Some(path), above).take(layouts.len() + 1).last().unwrap_or(path)
}

/// The paths of the changes that are meant; `None` if all are.
pub fn chosen(all: &[ProposedChange], choice: &Choice) -> Result<Option<BTreeSet<String>>, ProposeError> {
    let (named, are_kept) = match choice {
        Choice::All => return Ok(None),
        Choice::Only(named) => (named, true),
        Choice::Except(named) => (named, false),
    };
    let find = |wanted: &String| {
        let is_meant = |change: &&ProposedChange| *wanted == change.number.to_string() || *wanted == change.path;
        let none = || ProposeError::NoChange { wanted: wanted.clone(), changes: all.len() };
        all.iter().find(is_meant).map(|change| change.number).ok_or_else(none)
    };
    let named: BTreeSet<usize> = named.iter().map(find).collect::<Result<_, _>>()?;
    let is_chosen = |change: &&ProposedChange| named.contains(&change.number) == are_kept;
    Ok(Some(all.iter().filter(is_chosen).map(|change| change.path.clone()).collect()))
}

/// Numbers the changes that are left as they were among all.
///
/// # Errors
/// If one that was chosen is not there.
pub fn renumber(
    some: &mut [ProposedChange],
    all: &[ProposedChange],
    chosen: &BTreeSet<String>,
) -> Result<(), ProposeError> {
    let is_missing = |path: &&String| some.iter().all(|change| change.path != **path);
    if let Some(path) = chosen.iter().find(is_missing) {
        return Err(ProposeError::PaysWithOthers(path.clone()));
    }
    for change in some {
        change.number = all.iter().find(|known| known.path == change.path).map_or(change.number, |known| known.number);
    }
    Ok(())
}

impl Plan {
    /// Keeps the changes that were asked for, by their paths.
    pub fn keep(&mut self, only: Option<&BTreeSet<String>>) {
        let Some(only) = only else { return };
        let extends = self.written.iter().filter_map(|file| Some((file.path.as_str(), file.extends.as_deref()?)));
        let extends: FxHashMap<&str, &str> = extends.collect();
        let layouts: FxHashSet<&str> = self.layouts.iter().map(String::as_str).collect();
        let is_wanted = |path: &str| only.contains(root(path, &extends, &layouts));
        let (wanted, others): (Vec<bool>, Vec<bool>) = (
            self.written.iter().map(|file| is_wanted(&file.path)).collect(),
            self.layouts.iter().map(|path| is_wanted(path)).collect(),
        );
        let (mut wanted, mut others) = (wanted.into_iter(), others.into_iter());
        let reason = "not among the chosen changes".to_owned();
        self.layouts.retain(|_| others.next().unwrap_or(true));
        let left = &mut self.left;
        self.written.retain(|file| {
            let stays = wanted.next().unwrap_or(true);
            if !stays && file.extends.is_some() {
                left.push(Left { page: file.path.clone(), reason: reason.clone() });
            }
            stays
        });
    }
}

/// The changes that a proposal consists of.
pub fn of(
    layouts: &[ProposedLayout],
    partials: &[ProposedPartial],
    files: &[ProposedFile],
    proof: &Proof,
    (before, after): (&Site, &Site),
) -> Vec<ProposedChange> {
    let extends = files.iter().filter_map(|file| Some((file.path.as_str(), file.extends.as_deref()?)));
    let known = layouts.iter().filter_map(|layout| Some((layout.path.as_str(), layout.extends.as_deref()?)));
    let extends: FxHashMap<&str, &str> = extends.chain(known).collect();
    let planned: FxHashSet<&str> = layouts.iter().map(|layout| layout.path.as_str()).collect();
    let mut by_root: FxHashMap<&str, Vec<String>> = FxHashMap::default();
    for file in files.iter().filter(|file| file.extends.is_some() || planned.contains(file.path.as_str())) {
        by_root.entry(root(&file.path, &extends, &planned)).or_default().push(file.path.clone());
    }
    let mut found: Vec<(String, Vec<String>, usize)> = Vec::new();
    for layout in layouts.iter().filter(|layout| root(&layout.path, &extends, &planned) == layout.path) {
        found.push((layout.path.clone(), by_root.remove(layout.path.as_str()).unwrap_or_default(), layout.saves));
    }
    let resolver = Resolver::new(after);
    let mut including: FxHashMap<SourceId, Vec<String>> = FxHashMap::default();
    for (path, id) in files.iter().filter_map(|file| Some((&file.path, after.find(&file.path)?))) {
        for target in resolver.named(id).into_iter().collect::<BTreeSet<_>>() {
            including.entry(target).or_default().push(path.clone());
        }
    }
    for partial in partials {
        let mut files = after.find(&partial.path).and_then(|id| including.remove(&id)).unwrap_or_default();
        files.push(partial.path.clone());
        files.sort_unstable();
        found.push((partial.path.clone(), files, partial.saves));
    }
    // What is left takes what it hides as its layout.
    let mut rest: Vec<(&str, Vec<String>)> = by_root.into_iter().collect();
    rest.sort_unstable();
    for (path, files) in rest {
        let size = |site: &Site| site.find(path).map_or(0, |id| site.get(id).source.len());
        found.push((path.to_owned(), files, size(before).saturating_sub(size(after))));
    }
    let mut of_file: FxHashMap<SourceId, Vec<usize>> = FxHashMap::default();
    for (at, (_, files, _)) in found.iter().enumerate() {
        files.iter().filter_map(|path| after.find(path)).for_each(|id| of_file.entry(id).or_default().push(at));
    }
    // How many pages each touches, and how strongly they are proven.
    let mut touched: Vec<(usize, Option<Strength>)> = vec![(0, None); found.len()];
    for (id, strength) in proof.pages.iter().filter_map(|page| Some((after.find(&page.page)?, page.strength()))) {
        let reached = resolver.reached(id).into_iter().filter_map(|id| of_file.get(&id)).flatten();
        for at in reached.collect::<BTreeSet<_>>() {
            touched[*at] = (touched[*at].0 + 1, touched[*at].1.max(strength));
        }
    }
    let change = |(at, (path, files, saves)): (usize, (String, Vec<String>, usize))| {
        let paths: Vec<&str> = files.iter().map(String::as_str).collect();
        ProposedChange {
            number: at + 1,
            pages: touched[at].0,
            strength: touched[at].1,
            assumptions: if proof.assumptions.is_empty() { Vec::new() } else { assumptions_of(before, after, &paths) },
            path,
            files,
            saves,
        }
    };
    found.into_iter().enumerate().map(change).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn change(number: usize, path: &str) -> ProposedChange {
        let (files, assumptions) = (Vec::new(), Vec::new());
        ProposedChange { number, path: path.into(), files, saves: 0, pages: 0, strength: None, assumptions }
    }

    #[test]
    fn changes_are_chosen_by_number_or_path() {
        let all = [change(1, "base.html"), change(2, "crew.html"), change(3, "parts/card.html")];
        let names = |names: &[&str]| names.iter().map(|name| (*name).to_owned()).collect::<Vec<_>>();
        let rows = [
            (Choice::All, None),
            (Choice::Only(names(&["2", "base.html", "2"])), Some(names(&["base.html", "crew.html"]))),
            (Choice::Except(names(&["parts/card.html"])), Some(names(&["base.html", "crew.html"]))),
            (Choice::Except(names(&["1", "2", "3"])), Some(Vec::new())),
        ];
        for (choice, expected) in rows {
            let found = chosen(&all, &choice).expect("changes that are there");
            assert_eq!(found.map(|paths| paths.into_iter().collect::<Vec<_>>()), expected, "{choice:?}");
        }
        let error = chosen(&all, &Choice::Only(names(&["4"]))).expect_err("no such change").to_string();
        assert!(error.contains("`4`"), "{error}");
    }

    #[test]
    fn chosen_changes_keep_their_numbers() {
        let all = [change(1, "base.html"), change(2, "crew.html")];
        let mut some = [change(1, "crew.html")];
        let wanted = |path: &str| BTreeSet::from([path.to_owned()]);
        renumber(&mut some, &all, &wanted("crew.html")).expect("it is there");
        assert_eq!(some[0].number, 2);
        assert!(renumber(&mut some, &all, &wanted("base.html")).is_err(), "a chosen change is gone");
    }
}
