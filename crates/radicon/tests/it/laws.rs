//! Laws that hold for every input: the normal form, the proof, and flattening
//! against a naive resolver of its own.

use std::collections::HashMap;

use crate::common::{Random, cases, seed, soup};
use crate::made::site::{Care, copied_pages, site};
use radicon::markup::Document;
use radicon::prove::Normal;
use radicon::{Resolver, Settings, Site, SourceFile, Strength, dialect, prove};

fn normal(source: &[u8]) -> Vec<u8> {
    Normal::of(source, &Document::read(source, &dialect::plain())).bytes
}

#[test]
fn the_normal_form_is_its_own_normal_form() {
    let mut random = Random(seed("normal form"));
    for _ in 0..cases(200, 5_000) {
        let care = if random.once_in(2) { Care::Exact } else { Care::Sloppy };
        for page in copied_pages(&mut random, 3, care) {
            let once = normal(&page.bytes);
            assert_eq!(String::from_utf8_lossy(&normal(&once)), String::from_utf8_lossy(&once));
        }
    }
}

#[test]
fn the_way_back_from_the_normal_form_stays_in_the_source() {
    let mut random = Random(seed("way back"));
    for _ in 0..cases(3_000, 200_000) {
        let text = soup(&mut random, 12);
        let document = Document::read(text.as_bytes(), &dialect::plain());
        let normal = Normal::of(text.as_bytes(), &document);
        let mut last = 0;
        for offset in 0..=normal.bytes.len() as u32 {
            let at = normal.source_offset(text.as_bytes(), &document.tokens, offset);
            assert!(at as usize <= text.len() && at >= last, "{offset} of {text:?} leads to {at} after {last}");
            last = at;
        }
    }
}

#[test]
fn indentation_alone_never_changes_a_page_and_proof_is_symmetric() {
    let first = seed("indentation");
    for case in 0..cases(150, 5_000) {
        let tidy = copied_pages(&mut Random(first + case), 4, Care::Exact);
        let page = &tidy[0];
        let text = String::from_utf8_lossy(&page.bytes);
        let mut preserved = false;
        let mut other = String::new();
        for line in text.lines() {
            if !preserved {
                other.push_str(&" ".repeat(case as usize % 5));
            }
            other.push_str(line);
            other.push('\n');
            let opens = ["<pre", "<textarea", "<script", "<style"].iter().any(|tag| line.contains(tag));
            preserved = (preserved || opens)
                && !["</pre", "</textarea", "</script", "</style"].iter().any(|tag| line.contains(tag));
        }
        let (a, b) = (site(vec![page.clone()]), site(vec![SourceFile::new(page.path.clone(), other)]));
        let (there, back) = (prove(&a, &b, Strength::Dom), prove(&b, &a, Strength::Dom));
        assert!(there.pages[0].is_equal_at(Strength::Blanks) && there.equal, "seed {}: {there:?}", first + case);
        assert_eq!(there.pages[0].strength(), back.pages[0].strength());
    }
}

/// What the templates of the naive resolver are made of.
#[derive(Clone, Debug)]
enum Naive {
    Text(String),
    Output(usize),
    Block(String, Vec<Naive>),
    Inherited,
    /// A file's number, the values it is given by name, and whether it sees no others.
    Include(usize, Vec<(usize, usize)>, bool),
}

/// A file of a number in a root. Files of one number hide each other.
struct File {
    root: usize,
    number: usize,
    parent: Option<usize>,
    body: Vec<Naive>,
}

/// A random body whose includes only name files of greater numbers, so that nothing comes round.
fn body(random: &mut Random, depth: usize, partials: std::ops::Range<usize>, inside: bool) -> Vec<Naive> {
    (0..random.below(4))
        .map(|_| match random.below(7) {
            0 | 1 if depth < 3 => {
                Naive::Block(format!("b{}", random.below(5)), body(random, depth + 1, partials.clone(), true))
            }
            2 if inside => Naive::Inherited,
            3 if !partials.is_empty() => {
                let given = (0..random.below(3)).map(|_| (random.below(3), random.below(100))).collect();
                Naive::Include(partials.start + random.below(partials.len()), given, random.once_in(4))
            }
            4 => Naive::Output(random.below(3)),
            _ => Naive::Text(format!("<i>{}</i>", random.below(100))),
        })
        .collect()
}

