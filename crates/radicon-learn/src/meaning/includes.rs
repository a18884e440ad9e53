//! Includes, imports, wraps and parts: names that are files, where no layout is named.

use std::collections::{BTreeMap, BTreeSet};

use rustc_hash::FxHashSet;

use crate::Confidence;
use crate::dialect::Kind;
use crate::evidence::pairs::prints;
use crate::evidence::references::Reference;
use crate::meaning::{Facts, Meaning, Meanings};
use crate::read::corpus::TextId;
use crate::read::directives::Directive;
use crate::read::directives::DirectiveId;
use crate::read::pieces::between;
use crate::read::tags::Style;
use crate::read::tags::TagId;
use crate::thresholds::{MOST, NEARLY_ALL};

impl Facts<'_> {
    /// An include that is given a body.
    pub(super) fn is_wrap(&self, reference: &Reference, found: &Meanings) -> bool {
        self.pairs.is_opener(reference.directive)
            && self.style(reference.directive) != Style::Attribute
            && !found.of.contains_key(&reference.directive)
    }

    /// Words whose names are files, and pairs whose names are where others name files.
    pub(super) fn includes(&self, found: &Meanings) -> BTreeMap<DirectiveId, Meaning> {
        let mut includes: BTreeMap<DirectiveId, Meaning> = BTreeMap::new();
        // Names of pairs that are where others name files: parts.
        let mut pair_names: BTreeMap<DirectiveId, FxHashSet<&str>> = BTreeMap::new();
        for (id, directive) in
            DirectiveId::each(self.directives).filter(|(id, _)| self.pairs.is_opener(*id) && !found.of.contains_key(id))
        {
            let names = directive.tags.iter().filter_map(|&at| Some(self.names_of(at).into_iter().next()?.1));
            pair_names.insert(id, names.collect());
        }
        for reference in self.references {
            let id = reference.directive;
            if found.of.contains_key(&id) || includes.contains_key(&id) || !reference.is_usual && reference.paths == 0 {
                continue;
            }
            let resolved: FxHashSet<TagId> = reference.edges.iter().map(|(tag, _)| *tag).collect();
            let open: Vec<&str> = self.directives[id]
                .tags
                .iter()
                .filter(|at| !resolved.contains(at))
                .filter_map(|&at| {
                    self.names_of(at).into_iter().find(|(slot, _)| *slot == reference.slot).map(|(_, name)| name)
                })
                .collect();
            let part = pair_names.iter().find(|(_, names)| {
                !open.is_empty() && MOST.reached(open.iter().filter(|name| names.contains(*name)).count(), open.len())
            });
            if reference.share() < 0.5 && part.is_none() {
                continue;
            }
            if let Some((&part, _)) = part {
                let slot =
                    self.directives[part].tags.first().and_then(|&at| Some(self.names_of(at).into_iter().next()?.0));
                let why = "its names are where files are named".to_owned();
                includes.insert(part, Meaning { kind: Kind::Part, slot, confidence: Confidence::Likely, why });
            }
            // A link leads to whole pages; what is included is none.
            let framed = self.framed(found);
            let files: BTreeSet<TextId> = reference.edges.iter().filter_map(|(_, file)| self.file_of(*file)).collect();
            let whole = files
                .iter()
                .filter(|&&file| {
                    self.corpus.texts[file].has_skeleton()
                        && self.corpus.texts[file].text.to_ascii_lowercase().contains("</body")
                        || framed.contains(&file)
                })
                .count();
            let wraps = self.is_wrap(reference, found) || self.closing_text(id).is_some();
            let rounds =
                reference.edges.iter().filter(|(tag, file)| self.file_of(*file) == Some(self.tags[*tag].file)).count();
            if !wraps && (whole * 10 > files.len() * 4 || rounds > 0 && rounds * 5 > reference.edges.len()) {
                continue;
            }
            let kind = if wraps {
                Kind::Wrap
            } else if !prints(&self.directives[id].mark)
                && !files.is_empty()
                && files.iter().all(|&file| self.defines_only(file))
                && self.directives[id].tags.iter().all(|&at| self.tags[at].tokens.len() > 2)
            {
                Kind::Import
            } else {
                Kind::Include
            };
            let confidence =
                if reference.strong || reference.paths >= 2 { Confidence::Sure } else { Confidence::Likely };
            let why = format!("{} of {} names are files", reference.edges.len(), reference.literals);
            includes.insert(id, Meaning { kind, slot: Some(reference.slot.clone()), confidence, why });
        }
        includes
    }

    /// The text that ends what a mark begins, written as markup ends an element: `</+>` for `<+| frame +>`.
    /// Nearly all files have as many of it as of the mark.
    pub(crate) fn closing_text(&self, id: DirectiveId) -> Option<String> {
        let directive = &self.directives[id];
        let notation = &self.notations[directive.notation];
        let sign = notation.open.strip_prefix('<').filter(|sign| !sign.is_empty())?;
        if notation.style != Style::Bracket || directive.mark.is_empty() {
            return None;
        }
        let end = format!("</{sign}>");
        let is_kin = |d: &&Directive| d.notation == directive.notation && d.mark == directive.mark;
        let mut begun = vec![0; self.corpus.texts.len()];
        for &at in self.directives.iter().filter(is_kin).flat_map(|kin| &kin.tags) {
            begun[self.tags[at].file.index()] += 1;
        }
        let counts =
            TextId::each(&self.corpus.texts).map(|(file, text)| (begun[file.index()], text.text.matches(&end).count()));
        let (used, even) = counts
            .filter(|&(begun, ended)| begun + ended > 0)
            .fold((0, 0), |(used, even), (begun, ended)| (used + 1, even + usize::from(begun == ended)));
        (used > 0 && NEARLY_ALL.reached(even, used)).then_some(end)
    }

    /// Files that name a parent themselves.
    fn framed(&self, found: &Meanings) -> FxHashSet<TextId> {
        let parents = found.of.iter().filter(|(_, m)| m.kind == Kind::Parent).map(|(id, _)| *id);
        parents.flat_map(|id| self.directives[id].tags.iter().map(|&at| self.tags[at].file)).collect()
    }

    /// Whether a file holds nothing but pairs.
    pub(super) fn defines_only(&self, file: TextId) -> bool {
        let text = &self.corpus.texts[file].text;
        let mut at = 0;
        let mut pairs = 0;
        for tag in self.tags_of(file) {
            let range = &self.tags[tag].range;
            if range.start < at {
                continue;
            }
            if !between(text, at, range.start).trim().is_empty() {
                return false;
            }
            at = match self.pairs.partner.get(&tag) {
                Some(&end) if end != tag => {
                    pairs += 1;
                    self.tags[end].range.end
                }
                _ => range.end,
            };
        }
        pairs > 0 && text.get(at..).unwrap_or("").trim().is_empty()
    }
}

