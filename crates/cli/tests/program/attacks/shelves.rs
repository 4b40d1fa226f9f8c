//! Links and other people's folders where a shelf, or something of it, should be: committed in a clone, or there before.

use std::fs;
use std::os::unix::fs::symlink;
use std::process::Command;

use insta::assert_snapshot;

use crate::garden::Garden;

/// Every command that brings a shelf somewhere, or writes beside it.
const COMMANDS: [&[&str]; 9] = [
    &["install", "--sealed"],
    &["install"],
    &["need", "soil-curve"],
    &["drop", "rain-ledger"],
    &["update"],
    &["verify", "--repair"],
    &["with", "--", "true"],
    &["task", "greet"],
    &["steps"],
];

/// A clone with a lock and without a shelf, and a folder beside it that is nobody's business.
fn clone() -> Garden {
    let releases = ["rain-ledger 2.4.0: dew-point 1", "dew-point 1.4.0", "soil-curve 1.7.0"];
    let garden =
        Garden::needing(&releases, "rain-ledger = \"2\"\n[tasks]\ngreet = \"true\"\n[targets.kiosk]");
    garden.run(&["install"]).expect(0);
    fs::remove_dir_all(garden.path("gate/shelf")).unwrap();
    for file in ["gold.txt", "rain-ledger/notes.txt", "links/map.txt", "kiosk/mine.txt"] {
        garden.write(&format!("treasure/{file}"), "mine\n");
    }
    garden
}

/// All that is in the folder that nobody may touch.
fn treasure(garden: &Garden) -> Vec<String> {
    garden.everything_below("treasure", &[])
}

#[test]
fn a_link_where_a_folder_of_ours_should_be_is_refused_by_every_command() {
    for place in ["shelf", "shelf/links", "shelf/kiosk", "shelf/.work", "shelf/.lock"] {
        let garden = clone();
        let before = treasure(&garden);
        let made = garden.path("gate").join(place);
        fs::create_dir_all(made.parent().unwrap()).unwrap();
        let target = if place == "shelf/.lock" { "../../treasure/new" } else { "../treasure" };
        let target = if place.contains('/') && !target.contains("new") { "../../treasure" } else { target };
        symlink(target, &made).unwrap();
        for args in COMMANDS {
            let ran = garden.run(args);
            assert_eq!(treasure(&garden), before, "{args:?} over {place}: {ran}");
            assert!(ran.status != 0 || args == ["steps"], "{args:?} over {place}: {ran}");
            if args[0] == "install" {
                assert_eq!((ran.status, ran.code()), (74, "disk.foreign"), "{args:?} over {place}: {ran}");
            }
        }
        assert!(fs::symlink_metadata(&made).unwrap().is_symlink(), "{place} is left as it was");
        fs::remove_file(&made).unwrap();
        garden.run(&["install", "--sealed"]).expect(0);
    }
}

