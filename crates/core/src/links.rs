//! Links: where the parts of a shelf are, by role, for build tools.
//!
//! A package stands before those that it needs, so that search paths and linkers that read from left to right find what they
//! look for.

mod build_files;

use std::collections::{BTreeMap, BTreeSet};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

pub use self::build_files::{BuildFile, BuildPlace, Unrenderable, build_files};
use crate::build_tool::BuildTool;
use crate::digest::Digest;
use crate::exposes::{Exposed, RoleKind, expanded};
use crate::facet::{Fits, Target};
use crate::license::License;
use crate::lock::{Lock, LockedPackage, LockedProject, NeedGraph, Slot};
use crate::name::{PackageName, RoleName, TargetName, ToolName};
use crate::version::{Point, Version};
use crate::workspace::{Project, Workspace};

/// The folder of stamps, in the folder of links.
pub const STAMPS: &str = "stamps";

/// The format of the files.
const FORMAT: u64 = 2;

/// Where everything is that one target of a project has.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub struct Links {
    format: u64,
    /// The project.
    pub project: PackageName,
    /// The target; none where the project declares none.
    pub target: Option<TargetName>,
    /// What the target is in each facet.
    #[serde(default, skip_serializing_if = "Fits::is_empty")]
    pub facets: Fits,
    /// The tools of the target, by what they are for.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub tools: BTreeMap<ToolName, String>,
    /// The paths and values by role, of all packages.
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
    /// The parts of its version.
    pub parts: VersionParts,
    /// Its licence.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub license: Option<License>,
    /// What it needs here.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub needs: Vec<PackageName>,
    /// The digests of the archives that its files came out of.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub sha256: Vec<Digest>,
    /// A file that is newer than all that was built before the package changed; none where it is used in its folder.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stamp: Option<String>,
    /// What it is needed for: `run`, and purposes.
    pub purposes: Vec<String>,
    /// The names by which the project itself needs it: its own, and of capabilities; none where only other packages do.
    #[serde(rename = "needed-as", default, skip_serializing_if = "BTreeSet::is_empty")]
    pub needed_as: BTreeSet<PackageName>,
    /// Its folder.
    pub path: String,
    /// Its paths and values by role.
    pub exposes: BTreeMap<RoleName, Vec<String>>,
}

/// The parts of a version.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub struct VersionParts {
    /// The first number.
    pub major: u64,
    /// The second number.
    pub minor: u64,
    /// The third number.
    pub patch: u64,
    /// The fourth number.
    pub fourth: u64,
    /// What makes it a pre-release; empty for a final version.
    pub pre: String,
}

impl VersionParts {
    fn of(version: &Version) -> Self {
        let Point { numeric: [major, minor, patch, fourth], pre } = version.point().clone();
        let pre = pre.iter().map(ToString::to_string).collect::<Vec<_>>().join(".");
        Self { major, minor, patch, fourth, pre }
    }
}

impl LinkedPackage {
    /// The beginning of what names its contents: another one for each release and each change of its archives.
    pub fn digest(&self) -> Option<String> {
        let all: String = self.sha256.iter().map(ToString::to_string).collect();
        (!all.is_empty()).then(|| Digest::of(all.as_bytes()).to_string()[..16].to_owned())
    }
}

/// What manifests say of the links of projects.
#[derive(Debug, Clone, Default)]
pub struct LinkSettings {
    projects: BTreeMap<PackageName, ProjectLinks>,
}

#[derive(Debug, Clone, Default)]
struct ProjectLinks {
    tools: Vec<BuildTool>,
    /// What each target is, and its tools.
    targets: BTreeMap<String, (Fits, BTreeMap<ToolName, String>)>,
}

impl LinkSettings {
    /// What the manifests of a workspace say.
    pub fn of(workspace: &Workspace) -> Self {
        let of_project = |project: &Project| {
            let mut tools: BTreeSet<BuildTool> = workspace.links.iter().copied().collect();
            tools.extend(&project.manifest.links);
            let of_target = |target: &Target| {
                let own =
                    project.manifest.tools.get(&target.name).or_else(|| workspace.tools.get(&target.name));
                (target.name.clone(), (target.values.clone(), own.cloned().unwrap_or_default()))
            };
            let targets = project.targets.iter().map(of_target).collect();
            (project.name().clone(), ProjectLinks { tools: tools.into_iter().collect(), targets })
        };
        Self { projects: workspace.projects.iter().map(of_project).collect() }
    }

