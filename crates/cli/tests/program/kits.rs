//! Kits: a lock's packages carried to a machine that never saw a network.

use std::fs;
use std::os::unix::fs::{FileTypeExt, MetadataExt};

use insta::assert_snapshot;

use crate::garden::Garden;

fn garden() -> Garden {
    let releases = ["rain-ledger 2.4.0: dew-point 1", "dew-point 1.4.0", "moss-map 1.0.0"];
    let garden = Garden::needing(&releases, "rain-ledger = \"2.4 .. 3\"");
    garden.run(&["install"]).expect(0);
    garden
}

/// The same project on a machine with an empty store, from which the registry can't be reached.
fn elsewhere(garden: &Garden) {
    for gone in ["store", "gate/shelf"] {
        fs::remove_dir_all(garden.path(gone)).unwrap();
    }
    fs::rename(garden.path("seedhouse"), garden.path("far-away")).unwrap();
}

#[test]
fn a_kit_brings_all_that_an_install_without_a_network_needs() {
    let garden = garden();
    assert_snapshot!(garden.run(&["kit", "make", "../garden.kit", "--dry-run"]), @"
    kit: ../garden.kit would hold 2 archives, 4.0 KiB
    ----- status 0
    ");
    assert!(!garden.path("garden.kit").exists());
    assert_snapshot!(garden.run(&["kit", "make", "../garden.kit"]), @"
    kit: ../garden.kit holds 2 archives, 4.0 KiB
    on the other machine: `bibliotax kit open ../garden.kit`, then `bibliotax install --offline`
    ----- status 0
    ");
    let first = fs::read(garden.path("garden.kit")).unwrap();
    let mode = |file: &str| fs::metadata(garden.path(file)).unwrap().mode();
    assert_eq!(mode("garden.kit"), mode("gate/bibliotax.toml"), "others may read it as they may other files");
    garden.run(&["kit", "make", "../again.kit"]).expect(0);
    assert_eq!(first, fs::read(garden.path("again.kit")).unwrap(), "the same bytes each time");
    elsewhere(&garden);
    assert_ne!(garden.run(&["install", "--offline"]).status, 0);
    assert_snapshot!(garden.run(&["kit", "open", "../garden.kit"]), @"
    kit: 2 archives (4.0 KiB) are in the store
    next: `bibliotax install --offline`
    ----- status 0
    ");
    garden.run(&["install", "--offline", "--sealed"]).expect(0);
    assert_eq!(garden.shelf(), ["dew-point 1.4.0", "rain-ledger 2.4.0"]);
    garden.run(&["verify", "--full", "--store"]).expect(0);
    assert_snapshot!(garden.run_in(".", &["kit", "open", "garden.kit"]), @"
    kit: 2 archives (4.0 KiB) are in the store, 2 of them already there
    ----- status 0
    ");
}

#[test]
fn what_is_no_file_is_never_replaced_by_one() {
    let garden = garden();
    let made = std::process::Command::new("mkfifo").arg(garden.path("pipe")).status().unwrap();
    assert!(made.success());
    let ran = garden.run(&["kit", "make", "../pipe"]);
    assert_eq!((ran.status, ran.code()), (74, "disk.failed"), "{}", ran.stderr);
    assert!(fs::symlink_metadata(garden.path("pipe")).unwrap().file_type().is_fifo());
}

#[test]
fn a_kit_of_another_lock_is_taken_in_and_told_as_such() {
    let garden = garden();
    garden.run(&["kit", "make", "../garden.kit"]).expect(0);
    garden.run(&["need", "moss-map"]).expect(0);
    assert_snapshot!(garden.run(&["kit", "open", "../garden.kit"]), @"
    kit: 2 archives (4.0 KiB) are in the store, 2 of them already there
    ----- stderr
    warning: this project's lock differs from the kit's; `bibliotax install --offline` lists what is missing
    ----- status 0
    ");
    elsewhere(&garden);
    garden.run(&["kit", "open", "../garden.kit"]).expect(0);
    let lacking = garden.run(&["install", "--offline"]);
    assert!(
        lacking.stderr.contains("moss-map 1.0.0") && !lacking.stderr.contains("dew-point 1"),
        "{lacking}"
    );
}

#[test]
fn what_is_no_kit_or_was_changed_on_its_way_is_refused() {
    let garden = garden();
    garden.run(&["kit", "make", "../garden.kit"]).expect(0);
    let whole = fs::read(garden.path("garden.kit")).unwrap();
    elsewhere(&garden);
    let open = |bytes: &[u8]| {
        fs::write(garden.path("bad.kit"), bytes).unwrap();
        let ran = garden.run(&["kit", "open", "../bad.kit"]);
        (ran.status, ran.code().to_owned())
    };
    let swapped = |from: &str, to: &str| {
        let at = whole.windows(from.len()).position(|window| window == from.as_bytes()).unwrap();
        let mut bytes = whole.clone();
        bytes[at..at + to.len()].copy_from_slice(to.as_bytes());
        bytes
    };
    for (bytes, status, code) in [
        (b"no kit at all".to_vec(), 3, "kit.none"),
        (Vec::new(), 3, "kit.none"),
        (whole[..whole.len() / 2].to_vec(), 6, "kit.cut-short"),
        (whole[..3000].to_vec(), 6, "kit.cut-short"),
        (swapped("{\"format\":1", "{\"format\":9"), 3, "kit.newer"),
        (swapped("\"seedhouse\"", "\"seedhause\""), 6, "kit.wrong"),
        (swapped("dew-point 1.4.0", "dew-point 1.4.1"), 6, "archive.wrong-bytes"),
        (swapped("2026-03-01T09", "2026-03-02T09"), 6, "kit.wrong"),
    ] {
        assert_eq!(open(&bytes), (status, code.to_owned()));
    }
    // Cut anywhere but in the two empty blocks at its end, it is never taken for whole.
    for length in (0..whole.len() - 1024).step_by(whole.len() / 60) {
        let (status, code) = open(&whole[..length]);
        assert!(status == 6 || code == "kit.none", "{length}: {status} {code}");
    }
    assert_eq!(open(&whole).0, 0);
}
