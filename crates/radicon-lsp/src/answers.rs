//! What the editor asks about a template: places, texts and names.

use lsp_types::{
    CodeLens, Command, CompletionItem, CompletionItemKind, Diagnostic, DiagnosticRelatedInformation,
    DiagnosticSeverity, DocumentLink, DocumentSymbol, FoldingRange, Hover, HoverContents, Location, MarkupContent,
    MarkupKind, NumberOrString, Position, Range, SymbolInformation, SymbolKind, Uri,
};
use radicon::Resolver;
use radicon::check::{Finding, Severity};
use radicon::dialect::{Kind, Part, Values};
use radicon::markup::ConstructId;
use radicon::navigate::{Navigator, Spot};
use radicon::resolve::ChainBlock;
use radicon::site::{Missing, Role, Template};
use radicon::text::{SourceId, Span};

use crate::project::Project;

/// Answers about one template.
pub struct Answers<'p> {
    project: &'p Project,
    navigator: Navigator<'p>,
    id: SourceId,
    template: &'p Template,
}

impl<'p> Answers<'p> {
    pub fn new(project: &'p Project, uri: &Uri) -> Option<Self> {
        let id = project.template(uri)?;
        let site = project.site();
        Some(Self { project, navigator: Navigator::new(site), id, template: site.get(id) })
    }

    fn tag(&self, position: Position) -> Option<ConstructId> {
        self.navigator.tag_at(self.id, self.project.offset(&self.template.source, position))
    }

    fn range(&self, span: Span) -> Range {
        self.project.range(&self.template.source, span)
    }

    fn locations(&self, spots: Vec<Spot>) -> Vec<Location> {
        spots.into_iter().filter_map(|spot| self.project.location(spot)).collect()
    }

    pub fn definition(&self, position: Position) -> Vec<Location> {
        let found = self.tag(position).map(|tag| self.navigator.definition(self.id, tag));
        self.locations(found.unwrap_or_default())
    }

    /// The references of the tag at a position; elsewhere the uses of the template.
    pub fn references(&self, position: Position) -> Vec<Location> {
        let found = match self.tag(position) {
            Some(tag) => self.navigator.references(self.id, tag),
            None => self.navigator.users_of(self.id),
        };
        self.locations(found)
    }

    /// The name at a position that can be changed: that of a block, or of a layout or partial.
    pub fn renamed(&self, position: Position) -> Option<Range> {
        let tag = self.tag(position)?;
        let item = &self.template.constructs.items[tag];
        let is_block = item.kind.defines() && self.navigator.block_of(self.id, tag).is_some();
        let is_file = !item.target.is_empty() && self.navigator.file_of(self.id, tag).is_some();
        match (is_file, is_block) {
            (true, _) => Some(self.range(item.target)),
            (false, true) => Some(self.range(item.name)),
            (false, false) => None,
        }
    }

    /// The chain of a block: each level that defines it, and what is there; or the file that a name names.
    pub fn hover(&self, position: Position) -> Option<Hover> {
        let tag = self.tag(position)?;
        let item = &self.template.constructs.items[tag];
        let text = match (self.navigator.file_of(self.id, tag), self.navigator.block_of(self.id, tag)) {
            (Some(file), _) if item.kind == Kind::Parent => self.about_layout(file),
            (Some(file), _) => self.about_file(file),
            (None, Some(name)) => self.about_block(name),
            (None, None) if !item.target.is_empty() => {
                let missing = self.project.site().links(self.id).target(tag)?.as_ref().err()?;
                let tried = match missing {
                    Missing::Outside => "it is outside the site".to_owned(),
                    Missing::NotFound(tried) => format!("looked for {}", tried.join(", ")),
                };
                format!("`{}`: no such template; {tried}", item.target.text(&self.template.source))
            }
            (None, None) => return None,
        };
        let contents = HoverContents::Markup(MarkupContent { kind: MarkupKind::Markdown, value: text });
        Some(Hover { contents, range: Some(self.range(item.span)) })
    }

    fn about_file(&self, file: SourceId) -> String {
        let site = self.project.site();
        let template = site.get(file);
        let users = self.navigator.users_of(file).len();
        let chain = Resolver::new(site).chain(file);
        let above: Vec<&str> = chain.levels[1..].iter().map(|&level| site.get(level).path.as_str()).collect();
        let extends = if above.is_empty() { String::new() } else { format!(", extends {}", above.join(", ")) };
        format!("`{}`: {}{extends}; referenced {users} times", template.path, template.role.word())
    }

    /// A layout, with the blocks that the template sets, and those that it takes from its layouts.
    fn about_layout(&self, layout: SourceId) -> String {
        let own = &self.template.path;
        let blocks = Resolver::new(self.project.site()).chain_report(self.id).blocks;
        let is_own = |block: &&ChainBlock| block.definitions.first().is_some_and(|first| first.file == *own);
        let (set, taken): (Vec<_>, Vec<_>) = blocks.iter().partition(is_own);
        let names = |blocks: &[&ChainBlock]| {
            let names: Vec<String> = blocks.iter().map(|block| format!("`{}`", block.name)).collect();
            if names.is_empty() { "none".to_owned() } else { names.join(", ") }
        };
        format!("{}\n\nset here: {}\n\nfrom the layouts: {}", self.about_file(layout), names(&set), names(&taken))
    }

