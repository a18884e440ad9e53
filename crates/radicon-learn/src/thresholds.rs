//! From when on evidence counts: all numbers that learning decides by.

/// A share of things, in hundredths.
#[derive(Clone, Copy, Debug)]
pub(super) struct Share(pub usize);

impl Share {
    /// Whether some things are as large a share of all, or larger.
    pub fn reached(self, some: usize, all: usize) -> bool {
        some * 100 >= all * self.0
    }
}

// Shares that recur.

/// All, but for what was mistaken.
pub(super) const NEARLY_ALL: Share = Share(90);

/// So many that the others are exceptions.
pub(super) const MOST: Share = Share(60);

/// As many as not.
pub(super) const HALF: Share = Share(50);

/// So many that chance does not explain them.
pub(super) const SOME: Share = Share(33);

// Files.

/// How much of a file is searched for the skeleton of a page, in bytes.
pub(super) const SKELETON_REACH: usize = 4096;

/// The longest name of an element that begins with a sign, in bytes.
pub(super) const LONGEST_ELEMENT: usize = 40;

/// The lines around a header have at least so many signs; it has at most so many lines.
pub(super) const FENCE: usize = 3;
pub(super) const LONGEST_HEADER: usize = 60;

// Delimiters.

/// How many uses of a delimiter are looked at closely.
pub(super) const SAMPLES: usize = 300;

/// The farthest that a closing delimiter may be, in bytes.
pub(super) const CLOSER_REACH: usize = 2000;

/// Of the uses of a delimiter, in hundredths: those that must be closed; and those that must be closed by
/// the mirror image of a longer one, for that to be another.
pub(super) const CLOSED: Share = Share(80);
pub(super) const CLOSED_AS_LONGER: Share = Share(95);

/// A longer delimiter is taken if it has so many of the shorter one's uses, in hundredths.
pub(super) const AS_OFTEN: Share = Share(95);

/// Delimiters of one engine have the same outer bracket, or begin with the same sign. Others must be used
/// at least once for so many uses of the first, in one of so many of its files; fewer do where both ends
/// have a sign of their own.
pub(super) const UNLIKE_SHARE: usize = 20;
pub(super) const UNLIKE_SHARE_SIGNED: usize = 100;

/// A bracket that is so many times as often without the sign before it is the delimiter.
pub(super) const MORE_OFTEN_ALONE: usize = 3;

/// Fewer uses show no delimiter that is by itself.
pub(super) const FEWEST_DELIMITERS: usize = 3;

/// In so few files one use, in one file, may be all there is.
pub(super) const FEW_FILES: usize = 12;

/// So many lines that begin with one sign show that they are code.
pub(super) const FEWEST_CODE_LINES: usize = 20;

// Notations.

/// Of the names after a mark, so many in hundredths must be files, and so many different ones.
pub(super) const NAMED_BEHIND_MARK: Share = Share(60);
pub(super) const FEWEST_NAMED: usize = 3;

/// Behind a mark of its own one name will do, if so many files write it.
pub(super) const FEWEST_FILES_NAMING: usize = 3;

// Tags.

/// The most of a tag that is read, in bytes.
pub(super) const MAX_TAG: usize = 4096;

/// The most arguments of a tag that are looked at.
pub(super) const MAX_TOKENS: usize = 24;

/// A file is learned from up to so many bytes: all words are weighed against each other, and 20,000 in one file take
/// minutes. Of 3,400 templates of fifteen applications two are longer.
pub(super) const MOST_LEARNED: usize = 64 << 10;

/// Of the second words of a word's tags, those that begin other tags, where they belong to the first.
pub(super) const SECOND_WORDS: Share = Share(80);

// Comments.

/// Fewer remarks show nothing.
pub(super) const FEWEST_REMARKS: usize = 3;

/// The share of tags, in hundredths, with words for people that makes a notation a comment; and a mark.
pub(super) const PROSE: Share = Share(90);
pub(super) const PROSE_MARKED: Share = Share(60);

