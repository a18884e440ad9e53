//! What a site written in a known dialect says in words of its own: the content that an override
//! replaces, and a parent that names nothing.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use super::{AsKnown, Confidence, LearnedForm};
use crate::dialect::{Dialect, Form, Kind, Part};
use crate::dialect_file::document::quote;
use crate::dialect_file::forms::escape;
use crate::markup::{Construct, ConstructId};
use crate::resolve::Resolver;
use crate::site::{Parent, Site, Template};
use crate::text::{Place, SourceId, trim_blanks};
use crate::thresholds::{
    AT_EDGE, CONTENT_ABOVE, FEWEST_OWN_FILES, FEWEST_OWN_USES, HIDING, INSIDE, RECURRING, SURE_USES, TIMES_AHEAD,
};

/// Uses of one tag.
#[derive(Default)]
struct Uses {
    all: usize,
    files: BTreeSet<SourceId>,
    /// In files whose chain is complete, and of these inside an override.
    known: usize,
    inside: usize,
    /// Of these where the region has content above, and at the beginning or end of the override.
    with_content: usize,
    at_edge: usize,
    /// In a file that has no layout and is none.
    elsewhere: bool,
    first: Option<(SourceId, u32)>,
}

/// How much of a site is looked at.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(super) enum Look {
    /// All of it.
    Whole,
    /// Some files, whose layouts may not be among them: what may be found in the whole.
    Sample,
}

/// The forms that a site adds to its dialects, with the names of these.
pub(super) fn find(read: &AsKnown<'_>, look: Look) -> Vec<(String, LearnedForm)> {
    let AsKnown { dialects, site, .. } = *read;
    let mut found = Vec::new();
    for dialect in dialects.iter().filter(|dialect| dialect.has_children()) {
        let templates: Vec<(SourceId, &Template)> =
            site.with_ids().filter(|(_, template)| Arc::ptr_eq(&template.dialect, dialect)).collect();
        if templates.len() < FEWEST_OWN_FILES {
            continue;
        }
        let forms = replaced_content(site, &templates, look).into_iter().chain(hidden_parents(site, &templates, look));
        found.extend(forms.map(|form| (dialect.name.clone(), form)));
    }
    found
}

/// A tag without its marks, as a form shows it; `None` for one that is written otherwise.
fn shown(template: &Template, item: &Construct) -> Option<String> {
    let tag = &item.tag_form(&template.dialect)?.pattern;
    let text = |bytes: &[u8]| String::from_utf8(bytes.to_vec()).ok();
    let expr = text(item.expr.of(&template.source))?;
    let expr = expr.split_whitespace().collect::<Vec<_>>().join(" ");
    Some(escape(&format!("{} {expr} {}", text(tag.lead())?, text(tag.tail())?)))
}

