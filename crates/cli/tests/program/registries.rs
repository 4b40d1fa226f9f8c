//! Registries, publishing and archives: what is published arrives, and what is wrong is refused by name.

use std::fs;
use std::path::PathBuf;

use insta::assert_snapshot;

use crate::garden::Garden;

const AUTHOR: &str = "[project]\nname = \"valve-core\"\nversion = \"0.4.0\"\nlicense = \"EUPL-1.2\"\n\n[card]\n\
    summary = \"Watering by valve\"\nexposes = { include = \"include\" }\n\n[needs]\ndew-point = \"1\"\n";

fn author() -> Garden {
    let garden = Garden::with(&["dew-point 1.4.0"]);
    garden.write("valve/bibliotax.toml", AUTHOR);
    garden.write("valve/include/valve.h", "int valve(void);\n");
    garden.write("valve/notes/todo.txt", "ask Imke\n");
    garden.write("valve/.gitignore", "notes/\n");
    garden
}

/// The only archive of a package in the registry.
fn archive_of(garden: &Garden, name: &str) -> PathBuf {
    let lines = fs::read_dir(garden.path("seedhouse/packages")).unwrap().flatten();
    let path = lines.map(|bin| bin.path().join(format!("{name}.jsonl"))).find(|path| path.exists()).unwrap();
    let entry: serde_json::Value =
        serde_json::from_str(fs::read_to_string(path).unwrap().lines().next().unwrap()).unwrap();
    let digest = entry["files"][0]["sha256"].as_str().unwrap().to_owned();
    garden.path(&format!("seedhouse/files/{}/{digest}", &digest[..2]))
}

