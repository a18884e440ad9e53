//! The files to learn from, and which files a written name may mean.

use radicon_markup::id;
use std::ops::Range;

use rustc_hash::{FxHashMap, FxHashSet};

use crate::read::pieces::is_word;
use crate::site::{SourceFile, folder};
use crate::thresholds::{FENCE, HALF, LONGEST_ELEMENT, LONGEST_HEADER, MOST_LEARNED, SKELETON_REACH};

id!(
    /// A file that is learned from.
    pub(crate) TextId: Text
);
id!(
    /// A file of the site, learned from or not.
    pub(crate) FileId:
);

/// One file as text; bytes that are not UTF-8 are replaced.
#[derive(Clone)]
pub(crate) struct Text {
    pub path: String,
    pub text: String,
    /// Scripts and styles, which look like many notations.
    quiet: Vec<Range<usize>>,
    /// Elements that begin with a sign and hold statements of a program.
    pub code: Vec<Range<usize>>,
    /// The lines of the header that begins it, without those around it.
    pub header: Range<usize>,
    has_skeleton: bool,
}

impl Text {
    pub fn new(file: &SourceFile) -> Self {
        // A byte-order mark is whitespace to everything that follows.
        let text = String::from_utf8_lossy(some_lines(&file.bytes)).replace('\u{feff}', "   ");
        let (quiet, code) = (quiet_ranges(&text), code_ranges(&text));
        let head = text.get(..SKELETON_REACH).unwrap_or(&text).to_ascii_lowercase();
        let has_skeleton = ["<html", "<!doctype", "<body", "<head>", "<title"].iter().any(|tag| head.contains(tag));
        let header = header(&text);
        Self { path: file.path.clone(), text, quiet, code, header, has_skeleton }
    }

    /// The line before its header and after it.
    pub fn fence(&self) -> Option<&str> {
        (!self.header.is_empty()).then(|| self.text[..self.header.start].trim())
    }

    /// Whether a place lies in a script or style, or in code.
    pub fn is_quiet(&self, at: usize) -> bool {
        self.is_code(at) || lies_in(&self.quiet, at)
    }

    /// Whether a place lies in an element that holds statements, or in the header.
    pub fn is_code(&self, at: usize) -> bool {
        self.header.contains(&at) || lies_in(&self.code, at)
    }

    /// The line of a place, from 1.
    pub fn line(&self, at: usize) -> usize {
        1 + self.text.as_bytes()[..at].iter().filter(|&&b| b == b'\n').count()
    }

    /// Whether it has the skeleton of a whole page.
    pub fn has_skeleton(&self) -> bool {
        self.has_skeleton
    }
}

/// The lines between two of one sign alone, of which the first begins a text; nothing if there are none.
fn header(text: &str) -> Range<usize> {
    let (first, rest) = text.split_once('\n').unwrap_or_default();
    let fence = first.trim();
    let is_fence = fence.len() >= FENCE
        && fence.starts_with(|c: char| c.is_ascii_punctuation() && !"<>/{}".contains(c))
        && fence.bytes().all(|b| b == fence.as_bytes()[0]);
    let start = text.len() - rest.len();
    let mut end = start;
    for line in rest.split_inclusive('\n').take(if is_fence { LONGEST_HEADER } else { 0 }) {
        if line.trim_end() == fence {
            return start..end;
        }
        end += line.len();
    }
    0..0
}

/// As many of the first lines as are learned from.
fn some_lines(bytes: &[u8]) -> &[u8] {
    let Some(most) = bytes.get(..MOST_LEARNED) else { return bytes };
    &most[..memchr::memrchr(b'\n', most).map_or(most.len(), |end| end + 1)]
}

/// The contents of scripts and styles.
fn quiet_ranges(text: &str) -> Vec<Range<usize>> {
    let lower = text.to_ascii_lowercase();
    let mut ranges = Vec::new();
    let mut at = 0;
    while let Some(found) = lower[at..].find("<s").map(|found| found + at) {
        at = found + 2;
        for (open, close) in [("<script", "</script"), ("<style", "</style")] {
            let opens = lower[found..].starts_with(open)
                && lower[found + open.len()..].starts_with(|c: char| c == '>' || c.is_whitespace());
            if let Some(start) = opens.then(|| lower[found..].find('>')).flatten().map(|end| found + end + 1) {
                let end = lower[start..].find(close).map_or(lower.len(), |end| start + end);
                ranges.push(start..end);
                at = end;
            }
        }
    }
    ranges
}

