//! Learning a dialect: how a site's engine writes its constructs, worked out from the site.
//!
//! Delimiters come from statistics over many files; meanings from what only a
//! site can show: names that are files, names that recur up a chain, pairs that
//! nest in every file. What one kind of evidence alone speaks for is said to be
//! likely; where two readings do equally well the user is asked, and the form
//! is left out.

mod corpus;
mod forms;
mod heads;
mod meaning;
mod notations;
mod pairs;
mod parents;
mod regions;
mod tags;
mod targets;
mod write;

use rustc_hash::{FxHashMap, FxHashSet};
use schemars::JsonSchema;
use serde::Serialize;

use crate::dialect::Kind;
use crate::site::SourceFile;
use crate::text::Place;

use corpus::{Corpus, Index};
use meaning::{Reasoner, Trust};
use tags::{Notation, Style, Tag};

/// How sure a form is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, JsonSchema)]
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
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct LearnedForm {
    /// What it means.
    pub kind: Kind,
    /// The form, as it stands in the dialect file.
    pub form: String,
    /// How many tags are written so.
    pub uses: usize,
    /// What speaks for it, in plain words.
    pub evidence: String,
    /// How sure it is.
    pub confidence: Confidence,
    /// A tag that shows it.
    pub example: Option<Place>,
}

/// A dialect that was learned.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct Learned {
    /// Its name.
    pub name: String,
    /// Patterns of the files it was learned from.
    pub files: Vec<String>,
    /// Its forms.
    pub forms: Vec<LearnedForm>,
    /// What could not be decided, as questions.
    pub questions: Vec<String>,
    /// The dialect file.
    pub text: String,
    /// What belongs into `radicon.toml`: rules of folders; empty if nothing does.
    pub settings: String,
}

/// Learns the dialects that files are written in.
///
/// Gives one for each kind of file in which constructs were found; none where
/// nothing speaks for an engine.
pub fn learn(files: &[SourceFile]) -> Vec<Learned> {
    let index = Index::new(files);
    let mut suffixes: std::collections::BTreeMap<&str, Vec<&SourceFile>> = std::collections::BTreeMap::new();
    for file in files {
        let name = file.path.rsplit('/').next().unwrap_or(&file.path);
        let suffix = name.find('.').map_or("", |at| &name[at..]);
        suffixes.entry(suffix).or_default().push(file);
    }
    let mut found: Vec<Learned> = Vec::new();
    for (suffix, files) in suffixes {
        let corpus = Corpus::new(files.iter().copied());
        found.extend(learn_group(&corpus, &index, suffix));
    }
    found
}

fn learn_group(corpus: &Corpus, index: &Index<'_>, suffix: &str) -> Option<Learned> {
    let notations = notations::find(corpus);
    let tags = tags::read_all(&corpus.texts, &notations);
    let (notations, tags) = relevant(corpus, index, notations, tags);
    let styles: Vec<Style> = notations.iter().map(|notation| notation.style).collect();
    let directives = heads::directives(corpus, &tags, &styles);
    let of = meaning::by_directive(&directives, tags.len());
    let references = targets::find(corpus, index, &tags, &directives);
    let finder = |single: &FxHashSet<usize>| {
        pairs::Finder { corpus, tags: &tags, directives: &directives, of: &of, styles: &styles, single }.find()
    };
    // What stands once at the top of files opens nothing, unless nothing else comes out even.
    let single = meaning::on_top(corpus, &notations, &tags, &directives, &references);
    let (with, without) = (finder(&single), finder(&FxHashSet::default()));
    let others = |pairs: &pairs::Pairs| pairs.partner.keys().filter(|&&tag| !single.contains(&of[tag])).count();
    let pairs = if others(&without) > others(&with) { without } else { with };
    let starts: Vec<usize> = (0..=corpus.texts.len()).map(|file| tags.partition_point(|tag| tag.file < file)).collect();
    let reasoner = Reasoner {
        corpus,
        index,
        notations: &notations,
        tags: &tags,
        directives: &directives,
        of: &of,
        references: &references,
        pairs: &pairs,
        starts: &starts,
    };
    let mut found = reasoner.reason();
    let shows = |m: &meaning::Meaning| {
        matches!(m.kind, Kind::Parent | Kind::Include | Kind::Wrap | Kind::Block | Kind::Slot | Kind::Fill | Kind::Part)
    };
    if !found.of.values().any(shows) {
        return None;
    }
    let named: FxHashMap<usize, usize> = references
        .iter()
        .filter(|r| found.of.contains_key(&r.directive))
        .flat_map(|r| r.edges.iter().copied())
        .filter_map(|(tag, file)| Some((*corpus.by_path.get(index.paths[file])?, tag)))
        .collect();
    if found.parents.is_empty() {
        found.around = meaning::halves(corpus, &named);
    }
    Some(write::learned(&reasoner, &found, suffix))
}

/// Leaves out notations whose tags mean nothing, so that their words confuse no others.
fn relevant(corpus: &Corpus, index: &Index<'_>, notations: Vec<Notation>, tags: Vec<Tag>) -> (Vec<Notation>, Vec<Tag>) {
    let styles: Vec<Style> = notations.iter().map(|notation| notation.style).collect();
    let directives = heads::directives(corpus, &tags, &styles);
    let references = targets::find(corpus, index, &tags, &directives);
    let mut named = vec![false; notations.len()];
    for reference in &references {
        named[directives[reference.directive].notation] = true;
    }
    // One sigil is written in text or on lines of its own, not both: whichever names more files.
    let files_of = |id: usize| -> usize {
        references.iter().filter(|r| directives[r.directive].notation == id).map(|r| r.edges.len()).sum()
    };
    for line in (0..notations.len()).filter(|&id| notations[id].style == Style::Line) {
        let twin = (0..notations.len())
            .find(|&id| notations[id].style == Style::Sigil && notations[id].open == notations[line].open);
        if let Some(twin) = twin {
            named[if files_of(line) > files_of(twin) { twin } else { line }] = false;
        }
    }
    // A sigil's comments go with the sigil.
    let goes = |id: usize| {
        let open = &notations[id].open;
        let of = |other: &usize| {
            matches!(notations[*other].style, Style::Sigil | Style::Line)
                && notations[*other].open == open[..open.len() - 1]
        };
        let mut sigils = (0..notations.len()).filter(of).peekable();
        sigils.peek().is_none() || sigils.any(|other| named[other])
    };
    let speaks = |id: usize| {
        let known = &notations[id];
        known.style == Style::Bracket && known.open.len() > 1 && !known.open.starts_with("<!--") && goes(id)
    };
    let kept: Vec<usize> = (0..notations.len()).filter(|&id| notations[id].strong || named[id] || speaks(id)).collect();
    let notations: Vec<Notation> = kept.iter().map(|&id| notations[id].clone()).collect();
    // Notations that were left out may have hidden tags of others.
    let tags = tags::read_all(&corpus.texts, &notations);
    (notations, tags)
}

impl From<Trust> for Confidence {
    fn from(trust: Trust) -> Self {
        match trust {
            Trust::Asked => Confidence::Asked,
            Trust::Likely => Confidence::Likely,
            Trust::Sure => Confidence::Sure,
        }
    }
}
