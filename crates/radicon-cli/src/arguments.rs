//! The arguments, as people write them.

use std::path::PathBuf;

use clap::{ArgAction, Args, Parser, Subcommand, ValueEnum};
use radicon::Strength;
use radicon::check::Severity;
use radicon::site::Partials;

/// Turns copied page skeletons into layouts with named blocks, and proves that
/// no page changed.
#[derive(Parser, Debug)]
#[command(name = "radicon", version, disable_help_flag = true, max_term_width = 100, after_help = AFTER)]
pub struct Arguments {
    /// The site's directory [default: the nearest one upwards with a radicon.toml, else the current one].
    #[arg(long, global = true, value_name = "DIR")]
    pub site: Option<PathBuf>,
    /// The directory for undo steps and kept proposals [env: RADICON_STATE].
    #[arg(long, global = true, value_name = "DIR", env = "RADICON_STATE", hide_env = true)]
    pub state: Option<PathBuf>,
    /// How to print results.
    #[arg(long, global = true, value_enum, default_value_t = Format::Text)]
    pub format: Format,
    /// Print results and errors only: no notes, no next step.
    #[arg(short, long, global = true)]
    pub quiet: bool,
    /// Print help; `radicon help COMMAND` prints more of it.
    #[arg(short, long, global = true, action = ArgAction::HelpShort)]
    pub help: Option<bool>,
    /// The command to run.
    #[command(subcommand)]
    pub command: Command,
}

const AFTER: &str =
    "Start with `radicon survey`, or with `radicon demo DIR` to see the whole job done on a made-up site.
Exit code 0: done, or nothing to do; 1: findings, differences or a failed proof; 2: usage error or unreadable input.";

/// How to print results.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum Format {
    /// For people.
    Text,
    /// For programs; the schemas are in docs/schema.
    Json,
}

