//! The server for editors, through the binary, by a scripted client.

use std::fs;
use std::io::{BufRead, BufReader, Read, Write};
use std::path::{Path, PathBuf};
use std::process::{Child, ChildStdin, ChildStdout, Command, Stdio};

use crate::common::demo;
use serde_json::{Value, json};

/// An editor with a folder open.
struct Editor {
    child: Child,
    input: ChildStdin,
    output: BufReader<ChildStdout>,
    folder: PathBuf,
    asked: i64,
    /// The diagnostics of each file, as published last.
    diagnostics: std::collections::BTreeMap<String, Value>,
    /// The messages that were shown.
    shown: Vec<String>,
}

impl Editor {
    fn open(folder: &Path, capabilities: Value) -> Self {
        let folder = folder.canonicalize().expect("a folder");
        let mut child = Command::new(assert_cmd::cargo::cargo_bin("radicon"))
            .arg("lsp")
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn()
            .expect("it runs");
        let (input, output) = (child.stdin.take().expect("input"), child.stdout.take().expect("output"));
        let output = BufReader::new(output);
        let mut editor =
            Self { child, input, output, folder, asked: 0, diagnostics: Default::default(), shown: Vec::new() };
        let uri = editor.uri("");
        let begun =
            editor.ask("initialize", json!({ "rootUri": uri.trim_end_matches('/'), "capabilities": capabilities }));
        assert_eq!(begun["serverInfo"]["name"], "radicon");
        editor.tell("initialized", json!({}));
        editor
    }

    fn uri(&self, path: &str) -> String {
        format!("file://{}/{path}", self.folder.display())
    }

    fn send(&mut self, message: &Value) {
        let text = message.to_string();
        write!(self.input, "Content-Length: {}\r\n\r\n{text}", text.len()).expect("it reads");
        self.input.flush().expect("it reads");
    }

    fn tell(&mut self, method: &str, params: Value) {
        self.send(&json!({ "jsonrpc": "2.0", "method": method, "params": params }));
    }

    fn receive(&mut self) -> Value {
        let mut length = 0;
        loop {
            let mut line = String::new();
            assert!(self.output.read_line(&mut line).expect("a line") > 0, "the server has ended");
            match line.trim().strip_prefix("Content-Length: ") {
                Some(number) => length = number.parse().expect("a number"),
                None if line.trim().is_empty() => break,
                None => {}
            }
        }
        let mut text = vec![0; length];
        self.output.read_exact(&mut text).expect("a message");
        serde_json::from_slice(&text).expect("JSON")
    }

    /// Keeps what is published; gives anything else.
    fn next(&mut self) -> Option<Value> {
        let message = self.receive();
        if message["method"] == "textDocument/publishDiagnostics" {
            let uri = message["params"]["uri"].as_str().expect("a uri");
            let path = uri.strip_prefix(&self.uri("")).expect("a file of the site").to_owned();
            self.diagnostics.insert(path, message["params"]["diagnostics"].clone());
            return None;
        }
        if message["method"] == "window/showMessage" {
            self.shown.push(message["params"]["message"].as_str().unwrap_or_default().to_owned());
        }
        Some(message)
    }

    /// The result of a request, or its error.
    fn try_ask(&mut self, method: &str, params: Value) -> Result<Value, String> {
        self.asked += 1;
        let id = self.asked;
        self.send(&json!({ "jsonrpc": "2.0", "id": id, "method": method, "params": params }));
        loop {
            let Some(message) = self.next() else { continue };
            if message["id"] == id {
                return match message.get("error") {
                    Some(error) => Err(error["message"].as_str().unwrap_or_default().to_owned()),
                    None => Ok(message["result"].clone()),
                };
            }
        }
    }

    #[track_caller]
    fn ask(&mut self, method: &str, params: Value) -> Value {
        self.try_ask(method, params).unwrap_or_else(|error| panic!("{method}: {error}"))
    }

