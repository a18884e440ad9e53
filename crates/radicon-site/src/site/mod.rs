//! A site: its templates, the roots under which they name each other, and what
//! each of them is.

mod evidence;
mod folders;
mod here;
mod kinds;
mod linking;
mod lookup;
mod mounts;
mod new_file;
pub mod own_file;
mod references;
mod retyped;
mod roots;
mod selector;
mod settings;
pub mod taglike;
mod template;
mod trial;

use std::collections::BTreeSet;
use std::sync::Arc;

use rayon::prelude::*;
use rustc_hash::{FxHashMap, FxHashSet};
use serde::Serialize;

use crate::dialect::{self, Dialect, Kind, Targets};
use crate::markup::{ConstructId, Constructs};
use crate::text::{Position, SourceId};

pub use evidence::silent;
pub use evidence::{Evidence, FileNames};
pub use here::Here;
use kinds::Shown;
pub use kinds::UnreadFiles;
pub use kinds::{Kinds, Reading, by_suffix, holds_markup, holds_page_markup};
pub use lookup::{Missing, beneath};
pub use lookup::{folder, stem};
pub use mounts::Mount;
pub use new_file::{Home, suffix_of};
pub use references::Reference;
pub use retyped::Dialects;
pub use roots::Root;
use roots::usual_folder;
pub use selector::Selector;
pub use settings::{CheckSettings, FolderRule, Partials, Pin, ProposeSettings, Settings, Severity};
pub use taglike::UnexplainedTag;
pub use template::Template;
#[cfg(test)]
use template::unreadable;
pub use trial::unread;
pub use trial::{DialectUse, Trial, TrialConstruct, TrialPlace, TrialTag};

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

/// The kind of a problem.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum ProblemKind {
    /// A file that cannot be read.
    File,
    /// A pair or form that does not fit: perhaps the file is misread.
    Reading,
    /// A name that leads nowhere, or that only the engine can follow.
    #[default]
    Reference,
    /// A layout that is missing, or a cycle: the page is not put together whole, and the tag stays in it.
    Broken,
    /// A part of the page is left out: it was not followed to its end, because of a limit or because it is inside
    /// itself. Nothing is proven of such a page.
    Unfollowed,
}

impl ProblemKind {
    /// Whether a page with such a problem is not put together whole.
    pub const fn breaks_page(self) -> bool {
        matches!(self, Self::Broken | Self::Unfollowed)
    }
}

/// Something that could not be read or resolved; the rest goes on without it.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Problem {
    /// The file it is about, from the site's folder.
    pub file: String,
    /// The place in the file, if there is one.
    pub at: Option<Position>,
    /// The kind of problem.
    pub kind: ProblemKind,
    /// The problem, in plain words.
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

/// The role of a template.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Role {
    /// Rendered for itself.
    Page,
    /// Another template names it as its parent.
    Layout,
    /// Another template includes it.
    Partial,
    /// It only says what the layout of its folder is.
    Marker,
}

impl Role {
    /// The word for it.
    pub const fn word(self) -> &'static str {
        match self {
            Role::Page => "page",
            Role::Layout => "layout",
            Role::Partial => "partial",
            Role::Marker => "marker",
        }
    }
}

/// A file that was looked at.
struct Looked {
    shown: Shown,
    /// The constructs read of it, by the indices of dialects.
    read: Vec<(usize, Constructs)>,
    /// The template that it was before, if it has not changed.
    before: Option<Template>,
}

/// The reading of before, for a site that is read again and again.
#[derive(Debug, Default)]
pub struct Memory {
    templates: FxHashMap<String, Known>,
    named_by_code: references::Memory,
}

impl Memory {
    /// Nothing is known of the templates any more.
    pub fn forget_templates(&mut self) {
        self.templates.clear();
    }

    /// The facts known of a template, by its path.
    pub fn template(&mut self, path: &str) -> Option<&mut Known> {
        self.templates.get_mut(path)
    }
}

/// A template as it was read before, and what its file showed of the dialects.
#[derive(Clone, Debug)]
pub struct Known {
    template: Template,
    shown: Shown,
}

impl Known {
    fn new(template: Template, shown: Shown) -> Self {
        debug_assert!(template.role == Role::Page && !template.rendered, "what others make of it is found anew");
        Self { template, shown }
    }
}

/// From which template one takes its skeleton.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub enum Parent {
    /// From none: it names none, and no rule gives one.
    #[default]
    None,
    /// From none: it says that it has no layout.
    OptedOut,
    /// It is decided only when the page is rendered.
    Dynamic,
    /// The name it gives leads nowhere.
    Missing(Missing),
    /// From this one.
    Found {
        /// The template.
        id: SourceId,
        /// The rule that gives it, if the template does not name it itself.
        rule: Option<String>,
    },
}

