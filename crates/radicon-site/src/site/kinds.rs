//! In which dialect each file of a site is read.
//!
//! Files of a kind, those with one suffix, agree unless the content of one says otherwise: where some
//! files show how the site is written, those that only print values are read in the same dialect.

use std::collections::BTreeMap;
use std::sync::Arc;

use rayon::prelude::*;
use rustc_hash::FxHashMap;
use serde::Serialize;

use super::evidence::{Evidence, FileNames};
use super::template::unreadable;
use super::{Settings, SourceFile, folders};
use crate::dialect::{self, Dialect};
use crate::markup::Constructs;

/// Of files with a suffix that a dialect does not name, at least one in so many must show structure.
const FOREIGN_SHARE: usize = 3;

/// Where no file shows structure, at least one in so many must print values.
const PRINTING_SHARE: usize = 2;

/// There, so many values must be against one output that is a command: else it is another notation.
const VALUES_PER_COMMAND: usize = 10;

/// At least one in so many files of a kind must hold markup, or the kind is application code. Few need
/// to: templates may hold nothing but tags, and [`FOREIGN_SHARE`] decides.
const MARKUP_SHARE: usize = 10;

/// At least one in so many files of a kind must hold markup of pages, for files in no known dialect to be
/// told: application code holds some, too.
const PAGES_SHARE: usize = 2;

/// In markup at least one byte in so many of a file's head begins a tag.
const BYTES_PER_TAG: usize = 200;

/// How much of a file is looked at to see whether it is markup, in bytes.
const HEAD: usize = 4096;

/// The evidence in one file for each dialect in which it may be written.
pub(crate) type Shown = Vec<(usize, Evidence)>;

/// How a file is read.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Reading {
    /// As application code.
    Code,
    /// Not at all: text that no dialect explains.
    Nothing,
    /// As a template in the dialect of this index; without one as a finished page.
    Template(Option<usize>),
}

/// The kinds of files in a site, and what they show.
#[derive(Debug)]
pub struct Kinds<'a> {
    dialects: &'a [Arc<Dialect>],
    settings: &'a Settings,
    names: FileNames<'a>,
    /// For each file its kind.
    of: Vec<usize>,
    kinds: Vec<Kind>,
    /// The rules of the settings name dialects.
    has_rules: bool,
}

/// The files of one suffix.
#[derive(Debug)]
struct Kind {
    /// They have none.
    is_bare: bool,
    /// Those that count: of files without a suffix only those that hold markup.
    files: usize,
    is_markup: bool,
    /// For each dialect the files that show structure.
    structured: Vec<usize>,
    /// For each dialect the files that show anything.
    showing: Vec<usize>,
    /// For each dialect the tags that print values, and those that only look like it.
    printing: Vec<(usize, usize)>,
}

impl<'a> Kinds<'a> {
    /// What files show of some dialects.
    pub fn new(files: &'a [SourceFile], dialects: &'a [Arc<Dialect>], settings: &'a Settings) -> Self {
        let mut of = vec![0; files.len()];
        let mut kinds = Vec::new();
        for (suffix, members) in by_suffix(files) {
            let marked = members.iter().filter(|&&at| holds_markup(&files[at].bytes)).count();
            let counting = if suffix.is_empty() { marked } else { members.len() };
            members.into_iter().for_each(|at| of[at] = kinds.len());
            kinds.push(Kind {
                is_bare: suffix.is_empty(),
                files: counting,
                is_markup: marked * MARKUP_SHARE >= counting,
                structured: vec![0; dialects.len()],
                showing: vec![0; dialects.len()],
                printing: vec![(0, 0); dialects.len()],
            });
        }
        let names = FileNames::of(files.iter().map(|file| file.path.as_str()));
        let has_rules = settings.folders.iter().any(|rule| rule.dialect.is_some());
        Self { dialects, settings, names, of, kinds, has_rules }
    }

