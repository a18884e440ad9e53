//! `orphan-override`: content for a block that no layout has.

use crate::check::context::Context;
use crate::check::found::Found;
use crate::check::{Look, Rule, Severity};
use crate::edit::Edits;
use crate::markup::ConstructId;
use crate::resolve::Chain;
use crate::site::Template;
use crate::text::{Span, slip_of};

pub(super) const RULE: Rule = Rule {
    id: "orphan-override",
    severity: Severity::Warning,
    meaning: "A template overrides a block that none of its layouts has; usually the name is misspelt. The content is lost.",
    example: "-- base.html\n<main>{% block main %}{% endblock %}</main>\n-- page.html\n{% extends \"base.html\" %}{% block mian %}Ferries{% endblock %}",
    remedy: "Write the name that the layout has; `radicon chain LAYOUT` lists them. `radicon check --fix` does it where only one name fits and the page does not have that one too.",
    look: Look::Site(look),
};

fn look(context: &Context<'_>) -> Vec<Found> {
    let mut found = Vec::new();
    for (id, template, chain) in context.children() {
        for (at, item) in template.outermost() {
            let name = item.name.of(&template.source);
            if !context.regions_above(&chain, name).is_empty() {
                continue;
            }
            let written = item.name.text(&template.source);
            let known = known(context, &chain);
            let free = known.iter().map(String::as_str).filter(|name| template.definition(name.as_bytes()).is_none());
            let mut one =
                Found::new(id, item.span, format!("no layout above has a block `{written}`; its content is lost"));
            if let Some(meant) = slip_of(&written, free) {
                one.message = format!("no layout above has a block `{written}`; did you mean `{meant}`?");
                let mut edits = Edits::default();
                for span in name_spans(template, at) {
                    edits.replace(template.path.clone(), span, meant.as_bytes());
                }
                one = one.fixed(format!("call it `{meant}`"), false, edits);
            }
            // Without content nothing is lost.
            if one.fix.is_none() && template.between(at).of(&template.source).trim_ascii().is_empty() {
                one.message = format!("no layout above has a block `{written}`; it does nothing");
                one = one.hint();
            }
            found.push(one);
        }
    }
    found
}

/// The names of the regions above a child, sorted.
fn known(context: &Context<'_>, chain: &Chain) -> Vec<String> {
    let of = |id: &crate::text::SourceId| {
        let template = context.site.get(*id);
        template.regions().map(|(_, region)| region.name.text(&template.source).into_owned()).collect::<Vec<_>>()
    };
    let mut known: Vec<String> = chain.levels[1..].iter().flat_map(of).collect();
    known.sort();
    known.dedup();
    known
}

/// The places where the name of a pair is written: in its opening tag, and maybe in its closing one.
fn name_spans(template: &Template, opener: ConstructId) -> Vec<Span> {
    let open = &template.constructs.items[opener];
    let close = template.constructs.partner(open).map(|close| close.name).filter(|name| !name.is_empty());
    std::iter::once(open.name).chain(close).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::check::rules::testing::{finds, fixes};

    const BASE: (&str, &str) = ("base.html", "{% block main %}{% block side %}{% endblock %}{% endblock %}");

    #[test]
    fn blocks_that_no_layout_has() {
        let page = "{% extends 'base.html' %}\n{% block mian %}x{% endblock mian %}{% block ferry %}{% endblock %}";
        finds(
            &RULE,
            &[BASE, ("page.html", page)],
            &["page.html:2: did you mean `main`?", "page.html:2: `ferry`; it does nothing"],
        );
    }

    #[test]
    fn nested_blocks_and_unknown_layouts_are_fine() {
        let page = "{% extends 'base.html' %}{% block main %}{% block own %}{% endblock %}{% endblock %}{% block side %}{% endblock %}";
        finds(&RULE, &[BASE, ("page.html", page)], &[]);
        finds(&RULE, &[("page.html", "{% extends 'gone.html' %}{% block x %}{% endblock %}")], &[]);
    }

    #[test]
    fn the_name_is_mended_in_both_tags() {
        let page = "{% extends 'base.html' %}{% block mian %}x{% endblock mian %}";
        let fixed = "{% extends 'base.html' %}{% block main %}x{% endblock main %}";
        fixes(&RULE, &[BASE, ("page.html", page)], "page.html", fixed);
        let both = "{% extends 'base.html' %}{% block mian %}x{% endblock %}{% block main %}y{% endblock %}";
        fixes(&RULE, &[BASE, ("page.html", both)], "page.html", "");
    }
}
