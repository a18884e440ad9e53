//! Learning a dialect: how a site's engine writes its constructs, worked out from the site.
//!
//! Delimiters come from statistics over many files; meanings from what only a
//! site can show: names that are files, names that recur up a chain, pairs that
//! nest in every file. What one kind of evidence alone speaks for is said to be
//! likely; where two readings do equally well the user is asked, and the form
//! is left out.

#![warn(missing_debug_implementations)]

mod dialect_file;
mod evidence;
mod gate;
mod meaning;
mod own_words;
mod read;
mod rendered;
mod split;
#[cfg(test)]
mod testing;
mod thresholds;

use std::collections::BTreeMap;
use std::sync::Arc;

use radicon_markup::{config, dialect, markup, text};
use radicon_site::{resolve, site};
use rustc_hash::{FxHashMap, FxHashSet};
use serde::Serialize;

use crate::config::ConfigError;
use crate::dialect::{Dialect, Form, Kind};
use crate::read::corpus::TextId;
use crate::read::directives::DirectiveId;
use crate::read::tags::{NotationId, TagId};
use crate::site::{Settings, Site, SourceFile, by_suffix, holds_markup, holds_page_markup};
use crate::text::Place;
use crate::thresholds::{NAMED_SHARE, ONE_OF_PAGES_IN, SOME};

use evidence::{comments, pairs, references};
use meaning::Facts;
use own_words::Look;
use read::corpus::{Corpus, Index};
use read::directives::{self, Apart, Tails};
use read::notations;
use read::tags::{self, Notation, Style, Tag};

/// How sure a form is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Confidence {
    /// Two readings do about as well: the form is left out, and the user asked.
    Asked,
    /// One kind of evidence speaks for it.
    Likely,
    /// Two independent kinds of evidence speak for it.
    Sure,
}

/// One form that was learned, with what speaks for it.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct LearnedForm {
    /// Its meaning.
    pub kind: Kind,
    /// The form, as it is in the dialect file.
    pub form: String,
    /// How many tags are written so.
    pub uses: usize,
    /// The evidence for it, in plain words.
    pub evidence: String,
    /// How sure it is.
    pub confidence: Confidence,
    /// A tag that is written so, as it is in the site.
    pub written: String,
    /// Its place in the site.
    pub example: Option<Place>,
}

impl LearnedForm {
    /// Whether its opening tag is written as an example.
    fn opens_with(&self, example: &str) -> bool {
        let alone = dialect_file::document::with_forms("name = \"x\"\n[forms]\n", std::slice::from_ref(self));
        Dialect::parse(&alone).is_ok_and(|alone| alone.forms.iter().any(|form| form.open.example() == example))
    }
}

/// A dialect that was learned.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Learned {
    /// Its name.
    pub name: String,
    /// Patterns of the files it was learned from.
    pub files: Vec<String>,
    /// The known dialect that it extends, if it does.
    pub extends: Option<String>,
    /// The forms that were learned.
    pub forms: Vec<LearnedForm>,
    /// Questions about forms that could not be decided.
    pub questions: Vec<String>,
    /// The rules that rendered pages settled, in plain words.
    pub settled: Vec<String>,
    /// The dialect file.
    pub text: String,
    /// The dialect file without what was learned.
    #[serde(skip)]
    #[cfg_attr(feature = "schema", schemars(skip))]
    base: String,
    /// Lines for `radicon.toml`: rules of folders; empty if there are none.
    pub settings: String,
    /// Words after the names of files that are not there: they may say that this is no mistake.
    #[serde(skip)]
    #[cfg_attr(feature = "schema", schemars(skip))]
    trailing: Vec<String>,
}

impl Learned {
    /// The dialect as it was learned: forms that are not sure say so. Read from the file that somebody kept it
    /// in, all are as they are.
    ///
    /// # Errors
    /// If its text was changed to something that is no dialect.
    pub fn dialect(&self) -> Result<Dialect, ConfigError> {
        let mut dialect = Dialect::parse(&self.text)?;
        dialect.learned = self.extends.is_none();
        for doubtful in self.forms.iter().filter(|form| form.confidence != Confidence::Sure) {
            let alone = dialect_file::document::with_forms("name = \"x\"\n[forms]\n", std::slice::from_ref(doubtful));
            let written = Dialect::parse(&alone).map(|alone| alone.forms).unwrap_or_default();
            for form in &mut dialect.forms {
                let is_it = |other: &Form| other.kind == form.kind && other.open.example() == form.open.example();
                form.unsure |= written.iter().any(is_it);
            }
        }
        Ok(dialect)
    }

