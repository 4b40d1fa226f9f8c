//! Mirrors that lie, lag or send wrong bytes.

use std::fs;

use insta::assert_snapshot;

use crate::garden::Garden;
use crate::server::serve;

const RELEASES: [&str; 3] = ["rain-ledger 2.4.0: dew-point 1", "dew-point 1.4.0", "moss-map 1.0.0"];

fn declare(garden: &Garden, url: &str, mirrors: &str) {
    let text = format!(
        "[project]\nname = \"gate-kiosk\"\n[registries]\nseedhouse = {{ url = \"{url}\", mirrors = [{mirrors}] }}\n[needs]\nrain-ledger = \"2\"\n"
    );
    garden.write("gate/bibliotax.toml", &text);
}

fn mirror(garden: &Garden, to: &str) {
    garden.run_in(".", &["registry", "mirror", "seedhouse", to]).expect(0);
}

/// Replaces every archive and card of a registry by something else of the same length.
fn spoil(garden: &Garden, registry: &str) {
    for bin in fs::read_dir(garden.path(registry).join("files")).unwrap().flatten() {
        for file in fs::read_dir(bin.path()).unwrap().flatten() {
            let length = fs::read(file.path()).unwrap().len();
            fs::write(file.path(), vec![b'x'; length]).unwrap();
        }
    }
}

#[test]
fn wrong_bytes_of_a_quicker_mirror_are_told_and_the_right_ones_come_from_elsewhere() {
    let garden = Garden::with(&RELEASES);
    mirror(&garden, "mirror");
    let served = serve(&garden);
    // The folder is sure to be the quicker one.
    declare(&garden, &served.url, "\"../mirror\"");
    spoil(&garden, "mirror");
    let ran = garden.run(&["install"]).expect(0);
    assert_eq!(ran.stderr.matches("warning: ../mirror sent wrong bytes for").count(), 2, "{ran}");
    garden.run(&["verify", "--full"]).expect(0);
    assert_eq!(garden.shelf(), ["dew-point 1.4.0", "rain-ledger 2.4.0"]);
    let ran = garden.run(&["kit", "make", "garden.kit"]).expect(0);
    assert!(ran.stderr.contains("sent wrong bytes"), "{ran}");
    fs::remove_dir_all(garden.path("store/trees")).unwrap();
    garden.run(&["kit", "open", "garden.kit"]).expect(0);
    garden.run(&["describe", "dew-point"]).expect(0);
    // With nobody else to ask, nothing is installed.
    drop(served);
    for folder in ["store/trees", "gate/shelf"] {
        fs::remove_dir_all(garden.path(folder)).unwrap();
    }
    let ran = garden.run(&["install"]).expect(6);
    assert!(ran.stderr.contains("archive.wrong-bytes"), "{ran}");
    assert_eq!(garden.shelf(), [""; 0]);
}

#[test]
fn a_mirror_that_lacks_what_was_seen_is_not_believed_and_the_next_one_is_asked() {
    let garden = Garden::with(&RELEASES);
    mirror(&garden, "late");
    garden.publish(&["dew-point 1.5.0", "dew-point 1.6.0"]);
    mirror(&garden, "even");
    let served = serve(&garden);
    declare(&garden, &served.url, "\"../late\"");
    garden.run(&["install"]).expect(0);
    let lock = garden.read("gate/bibliotax.lock");
    drop(served);
    for args in [&["need", "dew-point"][..], &["update"], &["newer"], &["resolve"]] {
        let ran = garden.run(args);
        assert_eq!((ran.status, ran.code()), (6, "mirror.behind"), "{args:?}: {ran}");
        assert_eq!(garden.read("gate/bibliotax.lock"), lock, "{args:?}");
    }
    assert_snapshot!(garden.run(&["newer"]), @"
    ----- stderr
    error: ../late, a mirror of `seedhouse`, lacks data of dew-point that was seen before  (mirror.behind)
    try: run it again when the registry can be reached; the mirror is outdated, or can't be trusted
    ----- status 6
    ");
    let manifest = garden.read("gate/bibliotax.toml");
    garden.write("gate/bibliotax.toml", &manifest.replace("\"../late\"", "\"../late\", \"../even\""));
    let ran = garden.run(&["newer"]).expect(0);
    // Alone or beside the other one, whichever answered first.
    assert!(ran.stderr.contains("../even ") && ran.stderr.contains("may be outdated"), "{ran}");
}

#[test]
fn nothing_older_than_what_is_locked_is_ever_told_as_newer() {
    let garden = Garden::with(&RELEASES);
    mirror(&garden, "late");
    garden.publish(&["dew-point 1.5.0"]);
    let served = serve(&garden);
    declare(&garden, &served.url, "\"../late\"");
    garden.run(&["install"]).expect(0);
    drop(served);
    // A machine that never saw more than the mirror has.
    fs::remove_dir_all(garden.path("store")).unwrap();
    let ran = garden.run(&["newer"]).expect(6);
    assert_eq!(ran.code(), "registry.changed-release", "{ran}");
    assert!(!ran.stdout.contains("1.4.0"), "{ran}");
}

#[test]
fn every_command_says_that_a_mirror_answers_in_place_of_the_registry() {
    let garden = Garden::with(&RELEASES);
    mirror(&garden, "mirror");
    let served = serve(&garden);
    declare(&garden, &served.url, "\"../mirror\"");
    garden.run(&["install"]).expect(0);
    drop(served);
    let invented = serde_json::json!({ "name": "dew-point", "version": "1.9.0", "license": "MIT",
        "published": "2026-03-02T09:00:00Z", "files": [{ "path": "archives/moss-map-1.0.0.tar" }] });
    garden.write("invented.jsonl", &format!("{invented}\n"));
    garden.run_in(".", &["registry", "load", "mirror", "invented.jsonl"]).expect(0);
    for args in [
        &["find", "dew"][..],
        &["describe", "dew-point"],
        &["fit", "dew-point", "--try", "kiosk:os=linux"],
        &["explain", "dew-point"],
        &["newer"],
        &["resolve", "--dry-run"],
        &["update", "--dry-run"],
        &["need", "moss-map", "--dry-run"],
        &["drop", "rain-ledger", "--dry-run"],
    ] {
        let ran = garden.run(args);
        assert!(
            ran.stderr.contains("seedhouse can't be reached; its mirror ../mirror is used"),
            "{args:?}: {ran}"
        );
    }
}
