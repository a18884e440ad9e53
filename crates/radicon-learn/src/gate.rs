//! What was learned must make reading better, or it is dropped.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use rayon::prelude::*;

use super::{AsKnown, Confidence, Learned, LearnedForm};
use crate::dialect::{Dialect, Kind};
use crate::site::{Kinds, Parent, Settings, Site, SourceFile};
use crate::text::{MOST_SLIPS, slip_of};
use crate::thresholds::{FEWEST_SHOWING, FILES_PER_MISREADING, MOST_SUSPECTS, ONE_MISS_IN, SHOWING_ONE_IN, SUSPECT};

/// How well a site is read.
struct Quality {
    /// Names that lead somewhere, and overrides that meet a region.
    resolved: usize,
    /// Names that lead nowhere.
    missing: usize,
    /// Files with a pair that does not fit.
    unbalanced: BTreeSet<String>,
    /// Pairs that do not fit, and what divides none.
    misread: usize,
}

impl Quality {
    fn of(site: &Site) -> Self {
        let mut found = Self { resolved: 0, missing: 0, unbalanced: BTreeSet::new(), misread: 0 };
        for (id, template) in site.with_ids() {
            for (_, target) in site.links(id).targets() {
                *(if target.is_ok() { &mut found.resolved } else { &mut found.missing }) += 1;
            }
            found.misread += template.constructs.errors.len();
            if !template.constructs.errors.is_empty() {
                found.unbalanced.insert(template.path.clone());
            }
            let mut above = BTreeSet::new();
            let mut at = id;
            // The few levels that are usual.
            for _ in 0..8 {
                let Parent::Found { id: parent, .. } = site.parent(at) else { break };
                at = *parent;
                let layout = site.get(at);
                above.extend(layout.regions().map(|(_, region)| region.name.of(&layout.source)));
            }
            found.resolved +=
                template.blocks().filter(|(_, block)| above.contains(block.name.of(&template.source))).count();
        }
        found
    }

    /// Whether it is better than another one: more names lead somewhere, hardly more lead nowhere, and
    /// no file that was balanced is not.
    fn betters(&self, other: &Self) -> bool {
        let gained = self.resolved.saturating_sub(other.resolved);
        let missed = self.missing.saturating_sub(other.missing);
        gained > 0 && missed * ONE_MISS_IN <= gained && self.unbalanced.is_subset(&other.unbalanced)
    }
}

/// Keeps of what was learned on top of a known dialect the forms that make reading better, and pairs that
/// do no harm beside them; `None` if there are none.
pub(super) fn keep_what_helps(learned: Learned, read: &AsKnown<'_>) -> Option<Learned> {
    let AsKnown { files, dialects, site } = *read;
    let known = dialects.iter().find(|dialect| Some(&dialect.name) == learned.extends.as_ref())?;
    let read_with = |forms: &[LearnedForm]| {
        let own = Arc::new(Dialect::parse(&learned.with_forms(forms)).ok()?);
        let all: Vec<_> = dialects
            .iter()
            .map(|dialect| Arc::clone(if Arc::ptr_eq(dialect, known) { &own } else { dialect }))
            .collect();
        Some(Quality::of(&Site::read(files.to_vec(), &all, &site.settings)))
    };
    let (structure, rest): (Vec<_>, Vec<_>) = learned
        .forms
        .iter()
        .filter(|form| form.confidence > Confidence::Asked && !is_slip(form, known))
        .cloned()
        .partition(|form| form.kind.makes_structure() && form.kind != Kind::Set);
    let mut quality = Quality::of(site);
    let mut kept: Vec<LearnedForm> = Vec::new();
    for form in structure {
        kept.push(form);
        match read_with(&kept).filter(|found| found.betters(&quality)) {
            Some(found) => quality = found,
            None => drop(kept.pop()),
        }
    }
    if kept.is_empty() {
        return None;
    }
    for pair in rest.into_iter().filter(|form| form.kind == Kind::Control) {
        kept.push(pair);
        let harmless = read_with(&kept)
            .is_some_and(|found| found.unbalanced.is_subset(&quality.unbalanced) && found.resolved >= quality.resolved);
        if !harmless {
            kept.pop();
        }
    }
    Some(Learned { forms: kept, ..learned })
}

/// The site, read with what was learned.
pub(super) fn read_with(learned: &[Learned], read: &AsKnown<'_>) -> Site {
    let mut dialects = read.dialects.to_vec();
    let mut settings = read.site.settings.clone();
    for one in learned {
        dialects.splice(0..0, one.dialect().ok().map(Arc::new));
        settings.folders.extend(Settings::parse(&one.settings).unwrap_or_default().folders);
    }
    Site::read(read.files.to_vec(), &dialects, &settings)
}

/// Of two readings of some files the better one. Templates that are in use are balanced: what misreads few pairs needs
/// no other.
pub(super) fn better(one: Vec<Learned>, other: impl FnOnce() -> Vec<Learned>, read: &AsKnown<'_>) -> Vec<Learned> {
    if one.is_empty() {
        return one;
    }
    let known = Quality::of(&read_with(&one, read));
    if known.misread * FILES_PER_MISREADING <= read.files.len() {
        return one;
    }
    let other = other();
    let found = Quality::of(&read_with(&other, read));
    let is_better = found.misread < known.misread && found.resolved >= known.resolved;
    if is_better { other } else { one }
}

