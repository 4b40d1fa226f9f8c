//! Charters: one release whose ranges and rules bind many workspaces.

use std::fs;

use crate::garden::{Garden, Ran};

/// What the garden's charter says in its first release.
const FIRST: &str = "[charter.ranges]\ndew-point = \"1.4 .. 2\"\nmoss-map = \"3\"\nleaf-palette = \"1\"\n";

/// A garden with packages, and a charter `fernhollow/season` that isn't published yet.
fn garden() -> Garden {
    let garden = Garden::with(&[
        "dew-point 1.0.0",
        "dew-point 1.4.0",
        "dew-point 1.9.0",
        "dew-point 2.1.0",
        "moss-map 3.0.0: dew-point 1 .. 3",
        "moss-map 3.1.0: dew-point 1 .. 3",
        "moss-map 4.0.0: dew-point 2 .. 3",
        "leaf-palette 1.0.0",
    ]);
    garden.load(
        "{\"name\":\"rain-ledger\",\"version\":\"2.4.0\",\"published\":\"2026-03-01T09:00:00Z\",\"license\":\"MIT\"}\n\
         {\"name\":\"rain-ledger\",\"version\":\"2.5.0\",\"published\":\"2026-03-01T09:00:00Z\",\"license\":\"AGPL-3.0-only\"}\n",
    );
    garden
}

/// Writes the charter with these tables; where it is.
fn charter(garden: &Garden, version: &str, tables: &str) -> &'static str {
    charter_of(garden, "season", "fernhollow/season", version, tables);
    "season"
}

fn charter_of(garden: &Garden, folder: &str, name: &str, version: &str, tables: &str) {
    let head = format!(
        "[project]\nname = \"{name}\"\nversion = \"{version}\"\n[card]\nnotes = \"Season {version}\"\n"
    );
    let registries = "[registries]\nseedhouse = \"../seedhouse\"\n";
    garden.write(&format!("{folder}/bibliotax.toml"), &format!("{head}{registries}{tables}"));
}

fn publish(garden: &Garden, version: &str, tables: &str) -> Ran {
    let folder = charter(garden, version, tables);
    garden.run_in(folder, &["publish"]).expect(0)
}

/// A garden whose workspace follows the charter's first release and needs `moss-map` in its range.
pub fn following() -> Garden {
    let garden = garden();
    publish(&garden, "2026.1.0", FIRST);
    garden.run(&["need", "fernhollow/season", "2026"]).expect(0);
    garden.run(&["need", "moss-map"]).expect(0);
    garden
}

fn locked(garden: &Garden) -> Vec<String> {
    let lock: serde_json::Value = serde_json::from_str(&garden.read("gate/bibliotax.lock")).unwrap();
    let shown = |one: &serde_json::Value| {
        format!("{} {}", one["name"].as_str().unwrap(), one["version"].as_str().unwrap())
    };
    let of = |what: &str| lock[what].as_array().into_iter().flatten().map(shown).collect::<Vec<_>>();
    [of("charters"), of("packages")].concat()
}

#[test]
fn a_charter_is_published_without_files_and_taken_on_with_need() {
    let garden = garden();
    garden.write("season/notes.txt", "not for anybody\n");
    let published = publish(&garden, "2026.1.0", FIRST);
    assert!(
        published.to_string().contains("published fernhollow/season 2026.1.0 in seedhouse (no files)"),
        "{published}"
    );
    let described = garden.run(&["describe", "fernhollow/season"]).expect(0).stdout;
    assert!(described.contains("dew-point 1.4 .. 2, leaf-palette 1, moss-map 3"), "{described}");
    let taken_on = garden.run(&["need", "fernhollow/season", "moss-map"]).expect(0);
    assert!(
        taken_on.to_string().contains("[charters] \"fernhollow/season\" = \"2026.1 .. 2027\"")
            && taken_on.to_string().contains("charter: fernhollow/season 2026.1.0 added: 3 ranges")
            && taken_on.to_string().contains("moss-map = \"charter\"; the charter has \"3\""),
        "{taken_on}"
    );
    assert_eq!(locked(&garden), ["fernhollow/season 2026.1.0", "dew-point 1.9.0", "moss-map 3.1.0"]);
    garden.run(&["install", "--sealed"]).expect(0);
    let manifest = garden.read("gate/bibliotax.toml");
    garden.run(&["drop", "moss-map", "fernhollow/season"]).expect(0);
    assert_eq!(locked(&garden), Vec::<String>::new());
    assert!(!garden.read("gate/bibliotax.toml").contains("charter"), "{manifest}");
}

