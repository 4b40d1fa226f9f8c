//! A lock that somebody edited and gave the right digest, which anybody can work out.

use std::fs;

use bibliotax_core::digest::Hasher;

use crate::garden::Garden;
use crate::sources::{commit, git};

/// A lock's text with the digest that it should have, as an attacker works it out.
pub fn sealed_again(text: &str) -> String {
    let value = |key: &str, end: &str| {
        let start = text.find(key).unwrap() + key.len();
        text[start..].split_once(end).unwrap().0
    };
    let mut hasher = Hasher::default();
    let (made_from, content) = (value("\"made-from\":\"", "\""), value("\"content\":\"", "\""));
    let registries = value("\"registries\": ", "\n").trim_end_matches(',');
    hasher.update(format!("1\n{made_from}\n{registries}\n").as_bytes());
    // A project's needs stand in lines of their own.
    let mut entry = String::new();
    for line in text.lines().filter(|line| line.starts_with("    ")) {
        entry.push_str(line.trim_start());
        let is_whole = line.starts_with("    {") && !line.ends_with('[') || line.starts_with("    ]");
        if is_whole {
            hasher.update(entry.trim_end_matches(',').as_bytes());
            hasher.update(b"\n");
            entry.clear();
        }
    }
    text.replace(&format!("\"content\":\"{content}\""), &format!("\"content\":\"{}\"", hasher.finish()))
}

/// Every command that does something with a lock.
const COMMANDS: [&[&str]; 7] = [
    &["install", "--sealed"],
    &["install"],
    &["need", "dew-point"],
    &["with", "--", "true"],
    &["verify"],
    &["steps", "done", "calibrate"],
    &["kit", "make", "garden.kit"],
];

/// A clone of a project with a lock and no shelf, on two targets, beside a folder that nobody may touch.
fn clone() -> Garden {
    let releases = ["rain-ledger 2.4.0: dew-point 1", "dew-point 1.4.0"];
    let garden = Garden::needing(&releases, "rain-ledger = \"2\"");
    let manifest = garden.read("gate/bibliotax.toml");
    garden.write("gate/bibliotax.toml", &format!("{manifest}\n[targets.kiosk]\nos = \"linux\"\n"));
    let card = serde_json::json!({ "name": "night-frost", "version": "1.0.0", "published": "2026-03-01T09:00:00Z",
        "license": "MIT", "exposes": { "include": ["night-frost.txt"] },
        "steps": [{ "id": "calibrate", "text": "Hold it into fog.", "per": "target" }],
        "files": [{ "path": "archives/dew-point-1.4.0.tar" }] });
    garden.load(&format!("{card}\n"));
    garden.run(&["need", "night-frost"]).expect(0);
    fs::remove_dir_all(garden.path("gate/shelf")).unwrap();
    garden.write("gate/.git/config", "[core]\n");
    garden
}

#[test]
fn no_text_of_a_lock_becomes_a_path_outside_of_the_shelf() {
    let garden = clone();
    let lock = garden.read("gate/bibliotax.lock");
    assert_eq!(sealed_again(&lock), lock, "the attacker's digest is worked out as ours is");
    let around = || garden.everything_below(".", &["gate/shelf", "store", "gate/bibliotax.lock"]);
    let before = around();
    let hostile = ["../.git", "../../treasure", "/etc", ".", "a/b", "a\\\\b", "links", "\\u0000", "con"];
    let mut tried = 0;
    for (key, kept) in [
        ("\"targets\":[\"kiosk\"]", "\"targets\":[\"VALUE\"]"),
        ("\"name\":\"rain-ledger\",\"version\"", "\"name\":\"VALUE\",\"version\""),
        ("\"version\":\"1.4.0\"", "\"version\":\"VALUE\""),
        ("\"source\":\"seedhouse\"", "\"source\":\"VALUE\""),
        ("\"source\":\"seedhouse\"", "\"source\":{\"archive\":\"--VALUE\"}"),
        ("\"include\":[\"night-frost.txt\"]", "\"include\":[\"../VALUE/..\"]"),
        ("{\"include\":[\"night-frost.txt\"]}", "{\"VALUE\":[\"night-frost.txt\"]}"),
        ("\"id\":\"calibrate\"", "\"id\":\"VALUE\""),
        ("\"format\":\"tar\"", "\"format\":\"tar\",\"strip\":\"../VALUE\""),
        ("\"format\":\"tar\"", "\"part\":\"VALUE\",\"format\":\"tar\""),
        ("\"path\":\".\"", "\"path\":\"x/../VALUE/..\""),
    ] {
        assert!(lock.contains(key), "{key} in {lock}");
        for (number, value) in hostile.into_iter().enumerate() {
            let edited = sealed_again(&lock.replace(key, &kept.replace("VALUE", value)));
            garden.write("gate/bibliotax.lock", &edited);
            // Each command reads a lock in the same way, so that all of them are tried with one value.
            let commands = if number == 0 { &COMMANDS[..] } else { &COMMANDS[..1] };
            for args in commands {
                let ran = garden.run(args);
                assert!([2, 3].contains(&ran.status), "{args:?} with {edited}: {ran}");
                tried += 1;
            }
            assert!(!garden.path("gate/shelf/kiosk").exists(), "{edited}");
        }
    }
    garden.write("gate/bibliotax.lock", &lock);
    assert_eq!(around(), before, "after {tried} attacks");
    garden.run(&["install", "--sealed"]).expect(0);
}

