//! Proposals of several levels: hidden hierarchies are found again from flat pages.

use crate::common::{Random, cases, seed};
use crate::made::hidden::{Shape, generate};
use radicon::propose::{Goal, ProposedLayout};
use radicon::site::Role;
use radicon::{Proposal, ProposeOptions, Settings, Site, SourceFile, Strength, dialect, propose, prove};

fn read(files: Vec<SourceFile>) -> Site {
    Site::read(files, dialect::builtin(), &Settings::default())
}

/// The site with a proposal adopted.
fn adopted(old: &Site, proposal: &Proposal) -> Site {
    let changed = |path: &str| proposal.files.iter().any(|file| file.path == path);
    let kept = old.templates.iter().filter(|template| !changed(&template.path));
    let files = kept
        .map(|template| SourceFile::new(template.path.clone(), template.source.to_vec()))
        .chain(proposal.files.iter().map(|file| SourceFile::new(file.path.clone(), file.bytes.clone())));
    read(files.collect())
}

fn depth(proposal: &Proposal) -> usize {
    let around = |path: &String| proposal.layouts.iter().find(|layout| layout.path == *path)?.extends.clone();
    let of = |path: &String| std::iter::successors(Some(path.clone()), around).count();
    proposal.layouts.iter().map(|layout| of(&layout.path)).max().unwrap_or(0)
}

#[test]
fn hidden_hierarchies_are_found_again() {
    let first = seed("hidden hierarchies");
    let (mut ratios, mut small, mut levels, mut partials, mut hidden_partials) = (Vec::new(), Vec::new(), 0, 0, 0);
    let all = cases(30, 200);
    for case in 0..all {
        let mut random = Random(first + case);
        let shape = Shape::random(&mut random, 80);
        let hidden = generate(&mut random, shape);
        let truth: usize = hidden.site.templates.iter().map(|template| template.source.len()).sum();
        let old = read(hidden.pages);
        for (strength, goal) in
            [(Strength::Bytes, Goal::Balanced), (Strength::Blanks, Goal::Smallest), (Strength::Blanks, Goal::Balanced)]
        {
            let dialect = dialect::builtin_named(shape.dialect());
            let options = ProposeOptions { strength, dialect, goal, ..ProposeOptions::default() };
            let proposal = propose(&old, &options).expect("a proposal");
            let new = adopted(&old, &proposal);
            assert!(prove(&old, &new, strength).equal, "seed {}", first + case);
            let says_nothing = |layout: &ProposedLayout| layout.extends.is_some() && layout.fills.is_empty();
            assert!(!proposal.layouts.iter().any(says_nothing), "seed {}", first + case);
            let ratio = proposal.after.bytes as f64 / truth as f64;
            if goal == Goal::Smallest {
                small.push(ratio);
            } else if strength == Strength::Blanks {
                ratios.push(ratio);
                levels += u64::from(depth(&proposal) == hidden.levels);
                partials += proposal.partials.len();
                hidden_partials += hidden.partials;
            }
        }
    }
    let [(median, worst), (small_median, small_worst)] = [&mut ratios, &mut small].map(|ratios| {
        ratios.sort_by(f64::total_cmp);
        (ratios[ratios.len() / 2], ratios[ratios.len() - 1])
    });
    println!(
        "median {median:.3}, worst {worst:.3}, at the small end {small_median:.3} and {small_worst:.3}, levels {levels} of {all}, partials {partials} of {hidden_partials}"
    );
    // Layouts in between need a reason, and blocks a name: that costs bytes.
    assert!(median < 1.1 && worst < 1.25, "median {median}, worst {worst}");
    assert!(small_median < 0.985 && small_worst < 1.06, "median {small_median}, worst {small_worst}");
    assert!(levels * 10 >= all * 9 && partials * 10 >= hidden_partials * 8, "{levels} levels, {partials} partials");
}