/// The commands.
#[derive(Subcommand, Debug)]
pub enum Command {
    /// List the templates by role and dialect, with roots, sizes and the largest repeats.
    #[command(after_help = "Example: radicon --site shop survey")]
    Survey,
    /// Show the override chain of a page or layout: which file defines each block, and which one wins.
    #[command(after_help = "Examples: radicon chain harbours/heronsea.html\n          radicon chain --block title")]
    Chain {
        /// A page or layout, by its path or as the site names it.
        #[arg(required_unless_present = "block")]
        page: Option<String>,
        /// Show one block in all pages instead.
        #[arg(long, value_name = "NAME", conflicts_with = "page")]
        block: Option<String>,
    },
    /// Print a page with its layouts and partials filled in, or write finished pages.
    #[command(
        after_help = "Examples: radicon flatten fares.html --origins\n          radicon flatten --all --into ../finished"
    )]
    Flatten {
        /// A page, by its path or as the site names it.
        #[arg(required_unless_present = "all")]
        page: Option<String>,
        /// Show the file and line that each line comes from.
        #[arg(long)]
        origins: bool,
        /// Write a source map (ECMA-426) of the page into a file.
        #[arg(long, value_name = "FILE", conflicts_with = "all")]
        source_map: Option<PathBuf>,
        /// Write all pages, and the site's other files.
        #[arg(long, requires = "into", conflicts_with_all = ["page", "origins"])]
        all: bool,
        /// Write the page, or with --all all of them, into a new directory.
        #[arg(long, value_name = "DIR", conflicts_with_all = ["origins", "source_map"])]
        into: Option<PathBuf>,
    },
    /// List, show, learn and try dialects: the descriptions of how an engine writes its tags.
    #[command(after_help = "Example: radicon dialect try fares.html")]
    #[command(subcommand)]
    Dialect(DialectCommand),
    /// Find duplicated markup, what it would save to write it once, and outdated copies.
    #[command(
        after_help = "Examples: radicon repeats --only harbours\n          radicon repeats --max-share 20   (as a gate: exit code 1 above)"
    )]
    Repeats(RepeatArguments),
    /// Propose layouts and partials, with a proof that no page changes. Nothing in the site is changed.
    #[command(after_help = "Examples: radicon propose --show\n          radicon propose --patch layouts.patch")]
    Propose(ProposeArguments),
    /// Compare all pages of two directories, or revisions of the site.
    #[command(after_help = "Examples: radicon prove HEAD\n          radicon prove ../old ../new --strength bytes")]
    Prove {
        /// The site before: a directory, or a revision such as HEAD or v1.2.
        old: PathBuf,
        /// The site after [default: the site].
        new: Option<PathBuf>,
        /// The weakest strength that still counts as equal.
        #[arg(long, value_enum, default_value_t = StrengthArgument::Dom)]
        strength: StrengthArgument,
        /// Keep running, and compare again whenever a file of the new site changes.
        #[arg(long)]
        watch: bool,
    },
    /// Report errors and likely mistakes: broken references, lost content, duplicate ids, and more.
    #[command(after_help = "Examples: radicon check --sarif findings.sarif\n          radicon check --watch")]
    Check(CheckArguments),
    /// Make one refactoring, with its proof: shows the difference; --write writes it.
    #[command(after_help = "Example: radicon step extract fares.html:footer footer --all --write")]
    Step {
        /// The refactoring.
        #[command(subcommand)]
        step: StepCommand,
        /// Write it into the site.
        #[arg(long, global = true)]
        write: bool,
        /// Checks to skip before writing.
        #[command(flatten)]
        allow: Allow,
    },
    /// Write the proposal into the site, all files or none. Undo with `radicon undo`.
    #[command(after_help = "Examples: radicon adopt\n          radicon adopt --only 1 3")]
    Adopt {
        /// How to propose.
        #[command(flatten)]
        how: How,
        /// Which changes to write.
        #[command(flatten)]
        chosen: Chosen,
        /// Checks to skip before writing.
        #[command(flatten)]
        allow: Allow,
    },
    /// Undo the last step that wrote into the site.
    ///
    /// Steps are: adopt, step --write, check --fix, dialect learn --write.
    #[command(after_help = "Examples: radicon undo\n          radicon undo --list")]
    Undo {
        /// List the steps that can be undone, the last one first.
        #[arg(long)]
        list: bool,
        /// Give up an interrupted run that cannot be finished: every file stays as it is.
        #[arg(long, conflicts_with = "list")]
        abandon: bool,
    },
    /// Rewrite templates in another dialect, and list the places to review.
    #[command(after_help = "Example: radicon translate --to margin --into ../new")]
    Translate {
        /// The templates [default: all of the site].
        files: Vec<String>,
        /// The dialect to write.
        #[arg(long, value_name = "DIALECT")]
        to: String,
        /// Write the translated files into a new directory.
        #[arg(long, value_name = "DIR")]
        into: Option<PathBuf>,
        /// Also write templates with tags that the other dialect does not have; these tags stay as they are.
        #[arg(long)]
        partly: bool,
    },
    /// Write an HTML page about the site: the map of layouts, blocks by page, what each page is made of,
    /// repeats side by side, findings.
    #[command(after_help = "Example: radicon report --out report.html")]
    Report {
        /// The file to write; it needs no other file and no network.
        #[arg(long, value_name = "FILE")]
        out: Option<PathBuf>,
    },
    /// Serve an editor over the Language Server Protocol, on standard input and output.
    #[command(
        after_help = "In the editor's configuration: the command `radicon lsp` for templates; see docs/editor.md"
    )]
    Lsp,
    /// Write the demo site into a new directory, and propose layouts for it.
    #[command(after_help = "Example: radicon demo /tmp/tidewater")]
    Demo {
        /// A directory that does not exist yet, or is empty.
        dir: PathBuf,
    },
    /// Print completions of the command line for a shell.
    #[command(after_help = "Example: radicon completions bash > ~/.local/share/bash-completion/completions/radicon")]
    Completions {
        /// The shell.
        shell: clap_complete::Shell,
    },
    /// Write the manual pages into a directory, one per command.
    #[command(after_help = "Example: radicon manual ~/.local/share/man/man1")]
    Manual {
        /// The directory.
        dir: PathBuf,
    },
}