fn lies_in(ranges: &[Range<usize>], at: usize) -> bool {
    let after = ranges.partition_point(|range| range.end <= at);
    ranges.get(after).is_some_and(|range| range.start <= at)
}

/// The elements that begin with a sign and hold statements of a program.
fn code_ranges(text: &str) -> Vec<Range<usize>> {
    let bytes = text.as_bytes();
    let mut open: FxHashMap<String, usize> = FxHashMap::default();
    let mut ranges: Vec<Range<usize>> = Vec::new();
    for at in memchr::memchr_iter(b'<', bytes) {
        let closes = bytes.get(at + 1) == Some(&b'/');
        let start = at + 1 + usize::from(closes);
        let word = bytes.iter().skip(start + 1).take(LONGEST_ELEMENT).take_while(|b| is_word(**b)).count();
        let end = start + 1 + word;
        let is_signed = word > 0 && bytes[start].is_ascii_punctuation();
        let Some(name) = text.get(start..end).filter(|_| is_signed).map(str::to_ascii_lowercase) else { continue };
        if !closes {
            open.insert(name, at);
        } else if bytes.get(end) == Some(&b'>')
            && let Some(begin) = open.remove(&name)
            && ranges.last().is_none_or(|last| last.end <= begin)
            && text.get(begin + 1 + name.len()..at).is_some_and(is_code)
        {
            ranges.push(begin..end + 1);
        }
    }
    ranges
}

/// Whether most lines of a text end as statements do.
fn is_code(text: &str) -> bool {
    let lines = || text.lines().map(str::trim_end).filter(|line| !line.trim().is_empty());
    let is_statement =
        |line: &&str| line.ends_with([';', '{', '}', ',', '(']) || line.trim_start().starts_with(['$', '@', '%']);
    let statements = lines().filter(is_statement).count();
    statements > 0 && HALF.reached(statements, lines().count())
}

/// How a written name becomes a file: what stands for `/`, before and after its last part.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(crate) struct Naming {
    pub separator: String,
    pub prefix: String,
    pub suffix: String,
}

/// All files of the site by what their names may be written as.
pub(crate) struct Index<'f> {
    paths: Vec<&'f str>,
    /// For each stem the files, with the prefix and suffix that are not written.
    stems: FxHashMap<&'f str, Vec<(FileId, &'f str, &'f str)>>,
}

impl<'f> Index<'f> {
    pub fn new(files: &'f [SourceFile]) -> Self {
        let paths: Vec<&str> = files.iter().map(|file| file.path.as_str()).collect();
        let mut stems: FxHashMap<&str, Vec<(FileId, &str, &str)>> = FxHashMap::default();
        for (id, path) in FileId::each(&paths) {
            let name = path.rsplit('/').next().unwrap_or(path);
            let marks = name.bytes().take_while(|b| b.is_ascii_punctuation() && *b != b'.').count();
            let starts: FxHashSet<usize> = [0, marks].into_iter().collect();
            for start in starts {
                let ends = name[start..].match_indices('.').map(|(at, _)| start + at).filter(|&at| at > start);
                for end in ends.chain([name.len()]) {
                    stems.entry(&name[start..end]).or_default().push((id, &name[..start], &name[end..]));
                }
            }
        }
        Self { paths, stems }
    }

