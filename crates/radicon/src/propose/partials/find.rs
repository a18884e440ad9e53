//! Partials: for what is repeated in the proposed files, with parameters
//! where copies differ a little, and for regions of layouts.

use std::cell::OnceCell;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use rustc_hash::{FxHashMap, FxHashSet};

use crate::dialect::{Kind, Newline, Value, Values};
use crate::markup::elements::element;
use crate::markup::{Constructs, Document, NodeId, NodeKind};
use crate::propose::naming;
use crate::propose::pages::page::Page;
use crate::propose::partials::copies::{LineTable, Pattern, Segment, Stretch};
use crate::propose::partials::movable::may_move;
use crate::propose::partials::passing::Passing;
use crate::propose::partials::worth::Reason;
use crate::propose::skeleton::costs::Prices;
use crate::propose::skeleton::hole::{Context, DefaultContent, Hole, Piece, Variant, holes};
use crate::propose::skeleton::unify::Unifier;
use crate::propose::{Job, ProposedFile, ProposedPartial, apply};
use crate::prove::Strength;
use crate::repeats::{RepeatCopy, RepeatGroup, RepeatKind, RepeatOptions, repeats};
use crate::site::own_file::Needs;
use crate::site::{Home, Partials, Role, Site, stem};
use crate::text::{Span, count_lines, is_blank};

/// So many copies make a partial. Where size is all, two do.
const LEAST_COPIES: usize = 3;

/// At the usual price of a block a partial saves a 20,000th of all bytes at least, so
/// that a large site does not get a thousand of them.
const SHARE_OF_ALL: u64 = 2_000_000;

/// Copies with parameters are as alike at least, 0 to 1; a text in which a word differs
/// counts as different.
const ALIKE: f64 = 0.4;

/// The cost of a parameter where it is passed, and where it is printed, in bytes.
const PARAMETER: u64 = 12;

/// A partial saves a thousandth of the site, with one copy of each file counted, unless it is a region of the page.
const SHARE_WORTH: usize = 1000;

/// With so many others of its name a partial is one of a kind.
const OF_A_KIND: usize = 2;

/// The most parameters of a partial, and where size is all.
const MOST_PARAMETERS: usize = 2;
const MOST_PARAMETERS_SMALL: usize = 4;

/// Regions of layouts become partials, where they are asked for, if they have so many bytes.
const LEAST_REGION: usize = 200;

/// What is within a line and becomes a partial has so many bytes at least.
const LEAST_WITHIN: usize = 400;

/// Files with some of their markup in partials.
pub struct Extracted {
    pub written: Vec<ProposedFile>,
    pub partials: Vec<ProposedPartial>,
    /// How many repeats are not worth a file of their own.
    pub smaller: usize,
}

/// The first byte, the one after the last, and what to write there.
type Edit = (usize, usize, String);

/// A partial with its uses, and the arguments of each.
pub struct Found {
    pub content: Vec<u8>,
    pub parameters: usize,
    pub uses: Vec<(Stretch, String)>,
}

/// Looks for partials in the files of one dialect.
pub struct Extractor<'j, 's> {
    pub job: &'j Job<'s>,
    passing: Passing,
    site: &'j Site,
    pub written: &'j [ProposedFile],
    /// The files that may change, by their paths.
    index: FxHashMap<&'j str, usize>,
    home: Home,
    /// The bytes that a partial must save.
    least: usize,
    /// The lines of the files, once they are asked for.
    lines: OnceCell<LineTable>,
    /// The bytes of the site before.
    all: usize,
    /// How many repeats are not worth a partial.
    smaller: usize,
    /// The partials, each with the bytes it saves.
    pub found: Vec<(Found, usize)>,
    /// The stretches of the partials, by the files.
    claimed: FxHashMap<usize, Vec<Stretch>>,
}