/// Which changes to propose, and which views of them to print.
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
    /// Explain one proposed file instead: its size with and without the layout or partial.
    #[arg(long, value_name = "PATH")]
    pub explain: Option<String>,
    /// Write the whole new site, with the unchanged files, into a new directory.
    #[arg(long, value_name = "DIR")]
    pub into: Option<PathBuf>,
    /// Write the changes as a patch that `git apply` takes.
    #[arg(long, value_name = "FILE")]
    pub patch: Option<PathBuf>,
}

/// The severity of a finding.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum SeverityArgument {
    /// A page fails, or content is lost.
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

/// Checks that a command skips before it writes.
#[derive(Args, Clone, Copy, Debug)]
pub struct Allow {
    /// Also change files that have uncommitted changes, or are not in the repository.
    #[arg(long, global = true)]
    pub uncommitted: bool,
    /// Also write what is proven only under the listed assumptions.
    #[arg(long, global = true)]
    pub assume: bool,
}

/// The rules to check, and the handling of findings.
#[derive(Args, Debug)]
pub struct CheckArguments {
    /// Check only these files [default: all].
    pub files: Vec<String>,
    /// Check only the files in these directories.
    #[arg(long, value_name = "DIR", num_args = 1.., value_delimiter = ',')]
    pub only: Vec<String>,
    /// Check only these rules.
    #[arg(long, value_name = "RULE", value_delimiter = ',')]
    pub rule: Vec<String>,
    /// Print one line per finding, without the source.
    #[arg(long)]
    pub brief: bool,
    /// The lowest severity that gives exit code 1.
    #[arg(long, value_enum, value_name = "SEVERITY", default_value_t = SeverityArgument::Warning)]
    pub fail_on: SeverityArgument,
    /// Leave out the findings that this file lists; if there is no such file, write it with all findings.
    #[arg(long, value_name = "FILE", conflicts_with_all = ["fix", "explain"])]
    pub baseline: Option<PathBuf>,
    /// Make all safe fixes, as one step. Undo with `radicon undo`.
    #[arg(long)]
    pub fix: bool,
    /// Checks to skip before writing.
    #[command(flatten)]
    pub allow: Allow,
    /// Keep running, and check again whenever a file changes; `drift` runs only if --rule names it.
    #[arg(long, conflicts_with_all = ["fix", "sarif", "explain"])]
    pub watch: bool,
    /// Also write the findings into a file, in SARIF 2.1.0.
    #[arg(long, value_name = "FILE")]
    pub sarif: Option<PathBuf>,
    /// Explain a rule instead: what it finds, an example, and how to fix it.
    #[arg(long, value_name = "RULE", conflicts_with_all = ["fix", "sarif", "rule"])]
    pub explain: Option<String>,
    /// List all rules instead.
    #[arg(long, conflicts_with_all = ["fix", "sarif", "rule", "explain", "watch", "baseline"])]
    pub list: bool,
}

