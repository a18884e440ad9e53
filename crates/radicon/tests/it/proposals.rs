//! Proposals on random sites, on the demo and on real pages: always proven,
//! always the same, and smaller.

use std::path::Path;
use std::sync::Arc;

use crate::common::{Random, book, cases, seed};
use crate::made::site::{Care, copied_pages, site};
use radicon::markup::{Document, NodeId, TokenKind};
use radicon::propose::ProposedLayout;
use radicon::prove::AssumptionAbout;
use radicon::site::{Partials, Role};
use radicon::{Proposal, ProposeOptions, Settings, Site, SourceFile, Strength, dialect, disk, propose, prove};

fn options(strength: Strength) -> ProposeOptions {
    ProposeOptions { strength, ..ProposeOptions::default() }
}

/// The site with the proposal in place.
fn adopted(old: &Site, proposal: &Proposal) -> Site {
    let changed = |path: &str| proposal.files.iter().any(|file| file.path == path);
    let kept = old.templates.iter().filter(|template| !changed(&template.path));
    let files = kept
        .map(|template| SourceFile::new(template.path.clone(), template.source.to_vec()))
        .chain(proposal.files.iter().map(|file| SourceFile::new(file.path.clone(), file.bytes.clone())))
        .collect();
    let mut dialects: Vec<_> = Vec::new();
    let own = old.templates.iter().map(|template| &template.dialect);
    for dialect in own.chain(dialect::builtin()) {
        if !dialects.iter().any(|known: &std::sync::Arc<dialect::Dialect>| known.name == dialect.name) {
            dialects.push(dialect.clone());
        }
    }
    old.with_files(files, &dialects)
}

/// A layout and those that it extends.
fn chain<'p>(proposal: &'p Proposal, layout: &'p ProposedLayout) -> impl Iterator<Item = &'p ProposedLayout> {
    std::iter::successors(Some(layout), |layout| {
        let path = layout.extends.as_ref()?;
        proposal.layouts.iter().find(|layout| layout.path == *path)
    })
}

/// What must hold of every proposal.
#[track_caller]
fn check(old: &Site, proposal: &Proposal, strength: Strength) {
    let new = adopted(old, proposal);
    let proof = prove(old, &new, Strength::Dom);
    for page in &proof.pages {
        assert!(page.is_equal_at(strength), "{page:?}");
    }
    let pages = old.pages().count();
    // What cannot be read is no page that somebody sees.
    assert_eq!(proof.pages.len(), old.pages().filter(|id| old.get(*id).unreadable.is_none()).count());
    // Of what takes no layout some may include a partial.
    let is_left = |path: &str| proposal.left.iter().any(|left| left.page == path);
    let is_page = |path: &str| old.find(path).is_some_and(|id| old.get(id).rendered && !is_left(path));
    let including = proposal.files.iter().filter(|file| file.extends.is_none() && is_page(&file.path)).count();
    assert_eq!(
        proposal.layouts.iter().map(|layout| layout.pages).sum::<usize>() + proposal.left.len() + including,
        pages,
        "every page is converted or left with a reason: {:?} {:?}",
        proposal.left,
        proposal.files.iter().map(|file| &file.path).collect::<Vec<_>>()
    );
    // Lines that stay with the page leave their line ends behind, which count where every byte does.
    let may_fail = |page: &str| strength == Strength::Bytes && page.starts_with("crew/");
    let fails = |left: &radicon::propose::Left| left.reason.contains("could not be proven") && !may_fail(&left.page);
    assert!(!proposal.left.iter().any(fails), "{:?}", proposal.left);
    assert!(proposal.after.bytes <= proposal.before.bytes);
    for layout in &proposal.layouts {
        let mut names: Vec<_> =
            chain(proposal, layout).flat_map(|layout| &layout.blocks).map(|block| &block.name).collect();
        // The main content's block has its name at every level.
        names.retain(|name| *name != "content");
        let count = names.len();
        names.sort();
        names.dedup();
        assert_eq!(names.len(), count, "names are unique up the chain of {}", layout.path);
    }
    // What the library says of sizes is what stands in the files.
    let bytes: usize = new.templates.iter().map(|template| template.source.len()).sum();
    assert_eq!(proposal.after.bytes, if !proposal.layouts.is_empty() { bytes } else { proposal.before.bytes });
}

