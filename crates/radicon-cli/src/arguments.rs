//! The arguments, as people write them.

use std::path::PathBuf;

use clap::{ArgAction, Args, Parser, Subcommand, ValueEnum};
use radicon::{Choice, Partials, Severity, Strength};

/// Turns copied page skeletons into layouts with named blocks, and proves that
/// no page changed.
#[derive(Parser, Debug)]
#[command(name = "radicon", version, disable_help_flag = true, max_term_width = 100, after_help = AFTER)]
pub struct Arguments {
    /// The site's folder [default: the nearest one upwards with a radicon.toml, else this one].
    #[arg(long, global = true, value_name = "DIR")]
    pub site: Option<PathBuf>,
    /// How to print results.
    #[arg(long, global = true, value_enum, default_value_t = Format::Text)]
    pub format: Format,
    /// Print help; `radicon help COMMAND` prints more of it.
    #[arg(short, long, global = true, action = ArgAction::HelpShort)]
    pub help: Option<bool>,
    /// What to do.
    #[command(subcommand)]
    pub command: Command,
}

const AFTER: &str =
    "Start with `radicon survey`, or with `radicon demo DIR` to see the whole job done on a made-up site.
Exit code 0: fine; 1: differences or a proof that failed; 2: wrong use or unreadable input.";

/// How results are printed.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum Format {
    /// For people.
    Text,
    /// For programs; the schemas are in docs/schema.
    Json,
}

