//! What rendered pages show and templates alone cannot: the rule for line ends, what becomes of
//! loose content, which of two blocks counts, and forms that were left open.

use std::collections::BTreeSet;
use std::sync::Arc;

use rayon::prelude::*;

use super::{Confidence, Learned, LearnedForm};
use crate::dialect::{Dialect, Kind, Part};
use crate::markup::{ALONE, Constructs};
use crate::resolve::Resolver;
use crate::site::{Settings, Site, SourceFile, beneath, folder};

/// The most rendered pages that are compared.
const MAX_PAGES: usize = 60;

/// Settles what rendered pages can settle.
pub(super) fn settle(learned: &mut Learned, files: &[SourceFile], rendered: &[SourceFile]) {
    if rendered.is_empty() {
        return;
    }
    let mut trial = Trial { files, rendered, settings: Settings::parse(&learned.settings).unwrap_or_default() };
    let mut best = (trial.score(&learned.text), learned.text.clone());
    if best.0.pages == 0 {
        return;
    }
    // Forms that were asked for: whichever makes more pages come out.
    for form in learned.forms.iter_mut().filter(|form| form.confidence == Confidence::Asked) {
        let line = format!("# {} = {}", form.kind.word(), form.form);
        let text = best.1.replacen(&line, &line[2..], 1);
        // A kind that is written already cannot be written twice.
        if Dialect::parse(&text).is_ok() {
            let score = trial.score(&text);
            if score > best.0 {
                best = (score, text);
                form.confidence = Confidence::Sure;
                form.evidence = format!("{}; rendered pages show it", form.evidence);
                learned.settled.push(format!("{} is {}", form.form, form.kind.word()));
            }
        }
    }
    // Whether the element that carries an attribute goes with it.
    // What is kept is usual for regions, so they come last.
    for kind in [Kind::Inherited, Kind::Include, Kind::Body, Kind::Slot] {
        settle_elements(&trial, kind, learned, &mut best);
    }
    learned.questions = Vec::new();
    let open = learned.forms.iter().filter(|form| form.confidence == Confidence::Asked);
    learned.questions.extend(open.map(super::write::question));
    settle_rules(&trial, learned, &mut best);
    settle_edges(&mut trial, learned, &mut best);
    learned.text = best.1;
}

/// Whether the elements go that carry attributes of a kind.
fn settle_elements(trial: &Trial<'_>, kind: Kind, learned: &mut Learned, best: &mut (Score, String)) {
    let is_attribute = |form: &&mut LearnedForm| form.kind == kind && form.form[1..].starts_with("<*");
    for form in learned.forms.iter_mut().filter(is_attribute) {
        let table = format!("{{ open = {}, element = \"replaced\" }}", form.form);
        let text = best.1.replacen(&form.form, &table, 1);
        let score = trial.score(&text);
        if score > best.0 {
            *best = (score, text);
            learned.settled.push(format!("{}: the element goes too", form.form));
            form.form = table;
        }
    }
}

/// Line ends and loose content go together; then blocks that stand twice, and names that are
/// bound only where nothing has bound them.
fn settle_rules(trial: &Trial<'_>, learned: &mut Learned, best: &mut (Score, String)) {
    const LOOSE: [&str; 3] = ["ignored", "body", "before"];
    const NEWLINE: [&str; 3] = ["kept", "eaten", "line"];
    let pairs: Vec<[(&str, &str); 2]> =
        LOOSE.iter().flat_map(|loose| NEWLINE.map(|newline| [("loose", *loose), ("newline", newline)])).collect();
    let tried: Vec<(Score, String)> = pairs
        .iter()
        .map(|rules| {
            let text = rules.iter().fold(best.1.clone(), |text, (rule, value)| with_rule(&text, rule, value));
            (trial.score(&text), text)
        })
        .collect();
    // The first of the best: what comes first changes least.
    let top = tried.iter().map(|(score, _)| *score).max().unwrap_or_default();
    let Some(at) = tried.iter().position(|(score, _)| *score == top).filter(|_| top >= best.0) else { return };
    for (place, (rule, value)) in pairs[at].iter().enumerate() {
        // A rule is settled where another value of it does worse.
        let others = |other: &[(&str, &str); 2]| other[1 - place] == pairs[at][1 - place] && other[place].1 != *value;
        if pairs.iter().zip(&tried).any(|(rules, (score, _))| others(rules) && *score < top) {
            best.1 = with_rule(&best.1, rule, value);
            learned
                .settled
                .push(format!("{rule} = \"{value}\": {} of {} rendered pages come out so", top.whole, top.pages));
        }
    }
    best.0 = trial.score(&best.1);
    let [last, first] = ["last", "first"].map(|value| {
        let text = with_rule(&best.1, "twice", value);
        (trial.score(&text), text, value)
    });
    if last.0 != first.0 {
        let (score, text, value) = if first.0 > last.0 { first } else { last };
        learned
            .settled
            .push(format!("twice = \"{value}\": {} of {} rendered pages come out so", score.whole, score.pages));
        *best = (score, text);
    }
    for form in learned.forms.iter_mut().filter(|form| form.kind == Kind::Set && !form.form.starts_with('{')) {
        let table = format!("{{ open = {}, default = true }}", form.form);
        let text = best.1.replacen(&form.form, &table, 1);
        let score = trial.score(&text);
        if score > best.0 {
            *best = (score, text);
            learned.settled.push(format!("{} binds its name only where nothing has", form.form));
            form.form = table;
        }
    }
}