    fn about_block(&self, name: &[u8]) -> String {
        let site = self.project.site();
        let name = String::from_utf8_lossy(name);
        let report = Resolver::new(site).chain_report(self.id);
        let Some(block) = report.blocks.iter().find(|block| block.name == name) else {
            return format!("`{name}`: no layout defines this block");
        };
        let mut text = format!("`{name}`: {}", block.state.word());
        for (at, definition) in block.definitions.iter().enumerate() {
            let what = if at == 0 { "used" } else { "replaced" };
            text += &format!("\n{}. {}:{}, {what}", at + 1, definition.file, definition.line);
        }
        if !block.preview.is_empty() {
            text += &format!("\n\n```html\n{}\n```", block.preview);
        }
        if block.overridden_below > 0 {
            text += &format!("\n\nOverridden in {}", radicon::text::count(block.overridden_below, "template"));
        }
        text
    }

    pub fn symbols(&self) -> Vec<DocumentSymbol> {
        let symbol = |(_, item): (ConstructId, &radicon::markup::Construct)| {
            let end = self.template.constructs.partner(item).map_or(item.span, |close| close.span);
            #[allow(deprecated, reason = "a field of the protocol's type")]
            DocumentSymbol {
                name: item.name.text(&self.template.source).into_owned(),
                detail: Some(item.kind.word().to_owned()),
                kind: SymbolKind::FIELD,
                tags: None,
                deprecated: None,
                range: self.range(Span::new(item.span.start, end.end.max(item.span.end))),
                selection_range: self.range(item.name),
                children: None,
            }
        };
        self.template.blocks().filter(|(_, item)| !item.name.is_empty()).map(symbol).collect()
    }

    /// Pairs of several lines, and the header.
    pub fn folds(&self) -> Vec<FoldingRange> {
        let constructs = &self.template.constructs;
        let header = radicon::markup::header_of(&self.template.source, &self.template.dialect).unwrap_or_default();
        let openers = constructs.items.iter().filter(|item| item.part == Part::Open);
        let lines = openers.filter_map(|item| {
            let close = constructs.partner(item)?;
            Some((self.range(item.span).start.line, self.range(close.span).start.line))
        });
        let fold = |(start_line, end_line): (u32, u32)| FoldingRange {
            start_line,
            end_line: end_line - 1,
            ..FoldingRange::default()
        };
        let header = (0, self.range(header).end.line);
        lines.chain([header]).filter(|(start, end)| start + 1 < *end).map(fold).collect()
    }

    pub fn links(&self) -> Vec<DocumentLink> {
        let site = self.project.site();
        let link = |(at, target): (ConstructId, &Result<SourceId, _>)| {
            let target = self.project.uri(&site.get(target.as_ref().ok().copied()?).path)?;
            let item = &self.template.constructs.items[at];
            Some(DocumentLink { range: self.range(item.target), target: Some(target), tooltip: None, data: None })
        };
        site.links(self.id).targets().filter_map(link).collect()
    }

    /// How often each block is overridden, and the template used.
    pub fn lenses(&self) -> Vec<CodeLens> {
        let lens = |span: Span, title: String| CodeLens {
            range: self.range(span),
            command: Some(Command { title, command: String::new(), arguments: None }),
            data: None,
        };
        let mut found = Vec::new();
        let users = self.navigator.users_of(self.id).len();
        if users > 0 {
            found.push(lens(Span::new(0, 0), format!("referenced in {}", radicon::text::count(users, "place"))));
        }
        for (_, item) in self.template.regions() {
            let overrides = self.navigator.overrides_of(self.id, item.name.of(&self.template.source)).len();
            if overrides > 0 {
                let title = format!("overridden in {}", radicon::text::count(overrides, "template"));
                found.push(lens(item.span, title));
            }
        }
        found
    }

