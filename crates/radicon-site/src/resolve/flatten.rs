//! Flattening: a finished page, with the origin of every stretch.

mod given;
mod here;
mod includes;

use std::collections::BTreeSet;
use std::rc::Rc;

use rustc_hash::{FxHashMap, FxHashSet};

use super::arguments::quoted;
use super::flat::{Flat, FlattenError, Stretch, Via, block_name};
use super::names::{Kept, Names, ProofContext};
use super::scope::{Given, Scope, printed};
use super::{Chain, Definition, MAX_NESTING, MAX_PAGE, MAX_SPLICES, rebase};
use crate::dialect::{ByteOrderMark, Kind, Loose, Part, Values};
use crate::markup::{Construct, ConstructId};
use crate::site::{ProblemKind, Site};
use crate::text::{BYTE_ORDER_MARK, SourceId, Span, is_blank};

/// What a proof needs of a page.
#[derive(Clone, Copy, Debug)]
pub struct Proving<'p> {
    /// The facts about both sites.
    pub context: &'p ProofContext,
    /// The blocks that expressions of the page name, if it was put together before.
    pub named: Option<&'p BTreeSet<Box<[u8]>>>,
}

/// Puts a page together, perhaps for a proof.
pub(super) fn flatten<'s>(
    site: &'s Site,
    id: SourceId,
    proving: Option<Proving<'s>>,
) -> Result<(Flat, Vec<Kept>), FlattenError> {
    let mut flattener = Flattener {
        site,
        flat: Flat::default(),
        chains: FxHashMap::default(),
        active: Vec::new(),
        including: vec![id],
        binders: FxHashMap::default(),
        said: FxHashSet::default(),
        names: proving.map(|proving| proving.context).filter(|context| !context.is_empty()).map(Names::new),
        proving: proving.is_some(),
        own_mark: site.get(id).dialect.rules.byte_order_mark == ByteOrderMark::Page,
        splices: 0,
        full: false,
    };
    if flattener.own_mark && site.get(id).source.starts_with(BYTE_ORDER_MARK) {
        flattener.write(BYTE_ORDER_MARK, id, Span::from_range(0..BYTE_ORDER_MARK.len()), Via::Base);
    }
    let links = site.links(id);
    for &before in &links.before {
        flattener.template(before, Via::Rule, None, None);
    }
    flattener.template(id, Via::Base, None, None);
    for &after in &links.after {
        flattener.template(after, Via::Rule, None, None);
    }
    if let Some(proving) = proving {
        flattener.named_blocks(id, proving.named);
    }
    if flattener.full {
        return Err(FlattenError::TooLarge { page: site.get(id).path.clone() });
    }
    flattener.flat.problems.sort();
    flattener.flat.problems.dedup();
    let mut kept = flattener.names.map(Names::into_kept).unwrap_or_default();
    rebase::rebase(site, id, &mut flattener.flat, &mut kept);
    Ok((flattener.flat, kept))
}

struct Flattener<'s> {
    site: &'s Site,
    flat: Flat,
    chains: FxHashMap<SourceId, Rc<Chain>>,
    /// The splices under way, outermost first.
    active: Vec<Via>,
    /// The files among them.
    including: Vec<SourceId>,
    /// For each name that a template prints the constructs that may bind it.
    binders: FxHashMap<(SourceId, Box<[u8]>), Vec<ConstructId>>,
    /// The own-file tags that were written.
    said: FxHashSet<Box<[u8]>>,
    /// The page is put together for a proof.
    proving: bool,
    /// The bindings of names here, for a proof.
    names: Option<Names<'s>>,
    /// A byte-order mark belongs to its file: the page has its own.
    own_mark: bool,
    /// How often something was spliced.
    splices: usize,
    full: bool,
}

