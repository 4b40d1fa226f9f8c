//! When packages came into a lock, moved and left, by the commits of a real repository.

use crate::garden::Garden;
use crate::merging::{need, on_branch, repository, save};
use crate::sources::git;

/// The history's changes, as `subject: kind name old new`.
fn told(garden: &Garden, args: &[&str]) -> Vec<String> {
    let all = [&["history"], args, &["--format", "json"]].concat();
    let history = garden.run(&all).expect(0).json();
    let text = |value: &serde_json::Value| value.as_str().unwrap_or("-").to_owned();
    let of_commit = |commit: &serde_json::Value| {
        let subject = text(&commit["subject"]);
        let changes = commit["changes"].as_array().unwrap().clone();
        changes.into_iter().map(move |change| {
            let [kind, name, old, new] = ["kind", "name", "old", "new"].map(|key| text(&change[key]));
            format!("{subject}: {kind} {name} {old} {new}")
        })
    };
    history["commits"].as_array().unwrap().iter().flat_map(of_commit).collect()
}

#[test]
fn each_change_is_told_once_with_the_commit_that_made_it() {
    let garden = repository("dew-point = \"1\"\nmoss-map = \"1\"");
    garden.run(&["update", "moss-map", "--quiet"]).expect(0);
    save(&garden, "newer moss");
    on_branch(&garden, "side", "main", |garden| need(garden, "bark-log"));
    git(&garden, ".", &["checkout", "-q", "main"]);
    garden.write("README", "meanwhile");
    save(&garden, "nothing locked");
    git(&garden, ".", &["merge", "-q", "--no-edit", "-m", "a merge", "side"]);
    garden.run(&["drop", "moss-map", "--quiet"]).expect(0);
    save(&garden, "no moss");
    assert_eq!(
        told(&garden, &[]),
        [
            "no moss: gone moss-map 1.2.0 -",
            "side: added bark-log - 1.1.0",
            "newer moss: raised moss-map 1.0.0 1.2.0",
            "begin: added dew-point - 1.0.0",
            "begin: added moss-map - 1.0.0",
        ]
    );
    assert_eq!(told(&garden, &["bark-log"]), ["side: added bark-log - 1.1.0"]);
    assert_eq!(told(&garden, &["--from", "main~2"]).len(), 3, "before the merge");
    assert_eq!(told(&garden, &["--most", "1"]), ["no moss: gone moss-map 1.2.0 -"]);
    let shown = garden.run(&["history", "moss-map", "--most", "2"]).expect(0);
    assert!(shown.stdout.contains("raised  moss-map  1.0.0 -> 1.2.0"), "{shown}");
    assert!(shown.stdout.contains("newer moss (Moss)") && shown.stderr.is_empty(), "{shown}");
    assert!(shown.stdout.contains("`--most 0` shows all"), "{shown}");
    assert!(
        garden.run(&["history", "soil-curve"]).expect(0).stdout.contains("no commit brought soil-curve in")
    );
}

#[test]
fn what_only_a_merge_decided_is_of_the_merge() {
    let garden = repository("dew-point = \"1\"");
    let moved = |to: &'static str| {
        move |garden: &Garden| {
            let manifest = garden.read("gate/bibliotax.toml");
            garden.write(
                "gate/bibliotax.toml",
                &manifest.replace("dew-point = \"1\"", &format!("dew-point = \"{to}\"")),
            );
            garden.run(&["resolve", "--quiet"]).expect(0);
        }
    };
    on_branch(&garden, "one", "main", moved("= 1.4.0"));
    on_branch(&garden, "two", "main", moved("= 1.5.0"));
    git(&garden, ".", &["merge", "-q", "-s", "ours", "--no-commit", "one"]);
    garden.write("gate/bibliotax.toml", &garden.read("gate/bibliotax.toml").replace("= 1.5.0", "2"));
    garden.run(&["resolve", "--quiet"]).expect(0);
    save(&garden, "both were wrong");
    assert_eq!(told(&garden, &[])[0], "both were wrong: raised dew-point 1.5.0 2.0.0");
}

#[test]
fn a_lock_without_a_history_is_told() {
    let garden = Garden::needing(&["dew-point 1.0.0"], "dew-point = \"1\"");
    assert_eq!(garden.run(&["history"]).code(), "compare.unknown");
    git(&garden, ".", &["init", "-q"]);
    for revision in ["nowhere", "--output=x"] {
        let told = garden.run(&["history", &format!("--from={revision}")]);
        assert_eq!(told.code(), "compare.unknown", "{told}");
    }
}
