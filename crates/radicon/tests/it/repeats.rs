//! Repeats: copies that were planted into random sites are found, and nothing else.

use std::collections::BTreeSet;

use crate::common::{Random, cases, seed};
use radicon::repeats::{AdviceKind, Normalise, RepeatGroup, RepeatKind, RepeatOptions, Repeats};
use radicon::{Settings, Site, SourceFile, dialect, repeats};

fn site(files: Vec<SourceFile>) -> Site {
    Site::read(files, dialect::builtin(), &Settings::default())
}

/// A word that stands nowhere else.
fn word(random: &mut Random) -> String {
    let letters = b"abcdefghijklmnopqrstuvwxyz";
    (0..7).map(|_| char::from(letters[random.below(letters.len())])).collect()
}

/// A line of markup that is like no other one.
fn unique(random: &mut Random) -> String {
    let (a, b, c) = (word(random), word(random), word(random));
    match random.below(4) {
        0 => format!("<p class=\"{a}\">{b} <i>{c}</i></p>"),
        1 => format!("<h2 id=\"{a}\">{b}</h2>"),
        2 => format!("<ul><li>{a}</li><li><a href=\"/{b}\">{c}</a></li></ul>"),
        _ => format!("<div title=\"{a}\"><b>{b}</b>{c}</div>"),
    }
}

/// A piece of so many lines; each line is an element.
fn piece(random: &mut Random, lines: usize) -> Vec<String> {
    (0..lines).map(|_| unique(random)).collect()
}

fn wrap(name: &str, lines: &[String]) -> String {
    format!("<section class=\"{name}\">\n{}\n</section>", lines.join("\n"))
}

/// A file with pieces at random places between lines of its own.
fn file(random: &mut Random, path: String, pieces: &[String]) -> (SourceFile, Vec<(usize, usize)>) {
    let mut text = String::from("<!DOCTYPE html>\n<html><body>\n");
    let mut places = Vec::new();
    for piece in pieces {
        for _ in 0..1 + random.below(3) {
            text += &(unique(random) + "\n");
        }
        places.push((text.len(), text.len() + piece.len()));
        text += &(piece.clone() + "\n");
    }
    text += &(unique(random) + "\n</body></html>\n");
    (SourceFile::new(path, text), places)
}

/// The copies of a group as file and place.
fn places(group: &RepeatGroup) -> BTreeSet<(String, u32, u32)> {
    group.copies.iter().map(|copy| (copy.file.to_string(), copy.byte_start, copy.byte_end)).collect()
}

/// Plants a piece, changed by `vary` for each of its copies, into files of a site
/// with other pieces. Gives the places and what was found.
fn planted(
    random: &mut Random,
    lines: usize,
    copies: usize,
    vary: impl Fn(&mut Random, usize, &[String]) -> Vec<String>,
) -> (BTreeSet<(String, u32, u32)>, Repeats) {
    let lines = piece(random, lines);
    let mut files = Vec::new();
    let mut expected = BTreeSet::new();
    for number in 0..copies + 3 {
        let mut pieces = vec![wrap(&word(random), &piece(random, 4))];
        if number < copies {
            let copy = vary(random, number, &lines);
            pieces.insert(random.below(2), wrap("planted", &copy));
        }
        // Files of three folders, one of which is written in another dialect.
        let path = ["a/N.html", "b/N.html", "c/d/N.pen"][number % 3].replace('N', &number.to_string());
        let at = pieces.iter().position(|piece| piece.contains("planted"));
        let (file, places) = file(random, path.clone(), &pieces);
        expected.extend(at.map(|at| (path, places[at].0 as u32, places[at].1 as u32)));
        files.push(file);
    }
    (expected, repeats(&Site::read(files, &dialects(), &Settings::default()), &RepeatOptions::default()))
}

/// The built-in dialects, and a made-up one for `.pen` files.
fn dialects() -> Vec<std::sync::Arc<dialect::Dialect>> {
    let text = "name = 'pennant'\nfiles = ['**/*.pen']\n[forms]\ninclude = '^hoist(<target>)'\noutput = '^{ <expr> }'\ncontrol = { open = '^if(<expr>)', close = '^lower' }\n";
    let mut dialects = vec![std::sync::Arc::new(dialect::Dialect::parse(text).expect("a dialect"))];
    dialects.extend(dialect::builtin().iter().cloned());
    dialects
}

