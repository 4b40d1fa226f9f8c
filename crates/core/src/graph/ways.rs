//! The ways from projects to a package.

use std::collections::VecDeque;

use serde::Serialize;

use crate::lock::Lock;
use crate::name::PackageName;

/// A way to a package.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Way {
    /// The project whose need it begins with.
    pub by: PackageName,
    /// The packages on it: first what the project needs, last where it leads.
    pub packages: Vec<PackageName>,
}

/// The ways from what members need to a package, shortest first, at most `most`.
pub fn ways_to(lock: &Lock, package: &PackageName, most: usize) -> Vec<Way> {
    let needs = lock.members.iter().flat_map(|member| member.needs.iter().map(move |need| (member, need)));
    let mut direct: Vec<(&PackageName, &PackageName)> =
        needs.filter_map(|(member, need)| Some((&lock.answering(&need.name)?.name, &member.name))).collect();
    direct.sort();
    direct.dedup();
    let leads_there = reaching(lock, package);
    let begun =
        |(name, by): (&PackageName, &PackageName)| Way { by: by.clone(), packages: vec![name.clone()] };
    let mut open: VecDeque<Way> = direct.into_iter().map(begun).collect();
    let mut found = Vec::new();
    while let Some(way) = open.pop_front() {
        let Some(last) = way.packages.last() else { continue };
        if last == package {
            found.push(way);
            if found.len() == most {
                break;
            }
            continue;
        }
        let needs = lock.package(last).map_or(&[][..], |package| &package.needs);
        for need in needs.iter().filter(|need| leads_there.contains(need) && !way.packages.contains(need)) {
            let packages = way.packages.iter().chain([need]).cloned().collect();
            open.push_back(Way { by: way.by.clone(), packages });
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
        lock.members[0].needs.retain(|need| ["rain-ledger", "moss-map"].contains(&need.name.as_str()));
        let told: Vec<String> = ways_to(&lock, &name("dew-point"), 9)
            .iter()
            .map(|way| way.packages.iter().map(PackageName::as_str).collect::<Vec<_>>().join(" "))
            .collect();
        assert_eq!(told, ["rain-ledger dew-point", "moss-map rain-ledger dew-point"]);
        assert_eq!(ways_to(&lock, &name("dew-point"), 1).len(), 1);
        assert!(ways_to(&lock, &name("bark-log"), 9).is_empty());
    }
}