#[test]
fn ranges_bind_what_comes_along_and_conflicts_name_the_charter() {
    let garden = following();
    insta::assert_snapshot!(garden.run(&["need", "dew-point", "2"]).expect(4));
    insta::assert_snapshot!(garden.run(&["explain", "dew-point", "2"]).expect(4));
    let explained = garden.run(&["explain", "dew-point"]).expect(0).stdout;
    assert!(explained.contains("the charter fernhollow/season 2026.1.0 allows 1.4 .. 2"), "{explained}");
    // Another release of the charter is a way out.
    publish(&garden, "2026.2.0", "[charter.ranges]\ndew-point = \"2\"\nmoss-map = \"3\"\n");
    let ways = garden.run(&["need", "dew-point", "2"]).expect(4).stderr;
    assert!(ways.contains("bibliotax update fernhollow/season"), "{ways}");
    garden.run(&["update", "fernhollow/season"]).expect(0);
    assert_eq!(locked(&garden), ["fernhollow/season 2026.2.0", "dew-point 2.1.0", "moss-map 3.1.0"]);
}

#[test]
fn an_exception_has_a_reason_and_is_told() {
    let garden = following();
    let except = "\"fernhollow/season\" = { range = \"2026\", except = [{ package = \"dew-point\" }] }";
    let manifest = garden.read("gate/bibliotax.toml");
    let line = manifest.lines().find(|line| line.starts_with("\"fernhollow/season\"")).unwrap();
    garden.write("gate/bibliotax.toml", &manifest.replace(line, except));
    assert_eq!(garden.run(&["resolve"]).code(), "rules.no-reason");
    let nameless = except.replace("package = \"dew-point\"", "reason = \"the new probes\"");
    garden.write("gate/bibliotax.toml", &manifest.replace(line, &nameless));
    assert_eq!(garden.run(&["resolve"]).code(), "manifest.exception");
    let reasoned = except.replace(" }]", ", reason = \"the new probes\" }]");
    garden.write("gate/bibliotax.toml", &manifest.replace(line, &reasoned));
    garden.run(&["need", "dew-point", "2"]).expect(0);
    assert_eq!(locked(&garden), ["fernhollow/season 2026.1.0", "dew-point 2.1.0", "moss-map 3.1.0"]);
    let checked = garden.run(&["check"]).expect(0).stdout;
    assert!(checked.contains("it is excepted (the new probes)  (charter.strays)"), "{checked}");
    garden.run(&["need", "dew-point", "1.9"]).expect(0);
    let unused = garden.run(&["check"]).expect(0).stdout;
    assert!(unused.contains("(charter.exception-unused)"), "{unused}");
    garden
        .write("gate/bibliotax.toml", &garden.read("gate/bibliotax.toml").replace("\"1.9\"", "\"charter\""));
    assert_eq!(garden.run(&["resolve"]).code(), "charter.no-range");
}

