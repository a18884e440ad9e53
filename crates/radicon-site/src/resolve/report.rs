//! Chains for people and programs: who defines each block, who wins, what is lost.

use rayon::prelude::*;
use rustc_hash::FxHashSet;
use serde::Serialize;

use super::{Chain, Definition, Resolver};
use crate::dialect::{Kind, Loose, Part};
use crate::markup::{Construct, ConstructId};
use crate::site::{Parent, Problem, ProblemKind, Role, Site, Template};
use crate::text::{LineIndex, Place, SourceId, Span, did_you_mean, is_blank, preview};

/// The override chain of a page or layout.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct ChainReport {
    /// The page's path.
    pub page: String,
    /// Its role.
    pub role: Role,
    /// The levels, the page itself first.
    pub chain: Vec<ChainLevel>,
    /// Every block that a level defines, in the order of the base; those that
    /// come in another one after it.
    pub blocks: Vec<ChainBlock>,
    /// Content that the children have outside every block, and no page shows.
    pub lost: Vec<Lost>,
    /// The problems that break the chain.
    pub problems: Vec<Problem>,
}

/// A level of a chain.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct ChainLevel {
    /// The file's path.
    pub file: String,
    /// The dialect it is read in.
    pub dialect: String,
    /// How many blocks it defines or overrides.
    pub blocks: usize,
    /// The folder rule that makes it the layout of the level before, if no file says so.
    pub rule: Option<String>,
}

/// The state of a block in a page.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum BlockState {
    /// Content that a child gives.
    Overridden,
    /// The default of the template with the region.
    Default,
    /// Nothing: no template gives content.
    Empty,
    /// Nothing, though the region must be filled.
    Unfilled,
    /// The region itself is in content that was replaced.
    Replaced,
    /// Content is given, but no region of that name takes it.
    Lost,
}

impl BlockState {
    /// The word for it.
    pub const fn word(self) -> &'static str {
        match self {
            BlockState::Overridden => "overridden",
            BlockState::Default => "default",
            BlockState::Empty => "empty",
            BlockState::Unfilled => "unfilled",
            BlockState::Replaced => "replaced",
            BlockState::Lost => "lost",
        }
    }
}

/// A block and who defines it.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct ChainBlock {
    /// Its name.
    pub name: String,
    /// The state of the block in the page.
    pub state: BlockState,
    /// The region that a child may fill; none if there is none.
    pub region: Option<Place>,
    /// The block that the region is in.
    pub within: Option<String>,
    /// Whether it must be filled.
    pub required: bool,
    /// Its definitions, the most derived first.
    pub definitions: Vec<DefinitionReport>,
    /// The file whose definition wins; empty if there is none.
    pub effective: String,
    /// The start of what is in it now.
    pub preview: String,
    /// How many templates further down override it.
    pub overridden_below: usize,
    /// Of a lost block the region that may be meant.
    pub meant: Option<String>,
}

/// One definition of a block.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct DefinitionReport {
    /// The file's path.
    pub file: String,
    /// The line of its opening tag, 1-based.
    pub line: u32,
    /// Length of its content in bytes.
    pub bytes: usize,
    /// Whether it splices what it replaces.
    pub inherits: bool,
    /// The lines at which it splices what it replaces, 1-based.
    pub inherited_at: Vec<u32>,
    /// Whether the page shows it.
    pub shown: bool,
    /// The start of its content.
    pub preview: String,
}

/// Content that a page's file holds and the page does not show.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Lost {
    /// Its place.
    pub place: Place,
    /// Its start.
    pub preview: String,
}

/// One block over all pages.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct BlockReport {
    /// Its name.
    pub block: String,
    /// Every page whose chain knows it, sorted by path.
    pub pages: Vec<BlockUse>,
}

/// The state of a block in a page, and the template that gives its content.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct BlockUse {
    /// The page's path.
    pub page: String,
    /// The state of the block.
    pub state: BlockState,
    /// The place of that content; none if there is nothing.
    pub from: Option<Place>,
    /// Whether it splices what it replaces.
    pub inherits: bool,
    /// Length of the content in bytes.
    pub bytes: usize,
    /// The start of the content.
    pub preview: String,
}

