//! Random sites of several levels, and the flat pages that they give.

use super::Random;
use radicon::markup::ConstructId;
use radicon::{Resolver, Settings, Site, SourceFile, dialect};

/// A hidden hierarchy.
pub struct Hidden {
    /// Its templates.
    pub site: Site,
    /// The finished pages, the only thing that `propose` sees.
    pub pages: Vec<SourceFile>,
    /// How many layouts stand above each other at most.
    pub levels: usize,
    /// How many partials there are; paragraphs alone are running text, which is to stay on its pages.
    pub partials: usize,
}

/// What a site is like.
#[derive(Clone, Copy, Debug)]
pub struct Shape {
    pub levels: usize,
    pub families: usize,
    pub pages: usize,
    pub partials: bool,
    /// The menu marks the section that a page belongs to.
    pub menu: bool,
    /// A fifth of the pages is indented otherwise.
    pub reindented: bool,
    /// A fifth of the pages has other line ends.
    pub mixed_ends: bool,
    /// Written with tags in brackets, in which partials take parameters.
    pub brackets: bool,
}

impl Shape {
    /// A random one: 1 to 4 levels, 1 to 12 families, 10 and more pages.
    pub fn random(random: &mut Random, most_pages: usize) -> Self {
        let families = 1 + random.below(12);
        let least = ((families + 1) * 6).max(10);
        Self {
            levels: 1 + random.below(4),
            families,
            pages: least + random.below(most_pages.saturating_sub(least).max(1)),
            partials: random.below(2) == 0,
            menu: random.below(2) == 0,
            reindented: random.below(6) == 0,
            mixed_ends: random.below(8) == 0,
            brackets: random.below(3) == 0,
        }
    }

    /// The dialect that the hierarchy is hidden in.
    pub fn dialect(self) -> &'static str {
        if self.brackets { "brace-percent" } else { "margin" }
    }
}

pub fn word(random: &mut Random) -> String {
    (0..4 + random.below(6)).map(|_| char::from(b'a' + random.below(26) as u8)).collect()
}

pub fn words(random: &mut Random, least: usize, most: usize) -> String {
    let count = least + random.below(most - least + 1);
    (0..count).map(|_| word(random)).collect::<Vec<_>>().join(" ")
}

/// Some elements, one or more lines each, so deep.
pub fn fragment(random: &mut Random, deep: usize, elements: std::ops::RangeInclusive<usize>) -> String {
    let pad = "  ".repeat(deep);
    let mut out = String::new();
    for _ in 0..elements.start() + random.below(elements.end() - elements.start() + 1) {
        match random.below(5) {
            0 => out += &format!("{pad}<p>{}</p>\n", words(random, 6, 16)),
            1 => out += &format!("{pad}<h2>{}</h2>\n", words(random, 1, 3)),
            2 => {
                out += &format!("{pad}<ul class=\"{}\">\n", word(random));
                for _ in 0..2 + random.below(3) {
                    out += &format!("{pad}  <li><a href=\"/{}.html\">{}</a></li>\n", word(random), words(random, 1, 3));
                }
                out += &format!("{pad}</ul>\n");
            }
            3 => {
                out += &format!("{pad}<section id=\"{}\">\n{pad}  <p>{}</p>\n", word(random), words(random, 4, 12));
                out += &format!("{pad}</section>\n");
            }
            _ => {
                out +=
                    &format!("{pad}<p class=\"{}\">{} <b>{}</b></p>\n", word(random), words(random, 3, 9), word(random))
            }
        }
    }
    out
}

/// A layout while it is made.
struct Frame {
    path: String,
    level: usize,
    /// The block that its pages put their content in.
    content: String,
}

