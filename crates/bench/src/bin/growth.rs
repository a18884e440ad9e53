//! Measures reading and resolving on made-up sites of growing size: a tenth of
//! the templates are layouts in chains of one to six levels, three in a hundred
//! partials, the rest pages.
//!
//! ```sh
//! cargo run --release -p radicon-bench --bin growth                  # 1,000, 10,000 and 100,000 templates
//! cargo run --release -p radicon-bench --bin growth -- 10000
//! ```
//!
//! Prints the time to read the site from the disk, to put all pages together, to check
//! it, to read and check it again after one page has changed, as `check --watch` does, and
//! the greatest memory so far.

use std::fs;
use std::path::Path;
use std::time::Instant;

use radicon::check::{Checks, RULES, Rule};
use radicon::{Resolver, disk};

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let sizes: Vec<usize> = std::env::args().skip(1).map(|size| size.parse()).collect::<Result<_, _>>()?;
    let sizes = if sizes.is_empty() { vec![1_000, 10_000, 100_000] } else { sizes };
    println!(
        "{:>9} {:>9} {:>8} {:>8} {:>8} {:>8} {:>8} {:>8} {:>10}",
        "templates", "MB", "load s", "pages s", "sum s", "MB out", "check s", "again s", "peak MB"
    );
    for size in sizes {
        let folder = Path::new("target").join(format!("growth-{size}"));
        let bytes = write_site(&folder, size)?;
        let start = Instant::now();
        let loaded = disk::load(&folder)?;
        let read = start.elapsed().as_secs_f64();
        let pages = Resolver::new(&loaded.site).flatten_all()?;
        let all = start.elapsed().as_secs_f64();
        let out: usize = pages.iter().map(|(_, flat)| flat.bytes.len()).sum();
        let problems = pages.iter().map(|(_, flat)| flat.problems.len()).sum::<usize>() + loaded.problems.len();
        assert_eq!((loaded.site.templates.len(), problems), (size, 0));
        // As when watching: copies are not compared.
        let rules: Vec<Rule> = RULES.iter().filter(|rule| rule.id != "drift").copied().collect();
        let mut reader = disk::Reader::new(&folder);
        reader.read()?;
        let (start, mut checks) = (Instant::now(), Checks::new(&rules));
        let found = checks.check(&loaded.site).findings.len();
        let check = start.elapsed().as_secs_f64();
        let page = folder.join(&loaded.site.get(loaded.site.pages().next().ok_or("no page")?).path);
        fs::write(&page, fs::read_to_string(&page)? + "<!-- seen -->\n")?;
        let start = Instant::now();
        let changed = reader.read()?;
        assert!(checks.check(&changed.site).findings.len().abs_diff(found) < 2);
        let again = start.elapsed().as_secs_f64();
        println!(
            "{size:>9} {:>9.1} {read:>8.2} {:>8.2} {all:>8.2} {:>8.0} {check:>8.2} {again:>8.3} {:>10}",
            bytes as f64 / 1e6,
            all - read,
            out as f64 / 1e6,
            radicon_bench::peak_memory()
        );
        fs::remove_dir_all(&folder)?;
    }
    Ok(())
}

/// Writes a site; gives its size in bytes.
fn write_site(folder: &Path, size: usize) -> std::io::Result<usize> {
    let (layouts, partials) = (size / 10, size * 3 / 100);
    let mut bytes = 0;
    let mut write = |path: String, text: String| {
        let path = folder.join("templates").join(path);
        fs::create_dir_all(path.parent().unwrap_or(folder))?;
        bytes += text.len();
        fs::write(path, text)
    };
    for partial in 0..partials {
        let items: String =
            (0..6).map(|item| format!("  <li><a href=\"/{partial}/{item}\">{{{{ item{item} }}}}</a></li>\n")).collect();
        // Some partials include the next one.
        let next = if partial % 3 == 0 && partial + 1 < partials { include(partial + 1) } else { String::new() };
        write(format!("partials/{partial}.html"), format!("<ul class=\"{{{{ kind }}}}\">\n{items}</ul>\n{next}"))?;
    }
    for layout in 0..layouts {
        let level = layout % 6;
        let text = match level {
            0 => frame(layout % partials.max(1)),
            _ => child(layout - 1, level, layout % partials.max(1)),
        };
        write(format!("layouts/{layout}.html"), text)?;
    }
    for page in 0..size - layouts - partials {
        let text = child(page % layouts.max(1), 9, page % partials.max(1)).replace("layer9", "title");
        write(format!("pages/{}/{page}.html", page / 100), text)?;
    }
    Ok(bytes)
}

fn include(partial: usize) -> String {
    format!("{{% include \"partials/{partial}.html\" with kind=\"menu\" %}}\n")
}

fn frame(partial: usize) -> String {
    let blocks: String = (1..6)
        .map(|level| format!("  <div>{{% block layer{level} %}}<p>Layer {level}</p>{{% endblock %}}</div>\n"))
        .collect();
    format!(
        "<!DOCTYPE html>\n<html>\n<head>\n  <title>{{% block title %}}Tidewater{{% endblock %}}</title>\n</head>\n<body>\n{}{blocks}  <main>\n{{% block content %}}{{% endblock %}}\n  </main>\n  <footer>{{% if open %}}open{{% else %}}closed{{% endif %}}</footer>\n</body>\n</html>\n",
        include(partial)
    )
}

fn child(parent: usize, level: usize, partial: usize) -> String {
    let text = "<p>The boats leave from the old pier at seven and from the quay at nine, weather permitting.</p>\n";
    format!(
        "{{% extends \"layouts/{parent}.html\" %}}\n{{% block layer{level} %}}<b>{{{{ super() }}}}</b>{{% endblock %}}\n{{% block content %}}\n{{{{ super() }}}}<section>\n{text}{}{text}</section>\n{{% endblock %}}\n",
        include(partial)
    )
}