#[test]
fn an_adopted_proposal_leaves_nothing_to_propose() {
    let first = seed("stable proposals");
    let (all, mut more) = (cases(20, 200), 0);
    for case in 0..all {
        let mut random = Random(first + case);
        let shape = Shape::random(&mut random, 60);
        let old = read(generate(&mut random, shape).pages);
        let options = ProposeOptions { dialect: dialect::builtin_named(shape.dialect()), ..ProposeOptions::default() };
        let proposal = propose(&old, &options).expect("a proposal");
        let again = propose(&adopted(&old, &proposal), &options).expect("a proposal");
        more += u64::from(!again.layouts.is_empty());
    }
    assert_eq!(more, 0, "of {all} sites");
}

/// Pages of two sections; each has a style sheet, and one a side bar around its content.
fn two_sections() -> Vec<SourceFile> {
    let page = |section: &str, number: usize| {
        let (sheet, content) = match section {
            "harbours" => {
                ("harbour.css", format!("<h1>Harbour {number}</h1>\n      <p>The boat lands at mole {number}.</p>"))
            }
            _ => ("boat.css", format!("<p>Boat {number} has room for {number} sheep.</p>")),
        };
        let content = match section {
            "harbours" => content,
            _ => format!(
                "<div class=\"with-side-bar\">\n      <ul class=\"side-bar\">\n        <li><a href=\"/boats/crew.html\">The crew of our boats</a></li>\n        <li><a href=\"/boats/engines.html\">Engines and winches</a></li>\n      </ul>\n      {content}\n      <p class=\"hint\">Boats are painted every second winter, in the dry dock.</p>\n    </div>"
            ),
        };
        SourceFile::new(
            format!("{section}/{number}.html"),
            format!(
                "<!DOCTYPE html>\n<html>\n<head>\n  <title>{section} {number}</title>\n  <link rel=\"stylesheet\" href=\"/css/tidewater.css\">\n  <link rel=\"stylesheet\" href=\"/css/{sheet}\">\n</head>\n<body class=\"{section}-page\">\n  <header><a href=\"/\">Tidewater, the ferry line of the seven harbours</a></header>\n  <main>\n    {content}\n  </main>\n  <footer><p>Owned by the people of the seven harbours, since the first boat.</p></footer>\n</body>\n</html>\n"
            ),
        )
    };
    ["boats", "harbours"].iter().flat_map(|section| (1..8).map(move |number| page(section, number))).collect()
}

#[test]
fn sections_get_layouts_of_their_own() {
    let old = read(two_sections());
    let proposal = propose(&old, &ProposeOptions::default()).expect("a proposal");
    let shown: Vec<_> = proposal
        .layouts
        .iter()
        .map(|layout| (layout.path.as_str(), layout.extends.as_deref(), layout.pages, layout.beneath))
        .collect();
    let base = Some("layouts/base.html");
    assert_eq!(
        shown,
        [("layouts/base.html", None, 0, 14), ("layouts/boats.html", base, 7, 7), ("layouts/harbours.html", base, 7, 7)]
    );
    let boats = &proposal.layouts[1];
    assert!(boats.fills.contains(&"main".into()), "{boats:?}");
    let page = proposal.files.iter().find(|file| file.path == "boats/3.html").expect("a page");
    let text = String::from_utf8_lossy(&page.bytes);
    assert!(text.contains("layout layouts/boats.html") && !text.contains("side-bar"), "{text}");
    let flat = propose(&old, &ProposeOptions { levels: 1, ..ProposeOptions::default() }).expect("a proposal");
    assert_eq!(flat.layouts.len(), 1);
    assert!(flat.after.bytes > proposal.after.bytes);
}

