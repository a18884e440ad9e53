//! Who names whom in a site, and what each template is for.

use std::sync::Arc;

use rayon::prelude::*;

use super::roots::Root;
use super::{
    Links, Missing, Parent, Pin, Role, Site, SourceFile, Template, folders, here, lookup, mounts, own_file, references,
    roots,
};
use crate::dialect::{Part, Targets};
use crate::markup::{Construct, ConstructId, Constructs};
use crate::text::SourceId;

impl Site {
    /// Finds out who names whom, and what each template is for.
    pub(super) fn link(&mut self, code: &[SourceFile], memory: Option<&mut references::Memory>) {
        self.roots = match &self.settings.roots {
            Some(roots) => roots.iter().map(|root| Root::configured(root)).collect(),
            None => roots::infer(self),
        };
        self.find_naming();
        if self.settings.roots.is_some() {
            let hidden = self.hiding().into_iter().filter_map(|(_, hidden)| self.root_of(&self.get(hidden).path));
            self.vendored = hidden.map(|root| root.path.clone()).collect();
            self.vendored.sort();
            self.vendored.dedup();
        }
        self.find_links();
        if self.settings.roots.is_none() && self.mounts.is_empty() {
            self.mounts = mounts::infer(self);
            if !self.mounts.is_empty() {
                self.find_links();
            }
        }
        self.share_dialects();
        self.assign_roles();
        let given = folders::apply(self, &self.settings.folders);
        self.problems.extend(given.problems);
        for (id, layout, rule) in given.parents {
            self.links[id.index()].parent = Parent::Found { id: layout, rule: Some(rule) };
            // Whatever has a layout is a template, also if it holds no construct.
            self.adopt_dialect(id, layout);
        }
        for (id, before, after) in given.around {
            (self.links[id.index()].before, self.links[id.index()].after) = (before, after);
        }
        self.assign_roles();
        given.markers.iter().for_each(|id| self.templates[id.index()].role = Role::Marker);
        self.find_parts();
        self.references = match memory {
            Some(memory) => memory.find(self, code),
            None => references::find(self, code),
        };
        self.own_file = own_file::find(self);
        self.find_pages();
    }

    fn find_naming(&mut self) {
        let mut naming: Vec<Targets> = Vec::new();
        for template in &self.templates {
            for targets in template.dialect.all_targets() {
                if !naming.contains(targets) {
                    naming.push(targets.clone());
                }
            }
        }
        self.naming = naming;
    }

    fn find_links(&mut self) {
        self.links = self.ids().collect::<Vec<_>>().into_par_iter().map(|id| self.links_of(id)).collect();
    }

    pub(super) fn links_of(&self, id: SourceId) -> Links {
        let template = self.get(id);
        let mut links = Links { heres: here::of_template(self, template), ..Links::default() };
        for (at, item) in ConstructId::each(&template.constructs.items) {
            let named = item.kind.names_a_file() && item.part != Part::Close && !item.target.is_empty();
            if named && let Some(target) = self.resolve(id, item) {
                links.targets.push((at, target));
            }
        }
        let mut parents = template.parents().map(|(at, item)| self.parent_of(id, &links, at, item)).peekable();
        let Some(first) = parents.next() else { return links };
        // One that is in a condition, or several different ones: it is decided when the page is rendered.
        let alone = parents.peek().is_none();
        let within = || template.parents().any(|(at, _)| template.within_controls()[at.index()]);
        let one = parents.all(|parent| parent == first) && !(alone && within());
        links.parent = if one { first } else { Parent::Dynamic };
        links
    }

    fn parent_of(&self, id: SourceId, links: &Links, at: ConstructId, item: &Construct) -> Parent {
        if item.target.is_empty() && item.form(&self.get(id).dialect).names_itself {
            let missing = || Parent::Missing(Missing::NotFound(Vec::new()));
            return self.namesake(id).map_or_else(missing, |id| Parent::Found { id, rule: None });
        }
        match links.target(at) {
            Some(Ok(id)) => Parent::Found { id: *id, rule: None },
            Some(Err(missing)) => Parent::Missing(missing.clone()),
            None if item.dynamic => Parent::Dynamic,
            None => Parent::OptedOut,
        }
    }

    /// The template that `radicon.toml` pins for an expression.
    fn pin(&self, template: &Template, item: &Construct) -> Option<SourceId> {
        let written = item.target.text(&template.source);
        let fits = |pin: &&Pin| {
            pin.expression == written.trim() && pin.files.as_ref().is_none_or(|files| files.fit(&template.path))
        };
        self.find_named(&self.settings.pins.iter().find(fits)?.target)
    }

