//! What comes from files is printed so that no terminal obeys it.
//!
//! Text for people may hold anything: names and contents of files, messages that quote them. On its way out every
//! control character, and every sign that turns the direction of writing, is shown as an escape. The styles of the
//! program itself travel in marks of their own, and become escape sequences only here.

use std::fmt::{self, Display, Formatter};
use std::io::{self, Write};

use anstyle::Style;

/// Around the parameters of a style: characters that no text has.
const OPEN: char = '\u{fdd1}';
const CLOSE: char = '\u{fdd2}';

/// A style of the program's own.
#[derive(Clone, Copy)]
pub struct Paint(Option<Style>);

impl Paint {
    /// A style.
    pub const fn of(style: Style) -> Self {
        Self(Some(style))
    }

    /// Back to normal.
    pub const PLAIN: Self = Self(None);
}

impl Display for Paint {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        let sequence = self.0.map_or_else(|| anstyle::Reset.to_string(), |style| style.to_string());
        f.write_str(&painted(&sequence))
    }
}

/// A text that a library has painted, with its styles as they travel. What it quotes must be [`defused`] before.
pub fn painted(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    let mut rest = text;
    while let Some((before, sequence)) = rest.split_once("\u{1b}[") {
        out.push_str(before);
        let end = sequence.find(|c: char| !is_parameter(c)).unwrap_or(sequence.len());
        out.extend([OPEN]);
        out.push_str(&sequence[..end]);
        out.extend([CLOSE]);
        rest = sequence[end..].strip_prefix('m').unwrap_or(&sequence[end..]);
    }
    out + rest
}

fn is_parameter(c: char) -> bool {
    c.is_ascii_digit() || c == ';'
}

/// The text with other characters, of as many bytes, in the place of those that a terminal obeys.
pub fn defused(text: &str) -> String {
    let shown = |c: char| match c.len_utf8() {
        _ if !is_hostile(c) || matches!(c, '\n' | '\t' | '\r') => c,
        1 => '?',
        2 => '\u{bf}',
        _ => char::REPLACEMENT_CHARACTER,
    };
    text.chars().map(shown).collect()
}

/// Whether a terminal may obey a character, or be misled by it.
pub fn is_hostile(c: char) -> bool {
    let turns = matches!(c, '\u{61c}' | '\u{200e}' | '\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}');
    c.is_control() || turns || matches!(c, '\u{2028}' | '\u{2029}')
}

/// Shows text without what a terminal obeys.
pub struct Safe<W: Write> {
    inner: W,
    /// The beginning of a character, of a style, or of a line end that is cut off.
    held: Vec<u8>,
}

impl<W: Write> Safe<W> {
    pub fn new(inner: W) -> Self {
        Self { inner, held: Vec::new() }
    }

    fn show(&mut self, text: &str, is_last: bool) -> io::Result<()> {
        let mut out = String::with_capacity(text.len());
        let mut rest = text;
        while let Some(c) = rest.chars().next() {
            let after = &rest[c.len_utf8()..];
            let waits = !is_last && (c == '\r' && after.is_empty() || c == OPEN && !after.contains(CLOSE));
            if waits {
                break;
            }
            rest = after;
            match c {
                '\n' | '\t' => out.push(c),
                '\r' if after.starts_with('\n') => out.push(c),
                OPEN => {
                    if let Some((style, behind)) = after.split_once(CLOSE)
                        && style.chars().all(is_parameter)
                    {
                        out.push_str(&format!("\u{1b}[{style}m"));
                        rest = behind;
                    }
                }
                CLOSE => {}
                c if is_hostile(c) => out.extend(c.escape_default()),
                c => out.push(c),
            }
        }
        self.held.extend_from_slice(rest.as_bytes());
        self.inner.write_all(out.as_bytes())
    }
}

impl<W: Write> Write for Safe<W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let mut all = std::mem::take(&mut self.held);
        all.extend_from_slice(bytes);
        let mut rest = &all[..];
        loop {
            match std::str::from_utf8(rest) {
                Ok(text) => {
                    self.show(text, false)?;
                    return Ok(bytes.len());
                }
                Err(error) => {
                    let (valid, behind) = rest.split_at(error.valid_up_to());
                    self.show(&String::from_utf8_lossy(valid), error.error_len().is_some())?;
                    let Some(wrong) = error.error_len() else {
                        self.held.extend_from_slice(behind);
                        return Ok(bytes.len());
                    };
                    behind[..wrong].iter().try_for_each(|byte| write!(self.inner, "\\x{byte:02x}"))?;
                    rest = &behind[wrong..];
                }
            }
        }
    }

    fn flush(&mut self) -> io::Result<()> {
        self.inner.flush()
    }
}

impl<W: Write> Drop for Safe<W> {
    fn drop(&mut self) {
        let held = std::mem::take(&mut self.held);
        let _ = self.show(&String::from_utf8_lossy(&held), true);
    }
}

/// A line on the error output.
pub fn tell(text: impl Display) {
    // Where nobody listens there is nobody to tell.
    let _ = writeln!(Safe::new(anstream::stderr().lock()), "{text}");
}

/// JSON without characters that a terminal obeys; it says the same.
pub fn safe_json(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        match c {
            '\n' => out.push(c),
            c if is_hostile(c) => out.push_str(&format!("\\u{:04x}", c as u32)),
            c => out.push(c),
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    fn safe(pieces: &[&[u8]]) -> String {
        let mut out = Vec::new();
        let mut safe = Safe::new(&mut out);
        pieces.iter().for_each(|piece| safe.write_all(piece).expect("written"));
        drop(safe);
        String::from_utf8(out).expect("text")
    }

    #[test]
    fn nothing_from_files_is_obeyed() {
        for (text, shown) in [
            ("a\u{1b}[31mb", "a\\u{1b}[31mb"),
            ("a\u{9b}2Jb", "a\\u{9b}2Jb"),
            ("a\u{202e}b", "a\\u{202e}b"),
            ("a\rb\r\nc\td", "a\\rb\r\nc\td"),
            ("\u{7f}\u{7}", "\\u{7f}\\u{7}"),
            ("\u{fdd1}31mx", "31mx"),
        ] {
            assert_eq!(safe(&[text.as_bytes()]), shown);
            let bytes: Vec<&[u8]> = text.as_bytes().chunks(1).collect();
            assert_eq!(safe(&bytes), shown, "byte by byte");
        }
        assert_eq!(safe(&[b"caf\xe9 \x9b2J"]), "caf\\xe9 \\x9b2J");
        assert_eq!(
            safe(&[format!("{}x{}", Paint::of(Style::new().bold()), Paint::PLAIN).as_bytes()]),
            "\u{1b}[1mx\u{1b}[0m"
        );
        assert_eq!(safe(&[painted("\u{1b}[1;31mx\u{1b}[0m").as_bytes()]), "\u{1b}[1;31mx\u{1b}[0m");
        assert_eq!(defused("a\u{1b}\u{9b}\u{202e}\n").len(), "a\u{1b}\u{9b}\u{202e}\n".len());
        assert_eq!(safe_json("\"\u{202e}\u{7f}\"\n"), "\"\\u202e\\u007f\"\n");
    }
}
