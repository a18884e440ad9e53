//! Random sites written for a random engine, as dirty as real ones.

use radicon::SourceFile;
use radicon::dialect::{Form, Kind, Values};

use super::Random;
use super::engines::Engine;

/// A site written for an engine.
pub struct Made {
    pub files: Vec<SourceFile>,
    /// Files of another notation that stand among them, with the same suffix.
    pub others: Vec<String>,
}

const NAMES: [&str; 12] =
    ["title", "styles", "main", "lead", "aside", "foot", "scripts", "menu", "hero", "notes", "nav-extra", "meta"];
const PARTIALS: [&str; 9] = ["nav", "foot", "card", "menu", "tides", "price", "address", "crumbs", "banner"];
const WORDS: [&str; 24] = [
    "ferry", "harbour", "tide", "crossing", "fare", "pier", "deck", "crew", "winter", "summer", "morning", "boat",
    "sea", "wind", "the", "a", "of", "to", "and", "in", "for", "with", "is", "are",
];

fn prose(random: &mut Random, least: usize) -> String {
    (0..least + random.below(6)).map(|_| random.pick(&WORDS)).collect::<Vec<_>>().join(" ")
}

/// A site of about so many templates.
pub fn site(random: &mut Random, engine: &Engine, templates: usize) -> Made {
    let mut maker = Maker { engine, random, files: Vec::new(), vendored: false };
    maker.site(templates);
    let files = maker.files;
    Made { files, others: Vec::new() }
}

/// The same, and in every fourth site a few templates of another notation in the same folder.
pub fn mixed_site(random: &mut Random, engine: &Engine, templates: usize) -> Made {
    let mut made = site(random, engine, templates);
    // Outputs and tags of its own, which the engine's delimiters do not begin or end.
    let clashes =
        engine.delimiters.iter().any(|(open, close)| [open, close].iter().any(|mark| mark.contains(['|', '?'])));
    if clashes || !random.once_in(4) {
        return made;
    }
    let root = engine.naming.root;
    let slash = if root.is_empty() { "" } else { "/" };
    let path = |name: &str| format!("{root}{slash}{name}{}", engine.suffix);
    let mut files = vec![(
        path("other-frame"),
        "<html><title>(?| berth head |?)</title><main>(?| berth text |?)</main></html>\n".to_owned(),
    )];
    for n in 0..4 + random.below(4) {
        let (head, text) = (prose(random, 2), prose(random, 4));
        let page = format!(
            "(?| hull \"other-frame{0}\" |?)\n(?| moor head |?){head}(?| cast |?)\n(?| moor text |?)<p>{text}</p>(?| cast |?)\n",
            engine.suffix
        );
        files.push((path(&format!("other-{n}")), page));
    }
    made.others = files.iter().map(|(path, _)| path.clone()).collect();
    made.files.extend(files.into_iter().map(|(path, text)| SourceFile::new(path, text)));
    made.files.sort_by(|a, b| a.path.cmp(&b.path));
    made
}

struct Maker<'a> {
    engine: &'a Engine,
    random: &'a mut Random,
    files: Vec<SourceFile>,
    vendored: bool,
}

/// A layout as children see it.
#[derive(Clone)]
struct Layout {
    path: String,
    /// Regions, and whether they have content.
    names: Vec<(String, bool)>,
    body: bool,
}