/// The state that holds while a stretch of a template is written.
#[derive(Clone)]
struct Frame {
    chain: Rc<Chain>,
    /// The level of the chain to which the template belongs.
    level: usize,
    /// The block that is being written, and which of its definitions.
    block: Option<(Rc<Region>, usize)>,
    /// The loose content of a child is written.
    loose: bool,
    via: Via,
    /// Names that the innermost include binds.
    scope: Option<Rc<Scope>>,
    /// The body that a wrap gives.
    wrap: Option<Rc<Wrapped>>,
}

/// A place where a block is, and what may be in it.
struct Region {
    /// The most derived definition first.
    definitions: Vec<Definition>,
    home: Frame,
}

/// The body of a wrap, in the frame where it is written.
struct Wrapped {
    source: SourceId,
    opener: ConstructId,
    frame: Frame,
    /// How many files were being included around the wrap.
    including: usize,
    /// How much was on the stack of names there.
    names: usize,
}

impl Wrapped {
    /// Whether a definition is in the body.
    fn holds(&self, site: &Site, definition: Definition) -> bool {
        self.source == definition.source && self.has(site, definition.construct)
    }

    /// Whether a construct of its file is between its tags.
    fn has(&self, site: &Site, construct: ConstructId) -> bool {
        let closer = site.get(self.source).constructs.items[self.opener].partner;
        closer.is_some_and(|closer| (self.opener..closer).contains(&construct))
    }
}