    /// Names that may be written at a position: blocks that are open, files, parameters of a partial.
    pub fn completion(&self, position: Position) -> Vec<CompletionItem> {
        let source = &self.template.source;
        let end = self.project.offset(source, position) as usize;
        let start = source[..end].iter().rposition(|&b| b == b'\n').map_or(0, |at| at + 1);
        let before = String::from_utf8_lossy(&source[start..end]).into_owned();
        // What is typed already of the name.
        let is_name = |c: char| c.is_alphanumeric() || "_-./:@".contains(c);
        let lead = squeezed(before.trim_end_matches(is_name));
        let is_here = |kinds: &[Kind], named: bool| {
            let of_kind = self.template.dialect.forms.iter().filter(|form| kinds.contains(&form.kind));
            of_kind.map(|form| begin(&form.open, named)).any(|begin| !begin.is_empty() && lead.ends_with(&begin))
        };
        let item = |label: String, kind| CompletionItem { label, kind: Some(kind), ..CompletionItem::default() };
        if is_here(&[Kind::Block, Kind::Fill], true) {
            let names = self.navigator.open_blocks(self.id).into_iter();
            return names.map(|name| item(name, CompletionItemKind::FIELD)).collect();
        }
        if let Some(partial) = self.included_before(position) {
            let names = self.navigator.parameters_of(partial).into_iter();
            return names.map(|name| item(name, CompletionItemKind::VARIABLE)).collect();
        }
        let site = self.project.site();
        let roles: &[Role] = match () {
            () if is_here(&[Kind::Parent], false) => &[Role::Layout],
            () if is_here(&[Kind::Include, Kind::Wrap, Kind::Import], false) => &[Role::Partial],
            () => return Vec::new(),
        };
        // Where no file has the role yet, any may be meant.
        let ids = site.ids().filter(|id| *id != self.id);
        let (some, others): (Vec<SourceId>, Vec<SourceId>) = ids.partition(|id| roles.contains(&site.get(*id).role));
        let wanted = if some.is_empty() { others } else { some };
        let names =
            wanted.into_iter().filter_map(|id| self.navigator.names_of(id).into_iter().min_by_key(|name| name.len()));
        names.map(|name| item(name.to_owned(), CompletionItemKind::FILE)).collect()
    }

    /// The partial that an include names, behind whose name a position is in the tag.
    fn included_before(&self, position: Position) -> Option<SourceId> {
        let tag = self.tag(position)?;
        let item = &self.template.constructs.items[tag];
        let is_behind = self.project.offset(&self.template.source, position) > item.target.end + 1;
        let passes = self.template.dialect.rules.arguments.is_some();
        let is_include = matches!(item.kind, Kind::Include | Kind::Wrap);
        if is_include && is_behind && passes { self.navigator.file_of(self.id, tag) } else { None }
    }
}

/// How a tag begins, up to its name or its target.
fn begin(pattern: &radicon::dialect::Pattern, named: bool) -> String {
    const MARK: &str = "\u{1}";
    let (name, target) = if named { (MARK, "") } else { ("", MARK) };
    let written = pattern.write(&Values { target, name, value: "", expr: "", after: "" });
    match written.split_once(MARK) {
        Some((begin, _)) => squeezed(begin),
        None => String::new(),
    }
}

/// A text in which neither blanks nor the kind of quotes count.
fn squeezed(text: &str) -> String {
    text.chars().filter(|c| !c.is_whitespace()).map(|c| if c == '\'' { '"' } else { c }).collect()
}

/// Blocks and files whose names contain a text, whatever its case.
pub fn workspace_symbols(project: &Project, query: &str) -> Vec<SymbolInformation> {
    const MOST: usize = 500;
    let query = query.to_lowercase();
    let mut found = Vec::new();
    let mut push = |name: String, kind: SymbolKind, spot: Spot, container: Option<String>| {
        if name.to_lowercase().contains(&query) {
            let Some(location) = project.location(spot) else { return };
            #[allow(deprecated, reason = "a field of the protocol's type")]
            found.push(SymbolInformation {
                name,
                kind,
                tags: None,
                deprecated: None,
                location,
                container_name: container,
            });
        }
    };
    for (source, template) in (0..).map(SourceId).zip(&project.site().templates) {
        push(template.path.clone(), SymbolKind::FILE, Spot { source, span: Span::new(0, 0) }, None);
        for (_, item) in template.blocks() {
            let name = item.name.text(&template.source).into_owned();
            push(name, SymbolKind::FIELD, Spot { source, span: item.name }, Some(template.path.clone()));
        }
    }
    found.truncate(MOST);
    found
}

/// A finding as the editor shows it.
pub fn diagnostic(project: &Project, finding: &Finding) -> Option<Diagnostic> {
    let source = |path: &str| project.site().find(path).map(|id| &project.site().get(id).source);
    let related = finding.related.iter().filter_map(|related| {
        let location = Location::new(project.uri(&related.file)?, project.range(source(&related.file)?, related.span));
        Some(DiagnosticRelatedInformation { location, message: related.message.clone() })
    });
    let related: Vec<_> = related.collect();
    let severity = match finding.severity {
        Severity::Error => DiagnosticSeverity::ERROR,
        Severity::Warning => DiagnosticSeverity::WARNING,
        Severity::Hint => DiagnosticSeverity::HINT,
    };
    Some(Diagnostic {
        range: project.range(source(&finding.file)?, finding.span),
        severity: Some(severity),
        code: Some(NumberOrString::String(finding.rule.to_owned())),
        source: Some("radicon".to_owned()),
        message: finding.message.clone(),
        related_information: (!related.is_empty()).then_some(related),
        ..Diagnostic::default()
    })
}