/// The links of a template to others.
#[derive(Clone, Debug, Default)]
pub struct Links {
    /// Its parent.
    pub parent: Parent,
    /// For each construct that names a file, by its index: the file. Sorted.
    targets: Vec<(ConstructId, Result<SourceId, Missing>)>,
    /// For each `here` the pages that it means. Sorted.
    heres: Vec<(ConstructId, Option<Here>)>,
    /// The templates that a folder rule puts before it.
    pub before: Vec<SourceId>,
    /// The templates that a folder rule puts after it.
    pub after: Vec<SourceId>,
}

/// A site, read.
#[derive(Clone, Debug)]
pub struct Site {
    /// Its templates, sorted by path.
    pub templates: Vec<Template>,
    /// The roots at which written target names start, in the order in which they are tried.
    pub roots: Vec<Root>,
    /// How names that begin with an application's name become files.
    pub mounts: Vec<Mount>,
    /// The names in application code.
    pub references: Vec<Reference>,
    /// Settings that lead nowhere.
    pub problems: Vec<Problem>,
    /// What it says about itself.
    pub settings: Settings,
    /// Roots of which files are hidden.
    vendored: Vec<String>,
    unread: Vec<UnreadFiles>,
    by_path: FxHashMap<String, SourceId>,
    /// The templates of each file name, without its folder.
    by_name: FxHashMap<String, Vec<SourceId>>,
    links: Vec<Links>,
    /// It is a copy in which relative URLs start at the site's root.
    is_rooted: bool,
    /// The templates that are read in the dialect of others, since they show too little themselves.
    adopted: FxHashSet<SourceId>,
    /// For each template its own-file tags.
    own_file: own_file::OwnFile,
    /// The ways in which its dialects name files.
    naming: Vec<Targets>,
    /// The definitions of each named fragment.
    parts: FxHashMap<Box<[u8]>, Vec<(SourceId, ConstructId)>>,
}

impl Site {
    /// Reads a site from its files. In which of the `dialects` a file is read is decided by what it
    /// holds, and what the other files of its suffix hold; of several that explain it the one that
    /// explains most counts, then the first. What is no template is read as application code.
    pub fn read(files: Vec<SourceFile>, dialects: &[Arc<Dialect>], settings: &Settings) -> Self {
        Self::read_again(files, dialects, settings, None)
    }

    /// The same; what is `known` of files with the same source, dialects and settings is not read again,
    /// and the others are made known.
    pub fn read_again(
        files: Vec<SourceFile>,
        dialects: &[Arc<Dialect>],
        settings: &Settings,
        mut memory: Option<&mut Memory>,
    ) -> Self {
        let mut kinds = Kinds::new(&files, dialects, settings);
        let before = |file: &SourceFile| {
            memory.as_ref()?.templates.get(&file.path).filter(|known| known.template.source[..] == file.bytes[..])
        };
        let look = |(at, file): (usize, &SourceFile)| match before(file) {
            Some(known) => {
                Looked { shown: known.shown.clone(), read: Vec::new(), before: Some(known.template.clone()) }
            }
            None => {
                let looked = kinds.look(at, file);
                let shown = looked.iter().map(|(at, evidence, _)| (*at, *evidence)).collect();
                let read = looked.into_iter().map(|(at, _, constructs)| (at, constructs)).collect();
                Looked { shown, read, before: None }
            }
        };
        let looked: Vec<Looked> = files.par_iter().enumerate().map(look).collect();
        let readings = kinds.readings(&files, &looked.iter().map(|looked| &looked.shown).collect::<Vec<_>>());
        let (mut templates, mut code) = (Vec::new(), Vec::new());
        for ((file, looked), reading) in files.into_iter().zip(looked).zip(readings) {
            let dialect = match reading {
                Reading::Code => {
                    code.push(file);
                    continue;
                }
                Reading::Nothing => continue,
                Reading::Template(at) => at,
            };
            let own = dialect.map_or_else(dialect::plain, |at| Arc::clone(&dialects[at]));
            if let Some(before) = looked.before.filter(|before| Arc::ptr_eq(&before.dialect, &own)) {
                templates.push(before);
                continue;
            }
            let read = looked.read.into_iter().find(|(at, _)| Some(*at) == dialect).map(|(_, constructs)| constructs);
            let constructs = read.unwrap_or_else(|| Constructs::read(&file.bytes, &own));
            let template = Template::new(file, own, constructs);
            if let Some(memory) = &mut memory {
                memory.templates.insert(template.path.clone(), Known::new(template.clone(), looked.shown));
            }
            templates.push(template);
        }
        templates.sort_by(|a, b| a.path.cmp(&b.path));
        templates.dedup_by(|a, b| a.path == b.path);
        let by_path = (0..).zip(&templates).map(|(id, template)| (template.path.clone(), SourceId(id))).collect();
        let mut by_name: FxHashMap<String, Vec<SourceId>> = FxHashMap::default();
        for (id, template) in (0..).map(SourceId).zip(&templates) {
            by_name.entry(lookup::file_name(&template.path).to_owned()).or_default().push(id);
        }
        let mut site = Self {
            templates,
            roots: Vec::new(),
            mounts: settings.mounts.clone(),
            is_rooted: false,
            adopted: FxHashSet::default(),
            own_file: own_file::OwnFile::default(),
            references: Vec::new(),
            problems: Vec::new(),
            settings: settings.clone(),
            vendored: Vec::new(),
            unread: kinds::unread(&code),
            by_path,
            by_name,
            links: Vec::new(),
            naming: Vec::new(),
            parts: FxHashMap::default(),
        };
        site.link(&code, memory.map(|memory| &mut memory.named_by_code));
        site
    }

