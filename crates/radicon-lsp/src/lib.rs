//! Radicon in the editor: a server that speaks the Language Server Protocol over standard input and output.
//!
//! It answers for templates of any dialect: definitions, references, hover, symbols, completion, links, folding, code
//! lenses, the findings of [`radicon::check()`] with their fixes, refactorings and renaming. Unsaved text counts. What it
//! finds is computed by [`radicon`]; this crate translates between its values and the protocol's.
//!
//! Every edit that a refactoring offers is proven to keep all pages; a fix may change a page, and its finding says so.

mod answers;
mod edits;
mod project;
mod server;
mod transport;

use anyhow::Result;

/// Serves one editor over standard input and output, until it asks to stop. Gives whether it said so before: an `exit`
/// without a `shutdown` is a failure.
///
/// # Errors
/// If the editor breaks off.
pub fn serve() -> Result<bool> {
    let (connection, cancelled, writer) = transport::stdio();
    let ended_well = server::run(&connection, &cancelled)?;
    // The writing thread ends with the connection.
    drop(connection);
    if let Ok(written) = writer.join() {
        written?;
    }
    Ok(ended_well)
}
