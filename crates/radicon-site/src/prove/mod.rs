//! Proof that no page changed.
//!
//! Every page of both sites is flattened and compared at three strengths, the
//! strongest first. A page that is equal at none of them comes with its first
//! difference and where both sides of it come from.

mod assumptions;
mod names;
mod normal;
mod rendered;

use std::collections::BTreeSet;

use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use crate::dialect::Dialect;
use crate::markup::Document;
use crate::resolve::{Flat, Kept, Origin, ProofContext, Proving, Resolver};
use crate::site::own_file::Needs;
use crate::site::{ProblemKind, Site};
use crate::text::{SourceId, Span, is_blank};

pub use assumptions::of_files as assumptions_of;
pub use assumptions::{Assumption, AssumptionAbout};
use names::Tags;
pub use normal::Normal;
pub use normal::{Shows, construct_at, may_print, normal_run, significance};
use rendered::{Rendered, rendered};

/// How equal two pages are; the strongest first.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Strength {
    /// Byte-identical.
    Bytes,
    /// Identical except for insignificant whitespace.
    Blanks,
    /// The same tree in a standard HTML parser, but for whitespace that does not show.
    Dom,
}

impl Strength {
    /// The word for it.
    pub const fn word(self) -> &'static str {
        match self {
            Strength::Bytes => "bytes",
            Strength::Blanks => "blanks",
            Strength::Dom => "dom",
        }
    }
}

/// The result for one page.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct PageProof {
    /// The page's path.
    pub page: String,
    /// How both sides compare.
    #[serde(flatten)]
    pub result: Comparison,
}

/// How two pages compare.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Comparison {
    /// They are equal, at this strength and no greater one.
    Equal(Strength),
    /// They are not; the first difference.
    Differs(Box<Difference>),
}

impl PageProof {
    /// Whether both sides are equal, at some strength.
    pub const fn is_equal(&self) -> bool {
        matches!(self.result, Comparison::Equal(_))
    }

    /// Whether both sides are equal, as strongly as this or more so.
    pub fn is_equal_at(&self, weakest: Strength) -> bool {
        matches!(self.result, Comparison::Equal(strength) if strength <= weakest)
    }

    /// The greatest strength at which both sides are equal; `None` if they are not.
    pub const fn strength(&self) -> Option<Strength> {
        match self.result {
            Comparison::Equal(strength) => Some(strength),
            Comparison::Differs(_) => None,
        }
    }

    /// The first difference, if they are not equal.
    pub const fn difference(&self) -> Option<&Difference> {
        match &self.result {
            Comparison::Equal(_) => None,
            Comparison::Differs(difference) => Some(difference),
        }
    }
}

/// The first difference between two pages.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Difference {
    /// The difference, in plain words.
    pub message: String,
    /// The place before.
    pub before: Option<Side>,
    /// The place after.
    pub after: Option<Side>,
}

/// One side of a difference.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Side {
    /// The text there, cut to a readable length; empty at the end of the page.
    pub text: String,
    /// The place that it comes from.
    pub origin: Option<Origin>,
}

/// The proof for a whole site.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[non_exhaustive]
pub struct Proof {
    /// One entry a page, sorted by path.
    pub pages: Vec<PageProof>,
    /// Whether all pages are equal at the strength asked for.
    pub equal: bool,
    /// Its assumptions that nobody has confirmed, the most frequent first.
    pub assumptions: Vec<Assumption>,
}

impl Proof {
    /// The pages that are not equal.
    pub fn different(&self) -> impl Iterator<Item = &PageProof> {
        self.pages.iter().filter(|page| !page.is_equal())
    }

    /// How many pages are equal at this strength and no greater one.
    pub fn equal_at(&self, strength: Strength) -> usize {
        self.pages.iter().filter(|page| page.strength() == Some(strength)).count()
    }
}

/// Compares all pages of two sites. `weakest` is the weakest strength that
/// still counts as equal; weaker ones are not tried.
pub fn prove(old: &Site, new: &Site, weakest: Strength) -> Proof {
    let mut paths: Vec<&str> = old.pages().map(|id| old.get(id).path.as_str()).collect();
    paths.extend(new.pages().map(|id| new.get(id).path.as_str()).filter(|path| old.find(path).is_none()));
    paths.sort_unstable();
    let prover = Prover::new(old, new, weakest);
    prover.proof(&paths)
}

/// Compares one page, named by its path, of two sites.
pub fn prove_page(old: &Site, new: &Site, path: &str, weakest: Strength) -> PageProof {
    Prover::new(old, new, weakest).page(path)
}

