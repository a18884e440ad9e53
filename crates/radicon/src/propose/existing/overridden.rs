//! The blocks of layouts that the site has, who overrides them, and how a layout and its overrides change together.

use std::collections::BTreeMap;

use crate::propose::assemble::Plan;
use crate::propose::existing::children::{Change, Child, changed_file};
use crate::propose::hierarchy::reasons::LEAST_PAGES;
use crate::propose::{Job, naming};
use crate::resolve::{Break, Resolver};
use crate::site::{Parent, Role, Template, beneath};
use crate::text::SourceId;

/// A block more in a layout is something more to know: what moves up saves the price of so many at least.
const LEAST_SAVING: u64 = 3;

/// A block of a layout, and who overrides it.
pub struct Block<'s> {
    pub layout: SourceId,
    pub name: &'s [u8],
    /// Templates below the layout that override it, and no level between; by their places among the children.
    pub overriders: Vec<usize>,
    /// Those that add to what it shows.
    pub adders: Vec<usize>,
    /// The paths of all that override it, those that stay as they are too.
    pub overriding: Vec<&'s str>,
    /// Something shows what the layout has in it, as far as is known.
    pub is_shown: bool,
}

impl Block<'_> {
    /// Whether what these children say is right for a page that nobody has written yet: not if they are the ones of a
    /// folder, and others lie elsewhere.
    pub fn is_neutral(&self, alike: &[usize], children: &[Child<'_>]) -> bool {
        let paths = alike.iter().map(|&at| children[at].template.path.as_str());
        let shared = naming::shared_folder(paths);
        let beneath = self.overriding.iter().filter(|path| beneath(path, shared).is_some()).count();
        alike.len() == self.overriding.len() || beneath > alike.len()
    }

    pub fn all(&self) -> impl Iterator<Item = usize> {
        self.overriders.iter().chain(&self.adders).copied()
    }
}

