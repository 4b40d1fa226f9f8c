//! Small universes, against trying everything: existence, the order of preference, updates, ways out.

use std::collections::BTreeSet;

use proptest::prelude::*;

use super::*;
use crate::charter::{CharterBounds, CharterRelease};
use crate::resolve::{Prefer, Relaxation, Update, reconcile, update, ways_out};

const NAMES: [&str; 4] = ["ash", "beech", "cedar", "dogwood"];
/// A capability where something provides it, else a name that nobody has.
const CAPABILITY: &str = "shade";
const FAMILY: &str = "trees";
const RANGES: [&str; 11] = ["any", "1", "2", "3", "4", "2 ..", ".. 3", ".. 2", "!= 2", "1 | 3", "3 .."];

fn ranges() -> impl Strategy<Value = Range> {
    proptest::sample::select(&RANGES[..]).prop_map(|range| range.parse().unwrap())
}

fn names() -> impl Strategy<Value = PackageName> {
    prop_oneof![14 => proptest::sample::select(&NAMES[..]), 1 => Just(CAPABILITY)].prop_map(package)
}

fn wanted(most: usize) -> impl Strategy<Value = Vec<Wanted>> {
    proptest::collection::vec((names(), ranges()), 0..most)
}

fn releases(version: &'static str) -> impl Strategy<Value = Published> {
    let clause_state = prop_oneof![
        8 => Just(ClauseState::Satisfied), 1 => Just(ClauseState::Deprecated), 1 => Just(ClauseState::Withdrawn)
    ];
    let some = proptest::bool::weighted;
    let conflict = (proptest::sample::select(&NAMES[..]).prop_map(package), ranges());
    let conflict = proptest::option::weighted(0.1, conflict);
    let license = prop_oneof![3 => Just(Some("MIT")), 1 => Just(Some("AGPL-3.0-only")), 1 => Just(None)];
    (wanted(4), conflict, some(0.08), some(0.15), clause_state, license).prop_map(
        move |(needs, conflict, provides, family, clause_state, license)| Published {
            license,
            needs,
            conflicts: conflict.into_iter().collect(),
            provides: if provides { vec![package(CAPABILITY)] } else { Vec::new() },
            family: family.then(|| FAMILY.parse().unwrap()),
            clause_state,
            ..Published::new(version.parse().unwrap())
        },
    )
}

pub fn registries() -> impl Strategy<Value = Registry> {
    let maybe = |version| proptest::option::weighted(0.8, releases(version));
    let releases = (maybe("1"), maybe("2"), maybe("3"), maybe("4"))
        .prop_map(|(a, b, c, d)| [a, b, c, d].into_iter().flatten().collect::<Vec<_>>());
    proptest::collection::vec(releases, NAMES.len())
        .prop_map(|packages| Registry(NAMES.iter().map(|name| package(name)).zip(packages).collect()))
}

/// Charters that bind some packages, each but for what is excepted.
pub fn charters() -> impl Strategy<Value = Arc<[CharterBounds]>> {
    let name = || proptest::sample::select(&NAMES[..]).prop_map(package);
    let ranges_of_packages = proptest::collection::btree_map(name(), ranges(), 0..3);
    let of_family = proptest::option::weighted(0.3, ranges());
    let except = proptest::collection::btree_set(name(), 0..2);
    let charter = (ranges_of_packages, of_family, except).prop_map(|(ranges, of_family, except)| {
        let families = of_family.into_iter().map(|range| (FAMILY.parse().unwrap(), range)).collect();
        let release = CharterRelease { name: package("forest"), version: "1".parse().unwrap() };
        CharterBounds { release, ranges, families, except }
    });
    prop_oneof![2 => Just(Vec::new()), 1 => proptest::collection::vec(charter, 1..3)].prop_map(Arc::from)
}

/// Whether charters allow a release.
pub fn is_allowed(problem: &Problem, name: &PackageName, release: &Published) -> bool {
    problem.charters.iter().filter(|charter| !charter.except.contains(name)).all(|charter| {
        let of_family = release.family.as_ref().and_then(|family| charter.families.get(family));
        let mut ranges = charter.ranges.get(name).into_iter().chain(of_family);
        ranges.all(|range| range.accepts(&release.version))
    })
}

