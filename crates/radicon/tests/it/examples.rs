//! The examples do what they say.
#![allow(dead_code, reason = "the mains of the examples")]

use std::path::{Path, PathBuf};

use radicon::disk;

#[path = "../../examples/chain.rs"]
mod chain;
#[path = "../../examples/gate.rs"]
mod gate;
#[path = "../../examples/in_memory.rs"]
mod in_memory;
#[path = "../../examples/own_dialect.rs"]
mod own_dialect;
#[path = "../../examples/own_rule.rs"]
mod own_rule;

fn demo() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo")
}

#[test]
fn chain_tells_who_gives_each_block() {
    let told = chain::chain(&demo(), "booking/pay.html").expect("a chain");
    assert!(told.starts_with("booking/pay.html <- booking/step.html <- booking/base.html\n"), "{told}");
    assert!(told.contains("title (overridden): booking/pay.html:3, instead of booking/base.html:5\n"), "{told}");
    assert!(chain::chain(&demo(), "no.html").is_err());
}

#[test]
fn gate_lets_a_site_pass_or_not() {
    assert!(gate::gate(&demo(), 60.0).expect("a site").0);
    let (passed, message) = gate::gate(&demo(), 50.0).expect("a site");
    assert!(
        !passed && message.contains("54% is duplicated, the limit is 50%") && message.contains("17 places"),
        "{message}"
    );
}

#[test]
fn an_own_rule_is_looked_for_beside_the_others() {
    let site = disk::load(&demo()).expect("the demo").site;
    assert!(own_rule::with_own_rule(&site).findings.iter().all(|finding| finding.rule != "silent-picture"));
    let page = radicon::SourceFile::new(
        "a.html",
        "<p>x</p>\n<p><img src=\"a.png\"><img src=\"b.png\" alt=\"\"></p>\n<!-- radicon: ignore silent-picture -->",
    );
    let files = vec![radicon::SourceFile::new("b.html", page.bytes.clone()), page];
    let site = radicon::Site::read(files, radicon::dialect::builtin(), &radicon::Settings::default());
    let found = own_rule::with_own_rule(&site).findings;
    let places: Vec<_> =
        found.iter().filter(|f| f.rule == "silent-picture").map(|f| (f.file.as_str(), f.line, f.column)).collect();
    assert_eq!(places, [("a.html", 2, 4), ("b.html", 2, 4)]);
}

#[test]
fn an_own_dialect_is_read() {
    let page = own_dialect::put_together().expect("a page");
    assert_eq!(page, "<title>Fares</title>\n<footer>~~= crew.name~~</footer>\n");
}

#[test]
fn a_proposal_in_memory_is_proven() {
    in_memory::main().expect("a proposal");
}