/// Five pages say one thing of themselves in a `meta`, and each of two sections among the
/// others says another.
fn sections_in_a_section() -> Vec<SourceFile> {
    let page = |number: usize| {
        let (kind, frame) = match number {
            0..5 => ("harbour", ""),
            5..13 => (
                "boat",
                "<ul class=\"boats\">\n<li><a href=\"/boats/crew.html\">The crew of all our boats</a></li>\n<li><a href=\"/boats/engines.html\">Engines and winches of all our boats</a></li>\n</ul>\n<div class=\"boat\">",
            ),
            _ => (
                "crew",
                "<ul class=\"crew\">\n<li><a href=\"/crew/caps.html\">Caps and boots of the crew, and where to buy them</a></li>\n<li><a href=\"/crew/songs.html\">What they sing when it rains</a></li>\n</ul>\n<div class=\"crew\">",
            ),
        };
        let end = if frame.is_empty() { "" } else { "</div>\n" };
        let body = format!("{frame}\n<p>{}</p>\n{end}", "sheep and cows travel ".repeat(number % 5 + 1));
        let text = format!(
            "<!DOCTYPE html>\n<html>\n<head>\n<title>Page {number}</title>\n<link rel=\"stylesheet\" href=\"/css/tidewater.css\">\n<link rel=\"icon\" href=\"/img/an-anchor-and-a-gull.svg\">\n<meta name=\"kind\" content=\"{kind}\">\n</head>\n<body>\n<header><a href=\"/\">Tidewater, the ferry line of the seven harbours</a></header>\n<main>\n{body}</main>\n<footer><p>Owned by the people of the seven harbours, since the first boat.</p></footer>\n</body>\n</html>\n"
        );
        SourceFile::new(format!("{number:02}.html"), text)
    };
    (0..21).map(page).collect()
}

#[test]
fn a_default_is_what_those_want_who_have_no_section() {
    let old = read(sections_in_a_section());
    let proposal = propose(&old, &ProposeOptions::default()).expect("a proposal");
    assert!(proposal.proof.equal);
    assert_eq!(proposal.layouts.iter().map(|layout| layout.pages).collect::<Vec<_>>(), [5, 8, 8]);
    let text = |path: &str| {
        let file = proposal.files.iter().find(|file| file.path == path).expect("a file");
        String::from_utf8_lossy(&file.bytes).into_owned()
    };
    // It is said once in each layout, and in no page.
    for (layout, kind) in proposal.layouts.iter().zip(["harbour", "boat", "crew"]) {
        assert!(text(&layout.path).contains(&format!(">{kind}<!--")), "{}", text(&layout.path));
    }
    for page in &old.templates {
        assert!(!text(&page.path).contains("kind"), "{}", text(&page.path));
    }
}

#[test]
fn what_only_sections_fill_is_a_block_of_its_own() {
    // The title differs in each page, the last style sheet in each section: one block for both
    // would have every page repeat the style sheet between them.
    let page = |number: usize| {
        let section = ["boats", "harbours", "fares", ""][number % 4];
        let style = match section {
            "" => String::new(),
            _ => format!("  <link rel=\"stylesheet\" href=\"/css/{section}.css\">\n"),
        };
        let heading = match section {
            "" => String::new(),
            _ => format!(
                "    <h1>All that there is to know of the {section} of the line, and who to ask for more</h1>\n    <ul class=\"{section}\">\n      <li>The {section} today</li>\n      <li>The {section} tomorrow</li>\n    </ul>\n"
            ),
        };
        let own = format!("{number} is told of here. ").repeat(number + 1);
        SourceFile::new(
            format!("{section}/{number}.html"),
            format!(
                "<!DOCTYPE html>\n<html>\n<head>\n  <title>{number} of the line</title>\n  <link rel=\"stylesheet\" href=\"/css/tidewater.css\">\n{style}</head>\n<body>\n  <header><a href=\"/\">Tidewater, the ferry line of the seven harbours</a></header>\n  <main>\n{heading}    <p>{own}</p>\n  </main>\n  <footer><p>Owned by the people of the seven harbours.</p></footer>\n</body>\n</html>\n"
            ),
        )
    };
    let old = read((0..32).map(page).collect());
    let proposal = propose(&old, &ProposeOptions::default()).expect("a proposal");
    assert_eq!(proposal.layouts.len(), 4, "{:?}", proposal.layouts);
    let base = file(&proposal, "layouts/base.html");
    assert!(base.contains("<title>") && base.contains("/css/tidewater.css"), "{base}");
    assert!(!file(&proposal, "boats/4.html").contains("stylesheet"), "{}", file(&proposal, "boats/4.html"));
    assert!(prove(&old, &adopted(&old, &proposal), Strength::Blanks).equal);
}

#[test]
fn at_the_small_end_blocks_are_closed_by_the_shortest_tag() {
    let old = read(two_sections());
    for (goal, closer) in [(Goal::Balanced, "<!--: end title -->"), (Goal::Smallest, "<!--: end -->")] {
        let proposal = propose(&old, &ProposeOptions { goal, ..ProposeOptions::default() }).expect("a proposal");
        let page = proposal.files.iter().find(|file| file.path == "boats/3.html").expect("a page");
        let text = String::from_utf8_lossy(&page.bytes);
        assert!(text.contains(closer), "{text}");
    }
}

