//! Any bytes are read without loss, in every built-in dialect.
#![no_main]

use libfuzzer_sys::fuzz_target;
use radicon::dialect;
use radicon::markup::Document;

fuzz_target!(|source: &[u8]| {
    for dialect in dialect::builtin() {
        let document = Document::read(source, dialect);
        let mut at = 0;
        for token in &document.tokens {
            assert_eq!(token.start, at, "the tokens tile the source");
            at = token.end;
        }
        assert_eq!(at as usize, source.len());
        for (index, node) in document.nodes.iter().enumerate() {
            assert!(node.next.index() > index && node.next.index() <= document.nodes.len());
        }
    }
});
