//! The demo, whole: it checks each of its own steps, so its success means that the story holds.

use std::io::{BufRead, BufReader};
use std::net::TcpStream;
use std::process::Stdio;
use std::thread;
use std::time::{Duration, Instant};

use crate::garden::Garden;

#[test]
fn the_demo_tells_its_whole_story_and_leaves_the_garden() {
    let garden = Garden::bare();
    let ran = garden.run_in(".", &["demo", "--all", "fernhollow"]).expect(0);
    for part in [
        "need soil-curve 1.7.0 --exactly",
        "Both shelves hold the same",
        "passed over rain-ledger 3.0.0",
        "in valve-core",
        "[shared] rain-ledger = \"2.4 .. 2.6\"",
        "seedhouse                             2.0.0  2026-04-01  not the newest: another source has 2.1.0",
        "frost-table-1.2/data/frost.csv",
        "raised  rain-ledger   2.5.0 -> 2.6.1  ",
        "+ hand-3 = \"hand-unit\"",
        "- rain-ledger = \"2.6.1 .. 3\"\n+ rain-ledger = \"2.4 .. 2.6\"",
        "../colleague/gate-kiosk: 1 lowered (doesn't take it on yet)",
        "charter: fernhollow/season 2026.1.0 added: 2 ranges, rules",
        "Continue from here",
    ] {
        assert!(ran.stdout.contains(part), "{part} is not in {ran}");
    }
    assert!(garden.path("fernhollow/fernhollow/gate-kiosk/shelf/gate-kiosk/rain-ledger").is_dir());
    assert!(!garden.path("store").exists(), "the person's own store was not touched");
    assert_eq!(garden.run_in(".", &["demo", "fernhollow"]).expect(2).code(), "demo.not-empty");
}

#[test]
fn the_short_story_is_short_and_names_the_chapters_of_the_whole_one() {
    let garden = Garden::bare();
    let ran = garden.run_in(".", &["demo", "fernhollow"]).expect(0);
    assert!(ran.stdout.lines().count() + ran.stderr.lines().count() < 150, "{ran}");
    for part in [
        "find soil sensr",
        "No release of dew-point is in both",
        "Both shelves hold the same",
        "--chapter workspace",
    ] {
        assert!(ran.stdout.contains(part) || ran.stderr.contains(part), "{part} is not in {ran}");
    }
}

#[test]
fn a_chapter_is_told_alone() {
    let garden = Garden::bare();
    let ran = garden.run_in(".", &["demo", "fernhollow", "--chapter", "verify"]).expect(0);
    assert!(ran.stdout.contains("verify --repair") && !ran.stdout.contains("need rain-ledger"), "{ran}");
    assert_eq!(garden.run_in(".", &["demo", "--chapter", "weather"]).expect(2).code(), "usage.value");
}

#[test]
fn the_servers_of_a_demo_that_is_killed_end_with_it() {
    let garden = Garden::bare();
    let mut command = garden.command(".", &["demo", "fernhollow"]);
    let mut demo = command.stdout(Stdio::piped()).stderr(Stdio::null()).spawn().unwrap();
    let lines = BufReader::new(demo.stdout.take().unwrap()).lines().map_while(Result::ok);
    let served =
        lines.filter_map(|line| line.split_once(" at http://").map(|(_, address)| address.to_owned()));
    let served: Vec<String> =
        served.take(2).map(|address| address.trim_end_matches('/').to_owned()).collect();
    assert!(served.len() == 2 && served.iter().all(|address| TcpStream::connect(address).is_ok()));
    demo.kill().unwrap();
    demo.wait().unwrap();
    let begun = Instant::now();
    while served.iter().any(|address| TcpStream::connect(address).is_ok()) {
        assert!(begun.elapsed() < Duration::from_secs(30), "a server is still there: {served:?}");
        thread::sleep(Duration::from_millis(50));
    }
}
