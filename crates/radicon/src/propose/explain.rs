//! Why a file of a proposal is what it is.

use serde::Serialize;

use crate::propose::{Left, Proposal, ProposedLayout, ProposedPartial};
use crate::site::Site;

/// Why a file is what it is in a proposal.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(tag = "is", rename_all = "kebab-case")]
pub enum Explanation<'p> {
    /// A layout, with what each block costs with and without it.
    Layout(&'p ProposedLayout),
    /// A partial, with what it saves.
    Partial(&'p ProposedPartial),
    /// A page that takes a layout.
    Page {
        /// Its path.
        path: &'p str,
        /// Its layout, that layout's layout, and so on.
        chain: Vec<&'p str>,
        /// Its bytes as it is.
        before: usize,
        /// Its bytes with the proposal.
        after: usize,
    },
    /// A page that is left as it is, and why.
    Left(&'p Left),
}

impl Proposal {
    /// Why the file of this path is what it is; `None` if the proposal does not touch it.
    pub fn explain(&self, site: &Site, path: &str) -> Option<Explanation<'_>> {
        if let Some(layout) = self.layouts.iter().find(|layout| layout.path == path) {
            return Some(Explanation::Layout(layout));
        }
        if let Some(partial) = self.partials.iter().find(|partial| partial.path == path) {
            return Some(Explanation::Partial(partial));
        }
        if let Some(left) = self.left.iter().find(|left| left.page == path) {
            return Some(Explanation::Left(left));
        }
        let file = self.files.iter().find(|file| file.path == path)?;
        let around = |path: &&str| self.layouts.iter().find(|layout| layout.path == **path)?.extends.as_deref();
        let before = site.find(path).map_or(0, |id| site.get(id).source.len());
        let chain = std::iter::successors(file.extends.as_deref(), around).collect();
        Some(Explanation::Page { path: &file.path, chain, before, after: file.bytes.len() })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect;
    use crate::propose::{ProposeOptions, propose};
    use crate::site::{Settings, SourceFile};

    #[test]
    fn each_file_has_its_reason() {
        let page = |name: &str| {
            let menu =
                "<nav><a href=\"/\">Tidewater, the ferries of Merrin Sound</a> <a href=\"/fares\">Fares</a></nav>";
            let text =
                format!("<!DOCTYPE html>\n<html>\n<body>\n{menu}\n<main><h1>{name}</h1></main>\n</body>\n</html>\n");
            SourceFile::new(format!("{name}.html"), text)
        };
        let files = vec![page("a"), page("b"), page("c"), SourceFile::new("empty.html", "")];
        let site = Site::read(files, dialect::builtin(), &Settings::default());
        let proposal = propose(&site, &ProposeOptions::default()).expect("a proposal");
        let base = proposal.explain(&site, "layouts/base.html");
        assert!(matches!(base, Some(Explanation::Layout(layout)) if layout.pages == 3), "{base:?}");
        let child = proposal.explain(&site, "a.html");
        let is_smaller = |before, after| after < before;
        let Some(Explanation::Page { chain, before, after, .. }) = child else { panic!("{child:?}") };
        assert!(chain == ["layouts/base.html"] && is_smaller(before, after), "{chain:?}: {before} {after}");
        assert!(matches!(proposal.explain(&site, "empty.html"), Some(Explanation::Left(_))));
        assert!(proposal.explain(&site, "no.html").is_none());
    }
}
