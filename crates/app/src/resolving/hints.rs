//! Adds to a failure the place in a manifest that it is about, and what was probably meant.

use bibliotax_core::fault::Fault;
use bibliotax_core::manifest::place_of;
use bibliotax_core::name::PackageName;
use bibliotax_core::nearest::{either, nearest};
use bibliotax_core::resolve::{Catalogue, Conflict, Problem};
use bibliotax_registry::RegistryError;
use bibliotax_registry::catalogue::registries::Registries;

use crate::failure::Failure;
use crate::workspace::{Manifests, file_name};

/// The failure that an error is, with the place in a manifest that it is about.
pub fn at_its_place(error: RegistryError, manifests: &Manifests) -> Failure {
    let RegistryError::Facet { target, problem } = &error else { return error.into() };
    let facet = problem.facet().as_str();
    let path = target.as_ref().map_or(vec!["fits", facet], |target| vec!["targets", target, facet]);
    let found = manifests.files.iter().find_map(|file| Some((file, place_of(&file.text, &path)?)));
    let (message, failure) = (problem.to_string(), Failure::from(error));
    match found {
        Some((file, place)) => {
            let fault = Fault::new(failure.code, message, place).advice(failure.advice.unwrap_or_default());
            Failure::in_text(file_name(&file.folder), &file.text, vec![fault])
        }
        None => failure,
    }
}

/// What is probably meant by the names in a conflict that no registry has.
pub fn perhaps_meant(
    problem: &Problem,
    conflict: &Conflict,
    registries: &Registries,
) -> Result<Vec<String>, Failure> {
    let mut meant = Vec::new();
    for need in conflict.direct.iter().map(|number| &problem.needs[*number]) {
        if registries.listing(&need.package)?.is_none() {
            let names = registries.names();
            let near = nearest(need.package.as_str(), names.iter().map(PackageName::as_str), 3);
            meant.extend((!near.is_empty()).then(|| format!("Did you mean {}?", either(&near))));
        }
    }
    Ok(meant)
}