/// Leaves out pairs that cause more misreadings than there are without them, one by one.
pub(super) fn without_misreadings(mut learned: Learned, read: &AsKnown<'_>) -> Learned {
    let look = |learned: &Learned| {
        let site = read_with(std::slice::from_ref(learned), read);
        let mut blamed: BTreeMap<String, usize> = BTreeMap::new();
        for (_, template) in site.with_ids().filter(|(_, template)| template.dialect.name == learned.name) {
            for error in &template.constructs.errors {
                let item = template.constructs.items.iter().find(|item| item.span.start == error.span.start);
                let form = item.and_then(|item| template.dialect.forms.get(usize::from(item.form)));
                if let Some(form) = form.filter(|form| form.kind == Kind::Control) {
                    *blamed.entry(form.open.example().to_owned()).or_default() += 1;
                }
            }
        }
        (Quality::of(&site), blamed)
    };
    let (mut quality, mut blamed) = look(&learned);
    while quality.misread * FILES_PER_MISREADING > read.files.len() {
        let uses = |open: &str| learned.forms.iter().filter(|form| form.opens_with(open)).map(|form| form.uses).sum();
        let is_suspect = |(open, errors): &(&String, &usize)| SUSPECT.reached(**errors, uses(open));
        let mut suspects: Vec<(String, usize)> =
            blamed.iter().filter(is_suspect).map(|(open, n)| (open.clone(), *n)).collect();
        suspects.sort_by_key(|(open, errors)| (std::cmp::Reverse(*errors), open.clone()));
        suspects.truncate(MOST_SUSPECTS);
        let better = suspects.into_iter().find_map(|(open, _)| {
            let opens = |form: &LearnedForm| form.kind == Kind::Control && form.opens_with(&open);
            let forms: Vec<LearnedForm> = learned.forms.iter().filter(|form| !opens(form)).cloned().collect();
            if forms.len() == learned.forms.len() {
                return None;
            }
            let text = learned.with_forms(&forms);
            let other = Learned { forms, text, ..learned.clone() };
            let (found, blamed) = look(&other);
            (found.misread < quality.misread && found.resolved >= quality.resolved).then_some((other, found, blamed))
        });
        let Some(better) = better else { break };
        (learned, quality, blamed) = better;
    }
    learned
}

/// Whether a form is nothing but a word of the dialect that was misspelt.
fn is_slip(form: &LearnedForm, known: &Dialect) -> bool {
    let is_word = |c: char| c.is_alphanumeric() || c == '_';
    let word = form.written.split(|c| !is_word(c)).find(|word| !word.is_empty()).unwrap_or_default();
    form.uses <= MOST_SLIPS && slip_of(word, known.words().iter().map(String::as_str)).is_some()
}

/// A known dialect with one more form.
pub(super) fn extension(name: &str, dialects: &[Arc<Dialect>], form: LearnedForm) -> Option<Learned> {
    let known = dialects.iter().find(|dialect| dialect.name == name)?;
    Some(Learned {
        name: name.to_owned(),
        files: known.files.patterns().to_vec(),
        extends: Some(name.to_owned()),
        forms: vec![form],
        questions: Vec::new(),
        settled: Vec::new(),
        base: known.text.clone(),
        text: String::new(),
        settings: String::new(),
        trailing: Vec::new(),
    })
}

/// Whether files show the structure of a dialect that was learned from them, by the same evidence as for
/// dialects that are known: tags in prose, listings and scripts are none.
pub(super) fn shows_structure(learned: &Learned, files: &[&SourceFile]) -> bool {
    let Ok(dialect) = Dialect::parse(&learned.text) else { return false };
    let (files, dialects): (Vec<SourceFile>, _) =
        (files.iter().map(|&file| file.clone()).collect(), [Arc::new(dialect)]);
    let settings = Settings::default();
    let kinds = Kinds::new(&files, &dialects, &settings);
    let shows =
        |(at, file): &(usize, &SourceFile)| kinds.look(*at, file).iter().any(|(_, evidence, _)| evidence.structure > 0);
    let showing = files.par_iter().enumerate().filter(shows).count();
    showing >= FEWEST_SHOWING.max(files.len() / SHOWING_ONE_IN)
}

#[cfg(test)]
mod tests {

    use super::is_slip;
    use crate::dialect::{Kind, builtin_named};
    use crate::{Confidence, LearnedForm};

    #[test]
    fn a_word_that_is_misspelt_is_no_form() {
        let dialect = builtin_named("brace-percent").expect("a dialect");
        let form = |written: &str, uses| LearnedForm {
            kind: Kind::Include,
            form: String::new(),
            uses,
            evidence: String::new(),
            confidence: Confidence::Likely,
            written: written.to_owned(),
            example: None,
        };
        assert!(is_slip(&form("{% inclued 'nav.html' %}", 1), &dialect));
        assert!(!is_slip(&form("{% inclued 'nav.html' %}", 99), &dialect), "what is written often is meant");
        assert!(!is_slip(&form("{% moor 'nav.html' %}", 1), &dialect));
    }
}
