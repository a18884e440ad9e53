//! `missing-target`: a layout or partial that is not there.

use crate::check::context::{Context, Found};
use crate::check::{Look, Rule, Severity};
use crate::dialect::{Part, Targets};
use crate::resolve::{Arguments, describe_missing};
use crate::site::{Missing, Site, Template, beneath};
use crate::text::{SourceId, did_you_mean};

pub(super) const RULE: Rule = Rule {
    id: "missing-target",
    severity: Severity::Error,
    meaning: "A template names a layout, a partial or a part that does not exist, or one outside of the site. Where not even the first folder of the name is there, it may belong to another application; then it is a hint.",
    example: "-- page.html\n{% include \"parts/nvaigation.html\" %}\n-- parts/navigation.html\n<nav></nav>",
    remedy: "Write the name of a file that is there, or make the file. Where names start is said by `radicon survey`, and can be set with `roots`. If the file lies elsewhere when the site runs, turn the rule off for these files.",
    look: Look::Site(look),
};

fn look(context: &Context<'_>) -> Vec<Found> {
    context.templates().flat_map(|(id, template)| of_template(context.site, id, template)).collect()
}

fn of_template(site: &Site, id: SourceId, template: &Template) -> Vec<Found> {
    let mut found = Vec::new();
    for (at, target) in site.links(id).targets() {
        let item = &template.constructs.items[at as usize];
        let optional = Arguments::read(&template.source, item.expr, &template.dialect.rules).optional;
        let Err(missing) = target else { continue };
        if optional {
            continue;
        }
        let written = item.target.text(&template.source);
        let targets = template.dialect.targets_of(item.kind);
        let names = names(site, targets);
        found.push(match did_you_mean(&written, names.iter().map(String::as_str)) {
            Some(meant) => Found::new(id, item.span, format!("no template `{written}`; did you mean `{meant}`?")),
            None => {
                let one = Found::new(id, item.span, describe_missing(&written, missing));
                if is_foreign(&written, targets, &names, missing) { one.hint() } else { one }
            }
        });
    }
    for (at, item) in template.includes().filter(|(_, item)| item.target.is_empty() && !item.name.is_empty()) {
        let name = item.name.of(&template.source);
        if item.part != Part::Close && site.links(id).target(at).is_none() && site.parts(name).is_empty() {
            let message = format!("no file defines the part `{}`", String::from_utf8_lossy(name));
            found.push(Found::new(id, item.span, message));
        }
    }
    found
}

/// Whether the name's first folder is nowhere in the site.
fn is_foreign(written: &str, targets: &Targets, names: &[String], missing: &Missing) -> bool {
    let separator = if targets.separator.is_empty() { "/" } else { targets.separator.as_str() };
    let Some((first, _)) = written.split_once(separator) else { return false };
    let lead = format!("{first}{separator}");
    matches!(missing, Missing::NotFound(_))
        && !first.starts_with('.')
        && !names.iter().any(|name| name.starts_with(&lead))
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
            &["a.html:1: leads out of the site"],
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
        finds(&RULE, &files, &["a.html:1: no template `vendor/frame.html`"]);
        finds_with(&RULE, &files, "[check.levels]\nmissing-target = 'off'", &[]);
        finds_with(&RULE, &files, "[check.ignore]\nmissing-target = ['a.*']", &[]);
    }
}
