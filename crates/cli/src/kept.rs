//! What keeps a registry that a command line names: a folder, or a bucket.

use std::collections::BTreeMap;
use std::path::Path;
use std::sync::Arc;

use bibliotax_core::facet::Facet;
use bibliotax_core::name::FacetName;
use bibliotax_registry::RegistryError;
use bibliotax_registry::model::keep::Keep;
use bibliotax_registry::storage::bucket::{Bucket, SCHEME};
use bibliotax_registry::storage::folder::Folder;

/// Opens what keeps a registry: a bucket, or a folder seen from `here`.
pub fn open(place: &str, here: &Path) -> Result<Arc<dyn Keep>, RegistryError> {
    if place.starts_with(SCHEME) {
        return Ok(Arc::new(Bucket::open(place, settings())?));
    }
    Ok(Arc::new(Folder::open(&here.join(place))?))
}

/// Makes an empty registry, and opens what keeps it.
pub fn create(
    place: &str,
    here: &Path,
    name: &str,
    facets: BTreeMap<FacetName, Facet>,
) -> Result<Arc<dyn Keep>, RegistryError> {
    if place.starts_with(SCHEME) {
        return Ok(Arc::new(Bucket::create(place, settings(), name, facets)?));
    }
    Ok(Arc::new(Folder::create(&here.join(place), name, facets)?))
}

/// Opens what keeps a registry, which is made where there is none yet.
pub fn open_or_create(
    place: &str,
    here: &Path,
    name: &str,
    facets: &BTreeMap<FacetName, Facet>,
) -> Result<Arc<dyn Keep>, RegistryError> {
    match open(place, here) {
        Err(RegistryError::Missing { .. } | RegistryError::NoRegistry { .. }) => {
            create(place, here, name, facets.clone())
        }
        opened => opened,
    }
}

/// The settings of buckets, which everybody's tools read from the same variables.
fn settings() -> impl Iterator<Item = (String, String)> {
    let text = |(key, value): (std::ffi::OsString, std::ffi::OsString)| {
        Some((key.into_string().ok()?, value.into_string().ok()?))
    };
    std::env::vars_os().filter_map(text).filter(|(key, _)| key.starts_with("AWS_"))
}
