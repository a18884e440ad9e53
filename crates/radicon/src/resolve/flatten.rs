//! Flattening: a page put together, with the origin of every stretch.

use std::rc::Rc;

use rustc_hash::FxHashMap;
use schemars::JsonSchema;
use serde::Serialize;

use super::chain::describe_missing;
use super::{Chain, Definition, MAX_NESTING, MAX_PAGE, MAX_SPLICES};
use crate::dialect::{Kind, Part};
use crate::markup::{ALONE, Construct};
use crate::site::{Missing, Problem, Site, Template};
use crate::text::{LineIndex, SourceId, Span, is_blank};

/// Why a page cannot be put together.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum FlattenError {
    /// It grows without end.
    #[error("{page}: the page grows beyond {} MiB or {MAX_SPLICES} spliced blocks and includes", MAX_PAGE >> 20)]
    TooLarge {
        /// The page's path.
        page: String,
    },
}

/// Through what a stretch came into the page.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Via {
    /// It stands in the base itself.
    Base,
    /// It is the content of a block.
    Block(Definition),
    /// A construct, in a template, includes it.
    Include(SourceId, u32),
}

/// A stretch of a flattened page that was copied from one place.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Stretch {
    /// Where it starts in the page, a byte offset.
    pub at: u32,
    /// The template it comes from.
    pub source: SourceId,
    /// Where in that template.
    pub span: Span,
    /// Through what it came, the innermost.
    pub via: Via,
}

/// Where a place of a flattened page comes from, for people.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Origin {
    /// The file's path.
    pub file: String,
    /// The line, 1-based.
    pub line: u32,
    /// The column, 1-based, in characters.
    pub column: u32,
    /// The block whose content it is, if any.
    pub block: Option<String>,
}

/// A flattened page for people and programs.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct FlatReport {
    /// The page's path.
    pub page: String,
    /// The page put together; bytes that are not UTF-8 are shown as U+FFFD.
    pub text: String,
    /// For each line of the text where it comes from.
    pub origins: Vec<OriginLine>,
    /// What could not be resolved and was kept as it stands.
    pub problems: Vec<Problem>,
}

/// Where a line of a flattened page comes from.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct OriginLine {
    /// The line in the page, 1-based.
    pub line: u32,
    /// The place from which the first thing on it that is not white space comes.
    pub origin: Origin,
}

/// A page put together.
#[derive(Clone, Debug, Default)]
pub struct Flat {
    /// Its bytes: a template of the same dialect without parents and includes.
    pub bytes: Vec<u8>,
    /// Where they come from; sorted, together they cover all of it.
    pub stretches: Vec<Stretch>,
    /// What could not be resolved and was kept as it stands.
    pub problems: Vec<Problem>,
}

impl Flat {
    /// Where the byte at `offset` comes from; for the end of the page, where its last byte does.
    pub fn origin(&self, site: &Site, offset: u32) -> Option<Origin> {
        self.origin_with(site, offset, &mut FxHashMap::default())
    }

    fn origin_with(&self, site: &Site, offset: u32, lines: &mut FxHashMap<SourceId, LineIndex>) -> Option<Origin> {
        let index = self.stretches.partition_point(|stretch| stretch.at <= offset).checked_sub(1)?;
        let stretch = self.stretches[index];
        let within = (offset - stretch.at).min(stretch.span.len() as u32);
        let template = site.get(stretch.source);
        let known = lines.entry(stretch.source).or_insert_with(|| LineIndex::new(&template.source));
        let at = known.position(&template.source, stretch.span.start + within);
        let block = match stretch.via {
            Via::Block(definition) => Some(block_name(site, definition)),
            Via::Base | Via::Include(..) => None,
        };
        Some(Origin { file: template.path.clone(), line: at.line, column: at.column, block })
    }

    /// The page with the origin of each line.
    pub fn report(&self, site: &Site, page: SourceId) -> FlatReport {
        let mut origins = Vec::new();
        let mut lines = FxHashMap::default();
        let mut start = 0_usize;
        for (number, line) in (1..).zip(self.bytes.split_inclusive(|&b| b == b'\n')) {
            let blanks = line.iter().position(|&b| !is_blank(b)).unwrap_or(0);
            if let Some(origin) = self.origin_with(site, (start + blanks) as u32, &mut lines) {
                origins.push(OriginLine { line: number, origin });
            }
            start += line.len();
        }
        let text = String::from_utf8_lossy(&self.bytes).into_owned();
        FlatReport { page: site.get(page).path.clone(), text, origins, problems: self.problems.clone() }
    }
}

