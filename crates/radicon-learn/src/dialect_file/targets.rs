//! How names become files: the tables of targets.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write as _;

use super::document::{list, quote};
use crate::evidence::references::Reference;
use crate::meaning::{Facts, Meanings};
use crate::read::directives::arguments_of;
use crate::read::tags::TagId;
use crate::read::tags::token_text;
use crate::site::folder;
use crate::thresholds::{NEARLY_ALL, SHARE_A_START, SHARE_THEIR_FOLDER};

/// How the names of one kind of construct become files.
#[derive(Clone, PartialEq, Eq, Default)]
struct Rule {
    suffixes: Vec<String>,
    separator: String,
    prefix: String,
    /// The value of `relative`; none if names start at the roots.
    relative: Option<&'static str>,
    bare: bool,
}

impl Rule {
    /// The rule of a dialect file that says nothing.
    fn usual() -> Self {
        Self { suffixes: vec![String::new()], separator: "/".into(), ..Self::default() }
    }

    /// The lines that say it, where another rule holds otherwise.
    fn lines(&self, otherwise: &Self) -> String {
        let usual = Self::usual();
        let mut out = String::new();
        if self.suffixes != usual.suffixes || otherwise.suffixes != usual.suffixes {
            let _ = writeln!(out, "suffixes = {}", list(&self.suffixes));
        }
        if self.separator != usual.separator || otherwise.separator != usual.separator {
            let _ = writeln!(out, "separator = {}", quote(&self.separator));
        }
        if self.prefix != usual.prefix || otherwise.prefix != usual.prefix {
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

/// The tables of a dialect file that say how names become files.
pub(super) fn tables(facts: &Facts<'_>, found: &Meanings) -> String {
    let mut text = String::new();
    let mut kinds: BTreeMap<&str, Vec<&Reference>> = BTreeMap::new();
    let mut all: Vec<&Reference> = Vec::new();
    for reference in facts.references {
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
        return text;
    }
    let common = rule(facts, &all);
    let lines = common.lines(&Rule::usual());
    if !lines.is_empty() {
        let _ = writeln!(text, "\n[targets]\n{}", lines.trim_end());
    }
    for (kind, references) in kinds {
        let own = rule(facts, &references);
        let fits = references.iter().all(|r| {
            r.naming.separator == common.separator
                || r.edges.iter().all(|(tag, _)| !written(facts, r, *tag).contains(['.', '/', ':']))
        }) && references.iter().all(|r| {
            common.suffixes.contains(&r.naming.suffix)
                && (r.naming.prefix == common.prefix || r.naming.prefix.is_empty())
        });
        if !fits && own != common {
            // What differs must be said, also where it is the default.
            let _ = writeln!(text, "\n[targets.{kind}]\n{}", own.lines(&common).trim_end());
        }
    }
    text
}

/// The name that a tag writes for a file.
fn written<'r>(facts: &'r Facts<'_>, reference: &Reference, tag: TagId) -> &'r str {
    let directive = &facts.directives[reference.directive];
    let text = &facts.corpus.texts[facts.tags[tag].file].text;
    let arguments = arguments_of(text, &facts.tags[tag], directive.taken);
    let found = arguments.into_iter().find(|argument| argument.slot == reference.slot);
    found.map_or("", |argument| token_text(text, &facts.tags[tag].tokens[argument.token]))
}

fn rule(facts: &Facts<'_>, references: &[&Reference]) -> Rule {
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
    let mut roots: BTreeMap<String, BTreeSet<TagId>> = BTreeMap::new();
    for reference in references {
        for &(tag, file) in &reference.edges {
            let name = written(facts, reference, tag);
            let path = facts.index.path(file);
            if name.starts_with("./") || name.starts_with("../") || name.starts_with('/') {
                continue;
            }
            let folders = name.matches(reference.naming.separator.as_str()).count();
            let folders = if name.contains('/') { name.matches('/').count() } else { folders };
            // A name with its suffix has a dot that parts no folders.
            let dots = reference.naming.separator == "." && reference.naming.suffix.is_empty();
            let folders = if dots { 0 } else { folders };
            let root = (0..=folders).fold(path, |path, _| folder(path));
            let near = root == folder(&facts.corpus.texts[facts.tags[tag].file].path);
            (own, all, bare) = (own + usize::from(near), all + 1, bare + usize::from(folders == 0));
            roots.entry(root.to_owned()).or_default().insert(tag);
        }
    }
    let single = roots.values().any(|tags| SHARE_A_START.reached(tags.len(), all));
    rule.relative = match own {
        _ if single || all == 0 => None,
        own if SHARE_A_START.reached(own, all) => Some("true"),
        own if SHARE_THEIR_FOLDER.reached(own, all) => Some("\"first\""),
        _ => None,
    };
    rule.bare =
        !single && rule.relative.is_none() && NEARLY_ALL.reached(bare, all) && roots.len() > 2 && roots.len() * 4 > all;
    rule
}

#[cfg(test)]
mod tests {
    use crate::dialect::Kind;
    use crate::testing::{LAYOUT, check, learned, page};

    #[test]
    fn names_beside_the_file_come_first() {
        let layout = LAYOUT.replace("parts/nav.html", "nav");
        let learned = learned(&layout, &page("<h1>@</h1>(= bring \"nav\" =)"), &[("nav.html", "<i>x</i>")]);
        check(&learned, Kind::Include, &["'(= bring \"<target>\" =)'"]);
        assert!(learned.text.contains("[targets]\nsuffixes = [\".html\", \"\"]"), "{}", learned.text);
    }
}
