//! How many mistakes `check` finds: puts each rule's mistake into copies of a site, one at a time, and looks
//! whether the rule tells of it, and what else is told.
//!
//! `cargo run --release -p radicon-bench --bin planted -- DIR [--each COUNT] [--seed NUMBER] [--rule RULE] [--show]`

#[path = "../../../radicon/tests/it/made/mod.rs"]
#[allow(dead_code, missing_docs, reason = "the tests use more of it")]
mod made;

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

use made::Random;
use radicon::check::{Rule, Severity};
use radicon::dialect::{Kind, Loose, Part};
use radicon::markup::{Construct, ConstructId, Document, Inside, NodeKind, TokenKind};
use radicon::repeats::RepeatOptions;
use radicon::site::{Parent, Template};
use radicon::text::{SourceId, Span};
use radicon::{Change, Resolver, Site, check, disk, repeats};

/// A mistake: the files that change, and where a finding is expected.
struct Mistake {
    changes: Vec<Change>,
    /// A finding in any of these files counts.
    files: BTreeSet<String>,
}

/// All mistakes of a rule that a site has a place for.
type Plant = fn(&Site) -> Vec<Mistake>;

const PLANTS: &[(&str, Plant)] = &[
    ("missing-target", renamed_partials),
    ("missing-target", misspelt_targets),
    ("cycle", includes_of_itself),
    ("unclosed", dropped_closers),
    ("close-mismatch", swapped_closers),
    ("malformed-tag", halved_delimiters),
    ("unknown-tag", misspelt_words),
    ("block-twice", repeated_blocks),
    ("missing-override", dropped_overrides),
    ("orphan-override", misspelt_blocks),
    ("lost-content", stray_fragments),
    ("no-parent", lost_parents),
    ("duplicate-id", repeated_ids),
    ("dangling-id", misspelt_ids),
    ("drift", changed_copies),
    ("out-of-order", swapped_overrides),
    ("unused-partial", dropped_includes),
    ("idle-load", idle_loads),
];

/// What was found of a rule's mistakes.
#[derive(Default)]
struct Score {
    planted: usize,
    found: usize,
    /// New errors and warnings by other rules in the files of the mistake.
    beside: usize,
    /// New errors and warnings anywhere else.
    elsewhere: usize,
}

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let value = |name: &str| arguments.iter().position(|a| a == name).and_then(|at| arguments.get(at + 1));
    let number = |name: &str, usual: u64| value(name).and_then(|text| text.parse().ok()).unwrap_or(usual);
    let folder = Path::new(arguments.first().ok_or("a folder is needed")?);
    let (each, show) = (number("--each", 50) as usize, arguments.iter().any(|a| a == "--show"));
    let mut random = Random(number("--seed", 20_261_130));
    let copy = copied(folder)?;
    let site = disk::load(copy.path())?.site;
    let before = told(&site);
    let mut scores: BTreeMap<&str, Score> = BTreeMap::new();
    for (rule, plant) in PLANTS.iter().filter(|(rule, _)| value("--rule").is_none_or(|only| only == rule)) {
        let score = scores.entry(rule).or_default();
        for mistake in some_of(plant(&site), each, &mut random) {
            write(copy.path(), &mistake.changes, |change| change.new.as_deref())?;
            let after = told(&disk::load(copy.path())?.site);
            write(copy.path(), &mistake.changes, |change| change.old.as_deref())?;
            let new: Vec<&Told> =
                after.keys().filter(|told| after[told] > before.get(told).copied().unwrap_or(0)).collect();
            let is_here = |told: &&&Told| mistake.files.contains(&told.file);
            let found = new.iter().any(|told| told.rule == *rule && is_here(&told));
            let others = new.iter().filter(|told| told.rule != *rule && told.severity != Severity::Hint);
            let (beside, elsewhere): (Vec<&&Told>, Vec<&&Told>) = others.partition(is_here);
            let more =
                new.iter().filter(|told| told.rule == *rule && !is_here(told) && told.severity != Severity::Hint);
            let elsewhere: Vec<&&Told> = elsewhere.into_iter().chain(more).collect();
            score.planted += 1;
            score.found += usize::from(found);
            score.beside += beside.len();
            score.elsewhere += elsewhere.len();
            if show && !found {
                println!("missed {rule}: {}", mistake.words());
            }
            if show {
                beside.iter().for_each(|told| println!("beside {rule}: {told:?}"));
                elsewhere.iter().for_each(|told| println!("elsewhere {rule}: {told:?} of {}", mistake.words()));
            }
        }
    }
    let severity = |id: &str| radicon::check::RULES.iter().find(|rule: &&Rule| rule.id == id).map(|rule| rule.severity);
    let mut sums: BTreeMap<Severity, (usize, usize)> = BTreeMap::new();
    println!("{:18} {:8} {:>7} {:>7} {:>7} {:>9}", "rule", "severity", "planted", "found", "beside", "elsewhere");
    for (rule, score) in &scores {
        let severity = severity(rule).ok_or("a rule that is not there")?;
        println!(
            "{rule:18} {:8} {:7} {:7} {:7} {:9}",
            severity.word(),
            score.planted,
            score.found,
            score.beside,
            score.elsewhere
        );
        let sum = sums.entry(severity).or_default();
        *sum = (sum.0 + score.found, sum.1 + score.planted);
    }
    for (severity, (found, planted)) in sums {
        println!("{}s: {found} of {planted} found ({:.1} %)", severity.word(), 100.0 * found as f64 / planted as f64);
    }
    Ok(())
}

