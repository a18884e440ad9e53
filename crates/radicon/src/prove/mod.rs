//! Proof that no page changed.
//!
//! Every page of both sites is flattened and compared at three strengths, the
//! strongest first. A page that is equal at none of them comes with its first
//! difference and where both sides of it come from.

#[cfg(feature = "dom")]
mod dom;
mod normal;

use rayon::prelude::*;
use serde::Serialize;

use crate::markup::Document;
use crate::resolve::{Flat, Origin, Resolver};
use crate::site::Site;
use crate::text::{SourceId, is_blank};

pub use normal::Normal;
pub(crate) use normal::significance;

/// How equal two pages are; the strongest first.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Strength {
    /// Byte for byte.
    Bytes,
    /// But for insignificant white space.
    Blanks,
    /// As a standard HTML parser reads them.
    #[cfg(feature = "dom")]
    Dom,
}

impl Strength {
    /// The weakest there is: `dom`, or `blanks` without that feature.
    #[cfg(feature = "dom")]
    pub const WEAKEST: Self = Self::Dom;
    /// The weakest there is: `blanks`, as the feature `dom` is off.
    #[cfg(not(feature = "dom"))]
    pub const WEAKEST: Self = Self::Blanks;

    /// The word for it.
    pub const fn word(self) -> &'static str {
        match self {
            Strength::Bytes => "bytes",
            Strength::Blanks => "blanks",
            #[cfg(feature = "dom")]
            Strength::Dom => "dom",
        }
    }
}

/// What was found about one page.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct PageProof {
    /// The page's path.
    pub page: String,
    /// The greatest strength at which both sides are equal; `null` if they are not.
    pub strength: Option<Strength>,
    /// The first difference, if they are not equal.
    pub difference: Option<Difference>,
}

/// The first difference between two pages.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Difference {
    /// What differs, in plain words.
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
    /// Where it comes from.
    pub origin: Option<Origin>,
}

/// The proof for a whole site.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Proof {
    /// One entry a page, sorted by path.
    pub pages: Vec<PageProof>,
    /// Whether all pages are equal at the strength asked for.
    pub equal: bool,
}

/// Compares all pages of two sites. `weakest` is the weakest strength that
/// still counts as equal; weaker ones are not tried.
pub fn prove(old: &Site, new: &Site, weakest: Strength) -> Proof {
    let mut paths: Vec<&str> = old.pages().map(|id| old.get(id).path.as_str()).collect();
    paths.extend(new.pages().map(|id| new.get(id).path.as_str()).filter(|path| old.find(path).is_none()));
    paths.sort_unstable();
    let pages: Vec<_> = paths.par_iter().map(|path| prove_page(old, new, path, weakest)).collect();
    let equal = pages.iter().all(|page| page.strength.is_some());
    Proof { pages, equal }
}

/// Compares one page, named by its path, of two sites.
pub fn prove_page(old: &Site, new: &Site, path: &str, weakest: Strength) -> PageProof {
    let result = match (old.find(path), new.find(path)) {
        (Some(before), Some(after)) => compare(old, before, new, after, weakest),
        (Some(_), None) => Err(unplaced("the page is gone".into())),
        _ => Err(unplaced("the page is new".into())),
    };
    let (strength, difference) = match result {
        Ok(strength) => (Some(strength), None),
        Err(difference) => (None, Some(*difference)),
    };
    PageProof { page: path.to_owned(), strength, difference }
}

/// A page of one of the sites, put together and read.
struct Version<'s> {
    site: &'s Site,
    flat: Flat,
    document: Document,
}

impl<'s> Version<'s> {
    fn read(site: &'s Site, id: SourceId, flat: Flat) -> Self {
        let document = Document::read(&flat.bytes, &site.get(id).dialect);
        Self { site, flat, document }
    }

    fn normal(&self) -> Normal {
        Normal::of(&self.flat.bytes, &self.document.tokens)
    }

    #[cfg(feature = "dom")]
    fn without_spelling(&self) -> Normal {
        Normal::without_spelling(&self.flat.bytes, &self.document.tokens)
    }

    #[cfg(feature = "dom")]
    fn tree(&self) -> Option<Vec<u8>> {
        dom::tree(&self.flat.bytes, &self.document)
    }

    /// The place of an offset in a normal form.
    fn side(&self, normal: &Normal, at: u32) -> Side {
        side(self.site, &self.flat, normal.source_offset(&self.flat.bytes, &self.document.tokens, at))
    }
}

/// Flattens a page of each site and gives the greatest strength at which they are equal.
fn compare(
    old: &Site,
    before: SourceId,
    new: &Site,
    after: SourceId,
    weakest: Strength,
) -> Result<Strength, Box<Difference>> {
    let flat_before = Resolver::new(old).flatten(before).map_err(|error| unplaced(format!("before: {error}")))?;
    let flat_after = Resolver::new(new).flatten(after).map_err(|error| unplaced(format!("after: {error}")))?;
    if flat_before.bytes == flat_after.bytes {
        return Ok(Strength::Bytes);
    }
    if weakest == Strength::Bytes || old.get(before).unreadable.is_some() {
        let at = common_prefix(&flat_before.bytes, &flat_after.bytes);
        return Err(difference(side(old, &flat_before, at), side(new, &flat_after, at)));
    }
    let (before, after) = (Version::read(old, before, flat_before), Version::read(new, after, flat_after));
    let normals = (before.normal(), after.normal());
    if normals.0.bytes == normals.1.bytes {
        return Ok(Strength::Blanks);
    }
    #[cfg(feature = "dom")]
    if weakest == Strength::Dom {
        if before.tree().is_some_and(|tree| Some(tree) == after.tree()) {
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
            assert_eq!(proof.pages[0].strength, strength, "{new}");
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
        let difference = proof.pages[0].difference.as_ref().expect("a difference");
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
    fn spelling_is_not_shown_as_the_difference() {
        let old = site(&[("a.html", "<p class=a id=b>one</p><p>two</p>")]);
        let new = site(&[("a.html", "<P id='b' class='a'>one</P><p>too</p>")]);
        let proof = prove(&old, &new, Strength::Dom);
        let message = &proof.pages[0].difference.as_ref().expect("a difference").message;
        assert!(message.contains("two") && message.contains("too") && !message.contains("one"), "{message}");
        let proof = prove(&old, &new, Strength::Blanks);
        let message = &proof.pages[0].difference.as_ref().expect("a difference").message;
        assert!(message.contains("class=a"), "{message}");
    }

    #[test]
    fn pages_that_come_or_go_are_differences() {
        let proof = prove(&site(&[("a.html", "x")]), &site(&[("b.html", "x")]), Strength::Dom);
        let messages: Vec<_> =
            proof.pages.iter().filter_map(|page| page.difference.as_ref().map(|d| d.message.as_str())).collect();
        assert_eq!(messages, ["the page is gone", "the page is new"]);
    }
}