impl Flattener<'_> {
    /// Writes a template with its own chain.
    fn template(&mut self, id: SourceId, via: Via, scope: Option<Rc<Scope>>, wrap: Option<Rc<Wrapped>>) {
        let chain = match self.chains.get(&id) {
            Some(chain) => Rc::clone(chain),
            None => {
                let chain = Rc::new(Chain::build(self.site, id));
                self.flat.problems.extend(chain.problem(self.site));
                for &level in &chain.levels {
                    self.flat.problems.extend(self.site.get(level).twice());
                }
                self.chains.insert(id, Rc::clone(&chain));
                chain
            }
        };
        let base = chain.levels.len() - 1;
        let frame = Frame { chain: Rc::clone(&chain), level: base, block: None, loose: false, via, scope, wrap };
        for (level, &child) in chain.levels[..base].iter().enumerate() {
            let inner = Frame { level, loose: true, ..frame.clone() };
            match self.site.get(child).dialect.rules.loose {
                Loose::Before => self.whole(child, &inner),
                loose => self.bindings(child, &inner, loose == Loose::Body),
            }
        }
        self.whole(chain.levels[base], &frame);
        if self.proving && chain.broken.is_some() {
            self.blocks_of_unknown_layouts(&frame);
        }
    }

    /// Whether a construct belongs to a file whose layout is not known: then a proof needs the names of its blocks.
    fn layout_is_unknown(&self, source: SourceId, frame: &Frame) -> bool {
        self.proving && frame.chain.broken.is_some() && source == frame.chain.base()
    }

    /// Writes the blocks that no known level of the chain shows, by their names: the layout that is not known may show
    /// them.
    fn blocks_of_unknown_layouts(&mut self, frame: &Frame) {
        let site = self.site;
        let mut names: Vec<&[u8]> = Vec::new();
        for &level in &frame.chain.levels {
            let template = site.get(level);
            names.extend(template.blocks().map(|(_, item)| item.name.of(&template.source)));
        }
        names.sort_unstable();
        names.dedup();
        for name in names {
            let definitions = frame.chain.definitions(site, name);
            let Some(&first) = definitions.first() else { continue };
            if !self.flat.shown.contains(&first) {
                let region = Region { definitions, home: frame.clone() };
                self.named_block(&Rc::new(region), (first.source, first.construct), frame);
            }
        }
    }

    /// Writes the blocks of a page that expressions name, which may print them.
    fn named_blocks(&mut self, page: SourceId, named: Option<&BTreeSet<Box<[u8]>>>) {
        let named = named.unwrap_or(&self.flat.named).clone();
        let chain = Rc::new(Chain::build(self.site, page));
        for name in named {
            let definitions = chain.definitions(self.site, &name);
            let Some(&first) = definitions.first() else { continue };
            let level = chain.levels.len() - 1;
            let chain = Rc::clone(&chain);
            let frame = Frame { chain, level, block: None, loose: false, via: Via::Base, scope: None, wrap: None };
            let region = Region { definitions, home: frame.clone() };
            self.named_block(&Rc::new(region), (first.source, first.construct), &frame);
        }
    }

    /// Writes one of a region's definitions between marks that name it.
    fn named_block(&mut self, region: &Rc<Region>, from: (SourceId, ConstructId), frame: &Frame) {
        let item = &self.site.get(from.0).constructs.items[from.1];
        let name = item.name.of(&self.site.get(from.0).source);
        self.write(&["<!--\u{f8ff}".as_bytes(), name, b"-->"].concat(), from.0, item.span, frame.via);
        self.block(region, 0, from);
        self.write("<!--\u{f8ff}-->".as_bytes(), from.0, item.span, frame.via);
    }

    /// Writes all of a template's own text.
    fn whole(&mut self, source: SourceId, frame: &Frame) {
        let text = &self.site.get(source).source;
        let has_mark = self.own_mark && text.starts_with(BYTE_ORDER_MARK);
        let start = if has_mark { BYTE_ORDER_MARK.len() } else { 0 };
        self.content(source, Span::from_range(start..text.len()), ConstructId(0), frame);
    }

    /// Names that a child binds outside its blocks hold for the layout too, and
    /// so does what nobody described. A child whose loose content is the
    /// layout's body keeps what is inside conditions there.
    fn bindings(&mut self, child: SourceId, frame: &Frame, is_body: bool) {
        let template = self.site.get(child);
        let items = &template.constructs.items;
        let binds = |item: &Construct| match item.kind {
            Kind::Set | Kind::Import => true,
            Kind::Other | Kind::Code => !is_body,
            _ => false,
        };
        // Ends of the conditions that hold a binding.
        let mut holding: FxHashSet<ConstructId> = FxHashSet::default();
        let mut at = ConstructId(0);
        while let Some(item) = items.get(at.index()) {
            let closer = item.partner.filter(|_| item.part == Part::Open);
            let next = closer.unwrap_or(at);
            if item.kind == Kind::Parent {
                self.code_around(child, item, frame);
            } else if binds(item) {
                if !self.is_left_out(child, at, true) {
                    self.note(child, at, true, None);
                    self.copy(child, Span::new(item.span.start, items[next].span.end), frame);
                }
                at = next;
            } else if item.kind == Kind::Control {
                let held = items[at.index()..=next.index()].iter().any(binds);
                match (item.part, closer) {
                    (Part::Open, Some(closer)) if held && !is_body => {
                        self.note(child, at, true, None);
                        holding.insert(closer);
                        self.copy(child, item.span, frame);
                    }
                    (Part::Open, _) => at = next,
                    _ if holding.contains(&at)
                        || closer_of(items, item).is_some_and(|closer| holding.contains(&closer)) =>
                    {
                        self.note(child, at, true, None);
                        self.copy(child, item.span, frame);
                    }
                    _ => {}
                }
            } else {
                at = next;
            }
            at = at.next();
        }
    }

    /// Notes a tag that stays in the page, and what its names reach.
    fn note(&mut self, source: SourceId, at: ConstructId, in_child: bool, given: Option<Given>) {
        let place = self.flat.bytes.len() as u32;
        if let Some(names) = &mut self.names {
            names.keep(self.site, (place, source, at), in_child, given);
        }
    }

    /// Whether a tag is not written, though it stays in force: an own-file tag that the page has already, and
    /// in a proof every tag that prints nothing. Where it is among text does not count then, only what
    /// reaches it and whom it reaches.
    fn is_left_out(&mut self, source: SourceId, at: ConstructId, in_child: bool) -> bool {
        let template = self.site.get(source);
        let item = &template.constructs.items[at];
        let text = item.span.of(&template.source);
        let Some(names) = &mut self.names else {
            let is_own_file = self.site.sure_own_file_tags(source).binary_search(&at).is_ok();
            return is_own_file && !self.said.insert(text.into());
        };
        match item.kind {
            Kind::Other | Kind::Import if names.is_own_file_tag(text) => {
                if item.kind == Kind::Import {
                    names.import(self.site, source, at);
                }
                true
            }
            Kind::Set if item.part == Part::Single => {
                self.note(source, at, in_child, None);
                true
            }
            _ => false,
        }
    }

    /// A parent that is assigned among other code goes; the code stays.
    fn code_around(&mut self, source: SourceId, item: &Construct, frame: &Frame) {
        let template = self.site.get(source);
        let Some(tag) = item.tag_form(&template.dialect) else { return };
        let read = tag.pattern.read(&template.source, item.span.start as usize, &template.dialect.marks);
        let Some((_, captures)) = read.filter(|(_, captures)| captures.expr.len() + captures.after.len() > 0) else {
            return;
        };
        let lead = item.span.start + tag.pattern.lead().len() as u32;
        let before = if captures.expr.is_empty() { lead } else { captures.expr.end };
        let gap = &template.source[..captures.after.start as usize];
        let after = captures.after.start - gap.iter().rev().take_while(|&&b| is_blank(b)).count() as u32;
        self.copy(source, Span::new(item.span.start, before), frame);
        self.copy(source, Span::new(after.max(before), item.span.end), frame);
    }

    /// Writes a stretch of a template whose first construct is `first` or later.
    fn content(&mut self, source: SourceId, span: Span, first: ConstructId, frame: &Frame) {
        let template = self.site.get(source);
        let items = &template.constructs.items;
        let mut cursor = span.start;
        let mut at = first;
        // The last construct of the conditions and loops that are open.
        let mut condition = ConstructId(0);
        while let Some(item) = items.get(at.index()).filter(|item| item.span.start < span.end && !self.full) {
            if let Some(closer) = item.partner.filter(|_| item.kind == Kind::Control && item.part == Part::Open) {
                condition = condition.max(closer);
            }
            if item.span.start < cursor {
                // It went with a tag before it.
                at = at.next();
                continue;
            }
            let text = Span::new(cursor, item.reach.start.max(cursor));
            let hoisted = frame.loose && at >= condition && self.loose_rule(source) == Loose::Body;
            match self.construct(source, at, text, frame, hoisted) {
                Some((next, resume)) => {
                    cursor = resume.clamp(cursor, span.end);
                    at = next;
                }
                None => {
                    cursor = self.kept(source, at, cursor, frame).min(span.end);
                    at = at.next();
                }
            }
        }
        self.copy(source, Span::new(cursor, span.end), frame);
    }

    /// Resolves one construct after `text`; gives the next one and where the
    /// text goes on, or `None` if it stays as it is. Bindings that are `hoisted`
    /// were written before the layout already.
    fn construct(
        &mut self,
        source: SourceId,
        at: ConstructId,
        text: Span,
        frame: &Frame,
        hoisted: bool,
    ) -> Option<(ConstructId, u32)> {
        let template = self.site.get(source);
        let item = &template.constructs.items[at];
        let after = match item.partner {
            Some(closer) if item.part == Part::Open => (closer.next(), template.constructs.items[closer].reach.end),
            _ => (at.next(), item.reach.end),
        };
        let whole = match item.part {
            Part::Open => item.partner.is_some(),
            part => part == Part::Single,
        };
        match item.kind {
            _ if item.part == Part::Attribute && item.kind.resolved() => self.copy(source, text, frame),
            Kind::Comment => self.copy(source, text, frame),
            Kind::Parent if frame.chain.broken.is_none() || source != frame.chain.base() => {
                self.copy(source, text, frame);
                if !frame.loose {
                    self.code_around(source, item, frame);
                }
            }
            Kind::Set | Kind::Import if hoisted && whole => self.copy(source, text, frame),
            Kind::Set if whole && self.is_bound(source, item, frame) => self.copy(source, text, frame),
            Kind::Set | Kind::Other | Kind::Import if self.is_left_out(source, at, false) => {
                self.copy(source, text, frame);
            }
            Kind::Block if frame.loose && whole && self.is_region_above(source, item, frame) => {
                self.copy(source, text, frame);
            }
            Kind::Block | Kind::Slot if whole => {
                self.copy(source, text, frame);
                self.region(source, at, frame);
            }
            Kind::Fill | Kind::Part if whole => self.copy(source, text, frame),
            Kind::Body if whole => {
                self.copy(source, text, frame);
                self.body(source, at, frame);
            }
            Kind::Inherited => {
                self.copy(source, text, frame);
                match &frame.block {
                    Some((region, index)) if index + 1 < region.definitions.len() => {
                        self.block(region, index + 1, (source, at));
                    }
                    // The layout may have more of it.
                    _ if self.proving && frame.chain.broken.is_some() => self.copy(source, item.span, frame),
                    _ => {}
                }
            }
            Kind::Again => {
                self.copy(source, text, frame);
                self.again(source, at, frame);
            }
            Kind::Here if whole => {
                self.copy(source, text, frame);
                self.here(source, at, frame);
            }
            Kind::Include | Kind::Wrap if whole => return self.include(source, at, text, frame).then_some(after),
            Kind::Output => {
                let given = self.given(source, at, frame).filter(|given| given.literal)?;
                self.copy(source, text, frame);
                self.copy(given.source, given.value, frame);
            }
            _ => return None,
        }
        Some(after)
    }

    fn loose_rule(&self, source: SourceId) -> Loose {
        self.site.get(source).dialect.rules.loose
    }

    /// Whether a template further up has a region for a block in a child's loose content.
    fn is_region_above(&self, source: SourceId, item: &Construct, frame: &Frame) -> bool {
        let name = item.name.of(&self.site.get(source).source);
        frame.chain.levels[frame.level + 1..]
            .iter()
            .any(|&level| self.site.get(level).regions_named(name).next().is_some())
    }

    /// A construct that stays; its trim marks do their work and go. Gives where the text goes on.
    fn kept(&mut self, source: SourceId, at: ConstructId, cursor: u32, frame: &Frame) -> u32 {
        let template = self.site.get(source);
        let item = &template.constructs.items[at];
        if self.proving {
            let is_block = |name: &&[u8]| !frame.chain.definitions(self.site, name).is_empty();
            let known = |name: &&[u8]| !self.flat.named.contains(*name);
            let found: Vec<Box<[u8]>> =
                quoted(item.span.of(&template.source)).filter(known).filter(is_block).map(Into::into).collect();
            self.flat.named.extend(found);
        }
        let given = self.given_path(source, at, frame);
        match given {
            Some(given) => self.note_given(given, frame),
            None => self.note_names(source, item, frame),
        }
        self.note(source, at, false, given);
        let [left, right] = item.marks;
        let mut gaps = Vec::new();
        if !left.is_empty() {
            gaps.extend([Span::new(item.reach.start, item.span.start), left]);
        }
        if !right.is_empty() {
            gaps.extend([right, Span::new(item.span.end, item.reach.end)]);
        }
        let names = self.names.as_ref().map_or_else(Vec::new, |names| names.own_names(template, item));
        let gaps = gaps.into_iter().map(|gap| (gap, &b""[..]));
        let mut changes: Vec<(Span, &[u8])> = gaps.chain(names.into_iter().map(|name| (name, ANY_NAME))).collect();
        changes.extend(given.map(|given| (printed(item), given.value.of(&self.site.get(given.source).source))));
        changes.sort_unstable();
        let mut from = cursor;
        for (span, text) in changes {
            self.copy(source, Span::new(from, span.start.max(from)), frame);
            self.write(text, source, span, frame.via);
            from = span.end.max(from);
        }
        from
    }

    /// Writes what is in a block or slot.
    fn region(&mut self, source: SourceId, construct: ConstructId, frame: &Frame) {
        let template = self.site.get(source);
        let item = &template.constructs.items[construct];
        let name = item.name.of(&template.source);
        let own = Definition { source, construct };
        let mut definitions = Vec::new();
        if let Some(wrap) = &frame.wrap {
            let body = self.site.get(wrap.source);
            let fills = body.blocks().filter(|(at, fill)| {
                fill.kind == Kind::Fill && wrap.has(self.site, *at) && fill.name.of(&body.source) == name
            });
            definitions.extend(fills.map(|(construct, _)| Definition { source: wrap.source, construct }).next());
        }
        definitions.extend(frame.chain.definitions(self.site, name));
        let has_default = item.kind == Kind::Slot && (item.partner.is_some() || !item.value.is_empty());
        if has_default || (item.kind == Kind::Block && !definitions.iter().any(|d| d.source == source)) {
            definitions.push(own);
        }
        if definitions.is_empty() {
            if item.form(&template.dialect).required {
                let message = format!("the required region `{}` is not filled", String::from_utf8_lossy(name));
                self.flat.problems.push(template.problem(item.span.start, message));
            }
            return;
        }
        let region = Rc::new(Region { definitions, home: Frame { block: None, loose: false, ..frame.clone() } });
        match self.layout_is_unknown(source, frame) {
            true => self.named_block(&region, (source, construct), frame),
            false => self.block(&region, 0, (source, construct)),
        }
    }

    /// Writes what a block shows once more.
    fn again(&mut self, source: SourceId, at: ConstructId, frame: &Frame) {
        let template = self.site.get(source);
        let item = &template.constructs.items[at];
        let name = item.name.of(&template.source);
        let mut definitions = frame.chain.definitions(self.site, name);
        // The default of a region that nobody fills.
        let default = frame.chain.levels.iter().find_map(|&source| {
            let mut named = self.site.get(source).regions_named(name);
            named.find(|(_, item)| item.kind == Kind::Slot).map(|(construct, _)| Definition { source, construct })
        });
        definitions.extend(default);
        if definitions.is_empty() {
            let message = format!("no block `{}` to print again", String::from_utf8_lossy(name));
            self.flat.problems.push(template.problem(item.span.start, message));
            return;
        }
        let region = Region { definitions, home: Frame { block: None, loose: false, ..frame.clone() } };
        self.block(&Rc::new(region), 0, (source, at));
    }

    /// Writes one of a region's definitions.
    fn block(&mut self, region: &Rc<Region>, index: usize, from: (SourceId, ConstructId)) {
        let definition = region.definitions[index];
        let via = Via::Block(definition);
        // What is included has a chain of its own, perhaps through the same layout.
        let mut of_this_chain = self.active.iter().rev().take_while(|via| !matches!(via, Via::Include(..)));
        if of_this_chain.any(|active| *active == via) {
            let message = format!("the block `{}` is inside itself", block_name(self.site, definition));
            return self.note_problem(ProblemKind::Unfollowed, from, message);
        }
        if self.too_deep(from) {
            return;
        }
        let home = &region.home;
        // What is in the body of a wrap belongs to the place of the wrap.
        let outer = home.wrap.as_ref().filter(|wrap| wrap.holds(self.site, definition));
        let base = outer.map_or(home, |wrap| &wrap.frame);
        let level = home.chain.levels.iter().position(|&level| level == definition.source);
        let level = level.filter(|_| outer.is_none()).unwrap_or(base.level);
        let frame = Frame { level, block: Some((Rc::clone(region), index)), loose: false, via, ..base.clone() };
        let template = self.site.get(definition.source);
        let item = &template.constructs.items[definition.construct];
        self.flat.shown.push(definition);
        let inside = outer.map_or(Vec::new(), |wrap| self.including.split_off(wrap.including));
        self.active.push(via);
        let rule = template.dialect.rules.block_scope;
        let scope = match frame.scope.clone() {
            Some(scope) if outer.is_none() && self.names.is_some() => {
                Some(Scope::of_block(definition.source, rule, scope))
            }
            scope => scope,
        };
        let frame = Frame { scope, ..frame };
        let names = self.names.as_mut().map(|names| match outer {
            Some(wrap) => names.enter_wrapped(wrap.names),
            None => names.enter_block(rule),
        });
        if item.partner.is_none() && item.dynamic {
            self.printed(definition.source, item, &frame);
        } else {
            self.content(definition.source, template.inner(definition.construct), definition.construct.next(), &frame);
        }
        self.leave(names);
        self.active.pop();
        self.including.extend(inside);
    }

    /// A short content that is an expression is printed in the dialect's way.
    fn printed(&mut self, source: SourceId, item: &Construct, frame: &Frame) {
        let template = self.site.get(source);
        let expr = &item.value.text(&template.source);
        match template.dialect.form(Kind::Output) {
            Some(form) => {
                let text = form.open.write(&Values { expr, name: expr, ..Values::default() });
                self.write(text.as_bytes(), source, item.value, frame.via);
            }
            None => self.copy(source, item.value, frame),
        }
    }

    /// Writes what goes into the unnamed region: a child's loose content, or a wrap's body.
    fn body(&mut self, source: SourceId, at: ConstructId, frame: &Frame) {
        let via = Via::Body(source, at);
        if self.too_deep((source, at)) {
            return;
        }
        self.active.push(via);
        if let Some(level) = frame.level.checked_sub(1) {
            let child = frame.chain.levels[level];
            if self.loose_rule(child) == Loose::Body {
                let rule = self.site.get(child).dialect.rules.block_scope;
                let names = self.names.as_mut().map(|names| names.enter_block(rule));
                self.whole(child, &Frame { level, block: None, loose: true, via, ..frame.clone() });
                self.leave(names);
            }
        } else if let Some(wrap) = &frame.wrap {
            let template = self.site.get(wrap.source);
            let inner = Frame { via, ..wrap.frame.clone() };
            // The body belongs to the place of the wrap: it may wrap the same file again.
            let inside = self.including.split_off(wrap.including);
            let names = self.names.as_mut().map(|names| names.enter_wrapped(wrap.names));
            self.content(wrap.source, template.inner(wrap.opener), wrap.opener.next(), &inner);
            self.leave(names);
            self.including.extend(inside);
        }
        self.active.pop();
    }

    /// Ends all that began on the stack of names since a place of it.
    fn leave(&mut self, start: Option<usize>) {
        if let (Some(names), Some(start)) = (&mut self.names, start) {
            names.leave(start);
        }
    }

    fn too_deep(&mut self, (source, at): (SourceId, ConstructId)) -> bool {
        self.splices += 1;
        self.full |= self.splices > MAX_SPLICES;
        let deep = self.active.len() >= MAX_NESTING;
        if deep {
            let message =
                format!("more than {MAX_NESTING} blocks and includes inside each other; not followed further");
            self.note_problem(ProblemKind::Unfollowed, (source, at), message);
        }
        deep
    }

    /// Notes a problem with a construct.
    fn note_problem(&mut self, kind: ProblemKind, (source, at): (SourceId, ConstructId), message: String) {
        let template = self.site.get(source);
        self.flat.problems.push(template.problem_of(kind, template.constructs.items[at].span.start, message));
    }

    fn copy(&mut self, source: SourceId, span: Span, frame: &Frame) {
        let site = self.site;
        self.write(span.of(&site.get(source).source), source, span, frame.via);
    }

    /// Writes bytes that come from a place.
    fn write(&mut self, bytes: &[u8], source: SourceId, span: Span, via: Via) {
        if bytes.is_empty() || self.full {
            return;
        }
        let at = self.flat.bytes.len();
        if at + bytes.len() > MAX_PAGE {
            self.full = true;
            return;
        }
        self.flat.bytes.extend_from_slice(bytes);
        self.flat.stretches.push(Stretch { at: at as u32, source, span, via });
    }
}

