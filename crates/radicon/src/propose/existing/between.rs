//! Layouts in between: what many children of a layout override alike is said once, by a new layout between them.

use std::collections::{BTreeMap, BTreeSet};

use rustc_hash::FxHashSet;

use crate::dialect::{Kind, Loose};
use crate::propose::assemble::Plan;
use crate::propose::hierarchy::sections::LEAST_PAGES;
use crate::propose::{Job, ProposedFile, ProposedLayout, naming};
use crate::resolve::loose;
use crate::site::{Parent, Role, Template, folder, stem};
use crate::steps::{whole, whole_lines};
use crate::text::{SourceId, Span};

/// A level more is something more to know for all who read the pages: it saves the price of so many blocks at least.
const LEAST_SAVING: u64 = 5;

/// What is said alike in a single block may be a mark or a title: a level is for blocks that go together.
const LEAST_BLOCKS: usize = 2;

/// A child of a layout, and where its overrides stand: each by its name and its text.
struct Child<'s> {
    template: &'s Template,
    overrides: BTreeMap<(&'s [u8], &'s [u8]), Span>,
}

/// Children that override the same blocks alike.
struct Group<'s> {
    children: Vec<usize>,
    shared: BTreeSet<(&'s [u8], &'s [u8])>,
    saves: usize,
}

impl Job<'_> {
    /// Plans layouts between those that the site has and their children.
    pub fn between(&self, plan: &mut Plan) {
        let ignores = matches!(self.dialect.rules.loose, Loose::Ignored | Loose::Unknown);
        if !self.dialect.has_layouts() || !ignores {
            return;
        }
        let mut children: BTreeMap<SourceId, Vec<Child<'_>>> = BTreeMap::new();
        let written: FxHashSet<&str> = plan.written.iter().map(|file| file.path.as_str()).collect();
        for (id, template) in self.site.with_ids().filter(|(_, template)| !written.contains(template.path.as_str())) {
            if let Parent::Found { id: layout, .. } = self.site.parent(id) {
                children.entry(*layout).or_default().extend(self.overriding_child(template));
            }
        }
        for (layout, children) in children {
            let mut left: BTreeSet<usize> = (0..children.len()).collect();
            while let Some(group) = self.best_group(&children, &left) {
                left.retain(|at| !group.children.contains(at));
                let members: Vec<&Child<'_>> = group.children.iter().map(|&at| &children[at]).collect();
                self.put_between(self.site.get(layout), &members, &group, plan);
            }
        }
    }

    /// A template that names its layout outright, and consists of overrides.
    fn overriding_child<'t>(&self, template: &'t Template) -> Option<Child<'t>> {
        let kept = self.options.except.fit(&template.path) || self.site.is_vendored(&template.path);
        let parent = template.parent().filter(|item| !item.target.is_empty() && !item.dynamic)?;
        if kept || template.dialect.name != self.dialect.name || !loose(template).is_empty() {
            return None;
        }
        let within = template.within_controls();
        let is_plain = |at: u32| !within.get(at as usize).copied().unwrap_or_default();
        let at_parent = template.constructs.items.iter().position(|item| item.span == parent.span)? as u32;
        let overrides = template.outermost().filter(|(at, item)| item.kind == Kind::Block && is_plain(*at));
        let overrides = overrides.map(|(at, item)| {
            let span = whole(template, at);
            ((item.name.of(&template.source), span.of(&template.source)), span)
        });
        is_plain(at_parent).then(|| Child { template, overrides: overrides.collect() })
    }

    /// The group that saves most of the children that are left.
    fn best_group<'s>(&self, children: &[Child<'s>], left: &BTreeSet<usize>) -> Option<Group<'s>> {
        let mut by_override: BTreeMap<(&[u8], &[u8]), Vec<usize>> = BTreeMap::new();
        for &at in left {
            for &key in children[at].overrides.keys() {
                by_override.entry(key).or_default().push(at);
            }
        }
        let groups = by_override.into_values().filter(|children| children.len() >= LEAST_PAGES);
        let group = |members: Vec<usize>| {
            let own = |at: usize| children[at].overrides.keys().copied().collect::<BTreeSet<_>>();
            let shared = members[1..].iter().fold(own(members[0]), |shared, &at| &shared & &own(at));
            let bytes: usize = shared.iter().map(|(_, text)| text.len()).sum();
            let saves = bytes * (members.len() - 1);
            Group { children: members, shared, saves }
        };
        let pays = |group: &Group<'_>| {
            group.shared.len() >= LEAST_BLOCKS && group.saves as u64 > self.options.price() * LEAST_SAVING
        };
        groups.map(group).filter(pays).max_by_key(|group| (group.saves, std::cmp::Reverse(group.children.clone())))
    }

    /// Writes the new layout, and the children without what it says for them.
    fn put_between(&self, layout: &Template, members: &[&Child<'_>], group: &Group<'_>, plan: &mut Plan) {
        let first = members[0];
        let Some(parent) = first.template.parent() else { return };
        let home = self.home(Role::Layout);
        let words = words_for(layout, members, group);
        let is_free = |word: &&String| {
            let path = home.path(word, |_| true);
            self.site.find(&path).is_none() && !plan.taken.contains(&path)
        };
        let Some(word) = words.iter().find(is_free).or(words.first()) else { return };
        let path = self.free_path(&home, word, &mut plan.taken);
        let newline = if memchr::memmem::find(&first.template.source, b"\r\n").is_some() { "\r\n" } else { "\n" };
        let mut bytes =
            with_target(first.template, parent.span, parent.target, &self.written_name(&layout.path, Kind::Parent));
        // In the order in which the first of them says it.
        let mut shared: Vec<(&[u8], Span)> = group.shared.iter().map(|key| (key.0, first.overrides[key])).collect();
        shared.sort_by_key(|(_, span)| span.start);
        for (_, span) in &shared {
            bytes.extend_from_slice(newline.repeat(2).as_bytes());
            bytes.extend_from_slice(span.of(&first.template.source));
        }
        bytes.extend_from_slice(newline.as_bytes());
        let dialect = self.dialect.name.clone();
        let extends = Some(layout.path.clone());
        plan.written.push(ProposedFile {
            path: path.clone(),
            role: Role::Layout,
            dialect: dialect.clone(),
            extends,
            bytes,
        });
        for child in members {
            let bytes = self.without_shared(child, group, &path);
            let (own, role) = (child.template.path.clone(), child.template.role);
            let (dialect, extends) = (dialect.clone(), Some(path.clone()));
            plan.written.push(ProposedFile { path: own, role, dialect, extends, bytes });
        }
        let fills = shared.iter().map(|(name, _)| String::from_utf8_lossy(name).into_owned()).collect();
        plan.layouts.push(ProposedLayout {
            path,
            extends: Some(layout.path.clone()),
            existing: false,
            pages: members.len(),
            beneath: members.len(),
            blocks: Vec::new(),
            saves: group.saves,
            fills,
        });
    }

    /// A child as it is once its layout is another, and says what the group shares.
    fn without_shared(&self, child: &Child<'_>, group: &Group<'_>, layout: &str) -> Vec<u8> {
        let template = child.template;
        let mut bytes = template.source.to_vec();
        let mut gone: Vec<Span> = group.shared.iter().map(|key| child.overrides[key]).collect();
        gone.sort_by_key(|span| std::cmp::Reverse(span.start));
        for span in gone {
            let lines = whole_lines(template, span);
            // With the blank line that set it apart.
            let after = &template.source[lines.end as usize..];
            let blank = after.iter().position(|b| *b == b'\n').filter(|&end| after[..end].trim_ascii().is_empty());
            let end = lines.end as usize + if lines == span { 0 } else { blank.map_or(0, |end| end + 1) };
            bytes.drain(lines.start as usize..end);
        }
        let Some(parent) = template.parent() else { return bytes };
        bytes.splice(parent.target.range(), self.written_name(layout, Kind::Parent).into_bytes());
        bytes
    }
}

