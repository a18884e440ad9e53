//! Layouts in between: what many children of a layout override alike is said once, by a new layout between them.

use std::collections::{BTreeMap, BTreeSet};

use crate::dialect::Kind;
use crate::propose::assemble::Plan;
use crate::propose::existing::children::changed_file;
use crate::propose::existing::children::{Change, Child, Own};
use crate::propose::existing::wrapped::Wrapper;
use crate::propose::hierarchy::reasons::{self, LEAST_PAGES, MOST};
use crate::propose::{Job, ProposedFile, naming, price};
use crate::site::{Role, Template, beneath, folder, stem};
use crate::text::{SourceId, Span, trim_blanks};

/// The content that children have alike in a block.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Alike<'s> {
    /// All of it, tags and all.
    Same(&'s [u8]),
    /// The wrapper of this number around what is theirs.
    Wrapped(usize),
}

/// Children of a place that override the same blocks alike.
struct Group<'s> {
    place: Place<'s>,
    children: Vec<usize>,
    shared: BTreeMap<&'s [u8], Alike<'s>>,
    saves: usize,
}

/// The children of a layout, with what they say alike.
struct Siblings<'c, 's> {
    layout: &'s Template,
    children: Vec<&'c Child<'s>>,
    /// The wrappers, with their blocks' names; their members are places among the children.
    wrappers: Vec<(&'s [u8], Wrapper)>,
    /// For each child what it says as others do.
    alike: Vec<BTreeSet<(&'s [u8], Alike<'s>)>>,
}

impl Job<'_> {
    /// Plans layouts between those that the site has and their children. Whether there are some.
    pub fn between(&self, children: &[Child<'_>], plan: &mut Plan) -> bool {
        let known = plan.layouts.len();
        let mut families: BTreeMap<SourceId, Vec<&Child<'_>>> = BTreeMap::new();
        for child in children {
            if let Some(layout) = child.layout {
                families.entry(layout).or_default().push(child);
            }
        }
        for (layout, children) in families.into_iter().filter(|(_, children)| children.len() >= LEAST_PAGES) {
            // About as many bytes as these pages have when they are put together.
            let of_layout = self.site.get(layout).source.len();
            let bytes = children.iter().map(|child| of_layout + child.template.source.len()).sum();
            let least = price::of_section(self.options, self.price, bytes);
            let siblings = self.siblings(layout, children);
            let mut left: BTreeSet<usize> = (0..siblings.children.len()).collect();
            while let Some(group) = self.best_group(&siblings, &left, least) {
                left.retain(|at| !group.children.contains(at));
                self.put_between(&siblings, &group, plan);
            }
        }
        plan.layouts.len() > known
    }

    fn siblings<'c, 's>(&'s self, layout: SourceId, children: Vec<&'c Child<'s>>) -> Siblings<'c, 's> {
        let mut alike: Vec<BTreeSet<(&[u8], Alike<'_>)>> = Vec::with_capacity(children.len());
        let mut overriders: BTreeMap<&[u8], Vec<usize>> = BTreeMap::new();
        for (at, child) in children.iter().enumerate() {
            let text = |own: &Own| Alike::Same(own.whole.of(&child.template.source));
            alike.push(child.overrides.iter().map(|(name, own)| (*name, text(own))).collect());
            for (name, _) in child.overrides.iter().filter(|(_, own)| own.is_plain) {
                overriders.entry(name).or_default().push(at);
            }
        }
        let mut wrappers: Vec<(&[u8], Wrapper)> = Vec::new();
        overriders.retain(|_, overriders| overriders.len() >= LEAST_PAGES);
        let taken = if overriders.is_empty() { Vec::new() } else { self.names_around(layout) };
        for (name, overriders) in overriders {
            let overriders: Vec<(usize, &Child<'_>)> = overriders.iter().map(|&at| (at, children[at])).collect();
            for wrapper in self.wrappers(name, &overriders, None, &taken) {
                let number = Alike::Wrapped(wrappers.len());
                for at in wrapper.members() {
                    alike[at].insert((name, number));
                }
                wrappers.push((name, wrapper));
            }
        }
        Siblings { layout: self.site.get(layout), children, wrappers, alike }
    }

    /// The group that saves most of the children that are left, and what a section saves at least: children of one place,
    /// and all of it.
    fn best_group<'s>(&self, siblings: &Siblings<'_, 's>, left: &BTreeSet<usize>, least: u64) -> Option<Group<'s>> {
        let mut by_override: BTreeMap<(&[u8], Alike<'_>), Vec<usize>> = BTreeMap::new();
        for &at in left {
            for &key in &siblings.alike[at] {
                by_override.entry(key).or_default().push(at);
            }
        }
        let groups = by_override.into_values().filter(|children| children.len() >= LEAST_PAGES);
        let group = |members: Vec<usize>| {
            let place = siblings.place_of(&members)?;
            let own = |at: usize| siblings.alike[at].clone();
            let all = members[1..].iter().fold(own(members[0]), |shared, &at| &shared & &own(at));
            // Of a block all that is alike, where that is so of it.
            let mut shared: BTreeMap<&[u8], Alike<'_>> = BTreeMap::new();
            for (name, alike) in all {
                shared.entry(name).or_insert(alike);
            }
            let bytes = |alike: &Alike<'_>| match alike {
                Alike::Same(text) => text.len() * (members.len() - 1),
                Alike::Wrapped(number) => siblings.wrappers[*number].1.saves_for(members.len()),
            };
            let saves = shared.values().map(bytes).sum();
            Some(Group { place, children: members, shared, saves })
        };
        let has_lines = |alike: &Alike<'_>| match alike {
            Alike::Same(text) => trim_blanks(text).contains(&b'\n'),
            Alike::Wrapped(_) => true,
        };
        let pays = |group: &Group<'_>| {
            let single_lines = !group.shared.values().any(has_lines);
            let least = price::of_section_with(self.options, least, group.shared.len(), single_lines);
            group.saves as u64 >= least
        };
        groups
            .filter_map(group)
            .filter(pays)
            .max_by_key(|group| (group.saves, std::cmp::Reverse(group.children.clone())))
    }

    /// Writes the new layout, and the children without what it says for them.
    fn put_between(&self, siblings: &Siblings<'_, '_>, group: &Group<'_>, plan: &mut Plan) {
        let layout = siblings.layout;
        let members: Vec<&Child<'_>> = group.children.iter().map(|&at| siblings.children[at]).collect();
        let first = members[0];
        let Some(parent) = first.template.parent() else { return };
        let home = self.home(Role::Layout).in_folder(folder(&layout.path));
        let words = words_for(layout, &members, group);
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
        let mut shared: Vec<(&[u8], Alike<'_>)> = group.shared.iter().map(|(name, alike)| (*name, *alike)).collect();
        shared.sort_by_key(|(name, _)| first.overrides[name].whole.start);
        for (name, alike) in &shared {
            bytes.extend_from_slice(newline.repeat(2).as_bytes());
            match alike {
                Alike::Same(text) => bytes.extend_from_slice(text),
                Alike::Wrapped(number) => {
                    let own = &first.overrides[name];
                    let lines = own.inner.of(&first.template.source).contains(&b'\n');
                    let name = String::from_utf8_lossy(name);
                    bytes.extend(trim_blanks(&siblings.wrappers[*number].1.filling(self, &name, lines)));
                }
            }
        }
        bytes.extend_from_slice(newline.as_bytes());
        let (dialect, extends) = (self.dialect.name.clone(), Some(layout.path.clone()));
        plan.replace(ProposedFile { path: path.clone(), role: Role::Layout, dialect, extends, bytes });
        let name = self.written_name(&path, Kind::Parent);
        for (&at, child) in group.children.iter().zip(&members) {
            let change = |alike: &Alike<'_>| match alike {
                Alike::Same(_) => Change::Drop,
                Alike::Wrapped(number) => siblings.wrappers[*number].1.change(self, at),
            };
            let changes = group.shared.iter().map(|(name, alike)| (*name, change(alike))).collect();
            let bytes = child.with(&changes, Some(&name));
            plan.replace(changed_file(child.template, bytes, Some(path.clone())));
        }
        plan.reasons.insert(path.clone(), group.place.told());
        plan.layouts.push(path);
    }
}

/// A tag of a template with another target.
fn with_target(template: &Template, tag: Span, target: Span, name: &str) -> Vec<u8> {
    let source = &template.source;
    let (before, after) = (Span::new(tag.start, target.start), Span::new(target.end, tag.end));
    [before.of(source), name.as_bytes(), after.of(source)].concat()
}

/// Where children are that belong together.
#[derive(Clone, Copy)]
enum Place<'s> {
    /// The names of their files begin so.
    Begin(&'s str),
    /// A folder around them, and not around all siblings.
    Folder(&'s str),
}

impl<'s> Siblings<'_, 's> {
    /// The place of some of them, if they are nearly all that are there.
    fn place_of(&self, members: &[usize]) -> Option<Place<'s>> {
        let path = |&at: &usize| -> &'s str { &self.children[at].template.path };
        let first = stem(path(&members[0]));
        let ends = first.match_indices(['-', '_', '.']).map(|(at, _)| at).chain([first.len()]);
        let begin = ends.map(|end| &first[..end]).rfind(|begin| members.iter().all(|at| begins(stem(path(at)), begin)));
        let place = match begin.filter(|begin| naming::is_telling(begin)) {
            Some(begin) => Place::Begin(begin),
            None => {
                let own = naming::shared_folder(members.iter().map(path));
                let all = naming::shared_folder((0..self.children.len()).map(|at| path(&at)));
                (own.len() > all.len()).then_some(Place::Folder(own))?
            }
        };
        let all = self.children.iter().filter(|child| place.holds(&child.template.path)).count();
        (members.len() * 100 >= all * MOST).then_some(place)
    }
}