/// A finding but for its place in the file.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
struct Told {
    rule: &'static str,
    severity: Severity,
    file: String,
    message: String,
}

/// How often each finding is told.
fn told(site: &Site) -> BTreeMap<Told, usize> {
    let mut told = BTreeMap::new();
    for one in check(site).findings {
        *told
            .entry(Told { rule: one.rule, severity: one.severity, file: one.file, message: one.message })
            .or_default() += 1;
    }
    told
}

/// A copy of a folder, without what is hidden.
fn copied(folder: &Path) -> Result<tempfile::TempDir, Box<dyn std::error::Error>> {
    let copy = tempfile::tempdir()?;
    for entry in ignore::WalkBuilder::new(folder).standard_filters(false).build() {
        let entry = entry?;
        let to = copy.path().join(entry.path().strip_prefix(folder)?);
        if entry.file_type().is_some_and(|kind| kind.is_file()) {
            std::fs::create_dir_all(to.parent().ok_or("no folder")?)?;
            std::fs::copy(entry.path(), to)?;
        }
    }
    Ok(copy)
}

/// Writes one side of changes.
fn write(folder: &Path, changes: &[Change], side: impl Fn(&Change) -> Option<&[u8]>) -> std::io::Result<()> {
    for change in changes {
        match side(change) {
            Some(bytes) => std::fs::write(folder.join(&change.path), bytes)?,
            None => std::fs::remove_file(folder.join(&change.path))?,
        }
    }
    Ok(())
}

/// So many of the mistakes, in other files as long as there are some.
fn some_of(mistakes: Vec<Mistake>, count: usize, random: &mut Random) -> Vec<Mistake> {
    let mut files: BTreeMap<String, usize> = BTreeMap::new();
    let mut mixed: Vec<(usize, u64, Mistake)> =
        mistakes.into_iter().map(|mistake| (0, random.next(), mistake)).collect();
    mixed.sort_by_key(|(_, number, _)| *number);
    for (round, _, mistake) in &mut mixed {
        let seen = files.entry(mistake.changes[0].path.clone()).or_default();
        *round = *seen;
        *seen += 1;
    }
    mixed.sort_by_key(|(round, number, _)| (*round, *number));
    mixed.into_iter().take(count).map(|(_, _, mistake)| mistake).collect()
}

