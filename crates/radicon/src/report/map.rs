//! How layouts, pages and partials hang together.

use std::collections::BTreeMap;

use rustc_hash::FxHashMap;
use serde::Serialize;

use crate::report::Survey;
use crate::resolve::Resolver;
use crate::site::{Parent, Role, Site, folder};
use crate::text::SourceId;

/// The layouts with their pages, and who includes which partial.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct LayoutMap {
    /// The layouts as a tree: each is followed by those that extend it.
    pub layouts: Vec<LayoutNode>,
    /// Pages without a layout, by folder.
    pub bare: Vec<PageFolder>,
    /// The partials, by path.
    pub partials: Vec<PartialNode>,
}

/// A layout.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct LayoutNode {
    /// Its path.
    pub path: String,
    /// The dialect it is written in.
    pub dialect: String,
    /// How many layouts it is on.
    pub depth: usize,
    /// The pages that extend it, by folder.
    pub folders: Vec<PageFolder>,
    /// How many pages are on it, also by way of other layouts.
    pub beneath: usize,
    /// The partials that it includes itself.
    pub includes: Vec<String>,
}

/// The pages of one folder that have the same layout.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct PageFolder {
    /// The folder; empty for the site's own.
    pub folder: String,
    /// How many they are.
    pub pages: usize,
    /// The path of the first one.
    pub first: String,
    /// The partials that they include.
    pub includes: Vec<String>,
}

/// A partial.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct PartialNode {
    /// Its path.
    pub path: String,
    /// The files that include it, by path.
    pub users: Vec<String>,
}

impl LayoutMap {
    pub(super) fn of(site: &Site, survey: &Survey) -> Self {
        let mut children: FxHashMap<Option<SourceId>, Vec<SourceId>> = FxHashMap::default();
        for id in site.ids() {
            let parent = match site.parent(id) {
                Parent::Found { id, .. } => Some(*id),
                _ => None,
            };
            children.entry(parent).or_default().push(id);
        }
        let resolver = Resolver::new(site);
        let mut beneath: FxHashMap<SourceId, usize> = FxHashMap::default();
        for page in site.pages() {
            for &level in resolver.chain(page).levels.iter().skip(1) {
                *beneath.entry(level).or_default() += 1;
            }
        }
        let of = |parent: Option<SourceId>| children.get(&parent).map_or(&[][..], |ids| &ids[..]);
        let folders = |parent: Option<SourceId>| folders(site, survey, of(parent));
        let is_layout = |id: &&SourceId| site.get(**id).role == Role::Layout;
        let mut layouts = Vec::new();
        // A round of parents is nobody's child, and left out; `check` tells of it.
        let mut open: Vec<(SourceId, usize)> = of(None).iter().rev().filter(is_layout).map(|&id| (id, 0)).collect();
        while let Some((id, depth)) = open.pop() {
            open.extend(of(Some(id)).iter().rev().filter(is_layout).map(|&id| (id, depth + 1)));
            let template = site.get(id);
            layouts.push(LayoutNode {
                path: template.path.clone(),
                dialect: template.dialect.name.clone(),
                depth,
                folders: folders(Some(id)),
                beneath: beneath.get(&id).copied().unwrap_or(0),
                includes: survey.files[id.index()].includes.clone(),
            });
        }
        Self { layouts, bare: folders(None), partials: partials(survey) }
    }
}

fn folders(site: &Site, survey: &Survey, ids: &[SourceId]) -> Vec<PageFolder> {
    let mut by_folder: BTreeMap<&str, PageFolder> = BTreeMap::new();
    for &id in ids.iter().filter(|id| site.get(**id).role == Role::Page) {
        let path = &site.get(id).path;
        let own = folder(path);
        let found = by_folder.entry(own).or_insert_with(|| PageFolder {
            folder: own.to_owned(),
            pages: 0,
            first: path.clone(),
            includes: Vec::new(),
        });
        found.pages += 1;
        found.includes.extend(survey.files[id.index()].includes.iter().cloned());
    }
    let sorted = |mut folder: PageFolder| {
        folder.includes.sort();
        folder.includes.dedup();
        folder
    };
    by_folder.into_values().map(sorted).collect()
}

fn partials(survey: &Survey) -> Vec<PartialNode> {
    let mut users: BTreeMap<&str, Vec<String>> = BTreeMap::new();
    for file in &survey.files {
        if file.role == Role::Partial {
            users.entry(&file.path).or_default();
        }
        for included in &file.includes {
            users.entry(included).or_default().push(file.path.clone());
        }
    }
    let node = |(path, mut users): (&str, Vec<String>)| {
        users.dedup();
        PartialNode { path: path.to_owned(), users }
    };
    users.into_iter().map(node).collect()
}
