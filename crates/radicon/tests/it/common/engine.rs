//! A stand-in for template engines: it executes templates of three dialects with data. It shares nothing
//! with the library, so that it can judge it.
//!
//! What engines do differently is a choice of [`Ways`]. Own-file tags load libraries: a tag or filter whose
//! library its file has not loaded is an error, and so is a macro that its file has not imported.

use std::collections::{BTreeMap, HashMap};
use std::rc::Rc;

/// How an engine answers what dialects may leave unknown.
#[derive(Clone, Copy, Debug)]
pub struct Ways {
    /// An included file sees the names around it.
    pub includes_see: bool,
    /// An override sees the names around its block.
    pub blocks_see: bool,
    /// The layout sees what a child sets outside of its blocks.
    pub layouts_see: bool,
    /// What is set within a block or an included file holds behind it, too.
    pub leaks: bool,
}

impl Ways {
    /// All combinations.
    pub fn all() -> impl Iterator<Item = Self> {
        (0..16_u8).map(|bits| Self {
            includes_see: bits & 1 != 0,
            blocks_see: bits & 2 != 0,
            layouts_see: bits & 4 != 0,
            leaks: bits & 8 != 0,
        })
    }
}

/// The words of a dialect.
#[derive(Clone, Copy, Debug)]
pub struct Syntax {
    pub name: &'static str,
    pub suffix: &'static str,
    tag: (&'static str, &'static str),
    output: (&'static str, &'static str),
    comment: (&'static str, &'static str),
    /// The line around a header.
    header: Option<&'static str>,
    /// What tags are called, by what they do.
    words: &'static [(&'static str, Word)],
    /// The line end behind a tag goes.
    eats_newlines: bool,
    /// A child's loose content is the layout's body.
    loose_body: bool,
    /// What parts the folders of a name; names leave the suffix out.
    separator: Option<char>,
    /// Folders in which names without one are looked for.
    beside: &'static [&'static str],
}

/// What a tag does.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Word {
    Extends,
    Block,
    EndBlock,
    Include,
    Import,
    Macro,
    EndMacro,
    Set,
    If,
    Else,
    EndIf,
    For,
    EndFor,
    With,
    EndWith,
    Inherited,
    Again,
    Body,
    Load,
}

/// The tags that many engines share.
pub const BRACE: Syntax = Syntax {
    name: "brace-percent",
    suffix: ".html",
    tag: ("{%", "%}"),
    output: ("{{", "}}"),
    comment: ("{#", "#}"),
    header: None,
    words: &[
        ("extends", Word::Extends),
        ("block", Word::Block),
        ("endblock", Word::EndBlock),
        ("include", Word::Include),
        ("import", Word::Import),
        ("macro", Word::Macro),
        ("endmacro", Word::EndMacro),
        ("set", Word::Set),
        ("if", Word::If),
        ("else", Word::Else),
        ("endif", Word::EndIf),
        ("for", Word::For),
        ("endfor", Word::EndFor),
        ("with", Word::With),
        ("endwith", Word::EndWith),
        ("fetch", Word::Load),
    ],
    eats_newlines: false,
    loose_body: false,
    separator: None,
    beside: &[],
};

/// Shape 1 in words of its own: the line end behind a tag goes, names have dots for folders.
pub const LANTERN: Syntax = Syntax {
    name: "lantern",
    suffix: ".html",
    tag: ("[~", "~]"),
    output: ("[=", "=]"),
    comment: ("[#", "#]"),
    header: None,
    words: &[
        ("hangs", Word::Extends),
        ("lamp", Word::Block),
        ("out when", Word::EndIf),
        ("out each", Word::EndFor),
        ("out", Word::EndBlock),
        ("fetch", Word::Include),
        ("let", Word::Set),
        ("when", Word::If),
        ("else", Word::Else),
        ("each", Word::For),
        ("before", Word::Inherited),
        ("haul", Word::Load),
    ],
    eats_newlines: true,
    loose_body: false,
    separator: Some('.'),
    beside: &[],
};

/// A header names the layout and sets names; loose content is the layout's body; there are no conditions.
pub const GANGWAY: Syntax = Syntax {
    name: "gangway",
    suffix: ".deck",
    tag: ("(*", "*)"),
    output: ("(*=", "*)"),
    comment: ("(*--", "--*)"),
    header: Some("====="),
    words: &[
        ("berth", Word::Block),
        ("cast", Word::EndBlock),
        ("echo", Word::Again),
        ("stow", Word::Body),
        ("lash", Word::Include),
        ("fetch", Word::Load),
    ],
    eats_newlines: false,
    loose_body: true,
    separator: None,
    beside: &["hulls", "bits"],
};

