//! Counts whether what moves takes along the own-file tags that it needs, by a reading of its own: words of tags
//! and filters, and tags whose first word loads something.
//!
//! `own_file DIR WORD…`: proposes, extracts the ten greatest repeats with all their copies, makes every sure fix,
//! and looks at each file that is new or changed. A word needs the loading tags of every file that has it now.

use std::collections::{BTreeMap, BTreeSet};

use radicon::check::fix;
use radicon::repeats::RepeatOptions;
use radicon::steps::{Extraction, extract};
use radicon::text::Span;
use radicon::{Change, ProposeOptions, check, disk, propose, repeats};

/// The tags of a text, `{% … %}` and `{{ … }}`, by their inner text; of those that print only the filters count.
fn tags(text: &str) -> Vec<(&str, bool)> {
    let mut found = Vec::new();
    let mut at = 0;
    while let Some(start) = text[at..].find('{').map(|start| at + start) {
        let close = match &text[start..(start + 2).min(text.len())] {
            "{%" => "%}",
            "{{" => "}}",
            _ => {
                at = start + 1;
                continue;
            }
        };
        let Some(length) = text[start..].find(close) else { break };
        found.push((text[start + 2..start + length].trim_matches(['-', ' ', '\n']), close == "}}"));
        at = start + length + 2;
    }
    found
}

/// The words of a tag that may come from a library: its first one, and the filters.
fn words(tag: &str, prints: bool) -> BTreeSet<String> {
    let name =
        |text: &str| text.trim_start().split(|c: char| !(c.is_alphanumeric() || c == '_')).next().map(str::to_owned);
    let filters = tag.split('|').skip(1).filter_map(name).map(|filter| format!("|{filter}"));
    name(tag).filter(|_| !prints).into_iter().chain(filters).filter(|word| !word.is_empty()).collect()
}

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let mut arguments = std::env::args().skip(1);
    let folder = arguments.next().ok_or("a folder is needed")?;
    let loaders: BTreeSet<String> = arguments.collect();
    let site = disk::load(folder.as_ref())?.site;
    let loads = |tag: &str| tag.split_whitespace().next().is_some_and(|word| loaders.contains(word));
    // For each word what all files that have it load before.
    let mut needs: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
    for template in &site.templates {
        each_use(&String::from_utf8_lossy(&template.source), loads, |word, loaded| {
            needs
                .entry(word)
                .and_modify(|known| known.retain(|tag| loaded.contains(tag)))
                .or_insert_with(|| loaded.clone());
        });
    }
    let look = |what: &str, changes: &[Change]| {
        let (mut files, mut uses, mut missing) = (0, 0, BTreeSet::new());
        for change in changes {
            let Some(new) = &change.new else { continue };
            files += 1;
            each_use(&String::from_utf8_lossy(new), loads, |word, loaded| {
                let lacking = needs.get(&word).into_iter().flatten().filter(|tag| !loaded.contains(*tag));
                missing.extend(lacking.map(|tag| format!("{}: {word} needs {tag}", change.path)));
                uses += 1;
            });
        }
        println!("{what}: {files} files new or changed, {uses} uses, {} without what they need", missing.len());
        missing.iter().take(5).for_each(|one| println!("  {one}"));
    };
    let proposal = propose(&site, &ProposeOptions::default())?;
    look("propose", &proposal.changes(&site));
    let groups = repeats(&site, &RepeatOptions::default()).groups;
    let (mut made, mut all) = (0, Vec::new());
    for (number, group) in groups.iter().enumerate() {
        if made == 10 {
            break;
        }
        let Some(copy) = group.copies.first() else { continue };
        let Some(id) = site.find(&copy.file) else { continue };
        if let Ok(step) = extract(
            &site,
            id,
            Span::new(copy.byte_start, copy.byte_end),
            &Extraction { name: format!("piece{number}"), all: true, ..Extraction::default() },
        ) {
            made += 1;
            all.extend(step.changes);
        }
    }
    look(&format!("{made} extracted"), &all);
    let fixed = fix(&site, &check(&site).findings)?;
    look("fixed", &fixed.changes);
    Ok(())
}

/// Tells of each word that a text uses with what it has loaded before.
fn each_use(text: &str, loads: impl Fn(&str) -> bool, mut tell: impl FnMut(String, &BTreeSet<String>)) {
    let mut loaded: BTreeSet<String> = BTreeSet::new();
    for (tag, prints) in tags(text) {
        if loads(tag) {
            loaded.insert(tag.split_whitespace().collect::<Vec<_>>().join(" "));
        } else {
            words(tag, prints).into_iter().for_each(|word| tell(word, &loaded));
        }
    }
}