#[test]
fn random_sites_are_proposed_and_proven() {
    let first = seed("proposals");
    let brace = dialect::builtin_named("brace-percent");
    for case in 0..cases(150, 3_000) {
        let mut random = Random(first + case);
        let care = if random.once_in(2) { Care::Exact } else { Care::Sloppy };
        let count = 2 + random.below(18);
        let old = site(copied_pages(&mut random, count, care));
        for strength in [Strength::Bytes, Strength::Blanks] {
            let dialect = if random.once_in(2) { brace.clone() } else { None };
            let proposal =
                propose(&old, &ProposeOptions { dialect, ..options(strength) }).expect("a dialect with layouts");
            check(&old, &proposal, strength);
            let converted = proposal.files.len().saturating_sub(1);
            if count > 4 && (care == Care::Exact || strength == Strength::Blanks) {
                assert!(
                    converted * 4 >= count * 3,
                    "seed {}: {converted} of {count} pages: {:?}",
                    first + case,
                    proposal.left
                );
            }
        }
    }
}

#[test]
fn order_and_threads_change_nothing() {
    let mut random = Random(seed("order"));
    let mut files = copied_pages(&mut random, 24, Care::Sloppy);
    let show = |proposal: Proposal| serde_json::to_string(&proposal).expect("JSON");
    let first = show(propose(&site(files.clone()), &ProposeOptions::default()).expect("a proposal"));
    for threads in [1, 2, 5] {
        for _ in 0..3 {
            for at in (1..files.len()).rev() {
                files.swap(at, random.below(at + 1));
            }
            let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build().expect("threads");
            let again = pool.install(|| propose(&site(files.clone()), &ProposeOptions::default()).expect("a proposal"));
            assert_eq!(show(again), first);
        }
    }
}

#[test]
fn one_changed_letter_attribute_or_element_is_always_found() {
    let first = seed("sensitivity");
    let mut tried = 0;
    for case in 0..cases(400, 8_000) {
        let mut random = Random(first + case);
        let count = 4 + random.below(6);
        let old = site(copied_pages(&mut random, count, Care::Exact));
        let strength = if random.once_in(2) { Strength::Bytes } else { Strength::Blanks };
        let mut proposal = propose(&old, &options(strength)).expect("a proposal");
        if proposal.layouts.is_empty() {
            continue;
        }
        let index = random.below(proposal.files.len());
        let file = &mut proposal.files[index];
        let Some(changed) = change_something(&mut random, &file.bytes) else { continue };
        file.bytes = changed;
        let page = (file.role == radicon::site::Role::Page).then(|| file.path.clone());
        let proof = prove(&old, &adopted(&old, &proposal), Strength::Dom);
        let found: Vec<_> = proof.pages.iter().filter(|page| !page.is_equal()).map(|page| page.page.clone()).collect();
        match page {
            Some(page) => assert_eq!(
                found,
                [page],
                "seed {}:\n{}",
                first + case,
                String::from_utf8_lossy(&proposal.files[index].bytes)
            ),
            None => assert!(!found.is_empty(), "seed {}: a change of the layout was not found", first + case),
        }
        assert!(!proof.equal);
        tried += 1;
    }
    assert!(tried > cases(300, 6_000), "only {tried} changes were tried");
}