impl Resolver<'_> {
    /// The whole story of a page or layout.
    pub fn chain_report(&self, id: SourceId) -> ChainReport {
        let chain = self.chain(id);
        let teller = Teller::new(self, &chain, id);
        let mut blocks = nested(teller.names().iter().map(|name| teller.block(name)).collect());
        let open: Vec<String> =
            blocks.iter().filter(|block| block.region.is_some()).map(|block| block.name.clone()).collect();
        for block in blocks.iter_mut().filter(|block| block.state == BlockState::Lost) {
            block.meant = did_you_mean(&block.name, open.iter().map(String::as_str)).map(str::to_owned);
        }
        if self.site.get(id).role == Role::Layout {
            self.count_below(id, &mut blocks);
        }
        let level = |(index, &id): (usize, &SourceId)| {
            let template = self.site.get(id);
            let below = index.checked_sub(1).map(|below| self.site.parent(chain.levels[below]));
            ChainLevel {
                file: template.path.clone(),
                dialect: template.dialect.name.clone(),
                blocks: template.blocks().count(),
                rule: below.and_then(|parent| match parent {
                    Parent::Found { rule, .. } => rule.clone(),
                    _ => None,
                }),
            }
        };
        let (children, _) = chain.levels.split_at(chain.levels.len() - 1);
        ChainReport {
            page: self.site.get(id).path.clone(),
            role: self.site.get(id).role,
            chain: chain.levels.iter().enumerate().map(level).collect(),
            blocks,
            lost: children.iter().flat_map(|&child| teller.loose(child)).collect(),
            problems: teller.problems,
        }
    }

    /// One block over all pages.
    pub fn block_report(&self, name: &str) -> BlockReport {
        let pages: Vec<SourceId> = self.site.pages().collect();
        let pages = pages.par_iter().filter_map(|&id| self.block_use(id, name)).collect();
        BlockReport { block: name.to_owned(), pages }
    }

    /// The names of all blocks of the site, sorted.
    pub fn block_names(&self) -> Vec<String> {
        let named = |template: &Template| -> Vec<String> {
            let both = template.blocks().chain(template.regions());
            both.map(|(_, block)| block.name.text(&template.source).into_owned()).collect()
        };
        let mut names: Vec<String> = self.site.templates.iter().flat_map(named).collect();
        names.sort();
        names.dedup();
        names
    }

    fn block_use(&self, id: SourceId, name: &str) -> Option<BlockUse> {
        let chain = self.chain(id);
        let known = |&level: &SourceId| {
            let template = self.site.get(level);
            template
                .blocks()
                .chain(template.regions())
                .any(|(_, block)| block.name.of(&template.source) == name.as_bytes())
        };
        if !chain.levels.iter().any(known) {
            return None;
        }
        let block = Teller::new(self, &chain, id).block(name.as_bytes());
        let winner = block.definitions.first();
        Some(BlockUse {
            page: self.site.get(id).path.clone(),
            state: block.state,
            from: winner.map(|winner| Place { file: winner.file.clone(), line: winner.line }),
            inherits: winner.is_some_and(|winner| winner.inherits),
            bytes: winner.map_or(0, |winner| winner.bytes),
            preview: block.preview,
        })
    }

    /// Counts for each block of a layout the templates below that override it.
    fn count_below(&self, id: SourceId, blocks: &mut [ChainBlock]) {
        for child in self.site.ids().filter(|&child| child != id) {
            if matches!(self.site.parent(child), Parent::Found { .. }) && self.chain(child).levels.contains(&id) {
                let template = self.site.get(child);
                for block in blocks.iter_mut() {
                    block.overridden_below += usize::from(template.definition(block.name.as_bytes()).is_some());
                }
            }
        }
    }
}

/// The facts needed to tell of one chain.
struct Teller<'a> {
    site: &'a Site,
    chain: &'a Chain,
    lines: Vec<LineIndex>,
    shown: FxHashSet<(SourceId, ConstructId)>,
    problems: Vec<Problem>,
}

