//! Which arguments name files, and how names become files.

use std::collections::{BTreeMap, BTreeSet};

use rayon::prelude::*;
use rustc_hash::{FxHashMap, FxHashSet};

use crate::read::corpus::{Corpus, Index, Naming, application};
use crate::read::corpus::{FileId, TextId};
use crate::read::directives::DirectiveId;
use crate::read::directives::{Directive, Slot, arguments_of};
use crate::read::tags::TagId;
use crate::read::tags::{Tag, token_text};
use crate::site::folder;
use crate::thresholds::{
    IN_RINGS, LEAST_PLACED, LONGEST_NAME, MOST_BY_CHANCE, RESOLVED, RESOLVED_BARE, SHOWING_RULE, SOME, UNSEEN,
};

/// An argument of a directive that names files.
#[derive(Clone, Debug)]
pub(crate) struct Reference {
    pub directive: DirectiveId,
    pub slot: Slot,
    pub naming: Naming,
    /// Other suffixes that names leave out.
    pub suffixes: Vec<String>,
    /// For each tag that names a file: the tag and the file.
    pub edges: Edges,
    /// How many tags have a complete literal there.
    pub literals: usize,
    /// How many of them have a folder in front.
    pub paths: usize,
    /// Whether it is on its own evidence.
    pub strong: bool,
    /// Its names become files as those of the site usually do: what includes follows one rule.
    pub is_usual: bool,
}

impl Reference {
    pub fn share(&self) -> f64 {
        self.edges.len() as f64 / self.literals.max(1) as f64
    }

    /// Whether many of the files that it names name each other in rings.
    fn goes_in_rings(&self, corpus: &Corpus, index: &Index<'_>, tags: &[Tag]) -> bool {
        let other = |&(tag, file): &(TagId, FileId)| {
            let (from, to) = (tags[tag].file, *corpus.by_path.get(index.path(file))?);
            (from != to).then_some((from, to))
        };
        let mut edges: Vec<(TextId, TextId)> = self.edges.iter().filter_map(other).collect();
        // What nobody names, or what names nobody, is in no ring.
        loop {
            let (from, to): (FxHashSet<TextId>, FxHashSet<TextId>) = edges.iter().copied().unzip();
            let before = edges.len();
            edges.retain(|(a, b)| to.contains(a) && from.contains(b));
            if edges.len() == before {
                break;
            }
        }
        edges.len() >= 2 && edges.len() as f64 > IN_RINGS * self.edges.len() as f64
    }
}

/// By prefix and suffix: tags, files, and what parts the folders of the name.
type Votes = FxHashMap<(String, String), Vec<(TagId, FileId, String)>>;

/// Tags, and the files that they name.
type Edges = Vec<(TagId, FileId)>;

const SEPARATORS: [&str; 5] = ["/", ".", "::", ":", "\\"];