/// How many planted copies were found, of how many, and how many others were.
#[derive(Default)]
struct Tally {
    planted: usize,
    found: usize,
    others: usize,
}

impl Tally {
    fn count(&mut self, expected: &BTreeSet<(String, u32, u32)>, found: &Repeats) {
        let best = found.groups.iter().map(places).max_by_key(|group| group.intersection(expected).count());
        let hit = best.map_or(0, |group| group.intersection(expected).count());
        let all: usize = found.groups.iter().map(|group| group.copies.len()).sum();
        self.planted += expected.len();
        self.found += hit;
        self.others += all - hit;
    }

    #[track_caller]
    fn check(&self, what: &str, recall: f64, precision: f64) {
        let found = self.found as f64 / self.planted as f64;
        let right = self.found as f64 / (self.found + self.others).max(1) as f64;
        println!("{what}: recall {:.2} %, precision {:.2} % of {} copies", found * 100.0, right * 100.0, self.planted);
        assert!(found >= recall && right >= precision, "{what}: recall {found}, precision {right}");
    }
}

/// Changes some of the lines of a piece: another word, another attribute, a line less, a line more.
fn change(random: &mut Random, lines: &[String], changes: usize) -> Vec<String> {
    let mut out = lines.to_vec();
    for _ in 0..changes {
        let at = random.below(out.len());
        match random.below(4) {
            0 => out[at] = unique(random),
            1 => out[at] = out[at].replacen('>', &format!(" lang=\"{}\">", word(random)), 1),
            2 if out.len() > 3 => drop(out.remove(at)),
            _ => out.insert(at, unique(random)),
        }
    }
    out
}

#[test]
fn exact_copies_are_all_found_and_nothing_else() {
    let first = seed("exact copies");
    let mut tally = Tally::default();
    for case in 0..cases(200, 4_000) {
        let mut random = Random(first + case);
        let copies = 3 + random.below(6);
        let (expected, found) = planted(&mut random, 10, copies, |_, _, lines| lines.to_vec());
        assert!(found.groups.iter().all(|group| group.kind == RepeatKind::Same), "seed {}", first + case);
        tally.count(&expected, &found);
    }
    tally.check("exact copies", 1.0, 1.0);
}

#[test]
fn exact_copies_that_are_written_otherwise_are_the_same() {
    let first = seed("written otherwise");
    let mut tally = Tally::default();
    for case in 0..cases(200, 2_000) {
        let (expected, found) = planted(&mut Random(first + case), 10, 5, |random, _, lines| {
            let spell = |line: &String| match random.below(5) {
                0 => line.replace("<p class=", "<P  CLASS="),
                1 => line.replace("\"", "'"),
                2 => line.replace("<li>", "\n  <li>"),
                3 => line.replacen(">a", ">&#97;", 1),
                _ => format!("\n\t{line}"),
            };
            lines.iter().map(spell).collect()
        });
        assert!(found.groups.iter().all(|group| group.kind == RepeatKind::Same), "seed {}", first + case);
        tally.count(&expected, &found);
    }
    tally.check("copies written otherwise", 1.0, 1.0);
}

#[test]
fn copies_in_two_dialects_are_all_found() {
    let first = seed("two dialects");
    let mut tally = Tally::default();
    for case in 0..cases(200, 2_000) {
        let (expected, found) = planted(&mut Random(first + case), 8, 6, |_, number, lines| {
            let forms = match number % 3 {
                2 => ["^{ N }", "^hoist(N.html)", "^if(N)", "^lower"],
                _ => ["{{ N }}", "{% include 'N.html' %}", "{% if N %}", "{% endif %}"],
            };
            // Every second line gets constructs, which all copies name alike.
            let written = lines.iter().enumerate().map(|(at, line)| {
                let form = |index: usize| forms[index].replace('N', &format!("n{at}"));
                match at % 4 {
                    0 => format!("{}{line}", form(0)),
                    1 => format!("{line}{}", form(1)),
                    2 => format!("{}{line}{}", form(2), form(3)),
                    _ => line.clone(),
                }
            });
            written.collect()
        });
        assert!(found.groups.iter().all(|group| group.kind == RepeatKind::Same), "seed {}", first + case);
        tally.count(&expected, &found);
    }
    tally.check("exact copies in two dialects", 1.0, 1.0);
}

