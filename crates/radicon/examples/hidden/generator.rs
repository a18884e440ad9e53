//! Random sites of several levels, and the flat pages that they give.

use radicon::{Resolver, Settings, Site, SourceFile, dialect};

/// A hidden hierarchy.
pub struct Hidden {
    /// Its templates.
    pub site: Site,
    /// The finished pages, the only thing that `propose` sees.
    pub pages: Vec<SourceFile>,
    /// How many layouts stand above each other at most.
    pub levels: usize,
    /// How many partials there are.
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
}

impl Shape {
    /// A random one: 1 to 4 levels, 1 to 12 families, 10 and more pages.
    pub fn random(random: &mut Random, most_pages: usize) -> Self {
        let families = 1 + random.below(12);
        let least = (families * 4).max(10);
        Self {
            levels: 1 + random.below(4),
            families,
            pages: least + random.below(most_pages.saturating_sub(least).max(1)),
            partials: random.below(2) == 0,
            menu: random.below(2) == 0,
            reindented: random.below(6) == 0,
        }
    }
}

/// A small random generator (SplitMix64; Steele, Lea and Flood 2014).
pub struct Random(pub u64);

impl Random {
    pub fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        z ^ (z >> 31)
    }

    pub fn below(&mut self, limit: usize) -> usize {
        (self.next() % limit.max(1) as u64) as usize
    }

    fn word(&mut self) -> String {
        (0..4 + self.below(6)).map(|_| char::from(b'a' + self.below(26) as u8)).collect()
    }

    fn words(&mut self, least: usize, most: usize) -> String {
        let count = least + self.below(most - least + 1);
        (0..count).map(|_| self.word()).collect::<Vec<_>>().join(" ")
    }
}

