//! Which delimiters and sigils a site may write its tags with: statistics over many files.

use std::collections::BTreeSet;
use std::ops::Range;

use memchr::memmem;
use rustc_hash::{FxHashMap, FxHashSet};

use crate::read::corpus::TextId;
use crate::read::corpus::{Corpus, Index, Text};
use crate::read::delimiters::{self, Mask, is_sigil, mirror};
use crate::read::pieces::is_word;
use crate::read::tags::NotationId;
use crate::read::tags::{Notation, Style, Tag, name_behind_marks, read_all};
use crate::thresholds::{FEWEST_FILES_NAMING, FEWEST_NAMED, HALF, NAMED_BEHIND_MARK, SOME};

/// All notations that the files may be written in, those with delimiters of their own first.
pub(crate) fn find(corpus: &Corpus, index: &Index<'_>) -> Vec<Notation> {
    let (mut notations, mask) = delimiters::find(corpus);
    learn_trims(corpus, &mut notations);
    learn_names(corpus, index, &mut notations);
    notations.extend(sigils(corpus, &mask));
    let fences: BTreeSet<&str> = corpus.texts.iter().filter_map(Text::fence).collect();
    notations.extend(fences.into_iter().map(|fence| weak(Style::Header, fence, fence)));
    for style in [Style::Element, Style::Attribute] {
        notations.push(weak(style, "<", ">"));
    }
    notations
}

fn weak(style: Style, open: &str, close: &str) -> Notation {
    Notation {
        style,
        open: open.into(),
        close: close.into(),
        strong: false,
        trims: Vec::new(),
        names: Vec::new(),
        code: false,
    }
}

/// Marks after which names of files are.
fn learn_names(corpus: &Corpus, index: &Index<'_>, notations: &mut [Notation]) {
    let mut behind: FxHashMap<(NotationId, &str), FxHashMap<&str, FxHashSet<TextId>>> = FxHashMap::default();
    for tag in read_all(&corpus.texts, notations) {
        let notation = &notations[tag.notation];
        if notation.style == Style::Bracket
            && !notation.code
            && let Some((mark, name)) = name_behind_marks(&corpus.texts[tag.file].text, &tag)
        {
            behind.entry((tag.notation, mark)).or_default().entry(name).or_default().insert(tag.file);
        }
    }
    for ((id, mark), names) in behind {
        let files = names.iter().filter(|(name, _)| !index.readings(name, &["/"]).is_empty());
        let (known, in_files) = files.fold((0, 0), |(known, in_files), (_, files)| (known + 1, in_files + files.len()));
        let one = known > 0 && !mark.is_empty() && in_files >= FEWEST_FILES_NAMING;
        if NAMED_BEHIND_MARK.reached(known, names.len()) && (known >= FEWEST_NAMED || one) {
            notations[id].names.push(mark.to_owned());
        }
    }
}

