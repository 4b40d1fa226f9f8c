//! Parts, variants, components and steps: what a release is made of, and what each target takes of it.

use insta::assert_snapshot;

use crate::garden::Garden;

const TARGETS: &str = "[targets.gate-kiosk]\nos = \"linux\"\narch = \"x86_64\"\n\
    [targets.hand-unit]\nos = \"linux\"\narch = \"aarch64\"\n";

/// A library with native files for two chips, documents, and a component; version 2 has files for one chip only.
fn manifest(version: &str, chips: &[&str]) -> String {
    let natives = |chip: &&str| {
        format!(
            "[[card.parts]]\npart = \"natives\"\nfor = {{ os = \"linux\", arch = \"{chip}\" }}\nfrom = \"chips/{chip}\"\n"
        )
    };
    let natives: String = chips.iter().map(natives).collect();
    format!(
        "[project]\nname = \"moss-map\"\nversion = \"{version}\"\nlicense = \"MIT\"\n\
         [registries]\nseedhouse = \"../seedhouse\"\n\
         [card]\nsummary = \"Where moss grows\"\nexposes = {{ include = \"include\" }}\n\
         [card.components.trace]\nsummary = \"Tells what it draws\"\nneeds = {{ bark-log = \"1\" }}\nparts = [\"trace\"]\n\
         [card.components.colour]\ndefault = true\nneeds = {{ leaf-palette = \"1\" }}\n\
         [[card.parts]]\npart = \"trace\"\nfrom = \"trace\"\n\
         [[card.parts]]\npart = \"docs\"\nfrom = \"handbook\"\nfiles = [\"**/*.md\"]\n{natives}\
         [[card.steps]]\nid = \"calibrate\"\nper = \"device\"\nfor = {{ arch = \"aarch64\" }}\ntext = \"Hold it in the sun.\"\n"
    )
}

fn write_sources(garden: &Garden) {
    let files = [
        ("include/moss.h", "moss.h"),
        ("chips/x86_64/lib/moss.o", "moss.o for x86_64"),
        ("chips/aarch64/lib/moss.o", "moss.o for aarch64"),
        ("trace/src/trace.c", "trace.c"),
        ("handbook/docs/moss.md", "moss.md"),
        ("handbook/draft.txt", "not published"),
    ];
    files.iter().for_each(|(path, text)| garden.write(&format!("moss/{path}"), text));
}

/// A garden with `moss-map` 1.0 for both chips and 2.0 for one, and a project with these targets.
fn garden(more: &str) -> Garden {
    let garden = Garden::with(&["bark-log 1.0", "leaf-palette 1.0"]);
    write_sources(&garden);
    for (version, chips) in [("1.0.0", &["x86_64", "aarch64"][..]), ("2.0.0", &["x86_64"])] {
        garden.write("moss/bibliotax.toml", &manifest(version, chips));
        garden.run_in("moss", &["publish"]).expect(0);
    }
    let project = "[project]\nname = \"gate\"\n[registries]\nseedhouse = \"../seedhouse\"\n";
    garden.write("gate/bibliotax.toml", &format!("{project}{more}\n"));
    garden
}