impl Job<'_> {
    /// The files with partials for the markup that they share; files in `excluded` stay as they are.
    pub fn extract(&self, written: &[ProposedFile], excluded: &FxHashSet<String>) -> Option<Extracted> {
        if self.options.partials == Partials::None || written.is_empty() {
            return None;
        }
        let mut out = Extracted { written: written.to_vec(), partials: Vec::new(), smaller: 0 };
        let mut dialects = self.dialects();
        dialects.retain(|dialect| written.iter().any(|file| file.dialect == dialect.name));
        let site = apply(self.site, written, &self.dialects());
        for dialect in dialects {
            let job = Job { dialect, ..self.clone() };
            job.extract_own(&site, written, excluded, &mut out);
        }
        Some(out)
    }

    /// Whether a partial may take values: arguments are passed, and printed.
    pub fn passes_values(&self) -> bool {
        self.dialect.rules.arguments.is_some() && self.dialect.form(Kind::Output).is_some()
    }

    /// The same for the files of the job's dialect.
    fn extract_own(&self, site: &Site, written: &[ProposedFile], excluded: &FxHashSet<String>, out: &mut Extracted) {
        if self.dialect.form(Kind::Include).is_none() {
            return;
        }
        let is_own = |file: &ProposedFile| file.dialect == self.dialect.name && !excluded.contains(&file.path);
        let own = written.iter().enumerate().filter(|(_, file)| is_own(file));
        let price = self.options.price();
        let all: u64 = written.iter().map(|file| file.bytes.len() as u64).sum();
        let mut extractor = Extractor {
            job: self,
            passing: Passing::of(self.site, &self.dialect),
            site,
            written,
            index: own.map(|(index, file)| (file.path.as_str(), index)).collect(),
            home: self.home(Role::Partial),
            least: self.options.min_saving.unwrap_or((price * 2).max(all * price / SHARE_OF_ALL)) as usize,
            lines: OnceCell::new(),
            all: self.site.templates.iter().map(|template| template.source.len()).sum(),
            smaller: 0,
            found: Vec::new(),
            claimed: FxHashMap::default(),
        };
        extractor.repeats();
        while extractor.join_neighbours() {}
        extractor.regions();
        extractor.write(out);
    }

    /// Lines with the line end of the last, unless the tag in their place has one that stays.
    pub fn held<'l>(&self, lines: &'l [u8]) -> &'l [u8] {
        match self.dialect.rules.newline {
            Newline::Kept | Newline::Unknown => lines.strip_suffix(b"\n").unwrap_or(lines),
            Newline::Eaten | Newline::Line => lines,
        }
    }

    /// Lines as they are in a partial: in tidy output without the indentation that all have,
    /// and the first without any, which may come from where it was included.
    pub fn content(&self, lines: &[u8]) -> Vec<u8> {
        let lines = self.held(lines);
        if self.options.strength == Strength::Bytes {
            return lines.to_vec();
        }
        let indent = |line: &[u8]| line.iter().take_while(|b| matches!(b, b' ' | b'\t')).count();
        let least = lines.split(|b| *b == b'\n').filter(|line| !line.iter().all(|b| is_blank(*b))).map(indent).min();
        let least = least.unwrap_or(0);
        let mut out = Vec::with_capacity(lines.len());
        for (number, line) in lines.split_inclusive(|b| *b == b'\n').enumerate() {
            let most = if number == 0 { usize::MAX } else { least };
            out.extend_from_slice(&line[most.min(indent(line))..]);
        }
        out
    }
}

impl Extractor<'_, '_> {
    /// How many copies make a partial.
    fn least_copies(&self) -> usize {
        if self.job.options.is_small() { LEAST_COPIES - 1 } else { LEAST_COPIES }
    }

