//! What projects reach in any lock, compared with the slow and simple way.

use std::collections::{BTreeMap, BTreeSet};

use proptest::prelude::*;

use crate::facet::Target;
use crate::lock::samples::{any_lock, slowly_reached, slowly_reached_in};
use crate::lock::{Lock, LockedProject, NeedGraph, Scope};
use crate::name::{PackageName, Purpose};

fn test_purpose() -> Purpose {
    "test".parse().unwrap()
}

proptest! {
    #[test]
    fn projects_reach_together_what_each_of_them_reaches(lock in any_lock(), leaves_tests in any::<bool>()) {
        let without = if leaves_tests { vec![test_purpose()] } else { Vec::new() };
        let wires = NeedGraph::of(&lock);
        let projects: Vec<&LockedProject> = lock.projects.iter().collect();
        let mut together: BTreeMap<PackageName, BTreeSet<String>> = BTreeMap::new();
        for project in &projects {
            for spot in project.spots() {
                let slowly = slowly_reached(&lock, project, spot, &without);
                let reached = wires.reached_on(spot, &[project], &without);
                let named: BTreeMap<PackageName, BTreeSet<String>> = reached
                    .into_iter()
                    .map(|(at, purposes)| {
                        (lock.packages[at].name.clone(), purposes.into_iter().map(str::to_owned).collect())
                    })
                    .collect();
                prop_assert_eq!(&named, &slowly);
                for (name, purposes) in slowly {
                    together.entry(name).or_default().extend(purposes);
                }
            }
        }
        let reached = wires.reached(&projects, &without);
        let named: Vec<&PackageName> = reached.keys().map(|at| &lock.packages[*at].name).collect();
        prop_assert_eq!(named, together.keys().collect::<Vec<_>>());
        for (at, purposes) in &reached {
            let expected = &together[&lock.packages[*at].name];
            prop_assert!(purposes.iter().all(|purpose| expected.contains(*purpose)) && purposes.len() == expected.len());
        }
    }

    #[test]
    fn part_of_a_lock_is_what_its_projects_reach_without_what_is_left_out(
        lock in any_lock(), first in any::<bool>(), leaves_tests in any::<bool>()
    ) {
        let machine = Target::this_machine();
        let projects = if first { vec![lock.projects[0].name.clone()] } else { Vec::new() };
        let without = if leaves_tests { vec![test_purpose()] } else { Vec::new() };
        prop_assume!(first || leaves_tests);
        let scope = Scope { projects: &projects, targets: &[], without: &without, machine: &machine };
        let found: BTreeSet<PackageName> =
            lock.packages_for(&scope).into_iter().map(|package| package.name.clone()).collect();
        prop_assert_eq!(found, slowly_reached_in(&lock, &scope));
    }

    #[test]
    fn a_lock_is_the_same_however_its_text_is_laid_out(lock in any_lock()) {
        let text = lock.to_string();
        prop_assert_eq!(Lock::read(&text), Ok(lock.clone()));
        prop_assert_eq!(Lock::read(&text.replace('\n', "\r\n")), Ok(lock.clone()), "with other ends of lines");
        let data: serde_json::Value = serde_json::from_str(&text).unwrap();
        prop_assert_eq!(Lock::read(&data.to_string()), Ok(lock.clone()), "in one line");
        let spread = serde_json::to_string_pretty(&data).unwrap();
        prop_assert_eq!(Lock::read(&spread), Ok(lock.clone()), "spread over many lines");
        let edited = Lock::read(&spread.replace("bulb-0", "bulb-a"));
        prop_assert_eq!(edited.map_err(|fault| fault.fault.code), Err("lock.edited"));
    }
}
