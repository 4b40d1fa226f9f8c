//! Finding packages by words: in folders, over the network and without it.

use std::fs;

use insta::assert_snapshot;
use serde_json::json;

use crate::garden::Garden;
use crate::server::serve;

/// A garden whose packages say what they are.
fn garden() -> Garden {
    let garden = Garden::with(&[]);
    let card = |name: &str, version: &str, published: &str, more: serde_json::Value| {
        let mut card =
            json!({ "name": name, "version": version, "published": format!("{published}T09:00:00Z") });
        card.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
        format!("{card}\n")
    };
    garden.load(
        &[
            card("rain-ledger", "2.4.0", "2025-03-01", json!({ "summary": "An account of rain", "tags": ["weather"],
                "needs": [{ "name": "dew-point", "range": "1" }], "fits": { "os": ["linux", "windows"] } })),
            card("rain-ledger", "3.0.0", "2025-09-01", json!({ "summary": "An account of rain, and of snow",
                "tags": ["weather"], "needs": [{ "name": "dew-point", "range": "1" }], "fits": { "os": "windows" } })),
            card("dew-point", "1.4.0", "2025-02-01", json!({ "summary": "When air gives its water away",
                "tags": ["weather"], "fits": { "os": "any" } })),
            card("moss-map", "1.0.0", "2024-02-01", json!({ "summary": "Where moss grows" })),
            card("snow-gauge", "0.9.0", "2026-01-01", json!({ "summary": "How much snow lies" })),
        ]
        .concat(),
    );
    garden.load(r#"{"event":"deprecated","name":"moss-map","range":"any","reason":"moss moved","at":"2026-01-01T00:00:00Z"}"#);
    garden
}

fn on_linux(garden: &Garden, url: &str) {
    let manifest = format!(
        "[project]\nname = \"gate-kiosk\"\n[targets.gate]\nos = \"linux\"\n[registries]\nseedhouse = \"{url}\"\n"
    );
    garden.write("gate/bibliotax.toml", &manifest);
}

#[test]
fn words_find_what_was_likely_meant_and_say_which_release_fits() {
    let garden = garden();
    on_linux(&garden, "../seedhouse");
    assert_snapshot!(garden.run(&["find", "weather"]), @"
      dew-point    1.4.0                used by 1  When air gives its water away
      rain-ledger  2.4.0, newest 3.0.0             An account of rain, and of snow
    details: `bibliotax describe dew-point`
    ----- status 0
    ");
    assert_snapshot!(garden.run(&["find", "wether", "acount"]), @"
    no match for `wether`; showing results for weather
    no match for `acount`; showing results for account
      rain-ledger  2.4.0, newest 3.0.0  An account of rain, and of snow
    details: `bibliotax describe rain-ledger`
    ----- status 0
    ");
    assert_snapshot!(garden.run(&["find", "rain", "moss"]), @"
    no package has all of these words; these have some of them
      rain-ledger  2.4.0, newest 3.0.0     An account of rain, and of snow
      moss-map     1.0.0 fit not declared  deprecated: Where moss grows
    details: `bibliotax describe rain-ledger`
    ----- status 0
    ");
    assert_snapshot!(garden.run(&["find", "snow"]), @"
      snow-gauge   0.9.0 fit not declared  How much snow lies
      rain-ledger  2.4.0, newest 3.0.0     An account of rain, and of snow
    details: `bibliotax describe snow-gauge`
    ----- status 0
    ");
    assert_snapshot!(garden.run(&["find", "rainledger"]), @"
      rain-ledger  2.4.0, newest 3.0.0  An account of rain, and of snow
    details: `bibliotax describe rain-ledger`
    ----- status 0
    ");
    assert_snapshot!(garden.run(&["find", "kettle"]), @"
    no package has `kettle` in its name, tags or summary
    ----- status 0
    ");
    assert_snapshot!(garden.run(&["find", "moss", "--page", "2"]), @"
    page 2 of the results for `moss` is empty
    ----- status 0
    ");
    let json = garden.run(&["find", "rain", "--format", "json"]).expect(0).json();
    assert_eq!(
        (&json["packages"][0]["version"], &json["packages"][0]["newest"]),
        (&json!("2.4.0"), &json!("3.0.0"))
    );
}

#[test]
fn what_is_found_follows_what_is_published() {
    let garden = garden();
    garden.run(&["find", "weather"]).expect(0);
    garden.publish(&["weather-vane 1.0.0: dew-point 1"]);
    let found = |words: &str| {
        let json = garden.run(&["find", words, "--format", "json"]).expect(0).json();
        let hits = json["packages"].as_array().unwrap().clone();
        hits.iter()
            .map(|hit| (hit["name"].as_str().unwrap().to_owned(), hit["uses"].as_u64().unwrap()))
            .collect::<Vec<_>>()
    };
    assert!(found("vane").contains(&("weather-vane".to_owned(), 0)));
    assert_eq!(found("dew"), [("dew-point".to_owned(), 2)], "a new package uses it as well");
    // A list that was made again is another one, and the database notices.
    garden.run_in(".", &["registry", "check", "seedhouse", "--repair"]).expect(0);
    assert_eq!(found("dew"), [("dew-point".to_owned(), 2)]);
    // One that is torn is made again.
    let cache = garden.path("store/registries");
    let folder = fs::read_dir(cache).unwrap().flatten().next().unwrap().path();
    fs::write(folder.join("names.sqlite"), "something else").unwrap();
    assert_eq!(found("dew"), [("dew-point".to_owned(), 2)]);
}

#[test]
fn a_server_a_folder_and_what_is_kept_of_them_find_the_same() {
    let garden = garden();
    on_linux(&garden, "../seedhouse");
    let from_folder = garden.run(&["find", "weather"]).expect(0).to_string();
    let served = serve(&garden);
    on_linux(&garden, &served.url);
    assert_eq!(garden.run(&["find", "weather"]).expect(0).to_string(), from_folder);
    garden.publish(&["weather-vane 1.0.0"]);
    assert!(garden.run(&["find", "vane"]).expect(0).to_string().contains("weather-vane"));
    drop(served);
    let offline = |words: &str| {
        let mut command = garden.command("gate", &["find", words]);
        let output = command.env("BIBLIOTAX_OFFLINE", "1").output().unwrap();
        String::from_utf8(output.stdout).unwrap()
    };
    assert!(offline("vane").contains("weather-vane"), "{}", offline("vane"));
    assert!(offline("wether").contains("rain-ledger"));
}

#[test]
fn a_registry_that_is_away_does_not_hide_what_others_have() {
    let garden = garden();
    let manifest = "[project]\nname = \"gate-kiosk\"\n[registries]\nseedhouse = \"../seedhouse\"\nfar = { url = \"../far\", owns = [\"far/*\"] }\n";
    garden.write("gate/bibliotax.toml", manifest);
    garden.run_in(".", &["registry", "create", "far"]).expect(0);
    fs::write(garden.path("far/names.jsonl.zst"), "no list").unwrap();
    assert!(garden.run(&["find", "moss"]).expect(0).to_string().contains("moss-map"));
    fs::remove_file(garden.path("far/names.jsonl.zst")).unwrap();
    fs::create_dir(garden.path("far/names.jsonl.zst")).unwrap();
    let ran = garden.run(&["find", "moss"]).expect(0);
    assert!(ran.stdout.contains("moss-map") && ran.stderr.contains("warning:"), "{ran}");
}