    /// Partials for what is repeated.
    fn repeats(&mut self) {
        let similarity = self.job.passes_values().then_some(ALIKE);
        // A pair must save three times as much to be told.
        let least = if self.job.options.is_small() { self.least / 3 } else { self.least } as u64;
        let options = RepeatOptions { min_saving: Some(least), similarity, ..RepeatOptions::default() };
        for group in repeats(self.site, &options).groups {
            let copies = self.copies(&group, whole_lines);
            let found = match group.kind {
                RepeatKind::Same => {
                    let lines = self.same(copies);
                    let within = self.same(self.copies(&group, within_lines));
                    let saves = |found: &Option<Found>| found.as_ref().map_or(0, |found| self.saving(found));
                    if saves(&within) > saves(&lines) { within } else { lines }
                }
                RepeatKind::Alike => self.alike(copies),
            };
            if let Some(found) = found {
                self.take(found);
            }
        }
    }

    /// The copies of a group, each found by its place, that are free of tags and of
    /// what became a partial before.
    fn copies(
        &self,
        group: &RepeatGroup,
        place: impl Fn(&RepeatCopy, usize, &[ProposedFile]) -> Option<Stretch>,
    ) -> Vec<Stretch> {
        let found = |copy: &RepeatCopy| place(copy, *self.index.get(&*copy.file)?, self.written);
        let can_stand = |stretch: &Stretch| stretch.lines || self.tag("x", "", stretch).is_some();
        group.copies.iter().filter_map(found).filter(|stretch| can_stand(stretch) && self.is_free(stretch)).collect()
    }

    pub fn is_free(&self, lines: &Stretch) -> bool {
        let template = self.site.find(&self.written[lines.file].path).map(|id| self.site.get(id));
        let can_move = template.is_some_and(|template| may_move(template, Span::from_range(lines.start..lines.end)));
        let apart = |other: &Stretch| lines.end <= other.start || lines.start >= other.end;
        can_move && self.claimed.get(&lines.file).is_none_or(|claimed| claimed.iter().all(apart))
    }

    /// The text of a stretch, as a partial holds it.
    fn content(&self, stretch: &Stretch) -> Vec<u8> {
        let bytes = self.text(stretch);
        if stretch.lines { self.job.content(bytes) } else { bytes.to_vec() }
    }

    /// The tag that includes a partial in the place of a stretch; `None` if whitespace
    /// around it could go with it.
    fn tag(&self, target: &str, arguments: &str, stretch: &Stretch) -> Option<String> {
        let include = self.job.dialect.form(Kind::Include)?;
        let values = Values { target, expr: arguments, ..Values::default() };
        match self.job.dialect.rules.newline {
            Newline::Eaten | Newline::Line if !stretch.lines => {
                Some(include.open.write_marked(&values, self.job.dialect.marks.exact.first()?))
            }
            _ => Some(include.open.write(&values)),
        }
    }

    pub fn text(&self, lines: &Stretch) -> &[u8] {
        &self.written[lines.file].bytes[lines.start..lines.end]
    }

    /// A content by which copies are compared: how lines end does not count in tidy output,
    /// but where every byte shows.
    fn without_line_ends(&self, mut content: Vec<u8>) -> Vec<u8> {
        if self.job.options.strength == Strength::Bytes || memchr::memchr(b'\r', &content).is_none() {
            return content;
        }
        let document = Document::read(&content, &self.job.dialect);
        let preserves = |at: NodeId| element(document.name(&content, at)).preserves;
        if !document.all_below_root().any(preserves) {
            content.retain(|b| *b != b'\r');
        }
        content
    }

    /// The copies that are written like most of them.
    fn same(&self, copies: Vec<Stretch>) -> Option<Found> {
        let mut groups: Vec<(Vec<u8>, Vec<Stretch>)> = Vec::new();
        for lines in copies {
            let key = self.without_line_ends(self.content(&lines));
            match groups.iter_mut().find(|(known, _)| *known == key) {
                Some((_, list)) => list.push(lines),
                None => groups.push((key, vec![lines])),
            }
        }
        let (_, most) = groups.into_iter().rev().max_by_key(|(_, list)| list.len())?;
        let content = self.content(&most[0]);
        let uses = most.into_iter().map(|lines| (lines, String::new())).collect();
        Some(Found { content, parameters: 0, uses })
    }

