//! A lock that somebody edited and gave the right digest, which anybody can work out.

use std::fs;

use bibliotax_core::digest::Hasher;

use crate::garden::Garden;

/// A lock's text with the digest that it should have, as an attacker works it out.
pub fn sealed_again(text: &str) -> String {
    let value = |key: &str| {
        let start = text.find(&format!("\"{key}\": ")).unwrap() + key.len() + 4;
        text[start..].lines().next().unwrap().trim_end_matches(',')
    };
    let mut hasher = Hasher::default();
    hasher.update(format!("1\n{}\n{}\n", value("inputs").trim_matches('"'), value("registries")).as_bytes());
    for line in text.lines().filter(|line| line.starts_with("    {")) {
        hasher.update(line.trim_start().trim_end_matches(',').as_bytes());
        hasher.update(b"\n");
    }
    let digest = format!("\"digest\": {}", value("digest"));
    text.replace(&digest, &format!("\"digest\": \"{}\"", hasher.finish()))
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
fn targets_of_a_lock_are_those_of_its_members() {
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