impl Syntax {
    /// The word that loads a library.
    pub fn load(&self) -> &'static str {
        self.words.iter().find(|(_, word)| *word == Word::Load).map_or("", |(text, _)| text)
    }
}

/// The libraries, and the words of their tags and filters.
pub const LIBRARIES: [(&str, &str, &str); 3] =
    [("tides", "tide", "knots"), ("ropes", "splice", "braid"), ("lights", "beam", "dim")];

/// A value of the data.
#[derive(Clone, Debug, PartialEq)]
pub enum Value {
    Text(String),
    List(Vec<Value>),
    Map(BTreeMap<String, Value>),
}

impl Value {
    fn is_true(&self) -> bool {
        match self {
            Value::Text(text) => !text.is_empty() && text != "0",
            Value::List(list) => !list.is_empty(),
            Value::Map(_) => true,
        }
    }
}

type Names = BTreeMap<String, Value>;

#[derive(Debug)]
enum Node {
    Text(String),
    Output(String),
    If(String, Vec<Node>, Vec<Node>),
    For(String, String, Vec<Node>),
    With(Vec<(String, String)>, Vec<Node>),
    Set(String, String),
    Block(String, Vec<Node>),
    Inherited,
    Again(String),
    Body,
    Include(String, Vec<(String, String)>, bool),
    /// A tag of a library.
    Tag(String, String),
}

/// A template that was read.
#[derive(Debug, Default)]
struct Template {
    parent: Option<String>,
    nodes: Vec<Node>,
    /// Aliases of the files that are imported.
    imports: HashMap<String, String>,
    /// Macros with their parameters.
    macros: HashMap<String, (Vec<String>, Vec<Node>)>,
    /// Names that the header sets.
    head: Vec<(String, String)>,
}

/// The templates of a site.
pub struct Engine {
    syntax: Syntax,
    templates: HashMap<String, Result<Rc<Template>, String>>,
    /// So many files and blocks may be inside each other.
    pub deepest: usize,
}

impl Engine {
    /// Reads files by their paths.
    pub fn new<'f>(syntax: Syntax, files: impl IntoIterator<Item = (&'f str, &'f str)>) -> Self {
        let read = |(path, text): (&str, &str)| (path.to_owned(), Parser::read(syntax, path, text).map(Rc::new));
        Self { syntax, templates: files.into_iter().map(read).collect(), deepest: 30 }
    }

    /// A page with data.
    pub fn render(&self, page: &str, data: &Names, ways: Ways) -> Result<String, String> {
        let mut run = Run { engine: self, data: data.clone(), ways, out: String::new(), depth: 0 };
        run.file(page, &mut vec![data.clone()])?;
        Ok(run.out)
    }

    fn get(&self, path: &str) -> Result<Rc<Template>, String> {
        self.templates.get(path).ok_or_else(|| format!("no file {path}"))?.clone()
    }

    /// The path of a written name.
    fn path(&self, name: &str) -> String {
        let Some(separator) = self.syntax.separator else {
            if self.syntax.beside.is_empty() {
                return name.to_owned();
            }
            let full = format!("{name}{}", self.syntax.suffix);
            let beside = self.syntax.beside.iter().map(|folder| format!("{folder}/{full}"));
            return std::iter::once(full.clone())
                .chain(beside)
                .find(|path| self.templates.contains_key(path))
                .unwrap_or(full);
        };
        format!("{}{}", name.replace(separator, "/"), self.syntax.suffix)
    }
}

/// The word of a tag that ends or divides something, and what follows it.
type Ending = (Word, String);

struct Parser<'t> {
    syntax: Syntax,
    path: &'t str,
    rest: &'t str,
    template: Template,
    loaded: Vec<String>,
    /// A newline right here goes.
    eats: bool,
}

impl<'t> Parser<'t> {
    fn read(syntax: Syntax, path: &'t str, text: &'t str) -> Result<Template, String> {
        let mut parser =
            Parser { syntax, path, rest: text, template: Template::default(), loaded: Vec::new(), eats: false };
        parser.header()?;
        let (nodes, end) = parser.nodes()?;
        if let Some((word, _)) = end {
            return Err(format!("{path}: {word:?} closes nothing"));
        }
        parser.template.nodes = nodes;
        Ok(parser.template)
    }

