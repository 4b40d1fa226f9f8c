//! Arbitrary locks, and what is reached in them by a slow and simple computation.

use std::collections::{BTreeMap, BTreeSet};

use proptest::collection::vec;
use proptest::prelude::*;
use proptest::sample::subsequence;

use super::{test_charter, test_lock};
use crate::lock::{Lock, LockedNeed, LockedProject, RUN, Scope};
use crate::name::{PackageName, Purpose, TargetName};

/// The targets that projects and packages may be for.
const TARGETS: [&str; 2] = ["gate-kiosk", "hand-unit"];

/// A need as drawn: a package's number, whether it is for tests, and targets by their numbers.
type Drawn = (usize, bool, Vec<usize>);

/// Any lock: up to nine packages that need each other however they like, up to three projects, and up to two charters.
pub fn any_lock() -> impl Strategy<Value = Lock> {
    let packages = vec((vec(any::<usize>(), 0..4), some_targets()), 1..9);
    let needs = vec((any::<usize>(), any::<bool>(), some_targets()), 0..4);
    let projects = vec((needs, some_targets()), 1..4);
    let charters = subsequence(vec!["season", "trees"], 0..=2);
    (packages, projects, charters).prop_map(|(packages, projects, charters)| Lock {
        charters: charters.iter().map(|name| test_charter(name, "1.0", &[("bulb-0", "1")])).collect(),
        ..lock_of(&packages, &projects)
    })
}

fn some_targets() -> impl Strategy<Value = Vec<usize>> {
    subsequence(vec![0, 1], 0..=2)
}

fn lock_of(packages: &[(Vec<usize>, Vec<usize>)], projects: &[(Vec<Drawn>, Vec<usize>)]) -> Lock {
    let names: Vec<String> = (0..packages.len()).map(|number| format!("bulb-{number}")).collect();
    let titles: Vec<(&str, &str)> = names.iter().map(|name| (name.as_str(), "1.0")).collect();
    let name = |number: &usize| names[number % names.len()].parse::<PackageName>().unwrap();
    let targets =
        |numbers: &[usize]| numbers.iter().map(|number| TARGETS[*number].parse().unwrap()).collect();
    let mut lock = test_lock(&titles);
    for (package, (needs, on)) in lock.packages.iter_mut().zip(packages) {
        let needs: BTreeSet<PackageName> = needs.iter().map(name).collect();
        (package.needs, package.targets) = (needs.into_iter().collect(), targets(on));
    }
    let need = |(package, is_test, on): &Drawn| LockedNeed {
        name: name(package),
        purpose: is_test.then(|| "test".parse().unwrap()),
        targets: targets(on),
    };
    let project = |(number, (needs, on)): (usize, &(Vec<Drawn>, Vec<usize>))| LockedProject {
        name: format!("bed-{number}").parse().unwrap(),
        path: format!("bed-{number}"),
        targets: targets(on),
        needs: needs.iter().map(need).collect(),
    };
    lock.projects = projects.iter().enumerate().map(project).collect();
    // A package is for targets that projects have, and for some where there are any.
    let known: Vec<TargetName> = lock.targets().into_iter().map(|name| name.parse().unwrap()).collect();
    for package in &mut lock.packages {
        package.targets.retain(|target| known.contains(target));
        if package.targets.is_empty() {
            package.targets.clone_from(&known);
        }
    }
    lock
}

/// The packages that a project reaches on a target, each with its purposes: nothing is assumed of any order.
pub fn slowly_reached(
    lock: &Lock,
    project: &LockedProject,
    target: Option<&str>,
    without: &[Purpose],
) -> BTreeMap<PackageName, BTreeSet<String>> {
    let is_on = |targets: &[TargetName]| {
        targets.is_empty() || target.is_none_or(|target| targets.iter().any(|one| one.as_str() == target))
    };
    let mut reached: BTreeMap<PackageName, BTreeSet<String>> = BTreeMap::new();
    for need in project.needs.iter().filter(|need| is_on(&need.targets)) {
        let purpose = need.purpose.as_ref();
        let is_wanted = purpose.is_none_or(|purpose| !without.contains(purpose));
        if is_wanted && is_on(&lock.package(&need.name).unwrap().targets) {
            let word = purpose.map_or(RUN, Purpose::as_str);
            reached.entry(need.name.clone()).or_default().insert(word.to_owned());
        }
    }
    loop {
        let before = reached.clone();
        for (name, purposes) in &before {
            for need in &lock.package(name).unwrap().needs {
                if is_on(&lock.package(need).unwrap().targets) {
                    reached.entry(need.clone()).or_default().extend(purposes.clone());
                }
            }
        }
        if reached == before {
            return reached;
        }
    }
}

/// The same of projects on all targets that they have and that are in scope.
pub fn slowly_reached_in(lock: &Lock, scope: &Scope<'_>) -> BTreeSet<PackageName> {
    let is_wanted =
        |project: &&LockedProject| scope.projects.is_empty() || scope.projects.contains(&project.name);
    let projects = lock.projects.iter().filter(is_wanted);
    let spots = projects.flat_map(|project| project.spots().into_iter().map(move |spot| (project, spot)));
    let spots = spots.filter(|(_, spot)| spot.is_none_or(|spot| scope.has_target(spot)));
    spots.flat_map(|(project, spot)| slowly_reached(lock, project, spot, scope.without).into_keys()).collect()
}