/// What to do.
#[derive(Subcommand, Debug)]
pub enum Command {
    /// What is there: files by role and dialect, roots, sizes, and the next thing to do.
    #[command(after_help = "Example: radicon --site shop survey")]
    Survey,
    /// The override chain of a page or layout: for each block who defines it and who wins.
    #[command(after_help = "Examples: radicon chain harbours/heronsea.html\n          radicon chain --block title")]
    Chain {
        /// A page or layout, by its path or as the site names it.
        #[arg(required_unless_present = "block")]
        page: Option<String>,
        /// One block over all pages instead.
        #[arg(long, value_name = "NAME", conflicts_with = "page")]
        block: Option<String>,
    },
    /// A page put together from its layouts and partials.
    #[command(
        after_help = "Examples: radicon flatten fares.html --origins\n          radicon flatten --all --into ../finished"
    )]
    Flatten {
        /// A page, by its path or as the site names it.
        #[arg(required_unless_present = "all")]
        page: Option<String>,
        /// Show beside each line which file and line it comes from.
        #[arg(long)]
        origins: bool,
        /// Write a source map (ECMA-426) of the page into a file.
        #[arg(long, value_name = "FILE", conflicts_with = "all")]
        source_map: Option<PathBuf>,
        /// Put all pages together, with the site's other files beside them.
        #[arg(long, requires = "into", conflicts_with_all = ["page", "origins"])]
        all: bool,
        /// The new folder for the finished pages.
        #[arg(long, value_name = "DIR", requires = "all")]
        into: Option<PathBuf>,
    },
    /// How template engines are described: the known dialects, and how a file is read.
    #[command(after_help = "Example: radicon dialect try fares.html")]
    #[command(subcommand)]
    Dialect(DialectCommand),
    /// What was copied, where, how much of it, and which copies were left behind.
    #[command(
        after_help = "Examples: radicon repeats --folder harbours\n          radicon repeats --max-share 20   (as a gate: exit code 1 above)"
    )]
    Repeats(RepeatArguments),
    /// Propose layouts and partials for pages that were copied from each other, with their proof.
    #[command(after_help = "Examples: radicon propose --show\n          radicon propose --patch layouts.patch")]
    Propose(ProposeArguments),
    /// Are all pages the same? Compares two folders, or revisions of the site.
    #[command(after_help = "Examples: radicon prove HEAD\n          radicon prove ../old ../new --strength bytes")]
    Prove {
        /// The site as it was: a folder, or a revision such as HEAD or v1.2.
        old: PathBuf,
        /// The site as it is now [default: the site].
        new: Option<PathBuf>,
        /// The weakest strength that still counts as equal.
        #[arg(long, value_enum, default_value_t = StrengthArgument::Dom)]
        strength: StrengthArgument,
        /// Go on, and prove again whenever a file of the new site changes.
        #[arg(long)]
        watch: bool,
    },
    /// What is wrong or suspicious: broken names, lost content, ids that clash, and more.
    #[command(after_help = "Examples: radicon check --sarif findings.sarif\n          radicon check --watch")]
    Check(CheckArguments),
    /// One refactoring, with its proof; shows the difference, and --write writes it.
    #[command(after_help = "Example: radicon step extract fares.html:footer footer --all --write")]
    Step {
        /// Which one.
        #[command(subcommand)]
        step: StepCommand,
        /// Write it into the site.
        #[arg(long, global = true)]
        write: bool,
        /// What does not keep it from writing.
        #[command(flatten)]
        allow: Allow,
    },
    /// Write the proposal into the site, all files or none.
    #[command(after_help = "Examples: radicon adopt\n          radicon adopt --undo")]
    Adopt {
        /// How to propose.
        #[command(flatten)]
        how: How,
        /// Which changes to write.
        #[command(flatten)]
        chosen: Chosen,
        /// Take the last adoption back.
        #[arg(long)]
        undo: bool,
        /// What does not keep it from writing.
        #[command(flatten)]
        allow: Allow,
    },
    /// Write templates in another dialect, and list each place that a person must look at.
    #[command(after_help = "Example: radicon translate --to margin --into ../new")]
    Translate {
        /// The templates [default: all of the site].
        files: Vec<String>,
        /// The dialect to write.
        #[arg(long, value_name = "DIALECT")]
        to: String,
        /// Write the translated files into a new folder.
        #[arg(long, value_name = "DIR")]
        into: Option<PathBuf>,
        /// Also write templates with what the other dialect cannot say; such tags are kept as they were.
        #[arg(long)]
        partly: bool,
    },
    /// Everything about the site on one HTML page: the map of layouts, blocks by pages, what each
    /// page is made of, repeats side by side, findings.
    #[command(after_help = "Example: radicon report --out report.html")]
    Report {
        /// The page's file; it needs no other file and no network.
        #[arg(long, value_name = "FILE")]
        out: Option<PathBuf>,
    },
    /// Write the demo site into a new folder and run the whole job on it.
    #[command(after_help = "Example: radicon demo /tmp/tidewater")]
    Demo {
        /// A folder that does not exist yet, or is empty.
        dir: PathBuf,
    },
    /// Completions of the command line for a shell, to standard output.
    #[command(after_help = "Example: radicon completions bash > ~/.local/share/bash-completion/completions/radicon")]
    Completions {
        /// Which one.
        shell: clap_complete::Shell,
    },
    /// Write the manual pages into a folder, one a command.
    #[command(after_help = "Example: radicon manual ~/.local/share/man/man1")]
    Manual {
        /// The folder.
        dir: PathBuf,
    },
}

/// What to propose, and what to show of it.
#[derive(Args, Debug)]
pub struct ProposeArguments {
    /// How to propose.
    #[command(flatten)]
    pub how: How,
    /// Which changes to propose.
    #[command(flatten)]
    pub chosen: Chosen,
    /// Print the proposed layouts and partials too.
    #[arg(long)]
    pub show: bool,
    /// Say instead why a file becomes what it is: what it costs with and without.
    #[arg(long, value_name = "PATH")]
    pub explain: Option<String>,
    /// Write the whole new site, untouched files too, into a new folder.
    #[arg(long, value_name = "DIR")]
    pub into: Option<PathBuf>,
    /// Write the changes as a patch that `git apply` takes.
    #[arg(long, value_name = "FILE")]
    pub patch: Option<PathBuf>,
}

/// How bad a finding is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum SeverityArgument {
    /// A page fails or loses content.
    Error,
    /// Very likely a mistake.
    Warning,
    /// Worth a look.
    Hint,
}