impl Mistake {
    /// A text of one file takes the place of another one.
    fn new(template: &Template, edits: &[(Span, &[u8])]) -> Self {
        let mut new = template.source.to_vec();
        let mut edits = edits.to_vec();
        edits.sort_by_key(|(span, _)| std::cmp::Reverse(*span));
        for (span, text) in edits {
            new.splice(span.start as usize..span.end as usize, text.iter().copied());
        }
        let change = Change { path: template.path.clone(), old: Some(template.source.to_vec()), new: Some(new) };
        Self { changes: vec![change], files: BTreeSet::from([template.path.clone()]) }
    }

    /// What changes, in short: the first line that differs.
    fn words(&self) -> String {
        let change = &self.changes[0];
        let text = |side: &Option<Vec<u8>>| String::from_utf8_lossy(side.as_deref().unwrap_or_default()).into_owned();
        let (old, new) = (text(&change.old), text(&change.new));
        let line = old.lines().zip(new.lines()).position(|(old, new)| old != new).unwrap_or(0);
        let of = |text: &str| text.lines().nth(line).unwrap_or_default().trim().to_owned();
        format!("{}:{}: {} => {}", change.path, line + 1, of(&old), of(&new))
    }
}

/// Mistakes in each tag of each template.
fn in_tags(site: &Site, make: impl Fn(&Template, ConstructId, &Construct) -> Option<Mistake>) -> Vec<Mistake> {
    let of = |template: &Template| {
        let tags = ConstructId::each(&template.constructs.items).filter(|(_, item)| item.inside == Inside::Nothing);
        tags.filter_map(|(at, item)| make(template, at, item)).collect::<Vec<_>>()
    };
    site.templates.iter().flat_map(of).collect()
}

/// A word with two letters swapped, somewhere in its middle; `None` if that leaves it as it is.
fn slip(word: &[u8]) -> Option<Vec<u8>> {
    let swapped = |at: usize| {
        let mut word = word.to_vec();
        word.swap(at, at + 1);
        word
    };
    let is_letter = |at: usize| word[at].is_ascii_alphanumeric() && word[at + 1].is_ascii_alphanumeric();
    (1..word.len().saturating_sub(1)).filter(|&at| is_letter(at)).map(swapped).find(|new| new != word)
}

fn misspelt_targets(site: &Site) -> Vec<Mistake> {
    let mut found = Vec::new();
    for id in site.ids() {
        let template = site.get(id);
        for (at, target) in site.links(id).targets() {
            let item = &template.constructs.items[at];
            // The slip is in the file's name.
            let written = item.target.of(&template.source);
            let name = written.iter().rposition(|b| b"/:.".contains(b) && written.len() > 8).map_or(0, |at| at + 1);
            let stem = written.iter().rposition(|&b| b == b'/' || b == b':').map_or(0, |at| at + 1);
            let from = if written[name..].len() < 5 { stem } else { name };
            if let (Ok(_), Some(new)) = (target, slip(&written[from..])) {
                let span = Span::new(item.target.start + from as u32, item.target.end);
                found.push(Mistake::new(template, &[(span, &new)]));
            }
        }
    }
    found
}

fn renamed_partials(site: &Site) -> Vec<Mistake> {
    let mut users: BTreeMap<&str, BTreeSet<String>> = BTreeMap::new();
    for id in site.ids() {
        for (_, target) in site.links(id).targets() {
            if let Ok(target) = target {
                users.entry(&site.get(*target).path).or_default().insert(site.get(id).path.clone());
            }
        }
    }
    // Another file of that name takes its place.
    let twins: BTreeSet<SourceId> = site.hiding().into_iter().flat_map(|(one, other)| [one, other]).collect();
    users.retain(|path, _| site.find(path).is_some_and(|id| !twins.contains(&id)));
    let renamed = |(path, mut files): (&str, BTreeSet<String>)| {
        let (stem, suffix) = path.rsplit_once('.').unwrap_or((path, ""));
        let old = site.get(site.find(path).expect("a template")).source.to_vec();
        files.remove(path);
        let there = Change { path: format!("{stem}_old.{suffix}"), old: None, new: Some(old.clone()) };
        let gone = Change { path: path.to_owned(), old: Some(old), new: None };
        Mistake { changes: vec![gone, there], files }
    };
    users.into_iter().map(renamed).filter(|mistake| !mistake.files.is_empty()).collect()
}

