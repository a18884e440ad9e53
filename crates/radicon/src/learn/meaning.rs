//! What directives mean: from what a site alone can show.

use std::collections::{BTreeMap, BTreeSet};

use rustc_hash::{FxHashMap, FxHashSet};

use super::corpus::{Corpus, Index};
use super::heads::{Directive, Slot, arguments_of};
use super::pairs::Pairs;
use super::pieces::{between, is_balanced};
use super::tags::{Notation, Style, Tag, token_text};
use super::targets::Reference;
use crate::dialect::Kind;

/// How sure a meaning is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Trust {
    /// Two readings do about as well: the user is asked, and the form is left out.
    Asked,
    /// One kind of evidence.
    Likely,
    /// Two independent kinds of evidence.
    Sure,
}

/// What a directive means, and what speaks for it.
#[derive(Clone, Debug)]
pub(super) struct Meaning {
    pub kind: Kind,
    /// Where its name or target stands.
    pub slot: Option<Slot>,
    pub trust: Trust,
    pub why: String,
}

/// What was found out about a group of files.
#[derive(Default)]
pub(super) struct Meanings {
    pub of: BTreeMap<usize, Meaning>,
    /// For each closer of an opener that another meaning has with it: signal's `show`.
    pub closed_as: BTreeMap<(usize, usize), Kind>,
    /// For each file its parent.
    pub parents: BTreeMap<usize, usize>,
    /// Words that say that a file has no parent: directive and slot.
    pub opted_out: BTreeMap<usize, String>,
    /// The file name of layouts that no file names, with the folder that it holds for.
    pub layout_file: Option<(String, String)>,
    /// The file name of markers.
    pub marker: Option<String>,
    /// Files before and after all pages.
    pub around: Option<(String, String)>,
    pub bodies: bool,
}

pub(super) struct Reasoner<'a> {
    pub corpus: &'a Corpus,
    pub index: &'a Index<'a>,
    pub notations: &'a [Notation],
    pub tags: &'a [Tag],
    pub directives: &'a [Directive],
    pub of: &'a [usize],
    pub references: &'a [Reference],
    pub pairs: &'a Pairs,
    /// For each file where its tags begin among all, and at last where they end.
    pub starts: &'a [usize],
}

/// How well the names of one directive recur as those of another above: matches by cover,
/// files, the directive and slot of the child, those of the layout.
pub(super) type Recurrence = (f64, usize, (usize, Slot), (usize, Slot));

/// The share of a file's names that must recur up its chain.
pub(super) const RECUR: f64 = 0.3;

