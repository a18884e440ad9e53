//! Templates of one dialect written in another.

mod urls;

use std::sync::Arc;

use rustc_hash::FxHashSet;
use serde::Serialize;

use crate::dialect::{self, Dialect, Form, Kind, Newline, Part, Value, Values};
use crate::markup::{Construct, ConstructId, Constructs, Document};
use crate::prove::Normal;
use crate::resolve::{Arguments, Binding, Resolver, bound_by};
use crate::site::{Parent, Problem, Settings, Site, SourceFile, Template, suffix_of};
use crate::text::{SourceId, Span};

/// Templates that were written in another dialect.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Translation {
    /// The dialect they are written in now.
    pub dialect: String,
    /// For each template its path and the path of the translated one.
    pub files: Vec<(String, String)>,
    /// Templates that were left out, with the reasons.
    pub left_out: Vec<LeftOut>,
    /// Places that a person must look at, with what is to be looked at there.
    pub places: Vec<Problem>,
    /// How many pages flatten to the same but for whitespace that does not show, outputs and conditions compared
    /// by their expressions.
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

/// A template that is not translated.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct LeftOut {
    /// Its path.
    pub file: String,
    /// Constructs that the dialect cannot express, and files that are named and left out, each with its place.
    pub reasons: Vec<Problem>,
}

/// The treatment of a template with something that the other dialect cannot express.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Unsayable {
    /// It is left out, and all that name it.
    #[default]
    LeftOut,
    /// It is written, with such tags kept as they were, in the old notation.
    Kept,
}

/// Why templates cannot be written in a dialect.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum TranslateError {
    /// It writes its constructs as attributes, which need elements around them.
    #[error("{0} writes its constructs as attributes of elements; nothing can be translated to it")]
    Attributes(String),
    /// It has no constructs.
    #[error("{0} has no constructs")]
    Empty(String),
}

/// Writes templates in another dialect. Expressions are kept as they are; what they and other
/// tags mean there must be looked at, and each such place is listed.
///
/// # Errors
/// If nothing can be written in the dialect.
pub fn translate(
    site: &Site,
    templates: &[SourceId],
    to: &Arc<Dialect>,
    unsayable: Unsayable,
) -> Result<Translation, TranslateError> {
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
        left_out: Vec::new(),
        places: Vec::new(),
        same: 0,
        different: Vec::new(),
        open: Vec::new(),
        sources: Vec::new(),
    };
    let readdressed = urls::readdressed(site, to);
    let source = readdressed.as_ref().unwrap_or(site);
    let loops = loops(source);
    // What is written in the dialect already stays as it is, unless it may name a file that gets another path.
    let moves = templates.iter().any(|&id| new_path(&site.get(id).path, to) != site.get(id).path);
    let stays = |id: &SourceId| !moves && site.get(*id).dialect.name == to.name;
    let (own, others): (Vec<SourceId>, Vec<SourceId>) = templates.iter().copied().partition(stays);
    for template in own.into_iter().map(|id| site.get(id)) {
        translation.files.push((template.path.clone(), template.path.clone()));
        translation.sources.push(SourceFile::new(template.path.clone(), template.source.to_vec()));
    }
    let mut written: Vec<Writer> = others.iter().map(|&id| Writer::write(source, id, to, &loops)).collect();
    match unsayable {
        Unsayable::LeftOut => translation.left_out = left_out(site, &mut written),
        Unsayable::Kept => written.iter_mut().for_each(|writer| writer.places.append(&mut writer.unsayable)),
    }
    for mut writer in written {
        let old = site.get(writer.id).path.clone();
        let path = new_path(&old, to);
        writer.places.sort();
        translation.files.push((old, path.clone()));
        translation.sources.push(SourceFile { path, bytes: writer.out });
        translation.places.extend(writer.places);
    }
    compare(site, to, &mut translation);
    Ok(translation)
}

/// Takes out those that hold what the dialect cannot say, and those that name a file that is taken out.
fn left_out(site: &Site, written: &mut Vec<Writer<'_>>) -> Vec<LeftOut> {
    let mut gone: FxHashSet<SourceId> = FxHashSet::default();
    let mut left = Vec::new();
    loop {
        for writer in written.iter_mut().filter(|writer| writer.unsayable.is_empty()) {
            writer.unsayable = names_one_of(site, writer.id, &gone);
        }
        let taken = written.extract_if(.., |writer| !writer.unsayable.is_empty());
        let taken: Vec<(SourceId, Vec<Problem>)> = taken.map(|writer| (writer.id, writer.unsayable)).collect();
        if taken.is_empty() {
            break;
        }
        gone.extend(taken.iter().map(|(id, _)| *id));
        left.extend(taken.into_iter().map(|(id, reasons)| LeftOut { file: site.get(id).path.clone(), reasons }));
    }
    left.sort_by(|a, b| a.file.cmp(&b.file));
    left
}

