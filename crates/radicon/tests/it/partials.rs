//! Partials that proposals make: with parameters, and of regions of layouts.

use radicon::site::Partials;
use radicon::{Proposal, ProposeOptions, Settings, Site, SourceFile, Strength, dialect, propose};

#[track_caller]
fn proposed(files: &[SourceFile], dialect: &str, partials: Partials, strength: Strength) -> Proposal {
    let site = Site::read(files.to_vec(), dialect::builtin(), &Settings::default());
    let options =
        ProposeOptions { partials, strength, dialect: dialect::builtin_named(dialect), ..ProposeOptions::default() };
    let proposal = propose(&site, &options).expect("a proposal");
    assert!(proposal.proof.pages.iter().all(|page| page.is_equal_at(strength)));
    proposal
}

#[track_caller]
fn text<'p>(proposal: &'p Proposal, path: &str) -> &'p str {
    let file = proposal.files.iter().find(|file| file.path == path);
    std::str::from_utf8(&file.unwrap_or_else(|| panic!("{path} of {:?}", proposal.partials)).bytes).expect("text")
}

/// Pages of one frame, each with some boats.
fn boats(name: impl Fn(usize) -> String) -> Vec<SourceFile> {
    let page = |number: usize| {
        let boat = |boat: usize| {
            let name = name(boat);
            format!(
                "    <article class=\"boat\">\n      <h2>{name}</h2>\n      <p>The {name} carries cars, sheep and people on all days of the year, in all weathers.</p>\n      <a class=\"more\" href=\"/boats/{boat}.html\">All about her and her crew, with pictures</a>\n    </article>\n"
            )
        };
        let between = ["<hr>", "<h1>More boats</h1>", "<p>And so on.</p>", "<ul><li>x</li></ul>", "<table></table>"];
        let boats = (0..2 + number % 2).map(|at| boat(number * 2 + at) + "    " + between[(number + at) % 5] + "\n");
        let boats: String = boats.collect();
        SourceFile::new(
            format!("{number}.html"),
            format!(
                "<!DOCTYPE html>\n<html>\n<head>\n  <title>Page {number}</title>\n  <meta charset=\"utf-8\">\n</head>\n<body>\n  <header>\n    <p class=\"name\">Tidewater Ferries, owned by the people of the seven harbours</p>\n    <ul>\n      <li><a href=\"/timetable.html\">Timetable of all our boats</a></li>\n      <li><a href=\"/fares.html\">Fares for cars, sheep and people</a></li>\n    </ul>\n  </header>\n  <main>\n{boats}  </main>\n  <footer>\n    <p>Telephone 01700 553 100</p>\n  </footer>\n</body>\n</html>\n"
            ),
        )
    };
    (0..5).map(page).collect()
}

#[test]
fn copies_that_differ_in_values_take_parameters() {
    let files = boats(|boat| format!("Lady {}", ["Anna", "Berta", "Clara", "Dora", "Elsa"][boat % 5]));
    for strength in [Strength::Blanks, Strength::Bytes] {
        let proposal = proposed(&files, "brace-percent", Partials::Repeats, strength);
        let [partial] = &proposal.partials[..] else { panic!("{:?}", proposal.partials) };
        // In exact output the first and the last lines of a block are shared with its tags.
        let uses = if strength == Strength::Bytes { 7 } else { 12 };
        assert_eq!((partial.uses, partial.files, partial.parameters), (uses, 5, 2));
        let body = text(&proposal, &partial.path);
        assert_eq!(body.matches("{{").count(), 3, "{body}");
        let page = text(&proposal, "1.html");
        assert!(page.contains("heading=\"Dora\""), "{page}");
        if strength == Strength::Bytes {
            continue;
        }
        let tag = "{% include \"partials/boat.html\" with heading=\"Clara\" link=\"/boats/2.html\" %}";
        assert!(page.contains(tag) && !page.contains("all weathers"), "{page}");
        assert!(
            body.contains("<h2>Lady {{ heading }}</h2>") && body.contains("The Lady {{ heading }} carries"),
            "{body}"
        );
    }
    // A dialect that cannot pass values gets no such partial.
    assert!(proposed(&files, "margin", Partials::Repeats, Strength::Blanks).partials.is_empty());
}