    /// Its dialect file, with these forms.
    fn with_forms(&self, forms: &[LearnedForm]) -> String {
        dialect_file::document::with_forms(&self.base, forms)
    }
}

/// Files that are looked at together.
struct Group<'a> {
    suffix: &'a str,
    /// A pattern that fits them.
    pattern: String,
    /// The dialect that is known to explain most of them.
    known: Option<Known>,
    /// Which of several notations that follow each other they are written in, from 1.
    number: usize,
    /// Whether a word may open pairs or stand alone, as its arguments say.
    by_arguments: bool,
}

/// The constructs that a known dialect reads in the files of a group.
struct Known {
    dialect: Arc<Dialect>,
    /// For each file the kinds of its constructs by their place.
    kinds: Vec<FxHashMap<usize, Kind>>,
}

/// Learns the dialects that files are written in.
///
/// Gives one for each kind of file in which constructs were found that no
/// `known` dialect explains; none where nothing speaks for an engine. What a
/// known dialect explains in part is learned on top of it, where the site is read
/// better with it. From `rendered` pages, if there are some, the rules are settled
/// that templates alone cannot show: line ends after tags, loose content, blocks
/// that occur twice.
pub fn learn(files: &[SourceFile], known: &[Arc<Dialect>], rendered: &[SourceFile]) -> Vec<Learned> {
    let site = Site::read(files.to_vec(), known, &Settings::default());
    learn_from(&AsKnown { files, dialects: known, site: &site }, rendered)
}

/// A site as it is read before anything is learned.
#[derive(Clone, Copy, Debug)]
pub struct AsKnown<'a> {
    /// All its files.
    pub files: &'a [SourceFile],
    /// The dialects that are known.
    pub dialects: &'a [Arc<Dialect>],
    /// The site as these dialects read it.
    pub site: &'a Site,
}

/// Whether some files of a site show that there may be something to learn from all of them.
pub fn may_learn_like(some: &AsKnown<'_>) -> bool {
    let index = Index::new(some.files);
    // What names other files may name few of a part of the site: its tags are enough.
    let has_tags = |(own, group): &(Vec<&SourceFile>, Group<'_>)| {
        group.known.is_none() && !notations_and_tags(&Corpus::new(own.iter().copied()), &index).0.is_empty()
    };
    groups(some).iter().any(has_tags) || !candidates(some).is_empty() || !own_words::find(some, Look::Sample).is_empty()
}

/// Learns from a site that is read already.
pub fn learn_from(read: &AsKnown<'_>, rendered: &[SourceFile]) -> Vec<Learned> {
    let helps = |learned: Learned| match learned.extends {
        Some(_) => gate::keep_what_helps(learned, read),
        None => Some(learned),
    };
    let (candidates, mut own_words) = rayon::join(|| candidates(read), || own_words::find(read, Look::Whole));
    let mut found: Vec<Learned> = candidates.into_iter().filter_map(helps).collect();
    own_words.extend(own_words_of_learned(&found, read));
    for (name, form) in own_words {
        match found.iter_mut().find(|learned| learned.name == name || learned.extends.as_ref() == Some(&name)) {
            Some(learned) => learned.forms.push(form),
            None => found.extend(gate::extension(&name, read.dialects, form)),
        }
    }
    for learned in &mut found {
        learned.forms.sort_by_key(|form| Kind::ALL.iter().position(|kind| *kind == form.kind));
        learned.text = learned.with_forms(&learned.forms);
    }
    for learned in &mut found {
        rendered::settle(learned, read.files, rendered);
    }
    found
}

/// What the site says besides in the dialects that nobody knew, as it is read with them.
fn own_words_of_learned(found: &[Learned], read: &AsKnown<'_>) -> Vec<(String, LearnedForm)> {
    if found.iter().all(|learned| learned.extends.is_some()) {
        return Vec::new();
    }
    let site = gate::read_with(found, read);
    let is_new = |name: &str| found.iter().any(|learned| learned.extends.is_none() && learned.name == name);
    let mut dialects: Vec<Arc<Dialect>> = Vec::new();
    for (_, template) in site.with_ids().filter(|(_, template)| is_new(&template.dialect.name)) {
        if !dialects.iter().any(|known| Arc::ptr_eq(known, &template.dialect)) {
            dialects.push(Arc::clone(&template.dialect));
        }
    }
    own_words::find(&AsKnown { files: read.files, dialects: &dialects, site: &site }, Look::Whole)
}