#[test]
fn rules_of_charters_only_make_those_of_a_workspace_stricter() {
    let garden = garden();
    publish(
        &garden,
        "2026.1.0",
        "[charter.rules]\nlicenses = { refuse = [\"AGPL-3.0-only\"], otherwise = \"accept\" }\nbarred.leaf-palette = { reason = \"fades\" }\n",
    );
    garden.run(&["need", "rain-ledger", "2"]).expect(0);
    assert_eq!(locked(&garden), ["rain-ledger 2.5.0"]);
    garden.run(&["need", "fernhollow/season"]).expect(0);
    // What is locked stays until somebody moves it, and a warning says so.
    let checked = garden.run(&["check"]).expect(7).stdout;
    assert!(
        checked.contains("the rules of the charter fernhollow/season 2026.1.0 refuse AGPL-3.0-only, the licence of rain-ledger 2.5.0"),
        "{checked}"
    );
    let sealed = garden.run(&["install", "--sealed"]).expect(7);
    assert_eq!(sealed.code(), "rules.forbidden");
    garden.run(&["update", "--comply"]).expect(0);
    assert_eq!(locked(&garden), ["fernhollow/season 2026.1.0", "rain-ledger 2.4.0"]);
    // The workspace's own rules can't loosen it; a waiver can, for a while.
    let rules = "[rules]\nlicenses = { accept = [\"AGPL-3.0-only\"], otherwise = \"accept\" }\n";
    let manifest = garden.read("gate/bibliotax.toml");
    garden.write("gate/bibliotax.toml", &format!("{manifest}\n{rules}"));
    let refused = garden.run(&["need", "rain-ledger", "2.5"]).expect(4).stderr;
    assert!(
        refused.contains("The rules of the charter fernhollow/season 2026.1.0 refuse AGPL-3.0-only"),
        "{refused}"
    );
    let waiver = "[[rules.waivers]]\nrule = \"licenses\"\npackage = \"rain-ledger\"\nreason = \"bought\"\nuntil = 2027-01-01\n";
    garden.write("gate/bibliotax.toml", &format!("{manifest}\n{rules}{waiver}"));
    garden.run(&["need", "rain-ledger", "2.5"]).expect(0);
    garden.run(&["install", "--sealed"]).expect(0);
    let barred = garden.run(&["need", "leaf-palette"]).expect(4).stderr;
    assert!(
        barred.contains("The rules of the charter fernhollow/season 2026.1.0 bar leaf-palette 1.0.0 (fades)"),
        "{barred}"
    );
}

#[test]
fn update_moves_a_charter_and_newer_and_compare_tell_of_it() {
    let garden = following();
    let before = garden.read("gate/bibliotax.lock");
    publish(
        &garden,
        "2026.2.0",
        "[charter.ranges]\ndew-point = \"1.4 .. 1.9\"\nmoss-map = \"3\"\n[charter.rules]\nwithdrawn = \"refuse\"\n",
    );
    insta::assert_snapshot!(garden.run(&["newer"]).expect(0));
    insta::assert_snapshot!(garden.run(&["update", "fernhollow/season", "--dry-run"]).expect(0));
    garden.run(&["update", "fernhollow/season"]).expect(0);
    assert_eq!(locked(&garden), ["fernhollow/season 2026.2.0", "dew-point 1.4.0", "moss-map 3.1.0"]);
    garden.write("before.lock", &before);
    insta::assert_snapshot!(garden.run(&["compare", "../before.lock"]).expect(0).stdout);
    let json = garden.run(&["compare", "../before.lock", "--format", "json"]).expect(0).json();
    assert_eq!(json["charters"][0]["to"], "2026.2.0", "{json}");
    assert_eq!(json["charters"][0]["other-rules"], true, "{json}");
    let markdown = garden.run(&["compare", "../before.lock", "--format", "markdown"]).expect(0).stdout;
    assert!(markdown.contains("Charter fernhollow/season 2026.1.0 → 2026.2.0"), "{markdown}");
    // The range holds a charter back like any package.
    publish(&garden, "2027.1.0", FIRST);
    let newer = garden.run(&["newer", "fernhollow/season"]).expect(0).stdout;
    assert!(
        newer.contains("charter fernhollow/season 2026.2.0: newest 2027.1.0, beyond its range"),
        "{newer}"
    );
    garden.run(&["update"]).expect(0);
    assert_eq!(locked(&garden)[0], "fernhollow/season 2026.2.0");
}

#[test]
fn explain_and_graph_show_what_a_charter_binds() {
    let garden = following();
    insta::assert_snapshot!(garden.run(&["explain", "fernhollow/season"]).expect(0).stdout);
    let json = garden.run(&["explain", "fernhollow/season", "--format", "json"]).expect(0).json();
    assert_eq!(json["charter"]["unused"], serde_json::json!(["leaf-palette"]), "{json}");
    let graph = garden.run(&["graph"]).expect(0).stdout;
    assert!(
        graph.contains("charter fernhollow/season 2026.1.0 binds dew-point 1.4 .. 2, moss-map 3"),
        "{graph}"
    );
    let json = garden.run(&["graph", "--format", "json"]).expect(0).json();
    assert_eq!(json["charters"][0]["binds"][0]["name"], "dew-point", "{json}");
    let dot = garden.run(&["graph", "--format", "dot"]).expect(0).stdout;
    assert!(dot.contains("label=\"charter fernhollow/season 2026.1.0\""), "{dot}");
    let mermaid = garden.run(&["graph", "--format", "mermaid"]).expect(0).stdout;
    assert!(mermaid.contains("[/\"charter fernhollow/season 2026.1.0\"/]"), "{mermaid}");
    let svg = garden.run(&["graph", "--format", "svg"]).expect(0).stdout;
    assert!(svg.contains("the charter fernhollow/season 2026.1.0 allows 1.4 .. 2"), "{svg}");
}