impl From<SeverityArgument> for Severity {
    fn from(argument: SeverityArgument) -> Self {
        match argument {
            SeverityArgument::Error => Self::Error,
            SeverityArgument::Warning => Self::Warning,
            SeverityArgument::Hint => Self::Hint,
        }
    }
}

/// What does not keep a command from writing.
#[derive(Args, Clone, Copy, Debug)]
pub struct Allow {
    /// Also change files with changes that are not committed.
    #[arg(long, global = true)]
    pub uncommitted: bool,
    /// Also write what is proven only if the tags that the proof lists are read as they are meant.
    #[arg(long, global = true)]
    pub assume: bool,
}

/// What to look for, and what to do with it.
#[derive(Args, Debug)]
pub struct CheckArguments {
    /// Only findings in these files [default: all].
    pub files: Vec<String>,
    /// Only these rules.
    #[arg(long, value_name = "RULE", value_delimiter = ',')]
    pub rule: Vec<String>,
    /// One line a finding, without the source.
    #[arg(long)]
    pub brief: bool,
    /// The least that makes the exit code 1.
    #[arg(long, value_enum, value_name = "SEVERITY", default_value_t = SeverityArgument::Warning)]
    pub fail_on: SeverityArgument,
    /// Leave out the findings that this file lists; if there is none, write it with all there are.
    #[arg(long, value_name = "FILE", conflicts_with_all = ["mend", "explain"])]
    pub baseline: Option<PathBuf>,
    /// Make the mends that are sure, as one change; `radicon adopt --undo` takes it back.
    #[arg(long)]
    pub mend: bool,
    /// What does not keep it from writing.
    #[command(flatten)]
    pub allow: Allow,
    /// Go on, and check again whenever a file changes; `drift` is looked for only if it is named.
    #[arg(long, conflicts_with_all = ["mend", "sarif", "explain"])]
    pub watch: bool,
    /// Also write the findings into a file in SARIF 2.1.0.
    #[arg(long, value_name = "FILE")]
    pub sarif: Option<PathBuf>,
    /// Say instead what a rule looks for and how to mend it.
    #[arg(long, value_name = "RULE", conflicts_with_all = ["mend", "sarif", "rule"])]
    pub explain: Option<String>,
}

/// One refactoring. A PLACE is written FILE:LINE, FILE:LINE-LINE or FILE:ELEMENT, such as
/// page.html:nav, page.html:#menu or page.html:div.side.
#[derive(Subcommand, Debug)]
pub enum StepCommand {
    /// A stretch of markup becomes a partial.
    #[command(
        after_help = "Example: radicon step extract fleet.html:div.boat boat --with name=Heron --with link=heron --all"
    )]
    Extract {
        /// The stretch: FILE:LINE, FILE:LINE-LINE, or FILE:ELEMENT such as page.html:nav, page.html:#menu or
        /// page.html:div.side.
        place: String,
        /// What to call the partial.
        name: String,
        /// Replace every other copy too, however it is indented, also those in another dialect.
        #[arg(long)]
        all: bool,
        /// A parameter, and the text of the stretch that it stands for; other copies may have another text there.
        #[arg(long, value_name = "NAME=TEXT")]
        with: Vec<String>,
    },
    /// A partial's content takes the place of its includes.
    Inline {
        /// The partial.
        partial: String,
    },
    /// A stretch of a layout becomes a named block with this content as its default.
    Open {
        /// The stretch: FILE:LINE, FILE:LINE-LINE, or FILE:ELEMENT such as page.html:nav.
        place: String,
        /// What to call the block.
        block: String,
    },
    /// A block gets another name, in all layouts and pages that know it.
    Rename {
        /// A template that knows the block.
        file: String,
        /// Its name.
        old: String,
        /// Its new name.
        new: String,
    },
    /// What all children of a layout say in a block, the layout says for them.
    PullUp {
        /// The layout.
        layout: String,
        /// The block.
        block: String,
    },
    /// What a layout says in a block, its children say themselves.
    PushDown {
        /// The layout.
        layout: String,
        /// The block.
        block: String,
    },
    /// Overrides are put into the order in which the layout has its blocks.
    Reorder {
        /// The files [default: all].
        files: Vec<String>,
    },
    /// The parent lines of a folder's pages become a rule in radicon.toml.
    DefaultLayout {
        /// The folder, from the site's folder; `.` for all of it.
        folder: String,
    },
    /// A header and a footer partial become a layout with a block between them.
    Fuse {
        /// The partial at the top of the pages.
        head: String,
        /// The partial at their end.
        foot: String,
        /// The layout's path.
        #[arg(long, value_name = "PATH", default_value = "layouts/base.html")]
        layout: String,
        /// What to call the block.
        #[arg(long, value_name = "NAME", default_value = "content")]
        block: String,
    },
    /// A layout between base and pages goes; its children say themselves what it said.
    Collapse {
        /// The layout.
        layout: String,
    },
}

