//! Links: where the parts of a shelf are, by role, for build tools.
//!
//! A package stands before those that it needs, so that search paths and linkers that read from left to right find what they
//! look for.

use std::collections::{BTreeMap, BTreeSet};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::facet::Target;
use crate::inner_path::ExposedPath;
use crate::lock::{Lock, LockedPackage, LockedProject, NeedGraph, Slot};
use crate::name::{PackageName, RoleName, TargetName};
use crate::version::Version;

/// The format of the files.
const FORMAT: u64 = 1;

/// Where everything is that one target of a project has.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub struct Links {
    format: u64,
    /// The project.
    pub project: PackageName,
    /// The target; none where the project declares none.
    pub target: Option<TargetName>,
    /// The paths by role, of all packages.
    pub roles: BTreeMap<RoleName, Vec<String>>,
    /// The packages, each before those that it needs.
    pub packages: Vec<LinkedPackage>,
}

/// Where a package is.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub struct LinkedPackage {
    /// Its name.
    pub name: PackageName,
    /// Its version.
    pub version: Version,
    /// What it is needed for: `run`, and purposes.
    pub purposes: Vec<String>,
    /// The names by which the project itself needs it: its own, and of capabilities; none where only other packages do.
    #[serde(rename = "needed-as", default, skip_serializing_if = "BTreeSet::is_empty")]
    pub needed_as: BTreeSet<PackageName>,
    /// Its folder.
    pub path: String,
    /// Its paths by role.
    pub exposes: BTreeMap<RoleName, Vec<String>>,
}

/// Where the paths of links begin.
#[derive(Debug, Clone)]
pub struct Root<'r> {
    /// The shelf's name in the workspace's folder.
    pub shelf: &'r str,
    /// The workspace's folder from the root of the disk; without it, paths begin there.
    pub absolute: Option<String>,
}

impl Root<'_> {
    fn project(&self, path: &str) -> String {
        match (&self.absolute, path) {
            (Some(root), ".") => root.clone(),
            (Some(root), path) => format!("{root}/{path}"),
            (None, path) => path.to_owned(),
        }
    }

    fn shelf(&self, slot: &Slot<'_>) -> String {
        self.project(&format!("{}/{}", self.shelf, slot.path()))
    }
}

