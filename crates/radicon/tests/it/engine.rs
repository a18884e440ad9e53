//! What the proof says holds in an engine: random sites are executed before and after each proposal and step,
//! with several sets of data, whatever the engine does where the dialect leaves a rule unknown.

use std::collections::BTreeMap;

use crate::common::engine::{BRACE, Engine, GANGWAY, LANTERN, LIBRARIES, Syntax, Ways};
use crate::common::steps::random_step;
use crate::common::wild::{self, Wild};
use crate::common::{Random, cases, is_long, seed};
use radicon::markup::Document;
use radicon::prove::Normal;
use radicon::text::SourceId;
use radicon::translate::{Unsayable, translate};
use radicon::{Change, Proposal, ProposeOptions, Site, SourceFile, Strength, propose, prove};

/// How many sets of data a site is executed with; and where it must be sure that nothing shows.
const USUAL: usize = 2;
const MANY: usize = 12;

/// A page as it is shown: insignificant white space does not count.
fn normal(page: &str) -> Vec<u8> {
    Normal::of(page.as_bytes(), &Document::read(page.as_bytes(), &radicon::dialect::plain())).bytes
}

fn texts(site: &Site) -> BTreeMap<String, String> {
    let text = |source: &[u8]| String::from_utf8(source.to_vec()).expect("text");
    site.templates.iter().map(|template| (template.path.clone(), text(&template.source))).collect()
}

fn engine(syntax: Syntax, files: &BTreeMap<String, String>) -> Engine {
    Engine::new(syntax, files.iter().map(|(path, text)| (path.as_str(), text.as_str())))
}

/// The files after some changes.
fn changed(files: &BTreeMap<String, String>, changes: &[Change]) -> BTreeMap<String, String> {
    let mut files = files.clone();
    for change in changes {
        match &change.new {
            Some(new) => drop(files.insert(change.path.clone(), String::from_utf8(new.clone()).expect("text"))),
            None => drop(files.remove(&change.path)),
        }
    }
    files
}

/// The pages of a site: what lies in folders are layouts and partials.
fn pages(files: &BTreeMap<String, String>) -> Vec<(String, String)> {
    files.keys().filter(|path| !path.contains('/')).map(|path| (path.clone(), path.clone())).collect()
}

/// The first page that is shown otherwise, or fails, with so many sets of data, in the engine before and in each after
/// it; a page has a name in both. Pages that failed before are none.
fn first_difference(random: &mut Random, times: usize, before: &Engine, after: &[Made]) -> Option<(usize, String)> {
    for _ in 0..times {
        let data = wild::data(random);
        let some = random.below(4);
        for (_, ways) in Ways::all().enumerate().filter(|(at, _)| is_long() || at % 4 == some) {
            let mut shown: BTreeMap<&str, Option<(String, Vec<u8>)>> = BTreeMap::new();
            for (at, made) in after.iter().enumerate() {
                for (page, now) in &made.pages {
                    let render = || before.render(page, &data, ways).ok().map(|page| (normal(&page), page));
                    let expected = shown.entry(page).or_insert_with(|| render().map(|(normal, page)| (page, normal)));
                    let Some((expected, expected_normal)) = expected else { continue };
                    let what = match made.engine.render(now, &data, ways) {
                        Ok(found) if found == *expected || normal(&found) == *expected_normal => continue,
                        Ok(found) => format!("{expected}\n--- becomes\n{found}"),
                        Err(error) => error,
                    };
                    return Some((at, format!("{page} {ways:?}: {what}")));
                }
            }
        }
    }
    None
}

/// Whether every page of a site can be put out at all.
fn is_sound(syntax: Syntax, files: &BTreeMap<String, String>) -> Result<(), String> {
    let engine = engine(syntax, files);
    for (page, _) in &pages(files) {
        for ways in Ways::all() {
            engine.render(page, &wild::data(&mut Random(1)), ways).map_err(|error| format!("{page}: {error}"))?;
        }
    }
    Ok(())
}

#[test]
fn made_up_sites_can_be_executed() {
    let first = seed("wild sites");
    for case in 0..cases(100, 3_000) {
        let mut random = Random(first + case);
        let mut wild = Wild::new(&mut random);
        let syntax = wild.syntax;
        for files in [wild.copied(), wild.layered(), wild.repeated()] {
            let site = wild::read(syntax, files);
            assert!(site.templates.iter().any(|template| template.dialect.name == syntax.name));
            let files = texts(&site);
            if let Err(error) = is_sound(syntax, &files) {
                panic!("seed {}: {error}\n{files:#?}", first + case);
            }
        }
    }
}

