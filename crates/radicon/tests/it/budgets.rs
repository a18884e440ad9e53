//! Sites that are made to go wrong: rounds, endless growth, chains without end.

use crate::made::site::site;
use radicon::resolve::{Break, FlattenError, MAX_LEVELS, MAX_NESTING};
use radicon::{Resolver, SourceFile};

fn files(count: usize, text: impl Fn(usize) -> String) -> Vec<SourceFile> {
    (0..count).map(|index| SourceFile::new(format!("{index}.html"), text(index))).collect()
}

#[test]
fn parents_that_come_round_are_named() {
    for round in [2, 50] {
        let site = site(files(round, |index| format!("{{% extends '{}.html' %}}", (index + 1) % round)));
        let chain = Resolver::new(&site).chain(site.find("0.html").expect("a page"));
        let Some(Break::Cycle(found)) = &chain.broken else { panic!("{:?}", chain.broken) };
        assert_eq!(found.len(), round);
        let problem = chain.problem(&site).expect("a problem").to_string();
        assert!(problem.contains("0.html -> 1.html") && problem.contains(":1:1"), "{problem}");
    }
    // A template that names itself means the same name in the next root; here there is none.
    let site = site(files(1, |_| "{% extends '0.html' %}".into()));
    let chain = Resolver::new(&site).chain(site.find("0.html").expect("a page"));
    assert!(matches!(chain.broken, Some(Break::Missing(_))));
    let problem = chain.problem(&site).expect("a problem").to_string();
    assert!(problem.contains("0.html:1:1") && problem.contains("names itself"), "{problem}");
}

#[test]
fn a_chain_without_end_is_cut() {
    let site = site(files(10_000, |index| {
        format!("{{% extends '{}.html' %}}{{% block a %}}{{{{ super() }}}}{{% endblock %}}", index + 1)
    }));
    let resolver = Resolver::new(&site);
    let page = site.find("0.html").expect("a page");
    let chain = resolver.chain(page);
    assert_eq!((chain.levels.len(), chain.broken), (MAX_LEVELS, Some(Break::TooLong)));
    let flat = resolver.flatten(page).expect("a page of a sane size");
    assert!(flat.problems.iter().any(|problem| problem.message.contains("more than")), "{:?}", flat.problems);
}

#[test]
fn includes_that_double_are_stopped() {
    // Also where nothing but the number of includes grows.
    for leaf in ["", "text of some length"] {
        let text = |index: usize| match index {
            60 => leaf.to_owned(),
            _ => format!("{{% include '{0}.html' %}}{{% include '{0}.html' %}}", index + 1),
        };
        let site = site(files(61, text));
        let result = Resolver::new(&site).flatten(site.find("0.html").expect("a page"));
        assert!(matches!(result, Err(FlattenError::TooLarge { page }) if page == "0.html"));
    }
}

#[test]
fn includes_inside_each_other_are_followed_so_far_and_no_further() {
    let site = site(files(400, |index| format!("{index} {{% include '{}.html' %}}", index + 1)));
    let flat = Resolver::new(&site).flatten(site.find("0.html").expect("a page")).expect("a page of a sane size");
    let text = String::from_utf8_lossy(&flat.bytes);
    assert!(text.contains("199 ") && text.ends_with("{% include '201.html' %}"), "{text}");
    assert!(flat.problems[0].message.contains(&MAX_NESTING.to_string()), "{:?}", flat.problems);
}

#[test]
fn names_that_lead_out_are_refused_and_kept() {
    for name in ["../x.html", "/../x.html", "a/../../x.html", "../../../../etc/passwd", "/etc/passwd"] {
        let site = site(files(1, |_| format!("{{% include '{name}' %}}")));
        let flat = Resolver::new(&site).flatten(site.find("0.html").expect("a page")).expect("a page of a sane size");
        assert_eq!(String::from_utf8_lossy(&flat.bytes), format!("{{% include '{name}' %}}"));
        let message = &flat.problems[0].message;
        let words = if name == "/etc/passwd" { "looked for etc/passwd" } else { "outside the site" };
        assert!(message.contains(words) && message.contains(name), "{name}: {message}");
    }
}

#[cfg(unix)]
#[test]
fn links_out_of_the_site_are_not_followed() {
    let dir = tempfile::tempdir().expect("a folder");
    let (inside, outside) = (dir.path().join("site"), dir.path().join("secret.html"));
    std::fs::create_dir(&inside).expect("a folder");
    std::fs::write(&outside, "secret").expect("written");
    std::fs::write(inside.join("page.html"), "{% include 'link.html' %}{% if x %}{% endif %}").expect("written");
    std::os::unix::fs::symlink(&outside, inside.join("link.html")).expect("a link");
    let loaded = radicon::disk::load(&inside).expect("a site");
    assert!(loaded.problems.iter().any(|problem| problem.to_string().starts_with("link.html: a symbolic link")));
    let page = loaded.site.find("page.html").expect("the page");
    let flat = Resolver::new(&loaded.site).flatten(page).expect("a page of a sane size");
    assert!(!String::from_utf8_lossy(&flat.bytes).contains("secret"));
    assert!(flat.problems[0].to_string().contains("no template `link.html`"), "{:?}", flat.problems);
}
