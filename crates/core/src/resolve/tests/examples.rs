//! What the resolver does and says, case by case.

use super::*;
use crate::charter::{CharterBounds, CharterRelease};
use crate::resolve::{Prefer, Relaxation, ways_out};

#[test]
fn takes_the_newest_that_go_together_nearest_first() {
    let seedhouse = registry(&[
        "rain-ledger 2.4: dew-point 1",
        "rain-ledger 2.5: dew-point 2",
        "moss-map 1.0: dew-point 1, soil-curve any",
        "dew-point 1.0",
        "dew-point 1.1",
        "dew-point 2.0",
        "soil-curve 1.7",
        "unneeded 1.0",
    ]);
    let expected = ["moss-map 1.0", "rain-ledger 2.4", "dew-point 1.1", "soil-curve 1.7"];
    assert_eq!(answer(&seedhouse, &problem(&["rain-ledger any", "moss-map any"], &[])).unwrap(), expected);
}

#[test]
fn what_is_locked_stays_even_where_it_was_withdrawn_and_is_never_newly_chosen() {
    let seedhouse = registry(&["dew-point 1.0", "dew-point 1.1", "dew-point 1.2!"]);
    assert_eq!(answer(&seedhouse, &problem(&["dew-point 1"], &[])).unwrap(), ["dew-point 1.1"]);
    assert_eq!(
        answer(&seedhouse, &problem(&["dew-point 1"], &["dew-point 1.0"])).unwrap(),
        ["dew-point 1.0"]
    );
    assert_eq!(
        answer(&seedhouse, &problem(&["dew-point 1"], &["dew-point 1.2"])).unwrap(),
        ["dew-point 1.2"]
    );
    assert_eq!(
        answer(&seedhouse, &problem(&["dew-point 1.1"], &["dew-point 1.0"])).unwrap(),
        ["dew-point 1.1"]
    );
}

#[test]
fn a_deprecated_release_comes_last_and_the_oldest_first_where_that_is_asked() {
    let seedhouse = registry(&["dew-point 1.0", "dew-point 1.1", "dew-point 1.2~"]);
    assert_eq!(answer(&seedhouse, &problem(&["dew-point 1"], &[])).unwrap(), ["dew-point 1.1"]);
    assert_eq!(answer(&seedhouse, &problem(&["dew-point 1.2"], &[])).unwrap(), ["dew-point 1.2"]);
    let oldest = Problem { prefer: Prefer::Oldest, ..problem(&["dew-point 1"], &[]) };
    assert_eq!(answer(&seedhouse, &oldest).unwrap(), ["dew-point 1.0"]);
}

#[test]
fn a_package_whose_needer_can_not_stay_makes_nothing_older() {
    let seedhouse = registry(&[
        "rain-ledger 2.4: dew-point 1",
        "rain-ledger 2.6: dew-point 1, seed-clock 1",
        "rain-ledger 3.0: dew-point 2, seed-clock 2",
        "dew-point 1.0",
        "dew-point 2.0",
        "seed-clock 1.0",
        "seed-clock 2.0",
    ]);
    let locked = ["rain-ledger 3.0", "dew-point 2.0", "seed-clock 2.0"];
    let expected = ["rain-ledger 2.6", "dew-point 1.0", "seed-clock 1.0"];
    assert_eq!(answer(&seedhouse, &problem(&["rain-ledger 2"], &locked)).unwrap(), expected);
}

#[test]
fn ways_out_begin_with_the_smallest_change() {
    let seedhouse = registry(&[
        "moss-map 2.0: dew-point 1",
        "moss-map 3.0: dew-point 2",
        "soil-curve 1.7: dew-point 1",
        "soil-curve 2.1: dew-point 2",
        "dew-point 1.0",
        "dew-point 2.0",
    ]);
    let problem = problem(&["soil-curve 1.7", "moss-map 3"], &[]);
    let Err(Unresolved::Conflict(conflict)) = resolve(&problem, &seedhouse) else { panic!("it resolves") };
    let Ok(ways) = ways_out(&problem, &conflict, &seedhouse);
    let reported: Vec<String> = ways
        .iter()
        .flat_map(|way| &way.changes)
        .map(|(need, change)| match change {
            Relaxation::Range(range, version) => format!("{} {range} for {version}", need.package),
            other => format!("{} {other:?}", need.package),
        })
        .collect();
    assert_eq!(
        reported,
        ["soil-curve 2.1 .. 3 for 2.1", "moss-map 2 .. 3 for 2.0", "soil-curve Drop", "moss-map Drop"]
    );
}

