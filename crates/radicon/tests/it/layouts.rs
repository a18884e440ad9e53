//! What a layout looks like for this or that difference between pages: a table
//! of small cases, each with the bodies of four pages and the layout of them.

use crate::made::site::site;
use radicon::propose::Goal;
use radicon::{ProposeOptions, SourceFile, Strength, dialect, propose};

/// Enough frame that a layout pays for every case.
const ABOVE: &str = "<!DOCTYPE html>\n<html>\n<head>\n  <meta charset=\"utf-8\">\n";
const MIDDLE: &str =
    "</head>\n<body>\n  <header><p>Tidewater carries people and bicycles between the seven harbours</p></header>\n";
const BELOW: &str =
    "  <footer><p>Quay office, Old Pier, Merrin Sound, open every day from 7 to 19</p></footer>\n</body>\n</html>\n";

/// Proposes for pages with these heads and bodies; gives the part of the layout
/// between the fixed parts, for head or body.
#[track_caller]
fn layout(heads: [&str; 4], bodies: [&str; 4], strength: Strength) -> (String, String) {
    layout_for(Goal::Balanced, heads, bodies, strength)
}

#[track_caller]
fn layout_for(goal: Goal, heads: [&str; 4], bodies: [&str; 4], strength: Strength) -> (String, String) {
    let page = |index: usize| format!("{ABOVE}{}{MIDDLE}{}{BELOW}", heads[index], bodies[index]);
    let files = (0..4).map(|index| SourceFile::new(format!("{index}.html"), page(index))).collect();
    let options = ProposeOptions {
        strength,
        dialect: dialect::builtin_named("brace-percent"),
        goal,
        block_price: Some(10),
        ..ProposeOptions::default()
    };
    let proposal = propose(&site(files), &options).expect("a proposal");
    assert!(proposal.proof.pages.iter().all(|page| page.is_equal_at(strength)));
    assert_eq!(proposal.files.len(), 5, "{:?}", proposal.left);
    let file = proposal.files.iter().find(|file| file.path == proposal.layouts[0].path).expect("the layout");
    let text = String::from_utf8_lossy(&file.bytes).into_owned();
    let cut = |from: &str, to: &str| {
        let start = text.find(from).unwrap_or_else(|| panic!("no {from} in {text}")) + from.len();
        text[start..start + text[start..].find(to).unwrap_or_else(|| panic!("no {to} in {text}"))].to_owned()
    };
    (cut("<meta charset=\"utf-8\">\n", "</head>"), cut("</header>\n", "  <footer>"))
}

#[track_caller]
fn head(heads: [&str; 4], expected: &str) {
    assert_eq!(layout(heads, [""; 4], Strength::Blanks).0, expected);
}

#[track_caller]
fn body(bodies: [&str; 4], expected: &str) {
    assert_eq!(layout([""; 4], bodies, Strength::Blanks).1, expected);
}

#[test]
fn a_title_is_split_where_words_begin() {
    let titles = ["Fares", "Our boats", "Old Pier", "Winter"]
        .map(|title| format!("  <title>{title} | Tidewater Ferries</title>\n"));
    head(
        titles.each_ref().map(String::as_str),
        "  <title>{% block title %}{% endblock %} | Tidewater Ferries</title>\n",
    );
}

#[test]
fn a_value_that_differs_is_a_block_as_a_whole() {
    let metas = ["tides", "fares and rovers", "boats", "tides again"]
        .map(|about| format!("  <meta name=\"description\" content=\"About {about}\">\n"));
    head(
        metas.each_ref().map(String::as_str),
        "  <meta name=\"description\" content=\"{% block description %}{% endblock %}\">\n",
    );
}

#[test]
fn what_most_pages_share_is_the_default() {
    let usual = "  <link rel=\"canonical\" href=\"/tidewater\">\n";
    head(
        [usual, usual, usual, "  <link rel=\"canonical\" href=\"/gull-point\">\n"],
        "  <link rel=\"canonical\" href=\"{% block canonical %}/tidewater{% endblock %}\">\n",
    );
}

