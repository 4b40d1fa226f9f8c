//! `registry load`: many cards and events at once.

use std::path::PathBuf;

use bibliotax_registry::publish::load::{self, Loaded};

use crate::context::Context;
use crate::failure::Failure;
use crate::registry_storage;

/// Loads files of cards and events into a registry, or only checks them; what came of it, and the registry's name.
pub fn load(
    place: &str,
    files: &[PathBuf],
    is_dry_run: bool,
    context: &Context<'_>,
) -> Result<(Loaded, String), Failure> {
    let registry = registry_storage::open(place, context)?;
    let mut loaded = Loaded::default();
    for file in files {
        let file = context.folder.join(file);
        loaded += load::load(&*registry, &file, context.environment.now, is_dry_run)?;
    }
    Ok((loaded, registry.name().to_owned()))
}
