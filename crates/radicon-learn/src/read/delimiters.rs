//! Which delimiters a site sets its tags off with. What explains most is taken first, and what it
//! explains counts for no other: brackets in expressions, or a sign before a tag, are no delimiters.

use std::collections::BTreeMap;
use std::ops::Range;

use rayon::prelude::*;

use crate::read::corpus::Corpus;
use crate::read::corpus::TextId;
use crate::read::pieces::is_word;
use crate::read::tags::{Notation, Reader, Style};
use crate::thresholds::{
    AS_OFTEN, CLOSED, CLOSED_AS_LONGER, CLOSER_REACH, FEW_FILES, FEWEST_CODE_LINES, FEWEST_DELIMITERS, HALF,
    MORE_OFTEN_ALONE, SAMPLES, UNLIKE_SHARE, UNLIKE_SHARE_SIGNED,
};

/// The ranges of tags, for each file in order.
pub(crate) struct Mask(Vec<Vec<Range<usize>>>);

impl Mask {
    /// Whether a stretch of a file reaches into a tag.
    pub fn covers(&self, file: TextId, range: Range<usize>) -> bool {
        let ranges = &self.0[file.index()];
        let next = ranges.partition_point(|tag| tag.end <= range.start);
        ranges.get(next).is_some_and(|tag| tag.start < range.end)
    }

    fn of(corpus: &Corpus, notations: &[Notation]) -> Self {
        let reader = Reader::new(notations);
        let ranges = |(file, text)| reader.read(TextId::at(file), text).into_iter().map(|tag| tag.range).collect();
        Self(corpus.texts.par_iter().enumerate().map(ranges).collect())
    }
}

/// Places of a possible opening delimiter: file and offset.
type Places = Vec<(u32, u32)>;

/// The notations with an opening and a closing delimiter, and where their tags are.
pub(crate) fn find(corpus: &Corpus) -> (Vec<Notation>, Mask) {
    let mut places = places(corpus);
    let files = corpus.texts.len();
    let mut chosen: Vec<Notation> = Vec::new();
    let mut first: Option<(usize, usize)> = None;
    let mut mask = Mask(vec![Vec::new(); files]);
    loop {
        let outer = |open: &str| open.bytes().find(|b| is_open(*b));
        let enough = |open: &[u8], places: &Places| {
            let open = String::from_utf8_lossy(open);
            let sign = |open: &str| open.bytes().next().filter(|b| is_sigil(*b));
            let is_alike = |known: &Notation| {
                outer(&known.open) == outer(&open) || sign(&open).is_some() && sign(&known.open) == sign(&open)
            };
            let alike = chosen.iter().any(is_alike);
            match first {
                Some((uses, files)) if !alike => {
                    let signed = closer(corpus, open.as_bytes(), places).is_some_and(|close| close.len() > 1);
                    let share = if signed { UNLIKE_SHARE_SIGNED } else { UNLIKE_SHARE };
                    places.len() * share >= uses && files_of(places) * share >= files
                }
                _ => true,
            }
        };
        let Some(open) = greatest(corpus, &places, &enough) else { break };
        let uses = &places[&open];
        let close = closer(corpus, &open, uses).unwrap_or_default();
        first.get_or_insert((uses.len(), files_of(uses)));
        let notation = bracket(&open, &close, uses.len() >= FEWEST_DELIMITERS);
        chosen.extend(longer(corpus, &notation, &places));
        chosen.push(notation);
        mask = Mask::of(corpus, &chosen);
        drop_covered(&mut places, &mask);
        // It is taken once, however much of it its tags explain.
        places.remove(&open);
    }
    let weak = |open: &[u8]| open.len() == 1 || open.starts_with(b"<!--");
    let others: Vec<&Vec<u8>> =
        places.iter().filter(|(open, uses)| weak(open) && is_used(files, uses)).map(|(open, _)| open).collect();
    for open in others {
        if let Some(close) = closer(corpus, open, &places[open]) {
            chosen.push(bracket(open, &close, false));
        }
    }
    chosen.sort_by(|a, b| a.open.len().cmp(&b.open.len()).then_with(|| a.open.cmp(&b.open)));
    (chosen, mask)
}

fn bracket(open: &[u8], close: &str, strong: bool) -> Notation {
    Notation {
        style: Style::Bracket,
        open: String::from_utf8_lossy(open).into_owned(),
        close: close.to_owned(),
        strong,
        trims: Vec::new(),
        names: Vec::new(),
        code: false,
    }
}

/// Signs that begin lines of a program: a blank follows, and most such lines end as statements do.
fn code_signs(corpus: &Corpus) -> Vec<u8> {
    let mut counts: BTreeMap<u8, (usize, usize, usize)> = BTreeMap::new();
    for text in &corpus.texts {
        let mut seen = Vec::new();
        for line in text.text.lines().filter(|line| line.len() > 1) {
            let first = line.as_bytes()[0];
            if !is_sigil(first) || line.as_bytes()[1] != b' ' {
                continue;
            }
            let (lines, ends, files) = counts.entry(first).or_default();
            *lines += 1;
            *ends += usize::from(line.trim_end().ends_with([';', '{', '}']));
            if !seen.contains(&first) {
                seen.push(first);
                *files += 1;
            }
        }
    }
    let is_code = |(_, (lines, ends, files)): &(u8, (usize, usize, usize))| {
        *files > 1 && *lines >= FEWEST_CODE_LINES && HALF.reached(*ends, *lines)
    };
    counts.into_iter().filter(is_code).map(|(sign, _)| sign).collect()
}