/// The expression or tag that splices what an override replaces: nearly always inside overrides whose region has
/// content above, at their edge, nowhere in files without a layout, and with a word of the dialect's own for a block
/// or for what it inherits. A title that pages print at the edge of a block is all that but the last.
fn replaced_content(site: &Site, templates: &[(SourceId, &Template)], look: Look) -> Option<LearnedForm> {
    let inherits = |(_, template): &(SourceId, &Template)| {
        template.constructs.items.iter().any(|item| item.kind == Kind::Inherited)
    };
    let as_described = templates.iter().filter(|template| inherits(template)).count();
    let words = words(&templates.first()?.1.dialect);
    let resolver = Resolver::new(site);
    let mut uses: BTreeMap<String, Uses> = BTreeMap::new();
    for &(id, template) in templates {
        let chain = resolver.chain(id);
        let is_known = look == Look::Sample || chain.broken.is_none() && chain.levels.len() > 1;
        let has_layout = *site.parent(id) != Parent::None;
        let mut open: Vec<ConstructId> = Vec::new();
        for (at, item) in ConstructId::each(&template.constructs.items) {
            open.retain(|&block| template.constructs.items[block].partner > Some(at));
            if item.kind == Kind::Block && item.part == Part::Open && item.partner.is_some() {
                open.push(at);
            }
            if item.part != Part::Single || !matches!(item.kind, Kind::Output | Kind::Other) {
                continue;
            }
            let expr = item.expr.text(&template.source);
            let mut parts = expr.split(|c: char| !c.is_alphanumeric() && c != '_');
            let Some(text) = shown(template, item).filter(|_| parts.any(|part| words.contains(part))) else { continue };
            let one = uses.entry(text).or_default();
            one.all += 1;
            one.files.insert(id);
            one.first.get_or_insert((id, item.span.start));
            one.elsewhere |= !has_layout && template.regions().next().is_none();
            if !is_known {
                continue;
            }
            one.known += 1;
            let Some(&block) = open.last() else { continue };
            one.inside += 1;
            let name = template.constructs.items[block].name.of(&template.source);
            let above = chain.levels[1..].iter().find_map(|&layout| Some((layout, site.get(layout).definition(name)?)));
            let holds = |(layout, at): (SourceId, ConstructId)| {
                let layout = site.get(layout);
                !trim_blanks(layout.inner(at).of(&layout.source)).is_empty()
            };
            one.with_content += usize::from(above.is_some_and(holds));
            let inner = template.inner(block);
            let between = |from: u32, to: u32| template.source.get(from as usize..to as usize).unwrap_or_default();
            let edges = [between(inner.start, item.span.start), between(item.span.end, inner.end)];
            one.at_edge += usize::from(edges.iter().any(|edge| trim_blanks(edge).is_empty()));
        }
    }
    let fitting = uses.into_iter().filter(|(_, one)| {
        let is_inside = !one.elsewhere && INSIDE.reached(one.inside, one.known);
        match look {
            // A few of many.
            Look::Sample => is_inside && one.known > 0,
            Look::Whole => {
                is_inside
                    && one.known >= FEWEST_OWN_USES
                    && one.files.len() >= FEWEST_OWN_FILES
                    && CONTENT_ABOVE.reached(one.with_content, one.inside)
                    && AT_EDGE.reached(one.at_edge, one.inside)
            }
        }
    });
    let mut fitting: Vec<_> = fitting.collect();
    fitting.sort_by_key(|(_, one)| std::cmp::Reverse(one.files.len()));
    let ahead = |next: &(String, Uses)| fitting[0].1.files.len() >= TIMES_AHEAD * next.1.files.len();
    if look == Look::Whole && !fitting.get(1).is_none_or(ahead) {
        return None;
    }
    // Where the dialect's own way is usual another one is something else.
    let (text, one) = fitting.into_iter().next()?;
    if look == Look::Whole && one.files.len() < TIMES_AHEAD * as_described {
        return None;
    }
    let evidence = format!(
        "{} of {} uses are in overrides, {} of a region with content above; none is in a file without a layout",
        one.inside, one.known, one.with_content
    );
    Some(learned(site, Kind::Inherited, quote(&text), one, evidence))
}

/// The words of a dialect for a block and for what an override inherits.
fn words(dialect: &Dialect) -> BTreeSet<String> {
    let forms = dialect.forms.iter().filter(|form| matches!(form.kind, Kind::Block | Kind::Inherited));
    let of = |form: &Form| {
        let text = form.open.example().replace("<name>", "").replace("<args>", "");
        let words = text.split(|c: char| !c.is_alphanumeric() && c != '_').filter(|word| word.len() > 2);
        words.map(str::to_owned).collect::<Vec<_>>()
    };
    forms.flat_map(of).collect()
}

/// A tag that names nothing at the head of files which hide another one and override its blocks.
fn hidden_parents(site: &Site, templates: &[(SourceId, &Template)], look: Look) -> Option<LearnedForm> {
    let mut heads: BTreeMap<String, Uses> = BTreeMap::new();
    let mut hiding: BTreeMap<String, (usize, usize, usize)> = BTreeMap::new();
    for &(id, template) in templates {
        for (at, item) in template.constructs.items.iter().enumerate() {
            let is_word = item.kind == Kind::Other
                && item.expr.of(&template.source).iter().all(|b| b.is_ascii_alphanumeric() || b"_-".contains(b));
            let Some(text) = shown(template, item).filter(|_| is_word) else { continue };
            let one = heads.entry(text.clone()).or_default();
            one.all += 1;
            let is_new = one.files.insert(id);
            one.first.get_or_insert((id, item.span.start));
            one.elsewhere |= !is_new || *site.parent(id) != Parent::None || !is_at_head(template, at);
            let counts = hiding.entry(text).or_default();
            if let Some(hidden) = site.namesake(id) {
                counts.0 += 1;
                let above = regions_of(site, hidden);
                counts.1 +=
                    template.blocks().filter(|(_, block)| above.contains(block.name.of(&template.source))).count();
            }
            counts.2 += template.blocks().count();
        }
    }
    let mut fitting = heads.into_iter().filter(|(text, one)| {
        let (hide, recurring, blocks) = hiding[text];
        match look {
            Look::Sample => !one.elsewhere,
            Look::Whole => {
                !one.elsewhere
                    && one.files.len() >= FEWEST_OWN_FILES
                    && HIDING.reached(hide, one.files.len())
                    && blocks > 0
                    && RECURRING.reached(recurring, blocks)
            }
        }
    });
    let (text, one) = fitting.next()?;
    if look == Look::Whole && fitting.next().is_some() {
        return None;
    }
    let (hide, recurring, blocks) = hiding[&text];
    let evidence = format!(
        "{hide} of {} files with it hide one of the same name, which has {recurring} of their {blocks} blocks",
        one.files.len()
    );
    Some(learned(site, Kind::Parent, format!("{{ open = {}, target = \"self\" }}", quote(&text)), one, evidence))
}

