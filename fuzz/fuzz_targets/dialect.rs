//! Any dialect file is read or refused; whatever it describes is read in any source.
#![no_main]

use libfuzzer_sys::fuzz_target;
use radicon::dialect::Dialect;
use radicon::markup::Constructs;

fuzz_target!(|data: &[u8]| {
    let cut = data.iter().position(|&b| b == 0).unwrap_or(data.len());
    let Ok(text) = std::str::from_utf8(&data[..cut]) else { return };
    let Ok(dialect) = Dialect::parse(text) else { return };
    let source = data.get(cut + 1..).unwrap_or_default();
    let constructs = Constructs::read(source, &dialect);
    let mut at = 0;
    for item in &constructs.items {
        assert!(item.span.start >= at || item.span.is_empty(), "tags never overlap");
        assert!(item.span.end as usize <= source.len());
        at = at.max(item.span.end);
        let _ = item.write(source, &dialect);
    }
});