#[test]
fn near_copies_are_found() {
    let first = seed("near copies");
    for (changes, lines, recall, precision) in [(1, 10, 0.99, 0.99), (2, 10, 0.95, 0.95), (3, 12, 0.95, 0.95)] {
        let mut tally = Tally::default();
        for case in 0..cases(200, 4_000) {
            // The first copies stay as they are, so that there is something to differ from.
            let (expected, found) = planted(&mut Random(first + case), lines, 6, |random, number, lines| {
                change(random, lines, if number < 2 { 0 } else { changes })
            });
            tally.count(&expected, &found);
        }
        tally.check(&format!("near copies with {changes} of {lines} lines changed"), recall, precision);
    }
}

#[test]
fn copies_that_were_left_behind_are_marked() {
    let first = seed("drift");
    let (mut marked, mut missed, mut wrong) = (0, 0, 0);
    for case in 0..cases(200, 4_000) {
        let behind = Random(first + case).below(8);
        let (expected, found) =
            planted(&mut Random(first + case), 10, 8, |random, number, lines| match number == behind {
                true => change(random, lines, 1),
                false => lines.to_vec(),
            });
        let file =
            expected.iter().find(|(file, ..)| file.contains(&format!("/{behind}."))).map(|(file, ..)| file.clone());
        let all: Vec<_> = found.groups.iter().flat_map(|group| &group.drift).collect();
        match all.iter().any(|drift| Some(&drift.file) == file.as_ref()) {
            true => marked += 1,
            false => missed += 1,
        }
        wrong += all.iter().filter(|drift| Some(&drift.file) != file.as_ref()).count();
    }
    println!("drift: {marked} marked, {missed} missed, {wrong} marked falsely");
    assert_eq!((missed, wrong), (0, 0));
}

#[test]
fn what_a_copy_lacks_is_named() {
    let menu = |items: &[&str]| {
        let items: String =
            items.iter().map(|item| format!("<li><a href=\"/{item}.html\">{item} sailings</a></li>\n")).collect();
        format!("<nav class=\"main\"><p>Seven harbours, every day, all year</p><ul>\n{items}</ul></nav>")
    };
    let files = (0..6).map(|number| {
        let items: &[&str] = if number == 4 { &["summer", "night"] } else { &["summer", "winter", "night"] };
        SourceFile::new(format!("{number}.html"), format!("<body><h1>{number}</h1>{}</body>", menu(items)))
    });
    let found = repeats(&site(files.collect()), &RepeatOptions::default());
    let group = &found.groups[0];
    assert_eq!((group.kind, group.copies.len(), group.drift.len()), (RepeatKind::Alike, 6, 1), "{group:?}");
    assert_eq!(group.drift[0].file, "4.html");
    let winter = "<li><a href=\"/winter.html\">winter sailings</a></li>";
    assert_eq!(group.drift[0].difference, format!("`{winter}` missing"));
    let variants = group.variants();
    assert_eq!((variants.len(), &variants[0].copies[..]), (1, &[4][..]));
    let [line] = &variants[0].lines[..] else { panic!("{variants:?}") };
    assert_eq!((line.usual[0].text.as_str(), line.usual[0].differs, line.here.len()), (winter, true, 0));
}

#[test]
fn what_most_copies_have_is_the_usual_even_if_another_is_greater() {
    let footer = |telephone: &str, more: &str| {
        format!(
            "<footer class=\"site\"><section><h2>Talk to us</h2><p>Quay office, Old Pier, Merrin Sound</p>\
             <p>Telephone <b>{telephone}</b>, daily 7 to 19</p></section>{more}<section><h2>Good to know</h2><ul>\
             <li>Getting on board</li><li>Lost property</li><li>Groups and schools</li></ul></section></footer>"
        )
    };
    let files = (0..42).map(|number| {
        let footer = match number {
            5 => footer("553 001", ""),
            9 => footer(
                "553 777",
                &format!("<address>{}</address>", "The night desk keeps the keys of lockers. ".repeat(6)),
            ),
            _ => footer("553 100", ""),
        };
        SourceFile::new(format!("{number:02}.html"), format!("<body><h1>{number}</h1>{footer}</body>"))
    });
    let found = repeats(&site(files.collect()), &RepeatOptions::default());
    let group = &found.groups[0];
    assert_eq!((group.kind, group.copies.len()), (RepeatKind::Alike, 42), "{group:?}");
    let behind: Vec<&str> = group.drift.iter().map(|drift| drift.file.as_str()).collect();
    assert_eq!(behind, ["05.html", "09.html"]);
    assert!(group.gaps.iter().any(|gap| gap.usual == "553 100" && gap.others == 2), "{:?}", group.gaps);
}