impl Maker<'_> {
    fn form(&self, kind: Kind) -> Option<&Form> {
        self.engine.dialect.form(kind)
    }

    fn has(&self, kind: Kind) -> bool {
        self.form(kind).is_some()
    }

    /// A tag; sometimes with the other quotes, sometimes with a trim mark.
    fn tag(&mut self, kind: Kind, values: Values<'_>) -> String {
        let Some(form) = self.engine.dialect.form(kind) else { return String::new() };
        let mut text = form.open.write(&values);
        if self.random.once_in(5) && !text.contains('\'') {
            text = text.replace('"', "'");
        }
        if form.line {
            text = format!("\n{text}\n");
        }
        self.trimmed(text, form.is_pair() || kind == Kind::Output)
    }

    fn trimmed(&mut self, text: String, may: bool) -> String {
        let trims = self.engine.dialect.text.contains("trim = ");
        let fits =
            |(open, close): &&(String, String)| text.starts_with(open.as_str()) && text.ends_with(close.as_str());
        let Some((open, close)) = self.engine.delimiters.iter().find(fits) else { return text };
        let (lead, tail) = (open.len(), close.len());
        if !trims || !may || tail == 0 || !self.random.once_in(8) {
            return text;
        }
        match self.random.below(3) {
            0 => format!("{}-{}", &text[..lead], &text[lead..]),
            1 => format!("{}-{}", &text[..text.len() - tail], &text[text.len() - tail..]),
            _ => format!("{}-{}-{}", &text[..lead], &text[lead..text.len() - tail], &text[text.len() - tail..]),
        }
    }

    /// A pair around something.
    fn pair(&mut self, kind: Kind, at: usize, values: Values<'_>, inner: &str) -> String {
        let Some(form) = self.engine.dialect.forms.iter().filter(|form| form.kind == kind).nth(at) else {
            return inner.to_owned();
        };
        let open = form.open.write(&values);
        // A sigil inside a word is plain text.
        let glued = self.engine.shape.starts_with("sigil") && inner.ends_with(|c: char| c.is_alphanumeric());
        let inner = &if glued { format!("{inner} ") } else { inner.to_owned() };
        let close = match form.close.len() {
            0 => "}".to_owned(),
            n => form.close[self.random.below(n)].write(&values),
        };
        if form.line {
            return format!("\n{open}\n{inner}\n{close}\n");
        }
        let open = self.trimmed(open, true);
        let close = if form.close.is_empty() { close } else { self.trimmed(close, true) };
        format!("{open}{inner}{close}")
    }

    /// A region with content, in an element where attributes make regions.
    fn region(&mut self, name: &str, outside: bool, inner: &str) -> String {
        let values = Values { name, ..Values::default() };
        if self.engine.shape == "attributes" {
            let block = self.tag(Kind::Block, values);
            let element = if inner.contains('<') { "div" } else { "span" };
            return format!("<{element} class=\"x\" {block}>{inner}</{element}>");
        }
        if self.has(Kind::Block) {
            return self.pair(Kind::Block, 0, values, inner);
        }
        if !outside {
            return self.pair(Kind::Fill, 0, values, inner);
        }
        if self.form(Kind::Slot).is_some_and(Form::is_pair) {
            self.pair(Kind::Slot, 0, values, inner)
        } else {
            self.tag(Kind::Slot, values)
        }
    }

    fn output(&mut self) -> String {
        let object = self.random.pick(&["page", "site", "user", "item", "trip"]);
        let field = self.random.pick(&["name", "price", "url", "date", "count", "id"]);
        let expr = match self.random.below(7) {
            0 => field.to_owned(),
            1 => format!("{object}.{field} | upper"),
            2 => format!("f({object}, \"a b\")"),
            // Calls with names that are files by chance.
            3 => format!("link(\"{}\", {object})", self.random.pick(&PARTIALS)),
            _ => format!("{object}.{field}"),
        };
        self.tag(Kind::Output, Values { expr: &expr, ..Values::default() })
    }

    /// Some markup with outputs, conditions, comments and traps in it.
    fn markup(&mut self, depth: usize) -> String {
        let mut out = String::new();
        for _ in 0..1 + self.random.below(4) {
            out += &match self.random.below(13) {
                0 | 1 => format!("<p>{}</p>\n", prose(self.random, 4)),
                // Doubled brackets would be a delimiter of their own.
                2 if self.random.once_in(3) && !self.engine.delimiters[1].0.starts_with('(') => {
                    format!("<p>({}) {}:{}</p>\n", self.output(), prose(self.random, 1), self.output())
                }
                2 => format!("<p>{} {} {}</p>\n", prose(self.random, 2), self.output(), prose(self.random, 1)),
                3 if depth < 2 && self.has(Kind::Control) => {
                    let expr = match self.random.below(5) {
                        0 => format!("page.kind == \"{}\"", self.random.pick(&PARTIALS)),
                        _ => self.random.pick(&["trip.open", "user", "count > 3", "not page.hidden"]).to_owned(),
                    };
                    let inner = format!("<b>{}</b>", prose(self.random, 1));
                    let branch = self
                        .form(Kind::Control)
                        .and_then(|form| form.branch.first())
                        .map(|b| b.write(&Values::default()));
                    let lined = self.form(Kind::Control).is_some_and(|form| form.line);
                    let inner = match branch.filter(|_| self.random.once_in(2)) {
                        Some(branch) if lined => format!("{inner}\n{branch}\n<i>{}</i>", prose(self.random, 1)),
                        Some(branch) => format!("{inner}{branch}<i>{}</i>", prose(self.random, 1)),
                        None => inner,
                    };
                    self.pair(Kind::Control, 0, Values { expr: &expr, ..Values::default() }, &inner) + "\n"
                }
                4 if depth < 2 && self.has(Kind::Control) => {
                    let inner = format!("<li>{}</li>", self.output());
                    let list =
                        self.pair(Kind::Control, 1, Values { expr: "item in page.items", ..Values::default() }, &inner);
                    format!("<ul>{list}</ul>\n")
                }
                5 => {
                    let text = prose(self.random, 3);
                    self.tag(Kind::Comment, Values { expr: &text, ..Values::default() }) + "\n"
                }
                6 if self.random.once_in(2) => {
                    let output = self.output();
                    format!("<script>let page = \"{output}\", x = a[0], y = {{ b: [1] }};</script>\n")
                }
                6 => "<script>let a = [1, 2], f = x => { return { b: (c) }; }; if (a[0] < 3) { g(\"}\"); }</script>\n"
                    .to_owned(),
                7 => {
                    "<style>@media print { nav { display: none } } .a::before { content: \"[x]\" }</style>\n".to_owned()
                }
                8 => format!(
                    "<p>write to crew@sea.example, 50% off (see {}) [1] &amp; more: #5!</p>\n",
                    prose(self.random, 1)
                ),
                9 => format!(
                    "<a href=\"/{}.html\" data-tip=\"{}\">{}</a>\n",
                    self.random.pick(&WORDS),
                    prose(self.random, 1),
                    prose(self.random, 2)
                ),
                10 => format!("<img src=\"img/{}.png\" alt=\"{}\">\n", self.random.pick(&WORDS), prose(self.random, 1)),
                11 if self.has(Kind::Other) && self.random.once_in(2) => {
                    let tag = format!(
                        "{} {}",
                        self.random.pick(&["ferry", "csrf", "cache", "stamp", "badge"]),
                        self.random.below(9)
                    );
                    self.tag(Kind::Other, Values { expr: &tag, ..Values::default() }) + "\n"
                }
                11 if self.random.once_in(4) => self.concatenated() + "\n",
                11 if self.has(Kind::Set) && self.random.once_in(2) => {
                    let name = self.random.pick(&["count", "area", "width"]);
                    self.tag(Kind::Set, Values { name, expr: "3", value: "3", ..Values::default() }) + "\n"
                }
                12 if self.random.once_in(6) => self.misleading(),
                _ => format!("<h2>{}</h2>\n", prose(self.random, 2)),
            };
        }
        out
    }

    /// The engine's own marks in scripts and styles, and custom tags that occur once.
    fn misleading(&mut self) -> String {
        let (open, close) = self.engine.delimiters.first().cloned().unwrap_or_default();
        let (word, number) = (self.random.pick(&WORDS), self.random.below(10_000));
        match self.random.below(4) {
            0 => format!("<{word}-{number} zoom=\"3\">{}</{word}-{number}>\n", prose(self.random, 2)),
            1 => format!("<{word}-{number}></{word}-{number}>\n"),
            2 => format!("<script>let parts = text.split(\"{open}\"), last = \"{word}{close}\";</script>\n"),
            _ => format!("<style>.{word} {{ width: {number}px }} /* {open}{close} */</style>\n"),
        }
    }

    fn written(&self, from: &str, path: &str) -> String {
        let naming = &self.engine.naming;
        let own = from.rsplit_once('/').map_or("", |(folder, _)| folder);
        let base = if naming.relative { own } else { naming.root };
        let mut name = match path
            .strip_prefix(base)
            .and_then(|rest| if base.is_empty() { Some(rest) } else { rest.strip_prefix('/') })
        {
            Some(rest) => rest.to_owned(),
            None => {
                let ups =
                    own.strip_prefix(naming.root).unwrap_or(own).split('/').filter(|part| !part.is_empty()).count();
                let inner = path.strip_prefix(naming.root).map_or(path, |rest| rest.trim_start_matches('/'));
                format!("{}{inner}", "../".repeat(ups))
            }
        };
        if !naming.with_suffix {
            name = name.strip_suffix(self.engine.suffix.as_str()).map(str::to_owned).unwrap_or(name);
        }
        if !naming.prefix.is_empty() {
            let (folder, last) = name.rsplit_once('/').map_or(("", name.as_str()), |(f, l)| (f, l));
            let last = last.strip_prefix(naming.prefix).unwrap_or(last).to_owned();
            name = if folder.is_empty() { last } else { format!("{folder}/{last}") };
        }
        if naming.separator != "/" && !name.contains("../") { name.replace('/', naming.separator) } else { name }
    }

    fn include(&mut self, from: &str, path: &str) -> String {
        let target = self.written(from, path);
        let at = self.engine.dialect.forms.iter().position(|form| form.kind == Kind::Include).unwrap_or(0);
        let several = self.engine.dialect.forms.iter().filter(|form| form.kind == Kind::Include).count();
        let form = &self.engine.dialect.forms[at + if several > 1 && self.random.once_in(3) { 1 } else { 0 }];
        let rich = form.open.example().contains("<args>");
        let expr = if rich && (several > 1 || self.random.once_in(3)) { "kind=\"adult\"" } else { "" };
        let mut text = form.open.write(&Values { target: &target, expr, ..Values::default() });
        if self.random.once_in(5) && !text.contains('\'') {
            text = text.replace('"', "'");
        }
        match self.engine.shape {
            "attributes" => format!("<div {text}></div>"),
            "lines" => format!("\n{text}\n"),
            _ => text,
        }
    }

    /// An include whose target is put together when the page is rendered.
    fn concatenated(&mut self) -> String {
        let Some(form) = self.form(Kind::Include).filter(|form| form.open.example().contains("\"<target>\"")) else {
            return String::new();
        };
        if !matches!(self.engine.shape, "brackets" | "one bracket" | "sigil" | "lines") {
            return String::new();
        }
        let text = form.open.write(&Values { target: "parts/", ..Values::default() });
        let text = text.replace("\"parts/\"", "\"parts/\" ~ page.kind");
        if form.line { format!("\n{text}\n") } else { text }
    }

    fn any_partial(&mut self, from: &str, partials: &[String]) -> String {
        let at = self.random.below(partials.len());
        self.include(from, &partials[at])
    }

    fn file(&mut self, path: &str, text: String) {
        let text = if self.engine.shape == "lines" {
            text.replace("\n\n", "\n").trim_start_matches('\n').to_owned()
        } else {
            text
        };
        let text = match self.random.below(14) {
            0 => format!("\u{feff}{text}"),
            1 if self.engine.shape != "lines" => text.replace('\n', " "),
            2 => text.replace('\n', "\r\n"),
            _ => text,
        };
        self.files.push(SourceFile::new(path, text));
    }

    fn path(&self, folder: &str, name: &str, prefixed: bool) -> String {
        let naming = &self.engine.naming;
        let prefix = if prefixed { naming.prefix } else { "" };
        let parts = [naming.root, folder].into_iter().filter(|part| !part.is_empty()).collect::<Vec<_>>().join("/");
        let slash = if parts.is_empty() { "" } else { "/" };
        format!("{parts}{slash}{prefix}{name}{}", self.engine.suffix)
    }

    fn parent(&mut self, from: &str, path: &str) -> String {
        let target = self.written(from, path);
        self.tag(Kind::Parent, Values { target: &target, ..Values::default() })
    }

    fn site(&mut self, templates: usize) {
        let partials: Vec<String> = (0..2 + self.random.below(4) + templates / 30)
            .map(|n| {
                if n < PARTIALS.len() {
                    PARTIALS[n].to_owned()
                } else {
                    format!("{}-{n}", PARTIALS[n % PARTIALS.len()])
                }
            })
            .map(|name| self.path("parts", &name, true))
            .collect();
        for path in &partials {
            let mut text = self.markup(0);
            if self.random.once_in(4) {
                text = format!("<p>{}</p>", prose(self.random, 2));
            }
            self.file(path, text);
        }
        let mut layouts = vec![self.base("base", &partials)];
        if templates > 40 && self.random.once_in(2) {
            layouts.push(self.base("plain", &partials));
        }
        for n in 0..self.random.below(2 + templates / 25) {
            let above = layouts[self.random.below(layouts.len())].clone();
            let made = self.section(&format!("section-{n}"), &above, &partials);
            layouts.push(made);
        }
        self.vendored = self.random.once_in(6);
        let done = self.files.len();
        for n in done..templates.max(done + 4) {
            let layout = layouts[self.random.below(layouts.len())].clone();
            self.page(n, &layout, &partials);
        }
        self.noise();
    }

    fn base(&mut self, name: &str, partials: &[String]) -> Layout {
        let path = self.path("layouts", name, true);
        let count = 3 + self.random.below(5);
        let mut names = Vec::new();
        let mut middle = String::new();
        for name in NAMES.iter().skip(2).take(count) {
            let filled = self.random.once_in(2);
            let inner = if filled { self.markup(1) } else { String::new() };
            let single = !self.has(Kind::Block) && !self.form(Kind::Slot).is_some_and(Form::is_pair);
            middle += &self.region(name, true, &inner);
            middle += "\n";
            names.push(((*name).to_owned(), filled && !single));
        }
        let title = self.region("title", true, "Tidewater");
        names.push(("title".to_owned(), self.has(Kind::Block) || self.form(Kind::Slot).is_some_and(Form::is_pair)));
        let nav = self.include(&path, &partials[0]);
        let foot = self.include(&path, &partials[1]);
        let body = self.has(Kind::Body);
        let cargo = if body { self.tag(Kind::Body, Values::default()) } else { String::new() };
        let extra = self.markup(1);
        let title = if self.engine.shape == "attributes" {
            format!("<title {}>Tidewater</title>", self.tag(Kind::Block, Values { name: "title", ..Values::default() }))
        } else {
            format!("<title>{title}</title>")
        };
        let text = format!(
            "<!DOCTYPE html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n{title}\n<link rel=\"stylesheet\" href=\"/css/site.css\">\n</head>\n<body>\n{nav}\n<main>\n{middle}{cargo}\n</main>\n{extra}{foot}\n</body>\n</html>\n"
        );
        self.file(&path, text);
        Layout { path, names, body }
    }

    fn section(&mut self, name: &str, above: &Layout, partials: &[String]) -> Layout {
        let path = self.path("layouts", name, true);
        let mut text = self.parent(&path, &above.path) + "\n";
        let mut names = above.names.clone();
        // An empty in-between layout now and then.
        if !self.random.once_in(6) {
            let (region, _) = above.names[self.random.below(above.names.len())].clone();
            let inner_name = format!("{region}-inner");
            let inner = self.region(&inner_name, true, "");
            let single = !self.has(Kind::Block) && self.has(Kind::Slot);
            let part = if self.random.once_in(2) { self.any_partial(&path, partials) } else { String::new() };
            let content = format!("<section>{inner}</section>{part}");
            text += &(self.region(&region, false, &content) + "\n");
            if !single || self.has(Kind::Slot) {
                names.push((inner_name, false));
            }
            names.iter_mut().filter(|(known, _)| *known == region).for_each(|known| known.1 = true);
        }
        if above.body {
            text += &format!("<div class=\"wide\">{}</div>\n", self.tag(Kind::Body, Values::default()));
        }
        self.wrap_root(&mut text);
        self.file(&path, text);
        Layout { path, names, body: above.body }
    }

    /// Where attributes name the parent, the whole file stands in an element.
    fn wrap_root(&mut self, text: &mut String) {
        if self.engine.shape == "attributes" {
            let (parent, rest) =
                text.split_once('\n').map_or((text.clone(), String::new()), |(a, b)| (a.to_owned(), b.to_owned()));
            *text = format!("<html {parent}>\n{rest}</html>\n");
        }
    }

    fn page(&mut self, number: usize, layout: &Layout, partials: &[String]) {
        let folder = self.random.pick(&["", "", "fares", "harbours/east"]);
        let path = self.path(folder, &format!("page-{number}"), false);
        let mut text = if self.vendored && self.random.once_in(12) {
            let gone = self.path("vendor", "frame", true);
            self.parent(&path, &gone) + "\n"
        } else {
            let line = self.parent(&path, &layout.path) + "\n";
            let quoted = self.form(Kind::Parent).is_some_and(|form| form.open.example().contains("\"<target>\""));
            // Now and then the layout is chosen when the page is rendered.
            if quoted && matches!(self.engine.shape, "brackets" | "one bracket") && self.random.once_in(25) {
                let at = line.find(['"', '\'']).unwrap_or(0);
                format!("{}user.layout | {}", &line[..at], &line[at..])
            } else {
                line
            }
        };
        let mut order: Vec<usize> = (0..layout.names.len()).collect();
        for at in (1..order.len()).rev() {
            order.swap(at, self.random.below(at + 1));
        }
        let count = 1 + self.random.below(layout.names.len().min(5));
        for &at in order.iter().take(count) {
            let (name, filled) = layout.names[at].clone();
            let mut inner = if name == "title" { prose(self.random, 1) } else { self.markup(0) };
            if name != "title" && self.random.once_in(3) {
                inner += &self.any_partial(&path, partials);
            }
            if filled && self.has(Kind::Inherited) && self.random.once_in(3) {
                let inherited = self.tag(Kind::Inherited, Values::default());
                let inherited =
                    if self.engine.shape == "attributes" { format!("<i {inherited}></i>") } else { inherited };
                inner = if self.random.once_in(2) {
                    format!("{inherited} {inner}")
                } else {
                    format!("{inner} {inherited}")
                };
            }
            text += &(self.region(&name, false, &inner) + "\n");
        }
        if layout.body {
            text += &format!("<h1>{}</h1>\n{}", prose(self.random, 2), self.markup(1));
        }
        self.wrap_root(&mut text);
        self.file(&path, text);
    }

    /// What else lies in such a tree.
    fn noise(&mut self) {
        let mail = self.path("mail", "welcome", false);
        let text =
            format!("Dear {},\n\n{} (see [1]).\n\nYours, crew@sea.example\n", self.output(), prose(self.random, 8));
        self.files.push(SourceFile::new(mail, text));
        if self.random.once_in(2) {
            let text = "<!DOCTYPE html><html><head><title>Gone</title></head><body><p>{not} [a] (template) @all</p></body></html>";
            let path = self.path("", "static", false);
            self.files.push(SourceFile::new(path, text));
        }
        self.files.sort_by(|a, b| a.path.cmp(&b.path));
    }
}
