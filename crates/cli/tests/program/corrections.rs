//! Corrected cards: a mistake in a card is mended by another card with the same files, and locks stay with theirs.

use insta::assert_snapshot;
use serde_json::json;

use crate::garden::{Garden, Ran};
use crate::server::serve;

/// A card in JSON, with an archive that holds a header.
fn card(change: impl FnOnce(&mut serde_json::Value)) -> String {
    let mut card = json!({ "name": "soil-curve", "version": "1.1.0", "published": "2026-03-01T09:00:00Z",
        "license": "MIT", "exposes": { "include": ["include"] }, "files": [{ "path": "archives/soil.tar" }] });
    change(&mut card);
    format!("{card}\n")
}

fn garden() -> Garden {
    let garden = Garden::with(&["dew-point 1.4.0", "seed-clock 1.0.0"]);
    let contents: &[(&str, &[u8])] = &[("include/soil.h", b"#define SOIL 1\n"), ("src/soil.c", b"")];
    garden.write_tar("archives/soil.tar", contents);
    garden.load(&card(|_| {}));
    garden.run(&["need", "soil-curve", "--quiet"]).expect(0);
    garden
}

fn correct(garden: &Garden, reason: &str, card: &str) -> Ran {
    garden.write("corrected.jsonl", card);
    garden.run_in(".", &["registry", "load", "seedhouse", "corrected.jsonl", "--revise", reason])
}

/// The licence is another, a role is added, and so is a need.
fn corrected() -> String {
    card(|card| {
        card["license"] = "ISC".into();
        card["exposes"]["source"] = json!(["src"]);
        card["needs"] = json!([{ "name": "seed-clock", "range": "1" }]);
    })
}

#[test]
fn a_corrected_card_is_taken_by_an_update_and_by_nothing_else() {
    let garden = garden();
    let lock = garden.read("gate/bibliotax.lock");
    let loaded = correct(&garden, "the licence is ISC", &corrected()).expect(0);
    assert!(loaded.stdout.starts_with("loaded 1 event into seedhouse"), "{loaded}");
    let again = correct(&garden, "the licence is ISC", &corrected()).expect(0);
    assert!(again.stdout.contains("loaded 0 events") && again.stdout.contains("1 there already"), "{again}");
    garden.run_in(".", &["registry", "check", "seedhouse"]).expect(0);

    for args in [&["resolve"][..], &["install", "--sealed"], &["need", "dew-point"], &["drop", "dew-point"]] {
        garden.run(args).expect(0);
    }
    std::fs::remove_dir_all(garden.path("store")).unwrap();
    std::fs::remove_dir_all(garden.path("gate/shelf")).unwrap();
    garden.run(&["install", "--sealed"]).expect(0);
    assert_eq!(garden.read("gate/bibliotax.lock"), lock, "what is locked stays with its card");

    let news = garden.run(&["newer", "--format", "json"]).expect(0).json();
    assert_eq!(news["packages"][0]["corrections"][0]["reason"], "the licence is ISC", "{news}");
    assert_eq!(news["packages"][0]["update"]["version"], "1.1.0");
    let described = garden.run(&["describe", "soil-curve"]).expect(0).stdout;
    for part in ["ISC", "the licence is ISC; the lock has the card before"] {
        assert!(described.contains(part), "{part} is not in {described}");
    }
    assert_snapshot!(garden.run(&["update", "soil-curve"]), @"
    lock: 1 added, 1 changed
      added    seed-clock  1.0.0  2.0 KiB  MIT  needed by soil-curve
      changed  soil-curve  1.1.0  2.5 KiB  ISC  needed here, other licence and exposed paths and needs
    shelf: 1 package installed, 1 already there, 2.0 KiB downloaded (TIME)
    ----- status 0
    ");
    let links = garden.read("gate/shelf/links/gate-kiosk.env");
    assert!(links.contains("BIBLIOTAX_ROLE_SOURCE=shelf/soil-curve/src"), "{links}");
    assert!(garden.run(&["newer"]).expect(0).stdout.contains("no updates"));
}

#[test]
fn a_correction_never_changes_files_nor_versions_and_needs_a_reason() {
    let garden = garden();
    let before = garden.everything_below("seedhouse/packages", &[]);
    garden.write("other.jsonl", &corrected());
    let refused = garden.run_in(".", &["registry", "load", "seedhouse", "other.jsonl"]).expect(3);
    assert!(refused.stderr.contains("exists already with another card; `--revise REASON`"), "{refused}");
    garden.write_tar("archives/soil.tar", &[("include/soil.h", b"#define SOIL 2\n")]);
    let files = correct(&garden, "other bytes", &card(|_| {})).expect(3);
    assert!(files.stderr.contains("the files of a release never change"), "{files}");
    assert_eq!(correct(&garden, " ", &card(|_| {})).expect(5).code(), "event.no-reason");
    assert_eq!(garden.everything_below("seedhouse/packages", &[]), before);
}

#[test]
fn corrections_reach_mirrors_and_those_who_ask_a_server() {
    let garden = garden();
    let mirror = || garden.run_in(".", &["registry", "mirror", "seedhouse", "mirror"]).expect(0);
    mirror();
    correct(&garden, "the licence is ISC", &corrected()).expect(0);
    mirror();
    garden.run_in(".", &["registry", "check", "mirror"]).expect(0);
    garden.run_in(".", &["registry", "check", "seedhouse", "--repair"]).expect(0);
    let served = serve(&garden);
    let manifest = garden.read("gate/bibliotax.toml");
    for place in ["../mirror", &served.url] {
        garden.write("gate/bibliotax.toml", &manifest.replace("../seedhouse", place));
        garden.run(&["resolve"]).expect(0);
        assert!(garden.read("gate/bibliotax.lock").contains("\"MIT\""), "{place}");
        let news = garden.run(&["newer"]).expect(0).stdout;
        assert!(news.contains("its card was corrected: the licence is ISC"), "{place}: {news}");
    }
}
