//! What the proof takes for equal is rendered alike: random pairs of pages, made of what parsers and browsers treat in
//! ways of their own, are shown by a stand-in for a browser, with several values for their constructs.

use crate::common::browser::shown;
use crate::common::{Random, cases, seed};
use radicon::dialect::builtin;
use radicon::{Settings, Site, SourceFile, Strength, prove};

/// Elements with what is peculiar about them.
const TAGS: [&str; 46] = [
    "div",
    "p",
    "b",
    "a",
    "span",
    "ul",
    "li",
    "section",
    "table",
    "tr",
    "td",
    "form",
    "noscript",
    "template",
    "div hidden",
    "div style='display: inline'",
    "div style='white-space: pre'",
    "dialog",
    "dialog open",
    "datalist",
    "option",
    "select",
    "button",
    "pre",
    "textarea",
    "title",
    "svg",
    "g",
    "text",
    "svg xml:space=preserve",
    "object",
    "video",
    "script",
    "h1",
    "details",
    "summary",
    "table align=left",
    "tbody",
    "dl",
    "dt",
    "legend",
    "center",
    "body",
    "html",
    "head",
    "div popover",
];

/// Pieces that are no elements.
const PIECES: [&str; 14] = [
    "<br>",
    "<hr>",
    "<img>",
    "<input>",
    "<input type=hidden>",
    "<!-- c -->",
    "<meta name=m>",
    "<wbr>",
    "<link rel=l>",
    "&nbsp;",
    "&#32;",
    "<rp>",
    "</p>",
    "\u{c}",
];

/// What can stand among attributes.
const ATTRIBUTES: [&str; 10] = [
    "class=x",
    "class=\"y\"",
    "id=i",
    "{{ v }}",
    "{% if c %}checked{% else %}disabled{% endif %}",
    "{% if c %}hidden{% endif %}",
    "data-a='{{ v }}'",
    "xlink:href=#a",
    "href=#a",
    "title=\"a  b\"",
];

const BLANKS: [&str; 5] = ["", " ", "\n  ", "\n\n", "\t"];

/// A page with slots between its pieces, for white space.
fn pieces(random: &mut Random, depth: usize, out: &mut Vec<String>) {
    for _ in 0..1 + random.below(4) {
        match random.below(if depth > 3 { 6 } else { 12 }) {
            0..=2 => out.push(["x", "yy", "z."][random.below(3)].to_owned()),
            3 => out.push("{{ v }}".to_owned()),
            4 => out.push(PIECES[random.below(PIECES.len())].to_owned()),
            5 => out.push(format!("</{}>", TAGS[random.below(TAGS.len())].split(' ').next().expect("a name"))),
            6 => {
                out.push("{% if c %}".to_owned());
                pieces(random, depth + 1, out);
                if random.below(2) == 0 {
                    out.push("{% else %}".to_owned());
                    pieces(random, depth + 1, out);
                }
                out.push("{% endif %}".to_owned());
            }
            7 => {
                out.push("{% for a in b %}".to_owned());
                pieces(random, depth + 1, out);
                out.push("{% endfor %}".to_owned());
            }
            _ => {
                let tag = TAGS[random.below(TAGS.len())];
                let attributes: String = (0..random.below(5).saturating_sub(2))
                    .map(|_| format!(" {}", ATTRIBUTES[random.below(10)]))
                    .collect();
                out.push(format!("<{tag}{attributes}>"));
                pieces(random, depth + 1, out);
                if random.below(8) > 0 {
                    out.push(format!("</{}>", tag.split(' ').next().expect("a name")));
                }
            }
        }
    }
}

/// The same page, spelt otherwise: what a parser may not tell apart, and what it may.
fn respelt(random: &mut Random, piece: &str) -> String {
    match random.below(6) {
        0 => piece.replace("class=x", "class='x'").replace("<div", "<DIV"),
        1 if piece.starts_with('<') && piece.contains(' ') && !piece.contains(['\'', '"', '-', '{']) => {
            let inner = piece.trim_start_matches('<').trim_end_matches('>');
            let mut words: Vec<&str> = inner.split(' ').collect();
            let last = words.len() - 1;
            words.swap(1 + random.below(last), last);
            format!("<{}>", words.join(" "))
        }
        2 => piece
            .replace("checked", "CHECKED")
            .replace("{% if c %}checked{% else %}disabled", "{% if c %}disabled{% else %}checked"),
        3 => piece.replace("xlink:href", "href"),
        _ => piece.to_owned(),
    }
}