impl Links {
    /// The links of every project of a lock, one for each of its targets, with what lies at these places of a shelf and in
    /// the folders of projects.
    pub fn of(lock: &Lock, slots: &[Slot<'_>], root: &Root<'_>) -> Vec<Self> {
        let wires = NeedGraph::of(lock);
        let order = needers_first(&wires, lock.packages.len());
        let mut places: BTreeMap<(Option<&str>, &PackageName), &Slot<'_>> = BTreeMap::new();
        places.extend(slots.iter().map(|slot| ((slot.target, &slot.package.name), slot)));
        let of_project = |project, target: Option<&str>| {
            let reached = wires.reached_on(target, &[project], &[]);
            let names = names_of_needs(&wires, project, target);
            let packages = order.iter().filter_map(|at| {
                let (package, purposes) = (&lock.packages[*at], reached.get(at)?);
                let path = match package.source.path() {
                    Some(path) => root.project(path),
                    None => root.shelf(places.get(&(target, &package.name))?),
                };
                Some(linked(package, purposes, names.get(at), path))
            });
            let packages: Vec<LinkedPackage> = packages.collect();
            let mut roles: BTreeMap<RoleName, Vec<String>> = BTreeMap::new();
            for (role, paths) in packages.iter().flat_map(|package| &package.exposes) {
                roles.entry(role.clone()).or_default().extend(paths.iter().cloned());
            }
            // A project without targets has no other links than those of the machine that it is on.
            let target = target.filter(|target| *target != Target::THIS_MACHINE);
            let (project, target) = (project.name.clone(), target.and_then(|target| target.parse().ok()));
            (!packages.is_empty()).then_some(Self { format: FORMAT, project, target, roles, packages })
        };
        let of_targets = |project| {
            LockedProject::spots(project).into_iter().filter_map(move |target| of_project(project, target))
        };
        lock.projects.iter().flat_map(of_targets).collect()
    }

    /// What their files are called, but for the ending; see [`file_stem`].
    pub fn file_stem(&self) -> String {
        file_stem(&self.project, self.target.as_ref().map(TargetName::as_str))
    }

    /// The same links with every path changed.
    pub fn with_paths(mut self, change: impl Fn(&str) -> String) -> Self {
        let of_packages = self
            .packages
            .iter_mut()
            .flat_map(|package| package.exposes.values_mut().flatten().chain([&mut package.path]));
        for path in self.roles.values_mut().flatten().chain(of_packages) {
            *path = change(path);
        }
        self
    }

    /// The links as variables, one a line, as a shell reads them.
    pub fn as_variables(&self, separator: char) -> String {
        self.variables(separator)
            .into_iter()
            .map(|(name, value)| format!("{name}={}\n", quoted(&value)))
            .collect()
    }

    /// The links as variables: `BIBLIOTAX_ROLE_INCLUDE` holds all paths of the role `include`, with `separator` between, and
    /// `BIBLIOTAX_PACKAGE_DEW_POINT` the folder of a package.
    pub fn variables(&self, separator: char) -> Vec<(String, String)> {
        let of_role = |(role, paths): (&RoleName, &Vec<String>)| {
            (variable(&format!("role-{role}")), paths.join(separator.encode_utf8(&mut [0; 4])))
        };
        let of_package =
            |package: &LinkedPackage| (variable(&format!("package-{}", package.name)), package.path.clone());
        self.roles.iter().map(of_role).chain(self.packages.iter().map(of_package)).collect()
    }
}

/// The names by which a project needs packages itself on a target, by their places in the lock.
fn names_of_needs(
    wires: &NeedGraph<'_>,
    project: &LockedProject,
    target: Option<&str>,
) -> BTreeMap<usize, BTreeSet<PackageName>> {
    let mut names: BTreeMap<usize, BTreeSet<PackageName>> = BTreeMap::new();
    for need in project.needs.iter().filter(|need| need.counts(target, &[])) {
        if let Some(at) = wires.answering(&need.name) {
            names.entry(at).or_default().insert(need.name.clone());
        }
    }
    names
}

/// What the files of a project's links are called, but for the ending: `gate-kiosk`, or `fernhollow.gate-kiosk.hand-unit` for a
/// target.
pub fn file_stem(project: &PackageName, target: Option<&str>) -> String {
    let target = target.map(|target| format!(".{target}")).unwrap_or_default();
    project.folder() + &target
}

/// The places of a lock's packages, each before those that it needs; who could stand side by side, by name.
fn needers_first(wires: &NeedGraph<'_>, packages: usize) -> Vec<usize> {
    let mut done = vec![false; packages];
    let mut order = Vec::with_capacity(packages);
    for package in (0..packages).rev() {
        // Depth first without recursion, for chains may be long: a package is noted once all that it needs are.
        let mut open = vec![(package, false)];
        while let Some((package, is_after)) = open.pop() {
            if is_after {
                order.push(package);
            } else if !std::mem::replace(&mut done[package], true) {
                open.push((package, true));
                open.extend(wires.needs(package).iter().map(|need| (*need, false)));
            }
        }
    }
    order.reverse();
    order
}

fn linked(
    package: &LockedPackage,
    purposes: &BTreeSet<&str>,
    needed_as: Option<&BTreeSet<PackageName>>,
    path: String,
) -> LinkedPackage {
    let whole = |exposed: &ExposedPath| match exposed.inside() {
        None => path.clone(),
        Some(inside) => format!("{path}/{inside}"),
    };
    let role = |(role, paths): (&RoleName, &Vec<ExposedPath>)| {
        (!paths.is_empty()).then(|| (role.clone(), paths.iter().map(whole).collect()))
    };
    LinkedPackage {
        name: package.name.clone(),
        version: package.version.clone(),
        purposes: purposes.iter().map(|purpose| (*purpose).to_owned()).collect(),
        needed_as: needed_as.cloned().unwrap_or_default(),
        exposes: package.exposes.iter().filter_map(role).collect(),
        path,
    }
}

/// A name as one of a variable.
fn variable(name: &str) -> String {
    let letter = |c: char| if c.is_ascii_alphanumeric() { c.to_ascii_uppercase() } else { '_' };
    format!("BIBLIOTAX_{}", name.chars().map(letter).collect::<String>())
}

/// A value as a shell takes it for what it is (POSIX.1-2017, Shell Command Language, section 2.2.2).
fn quoted(value: &str) -> String {
    let is_plain = |c: char| c.is_ascii_alphanumeric() || "-_./:@%+,".contains(c);
    if value.chars().all(is_plain) { value.to_owned() } else { format!("'{}'", value.replace('\'', r"'\''")) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::lock::samples::test_lock;

    #[test]
    fn a_package_stands_before_what_it_needs_even_in_a_circle() {
        let mut lock = test_lock(&[("a-leaf", "1"), ("b-stem", "1"), ("c-root", "1"), ("d-soil", "1")]);
        let needs = |lock: &mut Lock, at: usize, names: &[&str]| {
            lock.packages[at].needs = names.iter().map(|name| name.parse().unwrap()).collect();
        };
        let order = |lock: &Lock| {
            let order = needers_first(&NeedGraph::of(lock), lock.packages.len());
            order.iter().map(|at| lock.packages[*at].name.to_string()).collect::<Vec<_>>().join(" ")
        };
        assert_eq!(order(&lock), "a-leaf b-stem c-root d-soil");
        needs(&mut lock, 3, &["a-leaf"]);
        needs(&mut lock, 2, &["b-stem", "d-soil"]);
        let found = order(&lock);
        let at = |name: &str| found.find(name).unwrap();
        assert!(
            at("d-soil") < at("a-leaf") && at("c-root") < at("b-stem") && at("c-root") < at("d-soil"),
            "{found}"
        );
        needs(&mut lock, 0, &["d-soil"]);
        assert_eq!(order(&lock).split(' ').count(), 4, "each once, whatever the circle");
    }

    #[test]
    fn values_stay_what_they_are_in_a_shell() {
        for (value, wanted) in
            [("a/b:c", "a/b:c"), ("a b", "'a b'"), ("it's", r"'it'\''s'"), ("$HOME", "'$HOME'")]
        {
            assert_eq!(quoted(value), wanted);
        }
        assert_eq!(variable("package-pergola/core"), "BIBLIOTAX_PACKAGE_PERGOLA_CORE");
    }
}