/// The layout of all pages.
fn base(random: &mut Random, shape: Shape) -> SourceFile {
    let mut header = fragment(random, 2, 3..=6);
    if shape.menu {
        header += "    <ul>\n";
        for family in 0..shape.families {
            let mark = format!("<!--: block current_{family} --><!--: end current_{family} -->");
            let text = words(random, 1, 2);
            header += &format!("      <li><a href=\"/section-{family}.html\"{mark}>{text}</a></li>\n");
        }
        header += "    </ul>\n";
    }
    let (footer, aside, sheet) = (fragment(random, 2, 2..=5), fragment(random, 2, 2..=2), word(random));
    let head = format!(
        "<!DOCTYPE html>\n<html lang=\"en\">\n<head>\n  <meta charset=\"utf-8\">\n  <title><!--: block title --><!--: end title --></title>\n  <link rel=\"stylesheet\" href=\"/css/{sheet}.css\">\n  <!--: block styles --><!--: end styles -->\n</head>\n"
    );
    let main = "  <main>\n    <!--: block content --><!--: end content -->\n  </main>\n";
    let aside = format!("  <aside>\n    <!--: block aside -->\n{aside}    <!--: end aside -->\n  </aside>\n");
    let script = format!("<script src=\"/js/{}-{}.js\" defer></script>", word(random), word(random));
    let end = format!("  <!--: block scripts -->\n  {script}\n  <!--: end scripts -->\n</body>\n</html>\n");
    let body = format!("<body>\n  <header>\n{header}  </header>\n{main}{aside}  <footer>\n{footer}  </footer>\n{end}");
    SourceFile::new("layouts/base.html", head + &body)
}

/// A layout of a family of pages, between the one around it and its pages.
fn section(random: &mut Random, shape: Shape, family: usize, around: &Frame) -> (SourceFile, Frame) {
    let (path, content) = (format!("layouts/section-{family}.html"), format!("content_{family}"));
    let (before, after) = (fragment(random, 2, 2..=5), fragment(random, 2, 1..=3));
    let mut text = format!("<!--: layout {} -->\n", around.path);
    if shape.menu {
        text += &format!("<!--: block current_{family} --> aria-current=\"page\"<!--: end current_{family} -->\n");
    }
    if random.once_in(2) {
        let sheet = word(random);
        text += &format!(
            "<!--: block styles -->\n  <link rel=\"stylesheet\" href=\"/css/{sheet}.css\">\n<!--: end styles -->\n\n"
        );
    }
    let (outer, class) = (&around.content, word(random));
    let inner = format!("    <!--: block {content} --><!--: end {content} -->\n");
    text += &format!(
        "<!--: block {outer} -->\n  <div class=\"{class}\">\n{before}{inner}{after}  </div>\n<!--: end {outer} -->\n"
    );
    (SourceFile::new(path.clone(), text), Frame { path, level: around.level + 1, content })
}

fn page(random: &mut Random, number: usize, frame: &Frame, partials: &[String]) -> SourceFile {
    let title = words(random, 2, 5);
    let mut text = format!("<!--: layout {} -->\n<!--: block title -->{title}<!--: end title -->\n", frame.path);
    let mut content = fragment(random, 1, 2..=7);
    if !partials.is_empty() && random.once_in(2) {
        let partial = &partials[random.below(partials.len())];
        let values = match partial.contains("with-values") {
            true => format!(" with heading=\"{}\" link=\"/{}.html\"", words(random, 1, 3), word(random)),
            false => String::new(),
        };
        content += &format!("  <!--: partial {partial}{values} -->\n");
    }
    text += &format!("\n<!--: block {0} -->\n{content}<!--: end {0} -->\n", frame.content);
    if random.once_in(8) {
        text += &format!("\n<!--: block aside -->\n{}<!--: end aside -->\n", fragment(random, 1, 1..=1));
    }
    // Some add to the scripts, a few have others instead.
    if random.once_in(5) {
        let (script, inherited) = (word(random), if random.once_in(4) { "" } else { "  <!--: inherited -->\n" });
        text += &format!(
            "\n<!--: block scripts -->\n{inherited}  <script src=\"/js/{script}.js\"></script>\n<!--: end scripts -->\n"
        );
    }
    SourceFile::new(format!("pages/{number:04}.html"), text)
}