/// Marks beside the delimiters: words occur with and without them.
fn learn_trims(corpus: &Corpus, notations: &mut Vec<Notation>) {
    let tags = read_all(&corpus.texts, notations);
    let text = |tag: &Tag, range: &Range<usize>| &corpus.texts[tag.file].text[range.clone()];
    let word = |tag: &Tag| text(tag, &tag.word);
    let left = |tag: &Tag| if tag.mark.start == tag.inner.start { text(tag, &tag.mark) } else { "" };
    let right =
        |tag: &Tag| text(tag, &tag.inner).trim_end_matches('\n').chars().next_back().filter(|c| "-+~_=".contains(*c));
    let mut plain: FxHashSet<(NotationId, &str)> = FxHashSet::default();
    for tag in &tags {
        if left(tag).is_empty() && right(tag).is_none() {
            plain.insert((tag.notation, word(tag)));
        }
    }
    // For each mark how many of the words it is with are without it too.
    let mut seen: FxHashMap<(NotationId, char), (usize, usize)> = FxHashMap::default();
    for tag in tags.iter().filter(|tag| !tag.word.is_empty()) {
        let known = usize::from(plain.contains(&(tag.notation, word(tag))));
        let mark = left(tag);
        let mark = mark.chars().next().filter(|_| mark.len() == 1);
        for mark in mark.into_iter().chain(right(tag)).filter(|c| "-+~_=".contains(*c)) {
            let entry = seen.entry((tag.notation, mark)).or_default();
            (entry.0, entry.1) = (entry.0 + known, entry.1 + 1);
        }
    }
    let mut trims: Vec<char> = seen
        .iter()
        .filter(|(_, (known, all))| HALF.reached(*known, *all) && *all > 0)
        .map(|((_, mark), _)| *mark)
        .collect();
    trims.sort_unstable();
    trims.dedup();
    for notation in notations.iter_mut().filter(|notation| notation.style == Style::Bracket) {
        let id_trims = trims.iter().copied().filter(|mark| !notation.open.ends_with(*mark));
        notation.trims = id_trims.collect();
    }
    for (id, notation) in notations.iter_mut().enumerate() {
        let own: Vec<&str> = tags
            .iter()
            .filter(|tag| tag.notation == NotationId::at(id))
            .map(|tag| &corpus.texts[tag.file].text[tag.inner.clone()])
            .collect();
        let statements = own.iter().filter(|inner| inner.trim_end().ends_with(';') && inner.contains('=')).count();
        notation.code = notation.style == Style::Bracket && SOME.reached(statements, own.len()) && statements > 0;
    }
    drop_marked(corpus, notations);
}

/// What looks like a delimiter of its own may be one with a trim mark: its words are without
/// the mark too, or its closing delimiter is passed over.
fn drop_marked(corpus: &Corpus, notations: &mut Vec<Notation>) {
    let tags = read_all(&corpus.texts, notations);
    let mut marked: Vec<(NotationId, NotationId, char)> = Vec::new();
    for (long, notation) in NotationId::each(notations) {
        let Some(last) = notation.open.chars().next_back().filter(|c| "-+~_=".contains(*c)) else { continue };
        let shorter = &notation.open[..notation.open.len() - 1];
        let known = |other: &Notation| other.open == shorter && shorter.len() > 1;
        let Some(short) = notations.iter().position(known).map(NotationId::at) else { continue };
        let words = |id: NotationId| -> FxHashSet<&str> {
            let own = tags.iter().filter(|tag| tag.notation == id);
            own.map(|tag| &corpus.texts[tag.file].text[tag.word.clone()]).collect()
        };
        let (own, others) = (words(long), words(short));
        let close = &notations[short].close;
        let torn = tags
            .iter()
            .any(|tag| tag.notation == long && corpus.texts[tag.file].text[tag.inner.clone()].contains(close.as_str()));
        let shared = own.iter().filter(|word| others.contains(*word)).count();
        // Where an equals sign prints what it leads, other words are printed than those that do something.
        let enough = if last == '=' { shared == own.len() && !notation.strong } else { shared * 4 >= own.len() };
        if torn || enough {
            marked.push((long, short, last));
        }
    }
    for &(_, _, mark) in &marked {
        let strong = notations
            .iter_mut()
            .filter(|n| n.style == Style::Bracket && !n.open.ends_with(mark) && !n.trims.contains(&mark));
        strong.for_each(|notation| notation.trims.push(mark));
    }
    let mut id = 0;
    notations.retain(|_| {
        id += 1;
        !marked.iter().any(|(long, _, _)| *long == NotationId(id - 1))
    });
}

