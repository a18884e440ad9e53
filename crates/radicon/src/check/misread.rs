//! What cannot be known: of a file that is read wrong little else, and of a dialect that was learned little of what
//! its pairs and rules say.

use rustc_hash::FxHashSet;

use super::context::Context;
use super::found::Found;
use super::rules::{CYCLE, NO_PARENT, ON_CHAINS, ON_PAIRS, ON_READING, ON_TAGS};
use super::{Rule, Severity};
use crate::resolve::Resolver;
use crate::site::Site;
use crate::text::SourceId;

/// Makes a hint of what may be a mistake of the reading: what rests on pairs in a dialect that was learned.
pub(super) fn weigh(site: &Site, rule: &Rule, one: &mut Found) {
    if ON_READING.contains(&rule.id) && site.get(one.id).dialect.learned {
        one.severity = Some(Severity::Hint);
    }
}

/// The files that are read wrong, as long as their mistakes are.
pub(super) struct Misread(FxHashSet<SourceId>);

impl Misread {
    /// Leaves out of what was found in a site what follows from something else that was.
    pub fn leave_out(context: &Context<'_>, found: &mut Vec<(Rule, Found)>) -> Self {
        let files = |found: &[(Rule, Found)], ids: &[&str]| -> FxHashSet<SourceId> {
            found.iter().filter(|(rule, _)| ids.contains(&rule.id)).map(|(_, one)| one.id).collect()
        };
        found.iter_mut().for_each(|(rule, one)| weigh(context.site, rule, one));
        // A tag that is not read leaves pairs open.
        let torn = files(found, ON_TAGS);
        found.retain(|(rule, one)| !ON_PAIRS.contains(&rule.id) || !torn.contains(&one.id));
        // With them blocks are lost, and with a layout all that was for its blocks.
        let misread = Self(torn.into_iter().chain(files(found, ON_PAIRS)).collect());
        let on_chains = |rule: &Rule| ON_CHAINS.contains(&rule.id);
        found.retain(|(rule, one)| !on_chains(rule) || !misread.is_any(&context.resolver.chain(one.id).levels));
        let is_sure = |(rule, one): &&(Rule, Found)| rule.id == NO_PARENT && one.severity != Some(Severity::Hint);
        let frameless: FxHashSet<SourceId> = found.iter().filter(is_sure).map(|(_, one)| one.id).collect();
        let has_frame =
            |one: &Found| !context.resolver.chain(one.id).levels[1..].iter().any(|level| frameless.contains(level));
        found.retain(|(rule, one)| !on_chains(rule) || has_frame(one));
        // What comes round to itself is in its page again and again.
        Self(misread.0.into_iter().chain(files(found, &[CYCLE])).collect())
    }

    /// Whether a page can be known, put together.
    pub fn allows(&self, context: &Context<'_>, page: SourceId) -> bool {
        self.0.is_empty() || !self.is_any(&Resolver::new(context.site).reached(page))
    }

    fn is_any(&self, ids: &[SourceId]) -> bool {
        ids.iter().any(|id| self.0.contains(id))
    }
}

#[cfg(test)]
mod tests {
    use crate::check::testing::site;
    use crate::check::{Severity, check};
    use crate::dialect::builtin_named;

    /// Errors and warnings, with their files.
    #[track_caller]
    fn told(files: &[(&str, &str)], expected: &[&str]) {
        let checked = check(&site(&builtin_named("brace-percent").expect("a dialect"), files, ""));
        let bad = checked.findings.iter().filter(|finding| finding.severity != Severity::Hint);
        let told: Vec<String> = bad.map(|finding| format!("{} {}", finding.file, finding.rule)).collect();
        assert_eq!(told, expected, "{:#?}", checked.findings);
    }

    const BASE: &str = "<html><main id='m'>{% block a %}{% block b %}{% endblock %}{% endblock %}</main></html>";
    const PAGE: &str = "{% extends 'base.html' %}{% block b %}x{% endblock %}{% block c %}y{% endblock %}";

    #[test]
    fn a_mistake_is_told_once() {
        told(&[("base.html", BASE), ("page.html", PAGE)], &["page.html orphan-override"]);
        // A tag that is not read leaves a pair open, and children without their blocks.
        let torn = BASE.replacen("{% block b %}", "{% blokc b %}", 1);
        told(&[("base.html", &torn), ("page.html", PAGE)], &["base.html unknown-tag"]);
        let open = BASE.replacen("{% endblock %}", "", 1);
        told(&[("base.html", &open), ("page.html", PAGE)], &["base.html unclosed"]);
        // What does not rest on it is told.
        let missing = format!("{torn}{{% include 'no.html' %}}");
        told(&[("base.html", &missing)], &["base.html unknown-tag", "base.html missing-target"]);
    }

    #[test]
    fn a_page_is_not_looked_at_if_a_part_of_it_is_read_wrong() {
        let page = "{% extends 'base.html' %}{% block a %}<p id='m'></p>{% endblock %}";
        told(&[("base.html", BASE), ("page.html", page)], &["page.html duplicate-id"]);
        let round = [("base.html", BASE), ("page.html", page), ("part.html", "{% include 'part.html' %}")];
        told(&round, &["page.html duplicate-id", "part.html cycle"]);
        let on_it = format!("{page}{{% block b %}}{{% include 'part.html' %}}{{% endblock %}}");
        told(&[("base.html", BASE), ("page.html", &on_it), round[2]], &["part.html cycle"]);
        let twice = BASE.replace("</html>", "{% block a %}{% endblock %}</html>");
        told(&[("base.html", &twice), ("page.html", page)], &["base.html block-twice"]);
    }

    #[test]
    fn a_layout_that_names_none_speaks_for_its_children() {
        let child = "{% extends 'base.html' %}{% block a %}{% endblock %}";
        let between = "{% block a %}x{% endblock %}{% block b %}{% endblock %}";
        let page = "{% extends 'between.html' %}{% block c %}y{% endblock %}";
        let base = BASE.replace("<main", "{% block c %}{% endblock %}<main");
        let files = [
            ("base.html", &base[..]),
            ("between.html", between),
            ("one.html", child),
            ("page.html", page),
            ("two.html", child),
        ];
        told(&files, &["between.html no-parent"]);
    }
}
