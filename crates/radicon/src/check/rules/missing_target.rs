//! `missing-target`: a layout or partial that is not there.

use std::collections::BTreeMap;
use std::hash::{Hash, Hasher};

use rustc_hash::{FxHashMap, FxHasher};

use crate::check::context::Context;
use crate::check::found::Found;
use crate::check::{Look, Rule, Severity};
use crate::dialect::{Part, Targets};
use crate::resolve::{Arguments, describe_missing};
use crate::site::{Missing, Role, Site, Template, beneath};
use crate::text::{SourceId, Span, count, slip_of};

pub(super) const RULE: Rule = Rule {
    id: "missing-target",
    severity: Severity::Error,
    meaning: "A template references a layout, a partial or a part that does not exist, or is outside the site, or a `here` means no page. Names whose directories or suffix do not occur in the site may belong to another application: they are one hint.",
    example: "-- page.html\n{% include \"parts/nvaigation.html\" %}\n-- parts/navigation.html\n<nav></nav>",
    remedy: "Correct the name, or create the file. `radicon survey` lists the directories where names start; `roots` sets them. If the file is elsewhere when the site runs, turn the rule off for these files.",
    look: Look::Site(look),
};

fn look(context: &Context<'_>) -> Vec<Found> {
    let site = context.site;
    let mut found = Vec::new();
    // What lies elsewhere, by the beginning of its name.
    let mut elsewhere: BTreeMap<String, Vec<(SourceId, Span, String)>> = BTreeMap::new();
    let mut names = Names::default();
    for (id, template) in context.templates() {
        for (at, target) in site.links(id).targets() {
            let item = &template.constructs.items[at];
            let optional = Arguments::read(&template.source, item.expr, &template.dialect.rules).optional;
            let Err(missing) = target else { continue };
            let written = item.target.text(&template.source);
            // What is put together when the page is rendered is no name.
            if optional || written.contains(['$', '{', '#']) || !site.parts(written.as_bytes()).is_empty() {
                continue;
            }
            let targets = template.dialect.targets_of(item.kind);
            let known = names.of(site, targets);
            if let Some(meant) = known.meant_by(&written) {
                found.push(Found::new(id, item.span, format!("no template `{written}`; did you mean `{meant}`?")));
            } else if let Some(lead) = foreign_lead(&written, targets, &known.all, missing) {
                elsewhere.entry(lead).or_default().push((id, item.span, written.into_owned()));
            } else {
                found.push(Found::new(id, item.span, describe_missing(&written, missing)));
            }
        }
        for (at, here) in site.heres(id) {
            let item = &template.constructs.items[*at];
            let means_a_page =
                here.as_ref().is_some_and(|here| site.pages().any(|page| here.means(&site.get(page).path)));
            if !means_a_page {
                let message = match item.target.is_empty() {
                    true => "no page that the link around it leads to".to_owned(),
                    false => format!("no page `{}`", item.target.text(&template.source)),
                };
                found.push(Found::new(id, item.span, message));
            }
        }
        for (at, item) in template.includes().filter(|(_, item)| item.target.is_empty() && !item.name.is_empty()) {
            let name = item.name.of(&template.source);
            if item.part != Part::Close && site.links(id).target(at).is_none() && site.parts(name).is_empty() {
                let message = format!("no file defines the part `{}`", String::from_utf8_lossy(name));
                found.push(Found::new(id, item.span, message));
            }
        }
    }
    found.extend(elsewhere.into_iter().map(|(lead, places)| told(&lead, &places)));
    found.extend(rules_without_layout(context));
    found
}

/// One finding for each folder rule whose layout is not there, at the first page that it should give it to.
fn rules_without_layout(context: &Context<'_>) -> Vec<Found> {
    let site = context.site;
    let found = site.settings.folders.iter().filter_map(|rule| {
        let name = rule.layout.as_ref()?;
        let pages: Vec<SourceId> = context
            .templates()
            .filter(|(_, template)| template.role == Role::Page && rule.lacks_layout_of(site, template))
            .map(|(id, _)| id)
            .collect();
        let all = count(pages.len(), "page");
        let message = format!("no template `{name}`, which a folder rule in radicon.toml gives to {all} as the layout");
        Some(Found::new(*pages.first()?, Span::default(), message))
    });
    found.collect()
}