/// Problems of any kind.
pub fn widely_wanted() -> impl Strategy<Value = Problem> {
    let name = || proptest::sample::select(&NAMES[..]).prop_map(package);
    let version = proptest::sample::select(&["1", "2", "3", "4"][..]).prop_map(|text| text.parse().unwrap());
    let prefer = prop_oneof![3 => Just(Prefer::Newest), 1 => Just(Prefer::Oldest)];
    let maybe_name = || proptest::option::weighted(0.2, name());
    let family = proptest::option::weighted(0.2, ranges());
    let without = proptest::option::weighted(0.2, names());
    let locked = proptest::collection::btree_map(name(), version, 0..3);
    (wanted(4), locked, prefer, maybe_name(), maybe_name(), family, without, charters()).prop_map(
        |(needs, locked, prefer, preferred, provider, family, without, charters)| {
            let mut needs: Vec<ProblemNeed> =
                needs.into_iter().map(|(package, range)| ProblemNeed::new(package, range)).collect();
            needs.iter_mut().take(1).for_each(|need| need.without.extend(without.clone()));
            let capability = |name: Option<PackageName>| {
                name.into_iter().map(|name| (package(CAPABILITY), name)).collect::<BTreeMap<_, _>>()
            };
            Problem {
                needs,
                locked,
                prefer,
                preferred: capability(preferred),
                providers: capability(provider),
                charters,
                families: family.into_iter().map(|range| (FAMILY.parse().unwrap(), range)).collect(),
                ..Problem::of(package("gate-kiosk"))
            }
        },
    )
}

/// What is taken for a name.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Taken {
    Release(Version),
    Provider(PackageName),
}

pub type Choice = BTreeMap<PackageName, Taken>;

pub fn version_of<'c>(choice: &'c Choice, name: &PackageName) -> Option<&'c Version> {
    match choice.get(name)? {
        Taken::Release(version) => Some(version),
        Taken::Provider(_) => None,
    }
}

/// Every way to take at most one release of each package, and a provider of each capability, such that all holds.
pub fn all_solutions(registry: &Registry, problem: &Problem) -> Vec<Choice> {
    let mut partial: Vec<Choice> = vec![Choice::new()];
    for (name, releases) in &registry.0 {
        let usable = releases.iter().filter(|release| {
            release.clause_state != ClauseState::Withdrawn
                || problem.locked.get(name) == Some(&release.version)
        });
        let options: Vec<Taken> = usable.map(|release| Taken::Release(release.version.clone())).collect();
        partial = widened(partial, name, &options);
    }
    for capability in registry.capabilities() {
        let options: Vec<Taken> = registry.providers(&capability).into_iter().map(Taken::Provider).collect();
        partial = widened(partial, &capability, &options);
    }
    partial.retain(|choice| is_solution(registry, problem, choice));
    partial
}

fn widened(partial: Vec<Choice>, name: &PackageName, options: &[Taken]) -> Vec<Choice> {
    let with = |choice: &Choice, option: &Taken| {
        let mut wider = choice.clone();
        wider.insert(name.clone(), option.clone());
        wider
    };
    let wider: Vec<Choice> =
        partial.iter().flat_map(|choice| options.iter().map(move |option| with(choice, option))).collect();
    partial.into_iter().chain(wider).collect()
}

fn is_solution(registry: &Registry, problem: &Problem, choice: &Choice) -> bool {
    let satisfied = |(name, range): (&PackageName, &Range)| match choice.get(name) {
        Some(Taken::Release(version)) => range.accepts(version),
        Some(Taken::Provider(provider)) => version_of(choice, provider).is_some_and(|version| {
            range.accepts(version) && registry.release(provider, version).provides.contains(name)
        }),
        None => false,
    };
    let mut families: BTreeMap<&Family, &Version> = BTreeMap::new();
    let direct = problem.needs.iter().map(|need| (&need.package, &need.range));
    direct.into_iter().all(satisfied)
        && choice.keys().filter_map(|name| Some((name, version_of(choice, name)?))).all(|(name, version)| {
            let release = registry.release(name, version);
            let left_out = problem.left_out(name);
            let needs = release.needs.iter().filter(|need| !left_out.contains(&need.0));
            let clashes = |(other, range): &Wanted| {
                other != name && version_of(choice, other).is_some_and(|version| range.accepts(version))
            };
            let in_step = release.family.as_ref().is_none_or(|family| {
                let kept = problem.families.get(family).is_none_or(|range| range.accepts(version));
                kept && *families.entry(family).or_insert(version) == version
            });
            let is_allowed = is_allowed(problem, name, release);
            is_allowed
                && in_step
                && !release.conflicts.iter().any(clashes)
                && needs.map(|(n, r)| (n, r)).all(satisfied)
        })
}

