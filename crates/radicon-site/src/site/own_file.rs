//! Own-file tags: those that speak for the rest of the file they are in and for no other.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use rustc_hash::{FxHashMap, FxHashSet};

use super::{Site, Template};
use crate::dialect::{Dialect, Kind, Part};
use crate::markup::{Construct, ConstructId, Constructs};
use crate::text::{BYTE_ORDER_MARK, SourceId, is_blank};

/// A word that nobody described surely loads something if it is at the head of so many files, and
/// elsewhere at most once for so many times there: one that prints is anywhere.
const FEWEST_HEADS: usize = 2;
const HEADS_FOR_ONE_ELSEWHERE: usize = 9;

/// A word that is so many times as often elsewhere as at the head of files prints something: where it is at a
/// head, the file begins with what it prints.
const ELSEWHERE_FOR_ONE_HEAD: usize = 3;

/// In so many files a tag's word must stand with some own-file tags for these to be enough for it in others, where
/// no tag is in all files: each could give the word by itself otherwise.
const FEWEST_WITH: usize = 3;

/// The tags of templates that speak for the rest of their own file.
#[derive(Clone, Debug, Default)]
pub(super) struct OwnFile {
    /// For each template all that may, by their indices.
    pub tags: Vec<Vec<ConstructId>>,
    /// For each template those that surely do.
    pub sure: Vec<Vec<ConstructId>>,
}

/// For each template the tags that speak for its file alone.
pub(super) fn find(site: &Site) -> OwnFile {
    let tags = tags(site);
    let mut places: FxHashMap<(&str, String), (usize, usize)> = FxHashMap::default();
    for (template, own) in site.templates.iter().zip(&tags) {
        let head = head(template);
        for &at in own {
            let entry = places.entry(word(template, at)).or_default();
            let in_head = at.index() < head;
            (entry.0, entry.1) = (entry.0 + usize::from(in_head), entry.1 + usize::from(!in_head));
        }
    }
    let is_sure = |template: &Template, at: ConstructId| {
        let item = &template.constructs.items[at];
        item.form(&template.dialect).own_file || {
            let (heads, elsewhere) = places[&word(template, at)];
            heads >= FEWEST_HEADS && elsewhere * HEADS_FOR_ONE_ELSEWHERE <= heads
        }
    };
    let sure = site.templates.iter().zip(&tags);
    let sure = sure.map(|(template, own)| own.iter().copied().filter(|&at| is_sure(template, at)).collect()).collect();
    OwnFile { tags, sure }
}

/// The word of a tag, in its dialect.
fn word(template: &Template, at: ConstructId) -> (&str, String) {
    let item = &template.constructs.items[at];
    (template.dialect.name.as_str(), item.first_word(&template.source, &template.dialect))
}

/// Which own-file tags the tags of a site need: those that are in every file in which a tag's word is.
#[derive(Debug)]
pub struct Needs {
    by_word: FxHashMap<(String, String), Need>,
}

/// The own-file tags that a word needs.
#[derive(Debug)]
struct Need {
    /// The tags in all files that use it.
    common: BTreeSet<String>,
    /// Whether it is in a file that loads nothing, and so needs nothing.
    is_free: bool,
    /// How many of these files have just these tags.
    files_with: BTreeMap<Arc<BTreeSet<String>>, usize>,
}

impl Need {
    fn new(own: &BTreeSet<String>) -> Self {
        Self { common: own.clone(), is_free: false, files_with: BTreeMap::new() }
    }

    /// A tag that it needs where these tags stand: one of those in all files; else one that most files have, unless
    /// those of some file stand.
    fn lacks(&self, stands: impl Fn(&String) -> bool) -> Option<&str> {
        let usual = match self.common.is_empty() {
            true if self.files_with.keys().any(|tags| tags.iter().all(&stands)) => None,
            true => self.files_with.iter().max_by_key(|(_, files)| **files).map(|(tags, _)| &**tags),
            false => Some(&self.common),
        };
        usual?.iter().find(|text| !stands(text)).map(String::as_str)
    }

