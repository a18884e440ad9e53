//! Two engines in one folder, with one suffix: which file belongs to which.

use std::collections::{BTreeMap, BTreeSet};

use crate::dialect::Kind;
use crate::meaning::{Facts, Meanings};
use crate::read::corpus::TextId;
use crate::read::tags::NotationId;
use crate::thresholds::LEAST_CHILDREN;

/// The files of each engine, if there are several: those whose layouts are named in different
/// notations, with whatever they name. What is named by neither goes with the greatest.
pub(super) fn apart(facts: &Facts<'_>, found: &Meanings) -> Option<Vec<Vec<TextId>>> {
    let files = facts.corpus.texts.len();
    // For each notation the files that name their layout in it.
    let mut children: BTreeMap<NotationId, BTreeSet<TextId>> = BTreeMap::new();
    for (id, _) in found.of.iter().filter(|(_, meaning)| meaning.kind == Kind::Parent) {
        let directive = &facts.directives[*id];
        children.entry(directive.notation).or_default().extend(directive.tags.iter().map(|&at| facts.tags[at].file));
    }
    children.retain(|_, files| files.len() >= LEAST_CHILDREN);
    if children.len() < 2 {
        return None;
    }
    // Files that name each other belong together.
    let mut leader: Vec<TextId> = TextId::all(files).collect();
    for reference in facts.references.iter().filter(|r| found.of.contains_key(&r.directive)) {
        for (tag, target) in &reference.edges {
            if let Some(target) = facts.file_of(*target) {
                let (a, b) = (root(&leader, facts.tags[*tag].file), root(&leader, target));
                leader[a.max(b).index()] = a.min(b);
            }
        }
    }
    let mut owner: BTreeMap<TextId, NotationId> = BTreeMap::new();
    for (&notation, files) in &children {
        for &file in files {
            // Files of both notations that name each other are those of one engine.
            if *owner.entry(root(&leader, file)).or_insert(notation) != notation {
                return None;
            }
        }
    }
    let greatest = children.iter().max_by_key(|(_, files)| files.len()).map(|(notation, _)| *notation)?;
    let mut apart: BTreeMap<NotationId, Vec<TextId>> = BTreeMap::new();
    for file in TextId::all(files) {
        let notation = owner.get(&root(&leader, file)).copied().unwrap_or(greatest);
        apart.entry(notation).or_default().push(file);
    }
    let mut apart: Vec<Vec<TextId>> = apart.into_values().collect();
    apart.sort_by_key(|files| std::cmp::Reverse(files.len()));
    Some(apart)
}

fn root(leader: &[TextId], mut file: TextId) -> TextId {
    while leader[file.index()] != file {
        file = leader[file.index()];
    }
    file
}

#[cfg(test)]
mod tests {
    use crate::dialect::Kind;
    use crate::testing::{LAYOUT, all_learned, check, page};

    #[test]
    fn engines_beside_each_other_are_learned_one_by_one() {
        let other = |word: &str| format!("[[ tie to=\"o/base.html\" ]]\n[[ quay main ]]<p>{word}</p>[[ /quay ]]\n");
        let pages =
            ["tides", "boats", "piers", "crews", "fares", "winds"].map(|word| (format!("o/{word}.html"), other(word)));
        let mut others = vec![("o/base.html", "<html><main>[[ quay main ]][[ /quay ]]</main></html>")];
        others.extend(pages.iter().map(|(path, text)| (path.as_str(), text.as_str())));
        let learned = all_learned(LAYOUT, &page("<h1>@</h1>"), &others);
        let [one, two] = &learned[..] else { panic!("{} dialects", learned.len()) };
        check(one, Kind::Parent, &["'(= moor \"<target>\" =)'"]);
        check(two, Kind::Parent, &["'\\[\\[ tie to=\"<target>\" \\]\\]'"]);
    }
}
