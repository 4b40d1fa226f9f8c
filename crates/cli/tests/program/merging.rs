//! Two people change manifests and locks on branches, and git merges: with our driver, and after a stop without it.

use std::process::Command;

use crate::garden::Garden;
use crate::sources::git;

const RELEASES: [&str; 10] = [
    "dew-point 1.0.0",
    "dew-point 1.4.0",
    "dew-point 1.5.0",
    "dew-point 2.0.0",
    "moss-map 1.0.0: dew-point 1",
    "moss-map 1.2.0: dew-point 1",
    "bark-log 1.0.0",
    "bark-log 1.1.0",
    "rain-ledger 2.4.0: dew-point 1",
    "soil-curve 1.0.0",
];

/// A garden that is a repository, with what it needs at the lowest versions.
pub fn repository(needs: &str) -> Garden {
    let garden = Garden::needing(&RELEASES, needs);
    garden.run(&["resolve", "--prefer", "oldest", "--quiet"]).expect(0);
    garden.write(".gitignore", "store\nhome\nseedhouse\ngate/shelf\ngate/links\n");
    git(&garden, ".", &["init", "-q", "-b", "main"]);
    save(&garden, "begin");
    garden
}

pub fn save(garden: &Garden, message: &str) {
    git(garden, ".", &["add", "-A"]);
    git(garden, ".", &["commit", "-q", "-m", message]);
}

/// Does something on a branch that begins at another.
pub fn on_branch(garden: &Garden, branch: &str, from: &str, change: impl FnOnce(&Garden)) {
    git(garden, ".", &["checkout", "-q", "-B", branch, from]);
    change(garden);
    save(garden, branch);
}

pub fn need(garden: &Garden, package: &str) {
    garden.run(&["need", package, "--quiet"]).expect(0);
}

/// Runs git with our program, as a person's git does; whether it went through, and what it printed.
fn merging(garden: &Garden, args: &[&str]) -> (bool, String) {
    let mut command: Command = garden.command(".", &[]);
    let environment: Vec<_> =
        command.get_envs().map(|(name, value)| (name.to_owned(), value.map(ToOwned::to_owned))).collect();
    command = Command::new("git");
    command.args(args).current_dir(garden.path("."));
    for (name, value) in environment {
        match value {
            Some(value) => command.env(name, value),
            None => command.env_remove(name),
        };
    }
    for who in ["AUTHOR", "COMMITTER"] {
        command
            .env(format!("GIT_{who}_NAME"), "Moss")
            .env(format!("GIT_{who}_EMAIL"), "moss@fernhollow.example");
    }
    command.env("GIT_CONFIG_GLOBAL", "/dev/null").env("GIT_CONFIG_NOSYSTEM", "1").env("GIT_EDITOR", "true");
    let output = command.output().unwrap();
    let text =
        format!("{}{}", String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr));
    (output.status.success(), text)
}

fn set_up(garden: &Garden) {
    garden.run(&["merge", "--set-up"]).expect(0);
    save(garden, "merge by meaning");
}

/// The versions in the lock, as `name version`; the lock has to be made from the manifest.
#[track_caller]
fn locked(garden: &Garden) -> Vec<String> {
    garden.run(&["install", "--sealed", "--quiet"]).expect(0);
    let lock: serde_json::Value = serde_json::from_str(&garden.read("gate/bibliotax.lock")).unwrap();
    let packages = lock["packages"].as_array().unwrap().iter();
    let shown = |one: &serde_json::Value| {
        format!("{} {}", one["name"].as_str().unwrap(), one["version"].as_str().unwrap())
    };
    packages.map(shown).collect()
}

#[test]
fn git_merges_disjoint_changes_of_two_branches_without_a_person() {
    let garden = repository("dew-point = \"1\"\nmoss-map = \"1\"\nbark-log = \"1\"");
    set_up(&garden);
    on_branch(&garden, "one", "main", |garden| need(garden, "rain-ledger"));
    on_branch(&garden, "two", "main", |garden| {
        garden.run(&["need", "soil-curve", "--quiet"]).expect(0);
        garden.run(&["update", "bark-log", "--quiet"]).expect(0);
    });
    let (went, said) = merging(&garden, &["merge", "-q", "--no-edit", "one"]);
    assert!(went, "{said}");
    assert_eq!(
        locked(&garden),
        ["bark-log 1.1.0", "dew-point 1.0.0", "moss-map 1.0.0", "rain-ledger 2.4.0", "soil-curve 1.0.0"]
    );
    let manifest = garden.read("gate/bibliotax.toml");
    assert!(manifest.contains("rain-ledger = ") && manifest.contains("soil-curve = "), "{manifest}");
    assert_eq!(git(&garden, ".", &["status", "--porcelain"]), "", "nothing is left to do");
}

