//! Random template engines.

use std::sync::Arc;

use radicon::dialect::Dialect;

use super::Random;

/// A made-up engine.
pub struct Engine {
    /// What kind of notation it has.
    pub shape: &'static str,
    pub dialect: Arc<Dialect>,
    /// The suffix of its files.
    pub suffix: String,
    pub naming: Naming,
    /// The delimiters of its tags and of its outputs.
    pub delimiters: [(String, String); 2],
}

#[derive(Clone)]
pub struct Naming {
    pub separator: &'static str,
    /// Whether names are written with their suffix.
    pub with_suffix: bool,
    pub prefix: &'static str,
    pub relative: bool,
    pub root: &'static str,
}

pub const SHAPES: [&str; 9] = [
    "brackets",
    "one bracket",
    "sigil",
    "sigil with braces",
    "single brackets",
    "elements",
    "comments",
    "attributes",
    "lines",
];

/// A word that no engine uses.
pub fn word(random: &mut Random, used: &mut Vec<String>) -> String {
    loop {
        let mut word = String::new();
        for _ in 0..2 + random.below(2) {
            word += random.pick(&["b", "d", "f", "g", "k", "l", "m", "n", "p", "r", "s", "t", "v", "z", "st", "tr"]);
            word += random.pick(&["a", "e", "i", "o", "u"]);
        }
        let clashes = used.iter().any(|known| known.contains(&word) || word.contains(known.as_str()));
        if !clashes {
            used.push(word.clone());
            return word;
        }
    }
}

fn esc(text: &str) -> String {
    // `<*` alone begins an attribute form.
    text.replace('\\', "\\\\").replace('[', "\\[").replace(']', "\\]").replace("<*", "\\<*")
}

fn mirror(text: &str) -> String {
    let flip = |c| match c {
        '(' => ')',
        '[' => ']',
        '{' => '}',
        '<' => '>',
        other => other,
    };
    text.chars().rev().map(flip).collect()
}

/// What tags of an engine look like.
struct Look {
    shape: &'static str,
    open: String,
    close: String,
    output: (String, String),
    comment: (String, String),
    space: &'static str,
    /// How arguments in quotes follow a word: `word "x"`, `word("x")`, `word=“x”`, `word name="x"`.
    call: bool,
    key: Option<String>,
    bare_names: bool,
    bare_targets: bool,
}

impl Look {
    /// A tag with a word and something behind it.
    fn tag(&self, word: &str, rest: &str) -> String {
        let (open, close, space) = (esc(&self.open), esc(&self.close), self.space);
        let gap = if rest.is_empty() || rest.starts_with(['=', '(']) { "" } else { " " };
        match self.shape {
            "elements" => format!("<{word}{gap}{rest}>"),
            "lines" => format!("{open} {word}{gap}{rest}"),
            "sigil" | "sigil with braces" => format!("{open}{word}{gap}{rest}"),
            _ => format!("{open}{space}{word}{gap}{rest}{space}{close}"),
        }
    }

    fn named(&self, word: &str, place: &str, bare: bool, more: &str) -> String {
        let quoted = if bare { place.to_owned() } else { format!("\"{place}\"") };
        let rest = match (&self.key, self.call) {
            (Some(key), _) if key.is_empty() => format!("={quoted}{more}"),
            (Some(key), _) => format!("{key}={quoted}{more}"),
            (None, true) => format!("({quoted}{more})"),
            (None, false) => format!("{quoted}{more}"),
        };
        self.tag(word, &rest)
    }
}

fn brackets(random: &mut Random, taken: &mut Vec<String>) -> (String, String) {
    loop {
        let bracket = random.pick(&["{", "[", "(", "<"]);
        let inner = random.pick(&["%", "~", "=", "*", "|", "?", "$", "@", "+", ":", "^", "&", "!"]);
        let open = match random.below(5) {
            0 if bracket != "<" => format!("{bracket}{bracket}"),
            1 if bracket != "<" => format!("{bracket}{bracket}{inner}"),
            2 => format!("{bracket}{inner}{inner}"),
            _ => format!("{bracket}{inner}"),
        };
        let html = open.starts_with("<!") || open.starts_with("<&");
        let clash = taken.iter().any(|known| known.starts_with(&open) || open.starts_with(known.as_str()));
        if !html && !clash {
            taken.push(open.clone());
            let close = mirror(&open);
            return (open, close);
        }
    }
}

