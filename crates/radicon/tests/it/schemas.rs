//! The JSON Schemas of everything the command line prints, kept in `docs/schema`.
//! `RADICON_BLESS=1 cargo test -p radicon --test schemas` writes them anew.

use std::path::Path;

use radicon::check::{Checked, Fixed, Rule};
use radicon::disk::{Adopted, Composed, Undone};
use radicon::learn::Learned;
use radicon::propose::Explanation;
use radicon::repeats::Repeats;
use radicon::report::Report;
use radicon::report::Survey;
use radicon::resolve::{BlockReport, ChainReport, FlatReport};
use radicon::site::{DialectUse, Trial};
use radicon::translate::Translation;
use radicon::{Proof, Proposal, Step};
use schemars::{Schema, schema_for};

#[test]
fn the_schemas_are_those_of_the_types() {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/schema");
    let schemas: [(&str, Schema); 21] = [
        ("survey", schema_for!(Survey)),
        ("chain", schema_for!(ChainReport)),
        ("block", schema_for!(BlockReport)),
        ("compose", schema_for!(Composed)),
        ("dialect-list", schema_for!(Vec<DialectUse>)),
        ("dialect-show", schema_for!(DialectUse)),
        ("dialect-try", schema_for!(Trial)),
        ("dialect-learn", schema_for!(Vec<Learned>)),
        ("check", schema_for!(Checked)),
        ("fix", schema_for!(Fixed)),
        ("rule", schema_for!(Rule)),
        ("report", schema_for!(Report)),
        ("step", schema_for!(Step)),
        ("translate", schema_for!(Translation)),
        ("repeats", schema_for!(Repeats)),
        ("flatten", schema_for!(FlatReport)),
        ("propose", schema_for!(Proposal)),
        ("explain", schema_for!(Explanation<'_>)),
        ("prove", schema_for!(Proof)),
        ("adopt", schema_for!(Adopted)),
        ("undo", schema_for!(Option<Undone>)),
    ];
    for (name, schema) in schemas {
        let path = folder.join(format!("{name}.json"));
        let text = serde_json::to_string_pretty(&schema).expect("JSON") + "\n";
        if std::env::var_os("RADICON_BLESS").is_some() {
            std::fs::create_dir_all(&folder).expect("the folder");
            std::fs::write(&path, &text).expect("the schema");
        }
        let kept = std::fs::read_to_string(&path).unwrap_or_default();
        assert!(kept == text, "docs/schema/{name}.json is out of date; RADICON_BLESS=1 writes it anew");
    }
}