#[test]
fn a_mark_that_wanders_is_no_drift() {
    let page = |current: usize| {
        let item = |number: usize| {
            let mark = if number == current { " aria-current=\"page\"" } else { "" };
            format!("<li><a href=\"/{number}.html\"{mark}>Page number {number}</a></li>\n")
        };
        let items: String = (0..8).map(item).collect();
        SourceFile::new(
            format!("{current}.html"),
            format!("<body><h1>{current}</h1><nav><ul>\n{items}</ul></nav></body>"),
        )
    };
    let found = repeats(&site((0..8).map(page).collect()), &RepeatOptions::default());
    assert_eq!((found.groups[0].copies.len(), found.groups[0].drift.len()), (8, 0), "{:?}", found.groups[0].drift);
}

#[test]
fn copies_in_other_dialects_are_the_same() {
    let frame = |output: &str, include: &str| {
        format!(
            "<nav class=\"main\">\n<p>Seven harbours, every day of the year</p><b>{output}</b>\n<ul><li>Fares</li><li>Boats</li></ul>{include}</nav>"
        )
    };
    let files = vec![
        SourceFile::new(
            "a.html",
            format!("{{% if x %}}{{% endif %}}<i>1</i>{}", frame("{{ today }}", "{% include 'part.html' %}")),
        ),
        SourceFile::new(
            "b.html",
            format!("{{% set y = 2 %}}<i>2</i>{}", frame("{{today}}", "{% include \"part.html\" %}")),
        ),
        SourceFile::new("c.pen", format!("^if(x)^lower<i>3</i>{}", frame("^{ today }", "^hoist(part.html)"))),
        SourceFile::new("part.html", "<hr>"),
    ];
    let site = Site::read(files, &dialects(), &Settings::default());
    let found = repeats(&site, &RepeatOptions::default());
    assert_eq!(
        (found.groups.len(), found.groups[0].copies.len(), found.groups[0].kind),
        (1, 3, RepeatKind::Same),
        "{found:?}"
    );
    let normalise = Normalise { constructs: false, ..Normalise::default() };
    let strict = repeats(&site, &RepeatOptions { normalise, similarity: None, ..RepeatOptions::default() });
    assert!(strict.groups.iter().all(|group| group.copies.len() < 3), "{strict:?}");
}

#[test]
fn each_normalisation_can_be_switched_off() {
    let text =
        |list: &str| format!("<section><h2>Boats of the line</h2>{list}<p>They carry people and sheep</p></section>");
    type Off = fn(&mut Normalise);
    let cases: [(&str, &str, Off); 6] = [
        ("<b>one  two</b>", "<b>one two</b>", |n| n.blanks = false),
        ("<b id=x class=y>a</b>", "<b class=y id=x>a</b>", |n| n.attributes = false),
        ("<b>a</b>", "<B>a</B>", |n| n.case = false),
        ("<b>a &amp; b</b>", "<b>a &#38; b</b>", |n| n.references = false),
        ("<a href=\"x.html\">a</a>", "<a href=\"./x.html\">a</a>", |n| n.urls = false),
        ("<b>{{ x }}</b>{% if y %}{% endif %}", "<b>{{x}}</b>{% if y %}{% endif %}", |n| n.constructs = false),
    ];
    for (one, other, off) in cases {
        let copies = [one, other, one, other].into_iter().enumerate();
        let files = copies
            .map(|(number, list)| SourceFile::new(format!("{number}.html"), format!("<i>{number}</i>{}", text(list))));
        let site = site(files.collect());
        let mut options = RepeatOptions { similarity: None, ..RepeatOptions::default() };
        let most =
            |options: &RepeatOptions| repeats(&site, options).groups.iter().map(|group| group.copies.len()).max();
        assert_eq!(most(&options), Some(4), "{one} and {other}");
        off(&mut options.normalise);
        let whole = repeats(&site, &options)
            .groups
            .into_iter()
            .filter(|group| group.weight.bytes > 90 && group.copies.len() > 3)
            .count();
        assert_eq!(whole, 0, "{one} and {other}");
    }
}

