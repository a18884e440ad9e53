//! How well `propose` finds hidden hierarchies: random sites of one to four
//! levels are flattened, and only the pages are given to it. `--into` keeps the sites.
//!
//! ```sh
//! cargo run --release -p radicon-bench --bin hidden -- [SITES] [--pages MOST] [--small | --price BYTES] [--strict] [--seed N] [--into DIR]
//! ```

#[path = "../../../radicon/tests/it/made/mod.rs"]
#[allow(dead_code, missing_docs, reason = "the tests use more of it")]
mod made;

use std::time::Instant;

use made::Random;
use made::hidden::{Shape, generate, overrides};
use radicon::propose::Goal;
use radicon::site::Role;
use radicon::{Proposal, ProposeOptions, Settings, Site, SourceFile, Strength, dialect, propose};

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let Wanted { sites, most, seed, into, mut options } = wanted()?;
    println!("{sites} sites of up to {most} pages, first seed {seed}");
    let (mut ratios, mut mixed) = (Vec::new(), Vec::new());
    let (mut levels, mut proven, mut pages, mut found, mut hidden_layouts) = (0, 0, 0, 0, 0);
    let (mut partials, mut hidden_partials, mut blocks, mut exact) = (0, 0, 0, 0);
    let mut all = Vec::new();
    let start = Instant::now();
    for number in 0..sites {
        let mut random = Random((seed + number) as u64);
        let shape = Shape::random(&mut random, most);
        let hidden = generate(&mut random, shape);
        let truth: usize = hidden.site.templates.iter().map(|template| template.source.len()).sum();
        let layouts = hidden.site.templates.iter().filter(|template| template.role == Role::Layout).count();
        let flat = Site::read(hidden.pages, dialect::builtin(), &Settings::default());
        options.dialect = dialect::builtin_named(shape.dialect());
        let proposal = propose(&flat, &options)?;
        let new = adopted(&flat, &proposal);
        if let Some(into) = &into {
            write(into, &[("hidden", &hidden.site), ("flat", &flat), ("proposed", &new)])?;
        }
        for page in new.templates.iter().filter(|template| template.path.starts_with("pages/")) {
            let (ours, theirs) = (overrides(&new, &page.path), overrides(&hidden.site, &page.path));
            blocks += theirs.len();
            exact += theirs.iter().filter(|block| ours.contains(block)).count();
        }
        let ratio = proposal.after.bytes as f64 / truth as f64;
        let depth = depth(&proposal);
        levels += usize::from(depth == hidden.levels);
        found += proposal.layouts.len();
        hidden_layouts += layouts;
        partials += proposal.partials.len();
        hidden_partials += hidden.partials;
        pages += proposal.proof.pages.len();
        proven += proposal.proof.pages.iter().filter(|page| page.is_equal()).count();
        let told = format!(
            "  seed {}{}: {:.3} of {truth} bytes; {} pages, {} left, levels {depth} of {}, layouts {} of {}, partials {} of {}",
            seed + number,
            match (shape.reindented, shape.mixed_ends) {
                (true, true) => ", indented otherwise, mixed line ends",
                (true, false) => ", indented otherwise",
                (false, true) => ", mixed line ends",
                (false, false) => "",
            },
            ratio,
            flat.templates.len(),
            proposal.left.len(),
            hidden.levels,
            proposal.layouts.len(),
            layouts,
            proposal.partials.len(),
            hidden.partials
        );
        all.push((ratio, told));
        (if shape.reindented || shape.mixed_ends { &mut mixed } else { &mut ratios }).push(ratio);
    }
    all.sort_by(|(a, _), (b, _)| b.total_cmp(a));
    println!("the worst five:");
    all.iter().take(5).for_each(|(_, told)| println!("{told}"));
    for (what, ratios) in [("consistent sites", &mut ratios), ("mixed indentation or line ends", &mut mixed)] {
        ratios.sort_by(f64::total_cmp);
        if let (Some(best), Some(worst)) = (ratios.first(), ratios.last()) {
            let (count, median) = (ratios.len(), ratios[ratios.len() / 2]);
            let greater = ratios.iter().filter(|ratio| **ratio > 1.0).count();
            println!(
                "proposal over hidden truth, {count} {what}: median {median:.3}, best {best:.3}, worst {worst:.3}, {greater} greater"
            );
        }
    }
    println!(
        "levels as hidden in {levels} of {sites}; {found} layouts of {hidden_layouts}, {partials} partials of {hidden_partials}; {:.1} % of {blocks} hidden overrides with the same bounds; {proven} of {pages} pages proven; {:.1} s",
        100.0 * exact as f64 / blocks as f64,
        start.elapsed().as_secs_f64()
    );
    Ok(())
}

/// What the command line asks for.
struct Wanted {
    sites: usize,
    most: usize,
    seed: usize,
    into: Option<std::path::PathBuf>,
    options: ProposeOptions,
}

fn wanted() -> Result<Wanted, Box<dyn std::error::Error>> {
    let mut into = None;
    let (mut sites, mut most, mut seed, mut options) = (60, 300, 20_261_123, ProposeOptions::default());
    let mut arguments = std::env::args().skip(1);
    while let Some(argument) = arguments.next() {
        let mut number = || arguments.next().and_then(|text| text.parse().ok()).ok_or("a number is missing");
        match argument.as_str() {
            "--pages" => most = number()?,
            "--seed" => seed = number()?,
            "--strict" => options.strength = Strength::Bytes,
            "--into" => into = arguments.next().map(std::path::PathBuf::from),
            "--small" => options.goal = Goal::Smallest,
            "--price" => options.block_price = Some(number()? as u64),
            count => sites = count.parse()?,
        }
    }
    Ok(Wanted { sites, most, seed, into, options })
}

/// Writes sites into folders.
fn write(into: &std::path::Path, sites: &[(&str, &Site)]) -> std::io::Result<()> {
    for (name, site) in sites {
        for template in &site.templates {
            let path = into.join(name).join(&template.path);
            std::fs::create_dir_all(path.parent().unwrap_or(into))?;
            std::fs::write(path, template.source.as_slice())?;
        }
    }
    Ok(())
}

/// How many layouts stand above each other at most.
fn depth(proposal: &Proposal) -> usize {
    let extends = |path: &String| proposal.layouts.iter().find(|layout| layout.path == *path)?.extends.clone();
    let of = |path: &String| std::iter::successors(Some(path.clone()), extends).count();
    proposal.layouts.iter().map(|layout| of(&layout.path)).max().unwrap_or(0)
}

/// The site with a proposal adopted.
fn adopted(old: &Site, proposal: &Proposal) -> Site {
    let changed = |path: &str| proposal.files.iter().any(|file| file.path == path);
    let kept = old.templates.iter().filter(|template| !changed(&template.path));
    let kept = kept.map(|template| SourceFile::new(template.path.clone(), template.source.to_vec()));
    let new = proposal.files.iter().map(|file| SourceFile::new(file.path.clone(), file.bytes.clone()));
    Site::read(kept.chain(new).collect(), dialect::builtin(), &Settings::default())
}