#[test]
fn targets_of_a_lock_are_those_of_its_projects() {
    let garden = clone();
    let lock = garden.read("gate/bibliotax.lock");
    let dew_point = lock.lines().find(|line| line.contains("\"dew-point\",\"version\"")).unwrap();
    for (was, is) in [
        ("\"targets\":[\"kiosk\"]", "\"targets\":[\"pavilion\"]"),
        ("\"targets\":[\"kiosk\"],", ""),
        ("\"format\":\"tar\"", "\"targets\":[\"pavilion\"],\"format\":\"tar\""),
    ] {
        let edited = lock.replace(dew_point, &dew_point.replace(was, is));
        assert_ne!(edited, lock, "{was}");
        garden.write("gate/bibliotax.lock", &sealed_again(&edited));
        assert_eq!(garden.run(&["install", "--sealed"]).expect(3).code(), "lock.inconsistent");
    }
}

#[test]
fn a_card_that_exposes_what_lies_outside_of_its_package_is_no_card() {
    let garden = Garden::with(&["dew-point 1.4.0"]);
    for (role, path) in
        [("include", "../../outside"), ("include", "/usr/include"), ("../role", "dew-point.txt")]
    {
        let card = serde_json::json!({ "name": "night-frost", "version": "1.0.0", "license": "MIT",
            "published": "2026-03-01T09:00:00Z", "exposes": { role: [path] },
            "files": [{ "path": "archives/dew-point-1.4.0.tar" }] });
        garden.write("cards.jsonl", &format!("{card}\n"));
        let ran = garden.run_in(".", &["registry", "load", "seedhouse", "cards.jsonl"]);
        assert_eq!((ran.status, ran.code()), (3, "registry.bad-line"), "{ran}");
    }
}

/// A project in a garden with two registries, its lock, and what else is known of it.
fn with_two_registries() -> Garden {
    let garden = Garden::needing(
        &["rain-ledger 2.4.0: dew-point 1", "dew-point 1.4.0", "dew-point 1.3.0", "moss-map 1.0.0"],
        "rain-ledger = \"2\"",
    );
    garden.run_in(".", &["registry", "create", "other"]).expect(0);
    garden.run_in(".", &["registry", "load", "other", "cards.jsonl"]).expect(0);
    let manifest = garden.read("gate/bibliotax.toml");
    let registries = "seedhouse = { url = \"../seedhouse\", owns = [\"*\"] }\nother = \"../other\"";
    garden.write("gate/bibliotax.toml", &manifest.replace("seedhouse = \"../seedhouse\"", registries));
    garden.run(&["install"]).expect(0);
    garden
}

