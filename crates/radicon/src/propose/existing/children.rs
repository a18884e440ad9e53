//! Templates that take a layout and consist of overrides, and what changes in them.

use std::collections::BTreeMap;

use crate::dialect::Kind;
use crate::markup::ConstructId;
use crate::propose::{Job, ProposedFile};
use crate::resolve::loose;
use crate::site::{Parent, Template};
use crate::text::{SourceId, Span, trim_blanks};

/// A child of a layout, and what it overrides.
pub struct Child<'s> {
    /// The layout that it names, if that is here.
    pub layout: Option<SourceId>,
    pub template: &'s Template,
    /// The outermost overrides, by their names.
    pub overrides: BTreeMap<&'s [u8], Own>,
}

/// An override of a child.
#[derive(Clone, Copy)]
pub struct Own {
    /// It with its tags.
    pub whole: Span,
    /// The span between its tags.
    pub inner: Span,
    /// It holds neither blocks nor inherited content.
    pub is_plain: bool,
    /// The tag for inherited content, if it holds one and no blocks.
    pub inherits: Option<Span>,
}

/// The change of an override.
pub enum Change {
    Drop,
    Become(Vec<u8>),
}

impl Job<'_> {
    /// A template that names its layout outright, and consists of overrides; `None` for another one, and for one that
    /// is to stay as it is.
    pub fn child_of_overrides<'t>(&self, id: SourceId, template: &'t Template) -> Option<Child<'t>> {
        let kept = self.keeps_as_it_is(&template.path);
        let parent = template.parent().filter(|item| !item.target.is_empty() && !item.dynamic)?;
        if kept || template.dialect.name != self.dialect.name || !loose(template).is_empty() {
            return None;
        }
        let within = template.within_controls();
        let is_free = |at: ConstructId| !within.get(at.index()).copied().unwrap_or_default();
        let (at_parent, _) = template.parents().find(|(_, item)| item.span == parent.span)?;
        let overrides = template.outermost().filter(|(at, item)| item.kind == Kind::Block && is_free(*at));
        let overrides = overrides.map(|(at, item)| {
            let inside = template.constructs.inside(at);
            let defines = inside.iter().any(|item| item.kind.defines());
            let mut inherited = inside.iter().filter(|item| item.kind == Kind::Inherited).map(|item| item.span);
            let (first, second) = (inherited.next().filter(|_| !defines), inherited.next());
            let own = Own {
                whole: template.whole(at),
                inner: template.inner(at),
                is_plain: !defines && first.is_none(),
                inherits: first.filter(|_| second.is_none()),
            };
            (item.name.of(&template.source), own)
        });
        let layout = match self.site.parent(id) {
            Parent::Found { id, .. } => Some(*id),
            _ => None,
        };
        is_free(at_parent).then(|| Child { layout, template, overrides: overrides.collect() })
    }
}

impl<'s> Child<'s> {
    /// Its content in a block.
    pub fn inner(&self, name: &[u8]) -> &'s [u8] {
        self.overrides.get(name).map_or(&[], |own| own.inner.of(&self.template.source))
    }

    /// The same without whitespace at the ends.
    pub fn content(&self, name: &[u8]) -> &'s [u8] {
        trim_blanks(self.inner(name))
    }

    /// It with these changes, and perhaps with another layout.
    pub fn with(&self, changes: &BTreeMap<&[u8], Change>, layout: Option<&str>) -> Vec<u8> {
        let template = self.template;
        let mut bytes = template.source.to_vec();
        let mut edits: Vec<(Span, &Change)> =
            changes.iter().filter_map(|(name, change)| Some((self.overrides.get(name)?.whole, change))).collect();
        let renamed = layout.map(|layout| Change::Become(layout.into()));
        edits.extend(template.parent().map(|parent| parent.target).zip(renamed.as_ref()));
        edits.sort_by_key(|(span, _)| std::cmp::Reverse(span.start));
        for (span, change) in edits {
            match change {
                Change::Become(text) => drop(bytes.splice(span.range(), text.iter().copied())),
                Change::Drop => {
                    let lines = template.whole_lines(span);
                    // With the blank line that set it apart.
                    let after = &template.source[lines.end as usize..];
                    let blank =
                        after.iter().position(|b| *b == b'\n').filter(|&end| after[..end].trim_ascii().is_empty());
                    let end = lines.end as usize + if lines == span { 0 } else { blank.map_or(0, |end| end + 1) };
                    bytes.drain(lines.start as usize..end.min(bytes.len()));
                    // At the end of the file it is the one before it.
                    let solid = bytes.trim_ascii_end().len();
                    if lines != span && solid <= lines.start as usize {
                        let line = memchr::memchr(b'\n', &bytes[solid..]).map_or(bytes.len(), |at| solid + at + 1);
                        bytes.truncate(line);
                    }
                }
            }
        }
        bytes
    }
}

/// A template that the site has, with other bytes.
pub fn changed_file(template: &Template, bytes: Vec<u8>, extends: Option<String>) -> ProposedFile {
    let (path, dialect) = (template.path.clone(), template.dialect.name.clone());
    ProposedFile { path, role: template.role, dialect, extends, bytes }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::propose::testing::{job, site};

    /// The text of a page whose block `a` changes, if it consists of overrides.
    fn changed(page: &str, change: Change) -> Option<String> {
        let base = "<b>{% block a %}{% endblock %}{% block z %}{% endblock %}</b>";
        let site = site([("base.html", base), ("p.html", page)]);
        let job = job(&site, "brace-percent");
        let id = site.find("p.html").expect("the page");
        let child = job.child_of_overrides(id, site.get(id))?;
        let bytes = child.with(&BTreeMap::from([(&b"a"[..], change)]), Some("other.html"));
        Some(String::from_utf8(bytes).expect("text"))
    }

    #[test]
    fn overrides_go_or_become_others() {
        let page = "{% extends 'base.html' %}\n\n{% block a %}x{% endblock %}\n\n{% block z %}y{% endblock %}\n";
        let without = "{% extends 'other.html' %}\n\n{% block z %}y{% endblock %}\n";
        assert_eq!(changed(page, Change::Drop).as_deref(), Some(without));
        let become_ = Change::Become(b"{% block q %}w{% endblock %}".to_vec());
        assert_eq!(
            changed(page, become_),
            Some(page.replace("base", "other").replace("{% block a %}x", "{% block q %}w"))
        );
    }

    #[test]
    fn no_blank_line_is_left_at_the_end() {
        let page = "{% extends 'base.html' %}\n\n{% block z %}y{% endblock %}\n\n{% block a %}x{% endblock %}\n";
        let without = "{% extends 'other.html' %}\n\n{% block z %}y{% endblock %}\n";
        assert_eq!(changed(page, Change::Drop).as_deref(), Some(without));
    }

    #[test]
    fn what_does_not_consist_of_overrides_is_no_child() {
        for page in [
            "<p>{% block a %}x{% endblock %}</p>",
            "{% extends 'base.html' %}lost{% block a %}x{% endblock %}",
            "{% if x %}{% extends 'base.html' %}{% endif %}{% block a %}x{% endblock %}",
        ] {
            assert_eq!(changed(page, Change::Drop), None, "{page}");
        }
    }
}
