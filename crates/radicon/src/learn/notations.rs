//! Which delimiters and sigils a site may write its tags with: statistics over many files.

use rustc_hash::{FxHashMap, FxHashSet};

use super::corpus::Corpus;
use super::tags::{Notation, Reader, Style, Tag, is_word};

/// How often a possible opening delimiter stands in the files.
#[derive(Default)]
struct Count {
    uses: usize,
    files: usize,
    last_file: usize,
    /// For each closing delimiter how many of the samples it closes.
    closed: [usize; 2],
    samples: usize,
}

/// How many uses of a delimiter are looked at closely.
const SAMPLES: usize = 300;

/// The farthest that a closing delimiter may stand, in bytes.
const REACH: usize = 2000;

/// All notations that the files may be written in, those with delimiters of their own first.
pub(super) fn find(corpus: &Corpus) -> Vec<Notation> {
    let mut notations = brackets(corpus);
    learn_trims(corpus, &mut notations);
    notations.extend(sigils(corpus));
    for style in [Style::Element, Style::Attribute] {
        notations.push(weak(style, "<", ">"));
    }
    notations
}

fn weak(style: Style, open: &str, close: &str) -> Notation {
    Notation { style, open: open.into(), close: close.into(), strong: false, trims: Vec::new(), code: false }
}

/// The closing delimiters that an opening one may have: its mirror image, and that
/// of its part from the first bracket on.
fn closers(open: &str) -> [String; 2] {
    if let Some(mark) = open.strip_prefix("<!--") {
        return [mirror(mark) + "-->", "-->".into()];
    }
    let bracket = open.find(['(', '[', '{', '<']).unwrap_or(0);
    [mirror(open), mirror(&open[bracket..])]
}

fn mirror(open: &str) -> String {
    let flip = |c| match c {
        '(' => ')',
        '[' => ']',
        '{' => '}',
        '<' => '>',
        other => other,
    };
    open.chars().rev().map(flip).collect()
}

fn is_open(byte: u8) -> bool {
    matches!(byte, b'(' | b'[' | b'{' | b'<')
}

fn is_sigil(byte: u8) -> bool {
    b"~^@$%#!|:*=+&?\\".contains(&byte)
}

/// Every opening delimiter that begins at a place.
fn openers(bytes: &[u8], at: usize) -> impl Iterator<Item = &[u8]> {
    let rest = &bytes[at..];
    let comment = rest.starts_with(b"<!--");
    let most = if comment { 6 } else { 5 };
    let run = rest.iter().take(most).take_while(|b| b.is_ascii_punctuation() && !b"\"'>/)]}".contains(b)).count();
    let run = if comment { run.max(4) } else { run };
    let fits = move |length: usize| {
        let key = &rest[..length];
        match key {
            [b'<', b'!', b'-', b'-', tail @ ..] => !tail.iter().any(|b| is_open(*b) || matches!(b, b'-' | b'>')),
            [b'<'] | [b'<', b'!', ..] => false,
            // What stands before a tag of HTML is no part of it.
            [_, tail @ ..] if tail.contains(&b'<') => false,
            _ => key.iter().any(|b| is_open(*b)),
        }
    };
    (1..=run).filter(move |&length| fits(length)).map(move |length| &rest[..length])
}

fn brackets(corpus: &Corpus) -> Vec<Notation> {
    let mut counts: FxHashMap<Vec<u8>, Count> = FxHashMap::default();
    for (file, text) in corpus.texts.iter().enumerate() {
        let bytes = text.text.as_bytes();
        for at in 0..bytes.len() {
            if !(is_open(bytes[at]) || is_sigil(bytes[at])) || text.is_quiet(at) {
                continue;
            }
            // A parenthesis behind a word is a call.
            if bytes[at] == b'(' && at > 0 && is_word(bytes[at - 1]) && !openers(bytes, at).any(|o| o.len() > 1) {
                continue;
            }
            for key in openers(bytes, at) {
                let count = match counts.get_mut(key) {
                    Some(count) => count,
                    None => counts.entry(key.to_vec()).or_default(),
                };
                count.uses += 1;
                if count.files == 0 || count.last_file != file {
                    (count.files, count.last_file) = (count.files + 1, file);
                }
                if count.samples < SAMPLES {
                    count.samples += 1;
                    let open = String::from_utf8_lossy(key);
                    let rest = &bytes[at + key.len()..bytes.len().min(at + REACH)];
                    let next = memchr::memmem::find(rest, key).unwrap_or(rest.len());
                    for (closed, close) in count.closed.iter_mut().zip(closers(&open)) {
                        *closed += usize::from(
                            memchr::memmem::find(rest, close.as_bytes())
                                .is_some_and(|end| end < next + close.len() && end > 0),
                        );
                    }
                }
            }
        }
    }
    select(corpus.texts.len(), counts)
}

