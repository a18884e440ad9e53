//! What the page's script reads: lines and pieces as numbers, to keep the page small.

use radicon::report::{BlockCell, BlockTable, InsideSite, Passage, Report};
use serde_json::{Map, Value, json};

use super::{STATES, Side};

/// The data as JSON that can be in a script element.
pub fn json(report: &Report) -> String {
    let inside = &report.inside;
    let styles: Vec<Value> = inside.styles.iter().map(|style| json!([style.path, style.text])).collect();
    let signs: Map<String, Value> = STATES.iter().map(|(state, sign, _)| ((*state).to_owned(), json!(sign))).collect();
    let data = json!({
        "signs": signs,
        "lines": inside.lines,
        "names": inside.blocks,
        "before": site(&inside.before),
        "after": inside.after.as_ref().map(site),
        "styles": styles,
        "tables": super::tables(report).map(table).collect::<Vec<_>>(),
    });
    // Neither an end tag nor a comment can begin in it.
    data.to_string().replace('<', "\\u003c")
}

/// A file is `[path, role, lines]`, a page `[file, levels, pieces, strength]`; a piece is six
/// numbers: file, start, length, passage, block, and the line that is there instead, both counted
/// from 1.
fn site(site: &InsideSite) -> Value {
    let files: Vec<Value> = site.files.iter().map(|file| json!([file.path, file.role, file.lines])).collect();
    let pages: Vec<Value> = site
        .pages
        .iter()
        .map(|page| {
            let piece = |piece: &radicon::report::Piece| {
                let number = |text: Option<u32>| text.map_or(0, |at| at + 1);
                let (block, note) = (number(piece.block), number(piece.note));
                [piece.file, piece.start, piece.length, passage(piece.passage), block, note]
            };
            let pieces: Vec<u32> = page.pieces.iter().flat_map(piece).collect();
            json!([page.file, page.levels, pieces, page.proven])
        })
        .collect();
    json!({ "files": files, "pages": pages })
}

fn passage(passage: Passage) -> u32 {
    match passage {
        Passage::Base => 0,
        Passage::Block => 1,
        Passage::Include => 2,
        Passage::Body => 3,
        Passage::Rule => 4,
    }
}

/// A row is `[page, levels, cells]`, a cell `[given, level, line, inherits, level, …]` or 0.
fn table((side, table): (Side, &BlockTable)) -> Value {
    let cell = |cell: &Option<BlockCell>| match cell {
        None => json!(0),
        Some(cell) => {
            let mut values = vec![json!(cell.given)];
            for definer in &cell.definers {
                values.extend([json!(definer.level), json!(definer.line), json!(u8::from(definer.inherits))]);
            }
            Value::Array(values)
        }
    };
    let rows: Vec<Value> = table
        .rows
        .iter()
        .map(|row| json!([row.page, row.levels, row.cells.iter().map(cell).collect::<Vec<_>>()]))
        .collect();
    json!({ "proposed": side == Side::Proposed, "base": table.base, "blocks": table.blocks, "rows": rows })
}
