//! The lock, `bibliotax.lock`: what resolving writes.
//!
//! One JSON document, laid out for people and for tools that work by lines: a header of a few lines, then a
//! line for each package, sorted by name. The same inputs give the same bytes on every machine. Its `digest`
//! covers everything else in it, so that a change by hand or by a merge is noticed instead of trusted.

mod slots;
mod text;

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use crate::card::{Archive, ArchiveFormat, Step, main_part};
use crate::digest::Digest;
use crate::facet::Fits;
use crate::license::License;
use crate::manifest::Manifest;
use crate::name::{ComponentName, PackageName, PartName, Purpose, RegistryName};
use crate::resolve::{ChosenFile, ChosenPackage, ChosenStep, Resolution};
use crate::version::Version;

pub use self::slots::{NotForMachine, Slot};
pub use self::text::{LockFault, salvage};

/// The file name of a lock.
pub const FILE_NAME: &str = "bibliotax.lock";

/// The format that this version writes, and the newest that it reads.
pub const FORMAT: u64 = 1;

/// The word for needs of no special purpose, in a lock's `purposes`.
pub const RUN: &str = "run";

/// What was resolved, and from what.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Lock {
    /// Digest of what it was resolved from; see [`inputs`].
    pub inputs: Digest,
    /// Where the packages' registries are, as the manifest says; `None` where it gives an absolute path,
    /// which has no meaning on another machine.
    pub registries: BTreeMap<RegistryName, Option<String>>,
    /// The packages, sorted by name.
    pub packages: Vec<LockedPackage>,
}

/// One package of a lock.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct LockedPackage {
    /// The package.
    pub name: PackageName,
    /// The release chosen.
    pub version: Version,
    /// The registry that it comes from.
    pub source: RegistryName,
    /// The digest of its card.
    pub card: Digest,
    /// Its licence.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub license: Option<License>,
    /// Its components that are wanted, by name.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub components: Vec<ComponentName>,
    /// Its archives that are taken, on any machine.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub files: Vec<LockedFile>,
    /// The packages that it needs here, sorted: for a capability the provider that was taken.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub needs: Vec<PackageName>,
    /// What it needs and the project does without, sorted.
    #[serde(rename = "left-out", default, skip_serializing_if = "Vec::is_empty")]
    pub left_out: Vec<PackageName>,
    /// The capabilities that it was taken for, sorted.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub provides: Vec<PackageName>,
    /// Paths inside it by the role that they play, as its card says.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub exposes: BTreeMap<String, Vec<String>>,
    /// What it wants done by hand.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub steps: Vec<LockedStep>,
    /// Who reaches it, and for which purposes.
    pub reached: Vec<Reach>,
}

/// A step of a lock.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct LockedStep {
    /// The step, as the card says it.
    pub step: Step,
    /// The targets that it is for; empty where it is for all that reach the package.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub targets: Vec<String>,
}

impl LockedStep {
    fn new(chosen: &ChosenStep, reaching: &[String]) -> Self {
        let targets = if chosen.targets == reaching { Vec::new() } else { chosen.targets.clone() };
        Self { step: chosen.step.clone(), targets }
    }
}

impl LockedPackage {
    /// The bytes of all its archives together.
    pub fn size(&self) -> u64 {
        self.files.iter().map(|file| file.size).sum()
    }
}

/// An archive of a lock.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct LockedFile {
    /// Which part of the release it holds.
    #[serde(default = "main_part")]
    pub part: PartName,
    /// The targets that take it; empty where all do that reach the package.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub targets: Vec<String>,
    /// What it is for, as its card says.
    #[serde(rename = "for", default, skip_serializing_if = "Fits::is_empty")]
    pub only_for: Fits,
    /// The digest of the archive's bytes.
    pub sha256: Digest,
    /// The archive's length in bytes.
    pub size: u64,
    /// How it is packed.
    pub format: ArchiveFormat,
}

impl LockedFile {
    /// The archive, whatever it holds.
    pub fn archive(&self) -> Archive {
        Archive { sha256: self.sha256, size: self.size, format: self.format }
    }

    fn new(chosen: &ChosenFile, reaching: &[String]) -> Self {
        let ChosenFile { file, targets } = chosen;
        Self {
            part: file.part.clone(),
            targets: if targets == reaching { Vec::new() } else { targets.clone() },
            only_for: file.only_for.clone(),
            sha256: file.sha256,
            size: file.size,
            format: file.format,
        }
    }
}

/// That a project reaches a package.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Reach {
    /// The project.
    pub by: PackageName,
    /// For what: `run`, and the purposes of `[needs-for]`; sorted.
    pub purposes: Vec<String>,
    /// On which of its targets, in the manifest's order; empty where it declares none.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub targets: Vec<String>,
}

impl Lock {
    /// The lock of a resolution of `manifest`.
    pub fn new(manifest: &Manifest, resolution: &Resolution) -> Self {
        let mut packages: Vec<LockedPackage> =
            resolution.packages.iter().map(|p| locked(manifest, p)).collect();
        packages.sort_by(|a, b| a.name.cmp(&b.name));
        mark_reached(manifest, &mut packages);
        for chosen in resolution.packages.iter().filter(|chosen| !chosen.targets.is_empty()) {
            let name = &chosen.release.entry.name;
            let package = packages.binary_search_by(|package| package.name.cmp(name));
            if let Ok(at) = package {
                packages[at].reached.iter_mut().for_each(|reach| reach.targets.clone_from(&chosen.targets));
            }
        }
        let used = |name: &RegistryName| packages.iter().any(|package| package.source == *name);
        let declared = manifest.registries.iter().filter(|registry| used(&registry.name));
        let registries = declared.map(|registry| (registry.name.clone(), portable(&registry.url))).collect();
        Self { inputs: inputs(manifest), registries, packages }
    }

