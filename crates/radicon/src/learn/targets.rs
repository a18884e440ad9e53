//! Which arguments name files, and how names become files.

use std::collections::BTreeMap;

use rustc_hash::{FxHashMap, FxHashSet};

use super::corpus::{Corpus, Index, Naming};
use super::heads::{Directive, Slot, arguments_of};
use super::tags::{Tag, token_text};

/// An argument of a directive that names files.
#[derive(Clone, Debug)]
pub(super) struct Reference {
    pub directive: usize,
    pub slot: Slot,
    pub naming: Naming,
    /// Other suffixes that names leave out.
    pub suffixes: Vec<String>,
    /// For each tag that names a file: the tag and the file.
    pub edges: Edges,
    /// How many tags have a complete literal there.
    pub literals: usize,
    /// How many different names are written.
    pub names: usize,
    /// How many of them have a folder in front.
    pub paths: usize,
    /// Whether it stands on its own evidence.
    pub strong: bool,
}

impl Reference {
    pub fn share(&self) -> f64 {
        self.edges.len() as f64 / self.literals.max(1) as f64
    }
}

/// By prefix and suffix: tags, files, and what parts the folders of the name.
type Votes = FxHashMap<(String, String), Vec<(usize, usize, String)>>;

/// Tags, and the files that they name.
type Edges = Vec<(usize, usize)>;

const SEPARATORS: [&str; 5] = ["/", ".", "::", ":", "\\"];

/// All arguments that name files often enough to be no accident.
pub(super) fn find(corpus: &Corpus, index: &Index<'_>, tags: &[Tag], directives: &[Directive]) -> Vec<Reference> {
    let mut candidates = Vec::new();
    for (id, directive) in directives.iter().enumerate() {
        let mut slots: BTreeMap<Slot, Vec<(usize, usize, bool)>> = BTreeMap::new();
        for &at in &directive.tags {
            let tag = &tags[at];
            for argument in arguments_of(&corpus.texts[tag.file].text, tag, directive.taken) {
                slots.entry(argument.slot).or_default().push((at, argument.token, argument.complete));
            }
        }
        for (slot, uses) in slots {
            candidates.extend(candidate(corpus, index, tags, id, slot, &uses));
        }
    }
    // What is sure by itself decides how names are written; others may follow it.
    let sure: FxHashSet<(String, String)> =
        candidates.iter().filter(|c| c.strong).map(|c| (c.naming.prefix.clone(), c.naming.suffix.clone())).collect();
    let mut found: Vec<Reference> = candidates
        .into_iter()
        .filter(|c| {
            let all = c.edges.len() == c.literals;
            c.strong
                || c.share() < 0.5 && c.paths > 0
                || all && c.paths > 0
                || all
                    && sure.contains(&(c.naming.prefix.clone(), c.naming.suffix.clone()))
                    && (c.names > 1 || c.paths > 0 || c.slot.quoted)
        })
        .collect();
    // Of one directive only the argument that names most files.
    found.sort_by_key(|c| (c.directive, std::cmp::Reverse((c.strong, c.edges.len()))));
    found.dedup_by(|b, a| a.directive == b.directive && (a.slot.lead != b.slot.lead));
    found
}

fn candidate(
    corpus: &Corpus,
    index: &Index<'_>,
    tags: &[Tag],
    directive: usize,
    slot: Slot,
    uses: &[(usize, usize, bool)],
) -> Option<Reference> {
    let mut votes: Votes = FxHashMap::default();
    let mut literals = 0;
    let (mut names, mut with_folder) = (FxHashSet::default(), FxHashSet::default());
    for &(at, token, complete) in uses {
        let tag = &tags[at];
        let text = &corpus.texts[tag.file].text;
        let written = token_text(text, &tag.tokens[token]);
        if !complete {
            continue;
        }
        literals += 1;
        if written.is_empty() || written.len() > 200 || written.contains(['<', '\n', ' ', '{']) {
            continue;
        }
        names.insert(written);
        // A name that is written with slashes keeps its dots.
        let separators = if written.contains('/') { &SEPARATORS[..1] } else { &SEPARATORS[..] };
        let readings = index.readings(written, separators);
        let own = &corpus.texts[tag.file].path;
        // Of several files the one whose path has most in common with the naming one.
        let mut best: FxHashMap<(&str, &str), (usize, usize, &str)> = FxHashMap::default();
        for (naming, file) in &readings {
            let path = index.paths[*file];
            if path == own && readings.len() > 1 {
                continue;
            }
            let near = path.bytes().zip(own.bytes()).take_while(|(a, b)| a == b).count();
            let entry = best.entry((&naming.prefix, &naming.suffix)).or_insert((near, *file, &naming.separator));
            if near > entry.0 {
                *entry = (near, *file, &naming.separator);
            }
        }
        for ((prefix, suffix), (_, file, separator)) in best {
            votes.entry((prefix.into(), suffix.into())).or_default().push((at, file, separator.to_owned()));
        }
        if !readings.is_empty() && written.contains(['/', '.', ':']) {
            with_folder.insert(written);
        }
    }
    let (naming, suffixes, mut edges) = usual(&votes)?;
    edges.sort_unstable();
    let share = edges.len() as f64 / literals as f64;
    let known: FxHashSet<&str> = names.iter().copied().collect();
    let strong = if with_folder.is_empty() {
        share >= 0.9 && edges.len() >= 4 && known.len() >= 2
    } else {
        share >= 0.5 && edges.len() >= 2
    };
    (share >= 0.25 && !edges.is_empty()).then_some(Reference {
        directive,
        slot,
        naming,
        suffixes,
        edges,
        literals,
        names: known.len(),
        paths: with_folder.len(),
        strong,
    })
}

/// The way in which most names are written: separator, prefix and suffix, other suffixes, and who names what.
fn usual(votes: &Votes) -> Option<(Naming, Vec<String>, Edges)> {
    // A name may be written with and without its suffix; the most frequent way counts.
    let (naming, found) = votes.iter().max_by(|a, b| a.1.len().cmp(&b.1.len()).then_with(|| b.0.cmp(a.0)))?;
    let mut separators: BTreeMap<&str, usize> = BTreeMap::new();
    found
        .iter()
        .filter(|(_, _, separator)| separator != "/")
        .for_each(|(_, _, s)| *separators.entry(s).or_default() += 1);
    let separator =
        separators.into_iter().max_by_key(|(_, uses)| *uses).map_or("/", |(separator, _)| separator).to_owned();
    let mut edges: Edges = found.iter().map(|(tag, file, _)| (*tag, *file)).collect();
    let mut suffixes = Vec::new();
    let mut others: Vec<_> = votes.iter().filter(|(other, _)| other.0 == naming.0 && *other != naming).collect();
    others.sort();
    for (other, more) in others {
        let known: FxHashSet<usize> = edges.iter().map(|(tag, _)| *tag).collect();
        let more: Vec<_> =
            more.iter().map(|(tag, file, _)| (*tag, *file)).filter(|(tag, _)| !known.contains(tag)).collect();
        if more.len() >= 2 {
            suffixes.push(other.1.clone());
            edges.extend(more);
        }
    }
    let naming = Naming { separator, prefix: naming.0.clone(), suffix: naming.1.clone() };
    Some((naming, suffixes, edges))
}