/// The name that a proof reads for one that a pair binds for its content.
const ANY_NAME: &[u8] = b"_";

/// The closer of the pair that a branch divides.
fn closer_of(items: &[Construct], branch: &Construct) -> Option<ConstructId> {
    branch.partner.and_then(|opener| items[opener].partner)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect::builtin;
    use crate::resolve::Resolver;
    use crate::site::{Settings, SourceFile};

    fn flat(files: &[(&str, &str)], page: &str) -> (String, Vec<String>) {
        let files = files.iter().map(|(path, text)| SourceFile::new(*path, *text)).collect();
        let site = Site::read(files, builtin(), &Settings::default());
        let flat = Resolver::new(&site).flatten(site.find(page).expect("a page")).expect("a page of a sane size");
        let copied: usize = flat.stretches.iter().map(|stretch| stretch.span.len()).sum();
        assert_eq!(copied, flat.bytes.len(), "every byte has an origin");
        (String::from_utf8_lossy(&flat.bytes).into_owned(), flat.problems.iter().map(ToString::to_string).collect())
    }

    const BASE: (&str, &str) = (
        "base.html",
        "<{% block a %}A{% block n %}N{% endblock %}{% endblock %}|{% block b %}B{% endblock %}>{# c #}{{ x }}",
    );

    #[test]
    fn blocks_are_overridden_nested_and_inherited() {
        let mid = ("mid.html", "{% extends 'base.html' %}lost{% block b %}[{{ super() }}]{% endblock %}");
        for (page, expected) in [
            ("{% extends 'base.html' %}", "<AN|B>{{ x }}"),
            ("{% extends 'mid.html' %}{% block n %}x{% endblock %}", "<Ax|[B]>{{ x }}"),
            ("{% extends 'mid.html' %}{% block b %}({{ super() }}){% endblock %}", "<AN|([B])>{{ x }}"),
            (
                "{% extends 'mid.html' %}{% block a %}{% block n %}y{% endblock %}{{ super() }}{% endblock %}",
                "<yAy|[B]>{{ x }}",
            ),
        ] {
            assert_eq!(flat(&[BASE, mid, ("p.html", page)], "p.html"), (expected.to_owned(), vec![]), "{page}");
        }
    }

    #[test]
    fn partials_bring_their_own_chain() {
        let files = [
            BASE,
            ("card.html", "{% extends 'base.html' %}{% block a %}card{% endblock %}"),
            ("p.html", "{% extends 'base.html' %}{% block b %}{% include 'card.html' %}{% endblock %}{% set t = 1 %}"),
        ];
        assert_eq!(flat(&files, "p.html").0, "{% set t = 1 %}<AN|<card|B>{{ x }}>{{ x }}");
    }

    #[test]
    fn rounds_and_gaps_are_named_and_kept() {
        let (text, problems) = flat(
            &[
                ("a.html", "1{% include 'b.html' %}"),
                ("b.html", "2{% include 'c.html' %}"),
                ("c.html", "3{% include 'b.html' %}"),
            ],
            "a.html",
        );
        assert_eq!(text, "123{% include 'b.html' %}");
        assert!(problems[0].contains("b.html -> c.html -> b.html"), "{problems:?}");
        let (text, problems) =
            flat(&[("a.html", "{% include 'x.html' %}{% include y %}{% include 'a.html' %}")], "a.html");
        assert_eq!(text, "{% include 'x.html' %}{% include y %}{% include 'a.html' %}");
        assert_eq!(problems.len(), 3, "{problems:?}");
    }

    #[test]
    fn pages_that_explode_are_stopped() {
        let mut files: Vec<(String, String)> = (0..40)
            .map(|n| (format!("{n}.html"), format!("{{% include '{0}.html' %}}{{% include '{0}.html' %}}", n + 1)))
            .collect();
        files.push(("40.html".into(), "x".repeat(100_000)));
        let files = files.into_iter().map(|(path, text)| SourceFile::new(path, text)).collect();
        let site = Site::read(files, builtin(), &Settings::default());
        let page = site.find("0.html").expect("a page");
        assert!(matches!(Resolver::new(&site).flatten(page), Err(FlattenError::TooLarge { .. })));
    }
}
