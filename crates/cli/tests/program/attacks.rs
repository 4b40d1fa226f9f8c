//! Attacks: what a hostile package, registry, mirror, network, or a colleague's pull request tries. Each is stopped
//! and reported, and
//! harms nothing. `docs/security.md` names the test behind each promise.

mod archives;
mod broken;
mod capabilities;
mod exhaustion;
mod hosts;
mod locks;
mod mirrors;
mod programs;
mod publishing;
mod remains;
mod replaced;
mod secrets;
mod servers;
mod shelves;
mod submodules;
mod terminals;
mod tokens;

use std::collections::BTreeSet;
use std::fs;
use std::path::Path;

#[test]
fn each_promise_of_the_docs_names_a_test_and_each_test_of_attacks_holds_a_promise() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let page = fs::read_to_string(root.join("docs/security.md")).unwrap();
    let quoted: BTreeSet<&str> = page.split('`').skip(1).step_by(2).collect();
    for path in quoted.iter().filter(|text| text.starts_with("crates/") || text.starts_with("fuzz/")) {
        assert!(root.join(path).exists(), "there is no {path}");
    }
    let named: BTreeSet<String> =
        quoted.iter().filter(|text| text.contains("::")).map(|text| (*text).to_owned()).collect();
    let mut there = BTreeSet::new();
    for file in fs::read_dir(root.join("crates/cli/tests/program/attacks")).unwrap().flatten() {
        let text = fs::read_to_string(file.path()).unwrap();
        let module = file.file_name().to_str().unwrap().trim_end_matches(".rs").to_owned();
        let tests = text.split("#[test]\nfn ").skip(1);
        there.extend(tests.map(|test| format!("{module}::{}", test.split('(').next().unwrap())));
    }
    assert_eq!(named, there);
}
