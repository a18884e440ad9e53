//! The dialect file of what was learned, with the evidence as comments.

use std::collections::BTreeSet;
use std::fmt::Write as _;

mod comments;
pub(crate) mod document;
pub(crate) mod forms;
mod leftovers;
mod targets;
mod within;

use document::{list, quote, with_forms, with_rule};
use forms::{Shape, Writer};

use crate::dialect::{Dialect, Kind};
use crate::meaning::{Facts, Meanings};
use crate::read::tags::TagId;
use crate::text::Place;
use crate::thresholds::HALF;
use crate::{Confidence, Group, Known, Learned, LearnedForm};

pub(crate) fn learned(facts: &Facts<'_>, found: &Meanings, group: &Group<'_>) -> Option<Learned> {
    let mut shapes = Writer { facts, found }.forms();
    // A form that cannot be read is none.
    shapes.retain(|shape| {
        // A parent that is no name is written beside one that is.
        let beside = if shape.kind == Kind::Parent { ", '{% x \"<target>\" %}'" } else { "" };
        Dialect::parse(&format!("name = \"x\"\n[forms]\n{} = [{}{beside}]\n", shape.kind.word(), value(shape))).is_ok()
    });
    if let Some(known) = &group.known {
        shapes.retain(|shape| !explains(known, facts, shape));
        let adds =
            |shape: &Shape| !matches!(shape.kind, Kind::Output | Kind::Other | Kind::Comment | Kind::Set | Kind::Code);
        if !shapes.iter().any(|shape| adds(shape) && shape.confidence > Confidence::Asked) {
            return None;
        }
    }
    let forms: Vec<LearnedForm> = shapes.iter().map(|shape| form(facts, shape)).collect();
    let base = group.known.as_ref().map_or_else(|| head(facts, found, group), |known| known.dialect.text.clone());
    let text = with_forms(&base, &forms);
    let questions = forms.iter().filter(|form| form.confidence == Confidence::Asked).map(question).collect();
    let dialect = Dialect::parse(&text).ok()?;
    Some(Learned {
        name: dialect.name,
        files: dialect.files.patterns().to_vec(),
        extends: group.known.as_ref().map(|known| known.dialect.name.clone()),
        forms,
        questions,
        settled: Vec::new(),
        base,
        text,
        settings: settings(facts, found),
        trailing: trailing(facts, found),
    })
}

/// Words after the names of files that are not there.
fn trailing(facts: &Facts<'_>, found: &Meanings) -> Vec<String> {
    let mut words = BTreeSet::new();
    for reference in facts.references {
        if found.of.get(&reference.directive).is_none_or(|m| m.kind != Kind::Include) {
            continue;
        }
        for at in &facts.directives[reference.directive].tags {
            let tag = &facts.tags[*at];
            let resolved = reference.edges.iter().any(|(known, _)| known == at);
            let text = &facts.corpus.texts[tag.file].text;
            if let Some(first) = tag.tokens.first().filter(|_| !resolved && !tag.call) {
                let rest = text[first.range.end..tag.inner.end].trim();
                if !rest.is_empty() && rest.bytes().all(|b| b.is_ascii_alphabetic() || b == b' ') {
                    words.insert(rest.to_owned());
                }
            }
        }
    }
    words.into_iter().collect()
}

/// Whether a dialect that is known reads most of a form's tags as what they are.
fn explains(known: &Known, facts: &Facts<'_>, shape: &Shape) -> bool {
    let read = |at: &&TagId| {
        let tag = &facts.tags[**at];
        let kind = known.kinds[tag.file.index()].get(&tag.range.start);
        // A tag that it only passes over is not explained.
        kind.is_some_and(|kind| *kind != Kind::Other || shape.kind == Kind::Other)
    };
    HALF.reached(shape.tags.iter().filter(read).count(), shape.tags.len())
}
/// A dialect file without its forms.
fn head(facts: &Facts<'_>, found: &Meanings, group: &Group<'_>) -> String {
    let mut text = String::new();
    let count = facts.corpus.texts.len();
    let _ = writeln!(text, "# Inferred from {count} files. The evidence of each form is above it.");
    let _ = writeln!(text, "name  = {}\nfiles = [{}]\n\n[forms]", quote(&name(group)), quote(&group.pattern));
    let marks: BTreeSet<char> = facts.tags.iter().flat_map(|tag| tag.trimmed.iter().flatten().copied()).collect();
    // An equals sign leaves the whitespace as it is; the others take it.
    let (exact, trim): (Vec<char>, Vec<char>) = marks.into_iter().partition(|mark| *mark == '=');
    for (word, marks) in [("trim", trim), ("exact", exact)].iter().filter(|(_, marks)| !marks.is_empty()) {
        let _ = writeln!(text, "{word} = {}", list(&marks.iter().map(char::to_string).collect::<Vec<_>>()));
    }
    text += &targets::tables(facts, found);
    if found.bodies && !found.parents.is_empty() { with_rule(&text, "loose", "body") } else { text }
}