#[test]
fn advice_says_what_to_do() {
    let piece = "<div class=\"card\"><h3>Old Pier</h3><p>The oldest harbour of the line, with a crane</p><a href=\"/old\">More</a></div>";
    let list = "<li><b>Boat</b> carries people and bicycles, sheep on Sundays, all year round</li>";
    let page = |number: usize, inside: &str| {
        SourceFile::new(
            format!("{number}.html"),
            format!("<html><body><h1>{number}</h1>{inside}<p>{number}</p></body></html>"),
        )
    };
    let advice = |files: Vec<SourceFile>| repeats(&site(files), &RepeatOptions::default()).groups[0].advice.clone();
    assert_eq!(advice((0..4).map(|number| page(number, piece)).collect()).kind, AdviceKind::Layout);
    assert_eq!(advice(vec![page(0, &list.repeat(6))]).kind, AdviceKind::Loop);
    let some = (0..12).map(|number| page(number, if number % 4 == 0 { piece } else { "" }));
    assert_eq!(advice(some.collect()).kind, AdviceKind::Partial);
    let mut files: Vec<SourceFile> =
        (0..4).map(|number| page(number, &format!("{{% if x %}}{{% endif %}}{piece}"))).collect();
    files.push(SourceFile::new("card.html", format!("{piece}{{# kept #}}")));
    files.push(SourceFile::new("last.html", "{% include 'card.html' %}"));
    let found = advice(files);
    assert_eq!((found.kind, found.file.as_deref()), (AdviceKind::Include, Some("card.html")));
}

#[test]
fn neither_threads_nor_order_nor_other_files_change_what_is_found() {
    let mut random = Random(seed("order"));
    let lines = piece(&mut random, 8);
    let mut files: Vec<SourceFile> = (0..12)
        .map(|number| {
            let copy = change(&mut random, &lines, number % 3);
            file(&mut random, format!("{number}.html"), &[wrap("planted", &copy)]).0
        })
        .collect();
    let shown = |files: &[SourceFile]| {
        serde_json::to_string(&repeats(&site(files.to_vec()), &RepeatOptions::default())).expect("JSON")
    };
    let first = shown(&files);
    files.reverse();
    for threads in [1, 2, 5] {
        let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build().expect("a pool");
        assert_eq!(pool.install(|| shown(&files)), first, "{threads} threads");
    }
    let ids = |files: &[SourceFile]| {
        repeats(&site(files.to_vec()), &RepeatOptions::default())
            .groups
            .into_iter()
            .map(|group| group.id)
            .collect::<Vec<_>>()
    };
    let before = ids(&files);
    files.push(SourceFile::new("unrelated.html", unique(&mut random)));
    assert_eq!(ids(&files), before);
}

/// The pattern of a group with a copy's contents in its gaps.
fn filled(group: &RepeatGroup, copy: usize) -> String {
    let mut text = group.pattern.clone();
    for (gap, value) in group.gaps.iter().zip(&*group.copies[copy].gaps) {
        text = text.replacen(&format!("⟨{}⟩", gap.number), value, 1);
    }
    squeezed(&text)
}

/// A text without the white space that differs from copy to copy.
fn squeezed(text: &str) -> String {
    text.split_whitespace().collect::<String>()
}

#[test]
fn a_pattern_with_its_gaps_filled_is_each_copy() {
    let first = seed("patterns");
    let (mut groups, mut gaps) = (0, 0);
    for case in 0..cases(150, 3_000) {
        let mut random = Random(first + case);
        let lines = piece(&mut random, 9);
        let files: Vec<SourceFile> = (0..6)
            .map(|number| {
                let changes = random.below(4);
                let copy = wrap("planted", &change(&mut random, &lines, changes));
                file(&mut random, format!("{number}.html"), &[copy]).0
            })
            .collect();
        let found = repeats(&site(files.clone()), &RepeatOptions::default());
        for group in found.groups.iter().filter(|group| group.kind == RepeatKind::Alike) {
            for (index, copy) in group.copies.iter().enumerate() {
                let source = files.iter().find(|file| *file.path == *copy.file).expect("the file");
                let text = String::from_utf8_lossy(&source.bytes[copy.byte_start as usize..copy.byte_end as usize]);
                assert_eq!(filled(group, index), squeezed(&text), "seed {}: {}", first + case, group.pattern);
            }
            groups += 1;
            gaps += group.gaps.len();
        }
    }
    assert!(groups as u64 > cases(80, 1_600) && gaps > groups, "{groups} groups, {gaps} gaps");
}