/// All arguments that name files often enough to be no accident. What is in `comments` names nothing.
pub(crate) fn find(
    corpus: &Corpus,
    index: &Index<'_>,
    tags: &[Tag],
    directives: &[Directive],
    comments: &FxHashSet<DirectiveId>,
) -> Vec<Reference> {
    let looked_at = (0..directives.len()).into_par_iter().map(DirectiveId::at).filter(|id| !comments.contains(id));
    let mut slots: Vec<SlotUse> = looked_at.flat_map_iter(|id| slots_of(corpus, index, tags, directives, id)).collect();
    keep_places(tags, directives, &mut slots);
    let (rule, roots) = usual_rule(corpus, index, tags, directives, &slots);
    let chance = Chance::of(&slots, rule.as_ref());
    let mut named: Vec<(SlotUse, Reference)> = Vec::new();
    for slot in slots {
        let Some(mut reference) = slot.reference(rule.as_ref()) else { continue };
        if slot.with_folder.is_empty() && !roots.is_empty() {
            // Where names say their folder, a bare one means a file beside or in a root.
            reference.edges.retain(|&(tag, file)| {
                let beside = folder(index.path(file));
                roots.contains(beside) || beside == folder(&corpus.texts[tags[tag].file].path)
            });
        }
        if !reference.goes_in_rings(corpus, index, tags) {
            named.push((slot, reference));
        }
    }
    // A word is judged over all that it is followed by.
    let word = |slot: &SlotUse| (directives[slot.directive].word(), slot.slot.lead.clone());
    let mut places: BTreeMap<_, Place> = BTreeMap::new();
    named.iter().for_each(|(slot, reference)| places.entry(word(slot)).or_default().add(slot, reference));
    let mut found: Vec<Reference> = Vec::new();
    for (slot, mut reference) in named {
        let place = &places[&word(&slot)];
        let is_bare = place.with_folder == 0;
        let expected = chance.expected(place.resolved, place.names.len());
        // A name that is written often may be third-party file.
        let by_name = if roots.is_empty() { place.resolved as f64 / place.names.len().max(1) as f64 } else { 0.0 };
        let is_chance = place.is_single() && reference.naming.prefix.is_empty()
            || place.share().max(by_name) < RESOLVED_BARE
            || expected >= MOST_BY_CHANCE && !directives[slot.directive].names_file;
        let holds = if is_bare { !is_chance } else { place.share() >= RESOLVED };
        let asked = !is_bare && place.share() >= 0.25;
        reference.strong = holds && place.edges >= if is_bare { SHOWING_RULE } else { 2 };
        if holds || asked {
            found.push(reference);
        }
    }
    // Of one directive only the argument that names most files.
    found.sort_by_key(|c| (c.directive, std::cmp::Reverse((c.strong, c.edges.len()))));
    found.dedup_by(|b, a| a.directive == b.directive && (a.slot.lead != b.slot.lead));
    found
}

/// The texts in one place of a word's tags, whatever follows.
#[derive(Default)]
struct Place {
    edges: usize,
    literals: usize,
    with_folder: usize,
    names: BTreeSet<String>,
    /// How many of the names are files.
    resolved: usize,
}

impl Place {
    fn add(&mut self, slot: &SlotUse, reference: &Reference) {
        self.edges += reference.edges.len();
        self.literals += reference.literals;
        self.with_folder += slot.with_folder.len();
        for (name, prefixes) in &slot.names {
            let is_file = prefixes.contains(&reference.naming.prefix) || prefixes.contains("");
            self.resolved += usize::from(self.names.insert(name.clone()) && is_file);
        }
    }

    /// Whether it names one file, now and then: a word that is one by chance, if nothing is put before it.
    fn is_single(&self) -> bool {
        self.resolved < 2 && self.edges < SHOWING_RULE
    }

    /// The share of what is there that names a file.
    fn share(&self) -> f64 {
        self.edges as f64 / self.literals.max(1) as f64
    }
}

/// The texts in one place of a directive's tags.
struct SlotUse {
    directive: DirectiveId,
    slot: Slot,
    /// How many tags have something there, and how many a complete literal.
    uses: usize,
    literals: usize,
    votes: Votes,
    /// The names that are written, each with the prefixes of the files that it may mean.
    names: BTreeMap<String, BTreeSet<String>>,
    /// Those with a folder or suffix that are files.
    with_folder: BTreeSet<String>,
}

/// The texts in each place of a directive's tags.
fn slots_of(
    corpus: &Corpus,
    index: &Index<'_>,
    tags: &[Tag],
    directives: &[Directive],
    directive: DirectiveId,
) -> Vec<SlotUse> {
    let mut slots: BTreeMap<Slot, SlotUse> = BTreeMap::new();
    for &at in &directives[directive].tags {
        let tag = &tags[at];
        let text = &corpus.texts[tag.file].text;
        for argument in arguments_of(text, tag, directives[directive].taken) {
            let slot = argument.slot.clone();
            let known = slots.entry(slot).or_insert_with(|| SlotUse {
                directive,
                slot: argument.slot.clone(),
                uses: 0,
                literals: 0,
                votes: Votes::default(),
                names: BTreeMap::new(),
                with_folder: BTreeSet::new(),
            });
            known.uses += 1;
            if argument.complete {
                known.literals += 1;
                known.look_up(corpus, index, tags, at, argument.token);
            }
        }
    }
    slots.into_values().collect()
}

