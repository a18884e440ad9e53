//! Partials for what stands several times in the proposed files.

use std::sync::Arc;

use rustc_hash::{FxHashMap, FxHashSet};

use super::assemble::Written;
use super::name;
use super::{Job, ProposedFile, ProposedPartial, apply};
use crate::dialect::{Kind, Newline, Values};
use crate::prove::Strength;
use crate::repeats::{RepeatCopy, RepeatOptions, repeats};
use crate::site::Role;
use crate::text::{SourceId, is_blank};

/// So many copies make a partial.
const LEAST_COPIES: usize = 3;

/// Files with some of their markup in partials.
pub(super) struct Extracted {
    pub written: Vec<Written>,
    pub partials: Vec<ProposedPartial>,
}

/// The first byte, the one behind the last, and what to write there.
type Edit = (usize, usize, String);

/// Whole lines of a file.
struct Lines {
    file: usize,
    start: usize,
    end: usize,
}

impl Job<'_> {
    /// The files with partials for the markup that they share; files in `excluded` stay as they are.
    pub(super) fn extract(&self, written: &[Written], excluded: &FxHashSet<String>) -> Option<Extracted> {
        let include = self.dialect.form(Kind::Include).filter(|_| self.options.partials)?;
        let site = apply(self.site, written.iter().map(|written| &written.file), &self.dialects());
        let least = self.options.min_saving.unwrap_or(self.options.block_price * 2);
        let found =
            repeats(&site, &RepeatOptions { min_saving: Some(least), similarity: 2.0, ..RepeatOptions::default() });
        let index: FxHashMap<&str, usize> = written
            .iter()
            .enumerate()
            .filter(|(_, written)| !excluded.contains(&written.file.path) && written.dialect.name == self.dialect.name)
            .map(|(index, written)| (written.file.path.as_str(), index))
            .collect();
        let constructs =
            |file: usize| site.find(&written[file].file.path).map(|id: SourceId| &site.get(id).constructs.items);
        let plain = |lines: &Lines| {
            let items = constructs(lines.file);
            items.is_some_and(|items| {
                let at = items.partition_point(|item| (item.span.end as usize) <= lines.start);
                items.get(at).is_none_or(|item| item.span.start as usize >= lines.end)
            })
        };
        let folder = self.folder_for(Role::Partial, "partials");
        let mut taken: Vec<String> = written.iter().map(|written| written.file.path.clone()).collect();
        let mut partials = Vec::new();
        let mut edits: FxHashMap<usize, Vec<Edit>> = FxHashMap::default();
        for group in found.groups {
            let copies: Vec<Lines> = group
                .copies
                .iter()
                .filter_map(|copy| whole_lines(copy, *index.get(copy.file.as_str())?, written))
                .filter(plain)
                // A piece may stand within one that became a partial, or around it.
                .filter(|lines| {
                    let apart = |(start, end, _): &Edit| lines.end <= *start || lines.start >= *end;
                    edits.get(&lines.file).is_none_or(|edits| edits.iter().all(apart))
                })
                .collect();
            let text = |lines: &Lines| &written[lines.file].file.bytes[lines.start..lines.end];
            let Some(copies) = self.alike(copies, &text) else { continue };
            let content = self.content(text(&copies[0]));
            let reference = include.open.example().len() + folder.len();
            if (copies.len() - 1) * content.len() < copies.len() * reference + least as usize {
                continue;
            }
            let path = self.free_path(&folder, &name::of_markup(&content), &mut taken);
            let target = self.written_name(&path);
            let tag = include.open.write(&Values { target: &target, ..Values::default() });
            for lines in &copies {
                let bytes = text(lines);
                let indent: String =
                    bytes.iter().take_while(|b| matches!(b, b' ' | b'\t')).map(|&b| char::from(b)).collect();
                // In exact output the partial brings its own indentation.
                let indent = if self.options.strength == Strength::Bytes { String::new() } else { indent };
                edits.entry(lines.file).or_default().push((lines.start, lines.end, format!("{indent}{tag}\n")));
            }
            let files: FxHashSet<usize> = copies.iter().map(|lines| lines.file).collect();
            partials.push((
                ProposedPartial { path: path.clone(), uses: copies.len(), files: files.len(), bytes: content.len() },
                ProposedFile { path, role: Role::Partial, bytes: content },
            ));
        }
        if partials.is_empty() {
            return None;
        }
        let mut changed = written.to_vec();
        for (file, mut list) in edits {
            list.sort();
            let bytes = &mut changed[file].file.bytes;
            for (start, end, tag) in list.into_iter().rev() {
                bytes.splice(start..end, tag.into_bytes());
            }
        }
        let (partials, files): (Vec<_>, Vec<_>) = partials.into_iter().unzip();
        changed.extend(files.into_iter().map(|file| Written {
            file,
            extends: None,
            dialect: Arc::clone(&self.dialect),
        }));
        Some(Extracted { written: changed, partials })
    }

    /// The copies that are written like most of them; `None` if they are too few.
    fn alike<'w>(&self, copies: Vec<Lines>, text: &impl Fn(&Lines) -> &'w [u8]) -> Option<Vec<Lines>> {
        let key = |lines: &Lines| self.content(text(lines));
        let mut groups: Vec<(Vec<u8>, Vec<Lines>)> = Vec::new();
        for lines in copies {
            let key = key(&lines);
            match groups.iter_mut().find(|(known, _)| *known == key) {
                Some((_, list)) => list.push(lines),
                None => groups.push((key, vec![lines])),
            }
        }
        let (_, most) = groups.into_iter().rev().max_by_key(|(_, list)| list.len())?;
        (most.len() >= LEAST_COPIES).then_some(most)
    }

    /// Lines as they stand in a partial: in tidy output without the indentation that all have.
    fn content(&self, lines: &[u8]) -> Vec<u8> {
        // What is written for the tag ends the line, unless its line end stays.
        let lines = match self.dialect.rules.newline {
            Newline::Kept | Newline::Unknown => lines.strip_suffix(b"\n").unwrap_or(lines),
            Newline::Eaten | Newline::Line => lines,
        };
        if self.options.strength == Strength::Bytes {
            return lines.to_vec();
        }
        let indent = |line: &[u8]| line.iter().take_while(|b| matches!(b, b' ' | b'\t')).count();
        let least = lines.split(|b| *b == b'\n').filter(|line| !line.iter().all(|b| is_blank(*b))).map(indent).min();
        let least = least.unwrap_or(0);
        let mut out = Vec::with_capacity(lines.len());
        for line in lines.split_inclusive(|b| *b == b'\n') {
            out.extend_from_slice(line.get(least.min(indent(line))..).unwrap_or(line));
        }
        out
    }
}

/// The lines of a copy, if it has them for itself.
fn whole_lines(copy: &RepeatCopy, file: usize, written: &[Written]) -> Option<Lines> {
    let bytes = &written[file].file.bytes;
    let (start, end) = (copy.byte_start as usize, copy.byte_end as usize);
    let trimmed = start + bytes[start..end].trim_ascii_end().len();
    let before = bytes[..start].iter().rev().take_while(|b| matches!(b, b' ' | b'\t')).count();
    let after = bytes[trimmed..].iter().take_while(|b| matches!(b, b' ' | b'\t')).count();
    let line_start = start - before;
    let at_start = line_start == 0 || bytes[line_start - 1] == b'\n';
    let at_end = bytes.get(trimmed + after) == Some(&b'\n');
    (at_start && at_end).then_some(Lines { file, start: line_start, end: trimmed + after + 1 })
}