/// The places where a template names files that are left out.
fn names_one_of(site: &Site, id: SourceId, gone: &FxHashSet<SourceId>) -> Vec<Problem> {
    let template = site.get(id);
    let links = site.links(id);
    let named = links.targets().filter_map(|(at, target)| {
        let other = target.as_ref().ok().filter(|other| gone.contains(other))?;
        Some((*other, template.constructs.items[at].span.start))
    });
    let ruled = match &links.parent {
        Parent::Found { id, rule: Some(_) } if gone.contains(id) => Some((*id, 0)),
        _ => None,
    };
    let reason = |(other, at): (SourceId, u32)| template.problem(at, format!("{} is left out", site.get(other).path));
    named.chain(ruled).map(reason).collect()
}

/// The path of a translated file: the same, with a suffix that the dialect is used for.
fn new_path(path: &str, to: &Dialect) -> String {
    if to.fits(path) {
        return path.to_owned();
    }
    let name = path.rsplit('/').next().unwrap_or(path);
    let stem = &path[..path.len() - name.len() + name.find('.').unwrap_or(name.len())];
    format!("{stem}{}", suffix_of(to))
}

/// The control forms, by the names of their dialects, whose tags bind names somewhere in a site.
type Loops<'a> = FxHashSet<(&'a str, u16)>;

fn loops(site: &Site) -> Loops<'_> {
    let of = |template: &'_ Template| {
        let items = template.constructs.items.iter();
        let binds = items.filter(|item| item.kind == Kind::Control && !bound_by(template, item).is_empty());
        binds.map(|item| item.form).collect::<FxHashSet<u16>>()
    };
    let forms = |template| of(template).into_iter().map(|form| (template.dialect.name.as_str(), form));
    site.templates.iter().flat_map(forms).collect()
}

struct Writer<'a> {
    site: &'a Site,
    id: SourceId,
    to: &'a Arc<Dialect>,
    loops: &'a Loops<'a>,
    out: Vec<u8>,
    /// Places that a person must look at.
    places: Vec<Problem>,
    /// Constructs that the dialect cannot express.
    unsayable: Vec<Problem>,
}

impl<'a> Writer<'a> {
    fn write(site: &'a Site, id: SourceId, to: &'a Arc<Dialect>, loops: &'a Loops<'a>) -> Self {
        let mut writer = Self { site, id, to, loops, out: Vec::new(), places: Vec::new(), unsayable: Vec::new() };
        writer.template();
        writer
    }

    fn source(&self) -> &[u8] {
        &self.site.get(self.id).source
    }

    fn look(&mut self, offset: u32, message: impl Into<String>) {
        self.places.push(self.site.get(self.id).problem(offset, message));
    }

    /// Notes that the dialect has no such thing; so the tag is kept as it was.
    fn cannot(&mut self, offset: u32, what: &str) -> bool {
        let message = format!("{} has no {what}", self.to.name);
        self.unsayable.push(self.site.get(self.id).problem(offset, message));
        false
    }

    fn template(&mut self) {
        let site = self.site;
        let template = site.get(self.id);
        if template.dialect.name == self.to.name {
            self.out.extend_from_slice(&template.source);
            return;
        }
        if let Parent::Found { id, rule: Some(rule) } = &site.links(self.id).parent {
            let target = self.name_of(*id);
            self.tag(Kind::Parent, &Values { target: &target, ..Values::default() }, 0);
            self.look(0, format!("its layout was set {rule}; now the file names it"));
        }
        if !site.links(self.id).before.is_empty() || !site.links(self.id).after.is_empty() {
            self.look(0, "a rule in radicon.toml puts files around it; it must hold for the new path too");
        }
        let mut at = 0;
        for (index, item) in ConstructId::each(&template.constructs.items) {
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
                && (form.kind != Kind::Include || values.expr.is_empty() || takes_arguments(form))
        };
        let Some(form) = self.to.forms.iter().find(fits) else {
            let arguments = kind == Kind::Include && self.to.form(kind).is_some();
            return self.cannot(offset, if arguments { "include with arguments" } else { kind.word() });
        };
        let text = form.open.write(values);
        self.out.extend(text.bytes());
        true
    }

