//! Where the content of a page goes that is in no region.

use std::collections::{BTreeMap, BTreeSet};

use crate::Confidence;
use crate::dialect::Kind;
use crate::evidence::references::Reference;
use crate::meaning::{Facts, Meaning, Meanings, plural};
use crate::read::corpus::TextId;
use crate::read::directives::DirectiveId;
use crate::read::pieces::between;
use crate::read::tags::Style;
use crate::thresholds::{HALF, NEARLY_ALL};

/// Words of the trade for the place where a page's content goes.
const BODY_WORDS: [&str; 4] = ["body", "content", "yield", "outlet"];

impl Facts<'_> {
    /// The tag that is in all layouts for what a child has outside its regions.
    pub(super) fn body(&self, found: &Meanings) -> Option<(DirectiveId, Meaning)> {
        let mut layouts: BTreeSet<TextId> = found.parents.values().copied().collect();
        let wraps: Vec<&Reference> = self
            .references
            .iter()
            .filter(|r| found.of.get(&r.directive).is_some_and(|m| m.kind == Kind::Wrap))
            .collect();
        layouts.extend(wraps.iter().flat_map(|r| r.edges.iter().filter_map(|(_, file)| self.file_of(*file))));
        // A layout whose child's loose content has a place is only known if children have loose content.
        let loose = found.parents.keys().filter(|&&child| self.has_loose(child, found)).count();
        let expected = wraps.is_empty() && loose * 3 < found.parents.len().max(1);
        if layouts.is_empty() || expected {
            return None;
        }
        let id = self.body_among(&layouts, found).filter(|id| !found.of.contains_key(id))?;
        let confidence = if layouts.len() >= 2 { Confidence::Sure } else { Confidence::Likely };
        let why = format!("only in {}", plural(layouts.len(), "layout"));
        Some((id, Meaning { kind: Kind::Body, slot: None, confidence, why }))
    }

    /// The mark without arguments that is in nearly all of these layouts and nowhere else,
    /// where the layouts have the skeleton and the children none.
    pub(super) fn body_of(&self, parents: &BTreeMap<TextId, TextId>, found: &Meanings) -> Option<DirectiveId> {
        let layouts: BTreeSet<TextId> = parents.values().copied().collect();
        let tops: Vec<TextId> = layouts.iter().copied().filter(|layout| !parents.contains_key(layout)).collect();
        let framed = tops.iter().filter(|&&top| self.corpus.texts[top].has_skeleton()).count();
        let bare = parents.keys().filter(|&&child| !self.corpus.texts[child].has_skeleton()).count();
        if !HALF.reached(framed, tops.len()) || !NEARLY_ALL.reached(bare, parents.len()) {
            return None;
        }
        self.body_among(&layouts, found)
    }

    /// A mark without arguments that is in nearly all of some files and nowhere else.
    pub(super) fn body_among(&self, layouts: &BTreeSet<TextId>, found: &Meanings) -> Option<DirectiveId> {
        let mut best = None;
        let mut candidates = Vec::new();
        for (id, directive) in DirectiveId::each(self.directives) {
            let bare = directive.tags.iter().all(|&at| self.tags[at].tokens.len() <= directive.taken);
            if !bare
                || directive.label().is_empty()
                || self.pairs.is_opener(id) && self.style(id) != Style::Attribute
                || self.pairs.is_closer(id)
                || self.divides(id, found)
            {
                continue;
            }
            let mut files: BTreeMap<TextId, usize> = BTreeMap::new();
            directive.tags.iter().for_each(|&at| *files.entry(self.tags[at].file).or_default() += 1);
            let outside = files.keys().filter(|file| !layouts.contains(file)).count();
            let once = files.values().filter(|&&n| n == 1).count();
            if outside == 0 && NEARLY_ALL.reached(once, files.len()) && NEARLY_ALL.reached(files.len(), layouts.len()) {
                let rank = (files.len(), std::cmp::Reverse(id));
                candidates.push(id);
                if best.is_none_or(|(known, _)| rank > known) {
                    best = Some((rank, id));
                }
            }
        }
        // In a single layout a value that is printed once looks the same.
        // One that says so is none.
        let says_so = |id: DirectiveId| {
            let words = self.directives[id].words.join(" ").to_ascii_lowercase();
            BODY_WORDS.contains(&words.as_str())
        };
        let told: Vec<DirectiveId> = candidates.iter().copied().filter(|&id| says_so(id)).collect();
        if let ([only], 1) = (&told[..], layouts.len()) {
            return Some(*only);
        }
        let framing = |id: DirectiveId| {
            found.of.keys().any(|known| self.directives[*known].notation == self.directives[id].notation)
        };
        best.filter(|(_, id)| layouts.len() >= 2 || candidates.len() == 1 && (found.of.is_empty() || framing(*id)))
            .map(|(_, id)| id)
    }

    /// Whether a child has markup outside all its regions.
    pub(super) fn has_loose(&self, file: TextId, found: &Meanings) -> bool {
        let text = &self.corpus.texts[file].text;
        let mut at = 0;
        let mut loose = String::new();
        for tag in self.tags_of(file) {
            let range = &self.tags[tag].range;
            let weak = !found.of.contains_key(&self.of[tag]) && !self.notations[self.tags[tag].notation].strong;
            if range.start < at || weak {
                continue;
            }
            loose += between(text, at, range.start);
            let region = found.of.get(&self.of[tag]).is_some_and(|m| m.kind.defines());
            at = match (self.pairs.partner.get(&tag), self.pairs.brace_ends.get(&tag)) {
                (_, Some(&end)) if region => end + 1,
                (Some(&end), _) if region => self.tags[end].range.end,
                _ => range.end,
            };
        }
        loose += text.get(at..).unwrap_or("");
        loose.contains('<') && loose.trim().len() > 20
    }
}

#[cfg(test)]
mod tests {
    use crate::dialect::Kind;
    use crate::testing::{check, learned};

    #[test]
    fn what_only_layouts_have_is_the_place_of_loose_content() {
        let layout = "<html>(= bring \"parts/nav.html\" =)<main>(= cargo =)</main></html>";
        let child = "(= moor \"other.html\" =)\n<h1>Tides</h1>";
        let others = [
            ("other.html", "<html><b>(= cargo =)</b></html>"),
            ("x.html", child),
            ("y.html", child),
            ("z.html", child),
        ];
        let learned = learned(layout, "(= moor \"base.html\" =)\n<h1>@</h1>\n~<p>x</p>\n", &others);
        check(&learned, Kind::Body, &["\"(= cargo =)\""]);
        assert!(learned.text.contains("loose = \"body\""), "{}", learned.text);
    }
}