fn look(random: &mut Random, shape: &'static str) -> Look {
    let mut taken = Vec::new();
    let space = if random.once_in(6) { "" } else { " " };
    let sigil = random.pick(&["~", "^", "@", "%", "!", "|", "+", "::", "@@", "\\"]);
    let (open, close) = match shape {
        "sigil" | "sigil with braces" => (sigil.to_owned(), String::new()),
        "lines" => (random.pick(&["%%", "~", "^", ":::", "@", "||", "!"]).to_owned(), String::new()),
        "single brackets" => {
            let open = random.pick(&["[", "{"]);
            (open.to_owned(), mirror(open))
        }
        "comments" => (format!("<!--{}", random.pick(&["#", ":", "@", "~", "$"])), "-->".to_owned()),
        "elements" | "attributes" => ("<".to_owned(), ">".to_owned()),
        _ => brackets(random, &mut taken),
    };
    taken.push(open.clone());
    let output = match shape {
        "one bracket" => (open.clone(), close.clone()),
        "sigil" | "sigil with braces" => (format!("{open}{{"), "}".to_owned()),
        _ => brackets(random, &mut taken),
    };
    let comment = match shape {
        "one bracket" | "single brackets" => {
            let mark = random.pick(&["#", "*", "--", "!"]);
            (format!("{open}{mark}"), format!("{}{close}", mirror(mark)))
        }
        "sigil" | "sigil with braces" => (format!("{open}*"), format!("*{open}")),
        _ => {
            let (open, close) = brackets(random, &mut taken);
            let clashes =
                |comment: &str| taken.iter().any(|known| known.contains(comment) || comment.contains(known.as_str()));
            let marks: Vec<&str> =
                ["#", "*", "--", ";"].into_iter().filter(|mark| !clashes(&format!("{}{mark}", &open[..1]))).collect();
            let mark = random.pick(&marks);
            (format!("{}{mark}", &open[..1]), format!("{}{}", mirror(mark), &close[close.len() - 1..]))
        }
    };
    let quoted = |key: String| Look {
        shape,
        open: open.clone(),
        close: close.clone(),
        output: output.clone(),
        comment: comment.clone(),
        space,
        call: false,
        key: Some(key),
        bare_names: false,
        bare_targets: false,
    };
    match shape {
        "single brackets" => Look { space: "", ..quoted(String::new()) },
        "elements" | "attributes" => quoted("name".into()),
        "sigil" => Look { key: None, call: true, ..quoted(String::new()) },
        "sigil with braces" => Look { key: None, call: true, ..quoted(String::new()) },
        _ => {
            let bare_names = random.once_in(2);
            let key = random.once_in(6).then(|| "name".to_owned());
            let call = key.is_none() && random.once_in(6);
            let bare_targets = bare_names && key.is_none() && random.once_in(5);
            Look {
                key: key.clone(),
                call,
                bare_names: bare_names && key.is_none() && !call,
                bare_targets,
                ..quoted(String::new())
            }
        }
    }
}

/// How pairs are closed.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
enum Closing {
    /// `endword`, `/word`, …
    Affix,
    /// `end word`
    Argument,
    /// `end`
    General,
    /// `end name`, `end word` for what has no name
    Name,
    Brace,
}

/// A random engine.
pub fn engine(random: &mut Random) -> Engine {
    let shape = SHAPES[random.below(SHAPES.len())];
    engine_of(random, shape)
}

pub fn engine_of(random: &mut Random, shape: &'static str) -> Engine {
    let look = look(random, shape);
    let mut used = vec!["name".to_owned()];
    let suffix = format!(".{}", random.pick(&["html", "htm", "page", "tpl", "dock", "view.html", "sail.htm"]));
    let naming = Naming {
        separator: if random.once_in(3) { "." } else { "/" },
        with_suffix: false,
        prefix: if random.once_in(6) { "_" } else { "" },
        relative: random.once_in(5),
        root: random.pick(&["", "views", "src/pages"]),
    };
    let naming = Naming { with_suffix: naming.separator == "/" && random.once_in(2), ..naming };
    let closing = match shape {
        "sigil with braces" => Closing::Brace,
        "elements" => Closing::Affix,
        _ => *[Closing::Affix, Closing::Affix, Closing::Argument, Closing::General, Closing::Name]
            .get(random.below(if shape == "sigil" || shape == "single brackets" || look.call { 4 } else { 5 }))
            .unwrap_or(&Closing::Affix),
    };
    let closing = if matches!(shape, "sigil" | "single brackets") && closing == Closing::Argument {
        Closing::Affix
    } else {
        closing
    };
    let affix = match random.below(5) {
        _ if shape == "elements" => ("/".to_owned(), String::new()),
        0 if !matches!(shape, "sigil") => ("/".to_owned(), String::new()),
        1 => (String::new(), word(random, &mut used)[..2].to_owned()),
        2 => (format!("{}_", word(random, &mut used)), String::new()),
        _ => ("end".to_owned(), String::new()),
    };
    let ender = if random.once_in(2) { "end".to_owned() } else { word(random, &mut used) };
    let writing = Writing { look: &look, closing, affix: &affix, ender: &ender };
    let text = dialect_text(random, &writing, &naming, &suffix, &mut used);
    let dialect = Dialect::parse(&text).unwrap_or_else(|error| panic!("{shape}: {error}\n{text}"));
    let delimiters = [(look.open, look.close), look.output];
    Engine { shape, dialect: Arc::new(dialect), suffix, naming, delimiters }
}

