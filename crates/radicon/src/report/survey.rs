//! What is there: the site as a list.

use std::collections::{BTreeMap, BTreeSet};

use serde::Serialize;

use crate::dialect::Kind;
use crate::markup::{Construct, ConstructId};
use crate::repeats::RepeatSummary;
use crate::site::{Mount, Parent, Problem, ProblemKind, Reference, Role, Root, Site, UnexplainedTag, UnreadFiles};
use crate::text::{Place, SourceId, count_lines};

/// The templates of a site, what they are, and how they hang together.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[non_exhaustive]
pub struct Survey {
    /// One entry a template, sorted by path.
    pub files: Vec<SurveyFile>,
    /// The roots at which target names start, in the order in which they are tried, and the reason for each.
    pub roots: Vec<Root>,
    /// How names that begin with an application's name become files.
    pub mounts: Vec<Mount>,
    /// Sums.
    pub totals: Totals,
    /// Templates that application code names.
    pub references: Vec<Reference>,
    /// Tags that no form of their dialect describes, the most frequent first.
    pub unknown: Vec<UnknownTag>,
    /// Text like tags of a notation that no dialect explains, the most frequent first.
    pub unexplained: Vec<UnexplainedTag>,
    /// Files that look like templates, but are in no known dialect, by suffix: they are not read.
    pub unread: Vec<UnreadFiles>,
    /// The copied markup, if it was looked for.
    pub repeats: Option<RepeatSummary>,
    /// The files that could not be read.
    pub problems: Vec<Problem>,
}

/// One template.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct SurveyFile {
    /// Its path from the site's folder.
    pub path: String,
    /// Its role.
    pub role: Role,
    /// The dialect it is read in.
    pub dialect: String,
    /// The path of its parent; the name as written if there is no such file. None if several are named.
    pub parent: Option<String>,
    /// The paths of what it includes; names as written where there is no such file.
    pub includes: Vec<String>,
    /// Whether it is rendered for itself.
    pub rendered: bool,
    /// The names of the blocks it defines or overrides, in their order.
    pub blocks: Vec<String>,
    /// Its size in bytes.
    pub bytes: usize,
    /// Its lines.
    pub lines: usize,
}

/// A tag that no form of its dialect describes; it is kept as it is.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct UnknownTag {
    /// Its first word with its delimiters, such as `{% tide …`.
    pub tag: String,
    /// The dialect.
    pub dialect: String,
    /// How often it is in the site.
    pub uses: usize,
    /// In how many files.
    pub files: usize,
    /// The first place.
    pub first: Place,
}

/// Sums over a site.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Totals {
    /// Templates.
    pub files: usize,
    /// Templates that are rendered for themselves.
    pub pages: usize,
    /// Templates that are parents.
    pub layouts: usize,
    /// Templates that are included.
    pub partials: usize,
    /// Bytes in all of them.
    pub bytes: usize,
    /// Lines in all of them.
    pub lines: usize,
}

impl Survey {
    /// The list of a site; `problems` are those that were met when loading it.
    pub fn of(site: &Site, problems: &[Problem]) -> Self {
        let files: Vec<_> = (0..site.templates.len() as u32).map(|id| SurveyFile::of(site, SourceId(id))).collect();
        let count = |role: Role| files.iter().filter(|file| file.role == role).count();
        let totals = Totals {
            files: files.len(),
            pages: site.pages().count(),
            layouts: count(Role::Layout),
            partials: count(Role::Partial),
            bytes: files.iter().map(|file| file.bytes).sum(),
            lines: files.iter().map(|file| file.lines).sum(),
        };
        let mut problems = problems.to_vec();
        problems.extend(site.problems.iter().cloned());
        for template in &site.templates {
            let unreadable = template.unreadable.map(|why| Problem {
                file: template.path.clone(),
                at: None,
                kind: ProblemKind::File,
                message: why.into(),
            });
            problems.extend(unreadable);
            let errors = template.constructs.errors.iter();
            problems.extend(
                errors.map(|error| template.problem_of(ProblemKind::Reading, error.span.start, error.message.clone())),
            );
        }
        problems.sort();
        let (references, unknown) = (site.references.clone(), unknown_tags(site));
        Self {
            files,
            roots: site.roots.clone(),
            mounts: site.mounts.clone(),
            totals,
            references,
            unknown,
            unexplained: site.unexplained(),
            unread: site.unread().to_vec(),
            repeats: None,
            problems,
        }
    }

