//! Several projects with one lock and one shelf.

use std::fs;

use insta::assert_snapshot;

use crate::garden::Garden;

const ROOT: &str = "[workspace]\nfolders = [\"kiosk\", \"hand\", \"valve\"]\n\n[registries]\nseedhouse = \"../seedhouse\"\n\n[shared]\nrain-ledger = \"2.4 .. 3\"\n";
const KIOSK: &str = "[project]\nname = \"fernhollow/kiosk\"\n\n[targets.gate]\nos = \"linux\"\n\n[needs]\nrain-ledger = \"shared\"\n\"fernhollow/valve\" = { path = \"../valve\" }\n";
const HAND: &str = "[project]\nname = \"fernhollow/hand\"\n\n[targets.hand]\nos = \"linux\"\n\n[needs]\n\"fernhollow/valve\" = { path = \"../valve\" }\n\n[needs-for.test]\nprobe-sim = \"0.9\"\n";
const VALVE: &str = "[project]\nname = \"fernhollow/valve\"\nversion = \"0.4.0\"\n\n[card]\nexposes = { include = \"include\" }\n\n[needs]\nvalve-proto = \"1\"\n";

const RELEASES: [&str; 7] = [
    "rain-ledger 2.4.0: dew-point 1",
    "rain-ledger 2.6.0: dew-point 1",
    "dew-point 1.4.0",
    "dew-point 2.0.0",
    "valve-proto 1.1.0",
    "probe-sim 0.9.2: bark-log 1",
    "bark-log 1.1.0",
];

/// A garden with a kiosk, a handheld and the library that both use where it lies.
fn fernhollow() -> Garden {
    let garden = Garden::with(&RELEASES);
    garden.write("ws/bibliotax.toml", ROOT);
    for (project, manifest) in [("kiosk", KIOSK), ("hand", HAND), ("valve", VALVE)] {
        garden.write(&format!("ws/{project}/bibliotax.toml"), manifest);
    }
    garden.write("ws/valve/include/valve.h", "#define VALVES 3\n");
    garden
}

/// The packages on the shelf with the targets that they are for.
fn shelf(garden: &Garden) -> Vec<String> {
    let folders = |path: &str| -> Vec<String> {
        let entries = fs::read_dir(garden.path(path)).into_iter().flatten().flatten();
        let mut names: Vec<String> =
            entries.map(|entry| entry.file_name().to_string_lossy().into_owned()).collect();
        names.retain(|name| !name.starts_with('.') && name != "links");
        names.sort();
        names
    };
    let of_target = |target: &String| {
        folders(&format!("ws/shelf/{target}")).into_iter().map(|name| format!("{target}/{name}")).collect()
    };
    folders("ws/shelf").iter().flat_map(|target| -> Vec<String> { of_target(target) }).collect()
}

