//! Steps on random sites: no page changes, and a step and its opposite leave everything as it was.

use std::sync::Arc;

use crate::common::steps::{any, element, random_step, whole};
use crate::common::{Random, cases, seed};
use radicon::steps::StepError;
use radicon::text::Span;
use radicon::{Settings, Site, SourceFile, Strength, prove};

/// A random site of a made-up engine, whatever that can write.
fn random_site(random: &mut Random) -> Site {
    let engine = crate::made::engines::engine(random);
    let made = crate::made::written::site(random, &engine, 8);
    Site::read(made.files, &[Arc::clone(&engine.dialect)], &Settings::default())
}

/// Whether every page that both sites have is the same.
#[track_caller]
fn same_pages(before: &Site, after: &Site, what: &str) {
    let proof = prove(before, after, Strength::Blanks);
    for page in proof.pages.iter().filter(|page| !page.is_equal()) {
        let both = before.find(&page.page).zip(after.find(&page.page));
        let shown = both.is_some_and(|(a, b)| before.get(a).rendered && after.get(b).rendered);
        assert!(!shown, "{what}: {}: {:?}", page.page, page.difference());
    }
}

fn sources(site: &Site) -> Vec<(String, String)> {
    let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
    site.templates.iter().map(|template| (template.path.clone(), text(&template.source))).collect()
}

#[test]
fn sequences_of_steps_keep_every_page() {
    let first = seed("sequences of steps");
    let mut made = std::collections::BTreeMap::new();
    for case in 0..cases(150, 10_000) {
        let mut random = Random((first + case) * 15_485_863);
        let start = random_site(&mut random);
        let mut site = start.clone();
        for _ in 0..6 {
            let Some((word, result)) = random_step(&site, &mut random) else { continue };
            match result {
                Ok(step) => {
                    let what = format!("seed {}: {}", first + case, step.title);
                    assert!(step.proof.equal && !step.changes.is_empty(), "{what}");
                    // A rule of the folder is no part of the changes.
                    if step.settings.is_empty() {
                        site = site.after(&step.changes, &[]);
                        same_pages(&start, &site, &what);
                    }
                    *made.entry(word).or_insert(0) += 1;
                }
                Err(StepError::Edit(error)) => panic!("seed {}: {word}: {error}", first + case),
                Err(_) => {}
            }
        }
    }
    println!("{made:?}");
    for word in ["extract", "inline", "open", "rename", "push-down", "reorder"] {
        assert!(made.get(word).is_some_and(|count| *count > 2), "{word}: {made:?}");
    }
}

#[test]
fn inline_undoes_extract() {
    let first = seed("inline undoes extract");
    let (mut exact, mut all) = (0, 0);
    for case in 0..cases(150, 10_000) {
        let mut random = Random((first + case) * 32_452_843);
        let site = random_site(&mut random);
        let id = any(&site, &mut random);
        let Some(span) = element(&site, id, &mut random) else { continue };
        let copies = random.once_in(2);
        let Ok(step) = radicon::steps::extract(&site, id, span, &whole("taken-out".to_owned(), copies)) else {
            continue;
        };
        let between = site.after(&step.changes, &[]);
        let partial = step.changes.iter().find(|change| change.old.is_none()).expect("a partial");
        let back = radicon::steps::inline(&between, between.find(&partial.path).expect("the partial"))
            .unwrap_or_else(|error| panic!("seed {}: {error}", first + case));
        let after = between.after(&back.changes, &[]);
        same_pages(&site, &after, &format!("seed {}", first + case));
        all += 1;
        let bytes = step.proof.pages.iter().all(|page| page.strength() == Some(Strength::Bytes));
        exact += usize::from(bytes && sources(&site) == sources(&after));
        // Indentation goes, and a tag with a line of its own may need one.
        let words = |site: &Site| -> Vec<(String, String)> {
            let packed = |text: String| text.split_whitespace().collect::<String>();
            sources(site).into_iter().map(|(path, text)| (path, packed(text))).collect()
        };
        // Copies that are written otherwise become like the first one.
        assert!(copies || words(&site) == words(&after), "seed {}", first + case);
    }
    println!("{exact} of {all} sites are the same byte for byte");
    assert!(all > 20 && exact > 10, "{exact} of {all}");
}

#[test]
fn push_down_undoes_pull_up() {
    let first = seed("push-down undoes pull-up");
    let mut all = 0;
    for case in 0..cases(300, 10_000) {
        let mut random = Random((first + case) * 49_979_687);
        let content = format!("<p>{}</p>", random.below(1000));
        let default = if random.once_in(2) { "<b>old</b>" } else { "" };
        let (mut files, pages) = (Vec::new(), 2 + random.below(5));
        files.push((
            "base.html".to_owned(),
            format!("<main>{{% block a %}}{default}{{% endblock %}}</main>{{% block z %}}{{% endblock %}}"),
        ));
        for n in 0..pages {
            let other = if random.once_in(2) { "{% block z %}z{% endblock %}\n" } else { "" };
            let own = format!("{{% block a %}}{content}{{% endblock %}}\n");
            files.push((format!("p{n}.html"), format!("{{% extends 'base.html' %}}\n{own}{other}")));
        }
        let files = files.into_iter().map(|(path, text)| radicon::SourceFile::new(path, text)).collect();
        let site = Site::read(files, radicon::dialect::builtin(), &Settings::default());
        let layout = site.find("base.html").expect("the layout");
        let up = radicon::steps::pull_up(&site, layout, "a").expect("alike");
        let between = site.after(&up.changes, &[]);
        let down = radicon::steps::push_down(&between, layout, "a").expect("content");
        let after = between.after(&down.changes, &[]);
        same_pages(&site, &after, &format!("seed {}", first + case));
        let of = |site: &Site| sources(site).into_iter().filter(|(path, _)| path != "base.html").collect::<Vec<_>>();
        assert_eq!(of(&site), of(&after), "seed {}", first + case);
        all += 1;
    }
    assert!(all > 100);
}

/// A partial loads what its tags need, as the file did that it was taken from.
#[test]
fn a_partial_takes_own_file_tags_along() {
    let page = |n: usize| {
        format!(
            "{{% fetchlib phrases %}}\n<html><body><p>{n}</p>\n<nav>{{% say 'home' %}}</nav>\n<i>plain</i>\n</body></html>\n"
        )
    };
    let files = (0..4).map(|n| SourceFile::new(format!("p{n}.html"), page(n))).collect();
    let site = Site::read(files, radicon::dialect::builtin(), &Settings::default());
    let id = site.find("p0.html").expect("a page");
    let text = String::from_utf8_lossy(&site.get(id).source).into_owned();
    for (element, loads) in [("<nav>{% say 'home' %}</nav>", true), ("<i>plain</i>", false)] {
        let at = text.find(element).expect("the element");
        let step = radicon::steps::extract(
            &site,
            id,
            Span::from_range(at..at + element.len()),
            &whole("part".to_owned(), true),
        )
        .expect("a step");
        let created = step.changes.iter().find(|change| change.old.is_none()).expect("a partial");
        let created = String::from_utf8_lossy(created.new.as_deref().unwrap_or_default()).into_owned();
        assert_eq!(created.starts_with("{% fetchlib phrases %}"), loads, "{created}");
    }
}