    /// Copies that differ in words and values alone, which become parameters.
    fn alike(&self, copies: Vec<Stretch>) -> Option<Found> {
        if copies.len() < self.least_copies() {
            return None;
        }
        let strength = self.job.options.strength;
        let read = |lines: &Stretch| {
            let source = Arc::new(self.content(lines));
            let document = Document::read(&source, &self.job.dialect);
            Page::of(String::new(), source, document, strength)
        };
        let pages: Vec<Page> = copies.iter().map(read).collect();
        let prices = Prices { layout: PARAMETER, page: PARAMETER, nameless: 0 };
        let unifier = Unifier {
            pages: &pages,
            prices,
            strength,
            line_rule: false,
            like_html: false,
            regions: &[],
            marks: false,
            nested_defaults: true,
            sections: Default::default(),
        };
        let unified = unifier.pages(&(0..pages.len()).collect::<Vec<_>>());
        let holes = holes(&unified.pieces);
        if holes.iter().any(|hole| hole.variants.len() < pages.len()) {
            return None;
        }
        let values: Vec<Vec<String>> =
            holes.iter().map(|hole| values(&pages, hole, &self.passing)).collect::<Option<_>>()?;
        let most = if self.job.options.is_small() { MOST_PARAMETERS_SMALL } else { MOST_PARAMETERS };
        let (parameters, printed) = parameters(&values, most)?;
        // Named after where they are first.
        let first: Vec<&Hole> = parameters.iter().map(|(first, _)| holes[*first]).collect();
        let names = naming::of_parameters(&pages, &first).into_iter();
        let parameters: Vec<(String, &[String])> = names.zip(parameters.iter().map(|(_, values)| *values)).collect();
        let mut segments = Vec::new();
        let mut printed = printed.iter();
        for piece in &unified.pieces {
            match piece {
                Piece::Fixed { page, span } => segments.push(Segment::Fixed(span.of(&pages[*page].source).to_vec())),
                Piece::Mark(_) => return None,
                Piece::Hole(_) => {
                    let (parameter, before, after) = printed.next()?;
                    let fixed = |text: &str| Segment::Fixed(text.as_bytes().to_vec());
                    segments.extend([fixed(before), Segment::Value(*parameter), fixed(after)]);
                }
            }
        }
        let mut content = Vec::new();
        for segment in &segments {
            match segment {
                Segment::Fixed(bytes) => content.extend_from_slice(bytes),
                Segment::Value(parameter) => content.extend(self.output(&parameters[*parameter].0)?.as_bytes()),
            }
        }
        let arguments = |values: &mut dyn Iterator<Item = &str>| {
            let names = parameters.iter().map(|(name, _)| name.as_str());
            let bindings: Vec<(&str, Value)> = names.zip(values.filter_map(|text| self.passing.value(text))).collect();
            self.job.dialect.rules.write_arguments(&bindings)
        };
        let mut uses: Vec<(Stretch, String)> = Vec::with_capacity(copies.len());
        for (at, lines) in copies.iter().enumerate() {
            uses.push((*lines, arguments(&mut parameters.iter().map(|(_, values)| values[at].as_str()))?));
        }
        for (lines, values) in
            self.missed(&copies, &Pattern::of(&segments, parameters.len(), self.passing.clone(), strength))
        {
            uses.push((lines, arguments(&mut values.iter().map(String::as_str))?));
        }
        (uses.len() >= self.least_copies()).then_some(Found { content, parameters: parameters.len(), uses })
    }

    /// Copies beside the known ones that are written like them, with their values.
    fn missed(&self, copies: &[Stretch], pattern: &Pattern) -> Vec<(Stretch, Vec<String>)> {
        let files = || self.index.values().map(|&file| (file, &self.written[file].bytes[..]));
        let table = self.lines.get_or_init(|| LineTable::of(files()));
        let mut known: BTreeMap<(usize, usize), usize> =
            copies.iter().map(|lines| ((lines.file, lines.start), lines.end)).collect();
        let mut found = pattern.find_lines(table, |file| &self.written[file].bytes);
        found.retain(|(lines, _)| {
            let before = known.range(..(lines.file, lines.end)).next_back();
            let apart = before.is_none_or(|((file, _), end)| *file < lines.file || *end <= lines.start);
            let fits = apart && self.is_free(lines);
            if fits {
                known.insert((lines.file, lines.start), lines.end);
            }
            fits
        });
        found
    }

