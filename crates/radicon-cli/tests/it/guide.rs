//! The guide's commands give what stands below them.
//! `RADICON_BLESS=1 cargo test -p radicon-cli --test guide` writes anew what comes out.

use std::fs;
use std::path::{Path, PathBuf};

use crate::common::{copy, demo, radicon};

/// What is done in the guide, fence by fence.
struct Reader {
    dir: PathBuf,
    site: PathBuf,
    /// The text with what really comes out.
    told: String,
}

impl Reader {
    fn prose(&mut self, line: &str) {
        self.told += &format!("{line}\n");
        // A chapter may begin with a folder of its own.
        let fresh = [("## 9.", "basket"), ("## 10.", "boards"), ("## 11.", "again"), ("## 12.", "better")];
        if let Some((_, name)) = fresh.iter().find(|(chapter, _)| line.starts_with(chapter)) {
            let fresh = self.dir.join(name);
            fs::create_dir_all(&fresh).expect("a folder");
            if matches!(*name, "again" | "better") {
                copy(&Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo"), &fresh);
            }
            self.site = fresh;
        }
    }

    /// A file that the reader writes.
    fn file(&mut self, path: &str, lines: &[&str]) {
        let file = self.site.join(path);
        fs::create_dir_all(file.parent().expect("a folder")).expect("a folder");
        fs::write(file, lines.join("\n") + "\n").expect("a file");
        lines.iter().for_each(|line| self.told += &format!("{line}\n"));
    }

    fn console(&mut self, lines: &[&str]) {
        for command in lines.iter().filter_map(|line| line.strip_prefix("$ ")) {
            let out = self.run(command);
            self.told += &format!("$ {command}\n{out}");
        }
    }

    fn run(&self, command: &str) -> String {
        let (command, cut) = command.split_once(" | ").unwrap_or((command, ""));
        let words: Vec<&str> = command.split_whitespace().collect();
        let out = match words[..] {
            ["radicon", ref arguments @ ..] => {
                let ran = radicon(&self.site, arguments);
                assert!(ran.code < 2, "{command}: {}", ran.err);
                ran.out
            }
            ["cat", file] => fs::read_to_string(self.site.join(file)).expect(file),
            _ => panic!("{command}: not a command of the guide"),
        };
        let lines: Vec<&str> = out.lines().collect();
        let number = |words: &str| words.parse::<usize>().expect("a number");
        let shown = match cut.split_once(" -") {
            Some(("head", most)) => &lines[..number(most).min(lines.len())],
            Some(("tail", most)) => &lines[lines.len().saturating_sub(number(most))..],
            _ => &lines[..],
        };
        shown.iter().map(|line| line.trim_end().to_owned() + "\n").collect()
    }
}

#[test]
fn the_guide_tells_what_happens() {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/guide.md");
    let guide = fs::read_to_string(&path).expect("the guide");
    let (dir, site) = demo();
    let mut reader = Reader { dir: dir.path().to_owned(), site, told: String::new() };
    let mut lines = guide.lines();
    while let Some(line) = lines.next() {
        let Some(kind) = line.strip_prefix("```") else {
            reader.prose(line);
            continue;
        };
        reader.told += &format!("{line}\n");
        let inside: Vec<&str> = lines.by_ref().take_while(|line| *line != "```").collect();
        match kind.split_once(' ') {
            Some((_, path)) => reader.file(path, &inside),
            None if kind == "console" => reader.console(&inside),
            None => inside.iter().for_each(|line| reader.told += &format!("{line}\n")),
        }
        reader.told += "```\n";
    }
    if std::env::var_os("RADICON_BLESS").is_some() {
        fs::write(&path, &reader.told).expect("written");
    }
    let guide = fs::read_to_string(&path).expect("the guide");
    let first = guide.lines().zip(reader.told.lines()).enumerate().find(|(_, (written, real))| written != real);
    assert!(guide == reader.told, "docs/guide.md is not what happens: {first:?}");
    assert!(guide.matches("\n$ radicon ").count() > 20, "the guide shows nothing");
}
