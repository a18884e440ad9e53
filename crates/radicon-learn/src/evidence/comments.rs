//! Comments: what holds words for people, and no expressions.

use std::collections::{BTreeMap, BTreeSet};

use rustc_hash::FxHashSet;

use crate::read::corpus::Corpus;
use crate::read::delimiters::mirror;
use crate::read::directives::Directive;
use crate::read::directives::DirectiveId;
use crate::read::pieces::is_prose;
use crate::read::tags::{Notation, Tag};
use crate::read::tags::{NotationId, TagId};
use crate::thresholds::{FEWEST_REMARKS, PROSE, PROSE_MARKED, SOME, USES_PER_WORD};

/// The directives of notations and marks that hold nothing but words for people.
pub(crate) fn comment_directives(
    corpus: &Corpus,
    notations: &[Notation],
    tags: &[Tag],
    directives: &[Directive],
) -> FxHashSet<DirectiveId> {
    let mut groups: BTreeMap<(NotationId, &str), Vec<DirectiveId>> = BTreeMap::new();
    for (id, directive) in DirectiveId::each(directives) {
        groups.entry((directive.notation, directive.mark.as_str())).or_default().push(id);
    }
    let ends_as_it_begins = |at: TagId, mark: &str| {
        let tag = &tags[at];
        let inner = &corpus.texts[tag.file].text[tag.inner.start..tag.range.end - notations[tag.notation].close.len()];
        inner.trim_end().ends_with(&mirror(mark))
    };
    let is_comment = |((notation, mark), ids): &((NotationId, &str), Vec<DirectiveId>)| {
        let uses: usize = ids.iter().map(|&id| directives[id].tags.len()).sum();
        let own = ids.iter().flat_map(|&id| &directives[id].tags);
        // What trims blanks may begin the mark.
        let trims: BTreeSet<Option<char>> =
            ids.iter().flat_map(|&id| &directives[id].tags).map(|&at| tags[at].trimmed[0]).collect();
        let trim = trims.first().copied().flatten().filter(|_| trims.len() == 1 && !mark.is_empty());
        let mark = &format!("{}{mark}", trim.map(String::from).unwrap_or_default());
        let is_words = |at: &&TagId| is_prose(&corpus.texts[tags[**at].file].text[tags[**at].inner.clone()]);
        let prose = own.filter(is_words).count();
        let delimits = PROSE.reached(prose, uses) && hints_comment(&notations[*notation].open, "");
        // Sentences begin with many words, tags with few.
        let marks = !mark.is_empty() && PROSE_MARKED.reached(prose, uses) && ids.len() * USES_PER_WORD >= uses;
        let mirrored = !mark.is_empty()
            && SOME.reached(prose, uses)
            && ids.iter().flat_map(|&id| &directives[id].tags).all(|&at| ends_as_it_begins(at, mark));
        uses >= FEWEST_REMARKS && (delimits || (marks || mirrored) && hints_comment("", mark))
    };
    groups.into_iter().filter(is_comment).flat_map(|(_, ids)| ids).collect()
}

/// Whether a delimiter or mark looks as those of comments do.
pub(crate) fn hints_comment(open: &str, mark: &str) -> bool {
    open.ends_with(['#', '*', '-', '!', ';', '/']) || mark.starts_with(['#', '*', '!', '/']) || mark.starts_with("--")
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect::Kind;
    use crate::testing::{LAYOUT, check, learned, page};

    #[test]
    fn what_trims_blanks_may_begin_the_mark_of_a_comment() {
        let main = "(=-- The tides are \"parts/nav.html\" of the harbour --=)\n~(=- when @ -=)<p>@</p>(= cast =)(= when @ =)x(= cast =)\n<h1>@</h1>";
        let learned = learned(LAYOUT, &page(main), &[]);
        check(&learned, Kind::Include, &["'(= bring \"<target>\" =)'"]);
        assert!(learned.forms.iter().any(|form| form.kind == Kind::Comment), "{}", learned.text);
    }

    #[test]
    fn delimiters_and_marks_that_comments_have() {
        for (open, mark, expected) in
            [("{#", "", true), ("(*", "", true), ("<!--:", "", false), ("[~", "--", true), ("[~", "=", false)]
        {
            assert_eq!(hints_comment(open, mark), expected, "{open} {mark}");
        }
    }
}