    /// A tag that prints a value.
    fn output(&self, name: &str) -> Option<String> {
        Some(self.job.dialect.form(Kind::Output)?.open.write(&Values { expr: name, ..Values::default() }))
    }

    /// Regions of layouts, if they are asked for: headers, navigations, side bars, footers.
    fn regions(&mut self) {
        if self.job.options.partials != Partials::Landmarks {
            return;
        }
        let mut layouts: Vec<usize> = self.index.values().copied().collect();
        layouts.retain(|&file| self.written[file].role == Role::Layout);
        layouts.sort_unstable();
        let mut found: Vec<Found> = Vec::new();
        for file in layouts {
            for lines in self.landmarks(file) {
                let bytes = self.text(&lines);
                if bytes.len() < LEAST_REGION {
                    continue;
                }
                let content = self.job.content(bytes);
                match found.iter_mut().find(|known| known.content == content) {
                    Some(known) => known.uses.push((lines, String::new())),
                    None => found.push(Found { content, parameters: 0, uses: vec![(lines, String::new())] }),
                }
            }
        }
        for found in found {
            self.claim(found, 0);
        }
    }

    /// The outermost landmarks of a file that have lines of their own.
    fn landmarks(&self, file: usize) -> Vec<Stretch> {
        let source = &self.written[file].bytes;
        let document = Document::read(source, &self.job.dialect);
        let mut found = Vec::new();
        let mut at = NodeId::ROOT.next();
        while let Some(node) = document.nodes.get(at.index()) {
            let is_landmark = node.kind == NodeKind::Element && naming::is_landmark(&document, source, at);
            let lines = if is_landmark { own_lines(source, file, document.span(at)) } else { None };
            at = match lines {
                Some(lines) if self.is_free(&lines) => {
                    found.push(lines);
                    node.next
                }
                _ => at.next(),
            };
        }
        found
    }

    /// The bytes that a partial saves.
    pub fn saving(&self, found: &Found) -> usize {
        let Some(include) = self.job.dialect.form(Kind::Include) else { return 0 };
        let reference = include.open.example().len() + self.home.folder().len();
        let before: usize = found.uses.iter().map(|(stretch, _)| self.content(stretch).len()).sum();
        let tags: usize = found.uses.iter().map(|(_, arguments)| reference + arguments.len()).sum();
        before.saturating_sub(found.content.len() + tags)
    }

    /// Makes a partial, if it saves enough.
    fn take(&mut self, mut found: Found) {
        self.grow(&mut found);
        let saves = self.saving(&found);
        // A line or less is no fragment that one would look up in a file of its own.
        if count_lines(&found.content) < 2 && found.content.len() < LEAST_WITHIN {
            return;
        }
        if saves < self.least || found.uses.len() < self.least_copies() {
            return;
        }
        if self.job.options.is_small() || self.is_worth_it(&found, saves) {
            self.claim(found, saves);
        } else {
            self.smaller += 1;
        }
    }

    /// Whether it is a thing with a name, in several files, that saves enough.
    fn is_worth_it(&self, found: &Found, saves: usize) -> bool {
        let files: FxHashSet<usize> = found.uses.iter().map(|(stretch, _)| stretch.file).collect();
        // Conditions and loops that are in three files are changed in three files, however short they are.
        let is_logic = || {
            let items = Constructs::read(&found.content, &self.job.dialect).items;
            items.iter().any(|item| item.kind == Kind::Control)
        };
        let enough = || {
            let share = saves * files.len() / found.uses.len() * SHARE_WORTH;
            self.job.options.min_saving.is_some() || share >= self.all || is_logic()
        };
        files.len() >= LEAST_COPIES
            && match Reason::of(&found.content, &self.job.dialect) {
                Some(Reason::Landmark(_)) => true,
                Some(Reason::Named(_)) => enough(),
                None => false,
            }
    }

