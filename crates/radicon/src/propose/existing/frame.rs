//! The skeleton that a layout of the site gives to its pages.
//!
//! It is found by asking for it: a child that puts two marks around the content
//! of every block is flattened. So the rules of every engine hold, chains and
//! partials are followed, and blocks within blocks are marked too.

use rustc_hash::FxHashSet;

use crate::dialect::{Kind, Values};
use crate::markup::{Constructs, Document};
use crate::propose::Job;
use crate::propose::pages::page::Page;
use crate::prove::Strength;
use crate::resolve::Resolver;
use crate::site::{Parent, Role, Site, SourceFile, folder};
use crate::text::{SourceId, Span};

/// The beginning of marks: a code point that no text may hold.
const MARK: &[u8] = "\u{fdd0}".as_bytes();
const OPENS: &[u8] = "\u{fdd1}".as_bytes();
const CLOSES: &[u8] = "\u{fdd2}".as_bytes();

/// A block in the skeleton.
#[derive(Clone, Debug)]
pub struct Region {
    pub name: String,
    /// The mark before its content, and the one after it.
    pub open: Span,
    pub close: Span,
    /// The region in whose content it is, by index.
    pub outer: Option<usize>,
}

impl Region {
    /// The content that it shows unless a page overrides it.
    pub fn inner(&self) -> Span {
        Span::new(self.open.end, self.close.start)
    }
}

/// A layout's skeleton with its regions.
pub struct Skeleton {
    pub layout: SourceId,
    pub page: Page,
    /// In the order of their opening marks.
    pub regions: Vec<Region>,
    /// Whether the default content of its regions is known.
    pub knows_defaults: bool,
    /// Every byte counts.
    pub exact: bool,
}

impl Job<'_> {
    /// The skeletons of all layouts that are written in the job's dialect.
    pub fn skeletons(&self) -> Vec<Skeleton> {
        let is_asked = |id: &SourceId| {
            let template = self.site.get(*id);
            template.role == Role::Layout && template.dialect.name == self.dialect.name
        };
        let layouts: Vec<SourceId> = self.site.ids().filter(is_asked).collect();
        let probes: Vec<SourceFile> = layouts.iter().filter_map(|&id| self.probe(id)).collect();
        if probes.is_empty() {
            return Vec::new();
        }
        let paths: Vec<String> = probes.iter().map(|probe| probe.path.clone()).collect();
        let frames = self.site.templates.iter().filter(|template| !template.dialect.forms.is_empty());
        let included = self.site.templates.iter().filter(|t| t.dialect.forms.is_empty() && t.role != Role::Page);
        let frames = frames.chain(included);
        let sources = frames.map(|template| SourceFile::new(template.path.clone(), template.source.to_vec()));
        let site = self.site.with_files(sources.chain(probes).collect(), &self.dialects());
        let skeleton = |path: &String| {
            let probe = site.find(path)?;
            let Parent::Found { id, rule: None } = site.parent(probe) else { return None };
            let layout = self.site.find(&site.get(*id).path)?;
            // Under that name another file may hide it.
            layouts.contains(&layout).then(|| self.skeleton(&site, probe, layout))?
        };
        let mut seen = FxHashSet::default();
        paths.iter().filter_map(skeleton).filter(|skeleton| seen.insert(skeleton.layout)).collect()
    }

    /// A child of a layout that marks all blocks.
    fn probe(&self, layout: SourceId) -> Option<SourceFile> {
        let template = self.site.get(layout);
        let target = self.written_name(&template.path, Kind::Parent);
        let mut text = self.dialect.form(Kind::Parent)?.open.write(&Values { target: &target, ..Values::default() });
        let inherited = self.inherited();
        for (index, name) in self.block_names(layout).iter().enumerate() {
            let (open, close) = self.dialect.block_tags(name, false)?;
            let mark = |kind| [MARK, index.to_string().as_bytes(), kind].concat();
            let marks = [mark(OPENS), mark(CLOSES)].map(|mark| String::from_utf8_lossy(&mark).into_owned());
            text += &format!("\n{open}{}{}{}{close}", marks[0], inherited.as_deref().unwrap_or_default(), marks[1]);
        }
        let (folder, file) = (folder(&template.path), template.path.rsplit('/').next().unwrap_or_default());
        let slash = if folder.is_empty() { "" } else { "/" };
        Some(SourceFile::new(format!("{folder}{slash}radicon-{}-{file}", layout.0), text + "\n"))
    }

    /// How a child says that the content it replaces goes here.
    pub fn inherited(&self) -> Option<String> {
        Some(self.dialect.form(Kind::Inherited)?.open.write(&Values::default()))
    }

    /// The blocks along a layout's chain, the base's first.
    fn block_names(&self, layout: SourceId) -> Vec<String> {
        let mut names: Vec<String> = Vec::new();
        let mut seen: FxHashSet<&[u8]> = FxHashSet::default();
        for &id in Resolver::new(self.site).chain(layout).levels.iter().rev() {
            let template = self.site.get(id);
            for (_, item) in template.blocks().chain(template.regions()) {
                if seen.insert(item.name.of(&template.source)) {
                    names.push(item.name.text(&template.source).into_owned());
                }
            }
        }
        names
    }

    fn skeleton(&self, site: &Site, probe: SourceId, layout: SourceId) -> Option<Skeleton> {
        let flat = Resolver::new(site).flatten(probe).ok()?;
        if !flat.problems.is_empty() {
            return None;
        }
        let names = self.block_names(layout);
        let regions = regions(&flat.bytes, &names)?;
        let mut constructs = Constructs::read(&flat.bytes, &self.dialect);
        let pairs: Vec<(Span, Span)> = regions.iter().map(|region| (region.open, region.close)).collect();
        if !constructs.add_blocks(&pairs) {
            return None;
        }
        let document = Document::with_constructs(&flat.bytes, constructs);
        let path = self.site.get(layout).path.clone();
        let page = Page::of(path, flat.bytes.into(), document, self.options.strength);
        let exact = self.options.strength == Strength::Bytes;
        Some(Skeleton { layout, page, regions, knows_defaults: self.inherited().is_some(), exact })
    }

    /// The skeleton of a template as it is written, for a copy of it that is one too.
    pub fn written_skeleton(&self, id: SourceId) -> Option<Skeleton> {
        let template = self.site.get(id);
        let page = self.page(template, &self.dialect);
        // Read in another spelling it has the same tags in other places.
        let items = &page.document.constructs.items;
        let mut regions: Vec<Region> = Vec::new();
        let mut open: Vec<usize> = Vec::new();
        for (at, item) in template.regions().filter(|(_, item)| item.partner.is_some()) {
            let (from, to) = (items.get(at.index())?.span, items.get(item.partner?.index())?.span);
            open.retain(|&outer| regions[outer].close.start > from.start);
            let name = item.name.text(&template.source).into_owned();
            let outer = open.last().copied();
            open.push(regions.len());
            regions.push(Region { name, open: from, close: to, outer });
        }
        let exact = self.options.strength == Strength::Bytes;
        (!regions.is_empty()).then_some(Skeleton { layout: id, page, regions, knows_defaults: true, exact })
    }
}

