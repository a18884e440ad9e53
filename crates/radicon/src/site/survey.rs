//! What is there: the site as a list.

use schemars::JsonSchema;
use serde::Serialize;

use super::{Problem, Role, Root, Site};
use crate::text::{SourceId, count_lines};

/// The templates of a site, what they are, and how they hang together.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct Survey {
    /// One entry a template, sorted by path.
    pub files: Vec<SurveyFile>,
    /// Where target names start, in the order in which they are tried, and why.
    pub roots: Vec<Root>,
    /// Sums.
    pub totals: Totals,
    /// What could not be read.
    pub problems: Vec<Problem>,
}

/// One template.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct SurveyFile {
    /// Its path from the site's folder.
    pub path: String,
    /// What it is for.
    pub role: Role,
    /// The dialect it is read in.
    pub dialect: String,
    /// The path of its parent; the name as written if there is no such file.
    pub parent: Option<String>,
    /// The paths of what it includes; names as written where there is no such file.
    pub includes: Vec<String>,
    /// The names of the blocks it defines or overrides, in their order.
    pub blocks: Vec<String>,
    /// Its size in bytes.
    pub bytes: usize,
    /// Its lines.
    pub lines: usize,
}

/// Sums over a site.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Totals {
    /// Templates.
    pub files: usize,
    /// Templates that are rendered for themselves.
    pub pages: usize,
    /// Templates that are parents.
    pub layouts: usize,
    /// Templates that are included.
    pub partials: usize,
    /// Bytes in all of them.
    pub bytes: usize,
    /// Lines in all of them.
    pub lines: usize,
}

impl Site {
    /// The site as a list; `problems` are those that were met when loading it.
    pub fn survey(&self, problems: &[Problem]) -> Survey {
        let files: Vec<_> = (0..self.templates.len() as u32).map(|id| self.survey_file(SourceId(id))).collect();
        let count = |role: Role| files.iter().filter(|file| file.role == role).count();
        let totals = Totals {
            files: files.len(),
            pages: count(Role::Page),
            layouts: count(Role::Layout),
            partials: count(Role::Partial),
            bytes: files.iter().map(|file| file.bytes).sum(),
            lines: files.iter().map(|file| file.lines).sum(),
        };
        let mut problems = problems.to_vec();
        for template in &self.templates {
            let unreadable =
                template.unreadable.map(|why| Problem { file: template.path.clone(), at: None, message: why.into() });
            problems.extend(unreadable);
            problems.extend(
                template
                    .constructs
                    .errors
                    .iter()
                    .map(|error| template.problem(error.span.start, error.message.clone())),
            );
        }
        problems.sort();
        Survey { files, roots: self.roots.clone(), totals, problems }
    }

    fn survey_file(&self, id: SourceId) -> SurveyFile {
        let template = self.get(id);
        let named = |construct: &crate::markup::Construct| match self.target(id, construct) {
            Ok(target) if !construct.dynamic => self.get(target).path.clone(),
            _ if construct.dynamic => construct.expr.text(&template.source).into_owned(),
            _ => construct.target.text(&template.source).into_owned(),
        };
        let mut includes: Vec<String> = template.includes().map(named).collect();
        includes.dedup();
        SurveyFile {
            path: template.path.clone(),
            role: template.role,
            dialect: template.dialect.name.clone(),
            parent: template.parent().map(named),
            includes,
            blocks: template.blocks().map(|(_, block)| block.name.text(&template.source).into_owned()).collect(),
            bytes: template.source.len(),
            lines: count_lines(&template.source),
        }
    }
}
