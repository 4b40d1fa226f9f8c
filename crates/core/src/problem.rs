//! The problem that a workspace and its lock give the resolver.

use std::collections::{BTreeMap, BTreeSet};

use crate::facet::Target;
use crate::lock::LockedPackage;
use crate::manifest::Need;
use crate::range::Range;
use crate::resolve::{Prefer, Problem, ProblemNeed, ProblemProject};
use crate::workspace::{Project, Workspace};

impl Problem {
    /// The problem that a workspace poses when these packages are locked.
    pub fn new(workspace: &Workspace, locked: &[LockedPackage]) -> Self {
        let places = workspace.places();
        let needs = workspace
            .projects
            .iter()
            .enumerate()
            .flat_map(|(by, project)| project.manifest.needs.iter().map(move |need| (by, need)));
        let needs = needs.map(|(by, need)| ProblemNeed {
            by,
            package: need.package.clone(),
            range: range_of(workspace, need),
            prereleases: need.prereleases,
            asked: false,
            without: need.without.clone(),
            family: need.family.clone(),
            targets: need.targets.clone(),
            components: need.components.clone(),
            bare: need.bare,
            parts: need.parts.clone(),
            purpose: need.purpose.clone(),
        });
        let provided = locked.iter().flat_map(|package| {
            package.provides.iter().map(|capability| (capability.clone(), package.name.clone()))
        });
        Self {
            needs: needs.collect(),
            locked: locked.iter().map(|package| (package.name.clone(), package.version.clone())).collect(),
            families: workspace.families.clone(),
            preferred: workspace.preferred_providers(),
            rules: workspace.rules.clone(),
            charters: workspace.charter_bounds(),
            providers: provided.collect(),
            projects: workspace
                .projects
                .iter()
                .map(|project| problem_project(workspace, project, &places))
                .collect(),
            places,
            prefer: Prefer::Newest,
            leaving: BTreeSet::new(),
            leaves_advisories: false,
            held: BTreeMap::new(),
            gentle: false,
        }
    }
}

/// The range of a need; any where it is a charter's, which binds the package by itself.
fn range_of(workspace: &Workspace, need: &Need) -> Range {
    let is_bound = || workspace.bound.iter().any(|bound| bound.charter.ranges.contains_key(&need.package));
    if need.is_chartered && is_bound() { Range::any() } else { need.range.clone() }
}

fn problem_project(workspace: &Workspace, project: &Project, places: &[Target]) -> ProblemProject {
    let targets = workspace.targets_of(project);
    let is_of_project = |place: &Target| {
        if place.is_promise {
            place.name == project.name().as_str()
        } else {
            targets.contains(&place.name.as_str())
        }
    };
    let of_project = places.iter().enumerate().filter(|(_, place)| is_of_project(place));
    ProblemProject {
        name: project.name().clone(),
        places: Some(of_project.map(|(number, _)| number).collect()),
    }
}
