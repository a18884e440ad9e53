//! Layouts that the site has: the skeletons they give, the pages that fit, and what their children say alike.

pub mod adopt;
pub mod between;
pub mod children;
pub mod fit;
pub mod frame;
pub mod lift;
pub mod merge;
pub mod overridden;
pub mod wrapped;

use rustc_hash::FxHashSet;

use super::assemble::Plan;
use super::job::Job;
use super::verify::apply;
use crate::dialect::Loose;
use crate::prove::Strength;
use crate::site::{Parent, Site};
use children::Child;

/// What moves up makes room for more, so often at most.
const MOST_ROUNDS: usize = 4;

/// Plans how the layouts of a site get better, but for those that are planned anew.
pub fn improve(site: &Site, jobs: &[Job<'_>], plan: &mut Plan) {
    if !site.with_ids().any(|(id, _)| matches!(site.parent(id), Parent::Found { .. })) {
        return;
    }
    let planned: FxHashSet<String> = plan.written.iter().map(|file| file.path.clone()).collect();
    for _ in 0..MOST_ROUNDS {
        let new = apply(site, &plan.written, &jobs[0].dialects());
        let mut found = false;
        for job in jobs {
            let job = Job { site: &new, ..job.clone() };
            let ignores = matches!(job.dialect.rules.loose, Loose::Ignored | Loose::Unknown);
            if job.dialect.has_layouts() && ignores {
                let templates = new.with_ids().filter(|(_, template)| !planned.contains(&template.path));
                let children: Vec<Child<'_>> =
                    templates.filter_map(|(id, template)| job.child_of_overrides(id, template)).collect();
                // What moves is indented as it is around it, and so not the same byte for byte.
                let may_lift = job.options.strength != Strength::Bytes;
                found |= may_lift && (job.lift(&children, plan) || job.merge(&children, plan))
                    || job.between(&children, plan);
            }
        }
        if !found {
            break;
        }
    }
}

#[cfg(test)]
pub mod tests {
    use crate::dialect;
    use crate::propose::{Proposal, ProposeOptions, propose};
    use crate::site::{Settings, Site, SourceFile};

    const BASE: &str = "<html><head>{% block styles %}{% endblock %}</head>\n<body>\n  {% block crumbs %}{% endblock %}\n  {% block content %}{% endblock %}\n  {% block scripts %}{% endblock %}\n</body></html>\n";

    const HOME: &str = "<nav class=\"crumbs\" aria-label=\"You are here\"><ol><li><a href=\"/\">Tidewater</a></li>";

    fn proposed(overrides: &[&str]) -> (Proposal, impl Fn(&str) -> String + use<>) {
        proposed_below(BASE, overrides)
    }

    /// What is proposed for children of a base, each of which has these overrides with its name in the place of `@`.
    pub fn proposed_below(base: &str, overrides: &[&str]) -> (Proposal, impl Fn(&str) -> String + use<>) {
        let child = |(at, blocks): (usize, &&str)| {
            let name = ["Fares", "Piers", "Boats", "Tides", "Crews", "Sheep", "Winds"][at];
            let blocks = blocks.replace('@', name);
            let text = format!(
                "{{% extends 'base.html' %}}\n\n{{% block content %}}<h1>{name}</h1>{{% endblock %}}\n{blocks}"
            );
            SourceFile::new(format!("{}.html", name.to_lowercase()), text)
        };
        let mut files = vec![SourceFile::new("base.html", base)];
        files.extend(overrides.iter().enumerate().map(child));
        let site = Site::read(files, dialect::builtin(), &Settings::default());
        let proposal = propose(&site, &ProposeOptions::default()).expect("a proposal");
        assert!(proposal.is_proven(), "{:?}", proposal.proof);
        let after = site.after(&proposal.changes(&site), &[]);
        let text = move |path: &str| {
            let id = after.find(path).unwrap_or_else(|| panic!("no {path}"));
            String::from_utf8_lossy(&after.get(id).source).into_owned()
        };
        (proposal, text)
    }

    #[test]
    fn what_overrides_share_around_their_own_moves_up() {
        let crumbs = format!("{{% block crumbs %}}\n  {HOME}<li>@</li></ol></nav>\n{{% endblock %}}\n");
        let (_, text) = proposed(&[crumbs.as_str(); 6]);
        assert!(text("base.html").contains(HOME), "{}", text("base.html"));
        let child = text("boats.html");
        assert!(child.contains("%}Boats{%") && !child.contains("<nav"), "{child}");
    }

    #[test]
    fn what_most_children_set_in_an_empty_block_becomes_its_default() {
        let script = format!("<script src=\"/js/{}.js\"></script>", "timetable-of-all-harbours-".repeat(3));
        let scripts = format!("{{% block scripts %}}{script}{{% endblock %}}\n");
        let (_, text) = proposed(&[scripts.as_str(); 6]);
        assert!(text("base.html").contains(&script), "{}", text("base.html"));
        assert!(!text("tides.html").contains("scripts"), "{}", text("tides.html"));
        // Where a page shows that the block is empty it stays so.
        let (proposal, _) = proposed(&[&scripts, &scripts, &scripts, &scripts, &scripts, ""]);
        assert!(!proposal.files.iter().any(|file| file.path == "base.html"), "{:?}", proposal.changes);
    }

    #[test]
    fn children_with_the_same_overrides_get_a_layout_in_between() {
        let link = format!("<link rel=\"stylesheet\" href=\"/css/{}.css\">", "harbours-and-piers-".repeat(3));
        let two = format!(
            "{{% block styles %}}{link}{{% endblock %}}\n{{% block scripts %}}<script src=\"/js/piers.js\"></script>{{% endblock %}}\n"
        );
        let (proposal, text) = proposed(&[&two, &two, &two, &two, &two, "", ""]);
        let layout = proposal.layouts.first().expect("a layout");
        assert!(!layout.existing && layout.extends.as_deref() == Some("base.html"), "{layout:?}");
        assert!(text(&layout.path).contains(&link));
        let child = text("fares.html");
        assert!(!child.contains(&link) && !child.contains("'base.html'"), "{child}");
        assert!(text("winds.html").contains("'base.html'"));
    }

    #[test]
    fn what_saves_much_gets_a_layout_for_three_children() {
        let prices = |rows: usize| {
            let row = "<tr><th>Gull Point</th><td>Every day</td><td>three pounds</td></tr>\n";
            format!("{{% block styles %}}<table class=\"prices\">\n{}</table>{{% endblock %}}\n", row.repeat(rows))
        };
        let (much, little) = (prices(9), prices(2));
        let (proposal, text) = proposed(&[&much, &much, &much, "", ""]);
        let [layout] = &proposal.layouts[..] else { panic!("{:?}", proposal.layouts) };
        assert_eq!((layout.extends.as_deref(), layout.pages), (Some("base.html"), 3));
        // Beside the layout that it extends.
        assert!(!layout.path.contains('/') && text(&layout.path).contains("Gull Point"), "{layout:?}");
        for few in [&[&little[..], &little, &little, "", ""][..], &[&much, &much, "", "", ""]] {
            let (proposal, _) = proposed(few);
            assert!(proposal.layouts.is_empty(), "{:?}", proposal.layouts);
        }
    }
}
