//! A site in which one template has another text: what nothing else depends on is exchanged in place.

use std::sync::Arc;

use super::evidence::{Evidence, FileNames};
use super::kinds::{Shown, holds_markup};
use super::own_file;
use super::template::unreadable;
use super::{Known, Links, Parent, Site, SourceFile, Template, mounts, roots};
use crate::dialect::{Dialect, Kind, Part};
use crate::markup::{Construct, Constructs};
use crate::text::SourceId;

/// The dialects that a text may be read in, and the names of the site's files.
#[derive(Debug)]
pub struct Dialects<'d> {
    /// The dialects.
    pub all: &'d [Arc<Dialect>],
    /// The names of the files.
    pub names: FileNames<'d>,
}

/// A name that a template writes: what for, as what, and whether it is in a condition.
type Written<'t> = (Kind, Part, &'t [u8], bool, bool);

impl Site {
    /// Gives one of its templates another text, in place, and makes that known. `false` if other templates may be
    /// read otherwise then, or start their names elsewhere: the site is as it was, and is to be read again.
    pub fn take_text(&mut self, id: SourceId, bytes: &[u8], known: &mut Known, dialects: &Dialects<'_>) -> bool {
        let old = self.get(id);
        if old.source[..] == *bytes {
            return true;
        }
        // One that is read in the dialect of those that name it depends on them.
        if self.adopted.contains(&id) {
            return false;
        }
        let Some((shown, constructs)) = dialects.looked(old, bytes, &known.shown) else { return false };
        let new = Template::new(SourceFile::new(old.path.clone(), bytes), Arc::clone(&old.dialect), constructs);
        *known = Known { template: new.clone(), shown };
        let before = std::mem::replace(&mut self.templates[id.index()], new);
        let template = &mut self.templates[id.index()];
        (template.role, template.rendered) = (before.role, before.rendered);
        let template = self.get(id);
        let is_named_alike = written(&before).eq(written(template));
        let loads_alike = loads(&before) == loads(template);
        let has_parts = before.parts().chain(template.parts()).next().is_some();
        if is_named_alike {
            self.keep_links(id);
        } else if !self.take_links(id) {
            self.templates[id.index()] = before;
            return false;
        }
        if has_parts {
            self.find_parts();
        }
        if !loads_alike {
            self.own_file = own_file::find(self);
        }
        true
    }

    /// Finds out where the constructs are now that name the same files as before.
    fn keep_links(&mut self, id: SourceId) {
        let links = self.links_of(id);
        let own = &mut self.links[id.index()];
        own.targets = links.targets;
        // Else a rule gives it.
        if links.parent != Parent::None {
            own.parent = links.parent;
        }
    }

    /// Finds out whom a template names now, unless that could change how others are read.
    fn take_links(&mut self, id: SourceId) -> bool {
        let is_inferred = self.settings.roots.is_none();
        let has_inferred_mounts = self.settings.mounts.len() != self.mounts.len();
        if !self.settings.folders.is_empty() || has_inferred_mounts || is_inferred && roots::infer(self) != self.roots {
            return false;
        }
        let now = self.links_of(id);
        if self.lends_dialect(id, &self.links[id.index()]) || self.lends_dialect(id, &now) {
            return false;
        }
        let before = std::mem::replace(&mut self.links[id.index()], now);
        if is_inferred && self.mounts.is_empty() && !mounts::infer(self).is_empty() {
            self.links[id.index()] = before;
            return false;
        }
        self.assign_roles();
        self.find_pages();
        true
    }

    /// Whether a file that a template names is, or may be, read in the template's dialect for that reason.
    fn lends_dialect(&self, id: SourceId, links: &Links) -> bool {
        let dialect = &self.get(id).dialect;
        let may_adopt = |target: &Template| {
            target.dialect.forms.is_empty() && !Constructs::read(&target.source, dialect).items.is_empty()
        };
        let mut named = links.targets().filter_map(|(_, target)| target.as_ref().ok());
        named.any(|target| self.adopted.contains(target) || may_adopt(self.get(*target)))
    }
}

impl Dialects<'_> {
    /// What a template with another text shows of the dialects, and what is read of it in its own. `None` if it, or
    /// another file, may be read in another dialect then.
    fn looked(&self, template: &Template, bytes: &[u8], before: &Shown) -> Option<(Shown, Constructs)> {
        let is_text = template.unreadable.is_none() && unreadable(bytes).is_none();
        if !is_text || holds_markup(bytes) != holds_markup(&template.source) {
            return None;
        }
        let (mut shown, mut own) = (Shown::new(), None);
        for (at, dialect) in self.all.iter().enumerate().filter(|(_, dialect)| !dialect.forms.is_empty()) {
            let is_own = Arc::ptr_eq(dialect, &template.dialect);
            // One without a dialect may be read in any.
            let is_plain = template.dialect.forms.is_empty();
            if !is_own && !is_plain && !dialect.by_content && !dialect.fits(&template.path) {
                continue;
            }
            let constructs = Constructs::read(bytes, dialect);
            if !constructs.items.is_empty() {
                shown.push((at, Evidence::of(bytes, &constructs, &self.names)));
            }
            if is_own {
                own = Some(constructs);
            }
        }
        // Where files show structure it does not count how much they show beside it.
        let is_like = |((at, one), (other_at, other)): (&(usize, Evidence), &(usize, Evidence))| {
            at == other_at && (one == other || before.len() == 1 && one.structure > 0 && other.structure > 0)
        };
        let is_same = shown.len() == before.len() && shown.iter().zip(before).all(is_like);
        let own = own.unwrap_or_else(|| Constructs::read(bytes, &template.dialect));
        is_same.then_some((shown, own))
    }
}

/// The names that a template writes, and its parents.
fn written(template: &Template) -> impl Iterator<Item = Written<'_>> {
    let within = template.within_controls();
    let items = template.constructs.items.iter().enumerate();
    items.filter(|(_, item)| item.kind.names_a_file() || item.kind == Kind::Parent).map(move |(at, item)| {
        let is_within = within.get(at).copied().unwrap_or_default();
        (item.kind, item.part, item.target.of(&template.source), item.dynamic, is_within)
    })
}

/// The tags of a template that may speak for its own file, each with its place and its word; and how many tags are at
/// its head.
fn loads(template: &Template) -> (Vec<(usize, Part, String)>, usize) {
    let may_load = |item: &Construct| item.kind == Kind::Other || item.form(&template.dialect).own_file;
    let items = template.constructs.items.iter().enumerate().filter(|(_, item)| may_load(item));
    let word = |item: &Construct| item.first_word(&template.source, &template.dialect);
    (items.map(|(at, item)| (at, item.part, word(item))).collect(), own_file::head(template))
}