#[test]
fn what_a_lock_says_is_held_against_manifests_and_cards() {
    let garden = with_two_registries();
    let lock = garden.read("gate/bibliotax.lock");
    let line = |name: &str| {
        let start = format!("    {{\"name\":\"{name}\",\"version\"");
        lock.lines().find(|line| line.starts_with(&start)).unwrap().trim_end_matches(',').to_owned()
    };
    let (dew, rain) = (line("dew-point"), line("rain-ledger"));
    let sha256 = |line: &str| line.split("\"sha256\":\"").nth(1).unwrap()[..64].to_owned();
    let commit = "0123456789abcdef0123456789abcdef01234567";
    let edits = [
        ("another archive than the card's", dew.replace(&sha256(&dew), &sha256(&rain)), &dew),
        ("a URL", dew.replace("\"format\"", "\"url\":\"https://evil.example/x.tar\",\"format\""), &dew),
        (
            "a registry turned into git",
            dew.replace(
                "\"seedhouse\"",
                &format!("{{\"git\":\"https://evil.example/x\",\"commit\":\"{commit}\"}}"),
            ),
            &dew,
        ),
        ("a registry turned into a folder", dew.replace("\"seedhouse\"", "{\"path\":\"../treasure\"}"), &dew),
        ("another registry", dew.replace("\"seedhouse\"", "\"other\""), &dew),
        ("a false version", dew.replace("1.4.0", "1.9.0"), &dew),
        ("a version that its card doesn't have", dew.replace("1.4.0", "1.3.0"), &dew),
        ("another licence", dew.replace("\"MIT\"", "\"CC0-1.0\""), &dew),
        ("what it exposes", dew.replace("\"files\"", "\"exposes\":{\"include\":[\".\"]},\"files\""), &dew),
        (
            "no card",
            dew.replace(&dew[dew.find("\"card\"").unwrap()..dew.find("\"license\"").unwrap()], ""),
            &dew,
        ),
        ("a need less", rain.replace("\"needs\":[\"dew-point\"]", "\"needs\":[]"), &rain),
        ("that something is left out", rain.replace("}]", "}],\"left-out\":[\"dew-point\"]"), &rain),
        ("that it is replaced", dew.replace("\"card\"", "\"stood-in\":true,\"card\""), &dew),
        ("a capability", dew.replace("}]", "}],\"provides\":[\"sensor-driver\"]"), &dew),
        ("a step", dew.replace("}]}", "}],\"steps\":[{\"step\":{\"id\":\"a\",\"text\":\"b\"}}]}"), &dew),
        ("a component", dew.replace("\"files\"", "\"components\":[\"fog\"],\"files\""), &dew),
    ];
    let moss = dew.replace("\"dew-point\"", "\"moss-map\"").replace("1.4.0", "1.0.0");
    let injected = format!("{dew},\n{moss}");
    let needed = rain.replace("[\"dew-point\"]", "[\"dew-point\",\"moss-map\"]");
    let mut locks: Vec<(&str, String)> =
        edits.iter().map(|(what, edited, line)| (*what, lock.replace(*line, edited))).collect();
    locks.push(("a package that nobody needs", lock.replace(&dew, &injected)));
    locks.push(("one that another needs", lock.replace(&dew, &injected).replace(&rain, &needed)));
    locks.push(("where a registry is", lock.replace("\"../seedhouse\"", "\"../other\"")));
    locks.push((
        "a need less of a project",
        lock.replace(",\"needs\":[\n      {\"name\":\"rain-ledger\"}\n    ]", ""),
    ));
    for (what, edited) in locks {
        assert_ne!(edited, lock, "{what}");
        garden.write("gate/bibliotax.lock", &sealed_again(&edited));
        for args in
            [&["install", "--sealed"][..], &["check"], &["kit", "make", "x.kit"], &["verify"], &["install"]]
        {
            // Neither with a shelf that is right, nor on a fresh clone whose machine never saw the lock.
            for is_fresh in [false, true] {
                if is_fresh {
                    let _ = fs::remove_dir_all(garden.path("gate/shelf"));
                    let _ = fs::remove_dir_all(garden.path("store"));
                }
                let ran = garden.run(args);
                assert_eq!((ran.status, ran.code()), (6, "lock.mismatch"), "{what}, {args:?}: {ran}");
            }
            assert_eq!(garden.shelf(), [""; 0], "{what}");
        }
    }
    garden.write("gate/bibliotax.lock", &lock);
    garden.run(&["install", "--sealed"]).expect(0);
    assert_eq!(garden.run(&["verify"]).expect(0).status, 0);
}

