//! Sites in the notations of the fixture engines, as dirty as real ones, and how well they are read.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;
use std::sync::Arc;

use radicon::dialect::{self, Dialect};
use radicon::learn::learn;
use radicon::report::Survey;
use radicon::site::ProblemKind;
use radicon::{Resolver, Settings, Site, SourceFile};

use super::Random;

/// The engines of DESIGN §4, by shape.
pub const ENGINES: [&str; 8] = ["lantern", "signal", "helm", "crate", "canvas", "buoy", "pier", "mooring"];

const REGIONS: [&str; 8] = ["title", "lead", "main", "aside", "notes", "scripts", "styles", "crumbs"];
const PARTIALS: [&str; 10] =
    ["nav", "foot", "menu", "card", "row", "price", "banner", "address", "tides-table", "search-form"];
const PAGES: [&str; 8] = ["index", "edit", "list", "show", "new", "detail", "about", "search"];
const FOLDERS: [&str; 6] = ["fares", "piers", "boats", "crew", "desk", "tides"];
const WORDS: [&str; 16] = [
    "ferry", "harbour", "tide", "crossing", "fare", "pier", "deck", "winter", "morning", "boat", "sea", "the", "a",
    "to", "for", "with",
];

/// A site, and what it is in truth.
pub struct Dirty {
    pub files: Vec<SourceFile>,
    dialects: Vec<Arc<Dialect>>,
    settings: Settings,
    /// How the replaced content is written.
    replaced: String,
}

struct Writer<'a> {
    engine: &'static str,
    random: &'a mut Random,
    files: Vec<SourceFile>,
    /// The regions that have content in the layout.
    filled: Vec<&'static str>,
}

/// A site of so many templates.
pub fn site(random: &mut Random, engine: &'static str, templates: usize) -> Dirty {
    let mut writer = Writer { engine, random, files: Vec::new(), filled: Vec::new() };
    writer.site(templates);
    let mut files = writer.files;
    files.sort_by(|a, b| a.path.cmp(&b.path));
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../radicon/tests/fixtures").join(engine).join("site");
    let read = |path: &str| std::fs::read_to_string(folder.join(path)).unwrap_or_default();
    let disguise = Disguise::of(random, engine);
    let own = disguise.put_on(&read(&format!("dialects/{engine}.toml")));
    let mut dialects = dialect::builtin().to_vec();
    if !own.is_empty() {
        dialects.insert(0, Arc::new(Dialect::parse(&own).unwrap_or_else(|error| panic!("{error}\n{own}"))));
    }
    for file in &mut files {
        file.bytes = disguise.put_on(&String::from_utf8_lossy(&file.bytes)).into_bytes();
    }
    // The files around every page belong to another site.
    let settings = if engine == "canvas" { "roots = ['sails']".to_owned() } else { read("radicon.toml") };
    let settings = Settings::parse(&settings).expect("settings");
    let replaced = match engine {
        "lantern" => "[~ before ~]",
        "signal" => "~above",
        "pier" => "data-above",
        "mooring" => "<!--: inherited -->",
        _ => "",
    };
    let replaced = disguise.put_on(replaced);
    Dirty { files, dialects, settings, replaced }
}

/// Other signs and words for those of an engine.
struct Disguise {
    signs: Vec<(&'static str, &'static str)>,
    words: BTreeMap<&'static str, String>,
}