/// The names that what is taken for a name brings in.
fn brought(registry: &Registry, problem: &Problem, choice: &Choice, name: &PackageName) -> Vec<PackageName> {
    match &choice[name] {
        Taken::Provider(provider) => vec![provider.clone()],
        Taken::Release(version) => {
            let left_out = problem.left_out(name);
            let needs = registry.release(name, version).needs.iter().map(|(name, _)| name.clone());
            needs.filter(|name| !left_out.contains(name)).collect()
        }
    }
}

/// The part of a solution that can be reached from the direct needs.
pub fn reached(registry: &Registry, problem: &Problem, choice: &Choice) -> Choice {
    reached_from(problem.needs.iter(), registry, problem, choice)
}

/// The part of a solution that can be reached from some of the direct needs.
pub fn reached_from<'p>(
    needs: impl Iterator<Item = &'p ProblemNeed>,
    registry: &Registry,
    problem: &Problem,
    choice: &Choice,
) -> Choice {
    let mut open: Vec<PackageName> = needs.map(|need| need.package.clone()).collect();
    let mut reached = Choice::new();
    while let Some(name) = open.pop() {
        if reached.insert(name.clone(), choice[&name].clone()).is_none() {
            open.extend(brought(registry, problem, choice, &name));
        }
    }
    reached
}

fn best_of(releases: &[Published], open: BTreeSet<Version>, prefer: Prefer) -> Option<Version> {
    let is_deprecated =
        |v: &Version| releases.iter().any(|r| r.version == *v && r.clause_state == ClauseState::Deprecated);
    let (deprecated, sound): (BTreeSet<_>, BTreeSet<_>) = open.into_iter().partition(is_deprecated);
    let left = if sound.is_empty() { deprecated } else { sound };
    if prefer == Prefer::Newest { left.last().cloned() } else { left.first().cloned() }
}

/// What the lock has for a name; for a capability first what the project prefers.
fn locked(registry: &Registry, problem: &Problem, name: &PackageName) -> Vec<Taken> {
    if registry.providers(name).is_empty() {
        return problem.locked.get(name).cloned().map(Taken::Release).into_iter().collect();
    }
    let providers = [problem.preferred.get(name), problem.providers.get(name)];
    providers.into_iter().flatten().cloned().map(Taken::Provider).collect()
}

/// All solutions that are left, narrowed step by step.
struct Narrowing<'a> {
    registry: &'a Registry,
    problem: &'a Problem,
    left: Vec<Choice>,
}

impl Narrowing<'_> {
    /// Keeps those that take this for a name, if any do; whether all that are left do.
    fn take(&mut self, name: &PackageName, taken: &Taken) -> bool {
        if self.left.iter().any(|choice| choice.get(name) == Some(taken)) {
            self.left.retain(|choice| choice.get(name) == Some(taken));
        }
        self.left.iter().all(|choice| choice.get(name) == Some(taken))
    }

    fn brought(&self, name: &PackageName) -> Vec<PackageName> {
        brought(self.registry, self.problem, &self.left[0], name)
    }

    /// What is best for a name of what the solutions left take for it.
    fn best(&self, name: &PackageName, nearer: &BTreeSet<PackageName>) -> Taken {
        let open: Vec<&Taken> = self.left.iter().filter_map(|choice| choice.get(name)).collect();
        let locked =
            locked(self.registry, self.problem, name).into_iter().find(|locked| open.contains(&locked));
        let providers = self.registry.providers(name);
        if providers.is_empty() {
            let open = self.left.iter().filter_map(|choice| version_of(choice, name)).cloned().collect();
            let best = || best_of(&self.registry.0[name], open, self.problem.prefer).map(Taken::Release);
            return locked.or_else(best).unwrap();
        }
        let is_taken = |name: &&PackageName| {
            nearer.contains(*name) || self.problem.needs.iter().any(|need| need.package == **name)
        };
        let mut open_providers =
            providers.iter().filter(|provider| open.contains(&&Taken::Provider((*provider).clone())));
        locked
            .or_else(|| open_providers.clone().find(is_taken).cloned().map(Taken::Provider))
            .or_else(|| open_providers.next().cloned().map(Taken::Provider))
            .unwrap()
    }
}