/// Every maximal run of siblings by trying all: its length in nodes, and where it stands.
fn all_runs(files: &[Vec<usize>]) -> BTreeSet<Vec<(usize, usize, usize)>> {
    let mut found = BTreeSet::new();
    for list in files {
        for start in 0..list.len() {
            for end in start + 1..=list.len() {
                let run = &list[start..end];
                let places: Vec<(usize, usize, usize)> = files
                    .iter()
                    .enumerate()
                    .flat_map(|(other, list)| {
                        let at =
                            (0..list.len().saturating_sub(run.len() - 1)).filter(|&at| list[at..].starts_with(run));
                        at.map(move |at| (other, at, run.len())).collect::<Vec<_>>()
                    })
                    .collect();
                if places.len() < 2 {
                    continue;
                }
                let before: BTreeSet<Option<usize>> =
                    places.iter().map(|&(file, at, _)| at.checked_sub(1).map(|at| files[file][at])).collect();
                let after: BTreeSet<Option<usize>> =
                    places.iter().map(|&(file, at, length)| files[file].get(at + length).copied()).collect();
                // It can be made longer on neither side without losing a place.
                let edge = |side: &BTreeSet<Option<usize>>| side.len() > 1 || side.contains(&None);
                if edge(&before) && edge(&after) {
                    found.insert(places);
                }
            }
        }
    }
    found
}

/// Of runs that do not overlap all are told; whatever is told is a maximal run.
#[test]
fn the_runs_that_are_told_are_maximal() {
    let first = seed("runs");
    let mut told = 0;
    for case in 0..cases(400, 10_000) {
        let mut random = Random(first + case);
        let items: Vec<String> = (0..6)
            .map(|_| {
                format!(
                    "<p class=\"{}\"><b>{}</b><i>{}</i></p>",
                    word(&mut random),
                    word(&mut random),
                    word(&mut random)
                )
            })
            .collect();
        let lists: Vec<Vec<usize>> = (0..3)
            .map(|_| {
                let mut list: Vec<usize> = (0..2 + random.below(5)).map(|_| random.below(items.len())).collect();
                // Loops are told otherwise.
                list.dedup();
                list
            })
            .collect();
        let files = lists.iter().enumerate().map(|(number, list)| {
            SourceFile::new(format!("{number}.html"), list.iter().map(|&item| items[item].as_str()).collect::<String>())
        });
        let options =
            RepeatOptions { min_saving: Some(1), min_bytes: 10, similarity: None, ..RepeatOptions::default() };
        let found = repeats(&site(files.collect()), &options);
        let length = |item: usize| items[item].len();
        let known = all_runs(&lists);
        for group in &found.groups {
            // The places by item instead of by byte.
            let places = group.copies.iter().map(|copy| {
                let file: usize = copy.file.trim_end_matches(".html").parse().expect("a number");
                let (mut at, mut start) = (0, 0);
                while at < copy.byte_start as usize {
                    at += length(lists[file][start]);
                    start += 1;
                }
                let mut end = start;
                while at < copy.byte_end as usize {
                    at += length(lists[file][end]);
                    end += 1;
                }
                (file, start, end - start)
            });
            let places: BTreeSet<(usize, usize, usize)> = places.collect();
            let is_known = known.iter().any(|run| places.iter().all(|place| run.contains(place)));
            assert!(is_known, "seed {}: {places:?} in {lists:?}", first + case);
            told += 1;
        }
        // What stands twice in a row of its own is always told.
        let twice = lists.iter().enumerate().any(|(at, list)| list.len() > 1 && lists[..at].contains(list));
        assert!(!twice || !found.groups.is_empty(), "seed {}: {lists:?}", first + case);
    }
    assert!(told as u64 > cases(300, 8_000), "only {told} groups");
}