/// A site by its seed; one in so many has layouts, the others have copied pages.
fn random_site(seed: u64, layered: usize) -> (Random, Syntax, Site) {
    let mut random = Random(seed);
    let mut wild = Wild::new(&mut random);
    let syntax = wild.syntax;
    let files = match (wild.random.once_in(layered), wild.random.once_in(2)) {
        (true, true) => wild.layered(),
        (true, false) => wild.repeated(),
        (false, _) => wild.copied(),
    };
    (random, syntax, wild::read(syntax, files))
}

/// What is proposed in the dialect of a syntax.
fn proposed(site: &Site, syntax: Syntax) -> Proposal {
    let dialect = site.templates.iter().map(|template| &template.dialect).find(|dialect| dialect.name == syntax.name);
    propose(site, &ProposeOptions { dialect: dialect.cloned(), ..ProposeOptions::default() }).expect("a proposal")
}

/// What the library made of a site.
struct Made {
    /// What made it: a proposal, a kind of step, the fix of findings, a translation.
    by: &'static str,
    title: String,
    engine: Engine,
    /// Each page by its path before and after.
    pages: Vec<(String, String)>,
}

impl Made {
    fn new(
        by: &'static str,
        title: &str,
        syntax: Syntax,
        before: &BTreeMap<String, String>,
        changes: &[Change],
    ) -> Self {
        let engine = engine(syntax, &changed(before, changes));
        Self { by, title: title.to_owned(), engine, pages: pages(before) }
    }
}

/// How many pages were converted, and how many templates written in another dialect, of how many.
#[derive(Default)]
struct Counts {
    made: BTreeMap<&'static str, usize>,
    pages: usize,
    converted: usize,
    templates: usize,
    translated: usize,
}

/// All that the library offers for a site.
fn all_made_of(site: &Site, syntax: Syntax, random: &mut Random, counts: &mut Counts) -> Vec<Made> {
    let before = texts(site);
    let mut all = Vec::new();
    let proposal = proposed(site, syntax);
    counts.pages += pages(&before).len();
    counts.converted += proposal.files.iter().filter(|file| !file.path.contains('/')).count();
    *counts.made.entry("better layout").or_default() +=
        proposal.layouts.iter().filter(|layout| layout.existing).count();
    all.push(Made::new("proposal", "", syntax, &before, &proposal.changes(site)));
    for _ in 0..4 {
        // What holds for a folder is said in the settings, which the engine does not read.
        let step = random_step(site, random).filter(|(by, _)| *by != "default-layout");
        if let Some((by, Ok(step))) = step {
            all.push(Made::new(by, &step.title, syntax, &before, &step.changes));
        }
    }
    let fixed = radicon::check::fix(site, &radicon::check(site).findings).expect("edits");
    if fixed.changed.is_empty() && !fixed.changes.is_empty() {
        all.push(Made::new("fix", &format!("{:?}", fixed.findings), syntax, &before, &fixed.changes));
    }
    let other = [BRACE, LANTERN, GANGWAY][random.below(3)];
    if other.name != syntax.name {
        all.push(translated(site, syntax, other, counts));
    }
    all.iter().for_each(|made| *counts.made.entry(made.by).or_default() += 1);
    all
}

/// A site in another syntax.
fn translated(site: &Site, syntax: Syntax, other: Syntax, counts: &mut Counts) -> Made {
    let ids: Vec<SourceId> = site.templates.iter().filter_map(|template| site.find(&template.path)).collect();
    let done = translate(site, &ids, &wild::dialect_of(other), Unsayable::LeftOut).expect("a translation");
    // What loads a library is called otherwise there, which only a person knows.
    let text = |bytes: &[u8]| {
        let text = String::from_utf8(bytes.to_vec()).expect("text");
        LIBRARIES.iter().fold(text, |text, (library, ..)| {
            text.replace(&format!(" {} {library}", syntax.load()), &format!(" {} {library}", other.load()))
        })
    };
    let after = done.sources.iter().map(|file| (file.path.clone(), text(&file.bytes))).collect();
    counts.templates += ids.len();
    counts.translated += done.files.len();
    let is_page = |path: &str| !path.contains('/') && !done.different.iter().any(|different| different == path);
    let pages = done.files.iter().filter(|(old, _)| is_page(old)).map(|(old, new)| (old.clone(), new.clone()));
    Made { by: "translation", title: other.name.to_owned(), pages: pages.collect(), engine: engine(other, &after) }
}

