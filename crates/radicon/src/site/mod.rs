//! A site: its templates, the roots under which they name each other, and what
//! each of them is.

mod roots;
mod settings;
mod survey;

use std::sync::Arc;

use rayon::prelude::*;
use rustc_hash::FxHashMap;
use schemars::JsonSchema;
use serde::Serialize;

use crate::dialect::{self, Dialect, Kind, Part};
use crate::markup::{ALONE, Construct, Constructs};
use crate::text::{MAX_SOURCE, Position, SourceId, Span, position};

pub use roots::Root;
pub(crate) use roots::usual_folder;
pub use settings::{Settings, SettingsError};
pub use survey::{Survey, SurveyFile, Totals};

/// A file as it comes in.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SourceFile {
    /// Path from the site's folder, with `/` between its parts.
    pub path: String,
    /// Its content.
    pub bytes: Vec<u8>,
}

impl SourceFile {
    /// A file from its path and content.
    pub fn new(path: impl Into<String>, bytes: impl Into<Vec<u8>>) -> Self {
        Self { path: path.into(), bytes: bytes.into() }
    }
}

/// A change to one file of a site.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Change {
    /// The file's path from the site's folder.
    pub path: String,
    /// Its content as it was read; `None` if it must not exist yet.
    pub old: Option<Vec<u8>>,
    /// Its new content; `None` to remove it.
    pub new: Option<Vec<u8>>,
}

/// Something that could not be read or resolved; the rest goes on without it.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, JsonSchema)]
pub struct Problem {
    /// The file it is about, from the site's folder.
    pub file: String,
    /// The place in the file, if there is one.
    pub at: Option<Position>,
    /// What is wrong, in plain words.
    pub message: String,
}

impl std::fmt::Display for Problem {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self.at {
            Some(at) => write!(f, "{}:{}:{}: {}", self.file, at.line, at.column, self.message),
            None => write!(f, "{}: {}", self.file, self.message),
        }
    }
}

/// What a template is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Role {
    /// Rendered for itself.
    Page,
    /// Another template names it as its parent.
    Layout,
    /// Another template includes it.
    Partial,
}

/// One source file, parsed under one dialect.
#[derive(Clone, Debug)]
pub struct Template {
    /// Path from the site's folder, with `/` between its parts.
    pub path: String,
    /// Its bytes.
    pub source: Arc<[u8]>,
    /// The dialect it is read in.
    pub dialect: Arc<Dialect>,
    /// Its constructs.
    pub constructs: Constructs,
    /// What it is for.
    pub role: Role,
    /// Why it cannot be read as markup, if it cannot.
    pub unreadable: Option<&'static str>,
}

impl Template {
    fn read(file: SourceFile, dialects: &[Arc<Dialect>]) -> Self {
        let unreadable = unreadable(&file.bytes);
        let fitting = dialects.iter().filter(|dialect| dialect.fits(&file.path));
        let mut best = (0, dialect::plain(), Constructs::default());
        for dialect in fitting.filter(|dialect| unreadable.is_none() && !dialect.forms.is_empty()) {
            let constructs = Constructs::read(&file.bytes, dialect);
            let score = evidence(&constructs);
            if score > best.0 {
                best = (score, Arc::clone(dialect), constructs);
            }
        }
        let (_, dialect, constructs) = best;
        Self { path: file.path, source: file.bytes.into(), dialect, constructs, role: Role::Page, unreadable }
    }

    /// The construct that names its parent.
    pub fn parent(&self) -> Option<&Construct> {
        self.constructs.items.iter().find(|item| item.kind == Kind::Parent)
    }

    /// The includes it holds.
    pub fn includes(&self) -> impl Iterator<Item = &Construct> {
        self.constructs.items.iter().filter(|item| item.kind == Kind::Include)
    }

    /// The opening tags of its blocks that are closed, with their indices.
    pub fn blocks(&self) -> impl Iterator<Item = (u32, &Construct)> {
        let opens = |item: &Construct| item.kind == Kind::Block && item.part == Part::Open && item.partner != ALONE;
        (0..).zip(&self.constructs.items).filter(move |(_, item)| opens(item))
    }

    /// What stands between a pair's tags, white space that goes with the tags left out.
    pub fn inner(&self, opener: u32) -> Span {
        let open = &self.constructs.items[opener as usize];
        let close = &self.constructs.items[open.partner as usize];
        Span::new(open.reach.end, close.reach.start.max(open.reach.end))
    }

    /// A problem at a place of this template.
    pub fn problem(&self, offset: u32, message: impl Into<String>) -> Problem {
        Problem { file: self.path.clone(), at: Some(position(&self.source, offset)), message: message.into() }
    }
}