/// Which repeats to look for.
#[derive(Args, Debug)]
pub struct RepeatArguments {
    /// Show one group: its copies and where they differ.
    pub group: Option<String>,
    /// Only groups with a copy beneath this folder.
    #[arg(long, value_name = "DIR")]
    pub folder: Option<String>,
    /// Only groups with a copy in this dialect.
    #[arg(long, value_name = "NAME")]
    pub dialect: Option<String>,
    /// Only groups of this kind.
    #[arg(long, value_enum)]
    pub kind: Option<KindArgument>,
    /// The least length of a repeat, in bytes.
    #[arg(long, value_name = "BYTES", default_value_t = radicon::RepeatOptions::default().min_bytes)]
    pub min_bytes: u32,
    /// What a group must save, in bytes.
    #[arg(long, value_name = "BYTES")]
    pub min_saving: Option<u64>,
    /// How alike near copies must be, in percent.
    #[arg(long, value_name = "PERCENT", default_value_t = 60, value_parser = clap::value_parser!(u8).range(1..=100))]
    pub similarity: u8,
    /// Look for exact copies only.
    #[arg(long)]
    pub exact: bool,
    /// Differences that count, though they usually do not.
    #[arg(long, value_enum, value_name = "WHAT", value_delimiter = ',')]
    pub count: Vec<CountArgument>,
    /// Fail (exit code 1) if more than this share of all bytes stands in a repeat.
    #[arg(long, value_name = "PERCENT")]
    pub max_share: Option<f64>,
}

/// Whether copies are the same.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum KindArgument {
    /// Identical after normalising.
    Same,
    /// Identical but for a few differences.
    Alike,
}

/// What usually does not count when markup is compared.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum CountArgument {
    /// White space between elements and words.
    Blanks,
    /// The order of attributes and classes.
    Attributes,
    /// Letter case of tags.
    Case,
    /// Characters written as references.
    References,
    /// How a URL of the same place is written.
    Urls,
    /// In which dialect a construct is written.
    Constructs,
}

/// What to do with dialects.
#[derive(Subcommand, Debug)]
pub enum DialectCommand {
    /// The dialects that this site may be written in, and what is read in them.
    List,
    /// The file of a dialect, to look at or to start one's own from.
    Show {
        /// Its name.
        name: String,
    },
    /// Work out how the site's engine writes its constructs, from the site alone.
    Learn {
        /// The folder to learn from [default: the site].
        dir: Option<PathBuf>,
        /// Some pages as the engine renders them: they settle what templates alone cannot show.
        #[arg(long, value_name = "DIR")]
        rendered: Option<PathBuf>,
        /// Keep what is learned: dialect files into `dialects/`, folder rules into radicon.toml.
        #[arg(long)]
        write: bool,
    },
    /// How a file is read, construct by construct, and what is not understood.
    Try {
        /// The file.
        file: String,
        /// Read it in this dialect [default: the one the site reads it in].
        #[arg(long, value_name = "NAME")]
        dialect: Option<String>,
    },
}

