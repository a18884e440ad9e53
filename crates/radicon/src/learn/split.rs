//! Two engines in one folder, with one suffix: which file belongs to which.

use std::collections::{BTreeMap, BTreeSet};

use super::meaning::{Meanings, Reasoner};
use crate::dialect::Kind;

/// How many files of each engine must name a layout.
const LEAST_CHILDREN: usize = 2;

/// The files of each engine, if there are several: those whose layouts are named in different
/// notations, with whatever they name. What is named by neither goes with the greatest.
pub(super) fn apart(reasoner: &Reasoner<'_>, found: &Meanings) -> Option<Vec<Vec<usize>>> {
    let files = reasoner.corpus.texts.len();
    // For each notation the files that name their layout in it.
    let mut children: BTreeMap<usize, BTreeSet<usize>> = BTreeMap::new();
    for (id, _) in found.of.iter().filter(|(_, meaning)| meaning.kind == Kind::Parent) {
        let directive = &reasoner.directives[*id];
        children.entry(directive.notation).or_default().extend(directive.tags.iter().map(|&at| reasoner.tags[at].file));
    }
    children.retain(|_, files| files.len() >= LEAST_CHILDREN);
    if children.len() < 2 {
        return None;
    }
    // Files that name each other belong together.
    let mut leader: Vec<usize> = (0..files).collect();
    for reference in reasoner.references.iter().filter(|r| found.of.contains_key(&r.directive)) {
        for (tag, target) in &reference.edges {
            if let Some(target) = reasoner.file_of(*target) {
                let (a, b) = (root(&leader, reasoner.tags[*tag].file), root(&leader, target));
                leader[a.max(b)] = a.min(b);
            }
        }
    }
    let mut owner: BTreeMap<usize, usize> = BTreeMap::new();
    for (&notation, files) in &children {
        for &file in files {
            // Files of both notations that name each other are those of one engine.
            if *owner.entry(root(&leader, file)).or_insert(notation) != notation {
                return None;
            }
        }
    }
    let greatest = children.iter().max_by_key(|(_, files)| files.len()).map(|(notation, _)| *notation)?;
    let mut apart: BTreeMap<usize, Vec<usize>> = BTreeMap::new();
    for file in 0..files {
        let notation = owner.get(&root(&leader, file)).copied().unwrap_or(greatest);
        apart.entry(notation).or_default().push(file);
    }
    let mut apart: Vec<Vec<usize>> = apart.into_values().collect();
    apart.sort_by_key(|files| std::cmp::Reverse(files.len()));
    Some(apart)
}

fn root(leader: &[usize], mut file: usize) -> usize {
    while leader[file] != file {
        file = leader[file];
    }
    file
}