    /// A request about the first place of some words in a file, a few letters in.
    #[track_caller]
    fn at(&mut self, method: &str, path: &str, words: &str, more: Value) -> Value {
        let text = fs::read_to_string(self.folder.join(path)).expect("a file");
        let before = &text[..text.find(words).unwrap_or_else(|| panic!("no {words} in {path}")) + 4];
        let line = before.matches('\n').count();
        let column = before.rsplit('\n').next().unwrap_or(before).encode_utf16().count();
        let mut params = json!({
            "textDocument": { "uri": self.uri(path) },
            "position": { "line": line, "character": column },
        });
        params.as_object_mut().expect("an object").extend(more.as_object().cloned().unwrap_or_default());
        self.ask(method, params)
    }

    /// `file:line` of a location, 1-based.
    fn place(&self, location: &Value) -> String {
        let uri = location["uri"].as_str().unwrap_or_default();
        let path = uri.strip_prefix(&self.uri("")).unwrap_or(uri);
        format!("{path}:{}", location["range"]["start"]["line"].as_u64().unwrap_or(0) + 1)
    }

    fn change(&mut self, path: &str, text: &str) {
        let uri = self.uri(path);
        let document = json!({ "uri": uri, "languageId": "html", "version": 1, "text": text });
        self.tell("textDocument/didOpen", json!({ "textDocument": document }));
    }

    /// Waits until the diagnostics of a file are as wanted.
    #[track_caller]
    fn wait(&mut self, path: &str, is_wanted: impl Fn(&[Value]) -> bool) {
        for _ in 0..200 {
            if is_wanted(self.diagnostics.get(path).and_then(Value::as_array).map_or(&[], Vec::as_slice)) {
                return;
            }
            self.next();
        }
        panic!("{path}: {:?}", self.diagnostics.get(path));
    }

    fn close(mut self) {
        assert_eq!(self.ask("shutdown", Value::Null), Value::Null);
        self.tell("exit", Value::Null);
        assert!(self.child.wait().expect("it ends").success());
    }
}

#[test]
fn an_editor_finds_its_way_in_three_dialects() {
    let (_dir, site) = demo();
    assert_eq!(crate::common::radicon(&site, &["adopt"]).code, 0);
    let mut editor = Editor::open(&site, json!({}));
    let rows = [
        // brace-percent: a block, its parent, an include.
        ("booking/pay.html", "{% block title", "booking/base.html:5"),
        ("booking/pay.html", "{% extends", "booking/step.html:1"),
        // margin, as adopted.
        ("fares.html", "<!--: block title", "layouts/base.html:5"),
        ("fares.html", "<!--: layout", "layouts/base.html:1"),
    ];
    for (path, words, expected) in rows {
        let found = editor.at("textDocument/definition", path, words, json!({}));
        assert_eq!(editor.place(&found[0]), expected, "{path} {words}");
    }
    answers_everything(&mut editor, "booking/pay.html", "{% block title");
    answers_everything(&mut editor, "fares.html", "<!--: block title");
    let more = json!({ "context": { "includeDeclaration": true } });
    let found = editor.at("textDocument/references", "layouts/base.html", "<!--: block title", more);
    assert_eq!(found.as_array().map(Vec::len), Some(16), "the base and fifteen pages: {found}");
    let hover = editor.at("textDocument/hover", "booking/pay.html", "{% block title", json!({}));
    let text = hover["contents"]["value"].as_str().expect("a text");
    assert!(
        text.contains("1. booking/pay.html:3, used") && text.contains("2. booking/base.html:5, replaced"),
        "{text}"
    );
    let hover = editor.at("textDocument/hover", "booking/pay.html", "{% extends", json!({}));
    let text = hover["contents"]["value"].as_str().expect("a text");
    assert!(text.contains("set here: `title`") && text.contains("from the layouts: `styles`"), "{text}");
    let document = json!({ "textDocument": { "uri": editor.uri("booking/base.html") } });
    let symbols = editor.ask("textDocument/documentSymbol", document.clone());
    let names: Vec<&str> = symbols.as_array().expect("symbols").iter().filter_map(|one| one["name"].as_str()).collect();
    assert_eq!(names, ["title", "styles", "body_class", "content", "scripts"]);
    let lenses = editor.ask("textDocument/codeLens", document.clone()).to_string();
    assert!(lenses.contains("overridden in 8 templates"), "{lenses}");
    let links = editor.ask("textDocument/documentLink", document.clone());
    assert!(links.to_string().contains("booking/parts/masthead.html"), "{links}");
    assert!(editor.ask("textDocument/foldingRange", document).is_array());
    let found = editor.ask("workspace/symbol", json!({ "query": "FIELDS" }));
    assert!(found.to_string().contains("booking/step.html"), "{found}");
    editor.close();
}