#[test]
fn what_stands_beside_all_copies_belongs_to_them() {
    // A heading too short to be a copy of its own, with a list that is the same everywhere.
    let heading = "    <h3>Our boats</h3>\n    <ul class=\"rules\">\n      <li>Sheep travel on Sundays only, and on a lead</li>\n      <li>Cows travel on Mondays only, by the gangway</li>\n    </ul>\n";
    // An element of three lines that is too short as well.
    let rule = "    <div class=\"rule\">\n      <p>Mind the gap.</p>\n    </div>\n";
    for (before, start) in
        [(heading, "<h3>Our boats</h3>\n"), (rule, "<div class=\"rule\">\n  <p>Mind the gap.</p>\n</div>\n<article")]
    {
        let mut files = boats(|boat| format!("Lady {}", ["Anna", "Berta", "Clara", "Dora", "Elsa"][boat % 5]));
        for file in &mut files {
            let text = String::from_utf8_lossy(&file.bytes).replace("    <article", &format!("{before}    <article"));
            file.bytes = text.into_bytes();
        }
        // Most pages have none, so that they are not the layout's.
        let first = String::from_utf8_lossy(&files[0].bytes).into_owned();
        let (head, tail) = (first.find("<main>").expect("main") + 6, first.find("</main>").expect("its end"));
        files.extend((0..8).map(|number| {
            let own = format!("<p>{}</p>", "No boats today, nor tomorrow. ".repeat(number + 1));
            SourceFile::new(format!("no-boats-{number}.html"), format!("{}{own}{}", &first[..head], &first[tail..]))
        }));
        let proposal = proposed(&files, "brace-percent", Partials::Repeats, Strength::Blanks);
        let [partial] = &proposal.partials[..] else { panic!("{:?}", proposal.partials) };
        assert_eq!((partial.uses, partial.parameters), (12, 2));
        let body = text(&proposal, &partial.path);
        assert!(body.starts_with(start) && body.trim_end().ends_with("</article>"), "{body}");
        assert!(!text(&proposal, "1.html").contains("Sundays") && !text(&proposal, "1.html").contains("gap"));
    }
}

#[test]
fn where_a_copy_was_included_does_not_count() {
    // Put together by hand, each line has the place's indentation; by an engine, the first one.
    let lines = [
        "<ul class=\"rules\">",
        "  <li>Sheep travel on Sundays only, and on a lead</li>",
        "  <li>Cows travel on Mondays only, by the gangway</li>",
        "</ul>",
    ];
    let page = |number: usize| {
        let own = |word: &str| format!("    <p>{}</p>\n", format!("{word} {number} ").repeat(number + 1));
        let indented = |(at, line): (usize, &&str)| match number % 4 {
            0 => format!("    {line}\n"),
            1 if at == 0 => format!("    {line}\n"),
            1 => format!("{line}\n"),
            _ => String::new(),
        };
        let rules: String = lines.iter().enumerate().map(indented).collect();
        let content = own("Before") + &rules + &own("After");
        SourceFile::new(
            format!("{number}.html"),
            format!(
                "<!DOCTYPE html>\n<html>\n<head>\n  <title>Page {number}</title>\n</head>\n<body>\n  <header><a href=\"/\">Tidewater, the ferry line of the seven harbours</a></header>\n  <main>\n{content}  </main>\n  <footer><p>Owned by the people of the seven harbours.</p></footer>\n</body>\n</html>\n"
            ),
        )
    };
    let files: Vec<SourceFile> = (0..16).map(page).collect();
    let proposal = proposed(&files, "margin", Partials::Repeats, Strength::Blanks);
    let [partial] = &proposal.partials[..] else { panic!("{:?}", proposal.partials) };
    assert_eq!(partial.uses, 8);
    assert_eq!(text(&proposal, &partial.path).trim_end(), lines.join("\n"));
}

