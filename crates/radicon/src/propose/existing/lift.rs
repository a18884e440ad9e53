//! What overrides of a block share moves up into the layout that defines it.

use std::collections::BTreeMap;

use crate::markup::{ConstructId, Document, NodeId, NodeKind};
use crate::propose::Job;
use crate::propose::assemble::Plan;
use crate::propose::existing::children::{Change, Child};
use crate::propose::existing::overridden::Block;
use crate::propose::existing::wrapped::Wrapper;
use crate::propose::hierarchy::reasons::LEAST_PAGES;
use crate::propose::writing::indent::{Style, indented_in};
use crate::site::Template;
use crate::text::{SourceId, Span, is_blank, line_start, trim_blanks};

/// What a layout says in a block fits all that override it but for one in so many.
const MINORITY: usize = 5;

/// The content of a block once something moved up, and the changes of its overrides.
type Lifted = (Vec<u8>, BTreeMap<usize, Change>);

impl Job<'_> {
    /// Plans what moves up from overrides into the blocks that they override. Whether something did.
    pub fn lift<'s>(&self, blocks: &[Block<'s>], children: &[Child<'s>], plan: &mut Plan) -> bool {
        let mut done: Vec<bool> = vec![false; children.len()];
        let mut changed: Vec<SourceId> = Vec::new();
        for block in blocks {
            let layout = self.site.get(block.layout);
            let is_free = !changed.contains(&block.layout) && block.all().all(|at| !done[at]);
            if !is_free || self.keeps_as_it_is(&layout.path) {
                continue;
            }
            let lifted = self.default_of_most(block, children);
            let lifted = lifted.or_else(|| self.added(block, children)).or_else(|| self.lifted(block, children));
            let Some((default, changes)) = lifted else { continue };
            let Some(bytes) = self.with_default(layout, block.name, &default) else { continue };
            let changes = changes.into_iter().map(|(at, change)| (at, BTreeMap::from([(block.name, change)])));
            if !self.change_overrides(layout, bytes, changes.collect(), children, plan) {
                continue;
            }
            block.all().for_each(|at| done[at] = true);
            changed.push(block.layout);
        }
        !changed.is_empty()
    }

    /// Content that most children have alike in a block in which the layout shows nothing: it becomes the default.
    fn default_of_most<'s>(&self, block: &Block<'s>, children: &[Child<'s>]) -> Option<Lifted> {
        let layout = self.site.get(block.layout);
        let shown = layout.between(layout.definition(block.name)?);
        if block.is_shown || !trim_blanks(shown.of(&layout.source)).is_empty() {
            return None;
        }
        let mut said: BTreeMap<&[u8], Vec<usize>> = BTreeMap::new();
        for &at in &block.overriders {
            said.entry(children[at].content(block.name)).or_default().push(at);
        }
        let (text, alike) = said.into_iter().max_by_key(|(text, alike)| (alike.len(), std::cmp::Reverse(*text)))?;
        let is_most = alike.len() >= LEAST_PAGES && alike.len() * 2 > block.overriding.len();
        let is_most = is_most && block.is_neutral(&alike, children);
        let first = children[alike[0]].template;
        let part = children[alike[0]].overrides[block.name].inner.trimmed(&first.source);
        (is_most && !text.is_empty())
            .then(|| (flush(first, part), alike.into_iter().map(|at| (at, Change::Drop)).collect()))
    }

    /// Content that all overrides add alike after the layout's, or before it: the layout shows that too.
    fn added<'s>(&self, block: &Block<'s>, children: &[Child<'s>]) -> Option<Lifted> {
        let layout = self.site.get(block.layout);
        if block.is_shown || block.adders.len() < LEAST_PAGES || block.adders.len() < block.overriding.len() {
            return None;
        }
        let sides = |&at: &usize| {
            let (template, own) = (children[at].template, children[at].overrides.get(block.name)?);
            let tag = own.inherits?;
            let before = Span::new(own.inner.start, tag.start).trimmed(&template.source);
            let after = Span::new(tag.end, own.inner.end).trimmed(&template.source);
            Some(Sides { source: &template.source, before, tag, after })
        };
        let sides: Vec<Sides<'_>> = block.adders.iter().map(sides).collect::<Option<_>>()?;
        let lengths = |text: &[u8], ends: bool| -> Vec<usize> {
            let spans = self.elements(text);
            if ends {
                spans.iter().map(|span| span.end as usize).collect()
            } else {
                spans.iter().rev().map(|span| text.len() - span.start as usize).collect()
            }
        };
        let shared = |lists: &[Vec<usize>], part: &dyn Fn(usize, usize) -> &'s [u8]| {
            let others = |length: usize| {
                (1..sides.len()).all(|at| lists[at].contains(&length) && part(at, length) == part(0, length))
            };
            lists[0].iter().copied().take_while(|&length| others(length)).last().unwrap_or(0)
        };
        let after: Vec<Vec<usize>> = sides.iter().map(|sides| lengths(sides.after.of(sides.source), true)).collect();
        let before: Vec<Vec<usize>> = sides.iter().map(|sides| lengths(sides.before.of(sides.source), false)).collect();
        let after = shared(&after, &|at, length| sides[at].cut(0, length).1.of(sides[at].source));
        let before = shared(&before, &|at, length| sides[at].cut(length, 0).0.of(sides[at].source));
        if before + after == 0 {
            return None;
        }
        let first = children[block.adders[0]].template;
        let (left, right) = sides[0].cut(before, after);
        let shown = layout.between(layout.definition(block.name)?).trimmed(&layout.source);
        let parts = [(first, left), (layout, shown), (first, right)].into_iter().filter(|(_, part)| !part.is_empty());
        let parts: Vec<Vec<u8>> = parts.map(|(template, part)| flush(template, part)).collect();
        let change = |(&at, sides): (&usize, &Sides<'_>)| {
            let (left, right) = sides.cut(before, after);
            let (source, tag) = (sides.source, sides.tag);
            let first = Span::new(sides.before.start, left.start).trimmed(source);
            let last = Span::new(right.end, sides.after.end).trimmed(source);
            if first.is_empty() && last.is_empty() {
                return (at, Change::Drop);
            }
            let own = children[at].overrides[block.name];
            let whole = own.whole.of(source);
            let (open, close) =
                ((own.inner.start - own.whole.start) as usize, (own.inner.end - own.whole.start) as usize);
            let lines = own.inner.of(source).contains(&b'\n');
            let rest = [first, tag, last].map(|part| part.of(source)).into_iter().filter(|part| !part.is_empty());
            let rest: Vec<&[u8]> = rest.collect();
            let rest = rest.join(if lines { &b"\n"[..] } else { b"" });
            let rest = if lines { [b"\n", &rest[..], b"\n"].concat() } else { rest };
            (at, Change::Become([&whole[..open], &rest, &whole[close..]].concat()))
        };
        Some((parts.join(&b'\n'), block.adders.iter().zip(&sides).map(change).collect()))
    }

    /// The outermost elements of some markup; none if it holds something else.
    fn elements(&self, markup: &[u8]) -> Vec<Span> {
        let document = Document::read(markup, &self.dialect);
        let children = document.children(NodeId::ROOT).map(|node| (&document.nodes[node], document.span(node)));
        let solid: Vec<_> = children.filter(|(_, span)| !trim_blanks(span.of(markup)).is_empty()).collect();
        let are_elements = solid.iter().all(|(node, _)| node.kind == NodeKind::Element);
        if are_elements { solid.into_iter().map(|(_, span)| span).collect() } else { Vec::new() }
    }

    /// The wrapper of a block that saves most, and what its overrides become.
    fn lifted<'s>(&self, block: &Block<'s>, children: &[Child<'s>]) -> Option<Lifted> {
        let layout = self.site.get(block.layout);
        let definition = layout.definition(block.name)?;
        let inside = layout.constructs.inside(definition);
        if inside.iter().any(|item| item.kind.defines()) {
            return None;
        }
        let shown = trim_blanks(layout.between(definition).of(&layout.source));
        let default = (block.is_shown || !shown.is_empty()).then_some(shown);
        if default.is_some_and(<[u8]>::is_empty) {
            return None;
        }
        let overriders: Vec<(usize, &Child<'_>)> = block.overriders.iter().map(|&at| (at, &children[at])).collect();
        let wrappers = self.wrappers(block.name, &overriders, default, &self.names_around(block.layout));
        let is_right = |wrapper: &Wrapper| {
            let members: Vec<usize> = wrapper.members().collect();
            let others = block.overriding.len() - members.len();
            members.len() >= LEAST_PAGES
                && others * MINORITY <= block.overriding.len()
                && block.is_neutral(&members, children)
        };
        let of_many = wrappers.into_iter().filter(is_right);
        let best = of_many.max_by_key(|wrapper| wrapper.saves)?;
        let change = |at| (at, best.change(self, at));
        Some((best.markup(self), best.members().map(change).collect()))
    }

    /// A layout that shows something else in a block.
    fn with_default(&self, layout: &Template, name: &[u8], default: &[u8]) -> Option<Vec<u8>> {
        let at = layout.definition(name)?;
        let open = &layout.constructs.items[at];
        let start = open.span.start as usize;
        let indent = &layout.source[line_start(&layout.source, start)..start];
        let end = layout.constructs.partner(open)?.span.end as usize;
        let is_alone = |rest: &[u8]| rest.iter().take_while(|b| **b != b'\n').all(|b| is_blank(*b));
        let own_lines = indent.iter().all(|b| is_blank(*b)) && is_alone(&layout.source[end..]);
        let (span, text) = shown_in(layout, at, default, own_lines);
        let mut bytes = layout.source.to_vec();
        bytes.splice(span.range(), text);
        Some(bytes)
    }
}

