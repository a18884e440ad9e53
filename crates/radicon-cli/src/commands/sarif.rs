//! Findings in SARIF 2.1.0, the static analysis results interchange format of OASIS.

use radicon::check::{Checked, Finding, RULES, Related, Severity};
use serde_json::{Value, json};

/// The log of one run.
pub fn log(checked: &Checked) -> Value {
    let rules: Vec<Value> = RULES
        .iter()
        .map(|rule| {
            json!({
                "id": rule.id,
                "shortDescription": { "text": rule.summary() },
                "fullDescription": { "text": rule.meaning },
                "help": { "text": rule.remedy },
                "defaultConfiguration": { "level": level(rule.severity) },
            })
        })
        .collect();
    json!({
        "$schema": "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json",
        "version": "2.1.0",
        "runs": [{
            "tool": { "driver": { "name": "radicon", "version": env!("CARGO_PKG_VERSION"), "rules": rules } },
            "columnKind": "unicodeCodePoints",
            "results": checked.findings.iter().map(result).collect::<Vec<_>>(),
        }],
    })
}

const fn level(severity: Severity) -> &'static str {
    match severity {
        Severity::Error => "error",
        Severity::Warning => "warning",
        Severity::Hint => "note",
    }
}

fn result(finding: &Finding) -> Value {
    let region = json!({
        "startLine": finding.line,
        "startColumn": finding.column,
        "byteOffset": finding.span.start,
        "byteLength": finding.span.len(),
    });
    let mut result = json!({
        "ruleId": finding.rule,
        "ruleIndex": RULES.iter().position(|rule| rule.id == finding.rule),
        "level": level(finding.severity),
        "message": { "text": finding.message },
        "partialFingerprints": { "radicon/v1": finding.fingerprint },
        "locations": [{ "physicalLocation": { "artifactLocation": location(&finding.file), "region": region } }],
    });
    if !finding.related.is_empty() {
        result["relatedLocations"] = finding.related.iter().map(related).collect();
    }
    if let Some(fix) = &finding.fix {
        let replacements = |file: &str| -> Vec<Value> {
            let own = fix.edits.iter().filter(|edit| edit.file == file);
            own.map(|edit| {
                json!({
                    "deletedRegion": { "byteOffset": edit.span.start, "byteLength": edit.span.len() },
                    "insertedContent": { "text": String::from_utf8_lossy(&edit.text) },
                })
            })
            .collect()
        };
        let mut files: Vec<&str> = fix.edits.iter().map(|edit| edit.file.as_str()).collect();
        files.sort_unstable();
        files.dedup();
        let changes: Vec<Value> = files
            .iter()
            .map(|file| json!({ "artifactLocation": location(file), "replacements": replacements(file) }))
            .collect();
        result["fixes"] = json!([{ "description": { "text": fix.message }, "artifactChanges": changes }]);
    }
    result
}

fn related(related: &Related) -> Value {
    json!({
        "physicalLocation": {
            "artifactLocation": location(&related.file),
            "region": { "startLine": related.line, "byteOffset": related.span.start, "byteLength": related.span.len() },
        },
        "message": { "text": related.message },
    })
}

/// A path as a relative URI.
fn location(path: &str) -> Value {
    let mut uri = String::new();
    for byte in path.bytes() {
        match byte {
            b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'/' | b'-' | b'_' | b'.' | b'~' => uri.push(char::from(byte)),
            other => uri += &format!("%{other:02X}"),
        }
    }
    json!({ "uri": uri })
}
