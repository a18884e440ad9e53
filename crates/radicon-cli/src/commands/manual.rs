//! `completions` and `manual`: what shells and readers of manuals want, from the arguments themselves.

use std::path::Path;

use anyhow::{Context, Result};
use clap::CommandFactory;

use super::out;
use crate::FINE;
use crate::arguments::Arguments;
use crate::output::{count, headline, next};

pub fn completions(shell: clap_complete::Shell) -> Result<u8> {
    // Written at once, so that a reader who goes away early is met as everywhere.
    let mut text = Vec::new();
    clap_complete::generate(shell, &mut Arguments::command(), "radicon", &mut text);
    std::io::Write::write_all(&mut out(), &text)?;
    Ok(FINE)
}

pub fn pages(folder: &Path) -> Result<u8> {
    std::fs::create_dir_all(folder).with_context(|| format!("{} cannot be created", folder.display()))?;
    let mut command = Arguments::command();
    command.build();
    let mut written = 0;
    let mut open = vec![command];
    while let Some(command) = open.pop() {
        open.extend(command.get_subcommands().filter(|below| below.get_name() != "help").cloned());
        let name = command.get_display_name().unwrap_or(command.get_name()).to_owned();
        let path = folder.join(format!("{name}.1"));
        let mut text = Vec::new();
        clap_mangen::Man::new(command).render(&mut text)?;
        std::fs::write(&path, text).with_context(|| format!("{} cannot be written", path.display()))?;
        written += 1;
    }
    let mut out = out();
    headline(&mut out, &format!("{} written into {}", count(written, "page"), folder.display()))?;
    next(&mut out, &format!("man -l {}", folder.join("radicon.1").display()))?;
    Ok(FINE)
}
