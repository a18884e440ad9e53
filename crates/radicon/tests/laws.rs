//! Laws that hold for every input: the normal form, the proof, and flattening
//! against a naive resolver of its own.

mod common;

use std::collections::HashMap;

use common::site::{Care, copied_pages, site};
use common::{Random, cases, seed, soup};
use radicon::markup::Document;
use radicon::{Normal, Resolver, SourceFile, Strength, dialect, prove};

fn normal(source: &[u8]) -> Vec<u8> {
    Normal::of(source, &Document::read(source, &dialect::plain()).tokens).bytes
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
        let normal = Normal::of(text.as_bytes(), &document.tokens);
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
        assert!(there.pages[0].strength <= Some(Strength::Blanks) && there.equal, "seed {}: {there:?}", first + case);
        assert_eq!(there.pages[0].strength, back.pages[0].strength);
    }
}

/// A template of the naive resolver: text, blocks, includes.
#[derive(Clone, Debug)]
enum Naive {
    Text(String),
    Block(String, Vec<Naive>),
    Inherited,
    Include(usize),
}

struct File {
    parent: Option<usize>,
    body: Vec<Naive>,
}

/// A random body whose includes only name later files, so that nothing comes round.
fn body(random: &mut Random, depth: usize, partials: std::ops::Range<usize>, inside: bool) -> Vec<Naive> {
    (0..random.below(4))
        .map(|_| match random.below(6) {
            0 | 1 if depth < 3 => {
                Naive::Block(format!("b{}", random.below(5)), body(random, depth + 1, partials.clone(), true))
            }
            2 if inside => Naive::Inherited,
            3 if !partials.is_empty() => Naive::Include(partials.start + random.below(partials.len())),
            _ => Naive::Text(format!("<i>{}</i>", random.below(100))),
        })
        .collect()
}

fn write(nodes: &[Naive]) -> String {
    nodes
        .iter()
        .map(|node| match node {
            Naive::Text(text) => text.clone(),
            Naive::Block(name, inner) => format!("{{% block {name} %}}{}{{% endblock %}}", write(inner)),
            Naive::Inherited => "{{ super() }}".to_owned(),
            Naive::Include(file) => format!("{{% include \"f{file}.html\" %}}"),
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

/// Puts a file together the obvious way.
fn naive(files: &[File], file: usize) -> String {
    let mut chain = vec![file];
    while let Some(parent) = files[chain[chain.len() - 1]].parent {
        chain.push(parent);
    }
    let mut table: HashMap<&str, Vec<&[Naive]>> = HashMap::new();
    for &level in &chain {
        let mut found = Vec::new();
        blocks(&files[level].body, &mut found);
        // The last one in a file counts.
        let last: HashMap<&str, &[Naive]> = found.into_iter().collect();
        last.into_iter().for_each(|(name, inner)| table.entry(name).or_default().push(inner));
    }
    splice(files, &table, &files[chain[chain.len() - 1]].body, None)
}

fn splice(
    files: &[File],
    table: &HashMap<&str, Vec<&[Naive]>>,
    nodes: &[Naive],
    current: Option<(&str, usize)>,
) -> String {
    nodes
        .iter()
        .map(|node| match (node, current) {
            (Naive::Text(text), _) => text.clone(),
            (Naive::Include(file), _) => naive(files, *file),
            (Naive::Block(name, _), _) => splice(files, table, table[name.as_str()][0], Some((name, 0))),
            (Naive::Inherited, Some((name, level))) if level + 1 < table[name].len() => {
                splice(files, table, table[name][level + 1], Some((name, level + 1)))
            }
            (Naive::Inherited, _) => String::new(),
        })
        .collect()
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

#[test]
fn flattening_agrees_with_a_naive_resolver() {
    let first = seed("resolver");
    let mut tried = 0;
    for case in 0..cases(6_000, 300_000) {
        let mut random = Random(first + case);
        let (templates, partials) = (1 + random.below(5), random.below(3));
        let all = templates + partials;
        let files: Vec<File> = (0..all)
            .map(|file| File {
                parent: (file > 0 && file < templates).then(|| random.below(file)),
                body: body(&mut random, 0, file.max(templates - 1) + 1..all, false),
            })
            .collect();
        if nests_itself(&files) {
            continue;
        }
        let sources = files.iter().enumerate().map(|(index, file)| {
            let parent = file.parent.map(|parent| format!("{{% extends \"f{parent}.html\" %}}")).unwrap_or_default();
            SourceFile::new(format!("f{index}.html"), parent + &write(&file.body))
        });
        let site = site(sources.collect());
        for index in 0..templates {
            // A file without any construct is plain, and as it stands.
            let id = site.find(&format!("f{index}.html")).expect("the file");
            let flat = Resolver::new(&site).flatten(id).expect("a page of a sane size");
            let lone = site.get(id).dialect.forms.is_empty();
            let expected = if lone { write(&files[index].body) } else { naive(&files, index) };
            assert_eq!(String::from_utf8_lossy(&flat.bytes), expected, "seed {}: f{index}.html", first + case);
        }
        tried += 1;
    }
    assert!(tried > cases(1_500, 75_000), "only {tried} sites were tried");
}