#[test]
fn what_stands_in_three_pages_becomes_a_partial() {
    let notice = "  <ul class=\"notice\">\n    <li>Bicycles travel free of charge, on every boat</li>\n    <li>Sheep travel on Sundays only, and on a lead</li>\n  </ul>\n";
    let page = |number: usize| {
        let frame = |content: String| {
            format!(
                "<!DOCTYPE html>\n<html>\n<head>\n  <title>Page {number}</title>\n</head>\n<body>\n  <header><a href=\"/\">Tidewater, the ferry line of the seven harbours</a></header>\n  <main>\n{content}  </main>\n  <footer><p>Owned by the people of the seven harbours.</p></footer>\n</body>\n</html>\n"
            )
        };
        let own = |word: &str| {
            format!("    <p>{word} {number}, and nothing else to be read here, {}</p>\n", "x".repeat(number))
        };
        let notice = notice.replace("\n  ", "\n    ").replacen("  ", "    ", 1);
        let content = match number % 3 {
            0 => format!("{}{notice}{}", own("Before"), own("After")),
            1 => format!("{}{}", own("Lone"), own("Line")),
            _ => format!("{}{}{notice}", own("First"), own("Second")),
        };
        SourceFile::new(format!("{number}.html"), frame(content))
    };
    let old = read((1..10).map(page).collect());
    for strength in [Strength::Bytes, Strength::Blanks] {
        let proposal = propose(&old, &ProposeOptions { strength, ..ProposeOptions::default() }).expect("a proposal");
        let [partial] = &proposal.partials[..] else { panic!("{:?}", proposal.partials) };
        // In exact output the last lines of a block share theirs with its closing tag.
        let uses = if strength == Strength::Blanks { 6 } else { 3 };
        assert_eq!((partial.path.as_str(), partial.uses, partial.files), ("partials/notice.html", uses, uses));
        let file = proposal.files.iter().find(|file| file.role == Role::Partial).expect("the partial");
        if strength == Strength::Blanks {
            assert_eq!(String::from_utf8_lossy(&file.bytes), notice.replace("\n  ", "\n").trim_start());
        }
        assert!(prove(&old, &adopted(&old, &proposal), strength).equal);
    }
    let without =
        propose(&old, &ProposeOptions { partials: radicon::site::Partials::None, ..ProposeOptions::default() })
            .expect("a proposal");
    assert!(without.partials.is_empty());
}

#[test]
fn what_every_page_says_twice_is_one_block_that_is_shown_again() {
    let page = |language: &str, number: usize| {
        let item = |word: &str| format!("<a href=\"/{language}/{word}.html\">{word} ({language})</a>");
        let menu = format!("{} {} {}", item("boats"), item("quays"), item("fares"));
        SourceFile::new(
            format!("{language}/{number}.html"),
            format!(
                "<!DOCTYPE html>\n<html lang=\"{language}\">\n<head>\n<title>{number} in {language}</title>\n</head>\n<body>\n<header><a href=\"/\">Tidewater, the ferry line</a></header>\n<p class=\"menu\">{menu}</p>\n<main>\n<p>{}</p>\n</main>\n<p class=\"menu\">{menu}</p>\n<footer><p>Owned by the people of the seven harbours.</p></footer>\n</body>\n</html>\n",
                "sheep and cows travel ".repeat(number + 1)
            ),
        )
    };
    let pages = |language: &'static str| (0..6).map(move |number| page(language, number));
    let old = read(["de", "en", "fy"].into_iter().flat_map(pages).collect());
    let proposal = propose(&old, &ProposeOptions::default()).expect("a proposal");
    let paths: Vec<_> = proposal.layouts.iter().map(|layout| layout.path.as_str()).collect();
    assert_eq!(
        paths,
        ["layouts/base.html", "layouts/lang-de.html", "layouts/lang-en.html", "layouts/lang-fy.html"],
        "what a language sets stands in its layout"
    );
    let base = file(&proposal, "layouts/base.html");
    assert_eq!(base.matches("<!--: block menu -->").count(), 1, "{base}");
    assert_eq!(base.matches("<!--: again menu -->").count(), 1, "{base}");
    for (path, said) in [("layouts/lang-de.html", 1), ("de/3.html", 0)] {
        let text = file(&proposal, path);
        assert_eq!(text.matches("boats (de)").count(), said, "{text}");
    }
    assert!(prove(&old, &adopted(&old, &proposal), Strength::Blanks).equal);
    let blocks: Vec<_> = proposal.layouts[0].blocks.iter().map(|block| block.name.as_str()).collect();
    assert_eq!(blocks, ["lang", "title", "menu", "content"]);
}

