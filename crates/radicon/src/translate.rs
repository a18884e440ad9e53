//! Templates of one dialect written in another.

use std::sync::Arc;

use serde::Serialize;

use crate::dialect::{Dialect, Form, Kind, Newline, Part, Values};
use crate::markup::{ALONE, Construct, Constructs};
use crate::resolve::Resolver;
use crate::site::{Parent, Problem, Settings, Site, SourceFile};
use crate::text::SourceId;

/// Templates that were written in another dialect.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Translation {
    /// The dialect they are written in now.
    pub dialect: String,
    /// For each template its path and the path of the translated one.
    pub files: Vec<(String, String)>,
    /// Places that a person must look at, with what is to be looked at there.
    pub places: Vec<Problem>,
    /// How many pages flatten to the same, outputs and conditions compared by their expressions.
    pub same: usize,
    /// The pages that do not.
    pub different: Vec<String>,
    /// The pages that cannot be put together, here or there: their layout is not in the site, or
    /// chosen when they are rendered.
    pub open: Vec<String>,
    /// The translated files.
    #[serde(skip)]
    #[cfg_attr(feature = "schema", schemars(skip))]
    pub sources: Vec<SourceFile>,
}

/// Why templates cannot be written in a dialect.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum TranslateError {
    /// It writes its constructs as attributes, which need elements to stand in.
    #[error("{0} writes its constructs as attributes of elements; nothing can be translated to it")]
    Attributes(String),
    /// It has no constructs.
    #[error("{0} has no constructs")]
    Empty(String),
}

/// Writes templates in another dialect. Expressions are kept as they stand; what they and other
/// tags mean there must be looked at, and each such place is listed.
///
/// # Errors
/// If nothing can be written in the dialect.
pub fn translate(site: &Site, templates: &[SourceId], to: &Arc<Dialect>) -> Result<Translation, TranslateError> {
    if to.forms.is_empty() {
        return Err(TranslateError::Empty(to.name.clone()));
    }
    if to
        .forms
        .iter()
        .all(|form| form.is_attribute() || !matches!(form.kind, Kind::Parent | Kind::Block | Kind::Include))
    {
        return Err(TranslateError::Attributes(to.name.clone()));
    }
    let mut translation = Translation {
        dialect: to.name.clone(),
        files: Vec::new(),
        places: Vec::new(),
        same: 0,
        different: Vec::new(),
        open: Vec::new(),
        sources: Vec::new(),
    };
    for &id in templates {
        let mut writer = Writer { site, id, to, out: Vec::new(), places: Vec::new() };
        writer.template();
        let path = new_path(&site.get(id).path, to);
        translation.files.push((site.get(id).path.clone(), path.clone()));
        translation.sources.push(SourceFile { path, bytes: writer.out });
        translation.places.extend(writer.places);
    }
    compare(site, to, &mut translation);
    Ok(translation)
}

/// The path of a translated file: the same, with a suffix that the dialect is used for.
fn new_path(path: &str, to: &Dialect) -> String {
    if to.fits(path) {
        return path.to_owned();
    }
    let name = path.rsplit('/').next().unwrap_or(path);
    let stem = &path[..path.len() - name.len() + name.find('.').unwrap_or(name.len())];
    let suffix = to
        .files
        .patterns()
        .iter()
        .find_map(|pattern| pattern.strip_prefix("**/*"))
        .filter(|suffix| !suffix.contains(['*', '{']));
    format!("{stem}{}", suffix.unwrap_or(".html"))
}

struct Writer<'a> {
    site: &'a Site,
    id: SourceId,
    to: &'a Arc<Dialect>,
    out: Vec<u8>,
    places: Vec<Problem>,
}