    fn claim(&mut self, found: Found, saves: usize) {
        for (stretch, _) in &found.uses {
            self.claimed.entry(stretch.file).or_default().push(*stretch);
        }
        self.found.push((found, saves));
    }

    /// What to call each partial: the best of its names that is free. One that only a number would tell from others
    /// of its name has none, unless it is most of them: they are of a kind, and none of them is a thing of the site.
    fn words(&self, taken: &[String]) -> Vec<Option<String>> {
        let options = self.job.options;
        if options.is_small() || options.partials == Partials::Landmarks {
            let short = |word: String| word.split('-').next().unwrap_or_default().to_owned();
            let word = |word: String| if options.is_small() { short(word) } else { word };
            return self.found.iter().map(|(found, _)| Some(word(naming::of_markup(&found.content)))).collect();
        }
        let reasons: Vec<Option<Reason>> =
            self.found.iter().map(|(found, _)| Reason::of(&found.content, &self.job.dialect)).collect();
        let best = |at: usize| reasons[at].as_ref().and_then(|reason| reason.names().first());
        let of_kind = |at: usize| {
            let alike = (0..reasons.len()).filter(|&other| other != at && best(other) == best(at));
            let uses = |at: usize| self.found[at].0.uses.len();
            (alike.clone().count(), alike.map(uses).sum::<usize>(), uses(at))
        };
        let mut taken: Vec<String> = taken.iter().map(|path| stem(path).to_owned()).collect();
        let mut word = |at: usize| {
            let (others, of_others, own) = of_kind(at);
            let names = reasons[at].as_ref().filter(|_| others < OF_A_KIND || own > of_others)?.names();
            let word = names.iter().find(|name| !taken.contains(name))?.clone();
            taken.push(word.clone());
            Some(word)
        };
        (0..reasons.len()).map(&mut word).collect()
    }

    /// The content of a partial, with the own-file tags that its tags need, as far as all files have them that use it.
    fn with_own_file_tags(&self, found: &Found, needs: &Needs) -> Vec<u8> {
        let content = found.content.clone();
        if needs.is_empty() {
            return content;
        }
        let files: BTreeSet<usize> = found.uses.iter().map(|(stretch, _)| stretch.file).collect();
        let own = files.iter().filter_map(|&file| self.site.find(&self.written[file].path));
        let own = own.map(|id| self.site.sure_own_file_texts(id));
        let own = own.reduce(|all, own| all.into_iter().filter(|text| own.contains(text)).collect());
        let lines = self.job.options.strength != Strength::Bytes;
        needs.carried(content, &self.job.dialect, &own.unwrap_or_default(), lines)
    }

    /// Writes the partials, and the tags that include them.
    fn write(self, out: &mut Extracted) {
        out.smaller += self.smaller;
        let mut taken: Vec<String> = out.written.iter().map(|file| file.path.clone()).collect();
        let mut edits: FxHashMap<usize, Vec<Edit>> = FxHashMap::default();
        let words = self.words(&taken);
        let needs = Needs::of(self.site);
        for ((found, saves), word) in self.found.iter().zip(words) {
            let Some(word) = word else {
                out.smaller += 1;
                continue;
            };
            let path = self.job.free_path(&self.home, &word, &mut taken);
            if self.job.only.as_ref().is_some_and(|only| !only.contains(&path)) {
                continue;
            }
            let target = self.job.written_name(&path, Kind::Include);
            for (stretch, arguments) in &found.uses {
                let Some(tag) = self.tag(&target, arguments, stretch) else { continue };
                let blanks = |b: &&u8| matches!(b, b' ' | b'\t');
                let indent: String = self.text(stretch).iter().take_while(blanks).map(|&b| char::from(b)).collect();
                let tag = match (stretch.lines, self.job.options.strength) {
                    (false, _) => tag,
                    // In exact output the partial brings its own indentation.
                    (true, Strength::Bytes) => format!("{tag}\n"),
                    (true, _) => format!("{indent}{tag}\n"),
                };
                edits.entry(stretch.file).or_default().push((stretch.start, stretch.end, tag));
            }
            let files: FxHashSet<usize> = found.uses.iter().map(|(lines, _)| lines.file).collect();
            out.partials.push(ProposedPartial {
                path: path.clone(),
                uses: found.uses.len(),
                files: files.len(),
                parameters: found.parameters,
                saves: *saves,
                bytes: found.content.len(),
            });
            let dialect = self.job.dialect.name.clone();
            let bytes = self.with_own_file_tags(found, &needs);
            out.written.push(ProposedFile { path, role: Role::Partial, dialect, extends: None, bytes });
        }
        for (file, mut list) in edits {
            list.sort();
            let bytes = &mut out.written[file].bytes;
            for (start, end, tag) in list.into_iter().rev() {
                bytes.splice(start..end, tag.into_bytes());
            }
        }
    }
}

