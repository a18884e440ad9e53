//! Findings: what is wrong or suspicious in a site, each with its place and, where that is sure,
//! a fix.

mod baseline;
mod context;
mod found;
mod incremental;
mod misread;
mod rules;
mod suppress;

use rayon::prelude::*;
use rustc_hash::FxHashMap;
use serde::Serialize;

use crate::config::{self, ConfigError, items, subtable, unknown};
use crate::edit::{Edit, EditError, Edits};
use crate::prove::{Assumption, PageProof, Strength, prove};
use crate::site::{Change, Settings, Site, Template};
use crate::text::{LineIndex, SourceId, Span, line_start};

pub use crate::site::Severity;
pub use baseline::{Baseline, BaselineError};
use context::{Context, PageView};
pub use found::Found;
pub use incremental::Checks;
pub use rules::RULES;
#[cfg(test)]
pub(crate) use rules::testing;

/// One thing that is looked for.
#[derive(Clone, Copy, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Rule {
    /// Its name, in settings and suppressions.
    #[serde(rename = "rule")]
    pub id: &'static str,
    /// How bad it usually is.
    pub severity: Severity,
    /// The problem that it finds, and why it matters.
    pub meaning: &'static str,
    /// Templates that show it; a line `-- path` begins each file.
    pub example: &'static str,
    /// The advice about it.
    pub remedy: &'static str,
    #[serde(skip)]
    look: Look,
}

/// The part of a site that a rule looks at.
#[derive(Clone, Copy, Debug)]
enum Look {
    /// The site as a whole.
    Site(fn(&Context<'_>) -> Vec<Found>),
    /// Each file by itself.
    File(fn(SourceId, &Template) -> Vec<Found>),
    /// Each finished page.
    Page(LookAtPage),
    /// The site as a whole, as a third party sees it.
    Own(LookAtSite),
}

/// A rule of one's own: gives all that it finds in a site.
pub type LookAtSite = fn(&Site) -> Vec<Found>;

impl Rule {
    /// A rule of one's own, beside those in [`RULES`]: settings and suppressions name it by its
    /// id, as they do the others.
    pub const fn own(id: &'static str, severity: Severity, meaning: &'static str, look: LookAtSite) -> Self {
        Self { id, severity, meaning, example: "", remedy: "", look: Look::Own(look) }
    }

    /// How much it weighs under some settings; none if it is off.
    fn severity_in(&self, settings: &Settings) -> Option<Severity> {
        settings.check.severity(self.id, self.severity)
    }

    /// The first sentence of its meaning, without its point.
    pub fn summary(&self) -> &'static str {
        self.meaning.split(". ").next().unwrap_or_default().trim_end_matches('.')
    }
}

type LookAtPage = fn(&Context<'_>, &PageView<'_>) -> Vec<Found>;

/// Something wrong or suspicious.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[non_exhaustive]
pub struct Finding {
    /// The rule's id.
    pub rule: &'static str,
    /// How bad it is.
    pub severity: Severity,
    /// The file's path.
    pub file: String,
    /// The line, 1-based.
    pub line: u32,
    /// The column, 1-based, in characters.
    pub column: u32,
    /// The bytes it is about.
    pub span: Span,
    /// The problem, in plain words.
    pub message: String,
    /// Other places that belong to it, each with what is there.
    pub related: Vec<Related>,
    /// The change that fixes it, where that is certain.
    pub fix: Option<Fix>,
    /// A hash that tells it from others, wherever its line moves to.
    pub fingerprint: String,
}

/// Another place that belongs to a finding.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Related {
    /// The file's path.
    pub file: String,
    /// The line, 1-based.
    pub line: u32,
    /// The bytes it is about.
    pub span: Span,
    /// The text that explains it.
    pub message: String,
}

/// A change that fixes a finding.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Fix {
    /// The effect, in plain words.
    pub message: String,
    /// Whether every page stays as it is.
    pub keeps_pages: bool,
    /// The changes.
    pub edits: Vec<Edit>,
}

/// The findings of a check.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[non_exhaustive]
pub struct Checked {
    /// The findings, sorted by file and place.
    pub findings: Vec<Finding>,
    /// How many templates were looked at.
    pub files: usize,
    /// How many findings are suppressed in the settings or by comments.
    pub suppressed: usize,
    /// Pages and files that could not be checked: too large, or unreadable.
    pub skipped: Vec<String>,
}

impl Checked {
    /// How many findings are of a severity.
    pub fn count(&self, severity: Severity) -> usize {
        self.findings.iter().filter(|finding| finding.severity == severity).count()
    }

