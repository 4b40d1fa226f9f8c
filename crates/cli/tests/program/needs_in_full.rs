//! Needs beyond a package and a range: capabilities, families, conflicts, and what is left out.

use insta::assert_snapshot;

use crate::garden::Garden;

const RELEASES: [&str; 18] = [
    "hedge-grid 1.0.0: day-clock 1",
    "seed-clock 1.0.0: +day-clock",
    "seed-clock 1.1.0: +day-clock",
    "seed-clock 2.0.0: +day-clock",
    "sun-arc 1.0.0: +day-clock, dew-point 1",
    "dew-point 1.4.0",
    "rain-ledger 2.6.1: dew-point 1, seed-clock 1",
    "bark-log 1.0.1: !moss-map .. 2.1",
    "bark-log 1.1.0",
    "moss-map 2.0.0: leaf-palette 1",
    "moss-map 2.3.0: leaf-palette 1",
    "leaf-palette 1.2.0",
    "pergola/core 3.1.0: @pergola",
    "pergola/core 3.2.0: @pergola",
    "pergola/core 3.3.0: @pergola",
    "pergola/panel 3.2.0: @pergola, pergola/core any",
    "pergola/panel 3.3.0: @pergola, pergola/core any",
    "pergola/plots 3.2.0: @pergola, pergola/core any",
];

