//! The dialect file of what was learned, with the evidence as comments.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write as _;

use super::forms::{Shape, Writer};
use toml::de::DeTable;

use super::meaning::{Meanings, Reasoner, Trust};
use super::targets::Reference;
use super::{Confidence, Group, Known, Learned, LearnedForm};
use crate::dialect::{Dialect, Kind};
use crate::site::folder;
use crate::text::Place;

pub(super) fn learned(reasoner: &Reasoner<'_>, found: &Meanings, group: &Group<'_>) -> Option<Learned> {
    let mut shapes = Writer { reasoner, found }.forms();
    // A form that cannot be read is none.
    shapes.retain(|shape| {
        // A parent that is no name is written beside one that is.
        let beside = if shape.kind == Kind::Parent { ", '{% x \"<target>\" %}'" } else { "" };
        Dialect::parse(&format!("name = \"x\"\n[forms]\n{} = [{}{beside}]\n", shape.kind.word(), value(shape))).is_ok()
    });
    if let Some(known) = &group.known {
        shapes.retain(|shape| !explains(known, reasoner, shape));
        let adds =
            |shape: &Shape| !matches!(shape.kind, Kind::Output | Kind::Other | Kind::Comment | Kind::Set | Kind::Code);
        if !shapes.iter().any(|shape| adds(shape) && shape.trust > Trust::Asked) {
            return None;
        }
    }
    let forms: Vec<LearnedForm> = shapes.iter().map(|shape| form(reasoner, shape)).collect();
    let by_kind: Vec<(Kind, Vec<&LearnedForm>)> =
        Kind::ALL.into_iter().map(|kind| (kind, forms.iter().filter(|form| form.kind == kind).collect())).collect();
    let text = match &group.known {
        Some(known) => extended(&known.dialect.text, &by_kind),
        None => fresh(reasoner, found, group, &by_kind),
    };
    let questions = forms.iter().filter(|form| form.confidence == Confidence::Asked).map(question).collect();
    let dialect = Dialect::parse(&text).ok()?;
    Some(Learned {
        name: dialect.name,
        files: dialect.files.patterns().to_vec(),
        extends: group.known.as_ref().map(|known| known.dialect.name.clone()),
        forms,
        questions,
        settled: Vec::new(),
        text,
        settings: settings(reasoner, found),
        trailing: trailing(reasoner, found),
    })
}

