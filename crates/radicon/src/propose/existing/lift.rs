//! What overrides of a block share moves up into the layout that defines it.

use std::collections::BTreeMap;

use crate::markup::{Document, NodeKind};
use crate::propose::assemble::Plan;
use crate::propose::existing::children::{Change, Child};
use crate::propose::existing::wrapped::Wrapper;
use crate::propose::hierarchy::sections::LEAST_PAGES;
use crate::propose::writing::indent::{Style, indented_in};
use crate::propose::{Job, ProposedFile, naming};
use crate::resolve::{Break, Resolver};
use crate::site::{Parent, Role, Template, beneath};
use crate::steps::between;
use crate::text::{SourceId, Span, is_blank, line_start, trim_blanks};

/// A block more in a layout is something more to know: what moves up saves the price of so many at least.
const LEAST_SAVING: u64 = 3;

/// What a layout says in a block fits all that override it but for one in so many.
const MINORITY: usize = 5;

/// A block of a layout, and who overrides it.
struct Block<'s> {
    layout: SourceId,
    name: &'s [u8],
    /// Templates below the layout that override it, and no level between; by their places among the children.
    overriders: Vec<usize>,
    /// Those that add to what it shows.
    adders: Vec<usize>,
    /// The paths of all that override it, those that stay as they are too.
    overriding: Vec<&'s str>,
    /// Something shows what the layout has in it, as far as is known.
    is_shown: bool,
}

impl Block<'_> {
    /// Whether what these children say is right for a page that nobody has written yet: not if they are the ones of a
    /// folder, and others lie elsewhere.
    fn is_neutral(&self, alike: &[usize], children: &[Child<'_>]) -> bool {
        let paths = alike.iter().map(|&at| children[at].template.path.as_str());
        let shared = naming::shared_folder(paths);
        let beneath = self.overriding.iter().filter(|path| beneath(path, shared).is_some()).count();
        alike.len() == self.overriding.len() || beneath > alike.len()
    }

    fn all(&self) -> impl Iterator<Item = usize> {
        self.overriders.iter().chain(&self.adders).copied()
    }
}

/// What is in a block once something moved up, and what its overrides become.
type Lifted = (Vec<u8>, BTreeMap<usize, Change>);