    /// Files that look like templates, but are in no known dialect, by suffix.
    pub fn unread(&self) -> &[UnreadFiles] {
        &self.unread
    }

    /// These dialects, and those of its templates that have none of their names.
    pub fn dialects_with(&self, more: &[Arc<Dialect>]) -> Vec<Arc<Dialect>> {
        let mut dialects = more.to_vec();
        for template in &self.templates {
            if !dialects.iter().any(|known| known.name == template.dialect.name) {
                dialects.push(Arc::clone(&template.dialect));
            }
        }
        dialects
    }

    /// The site as it is after changes to its templates, with `more` dialects that new files
    /// may be written in.
    pub fn after(&self, changes: &[Change], more: &[Arc<Dialect>]) -> Self {
        self.after_with(changes, more, &self.settings)
    }

    /// The same under other settings.
    pub fn after_with(&self, changes: &[Change], more: &[Arc<Dialect>], settings: &Settings) -> Self {
        let changed: FxHashSet<&str> = changes.iter().map(|change| change.path.as_str()).collect();
        let kept = self.templates.iter().filter(|template| !changed.contains(template.path.as_str()));
        let mut files: Vec<SourceFile> =
            kept.map(|template| SourceFile::new(template.path.clone(), template.source.to_vec())).collect();
        let new = changes.iter().filter_map(|change| Some(SourceFile::new(change.path.clone(), change.new.clone()?)));
        files.extend(new);
        self.with_files_and(files, &self.dialects_with(more), settings)
    }

    /// A copy with other files, in which relative URLs start at the site's root whatever the folder of their file.
    pub fn rooted_with(&self, files: Vec<SourceFile>, dialects: &[Arc<Dialect>]) -> Self {
        let mut site = self.with_files(files, dialects);
        site.set_rooted(true);
        site
    }

    fn set_rooted(&mut self, is_rooted: bool) {
        self.is_rooted = is_rooted;
        for at in 0..self.templates.len() {
            self.links[at].heres = here::of_template(self, &self.templates[at]);
        }
    }

    /// A site of the same settings and roots with other files: for proposals.
    pub fn with_files(&self, files: Vec<SourceFile>, dialects: &[Arc<Dialect>]) -> Self {
        self.with_files_and(files, dialects, &self.settings)
    }

    /// The same under other settings.
    pub(crate) fn with_files_and(
        &self,
        files: Vec<SourceFile>,
        dialects: &[Arc<Dialect>],
        settings: &Settings,
    ) -> Self {
        let roots = self.roots.iter().map(|root| root.path.clone()).collect();
        let mounts = self.mounts.clone();
        let mut site = Self::read(files, dialects, &Settings { roots: Some(roots), mounts, ..settings.clone() });
        for reference in &self.references {
            if let Some(id) = site.find(&reference.template) {
                site.templates[id.index()].rendered = true;
            }
        }
        if self.is_rooted {
            site.set_rooted(true);
        }
        site.references.clone_from(&self.references);
        site.vendored.clone_from(&self.vendored);
        site
    }

    /// The tags of a template that speak for the rest of their own file and for no other, by
    /// their indices: imports, forms that are marked so, and words that nobody described where they
    /// are at the head of files.
    pub fn own_file_tags(&self, id: SourceId) -> &[ConstructId] {
        self.own_file.tags.get(id.index()).map_or(&[], Vec::as_slice)
    }

    /// Those of them that surely do: imports, forms that are marked so, and words that hardly ever
    /// are elsewhere than at the head of files.
    pub fn sure_own_file_tags(&self, id: SourceId) -> &[ConstructId] {
        self.own_file.sure.get(id.index()).map_or(&[], Vec::as_slice)
    }