#[test]
fn publishing_lists_each_part_and_refuses_what_can_not_be_told_apart() {
    let garden = garden("");
    garden.write("moss/bibliotax.toml", &manifest("3.0.0", &["x86_64"]));
    assert_snapshot!(garden.run_in("moss", &["publish", "--dry-run"]), @"
    main
      chips/aarch64/lib/moss.o  18 B
      include/moss.h            6 B
    trace
      src/trace.c  7 B
    docs
      docs/moss.md  7 B
    natives, for linux/x86_64
      lib/moss.o  17 B
    5 files, 55 B before packing
    moss-map 3.0.0 would go to seedhouse; nothing was published
    ----- status 0
    ");
    let refused = |text: &str| {
        garden.write("moss/bibliotax.toml", text);
        garden.run_in("moss", &["publish", "--dry-run"]).expect(3).code().to_owned()
    };
    let more = |more: &str| manifest("3.0.0", &["x86_64"]) + more;
    let linux = "[[card.parts]]\npart = \"natives\"\nfor = { os = \"linux\" }\nfrom = \"chips/aarch64\"\n";
    let chip = "[[card.parts]]\npart = \"natives\"\nfor = { arch = \"aarch64\" }\nfrom = \"chips/aarch64\"\n";
    let rows = [
        (more(&format!("{linux}{chip}")), "card.tie"),
        (
            more("[[card.parts]]\npart = \"natives\"\nfor = { orchid = \"1\" }\nfrom = \"chips/aarch64\"\n"),
            "card.facet",
        ),
        (more("[[card.parts]]\npart = \"extra\"\nfrom = \"trace\"\n"), "publish.clash"),
        (more("[[card.parts]]\npart = \"extra\"\nfrom = \"../gate\"\n"), "manifest.part"),
        (more("[[card.parts]]\npart = \"extra\"\n"), "manifest.part"),
        (more("[card.components.pond]\nparts = [\"pond\"]\n"), "card.no-part"),
        (more("[[card.steps]]\nid = \"calibrate\"\ntext = \"Twice.\"\n"), "card.two-steps"),
        (more("[[card.steps]]\nid = \"wash\"\nper = \"day\"\ntext = \"Twice.\"\n"), "manifest.step"),
        (
            more("[card.components.pond.needs]\nbark-log = { range = \"1\", targets = [] }\n"),
            "manifest.component-need",
        ),
    ];
    for (text, code) in rows {
        assert_eq!(refused(&text), code, "{text}");
    }
    let empty = "[[card.parts]]\npart = \"extra\"\nfrom = \"trace\"\nfiles = [\"*.none\"]\n";
    garden.write("moss/bibliotax.toml", &more(empty));
    assert_eq!(garden.run_in("moss", &["publish"]).expect(3).code(), "publish.nothing");
}

#[test]
fn each_target_takes_its_own_files_and_one_lock_serves_both() {
    let garden = garden(TARGETS);
    assert_snapshot!(garden.run(&["need", "moss-map"]), @r#"
    manifest: [needs] moss-map = "1 .. 2"
      passed over moss-map 2.0.0:
        hand-unit is linux/aarch64, and moss-map 2.0.0 has natives for linux/x86_64 only.
    lock: 2 added
      added  leaf-palette  1.0    2.0 KiB  MIT  needed by moss-map
      added  moss-map      1.0.0  260 B    MIT  needed here, with colour
    shelf: 4 packages installed, 2.3 KiB downloaded (TIME)
    steps: 1 to do by hand; see `bibliotax steps`
       calibrate  moss-map  on each device of hand-unit
    ----- stderr
    warning: leaf-palette doesn't declare arch, os; see `bibliotax fit`
    ----- status 0
    "#);
    assert_eq!(garden.read("gate/shelf/gate-kiosk/moss-map/lib/moss.o"), "moss.o for x86_64");
    assert_eq!(garden.read("gate/shelf/hand-unit/moss-map/lib/moss.o"), "moss.o for aarch64");
    assert_eq!(garden.read("gate/shelf/hand-unit/moss-map/include/moss.h"), "moss.h");
    assert!(!garden.path("gate/shelf/hand-unit/moss-map/docs").exists(), "documents come on request");
    std::fs::remove_dir_all(garden.path("gate/shelf")).unwrap();
    garden.run(&["install", "--sealed", "--target", "hand-unit"]).expect(0);
    assert!(!garden.path("gate/shelf/gate-kiosk").exists());
    assert_snapshot!(garden.run(&["install", "--dry-run"]), @"
      would put leaf-palette 1.0 on the shelf for gate-kiosk
      would put moss-map 1.0.0 on the shelf for gate-kiosk
    nothing was written
    ----- status 0
    ");
    garden.run(&["install"]).expect(0);
    assert!(garden.run(&["install"]).expect(0).stdout.contains("nothing to do, all 4 packages are there"));
    assert_eq!(garden.run(&["install", "--target", "shed"]).expect(2).code(), "install.target");
}

#[test]
fn a_part_without_a_file_for_a_target_is_a_conflict_that_says_so() {
    let garden = garden(TARGETS);
    assert_snapshot!(garden.run(&["need", "moss-map", "2"]), @r#"
    ----- stderr
    error: no versions satisfy all requirements  (resolve.conflict)
      gate needs moss-map 2.
      hand-unit is linux/aarch64, and moss-map 2.0.0 has natives for linux/x86_64 only.
      So no release of moss-map is left.
    try: one of these; each was tried and works
      bibliotax need moss-map "1 .. 2"                # changes moss-map to 1.0.0
      bibliotax need moss-map 2 --target gate-kiosk   # uses moss-map only on gate-kiosk
    ----- status 4
    "#);
    assert_snapshot!(garden.run(&["fit", "moss-map"]), @"
                       gate-kiosk  hand-unit
      moss-map  2.0.0  yes         no
    moss-map 2.0.0
      hand-unit: has natives only for linux/x86_64
      1.0.0 is the newest that fits everywhere
    1 of 1 package doesn't fit everywhere
    ----- status 1
    ");
    garden.run(&["need", "moss-map", "2", "--target", "gate-kiosk"]).expect(0);
    assert!(!garden.path("gate/shelf/hand-unit").exists());
}

#[test]
fn a_project_without_targets_takes_what_is_for_the_machine() {
    let garden = garden("");
    garden.run(&["need", "moss-map", "1"]).expect(0);
    let lock = garden.read("gate/bibliotax.lock");
    assert_eq!(lock.matches("\"part\":\"natives\"").count(), 2, "the lock serves every machine: {lock}");
    let here = garden.read("gate/shelf/moss-map/lib/moss.o");
    assert_eq!(here, format!("moss.o for {}", std::env::consts::ARCH));
    let other = if std::env::consts::ARCH == "x86_64" { "aarch64" } else { "x86_64" };
    garden.write("moss/bibliotax.toml", &manifest("1.1.0", &[other]));
    garden.run_in("moss", &["publish"]).expect(0);
    let output = garden.run(&["need", "moss-map", "1.1"]).expect(4);
    assert_eq!(output.code(), "install.not-for-machine", "{output}");
    assert!(!garden.read("gate/bibliotax.lock").contains("1.1.0"), "nothing was changed");
}

#[test]
fn components_bring_what_they_need_and_parts_come_on_request() {
    let garden = garden("[targets.hand-unit]\nos = \"linux\"\narch = \"aarch64\"\n");
    assert_snapshot!(garden.run(&["describe", "moss-map"]), @r#"
    moss-map 1.0.0
      Where moss grows

      licence    MIT
      published  2026-03-01 (today) in seedhouse
      fits       hand-unit yes
      exposes    include include
      manifest   moss-map = "1 .. 2"
      command    bibliotax need moss-map

    components
      colour  by default                       needs leaf-palette 1
      trace               Tells what it draws  needs bark-log 1; brings trace, 77 B

    files
      main                        83 B  tar.zst
      trace                       77 B  tar.zst  with trace
      docs                        81 B  tar.zst  on request
      natives  for linux/x86_64   88 B  tar.zst
      natives  for linux/aarch64  89 B  tar.zst  taken by hand-unit

    steps, by hand
      calibrate  for each device on aarch64  Hold it in the sun.

    releases
      2.0.0  2026-03-01  newest, doesn't fit hand-unit
      1.0.0  2026-03-01  newest that fits
    ----- status 0
    "#);
    assert_snapshot!(garden.run(&["need", "moss-map", "--component", "trace", "--part", "docs"]), @r#"
    manifest: [needs] moss-map = { range = "1 .. 2", components = ["trace"], parts = ["docs"] }
      passed over moss-map 2.0.0:
        hand-unit is linux/aarch64, and moss-map 2.0.0 has natives for linux/x86_64 only.
    lock: 3 added
      added  bark-log      1.0    2.0 KiB  MIT  needed by moss-map
      added  leaf-palette  1.0    2.0 KiB  MIT  needed by moss-map
      added  moss-map      1.0.0  330 B    MIT  needed here, with colour and trace
    shelf: 3 packages installed, 4.3 KiB downloaded (TIME)
    steps: 1 to do by hand; see `bibliotax steps`
       calibrate  moss-map  on each device of hand-unit
    ----- stderr
    warning: 2 packages don't declare arch, os; see `bibliotax fit`
    ----- status 0
    "#);
    assert_eq!(garden.read("gate/shelf/hand-unit/moss-map/docs/moss.md"), "moss.md");
    assert_eq!(garden.read("gate/shelf/hand-unit/moss-map/src/trace.c"), "trace.c");
    assert!(!garden.path("gate/shelf/hand-unit/moss-map/draft.txt").exists());
    let project = garden.read("gate/bibliotax.toml");
    garden.write("gate/bibliotax.toml", &project.replace("components = [\"trace\"]", "bare = true"));
    assert_snapshot!(garden.run(&["install"]), @"
    lock: 2 gone, 1 changed
      gone     bark-log      1.0    2.0 KiB  MIT  nothing needs it
      gone     leaf-palette  1.0    2.0 KiB  MIT  nothing needs it
      changed  moss-map      1.0.0  253 B    MIT  needed here, other files and needs
    shelf: 1 package installed, 2 removed (TIME)
    steps: 1 to do by hand; see `bibliotax steps`
       calibrate  moss-map  on each device of hand-unit
    ----- status 0
    ");
    assert_snapshot!(garden.run(&["need", "moss-map", "--component", "trase"]), @"
    ----- stderr
    error: no release of moss-map has a component `trase`  (need.no-component)
    try: `trace`
    ----- status 2
    ");
    assert!(
        garden.run(&["need", "leaf-palette", "--part", "docs"]).expect(0).stderr.contains("has no part docs")
    );
}

#[test]
fn a_component_can_be_what_stands_in_the_way() {
    let garden =
        garden("[targets.hand-unit]\nos = \"linux\"\narch = \"aarch64\"\n[needs]\nbark-log = \"2 ..\"\n");
    garden.publish(&["bark-log 2.0"]);
    assert_snapshot!(garden.run(&["need", "moss-map", "1", "--component", "trace"]), @r#"
    ----- stderr
    error: no versions satisfy all requirements  (resolve.conflict)
      gate needs bark-log 2 or newer.
      gate needs moss-map 1 with trace.
      All releases of moss-map with trace need bark-log 1.
      No release of bark-log is in both 2 or newer and 1.
    try: one of these; each was tried and works
      bibliotax need bark-log "1 .. 2" && bibliotax need moss-map 1 --component trace   # changes bark-log to 1.0
      [needs] moss-map = "1"                                                            # in the manifest: uses moss-map without components
      bibliotax drop bark-log && bibliotax need moss-map 1 --component trace            # removes bark-log
    ----- status 4
    "#);
}
