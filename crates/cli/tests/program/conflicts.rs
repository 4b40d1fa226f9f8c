//! Conflicts as people read them, the ways out of them, and why packages are where they are.

use insta::assert_snapshot;

use crate::garden::{Garden, Ran};

const RELEASES: [&str; 20] = [
    "rain-ledger 2.4.0: dew-point 1",
    "rain-ledger 2.6.1: dew-point 1, seed-clock 1",
    "rain-ledger 3.0.0: dew-point 2",
    "soil-curve 1.7.0: dew-point 1",
    "soil-curve 2.1.0: dew-point 2",
    "soil-probe 0.9.0: soil-curve 1",
    "soil-probe 1.0.0: soil-curve 2",
    "probe-sim 0.9.2: soil-probe 0.9",
    "probe-sim 0.10.0: soil-probe 1",
    "moss-map 2.3.0: leaf-palette 1 .. 3",
    "moss-map 3.0.0: dew-point 2",
    "leaf-palette 1.2.0",
    "dew-point 1.4.0",
    "dew-point 2.0.0",
    "seed-clock 1.1.0",
    "valve-proto 1.0.0",
    "valve-proto 1.1.0-rc.1",
    "mist-cycle 1.0.0: pond-level 1",
    "pond-level 2.0.0",
    "sun-arc 1.0.0: nowhere any",
];

fn garden(needs: &str) -> Garden {
    let garden = Garden::needing(&RELEASES, needs);
    garden.run(&["install"]).expect(0);
    garden
}

/// Runs the first way out as a shell would and expects it to succeed.
fn take_first_way(garden: &Garden, output: &Ran) {
    let text = format!("{}{}", output.stdout, output.stderr);
    let way = text
        .lines()
        .skip_while(|line| !line.starts_with("try: ") && !line.starts_with("ways out"))
        .nth(1)
        .unwrap_or_else(|| panic!("{output}"));
    for command in way.split(" #").next().unwrap().split(" && ") {
        let words = command.replace('"', "\u{0}");
        let mut parts = words.split('\u{0}');
        let mut args: Vec<&str> = Vec::new();
        while let Some(plain) = parts.next() {
            args.extend(plain.split_whitespace());
            args.extend(parts.next());
        }
        garden.run(&args[1..]).expect(0);
    }
}

