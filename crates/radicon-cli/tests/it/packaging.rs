//! What the packages hold, and under which licences their dependencies stand.

use std::path::Path;
use std::process::Command;

use serde_json::Value;

/// Licences that ask for no more than a notice, or for that of files which are not changed.
const FREE: [&str; 15] = [
    "MIT",
    "MIT-0",
    "Apache-2.0",
    "Apache-2.0 WITH LLVM-exception",
    "BSD-2-Clause",
    "BSD-3-Clause",
    "ISC",
    "Zlib",
    "0BSD",
    "CC0-1.0",
    "BSL-1.0",
    "Unicode-3.0",
    "Unlicense",
    "Artistic-2.0",
    "MPL-2.0",
];

fn cargo(arguments: &[&str]) -> String {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let ran = Command::new(env!("CARGO")).current_dir(root).args(arguments).output().expect("cargo runs");
    assert!(ran.status.success(), "{arguments:?}: {}", String::from_utf8_lossy(&ran.stderr));
    String::from_utf8(ran.stdout).expect("text")
}

fn packages() -> Vec<Value> {
    let told: Value = serde_json::from_str(&cargo(&["metadata", "--format-version", "1"])).expect("JSON");
    told["packages"].as_array().expect("a list").clone()
}

/// Whether a licence expression can be met with free licences alone.
fn is_free(expression: &str) -> bool {
    // `A OR (B AND C)`, and the old way of writing `OR`.
    let expression = expression.replace('/', " OR ").replace(['(', ')'], " ");
    let is_known = |licence: &str| FREE.contains(&licence.trim());
    expression.split(" OR ").any(|choice| choice.split(" AND ").all(is_known))
        || expression.split(" AND ").all(|part| part.split(" OR ").any(is_known))
}

#[test]
fn every_dependency_is_free() {
    assert!(is_free("MIT/Apache-2.0") && is_free("(MIT OR Apache-2.0) AND Unicode-3.0") && !is_free("GPL-3.0"));
    let mut seen = 0;
    for package in packages() {
        let licence = package["license"].as_str().unwrap_or("none");
        assert!(is_free(licence), "{}: {licence}", package["name"]);
        seen += 1;
    }
    assert!(seen > 100, "{seen}");
}

#[test]
fn our_packages_say_what_they_are_and_hold_what_they_need() {
    let is_published = |package: &Value| package["source"].is_null() && package["publish"].is_null();
    let ours: Vec<Value> = packages().into_iter().filter(is_published).collect();
    assert_eq!(ours.len(), 6);
    for package in &ours {
        for field in ["description", "license", "readme", "rust_version"] {
            let said = package[field].as_str().is_some_and(|text| !text.is_empty());
            assert!(said, "{}: no {field}", package["name"]);
        }
        assert!(!package["keywords"].as_array().expect("a list").is_empty());
        assert!(!package["categories"].as_array().expect("a list").is_empty());
    }
    let files = cargo(&["package", "--list", "--allow-dirty", "-p", "radicon-cli"]);
    for file in ["src/main.rs", "src/page/page.js", "demo/fares.html", "demo/dialects/pennant.toml", "README.md"] {
        assert!(files.lines().any(|line| line == file), "{file} is missing:\n{files}");
    }
    let files = cargo(&["package", "--list", "--allow-dirty", "-p", "radicon-markup"]);
    for file in ["src/lib.rs", "src/dialect/builtin/margin.toml", "README.md"] {
        assert!(files.lines().any(|line| line == file), "{file} is missing:\n{files}");
    }
}