    fn header(&mut self) -> Result<(), String> {
        let Some(fence) = self.syntax.header else { return Ok(()) };
        let Some(rest) = self.rest.strip_prefix(fence).and_then(|rest| rest.strip_prefix('\n')) else { return Ok(()) };
        let end = rest.find(&format!("{fence}\n")).ok_or("an open header")?;
        for line in rest[..end].lines() {
            if let Some(name) = line.strip_prefix("hull: ") {
                self.template.parent = Some(name.trim().to_owned());
            } else if let Some((name, value)) = line.split_once(" is ") {
                self.template.head.push((name.trim().to_owned(), value.trim().to_owned()));
            }
        }
        self.rest = &rest[end + fence.len() + 1..];
        Ok(())
    }

    /// Nodes up to a tag that ends or divides something: its word, and what follows it.
    fn nodes(&mut self) -> Result<(Vec<Node>, Option<Ending>), String> {
        let mut nodes = Vec::new();
        loop {
            let Syntax { tag, output, comment, .. } = self.syntax;
            let found = [comment, output, tag]
                .into_iter()
                .filter_map(|(open, close)| Some((self.rest.find(open)?, open, close)));
            let Some((at, open, close)) = found.min_by_key(|(at, open, _)| (*at, std::cmp::Reverse(open.len()))) else {
                self.text(self.rest, &mut nodes);
                self.rest = "";
                return Ok((nodes, None));
            };
            self.text(&self.rest[..at], &mut nodes);
            let inner = &self.rest[at + open.len()..];
            let end = inner.find(close).ok_or_else(|| format!("{}: `{open}` is not closed", self.path))?;
            self.rest = &inner[end + close.len()..];
            let inner = inner[..end].trim();
            if open == comment.0 {
                self.eats = self.syntax.eats_newlines;
                continue;
            }
            if open == output.0 {
                nodes.push(self.output(inner)?);
                continue;
            }
            self.eats = self.syntax.eats_newlines;
            if let Some(end) = self.tag(inner, &mut nodes)? {
                return Ok((nodes, Some(end)));
            }
        }
    }

    fn text(&mut self, text: &str, nodes: &mut Vec<Node>) {
        let text = if self.eats { text.strip_prefix('\n').unwrap_or(text) } else { text };
        self.eats = false;
        if !text.is_empty() {
            nodes.push(Node::Text(text.to_owned()));
        }
    }

    fn output(&self, inner: &str) -> Result<Node, String> {
        Ok(match inner {
            "super()" => Node::Inherited,
            _ if inner.starts_with("block(") => {
                Node::Again(inner["block(".len()..].trim_matches([')', '"', '\'']).to_owned())
            }
            _ => Node::Output(self.checked(inner)?),
        })
    }

    /// An expression whose filters are loaded and whose macros are imported.
    fn checked(&self, expr: &str) -> Result<String, String> {
        for filter in split(expr, '|').iter().skip(1) {
            self.needs(filter.trim(), |(_, _, known)| *known)?;
        }
        let base = split(expr, '|')[0].trim();
        if let Some((alias, _)) = base.split_once('.').filter(|_| base.ends_with(')'))
            && !self.template.imports.contains_key(alias)
        {
            return Err(format!("{}: `{alias}` is not imported", self.path));
        }
        Ok(expr.to_owned())
    }