impl Disguise {
    fn of(random: &mut Random, engine: &str) -> Self {
        let signs: &[&[(&str, &str)]] = match engine {
            "lantern" => &[&[("[~", "{!"), ("~]", "!}")], &[("[~", "(~"), ("~]", "~)")], &[("[=", "(("), ("=]", "))")]],
            "signal" => &[&[("~", "^")], &[("~", "!")], &[("~", "|")]],
            "helm" => &[&[("^", "~")], &[("^", "|")]],
            "crate" => &[&[("(|", "{?"), ("|)", "?}")], &[("(|", "{:"), ("|)", ":}")], &[("(|", "(("), ("|)", "))")]],
            "canvas" => &[&[("[*", "{!"), ("*]", "!}")], &[("[*", "(*"), ("*]", "*)")]],
            "pier" => &[&[("data-", "x-")], &[("{=", "(="), ("=}", "=)")]],
            _ => &[],
        };
        let at = random.below(signs.len() + 1);
        let signs = signs.get(at).map_or(Vec::new(), |signs| signs.to_vec());
        let words: &[&str] = match engine {
            "lantern" => &["hangs", "lamp", "hook", "fetch", "before", "when", "each", "let", "out"],
            "signal" => &["frame", "berth", "moor", "cast", "show", "above", "bring", "when", "done", "each"],
            "helm" => &["Mast", "Cargo", "Hold", "stow", "Bring", "if", "each"],
            "crate" => &["region", "supply", "place", "fin", "when", "otherwise", "each"],
            "canvas" => &["FRAME", "CONTENT", "SPOT", "INTO", "FETCH", "IF", "ELSE", "END"],
            "buoy" => &["hull", "cargo", "bay", "tow", "have", "done", "put"],
            _ => &[],
        };
        let mut used = Vec::new();
        let words =
            words.iter().filter(|_| at > 0).map(|&word| (word, super::engines::word(random, &mut used))).collect();
        Self { signs, words }
    }

    fn put_on(&self, text: &str) -> String {
        let mut text = text.to_owned();
        for (from, to) in &self.signs {
            // In a dialect file a literal bracket has a backslash before it.
            let escaped = from.replace('[', "\\[").replace(']', "\\]");
            text = text.replace(&escaped, to).replace(from, to);
        }
        let mut out = String::with_capacity(text.len());
        for part in text.split_inclusive(|c: char| !c.is_alphanumeric()) {
            let word = part.trim_end_matches(|c: char| !c.is_alphanumeric());
            out += self.words.get(word).map_or(word, String::as_str);
            out += &part[word.len()..];
        }
        out
    }
}

