//! The site in the editor's folder, with unsaved texts, and its places in the protocol's terms.

use std::path::{Path, PathBuf};
use std::str::FromStr;

use anyhow::{Context, Result};
use lsp_types::{Location, Position, Range, Uri};
use radicon::disk::{self, Loaded, Reader};
use radicon::navigate::Spot;
use radicon::text::{SourceId, Span, percent_decoded};
use radicon::{Change, Site};

/// A site that is read again whenever something changes.
pub struct Project {
    folder: PathBuf,
    reader: Reader,
    loaded: Loaded,
    /// Whether columns are bytes; else UTF-16 code units.
    is_utf8: bool,
}

impl Project {
    /// The change of the settings that new names of templates make.
    pub fn settings_with(&self, renamed: &[(String, String)]) -> Result<Option<Change>, String> {
        disk::renamed_in_settings(&self.loaded.folder, renamed).map_err(|error| error.to_string())
    }

    pub fn open(folder: &Path, is_utf8: bool) -> Result<Self> {
        let folder = folder.canonicalize().with_context(|| format!("{}: no such directory", folder.display()))?;
        let folder = radicon::disk::find_site(&folder);
        let mut reader = Reader::for_editor(&folder);
        let loaded = reader.read()?;
        Ok(Self { folder, reader, loaded, is_utf8 })
    }

    pub fn site(&self) -> &Site {
        &self.loaded.site
    }

    /// Sets the text that the editor shows for a file; `None` if it shows none any more.
    pub fn show(&mut self, uri: &Uri, text: Option<String>) {
        if let Some(path) = self.path(uri) {
            self.reader.unsaved(&path, text.map(String::into_bytes));
        }
    }

    /// Reads again what has changed, in the editor alone or on the disk too. While settings or dialects cannot be
    /// read, the site stays as it was.
    pub fn refresh(&mut self, disk: bool) -> Result<()> {
        match disk {
            true => self.loaded = self.reader.read()?,
            false => self.reader.update(&mut self.loaded)?,
        }
        Ok(())
    }

    /// The path in the site that a URI names.
    pub fn path(&self, uri: &Uri) -> Option<String> {
        let path = percent_decoded(uri.as_str().strip_prefix("file://")?);
        let path = Path::new(&path);
        // The editor may know the folder by another name, such as a link.
        let inside = path.strip_prefix(&self.folder).map(Path::to_owned).ok().or_else(|| {
            let folder = path.parent()?.canonicalize().ok()?;
            Some(folder.join(path.file_name()?).strip_prefix(&self.folder).ok()?.to_owned())
        })?;
        Some(inside.to_string_lossy().replace(std::path::MAIN_SEPARATOR, "/"))
    }

    pub fn template(&self, uri: &Uri) -> Option<SourceId> {
        self.site().find(&self.path(uri)?)
    }

    pub fn uri(&self, path: &str) -> Option<Uri> {
        let whole = self.folder.join(path).to_string_lossy().replace(std::path::MAIN_SEPARATOR, "/");
        Uri::from_str(&format!("file://{}", encoded(&whole))).ok()
    }

    pub fn position(&self, source: &[u8], offset: u32) -> Position {
        let before = &source[..(offset as usize).min(source.len())];
        let start = before.iter().rposition(|&b| b == b'\n').map_or(0, |at| at + 1);
        let line = before.iter().filter(|&&b| b == b'\n').count() as u32;
        Position::new(line, self.width(&before[start..]) as u32)
    }

    /// The columns of a piece of a line.
    fn width(&self, text: &[u8]) -> usize {
        if self.is_utf8 { text.len() } else { String::from_utf8_lossy(text).encode_utf16().count() }
    }

    /// The byte of a position; the end of its line if that is shorter.
    pub fn offset(&self, source: &[u8], position: Position) -> u32 {
        let mut start = 0;
        for _ in 0..position.line {
            match source[start..].iter().position(|&b| b == b'\n') {
                Some(at) => start += at + 1,
                None => return source.len() as u32,
            }
        }
        let line = &source[start..];
        let line = &line[..line.iter().position(|&b| b == b'\n').unwrap_or(line.len())];
        let text = String::from_utf8_lossy(line);
        let mut column = 0;
        for (at, letter) in text.char_indices() {
            if column >= position.character as usize {
                return (start + at.min(line.len())) as u32;
            }
            column += if self.is_utf8 { letter.len_utf8() } else { letter.len_utf16() };
        }
        (start + line.len()) as u32
    }

    pub fn range(&self, source: &[u8], span: Span) -> Range {
        Range::new(self.position(source, span.start), self.position(source, span.end))
    }

    pub fn location(&self, spot: Spot) -> Option<Location> {
        let template = self.site().get(spot.source);
        Some(Location::new(self.uri(&template.path)?, self.range(&template.source, spot.span)))
    }
}

fn encoded(path: &str) -> String {
    let plain = |byte: u8| byte.is_ascii_alphanumeric() || b"/-_.~".contains(&byte);
    let written = |byte: u8| if plain(byte) { char::from(byte).to_string() } else { format!("%{byte:02X}") };
    path.bytes().map(written).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paths_survive_the_way_to_the_editor_and_back() {
        for path in ["/a/b.html", "/my site/é%.html", "/a+b&c.html"] {
            assert_eq!(percent_decoded(&encoded(path)), path);
        }
    }

    #[test]
    fn positions_count_as_the_editor_does() {
        let dir = tempfile::tempdir().expect("a directory");
        let source = "a\né🐑x\n".as_bytes();
        for (is_utf8, column) in [(false, 3), (true, 6)] {
            let project = Project::open(dir.path(), is_utf8).expect("a project");
            let at = source.iter().position(|&b| b == b'x').expect("x") as u32;
            let position = Position::new(1, column);
            assert_eq!((project.position(source, at), project.offset(source, position)), (position, at));
            // Beyond the line, and beyond the text.
            assert_eq!(project.offset(source, Position::new(1, 99)), at + 1);
            assert_eq!(project.offset(source, Position::new(9, 0)), source.len() as u32);
        }
    }
}
