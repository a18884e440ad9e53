//! Folder rules: layouts that pages do not name themselves.

use super::lookup::{beneath, file_name, folder, join};
use super::{FolderRule, Parent, Problem, ProblemKind, Role, Site, SourceId, Template};
use crate::dialect::Kind;

impl FolderRule {
    /// Whether it should give a layout to a template, and the layout is not there.
    pub fn lacks_layout_of(&self, site: &Site, template: &Template) -> bool {
        self.layout.as_ref().is_some_and(|name| site.find_named(name).is_none()) && self.holds(&template.path)
    }

    /// Whether it holds for a path.
    pub(super) fn holds(&self, path: &str) -> bool {
        beneath(path, &self.path).is_some() && !self.except.fit(path)
    }

    /// The names of files that stand for their folder and are no pages.
    fn fixed_names(&self) -> impl Iterator<Item = &str> {
        self.marker.iter().chain(&self.layout_file).map(String::as_str)
    }
}

/// The rules that hold for a path, those of the deepest folder first.
pub(super) fn rules_for<'r>(rules: &'r [FolderRule], path: &str) -> Vec<&'r FolderRule> {
    let mut holding: Vec<_> = rules.iter().filter(|rule| rule.holds(path)).collect();
    holding.sort_by_key(|rule| std::cmp::Reverse(rule.path.len()));
    holding
}

/// The templates that the rules give.
#[derive(Debug, Default)]
pub(super) struct Given {
    /// Layouts of templates that name none.
    pub parents: Vec<(SourceId, SourceId, String)>,
    /// Files put before and after pages.
    pub around: Vec<(SourceId, Vec<SourceId>, Vec<SourceId>)>,
    /// Files that only say what holds for their folder.
    pub markers: Vec<SourceId>,
    /// Rules that name what is not there.
    pub problems: Vec<Problem>,
}

/// Applies the rules to all pages of a site whose roles are known but for them.
pub(super) fn apply(site: &Site, rules: &[FolderRule]) -> Given {
    let mut given = Given::default();
    if rules.is_empty() {
        return given;
    }
    let named = |name: &String| site.find_named(name);
    for rule in rules {
        for name in rule.layout.iter().chain(&rule.before).chain(&rule.after).filter(|name| named(name).is_none()) {
            let message = format!("the rule for the directory `{}` names `{name}`, which is not a template", rule.path);
            given.problems.push(Problem {
                file: "radicon.toml".into(),
                at: None,
                kind: ProblemKind::Reference,
                message,
            });
        }
    }
    let used: Vec<SourceId> = rules
        .iter()
        .flat_map(|rule| rule.layout.iter().chain(&rule.before).chain(&rule.after))
        .filter_map(named)
        .collect();
    for (id, template) in (0..).map(SourceId).zip(&site.templates) {
        let rules = rules_for(rules, &template.path);
        let file = file_name(&template.path);
        if rules.iter().any(|rule| rule.marker.as_deref() == Some(file)) {
            given.markers.push(id);
            continue;
        }
        let fixed = rules.iter().find(|rule| rule.fixed_names().any(|name| name == file));
        let parent = &site.links[id.index()].parent;
        if *parent == Parent::None && (fixed.is_some_and(|rule| rule.nested) || fixed.is_none()) {
            let is_page = template.role == Role::Page && !used.contains(&id);
            let found = rules.iter().find_map(|rule| layout(site, rule, id, fixed.is_some()));
            if let Some((layout, why)) = found.filter(|(layout, _)| *layout != id && (is_page || fixed.is_some())) {
                given.parents.push((id, layout, why));
            }
        }
        if fixed.is_none() && template.role == Role::Page && !used.contains(&id) && *parent != Parent::OptedOut {
            let all = |list: fn(&FolderRule) -> &Vec<String>| -> Vec<SourceId> {
                rules
                    .iter()
                    .map(|rule| list(rule))
                    .find(|list| !list.is_empty())
                    .into_iter()
                    .flatten()
                    .filter_map(named)
                    .collect()
            };
            let (before, after) = (all(|rule| &rule.before), all(|rule| &rule.after));
            if !(before.is_empty() && after.is_empty()) {
                given.around.push((id, before, after));
            }
        }
    }
    given
}

/// The layout that a rule gives to a template, and why.
fn layout(site: &Site, rule: &FolderRule, id: SourceId, is_layout: bool) -> Option<(SourceId, String)> {
    let own = folder(&site.get(id).path);
    // A layout file looks for its own layout above its folder.
    let from = if is_layout { above(own) } else { Some(own) };
    let upwards =
        || std::iter::successors(from, |at| above(at)).filter(|at| rule.path.is_empty() || at.starts_with(&rule.path));
    let find = |at: &str, name: &str| site.find(&join(at, name)?);
    if let Some(marker) = rule.marker.as_ref().filter(|_| !is_layout) {
        let found = upwards().find_map(|at| find(at, marker));
        if let Some((marker, Parent::Found { id: layout, .. })) = found.map(|at| (at, &site.links[at.index()].parent)) {
            return Some((*layout, format!("by the marker {}", site.get(marker).path)));
        }
    }
    if let Some(name) = &rule.layout_file {
        let last = rule.layout_folder.as_deref().filter(|_| !is_layout);
        let found = upwards().chain(last).find_map(|at| find(at, name)).filter(|&found| found != id);
        if let Some(found) = found {
            return Some((found, format!("by the file name {name}")));
        }
    }
    let name = rule.layout.as_ref().filter(|_| !is_layout)?;
    let found =
        site.find(name).or_else(|| site.lookup(id, name, Kind::Parent).ok()).or_else(|| site.find_named(name))?;
    Some((found, format!("by the rule for the directory {}", if rule.path.is_empty() { "." } else { &rule.path })))
}

/// The folder that holds a folder.
fn above(path: &str) -> Option<&str> {
    (!path.is_empty()).then(|| folder(path))
}
