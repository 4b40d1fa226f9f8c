//! `need`, `drop`, `update`, `install` and `init`.

use std::fs;

use bibliotax_app::change::PlannedChange;
use bibliotax_app::shelf::ShelfOptions;
use bibliotax_app::{drop, init, install, need, update};

use crate::garden::Garden;

const RELEASES: [&str; 5] = [
    "rain-ledger 2.4.0: dew-point 1",
    "rain-ledger 3.0.0: dew-point 2",
    "dew-point 1.4.0",
    "dew-point 1.5.0",
    "dew-point 2.0.0",
];

fn words(words: &[&str]) -> Vec<String> {
    words.iter().map(ToString::to_string).collect()
}

fn needing(of: &[&str]) -> need::Request {
    need::Request { words: words(of), ..need::Request::default() }
}

/// The packages of a change's new lock.
fn locked(change: &PlannedChange) -> Vec<String> {
    change.lock().packages.iter().map(|package| format!("{} {}", package.name, package.version)).collect()
}

#[test]
fn a_need_is_planned_without_a_change_and_applied_as_planned() {
    let garden = Garden::new(&RELEASES, "");
    let before = garden.read("gate/bibliotax.toml");
    let plan = need::plan(&needing(&["rain-ledger", "2"]), &garden.context()).unwrap();
    assert_eq!(locked(&plan.change), ["dew-point 1.5.0", "rain-ledger 2.4.0"]);
    assert_eq!(plan.declared[0].lines[0].line, "rain-ledger = \"2\"");
    assert_eq!(garden.read("gate/bibliotax.toml"), before);
    assert!(garden.shelf().is_empty());
    let applied = plan.change.apply(&ShelfOptions::default(), &garden.context()).unwrap();
    assert_eq!((applied.installed.built, applied.installed.fetched.archives), (2, 2));
    assert_eq!(garden.shelf(), ["dew-point 1.5.0", "rain-ledger 2.4.0"]);
    assert!(garden.read("gate/bibliotax.toml").contains("rain-ledger = \"2\""));
}

#[test]
fn a_need_without_a_range_takes_the_newest_and_says_what_it_passed_over() {
    let garden = Garden::new(&RELEASES, "dew-point = \"1\"");
    let plan = need::plan(&needing(&["rain-ledger"]), &garden.context()).unwrap();
    assert_eq!(locked(&plan.change), ["dew-point 1.5.0", "rain-ledger 2.4.0"]);
    assert_eq!(plan.passed_over.len(), 1);
    assert_eq!(plan.declared[0].lines[0].line, "rain-ledger = \"2.4 .. 3\"");
}

#[test]
fn a_conflict_changes_nothing_and_has_ways_out() {
    let garden = Garden::new(&RELEASES, "rain-ledger = \"2\"");
    let before = garden.read("gate/bibliotax.toml");
    let failure = need::plan(&needing(&["dew-point", "2"]), &garden.context()).err().unwrap();
    assert_eq!(failure.code, "resolve.conflict");
    assert!(!failure.unsolved.unwrap().ways.is_empty());
    assert_eq!(garden.read("gate/bibliotax.toml"), before);
    assert!(!garden.path("gate/bibliotax.lock").exists());
}

#[test]
fn a_drop_keeps_what_others_need() {
    let garden = Garden::new(&RELEASES, "rain-ledger = \"2\"\ndew-point = \"1\"");
    let change = install_all(&garden);
    assert_eq!(change, 2);
    let request = drop::Request { packages: words(&["dew-point"]), ..drop::Request::default() };
    let plan = drop::plan(&request, &garden.context()).unwrap();
    let stay: Vec<String> = plan.stay().iter().map(|stays| stays.package.to_string()).collect();
    assert_eq!(stay, ["dew-point"]);
    plan.change.apply(&ShelfOptions::default(), &garden.context()).unwrap();
    assert!(!garden.read("gate/bibliotax.toml").contains("dew-point"));
    assert_eq!(garden.shelf(), ["dew-point 1.5.0", "rain-ledger 2.4.0"]);
}

#[test]
fn an_update_moves_what_is_named_and_nothing_else() {
    let garden = Garden::new(&RELEASES[..3], "rain-ledger = \"2\"\ndew-point = \"1\"");
    install_all(&garden);
    garden.publish(&["rain-ledger 2.5.0: dew-point 1", "dew-point 1.6.0"]);
    let request = update::Request { packages: words(&["rain-ledger"]), ..update::Request::default() };
    let plan = update::plan(&request, &garden.context()).unwrap();
    assert_eq!(locked(&plan.change), ["dew-point 1.4.0", "rain-ledger 2.5.0"]);
    assert!(plan.forced.is_empty());
}

#[test]
fn an_install_is_up_to_date_the_second_time() {
    let garden = Garden::new(&RELEASES, "rain-ledger = \"2\"");
    install_all(&garden);
    let request = install::Request::default();
    let plan = install::plan(&request, &garden.context()).unwrap();
    assert!(matches!(plan, install::Plan::UpToDate(up_to_date) if up_to_date.kept == 2));
    fs::remove_dir_all(garden.path("gate/shelf/dew-point")).unwrap();
    let install::Plan::Locked(plan) = install::plan(&request, &garden.context()).unwrap() else {
        panic!("a package is missing");
    };
    let changes = plan.shelf_changes(&garden.context()).unwrap();
    assert_eq!(changes.build[0].package.as_str(), "dew-point");
    let done = plan.apply(&garden.context()).unwrap();
    assert_eq!((done.applied.installed.built, done.applied.installed.fetched.archives), (1, 0));
    assert_eq!(garden.shelf(), ["dew-point 1.5.0", "rain-ledger 2.4.0"]);
}

#[test]
fn a_sealed_install_needs_a_lock_that_is_right() {
    let garden = Garden::new(&RELEASES, "rain-ledger = \"2\"");
    let request = install::Request { is_sealed: true, ..install::Request::default() };
    assert_eq!(install::plan(&request, &garden.context()).err().unwrap().code, "lock.missing");
    install_all(&garden);
    let changed = garden.read("gate/bibliotax.toml").replace("\"2\"", "\"3\"");
    garden.write("gate/bibliotax.toml", &changed);
    assert_eq!(install::plan(&request, &garden.context()).err().unwrap().code, "lock.stale");
}

#[test]
fn init_plans_a_manifest_and_refuses_a_second() {
    let garden = Garden::new(&[], "");
    let request = init::Request::default();
    assert_eq!(init::plan(&request, &garden.context()).err().unwrap().code, "init.exists");
    fs::remove_file(garden.path("gate/bibliotax.toml")).unwrap();
    let plan = init::plan(&request, &garden.context()).unwrap();
    assert!(plan.text.contains("name = \"gate\""));
    assert!(!garden.path("gate/bibliotax.toml").exists());
    plan.apply().unwrap();
    assert!(garden.path("gate/bibliotax.toml").exists());
}

/// Resolves and installs; how many packages were built.
fn install_all(garden: &Garden) -> usize {
    let context = garden.context();
    match install::plan(&install::Request::default(), &context).unwrap() {
        install::Plan::Resolved(plan) => plan.apply(&context).unwrap().installed.built,
        install::Plan::Locked(plan) => plan.apply(&context).unwrap().applied.installed.built,
        install::Plan::UpToDate(_) => 0,
    }
}