impl<'a> Teller<'a> {
    fn new(resolver: &Resolver<'a>, chain: &'a Chain, id: SourceId) -> Self {
        let site = resolver.site;
        let lines = chain.levels.iter().map(|&id| LineIndex::new(&site.get(id).source)).collect();
        let (shown, problems) = match resolver.flatten(id) {
            Ok(flat) => (flat.shown, flat.problems),
            Err(error) => (
                Vec::new(),
                vec![Problem {
                    file: site.get(id).path.clone(),
                    at: None,
                    kind: ProblemKind::File,
                    message: error.to_string(),
                }],
            ),
        };
        let shown = shown.into_iter().map(|definition| (definition.source, definition.construct)).collect();
        Self { site, chain, lines, shown, problems }
    }

    /// The names of all blocks of the chain, in the order of the topmost file that knows them.
    fn names(&self) -> Vec<&'a [u8]> {
        let mut seen = FxHashSet::default();
        let mut names = Vec::new();
        for &level in self.chain.levels.iter().rev() {
            let template = self.site.get(level);
            let mut here: Vec<_> = template.blocks().chain(template.regions()).collect();
            here.sort_by_key(|(at, _)| *at);
            names.extend(
                here.iter().map(|(_, block)| block.name.of(&template.source)).filter(|name| seen.insert(*name)),
            );
        }
        names
    }

    fn block(&self, name: &[u8]) -> ChainBlock {
        let region = self.region(name);
        let mut definitions = self.chain.definitions(self.site, name);
        if let Some((source, construct)) = region {
            let (_, item) = self.item(source, construct);
            if item.kind == Kind::Slot && (item.partner.is_some() || !item.value.is_empty()) {
                definitions.push(Definition { source, construct });
            }
        }
        let required = region.is_some_and(|(source, at)| {
            let (template, item) = self.item(source, at);
            item.form(&template.dialect).required
        });
        let state = self.state(region, &definitions, required);
        let definitions: Vec<_> = definitions.iter().map(|definition| self.definition(*definition)).collect();
        let winner = definitions.first();
        ChainBlock {
            name: String::from_utf8_lossy(name).into_owned(),
            state,
            region: region.map(|(source, at)| self.place(source, self.item(source, at).1.span.start)),
            within: region.and_then(|(source, at)| self.around(source, at)),
            required,
            effective: winner.map(|winner| winner.file.clone()).unwrap_or_default(),
            preview: winner.map(|winner| winner.preview.clone()).unwrap_or_default(),
            definitions,
            overridden_below: 0,
            meant: None,
        }
    }

    fn state(&self, region: Option<(SourceId, ConstructId)>, definitions: &[Definition], required: bool) -> BlockState {
        let is_shown = |definition: &Definition| self.shown.contains(&(definition.source, definition.construct));
        let own = |definition: &Definition| region == Some((definition.source, definition.construct));
        match (definitions.first(), region) {
            (None, _) if required => BlockState::Unfilled,
            (None, _) => BlockState::Empty,
            (Some(first), _) if is_shown(first) && own(first) => {
                match self.site.get(first.source).inner(first.construct).is_empty() {
                    true => BlockState::Empty,
                    false => BlockState::Default,
                }
            }
            (Some(first), _) if is_shown(first) => BlockState::Overridden,
            (Some(first), Some(_)) if own(first) => BlockState::Replaced,
            _ => BlockState::Lost,
        }
    }

    /// The topmost region of a name. In dialects that write region and override
    /// alike a block is a region if it is shown in its place, or has nothing above.
    fn region(&self, name: &[u8]) -> Option<(SourceId, ConstructId)> {
        self.chain.levels.iter().enumerate().rev().find_map(|(level, &source)| {
            let template = self.site.get(source);
            let mut named = template.regions_named(name);
            let is_base = level + 1 == self.chain.levels.len();
            let found = named.find(|(at, item)| {
                item.kind == Kind::Slot
                    || is_base
                    || self.around(source, *at).is_some_and(|outer| self.is_shown_in(source, &outer))
            });
            found.map(|(at, _)| (source, at))
        })
    }

    /// Whether a template's definition of a block is shown.
    fn is_shown_in(&self, source: SourceId, name: &str) -> bool {
        let construct = self.site.get(source).definition(name.as_bytes());
        construct.is_some_and(|construct| self.shown.contains(&(source, construct)))
    }

    /// The block or content for one around a construct.
    fn around(&self, source: SourceId, at: ConstructId) -> Option<String> {
        let template = self.site.get(source);
        let holds =
            |(opener, item): &(ConstructId, &Construct)| *opener < at && item.partner.is_some_and(|closer| closer > at);
        let both = template.blocks().chain(template.regions()).filter(holds);
        both.max_by_key(|(opener, _)| *opener).map(|(_, item)| item.name.text(&template.source).into_owned())
    }

    fn item(&self, source: SourceId, at: ConstructId) -> (&'a Template, &'a Construct) {
        let template = self.site.get(source);
        (template, &template.constructs.items[at])
    }

    fn place(&self, source: SourceId, offset: u32) -> Place {
        let level = self.chain.levels.iter().position(|&level| level == source).unwrap_or(0);
        Place { file: self.site.get(source).path.clone(), line: self.lines[level].line(offset) }
    }

    fn definition(&self, definition: Definition) -> DefinitionReport {
        let (template, opener) = self.item(definition.source, definition.construct);
        let place = self.place(definition.source, opener.span.start);
        let inherited =
            template.constructs.inside(definition.construct).iter().filter(|item| item.kind == Kind::Inherited);
        let inherited_at: Vec<u32> =
            inherited.map(|item| self.place(definition.source, item.span.start).line).collect();
        let inner = template.inner(definition.construct);
        DefinitionReport {
            file: place.file,
            line: place.line,
            bytes: inner.len(),
            inherits: !inherited_at.is_empty(),
            inherited_at,
            shown: self.shown.contains(&(definition.source, definition.construct)),
            preview: preview(inner.of(&template.source)),
        }
    }

    /// Content of a child outside every block, where the dialect ignores it.
    fn loose(&self, child: SourceId) -> Vec<Lost> {
        let template = self.site.get(child);
        let lost = |text: Span| {
            let place = self.place(child, text.start);
            Lost { place, preview: preview(text.of(&template.source)) }
        };
        loose(template).into_iter().map(lost).collect()
    }
}

