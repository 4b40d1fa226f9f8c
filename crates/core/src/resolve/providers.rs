//! Capabilities whose provider nobody chose: anybody who may publish can provide one.

use std::collections::BTreeSet;

use super::{Catalogue, ChosenPackage, Problem, Resolution};
use crate::manifest::RegistryDeclaration;
use crate::name::{PackageName, RegistryName};

/// Most providers of a capability among which one is sought. Of more, somebody has to have chosen one: each costs as much as a
/// package, and anybody who may publish can add to them.
pub const MAX_PROVIDERS: usize = 64;

/// Most providers of a capability that are shown.
const MAX_SHOWN: usize = 8;

impl Problem {
    /// The providers of a capability among which one is sought, by name; of too many, those that were chosen.
    pub(super) fn possible_providers(
        &self,
        capability: &PackageName,
        all: &BTreeSet<PackageName>,
    ) -> Result<Vec<PackageName>, OpenCapability> {
        if all.len() <= MAX_PROVIDERS {
            return Ok(all.iter().cloned().collect());
        }
        let named = [self.preferred.get(capability), self.providers.get(capability)].into_iter().flatten();
        let chosen = named.chain(self.needs.iter().map(|need| &need.package));
        let chosen: BTreeSet<&PackageName> = chosen.filter(|provider| all.contains(*provider)).collect();
        if chosen.is_empty() {
            return Err(OpenCapability::of(capability, all, |_| None));
        }
        Ok(chosen.into_iter().cloned().collect())
    }
}

/// A capability of which nothing says who is to provide it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OpenCapability {
    /// The capability.
    pub name: PackageName,
    /// The first packages that provide it, by name, each with the registry that it is in.
    pub providers: Vec<(PackageName, Option<RegistryName>)>,
    /// How many more provide it.
    pub more: usize,
    /// The registry of a package that needs it, where the only provider is in another.
    pub needed_in: Option<RegistryName>,
}

impl OpenCapability {
    /// A capability with its providers, of which the first few are listed.
    fn of(
        name: &PackageName,
        all: &BTreeSet<PackageName>,
        registry: impl Fn(&PackageName) -> Option<RegistryName>,
    ) -> Self {
        let reported = all.iter().take(MAX_SHOWN);
        let providers = reported.map(|provider| (provider.clone(), registry(provider))).collect();
        Self { name: name.clone(), providers, more: all.len().saturating_sub(MAX_SHOWN), needed_in: None }
    }
}

/// The first capability in an answer that several packages provide, or only one that is from another registry than who needs it,
/// where neither the manifest nor the lock says that this one is meant.
///
/// The manifest says so under `[capabilities]`, by needing the package itself and, of registries, by `owns` or in the need.
pub fn open_capability<C: Catalogue>(
    problem: &Problem,
    registries: &[RegistryDeclaration],
    resolution: &Resolution,
    catalogue: &C,
) -> Result<Option<OpenCapability>, C::Error> {
    for package in &resolution.packages {
        let provider = &package.release.entry.name;
        for name in &package.provides {
            if is_chosen(problem, name, provider) {
                continue;
            }
            let listing = catalogue.listing(name)?;
            let providers = listing.map(|listing| listing.history.providers().clone()).unwrap_or_default();
            let needed_in = needed_elsewhere(registries, resolution, package, name);
            if providers.len() > 1 || needed_in.is_some() {
                let registry = |provider: &PackageName| {
                    let listing = catalogue.listing(provider).ok().flatten();
                    listing.and_then(|listing| listing.source.registry().cloned())
                };
                let needed_in = needed_in.filter(|_| providers.len() == 1);
                return Ok(Some(OpenCapability {
                    needed_in,
                    ..OpenCapability::of(name, &providers, registry)
                }));
            }
        }
    }
    Ok(None)
}

/// Whether the project or its lock names this provider.
fn is_chosen(problem: &Problem, capability: &PackageName, provider: &PackageName) -> bool {
    let named = [problem.preferred.get(capability), problem.providers.get(capability)];
    named.contains(&Some(provider)) || problem.needs.iter().any(|need| need.package == *provider)
}

/// The registry of a package that needs a capability, where its provider is in another and nobody says that this is right.
fn needed_elsewhere(
    registries: &[RegistryDeclaration],
    resolution: &Resolution,
    provider: &ChosenPackage,
    name: &PackageName,
) -> Option<RegistryName> {
    let from = provider.source.registry()?;
    let owns = |declared: &RegistryDeclaration| declared.owns.iter().any(|pattern| pattern.matches(name));
    if registries.iter().any(|declared| declared.name == *from && owns(declared)) {
        return None;
    }
    let needs_it = |package: &&ChosenPackage| {
        let is_needed = package.needs.contains(&provider.release.entry.name);
        is_needed && package.release.entry.all_running_needs().any(|need| need.name == *name)
    };
    let needers = resolution.packages.iter().filter(needs_it);
    let mut others = needers.filter_map(|package| package.source.registry().filter(|other| *other != from));
    others.next().cloned()
}