/// Changes one visible thing in what a block or the layout holds.
fn change_something(random: &mut Random, bytes: &[u8]) -> Option<Vec<u8>> {
    let dialect = dialect::builtin_named("margin")?;
    let document = Document::read(bytes, &dialect);
    // The letters of an end tag may change nothing: another tag may close its element.
    let shown = |at: usize| {
        let token = document.tokens.iter().find(|token| token.span().range().contains(&at));
        token.is_some_and(|token| token.kind != TokenKind::EndTag)
    };
    let solid = |at: usize| bytes[at].is_ascii_alphanumeric() && shown(at);
    let inside = |at: usize| document.constructs.items.iter().all(|item| !item.span.range().contains(&at));
    // Loose white space between a page's blocks is no part of the page; letters always are.
    let letters: Vec<usize> = (0..bytes.len()).filter(|&at| solid(at) && inside(at)).collect();
    let elements: Vec<NodeId> =
        document.all_below_root().filter(|&node| !document.name(bytes, node).is_empty()).collect();
    let mut out = bytes.to_vec();
    match random.below(4) {
        0 if !elements.is_empty() => {
            let span = document.span(elements[random.below(elements.len())]);
            out.drain(span.range());
        }
        1 if !elements.is_empty() => {
            let at = document.nodes[elements[random.below(elements.len())]].first;
            let name_end = document.tokens[at].name().end as usize;
            out.splice(name_end..name_end, *b" data-changed");
        }
        2 if !elements.is_empty() => {
            let at = document.span(elements[random.below(elements.len())]).start as usize;
            out.splice(at..at, *b"<hr>");
        }
        _ => {
            let at = *letters.get(random.below(letters.len()))?;
            out[at] = if out[at] == b'x' { b'y' } else { b'x' };
        }
    }
    Some(out)
}

fn demo() -> Site {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo");
    disk::load(&folder).expect("the demo").site
}

#[test]
fn the_demo_gets_the_layout_a_developer_would_write() {
    let old = demo();
    let proposal = propose(&old, &ProposeOptions::default()).expect("a proposal");
    check(&old, &proposal, Strength::Blanks);
    assert_eq!((old.pages().count(), proposal.left.len(), proposal.files.len()), (32, 7, 29), "{:?}", proposal.left);
    assert_eq!(proposal.layouts[0].path, "layouts/base.html");
    let names: Vec<_> = proposal.layouts[0].blocks.iter().map(|block| block.name.as_str()).collect();
    for expected in ["title", "description", "styles", "body_class", "content", "scripts"] {
        assert!(names.contains(&expected), "no block {expected} in {names:?}");
    }
    let layout = proposal.files.iter().find(|file| file.path == proposal.layouts[0].path).expect("the layout");
    insta::assert_snapshot!("demo-layout", String::from_utf8_lossy(&layout.bytes));
    let harbours = &proposal.layouts[1];
    assert_eq!((harbours.path.as_str(), harbours.pages), ("layouts/harbours.html", 6));
    assert_eq!(harbours.fills, ["styles", "body_class", "scripts"]);
    let page = proposal.files.iter().find(|file| file.path == "fares.html").expect("a page");
    insta::assert_snapshot!("demo-fares", String::from_utf8_lossy(&page.bytes));
}

#[test]
fn the_demo_keeps_every_byte_in_strict_mode() {
    let old = demo();
    let proposal = propose(&old, &options(Strength::Bytes)).expect("a proposal");
    check(&old, &proposal, Strength::Bytes);
    assert!(proposal.files.len() > 10, "{:?}", proposal.left);
}

#[test]
fn real_books_are_proven() {
    let books: &[&str] = if crate::common::is_long() {
        &["nomicon", "reference", "book", "rust-by-example", "std/collections"]
    } else {
        &["nomicon"]
    };
    for name in books {
        let Some(folder) = book(name) else { continue };
        let old = disk::load(&folder).expect("a book").site;
        for strength in [Strength::Bytes, Strength::Blanks] {
            let proposal = propose(&old, &options(strength)).expect("a proposal");
            check(&old, &proposal, strength);
            assert!(!proposal.layouts.is_empty(), "{name}");
            println!(
                "{name}: {} of {} bytes, {} blocks",
                proposal.after.bytes,
                proposal.before.bytes,
                proposal.layouts[0].blocks.len()
            );
        }
    }
}