/// Two sites whose pages are compared.
#[derive(Debug)]
pub struct Prover<'s> {
    old: &'s Site,
    new: &'s Site,
    weakest: Strength,
    context: ProofContext,
    /// Which own-file tags the tags of the old site need.
    needs: Needs,
}

impl<'s> Prover<'s> {
    /// Two sites, and the weakest strength at which pages still count as equal.
    pub fn new(old: &'s Site, new: &'s Site, weakest: Strength) -> Self {
        Self { old, new, weakest, context: ProofContext::of([old, new]), needs: Needs::of(old) }
    }

    /// The proof for pages, named by their paths, and for files that are no pages and differ.
    pub fn proof(&self, paths: &[&str]) -> Proof {
        let mut pages = self.pages(paths);
        // What cannot be read is no page that somebody sees.
        let is_read =
            |page: &PageProof| self.old.find(&page.page).is_none_or(|id| self.old.get(id).unreadable.is_none());
        pages.retain(|page| !page.is_equal() || is_read(page));
        pages.extend(self.files_that_differ());
        let equal = pages.iter().all(|page| page.is_equal());
        Proof { pages, equal, assumptions: assumptions::of(self.old, self.new) }
    }

    /// Compares pages, named by their paths.
    fn pages(&self, paths: &[&str]) -> Vec<PageProof> {
        paths.par_iter().map(|path| self.page(path)).collect()
    }

    /// Files that are no pages and mean something else than they did, though no page may show it: those that
    /// others import, and those with a tag whose own-file tag is missing, which engines refuse as a whole.
    fn files_that_differ(&self) -> Vec<PageProof> {
        let imported = self.old.imported();
        let paths: Vec<&str> = imported.iter().map(|&id| self.old.get(id).path.as_str()).collect();
        let mut found: Vec<PageProof> = self.pages(&paths).into_iter().filter(|page| !page.is_equal()).collect();
        if !self.needs.is_empty() {
            let lacking = (0..self.new.templates.len() as u32).into_par_iter().map(SourceId);
            found.par_extend(lacking.filter_map(|id| {
                let page = self.new.get(id).path.clone();
                let message = self.lacks(id).filter(|_| !imported.iter().any(|&id| self.old.get(id).path == page))?;
                Some(PageProof { page, result: Comparison::Differs(unplaced(message)) })
            }));
        }
        found
    }

    /// Compares one page, named by its path.
    pub fn page(&self, path: &str) -> PageProof {
        let result = match (self.old.find(path), self.new.find(path)) {
            (Some(before), Some(after)) => self.compare(before, after),
            (Some(_), None) => Err(unplaced("the page is gone".into())),
            _ => Err(unplaced("the page is new".into())),
        };
        PageProof { page: path.to_owned(), result: result.map_or_else(Comparison::Differs, Comparison::Equal) }
    }

    /// Flattens a page of each site and gives the greatest strength at which they are equal.
    fn compare(&self, before: SourceId, after: SourceId) -> Result<Strength, Box<Difference>> {
        let old = self.flattened(self.old, before, "before", None)?;
        let new = self.flattened(self.new, after, "after", Some(&old.0.named))?;
        let strength = self.compare_bytes((before, &old.0), (after, &new.0))?;
        let (old, new) = (Tags::of(self.old, &old), Tags::of(self.new, &new));
        self.meaning_differs(old, new).map_or(Ok(strength), Err)
    }

