//! What is known already: findings that are not told again.

use std::collections::BTreeSet;

use serde::{Deserialize, Serialize};

use super::{Checked, Finding};

/// The findings that a site began with, by their fingerprints.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Baseline {
    /// The known findings, sorted.
    findings: BTreeSet<Known>,
}

/// A finding that is known.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
struct Known {
    file: String,
    rule: String,
    fingerprint: String,
}

impl Known {
    fn of(finding: &Finding) -> Self {
        let (file, rule) = (finding.file.clone(), finding.rule.to_owned());
        Self { file, rule, fingerprint: finding.fingerprint.clone() }
    }
}

/// A file that is no baseline.
#[derive(Debug, thiserror::Error)]
#[error("this is no baseline: {0}")]
pub struct BaselineError(#[from] serde_json::Error);

impl Baseline {
    /// All that a check found.
    pub fn of(checked: &Checked) -> Self {
        Self { findings: checked.findings.iter().map(Known::of).collect() }
    }

    /// Reads a baseline.
    ///
    /// # Errors
    /// If the text is none.
    pub fn parse(text: &str) -> Result<Self, BaselineError> {
        Ok(serde_json::from_str(text)?)
    }

    /// The baseline as a file, one finding after the other, so that versions can be compared.
    pub fn text(&self) -> String {
        serde_json::to_string_pretty(self).map_or_else(|_| String::new(), |text| text + "\n")
    }

    /// Leaves out what is known; gives how many findings that were.
    pub fn subtract(&self, checked: &mut Checked) -> usize {
        let all = checked.findings.len();
        checked.findings.retain(|finding| !self.findings.contains(&Known::of(finding)));
        all - checked.findings.len()
    }
}
