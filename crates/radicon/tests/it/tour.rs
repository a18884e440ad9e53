//! A tour of the library, from bytes to a proven proposal. Read it from top to bottom.

use std::sync::Arc;

use radicon::dialect::{self, Dialect, Kind, Values};
use radicon::markup::{Document, NodeId, NodeKind};
use radicon::site::Role;
use radicon::{ProposeOptions, Resolver, Settings, Site, SourceFile, Strength, propose, prove};

#[test]
fn a_tour() {
    // A dialect says how an engine writes its constructs. One example of each
    // serves to read it and to write it.
    let margin = dialect::builtin_named("margin").expect("a built-in dialect");
    let parent = margin.form(Kind::Parent).expect("margin has parents");
    let line = parent.open.write(&Values { target: "base.html", ..Values::default() });
    assert_eq!(line, "<!--: layout base.html -->");

    // A document is a source read: constructs, tokens, and a tree over them.
    // Constructs may stand anywhere, also in the middle of a tag.
    let source = b"<li<!--: block here --> class=now<!--: end here -->><a href=/>Home</a></li>";
    let document = Document::read(source, &margin);
    assert_eq!(document.constructs.items.len(), 2);
    assert_eq!(document.constructs.items[0].name.of(source), b"here");
    let item = document.children(NodeId::ROOT).next().expect("one element");
    assert_eq!(document.name(source, item), b"li");
    let link = document.children(item).next().expect("one child");
    assert_eq!(document.attribute(source, link, "href"), Some(&b"/"[..]));
    assert_eq!(document.nodes[link].kind, NodeKind::Element);

    // Nothing is lost: the tokens tile the source.
    let written: Vec<u8> = document.tokens.iter().flat_map(|token| token.span().of(source)).copied().collect();
    assert_eq!(written, source);

    // A site is read from files in memory. Where names start, and what each
    // template is for, follows from who names whom.
    let files = vec![
        SourceFile::new("templates/base.html", "<title><!--: block title -->Tidewater<!--: end title --></title>\n"),
        SourceFile::new(
            "templates/fares.html",
            "<!--: layout base.html -->\n<!--: block title -->Fares | <!--: inherited --><!--: end title -->\n",
        ),
    ];
    let site = Site::read(files, dialect::builtin(), &Settings::default());
    assert_eq!(site.roots[0].path, "templates");
    let base = site.find("templates/base.html").expect("the layout");
    let page = site.find_named("fares.html").expect("the page, by the name the site uses");
    assert_eq!((site.get(base).role, site.get(page).role), (Role::Layout, Role::Page));

    // A chain lists the levels, and for each block who defines it.
    let resolver = Resolver::new(&site);
    let chain = resolver.chain(page);
    assert_eq!(chain.levels, [page, base]);
    assert_eq!(chain.definitions(&site, b"title").len(), 2);

    // A flattened page knows where each of its bytes comes from.
    let flat = resolver.flatten(page).expect("a page of a sane size");
    assert_eq!(flat.bytes, b"<title>Fares | Tidewater</title>\n");
    let origin = flat.origin(&site, 7).expect("a byte has an origin");
    assert_eq!(
        (origin.file.as_str(), origin.line, origin.block.as_deref()),
        ("templates/fares.html", 2, Some("title"))
    );

    // A proposal finds what pages share. It comes with its proof.
    let copy = |name: &str, text: &str| {
        let page = "<!DOCTYPE html>\n<html>\n<body>\n  <header><p>Tidewater carries people, bicycles and the odd sheep between the seven harbours</p></header>\n  <main>\n    TEXT\n  </main>\n</body>\n</html>\n";
        SourceFile::new(name, page.replace("TEXT", text))
    };
    let copies = vec![
        copy("a.html", "<p>Old Pier</p>"),
        copy("b.html", "<h1>Gull</h1>\n    <p>Point</p>"),
        copy("c.html", "<p>Sandhaven</p>"),
    ];
    let old = Site::read(copies, dialect::builtin(), &Settings::default());
    let proposal = propose(&old, &ProposeOptions { block_price: Some(20), ..ProposeOptions::default() })
        .expect("margin has layouts");
    assert_eq!(proposal.layouts[0].path, "layouts/base.html");
    assert!(proposal.proof.pages.iter().all(|page| page.is_equal_at(Strength::Blanks)));

    // Whoever doubts it proves it again.
    let files = proposal.files.iter().map(|file| SourceFile::new(file.path.clone(), file.bytes.clone())).collect();
    let new = Site::read(files, dialect::builtin(), &Settings::default());
    assert!(prove(&old, &new, Strength::Blanks).equal);
}

#[test]
fn a_dialect_of_your_own() {
    let text = "name = 'lantern'\nfiles = ['**/*.lamp']\n[forms]\nparent = '(( under <target> ))'\nblock = { open = '(( lamp <name> ))', close = '(( dark ))' }\n";
    let lantern = Arc::new(Dialect::parse(text).expect("a dialect"));
    let files = vec![
        SourceFile::new("base.lamp", "<b>(( lamp light ))dim(( dark ))</b>"),
        SourceFile::new("page.lamp", "(( under base.lamp ))(( lamp light ))bright(( dark ))"),
    ];
    let site = Site::read(files, &[lantern], &Settings::default());
    let page = site.find("page.lamp").expect("the page");
    assert_eq!(Resolver::new(&site).flatten(page).expect("a page").bytes, b"<b>bright</b>");
}