#[test]
fn a_commit_of_a_lock_is_what_its_tag_names_or_is_on_its_branch() {
    let garden = Garden::with(&["dew-point 1.4.0"]);
    garden.write("leaf/include/leaf.h", "#define LEAF 1\n");
    git(&garden, "leaf", &["init", "-q"]);
    let first = commit(&garden, "leaf");
    git(&garden, "leaf", &["tag", "v1.2.0"]);
    garden.write("leaf/include/leaf.h", "#define LEAF 2\n");
    let second = commit(&garden, "leaf");
    // As those who may open pull requests can put it into a repository, where it is on no branch.
    git(&garden, "leaf", &["checkout", "-q", "--detach"]);
    garden.write("leaf/include/leaf.h", "#define LEAF 666\n");
    let foreign = commit(&garden, "leaf");
    git(&garden, "leaf", &["update-ref", "refs/pull/1/head", &foreign]);
    git(&garden, "leaf", &["checkout", "-q", "main"]);
    git(&garden, "leaf", &["config", "uploadpack.allowAnySHA1InWant", "true"]);
    let manifest = garden.read("gate/bibliotax.toml");
    for (declared, was) in [("branch = \"main\"", &second), ("tag = \"v1.2.0\"", &first)] {
        garden.write(
            "gate/bibliotax.toml",
            &format!("{manifest}leaf-palette = {{ git = \"../leaf\", {declared} }}\n"),
        );
        garden.run(&["install"]).expect(0);
        let lock = garden.read("gate/bibliotax.lock");
        for (is, status) in [(&foreign, 6), (was, 0)] {
            garden.write("gate/bibliotax.lock", &sealed_again(&lock.replace(was.as_str(), is)));
            for folder in ["gate/shelf", "store"] {
                fs::remove_dir_all(garden.path(folder)).unwrap();
            }
            let ran = garden.run(&["install", "--sealed"]).expect(status);
            let code = if declared.starts_with("tag") { "git.moved-tag" } else { "lock.mismatch" };
            assert!(status == 0 || ran.code() == code, "{declared}: {ran}");
            fs::create_dir_all(garden.path("gate/shelf")).unwrap();
        }
    }
    // A commit that the branch has left behind is on it still.
    garden.write(
        "gate/bibliotax.toml",
        &format!("{manifest}leaf-palette = {{ git = \"../leaf\", branch = \"main\" }}\n"),
    );
    garden.run(&["install"]).expect(0);
    garden.write("leaf/include/leaf.h", "#define LEAF 3\n");
    commit(&garden, "leaf");
    for folder in ["gate/shelf", "store"] {
        fs::remove_dir_all(garden.path(folder)).unwrap();
    }
    garden.run(&["install", "--sealed"]).expect(0);
    assert_eq!(garden.read("gate/shelf/leaf-palette/include/leaf.h"), "#define LEAF 2\n");
}

#[test]
fn a_lock_that_lies_about_a_charter_is_refused() {
    let garden = crate::charters::following();
    let lock = garden.read("gate/bibliotax.lock");
    // A range that nobody published, on a machine that hasn't seen the lock.
    let forged = sealed_again(&lock.replace("\"dew-point\":\"1.4 .. 2\"", "\"dew-point\":\"any\""));
    garden.write("gate/bibliotax.lock", &forged);
    let refused = garden.run(&["install", "--sealed"]);
    assert_eq!(refused.code(), "lock.mismatch", "{refused}");
    assert!(
        refused.stderr.contains("fernhollow/season 2026.1.0 states something else in seedhouse"),
        "{refused}"
    );
    // A release of a package that the charter doesn't allow.
    let outside = lock.replace(
        "\"name\":\"dew-point\",\"version\":\"1.9.0\"",
        "\"name\":\"dew-point\",\"version\":\"1.0.0\"",
    );
    garden.write("gate/bibliotax.lock", &sealed_again(&outside));
    let refused = garden.run(&["install", "--sealed"]);
    assert_eq!(refused.code(), "lock.mismatch", "{refused}");
    assert!(
        refused
            .stderr
            .contains("the charter fernhollow/season 2026.1.0 allows dew-point 1.4 .. 2, not 1.0.0"),
        "{refused}"
    );
    // Without its charter.
    garden.write("gate/bibliotax.lock", &lock);
    garden.run(&["need", "moss-map", "3"]).expect(0);
    let lock = garden.read("gate/bibliotax.lock");
    let start = lock.find("  \"charters\": [").unwrap();
    let end = start + lock[start..].find("  ],\n").unwrap() + 5;
    garden.write("gate/bibliotax.lock", &sealed_again(&format!("{}{}", &lock[..start], &lock[end..])));
    assert_eq!(garden.run(&["install", "--sealed"]).code(), "lock.mismatch");
}
