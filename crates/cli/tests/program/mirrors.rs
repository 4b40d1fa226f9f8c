//! A registry with mirrors: who is asked, who is quickest, and how far each lags.

use std::fs;
use std::path::PathBuf;

use insta::assert_snapshot;

use crate::garden::Garden;
use crate::server::serve;

const RELEASES: [&str; 3] = ["rain-ledger 2.4.0: dew-point 1", "dew-point 1.4.0", "moss-map 1.0.0"];

fn declare(garden: &Garden, url: &str, mirrors: &[&str]) {
    let mirrors: Vec<String> = mirrors.iter().map(|mirror| format!("\"{mirror}\"")).collect();
    let text = format!(
        "[project]\nname = \"gate-kiosk\"\n[registries]\nseedhouse = {{ url = \"{url}\", mirrors = [{}] }}\n",
        mirrors.join(", ")
    );
    garden.write("gate/bibliotax.toml", &text);
}

fn mirror(garden: &Garden, to: &str) {
    garden.run_in(".", &["registry", "mirror", "seedhouse", to]).expect(0);
}

fn files(garden: &Garden, registry: &str) -> Vec<PathBuf> {
    let bins = fs::read_dir(garden.path(registry).join("files")).unwrap().flatten();
    bins.flat_map(|bin| fs::read_dir(bin.path()).into_iter().flatten().flatten())
        .map(|file| file.path())
        .collect()
}

#[test]
fn describe_tells_how_far_each_mirror_lags() {
    let garden = Garden::with(&RELEASES);
    mirror(&garden, "late");
    garden.run_in(".", &["registry", "mirror", "seedhouse", "other", "--only", "moss-map"]).expect(0);
    garden.publish(&["dew-point 1.5.0", "dew-point 1.6.0"]);
    mirror(&garden, "even");
    declare(&garden, "../seedhouse", &["../even", "../late", "../other", "http://127.0.0.1:9/"]);
    let output = garden.run(&["describe", "dew-point"]).expect(0).stdout;
    assert_snapshot!(output.split_once("mirrors\n").unwrap().1, @"
    ../even              has all of it
    ../late              lags by 2 events, since 2026-03-01 (today)
    ../other             doesn't have it
    http://127.0.0.1:9/  can't be reached
    ");
    let json = garden.run(&["describe", "dew-point", "--format", "json"]).expect(0).json();
    let states: Vec<_> =
        json["mirrors"].as_array().unwrap().iter().map(|mirror| mirror["state"].clone()).collect();
    assert_eq!(states, ["up-to-date", "behind", "missing", "unreachable"]);
    assert_eq!(json["mirrors"][1]["events"], 2);
}

#[test]
fn a_mirror_answers_where_the_registry_does_not_and_says_so() {
    let garden = Garden::with(&RELEASES);
    mirror(&garden, "mirror");
    let served = serve(&garden);
    declare(&garden, &served.url, &["../mirror"]);
    let ran = garden.run(&["need", "rain-ledger"]).expect(0);
    assert!(!ran.stderr.contains("warning:"), "the registry itself answers: {ran}");
    let locked = garden.read("gate/bibliotax.lock");
    drop(served);
    for folder in ["store", "gate/shelf"] {
        fs::remove_dir_all(garden.path(folder)).unwrap();
    }
    garden.run(&["install"]).expect(0);
    garden.run(&["verify"]).expect(0);
    assert_eq!(garden.read("gate/bibliotax.lock"), locked);
    let ran = garden.run(&["need", "moss-map"]).expect(0);
    assert!(ran.stderr.contains("can't be reached; its mirror ../mirror is used"), "{ran}");
    assert!(garden.run(&["find", "moss"]).expect(0).stdout.contains("moss-map"));
    declare(&garden, "http://127.0.0.1:9/", &["http://127.0.0.1:9/", "../nowhere"]);
    assert_eq!(garden.run(&["describe", "moss-map"]).expect(5).code(), "registry.unreachable");
}

#[test]
fn what_a_mirror_lacks_comes_from_the_registry_and_what_is_new_too() {
    let garden = Garden::with(&RELEASES);
    mirror(&garden, "mirror");
    let served = serve(&garden);
    // The folder is sure to be the quicker one.
    declare(&garden, &served.url, &["../mirror"]);
    files(&garden, "mirror").iter().for_each(|file| fs::remove_file(file).unwrap());
    garden.publish(&["dew-point 1.5.0"]);
    garden.run(&["need", "rain-ledger"]).expect(0);
    garden.run(&["verify"]).expect(0);
    assert!(garden.read("gate/bibliotax.lock").contains("1.5.0"), "the mirror doesn't know of it yet");
}