#[test]
fn values_that_may_be_escaped_are_not_passed() {
    for name in ["Lady & Sons", "Lady \"Anna\"", "Lady {{ x }}", "Lady's"] {
        let files = boats(|boat| format!("{name} {boat}"));
        let site = Site::read(files.clone(), &[], &Settings::default());
        assert_eq!(site.templates.len(), 5);
        let options = ProposeOptions { dialect: dialect::builtin_named("brace-percent"), ..ProposeOptions::default() };
        let proposal = propose(&site, &options).expect("a proposal");
        assert!(proposal.proof.equal, "{name}");
        assert!(proposal.partials.iter().all(|partial| partial.parameters == 0), "{name}: {:?}", proposal.partials);
    }
}

#[test]
fn regions_of_layouts_become_partials_if_asked_for() {
    let files = boats(|boat| format!("Boat {boat}"));
    for strength in [Strength::Blanks, Strength::Bytes] {
        let proposal = proposed(&files, "margin", Partials::Landmarks, strength);
        let paths: Vec<&str> = proposal.partials.iter().map(|partial| partial.path.as_str()).collect();
        // The footer is too small for a file of its own.
        assert_eq!(paths, ["partials/header.html"]);
        let base = text(&proposal, "layouts/base.html");
        assert!(base.contains("<!--: partial partials/header.html -->") && !base.contains("timetable"), "{base}");
        assert!(text(&proposal, "partials/header.html").trim_start().starts_with("<header>"));
    }
    assert!(proposed(&files, "margin", Partials::Repeats, Strength::Blanks).partials.is_empty());
}

#[test]
fn copies_within_lines_become_partials_if_they_are_long() {
    let long =
        format!("<ul class=\"sheep\">{}</ul>", "<li>Sheep travel on Sundays only, and on a lead</li>".repeat(12));
    let short =
        "<ul class=\"cows\"><li>Cows travel on Mondays only, and on a lead, by the gangway of the car deck</li></ul>";
    let frame = "<p>Tidewater, the ferry line of the seven harbours, since 1871 and by everybody</p>\n".repeat(8);
    let page = |number: usize| {
        let own = format!("<p>{}</p>", "sheep and cows ".repeat(number + 1));
        // It comes first or last, so it is no part of the layout.
        let content = match if number < 8 { number % 4 } else { 3 } {
            0 => format!("{long}{own}{short}"),
            1 => format!("{own}{long}<h2>{number}</h2>{short}"),
            2 => format!("{short}<table></table>{own}{long}"),
            _ => format!("<h1>{number}</h1>{own}{own}"),
        };
        let text = format!(
            "<!DOCTYPE html>\n<html>\n<head>\n<title>{number}</title>\n</head>\n<body>\n{frame}<div id=\"text\"><b>{number}</b>{content}<i>{number}</i></div>\n<p>Owned by the people of the seven harbours, all of them</p>\n</body>\n</html>\n"
        );
        SourceFile::new(format!("{number}.html"), text)
    };
    let files: Vec<SourceFile> = (0..14).map(page).collect();
    for dialect in ["margin", "brace-percent"] {
        let proposal = proposed(&files, dialect, Partials::Repeats, Strength::Blanks);
        let [partial] = &proposal.partials[..] else { panic!("{dialect}: {:?}", proposal.partials) };
        assert_eq!((partial.uses, partial.bytes), (6, long.len()), "{dialect}");
        assert!(text(&proposal, "0.html").contains(short));
    }
}

/// Children of one layout that show the same on a condition, in a loop, among texts of their own.
fn tides(warning: &str) -> Vec<SourceFile> {
    let base = "<!DOCTYPE html>\n<html>\n<body>\n{% block content %}{% endblock %}\n</body>\n</html>\n";
    let page = |harbour: &&str| {
        SourceFile::new(
            format!("{harbour}.html"),
            format!(
                "{{% extends \"base.html\" %}}\n{{% block content %}}\n  <h1>{harbour}</h1>\n{warning}  <p>Ask for {harbour}.</p>\n{{% endblock %}}\n"
            ),
        )
    };
    let mut files = vec![SourceFile::new("base.html", base)];
    files.extend(["northwick", "gull-rock", "saltmere", "st-wend"].iter().map(page));
    files
}