/// What an engine makes of a template, with values from a generator.
fn executed(template: &str, random: &mut Random) -> String {
    let values = ["", "v", " ", " v ", "v w"];
    let markup = ["<b>v</b>", "<div>v</div>", "v<br>", " <i> v</i>"];
    let condition = random.below(2) == 0;
    let (mut out, mut rest) = (String::new(), template);
    let mut in_tag = false;
    // For each open pair: whether what is in it is kept.
    let mut open = vec![true];
    while let Some(at) = rest.find(['{', '<', '>']) {
        let kept = open.iter().all(|kept| *kept);
        let keep = |out: &mut String, text: &str| {
            if kept {
                out.push_str(text);
            }
        };
        keep(&mut out, &rest[..at]);
        rest = &rest[at..];
        if let Some(after) = rest.strip_prefix("{{ v }}") {
            let choice = random.below(if in_tag || out.contains("<title") { 5 } else { 7 });
            keep(&mut out, values.get(choice).copied().unwrap_or_else(|| markup[random.below(4)]));
            rest = after;
        } else if let Some(after) = rest.strip_prefix("{% if c %}") {
            open.push(condition);
            rest = after;
        } else if let Some(after) = rest.strip_prefix("{% else %}") {
            let last = open.last_mut().expect("a pair");
            *last = !*last;
            rest = after;
        } else if let Some(after) = rest.strip_prefix("{% for a in b %}") {
            open.push(random.below(3) > 0);
            rest = after;
        } else if rest.starts_with("{%") {
            open.pop();
            rest = &rest[rest.find("%}").expect("an end") + 2..];
        } else {
            in_tag = rest.starts_with('<');
            keep(&mut out, &rest[..1]);
            rest = &rest[1..];
        }
    }
    out + rest
}

fn site(page: &str) -> Site {
    let dialects: Vec<_> = builtin().iter().filter(|dialect| dialect.name == "brace-percent").cloned().collect();
    Site::read(vec![SourceFile::new("page.html", page)], &dialects, &Settings::default())
}

#[test]
fn what_a_condition_splits_is_equal_for_no_parser() {
    // Within a form a parser ignores the second tag; where the condition fails it is the first.
    let page = |inner: &str| site(&format!("{{% if login %}}<form>{{% endif %}}{inner}<p>Ferries</p></form>"));
    let proof = prove(&page("<form>"), &page(""), Strength::Dom);
    assert!(!proof.equal, "{proof:?}");
}

#[test]
fn what_is_equal_is_rendered_alike() {
    let first = seed("what_is_equal_is_rendered_alike");
    let count = cases(20_000, 1_000_000);
    // All cores, each with its share.
    let threads = std::thread::available_parallelism().map_or(1, std::num::NonZero::get) as u64;
    let shares: Vec<_> = (0..threads)
        .map(|share| std::thread::spawn(move || pairs((first + share..first + count).step_by(threads as usize))))
        .collect();
    let mut equal = [0_u64; 3];
    for share in shares {
        let found = share.join().expect("what is equal is rendered alike");
        equal.iter_mut().zip(found).for_each(|(all, found)| *all += found);
    }
    println!("{count} pairs: {equal:?} equal at bytes, blanks, dom");
    assert!(equal.iter().all(|equal| *equal > count / 100), "too few are equal: {equal:?}");
}

/// How many pairs, by their seeds, are equal at each strength, if all of those are shown alike.
fn pairs(seeds: impl Iterator<Item = u64>) -> [u64; 3] {
    let mut equal = [0_u64; 3];
    for seed in seeds {
        let mut random = Random(seed);
        let mut page = Vec::new();
        pieces(&mut random, 0, &mut page);
        let blanks: Vec<&str> = page.iter().map(|_| BLANKS[random.below(3)]).collect();
        let (mut old, mut new) = (String::new(), String::new());
        let changes = 1 + random.below(3);
        for (piece, blank) in page.iter().zip(blanks) {
            old += piece;
            old += blank;
            new += &if random.below(12) == 0 { respelt(&mut random, piece) } else { piece.clone() };
            new += if random.below(8) < changes { BLANKS[random.below(5)] } else { blank };
        }
        let proof = prove(&site(&old), &site(&new), Strength::Dom);
        let Some(strength) = proof.pages.first().and_then(|page| page.strength()) else { continue };
        equal[strength as usize] += 1;
        for round in 0..4 {
            let [before, after] = [&old, &new].map(|page| shown(&executed(page, &mut Random(seed ^ round << 40))));
            assert_eq!(before, after, "seed {seed}, {strength:?}\n{old}\n-----\n{new}");
        }
    }
    equal
}
