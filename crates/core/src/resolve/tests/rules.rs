//! What the rules exclude, by example and against trying everything.

use std::collections::BTreeSet;

use proptest::prelude::*;

use super::brute_force::{
    Choice, all_solutions, best, reached, reached_from, registries, texts, version_of, widely_wanted,
};
use super::*;
use crate::name::Purpose;
use crate::resolve::{Prefer, comply};

const AGPL: &str = "licenses = { refuse = ['AGPL-3.0-only'], otherwise = 'accept' }";
const LOOSER: &str = "licenses = { refuse = ['AGPL-3.0-only'], otherwise = 'accept' }
    [rules.for.test]
    licenses = { otherwise = 'accept' }";
const STRICTER: &str = "[rules.for.test]
    licenses = { refuse = ['AGPL-3.0-only'], otherwise = 'accept' }
    [rules.packages.'b*']
    licenses = { otherwise = 'accept' }";
const BARRED: &str =
    "barred = { ash = { range = '2 .. 4', reason = 'bitter' }, cedar = { range = '4', reason = 'wet' } }";

fn licensed(lines: &[&str], agpl: &[&str]) -> Registry {
    let mut registry = registry(lines);
    for (name, releases) in &mut registry.0 {
        for release in releases {
            let is_agpl = agpl.contains(&format!("{name} {}", release.version).as_str());
            release.license = Some(if is_agpl { "AGPL-3.0-only" } else { "MIT" });
        }
    }
    registry
}

fn problem_with(rules: &str, needs: &[&str], locked: &[&str]) -> Problem {
    Problem { rules: test_rules(rules), ..problem(needs, locked) }
}

#[test]
fn what_the_rules_refuse_is_no_candidate_and_the_reason_is_a_sentence() {
    let moss = licensed(&["moss-map 2.0", "moss-map 3.0"], &["moss-map 3.0"]);
    assert_eq!(answer(&moss, &problem_with(AGPL, &["moss-map any"], &[])).unwrap(), ["moss-map 2.0"]);
    assert_eq!(
        answer(&moss, &problem_with(AGPL, &["moss-map 3"], &[])).unwrap_err(),
        [
            "gate-kiosk needs moss-map 3.",
            "The rules refuse AGPL-3.0-only, the licence of moss-map 3.0.",
            "So no release of moss-map is left."
        ]
    );
    let bars = "barred = { moss-map = { range = '3', reason = 'wrong table' } }";
    let reported = answer(&moss, &problem_with(bars, &["moss-map 3"], &[])).unwrap_err();
    assert_eq!(reported[1], "The rules bar moss-map 3.0 (wrong table).");
    let sources = "sources = ['fernhollow', 'https://git.example/*']";
    let reported = answer(&moss, &problem_with(sources, &["moss-map any"], &[])).unwrap_err();
    assert_eq!(reported[1], "The rules don't allow seedhouse as the source of all releases of moss-map.");
}

#[test]
fn what_is_locked_stays_though_the_rules_refuse_it_now() {
    let moss = licensed(&["moss-map 2.0", "moss-map 3.0"], &["moss-map 3.0"]);
    let problem = problem_with(AGPL, &["moss-map any"], &["moss-map 3.0"]);
    assert_eq!(answer(&moss, &problem).unwrap(), ["moss-map 3.0"]);
}

#[test]
fn a_waiver_lets_a_release_pass_until_it_ends() {
    let moss = licensed(&["moss-map 2.0", "moss-map 3.0"], &["moss-map 3.0"]);
    let waived = |until: &str| {
        format!(
            "{AGPL}\n[[rules.waivers]]\nrule = 'licenses'\npackage = 'moss-map'\nrange = '3'\nreason = 'bought'\nuntil = {until}"
        )
    };
    let rows = [("9999-12-30", "moss-map 3.0"), ("2026-11-01", "moss-map 2.0")];
    for (until, chosen) in rows {
        let catalogue = Dated(&moss, "2026-11-29T08:00:00Z");
        let problem = problem_with(&waived(until), &["moss-map any"], &[]);
        assert_eq!(versions(&resolve(&problem, &catalogue)).unwrap(), [chosen], "{until}");
    }
}

/// A registry at a time of day.
struct Dated<'r>(&'r Registry, &'static str);

impl Catalogue for Dated<'_> {
    type Error = Infallible;

    fn listing(&self, package: &PackageName) -> Result<Option<Arc<Listing>>, Infallible> {
        self.0.listing(package)
    }

    fn now(&self) -> jiff::Timestamp {
        self.1.parse().unwrap()
    }
}

