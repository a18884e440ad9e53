//! What stands for the content that an override replaces.

use std::collections::BTreeSet;

use crate::Confidence;
use crate::dialect::Kind;
use crate::meaning::{Facts, Meaning, Meanings};
use crate::read::corpus::TextId;
use crate::read::directives::DirectiveId;
use crate::read::pieces::between;
use crate::read::tags::{NotationId, TagId};
use crate::read::tags::{Style, TokenKind};
use crate::thresholds::{ABOVE, HALF, SOME};

/// A tag that may stand for the content that an override replaces.
struct Replaced {
    id: DirectiveId,
    /// How often it is in an override.
    inside: usize,
    /// How often it is elsewhere.
    strays: usize,
    /// How often there is content above.
    above: usize,
    /// How often it is the first or the last thing there.
    edge: usize,
    /// In how many regions.
    names: usize,
    /// In how many files.
    files: usize,
}

impl Facts<'_> {
    /// Directives that are only inside overrides of a region that has content above.
    pub(super) fn inherited(&self, found: &Meanings) -> Vec<(DirectiveId, Meaning)> {
        let mut inherited: Vec<(DirectiveId, Meaning)> = Vec::new();
        let mut candidates: Vec<Replaced> =
            DirectiveId::all(self.directives.len()).filter_map(|id| self.replaced(id, found)).collect();
        // Plain values are printed in many places by chance; a word of its own rarely is.
        candidates.sort_by_key(|c| std::cmp::Reverse((c.above, c.names, c.inside)));
        let mut first = true;
        for Replaced { id, inside, strays, above, edge, names, files } in candidates {
            let outputs = matches!(self.style(id), Style::Bracket | Style::Sigil)
                && self.prints_values(self.directives[id].notation, found, id);
            let called = self.directives[id].tags.iter().any(|&at| self.tags[at].call);
            let all_above = ABOVE.reached(above, inside);
            let enough = inside >= 5 && names >= 3 && SOME.reached(edge, inside) && all_above;
            let some = all_above && (inside >= 2 && names >= 2 || inside >= 3) && HALF.reached(edge, inside)
                // Twice is enough where nothing speaks against it.
                || inside >= 2 && files >= 2 && above == inside && edge == inside;
            let confidence = match (enough, some) {
                (true, _) if (!outputs || called) && strays * 10 <= inside => Confidence::Sure,
                (true, _) if inside >= 8 || names >= 4 => Confidence::Likely,
                (_, true) if !outputs || called => Confidence::Likely,
                // A value is rarely always the first or last thing where something is replaced.
                _ if inside >= 3 && above == inside && edge >= inside => Confidence::Likely,
                _ if all_above && !outputs && above == inside && self.frames(self.directives[id].notation, found) => {
                    Confidence::Asked
                }
                _ => continue,
            };
            let why = format!(
                "only inside overrides ({inside} of {}), {above} of them with content above",
                self.directives[id].tags.len()
            );
            if !first && !self.frames(self.directives[id].notation, found) {
                continue;
            }
            let confidence = if first { confidence } else { confidence.min(Confidence::Asked) };
            first = first && confidence < Confidence::Likely;
            inherited.push((id, Meaning { kind: Kind::Inherited, slot: None, confidence, why }));
        }
        inherited
    }

    /// The overrides that a directive is in, if it is hardly ever elsewhere.
    fn replaced(&self, id: DirectiveId, found: &Meanings) -> Option<Replaced> {
        let directive = &self.directives[id];
        let is_other = found.of.contains_key(&id) || self.pairs.is_closer(id) || self.divides(id, found);
        let is_region =
            |tag: &TagId| found.of.get(&self.of[*tag]).is_some_and(|m| matches!(m.kind, Kind::Block | Kind::Fill));
        if is_other
            || directive.label().is_empty()
            || self.pairs.is_opener(id) && self.style(id) != Style::Attribute
            || directive.tags.iter().any(|&at| self.tags[at].tokens.len() > directive.taken)
        {
            return None;
        }
        let (mut inside, mut known, mut above, mut edge) = (0, 0, 0, 0);
        let (mut names, mut files) = (BTreeSet::new(), BTreeSet::new());
        for &at in &directive.tags {
            let around = self.pairs.around.get(&at).map_or(&[][..], Vec::as_slice);
            let Some(&opener) = around.iter().rev().find(|tag| is_region(tag)) else { continue };
            let file = self.tags[at].file;
            let Some(name) = self.region_name(opener, found) else { continue };
            inside += 1;
            names.insert(name);
            files.insert(file);
            // Where the layout is missing nothing is known of what is above.
            known += usize::from(found.parents.contains_key(&file));
            above += usize::from(self.has_content_above(file, name, found));
            let text = self.text(at);
            let end = match self.pairs.brace_ends.get(&opener) {
                Some(&end) => end,
                None => self.tags[self.pairs.partner[&opener]].range.start,
            };
            let own = self.extent(at);
            let before = between(text, self.extent(opener).0.max(self.tags[opener].range.end), own.0).trim();
            let before = before.strip_prefix('>').unwrap_or(before);
            let after = between(text, own.1, end).trim();
            edge += usize::from(before.is_empty() || after.is_empty());
        }
        let strays = directive.tags.len() - inside;
        // A few may be in a region that is not understood.
        let clear = inside >= 3 && above == inside && edge == inside && strays * 3 <= inside;
        let (names, files) = (names.len(), files.len());
        ((strays * 10 <= directive.tags.len() || clear) && known > 0).then_some(Replaced {
            id,
            inside: known,
            strays,
            above,
            edge,
            names,
            files,
        })
    }

    /// Whether it divides pairs that are no regions.
    pub(super) fn divides(&self, id: DirectiveId, found: &Meanings) -> bool {
        let region = |open: &DirectiveId| {
            found.of.get(open).is_some_and(|m| matches!(m.kind, Kind::Block | Kind::Fill | Kind::Slot))
        };
        self.pairs.branches.iter().any(|(open, list)| !region(open) && list.contains(&id))
    }

    /// Whether a notation builds skeletons: it holds parents, regions or their like.
    fn frames(&self, notation: NotationId, found: &Meanings) -> bool {
        let frames = |m: &Meaning| m.kind == Kind::Parent || m.kind.defines() || m.kind == Kind::Slot;
        found.of.iter().any(|(id, m)| self.directives[*id].notation == notation && frames(m))
    }

    /// Whether a notation holds many different words that mean nothing else: it prints values.
    pub(super) fn prints_values(&self, notation: NotationId, found: &Meanings, except: DirectiveId) -> bool {
        let others = DirectiveId::each(self.directives).filter(|(id, d)| {
            d.notation == notation
                && *id != except
                && !found.of.contains_key(id)
                && !self.pairs.is_opener(*id)
                && !self.pairs.is_closer(*id)
                && !self.pairs.is_branch(*id)
        });
        let bare = others.filter(|(_, d)| {
            d.tags.iter().any(|&at| {
                let first = self.tags[at].tokens.get(d.taken).map(|t| t.kind);
                matches!(first, None | Some(TokenKind::Sign(b'.' | b'|')))
            })
        });
        bare.count() >= 3
    }

    /// Whether a region of this name has content somewhere above a file.
    pub(super) fn has_content_above(&self, file: TextId, name: &str, found: &Meanings) -> bool {
        let above = Self::ancestors(&found.parents, file);
        above.iter().flat_map(|&file| self.tags_of(file)).any(|at| {
            let kind = found.of.get(&self.of[at]).map(|m| m.kind);
            if !matches!(kind, Some(Kind::Block | Kind::Fill | Kind::Slot)) || self.region_name(at, found) != Some(name)
            {
                return false;
            }
            let end = match (self.pairs.brace_ends.get(&at), self.pairs.partner.get(&at)) {
                (Some(&end), _) => end,
                (None, Some(&end)) => self.tags[end].range.start,
                (None, None) => return self.directives[self.of[at]].with_value,
            };
            !between(self.text(at), self.tags[at].range.end, end).trim().is_empty()
        })
    }
}

#[cfg(test)]
mod tests {
    use crate::dialect::Kind;
    use crate::testing::{LAYOUT, check, learned, page};

    #[test]
    fn what_overrides_alone_print_is_what_they_replace() {
        let learned = learned(LAYOUT, &page("(: above :)<h1>@</h1>"), &[]);
        check(&learned, Kind::Inherited, &["\"(: above :)\""]);
        check(&learned, Kind::Output, &[]);
    }
}