    /// The tag that may name the layouts, in a form that was not seen: no template names one, and at least one in
    /// two has this tag of an inferred dialect, which does not describe it.
    pub fn may_name_layouts(&self, site: &Site) -> Option<&UnknownTag> {
        const SHARE: usize = 2;
        if self.files.iter().any(|file| file.parent.is_some()) {
            return None;
        }
        let is_inferred = |name: &str| {
            site.templates.iter().any(|template| template.dialect.learned && template.dialect.name == name)
        };
        let is_frequent = |tag: &&UnknownTag| tag.files > 1 && tag.files * SHARE >= self.totals.files;
        self.unknown.iter().filter(is_frequent).find(|tag| is_inferred(&tag.dialect))
    }
}

impl SurveyFile {
    fn of(site: &Site, id: SourceId) -> Self {
        let template = site.get(id);
        let links = site.links(id);
        let named = |(at, item): (ConstructId, &Construct)| match links.target(at) {
            Some(Ok(target)) => site.get(*target).path.clone(),
            _ if item.target.is_empty() => item.name.text(&template.source).into_owned(),
            _ => item.target.text(&template.source).into_owned(),
        };
        let mut includes: Vec<String> = template.includes().map(named).collect();
        includes.dedup();
        let parent = match &links.parent {
            Parent::Found { id, .. } => Some(site.get(*id).path.clone()),
            // One that is in a condition is named all the same.
            _ => {
                let mut named: Vec<String> =
                    template.parents().filter(|(_, item)| !item.target.is_empty()).map(named).collect();
                named.dedup();
                (named.len() == 1).then(|| named.remove(0))
            }
        };
        let mut names: Vec<_> = template.blocks().chain(template.regions()).collect();
        names.sort_by_key(|(at, _)| *at);
        names.dedup_by_key(|(at, _)| *at);
        Self {
            path: template.path.clone(),
            role: template.role,
            dialect: template.dialect.name.clone(),
            parent,
            includes,
            rendered: template.rendered,
            blocks: names.into_iter().map(|(_, block)| block.name.text(&template.source).into_owned()).collect(),
            bytes: template.source.len(),
            lines: count_lines(&template.source),
        }
    }
}

/// Tags that no form of their dialect describes.
fn unknown_tags(site: &Site) -> Vec<UnknownTag> {
    let mut found: BTreeMap<(&str, String), (usize, usize, SourceId, u32)> = BTreeMap::new();
    for (id, template) in (0..).map(SourceId).zip(&site.templates) {
        let mut here = BTreeSet::new();
        for item in template.constructs.items.iter().filter(|item| item.kind == Kind::Other) {
            let key = (template.dialect.name.as_str(), item.first_word(&template.source, &template.dialect));
            let entry = found.entry(key.clone()).or_insert((0, 0, id, item.span.start));
            entry.0 += 1;
            entry.1 += usize::from(here.insert(key));
        }
    }
    let tag = |((dialect, tag), (uses, files, id, at)): ((&str, String), (usize, usize, SourceId, u32))| {
        let template = site.get(id);
        let first = Place { file: template.path.clone(), line: template.position(at).line };
        UnknownTag { tag, dialect: dialect.to_owned(), uses, files, first }
    };
    let mut unknown: Vec<_> = found.into_iter().map(tag).collect();
    unknown.sort_by_key(|tag| std::cmp::Reverse(tag.uses));
    unknown
}