    /// Reads a file in every dialect that it may be written in: what it shows of each, with its constructs.
    pub fn look(&self, at: usize, file: &SourceFile) -> Vec<(usize, Evidence, Constructs)> {
        if unreadable(&file.bytes).is_some() {
            return Vec::new();
        }
        let ruled = self.ruled(&file.path);
        let kind = &self.kinds[self.of[at]];
        let may_be = |at: usize, dialect: &Dialect| match ruled {
            Some(ruled) => ruled == at,
            None => dialect.fits(&file.path) || dialect.by_content && kind.may_hold(file),
        };
        let mut looked = Vec::new();
        for (at, dialect) in self.dialects.iter().enumerate() {
            if !dialect.forms.is_empty() && may_be(at, dialect) {
                let constructs = Constructs::read(&file.bytes, dialect);
                if !constructs.items.is_empty() {
                    looked.push((at, Evidence::of(&file.bytes, &constructs, &self.names), constructs));
                }
            }
        }
        looked
    }

    /// How files are read that show this; they must be all files.
    pub(crate) fn readings(&mut self, files: &[SourceFile], shown: &[&Shown]) -> Vec<Reading> {
        for (&kind, shown) in self.of.iter().zip(shown) {
            self.kinds[kind].count(shown);
        }
        let kinds = self.of.par_iter().map(|&kind| &self.kinds[kind]);
        files.par_iter().zip(shown).zip(kinds).map(|((file, shown), kind)| self.decide(file, shown, kind)).collect()
    }

    /// How a file is read.
    fn decide(&self, file: &SourceFile, shown: &Shown, kind: &Kind) -> Reading {
        let path = file.path.as_str();
        if let Some(ruled) = self.ruled(path) {
            return Reading::Template(Some(ruled).filter(|_| unreadable(&file.bytes).is_none()));
        }
        let best = shown.iter().filter(|(at, evidence)| kind.accepts(self.dialects[*at].fits(path), *at, evidence));
        // Of equals the first.
        let best = best.rev().max_by_key(|(_, evidence)| *evidence).map(|(at, _)| *at);
        if let Some(best) = best.or_else(|| self.by_name(file)).or_else(|| self.by_kind(file, kind)) {
            return Reading::Template(Some(best));
        }
        if dialect::plain().fits(path) {
            Reading::Template(None)
        } else if self.dialects.iter().any(|dialect| dialect.fits(path)) {
            Reading::Nothing
        } else {
            Reading::Code
        }
    }

    /// A path that only dialects of the site's own fit says enough.
    fn by_name(&self, file: &SourceFile) -> Option<usize> {
        let mut fitting = self.dialects.iter().enumerate().filter(|(_, dialect)| dialect.fits(&file.path)).peekable();
        let (first, _) = *fitting.peek()?;
        let is_built_in = |dialect: &Arc<Dialect>| dialect::builtin().iter().any(|known| Arc::ptr_eq(known, dialect));
        let own = !fitting.any(|(_, dialect)| is_built_in(dialect));
        (own && unreadable(&file.bytes).is_none()).then_some(first)
    }

    /// A file without tags is a template among templates of its own suffix.
    fn by_kind(&self, file: &SourceFile, kind: &Kind) -> Option<usize> {
        let is_own = |(at, dialect): &(usize, &Arc<Dialect>)| {
            dialect.by_content && kind.is_written_in(*at) && !dialect.fits(&file.path) && kind.may_hold(file)
        };
        let of_most = self.dialects.iter().enumerate().filter(is_own).max_by_key(|(at, _)| kind.structured[*at]);
        of_most.filter(|_| unreadable(&file.bytes).is_none()).map(|(at, _)| at)
    }

    /// The dialect that a rule of the settings gives to a path.
    fn ruled(&self, path: &str) -> Option<usize> {
        if !self.has_rules {
            return None;
        }
        let rules = folders::rules_for(&self.settings.folders, path);
        let wanted = rules.iter().find_map(|rule| rule.dialect.as_deref())?;
        self.dialects.iter().position(|dialect| dialect.name == wanted)
    }
}

impl Kind {
    /// Counts what a file shows; all must be counted before any is decided.
    fn count(&mut self, shown: &Shown) {
        for (at, evidence) in shown {
            self.structured[*at] += usize::from(evidence.structure > 0);
            self.showing[*at] += usize::from(evidence.structure + evidence.tags > 0);
            self.printing[*at].0 += evidence.tags;
            self.printing[*at].1 += evidence.commands;
        }
    }

