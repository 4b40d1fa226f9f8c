//! The problem that a workspace and its lock give the resolver.

use std::collections::BTreeMap;

use crate::facet::Target;
use crate::lock::LockedPackage;
use crate::resolve::{Prefer, Problem, ProblemMember, ProblemNeed};
use crate::workspace::{Member, Workspace};

impl Problem {
    /// The problem that a workspace poses when these packages are locked.
    pub fn new(workspace: &Workspace, locked: &[LockedPackage]) -> Self {
        let places = workspace.places();
        let needs = workspace
            .members
            .iter()
            .enumerate()
            .flat_map(|(by, member)| member.manifest.needs.iter().map(move |need| (by, need)));
        let needs = needs.map(|(by, need)| ProblemNeed {
            by,
            package: need.package.clone(),
            range: need.range.clone(),
            prereleases: need.prereleases,
            asked: false,
            without: need.without.clone(),
            family: need.family.clone(),
            targets: need.targets.clone(),
            components: need.components.clone(),
            bare: need.bare,
            parts: need.parts.clone(),
        });
        let provided = locked.iter().flat_map(|package| {
            package.provides.iter().map(|capability| (capability.clone(), package.name.clone()))
        });
        Self {
            needs: needs.collect(),
            locked: locked.iter().map(|package| (package.name.clone(), package.version.clone())).collect(),
            families: workspace.families.clone(),
            preferred: workspace.capabilities.clone(),
            undeclared: workspace.undeclared.clone(),
            providers: provided.collect(),
            members: workspace
                .members
                .iter()
                .map(|member| problem_member(workspace, member, &places))
                .collect(),
            places,
            prefer: Prefer::Newest,
            held: BTreeMap::new(),
            gentle: false,
        }
    }
}

fn problem_member(workspace: &Workspace, member: &Member, places: &[Target]) -> ProblemMember {
    let targets = workspace.targets_of(member);
    let is_of_member = |place: &Target| {
        if place.is_promise {
            place.name == member.project.name.as_str()
        } else {
            targets.contains(&place.name.as_str())
        }
    };
    let of_member = places.iter().enumerate().filter(|(_, place)| is_of_member(place));
    ProblemMember {
        name: member.project.name.clone(),
        places: Some(of_member.map(|(number, _)| number).collect()),
    }
}
