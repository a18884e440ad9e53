//! What was learned, compared with the truth.

use std::collections::BTreeMap;
use std::sync::Arc;

use radicon::dialect::{Dialect, Kind, Part};
use radicon::learn::{Confidence, learn};
use radicon::markup::Constructs;
use radicon::{Resolver, Settings, Site, SourceFile};

use super::engines::Engine;
use super::written::Made;

#[derive(Default)]
pub struct Outcome {
    pub sites: usize,
    /// Sites of which every page flattens as with the true dialect.
    pub exact: usize,
    pub pages: usize,
    pub pages_right: usize,
    pub constructs: usize,
    pub right: usize,
    /// Forms that were called sure and are wrong.
    pub wrong_sure: usize,
    pub sure: usize,
    pub kinds: BTreeMap<&'static str, (usize, usize)>,
    pub notes: Vec<String>,
}

impl Outcome {
    pub fn add(&mut self, other: &Self) {
        self.sites += 1;
        self.exact += other.exact;
        self.pages += other.pages;
        self.pages_right += other.pages_right;
        self.constructs += other.constructs;
        self.right += other.right;
        self.wrong_sure += other.wrong_sure;
        self.sure += other.sure;
        for (kind, (right, total)) in &other.kinds {
            let entry = self.kinds.entry(kind).or_default();
            (entry.0, entry.1) = (entry.0 + right, entry.1 + total);
        }
    }
}

impl std::fmt::Display for Outcome {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(
            f,
            "{} sites, {} exact ({:.1} %); {:.2} % of {} constructs; {:.2} % of {} pages; {} of {} sure forms wrong",
            self.sites,
            self.exact,
            100.0 * self.exact as f64 / self.sites.max(1) as f64,
            100.0 * self.right as f64 / self.constructs.max(1) as f64,
            self.constructs,
            100.0 * self.pages_right as f64 / self.pages.max(1) as f64,
            self.pages,
            self.wrong_sure,
            self.sure
        )
    }
}

/// What is told apart: what flattening resolves by its kind, the rest as kept.
fn meaning(kind: Kind) -> &'static str {
    match kind {
        Kind::Set | Kind::Code | Kind::Import => "kept",
        kind => kind.word(),
    }
}

pub fn outcome(engine: &Engine, made: &Made, verbose: bool) -> Outcome {
    let files = &made.files[..];
    let is_own = |path: &str| !made.others.iter().any(|other| other == path);
    let all = learn(files, &[], &[]);
    let mut found = Outcome::default();
    // Of several the one that was learned from the engine's own files.
    let read = |text: &str| {
        let dialect = Dialect::parse(text).unwrap_or_else(|error| panic!("{error}\n{text}"));
        let own = files.iter().filter(|file| is_own(&file.path));
        own.map(|file| Constructs::read(&file.bytes, &dialect).items.len()).sum::<usize>()
    };
    let learned = all.iter().max_by_key(|learned| read(&learned.text));
    let (text, settings) =
        learned.map_or((String::from("name = 'none'"), String::new()), |l| (l.text.clone(), l.settings.clone()));
    if verbose {
        println!("{}\n----\n{text}\n{settings}", engine.dialect.text);
    }
    let dialect = Arc::new(Dialect::parse(&text).unwrap_or_else(|error| panic!("{error}\n{text}")));
    // What the true dialect reads, and what the learned one does.
    let mut kinds_of: Vec<BTreeMap<(u32, u32), Kind>> = Vec::new();
    for file in files {
        let truth = Constructs::read(&file.bytes, &engine.dialect);
        let ours: BTreeMap<(u32, u32), Kind> = Constructs::read(&file.bytes, &dialect)
            .items
            .iter()
            .map(|c| ((c.span.start, c.span.end), c.kind))
            .collect();
        let mut true_kinds = BTreeMap::new();
        for construct in &truth.items {
            let span = (construct.span.start, construct.span.end);
            true_kinds.insert(span, construct.kind);
            let right = ours.get(&span).is_some_and(|kind| meaning(*kind) == meaning(construct.kind));
            found.constructs += 1;
            found.right += usize::from(right);
            let entry = found.kinds.entry(construct.kind.word()).or_default();
            (entry.0, entry.1) = (entry.0 + usize::from(right), entry.1 + 1);
            if verbose && !right {
                println!("{}: {:?} read as {:?}", file.path, construct.span.text(&file.bytes), ours.get(&span));
            }
        }
        kinds_of.push(true_kinds);
    }
    // Of the other notation the truth knows nothing.
    for form in
        learned.into_iter().flat_map(|learned| &learned.forms).filter(|form| form.confidence == Confidence::Sure)
    {
        found.sure += 1;
        let wrong = wrong_share(files, &kinds_of, form.kind, &form.form);
        if wrong > 0.2 {
            found.wrong_sure += 1;
            found.notes.push(format!("{} {}", form.kind.word(), form.form));
        }
    }
    let flat = |dialects: &[Arc<Dialect>], settings: &Settings| -> BTreeMap<String, Vec<u8>> {
        let site = Site::read(files.to_vec(), dialects, settings);
        let pages = Resolver::new(&site).flatten_all().expect("pages of a sane size");
        let pages = pages.into_iter().map(|(id, flat)| (site.get(id).path.clone(), flat.bytes));
        pages.filter(|(path, _)| is_own(path)).collect()
    };
    let truth = flat(std::slice::from_ref(&engine.dialect), &Settings::default());
    let dialects: Vec<Arc<Dialect>> =
        all.iter().map(|learned| Arc::new(learned.dialect().expect("it was read"))).collect();
    let ours = flat(&dialects, &Settings::parse(&settings).unwrap_or_else(|error| panic!("{error}\n{settings}")));
    found.pages = truth.len();
    found.pages_right = truth.iter().filter(|(path, bytes)| ours.get(*path) == Some(bytes)).count();
    if verbose && let Some((path, bytes)) = truth.iter().find(|(path, bytes)| ours.get(*path) != Some(bytes)) {
        let other = ours.get(path).map(|bytes| String::from_utf8_lossy(bytes).into_owned());
        println!("---- {path}\n{}\n---- ours\n{}", String::from_utf8_lossy(bytes), other.unwrap_or_default());
    }
    found.exact = usize::from(found.pages_right == found.pages && ours.len() == truth.len());
    found
}

/// The share of what a form reads that is something else in truth.
fn wrong_share(files: &[SourceFile], truth: &[BTreeMap<(u32, u32), Kind>], kind: Kind, form: &str) -> f64 {
    let Ok(alone) = Dialect::parse(&format!("name = 'x'\n[forms]\n{} = {form}\n", kind.word())) else { return 0.0 };
    let (mut all, mut wrong) = (0, 0);
    for (file, kinds) in files.iter().zip(truth) {
        for item in Constructs::read(&file.bytes, &alone).items {
            // A general closer alone does not show what it closes.
            if matches!(item.part, Part::Close | Part::Branch) {
                continue;
            }
            if let Some(true_kind) = kinds.get(&(item.span.start, item.span.end)) {
                all += 1;
                wrong += usize::from(meaning(*true_kind) != meaning(kind));
            }
        }
    }
    wrong as f64 / f64::max(f64::from(all), 1.0)
}
