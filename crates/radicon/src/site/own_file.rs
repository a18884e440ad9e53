//! Own-file tags: those that speak for the rest of the file they stand in and for no other.

use rustc_hash::FxHashSet;

use super::{Site, Template};
use crate::dialect::{Kind, Part};
use crate::text::{BYTE_ORDER_MARK, is_blank};

/// For each template the tags that speak for its file alone, by their indices.
pub(super) fn find(site: &Site) -> Vec<Vec<u32>> {
    let mut unknown: FxHashSet<(&str, String)> = FxHashSet::default();
    let mut leading: FxHashSet<(&str, String)> = FxHashSet::default();
    for template in &site.templates {
        let head = head(template);
        for (at, item) in template.constructs.items.iter().enumerate().filter(|(_, item)| item.kind == Kind::Other) {
            let word = (template.dialect.name.as_str(), item.first_word(&template.source, &template.dialect));
            if at < head {
                leading.insert(word.clone());
            }
            unknown.insert(word);
        }
    }
    // What something closes is a pair, and speaks for what is in it.
    let is_pair = |(dialect, tag): &(&str, String)| {
        let (lead, word) = tag.split_once(' ').unwrap_or(("", tag));
        !word.is_empty() && ["end", "/"].iter().any(|end| unknown.contains(&(*dialect, format!("{lead} {end}{word}"))))
    };
    leading.retain(|word| !is_pair(word));
    let of = |template: &Template| -> Vec<u32> {
        let speaks = |at: usize| {
            let item = &template.constructs.items[at];
            let word = || (template.dialect.name.as_str(), item.first_word(&template.source, &template.dialect));
            item.part == Part::Single
                && match item.kind {
                    Kind::Other => leading.contains(&word()),
                    Kind::Code => false,
                    _ => template
                        .dialect
                        .forms
                        .get(item.form as usize)
                        .is_some_and(|form| form.kind == item.kind && form.own_file),
                }
        };
        (0..template.constructs.items.len()).filter(|&at| speaks(at)).map(|at| at as u32).collect()
    };
    site.templates.iter().map(of).collect()
}

/// How many tags stand before the first output or markup of a template.
fn head(template: &Template) -> usize {
    let source = &template.source[..];
    let mut from = if source.starts_with(BYTE_ORDER_MARK) { BYTE_ORDER_MARK.len() } else { 0 };
    for (at, item) in template.constructs.items.iter().enumerate() {
        let gap = source.get(from..item.span.start as usize).unwrap_or_default();
        let may_lead = matches!(item.kind, Kind::Parent | Kind::Import | Kind::Comment | Kind::Set | Kind::Other)
            && item.part == Part::Single;
        if !may_lead || !gap.iter().all(|&b| is_blank(b)) {
            return at;
        }
        from = item.span.end as usize;
    }
    template.constructs.items.len()
}

#[cfg(test)]
mod tests {
    use crate::dialect::builtin;
    use crate::site::{Settings, Site, SourceFile};

    #[test]
    fn a_word_at_the_head_of_some_files_is_one_everywhere() {
        let files = [
            ("a.html", "{% extends 'b.html' %}{% fetch tides %}{% block x %}{% tide 3 %}{% endblock %}"),
            ("b.html", "{% import 'm.html' as m %}<p>{% fetch fares %}{% hold %}{% block x %}{% endblock %}</p>"),
            ("c.html", "{% hold %}<p>{% if a %}{% endif %}</p>{% endhold %}{{ x }}"),
            ("m.html", "{% macro m() %}{% endmacro %}"),
        ];
        let files = files.iter().map(|(path, text)| SourceFile::new(*path, *text)).collect();
        let site = Site::read(files, builtin(), &Settings::default());
        let tags = |path: &str| -> Vec<String> {
            let id = site.find(path).expect("a template");
            let text =
                |at: &u32| site.get(id).constructs.items[*at as usize].span.text(&site.get(id).source).into_owned();
            site.own_file_tags(id).iter().map(text).collect()
        };
        assert_eq!(tags("a.html"), ["{% fetch tides %}"]);
        assert_eq!(tags("b.html"), ["{% import 'm.html' as m %}", "{% fetch fares %}"]);
        assert!(tags("c.html").is_empty());
    }
}