#[test]
fn settings_name_and_exclude() {
    let text = "[propose]\nexcept = ['*/1.html']\nlevels = 2\nmin-saving = 100\n[propose.names]\nharbours = 'quays'\nbase = 'frame'\nbody_class = 'page-class'\n";
    let settings = Settings::parse(text).expect("settings");
    let old = Site::read(two_sections(), dialect::builtin(), &settings);
    let proposal = propose(&old, &ProposeOptions::from(&settings.propose)).expect("a proposal");
    let paths: Vec<_> = proposal.layouts.iter().map(|layout| layout.path.as_str()).collect();
    assert_eq!(paths, ["layouts/frame.html", "layouts/boats.html", "layouts/quays.html"]);
    assert!(proposal.layouts[0].blocks.iter().any(|block| block.name == "page-class"));
    let left = proposal.left.iter().find(|left| left.page == "boats/1.html").expect("the page left out");
    assert_eq!(left.reason, "excluded by a setting or an option");
    for (text, message) in [
        ("[propose]\nlevels = -1", "`levels` must be a whole number, not below 0"),
        ("[propose.names]\na = 'b c'", "`b c` is no name"),
        ("[propose]\nlevel = 1", "level"),
    ] {
        let error = Settings::parse(text).expect_err(text).to_string();
        assert!(error.contains(message), "{error}");
    }
}

fn file(proposal: &Proposal, path: &str) -> String {
    let found = proposal.files.iter().find(|file| file.path == path).unwrap_or_else(|| panic!("no {path}"));
    String::from_utf8_lossy(&found.bytes).into_owned()
}

#[test]
fn sections_are_written_in_the_dialect_asked_for() {
    let old = read(two_sections());
    for strength in [Strength::Bytes, Strength::Blanks] {
        let dialect = dialect::builtin_named("brace-percent");
        let proposal =
            propose(&old, &ProposeOptions { strength, dialect, ..ProposeOptions::default() }).expect("a proposal");
        let boats = file(&proposal, "layouts/boats.html");
        assert!(boats.starts_with("{% extends \"layouts/base.html\" %}\n"), "{boats}");
        assert!(boats.contains("side-bar"), "{boats}");
        let inner = &proposal.layouts[1].blocks.last().expect("a block of its own").name;
        assert!(boats.contains(&format!("{{% block {inner} %}}")), "{boats}");
        let page = file(&proposal, "boats/4.html");
        assert!(page.starts_with("{% extends \"layouts/boats.html\" %}\n"), "{page}");
        assert!(page.contains(&format!("{{% block {inner} %}}")) && page.contains("4 sheep"), "{page}");
        assert!(prove(&old, &adopted(&old, &proposal), strength).equal);
    }
}

#[test]
fn a_tidy_section_is_indented_like_its_pages() {
    let proposal = propose(&read(two_sections()), &ProposeOptions::default()).expect("a proposal");
    let boats = file(&proposal, "layouts/boats.html");
    let content = boats.split("<!--: block main -->\n").nth(1).expect("the content");
    let lines: Vec<&str> = content.lines().take(4).collect();
    assert_eq!(lines[0], "  <div class=\"with-side-bar\">");
    assert_eq!(lines[1], "    <ul class=\"side-bar\">");
    assert_eq!(lines[2], "      <li><a href=\"/boats/crew.html\">The crew of our boats</a></li>");
    assert!(boats.ends_with("<!--: end main -->\n"), "{boats}");
}