fn block_name(site: &Site, definition: Definition) -> String {
    let template = site.get(definition.source);
    template.constructs.items[definition.construct as usize].name.text(&template.source).into_owned()
}

pub(super) fn flatten(site: &Site, id: SourceId) -> Result<Flat, FlattenError> {
    let mut flattener = Flattener {
        site,
        flat: Flat::default(),
        chains: FxHashMap::default(),
        targets: FxHashMap::default(),
        active: Vec::new(),
        including: Vec::new(),
        splices: 0,
        full: false,
    };
    flattener.template(id, Via::Base);
    if flattener.full {
        return Err(FlattenError::TooLarge { page: site.get(id).path.clone() });
    }
    flattener.flat.problems.sort();
    flattener.flat.problems.dedup();
    Ok(flattener.flat)
}

struct Flattener<'s> {
    site: &'s Site,
    flat: Flat,
    chains: FxHashMap<SourceId, Rc<Chain>>,
    targets: FxHashMap<(SourceId, u32), Result<SourceId, Missing>>,
    /// What is being spliced, outermost first.
    active: Vec<Via>,
    /// The files among them.
    including: Vec<SourceId>,
    /// How often something was spliced.
    splices: usize,
    full: bool,
}

/// Which definition of which block is being written, in which chain.
#[derive(Clone)]
struct Frame {
    chain: Rc<Chain>,
    /// The block's definitions from the current one on.
    block: Option<(Vec<Definition>, usize)>,
    via: Via,
}