#[test]
fn of_what_both_moved_the_newer_is_taken_and_told() {
    let garden = repository("dew-point = \"1\"\nmoss-map = \"1\"");
    set_up(&garden);
    let moved = |range: &'static str| {
        move |garden: &Garden| {
            let manifest = garden.read("gate/bibliotax.toml");
            garden.write(
                "gate/bibliotax.toml",
                &manifest.replace("dew-point = \"1\"", &format!("dew-point = \"{range}\"")),
            );
            garden.run(&["resolve", "--prefer", "oldest", "--quiet"]).expect(0);
            garden.write("gate/bibliotax.toml", &manifest);
            garden.run(&["resolve", "--quiet"]).expect(0);
        }
    };
    on_branch(&garden, "one", "main", moved("1.4 .. 2"));
    on_branch(&garden, "two", "main", moved("1.5 .. 2"));
    let (went, said) = merging(&garden, &["merge", "--no-edit", "one"]);
    assert!(went && said.contains("dew-point 1.5.0 of ours: newer than 1.4.0 of theirs"), "{said}");
    assert_eq!(locked(&garden), ["dew-point 1.5.0", "moss-map 1.0.0"]);
}

#[test]
fn one_key_that_both_changed_stops_at_its_line_and_merge_goes_on_after_it() {
    let garden = repository("dew-point = \"1\"\nmoss-map = \"1\"");
    set_up(&garden);
    let needing = |range: &'static str, more: &'static str| {
        move |garden: &Garden| {
            let manifest = garden.read("gate/bibliotax.toml");
            let manifest = manifest.replace("dew-point = \"1\"", &format!("dew-point = \"{range}\"\n{more}"));
            garden.write("gate/bibliotax.toml", &manifest);
            garden.run(&["resolve", "--quiet"]).expect(0);
        }
    };
    on_branch(&garden, "one", "main", needing("1.4 .. 2", "rain-ledger = \"2\""));
    on_branch(&garden, "two", "main", needing("1.5 .. 2", "soil-curve = \"1\""));
    let (went, said) = merging(&garden, &["merge", "--no-edit", "one"]);
    assert!(!went && said.contains("both sides changed needs.dew-point"), "{said}");
    let manifest = garden.read("gate/bibliotax.toml");
    let marked =
        "<<<<<<< ours\ndew-point = \"1.5 .. 2\"\n=======\ndew-point = \"1.4 .. 2\"\n>>>>>>> theirs\n";
    assert!(
        manifest.contains(marked) && manifest.contains("rain-ledger") && manifest.contains("soil-curve"),
        "{manifest}"
    );
    let told = garden.run(&["install"]).expect(3);
    assert!(told.stderr.contains("bibliotax merge"), "{told}");
    garden.write("gate/bibliotax.toml", &manifest.replace(marked, "dew-point = \"1.5 .. 2\"\n"));
    git(&garden, ".", &["add", "gate/bibliotax.toml"]);
    garden.run(&["merge"]).expect(0);
    assert_eq!(
        locked(&garden),
        ["dew-point 1.5.0", "moss-map 1.0.0", "rain-ledger 2.4.0", "soil-curve 1.0.0"]
    );
    git(&garden, ".", &["commit", "-q", "--no-edit"]);
    assert_eq!(git(&garden, ".", &["status", "--porcelain"]), "");
}