#[test]
fn check_shows_what_strays_and_what_nobody_uses() {
    let garden = following();
    garden.write("palette/bibliotax.toml", "[project]\nname = \"leaf-palette\"\nversion = \"2.0.0\"\n");
    garden.run(&["need", "dew-point", "1"]).expect(0);
    let manifest = garden.read("gate/bibliotax.toml");
    let stand_in = "[stand-ins]\nleaf-palette = { path = \"../palette\" }\n";
    garden.write(
        "gate/bibliotax.toml",
        &format!("{}\n{stand_in}", manifest.replace("[needs]", "[needs]\nleaf-palette = \"any\"")),
    );
    garden.run(&["install"]).expect(0);
    insta::assert_snapshot!(garden.run(&["check"]).expect(0).stdout);
    let json = garden.run(&["check", "--format", "json", "--only", "charter.strays"]).expect(0).json();
    assert_eq!(json["findings"][0]["allowed"], "1", "{json}");
}

#[test]
fn several_charters_all_bind_and_contradictions_are_told() {
    let garden = following();
    charter_of(
        &garden,
        "probes",
        "fernhollow/probes",
        "1.0.0",
        "[charter.ranges]\ndew-point = \"1.0 .. 1.5\"\nleaf-palette = \"2\"\n",
    );
    garden.run_in("probes", &["publish"]).expect(0);
    garden.run(&["need", "fernhollow/probes"]).expect(0);
    assert_eq!(
        locked(&garden),
        ["fernhollow/probes 1.0.0", "fernhollow/season 2026.1.0", "dew-point 1.4.0", "moss-map 3.1.0"]
    );
    let checked = garden.run(&["check"]).expect(0).stdout;
    assert!(
        checked.contains("no version of leaf-palette is allowed: fernhollow/probes 1.0.0 allows 2, and fernhollow/season 2026.1.0 allows 1  (charter.contradiction)"),
        "{checked}"
    );
    let conflict = garden.run(&["need", "leaf-palette"]).expect(4).stderr;
    assert!(
        conflict.contains("The charter fernhollow/probes 1.0.0 allows leaf-palette 2.")
            && conflict.contains("No release of leaf-palette matches 2 (available: 1.0.0)."),
        "{conflict}"
    );
    // Providers are a choice, so that two of them are a fault until the workspace chooses.
    garden.publish(&["shade-a 1.0.0: +shade", "shade-b 1.0.0: +shade"]);
    charter_of(
        &garden,
        "probes",
        "fernhollow/probes",
        "1.1.0",
        "[charter.capabilities]\nshade = \"shade-b\"\n",
    );
    garden.run_in("probes", &["publish"]).expect(0);
    garden.run(&["update", "fernhollow/probes"]).expect(0);
    garden.run(&["need", "shade"]).expect(0);
    assert!(locked(&garden).contains(&"shade-b 1.0.0".to_owned()), "{:?}", locked(&garden));
    publish(
        &garden,
        "2026.2.0",
        "[charter.ranges]\nmoss-map = \"3\"\n[charter.capabilities]\nshade = \"shade-a\"\n",
    );
    assert_eq!(garden.run(&["update"]).code(), "charter.providers");
    let manifest = garden.read("gate/bibliotax.toml");
    garden.write("gate/bibliotax.toml", &format!("{manifest}\n[capabilities]\nshade = \"shade-a\"\n"));
    garden.run(&["update"]).expect(0);
    assert!(locked(&garden).contains(&"shade-a 1.0.0".to_owned()), "{:?}", locked(&garden));
}

