//! Whether the tags that stay in a page mean the same: the names in them reach the same bindings, and the
//! own-file tags that they need are in force where they are.

use super::{Difference, Prover, Side, side};
use crate::resolve::{Behind, Flat, Kept, Reached};
use crate::site::Site;
use crate::text::{SourceId, Span};

/// A page of a site, put together, with the tags that stay in it.
#[derive(Clone, Copy)]
pub(super) struct Tags<'p> {
    pub site: &'p Site,
    pub flat: &'p Flat,
    pub kept: &'p [Kept],
}

impl<'p> Tags<'p> {
    pub fn of(site: &'p Site, (flat, kept): &'p (Flat, Vec<Kept>)) -> Self {
        Self { site, flat, kept }
    }

    fn text(&self, source: SourceId, span: Span) -> &'p [u8] {
        span.of(&self.site.get(source).source)
    }

    /// A name that a tag uses, as it is written there or where it is given.
    fn name(&self, kept: &Kept, span: Span) -> String {
        let source = kept.given.map_or(kept.source, |(_, given)| given.source);
        String::from_utf8_lossy(self.text(source, span)).into_owned()
    }

    fn side(&self, kept: &Kept) -> Side {
        side(self.site, self.flat, kept.at)
    }

    /// The tag without the names that it binds for what it holds, and with what is given for its name, in one line.
    fn unnamed(&self, kept: &Kept) -> String {
        let span = self.site.get(kept.source).constructs.items[kept.construct].span;
        let mut from = span.start;
        let mut text = Vec::new();
        let own = kept.own_names.iter().map(|&name| (name, &b""[..]));
        let given = kept.given.map(|(name, given)| (name, self.text(given.source, given.value)));
        for (name, instead) in own.chain(given) {
            text.extend_from_slice(self.text(kept.source, Span::new(from, name.start)));
            text.extend_from_slice(instead);
            from = name.end;
        }
        text.extend_from_slice(self.text(kept.source, Span::new(from, span.end)));
        in_one_line(&text)
    }

    /// The tag as it is written, in one line.
    fn written(&self, kept: &Kept) -> String {
        in_one_line(self.text(kept.source, self.site.get(kept.source).constructs.items[kept.construct].span))
    }
}

impl Prover<'_> {
    /// The first tag of a page that does not mean what it did, where the pages are equal in all else.
    pub(super) fn meaning_differs(&self, before: Tags<'_>, after: Tags<'_>) -> Option<Box<Difference>> {
        let mut pairs = before.kept.iter().zip(after.kept);
        let found = pairs.find_map(|(one, other)| {
            let message = tag_differs(before, one, after, other)
                .or_else(|| binding_differs(before, one, after, other))
                .or_else(|| self.is_missing(before, one, after, other))?;
            Some(Box::new(Difference { message, before: Some(before.side(one)), after: Some(after.side(other)) }))
        });
        let (was, is) = (before.kept.len(), after.kept.len());
        found.or_else(|| (was != is).then(|| super::unplaced(format!("before: {was} tags; after: {is}"))))
    }

    /// An own-file tag that the tags of a file of the new site need and do not have, if it is not as it was.
    pub(super) fn lacks(&self, id: SourceId) -> Option<String> {
        let template = self.new.get(id);
        let old = self.old.find(&template.path);
        if old.is_some_and(|old| self.old.get(old).source == template.source) {
            return None;
        }
        let lacking = |site: &Site, id: SourceId| {
            let template = site.get(id);
            (0..template.constructs.items.len()).find_map(|at| {
                let missing = self.needs.missing_for(template, at)?;
                let tag = template.constructs.items[at].span.text(&template.source);
                let tag = tag.split_whitespace().collect::<Vec<_>>().join(" ");
                Some(format!("`{tag}` needs `{missing}`, which does not come before it in {}", template.path))
            })
        };
        // What was lacking before is no change.
        lacking(self.new, id).filter(|_| old.is_none_or(|old| lacking(self.old, old).is_none()))
    }

    /// An own-file tag that was in force for a tag that needs it, and is not any more.
    fn is_missing(&self, before: Tags<'_>, one: &Kept, after: Tags<'_>, other: &Kept) -> Option<String> {
        let needed = self.needs.of_tag(before.site, one.source, one.construct);
        if needed.is_empty() {
            return None;
        }
        let template = after.site.get(other.source);
        let mut in_force = template.constructs.items[..other.construct.index()].iter();
        // In their old order.
        let missing =
            needed.iter().find(|needed| !in_force.any(|item| item.span.of(&template.source) == needed.as_bytes()))?;
        let file = &template.path;
        Some(format!("`{}` needs `{missing}`, which is not active for it in {file}", after.written(other)))
    }
}

/// A tag in the place of another one: one that prints nothing, or that changed places with an attribute.
fn tag_differs(before: Tags<'_>, one: &Kept, after: Tags<'_>, other: &Kept) -> Option<String> {
    let is_same = before.unnamed(one) == after.unnamed(other);
    (!is_same).then(|| format!("before: `{}`; after: `{}`", before.written(one), after.written(other)))
}

/// A name that reaches another binding than it did, in some engine.
fn binding_differs(before: Tags<'_>, one: &Kept, after: Tags<'_>, other: &Kept) -> Option<String> {
    let pairs = one.names.iter().zip(&other.names);
    let (name, was, is) = pairs.map(|(a, b)| (a.0, &a.1, &b.1)).find(|(_, was, is)| was != is)?;
    let name = before.name(one, name);
    let tag = after.written(other);
    let newly = |end: Behind| {
        is.iter().any(|reached| reached.behind.has(end)) && !was.iter().any(|reached| reached.behind.has(end))
    };
    let rules = &after.site.get(other.source).dialect.name;
    let if_seen =
        |rule: &str, who: &str| format!("if {who} sees it, set `{rule}` under [rules.{rules}] in radicon.toml");
    let why = if newly(Behind::BLOCK) {
        let way = if_seen("block-scope = \"shared\"", "an override");
        format!("is set outside the block that it is in now; {way}")
    } else if newly(Behind::INCLUDE) {
        let way = if_seen("include-scope = \"shared\"", "an included file");
        format!("is set outside the file that it is in now; {way}")
    } else if newly(Behind::CHILD) {
        let way = if_seen("set-scope = \"layout\"", "a layout");
        format!("is set by the page and used by its layout now; {way}")
    } else if newly(Behind::END_OF_BLOCK) {
        "is set inside a block that now ends before it is used".to_owned()
    } else if newly(Behind::END_OF_INCLUDE) {
        "is set inside an included file that now ends before it is used".to_owned()
    } else if lost(was, is) {
        "is no longer set where it is used".to_owned()
    } else {
        "is set by another tag now".to_owned()
    };
    Some(format!("`{name}` in `{tag}` {why}"))
}

/// Whether there is less that a name may reach.
fn lost(was: &[Reached], is: &[Reached]) -> bool {
    is.len() < was.len()
}

fn in_one_line(text: &[u8]) -> String {
    String::from_utf8_lossy(text).split_whitespace().collect::<Vec<_>>().join(" ")
}
