//! A proposal by its changes: each can be taken or left by itself.

use std::collections::BTreeSet;

use rustc_hash::{FxHashMap, FxHashSet};
use serde::{Deserialize, Serialize};

use super::assemble::Plan;
use super::proposal::{Left, ProposedFile, ProposedLayout, ProposedPartial};
use crate::prove::{Assumption, Proof, Strength, assumptions_of};
use crate::site::{Parent, Site};
use crate::text::SourceId;

/// One change of a proposal: a base layout with all that extend it and their pages, a partial with the files that
/// include it, or a file that takes what it hides as its layout.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct ProposedChange {
    /// Its number in the proposal, from 1.
    pub number: usize,
    /// The path of its base layout, its partial, or its file.
    pub path: String,
    /// The files that it creates or changes, sorted by path.
    pub files: Vec<String>,
    /// What it saves, in bytes, about: where changes share files, what each saves is counted by itself.
    pub saves: usize,
    /// How many pages it changes the templates of; all of them are proven.
    pub pages: usize,
    /// The weakest strength at which one of these pages is proven; none if there is no such page.
    pub strength: Option<Strength>,
    /// What its proof rests on and nobody has confirmed.
    pub assumptions: Vec<Assumption>,
}

/// What a layout that is planned belongs to: the outermost of the planned layouts above it.
fn root<'p>(path: &'p str, extends: &FxHashMap<&'p str, &'p str>, layouts: &FxHashSet<&str>) -> &'p str {
    let above = |path: &&'p str| extends.get(path).copied().filter(|path| layouts.contains(path));
    std::iter::successors(Some(path), above).take(layouts.len() + 1).last().unwrap_or(path)
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
        let reason = "its change was not chosen".to_owned();
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
    let users = Users::of(after);
    let changed: FxHashSet<&str> = files.iter().map(|file| file.path.as_str()).collect();
    for partial in partials {
        let including = after.find(&partial.path).map(|id| users.direct(id)).unwrap_or_default();
        let including = including.into_iter().map(|id| after.get(id).path.clone());
        let files = including.filter(|path| changed.contains(path.as_str())).chain([partial.path.clone()]);
        found.push((partial.path.clone(), files.collect::<BTreeSet<_>>().into_iter().collect(), partial.saves));
    }
    // What is left takes what it hides as its layout.
    let mut rest: Vec<(&str, Vec<String>)> = by_root.into_iter().collect();
    rest.sort_unstable();
    for (path, files) in rest {
        let size = |site: &Site| site.find(path).map_or(0, |id| site.get(id).source.len());
        found.push((path.to_owned(), files, size(before).saturating_sub(size(after))));
    }
    let strengths: FxHashMap<&str, Option<Strength>> =
        proof.pages.iter().map(|page| (page.page.as_str(), page.strength())).collect();
    let change = |(at, (path, files, saves)): (usize, (String, Vec<String>, usize))| {
        let ids: Vec<SourceId> = files.iter().filter_map(|path| after.find(path)).collect();
        let reached = users.all(&ids);
        let pages = reached.iter().filter_map(|id| strengths.get(after.get(*id).path.as_str()));
        let paths: Vec<&str> = files.iter().map(String::as_str).collect();
        ProposedChange {
            number: at + 1,
            pages: pages.clone().count(),
            strength: pages.flatten().copied().max(),
            assumptions: if proof.assumptions.is_empty() { Vec::new() } else { assumptions_of(before, after, &paths) },
            path,
            files,
            saves,
        }
    };
    found.into_iter().enumerate().map(change).collect()
}

/// Which templates take or include which.
struct Users(FxHashMap<SourceId, Vec<SourceId>>);

impl Users {
    fn of(site: &Site) -> Self {
        let mut users: FxHashMap<SourceId, Vec<SourceId>> = FxHashMap::default();
        for (id, _) in site.with_ids() {
            if let Parent::Found { id: layout, .. } = site.parent(id) {
                users.entry(*layout).or_default().push(id);
            }
            for target in site.links(id).targets().filter_map(|(_, target)| target.as_ref().ok()) {
                users.entry(*target).or_default().push(id);
            }
        }
        Self(users)
    }

    fn direct(&self, id: SourceId) -> Vec<SourceId> {
        self.0.get(&id).cloned().unwrap_or_default()
    }

    /// These, and all that take or include one of them, or one that does.
    fn all(&self, ids: &[SourceId]) -> FxHashSet<SourceId> {
        let mut reached: FxHashSet<SourceId> = FxHashSet::default();
        let mut open = ids.to_vec();
        while let Some(id) = open.pop() {
            if reached.insert(id) {
                open.extend(self.0.get(&id).into_iter().flatten());
            }
        }
        reached
    }
}
