//! Changes as a patch.

use similar::TextDiff;

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
    let diff = TextDiff::from_lines(&old[..], &new[..]);
    // Writing to memory cannot fail.
    let _ = diff.unified_diff().context_radius(CONTEXT).header(&before, &after).to_writer(&mut out);
    out
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
}