#[test]
fn a_section_keeps_every_blank_in_a_script() {
    let script = |section: &str| {
        format!(
            "<script>\n    const name = 'tidewater';\n      const root = '{section}';\n\n        const menu = '{section}-menu';\n  start(name, root);\n</script>\n</body>"
        )
    };
    let page = |file: SourceFile| {
        let section = file.path.split('/').next().unwrap_or_default().to_owned();
        let text = String::from_utf8_lossy(&file.bytes).replace("</body>", &script(&section));
        SourceFile::new(file.path, text)
    };
    let old = read(two_sections().into_iter().map(page).collect());
    for strength in [Strength::Bytes, Strength::Blanks] {
        let proposal = propose(&old, &ProposeOptions { strength, ..ProposeOptions::default() }).expect("a proposal");
        assert!(proposal.left.is_empty(), "{:?}", proposal.left);
        let quays = proposal.files.iter().find(|file| file.path == "layouts/harbours.html").expect("a section");
        let text = String::from_utf8_lossy(&quays.bytes);
        assert!(text.contains("      const root = 'harbours';\n\n        const menu = 'harbours-menu';\n"), "{text}");
    }
}

#[test]
fn a_partial_never_takes_the_path_of_a_new_layout() {
    let mut files: Vec<SourceFile> = family("boats", 9).collect();
    let card = "<ul class=\"card\">\n<li>The oldest harbour of the line, with a crane and a clock</li>\n<li>Sheep travel on Sundays only, and on a lead, with a ticket</li>\n</ul>\n";
    for (number, file) in files.iter_mut().enumerate().filter(|(number, _)| number % 2 == 0) {
        let text = String::from_utf8_lossy(&file.bytes);
        let own = format!("<p>{}</p>\n", "own ".repeat(number + 1));
        let text = text.replace("</div>\n<p", &format!("\n{own}{card}{own}</div>\n<p"));
        *file = SourceFile::new(file.path.clone(), text);
    }
    // The site keeps its partials where layouts go.
    files.push(SourceFile::new("layouts/side.html", "<!--: note kept --><i>side</i>\n"));
    files.push(SourceFile::new("other.html", "<b>x</b><!--: partial layouts/side.html -->\n"));
    let old = read(files);
    let names = [("card".to_owned(), "base".to_owned())].into();
    let proposal = propose(&old, &ProposeOptions { names, ..ProposeOptions::default() }).expect("a proposal");
    let paths: Vec<_> = proposal.partials.iter().map(|partial| partial.path.as_str()).collect();
    assert_eq!((proposal.layouts[0].path.as_str(), &paths[..]), ("layouts/base.html", &["layouts/base-2.html"][..]));
    assert!(prove(&old, &adopted(&old, &proposal), Strength::Blanks).equal);
}

/// Pages of a frame of their own.
fn family(word: &str, count: usize) -> impl Iterator<Item = SourceFile> {
    (0..count).map(move |number| {
        let menu: String = (0..6).map(|item| format!("  <li><a href=\"/{word}/{item}\">{word} {item}</a></li>\n")).collect();
        let text = format!(
            "<!DOCTYPE html>\n<html class=\"{word}\">\n<head>\n  <title>{word} {number}</title>\n</head>\n<body>\n<ul id=\"{word}-menu\">\n{menu}</ul>\n<div class=\"{word}-text\"><p>The {number} of {word}.</p></div>\n<p class=\"{word}-end\">That is all about {word}.</p>\n</body>\n</html>\n"
        );
        SourceFile::new(format!("{word}/{number}.html"), text)
    })
}

#[test]
fn each_family_gets_a_base_layout() {
    let old = read(family("boats", 9).chain(family("quays", 6)).chain(family("crew", 2)).collect());
    let proposal = propose(&old, &ProposeOptions::default()).expect("a proposal");
    let shown: Vec<_> =
        proposal.layouts.iter().map(|layout| (layout.path.as_str(), layout.extends.is_none(), layout.pages)).collect();
    assert_eq!(shown, [("layouts/base.html", true, 9), ("layouts/quays.html", true, 6)]);
    let left: Vec<_> = proposal.left.iter().map(|left| left.page.as_str()).collect();
    assert_eq!(left, ["crew/0.html", "crew/1.html"], "two pages beside others are no family");
    assert!(prove(&old, &adopted(&old, &proposal), Strength::Blanks).equal);
}