impl SlotUse {
    fn look_up(&mut self, corpus: &Corpus, index: &Index<'_>, tags: &[Tag], at: TagId, token: usize) {
        let tag = &tags[at];
        let text = &corpus.texts[tag.file];
        let written = token_text(&text.text, &tag.tokens[token]);
        if written.is_empty() || written.len() > LONGEST_NAME || written.contains(['<', '\n', ' ', '{']) {
            return;
        }
        // A name that is written with slashes keeps its dots; one behind an application's name has its own.
        let plain = application(written).map_or(written, |(_, rest)| rest);
        let separators = if plain.contains('/') { &SEPARATORS[..1] } else { &SEPARATORS[..] };
        let readings = index.readings(written, separators);
        // Of several files the one whose path has most in common with the naming one.
        let mut best: FxHashMap<(&str, &str), (usize, FileId, &str)> = FxHashMap::default();
        for (naming, file) in &readings {
            let path = index.path(*file);
            if path == text.path && readings.len() > 1 {
                continue;
            }
            let near = path.bytes().zip(text.path.bytes()).take_while(|(a, b)| a == b).count();
            let entry = best.entry((&naming.prefix, &naming.suffix)).or_insert((near, *file, &naming.separator));
            if near > entry.0 {
                *entry = (near, *file, &naming.separator);
            }
        }
        let prefixes = self.names.entry(written.to_owned()).or_default();
        for ((prefix, suffix), (_, file, separator)) in best {
            prefixes.insert(prefix.to_owned());
            self.votes.entry((prefix.into(), suffix.into())).or_default().push((at, file, separator.to_owned()));
        }
        if !readings.is_empty() && written.contains(['/', '.', ':']) {
            self.with_folder.insert(written.to_owned());
        }
    }

    /// How many of its names are files, and their share.
    fn resolved(&self, naming: &Naming) -> (usize, f64) {
        let is_file = |prefixes: &&BTreeSet<String>| prefixes.contains(&naming.prefix) || prefixes.contains("");
        let files = self.names.values().filter(is_file).count();
        (files, files as f64 / self.names.len().max(1) as f64)
    }

    /// How its names become files, by the site's rule where that explains any.
    fn reference(&self, rule: Option<&Rule>) -> Option<Reference> {
        let (naming, suffixes, mut edges) = usual(&self.votes, rule)?;
        edges.sort_unstable();
        (!edges.is_empty()).then(|| Reference {
            directive: self.directive,
            slot: self.slot.clone(),
            suffixes,
            edges,
            literals: self.literals,
            paths: self.with_folder.len(),
            strong: false,
            is_usual: rule.is_none_or(|rule| rule.explains(&naming)),
            naming,
        })
    }
}

/// Leaves out places in which hardly any of a word's tags have something.
fn keep_places(tags: &[Tag], directives: &[Directive], slots: &mut Vec<SlotUse>) {
    let word = |directive: DirectiveId| directives[directive].word();
    let mut all: FxHashMap<_, usize> = FxHashMap::default();
    for (id, directive) in DirectiveId::each(directives) {
        *all.entry(word(id)).or_default() += directive.tags.iter().filter(|&&at| !tags[at].tokens.is_empty()).count();
    }
    let mut placed: FxHashMap<_, usize> = FxHashMap::default();
    for slot in slots.iter() {
        *placed.entry((word(slot.directive), slot.slot.lead.clone())).or_default() += slot.uses;
    }
    slots.retain(|slot| {
        let word = word(slot.directive);
        LEAST_PLACED.reached(placed[&(word, slot.slot.lead.clone())], all[&word])
    });
}

/// How the names of a site become files.
struct Rule {
    /// What is put before them: parts may have a sign that layouts have not.
    prefixes: BTreeSet<String>,
    /// The suffixes that may come after them.
    suffixes: BTreeSet<String>,
}