/// A refactoring. A PLACE is written FILE:LINE, FILE:LINE-LINE or FILE:ELEMENT, such as
/// page.html:nav, page.html:#menu or page.html:div.side.
#[derive(Subcommand, Debug)]
pub enum StepCommand {
    /// Turn a piece of markup into a partial.
    #[command(
        after_help = "Example: radicon step extract fleet.html:div.boat boat --with name=Heron --with link=heron --all"
    )]
    Extract {
        /// The markup: FILE:LINE, FILE:LINE-LINE, or FILE:ELEMENT such as page.html:nav, page.html:#menu or
        /// page.html:div.side.
        place: String,
        /// The name of the partial.
        name: String,
        /// Replace all other copies too, whatever their indentation or dialect.
        #[arg(long)]
        all: bool,
        /// A parameter, and the text in the markup that it replaces; other copies may have other text there.
        #[arg(long, value_name = "NAME=TEXT")]
        with: Vec<String>,
    },
    /// Replace the includes of a partial by its content.
    Inline {
        /// The partial.
        partial: String,
    },
    /// Turn a piece of a layout into a named block, with this content as its default.
    Open {
        /// The markup: FILE:LINE, FILE:LINE-LINE, or FILE:ELEMENT such as page.html:nav.
        place: String,
        /// The name of the block.
        block: String,
    },
    /// Rename a block in all layouts and pages of its chains.
    Rename {
        /// A template with the block.
        file: String,
        /// Its name.
        old: String,
        /// Its new name.
        new: String,
    },
    /// Move a layout or partial to another path, with every reference to it.
    Move {
        /// The layout or partial.
        file: String,
        /// Its new path, from the site's directory.
        to: String,
    },
    /// Move an override that all children of a layout share into the layout.
    PullUp {
        /// The layout.
        layout: String,
        /// The block.
        block: String,
    },
    /// Move the content of a block from a layout into its children.
    PushDown {
        /// The layout.
        layout: String,
        /// The block.
        block: String,
    },
    /// Put overrides into the order of the layout's blocks.
    Reorder {
        /// The files [default: all].
        files: Vec<String>,
    },
    /// Turn the parent lines of a directory's pages into a rule in radicon.toml.
    DefaultLayout {
        /// The directory, from the site's directory; `.` for all of it.
        folder: String,
    },
    /// Turn a header and a footer partial into a layout with a block between them.
    Fuse {
        /// The partial at the top of the pages.
        head: String,
        /// The partial at their end.
        foot: String,
        /// The layout's path.
        #[arg(long, value_name = "PATH", default_value = "layouts/base.html")]
        layout: String,
        /// The name of the block.
        #[arg(long, value_name = "NAME", default_value = "content")]
        block: String,
    },
    /// Remove a layout between the base and its children; its overrides move into the children.
    Collapse {
        /// The layout.
        layout: String,
    },
}

/// Which repeats to find.
#[derive(Args, Debug)]
pub struct RepeatArguments {
    /// Show one group: its copies and where they differ.
    pub group: Option<String>,
    /// Show only groups with a copy in these directories.
    #[arg(long, value_name = "DIR", num_args = 1.., value_delimiter = ',')]
    pub only: Vec<String>,
    /// Show only groups with a copy in this dialect.
    #[arg(long, value_name = "NAME")]
    pub dialect: Option<String>,
    /// Show only groups of this kind.
    #[arg(long, value_enum)]
    pub kind: Option<KindArgument>,
    /// The shortest repeat, in bytes.
    #[arg(long, value_name = "BYTES", default_value_t = radicon::repeats::RepeatOptions::default().min_bytes)]
    pub min_bytes: u32,
    /// The least that a group saves, in bytes.
    #[arg(long, value_name = "BYTES")]
    pub min_saving: Option<u64>,
    /// How similar near copies must be, in percent.
    #[arg(long, value_name = "PERCENT", default_value_t = 60, value_parser = clap::value_parser!(u8).range(1..=100))]
    pub similarity: u8,
    /// Find exact copies only.
    #[arg(long)]
    pub exact: bool,
    /// Differences that matter, though they usually do not.
    #[arg(long, value_enum, value_name = "WHAT", value_delimiter = ',')]
    pub count: Vec<CountArgument>,
    /// Fail (exit code 1) if more than this share of all bytes is duplicated.
    #[arg(long, value_name = "PERCENT", value_parser = percent)]
    pub max_share: Option<f64>,
}

/// A share in percent.
fn percent(text: &str) -> Result<f64, String> {
    let share = text.parse::<f64>().map_err(|error| error.to_string())?;
    if (0.0..=100.0).contains(&share) { Ok(share) } else { Err("a share is between 0 and 100".into()) }
}

/// How similar copies are.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum KindArgument {
    /// Identical after normalising.
    Same,
    /// Identical except for a few differences.
    Alike,
}

/// Differences that are usually ignored.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum CountArgument {
    /// Whitespace between elements and words.
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

