//! What is proposed looks like the rest of the site: suffix, folders, indentation, line ends, byte-order marks.

use std::sync::Arc;

use radicon::dialect::{self, Dialect};
use radicon::site::Role;
use radicon::{Proposal, ProposeOptions, Settings, Site, SourceFile, Strength, propose};

const MARK: &str = "\u{feff}";

/// Pages with a menu in one line, indented with tabs.
fn pages(suffix: &str) -> Vec<(String, String)> {
    let page = |n: usize| {
        let current = |item: usize| if item == n { " class=\"on\"" } else { "" };
        let menu: String = (0..3)
            .map(|item| format!("<li{}><a href=\"/quay-{item}{suffix}\">Quay {item}</a></li>", current(item)))
            .collect();
        let text = format!(
            "<!DOCTYPE html>\n<html>\n\t<head>\n\t\t<title>Quay {n}</title>\n\t\t<meta charset=\"utf-8\">\n\t</head>\n\t<body>\n\
             \t\t<ul class=\"menu\">{menu}</ul>\n\t\t<main>\n\t\t\t<h1>Quay {n}</h1>\n\t\t\t<p>Ropes of quay {n}, and {}.</p>\n\t\t</main>\n\
             \t\t<p class=\"foot\">Kept by the harbour office, open all year round.</p>\n\t</body>\n</html>\n",
            "tide ".repeat(n + 3)
        );
        (format!("quay-{n}{suffix}"), text)
    };
    (0..8).map(page).collect()
}

fn read(files: &[(String, String)], dialects: &[Arc<Dialect>]) -> Site {
    let files = files.iter().map(|(path, text)| SourceFile::new(path, text.as_str())).collect();
    Site::read(files, dialects, &Settings::default())
}

#[track_caller]
fn proposed(site: &Site, strength: Strength) -> Proposal {
    let proposal = propose(site, &ProposeOptions { strength, ..ProposeOptions::default() }).expect("a proposal");
    assert!(proposal.proof.equal && proposal.left.is_empty(), "{:?}", proposal.left);
    assert_eq!(proposal.layouts.len(), 1);
    proposal
}

fn text(proposal: &Proposal, path: &str) -> String {
    let file = proposal.files.iter().find(|file| file.path == path).unwrap_or_else(|| panic!("{path}"));
    String::from_utf8_lossy(&file.bytes).into_owned()
}

#[test]
fn tabs_and_one_line_lists_stay() {
    let site = read(&pages(".html"), dialect::builtin());
    let proposal = proposed(&site, Strength::Blanks);
    let base = text(&proposal, "layouts/base.html");
    let list = base.lines().find(|line| line.contains("<ul")).expect("the list");
    assert!(list.starts_with("\t\t<ul") && list.ends_with("</ul>"), "{base}");
    assert!(base.lines().all(|line| !line.starts_with(' ')), "{base}");
    for file in proposal.files.iter().filter(|file| file.role == Role::Page) {
        let old = site.get(site.find(&file.path).expect("a page")).source.len();
        assert!(file.bytes.len() < old);
    }
}

#[test]
fn lines_end_as_they_do_in_the_pages() {
    let mut files = pages(".html");
    files.iter_mut().for_each(|(_, text)| *text = text.replace('\n', "\r\n"));
    let site = read(&files, dialect::builtin());
    for strength in [Strength::Bytes, Strength::Blanks] {
        for file in proposed(&site, strength).files {
            let text = String::from_utf8_lossy(&file.bytes).into_owned();
            assert_eq!(text.matches('\n').count(), text.matches("\r\n").count(), "{}:\n{text}", file.path);
        }
    }
    // One page has other line ends: it keeps them, and the others theirs.
    files[3].1 = files[3].1.replace("\r\n", "\n");
    let proposal = proposed(&read(&files, dialect::builtin()), Strength::Blanks);
    assert!(!text(&proposal, &files[3].0).contains('\r'));
    assert!(text(&proposal, &files[4].0).contains("\r\n"));
}

#[test]
fn a_byte_order_mark_stays_with_its_file() {
    let mut files = pages(".html");
    files[2].1.insert_str(0, MARK);
    let site = read(&files, dialect::builtin());
    for strength in [Strength::Bytes, Strength::Blanks] {
        let proposal = proposed(&site, strength);
        for (at, (path, _)) in files.iter().enumerate() {
            assert_eq!(text(&proposal, path).starts_with(MARK), at == 2, "{path}");
        }
        assert!(text(&proposal, "layouts/base.html").starts_with("<!DOCTYPE"));
        let names: Vec<&str> = proposal.layouts[0].blocks.iter().map(|block| block.name.as_str()).collect();
        assert!(names.contains(&"content") && names.iter().all(|name| *name != "content_2"), "{names:?}");
    }
}

/// A dialect for files of one suffix, which names leave out.
fn quay() -> Arc<Dialect> {
    let text = r"name = 'quay'
        files = ['**/*.quay.txt']
        [forms]
        parent = '(( under <target> ))'
        block = { open = '(( berth <name> ))', close = '(( end ))' }
        include = '(( moor <target> ))'
        [targets]
        suffixes = ['.quay.txt']";
    Arc::new(Dialect::parse(text).expect("a dialect"))
}

#[test]
fn new_files_have_the_suffix_of_the_sites_own() {
    let dialects = [quay(), dialect::plain()];
    let mut files = pages(".quay.txt");
    // Something that shows in which dialect they are written.
    files.push(("parts/sign_post.quay.txt".into(), "<b>Sign</b>".into()));
    files.push(("sign_page.quay.txt".into(), "(( moor parts/sign_post ))".into()));
    let site = read(&files, &dialects);
    let options = ProposeOptions { dialect: Some(quay()), ..ProposeOptions::default() };
    let proposal = propose(&site, &options).expect("a proposal");
    assert!(proposal.proof.equal, "{:?}", proposal.left);
    let [layout] = &proposal.layouts[..] else { panic!("{:?}", proposal.left) };
    assert_eq!((layout.path.as_str(), layout.pages), ("layouts/base.quay.txt", 8));
    assert!(text(&proposal, "quay-1.quay.txt").starts_with("(( under layouts/base ))"));
}

#[test]
fn a_part_of_the_names_of_some_files_is_no_suffix() {
    // Eight files, of which four are called alike between two dots.
    let mut files = pages(".html");
    for (n, (path, _)) in files.iter_mut().enumerate() {
        let what = if n % 2 == 0 { "tide".to_owned() } else { format!("Boat{n}") };
        *path = format!("quay-{n}.{what}.html");
    }
    let base = |files: &[(String, String)]| {
        let proposal = proposed(&read(files, dialect::builtin()), Strength::Blanks);
        proposal.layouts[0].path.clone()
    };
    assert_eq!(base(&files), "layouts/base.html");
    files.iter_mut().for_each(|(path, _)| *path = format!("{}.tide.html", path.split('.').next().unwrap_or_default()));
    assert_eq!(base(&files), "layouts/base.tide.html");
}
