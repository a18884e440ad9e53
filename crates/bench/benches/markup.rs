//! How fast sources are read, beside what no reader can be faster than:
//! hashing the bytes (`xxh3`) and finding every `<` (`memchr`).
//!
//! `cargo bench -p radicon-bench --bench markup`; throughput is per core, on the pages of two
//! books of the toolchain's documentation and on the same pages with constructs.
#![allow(missing_docs)]

use std::hint::black_box;
use std::path::PathBuf;

use criterion::{BenchmarkId, Criterion, Throughput, criterion_group, criterion_main};
use radicon::dialect::{self, Dialect};
use radicon::markup::{Constructs, Document, Opaque, Sink, Token, lex};

/// Counts tokens, so that the work cannot be left out.
#[derive(Default)]
struct Count(usize);

impl Sink for Count {
    fn token(&mut self, token: Token) {
        self.0 += token.end as usize & 1;
    }
}

fn pages() -> Vec<Vec<u8>> {
    let output = std::process::Command::new("rustc").args(["--print", "sysroot"]).output().expect("rustc");
    let root = PathBuf::from(String::from_utf8_lossy(&output.stdout).trim().to_owned()).join("share/doc/rust/html");
    let walk = ["reference", "book"].iter().flat_map(|book| ignore::Walk::new(root.join(book)));
    let mut paths: Vec<_> = walk.filter_map(Result::ok).map(ignore::DirEntry::into_path).collect();
    paths.retain(|path| path.extension().is_some_and(|ending| ending == "html"));
    paths.sort();
    paths.iter().filter_map(|path| std::fs::read(path).ok()).collect()
}

/// The page with a construct after every twentieth tag.
fn with_constructs(page: &[u8]) -> Vec<u8> {
    let mut out = Vec::with_capacity(page.len() * 5 / 4);
    for (index, piece) in page.split_inclusive(|&b| b == b'>').enumerate() {
        out.extend_from_slice(piece);
        if index % 20 == 19 {
            out.extend_from_slice(if index % 40 == 39 { b"{{ page.title }}" } else { b"{% if a %}{% endif %}" });
        }
    }
    out
}

fn read(page: &[u8], dialect: &Dialect) -> usize {
    let constructs = Constructs::read(page, dialect);
    let opaque: Vec<_> =
        constructs.items.iter().map(|item| Opaque { span: item.span, prints: item.kind.prints() }).collect();
    let mut count = Count::default();
    lex(page, &opaque, &mut count);
    count.0
}

fn markup(criterion: &mut Criterion) {
    let plain = pages();
    let tagged: Vec<_> = plain.iter().map(|page| with_constructs(page)).collect();
    let brace = dialect::builtin_named("brace-percent").expect("a built-in dialect");
    let none = dialect::plain();
    let mut group = criterion.benchmark_group("markup");
    group.sample_size(10);
    for (name, pages, dialect) in [("plain", &plain, &none), ("constructs", &tagged, &brace)] {
        group.throughput(Throughput::Bytes(pages.iter().map(|page| page.len() as u64).sum()));
        let mut run = |what: &str, work: &dyn Fn(&[u8]) -> usize| {
            group.bench_function(BenchmarkId::new(what, name), |bencher| {
                bencher.iter(|| pages.iter().map(|page| work(black_box(page))).sum::<usize>());
            });
        };
        run("xxh3", &|page| xxhash_rust::xxh3::xxh3_64(page) as usize & 1);
        run("memchr", &|page| memchr::memchr_iter(b'<', page).count());
        run("tokens", &|page| read(page, dialect));
        run("tree", &|page| Document::read(page, dialect).nodes.len());
    }
    group.finish();
}

criterion_group!(benches, markup);
criterion_main!(benches);