/// The dialects that may be learned, before they are tried on the site.
fn candidates(read: &AsKnown<'_>) -> Vec<Learned> {
    let index = Index::new(read.files);
    let mut found: Vec<Learned> = Vec::new();
    for (own, mut group) in groups(read) {
        let corpus = Corpus::new(own.iter().copied());
        let mut learned = learn_group(&corpus, &index, &group);
        if group.known.is_none() {
            group.by_arguments = true;
            learned = gate::better(learned, || learn_group(&corpus, &index, &group), read);
            learned = learned.into_iter().map(|one| gate::without_misreadings(one, read)).collect();
        }
        found.extend(learned.into_iter().filter(|one| one.extends.is_some() || gate::shows_structure(one, &own)));
    }
    found
}

/// The files that are looked at together, by suffix and dialect.
fn groups<'a>(read: &AsKnown<'a>) -> Vec<(Vec<&'a SourceFile>, Group<'a>)> {
    let (files, known) = (read.files, read.dialects);
    let dialect_of = |file: &SourceFile| {
        let template = read.site.get(read.site.find(&file.path)?);
        known.iter().position(|dialect| !dialect.forms.is_empty() && Arc::ptr_eq(dialect, &template.dialect))
    };
    let mut found = Vec::new();
    for (suffix, members) in by_suffix(files) {
        let files: Vec<&SourceFile> = members.into_iter().map(|at| &files[at]).collect();
        if !is_markup(&files) {
            continue;
        }
        // Files that a dialect explains already are looked at by themselves.
        let mut by_dialect: BTreeMap<Option<usize>, Vec<&SourceFile>> = BTreeMap::new();
        for file in &files {
            by_dialect.entry(dialect_of(file)).or_default().push(file);
        }
        // Values and comments are written alike in many notations: where a dialect reads nothing else, it is not known
        // to be the one.
        let is_shown = |own: &[&SourceFile]| own.iter().any(|file| shows_more_than_values(read.site, file));
        let alike: Vec<Option<usize>> =
            by_dialect.iter().filter(|(at, own)| at.is_some() && !is_shown(own)).map(|(at, _)| *at).collect();
        for at in alike {
            let own = by_dialect.remove(&at).unwrap_or_default();
            by_dialect.entry(None).or_default().extend(own);
        }
        for (dialect, own) in by_dialect {
            let pattern = pattern(suffix, &own, files.len());
            let known = dialect.map(|at| Known::new(&known[at], &own, read.site));
            found.push((own, Group { suffix, pattern, known, number: 1, by_arguments: false }));
        }
    }
    found
}

/// Whether a file has, as it is read, tags that do more than print values.
fn shows_more_than_values(site: &Site, file: &SourceFile) -> bool {
    let Some(at) = site.find(&file.path) else { return false };
    site.get(at).constructs.items.iter().any(|item| item.kind.makes_structure() || item.kind == Kind::Control)
}

/// Whether files hold markup of pages, and are not program code, which is full of brackets, nor data or settings.
fn is_markup(files: &[&SourceFile]) -> bool {
    let count = |holds: fn(&[u8]) -> bool| files.iter().filter(|file| holds(&file.bytes)).count();
    files.len() > 1
        && SOME.reached(count(holds_markup), files.len())
        && count(holds_page_markup) * ONE_OF_PAGES_IN >= files.len()
}

/// A pattern for some of the files of a suffix.
fn pattern(suffix: &str, own: &[&SourceFile], all: usize) -> String {
    let paths = own.iter().map(|file| crate::site::folder(&file.path));
    let common = paths.reduce(|a, b| {
        let same = a.split('/').zip(b.split('/')).take_while(|(a, b)| a == b).map(|(a, _)| a.len() + 1).sum::<usize>();
        &a[..same.saturating_sub(1).min(a.len())]
    });
    match common.filter(|folder| own.len() < all && !folder.is_empty()) {
        Some(folder) => format!("{folder}/**/*{suffix}"),
        None => format!("**/*{suffix}"),
    }
}