    /// The tags that will do, of those that are there: all that so many other files have with it.
    fn enough(&self, own: &BTreeSet<String>) -> Option<&Arc<BTreeSet<String>>> {
        let fitting = self.files_with.iter().filter(|(tags, files)| **files >= FEWEST_WITH && tags.is_subset(own));
        Some(fitting.max_by_key(|(tags, files)| (**files, std::cmp::Reverse(tags.len())))?.0)
    }
}

impl Needs {
    /// What the tags of a site need.
    pub fn of(site: &Site) -> Self {
        let mut by_word: FxHashMap<(String, String), Need> = FxHashMap::default();
        let loads = site.own_file.sure.iter().any(|tags| !tags.is_empty());
        for (id, template) in site.with_ids().filter(|_| loads) {
            let own: Arc<BTreeSet<String>> = Arc::new(site.sure_own_file_texts(id).into_iter().collect());
            for word in words(&template.constructs, &template.source, &template.dialect) {
                let key = (template.dialect.name.clone(), word);
                let need = by_word.entry(key).or_insert_with(|| Need::new(&own));
                *need.files_with.entry(Arc::clone(&own)).or_default() += 1;
                need.common.retain(|text| own.contains(text));
                need.is_free |= own.is_empty();
            }
        }
        // What loads needs nothing itself.
        for (id, template) in site.with_ids() {
            for &at in site.sure_own_file_tags(id) {
                let (dialect, word) = word(template, at);
                by_word.entry((dialect.to_owned(), word)).and_modify(|need| need.is_free = true);
            }
        }
        Self { by_word }
    }

    /// A file with the own-file tags that it needs and does not have, under its parent line, else at its
    /// top; `own` was where its tags come from. They have lines of their own, but not in a fragment of a line.
    pub fn carried(&self, bytes: Vec<u8>, dialect: &Dialect, own: &[String], lines: bool) -> Vec<u8> {
        if self.by_word.is_empty() {
            return bytes;
        }
        let constructs = Constructs::read(&bytes, dialect);
        let has: BTreeSet<_> = constructs.items.iter().map(|item| item.span.text(&bytes)).collect();
        let needed = self.of_file(&constructs, &bytes, dialect, own);
        let is_missing = |text: &&String| needed.contains(*text) && !has.contains(text.as_str());
        let others = needed.iter().filter(|text| !own.contains(text));
        let missing: Vec<&str> = own.iter().chain(others).filter(is_missing).map(String::as_str).collect();
        if missing.is_empty() {
            return bytes;
        }
        let parent = constructs.items.iter().find(|item| item.kind == Kind::Parent);
        let at = match parent {
            Some(parent) => {
                let end = parent.span.end as usize;
                memchr::memchr(b'\n', &bytes[end..]).map_or(bytes.len(), |line| end + line + 1)
            }
            None if bytes.starts_with(BYTE_ORDER_MARK) => BYTE_ORDER_MARK.len(),
            None => 0,
        };
        let mut text = missing.join("\n");
        if parent.is_some() || lines {
            text.push('\n');
        }
        [&bytes[..at], text.as_bytes(), &bytes[at..]].concat()
    }

    /// Whether no tag of the site needs any.
    pub fn is_empty(&self) -> bool {
        self.by_word.is_empty()
    }

    /// The tags that come before a tag in its file and that it needs, or may need, in their order.
    pub fn of_tag(&self, site: &Site, id: SourceId, construct: ConstructId) -> Vec<String> {
        let template = site.get(id);
        let text = |at: &ConstructId| template.constructs.items[*at].span.text(&template.source).into_owned();
        let before =
            |tags: &[ConstructId]| -> Vec<String> { tags.iter().filter(|&&at| at < construct).map(text).collect() };
        let mut in_force = before(site.own_file_tags(id));
        if in_force.is_empty() {
            return Vec::new();
        }
        let sure = before(site.sure_own_file_tags(id));
        let mut words = BTreeSet::new();
        words_of(&template.constructs.items[construct], &template.source, &template.dialect, &mut words);
        if words.is_empty() {
            return Vec::new();
        }
        let needed = self.needed(words, &template.dialect, &sure);
        // What may speak for its file, or print something, stays before what comes after it.
        in_force.retain(|text| needed.contains(text) || !sure.contains(text));
        in_force
    }