    fn needs(
        &self,
        word: &str,
        what: impl Fn(&(&'static str, &'static str, &'static str)) -> &'static str,
    ) -> Result<(), String> {
        let library = LIBRARIES.iter().find(|library| what(library) == word);
        let library = library.ok_or_else(|| format!("{}: no library has `{word}`", self.path))?.0;
        match self.loaded.iter().any(|loaded| loaded == library) {
            true => Ok(()),
            false => Err(format!("{}: `{word}` needs `{library}`, which is not loaded", self.path)),
        }
    }

    fn tag(&mut self, inner: &str, nodes: &mut Vec<Node>) -> Result<Option<Ending>, String> {
        let known = self.syntax.words.iter().find(|(word, _)| {
            inner.strip_prefix(word).is_some_and(|rest| rest.is_empty() || rest.starts_with([' ', '(']))
        });
        let Some(&(text, word)) = known else {
            let (word, arguments) = inner.split_once(' ').unwrap_or((inner, ""));
            self.needs(word, |(_, tag, _)| *tag)?;
            nodes.push(Node::Tag(word.to_owned(), self.checked(arguments)?));
            return Ok(None);
        };
        let rest = inner[text.len()..].trim();
        let until = |parser: &mut Self, ends: &[Word]| -> Result<(Vec<Node>, Word), String> {
            match parser.nodes()? {
                (nodes, Some((end, _))) if ends.contains(&end) => Ok((nodes, end)),
                (_, end) => Err(format!("{}: `{inner}` ends with {end:?}", parser.path)),
            }
        };
        match word {
            Word::Extends => self.template.parent = Some(unquoted(rest)),
            Word::Load => self.loaded.push(rest.to_owned()),
            Word::Import => {
                let (target, alias) = rest.split_once(" as ").ok_or("an import without `as`")?;
                self.template.imports.insert(alias.trim().to_owned(), unquoted(target));
            }
            Word::Set => {
                let (name, value) = rest.split_once('=').ok_or("a set without a value")?;
                nodes.push(Node::Set(name.trim().to_owned(), self.checked(value.trim())?));
            }
            Word::Include => {
                let (target, arguments) = match rest.strip_prefix(['"', '\'']) {
                    Some(quoted) => quoted.split_once(['"', '\'']).ok_or("an include without a name")?,
                    None => rest.split_once(' ').unwrap_or((rest, "")),
                };
                let (arguments, only) = self.arguments(arguments.trim())?;
                nodes.push(Node::Include(target.to_owned(), arguments, only));
            }
            Word::Inherited => nodes.push(Node::Inherited),
            Word::Again => nodes.push(Node::Again(rest.to_owned())),
            Word::Body => nodes.push(Node::Body),
            Word::Block => {
                let (inner, _) = until(self, &[Word::EndBlock])?;
                nodes.push(Node::Block(rest.to_owned(), inner));
            }
            Word::Macro => {
                let (name, parameters) = rest.split_once('(').ok_or("a macro without parameters")?;
                let parameters = parameters.trim_end_matches(')').split(',').map(|p| p.trim().to_owned());
                let parameters = parameters.filter(|p| !p.is_empty()).collect();
                let (inner, _) = until(self, &[Word::EndMacro])?;
                self.template.macros.insert(name.trim().to_owned(), (parameters, inner));
            }
            Word::If => {
                let condition = self.checked(rest)?;
                let (then, end) = until(self, &[Word::Else, Word::EndIf])?;
                let other = if end == Word::Else { until(self, &[Word::EndIf])?.0 } else { Vec::new() };
                nodes.push(Node::If(condition, then, other));
            }
            Word::For => {
                let (name, list) = rest.split_once(" in ").ok_or("a loop without `in`")?;
                let list = self.checked(list.trim())?;
                let (inner, _) = until(self, &[Word::EndFor])?;
                nodes.push(Node::For(name.trim().to_owned(), list, inner));
            }
            Word::With => {
                let (bound, _) = self.arguments(rest)?;
                let (inner, _) = until(self, &[Word::EndWith])?;
                nodes.push(Node::With(bound, inner));
            }
            Word::EndBlock | Word::EndMacro | Word::Else | Word::EndIf | Word::EndFor | Word::EndWith => {
                return Ok(Some((word, rest.to_owned())));
            }
        }
        Ok(None)
    }

    /// `with a="x" b=c only`.
    fn arguments(&self, text: &str) -> Result<(Vec<(String, String)>, bool), String> {
        let (mut found, mut only) = (Vec::new(), false);
        for piece in split(text, ' ') {
            match piece.split_once('=') {
                Some((name, value)) => found.push((name.to_owned(), self.checked(value)?)),
                None => only |= matches!(piece, "only" | "alone"),
            }
        }
        Ok((found, only))
    }
}

/// The pieces of a text between separators outside of quotes and parentheses.
fn split(text: &str, separator: char) -> Vec<&str> {
    let (mut pieces, mut start, mut quote, mut depth) = (Vec::new(), 0, None, 0);
    for (at, c) in text.char_indices() {
        match c {
            '"' | '\'' if quote == Some(c) => quote = None,
            '"' | '\'' if quote.is_none() => quote = Some(c),
            '(' if quote.is_none() => depth += 1,
            ')' if quote.is_none() => depth -= 1,
            _ if c == separator && quote.is_none() && depth == 0 => {
                pieces.push(&text[start..at]);
                start = at + 1;
            }
            _ => {}
        }
    }
    pieces.push(&text[start..]);
    pieces
}

fn unquoted(text: &str) -> String {
    text.trim().trim_matches(['"', '\'']).to_owned()
}

/// Names that are seen, the innermost last.
type Seen = Vec<Names>;

/// A page's chain while it is put out.
struct Chain {
    /// The page first.
    levels: Vec<(String, Rc<Template>)>,
    /// What each level sets outside of its blocks.
    own: Vec<Names>,
    /// The level whose body is put out where the layout calls for it.
    body: usize,
}

/// What is put out: the level of the chain, and the block with its definition.
#[derive(Clone, Copy)]
struct Place<'c> {
    level: usize,
    block: Option<(&'c str, usize)>,
}

struct Run<'e> {
    engine: &'e Engine,
    /// What every file sees.
    data: Names,
    ways: Ways,
    out: String,
    depth: usize,
}

impl Run<'_> {
    /// A file with its own chain.
    fn file(&mut self, path: &str, seen: &mut Seen) -> Result<(), String> {
        self.depth += 1;
        if self.depth > self.engine.deepest {
            return Err("too deep".into());
        }
        let mut levels = vec![(path.to_owned(), self.engine.get(path)?)];
        while let Some(parent) = &levels[levels.len() - 1].1.parent {
            let path = self.engine.path(parent);
            let template = self.engine.get(&path)?;
            levels.push((path, template));
        }
        let base = levels.len() - 1;
        let mut chain = Chain { own: vec![Names::new(); levels.len()], levels, body: 0 };
        // What children set outside of their blocks.
        for level in 0..base {
            let template = Rc::clone(&chain.levels[level].1);
            seen.push(Names::new());
            for (name, value) in &template.head {
                self.set(name, value, seen, &template)?;
            }
            let silent = std::mem::take(&mut self.out);
            self.sets(&template.nodes, &template, seen)?;
            self.out = silent;
            let set = seen.pop().unwrap_or_default();
            chain.own[level].clone_from(&set);
            if self.ways.layouts_see {
                last(seen).extend(set);
            }
        }
        let template = Rc::clone(&chain.levels[base].1);
        chain.body = base;
        for (name, value) in &template.head {
            self.set(name, value, seen, &template)?;
        }
        self.nodes(&template.nodes, &mut chain, Place { level: base, block: None }, seen)?;
        self.depth -= 1;
        Ok(())
    }