    /// A page put together, if all of it is known.
    fn flattened<'p>(
        &'p self,
        site: &'p Site,
        id: SourceId,
        when: &str,
        named: Option<&'p BTreeSet<Box<[u8]>>>,
    ) -> Result<(Flat, Vec<Kept>), Box<Difference>> {
        let flat = Resolver::new(site).flatten_to_prove(id, Proving { context: &self.context, named });
        let page = flat.map_err(|error| unplaced(format!("{when}: {error}")))?;
        match page.0.problems.iter().find(|problem| problem.kind == ProblemKind::Unfollowed) {
            Some(problem) => Err(unplaced(format!("cannot be proven, as a part of it is unknown; {when}: {problem}"))),
            None => Ok(page),
        }
    }

    /// The greatest strength at which two pages that were put together are equal.
    fn compare_bytes(
        &self,
        (before, old): (SourceId, &Flat),
        (after, new): (SourceId, &Flat),
    ) -> Result<Strength, Box<Difference>> {
        if old.bytes == new.bytes {
            return Ok(Strength::Bytes);
        }
        if self.weakest == Strength::Bytes || self.old.get(before).unreadable.is_some() {
            let at = common_prefix(&old.bytes, &new.bytes);
            return Err(difference(side(self.old, old, at), side(self.new, new, at)));
        }
        let (before, after) = (Version::read(self.old, before, old), Version::read(self.new, after, new));
        let normals = (before.normal(), after.normal());
        if normals.0.bytes == normals.1.bytes {
            return match (before.rendered(), after.rendered()) {
                (Some(before), Some(after)) if before.tree == after.tree => Ok(Strength::Blanks),
                _ => Err(before.whitespace_that_counts(&after)),
            };
        }
        if self.weakest == Strength::Dom {
            let sure = |version: &Version| version.rendered().filter(|rendered| rendered.sure);
            if sure(&before).is_some_and(|tree| Some(tree) == sure(&after)) {
                return Ok(Strength::Dom);
            }
            // Spelling does not count, so it is not the difference to show.
            let loose = (before.without_spelling(), after.without_spelling());
            if loose.0.bytes != loose.1.bytes {
                return Err(first_difference(&before, &after, &loose));
            }
        }
        Err(first_difference(&before, &after, &normals))
    }
}

/// A page of one of the sites, put together and read.
struct Version<'s> {
    site: &'s Site,
    flat: &'s Flat,
    dialect: &'s Dialect,
    document: Document,
    shows: Vec<Shows>,
}

impl<'s> Version<'s> {
    fn read(site: &'s Site, id: SourceId, flat: &'s Flat) -> Self {
        let dialect = &*site.get(id).dialect;
        let document = Document::read(&flat.bytes, dialect);
        let shows = significance(&flat.bytes, &document, |_| false);
        Self { site, flat, dialect, document, shows }
    }

    fn normal(&self) -> Normal {
        Normal::shown(&self.flat.bytes, &self.document.tokens, &self.shows)
    }

    fn without_spelling(&self) -> Normal {
        Normal::without_spelling(&self.flat.bytes, &self.document)
    }

    fn rendered(&self) -> Option<Rendered> {
        rendered(&self.flat.bytes, &self.document, &self.shows)
    }

    /// The place of an offset in a normal form.
    fn side(&self, normal: &Normal, at: u32) -> Side {
        side(self.site, self.flat, normal.source_offset(&self.flat.bytes, &self.document.tokens, at))
    }

    /// The first whitespace that differs and counts, of two pages with the same normal form.
    fn whitespace_that_counts(&self, after: &Self) -> Box<Difference> {
        let (old, new) = (&self.flat.bytes, &after.flat.bytes);
        let runs = differing_blanks(old, new);
        let tree = |page: &[u8]| {
            let document = Document::read(page, self.dialect);
            let shows = significance(page, &document, |_| false);
            rendered(page, &document, &shows).map(|rendered| rendered.tree)
        };
        let same = tree(old);
        // So many runs go unnoticed as they are after, and so many do not.
        let (mut unnoticed, mut noticed) = (0, if same.is_some() { runs.len() } else { 0 });
        while unnoticed + 1 < noticed {
            let middle = usize::midpoint(unnoticed, noticed);
            let goes_unnoticed = tree(&with_blanks(old, new, &runs[..middle])) == same;
            *(if goes_unnoticed { &mut unnoticed } else { &mut noticed }) = middle;
        }
        let (before, behind) = runs.get(unnoticed).map_or((0, 0), |(before, after)| (before.start, after.start));
        let (before, behind) = (side(self.site, self.flat, before), side(after.site, after.flat, behind));
        let mut found = difference(before, behind);
        found.message.insert_str(0, "whitespace that may show; ");
        found
    }
}

/// The runs of whitespace, perhaps empty ones, in which two texts differ that are equal in all else.
fn differing_blanks(old: &[u8], new: &[u8]) -> Vec<(Span, Span)> {
    let run = |text: &[u8], at: usize| at + text[at..].iter().take_while(|b| is_blank(**b)).count();
    let (mut at, mut found) = ((0, 0), Vec::new());
    while at.0 <= old.len() && at.1 <= new.len() {
        let ends = (run(old, at.0), run(new, at.1));
        if old[at.0..ends.0] != new[at.1..ends.1] {
            found.push((Span::from_range(at.0..ends.0), Span::from_range(at.1..ends.1)));
        }
        at = (ends.0 + 1, ends.1 + 1);
    }
    found
}