impl Known {
    fn new(dialect: &Arc<Dialect>, files: &[&SourceFile], site: &Site) -> Self {
        let kinds = |file: &&SourceFile| {
            let read = site.find(&file.path).map(|at| site.get(at).constructs.items.iter());
            read.into_iter().flatten().map(|item| (item.span.start as usize, item.kind)).collect()
        };
        Self { dialect: Arc::clone(dialect), kinds: files.iter().map(kinds).collect() }
    }
}

fn learn_group(corpus: &Corpus, index: &Index<'_>, group: &Group<'_>) -> Vec<Learned> {
    let (notations, tags) = notations_and_tags(corpus, index);
    let mut apart = Apart { by_arguments: group.by_arguments, ..Apart::default() };
    match learn_with(corpus, index, group, &notations, &tags, &apart) {
        Ok(learned) => learned,
        // What opens at the end of tags is a word of its own.
        Err(tails) => {
            apart.tails = tails;
            learn_with(corpus, index, group, &notations, &tags, &apart).unwrap_or_default()
        }
    }
}

/// Learns from tags; fails with words that open pairs at the end of tags, if there are others than these.
fn learn_with(
    corpus: &Corpus,
    index: &Index<'_>,
    group: &Group<'_>,
    notations: &[Notation],
    tags: &[Tag],
    apart: &Apart,
) -> Result<Vec<Learned>, Tails> {
    let directives = directives::all(corpus, tags, notations, apart);
    let of = meaning::by_directive(&directives, tags.len());
    let comments = comments::comment_directives(corpus, notations, tags, &directives);
    let references = references::find(corpus, index, tags, &directives, &comments);
    let finder = |single: &FxHashSet<DirectiveId>| {
        pairs::Finder { corpus, tags, directives: &directives, of: &of, notations, single }.find()
    };
    // What is once at the top of files opens nothing, unless nothing else comes out even.
    let mut single = meaning::on_top(corpus, notations, tags, &directives, &references);
    single.extend(&comments);
    let (with, without) = rayon::join(|| finder(&single), || finder(&comments));
    let others = |pairs: &pairs::Pairs| pairs.partner.keys().filter(|&&tag| !single.contains(&of[tag])).count();
    let is_better = without.score > with.score || without.score == with.score && others(&without) > others(&with);
    let pairs = if is_better { without } else { with };
    if apart.tails.is_empty() && !pairs.tails.is_empty() {
        return Err(pairs.tails);
    }
    let starts: Vec<usize> =
        (0..=corpus.texts.len()).map(|file| tags.partition_point(|tag| tag.file.index() < file)).collect();
    let facts = Facts {
        corpus,
        index,
        notations,
        tags,
        directives: &directives,
        of: &of,
        references: &references,
        pairs: &pairs,
        starts: &starts,
    };
    let mut found = facts.reason();
    let shows = |m: &meaning::Meaning| {
        matches!(m.kind, Kind::Parent | Kind::Include | Kind::Wrap | Kind::Block | Kind::Slot | Kind::Fill | Kind::Part)
    };
    if !found.of.values().any(shows) {
        return Ok(Vec::new());
    }
    // Engines side by side are learned one by one, so that the rules of one confuse no other.
    let apart = split::apart(&facts, &found).filter(|_| group.known.is_none() && group.number == 1);
    if let Some(apart) = apart {
        let learn_one = |(at, files): (usize, Vec<TextId>)| {
            let own = Corpus::of(files.into_iter().map(|file| corpus.texts[file].clone()).collect());
            let one = Group {
                suffix: group.suffix,
                pattern: group.pattern.clone(),
                known: None,
                number: at + 2,
                by_arguments: group.by_arguments,
            };
            learn_group(&own, index, &one)
        };
        return Ok(apart.into_iter().enumerate().flat_map(learn_one).collect());
    }
    let named: FxHashMap<TextId, TagId> = references
        .iter()
        .filter(|r| found.of.contains_key(&r.directive))
        .flat_map(|r| r.edges.iter().copied())
        .filter_map(|(tag, file)| Some((*corpus.by_path.get(index.path(file))?, tag)))
        .collect();
    if found.parents.is_empty() {
        found.around = meaning::unnamed::halves(corpus, &named);
    }
    Ok(dialect_file::learned(&facts, &found, group).into_iter().collect())
}

