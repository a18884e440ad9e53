//! Repeats: copied markup, across pages and dialects.
//!
//! All templates become one forest of nodes in normal form. Runs of siblings
//! that are in several places are found exactly; subtrees that are alike are
//! clustered and aligned. Of all these the ones that save most are chosen, each
//! counted on what greater ones leave.

mod choose;
mod exact;
mod near;
mod reading;
mod telling;

use std::sync::Arc;

use serde::Serialize;

use crate::hash::mix;
use crate::site::{Site, Template, beneath};
use crate::text::{LineIndex, SourceId, count_lines, preview};
use choose::{Candidate, Chooser, Chosen};
use exact::runs::{Copy, Least, Runs};
use near::alike::Likeness;
use rayon::prelude::*;
use reading::forest::Forest;
use telling::advice::Adviser;

pub use telling::advice::{Advice, AdviceKind};
use telling::drift::Differences;
pub use telling::drift::{Drift, Gap};
pub(crate) use telling::drift::{difference, new_words};
pub use telling::side_by_side::{Fragment, LinePair, RepeatVariant};

/// Differences that do not count when markup is compared. All are on by default.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Normalise {
    /// Whitespace between elements, and how much of it is between words.
    pub blanks: bool,
    /// The order of attributes and classes.
    pub attributes: bool,
    /// Letter case of tags and attribute names.
    pub case: bool,
    /// Characters written as references.
    pub references: bool,
    /// How a URL of the same place is written.
    pub urls: bool,
    /// In which dialect a construct is written.
    pub constructs: bool,
}

impl Default for Normalise {
    fn default() -> Self {
        Self { blanks: true, attributes: true, case: true, references: true, urls: true, constructs: true }
    }
}

/// How to look for repeats.
#[derive(Clone, Debug)]
pub struct RepeatOptions {
    /// Differences that do not count.
    pub normalise: Normalise,
    /// The least length of a repeat in bytes. Lower finds more, and takes longer.
    pub min_bytes: u32,
    /// The least number of elements, texts and constructs in it.
    pub min_nodes: u32,
    /// What a group must save, in bytes; of two copies alone three times as much.
    /// `None` for 120 bytes, in a large site for a 500,000th of it.
    pub min_saving: Option<u64>,
    /// How alike near copies must be: twice the bytes in common by the bytes of
    /// both, 0 to 1. `None` finds exact copies only.
    pub similarity: Option<f64>,
}

impl Default for RepeatOptions {
    fn default() -> Self {
        Self { normalise: Normalise::default(), min_bytes: 80, min_nodes: 3, min_saving: None, similarity: Some(0.6) }
    }
}

/// Whether the copies of a group are the same.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum RepeatKind {
    /// Identical after normalising.
    Same,
    /// Identical but for a few differences.
    Alike,
}

impl RepeatKind {
    /// The word for it.
    pub const fn word(self) -> &'static str {
        match self {
            RepeatKind::Same => "same",
            RepeatKind::Alike => "alike",
        }
    }
}

/// The copied markup of a site.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[non_exhaustive]
pub struct Repeats {
    /// The groups, the most saving first; of two copies an eighth counts, since
    /// a pair is often meant, as a chapter and the same in a page of all chapters.
    pub groups: Vec<RepeatGroup>,
    /// The share of the site's bytes that is in a repeat, 0 to 1.
    pub share: f64,
    /// Bytes in all templates.
    pub bytes: usize,
    /// The number of things that limits left out.
    pub skipped: Skipped,
}

/// Repeats in a few words.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct RepeatSummary {
    /// The share of the site's bytes that is in a repeat, 0 to 1.
    pub share: f64,
    /// How many groups of copies there are.
    pub groups: usize,
    /// Copies that are outdated.
    pub drifted: usize,
    /// The groups that save most, at most three.
    pub greatest: Vec<RepeatHead>,
}

/// A group of copies in a few words.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct RepeatHead {
    /// Its id.
    pub id: String,
    /// How many copies there are.
    pub copies: usize,
    /// The bytes that writing it once would save.
    pub saving: Saving,
    /// The advice about it.
    pub advice: AdviceKind,
    /// The start of the piece.
    pub preview: String,
}

impl Repeats {
    /// The same in a few words.
    pub fn summary(&self) -> RepeatSummary {
        let head = |group: &RepeatGroup| RepeatHead {
            id: group.id.clone(),
            copies: group.copies.len(),
            saving: group.saving,
            advice: group.advice.kind,
            preview: preview(group.pattern.as_bytes()),
        };
        RepeatSummary {
            share: self.share,
            groups: self.groups.len(),
            drifted: self.groups.iter().map(|group| group.drift.len()).sum(),
            greatest: self.groups.iter().take(3).map(head).collect(),
        }
    }
}

/// The numbers of things that limits left out.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Skipped {
    /// Groups of two copies that save too little to be told.
    pub pairs: usize,
    /// Memory did not suffice to look for runs of siblings; loops and near copies are told.
    pub runs: bool,
}

