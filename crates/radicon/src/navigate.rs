//! From a place in a template to what belongs to it: an override to the block that it fills, a block to its overrides,
//! a name to its file and back.

use std::collections::BTreeSet;

use crate::dialect::{Kind, Part};
use crate::markup::{Construct, ConstructId};
use crate::resolve::{Arguments, Definition, Resolver, bound_by, is_name, printed};
use crate::site::{Parent, Site};
use crate::text::{SourceId, Span};

/// A place in a template.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Spot {
    /// The template.
    pub source: SourceId,
    /// Its bytes there; of a whole file none, at its start.
    pub span: Span,
}

/// Finds places that belong together.
#[derive(Clone, Copy, Debug)]
pub struct Navigator<'s> {
    site: &'s Site,
    resolver: Resolver<'s>,
}

impl<'s> Navigator<'s> {
    /// A navigator for a site.
    pub const fn new(site: &'s Site) -> Self {
        Self { site, resolver: Resolver::new(site) }
    }

    /// The innermost tag of a template at an offset, by its index; of a closing or dividing tag its opening one.
    pub fn tag_at(&self, source: SourceId, offset: u32) -> Option<ConstructId> {
        let items = &self.site.get(source).constructs.items;
        let around = ConstructId::each(items).filter(|(_, item)| item.span.start <= offset && offset <= item.span.end);
        let (at, item) = around.min_by_key(|(_, item)| item.span.len())?;
        Some(item.partner.filter(|_| matches!(item.part, Part::Close | Part::Branch)).unwrap_or(at))
    }