fn includes_of_itself(site: &Site) -> Vec<Mistake> {
    let mut found = Vec::new();
    for id in site.ids() {
        for (at, target) in site.links(id).targets() {
            let (template, Ok(target)) = (site.get(id), target) else { continue };
            let (item, target) = (&template.constructs.items[at], site.get(*target));
            if item.kind == Kind::Include && item.part == Part::Single && item.inside == Inside::Nothing {
                let end = target.source.len() as u32;
                found.push(Mistake::new(target, &[(Span::new(end, end), item.span.of(&template.source))]));
            }
        }
    }
    found
}

fn dropped_closers(site: &Site) -> Vec<Mistake> {
    in_tags(site, |template, _, item| {
        let is_closer = item.part == Part::Close && item.partner.is_some() && !item.span.is_empty();
        is_closer.then(|| Mistake::new(template, &[(item.span, b"")]))
    })
}

fn swapped_closers(site: &Site) -> Vec<Mistake> {
    in_tags(site, |template, at, item| {
        let source = &template.source;
        let next = template.constructs.items.get(at.next().index())?;
        let closes = |item: &Construct| item.part == Part::Close && item.partner.is_some() && !item.span.is_empty();
        let (this, that) = (item.span.of(source), next.span.of(source));
        let between = Span::new(item.span.end, next.span.start.max(item.span.end)).of(source);
        (closes(item) && closes(next) && this != that && between.trim_ascii().is_empty())
            .then(|| Mistake::new(template, &[(item.span, that), (next.span, this)]))
    })
}

fn halved_delimiters(site: &Site) -> Vec<Mistake> {
    in_tags(site, |template, _, item| {
        let text = item.span.of(&template.source);
        let is_sign = |b: &u8| b.is_ascii_punctuation();
        let length = text.iter().rev().take_while(|b| is_sign(b)).count();
        (length == 2 && matches!(item.part, Part::Single | Part::Open | Part::Close) && item.kind != Kind::Comment)
            .then(|| Mistake::new(template, &[(Span::new(item.span.end - 2, item.span.end - 1), b"")]))
    })
}

/// Kinds whose tags begin with a word of the dialect.
fn has_word(kind: Kind) -> bool {
    !matches!(kind, Kind::Output | Kind::Comment | Kind::Code | Kind::Other)
}

fn misspelt_words(site: &Site) -> Vec<Mistake> {
    in_tags(site, |template, _, item| {
        let text = item.span.of(&template.source);
        let start = text.iter().position(u8::is_ascii_alphabetic).filter(|&at| at <= 4)?;
        let length = text[start..].iter().take_while(|b| b.is_ascii_alphanumeric() || **b == b'_').count();
        let word = &text[start..start + length];
        let new = slip(word).filter(|_| has_word(item.kind) && item.part != Part::Attribute && length >= 4)?;
        let at = item.span.start + start as u32;
        Some(Mistake::new(template, &[(Span::new(at, at + length as u32), &new)]))
    })
}

/// From a pair's opening tag to its closing one.
fn whole(template: &Template, item: &Construct) -> Option<Span> {
    let close = template.constructs.partner(item)?;
    Some(Span::new(item.span.start, close.span.end))
}

fn repeated_blocks(site: &Site) -> Vec<Mistake> {
    in_tags(site, |template, _, item| {
        let span = whole(template, item).filter(|_| item.part == Part::Open && item.kind == Kind::Block)?;
        let at = Span::new(span.end, span.end);
        Some(Mistake::new(template, &[(at, span.of(&template.source))]))
    })
}

/// The children whose layouts are all here, with the overrides of each that some layout has.
fn overrides(site: &Site) -> Vec<(&Template, Vec<(ConstructId, &Construct)>)> {
    let resolver = Resolver::new(site);
    let of = |id: SourceId| {
        let chain = matches!(site.parent(id), Parent::Found { .. }).then(|| resolver.chain(id))?;
        let template = site.get(id);
        let above = |name: &[u8]| {
            chain.levels[1..].iter().any(|&id| {
                let layout = site.get(id);
                layout.regions().any(|(_, region)| region.name.of(&layout.source) == name)
            })
        };
        let found = template.outermost().filter(|(_, item)| above(item.name.of(&template.source))).collect();
        chain.broken.is_none().then_some((template, found))
    };
    site.ids().filter_map(of).collect()
}