#[test]
fn what_only_some_pages_have_is_an_empty_block() {
    let style = "  <link rel=\"stylesheet\" href=\"/boats.css\">\n";
    head(["", style, "", "  <style>p { margin: 0 }</style>\n"], "  {% block styles %}{% endblock %}\n");
}

#[test]
fn the_current_item_is_marked_within_its_tag() {
    let menu = |current: usize| {
        let item = |(index, name): (usize, &str)| {
            let mark = if index == current { " aria-current=\"page\"" } else { "" };
            format!("      <li><a href=\"/{name}.html\"{mark}>{name}</a></li>\n")
        };
        let items: String = ["tides", "fares", "boats"].into_iter().enumerate().map(item).collect();
        format!("  <nav>\n    <ul>\n{items}    </ul>\n  </nav>\n")
    };
    let menus = [menu(0), menu(1), menu(2), menu(9)];
    let item = |name: &str| {
        format!("      <li><a href=\"/{name}.html\"{{% block current_{name} %}}{{% endblock %}}>{name}</a></li>\n")
    };
    let items: String = ["tides", "fares", "boats"].into_iter().map(item).collect();
    body(menus.each_ref().map(String::as_str), &format!("  <nav>\n    <ul>\n{items}    </ul>\n  </nav>\n"));
}

#[test]
fn content_becomes_one_block_named_after_its_element() {
    let main = |text: &str| format!("  <main>\n    {text}\n  </main>\n");
    let pages = [
        main("<h1>Fares</h1>\n    <p>You pay on board.</p>"),
        main("<p>Boats</p>"),
        main("<table><tr><td>1</table>"),
        main("Just text"),
    ];
    body(pages.each_ref().map(String::as_str), "  <main>\n    {% block content %}{% endblock %}\n  </main>\n");
}

#[test]
fn a_missing_region_does_not_cost_the_others_their_inner_blocks() {
    let aside = |word: &str| {
        format!("  <aside>\n    <h2>Today on the quay and on the water</h2>\n    <p>{word}</p>\n  </aside>\n")
    };
    let pages = [aside("calm"), aside("fog"), aside("gales"), String::new()];
    let expected = "  {% block sidebar %}\n    <aside>\n      <h2>Today on the quay and on the water</h2>\n      <p>{% block today %}{% endblock %}</p>\n    </aside>\n  {% endblock %}\n";
    let found = layout_for(Goal::Smallest, [""; 4], pages.each_ref().map(String::as_str), Strength::Blanks).1;
    let unnamed = |text: &str| {
        text.split("{% block ")
            .map(|part| part.split_once(" %}").map_or(part, |(_, rest)| rest).to_owned())
            .collect::<Vec<_>>()
    };
    assert_eq!(unnamed(&found), unnamed(expected), "{found}");
}

#[test]
fn scripts_are_split_by_lines() {
    let script = |n: usize| {
        format!(
            "  <script>\n    const start = performance.now();\n    const page = {n};\n    console.log(start, page);\n  </script>\n"
        )
    };
    let pages = [script(1), script(2), script(3), script(4)];
    let (_, found) = layout([""; 4], pages.each_ref().map(String::as_str), Strength::Blanks);
    assert!(found.contains("performance.now();\n{% block script_lines %}{% endblock %}    console.log"), "{found}");
}

#[test]
fn white_space_that_counts_is_never_touched() {
    let pre = |text: &str| format!("  <pre>\n{text}\n     deep\n</pre>\n  <p>one <b>{text}</b> two</p>\n");
    let pages = [pre("a"), pre(" b"), pre("  c"), pre("\td")];
    for strength in [Strength::Bytes, Strength::Blanks] {
        layout([""; 4], pages.each_ref().map(String::as_str), strength);
    }
}

#[test]
fn strict_output_keeps_odd_white_space_between_blocks() {
    let page = |n: usize| format!("  <main>{}<p>{n}</p>{}</main>\n", " ".repeat(n), "\n".repeat(3 - n));
    let pages = [page(0), page(1), page(2), page(3)];
    let (_, found) = layout([""; 4], pages.each_ref().map(String::as_str), Strength::Bytes);
    assert_eq!(found, "  <main>{% block content %}{% endblock %}</main>\n");
}