#[test]
fn only_whole_lines_without_tags_become_partials() {
    let card =
        "<div class=\"card\">\n<h3>The old pier</h3>\n<p>The oldest harbour of the line, with a crane</p>\n</div>";
    let page = |number: usize| {
        let own = format!("<p>Page {number} is about {}</p>", "sheep ".repeat(number + 1));
        // In every second page the copy shares its line with something else.
        let piece = if number.is_multiple_of(2) { format!("<b>{number}</b>{card}") } else { card.to_owned() };
        let text = format!(
            "<!DOCTYPE html>\n<html>\n<head>\n<title>{number}</title>\n</head>\n<body>\n<p>Tidewater, the ferry line of the seven harbours</p>\n<div id=\"text\">\n{own}\n{piece}\n<i>{number}</i>\n{own}\n</div>\n<p>Owned by the people of the seven harbours, all of them</p>\n</body>\n</html>\n"
        );
        SourceFile::new(format!("{number}.html"), text)
    };
    let old = read((0..12).map(page).collect());
    let proposal = propose(&old, &ProposeOptions::default()).expect("a proposal");
    let [partial] = &proposal.partials[..] else { panic!("{:?}", proposal.partials) };
    assert_eq!((partial.uses, partial.files), (6, 6));
    assert_eq!(file(&proposal, &partial.path), format!("{card}\n"));
    assert!(file(&proposal, "1.html").contains(&format!("<!--: partial {} -->\n", partial.path)));
    assert!(file(&proposal, "2.html").contains(card));
    assert!(prove(&old, &adopted(&old, &proposal), Strength::Blanks).equal);
}

#[test]
fn a_piece_within_a_greater_one_is_taken_once() {
    let small = "<ul class=\"rules\">\n<li>Bicycles travel free of charge, on every boat of the line</li>\n<li>Sheep travel on Sundays only, and on a lead</li>\n</ul>";
    let great = format!(
        "<section class=\"before-you-sail\">\n<h2>Before you sail</h2>\n{small}\n<p>The quay office opens an hour before the first boat leaves, every day.</p>\n</section>"
    );
    let page = |number: usize| {
        let piece = match number {
            0..5 => great.as_str(),
            5..12 => small,
            _ => "",
        };
        let (own, tail) = ("word ".repeat(number + 1), "tail ".repeat(number % 5));
        SourceFile::new(
            format!("{number:02}.html"),
            format!(
                "<!DOCTYPE html>\n<html>\n<head>\n<title>{number}</title>\n</head>\n<body>\n<div id=\"text\">\n<p>{own}</p>\n{piece}\n<p>{tail} {number}</p>\n</div>\n<p>Owned by the people of the seven harbours, all of them</p>\n</body>\n</html>\n"
            ),
        )
    };
    let old = read((0..24).map(page).collect());
    for strength in [Strength::Bytes, Strength::Blanks] {
        let proposal =
            propose(&old, &ProposeOptions { strength, levels: 1, ..ProposeOptions::default() }).expect("a proposal");
        assert_eq!(proposal.partials.iter().map(|partial| partial.uses).max(), Some(12), "{:?}", proposal.partials);
        assert!(proposal.left.is_empty() && prove(&old, &adopted(&old, &proposal), strength).equal);
    }
}