#[test]
fn filters_and_limits_leave_out_what_they_say() {
    let piece = |number: usize| {
        format!("<div class=\"card\"><h3>Pier {number}</h3><p>A harbour of the line, with a crane</p></div>")
    };
    let page = |path: &str, pieces: &[usize]| {
        let inside: String = pieces.iter().map(|&number| format!("<h2>{path}{number}</h2>{}", piece(number))).collect();
        SourceFile::new(path, format!("<body>{inside}</body>"))
    };
    let files = vec![
        page("a/1.html", &[1, 2]),
        page("a/2.html", &[1]),
        page("b/1.html", &[2, 3]),
        page("b/2.html", &[2, 3]),
        page("b/3.html", &[3]),
    ];
    let site = site(files);
    let exact = RepeatOptions { similarity: None, min_saving: Some(10), ..RepeatOptions::default() };
    let found = repeats(&site, &exact);
    let copies = |found: &Repeats| found.groups.iter().map(|group| group.copies.len()).collect::<Vec<_>>();
    assert_eq!((copies(&found), found.skipped.pairs), (vec![3, 3], 1));
    let fits = |filter: radicon::repeats::RepeatFilter| found.groups.iter().filter(|group| filter.fits(group)).count();
    let folder = |name: &str| radicon::repeats::RepeatFilter { folders: vec![name.into()], ..Default::default() };
    assert_eq!((fits(folder("a")), fits(folder("b/")), fits(folder("c"))), (1, 2, 0));
    assert_eq!(fits(radicon::repeats::RepeatFilter { kind: Some(RepeatKind::Alike), ..Default::default() }), 0);
    assert_eq!(fits(radicon::repeats::RepeatFilter { dialect: Some("plain".into()), ..Default::default() }), 2);
    let dear = repeats(&site, &RepeatOptions { min_saving: Some(40), ..exact.clone() });
    assert!(dear.groups.len() == 2 && dear.skipped.pairs == 0, "{dear:?}");
    let long = repeats(&site, &RepeatOptions { min_bytes: 5_000, ..exact.clone() });
    assert!(long.groups.is_empty() && long.share == 0.0);
    let many = repeats(&site, &RepeatOptions { min_nodes: 50, ..exact });
    assert!(many.groups.is_empty());
    let summary = found.summary();
    assert_eq!((summary.groups, summary.greatest.len(), summary.greatest[0].copies), (2, 2, 3));
    assert!(summary.share > 0.5 && summary.share < 1.0, "{}", summary.share);
}

#[test]
fn odd_sites_have_repeats_too() {
    // Nothing, empty files, what is no text, and twenty thousand equal items.
    assert!(repeats(&site(Vec::new()), &RepeatOptions::default()).groups.is_empty());
    let files = vec![
        SourceFile::new("a.html", ""),
        SourceFile::new("b.html", b"\x89PNG\0\0\0".to_vec()),
        SourceFile::new("c.html", "x"),
    ];
    assert!(repeats(&site(files), &RepeatOptions::default()).groups.is_empty());
    let item = "<li class=\"row\"><b>Tide</b> <i>high at seven in the morning, low at one</i></li>\n";
    let long = SourceFile::new("a.html", format!("<ul>\n{}</ul>", item.repeat(20_000)));
    let found = repeats(&site(vec![long]), &RepeatOptions::default());
    assert_eq!(
        (found.groups.len(), found.groups[0].copies.len(), found.groups[0].advice.kind),
        (1, 20_000, AdviceKind::Loop)
    );
    let deep = |end: &str| {
        SourceFile::new(format!("{end}.html"), format!("{}{end}{}", "<div>".repeat(2_000), "</div>".repeat(2_000)))
    };
    let found = repeats(&site(vec![deep("a"), deep("b"), deep("c")]), &RepeatOptions::default());
    assert!(found.groups.len() < 3, "{}", found.groups.len());
}

#[test]
fn a_group_that_saves_nothing_is_no_group() {
    let page = |number: usize| {
        SourceFile::new(
            format!("{number}.html"),
            format!(
                "<ul><li>{number}</li></ul><p class=\"a\">Boats and sheep and harbours, all of them in one long line of words</p><p>x</p>"
            ),
        )
    };
    let site = Site::read((0..6).map(page).collect(), &[], &Settings::default());
    for min_saving in [0, 1] {
        let options =
            RepeatOptions { min_saving: Some(min_saving), min_bytes: 0, min_nodes: 0, ..RepeatOptions::default() };
        let found = repeats(&site, &options);
        assert!(found.groups.iter().all(|group| group.copies.len() > 1 && group.saving.bytes > 0));
        assert!(found.groups.iter().any(|group| group.copies.len() == 6));
    }
}
