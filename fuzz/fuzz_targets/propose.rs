//! Any few pages get a proposal that keeps them all, or none.
#![no_main]

use libfuzzer_sys::fuzz_target;
use radicon::{ProposeOptions, Settings, Site, SourceFile, dialect, propose};

fuzz_target!(|data: &[u8]| {
    let mut files = Vec::new();
    for (number, text) in data.split(|&b| b == 0).take(6).enumerate() {
        files.push(SourceFile::new(format!("p{number}.html"), text));
    }
    let site = Site::read(files, dialect::builtin(), &Settings::default());
    if let Ok(proposal) = propose(&site, &ProposeOptions { block_price: Some(1), min_saving: Some(1), ..ProposeOptions::default() }) {
        assert!(proposal.proof.equal);
        assert_eq!(proposal.changes(&site).len(), proposal.files.len());
    }
});