#[test]
fn a_conflict_is_told_from_the_project_to_the_clash_and_no_more() {
    let seedhouse = registry(&[
        "rain-ledger 2.4: dew-point 2, soil-curve any",
        "rain-ledger 2.5: dew-point 2",
        "moss-map 1.0: leaf-palette any",
        "leaf-palette 1.0: dew-point .. 2",
        "leaf-palette 1.1: dew-point .. 2",
        "dew-point 1.0",
        "dew-point 2.0",
        "dew-point 3.0!",
        "soil-curve 1.7",
        "empty",
    ]);
    let rows: [(&[&str], &[&str]); 6] = [
        (
            &["soil-curve any", "rain-ledger 2", "moss-map 1"],
            &[
                "gate-kiosk needs rain-ledger 2.",
                "All releases of rain-ledger need dew-point 2.",
                "gate-kiosk needs moss-map 1.",
                "moss-map 1.0 needs leaf-palette any.",
                "All releases of leaf-palette need dew-point .. 2.",
                "No release of dew-point is in both 2 and .. 2.",
            ],
        ),
        (
            &["soil-curve 3"],
            &["gate-kiosk needs soil-curve 3.", "No release of soil-curve matches 3 (available: 1.7)."],
        ),
        (&["nowhere 3"], &["gate-kiosk needs nowhere 3.", "No registry has a package nowhere."]),
        (&["empty any"], &["gate-kiosk needs empty any.", "empty has no release yet."]),
        (
            &["dew-point 3"],
            &[
                "gate-kiosk needs dew-point 3.",
                "dew-point 3.0 was withdrawn (leaks).",
                "No release of dew-point matches 3 (available: 2.0, 1.0).",
            ],
        ),
        (
            &["dew-point 1", "dew-point 2"],
            &[
                "gate-kiosk needs dew-point 1.",
                "gate-kiosk needs dew-point 2.",
                "No release of dew-point is in both 1 and 2.",
            ],
        ),
    ];
    for (needs, reported) in rows {
        assert_eq!(answer(&seedhouse, &problem(needs, &[])).unwrap_err(), reported, "{needs:?}");
    }
}

/// A problem with a charter that has these ranges.
fn chartered(problem: Problem, ranges: &[&str], except: &[&str]) -> Problem {
    let release = CharterRelease { name: package("fernhollow/season"), version: "2026.2.0".parse().unwrap() };
    let (families, ranges): (Vec<_>, Vec<_>) =
        ranges.iter().map(|range| wanted(range)).partition(|(name, _)| name.as_str() == "pergola");
    let families = families.into_iter().map(|(name, range)| (name.as_str().parse().unwrap(), range));
    let bounds = CharterBounds {
        release,
        ranges: ranges.into_iter().collect(),
        families: families.collect(),
        except: except.iter().map(|name| package(name)).collect(),
    };
    Problem { charters: Arc::from([bounds]), ..problem }
}

#[test]
fn charters_bind_what_is_needed_and_bring_nothing() {
    let garden = registry(&[
        "moss-map 3.0: dew-point 1 ..",
        "dew-point 1.4",
        "dew-point 2.0",
        "leaf-palette 1.0",
        "pergola/core 2.4: @pergola",
        "pergola/core 3.0: @pergola",
    ]);
    let needs = problem(&["moss-map any"], &[]);
    let bound = chartered(needs.clone(), &["dew-point 1.4 .. 2", "leaf-palette 1"], &[]);
    assert_eq!(answer(&garden, &bound), Ok(vec!["moss-map 3.0".to_owned(), "dew-point 1.4".to_owned()]));
    let excepted = chartered(needs, &["dew-point 1.4 .. 2"], &["dew-point"]);
    assert_eq!(answer(&garden, &excepted), Ok(vec!["moss-map 3.0".to_owned(), "dew-point 2.0".to_owned()]));
    let family = chartered(problem(&["pergola/core any"], &[]), &["pergola 2"], &[]);
    assert_eq!(answer(&garden, &family), Ok(vec!["pergola/core 2.4".to_owned()]));
}

#[test]
fn a_conflict_with_a_charter_names_it_and_excepting_is_a_way_out() {
    let garden = registry(&["dew-point 1.4", "dew-point 2.0"]);
    let bound = chartered(problem(&["dew-point 2"], &[]), &["dew-point 1.4 .. 2"], &[]);
    assert_eq!(
        answer(&garden, &bound).unwrap_err(),
        [
            "gate-kiosk needs dew-point 2.",
            "The charter fernhollow/season 2026.2.0 allows dew-point 1.4 .. 2.",
            "No release of dew-point is in both 1.4 .. 2 and 2."
        ]
    );
    let Err(Unresolved::Conflict(conflict)) = resolve(&bound, &garden) else { panic!("it is a conflict") };
    let Ok(ways) = ways_out(&bound, &conflict, &garden);
    let excepted = ways.iter().filter_map(|way| way.excepted.clone());
    assert_eq!(excepted.collect::<Vec<_>>(), [(package("fernhollow/season"), package("dew-point"))]);
}

#[test]
fn a_charter_itself_can_not_be_needed() {
    let lines = r#"{"event":"release","name":"fernhollow/season","version":"2026.2.0","published":"2026-03-01T08:00:00Z","charter":{"ranges":{"dew-point":"1"}},"card":"CARD"}"#;
    let lines = lines.replace("CARD", &crate::digest::Digest::of(b"").to_string()) + "\n";
    let history = History::read(&package("fernhollow/season"), &lines, None).unwrap();
    struct Only(Arc<Listing>);
    impl Catalogue for Only {
        type Error = Infallible;
        fn listing(&self, _: &PackageName) -> Result<Option<Arc<Listing>>, Infallible> {
            Ok(Some(Arc::clone(&self.0)))
        }
    }
    let only = Only(Arc::new(Listing::new(test_source("seedhouse"), history)));
    let Err(Unresolved::Conflict(conflict)) = resolve(&problem(&["fernhollow/season any"], &[]), &only)
    else {
        panic!("it is a conflict")
    };
    let told =
        conflict.facts.iter().chain([&conflict.clash]).map(|fact| fact.text.as_str()).collect::<Vec<_>>();
    assert!(
        told.contains(
            &"fernhollow/season 2026.2.0 is a charter, which a workspace takes on under `[charters]`."
        ),
        "{told:?}"
    );
}
