//! Reading a source in a dialect: its tags first, then what attributes stand for, then the tree.

use super::attributes;
use super::constructs::Constructs;
use super::scan::Scan;
use super::tree::Document;
use crate::dialect::Dialect;

impl Constructs {
    /// Reads the constructs of `source` in `dialect`. Any input is fine.
    pub fn read(source: &[u8], dialect: &Dialect) -> Self {
        let mut scan = Scan::of(source, dialect);
        if !dialect.rules.anywhere {
            let outside = attributes::outside_of_tags(source, scan.found());
            scan.keep(&outside);
        }
        let mut found = scan.paired();
        if dialect.attributes().next().is_some() {
            attributes::add(source, dialect, &mut found);
        }
        found
    }
}

impl Document {
    /// Reads `source` in `dialect`. Any input is fine, and the time is linear in its length.
    pub fn read(source: &[u8], dialect: &Dialect) -> Self {
        Self::with_constructs(source, Constructs::read(source, dialect))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect::Kind;
    use crate::dialect::builtin_named;

    #[track_caller]
    fn read(dialect: &str, source: &str) -> Constructs {
        Constructs::read(source.as_bytes(), &builtin_named(dialect).expect("a built-in dialect"))
    }

    /// The source without the reach of its tags: what flattening would leave.
    #[track_caller]
    fn check_reach(dialect: &str, source: &str, left: &str) {
        let mut out = String::new();
        let mut at = 0;
        for item in &read(dialect, source).items {
            out.push_str(&source[at..(item.reach.start as usize).max(at)]);
            at = item.reach.end as usize;
        }
        out.push_str(&source[at..]);
        assert_eq!(out, left, "{source:?}");
    }

    #[test]
    fn pairs_are_found_and_leftovers_named() {
        let found = read(
            "brace-percent",
            "{% block a %}{% if x %}1{% else %}2{% endif %}{% endblock a %}{% endfor %}{% block b %}",
        );
        let partners: Vec<_> = found.items.iter().map(|item| item.partner.map(|at| at.0)).collect();
        assert_eq!(partners, [Some(4), Some(3), Some(1), Some(1), Some(0), None, None]);
        let messages: Vec<_> = found.errors.iter().map(|error| error.message.as_str()).collect();
        assert_eq!(messages, ["`{% endfor %}` closes nothing", "`{% block b %}` is never closed"]);
    }

    #[test]
    fn verbatim_and_comments_hide_constructs() {
        let found = read("brace-percent", "{% raw %}{{ x }}{% block a %}{% endraw %}{# {% block b %} #}{{ y }}");
        let kinds: Vec<_> = found.items.iter().map(|item| item.kind).collect();
        assert_eq!(kinds, [Kind::Verbatim, Kind::Verbatim, Kind::Comment, Kind::Output]);
        assert!(found.errors.is_empty());
    }

    #[test]
    fn a_tag_alone_on_its_line_takes_the_line() {
        check_reach("margin", "a\n  <!--: partial x -->  \r\nb", "a\nb");
        check_reach("margin", "a\n  <!--: block x --> <!--: end x -->\nb\n", "a\nb\n");
        check_reach("margin", "a <!--: partial x -->\nb", "a \nb");
        check_reach("margin", "  <!--: block x -->y\n", "  y\n");
        check_reach("margin", "a\n  <!--:= partial x -->\nb", "a\n  \nb");
        check_reach("margin", "<!--: partial x -->", "");
        check_reach("margin", "\u{feff}<!--: layout x -->\ny", "\u{feff}y");
        check_reach("brace-percent", "a \n{%- block x -%} \n y{% endblock %}\n", "ay\n");
    }

    #[test]
    fn dynamic_targets_are_seen_as_such() {
        let found = read("brace-percent", "{% extends base ~ '.html' %}{% include 'a' ~ b %}{% include 'a' with b %}");
        let dynamic: Vec<_> = found.items.iter().map(|item| (item.kind, item.dynamic)).collect();
        assert_eq!(dynamic[0], (Kind::Parent, true));
        assert_eq!(dynamic[2], (Kind::Include, false));
    }
}