/// A part of a name that is shorter is near too many others.
const SHORTEST: usize = 3;

/// The folders of a name, its file's name, and its suffix.
fn parts(name: &str) -> impl Iterator<Item = &str> {
    let dot = name.rfind('.').filter(|dot| !name[*dot..].contains('/')).unwrap_or(name.len());
    name[..dot].split('/').chain([&name[dot..]])
}

/// For each part of a name what all its other parts are.
fn others(name: &str) -> impl Iterator<Item = (u64, &str)> {
    let count = parts(name).count();
    (0..count).zip(parts(name)).map(move |(at, part)| {
        let mut hasher = FxHasher::default();
        (count, at).hash(&mut hasher);
        parts(name).enumerate().filter(|(other, _)| *other != at).for_each(|(_, other)| other.hash(&mut hasher));
        (hasher.finish(), part)
    })
}

/// One hint for all names that begin alike and of which nothing is here.
fn told(lead: &str, places: &[(SourceId, Span, String)]) -> Found {
    let (id, span, written) = &places[0];
    let message = match places.len() {
        1 => format!("`{written}` may be elsewhere when the site runs: nothing like `{lead}` is in the site"),
        all => {
            format!(
                "{all} names such as `{written}` may be elsewhere when the site runs: nothing like `{lead}` is in the site"
            )
        }
    };
    let others = places[1..].iter();
    others
        .fold(Found::new(*id, *span, message).hint(), |one, (id, span, written)| one.with(*id, *span, written.clone()))
}

/// What a name begins with, its folders, and its suffix, where no template of the site is named so: it belongs to
/// a third party, is made by a program, or is no template.
fn foreign_lead(written: &str, targets: &Targets, names: &[String], missing: &Missing) -> Option<String> {
    if !matches!(missing, Missing::NotFound(_)) {
        return None;
    }
    if let Some(sign) = foreign_sign(written, names) {
        return Some(sign.to_owned());
    }
    if written.starts_with('.') {
        return None;
    }
    let separator = if targets.separator.is_empty() { "/" } else { targets.separator.as_str() };
    let folder = written.rsplit_once(separator).map(|(folder, _)| format!("{folder}{separator}"));
    let suffix = written.rsplit_once('.').map(|(_, suffix)| format!(".{suffix}"));
    let suffix = suffix.filter(|suffix| separator == "/" && !suffix.contains('/'));
    let suffix = suffix.unwrap_or_default();
    let is_kind = |name: &&String| name.ends_with(&suffix);
    if !names.iter().any(|name| is_kind(&name)) {
        return Some(format!("{}…{suffix}", folder.unwrap_or_default()));
    }
    let folder = folder?;
    (!names.iter().any(|name| name.starts_with(&folder) && is_kind(&name))).then_some(folder)
}

/// What a name begins with, up to a sign that no name of the site has: it names something else than a file, such as
/// a part of one, or is looked up by a program.
fn foreign_sign<'w>(written: &'w str, names: &[String]) -> Option<&'w str> {
    let is_sign = |c: char| c.is_ascii_punctuation() && !"/_-.".contains(c);
    let leads = written.starts_with('.') && !written.starts_with("./") && !written.starts_with("../");
    let at = if leads { Some(0) } else { written.find(|c| is_sign(c) && !names.iter().any(|name| name.contains(c))) };
    at.map(|at| &written[..=at])
}

/// How the site's templates are named, by the rules for names.
#[derive(Default)]
struct Names(Vec<(Targets, Known)>);

/// The names of all templates.
struct Known {
    all: Vec<String>,
    /// Which of them have the same parts but for one.
    alike: FxHashMap<u64, Vec<u32>>,
}

impl Names {
    fn of(&mut self, site: &Site, targets: &Targets) -> &Known {
        let at = self.0.iter().position(|(known, _)| known == targets).unwrap_or_else(|| {
            let all = names(site, targets);
            let mut alike: FxHashMap<u64, Vec<u32>> = FxHashMap::default();
            for (number, name) in (0..).zip(&all) {
                others(name).for_each(|(others, _)| alike.entry(others).or_default().push(number));
            }
            self.0.push((targets.clone(), Known { all, alike }));
            self.0.len() - 1
        });
        &self.0[at].1
    }
}