    /// The file that a construct names; `None` if that is decided when the page is rendered. An
    /// expression that is pinned, or that is the name of a file as it is, is as good as a name.
    fn resolve(&self, from: SourceId, item: &Construct) -> Option<Result<SourceId, Missing>> {
        let template = self.get(from);
        let written = item.target.text(&template.source);
        if !item.dynamic {
            return Some(self.lookup(from, &written, item.kind));
        }
        let unquoted = || self.lookup(from, &written, item.kind).ok().filter(|_| lookup::is_bare_name(&written));
        self.pin(template, item).or_else(unquoted).map(Ok)
    }

    /// Every name that leads nowhere, with the rules by which it was looked up.
    pub(super) fn missing_names(&self) -> Vec<(String, &Targets)> {
        let mut names = Vec::new();
        for (id, template) in self.with_ids() {
            for (at, _) in self.links(id).targets().filter(|(_, target)| target.is_err()) {
                let item = &template.constructs.items[at];
                let name = item.target.text(&template.source).into_owned();
                names.push((name, template.dialect.targets_of(item.kind)));
            }
        }
        names
    }

    /// A file that shows too little by itself is read in the dialect of those that name it.
    fn share_dialects(&mut self) {
        let mut adopted: Vec<(SourceId, SourceId)> = Vec::new();
        for (id, links) in self.ids().zip(&self.links) {
            let parent = match links.parent {
                Parent::Found { id, .. } => Some(id),
                _ => None,
            };
            let named = links.targets.iter().filter_map(|(_, target)| target.as_ref().ok().copied());
            adopted.extend(parent.into_iter().chain(named).map(|target| (target, id)));
        }
        for (target, id) in adopted {
            let dialect = &self.get(id).dialect;
            let shows = |template: &Template| !Constructs::read(&template.source, dialect).items.is_empty();
            if self.get(target).dialect.forms.is_empty() && shows(self.get(target)) {
                self.adopt_dialect(target, id);
            }
        }
    }

    /// Reads a file that no dialect explains in that of another one.
    fn adopt_dialect(&mut self, id: SourceId, other: SourceId) {
        let dialect = Arc::clone(&self.get(other).dialect);
        let template = &mut self.templates[id.index()];
        if template.dialect.forms.is_empty() && template.unreadable.is_none() {
            template.constructs = Constructs::read(&template.source, &dialect);
            template.dialect = dialect;
            template.index();
            self.adopted.insert(id);
        }
    }

    pub(super) fn assign_roles(&mut self) {
        let mut roles = vec![Role::Page; self.templates.len()];
        let rules = self.settings.folders.iter().flat_map(|rule| rule.before.iter().chain(&rule.after));
        for id in rules.filter_map(|name| self.find_named(name)) {
            roles[id.index()] = Role::Partial;
        }
        for (id, links) in self.ids().zip(&self.links) {
            for target in
                links.targets.iter().filter_map(|(_, target)| target.as_ref().ok()).filter(|&&target| target != id)
            {
                roles[target.index()] = Role::Partial;
            }
        }
        for links in &self.links {
            if let Parent::Found { id, .. } = links.parent {
                roles[id.index()] = Role::Layout;
            }
        }
        for (template, role) in self.templates.iter_mut().zip(roles) {
            template.role = role;
        }
    }

    /// Finds out where named fragments are defined.
    pub(super) fn find_parts(&mut self) {
        self.parts.clear();
        for (id, template) in (0..).map(SourceId).zip(&self.templates) {
            for (construct, part) in template.parts() {
                self.parts.entry(part.name.of(&template.source).into()).or_default().push((id, construct));
            }
        }
    }

    /// Finds out which templates are rendered for themselves: those that code or the settings name, and those that no
    /// other template does.
    pub(super) fn find_pages(&mut self) {
        self.templates.iter_mut().for_each(|template| template.rendered = false);
        for reference in &self.references {
            if let Some(id) = self.by_path.get(&reference.template) {
                self.templates[id.index()].rendered = true;
            }
        }
        for template in &mut self.templates {
            if let Some(pages) = self.settings.pages.as_ref().filter(|_| template.role != Role::Marker) {
                let is_page = pages.fit(&template.path);
                template.rendered |= is_page;
                if !is_page && !template.rendered && template.role == Role::Page {
                    template.role = Role::Partial;
                }
            } else if template.role == Role::Page {
                template.rendered = true;
            }
        }
    }
}
