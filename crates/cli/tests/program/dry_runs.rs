//! `--dry-run` writes nothing and says what would be done; `-` is standard input and output.

use std::io::Write;
use std::process::Stdio;

use crate::garden::{Garden, Ran};

fn garden() -> Garden {
    let garden =
        Garden::needing(&["dew-point 1.4.0", "rain-ledger 2.4.0: dew-point 1"], "rain-ledger = \"2\"");
    garden.run(&["install"]).expect(0);
    garden
}

/// Runs a command with this on its standard input.
fn with_input(garden: &Garden, folder: &str, args: &[&str], input: &[u8]) -> Ran {
    let mut command = garden.command(folder, args);
    let mut child =
        command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    child.stdin.take().unwrap().write_all(input).unwrap();
    garden.ran(child.wait_with_output().unwrap())
}

#[test]
fn a_dry_run_writes_nothing_and_says_what_would_be_done() {
    let garden = garden();
    garden.run(&["kit", "make", "../gate.kit"]).expect(0);
    garden.run_in(".", &["registry", "token", "issue", "seedhouse", "gate", "--only", "*"]).expect(0);
    let token =
        garden.run_in(".", &["registry", "token", "show", "seedhouse", "--format", "json"]).expect(0).json();
    let id = token["tokens"][0]["id"].as_str().unwrap().to_owned();
    std::fs::rename(garden.path("store"), garden.path("old-store")).unwrap();
    let before = garden.everything_below(".", &[]);
    for (args, said) in [
        (&["registry", "mirror", "seedhouse", "copy", "--dry-run"][..], "would copy 2 events and 4 files"),
        (&["registry", "token", "issue", "seedhouse", "x", "--only", "a", "--dry-run"], "could publish a"),
        (&["registry", "token", "end", "seedhouse", &id, "--dry-run"], "would be revoked"),
        (&["registry", "check", "seedhouse", "--repair", "--dry-run"], "no problems found"),
        (&["kit", "open", "gate.kit", "--dry-run"], "2 archives (4.0 KiB) would be in the store"),
    ] {
        let ran = garden.run_in(".", args).expect(0);
        assert!(ran.stdout.contains(said), "{ran}");
    }
    let after = garden.everything_below(".", &["store"]);
    assert_eq!(after, before);
    garden.run_in(".", &["registry", "token", "end", "seedhouse", "nothing", "--dry-run"]).expect(2);
    garden.run_in(".", &["registry", "mirror", "seedhouse", "copy"]).expect(0);
    let nothing = garden.run_in(".", &["registry", "mirror", "seedhouse", "copy", "--dry-run"]).expect(0);
    assert!(nothing.stdout.contains("nothing new in"), "{nothing}");
}

#[test]
fn repairing_the_store_can_be_tried() {
    let garden = garden();
    let damaged =
        walk(&garden.path("store/trees")).into_iter().find(|path| path.ends_with("dew-point.txt")).unwrap();
    let mut permissions = std::fs::metadata(&damaged).unwrap().permissions();
    #[expect(clippy::permissions_set_readonly_false, reason = "a file of the test's own")]
    permissions.set_readonly(false);
    std::fs::set_permissions(&damaged, permissions).unwrap();
    std::fs::write(&damaged, "wrong").unwrap();
    let tried = garden.run(&["store", "check", "--repair", "--dry-run"]).expect(1);
    assert!(tried.stdout.contains("1 of 2 archives damaged"), "{tried}");
    assert_eq!(std::fs::read(&damaged).unwrap(), b"wrong");
    garden.run(&["store", "check", "--repair"]).expect(0);
}

fn walk(folder: &std::path::Path) -> Vec<std::path::PathBuf> {
    let entries = std::fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path());
    entries.flat_map(|path| if path.is_dir() { walk(&path) } else { vec![path] }).collect()
}

#[test]
fn files_can_come_from_standard_input_and_go_to_standard_output() {
    let garden = garden();
    let made = garden.command("gate", &["kit", "make", "-"]).output().unwrap();
    assert!(made.status.success() && String::from_utf8_lossy(&made.stderr).contains("holds 2 archives"));
    std::fs::remove_dir_all(garden.path("store")).unwrap();
    let opened = with_input(&garden, "gate", &["kit", "open", "-"], &made.stdout).expect(0);
    assert!(opened.stdout.contains("2 archives"), "{opened}");
    let lock = garden.read("gate/bibliotax.lock");
    let same = with_input(&garden, "gate", &["compare", "-"], lock.as_bytes()).expect(0);
    assert!(same.stdout.contains("no difference"), "{same}");
    let card = r#"{"name":"bark-log","version":"1.0.0","published":"2026-03-01T08:00:00Z"}"#;
    let loaded = with_input(&garden, ".", &["registry", "load", "seedhouse", "-"], card.as_bytes()).expect(0);
    assert!(loaded.stdout.contains("loaded 1 event"), "{loaded}");
    // Paths in it are seen from here.
    garden.write_tar("bark.tar", &[("bark.txt", b"bark\n")]);
    let card = r#"{"name":"bark-log","version":"1.1.0","published":"2026-03-01T08:00:00Z","files":[{"path":"bark.tar"}]}"#;
    with_input(&garden, ".", &["registry", "load", "seedhouse", "-"], card.as_bytes()).expect(0);
    let facets = br#"{"orchard-runtime":{"kind":"ladder","levels":["1","2"]}}"#;
    with_input(&garden, ".", &["registry", "create", "other", "--facets", "-"], facets).expect(0);
    assert!(garden.read("other/registry.json").contains("orchard-runtime"));
    let on_terminal = garden.on_terminal((80, 24), &[], "gate", &["kit", "make", "-"]);
    assert!(on_terminal.stdout.contains("a kit can't be printed on a terminal"), "{on_terminal}");
}

#[test]
fn a_registry_has_one_name_in_all_commands() {
    let garden = garden();
    for place in ["seedhouse", "../seedhouse"] {
        garden.run(&["registry", "check", place]).expect(0);
        garden.run(&["registry", "token", "show", place]).expect(0);
        garden.run(&["find", "rain", "--registry", place]).expect(0);
        garden
            .run(&["deprecate", "dew-point", "1", "--reason", "x", "--registry", place, "--dry-run"])
            .expect(0);
        garden.run(&["registry", "mirror", place, "../copy", "--dry-run"]).expect(0);
    }
}