/// The delimiters that are closed as they should be, none of which is only the start of longer ones.
fn select(files: usize, counts: FxHashMap<Vec<u8>, Count>) -> Vec<Notation> {
    let least = if files < 12 { 1 } else { 2 };
    let mut keys: Vec<(String, Count, usize)> = Vec::new();
    for (key, count) in counts {
        let key = String::from_utf8_lossy(&key).into_owned();
        // The longer closing delimiter, if it does as well.
        let best = if count.closed[0] * 20 >= count.closed[1] * 19 { 0 } else { 1 };
        let well = count.closed[best] * 10 >= count.samples * 8;
        if well && count.uses >= least && (count.files >= 2 || files < 12) {
            keys.push((key, count, best));
        }
    }
    keys.sort_by(|a, b| a.0.len().cmp(&b.0.len()).then_with(|| a.0.cmp(&b.0)));
    let uses_of = |wanted: &dyn Fn(&str) -> bool| -> usize {
        let fitting: Vec<_> = keys.iter().filter(|(key, _, _)| wanted(key)).collect();
        // Of delimiters that begin with one another only the shortest counts.
        let shortest = fitting.iter().filter(|(key, _, _)| {
            !fitting
                .iter()
                .any(|(other, _, _)| other != key && (key.starts_with(other.as_str()) || key.ends_with(other.as_str())))
        });
        shortest.map(|(_, count, _)| count.uses).sum()
    };
    let own_mirror = |key: &str, count: &Count| {
        count.closed[0] * 100 >= count.samples * 95 && closers(key)[0].len() >= key.len().min(4)
    };
    let covered = |key: &str, uses: usize| {
        let longer = uses_of(&|other: &str| {
            let found = keys.iter().find(|(known, _, _)| known == other);
            other.len() > key.len() && other.starts_with(key) && found.is_some_and(|(k, c, _)| own_mirror(k, c))
        });
        let wider = uses_of(&|other: &str| other.len() > key.len() && other.ends_with(key) && !other.starts_with(key));
        longer * 100 >= uses * 95 || wider * 100 >= uses * 95
    };
    let kept: Vec<&(String, Count, usize)> = keys.iter().filter(|(key, count, _)| !covered(key, count.uses)).collect();
    let mut chosen: Vec<Notation> = Vec::new();
    for (key, count, best) in kept {
        let within = chosen.iter().any(|known| key.starts_with(&known.open) && known.open.len() < key.len());
        if within && !own_mirror(key, count) && !key.starts_with("<!--") {
            continue;
        }
        let close = closers(key)[*best].clone();
        let strong = key.len() > 1 && !key.starts_with("<!--") && count.uses >= 3;
        chosen.push(Notation {
            style: Style::Bracket,
            open: key.clone(),
            close,
            strong,
            trims: Vec::new(),
            code: false,
        });
    }
    chosen
}

