//! Changes as a patch.

use std::ops::Range;

use similar::{DiffTag, group_diff_ops};

use crate::sequence;
use crate::site::Change;

/// The lines around a change that a patch shows.
const CONTEXT: usize = 3;

/// A change to one file in the unified format, with the heads that `git apply` reads.
pub(crate) fn of(change: &Change) -> Vec<u8> {
    let empty = Vec::new();
    let (old, new) = (change.old.as_ref().unwrap_or(&empty), change.new.as_ref().unwrap_or(&empty));
    let (before, after) = (quoted("a", &change.path), quoted("b", &change.path));
    let mut out = format!("diff --git {before} {after}\n").into_bytes();
    if change.old.is_none() {
        out.extend_from_slice(b"new file mode 100644\n");
    } else if change.new.is_none() {
        out.extend_from_slice(b"deleted file mode 100644\n");
    }
    let side = |name: String, present: bool| if present { name } else { "/dev/null".to_owned() };
    let (before, after) = (side(before, change.old.is_some()), side(after, change.new.is_some()));
    let old: Vec<&[u8]> = old.split_inclusive(|&b| b == b'\n').collect();
    let new: Vec<&[u8]> = new.split_inclusive(|&b| b == b'\n').collect();
    let edits = sequence::edits(old.iter().copied(), new.iter().copied());
    for (index, hunk) in group_diff_ops(edits, CONTEXT).iter().enumerate() {
        let (Some(first), Some(last)) = (hunk.first(), hunk.last()) else { continue };
        if index == 0 {
            out.extend_from_slice(format!("--- {before}\n+++ {after}\n").as_bytes());
        }
        let left = numbered(first.old_range().start..last.old_range().end);
        let right = numbered(first.new_range().start..last.new_range().end);
        out.extend_from_slice(format!("@@ -{left} +{right} @@\n").as_bytes());
        for edit in hunk {
            if edit.tag() == DiffTag::Equal {
                signed(&mut out, b' ', &old[edit.old_range()]);
            } else {
                signed(&mut out, b'-', &old[edit.old_range()]);
                signed(&mut out, b'+', &new[edit.new_range()]);
            }
        }
    }
    out
}

/// The lines of a hunk in its head, counted from 1; an empty range is named by the line before it.
fn numbered(lines: Range<usize>) -> String {
    match lines.len() {
        0 => format!("{},0", lines.start),
        1 => format!("{}", lines.start + 1),
        count => format!("{},{count}", lines.start + 1),
    }
}

/// Adds lines with the sign of what becomes of them.
fn signed(out: &mut Vec<u8>, sign: u8, lines: &[&[u8]]) {
    for line in lines {
        out.push(sign);
        out.extend_from_slice(line);
        if !line.ends_with(b"\n") {
            out.extend_from_slice(b"\n\\ No newline at end of file\n");
        }
    }
}

/// A path with its side, quoted as in C where it holds anything unusual.
fn quoted(side: &str, path: &str) -> String {
    let plain = |c: char| !c.is_control() && c != '"' && c != '\\';
    if path.chars().all(plain) {
        return format!("{side}/{path}");
    }
    let mut out = format!("\"{side}/");
    for byte in path.bytes() {
        match byte {
            b'"' | b'\\' => out.extend(['\\', char::from(byte)]),
            b' '..=b'~' => out.push(char::from(byte)),
            _ => out.push_str(&format!("\\{byte:03o}")),
        }
    }
    out.push('"');
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn unusual_paths_are_quoted() {
        assert_eq!(quoted("a", "x/y z.html"), "a/x/y z.html");
        assert_eq!(quoted("b", "x\n\"é.html"), "\"b/x\\012\\\"\\303\\251.html\"");
    }

    #[test]
    fn lines_are_kept_byte_for_byte() {
        let old = b"1\n2\n3\n4\n\xff\r6\n7\n8\n9\n10\n11\n12\n13\nend".to_vec();
        let new = b"0\n1\n2\n3\n4\n\xff\r6\n7\n8\n9\n10\n11\n12\nend\n".to_vec();
        let change = Change { path: "x.html".into(), old: Some(old), new: Some(new) };
        let told = b"diff --git a/x.html b/x.html\n--- a/x.html\n+++ b/x.html\n\
            @@ -1,3 +1,4 @@\n+0\n 1\n 2\n 3\n\
            @@ -9,5 +10,4 @@\n 10\n 11\n 12\n-13\n-end\n\\ No newline at end of file\n+end\n";
        assert_eq!(of(&change).escape_ascii().to_string(), told.escape_ascii().to_string());
        let made = of(&Change { path: "x.html".into(), old: None, new: Some(b"one\n".to_vec()) });
        let told =
            "diff --git a/x.html b/x.html\nnew file mode 100644\n--- /dev/null\n+++ b/x.html\n@@ -0,0 +1 @@\n+one\n";
        assert_eq!(String::from_utf8(made), Ok(told.to_owned()));
        let same = Change { path: "x.html".into(), old: Some(b"a\n".to_vec()), new: Some(b"a\n".to_vec()) };
        assert_eq!(of(&same), b"diff --git a/x.html b/x.html\n");
    }
}
