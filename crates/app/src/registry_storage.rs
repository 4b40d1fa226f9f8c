//! Opens the storage of a registry by its place: a folder, or a bucket.

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::Arc;

use bibliotax_core::facet::Facet;
use bibliotax_core::location::Location;
use bibliotax_core::name::FacetName;
use bibliotax_registry::RegistryError;
use bibliotax_registry::model::storage::RegistryStorage;
use bibliotax_registry::storage::bucket::{Bucket, SCHEME};
use bibliotax_registry::storage::folder::Folder;

use crate::context::Context;
use crate::workspace::WorkspaceFolder;

/// Opens a registry's storage: a bucket, or a folder seen from the context's.
pub fn open(place: &str, context: &Context<'_>) -> Result<Arc<dyn RegistryStorage>, RegistryError> {
    if place.starts_with(SCHEME) {
        return Ok(Arc::new(Bucket::open(place, settings(context))?));
    }
    let folder = declared_folder(place, context).unwrap_or_else(|| context.folder.join(place));
    Ok(Arc::new(Folder::open(&folder)?))
}

/// The folder of a registry that the project here declares by this name; a folder of that name comes first.
fn declared_folder(name: &str, context: &Context<'_>) -> Option<PathBuf> {
    if name.contains(['/', '\\']) || context.folder.join(name).exists() {
        return None;
    }
    let workspace = WorkspaceFolder::without_lock(context.folder).ok()?;
    let mut declared = workspace.declared.registries.iter();
    let registry = declared.find(|registry| registry.name.as_str() == name)?;
    let place = Location::of(&registry.url);
    Some(workspace.root.join(place.path()?))
}

/// Makes an empty registry, and opens what keeps it.
pub fn create(
    place: &str,
    context: &Context<'_>,
    name: &str,
    facets: BTreeMap<FacetName, Facet>,
) -> Result<Arc<dyn RegistryStorage>, RegistryError> {
    if place.starts_with(SCHEME) {
        return Ok(Arc::new(Bucket::create(place, settings(context), name, facets)?));
    }
    Ok(Arc::new(Folder::create(&context.folder.join(place), name, facets)?))
}

/// Opens what keeps a registry, which is made where there is none yet.
pub fn open_or_create(
    place: &str,
    context: &Context<'_>,
    name: &str,
    facets: &BTreeMap<FacetName, Facet>,
) -> Result<Arc<dyn RegistryStorage>, RegistryError> {
    match open(place, context) {
        Err(RegistryError::Missing { .. } | RegistryError::NoRegistry { .. }) => {
            create(place, context, name, facets.clone())
        }
        opened => opened,
    }
}

fn settings(context: &Context<'_>) -> impl Iterator<Item = (String, String)> {
    context.environment.bucket_settings.iter().cloned()
}