impl Known {
    /// The first name that is written so but for a slip in one folder, in the file's name, or in its suffix.
    fn meant_by(&self, written: &str) -> Option<&String> {
        let near = others(written).enumerate().filter(|(_, (_, part))| part.len() >= SHORTEST);
        let near = near.flat_map(|(at, (others, part))| {
            let alike = self.alike.get(&others).into_iter().flatten();
            alike.filter(move |&&number| {
                let other = parts(&self.all[number as usize]).nth(at);
                other.is_some_and(|other| slip_of(part, [other]).is_some())
            })
        });
        near.min().map(|&number| &self.all[number as usize])
    }
}

/// How the site's templates are named by these rules.
fn names(site: &Site, targets: &Targets) -> Vec<String> {
    let name = |template: &Template| {
        let path = site.roots.iter().find_map(|root| beneath(&template.path, &root.path)).unwrap_or(&template.path);
        let suffix = targets.suffixes.iter().find(|suffix| !suffix.is_empty() && path.ends_with(suffix.as_str()));
        let bare = suffix.map_or(path, |suffix| &path[..path.len() - suffix.len()]);
        if targets.separator.is_empty() { bare.to_owned() } else { bare.replace('/', &targets.separator) }
    };
    site.templates.iter().map(name).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::check::rules::testing::{finds, finds_with};
    use crate::site::{Settings, SourceFile};

    #[test]
    fn names_of_files_that_are_not_there() {
        let nav = ("parts/nav.html", "<nav></nav>");
        finds(
            &RULE,
            &[nav, ("a.html", "<p>\n{% include 'parts/nva.html' %}{% include 'parts/nav.html' %}")],
            &["a.html:2: did you mean `parts/nav.html`?"],
        );
        finds(
            &RULE,
            &[nav, ("a.html", "{% include 'parts/nav.html' %}{% extends '../../x.html' %}")],
            &["a.html:1: outside the site"],
        );
        finds(
            &RULE,
            &[("a.html", "{% include 'gone.html' ignore missing %}{% include x %}{# {% include 'y' %} #}")],
            &[],
        );
    }

    #[test]
    fn names_of_another_application_are_hints() {
        let files = [("a.html", "{% extends 'vendor/frame.html' %}{% block a %}{% endblock %}")];
        finds(&RULE, &files, &["a.html:1: `vendor/frame.html` may be elsewhere"]);
        let icons =
            "{% include 'icons/key.svg' %}{% include 'icons/cross.svg' %}{% include 'a.htm' %}{% include 'x.html' %}";
        finds(
            &RULE,
            &[("a.html", icons), ("b.html", "{% include '${which}.html' %}")],
            &[
                "a.html:1: 2 names such as `icons/key.svg`",
                "a.html:1: no template `a.htm`; did you mean `a.html`?",
                "a.html:1: no template `x.html`; looked for x.html",
            ],
        );
        let parts = "{% include 'SELF:row' %}{% include '.tree' %}{% include './x.html' %}";
        finds(
            &RULE,
            &[("a.html", parts), ("b.html", "")],
            &["a.html:1: like `SELF:`", "a.html:1: like `.`", "a.html:1: no template `./x.html`"],
        );
        finds_with(&RULE, &files, "[check.levels]\nmissing-target = 'off'", &[]);
        finds_with(&RULE, &files, "[check.ignore]\nmissing-target = ['a.*']", &[]);
    }

    #[test]
    fn a_here_means_a_page() {
        let menu = "<a href=\"../b.html\"<!--: here --> class=\"on\"<!--: end here -->>\n<!--: here ../c.html -->x<!--: end here -->";
        let files = [("parts/menu.html", menu), ("b.html", "<!--: partial parts/menu.html -->")];
        let files = files.into_iter().map(|(path, text)| SourceFile::new(path, text)).collect();
        let site = Site::read(files, crate::dialect::builtin(), &Settings::default());
        let checked = crate::check::check(&site);
        let found = checked.findings.iter().filter(|finding| finding.rule == RULE.id);
        let found: Vec<String> = found.map(|finding| format!("{}: {}", finding.file, finding.message)).collect();
        assert_eq!(found, ["parts/menu.html: no page `../c.html`"]);
    }
}