    fn tag(&self, source: SourceId, at: ConstructId) -> &'s Construct {
        &self.site.get(source).constructs.items[at]
    }

    /// The name of a block that a tag defines, prints again or inherits.
    pub fn block_of(&self, source: SourceId, at: ConstructId) -> Option<&'s [u8]> {
        let template = self.site.get(source);
        let item = self.tag(source, at);
        match item.kind {
            kind if kind.defines() || kind == Kind::Again => Some(item.name.of(&template.source)),
            Kind::Inherited => {
                let inside = |block: &&Construct| {
                    let close = template.constructs.partner(block);
                    block.span.end <= item.span.start && close.is_some_and(|close| item.span.end <= close.span.start)
                };
                let around = template.blocks().map(|(_, block)| block).filter(inside);
                around.max_by_key(|block| block.span.start).map(|block| block.name.of(&template.source))
            }
            _ => None,
        }
        .filter(|name| !name.is_empty())
    }

    /// The file that a tag names.
    pub fn file_of(&self, source: SourceId, at: ConstructId) -> Option<SourceId> {
        let named = self.site.links(source).target(at).and_then(|target| target.as_ref().ok()).copied();
        let is_parent = self.tag(source, at).kind == Kind::Parent;
        named.or_else(|| match self.site.parent(source) {
            Parent::Found { id, .. } if is_parent => Some(*id),
            _ => None,
        })
    }

    /// What a tag refers to: the block that an override fills, at the nearest level that has it; what `inherited` and
    /// `again` print; the file that a name names. A block that fills none refers to itself. What a partial prints
    /// refers to the includes that pass it, sorted by template and place.
    pub fn definition(&self, source: SourceId, at: ConstructId) -> Vec<Spot> {
        if let Some(file) = self.file_of(source, at) {
            return vec![Spot { source: file, span: Span::new(0, 0) }];
        }
        let Some(name) = self.block_of(source, at) else { return self.passed(source, at) };
        let chain = self.resolver.chain(source);
        let skipped = usize::from(self.tag(source, at).kind != Kind::Again);
        let above = chain.levels[skipped..].iter().find_map(|&level| self.defined(level, name));
        above.or_else(|| self.defined(source, name)).into_iter().collect()
    }

    /// The includes that pass the name that a tag prints.
    fn passed(&self, source: SourceId, at: ConstructId) -> Vec<Spot> {
        let item = self.tag(source, at);
        let name = if item.kind == Kind::Output { printed(item) } else { Span::default() };
        let name = name.of(&self.site.get(source).source);
        let given = self.arguments_for(source).into_iter();
        given.filter(|(given, _)| !name.is_empty() && *given == name).map(|(_, spot)| spot).collect()
    }

    /// The names that includes pass to a file, each with its place. Sorted by template and place.
    fn arguments_for(&self, file: SourceId) -> Vec<(&'s [u8], Spot)> {
        let mut found = Vec::new();
        for (source, template) in self.site.with_ids() {
            for (at, _) in self.site.links(source).targets().filter(|(_, target)| **target == Ok(file)) {
                let arguments = Arguments::read(&template.source, self.tag(source, at).expr, &template.dialect.rules);
                let spots = arguments.bindings.into_iter().map(|binding| Spot { source, span: binding.name });
                found.extend(spots.map(|spot| (spot.span.of(&template.source), spot)));
            }
        }
        found
    }

    /// The place where a template defines a block.
    fn defined(&self, source: SourceId, name: &[u8]) -> Option<Spot> {
        let at = self.site.get(source).definition(name)?;
        Some(Spot { source, span: self.tag(source, at).name })
    }

    /// All definitions of a block that a template knows, and everything else that names it there: in all templates
    /// whose chain holds the level that defines it first. Sorted by template and place.
    pub fn definitions_of(&self, source: SourceId, name: &[u8]) -> Vec<Spot> {
        let chain = self.resolver.chain(source);
        let Some(Definition { source: owner, .. }) = chain.definitions(self.site, name).last().copied() else {
            return Vec::new();
        };
        let knows = |id: &SourceId| self.resolver.chain(*id).levels.contains(&owner);
        let all = self.site.ids();
        all.filter(knows).filter_map(|id| self.defined(id, name)).collect()
    }

    /// The overrides of a block of a template: its definitions in templates below it. Sorted by template.
    pub fn overrides_of(&self, source: SourceId, name: &[u8]) -> Vec<Spot> {
        let is_below = |spot: &Spot| self.resolver.chain(spot.source).levels[1..].contains(&source);
        self.definitions_of(source, name).into_iter().filter(is_below).collect()
    }

    /// The tags that name a file, as parent, include or otherwise, and the pages that a rule gives it as their layout.
    /// Sorted by template and place.
    pub fn users_of(&self, file: SourceId) -> Vec<Spot> {
        let mut found = Vec::new();
        for source in self.site.ids() {
            for (at, target) in self.site.links(source).targets() {
                if *target == Ok(file) {
                    found.push(Spot { source, span: self.tag(source, at).span });
                }
            }
            if matches!(self.site.parent(source), Parent::Found { id, rule: Some(_) } if *id == file) {
                found.push(Spot { source, span: Span::new(0, 0) });
            }
        }
        found.sort_unstable();
        found.dedup();
        found
    }

    /// Everything that refers to the same as a tag does: the definitions of a block in all templates that know it, or
    /// the tags that name a file.
    pub fn references(&self, source: SourceId, at: ConstructId) -> Vec<Spot> {
        match (self.file_of(source, at), self.block_of(source, at)) {
            (Some(file), _) => self.users_of(file),
            (None, Some(name)) => self.definitions_of(source, name),
            (None, None) => Vec::new(),
        }
    }

    /// The blocks that a template may override and does not define yet, the outermost level's first.
    pub fn open_blocks(&self, source: SourceId) -> Vec<String> {
        let chain = self.resolver.chain(source);
        let mut names: Vec<String> = Vec::new();
        for &level in chain.levels[1..].iter().rev() {
            let template = self.site.get(level);
            for (_, region) in template.regions() {
                let name = region.name.text(&template.source).into_owned();
                if self.site.get(source).definition(name.as_bytes()).is_none() && !names.contains(&name) {
                    names.push(name);
                }
            }
        }
        names
    }

    /// The names that a partial knows: those that includes pass to it, and those that it prints by themselves and
    /// does not set. Sorted.
    pub fn parameters_of(&self, file: SourceId) -> Vec<String> {
        let mut names: BTreeSet<&[u8]> = self.arguments_for(file).into_iter().map(|(name, _)| name).collect();
        let template = self.site.get(file);
        let items = template.constructs.items.iter();
        let printed = items.clone().filter(|item| item.kind == Kind::Output).map(printed);
        names.extend(printed.map(|span| span.of(&template.source)).filter(|name| is_name(name)));
        for item in items.filter(|item| matches!(item.kind, Kind::Set | Kind::Control)) {
            for name in bound_by(template, item) {
                names.remove(name);
            }
        }
        names.into_iter().map(|name| String::from_utf8_lossy(name).into_owned()).collect()
    }

    /// The names by which templates refer to a file: its path from each root that holds it.
    pub fn names_of(&self, file: SourceId) -> Vec<&'s str> {
        let path = self.site.get(file).path.as_str();
        let inside = |root: &str| match root {
            "" => Some(path),
            root => path.strip_prefix(root)?.strip_prefix('/'),
        };
        self.site.roots.iter().filter_map(|root| inside(&root.path)).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect;
    use crate::site::{Settings, SourceFile};

    const FILES: [(&str, &str); 4] = [
        (
            "base.html",
            "<t>{% block title %}T{% endblock %}</t>{% block main %}{% endblock %}{% include 'nav.html' with name=\"a\" %}",
        ),
        ("mid.html", "{% extends 'base.html' %}{% block main %}<i>{% block part %}{% endblock %}</i>{% endblock %}"),
        (
            "page.html",
            "{% extends 'mid.html' %}{% block part %}p{% endblock %}{% block title %}{{ super() }}!{% endblock %}",
        ),
        ("nav.html", "<nav>{{ active }}{% for boat in boats %}{{ boat }}{% endfor %}{{ name }}</nav>"),
    ];

    fn site() -> Site {
        let files = FILES.iter().map(|(path, text)| SourceFile::new(*path, *text)).collect();
        Site::read(files, dialect::builtin(), &Settings::default())
    }

    /// Checks the places found for the tag that contains these words, as `file:text`.
    #[track_caller]
    fn check(
        find: impl Fn(&Navigator<'_>, SourceId, ConstructId) -> Vec<Spot>,
        path: &str,
        words: &str,
        expected: &[&str],
    ) {
        let site = site();
        let navigator = Navigator::new(&site);
        let id = site.find(path).expect("a file");
        let text = String::from_utf8_lossy(&site.get(id).source).into_owned();
        let tag = navigator.tag_at(id, text.find(words).expect("the words") as u32 + 3).expect("a tag");
        let told = |spot: Spot| {
            let template = site.get(spot.source);
            format!("{}:{}", template.path, spot.span.text(&template.source))
        };
        let found: Vec<String> = find(&navigator, id, tag).into_iter().map(told).collect();
        assert_eq!(found, expected, "{path} at {words}");
    }

    #[test]
    fn tags_lead_to_what_they_refer_to() {
        let definition = |navigator: &Navigator<'_>, id, tag| navigator.definition(id, tag);
        check(definition, "page.html", "{% block part", &["mid.html:part"]);
        check(definition, "page.html", "{% block title", &["base.html:title"]);
        check(definition, "page.html", "{{ super()", &["base.html:title"]);
        check(definition, "page.html", "{% extends", &["mid.html:"]);
        check(definition, "page.html", "{% endblock %}{% block title", &["mid.html:part"]);
        check(definition, "base.html", "{% include", &["nav.html:"]);
        check(definition, "base.html", "{% block title", &["base.html:title"]);
        check(definition, "nav.html", "{{ name }}", &["base.html:name"]);
        check(definition, "nav.html", "{{ active }}", &[]);
    }

    #[test]
    fn references_are_found_in_all_chains() {
        let references = |navigator: &Navigator<'_>, id, tag| navigator.references(id, tag);
        check(references, "base.html", "{% block title", &["base.html:title", "page.html:title"]);
        check(references, "page.html", "{% block part", &["mid.html:part", "page.html:part"]);
        check(references, "page.html", "{% extends", &["page.html:{% extends 'mid.html' %}"]);
        check(references, "base.html", "{% include", &["base.html:{% include 'nav.html' with name=\"a\" %}"]);
    }

    #[test]
    fn blocks_and_names_that_may_be_written_are_known() {
        let site = site();
        let navigator = Navigator::new(&site);
        let id = |path| site.find(path).expect("a file");
        assert_eq!(navigator.open_blocks(id("page.html")), ["main"]);
        assert_eq!(navigator.open_blocks(id("base.html")), [""; 0]);
        assert_eq!(navigator.names_of(id("nav.html")), ["nav.html"]);
        assert_eq!(navigator.parameters_of(id("nav.html")), ["active", "name"]);
        let overrides = navigator.overrides_of(id("base.html"), b"title");
        assert_eq!(overrides.iter().map(|spot| spot.source).collect::<Vec<_>>(), [id("page.html")]);
    }
}