impl Rule {
    fn explains(&self, naming: &Naming) -> bool {
        self.prefixes.contains(&naming.prefix) && self.suffixes.contains(&naming.suffix)
    }
}

/// The rule of most names that show one, and the folders where names begin that say their folder.
fn usual_rule<'f>(
    corpus: &Corpus,
    index: &Index<'f>,
    tags: &[Tag],
    directives: &[Directive],
    slots: &[SlotUse],
) -> (Option<Rule>, BTreeSet<&'f str>) {
    let mut prefixes: BTreeMap<String, usize> = BTreeMap::new();
    let mut suffixes: BTreeSet<String> = BTreeSet::new();
    let mut roots: BTreeSet<&str> = BTreeSet::new();
    for slot in slots {
        let Some(reference) = slot.reference(None) else { continue };
        let (least, by_name) = match slot.with_folder.is_empty() {
            true => (RESOLVED_BARE, slot.resolved(&reference.naming).1),
            false => (RESOLVED, 0.0),
        };
        let is_few = reference.edges.len() < SHOWING_RULE || slot.names.len() < 2;
        if is_few || reference.share().max(by_name) < least || reference.goes_in_rings(corpus, index, tags) {
            continue;
        }
        *prefixes.entry(reference.naming.prefix.clone()).or_default() += reference.edges.len();
        suffixes.insert(reference.naming.suffix.clone());
        suffixes.extend(reference.suffixes.iter().cloned());
        for &(tag, file) in reference.edges.iter().filter(|_| !slot.with_folder.is_empty()) {
            let text = &corpus.texts[tags[tag].file].text;
            let taken = directives[slot.directive].taken;
            let name = arguments_of(text, &tags[tag], taken).into_iter().find(|argument| argument.slot == slot.slot);
            let name = name.map_or("", |argument| token_text(text, &tags[tag].tokens[argument.token]));
            let folders = crate::read::corpus::strip_start(name).matches(reference.naming.separator.as_str()).count();
            if folders > 0 {
                let path = index.path(file);
                roots.insert((0..=folders).fold(path, |path, _| folder(path)));
            }
        }
    }
    let most = prefixes.values().copied().max().unwrap_or(0);
    prefixes.retain(|_, uses| SOME.reached(*uses, most));
    let prefixes: BTreeSet<String> = prefixes.into_keys().collect();
    ((!prefixes.is_empty()).then_some(Rule { prefixes, suffixes }), roots)
}

/// How often what is in tags is a file's name by chance.
struct Chance {
    /// The share of names that are, where nothing is named.
    share: f64,
    /// How many places are looked at.
    places: usize,
}

impl Chance {
    fn of(slots: &[SlotUse], rule: Option<&Rule>) -> Self {
        let (mut hits, mut names, mut places) = (0, 0, 0);
        for slot in slots {
            let is_hit = |prefixes: &&BTreeSet<String>| match rule {
                Some(rule) => !prefixes.is_disjoint(&rule.prefixes),
                None => !prefixes.is_empty(),
            };
            let own = slot.names.values().filter(is_hit).count();
            if (own as f64) < RESOLVED * slot.names.len() as f64 {
                (hits, names, places) = (hits + own, names + slot.names.len(), places + 1);
            }
        }
        Self { share: (hits as f64 + UNSEEN) / (names as f64 + 1.0), places: places + 1 }
    }

    /// In how many places one would expect so many files among so many names.
    fn expected(&self, hits: usize, names: usize) -> f64 {
        // The upper tail of the binomial distribution.
        let mut term = (1.0 - self.share).powi(names as i32);
        let mut below = 0.0;
        for k in 0..hits {
            below += term;
            term *= self.share / (1.0 - self.share) * (names - k) as f64 / (k + 1) as f64;
        }
        self.places as f64 * (1.0 - below).max(0.0)
    }
}

