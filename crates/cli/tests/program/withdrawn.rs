//! Releases that were withdrawn: who has one stays with it for now, leaves it when asked to, and nobody is led to one.

use crate::garden::{Garden, MANIFEST};

const RELEASES: [&str; 4] = [
    "rain-ledger 2.4.0: dew-point 1",
    "rain-ledger 3.0.0: dew-point 2",
    "dew-point 1.4.0",
    "dew-point 2.0.0",
];

/// Withdraws a release after it was published.
fn withdraw(garden: &Garden, package: &str, version: &str) {
    garden.run(&["withdraw", package, version, "--reason", "leaks"]).expect(0);
}

#[test]
fn an_update_by_name_leaves_a_withdrawn_release_for_an_older_one() {
    let garden = Garden::needing(&["dew-point 1.3.0", "dew-point 1.4.0"], "dew-point = \"1\"");
    garden.run(&["install"]).expect(0);
    withdraw(&garden, "dew-point", "1.4.0");
    garden.run(&["update", "dew-point"]).expect(0);
    assert_eq!(garden.shelf(), ["dew-point 1.3.0"]);
}

#[test]
fn an_update_by_name_stays_with_a_withdrawn_release_where_there_is_no_other() {
    let garden = Garden::needing(&["dew-point 1.4.0"], "dew-point = \"1\"");
    garden.run(&["install"]).expect(0);
    withdraw(&garden, "dew-point", "1.4.0");
    garden.run(&["update", "dew-point"]).expect(0);
    assert_eq!(garden.shelf(), ["dew-point 1.4.0"]);
}

#[test]
fn no_way_out_of_a_conflict_leads_to_a_withdrawn_release() {
    let garden = Garden::needing(&RELEASES, "rain-ledger = \"3\"\ndew-point = \"2\"");
    garden.run(&["install"]).expect(0);
    garden.write("gate/bibliotax.toml", &format!("{MANIFEST}rain-ledger = \"2\"\ndew-point = \"2\"\n"));
    let open = garden.run(&["resolve", "--dry-run"]).expect(4).stderr;
    assert!(open.contains("changes rain-ledger to 3.0.0"), "{open}");
    withdraw(&garden, "rain-ledger", "3.0.0");
    let ran = garden.run(&["resolve", "--dry-run"]).expect(4).stderr;
    assert!(
        !ran.contains("changes rain-ledger to 3.0.0") && ran.contains("changes dew-point to 1.4.0"),
        "{ran}"
    );
}

#[test]
fn whoever_looks_at_a_project_hears_of_releases_that_do_not_stand_any_more() {
    let garden =
        Garden::needing(&["dew-point 1.4.0", "bark-log 1.0.0"], "dew-point = \"1\"\nbark-log = \"1\"");
    garden.run(&["install"]).expect(0);
    withdraw(&garden, "dew-point", "1.4.0");
    garden.run(&["deprecate", "bark-log", "1", "--reason", "quiet", "--instead", "dew-point"]).expect(0);
    let (withdrawn, deprecated) =
        ("dew-point 1.4.0 was withdrawn (leaks)", "bark-log 1.0.0 is deprecated (quiet)");
    for args in [&["install"][..], &["check"], &["graph"], &["ready"]] {
        let ran = garden.run(args).expect(0);
        let said = ran.stdout + &ran.stderr;
        assert!(said.contains(withdrawn) && said.contains(deprecated), "{args:?}: {said}");
    }
    assert!(!garden.run(&["install"]).expect(0).stderr.contains(withdrawn), "once a day is enough");
    let tomorrow =
        garden.command("gate", &["install"]).env("SOURCE_DATE_EPOCH", "1772455600").output().unwrap();
    assert!(String::from_utf8_lossy(&tomorrow.stderr).contains(withdrawn));
    let ran = garden.run(&["explain", "dew-point"]).expect(0).stdout;
    assert!(ran.contains(withdrawn) && !ran.contains("no newer release"), "{ran}");
}

#[test]
fn news_of_releases_is_told_without_asking_anybody() {
    let garden = Garden::with(&["dew-point 1.3.0", "dew-point 1.4.0"]);
    let served = crate::server::serve(&garden);
    crate::served::project(&garden, "gate", &served.url, "gate-kiosk", "1.0.0");
    garden.run(&["need", "dew-point", "1"]).expect(0);
    let manifest = garden.read("gate/bibliotax.toml").replace(&served.url, "../seedhouse");
    garden.write("keeper/bibliotax.toml", &manifest);
    garden.run_in("keeper", &["withdraw", "dew-point", "1.4.0", "--reason", "leaks"]).expect(0);
    assert!(garden.run(&["newer"]).expect(0).stdout.contains("withdrawn"), "the last look says so");
    drop(served);
    let ran = garden.run(&["install"]).expect(0).stderr;
    assert!(ran.contains("dew-point 1.4.0 was withdrawn"), "{ran}");
}

#[test]
fn what_is_newer_is_told_where_no_update_leads_anywhere() {
    let garden =
        Garden::needing(&["dew-point 1.4.0", "bark-log 1.0.0"], "dew-point = \"1\"\nbark-log = \"1\"");
    garden.run(&["install"]).expect(0);
    garden.publish(&["bark-log 2.0.0"]);
    withdraw(&garden, "dew-point", "1.4.0");
    let ran = garden.run(&["newer"]).expect(0);
    assert!(ran.stdout.contains("withdrawn") && ran.stdout.contains("2.0.0"), "{ran}");
    assert!(ran.stderr.contains("an update isn't possible now") && ran.stderr.contains("dew-point"), "{ran}");
}

#[test]
fn a_registry_s_folder_is_enough_to_withdraw_from_it() {
    let garden = Garden::with(&["dew-point 1.4.0"]);
    for args in [
        &["withdraw", "dew-point", "1.4.0", "--reason", "leaks"][..],
        &["withdraw", "dew-point", "1.4.0", "--undo"],
        &["deprecate", "dew-point", "1", "--reason", "old"],
    ] {
        garden.run_in(".", &[args, &["--registry", "./seedhouse"]].concat()).expect(0);
        assert_eq!(garden.run_in(".", args).expect(3).code(), "manifest.missing");
    }
}