/// The best of all solutions, found by doing what the order in `resolve`'s own words says, step by step.
pub fn best(registry: &Registry, problem: &Problem, left: Vec<Choice>) -> Choice {
    let mut narrowing = Narrowing { registry, problem, left };
    let direct: Vec<PackageName> = problem.needs.iter().map(|need| need.package.clone()).collect();
    let (mut ring, mut seen): (Vec<PackageName>, BTreeSet<PackageName>) = (direct.clone(), BTreeSet::new());
    while !ring.is_empty() {
        let mut behind: BTreeSet<PackageName> = BTreeSet::new();
        for name in &ring {
            let is_new = seen.insert(name.clone());
            let stays =
                locked(registry, problem, name).iter().any(|locked| is_new && narrowing.take(name, locked));
            if stays {
                behind.extend(narrowing.brought(name));
            }
        }
        ring = behind.into_iter().filter(|name| !seen.contains(name)).collect();
    }
    let mut ring = direct;
    let (mut seen, mut nearer) = (BTreeSet::new(), BTreeSet::new());
    loop {
        for name in &ring {
            let best = narrowing.best(name, &nearer);
            narrowing.take(name, &best);
        }
        seen.extend(ring.iter().cloned());
        nearer.extend(ring.iter().cloned());
        let next: BTreeSet<PackageName> = ring.iter().flat_map(|name| narrowing.brought(name)).collect();
        ring = next.into_iter().filter(|name| !seen.contains(name)).collect();
        if ring.is_empty() {
            return reached(registry, problem, &narrowing.left[0]);
        }
    }
}

