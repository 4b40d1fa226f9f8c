//! What a person does, from an empty folder to a locked, installed set that a colleague has, too.

use insta::assert_snapshot;

use crate::garden::Garden;

const RELEASES: [&str; 9] = [
    "rain-ledger 2.4.0: dew-point 1",
    "rain-ledger 2.6.1: dew-point 1",
    "rain-ledger 3.0.0: dew-point 2",
    "dew-point 1.4.0",
    "dew-point 2.0.0",
    "soil-curve 1.7.0: dew-point 1",
    "soil-curve 2.0.0: dew-point 2",
    "probe-sim 0.9.2: bark-log any",
    "bark-log 1.1.0",
];

#[test]
fn from_an_empty_folder_to_an_installed_set() {
    let garden = Garden::bare();
    garden.publish(&RELEASES);
    assert_snapshot!(garden.run(&["init", "--registry", "seedhouse=../seedhouse"]), @"
    wrote bibliotax.toml for the project gate
    next: `bibliotax need PACKAGE`
    ----- status 0
    ");
    assert_snapshot!(garden.run(&["need", "soil-curve", "1.7.0", "--exactly"]), @r#"
    manifest: [needs] soil-curve = "= 1.7.0"
    lock: 2 added
      added  dew-point   1.4.0  2.0 KiB  MIT  needed by soil-curve
      added  soil-curve  1.7.0  2.0 KiB  MIT  needed here
    shelf: 2 packages installed, 4.0 KiB downloaded (TIME)
    ----- status 0
    "#);
    assert_snapshot!(garden.run(&["need", "rain-ledger"]), @r#"
    manifest: [needs] rain-ledger = "2.6.1 .. 3"
      passed over rain-ledger 3.0.0:
        rain-ledger 3.0.0 needs dew-point 2.
        gate needs soil-curve = 1.7.0.
        soil-curve 1.7.0 needs dew-point 1.
        No release of dew-point is in both 2 and 1.
    lock: 1 added
      added  rain-ledger  2.6.1  2.0 KiB  MIT  needed here
    shelf: 1 package installed, 2 already there, 2.0 KiB downloaded (TIME)
    ----- status 0
    "#);
    assert_snapshot!(garden.run(&["need", "probe-sim", "--for", "test"]), @r#"
    manifest: [needs-for.test] probe-sim = "0.9.2 .. 0.10"
    lock: 2 added
      added  bark-log   1.1.0  2.0 KiB  MIT  needed by probe-sim, for test
      added  probe-sim  0.9.2  2.0 KiB  MIT  needed here, for test
    shelf: 2 packages installed, 3 already there, 4.0 KiB downloaded (TIME)
    ----- status 0
    "#);
    assert_snapshot!(garden.read("gate/bibliotax.toml"), @r#"
    # The packages that this project needs. You can edit this file; `bibliotax need`
    # and `bibliotax drop` edit it, too, and keep comments and order.

    [project]
    name = "gate"
    # version = "0.1.0"                   # only required for publishing
    # license = "MIT"                     # an SPDX expression

    # Where packages are looked up. If two registries have a package of one name,
    # say which one to use: { url = "../other", owns = ["garden/*"] }
    [registries]
    seedhouse = "../seedhouse"

    # The packages, each with the range of versions that it may have:
    # "2.4 .. 3" is 2.4 or newer, below 3; "= 2.4.1" only this version; "any" all.
    # Packages for tests and other purposes stand under [needs-for.test] and so on.
    [needs]
    soil-curve = "= 1.7.0"
    rain-ledger = "2.6.1 .. 3"

    [needs-for.test]
    probe-sim = "0.9.2 .. 0.10"
    "#);
    assert_eq!(
        garden.shelf(),
        ["bark-log 1.1.0", "dew-point 1.4.0", "probe-sim 0.9.2", "rain-ledger 2.6.1", "soil-curve 1.7.0"]
    );
    assert_snapshot!(garden.run(&["install"]), @"
    shelf: nothing to do, all 5 packages are there
    ----- status 0
    ");
    assert_snapshot!(garden.run(&["verify"]), @"
    shelf: no differences (5 packages, 5 files)
    ----- status 0
    ");
    assert_snapshot!(garden.run(&["drop", "soil-curve", "probe-sim"]), @"
    lock: 3 gone
      gone  bark-log    1.1.0  2.0 KiB  MIT  nothing needs it
      gone  probe-sim   0.9.2  2.0 KiB  MIT  nothing needs it
      gone  soil-curve  1.7.0  2.0 KiB  MIT  nothing needs it
    shelf: 3 removed, 2 already there (TIME)
    ----- status 0
    ");
    assert_eq!(garden.shelf(), ["dew-point 1.4.0", "rain-ledger 2.6.1"]);
}

#[test]
fn a_colleague_gets_the_same_from_manifest_and_lock() {
    let garden = Garden::needing(&RELEASES, "rain-ledger = \"2\"\nsoil-curve = \"1\"");
    garden.run(&["install"]).expect(0);
    let (lock, shelf) = (garden.read("gate/bibliotax.lock"), garden.shelf());
    std::fs::remove_dir_all(garden.path("gate/shelf")).unwrap();
    std::fs::remove_dir_all(garden.path("store")).unwrap();
    garden.run(&["install", "--sealed"]).expect(0);
    assert_eq!((garden.read("gate/bibliotax.lock"), garden.shelf()), (lock.clone(), shelf.clone()));

    let other = Garden::needing(
        &RELEASES.map(|r| r).iter().rev().copied().collect::<Vec<_>>(),
        "rain-ledger = \"2\"\n# A comment\nsoil-curve=\"1\"",
    );
    other.run(&["install"]).expect(0);
    assert_eq!((other.read("gate/bibliotax.lock"), other.shelf()), (lock, shelf), "another machine's folder");
}

#[test]
fn a_range_changed_by_hand_is_followed_and_nothing_else_moves() {
    let garden = Garden::needing(&RELEASES, "rain-ledger = \"2.6 .. 3\"");
    garden.run(&["install"]).expect(0);
    garden.publish(&["dew-point 1.5.0"]);
    garden
        .write("gate/bibliotax.toml", &garden.read("gate/bibliotax.toml").replace("2.6 .. 3", "2.4 .. 2.6"));
    assert_eq!(garden.run(&["install", "--sealed"]).expect(1).code(), "lock.stale");
    assert_snapshot!(garden.run(&["install"]), @"
    lock: 1 lowered
      lowered  rain-ledger  2.6.1 -> 2.4.0  2.0 KiB  MIT  needed here
    shelf: 1 package installed, 1 already there, 2.0 KiB downloaded (TIME)
    ----- status 0
    ");
    assert_eq!(garden.shelf(), ["dew-point 1.4.0", "rain-ledger 2.4.0"]);
}

#[test]
fn comments_order_and_layout_do_not_make_a_lock_stale() {
    let garden = Garden::needing(&RELEASES, "rain-ledger = \"2.4..3\"");
    garden.run(&["install"]).expect(0);
    let relaid = garden.read("gate/bibliotax.toml").replace("\"2.4..3\"", " \"2.4 .. 3\" # rain");
    garden.write("gate/bibliotax.toml", &relaid);
    garden.run(&["install", "--sealed"]).expect(0);
}

#[test]
fn a_dry_run_writes_nothing_at_all() {
    let garden = Garden::needing(&RELEASES, "rain-ledger = \"2\"");
    for args in [
        &["install", "--dry-run"][..],
        &["need", "soil-curve", "--dry-run"],
        &["resolve", "--dry-run"],
        &["drop", "rain-ledger", "--dry-run"],
    ] {
        garden.run(args).expect(0);
    }
    let left: Vec<_> =
        std::fs::read_dir(garden.path("gate")).unwrap().flatten().map(|e| e.file_name()).collect();
    assert_eq!(left, ["bibliotax.toml"]);
    assert!(!garden.path("store").exists());
}

#[test]
fn what_is_damaged_is_found_and_put_right() {
    let garden = Garden::needing(&RELEASES, "rain-ledger = \"2\"\nprobe-sim = \"any\"");
    garden.run(&["install"]).expect(0);
    let shelf = garden.shelf();
    let rain = garden.path("gate/shelf/rain-ledger/rain-ledger.txt");
    std::fs::remove_file(&rain).unwrap();
    std::fs::write(&rain, "rain-ledger 9.9.9\n").unwrap();
    std::fs::remove_file(garden.path("gate/shelf/dew-point/dew-point.txt")).unwrap();
    garden.write("gate/shelf/probe-sim/extra.txt", "x");
    garden.write("gate/shelf/stray/x", "x");
    std::fs::remove_dir_all(garden.path("gate/shelf/bark-log")).unwrap();
    assert_snapshot!(garden.run(&["verify"]), @"
    shelf: 5 differences from what was installed (4 packages, 3 files)
      extra    of no package  stray
      missing  bark-log       bark-log.txt
      missing  dew-point      dew-point.txt
      extra    probe-sim      extra.txt
      changed  rain-ledger    rain-ledger.txt
    next: `bibliotax verify --repair` restores the files
    ----- status 1
    ");
    assert_eq!(
        garden.run(&["--format", "json", "verify"]).expect(1).json()["findings"].as_array().unwrap().len(),
        5
    );
    assert_eq!(
        garden.run(&["verify", "--repair"]).expect(74).code(),
        "disk.foreign",
        "it may be somebody's work"
    );
    std::fs::remove_dir_all(garden.path("gate/shelf/stray")).unwrap();
    garden.run(&["verify", "--repair"]).expect(0);
    garden.run(&["verify"]).expect(0);
    assert_eq!(garden.shelf(), shelf);
}

#[cfg(unix)]
#[test]
fn a_store_that_was_changed_through_the_shelf_is_mended_from_the_registry() {
    use std::os::unix::fs::PermissionsExt;
    let garden = Garden::needing(&RELEASES, "dew-point = \"1\"");
    garden.with_hard_links();
    let file = garden.path("gate/shelf/dew-point/dew-point.txt");
    assert_eq!(
        std::fs::metadata(&file).unwrap().permissions().mode() & 0o222,
        0,
        "files on the shelf are read-only"
    );
    std::fs::set_permissions(&file, std::fs::Permissions::from_mode(0o644)).unwrap();
    std::fs::write(&file, "hacked\n").unwrap();
    garden.run(&["verify"]).expect(1);
    let repaired = garden.run(&["verify", "--repair"]).expect(0);
    assert!(repaired.stderr.contains("is damaged in the store"), "{repaired}");
    garden.run(&["verify"]).expect(0);
    assert_eq!(garden.shelf(), ["dew-point 1.4.0"]);
}

#[test]
fn a_withdrawn_release_stays_where_it_is_locked_and_is_not_chosen_anew() {
    let garden = Garden::needing(&RELEASES, "dew-point = \"1\"");
    garden.run(&["install"]).expect(0);
    garden.publish(&["dew-point 1.3.0"]);
    garden.load("{\"event\":\"withdrawn\",\"name\":\"dew-point\",\"version\":\"1.4.0\",\"reason\":\"leaks\",\"at\":\"2026-04-01T09:00:00Z\"}\n");
    std::fs::remove_dir_all(garden.path("gate/shelf")).unwrap();
    assert_snapshot!(garden.run(&["install"]), @"
    shelf: 1 package installed (TIME)
    ----- stderr
    warning: dew-point 1.4.0 was withdrawn (leaks); it stays because the lock has it
    ----- status 0
    ");
    std::fs::remove_file(garden.path("gate/bibliotax.lock")).unwrap();
    garden.run(&["install"]).expect(0);
    assert_eq!(garden.shelf(), ["dew-point 1.3.0"]);
}