impl Writer<'_> {
    fn prose(&mut self, least: usize) -> String {
        (0..least + self.random.below(6)).map(|_| self.random.pick(&WORDS)).collect::<Vec<_>>().join(" ")
    }

    fn path(&self, folder: &str, name: &str) -> String {
        let (root, suffix) = match self.engine {
            "lantern" => ("lamps/", ".html"),
            "signal" => ("flags/", ".sail.html"),
            "helm" => ("deck/", ".helm"),
            "crate" => ("hold/", ".tpl"),
            "canvas" => ("sails/", ".tt"),
            "buoy" => ("site/", ".dock"),
            "pier" => ("", ".htm"),
            _ => ("", ".html"),
        };
        let slash = if folder.is_empty() { "" } else { "/" };
        match (self.engine, folder) {
            ("helm", "parts" | "layouts") => format!("{root}shared/_{name}{suffix}"),
            ("crate", "layouts") => format!("{root}frame{suffix}"),
            _ => format!("{root}{folder}{slash}{name}{suffix}"),
        }
    }

    /// The name of a file as it stands in a tag.
    fn name(&self, folder: &str, name: &str) -> String {
        match self.engine {
            "lantern" | "signal" => format!("{folder}.{name}"),
            "helm" | "buoy" => name.to_owned(),
            "canvas" => format!("{folder}/{name}.tt"),
            "mooring" => format!("{folder}/{name}.html"),
            _ => format!("{folder}/{name}"),
        }
    }

    fn include(&mut self, folder: &str, name: &str) -> String {
        let target = self.name(folder, name);
        let more = self.random.once_in(4);
        match self.engine {
            "lantern" if more => format!("[~ fetch \"{target}\" with kind = \"adult\" ~]"),
            "lantern" => format!("[~ fetch \"{target}\" ~]"),
            "signal" if more => format!("~bring(\"{target}\", [\"kind\" => \"adult\"])"),
            "signal" => format!("~bring(\"{target}\")"),
            "helm" if more => format!("^Bring(\"{target}\", kind: \"adult\")"),
            "helm" => format!("^Bring(\"{target}\")"),
            "crate" => format!("(| place \"{target}\" {} |)", if more { ".trip" } else { "." }),
            "canvas" if more => format!("[* FETCH {target} kind=\"adult\" *]"),
            "canvas" => format!("[* FETCH {target} *]"),
            "buoy" if more => format!("[tow=\"{target}\" kind=\"adult\"]"),
            "buoy" => format!("[tow=\"{target}\"]"),
            "pier" => format!("<div class=\"part\" data-dock=\"{target}\"></div>"),
            _ => format!("<!--: partial {target} -->"),
        }
    }

    fn region(&mut self, name: &str, inner: &str) -> String {
        match self.engine {
            "lantern" if self.random.once_in(3) => format!("[~ lamp {name} ~]{inner}[~ out ~]"),
            "lantern" => format!("[~ lamp {name} ~]{inner}[~ out {name} ~]"),
            "signal" if inner.is_empty() => format!("~berth(\"{name}\")"),
            "signal" => format!("~moor(\"{name}\")\n{inner}\n~show"),
            "helm" => format!("^Hold(\"{name}\", must: false)"),
            "crate" => format!("(| region \"{name}\" |){inner}(| fin |)"),
            "canvas" => format!("[* SPOT {name} *]"),
            "buoy" => format!("[bay=\"{name}\"]"),
            "pier" => format!("<div data-berth=\"{name}\">{inner}</div>"),
            _ => format!("<!--: block {name} -->{inner}<!--: end {name} -->"),
        }
    }

    fn fill(&mut self, name: &str, inner: &str) -> String {
        match self.engine {
            "signal" if !inner.contains(['<', '~', '"', '\n']) => format!("~moor(\"{name}\", \"{inner}\")"),
            "signal" => format!("~moor(\"{name}\")\n{inner}\n~cast"),
            "helm" => format!("^stow {name} {{\n{inner}\n}}"),
            "crate" => format!("(| supply \"{name}\" |){inner}(| fin |)"),
            "canvas" => format!("[* INTO {name} *]{inner}[* END *]"),
            "buoy" => format!("[for bay=\"{name}\"]{inner}[done]"),
            _ => self.region(name, inner),
        }
    }

    fn output(&mut self, expr: &str) -> String {
        match self.engine {
            "lantern" => format!("[= {expr} =]"),
            "signal" => format!("~{{ {expr} }}"),
            "helm" if expr.bytes().all(|b| b.is_ascii_lowercase()) => format!("^{expr}"),
            "helm" => format!("^({expr})"),
            "crate" => format!("(| {}{expr} |)", if expr.contains('(') { "" } else { "." }),
            "canvas" => format!("[* {expr} *]"),
            "buoy" => format!("[show {}]", expr.split(['.', '(', '[', ' ']).next().unwrap_or("x")),
            "pier" => format!("{{= {expr} =}}"),
            _ => String::new(),
        }
    }

    fn value(&mut self) -> String {
        let thing = self.random.pick(&["trip", "page", "user", "boat"]).to_owned();
        let expr = match self.random.below(4) {
            0 => thing,
            1 => format!("{thing}.name"),
            2 => format!("{thing}.price.total"),
            _ => format!("{thing}.date"),
        };
        self.output(&expr)
    }

    /// An expression full of quotes, brackets and names of files.
    fn call(&mut self) -> String {
        let said = ["save", "today", "from", "adult", "back", "menu", "nav", "edit", "index", "list", "show", "about"];
        let (partial, page) = (self.random.pick(&said), self.random.pick(&said));
        let expr = match self.random.below(4) {
            0 => format!("link(\"{partial}\", \"{page}\")"),
            1 => format!("phrase(\"{page}\")"),
            2 => "trip[\"name\"] ? cut(trip[\"name\"], 3) : \"none (yet)\"".to_owned(),
            _ => format!("button(trip, \"{page}\")"),
        };
        self.output(&expr)
    }

    fn when(&mut self, inner: &str, other: Option<&str>) -> String {
        let page = self.random.pick(&PAGES);
        let expr = match self.random.below(4) {
            0 => format!("page.kind == \"{page}\""),
            1 => "trip.open and not user.guest".to_owned(),
            2 => "count(trips) > 3".to_owned(),
            _ => "trip.open".to_owned(),
        };
        let (open, middle, close) = match self.engine {
            "lantern" => (format!("[~ when {expr} ~]"), "[~ else ~]", "[~ out when ~]"),
            "signal" => (format!("\n~when({expr})\n"), "\n~otherwise\n", "\n~done\n"),
            "helm" => (format!("\n^if ({expr}) {{\n"), "\n} else {\n", "\n}\n"),
            "crate" => (format!("(| when {expr} |)"), "(| otherwise |)", "(| fin |)"),
            "canvas" => (format!("[* IF {expr} *]"), "[* ELSE *]", "[* END *]"),
            "buoy" => ("[have trip]".to_owned(), "[or]", "[done]"),
            _ => return inner.to_owned(),
        };
        let other = other.map(|other| format!("{middle}{other}")).unwrap_or_default();
        format!("{open}{inner}{other}{close}")
    }

    fn each(&self, inner: &str) -> String {
        match self.engine {
            "lantern" => format!("[~ each trip in trips ~]{inner}[~ out each ~]"),
            "signal" => format!("\n~each(trips as trip)\n{inner}\n~done\n"),
            "helm" => format!("\n^each (trip in trips) {{\n{inner}\n}}\n"),
            "crate" => format!("(| each .trips |){inner}(| fin |)"),
            _ => inner.to_owned(),
        }
    }

    fn comment(&self, text: &str) -> String {
        match self.engine {
            "lantern" => format!("[# {text} #]"),
            "signal" => format!("~{{-- {text} --}}"),
            "helm" => format!("^* {text} *^"),
            "crate" => format!("(|* {text} *|)"),
            "canvas" => format!("[*# {text} *]"),
            "buoy" => format!("[-- {text} --]"),
            "pier" => format!("{{# {text} #}}"),
            _ => format!("<!-- {text} -->"),
        }
    }

    /// Tags that nobody described: a library, a stamp, a cached part.
    fn custom(&mut self) -> String {
        let word = self.random.pick(&["stamp", "badge", "token", "cached"]);
        let args = self.random.pick(&["", "60", "trip.name", "\"menu\""]);
        let gap = if args.is_empty() { "" } else { " " };
        match self.engine {
            "lantern" if word == "cached" => format!("[~ cached{gap}{args} ~]<p>{}</p>[~ endcached ~]", self.prose(2)),
            "lantern" => format!("[~ {word}{gap}{args} ~]"),
            "signal" => format!("\n~{word}({args})\n"),
            "crate" => format!("(| {word}{gap}{args} |)"),
            "canvas" => format!("[* {word}({args}) *]"),
            _ => format!("<x-{word} kind=\"{word}\">{}</x-{word}>", self.prose(1)),
        }
    }

    fn replaced(&self) -> &'static str {
        match self.engine {
            "lantern" => "[~ before ~]",
            "signal" => "\n~above\n",
            "pier" => "<i data-above></i>",
            "mooring" => "<!--: inherited -->",
            _ => "",
        }
    }

    /// Some markup with outputs, conditions, comments and traps in it.
    fn markup(&mut self) -> String {
        let mut out = String::new();
        for _ in 0..2 + self.random.below(5) {
            out += &match self.random.below(18) {
                0 => format!("<p>{} {} {}</p>\n", self.prose(2), self.value(), self.prose(1)),
                1 => format!("<p>({}) {}: {}</p>\n", self.value(), self.prose(1), self.call()),
                2 => format!("<a href=\"/{0}/{1}\" class=\"a {1}\">{2}</a>\n", self.prose(0).len(), self.value(), self.call()),
                3 => {
                    let (one, two) = (self.prose(2), self.call());
                    self.when(&format!("<b>{one}</b>"), Some(&format!("<i>{two}</i>")))
                }
                4 => {
                    let inner = self.value();
                    self.when(&format!("<em>{inner}</em>"), None)
                }
                5 => {
                    let item = format!("<li>{}</li>", self.value());
                    format!("<ul>{}</ul>\n", self.each(&item))
                }
                6 => "<script>const a = { b: [1, 2], c: (d) }; $(\".x\").on(\"y\", function () { if (a.b[0] < 3) { g({ h: [] }); } });</script>\n".to_owned(),
                7 => format!("<script>let page = \"{}\", at = {{ x: {} }};</script>\n", self.value(), self.random.below(90)),
                8 => "<style>@media print { .a::before { content: \"*\" } a ~ b { color: red } [data-x=\"y\"] { top: 0 } }</style>\n".to_owned(),
                9 => "<p>Write to crew~deck@sea.example, 50% off (see [1]) &amp; more: #5!</p>\n".to_owned(),
                10 | 11 => self.custom() + "\n",
                12 => {
                    let old = self.random.pick(&PARTIALS);
                    let text = match self.random.below(3) {
                        0 => format!("{old}: {}", self.prose(3)),
                        1 => format!("see layouts/base and parts/{old}"),
                        _ => self.prose(4),
                    };
                    self.comment(&text) + "\n"
                }
                13 => "<pre><code>if (a[0]) { print(\"x\"); } /* (note) */</code></pre>\n".to_owned(),
                14 => format!("<form><input name=\"{}\" value=\"{}\"></form>\n", self.random.pick(&PARTIALS), self.value()),
                15 => format!("<svg viewBox=\"0 0 9 9\"><path d=\"M0,0 L{},9z\"/></svg>\n", self.random.below(9)),
                _ => format!("<h2>{}</h2>\n<p>{}</p>\n", self.prose(2), self.prose(6)),
            };
        }
        out
    }

    fn file(&mut self, path: &str, text: String) {
        let text = if self.random.once_in(9) { text.replace('\n', "\r\n") } else { text };
        self.files.push(SourceFile::new(path, text));
    }

    fn site(&mut self, templates: usize) {
        for name in PARTIALS {
            let mut text = self.markup();
            if name == "row" {
                let own = self.include("parts", "row");
                text += &self.when(&own, None);
            }
            let path = self.path("parts", name);
            self.file(&path, text);
        }
        let mut regions: Vec<&'static str> = vec!["title"];
        regions.extend(REGIONS.iter().skip(1).filter(|_| !self.random.once_in(3)));
        self.base("base", &regions);
        let mut layouts = vec!["base"];
        if self.engine != "crate" {
            for name in ["wide", "narrow"] {
                let (lead, inner) = (self.region("inner", ""), self.prose(2));
                let fills = vec![("lead", format!("<div class=\"{name}\"><b>{inner}</b>{lead}</div>"))];
                self.page("layouts", name, Some("base"), &fills, true);
                layouts.push(name);
            }
        }
        if self.engine == "helm" {
            self.file("deck/start.helm", "^{ Mast = \"base\"; }\n".to_owned());
        }
        for at in 0..templates.saturating_sub(self.files.len()) {
            let (folder, name) = (FOLDERS[at / PAGES.len() % FOLDERS.len()], PAGES[at % PAGES.len()]);
            let name = if at < PAGES.len() * FOLDERS.len() { name.to_owned() } else { format!("{name}-{at}") };
            let layout = self.random.pick(&layouts);
            let mut fills: Vec<(&str, String)> = Vec::new();
            for region in &regions {
                if region == &"title" || self.random.once_in(2) {
                    let inner = self.content(region);
                    fills.push((region, inner));
                }
            }
            if layout != "base" {
                let inner = self.markup();
                fills.push(("inner", inner));
            }
            let parent = if self.engine == "helm" && self.random.once_in(2) { None } else { Some(layout) };
            self.page(folder, &name, parent, &fills, false);
        }
        // Fragments that only code renders, and mail in plain text.
        let text = format!("Dear {},\n\n{} (see [1]).\n\nYours, crew@sea.example\n", self.value(), self.prose(8));
        let path = self.path("mail", "welcome");
        self.file(&path, text);
    }

    fn content(&mut self, region: &str) -> String {
        if region == "title" {
            return self.prose(1);
        }
        let mut inner = self.markup();
        if self.random.once_in(2) {
            let partial = self.random.pick(&PARTIALS);
            inner += &self.include("parts", partial);
        }
        if self.random.once_in(14) {
            inner += &self.include("vendor", "widget");
        }
        // Now and then where nothing is replaced.
        let has_content = self.filled.contains(&region) || !self.filled.is_empty() && self.random.once_in(20);
        match self.random.below(4) {
            0 if has_content => format!("{}{inner}", self.replaced()),
            1 if has_content => format!("{inner}{}", self.replaced()),
            _ => inner,
        }
    }

    fn base(&mut self, name: &str, regions: &[&'static str]) {
        let mut text = String::from("<!DOCTYPE html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n<title>");
        text += &match self.engine {
            "pier" => self.value(),
            _ => self.region("title", "Tidewater"),
        };
        text += "</title>\n<link rel=\"stylesheet\" href=\"/css/site.css\">\n</head>\n<body>\n";
        text += &self.include("parts", "nav");
        for region in regions.iter().skip(1) {
            let inner = if self.random.once_in(2) { self.markup() } else { String::new() };
            self.filled.extend((!inner.is_empty()).then_some(*region));
            text += &format!("<section>{}</section>\n", self.region(region, &inner));
        }
        if self.engine == "pier" {
            text += "<h1 data-berth=\"title\">Tidewater</h1>\n";
        }
        text += match self.engine {
            "helm" => "<main>^Cargo()</main>\n",
            "canvas" => "<main>[* CONTENT *]</main>\n",
            "buoy" => "<main>[cargo]</main>\n",
            _ => "",
        };
        text += &self.include("parts", "foot");
        text += "\n</body>\n</html>\n";
        let path = self.path("layouts", name);
        self.file(&path, text);
    }

    /// A page, or a layout that has a layout.
    fn page(&mut self, folder: &str, name: &str, parent: Option<&str>, fills: &[(&str, String)], between: bool) {
        let path = self.path(folder, name);
        let mut inner = String::new();
        for (name, content) in fills {
            inner += &(self.fill(name, content) + "\n");
        }
        let loose = if between { format!("<div>{}</div>\n", self.body()) } else { self.markup() };
        let target = parent.map(|parent| self.name("layouts", parent));
        let target = target.as_deref().unwrap_or_default();
        let note = if self.random.once_in(5) { self.comment("base: see parts/nav") + "\n" } else { String::new() };
        let text = match self.engine {
            "lantern" => format!("{note}[~ hangs \"{target}\" ~]\n{inner}"),
            "signal" => format!("~frame(\"{target}\")\n\n{inner}"),
            "helm" if target.is_empty() => format!("{loose}{inner}"),
            "helm" => format!("^{{\n  Kind = \"{name}\";\n  Mast = \"{target}\";\n}}\n{loose}{inner}"),
            "canvas" => format!("{note}[* FRAME {target} heading=\"{name}\" *]\n{loose}{inner}[* END *]\n"),
            "buoy" => format!("{note}[hull=\"{target}\"]\n[put kind=\"{name}\"]\n{loose}{inner}"),
            "pier" => format!("<html data-pier=\"{target}\">\n{inner}</html>\n"),
            "mooring" => format!("<!--: layout {target} -->\n{inner}"),
            _ => format!("{note}{inner}"),
        };
        self.file(&path, text);
    }

    fn body(&self) -> &'static str {
        match self.engine {
            "helm" => "^Cargo()",
            "canvas" => "[* CONTENT *]",
            "buoy" => "[cargo]",
            _ => "",
        }
    }
}

