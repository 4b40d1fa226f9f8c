//! The paths from projects to a package.

use std::collections::{BTreeMap, BTreeSet, VecDeque};

use schemars::JsonSchema;
use serde::Serialize;

use crate::lock::{Lock, LockedPackage, NeedGraph, Scope};
use crate::name::PackageName;

/// A path from a project to a package.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize)]
pub struct NeedPath {
    /// The project whose need it begins with.
    pub by: PackageName,
    /// The packages on it: first what the project needs, last where it leads.
    pub packages: Vec<PackageName>,
}

/// The shortest paths from what projects need to a package.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NeedPaths {
    /// The paths, shortest first.
    pub shown: Vec<NeedPath>,
    /// Whether there are more, none of them shorter.
    pub has_more: bool,
}

/// The paths from what projects in scope need to a package, on targets in scope, shortest first, at most `most`.
///
/// There may be more paths than anybody could count: each package is passed at most `most` times, by the shortest paths to it.
pub fn paths_to(lock: &Lock, package: &PackageName, scope: &Scope<'_>, most: usize) -> NeedPaths {
    let projects = scope.projects_of(lock);
    let there = NeedGraph::of(lock).reached_in(scope, &projects);
    let by_name: BTreeMap<&PackageName, &LockedPackage> =
        there.into_keys().map(|at| &lock.packages[at]).map(|package| (&package.name, package)).collect();
    let needs = projects.iter().flat_map(|project| project.needs.iter().map(move |need| (project, need)));
    let in_scope = needs.filter(|(project, need)| scope.has_need(project, need));
    let mut direct: Vec<(&PackageName, &PackageName)> = in_scope
        .filter_map(|(project, need)| Some((&lock.answering(&need.name)?.name, &project.name)))
        .collect();
    direct.sort();
    direct.dedup();
    let mut leads_there = reaching(lock, package);
    leads_there.retain(|name| by_name.contains_key(name));
    let begun =
        |(name, by): (&PackageName, &PackageName)| NeedPath { by: by.clone(), packages: vec![name.clone()] };
    let mut open: VecDeque<NeedPath> = direct.into_iter().map(begun).collect();
    let mut gone_on: BTreeMap<PackageName, usize> = BTreeMap::new();
    let mut found = Vec::new();
    while let Some(path) = open.pop_front() {
        let Some(last) = path.packages.last() else { continue };
        if last == package {
            found.push(path);
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
        for need in needs.iter().filter(|need| leads_there.contains(need) && !path.packages.contains(need)) {
            let packages = path.packages.iter().chain([need]).cloned().collect();
            open.push_back(NeedPath { by: path.by.clone(), packages });
        }
    }
    let has_more = found.len() > most;
    found.truncate(most);
    NeedPaths { shown: found, has_more }
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
    use crate::facet::Target;
    use crate::lock::samples::test_lock;

    #[test]
    fn tells_every_way_shortest_first_and_survives_circles() {
        let machine = Target::this_machine();
        let scope = Scope::all(&machine);
        let mut lock =
            test_lock(&[("dew-point", "1"), ("moss-map", "1"), ("rain-ledger", "1"), ("sun-arc", "1")]);
        let name = |text: &str| text.parse::<PackageName>().unwrap();
        lock.packages[1].needs = vec![name("rain-ledger"), name("sun-arc")];
        lock.packages[2].needs = vec![name("dew-point"), name("moss-map")];
        lock.projects[0].needs.retain(|need| ["rain-ledger", "moss-map"].contains(&need.name.as_str()));
        let sentence: Vec<String> = paths_to(&lock, &name("dew-point"), &scope, 9)
            .shown
            .iter()
            .map(|path| path.packages.iter().map(PackageName::as_str).collect::<Vec<_>>().join(" "))
            .collect();
        assert_eq!(sentence, ["rain-ledger dew-point", "moss-map rain-ledger dew-point"]);
        let some = paths_to(&lock, &name("dew-point"), &scope, 1);
        assert!(some.shown.len() == 1 && some.has_more);
        assert!(!paths_to(&lock, &name("dew-point"), &scope, 2).has_more);
        assert!(paths_to(&lock, &name("bark-log"), &scope, 9).shown.is_empty());
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
        let machine = Target::this_machine();
        let scope = Scope::all(&machine);
        let paths = paths_to(&lock, &"moss-11-0".parse().unwrap(), &scope, 12);
        assert!(paths.has_more && paths.shown.len() == 12);
        assert!(paths.shown.iter().all(|path| path.packages.len() == 12));
    }
}
