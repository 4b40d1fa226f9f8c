//! A registry that takes back, replaces or hides what it had published.

use std::fs;

use insta::assert_snapshot;

use crate::garden::Garden;

const RELEASES: [&str; 3] = ["rain-ledger 2.4.0: dew-point 1", "dew-point 1.4.0", "dew-point 1.3.0"];

fn garden() -> Garden {
    let garden = Garden::needing(&RELEASES, "rain-ledger = \"2\"");
    garden.run(&["install"]).expect(0);
    garden
}

/// Makes the registry again with these releases, whose archives hold something else than they did.
fn republish(garden: &Garden, releases: &[&str], license: &str) {
    fs::remove_dir_all(garden.path("seedhouse")).unwrap();
    garden.run_in(".", &["registry", "create", "seedhouse"]).expect(0);
    let mut cards = String::new();
    for release in releases {
        let (title, needs) = release.split_once(": ").unwrap_or((release, ""));
        let (name, version) = title.split_once(' ').unwrap();
        let archive = format!("archives/{name}-{version}.tar");
        let needs: Vec<_> = needs
            .split_once(' ')
            .map(|(n, r)| serde_json::json!({ "name": n, "range": r }))
            .into_iter()
            .collect();
        let card = serde_json::json!({ "name": name, "version": version, "published": "2026-03-01T09:00:00Z",
            "license": license, "needs": needs, "files": [{ "path": archive }] });
        cards += &format!("{card}\n");
    }
    garden.load(&cards);
}

/// Every command that asks the registry and might take what it says.
const COMMANDS: [&[&str]; 4] = [&["resolve"], &["update"], &["need", "dew-point"], &["install"]];

#[test]
fn a_release_whose_archive_was_replaced_is_never_taken_for_the_one_that_is_locked() {
    // With what was seen in the store, and on a machine that never saw the registry before.
    for has_seen in [true, false] {
        let garden = garden();
        garden.write_tar("archives/dew-point-1.4.0.tar", &[("dew-point.txt", b"dew-point 6.6.6\n")]);
        republish(&garden, &RELEASES, "MIT");
        if !has_seen {
            fs::remove_dir_all(garden.path("store")).unwrap();
        }
        // The lock is left as it is where only the manifest moved on.
        let manifest = garden.read("gate/bibliotax.toml");
        garden.write("gate/bibliotax.toml", &format!("{manifest}\n[capabilities]\nmoss = \"dew-point\"\n"));
        let lock = garden.read("gate/bibliotax.lock");
        for args in COMMANDS {
            let ran = garden.run(args);
            let code = if has_seen { "registry.changed-history" } else { "registry.changed-release" };
            assert_eq!((ran.status, ran.code()), (6, code), "{args:?}: {ran}");
            assert_eq!(garden.read("gate/bibliotax.lock"), lock, "{args:?}");
        }
        let accepted = garden.run(&["resolve", "--accept-changed", "dew-point"]).expect(0);
        assert!(!has_seen || accepted.stderr.contains("accepted of dew-point"), "{accepted}");
        assert_ne!(garden.read("gate/bibliotax.lock"), lock);
        garden.run(&["install"]).expect(0);
        assert_eq!(garden.shelf(), ["dew-point 6.6.6", "rain-ledger 2.4.0"]);
        garden.run(&["resolve"]).expect(0);
    }
}

#[test]
fn what_is_told_of_a_changed_history_shows_what_changed_and_when_it_was_seen() {
    let garden = garden();
    republish(&garden, &["rain-ledger 2.4.0: dew-point 1", "dew-point 1.4.0"], "CC0-1.0");
    assert_snapshot!(garden.run(&["update"]), @"
    ----- stderr
    error: the registry `seedhouse` changed published data of rain-ledger  (registry.changed-history)
      It was seen on 2026-03-01 09:00 UTC. Since then: the release 2.4.0 has another card (521c83e78255, and not bdc251e18473).
    try: nothing was changed; ask the registry's maintainers why; if the change is right, add `--accept-changed rain-ledger`
    ----- status 6
    ");
    fs::remove_dir_all(garden.path("store")).unwrap();
    assert_snapshot!(garden.run(&["update"]), @"
    ----- stderr
    error: rain-ledger 2.4.0 differs from the locked release: seedhouse has a different card for it  (registry.changed-release)
    try: nothing was changed; ask the registry's maintainers why; if the change is right, add `--accept-changed rain-ledger`
    ----- status 6
    ");
}

#[test]
fn a_locked_release_that_its_registry_dropped_is_told() {
    let garden = garden();
    republish(&garden, &["rain-ledger 2.4.0: dew-point 1", "dew-point 1.3.0"], "MIT");
    fs::remove_dir_all(garden.path("store")).unwrap();
    let ran = garden.run(&["update", "dew-point"]).expect(6);
    assert_eq!(ran.code(), "registry.changed-release", "{ran}");
    assert!(ran.stderr.contains("doesn't have it any more"), "{ran}");
}

#[test]
fn a_withdrawal_that_is_taken_back_without_a_word_is_noticed() {
    let garden = garden();
    let history = garden.path("seedhouse/packages");
    let found = std::process::Command::new("find").arg(&history).args(["-name", "dew-point.jsonl"]).output();
    let path = String::from_utf8(found.unwrap().stdout).unwrap().trim().to_owned();
    let before = fs::read_to_string(&path).unwrap();
    garden.run(&["withdraw", "dew-point", "1.4.0", "--reason", "leaks"]).expect(0);
    garden.run(&["resolve"]).expect(0);
    fs::write(&path, before).unwrap();
    let ran = garden.run(&["need", "dew-point"]).expect(6);
    assert!(ran.stderr.contains("the withdrawal of 1.4.0 is gone"), "{ran}");
}
