//! A proposal: its files, what they are, and the proof.

use serde::{Deserialize, Serialize, Serializer};

use super::options::ProposeOptions;
use super::pages::heal::Healed;
use super::writing::patch;
use crate::prove::{Assumption, Proof, Strength};
use crate::site::taglike::UnexplainedTag;
use crate::site::{Change, Role, Site, stem};
use crate::text::count_lines;

/// Why nothing can be proposed.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum ProposeError {
    /// The dialect cannot express layouts.
    #[error("the dialect `{0}` has neither parents and blocks nor includes, so pages written in it can share nothing")]
    SharesNothing(String),
    /// A change that was chosen is not in the proposal.
    #[error("no change `{wanted}` in this proposal; it has {}, each with a number", crate::text::count(*changes, "change"))]
    NoChange {
        /// As it was named.
        wanted: String,
        /// How many there are.
        changes: usize,
    },
    /// A change that was chosen is none without those that were left out.
    #[error("{0} would save nothing without the changes that are left out")]
    PaysWithOthers(String),
}

/// A file of the proposal.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct ProposedFile {
    /// Its path from the site's folder.
    pub path: String,
    /// Its role.
    pub role: Role,
    /// The dialect that it is written in.
    pub dialect: String,
    /// The path of the layout that it takes.
    pub extends: Option<String>,
    /// Its new content. In JSON text; bytes that are not UTF-8 are shown as U+FFFD there.
    #[serde(rename = "text", serialize_with = "as_text")]
    #[cfg_attr(feature = "schema", schemars(with = "String"))]
    pub bytes: Vec<u8>,
}

fn as_text<S: Serializer>(bytes: &[u8], serializer: S) -> Result<S::Ok, S::Error> {
    serializer.serialize_str(&String::from_utf8_lossy(bytes))
}

/// A block of the proposed layout.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[non_exhaustive]
pub struct ProposedBlock {
    /// Its name.
    pub name: String,
    /// Line of its opening tag in the layout, 1-based.
    pub line: u32,
    /// Whether it has default content.
    pub default: bool,
    /// How many pages override it.
    pub overridden_by: usize,
    /// How many layouts override it.
    pub layouts: usize,
    /// Some of them: the first three by path.
    pub such_as: Vec<String>,
    /// Bytes of all overrides together.
    pub bytes: usize,
    /// The cost of the block: its tags and its overrides, in bytes.
    pub cost: usize,
    /// The cost of a block around all of the element that holds it, in bytes.
    pub without: usize,
    /// The element around it.
    pub within: String,
    /// It is there for one page only, which differs from all others: perhaps a
    /// copy that was left behind.
    pub drift: bool,
}

/// A layout of the proposal.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[non_exhaustive]
pub struct ProposedLayout {
    /// Its path.
    pub path: String,
    /// The layout that it extends.
    pub extends: Option<String>,
    /// What its pages have in common that others have not, such as "pages in `seeds/`"; none for a base layout, and where
    /// nobody can say it.
    pub reason: Option<String>,
    /// The site has it already; counted are the pages that the proposal gives to it.
    pub existing: bool,
    /// How many pages take it directly.
    pub pages: usize,
    /// How many pages take it or a layout that extends it.
    pub beneath: usize,
    /// The blocks that it defines, in the order of their places.
    pub blocks: Vec<ProposedBlock>,
    /// What having it saves, in bytes: for a base layout all of its family, for one
    /// that extends another beyond that one, as it was estimated.
    pub saves: usize,
    /// The blocks of the layouts around it that it fills.
    pub fills: Vec<String>,
}

/// A partial of the proposal.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[non_exhaustive]
pub struct ProposedPartial {
    /// Its path.
    pub path: String,
    /// How often it is included.
    pub uses: usize,
    /// In how many files.
    pub files: usize,
    /// How many values each use passes to it.
    pub parameters: usize,
    /// The bytes that it saves.
    pub saves: usize,
    /// Its bytes.
    pub bytes: usize,
}

/// How much there is.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Size {
    /// Templates.
    pub files: usize,
    /// Bytes in them.
    pub bytes: usize,
    /// Lines in them.
    pub lines: usize,
}

/// A page that the proposal leaves as it is.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Left {
    /// Its path.
    pub page: String,
    /// Why.
    pub reason: String,
}

/// A restructuring of a site, with its proof.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[non_exhaustive]
pub struct Proposal {
    /// New and changed files, sorted by path.
    pub files: Vec<ProposedFile>,
    /// The layouts, the outer before those that extend them; none if there is nothing to propose.
    pub layouts: Vec<ProposedLayout>,
    /// The changes that it consists of, layouts before partials; each can be taken or left by itself.
    pub changes: Vec<ProposedChange>,
    /// The partials, by path.
    pub partials: Vec<ProposedPartial>,
    /// How many repeats are left that are no partial: rows, prose, what has no telling name, is in fewer than
    /// three files or saves less than a thousandth of the site and holds no condition or loop.
    pub smaller_repeats: usize,
    /// The dialects the files are written in, separated by commas.
    pub dialect: String,
    /// All templates of the site as they are.
    pub before: Size,
    /// All templates of the site with the proposal.
    pub after: Size,
    /// Places that are made as the other pages have them, where that was asked for.
    pub healed: Vec<Healed>,
    /// For every page of the site, once healed, how equal it is before and after; and what that rests on.
    pub proof: Proof,
    /// Pages that keep their form, with the reason.
    pub left: Vec<Left>,
    /// Text of files without a dialect that looks like tags, the most frequent first: these pages are left as
    /// they are, unless the dialect to write was named.
    pub unexplained: Vec<UnexplainedTag>,
}

