//! The resolver against brute force on thousands of small universes, and the words of its conflicts.

use std::collections::{BTreeMap, BTreeSet};
use std::convert::Infallible;
use std::sync::Arc;

use proptest::prelude::*;

use super::conflict::spoken_range;
use super::search::resolve_plainly;
use super::{
    Catalogue, Listing, Prefer, Problem, ProblemNeed, Relaxation, Unresolved, resolve, update, ways_out,
};
use crate::history::History;
use crate::name::PackageName;
use crate::range::Range;
use crate::version::Version;

/// A registry in memory.
#[derive(Debug, Clone, Default)]
struct Registry(BTreeMap<PackageName, Vec<Published>>);

/// Version, needs, and how the release stands today.
type Published = (Version, Vec<(PackageName, Range)>, Standing);

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Standing {
    Fine,
    Deprecated,
    Withdrawn,
}

impl Catalogue for Registry {
    type Error = Infallible;

    fn listing(&self, package: &PackageName) -> Result<Option<Arc<Listing>>, Infallible> {
        let Some(releases) = self.0.get(package) else { return Ok(None) };
        let mut lines = String::new();
        for (version, needs, standing) in releases {
            let needs: Vec<_> =
                needs.iter().map(|(n, r)| serde_json::json!({ "name": n, "range": r })).collect();
            let card = crate::digest::Digest::of(b"");
            let at = "2026-03-01T08:00:00Z";
            let entry = serde_json::json!({ "event": "release", "name": package, "version": version, "published": at,
                "needs": needs, "card": card });
            lines.push_str(&format!("{entry}\n"));
            let event = match standing {
                Standing::Fine => continue,
                Standing::Withdrawn => {
                    serde_json::json!({ "event": "withdrawn", "version": version, "reason": "leaks", "at": at })
                }
                Standing::Deprecated => {
                    serde_json::json!({ "event": "deprecated", "range": format!("= {version}"),
                    "reason": "slow", "at": at })
                }
            };
            lines.push_str(&format!("{event}\n"));
        }
        let history = History::read(package, &lines, None).unwrap();
        Ok(Some(Arc::new(Listing { source: "seedhouse".parse().unwrap(), history })))
    }
}

fn package(text: &str) -> PackageName {
    text.parse().unwrap()
}

/// `"rain-ledger 2.4: dew-point 1, soil-curve any"` a line; a version that ends in `!` is withdrawn, in `~` deprecated.
fn registry(lines: &[&str]) -> Registry {
    let mut registry = Registry::default();
    for line in lines {
        let (release, needs) = line.split_once(':').unwrap_or((line, ""));
        let (name, version) = release.split_once(' ').unwrap_or((release, ""));
        let releases = registry.0.entry(package(name)).or_default();
        if !version.is_empty() {
            let needs =
                needs.split(',').filter(|need| !need.trim().is_empty()).map(|need| need_of(need.trim()));
            let standing = match version.chars().last() {
                Some('!') => Standing::Withdrawn,
                Some('~') => Standing::Deprecated,
                _ => Standing::Fine,
            };
            releases.push((version.trim_end_matches(['!', '~']).parse().unwrap(), needs.collect(), standing));
        }
    }
    registry
}

fn need_of(text: &str) -> (PackageName, Range) {
    let (name, range) = text.split_once(' ').unwrap();
    (package(name), range.parse().unwrap())
}

fn problem(needs: &[&str], locked: &[&str]) -> Problem {
    let needs = needs.iter().map(|need| need_of(need));
    let needs = needs
        .map(|(package, range)| ProblemNeed { package, range, prereleases: false, asked: false })
        .collect();
    let locked = locked.iter().map(|text| text.split_once(' ').unwrap());
    let locked = locked.map(|(name, version)| (package(name), version.parse().unwrap())).collect();
    Problem { needs, locked, ..Problem::of(package("gate-kiosk")) }
}

