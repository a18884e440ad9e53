//! What directives mean: from what a site alone can show.

mod bodies;
mod controls;
mod includes;
mod inherited;
mod parents;
mod regions;
mod sets;
pub(crate) mod unnamed;

use std::collections::BTreeMap;

use rustc_hash::FxHashSet;

use crate::Confidence;
use crate::dialect::Kind;
use crate::evidence::pairs::Pairs;
use crate::evidence::references::Reference;
use crate::read::corpus::{Corpus, Index};
use crate::read::corpus::{FileId, TextId};
use crate::read::directives::DirectiveId;
use crate::read::directives::{Directive, SECOND, Slot, arguments_of};
use crate::read::pieces::between;
use crate::read::tags::TagId;
use crate::read::tags::{Notation, Style, Tag, token_text};
use crate::thresholds::ON_TOP;

/// The meaning of a directive, and the evidence for it.
#[derive(Clone, Debug)]
pub(crate) struct Meaning {
    pub kind: Kind,
    /// The place of its name or target.
    pub slot: Option<Slot>,
    pub confidence: Confidence,
    pub why: String,
}

/// The meanings found for a group of files.
#[derive(Default)]
pub(crate) struct Meanings {
    pub of: BTreeMap<DirectiveId, Meaning>,
    /// For each closer of an opener that another meaning has with it: signal's `show`.
    pub closed_as: BTreeMap<(DirectiveId, DirectiveId), Kind>,
    /// For each file its parent.
    pub parents: BTreeMap<TextId, TextId>,
    /// Words that say that a file has no parent: directive and slot.
    pub opted_out: BTreeMap<DirectiveId, String>,
    /// The file name of layouts that no file names, with the folder that it holds for.
    pub layout_file: Option<(String, String)>,
    /// The file name of markers.
    pub marker: Option<String>,
    /// Files before and after all pages.
    pub around: Option<(String, String)>,
    pub bodies: bool,
}

/// The facts about a group of files, found before any meaning.
pub(crate) struct Facts<'a> {
    pub corpus: &'a Corpus,
    pub index: &'a Index<'a>,
    pub notations: &'a [Notation],
    pub tags: &'a [Tag],
    pub directives: &'a [Directive],
    pub of: &'a [DirectiveId],
    pub references: &'a [Reference],
    pub pairs: &'a Pairs,
    /// For each file where its tags begin among all, and at last where they end.
    pub starts: &'a [usize],
}

impl Facts<'_> {
    /// Each meaning sees those that were found before it.
    pub fn reason(&self) -> Meanings {
        let mut found = self.parents();
        if found.parents.is_empty()
            && let Some((layout_file, parents)) = self.fixed_layouts()
        {
            (found.layout_file, found.parents) = (Some(layout_file), parents);
        }
        let regions = self.regions(&found);
        (found.of, found.closed_as) = (regions.of, regions.closed_as);
        found.of.extend(self.includes(&found));
        let body = self.body(&found);
        found.bodies = body.is_some();
        found.of.extend(body);
        found.of.extend(self.inherited(&found));
        found.of.extend(self.sets(&found));
        found.of.extend(self.controls(&found));
        found
    }

    pub(crate) fn text(&self, tag: TagId) -> &str {
        &self.corpus.texts[self.tags[tag].file].text
    }

    /// The tags of a file.
    pub(crate) fn tags_of(&self, file: TextId) -> impl DoubleEndedIterator<Item = TagId> + Clone {
        TagId::at(self.starts[file.index()]).to(TagId::at(self.starts[file.index() + 1]))
    }

    /// The extent of a tag; of an attribute its element.
    pub(crate) fn extent(&self, at: TagId) -> (usize, usize) {
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

    pub(crate) fn style(&self, directive: DirectiveId) -> Style {
        self.notations[self.directives[directive].notation].style
    }

    pub(crate) fn file_of(&self, indexed: FileId) -> Option<TextId> {
        self.corpus.by_path.get(self.index.path(indexed)).copied()
    }

    /// The names that a tag may give: its arguments in quotes or words.
    pub(crate) fn names_of(&self, at: TagId) -> Vec<(Slot, &str)> {
        let directive = &self.directives[self.of[at]];
        let text = self.text(at);
        let arguments = arguments_of(text, &self.tags[at], directive.taken);
        arguments
            .into_iter()
            .filter(|argument| argument.slot.lead != SECOND)
            .take(3)
            .filter_map(|argument| {
                let name = token_text(text, &self.tags[at].tokens[argument.token]);
                let fits =
                    !name.is_empty() && name.len() <= 60 && !name.contains([' ', '<', '{', '\n', '/', '#', '(', '$']);
                fits.then_some((argument.slot, name))
            })
            .collect()
    }
}

/// Whether nothing but blanks, comments and other tags comes before a tag; `first` is the first tag of its file.
fn is_on_top(corpus: &Corpus, notations: &[Notation], tags: &[Tag], first: usize, at: TagId) -> bool {
    let tag = &tags[at];
    if notations[tag.notation].style == Style::Header {
        return true;
    }
    let text = corpus.texts[tag.file].text.as_str();
    let start = if notations[tag.notation].style == Style::Attribute {
        text[..tag.range.start].rfind('<').unwrap_or(0)
    } else {
        tag.range.start
    };
    let mut covered = 0;
    for other in &tags[first..at.index()] {
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

/// Directives that name a file once at the top of nearly every file they are in.
pub(crate) fn on_top(
    corpus: &Corpus,
    notations: &[Notation],
    tags: &[Tag],
    directives: &[Directive],
    references: &[Reference],
) -> FxHashSet<DirectiveId> {
    let stands = |reference: &Reference| {
        let directive = &directives[reference.directive];
        // Statements say many things besides.
        let named: Vec<TagId> = reference.edges.iter().map(|(at, _)| *at).collect();
        let own = if notations[directive.notation].code { &named } else { &directive.tags };
        let mut files: BTreeMap<TextId, usize> = BTreeMap::new();
        own.iter().for_each(|&at| *files.entry(tags[at].file).or_default() += 1);
        let once = files.values().filter(|&&n| n == 1).count();
        let first = |at: TagId| tags.partition_point(|tag| tag.file < tags[at].file);
        let top = own.iter().filter(|&&at| is_on_top(corpus, notations, tags, first(at), at)).count();
        ON_TOP.reached(once, files.len()) && ON_TOP.reached(top, own.len())
    };
    references.iter().filter(|reference| stands(reference)).map(|reference| reference.directive).collect()
}

pub(crate) fn plural(count: usize, what: &str) -> String {
    if count == 1 { format!("1 {what}") } else { format!("{count} {what}s") }
}

/// For each tag its directive.
pub(crate) fn by_directive(directives: &[Directive], tags: usize) -> Vec<DirectiveId> {
    let mut of = vec![DirectiveId(0); tags];
    for (id, directive) in DirectiveId::each(directives) {
        directive.tags.iter().for_each(|&at| of[at] = id);
    }
    of
}