    /// What is set outside of blocks; conditions and loops are executed.
    fn sets(&mut self, nodes: &[Node], template: &Template, seen: &mut Seen) -> Result<(), String> {
        for node in nodes {
            match node {
                Node::Set(name, value) => self.set(name, value, seen, template)?,
                Node::If(condition, then, other) => {
                    let holds = self.condition(condition, seen, template)?;
                    self.sets(if holds { then } else { other }, template, seen)?;
                }
                _ => {}
            }
        }
        Ok(())
    }

    fn set(&mut self, name: &str, value: &str, seen: &mut Seen, template: &Template) -> Result<(), String> {
        let value = self.value(value, seen, template)?.unwrap_or_else(|| missing(value));
        last(seen).insert(name.to_owned(), value);
        Ok(())
    }

    fn nodes(&mut self, nodes: &[Node], chain: &mut Chain, at: Place<'_>, seen: &mut Seen) -> Result<(), String> {
        let template = Rc::clone(&chain.levels[at.level].1);
        for node in nodes {
            match node {
                Node::Text(text) => self.out += text,
                Node::Output(expr) => {
                    let shown = self.shown(expr, seen, &template)?;
                    self.out += &shown;
                }
                Node::Tag(word, arguments) => {
                    let shown =
                        if arguments.is_empty() { String::new() } else { self.shown(arguments, seen, &template)? };
                    self.out += &format!("«{word} {shown}»");
                }
                Node::If(condition, then, other) => {
                    let holds = self.condition(condition, seen, &template)?;
                    self.nodes(if holds { then } else { other }, chain, at, seen)?;
                }
                Node::For(name, list, inner) => {
                    let list = match self.value(list, seen, &template)? {
                        Some(Value::List(list)) => list,
                        Some(other) => vec![other],
                        None => Vec::new(),
                    };
                    for (number, value) in list.into_iter().enumerate() {
                        let counter = Value::Map([("count".to_owned(), Value::Text((number + 1).to_string()))].into());
                        seen.push([(name.clone(), value), ("turn".to_owned(), counter)].into());
                        self.nodes(inner, chain, at, seen)?;
                        seen.pop();
                    }
                }
                Node::With(bound, inner) => {
                    let names = self.bound(bound, seen, &template)?;
                    seen.push(names);
                    self.nodes(inner, chain, at, seen)?;
                    seen.pop();
                }
                Node::Set(name, value) => {
                    self.set(name, value, seen, &template)?;
                    // What a file sets outside of everything is its own, too.
                    if at.block.is_none()
                        && seen.len() == 1
                        && let Some(value) = seen[0].get(name)
                    {
                        let value = value.clone();
                        chain.own[at.level].insert(name.clone(), value);
                    }
                }
                Node::Block(name, _) => self.block(name, 0, chain, seen)?,
                Node::Again(name) => self.block(name, 0, chain, seen)?,
                Node::Inherited => {
                    if let Some((name, index)) = at.block {
                        self.block(name, index + 1, chain, seen)?;
                    }
                }
                Node::Body => self.body(chain, seen)?,
                Node::Include(name, arguments, only) => {
                    let names = self.bound(arguments, seen, &template)?;
                    self.include(name, names, *only, seen)?;
                }
            }
        }
        Ok(())
    }

