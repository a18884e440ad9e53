//! Tables, numbers and colours for the terminal.

use std::io::{self, IsTerminal, Write};
use std::path::Path;
use std::sync::OnceLock;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{Sender, channel};
use std::thread::JoinHandle;
use std::time::Duration;

use anstyle::{AnsiColor, Style};
use radicon::Strength;
pub use radicon::text::{count, number};
use unicode_width::{UnicodeWidthChar, UnicodeWidthStr};

use crate::terminal::{Paint, is_hostile, tell};

/// For text that the eye should find first.
pub const STRONG: Paint = Paint::of(Style::new().bold());
/// For text that can be passed over.
pub const FAINT: Paint = Paint::of(AnsiColor::BrightBlack.on_default());
/// For text about things that are as they should be.
pub const GOOD: Paint = Paint::of(AnsiColor::Green.on_default());
/// For text about things that are not.
pub const BAD: Paint = Paint::of(AnsiColor::Red.on_default().bold());
/// Back to normal.
pub const PLAIN: Paint = Paint::PLAIN;

/// The width that output is made for, in columns.
pub const WIDTH: usize = 100;

/// The side of a column that its text is on.
#[derive(Clone, Copy, PartialEq, Eq)]
pub enum Align {
    Left,
    Right,
}

/// Rows with aligned columns.
pub struct Table {
    columns: Vec<(String, Align)>,
    rows: Vec<Vec<String>>,
}

impl Table {
    /// A table with these column heads.
    pub fn new(columns: &[(&str, Align)]) -> Self {
        let columns = columns.iter().map(|(head, align)| ((*head).to_owned(), *align)).collect();
        Self { columns, rows: Vec::new() }
    }

    /// Adds a row.
    pub fn row(&mut self, cells: impl IntoIterator<Item = String>) {
        self.rows.push(cells.into_iter().map(|cell| printable(&cell)).collect());
    }

    /// Prints it, two columns in. The last column is cut where the line would grow too long.
    pub fn print(&self, out: &mut impl Write) -> io::Result<()> {
        let mut widths: Vec<usize> = self.columns.iter().map(|(head, _)| width(head)).collect();
        for row in &self.rows {
            for (known, cell) in widths.iter_mut().zip(row) {
                *known = (*known).max(width(cell));
            }
        }
        if self.columns.iter().any(|(head, _)| !head.is_empty()) {
            let heads: Vec<String> = self.columns.iter().map(|(head, _)| head.clone()).collect();
            write!(out, "{FAINT}")?;
            self.line(&heads, &widths, out)?;
            write!(out, "{PLAIN}")?;
        }
        self.rows.iter().try_for_each(|row| self.line(row, &widths, out))
    }

    fn line(&self, cells: &[String], widths: &[usize], out: &mut impl Write) -> io::Result<()> {
        let mut line = String::from(" ");
        for (index, (cell, (_, align))) in cells.iter().zip(&self.columns).enumerate() {
            line.push(' ');
            let room = WIDTH.saturating_sub(width(&line)).max(12);
            let last = index + 1 == self.columns.len();
            let cell = if last { shorten(cell, room) } else { cell.clone() };
            let pad = " ".repeat(widths[index].saturating_sub(width(&cell)));
            match align {
                Align::Right => line.push_str(&format!("{pad}{cell}")),
                Align::Left if last => line.push_str(&cell),
                Align::Left => line.push_str(&format!("{cell}{pad}")),
            }
            line.push(' ');
        }
        writeln!(out, "{}", line.trim_end())
    }
}

/// Columns that a text takes in a terminal.
fn width(text: &str) -> usize {
    UnicodeWidthStr::width(text)
}

/// The text with what a terminal obeys as escapes, line ends too: a name may hold any.
pub fn printable(text: &str) -> String {
    if !text.contains(is_hostile) {
        return text.to_owned();
    }
    let shown = |c: char| if is_hostile(c) { c.escape_default().to_string() } else { c.to_string() };
    text.chars().map(shown).collect()
}

/// The text cut to a number of columns.
pub fn shorten(text: &str, room: usize) -> String {
    if width(text) <= room {
        return text.to_owned();
    }
    let mut short = String::new();
    let mut taken = 1;
    for c in text.chars() {
        taken += UnicodeWidthChar::width(c).unwrap_or(0);
        if taken > room {
            break;
        }
        short.push(c);
    }
    short + "…"
}

/// Pages of which a proposal changes no file: `2 pages not restructured`.
pub fn left_as_is(pages: usize) -> String {
    format!("{} not restructured", count(pages, "page"))
}

/// How closely pages match that are equal at a strength.
pub fn how_equal(strength: Strength) -> &'static str {
    match strength {
        Strength::Bytes => "byte-identical",
        Strength::Blanks => "identical except for insignificant whitespace",
        Strength::Dom => "with the same tree in an HTML parser",
    }
}

/// The change from one number to another in percent: `-54%`.
pub fn change(before: usize, after: usize) -> String {
    if before == 0 || before == after {
        return String::new();
    }
    let percent = (after as f64 / before as f64 - 1.0) * 100.0;
    format!("{percent:+.0}%")
}

/// A headline.
pub fn headline(out: &mut impl Write, text: &str) -> io::Result<()> {
    writeln!(out, "{STRONG}{text}{PLAIN}")
}