#[test]
fn releases_that_are_too_young_are_not_chosen() {
    // All of this registry were published at 8 o'clock on 2026-03-01.
    let moss = registry(&["moss-map 3.0"]);
    let problem = problem_with("min-age = '5 days'", &["moss-map any"], &[]);
    assert!(resolve(&problem, &Dated(&moss, "2026-03-06T08:00:00Z")).is_ok());
    let Err(Unresolved::Conflict(conflict)) = resolve(&problem, &Dated(&moss, "2026-03-06T07:59:59Z")) else {
        panic!()
    };
    assert_eq!(
        conflict.facts[1].text,
        "The rules want releases to be 5 days old, and moss-map 3.0 was published on 2026-03-01."
    );
}

#[test]
fn rules_for_a_purpose_hold_for_what_is_needed_for_it_only() {
    let garden = licensed(
        &["probe-sim 1.0: moss-map any", "moss-map 2.0", "moss-map 3.0", "rain-ledger 1.0: moss-map any"],
        &["moss-map 3.0"],
    );
    let mut problem = problem_with(LOOSER, &["probe-sim any"], &[]);
    problem.needs[0].purpose = Some("test".parse().unwrap());
    assert_eq!(answer(&garden, &problem).unwrap(), ["probe-sim 1.0", "moss-map 3.0"]);
    problem.needs.push(ProblemNeed::new(package("rain-ledger"), Range::any()));
    assert_eq!(answer(&garden, &problem).unwrap(), ["probe-sim 1.0", "rain-ledger 1.0", "moss-map 2.0"]);
    problem.needs[0].package = package("moss-map");
    problem.needs[0].range = "3".parse().unwrap();
    assert_eq!(
        answer(&garden, &problem).unwrap_err(),
        [
            "gate-kiosk needs moss-map 3, for the purpose test.",
            "The rules refuse AGPL-3.0-only, the licence of moss-map 3.0.",
            "gate-kiosk needs rain-ledger any.",
            "rain-ledger 1.0 needs moss-map any.",
            "So no release of moss-map is left."
        ]
    );
}

#[test]
fn a_need_with_conditions_passes_purposes_on_where_they_hold() {
    let mut garden =
        licensed(&["rain-ledger 1.0: moss-map any", "moss-map 2.0", "moss-map 3.0"], &["moss-map 3.0"]);
    garden.0.get_mut(&package("rain-ledger")).unwrap()[0].when = vec![Some(3)];
    let mut problem = problem_with(LOOSER, &["rain-ledger any", "moss-map any"], &[]);
    problem.needs[1].purpose = Some("test".parse().unwrap());
    for (level, moss) in [(2, "moss-map 3.0"), (3, "moss-map 2.0")] {
        problem.places = vec![place("gate", level)];
        assert_eq!(
            answer(&garden, &problem).unwrap(),
            ["moss-map", "rain-ledger 1.0"].map(|name| if name == "moss-map" { moss } else { name }),
            "{level}"
        );
    }
}

fn rules() -> impl Strategy<Value = &'static str> {
    proptest::sample::select(&[AGPL, LOOSER, STRICTER, BARRED][..])
}

/// What the purposes of a scope reach.
fn reached_for(registry: &Registry, problem: &Problem, choice: &Choice, scope: Option<&Purpose>) -> Choice {
    let of_scope = |need: &&ProblemNeed| problem.rules.scope_of(need.purpose.as_ref()) == scope;
    reached_from(problem.needs.iter().filter(of_scope), registry, problem, choice)
}

/// Whether the rules of a scope allow a release.
fn is_allowed(
    registry: &Registry,
    problem: &Problem,
    scope: Option<&Purpose>,
    name: &PackageName,
    version: &Version,
) -> bool {
    let rules = problem.rules.own.for_package(scope, name);
    let is_agpl = registry.release(name, version).license == Some("AGPL-3.0-only");
    let refuses = rules.get(|set| set.licenses.as_ref()).is_some_and(|rules| !rules.refuse.is_empty());
    let barred = rules.get(|set| set.barred.as_ref()).and_then(|barred| barred.get(name));
    let is_barred = barred.into_iter().flatten().any(|barred| barred.range.accepts(version));
    !(is_agpl && refuses || is_barred)
}