/// A piece of markup and its copies.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[non_exhaustive]
pub struct RepeatGroup {
    /// A name that stays when unrelated files change.
    pub id: String,
    /// Whether the copies are the same.
    pub kind: RepeatKind,
    /// Bytes and nodes of the piece.
    pub weight: Weight,
    /// How much of a copy is common to all, on the average, 0 to 1.
    pub similarity: f64,
    /// The bytes that writing it once would save.
    pub saving: Saving,
    /// The copies, by file and place.
    pub copies: Vec<RepeatCopy>,
    /// The places where copies differ.
    pub gaps: Vec<Gap>,
    /// Copies that are outdated.
    pub drift: Vec<Drift>,
    /// The advice about it.
    pub advice: Advice,
    /// The piece as its first copy has it, gaps marked with their numbers.
    pub pattern: String,
}

impl RepeatGroup {
    fn merit(&self) -> u64 {
        if self.copies.len() > 2 { self.saving.bytes } else { self.saving.bytes / 8 }
    }
}

/// How much a piece is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Weight {
    /// Its bytes.
    pub bytes: u32,
    /// Its elements, texts and constructs.
    pub nodes: u32,
}

/// The saving of writing a piece once.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Saving {
    /// Lines.
    pub lines: usize,
    /// Bytes.
    pub bytes: u64,
}

/// One copy.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct RepeatCopy {
    /// The file's path.
    pub file: Arc<str>,
    /// The dialect it is read in.
    pub dialect: Arc<str>,
    /// Its first line, 1-based.
    pub line_start: u32,
    /// Its last line, 1-based.
    pub line_end: u32,
    /// Its first byte.
    pub byte_start: u32,
    /// The byte after it.
    pub byte_end: u32,
    /// The content of each of the group's gaps; the same copies share it.
    pub gaps: Arc<[String]>,
}

/// Which groups are of interest.
#[derive(Clone, Debug, Default)]
pub struct RepeatFilter {
    /// Only groups with a copy in one of these folders; all if there are none.
    pub folders: Vec<String>,
    /// Only groups with a copy in this dialect.
    pub dialect: Option<String>,
    /// Only groups of this kind.
    pub kind: Option<RepeatKind>,
}

impl RepeatFilter {
    /// Whether a group is of interest.
    pub fn fits(&self, group: &RepeatGroup) -> bool {
        let is_in = |file: &str| self.folders.iter().any(|folder| beneath(file, folder.trim_matches('/')).is_some());
        let any = |wanted: &dyn Fn(&RepeatCopy) -> bool| group.copies.iter().any(wanted);
        (self.folders.is_empty() || any(&|copy| is_in(&copy.file)))
            && self.dialect.as_ref().is_none_or(|dialect| any(&|copy| *copy.dialect == **dialect))
            && self.kind.is_none_or(|kind| kind == group.kind)
    }
}

/// Finds the copied markup of a site.
pub fn repeats(site: &Site, options: &RepeatOptions) -> Repeats {
    let bytes: usize = site.templates.iter().map(|template| template.source.len()).sum();
    // What saves nothing is nothing to tell.
    let min_saving = options.min_saving.unwrap_or((bytes as u64 / 500_000).max(120)).max(1);
    let forest = Forest::read(site, &options.normalise);
    let least = Least { bytes: options.min_bytes, nodes: options.min_nodes, saving: min_saving };
    // Nothing is as alike as that.
    let least_alike = options.similarity.unwrap_or(f64::INFINITY);
    let (mut runs, (likeness, lookalikes)) = rayon::join(
        || Runs::find(&forest, least),
        || {
            let likeness = Likeness::of(site, &forest, least_alike);
            let lookalikes = likeness.lookalikes();
            (likeness, lookalikes)
        },
    );
    let exact = std::mem::take(&mut runs.all);
    let mut chooser = Chooser::new(&forest, &runs, &likeness, min_saving);
    lookalikes.into_iter().for_each(|lookalikes| chooser.add(Candidate::Lookalikes(lookalikes)));
    exact.into_iter().for_each(|run| chooser.add(Candidate::Run(run)));
    let (told, pairs): (Vec<Chosen>, Vec<Chosen>) = chooser
        .choose()
        .into_iter()
        .partition(|chosen| chosen.gain.copies.len() > 2 || chosen.gain.saving >= 3 * min_saving);
    let is_complete = runs.is_complete;
    drop((runs, likeness));
    let lines = Lines::of(site, &forest, &told);
    // Each file has its own, so that threads seldom count the uses of one at once.
    let names =
        site.templates.iter().map(|template| (template.path.as_str().into(), template.dialect.name.as_str().into()));
    let names = names.collect();
    let teller = Teller { site, forest: &forest, adviser: Adviser::new(site, &forest), lines, names };
    let mut groups: Vec<(RepeatGroup, u64)> = told.par_iter().map(|chosen| teller.group(chosen)).collect();
    groups.sort_by(|(a, _), (b, _)| b.merit().cmp(&a.merit()).then(a.id.cmp(&b.id)));
    let repeated: u64 = groups.iter().map(|(_, repeated)| repeated).sum();
    Repeats {
        groups: groups.into_iter().map(|(group, _)| group).collect(),
        share: repeated as f64 / bytes.max(1) as f64,
        bytes,
        skipped: Skipped { pairs: pairs.len(), runs: !is_complete },
    }
}