fn quote(text: &str) -> String {
    if text.contains('\'') {
        format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\""))
    } else {
        format!("'{text}'")
    }
}

/// The forms of each kind, as values of a dialect file.
type Forms = Vec<(&'static str, Vec<String>)>;

/// How an engine writes its tags and closes its pairs.
struct Writing<'a> {
    look: &'a Look,
    closing: Closing,
    affix: &'a (String, String),
    ender: &'a str,
}

impl Writing<'_> {
    fn line(&self) -> &'static str {
        if self.look.shape == "lines" { ", line = true" } else { "" }
    }

    fn single(&self, open: String) -> String {
        if self.line().is_empty() { quote(&open) } else { format!("{{ open = {}{} }}", quote(&open), self.line()) }
    }

    fn pair(&self, open: String, word: &str, named: bool, branch: &str) -> String {
        let (look, ender) = (self.look, self.ender);
        let close = match self.closing {
            Closing::Brace => {
                let branch = if branch.is_empty() { String::new() } else { format!(", branch = '}} {branch} {{'") };
                return format!("{{ open = {}, balanced = \"{{}}\"{branch} }}", quote(&format!("{open} {{")));
            }
            Closing::Affix => vec![look.tag(&format!("{}{word}{}", self.affix.0, self.affix.1), "")],
            Closing::Argument => vec![look.tag(&format!("{ender} {word}"), "")],
            Closing::General => vec![look.tag(ender, "")],
            Closing::Name if named => {
                let name = if look.bare_names { "<name>" } else { "\"<name>\"" };
                let key = look.key.as_ref().filter(|key| !key.is_empty());
                let name = key.map_or(name.to_owned(), |key| format!("{key}={name}"));
                vec![look.tag(ender, &name), look.tag(ender, "")]
            }
            Closing::Name => vec![look.tag(&format!("{ender}{word}"), "")],
        };
        let close: Vec<String> = close.iter().map(|close| quote(close)).collect();
        let branch =
            if branch.is_empty() { String::new() } else { format!(", branch = {}", quote(&look.tag(branch, ""))) };
        format!("{{ open = {}, close = [{}]{branch}{} }}", quote(&open), close.join(", "), self.line())
    }

    /// Conditions and loops are statements of a program, whose bodies end in other tags.
    fn has_code(&self) -> bool {
        self.look.shape == "brackets" && !self.look.space.is_empty() && self.closing == Closing::General
    }

    fn statement(&self, word: &str, condition: &str, branch: &str) -> String {
        let brace = |open: &str, rest: &str| quote(&self.look.tag(open, rest));
        let branch = match branch {
            "" => String::new(),
            word => format!(", branch = {}", brace(&format!("}} {word}"), "{")),
        };
        let open = brace(word, &format!("{condition} {{"));
        format!("{{ open = {open}, close = {}{branch} }}", brace("}", ""))
    }

    /// Parents, regions, includes and the rest, with these words.
    fn tag_forms(&self, random: &mut Random, words: &[String]) -> Forms {
        let (look, shape) = (self.look, self.look.shape);
        let mut forms: Forms = Vec::new();
        forms.push(("parent", vec![self.single(look.named(&words[0], "<target>", look.bare_targets, ""))]));
        let split = shape == "sigil with braces" || random.once_in(3);
        let name = |word: &str| look.named(word, "<name>", look.bare_names, "");
        if split {
            let slot = if random.once_in(2) || shape == "sigil with braces" {
                self.single(name(&words[1]))
            } else {
                self.pair(name(&words[1]), &words[1], true, "")
            };
            forms.push(("slot", vec![slot]));
            forms.push(("fill", vec![self.pair(name(&words[2]), &words[2], true, "")]));
        } else {
            forms.push(("block", vec![self.pair(name(&words[2]), &words[2], true, "")]));
        }
        let more = if look.call { ", <args>" } else { " [<args>]" };
        let mut includes = vec![self.single(look.named(&words[3], "<target>", look.bare_targets, ""))];
        if random.once_in(2) && shape != "lines" && shape != "elements" {
            let rich = self.single(look.named(&words[3], "<target>", look.bare_targets, more));
            if look.call { includes.push(rich) } else { includes = vec![rich] }
        }
        forms.push(("include", includes));
        if random.once_in(2) {
            forms.push(("inherited", vec![self.single(look.tag(&words[4], ""))]));
        }
        if random.once_in(4) {
            forms.push(("body", vec![self.single(look.tag(&words[5], if look.call { "()" } else { "" }))]));
        }
        let condition = if look.call || matches!(shape, "sigil" | "sigil with braces") { "(<expr>)" } else { "<expr>" };
        if !matches!(shape, "single brackets" | "elements" | "comments") {
            let choices = if self.has_code() {
                vec![self.statement(&words[7], condition, &words[6]), self.statement(&words[8], condition, "")]
            } else {
                let choice = self.pair(look.tag(&words[7], condition), &words[7], false, &words[6]);
                vec![choice, self.pair(look.tag(&words[8], condition), &words[8], false, "")]
            };
            forms.push(("control", choices));
            if random.once_in(2) && !matches!(shape, "sigil" | "sigil with braces") {
                forms.push(("set", vec![self.single(look.tag(&words[9], "<name> = <expr>"))]));
            }
        }
        if matches!(shape, "brackets") {
            forms.push(("other", vec![quote(&look.tag("<expr>", ""))]));
        }
        forms
    }
}