#[test]
fn pages_that_cannot_take_part_are_left_with_a_reason() {
    let mut random = Random(7);
    let mut files = copied_pages(&mut random, 6, Care::Exact);
    let text = String::from_utf8(files[0].bytes.clone()).expect("text");
    let utf16: Vec<u8> = [0xff, 0xfe].into_iter().chain(text.encode_utf16().flat_map(u16::to_le_bytes)).collect();
    files.push(SourceFile::new("wide.html", utf16));
    files.push(SourceFile::new("picture.html", b"GIF89a\0\x01\x02\0\0".to_vec()));
    files.push(SourceFile::new("empty.html", " \n"));
    files.push(SourceFile::new("stub.html", "<meta http-equiv=refresh content='0; /'><p>Moved"));
    files.push(SourceFile::new("cut.html", &text.as_bytes()[..text.len() / 3]));
    files.push(SourceFile::new("tag.html", text.replace("<main>", "<main><!--: block odd -->")));
    files.push(SourceFile::new("child.html", "<!--: layout stub.html -->"));
    files.push(SourceFile::new(
        "latin.html",
        text.replace("<main>", "<main>caf\u{1}")
            .into_bytes()
            .into_iter()
            .map(|b| if b == 1 { 0xe9 } else { b })
            .collect::<Vec<_>>(),
    ));
    let old = site(files);
    let options = ProposeOptions { partials: Partials::None, ..ProposeOptions::default() };
    let proposal = propose(&old, &options).expect("a proposal");
    check(&old, &proposal, Strength::Blanks);
    let reason =
        |page: &str| proposal.left.iter().find(|left| left.page == page).map_or("", |left| left.reason.as_str());
    for (page, words) in [
        ("wide.html", "UTF-16"),
        ("picture.html", "binary"),
        ("empty.html", "empty"),
        ("tag.html", "is never closed"),
        ("child.html", "has a layout"),
    ] {
        assert!(reason(page).contains(words), "{page}: {:?}", proposal.left);
    }
    let converted = |page: &str| proposal.files.iter().any(|file| file.path == page);
    assert!(converted("latin.html"), "{:?}", proposal.left);
}

#[test]
fn a_byte_order_mark_and_mixed_line_ends_are_kept() {
    let mut random = Random(11);
    let mut files = copied_pages(&mut random, 8, Care::Exact);
    files[2].bytes.splice(0..0, *b"\xef\xbb\xbf");
    files[3].bytes = String::from_utf8_lossy(&files[3].bytes).replace('\n', "\r\n").into_bytes();
    let (marked, other) = (files[2].path.clone(), files[3].path.clone());
    let old = site(files);
    for strength in [Strength::Bytes, Strength::Blanks] {
        let proposal = propose(&old, &options(strength)).expect("a proposal");
        check(&old, &proposal, strength);
        let left: Vec<&str> = proposal.left.iter().map(|left| left.page.as_str()).collect();
        for page in [&marked, &other] {
            assert!(strength == Strength::Bytes || !left.contains(&page.as_str()), "{page} is left: {left:?}");
        }
    }
}

#[test]
fn a_dialect_without_layouts_gets_partials_alone() {
    let mut files: Vec<SourceFile> =
        demo().templates.iter().map(|page| SourceFile::new(page.path.clone(), page.source.to_vec())).collect();
    files.push(SourceFile::new("lone.html", "<p>Nothing of this stands anywhere else</p>"));
    let old = demo().with_files(files, dialect::builtin());
    for strength in [Strength::Bytes, Strength::Blanks] {
        let includes = dialect::builtin_named("server-include");
        let proposal = propose(&old, &ProposeOptions { dialect: includes, ..options(strength) }).expect("a proposal");
        let partials: Vec<&str> = proposal.partials.iter().map(|partial| partial.path.as_str()).collect();
        assert!(proposal.layouts.is_empty(), "{:?}", proposal.layouts);
        assert_eq!(partials, ["partials/footer.html", "partials/header.html"]);
        let known = |file: &&radicon::propose::ProposedFile| old.find(&file.path).map(|id| &old.get(id).source);
        let changed = proposal.files.iter().filter(|file| known(file).is_none_or(|source| **source != file.bytes));
        assert_eq!(changed.count(), proposal.files.len(), "what stays as it is is no part of it");
        assert!(proposal.after.bytes * 5 < proposal.before.bytes * 4, "{:?}", proposal.after);
        assert!(prove(&old, &adopted(&old, &proposal), strength).equal);
        let reason = proposal.left.iter().find(|left| left.page == "lone.html").map(|left| left.reason.as_str());
        assert_eq!(reason, Some("nothing in common that a partial would save"));
        let changed = proposal.files.iter().filter(|file| file.role == Role::Page).count();
        assert_eq!(changed + proposal.left.len(), old.pages().count(), "a page is changed or left with a reason");
    }
    let plain = ProposeOptions { dialect: dialect::builtin_named("plain"), ..ProposeOptions::default() };
    let Err(error) = propose(&old, &plain) else { panic!("nothing can be shared in it") };
    assert!(error.to_string().contains("`plain` has neither"), "{error}");
}

