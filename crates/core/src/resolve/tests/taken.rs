//! What a solution takes of each package, compared with a walk along the needs.

use std::collections::{BTreeMap, BTreeSet};

use super::*;

/// The components that are wanted of packages, at each spot: a place's number, or 0 where there are no places.
type Wanted = BTreeMap<(PackageName, usize), BTreeSet<ComponentName>>;

struct Following<'a> {
    problem: &'a Problem,
    chosen: BTreeMap<PackageName, &'a Published>,
    providers: BTreeMap<PackageName, PackageName>,
    /// The components wanted so far of what is needed so far.
    wanted: Wanted,
}

impl Following<'_> {
    /// Takes in that something is needed at a spot, and follows what that leads to.
    fn follow(&mut self, name: &PackageName, wants: &Wants, spot: usize) {
        let name = self.providers.get(name).unwrap_or(name).clone();
        let release = self.chosen[&name];
        let of_release = release.components.iter().filter(|component| {
            wants.components.contains(&component.name) || component.default && !wants.bare
        });
        let key = (name.clone(), spot);
        let is_new = !self.wanted.contains_key(&key);
        let known = self.wanted.entry(key).or_default();
        let new: Vec<&TestComponent> =
            of_release.filter(|component| known.insert(component.name.clone())).collect();
        let left_out = self.problem.left_out(&name);
        let reaches = |level: Option<usize>| match (level, self.problem.places.get(spot)) {
            (Some(level), Some(place)) => level_of(place) >= level,
            _ => true,
        };
        let bare = release.needs.iter().enumerate().filter(|(at, _)| is_new && reaches(release.when(*at)));
        let bare = bare.map(|(at, (needed, _))| (needed, release.wants(at)));
        let more = new.iter().flat_map(|component| &component.needs);
        let more = more.map(|(needed, _)| (needed, Wants::default()));
        let needs: Vec<(PackageName, Wants)> = bare
            .chain(more)
            .filter(|(needed, _)| !left_out.contains(needed))
            .map(|(needed, wants)| (needed.clone(), wants))
            .collect();
        needs.iter().for_each(|(needed, wants)| self.follow(needed, wants, spot));
    }
}

/// Checks the components and files of everything that was chosen.
pub fn check_taken(registry: &Registry, problem: &Problem, resolution: &Resolution) {
    let name = |package: &ChosenPackage| package.release.entry.name.clone();
    let chosen = resolution
        .packages
        .iter()
        .map(|package| (name(package), registry.release(&name(package), &package.release.entry.version)));
    let providers = resolution
        .packages
        .iter()
        .flat_map(|package| package.provides.iter().map(|capability| (capability.clone(), name(package))));
    let (chosen, providers) = (chosen.collect(), providers.collect());
    let mut following = Following { problem, chosen, providers, wanted: Wanted::new() };
    for spot in 0..problem.places.len().max(1) {
        for need in &problem.needs {
            let place = problem.places.get(spot).map(|place| &place.name);
            let is_for =
                need.targets.as_ref().zip(place).is_none_or(|(targets, place)| targets.contains(place));
            if is_for {
                let wants = Wants { components: need.components.clone(), bare: need.bare };
                following.follow(&need.package, &wants, spot);
            }
        }
    }
    for package in &resolution.packages {
        let published = registry.release(&name(package), &package.release.entry.version);
        let of_package = following.wanted.iter().filter(|((other, _), _)| *other == name(package));
        let components: BTreeSet<ComponentName> =
            of_package.clone().flat_map(|(_, components)| components.iter().cloned()).collect();
        assert_eq!(package.components.iter().cloned().collect::<BTreeSet<_>>(), components, "{problem:?}");
        let at_spots = of_package.map(|((_, spot), components)| (*spot, components)).collect();
        check_files(problem, package, published, &at_spots);
    }
}

/// Each target takes of each part the file for the highest level that it reaches; without targets all are taken.
fn check_files(
    problem: &Problem,
    package: &ChosenPackage,
    published: &Published,
    components: &BTreeMap<usize, &BTreeSet<ComponentName>>,
) {
    let mut expected: BTreeSet<(String, u64, String)> = BTreeSet::new();
    for (spot, components) in components {
        let of_components = published.components.iter().filter(|one| components.contains(&one.name));
        let of_components = of_components.map(|one| (one.name.as_str(), &one.natives));
        for (part, levels) in [("natives", &published.natives)].into_iter().chain(of_components) {
            match problem.places.get(*spot) {
                None => expected
                    .extend(levels.iter().map(|level| (part.to_owned(), *level as u64, String::new()))),
                Some(place) => {
                    let best = levels.iter().filter(|level| **level <= level_of(place)).max();
                    expected.extend(best.map(|level| (part.to_owned(), *level as u64, place.name.clone())));
                }
            }
        }
    }
    let taken = package.files.iter().flat_map(|file| {
        let targets = if problem.places.is_empty() { vec![String::new()] } else { file.targets.clone() };
        targets.into_iter().map(|target| (file.file.part.to_string(), file.file.size, target))
    });
    assert_eq!(taken.collect::<BTreeSet<_>>(), expected, "{}", package.release.entry.name);
}