/// A tag of a template with another target.
fn with_target(template: &Template, tag: Span, target: Span, name: &str) -> Vec<u8> {
    let source = &template.source;
    let (before, after) = (Span::new(tag.start, target.start), Span::new(target.end, tag.end));
    [before.of(source), name.as_bytes(), after.of(source)].concat()
}

/// The words with which the names of all files begin, where they have some.
fn shared_begin<'s>(members: &[&Child<'s>]) -> Option<&'s str> {
    let first: &'s str = stem(&members[0].template.path);
    let begins = |other: &str, begin: &str| {
        other.strip_prefix(begin).is_some_and(|rest| rest.is_empty() || rest.starts_with(['-', '_', '.']))
    };
    let ends = first.match_indices(['-', '_', '.']).map(|(at, _)| at).chain([first.len()]);
    let begin = ends
        .map(|end| &first[..end])
        .rfind(|begin| members.iter().all(|child| begins(stem(&child.template.path), begin)));
    begin.filter(|begin| naming::is_telling(begin))
}

/// What the new layout may be called, the best first: as the names of its files begin, or their folder; that with the
/// layout around it; what they say in their longest block; a name from the layout and that block.
fn words_for(layout: &Template, members: &[&Child<'_>], group: &Group<'_>) -> Vec<String> {
    let first = folder(&members[0].template.path);
    let is_shared = members.iter().all(|child| folder(&child.template.path) == first);
    let of_folder = || {
        (is_shared && !first.is_empty() && first != folder(&layout.path))
            .then(|| first.rsplit('/').next().unwrap_or(first))
    };
    let longest = group.shared.iter().max_by_key(|(_, text)| text.len());
    let name = longest.map(|(name, _)| String::from_utf8_lossy(name)).unwrap_or_default();
    let with_layout = |word: &str| naming::word(&format!("{}-{word}", stem(&layout.path)));
    let place = shared_begin(members).or_else(of_folder);
    let mut words: Vec<String> = place.iter().flat_map(|place| [naming::word(place), with_layout(place)]).collect();
    words.extend(longest.and_then(|(_, text)| naming::first_telling(text)));
    words.push(with_layout(&name));
    words
}
