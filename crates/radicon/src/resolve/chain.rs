//! Chains, and which definition of a block wins.

use rustc_hash::FxHashMap;
use schemars::JsonSchema;
use serde::Serialize;

use super::MAX_LEVELS;
use crate::dialect::{Kind, Twice};
use crate::site::{Missing, Problem, Site};
use crate::text::{LineIndex, SourceId};

/// One definition of a block: the opening tag's index among a template's constructs.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Definition {
    /// The template.
    pub source: SourceId,
    /// Index of the block's opening tag.
    pub construct: u32,
}

/// Why a chain ends before its base.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Break {
    /// The parent's name is an expression.
    Dynamic,
    /// The parent was not found.
    Missing(Missing),
    /// The parents come round to themselves.
    Cycle(Vec<SourceId>),
    /// There are more than [`MAX_LEVELS`].
    TooLong,
}

/// A template, its parent, and so on up to the base, with the blocks they define.
#[derive(Clone, Debug)]
pub struct Chain {
    /// The levels, the template itself first.
    pub levels: Vec<SourceId>,
    /// Why it ends too early, if it does; the last level is where.
    pub broken: Option<Break>,
    definitions: FxHashMap<Box<[u8]>, Vec<Definition>>,
}

impl Chain {
    pub(super) fn build(site: &Site, id: SourceId) -> Self {
        let mut levels = vec![id];
        let mut broken = None;
        let mut at = id;
        while site.get(at).parent().is_some() {
            match site.parent(at) {
                None => broken = Some(Break::Dynamic),
                Some(Err(missing)) => broken = Some(Break::Missing(missing)),
                Some(Ok(parent)) => match levels.iter().position(|&level| level == parent) {
                    Some(start) => broken = Some(Break::Cycle(levels[start..].to_vec())),
                    None if levels.len() >= MAX_LEVELS => broken = Some(Break::TooLong),
                    None => {
                        levels.push(parent);
                        at = parent;
                        continue;
                    }
                },
            }
            break;
        }
        let mut definitions: FxHashMap<Box<[u8]>, Vec<Definition>> = FxHashMap::default();
        for &source in &levels {
            let template = site.get(source);
            for (construct, block) in template.blocks() {
                let listed = definitions.entry(block.name.of(&template.source).into()).or_default();
                match listed.last_mut() {
                    Some(last) if last.source == source => {
                        if template.dialect.rules.twice != Twice::First {
                            last.construct = construct;
                        }
                    }
                    _ => listed.push(Definition { source, construct }),
                }
            }
        }
        Self { levels, broken, definitions }
    }

    /// The definitions of a block, the most derived first.
    pub fn definitions(&self, name: &[u8]) -> &[Definition] {
        self.definitions.get(name).map_or(&[], Vec::as_slice)
    }

    /// The base: the last level.
    pub fn base(&self) -> SourceId {
        *self.levels.last().unwrap_or(&SourceId(0))
    }

    /// What is wrong with it, if anything.
    pub fn problem(&self, site: &Site) -> Option<Problem> {
        let broken = self.broken.as_ref()?;
        let template = site.get(self.base());
        let parent = template.parent()?;
        let written = parent.target.text(&template.source);
        let message = match broken {
            Break::Dynamic => {
                format!("the parent `{}` is an expression; the chain ends here", parent.expr.text(&template.source))
            }
            Break::Missing(missing) => describe_missing(&written, missing),
            Break::Cycle(round) => {
                let names: Vec<_> = round.iter().chain(round.first()).map(|&id| site.get(id).path.as_str()).collect();
                format!("the parents come round to themselves: {}", names.join(" -> "))
            }
            Break::TooLong => format!("the chain has more than {MAX_LEVELS} levels"),
        };
        Some(template.problem(parent.span.start, message))
    }