#[test]
fn without_the_driver_merge_finishes_what_git_stopped_at() {
    let garden = repository("dew-point = \"1\"\nmoss-map = \"1\"");
    on_branch(&garden, "one", "main", |garden| need(garden, "rain-ledger"));
    on_branch(&garden, "two", "main", |garden| need(garden, "soil-curve"));
    let (went, said) = merging(&garden, &["merge", "--no-edit", "one"]);
    assert!(!went, "{said}");
    for command in ["install", "check", "ready"] {
        let told = garden.run(&[command]);
        assert!(told.stderr.contains("bibliotax merge"), "{command}: {told}");
    }
    let tried = garden.run(&["merge", "--dry-run"]).expect(0);
    assert!(tried.stdout.contains("would merge gate/bibliotax.toml"), "{tried}");
    assert!(garden.read("gate/bibliotax.toml").contains("<<<<<<<"), "nothing was written");
    // Another git is at work, or was killed.
    garden.write(".git/index.lock", "");
    assert_eq!(garden.run(&["merge"]).code(), "git.refused");
    std::fs::remove_file(garden.path(".git/index.lock")).unwrap();
    let merged = garden.run(&["merge", "--format", "json"]).expect(0).json();
    assert_eq!((&merged["ours"], &merged["theirs"]), (&"two".into(), &"one".into()), "{merged}");
    assert_eq!(
        locked(&garden),
        ["dew-point 1.0.0", "moss-map 1.0.0", "rain-ledger 2.4.0", "soil-curve 1.0.0"]
    );
    git(&garden, ".", &["commit", "-q", "--no-edit"]);
    assert_eq!(git(&garden, ".", &["status", "--porcelain"]), "");
    assert!(garden.run(&["merge"]).expect(0).stdout.contains("nothing to merge"));
}

#[test]
fn rebases_and_picks_of_many_commits_go_through() {
    let garden = repository("dew-point = \"1\"");
    set_up(&garden);
    git(&garden, ".", &["checkout", "-q", "-b", "one"]);
    for package in ["moss-map", "bark-log", "rain-ledger", "soil-curve"] {
        garden.run(&["need", package, "--quiet"]).expect(0);
        save(&garden, package);
    }
    for version in ["1.4", "1.5"] {
        garden.run(&["update", "dew-point", "--quiet"]).expect(0);
        git(&garden, ".", &["commit", "-q", "-a", "--allow-empty", "-m", version]);
    }
    on_branch(&garden, "main", "main", |garden| {
        let manifest = garden.read("gate/bibliotax.toml");
        garden.write("gate/bibliotax.toml", &format!("# ours\n{manifest}\nbark-log = \"1.0 .. 1.1\"\n"));
        garden.run(&["resolve", "--quiet"]).expect(0);
    });
    git(&garden, ".", &["checkout", "-q", "one"]);
    let (went, said) = merging(&garden, &["rebase", "-q", "main"]);
    // Both need bark-log, each in its own range: that is for a person to say.
    assert!(!went && said.contains("both sides changed needs.bark-log"), "{said}");
    let manifest = garden.read("gate/bibliotax.toml");
    let line =
        manifest.lines().find(|line| line.starts_with("bark-log") && line.contains("..")).unwrap().to_owned();
    let begin = manifest.find("<<<<<<<").unwrap();
    let end = manifest.find(">>>>>>>").unwrap();
    let end = end + manifest[end..].find('\n').unwrap() + 1;
    garden.write("gate/bibliotax.toml", &format!("{}{line}\n{}", &manifest[..begin], &manifest[end..]));
    git(&garden, ".", &["add", "gate/bibliotax.toml"]);
    garden.run(&["merge"]).expect(0);
    let (went, said) = merging(&garden, &["-c", "core.editor=true", "rebase", "--continue"]);
    assert!(went, "{said}");
    let names: Vec<String> = locked(&garden);
    assert_eq!(
        names,
        ["bark-log 1.0.0", "dew-point 1.5.0", "moss-map 1.2.0", "rain-ledger 2.4.0", "soil-curve 1.0.0"]
    );
    // Each commit on the way has a lock that is made from its manifest.
    for back in 1..4 {
        git(&garden, ".", &["checkout", "-q", &format!("one~{back}")]);
        garden.run(&["install", "--sealed", "--quiet"]).expect(0);
    }
    git(&garden, ".", &["checkout", "-q", "-b", "two", "main"]);
    let (went, said) = merging(&garden, &["cherry-pick", "one~2"]);
    assert!(went, "{said}");
    locked(&garden);
}

