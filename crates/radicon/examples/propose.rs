//! scaffold
fn main() {
    let mut args = std::env::args().skip(1);
    let dir = args.next().unwrap();
    let strict = args.next().is_some_and(|a| a == "strict");
    let t = std::time::Instant::now();
    let loaded = radicon::disk::load(std::path::Path::new(&dir)).unwrap();
    eprintln!("load {:?}", t.elapsed());
    let strength = if strict { radicon::Strength::Bytes } else { radicon::Strength::Blanks };
    let dialect = args.next().and_then(|n| radicon::dialect::builtin_named(&n));
    let p = radicon::propose(&loaded.site, &radicon::Options { strength, dialect, ..Default::default() }).unwrap();
    eprintln!("propose {:?}", t.elapsed());
    eprintln!("before {:?} after {:?} files {} left {}", p.before, p.after, p.files.len(), p.left.len());
    for l in p.left.iter().take(12) {
        eprintln!("left {} {}", l.page, l.reason.chars().take(200).collect::<String>());
    }
    for b in &p.blocks {
        eprintln!("block {:?}", b);
    }
    for f in &p.files {
        let to = std::path::Path::new("/tmp/out").join(&f.path);
        std::fs::create_dir_all(to.parent().unwrap()).unwrap();
        std::fs::write(to, &f.bytes).unwrap();
    }
}