#[cfg(test)]
mod tests {
    use crate::dialect::Kind;
    use crate::testing::{LAYOUT, check, learned, page};

    #[test]
    fn an_include_with_a_body_wraps_it() {
        let main = "<h1>@</h1>\n~(= hull \"parts/card.html\" =)\n~<p>@ at sea</p>\n~(= unhull =)\n<p>x</p>";
        let other = page("<h1>z</h1><ul>(= hull \"parts/box.html\" =)<p>y</p>(= unhull =)</ul>");
        let others = [
            ("parts/card.html", "<div class=\"card\">(= cargo =)</div>\n"),
            ("parts/box.html", "<div class=\"box\">(= cargo =)</div>\n"),
            ("z.html", &other),
        ];
        let learned = learned(LAYOUT, &page(main), &others);
        check(&learned, Kind::Wrap, &["{ open = '(= hull \"<target>\" =)', close = \"(= unhull =)\" }"]);
        check(&learned, Kind::Include, &["'(= bring \"<target>\" =)'"]);
    }

    #[test]
    fn an_import_is_at_the_top_and_names_what_it_brings() {
        let main = page("<h1>@</h1>").replacen("(= berth", "(= load \"parts/all.html\" as all =)\n(= berth", 1);
        let all = "(= piece card =)<b>c</b>(= cast =)\n(= piece box =)<i>c</i>(= cast =)\n";
        let learned = learned(LAYOUT, &main, &[("parts/all.html", all)]);
        check(&learned, Kind::Import, &["'(= load \"<target>\" [<args>] =)'"]);
    }

    #[test]
    fn a_name_may_be_the_second_argument() {
        let main = page("<h1>@</h1>").replacen("<h1>", "(= put(fares, \"parts/box.html\") =)<h1>", 1);
        let learned = learned(LAYOUT, &main, &[("parts/box.html", "<div>box</div>\n")]);
        check(&learned, Kind::Include, &["'(= put(<expr>, \"<target>\") =)'", "'(= bring \"<target>\" =)'"]);
    }
}
