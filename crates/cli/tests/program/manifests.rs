//! Manifests and command lines that are wrong: told where, why and what to do, and nothing is lost.

use insta::assert_snapshot;

use crate::garden::Garden;

#[test]
fn a_slip_in_a_manifest_is_shown_at_its_place() {
    let garden = Garden::needing(&[], "rain-ledger = \"^1\"");
    assert_snapshot!(garden.run(&["install"]), @r#"
    ----- stderr
    error: `^1` isn't allowed here in a range  (range.unexpected)
      at bibliotax.toml:8:16
        7: [needs]
        8: rain-ledger = "^1"
                          ~~ expected a version, a comparison, `..` or `any`
    try: write `1`
    ----- status 3
    "#);
    garden.write("gate/bibliotax.toml", "[project]\nname = “gate”\n");
    assert_snapshot!(garden.run(&["install"]), @r#"
    ----- stderr
    error: curly quotes aren't allowed here  (manifest.curly-quotes)
      at bibliotax.toml:2:8
        1: [project]
        2: name = “gate”
                  ~ an editor may have changed it
    try: use straight quotes: `"`
    ----- status 3
    "#);
    garden.write("gate/bibliotax.toml", "[project]\nname = \"Gate\"\n[neds]\n");
    assert_snapshot!(garden.run(&["install"]), @r#"
    ----- stderr
    error: a manifest has no key `neds`  (manifest.unknown-key)
      at bibliotax.toml:3:2
        2: name = "Gate"
        3: [neds]
            ~~~~
    try: `needs`

    error: `Gate` can't name a package: a name consists of a–z, 0–9 and `-`, not 'G'  (name.invalid)
      at bibliotax.toml:2:9
        1: [project]
        2: name = "Gate"
                   ~~~~
    try: `gate` would be valid
    ----- status 3
    "#);
    let json = garden.run(&["install", "--format", "json"]).expect(3).json();
    assert_eq!(
        (json["error"]["faults"][0]["line"].as_u64(), json["error"]["faults"].as_array().unwrap().len()),
        (Some(3), 2)
    );
}

#[test]
fn every_slip_ends_with_its_code_and_status_and_leaves_the_file_alone() {
    let project = "[project]\nname = \"gate\"\n";
    let noise: String = (0..1_200_000).map(|n| char::from(b' ' + (n * 7 % 90) as u8)).collect();
    let rows = [
        (String::new(), "manifest.empty"),
        (noise, "manifest.unreadable"),
        (format!("{project}[needs]\na = {{ range = \"1\" prereleases = true }}"), "manifest.missing-comma"),
        (format!("{project}colour = 1"), "manifest.unknown-key"),
        (format!("{project}[needs]\na = \"1\"\na = \"2\""), "manifest.duplicate-key"),
        (format!("{project}[needs]\na = \">= \""), "range.unexpected"),
        (format!("{project}[needs]\na = \"3 .. 2\""), "range.empty"),
        (format!("{project}[needs]\na = \"1.x\""), "version.invalid"),
        (format!("{project}license = \"MIT and so on\""), "license.invalid"),
        (format!("{project}[stand-ins]\na = \"1\""), "manifest.wrong-kind"),
    ];
    let garden = Garden::bare();
    for (text, code) in rows {
        garden.write("gate/bibliotax.toml", &text);
        for args in [&["install"][..], &["need", "rain-ledger"], &["publish"]] {
            assert_eq!(garden.run(args).expect(3).code(), code);
        }
        assert_eq!(garden.read("gate/bibliotax.toml"), text);
    }
}

#[test]
fn bytes_that_are_no_text_are_told_as_such() {
    let garden = Garden::bare();
    std::fs::write(garden.path("gate/bibliotax.toml"), [0xff, 0xfe, 0x00, 0x80]).unwrap();
    assert_snapshot!(garden.run(&["install"]), @"
    ----- stderr
    error: bibliotax.toml isn't a manifest: it isn't UTF-8 text  (manifest.unreadable)
    try: a manifest is a short text; see `bibliotax init`
    ----- status 3
    ");
}

#[test]
fn a_manifest_that_is_elsewhere_is_pointed_to() {
    let garden = Garden::with(&[]);
    assert_snapshot!(garden.run_in(".", &["install"]), @"
    ----- stderr
    error: there is no bibliotax.toml here or in a folder above  (manifest.missing)
    try: there is one in `gate`: go there, or use `--directory gate`
    ----- status 3
    ");
    garden.run_in(".", &["install", "--directory", "gate"]).expect(0);
    garden.write("gate/src/deep/x.c", "");
    garden.run_in("gate/src/deep", &["install"]).expect(0);
    garden.write("other/bibliotax.toml.txt", "");
    assert_snapshot!(garden.run_in("other", &["install"]), @"
    ----- stderr
    error: there is no bibliotax.toml here or in a folder above  (manifest.missing)
    try: there is a bibliotax.toml.txt here; rename it to bibliotax.toml
    ----- status 3
    ");
    assert_snapshot!(garden.run(&["verify", "--directory", "nowhere"]), @"
    ----- stderr
    error: there is no folder GARDEN/gate/nowhere  (disk.missing)
    try: check the path
    ----- status 74
    ");
}

#[test]
fn names_and_ranges_that_lead_nowhere_offer_what_is_near() {
    let garden = Garden::with(&["rain-ledger 2.4.0", "rain-ledger 2.5.0"]);
    assert_snapshot!(garden.run(&["need", "rain-leger"]), @"
    ----- stderr
    error: no registry has a package rain-leger  (package.unknown)
    try: `rain-ledger`
    ----- status 4
    ");
    assert_snapshot!(garden.run(&["need", "rain-ledger", "7"]), @r#"
    ----- stderr
    error: no versions satisfy all requirements  (resolve.conflict)
      gate-kiosk needs rain-ledger 7.
      No release of rain-ledger matches 7 (available: 2.5.0, 2.4.0).
    try: one of these; each was tried and works
      bibliotax need rain-ledger "2.5 .. 3"   # changes rain-ledger to 2.5.0
    ----- status 4
    "#);
    assert_snapshot!(garden.run(&["need", "rain-ledger", "3 .. 2"]), @"
    ----- stderr
    error: no version is in `3 .. 2`  (range.empty)
      at the command line
        1: 3 .. 2
           ~~~~~~ the end comes before the start
    try: write `2 .. 3`
    ----- status 3
    ");
    assert_snapshot!(garden.run(&["drop", "rain-ledger"]), @"
    ----- stderr
    error: bibliotax.toml doesn't declare rain-ledger  (need.not-declared)
    try: see `[needs]` in the manifest
    ----- status 2
    ");
    assert_eq!(garden.shelf(), [""; 0]);
    assert!(!garden.path("gate/bibliotax.lock").exists());
}

#[test]
fn init_never_writes_over_a_manifest() {
    let garden = Garden::with(&[]);
    let before = garden.read("gate/bibliotax.toml");
    assert_eq!(garden.run(&["init"]).expect(3).code(), "init.exists");
    assert_eq!(garden.read("gate/bibliotax.toml"), before);
    assert_eq!(garden.run_in(".", &["init", "--registry", "../x"]).expect(3).code(), "name.invalid");
}

#[test]
fn a_conflict_is_told_in_sentences_and_changes_nothing() {
    let garden = Garden::needing(
        &[
            "moss-map 3.0.0: dew-point 2",
            "soil-curve 1.7.0: dew-point 1",
            "dew-point 1.4.0",
            "dew-point 2.0.0",
        ],
        "soil-curve = \"1\"",
    );
    garden.run(&["install"]).expect(0);
    let before = (garden.read("gate/bibliotax.toml"), garden.read("gate/bibliotax.lock"), garden.shelf());
    assert_snapshot!(garden.run(&["need", "moss-map"]), @"
    ----- stderr
    error: no versions satisfy all requirements  (resolve.conflict)
      gate-kiosk needs soil-curve 1.
      soil-curve 1.7.0 needs dew-point 1.
      gate-kiosk needs moss-map any.
      moss-map 3.0.0 needs dew-point 2.
      No release of dew-point is in both 1 and 2.
    try: one of these; each was tried and works
      bibliotax drop soil-curve && bibliotax need moss-map any   # removes soil-curve
    ----- status 4
    ");
    let after = (garden.read("gate/bibliotax.toml"), garden.read("gate/bibliotax.lock"), garden.shelf());
    assert_eq!(before, after);
}

#[test]
fn line_ends_and_a_byte_order_mark_survive_every_edit() {
    let garden = Garden::with(&["dew-point 1.4.0", "bark-log 1.0.0"]);
    let text = format!("\u{feff}{}", garden.read("gate/bibliotax.toml").replace('\n', "\r\n"));
    garden.write("gate/bibliotax.toml", &text);
    garden.run(&["need", "dew-point", "bark-log"]).expect(0);
    garden.run(&["drop", "bark-log"]).expect(0);
    let edited = garden.read("gate/bibliotax.toml");
    assert!(edited.starts_with('\u{feff}') && edited.contains("dew-point"), "{edited:?}");
    assert_eq!(edited.matches('\n').count(), edited.matches("\r\n").count(), "{edited:?}");
    assert_eq!(edited.lines().count(), text.lines().count() + 1);
}