#[test]
fn what_is_set_up_is_told_first_and_taken_back() {
    let garden = repository("dew-point = \"1\"");
    garden.write("gate/.gitattributes", "*.png binary\n");
    let tried = garden.run(&["merge", "--set-up", "--dry-run"]).expect(0);
    assert!(
        tried.stdout.contains("would add to .gitattributes")
            || tried.stderr.contains("would add to .gitattributes"),
        "{tried}"
    );
    assert_eq!(garden.read("gate/.gitattributes"), "*.png binary\n");
    garden.run(&["merge", "--set-up"]).expect(0);
    assert!(garden.read("gate/.gitattributes").starts_with("*.png binary\nbibliotax.toml merge=bibliotax\n"));
    assert!(git(&garden, ".", &["config", "merge.bibliotax.driver"]).ends_with("merge --driver %O %A %B %P"));
    assert!(garden.run(&["ready"]).expect(0).stdout.contains("are merged by meaning"));
    // A colleague has the attributes, and not the configuration.
    git(&garden, ".", &["config", "--remove-section", "merge.bibliotax"]);
    let colleague = garden.run(&["ready"]).expect(1);
    assert!(colleague.stdout.contains("`bibliotax merge --set-up` once"), "{colleague}");
    garden.run(&["merge", "--set-up"]).expect(0);
    let again = garden.run(&["merge", "--set-up"]).expect(0);
    assert!(again.stdout.contains("nothing to do") || again.stderr.contains("nothing to do"), "{again}");
    garden.run(&["merge", "--undo"]).expect(0);
    assert_eq!(garden.read("gate/.gitattributes"), "*.png binary\n");
    assert!(!garden.read(".git/config").contains("bibliotax"), "{}", garden.read(".git/config"));
    let outside = Garden::needing(&["dew-point 1.0.0"], "dew-point = \"1\"");
    assert_eq!(outside.run(&["merge"]).code(), "merge.no-git");
}

#[test]
fn four_branches_a_criss_cross_and_an_octopus_go_through() {
    let garden = repository("dew-point = \"1\"");
    set_up(&garden);
    for (branch, package) in
        [("one", "moss-map"), ("two", "bark-log"), ("three", "rain-ledger"), ("four", "soil-curve")]
    {
        on_branch(&garden, branch, "main", |garden| need(garden, package));
    }
    // One and two take each other in before they go on: their next merge has two bases.
    git(&garden, ".", &["tag", "one-before", "one"]);
    for (branch, other) in [("one", "two"), ("two", "one-before")] {
        git(&garden, ".", &["checkout", "-q", branch]);
        let (went, said) = merging(&garden, &["merge", "-q", "--no-edit", other]);
        assert!(went, "{said}");
        garden.write(&format!("gate/{branch}.txt"), branch);
        save(&garden, "on its own");
    }
    let (went, said) = merging(&garden, &["merge", "-q", "--no-edit", "one"]);
    assert!(went, "{said}");
    assert_eq!(locked(&garden), ["bark-log 1.1.0", "dew-point 1.0.0", "moss-map 1.2.0"]);
    // With several branches at once, git asks no driver: it gives up and leaves all as it was.
    let (went, _) = merging(&garden, &["merge", "-q", "--no-edit", "three", "four"]);
    assert!(!went);
    git(&garden, ".", &["reset", "-q", "--hard"]);
    for branch in ["three", "four"] {
        let (went, said) = merging(&garden, &["merge", "-q", "--no-edit", branch]);
        assert!(went, "{said}");
    }
    assert_eq!(
        locked(&garden),
        ["bark-log 1.1.0", "dew-point 1.0.0", "moss-map 1.2.0", "rain-ledger 2.4.0", "soil-curve 1.0.0"]
    );
}

#[test]
fn what_was_stashed_comes_back_into_what_changed_meanwhile() {
    let garden = repository("dew-point = \"1\"");
    set_up(&garden);
    need(&garden, "moss-map");
    git(&garden, ".", &["stash", "-q"]);
    need(&garden, "bark-log");
    save(&garden, "meanwhile");
    let (went, said) = merging(&garden, &["stash", "pop"]);
    assert!(went, "{said}");
    assert_eq!(locked(&garden), ["bark-log 1.1.0", "dew-point 1.0.0", "moss-map 1.2.0"]);
}