    /// An included file, with the names that it is given; `only` if it sees no others.
    fn include(&mut self, name: &str, names: Names, only: bool, seen: &mut Seen) -> Result<(), String> {
        let path = self.engine.path(name);
        match (only, self.ways.includes_see) {
            (true, _) => {
                let data = std::mem::replace(&mut self.data, names.clone());
                self.file(&path, &mut vec![names])?;
                self.data = data;
            }
            (false, false) => {
                let mut all = self.data.clone();
                all.extend(names);
                self.file(&path, &mut vec![all])?;
            }
            (false, true) => {
                seen.push(names.clone());
                self.file(&path, seen)?;
                let mut set = seen.pop().unwrap_or_default();
                set.retain(|name, value| names.get(name) != Some(value));
                if self.ways.leaks {
                    last(seen).extend(set);
                }
            }
        }
        Ok(())
    }

    /// A definition of a block, the most derived first.
    fn block(&mut self, name: &str, index: usize, chain: &mut Chain, seen: &mut Seen) -> Result<(), String> {
        let levels: Vec<usize> =
            (0..chain.levels.len()).filter(|&level| find(&chain.levels[level].1.nodes, name).is_some()).collect();
        let Some(&level) = levels.get(index) else { return Ok(()) };
        self.depth += 1;
        if self.depth > self.engine.deepest {
            return Err("too deep".into());
        }
        let template = Rc::clone(&chain.levels[level].1);
        let nodes = find(&template.nodes, name).unwrap_or_default();
        let at = Place { level, block: Some((name, index)) };
        if self.ways.blocks_see {
            seen.push(chain.own[level].clone());
            self.nodes(nodes, chain, at, seen)?;
            let set = seen.pop().unwrap_or_default();
            if self.ways.leaks {
                let own = &chain.own[level];
                let set = set.into_iter().filter(|(name, value)| own.get(name) != Some(value));
                last(seen).extend(set);
            }
        } else {
            let mut page = seen[0].clone();
            page.extend(chain.own[level].clone());
            self.nodes(nodes, chain, at, &mut vec![page])?;
        }
        self.depth -= 1;
        Ok(())
    }

    /// The loose content of the child beneath.
    fn body(&mut self, chain: &mut Chain, seen: &mut Seen) -> Result<(), String> {
        if chain.body == 0 || !self.engine.syntax.loose_body {
            return Ok(());
        }
        chain.body -= 1;
        let level = chain.body;
        let template = Rc::clone(&chain.levels[level].1);
        let loose = template.nodes.iter().filter(|node| !matches!(node, Node::Block(..)));
        seen.push(chain.own[level].clone());
        for node in loose {
            self.nodes(std::slice::from_ref(node), chain, Place { level, block: None }, seen)?;
        }
        seen.pop();
        chain.body += 1;
        Ok(())
    }