/// Marks beside the delimiters that words stand with and without.
fn learn_trims(corpus: &Corpus, notations: &mut Vec<Notation>) {
    let reader = Reader::new(notations);
    let tags: Vec<Tag> = corpus.texts.iter().enumerate().flat_map(|(file, text)| reader.read(file, text)).collect();
    let word = |tag: &Tag| corpus.texts[tag.file].text[tag.word.clone()].to_owned();
    let left = |tag: &Tag| {
        let beside = tag.mark.start == tag.inner.start;
        if beside { corpus.texts[tag.file].text[tag.mark.clone()].to_owned() } else { String::new() }
    };
    let right = |tag: &Tag| {
        let inner = corpus.texts[tag.file].text[tag.inner.clone()].trim_end_matches('\n').to_owned();
        inner.chars().next_back().filter(|c| "-+~_=".contains(*c))
    };
    let mut plain: FxHashSet<(usize, String)> = FxHashSet::default();
    for tag in &tags {
        if left(tag).is_empty() && right(tag).is_none() {
            plain.insert((tag.notation, word(tag)));
        }
    }
    // For each mark how many of the words it stands with stand without it too.
    let mut seen: FxHashMap<(usize, char), (usize, usize)> = FxHashMap::default();
    for tag in tags.iter().filter(|tag| !tag.word.is_empty()) {
        let known = usize::from(plain.contains(&(tag.notation, word(tag))));
        let mark = left(tag);
        let mark = mark.chars().next().filter(|_| mark.len() == 1);
        for mark in mark.into_iter().chain(right(tag)).filter(|c| "-+~_=".contains(*c)) {
            let entry = seen.entry((tag.notation, mark)).or_default();
            (entry.0, entry.1) = (entry.0 + known, entry.1 + 1);
        }
    }
    let mut trims: Vec<char> =
        seen.iter().filter(|(_, (known, all))| known * 2 >= *all && *all > 0).map(|((_, mark), _)| *mark).collect();
    trims.sort_unstable();
    trims.dedup();
    for notation in notations.iter_mut().filter(|notation| notation.style == Style::Bracket) {
        let id_trims = trims.iter().copied().filter(|mark| !notation.open.ends_with(*mark));
        notation.trims = id_trims.collect();
    }
    for (id, notation) in notations.iter_mut().enumerate() {
        let own: Vec<&str> = tags
            .iter()
            .filter(|tag| tag.notation == id)
            .map(|tag| &corpus.texts[tag.file].text[tag.inner.clone()])
            .collect();
        let statements = own.iter().filter(|inner| inner.trim_end().ends_with(';') && inner.contains('=')).count();
        notation.code = notation.style == Style::Bracket && statements * 3 >= own.len() && statements > 0;
    }
    drop_marked(corpus, notations);
}

/// What looks like a delimiter of its own may be one with a trim mark: its words stand without
/// the mark too, or its closing delimiter is passed over.
fn drop_marked(corpus: &Corpus, notations: &mut Vec<Notation>) {
    let reader = Reader::new(notations);
    let tags: Vec<Tag> = corpus.texts.iter().enumerate().flat_map(|(file, text)| reader.read(file, text)).collect();
    let mut marked: Vec<(usize, usize, char)> = Vec::new();
    for (long, notation) in notations.iter().enumerate() {
        let Some(last) = notation.open.chars().next_back().filter(|c| "-+~_=".contains(*c)) else { continue };
        let shorter = &notation.open[..notation.open.len() - 1];
        let known = |other: &Notation| other.open == shorter && shorter.len() > 1;
        let Some(short) = notations.iter().position(known) else { continue };
        let words = |id: usize| -> FxHashSet<&str> {
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
        !marked.iter().any(|(long, _, _)| *long + 1 == id)
    });
}

/// Sigils, alone and doubled, before words; and at the start of lines.
fn sigils(corpus: &Corpus) -> Vec<Notation> {
    let mut inside: FxHashMap<Vec<u8>, usize> = FxHashMap::default();
    let mut lines: FxHashMap<Vec<u8>, usize> = FxHashMap::default();
    for text in &corpus.texts {
        let bytes = text.text.as_bytes();
        for at in 0..bytes.len() {
            let before = at.checked_sub(1).map(|at| bytes[at]);
            if !is_sigil(bytes[at])
                || text.is_quiet(at)
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
    // Comments between a sigil with a mark and its mirror image.
    let comments: Vec<Notation> = found
        .iter()
        .flat_map(|sigil| ["*", "#", "-", "!"].map(|mark| format!("{}{mark}", sigil.open)))
        .filter(|open| {
            let close = mirror(open);
            let closed = |text: &str| {
                text.find(open.as_str()).is_some_and(|at| text[at + open.len()..].contains(close.as_str()))
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
        let found = find(&Corpus::new(&files));
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
    fn mirrors_and_comments_close() {
        assert_eq!(mirror("{[%"), "%]}");
        assert_eq!(closers("~!{"), ["}!~", "}"]);
        assert_eq!(closers("<!--:"), [":-->", "-->"]);
    }
}
