//! The solution of a search as a resolution.

use std::collections::{BTreeMap, BTreeSet};

use super::Search;
use super::nearest::Nearest;
use crate::card::{Entry, Step};
use crate::name::{ComponentName, PackageName};
use crate::resolve::engine::Var;
use crate::resolve::universe::{Kind, Universe};
use crate::resolve::{Catalogue, ChosenFile, ChosenPackage, ChosenStep, Resolution};
use crate::variant::parts_along;

impl<C: Catalogue> Search<'_, C> {
    pub(super) fn resolution(&self) -> Resolution {
        let mut walk = Nearest::start(&self.engine, &self.direct);
        let mut packages = Vec::new();
        let mut capabilities: BTreeMap<PackageName, Vec<PackageName>> = BTreeMap::new();
        while !walk.is_done {
            let mut ring = walk.ring().to_vec();
            ring.sort_by(|a, b| self.universe.packages[*a].name.cmp(&self.universe.packages[*b].name));
            for (var, choice) in ring.iter().filter_map(|var| Some((*var, self.chosen(*var)?))) {
                packages.extend(self.chosen_package(var, choice));
                let package = &self.universe.packages[var];
                if let Some(provider) = package.provider(choice) {
                    capabilities.entry(provider.clone()).or_default().push(package.name.clone());
                }
            }
            let ring = self.ring_behind(walk.ring());
            walk.advance(&self.engine, ring);
        }
        for package in &mut packages {
            package.provides = capabilities.remove(&package.release.entry.name).unwrap_or_default();
            package.provides.sort();
        }
        Resolution { packages }
    }

    fn chosen_package(&self, var: Var, choice: usize) -> Option<ChosenPackage> {
        let package = &self.universe.packages[var];
        let Kind::Package(listing) = &package.kind else { return None };
        let release = package.release(choice)?.clone();
        let brought = self.universe.brought_by(&self.engine, var, choice);
        let mut needs: Vec<PackageName> = brought.iter().map(|name| self.answering(name)).collect();
        needs.sort();
        needs.dedup();
        let mut left_out = self.universe.left_out(&package.name).to_vec();
        left_out.retain(|name| release.entry.all_running_needs().any(|need| need.name == *name));
        left_out.sort();
        left_out.dedup();
        let places = self.universe.places_of(&self.engine, var).into_iter();
        let places = places.map(|place| &self.universe.problem.places[place]);
        let targets = places.filter(|place| !place.is_promise).map(|place| place.name.clone()).collect();
        let source = listing.source_of(&release.entry.version).clone();
        let (is_stand_in, provides) = (listing.is_stand_in, Vec::new());
        let (components, files) = self.taken_of(var, choice, &release.entry);
        let steps = self.steps_of(var, &release.entry);
        Some(ChosenPackage {
            source,
            is_stand_in,
            release,
            needs,
            left_out,
            provides,
            targets,
            components,
            files,
            steps,
        })
    }

    /// The steps of a release that are for any of the targets which it is needed on; all in a project without targets.
    fn steps_of(&self, var: Var, entry: &Entry) -> Vec<ChosenStep> {
        let Universe { problem, facets, .. } = &self.universe;
        let places =
            self.universe.places_of(&self.engine, var).into_iter().map(|place| &problem.places[place]);
        let targets: Vec<_> = places.filter(|place| !place.is_promise).collect();
        let chosen = |step: &Step| {
            let holding = targets.iter().filter(|target| facets.holds(&step.only_for, target));
            let holding: Vec<String> = holding.map(|target| target.name.clone()).collect();
            let is_for_any = targets.is_empty() || !holding.is_empty();
            is_for_any.then(|| ChosenStep { step: step.clone(), targets: holding })
        };
        entry.steps.iter().filter_map(chosen).collect()
    }

    /// The components that are wanted of a release anywhere, and its files that are taken.
    fn taken_of(&self, var: Var, choice: usize, entry: &Entry) -> (Vec<ComponentName>, Vec<ChosenFile>) {
        let Universe { problem, facets, .. } = &self.universe;
        let asked = problem.asked_parts(&entry.name);
        let at = |spot| self.universe.components_at(&self.engine, var, choice, spot);
        let places = self.universe.places_of(&self.engine, var);
        let spots =
            if problem.places.is_empty() { vec![None] } else { places.into_iter().map(Some).collect() };
        let components: BTreeSet<ComponentName> = spots.iter().flat_map(|spot| at(*spot)).collect();
        if !problem.places.iter().any(|place| !place.is_promise) {
            // Which machine it will be is open, so files for any machine are taken.
            let parts = parts_along(entry, &components, &asked);
            let files = entry.files.iter().filter(|file| parts.contains(&&file.part));
            let files = files.map(|file| ChosenFile { file: file.clone(), targets: Vec::new() });
            return (components.into_iter().collect(), files.collect());
        }
        let mut files: Vec<ChosenFile> = Vec::new();
        for (spot, place) in spots.iter().filter_map(|spot| Some((spot, &problem.places[(*spot)?]))) {
            let at_place = if place.is_open() {
                let (components, files) = (at(*spot), entry.files.iter());
                let parts = parts_along(entry, &components, &asked);
                files.filter(|file| parts.contains(&&file.part)).collect()
            } else {
                facets.files_for(entry, &at(*spot), &asked, place)
            };
            for file in at_place {
                match files.iter_mut().find(|taken| taken.file == *file) {
                    _ if place.is_promise => {}
                    Some(taken) => taken.targets.push(place.name.clone()),
                    None => files.push(ChosenFile { file: file.clone(), targets: vec![place.name.clone()] }),
                }
            }
        }
        (components.into_iter().collect(), files)
    }

    /// The package that answers a need on a name: the one of that name, or the provider that was taken.
    fn answering(&self, name: &PackageName) -> PackageName {
        let provider = self.universe.known(name).and_then(|var| {
            let choice = self.chosen(var)?;
            self.universe.packages[var].provider(choice)
        });
        provider.unwrap_or(name).clone()
    }
}