#[test]
fn unsaved_text_is_checked_fixed_completed_and_renamed() {
    let (_dir, site) = demo();
    let mut editor = Editor::open(&site, json!({}));
    editor.wait("booking/vehicle.html", |found| found.iter().any(|one| one["code"] == "orphan-override"));
    let saved = fs::read_to_string(site.join("booking/vehicle.html")).expect("a page");
    // The quick fix writes the name that is meant.
    let range = json!({ "start": { "line": 4, "character": 0 }, "end": { "line": 4, "character": 0 } });
    let document = json!({ "uri": editor.uri("booking/vehicle.html") });
    let wanted = json!({ "textDocument": document, "range": range, "context": { "diagnostics": [] } });
    let actions = editor.ask("textDocument/codeAction", wanted);
    let fix = actions.as_array().expect("actions").iter().find(|action| action["kind"] == "quickfix").expect("a fix");
    assert_eq!(fix["edit"]["documentChanges"][0]["edits"][0]["newText"], "fields");
    // Once it is written, unsaved, nothing is found any more; once closed, it is found again.
    editor.change("booking/vehicle.html", &saved.replace("feilds", "fields"));
    editor.wait("booking/vehicle.html", <[Value]>::is_empty);
    let uri = editor.uri("booking/vehicle.html");
    editor.tell("textDocument/didClose", json!({ "textDocument": { "uri": uri } }));
    editor.wait("booking/vehicle.html", |found| found.iter().any(|one| one["code"] == "orphan-override"));
    // Files that come and go are followed.
    let missing = saved.clone() + "{% include 'booking/parts/new.html' %}";
    editor.change("booking/vehicle.html", &missing);
    editor.wait("booking/vehicle.html", |found| found.iter().any(|one| one["code"] == "missing-target"));
    let changed = json!({ "changes": [{ "uri": editor.uri("booking/parts/new.html"), "type": 1 }] });
    for is_there in [true, false] {
        let path = site.join("booking/parts/new.html");
        if is_there {
            fs::write(path, "<i>x</i>").expect("a file")
        } else {
            fs::remove_file(path).expect("it goes")
        }
        editor.tell("workspace/didChangeWatchedFiles", changed.clone());
        editor
            .wait("booking/vehicle.html", |found| found.iter().any(|one| one["code"] == "missing-target") != is_there);
    }
    // Half a tag keeps the rest working.
    let half = saved.clone() + "\n{% block ";
    editor.change("booking/vehicle.html", &half);
    let end = json!({ "line": half.matches('\n').count(), "character": 9 });
    let uri = editor.uri("booking/vehicle.html");
    let names = editor.ask("textDocument/completion", json!({ "textDocument": { "uri": uri }, "position": end }));
    let names: Vec<&str> = names.as_array().expect("names").iter().filter_map(|one| one["label"].as_str()).collect();
    assert!(names.contains(&"fields") && names.contains(&"styles") && !names.contains(&"title"), "{names:?}");
    let definition = editor.at("textDocument/definition", "booking/vehicle.html", "{% block title", json!({}));
    assert_eq!(editor.place(&definition[0]), "booking/base.html:5");
    editor.tell("textDocument/didClose", json!({ "textDocument": { "uri": uri } }));
    // A block is renamed along its chains.
    let range = editor.at("textDocument/prepareRename", "booking/base.html", "{% block scripts", json!({}));
    assert!(range.is_object(), "{range}");
    let edit = editor.at("textDocument/rename", "booking/base.html", "{% block scripts", json!({ "newName": "code" }));
    let files: Vec<String> = edit["documentChanges"]
        .as_array()
        .expect("changes")
        .iter()
        .map(|change| change["textDocument"]["uri"].to_string())
        .collect();
    assert!(files.len() > 1 && files.iter().any(|file| file.contains("booking/base.html")), "{files:?}");
    editor.close();
}