    pub fn path(&self, id: FileId) -> &'f str {
        self.paths[id.index()]
    }

    /// Every way in which a written name ends the path of a file; if none, in which it does so behind the name of
    /// an application that is in the path.
    pub fn readings(&self, written: &str, separators: &[&str]) -> Vec<(Naming, FileId)> {
        let found = self.endings(strip_start(written), separators);
        if !found.is_empty() {
            return found;
        }
        let Some((application, rest)) = application(written) else { return found };
        let mut found = self.endings(rest, separators);
        found.retain(|(_, id)| folder(self.path(*id)).split('/').any(|part| part == application));
        found
    }

    fn endings(&self, plain: &str, separators: &[&str]) -> Vec<(Naming, FileId)> {
        let mut found = Vec::new();
        for (at, &separator) in separators.iter().enumerate() {
            // A name without a folder says nothing about the separator.
            if at > 0 && !plain.contains(separator) {
                continue;
            }
            let parts: Vec<&str> = plain.split(separator).collect();
            let Some((last, folders)) = parts.split_last().filter(|_| parts.iter().all(|part| !part.is_empty())) else {
                continue;
            };
            for &(id, prefix, suffix) in self.stems.get(last).into_iter().flatten() {
                let own: Vec<&str> = folder(self.path(id)).split('/').filter(|part| !part.is_empty()).collect();
                if own.ends_with(folders) {
                    let naming = Naming { separator: separator.into(), prefix: prefix.into(), suffix: suffix.into() };
                    found.push((naming, id));
                }
            }
        }
        found
    }
}

/// A written name without what says where it starts.
pub(crate) fn strip_start(written: &str) -> &str {
    let mut rest = written;
    while let Some(shorter) = ["./", "../", "/", "~/", "@/"].iter().find_map(|start| rest.strip_prefix(start)) {
        rest = shorter;
    }
    rest
}

/// The application that a written name may begin with, and what follows: `~fares/row`, `fares::row`.
pub(crate) fn application(written: &str) -> Option<(&str, &str)> {
    let plain = written.trim_start_matches(|c: char| !c.is_alphanumeric() && c != '.' && c != '/');
    let separator = ["::", ":", "/"].into_iter().find(|separator| plain.contains(separator))?;
    plain.split_once(separator).filter(|(application, rest)| !application.is_empty() && !rest.is_empty())
}

/// The files of one kind.
pub(crate) struct Corpus {
    pub texts: Vec<Text>,
    pub by_path: FxHashMap<String, TextId>,
}

impl Corpus {
    pub fn new<'a>(files: impl IntoIterator<Item = &'a SourceFile>) -> Self {
        Self::of(files.into_iter().map(Text::new).collect())
    }

    pub fn of(texts: Vec<Text>) -> Self {
        let by_path = TextId::each(&texts).map(|(id, text)| (text.path.clone(), id)).collect();
        Self { texts, by_path }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_name_may_end_the_path_of_a_file() {
        let files: Vec<SourceFile> = ["views/parts/_nav.sail.html", "views/base.sail.html", "other/base.html"]
            .iter()
            .map(|path| SourceFile::new(*path, ""))
            .collect();
        let index = Index::new(&files);
        let read = |written: &str| {
            let found = index.readings(written, &["/", "."]);
            found
                .into_iter()
                .map(|(n, id)| format!("{}|{}|{} {}", n.separator, n.prefix, n.suffix, id.0))
                .collect::<Vec<_>>()
        };
        assert_eq!(read("parts.nav"), [".|_|.sail.html 0"]);
        assert_eq!(read("../parts/nav"), ["/|_|.sail.html 0"]);
        assert_eq!(read("base"), ["/||.sail.html 1", "/||.html 2"]);
        assert_eq!(read("other/base.html"), ["/|| 2"]);
        assert!(read("gone").is_empty() && read("a//b").is_empty() && read("").is_empty());
    }

    #[test]
    fn elements_that_begin_with_a_sign_may_hold_statements() {
        let code = |text: &str| code_ranges(text).into_iter().map(|range| text[range].to_owned()).collect::<Vec<_>>();
        assert_eq!(code("a<~on>\nx = 1;\n</~ON>b<~off>\n<p>x</p>\n</~off>"), ["<~on>\nx = 1;\n</~ON>"]);
        assert!(code("</~on><~on>x;</~off></p><p>x;</p>").is_empty());
    }

    #[test]
    fn scripts_and_styles_are_quiet() {
        let file = SourceFile::new("a.html", "\u{feff}<script x>a</script><style>b</style>c");
        let text = Text::new(&file);
        let quiet = |what: &str| text.is_quiet(text.text.find(what).expect(what));
        assert!(quiet("a<") && quiet("b<") && !quiet("c") && !quiet("<script"));
        assert!(text.text.starts_with("   <"), "a byte-order mark is white space");
    }
}