#[test]
fn a_charter_keeps_a_family_in_a_range() {
    let garden = Garden::with(&[
        "pergola/core 2.4.0: @pergola",
        "pergola/core 3.0.0: @pergola",
        "pergola/panel 2.4.0: @pergola, pergola/core any",
        "pergola/panel 3.0.0: @pergola, pergola/core any",
    ]);
    publish(&garden, "2026.1.0", "[charter.families]\npergola = \"2\"\n");
    garden.run(&["need", "fernhollow/season"]).expect(0);
    garden.run(&["need", "pergola/panel"]).expect(0);
    assert!(garden.read("gate/bibliotax.toml").contains("\"pergola/panel\" = \"charter\""));
    assert_eq!(locked(&garden), ["fernhollow/season 2026.1.0", "pergola/core 2.4.0", "pergola/panel 2.4.0"]);
    garden.run(&["drop", "pergola/panel"]).expect(0);
    let conflict = garden.run(&["need", "pergola/core", "3"]).expect(4).stderr;
    assert!(
        conflict.contains("The charter fernhollow/season 2026.1.0 allows the family pergola, which pergola/core belongs to, 2."),
        "{conflict}"
    );
}

#[test]
fn a_charter_is_tried_in_its_followers_before_it_is_published() {
    let garden = following();
    // A workspace that doesn't follow yet, one whose needs speak against it, and one that is broken.
    for (folder, needs) in [("shed", "dew-point = \"2\""), ("hand", "dew-point = \"1.9\"")] {
        garden.write(
            &format!("{folder}/bibliotax.toml"),
            &format!("[project]\nname = \"{folder}\"\n[registries]\nseedhouse = \"../seedhouse\"\n[needs]\n{needs}\n"),
        );
        garden.run_in(folder, &["install", "--quiet"]).expect(0);
    }
    let before = ["gate", "shed", "hand"].map(|folder| garden.read(&format!("{folder}/bibliotax.lock")));
    let folder =
        charter(&garden, "2026.2.0", "[charter.ranges]\ndew-point = \"1.4 .. 1.9\"\nmoss-map = \"3\"\n");
    let followers = ["--used-by", "../gate", "../shed", "../hand", "../nowhere"];
    let tried = garden.run_in(folder, &[&["publish", "--dry-run"][..], &followers].concat()).expect(1);
    insta::assert_snapshot!(tried);
    let json =
        garden.run_in(folder, &[&["publish", "--dry-run", "--format", "json"][..], &followers].concat());
    let json = json.expect(1).json();
    assert_eq!(json["followers"][0]["changes"][0]["to"], "1.4.0", "{json}");
    assert_eq!(json["followers"][1]["follows"], "not-yet", "{json}");
    let after = ["gate", "shed", "hand"].map(|folder| garden.read(&format!("{folder}/bibliotax.lock")));
    assert_eq!(before, after, "nothing is written");
    assert!(garden.run(&["describe", "fernhollow/season", "2026.2.0"]).status != 0, "nothing was published");
    garden.run_in("hand", &["publish", "--dry-run", "--used-by", "../gate"]).expect(3);
    let of_package =
        garden.read("hand/bibliotax.toml").replace("name = \"hand\"", "name = \"hand\"\nversion = \"1.0.0\"");
    garden.write("hand/bibliotax.toml", &of_package);
    assert_eq!(
        garden.run_in("hand", &["publish", "--dry-run", "--used-by", "../gate"]).code(),
        "charter.none"
    );
    // Rules that forbid what stays are reported as well.
    let strict = "[charter.ranges]\nmoss-map = \"3\"\n[charter.rules]\nlicenses = { refuse = [\"MIT\"], otherwise = \"accept\" }\n";
    let folder = charter(&garden, "2026.3.0", strict);
    let tried = garden.run_in(folder, &["publish", "--dry-run", "--used-by", "../gate"]).expect(1).stdout;
    assert!(
        tried.contains(
            "The rules of the charter fernhollow/season 2026.3.0 refuse MIT, the licence of dew-point 1.9.0."
        ),
        "{tried}"
    );
}