#[test]
fn a_user_dialect_is_written_as_it_shows() {
    let text = r#"
        name = "lantern"
        files = ["**/*.html"]
        [forms]
        parent = '[~ hangs "<target>" ~]'
        block = { open = '[~ lamp <name> ~]', close = '[~ out ~]' }
        [targets]
        suffixes = [".html"]
        separator = "."
        [rules]
        newline = "eaten"
    "#;
    // Brackets stand for optional parts unless they are escaped.
    let dialect =
        Arc::new(dialect::Dialect::parse(&text.replace("[~", "\\[~").replace("~]", "~\\]")).expect("a dialect"));
    let mut random = Random(5);
    let old = Site::read(copied_pages(&mut random, 9, Care::Exact), dialect::builtin(), &Settings::default());
    for strength in [Strength::Bytes, Strength::Blanks] {
        let proposal = propose(&old, &ProposeOptions { dialect: Some(Arc::clone(&dialect)), ..options(strength) })
            .expect("a proposal");
        assert!(proposal.proof.pages.iter().all(|page| page.is_equal_at(strength)));
        let page = proposal
            .files
            .iter()
            .find(|file| file.path.contains("page"))
            .unwrap_or_else(|| panic!("{:?}", proposal.left));
        assert!(page.bytes.starts_with(b"[~ hangs \"layouts.base\" ~]"), "{}", String::from_utf8_lossy(&page.bytes));
    }
}

/// What loads a library speaks for its own file: pages that take a layout keep the line where their
/// blocks need it, and only there.
#[test]
fn own_file_tags_go_along_with_what_needs_them() {
    let page = |n: usize| {
        let content = match n % 3 {
            0 => format!("<h1>{{% say 'pier' %}} {n}</h1><p>About pier {n} and its boats, number {n}.</p>"),
            2 => format!("<h1>{{{{ {n}|fare }}}}</h1><p>About boat {n} and where it goes, number {n}.</p>"),
            _ => format!("<h1>Quay {n}</h1><p>About quay {n} and what lies there, number {n}.</p>"),
        };
        format!(
            "{{% fetchlib phrases %}}\n{{% fetchlib money %}}\n<!DOCTYPE html>\n<html><head><title>Pier {n}</title></head>\n<body><nav><a href=\"/\">Home</a></nav>\n<main>{content}</main>\n<footer><p>{{% say 'foot' %}}</p></footer></body></html>\n"
        )
    };
    let mut files: Vec<SourceFile> = (0..9).map(|n| SourceFile::new(format!("p{n}.html"), page(n))).collect();
    // Other files show what needs which.
    files.push(SourceFile::new("parts/a.html", "{% fetchlib phrases %}\n<i>{% say 'a' %}</i>"));
    files.push(SourceFile::new("parts/b.html", "{% fetchlib money %}\n<i>{{ 7|fare }}</i>"));
    let site = Site::read(files, dialect::builtin(), &Settings::default());
    let proposal = propose(&site, &ProposeOptions::default()).expect("a proposal");
    assert!(proposal.proof.equal);
    assert!(proposal.left.iter().all(|left| left.page.starts_with("parts/")), "{:?}", proposal.left);
    let text = |path: &str| {
        let file = proposal.files.iter().find(|file| file.path == path).expect("a file");
        String::from_utf8_lossy(&file.bytes).into_owned()
    };
    assert!(
        text("layouts/base.html").starts_with("{% fetchlib phrases %}\n<!DOCTYPE"),
        "{}",
        text("layouts/base.html")
    );
    let parent = "{% extends \"layouts/base.html\" %}\n";
    let phrases = format!("{parent}{{% fetchlib phrases %}}\n{{% block");
    let money = format!("{parent}{{% fetchlib money %}}\n{{% block");
    assert!(text("p0.html").starts_with(&phrases), "{}", text("p0.html"));
    assert!(text("p2.html").starts_with(&money), "{}", text("p2.html"));
    assert!(!text("p1.html").contains("fetchlib"), "{}", text("p1.html"));
}