/// Right, false and missed answers of one kind.
#[derive(Clone, Copy, Default)]
pub struct Answers {
    pub right: usize,
    pub wrong: usize,
    pub missed: usize,
}

impl Answers {
    fn compare(&mut self, truth: &BTreeSet<String>, said: &BTreeSet<String>) {
        self.right += truth.intersection(said).count();
        self.wrong += said.difference(truth).count();
        self.missed += truth.difference(said).count();
    }

    /// Of what was said the share that is right, and of what is true the share that was said, in hundredths.
    pub fn shares(&self) -> (f64, f64) {
        let share = |other: usize| 100.0 * self.right as f64 / (self.right + other).max(1) as f64;
        (share(self.wrong), share(self.missed))
    }
}

/// How a site is read with what was learned, compared with how it is read in truth.
#[derive(Clone, Copy, Default)]
pub struct Columns {
    pub templates: usize,
    pub parents: Answers,
    pub includes: Answers,
    pub blocks: Answers,
    /// Uses of the replaced content, and how many of them are left in the pages.
    pub replaced: usize,
    pub left: usize,
    /// Problems of reading that are none in truth.
    pub problems: usize,
}

impl Columns {
    pub fn add(&mut self, other: &Self) {
        let sum = |own: &mut Answers, other: &Answers| {
            (own.right, own.wrong, own.missed) =
                (own.right + other.right, own.wrong + other.wrong, own.missed + other.missed);
        };
        sum(&mut self.parents, &other.parents);
        sum(&mut self.includes, &other.includes);
        sum(&mut self.blocks, &other.blocks);
        self.templates += other.templates;
        self.replaced += other.replaced;
        self.left += other.left;
        self.problems += other.problems;
    }