#[test]
fn refactorings_are_computed_once_they_are_chosen() {
    let (_dir, site) = demo();
    let mut editor = Editor::open(&site, json!({}));
    let text = fs::read_to_string(site.join("booking/base.html")).expect("a layout");
    let line = text.lines().position(|line| line.contains("<body")).expect("a line");
    let body = text.lines().nth(line + 1).expect("a line").len();
    let range =
        json!({ "start": { "line": line + 1, "character": 0 }, "end": { "line": line + 1, "character": body } });
    let document = json!({ "uri": editor.uri("booking/base.html") });
    let wanted = json!({ "textDocument": document, "range": range, "context": { "diagnostics": [] } });
    let actions = editor.ask("textDocument/codeAction", wanted);
    let find = |title: &str| actions.as_array().expect("actions").iter().find(|one| one["title"] == title).cloned();
    let block = find("Make a block").unwrap_or_else(|| panic!("{actions}"));
    assert!(block["edit"].is_null());
    let made = editor.ask("codeAction/resolve", block);
    assert!(made["edit"]["documentChanges"].to_string().contains("block masthead %}"), "{made}");
    // What would change a page is refused with the reason.
    let push =
        json!({ "title": "x", "data": { "step": "push-down", "file": "booking/pay.html", "start": 40, "end": 40 } });
    assert!(editor.try_ask("codeAction/resolve", push).is_err());
    assert!(editor.try_ask("textDocument/moniker", json!({})).expect_err("unknown").contains("not supported"));
    editor.close();
}

#[test]
fn columns_are_bytes_if_the_editor_asks_for_them() {
    let dir = tempfile::tempdir().expect("a folder");
    fs::write(dir.path().join("base.html"), "{% block a %}{% endblock %}").expect("a file");
    fs::write(dir.path().join("p.html"), "{% extends 'base.html' %}{# é🐑 #}{% block a %}1{% endblock %}")
        .expect("a file");
    for (encodings, column) in [(json!(["utf-16"]), 34), (json!(["utf-8"]), 37)] {
        let mut editor = Editor::open(dir.path(), json!({ "general": { "positionEncodings": encodings } }));
        let uri = editor.uri("p.html");
        let symbols = editor.ask("textDocument/documentSymbol", json!({ "textDocument": { "uri": uri } }));
        assert_eq!(symbols[0]["range"]["start"]["character"], column, "{symbols}");
        editor.close();
    }
}