/// The content of a hole in each copy, if every engine prints it as it is written.
pub fn values(pages: &[Page], hole: &Hole, passing: &Passing) -> Option<Vec<String>> {
    let fits =
        !matches!(hole.context, Context::Attributes { .. }) && !matches!(hole.default, DefaultContent::Pieces(_));
    let value = |variant: &Variant| {
        let text = std::str::from_utf8(variant.bytes(pages)).ok()?;
        passing.value(text).map(|_| text.to_owned())
    };
    if fits { hole.variants.iter().map(value).collect() } else { None }
}

/// The print of a hole: the number of a parameter, and the words before and after it.
type Printed<'v> = (usize, &'v str, &'v str);

/// A parameter: the first of the holes that print it, and its value in each copy.
type Parameter<'v> = (usize, &'v [String]);

/// The parameters for the values of some holes, and what is printed in each hole. The same
/// values in two places are one parameter, also with words around them. `None` if there
/// would be none, or too many.
fn parameters(values: &[Vec<String>], most: usize) -> Option<(Vec<Parameter<'_>>, Vec<Printed<'_>>)> {
    let mut order: Vec<usize> = (0..values.len()).collect();
    order.sort_by_key(|&at| values[at].iter().map(String::len).sum::<usize>());
    let mut parameters: Vec<Parameter<'_>> = Vec::new();
    let mut printed = vec![(0, "", ""); values.len()];
    for at in order {
        let known = parameters.iter().position(|(_, known)| around(known, &values[at]).is_some());
        let parameter = known.unwrap_or(parameters.len());
        if known.is_none() {
            parameters.push((at, &values[at]));
        }
        let (first, known) = &mut parameters[parameter];
        *first = at.min(*first);
        let (before, after) = around(known, &values[at])?;
        printed[at] = (parameter, before, after);
    }
    (1..=most).contains(&parameters.len()).then_some((parameters, printed))
}

/// The texts before and after each of these texts in each of those, if they are the same in all.
fn around<'t>(inner: &[String], texts: &'t [String]) -> Option<(&'t str, &'t str)> {
    let first = texts.first()?;
    let at = first.find(inner.first()?.as_str())?;
    let (before, after) = (&first[..at], &first[at + inner[0].len()..]);
    let same = |(inner, text): (&String, &String)| {
        text.strip_prefix(before).and_then(|rest| rest.strip_suffix(after)) == Some(inner.as_str())
    };
    inner.iter().zip(texts).all(same).then_some((before, after))
}

/// A copy as it is within lines, if it is long enough for a tag there.
fn within_lines(copy: &RepeatCopy, file: usize, written: &[ProposedFile]) -> Option<Stretch> {
    let span = Span::new(copy.byte_start, copy.byte_end);
    let bytes = span.of(&written[file].bytes);
    let (start, end) = (span.start as usize, span.start as usize + bytes.trim_ascii_end().len());
    (end - start >= LEAST_WITHIN && !bytes.starts_with(b" ")).then_some(Stretch { file, start, end, lines: false })
}

