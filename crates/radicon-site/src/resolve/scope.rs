//! Names that includes bind.

use std::cell::Cell;
use std::rc::Rc;

use super::arguments::{Arguments, Binding, is_of_name};
use crate::dialect::{Rules, Scope as ScopeRule};
use crate::markup::{Construct, ConstructId};
use crate::site::Template;
use crate::text::{SourceId, Span};

/// The value that an include gives for a name.
#[derive(Clone, Copy, Debug)]
pub struct Given {
    /// The template in which it is written.
    pub source: SourceId,
    /// The value.
    pub value: Span,
    /// It is text, not an expression.
    pub literal: bool,
    /// How much was on the stack of names where it is written.
    pub depth: usize,
}

/// The names that an include binds for what it splices.
pub(super) struct Scope {
    /// The including template, and the include in it.
    pub source: SourceId,
    pub at: ConstructId,
    /// How much was on the stack of names there.
    pub depth: usize,
    pub arguments: Arguments,
    /// The names around it, if they are seen.
    pub outer: Option<Rc<Scope>>,
    /// No other names are seen.
    pub closed: bool,
    /// Whether other names are seen is not known.
    pub unknown: bool,
    /// Something that stays in the page needs one of the names.
    pub used: Cell<bool>,
}

impl Scope {
    /// The scope of an include; `None` if it changes nothing. If it is `exact` it says also what is not known.
    pub fn new(
        (source, at, depth): (SourceId, ConstructId, usize),
        arguments: Arguments,
        rules: &Rules,
        outer: Option<Rc<Scope>>,
        exact: bool,
    ) -> Option<Self> {
        let closed = arguments.only || rules.include_scope == ScopeRule::Own;
        let unknown = exact && rules.include_scope == ScopeRule::Unknown;
        let says_nothing = arguments.bindings.is_empty() && !arguments.opaque && !closed && !unknown;
        let used = Cell::new(false);
        if says_nothing { None } else { Some(Self { source, at, depth, arguments, outer, closed, unknown, used }) }
    }

    /// The scope of a block's content, where names around the block may not be seen.
    pub fn of_block(source: SourceId, rule: ScopeRule, outer: Rc<Scope>) -> Rc<Self> {
        if rule == ScopeRule::Shared {
            return outer;
        }
        let (closed, unknown) = (rule == ScopeRule::Own, rule == ScopeRule::Unknown);
        // It binds nothing itself.
        let (at, depth) = (ConstructId(0), usize::MAX);
        let (arguments, used) = (Arguments::default(), Cell::new(false));
        Rc::new(Self { source, at, depth, arguments, outer: Some(outer), closed, unknown, used })
    }

    /// Whether what it binds may be taken from names that includes around it bind.
    pub fn takes_names(&self) -> bool {
        self.arguments.opaque || self.arguments.bindings.iter().any(|binding| !binding.literal)
    }

    pub fn binding(&self, name: &[u8], template: &Template) -> Option<Binding> {
        self.arguments.bindings.iter().rev().find(|binding| binding.name.of(&template.source) == name).copied()
    }
}

/// The expression that an output prints.
pub fn printed(item: &Construct) -> Span {
    if item.expr.is_empty() { item.name } else { item.expr }
}

/// Whether an expression is a name, perhaps with members: `user.name`. It says the same where it is passed and where
/// it is printed.
pub fn is_path(expression: &[u8]) -> bool {
    expression.split(|&b| b == b'.').all(is_name)
}

/// Whether an expression is a name.
pub fn is_name(word: &[u8]) -> bool {
    word.iter().all(|&b| is_of_name(b)) && word.first().is_some_and(|b| !b.is_ascii_digit())
}