/// The commands for dialects.
#[derive(Subcommand, Debug)]
pub enum DialectCommand {
    /// List the dialects of this site, and the files read in each.
    List,
    /// Print the file of a dialect, to read or to copy.
    Show {
        /// The dialect.
        name: String,
    },
    /// Infer how the site's engine writes its tags, from the templates.
    Learn {
        /// The directory to learn from [default: the site].
        dir: Option<PathBuf>,
        /// Pages as the engine renders them; they decide what the templates leave open.
        #[arg(long, value_name = "DIR")]
        rendered: Option<PathBuf>,
        /// Write what is learned: dialect files into `dialects/`, directory rules into radicon.toml.
        #[arg(long)]
        write: bool,
    },
    /// Show how a file is read, tag by tag, and what is not understood.
    Try {
        /// The file.
        file: String,
        /// Read it in this dialect [default: the site's dialect for this file].
        #[arg(long, value_name = "NAME")]
        dialect: Option<String>,
    },
}

/// How to propose.
#[derive(Args, Debug)]
pub struct How {
    /// How closely pages must match.
    #[arg(long, value_enum, default_value_t = StrengthArgument::Blanks)]
    pub strength: StrengthArgument,
    /// The dialect to write [default: that of the site's layouts, else margin].
    #[arg(long, value_name = "NAME")]
    pub dialect: Option<String>,
    /// What a block must save, in bytes [default: 100]; a higher price gives fewer, bigger blocks
    #[arg(long, value_name = "BYTES")]
    pub block_price: Option<u64>,
    /// Propose fewer and bigger blocks; the output is somewhat larger.
    #[arg(long, conflicts_with_all = ["block_price", "small"])]
    pub tidy: bool,
    /// Propose the smallest output: more and smaller blocks, short names; takes three to five times as long.
    #[arg(long, conflicts_with = "block_price")]
    pub small: bool,
    /// The most levels of layouts [default: 8]; 1 for a base layout only.
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u8).range(1..))]
    pub levels: Option<u8>,
    /// What a section's layout or a partial must save, in bytes [default: see docs/settings.md].
    #[arg(long, value_name = "BYTES")]
    pub min_saving: Option<u64>,
    /// First bring outdated copies up to date; lists each page that this changes.
    #[arg(long)]
    pub heal: bool,
    /// Which partials to propose [default: repeats].
    #[arg(long, value_enum)]
    pub partials: Option<PartialsArgument>,
}

/// The changes of a proposal to take.
#[derive(Args, Debug, Default)]
pub struct Chosen {
    /// Take only these changes, by number or path; a directory stands for all templates in it.
    #[arg(long, value_name = "CHANGE", num_args = 1.., value_delimiter = ',')]
    pub only: Vec<String>,
    /// Take all changes except these, by number or path.
    #[arg(long, value_name = "CHANGE", num_args = 1.., value_delimiter = ',', conflicts_with = "only")]
    pub except: Vec<String>,
}

impl Chosen {
    /// Whether all changes are taken.
    pub fn is_all(&self) -> bool {
        self.only.is_empty() && self.except.is_empty()
    }
}

impl How {
    /// Whether no option is set.
    pub fn is_usual(&self) -> bool {
        let Self { strength, dialect, block_price, tidy, small, levels, min_saving, heal, partials } = self;
        let flags = *tidy || *small || *heal;
        let values = block_price.is_some() || levels.is_some() || min_saving.is_some() || partials.is_some();
        *strength == StrengthArgument::Blanks && dialect.is_none() && !flags && !values
    }
}

/// Which partials to propose.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum PartialsArgument {
    /// Of markup that is repeated.
    Repeats,
    /// Of repeated markup, and of all headers, navigations, side bars and footers of layouts.
    Landmarks,
    /// None.
    None,
}

/// How closely pages must match.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum StrengthArgument {
    /// Byte for byte.
    Bytes,
    /// Except for insignificant whitespace.
    Blanks,
    /// The same tree in a standard HTML parser.
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
