//! Reading sites from the disk, and writing whole new ones.

use std::fs;
use std::path::Path;

use crate::common::{Random, cases, seed, soup};
use crate::made::better::generate;
use radicon::check::check;
use radicon::disk::{self, DiskError, Loaded, Reader, State};
use radicon::site::Parent;
use radicon::{Change, SourceFile};
use tempfile::TempDir;

/// A folder with these files.
fn folder(files: &[(&str, &str)]) -> TempDir {
    let dir = tempfile::tempdir().expect("a folder");
    for (path, text) in files {
        let path = dir.path().join(path);
        fs::create_dir_all(path.parent().expect("a parent")).expect("a folder");
        fs::write(path, text).expect("a file");
    }
    dir
}

/// Where the state of a site is kept in the tests.
fn state(dir: &TempDir) -> State {
    State::of(dir.path()).expect("a folder")
}

fn paths(dir: &Path) -> Vec<String> {
    disk::load(dir).expect("a site").site.templates.iter().map(|template| template.path.clone()).collect()
}

#[test]
fn ignored_and_hidden_files_are_left_out() {
    let dir = folder(&[
        ("index.html", "<p>a"),
        ("deep/er/page.htm", "<p>b"),
        ("notes.txt", "no page"),
        ("mail.txt", "{% extends 'index.html' %}"),
        (".hidden/page.html", "<p>c"),
        ("build/out.html", "<p>d"),
        (".gitignore", "build/\n"),
        ("old/page.html", "<p>e"),
        ("radicon.toml", "ignore = ['old/**']\n"),
    ]);
    assert_eq!(paths(dir.path()), ["deep/er/page.htm", "index.html", "mail.txt"]);
}

#[test]
fn the_site_is_the_nearest_folder_with_settings() {
    let dir = folder(&[("radicon.toml", ""), ("a/b/page.html", "")]);
    let inner = dir.path().join("a/b");
    assert_eq!(disk::find_site(&inner), dir.path());
    let other = folder(&[("a/page.html", "")]);
    assert_eq!(disk::find_site(&other.path().join("a")), other.path().join("a"));
}

#[test]
fn settings_say_where_names_start_and_how_files_are_read() {
    let dir = folder(&[
        ("radicon.toml", "roots = ['theirs', 'ours']\ndialects = ['lantern.toml']\n"),
        ("lantern.toml", "name = 'lantern'\nfiles = ['**/*.html']\n[forms]\nparent = '(( under <target> ))'\n"),
        ("ours/base.html", "<p>ours"),
        ("theirs/base.html", "<p>theirs"),
        ("ours/page.html", "(( under base.html ))"),
    ]);
    let loaded = disk::load(dir.path()).expect("a site");
    let page = loaded.site.find("ours/page.html").expect("the page");
    assert_eq!(loaded.site.get(page).dialect.name, "lantern");
    let Parent::Found { id: parent, .. } = *loaded.site.parent(page) else { panic!("no parent") };
    assert_eq!(loaded.site.get(parent).path, "theirs/base.html");
}

#[test]
fn mistakes_in_settings_are_placed() {
    for (settings, words) in [
        ("roots = 3\n", "radicon.toml:1:9"),
        ("[forms]\n", "radicon.toml:1:2"),
        ("ignore = ['[']\n", "radicon.toml:1:10"),
        ("dialects = ['none.toml']\n", "none.toml"),
    ] {
        let dir = folder(&[("radicon.toml", settings)]);
        let error = disk::load(dir.path()).expect_err("a mistake").to_string();
        assert!(error.contains(words), "{settings}: {error}");
    }
    assert!(matches!(disk::load(Path::new("no/such/folder")), Err(DiskError::Refused(_))));
}

#[test]
fn a_whole_site_is_written_into_a_new_folder_only() {
    let dir = folder(&[("a.html", "old"), ("img/x.bin", "\u{1}"), (".git/config", "secret"), ("sub/b.html", "kept")]);
    let loaded = disk::load(dir.path()).expect("a site");
    let into = tempfile::tempdir().expect("a folder");
    let new = into.path().join("new");
    let changes = [SourceFile::new("a.html", "new"), SourceFile::new("layouts/base.html", "base")];
    disk::write_site(&loaded, &changes, &new).expect("written");
    for (path, text) in
        [("a.html", "new"), ("layouts/base.html", "base"), ("sub/b.html", "kept"), ("img/x.bin", "\u{1}")]
    {
        assert_eq!(fs::read_to_string(new.join(path)).expect("a file"), text, "{path}");
    }
    assert!(!new.join(".git").exists(), "version control does not come along");
    let error = disk::write_site(&loaded, &changes, &new).expect_err("not empty").to_string();
    assert!(error.contains("not empty"), "{error}");
    // In the site only where the next run does not read it; it does not copy itself into itself.
    let inside = dir.path().join("out");
    let error = disk::write_site(&loaded, &changes, &inside).expect_err("read by the next run").to_string();
    assert!(error.contains("lies in the site"), "{error}");
    fs::write(dir.path().join(".gitignore"), "/out\n").expect("a file");
    disk::write_site(&loaded, &changes, &inside).expect("written");
    assert!(inside.join("a.html").exists() && !inside.join("out").exists());
}