#[test]
fn whatever_is_made_of_a_site_shows_the_same_in_an_engine() {
    let first = seed("all that is made of a site");
    let (mut counts, mut failed) = (Counts::default(), Vec::new());
    let cases = cases(500, 50_000);
    for case in 0..cases {
        let (mut random, syntax, site) = random_site(first + case, 2);
        let made = all_made_of(&site, syntax, &mut random, &mut counts);
        let old = engine(syntax, &texts(&site));
        if let Some((at, what)) = first_difference(&mut random, USUAL, &old, &made) {
            let Made { by, title, .. } = &made[at];
            failed.push(format!("seed {} {} {by} {title}: {what}", first + case, syntax.name));
        }
    }
    println!(
        "{} of {} pages converted, {} of {} templates translated, made {:?}; {} sites differ",
        counts.converted,
        counts.pages,
        counts.translated,
        counts.templates,
        counts.made,
        failed.len()
    );
    let only = std::env::var("RADICON_SHOW").unwrap_or_default();
    for what in failed.iter().filter(|what| !only.is_empty() && what.contains(&only)) {
        println!("{what}\n");
    }
    assert!(failed.is_empty(), "{} sites differ; the first: {}", failed.len(), failed[0]);
    assert!(counts.converted * 7 > counts.pages, "only {} pages were converted", counts.converted);
    assert!(counts.translated * 5 > counts.templates, "only {} templates were translated", counts.translated);
    let steps: usize = counts.made.values().sum();
    assert!(steps as u64 > 2 * cases, "only {steps} changes were made");
    assert!(counts.made["better layout"] as u64 * 100 > cases, "{:?}", counts.made);
}

/// A change to a site that may change what its pages show.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
enum Mutation {
    DropOwnFileTag,
    MoveOwnFileTag,
    RenameBinding,
    MoveBinding,
    MoveIntoLoop,
    DropArgument,
}

const MUTATIONS: [Mutation; 6] = [
    Mutation::DropOwnFileTag,
    Mutation::MoveOwnFileTag,
    Mutation::RenameBinding,
    Mutation::MoveBinding,
    Mutation::MoveIntoLoop,
    Mutation::DropArgument,
];

impl Mutation {
    /// Whether it can change a line.
    fn fits(self, line: &str) -> bool {
        let holds = |words: &[&str]| words.iter().any(|word| line.contains(word));
        match self {
            Self::DropOwnFileTag | Self::MoveOwnFileTag => {
                holds(&["{% fetch ", "[~ haul ", "(* fetch ", "{% import "]) && line.len() < 60
            }
            Self::RenameBinding => holds(&["{% set ", "[~ let ", "{% for ", "[~ each ", "{% with "]),
            Self::MoveBinding => holds(&["{% set ", "[~ let "]) && line.trim().len() < 50,
            Self::MoveIntoLoop => holds(&["{{ ", "[= "]) && line.trim_start().starts_with("<p>"),
            Self::DropArgument => {
                holds(&["{% include ", "[~ fetch ", "(* lash "]) && line.contains(" label=\"") && line.len() < 80
            }
        }
    }

    /// A file with a change to one of its lines.
    fn make(self, text: &str, at: usize) -> String {
        let mut lines: Vec<String> = text.split_inclusive('\n').map(str::to_owned).collect();
        let line = lines[at].clone();
        match self {
            Self::DropOwnFileTag => drop(lines.remove(at)),
            // To the end of its file.
            Self::MoveOwnFileTag | Self::MoveBinding => {
                let line = lines.remove(at);
                lines.push(line);
            }
            Self::RenameBinding => {
                let word = ["{% set ", "[~ let ", "{% for ", "[~ each ", "{% with "]
                    .into_iter()
                    .find(|word| line.contains(word));
                lines[at] = line.replacen(word.unwrap_or_default(), &format!("{}other_", word.unwrap_or_default()), 1);
            }
            Self::MoveIntoLoop => {
                let (open, close) = if line.contains("[= ") {
                    ("[~ each label in items ~]", "[~ out each ~]")
                } else {
                    ("{% for label in items %}", "{% endfor %}")
                };
                lines[at] = format!("{open}{}{close}\n", line.trim_end());
            }
            Self::DropArgument => {
                let start = line.find(" label=").unwrap_or_default();
                let length = line[start + 1..].find(' ').map_or(0, |length| length + 1);
                lines[at] = format!("{}{}", &line[..start], &line[start + length..])
                    .replace(" with only", " only")
                    .replace(" with %}", " %}");
            }
        }
        lines.concat()
    }
}