    /// A file without those of its own-file tags that none of its tags need, as far as the site tells.
    pub fn without_idle(&self, bytes: Vec<u8>, dialect: &Dialect, own: &[String]) -> Vec<u8> {
        if own.is_empty() {
            return bytes;
        }
        let constructs = Constructs::read(&bytes, dialect);
        let needed = self.of_file(&constructs, &bytes, dialect, own);
        let is_idle = |item: &&Construct| {
            let text = item.span.text(&bytes);
            own.iter().any(|own| *own == text) && !needed.contains(text.as_ref())
        };
        let mut kept = Vec::with_capacity(bytes.len());
        let mut at = 0;
        for item in constructs.items.iter().filter(is_idle) {
            let end = item.span.end as usize;
            let line = bytes[end..].starts_with(b"\n")
                && (item.span.start == 0 || bytes[item.span.start as usize - 1] == b'\n');
            kept.extend_from_slice(&bytes[at..item.span.start as usize]);
            at = end + usize::from(line);
        }
        kept.extend_from_slice(&bytes[at..]);
        kept
    }

    /// An own-file tag that the site says a tag needs, and that does not come before it.
    pub fn missing_for(&self, template: &Template, at: usize) -> Option<&str> {
        let items = &template.constructs.items;
        let mut words = BTreeSet::new();
        words_of(&items[at], &template.source, &template.dialect, &mut words);
        let stands = |text: &String| items[..at].iter().any(|item| item.span.of(&template.source) == text.as_bytes());
        let need = |word| self.by_word.get(&(template.dialect.name.clone(), word)).filter(|need| !need.is_free);
        words.into_iter().filter_map(need).find_map(|need| need.lacks(stands))
    }

    /// The own-file tags that a file needs, of which `own` was where its tags come from.
    fn of_file(&self, constructs: &Constructs, source: &[u8], dialect: &Dialect, own: &[String]) -> BTreeSet<String> {
        self.needed(words(constructs, source, dialect), dialect, own)
    }

    /// The own-file tags that words need, of which `own` are there.
    fn needed(&self, words: BTreeSet<String>, dialect: &Dialect, own: &[String]) -> BTreeSet<String> {
        let own: BTreeSet<String> = own.iter().cloned().collect();
        let mut needed = BTreeSet::new();
        for word in words {
            let says = |text: &&String| says(text, &word);
            match self.by_word.get(&(dialect.name.clone(), word.clone())) {
                Some(need) if need.is_free => {}
                Some(need) if !need.common.is_empty() => needed.extend(need.common.iter().cloned()),
                Some(need) if let Some(enough) = need.enough(&own) => {
                    needed.extend(enough.iter().chain(own.iter().filter(says)).cloned());
                }
                _ => needed.extend(own.iter().cloned()),
            }
        }
        needed
    }
}

/// Whether an own-file tag says the word of a tag, which then may mean something else behind it.
fn says(own: &str, word: &str) -> bool {
    let is_word = |c: char| c.is_alphanumeric() || c == '_';
    let word = word.trim_start_matches(|c| !is_word(c));
    own.split(|c| !is_word(c)).any(|said| said == word)
}

/// The words that tags may have from a library: those that nobody described, calls that outputs begin with, filters.
pub fn words(constructs: &Constructs, source: &[u8], dialect: &Dialect) -> BTreeSet<String> {
    let mut found = BTreeSet::new();
    constructs.items.iter().for_each(|item| words_of(item, source, dialect, &mut found));
    found
}