/// Content of a child outside every block, where the dialect ignores it, from the first byte
/// that is not whitespace on.
pub fn loose(template: &Template) -> Vec<Span> {
    if !matches!(template.dialect.rules.loose, Loose::Ignored | Loose::Unknown) {
        return Vec::new();
    }
    let mut cursor = 0;
    let mut lost = Vec::new();
    let end = template.source.len() as u32;
    let tags = outside(template).map(|(_, tag)| tag).chain([Span::new(end, end)]);
    for tag in tags {
        let text = Span::new(cursor, tag.start.max(cursor));
        if let Some(blanks) = text.of(&template.source).iter().position(|&b| !is_blank(b)) {
            lost.push(Span::new(text.start + blanks as u32, text.end));
        }
        cursor = tag.end;
    }
    lost
}

/// The tags that are in no block and no other region, each with all of its own region.
pub fn outside(template: &Template) -> impl Iterator<Item = (ConstructId, Span)> + '_ {
    let items = &template.constructs.items;
    let mut next = ConstructId(0);
    std::iter::from_fn(move || {
        let at = next;
        let item = items.get(at.index())?;
        let region = item.kind.defines() || matches!(item.kind, Kind::Part | Kind::Set | Kind::Verbatim);
        let last = item.partner.filter(|_| region && item.part == Part::Open).unwrap_or(at);
        next = last.next();
        Some((at, Span::new(item.span.start, items[last].span.end)))
    })
}

/// Puts blocks that are in another one after it.
fn nested(blocks: Vec<ChainBlock>) -> Vec<ChainBlock> {
    let mut sorted: Vec<ChainBlock> = Vec::with_capacity(blocks.len());
    for block in blocks {
        let holds = |known: &ChainBlock| block.within.as_deref() == Some(known.name.as_str());
        let at = sorted.iter().position(holds).map_or(sorted.len(), |outer| {
            let inside = |known: &&ChainBlock| {
                known.within.as_deref().is_some_and(|within| stands_in(&sorted, within, &sorted[outer].name))
            };
            outer + 1 + sorted[outer + 1..].iter().take_while(inside).count()
        });
        sorted.insert(at, block);
    }
    sorted
}

