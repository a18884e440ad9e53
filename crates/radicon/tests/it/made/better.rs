//! Sites whose layouts could be better: the same overrides are written out in page after page.

use std::collections::{BTreeMap, BTreeSet};

use super::Random;
use super::hidden::{fragment, in_brackets, overrides, word, words};
use radicon::site::{Parent, Role};
use radicon::{Settings, Site, SourceFile, dialect};

/// A site that is as it should be, and the same pages with what its sections and partials say written out.
pub struct Better {
    pub good: Site,
    pub poor: Site,
    /// How many partials were written out.
    pub partials: usize,
    /// Whether a block was cut in two, which each page overrides.
    pub is_cut: bool,
}

/// What a section says for its pages.
#[derive(Clone)]
struct Section {
    /// Overrides that all its pages have alike.
    same: Vec<(&'static str, String)>,
    /// What stands around the crumbs of its pages.
    wrapper: Option<(String, String)>,
}

impl Section {
    fn random(random: &mut Random, number: usize) -> Self {
        let kind = random.below(3);
        let (sheet, name) = (word(random), word(random));
        let styles = format!("  <link rel=\"stylesheet\" href=\"/css/{sheet}.css\">\n");
        let aside = format!("  <aside class=\"{name}\">\n{}  </aside>\n", fragment(random, 2, 2..=4));
        let same = if kind == 0 { Vec::new() } else { vec![("styles", styles), ("aside", aside)] };
        let class = word(random);
        let wrapper = (kind != 1).then(|| {
            let (label, link) = (words(random, 2, 3), word(random));
            let open = format!(
                "  <nav aria-label=\"{label}\">\n    <ol class=\"{class}\">\n      <li><a href=\"/{link}.html\">{}</a></li>\n",
                words(random, 2, 3)
            );
            (open, format!("    </ol>\n    <p class=\"under-{number}\">{}</p>\n  </nav>\n", words(random, 3, 6)))
        });
        Self { same, wrapper }
    }