/// Pages that come out without what is put around the others; includes of files that may be missing.
fn settle_edges(trial: &mut Trial<'_>, learned: &mut Learned, best: &mut (Score, String)) {
    if learned.settings.contains("before = [") && best.0.whole < best.0.pages {
        let folders: BTreeSet<&str> =
            trial.rendered.iter().map(|page| folder(&page.path)).filter(|path| !path.is_empty()).collect();
        for path in folders.into_iter().rev() {
            let line = format!("\"{path}/**\"");
            let settings = match learned.settings.contains("except = [") {
                true => learned.settings.replacen("except = [", &format!("except = [{line}, "), 1),
                false => format!("{}except = [{line}]\n", learned.settings),
            };
            let Ok(read) = Settings::parse(&settings) else { continue };
            let old = std::mem::replace(&mut trial.settings, read);
            let score = trial.score(&best.1);
            if score > best.0 {
                best.0 = score;
                learned.settings = settings;
                learned.settled.push(format!("pages in {path} have nothing put around them"));
            } else {
                trial.settings = old;
            }
        }
    }
    for words in learned.trailing.clone() {
        let text = with_list(&best.1, "optional", &words);
        let score = trial.score(&text);
        if score > best.0 {
            *best = (score, text);
            learned.settled.push(format!("`{words}`: it is no mistake if the file is missing"));
        }
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

struct Trial<'a> {
    files: &'a [SourceFile],
    rendered: &'a [SourceFile],
    settings: Settings,
}

impl Trial<'_> {
    fn score(&self, text: &str) -> Score {
        let Ok(dialect) = Dialect::parse(text) else { return Score::default() };
        let dialect = Arc::new(dialect);
        let site = Site::read(self.files.to_vec(), &[Arc::clone(&dialect)], &self.settings);
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

/// Compares a flattened page with a rendered one: what stands between its constructs must be
/// found in this order; what stands in conditions and loops may be missing or repeat.
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
        if item.part == Part::Open && item.partner != ALONE && item.kind == Kind::Control {
            at = constructs.items[item.partner as usize].span.end as usize;
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

/// A dialect file with a rule that is a list of one text.
fn with_list(text: &str, rule: &str, value: &str) -> String {
    with_rule(text, rule, "?").replacen(&format!("{rule} = \"?\""), &format!("{rule} = [\"{value}\"]"), 1)
}

/// A dialect file with a rule set.
fn with_rule(text: &str, rule: &str, value: &str) -> String {
    let line = format!("{rule} = \"{value}\"");
    let known = text.lines().find(|known| known.split('=').next().is_some_and(|key| key.trim() == rule));
    match (known, text.contains("\n[rules]\n")) {
        (Some(known), _) => text.replacen(known, &line, 1),
        (None, true) => text.replacen("\n[rules]\n", &format!("\n[rules]\n{line}\n"), 1),
        (None, false) => format!("{}\n\n[rules]\n{line}\n", text.trim_end()),
    }
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

    #[test]
    fn rules_are_set_in_place() {
        let text = "name = \"x\"\n\n[rules]\nloose = \"body\"\n";
        assert!(with_rule(text, "loose", "before").ends_with("[rules]\nloose = \"before\"\n"));
        assert!(with_rule(text, "twice", "last").contains("[rules]\ntwice = \"last\"\nloose"));
        assert!(with_rule("name = \"x\"\n", "twice", "last").ends_with("\n[rules]\ntwice = \"last\"\n"));
        assert!(with_list(text, "optional", "if there").contains("optional = [\"if there\"]"));
    }
}