/// The way in which most names are written: separator, prefix and suffix, other suffixes, and who names what.
fn usual(votes: &Votes, rule: Option<&Rule>) -> Option<(Naming, Vec<String>, Edges)> {
    // A name may be written with and without its suffix; the most frequent way counts.
    let most = |a: &(&(String, String), &Vec<_>), b: &(&(String, String), &Vec<_>)| {
        a.1.len().cmp(&b.1.len()).then_with(|| b.0.cmp(a.0))
    };
    let by_rule =
        votes.iter().filter(|(naming, _)| rule.is_none_or(|rule| rule.prefixes.contains(&naming.0))).max_by(most);
    let (naming, found) = by_rule.or_else(|| votes.iter().max_by(most))?;
    // Names are looked for with a sign before them and without: where some files have one, that is the rule.
    let with_sign = votes.iter().filter(|((prefix, suffix), uses)| {
        !prefix.is_empty()
            && naming.0.is_empty()
            && *suffix == naming.1
            && rule.is_none_or(|rule| rule.prefixes.contains(prefix))
            && SOME.reached(uses.len(), found.len())
    });
    let (naming, found) = with_sign.max_by(most).unwrap_or((naming, found));
    let mut separators: BTreeMap<&str, usize> = BTreeMap::new();
    found
        .iter()
        .filter(|(_, _, separator)| separator != "/")
        .for_each(|(_, _, s)| *separators.entry(s).or_default() += 1);
    let separator =
        separators.into_iter().max_by_key(|(_, uses)| *uses).map_or("/", |(separator, _)| separator).to_owned();
    let mut edges: Edges = found.iter().map(|(tag, file, _)| (*tag, *file)).collect();
    let mut suffixes = Vec::new();
    let mut others: Vec<_> =
        votes.iter().filter(|(other, _)| (other.0 == naming.0 || other.0.is_empty()) && *other != naming).collect();
    others.sort();
    for (other, more) in others {
        let known: FxHashSet<TagId> = edges.iter().map(|(tag, _)| *tag).collect();
        let more: Vec<_> =
            more.iter().map(|(tag, file, _)| (*tag, *file)).filter(|(tag, _)| !known.contains(tag)).collect();
        if more.len() >= 2 {
            if other.1 != naming.1 {
                suffixes.push(other.1.clone());
            }
            edges.extend(more);
        }
    }
    let naming = Naming { separator, prefix: naming.0.clone(), suffix: naming.1.clone() };
    Some((naming, suffixes, edges))
}

#[cfg(test)]
mod tests {
    use crate::dialect::Kind;
    use crate::testing::{LAYOUT, check, learned, page};

    #[test]
    fn names_need_no_suffix() {
        let plain = |text: &str| text.replace("base.html", "base").replace("parts/nav.html", "parts/nav");
        let learned = learned(&plain(LAYOUT), &plain(&page("<h1>@</h1>")), &[]);
        check(&learned, Kind::Parent, &["'(= moor \"<target>\" =)'"]);
        check(&learned, Kind::Include, &["'(= bring \"<target>\" =)'"]);
        assert!(learned.text.contains("suffixes = [\".html\"]"), "{}", learned.text);
    }

    #[test]
    fn a_word_that_is_no_file_is_no_reference() {
        let learned = learned(LAYOUT, &page("<h1>@</h1>\n<p>(= light \"@\" =)</p>"), &[]);
        check(&learned, Kind::Include, &["'(= bring \"<target>\" =)'"]);
    }

    #[test]
    fn names_may_begin_with_a_sign_and_an_application() {
        let mounted = |text: &str| text.replace("parts/nav.html", "!harbour/parts/nav.html");
        let files = [
            ("apps/harbour/views/parts/nav.html", "<nav>Harbour</nav>\n"),
            ("apps/harbour/views/parts/fare.html", "<p>1</p>\n"),
        ];
        let main = page("(= bring \"!harbour/parts/fare.html\" =)<h1>x</h1>");
        let learned = learned(&mounted(LAYOUT), &main, &files);
        check(&learned, Kind::Include, &["'(= bring \"<target>\" =)'"]);
    }
}
