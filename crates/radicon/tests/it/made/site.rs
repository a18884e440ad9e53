//! Random sites of pages that were copied from one frame.

use radicon::{Settings, Site, SourceFile, dialect};

use super::Random;

/// How untidy the copies are.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Care {
    /// The frame is the same, byte for byte.
    Exact,
    /// Lines are indented as it came, some line ends are CRLF.
    Sloppy,
}

const WORDS: &[&str] = &[
    "tide", "quay", "ferry", "gull", "sand", "rope", "mast", "buoy", "skerry", "harbour", "anchor", "crew", "deck",
    "sail",
];

fn words(random: &mut Random, most: usize) -> String {
    (0..1 + random.below(most)).map(|_| random.pick(WORDS)).collect::<Vec<_>>().join(" ")
}

fn block(random: &mut Random) -> String {
    match random.below(7) {
        0 => format!("<h2 class=\"{}\">{}</h2>", words(random, 1), words(random, 3)),
        1 => format!(
            "<ul>\n  <li>{}</li>\n  <li><b>{}</b> {}</li>\n</ul>",
            words(random, 3),
            words(random, 1),
            words(random, 2)
        ),
        2 => format!("<pre>\n{}\n   {}\n</pre>", words(random, 4), words(random, 4)),
        3 => format!("<table><tr><td>{}<td>{}</table>", words(random, 2), words(random, 2)),
        4 => format!(
            "<p>{} <i>{}</i>, {}\n   {}<br>\n{}</p>",
            words(random, 5),
            words(random, 2),
            words(random, 5),
            words(random, 6),
            words(random, 2)
        ),
        5 => format!(
            "<form><textarea name=a> {}\n </textarea> <button>{}</button></form>",
            words(random, 3),
            words(random, 1)
        ),
        _ => format!(
            "<p>{} &amp; {} <a href=\"/{}.html\">{}</a> — {}",
            words(random, 9),
            words(random, 3),
            words(random, 1),
            words(random, 2),
            words(random, 9)
        ),
    }
}

fn blocks(random: &mut Random, most: usize) -> String {
    (0..1 + random.below(most)).map(|_| block(random)).collect::<Vec<_>>().join("\n")
}

/// Pages copied from a random frame, with what a page has of its own: title,
/// description, styles, current menu item, content, sometimes a changed footer.
pub fn copied_pages(random: &mut Random, pages: usize, care: Care) -> Vec<SourceFile> {
    let menu: Vec<String> = (0..2 + random.below(6)).map(|n| format!("{}-{n}", words(random, 1))).collect();
    let head = format!("<meta charset=\"utf-8\">\n<link rel=\"stylesheet\" href=\"/{}.css\">", words(random, 1));
    let (above, below, footer) = (blocks(random, 3), blocks(random, 3), blocks(random, 3));
    let suffix = if random.once_in(2) { " — Tidewater" } else { "" };
    let in_title = random.once_in(2);
    (0..pages)
        .map(|number| {
            let current = random.below(menu.len() + 1);
            let items: Vec<String> = menu
                .iter()
                .enumerate()
                .map(|(index, item)| {
                    let mark = if index == current { " aria-current=\"page\"" } else { "" };
                    format!("    <li><a href=\"/{item}.html\"{mark}>{item}</a></li>")
                })
                .collect();
            let styles = if random.once_in(3) { "\n<style>\n p { margin: 0 }\n</style>" } else { "" };
            let script = if random.once_in(3) { format!("\n<script>\n  start({number});\n</script>") } else { String::new() };
            let footer = if random.once_in(8) { blocks(random, 2) } else { footer.clone() };
            let class = if in_title { format!(" class=\"{}\"", words(random, 1)) } else { String::new() };
            let text = format!(
                "<!DOCTYPE html>\n<html>\n<head>\n{head}\n<title>{title}{suffix}</title>\n<meta name=\"description\" content=\"{about}\">{styles}\n</head>\n\
                 <body{class}>\n<header>\n{above}\n</header>\n<nav>\n  <ul>\n{items}\n  </ul>\n</nav>\n<main>\n{content}\n</main>\n\
                 <aside>\n{below}\n</aside>\n<footer>\n{footer}\n</footer>{script}\n</body>\n</html>\n",
                title = words(random, 3),
                about = words(random, 8),
                items = items.join("\n"),
                content = blocks(random, 6),
            );
            let text = if care == Care::Sloppy { untidy(random, &text) } else { text };
            SourceFile::new(format!("{}page-{number:03}.html", if random.once_in(4) { "deep/" } else { "" }), text)
        })
        .collect()
}

/// Other indentation where it does not show, and sometimes other line ends.
fn untidy(random: &mut Random, text: &str) -> String {
    let style = random.below(4);
    let mut preserved = false;
    let mut out = String::new();
    for line in text.lines() {
        let opens = ["<pre", "<textarea", "<script", "<style"].iter().any(|tag| line.contains(tag));
        if !preserved && style > 0 {
            out.push_str(&" ".repeat(if random.once_in(3) { style } else { style * 2 }));
        }
        out.push_str(line);
        preserved = (preserved || opens)
            && !["</pre", "</textarea", "</script", "</style"].iter().any(|tag| line.contains(tag));
        out.push_str(if style == 3 && !preserved { "\r\n" } else { "\n" });
    }
    out
}

/// A site of files, read with the built-in dialects.
pub fn site(files: Vec<SourceFile>) -> Site {
    Site::read(files, dialect::builtin(), &Settings::default())
}