/// The words that a tag may have from a library.
fn words_of(item: &Construct, source: &[u8], dialect: &Dialect, found: &mut BTreeSet<String>) {
    let name = |text: &[u8]| {
        let end = text.iter().position(|&b| !(b.is_ascii_alphanumeric() || b == b'_' || b >= 0x80));
        String::from_utf8_lossy(&text[..end.unwrap_or(text.len())]).into_owned()
    };
    let describes = item.part != Part::Close
        && matches!(item.kind, Kind::Other | Kind::Output | Kind::Control | Kind::Set | Kind::Include | Kind::Wrap);
    if !describes {
        return;
    }
    let text = item.span.of(source);
    match item.kind {
        Kind::Other => _ = found.insert(item.first_word(source, dialect)),
        Kind::Output => {
            let expr = item.expr.of(source);
            let called = expr.iter().position(|&b| !(b.is_ascii_alphanumeric() || b"_.".contains(&b) || b >= 0x80));
            if called.is_some_and(|end| end > 0 && expr[end] == b'(') {
                found.insert(format!("= {}", name(expr)));
            }
        }
        _ => {}
    }
    for at in memchr::memchr_iter(b'|', text) {
        let filter = name(text[at + 1..].trim_ascii_start());
        if !filter.is_empty() {
            found.insert(format!("| {filter}"));
        }
    }
}

/// For each template the tags that may speak for its file alone, by their indices.
fn tags(site: &Site) -> Vec<Vec<ConstructId>> {
    // How often each word is at the head of a file, and elsewhere.
    let mut places: FxHashMap<(&str, String), (usize, usize)> = FxHashMap::default();
    for template in &site.templates {
        let head = head(template);
        for (at, item) in template.constructs.items.iter().enumerate().filter(|(_, item)| item.kind == Kind::Other) {
            let word = (template.dialect.name.as_str(), item.first_word(&template.source, &template.dialect));
            let (heads, elsewhere) = places.entry(word).or_default();
            *if at < head { heads } else { elsewhere } += 1;
        }
    }
    // What something closes is a pair, and speaks for what is in it.
    let is_pair = |(dialect, tag): &(&str, String)| {
        let (lead, word) = tag.split_once(' ').unwrap_or(("", tag));
        !word.is_empty()
            && ["end", "/"].iter().any(|end| places.contains_key(&(*dialect, format!("{lead} {end}{word}"))))
    };
    let leads = |(heads, elsewhere): &(usize, usize)| *heads > 0 && *elsewhere <= heads * ELSEWHERE_FOR_ONE_HEAD;
    let leading = places.iter().filter(|(word, uses)| leads(uses) && !is_pair(word));
    let leading: FxHashSet<_> = leading.map(|(word, _)| word.clone()).collect();
    let of = |template: &Template| -> Vec<ConstructId> {
        let speaks = |at: &ConstructId| {
            let item = &template.constructs.items[*at];
            let word = || (template.dialect.name.as_str(), item.first_word(&template.source, &template.dialect));
            item.part == Part::Single
                && match item.kind {
                    Kind::Other => leading.contains(&word()),
                    Kind::Code => false,
                    _ => template
                        .dialect
                        .forms
                        .get(item.form as usize)
                        .is_some_and(|form| form.kind == item.kind && form.own_file),
                }
        };
        ConstructId::all(template.constructs.items.len()).filter(speaks).collect()
    };
    site.templates.iter().map(of).collect()
}

/// How many tags come before the first output or markup of a template.
pub(crate) fn head(template: &Template) -> usize {
    let source = &template.source[..];
    let mut from = if source.starts_with(BYTE_ORDER_MARK) { BYTE_ORDER_MARK.len() } else { 0 };
    for (at, item) in template.constructs.items.iter().enumerate() {
        let gap = source.get(from..item.span.start as usize).unwrap_or_default();
        let may_lead = matches!(item.kind, Kind::Parent | Kind::Import | Kind::Comment | Kind::Set | Kind::Other)
            && item.part == Part::Single;
        if !may_lead || !gap.iter().all(|&b| is_blank(b)) {
            return at;
        }
        from = item.span.end as usize;
    }
    template.constructs.items.len()
}

impl Site {
    /// The first tag at the top of a template that may speak for its own file alone, or print something.
    pub fn uncertain_head(&self, id: SourceId) -> Option<usize> {
        let sure = self.sure_own_file_tags(id);
        let may = self.own_file_tags(id).iter().find(|at| sure.binary_search(at).is_err())?;
        Some(may.index()).filter(|&at| at < head(self.get(id)))
    }