/// Whether every release of a solution may be there, by the rules of each purpose that it is reached for.
fn keeps_the_rules(registry: &Registry, problem: &Problem, choice: &Choice) -> bool {
    let scopes = problem.rules.scopes();
    let scopes = if scopes.is_empty() { vec![None] } else { scopes };
    scopes.into_iter().all(|scope| {
        let reached = reached_for(registry, problem, choice, scope);
        reached.keys().all(|name| {
            let Some(version) = version_of(&reached, name) else { return true };
            if problem.locked.get(name) == Some(version) {
                return true;
            }
            is_allowed(registry, problem, scope, name, version)
        })
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(1500))]

    #[test]
    fn the_best_solution_that_keeps_the_rules_is_found_exactly_when_there_is_one(
        registry in registries(), problem in widely_wanted(), rules in rules(), tested in 0..16_usize
    ) {
        let mut problem = Problem { rules: test_rules(rules), ..problem };
        for (number, need) in problem.needs.iter_mut().enumerate() {
            need.purpose = (tested >> number & 1 == 1).then(|| "test".parse().unwrap());
        }
        let mut solutions = all_solutions(&registry, &problem);
        solutions.retain(|choice| keeps_the_rules(&registry, &problem, choice));
        match answer(&registry, &problem) {
            Err(reported) => prop_assert!(solutions.is_empty(), "{reported:?} but {:?}", solutions[0]),
            Ok(found) => {
                prop_assert!(!solutions.is_empty(), "{found:?} breaks the rules");
                let best = best(&registry, &problem, solutions);
                prop_assert_eq!(found.into_iter().collect::<BTreeSet<_>>(), texts(&best));
            }
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(1500))]

    #[test]
    fn what_the_rules_exclude_leaves_and_the_fewest_others_move(
        registry in registries(), problem in widely_wanted(), rules in rules(), pick in 0..64_usize
    ) {
        let free = Problem { prefer: Prefer::Newest, locked: BTreeMap::new(), ..problem };
        let earlier = all_solutions(&registry, &free);
        if earlier.is_empty() {
            return Ok(());
        }
        // A lock from before there were rules.
        let earlier = reached(&registry, &free, &earlier[pick % earlier.len()]);
        let versions = |choice: &Choice| -> BTreeMap<PackageName, Version> {
            choice.keys().filter_map(|name| Some((name.clone(), version_of(choice, name)?.clone()))).collect()
        };
        let locked = versions(&earlier);
        let strict = Problem { rules: test_rules(rules), ..free };
        let one = |name: &PackageName| {
            let alone: Choice = earlier.iter().filter(|(other, _)| *other == name).map(|(n, t)| (n.clone(), t.clone())).collect();
            let only = Problem { needs: vec![ProblemNeed::new(name.clone(), Range::any())], ..strict.clone() };
            !alone.is_empty() && !keeps_the_rules_alone(&registry, &only, &alone)
        };
        let excluded: Vec<PackageName> = locked.keys().filter(|name| one(name)).cloned().collect();
        // Withdrawn releases may stay, if they aren't asked to leave.
        let staying = locked.iter().filter(|(name, _)| !excluded.contains(name));
        let judged = Problem { locked: staying.map(|(n, v)| (n.clone(), v.clone())).collect(), ..strict.clone() };
        let mut solutions = all_solutions(&registry, &judged);
        solutions.retain(|choice| keeps_the_rules(&registry, &judged, choice));
        let problem = Problem { locked: locked.clone(), ..strict };
        let moved = |choice: &BTreeMap<PackageName, Version>| {
            let stays = |name: &PackageName, version: &Version| locked.get(name).is_none_or(|locked| locked == version);
            choice.iter().filter(|(name, version)| !excluded.contains(name) && !stays(name, version)).count()
        };
        match comply(&problem, &excluded, false, &registry) {
            Err(Unresolved::Conflict(_)) => prop_assert!(solutions.is_empty(), "{:?}", solutions[0]),
            Err(_) => prop_assert!(false, "nobody gave up"),
            Ok(update) => {
                let found: BTreeMap<PackageName, Version> = update.resolution.packages.iter()
                    .map(|p| (p.release.entry.name.clone(), p.release.entry.version.clone())).collect();
                prop_assert!(excluded.iter().all(|name| found.get(name) != locked.get(name)));
                let fewest = solutions.iter().map(|choice| moved(&versions(choice))).min().unwrap();
                prop_assert_eq!(moved(&found), fewest, "{:?} from {:?}", found, locked);
            }
        }
    }
}

/// Whether one release keeps the rules of everything that runs.
fn keeps_the_rules_alone(registry: &Registry, problem: &Problem, choice: &Choice) -> bool {
    choice.keys().all(|name| {
        let Some(version) = version_of(choice, name) else { return true };
        is_allowed(registry, problem, None, name, version)
    })
}
