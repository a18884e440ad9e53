//! A source map of a flattened page (ECMA-426): a machine's way to ask where a
//! place comes from.

use rustc_hash::FxHashMap;
use serde::Serialize;

use super::{Flat, Via};
use crate::site::Site;
use crate::text::{LineIndex, SourceId};

/// A source map as it is in a file.
#[derive(Clone, Debug, Serialize)]
#[serde(rename_all = "camelCase")]
pub struct SourceMap {
    version: u8,
    file: String,
    sources: Vec<String>,
    sources_content: Vec<Option<String>>,
    names: Vec<String>,
    mappings: String,
}

impl Flat {
    /// The source map of the page: for each stretch, and each line of it, the
    /// place it comes from. Names are those of blocks. Columns count UTF-16 code
    /// units; sources that are not UTF-8 are named without their content.
    pub fn source_map(&self, site: &Site, file: &str) -> SourceMap {
        let mut writer =
            Writer { site, files: Vec::new(), names: Vec::new(), lines: FxHashMap::default(), last: [0; 5] };
        let mut mappings = String::new();
        let mut line_start = 0;
        let ends = self.stretches.iter().skip(1).map(|stretch| stretch.at).chain([self.bytes.len() as u32]);
        for (stretch, end) in self.stretches.iter().zip(ends) {
            let mut at = stretch.at;
            while at < end {
                while let Some(length) = memchr::memchr(b'\n', &self.bytes[line_start..at as usize]) {
                    line_start += length + 1;
                    mappings.push(';');
                    writer.last[0] = 0;
                }
                if !mappings.is_empty() && !mappings.ends_with(';') {
                    mappings.push(',');
                }
                let column = units(&self.bytes[line_start..at as usize]);
                let offset = stretch.span.start + (at - stretch.at).min(stretch.span.len() as u32);
                writer.segment(column, stretch.source, offset, stretch.via, &mut mappings);
                let rest = &self.bytes[at as usize..end as usize];
                at += memchr::memchr(b'\n', rest).map_or(rest.len(), |length| length + 1) as u32;
            }
        }
        let content = |&id: &SourceId| std::str::from_utf8(&site.get(id).source).ok().map(str::to_owned);
        SourceMap {
            version: 3,
            file: file.to_owned(),
            sources: writer.files.iter().map(|&id| site.get(id).path.clone()).collect(),
            sources_content: writer.files.iter().map(content).collect(),
            names: writer.names,
            mappings,
        }
    }
}

struct Writer<'s> {
    site: &'s Site,
    files: Vec<SourceId>,
    names: Vec<String>,
    lines: FxHashMap<SourceId, LineIndex>,
    /// The last column, source, line, source column and name: numbers are written as differences.
    last: [i64; 5],
}

impl Writer<'_> {
    fn segment(&mut self, column: usize, source: SourceId, offset: u32, via: Via, out: &mut String) {
        let template = self.site.get(source);
        let lines = self.lines.entry(source).or_insert_with(|| LineIndex::new(&template.source));
        let line = lines.line(offset);
        let source_column = units(&template.source[lines.start(line) as usize..offset as usize]);
        let file = index_of(&mut self.files, source);
        let mut numbers = vec![column, file, line as usize - 1, source_column];
        if let Via::Block(definition) = via {
            let owner = self.site.get(definition.source);
            let name = owner.constructs.items[definition.construct].name.text(&owner.source).into_owned();
            numbers.push(index_of(&mut self.names, name));
        }
        for (number, last) in numbers.into_iter().zip(&mut self.last) {
            write_number(number as i64 - *last, out);
            *last = number as i64;
        }
    }
}

fn index_of<T: PartialEq>(list: &mut Vec<T>, item: T) -> usize {
    list.iter().position(|known| *known == item).unwrap_or_else(|| {
        list.push(item);
        list.len() - 1
    })
}

/// Length of a text in UTF-16 code units; a byte that is not UTF-8 counts as one.
fn units(bytes: &[u8]) -> usize {
    bytes.utf8_chunks().map(|chunk| chunk.valid().encode_utf16().count() + chunk.invalid().len()).sum()
}

/// A number in base 64 with a sign, low digits first (ECMA-426, VLQ).
fn write_number(number: i64, out: &mut String) {
    const DIGITS: &[u8; 64] = b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";
    let mut rest = (number.unsigned_abs() << 1) | u64::from(number < 0);
    loop {
        let digit = (rest & 31) as usize;
        rest >>= 5;
        out.push(char::from(DIGITS[digit | usize::from(rest > 0) << 5]));
        if rest == 0 {
            return;
        }
    }
}