#[test]
fn parameters_are_completed_and_partials_renamed_with_all_that_name_them() {
    let dir = tempfile::tempdir().expect("a folder");
    let files = [
        ("base.html", "<b>{% block a %}{% endblock %}</b>{% include 'parts/boat.html' with name=\"Gull\" %}\n"),
        ("p.html", "{% extends 'base.html' %}\n{% block a %}{% include 'parts/boat.html' with  %}{% endblock %}\n"),
        ("parts/boat.html", "<i class=\"{{ kind }}\">{{ name }}</i>\n"),
    ];
    fs::create_dir(dir.path().join("parts")).expect("a folder");
    files.iter().for_each(|(path, text)| fs::write(dir.path().join(path), text).expect("a file"));
    let mut editor = Editor::open(dir.path(), json!({}));
    let column = files[1].1.lines().nth(1).expect("a line").find(" %}{% endblock").expect("the place");
    let position = json!({ "line": 1, "character": column });
    let uri = editor.uri("p.html");
    let names = editor.ask("textDocument/completion", json!({ "textDocument": { "uri": uri }, "position": position }));
    let names: Vec<&str> = names.as_array().expect("names").iter().filter_map(|one| one["label"].as_str()).collect();
    assert_eq!(names, ["kind", "name"]);
    let given = editor.at("textDocument/definition", "parts/boat.html", "{{ name", json!({}));
    assert_eq!((editor.place(&given[0]).as_str(), given.as_array().map(Vec::len)), ("base.html:1", Some(1)));
    let range = editor.at("textDocument/prepareRename", "p.html", "{% include", json!({}));
    assert_eq!(range["start"]["character"], 25, "{range}");
    let edit = editor.at("textDocument/rename", "p.html", "{% include", json!({ "newName": "parts/ferry.html" }));
    let text = edit["documentChanges"].to_string();
    let created = json!({ "kind": "create", "uri": editor.uri("parts/ferry.html") }).to_string();
    let deleted = json!({ "kind": "delete", "uri": editor.uri("parts/boat.html") }).to_string();
    assert!(text.contains(&created) && text.contains(&deleted), "{text}");
    for path in ["base.html", "p.html"] {
        assert!(text.contains(&editor.uri(path)), "{path}: {text}");
    }
    editor.close();
}

/// An engine that nobody described: learned when the folder is opened.
#[test]
fn a_learned_dialect_is_known_to_the_editor() {
    let dir = tempfile::tempdir().expect("a folder");
    let fixture = Path::new(env!("CARGO_MANIFEST_DIR")).join("../radicon/tests/fixtures/lantern");
    for part in ["site", "more"] {
        crate::common::copy(&fixture.join(part), dir.path());
    }
    fs::remove_dir_all(dir.path().join("dialects")).expect("its dialect goes");
    fs::remove_file(dir.path().join("radicon.toml")).expect("its settings go");
    let mut editor = Editor::open(dir.path(), json!({}));
    answers_everything(&mut editor, "lamps/pier.html", "[~ lamp title");
    let found = editor.at("textDocument/definition", "lamps/pier.html", "hangs", json!({}));
    assert!(editor.place(&found[0]).starts_with("lamps/section.html"), "{found}");
    let found = editor.at("textDocument/definition", "lamps/pier.html", "[~ lamp title", json!({}));
    assert_eq!(editor.place(&found[0]), "lamps/section.html:3");
    let more = json!({ "context": { "includeDeclaration": true } });
    let found = editor.at("textDocument/references", "lamps/base.html", "[~ lamp title", more).to_string();
    assert!(found.contains("lamps/pier.html") && found.contains("lamps/base.html"), "{found}");
    let hover = editor.at("textDocument/hover", "lamps/pier.html", "[~ lamp title", json!({}));
    assert!(hover["contents"]["value"].as_str().is_some_and(|text| text.contains("1. lamps/pier.html")), "{hover}");
    let document = json!({ "textDocument": { "uri": editor.uri("lamps/pier.html") } });
    let symbols = editor.ask("textDocument/documentSymbol", document.clone()).to_string();
    assert!(symbols.contains("contact") && symbols.contains("script"), "{symbols}");
    assert!(editor.ask("textDocument/documentLink", document).to_string().contains("lamps/section.html"));
    let edit = editor.at("textDocument/rename", "lamps/base.html", "[~ lamp title", json!({ "newName": "heading" }));
    assert!(edit.to_string().contains("lamps/pier.html"), "{edit}");
    assert!(editor.shown.iter().all(|text| text.contains("was inferred correctly")), "{:?}", editor.shown);
    assert!(!editor.shown.is_empty(), "what the proof assumes is shown");
    editor.close();
}