/// Sigils, alone and doubled, before words; and at the start of lines.
fn sigils(corpus: &Corpus, mask: &Mask) -> Vec<Notation> {
    let mut inside: FxHashMap<Vec<u8>, usize> = FxHashMap::default();
    let mut lines: FxHashMap<Vec<u8>, usize> = FxHashMap::default();
    for (file, text) in TextId::each(&corpus.texts) {
        let bytes = text.text.as_bytes();
        for at in 0..bytes.len() {
            let before = at.checked_sub(1).map(|at| bytes[at]);
            if !is_sigil(bytes[at])
                || text.is_quiet(at)
                || mask.covers(file, at..at + 1)
                || before.is_some_and(|b| is_word(b) || is_sigil(b) || b"<&/-=".contains(&b))
            {
                continue;
            }
            let run = bytes[at..].iter().take(3).take_while(|b| is_sigil(**b)).count();
            let after = bytes.get(at + run).copied().unwrap_or(b' ');
            if run <= 2 && (after.is_ascii_alphabetic() || after == b'_') {
                *inside.entry(bytes[at..at + run].to_vec()).or_default() += 1;
            }
            let first = bytes[..at].iter().rposition(|&b| b == b'\n').map_or(0, |line| line + 1);
            if bytes[first..at].iter().all(u8::is_ascii_whitespace) {
                *lines.entry(bytes[at..at + run].to_vec()).or_default() += 1;
            }
        }
    }
    let least = if corpus.texts.len() < 12 { 2 } else { 3 };
    let collect = |counts: FxHashMap<Vec<u8>, usize>, style| {
        let mut found: Vec<String> = counts
            .into_iter()
            .filter(|(_, uses)| *uses >= least)
            .map(|(open, _)| String::from_utf8_lossy(&open).into_owned())
            .collect();
        found.sort();
        found.into_iter().map(move |open| weak(style, &open, "")).collect::<Vec<_>>()
    };
    let mut found = collect(inside, Style::Sigil);
    // Comments between a sigil with a mark and its mirror image; what begins lines ends with them.
    let begins_lines = |open: &str| lines.get(open.as_bytes()).is_some_and(|&uses| uses >= least);
    let comments: Vec<Notation> = found
        .iter()
        .flat_map(|sigil| ["*", "#", "-", "!"].map(|mark| format!("{}{mark}", sigil.open)))
        .filter(|open| {
            let close = mirror(open);
            if close == *open && begins_lines(open) {
                return false;
            }
            let closed = |text: &str| {
                let at = memmem::find(text.as_bytes(), open.as_bytes());
                at.is_some_and(|at| text[at + open.len()..].contains(close.as_str()))
            };
            corpus.texts.iter().any(|text| closed(&text.text))
        })
        .map(|open| weak(Style::Bracket, &open, &mirror(&open)))
        .collect();
    found.extend(collect(lines, Style::Line));
    found.extend(comments);
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::site::SourceFile;

    #[track_caller]
    fn check(texts: &[&str], strong: &[(&str, &str)]) -> Vec<Notation> {
        let files: Vec<SourceFile> =
            texts.iter().enumerate().map(|(n, text)| SourceFile::new(format!("{n}.html"), *text)).collect();
        let found = find(&Corpus::new(&files), &Index::new(&files));
        let known: Vec<(&str, &str)> =
            found.iter().filter(|n| n.strong).map(|n| (n.open.as_str(), n.close.as_str())).collect();
        assert_eq!(known, strong);
        found
    }

    #[test]
    fn delimiters_are_found_by_how_they_are_closed() {
        let tags = "[~ a b ~]x[= c =]y[~ d ~][= e.f =]<p>[1] (see below)</p>";
        check(&[tags, tags, tags], &[("[=", "=]"), ("[~", "~]")]);
        let plain =
            "<p>crew@sea.example, 50% (see [1])</p><style>a { b: c }</style><!-- x --><script>f({ a: [[1]] })</script>";
        check(&[plain, plain, plain], &[]);
    }

    #[test]
    fn a_mark_that_words_stand_without_trims() {
        let tags = "{? if a ?}{?- if b -?}{? end ?}{? end -?}";
        let found = check(&[tags, tags, tags], &[("{?", "?}")]);
        assert_eq!(found[0].trims, ['-']);
    }

    #[test]
    fn a_doubled_sign_that_begins_lines_encloses_nothing() {
        let has = |text: &str, open: &str| {
            let found = check(&[text, text, text], &[]);
            found.iter().any(|notation| notation.style == Style::Bracket && notation.open == open)
        };
        assert!(!has("!! the tides\n<b>!tide !boat</b>\n!! of the day\n", "!!"));
        assert!(has("<p>!! the tides !!</p><b>!tide !boat</b>\n", "!!"));
        assert!(has("!* the tides *!<b>!tide !boat</b>\n", "!*"));
    }
}
