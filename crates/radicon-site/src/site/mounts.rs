//! Mounts: names that begin with the name of an application, and the folders for which that is.

use std::collections::{BTreeMap, BTreeSet};

use serde::Serialize;

use super::Site;
use super::lookup::{file_name, variants};
use crate::dialect::Targets;

/// How names that begin with an application's name become files.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Mount {
    /// How names are written, such as `<a>/<rest>`.
    pub name: String,
    /// The path of the file from the site's folder, such as `modules/<a>/templates/<rest>`.
    pub file: String,
    /// How it came to be one.
    pub why: String,
}

/// At least so many names must follow a mount that nobody configured, of at least so many applications; one is enough
/// where a sign sets it off.
const FEWEST_NAMES: usize = 3;
const FEWEST_APPLICATIONS: usize = 2;

/// The most mounts that are inferred.
const MOST: usize = 8;

impl Mount {
    /// The file, without its suffix as the case may be, that a written name means.
    pub(super) fn file_of(&self, written: &str, targets: &Targets) -> Option<String> {
        let (application, rest) = fill(&self.name, written)?;
        Some(self.file.replace("<a>", application).replace("<rest>", &with_slashes(rest, targets)))
    }

    /// How a file is written, by a rule for what follows the application's name.
    pub(super) fn name_of(&self, path: &str, shorten: impl Fn(&str) -> String) -> Option<String> {
        let (application, rest) = fill(&self.file, path)?;
        Some(self.name.replace("<a>", application).replace("<rest>", &shorten(rest)))
    }
}

/// What follows an application's name, with slashes between its parts.
fn with_slashes(rest: &str, targets: &Targets) -> String {
    match targets.separator.as_str() {
        "/" | "" => rest.to_owned(),
        separator if !rest.contains('/') => rest.replace(separator, "/"),
        _ => rest.to_owned(),
    }
}

/// The texts for `<a>` and `<rest>` in a text that a pattern fits.
fn fill<'t>(pattern: &str, text: &'t str) -> Option<(&'t str, &'t str)> {
    let (before, after) = pattern.split_once("<a>")?;
    let (between, end) = after.split_once("<rest>")?;
    let inner = text.strip_prefix(before)?.strip_suffix(end)?;
    let (application, rest) = inner.split_once(between)?;
    (!application.is_empty() && !application.contains('/') && !rest.is_empty()).then_some((application, rest))
}

/// Whether a pattern of a mount shows both places, in their order.
pub(super) fn is_pattern(text: &str) -> bool {
    let between = text.split_once("<a>").and_then(|(_, after)| after.split_once("<rest>"));
    between.is_some_and(|(between, end)| !between.is_empty() && !end.contains(['<', '>']))
}

/// Finds the mounts that explain names which lead nowhere.
pub(super) fn infer(site: &Site) -> Vec<Mount> {
    let mut unexplained: BTreeSet<usize> = BTreeSet::new();
    let mut candidates: BTreeMap<(String, String), BTreeMap<usize, String>> = BTreeMap::new();
    for (index, (written, targets)) in site.missing_names().into_iter().enumerate() {
        unexplained.insert(index);
        for (name, application, file) in readings(site, &written, targets) {
            candidates.entry((name, file)).or_default().insert(index, application);
        }
    }
    let mut mounts = Vec::new();
    while mounts.len() < MOST {
        let gain = |names: &BTreeMap<usize, String>| {
            let left: Vec<&String> = names.iter().filter(|(at, _)| unexplained.contains(at)).map(|(_, a)| a).collect();
            (left.len(), left.into_iter().collect::<BTreeSet<_>>().len())
        };
        let enough = |(name, _): &(String, String), (names, applications): (usize, usize)| {
            names >= FEWEST_NAMES && (applications >= FEWEST_APPLICATIONS || name != "<a>/<rest>")
        };
        let best = candidates.iter().filter(|(mount, names)| enough(mount, gain(names)));
        let Some(((name, file), names)) = best.rev().max_by_key(|(_, names)| gain(names)) else { break };
        let why = format!("{} references that no root explains resolve this way", gain(names).0);
        mounts.push(Mount { name: name.clone(), file: file.clone(), why });
        for at in names.keys() {
            unexplained.remove(at);
        }
    }
    mounts
}

/// The mounts under which a name would be a file: how the name is written, the application, the file.
fn readings(site: &Site, written: &str, targets: &Targets) -> Vec<(String, String, String)> {
    let sign = written.len() - written.trim_start_matches(|c: char| !c.is_alphanumeric() && c != '.' && c != '/').len();
    let (sign, plain) = written.split_at(sign);
    let separator = ["::", ":", "/"].into_iter().find(|separator| plain.contains(separator));
    let Some((separator, (application, rest))) = separator.and_then(|s| Some((s, plain.split_once(s)?))) else {
        return Vec::new();
    };
    if application.is_empty() || rest.is_empty() {
        return Vec::new();
    }
    let name = format!("{sign}<a>{separator}<rest>");
    let mut found = Vec::new();
    let rest = with_slashes(rest, targets);
    for file in variants(&rest, targets) {
        for &id in site.by_name.get(file_name(&file)).into_iter().flatten() {
            let Some(start) = site.get(id).path.strip_suffix(&file).filter(|start| start.ends_with('/')) else {
                continue;
            };
            for (at, _) in start.match_indices(application) {
                let begins = at == 0 || start.as_bytes()[at - 1] == b'/';
                let after = &start[at + application.len()..];
                if begins && (after != "/" || separator != "/") {
                    let pattern = format!("{}<a>{after}<rest>", &start[..at]);
                    found.push((name.clone(), application.to_owned(), pattern));
                }
            }
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use crate::dialect::builtin;
    use crate::site::{Settings, Site, SourceFile};

    #[test]
    fn names_may_begin_with_an_application() {
        let mut files = vec![("frame/base.html".to_owned(), "{% block a %}{% endblock %}".to_owned())];
        for module in ["harbour", "fares"] {
            files.push((format!("modules/{module}/pages/parts/card.html"), "<p></p>".into()));
            files.push((format!("modules/{module}/pages/row.html"), "<p></p>".into()));
            let text = format!("{{% include '{module}/parts/card.html' %}}{{% include '{module}/row.html' %}}");
            files.push((format!("modules/{module}/pages/index.html"), text));
        }
        let files: Vec<SourceFile> = files.into_iter().map(|(path, text)| SourceFile::new(path, text)).collect();
        let site = Site::read(files.clone(), builtin(), &Settings::default());
        let found: Vec<_> = site.mounts.iter().map(|mount| (mount.name.as_str(), mount.file.as_str())).collect();
        assert_eq!(found, [("<a>/<rest>", "modules/<a>/pages/<rest>")]);
        let from = site.find("modules/fares/pages/index.html").expect("a template");
        assert!(site.links(from).targets().all(|(_, target)| target.is_ok()), "{:?}", site.links(from));
        let card = "modules/fares/pages/parts/card.html";
        let brace = &builtin()[1];
        assert_eq!(site.name_for(card, brace, crate::dialect::Kind::Include), "fares/parts/card.html");
        // What is configured needs no evidence.
        let settings =
            Settings::parse("roots = ['frame']\n[[mount]]\nname = '<a>/<rest>'\nfile = 'modules/<a>/pages/<rest>'\n");
        let site = Site::read(files, builtin(), &settings.expect("settings"));
        assert!(site.links(from).targets().all(|(_, target)| target.is_ok()));
    }
}