fn answer(registry: &Registry, problem: &Problem) -> Result<Vec<String>, Vec<String>> {
    match resolve(problem, registry) {
        Ok(resolution) => {
            let text =
                |p: &super::ChosenPackage| format!("{} {}", p.release.entry.name, p.release.entry.version);
            Ok(resolution.packages.iter().map(text).collect())
        }
        Err(Unresolved::Conflict(conflict)) => {
            Err(conflict.facts.into_iter().chain([conflict.clash]).map(|sentence| sentence.text).collect())
        }
        Err(Unresolved::Catalogue(never)) => match never {},
        Err(Unresolved::GaveUp(_)) => panic!("nobody gave up"),
    }
}

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
    let told: Vec<String> = ways
        .iter()
        .flat_map(|way| &way.changes)
        .map(|(need, change)| match change {
            Relaxation::Range(range, version) => format!("{} {range} for {version}", need.package),
            other => format!("{} {other:?}", need.package),
        })
        .collect();
    assert_eq!(
        told,
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
            &["gate-kiosk needs soil-curve 3.", "No release of soil-curve is in 3: there are 1.7."],
        ),
        (&["nowhere 3"], &["gate-kiosk needs nowhere 3.", "No registry has a package nowhere."]),
        (&["empty any"], &["gate-kiosk needs empty any.", "empty has no release yet."]),
        (
            &["dew-point 3"],
            &[
                "gate-kiosk needs dew-point 3.",
                "dew-point 3.0 was withdrawn (leaks).",
                "No release of dew-point is in 3: there are 1.0 to 3.0.",
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
    for (needs, told) in rows {
        assert_eq!(answer(&seedhouse, &problem(needs, &[])).unwrap_err(), told, "{needs:?}");
    }
}

const NAMES: [&str; 5] = ["ash", "beech", "cedar", "dogwood", "elm"];
const RANGES: [&str; 11] = ["any", "1", "2", "3", "4", "2 ..", ".. 3", ".. 2", "!= 2", "1 or 3", "3 .."];

fn needs() -> impl Strategy<Value = Vec<(PackageName, Range)>> {
    let need = (proptest::sample::select(&NAMES[..]), proptest::sample::select(&RANGES[..]));
    proptest::collection::vec(need.prop_map(|(n, r)| (package(n), r.parse().unwrap())), 0..4)
}

fn registries() -> impl Strategy<Value = Registry> {
    let release = |version: &'static str| (Just(version.parse::<Version>().unwrap()), needs(), standings());
    let maybe = |version| proptest::option::weighted(0.8, release(version));
    let releases = (maybe("1"), maybe("2"), maybe("3"), maybe("4"))
        .prop_map(|(a, b, c, d)| [a, b, c, d].into_iter().flatten().collect::<Vec<_>>());
    proptest::collection::vec(releases, 5)
        .prop_map(|packages| Registry(NAMES.iter().map(|name| package(name)).zip(packages).collect()))
}

fn standings() -> impl Strategy<Value = Standing> {
    prop_oneof![8 => Just(Standing::Fine), 1 => Just(Standing::Deprecated), 1 => Just(Standing::Withdrawn)]
}

fn problems() -> impl Strategy<Value = Problem> {
    let locked = (proptest::sample::select(&NAMES[..]), proptest::sample::select(&["1", "2", "3", "4"][..]));
    let prefer = prop_oneof![3 => Just(Prefer::Newest), 1 => Just(Prefer::Oldest)];
    (needs(), proptest::collection::btree_set(locked, 0..3), prefer).prop_map(|(needs, locked, prefer)| {
        let needs = needs.into_iter().map(|(package, range)| ProblemNeed {
            package,
            range,
            prereleases: false,
            asked: false,
        });
        let locked = locked.into_iter().map(|(name, version)| (package(name), version.parse().unwrap()));
        Problem {
            needs: needs.collect(),
            locked: locked.collect(),
            prefer,
            ..Problem::of(package("gate-kiosk"))
        }
    })
}

type Choice = BTreeMap<PackageName, Version>;

/// Every way to take at most one release of each package such that all needs hold.
fn all_solutions(registry: &Registry, problem: &Problem) -> Vec<Choice> {
    let mut partial: Vec<Choice> = vec![Choice::new()];
    for (name, releases) in &registry.0 {
        let mut wider = partial.clone();
        for (version, _, standing) in releases {
            if *standing != Standing::Withdrawn || problem.locked.get(name) == Some(version) {
                wider.extend(partial.iter().cloned().map(|mut choice| {
                    choice.insert(name.clone(), version.clone());
                    choice
                }));
            }
        }
        partial = wider;
    }
    partial.retain(|choice| {
        let direct = problem.needs.iter().map(|need| (&need.package, &need.range));
        let holds =
            |(name, range): (&PackageName, &Range)| choice.get(name).is_some_and(|v| range.accepts(v));
        let of_release = choice.iter().flat_map(|(name, version)| {
            let release = registry.0[name].iter().find(|(v, ..)| v == version).unwrap();
            release.1.iter().map(|(name, range)| (name, range))
        });
        direct.chain(of_release).all(holds)
    });
    partial
}

/// The part of a solution that can be reached from the direct needs.
fn reached(registry: &Registry, problem: &Problem, choice: &Choice) -> Choice {
    let mut open: Vec<PackageName> = problem.needs.iter().map(|need| need.package.clone()).collect();
    let mut reached = Choice::new();
    while let Some(name) = open.pop() {
        let version = choice[&name].clone();
        let release = registry.0[&name].iter().find(|(v, ..)| *v == version).unwrap();
        if reached.insert(name, version).is_none() {
            open.extend(release.1.iter().map(|(name, _)| name.clone()));
        }
    }
    reached
}

fn best_of(releases: &[Published], open: BTreeSet<Version>, prefer: Prefer) -> Option<Version> {
    let is_deprecated = |v: &Version| {
        releases.iter().any(|(other, _, standing)| other == v && *standing == Standing::Deprecated)
    };
    let (deprecated, sound): (BTreeSet<_>, BTreeSet<_>) = open.into_iter().partition(is_deprecated);
    let left = if sound.is_empty() { deprecated } else { sound };
    if prefer == Prefer::Newest { left.last().cloned() } else { left.first().cloned() }
}

/// The best of all solutions, found by doing what the order in `resolve`'s own words says, step by step.
fn best(registry: &Registry, problem: &Problem, mut left: Vec<Choice>) -> Choice {
    let mut narrow = |keep: &dyn Fn(&Choice) -> bool| {
        if left.iter().any(keep) {
            left.retain(keep);
        }
        left.clone()
    };
    let direct: Vec<PackageName> = problem.needs.iter().map(|need| need.package.clone()).collect();
    let (mut ring, mut seen): (Vec<PackageName>, BTreeSet<PackageName>) = (direct.clone(), BTreeSet::new());
    while !ring.is_empty() {
        let mut behind: BTreeSet<PackageName> = BTreeSet::new();
        for name in &ring {
            let Some(version) = problem.locked.get(name).filter(|_| seen.insert(name.clone())) else {
                continue;
            };
            if narrow(&|choice| choice.get(name) == Some(version))
                .iter()
                .all(|c| c.get(name) == Some(version))
            {
                let release = registry.0[name].iter().find(|(v, ..)| v == version);
                behind.extend(
                    release.into_iter().flat_map(|(_, needs, _)| needs.iter().map(|(n, _)| n.clone())),
                );
            }
        }
        ring = behind.into_iter().filter(|name| !seen.contains(name)).collect();
    }
    let mut order: Vec<PackageName> = direct.clone();
    seen.clear();
    loop {
        for name in &order {
            let open: BTreeSet<Version> =
                narrow(&|_| true).iter().filter_map(|choice| choice.get(name).cloned()).collect();
            let locked = problem.locked.get(name).filter(|version| open.contains(version)).cloned();
            let best = locked.or_else(|| best_of(&registry.0[name], open, problem.prefer));
            narrow(&|choice| choice.get(name) == best.as_ref());
        }
        seen.extend(order.iter().cloned());
        let settled = &narrow(&|_| true)[0];
        let needed = order.iter().flat_map(|name| {
            let release = registry.0[name].iter().find(|(v, ..)| *v == settled[name]).unwrap();
            release.1.iter().map(|(name, _)| name.clone())
        });
        let next: BTreeSet<PackageName> = needed.filter(|name| !seen.contains(name)).collect();
        if next.is_empty() {
            return settled.clone().into_iter().filter(|(name, _)| seen.contains(name)).collect();
        }
        order = next.into_iter().collect();
    }
}

/// A registry that grew over time, too large for brute force: majors break, needs name the majors of their day.
fn grown(packages: usize, releases: usize, seed: u64) -> Registry {
    let mut state = seed;
    let mut random = |below: usize| {
        // A linear congruential generator (Knuth's MMIX constants): small, and the same everywhere.
        state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        usize::try_from(state >> 33).unwrap() % below
    };
    let mut registry = Registry::default();
    let mut newest = vec![(1, 0); packages];
    for _ in 0..releases {
        for number in 0..packages {
            let (major, minor) = newest[number];
            newest[number] = if random(5) == 0 { (major + 1, 0) } else { (major, minor + 1) };
            let mut needs = Vec::new();
            for target in (0..3.min(number)).map(|_| random(number)).collect::<BTreeSet<_>>() {
                let (major, minor) = newest[target];
                let lags = usize::from(random(6) == 0 && major > 1);
                let range = format!("{}.{} .. {}", major - lags, random(minor + 1), major - lags + 1);
                needs.push((package(&format!("bed-n{target}")), range.parse().unwrap()));
            }
            let (major, minor) = newest[number];
            let version = format!("{major}.{minor}").parse().unwrap();
            let releases = registry.0.entry(package(&format!("bed-n{number}"))).or_default();
            releases.push((version, needs, Standing::Fine));
        }
    }
    registry
}

#[test]
fn looking_ahead_changes_nothing_but_the_time_it_takes() {
    for seed in 0..25 {
        let registry = grown(24, 9, seed);
        let needs = ["bed-n23 any", "bed-n22 any", "bed-n20 any", "bed-n17 any"];
        let problem = problem(&needs[..], &[]);
        let versions = |resolved: Result<super::Resolution, Unresolved<Infallible>>| {
            let text =
                |p: &super::ChosenPackage| format!("{} {}", p.release.entry.name, p.release.entry.version);
            resolved.ok().map(|resolution| resolution.packages.iter().map(text).collect::<Vec<_>>())
        };
        let plainly = versions(resolve_plainly(&problem, &registry));
        assert_eq!(versions(resolve(&problem, &registry)), plainly, "seed {seed}");
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(1200))]

    #[test]
    fn finds_the_best_solution_exactly_when_brute_force_finds_one(registry in registries(), problem in problems()) {
        let solutions = all_solutions(&registry, &problem);
        match answer(&registry, &problem) {
            Err(told) => prop_assert!(solutions.is_empty(), "{told:?} but {:?}", solutions[0]),
            Ok(found) => {
                prop_assert!(!solutions.is_empty(), "{found:?} satisfies not all");
                let best = best(&registry, &problem, solutions);
                let best: BTreeSet<String> = best.iter().map(|(name, version)| format!("{name} {version}")).collect();
                prop_assert_eq!(found.into_iter().collect::<BTreeSet<_>>(), best);
            }
        }
    }

    #[test]
    fn every_way_out_leads_to_a_solution(registry in registries(), problem in problems()) {
        let Err(Unresolved::Conflict(conflict)) = resolve(&problem, &registry) else { return Ok(()) };
        let Ok(ways) = ways_out(&problem, &conflict, &registry);
        for way in ways {
            let mut changed = problem.clone();
            for (need, change) in &way.changes {
                let at = changed.needs.iter().position(|other| other == need).unwrap();
                match change {
                    Relaxation::Prereleases => changed.needs[at].prereleases = true,
                    Relaxation::Range(range, _) => changed.needs[at].range = range.clone(),
                    Relaxation::Drop => drop(changed.needs.remove(at)),
                }
            }
            prop_assert!(answer(&registry, &changed).is_ok(), "{:?}", way.changes);
        }
    }

    #[test]
    fn an_update_moves_what_is_asked_furthest_and_the_fewest_others(
        registry in registries(), problem in problems(), pick in 0..64_usize
    ) {
        let problem = Problem { prefer: Prefer::Newest, locked: BTreeMap::new(), ..problem };
        let solutions = all_solutions(&registry, &problem);
        // A lock as some earlier day may have left it: any solution, what nobody reaches left out.
        if solutions.is_empty() {
            return Ok(());
        }
        let locked = reached(&registry, &problem, &solutions[pick % solutions.len()]);
        if problem.needs.is_empty() {
            return Ok(());
        }
        let asked = problem.needs[pick % problem.needs.len()].package.clone();
        let problem = Problem { locked: locked.clone(), ..problem };
        let solutions = all_solutions(&registry, &problem);
        let Ok(update) = update(&problem, std::slice::from_ref(&asked), &registry) else { panic!("it had a solution") };
        let found: Choice = update.resolution.packages.iter()
            .map(|p| (p.release.entry.name.clone(), p.release.entry.version.clone())).collect();
        let moved = |choice: &Choice| {
            choice.iter().filter(|(name, v)| **name != asked && locked.get(*name).is_some_and(|l| l != *v)).count()
        };
        let open = solutions.iter().filter_map(|choice| choice.get(&asked).cloned()).collect();
        let furthest = best_of(&registry.0[&asked], open, Prefer::Newest);
        let possible: Vec<&Choice> = solutions.iter().filter(|choice| choice.get(&asked) == furthest.as_ref()).collect();
        let fewest = possible.iter().map(|choice| moved(choice)).min().unwrap();
        prop_assert_eq!(moved(&found), fewest, "{:?} from {:?}", found, locked);
        prop_assert_eq!(found.get(&asked), furthest.as_ref());
        prop_assert_eq!(update.forced.is_empty(), fewest == 0);
    }

    #[test]
    fn a_conflict_stands_when_only_its_facts_are_left(registry in registries(), problem in problems()) {
        let mut problem = problem;
        problem.locked.clear();
        if let Err(told) = answer(&registry, &problem) {
            let direct: Vec<ProblemNeed> = problem.needs.iter()
                .filter(|need| told.contains(&format!("gate-kiosk needs {} {}.", need.package, spoken_range(&need.range))))
                .cloned().collect();
            prop_assert!(!direct.is_empty());
            let smaller = Problem { needs: direct.clone(), ..problem.clone() };
            prop_assert!(answer(&registry, &smaller).is_err(), "{told:?}");
            for index in 0..direct.len() {
                let mut needs = direct.clone();
                let gone = needs.remove(index);
                if !needs.contains(&gone) {
                    let facts_only = registry_of(&registry, &told);
                    prop_assert!(answer(&facts_only, &Problem { needs, ..problem.clone() }).is_ok(), "{told:?}");
                }
            }
        }
    }
}

/// The registry with only those needs of its releases that a telling mentions.
fn registry_of(registry: &Registry, told: &[String]) -> Registry {
    let mentioned = |name: &PackageName, need: &(PackageName, Range)| {
        let about = [format!("{name} "), format!("All releases of {name} ")];
        let about = |text: &String| about.iter().any(|start| text.starts_with(start));
        told.iter()
            .any(|text| about(text) && text.ends_with(&format!(" {} {}.", need.0, spoken_range(&need.1))))
    };
    let mut cut = registry.clone();
    for (name, releases) in &mut cut.0 {
        for (_, needs, standing) in releases {
            needs.retain(|need| mentioned(name, need));
            if !told.iter().any(|text| text.contains(&format!("{name} ")) && text.contains("withdrawn")) {
                *standing = Standing::Fine;
            }
        }
    }
    cut
}