impl Flattener<'_> {
    /// Writes a template with its own chain.
    fn template(&mut self, id: SourceId, via: Via) {
        let chain = match self.chains.get(&id) {
            Some(chain) => Rc::clone(chain),
            None => {
                let chain = Rc::new(Chain::build(self.site, id));
                self.flat.problems.extend(chain.problem(self.site));
                self.chains.insert(id, Rc::clone(&chain));
                chain
            }
        };
        let frame = Frame { chain: Rc::clone(&chain), block: None, via };
        let (base, children) = chain.levels.split_last().unwrap_or((&id, &[]));
        for &child in children {
            self.loose_bindings(child, via);
        }
        let template = self.site.get(*base);
        self.content(*base, Span::from_range(0..template.source.len()), 0, &frame);
    }

    /// Names that a child binds outside its blocks hold for the layout too.
    fn loose_bindings(&mut self, child: SourceId, via: Via) {
        let template = self.site.get(child);
        let mut at = 0;
        while let Some(item) = template.constructs.items.get(at) {
            if item.kind == Kind::Set {
                self.copy(child, item.span, via);
            }
            let pair = item.part == Part::Open && item.kind == Kind::Block && item.partner != ALONE;
            at = if pair { item.partner as usize + 1 } else { at + 1 };
        }
    }

    /// Writes a stretch of a template whose first construct is `first` or later.
    fn content(&mut self, source: SourceId, span: Span, first: usize, frame: &Frame) {
        let site = self.site;
        let template = site.get(source);
        let items = &template.constructs.items;
        let mut cursor = span.start;
        let mut at = first;
        while let Some(item) = items.get(at).filter(|item| item.span.start < span.end && !self.full) {
            let end = self.construct(source, template, at, item, frame, cursor);
            match end {
                Some((next, resume)) => {
                    cursor = resume.clamp(cursor, span.end);
                    at = next;
                }
                None => at += 1,
            }
        }
        self.copy(source, Span::new(cursor, span.end), frame.via);
    }

    /// Resolves one construct; gives the next one and where the text goes on, or
    /// `None` if it stays as it is.
    fn construct(
        &mut self,
        source: SourceId,
        template: &Template,
        at: usize,
        item: &Construct,
        frame: &Frame,
        cursor: u32,
    ) -> Option<(usize, u32)> {
        let text = Span::new(cursor, item.reach.start.max(cursor));
        match item.kind {
            Kind::Comment => self.copy(source, text, frame.via),
            Kind::Parent if frame.chain.broken.is_none() || source != frame.chain.base() => {
                self.copy(source, text, frame.via)
            }
            Kind::Block if item.part == Part::Open && item.partner != ALONE => {
                let name = item.name.of(&template.source);
                let definitions = frame.chain.definitions(name).to_vec();
                self.copy(source, text, frame.via);
                let own = Definition { source, construct: at as u32 };
                self.block(if definitions.is_empty() { vec![own] } else { definitions }, 0, frame, (template, item));
                let closer = &template.constructs.items[item.partner as usize];
                return Some((item.partner as usize + 1, closer.reach.end));
            }
            Kind::Inherited => {
                self.copy(source, text, frame.via);
                if let Some((definitions, index)) = &frame.block
                    && index + 1 < definitions.len()
                {
                    self.block(definitions.clone(), index + 1, frame, (template, item));
                }
            }
            Kind::Include => {
                if item.dynamic {
                    let message = format!(
                        "the included name `{}` is an expression; kept as it is",
                        item.expr.text(&template.source)
                    );
                    self.flat.problems.push(template.problem(item.span.start, message));
                    return None;
                }
                match self.target(source, at, item) {
                    Ok(target) => {
                        if self.too_deep(template, item) || self.includes_itself(template, item, target) {
                            return None;
                        }
                        self.copy(source, text, frame.via);
                        let via = Via::Include(source, at as u32);
                        self.active.push(via);
                        self.including.push(target);
                        self.template(target, via);
                        self.including.pop();
                        self.active.pop();
                    }
                    Err(missing) => {
                        let written = item.target.text(&template.source);
                        self.flat
                            .problems
                            .push(template.problem(item.span.start, describe_missing(&written, &missing)));
                        return None;
                    }
                }
            }
            _ => return None,
        }
        Some((at + 1, item.reach.end))
    }

    fn block(&mut self, definitions: Vec<Definition>, index: usize, frame: &Frame, from: (&Template, &Construct)) {
        let definition = definitions[index];
        let via = Via::Block(definition);
        if self.active.contains(&via) {
            let name = block_name(self.site, definition);
            self.flat
                .problems
                .push(from.0.problem(from.1.span.start, format!("the block `{name}` stands inside itself")));
            return;
        }
        if self.too_deep(from.0, from.1) {
            return;
        }
        let template = self.site.get(definition.source);
        let inner = Frame { chain: Rc::clone(&frame.chain), block: Some((definitions, index)), via };
        self.active.push(via);
        self.content(
            definition.source,
            template.inner(definition.construct),
            definition.construct as usize + 1,
            &inner,
        );
        self.active.pop();
    }

    fn too_deep(&mut self, template: &Template, item: &Construct) -> bool {
        self.splices += 1;
        self.full |= self.splices > MAX_SPLICES;
        let deep = self.active.len() >= MAX_NESTING;
        if deep {
            let message =
                format!("more than {MAX_NESTING} blocks and includes inside each other; not followed further");
            self.flat.problems.push(template.problem(item.span.start, message));
        }
        deep
    }

    /// Whether following an include would come round to a file that is being included.
    fn includes_itself(&mut self, template: &Template, item: &Construct, target: SourceId) -> bool {
        let Some(start) = self.including.iter().position(|&active| active == target) else { return false };
        let round = self.including[start..].iter().chain([&target]);
        let names: Vec<_> = round.map(|&id| self.site.get(id).path.as_str()).collect();
        let message = format!("the includes come round to themselves: {}", names.join(" -> "));
        self.flat.problems.push(template.problem(item.span.start, message));
        true
    }

    /// The file that an include names; looked up once.
    fn target(&mut self, source: SourceId, at: usize, item: &Construct) -> Result<SourceId, Missing> {
        let site = self.site;
        self.targets.entry((source, at as u32)).or_insert_with(|| site.target(source, item)).clone()
    }

    fn copy(&mut self, source: SourceId, span: Span, via: Via) {
        if span.is_empty() || self.full {
            return;
        }
        let at = self.flat.bytes.len();
        if at + span.len() > MAX_PAGE {
            self.full = true;
            return;
        }
        self.flat.bytes.extend_from_slice(span.of(&self.site.get(source).source));
        self.flat.stretches.push(Stretch { at: at as u32, source, span, via });
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect::builtin;
    use crate::resolve::Resolver;
    use crate::site::{Settings, SourceFile};

    fn flat(files: &[(&str, &str)], page: &str) -> (String, Vec<String>) {
        let files = files.iter().map(|(path, text)| SourceFile::new(*path, *text)).collect();
        let site = Site::read(files, builtin(), &Settings::default());
        let flat = Resolver::new(&site).flatten(site.find(page).expect("a page")).expect("a page of a sane size");
        let copied: usize = flat.stretches.iter().map(|stretch| stretch.span.len()).sum();
        assert_eq!(copied, flat.bytes.len(), "every byte has an origin");
        (String::from_utf8_lossy(&flat.bytes).into_owned(), flat.problems.iter().map(ToString::to_string).collect())
    }

    const BASE: (&str, &str) = (
        "base.html",
        "<{% block a %}A{% block n %}N{% endblock %}{% endblock %}|{% block b %}B{% endblock %}>{# c #}{{ x }}",
    );

    #[test]
    fn blocks_are_overridden_nested_and_inherited() {
        let mid = ("mid.html", "{% extends 'base.html' %}lost{% block b %}[{{ super() }}]{% endblock %}");
        for (page, expected) in [
            ("{% extends 'base.html' %}", "<AN|B>{{ x }}"),
            ("{% extends 'mid.html' %}{% block n %}x{% endblock %}", "<Ax|[B]>{{ x }}"),
            ("{% extends 'mid.html' %}{% block b %}({{ super() }}){% endblock %}", "<AN|([B])>{{ x }}"),
            (
                "{% extends 'mid.html' %}{% block a %}{% block n %}y{% endblock %}{{ super() }}{% endblock %}",
                "<yAy|[B]>{{ x }}",
            ),
        ] {
            assert_eq!(flat(&[BASE, mid, ("p.html", page)], "p.html"), (expected.to_owned(), vec![]), "{page}");
        }
    }

    #[test]
    fn partials_bring_their_own_chain() {
        let files = [
            BASE,
            ("card.html", "{% extends 'base.html' %}{% block a %}card{% endblock %}"),
            ("p.html", "{% extends 'base.html' %}{% block b %}{% include 'card.html' %}{% endblock %}{% set t = 1 %}"),
        ];
        assert_eq!(flat(&files, "p.html").0, "{% set t = 1 %}<AN|<card|B>{{ x }}>{{ x }}");
    }

    #[test]
    fn rounds_and_gaps_are_named_and_kept() {
        let (text, problems) = flat(
            &[
                ("a.html", "1{% include 'b.html' %}"),
                ("b.html", "2{% include 'c.html' %}"),
                ("c.html", "3{% include 'b.html' %}"),
            ],
            "a.html",
        );
        assert_eq!(text, "123{% include 'b.html' %}");
        assert!(problems[0].contains("b.html -> c.html -> b.html"), "{problems:?}");
        let (text, problems) =
            flat(&[("a.html", "{% include 'x.html' %}{% include y %}{% include 'a.html' %}")], "a.html");
        assert_eq!(text, "{% include 'x.html' %}{% include y %}{% include 'a.html' %}");
        assert_eq!(problems.len(), 3, "{problems:?}");
    }

    #[test]
    fn pages_that_explode_are_stopped() {
        let mut files: Vec<(String, String)> = (0..40)
            .map(|n| (format!("{n}.html"), format!("{{% include '{0}.html' %}}{{% include '{0}.html' %}}", n + 1)))
            .collect();
        files.push(("40.html".into(), "x".repeat(100_000)));
        let files = files.into_iter().map(|(path, text)| SourceFile::new(path, text)).collect();
        let site = Site::read(files, builtin(), &Settings::default());
        let page = site.find("0.html").expect("a page");
        assert!(matches!(Resolver::new(&site).flatten(page), Err(FlattenError::TooLarge { .. })));
    }
}