#[test]
fn two_needs_that_exclude_each_other() {
    let garden = garden("soil-curve = \"= 1.7.0\"");
    let output = garden.run(&["need", "moss-map", "3"]);
    assert_snapshot!(output, @r#"
    ----- stderr
    error: no versions satisfy all requirements  (resolve.conflict)
      gate-kiosk needs soil-curve = 1.7.0.
      soil-curve 1.7.0 needs dew-point 1.
      gate-kiosk needs moss-map 3.
      moss-map 3.0.0 needs dew-point 2.
      No release of dew-point is in both 1 and 2.
    try: one of these; each was tried and works
      bibliotax need soil-curve "= 2.1.0" moss-map 3           # changes soil-curve to 2.1.0
      bibliotax need moss-map "2.3 .. 3"                       # changes moss-map to 2.3.0
      bibliotax drop soil-curve && bibliotax need moss-map 3   # removes soil-curve
    ----- status 4
    "#);
    take_first_way(&garden, &output);
    assert!(garden.shelf().contains(&"moss-map 3.0.0".to_owned()));
}

#[test]
fn a_need_and_one_for_another_purpose() {
    let garden = garden("soil-probe = \"0.9\"\n[needs-for.test]\nprobe-sim = \"0.9\"");
    assert_snapshot!(garden.run(&["need", "soil-probe", "1"]), @r#"
    ----- stderr
    error: no versions satisfy all requirements  (resolve.conflict)
      gate-kiosk needs soil-probe 1.
      gate-kiosk needs probe-sim 0.9.
      probe-sim 0.9.2 needs soil-probe 0.9.
      No release of soil-probe is in both 1 and 0.9.
    try: one of these; each was tried and works
      [needs-for.test] probe-sim = "0.10 .. 0.11"; [needs] soil-probe = "1"   # in the manifest: changes probe-sim to 0.10.0
      bibliotax need soil-probe "0.9 .. 0.10"                                 # changes soil-probe to 0.9.0
      bibliotax drop probe-sim --for test && bibliotax need soil-probe 1      # removes probe-sim
    ----- status 4
    "#);
}

#[test]
fn a_chain_of_several_links() {
    let garden = garden("rain-ledger = \"2.6\"");
    assert_snapshot!(garden.run(&["need", "probe-sim", "0.10"]), @r#"
    ----- stderr
    error: no versions satisfy all requirements  (resolve.conflict)
      gate-kiosk needs rain-ledger 2.6.
      rain-ledger 2.4.0 and 2.6.1 need dew-point 1.
      gate-kiosk needs probe-sim 0.10.
      probe-sim 0.10.0 needs soil-probe 1.
      soil-probe 1.0.0 needs soil-curve 2.
      soil-curve 2.1.0 needs dew-point 2.
      No release of dew-point is in both 1 and 2.
    try: one of these; each was tried and works
      bibliotax need probe-sim "0.9.2 .. 0.10"                      # changes probe-sim to 0.9.2
      bibliotax need rain-ledger "3 .. 4" probe-sim 0.10            # changes rain-ledger to 3.0.0
      bibliotax drop rain-ledger && bibliotax need probe-sim 0.10   # removes rain-ledger
    ----- status 4
    "#);
}

#[test]
fn only_a_pre_release_is_in_the_range() {
    let garden = garden("");
    let output = garden.run(&["need", "valve-proto", "1.1"]);
    assert_snapshot!(output, @r#"
    ----- stderr
    error: no versions satisfy all requirements  (resolve.conflict)
      gate-kiosk needs valve-proto 1.1.
      No release of valve-proto matches 1.1 (available: 1.1.0-rc.1, 1.0.0).
    try: one of these; each was tried and works
      bibliotax need valve-proto 1.1 --prereleases   # accepts pre-releases of valve-proto
      bibliotax need valve-proto "1 .. 2"            # changes valve-proto to 1.0.0
    ----- status 4
    "#);
    take_first_way(&garden, &output);
    assert_eq!(garden.shelf(), ["valve-proto 1.1.0-rc.1"]);
}

#[test]
fn a_package_that_needs_what_there_is_not() {
    let garden = garden("");
    assert_snapshot!(garden.run(&["need", "mist-cycle"]), @"
    ----- stderr
    error: no versions satisfy all requirements  (resolve.conflict)
      gate-kiosk needs mist-cycle any.
      mist-cycle 1.0.0 needs pond-level 1.
      No release of pond-level matches 1 (available: 2.0.0).
    try: change several of the needs above: no change of one or two of them is enough
    ----- status 4
    ");
    assert_snapshot!(garden.run(&["need", "sun-arc"]), @"
    ----- stderr
    error: no versions satisfy all requirements  (resolve.conflict)
      gate-kiosk needs sun-arc any.
      sun-arc 1.0.0 needs nowhere any.
      No registry has a package nowhere.
    try: change several of the needs above: no change of one or two of them is enough
    ----- status 4
    ");
}

#[test]
fn a_need_written_by_hand() {
    let garden = garden("rain-ledger = \"2\"");
    let text = garden.read("gate/bibliotax.toml").replace("\"2\"", "\"2\"\nsoil-curve = \"2\"");
    garden.write("gate/bibliotax.toml", &text);
    let output = garden.run(&["install"]);
    assert_snapshot!(output, @r#"
    ----- stderr
    error: no versions satisfy all requirements  (resolve.conflict)
      gate-kiosk needs rain-ledger 2.
      rain-ledger 2.4.0 and 2.6.1 need dew-point 1.
      gate-kiosk needs soil-curve 2.
      soil-curve 2.1.0 needs dew-point 2.
      No release of dew-point is in both 2 and 1.
    try: one of these; each was tried and works
      bibliotax need rain-ledger "3 .. 4"    # changes rain-ledger to 3.0.0
      bibliotax need soil-curve "1.7 .. 2"   # changes soil-curve to 1.7.0
      bibliotax drop rain-ledger             # removes rain-ledger
    ----- status 4
    "#);
    take_first_way(&garden, &output);
}

#[test]
fn why_a_package_is_here_and_what_keeps_newer_ones_out() {
    let garden = garden("rain-ledger = \"2\"\nprobe-sim = \"0.9\"");
    assert_snapshot!(garden.run(&["explain", "dew-point"]), @"
    dew-point 1.4.0 is needed
      through rain-ledger
      through probe-sim, which needs soil-probe, which needs soil-curve
    2.0.0 is newer, but not possible:
      gate-kiosk needs probe-sim 0.9.
      probe-sim 0.9.2 needs soil-probe 0.9.
      soil-probe 0.9.0 needs soil-curve 1.
      soil-curve 1.7.0 needs dew-point 1.
    ----- status 0
    ");
    assert_snapshot!(garden.run(&["explain", "rain-ledger"]), @"
    rain-ledger 2.6.1 is needed
      by the project itself
    3.0.0 is newer, but not possible:
      gate-kiosk needs rain-ledger 2.
    ----- status 0
    ");
    assert_snapshot!(garden.run(&["explain", "seed-clock"]), @"
    seed-clock 1.1.0 is needed
      through rain-ledger
    there is no newer release
    ----- status 0
    ");
    let json = garden.run(&["explain", "dew-point", "--format", "json"]).expect(0).json();
    assert_eq!(json["locked"]["paths"][0]["packages"], serde_json::json!(["rain-ledger", "dew-point"]));
    assert_eq!(json["locked"]["newer"][0]["proof"]["facts"][0]["from"], "gate-kiosk");
}

#[test]
fn why_it_can_not_be_another_version_or_what_would_move() {
    let garden = garden("rain-ledger = \"2\"\nsoil-curve = \"1\"");
    assert_snapshot!(garden.run(&["explain", "rain-ledger", "2.4"]), @"
    rain-ledger could be 2.4.0
    2 packages would change:
      lowered  rain-ledger  2.6.1 -> 2.4.0  2.0 KiB  MIT  needed here
      gone     seed-clock   1.1.0           2.0 KiB  MIT  nothing needs it
    ----- status 0
    ");
    let output = garden.run(&["explain", "rain-ledger", "3"]);
    assert_snapshot!(output, @r#"
    rain-ledger 3 isn't possible:
      gate-kiosk needs rain-ledger 2.
    ways out, each tried:
      bibliotax need rain-ledger "3 .. 4" soil-curve "2.1 .. 3"   # changes rain-ledger to 3.0.0 and changes soil-curve to 2.1.0
    ----- status 4
    "#);
    take_first_way(&garden, &output);
    assert!(garden.shelf().contains(&"rain-ledger 3.0.0".to_owned()));
    assert_snapshot!(garden.run(&["explain", "rain-leger"]), @"
    ----- stderr
    error: `rain-leger` is not in the lock  (explain.not-here)
    try: `rain-ledger`
    ----- status 2
    ");
    assert_eq!(garden.run(&["explain", "a", "b"]).expect(2).code(), "need.words");
}

#[test]
fn an_update_moves_what_was_asked_and_tells_why_others_had_to() {
    let garden = Garden::needing(&RELEASES, "rain-ledger = \"2.4\"\nsoil-curve = \"1\"");
    garden.run(&["install"]).expect(0);
    let loosen = |garden: &Garden, from: &str, to: &str| {
        garden.write("gate/bibliotax.toml", &garden.read("gate/bibliotax.toml").replace(from, to));
        garden.run(&["install"]).expect(0);
    };
    loosen(&garden, "\"2.4\"", "\"2 ..\"");
    assert_snapshot!(garden.run(&["update", "rain-ledger", "--dry-run"]), @"
    lock: 1 added, 1 raised
      raised  rain-ledger  2.4.0 -> 2.6.1  2.0 KiB  MIT  needed here
      added   seed-clock   1.1.0           2.0 KiB  MIT  needed by rain-ledger
      passed over rain-ledger 3.0.0:
        rain-ledger 3.0.0 needs dew-point 2.
        gate-kiosk needs soil-curve 1.
        soil-curve 1.7.0 needs dew-point 1.
        No release of dew-point is in both 2 and 1.
    nothing was written
    ----- status 0
    ");
    loosen(&garden, "\"1\"", "\"1 ..\"");
    assert_snapshot!(garden.run(&["update", "rain-ledger"]), @"
    lock: 3 raised
      raised  dew-point    1.4.0 -> 2.0.0  2.0 KiB  MIT  needed by rain-ledger and 1 more
      raised  rain-ledger  2.4.0 -> 3.0.0  2.0 KiB  MIT  needed here
      raised  soil-curve   1.7.0 -> 2.1.0  2.0 KiB  MIT  needed here
      dew-point had to change:
        rain-ledger 3.0.0 needs dew-point 2.
        The lock has dew-point 1.4.0.
        So dew-point can't stay as the lock has it.
      soil-curve had to change:
        rain-ledger 3.0.0 needs dew-point 2.
        gate-kiosk needs soil-curve 1 or newer.
        The lock has soil-curve 1.7.0.
        soil-curve 1.7.0 needs dew-point 1.
        No release of dew-point is in both 2 and 1.
    shelf: 3 packages installed, 6.0 KiB downloaded (TIME)
    ----- status 0
    ");
    garden.run(&["verify"]).expect(0);
    assert_snapshot!(garden.run(&["update"]), @"
    nothing to update; see `bibliotax newer` for releases beyond the ranges
    shelf: nothing to do, all 3 packages are there
    ----- status 0
    ");
}

#[test]
fn an_update_beyond_the_ranges_rewrites_them() {
    let garden = garden("rain-ledger = \"2.4 .. 2.6\" # by month\nsoil-curve = \"= 1.7.0\"");
    let before = garden.read("gate/bibliotax.toml");
    assert_snapshot!(garden.run(&["update", "--beyond", "--dry-run"]), @r#"
    manifest: rain-ledger = "3 .. 4" instead of "2.4 .. 2.6"
    manifest: soil-curve = "= 2.1.0" instead of "= 1.7.0"
    lock: 3 raised
      raised  dew-point    1.4.0 -> 2.0.0  2.0 KiB  MIT  needed by rain-ledger and 1 more
      raised  rain-ledger  2.4.0 -> 3.0.0  2.0 KiB  MIT  needed here
      raised  soil-curve   1.7.0 -> 2.1.0  2.0 KiB  MIT  needed here
    nothing was written
    ----- status 0
    "#);
    assert_eq!(garden.read("gate/bibliotax.toml"), before);
    garden.run(&["update", "--beyond"]).expect(0);
    let after = garden.read("gate/bibliotax.toml");
    assert!(after.contains("rain-ledger = \"3 .. 4\" # by month\nsoil-curve = \"= 2.1.0\""), "{after}");
    garden.run(&["install", "--sealed"]).expect(0);
    assert_eq!(garden.run(&["update", "rain-leger"]).expect(2).code(), "explain.not-here");
}

#[test]
fn a_search_that_takes_too_long_gives_up_and_says_where_it_was() {
    let garden = Garden::needing(&RELEASES, "rain-ledger = \"any\"\nprobe-sim = \"any\"");
    let output = garden.run(&["resolve", "--effort", "0"]).expect(4);
    assert_eq!(output.code(), "resolve.gave-up", "{output}");
    assert!(!garden.path("gate/bibliotax.lock").exists());
    garden.run(&["resolve", "--effort", "60"]).expect(0);
}

#[test]
fn the_oldest_or_what_there_was_at_a_time_can_be_asked_for() {
    let garden = Garden::needing(&["dew-point 1.0.0", "dew-point 1.4.0"], "dew-point = \"1\"");
    garden.load("{\"name\":\"dew-point\",\"version\":\"1.5.0\",\"published\":\"2026-06-01T09:00:00Z\"}\n");
    for (args, version) in [
        (&["resolve"][..], "1.5.0"),
        (&["resolve", "--prefer", "oldest"], "1.0.0"),
        (&["resolve"], "1.0.0"),
        (&["resolve", "--as-of", "2026-05-31"], "1.4.0"),
        (&["resolve", "--as-of", "2026-06-01"], "1.5.0"),
        (&["resolve", "--as-of", "2026-06-01T08:59:59Z"], "1.4.0"),
    ] {
        garden.run(args).expect(0);
        let lock = garden.read("gate/bibliotax.lock");
        assert!(lock.contains(&format!("\"version\":\"{version}\"")), "{args:?}: {lock}");
    }
    garden.run(&["resolve", "--as-of", "2026-02-01"]).expect(4);
    garden.run(&["resolve", "--as-of", "yesterday"]).expect(2);
}

#[test]
fn a_long_conflict_is_cut_to_its_heart_unless_all_is_asked_for() {
    let links: Vec<String> = (1..20).map(|n| format!("bed-n{n} 1.0: bed-n{} 1", n + 1)).collect();
    let mut releases: Vec<&str> = links.iter().map(String::as_str).collect();
    releases.extend(["bed-n20 1.0: dew-point 1", "dew-point 1.4.0", "dew-point 2.0.0"]);
    let garden = Garden::needing(&releases, "bed-n1 = \"1\"");
    garden.run(&["install"]).expect(0);
    let output = garden.run(&["need", "dew-point", "2"]).expect(4);
    assert_snapshot!(output, @r#"
    ----- stderr
    error: no versions satisfy all requirements  (resolve.conflict)
      gate-kiosk needs bed-n1 1.
      (11 more sentences; --long shows them all)
      bed-n12 1.0 needs bed-n13 1.
      bed-n13 1.0 needs bed-n14 1.
      bed-n14 1.0 needs bed-n15 1.
      bed-n15 1.0 needs bed-n16 1.
      bed-n16 1.0 needs bed-n17 1.
      bed-n17 1.0 needs bed-n18 1.
      bed-n18 1.0 needs bed-n19 1.
      bed-n19 1.0 needs bed-n20 1.
      bed-n20 1.0 needs dew-point 1.
      gate-kiosk needs dew-point 2.
      No release of dew-point is in both 2 and 1.
    try: one of these; each was tried and works
      bibliotax need dew-point "1.4 .. 2"                   # changes dew-point to 1.4.0
      bibliotax drop bed-n1 && bibliotax need dew-point 2   # removes bed-n1
    ----- status 4
    "#);
    let in_full = garden.run(&["need", "dew-point", "2", "--long"]).expect(4);
    assert_eq!(in_full.stderr.lines().filter(|line| line.contains(" needs ")).count(), 22, "{in_full}");
    let json = garden.run(&["need", "dew-point", "2", "--format", "json"]).expect(4).json();
    assert_eq!(json["error"]["proof"]["facts"].as_array().unwrap().len(), 22);
    assert_eq!(json["error"]["proof"]["clash"]["at"], "dew-point");
    assert_eq!(json["error"]["proof"]["minimal"], true);
}