impl Writer<'_> {
    fn source(&self) -> &[u8] {
        &self.site.get(self.id).source
    }

    fn look(&mut self, offset: u32, message: impl Into<String>) {
        self.places.push(self.site.get(self.id).problem(offset, message));
    }

    fn template(&mut self) {
        let site = self.site;
        let template = site.get(self.id);
        if let Parent::Found { id, rule: Some(rule) } = &site.links(self.id).parent {
            let target = self.name_of(*id);
            self.tag(Kind::Parent, &Values { target: &target, ..Values::default() }, 0);
            self.look(0, format!("its layout was given {rule}; now the file names it"));
        }
        if !site.links(self.id).before.is_empty() || !site.links(self.id).after.is_empty() {
            self.look(0, "files are put around it by a rule in radicon.toml, which must hold for its new path too");
        }
        let mut at = 0;
        for (index, item) in (0..).zip(&template.constructs.items) {
            // What is decided when the page is rendered keeps its line.
            let kept = item.dynamic && item.marks.iter().all(|mark| mark.is_empty());
            let place = if kept { item.span } else { item.reach };
            let (start, end) = (place.start as usize, place.end as usize);
            self.out.extend_from_slice(&template.source[at.min(start)..start]);
            self.construct(index, item);
            at = end.max(at);
            // Where this dialect takes a line end that the other one kept, one more is needed.
            let eats = matches!(self.to.rules.newline, Newline::Eaten) && !item.kind.prints();
            if eats && template.source[at..].first() == Some(&b'\n') {
                self.out.push(b'\n');
            }
        }
        self.out.extend_from_slice(&template.source[at.min(template.source.len())..]);
    }

    /// Writes the first form of a kind; the tag as it was if there is none.
    fn tag(&mut self, kind: Kind, values: &Values<'_>, offset: u32) -> bool {
        let fits = |form: &&Form| {
            form.kind == kind
                && !form.is_attribute()
                && !(form.kind == Kind::Include && needs_arguments(form) && values.expr.is_empty())
        };
        let Some(form) = self.to.forms.iter().find(fits) else {
            self.look(offset, format!("{} has no {}; kept as it was", self.to.name, kind.word()));
            return false;
        };
        let text = form.open.write(values);
        self.out.extend(text.bytes());
        true
    }

    fn construct(&mut self, index: u32, item: &Construct) {
        let source = self.source().to_vec();
        let text = |span: crate::text::Span| span.text(&source).into_owned();
        let (name, expr, target) = (text(item.name), text(item.expr), text(item.target));
        let offset = item.span.start;
        let values = Values { name: &name, expr: &expr, ..Values::default() };
        if item.part == Part::Attribute && item.kind != Kind::Parent {
            return;
        }
        let done = match (item.kind, item.part) {
            (Kind::Block | Kind::Slot | Kind::Fill, _) => self.region(item, &name),
            (Kind::Parent | Kind::Include, Part::Close) => true,
            (Kind::Parent | Kind::Include, _) => self.reference(index, item, &target, &expr),
            (Kind::Inherited | Kind::Body | Kind::Again, Part::Single | Part::Open) => {
                self.tag(item.kind, &values, offset)
            }
            (Kind::Inherited | Kind::Body, _) => true,
            (Kind::Output, _) => {
                self.tag(Kind::Output, &Values { expr: if expr.is_empty() { &name } else { &expr }, ..values }, offset)
            }
            (Kind::Comment, _) => {
                // A comment pair has no text of its own.
                let inner = if expr.is_empty() { "…" } else { expr.as_str() };
                self.tag(Kind::Comment, &Values { expr: inner, ..values }, offset)
            }
            (Kind::Set, Part::Single) => {
                self.look(offset, format!("binds `{name}`; does the expression mean the same?"));
                let value = text(item.value);
                let quoted = format!("\"{value}\"");
                let expr = if expr.is_empty() { &quoted } else { &expr };
                self.tag(
                    Kind::Set,
                    &Values { name: &name, expr, value: value.trim_matches('"'), ..Values::default() },
                    offset,
                )
            }
            (Kind::Control, _) => self.control(index, item, &expr),
            (Kind::Verbatim, part) => self.verbatim(part),
            (Kind::Other, _) if self.to.form(Kind::Other).is_some() => {
                self.look(offset, "is there such a tag?");
                self.tag(Kind::Other, &values, offset)
            }
            _ => {
                self.look(offset, "kept as it was");
                false
            }
        };
        if !done {
            self.out.extend_from_slice(item.span.of(&source));
        }
    }

    /// Whether a region stands for itself here, or gives content to one above.
    fn is_outside(&self, item: &Construct, name: &str) -> bool {
        match item.kind {
            Kind::Slot => true,
            Kind::Fill => false,
            _ => {
                let chain = Resolver::new(self.site).chain(self.id);
                !chain.levels[1..].iter().any(|level| {
                    let above = self.site.get(*level);
                    above.definition(name.as_bytes()).is_some()
                        || above.regions().any(|(_, region)| region.name.of(&above.source) == name.as_bytes())
                })
            }
        }
    }

    fn region(&mut self, item: &Construct, name: &str) -> bool {
        let template = self.site.get(self.id);
        let opener = match item.part {
            Part::Close if item.partner != ALONE => template.constructs.items[item.partner as usize],
            Part::Open | Part::Single => *item,
            _ => return true,
        };
        let name = if name.is_empty() { opener.name.text(&template.source).into_owned() } else { name.to_owned() };
        let outside = self.is_outside(&opener, &name);
        let Some(form) = self.to.block_form_or_balanced(outside) else {
            self.look(item.span.start, format!("{} has no blocks; kept as it was", self.to.name));
            return false;
        };
        let values = Values { name: &name, ..Values::default() };
        let close = form.close.first().map_or("}".to_owned(), |close| close.write(&values));
        let open = form.open.write(&values);
        match item.part {
            Part::Close => self.out.extend(close.bytes()),
            Part::Open => self.out.extend(open.bytes()),
            _ => {
                self.out.extend(open.bytes());
                let value = item.value.text(&template.source).into_owned();
                if item.dynamic {
                    self.tag(Kind::Output, &Values { expr: &value, ..Values::default() }, item.span.start);
                } else {
                    self.out.extend(value.bytes());
                }
                self.out.extend(close.bytes());
            }
        }
        true
    }

    /// How the other dialect writes the name of a file.
    fn name_of(&self, id: SourceId) -> String {
        let path = new_path(&self.site.get(id).path, self.to);
        self.site.name_for(&path, self.to, Kind::Include)
    }

    fn reference(&mut self, index: u32, item: &Construct, written: &str, arguments: &str) -> bool {
        let site = self.site;
        let found = match site.links(self.id).target(index) {
            Some(Ok(id)) => Some(*id),
            _ => None,
        };
        let target = found.map_or(written.to_owned(), |id| self.name_of(id));
        if item.dynamic || written.is_empty() {
            self.look(item.span.start, "names a file by an expression, or a part");
        } else if found.is_none() {
            self.look(item.span.start, format!("`{written}` is no file here"));
        }
        if !arguments.is_empty() {
            self.look(item.span.start, format!("arguments are kept as they were: {arguments}"));
        }
        if item.dynamic {
            let Some(form) = self.to.form(item.kind).filter(|form| !form.is_attribute()) else { return false };
            let text = form.open.write(&Values { target: "?", expr: arguments, ..Values::default() });
            self.out.extend(text.replacen("\"?\"", written, 1).replacen("'?'", written, 1).bytes());
            return true;
        }
        self.tag(item.kind, &Values { target: &target, expr: arguments, ..Values::default() }, item.span.start)
    }

    /// A condition or a loop, by the place of its form among those of its dialect.
    fn control(&mut self, index: u32, item: &Construct, expr: &str) -> bool {
        let own = Arc::clone(&self.site.get(self.id).dialect);
        let items = &self.site.get(self.id).constructs.items;
        let at = match item.part {
            Part::Close | Part::Branch if item.partner != ALONE => item.partner,
            _ => index,
        };
        let opener = items[at as usize];
        let divided = items.iter().any(|other| other.part == Part::Branch && other.partner == at);
        let controls = |dialect: &Dialect| {
            dialect
                .forms
                .iter()
                .enumerate()
                .filter(|(_, form)| form.kind == Kind::Control)
                .map(|(at, _)| at)
                .collect::<Vec<_>>()
        };
        let (from, to) = (controls(&own), controls(self.to));
        let place = from.iter().position(|at| *at == opener.form as usize).unwrap_or(0);
        // One that may be divided needs a form that may be, too.
        let fits = |at: &&usize| !divided || !self.to.forms[**at].branch.is_empty();
        let Some(&at) = to.get(place).filter(fits).or_else(|| to.iter().find(fits)).or_else(|| to.first()) else {
            self.look(item.span.start, format!("{} has no conditions; kept as it was", self.to.name));
            return false;
        };
        let to = Arc::clone(self.to);
        let form = &to.forms[at];
        let values = Values { expr, ..Values::default() };
        let text = match item.part {
            Part::Close => form.close.first().map_or("}".to_owned(), |close| close.write(&values)),
            Part::Branch => {
                let conditional =
                    |pattern: &&crate::dialect::Pattern| pattern.example().contains("<expr>") != expr.is_empty();
                let Some(branch) = form.branch.iter().find(conditional) else {
                    self.look(item.span.start, format!("{} has no such branch; kept as it was", self.to.name));
                    return false;
                };
                branch.write(&values)
            }
            _ => {
                self.look(item.span.start, "is it the right condition or loop, and does the expression mean the same?");
                form.open.write(&values)
            }
        };
        self.out.extend(text.bytes());
        true
    }

    fn verbatim(&mut self, part: Part) -> bool {
        let Some(form) = self.to.form(Kind::Verbatim) else { return false };
        let text = match part {
            Part::Close => form.close.first().map(|close| close.write(&Values::default())),
            _ => Some(form.open.write(&Values::default())),
        };
        self.out.extend(text.unwrap_or_default().bytes());
        true
    }
}