    /// Findings that are alike once, errors and warnings first and hints at the end: the first one, and the number of
    /// others. Alike are those of a rule with the same words in the same line of other files, and those in one place
    /// that are about several pages.
    pub fn told_once(&self, site: &Site) -> Vec<(&Finding, usize)> {
        // The same words, but for the file's own name.
        let words = |finding: &Finding| finding.message.replace(&finding.file, "");
        let mut places: FxHashMap<(&str, Severity, String, Vec<u8>), usize> = FxHashMap::default();
        let mut pages: FxHashMap<(&str, &str, Span), usize> = FxHashMap::default();
        let mut told: Vec<(&Finding, usize)> = Vec::new();
        for finding in &self.findings {
            let place = (finding.rule, finding.file.as_str(), finding.span);
            if let Some(&at) = pages.get(&place).filter(|_| !finding.span.is_empty()) {
                told[at].1 += 1;
                continue;
            }
            // What is about a file as a whole has no line of its own.
            let known = (!finding.span.is_empty())
                .then(|| (finding.rule, finding.severity, words(finding), line_of(site, finding)));
            match known.as_ref().and_then(|key| places.get(key)) {
                Some(&at) => told[at].1 += 1,
                None => {
                    places.extend(known.map(|key| (key, told.len())));
                    pages.insert(place, told.len());
                    told.push((finding, 0));
                }
            }
        }
        told.sort_by_key(|(finding, _)| finding.severity == Severity::Hint);
        told
    }

    /// Whether nothing is found that is so bad, or worse.
    pub fn is_clean(&self, least: Severity) -> bool {
        self.findings.iter().all(|finding| finding.severity > least)
    }
}

/// Refuses settings that name a rule which is not among `rules`.
///
/// # Errors
/// With the line and column of the name.
pub fn refuse_unknown_rules(settings: &Settings, rules: &[Rule]) -> Result<(), ConfigError> {
    let known: Vec<&str> = rules.iter().map(|rule| rule.id).collect();
    config::read(&settings.text, |table| {
        for check in items(table).into_iter().filter(|item| item.0 == "check") {
            for named in items(subtable(check)?).into_iter().filter(|item| matches!(item.0, "levels" | "ignore")) {
                if let Some(rule) = items(subtable(named)?).into_iter().find(|item| !known.contains(&item.0)) {
                    return Err(unknown(rule, &known));
                }
            }
        }
        Ok(())
    })
}

/// Looks for everything that [`RULES`] name, but for what the site's settings turn off.
pub fn check(site: &Site) -> Checked {
    check_rules(site, RULES)
}

/// The same for some rules.
pub fn check_rules(site: &Site, rules: &[Rule]) -> Checked {
    Checks::new(rules).check(site)
}

/// Gives findings their places, leaves out what is suppressed, and sorts them.
fn finish(site: &Site, found: Vec<(Rule, Found)>, skipped: Vec<String>) -> Checked {
    let lines: Vec<std::sync::OnceLock<LineIndex>> = site.templates.iter().map(|_| Default::default()).collect();
    let position = |id: SourceId, offset: u32| {
        let source = &site.get(id).source;
        lines[id.index()].get_or_init(|| LineIndex::new(source)).position(source, offset)
    };
    let mut findings: Vec<Finding> = found
        .into_par_iter()
        .map(|(rule, found)| {
            let at = position(found.id, found.span.start);
            let related = found.related.into_iter().map(|(id, span, message)| Related {
                file: site.get(id).path.clone(),
                line: position(id, span.start).line,
                span,
                message,
            });
            let usual = rule.severity_in(&site.settings).unwrap_or(rule.severity);
            // What a rule is less sure of than usual weighs no more than it says.
            let severity = found.severity.map_or(usual, |severity| severity.max(usual));
            Finding {
                rule: rule.id,
                severity,
                file: site.get(found.id).path.clone(),
                line: at.line,
                column: at.column,
                span: found.span,
                message: found.message,
                related: related.collect(),
                fix: found.fix,
                fingerprint: String::new(),
            }
        })
        .collect();
    findings.sort_by(|a, b| {
        let key = |f: &Finding| (f.file.clone(), f.span, f.rule, f.message.clone());
        key(a).cmp(&key(b))
    });
    // What many pages share is found once.
    findings.dedup_by(|a, b| (a.rule, &a.file, a.span, &a.message) == (b.rule, &b.file, b.span, &b.message));
    let all = findings.len();
    suppress::leave_out(site, &mut findings);
    print_fingers(site, &mut findings);
    Checked { suppressed: all - findings.len(), findings, files: site.templates.len(), skipped }
}

/// Gives findings their fingerprints: of the rule, the file and the text of the line; of several on such lines in one
/// file also their number.
fn print_fingers(site: &Site, findings: &mut [Finding]) {
    let mut known: FxHashMap<u64, usize> = FxHashMap::default();
    for finding in findings {
        let line = line_of(site, finding);
        let text = [finding.rule.as_bytes(), finding.file.as_bytes(), &line].join(&0);
        let hash = xxhash_rust::xxh3::xxh3_64(&text);
        let number = known.entry(hash).or_default();
        finding.fingerprint = format!("{hash:016x}-{number}");
        *number += 1;
    }
}