/// Every request about a page whose words name a block that it overrides.
#[track_caller]
fn answers_everything(editor: &mut Editor, path: &str, words: &str) {
    let more = json!({ "context": { "includeDeclaration": true }, "newName": "renamed" });
    for method in ["definition", "declaration", "references", "hover", "prepareRename", "rename"] {
        let answer = editor.at(&format!("textDocument/{method}"), path, words, more.clone());
        let is_empty = answer.is_null() || answer.as_array().is_some_and(Vec::is_empty);
        assert!(!is_empty, "{method} of {words} in {path}: {answer}");
    }
    assert!(editor.at("textDocument/completion", path, words, json!({})).is_array());
    let document = json!({ "uri": editor.uri(path) });
    for method in ["documentSymbol", "documentLink", "codeLens", "foldingRange"] {
        let answer = editor.ask(&format!("textDocument/{method}"), json!({ "textDocument": document }));
        let may_be_empty = matches!(method, "codeLens" | "foldingRange");
        assert!(answer.as_array().is_some_and(|list| may_be_empty || !list.is_empty()), "{method} of {path}: {answer}");
    }
    let range = json!({ "start": { "line": 0, "character": 0 }, "end": { "line": 1, "character": 0 } });
    let wanted = json!({ "textDocument": document, "range": range, "context": { "diagnostics": [] } });
    let actions = editor.ask("textDocument/codeAction", wanted);
    assert!(actions.as_array().is_some_and(|list| !list.is_empty()), "{path}: {actions}");
}

/// Every finding once all that was changed is checked, by file.
fn settled(editor: &mut Editor) -> std::collections::BTreeMap<String, Value> {
    let document = json!({ "uri": editor.uri("fares.html") });
    let range = json!({ "start": { "line": 0, "character": 0 }, "end": { "line": 0, "character": 0 } });
    // Actions are about the findings of the text as it is now.
    editor.ask(
        "textDocument/codeAction",
        json!({ "textDocument": document, "range": range, "context": { "diagnostics": [] } }),
    );
    let some = |(path, found): (&String, &Value)| {
        found.as_array().is_some_and(|found| !found.is_empty()).then(|| (path.clone(), found.clone()))
    };
    editor.diagnostics.iter().filter_map(some).collect()
}

#[test]
fn any_sequence_of_edits_gives_what_a_fresh_start_gives() {
    let (_dir, site) = demo();
    let mut editor = Editor::open(&site, json!({}));
    let files = ["booking/base.html", "booking/step.html", "booking/pay.html", "notices/frame.pennant", "fares.html"];
    let variants: [fn(&str) -> String; 6] = [
        str::to_owned,
        |text| text.replace("block", "blokc"),
        |text| text.replace("title", "titel"),
        |text| text[..text.len() / 2].to_owned(),
        |_| String::new(),
        |text| text.to_owned() + "{% include 'none.html' %}<p id=\"x\"><p id=\"x\">",
    ];
    let mut state = 0x2545_f491_4f6c_dd1d_u64;
    let mut random = |most: usize| {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        (state % most as u64) as usize
    };
    let mut texts = std::collections::BTreeMap::new();
    for round in 0..6 {
        for _ in 0..4 {
            let path = files[random(files.len())];
            let saved = fs::read_to_string(site.join(path)).expect("a file");
            let text = variants[random(variants.len())](&saved);
            editor.change(path, &text);
            texts.insert(path, text);
        }
        let found = settled(&mut editor);
        let mut fresh = Editor::open(&site, json!({}));
        texts.iter().for_each(|(path, text)| fresh.change(path, text));
        assert_eq!(found, settled(&mut fresh), "round {round}");
        fresh.close();
    }
    editor.close();
}