/// Whether an include form always has arguments.
fn needs_arguments(form: &Form) -> bool {
    let example = form.open.example();
    example.contains("<args>") && !example.contains("[<args>]")
}

/// Flattens both sites and counts the pages that say the same.
fn compare(site: &Site, to: &Arc<Dialect>, translation: &mut Translation) {
    let roots = site.roots.iter().map(|root| root.path.clone()).collect();
    let settings = Settings { roots: Some(roots), ..Settings::default() };
    let new = Site::read(translation.sources.clone(), std::slice::from_ref(to), &settings);
    let (before, after) = (Resolver::new(site), Resolver::new(&new));
    for (old_path, new_path) in &translation.files {
        let pair = site.find(old_path).filter(|id| site.get(*id).rendered).zip(new.find(new_path));
        let Some((old_id, new_id)) = pair else { continue };
        let open = |id: &SourceId| matches!(site.links(*id).parent, Parent::Missing(_) | Parent::Dynamic);
        if before.chain(old_id).levels.iter().any(open) {
            translation.open.push(old_path.clone());
            continue;
        }
        let flat = before.flatten(old_id).ok().zip(after.flatten(new_id).ok());
        let same = flat.is_some_and(|(old, new)| {
            neutral(&old.bytes, &site.get(old_id).dialect, to) == neutral(&new.bytes, to, to)
        });
        if same {
            translation.same += 1;
        } else {
            translation.different.push(old_path.clone());
        }
    }
}

/// A flattened page with its constructs by what they say, not by how; what the dialect `to`
/// cannot say stands there as it was.
fn neutral(flat: &[u8], dialect: &Dialect, to: &Dialect) -> Vec<u8> {
    let mut out = Vec::new();
    let mut at = 0;
    for item in Constructs::read(flat, dialect).items {
        let (start, end) = (item.span.start as usize, item.span.end as usize);
        out.extend_from_slice(&flat[at.min(start)..start]);
        at = end.max(at);
        if to.form(item.kind).is_none() && item.kind != Kind::Comment {
            out.extend_from_slice(item.span.of(flat));
            continue;
        }
        if matches!(item.kind, Kind::Comment) || item.span.is_empty() {
            continue;
        }
        let said = [item.target, item.expr, item.name].into_iter().find(|span| !span.is_empty()).unwrap_or_default();
        let part = if item.part == Part::Single { Part::Open } else { item.part };
        let close = item.part == Part::Close;
        out.extend_from_slice(
            format!("\u{1}{} {part:?} {}\u{1}", item.kind.word(), if close { "".into() } else { said.text(flat) })
                .as_bytes(),
        );
    }
    out.extend_from_slice(&flat[at.min(flat.len())..]);
    out
}