impl Reasoner<'_> {
    pub fn reason(&self) -> Meanings {
        let mut found = Meanings::default();
        self.parents(&mut found);
        if found.parents.is_empty() {
            self.fixed_layouts(&mut found);
        }
        self.regions(&mut found);
        self.includes(&mut found);
        self.bodies(&mut found);
        self.inherited(&mut found);
        self.sets(&mut found);
        self.controls(&mut found);
        found
    }

    pub(super) fn text(&self, tag: usize) -> &str {
        &self.corpus.texts[self.tags[tag].file].text
    }

    /// The tags of a file.
    pub(super) fn tags_of(&self, file: usize) -> std::ops::Range<usize> {
        self.starts[file]..self.starts[file + 1]
    }

    /// Where a tag begins and ends; of an attribute its element.
    pub(super) fn extent(&self, at: usize) -> (usize, usize) {
        let range = &self.tags[at].range;
        match self.pairs.brace_ends.get(&at) {
            Some(&end) if self.notations[self.tags[at].notation].style == Style::Attribute => {
                let text = self.text(at);
                let start = text[..range.start].rfind('<').unwrap_or(range.start);
                (start, text[end..].find('>').map_or(end, |close| end + close + 1))
            }
            _ => (range.start, range.end),
        }
    }

    pub(super) fn style(&self, directive: usize) -> Style {
        self.notations[self.directives[directive].notation].style
    }

    pub(super) fn file_of(&self, indexed: usize) -> Option<usize> {
        self.corpus.by_path.get(self.index.paths[indexed]).copied()
    }

    /// The names that a tag may give: its arguments in quotes or words.
    pub(super) fn names_of(&self, at: usize) -> Vec<(Slot, &str)> {
        let directive = &self.directives[self.of[at]];
        let text = self.text(at);
        let arguments = arguments_of(text, &self.tags[at], directive.taken);
        arguments
            .into_iter()
            .take(3)
            .filter_map(|argument| {
                let name = token_text(text, &self.tags[at].tokens[argument.token]);
                let fits =
                    !name.is_empty() && name.len() <= 60 && !name.contains([' ', '<', '{', '\n', '/', '#', '(', '$']);
                fits.then_some((argument.slot, name))
            })
            .collect()
    }

    /// An include that is given a body.
    pub(super) fn is_wrap(&self, reference: &Reference, found: &Meanings) -> bool {
        self.pairs.is_opener(reference.directive)
            && self.style(reference.directive) != Style::Attribute
            && !found.of.contains_key(&reference.directive)
    }

    pub(super) fn includes(&self, found: &mut Meanings) {
        // Names of pairs that stand where others name files: parts.
        let mut pair_names: BTreeMap<usize, FxHashSet<&str>> = BTreeMap::new();
        for (id, directive) in
            self.directives.iter().enumerate().filter(|(id, _)| self.pairs.is_opener(*id) && !found.of.contains_key(id))
        {
            let names = directive.tags.iter().filter_map(|&at| Some(self.names_of(at).into_iter().next()?.1));
            pair_names.insert(id, names.collect());
        }
        for reference in self.references {
            let id = reference.directive;
            if found.of.contains_key(&id) || !reference.is_usual && reference.paths == 0 {
                continue;
            }
            let resolved: FxHashSet<usize> = reference.edges.iter().map(|(tag, _)| *tag).collect();
            let open: Vec<&str> = self.directives[id]
                .tags
                .iter()
                .filter(|at| !resolved.contains(at))
                .filter_map(|&at| {
                    self.names_of(at).into_iter().find(|(slot, _)| *slot == reference.slot).map(|(_, name)| name)
                })
                .collect();
            let part = pair_names.iter().find(|(_, names)| {
                !open.is_empty() && open.iter().filter(|name| names.contains(*name)).count() * 10 >= open.len() * 6
            });
            if reference.share() < 0.5 && part.is_none() {
                continue;
            }
            if let Some((&part, _)) = part {
                let slot =
                    self.directives[part].tags.first().and_then(|&at| Some(self.names_of(at).into_iter().next()?.0));
                let why = "its names stand where files are named".to_owned();
                found.of.insert(part, Meaning { kind: Kind::Part, slot, trust: Trust::Likely, why });
            }
            // A link leads to whole pages; what is included is none.
            let framed = self.framed(found);
            let files: BTreeSet<usize> = reference.edges.iter().filter_map(|(_, file)| self.file_of(*file)).collect();
            let whole = files
                .iter()
                .filter(|&&file| {
                    self.corpus.texts[file].has_skeleton()
                        && self.corpus.texts[file].text.to_ascii_lowercase().contains("</body")
                        || framed.contains(&file)
                })
                .count();
            let wraps = self.is_wrap(reference, found);
            let rounds =
                reference.edges.iter().filter(|(tag, file)| self.file_of(*file) == Some(self.tags[*tag].file)).count();
            if !wraps && (whole * 10 > files.len() * 4 || rounds > 0 && rounds * 5 > reference.edges.len()) {
                continue;
            }
            let kind = if wraps {
                Kind::Wrap
            } else if files.iter().all(|&file| self.defines_only(file))
                && !files.is_empty()
                && self.directives[id].tags.iter().all(|&at| self.tags[at].tokens.len() > 2)
            {
                Kind::Import
            } else {
                Kind::Include
            };
            let trust = if reference.strong || reference.paths >= 2 { Trust::Sure } else { Trust::Likely };
            let why = format!("{} of {} names are files", reference.edges.len(), reference.literals);
            found.of.insert(id, Meaning { kind, slot: Some(reference.slot.clone()), trust, why });
        }
    }

    /// Files that name a parent themselves.
    fn framed(&self, found: &Meanings) -> FxHashSet<usize> {
        let parents = found.of.iter().filter(|(_, m)| m.kind == Kind::Parent).map(|(id, _)| *id);
        parents.flat_map(|id| self.directives[id].tags.iter().map(|&at| self.tags[at].file)).collect()
    }

    /// Whether a file holds nothing but pairs.
    pub(super) fn defines_only(&self, file: usize) -> bool {
        let text = &self.corpus.texts[file].text;
        let mut at = 0;
        let mut pairs = 0;
        for tag in self.tags_of(file) {
            let range = &self.tags[tag].range;
            if range.start < at {
                continue;
            }
            if !between(text, at, range.start).trim().is_empty() {
                return false;
            }
            at = match self.pairs.partner.get(&tag) {
                Some(&end) if end != tag => {
                    pairs += 1;
                    self.tags[end].range.end
                }
                _ => range.end,
            };
        }
        pairs > 0 && text.get(at..).unwrap_or("").trim().is_empty()
    }

    pub(super) fn sets(&self, found: &mut Meanings) {
        for id in 0..self.directives.len() {
            if found.of.contains_key(&id) || self.pairs.is_opener(id) || !self.is_assignment(id) {
                continue;
            }
            let notation = &self.notations[self.directives[id].notation];
            // In a notation that shows nothing else a single line may be anything.
            if !notation.strong
                && !found.of.keys().any(|other| self.directives[*other].notation == self.directives[id].notation)
            {
                continue;
            }
            let why = "a name, a sign, a value".to_owned();
            found.of.insert(id, Meaning { kind: Kind::Set, slot: None, trust: Trust::Likely, why });
        }
    }

    /// Pairs that are nothing else decide or repeat; those whose content holds tags that fit nowhere are verbatim.
    pub(super) fn controls(&self, found: &mut Meanings) {
        for &id in self.pairs.closers.keys() {
            if found.of.contains_key(&id) || matches!(self.style(id), Style::Attribute) {
                continue;
            }
            let used = self.notations[self.directives[id].notation].strong
                || found.of.keys().any(|other| self.directives[*other].notation == self.directives[id].notation);
            if !used {
                continue;
            }
            let bare =
                self.directives[id].tags.iter().all(|&at| self.tags[at].tokens.len() <= self.directives[id].taken);
            let torn = self.directives[id].tags.iter().filter(|at| self.holds_torn_tags(**at)).count();
            let prose = self.directives[id].tags.iter().filter(|at| self.holds_prose(**at)).count();
            let (kind, trust, why) = if bare && torn * 2 >= self.directives[id].tags.len() && torn > 0 {
                (Kind::Verbatim, Trust::Likely, "the tags in it are not paired")
            } else if bare && prose == self.directives[id].tags.len() && prose >= 2 {
                (Kind::Comment, Trust::Asked, "nothing but words in it")
            } else {
                (Kind::Control, Trust::Likely, "a pair that names nothing")
            };
            found.of.insert(id, Meaning { kind, slot: None, trust, why: why.into() });
        }
    }

    pub(super) fn content(&self, opener: usize) -> Option<&str> {
        let start = self.tags[opener].range.end;
        let end = match (self.pairs.brace_ends.get(&opener), self.pairs.partner.get(&opener)) {
            (Some(&end), _) => end,
            (None, Some(&end)) => self.tags[end].range.start,
            (None, None) => return None,
        };
        self.text(opener).get(start..end)
    }

    /// Whether an opener without its closer stands in a pair.
    pub(super) fn holds_torn_tags(&self, opener: usize) -> bool {
        let Some(content) = self.content(opener) else { return false };
        let range = self.tags[opener].range.end..self.tags[opener].range.end + content.len();
        let file = self.tags[opener].file;
        let inside = self.tags_of(file).filter(|&at| range.contains(&self.tags[at].range.start));
        inside.into_iter().any(|at| self.pairs.is_opener(self.of[at]) && !self.pairs.partner.contains_key(&at))
    }

    pub(super) fn holds_prose(&self, opener: usize) -> bool {
        self.content(opener).is_some_and(|content| {
            !content.contains(['<', '{', '[']) && content.split_whitespace().count() >= 2 && is_balanced(content)
        })
    }
}