/// A mark's remarks begin with another word at least once in so many.
pub(super) const USES_PER_WORD: usize = 4;

// Names of files.

/// Fewer of a word's tags with an argument in one place, in hundredths, are no place for a name.
pub(super) const LEAST_PLACED: Share = Share(25);

/// The share of names that must be files, where they have a folder or suffix: others may be somebody
/// else's; and where they are bare words, which are files by chance: of all uses, or of different names.
pub(super) const RESOLVED: f64 = 0.5;
pub(super) const RESOLVED_BARE: f64 = 0.9;

/// So many tags show a rule of names by themselves.
pub(super) const SHOWING_RULE: usize = 4;

/// Of all the places that are looked at, fewer than this may be taken for names by chance.
pub(super) const MOST_BY_CHANCE: f64 = 0.3;

/// How many files' names are thought to have gone unseen among those that are looked at.
pub(super) const UNSEEN: f64 = 0.1;

/// Files that name each other in a ring are no parents or partials: at most so large a share of what a
/// place names may be in one.
pub(super) const IN_RINGS: f64 = 0.05;

/// The longest name of a file that is looked up, in bytes.
pub(super) const LONGEST_NAME: usize = 200;

// Pairs.

/// The share of files in which pairs must nest rightly.
pub(super) const NESTED: f64 = 0.85;

/// The share of its tags, in hundredths, in which a word without arguments has none.
pub(super) const ARGLESS: Share = Share(98);

/// The longest affix that makes a closer of an opener's word, in bytes.
pub(super) const LONGEST_AFFIX: usize = 12;

/// How often the closers of an affix must be used that one word alone has.
pub(super) const FEWEST_OF_ONE: usize = 3;

/// What divides pairs is used at least once for so many of them.
pub(super) const PAIRS_PER_BRANCH: usize = 20;

/// What closes an opener's pairs closes at least one in so many; a brace may be followed by anything.
pub(super) const PAIRS_PER_CLOSER: usize = 20;

/// A word must close what is left open so often, in one file or in several.
pub(super) const FEWEST_LEFT_OPEN: usize = 2;

/// Of the uses of what divides pairs, those with whole elements on both sides.
pub(super) const BALANCED: Share = Share(70);

// General closers.

/// A choice of words is tried without each of them until so many files nest, at most so often.
pub(super) const WELL_NESTED: f64 = 0.97;
pub(super) const MOST_CHANGES: usize = 6;

/// In more files than this the counts speak for themselves.
pub(super) const MANY_FILES: usize = 40;

/// How often closers are looked for among those that are left.
pub(super) const MOST_ROUNDS: usize = 3;

/// How many closers may end the same pairs.
pub(super) const MOST_TOGETHER: usize = 3;

/// The share of a word's uses that a general closer must answer to.
pub(super) const ANSWERED: f64 = 0.9;

/// What a word without arguments counts as an opener, and what each further opener costs: values that
/// are printed look the same, and few words are likelier than many.
pub(super) const BARE_OPENER: f64 = 0.9;
pub(super) const EACH_OPENER: f64 = 0.98;

/// What each further closer costs where the pairs come out even: what divides pairs looks like one.
pub(super) const EACH_CLOSER: f64 = 0.6;

/// How many words are looked at as general closers: those that are used most.
pub(super) const MOST_CLOSERS: usize = 6;

/// How many different words must begin the tags that one word or sign opens at their end.
pub(super) const FEWEST_FIRSTS: usize = 3;

// Meanings.

/// Of how well the best regions recur: what recurs less well is none; nor are pairs that something divides, if
/// their names are bare words, which conditions have too.
pub(super) const WEAK_REGION: f64 = 0.08;
pub(super) const WEAK_DIVIDED: f64 = 0.5;

/// What names a layout is once in its file, before everything else: of its files and uses.
pub(super) const ON_TOP: Share = Share(80);

/// Of a word's uses, those that name one thing and no more; others loop or compare.
pub(super) const PLAINLY_NAMED: Share = Share(95);

