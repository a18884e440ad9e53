//! Checking again when little has changed.

use std::hash::{Hash, Hasher};

use rayon::prelude::*;
use rustc_hash::{FxHashMap, FxHasher};
use xxhash_rust::xxh3::xxh3_64;

use super::context::{Context, PageView};
use super::found::Found;
use super::misread::{Misread, weigh};
use super::{Checked, Look, Rule, finish};
use crate::repeats::Repeats;
use crate::resolve::Resolver;
use crate::site::{Settings, Site, Template};
use crate::text::SourceId;

/// Rules that are looked for again and again in a site while its files change: what a rule
/// said of a file or of a page is kept as long as nothing that it is made of changes.
///
/// What comes out is what [`check_rules`](super::check_rules) gives.
#[derive(Debug)]
pub struct Checks {
    rules: Vec<Rule>,
    /// The paths of the templates and the settings when it was last looked.
    paths: Vec<String>,
    settings: Settings,
    /// The findings in each file by itself, with the hash of its source.
    files: FxHashMap<SourceId, (u64, Vec<(Rule, Found)>)>,
    pages: FxHashMap<SourceId, Page>,
}

/// The findings in a page that is made of certain sources.
#[derive(Clone, Debug)]
struct Page {
    made_of: u64,
    found: Result<Vec<(Rule, Found)>, String>,
}

impl Checks {
    /// Nothing is looked for yet.
    pub fn new(rules: &[Rule]) -> Self {
        Self {
            rules: rules.to_vec(),
            paths: Vec::new(),
            settings: Settings::default(),
            files: FxHashMap::default(),
            pages: FxHashMap::default(),
        }
    }

    /// Looks for the rules, but for what the site's settings turn off.
    pub fn check(&mut self, site: &Site) -> Checked {
        self.check_knowing(site, None)
    }

    /// The same where the site's repeats, with the usual options, may be known already.
    pub(crate) fn check_knowing(&mut self, site: &Site, repeats: Option<&Repeats>) -> Checked {
        let is_on = |rule: &&Rule| rule.severity_in(&site.settings).is_some();
        let wanted: Vec<Rule> = self.rules.iter().filter(is_on).copied().collect();
        let paths = || site.templates.iter().map(|template| &template.path);
        // With other files the same names may lead elsewhere, and settings say what is looked for.
        if !self.paths.iter().eq(paths()) || self.settings != site.settings {
            self.files.clear();
            self.pages.clear();
            self.paths = paths().cloned().collect();
            self.settings = site.settings.clone();
        }
        let context = Context::new(site, repeats);
        let look = |rule: &Rule| match rule.look {
            Look::Site(look) => look(&context),
            Look::Own(look) => look(site),
            Look::File(_) | Look::Page(_) => Vec::new(),
        };
        let of_site = wanted.par_iter().flat_map_iter(|rule| look(rule).into_iter().map(|found| (*rule, found)));
        let mut found: Vec<(Rule, Found)> = of_site.collect();
        let sources: Vec<u64> = site.templates.par_iter().map(source).collect();
        found.extend(self.in_files(site, &wanted, &sources));
        let misread = Misread::leave_out(&context, &mut found);
        let mut skipped = Vec::new();
        if wanted.iter().any(|rule| matches!(rule.look, Look::Page(_))) {
            let ids: Vec<SourceId> = site.pages().collect();
            let look = |&id: &SourceId| {
                let made_of = made_of(site, id, &sources);
                let known = self.pages.get(&id).filter(|known| known.made_of == made_of);
                let page = known.cloned().unwrap_or_else(|| Page { made_of, found: look_at(&context, &wanted, id) });
                (id, page)
            };
            let pages: Vec<(SourceId, Page)> = ids.par_iter().map(look).collect();
            for (id, page) in &pages {
                match &page.found {
                    Ok(_) if !misread.allows(&context, *id) => {}
                    Ok(more) => found.extend(more.iter().cloned()),
                    Err(why) => skipped.push(why.clone()),
                }
            }
            self.pages = pages.into_iter().collect();
        }
        finish(site, found, skipped)
    }

    /// The findings in each file by itself.
    fn in_files(&mut self, site: &Site, rules: &[Rule], sources: &[u64]) -> Vec<(Rule, Found)> {
        let look = |id: SourceId| {
            let found = |rule: &Rule| match rule.look {
                Look::File(look) => look(id, site.get(id)).into_iter().map(|found| (*rule, found)).collect(),
                _ => Vec::new(),
            };
            rules.iter().flat_map(found).collect()
        };
        let is_changed = |id: &SourceId| self.files.get(id).is_none_or(|(known, _)| *known != sources[id.index()]);
        let changed: Vec<SourceId> = site.with_ids().map(|(id, _)| id).filter(is_changed).collect();
        let changed: Vec<_> = changed.into_par_iter().map(|id| (id, look(id))).collect();
        self.files.extend(changed.into_iter().map(|(id, found)| (id, (sources[id.index()], found))));
        self.files.values().flat_map(|(_, found)| found.iter().cloned()).collect()
    }
}

fn look_at(context: &Context<'_>, rules: &[Rule], id: SourceId) -> Result<Vec<(Rule, Found)>, String> {
    let view = PageView::new(context.site, id).map_err(|error| error.to_string())?;
    let look = |rule: &Rule| match rule.look {
        Look::Page(look) => {
            let weighed = |mut found: Found| {
                weigh(context.site, rule, &mut found);
                (*rule, found)
            };
            look(context, &view).into_iter().map(weighed).collect()
        }
        _ => Vec::new(),
    };
    Ok(rules.iter().flat_map(look).collect())
}

/// A template's source and how it is read.
fn source(template: &Template) -> u64 {
    let mut hasher = FxHasher::default();
    (xxh3_64(&template.source), xxh3_64(template.dialect.text.as_bytes()), template.rendered).hash(&mut hasher);
    hasher.finish()
}

/// All sources that a page is made of.
fn made_of(site: &Site, page: SourceId, sources: &[u64]) -> u64 {
    let mut hasher = FxHasher::default();
    for id in Resolver::new(site).reached(page) {
        (id, sources[id.index()]).hash(&mut hasher);
    }
    hasher.finish()
}