#[test]
fn a_folder_that_was_renamed_a_lock_that_was_deleted_and_one_of_a_newer_format() {
    let garden = repository("dew-point = \"1\"");
    set_up(&garden);
    on_branch(&garden, "one", "main", |garden| need(garden, "moss-map"));
    on_branch(&garden, "moved", "main", |garden| {
        need(garden, "bark-log");
        git(garden, ".", &["mv", "gate", "door"]);
    });
    let (went, said) = merging(&garden, &["merge", "-q", "--no-edit", "one"]);
    assert!(went, "{said}");
    garden.run_in("door", &["install", "--quiet"]).expect(0);
    let lock = garden.read("door/bibliotax.lock");
    assert!(lock.contains("\"moss-map\"") && lock.contains("\"bark-log\""), "{lock}");

    on_branch(&garden, "gone", "main", |garden| {
        std::fs::remove_file(garden.path("gate/bibliotax.lock")).unwrap();
    });
    let (went, _) = merging(&garden, &["merge", "-q", "--no-edit", "one"]);
    assert!(!went, "git asks whether the lock is to go");
    garden.run(&["merge"]).expect(0);
    assert_eq!(locked(&garden), ["dew-point 1.0.0", "moss-map 1.2.0"]);
    git(&garden, ".", &["commit", "-q", "--no-edit"]);

    on_branch(&garden, "newer", "main", |garden| {
        let lock = garden.read("gate/bibliotax.lock");
        garden.write("gate/bibliotax.lock", &lock.replace("\"format\": 1", "\"format\": 2"));
    });
    let (went, said) = merging(&garden, &["merge", "-q", "--no-edit", "one"]);
    assert!(!went, "a lock of a newer version is not merged: {said}");
    assert_eq!(garden.run(&["merge"]).code(), "lock.newer");
}

#[test]
fn what_does_not_go_together_is_told_with_the_names_of_the_branches() {
    let garden = Garden::needing(
        &[
            "dew-point 1.0.0",
            "dew-point 2.0.0",
            "moss-map 1.0.0: dew-point 1",
            "soil-curve 1.0.0: dew-point 2",
            "bark-log 1.0.0",
        ],
        "bark-log = \"1\"",
    );
    garden.run(&["resolve", "--quiet"]).expect(0);
    garden.write(".gitignore", "store\nhome\nseedhouse\ngate/shelf\ngate/links\n");
    git(&garden, ".", &["init", "-q", "-b", "main"]);
    save(&garden, "begin");
    set_up(&garden);
    on_branch(&garden, "one", "main", |garden| need(garden, "moss-map"));
    on_branch(&garden, "two", "main", |garden| need(garden, "soil-curve"));
    let (_, said) = merging(&garden, &["merge", "-q", "--no-commit", "one"]);
    assert!(said.contains("isn't resolved yet"), "{said}");
    let told = garden.run(&["merge"]).expect(4);
    assert!(
        told.stderr.contains("two and one don't go together") && told.stderr.contains("dew-point"),
        "{told}"
    );
}

#[test]
fn without_a_network_a_merge_works_with_what_is_cached_or_is_completed_later() {
    let garden = repository("dew-point = \"1\"");
    let served = crate::server::serve(&garden);
    let manifest = garden.read("gate/bibliotax.toml").replace("../seedhouse", &served.url);
    garden.write("gate/bibliotax.toml", &manifest);
    garden.run(&["resolve", "--quiet"]).expect(0);
    save(&garden, "over the network");
    set_up(&garden);
    on_branch(&garden, "one", "main", |garden| need(garden, "moss-map"));
    on_branch(&garden, "two", "main", |garden| need(garden, "bark-log"));
    drop(served);
    git(&garden, ".", &["checkout", "-q", "-b", "three", "two"]);
    let (went, said) = merging(&garden, &["merge", "-q", "--no-edit", "one"]);
    assert!(went && !said.contains("isn't resolved yet"), "{said}");
    let lock = garden.read("gate/bibliotax.lock");
    git(&garden, ".", &["checkout", "-q", "-b", "four", "two"]);
    std::fs::remove_dir_all(garden.path("store")).unwrap();
    let (went, said) = merging(&garden, &["merge", "-q", "--no-edit", "one"]);
    assert!(went && said.contains("isn't resolved yet"), "{said}");
    let unfinished = garden.read("gate/bibliotax.lock");
    assert!(unfinished.contains("\"moss-map\"") && unfinished.contains("\"bark-log\""), "{unfinished}");
    assert_ne!(unfinished, lock);
}