/// Every place where a delimiter may begin, by delimiter.
fn places(corpus: &Corpus) -> BTreeMap<Vec<u8>, Places> {
    let signs = code_signs(corpus);
    let of_file = |(file, text): (usize, &crate::read::corpus::Text)| {
        let bytes = text.text.as_bytes();
        let mut found: BTreeMap<&[u8], Places> = BTreeMap::new();
        let mut in_code = false;
        for at in 0..bytes.len() {
            if at == 0 || bytes[at - 1] == b'\n' {
                in_code = signs.contains(&bytes[at]);
            }
            if in_code || !(is_open(bytes[at]) || is_sigil(bytes[at])) || text.is_quiet(at) {
                continue;
            }
            // What begins a comment of HTML begins with its bracket.
            if bytes[at] == b'!' && at > 0 && bytes[at - 1] == b'<' {
                continue;
            }
            // A parenthesis after a word is a call.
            if bytes[at] == b'(' && at > 0 && is_word(bytes[at - 1]) && !openers(bytes, at).any(|o| o.len() > 1) {
                continue;
            }
            for open in openers(bytes, at) {
                found.entry(open).or_default().push((file as u32, at as u32));
            }
        }
        found.into_iter().map(|(open, places)| (open.to_vec(), places)).collect::<BTreeMap<_, _>>()
    };
    let join = |mut all: BTreeMap<Vec<u8>, Places>, more: BTreeMap<Vec<u8>, Places>| {
        for (open, places) in more {
            all.entry(open).or_default().extend(places);
        }
        all
    };
    let mut found = corpus.texts.par_iter().enumerate().map(of_file).reduce(BTreeMap::new, join);
    // A bracket that is repeated is told by its end, also where it is written once.
    let is_repeated = |open: &[u8]| open.len() > 2 && open.iter().all(|&b| b == open[0]);
    found.retain(|open, places| is_repeated(open) || is_used(corpus.texts.len(), places));
    found
}

fn files_of(places: &Places) -> usize {
    places.chunk_by(|a, b| a.0 == b.0).count()
}

/// Whether a delimiter is used often enough to be looked at.
fn is_used(files: usize, places: &Places) -> bool {
    if files < FEW_FILES { !places.is_empty() } else { places.len() > 1 && files_of(places) > 1 }
}

/// Leaves out what is in tags, or reaches into one.
fn drop_covered(places: &mut BTreeMap<Vec<u8>, Places>, mask: &Mask) {
    for (open, places) in places.iter_mut() {
        places.retain(|&(file, at)| !mask.covers(TextId(file), at as usize..at as usize + open.len()));
    }
    places.retain(|_, places| !places.is_empty());
}

/// The delimiter of several characters that is used most; of one that begins or ends with another, and has
/// nearly all its uses, the longer.
fn greatest(
    corpus: &Corpus,
    places: &BTreeMap<Vec<u8>, Places>,
    enough: &dyn Fn(&[u8], &Places) -> bool,
) -> Option<Vec<u8>> {
    let files = corpus.texts.len();
    let mut ranked: Vec<(&Vec<u8>, &Places)> = places
        .iter()
        .filter(|(open, uses)| open.len() > 1 && !open.starts_with(b"<!--") && is_used(files, uses))
        .filter(|(open, uses)| enough(open, uses) && !is_behind_text(corpus, open, uses, places))
        .collect();
    ranked.sort_by_key(|(open, uses)| (std::cmp::Reverse(uses.len()), open.len(), *open));
    let is_closed = |open: &[u8], uses: &Places| closer(corpus, open, uses).is_some();
    let (best, uses) = ranked.iter().find(|(open, uses)| is_closed(open, uses))?;
    let wider = ranked.iter().filter(|(open, other)| {
        open.len() > best.len()
            && memchr::memmem::find(open, best).is_some()
            && AS_OFTEN.reached(other.len(), uses.len())
            && is_closed(open, other)
    });
    Some(wider.max_by_key(|(open, _)| open.len()).map_or(*best, |(open, _)| *open).clone())
}

/// Whether a single bracket is the delimiter, and what comes before it text: `(` before `[tide]`.
fn is_behind_text(corpus: &Corpus, open: &[u8], uses: &Places, places: &BTreeMap<Vec<u8>, Places>) -> bool {
    let [before, bracket] = open else { return false };
    let bracket = std::slice::from_ref(bracket);
    let close = mirror(&String::from_utf8_lossy(bracket));
    // What holds markup, or goes on behind the line, may be the body of another tag.
    let holds_a_tag = |&&(file, at): &&(u32, u32)| {
        let rest = &corpus.texts[file as usize].text[at as usize + 1..];
        let line = rest.split('\n').next().unwrap_or(rest).trim();
        !line.is_empty() && !line.starts_with('<') && line.contains(&close)
    };
    (is_open(*before) || is_sigil(*before))
        && is_open(bracket[0])
        && open[1..] != open[..1]
        && places.get(bracket).is_some_and(|all| {
            all.iter().filter(holds_a_tag).count() >= MORE_OFTEN_ALONE * uses.len()
                && closer(corpus, bracket, all).is_some()
        })
}