/// Makes a site and flattens it.
pub fn generate(random: &mut Random, shape: Shape) -> Hidden {
    let mut files = vec![base(random, shape)];
    let mut frames = vec![Frame { path: "layouts/base.html".into(), level: 1, content: "content".into() }];
    for family in 0..if shape.levels > 1 { shape.families } else { 0 } {
        // Most hang from the deepest frames that may have children.
        let able: Vec<usize> = (0..frames.len()).filter(|&at| frames[at].level < shape.levels).collect();
        let around = able[able.len() - 1 - random.below(able.len().min(3))];
        let (file, frame) = section(random, shape, family, &frames[around]);
        files.push(file);
        frames.push(frame);
    }
    let count = if shape.partials { 1 + random.below(4) } else { 0 };
    let with_values = |number: usize| if shape.brackets && number % 2 == 1 { "-with-values" } else { "" };
    let partials: Vec<String> =
        (0..count).map(|number| format!("parts/part-{number}{}.html", with_values(number))).collect();
    let mut things = 0;
    for path in &partials {
        let mut text = fragment(random, 0, 2..=4);
        if path.contains("with-values") {
            let (about, more) = (words(random, 8, 16), words(random, 2, 4));
            text += &format!(
                "<div class=\"{}\">\n  <h3>{{{{ heading }}}}</h3>\n  <p>{about}</p>\n  <a href=\"{{{{ link }}}}\">{more}</a>\n</div>\n",
                word(random)
            );
        }
        things += usize::from(text.lines().any(|line| !line.starts_with("<p")));
        files.push(SourceFile::new(path.clone(), text));
    }
    for number in 0..shape.pages {
        let frame = if number < frames.len() * 6 { number % frames.len() } else { random.below(frames.len()) };
        files.push(page(random, number, &frames[frame], &partials));
    }
    if shape.brackets {
        files.iter_mut().for_each(in_brackets);
    }
    let site = Site::read(files, dialect::builtin(), &Settings::default());
    let resolver = Resolver::new(&site);
    let flatten = |(number, id)| {
        let bytes = resolver.flatten(id).expect("a page of a whole site").bytes;
        let path = site.get(id).path.clone();
        let text = String::from_utf8_lossy(&bytes).into_owned();
        let text = if shape.reindented && number % 5 == 0 { text.replace("\n  ", "\n    ") } else { text };
        let text = if shape.mixed_ends && number % 5 == 1 { text.replace('\n', "\r\n") } else { text };
        SourceFile::new(path, text)
    };
    let pages = site.pages().filter(|&id| site.get(id).path.starts_with("pages/")).enumerate().map(flatten).collect();
    let levels = frames.iter().map(|frame| frame.level).max().unwrap_or(1);
    Hidden { pages, levels, partials: things, site }
}

/// The same with tags in brackets.
pub fn in_brackets(file: &mut SourceFile) {
    let text = String::from_utf8(file.bytes.clone()).expect("text");
    let mut out = String::new();
    for (index, piece) in text.split("<!--: ").enumerate() {
        let Some((tag, rest)) = piece.split_once(" -->").filter(|_| index > 0) else {
            out += piece;
            continue;
        };
        let (word, name) = tag.split_once(' ').unwrap_or((tag, ""));
        out += &match word {
            "layout" => format!("{{% extends \"{name}\" %}}"),
            "block" => format!("{{% block {name} %}}"),
            "end" => "{% endblock %}".to_owned(),
            "inherited" => "{{ super() }}".to_owned(),
            _ => {
                let (path, values) = name.split_once(' ').unwrap_or((name, ""));
                let space = if values.is_empty() { "" } else { " " };
                format!("{{% include \"{path}\"{space}{values} %}}")
            }
        };
        out += rest;
    }
    file.bytes = out.into();
}

/// What each page overrides, as text without white space, its partials put in.
pub fn overrides(site: &Site, path: &str) -> Vec<Vec<u8>> {
    let id = site.find(path).expect("a page");
    let template = site.get(id);
    let solid = |bytes: &[u8]| bytes.iter().copied().filter(|b| !b.is_ascii_whitespace()).collect::<Vec<u8>>();
    let items = &template.constructs.items;
    let content = |at: ConstructId| {
        let inner = template.inner(at);
        let mut out = Vec::new();
        let mut from = inner.start;
        for (index, item) in
            ConstructId::each(items).filter(|(_, item)| inner.start <= item.span.start && item.span.end <= inner.end)
        {
            out.extend(solid(&template.source[from as usize..item.span.start as usize]));
            from = item.span.end;
            if let Some(Ok(target)) = site.links(id).target(index) {
                let text = String::from_utf8_lossy(&site.get(*target).source).into_owned();
                out.extend(solid(with_values(&text, &item.expr.text(&template.source)).as_bytes()));
            }
        }
        out.extend(solid(&template.source[from as usize..inner.end as usize]));
        out
    };
    template.blocks().map(|(at, _)| content(at)).collect()
}

/// A partial with the values of its arguments put in.
fn with_values(text: &str, arguments: &str) -> String {
    let mut out = text.to_owned();
    for piece in arguments.trim_start_matches("with ").split("\" ") {
        if let Some((name, value)) = piece.split_once("=\"") {
            out = out.replace(&format!("{{{{ {name} }}}}"), value.trim_end_matches('"'));
        }
    }
    out
}