/// Some elements, one or more lines each, so deep.
fn fragment(random: &mut Random, deep: usize, elements: std::ops::RangeInclusive<usize>) -> String {
    let pad = "  ".repeat(deep);
    let mut out = String::new();
    for _ in 0..elements.start() + random.below(elements.end() - elements.start() + 1) {
        match random.below(5) {
            0 => out += &format!("{pad}<p>{}</p>\n", random.words(6, 16)),
            1 => out += &format!("{pad}<h2>{}</h2>\n", random.words(1, 3)),
            2 => {
                out += &format!("{pad}<ul class=\"{}\">\n", random.word());
                for _ in 0..2 + random.below(3) {
                    out += &format!("{pad}  <li><a href=\"/{}.html\">{}</a></li>\n", random.word(), random.words(1, 3));
                }
                out += &format!("{pad}</ul>\n");
            }
            3 => {
                out += &format!("{pad}<section id=\"{}\">\n{pad}  <p>{}</p>\n", random.word(), random.words(4, 12));
                out += &format!("{pad}</section>\n");
            }
            _ => {
                out += &format!(
                    "{pad}<p class=\"{}\">{} <b>{}</b></p>\n",
                    random.word(),
                    random.words(3, 9),
                    random.word()
                )
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
    children: usize,
}

/// Makes a site and flattens it.
pub fn generate(random: &mut Random, shape: Shape) -> Hidden {
    let mut files: Vec<SourceFile> = Vec::new();
    let mut header = fragment(random, 2, 3..=6);
    if shape.menu {
        header += "    <ul>\n";
        for family in 0..shape.families {
            header += &format!(
                "      <li><a href=\"/section-{family}.html\"<!--: block current_{family} --><!--: end current_{family} -->>{}</a></li>\n",
                random.words(1, 2)
            );
        }
        header += "    </ul>\n";
    }
    let footer = fragment(random, 2, 2..=5);
    let aside = fragment(random, 2, 2..=2);
    let sheet = random.word();
    files.push(SourceFile::new(
        "layouts/base.html",
        format!(
            "<!DOCTYPE html>\n<html lang=\"en\">\n<head>\n  <meta charset=\"utf-8\">\n  <title><!--: block title --><!--: end title --></title>\n  <link rel=\"stylesheet\" href=\"/css/{sheet}.css\">\n  <!--: block styles --><!--: end styles -->\n</head>\n<body>\n  <header>\n{header}  </header>\n  <main>\n    <!--: block content --><!--: end content -->\n  </main>\n  <aside>\n    <!--: block aside -->\n{aside}    <!--: end aside -->\n  </aside>\n  <footer>\n{footer}  </footer>\n  <!--: block scripts --><!--: end scripts -->\n</body>\n</html>\n"
        ),
    ));
    let mut frames = vec![Frame { path: "layouts/base.html".into(), level: 1, content: "content".into(), children: 0 }];
    if shape.levels > 1 {
        for family in 0..shape.families {
            // Most hang from the deepest frames that may have children.
            let able: Vec<usize> = (0..frames.len()).filter(|&at| frames[at].level < shape.levels).collect();
            let parent = able[able.len() - 1 - random.below(able.len().min(3))];
            frames[parent].children += 1;
            let (level, outer) = (frames[parent].level + 1, frames[parent].content.clone());
            let (path, content) = (format!("layouts/section-{family}.html"), format!("content_{family}"));
            let (before, after) = (fragment(random, 2, 2..=5), fragment(random, 2, 1..=3));
            let sheet = random.word();
            let styles = match random.below(2) {
                0 => format!(
                    "<!--: block styles -->\n  <link rel=\"stylesheet\" href=\"/css/{}.css\">\n<!--: end styles -->\n\n",
                    sheet
                ),
                _ => String::new(),
            };
            let current = match shape.menu {
                true => {
                    format!("<!--: block current_{family} --> aria-current=\"page\"<!--: end current_{family} -->\n")
                }
                false => String::new(),
            };
            let inner = format!("    <!--: block {content} --><!--: end {content} -->\n");
            files.push(SourceFile::new(
                path.clone(),
                format!(
                    "<!--: layout {} -->\n{current}{styles}<!--: block {outer} -->\n  <div class=\"{}\">\n{before}{inner}{after}  </div>\n<!--: end {outer} -->\n",
                    frames[parent].path,
                    random.word()
                ),
            ));
            frames.push(Frame { path, level, content, children: 0 });
        }
    }
    let partials: Vec<String> = (0..if shape.partials { 1 + random.below(4) } else { 0 })
        .map(|number| {
            let path = format!("parts/part-{number}.html");
            files.push(SourceFile::new(path.clone(), fragment(random, 0, 2..=4)));
            path
        })
        .collect();
    for number in 0..shape.pages {
        let frame = &frames[if number < frames.len() * 4 { number % frames.len() } else { random.below(frames.len()) }];
        let mut text = format!(
            "<!--: layout {} -->\n<!--: block title -->{}<!--: end title -->\n",
            frame.path,
            random.words(2, 5)
        );
        let mut content = fragment(random, 1, 2..=7);
        if !partials.is_empty() && random.below(2) == 0 {
            content += &format!("  <!--: partial {} -->\n", partials[random.below(partials.len())]);
        }
        text += &format!("\n<!--: block {0} -->\n{content}<!--: end {0} -->\n", frame.content);
        if random.below(8) == 0 {
            text += &format!("\n<!--: block aside -->\n{}<!--: end aside -->\n", fragment(random, 1, 1..=1));
        }
        if random.below(5) == 0 {
            text += &format!(
                "\n<!--: block scripts -->\n  <script src=\"/js/{}.js\"></script>\n<!--: end scripts -->\n",
                random.word()
            );
        }
        files.push(SourceFile::new(format!("pages/{number:04}.html"), text));
    }
    let site = Site::read(files, dialect::builtin(), &Settings::default());
    let resolver = Resolver::new(&site);
    let flatten = |(number, id)| {
        let bytes = resolver.flatten(id).expect("a page of a whole site").bytes;
        let path = site.get(id).path.clone();
        match shape.reindented && number % 5 == 0 {
            true => SourceFile::new(path, String::from_utf8_lossy(&bytes).replace("\n  ", "\n    ")),
            false => SourceFile::new(path, bytes),
        }
    };
    let pages = site.pages().filter(|&id| site.get(id).path.starts_with("pages/")).enumerate().map(flatten).collect();
    let levels = frames.iter().map(|frame| frame.level).max().unwrap_or(1);
    Hidden { pages, levels, partials: partials.len(), site }
}