    /// Whether a site is read as well as a tree has to be.
    pub fn is_read(&self) -> bool {
        let reaches = |answers: &Answers, bar: f64| {
            let (said, known) = answers.shares();
            answers.right + answers.wrong + answers.missed == 0 || said >= bar && known >= bar
        };
        reaches(&self.parents, 99.0)
            && reaches(&self.includes, 98.0)
            && reaches(&self.blocks, 99.0)
            && self.left * 10 <= self.replaced
            && self.problems * 100 <= self.templates
    }
}

impl std::fmt::Display for Columns {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let shares = |answers: &Answers| match (answers.right + answers.wrong + answers.missed, answers.shares()) {
            (0, _) => "    -     -".to_owned(),
            (_, (said, known)) => format!("{said:5.1} {known:5.1}"),
        };
        write!(
            f,
            "parents {}  includes {}  blocks {}  replaced left {:.0} of {}  problems {:.2} of 100",
            shares(&self.parents),
            shares(&self.includes),
            shares(&self.blocks),
            self.left,
            self.replaced,
            100.0 * self.problems as f64 / self.templates.max(1) as f64
        )
    }
}

/// Learns a site's dialect and compares how it is read.
pub fn columns(dirty: &Dirty, verbose: bool) -> Columns {
    let learned = learn(&dirty.files, dialect::builtin(), &[]);
    let mut dialects: Vec<Arc<Dialect>> =
        learned.iter().map(|learned| Arc::new(learned.dialect().expect("a dialect"))).collect();
    dialects.extend(dialect::builtin().iter().cloned());
    let settings: String = learned.iter().map(|learned| learned.settings.as_str()).collect();
    let settings = Settings::parse(&settings).unwrap_or_else(|error| panic!("{error}\n{settings}"));
    let truth = Site::read(dirty.files.clone(), &dirty.dialects, &dirty.settings);
    let said = Site::read(dirty.files.clone(), &dialects, &settings);
    let mut found = Columns::default();
    let there: BTreeSet<&str> = dirty.files.iter().map(|file| file.path.as_str()).collect();
    let files = |list: &[String]| -> BTreeSet<String> {
        list.iter().filter(|path| there.contains(path.as_str())).cloned().collect()
    };
    let is_misread = |kind: ProblemKind| kind == ProblemKind::Reading;
    let (truth_list, said_list) = (Survey::of(&truth, &[]), Survey::of(&said, &[]));
    for (truth, said) in truth_list.files.iter().zip(&said_list.files) {
        found.templates += 1;
        let parent = |one: &Option<String>| files(one.as_slice());
        let before = found;
        found.parents.compare(&parent(&truth.parent), &parent(&said.parent));
        found.includes.compare(&files(&truth.includes), &files(&said.includes));
        let blocks = |list: &[String]| list.iter().cloned().collect();
        found.blocks.compare(&blocks(&truth.blocks), &blocks(&said.blocks));
        let wrong =
            |all: &Columns| [all.parents, all.includes, all.blocks].iter().map(|a| a.wrong + a.missed).sum::<usize>();
        if verbose && wrong(&found) > wrong(&before) {
            println!("{}: {truth:?}\n   said {said:?}", truth.path);
        }
    }
    let known: BTreeSet<_> = truth_list.problems.iter().map(|p| (&p.file, p.at)).collect();
    for problem in said_list.problems.iter().filter(|p| is_misread(p.kind) && !known.contains(&(&p.file, p.at))) {
        found.problems += 1;
        if verbose {
            println!("{problem:?}");
        }
    }
    if !dirty.replaced.is_empty() {
        let uses = |text: &[u8]| String::from_utf8_lossy(text).matches(dirty.replaced.as_str()).count();
        found.replaced = dirty.files.iter().map(|file| uses(&file.bytes)).sum();
        let pages = Resolver::new(&said).flatten_all().expect("pages of a sane size");
        let in_truth = Resolver::new(&truth).flatten_all().expect("pages of a sane size");
        let count =
            |pages: &[(_, radicon::resolve::Flat)]| pages.iter().map(|(_, flat)| uses(&flat.bytes)).sum::<usize>();
        found.left = count(&pages).saturating_sub(count(&in_truth));
    }
    if verbose {
        learned.iter().for_each(|learned| println!("{}\n{}", learned.text, learned.settings));
    }
    found
}