fn arguments(given: &[(usize, usize)], only: bool) -> String {
    let bound: String = given.iter().map(|(name, value)| format!(" v{name}=\"x{value}\"")).collect();
    let with = if given.is_empty() { "" } else { " with" };
    format!("{with}{bound}{}", if only { " only" } else { "" })
}

fn write(nodes: &[Naive]) -> String {
    nodes
        .iter()
        .map(|node| match node {
            Naive::Text(text) => text.clone(),
            Naive::Output(name) => format!("{{{{ v{name} }}}}"),
            Naive::Block(name, inner) => format!("{{% block {name} %}}{}{{% endblock %}}", write(inner)),
            Naive::Inherited => "{{ super() }}".to_owned(),
            Naive::Include(file, given, only) => {
                format!("{{% include \"f{file}.html\"{} %}}", arguments(given, *only))
            }
        })
        .collect()
}

fn blocks<'a>(nodes: &'a [Naive], found: &mut Vec<(&'a str, &'a [Naive])>) {
    for node in nodes {
        if let Naive::Block(name, inner) = node {
            found.push((name, inner));
            blocks(inner, found);
        }
    }
}

/// The file that a number means, written in another file: in the first root
/// that has it; of a file's own number in the roots after its own.
fn named(files: &[File], from: usize, number: usize) -> usize {
    let after = if files[from].number == number { files[from].root + 1 } else { 0 };
    let all = files.iter().enumerate().filter(|(_, file)| file.number == number && file.root >= after);
    all.min_by_key(|(_, file)| file.root).expect("only files that are there are named").0
}