fn attribute_forms(random: &mut Random, mut new: impl FnMut(&mut Random) -> String) -> Forms {
    let mut attribute = |random: &mut Random, place: &str| {
        let word = new(random);
        if place.is_empty() { format!("'<* data-{word}>'") } else { format!("'<* data-{word}=\"{place}\">'") }
    };
    let mut forms: Forms = vec![
        ("parent", vec![attribute(random, "<target>")]),
        ("block", vec![attribute(random, "<name>")]),
        ("include", vec![attribute(random, "<target>")]),
    ];
    if random.once_in(2) {
        forms.push(("inherited", vec![attribute(random, "")]));
    }
    forms
}

fn dialect_text(
    random: &mut Random,
    writing: &Writing<'_>,
    naming: &Naming,
    suffix: &str,
    used: &mut Vec<String>,
) -> String {
    let look = writing.look;
    let shape = look.shape;
    let prefix =
        if shape == "elements" { format!("{}{}", word(random, used), random.pick(&["-", ":"])) } else { String::new() };
    let mut new = |random: &mut Random| format!("{prefix}{}", word(random, used));
    let mut forms = if shape == "attributes" {
        attribute_forms(random, new)
    } else {
        let words: Vec<String> = (0..12).map(|_| new(random)).collect();
        writing.tag_forms(random, &words)
    };
    let (open, close) = &look.output;
    forms.push(("output", vec![quote(&format!("{}{}<expr>{}{}", esc(open), look.space, look.space, esc(close)))]));
    let (open, close) = &look.comment;
    forms.push(("comment", vec![quote(&format!("{} <text> {}", esc(open), esc(close)))]));
    let mut text = format!("name = 'truth'\nfiles = ['**/*{suffix}']\n\n[forms]\n");
    let mut has_body = false;
    for (kind, examples) in forms {
        has_body |= kind == "body";
        text += &format!("{kind} = [{}]\n", examples.join(", "));
    }
    if matches!(shape, "brackets" | "one bracket") && random.once_in(2) && !look.open.ends_with('-') {
        text += "trim = [\"-\"]\n";
    }
    text += "\n[targets]\n";
    if !naming.with_suffix {
        text += &format!("suffixes = [{}]\n", quote(suffix));
    }
    if naming.separator != "/" {
        text += &format!("separator = \"{}\"\n", naming.separator);
    }
    if !naming.prefix.is_empty() {
        text += &format!("prefix = \"{}\"\n", naming.prefix);
    }
    if naming.relative {
        text += "relative = true\n";
    }
    text + &format!("\n[rules]\nnewline = \"kept\"\nloose = \"{}\"\n", if has_body { "body" } else { "ignored" })
}
