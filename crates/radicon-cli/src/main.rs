//! `radicon`: the command line. It reads arguments, calls the library, and shows
//! what comes back; it computes nothing itself.

mod arguments;
mod commands;
mod output;
mod page;
mod terminal;

use std::io::ErrorKind;
use std::process::ExitCode;

use clap::Parser;

/// It gives memory back: a site of tens of thousands of pages is read, compared and dropped in turn.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// Done, or nothing to do.
const FINE: u8 = 0;
/// Findings, differences, or a failed proof.
const DIFFERENT: u8 = 1;
/// A usage error, or input that cannot be read.
const FAILED: u8 = 2;

fn main() -> ExitCode {
    let arguments = arguments::Arguments::parse();
    output::set_quiet(arguments.quiet);
    match commands::run(&arguments) {
        Ok(code) => ExitCode::from(code),
        // Whoever reads the output has closed it; there is nobody left to tell.
        Err(error) if is_broken_pipe(&error) => ExitCode::from(FINE),
        Err(error) => {
            tell_error(&error);
            ExitCode::from(if is_failed_proof(&error) { DIFFERENT } else { FAILED })
        }
    }
}

/// Reports an error with its causes, each once: an error of the library has its cause in its text already.
fn tell_error(error: &anyhow::Error) {
    let mut text = error.to_string();
    for cause in error.chain().skip(1).map(ToString::to_string) {
        if !text.contains(&cause) {
            text = format!("{text}: {cause}");
        }
    }
    terminal::tell(format_args!("{}error:{} {text}", output::BAD, output::PLAIN));
}

/// Whether a command refused to change pages.
fn is_failed_proof(error: &anyhow::Error) -> bool {
    matches!(error.downcast_ref(), Some(radicon::steps::StepError::Changes(_)))
}

fn is_broken_pipe(error: &anyhow::Error) -> bool {
    let broken = |cause: &(dyn std::error::Error + 'static)| {
        cause.downcast_ref::<std::io::Error>().is_some_and(|error| error.kind() == ErrorKind::BrokenPipe)
    };
    error.chain().any(broken)
}