#[test]
fn projects_of_a_workspace_at_the_top_are_merged_and_a_new_one_is_completed() {
    let garden = Garden::with(&RELEASES);
    garden.write(
        "bibliotax.toml",
        "[workspace]\nfolders = [\"beds/*\"]\n[registries]\nseedhouse = \"seedhouse\"\n[targets.kiosk]\nos = \"linux\"\n",
    );
    let project = |garden: &Garden, name: &str, needs: &str| {
        garden.write(
            &format!("beds/{name}/bibliotax.toml"),
            &format!("[project]\nname = \"{name}\"\n[targets.kiosk]\nos = \"linux\"\n[needs]\n{needs}\n"),
        );
    };
    project(&garden, "one", "dew-point = \"1\"");
    project(&garden, "two", "dew-point = \"1\"");
    garden.run_in(".", &["resolve", "--quiet"]).expect(0);
    garden.write(".gitignore", "store\nhome\nseedhouse\ngate\nshelf\nlinks\n");
    git(&garden, ".", &["init", "-q", "-b", "main"]);
    save(&garden, "begin");
    garden.run_in(".", &["merge", "--set-up"]).expect(0);
    save(&garden, "merge by meaning");
    on_branch(&garden, "moss", "main", |garden| {
        garden.run_in("beds/one", &["need", "moss-map", "--quiet"]).expect(0);
    });
    on_branch(&garden, "bark", "main", |garden| {
        garden.run_in("beds/two", &["need", "bark-log", "--quiet"]).expect(0);
    });
    let (went, said) = merging(&garden, &["merge", "-q", "--no-edit", "moss"]);
    assert!(went && !said.contains("isn't resolved"), "{said}");
    garden.run_in(".", &["install", "--sealed", "--quiet"]).expect(0);
    on_branch(&garden, "soil", "main", |garden| {
        project(garden, "three", "soil-curve = \"1\"");
        garden.run_in(".", &["resolve", "--quiet"]).expect(0);
    });
    // A project that comes with the merge isn't here yet when its lock is merged.
    git(&garden, ".", &["checkout", "-q", "bark"]);
    let (went, said) = merging(&garden, &["merge", "-q", "--no-edit", "soil"]);
    assert!(went && said.contains("projects that aren't here yet"), "{said}");
    let lock = garden.read("bibliotax.lock");
    assert!(
        lock.contains("\"soil-curve\"") && lock.contains("\"moss-map\"") && lock.contains("\"bark-log\""),
        "{lock}"
    );
    garden.run_in(".", &["install", "--sealed", "--quiet"]).expect(1);
    garden.run_in(".", &["merge"]).expect(0);
    garden.run_in(".", &["install", "--sealed", "--quiet"]).expect(0);
    git(&garden, ".", &["commit", "-q", "-m", "completed"]);
    assert_eq!(git(&garden, ".", &["status", "--porcelain"]), "");
}

#[test]
fn steps_that_both_sides_ticked_stay_done_for_the_newer_release() {
    let garden = repository("dew-point = \"1\"");
    set_up(&garden);
    let tick = |version: &'static str| {
        move |garden: &Garden| {
            let text =
                format!("{{\"format\":1,\"version\":\"{version}\",\"step\":\"{}\"}}\n", "0".repeat(64));
            garden.write("gate/bibliotax.steps/dew-point+calibrate", &text);
        }
    };
    on_branch(&garden, "one", "main", tick("1.4.0"));
    on_branch(&garden, "two", "main", tick("1.0.0"));
    let (went, said) = merging(&garden, &["merge", "-q", "--no-edit", "one"]);
    assert!(went, "{said}");
    assert!(garden.read("gate/bibliotax.steps/dew-point+calibrate").contains("1.4.0"));
}