    /// The tools that the links of a project are rendered for.
    pub fn tools_of(&self, project: &PackageName) -> &[BuildTool] {
        self.projects.get(project).map(|links| links.tools.as_slice()).unwrap_or_default()
    }

    fn target(&self, project: &PackageName, target: Option<&str>) -> (Fits, BTreeMap<ToolName, String>) {
        let found = self.projects.get(project).and_then(|links| links.targets.get(target?));
        found.cloned().unwrap_or_default()
    }
}

/// Where the paths of links begin, and what else they say.
#[derive(Debug, Clone)]
pub struct Root<'r> {
    /// The shelf's name in the workspace's folder.
    pub shelf: &'r str,
    /// The workspace's folder from the root of the disk; without it, paths begin there.
    pub absolute: Option<String>,
    /// What manifests say of them.
    pub settings: &'r LinkSettings,
}

/// Knows the files of packages, for what they expose.
pub trait PackageFiles {
    /// The paths inside a package on a shelf of what it exposes in a role.
    fn on_shelf(&self, slot: &Slot<'_>, exposed: &[Exposed]) -> Vec<String>;

    /// The paths inside a folder, from the workspace's, of what the package that is used there exposes on a target.
    fn in_folder(&self, folder: &str, target: Option<&str>, exposed: &[Exposed]) -> Vec<String>;
}

/// Knows no files: patterns match none.
#[derive(Debug, Clone, Copy)]
pub struct NoFiles;

impl PackageFiles for NoFiles {
    fn on_shelf(&self, _: &Slot<'_>, exposed: &[Exposed]) -> Vec<String> {
        expanded(exposed, &[])
    }

    fn in_folder(&self, _: &str, _: Option<&str>, exposed: &[Exposed]) -> Vec<String> {
        expanded(exposed, &[])
    }
}

impl Root<'_> {
    fn project(&self, path: &str) -> String {
        match (&self.absolute, path) {
            (Some(root), ".") => root.clone(),
            (Some(root), path) => format!("{root}/{path}"),
            (None, path) => path.to_owned(),
        }
    }

    fn stamp(&self, slot: &Slot<'_>) -> String {
        let name = slot.path().replace('/', "+");
        self.project(&format!("{}/links/{STAMPS}/{name}", self.shelf))
    }

    fn shelf(&self, slot: &Slot<'_>) -> String {
        self.project(&format!("{}/{}", self.shelf, slot.path()))
    }
}