impl<'s> Place<'s> {
    fn holds(self, path: &str) -> bool {
        match self {
            Self::Begin(begin) => begins(stem(path), begin),
            Self::Folder(folder) => beneath(path, folder).is_some(),
        }
    }

    /// It as a reason for a layout.
    fn told(self) -> String {
        match self {
            Self::Begin(begin) => reasons::with_names(begin),
            Self::Folder(folder) => reasons::in_folder(folder),
        }
    }

    /// The words for it.
    fn words(self) -> &'s str {
        match self {
            Self::Begin(begin) => begin,
            Self::Folder(folder) => folder.rsplit('/').next().unwrap_or(folder),
        }
    }
}

/// Whether a name begins with some words.
fn begins(name: &str, words: &str) -> bool {
    name.strip_prefix(words).is_some_and(|rest| rest.is_empty() || rest.starts_with(['-', '_', '.']))
}

/// What the new layout may be called, the best first: as the place of its children; that with the layout around it; what
/// they say in their longest block; a name from the layout and that block.
fn words_for(layout: &Template, members: &[&Child<'_>], group: &Group<'_>) -> Vec<String> {
    let text = |name: &[u8]| members[0].overrides[name].whole.of(&members[0].template.source);
    let longest = group.shared.keys().map(|name| (*name, text(name))).max_by_key(|(_, text)| text.len());
    let name = longest.map(|(name, _)| String::from_utf8_lossy(name)).unwrap_or_default();
    let with_layout = |word: &str| naming::word(&format!("{}-{word}", stem(&layout.path)));
    let place = group.place.words();
    let mut words = vec![naming::word(place), with_layout(place)];
    words.extend(longest.and_then(|(_, text)| naming::first_telling(text)));
    words.push(with_layout(&name));
    words
}

#[cfg(test)]
mod tests {
    use crate::propose::testing::{BASE, NAMES, proposed, site, text};

    /// The layouts that are proposed where children in these places say so many links alike: path, reason, text.
    fn layouts(places: [&str; 6], links: usize) -> Vec<(String, Option<String>, String)> {
        let link = "<link rel=\"stylesheet\" href=\"/css/harbours-and-piers.css\">";
        let child = |(at, place): (usize, &&str)| {
            let styles = match place.is_empty() {
                true => String::new(),
                false => format!("{{% block styles %}}{}{{% endblock %}}\n", link.repeat(links)),
            };
            let content = format!("{{% block content %}}<h1>{}</h1>{{% endblock %}}\n{styles}", NAMES[at]);
            (format!("{place}{}.html", NAMES[at].to_lowercase()), format!("{{% extends 'base.html' %}}\n\n{content}"))
        };
        let children = places.iter().enumerate().map(child);
        let proposal = proposed(&site([("base.html".to_owned(), BASE.to_owned())].into_iter().chain(children)));
        let new = proposal.layouts.iter().filter(|layout| !layout.existing);
        new.map(|layout| (layout.path.clone(), layout.reason.clone(), text(&proposal, &layout.path).to_owned()))
            .collect()
    }

    #[test]
    fn children_of_a_place_with_the_same_overrides_get_a_layout_in_between() {
        let found = layouts(["piers/", "piers/", "piers/", "piers/", "piers/", ""], 12);
        let [(path, reason, text)] = &found[..] else { panic!("{found:?}") };
        assert_eq!((path.as_str(), reason.as_deref()), ("piers.html", Some("pages in `piers/`")));
        assert!(text.starts_with("{% extends 'base.html' %}") && text.matches("harbours-and-piers").count() == 12);
        // Where they are says nothing, it saves too little, or they are too few.
        assert_eq!(layouts(["piers/", "boats/", "piers/", "boats/", "piers/", ""], 12), []);
        assert_eq!(layouts(["piers/", "piers/", "piers/", "piers/", "piers/", ""], 1), []);
        assert_eq!(layouts(["piers/", "piers/", "piers/", "piers/", "", ""], 20), []);
    }
}