    /// Whether what a file shows of a dialect is enough, where its name fits the dialect and where not.
    fn accepts(&self, fits: bool, at: usize, evidence: &Evidence) -> bool {
        if !fits {
            return self.is_written_in(at);
        }
        let (values, commands) = self.printing[at];
        let printing = commands * VALUES_PER_COMMAND <= values
            && self.showing[at] > usize::from(self.files > 1)
            && self.showing[at] * PRINTING_SHARE >= self.files
            && evidence.tags > 0;
        evidence.structure > 0 || self.structured[at] > 0 && evidence.read > 0 || printing
    }

    /// Whether a file of a suffix that no dialect names may be a template at all.
    fn may_hold(&self, file: &SourceFile) -> bool {
        if self.is_bare { holds_markup(&file.bytes) } else { self.is_markup }
    }

    /// Whether files of a suffix that a dialect does not name are written in it.
    fn is_written_in(&self, at: usize) -> bool {
        self.structured[at] > 0 && self.structured[at] * FOREIGN_SHARE >= self.files
    }
}

/// Whether a file's head is markup, not program code with some in it.
pub fn holds_markup(bytes: &[u8]) -> bool {
    let head = &bytes[..bytes.len().min(HEAD)];
    memchr::memmem::find(bytes, b"</").is_some()
        && memchr::memchr_iter(b'<', head).count() * BYTES_PER_TAG >= head.len()
}

/// Elements that pages have, and other markup has not.
const OF_PAGES: [&[u8]; 10] =
    [b"<html", b"<body", b"<div", b"<p>", b"<p ", b"<a ", b"<ul", b"<table", b"<form", b"<span"];

/// Whether a file holds markup of pages; data and settings are markup of other kinds.
pub fn holds_page_markup(bytes: &[u8]) -> bool {
    holds_markup(bytes) && OF_PAGES.iter().any(|tag| memchr::memmem::find(bytes, tag).is_some())
}

/// Files that look like templates, but are in no known dialect: they are not read.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct UnreadFiles {
    /// Their suffix, such as `.page`.
    pub suffix: String,
    /// How many files with this suffix hold markup of pages.
    pub files: usize,
    /// The path of the first of them.
    pub first: String,
}

/// Those that look like templates, of the files that are read as application code.
pub(crate) fn unread(code: &[SourceFile]) -> Vec<UnreadFiles> {
    let mut found = Vec::new();
    for (suffix, members) in by_suffix(code) {
        let is_page = |file: &&SourceFile| holds_page_markup(&file.bytes);
        let pages: Vec<&SourceFile> = members.iter().map(|&at| &code[at]).filter(is_page).collect();
        if !suffix.is_empty() && pages.len() > 1 && pages.len() * PAGES_SHARE >= members.len() {
            found.push(UnreadFiles { suffix: suffix.to_owned(), files: pages.len(), first: pages[0].path.clone() });
        }
    }
    found
}