impl Links {
    /// The links of every project of a lock, one for each of its targets, with what lies at these places of a shelf and in
    /// the folders of projects.
    pub fn of(lock: &Lock, slots: &[Slot<'_>], root: &Root<'_>, files: &dyn PackageFiles) -> Vec<Self> {
        let wires = NeedGraph::of(lock);
        let order = needers_first(&wires, lock.packages.len());
        let mut places: BTreeMap<(Option<&str>, &PackageName), &Slot<'_>> = BTreeMap::new();
        places.extend(slots.iter().map(|slot| ((slot.target, &slot.package.name), slot)));
        let of_project = |project, target: Option<&str>| {
            let reached = wires.reached_on(target, &[project], &[]);
            let names = names_of_needs(&wires, project, target);
            let packages = order.iter().filter_map(|at| {
                let (package, purposes) = (&lock.packages[*at], reached.get(at)?);
                let place = match package.source.path() {
                    Some(folder) => Place {
                        exposes: exposed_by(package, &root.project(folder), &|exposed| {
                            files.in_folder(folder, target, exposed)
                        }),
                        path: root.project(folder),
                        stamp: None,
                        sha256: Vec::new(),
                    },
                    None => {
                        let slot = places.get(&(target, &package.name))?;
                        Place {
                            exposes: exposed_by(package, &root.shelf(slot), &|exposed| {
                                files.on_shelf(slot, exposed)
                            }),
                            path: root.shelf(slot),
                            stamp: Some(root.stamp(slot)),
                            sha256: slot.files.iter().map(|file| file.sha256).collect(),
                        }
                    }
                };
                Some(linked(package, purposes, names.get(at), place))
            });
            let packages: Vec<LinkedPackage> = packages.collect();
            let mut roles: BTreeMap<RoleName, Vec<String>> = BTreeMap::new();
            for (role, paths) in packages.iter().flat_map(|package| &package.exposes) {
                roles.entry(role.clone()).or_default().extend(paths.iter().cloned());
            }
            // A project without targets has no other links than those of the machine that it is on.
            let target = target.filter(|target| *target != Target::THIS_MACHINE);
            let (facets, tools) = root.settings.target(&project.name, target);
            let (project, target) = (project.name.clone(), target.and_then(|target| target.parse().ok()));
            (!packages.is_empty()).then_some(Self {
                format: FORMAT,
                project,
                target,
                facets,
                tools,
                roles,
                packages,
            })
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
        let change_all = |roles: &mut BTreeMap<RoleName, Vec<String>>| {
            let of_paths = roles.iter_mut().filter(|(role, _)| RoleKind::of(role) == RoleKind::Paths);
            of_paths.flat_map(|(_, paths)| paths).for_each(|path| *path = change(path));
        };
        change_all(&mut self.roles);
        for package in &mut self.packages {
            package.path = change(&package.path);
            package.stamp.iter_mut().for_each(|stamp| *stamp = change(stamp));
            change_all(&mut package.exposes);
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
        let joined = |paths: Vec<(&str, bool)>| {
            let paths: Vec<&str> = paths.into_iter().map(|(path, _)| path).collect();
            paths.join(separator.encode_utf8(&mut [0; 4]))
        };
        self.variable_paths().into_iter().map(|(name, paths)| (name, joined(paths))).collect()
    }

    /// The same, each with its paths and values, and whether these are paths.
    pub fn variable_paths(&self) -> Vec<(String, Vec<(&str, bool)>)> {
        let mut variables = Vec::new();
        for (role, paths) in &self.roles {
            let is_path = RoleKind::of(role) == RoleKind::Paths;
            let paths = paths.iter().map(|path| (path.as_str(), is_path)).collect();
            variables.push((variable(&format!("role-{role}")), paths));
        }
        for (name, command) in &self.tools {
            variables.push((variable(&format!("tool-{name}")), vec![(command.as_str(), false)]));
        }
        for package in &self.packages {
            variables
                .push((variable(&format!("package-{}", package.name)), vec![(package.path.as_str(), true)]));
        }
        variables
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

/// Where a package is, and what is there.
struct Place {
    path: String,
    stamp: Option<String>,
    sha256: Vec<Digest>,
    exposes: BTreeMap<RoleName, Vec<String>>,
}

/// What a package at a path exposes: paths that begin where its own does, and values.
fn exposed_by(
    package: &LockedPackage,
    path: &str,
    inside: &dyn Fn(&[Exposed]) -> Vec<String>,
) -> BTreeMap<RoleName, Vec<String>> {
    let whole = |inside: String| if inside == "." { path.to_owned() } else { format!("{path}/{inside}") };
    let role = |(role, exposed): (&RoleName, &Vec<Exposed>)| {
        let found = inside(exposed);
        let found = match RoleKind::of(role) {
            RoleKind::Paths => found.into_iter().map(whole).collect(),
            RoleKind::Values => found,
        };
        (!found.is_empty()).then(|| (role.clone(), found))
    };
    package.exposes.iter().filter_map(role).collect()
}

fn linked(
    package: &LockedPackage,
    purposes: &BTreeSet<&str>,
    needed_as: Option<&BTreeSet<PackageName>>,
    place: Place,
) -> LinkedPackage {
    let Place { path, stamp, sha256, exposes } = place;
    LinkedPackage {
        name: package.name.clone(),
        version: package.version.clone(),
        parts: VersionParts::of(&package.version),
        license: package.license.clone(),
        needs: package.needs.clone(),
        sha256,
        stamp,
        purposes: purposes.iter().map(|purpose| (*purpose).to_owned()).collect(),
        needed_as: needed_as.cloned().unwrap_or_default(),
        path,
        exposes,
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
        assert_eq!(order(&lock).split(' ').count(), 4, "each once, in spite of the circle");
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