/// The lines of a copy, if it has them for itself.
fn whole_lines(copy: &RepeatCopy, file: usize, written: &[ProposedFile]) -> Option<Stretch> {
    own_lines(&written[file].bytes, file, Span::new(copy.byte_start, copy.byte_end))
}

/// The lines of some bytes of a file, if they have them for themselves.
fn own_lines(bytes: &[u8], file: usize, span: Span) -> Option<Stretch> {
    let start = span.start as usize;
    let trimmed = start + span.of(bytes).trim_ascii_end().len();
    let before = bytes[..start].iter().rev().take_while(|b| matches!(b, b' ' | b'\t')).count();
    let after = bytes[trimmed..].iter().take_while(|b| matches!(b, b' ' | b'\t')).count();
    let line_start = start - before;
    let at_start = line_start == 0 || bytes[line_start - 1] == b'\n';
    let at_end = bytes.get(trimmed + after) == Some(&b'\n');
    (at_start && at_end).then_some(Stretch { file, start: line_start, end: trimmed + after + 1, lines: true })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::propose::testing::{NAMES, proposed, site, text};

    /// Pages that share a card and nothing else.
    fn with_card() -> Site {
        let card = "  <div class=\"tide-card\">\n    <h3>Tides of the week</h3>\n    <p>High water at Gull Point, every day at six and at eighteen</p>\n    <p>Low water is six hours later, and deep boats stay out of the harbour then</p>\n  </div>\n";
        let page = |name: &&str| {
            let line = |at: usize| format!("<p id=\"{name}-{at}\">{name} number {at}</p>\n");
            let lines: String = (0..12).map(line).collect();
            let main = format!("{{% block main %}}\n{lines}{card}{{% endblock %}}\n");
            (format!("{}.html", name.to_lowercase()), format!("{{% extends 'base.html' %}}\n{main}"))
        };
        let base = "<main>{% block main %}{% endblock %}</main>\n";
        site([("base.html".to_owned(), base.to_owned())].into_iter().chain(NAMES.iter().map(page)))
    }

    #[test]
    fn a_thing_with_a_name_becomes_a_partial() {
        let site = with_card();
        let proposal = proposed(&site);
        let [partial] = &proposal.partials[..] else { panic!("{:?}", proposal.partials) };
        assert_eq!(
            (partial.path.as_str(), partial.uses, partial.parameters),
            ("partials/tide-card.html", NAMES.len(), 0)
        );
        assert!(text(&proposal, "boats.html").contains("partials/tide-card.html"));
    }

    #[test]
    fn values_that_are_the_same_in_two_places_are_one_parameter() {
        let values = |all: &[&[&str]]| -> Vec<Vec<String>> {
            all.iter().map(|hole| hole.iter().map(|value| (*value).to_owned()).collect()).collect()
        };
        let holes = values(&[&["gull", "tern"], &["the gull!", "the tern!"]]);
        let (parameters, printed) = parameters(&holes, 2).expect("a parameter");
        assert_eq!(parameters.len(), 1);
        assert_eq!(printed, [(0, "", ""), (0, "the ", "!")]);
        assert!(super::parameters(&values(&[&["a", "b"], &["c", "d"], &["e", "f"]]), 2).is_none(), "too many");
    }

    #[test]
    fn a_stretch_has_its_lines_if_nothing_else_is_on_them() {
        let lines = |text: &str| {
            let start = text.find("<i>").expect("the stretch") as u32;
            let found = own_lines(text.as_bytes(), 0, Span::new(start, start + 4))?;
            Some(text[found.start..found.end].to_owned())
        };
        assert_eq!(lines("<p>\n  <i>x\n</p>").as_deref(), Some("  <i>x\n"));
        assert_eq!(lines("<p><i>x\n</p>"), None);
        assert_eq!(lines("<p>\n<i>x</p>"), None);
    }
}