/// The lines of the files that are told of.
struct Lines(Vec<Option<LineIndex>>);

impl Lines {
    fn of(site: &Site, forest: &Forest, told: &[Chosen]) -> Self {
        let mut is_told = vec![false; site.templates.len()];
        for chosen in told {
            let files = forest.files_of(chosen.gain.copies.iter().map(|copy| copy.start));
            files.into_iter().for_each(|file| is_told[file as usize] = true);
        }
        let index = |(template, is_told): (&Template, bool)| is_told.then(|| LineIndex::new(&template.source));
        Self(site.templates.par_iter().zip(is_told).map(index).collect())
    }
}

struct Teller<'a> {
    site: &'a Site,
    forest: &'a Forest,
    adviser: Adviser<'a>,
    lines: Lines,
    /// For each file its path and the name of its dialect, which the copies in it share.
    names: Vec<(Arc<str>, Arc<str>)>,
}

impl Teller<'_> {
    /// A group for people and programs, and how many bytes are in its copies.
    fn group(&self, chosen: &Chosen) -> (RepeatGroup, u64) {
        let forest = self.forest;
        let copies = &chosen.gain.copies;
        let files = forest.files_of(copies.iter().map(|copy| copy.start));
        let first = copies[0];
        let (kind, share, told) = match &chosen.cluster {
            None => (RepeatKind::Same, 1.0, Differences::default()),
            Some(cluster) => (RepeatKind::Alike, cluster.share, Differences::of(self.site, forest, cluster, copies)),
        };
        let piece = self.text(first, files[0]);
        let lines = count_lines(piece.trim_ascii_end().as_bytes());
        let saved = lines.saturating_sub(1) * (copies.len() - 1);
        let none: Arc<[String]> = Vec::new().into();
        let reports: Vec<RepeatCopy> = copies
            .iter()
            .zip(&files)
            .zip(told.values.iter().cloned().chain(std::iter::repeat(none)))
            .map(|((&copy, &file), gaps)| self.copy(copy, file, gaps))
            .collect();
        let drift = told.drift.into_iter().map(|(index, difference)| {
            let copy = &reports[index];
            Drift { file: copy.file.to_string(), line: copy.line_start, difference }
        });
        let group = RepeatGroup {
            id: format!("{:08x}", self.identity(chosen) >> 32),
            kind,
            weight: Weight { bytes: first.bytes(forest), nodes: first.end - first.start },
            similarity: share,
            saving: Saving { lines: (saved as f64 * share) as usize, bytes: chosen.gain.saving },
            drift: drift.collect(),
            advice: self.adviser.advise(copies, &files, &told.gaps, chosen.is_loop),
            gaps: told.gaps,
            copies: reports,
            pattern: if told.pattern.is_empty() { piece } else { told.pattern },
        };
        (group, (chosen.gain.bytes as f64 * share) as u64)
    }

    /// A hash of what the copies have in common.
    fn identity(&self, chosen: &Chosen) -> u64 {
        let forest = self.forest;
        match &chosen.cluster {
            Some(cluster) => mix(1, forest.classes[cluster.leader as usize].hash),
            None => {
                let Copy { start, end, .. } = chosen.gain.copies[0];
                let (mut at, mut hash) = (start, 0);
                while at < end {
                    hash = mix(hash, forest.of(at).hash);
                    at += forest.size(at);
                }
                hash
            }
        }
    }

    fn text(&self, copy: Copy, file: u32) -> String {
        let start = self.forest.span(copy.start).start as usize;
        let source = &self.site.get(SourceId(file)).source;
        let bytes = &source[start..start + copy.bytes(self.forest) as usize];
        String::from_utf8_lossy(bytes).into_owned()
    }

    fn copy(&self, copy: Copy, file: u32, gaps: Arc<[String]>) -> RepeatCopy {
        let source = &self.site.get(SourceId(file)).source;
        let start = self.forest.span(copy.start).start;
        let end = start + copy.bytes(self.forest);
        // The end of a text may be blank lines.
        let trimmed = source[start as usize..end as usize].trim_ascii_end().len() as u32;
        let line = |offset: u32| self.lines.0[file as usize].as_ref().map_or(1, |lines| lines.line(offset));
        RepeatCopy {
            file: self.names[file as usize].0.clone(),
            dialect: self.names[file as usize].1.clone(),
            line_start: line(start),
            line_end: line((start + trimmed).saturating_sub(1).max(start)),
            byte_start: start,
            byte_end: end,
            gaps,
        }
    }
}