    /// The package of this name.
    pub fn package(&self, name: &PackageName) -> Option<&LockedPackage> {
        named(&self.packages, name)
    }

    /// The package that answers a need on a name: the one of that name, or the provider taken for the capability.
    pub fn answering(&self, name: &PackageName) -> Option<&LockedPackage> {
        answering(&self.packages, name)
    }

    /// The digest that names this lock: of everything in it.
    pub fn digest(&self) -> Digest {
        text::digest(self)
    }
}

fn locked(manifest: &Manifest, package: &ChosenPackage) -> LockedPackage {
    let entry = &package.release.entry;
    debug_assert!(manifest.registries.iter().any(|registry| registry.name == package.source));
    LockedPackage {
        name: entry.name.clone(),
        version: entry.version.clone(),
        source: package.source.clone(),
        card: entry.card,
        license: entry.license.clone(),
        components: package.components.clone(),
        files: package.files.iter().map(|file| LockedFile::new(file, &package.targets)).collect(),
        needs: package.needs.clone(),
        left_out: package.left_out.clone(),
        provides: package.provides.clone(),
        exposes: entry.exposes.clone(),
        steps: package.steps.iter().map(|step| LockedStep::new(step, &package.targets)).collect(),
        reached: Vec::new(),
    }
}

/// The package of this name among packages sorted by name.
fn named<'l>(packages: &'l [LockedPackage], name: &PackageName) -> Option<&'l LockedPackage> {
    packages.binary_search_by(|package| package.name.cmp(name)).ok().map(|at| &packages[at])
}

/// The package of this name or, of a capability, the provider that was taken.
fn answering<'l>(packages: &'l [LockedPackage], name: &PackageName) -> Option<&'l LockedPackage> {
    let provider = || packages.iter().find(|package| package.provides.contains(name));
    named(packages, name).or_else(provider)
}

/// Notes with each package for which purposes the project reaches it.
fn mark_reached(manifest: &Manifest, packages: &mut [LockedPackage]) {
    let mut purposes: Vec<Option<&Purpose>> =
        manifest.needs.iter().map(|need| need.purpose.as_ref()).collect();
    purposes.sort();
    purposes.dedup();
    for purpose in purposes {
        let needs = manifest.needs.iter().filter(|need| need.purpose.as_ref() == purpose);
        let from = needs.filter_map(|need| Some(answering(packages, &need.package)?.name.clone()));
        let from: Vec<PackageName> = from.collect();
        for at in closure(packages, from) {
            let word = purpose.map_or(RUN, Purpose::as_str).to_owned();
            match packages[at].reached.first_mut() {
                Some(reach) => reach.purposes.push(word),
                None => packages[at].reached.push(Reach {
                    by: manifest.project.name.clone(),
                    purposes: vec![word],
                    targets: Vec::new(),
                }),
            }
        }
    }
    packages.iter_mut().flat_map(|package| &mut package.reached).for_each(|reach| reach.purposes.sort());
}

/// Where the packages stand that can be reached from `from`; `packages` is sorted by name.
fn closure(packages: &[LockedPackage], from: Vec<PackageName>) -> Vec<usize> {
    let mut seen = vec![false; packages.len()];
    let mut open = from;
    while let Some(name) = open.pop() {
        let Ok(at) = packages.binary_search_by(|package| package.name.cmp(&name)) else { continue };
        if !std::mem::replace(&mut seen[at], true) {
            open.extend(packages[at].needs.iter().cloned());
        }
    }
    (0..packages.len()).filter(|at| seen[*at]).collect()
}

/// A registry's place as it may stand in a lock: relative paths and URLs.
fn portable(url: &str) -> Option<String> {
    let absolute =
        url.starts_with(['/', '\\', '~']) || url.starts_with("file:") || url.get(1..2) == Some(":");
    (!absolute).then(|| url.to_owned())
}

/// The digest of all in a manifest that a resolution depends on: needs, families, capabilities and registries, in one form whatever
/// the layout; comments, the project's version and its card don't count.
pub fn inputs(manifest: &Manifest) -> Digest {
    let mut registries: Vec<_> = manifest.registries.iter().collect();
    registries.sort_by(|a, b| a.name.cmp(&b.name));
    let registries: Vec<_> = registries
        .iter()
        .map(|registry| {
            let mut owns: Vec<&str> =
                registry.owns.iter().map(super::manifest::NamePattern::as_str).collect();
            owns.sort_unstable();
            (&registry.name, &registry.url, owns)
        })
        .collect();
    let needs: Vec<_> = manifest
        .needs
        .iter()
        .map(|need| {
            let who = (&need.package, &need.range, &need.registry, need.prereleases);
            let what = (&need.without, &need.targets, &need.components, need.bare, &need.parts);
            (who, &need.purpose, what)
        })
        .collect();
    let text = serde_json::json!({ "project": manifest.project.name, "registries": registries, "needs": needs,
        "families": manifest.families, "capabilities": manifest.capabilities, "fits": manifest.fits,
        "facets": manifest.facets, "unstated": manifest.unstated,
        "targets": manifest.targets.iter().map(|target| (&target.name, &target.values)).collect::<Vec<_>>() });
    Digest::of(text.to_string().as_bytes())
}

#[cfg(test)]
mod tests;
#[cfg(test)]
pub use self::tests::test_lock;