    fn construct(&mut self, index: ConstructId, item: &Construct) {
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
                self.look(offset, format!("sets `{name}`; does the expression mean the same?"));
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
            (Kind::Verbatim, part) => self.verbatim(part, offset),
            (Kind::Other, _) => {
                self.look(offset, "does this tag exist there?");
                // A word that its form has belongs to what it says.
                let said = format!("{}{expr}", own_word(item.form(&self.site.get(self.id).dialect)));
                self.other(&said, offset)
            }
            (_, Part::Close | Part::Branch) => false,
            (Kind::Set, _) => self.cannot(offset, "pair that binds a name"),
            _ => self.cannot(offset, &format!("`{}`", item.kind.word())),
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
                    above.definition(name.as_bytes()).is_some() || above.regions_named(name.as_bytes()).next().is_some()
                })
            }
        }
    }

    fn region(&mut self, item: &Construct, name: &str) -> bool {
        let template = self.site.get(self.id);
        let opener = match item.part {
            Part::Close if item.partner.is_some() => *template.constructs.partner(item).unwrap_or(item),
            Part::Open | Part::Single => *item,
            _ => return true,
        };
        let name = if name.is_empty() { opener.name.text(&template.source).into_owned() } else { name.to_owned() };
        let outside = self.is_outside(&opener, &name);
        let Some(form) = self.to.block_form_or_balanced(outside) else {
            return item.part != Part::Close && self.cannot(item.span.start, "blocks");
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

    /// A tag that no form describes, by what it says.
    fn other(&mut self, said: &str, offset: u32) -> bool {
        let forms = self.to.forms.iter().filter(|form| form.kind == Kind::Other && !form.is_attribute());
        let fits = forms.filter_map(|form| Some((form, said.strip_prefix(own_word(form))?)));
        let Some((form, said)) = fits.max_by_key(|(form, _)| own_word(form).len()) else {
            return self.cannot(offset, "other tags");
        };
        let text = form.open.write(&Values { expr: said, ..Values::default() });
        self.out.extend(text.bytes());
        true
    }

    /// How the other dialect writes the name of a file.
    fn name_of(&self, id: SourceId) -> String {
        let path = new_path(&self.site.get(id).path, self.to);
        self.site.name_for(&path, self.to, Kind::Include)
    }

    fn reference(&mut self, index: ConstructId, item: &Construct, written: &str, arguments: &str) -> bool {
        let site = self.site;
        let found = match site.links(self.id).target(index) {
            Some(Ok(id)) => Some(*id),
            _ => None,
        };
        let target = found.map_or(written.to_owned(), |id| self.name_of(id));
        if item.dynamic || written.is_empty() {
            self.look(item.span.start, "names a file by an expression, or a part");
        } else if found.is_none() {
            self.look(item.span.start, format!("`{written}` is not a file of the site"));
        }
        let arguments = match self.arguments(item) {
            Some(arguments) => arguments,
            None => {
                self.cannot(item.span.start, &format!("known way to write `{arguments}`"));
                arguments.to_owned()
            }
        };
        let arguments = arguments.as_str();
        if item.dynamic {
            let Some(form) = self.to.form(item.kind).filter(|form| !form.is_attribute()) else { return false };
            let text = form.open.write(&Values { target: "?", expr: arguments, ..Values::default() });
            self.out.extend(text.replacen("\"?\"", written, 1).replacen("'?'", written, 1).bytes());
            return true;
        }
        self.tag(item.kind, &Values { target: &target, expr: arguments, ..Values::default() }, item.span.start)
    }

    /// The arguments of an include as the other dialect writes them; `None` if that is not known.
    fn arguments(&self, item: &Construct) -> Option<String> {
        let (source, own) = (self.source(), &self.site.get(self.id).dialect);
        let read = Arguments::read(source, item.expr, &own.rules);
        if read.opaque {
            return None;
        }
        let text = |span: Span| span.text(source);
        let texts: Vec<_> = read.bindings.iter().map(|binding| (text(binding.name), text(binding.value))).collect();
        let rules = &self.to.rules;
        let mut words = Vec::new();
        if !texts.is_empty() {
            let value = |binding: &Binding, value| match binding.is_quoted(source) {
                true => Value::Text(value),
                false => Value::Expression(value),
            };
            let bindings = read.bindings.iter().zip(&texts);
            let bindings: Vec<(&str, Value)> =
                bindings.map(|(binding, (name, text))| (name.as_ref(), value(binding, text.as_ref()))).collect();
            words.push(rules.write_arguments(&bindings)?);
        }
        for (_, known) in [(read.only, &rules.only), (read.optional, &rules.optional)].iter().filter(|(said, _)| *said)
        {
            words.push(known.first()?.clone());
        }
        Some(words.join(" "))
    }

    /// A condition or a loop.
    fn control(&mut self, index: ConstructId, item: &Construct, expr: &str) -> bool {
        let items = &self.site.get(self.id).constructs.items;
        let at = item.partner.filter(|_| matches!(item.part, Part::Close | Part::Branch)).unwrap_or(index);
        let Some(form) = self.counterpart(items[at].form) else {
            return item.part == Part::Open && self.cannot(item.span.start, "such condition or loop");
        };
        let values = Values { expr, ..Values::default() };
        let text = match item.part {
            Part::Close => form.close.first().map_or("}".to_owned(), |close| close.write(&values)),
            Part::Branch => {
                let conditional =
                    |pattern: &&crate::dialect::Pattern| pattern.example().contains("<expr>") != expr.is_empty();
                let Some(branch) = form.branch.iter().find(conditional) else {
                    return self.cannot(item.span.start, "such branch");
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

    /// The form for a condition or a loop: one with the same word; else the condition of a dialect for that of
    /// the other, and the loop for the loop.
    fn counterpart(&self, form: u16) -> Option<&'a Form> {
        let own = &self.site.get(self.id).dialect;
        let controls =
            |dialect: &'a Dialect| dialect.forms.iter().filter(|form| form.kind == Kind::Control).collect::<Vec<_>>();
        let here = &own.forms[form as usize];
        let to = controls(self.to);
        if let Some(same) = to.iter().find(|other| word(other) == word(here)) {
            return Some(same);
        }
        // A condition has branches with conditions of their own, if any form has; it comes first.
        let condition = to.iter().position(|form| form.branch.iter().any(|branch| branch.example().contains("<expr>")));
        let condition = condition.unwrap_or(0);
        let binds = |form: u16| self.loops.contains(&(own.name.as_str(), form));
        let is_loop = binds(form);
        let first = (0..).zip(&own.forms).find(|(at, other)| other.kind == Kind::Control && binds(*at) == is_loop);
        if first.is_none_or(|(at, _)| at != form) {
            return None;
        }
        let found = match is_loop {
            false => to.get(condition),
            true => to.iter().enumerate().find(|(at, _)| *at != condition).map(|(_, form)| form),
        };
        found.copied()
    }

    fn verbatim(&mut self, part: Part, offset: u32) -> bool {
        let Some(form) = self.to.form(Kind::Verbatim) else {
            return part != Part::Close && self.cannot(offset, "text without tags");
        };
        let text = match part {
            Part::Close => form.close.first().map(|close| close.write(&Values::default())),
            _ => Some(form.open.write(&Values::default())),
        };
        self.out.extend(text.unwrap_or_default().bytes());
        true
    }
}

/// The first word of a form.
fn word(form: &Form) -> &str {
    let text = form.open.example();
    let start = text.find(|c: char| c.is_alphabetic()).unwrap_or(text.len());
    let rest = &text[start..];
    &rest[..rest.find(|c: char| !c.is_alphanumeric()).unwrap_or(rest.len())]
}

/// The words of a form before its expression, such as `load `.
fn own_word(form: &Form) -> &str {
    let example = form.open.example();
    let word = example.find(char::is_alphabetic).zip(example.find("<expr>"));
    word.and_then(|(start, end)| example.get(start..end)).unwrap_or("")
}

/// Whether an include form may have arguments.
fn takes_arguments(form: &Form) -> bool {
    form.open.example().contains("<args>")
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
            shown(&neutral(&old.bytes, &site.get(old_id).dialect, to)) == shown(&neutral(&new.bytes, to, to))
        });
        if same {
            translation.same += 1;
        } else {
            translation.different.push(old_path.clone());
        }
    }
}

/// A page but for whitespace that does not show.
fn shown(page: &[u8]) -> Vec<u8> {
    Normal::of(page, &Document::read(page, &dialect::plain())).bytes
}

/// A flattened page with its constructs by what they say, not by how; what the dialect `to`
/// cannot say is there as it was.
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
