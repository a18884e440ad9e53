//! What rules find.

use super::{Fix, Severity};
use crate::edit::Edits;
use crate::text::{SourceId, Span};

/// Something that a rule found: its place in a template of the site. With the rule it makes a
/// [`Finding`](super::Finding).
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Found {
    /// The template.
    pub id: SourceId,
    /// The bytes it is about; empty for the template as a whole.
    pub span: Span,
    /// The problem, in plain words.
    pub message: String,
    /// If it is worth less than the rule's usual severity.
    pub severity: Option<Severity>,
    /// Other places that belong to it, each with what is there.
    pub related: Vec<(SourceId, Span, String)>,
    /// The change that fixes it, where that is certain.
    pub fix: Option<Fix>,
}

impl Found {
    /// Something in a template.
    pub fn new(id: SourceId, span: Span, message: impl Into<String>) -> Self {
        Self { id, span, message: message.into(), severity: None, related: Vec::new(), fix: None }
    }

    /// With another place that belongs to it, and what is there.
    pub fn with(mut self, id: SourceId, span: Span, message: impl Into<String>) -> Self {
        self.related.push((id, span, message.into()));
        self
    }

    /// As a hint, whatever its rule's usual severity.
    pub fn hint(mut self) -> Self {
        self.severity = Some(Severity::Hint);
        self
    }

    /// With a change that fixes it: what that does, whether every page stays as it is, and its edits.
    pub fn fixed(mut self, message: impl Into<String>, keeps_pages: bool, edits: Edits) -> Self {
        self.fix = Some(Fix { message: message.into(), keeps_pages, edits: edits.edits });
        self
    }
}
