//! `[stand-ins]`: something stands in for a package while somebody works on it.

use insta::assert_snapshot;

use crate::garden::Garden;

const DEW: &str =
    "[project]\nname = \"dew-point\"\n\n[card]\nexposes = { include = \".\" }\n\n[needs]\nbark-log = \"1\"\n";

/// A project whose need needs `dew-point`, which a folder stands in for.
fn garden(stand_in: &str) -> Garden {
    let releases = ["rain-ledger 2.4.0: dew-point 1", "dew-point 1.4.0", "bark-log 1.1.0"];
    let garden = Garden::needing(&releases, "rain-ledger = \"2\"");
    garden.write("dew-point/bibliotax.toml", DEW);
    garden.write("dew-point/dew.h", "#define DEW 1\n");
    garden.run(&["install", "--quiet"]).expect(0);
    let manifest = garden.read("gate/bibliotax.toml");
    garden.write("gate/bibliotax.toml", &format!("{manifest}\n[stand-ins]\ndew-point = {stand_in}\n"));
    garden
}

#[test]
fn a_folder_stands_in_for_a_package_at_any_depth_and_is_shown() {
    let garden = garden("{ path = \"../dew-point\", version = \"1.5.0\" }");
    assert_snapshot!(garden.run(&["install"]), @"
    lock: 1 added, 1 raised
      added   bark-log   1.1.0           2.0 KiB          MIT                   needed by dew-point
      raised  dew-point  1.4.0 -> 1.5.0  in ../dew-point  licence not declared  needed by rain-ledger, stand-in: the folder ../dew-point
    shelf: 1 package installed, 1 removed, 1 already there, 2.0 KiB downloaded (TIME)
    ----- status 0
    ");
    assert_snapshot!(garden.run(&["explain", "dew-point"]), @"
    dew-point 1.5.0 (stand-in: the folder ../dew-point) is needed
      through rain-ledger
    there is no newer release
    ----- status 0
    ");
    let output = garden.run(&["with", "--", "sh", "-c", "cat $BIBLIOTAX_ROLE_INCLUDE/dew.h"]).expect(0);
    assert_eq!(output.stdout, "#define DEW 1\n");
    garden.write("dew-point/dew.h", "#define DEW 2\n");
    let output = garden.run(&["with", "--", "sh", "-c", "cat $BIBLIOTAX_ROLE_INCLUDE/dew.h"]).expect(0);
    assert_eq!(output.stdout, "#define DEW 2\n");
}

#[test]
fn what_is_sealed_or_published_has_nothing_replaced_unless_that_is_allowed() {
    let garden = garden("{ path = \"../dew-point\", version = \"1.5.0\" }");
    garden.run(&["install", "--quiet"]).expect(0);
    assert_snapshot!(garden.run(&["install", "--sealed"]), @"
    ----- stderr
    error: stand-ins are in use: dew-point by the folder ../dew-point  (lock.stood-in)
    try: remove them from `[stand-ins]` in the workspace's manifest, or allow them with `--allow-stand-ins`
    ----- status 7
    ");
    garden.run(&["install", "--sealed", "--allow-stand-ins"]).expect(0);
    assert_eq!(garden.run(&["with", "--sealed", "--", "true"]).expect(7).code(), "lock.stood-in");
    garden.run(&["with", "--sealed", "--allow-stand-ins", "--", "true"]).expect(0);
    let manifest = garden.read("gate/bibliotax.toml");
    garden.write("gate/bibliotax.toml", &manifest.replace("[project]\n", "[project]\nversion = \"1.0.0\"\n"));
    assert_eq!(garden.run(&["publish", "seedhouse"]).expect(7).code(), "publish.stood-in");
    garden.run(&["publish", "seedhouse", "--allow-stand-ins", "--dry-run"]).expect(0);
}

#[test]
fn what_stands_in_has_to_do_for_the_ranges_and_be_there() {
    let unfit = garden("{ path = \"../dew-point\", version = \"2.0.0\" }");
    assert_snapshot!(unfit.run(&["install"]), @"
    ----- stderr
    error: no versions satisfy all requirements  (resolve.conflict)
      gate-kiosk needs rain-ledger 2.
      rain-ledger 2.4.0 needs dew-point 1.
      No release of dew-point matches 1 (available: 2.0.0, by the folder ../dew-point, which stands in for it).
    try: one of these; each was tried and works
      bibliotax drop rain-ledger   # removes rain-ledger
    ----- status 4
    ");
    for (stand_in, code) in [
        ("{ path = \"../dew\" }", "workspace.no-project"),
        ("{ path = \"../seedhouse\", version = \"1.5\" }", "workspace.no-project"),
        ("{ version = \"1.5.0\" }", "manifest.no-source"),
        ("\"../dew-point\"", "manifest.wrong-kind"),
        ("{ path = \"../dew-point\", branch = \"main\" }", "manifest.no-source"),
    ] {
        assert_eq!(garden(stand_in).run(&["install"]).expect(3).code(), code, "{stand_in}");
    }
}
