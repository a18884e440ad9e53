//! What rendered pages show and templates alone cannot: the rule for line ends, what becomes of
//! loose content, which of two blocks counts, and forms that were left open.

use std::collections::BTreeSet;
use std::sync::Arc;

use rayon::prelude::*;

use toml_edit::{Array, Value};

use super::dialect_file::document::{with_exception, with_key, with_rule};
use super::dialect_file::question;
use super::{Confidence, Learned, LearnedForm};
use crate::dialect::{Dialect, Kind, Part};
use crate::markup::Constructs;
use crate::resolve::Resolver;
use crate::site::{Settings, Site, SourceFile, beneath, folder};

/// The most rendered pages that are compared.
const MAX_PAGES: usize = 60;

/// Settles what rendered pages can settle.
pub(super) fn settle(learned: &mut Learned, files: &[SourceFile], rendered: &[SourceFile]) {
    if rendered.is_empty() {
        return;
    }
    if rendered.is_empty() {
        return;
    }
    if rendered.is_empty() {
        return;
    }
    let mut trial = Trial { files, rendered, best: Score::default() };
    trial.best = trial.score(learned);
    if trial.best.pages == 0 {
        return;
    }
    trial.settle_forms(learned);
    // Whether the element that carries an attribute goes with it. What is kept is usual for regions, so they come last.
    for kind in [Kind::Inherited, Kind::Include, Kind::Body, Kind::Slot] {
        let is_attribute = |form: &LearnedForm| form.kind == kind && form.form[1..].starts_with("<*");
        trial.settle_key(learned, is_attribute, ("element", "replaced".into()), "the element goes too");
    }
    trial.settle_rules(learned);
    let is_plain_set = |form: &LearnedForm| form.kind == Kind::Set && !form.form.starts_with('{');
    trial.settle_key(learned, is_plain_set, ("default", true.into()), "it binds its name only where nothing has");
    trial.settle_edges(learned);
}

/// The values of the rules that are settled together: what becomes of loose content, and of line ends.
const LOOSE: [&str; 3] = ["ignored", "body", "before"];
const NEWLINE: [&str; 3] = ["kept", "eaten", "line"];

struct Trial<'a> {
    files: &'a [SourceFile],
    rendered: &'a [SourceFile],
    /// How well pages come out by what was kept.
    best: Score,
}