/// A text with some of its runs of whitespace as they are in another.
fn with_blanks(old: &[u8], new: &[u8], runs: &[(Span, Span)]) -> Vec<u8> {
    let (mut out, mut from) = (Vec::with_capacity(old.len()), 0);
    for (before, after) in runs {
        out.extend_from_slice(&old[from..before.start as usize]);
        out.extend_from_slice(after.of(new));
        from = before.end as usize;
    }
    out.extend_from_slice(&old[from..]);
    out
}

fn first_difference(before: &Version, after: &Version, normals: &(Normal, Normal)) -> Box<Difference> {
    let at = common_prefix(&normals.0.bytes, &normals.1.bytes);
    difference(before.side(&normals.0, at), after.side(&normals.1, at))
}

fn common_prefix(a: &[u8], b: &[u8]) -> u32 {
    a.iter().zip(b).position(|(a, b)| a != b).unwrap_or(a.len().min(b.len())) as u32
}

fn side(site: &Site, flat: &Flat, at: u32) -> Side {
    Side { text: excerpt(&flat.bytes, at as usize), origin: flat.origin(site, at) }
}

fn difference(before: Side, after: Side) -> Box<Difference> {
    let shown = |side: &Side| {
        if side.text.is_empty() { "the page ends".to_owned() } else { format!("`{}`", side.text) }
    };
    let message = format!("before: {}; after: {}", shown(&before), shown(&after));
    Box::new(Difference { message, before: Some(before), after: Some(after) })
}

/// A difference that has no place in a page.
fn unplaced(message: String) -> Box<Difference> {
    Box::new(Difference { message, before: None, after: None })
}