/// How much in a source speaks for the dialect it was read in. Outputs and
/// unknown tags alone do not: pages about templates are full of them.
fn evidence(constructs: &Constructs) -> usize {
    let weight = |item: &Construct| match item.kind {
        // A page about templates may show many tags; what frames it counts more.
        Kind::Parent => 1_000,
        Kind::Include | Kind::Inherited | Kind::Set => 1,
        Kind::Block | Kind::Control | Kind::Verbatim => usize::from(item.partner != ALONE),
        Kind::Output | Kind::Comment | Kind::Other => 0,
    };
    constructs.items.iter().map(weight).sum()
}

/// Why the bytes cannot be read as HTML in an encoding that contains ASCII.
fn unreadable(bytes: &[u8]) -> Option<&'static str> {
    let head = &bytes[..bytes.len().min(64 * 1024)];
    if bytes.len() > MAX_SOURCE {
        return Some("larger than 4 GiB");
    }
    if head.starts_with(b"\xff\xfe") || head.starts_with(b"\xfe\xff") {
        return Some("UTF-16 text; save it as UTF-8 to have it read");
    }
    let zeros = memchr::memchr_iter(0, head).count();
    match zeros {
        0 => None,
        _ if zeros * 3 > head.len() && head.contains(&b'<') => {
            Some("UTF-16 or UTF-32 text; save it as UTF-8 to have it read")
        }
        _ => Some("binary content, not HTML"),
    }
}

/// A site, read.
#[derive(Clone, Debug)]
pub struct Site {
    /// Its templates, sorted by path.
    pub templates: Vec<Template>,
    /// Where written target names start, in the order in which they are tried.
    pub roots: Vec<Root>,
    by_path: FxHashMap<String, SourceId>,
}

/// Why a target was not found.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Missing {
    /// It would lie outside the site.
    Outside,
    /// None of these files exists.
    NotFound(Vec<String>),
}

impl Site {
    /// Reads a site from its files. `dialects` are tried on every file whose
    /// path fits, the first of those that explain the most constructs counts.
    pub fn read(files: Vec<SourceFile>, dialects: &[Arc<Dialect>], settings: &Settings) -> Self {
        let plain = dialect::plain();
        // What is no page by its name is a template only if some dialect explains it.
        let counts = |template: &Template| !template.dialect.forms.is_empty() || plain.fits(&template.path);
        let mut templates: Vec<_> =
            files.into_par_iter().map(|file| Template::read(file, dialects)).filter(counts).collect();
        templates.sort_by(|a, b| a.path.cmp(&b.path));
        templates.dedup_by(|a, b| a.path == b.path);
        let by_path = (0..).zip(&templates).map(|(id, template)| (template.path.clone(), SourceId(id))).collect();
        let mut site = Self { templates, roots: Vec::new(), by_path };
        site.roots = match &settings.roots {
            Some(roots) => roots.iter().map(|root| Root::configured(root)).collect(),
            None => roots::infer(&site),
        };
        site.assign_roles();
        site
    }

    /// A site of the same settings with other files: for proposals.
    pub fn with_roots(files: Vec<SourceFile>, dialects: &[Arc<Dialect>], roots: &[Root]) -> Self {
        let settings =
            Settings { roots: Some(roots.iter().map(|root| root.path.clone()).collect()), ..Settings::default() };
        Self::read(files, dialects, &settings)
    }

    fn assign_roles(&mut self) {
        let mut roles = vec![Role::Page; self.templates.len()];
        let ids = || (0..self.templates.len() as u32).map(SourceId);
        for id in ids() {
            for include in self.get(id).includes().filter(|include| !include.dynamic) {
                if let Ok(target) = self.target(id, include) {
                    roles[target.index()] = Role::Partial;
                }
            }
        }
        for id in ids() {
            if let Some(Ok(parent)) = self.parent(id) {
                roles[parent.index()] = Role::Layout;
            }
        }
        for (template, role) in self.templates.iter_mut().zip(roles) {
            template.role = role;
        }
    }

    /// A template by its id.
    pub fn get(&self, id: SourceId) -> &Template {
        &self.templates[id.index()]
    }

    /// A template by its path.
    pub fn find(&self, path: &str) -> Option<SourceId> {
        self.by_path.get(path).copied()
    }

    /// A template by its path or by the name under which the site names it.
    pub fn find_named(&self, name: &str) -> Option<SourceId> {
        let name = name.trim_start_matches("./");
        let under = |root: &Root| self.find(&join(&root.path, name)?);
        self.find(name).or_else(|| self.roots.iter().find_map(under))
    }