/// The notations of files with their tags, without those whose tags mean nothing, so that their words confuse no others.
fn notations_and_tags(corpus: &Corpus, index: &Index<'_>) -> (Vec<Notation>, Vec<Tag>) {
    let notations = notations::find(corpus, index);
    let tags = tags::read_all(&corpus.texts, &notations);
    let directives = directives::all(corpus, &tags, &notations, &Apart::default());
    let comments = comments::comment_directives(corpus, &notations, &tags, &directives);
    let references = references::find(corpus, index, &tags, &directives, &comments);
    // How many files are named in each notation: where one names many, a few in another are chance.
    let mut edges = vec![0; notations.len()];
    for reference in references.iter().filter(|reference| reference.is_usual) {
        edges[directives[reference.directive].notation.index()] += reference.edges.len();
    }
    let most = edges.iter().copied().max().unwrap_or(0);
    let mut named: Vec<bool> = edges.iter().map(|&own| own > 0 && own * NAMED_SHARE >= most).collect();
    // One sigil is written in text or on lines of its own, not both: whichever names more files.
    let files_of = |id: NotationId| -> usize {
        references.iter().filter(|r| directives[r.directive].notation == id).map(|r| r.edges.len()).sum()
    };
    for line in NotationId::all(notations.len()).filter(|&id| notations[id].style == Style::Line) {
        let twin = NotationId::all(notations.len())
            .find(|&id| notations[id].style == Style::Sigil && notations[id].open == notations[line].open);
        if let Some(twin) = twin {
            named[if files_of(line) > files_of(twin) { twin } else { line }.index()] = false;
        }
    }
    // A sigil's comments go with the sigil.
    let goes = |id: NotationId| {
        let open = &notations[id].open;
        let of = |other: &NotationId| {
            matches!(notations[*other].style, Style::Sigil | Style::Line)
                && notations[*other].open == open[..open.len() - 1]
        };
        let mut sigils = NotationId::all(notations.len()).filter(of).peekable();
        sigils.peek().is_none() || sigils.any(|other| named[other.index()])
    };
    let speaks = |id: NotationId| {
        let known = &notations[id];
        known.style == Style::Bracket && known.open.len() > 1 && !known.open.starts_with("<!--") && goes(id)
    };
    let kept: Vec<NotationId> = NotationId::all(notations.len())
        .filter(|&id| notations[id].strong || named[id.index()] || speaks(id))
        .collect();
    let notations: Vec<Notation> = kept.iter().map(|&id| notations[id].clone()).collect();
    // Notations that were left out may have hidden tags of others.
    let tags = tags::read_all(&corpus.texts, &notations);
    (notations, tags)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_pattern_names_the_folder_where_others_share_the_suffix() {
        let files: Vec<SourceFile> =
            ["a/b/x.html", "a/c/y.html"].iter().map(|path| SourceFile::new(*path, "")).collect();
        let own: Vec<&SourceFile> = files.iter().collect();
        assert_eq!(pattern(".html", &own, 2), "**/*.html");
        assert_eq!(pattern(".html", &own, 9), "a/**/*.html");
        assert_eq!(pattern(".html", &own[..1], 9), "a/b/**/*.html");
    }

    #[test]
    fn a_part_of_a_site_may_show_tags_whose_names_lead_nowhere() {
        let sites = [
            ("(= moor \"base.html\" =)(= berth main =)<p>@</p>(= cast =)", true),
            ("<h1>@</h1><p>(see [1])</p>", false),
        ];
        for (text, expected) in sites {
            let files: Vec<SourceFile> = ["amber", "birch", "cedar", "dunes"]
                .iter()
                .map(|name| SourceFile::new(format!("{name}.html"), text.replace('@', name)))
                .collect();
            let site = Site::read(files.clone(), &[], &Settings::default());
            let some = AsKnown { files: &files, dialects: &[], site: &site };
            assert_eq!(may_learn_like(&some), expected, "{text}");
            assert!(learn_from(&some, &[]).is_empty());
        }
    }

    #[test]
    fn settings_in_markup_are_no_pages() {
        let tags = "<!--: bring \"all.rules\" --><rules><!--: when tide --><tide at=\"1\"/><!--: unwhen --></rules>\n";
        for (text, expected) in [(tags.to_owned(), false), (tags.replace("rules>", "div>"), true)] {
            let files: Vec<SourceFile> = ["all", "amber", "birch", "cedar"]
                .map(|name| SourceFile::new(format!("{name}.rules"), text.as_str()))
                .into();
            assert_eq!(is_markup(&files.iter().collect::<Vec<_>>()), expected, "{text}");
        }
    }
}