/// The text of the line that a finding is in, of a long one what is around the finding; none if it is about its file
/// as a whole.
fn line_of(site: &Site, finding: &Finding) -> Vec<u8> {
    /// Lines are cut so many bytes before and after the start of a finding: a file may be one line.
    const AROUND: usize = 500;
    let Some(id) = site.find(&finding.file).filter(|_| !finding.span.is_empty()) else { return Vec::new() };
    let source = &site.get(id).source;
    let at = (finding.span.start as usize).min(source.len());
    let source = &source[..source.len().min(at + AROUND)];
    let first = at.saturating_sub(AROUND);
    let start = first + line_start(&source[first..], at - first);
    let end = memchr::memchr(b'\n', &source[at..]).map_or(source.len(), |end| at + end);
    source[start..end].trim_ascii().to_vec()
}

/// The result of fixing.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Fixed {
    /// The findings that were fixed.
    pub findings: Vec<Finding>,
    /// Pages that change, with how; a fix that keeps all pages is proven to.
    pub changed: Vec<PageProof>,
    /// The assumptions of its proof that nobody has confirmed.
    pub assumptions: Vec<Assumption>,
    /// The files that change.
    pub files: Vec<String>,
    /// The changes.
    #[serde(skip)]
    #[cfg_attr(feature = "schema", schemars(skip))]
    pub changes: Vec<Change>,
}

/// Makes the safe fixes of findings, as one change.
///
/// A fix that says that it keeps all pages is left out if that cannot be shown; one that
/// overlaps an earlier one is left for the next time.
///
/// # Errors
/// If the edits lead out of the site.
pub fn fix(site: &Site, findings: &[Finding]) -> Result<Fixed, EditError> {
    let mut edits = Edits::default();
    let mut fixed: Vec<Finding> = Vec::new();
    for keeps in [true, false] {
        let wanted = findings.iter().filter(|finding| finding.fix.as_ref().is_some_and(|fix| fix.keeps_pages == keeps));
        for finding in wanted {
            let own = edits_of(finding);
            let touched = |edit: &&Edit| own.iter().any(|other| other.file == edit.file);
            let beside = edits.edits.iter().filter(touched).chain(&own).cloned().collect();
            if (Edits { edits: beside, ..Edits::default() }).changes(site).is_ok() {
                edits.edits.extend(own);
                fixed.push(finding.clone());
            }
        }
        if keeps {
            fixed = proven(site, Vec::new(), fixed)?;
            edits.edits = fixed.iter().flat_map(edits_of).collect();
        }
    }
    let changes = edits.changes(site)?;
    let after = site.after(&changes, &[]);
    let proof = prove(site, &after, Strength::Dom);
    let changed = proof.different().cloned().collect();
    let files = changes.iter().map(|change| change.path.clone()).collect();
    Ok(Fixed { findings: fixed, changed, assumptions: proof.assumptions, files, changes })
}

fn edits_of(finding: &Finding) -> Vec<Edit> {
    finding.fix.as_ref().map(|fix| fix.edits.clone()).unwrap_or_default()
}

/// Those of `known` findings, and of more, that can be fixed together without a change to a page;
/// what cannot is found by halves.
fn proven(site: &Site, mut known: Vec<Finding>, more: Vec<Finding>) -> Result<Vec<Finding>, EditError> {
    let all = Edits { edits: known.iter().chain(&more).flat_map(edits_of).collect(), ..Edits::default() };
    if more.is_empty() || prove(site, &site.after(&all.changes(site)?, &[]), Strength::Blanks).equal {
        known.extend(more);
    } else if more.len() > 1 {
        let mut first = more;
        let second = first.split_off(first.len() / 2);
        known = proven(site, known, first)?;
        known = proven(site, known, second)?;
    }
    Ok(known)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn settings_that_name_no_rule_are_refused_at_the_name() {
        let text = "[check.levels]\ndrift = 'off'\nfares = 'hint'\n\n[check.ignore]\nduplicate-idd = 'a.html'\n";
        let settings = Settings::parse(text).expect("settings");
        let refused = |rules: &[Rule]| refuse_unknown_rules(&settings, rules).map_err(|error| error.to_string());
        let own = Rule::own("fares", Severity::Hint, "Fares are in whole coins.", |_| Vec::new());
        assert!(refused(RULES).expect_err("a name of no rule").starts_with("3:1: unknown key `fares`"));
        let slip = refused(&[RULES, &[own]].concat()).expect_err("a slip");
        assert_eq!(slip, "6:1: unknown key `duplicate-idd`; did you mean `duplicate-id`?");
    }
}