#[test]
fn projects_share_a_lock_and_a_shelf_and_have_links_of_their_own() {
    let garden = fernhollow();
    assert_snapshot!(garden.run_in("ws/kiosk", &["install"]), @"
    lock: 6 added
      added  bark-log          1.1.0  2.0 KiB   MIT                   needed by probe-sim, for test
      added  dew-point         1.4.0  2.0 KiB   MIT                   needed by rain-ledger
      added  fernhollow/valve  0.4.0  in valve  licence not declared  needed by fernhollow/kiosk and 1 more
      added  probe-sim         0.9.2  2.0 KiB   MIT                   needed by fernhollow/hand, for test
      added  rain-ledger       2.6.0  2.0 KiB   MIT                   needed by fernhollow/kiosk
      added  valve-proto       1.1.0  2.0 KiB   MIT                   needed by fernhollow/valve
    shelf: 7 packages installed, 10.0 KiB downloaded (TIME)
    ----- stderr
    warning: 6 packages don't declare os; see `bibliotax fit`
    ----- status 0
    ");
    assert_eq!(
        shelf(&garden),
        [
            "gate/dew-point",
            "gate/rain-ledger",
            "gate/valve-proto",
            "hand/bark-log",
            "hand/probe-sim",
            "hand/valve-proto",
            "this-machine/valve-proto"
        ]
    );
    let links = |name: &str| -> serde_json::Value {
        serde_json::from_str(&garden.read(&format!("ws/shelf/links/fernhollow.{name}.json"))).unwrap()
    };
    let names = |links: &serde_json::Value| -> Vec<String> {
        links["packages"].as_array().unwrap().iter().map(|p| p["name"].as_str().unwrap().into()).collect()
    };
    let kiosk = links("kiosk.gate");
    assert_eq!(names(&kiosk), ["fernhollow/valve", "rain-ledger", "dew-point", "valve-proto"]);
    assert_eq!(kiosk["roles"]["include"], serde_json::json!(["valve/include"]), "where it lies");
    assert_eq!(names(&links("hand.hand")), ["fernhollow/valve", "probe-sim", "bark-log", "valve-proto"]);
    assert_eq!(names(&links("valve")), ["valve-proto"]);
    for folder in ["ws", "ws/hand", "ws/valve/include"] {
        let again = garden.run_in(folder, &["install", "--sealed"]).expect(0);
        assert_eq!(again.stdout, "shelf: nothing to do, all 7 packages are there\n", "{folder}");
    }
}

#[test]
fn commands_act_on_the_project_they_stand_in_or_on_those_that_are_named() {
    let garden = fernhollow();
    garden.run_in("ws", &["install", "--quiet"]).expect(0);
    let which = garden.run_in("ws", &["need", "bark-log"]).expect(2);
    assert_eq!(which.code(), "workspace.which-project", "{which}");
    let slip = garden.run_in("ws", &["need", "bark-log", "--in", "kisk"]).expect(2);
    assert_eq!(slip.code(), "workspace.unknown-project");
    assert!(slip.stderr.contains("`kiosk`"), "{slip}");
    garden.run_in("ws/valve", &["need", "bark-log"]).expect(0);
    assert!(garden.read("ws/valve/bibliotax.toml").contains("bark-log = \"1.1 .. 2\""));
    for project in ["kiosk", "fernhollow/kiosk", "kiosk/"] {
        garden.run_in("ws", &["drop", "rain-ledger", "--in", project, "--dry-run"]).expect(0);
    }
    assert_snapshot!(garden.run_in("ws/valve", &["need", "dew-point", "--in", "all"]), @r#"
    kiosk/bibliotax.toml: [needs] dew-point = "1.4 .. 2"
    hand/bibliotax.toml: [needs] dew-point = "1.4 .. 2"
    valve/bibliotax.toml: [needs] dew-point = "1.4 .. 2"
    the range was written to 3 manifests; `--shared` writes it once for the workspace
      passed over dew-point 2.0.0:
        fernhollow/kiosk needs rain-ledger 2.4 .. 3.
        All releases of rain-ledger need dew-point 1.
    lock: 1 changed
      changed  fernhollow/valve  0.4.0  in valve  licence not declared  needed by fernhollow/kiosk and 1 more, other needs
    shelf: 2 packages installed, 9 already there (TIME)
    ----- stderr
    warning: 6 packages don't declare os; see `bibliotax fit`
    ----- status 0
    "#);
    for project in ["kiosk", "hand", "valve"] {
        let text = garden.read(&format!("ws/{project}/bibliotax.toml"));
        assert!(text.contains("dew-point = \"1.4 .. 2\""), "{text}");
    }
    assert_snapshot!(garden.run_in("ws/kiosk", &["explain", "valve-proto"]), @"
    valve-proto 1.1.0 is needed
      by fernhollow/valve itself
      by fernhollow/hand through fernhollow/valve
      by fernhollow/kiosk through fernhollow/valve
    there is no newer release
    ----- status 0
    ");
    assert_snapshot!(garden.run_in("ws/kiosk", &["fit"]), @"
                               gate
      bark-log          1.1.0  not declared
      dew-point         1.4.0  not declared
      fernhollow/valve  0.4.0  not declared
      rain-ledger       2.6.0  not declared
      valve-proto       1.1.0  not declared
    bark-log 1.1.0
      gate: not declared: os
    dew-point 1.4.0
      gate: not declared: os
    fernhollow/valve 0.4.0
      gate: not declared: os
    rain-ledger 2.6.0
      gate: not declared: os
    valve-proto 1.1.0
      gate: not declared: os
    no declared level excludes any of them
    ----- status 0
    ");
}

#[test]
fn a_range_that_is_shared_stands_once_and_moves_for_all() {
    let garden = fernhollow();
    garden.publish(&["rain-ledger 3.1.0"]);
    assert_snapshot!(garden.run_in("ws/hand", &["need", "rain-ledger"]), @r#"
    hand/bibliotax.toml: [needs] rain-ledger = "shared"; the workspace has "2.4 .. 3"
      passed over rain-ledger 3.1.0: it would move packages that are locked
    lock: 6 added
      added  bark-log          1.1.0  2.0 KiB   MIT                   needed by probe-sim, for test
      added  dew-point         1.4.0  2.0 KiB   MIT                   needed by rain-ledger
      added  fernhollow/valve  0.4.0  in valve  licence not declared  needed by fernhollow/kiosk and 1 more
      added  probe-sim         0.9.2  2.0 KiB   MIT                   needed by fernhollow/hand, for test
      added  rain-ledger       2.6.0  2.0 KiB   MIT                   needed by fernhollow/kiosk and 1 more
      added  valve-proto       1.1.0  2.0 KiB   MIT                   needed by fernhollow/valve
    shelf: 9 packages installed, 10.0 KiB downloaded (TIME)
    ----- stderr
    warning: 6 packages don't declare os; see `bibliotax fit`
    ----- status 0
    "#);
    assert!(garden.read("ws/hand/bibliotax.toml").contains("rain-ledger = \"shared\""));
    garden.run_in("ws", &["update", "rain-ledger", "--beyond"]).expect(0);
    assert!(garden.read("ws/bibliotax.toml").contains("rain-ledger = \"3.1 .. 4\""));
    assert_eq!(garden.read("ws/kiosk/bibliotax.toml"), KIOSK);
    garden.run_in("ws", &["need", "bark-log", "--in", "kiosk,hand", "--shared"]).expect(0);
    assert!(garden.read("ws/bibliotax.toml").contains("bark-log = \"1.1 .. 2\""));
    let none = garden.run_in("ws", &["need", "bark-log", "2", "--in", "kiosk", "--shared"]).expect(4);
    assert_eq!(none.code(), "resolve.conflict", "{none}");
}

#[test]
fn only_some_projects_or_purposes_may_be_installed() {
    let garden = fernhollow();
    garden.run_in("ws", &["install", "--in", "hand", "--quiet"]).expect(0);
    assert_eq!(shelf(&garden), ["hand/bark-log", "hand/probe-sim", "hand/valve-proto"]);
    garden.run_in("ws", &["install", "--leave-out", "test", "--quiet"]).expect(0);
    assert_eq!(
        shelf(&garden),
        [
            "gate/dew-point",
            "gate/rain-ledger",
            "gate/valve-proto",
            "hand/valve-proto",
            "this-machine/valve-proto"
        ],
        "what is only needed for tests goes"
    );
    garden.run_in("ws", &["install", "--quiet"]).expect(0);
    garden.run_in("ws", &["install", "--in", "kiosk", "--leave-out", "test", "--quiet"]).expect(0);
    assert!(shelf(&garden).contains(&"hand/probe-sim".to_owned()), "another project needs it");
    garden.run_in("ws", &["install", "--in", "hand", "--leave-out", "test", "--quiet"]).expect(0);
    assert!(!shelf(&garden).contains(&"hand/probe-sim".to_owned()), "{:?}", shelf(&garden));
    garden.run_in("ws", &["verify"]).expect(1);
    garden.run_in("ws", &["install", "--quiet"]).expect(0);
    garden.run_in("ws", &["verify"]).expect(0);
}

#[test]
fn a_change_in_the_folder_of_a_project_is_seen_at_once_and_nothing_is_copied() {
    let garden = fernhollow();
    garden.run_in("ws", &["install", "--quiet"]).expect(0);
    garden.write("ws/valve/include/valve.h", "#define VALVES 4\n");
    let output =
        garden.run_in("ws/kiosk", &["with", "--", "sh", "-c", "cat $BIBLIOTAX_ROLE_INCLUDE/valve.h"]);
    assert_eq!(output.expect(0).stdout, "#define VALVES 4\n");
    garden.write("ws/valve/bibliotax.toml", &VALVE.replace("valve-proto", "bark-log"));
    let stale = garden.run_in("ws/kiosk", &["install", "--sealed"]).expect(1);
    assert_eq!(stale.code(), "lock.stale", "{stale}");
    let moved = garden.run_in("ws/kiosk", &["install"]).expect(0);
    assert!(moved.stdout.contains("gone     valve-proto"), "{moved}");
}

#[test]
fn tasks_run_in_projects_after_those_that_they_need() {
    let garden = fernhollow();
    for (project, more) in [
        ("kiosk", "\n[tasks]\nbuild = \"echo kiosk $BIBLIOTAX_ROLE_INCLUDE\"\n"),
        ("valve", "\n[tasks]\nbuild = { do = \"pwd | sed 's|.*/||'\" }\n"),
    ] {
        let path = format!("ws/{project}/bibliotax.toml");
        garden.write(&path, &(garden.read(&path) + more));
    }
    let all = garden.run_in("ws", &["task", "build", "--in", "all"]).expect(0);
    assert_eq!(all.stdout, "valve\nkiosk GARDEN/ws/valve/include\n", "{all}");
    assert!(all.stderr.contains("build of valve"), "{all}");
    let needed = garden.run_in("ws/kiosk", &["task", "build", "--needs-first"]).expect(0);
    assert_eq!(needed.stdout, all.stdout);
    let alone = garden.run_in("ws/kiosk", &["task", "build"]).expect(0);
    assert_eq!(alone.stdout, "kiosk GARDEN/ws/valve/include\n");
    assert_eq!(garden.run_in("ws/hand", &["task", "build"]).expect(2).code(), "task.unknown");
}

#[test]
fn a_kit_carries_what_some_projects_need() {
    let garden = fernhollow();
    garden.run_in("ws", &["install", "--quiet"]).expect(0);
    garden.run_in("ws", &["kit", "make", "hand.kit", "--in", "hand"]).expect(0);
    fs::rename(garden.path("store"), garden.path("store-of-others")).unwrap();
    fs::remove_dir_all(garden.path("ws/shelf")).unwrap();
    garden.run_in("ws", &["kit", "open", "hand.kit"]).expect(0);
    fs::rename(garden.path("seedhouse"), garden.path("elsewhere")).unwrap();
    garden.run_in("ws", &["install", "--in", "hand", "--offline", "--quiet"]).expect(0);
    assert_eq!(shelf(&garden), ["hand/bark-log", "hand/probe-sim", "hand/valve-proto"]);
    let all = garden.run_in("ws", &["install", "--offline"]).expect(5);
    assert!(all.stderr.contains("rain-ledger") && !all.stderr.contains("probe-sim"), "{all}");
}

#[test]
fn what_is_wrong_with_a_workspace_has_its_own_message() {
    let circle = VALVE.replace("[needs]\n", "[needs]\n\"fernhollow/hand\" = { path = \"../hand\" }\n");
    let named_alike = HAND.replace("fernhollow/hand", "fernhollow/kiosk");
    let other_range = format!("{HAND}\n[families]\npergola = \"3\"\n");
    let own_rules = format!("{HAND}\n[rules]\nundeclared = \"refuse\"\n");
    let rows: [(&str, &str, &str, &str); 9] = [
        ("hand", "", "ws/hand", "manifest.empty"),
        ("hand", &named_alike, "ws", "workspace.two-projects"),
        ("valve", &circle, "ws/kiosk", "workspace.circle"),
        ("valve", &VALVE.replace("fernhollow/valve", "valve"), "ws", "workspace.other-name"),
        ("kiosk", &KIOSK.replace("../valve", "../pump"), "ws/kiosk", "workspace.no-project"),
        ("kiosk", &KIOSK.replace("../valve", "/valve"), "ws/kiosk", "manifest.path"),
        ("kiosk", &format!("{KIOSK}\n[families]\npergola = \"2\"\n"), "ws", "workspace.differs"),
        ("kiosk", &KIOSK.replace("rain-ledger", "rain-leger"), "ws", "manifest.no-shared"),
        ("hand", &own_rules, "ws", "workspace.root-only"),
    ];
    for (project, text, folder, code) in rows {
        let garden = fernhollow();
        garden.write("ws/hand/bibliotax.toml", if code == "workspace.differs" { &other_range } else { HAND });
        garden.write(&format!("ws/{project}/bibliotax.toml"), text);
        let refused = garden.run_in(folder, &["install"]).expect(3);
        assert_eq!(refused.code(), code, "{refused}");
    }
}

#[test]
fn a_folder_that_is_not_listed_and_one_that_is_not_there_are_told() {
    let garden = fernhollow();
    garden.write("ws/pump/bibliotax.toml", "[project]\nname = \"pump\"\n");
    assert_snapshot!(garden.run_in("ws/pump", &["install"]).expect(3), @r#"
    ----- stderr
    error: `pump` is inside the workspace GARDEN/ws, which doesn't list it  (workspace.not-listed)
    try: add "pump" to `folders` under `[workspace]` there, or to `apart` if it stands on its own
    ----- status 3
    "#);
    garden.write("ws/bibliotax.toml", &ROOT.replace("\"valve\"]", "\"valve\"]\napart = [\"p*\"]"));
    garden.run_in("ws/pump", &["install"]).expect(0);
    assert!(garden.path("ws/pump/bibliotax.lock").is_file(), "it stands on its own");
    fs::remove_file(garden.path("ws/hand/bibliotax.toml")).unwrap();
    assert_snapshot!(garden.run_in("ws", &["install"]).expect(3), @"
    ----- stderr
    error: the workspace lists `hand`, but there is no project in it  (workspace.no-project)
      at bibliotax.toml:1:1
        1: [workspace]
           ~~~~~~~~~~~
    try: remove it, or run `bibliotax init` in that folder
    ----- status 3
    ");
    garden.write("ws/bibliotax.toml", &ROOT.replace("[\"kiosk\", \"hand\", \"valve\"]", "[\"*\"]"));
    garden.run_in("ws", &["install", "--quiet"]).expect(0);
    assert!(garden.read("ws/bibliotax.lock").contains("\"path\":\"pump\""), "a pattern takes what is there");
}

#[test]
fn init_makes_workspaces_and_projects() {
    let garden = Garden::with(&["bark-log 1.1.0"]);
    fs::create_dir_all(garden.path("ws/kiosk")).unwrap();
    let begun = garden.run_in("ws", &["init", "--workspace", "--registry", "seedhouse=../seedhouse"]);
    assert_snapshot!(begun, @"
    wrote bibliotax.toml for a workspace without projects
    next: `bibliotax init` in a folder below
    ----- status 0
    ");
    assert_eq!(garden.run_in("ws", &["install"]).expect(3).code(), "workspace.no-projects");
    assert_snapshot!(garden.run_in("ws/kiosk", &["init"]), @"
    wrote bibliotax.toml for the project kiosk
    the workspace in GARDEN/ws lists it
    next: `bibliotax need PACKAGE`
    ----- status 0
    ");
    assert!(garden.read("ws/bibliotax.toml").contains("folders = [\"kiosk\"]"));
    garden.run_in("ws/kiosk", &["need", "bark-log"]).expect(0);
    assert_eq!(garden.run_in("ws", &["init"]).expect(3).code(), "init.exists");
    fs::create_dir_all(garden.path("ws/other")).unwrap();
    let taken = garden.run_in("ws/other", &["init", "--name", "kiosk"]).expect(3);
    assert_eq!(taken.code(), "workspace.two-projects");
    assert!(!garden.path("ws/other/bibliotax.toml").exists(), "nothing was written: {taken}");
    fs::remove_file(garden.path("ws/bibliotax.toml")).unwrap();
    let found = garden.run_in("ws", &["init", "--workspace", "--dry-run"]).expect(0);
    assert!(found.stdout.contains("folders = [\"kiosk\"]"), "{found}");
}

#[test]
fn a_project_is_published_with_ranges_in_place_of_folders() {
    let garden = fernhollow();
    let path = "ws/kiosk/bibliotax.toml";
    garden.write(path, &KIOSK.replace("kiosk\"\n", "kiosk\"\nversion = \"0.3.0\"\n"));
    garden.write("ws/kiosk/main.c", "int main(void) { return 0; }\n");
    garden.run_in("ws", &["install", "--quiet"]).expect(0);
    let early = garden.run_in("ws/kiosk", &["publish", "seedhouse"]).expect(4);
    assert_eq!(early.code(), "publish.unpublished", "{early}");
    garden.run_in("ws/valve", &["publish", "seedhouse"]).expect(0);
    let json = garden.run_in("ws/kiosk", &["publish", "seedhouse", "--format", "json"]).expect(0).json();
    let needs = &json["card"]["needs"];
    assert_eq!(needs[1], serde_json::json!({ "name": "fernhollow/valve", "range": "0.4 .. 0.5" }), "{json}");
}

#[test]
fn drift_is_told_and_unified_into_what_all_accept() {
    let garden = fernhollow();
    let with = |manifest: &str, need: &str| manifest.replace("[needs]\n", &format!("[needs]\n{need}\n"));
    garden.write("ws/kiosk/bibliotax.toml", &with(KIOSK, "bark-log = \"1.0 .. 2\" # for the screen"));
    garden.write("ws/hand/bibliotax.toml", &with(HAND, "bark-log = { range = \">= 1.1\", bare = true }"));
    garden.write("ws/valve/bibliotax.toml", &with(VALVE, "rain-ledger = \"2.4 .. 3\""));
    assert_snapshot!(garden.run_in("ws", &["check"]), @r#"
    error: there is no lock yet  (lock.missing)
      try: `bibliotax install` updates it
    warning: bark-log is declared with different ranges  (drift)
       kiosk/bibliotax.toml  [needs]  "1.0 .. 2"
       hand/bibliotax.toml   [needs]  ">= 1.1"
      try: all accept "1.1 .. 2": `bibliotax check --unify` makes it a shared range
    warning: rain-ledger is declared with different ranges  (drift)
       kiosk/bibliotax.toml  [needs]  "2.4 .. 3", shared
       valve/bibliotax.toml  [needs]  "2.4 .. 3"
      try: all accept "2.4 .. 3": `bibliotax check --unify` makes it a shared range
    1 error, 2 warnings: 3 projects, 0 packages
    ----- status 1
    "#);
    garden.run_in("ws", &["install", "--quiet"]).expect(0);
    let json = garden.run_in("ws/kiosk", &["check", "--strict", "--format", "json"]).expect(1).json();
    assert_eq!(json["findings"][0]["common"], "1.1 .. 2");
    assert_eq!(json["findings"][1]["declared"][0]["shared"], true);
    garden.run_in("ws", &["check", "--unify", "--dry-run", "--strict"]).expect(1);
    assert!(!garden.read("ws/bibliotax.toml").contains("bark-log"));
    garden.run_in("ws", &["check", "--unify"]).expect(0);
    assert!(garden.read("ws/bibliotax.toml").contains("bark-log = \"1.1 .. 2\""));
    assert!(garden.read("ws/kiosk/bibliotax.toml").contains("bark-log = \"shared\" # for the screen"));
    assert!(garden.read("ws/hand/bibliotax.toml").contains("bark-log = { range = \"shared\", bare = true }"));
    assert_snapshot!(garden.run_in("ws", &["check"]), @"
    warning: the shelf isn't what the lock says  (shelf.stale)
      try: `bibliotax install` updates it
    1 warning: 3 projects, 6 packages
    ----- status 0
    ");
    garden.run_in("ws", &["install", "--sealed"]).expect(0);
    garden.write("ws/kiosk/bibliotax.toml", &with(KIOSK, "dew-point = \"2\""));
    garden.write("ws/hand/bibliotax.toml", &with(HAND, "dew-point = \"1\""));
    let none = garden.run_in("ws", &["check", "--unify"]).expect(1);
    assert!(none.stdout.contains("no version is in all of them"), "{none}");
    let manifest = garden.read("ws/bibliotax.toml");
    garden
        .write("ws/bibliotax.toml", &format!("{manifest}\n[stand-ins]\nmoss-map = {{ path = \"valve\" }}\n"));
    assert_eq!(garden.run_in("ws", &["check"]).expect(3).code(), "workspace.other-name");
    garden.write("ws/moss/bibliotax.toml", "[project]\nname = \"moss-map\"\n");
    garden
        .write("ws/bibliotax.toml", &format!("{manifest}\n[stand-ins]\nmoss-map = {{ path = \"moss\" }}\n"));
    assert!(garden.run_in("ws", &["check"]).expect(1).stdout.contains("but nothing needs it"));
}

#[test]
fn what_is_for_all_projects_can_be_for_some_only() {
    let garden = fernhollow();
    garden.run_in("ws", &["install", "--quiet"]).expect(0);
    let of_hand = garden.run_in("ws", &["verify", "--in", "hand"]).expect(0);
    assert_eq!(
        of_hand.stdout, "shelf: no differences (3 packages, 3 files)\n",
        "those of the handheld alone"
    );
    fs::remove_file(garden.path("ws/shelf/gate/rain-ledger/rain-ledger.txt")).unwrap();
    garden.run_in("ws", &["verify", "--in", "hand"]).expect(0);
    garden.run_in("ws", &["verify", "--in", "kiosk"]).expect(1);
    garden.run_in("ws", &["verify", "--in", "all", "--repair"]).expect(0);

    garden.publish(&["rain-ledger 2.7.0: dew-point 1", "bark-log 1.2.0"]);
    assert_snapshot!(garden.run_in("ws", &["update", "--in", "hand", "--dry-run"]), @"
    lock: 1 raised
      raised  bark-log  1.1.0 -> 1.2.0  2.0 KiB  MIT  needed by probe-sim, for test
    nothing was written
    ----- status 0
    ");
    assert_snapshot!(garden.run_in("ws/hand", &["update", "--in", "kiosk", "--dry-run"]), @"
    lock: 1 raised
      raised  rain-ledger  2.6.0 -> 2.7.0  2.0 KiB  MIT  needed by fernhollow/kiosk
    nothing was written
    ----- status 0
    ");
    garden.run_in("ws", &["update", "--quiet", "--in", "all"]).expect(0);
    let lock = garden.read("ws/bibliotax.lock");
    assert!(lock.contains("\"bark-log\",\"version\":\"1.2.0\""), "{lock}");
    let again = garden.run_in("ws", &["resolve"]).expect(0);
    assert!(again.stdout.starts_with("nothing to do"), "{again}");

    let shared = garden.run_in("ws", &["need", "rain-ledger", "--in", "all", "--dry-run"]).expect(0);
    assert!(!shared.stdout.contains("--shared"), "it is shared already: {shared}");

    let two = garden.run_in("ws", &["publish", "--in", "hand,valve", "--dry-run"]).expect(2);
    assert!(two.code() == "workspace.which-project" && two.stderr.contains("one project"), "{two}");
    let one = garden.run_in("ws/kiosk", &["publish", "--in", "valve", "--dry-run"]).expect(0);
    assert!(one.stdout.contains("fernhollow/valve 0.4.0 would go to seedhouse"), "{one}");

    garden.write("ws/bibliotax.toml", &ROOT.replace("\"kiosk\", ", "\"kiosk\", \"plain\", "));
    garden.write("ws/plain/bibliotax.toml", "[project]\nname = \"fernhollow/plain\"\n");
    garden.run_in("ws", &["install", "--quiet"]).expect(0);
    let plain = garden.run_in("ws", &["update", "--in", "plain", "--format", "json"]).expect(0).json();
    assert_eq!(plain["changes"], serde_json::json!([]), "who needs nothing moves nothing: {plain}");
}

#[test]
fn a_folder_is_found_however_the_manifest_spells_it() {
    let garden = Garden::with(&[]);
    garden.write("vc/bibliotax.toml", "[project]\nname = \"valve-core\"\nversion = \"1.0.0\"\n");
    for need in [
        "valve-core = { \"path\" = '../vc' }",
        "valve-core.path = \"../vc\"",
        "valve-core = { \"p\\u0061th\" = \"../vc\" }",
    ] {
        garden.write("gate/bibliotax.toml", &format!("[project]\nname = \"gate-kiosk\"\n[needs]\n{need}\n"));
        garden.run(&["install"]).expect(0);
        assert!(garden.read("gate/bibliotax.lock").contains("\"../vc\""), "{need}");
    }
}