#[cfg(unix)]
#[test]
fn permissions_survive_adopting() {
    use std::os::unix::fs::PermissionsExt;
    let dir = folder(&[("a.html", "old")]);
    let path = dir.path().join("a.html");
    fs::set_permissions(&path, fs::Permissions::from_mode(0o640)).expect("permissions");
    let change = Change { path: "a.html".into(), old: Some(b"old".to_vec()), new: Some(b"new".to_vec()) };
    disk::adopt(&state(&dir), "adopt", &[change]).expect("adopted");
    assert_eq!(fs::metadata(&path).expect("a file").permissions().mode() & 0o777, 0o640);
    assert!(
        fs::read_dir(dir.path()).expect("a folder").filter_map(Result::ok).all(|entry| entry.file_name() == "a.html")
    );
}

#[test]
fn one_refused_file_keeps_all_as_they_were() {
    let dir = folder(&[("a.html", "old a"), ("b.html", "changed meanwhile")]);
    let change =
        |path: &str, old: &str| Change { path: path.into(), old: Some(old.into()), new: Some(b"new".to_vec()) };
    let error = disk::adopt(&state(&dir), "adopt", &[change("a.html", "old a"), change("b.html", "old b")])
        .expect_err("a refusal");
    assert!(error.to_string().contains("b.html: changed since it was read"), "{error}");
    assert_eq!(fs::read_to_string(dir.path().join("a.html")).expect("a file"), "old a");
    assert_eq!(disk::undo(&state(&dir)).expect("an answer"), None);
}

#[test]
fn dialects_beside_the_settings_are_found() {
    let lamp =
        |name: &str| format!("name = '{name}'\nfiles = ['**/*.{name}']\n[forms]\ninclude = '((take <target>))'\n");
    let dir = folder(&[
        ("dialects/lamp.toml", &lamp("lamp")),
        ("dialects/notes.txt", "no dialect"),
        ("page.lamp", "((take other.lamp))"),
        ("other.lamp", "other"),
    ]);
    let loaded = disk::load(dir.path()).expect("a site");
    let names: Vec<_> = loaded.dialects.iter().map(|dialect| dialect.name.as_str()).collect();
    assert_eq!(names, ["lamp", "margin", "brace-percent", "server-include", "plain"]);
    let uses = loaded.site.dialect_uses(&loaded.dialects);
    assert_eq!(
        (uses[0].templates, uses[0].layouts, uses[0].files.as_slice()),
        (2, false, &["**/*.lamp".to_owned()][..])
    );
    // Two of one name are a mistake; one of a built-in name takes its place.
    let twice = folder(&[("dialects/a.toml", &lamp("lamp")), ("dialects/b.toml", &lamp("lamp")), ("x.html", "")]);
    let error = disk::load(twice.path()).expect_err("two of one name").to_string();
    assert!(error.contains("another dialect `lamp`"), "{error}");
    let own = folder(&[("dialects/margin.toml", &lamp("margin")), ("x.html", "")]);
    let loaded = disk::load(own.path()).expect("a site");
    assert_eq!(loaded.dialects.iter().filter(|dialect| dialect.name == "margin").count(), 1);
    assert!(!loaded.dialects[0].has_layouts());
}

#[test]
fn code_is_searched_and_other_files_are_not() {
    let dir = folder(&[
        ("base.html", "{% block a %}{% endblock %}"),
        ("part.html", "{% if x %}{% endif %}"),
        ("page.html", "{% extends 'base.html' %}{% include 'part.html' %}"),
        ("app.tern", "show 'base.html'"),
        ("style.css", "a { b: 'part.html' }"),
        ("huge.tern", &format!("show 'part.html'\n{}", "x".repeat(2 << 20))),
        ("data.bin", "\0\0'part.html'"),
    ]);
    let loaded = disk::load(dir.path()).expect("a site");
    let named: Vec<_> =
        loaded.site.references.iter().map(|found| (found.template.as_str(), found.file.as_str())).collect();
    assert_eq!(named, [("base.html", "app.tern")]);
    assert_eq!(loaded.site.templates.len(), 3);
}

#[test]
fn finished_pages_go_into_a_new_folder() {
    let dir = folder(&[
        ("site/layouts/base.html", "<<!--: block a -->A<!--: end -->>\n"),
        ("site/docs/x.html", "<!--: layout layouts/base.html -->\n<!--: block a -->x<!--: end -->\n"),
        ("site/css/a.css", "a {}"),
        ("site/radicon.toml", "roots = ['']\n"),
    ]);
    let loaded = disk::load(&dir.path().join("site")).expect("a site");
    let into = dir.path().join("pages");
    let composed = disk::compose(&loaded, &into).expect("written");
    assert_eq!((composed.pages.as_slice(), composed.problems.len()), (&["docs/x.html".to_owned()][..], 0));
    let text = |path: &str| fs::read_to_string(into.join(path)).ok();
    assert_eq!((text("docs/x.html").as_deref(), text("css/a.css").as_deref()), (Some("<x>\n"), Some("a {}")));
    assert!(!into.join("layouts").exists() && !into.join("radicon.toml").exists());
    assert!(disk::compose(&loaded, &into).is_err_and(|error| error.to_string().contains("not empty")));
}