impl Trial<'_> {
    /// Makes a change, and keeps it if pages come out better with it.
    fn keep_if_better(&mut self, learned: &mut Learned, change: impl FnOnce(&mut Learned)) -> bool {
        let mut changed = learned.clone();
        change(&mut changed);
        changed.text = changed.with_forms(&changed.forms);
        let score = self.score(&changed);
        let is_better = score > self.best;
        if is_better {
            (*learned, self.best) = (changed, score);
        }
        is_better
    }

    /// Forms that were asked for: whichever makes more pages come out.
    fn settle_forms(&mut self, learned: &mut Learned) {
        for at in 0..learned.forms.len() {
            if learned.forms[at].confidence == Confidence::Asked {
                self.keep_if_better(learned, |learned| {
                    let form = &mut learned.forms[at];
                    form.confidence = Confidence::Sure;
                    form.evidence = format!("{}; rendered pages show it", form.evidence);
                    learned.settled.push(format!("{} is {}", form.form, form.kind.word()));
                });
            }
        }
        let open = learned.forms.iter().filter(|form| form.confidence == Confidence::Asked);
        learned.questions = open.map(question).collect();
    }

    /// Whether forms have one more key.
    fn settle_key(
        &mut self,
        learned: &mut Learned,
        is_asked: impl Fn(&LearnedForm) -> bool,
        (key, value): (&str, Value),
        says: &str,
    ) {
        for at in 0..learned.forms.len() {
            if is_asked(&learned.forms[at]) {
                self.keep_if_better(learned, |learned| {
                    let form = &mut learned.forms[at].form;
                    learned.settled.push(format!("{form}: {says}"));
                    *form = with_key(form, key, value.clone());
                });
            }
        }
    }

    /// Line ends and loose content go together; then blocks that occur twice.
    fn settle_rules(&mut self, learned: &mut Learned) {
        let with = |learned: &Learned, rules: &[(&str, &str)]| {
            let mut learned = learned.clone();
            for (rule, value) in rules {
                learned.base = with_rule(&learned.base, rule, *value);
            }
            learned.text = learned.with_forms(&learned.forms);
            learned
        };
        let pairs: Vec<[(&str, &str); 2]> =
            LOOSE.iter().flat_map(|loose| NEWLINE.map(|newline| [("loose", *loose), ("newline", newline)])).collect();
        let tried: Vec<Score> = pairs.iter().map(|rules| self.score(&with(learned, rules))).collect();
        // The first of the best: what comes first changes least.
        let top = tried.iter().copied().max().unwrap_or_default();
        let Some(at) = tried.iter().position(|score| *score == top).filter(|_| top >= self.best) else { return };
        for (place, &(rule, value)) in pairs[at].iter().enumerate() {
            // A rule is settled where another value of it does worse.
            let others =
                |other: &[(&str, &str); 2]| other[1 - place] == pairs[at][1 - place] && other[place].1 != value;
            if pairs.iter().zip(&tried).any(|(rules, score)| others(rules) && *score < top) {
                *learned = with(learned, &[(rule, value)]);
                learned.settled.push(top.says(rule, value));
            }
        }
        self.best = self.score(learned);
        let [last, first] = ["last", "first"].map(|value| {
            let learned = with(learned, &[("twice", value)]);
            (self.score(&learned), learned, value)
        });
        if last.0 != first.0 {
            let (score, better, value) = if first.0 > last.0 { first } else { last };
            (*learned, self.best) = (better, score);
            learned.settled.push(score.says("twice", value));
        }
    }

    /// Pages that come out without what is put around the others; includes of files that may be missing.
    fn settle_edges(&mut self, learned: &mut Learned) {
        let folders: BTreeSet<&str> =
            self.rendered.iter().map(|page| folder(&page.path)).filter(|path| !path.is_empty()).collect();
        for path in folders.into_iter().rev() {
            let settings = with_exception(&learned.settings, "before", &format!("{path}/**"));
            let Some(settings) = settings.filter(|_| self.best.whole < self.best.pages) else { break };
            self.keep_if_better(learned, |learned| {
                learned.settings = settings;
                learned.settled.push(format!("pages in {path} have nothing put around them"));
            });
        }
        for words in learned.trailing.clone() {
            self.keep_if_better(learned, |learned| {
                learned.base = with_rule(&learned.base, "optional", Array::from_iter([&words]));
                learned.settled.push(format!("`{words}`: it is no mistake if the file is missing"));
            });
        }
    }

    fn score(&self, learned: &Learned) -> Score {
        let Ok(dialect) = Dialect::parse(&learned.text) else { return Score::default() };
        let dialect = Arc::new(dialect);
        let settings = Settings::parse(&learned.settings).unwrap_or_default();
        let site = Site::read(self.files.to_vec(), &[Arc::clone(&dialect)], &settings);
        let resolver = Resolver::new(&site);
        let pages = self.rendered.par_iter().take(MAX_PAGES).filter_map(|page| {
            let id = site
                .pages()
                .filter(|id| fits(&site.get(*id).path, &page.path))
                .max_by_key(|id| site.get(*id).path.len().min(page.path.len()))?;
            let flat = resolver.flatten(id).ok()?;
            Some(compare(&flat.bytes, &dialect, &page.bytes))
        });
        pages.reduce(Score::default, |a, b| Score {
            whole: a.whole + b.whole,
            found: a.found + b.found,
            pages: a.pages + b.pages,
        })
    }
}

/// How well pages come out: whole ones, then stretches of text that are found in their order.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord)]
struct Score {
    whole: usize,
    /// Bytes found in their order, less those that are missing on either side.
    found: i64,
    pages: usize,
}

impl Score {
    /// A sentence about a rule that was settled.
    fn says(&self, rule: &str, value: &str) -> String {
        format!("{rule} = \"{value}\": {} of {} rendered pages come out so", self.whole, self.pages)
    }
}

