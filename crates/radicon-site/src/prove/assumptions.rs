//! What a proof rests on: how files are read, where nobody has confirmed it.

use std::collections::{BTreeMap, BTreeSet};

use serde::{Deserialize, Serialize};

use crate::dialect::{Kind, Part};
use crate::resolve::Resolver;
use crate::site::taglike;
use crate::site::{Site, Template};
use crate::text::{Place, SourceId, preview};

/// Something that a proof rests on and that nobody has confirmed. It holds for the files that change, and for
/// those that they extend.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Assumption {
    /// The assumption, in plain words, with the first tag as an example.
    pub text: String,
    /// The subject of the assumption.
    pub about: AssumptionAbout,
    /// How often such a tag occurs in these files.
    pub uses: usize,
    /// In how many of them.
    pub files: usize,
    /// The first place.
    pub first: Place,
}

/// The subject of an assumption.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum AssumptionAbout {
    /// A form that was learned and is not sure. It is settled by keeping the dialect, with a change or without.
    LearnedForm,
    /// Text like tags that no dialect explains. It is settled by a dialect that describes it.
    UnexplainedText,
}

/// The assumptions of a change from one site to another, the most frequent first.
pub(super) fn of(old: &Site, new: &Site) -> Vec<Assumption> {
    let is_same = |before: &Template| new.find(&before.path).is_some_and(|id| new.get(id).source == before.source);
    let changed = old.templates.iter().filter(|before| !is_same(before));
    let changed: Vec<&str> = changed.map(|before| before.path.as_str()).collect();
    of_files(old, new, &changed)
}

/// The assumptions of the change of these files.
pub fn of_files(old: &Site, new: &Site, files: &[&str]) -> Vec<Assumption> {
    let touched = touched(old, new, files);
    if touched.is_empty() {
        return Vec::new();
    }
    let mut found = learned(old, &touched);
    found.extend(taglike::in_these(old, &touched).into_iter().map(|tag| Assumption {
        text: format!("`{}` is text, and no tag", tag.text),
        about: AssumptionAbout::UnexplainedText,
        uses: tag.uses,
        files: tag.files,
        first: tag.first,
    }));
    found.sort_by(|a, b| (a.about, b.uses, &a.text).cmp(&(b.about, a.uses, &b.text)));
    found
}

/// Those of the files that the old site has, and those that they extend, before or after.
fn touched(old: &Site, new: &Site, files: &[&str]) -> BTreeSet<SourceId> {
    let mut touched = BTreeSet::new();
    for path in files {
        let after = new.find(path);
        touched.extend(old.find(path).into_iter().flat_map(|id| Resolver::new(old).chain(id).levels));
        let levels = after.map(|after| Resolver::new(new).chain(after).levels).unwrap_or_default();
        touched.extend(levels.iter().filter_map(|level| old.find(&new.get(*level).path)));
    }
    touched
}

/// The forms in these files that were learned and are not sure.
fn learned(site: &Site, files: &BTreeSet<SourceId>) -> Vec<Assumption> {
    let mut found: BTreeMap<(&str, u16), Assumption> = BTreeMap::new();
    for id in files {
        let template = site.get(*id);
        if !template.dialect.forms.iter().any(|form| form.unsure) {
            continue;
        }
        let mut here = BTreeSet::new();
        for item in &template.constructs.items {
            let is_opener = !matches!(item.part, Part::Close | Part::Branch);
            let Some(says) = says(item.kind).filter(|_| is_opener && item.form(&template.dialect).unsure) else {
                continue;
            };
            let known = found.entry((&template.dialect.name, item.form)).or_insert_with(|| Assumption {
                text: format!("`{}` {says}", preview(item.span.of(&template.source))),
                about: AssumptionAbout::LearnedForm,
                uses: 0,
                files: 0,
                first: Place { file: template.path.clone(), line: template.position(item.span.start).line },
            });
            known.uses += 1;
            known.files += usize::from(here.insert(item.form));
        }
    }
    found.into_values().collect()
}

/// The effect that a tag of a kind is taken to have; nothing for those that are kept as they are, whatever they mean.
const fn says(kind: Kind) -> Option<&'static str> {
    Some(match kind {
        Kind::Parent => "names the layout",
        Kind::Block => "is a block",
        Kind::Slot => "is a block that pages fill",
        Kind::Fill => "fills a block",
        Kind::Body => "prints the content of a page",
        Kind::Inherited => "prints what an override replaces",
        Kind::Again => "prints a block again",
        Kind::Here => "shows something in one page",
        Kind::Include => "includes a file",
        Kind::Wrap => "includes a file around its content",
        Kind::Part => "is a named fragment",
        Kind::Import => "imports the parts of a file",
        Kind::Set => "binds a name",
        Kind::Control => "opens a pair, such as a loop",
        Kind::Comment => "is a comment",
        Kind::Verbatim => "opens text without tags",
        Kind::Output | Kind::Code | Kind::Other => return None,
    })
}