/// Whether a block is another one or is in it, however deep.
fn stands_in(blocks: &[ChainBlock], name: &str, outer: &str) -> bool {
    let mut at = Some(name);
    // A block's name can come round; no nesting is deeper than there are blocks.
    for _ in 0..=blocks.len() {
        match at {
            Some(name) if name == outer => return true,
            Some(name) => at = blocks.iter().find(|block| block.name == name).and_then(|block| block.within.as_deref()),
            None => return false,
        }
    }
    false
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect::builtin;
    use crate::site::{Settings, SourceFile};

    fn report(files: &[(&str, &str)], page: &str) -> ChainReport {
        let files = files.iter().map(|(path, text)| SourceFile::new(*path, *text)).collect();
        let site = Site::read(files, builtin(), &Settings::default());
        Resolver::new(&site).chain_report(site.find(page).expect("a page"))
    }

    const BASE: (&str, &str) =
        ("base.html", "{% block a %}{% endblock %}\n{% block b %}B{% block n %}N{% endblock %}{% endblock %}");

    #[test]
    fn the_most_derived_definition_wins() {
        let report = report(
            &[
                BASE,
                ("mid.html", "{% extends 'base.html' %}{% block b %}x{{ super() }}{% endblock %}"),
                ("page.html", "{% extends 'mid.html' %}\n{% block b %}y{% endblock %}"),
            ],
            "page.html",
        );
        let files: Vec<_> = report.chain.iter().map(|level| level.file.as_str()).collect();
        assert_eq!(files, ["page.html", "mid.html", "base.html"]);
        let blocks: Vec<_> =
            report.blocks.iter().map(|block| (block.name.as_str(), block.effective.as_str(), block.state)).collect();
        let expected = [
            ("a", "base.html", BlockState::Empty),
            ("b", "page.html", BlockState::Overridden),
            ("n", "base.html", BlockState::Replaced),
        ];
        assert_eq!(blocks, expected);
        assert_eq!(report.blocks[1].definitions[0].line, 2);
        assert_eq!(
            (report.blocks[1].definitions[1].inherited_at.as_slice(), report.blocks[1].definitions[1].shown),
            (&[1][..], false)
        );
    }

    #[test]
    fn what_no_page_shows_is_lost() {
        let page = "{% extends 'base.html' %}\n<p>lost</p>\n{% block bb %}typo{% endblock %}{% block b %}{% block m %}own{% endblock %}{% endblock %}";
        let report = report(&[BASE, ("page.html", page)], "page.html");
        assert_eq!(
            (report.lost.len(), report.lost[0].place.line, report.lost[0].preview.as_str()),
            (1, 2, "<p>lost</p>")
        );
        let state = |name: &str| {
            report.blocks.iter().find(|block| block.name == name).map(|block| (block.state, block.within.clone()))
        };
        assert_eq!(state("bb"), Some((BlockState::Lost, None)));
        let lost = report.blocks.iter().find(|block| block.name == "bb").expect("the lost block");
        assert!(lost.meant.is_some(), "{lost:?}");
        assert_eq!(state("m"), Some((BlockState::Default, Some("b".into()))));
    }

    #[test]
    fn a_layout_tells_what_a_child_may_override() {
        let files = [BASE, ("page.html", "{% extends 'base.html' %}{% block b %}{% endblock %}")];
        let report = report(&files, "base.html");
        let open: Vec<_> = report.blocks.iter().map(|block| (block.name.as_str(), block.overridden_below)).collect();
        assert_eq!(open, [("a", 0), ("b", 1), ("n", 0)]);
    }

    #[test]
    fn broken_chains_say_where_and_why() {
        for (files, words) in [
            (
                vec![("a.html", "{% extends 'b.html' %}"), ("b.html", "{% extends 'a.html' %}")],
                "a.html -> b.html -> a.html",
            ),
            (vec![("a.html", "\n {% extends 'c.html' %}")], "a.html:2:2: no template `c.html`"),
            (vec![("a.html", "{% if 1 %}{% endif %}{% extends x %}")], "`x` is an expression"),
        ] {
            let report = report(&files, "a.html");
            assert!(report.problems.iter().any(|problem| problem.to_string().contains(words)), "{:?}", report.problems);
        }
    }
}
