//! Who uses which versions, over many workspaces and repositories.

use std::fs;

use serde_json::json;

use crate::garden::Garden;
use crate::sources::{commit, daemon, git};

/// Three workspaces below `garden`, and a project that surveys them.
fn gardens() -> Garden {
    let garden = Garden::with(&[
        "dew-point 1.0.0",
        "dew-point 1.4.0",
        "dew-point 2.0.0",
        "moss-map 1.0.0: dew-point 1",
    ]);
    for (folder, needs) in [
        ("beds/gate", "dew-point = \"2\""),
        ("beds/hand", "moss-map = \"1\""),
        ("beds/deep/shed", "dew-point = \"= 1.0.0\""),
    ] {
        garden.write(
            &format!("{folder}/bibliotax.toml"),
            &format!(
                "[project]\nname = \"one\"\n[registries]\nseedhouse = \"{}\"\n[needs]\n{needs}\n",
                garden.path("seedhouse").display()
            ),
        );
        garden.run_in(folder, &["install", "--quiet"]).expect(0);
    }
    let record = json!({ "schema_version": "1.7.0", "id": "FERN-1", "modified": "2026-02-01T09:00:00Z", "summary": "It overruns",
        "affected": [{ "package": { "ecosystem": "Bibliotax", "name": "dew-point" },
            "ranges": [{ "type": "ECOSYSTEM", "events": [{ "introduced": "0" }, { "fixed": "1.4" }] }] }] });
    garden.write("advisories/FERN-1.json", &record.to_string());
    let manifest = garden.read("gate/bibliotax.toml");
    garden.write(
        "gate/bibliotax.toml",
        &format!("{manifest}\n[rules.advisories]\nfeeds = [\"../advisories\"]\n"),
    );
    garden
}

#[test]
fn who_uses_what_is_told_with_what_is_behind_and_what_is_affected() {
    let garden = gardens();
    insta::assert_snapshot!(garden.run(&["survey", "../beds"]).expect(0));
    let behind = garden.run(&["survey", "../beds", "--behind", "--format", "json"]).expect(0).json();
    assert_eq!(behind["packages"].as_array().unwrap().len(), 1, "{behind}");
    assert_eq!(behind["packages"][0]["releases"][2]["advisories"][0]["id"], "FERN-1", "{behind}");
    let one = garden.run(&["survey", "../beds/hand", "../beds/gate", "--package", "moss-map"]).expect(0);
    assert!(one.stdout.contains("1 package of 2 workspaces") && !one.stdout.contains("dew-point"), "{one}");
    let affected = garden.run(&["survey", "../beds", "--affected", "--format", "json"]).expect(0).json();
    assert_eq!(affected["packages"][0]["name"], "dew-point");
    assert_eq!(garden.run(&["survey", "../nowhere"]).code(), "disk.missing");
}

#[test]
fn tables_for_other_programs_have_a_line_for_each_use() {
    let garden = gardens();
    let csv = garden.run(&["survey", "../beds", "--format", "csv"]).expect(0).stdout;
    let lines: Vec<&str> = csv.lines().collect();
    assert_eq!(lines[0], "package,version,newest,behind,charter,outside,licence,source,advisories,workspace");
    assert_eq!(lines.len(), 5, "{csv}");
    assert!(lines.contains(&"dew-point,1.0.0,2.0.0,yes,,,MIT,seedhouse,FERN-1,../beds/deep/shed"), "{csv}");
}

#[test]
fn a_lock_that_can_not_be_read_and_a_registry_that_is_gone_stop_no_other() {
    let garden = gardens();
    garden.write("beds/hand/bibliotax.lock", "{");
    let told = garden.run(&["survey", "../beds"]).expect(1);
    assert!(
        told.stderr.contains("../beds/hand isn't part of it") && told.stdout.contains("2 workspaces"),
        "{told}"
    );
    fs::rename(garden.path("seedhouse"), garden.path("gone")).unwrap();
    let alone = garden.run(&["survey", "../beds/gate"]).expect(0);
    assert!(alone.stderr.contains("what is newest isn't known") && alone.stdout.contains("2.0.0"), "{alone}");
}

#[test]
fn repositories_are_asked_for_the_locks_of_a_branch() {
    let garden = gardens();
    garden.write("beds/.gitignore", "shelf\n");
    garden.write("beds/alone/bibliotax.lock", &garden.read("beds/gate/bibliotax.lock"));
    git(&garden, "beds", &["init", "-q", "-b", "main"]);
    commit(&garden, "beds");
    git(&garden, "beds", &["checkout", "-q", "-b", "less"]);
    fs::remove_dir_all(garden.path("beds/deep")).unwrap();
    commit(&garden, "beds");
    git(&garden, "beds", &["checkout", "-q", "main"]);
    let (port, _daemon) = daemon(&garden);
    let url = format!("git://127.0.0.1:{port}/beds");
    let count = |place: &str| {
        let survey = garden.run(&["survey", place, "--format", "json"]).expect(0).json();
        survey["workspaces"].as_array().unwrap().len()
    };
    assert_eq!((count(&url), count(&format!("{url}#less"))), (3, 2));
    let none = garden.run(&["survey", &format!("{url}#gone"), "../beds/gate"]).expect(1);
    assert!(none.stderr.contains("no branch gone") && none.stdout.contains("1 workspace"), "{none}");
}
