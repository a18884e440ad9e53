//! Random sites with every construct: pages that were copied, and pages with layouts, in the dialects that the
//! stand-in engine executes.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use radicon::{Settings, Site, SourceFile, dialect};

use super::Random;
use super::engine::{BRACE, GANGWAY, LANTERN, LIBRARIES, Syntax, Value};

/// The dialect file of a syntax, beside the built-in one.
/// The names of a block that was cut in two.
const HALVES: [&str; 2] = ["note_top", "note_rest"];

const DIALECTS: [(&str, &str); 2] = [
    ("lantern", include_str!("../../fixtures/lantern/site/dialects/lantern.toml")),
    ("gangway", include_str!("../../fixtures/gangway/site/dialects/gangway.toml")),
];

/// A site as it is read, and its files.
pub fn read(syntax: Syntax, files: Vec<SourceFile>) -> Site {
    let settings = Settings { roots: Some(vec![String::new()]), ..Settings::default() };
    Site::read(files, &[dialect_of(syntax)], &settings)
}

/// The dialect of a syntax.
pub fn dialect_of(syntax: Syntax) -> Arc<dialect::Dialect> {
    match DIALECTS.iter().find(|(name, _)| *name == syntax.name) {
        Some((_, text)) => Arc::new(dialect::Dialect::parse(text).expect("a dialect")),
        None => dialect::builtin_named(syntax.name).expect("a dialect"),
    }
}

/// Data with some names missing.
pub fn data(random: &mut Random) -> BTreeMap<String, Value> {
    let text = |text: &str| Value::Text(text.to_owned());
    let map = |pairs: &[(&str, &str)]| Value::Map(pairs.iter().map(|(k, v)| ((*k).to_owned(), text(v))).collect());
    let items = (0..random.below(4)).map(|n| map(&[("name", ["kelp", "eel", "cod", "crab"][n]), ("price", "7")]));
    let all = [
        ("user", map(&[("name", "Ada")])),
        ("items", Value::List(items.collect())),
        ("season", text(random.pick(&["winter", "summer"]))),
        ("harbour", text(random.pick(&["north", "south"]))),
        ("open", text(random.pick(&["1", ""]))),
        ("label", text("outer")),
    ];
    all.into_iter().filter(|_| !random.once_in(5)).map(|(name, value)| (name.to_owned(), value)).collect()
}

/// Files in one dialect, with what their tags need.
pub struct Wild<'r> {
    pub random: &'r mut Random,
    pub syntax: Syntax,
    /// What the file that is being written needs: libraries and imports.
    needs: BTreeSet<&'static str>,
    /// Names that are bound here.
    bound: Vec<String>,
}

impl<'r> Wild<'r> {
    pub fn new(random: &'r mut Random) -> Self {
        let syntax = [BRACE, BRACE, LANTERN, GANGWAY][random.below(4)];
        Self { random, syntax, needs: BTreeSet::new(), bound: Vec::new() }
    }

    fn is(&self, name: &str) -> bool {
        self.syntax.name == name
    }

    fn tag(&self, text: &str) -> String {
        match self.syntax.name {
            "lantern" => format!("[~ {text} ~]"),
            "gangway" => format!("(* {text} *)"),
            _ => format!("{{% {text} %}}"),
        }
    }

    fn out(&self, text: &str) -> String {
        match self.syntax.name {
            "lantern" => format!("[= {text} =]"),
            "gangway" => format!("(*= {text} *)"),
            _ => format!("{{{{ {text} }}}}"),
        }
    }