/// Whether nothing but blanks, comments and other tags stands before a tag; `first` is the first tag of its file.
fn is_on_top(corpus: &Corpus, notations: &[Notation], tags: &[Tag], first: usize, at: usize) -> bool {
    let tag = &tags[at];
    let text = corpus.texts[tag.file].text.as_str();
    let start = if notations[tag.notation].style == Style::Attribute {
        text[..tag.range.start].rfind('<').unwrap_or(0)
    } else {
        tag.range.start
    };
    let mut covered = 0;
    for other in &tags[first..at] {
        let range = &other.range;
        if range.start >= covered && range.start < start {
            if !between(text, covered, range.start).trim().is_empty() {
                break;
            }
            covered = range.end;
        }
    }
    let rest = text.get(covered.min(start)..start).unwrap_or("").trim();
    rest.is_empty() || rest.starts_with("<!--") && rest.ends_with("-->")
}

/// Directives that name a file once at the top of nearly every file they stand in.
pub(super) fn on_top(
    corpus: &Corpus,
    notations: &[Notation],
    tags: &[Tag],
    directives: &[Directive],
    references: &[Reference],
) -> FxHashSet<usize> {
    let stands = |directive: &Directive| {
        let mut files: BTreeMap<usize, usize> = BTreeMap::new();
        directive.tags.iter().for_each(|&at| *files.entry(tags[at].file).or_default() += 1);
        let once = files.values().filter(|&&n| n == 1).count();
        let first = |at: usize| tags.partition_point(|tag| tag.file < tags[at].file);
        let top = directive.tags.iter().filter(|&&at| is_on_top(corpus, notations, tags, first(at), at)).count();
        once * 10 >= files.len() * 8 && top * 10 >= directive.tags.len() * 8
    };
    references.iter().filter(|r| stands(&directives[r.directive])).map(|r| r.directive).collect()
}

