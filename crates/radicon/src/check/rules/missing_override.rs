//! `missing-override`: a region that must be filled and is not.

use crate::check::context::{Context, PageView};
use crate::check::found::Found;
use crate::check::{Look, Rule, Severity};

pub(super) const RULE: Rule = Rule {
    id: "missing-override",
    severity: Severity::Error,
    meaning: "A page does not fill a region that its layout requires.",
    example: "-- base.html\n<address><!--: required address --></address>\n-- page.html\n<!--: layout base.html -->",
    remedy: "Fill the region in the page or in a layout between, or make it optional.",
    look: Look::Page(look),
};

fn look(context: &Context<'_>, page: &PageView<'_>) -> Vec<Found> {
    let chain = context.resolver.chain(page.id);
    let mut found = Vec::new();
    for (level, &id) in chain.levels.iter().enumerate() {
        let template = context.site.get(id);
        for (_, region) in template.regions().filter(|(_, item)| item.form(&template.dialect).required) {
            let name = region.name.of(&template.source);
            let filled = chain.levels[..level].iter().any(|&below| context.site.get(below).definition(name).is_some());
            // Only where the page comes to the region at all.
            let at = template.problem(region.span.start, "").at;
            let open = page.flat.problems.iter().any(|problem| problem.file == template.path && problem.at == at);
            if filled || !open || level == 0 {
                continue;
            }
            let name = region.name.text(&template.source);
            let span = context.site.get(page.id).parent().map(|item| item.span).unwrap_or_default();
            let message = format!("`{name}` must be filled: {} requires it", template.path);
            found.push(Found::new(page.id, span, message).with(id, region.span, "the region"));
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::check::rules::testing::{finds_in, lamp};
    use crate::dialect::builtin_named;

    #[test]
    fn regions_that_must_be_filled() {
        let margin = builtin_named("margin").expect("a dialect");
        let base = ("base.html", "<address><!--: required address --></address>");
        let files = [
            base,
            ("a.html", "<p></p>\n<!--: layout base.html -->"),
            ("b.html", "<!--: layout base.html --><!--: block address -->x<!--: end -->"),
        ];
        finds_in(&margin, &RULE, &files, "", &["a.html:2: `address` must be filled: base.html"]);
        let files = [
            ("base.html", "(~ must a ~)(~ lamp b ~)(~ out ~)"),
            ("mid.html", "(~ hangs 'base.html' ~)(~ lamp a ~)x(~ out ~)"),
            ("a.html", "(~ hangs 'base.html' ~)(~ lamp b ~)(~ out ~)"),
            ("b.html", "(~ hangs 'mid.html' ~)"),
        ];
        finds_in(&lamp(), &RULE, &files, "", &["a.html:1: `a` must be filled"]);
    }
}