/// Files, by their indices, by their suffix. A suffix of several parts is one where many files have it:
/// `a.b.html` may be a name with a dot, too.
pub fn by_suffix(files: &[SourceFile]) -> BTreeMap<&str, Vec<usize>> {
    let name = |file: &'_ SourceFile| file.path.rfind('/').map_or(0, |at| at + 1);
    let long = |file: &SourceFile| file.path[name(file)..].find('.').map_or(file.path.len(), |at| name(file) + at);
    let short = |file: &SourceFile| file.path[name(file)..].rfind('.').map_or(file.path.len(), |at| name(file) + at);
    let mut counts: FxHashMap<&str, usize> = FxHashMap::default();
    for file in files {
        *counts.entry(&file.path[short(file)..]).or_default() += 1;
        if long(file) < short(file) {
            *counts.entry(&file.path[long(file)..]).or_default() += 1;
        }
    }
    let mut suffixes: BTreeMap<&str, Vec<usize>> = BTreeMap::new();
    for (at, file) in files.iter().enumerate() {
        let (long, short) = (&file.path[long(file)..], &file.path[short(file)..]);
        let suffix = if counts[long] * 10 >= counts[short] * 3 { long } else { short };
        suffixes.entry(suffix).or_default().push(at);
    }
    suffixes
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_suffix_of_several_parts_is_one_that_many_files_have() {
        let paths = ["a.sail.html", "x/b.sail.html", "c.html", "struct.Vec.html", "noext", "d.tpl"];
        let files: Vec<SourceFile> = paths.iter().map(|path| SourceFile::new(*path, "")).collect();
        let found: Vec<(&str, usize)> =
            by_suffix(&files).into_iter().map(|(suffix, files)| (suffix, files.len())).collect();
        assert_eq!(found, [("", 1), (".html", 2), (".sail.html", 2), (".tpl", 1)]);
    }

    #[test]
    fn files_that_look_like_templates_are_told() {
        let page = "<div>{{tide}}</div>\n<p>Ferries</p>\n";
        let files = [
            ("a.page", page),
            ("b.page", page),
            ("c.page", "no markup"),
            ("chart.draw", "<draw><path/></draw>"),
            ("tide.draw", "<draw><path/></draw>"),
            ("a.code", "print('<div></div>')\nfor tide in tides:\n    print(tide, 'and so on')\n"),
            ("single.view", page),
        ];
        let files: Vec<SourceFile> = files.iter().map(|(path, text)| SourceFile::new(*path, *text)).collect();
        assert_eq!(unread(&files), [UnreadFiles { suffix: ".page".to_owned(), files: 2, first: "a.page".to_owned() }],);
    }

    /// The dialect of each file, or what else it is read as.
    #[track_caller]
    fn check(files: &[(&str, &str)], expected: &[&str]) {
        let files: Vec<SourceFile> = files.iter().map(|(path, text)| SourceFile::new(*path, *text)).collect();
        let (dialects, settings) = (dialect::builtin(), Settings::default());
        let mut kinds = Kinds::new(&files, dialects, &settings);
        let look = |(at, file)| kinds.look(at, file).into_iter().map(|(at, evidence, _)| (at, evidence)).collect();
        let shown: Vec<Shown> = files.iter().enumerate().map(look).collect();
        let name = |reading: Reading| match reading {
            Reading::Code => "code",
            Reading::Nothing => "nothing",
            Reading::Template(None) => "plain",
            Reading::Template(Some(at)) => dialects[at].name.as_str(),
        };
        let readings = kinds.readings(&files, &shown.iter().collect::<Vec<_>>());
        let found: Vec<&str> = readings.into_iter().map(name).collect();
        assert_eq!(found, expected, "{files:?}");
    }

    #[test]
    fn pages_that_only_print_values_are_read_like_the_others() {
        let (page, printing) = ("<html><body><p>Ferries</p></body></html>", "<html><h1>{{ title }}</h1></html>");
        check(&[("a.html", printing), ("b.html", printing)], &["brace-percent"; 2]);
        check(&[("a.html", printing), ("b.html", page), ("c.html", page)], &["plain"; 3]);
        check(
            &[("a.html", printing), ("b.html", page), ("c.html", "<p>{% if a %}b{% endif %}</p>")],
            &["brace-percent", "plain", "brace-percent"],
        );
        let other = "<html><h1>{{ title }}</h1>{{ if .user }}<p>{{ name }}</p>{{ end }}</html>";
        check(&[("a.html", other), ("b.html", other)], &["plain"; 2]);
        check(
            &[("a.html", "<pre>{{ x }} {% y %}</pre>"), ("b.html", "{% if a %}{% endif %}")],
            &["plain", "brace-percent"],
        );
    }

    #[test]
    fn templates_are_found_whatever_their_suffix() {
        let (base, child) =
            ("<html>{% block a %}{% endblock %}</html>", "{% extends 'base' %}{% block a %}<p></p>{% endblock %}");
        let icon = "<svg></svg>";
        check(&[("base.page", base), ("b.page", child), ("c.page", icon)], &["brace-percent"; 3]);
        check(
            &[("base", base), ("b", child), ("README", "{% block x %} is a tag")],
            &["brace-percent", "brace-percent", "code"],
        );
        // Some files of program code that hold templates make no kind.
        check(
            &[("a.js", "x = `<p>{% if a %}</p>{% endif %}`"), ("b.js", "y()"), ("c.js", "z()"), ("d.js", "")],
            &["code"; 4],
        );
    }
}
