//! Who needs whom in a lock.

use std::collections::VecDeque;

use crate::lock::Lock;
use crate::manifest::Manifest;
use crate::name::PackageName;

/// The ways from the project to a package, each from a direct need on, shortest first, at most `most`.
pub fn paths_to(
    lock: &Lock,
    manifest: &Manifest,
    package: &PackageName,
    most: usize,
) -> Vec<Vec<PackageName>> {
    let answering = |name| lock.answering(name).map(|package| &package.name);
    let mut direct: Vec<&PackageName> =
        manifest.needs.iter().filter_map(|need| answering(&need.package)).collect();
    direct.sort();
    direct.dedup();
    let leads_there = reaching(lock, package);
    let mut open: VecDeque<Vec<PackageName>> = direct.into_iter().map(|name| vec![name.clone()]).collect();
    let mut found = Vec::new();
    while let Some(path) = open.pop_front() {
        let Some(last) = path.last() else { continue };
        if last == package {
            found.push(path);
            if found.len() == most {
                break;
            }
            continue;
        }
        let needs = lock.package(last).map_or(&[][..], |package| &package.needs);
        for need in needs.iter().filter(|need| leads_there.contains(need) && !path.contains(need)) {
            open.push_back(path.iter().chain([need]).cloned().collect());
        }
    }
    found
}

/// The packages from which another can be reached, that one included.
fn reaching<'l>(lock: &'l Lock, package: &'l PackageName) -> Vec<&'l PackageName> {
    let mut reaching = vec![package];
    let mut next = 0;
    while let Some(target) = reaching.get(next).copied() {
        next += 1;
        let needing = lock.packages.iter().filter(|other| other.needs.contains(target));
        for other in needing {
            if !reaching.contains(&&other.name) {
                reaching.push(&other.name);
            }
        }
    }
    reaching
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::lock::test_lock;

    #[test]
    fn tells_every_way_shortest_first_and_survives_circles() {
        let mut lock =
            test_lock(&[("dew-point", "1"), ("moss-map", "1"), ("rain-ledger", "1"), ("sun-arc", "1")]);
        let name = |text: &str| text.parse::<PackageName>().unwrap();
        lock.packages[1].needs = vec![name("rain-ledger"), name("sun-arc")];
        lock.packages[2].needs = vec![name("dew-point"), name("moss-map")];
        let manifest = "[project]\nname = \"gate\"\n[needs]\nrain-ledger = \"1\"\nmoss-map = \"1\"\n";
        let manifest = Manifest::read(manifest).unwrap();
        let told: Vec<String> = paths_to(&lock, &manifest, &name("dew-point"), 9)
            .iter()
            .map(|path| path.iter().map(PackageName::as_str).collect::<Vec<_>>().join(" "))
            .collect();
        assert_eq!(told, ["rain-ledger dew-point", "moss-map rain-ledger dew-point"]);
        assert_eq!(paths_to(&lock, &manifest, &name("dew-point"), 1).len(), 1);
        assert!(paths_to(&lock, &manifest, &name("bark-log"), 9).is_empty());
    }
}