#[test]
fn mutations_that_show_are_found() {
    let first = seed("mutations");
    // For each kind: how many were made, changed a page, were missed, and were called differences for nothing.
    let mut counts: BTreeMap<Mutation, [usize; 4]> = BTreeMap::new();
    let (mut missed, mut called) = (Vec::new(), Vec::new());
    for case in 0..cases(150, 12_000) {
        let (mut random, syntax, site) = random_site(first + case, 2);
        let proposal = proposed(&site, syntax);
        let before = changed(&texts(&site), &proposal.changes(&site));
        let read = |files: &BTreeMap<String, String>| {
            wild::read(syntax, files.iter().map(|(path, text)| SourceFile::new(path.clone(), text.as_str())).collect())
        };
        let site = read(&before);
        for mutation in MUTATIONS {
            let places: Vec<(&String, usize)> = before
                .iter()
                .flat_map(|(path, text)| text.lines().enumerate().map(move |(at, line)| (path, at, line)))
                .filter(|(_, _, line)| mutation.fits(line))
                .map(|(path, at, _)| (path, at))
                .collect();
            if places.is_empty() {
                continue;
            }
            let (path, at) = places[random.below(places.len())];
            let mut after = before.clone();
            after.insert(path.clone(), mutation.make(&before[path], at));
            let made =
                Made { by: "mutation", title: String::new(), engine: engine(syntax, &after), pages: pages(&before) };
            let shows = first_difference(&mut random, MANY, &engine(syntax, &before), &[made]).map(|(_, what)| what);
            let proof = prove(&site, &read(&after), Strength::Blanks);
            let equal = proof.equal;
            if shows.is_none() && !equal {
                called.push(format!(
                    "seed {} called {mutation:?} {path}:{}: {:?}\n{}\n",
                    first + case,
                    at + 1,
                    proof.different().next(),
                    before[path]
                ));
            }
            let count = counts.entry(mutation).or_default();
            count[0] += 1;
            count[1] += usize::from(shows.is_some());
            count[2] += usize::from(shows.is_some() && equal);
            count[3] += usize::from(shows.is_none() && !equal);
            if let Some(what) = shows.filter(|_| equal) {
                missed.push(format!(
                    "seed {} {mutation:?} {path}:{}: {what}\n{}\n",
                    first + case,
                    at + 1,
                    before[path]
                ));
            }
        }
    }
    for (mutation, [made, shown, missed, idle]) in &counts {
        let harmless = made - shown;
        println!(
            "{mutation:?}: {made} made, {shown} show, {missed} of them missed; {idle} of {harmless} that do not show called differences"
        );
    }
    let only = std::env::var("RADICON_SHOW").unwrap_or_default();
    for what in missed.iter().chain(&called).filter(|what| !only.is_empty() && what.contains(&only)) {
        println!("{what}\n");
    }
    assert!(missed.is_empty(), "{} are missed; the first: {}", missed.len(), missed[0]);
}

/// What the engine makes of a page of some files, however deep they are.
fn rendered(files: &BTreeMap<String, String>, page: &str) -> String {
    let render = || {
        let mut engine = engine(BRACE, files);
        engine.deepest = 1_000;
        let ways = Ways::all().next().expect("a way");
        engine.render(page, &wild::data(&mut Random(1)), ways).expect("it is put out")
    };
    // In a thread with room enough.
    std::thread::scope(|scope| {
        let thread = std::thread::Builder::new().stack_size(256 << 20).spawn_scoped(scope, render);
        thread.expect("a thread").join().expect("it is put out")
    })
}

fn read(files: &BTreeMap<String, String>) -> Site {
    let sources = files.iter().map(|(path, text)| SourceFile::new(path.clone(), text.clone())).collect();
    Site::read(sources, radicon::dialect::builtin(), &radicon::Settings::default())
}

