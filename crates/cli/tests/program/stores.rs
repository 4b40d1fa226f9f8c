//! The store: what it keeps for which projects, trimming, and repair of damage.

use std::fs;
use std::path::PathBuf;

use insta::assert_snapshot;

use crate::garden::Garden;

const RELEASES: [&str; 4] =
    ["rain-ledger 2.4.0: dew-point 1", "dew-point 1.4.0", "moss-map 1.0.0", "moss-map 1.1.0"];

/// A garden with two projects; the first used more before than it does now.
fn garden() -> Garden {
    let garden = Garden::with(&RELEASES);
    garden.run(&["need", "rain-ledger"]).expect(0);
    garden.run(&["need", "moss-map", "1.0.0", "--exactly"]).expect(0);
    garden.run(&["need", "moss-map", "1.1.0", "--exactly"]).expect(0);
    garden.write(
        "other/bibliotax.toml",
        &garden.read("gate/bibliotax.toml").replace("rain-ledger", "dew-point").replace("2.4 .. 3", "1"),
    );
    garden.run_in("other", &["install"]).expect(0);
    garden
}

fn trees(garden: &Garden) -> Vec<PathBuf> {
    let bins = fs::read_dir(garden.path("store/trees")).unwrap().flatten();
    let mut trees: Vec<PathBuf> =
        bins.flat_map(|bin| fs::read_dir(bin.path()).unwrap().flatten()).map(|tree| tree.path()).collect();
    trees.sort();
    trees
}

#[test]
fn the_store_tells_what_it_keeps_and_lets_go_what_nobody_uses() {
    let garden = garden();
    assert_snapshot!(garden.run(&["store", "show"]), @"
    GARDEN/store
      packages  4 archives                      64 B
      unused    1 archive                       15 B
      answers   of registries and repositories  0 B

    projects that use it
      GARDEN/gate   3 archives  49 B
      GARDEN/other  2 archives  31 B

    `bibliotax store trim` deletes what is unused
    ----- status 0
    ");
    assert_snapshot!(garden.run(&["store", "show", "--all"]), @"
    GARDEN/store
      packages  4 archives                      64 B
      unused    1 archive                       15 B
      answers   of registries and repositories  0 B

    projects that use it
      GARDEN/gate   3 archives  49 B
      GARDEN/other  2 archives  31 B

    archives
      dew-point 1.4.0    16 B  1 file  2 projects
      moss-map 1.0.0     15 B  1 file  unused
      moss-map 1.1.0     15 B  1 file  2 projects
      rain-ledger 2.4.0  18 B  1 file  1 project

    `bibliotax store trim` deletes what is unused
    ----- status 0
    ");
    assert_snapshot!(garden.run(&["store", "trim", "--dry-run"]), @"
      moss-map 1.0.0  15 B  1 file  unused
    would delete 1 archive (15 B); 49 B of archives remain
    ----- status 0
    ");
    assert_eq!(trees(&garden).len(), 4);
    assert_snapshot!(garden.run(&["store", "trim", "--older-than", "7"]), @"
    nothing to delete; 64 B of archives remain
    ----- status 0
    ");
    assert_snapshot!(garden.run(&["store", "trim"]), @"
      moss-map 1.0.0  15 B  1 file  unused
    deleted 1 archive (15 B); 49 B of archives remain
    ----- status 0
    ");
    assert_eq!(trees(&garden).len(), 3);
    for project in ["gate", "other"] {
        fs::remove_dir_all(garden.path(project).join("shelf")).unwrap();
    }
    // Without shelves nobody uses anything; what goes comes again.
    assert_snapshot!(garden.run(&["store", "trim", "--keep", "15"]), @"
      dew-point 1.4.0    16 B  1 file  unused
      rain-ledger 2.4.0  18 B  1 file  unused
    deleted 2 archives (34 B); 15 B of archives remain
    ----- status 0
    ");
    garden.run(&["install"]).expect(0);
    garden.run(&["verify"]).expect(0);
}

#[test]
fn what_is_damaged_in_the_store_is_found_and_fetched_again() {
    let garden = garden();
    garden.run(&["store", "trim"]).expect(0);
    assert_eq!(garden.run(&["store", "check"]).expect(0).stdout, "all 3 archives are intact\n");
    let damage = |tree: &PathBuf| {
        let file = fs::read_dir(tree.join("files")).unwrap().flatten().next().unwrap().path();
        fs::remove_file(&file).unwrap();
        fs::write(file, "bitten").unwrap();
    };
    damage(&trees(&garden)[0]);
    fs::write(trees(&garden)[1].join("listing.json"), "{").unwrap();
    assert_eq!(
        garden.run(&["store", "check", "--format", "json"]).expect(1).json()["damaged"]
            .as_array()
            .unwrap()
            .len(),
        2
    );
    let output = garden.run(&["store", "check", "--repair"]).expect(0);
    assert!(output.stdout.contains("2 of 3 archives were damaged, 2 downloaded again"), "{output}");
    garden.run(&["store", "check"]).expect(0);
    assert_eq!(trees(&garden).len(), 3);
}