    fn layout(&self, number: usize) -> SourceFile {
        let mut text = "<!--: layout layouts/base.html -->\n".to_owned();
        for (name, content) in &self.same {
            text += &format!("\n<!--: block {name} -->\n{content}<!--: end {name} -->\n");
        }
        if let Some((open, close)) = &self.wrapper {
            let items = format!("      <!--: block steps_{number} --><!--: end steps_{number} -->\n");
            text += &format!("\n<!--: block crumbs -->\n{open}{items}{close}<!--: end crumbs -->\n");
        }
        SourceFile::new(format!("layouts/part-{number}.html"), text)
    }
}

const BASE: &str = "<!DOCTYPE html>\n<html lang=\"en\">\n<head>\n  <title><!--: block title --><!--: end title --> — Tidewater</title>\n  <!--: block styles --><!--: end styles -->\n</head>\n<body>\n  <!--: block crumbs --><!--: end crumbs -->\n  <main>\n    <!--: block content --><!--: end content -->\n  </main>\n  <!--: block aside --><!--: end aside -->\n</body>\n</html>\n";

/// A block that may be cut in two.
const LEAD: &str = "  <!--: block lead --><!--: end lead -->\n";
const HALVES: &str =
    "  <!--: block lead_top --><!--: end lead_top -->\n  <!--: block lead_rest --><!--: end lead_rest -->\n";

/// A partial that all sites in brackets have.
const FLAG: &str = "parts/flag.html";

/// A random site.
pub fn generate(random: &mut Random) -> Better {
    let brackets = random.once_in(2);
    let sections: Vec<Section> = (0..1 + random.below(3)).map(|number| Section::random(random, number)).collect();
    let things: Vec<(String, String)> = (0..random.below(3)).map(|_| thing(random, brackets)).collect();
    // Where an include passes a name already, others may.
    let flag = format!("<body>\n  <!--: partial {FLAG} with flag=boat.flag -->");
    let base = if brackets { BASE.replace("<body>", &flag) } else { BASE.to_owned() };
    let base = [SourceFile::new("layouts/base.html", base), SourceFile::new(FLAG, "<i>{{ flag }}</i>\n")];
    let base = &base[..if brackets { 2 } else { 1 }];
    let is_cut = random.once_in(3);
    let [mut good, mut poor] = [LEAD, HALVES].map(|lead| {
        let with_lead = |file: &SourceFile| {
            let text = String::from_utf8_lossy(&file.bytes).replace("  <main>\n", &format!("{lead}  <main>\n"));
            SourceFile::new(file.path.clone(), text)
        };
        if is_cut { base.iter().map(with_lead).collect() } else { base.to_vec() }
    });
    good.extend(sections.iter().enumerate().map(|(number, section)| section.layout(number)));
    for (at, (text, _)) in things.iter().enumerate() {
        good.push(SourceFile::new(format!("parts/thing-{at}.html"), text.clone()));
    }
    let mut uses = vec![0; things.len()];
    for (number, section) in sections.iter().map(Some).chain([None]).enumerate() {
        for page in 0..if section.is_some() { 5 + random.below(6) } else { 2 + random.below(4) } {
            let path = format!("part-{number}/{}-{page}.html", word(random));
            let title = format!("<!--: block title -->{}<!--: end title -->\n", words(random, 2, 4));
            let around = match section {
                Some(_) => format!("layouts/part-{number}.html"),
                None => "layouts/base.html".to_owned(),
            };
            let mut texts =
                [around.as_str(), "layouts/base.html"].map(|path| format!("<!--: layout {path} -->\n{title}"));
            if let Some(section) = section {
                for (name, content) in &section.same {
                    texts[1] += &format!("\n<!--: block {name} -->\n{content}<!--: end {name} -->\n");
                }
                if let Some((open, close)) = &section.wrapper {
                    let items: String =
                        (0..1 + random.below(2)).map(|_| format!("      <li>{}</li>\n", words(random, 2, 4))).collect();
                    texts[0] += &format!("\n<!--: block steps_{number} -->\n{items}<!--: end steps_{number} -->\n");
                    texts[1] += &format!("\n<!--: block crumbs -->\n{open}{items}{close}<!--: end crumbs -->\n");
                }
            }
            if is_cut {
                let [top, rest] =
                    [2..=3, 3..=4].map(|count| format!("  <p>{}</p>\n", words(random, *count.start(), *count.end())));
                texts[0] += &format!("\n<!--: block lead -->\n{top}{rest}<!--: end lead -->\n");
                for (name, content) in [("lead_top", top), ("lead_rest", rest)] {
                    texts[1] += &format!("\n<!--: block {name} -->\n{content}<!--: end {name} -->\n");
                }
            }
            let (mut short, mut long) = (fragment(random, 1, 2..=5), String::new());
            long += &short;
            if !things.is_empty() && random.once_in(2) {
                let at = random.below(things.len());
                let (values, text) = used(random, &things[at].0, &things[at].1);
                short += &format!("  <!--: partial parts/thing-{at}.html{values} -->\n");
                long += &text;
                uses[at] += 1;
            }
            for (text, content) in texts.iter_mut().zip([short, long]) {
                *text += &format!("\n<!--: block content -->\n{content}<!--: end content -->\n");
            }
            let [short, long] = texts;
            good.push(SourceFile::new(path.clone(), short));
            poor.push(SourceFile::new(path, long));
        }
    }
    let read = |mut files: Vec<SourceFile>| {
        if brackets {
            files.iter_mut().for_each(in_brackets);
        }
        Site::read(files, dialect::builtin(), &Settings::default())
    };
    let partials = uses.iter().filter(|uses| **uses >= 3).count();
    Better { good: read(good), poor: read(poor), partials, is_cut }
}

/// A partial, and the words of its parameters.
fn thing(random: &mut Random, brackets: bool) -> (String, String) {
    let (class, about) = (word(random), words(random, 14, 24));
    let heading = if brackets { "{{ heading }}".to_owned() } else { words(random, 2, 3) };
    let text = format!(
        "<section class=\"{class}\">\n  <h3>{heading}</h3>\n  <p>{about}</p>\n  <p>{}</p>\n</section>\n",
        words(random, 9, 16)
    );
    (text, if brackets { "heading".to_owned() } else { String::new() })
}

/// The value that a use passes, a text or a name, and what it is written out.
fn used(random: &mut Random, text: &str, parameter: &str) -> (String, String) {
    let indented = |text: &str| text.lines().map(|line| format!("  {line}\n")).collect::<String>();
    if parameter.is_empty() {
        return (String::new(), indented(text));
    }
    let (value, printed) = if random.once_in(3) {
        let path = format!("{}.{}", word(random), word(random));
        (path.clone(), format!("{{{{ {path} }}}}"))
    } else {
        let value = words(random, 2, 3);
        (format!("\"{value}\""), value)
    };
    (format!(" with {parameter}={value}"), indented(&text.replace(&format!("{{{{ {parameter} }}}}"), &printed)))
}

/// What was found again.
#[derive(Clone, Copy, Debug, Default)]
pub struct Again {
    /// Layouts that were hidden, partials, and blocks that were cut in two.
    pub hidden: usize,
    /// Those found with the same pages and the same bounds.
    pub found: usize,
    /// Those proposed.
    pub proposed: usize,
}

impl Again {
    pub fn add(&mut self, other: Self) {
        self.hidden += other.hidden;
        self.found += other.found;
        self.proposed += other.proposed;
    }
}

/// A page, and what it overrides.
type Page = (String, Vec<Vec<u8>>);

/// The layouts but for the base, each with the pages that take it and what these override, as text without white space.
fn layouts(site: &Site) -> BTreeMap<String, BTreeSet<Page>> {
    let mut found: BTreeMap<String, BTreeSet<Page>> = BTreeMap::new();
    for id in site.pages() {
        let Parent::Found { id: layout, .. } = site.parent(id) else { continue };
        let path = site.get(id).path.clone();
        let mut own = overrides(site, &path);
        own.sort();
        found.entry(site.get(*layout).path.clone()).or_default().insert((path, own));
    }
    found.remove("layouts/base.html");
    found
}

/// How much of a good site is in the one that was proposed for the poor one.
pub fn compare(better: &Better, proposed: &Site) -> Again {
    let (hidden, found) = (layouts(&better.good), layouts(proposed));
    let again = hidden.values().filter(|pages| found.values().any(|other| other == *pages)).count();
    let partials = proposed.templates.iter().filter(|file| file.role == Role::Partial && file.path != FLAG).count();
    let base = proposed.get(proposed.find("layouts/base.html").expect("the base"));
    let is_merged = base.definition(b"lead").is_some();
    Again {
        hidden: hidden.len() + better.partials + usize::from(better.is_cut),
        found: again + partials.min(better.partials) + usize::from(is_merged && better.is_cut),
        proposed: found.len() + partials + usize::from(is_merged),
    }
}