#[test]
fn a_survey_tells_who_follows_which_release_and_what_is_outside() {
    let garden = following();
    publish(&garden, "2026.2.0", "[charter.ranges]\ndew-point = \"2\"\nmoss-map = \"3\"\n");
    garden.write(
        "shed/bibliotax.toml",
        "[project]\nname = \"shed\"\n[registries]\nseedhouse = \"../seedhouse\"\n[needs]\ndew-point = \"1.0\"\n",
    );
    garden.run_in("shed", &["install", "--quiet"]).expect(0);
    insta::assert_snapshot!(garden.run(&["survey", "../gate", "../shed"]).expect(0));
    let outside =
        garden.run(&["survey", "../gate", "../shed", "--outside", "--format", "csv"]).expect(0).stdout;
    assert!(outside.contains("dew-point,1.9.0,2.1.0,yes,2,yes,MIT,seedhouse,,../gate"), "{outside}");
    assert!(outside.contains("dew-point,1.0.0,2.1.0,yes,2,no,MIT,seedhouse,,../shed"), "{outside}");
    let all = ["survey", "../gate", "../shed", "--charter", "fernhollow/season", "--format", "json"];
    let json = garden.run(&all).expect(0).json();
    assert_eq!(json["packages"][0]["releases"][1]["outside"], true, "{json}");
    assert_eq!(json["charters"][0]["without"], serde_json::json!(["../shed"]), "{json}");
    assert_eq!(garden.run(&["survey", "../shed", "--charter", "fernhollow/seasons"]).code(), "charter.none");
}

#[test]
fn a_kit_carries_what_a_charter_states() {
    let garden = following();
    garden.run(&["kit", "make", "../season.kit"]).expect(0);
    // Another machine: neither registry nor anything in the store.
    fs::rename(garden.path("seedhouse"), garden.path("gone")).unwrap();
    fs::remove_dir_all(garden.path("store")).unwrap();
    fs::remove_dir_all(garden.path("gate/shelf")).unwrap();
    garden.run(&["kit", "open", "../season.kit"]).expect(0);
    garden.run(&["install", "--sealed", "--offline"]).expect(0);
    assert!(!garden.shelf().is_empty());
}

#[test]
fn what_is_wrong_with_charters_is_told_where_it_is() {
    let garden = garden();
    let manifest = garden.read("gate/bibliotax.toml");
    let with = |tables: &str| {
        garden.write("gate/bibliotax.toml", &format!("{manifest}\n{tables}"));
        garden.run(&["resolve"])
    };
    assert_eq!(with("moss-map = \"charter\"\n").code(), "manifest.no-charter");
    assert_eq!(with("[charters]\n\"fernhollow/season\" = \"2026\"\n").code(), "package.unknown");
    publish(&garden, "2026.1.0", FIRST);
    assert_eq!(with("[charters]\n\"fernhollow/season\" = \"2027\"\n").code(), "charter.no-release");
    assert_eq!(with("[charters]\nmoss-map = \"3\"\n").code(), "charter.none");
    let near = with("moss-mop = \"charter\"\n[charters]\n\"fernhollow/season\" = \"2026\"\n");
    assert_eq!(near.code(), "charter.no-range");
    assert!(near.stderr.contains("`moss-map`"), "{near}");
    let needed = with("\"fernhollow/season\" = \"any\"\n").expect(4).stderr;
    assert!(
        needed.contains(
            "fernhollow/season 2026.1.0 is a charter, which a workspace takes on under `[charters]`."
        ),
        "{needed}"
    );
    let of_charter = |tables: &str| {
        let folder = charter(&garden, "2026.9.0", tables);
        garden.run_in(folder, &["publish"])
    };
    assert_eq!(of_charter("[charter]\n").code(), "manifest.empty-charter");
    assert_eq!(of_charter(&format!("{FIRST}[needs]\nmoss-map = \"3\"\n")).code(), "manifest.charter-needs");
    assert_eq!(
        of_charter(&format!("{FIRST}[card.exposes]\ninclude = [\"include\"]\n")).code(),
        "card.exposes-nothing"
    );
    assert_eq!(
        of_charter(&FIRST.replace("[charter.ranges]", "[card]\ntags = [\"a\"]\n[charter.range]")).code(),
        "manifest.duplicate-key"
    );
    let conflict = "[card.conflicts]\ndew-point = \"1\"\n";
    assert_eq!(of_charter(&format!("{FIRST}{conflict}")).code(), "card.charter");
    let stated = serde_json::json!({ "name": "fernhollow/season", "version": "2026.8.0", "published": "2026-03-01T09:00:00Z",
        "charter": { "ranges": { "dew-point": "1" } }, "needs": [{ "name": "dew-point", "range": "1" }] });
    garden.write("cards.jsonl", &format!("{stated}\n"));
    let loaded = garden.run_in(".", &["registry", "load", "seedhouse", "cards.jsonl"]).expect(3).stderr;
    assert!(loaded.contains("it is a charter, which has no needs"), "{loaded}");
}