/// How to propose.
#[derive(Args, Debug)]
pub struct How {
    /// What of the pages stays the same.
    #[arg(long, value_enum, default_value_t = StrengthArgument::Blanks)]
    pub strength: StrengthArgument,
    /// The dialect to write [default: that of the site's layouts, else margin].
    #[arg(long, value_name = "NAME")]
    pub dialect: Option<String>,
    /// What a block must save, in bytes; higher gives fewer, bigger blocks
    /// [default: 100]
    #[arg(long, value_name = "BYTES")]
    pub block_price: Option<u64>,
    /// Fewer and bigger blocks than usual, at the price of some size.
    #[arg(long, conflicts_with_all = ["block_price", "small"])]
    pub tidy: bool,
    /// As small as possible: more and smaller blocks, short names; takes three to five times as long.
    #[arg(long, conflicts_with = "block_price")]
    pub small: bool,
    /// The most levels of layouts; 1 for a base layout without sections
    /// [default: 8]
    #[arg(long, value_name = "N")]
    pub levels: Option<usize>,
    /// What a section's layout or a partial must save, in bytes [default: for a section three times the price of a block and a 200th of its family, for a partial twice the price and a 20,000th of all].
    #[arg(long, value_name = "BYTES")]
    pub min_saving: Option<u64>,
    /// First make copies that were left behind like the others; lists each page that this changes.
    #[arg(long)]
    pub heal: bool,
    /// Which partials to make [default: repeats].
    #[arg(long, value_enum)]
    pub partials: Option<PartialsArgument>,
}

/// Which changes of a proposal are meant.
#[derive(Args, Debug, Default)]
pub struct Chosen {
    /// Only these changes, by their numbers or paths.
    #[arg(long, value_name = "CHANGE", num_args = 1.., value_delimiter = ',')]
    pub only: Vec<String>,
    /// All changes but these, by their numbers or paths.
    #[arg(long, value_name = "CHANGE", num_args = 1.., value_delimiter = ',', conflicts_with = "only")]
    pub except: Vec<String>,
}

impl Chosen {
    /// The changes that are meant.
    pub fn choice(&self) -> Choice {
        match (&self.only[..], &self.except[..]) {
            ([], []) => Choice::All,
            ([], except) => Choice::Except(except.to_vec()),
            (only, _) => Choice::Only(only.to_vec()),
        }
    }
}

impl How {
    /// Whether it says nothing.
    pub fn is_usual(&self) -> bool {
        let Self { strength, dialect, block_price, tidy, small, levels, min_saving, heal, partials } = self;
        let flags = *tidy || *small || *heal;
        let values = block_price.is_some() || levels.is_some() || min_saving.is_some() || partials.is_some();
        *strength == StrengthArgument::Blanks && dialect.is_none() && !flags && !values
    }
}

/// Which partials to make
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum PartialsArgument {
    /// Of markup that stands several times.
    Repeats,
    /// Of that, and of all headers, navigations, side bars and footers of layouts.
    Landmarks,
    /// None.
    None,
}

/// How equal pages must be.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum StrengthArgument {
    /// Byte for byte.
    Bytes,
    /// But for insignificant white space.
    Blanks,
    /// As a standard HTML parser reads them.
    Dom,
}

impl From<PartialsArgument> for Partials {
    fn from(argument: PartialsArgument) -> Self {
        match argument {
            PartialsArgument::Repeats => Partials::Repeats,
            PartialsArgument::Landmarks => Partials::Landmarks,
            PartialsArgument::None => Partials::None,
        }
    }
}

impl From<StrengthArgument> for Strength {
    fn from(argument: StrengthArgument) -> Self {
        match argument {
            StrengthArgument::Bytes => Strength::Bytes,
            StrengthArgument::Blanks => Strength::Blanks,
            StrengthArgument::Dom => Strength::Dom,
        }
    }
}