/// The name of a dialect: its files' suffix, and their folder if that tells it apart.
fn name(group: &Group<'_>) -> String {
    let folder = group.pattern.split_once("/**").map_or("", |(folder, _)| folder);
    let folder = if folder == "**" || folder.starts_with('*') { "" } else { folder };
    let words = [folder, group.suffix].join(".");
    let words: Vec<&str> = words.split(|c: char| !c.is_ascii_alphanumeric()).filter(|word| !word.is_empty()).collect();
    let name = if words.is_empty() { "learned".to_owned() } else { format!("learned-{}", words.join("-")) };
    // The first of several has the plain name.
    if group.number > 2 { format!("{name}-{}", group.number - 1) } else { name }
}
/// A text, or several, as a value of the dialect file.
fn texts(texts: &[String]) -> String {
    if let [one] = texts { quote(one) } else { list(texts) }
}

/// A form as a value of the dialect file.
fn value(shape: &Shape) -> String {
    if let Some(fence) = &shape.header {
        return format!("{{ header = {}, form = {} }}", quote(fence), quote(&shape.open));
    }
    let plain = shape.close.is_empty() && !shape.balanced && !shape.line && !shape.within;
    if plain {
        return quote(&shape.open);
    }
    let key = if shape.within { "form" } else { "open" };
    let mut parts = vec![format!("{key} = {}", quote(&shape.open))];
    if !shape.branch.is_empty() {
        parts.push(format!("branch = {}", texts(&shape.branch)));
    }
    if !shape.close.is_empty() {
        parts.push(format!("close = {}", texts(&shape.close)));
    }
    if shape.balanced {
        parts.push("balanced = \"{}\"".into());
    }
    if shape.line {
        parts.push("line = true".into());
    }
    if shape.within {
        parts.push("within = true".into());
    }
    format!("{{ {} }}", parts.join(", "))
}

fn form(facts: &Facts<'_>, shape: &Shape) -> LearnedForm {
    let tag = |&at: &TagId| (facts.tags[at].file, facts.tags[at].range.clone());
    let first = shape.tags.first().map(tag).or_else(|| shape.elsewhere.first().cloned());
    let (written, example) = first.map_or_else(Default::default, |(file, range)| {
        let text = &facts.corpus.texts[file];
        let written = text.text[range.clone()].split_whitespace().collect::<Vec<_>>().join(" ");
        (written, Some(Place { file: text.path.clone(), line: text.line(range.start) as u32 }))
    });
    LearnedForm {
        kind: shape.kind,
        form: value(shape),
        uses: shape.tags.len() + shape.elsewhere.len(),
        evidence: shape.why.clone(),
        confidence: shape.confidence,
        written,
        example,
    }
}

pub(crate) fn question(form: &LearnedForm) -> String {
    let at = form.example.as_ref().map_or(String::new(), |at| format!(" ({}:{})", at.file, at.line));
    let other = match form.kind {
        Kind::Inherited => "a value or a tag that is kept as it is",
        Kind::Comment => "a condition whose content is printed",
        _ => "a tag that is kept as it is",
    };
    format!("{}{at}: is it {}, or {other}? {}", form.form, article(form.kind), form.evidence)
}

fn article(kind: Kind) -> String {
    match kind {
        Kind::Inherited => "the content that an override replaces".into(),
        Kind::Include | Kind::Import | Kind::Output | Kind::Other => format!("an {}", kind.word()),
        kind => format!("a {}", kind.word()),
    }
}
/// The lines for `radicon.toml`.
fn settings(facts: &Facts<'_>, found: &Meanings) -> String {
    let mut out = String::new();
    if let Some(marker) = &found.marker {
        let _ = writeln!(out, "[[folder]]\nmarker = {}", quote(marker));
    }
    if let Some((name, path)) = &found.layout_file {
        let _ = writeln!(out, "[[folder]]\npath = {}\nlayout-file = {}\nnested = true", quote(path), quote(name));
        let except: Vec<String> =
            facts.folders_of_parts(found, path).iter().map(|folder| quote(&format!("{folder}/**"))).collect();
        if !except.is_empty() {
            let _ = writeln!(out, "except = [{}]", except.join(", "));
        }
    }
    if let Some((before, after)) = &found.around {
        let _ = writeln!(out, "[[folder]]\nbefore = [{}]\nafter = [{}]", quote(before), quote(after));
        let whole: Vec<String> = facts
            .corpus
            .texts
            .iter()
            .filter(|t| t.has_skeleton() && t.path != *before && t.path != *after)
            .map(|t| quote(&t.path))
            .collect();
        if !whole.is_empty() {
            let _ = writeln!(out, "except = [{}]", whole.join(", "));
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use crate::Confidence;
    use crate::dialect::Kind;
    use crate::testing::{LAYOUT, learned, page};

    #[test]
    fn a_dialect_is_called_by_its_files_and_tells_what_speaks_for_it() {
        let learned = learned(LAYOUT, &page("<h1>@</h1>"), &[]);
        assert_eq!((learned.name.as_str(), &learned.files[..]), ("learned-html", &["**/*.html".to_owned()][..]));
        assert!(learned.questions.is_empty() && learned.settings.is_empty(), "{learned:?}");
        let parent = learned.forms.iter().find(|form| form.kind == Kind::Parent).expect("a parent");
        assert_eq!((parent.uses, parent.confidence), (10, Confidence::Sure));
        assert!(parent.evidence.starts_with("10 of 10 names are files"), "{}", parent.evidence);
        assert_eq!(parent.example.as_ref().map(|place| (place.file.as_str(), place.line)), Some(("p0.html", 1)));
    }
}