/// Of the uses of the replaced content, those whose region has content above.
pub(super) const ABOVE: Share = Share(70);

/// The share of a file's names that must recur up its chain.
pub(super) const RECUR: f64 = 0.3;

/// Where only code names layouts, names must recur in so many files, and so large a share of them.
pub(super) const FEWEST_BY_CODE: usize = 3;
pub(super) const RECUR_BY_CODE: f64 = 0.6;

/// A layout that no file names holds for at least one in so many files without a skeleton.
pub(super) const COVERED_PAGES: usize = 2;

// Forms.

/// Of the uses of a general closer at most one in so many has a remark.
pub(super) const PER_REMARK: usize = 50;

/// So many elements of a name must hold statements.
pub(super) const FEWEST_ELEMENTS: usize = 2;

/// How far after the word of an include its name may be, in tokens.
pub(super) const NAME_REACH: usize = 8;

/// Of the names of a kind, in hundredths, those that show where all of them start; and those that
/// show that the naming file's folder comes first.
pub(super) const SHARE_A_START: Share = Share(95);
pub(super) const SHARE_THEIR_FOLDER: Share = Share(30);

// What is learned apart.

/// Of the files that one notation names, another must name at least one for so many.
pub(super) const NAMED_SHARE: usize = 20;

/// How many files of each engine must name a layout.
pub(super) const LEAST_CHILDREN: usize = 2;

/// One in so many files of a suffix must hold elements that only pages have: fragments may have none, settings and
/// data have none at all (in fifteen real trees one in three and more do, of settings none).
pub(super) const ONE_OF_PAGES_IN: usize = 10;

// What is kept.

/// Of the names that a form brings, at most one in so many may lead nowhere.
pub(super) const ONE_MISS_IN: usize = 4;

/// A reading that misreads at most one pair in so many files needs no other: the bar of a hundred, and some dirt.
pub(super) const FILES_PER_MISREADING: usize = 200;

/// A pair is suspected from so many misreadings for a hundred of its uses on.
pub(super) const SUSPECT: Share = Share(10);

/// Of the pairs that are misread, so many kinds are tried without: those with most misreadings.
pub(super) const MOST_SUSPECTS: usize = 4;

/// At least this many files must show the structure of a dialect that nobody knew, and one in
/// [`SHOWING_ONE_IN`] of those it was learned from: pages beside it may have none.
pub(super) const FEWEST_SHOWING: usize = 2;
pub(super) const SHOWING_ONE_IN: usize = 20;

// The words of a site beside a known dialect.

/// What is said must be said so often, in so many files.
pub(super) const FEWEST_OWN_USES: usize = 4;
pub(super) const FEWEST_OWN_FILES: usize = 3;

/// Used so often it is sure.
pub(super) const SURE_USES: usize = 12;

/// Of the uses of the replaced content, in hundredths: those inside overrides (measured on real trees: 96 and
/// more), those whose region has content above (68 and more), and those at an edge of the override (73 and more).
pub(super) const INSIDE: Share = Share(95);
pub(super) const CONTENT_ABOVE: Share = Share(60);
pub(super) const AT_EDGE: Share = Share(70);

/// What is taken for it must be used in so many times as many files as what fits next best.
pub(super) const TIMES_AHEAD: usize = 3;

/// Of the files with a parent that names nothing, in hundredths: those that hide another one, and of their blocks
/// those that the hidden file has, or a layout of it.
pub(super) const HIDING: Share = Share(70);
pub(super) const RECURRING: Share = Share(46);

#[cfg(test)]
mod tests {

    use super::Share;

    #[test]
    fn a_share_is_reached_from_its_hundredths_on() {
        for (share, some, all, reached) in
            [(50, 1, 2, true), (50, 1, 3, false), (95, 19, 20, true), (95, 18, 20, false), (100, 3, 3, true)]
        {
            assert_eq!(Share(share).reached(some, all), reached, "{some} of {all} at {share}");
        }
    }
}