/// The edit that makes a layout show this in a block: perhaps in lines of its own, indented as it is there.
pub fn shown_in(layout: &Template, at: ConstructId, shown: &[u8], own_lines: bool) -> (Span, Vec<u8>) {
    if !own_lines {
        return (layout.inner(at), shown.to_vec());
    }
    let start = layout.constructs.items[at].span.start as usize;
    let before = &layout.source[..start];
    let blanks = before.iter().rev().take_while(|b| matches!(b, b' ' | b'\t')).count();
    let (indent, unit) = (&before[start - blanks..], Style::of([&layout.source[..]].into_iter()).unit);
    let all = Span::new(0, shown.len() as u32);
    let lines = indented_in(shown, &layout.dialect, all, &[indent, &unit[..]].concat());
    (layout.between(at), [b"\n", &lines[..], b"\n", indent].concat())
}

/// The content of an override before and after its tag for inherited content.
struct Sides<'s> {
    source: &'s [u8],
    before: Span,
    tag: Span,
    after: Span,
}

impl Sides<'_> {
    /// The last bytes before the tag, and the first ones after it.
    fn cut(&self, before: usize, after: usize) -> (Span, Span) {
        let (left, right) = (self.before.end - before as u32, self.after.start + after as u32);
        (Span::new(left, self.before.end), Span::new(self.after.start, right))
    }
}

/// A stretch of a template with its lines where its first line is.
fn flush(template: &Template, part: Span) -> Vec<u8> {
    indented_in(&template.source, &template.dialect, part, b"")
}

#[cfg(test)]
mod tests {
    use crate::propose::testing::{BASE, improved};

    #[test]
    fn what_most_children_set_in_an_empty_block_becomes_its_default() {
        let script = format!("<script src=\"/js/{}.js\"></script>", "timetable-of-all-harbours-".repeat(3));
        let scripts = format!("{{% block scripts %}}{script}{{% endblock %}}\n");
        let (_, text) = improved(BASE, &[scripts.as_str(); 6]);
        assert!(text("base.html").contains(&script), "{}", text("base.html"));
        assert!(!text("tides.html").contains("scripts"), "{}", text("tides.html"));
        // Where a page shows that the block is empty it stays so.
        let (proposal, _) = improved(BASE, &[&scripts, &scripts, &scripts, &scripts, &scripts, ""]);
        assert!(!proposal.files.iter().any(|file| file.path == "base.html"), "{:?}", proposal.changes);
    }
}
