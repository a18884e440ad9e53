//! Includes: what is spliced in their place.

use std::rc::Rc;

use super::super::arguments::Arguments;
use super::super::chain::describe_missing;
use super::super::flat::{Via, block_name};
use super::super::names::Names;
use super::super::scope::Scope;
use super::{Flattener, Frame, Wrapped};
use crate::dialect::{Kind, Part};
use crate::markup::{ConstructId, Inside};
use crate::resolve::Definition;
use crate::site::ProblemKind;
use crate::text::{SourceId, Span};

/// The content that an include splices.
enum Splice {
    Template(SourceId),
    Part(Definition),
}

impl Flattener<'_> {
    /// Splices an include or a wrap after `text`; `false` if it stays as it is.
    pub(super) fn include(&mut self, source: SourceId, at: ConstructId, text: Span, frame: &Frame) -> bool {
        let template = self.site.get(source);
        let item = &template.constructs.items[at];
        let arguments = Arguments::read(&template.source, item.expr, &template.dialect.rules);
        let Some(splice) = self.spliced(source, at, frame) else {
            match arguments.optional {
                true => self.copy(source, text, frame),
                false => self.unresolved(source, at),
            }
            return arguments.optional;
        };
        if item.inside == Inside::Expression {
            let message =
                format!("`{}` is called inside an expression; kept as it is", item.span.text(&template.source));
            self.flat.problems.push(template.problem(item.span.start, message));
            return false;
        }
        let again = |this: &mut Self| match splice {
            Splice::Template(file) => this.includes_itself((source, at), file),
            Splice::Part(_) => false,
        };
        if self.too_deep((source, at)) || again(self) {
            return false;
        }
        self.copy(source, text, frame);
        // Of several statements in a tag those before it and those after it get tags of their own.
        if let Inside::Statement { close, .. } = item.inside {
            self.copy(source, close, frame);
        }
        let via = Via::Include(source, at);
        let depth = self.names.as_ref().map_or(0, Names::depth);
        let names = self.names.as_mut().map(|names| names.enter_include(self.site, source, &arguments));
        let (rules, outer) = (&template.dialect.rules, frame.scope.clone());
        let scope = Scope::new((source, at, depth), arguments, rules, outer, names.is_some()).map(Rc::new);
        let start = (self.flat.bytes.len(), self.flat.stretches.len());
        let wrap = (item.kind == Kind::Wrap
            || item.part == Part::Open && item.partner.is_some() && item.tag_form(&template.dialect).is_some())
        .then(|| {
            let names = self.names.as_ref().map_or(0, Names::depth);
            let (frame, including) = (frame.clone(), self.including.len());
            Rc::new(Wrapped { source, opener: at, frame, including, names })
        });
        let inner_scope = scope.clone().or_else(|| frame.scope.clone());
        self.active.push(via);
        match splice {
            Splice::Template(id) => {
                self.including.push(id);
                self.template(id, via, inner_scope, wrap);
                self.including.pop();
            }
            Splice::Part(part) if self.active.contains(&Via::Block(part)) => {
                let message = format!("the part `{}` includes itself", block_name(self.site, part));
                self.note_problem(ProblemKind::Unfollowed, (source, at), message);
            }
            Splice::Part(part) => {
                self.active.push(Via::Block(part));
                let inner = Frame {
                    block: None,
                    loose: false,
                    via: Via::Block(part),
                    scope: inner_scope,
                    wrap,
                    ..frame.clone()
                };
                let span = self.site.get(part.source).inner(part.construct);
                self.content(part.source, span, part.construct.next(), &inner);
                self.active.pop();
            }
        }
        self.active.pop();
        self.leave(names);
        if let Some(scope) = scope.filter(|scope| scope.used.get()) {
            if scope.takes_names() {
                self.note_names(source, item, frame);
            }
            self.mark_scope(source, item, &scope, start, via);
        }
        if let Inside::Statement { open, .. } = item.inside {
            self.copy(source, open, frame);
        }
        true
    }

    /// The content that an include means: the template it names, or a named fragment.
    fn spliced(&self, source: SourceId, at: ConstructId, frame: &Frame) -> Option<Splice> {
        let template = self.site.get(source);
        let item = &template.constructs.items[at];
        let target = match self.site.links(source).target(at) {
            Some(Ok(id)) => Some(*id),
            _ => None,
        };
        match target.filter(|_| item.name.is_empty()) {
            Some(id) => Some(Splice::Template(id)),
            None => {
                let name = if item.name.is_empty() { item.target } else { item.name };
                self.part(name.of(&template.source), target, frame, source).map(Splice::Part)
            }
        }
    }

    /// The named fragment that an include means: of the file it names, of the
    /// chain, of its own file, or of any file.
    fn part(&self, name: &[u8], file: Option<SourceId>, frame: &Frame, source: SourceId) -> Option<Definition> {
        let all = self.site.parts(name);
        let of = |id: SourceId| all.iter().find(|(part, _)| *part == id);
        let found = match file {
            Some(file) => of(file),
            None => frame.chain.levels.iter().chain([&source]).find_map(|&id| of(id)).or(all.first()),
        };
        found.map(|&(source, construct)| Definition { source, construct })
    }

    /// Says why an include stays as it is.
    fn unresolved(&mut self, source: SourceId, at: ConstructId) {
        let template = self.site.get(source);
        let item = &template.constructs.items[at];
        let written = item.target.text(&template.source);
        let message = match self.site.links(source).target(at) {
            Some(Err(missing)) => describe_missing(&written, missing),
            Some(Ok(file)) => {
                let name = item.name.text(&template.source);
                format!("{} defines no part `{name}`", self.site.get(*file).path)
            }
            None if item.dynamic => format!("the included name `{written}` is an expression; kept as it is"),
            None => format!("no file defines the part `{}`", item.name.text(&template.source)),
        };
        self.flat.problems.push(template.problem(item.span.start, message));
    }

    /// Whether following an include would come round to a file that is being included.
    fn includes_itself(&mut self, (source, at): (SourceId, ConstructId), target: SourceId) -> bool {
        let Some(start) = self.including.iter().position(|&active| active == target) else { return false };
        // A condition ends the round when the page is rendered.
        if !self.site.get(source).within_controls()[at.index()] {
            let round = self.including[start..].iter().chain([&target]);
            let names: Vec<_> = round.map(|&id| self.site.get(id).path.as_str()).collect();
            let message = format!("the includes form a cycle: {}", names.join(" -> "));
            self.note_problem(ProblemKind::Broken, (source, at), message);
        }
        true
    }
}
