//! What includes give for names, while a page is put together.
//!
//! A literal argument is put in where the page prints it and nothing else can
//! have bound the name, and so is, in a proof, a name that is passed on. Where an
//! expression still needs a bound name, the spliced content is between two
//! comments that say what is bound.

use std::rc::Rc;

use super::super::arguments::{Binding, mentions};
use super::super::flat::{Stretch, Via};
use super::super::scope::{Given, Scope, is_name, is_path, printed};
use super::{Flattener, Frame};
use crate::dialect::{Dialect, Kind, Part, Values};
use crate::markup::{Construct, ConstructId};
use crate::site::Template;
use crate::text::SourceId;

impl Flattener<'_> {
    /// The value that an include gives for the name that an output prints, if that is sure.
    pub(super) fn given(&mut self, source: SourceId, at: ConstructId, frame: &Frame) -> Option<Given> {
        let template = self.site.get(source);
        let mut name = printed(&template.constructs.items[at]).of(&template.source);
        let (mut source, mut at) = (source, at);
        let mut found = None;
        let mut scope = frame.scope.as_ref();
        while let Some(here) = scope {
            if !is_name(name) || !self.is_seen_alone(source, at, name) {
                break;
            }
            let binding = here.binding(name, self.site.get(here.source));
            if binding.is_none() && (here.closed || here.unknown || here.arguments.opaque) {
                break;
            }
            if let Some(Binding { value, literal, .. }) = binding {
                found = Some(Given { source: here.source, value, literal, depth: here.depth });
                // A name may be passed on by one include after another.
                name = if literal { b"" } else { value.of(&self.site.get(here.source).source) };
                (source, at) = (here.source, here.at);
            }
            scope = here.outer.as_ref();
        }
        found
    }

    /// The path that a proof reads in the place of a name that an output prints: the one given for it.
    pub(super) fn given_path(&mut self, source: SourceId, at: ConstructId, frame: &Frame) -> Option<Given> {
        self.names.as_ref()?;
        let is_output = self.site.get(source).constructs.items[at].kind == Kind::Output;
        let given = if is_output { self.given(source, at, frame)? } else { return None };
        is_path(given.value.of(&self.site.get(given.source).source)).then_some(given)
    }

    /// Whether nothing around a construct or in its file can bind a name that it uses.
    fn is_seen_alone(&mut self, source: SourceId, at: ConstructId, name: &[u8]) -> bool {
        let template = self.site.get(source);
        let items = &template.constructs.items;
        let binders = self.binders.entry((source, name.into())).or_insert_with(|| {
            ConstructId::each(items)
                .filter(|(_, item)| may_bind(template, item, name))
                .map(|(index, _)| index)
                .collect()
        });
        binders.iter().all(|&index| {
            let (item, before) = (&items[index], index < at);
            let around = item.part == Part::Open && item.partner.is_some_and(|closer| closer > at);
            let unpaired = item.kind == Kind::Other && item.partner.is_none();
            item.kind != Kind::Set && !(before && (around || unpaired))
        })
    }

    /// Whether a default for a name finds it bound already.
    pub(super) fn is_bound(&self, source: SourceId, item: &Construct, frame: &Frame) -> bool {
        let template = self.site.get(source);
        let name = item.name.of(&template.source);
        let bound = |scope: &Rc<Scope>| scope.binding(name, self.site.get(scope.source)).is_some();
        item.form(&template.dialect).default && frame.scope.as_ref().is_some_and(bound)
    }

    /// Notes which bound names a construct that stays in the page needs.
    pub(super) fn note_names(&self, source: SourceId, item: &Construct, frame: &Frame) {
        let says_names = !matches!(item.kind, Kind::Verbatim) && item.part != Part::Close;
        if says_names {
            self.note_names_in(item.span.of(&self.site.get(source).source), frame.scope.as_deref());
        }
    }

    /// The same for a path that an include gives: its names are those around the include.
    pub(super) fn note_given(&self, given: Given, frame: &Frame) {
        let mut scope = frame.scope.as_deref();
        while let Some(here) = scope.filter(|here| here.source != given.source || here.depth != given.depth) {
            scope = here.outer.as_deref();
        }
        let outer = scope.and_then(|here| here.outer.as_deref());
        self.note_names_in(given.value.of(&self.site.get(given.source).source), outer);
    }

    fn note_names_in(&self, text: &[u8], mut scope: Option<&Scope>) {
        while let Some(here) = scope {
            let template = self.site.get(here.source);
            let needs = |binding: &Binding| mentions(text, binding.name.of(&template.source));
            let needed = here.closed || here.arguments.opaque || here.arguments.bindings.iter().any(needs);
            here.used.set(here.used.get() || needed);
            scope = here.outer.as_deref().filter(|_| !here.closed);
        }
    }

    /// Puts what was spliced since `start` between comments that say what is bound there.
    pub(super) fn mark_scope(
        &mut self,
        source: SourceId,
        item: &Construct,
        scope: &Scope,
        start: (usize, usize),
        via: Via,
    ) {
        let template = self.site.get(source);
        let arguments = item.expr.text(&template.source);
        let mut arguments = arguments.split_whitespace().collect::<Vec<_>>().join(" ");
        // A proof compares what is bound where it is used.
        if self.names.as_ref().is_some_and(|names| names.sees_all_uses()) && !scope.arguments.opaque {
            if !scope.closed {
                return;
            }
            arguments.clear();
        }
        let said = if arguments.is_empty() && scope.closed { "nothing" } else { &arguments };
        let said = if said.starts_with("with ") { said.to_owned() } else { format!("with {said}") };
        let (open, close) = (comment(&template.dialect, &said), comment(&template.dialect, "end with"));
        let span = if item.expr.is_empty() { item.span } else { item.expr };
        let (bytes, index) = start;
        self.flat.bytes.splice(bytes..bytes, open.bytes());
        for stretch in &mut self.flat.stretches[index..] {
            stretch.at += open.len() as u32;
        }
        self.flat.stretches.insert(index, Stretch { at: bytes as u32, source, span, via });
        self.write(close.as_bytes(), source, span, via);
    }
}

/// Whether a construct may bind a name: for the whole file, for what follows
/// it, or for what it holds.
fn may_bind(template: &Template, item: &Construct, name: &[u8]) -> bool {
    let source = &template.source;
    match item.kind {
        Kind::Set => item.name.of(source) == name && !item.form(&template.dialect).default,
        Kind::Control | Kind::Other | Kind::Code | Kind::Wrap => {
            item.part != Part::Close && mentions(item.span.of(source), name)
        }
        _ => false,
    }
}

/// A comment in a dialect; in HTML's way if the dialect has none.
fn comment(dialect: &Dialect, text: &str) -> String {
    let Some(form) = dialect.form(Kind::Comment).filter(|form| form.open.example().contains("<text>")) else {
        return format!("<!-- {text} -->");
    };
    let open = form.open.write(&Values { expr: text, ..Values::default() });
    open + &form.close.first().map(|close| close.write(&Values::default())).unwrap_or_default()
}