/// The names that includes have bound, the innermost last; `None` ends what is seen.
type Bound = Vec<Option<(usize, usize)>>;
type Definitions<'a> = HashMap<&'a str, Vec<(usize, &'a [Naive])>>;

/// Puts a file together the obvious way. Tells whether an output is left that
/// an include around it may have to do with.
fn naive(files: &[File], file: usize, bound: &Bound) -> (String, bool) {
    let mut chain = vec![file];
    while let Some(parent) = files[chain[chain.len() - 1]].parent {
        chain.push(named(files, chain[chain.len() - 1], parent));
    }
    let mut table: Definitions<'_> = HashMap::new();
    for &level in &chain {
        let mut found = Vec::new();
        blocks(&files[level].body, &mut found);
        // The last one in a file counts.
        let last: HashMap<&str, &[Naive]> = found.into_iter().collect();
        last.into_iter().for_each(|(name, inner)| table.entry(name).or_default().push((level, inner)));
    }
    let base = chain[chain.len() - 1];
    splice(files, &table, (base, &files[base].body), None, bound)
}

fn splice(
    files: &[File],
    table: &Definitions<'_>,
    (file, nodes): (usize, &[Naive]),
    current: Option<(&str, usize)>,
    bound: &Bound,
) -> (String, bool) {
    let (mut text, mut left) = (String::new(), false);
    for node in nodes {
        let (more, kept) = match (node, current) {
            (Naive::Text(text), _) => (text.clone(), false),
            (Naive::Output(name), _) => {
                let seen = bound.iter().rev().map_while(|binding| *binding);
                match seen.into_iter().find(|(known, _)| known == name) {
                    Some((_, value)) => (format!("x{value}"), false),
                    None => (format!("{{{{ v{name} }}}}"), true),
                }
            }
            (Naive::Include(number, given, only), _) => {
                let mut inner = bound.clone();
                inner.extend(only.then_some(None));
                inner.extend(given.iter().copied().map(Some));
                let (text, left) = naive(files, named(files, file, *number), &inner);
                // What cannot see names from outside is marked, if it prints any.
                match *only && left {
                    true => {
                        let said = arguments(given, true);
                        let said = if given.is_empty() { "with only" } else { said.trim() };
                        (format!("{{# {said} #}}{text}{{# end with #}}"), false)
                    }
                    false => (text, left && !only),
                }
            }
            (Naive::Block(name, _), _) => splice(files, table, table[name.as_str()][0], Some((name, 0)), bound),
            (Naive::Inherited, Some((name, level))) if level + 1 < table[name].len() => {
                splice(files, table, table[name][level + 1], Some((name, level + 1)), bound)
            }
            (Naive::Inherited, _) => (String::new(), false),
        };
        text += &more;
        left |= kept;
    }
    (text, left)
}

/// Whether a block can come to stand inside itself, which engines refuse.
fn nests_itself(files: &[File]) -> bool {
    fn holds(nodes: &[Naive], outer: &mut Vec<(usize, usize)>) {
        for node in nodes {
            if let Naive::Block(name, inner) = node {
                let number = |name: &str| name[1..].parse::<usize>().unwrap_or(0);
                let mut found = Vec::new();
                blocks(inner, &mut found);
                outer.extend(found.iter().map(|(within, _)| (number(name), number(within))));
                holds(inner, outer);
            }
        }
    }
    let mut pairs = Vec::new();
    files.iter().for_each(|file| holds(&file.body, &mut pairs));
    // Blocks may only hold blocks of a greater number.
    pairs.iter().any(|(outer, inner)| inner <= outer)
}

/// Chains of up to six levels over up to four roots, and partials.
fn random_files(random: &mut Random) -> (Vec<File>, usize) {
    let (templates, partials, roots) = (1 + random.below(6), random.below(4), 1 + random.below(4));
    let all = templates + partials;
    let mut files = Vec::new();
    for number in 0..all {
        let first = random.below(roots);
        let places: Vec<usize> = (0..roots).filter(|&root| root == first || random.once_in(4)).collect();
        for &root in &places {
            let hides = places.iter().any(|&other| other > root);
            let above = match number < templates {
                true if hides && random.once_in(2) => Some(number),
                true if number + 1 < templates && !random.once_in(5) => {
                    Some(number + 1 + random.below(2.min(templates - number - 1)))
                }
                _ => None,
            };
            let body = body(random, 0, templates.max(number + 1)..all, false);
            files.push(File { root, number, parent: above, body });
        }
    }
    (files, roots)
}

#[test]
fn flattening_agrees_with_a_naive_resolver() {
    let first = seed("resolver");
    let (mut tried, mut deepest) = (0, 0);
    for case in 0..cases(6_000, 200_000) {
        let mut random = Random(first + case);
        let (files, roots) = random_files(&mut random);
        if nests_itself(&files) {
            continue;
        }
        let path = |file: &File| format!("r{}/f{}.html", file.root, file.number);
        let sources = files.iter().map(|file| {
            let parent = file.parent.map(|parent| format!("{{% extends \"f{parent}.html\" %}}")).unwrap_or_default();
            SourceFile::new(path(file), parent + &write(&file.body))
        });
        let settings =
            Settings { roots: Some((0..roots).map(|root| format!("r{root}")).collect()), ..Settings::default() };
        let site = Site::read(sources.collect(), dialect::builtin(), &settings);
        let resolver = Resolver::new(&site);
        for (index, file) in files.iter().enumerate() {
            let id = site.find(&path(file)).expect("the file");
            let flat = resolver.flatten(id).expect("a page of a sane size");
            // A file without any construct is plain, and as it stands.
            let lone = site.get(id).dialect.forms.is_empty();
            let expected = if lone { write(&file.body) } else { naive(&files, index, &Vec::new()).0 };
            assert_eq!(String::from_utf8_lossy(&flat.bytes), expected, "seed {}: {}", first + case, path(file));
            deepest = deepest.max(resolver.chain(id).levels.len());
        }
        tried += 1;
    }
    assert!(tried > cases(1_500, 50_000) && deepest >= 6, "only {tried} sites were tried, {deepest} levels deep");
}