#[test]
fn copies_that_were_left_behind_are_healed_if_asked_for() {
    let mut files = demo_like();
    let before = read(files.clone());
    let slip = |files: &mut Vec<SourceFile>, at: usize, from: &str, to: &str| {
        let text = String::from_utf8(files[at].bytes.clone()).expect("text");
        assert!(text.contains(from));
        files[at].bytes = text.replace(from, to).into();
    };
    // One page lacks a link, one has an old number; one is where the mark is.
    slip(&mut files, 1, "      <li><a href=\"/fares.html\">Fares and sheep</a></li>\n", "");
    slip(&mut files, 4, "01700 553 100", "01700 553 001");
    slip(&mut files, 6, "<a href=\"/fares.html\">", "<a href=\"/fares.html\" aria-current=\"page\">");
    let old = read(files);
    let kept = propose(&old, &ProposeOptions::default()).expect("a proposal");
    assert!(kept.healed.is_empty());
    let proposal = propose(&old, &ProposeOptions { heal: true, ..ProposeOptions::default() }).expect("a proposal");
    let healed: Vec<_> = proposal.healed.iter().map(|healed| (healed.page.as_str(), healed.line)).collect();
    assert_eq!(healed, [("1.html", 10), ("4.html", 19)]);
    assert!(proposal.healed[0].difference.contains("missing"), "{:?}", proposal.healed);
    // But for them no page changes, and these are as if nothing had been left behind.
    let new = adopted(&old, &proposal);
    let proof = prove(&old, &new, Strength::Blanks);
    let changed: Vec<_> = proof.pages.iter().filter(|page| !page.is_equal()).map(|page| &*page.page).collect();
    assert_eq!(changed, ["1.html", "4.html"]);
    for page in changed {
        assert!(radicon::prove::prove_page(&before, &new, page, Strength::Blanks).is_equal(), "{page}");
    }
}

/// Ten pages with the same frame.
fn demo_like() -> Vec<SourceFile> {
    let page = |number: usize| {
        let frame = "<!DOCTYPE html>\n<html>\n<head>\n  <meta charset=\"utf-8\">\n</head>\n<body>\n  <header>\n    <ul>\n      <li><a href=\"/\">Home and harbour</a></li>\n      <li><a href=\"/fares.html\">Fares and sheep</a></li>\n      <li><a href=\"/crew.html\">Crew and cooks</a></li>\n    </ul>\n  </header>\n";
        SourceFile::new(
            format!("{number}.html"),
            format!(
                "{frame}  <main>\n    <h1>Page {number}</h1>\n    <p>What page {number} has to say of boats.</p>\n  </main>\n  <footer>\n    <p>Telephone 01700 553 100</p>\n  </footer>\n</body>\n</html>\n"
            ),
        )
    };
    (0..10).map(page).collect()
}

#[test]
fn spelling_makes_no_block_where_it_does_not_count() {
    let mut files = demo_like();
    for (at, file) in files.iter_mut().enumerate().filter(|(at, _)| at % 3 == 0) {
        let text = String::from_utf8(file.bytes.clone()).expect("text");
        let text = text.replace("<meta charset=\"utf-8\">", "<META charset='utf-8' />").replace("<li>", "<LI>");
        file.bytes = text.replace("<footer>", if at % 2 == 0 { "<footer >" } else { "<Footer>" }).into();
    }
    let old = read(files);
    let blocks = |strength| {
        let proposal = propose(&old, &ProposeOptions { strength, ..ProposeOptions::default() }).expect("a proposal");
        assert!(prove(&old, &adopted(&old, &proposal), strength).equal);
        let names = proposal.layouts.iter().flat_map(|layout| &layout.blocks).map(|block| block.name.clone());
        (proposal.files.len(), names.collect::<Vec<_>>())
    };
    assert_eq!(blocks(Strength::Dom), (11, vec!["content".to_owned()]));
    assert_ne!(blocks(Strength::Blanks), blocks(Strength::Dom));
}

#[test]
fn a_region_of_the_settings_is_one_block_of_its_name() {
    let settings = |text: &str| Settings::parse(text).expect("settings").propose;
    let old = read(demo_like());
    for (region, within) in [("main", "main"), ("#nothing", ""), ("footer", "")] {
        let options = ProposeOptions::from(&settings(&format!("[propose.regions]\nall_of_it = '{region}'")));
        let proposal = propose(&old, &options).expect("a proposal");
        assert!(prove(&old, &adopted(&old, &proposal), Strength::Blanks).equal);
        let blocks = &proposal.layouts[0].blocks;
        let named: Vec<_> = blocks.iter().filter(|block| block.name == "all_of_it").collect();
        // What is the same in all pages is no block, whatever it is called.
        assert_eq!(named.len(), usize::from(!within.is_empty()), "{region}: {blocks:?}");
        assert!(named.iter().all(|block| block.within == "<main>" && block.overridden_by == 10));
    }
}
