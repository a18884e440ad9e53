//! Stretches of files as people name them: lines, or an element.

use crate::markup::{Document, NodeId, NodeKind};
use crate::site::{Selector, Site};
use crate::text::{LineIndex, SourceId, Span, is_blank};

/// Why a stretch of a file cannot be found.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum PlaceError {
    /// It is not written as it should be.
    #[error(
        "`{0}` is not a place in a file; write FILE:LINE, FILE:LINE-LINE, or FILE:ELEMENT such as page.html:nav, page.html:#menu or page.html:div.side"
    )]
    Unreadable(String),
    /// The file is none of the site's templates.
    #[error("no template `{0}`")]
    NoFile(String),
    /// The file has no such lines or element.
    #[error("{file} has no {what}")]
    NotThere {
        /// The file's path.
        file: String,
        /// The place that was looked for.
        what: String,
    },
}

/// Finds a stretch written as `FILE:LINE`, `FILE:LINE-LINE` or `FILE:ELEMENT`, without the white
/// space around it. `find` finds a template by the way in which people name it.
///
/// # Errors
/// If it cannot be read, or is not there.
pub fn find_place(
    site: &Site,
    written: &str,
    find: impl Fn(&str) -> Option<SourceId>,
) -> Result<(SourceId, Span), PlaceError> {
    let unreadable = || PlaceError::Unreadable(written.to_owned());
    let (file, what) = written.rsplit_once(':').ok_or_else(unreadable)?;
    let id = find(file).ok_or_else(|| PlaceError::NoFile(file.to_owned()))?;
    let template = site.get(id);
    let source = &template.source;
    let missing = || PlaceError::NotThere { file: template.path.clone(), what: what.to_owned() };
    let lines = what.split_once('-').unwrap_or((what, what));
    let span = if let (Ok(first), Ok(last)) = (lines.0.parse::<u32>(), lines.1.parse::<u32>()) {
        let index = LineIndex::new(source);
        let end = index.line(source.len() as u32);
        if first == 0 || first > last || last > end {
            return Err(PlaceError::NotThere {
                file: template.path.clone(),
                what: format!("lines {what}; it has {end}"),
            });
        }
        Span::new(index.start(first), if last == end { source.len() as u32 } else { index.start(last + 1) })
    } else {
        let selector = Selector::parse(what).ok_or_else(unreadable)?;
        let document = Document::with_constructs(source, template.constructs.clone());
        let element =
            |node: &NodeId| document.nodes[*node].kind == NodeKind::Element && selector.fits(&document, source, *node);
        let node = NodeId::all(document.nodes.len()).find(element).ok_or_else(missing)?;
        document.span(node)
    };
    let text = span.of(source);
    let start = text.iter().take_while(|b| is_blank(**b)).count() as u32;
    let end = text.iter().rev().take_while(|b| is_blank(**b)).count() as u32;
    if start as usize == text.len() {
        return Err(missing());
    }
    Ok((id, Span::new(span.start + start, span.end - end)))
}