const WARNING: &str = "  {% if late %}\n  <div class=\"warning\">\n    <p>Our boats are late today: {{ late }} minutes.</p>\n    <ul>\n      {% for boat in boats %}\n      <li>{{ boat.name }}, as far as we know</li>\n      {% endfor %}\n    </ul>\n  </div>\n  {% endif %}\n";

#[test]
fn what_children_show_alike_on_a_condition_becomes_a_partial() {
    let proposal = proposed(&tides(WARNING), "brace-percent", Partials::Repeats, Strength::Blanks);
    let [partial] = &proposal.partials[..] else { panic!("{:?}", proposal.partials) };
    assert_eq!((partial.path.as_str(), partial.files, partial.parameters), ("partials/warning.html", 4, 0));
    let include = "  <h1>saltmere</h1>\n  {% include \"partials/warning.html\" %}\n  <p>";
    assert!(text(&proposal, "saltmere.html").contains(include), "{}", text(&proposal, "saltmere.html"));
    assert!(text(&proposal, &partial.path).starts_with("{% if late %}\n"), "{}", text(&proposal, &partial.path));
    assert!(proposal.left.iter().all(|left| left.page == "base.html"), "{:?}", proposal.left);
    // What does not change is not written, and proposed again nothing is.
    assert!(proposal.files.iter().all(|file| file.path != "base.html"));
    let files = tides(WARNING).into_iter().filter(|file| file.path == "base.html");
    let new = proposal.files.iter().map(|file| SourceFile::new(file.path.clone(), file.bytes.clone()));
    let files: Vec<SourceFile> = files.chain(new).collect();
    assert!(proposed(&files, "brace-percent", Partials::Repeats, Strength::Blanks).files.is_empty());
}

#[test]
fn what_binds_a_name_for_its_page_stays_there() {
    let binding = WARNING.replace("  {% endif %}\n", "  {% set told = late %}\n  {% endif %}\n  <i>{{ told }}</i>\n");
    let proposal = proposed(&tides(&binding), "brace-percent", Partials::Repeats, Strength::Blanks);
    for file in &proposal.files {
        let text = String::from_utf8_lossy(&file.bytes);
        assert_eq!(text.contains("{% set told"), file.role != radicon::site::Role::Partial, "{text}");
    }
    assert!(proposal.files.iter().all(|file| file.path != "partials/warning.html"), "{:?}", proposal.partials);
}

#[test]
fn names_are_passed_where_an_include_of_the_site_passes_one() {
    let pages = |passes: &str| {
        let mut files = tides("");
        for (number, name) in ["tide", "wind.name", "fog.name", "ice"].iter().enumerate() {
            let text = format!(
                "  <div class=\"warning\">\n    <p>Our boats are late today, because of the weather: {{{{ {name} }}}}.</p>\n    <p>Ask at the pier, or telephone 01700 553 100 before you come.</p>\n  </div>\n"
            );
            let page = String::from_utf8(files[number + 1].bytes.clone()).expect("text");
            files[number + 1].bytes = page.replace("  <p>Ask", &format!("{text}  <p>Ask")).into();
        }
        files.push(SourceFile::new("partials/flag.html", "<i>{{ flag }}</i>\n"));
        let page = format!("{{% extends \"base.html\" %}}\n{{% block content %}}{passes}{{% endblock %}}\n");
        files.push(SourceFile::new("flags.html", page));
        files
    };
    let names = pages("{% include \"partials/flag.html\" with flag=boat.flag %}");
    let proposal = proposed(&names, "brace-percent", Partials::Repeats, Strength::Blanks);
    let [partial] = &proposal.partials[..] else { panic!("{:?}", proposal.partials) };
    assert_eq!((partial.files, partial.parameters), (4, 1));
    let include = "  {% include \"partials/warning.html\" with text=wind.name %}\n";
    assert!(text(&proposal, "gull-rock.html").contains(include), "{}", text(&proposal, "gull-rock.html"));
    // Where texts alone are passed, nobody knows how the engine reads a name.
    let texts = pages("{% include \"partials/flag.html\" with flag=\"red\" %}");
    let proposal = proposed(&texts, "brace-percent", Partials::Repeats, Strength::Blanks);
    assert!(proposal.partials.is_empty(), "{:?}", proposal.partials);
}