#[test]
fn a_link_that_a_clone_brings_along_is_refused() {
    let garden = clone();
    let before = treasure(&garden);
    let git = |folder: &str, args: &[&str]| {
        let mut git = Command::new("git");
        git.args(["-c", "user.name=a", "-c", "user.email=a@garden.example"]).args(args);
        assert!(
            git.current_dir(garden.path(folder))
                .env("HOME", garden.path("home"))
                .output()
                .unwrap()
                .status
                .success()
        );
    };
    symlink("../treasure", garden.path("gate/shelf")).unwrap();
    git("gate", &["init", "--quiet"]);
    git("gate", &["add", "--force", "."]);
    git("gate", &["commit", "--quiet", "--message", "harmless"]);
    git(".", &["clone", "--quiet", "gate", "cloned"]);
    assert_snapshot!(garden.run_in("cloned", &["install", "--sealed"]), @"
    ----- stderr
    error: can't use GARDEN/cloned/shelf: it is a link, and links are not followed there  (disk.foreign)
    try: move it away or delete it, then run the command again
    ----- status 74
    ");
    assert_eq!(treasure(&garden), before);
}

#[test]
fn a_folder_that_was_never_ours_is_left_alone() {
    let garden = clone();
    garden.write("gate/shelf/notes.txt", "mine\n");
    garden.write("gate/shelf/rain-ledger/more.txt", "mine\n");
    assert_snapshot!(garden.run(&["install", "--sealed"]), @"
    ----- stderr
    error: can't use GARDEN/gate/shelf: bibliotax didn't create it  (disk.foreign)
    try: move it away or delete it, then run the command again
    ----- status 74
    ");
    for args in COMMANDS {
        let ran = garden.run(args);
        assert!(ran.status != 0 || args == ["steps"], "{args:?}: {ran}");
    }
    let mut names: Vec<_> =
        fs::read_dir(garden.path("gate/shelf")).unwrap().map(|entry| entry.unwrap().file_name()).collect();
    names.sort();
    assert_eq!(names, ["notes.txt", "rain-ledger"], "not even a lock was installed");
    assert_eq!(garden.read("gate/shelf/rain-ledger/more.txt"), "mine\n");
}

#[test]
fn what_somebody_puts_on_a_shelf_stays_until_they_take_it_away() {
    let garden = clone();
    garden.run(&["install"]).expect(0);
    for place in ["shelf/notes.txt", "shelf/kiosk/soil-curve/mine.txt", "shelf/links/map.txt"] {
        garden.write(&format!("gate/{place}"), "mine\n");
        let ran = garden.run(&["install"]).expect(74);
        assert_eq!(ran.code(), "disk.foreign", "{place}: {ran}");
        let ran = garden.run(&["need", "soil-curve"]);
        assert_eq!((ran.status, ran.code()), (74, "disk.foreign"), "{place}: {ran}");
        assert_eq!(garden.read(&format!("gate/{place}")), "mine\n");
        fs::remove_file(garden.path("gate").join(place)).unwrap();
        let _ = fs::remove_dir(garden.path("gate/shelf/kiosk/soil-curve"));
    }
    garden.run(&["install"]).expect(0);
}

#[test]
fn a_link_where_the_ticks_should_be_is_refused() {
    let garden = clone();
    let before = treasure(&garden);
    let card = serde_json::json!({ "name": "night-frost", "version": "1.0.0", "published": "2026-03-01T09:00:00Z",
        "license": "MIT", "steps": [{ "id": "calibrate", "text": "Hold it into fog." }] });
    garden.load(&format!("{card}\n"));
    garden.run(&["need", "night-frost"]).expect(0);
    symlink("../treasure", garden.path("gate/bibliotax.steps")).unwrap();
    let ran = garden.run(&["steps", "done", "calibrate"]);
    assert_eq!((ran.status, ran.code()), (74, "disk.foreign"), "{ran}");
    assert_eq!(treasure(&garden), before);
}

#[test]
fn a_link_in_place_of_a_folder_of_the_store_is_refused() {
    let garden = clone();
    let before = treasure(&garden);
    fs::remove_dir_all(garden.path("store")).unwrap();
    for place in ["trees", "incoming", "used-by", "registries"] {
        fs::create_dir_all(garden.path("store")).unwrap();
        symlink("../treasure", garden.path("store").join(place)).unwrap();
        let ran = garden.run(&["install", "--sealed"]);
        assert_eq!((ran.status, ran.code()), (74, "disk.foreign"), "{place}: {ran}");
        assert_eq!(treasure(&garden), before, "{place}");
        fs::remove_dir_all(garden.path("store")).unwrap();
    }
}

#[test]
fn a_shelf_that_came_with_a_clone_is_never_taken_for_one_that_was_installed_here() {
    let garden = clone();
    garden.run(&["install"]).expect(0);
    // As an archive would bring it: every byte and every time as it was, but for one file.
    let copied = Command::new("cp").args(["-a", "gate", "copied"]).current_dir(garden.path(".")).status();
    assert!(copied.unwrap().success());
    let file = garden.path("copied/shelf/kiosk/dew-point/dew-point.txt");
    let before = fs::metadata(&file).unwrap().modified().unwrap();
    fs::remove_file(&file).unwrap();
    fs::write(&file, "dew-point 6.6.6\n").unwrap();
    fs::File::options().write(true).open(&file).unwrap().set_modified(before).unwrap();
    let folder = fs::File::open(garden.path("copied/shelf/kiosk/dew-point")).unwrap();
    let time = fs::metadata(garden.path("gate/shelf/kiosk/dew-point")).unwrap().modified().unwrap();
    folder.set_modified(time).unwrap();
    garden.run_in("copied", &["with", "--", "true"]).expect(0);
    assert_eq!(garden.read("copied/shelf/kiosk/dew-point/dew-point.txt"), "dew-point 1.4.0\n");
}