/// The text around `at`: from the start of its word or tag, on one line.
fn excerpt(bytes: &[u8], at: usize) -> String {
    const BACK: usize = 24;
    const FORWARD: usize = 48;
    let at = at.min(bytes.len());
    if at == bytes.len() {
        return String::new();
    }
    let window = at.saturating_sub(BACK);
    let start = bytes[window..at].iter().rposition(|&b| is_blank(b) || b == b'>').map_or(at, |back| window + back + 1);
    let start = if bytes[window..at].iter().any(|&b| is_blank(b) || b == b'>') { start } else { window };
    let text = String::from_utf8_lossy(&bytes[start..bytes.len().min(at + FORWARD)]).into_owned();
    text.split_whitespace().collect::<Vec<_>>().join(" ")
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect::builtin;
    use crate::site::{Settings, SourceFile};

    fn site(files: &[(&str, &str)]) -> Site {
        let files = files.iter().map(|(path, text)| SourceFile::new(*path, *text)).collect();
        Site::read(files, builtin(), &Settings::default())
    }

    #[test]
    fn each_strength_is_recognised() {
        let old = site(&[("a.html", "<div class='x' id='y'>\n<p>one</p></div>")]);
        for (new, strength) in [
            ("<div class='x' id='y'>\n<p>one</p></div>", Some(Strength::Bytes)),
            ("<div class='x' id='y'><p>one</p>\n</div>", Some(Strength::Blanks)),
            ("<div id=y class=x><p>one</div>", Some(Strength::Dom)),
            ("<div class='x' id='y'><p>two</p></div>", None),
        ] {
            let proof = prove(&old, &site(&[("a.html", new)]), Strength::Dom);
            assert_eq!(proof.pages[0].strength(), strength, "{new}");
        }
    }

    #[test]
    fn a_difference_names_both_origins() {
        let old = site(&[("a.html", "<p>one</p>\n<p>two</p>")]);
        let new = site(&[
            ("base.html", "<p>one</p>\n<!--: block x --><!--: end x -->"),
            ("a.html", "<!--: layout base.html -->\n<!--: block x --><p>too</p><!--: end x -->"),
        ]);
        let proof = prove(&old, &new, Strength::Dom);
        let difference = proof.pages[0].difference().expect("a difference");
        let places: Vec<_> = [&difference.before, &difference.after]
            .into_iter()
            .filter_map(|side| side.as_ref()?.origin.as_ref().map(|o| (o.file.as_str(), o.line, o.block.as_deref())))
            .collect();
        assert_eq!(places, [("a.html", 2, None), ("a.html", 2, Some("x"))]);
        assert!(
            difference.message.contains("`two</p>`") && difference.message.contains("`too</p>`"),
            "{}",
            difference.message
        );
    }

    #[test]
    fn a_name_that_is_perhaps_set_may_reach_what_is_set_before() {
        perhaps_set("{% if late %}{% set mood = 2 %}{% endif %}{{ mood }}");
        perhaps_set("{% if late %}{% set mood = 2 %}{% else %}{{ mood }}{% endif %}");
    }

    #[track_caller]
    fn perhaps_set(content: &str) {
        let page = format!("{{% set mood = 1 %}}<b>{content}</b>");
        let child = format!("{{% extends 'base.html' %}}{{% block m %}}{content}{{% endblock %}}");
        let own = format!("{{% extends 'plain.html' %}}{{% set mood = 1 %}}{{% block m %}}{content}{{% endblock %}}");
        let base = |head: &str| format!("{head}<b>{{% block m %}}{{% endblock %}}</b>");
        let (with, without) = (base("{% set mood = 1 %}"), base(""));
        let old = site(&[("a.html", page.as_str())]);
        let new = site(&[("a.html", child.as_str()), ("base.html", with.as_str())]);
        let proof = prove_page(&old, &new, "a.html", Strength::Blanks);
        let message = &proof.difference().expect("a difference").message;
        assert!(message.starts_with("`mood` in `{{ mood }}`") && message.contains("`block-scope"), "{message}");
        let new = site(&[("a.html", own.as_str()), ("plain.html", without.as_str())]);
        assert!(prove_page(&old, &new, "a.html", Strength::Blanks).is_equal());
    }

    #[test]
    fn a_name_that_an_include_passes_is_read_where_it_is_printed() {
        let page = |content: &str| format!("{{% set boat = 1 %}}{content}{{% set boat = 2 %}}");
        let written_out = page("<b>{{ boat.name }}</b>");
        for (include, partial, equal) in [
            ("{% include 'p.html' with name=boat.name %}", "<b>{{ name }}</b>", true),
            // One include passes it on to another.
            ("{% include 'o.html' with n=boat.name %}", "<b>{{ name }}</b>", true),
            ("{% include 'p.html' with name=boat.title %}", "<b>{{ name }}</b>", false),
            ("{% include 'p.html' with name=boat.name|upper %}", "<b>{{ name }}</b>", false),
            ("{% include 'p.html' with name=boat.name %}", "<b>{{ name|upper }}</b>", false),
            ("{% include 'p.html' with name=boat.name %}", "{% set name = 3 %}<b>{{ name }}</b>", false),
            (
                "{% include 'p.html' with name=boat.name %}",
                "{% for name in names %}<b>{{ name }}</b>{% endfor %}",
                false,
            ),
            // Another boat is set around the include.
            ("{% set boat = 3 %}{% include 'p.html' with name=boat.name %}", "<b>{{ name }}</b>", false),
        ] {
            let old = site(&[("a.html", written_out.as_str())]);
            let through = "{% include 'p.html' with name=n %}";
            let new = site(&[("a.html", &page(include)), ("o.html", through), ("p.html", partial)]);
            let proof = prove_page(&old, &new, "a.html", Strength::Blanks);
            assert_eq!(proof.is_equal(), equal, "{include} {partial} {:?}", proof.difference());
        }
        // What the partial sets does not count for what was passed.
        let old = site(&[("a.html", &page("{% set boat = 3 %}<b>{{ boat.name }}</b>"))]);
        let partial = ("p.html", "{% set boat = 3 %}<b>{{ name }}</b>");
        let new = site(&[("a.html", &page("{% include 'p.html' with name=boat.name %}")), partial]);
        assert!(!prove_page(&old, &new, "a.html", Strength::Blanks).is_equal());
    }

    #[test]
    fn spelling_is_not_shown_as_the_difference() {
        let old = site(&[("a.html", "<p class=a id=b>one</p><p>two</p>")]);
        let new = site(&[("a.html", "<P id='b' class='a'>one</P><p>too</p>")]);
        let proof = prove(&old, &new, Strength::Dom);
        let message = &proof.pages[0].difference().expect("a difference").message;
        assert!(message.contains("two") && message.contains("too") && !message.contains("one"), "{message}");
        let proof = prove(&old, &new, Strength::Blanks);
        let message = &proof.pages[0].difference().expect("a difference").message;
        assert!(message.contains("class=a"), "{message}");
    }

    #[test]
    fn pages_that_come_or_go_are_differences() {
        let proof = prove(&site(&[("a.html", "x")]), &site(&[("b.html", "x")]), Strength::Dom);
        let messages: Vec<_> =
            proof.pages.iter().filter_map(|page| page.difference().map(|d| d.message.as_str())).collect();
        assert_eq!(messages, ["the page is gone", "the page is new"]);
    }
}
