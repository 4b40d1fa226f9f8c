//! Updates in universes with places: what is asked moves as far as it can where it is needed, and what comes of it is what
//! declared needs lead to.

use super::sentences::scattered;
use super::taken::check_taken;
use super::*;
use crate::resolve::{Prefer, update, update_among};

fn versions(resolution: &Resolution) -> BTreeMap<PackageName, Version> {
    let entries = resolution.packages.iter().map(|package| &package.release.entry);
    entries.map(|entry| (entry.name.clone(), entry.version.clone())).collect()
}

/// What a lock says of each package beside its version.
fn reported(resolution: &Resolution) -> Vec<String> {
    let reported = |package: &ChosenPackage| {
        let files: Vec<_> = package.files.iter().map(|file| (&file.file.part, &file.targets)).collect();
        let entry = &package.release.entry;
        let what = (&package.targets, &package.components, &package.needs, files);
        format!("{} {} {what:?}", entry.name, entry.version)
    };
    let mut all: Vec<String> = resolution.packages.iter().map(reported).collect();
    all.sort();
    all
}

/// Sees that a resolution is one of declared needs alone.
fn check_settled(registry: &Registry, problem: &Problem, resolution: &Resolution) {
    check_taken(registry, problem, resolution);
    let again = resolve(&problem.locking(resolution), registry).unwrap();
    assert_eq!(reported(&again), reported(resolution), "{problem:?}");
}

/// A universe with the oldest set that goes together locked; `None` where nothing does.
fn aged(seed: u64) -> Option<(Registry, Problem, Resolution)> {
    let (registry, problem) = scattered(seed);
    let oldest = resolve(&Problem { prefer: Prefer::Oldest, ..problem.clone() }, &registry).ok()?;
    let problem = problem.locking(&oldest);
    Some((registry, problem, oldest))
}

#[test]
fn what_is_updated_goes_as_far_as_if_all_could_move_and_is_needed_where_it_was_needed() {
    let mut moved = 0;
    for (registry, problem, oldest) in (0..900).filter_map(aged) {
        let newest = versions(&update(&problem, &[], &registry).unwrap().resolution);
        for package in oldest.packages.iter().take(3) {
            let name = &package.release.entry.name;
            let updated = update(&problem, std::slice::from_ref(name), &registry).unwrap().resolution;
            check_settled(&registry, &problem, &updated);
            let Some(reached) = versions(&updated).get(name).cloned() else { continue };
            assert!(newest.get(name).is_none_or(|newest| reached >= *newest), "{name} of {problem:?}");
            moved += usize::from(reached != package.release.entry.version);
        }
    }
    assert!(moved > 50, "updates have to be common, and {moved} moved something");
}

#[test]
fn what_is_free_moves_and_what_is_not_stays_where_that_is_possible() {
    let (mut moved, mut stayed) = (0, 0);
    for (registry, problem, oldest) in (0..900).filter_map(aged) {
        let locked = versions(&oldest);
        let free: Vec<PackageName> = locked.keys().step_by(2).cloned().collect();
        let updated = update_among(&problem, &free, &registry).unwrap().resolution;
        check_settled(&registry, &problem, &updated);
        for (name, version) in versions(&updated) {
            let is_as_before = locked.get(&name) == Some(&version);
            moved += usize::from(free.contains(&name) && !is_as_before);
            stayed += usize::from(!free.contains(&name) && is_as_before);
        }
    }
    assert!(moved > 40 && stayed > 100, "both have to be common: {moved} moved, {stayed} stayed");
}