    fn bound(&mut self, arguments: &[(String, String)], seen: &mut Seen, template: &Template) -> Result<Names, String> {
        let mut names = Names::new();
        for (name, value) in arguments {
            let value = self.value(value, seen, template)?.unwrap_or_else(|| missing(value));
            names.insert(name.clone(), value);
        }
        Ok(names)
    }

    fn condition(&mut self, expr: &str, seen: &mut Seen, template: &Template) -> Result<bool, String> {
        if let Some(rest) = expr.strip_prefix("not ") {
            return Ok(!self.condition(rest, seen, template)?);
        }
        if let Some((a, b)) = expr.split_once(" == ") {
            return Ok(self.value(a, seen, template)? == self.value(b, seen, template)?);
        }
        Ok(self.value(expr, seen, template)?.is_some_and(|value| value.is_true()))
    }

    fn shown(&mut self, expr: &str, seen: &mut Seen, template: &Template) -> Result<String, String> {
        Ok(match self.value(expr, seen, template)? {
            Some(Value::Text(text)) => text,
            Some(other) => format!("{other:?}"),
            None => match missing(expr) {
                Value::Text(text) => text,
                _ => String::new(),
            },
        })
    }

    /// The value of an expression; `None` where a name is not bound.
    fn value(&mut self, expr: &str, seen: &mut Seen, template: &Template) -> Result<Option<Value>, String> {
        let pieces = split(expr, '|');
        let base = pieces[0].trim();
        let mut value = if base.starts_with(['"', '\'']) {
            Some(Value::Text(unquoted(base)))
        } else if base.bytes().all(|b| b.is_ascii_digit()) && !base.is_empty() {
            Some(Value::Text(base.to_owned()))
        } else if let Some((call, arguments)) = base.strip_suffix(')').and_then(|base| base.split_once('(')) {
            Some(Value::Text(self.call(call, arguments, seen, template)?))
        } else {
            let mut parts = base.split('.');
            let first = parts.next().unwrap_or_default();
            let mut value = seen.iter().rev().find_map(|names| names.get(first)).cloned();
            for part in parts {
                value = match value {
                    Some(Value::Map(mut map)) => map.remove(part),
                    _ => None,
                };
            }
            value
        };
        for filter in &pieces[1..] {
            if let Some(Value::Text(text)) = &mut value {
                *text = format!("{}‹{text}›", filter.trim());
            }
        }
        Ok(value)
    }

    /// A macro of a file that is imported: it sees its parameters and the data.
    fn call(&mut self, call: &str, arguments: &str, seen: &mut Seen, template: &Template) -> Result<String, String> {
        let (alias, name) = call.split_once('.').ok_or_else(|| format!("`{call}` is no macro"))?;
        let path = self.engine.path(template.imports.get(alias).ok_or_else(|| format!("`{alias}` is not imported"))?);
        let file = self.engine.get(&path)?;
        let (parameters, nodes) = file.macros.get(name).ok_or_else(|| format!("no macro `{name}`"))?;
        let mut names = self.data.clone();
        let given = split(arguments, ',');
        for (parameter, argument) in parameters.iter().zip(given) {
            let value = self.value(argument.trim(), seen, template)?.unwrap_or_else(|| missing(argument));
            names.insert(parameter.clone(), value);
        }
        let out = std::mem::take(&mut self.out);
        let mut chain = Chain { levels: vec![(path, Rc::clone(&file))], own: vec![Names::new()], body: 0 };
        self.nodes(nodes, &mut chain, Place { level: 0, block: None }, &mut vec![names])?;
        Ok(std::mem::replace(&mut self.out, out))
    }
}

/// What a name is bound to whose value is not there: nothing else is seen in its place.
fn missing(expr: &str) -> Value {
    Value::Text(format!("«no {}»", split(expr, '|')[0].trim()))
}

fn last(seen: &mut Seen) -> &mut Names {
    seen.last_mut().expect("names are seen everywhere")
}

/// A block of a template, wherever it stands.
fn find<'n>(nodes: &'n [Node], name: &str) -> Option<&'n [Node]> {
    nodes.iter().find_map(|node| match node {
        Node::Block(own, inner) if own == name => Some(&inner[..]),
        Node::Block(_, inner) | Node::For(_, _, inner) | Node::With(_, inner) => find(inner, name),
        Node::If(_, then, other) => find(then, name).or_else(|| find(other, name)),
        _ => None,
    })
}