    /// The same as they are written, in their order.
    pub fn sure_own_file_texts(&self, id: SourceId) -> Vec<String> {
        let template = self.get(id);
        let text = |&at: &ConstructId| template.constructs.items[at].span.text(&template.source).into_owned();
        self.sure_own_file_tags(id).iter().map(text).collect()
    }

    /// All templates with their ids, in order of their paths.
    pub fn with_ids(&self) -> impl Iterator<Item = (SourceId, &Template)> {
        SourceId::each(&self.templates)
    }

    /// The ids of all templates, in order of their paths.
    pub fn ids(&self) -> impl DoubleEndedIterator<Item = SourceId> + ExactSizeIterator + Clone + use<> {
        SourceId::all(self.templates.len())
    }

    /// A template by its id.
    pub fn get(&self, id: SourceId) -> &Template {
        &self.templates[id.index()]
    }

    /// A template by its path.
    pub fn find(&self, path: &str) -> Option<SourceId> {
        self.by_path.get(path).copied()
    }

    /// The templates that are rendered for themselves, in order of their paths.
    pub fn pages(&self) -> impl Iterator<Item = SourceId> + '_ {
        self.ids().filter(|&id| self.get(id).rendered)
    }

    /// The templates that others import and that are not rendered for themselves, in order of their paths.
    pub(crate) fn imported(&self) -> BTreeSet<SourceId> {
        let of = |id: SourceId| {
            let items = &self.get(id).constructs.items;
            let targets = self.links(id).targets().filter(|(at, _)| items[*at].kind == Kind::Import);
            targets.filter_map(|(_, target)| target.as_ref().ok().copied()).collect::<Vec<_>>()
        };
        self.ids().flat_map(of).filter(|&id| !self.get(id).rendered).collect()
    }

    /// The links of a template to others.
    pub fn links(&self, id: SourceId) -> &Links {
        &self.links[id.index()]
    }

    /// The parent of a template.
    pub fn parent(&self, id: SourceId) -> &Parent {
        &self.links[id.index()].parent
    }

    /// The layout that a folder rule gives the pages of a folder that name none.
    pub fn layout_by_rule(&self, path: &str) -> Option<SourceId> {
        let rules = folders::rules_for(&self.settings.folders, path);
        self.find_named(rules.into_iter().find_map(|rule| rule.layout.as_deref())?)
    }

    /// Files that hide one of the same name in a root after their own, with the hidden ones.
    pub fn hiding(&self) -> Vec<(SourceId, SourceId)> {
        let mut found = Vec::new();
        for (at, root) in self.roots.iter().enumerate().take(self.roots.len().saturating_sub(1)) {
            for id in self.ids() {
                let Some(name) = beneath(&self.get(id).path, &root.path) else { continue };
                let hidden = |other: &Root| self.find(&lookup::join(&other.path, name)?);
                let hidden = self.roots[at + 1..].iter().find_map(hidden).filter(|hidden| *hidden != id);
                found.extend(hidden.map(|hidden| (id, hidden)));
            }
        }
        found.sort();
        found.dedup_by_key(|(id, _)| *id);
        found
    }

    /// The innermost root that holds a path.
    fn root_of(&self, path: &str) -> Option<&Root> {
        let holding = self.roots.iter().filter(|root| beneath(path, &root.path).is_some());
        holding.max_by_key(|root| root.path.len())
    }

    /// Whether a file belongs to a third party and is not changed: the settings say so, or
    /// it lies in a configured root, after another one, of which some files are hidden.
    pub fn is_vendored(&self, path: &str) -> bool {
        self.settings.vendored.fit(path)
            || !self.vendored.is_empty() && self.root_of(path).is_some_and(|root| self.vendored.contains(&root.path))
    }

    /// The definitions of the named fragments of a name.
    pub fn parts(&self, name: &[u8]) -> &[(SourceId, ConstructId)] {
        self.parts.get(name).map_or(&[], Vec::as_slice)
    }
}

impl Links {
    /// The file that the construct of this index names; `None` if it names none,
    /// or by an expression.
    pub fn target(&self, construct: ConstructId) -> Option<&Result<SourceId, Missing>> {
        let at = self.targets.binary_search_by_key(&construct, |(at, _)| *at).ok()?;
        Some(&self.targets[at].1)
    }

    /// The files that it names, with the constructs that name them.
    pub fn targets(&self) -> impl Iterator<Item = (ConstructId, &Result<SourceId, Missing>)> {
        self.targets.iter().map(|(at, target)| (*at, target))
    }
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
        assert_eq!(site.lookup(from, "../../etc/passwd", Kind::Include), Err(Missing::Outside));
        assert_eq!(site.lookup(from, "/b.html", Kind::Include), Ok(SourceId(1)));
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