#[test]
fn cards_that_came_with_archives_and_projects_that_stand_alone_are_no_hindrance() {
    let garden = repository("dew-point = \"1\"");
    set_up(&garden);
    garden.write("gate/examples/small/bibliotax.toml", "[project]\nname = \"small\"\n");
    save(&garden, "an example that stands alone");
    for name in ["ash", "elm"] {
        garden.write_tar(&format!("gate/files/{name}-1.0.tar"), &[("include/x.h", name.as_bytes())]);
        on_branch(&garden, name, "main", |garden| {
            let file = format!("files/{name}-1.0.tar");
            garden.run(&["need", "--archive", &file, "--as", name, "1.0", "--quiet"]).expect(0);
        });
    }
    let (went, said) = merging(&garden, &["merge", "-q", "--no-edit", "ash"]);
    assert!(went && !said.contains("isn't resolved"), "{said}");
    assert_eq!(locked(&garden), ["ash 1.0", "dew-point 1.0.0", "elm 1.0"]);
    assert!(garden.path("gate/cards/ash.toml").is_file() && garden.path("gate/cards/elm.toml").is_file());
}

#[test]
fn of_a_charter_that_both_moved_the_newer_release_binds_what_both_need() {
    let garden = repository("moss-map = \"1\"");
    let publish = |version: &str, range: &str| {
        let card = serde_json::json!({ "name": "fernhollow/season", "version": version, "published": "2026-03-01T09:00:00Z",
            "charter": { "ranges": { "dew-point": range } } });
        garden.load(&format!("{card}\n"));
        std::fs::remove_file(garden.path("cards.jsonl")).unwrap();
    };
    git(&garden, ".", &["rm", "-q", "--cached", "cards.jsonl"]);
    publish("2026.1.0", "1.0");
    garden.run(&["need", "fernhollow/season", "2026", "--quiet"]).expect(0);
    set_up(&garden);
    publish("2026.2.0", "1.0 .. 1.5");
    on_branch(&garden, "one", "main", |garden| {
        garden.run(&["update", "fernhollow/season", "--quiet"]).expect(0);
        need(garden, "soil-curve");
    });
    publish("2026.3.0", "1.4 .. 1.5");
    on_branch(&garden, "two", "main", |garden| {
        garden.run(&["update", "fernhollow/season", "--quiet"]).expect(0);
        need(garden, "bark-log");
    });
    let (went, said) = merging(&garden, &["merge", "-q", "--no-edit", "one"]);
    assert!(went, "{said}");
    assert_eq!(locked(&garden), ["bark-log 1.1.0", "dew-point 1.4.0", "moss-map 1.0.0", "soil-curve 1.0.0"]);
    let lock = garden.read("gate/bibliotax.lock");
    assert!(lock.contains("\"name\":\"fernhollow/season\",\"version\":\"2026.3.0\""), "{lock}");
    assert_eq!(git(&garden, ".", &["status", "--porcelain"]), "", "nothing is left to do");
    let told = garden.run(&["history", "fernhollow/season"]).expect(0).stdout;
    assert!(
        told.contains("raised") && told.contains("2026.1.0 -> 2026.3.0") && told.contains("charter"),
        "{told}"
    );
}

#[test]
fn without_the_driver_disjoint_updates_have_one_line_in_common() {
    let garden = repository("bark-log = \"1\"\ndew-point = \"1\"\nmoss-map = \"1\"");
    on_branch(&garden, "one", "main", |garden| {
        garden.run(&["update", "bark-log", "--quiet"]).expect(0);
    });
    on_branch(&garden, "two", "main", |garden| {
        garden.run(&["update", "moss-map", "--quiet"]).expect(0);
        need(garden, "soil-curve");
    });
    let (went, said) = merging(&garden, &["merge", "-q", "--no-edit", "one"]);
    assert!(!went, "{said}");
    let lock = garden.read("gate/bibliotax.lock");
    let lines: Vec<&str> = lock.lines().collect();
    let marked: Vec<usize> = (0..lines.len()).filter(|at| lines[*at].starts_with("<<<<<<<")).collect();
    assert_eq!(marked.len(), 1, "{lock}");
    let between: Vec<&str> =
        lines[marked[0] + 1..].iter().copied().take_while(|line| !line.starts_with(">>>>>>>")).collect();
    assert_eq!(between.len(), 3, "a line of each side: {between:?}");
    assert!(
        between[0].starts_with("  \"digests\"") && between[2].starts_with("  \"digests\""),
        "{between:?}"
    );
    garden.run(&["merge"]).expect(0);
    assert_eq!(locked(&garden), ["bark-log 1.1.0", "dew-point 1.0.0", "moss-map 1.2.0", "soil-curve 1.0.0"]);
}