#[test]
fn a_partial_that_extends_the_layout_of_its_page_is_put_together_as_an_engine_does() {
    let files: BTreeMap<String, String> = [
        ("base.html", "<main>{% block content %}<div>{% block inner %}i{% endblock %}</div>{% endblock %}</main>"),
        ("card.html", "{% extends 'base.html' %}{% block inner %}card{% endblock %}"),
        ("page.html", "{% extends 'base.html' %}{% block inner %}[{% include 'card.html' %}]{% endblock %}"),
    ]
    .map(|(path, text)| (path.to_owned(), text.to_owned()))
    .into();
    let site = read(&files);
    let flat = radicon::Resolver::new(&site).flatten(site.find("page.html").expect("a page")).expect("a page");
    assert_eq!(String::from_utf8_lossy(&flat.bytes), rendered(&files, "page.html"));
    assert_eq!(flat.problems, []);
    // What is lost from it is a difference.
    let mut changed = files.clone();
    changed.insert("card.html".into(), files["card.html"].replace("card{%", "{%"));
    assert_ne!(rendered(&changed, "page.html"), rendered(&files, "page.html"));
    let proof = prove(&site, &read(&changed), Strength::Dom);
    assert!(proof.different().any(|page| page.page == "page.html"), "{proof:?}");
    assert!(prove(&site, &site, Strength::Bytes).equal);
}

#[test]
fn what_was_not_followed_is_not_proven() {
    let levels = 300;
    let text = |at: usize| match at == levels {
        true => "the end".to_owned(),
        false => format!("{at} {{% include 'p{}.html' %}}", at + 1),
    };
    let files: BTreeMap<String, String> = (0..=levels).map(|at| (format!("p{at}.html"), text(at))).collect();
    let mut changed = files.clone();
    changed.insert(format!("p{levels}.html"), "another end".into());
    assert_ne!(rendered(&files, "p0.html"), rendered(&changed, "p0.html"));
    for after in [&files, &changed] {
        let proof = prove(&read(&files), &read(after), Strength::Dom);
        let page = proof.different().find(|page| page.page == "p0.html").expect("it is not proven");
        let message = &page.difference().expect("a reason").message;
        assert!(message.contains("more than 200 blocks and includes inside each other"), "{message}");
        assert!(!proof.equal);
    }
}

#[test]
fn blocks_for_a_layout_that_is_not_here_keep_their_names() {
    let page = |text: &str| read(&[("page.html".to_owned(), text.to_owned())].into());
    let own = "{% extends 'gone.html' %}{% block a %}x{% endblock %}{% block b %}{{ super() }}{% endblock %}";
    let old = page(own);
    assert!(prove(&old, &page(own), Strength::Bytes).equal);
    for (from, to) in [("block a", "block c"), ("{{ super() }}", ""), ("x", "y"), ("gone", "other")] {
        assert!(!prove(&old, &page(&own.replace(from, to)), Strength::Dom).equal, "{from} -> {to}");
    }
    // Also what a layout that is here does not show.
    let between = |own: &str| {
        read(
            &[
                ("mid.html".to_owned(), "{% extends 'gone.html' %}{% block a %}x{% endblock %}".to_owned()),
                ("page.html".to_owned(), format!("{{% extends 'mid.html' %}}{{% block b %}}{own}{{% endblock %}}")),
            ]
            .into(),
        )
    };
    assert!(prove(&between("x"), &between("x"), Strength::Bytes).equal);
    assert!(!prove(&between("x"), &between("y"), Strength::Dom).equal);
}

#[test]
fn blocks_that_expressions_name_are_the_same() {
    let site = |layout: &str, page: &str| {
        read(&[("base.html".to_owned(), layout.to_owned()), ("page.html".to_owned(), page.to_owned())].into())
    };
    let base = "<p>{{ page.of('a')|wide }}</p>{% block a %}x{% endblock %}";
    let page = "{% extends 'base.html' %}{% block a %}y{% endblock %}";
    let old = site(base, page);
    assert!(prove(&old, &old, Strength::Bytes).equal);
    let renamed = site(&base.replace("block a", "block b"), &page.replace("block a", "block b"));
    assert!(!prove(&old, &renamed, Strength::Dom).equal);
}