/// Finds the marks; `None` if they do not pair.
fn regions(flat: &[u8], names: &[String]) -> Option<Vec<Region>> {
    let mut regions: Vec<Region> = Vec::new();
    let mut open: Vec<(usize, usize)> = Vec::new();
    for at in memchr::memmem::find_iter(flat, MARK) {
        let digits = flat[at + MARK.len()..].iter().take_while(|b| b.is_ascii_digit()).count();
        let end = at + MARK.len() + digits;
        let index: usize = std::str::from_utf8(&flat[at + MARK.len()..end]).ok()?.parse().ok()?;
        let span = Span::from_range(at..end + OPENS.len());
        let rest = &flat[end..];
        if rest.starts_with(OPENS) {
            let outer = open.last().map(|(region, _)| *region);
            open.push((regions.len(), index));
            regions.push(Region { name: names.get(index)?.clone(), open: span, close: Span::default(), outer });
        } else if rest.starts_with(CLOSES) {
            let (region, _) = open.pop().filter(|(_, opened)| *opened == index)?;
            regions[region].close = span;
        } else {
            return None;
        }
    }
    open.is_empty().then_some(regions)
}

#[cfg(test)]
mod tests {
    use crate::propose::testing::{job, site};

    #[test]
    fn a_skeleton_follows_the_chain_and_the_partials() {
        let site = site([
            ("base.html", "<body>{% include 'nav.html' %}<main>{% block main %}<p>x</p>{% endblock %}</main></body>"),
            ("nav.html", "<nav>Home</nav>"),
            (
                "mid.html",
                "{% extends 'base.html' %}{% block main %}<i>{% block inner %}{% endblock %}</i>{% endblock %}",
            ),
            ("p.html", "{% extends 'mid.html' %}{% block inner %}y{% endblock %}"),
        ]);
        let skeletons = job(&site, "brace-percent").skeletons();
        let told = |skeleton: &super::Skeleton| {
            let regions: Vec<(&str, Option<usize>)> =
                skeleton.regions.iter().map(|region| (region.name.as_str(), region.outer)).collect();
            (site.get(skeleton.layout).path.clone(), format!("{regions:?}"))
        };
        let expected = [("base.html", "[(\"main\", None)]"), ("mid.html", "[(\"main\", None), (\"inner\", Some(0))]")];
        let expected = expected.map(|(path, regions)| (path.to_owned(), regions.to_owned()));
        assert_eq!(skeletons.iter().map(told).collect::<Vec<_>>(), expected);
        assert!(String::from_utf8_lossy(&skeletons[1].page.source).contains("<nav>Home</nav>"));
    }
}