/// What was read of each template, what it takes from others, and what is wrong.
fn read_as(loaded: &Loaded) -> Vec<String> {
    let site = &loaded.site;
    let mut all = vec![format!("{:?} {:?} {:?}", site.roots, site.mounts, site.references)];
    for template in &site.templates {
        let id = site.find(&template.path).expect("its own path");
        let tags = site.own_file_tags(id);
        let names = template.constructs.items.iter().map(|item| item.name.of(&template.source));
        let parts: Vec<_> = names.map(|name| site.parts(name)).filter(|places| !places.is_empty()).collect();
        all.push(format!(
            "{} {} {:?} {} {:?} {tags:?} {parts:?} {:?}",
            template.path,
            template.dialect.name,
            template.role,
            template.rendered,
            site.links(id),
            template.constructs.items.iter().map(|item| (item.kind, item.span, item.partner)).collect::<Vec<_>>(),
        ));
    }
    all.extend(check(site).findings.iter().map(|finding| format!("{finding:?}")));
    all
}

/// What somebody may type, in several dialects.
const TYPED: [&str; 18] = [
    "a",
    "<p>Ferries",
    "</p>\n",
    "{% include \"parts/thing-0.html\" %}",
    "{% include 'notes.txt' %}",
    "{% include ",
    "{% extends 'layouts/base.html' %}",
    "{% extends 'layouts/bse.html' %}",
    "{% block aside %}",
    "{% endblock %}",
    "{% fetchlib tides %}",
    "{% if late %}",
    "{{ boat.name }}",
    "<!--: block aside -->",
    "<!--: end aside -->",
    "<!--: partial parts/thing-0.html -->",
    "<!--#include virtual=\"/notes.txt\" -->",
    "\u{feff}",
];

#[test]
fn texts_that_change_one_by_one_are_read_as_all_together() {
    let first = seed("texts that change one by one");
    let mut random = Random(first);
    for _ in 0..cases(25, 2_000) {
        let site = generate(&mut random).poor;
        let mut files: Vec<(String, String)> = site
            .templates
            .iter()
            .map(|template| (template.path.clone(), String::from_utf8_lossy(&template.source).into_owned()))
            .collect();
        files.push(("notes.txt".into(), "{{ fare }}".into()));
        files.push(("parts/plain.html".into(), "<p>Ferries</p>\n".into()));
        files.push(("boats.py".into(), format!("show('{}')", files[random.below(files.len())].0)));
        let listed: Vec<(&str, &str)> = files.iter().map(|(path, text)| (path.as_str(), text.as_str())).collect();
        let dir = folder(&listed);
        let (mut one, mut all) = (Reader::for_editor(dir.path()), Reader::new(dir.path()));
        let (mut loaded, _) = (one.read().expect("a site"), all.read().expect("a site"));
        for _ in 0..12 {
            let number = random.below(files.len());
            let (path, text) = &mut files[number];
            let typed = if random.once_in(6) { soup(&mut random, 4) } else { random.pick(&TYPED).to_owned() };
            let mut at = if random.once_in(3) { 0 } else { random.below(text.len() + 1) };
            while !text.is_char_boundary(at) {
                at -= 1;
            }
            if random.once_in(5) {
                text.truncate(at);
            }
            text.insert_str(at.min(text.len()), &typed);
            let shown = (!random.once_in(8)).then(|| text.clone().into_bytes());
            one.unsaved(path, shown.clone());
            all.unsaved(path, shown);
            one.update(&mut loaded).expect("a site");
            let fresh = all.read().expect("a site");
            assert_eq!(read_as(&loaded), read_as(&fresh), "seed {first}: {path}: {text}");
        }
    }
}

#[test]
fn a_text_that_came_while_settings_could_not_be_read_is_read_later() {
    let dir = folder(&[("fares.html", "<p>{% if late %}x{% endif %}"), ("piers.html", "<p>y")]);
    let mut reader = Reader::for_editor(dir.path());
    let mut loaded = reader.read().expect("a site");
    fs::write(dir.path().join("radicon.toml"), "roots = [").expect("settings");
    reader.unsaved("piers.html", Some(b"<p>{% if late %}z{% endif %}".to_vec()));
    assert!(reader.update(&mut loaded).is_err());
    fs::remove_file(dir.path().join("radicon.toml")).expect("they go");
    reader.unsaved("fares.html", Some(b"<p>{% if late %}w{% endif %}".to_vec()));
    reader.update(&mut loaded).expect("a site");
    let text = |path: &str| loaded.site.get(loaded.site.find(path).expect("a template")).source.to_vec();
    assert!(text("piers.html").contains(&b'z') && text("fares.html").contains(&b'w'));
}