impl Editor {
    /// Sends bytes as they are.
    fn send_raw(&mut self, text: &str) {
        self.input.write_all(text.as_bytes()).expect("it reads");
        self.input.flush().expect("it reads");
    }

    /// The code with which the server ends.
    fn ended(mut self) -> Option<i32> {
        drop(self.input);
        self.child.wait().expect("its end").code()
    }
}

#[test]
fn what_is_no_message_is_answered() {
    let (_dir, site) = demo();
    let mut editor = Editor::open(&site, json!({}));
    let wrong = [
        "Content-Length: 9\r\n\r\n{nonsense",
        "Content-Length: many\r\n\r\n",
        "Content-Length: 99999999999999\r\n\r\n",
        "Content-Length: 20\r\n\r\n{\"jsonrpc\":\"2.0\",\"id\":77,\"method\":\"x\"}",
        "Content-Length: 2\r\n\r\n[]",
    ];
    for text in wrong {
        editor.send_raw(text);
        let answer = loop {
            if let Some(answer) = editor.next() {
                break answer;
            }
        };
        assert!(answer["error"]["code"].as_i64().is_some_and(|code| code < 0), "{text}: {answer}");
        assert_eq!(editor.ask("workspace/symbol", json!({ "query": "nothing-like-it" })), json!([]), "{text}");
    }
    let refused = editor.try_ask("textDocument/hover", json!({ "nonsense": 1 })).expect_err("a refusal");
    assert!(refused.contains("missing field"), "{refused}");
    editor.ask("shutdown", Value::Null);
    editor.tell("exit", Value::Null);
    assert_eq!(editor.ended(), Some(0));
}

#[test]
fn a_request_can_be_cancelled_and_an_end_without_a_word_is_a_failure() {
    let (_dir, site) = demo();
    let mut editor = Editor::open(&site, json!({}));
    // All at once: it has not looked at the request when it is cancelled.
    let request =
        json!({ "jsonrpc": "2.0", "id": 900, "method": "workspace/symbol", "params": { "query": "" } }).to_string();
    let cancel = json!({ "jsonrpc": "2.0", "method": "$/cancelRequest", "params": { "id": 900 } }).to_string();
    let framed = |text: &str| format!("Content-Length: {}\r\n\r\n{text}", text.len());
    editor.send_raw(&(framed(&request).repeat(50) + &framed(&cancel)));
    let mut codes = Vec::new();
    while codes.len() < 50 {
        if let Some(answer) = editor.next().filter(|answer| answer["id"] == 900) {
            codes.push(answer["error"]["code"].clone());
        }
    }
    assert!(codes.contains(&json!(-32800)), "{codes:?}");
    editor.tell("exit", Value::Null);
    assert_eq!(editor.ended(), Some(1));
}

#[test]
fn a_renamed_partial_is_made_before_it_goes() {
    let dir = tempfile::tempdir().expect("a folder");
    fs::create_dir(dir.path().join("parts")).expect("a folder");
    fs::write(dir.path().join("parts/nav.html"), "<nav>x</nav>").expect("a file");
    fs::write(dir.path().join("page.html"), "<p>{% include 'parts/nav.html' %}</p>").expect("a file");
    let mut editor = Editor::open(dir.path(), json!({}));
    let edit = editor.at("textDocument/rename", "page.html", "parts/nav.html", json!({ "newName": "bits/menu.html" }));
    let kinds: Vec<&str> = edit["documentChanges"]
        .as_array()
        .expect("changes")
        .iter()
        .map(|one| one["kind"].as_str().unwrap_or("edit"))
        .collect();
    let place = |kind: &str| kinds.iter().position(|known| *known == kind);
    assert!(place("create") < place("delete") && place("delete") == Some(kinds.len() - 1), "{kinds:?}");
}