#[test]
fn a_need_on_a_capability_takes_a_provider_and_the_manifest_may_prefer_one() {
    let garden = Garden::needing(&RELEASES, "hedge-grid = \"1\"");
    let open = garden.run(&["install"]).expect(3);
    assert!(open.code() == "package.ambiguous" && open.stderr.contains("seed-clock of seedhouse"), "{open}");
    garden.write(
        "gate/bibliotax.toml",
        &(garden.read("gate/bibliotax.toml") + "[capabilities]\nday-clock = \"seed-clock\"\n"),
    );
    assert_snapshot!(garden.run(&["install"]), @"
    lock: 2 added
      added  hedge-grid  1.0.0  2.0 KiB  MIT  needed here
      added  seed-clock  1.1.0  2.0 KiB  MIT  needed by hedge-grid, as day-clock
    shelf: 2 packages installed, 4.0 KiB downloaded (TIME)
    ----- status 0
    ");
    assert_snapshot!(garden.run(&["explain", "day-clock"]), @"
    seed-clock 1.1.0 is needed as day-clock
      through hedge-grid
    2.0.0 is newer and possible: `bibliotax update` would use it
    ----- status 0
    ");
    let manifest = garden.read("gate/bibliotax.toml");
    garden.write("gate/bibliotax.toml", &manifest.replace("\"seed-clock\"", "\"sun-arc\""));
    assert_snapshot!(garden.run(&["install"]), @"
    lock: 2 added, 1 gone, 1 changed
      added    dew-point   1.4.0  2.0 KiB  MIT  needed by sun-arc
      changed  hedge-grid  1.0.0  2.0 KiB  MIT  needed here, other needs
      gone     seed-clock  1.1.0  2.0 KiB  MIT  nothing needs it
      added    sun-arc     1.0.0  2.0 KiB  MIT  needed by hedge-grid, as day-clock
    shelf: 2 packages installed, 1 removed, 1 already there, 4.0 KiB downloaded (TIME)
    ----- status 0
    ");
    assert_snapshot!(garden.run(&["need", "dew-point", "2"]), @r#"
    ----- stderr
    error: no versions satisfy all requirements  (resolve.conflict)
      gate-kiosk needs dew-point 2.
      No release of dew-point matches 2 (available: 1.4.0).
    try: one of these; each was tried and works
      bibliotax need dew-point "1.4 .. 2"   # changes dew-point to 1.4.0
    ----- status 4
    "#);
    assert_snapshot!(garden.run(&["explain", "day-clock", "3"]), @"
    day-clock 3 isn't possible:
      No release provides day-clock in 3.
    ----- status 4
    ");
}

#[test]
fn a_preferred_provider_that_can_not_be_had_is_told() {
    let releases = ["hedge-grid 1.0.0: day-clock 1", "seed-clock 1.1.0: +day-clock", "bark-log 1.1.0"];
    let garden = Garden::needing(&releases, "hedge-grid = \"1\"\n[capabilities]\nday-clock = \"bark-log\"");
    assert_snapshot!(garden.run(&["install"]), @"
    lock: 2 added
      added  hedge-grid  1.0.0  2.0 KiB  MIT  needed here
      added  seed-clock  1.1.0  2.0 KiB  MIT  needed by hedge-grid, as day-clock
    shelf: 2 packages installed, 4.0 KiB downloaded (TIME)
    ----- stderr
    warning: day-clock is provided by seed-clock, because bark-log, which the manifest prefers, isn't possible
    ----- status 0
    ");
}

#[test]
fn a_family_stays_at_one_version_in_the_range_it_is_kept_in() {
    let garden = Garden::needing(&RELEASES, "\"pergola/panel\" = \"family\"\n[families]\npergola = \"3\"");
    assert_snapshot!(garden.run(&["install"]), @"
    lock: 2 added
      added  pergola/core   3.3.0  2.0 KiB  MIT  needed by pergola/panel
      added  pergola/panel  3.3.0  2.0 KiB  MIT  needed here
    shelf: 2 packages installed, 4.0 KiB downloaded (TIME)
    ----- status 0
    ");
    assert_snapshot!(garden.run(&["need", "pergola/plots"]), @r#"
    manifest: [needs] "pergola/plots" = "family"; pergola is kept at "3"
    lock: 1 added, 2 lowered
      lowered  pergola/core   3.3.0 -> 3.2.0  2.0 KiB  MIT  needed by pergola/panel and 1 more
      lowered  pergola/panel  3.3.0 -> 3.2.0  2.0 KiB  MIT  needed here
      added    pergola/plots  3.2.0           2.0 KiB  MIT  needed here
    shelf: 3 packages installed, 6.0 KiB downloaded (TIME)
    ----- status 0
    "#);
    assert_snapshot!(garden.run(&["explain", "pergola/core", "3.3"]), @"
    pergola/core 3.3 isn't possible:
      pergola/core and pergola/plots belong to the family pergola, which has one version.
      gate-kiosk needs pergola/plots 3.
      No version of the family pergola satisfies all of this.
    ways out, each tried:
      bibliotax drop pergola/plots   # removes pergola/plots
    ----- status 4
    ");
    assert_snapshot!(garden.run(&["update", "--beyond"]), @"
    nothing to update; see `bibliotax newer` for releases beyond the ranges
    shelf: nothing to do, all 3 packages are there
    ----- status 0
    ");
    assert_snapshot!(garden.run(&["need", "pergola/core", "3.1"]), @r#"
    ----- stderr
    error: no versions satisfy all requirements  (resolve.conflict)
      gate-kiosk needs pergola/plots 3.
      pergola/plots and pergola/core belong to the family pergola, which has one version.
      gate-kiosk needs pergola/core 3.1.
      No version of the family pergola satisfies all of this.
    try: one of these; each was tried and works
      bibliotax need pergola/core "3.2 .. 4"   # changes pergola/core to 3.2.0
    ----- status 4
    "#);
}

#[test]
fn a_range_of_a_family_is_widened_as_a_line_of_the_manifest() {
    let garden = Garden::needing(&RELEASES, "\"pergola/panel\" = \"family\"\n[families]\npergola = \"3.2\"");
    garden.run(&["install"]).expect(0);
    assert_snapshot!(garden.run(&["explain", "pergola/core", "3.3"]), @r#"
    pergola/core 3.3 isn't possible:
      gate-kiosk keeps the family pergola, which pergola/core belongs to, at 3.2.
    ways out, each tried:
      [families] pergola = "3.3 .. 4"   # in the manifest: changes pergola/panel to 3.3.0
    ----- status 4
    "#);
    assert_snapshot!(garden.run(&["update", "--beyond", "--dry-run"]), @r#"
    manifest: [families] pergola = "3.3 .. 4" instead of "3.2"
    lock: 2 raised
      raised  pergola/core   3.2.0 -> 3.3.0  2.0 KiB  MIT  needed by pergola/panel
      raised  pergola/panel  3.2.0 -> 3.3.0  2.0 KiB  MIT  needed here
    nothing was written
    ----- status 0
    "#);
}

#[test]
fn releases_that_conflict_are_not_taken_together() {
    let garden = Garden::needing(&RELEASES, "bark-log = \"any\"\nmoss-map = \"2.0\"");
    assert_snapshot!(garden.run(&["install"]), @"
    lock: 3 added
      added  bark-log      1.1.0  2.0 KiB  MIT  needed here
      added  leaf-palette  1.2.0  2.0 KiB  MIT  needed by moss-map
      added  moss-map      2.0.0  2.0 KiB  MIT  needed here
    shelf: 3 packages installed, 6.0 KiB downloaded (TIME)
    ----- status 0
    ");
    assert_snapshot!(garden.run(&["need", "bark-log", "1.0"]), @r#"
    ----- stderr
    error: no versions satisfy all requirements  (resolve.conflict)
      gate-kiosk needs bark-log 1.0.
      bark-log 1.0.1 can't be used with moss-map .. 2.1.
      gate-kiosk needs moss-map 2.0.
      So no release of moss-map is left.
    try: one of these; each was tried and works
      bibliotax need bark-log "1.1 .. 2"                       # changes bark-log to 1.1.0
      bibliotax need moss-map "2.3 .. 3" bark-log 1.0          # changes moss-map to 2.3.0
      bibliotax drop moss-map && bibliotax need bark-log 1.0   # removes moss-map
    ----- status 4
    "#);
}

#[test]
fn what_a_need_brings_can_be_left_out_and_that_is_recorded_and_shown() {
    let garden = Garden::needing(&RELEASES, "");
    assert_snapshot!(garden.run(&["need", "moss-map", "--without", "leaf-palette"]), @r#"
    manifest: [needs] moss-map = { range = "2.3 .. 3", without = ["leaf-palette"] }
    lock: 1 added
      added  moss-map  2.3.0  2.0 KiB  MIT  needed here, without leaf-palette
    shelf: 1 package installed, 2.0 KiB downloaded (TIME)
    ----- status 0
    "#);
    assert!(garden.read("gate/bibliotax.lock").contains(r#""left-out":["leaf-palette"]"#));
    assert_snapshot!(garden.run(&["explain", "leaf-palette"]), @"
    ----- stderr
    error: `leaf-palette` is not in the lock  (explain.not-here)
      The manifest needs moss-map without it.
    try: `bibliotax explain leaf-palette any` shows whether it could be
    ----- status 2
    ");
    assert_snapshot!(garden.run(&["need", "bark-log", "--without", "leaf-palette", "--dry-run"]), @r#"
    manifest: [needs] bark-log = { range = "1.1 .. 2", without = ["leaf-palette"] }
    lock: 1 added
      added  bark-log  1.1.0  2.0 KiB  MIT  needed here
    nothing was written
    ----- stderr
    warning: bark-log doesn't need leaf-palette, so leaving it out changes nothing
    ----- status 0
    "#);
}

#[test]
fn families_and_capabilities_that_are_not_declared_well_are_told_at_their_place() {
    let rows = [
        ("\"pergola/panel\" = \"family\"", "manifest.no-family"),
        ("bark-log = \"family\"", "manifest.no-family"),
        (
            "bark-log = { range = \"1\", family = \"pergola\" }\n[families]\npergola = \"3\"",
            "manifest.two-ranges",
        ),
        ("bark-log = \"1\"\n[capabilities]\nday-clock = \"Sun Arc\"", "name.invalid"),
        ("bark-log = { range = \"1\", without = \"dew-point\" }", "manifest.wrong-kind"),
    ];
    for (needs, code) in rows {
        let garden = Garden::needing(&RELEASES, needs);
        assert_eq!(garden.run(&["install"]).expect(3).code(), code, "{needs}");
    }
}

#[test]
fn a_capability_and_a_package_never_share_a_name() {
    let garden = Garden::needing(&RELEASES, "");
    garden.write("clock/bibliotax.toml", "[project]\nname = \"day-clock\"\nversion = \"1.0\"\n");
    garden.write("clock/clock.txt", "tick\n");
    let output = garden.run_in("clock", &["publish", "../seedhouse"]).expect(3);
    assert_eq!(output.code(), "registry.name-taken", "{output}");
    let card = "[project]\nname = \"petal-font\"\nversion = \"1.0\"\n[card]\nprovides = [\"dew-point\"]\n";
    garden.write("clock/bibliotax.toml", card);
    let output = garden.run_in("clock", &["publish", "../seedhouse"]).expect(3);
    assert_eq!(output.code(), "registry.name-taken", "{output}");
    assert!(!garden.run(&["need", "petal-font"]).expect(4).stdout.contains("added"));
}

#[test]
fn what_is_published_says_family_capabilities_and_conflicts() {
    let garden = Garden::needing(&RELEASES, "[capabilities]\nday-clock = \"petal-font\"");
    let card = "[project]\nname = \"petal-font\"\nversion = \"1.0\"\n[card]\nfamily = \"petals\"\n\
        provides = { day-clock = \"7\" }\nconflicts = { bark-log = \"1.0\" }\n";
    garden.write("font/bibliotax.toml", card);
    garden.write("font/font.txt", "a b c\n");
    garden.run_in("font", &["publish", "../seedhouse"]).expect(0);
    garden.run(&["need", "day-clock", "7"]).expect(0);
    let output = garden.run(&["need", "bark-log", "1.0"]);
    assert_snapshot!(output, @r#"
    ----- stderr
    error: no versions satisfy all requirements  (resolve.conflict)
      gate-kiosk needs day-clock 7, provided by petal-font 1.0.
      gate-kiosk needs bark-log 1.0.
      petal-font 1.0 can't be used with bark-log 1.0.
      So no release of bark-log is left.
    try: one of these; each was tried and works
      bibliotax need bark-log "1.1 .. 2"                        # changes bark-log to 1.1.0
      bibliotax drop day-clock && bibliotax need bark-log 1.0   # removes day-clock
    ----- status 4
    "#);
}

#[test]
fn what_a_need_locks_is_what_its_manifest_leads_to_from_then_on() {
    let garden = Garden::with(&[
        "rain-ledger 2.4.0: dew-point 1",
        "rain-ledger 2.5.0: dew-point 1.4 .. 2",
        "rain-ledger 3.0.0-rc.1",
        "dew-point 1.4.0",
        "dew-point 1.5.0",
        "moss-map 0.3.1: dew-point 1",
        "almanac-garden 1.2.0: +almanac",
        "stone-book 2: @stone",
        "stone-shelf 2: @stone, stone-book 1 .. 3",
        "stone-shelf 1: @stone",
    ]);
    let rows: &[&[&str]] = &[
        &["rain-ledger"],
        &["rain-ledger", "2.4.0", "--exactly"],
        &["dew-point", "--for", "test"],
        &["moss-map", "--without", "dew-point"],
        &["rain-ledger", "3.0.0-rc.1", "--prereleases"],
        &["rain-ledger", "--prereleases"],
        &["almanac"],
        &["stone-shelf", "stone-book"],
        &["dew-point", "--exactly", "--for", "bench"],
    ];
    for row in rows {
        let need: Vec<&str> = [&["need"][..], row].concat();
        let ran = garden.run(&need).expect(0);
        let lock = garden.read("gate/bibliotax.lock");
        let again = garden.run(&["resolve"]).expect(0);
        assert!(again.stdout.starts_with("nothing to do: the lock is up to date"), "{row:?}: {ran}{again}");
        assert_eq!(garden.read("gate/bibliotax.lock"), lock, "{row:?}");
        garden.run(&["install", "--sealed"]).expect(0);
    }
}
