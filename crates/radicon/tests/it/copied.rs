//! Sites that careless people copied by hand: the proposal is what a person would have written.

use crate::made::copied::{club, handbook, shop};
use radicon::{Proposal, ProposeOptions, Settings, Site, SourceFile, dialect, propose};

fn read(files: Vec<SourceFile>) -> Site {
    Site::read(files, dialect::builtin(), &Settings::default())
}

#[track_caller]
fn proposed(site: &Site) -> Proposal {
    let proposal = propose(site, &ProposeOptions::default()).expect("a proposal");
    assert!(proposal.proof.equal);
    proposal
}

/// The layouts of a proposal: the path of each, the one around it, its blocks, and what it fills; then what is left.
fn told(proposal: &Proposal) -> Vec<String> {
    let stem = |path: &str| path.trim_start_matches("layouts/").trim_end_matches(".html").to_owned();
    let layout = |layout: &radicon::propose::ProposedLayout| {
        let blocks: Vec<&str> = layout.blocks.iter().map(|block| block.name.as_str()).collect();
        let around = layout.extends.as_deref().map(|path| format!(" in {}", stem(path))).unwrap_or_default();
        let fills = if layout.fills.is_empty() { String::new() } else { format!(" fills {}", layout.fills.join(" ")) };
        format!("{}{around}: {}{fills}", stem(&layout.path), blocks.join(" ")).replace(":  ", ": ")
    };
    let left = proposal.left.iter().map(|left| format!("left: {}", left.page));
    proposal.layouts.iter().map(layout).chain(left).collect()
}

#[test]
fn sites_are_written_out_to_be_looked_at() {
    let Ok(folder) = std::env::var("RADICON_WRITE") else { return };
    for (name, files) in [("shop", shop()), ("club", club()), ("handbook", handbook())] {
        for file in files {
            let path = std::path::Path::new(&folder).join(name).join(&file.path);
            std::fs::create_dir_all(path.parent().expect("a folder")).expect("a folder");
            std::fs::write(path, &file.bytes).expect("a file");
        }
    }
}

#[test]
fn a_shop_gets_its_pages_with_a_side_menu_and_its_shelves() {
    assert_eq!(
        told(&proposed(&read(shop()))),
        [
            "base: title description head_scripts main content footer",
            "article in base: crumbs sidebar content fills main",
            "bulbs in article: fills sidebar",
            "seeds in article: fills sidebar",
            "tools in article: fills sidebar",
            "trees in article: fills sidebar",
            "left: order-form.html",
            "left: tools/dibber.html",
        ]
    );
}

#[test]
fn a_club_gets_its_boats() {
    assert_eq!(
        told(&proposed(&read(club()))),
        [
            "base: title head_scripts content side foot_by",
            "boats in base: fills head_scripts side",
            "left: minutes.html",
        ]
    );
}

#[test]
fn a_handbook_gets_its_languages() {
    assert_eq!(
        told(&proposed(&read(handbook()))),
        [
            "base: lang title head_links header content menu",
            "lang-de in base: fills lang header menu",
            "lang-en in base: fills lang header menu",
            "left: index.html",
        ]
    );
}

/// How many files hold a text after a proposal.
fn holding(site: &Site, proposal: &Proposal, text: &str) -> usize {
    let after = site.after(&proposal.changes(site), dialect::builtin());
    let left = |path: &str| proposal.left.iter().any(|left| left.page == path);
    let holds = |source: &[u8]| String::from_utf8_lossy(source).contains(text);
    after.templates.iter().filter(|template| !left(&template.path) && holds(&template.source)).count()
}

#[test]
fn what_is_to_be_edited_is_in_one_file() {
    let (shop, club) = (read(shop()), read(club()));
    let (of_shop, of_club) = (proposed(&shop), proposed(&club));
    // An entry of the menu, one of a side menu, a style sheet, the footer of pages that have the usual one.
    for text in [">Offers</a>", ">Chard</a>", "css/print.css", "Mill Lane 4"] {
        let files = holding(&shop, &of_shop, text);
        // Three pages have a footer of their own, of last year.
        assert_eq!(files, if text == "Mill Lane 4" { 4 } else { 1 }, "{text}");
    }
    for text in [">Join</a>", ">Otter</a>", "club.css", "east bank"] {
        assert_eq!(holding(&club, &of_club, text), 1, "{text}");
    }
}