#[test]
fn what_is_published_can_be_needed() {
    let garden = author();
    assert_snapshot!(garden.run_in("valve", &["publish", "../seedhouse", "--dry-run"]), @"
      include/valve.h  17 B
    left out
      .gitignore  hidden
      notes/      ignored by version control
    1 file, 17 B before packing
    valve-core 0.4.0 would go to seedhouse; nothing was published
    ----- status 0
    ");
    assert_snapshot!(garden.run_in("valve", &["publish", "../seedhouse"]), @"
    left out: .gitignore (hidden), notes/ (ignored by version control)
    published valve-core 0.4.0 in seedhouse (1 file, 95 B packed from 17 B)
    ----- status 0
    ");
    garden.run(&["need", "valve-core"]).expect(0);
    assert_eq!(garden.read("gate/shelf/valve-core/include/valve.h"), "int valve(void);\n");
    assert!(!garden.path("gate/shelf/valve-core/notes").exists());
}

#[test]
fn what_publish_tells_of_its_files_is_what_the_registry_has() {
    let garden = author();
    let publish = |more: &[&str]| {
        let args = [&["publish", "../seedhouse", "--format", "json"][..], more].concat();
        garden.run_in("valve", &args).expect(0).json()
    };
    let tried = publish(&["--dry-run"]);
    assert!(tried["card"]["files"].is_null() && tried["contents"][0]["files"].is_array(), "{tried}");
    for _ in 0..2 {
        let ran = publish(&[]);
        let file = &ran["files"][0];
        let digest = file["sha256"].as_str().unwrap();
        let there = fs::read(garden.path("seedhouse/files").join(&digest[..2]).join(digest)).unwrap();
        assert_eq!(file["size"], there.len());
    }
}

#[test]
fn a_release_is_never_replaced() {
    let garden = author();
    garden.run_in("valve", &["publish", "../seedhouse"]).expect(0);
    let again = garden.run_in("valve", &["publish", "../seedhouse", "--format", "json"]).expect(0);
    assert_eq!(again.json()["already"], true);
    garden.write("valve/include/valve.h", "int valve(int minutes);\n");
    assert_snapshot!(garden.run_in("valve", &["publish", "../seedhouse"]), @"
    left out: .gitignore (hidden), notes/ (ignored by version control)
    ----- stderr
    error: valve-core 0.4.0 is already published, with different `files`  (registry.exists)
    try: a release never changes: raise `version` in the manifest
    ----- status 5
    ");
    garden.write("valve/bibliotax.toml", &AUTHOR.replace("0.4.0", "0.4.1"));
    garden.run_in("valve", &["publish", "../seedhouse"]).expect(0);
}

#[cfg(unix)]
#[test]
fn the_same_tree_gives_the_same_archive_under_any_file_mode_mask() {
    let digest = |mask: &str| {
        let garden = Garden::bare();
        let program = env!("CARGO_BIN_EXE_bibliotax");
        garden.write("valve.toml", &AUTHOR.replace("[needs]\ndew-point = \"1\"\n", ""));
        let script = format!(
            "umask {mask}; mkdir -p valve/include; cp valve.toml valve/bibliotax.toml; echo x > valve/include/v.h; \
             chmod u+rw valve/include/v.h; {program} --directory valve --format json publish ../seedhouse"
        );
        let mut shell = std::process::Command::new("sh");
        let output = shell.arg("-c").arg(script).current_dir(garden.path(".")).output().unwrap();
        let text = String::from_utf8(output.stdout).unwrap();
        let json: serde_json::Value = serde_json::from_str(&text).unwrap_or_else(|_| panic!("{text}"));
        json["files"][0]["sha256"].as_str().unwrap().to_owned()
    };
    assert_eq!(digest("022"), digest("077"));
}

#[test]
fn what_can_not_be_published_is_told_by_name() {
    let garden = author();
    let rows = [
        (AUTHOR.replace("version = \"0.4.0\"\n", ""), "manifest.no-version"),
        (AUTHOR.replace("include = \"include\"", "include = \"gone\""), "card.exposes-nothing"),
        (AUTHOR.replace("exposes =", "files = [\"[\"]\nexposes ="), "card.no-pattern"),
    ];
    for (text, code) in rows {
        garden.write("valve/bibliotax.toml", &text);
        assert_eq!(garden.run_in("valve", &["publish", "../seedhouse"]).expect(3).code(), code);
    }
    garden.write("valve/bibliotax.toml", AUTHOR);
    assert_eq!(garden.run_in("valve", &["publish"]).expect(2).code(), "registry.which");
    assert_eq!(garden.run_in("valve", &["publish", "../nowhere"]).expect(5).code(), "registry.missing");
    garden.write("valve/src/aux.c", "");
    assert_snapshot!(garden.run_in("valve", &["publish", "../seedhouse"]), @r#"
    ----- stderr
    error: `src/aux.c` can't be part of a package: a part of it is a device on some systems  (publish.path)
    try: rename it, or list the files to publish with `files = ["…"]` under `[card]`
    ----- status 3
    "#);
}

#[test]
fn registries_that_are_missing_newer_or_of_an_unknown_kind_are_told() {
    let garden = Garden::needing(&["dew-point 1.4.0"], "dew-point = \"1\"");
    let manifest = garden.read("gate/bibliotax.toml");
    for (url, code, status) in [
        ("../nowhere", "registry.missing", 5),
        ("../home", "registry.missing", 5),
        ("ftp://packages.example/", "registry.scheme", 3),
    ] {
        garden.write("gate/bibliotax.toml", &manifest.replace("../seedhouse", url));
        assert_eq!(garden.run(&["install"]).expect(status).code(), code);
    }
    garden.write("gate/bibliotax.toml", &manifest);
    garden.write("seedhouse/registry.json", "{\"format\": 2, \"name\": \"seedhouse\"}");
    assert_eq!(garden.run(&["install"]).expect(5).code(), "registry.newer");
    garden.write("seedhouse/registry.json", "{");
    assert_eq!(garden.run(&["install"]).expect(6).code(), "registry.broken");
}

#[test]
fn a_broken_history_stops_only_who_needs_that_package() {
    let garden = Garden::needing(&["dew-point 1.4.0", "moss-map 1.0.0"], "dew-point = \"1\"");
    let bins = fs::read_dir(garden.path("seedhouse/packages")).unwrap().flatten();
    let moss = bins.map(|bin| bin.path().join("moss-map.jsonl")).find(|path| path.exists()).unwrap();
    fs::write(&moss, "{\"event\":\"release\",\"name\":\n").unwrap();
    garden.run(&["install"]).expect(0);
    let ran = garden.run(&["need", "moss-map"]).expect(6);
    assert!(ran.stderr.contains("line 1:") && ran.code() == "registry.broken", "{ran}");
}

#[test]
fn an_archive_whose_bytes_differ_never_reaches_shelf_or_store() {
    let garden =
        Garden::needing(&["dew-point 1.4.0", "moss-map 1.0.0"], "dew-point = \"1\"\nmoss-map = \"1\"");
    let archive = archive_of(&garden, "moss-map");
    let good = fs::read(&archive).unwrap();
    let mut bytes = good.clone();
    bytes[513] ^= 1;
    fs::write(&archive, &bytes).unwrap();
    let ran = garden.run(&["install"]).expect(6);
    assert!(ran.code() == "archive.wrong-bytes" && ran.stderr.contains("moss-map"), "{ran}");
    assert!(!garden.path("gate/bibliotax.lock").exists() && garden.shelf().is_empty());
    fs::remove_file(&archive).unwrap();
    assert_eq!(garden.run(&["install"]).expect(5).code(), "registry.no-file");
    fs::write(&archive, good).unwrap();
    garden.run(&["install"]).expect(0);
}

#[test]
fn a_hostile_archive_is_refused_by_the_name_of_its_entry() {
    let garden = Garden::with(&[]);
    let mut tar = Vec::new();
    let mut header = tar::Header::new_gnu();
    header.as_gnu_mut().unwrap().name[..10].copy_from_slice(b"../escaped");
    header.set_size(0);
    header.set_mode(0o644);
    header.set_cksum();
    tar.extend_from_slice(header.as_bytes());
    tar.extend_from_slice(&[0; 1024]);
    fs::write(garden.path("evil.tar"), tar).unwrap();
    garden.smuggle("evil", "evil.tar");
    assert_snapshot!(garden.run(&["need", "evil"]), @r#"
    manifest: [needs] evil = "1 .. 2"
    lock: 1 added
      added  evil  1.0.0  1.5 KiB  licence not declared  needed here
    ----- stderr
    error: the archive of evil can't be used  (archive.refused)
      `../escaped`: it leads outside of the package
    try: if the package works without them, leave them out in its need or card: `exclude = ["../escaped"]` (nothing was installed)
    ----- status 6
    "#);
    assert!(!garden.path("gate/bibliotax.lock").exists());
}

#[test]
fn a_name_in_two_registries_is_settled_by_a_person() {
    let garden = Garden::with(&["night-frost 1.1.0"]);
    garden.run_in(".", &["registry", "create", "own"]).expect(0);
    garden.write(
        "cards.jsonl",
        "{\"name\":\"night-frost\",\"version\":\"0.2.0\",\"published\":\"2026-03-01T09:00:00Z\"}\n",
    );
    garden.run_in(".", &["registry", "load", "own", "cards.jsonl"]).expect(0);
    let manifest = garden.read("gate/bibliotax.toml").replace("[needs]", "own = \"../own\"\n\n[needs]");
    garden.write("gate/bibliotax.toml", &manifest);
    assert_snapshot!(garden.run(&["need", "night-frost"]), @r#"
    ----- stderr
    error: `night-frost` is in two registries: seedhouse and own  (package.ambiguous)
    try: choose one: `bibliotax need night-frost --from seedhouse`, or `owns = ["night-frost"]` for one of the registries
    ----- status 3
    "#);
    garden.run(&["need", "night-frost", "--from", "own"]).expect(0);
    assert!(garden.read("gate/bibliotax.lock").contains("\"version\":\"0.2.0\",\"source\":\"own\""));
    garden.write(
        "gate/bibliotax.toml",
        &manifest.replace("own = \"../own\"", "own = { url = \"../own\", owns = [\"night-*\"] }"),
    );
    garden.run(&["need", "night-frost", "--dry-run"]).expect(0);
}

#[test]
fn a_load_takes_all_lines_or_none_and_can_be_run_again() {
    let garden = Garden::bare();
    let card = |name: &str, version: &str| {
        format!("{{\"name\":\"{name}\",\"version\":\"{version}\",\"published\":\"2026-03-01T09:00:00Z\"}}\n")
    };
    let withdrawn = "{\"event\":\"withdrawn\",\"name\":\"a\",\"version\":\"1.0\",\"reason\":\"x\",\"at\":\"2026-03-01T09:00:00Z\"}\n";
    let good = [card("a", "1.0"), withdrawn.to_owned(), card("b", "1.0")].concat();
    let bad = [
        good.clone(),
        card("a", "1.0").replace("}", ",\"license\":\"MIT\"}"),
        "{\"name\":\"c\"}\n".into(),
        "nonsense\n".into(),
    ]
    .concat();
    garden.write("cards.jsonl", &bad);
    assert_snapshot!(garden.run_in(".", &["registry", "load", "seedhouse", "cards.jsonl"]), @r#"
    ----- stderr
    error: missing field `version`  (registry.bad-line)
      at GARDEN/cards.jsonl:5:1
        4: {"name":"a","version":"1.0","published":"2026-03-01T09:00:00Z","license":"MIT"}
        5: {"name":"c"}
           ~~~~~~~~~~~~

    error: this is not JSON  (registry.bad-line)
      at GARDEN/cards.jsonl:6:1
        5: {"name":"c"}
        6: nonsense
           ~~~~~~~~
    ----- status 3
    "#);
    garden.write(
        "cards.jsonl",
        &good.replace(
            "\"name\":\"a\",\"version\":\"1.0\",\"reason\"",
            "\"name\":\"a\",\"version\":\"7\",\"reason\"",
        ),
    );
    assert_eq!(
        garden.run_in(".", &["registry", "load", "seedhouse", "cards.jsonl"]).expect(3).code(),
        "registry.bad-line"
    );
    assert_eq!(fs::read_dir(garden.path("seedhouse/packages")).unwrap().count(), 0, "nothing was loaded");
    garden.write("cards.jsonl", &good);
    garden.run_in(".", &["registry", "load", "seedhouse", "cards.jsonl", "--dry-run"]).expect(0);
    assert_eq!(
        fs::read_dir(garden.path("seedhouse/packages")).unwrap().count(),
        0,
        "a dry run loads nothing"
    );
    garden.load(&good);
    garden.write("cards.jsonl", &good);
    assert_snapshot!(garden.run_in(".", &["registry", "load", "seedhouse", "cards.jsonl"]), @"
    loaded 0 events into seedhouse, 3 there already
    ----- status 0
    ");
}

#[test]
fn a_check_reads_everything_and_tells_what_is_wrong() {
    let garden = Garden::with(&[
        "dew-point 1.4.0",
        "rain-ledger 2.4.0: dew-point 1",
        "moss-map 1.0.0",
        "bark-log 1.0.0",
    ]);
    assert_snapshot!(garden.run_in(".", &["registry", "check", "seedhouse"]), @"
    no problems found: 4 packages, 4 releases, 8 files (8.9 KiB)
    ----- status 0
    ");
    fs::write(archive_of(&garden, "dew-point"), "other").unwrap();
    fs::remove_file(archive_of(&garden, "moss-map")).unwrap();
    let history = archive_of(&garden, "bark-log");
    let bin = fs::read_dir(garden.path("seedhouse/packages")).unwrap().flatten();
    let path = bin.map(|bin| bin.path().join("rain-ledger.jsonl")).find(|path| path.exists()).unwrap();
    let text = fs::read_to_string(&path).unwrap();
    fs::write(&path, text.replace("\"license\":\"MIT\"", "\"license\":\"0BSD\"")).unwrap();
    fs::create_dir_all(garden.path("seedhouse/files/ee")).unwrap();
    fs::copy(&history, garden.path("seedhouse/files/ee").join("e".repeat(64))).unwrap();
    let ran = garden.run_in(".", &["registry", "check", "seedhouse"]).expect(1);
    for part in [
        "has the digest",
        "its main archive",
        "is not there",
        "differs from its card",
        "1 file of no release",
    ] {
        assert!(ran.stdout.contains(part), "{part} is not in {ran}");
    }
    let json = garden.run_in(".", &["registry", "check", "seedhouse", "--format", "json"]).expect(1).json();
    assert_eq!(json["findings"].as_array().unwrap().len(), 5, "{json}");
}

#[test]
fn a_release_holds_what_was_asked_for_and_not_the_manifest() {
    let garden = Garden::with(&[]);
    let manifest = |more: &str| {
        format!(
            "{more}[project]\nname = \"moss-map\"\nversion = \"1.0.0\"\nlicense = \"MIT\"\n\
             [registries]\nseedhouse = \"../seedhouse\"\n[card]\nfiles = [\"src/**\", \"**/*.toml\"]\n"
        )
    };
    garden.write("moss/bibliotax.toml", &manifest(""));
    garden.write("moss/src/moss.c", "int moss;\n");
    let listed = garden.run_in("moss", &["publish", "--dry-run"]).expect(0).stdout;
    assert!(listed.contains("src/moss.c") && !listed.contains("bibliotax.toml"), "{listed}");
    garden.run_in("moss", &["publish"]).expect(0);
    garden.write("moss/bibliotax.toml", &manifest("# A remark that changes nothing.\n"));
    assert!(garden.run_in("moss", &["publish"]).expect(0).stdout.contains("exists already"));
    let named = manifest("").replace("**/*.toml", "bibliotax.toml").replace("1.0.0", "1.1.0");
    garden.write("moss/bibliotax.toml", &named);
    let listed = garden.run_in("moss", &["publish", "--dry-run"]).expect(0).stdout;
    assert!(listed.contains("bibliotax.toml"), "{listed}");
}

#[test]
fn a_folder_is_found_by_a_url_and_by_either_system_s_path() {
    let garden = Garden::with(&["moss-map 1.0.0"]);
    fs::rename(garden.path("seedhouse"), garden.path("our seedhouse")).unwrap();
    let whole = garden.path("our seedhouse").display().to_string();
    let url = format!("file://{}", whole.replace(' ', "%20"));
    for place in [url.as_str(), "../our seedhouse", r"..\our seedhouse", &whole] {
        garden.write(
            "gate/bibliotax.toml",
            &format!("[project]\nname = \"gate-kiosk\"\n\n[registries]\nseedhouse = '{place}'\n"),
        );
        let needed = garden.run(&["need", "moss-map"]).expect(0);
        assert!(needed.stderr.is_empty(), "{place}: {needed}");
        fs::remove_file(garden.path("gate/bibliotax.lock")).unwrap();
    }
    // A disk is no host of git's.
    let missing = garden.run(&["need", "dew-point", "--git", r"C:\no\such"]).expect(74);
    assert_eq!(missing.code(), "disk.missing", "{missing}");
}
