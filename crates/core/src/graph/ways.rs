//! The paths from projects to a package.

use std::collections::{BTreeMap, BTreeSet, VecDeque};

use schemars::JsonSchema;
use serde::Serialize;

use crate::lock::{Lock, LockedPackage, LockedProject};
use crate::name::PackageName;

/// A way to a package.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize)]
pub struct Way {
    /// The project whose need it begins with.
    pub by: PackageName,
    /// The packages on it: first what the project needs, last where it leads.
    pub packages: Vec<PackageName>,
}

/// The shortest ways from what projects need to a package.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Ways {
    /// The ways, shortest first.
    pub shown: Vec<Way>,
    /// Whether there are more, and longer or no shorter ones.
    pub has_more: bool,
}

/// The ways from what these projects need (all, where none are named) to a package, shortest first, at most `most`.
///
/// There may be more ways than anybody could count: each package is gone on from `most` times at most, by the shortest ways to it.
pub fn ways_to(lock: &Lock, package: &PackageName, projects: &[PackageName], most: usize) -> Ways {
    let is_meant = |project: &&LockedProject| projects.is_empty() || projects.contains(&project.name);
    let needs = lock
        .projects
        .iter()
        .filter(is_meant)
        .flat_map(|project| project.needs.iter().map(move |need| (project, need)));
    let mut direct: Vec<(&PackageName, &PackageName)> = needs
        .filter_map(|(project, need)| Some((&lock.answering(&need.name)?.name, &project.name)))
        .collect();
    direct.sort();
    direct.dedup();
    let leads_there = reaching(lock, package);
    let by_name: BTreeMap<&PackageName, &LockedPackage> =
        lock.packages.iter().map(|package| (&package.name, package)).collect();
    let begun =
        |(name, by): (&PackageName, &PackageName)| Way { by: by.clone(), packages: vec![name.clone()] };
    let mut open: VecDeque<Way> = direct.into_iter().map(begun).collect();
    let mut gone_on: BTreeMap<PackageName, usize> = BTreeMap::new();
    let mut found = Vec::new();
    while let Some(way) = open.pop_front() {
        let Some(last) = way.packages.last() else { continue };
        if last == package {
            found.push(way);
            if found.len() > most {
                break;
            }
            continue;
        }
        let times = gone_on.entry(last.clone()).or_default();
        *times += 1;
        if *times > most + 1 {
            continue;
        }
        let needs = by_name.get(last).map_or(&[][..], |package| &package.needs);
        for need in needs.iter().filter(|need| leads_there.contains(need) && !way.packages.contains(need)) {
            let packages = way.packages.iter().chain([need]).cloned().collect();
            open.push_back(Way { by: way.by.clone(), packages });
        }
    }
    let has_more = found.len() > most;
    found.truncate(most);
    Ways { shown: found, has_more }
}

/// The packages from which another can be reached, that one included.
fn reaching<'l>(lock: &'l Lock, package: &'l PackageName) -> BTreeSet<&'l PackageName> {
    let mut needing: BTreeMap<&PackageName, Vec<&PackageName>> = BTreeMap::new();
    for other in &lock.packages {
        for need in &other.needs {
            needing.entry(need).or_default().push(&other.name);
        }
    }
    let (mut reaching, mut open) = (BTreeSet::from([package]), vec![package]);
    while let Some(target) = open.pop() {
        for other in needing.get(target).into_iter().flatten() {
            if reaching.insert(*other) {
                open.push(other);
            }
        }
    }
    reaching
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::lock::samples::test_lock;

    #[test]
    fn tells_every_way_shortest_first_and_survives_circles() {
        let mut lock =
            test_lock(&[("dew-point", "1"), ("moss-map", "1"), ("rain-ledger", "1"), ("sun-arc", "1")]);
        let name = |text: &str| text.parse::<PackageName>().unwrap();
        lock.packages[1].needs = vec![name("rain-ledger"), name("sun-arc")];
        lock.packages[2].needs = vec![name("dew-point"), name("moss-map")];
        lock.projects[0].needs.retain(|need| ["rain-ledger", "moss-map"].contains(&need.name.as_str()));
        let sentence: Vec<String> = ways_to(&lock, &name("dew-point"), &[], 9)
            .shown
            .iter()
            .map(|way| way.packages.iter().map(PackageName::as_str).collect::<Vec<_>>().join(" "))
            .collect();
        assert_eq!(sentence, ["rain-ledger dew-point", "moss-map rain-ledger dew-point"]);
        let some = ways_to(&lock, &name("dew-point"), &[], 1);
        assert!(some.shown.len() == 1 && some.has_more);
        assert!(!ways_to(&lock, &name("dew-point"), &[], 2).has_more);
        assert!(ways_to(&lock, &name("bark-log"), &[], 9).shown.is_empty());
    }

    #[test]
    fn more_ways_than_anybody_could_count_take_no_longer_than_a_few() {
        let names: Vec<(String, usize)> = (0..12)
            .flat_map(|layer| (0..9).map(move |at| (format!("moss-{layer:02}-{at}"), layer)))
            .collect();
        let packages: Vec<(&str, &str)> = names.iter().map(|(name, _)| (name.as_str(), "1")).collect();
        let mut lock = test_lock(&packages);
        for (at, (_, layer)) in names.iter().enumerate() {
            let next = names.iter().filter(|(_, other)| *other == layer + 1);
            lock.packages[at].needs = next.map(|(name, _)| name.parse().unwrap()).collect();
        }
        lock.projects[0].needs.retain(|need| need.name.as_str().starts_with("moss-00"));
        let ways = ways_to(&lock, &"moss-11-0".parse().unwrap(), &[], 12);
        assert!(ways.has_more && ways.shown.len() == 12);
        assert!(ways.shown.iter().all(|way| way.packages.len() == 12));
    }
}
