//! `graph`, `newer` and `compare`: the lock looked at.

use std::process::Command;

use insta::assert_snapshot;

use crate::garden::Garden;

const RELEASES: [&str; 8] = [
    "rain-ledger 2.4.0: dew-point 1, seed-clock 1",
    "rain-ledger 2.6.0: dew-point 1, seed-clock 1",
    "rain-ledger 3.0.0: dew-point 2",
    "dew-point 1.4.0",
    "dew-point 2.0.0",
    "seed-clock 1.1.0",
    "probe-sim 0.9.2: dew-point any",
    "moss-map 1.0.0: rain-ledger 2",
];

fn garden() -> Garden {
    let garden = Garden::needing(
        &RELEASES,
        "rain-ledger = \"2.4.0\"\nmoss-map = \"1\"\n[needs-for.test]\nprobe-sim = \"0.9\"",
    );
    garden.run(&["install", "--quiet"]).expect(0);
    garden
}

#[test]
fn a_graph_tells_each_need_once_and_can_be_narrowed() {
    let garden = garden();
    assert_snapshot!(garden.run(&["graph"]), @"
    gate-kiosk
      moss-map 1.0.0
        rain-ledger 2.4.0 …
      rain-ledger 2.4.0
        dew-point 1.4.0
        seed-clock 1.1.0
      probe-sim 0.9.2  for test
        dew-point 1.4.0
    5 packages, at most 2 steps from a project; … marks what is listed where it is nearest to one
    ----- status 0
    ");
    assert_snapshot!(garden.run(&["graph", "--to", "seed-clock", "--leave-out", "test"]), @"
    gate-kiosk
      moss-map 1.0.0
        rain-ledger 2.4.0 …
      rain-ledger 2.4.0
        seed-clock 1.1.0
    3 packages, at most 2 steps from a project; … marks what is listed where it is nearest to one
    ----- status 0
    ");
    assert_snapshot!(garden.run(&["graph", "--depth", "1"]), @"
    gate-kiosk
      moss-map 1.0.0
        rain-ledger 2.4.0
      rain-ledger 2.4.0
      probe-sim 0.9.2  for test
    3 packages, at most 1 step from a project
    ----- status 0
    ");
    let json = garden.run(&["graph", "--format", "json"]).expect(0).json();
    assert_eq!(
        (json["projects"].as_array().unwrap().len(), json["packages"].as_array().unwrap().len()),
        (1, 5)
    );
    let need = serde_json::json!({ "from": "gate-kiosk", "to": "probe-sim", "purpose": "test" });
    assert!(json["needs"].as_array().unwrap().contains(&need), "{json}");
    for (form, begin) in [("dot", "digraph"), ("mermaid", "flowchart"), ("svg", "<svg")] {
        let drawn = garden.run(&["graph", "--format", form, "--quiet"]).expect(0);
        assert!(drawn.stdout.starts_with(begin) && drawn.stdout.contains("rain-ledger 2.4.0"), "{drawn}");
    }
    let slip = garden.run(&["graph", "--to", "seed-clok"]).expect(2);
    assert!(slip.stderr.contains("`seed-clock`"), "{slip}");
    assert_eq!(garden.run(&["graph", "--target", "moon"]).expect(2).code(), "install.target");
}

#[test]
fn what_is_newer_is_told_with_what_holds_it_back_and_what_changed() {
    let garden = garden();
    let events = "{\"event\":\"deprecated\",\"name\":\"probe-sim\",\"range\":\"0.9\",\"reason\":\"too slow\",\"instead\":\"moss-map\",\"at\":\"2026-03-02T09:00:00Z\"}\n";
    garden.load(events);
    let card = r#"{"name":"moss-map","version":"1.1.0","published":"2026-03-03T09:00:00Z","needs":[{"name":"rain-ledger","range":"2"}],"notes":"Tells lichen from moss."}"#;
    garden.load(&format!("{card}\n"));
    assert_snapshot!(garden.run(&["newer"]), @"
                   locked  update  newest  
      moss-map     1.0.0   1.1.0           1.1.0: Tells lichen from moss.
      probe-sim    0.9.2                   deprecated: too slow; use moss-map
      rain-ledger  2.4.0           3.0.0   held back by gate-kiosk (needs 2.4.0), moss-map 1.0.0 (needs 2)
      dew-point    1.4.0           2.0.0   held back by rain-ledger 2.4.0 (needs 1)
    next: `bibliotax update` updates 1 package
    ----- status 0
    ");
    let json = garden.run(&["newer", "--format", "json", "rain-ledger"]).expect(0).json();
    let beyond = &json["packages"][0]["beyond"];
    assert_eq!(
        (beyond["version"].as_str(), beyond["held-by"].as_array().map(Vec::len)),
        (Some("3.0.0"), Some(2))
    );
    garden.run(&["update", "--quiet"]).expect(0);
    let slip = garden.run(&["newer", "rain-ledgre"]).expect(2);
    assert_eq!(slip.code(), "explain.not-here");
    let direct = garden.run(&["newer", "--direct"]).expect(0);
    assert!(!direct.stdout.contains("dew-point  1.4.0"), "{direct}");
    let none = Garden::needing(&["dew-point 1.4.0"], "dew-point = \"1\"");
    none.run(&["install", "--quiet"]).expect(0);
    assert_snapshot!(none.run(&["newer"]), @"
    no updates: 1 package at the newest release
    ----- status 0
    ");
}

#[test]
fn locks_are_compared_in_the_terms_of_a_review() {
    let garden = garden();
    let git = |args: &[&str]| {
        let done = Command::new("git")
            .args(["-c", "user.name=Moss", "-c", "user.email=moss@fernhollow.example"])
            .args(args)
            .current_dir(garden.path("gate"))
            .output()
            .unwrap();
        assert!(done.status.success(), "{args:?}");
    };
    let refused = |word: &str| {
        let ran = garden.run(&["compare", word]).expect(2);
        assert!(ran.code() == "compare.unknown" && ran.stderr.contains("bibliotax compare nothing"), "{ran}");
        ran.stderr
    };
    assert!(refused("HEAD").contains("not in a git repository"));
    git(&["init", "-q"]);
    assert!(refused("HEAD").contains("nothing was committed"));
    git(&["add", "bibliotax.toml"]);
    git(&["commit", "-q", "-m", "Without a lock"]);
    assert!(refused("HEAD").contains("no bibliotax.lock in `HEAD`"));
    assert_snapshot!(garden.run(&["compare", "nothing"]), @"
    new in the workspace: gate-kiosk
    lock: 5 added; archives 0 B -> 10.0 KiB
      added  dew-point    1.4.0  2.0 KiB  MIT
      added  moss-map     1.0.0  2.0 KiB  MIT
      added  probe-sim    0.9.2  2.0 KiB  MIT
      added  rain-ledger  2.4.0  2.0 KiB  MIT
      added  seed-clock   1.1.0  2.0 KiB  MIT
    ----- status 0
    ");
    git(&["add", "bibliotax.lock"]);
    git(&["commit", "-q", "-m", "Before"]);
    assert_snapshot!(garden.run(&["compare"]), @"
    no difference
    ----- status 0
    ");
    garden.run(&["compare", "--quiet"]).expect(0);
    garden.run(&["need", "dew-point", "--quiet", "--for", "test"]).expect(0);
    assert_snapshot!(garden.run(&["compare"]), @"
    same versions; only targets or purposes changed
    ----- status 0
    ");
    garden.run(&["compare", "--quiet"]).expect(1);
    garden.run(&["drop", "dew-point", "--quiet"]).expect(0);
    std::fs::copy(garden.path("gate/bibliotax.lock"), garden.path("gate/before.lock")).unwrap();
    garden.run(&["need", "rain-ledger", "2.6", "--quiet"]).expect(0);
    garden.run(&["drop", "probe-sim", "--quiet"]).expect(0);
    garden.run_in(".", &["registry", "create", "other"]).expect(0);
    garden.run_in(".", &["registry", "mirror", "seedhouse", "other", "--only", "dew-point"]).expect(0);
    let manifest = garden.read("gate/bibliotax.toml").replace(
        "\"../seedhouse\"",
        "\"../seedhouse\"\nother = { url = \"../other\", owns = [\"dew-point\"] }",
    );
    garden.write("gate/bibliotax.toml", &manifest);
    garden.run(&["install", "--quiet"]).expect(0);
    assert_snapshot!(garden.run(&["compare"]), @"
    lock: 1 gone, 1 raised, 1 changed; archives 10.0 KiB -> 8.0 KiB
      changed  dew-point    1.4.0           2.0 KiB  MIT  source: seedhouse -> other
      gone     probe-sim    0.9.2           2.0 KiB  MIT
      raised   rain-ledger  2.4.0 -> 2.6.0  2.0 KiB  MIT
    ----- status 0
    ");
    assert_snapshot!(garden.run(&["compare", "before.lock", "--format", "markdown"]), @"
    ### bibliotax.lock: 1 gone, 1 raised, 1 changed

    - from elsewhere: dew-point (seedhouse → other)
    - gone: probe-sim 0.9.2

    | | package | version | size | licence | |
    |---|---|---|---|---|---|
    | changed | dew-point | 1.4.0 | 2.0 KiB | MIT | source: seedhouse → other |
    | gone | probe-sim | 0.9.2 | 2.0 KiB | MIT |  |
    | raised | rain-ledger | 2.4.0 → 2.6.0 | 2.0 KiB | MIT |  |

    Archives: 10.0 KiB → 8.0 KiB
    ----- status 0
    ");
    garden.run(&["compare", "--quiet"]).expect(1);
    let json = garden.run(&["compare", "HEAD", "bibliotax.lock", "--format", "json"]).expect(0).json();
    assert_eq!(json["changes"].as_array().unwrap().len(), 3);
    assert_eq!(garden.run(&["compare", "HEAD~7"]).expect(2).code(), "compare.unknown");
    assert_eq!(garden.run(&["compare", "bibliotax.toml"]).expect(3).code(), "lock.broken");
}

#[test]
fn a_package_that_is_reached_in_a_thousand_million_ways_is_explained_by_the_shortest() {
    let name = |layer: usize, at: usize| format!("moss-{layer}-{at}");
    let next =
        |layer: usize| (0..8).map(|at| format!("{} 1", name(layer + 1, at))).collect::<Vec<_>>().join(", ");
    let mut releases: Vec<String> = (0..9)
        .flat_map(|layer| (0..8).map(move |at| (layer, at)))
        .map(|(layer, at)| format!("{} 1.0.0: {}", name(layer, at), next(layer)))
        .collect();
    releases.extend((0..8).map(|at| format!("{} 1.0.0: dew-point 1", name(9, at))));
    releases.push("dew-point 1.4.0".to_owned());
    let needs: String = (0..8).map(|at| format!("{} = \"1\"\n", name(0, at))).collect();
    let garden = Garden::needing(&releases.iter().map(String::as_str).collect::<Vec<_>>(), &needs);
    garden.run(&["resolve"]).expect(0);
    let text = garden.run_within("-d 262144, -t 20", &["explain", "dew-point"]).expect(0);
    assert!(text.stdout.contains("and more paths, none shorter") && text.stdout.len() < 5_000, "{text}");
    let text =
        garden.run_within("-d 262144, -t 20", &["explain", "dew-point", "--format", "json"]).expect(0).json();
    assert_eq!(
        (text["locked"]["paths"].as_array().unwrap().len(), &text["locked"]["more-paths"]),
        (12, &true.into())
    );
}
