//! What no directive explains: outputs, comments, code, other tags.

use std::collections::BTreeSet;

use crate::Confidence;
use crate::dialect::Kind;
use crate::dialect_file::forms::{Shape, Writer, escape};
use crate::evidence::comments::hints_comment;
use crate::read::corpus::TextId;
use crate::read::directives::DirectiveId;
use crate::read::pieces::is_prose;
use crate::read::tags::{NotationId, TagId};
use crate::read::tags::{Style, TokenKind, token_text};

impl Writer<'_> {
    /// Forms for it.
    pub(super) fn leftovers(&self, shapes: &mut Vec<Shape>) {
        let r = self.facts;
        let meant = |notation: NotationId| {
            self.found
                .of
                .iter()
                .any(|(id, m)| self.directive(*id).notation == notation && m.confidence > Confidence::Asked)
        };
        let engine = !self.found.of.is_empty();
        let mut outputs = 0;
        let mut shared = Vec::new();
        for (notation, known) in NotationId::each(r.notations) {
            // Statements that name the layout among others are code where they do not.
            if known.code && meant(notation) {
                let tags: Vec<TagId> = TagId::all(r.tags.len()).filter(|&at| r.tags[at].notation == notation).collect();
                let open = format!("{} <args> {}", escape(&known.open), escape(&known.close));
                shapes.push(Shape::new(Kind::Code, open, Confidence::Likely, "statements", &tags));
                continue;
            }
            let rest: Vec<DirectiveId> = DirectiveId::all(r.directives.len())
                .filter(|&id| r.directives[id].notation == notation && !self.found.of.contains_key(&id))
                .filter(|&id| !r.pairs.is_closer(id) && !r.pairs.is_branch(id))
                .collect();
            let used = meant(notation) || known.strong || engine && self.goes_with_strong(notation);
            if !used && engine && hints_comment(&known.open, "") && known.close.len() == known.open.len() {
                // Delimiters of their own that nothing else is written in, though they are rare.
                self.comments(notation, &rest, true, shapes);
            }
            if !used || rest.is_empty() {
                continue;
            }
            match known.style {
                Style::Bracket if known.open.len() == 1 => self.lone_words(&rest, shapes),
                Style::Bracket => {
                    let rest = if meant(notation) { self.notes(&rest, shapes) } else { rest };
                    let rest = self.comments(notation, &rest, false, shapes);
                    let tags: Vec<TagId> = rest.iter().flat_map(|&id| r.directives[id].tags.iter().copied()).collect();
                    if tags.is_empty() {
                        continue;
                    }
                    if known.code {
                        shapes.push(Shape::new(
                            Kind::Code,
                            format!("{} <args> {}", escape(&known.open), escape(&known.close)),
                            Confidence::Likely,
                            "statements",
                            &tags,
                        ));
                    } else if meant(notation) {
                        shared.push((notation, tags));
                    } else {
                        outputs += 1;
                        let confidence = if tags.len() >= 3 { Confidence::Sure } else { Confidence::Likely };
                        shapes.push(Shape::new(
                            Kind::Output,
                            self.generic(notation, "<expr>"),
                            confidence,
                            "expressions only",
                            &tags,
                        ));
                    }
                }
                Style::Sigil => self.sigil_words(&rest, shapes),
                Style::Header => {}
                _ => {}
            }
        }
        for (notation, tags) in shared {
            let kind = if outputs == 0 { Kind::Output } else { Kind::Other };
            let why = if outputs == 0 { "expressions between other tags" } else { "tags that nothing explains" };
            shapes.push(Shape::new(kind, self.generic(notation, "<expr>"), Confidence::Likely, why, &tags));
        }
    }

    /// A weak notation whose opening delimiter begins with one that means something.
    fn goes_with_strong(&self, notation: NotationId) -> bool {
        let r = self.facts;
        let own = &r.notations[notation];
        let first = own.open.chars().next();
        own.style == Style::Bracket
            && own.open.len() > 1
            && !own.open.starts_with("<!--")
            && self.found.of.keys().any(|id| r.notations[self.directive(*id).notation].open.chars().next() == first)
    }

    fn generic(&self, notation: NotationId, place: &str) -> String {
        let known = &self.facts.notations[notation];
        format!("{} {place} {}", escape(&known.open), escape(&known.close))
    }

    /// Words in single brackets: each is a form of its own.
    fn lone_words(&self, rest: &[DirectiveId], shapes: &mut Vec<Shape>) {
        let bound = self.bound_names();
        for &id in rest {
            let directive = self.directive(id);
            let quiet = directive.tags.iter().filter(|&&at| self.tag(at).quiet).count();
            let prose =
                directive.tags.iter().filter(|&&at| is_prose(&self.text(at)[self.tag(at).inner.clone()])).count();
            if !directive.mark.is_empty() && prose == directive.tags.len() {
                let known = self.notation(id);
                let open = format!(
                    "{}{} <text> {}{}",
                    escape(&known.open),
                    escape(&directive.mark),
                    mirrored(&directive.mark),
                    escape(&known.close)
                );
                let all = directive
                    .tags
                    .iter()
                    .all(|&at| self.text(at)[self.tag(at).inner.clone()].ends_with(&mirrored(&directive.mark)));
                let open = if all {
                    open
                } else {
                    format!("{}{} <text> {}", escape(&known.open), escape(&directive.mark), escape(&known.close))
                };
                shapes.push(Shape::new(
                    Kind::Comment,
                    open,
                    Confidence::Likely,
                    "words, no expressions",
                    &directive.tags,
                ));
                continue;
            }
            if directive.words[0].is_empty()
                || quiet == directive.tags.len()
                || directive.tags.iter().any(|&at| self.tag(at).tokens.len() > directive.taken + 1)
            {
                continue;
            }
            let values: Vec<&str> = directive
                .tags
                .iter()
                .filter_map(|&at| Some(token_text(self.text(at), self.tag(at).tokens.get(directive.taken)?)))
                .collect();
            if values.len() == directive.tags.len() && values.iter().any(|value| bound.contains(value)) {
                let open = self.around(id, " <name>", &directive.tags);
                shapes.push(Shape::new(
                    Kind::Output,
                    open,
                    Confidence::Likely,
                    "prints names that are bound elsewhere",
                    &directive.tags,
                ));
            }
        }
    }

    /// Names that something in the site binds.
    fn bound_names(&self) -> BTreeSet<&str> {
        let mut names = BTreeSet::new();
        for (id, meaning) in &self.found.of {
            let directive = self.directive(*id);
            for &at in &directive.tags {
                let tokens = &self.tag(at).tokens;
                for pair in tokens.windows(2) {
                    let binds = pair[0].kind == TokenKind::Word && matches!(pair[1].kind, TokenKind::Sign(b'=' | b':'));
                    if binds && matches!(meaning.kind, Kind::Set | Kind::Include | Kind::Wrap) {
                        names.insert(token_text(self.text(at), &pair[0]));
                    }
                }
            }
        }
        names
    }

    /// Words after a sigil that mean nothing else: they print values, where enough of them do.
    fn sigil_words(&self, rest: &[DirectiveId], shapes: &mut Vec<Shape>) {
        let bare: Vec<DirectiveId> = rest
            .iter()
            .copied()
            .filter(|&id| {
                self.directive(id).tags.iter().all(|&at| self.tag(at).tokens.is_empty() && !self.tag(at).call)
            })
            .collect();
        let tags: Vec<TagId> = bare
            .iter()
            .flat_map(|&id| self.directive(id).tags.iter().copied())
            .filter(|&at| !self.tag(at).quiet)
            .collect();
        let files: BTreeSet<TextId> = tags.iter().map(|&at| self.tag(at).file).collect();
        let others = NotationId::each(self.facts.notations).any(|(id, n)| {
            let own = &self.notation(rest[0]).open;
            n.style == Style::Bracket
                && n.strong
                && n.open.starts_with(own.as_str())
                && self.facts.tags.iter().any(|tag| tag.notation == id)
        });
        if bare.len() >= 3 && files.len() >= 2 && !others
            || bare.len() >= 3 && self.notation(rest[0]).open.len() == 1 && files.len() >= 2 && self.braced(rest[0])
        {
            let open = format!("{}<name>", escape(&self.notation(rest[0]).open));
            shapes.push(Shape::new(
                Kind::Output,
                open,
                Confidence::Likely,
                "many words behind the sigil mean nothing else",
                &tags,
            ));
        }
    }

    /// Whether the notation of a directive closes bodies with braces.
    fn braced(&self, id: DirectiveId) -> bool {
        let notation = self.directive(id).notation;
        self.facts.tags.iter().any(|tag| tag.notation == notation && tag.brace)
    }
}

fn mirrored(mark: &str) -> String {
    mark.chars().rev().collect()
}

#[cfg(test)]
mod tests {
    use crate::dialect::Kind;
    use crate::testing::{LAYOUT, check, learned, page};

    #[test]
    fn what_means_nothing_else_is_printed() {
        let learned = learned(LAYOUT, &page("<h1>@</h1>\n<p>(: @.height :)</p>\n~<i>(: tide :)</i>"), &[]);
        check(&learned, Kind::Output, &["\"(: <expr> :)\""]);
    }
}
