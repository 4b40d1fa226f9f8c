//! Which releases work where: targets, levels, conditions, promises, and what is not declared.

use insta::assert_snapshot;

use crate::garden::Garden;

const FACETS: &str = r#"{"orchard-runtime":{"kind":"ladder","levels":["1","2","3","4","5","6"],
    "aliases":{"sapling":"1","thicket":"2","canopy":"4"}},"ahead-of-time":{"kind":"claim"}}"#;

const TARGETS: &str = "[targets.gate-kiosk]\nos = \"linux\"\narch = \"x86_64\"\norchard-runtime = \"5\"\n\
    [targets.hand-unit]\nos = \"linux\"\narch = \"aarch64\"\norchard-runtime = \"3\"\n";

/// A card that fits any system, at a level, with needs in JSON.
fn card(title: &str, level: &str, needs: &str) -> String {
    let (name, version) = title.split_once(' ').unwrap();
    format!(
        r#"{{"name":"{name}","version":"{version}","published":"2026-03-01T08:00:00Z","license":"MIT","summary":"For gardens",
        "fits":{{"os":"any","arch":"any","orchard-runtime":"{level}"}},"needs":[{needs}]}}"#
    )
    .replace('\n', " ")
}

/// A project with a registry of packages at levels, and `more` in its manifest.
pub fn garden(more: &str) -> Garden {
    let garden = Garden::bare();
    garden.write("facets.json", FACETS);
    garden.run_in(".", &["registry", "create", "levelled", "--facets", "facets.json"]).expect(0);
    let cards = [
        card("soil-curve 1.6.0", "thicket", ""),
        card("soil-curve 1.7.0", "2", ""),
        card("soil-curve 2.0.0", "canopy", ""),
        card("soil-curve 2.1.0", "5", ""),
        card("moss-map 2.3.0", "1", r#"{"name":"soil-curve","range":"1"}"#),
        card("moss-map 3.0.0", "1", r#"{"name":"soil-curve","range":"2"}"#),
        card("sun-arc 1.0.0", "1", r#"{"name":"leaf-palette","range":"1","when":{"arch":"x86_64"}}"#),
        r#"{"name":"leaf-palette","version":"1.0.0","published":"2026-03-01T08:00:00Z","fits":{"os":"any","arch":["x86_64"],"orchard-runtime":"1"}}"#.to_owned(),
        r#"{"name":"bark-log","version":"1.0.0","published":"2026-03-01T08:00:00Z"}"#.to_owned(),
    ];
    garden.write("cards.jsonl", &(cards.join("\n") + "\n"));
    garden.run_in(".", &["registry", "load", "levelled", "cards.jsonl"]).expect(0);
    let project =
        "[project]\nname = \"gate-kiosk\"\nversion = \"0.3.0\"\n[registries]\nlevelled = \"../levelled\"\n";
    garden.write("gate/bibliotax.toml", &format!("{project}{more}\n"));
    garden
}

#[test]
fn a_need_takes_the_newest_release_that_fits_every_target_and_tells_what_it_passed_over() {
    let garden = garden(TARGETS);
    assert_snapshot!(garden.run(&["need", "soil-curve"]), @r#"
    manifest: [needs] soil-curve = "1.7 .. 2"
      passed over soil-curve 2.1.0:
        hand-unit is at orchard-runtime 3, and soil-curve 2.0.0 and 2.1.0 ask for 4 or 5.
    lock: 1 added
      added  soil-curve  1.7.0  no files  MIT  needed here
    shelf: nothing to do, nothing to install: the lock is empty
    ----- status 0
    "#);
    assert_snapshot!(garden.run(&["explain", "soil-curve"]), @"
    soil-curve 1.7.0 is needed
      by the project itself
    2.0.0 is newer, but not possible:
      gate-kiosk needs soil-curve 1.7 .. 2.
    2.1.0 is newer, but not possible:
      gate-kiosk needs soil-curve 1.7 .. 2.
    ----- status 0
    ");
}

#[test]
fn a_conflict_speaks_of_targets_and_levels_and_a_need_can_be_limited_to_a_target() {
    let garden = garden(TARGETS);
    assert_snapshot!(garden.run(&["need", "moss-map", "3"]), @r#"
    ----- stderr
    error: no versions satisfy all requirements  (resolve.conflict)
      gate-kiosk needs moss-map 3.
      moss-map 3.0.0 needs soil-curve 2.
      hand-unit is at orchard-runtime 3, and soil-curve 2.0.0 and 2.1.0 ask for 4 or 5.
      So no release of soil-curve is left.
    try: one of these; each was tried and works
      bibliotax need moss-map "2.3 .. 3"              # changes moss-map to 2.3.0
      bibliotax need moss-map 3 --target gate-kiosk   # uses moss-map only on gate-kiosk
      [targets.hand-unit] orchard-runtime = "4"       # in the manifest, if hand-unit can be raised
    ----- status 4
    "#);
    assert_snapshot!(garden.run(&["need", "moss-map", "3", "--target", "gate-kiosk"]), @r#"
    manifest: [needs] moss-map = { range = "3", targets = ["gate-kiosk"] }
    lock: 2 added
      added  moss-map    3.0.0  no files  MIT  needed here
      added  soil-curve  2.1.0  no files  MIT  needed by moss-map
    shelf: nothing to do, nothing to install: the lock is empty
    ----- status 0
    "#);
    assert_snapshot!(garden.run(&["need", "leaf-palette"]), @"
    ----- stderr
    error: no versions satisfy all requirements  (resolve.conflict)
      gate-kiosk needs leaf-palette any.
      hand-unit has arch aarch64, and leaf-palette 1.0.0 works with x86_64 only.
      So no release of leaf-palette is left.
    try: one of these; each was tried and works
      bibliotax need leaf-palette any --target gate-kiosk   # uses leaf-palette only on gate-kiosk
    ----- status 4
    ");
    assert_snapshot!(garden.run(&["fit"]), @"
                         gate-kiosk  hand-unit
      moss-map    3.0.0  yes         not needed
      soil-curve  2.1.0  yes         not needed
    no declared level excludes any of them
    ----- status 0
    ");
}

#[test]
fn a_target_that_is_only_tried_out_counts_for_all_locked_packages() {
    let garden = garden(TARGETS);
    garden.run(&["need", "soil-curve"]).expect(0);
    let output = garden.run(&["fit", "--try", "shed:orchard-runtime=1"]).expect(1);
    assert!(output.stdout.contains("shed: asks for orchard-runtime 2, not 1"), "{output}");
}

#[test]
fn a_conditional_need_is_there_only_where_its_condition_holds() {
    let garden = garden(TARGETS);
    garden.run(&["need", "sun-arc"]).expect(0);
    let lock = garden.read("gate/bibliotax.lock");
    let palette = lock.lines().find(|line| line.contains("leaf-palette\",\"version")).unwrap();
    assert!(palette.contains(r#""targets":["gate-kiosk"]"#), "{palette}");
    let only_hand_unit = TARGETS.split("[targets.hand-unit]").nth(1).unwrap();
    let garden = self::garden(&format!("[targets.hand-unit]{only_hand_unit}"));
    garden.run(&["need", "sun-arc"]).expect(0);
    assert!(!garden.read("gate/bibliotax.lock").contains("\"name\":\"leaf-palette\""));
}

#[test]
fn what_is_not_stated_passes_is_told_or_is_refused_as_the_rules_say() {
    let rows =
        [("accept", 0, ""), ("warn", 0, "bark-log doesn't declare"), ("refuse", 4, "which the rules refuse")];
    for (rule, status, output) in rows {
        let garden = garden(&format!("{TARGETS}[rules]\nundeclared = \"{rule}\""));
        let ran = garden.run(&["need", "bark-log"]).expect(status);
        assert!(
            ran.stderr.contains(output) && (!output.is_empty() || ran.stderr.is_empty()),
            "{rule}: {ran}"
        );
    }
    let garden = garden(&format!("{TARGETS}[rules]\nundeclared = {{ os = \"accept\", arch = \"refuse\" }}"));
    assert_snapshot!(garden.run(&["need", "bark-log"]), @"
    ----- stderr
    error: no versions satisfy all requirements  (resolve.conflict)
      gate-kiosk needs bark-log any.
      gate-kiosk has arch x86_64, and bark-log 1.0.0 doesn't declare arch, which the rules refuse.
      So no release of bark-log is left.
    try: change several of the needs above: no change of one or two of them is enough
    ----- status 4
    ");
}

#[test]
fn a_library_keeps_its_promise() {
    let garden = garden("[fits]\norchard-runtime = \"2\"");
    assert_snapshot!(garden.run(&["need", "soil-curve"]), @r#"
    manifest: [needs] soil-curve = "1.7 .. 2"
      passed over soil-curve 2.1.0:
        gate-kiosk promises orchard-runtime 2, and soil-curve 2.0.0 and 2.1.0 ask for 4 or 5.
    lock: 1 added
      added  soil-curve  1.7.0  no files  MIT  needed here
    shelf: nothing to do, nothing to install: the lock is empty
    ----- status 0
    "#);
    assert_snapshot!(garden.run(&["need", "soil-curve", "2"]), @r#"
    ----- stderr
    error: no versions satisfy all requirements  (resolve.conflict)
      gate-kiosk needs soil-curve 2.
      gate-kiosk promises orchard-runtime 2, and soil-curve 2.0.0 and 2.1.0 ask for 4 or 5.
      So no release of soil-curve is left.
    try: one of these; each was tried and works
      bibliotax need soil-curve "1.7 .. 2"   # changes soil-curve to 1.7.0
      [fits] orchard-runtime = "4"           # in the manifest; this is a weaker promise
    ----- status 4
    "#);
    assert_snapshot!(garden.run(&["fit"]), @"
                         the promise
      soil-curve  1.7.0  yes
    no declared level excludes any of them

    orchard-runtime, level by level
      1            not: soil-curve 1.7.0
      2  promised  all needs work
      3            all needs work
      4            all needs work
      5            all needs work
      6            all needs work
    newest that works, level by level
                  1     2      3      4      5      6
      soil-curve  none  1.7.0  1.7.0  2.0.0  2.1.0  2.1.0
    the promise is the lowest level that works
    ----- status 0
    ");
    let user = "[project]\nname = \"shed\"\n[needs]\ngate-kiosk = \"1\"\n[targets.shed]\norchard-runtime = \"3\"\n\
        [targets.barn]\norchard-runtime = \"canopy\"\n";
    garden.write("shed/bibliotax.toml", user);
    assert_snapshot!(garden.run(&["fit", "--used-by", "../shed"]), @"
                         the promise
      soil-curve  1.7.0  yes
    no declared level excludes any of them

    orchard-runtime, level by level
      1            not: soil-curve 1.7.0  all targets can use it
      2  promised  all needs work         all targets can use it
      3            all needs work         all targets can use it
      4            all needs work         only barn can use it
      5            all needs work         no target can use it
      6            all needs work         no target can use it
    newest that works, level by level
                  1     2      3      4      5      6
      soil-curve  none  1.7.0  1.7.0  2.0.0  2.1.0  2.1.0
    the promise is the lowest level that works
    3 is the highest level that all targets have
    4 would break shed
    ----- status 0
    ");
    assert_snapshot!(garden.run(&["fit", "--try", "orchard-runtime=sapling"]), @"
                         the promise
      soil-curve  1.7.0  no
    soil-curve 1.7.0
      the promise: asks for orchard-runtime 2, not 1
    1 of 1 package doesn't fit everywhere

    orchard-runtime, level by level
      1  promised  not: soil-curve 1.7.0
      2            all needs work
      3            all needs work
      4            all needs work
      5            all needs work
      6            all needs work
    newest that works, level by level
                  1     2      3      4      5      6
      soil-curve  none  1.7.0  1.7.0  2.0.0  2.1.0  2.1.0
    2 is the lowest level that works
    ----- status 1
    ");
}

#[test]
fn fit_tells_of_packages_before_they_are_needed_and_what_if() {
    let garden = garden(TARGETS);
    assert_snapshot!(garden.run(&["fit", "soil-curve", "moss-map", "leaf-palette"]), @"
                           gate-kiosk  hand-unit
      soil-curve    2.1.0  yes         no
      moss-map      3.0.0  yes         yes
      leaf-palette  1.0.0  yes         no
    soil-curve 2.1.0
      hand-unit: asks for orchard-runtime 5, not 3
      1.7.0 is the newest that fits everywhere
    leaf-palette 1.0.0
      hand-unit: works only with arch x86_64
      no release fits everywhere
    2 of 3 packages don't fit everywhere
    ----- status 1
    ");
    assert_snapshot!(garden.run(&["fit", "soil-curve", "--try", "hand-unit:orchard-runtime=5"]), @"
                         gate-kiosk  hand-unit
      soil-curve  2.1.0  yes         yes
    no declared level excludes any of them
    ----- status 0
    ");
    let shed: Vec<String> = (1..=6).map(|n| format!("shed-{n}:orchard-runtime={n}")).collect();
    let mut words = vec!["fit", "soil-curve"];
    shed.iter().for_each(|target| words.extend(["--try", target]));
    assert_snapshot!(garden.run(&words), @"
    soil-curve 2.1.0
      gate-kiosk, shed-5, shed-6: yes
      hand-unit, shed-3: asks for orchard-runtime 5, not 3
      shed-1: asks for orchard-runtime 5, not 1
      shed-2: asks for orchard-runtime 5, not 2
      shed-4: asks for orchard-runtime 5, not 4
      no release fits everywhere
    1 of 1 package doesn't fit everywhere
    ----- status 1
    ");
    let json = garden.run(&["fit", "soil-curve", "--format", "json"]).expect(1).json();
    assert_eq!(json["packages"][0]["fits"][1]["reason"], "asks for orchard-runtime 5, not 3");
    assert_eq!(json["packages"][0]["newest-that-fits"], "1.7.0");
}

#[test]
fn describe_tells_what_is_known_of_a_package() {
    let garden = garden(TARGETS);
    assert_snapshot!(garden.run(&["describe", "soil-curve"]), @r#"
    soil-curve 1.7.0
      For gardens

      licence    MIT
      published  2026-03-01 (today) in levelled
      declares   arch any, orchard-runtime 2, os any
      fits       gate-kiosk yes; hand-unit yes
      manifest   soil-curve = "1.7 .. 2"
      command    bibliotax need soil-curve

    releases
      2.1.0  2026-03-01  newest, doesn't fit hand-unit
      2.0.0  2026-03-01  doesn't fit hand-unit
      1.7.0  2026-03-01  newest that fits
      1.6.0  2026-03-01
    ----- status 0
    "#);
    assert_snapshot!(garden.run(&["describe", "sun-arc"]), @r#"
    sun-arc 1.0.0
      For gardens

      licence    MIT
      published  2026-03-01 (today) in levelled
      needs      leaf-palette 1 where x86_64
      declares   arch any, orchard-runtime 1, os any
      fits       gate-kiosk yes; hand-unit yes
      manifest   sun-arc = "1 .. 2"
      command    bibliotax need sun-arc

    releases
      1.0.0  2026-03-01  newest
    ----- status 0
    "#);
    garden.run(&["describe", "soil-curve", "9"]).expect(4);
    assert!(garden.run(&["describe", "soil-kurve"]).expect(4).stderr.contains("soil-curve"));
    let json = garden.run(&["describe", "soil-curve", "2.0", "--format", "json"]).expect(0).json();
    assert_eq!(json["fits"][1]["target"], "hand-unit");
    assert_eq!(
        (&json["fits"][1]["facet"], &json["fits"][1]["fits"]),
        (&"orchard-runtime".into(), &"no".into())
    );
}

#[test]
fn what_makes_no_sense_of_facets_ends_with_its_code() {
    let rows = [
        ("[targets.shed]\norchard-runtime = \"9\"", "facet.value"),
        ("[targets.shed]\norchid = \"1\"", "facet.value"),
        ("[targets.shed]\norchard-runtime = 5", "manifest.unquoted-value"),
        ("[targets.shed]\nos = [\"linux\", \"macos\"]", "manifest.wrong-kind"),
        ("[facets.ahead-of-time]\nkind = \"choice\"", "facet.clash"),
        ("[facets.shade]\nkind = \"lader\"", "manifest.facet"),
        ("[facets.shade]\nkind = \"ladder\"", "manifest.facet"),
        ("[facets.shade]\nkind = \"ladder\"\nlevels = [\"1\"]\naliases = { deep = \"2\" }", "manifest.facet"),
        ("[facets.shade]\nkind = \"choice\"\nvalues = [\"deep\", \"deep\"]", "manifest.facet"),
        ("[rules]\nundeclared = \"warm\"", "manifest.rule"),
        ("[needs]\nbark-log = { range = \"1\", targets = [\"shed\"] }", "manifest.unknown-target"),
    ];
    for (more, code) in rows {
        assert_eq!(garden(more).run(&["install"]).expect(3).code(), code, "{more}");
    }
    let garden = garden("[fits]\norchard-runtime = \"2\"");
    garden.write("gate/moss.txt", "moss\n");
    assert_eq!(garden.run(&["publish", "../seedhouse"]).expect(3).code(), "card.facet");
    garden.run(&["publish", "levelled"]).expect(0);
    garden.write("cards.jsonl", &(card("root-depth 1.0", "9", "") + "\n"));
    garden.run_in(".", &["registry", "load", "levelled", "cards.jsonl"]).expect(3);
}

#[test]
fn publishing_is_refused_where_the_needs_break_the_promise() {
    let garden = garden("[fits]\norchard-runtime = \"2\"\n[needs]\nsoil-curve = \"2\"");
    garden.write("gate/moss.txt", "moss\n");
    let output = garden.run(&["publish", "levelled", "--dry-run"]).expect(4);
    assert!(output.stderr.contains("gate-kiosk promises orchard-runtime 2"), "{output}");
}

#[test]
fn a_package_that_is_updated_has_to_fit_where_it_is_needed_and_is_needed_nowhere_else() {
    let needs = "[needs]\nsoil-curve = { range = \"= 2.0.0\", targets = [\"gate-kiosk\"] }\nbark-log = \"1\"";
    let garden = garden(&format!("{TARGETS}{needs}"));
    garden.run(&["install"]).expect(0);
    let manifest = garden.read("gate/bibliotax.toml").replace("= 2.0.0", "1.6 ..");
    garden.write("gate/bibliotax.toml", &manifest);
    garden.run(&["install"]).expect(0);
    let asked = garden.run(&["explain", "soil-curve", "2.1"]).expect(0);
    assert!(asked.stdout.contains("soil-curve could be 2.1.0"), "hand-unit doesn't need it: {asked}");
    let updated = garden.run(&["update", "soil-curve"]).expect(0);
    assert!(updated.stdout.contains("2.0.0 -> 2.1.0"), "{updated}");
    let lock = garden.read("gate/bibliotax.lock");
    let line = lock.lines().find(|line| line.contains("\"soil-curve\",\"version\"")).unwrap();
    assert!(line.contains("\"targets\":[\"gate-kiosk\"]"), "{line}");
    assert!(
        garden.run(&["resolve"]).expect(0).stdout.starts_with("nothing to do"),
        "the lock is what it would be"
    );
    assert_snapshot!(garden.run(&["update", "soil-curve"]), @"
    nothing to update; see `bibliotax newer` for releases beyond the ranges
    shelf: nothing to do, nothing to install: the lock is empty
    ----- status 0
    ");
}

#[test]
fn a_promise_of_one_project_is_not_for_what_only_another_needs() {
    let garden = garden("");
    garden.write(
        "ws/bibliotax.toml",
        "[workspace]\nfolders = [\"app\", \"lib\"]\n[registries]\nlevelled = \"../levelled\"\n",
    );
    let target = TARGETS.split("[targets.hand-unit]").next().unwrap();
    garden.write(
        "ws/app/bibliotax.toml",
        &format!("[project]\nname = \"gate\"\n{target}[needs]\nsoil-curve = \"2.1\"\n"),
    );
    garden.write(
        "ws/lib/bibliotax.toml",
        "[project]\nname = \"moss-kit\"\nversion = \"1.0.0\"\n[fits]\norchard-runtime = \"2\"\n[needs]\nbark-log = \"1\"\n",
    );
    garden.run_in("ws", &["install"]).expect(0);
    assert_snapshot!(garden.run_in("ws", &["fit"]), @"
                         gate-kiosk  moss-kit's promise
      bark-log    1.0.0  not needed  not declared
      soil-curve  2.1.0  yes         not needed
    bark-log 1.0.0
      moss-kit's promise: not declared: orchard-runtime
    no declared level excludes any of them
    ----- status 0
    ");
    let of_lib = garden.run_in("ws/lib", &["fit"]).expect(0);
    assert!(!of_lib.stdout.contains("soil-curve") && of_lib.stdout.contains("level by level"), "{of_lib}");
}