    /// How many bytes at the top of a template are what it says for itself: own-file tags and names that it
    /// sets, on lines of their own before any output or markup.
    pub fn own_head(&self, id: SourceId) -> usize {
        let template = self.get(id);
        let (items, sure) = (&template.constructs.items, self.sure_own_file_tags(id));
        let mut end = 0;
        for (at, item) in ConstructId::each(&items[..head(template)]) {
            match item.kind {
                Kind::Comment => {}
                Kind::Set => end = item.span.end as usize,
                _ if sure.binary_search(&at).is_ok() => end = item.span.end as usize,
                _ => break,
            }
        }
        let blanks = template.source[end..].iter().take_while(|b| matches!(b, b' ' | b'\t' | b'\r')).count();
        if end > 0 && template.source.get(end + blanks) == Some(&b'\n') { end + blanks + 1 } else { 0 }
    }
}

#[cfg(test)]
mod tests {
    use crate::dialect::builtin;
    use crate::markup::ConstructId;
    use crate::site::{Settings, Site, SourceFile};

    #[test]
    fn a_word_at_the_head_of_some_files_is_one_everywhere() {
        let files = [
            ("a.html", "{% extends 'b.html' %}{% fetch tides %}{% block x %}{% tide 3 %}{% endblock %}"),
            ("b.html", "{% import 'm.html' as m %}<p>{% fetch fares %}{% hold %}{% block x %}{% endblock %}</p>"),
            ("c.html", "{% hold %}<p>{% if a %}{% endif %}</p>{% endhold %}{{ x }}"),
            ("m.html", "{% macro m() %}{% endmacro %}"),
        ];
        let files = files.iter().map(|(path, text)| SourceFile::new(*path, *text)).collect();
        let site = Site::read(files, builtin(), &Settings::default());
        let tags = |path: &str| -> Vec<String> {
            let id = site.find(path).expect("a template");
            let text =
                |at: &ConstructId| site.get(id).constructs.items[*at].span.text(&site.get(id).source).into_owned();
            site.own_file_tags(id).iter().map(text).collect()
        };
        assert_eq!(tags("a.html"), ["{% fetch tides %}"]);
        assert_eq!(tags("b.html"), ["{% import 'm.html' as m %}", "{% fetch fares %}"]);
        assert!(tags("c.html").is_empty());
    }

    #[test]
    fn what_is_enough_for_a_word_in_other_files_is_enough_for_it() {
        let (tides, fares) = ("{% fetch tides %}", "{% fetch fares %}");
        let mut files = vec![("both.html".to_owned(), format!("{tides}\n{fares}<p>{{% tide 3 %}}</p>"))];
        files.push(("own.html".to_owned(), format!("{tides}\n{{% fetch tide from moon %}}<p>{{% tide 3 %}}</p>")));
        files.push(("rare.html".to_owned(), "{% fetch winds %}<p>{% tide 3 %}</p>".to_owned()));
        for n in 0..7 {
            let loads = if n < 4 { tides } else { fares };
            files.push((format!("{n}.html"), format!("{loads}<p>{{% tide {n} %}}</p>")));
        }
        let read = |files: &[(String, String)]| {
            let files = files.iter().map(|(path, text)| SourceFile::new(path, text.as_str())).collect();
            Site::read(files, builtin(), &Settings::default())
        };
        let site = read(&files);
        let needs = super::Needs::of(&site);
        let needed = |path: &str| {
            let id = site.find(path).expect("a template");
            needs.of_tag(&site, id, ConstructId::at(site.get(id).constructs.items.len() - 1))
        };
        assert_eq!(needed("both.html"), [tides]);
        assert_eq!(needed("own.html"), [tides, "{% fetch tide from moon %}"], "it says the word");
        assert_eq!(needed("rare.html"), ["{% fetch winds %}"], "nothing else is there");
        // What is enough in no file of the site is not enough.
        for (loads, missing) in
            [("", Some(tides)), (fares, None), ("{% fetch winds %}", None), ("{% fetch x %}", Some(tides))]
        {
            let new = read(&[("new.html".to_owned(), format!("{loads}<p>{{% tide 3 %}}</p>"))]);
            let template = &new.templates[0];
            assert_eq!(needs.missing_for(template, template.constructs.items.len() - 1), missing, "{loads}");
        }
    }
}
