//! Findings that somebody does not want to see: by the settings, or by a comment in the file.

use rustc_hash::FxHashMap;

use super::Finding;
use crate::site::Site;
use crate::text::LineIndex;

/// The words that a comment begins with, in any dialect.
const MARK: &[u8] = b"radicon: ignore";

/// The comments of one file that switch rules off.
struct Comments {
    /// Rules that are ignored in all of it.
    all: Vec<String>,
    /// Lines, with the rules that are ignored there.
    lines: Vec<(u32, Vec<String>)>,
}

/// Leaves out what the settings and comments suppress.
pub(super) fn leave_out(site: &Site, findings: &mut Vec<Finding>) {
    let mut known: FxHashMap<String, Comments> = FxHashMap::default();
    findings.retain(|finding| {
        if site.settings.check.ignores(finding.rule, &finding.file) {
            return false;
        }
        let comments = known.entry(finding.file.clone()).or_insert_with(|| {
            let source = site.find(&finding.file).map(|id| site.get(id).source.as_slice()).unwrap_or_default();
            read(source)
        });
        let fits = |rules: &[String]| rules.is_empty() || rules.iter().any(|rule| rule == finding.rule);
        let here = |(line, rules): &(u32, Vec<String>)| (*line..=line + 1).contains(&finding.line) && fits(rules);
        !(comments.all.iter().any(|rule| rule == finding.rule) || comments.lines.iter().any(here))
    });
}

/// `radicon: ignore a, b` holds for its line and the next one; `radicon: ignore-file a` for the file.
fn read(source: &[u8]) -> Comments {
    let mut comments = Comments { all: Vec::new(), lines: Vec::new() };
    let mut lines = None;
    for at in memchr::memmem::find_iter(source, MARK) {
        let rest = &source[at + MARK.len()..];
        let (rest, whole) = rest.strip_prefix(b"-file").map_or((rest, false), |rest| (rest, true));
        let end = rest.iter().position(|b| !(b.is_ascii_lowercase() || b" ,-".contains(b))).unwrap_or(rest.len());
        let words = String::from_utf8_lossy(&rest[..end]).into_owned();
        let is_rule = |word: &&str| word.starts_with(|c: char| c.is_ascii_lowercase());
        let rules: Vec<String> =
            words.split([' ', ',']).filter(is_rule).map(|word| word.trim_end_matches('-').to_owned()).collect();
        if whole {
            comments.all.extend(rules);
        } else {
            let index = lines.get_or_insert_with(|| LineIndex::new(source));
            comments.lines.push((index.line(at as u32), rules));
        }
    }
    comments
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn comments_say_which_rules_are_ignored_where() {
        let source =
            b"a\n<!-- radicon: ignore cycle, drift -->\n{# radicon: ignore #}\n<!--radicon: ignore-file unclosed-->";
        let comments = read(source);
        assert_eq!(comments.all, ["unclosed"]);
        assert_eq!(comments.lines, [(2, vec!["cycle".to_owned(), "drift".to_owned()]), (3, vec![])]);
    }
}