pub fn texts(choice: &Choice) -> BTreeSet<String> {
    choice
        .keys()
        .filter_map(|name| version_of(choice, name).map(|version| format!("{name} {version}")))
        .collect()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(1500))]

    #[test]
    fn finds_the_best_solution_exactly_when_there_is_one(registry in registries(), problem in widely_wanted()) {
        let solutions = all_solutions(&registry, &problem);
        match answer(&registry, &problem) {
            Err(reported) => prop_assert!(solutions.is_empty(), "{reported:?} but {:?}", solutions[0]),
            Ok(found) => {
                prop_assert!(!solutions.is_empty(), "{found:?} satisfies not all");
                let best = best(&registry, &problem, solutions);
                prop_assert_eq!(found.into_iter().collect::<BTreeSet<_>>(), texts(&best));
            }
        }
    }

    #[test]
    fn every_way_out_leads_to_a_solution(registry in registries(), problem in widely_wanted()) {
        let Err(Unresolved::Conflict(conflict)) = resolve(&problem, &registry) else { return Ok(()) };
        let Ok(ways) = ways_out(&problem, &conflict, &registry);
        for way in ways {
            let mut changed = problem.clone();
            for (need, change) in &way.changes {
                let at = changed.needs.iter().position(|other| other == need).unwrap();
                match change {
                    Relaxation::Prereleases => changed.needs[at].prereleases = true,
                    Relaxation::Range(range, _) => changed.needs[at].range = range.clone(),
                    Relaxation::Targets(targets) => changed.needs[at].targets = Some(targets.clone()),
                    Relaxation::WithoutComponents => changed.needs[at].components.clear(),
                    Relaxation::Drop => drop(changed.needs.remove(at)),
                }
            }
            if let Some((charter, package)) = &way.excepted {
                let mut bounds = changed.charters.to_vec();
                let of_charter = bounds.iter_mut().filter(|bounds| bounds.release.name == *charter);
                of_charter.for_each(|bounds| {
                    bounds.except.insert(package.clone());
                });
                changed.charters = bounds.into();
            }
            prop_assert!(answer(&registry, &changed).is_ok(), "{:?} {:?}", way.changes, way.excepted);
        }
    }

    #[test]
    fn an_update_moves_what_is_asked_furthest_and_the_fewest_others(
        registry in registries(), problem in widely_wanted(), pick in 0..64_usize
    ) {
        let problem = Problem { prefer: Prefer::Newest, locked: BTreeMap::new(), ..problem };
        let solutions = all_solutions(&registry, &problem);
        let Some(need) = problem.needs.get(pick % problem.needs.len().max(1)) else { return Ok(()) };
        let asked = need.package.clone();
        if solutions.is_empty() || !registry.providers(&asked).is_empty() {
            return Ok(());
        }
        // A lock as some earlier day may have left it: any solution, what nobody reaches left out.
        let earlier = reached(&registry, &problem, &solutions[pick % solutions.len()]);
        let versions = |choice: &Choice| -> BTreeMap<PackageName, Version> {
            choice.keys().filter_map(|name| Some((name.clone(), version_of(choice, name)?.clone()))).collect()
        };
        let locked = versions(&earlier);
        let problem = Problem { locked: locked.clone(), ..problem };
        let solutions: Vec<BTreeMap<PackageName, Version>> =
            all_solutions(&registry, &problem).iter().map(versions).collect();
        let Ok(update) = update(&problem, std::slice::from_ref(&asked), &registry) else { panic!("it had a solution") };
        let found: BTreeMap<PackageName, Version> = update.resolution.packages.iter()
            .map(|p| (p.release.entry.name.clone(), p.release.entry.version.clone())).collect();
        let moved = |choice: &BTreeMap<PackageName, Version>| {
            choice.iter().filter(|(name, v)| **name != asked && locked.get(*name).is_some_and(|l| l != *v)).count()
        };
        let open = solutions.iter().filter_map(|choice| choice.get(&asked).cloned()).collect();
        let furthest = best_of(&registry.0[&asked], open, Prefer::Newest);
        let possible = solutions.iter().filter(|choice| choice.get(&asked) == furthest.as_ref());
        let fewest = possible.map(moved).min().unwrap();
        prop_assert_eq!(moved(&found), fewest, "{:?} from {:?}", found, locked);
        prop_assert_eq!(found.get(&asked), furthest.as_ref());
        prop_assert_eq!(update.forced.is_empty(), fewest == 0);
    }

    #[test]
    fn a_merge_holds_as_much_of_what_both_sides_chose_as_goes_together(
        registry in registries(), problem in widely_wanted(), other in 0..NAMES.len(), to in 1..5_u64
    ) {
        let mut problem = Problem { prefer: Prefer::Newest, ..problem };
        // What a side chose was there once; what was withdrawn since may stay.
        problem.locked.retain(|name, version| {
            registry.0.get(name).is_some_and(|all| all.iter().any(|release| release.version == *version))
        });
        let versions = |choice: &Choice| -> BTreeMap<PackageName, Version> {
            choice.keys().filter_map(|name| Some((name.clone(), version_of(choice, name)?.clone()))).collect()
        };
        let solutions: Vec<BTreeMap<PackageName, Version>> =
            all_solutions(&registry, &problem).iter().map(versions).collect();
        let moved = |choice: &BTreeMap<PackageName, Version>, others: &[(PackageName, Version)]| {
            let is_moved = |(name, version): &(&PackageName, &Version)| {
                let is_other = others.iter().any(|(one, other)| one == *name && other == *version);
                problem.locked.get(*name).is_some_and(|locked| locked != *version) && !is_other
            };
            choice.iter().filter(is_moved).count()
        };
        let others = [(package(NAMES[other]), to.to_string().parse::<Version>().unwrap())];
        let chosen = |update: &Update| -> BTreeMap<PackageName, Version> {
            let entries = update.resolution.packages.iter().map(|package| &package.release.entry);
            entries.map(|entry| (entry.name.clone(), entry.version.clone())).collect()
        };
        let Ok(alone) = reconcile(&problem, &[], &registry) else {
            prop_assert!(solutions.is_empty());
            return Ok(());
        };
        let fewest = solutions.iter().map(|choice| moved(choice, &[])).min().unwrap();
        prop_assert_eq!(moved(&chosen(&alone), &[]), fewest, "{:?} of {:?}", chosen(&alone), &problem.locked);
        let Ok(with_other) = reconcile(&problem, &others, &registry) else { panic!("it had a solution") };
        prop_assert!(moved(&chosen(&with_other), &others) <= fewest);
    }
}
