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
                let blocks = if may_lift { job.overridden(&children) } else { Vec::new() };
                found |= job.lift(&blocks, &children, plan)
                    || job.merge(&blocks, &children, plan)
                    || job.between(&children, plan);
            }
        }
        if !found {
            break;
        }
    }
}
