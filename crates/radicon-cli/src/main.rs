//! `radicon`: the command line. It reads arguments, calls the library, and shows
//! what comes back; it computes nothing itself.

mod arguments;
mod commands;
mod output;
mod page;

use std::io::ErrorKind;
use std::process::ExitCode;

use clap::Parser;

/// It gives memory back: a site of tens of thousands of pages is read, compared and dropped in turn.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// Fine.
const FINE: u8 = 0;
/// Differences, or a proof that failed.
const DIFFERENT: u8 = 1;
/// Wrong use, or input that cannot be read.
const FAILED: u8 = 2;

fn main() -> ExitCode {
    let arguments = arguments::Arguments::parse();
    match commands::run(&arguments) {
        Ok(code) => ExitCode::from(code),
        // Whoever reads the output has closed it; there is nobody left to tell.
        Err(error) if is_broken_pipe(&error) => ExitCode::from(FINE),
        Err(error) => {
            tell_error(&error);
            ExitCode::from(FAILED)
        }
    }
}

fn tell_error(error: &anyhow::Error) {
    anstream::eprintln!("{}error:{} {error:#}", output::BAD, output::PLAIN);
}

fn is_broken_pipe(error: &anyhow::Error) -> bool {
    let broken = |cause: &(dyn std::error::Error + 'static)| {
        cause.downcast_ref::<std::io::Error>().is_some_and(|error| error.kind() == ErrorKind::BrokenPipe)
    };
    error.chain().any(broken)
}