fn misspelt_blocks(site: &Site) -> Vec<Mistake> {
    let mut found = Vec::new();
    for (template, overrides) in overrides(site) {
        for (_, item) in overrides {
            let Some(new) = slip(item.name.of(&template.source)) else { continue };
            let close = template.constructs.partner(item).map(|close| close.name);
            let spans = std::iter::once(item.name).chain(close.filter(|name| !name.is_empty()));
            let edits: Vec<(Span, &[u8])> = spans.map(|span| (span, &new[..])).collect();
            found.push(Mistake::new(template, &edits));
        }
    }
    found
}

fn dropped_overrides(site: &Site) -> Vec<Mistake> {
    let required = |template: &Template, name: &[u8]| {
        template
            .regions()
            .any(|(_, region)| region.name.of(&template.source) == name && region.form(&template.dialect).required)
    };
    let mut found = Vec::new();
    for (template, overrides) in overrides(site) {
        for (_, item) in overrides {
            let name = item.name.of(&template.source);
            if let Some(span) = whole(template, item)
                && site.templates.iter().any(|layout| required(layout, name))
            {
                found.push(Mistake::new(template, &[(span, b"")]));
            }
        }
    }
    found
}

fn swapped_overrides(site: &Site) -> Vec<Mistake> {
    let mut found = Vec::new();
    for (template, overrides) in overrides(site) {
        for pair in overrides.windows(2) {
            let (Some(one), Some(other)) = (whole(template, pair[0].1), whole(template, pair[1].1)) else { continue };
            let (this, that) = (one.of(&template.source), other.of(&template.source));
            found.push(Mistake::new(template, &[(one, that), (other, this)]));
        }
    }
    found
}

fn stray_fragments(site: &Site) -> Vec<Mistake> {
    let mut found = Vec::new();
    for (template, _) in overrides(site) {
        let Some(parent) = template.parent().filter(|_| template.dialect.rules.loose != Loose::Body) else { continue };
        let last = template.blocks().filter_map(|(_, item)| whole(template, item)).map(|span| span.end).max();
        let at = last.unwrap_or(parent.span.end);
        found.push(Mistake::new(template, &[(Span::new(at, at), b"\n<p>The last ferry has left.</p>\n")]));
    }
    found
}

fn lost_parents(site: &Site) -> Vec<Mistake> {
    let lost = |(template, overrides): (&Template, Vec<_>)| {
        // Of a file with nothing else nothing is left.
        let is_line = |parent: &&Construct| parent.partner.is_none() && parent.inside == Inside::Nothing;
        let parent = template.parent().filter(|parent| is_line(parent) && !overrides.is_empty())?;
        Some(Mistake::new(template, &[(parent.span, b"")]))
    };
    overrides(site).into_iter().filter_map(lost).collect()
}

/// The values of attributes of a template that are written out, each with its name and its element's start.
fn attributes(template: &Template) -> Vec<(Vec<u8>, Span, u32)> {
    let document = Document::with_constructs(&template.source, template.constructs.clone());
    let mut found = Vec::new();
    for node in document.nodes.iter().filter(|node| node.kind == NodeKind::Element) {
        let tokens = &document.tokens_between(node.first, node.inner);
        for token in tokens.iter().filter(|token| token.kind == TokenKind::Attribute) {
            let value = token.value(&template.source).filter(|value| !value.is_empty());
            let written = value.filter(|value| {
                value.of(&template.source).iter().all(|b| b.is_ascii_alphanumeric() || b"-_#".contains(b))
            });
            let name = token.name().of(&template.source).to_ascii_lowercase();
            found.extend(written.map(|value| (name, value, document.tokens[node.first].start)));
        }
    }
    found
}