/// Delimiters that begin with this one and are closed by a longer one, too: `(((` beside `((`.
fn longer(corpus: &Corpus, notation: &Notation, places: &BTreeMap<Vec<u8>, Places>) -> Vec<Notation> {
    let short = notation.open.as_bytes();
    let mut found: Vec<Notation> = Vec::new();
    let longer = places.iter().filter(|(open, uses)| {
        let is_repeated = short.len() > 1 && open.iter().all(|&b| b == short[0]);
        open.len() > short.len() && open.starts_with(short) && (is_repeated || is_used(corpus.texts.len(), uses))
    });
    for (open, uses) in longer {
        let text = String::from_utf8_lossy(open);
        let is_longer = |own: &String| {
            own.len() > notation.close.len() && CLOSED_AS_LONGER.reached(closed(corpus, open, own, uses), 100)
        };
        let within = found.iter().any(|known| text.starts_with(&known.open));
        if let Some(own) = closers(&text).into_iter().find(is_longer).filter(|_| !within) {
            found.push(bracket(open, &own, notation.strong));
        }
    }
    found
}

/// The closer of a delimiter in nearly all places: its mirror image, or that of its part from the bracket on.
fn closer(corpus: &Corpus, open: &[u8], uses: &Places) -> Option<String> {
    let [long, short] = closers(&String::from_utf8_lossy(open));
    let shares = [closed(corpus, open, &long, uses), closed(corpus, open, &short, uses)];
    let best = if AS_OFTEN.reached(shares[0], shares[1]) { (long, shares[0]) } else { (short, shares[1]) };
    CLOSED.reached(best.1, 100).then_some(best.0)
}

/// The share of places, in hundredths, where a delimiter is closed before it opens again.
fn closed(corpus: &Corpus, open: &[u8], close: &str, uses: &Places) -> usize {
    let step = uses.len().div_ceil(SAMPLES).max(1);
    let is_closed = |&&(file, at): &&(u32, u32)| {
        let bytes = corpus.texts[file as usize].text.as_bytes();
        let from = at as usize + open.len();
        let rest = &bytes[from..bytes.len().min(from + CLOSER_REACH)];
        let next = memchr::memmem::find(rest, open).unwrap_or(rest.len());
        memchr::memmem::find(rest, close.as_bytes()).is_some_and(|end| end < next + close.len() && end > 0)
    };
    let sampled = uses.iter().step_by(step);
    let count = sampled.len();
    sampled.filter(is_closed).count() * 100 / count.max(1)
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

/// A delimiter read from its end, with its brackets turned.
pub(crate) fn mirror(open: &str) -> String {
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

pub(crate) fn is_sigil(byte: u8) -> bool {
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
            [b'<', b'!', b'-', b'-', tail @ ..] => !tail.iter().any(|b| matches!(b, b'<' | b'-' | b'>')),
            // A parenthesis alone sets off words, not tags.
            [b'<' | b'('] | [b'<', b'!', ..] => false,
            // What comes before a tag of HTML is no part of it.
            [_, tail @ ..] if tail.contains(&b'<') => false,
            _ => key.iter().any(|b| is_open(*b)),
        }
    };
    (1..=run).filter(move |&length| fits(length)).map(move |length| &rest[..length])
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::site::SourceFile;

    #[test]
    fn mirrors_and_comments_close() {
        assert_eq!(mirror("{[%"), "%]}");
        assert_eq!(closers("~!{"), ["}!~", "}"]);
        assert_eq!(closers("<!--:"), [":-->", "-->"]);
    }

    #[test]
    fn a_sign_before_a_brace_is_text_where_braces_alone_are_tags() {
        let opens = |text: &str| {
            let files = ["a", "b", "c"].map(|name| SourceFile::new(format!("{name}.html"), text));
            let mut found: Vec<String> = find(&Corpus::new(&files)).0.into_iter().map(|known| known.open).collect();
            found.retain(|open| open.ends_with('{'));
            found
        };
        let bodies = "^{ width = wide; }<p>^{ tide(a) }</p>\n^if (a) {\n<b>a</b>\n}\n^if (b) {<b>b</b>}\n^if (c) {\n<i>c</i>\n}\n^if (d) {<b>d</b>}\n";
        assert!(opens(bodies).contains(&"^{".to_owned()), "{:?}", opens(bodies));
        let tags = "<a href=\"?{tide}\">{boat}</a>{fare}<b>{crew}</b><i>{pier}</i>{deck}{quay}{buoy}";
        assert_eq!(opens(tags), ["{"]);
    }
}