/// How this command names the site, if it does.
static SITE: OnceLock<String> = OnceLock::new();

/// The commands that are proposed next are about this site, too.
pub fn name_site(site: &Path) {
    let _ = SITE.set(quoted_path(site));
}

/// A name as one types it in a shell.
pub fn quoted(name: &str) -> String {
    let is_plain = name.chars().all(|c| c.is_alphanumeric() || "/._-=,:".contains(c));
    if is_plain { name.to_owned() } else { format!("'{}'", name.replace('\'', "'\\''")) }
}

/// A path as one types it in a shell.
pub fn quoted_path(path: &Path) -> String {
    quoted(&path.display().to_string())
}

/// `radicon propose` with the options of this command, if it is that, and one more: for [`next`], which names the site.
pub fn again(more: &str) -> String {
    let mut words = vec!["propose".to_owned()];
    let mut arguments = std::env::args().skip_while(|word| word != "propose").skip(1);
    while let Some(word) = arguments.next() {
        match word.as_str() {
            "--site" => drop(arguments.next()),
            "--show" | "-q" | "--quiet" => {}
            _ if word.starts_with("--site=") => {}
            _ => words.push(quoted(&word)),
        }
    }
    format!("radicon {} {more}", words.join(" "))
}

/// Results and errors are printed, and nothing else.
static QUIET: AtomicBool = AtomicBool::new(false);

/// Sets whether anything but results and errors is printed.
pub fn set_quiet(is_quiet: bool) {
    QUIET.store(is_quiet, Ordering::Relaxed);
}

/// Something worth knowing beside the result.
pub fn note(text: &str) {
    if !QUIET.load(Ordering::Relaxed) {
        tell(format_args!("{FAINT}{text}{PLAIN}"));
    }
}

/// The next thing to do. Commands that name no folder themselves are about this command's site.
pub fn next(out: &mut impl Write, text: &str) -> io::Result<()> {
    if QUIET.load(Ordering::Relaxed) {
        return Ok(());
    }
    let mut parts = text.split("radicon ");
    write!(out, "\nNext: {}", parts.next().unwrap_or_default())?;
    for command in parts {
        let site = SITE.get().filter(|_| !command.starts_with("prove ") && !command.starts_with("--site "));
        let site = site.map_or(String::new(), |site| format!("--site {site} "));
        write!(out, "radicon {site}{command}")?;
    }
    writeln!(out)
}

/// Work that shows on a terminal that it goes on, once it takes more than a second.
pub struct Busy(Option<(Sender<()>, JoinHandle<()>)>);

/// Says what is being done until the value is dropped.
pub fn busy(what: &'static str) -> Busy {
    if !io::stderr().is_terminal() || QUIET.load(Ordering::Relaxed) {
        return Busy(None);
    }
    let (done, waits) = channel();
    let show = move || {
        if waits.recv_timeout(Duration::from_secs(1)).is_ok() {
            return;
        }
        let bar = indicatif::ProgressBar::new_spinner().with_message(what);
        bar.enable_steady_tick(Duration::from_millis(120));
        // Until it is done, or whoever waits for it is gone.
        let _ = waits.recv();
        bar.finish_and_clear();
    };
    Busy(Some((done, std::thread::spawn(show))))
}

impl Drop for Busy {
    fn drop(&mut self) {
        if let Some((done, shows)) = self.0.take() {
            let _ = done.send(());
            let _ = shows.join();
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::terminal::Safe;

    #[test]
    fn numbers_read_well() {
        assert_eq!([change(200, 100), change(100, 101), change(5, 5)], ["-50%", "+1%", ""]);
    }

    #[test]
    fn wide_and_hostile_names_keep_columns_straight() {
        let mut table = Table::new(&[("name", Align::Left), ("n", Align::Right)]);
        for name in ["\u{6e21}\u{3057}.html", "a\nb.html", "plain.html"] {
            table.row([name.into(), "1".into()]);
        }
        let mut out = Vec::new();
        table.print(&mut Safe::new(anstream::StripStream::new(&mut out))).expect("written");
        let text = String::from_utf8(out).expect("text");
        let ends: Vec<usize> = text.lines().map(width).collect();
        assert_eq!(ends, [15; 4], "{text}");
        assert!(text.contains("a\\nb.html"), "{text}");
        assert_eq!(shorten("\u{6e21}\u{3057}\u{5834}", 5), "\u{6e21}\u{3057}…");
    }

    #[test]
    fn tables_are_aligned_and_not_too_wide() {
        let mut table = Table::new(&[("name", Align::Left), ("n", Align::Right), ("note", Align::Left)]);
        table.row(["a".into(), "10".into(), "x".repeat(200)]);
        table.row(["long name".into(), "5".into(), "short".into()]);
        let mut out = Vec::new();
        table.print(&mut Safe::new(anstream::StripStream::new(&mut out))).expect("written");
        let text = String::from_utf8(out).expect("text");
        let lines: Vec<_> = text.lines().collect();
        assert_eq!(lines[0], "  name        n  note");
        assert_eq!(lines[2], "  long name   5  short");
        assert!(lines[1].chars().count() <= WIDTH && lines[1].ends_with('…'), "{}", lines[1]);
    }
}
