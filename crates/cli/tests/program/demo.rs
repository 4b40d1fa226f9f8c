//! The demo, whole: it checks each of its own steps, so its success means that the story holds.

use crate::garden::Garden;

#[test]
fn the_demo_tells_its_story_and_leaves_the_garden() {
    let garden = Garden::bare();
    let ran = garden.run_in(".", &["demo", "fernhollow"]).expect(0);
    for part in [
        "need soil-curve 1.7.0 --exactly",
        "Both shelves hold the same",
        "passed over rain-ledger 3.0.0",
        "in valve-core",
        "[shared] rain-ledger = \"2.4 .. 2.6\"",
        "seedhouse                             2.0.0  2026-04-01  lags: 2.1.0 is elsewhere",
        "frost-table-1.2/data/frost.csv",
        "raised  rain-ledger   2.5.0 -> 2.6.1  ",
        "Go on from here",
    ] {
        assert!(ran.stdout.contains(part), "{part} is not in {ran}");
    }
    assert!(garden.path("fernhollow/fernhollow/gate-kiosk/shelf/gate-kiosk/rain-ledger").is_dir());
    assert!(!garden.path("store").exists(), "the person's own store was not touched");
    assert_eq!(garden.run_in(".", &["demo", "fernhollow"]).expect(2).code(), "demo.not-empty");
}