pub(super) fn plural(count: usize, what: &str) -> String {
    if count == 1 { format!("1 {what}") } else { format!("{count} {what}s") }
}

/// For each directive how often each of its slots stands in its tags.
pub(super) fn by_directive(directives: &[Directive], tags: usize) -> Vec<usize> {
    let mut of = vec![0; tags];
    for (id, directive) in directives.iter().enumerate() {
        directive.tags.iter().for_each(|&at| of[at] = id);
    }
    of
}

/// Files in the tree that nothing names and that hold half of a page each.
pub(super) fn halves(corpus: &Corpus, named: &FxHashMap<usize, usize>) -> Option<(String, String)> {
    let is_half = |id: &usize, has: &str, lacks: &str| {
        let text = corpus.texts[*id].text.to_ascii_lowercase();
        text.contains(has) && !text.contains(lacks)
    };
    let all = |has: &str, lacks: &str| -> Vec<usize> {
        (0..corpus.texts.len()).filter(|id| is_half(id, has, lacks)).collect()
    };
    let (heads, feet) = (all("<html", "</html"), all("</html", "<html"));
    let ([head], [foot]) = (&heads[..], &feet[..]) else { return None };
    let free: Vec<usize> = (0..corpus.texts.len()).filter(|id| !named.contains_key(id)).collect();
    if !free.contains(head) || !free.contains(foot) {
        return None;
    }
    let rest = free.iter().filter(|id| *id != head && *id != foot);
    let bare = rest.clone().filter(|id| !corpus.texts[**id].has_skeleton()).count();
    (bare > 0 && bare * 2 > rest.count()).then(|| (corpus.texts[*head].path.clone(), corpus.texts[*foot].path.clone()))
}