impl Job<'_> {
    /// Plans what moves up from overrides into the blocks that they override. Whether something did.
    pub fn lift(&self, children: &[Child<'_>], plan: &mut Plan) -> bool {
        let mut done: Vec<bool> = vec![false; children.len()];
        let mut changed: Vec<SourceId> = Vec::new();
        for block in self.overridden(children) {
            let layout = self.site.get(block.layout);
            let is_free = !changed.contains(&block.layout) && block.all().all(|at| !done[at]);
            if !is_free || self.keeps_as_it_is(&layout.path) {
                continue;
            }
            let lifted = self.default_of_most(&block, children);
            let lifted = lifted.or_else(|| self.added(&block, children)).or_else(|| self.lifted(&block, children));
            let Some((default, changes)) = lifted else { continue };
            let Some(bytes) = self.with_default(layout, block.name, &default) else { continue };
            let before: usize =
                layout.source.len() + changes.keys().map(|&at| children[at].template.source.len()).sum::<usize>();
            let path = |id: &SourceId| self.site.get(*id).path.clone();
            let around = match self.site.parent(block.layout) {
                Parent::Found { id, .. } => Some(path(id)),
                _ => None,
            };
            let mut files = vec![changed_file(layout, bytes, around)];
            for (at, change) in changes {
                let child = &children[at];
                let bytes = child.with(&BTreeMap::from([(block.name, change)]), None);
                files.push(changed_file(child.template, bytes, child.layout.as_ref().map(path)));
            }
            let after: usize = files.iter().map(|file| file.bytes.len()).sum();
            if after as u64 + self.options.price() * LEAST_SAVING > before as u64 {
                continue;
            }
            block.all().for_each(|at| done[at] = true);
            changed.push(block.layout);
            if !plan.layouts.contains(&layout.path) {
                plan.layouts.push(layout.path.clone());
            }
            files.into_iter().for_each(|file| plan.replace(file));
        }
        !changed.is_empty()
    }

    /// The blocks that several children override, by their layouts and names.
    fn overridden<'s>(&'s self, children: &[Child<'s>]) -> Vec<Block<'s>> {
        let of_path: BTreeMap<&str, usize> =
            children.iter().enumerate().map(|(at, child)| (child.template.path.as_str(), at)).collect();
        let mut blocks: BTreeMap<(SourceId, &[u8]), Block<'_>> = BTreeMap::new();
        let mut unsure = false;
        let mut shown: Vec<(SourceId, &[u8])> = Vec::new();
        for (id, template) in self.site.with_ids().filter(|(_, template)| template.dialect.name == self.dialect.name) {
            let chain = Resolver::new(self.site).chain(id);
            unsure |= matches!(chain.broken, Some(Break::Dynamic));
            let above = &chain.levels[1..];
            for (_, item) in template.outermost() {
                let name = item.name.of(&template.source);
                let Some(nearest) = above.iter().position(|&level| self.site.get(level).definition(name).is_some())
                else {
                    continue;
                };
                let layout = above[nearest];
                let is_owner =
                    above[nearest + 1..].iter().all(|&level| self.site.get(level).definition(name).is_none());
                if !is_owner {
                    continue;
                }
                let new = || Block {
                    layout,
                    name,
                    overriders: Vec::new(),
                    adders: Vec::new(),
                    overriding: Vec::new(),
                    is_shown: false,
                };
                let block = blocks.entry((layout, name)).or_insert_with(new);
                block.overriding.push(&template.path);
                let child = of_path.get(template.path.as_str()).copied();
                let own = child.and_then(|at| Some((at, children[at].overrides.get(name)?)));
                block.overriders.extend(own.filter(|(_, own)| own.is_plain).map(|(at, _)| at));
                block.adders.extend(own.filter(|(_, own)| own.inherits.is_some()).map(|(at, _)| at));
            }
            if template.role == Role::Page {
                for &layout in above {
                    let regions =
                        self.site.get(layout).blocks().map(|(_, item)| item.name.of(&self.site.get(layout).source));
                    let below = chain.levels.iter().take_while(|&&level| level != layout);
                    let is_seen =
                        |name: &&[u8]| below.clone().all(|&level| self.site.get(level).definition(name).is_none());
                    shown.extend(regions.filter(is_seen).map(|name| (layout, name)));
                }
            }
        }
        shown.sort_unstable();
        let mut blocks: Vec<Block<'_>> =
            blocks.into_values().filter(|block| block.all().count() >= LEAST_PAGES).collect();
        for block in &mut blocks {
            // A layout in between may be a page too, which nobody can tell.
            let may_be_page = *self.site.parent(block.layout) != Parent::None;
            block.is_shown = unsure || may_be_page || shown.binary_search(&(block.layout, block.name)).is_ok();
        }
        blocks
    }

    /// What most children say alike in a block in which the layout shows nothing: it becomes the default.
    fn default_of_most<'s>(&self, block: &Block<'s>, children: &[Child<'s>]) -> Option<Lifted> {
        let layout = self.site.get(block.layout);
        let shown = between(layout, layout.definition(block.name)?);
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

    /// What all overrides add alike after what the layout shows, or before it: the layout shows that too.
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
        let shown = between(layout, layout.definition(block.name)?).trimmed(&layout.source);
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
        let children = document.children(0).map(|node| (&document.nodes[node as usize], document.span(node)));
        let solid: Vec<_> = children.filter(|(_, span)| !trim_blanks(span.of(markup)).is_empty()).collect();
        let are_elements = solid.iter().all(|(node, _)| node.kind == NodeKind::Element);
        if are_elements { solid.into_iter().map(|(_, span)| span).collect() } else { Vec::new() }
    }

    /// The wrapper of a block that saves most, and what its overrides become.
    fn lifted<'s>(&self, block: &Block<'s>, children: &[Child<'s>]) -> Option<Lifted> {
        let layout = self.site.get(block.layout);
        let definition = layout.definition(block.name)?;
        let items = &layout.constructs.items;
        let inside = items.get(definition as usize + 1..items[definition as usize].partner as usize)?;
        if inside.iter().any(|item| item.kind.defines()) {
            return None;
        }
        let shown = trim_blanks(between(layout, definition).of(&layout.source));
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

    /// The names of all blocks in a layout, above it and below it.
    pub fn names_around(&self, layout: SourceId) -> Vec<String> {
        let resolver = Resolver::new(self.site);
        let names = resolver
            .family(layout)
            .flat_map(|template| template.blocks().map(|(_, item)| item.name.text(&template.source)));
        let mut names: Vec<String> = names.map(|name| name.into_owned()).collect();
        names.sort_unstable();
        names.dedup();
        names
    }

    /// A layout that shows something else in a block.
    fn with_default(&self, layout: &Template, name: &[u8], default: &[u8]) -> Option<Vec<u8>> {
        let at = layout.definition(name)?;
        let open = &layout.constructs.items[at as usize];
        let start = open.span.start as usize;
        let indent = &layout.source[line_start(&layout.source, start)..start];
        let end = layout.constructs.items.get(open.partner as usize)?.span.end as usize;
        let is_alone = |rest: &[u8]| rest.iter().take_while(|b| **b != b'\n').all(|b| is_blank(*b));
        let own_lines = indent.iter().all(|b| is_blank(*b)) && is_alone(&layout.source[end..]);
        let (span, text) = shown_in(layout, at, default, own_lines);
        let mut bytes = layout.source.to_vec();
        bytes.splice(span.range(), text);
        Some(bytes)
    }
}

/// What makes a layout show this in a block: perhaps in lines of its own, indented as it is there.
pub fn shown_in(layout: &Template, at: u32, shown: &[u8], own_lines: bool) -> (Span, Vec<u8>) {
    if !own_lines {
        return (layout.inner(at), shown.to_vec());
    }
    let start = layout.constructs.items[at as usize].span.start as usize;
    let before = &layout.source[..start];
    let blanks = before.iter().rev().take_while(|b| matches!(b, b' ' | b'\t')).count();
    let (indent, unit) = (&before[start - blanks..], Style::of([&layout.source[..]].into_iter()).unit);
    let all = Span::new(0, shown.len() as u32);
    let lines = indented_in(shown, &layout.dialect, all, &[indent, &unit].concat());
    (between(layout, at), [b"\n", &lines[..], b"\n", indent].concat())
}

/// What an override has before and after its tag for inherited content.
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

/// A template that the site has, with other bytes.
pub fn changed_file(template: &Template, bytes: Vec<u8>, extends: Option<String>) -> ProposedFile {
    let (path, dialect) = (template.path.clone(), template.dialect.name.clone());
    ProposedFile { path, role: template.role, dialect, extends, bytes }
}
