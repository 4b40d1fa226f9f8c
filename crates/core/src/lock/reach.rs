//! Which projects reach which packages of a lock.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use super::{Lock, LockedNeed, LockedPackage, LockedProject, RUN, Scope};
use crate::facet::Target;
use crate::name::{PackageName, Purpose, TargetName};
use crate::workspace::Workspace;

/// The needs of a lock's packages, by their places in the lock, for many questions.
#[derive(Debug)]
pub struct NeedGraph<'l> {
    lock: &'l Lock,
    places: HashMap<&'l PackageName, usize>,
    needs: Vec<Vec<usize>>,
}

/// Packages that are reached, by their places in the lock, each with the purposes: `run`, and those of `[needs-for]`.
pub type Reached<'l> = BTreeMap<usize, BTreeSet<&'l str>>;

impl<'l> NeedGraph<'l> {
    /// The wires of a lock.
    pub fn of(lock: &'l Lock) -> Self {
        let named = lock.packages.iter().enumerate().map(|(at, package)| (&package.name, at));
        let mut places: HashMap<&PackageName, usize> = HashMap::with_capacity(lock.packages.len());
        // A capability is answered by its chosen provider.
        for (at, package) in lock.packages.iter().enumerate() {
            places.extend(package.provides.iter().map(|capability| (capability, at)));
        }
        places.extend(named);
        let needs = lock
            .packages
            .iter()
            .map(|package| package.needs.iter().filter_map(|name| places.get(name).copied()).collect());
        let needs = needs.collect();
        Self { lock, places, needs }
    }

    /// The packages that a package needs, by their places.
    pub fn needs(&self, package: usize) -> &[usize] {
        &self.needs[package]
    }

    /// Where the package stands that answers a need on a name.
    pub fn answering(&self, name: &PackageName) -> Option<usize> {
        self.places.get(name).copied()
    }

    /// What projects reach on a target (anywhere where they have none), but for what they need for these purposes only.
    pub fn reached_on(
        &self,
        target: Option<&str>,
        projects: &[&'l LockedProject],
        without: &[Purpose],
    ) -> Reached<'l> {
        let needs = projects.iter().flat_map(|project| &project.needs);
        let needs = needs.filter(|need| need.counts(target, without));
        let mut by_purpose: BTreeMap<&str, Vec<usize>> = BTreeMap::new();
        for need in needs {
            by_purpose.entry(purpose(need)).or_default().extend(self.answering(&need.name));
        }
        let mut reached = Reached::new();
        for (purpose, from) in by_purpose {
            let is_there = |package: &LockedPackage| is_on(&package.targets, target);
            for at in self.closure(from, is_there) {
                reached.entry(at).or_default().insert(purpose);
            }
        }
        reached
    }

    /// What projects reach on any of their targets, but for what they need for these purposes only.
    pub fn reached(&self, projects: &[&'l LockedProject], without: &[Purpose]) -> Reached<'l> {
        self.reached_where(projects, without, |_| true)
    }

    /// What projects reach in a scope, which they are in.
    pub fn reached_in(&self, scope: &Scope<'_>, projects: &[&'l LockedProject]) -> Reached<'l> {
        self.reached_where(projects, scope.without, |spot| scope.has_spot(spot))
    }

    fn reached_where(
        &self,
        projects: &[&'l LockedProject],
        without: &[Purpose],
        is_wanted: impl Fn(Option<&str>) -> bool,
    ) -> Reached<'l> {
        let mut all = Reached::new();
        for (spot, projects) in by_spot(projects).into_iter().filter(|(spot, _)| is_wanted(*spot)) {
            for (at, purposes) in self.reached_on(spot, &projects, without) {
                all.entry(at).or_default().extend(purposes);
            }
        }
        all
    }

    /// What projects promise of themselves, each with the packages that they reach, which have to keep it.
    pub fn promises(&self, workspace: &Workspace) -> Vec<(Target, BTreeSet<&'l PackageName>)> {
        let promise = |project: &'l LockedProject| {
            let promise = workspace.project(&project.name)?.manifest.promise()?;
            let reached = self.reached(&[project], &[]);
            Some((promise, reached.into_keys().map(|at| &self.lock.packages[at].name).collect()))
        };
        self.lock.projects.iter().filter_map(promise).collect()
    }

    fn closure(&self, from: Vec<usize>, is_there: impl Fn(&LockedPackage) -> bool) -> Vec<usize> {
        let mut seen = vec![false; self.needs.len()];
        let (mut open, mut found) = (from, Vec::new());
        while let Some(at) = open.pop() {
            if is_there(&self.lock.packages[at]) && !std::mem::replace(&mut seen[at], true) {
                found.push(at);
                open.extend(&self.needs[at]);
            }
        }
        found
    }
}

impl LockedProject {
    /// Its targets; nothing once where it has none.
    pub fn spots(&self) -> Vec<Option<&str>> {
        if self.targets.is_empty() {
            return vec![None];
        }
        self.targets.iter().map(|target| Some(target.as_str())).collect()
    }
}

impl LockedNeed {
    /// Whether it is there on a target, or on any, when what is needed for these purposes is left out.
    pub fn counts(&self, target: Option<&str>, without: &[Purpose]) -> bool {
        is_on(&self.targets, target) && self.purpose.as_ref().is_none_or(|purpose| !without.contains(purpose))
    }
}

/// Whether what is for these targets, or for all where none are named, is on a target, or on any.
fn is_on(targets: &[TargetName], target: Option<&str>) -> bool {
    targets.is_empty() || target.is_none_or(|target| targets.iter().any(|one| one.as_str() == target))
}

/// Projects by the targets that they have; those without any together.
pub fn by_spot<'l>(projects: &[&'l LockedProject]) -> BTreeMap<Option<&'l str>, Vec<&'l LockedProject>> {
    let mut spots: BTreeMap<Option<&str>, Vec<&LockedProject>> = BTreeMap::new();
    for project in projects {
        project.spots().into_iter().for_each(|spot| spots.entry(spot).or_default().push(project));
    }
    spots
}

fn purpose(need: &LockedNeed) -> &str {
    need.purpose.as_ref().map_or(RUN, Purpose::as_str)
}