impl Job<'_> {
    /// The blocks that several children override, by their layouts and names.
    pub fn overridden<'s>(&'s self, children: &[Child<'s>]) -> Vec<Block<'s>> {
        let of_path: BTreeMap<&str, usize> =
            children.iter().enumerate().map(|(at, child)| (child.template.path.as_str(), at)).collect();
        let mut blocks: BTreeMap<(SourceId, &[u8]), Block<'_>> = BTreeMap::new();
        let mut unsure = false;
        let mut shown: Vec<(SourceId, &[u8])> = Vec::new();
        for (id, template) in self.site.with_ids().filter(|(_, template)| template.dialect.name == self.dialect.name) {
            let chain = Resolver::new(self.site).chain(id);
            unsure |= matches!(chain.broken, Some(Break::Dynamic));
            let above = &chain.levels[1..];
            for (_, item) in template.outermost() {
                let name = item.name.of(&template.source);
                let Some(nearest) = above.iter().position(|&level| self.site.get(level).definition(name).is_some())
                else {
                    continue;
                };
                let layout = above[nearest];
                let is_owner =
                    above[nearest + 1..].iter().all(|&level| self.site.get(level).definition(name).is_none());
                if !is_owner {
                    continue;
                }
                let new = || Block {
                    layout,
                    name,
                    overriders: Vec::new(),
                    adders: Vec::new(),
                    overriding: Vec::new(),
                    is_shown: false,
                };
                let block = blocks.entry((layout, name)).or_insert_with(new);
                block.overriding.push(&template.path);
                let child = of_path.get(template.path.as_str()).copied();
                let own = child.and_then(|at| Some((at, children[at].overrides.get(name)?)));
                block.overriders.extend(own.filter(|(_, own)| own.is_plain).map(|(at, _)| at));
                block.adders.extend(own.filter(|(_, own)| own.inherits.is_some()).map(|(at, _)| at));
            }
            if template.role == Role::Page {
                for &layout in above {
                    let regions =
                        self.site.get(layout).blocks().map(|(_, item)| item.name.of(&self.site.get(layout).source));
                    let below = chain.levels.iter().take_while(|&&level| level != layout);
                    let is_seen =
                        |name: &&[u8]| below.clone().all(|&level| self.site.get(level).definition(name).is_none());
                    shown.extend(regions.filter(is_seen).map(|name| (layout, name)));
                }
            }
        }
        shown.sort_unstable();
        let mut blocks: Vec<Block<'_>> =
            blocks.into_values().filter(|block| block.all().count() >= LEAST_PAGES).collect();
        for block in &mut blocks {
            // A layout in between may be a page too, which nobody can tell.
            let may_be_page = *self.site.parent(block.layout) != Parent::None;
            block.is_shown = unsure || may_be_page || shown.binary_search(&(block.layout, block.name)).is_ok();
        }
        blocks
    }

    /// Plans a layout with other bytes and what becomes of the overrides of its children, by their places and the
    /// blocks' names, if it saves enough. Whether it does.
    pub fn change_overrides(
        &self,
        layout: &Template,
        bytes: Vec<u8>,
        changes: BTreeMap<usize, BTreeMap<&[u8], Change>>,
        children: &[Child<'_>],
        plan: &mut Plan,
    ) -> bool {
        let before: usize =
            layout.source.len() + changes.keys().map(|&at| children[at].template.source.len()).sum::<usize>();
        let path = |id: SourceId| self.site.get(id).path.clone();
        let around = self.site.find(&layout.path).and_then(|id| match self.site.parent(id) {
            Parent::Found { id, .. } => Some(path(*id)),
            _ => None,
        });
        let mut files = vec![changed_file(layout, bytes, around)];
        for (at, changes) in changes {
            let child = &children[at];
            files.push(changed_file(child.template, child.with(&changes, None), child.layout.map(path)));
        }
        let after: usize = files.iter().map(|file| file.bytes.len()).sum();
        if after as u64 + self.options.price() * LEAST_SAVING > before as u64 {
            return false;
        }
        if !plan.layouts.contains(&layout.path) {
            plan.layouts.push(layout.path.clone());
        }
        files.into_iter().for_each(|file| plan.replace(file));
        true
    }

    /// The names of all blocks in a layout, above it and below it.
    pub fn names_around(&self, layout: SourceId) -> Vec<String> {
        let resolver = Resolver::new(self.site);
        let names = resolver
            .family(layout)
            .flat_map(|template| template.blocks().map(|(_, item)| item.name.text(&template.source)));
        let mut names: Vec<String> = names.map(|name| name.into_owned()).collect();
        names.sort_unstable();
        names.dedup();
        names
    }
}

#[cfg(test)]
mod tests {
    use crate::propose::existing::children::Child;
    use crate::propose::testing::{copies, job, site};

    #[test]
    fn blocks_are_listed_with_who_overrides_them() {
        let child =
            "{% extends 'base.html' %}{% block a %}@{% endblock %}{% block b %}{{ super() }}<i>@</i>{% endblock %}";
        let base = "<b>{% block a %}{% endblock %}{% block b %}x{% endblock %}{% block c %}{% endblock %}</b>";
        let mut files = copies("@.html", child);
        files.push(("base.html".to_owned(), base.to_owned()));
        files.push(("bare.html".to_owned(), "{% extends 'base.html' %}{% block a %}{% endblock %}".to_owned()));
        let site = site(files);
        let job = job(&site, "brace-percent");
        let children: Vec<Child<'_>> =
            site.with_ids().filter_map(|(id, template)| job.child_of_overrides(id, template)).collect();
        let told: Vec<(&[u8], usize, usize, usize, bool)> = job
            .overridden(&children)
            .iter()
            .map(|block| {
                (block.name, block.overriders.len(), block.adders.len(), block.overriding.len(), block.is_shown)
            })
            .collect();
        // One page leaves `b` as it is.
        assert_eq!(told, [(&b"a"[..], 8, 0, 8, false), (b"b", 0, 7, 7, true)]);
        assert_eq!(job.names_around(site.find("base.html").expect("the base")), ["a", "b", "c"]);
    }
}
