//! How well `propose` finds hidden hierarchies: random sites of one to four
//! levels are flattened, and only the pages are given to it. `--into` keeps the sites.
//!
//! ```sh
//! cargo run --release --example hidden -- [SITES] [--pages MOST] [--small] [--strict] [--seed N] [--into DIR]
//! ```

#[path = "../tests/common/mod.rs"]
mod common;

use std::time::Instant;

use common::Random;
use common::hidden::{Shape, generate};
use radicon::{Options, Role, Settings, Site, Strength, dialect, propose};

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let mut into = None;
    let (mut sites, mut most, mut seed, mut options) = (60, 300, 20_261_123, Options::default());
    let mut arguments = std::env::args().skip(1);
    while let Some(argument) = arguments.next() {
        let mut number = || arguments.next().and_then(|text| text.parse().ok()).ok_or("a number is missing");
        match argument.as_str() {
            "--pages" => most = number()?,
            "--seed" => seed = number()?,
            "--strict" => options.strength = Strength::Bytes,
            "--into" => into = arguments.next().map(std::path::PathBuf::from),
            "--small" => options.block_price = 50,
            count => sites = count.parse()?,
        }
    }
    println!("{sites} sites of up to {most} pages, first seed {seed}");
    let mut ratios = Vec::new();
    let (mut levels, mut proven, mut pages, mut found, mut hidden_layouts) = (0, 0, 0, 0, 0);
    let (mut partials, mut hidden_partials) = (0, 0);
    let start = Instant::now();
    for number in 0..sites {
        let mut random = Random((seed + number) as u64);
        let shape = Shape::random(&mut random, most);
        let hidden = generate(&mut random, shape);
        let truth: usize = hidden.site.templates.iter().map(|template| template.source.len()).sum();
        let layouts = hidden.site.templates.iter().filter(|template| template.role == Role::Layout).count();
        let flat = Site::read(hidden.pages, dialect::builtin(), &Settings::default());
        if let Some(into) = &into {
            for template in
                hidden.site.templates.iter().map(|t| ("hidden", t)).chain(flat.templates.iter().map(|t| ("flat", t)))
            {
                let path = into.join(template.0).join(&template.1.path);
                std::fs::create_dir_all(path.parent().unwrap_or(into))?;
                std::fs::write(path, template.1.source.as_slice())?;
            }
        }
        let proposal = propose(&flat, &options)?;
        let ratio = proposal.after.bytes as f64 / truth as f64;
        let depth = |path: &str| {
            let extends = |path: &String| proposal.layouts.iter().find(|layout| layout.path == *path)?.extends.clone();
            std::iter::successors(Some(path.to_owned()), extends).count()
        };
        let depth = proposal.layouts.iter().map(|layout| depth(&layout.path)).max().unwrap_or(0);
        levels += usize::from(depth == hidden.levels);
        found += proposal.layouts.len();
        hidden_layouts += layouts;
        partials += proposal.partials.len();
        hidden_partials += hidden.partials;
        pages += proposal.proof.len();
        proven += proposal.proof.iter().filter(|page| page.strength.is_some()).count();
        if ratio > 1.1 || proposal.left.len() > 1 {
            println!(
                "  seed {}{}: {:.3} of {truth} bytes; {} pages, {} left, levels {depth} of {}, layouts {} of {}, partials {} of {}",
                seed + number,
                if shape.reindented { ", indented otherwise" } else { "" },
                ratio,
                flat.templates.len(),
                proposal.left.len(),
                hidden.levels,
                proposal.layouts.len(),
                layouts,
                proposal.partials.len(),
                hidden.partials
            );
        }
        ratios.push(ratio);
    }
    ratios.sort_by(f64::total_cmp);
    println!(
        "proposal over hidden truth: median {:.3}, best {:.3}, worst {:.3}; levels as hidden in {levels} of {sites}; {found} layouts of {hidden_layouts}, {partials} partials of {hidden_partials}; {proven} of {pages} pages proven; {:.1} s",
        ratios[ratios.len() / 2],
        ratios[0],
        ratios[ratios.len() - 1],
        start.elapsed().as_secs_f64()
    );
    Ok(())
}