/// Whether a rendered file may be that of a template: without suffixes one path ends with the other.
fn fits(template: &str, page: &str) -> bool {
    let stem = |path: &str| {
        let own = folder(path);
        let name = path.rsplit('/').next().unwrap_or(path);
        let name = name.split('.').next().unwrap_or(name);
        if own.is_empty() { name.to_owned() } else { format!("{own}/{name}") }
    };
    let (template, page) = (stem(template), stem(page));
    let ends = |long: &str, short: &str| {
        long == short
            || long.strip_suffix(short).is_some_and(|rest| rest.ends_with('/'))
            || beneath(long, short).is_some() && long.ends_with("/index")
    };
    ends(&template, &page) || ends(&page, &template)
}

/// Compares a flattened page with a rendered one: what is between its constructs must be
/// found in this order; what is in conditions and loops may be missing or repeat.
fn compare(flat: &[u8], dialect: &Dialect, page: &[u8]) -> Score {
    let constructs = Constructs::read(flat, dialect);
    let mut stretches: Vec<&[u8]> = Vec::new();
    let (mut at, mut until, mut left) = (0, 0, 0_i64);
    for item in &constructs.items {
        let (start, end) = (item.span.start as usize, item.span.end as usize);
        if start < until {
            continue;
        }
        stretches.push(&flat[at..start]);
        at = end;
        // A tag that should have been resolved is no text that may stand for anything.
        if item.kind.resolved() && item.kind != Kind::Comment {
            left += (end - start) as i64;
        }
        if let Some(closer) = item.partner.filter(|_| item.part == Part::Open && item.kind == Kind::Control) {
            at = constructs.items[closer].span.end as usize;
        }
        until = at;
    }
    stretches.push(&flat[at.min(flat.len())..]);
    let (mut place, mut found, mut whole) = (0, 0_i64, true);
    for (index, stretch) in stretches.iter().enumerate() {
        let rest = &page[place.min(page.len())..];
        let hit = match index {
            0 => rest.starts_with(stretch).then_some(0),
            _ if index + 1 == stretches.len() => rest.ends_with(stretch).then(|| rest.len() - stretch.len()),
            _ => memchr::memmem::find(rest, stretch),
        };
        match hit {
            Some(hit) => {
                place += hit + stretch.len();
                found += 2 * stretch.len() as i64;
            }
            None => {
                whole = false;
                found -= stretch.len() as i64;
            }
        }
    }
    whole &= stretches.len() > 1 || page.len() == flat.len();
    Score { whole: usize::from(whole), found: found - left - page.len() as i64, pages: 1 }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect::builtin_named;

    #[track_caller]
    fn check(flat: &str, page: &str, whole: bool) {
        let dialect = builtin_named("brace-percent").expect("a dialect");
        let score = compare(flat.as_bytes(), &dialect, page.as_bytes());
        assert_eq!(score.whole == 1, whole, "{flat} and {page}: {score:?}");
    }

    #[test]
    fn outputs_stand_for_anything_and_conditions_may_be_missing() {
        check("<p>{{ x }}</p>", "<p>7</p>", true);
        check("<p>{{ x }}</p>", "<p>7</p>\n", false);
        check("<p>a</p>", "<p>a</p>", true);
        check("<p>a</p>", "<p>ab</p>", false);
        check("<ul>{% for a in b %}<li>{{ a }}</li>{% endfor %}</ul>", "<ul><li>1</li><li>2</li></ul>", true);
        check("a{% if x %}b{% else %}c{% endif %}d", "ad", true);
        check("a{% if x %}b{% endif %}d", "a e", false);
        check("{% include 'gone.html' %}", "", true);
    }

    #[test]
    fn a_page_is_that_of_a_template_by_its_path() {
        for (template, page, same) in [
            ("views/fares.sail.html", "fares.html", true),
            ("fares.tpl", "out/fares.html", true),
            ("fares.tpl", "fares/index.html", true),
            ("fares.tpl", "winter-fares.html", false),
            ("a/fares.tpl", "b/fares.html", false),
        ] {
            assert_eq!(fits(template, page), same, "{template} {page}");
        }
    }
}