/// One change of a proposal: a base layout with all that extend it and their pages, a partial with the files that
/// include it, or a file that takes what it hides as its layout.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct ProposedChange {
    /// Its number in the proposal, from 1.
    pub number: usize,
    /// The path of its base layout, its partial, or its file.
    pub path: String,
    /// The files that it creates or changes, sorted by path.
    pub files: Vec<String>,
    /// The bytes that it saves, about: where changes share files, each is counted by itself.
    pub saves: usize,
    /// How many pages it changes the templates of; all of them are proven.
    pub pages: usize,
    /// The weakest strength at which one of these pages is proven; none if there is no such page.
    pub strength: Option<Strength>,
    /// The assumptions of its proof that nobody has confirmed.
    pub assumptions: Vec<Assumption>,
}

impl Proposal {
    /// Whether it is shown that no page changes, but for those that were brought up to date, and nothing is assumed.
    pub fn is_proven(&self) -> bool {
        self.proof.equal && self.proof.assumptions.is_empty()
    }

    /// The settings of [`ProposeOptions::regions`] and [`ProposeOptions::names`] that no proposed layout or partial shows, each with
    /// what is missing. Empty if nothing is proposed.
    pub fn without_effect(&self, options: &ProposeOptions) -> Vec<String> {
        if self.layouts.iter().all(|layout| layout.existing) {
            return Vec::new();
        }
        let blocks: Vec<&str> =
            self.layouts.iter().flat_map(|layout| &layout.blocks).map(|block| block.name.as_str()).collect();
        let paths = self.layouts.iter().map(|layout| &layout.path).chain(self.partials.iter().map(|one| &one.path));
        let stems: Vec<&str> = paths.map(|path| stem(path)).collect();
        let is_missing = |name: &String| !blocks.contains(&options.called(name.clone()).as_str());
        let regions = options.regions.iter().filter(|(name, _)| is_missing(name));
        let regions = regions.map(|(name, _)| format!("propose.regions.{name}: no proposed block is of this element"));
        let is_used = |name: &str| blocks.contains(&name) || stems.contains(&name);
        let names = options.names.iter().filter(|(_, name)| !is_used(name));
        regions.chain(names.map(|(old, _)| format!("propose.names.{old}: nothing proposed has this name"))).collect()
    }

    /// Files that hide one of third-party and extend it now.
    pub fn uncovered(&self) -> impl Iterator<Item = &ProposedFile> {
        let is_known = |path: &str| self.layouts.iter().any(|layout| layout.path == path);
        let takes_other = move |file: &&ProposedFile| file.extends.as_ref().is_some_and(|path| !is_known(path));
        self.files.iter().filter(takes_other).filter(move |file| !is_known(&file.path))
    }

    /// The changes to the disk that adopt it.
    pub fn changes(&self, site: &Site) -> Vec<Change> {
        let old = |path: &str| site.find(path).map(|id| site.get(id).source.to_vec());
        self.files
            .iter()
            .map(|file| Change { path: file.path.clone(), old: old(&file.path), new: Some(file.bytes.clone()) })
            .collect()
    }

    /// The changes as a patch, in the unified format that `git apply` takes.
    pub fn patch(&self, site: &Site) -> Vec<u8> {
        self.changes(site).iter().flat_map(patch::of).collect()
    }
}

/// How much these sources are.
pub fn size<'a>(sources: impl Iterator<Item = &'a [u8]>) -> Size {
    sources.fold(Size::default(), |sum, source| Size {
        files: sum.files + 1,
        bytes: sum.bytes + source.len(),
        lines: sum.lines + count_lines(source),
    })
}

#[cfg(test)]
mod tests {
    use super::size;
    use crate::propose::ProposeOptions;
    use crate::propose::testing::{copies, proposed, site};

    #[test]
    fn sizes_add_up() {
        let size = size([&b"a\nb\n"[..], b"c"].into_iter());
        assert_eq!((size.files, size.bytes, size.lines), (2, 5, 3));
    }

    #[test]
    fn settings_that_nothing_shows_are_told() {
        let page = "<html><head><title>@</title></head><body><header><p>Tidewater Ferries, seven harbours every day</p></header><h1>@</h1></body></html>\n";
        let site = site(copies("@.html", page));
        let proposal = proposed(&site);
        let names = [("headings".to_owned(), "headlines".to_owned())].into();
        let options = ProposeOptions { names, ..ProposeOptions::default() };
        assert_eq!(proposal.without_effect(&options), ["propose.names.headings: nothing proposed has this name"]);
        assert!(proposal.without_effect(&ProposeOptions::default()).is_empty());
    }
}