    fn say<'w>(&self, brace: &'w str, lantern: &'w str, gangway: &'w str) -> &'w str {
        match self.syntax.name {
            "lantern" => lantern,
            "gangway" => gangway,
            _ => brace,
        }
    }

    /// Whether there are loops, conditions, and names that are set.
    fn has_control(&self) -> bool {
        !self.is("gangway")
    }

    fn word(&mut self) -> &'static str {
        self.random.pick(&[
            "ferry",
            "pier",
            "timetable",
            "ticket",
            "harbour master",
            "crossing",
            "deck",
            "lounge",
            "quay",
        ])
    }

    fn words(&mut self, count: usize) -> String {
        (0..count).map(|_| self.word()).collect::<Vec<_>>().join(" ")
    }

    /// A value that is printed: data, or a name that is bound here.
    fn value(&mut self) -> String {
        if !self.bound.is_empty() && self.random.once_in(2) {
            let at = self.random.below(self.bound.len());
            return self.bound[at].clone();
        }
        self.random.pick(&["user.name", "season", "harbour", "label", "\"calm\""]).to_owned()
    }

    fn output(&mut self) -> String {
        let mut value = self.value();
        if self.random.once_in(4) {
            let (library, _, filter) = LIBRARIES[self.random.below(LIBRARIES.len())];
            self.needs.insert(library);
            value = format!("{value}|{filter}");
        }
        self.out(&value)
    }

    fn custom(&mut self) -> String {
        let (library, tag, _) = LIBRARIES[self.random.below(LIBRARIES.len())];
        self.needs.insert(library);
        let value = self.value();
        self.tag(&format!("{tag} {value}"))
    }

    /// Some markup with constructs in it.
    pub fn content(&mut self, deep: usize) -> String {
        let pad = "  ".repeat(deep);
        let mut text = String::new();
        for _ in 0..1 + self.random.below(3) {
            let (a, b) = (self.words(2), self.words(5));
            let control = self.has_control() && deep < 5;
            text += &match self.random.below(if control { 12 } else { 6 }) {
                0 => format!("{pad}<h2>{a}</h2>\n"),
                1 => format!("{pad}<p>{b} {}</p>\n", self.output()),
                2 => format!("{pad}<p class=\"{}\">{}</p>\n", a.replace(' ', "-"), self.custom()),
                3 => format!("{pad}<p>{b}</p>\n"),
                4 => format!("{pad}<section>\n{}{pad}</section>\n", self.content(deep + 1)),
                5 if self.is("brace-percent") => {
                    self.needs.insert("import");
                    let value = self.value();
                    format!("{pad}{}\n", self.out(&format!("kit.field({value})")))
                }
                5 => format!("{pad}{}\n", self.include("parts/note", true)),
                6 => {
                    let condition = self.random.pick(&["open", "user", "season == \"winter\"", "not open"]).to_owned();
                    let condition = self.tag(&format!("{} {condition}", self.say("if", "when", "")));
                    let (then, other) = (self.content(deep + 1), self.content(deep + 1));
                    let (middle, end) = (self.tag("else"), self.tag(self.say("endif", "out when", "")));
                    match self.random.below(2) {
                        0 => format!("{pad}{condition}\n{then}{pad}{end}\n"),
                        _ => format!("{pad}{condition}\n{then}{pad}{middle}\n{other}{pad}{end}\n"),
                    }
                }
                7 | 8 => {
                    let name = self.random.pick(&["item", "label", "stop"]).to_owned();
                    let open = self.tag(&format!("{} {name} in items", self.say("for", "each", "")));
                    let outer = self.bound.len();
                    self.bound.extend([format!("{name}.name"), "turn.count".into()]);
                    let inner = self.content(deep + 1);
                    self.bound.truncate(outer);
                    format!("{pad}{open}\n{inner}{pad}{}\n", self.tag(self.say("endfor", "out each", "")))
                }
                9 => {
                    let name = self.random.pick(&["label", "mood"]).to_owned();
                    let value = self.value();
                    let set = self.tag(&format!("{} {name} = {value}", self.say("set", "let", "")));
                    self.bound.push(name);
                    format!("{pad}{set}\n{pad}<b>{}</b>\n", self.output())
                }
                10 if self.is("brace-percent") => {
                    let value = self.value();
                    let open = self.tag(&format!("with label={value}"));
                    let outer = self.bound.len();
                    self.bound.push("label".into());
                    let inner = self.content(deep + 1);
                    self.bound.truncate(outer);
                    format!("{pad}{open}\n{inner}{pad}{}\n", self.tag("endwith"))
                }
                _ => format!("{pad}{}\n", self.include("parts/note", true)),
            };
        }
        text
    }

    fn include(&mut self, name: &str, arguments: bool) -> String {
        let given = match self.random.below(4) {
            _ if !arguments => String::new(),
            0 => String::new(),
            1 => " label=\"given\"".to_owned(),
            2 => format!(" label={}", self.value().replace(' ', "")),
            _ if self.is("gangway") => " label=\"alone\"".to_owned(),
            _ => format!(" label=\"alone\" {}", self.say("only", "alone", "")),
        };
        let given = if given.is_empty() || !self.is("brace-percent") { given } else { format!(" with{given}") };
        match self.syntax.name {
            "lantern" => self.tag(&format!("fetch \"{}\"{given}", name.replace('/', "."))),
            "gangway" => self.tag(&format!("lash {}{given}", name.rsplit('/').next().unwrap_or(name))),
            _ => self.tag(&format!("include \"{name}.html\"{given}")),
        }
    }

    fn path(&self, name: &str) -> String {
        let name = if self.is("gangway") {
            name.replace("parts/", "bits/").replace("layouts/", "hulls/")
        } else {
            name.to_owned()
        };
        format!("{name}{}", self.syntax.suffix)
    }

    /// A file with what its tags need at its top, behind the parent line; `set` are names that it sets there.
    fn file(&mut self, name: &str, parent: Option<&str>, set: &[(&str, String)], body: &str) -> SourceFile {
        let mut text = String::new();
        let bare = |name: &str| name.rsplit('/').next().unwrap_or(name).to_owned();
        if self.is("gangway") {
            if parent.is_some() || !set.is_empty() {
                text += "=====\n";
                text += &parent.map(|parent| format!("hull: {}\n", bare(parent))).unwrap_or_default();
                set.iter().for_each(|(name, value)| text += &format!("{name} is {value}\n"));
                text += "=====\n";
            }
        } else if let Some(parent) = parent {
            text += &match self.syntax.name {
                "lantern" => self.tag(&format!("hangs \"{}\"", parent.replace('/', "."))),
                _ => self.tag(&format!("extends \"{parent}.html\"")),
            };
            text.push('\n');
        }
        let mut needs: Vec<&str> = std::mem::take(&mut self.needs).into_iter().collect();
        if self.random.once_in(3) {
            needs.reverse();
        }
        for need in needs {
            text += &match need {
                "import" => self.tag("import \"parts/kit.html\" as kit"),
                library => self.tag(&format!("{} {library}", self.say("fetch", "haul", "fetch"))),
            };
            text.push('\n');
        }
        if !self.is("gangway") {
            for (name, value) in set {
                text += &self.tag(&format!("{} {name} = {value}", self.say("set", "let", "")));
                text.push('\n');
            }
        }
        self.bound.clear();
        SourceFile::new(self.path(name), text + body)
    }

    /// The partials that pages include.
    fn parts(&mut self) -> Vec<SourceFile> {
        self.bound = vec!["label".into()];
        let note = format!("<aside class=\"note\">{} {}</aside>\n", self.output(), self.words(3));
        let mut files = vec![self.file("parts/note", None, &[], &note)];
        if self.is("brace-percent") {
            let kit = "{% macro field(label) %}<label>{{ label }} {{ season }}</label>{% endmacro %}\n";
            files.push(SourceFile::new("parts/kit.html", kit));
        }
        files
    }

    /// Pages that were copied from one another: the same skeleton around content of their own.
    pub fn copied(&mut self) -> Vec<SourceFile> {
        let mut files = self.parts();
        let (head, foot) = (self.content(2), self.content(2));
        let shared: BTreeSet<&'static str> = std::mem::take(&mut self.needs);
        self.bound.clear();
        let menu: Vec<&str> = vec!["fares", "piers", "notices"];
        let sets = self.random.once_in(2);
        let marks = sets && self.has_control() && self.random.once_in(2);
        let wraps = self.has_control() && self.random.once_in(3);
        let looped = self.has_control() && self.random.once_in(5);
        let (class, brand) = (self.word().replace(' ', "-"), self.words(2));
        for number in 0..4 + self.random.below(4) {
            let section = menu[number % menu.len()];
            let mut body = format!(
                "<!DOCTYPE html>\n<html lang=\"en\">\n<head>\n  <meta charset=\"utf-8\">\n  <title>{} – {brand}</title>\n  <link rel=\"stylesheet\" href=\"/css/{class}.css\">\n</head>\n<body class=\"{class}\">\n  <header>\n    <p>{brand}</p>\n    <ul>\n",
                self.words(2)
            );
            for entry in &menu {
                let mark = if marks {
                    let open = self.tag(&format!("{} active == \"{entry}\"", self.say("if", "when", "")));
                    format!("{open} class=\"on\"{}", self.tag(self.say("endif", "out when", "")))
                } else {
                    String::new()
                };
                body += &format!("      <li><a href=\"/{entry}.html\"{mark}>{entry}</a></li>\n");
            }
            body += &format!("    </ul>\n{head}  </header>\n");
            self.bound.clear();
            if sets {
                self.bound.push("active".into());
            }
            let (open, close) = match (wraps, looped) {
                (true, _) => {
                    let open = self.tag(&format!("{} open", self.say("if", "when", "")));
                    (format!("  {open}\n"), format!("  {}\n", self.tag(self.say("endif", "out when", ""))))
                }
                (_, true) => {
                    self.bound.push("item.name".into());
                    let open = self.tag(&format!("{} item in items", self.say("for", "each", "")));
                    (format!("  {open}\n"), format!("  {}\n", self.tag(self.say("endfor", "out each", ""))))
                }
                _ => (String::new(), String::new()),
            };
            let content = self.content(2);
            body += &format!(
                "{open}  <main>\n{content}  </main>\n{close}  <footer>\n{foot}    <p>© {brand} crossings, all year round</p>\n  </footer>\n</body>\n</html>\n"
            );
            self.needs.extend(&shared);
            if self.random.once_in(6) {
                self.needs.insert("lights");
            }
            let set = [("active", format!("\"{section}\""))];
            let file = self.file(&format!("page{number}"), None, if sets { &set } else { &[] }, &body);
            files.push(file);
        }
        files
    }

    fn block(&mut self, name: &str, inner: &str) -> String {
        let open = self.tag(&format!("{} {name}", self.say("block", "lamp", "berth")));
        format!("{open}\n{inner}{}\n", self.tag(self.say("endblock", "out", "cast")))
    }

    /// Pages with layouts of one or two levels.
    pub fn layered(&mut self) -> Vec<SourceFile> {
        let mut files = self.parts();
        let sets = self.random.once_in(2);
        if sets {
            self.bound.push("active".into());
        }
        let (head, foot, default) = (self.content(1), self.content(1), self.content(1));
        let (top, main, side) = (self.block("top", ""), self.block("main", &default), self.block("side", ""));
        let looped = self.has_control() && self.random.once_in(4);
        let side = if looped {
            let open = self.tag(&format!("{} item in items", self.say("for", "each", "")));
            format!("{open}\n{side}{}\n", self.tag(self.say("endfor", "out each", "")))
        } else {
            side
        };
        let body = if self.is("gangway") { self.tag("stow") } else { String::new() };
        let base = format!(
            "<!DOCTYPE html>\n<html lang=\"en\">\n<head>\n<title>Tidewater</title>\n</head>\n<body>\n{top}<header>\n{head}</header>\n<main>\n{main}</main>\n{side}{body}\n<footer>\n{foot}</footer>\n</body>\n</html>\n"
        );
        let file = self.file("layouts/base", None, &[], &base);
        files.push(file);
        let repeated = self.content(1);
        let shared: BTreeSet<&'static str> = std::mem::take(&mut self.needs);
        let middle = self.random.once_in(2);
        if middle {
            self.bound.clear();
            let inner = self.block("inner", "");
            let around = format!("<div class=\"section\">\n{}{inner}</div>\n", self.content(2));
            let text = self.block("main", &around);
            let file = self.file("layouts/section", Some("layouts/base"), &[], &text);
            files.push(file);
        }
        for number in 0..3 + self.random.below(4) {
            self.bound.clear();
            if sets {
                self.bound.push("active".into());
            }
            let deep = middle && self.random.once_in(2);
            let mut text = String::new();
            if !self.random.once_in(3) {
                if looped {
                    self.bound.push("item.name".into());
                }
                let inner = self.content(1);
                text += &self.block("side", &inner);
                if looped {
                    self.bound.pop();
                }
            }
            if self.random.once_in(3) {
                let inner = self.content(1);
                text += &self.block("top", &inner);
            }
            let own = self.content(1);
            let again = match self.random.below(3) {
                0 if self.is("brace-percent") => self.out("super()") + "\n",
                0 if self.is("lantern") => self.tag("before") + "\n",
                _ => String::new(),
            };
            let inner = format!("{again}{repeated}{own}");
            self.needs.extend(&shared);
            text += &self.block(if deep { "inner" } else { "main" }, &inner);
            let set = [("active", format!("\"{number}\""))];
            let parent = if deep { "layouts/section" } else { "layouts/base" };
            let file = self.file(&format!("page{number}"), Some(parent), if sets { &set } else { &[] }, &text);
            files.push(file);
        }
        files
    }

    /// Pages whose layouts could say more: groups of them have the same around what is theirs, or the same overrides.
    pub fn repeated(&mut self) -> Vec<SourceFile> {
        let mut files = self.parts();
        let (foot, shown) = (self.content(1), if self.random.once_in(2) { self.content(1) } else { String::new() });
        let blocks: Vec<String> = [("top", ""), ("main", &shown), ("side", ""), ("end", &foot)]
            .map(|(name, text)| self.block(name, text))
            .into();
        // One block that was cut in two, which all pages override.
        let is_cut = self.random.once_in(3);
        let halves: Vec<String> = if is_cut { HALVES.map(|name| self.block(name, "")).into() } else { Vec::new() };
        let base = format!(
            "<!DOCTYPE html>\n<html lang=\"en\">\n<body>\n{}{}<main>\n{}</main>\n{}<footer>\n{}</footer>\n</body>\n</html>\n",
            blocks[0],
            halves.join(""),
            blocks[1],
            blocks[2],
            blocks[3]
        );
        let file = self.file("layouts/base", None, &[], &base);
        files.push(file);
        let middle = self.random.once_in(2);
        if middle {
            let inner = self.block("inner", "");
            let text = self.block("main", &format!("<div class=\"section\">\n{inner}</div>\n"));
            let file = self.file("layouts/section", Some("layouts/base"), &[], &text);
            files.push(file);
        }
        let sets = self.random.once_in(3);
        let mut number = 0;
        for group in 0..1 + self.random.below(2) {
            self.bound.clear();
            self.needs.clear();
            let class = self.word().replace(' ', "-");
            let (open, close, side) = (self.content(3), self.content(2), self.content(2));
            let open = format!("<nav class=\"{class}\">\n  <p>{}</p>\n  <div>\n{open}", self.words(9));
            let (wraps, says, adds) = (self.random.once_in(2), self.random.once_in(2), self.random.once_in(2));
            let shared: BTreeSet<&'static str> = std::mem::take(&mut self.needs);
            let deep = middle && self.random.once_in(2);
            for _ in 0..4 + self.random.below(4) {
                let mut text = String::new();
                if wraps && !self.random.once_in(9) {
                    let own = self.content(2);
                    text += &self.block("top", &format!("{open}{own}  </div>\n{close}</nav>\n"));
                }
                if says && !self.random.once_in(9) {
                    text += &self.block("side", &format!("<aside class=\"{class}\">\n{side}</aside>\n"));
                }
                if adds && !self.is("gangway") {
                    let own = if self.random.once_in(2) { self.content(1) } else { String::new() };
                    let inherited = if self.is("lantern") { self.tag("before") } else { self.out("super()") };
                    text += &self
                        .block("end", &format!("{inherited}\n<script src=\"/{class}-{group}.js\"></script>\n{own}"));
                }
                self.needs.extend(&shared);
                for name in HALVES.iter().filter(|_| is_cut) {
                    let own = self.content(1);
                    text += &self.block(name, &own);
                }
                let own = self.content(1);
                text += &self.block(if deep { "inner" } else { "main" }, &own);
                let set = [("active", format!("\"{number}\""))];
                let parent = if deep { "layouts/section" } else { "layouts/base" };
                let file = self.file(&format!("page{number}"), Some(parent), if sets { &set } else { &[] }, &text);
                files.push(file);
                number += 1;
            }
        }
        files
    }
}
