//! Capabilities whose provider nobody chose: anybody who may publish can say that a package provides one.

use super::{Catalogue, ChosenPackage, Problem, Resolution};
use crate::manifest::RegistryDeclaration;
use crate::name::{PackageName, RegistryName};

/// A capability of which nothing says who is to provide it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OpenCapability {
    /// The capability.
    pub name: PackageName,
    /// All packages that provide it, by name, each with the registry that it is in.
    pub providers: Vec<(PackageName, Option<RegistryName>)>,
    /// The registry of a package that needs it, where the only provider is in another.
    pub needed_in: Option<RegistryName>,
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
            let providers = listing.map(|listing| listing.history.providers().to_vec()).unwrap_or_default();
            let needed_in = needed_elsewhere(registries, resolution, package, name);
            if providers.len() > 1 || needed_in.is_some() {
                let registry = |provider: &PackageName| {
                    let listing = catalogue.listing(provider).ok().flatten();
                    listing.and_then(|listing| listing.source.registry().cloned())
                };
                let needed_in = needed_in.filter(|_| providers.len() == 1);
                let providers = providers.into_iter().map(|name| (name.clone(), registry(&name)));
                let providers = providers.collect();
                return Ok(Some(OpenCapability { name: name.clone(), providers, needed_in }));
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