    /// The whole story as a value.
    pub fn report(&self, site: &Site) -> ChainReport {
        let page = site.get(self.levels[0]);
        let lines: Vec<_> = self.levels.iter().map(|&id| (id, LineIndex::new(&site.get(id).source))).collect();
        let mut names: Vec<(usize, u32, &[u8])> = Vec::new();
        for (name, definitions) in &self.definitions {
            // In the order of the topmost file that defines them.
            if let Some(last) = definitions.last() {
                let level = self.levels.iter().position(|&id| id == last.source).unwrap_or(0);
                names.push((self.levels.len() - level, last.construct, name));
            }
        }
        names.sort_unstable();
        let blocks = names
            .into_iter()
            .map(|(_, _, name)| {
                let definitions: Vec<_> = self.definitions(name).iter().map(|d| definition(site, *d, &lines)).collect();
                let effective = definitions.first().map(|d| d.file.clone()).unwrap_or_default();
                ChainBlock { name: String::from_utf8_lossy(name).into_owned(), definitions, effective }
            })
            .collect();
        let chain = self
            .levels
            .iter()
            .map(|&id| {
                let template = site.get(id);
                ChainLevel {
                    file: template.path.clone(),
                    dialect: template.dialect.name.clone(),
                    blocks: template.blocks().count(),
                }
            })
            .collect();
        let problems = self.problem(site).into_iter().collect();
        ChainReport { page: page.path.clone(), chain, blocks, problems }
    }
}

fn definition(site: &Site, definition: Definition, lines: &[(SourceId, LineIndex)]) -> DefinitionReport {
    let template = site.get(definition.source);
    let opener = &template.constructs.items[definition.construct as usize];
    let line =
        lines.iter().find(|(id, _)| *id == definition.source).map_or(1, |(_, index)| index.line(opener.span.start));
    let range = definition.construct as usize..opener.partner as usize;
    let inherits = template.constructs.items[range].iter().any(|item| item.kind == Kind::Inherited);
    let inner = template.inner(definition.construct);
    DefinitionReport { file: template.path.clone(), line, bytes: inner.len(), inherits }
}

/// In plain words what was looked for and where.
pub(super) fn describe_missing(written: &str, missing: &Missing) -> String {
    match missing {
        Missing::Outside => format!("`{written}` leads out of the site"),
        Missing::NotFound(tried) if tried.is_empty() => format!("no template `{written}`"),
        Missing::NotFound(tried) => {
            format!("no template `{written}`; looked for {}", tried.join(", "))
        }
    }
}

/// The override chain of a page.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct ChainReport {
    /// The page's path.
    pub page: String,
    /// The levels, the page itself first.
    pub chain: Vec<ChainLevel>,
    /// Every block that a level defines, in the order of the base.
    pub blocks: Vec<ChainBlock>,
    /// What breaks the chain.
    pub problems: Vec<Problem>,
}

/// A level of a chain.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct ChainLevel {
    /// The file's path.
    pub file: String,
    /// The dialect it is read in.
    pub dialect: String,
    /// How many blocks it defines or overrides.
    pub blocks: usize,
}

/// A block and who defines it.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct ChainBlock {
    /// Its name.
    pub name: String,
    /// Its definitions, the most derived first.
    pub definitions: Vec<DefinitionReport>,
    /// The file whose definition wins.
    pub effective: String,
}

/// One definition of a block.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct DefinitionReport {
    /// The file's path.
    pub file: String,
    /// The line of its opening tag, 1-based.
    pub line: u32,
    /// Length of its content in bytes.
    pub bytes: usize,
    /// Whether it splices what it replaces.
    pub inherits: bool,
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect::builtin;
    use crate::resolve::Resolver;
    use crate::site::{Settings, SourceFile};

    fn report(files: &[(&str, &str)], page: &str) -> ChainReport {
        let files = files.iter().map(|(path, text)| SourceFile::new(*path, *text)).collect();
        let site = Site::read(files, builtin(), &Settings::default());
        Resolver::new(&site).chain(site.find(page).expect("a page")).report(&site)
    }

    #[test]
    fn the_most_derived_definition_wins() {
        let report = report(
            &[
                ("base.html", "{% block a %}{% endblock %}\n{% block b %}{% endblock %}"),
                ("mid.html", "{% extends 'base.html' %}{% block b %}x{{ super() }}{% endblock %}"),
                ("page.html", "{% extends 'mid.html' %}\n{% block b %}y{% endblock %}"),
            ],
            "page.html",
        );
        let files: Vec<_> = report.chain.iter().map(|level| level.file.as_str()).collect();
        assert_eq!(files, ["page.html", "mid.html", "base.html"]);
        let blocks: Vec<_> =
            report.blocks.iter().map(|block| (block.name.as_str(), block.effective.as_str())).collect();
        assert_eq!(blocks, [("a", "base.html"), ("b", "page.html")]);
        assert_eq!(report.blocks[1].definitions[0].line, 2);
        assert!(report.blocks[1].definitions[1].inherits);
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