/// Tags that no dialect explains are not mixed with another notation, unless that is asked for by name.
#[test]
fn pages_with_tags_that_nobody_described_stay_as_they_are() {
    let page = |n: usize| {
        let text = format!(
            "<!DOCTYPE html>\n<html><head><title>(~ show quay.{n} ~)</title></head>\n<body><nav><a href=\"/\">Home and all the harbours</a></nav>\n<main>[[ tide {n} ]] <p>Quay {n}</p></main>\n<footer><p>Ferries all year round, storms or not</p></footer></body></html>\n"
        );
        SourceFile::new(format!("p{n}.html"), text)
    };
    let site = Site::read((0..6).map(page).collect(), &[], &Settings::default());
    let margin = dialect::builtin_named("margin");
    let proposal = propose(&site, &ProposeOptions::default()).expect("a proposal");
    assert!(proposal.files.is_empty(), "{:?}", proposal.files);
    assert_eq!((proposal.unexplained[0].text.as_str(), proposal.unexplained[0].uses), ("[[ tide 0 ]]", 6));
    assert!(proposal.left.iter().all(|left| left.reason.contains("looks like a tag")), "{:?}", proposal.left);
    let asked = propose(&site, &ProposeOptions { dialect: margin, ..ProposeOptions::default() }).expect("a proposal");
    assert!(asked.layouts.len() == 1 && asked.unexplained.is_empty(), "{:?}", asked.left);
    // The proof says what that rests on.
    let [tide] = &asked.proof.assumptions[..] else { panic!("{:?}", asked.proof.assumptions) };
    assert_eq!((tide.text.as_str(), tide.uses, tide.files), ("`[[ tide 0 ]]` is text, and no tag", 6, 6));
    assert!(tide.about == AssumptionAbout::UnexplainedText && tide.first.line == 4, "{tide:?}");
}

/// A header may name what is put around a page, so that nobody knows what a page with one becomes.
#[test]
fn pages_with_headers_that_no_dialect_describes_stay_as_they_are() {
    let pages = |header: &str| {
        let page = |n: usize| {
            let text = format!(
                "{header}<!DOCTYPE html>\n<html><head><title>Quay {n}</title></head>\n<body><nav><a href=\"/\">Home and all the harbours</a></nav>\n<main>{{% if tide %}}<p>Quay {n}</p>{{% endif %}}</main>\n<footer><p>Ferries all year round, storms or not</p></footer></body></html>\n"
            );
            SourceFile::new(format!("p{n}.html"), text)
        };
        let site = Site::read((0..6).map(page).collect(), dialect::builtin(), &Settings::default());
        propose(&site, &ProposeOptions::default()).expect("a proposal")
    };
    assert_eq!(pages("").layouts.len(), 1);
    let left = pages("---\nframe: quay\n---\n");
    assert!(left.files.is_empty() && left.left.len() == 6, "{:?}", left.files);
    assert!(left.left.iter().all(|left| left.reason.contains("begins with a header")), "{:?}", left.left);
    assert_eq!((left.unexplained[0].text.as_str(), left.unexplained[0].uses), ("---", 6));
}