/// Words behind the names of files that are not there.
fn trailing(reasoner: &Reasoner<'_>, found: &Meanings) -> Vec<String> {
    let mut words = BTreeSet::new();
    for reference in reasoner.references {
        if found.of.get(&reference.directive).is_none_or(|m| m.kind != Kind::Include) {
            continue;
        }
        for at in &reasoner.directives[reference.directive].tags {
            let tag = &reasoner.tags[*at];
            let resolved = reference.edges.iter().any(|(known, _)| known == at);
            let text = &reasoner.corpus.texts[tag.file].text;
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
fn explains(known: &Known, reasoner: &Reasoner<'_>, shape: &Shape) -> bool {
    let read = |at: &&usize| {
        let tag = &reasoner.tags[**at];
        let kind = known.kinds[tag.file].get(&tag.range.start);
        // A tag that it only passes over is not explained.
        kind.is_some_and(|kind| *kind != Kind::Other || shape.kind == Kind::Other)
    };
    shape.tags.iter().filter(read).count() * 2 >= shape.tags.len()
}

/// A dialect file with all that was learned.
fn fresh(reasoner: &Reasoner<'_>, found: &Meanings, group: &Group<'_>, forms: &[(Kind, Vec<&LearnedForm>)]) -> String {
    let mut text = String::new();
    let count = reasoner.corpus.texts.len();
    let _ = writeln!(text, "# Learned from {count} files. What speaks for each form stands above it.");
    let _ = writeln!(text, "name  = {}\nfiles = [{}]\n\n[forms]", quote(&name(group)), quote(&group.pattern));
    for (kind, forms) in forms {
        write_kind(&mut text, *kind, forms);
    }
    let marks: BTreeSet<char> = reasoner.tags.iter().flat_map(|tag| tag.trimmed.iter().flatten().copied()).collect();
    // An equals sign leaves the white space as it is; the others take it.
    let (exact, trim): (Vec<char>, Vec<char>) = marks.into_iter().partition(|mark| *mark == '=');
    for (word, marks) in [("trim", trim), ("exact", exact)].iter().filter(|(_, marks)| !marks.is_empty()) {
        let list: Vec<String> = marks.iter().map(|c| quote(&c.to_string())).collect();
        let _ = writeln!(text, "{word} = [{}]", list.join(", "));
    }
    write_targets(&mut text, reasoner, found);
    write_rules(&mut text, found);
    text
}

/// The text of a dialect file with more forms in it; everything else stays as it is written.
pub(super) fn extended(text: &str, forms: &[(Kind, Vec<&LearnedForm>)]) -> String {
    let Ok(table) = DeTable::parse(text) else { return text.to_owned() };
    let known = table
        .get_ref()
        .iter()
        .find(|(key, _)| key.get_ref().as_ref() == "forms")
        .and_then(|(_, value)| value.get_ref().as_table());
    let last = known.into_iter().flatten().map(|(_, value)| value.span().end).max();
    let mut edits: Vec<(usize, String)> = Vec::new();
    for (kind, forms) in forms {
        let added: Vec<&LearnedForm> =
            forms.iter().copied().filter(|form| form.confidence > Confidence::Asked).collect();
        if added.is_empty() {
            continue;
        }
        let lines: String = added.iter().map(|form| format!("  {}\n  {},\n", comment(form), form.form)).collect();
        let value =
            known.into_iter().flatten().find(|(key, _)| key.get_ref().as_ref() == kind.word()).map(|(_, value)| value);
        match value {
            Some(value) if value.get_ref().is_array() => {
                let end = value.span().end - 1;
                let inner = text[value.span().start + 1..end].trim_end();
                let comma = if inner.is_empty() || inner.ends_with(',') { "" } else { "," };
                edits.push((end, format!("{comma}\n{lines}")));
            }
            Some(value) => {
                edits.push((value.span().start, "[".into()));
                edits.push((value.span().end, format!(",\n{lines}]")));
            }
            None => {
                let at = last.unwrap_or(text.len());
                let header = if last.is_some() { "\n" } else { "\n[forms]\n" };
                edits.push((at, format!("{header}{} = [\n{lines}]", kind.word())));
            }
        }
    }
    edits.sort_by_key(|(at, _)| *at);
    let mut out = String::new();
    let mut at = 0;
    for (place, added) in edits {
        out += &text[at..place];
        out += &added;
        at = place;
    }
    out + &text[at..]
}

/// What a dialect is called: by its files' suffix, and by their folder if that tells it apart.
fn name(group: &Group<'_>) -> String {
    let folder = group.pattern.split_once("/**").map_or("", |(folder, _)| folder);
    let folder = if folder == "**" || folder.starts_with('*') { "" } else { folder };
    let words = [folder, group.suffix].join(".");
    let words: Vec<&str> = words.split(|c: char| !c.is_ascii_alphanumeric()).filter(|word| !word.is_empty()).collect();
    let name = if words.is_empty() { "learned".to_owned() } else { format!("learned-{}", words.join("-")) };
    // The first of several has the plain name.
    if group.number > 2 { format!("{name}-{}", group.number - 1) } else { name }
}

/// A text in TOML's quotes: literal ones where that can be.
pub(super) fn quote(text: &str) -> String {
    if text.contains('\'') || text.chars().any(char::is_control) {
        format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\""))
    } else if text.contains(['\\', '"']) {
        format!("'{text}'")
    } else {
        format!("\"{text}\"")
    }
}

fn list(texts: &[String]) -> String {
    match texts {
        [one] => quote(one),
        many => format!("[{}]", many.iter().map(|text| quote(text)).collect::<Vec<_>>().join(", ")),
    }
}

/// A form as a value of the dialect file.
fn value(shape: &Shape) -> String {
    let plain = shape.close.is_empty() && !shape.balanced && !shape.line && !shape.within;
    if plain {
        return quote(&shape.open);
    }
    let key = if shape.within { "form" } else { "open" };
    let mut parts = vec![format!("{key} = {}", quote(&shape.open))];
    if !shape.branch.is_empty() {
        parts.push(format!("branch = {}", list(&shape.branch)));
    }
    if !shape.close.is_empty() {
        parts.push(format!("close = {}", list(&shape.close)));
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

fn form(reasoner: &Reasoner<'_>, shape: &Shape) -> LearnedForm {
    let place = |at: usize| {
        let tag = &reasoner.tags[at];
        let text = &reasoner.corpus.texts[tag.file];
        Place { file: text.path.clone(), line: text.line(tag.range.start) as u32 }
    };
    LearnedForm {
        kind: shape.kind,
        form: value(shape),
        uses: shape.tags.len(),
        evidence: shape.why.clone(),
        confidence: shape.trust.into(),
        written: shape.tags.first().map(|&at| written_tag(reasoner, at)).unwrap_or_default(),
        example: shape.tags.first().map(|&at| place(at)),
    }
}

/// A tag as it stands in its file, in one line.
fn written_tag(reasoner: &Reasoner<'_>, at: usize) -> String {
    let tag = &reasoner.tags[at];
    let text = &reasoner.corpus.texts[tag.file].text[tag.range.clone()];
    text.split_whitespace().collect::<Vec<_>>().join(" ")
}

pub(super) fn question(form: &LearnedForm) -> String {
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

fn comment(form: &LearnedForm) -> String {
    let at = form.example.as_ref().map_or(String::new(), |at| format!(", {}:{}", at.file, at.line));
    let sure = match form.confidence {
        Confidence::Sure => "sure",
        Confidence::Likely => "likely",
        Confidence::Asked => "not decided",
    };
    let uses = if form.uses == 1 { "1 use".to_owned() } else { format!("{} uses", form.uses) };
    format!("# {sure}: {}; {uses}{at}", form.evidence)
}

fn write_kind(text: &mut String, kind: Kind, forms: &[&LearnedForm]) {
    for form in forms.iter().filter(|form| form.confidence == Confidence::Asked) {
        let _ = writeln!(text, "{}\n# {} = {}", comment(form), kind.word(), form.form);
    }
    let kept: Vec<&LearnedForm> = forms.iter().copied().filter(|form| form.confidence > Confidence::Asked).collect();
    match kept[..] {
        [] => {}
        [one] => {
            let _ = writeln!(text, "{}\n{} = {}", comment(one), kind.word(), one.form);
        }
        _ => {
            let _ = writeln!(text, "{} = [", kind.word());
            for form in kept {
                let _ = writeln!(text, "  {}\n  {},", comment(form), form.form);
            }
            let _ = writeln!(text, "]");
        }
    }
}

/// How the names of one kind of construct become files.
#[derive(Clone, PartialEq, Eq, Default)]
struct Rule {
    suffixes: Vec<String>,
    separator: String,
    prefix: String,
    /// What `relative` says; nothing if names start at the roots.
    relative: Option<&'static str>,
    bare: bool,
}

/// Of the names of a kind, in hundredths, those that show where all of them start; and those that
/// show that the naming file's folder comes first.
const START: usize = 95;
const START_FIRST: usize = 30;

impl Rule {
    fn lines(&self) -> String {
        let mut out = String::new();
        if self.suffixes != [""] {
            let _ =
                writeln!(out, "suffixes = [{}]", self.suffixes.iter().map(|s| quote(s)).collect::<Vec<_>>().join(", "));
        }
        if self.separator != "/" {
            let _ = writeln!(out, "separator = {}", quote(&self.separator));
        }
        if !self.prefix.is_empty() {
            let _ = writeln!(out, "prefix = {}", quote(&self.prefix));
        }
        if let Some(relative) = self.relative {
            let _ = writeln!(out, "relative = {relative}");
        }
        if self.bare {
            let _ = writeln!(out, "bare = true");
        }
        out
    }
}

fn write_targets(text: &mut String, reasoner: &Reasoner<'_>, found: &Meanings) {
    let mut kinds: BTreeMap<&str, Vec<&Reference>> = BTreeMap::new();
    let mut all: Vec<&Reference> = Vec::new();
    for reference in reasoner.references {
        let meaning = found
            .of
            .get(&reference.directive)
            .filter(|m| m.kind.names_a_file() && m.slot.as_ref() == Some(&reference.slot));
        if let Some(meaning) = meaning {
            kinds.entry(meaning.kind.word()).or_default().push(reference);
            all.push(reference);
        }
    }
    if all.is_empty() {
        return;
    }
    let common = rule(reasoner, &all);
    let lines = common.lines();
    if !lines.is_empty() {
        let _ = writeln!(text, "\n[targets]\n{}", lines.trim_end());
    }
    for (kind, references) in kinds {
        let own = rule(reasoner, &references);
        let fits = references.iter().all(|r| {
            r.naming.separator == common.separator
                || r.edges.iter().all(|(tag, _)| !written(reasoner, r, *tag).contains(['.', '/', ':']))
        }) && references.iter().all(|r| {
            common.suffixes.contains(&r.naming.suffix)
                && (r.naming.prefix == common.prefix || r.naming.prefix.is_empty())
        });
        if !fits && own != common {
            let mut lines = own.lines();
            // What differs must be said, also where it is the default.
            for (key, own, usual, default) in
                [("separator", &own.separator, &common.separator, "/"), ("prefix", &own.prefix, &common.prefix, "")]
            {
                if own == default && usual != default {
                    let _ = writeln!(lines, "{key} = {}", quote(default));
                }
            }
            if own.suffixes == [""] && common.suffixes != [""] {
                let _ = writeln!(lines, "suffixes = [\"\"]");
            }
            let _ = writeln!(text, "\n[targets.{kind}]\n{}", lines.trim_end());
        }
    }
}

/// The name that a tag writes for a file.
fn written<'r>(reasoner: &'r Reasoner<'_>, reference: &Reference, tag: usize) -> &'r str {
    let directive = &reasoner.directives[reference.directive];
    let text = &reasoner.corpus.texts[reasoner.tags[tag].file].text;
    let arguments = super::heads::arguments_of(text, &reasoner.tags[tag], directive.taken);
    let found = arguments.into_iter().find(|argument| argument.slot == reference.slot);
    found.map_or("", |argument| super::tags::token_text(text, &reasoner.tags[tag].tokens[argument.token]))
}

fn rule(reasoner: &Reasoner<'_>, references: &[&Reference]) -> Rule {
    let mut suffixes: BTreeMap<&str, usize> = BTreeMap::new();
    let mut separators: BTreeMap<&str, usize> = BTreeMap::new();
    let mut prefixes: BTreeMap<&str, usize> = BTreeMap::new();
    for reference in references {
        *suffixes.entry(&reference.naming.suffix).or_default() += reference.edges.len();
        reference.suffixes.iter().for_each(|suffix| *suffixes.entry(suffix).or_default() += 1);
        // Only names with folders show the separator.
        *separators.entry(&reference.naming.separator).or_default() += reference.paths;
        *prefixes.entry(&reference.naming.prefix).or_default() += reference.edges.len();
    }
    let most = |counts: &BTreeMap<&str, usize>| {
        counts.iter().max_by_key(|(_, n)| **n).map_or(String::new(), |(text, _)| (*text).to_owned())
    };
    let mut ordered: Vec<(&str, usize)> = suffixes.into_iter().collect();
    ordered.sort_by_key(|(suffix, uses)| (std::cmp::Reverse(*uses), *suffix));
    let mut rule = Rule {
        suffixes: ordered.into_iter().map(|(suffix, _)| suffix.to_owned()).collect(),
        separator: most(&separators),
        // A prefix that some names show is tried before the name itself.
        prefix: prefixes.keys().copied().find(|prefix| !prefix.is_empty()).unwrap_or("").to_owned(),
        ..Rule::default()
    };
    if rule.separator.is_empty() {
        rule.separator = "/".into();
    }
    let (mut own, mut all, mut bare) = (0, 0, 0);
    let mut roots: BTreeMap<String, BTreeSet<usize>> = BTreeMap::new();
    for reference in references {
        for &(tag, file) in &reference.edges {
            let name = written(reasoner, reference, tag);
            let path = reasoner.index.paths[file];
            if name.starts_with("./") || name.starts_with("../") || name.starts_with('/') {
                continue;
            }
            let folders = name.matches(reference.naming.separator.as_str()).count();
            let folders = if name.contains('/') { name.matches('/').count() } else { folders };
            // A name with its suffix has a dot that parts no folders.
            let dots = reference.naming.separator == "." && reference.naming.suffix.is_empty();
            let folders = if dots { 0 } else { folders };
            let root = (0..=folders).fold(path, |path, _| folder(path));
            let near = root == folder(&reasoner.corpus.texts[reasoner.tags[tag].file].path);
            (own, all, bare) = (own + usize::from(near), all + 1, bare + usize::from(folders == 0));
            roots.entry(root.to_owned()).or_default().insert(tag);
        }
    }
    let single = roots.values().any(|tags| tags.len() * 100 >= all * START);
    rule.relative = match own * 100 {
        _ if single || all == 0 => None,
        own if own >= all * START => Some("true"),
        own if own >= all * START_FIRST => Some("\"first\""),
        _ => None,
    };
    rule.bare = !single && rule.relative.is_none() && bare * 10 >= all * 9 && roots.len() > 2 && roots.len() * 4 > all;
    rule
}

fn write_rules(text: &mut String, found: &Meanings) {
    let mut lines = String::new();
    if found.bodies && !found.parents.is_empty() {
        lines += "loose = \"body\"\n";
    }
    if !lines.is_empty() {
        let _ = write!(text, "\n[rules]\n{lines}");
    }
}

/// What belongs into `radicon.toml`.
fn settings(reasoner: &Reasoner<'_>, found: &Meanings) -> String {
    let mut out = String::new();
    if let Some(marker) = &found.marker {
        let _ = writeln!(out, "[[folder]]\nmarker = {}", quote(marker));
    }
    if let Some((name, path)) = &found.layout_file {
        let _ = writeln!(out, "[[folder]]\npath = {}\nlayout-file = {}\nnested = true", quote(path), quote(name));
        let except: Vec<String> =
            reasoner.folders_of_parts(found, path).iter().map(|folder| quote(&format!("{folder}/**"))).collect();
        if !except.is_empty() {
            let _ = writeln!(out, "except = [{}]", except.join(", "));
        }
    }
    if let Some((before, after)) = &found.around {
        let _ = writeln!(out, "[[folder]]\nbefore = [{}]\nafter = [{}]", quote(before), quote(after));
        let whole: Vec<String> = reasoner
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
    use super::*;

    #[test]
    fn forms_are_put_into_a_file_that_stays_as_it_is() {
        let form = |kind: Kind, form: &str| LearnedForm {
            kind,
            form: form.to_owned(),
            uses: 1,
            evidence: "seen".into(),
            confidence: Confidence::Likely,
            written: String::new(),
            example: None,
        };
        let (slot, set, block) = (
            form(Kind::Slot, "'{% hook <name> %}'"),
            form(Kind::Set, "'{% let <name> = <expr> %}'"),
            form(Kind::Block, "{ open = '{% b <name> %}', close = '{% e %}' }"),
        );
        let known = "# mine\nname = 'x' # and this\n[forms]\nblock = { open = '{% block <name> %}', close = '{% end %}' }\nset = ['{% set <name> = <expr> %}']\n\n[rules]\ntwice = 'last'\n";
        let text = extended(known, &[(Kind::Block, vec![&block]), (Kind::Slot, vec![&slot]), (Kind::Set, vec![&set])]);
        let dialect = Dialect::parse(&text).unwrap_or_else(|error| panic!("{error}\n{text}"));
        let count = |kind: Kind| dialect.forms.iter().filter(|form| form.kind == kind).count();
        assert_eq!((count(Kind::Block), count(Kind::Slot), count(Kind::Set)), (2, 1, 2), "{text}");
        assert!(
            text.starts_with("# mine\nname = 'x' # and this\n") && text.ends_with("[rules]\ntwice = 'last'\n"),
            "{text}"
        );
        assert!(Dialect::parse(&extended("name = 'y'\n", &[(Kind::Slot, vec![&slot])])).is_ok());
    }

    #[test]
    fn texts_are_quoted_so_that_they_come_back() {
        for text in ["a", "a\"b", "a'b", "a\\b", "it's \"so\" \\[x"] {
            let read: toml::Value =
                toml::from_str::<toml::Table>(&format!("x = {}", quote(text))).expect("TOML")["x"].clone();
            assert_eq!(read.as_str(), Some(text));
        }
    }
}
