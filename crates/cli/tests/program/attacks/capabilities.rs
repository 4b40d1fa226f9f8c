//! A package that says of itself that it provides what others need.

use insta::assert_snapshot;
use serde_json::json;

use crate::garden::Garden;

const RELEASES: [&str; 2] = ["hedge-grid 1.0.0: day-clock 1", "seed-clock 1.0.0: +day-clock"];

/// A second registry with a package that is first by name and provides the same, in a newer version.
fn hostile(garden: &Garden) {
    garden.run_in(".", &["registry", "create", "other"]).expect(0);
    let card = json!({ "name": "a-clock", "version": "9.0.0", "published": "2026-03-01T09:00:00Z",
        "provides": [{ "name": "day-clock", "version": "1.9" }], "files": [] });
    garden.write("hostile.jsonl", &format!("{card}\n"));
    garden.run_in(".", &["registry", "load", "other", "hostile.jsonl"]).expect(0);
}

fn manifest(garden: &Garden, registries: &str, more: &str) {
    let text = format!(
        "[project]\nname = \"gate-kiosk\"\n[registries]\nseedhouse = \"../seedhouse\"\n{registries}\n[needs]\nhedge-grid = \"1\"\n{more}"
    );
    garden.write("gate/bibliotax.toml", &text);
}

fn providers(garden: &Garden) -> String {
    garden
        .read("gate/bibliotax.lock")
        .lines()
        .filter(|line| line.contains("\"provides\""))
        .map(str::trim)
        .collect()
}

#[test]
fn a_package_of_another_registry_never_provides_a_capability_without_a_word() {
    let garden = Garden::with(&RELEASES);
    hostile(&garden);
    manifest(&garden, "other = \"../other\"", "");
    let refused = garden.run(&["install"]).expect(3);
    assert_snapshot!(refused, @r#"
    ----- stderr
    error: a-clock of other and seed-clock of seedhouse provide day-clock, and none is chosen  (package.ambiguous)
    try: choose one under `[capabilities]`: `day-clock = "PACKAGE"`
    ----- status 3
    "#);
    assert!(!garden.path("gate/bibliotax.lock").exists());
    for (registries, more) in [
        ("other = \"../other\"", "[capabilities]\nday-clock = \"seed-clock\"\n"),
        ("other = \"../other\"", "seed-clock = \"1\"\n"),
    ] {
        manifest(&garden, registries, more);
        garden.run(&["install"]).expect(0);
        assert!(providers(&garden).contains("seed-clock"), "{more}");
        std::fs::remove_file(garden.path("gate/bibliotax.lock")).unwrap();
    }
    // What was locked before somebody else provided it stays.
    manifest(&garden, "", "");
    garden.run(&["install"]).expect(0);
    manifest(&garden, "other = \"../other\"", "");
    for args in [&["install"][..], &["update"], &["resolve"], &["need", "hedge-grid"]] {
        garden.run(args).expect(0);
        assert!(providers(&garden).contains("seed-clock"), "{args:?}");
    }
}

#[test]
fn a_provider_from_elsewhere_than_who_needs_it_has_to_be_named() {
    let garden = Garden::with(&["hedge-grid 1.0.0: day-clock 1"]);
    hostile(&garden);
    manifest(&garden, "other = \"../other\"", "");
    assert_snapshot!(garden.run(&["install"]), @r#"
    ----- stderr
    error: a package of seedhouse needs day-clock, which only a-clock of other provides  (package.ambiguous)
    try: choose one under `[capabilities]`: `day-clock = "PACKAGE"`
    ----- status 3
    "#);
    for (registries, more) in [
        ("other = { url = \"../other\", owns = [\"day-clock\"] }", ""),
        ("other = \"../other\"", "[capabilities]\nday-clock = \"a-clock\"\n"),
        ("other = \"../other\"", "a-clock = \"9\"\n"),
    ] {
        manifest(&garden, registries, more);
        garden.run(&["install"]).expect(0);
        std::fs::remove_file(garden.path("gate/bibliotax.lock")).unwrap();
    }
}

#[test]
fn a_new_provider_where_there_was_one_is_not_taken_by_its_name() {
    let garden = Garden::with(&RELEASES);
    manifest(&garden, "", "");
    garden.run(&["install"]).expect(0);
    garden.publish(&["a-clock 9.0.0: +day-clock", "seed-clock 1.1.0: +day-clock"]);
    garden.run(&["update"]).expect(0);
    assert!(providers(&garden).contains("\"seed-clock\",\"version\":\"1.1.0\""), "{}", providers(&garden));
    std::fs::remove_file(garden.path("gate/bibliotax.lock")).unwrap();
    assert_snapshot!(garden.run(&["install"]), @r#"
    ----- stderr
    error: a-clock of seedhouse and seed-clock of seedhouse provide day-clock, and none is chosen  (package.ambiguous)
    try: choose one under `[capabilities]`: `day-clock = "PACKAGE"`
    ----- status 3
    "#);
    manifest(&garden, "", "[capabilities]\nday-clock = \"seed-clock\"\n");
    garden.run(&["install"]).expect(0);
}