/// The names of the regions that a template and its layouts have.
fn regions_of(site: &Site, id: SourceId) -> BTreeSet<&[u8]> {
    let chain = Resolver::new(site).chain(id);
    let regions = |&level: &SourceId| {
        let template = site.get(level);
        template.regions().map(|(_, region)| region.name.of(&template.source)).collect::<Vec<_>>()
    };
    chain.levels.iter().flat_map(regions).collect()
}

/// Whether nothing but comments and tags without output comes before a tag.
fn is_at_head(template: &Template, at: usize) -> bool {
    let mut from = 0;
    template.constructs.items[..=at].iter().enumerate().all(|(index, item)| {
        let gap = template.source.get(from..item.span.start as usize).unwrap_or_default();
        from = item.span.end as usize;
        let silent = matches!(item.kind, Kind::Comment | Kind::Other | Kind::Set | Kind::Import);
        trim_blanks(gap).is_empty() && (index == at || silent)
    })
}

fn learned(site: &Site, kind: Kind, form: String, uses: Uses, evidence: String) -> LearnedForm {
    let example = uses.first.map(|(id, offset)| {
        let template = site.get(id);
        Place { file: template.path.clone(), line: template.position(offset).line }
    });
    let written = uses.first.map(|(id, offset)| {
        let template = site.get(id);
        let item = template.constructs.items.iter().find(|item| item.span.start == offset);
        item.map(|item| item.span.text(&template.source).into_owned()).unwrap_or_default()
    });
    let confidence = if uses.all >= SURE_USES { Confidence::Sure } else { Confidence::Likely };
    LearnedForm { kind, form, uses: uses.all, evidence, confidence, written: written.unwrap_or_default(), example }
}

#[cfg(test)]
mod tests {
    use crate::dialect::builtin;
    use crate::learn;
    use crate::site::SourceFile;

    /// The forms that are added to the known dialect by pages under one layout.
    #[track_caller]
    fn check(page: impl Fn(usize) -> String, expected: &[&str]) {
        let base = "<html><title>{% block title %}Tidewater{% endblock %}</title>{% block main %}{% endblock %}</html>";
        let mut files = vec![SourceFile::new("core/sheets/base.html", base)];
        files.extend((0..6).map(|n| SourceFile::new(format!("core/sheets/{n}.html"), page(n))));
        files.push(SourceFile::new("core/sheets/lone.html", "<html><p>{{ name }}</p>{% include '0.html' %}</html>"));
        let found = learn(&files, builtin(), &[]);
        let forms: Vec<&str> = found.iter().flat_map(|learned| &learned.forms).map(|form| form.form.as_str()).collect();
        assert_eq!(forms, expected);
    }

    #[test]
    fn replaced_content_has_a_word_of_its_own() {
        let child = |title: &str| format!("{{% extends 'base.html' %}}{{% block title %}}{title}{{% endblock %}}");
        check(|n| child(&format!("Pier {n} {{{{ block.before }}}}")), &["\"{{ block.before }}\""]);
        // A value that pages print there is none.
        check(|n| child(&format!("Pier {n} {{{{ page.title }}}}")), &[]);
        // Where the dialect's own way is usual it is something else.
        check(|n| child(if n > 2 { "{{ block.before }}" } else { "{{ super() }}" }), &[]);
        // Outside of overrides it is something else.
        check(|n| child(&format!("{n}{{{{ block.before }}}}")) + "{{ block.before }}", &[]);
    }

    #[test]
    fn a_parent_may_name_nothing() {
        let mut files = vec![SourceFile::new(
            "core/sheets/base.html",
            "<html>{% block main %}{% endblock %}{% block foot %}{% endblock %}</html>",
        )];
        for n in 0..4 {
            let list = "{% extends 'base.html' %}{% block main %}<ul></ul>{% endblock %}";
            files.push(SourceFile::new(format!("core/sheets/shop/list-{n}.html"), list));
            let hiding = "{% hoist %}\n{% block main %}{{ super() }}<p>More</p>{% endblock %}";
            files.push(SourceFile::new(format!("extra/sheets/shop/list-{n}.html"), hiding));
        }
        let found = learn(&files, builtin(), &[]);
        let forms: Vec<&str> = found.iter().flat_map(|learned| &learned.forms).map(|form| form.form.as_str()).collect();
        assert_eq!(forms, ["{ open = \"{% hoist %}\", target = \"self\" }"]);
        assert!(found[0].text.contains("target = \"self\""), "{}", found[0].text);
        // A tag that does not lead, or hides nothing, is none.
        for file in files.iter_mut().filter(|file| file.path.starts_with("extra")) {
            file.bytes.splice(0..0, *b"<p></p>");
        }
        assert!(learn(&files, builtin(), &[]).is_empty());
    }
}