    /// The pages, in order of their paths.
    pub fn pages(&self) -> impl Iterator<Item = SourceId> + '_ {
        (0..).map(SourceId).zip(&self.templates).filter(|(_, template)| template.role == Role::Page).map(|(id, _)| id)
    }

    /// The parent of a template: `None` if it names none or a dynamic one.
    pub fn parent(&self, id: SourceId) -> Option<Result<SourceId, Missing>> {
        let parent = self.get(id).parent().filter(|parent| !parent.dynamic)?;
        Some(self.target(id, parent))
    }

    /// The file that a construct's target names.
    ///
    /// # Errors
    /// If no root holds such a file, or the name leads out of the site.
    pub fn target(&self, from: SourceId, construct: &Construct) -> Result<SourceId, Missing> {
        let template = self.get(from);
        self.lookup(from, &construct.target.text(&template.source))
    }

    /// The file that `written` names in the template `from`.
    ///
    /// # Errors
    /// If no root holds such a file, or the name leads out of the site.
    pub fn lookup(&self, from: SourceId, written: &str) -> Result<SourceId, Missing> {
        let template = self.get(from);
        let rules = &template.dialect.targets;
        let name = roots::with_slashes(written, rules);
        let mut tried = Vec::new();
        let mut outside = false;
        let folder = if rules.relative && !name.starts_with('/') { Some(folder(&template.path)) } else { None };
        let starts =
            folder.into_iter().chain(self.roots.iter().filter(|_| folder.is_none()).map(|root| root.path.as_str()));
        for start in starts {
            for suffix in &rules.suffixes {
                match join(start, &format!("{}{suffix}", name.trim_start_matches('/'))) {
                    Some(path) => match self.find(&path) {
                        // A template that names itself means the same name in the next root.
                        Some(found) if found != from => return Ok(found),
                        _ => tried.push(path),
                    },
                    None => outside = true,
                }
            }
        }
        Err(if outside && tried.is_empty() { Missing::Outside } else { Missing::NotFound(tried) })
    }
}

/// The folder of a path; empty for a file at the top.
pub(crate) fn folder(path: &str) -> &str {
    path.rsplit_once('/').map_or("", |(folder, _)| folder)
}

/// Joins a folder and a name, resolving `.` and `..`; `None` if it leads out.
pub(crate) fn join(folder: &str, name: &str) -> Option<String> {
    let mut parts: Vec<&str> = folder.split('/').filter(|part| !part.is_empty()).collect();
    for part in name.split('/') {
        match part {
            "" | "." => {}
            ".." => {
                parts.pop()?;
            }
            _ => parts.push(part),
        }
    }
    Some(parts.join("/"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[track_caller]
    fn site(files: &[(&str, &str)]) -> Site {
        let files = files.iter().map(|(path, text)| SourceFile::new(*path, *text)).collect();
        Site::read(files, dialect::builtin(), &Settings::default())
    }

    #[test]
    fn roles_come_from_who_names_whom() {
        let site = site(&[
            ("base.html", "{% block a %}{% endblock %}{% include 'nav.html' %}"),
            ("nav.html", "<nav></nav>"),
            ("index.html", "{% extends 'base.html' %}"),
        ]);
        let roles: Vec<_> = site.templates.iter().map(|template| template.role).collect();
        assert_eq!(roles, [Role::Layout, Role::Page, Role::Partial]);
    }

    #[test]
    fn names_never_lead_out_of_the_site() {
        let site = site(&[("a/x.html", "{% include '../../etc/passwd' %}{% include '/b.html' %}"), ("b.html", "")]);
        let from = site.find("a/x.html").expect("a file");
        assert_eq!(site.lookup(from, "../../etc/passwd"), Err(Missing::Outside));
        assert_eq!(site.lookup(from, "/b.html"), Ok(SourceId(1)));
    }

    #[test]
    fn a_dialect_needs_evidence() {
        let site = site(&[
            ("doc.html", "<pre>{{ x }} {% foo %}</pre>"),
            ("t.html", "{% if a %}{% endif %}"),
            ("m.html", "<!--: partial doc.html -->"),
        ]);
        let names: Vec<_> = site.templates.iter().map(|template| template.dialect.name.as_str()).collect();
        assert_eq!(names, ["plain", "margin", "brace-percent"]);
    }

    #[test]
    fn what_is_no_text_is_said_to_be_so() {
        assert!(unreadable(b"\xff\xfe<\0h\0").is_some_and(|why| why.contains("UTF-16")));
        assert!(unreadable(b"GIF89a\0\0abcdefghijkl").is_some_and(|why| why.contains("binary")));
        assert_eq!(unreadable(b"\xef\xbb\xbf<p>caf\xe9"), None);
    }
}