fn repeated_ids(site: &Site) -> Vec<Mistake> {
    let of = |template: &Template| {
        let ids = attributes(template).into_iter().filter(|(name, ..)| name == b"id");
        let twice = ids.map(|(_, value, start)| {
            let text = format!("<i id=\"{}\"></i>", value.text(&template.source));
            Mistake::new(template, &[(Span::new(start, start), text.as_bytes())])
        });
        twice.collect::<Vec<_>>()
    };
    site.templates.iter().flat_map(of).collect()
}

fn misspelt_ids(site: &Site) -> Vec<Mistake> {
    let of = |template: &Template| {
        let all = attributes(template);
        let known: BTreeSet<&[u8]> =
            all.iter().filter(|(name, ..)| name == b"id").map(|(_, value, _)| value.of(&template.source)).collect();
        let named = all.iter().filter_map(|(name, value, _)| {
            let text = value.of(&template.source);
            let (hash, id) = match text.strip_prefix(b"#") {
                Some(id) if name == b"href" => (1, id),
                None if name == b"for" || name.starts_with(b"aria-") => (0, text),
                _ => return None,
            };
            let new = slip(id).filter(|new| known.contains(id) && !known.contains(&new[..]))?;
            Some(Mistake::new(template, &[(Span::new(value.start + hash, value.end), &new)]))
        });
        named.collect::<Vec<_>>()
    };
    site.templates.iter().flat_map(of).collect()
}

/// Copies in which one word is another one; those of groups with so many that one may have been left behind.
fn changed_copies(site: &Site) -> Vec<Mistake> {
    const COPIES: usize = 6;
    let mut found = Vec::new();
    for group in repeats(site, &RepeatOptions::default()).groups.iter().filter(|g| g.copies.len() >= COPIES) {
        for copy in &group.copies {
            let template = site.get(site.find(&copy.file).expect("a template"));
            let text = Span::new(copy.byte_start, copy.byte_end).of(&template.source);
            // In a class, or before a word of the text.
            let class = text.windows(7).position(|part| part == b"class=\"").map(|at| at + 7);
            let word =
                text.windows(2).position(|part| part[0] == b'>' && part[1].is_ascii_alphabetic()).map(|at| at + 1);
            let Some(at) = class.or(word).map(|at| copy.byte_start + at as u32) else { continue };
            found.push(Mistake::new(template, &[(Span::new(at, at), b"old ")]));
        }
    }
    found
}

fn dropped_includes(site: &Site) -> Vec<Mistake> {
    let mut uses: BTreeMap<&str, Vec<(&Template, &Construct)>> = BTreeMap::new();
    for id in site.ids() {
        let template = site.get(id);
        for (at, target) in site.links(id).targets() {
            if let Ok(target) = target {
                uses.entry(&site.get(*target).path).or_default().push((template, &template.constructs.items[at]));
            }
        }
    }
    let dropped = |(path, uses): (&str, Vec<(&Template, &Construct)>)| {
        let [(template, item)] = uses[..] else { return None };
        let fits = item.kind == Kind::Include && item.part == Part::Single && item.inside == Inside::Nothing;
        let mistake = fits.then(|| Mistake::new(template, &[(item.span, b"")]))?;
        Some(Mistake { files: BTreeSet::from([path.to_owned()]), ..mistake })
    };
    uses.into_iter().filter_map(dropped).collect()
}

/// Own-file tags of other files, put where nothing needs them.
fn idle_loads(site: &Site) -> Vec<Mistake> {
    let tags = |id: SourceId| {
        let template = site.get(id);
        site.own_file_tags(id).iter().map(|&at| template.constructs.items[at].span.of(&template.source))
    };
    let all: BTreeSet<&[u8]> = site.ids().flat_map(tags).collect();
    let mut found = Vec::new();
    for id in site.ids() {
        let (template, own) = (site.get(id), tags(id).collect::<BTreeSet<_>>());
        let at = template.parent().map_or(0, |parent| parent.span.end);
        for tag in all.iter().filter(|tag| !own.contains(*tag)) {
            found.push(Mistake::new(template, &[(Span::new(at, at), tag)]));
        }
    }
    found
}
